//! `tonight`: what the controller of a site file will do on a night, what each zone needs, and whether the one is right for
//! the other.

use super::at_work::{at_work, climate, future_notes, site};
use super::weather::Options;
use super::{Failure, print, print_notes, read_input};
use jiff::civil::Date;
use upland_core::account::running::ControllerFacts;
use upland_core::account::site_account::EvidencePolicy;
use upland_core::advice::tonight::{ControllerKnown, Notice, account_of, tonight};
use upland_core::weather::DayWeather;
use upland_core::weather::forecast::Foretold;
use upland_formats::site_file::SiteFile;
use upland_formats::{daily_csv, night_csv};

#[derive(clap::Args)]
#[command(
    after_help = "Output: number, zone, decision, depletion_mm, net_mm, minutes, cycles, minutes_per_cycle, soak_min, program,\n\
cycle_starts, last_end, full_refill_min, interval_days, defaults; then what the controller will do as it is set: controller_minutes,\n\
controller_starts, controller_held_by, verdict. What the reader must know goes to standard error."
)]
pub struct Args {
    /// The site file (JSON; see the schema command).
    site: String,
    /// Weather of any format that this program reads, or - for standard input.
    weather: String,
    #[command(flatten)]
    options: Options,
    /// The evening, YYYY-MM-DD; the last day of the weather file when left out.
    #[arg(long)]
    date: Option<Date>,
    /// Number of the controller, where the site has several.
    #[arg(long, default_value_t = 1)]
    controller: u8,
    /// What is forecast, as the weather room gives it (daily CSV, wind at 2 m).
    #[arg(long)]
    forecast: Option<String>,
    /// Logged runs, readings, meter and earlier settings (JSON; see `schema log`).
    #[arg(long)]
    log: Option<String>,
}

/// Says which controllers there are.
pub fn no_controller(file: &SiteFile, asked: u8) -> Failure {
    let known: Vec<String> = file.controllers.iter().map(|(c, _)| c.number.to_string()).collect();
    Failure::Usage(format!("--controller {asked}: the site has {}", known.join(", ")))
}

/// What the reader must know, in a sentence.
fn notice(of: &Notice) -> String {
    match of {
        Notice::NoWeather => "there is no weather; expected demand and no rain are used".to_owned(),
        Notice::RecordEnds { last, days } => {
            format!("the record ends on {last}; {days} days since then have expected demand and no rain")
        }
        Notice::BeforeRecord { first } => {
            format!("the record only begins on {first}; expected demand and no rain are used before it")
        }
        Notice::Gaps { days } => {
            format!("{days} days are missing in the record; expected demand and no rain are used")
        }
        Notice::NoRain { days, all: true } => format!("the record has no rain on any of its {days} days"),
        Notice::NoRain { days, all: false } => {
            format!("{days} days have no rain recorded; none is counted on them")
        }
        Notice::NeedsSeveralADay { number, holds, demand } => format!(
            "zone {number}: its root zone holds {:.1} mm, less than the {:.1} mm of a day; water it more than once a day",
            holds.mm(),
            demand.mm()
        ),
        Notice::FreezeCaution { lowest, foretold } => format!(
            "near freezing: {:.1} C {}; spray can ice paving and steps",
            lowest.c(),
            if *foretold { "is forecast" } else { "was recorded" }
        ),
        Notice::RainLikely { date, rain, can_wait } => format!(
            "rain is likely: {:.1} mm forecast for {date}, not counted; zones that can wait: {}",
            rain.mm(),
            match can_wait.as_slice() {
                [] => "none".to_owned(),
                zones => zones.iter().map(u16::to_string).collect::<Vec<_>>().join(" "),
            }
        ),
        Notice::SupplyExceeded { number, flow, supply } => format!(
            "zone {number} needs {:.0} L/min, the supply gives {:.0}",
            flow.l_per_min(),
            supply.l_per_min()
        ),
        Notice::BeyondController { number, stations } => {
            format!("zone {number} has no station: the controller has {stations}")
        }
        Notice::WindowFull { zones } => format!("the water window is too short for {zones} due zones"),
    }
}

/// The days of a forecast file.
fn forecast(path: &str, file: &SiteFile) -> Result<Vec<Foretold>, Failure> {
    let read =
        daily_csv::read(&read_input(path)?, &file.site.station()).map_err(|p| Failure::problems(&p))?;
    print_notes(&read.notes);
    let foretold = |day: &DayWeather| Foretold { weather: *day, lowest_ahead: Some(day.temperature_min) };
    Ok(read.days.iter().map(foretold).collect())
}

pub fn run(args: &Args) -> Result<(), Failure> {
    let (file, tz) = site(&args.site)?;
    if file.controller(args.controller).is_none() {
        return Err(no_controller(&file, args.controller));
    }
    let climate = climate(&args.weather, &args.options, &file, &tz)?;
    let climate = match &args.forecast {
        Some(path) => climate.with_forecast(&forecast(path, &file)?),
        None => climate,
    };
    let date = args.date.or(climate.span().map(|span| span.last));
    let Some(date) = date else {
        return Err(Failure::Failed("the weather file has no day that counts; give --date".into()));
    };
    let facts = at_work(file, tz, climate, args.log.as_deref(), date)?;
    let account = account_of(&facts, EvidencePolicy::Best, date, jiff::Timestamp::MIN);
    future_notes(&facts.log, account.until, &facts.tz);
    let result = tonight(&facts, &account, args.controller, date);
    let mut notices: Vec<String> = result.notices.iter().map(notice).collect();
    match result.known {
        ControllerKnown::Settings => {}
        ControllerKnown::Unknown => {
            notices.push("the settings of the controller are not known; this is the advice alone".into());
        }
        ControllerKnown::ComputesItself => {
            notices.push("the controller computes its run times itself; this is the advice alone".into());
        }
    }
    print_notes(&notices);
    let names = facts.of_controller(args.controller).map(ControllerFacts::sensor_names).unwrap_or_default();
    print(&night_csv::write(&result, &names, &facts.tz))
}

//! `plan`: settings for a controller of a site file, as a settings file.

use super::tonight::no_controller;
use super::{Failure, print, print_notes, read_input};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use upland_core::advice::planner::{
    Basis, Binding, Ends, Proposal, Relax, Request, Strategy, holds_until, plan, relaxations,
};
use upland_core::codes::Coded;
use upland_core::controller::schedule::Settings;
use upland_core::installation::{Installation, InstalledCard};
use upland_core::quantity::month::Month;
use upland_core::weather::climate::Climate;
use upland_formats::{daily_csv, settings_file, site_file};

#[derive(clap::Args)]
#[command(
    after_help = "Output: a settings file (JSON; see `schema settings`). Exit 1 when nothing fits: what binds and the\n\
smallest relaxations are on standard error."
)]
pub struct Args {
    /// The site file (JSON; see the schema command), or - for standard input.
    site: String,
    /// Daily weather for the demand; a rough climate by latitude and elevation when left out.
    #[arg(long)]
    weather: Option<String>,
    /// just_need, soil_balance, every_day, deep_twice or deep_once; the controller's default when left out.
    #[arg(long, value_parser = strategy)]
    strategy: Option<Strategy>,
    /// coming, year or a month's number, 1 to 12: whose demand and law the plan is made for.
    #[arg(long = "for", default_value = "coming", value_parser = basis)]
    made_for: Basis,
    /// First day, YYYY-MM-DD: demand is averaged over the fourteen days from it. Today when left out.
    #[arg(long)]
    from: Option<Date>,
    /// Number of the controller, where the site has several.
    #[arg(long, default_value_t = 1)]
    controller: u8,
}

fn strategy(text: &str) -> Result<Strategy, String> {
    Strategy::from_code(text).ok_or_else(|| {
        let known: Vec<&str> = Strategy::TABLE.iter().map(|(_, code)| *code).collect();
        format!("it is one of {}", known.join(", "))
    })
}

fn basis(text: &str) -> Result<Basis, String> {
    match text {
        "coming" => Ok(Basis::Coming),
        "year" => Ok(Basis::Year),
        number => number
            .parse()
            .ok()
            .and_then(Month::from_number)
            .map(Basis::Month)
            .ok_or_else(|| "it is coming, year, or the number of a month, 1 to 12".to_owned()),
    }
}

pub fn run(args: &Args) -> Result<(), Failure> {
    let file = site_file::read(&read_input(&args.site)?).map_err(|p| Failure::problems(&p))?;
    let (controller, present) =
        file.controller(args.controller).ok_or_else(|| no_controller(&file, args.controller))?;
    let station = file.site.station();
    let climate = match &args.weather {
        Some(path) => {
            let weather = daily_csv::read(&read_input(path)?, &station).map_err(|p| Failure::problems(&p))?;
            print_notes(&weather.notes);
            Climate::from_record(&weather.days, station)
        }
        None => {
            print_notes(&[
                "demand is a rough estimate by latitude and elevation; --weather FILE makes it the site's own",
            ]);
            Climate::from_record(&[], station)
        }
    };
    let tz = TimeZone::get(&file.site.time_zone)
        .map_err(|error| Failure::Failed(format!("time zone: {error}")))?;
    let from = args.from.unwrap_or_else(|| super::today(&tz));
    let card = &controller.card;
    let mut installation = Installation::new(
        &file.site,
        InstalledCard { card, number: controller.number },
        &file.zones,
        file.law.clone(),
        &climate,
        from,
        &tz,
    );
    installation.sensors =
        file.sensors.iter().filter(|s| s.controller_number == controller.number).cloned().collect();
    let present = present.clone().unwrap_or_else(|| Settings::clean(card));
    let request = Request {
        installation: &installation,
        present: &present,
        strategy: args.strategy.unwrap_or_else(|| Strategy::default_for(card)),
        from,
        basis: args.made_for,
        relax: Relax::default(),
    };
    match plan(&request) {
        Ok(proposal) => {
            print_notes(&[until(&request, &proposal)]);
            print(&settings_file::write(&settings_file::ControllerFile {
                time_zone: file.site.time_zone.clone(),
                tz,
                card: card.clone(),
                settings: proposal.settings,
            }))
        }
        Err(binding) => Err(Failure::Failed(refusal(&binding, &request))),
    }
}

/// Until when a plan holds, and what ends it.
fn until(request: &Request<'_>, proposal: &Proposal) -> String {
    let Some((date, ends)) = holds_until(request, proposal) else {
        return "the plan is valid for a year".into();
    };
    let because = match ends {
        Ends::LawBegins { station } => format!("then the ordinance forbids runs of zone {station}"),
        Ends::LawEases { station } => format!("then the ordinance allows zone {station} more"),
        Ends::OffSeason => "then the off-season begins".into(),
        Ends::Planting { station } => format!("then the grow-in or wean-off of zone {station} ends"),
        Ends::Need { share } => format!("then it gives {:.0} % of the need", share.percent()),
    };
    format!("the plan is valid until {date}: {because}")
}

/// What binds, and what would do.
fn refusal(binding: &Binding, request: &Request<'_>) -> String {
    let mut lines = vec![match binding {
        Binding::NoZones => "no zone is wired to this controller".to_owned(),
        Binding::NoNeed => "no zone needs water in that time; plan for another month".to_owned(),
        Binding::Window { needed_minutes, have_minutes, proved } => {
            let bound =
                if *proved { "any schedule needs at least" } else { "the shortest night found needs" };
            format!(
                "the water window is too short: {bound} {needed_minutes} min and there are {have_minutes}"
            )
        }
        Binding::NoDay { station } => format!("zone {station} has no day on which it may run"),
        Binding::Supply { station, flow, supply } => format!(
            "zone {station} takes {:.0} L/min and the supply gives {:.0}",
            flow.l_per_min(),
            supply.l_per_min()
        ),
        Binding::NoStation { station } => format!("zone {station} has no station on this controller"),
        Binding::NoProgram => "every program is taken by lighting and pulses".to_owned(),
    }];
    for relaxation in relaxations(request) {
        let relax = relaxation.relax;
        let by = relaxation.by;
        lines.push(if let Some(from) = relax.window_from {
            format!("would fit: window from {} ({by:.0} min earlier)", from.strftime("%H:%M"))
        } else if relax.drip_apart {
            "would fit: drip on its own program".to_owned()
        } else if relax.extra_days > 0 {
            format!("would fit: {by:.0} more allowed days a week")
        } else if relax.extra_programs > 0 {
            format!("would fit: {by:.0} more programs")
        } else if let Some(supply) = relax.supply {
            format!("would fit: a supply of {:.0} L/min", supply.l_per_min())
        } else {
            format!("would fit: {by:.0} % less water")
        });
    }
    lines.join("\n")
}

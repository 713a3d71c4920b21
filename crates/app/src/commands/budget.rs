//! `budget`: monthly factors, settable percentages and the error they leave, as JSON.

use super::tonight::no_controller;
use super::weather::{self, Options, counted};
use super::{Failure, print, read_input};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use upland_core::advice::budget::{Measure, PercentageSlot, RainRule, budget, improvements, needs};
use upland_core::advice::findings::{Finding, faults};
use upland_core::advice::planner::{Basis, Relax, Request, Strategy, plan};
use upland_core::codes::Coded;
use upland_core::controller::schedule::{Program, Settings};
use upland_core::installation::{Installation, InstalledCard};
use upland_core::sound::{SoundBase, sound_base};
use upland_core::weather::climate::Climate;
use upland_formats::{budget_file, site_file};

#[derive(clap::Args)]
#[command(
    after_help = "Output: JSON. `zones[].factors_pct` are the twelve ideal percentages of each zone, `percentages` the best\n\
that the controller can be set to, `outcome` what they leave of the demand: `short` is need that is not met, `surplus`\n\
water beyond it, both shares of the year's demand by area and value of the planting; `cost` is the measure itself.\n\
The default measure is least harm, then least water: a missing depth is priced 1 + (s / 0.1)² where s is the share of\n\
the demand that is missing, a surplus by its depth, once more beyond twice the demand. Programs that are wrong in\n\
themselves (runs only at forbidden hours, a second program over the same zones) get no percentage; see `check`.\n\
A controller without run times is planned first (minimum days), and says so on standard error."
)]
pub struct Args {
    /// The site file (JSON).
    site: String,
    /// Weather of any format that this program reads.
    weather: String,
    #[command(flatten)]
    options: Options,
    /// Number of the controller.
    #[arg(long, default_value_t = 1)]
    controller: u8,
    /// Take effective rain off the need; left out, rain is left to the controller's rain hold.
    #[arg(long)]
    count_rain: bool,
    /// By which measure percentages are chosen: harm, thirstiest, by_area or least_squares.
    #[arg(long, default_value = "harm")]
    measure: String,
    /// The date from which the year is counted; today when left out.
    #[arg(long)]
    from: Option<Date>,
}

// Long: one table after another.
pub fn run(args: &Args) -> Result<(), Failure> {
    let file = site_file::read(&read_input(&args.site)?).map_err(|p| Failure::problems(&p))?;
    let (controller, present) =
        file.controller(args.controller).ok_or_else(|| no_controller(&file, args.controller))?;
    let station = file.site.station();
    let tz = TimeZone::get(&file.site.time_zone)
        .map_err(|error| Failure::Failed(format!("time zone: {error}")))?;
    let record = weather::read(&args.weather, &args.options, &station, &tz)?;
    let climate = Climate::from_record(&counted(&record, &station), station);
    let from = args.from.unwrap_or_else(|| super::today(&tz));
    let installation = Installation::new(
        &file.site,
        InstalledCard { card: &controller.card, number: controller.number },
        &file.zones,
        file.law.clone(),
        &climate,
        from,
        &tz,
    );
    let runs = |s: &Settings| s.programs.iter().any(Program::waters);
    let settings = match present.clone().filter(runs) {
        Some(settings) => settings,
        None => {
            let present = Settings::clean(&controller.card);
            let request = Request {
                installation: &installation,
                present: &present,
                strategy: Strategy::JustNeed,
                from,
                basis: Basis::Coming,
                relax: Relax::default(),
            };
            eprintln!("note: the controller has no run times; they are planned as minimum days from {from}");
            plan(&request)
                .map_err(|_| {
                    Failure::Failed("no settings, and none could be planned; see the plan command".into())
                })?
                .settings
        }
    };
    let rain = if args.count_rain { RainRule::Counted } else { RainRule::LeftToHold };
    let needs = needs(&installation, &climate, rain, from.year());
    let measure = Measure::from_code(&args.measure).ok_or_else(|| {
        let known: Vec<&str> = Measure::ALL.iter().map(|m| m.code()).collect();
        Failure::Usage(format!("measure: \"{}\" is none of {}", args.measure, known.join(", ")))
    })?;
    let SoundBase { base, wrong } = sound_base(&installation, &settings, from, measure);
    for finding in &wrong {
        eprintln!(
            "note: {} has no percentage: {}; repair it first, see the check command",
            place_name(&settings, finding),
            finding.kind.code()
        );
    }
    let result = budget(&base, &needs, rain);
    let better = improvements(&base, &needs, rain, from, |tried| faults(&installation, tried, from));
    let names = |slot: &PercentageSlot| match slot {
        PercentageSlot::Controller => "box".to_owned(),
        PercentageSlot::Program(p) => settings.programs.get(*p).map_or(String::new(), |p| p.name.clone()),
    };
    let et0 = climate.monthly_expected_et0(from.year());
    print(&budget_file::write(&result, &better, &et0, &names))
}

/// "program C" of a finding.
fn place_name(settings: &Settings, finding: &Finding) -> String {
    let program = finding.place.program().and_then(|p| settings.programs.get(p));
    program.map_or_else(|| "a program".to_owned(), |program| format!("program {}", program.name))
}

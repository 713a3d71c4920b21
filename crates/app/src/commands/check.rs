//! `check`: what is found wrong with the settings of a site file's controllers, as JSON.

use super::at_work::{climate, site};
use super::tonight::no_controller;
use super::weather::Options;
use super::{Failure, print_json, print_notes};
use jiff::civil::Date;
use serde::Serialize;
use upland_core::advice::findings::{Finding, FindingPlace, Severity, check};
use upland_core::controller::schedule::Settings;
use upland_core::installation::{Installation, InstalledCard};
use upland_core::weather::climate::Climate;

#[derive(clap::Args)]
#[command(
    after_help = "Output: JSON, {\"findings\":[{\"kind\",\"severity\",\"program\",\"station\",\"text\"}]}, the gravest first; severity is\n\
fault, warning or note. A controller whose settings are not known has no findings, and standard error says so."
)]
pub struct Args {
    /// The site file (JSON; see the schema command).
    site: String,
    /// Weather of any format that this program reads; without it demand is a rough estimate by latitude.
    #[arg(long)]
    weather: Option<String>,
    #[command(flatten)]
    options: Options,
    /// Number of the controller, where the site has several.
    #[arg(long, default_value_t = 1)]
    controller: u8,
    /// The date from which the coming weeks are counted; today when left out.
    #[arg(long)]
    from: Option<Date>,
}

#[derive(Serialize)]
struct Output {
    findings: Vec<Row>,
}

#[derive(Serialize)]
struct Row {
    kind: String,
    severity: &'static str,
    program: Option<String>,
    station: Option<u16>,
    text: String,
}

fn row(there: &Installation, settings: &Settings, finding: &Finding) -> Row {
    let name = |index: usize| settings.programs.get(index).map(|p| p.name.clone());
    let (program, station) = match finding.place {
        FindingPlace::Controller => (None, None),
        FindingPlace::Program(p) | FindingPlace::Start(p, _) => (name(p), None),
        FindingPlace::Station(n) => (None, Some(n)),
        FindingPlace::RunTime(p, n) => (name(p), Some(n)),
    };
    Row {
        kind: finding.kind.code().replace('-', "_"),
        severity: match finding.severity {
            Severity::Fault => "fault",
            Severity::Warning => "warning",
            Severity::Note => "note",
        },
        program,
        station,
        text: upland_web::finding_text(there, settings, finding),
    }
}

pub fn run(args: &Args) -> Result<(), Failure> {
    let (file, tz) = site(&args.site)?;
    let (controller, settings) =
        file.controller(args.controller).ok_or_else(|| no_controller(&file, args.controller))?;
    let climate = match &args.weather {
        Some(path) => climate(path, &args.options, &file, &tz)?,
        None => Climate::from_record(&[], file.site.station()),
    };
    let from = args.from.unwrap_or_else(|| super::today(&tz));
    let mut there = Installation::new(
        &file.site,
        InstalledCard { card: &controller.card, number: controller.number },
        &file.zones,
        file.law.clone(),
        &climate,
        from,
        &tz,
    );
    there.sensors =
        file.sensors.iter().filter(|s| s.controller_number == controller.number).cloned().collect();
    let findings = match settings {
        Some(settings) => check(&there, settings, from).iter().map(|f| row(&there, settings, f)).collect(),
        None => {
            print_notes(&["the settings of the controller are not known; nothing can be checked"]);
            Vec::new()
        }
    };
    print_json(&Output { findings })
}

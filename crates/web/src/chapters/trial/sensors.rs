//! What each sensor of the site saves, and what it costs in stress: as installed, absent, misplaced, at other thresholds.

use super::query::{self, Query, no_sample, read};
use super::results::{ready, trial_of};
use super::words;
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::{depth, plain, share, volume};
use crate::server::cache::questions;
use crate::server::error::{PageError, page};
use crate::server::parallel::each_of;
use crate::site::context::AtSite;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use upland_core::account::site_account::AccountInputs;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::units::Millimetres;
use upland_core::site::UnitSystem;
use upland_core::trial::Sample;
use upland_core::trial::{
    Installed, NoSample, Origin, Refusal, SensorTrial, TrialWay, WayResult, run_mean, variants,
};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(sensors_page);
}

/// A sensor with what came of each way it may hang.
struct Judged {
    trial: SensorTrial,
    results: Vec<(Installed, Result<WayResult, Vec<Refusal>>)>,
}

/// Every sensor on trial.
struct OnTrial {
    sensors: Vec<Judged>,
    span: DateSpan,
    origin: Origin,
}

impl OnTrial {
    fn of(facts: &AccountInputs, span: DateSpan, origin: Origin) -> Self {
        let all = variants(facts);
        // A sensor is of its controller alone.
        let controllers: Vec<(u8, AccountInputs)> =
            facts.controllers.iter().map(|own| (own.number, facts.only_controller(own.number))).collect();
        let asked: Vec<(u8, &TrialWay)> =
            all.iter().flat_map(|own| own.ways.iter().map(|(_, way)| (own.controller_number, way))).collect();
        let one = |(number, way): &(u8, &TrialWay)| {
            let alone = controllers.iter().find(|(own, _)| own == number).map_or(facts, |(_, alone)| alone);
            run_mean(way, alone, span, None)
        };
        let mut results = each_of(&asked, one).into_iter();
        let sensors = all.into_iter().map(|trial| {
            let results = trial.ways.iter().map(|(hung, _)| *hung).zip(&mut results).collect();
            Judged { trial, results }
        });
        Self { sensors: sensors.collect(), span, origin }
    }
}

#[derive(Template)]
#[template(path = "chapters/trial/sensors.html")]
struct SensorsPage {
    frame: Frame,
    site_id: i64,
    same: String,
    errors: Vec<String>,
    origin: String,
    sensors: Vec<SensorView>,
}

struct SensorView {
    name: String,
    answer: String,
    lines: Vec<Line>,
    refused: Option<String>,
}

/// A way in which a sensor may hang.
struct Line {
    name: String,
    is_own: bool,
    water: String,
    against: String,
    wasted: String,
    enough: String,
    stress: u32,
    skipped: String,
}

fn hung(hung: Installed, units: UnitSystem) -> String {
    match hung {
        Installed::AsHung => "as installed".into(),
        Installed::Absent => "absent".into(),
        Installed::UnderEave => "under an eave".into(),
        Installed::InShade => "in shade".into(),
        Installed::At(mm) => format!("at {}", depth(units, mm)),
    }
}

fn water_words(result: &WayResult, units: UnitSystem) -> String {
    match result.site.litres {
        Some(litres) => volume(units, litres),
        None => format!("{} in all zones", depth(units, Millimetres::from_mm(result.water()))),
    }
}

/// What a sensor saved and cost against its absence, in a sentence.
fn answer(name: &str, own: &WayResult, absent: &WayResult, units: UnitSystem) -> String {
    let (with, without) = (own.water(), absent.water());
    let saved = without - with;
    let pct = if without > 0.0 { 100.0 * saved / without } else { 0.0 };
    let days = i64::from(own.stress_days()) - i64::from(absent.stress_days());
    let cost = match days {
        0 => "at no day of stress more".to_owned(),
        1 => "at one zone day of stress more".to_owned(),
        d if d > 0 => format!("at {d} zone days of stress more"),
        -1 => "and one zone day of stress less".to_owned(),
        d => format!("and {} zone days of stress less", -d),
    };
    let amount = |value: f64| match own.site.litres {
        Some(_) => volume(units, upland_core::quantity::units::Litres::from_l(value)),
        None => depth(units, Millimetres::from_mm(value)),
    };
    match pct {
        p if p >= 0.5 => format!("{name} saved {}, {} % of the water, {cost}.", amount(saved), plain(p, 0)),
        p if p <= -0.5 => format!("{name} let {} more run than without it, {cost}.", amount(-saved)),
        _ => format!("{name} saved nothing to speak of, {cost}."),
    }
}

fn view(judged: &Judged, units: UnitSystem) -> SensorView {
    let of = |wanted: Installed| {
        let found = judged.results.iter().find(|(hung, _)| *hung == wanted)?;
        found.1.as_ref().ok()
    };
    let (own, absent) = (of(Installed::AsHung), of(Installed::Absent));
    let refused = judged.results.iter().find_map(|(_, result)| result.as_ref().err());
    let line = |(kind, result): &(Installed, Result<WayResult, Vec<Refusal>>)| {
        let result = result.as_ref().ok()?;
        let against = absent
            .filter(|_| *kind != Installed::Absent)
            .map(|absent| result.water() / absent.water().max(1e-9));
        Some(Line {
            name: hung(*kind, units),
            is_own: *kind == Installed::AsHung,
            water: water_words(result, units),
            against: against.map_or("–".into(), |share| format!("{} %", plain(100.0 * (share - 1.0), 0))),
            wasted: share(result.site.excess),
            enough: share(result.site.adequacy),
            stress: result.stress_days(),
            skipped: words::skipped(&result.zones),
        })
    };
    SensorView {
        name: judged.trial.name.clone(),
        answer: own
            .zip(absent)
            .map_or(String::new(), |(own, absent)| answer(&judged.trial.name, own, absent, units)),
        lines: judged.results.iter().filter_map(line).collect(),
        refused: refused.map(|all| all.iter().map(words::refusal).collect::<Vec<_>>().join("; ")),
    }
}

questions! {
    facts OfSensors { sample: Sample } -> Result<OnTrial, NoSample>;
}

#[get("/sites/{id}/trial/sensors")]
async fn sensors_page(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let (asked, mut errors) = read(&here, &query);
    let mut found = None;
    if errors.is_empty() {
        let snapshot = here.snapshot(None).await?;
        let trial = trial_of(&snapshot, &asked, String::new(), Vec::new());
        let question = OfSensors { sample: asked.sample };
        // The season is run once with each choice of sensors.
        let kilobytes = 50 + 650 * here.records.zones.len();
        let computed = here
            .once(here.about(), question, kilobytes, move |_| {
                let on_trial = ready(&snapshot, &trial).map(|r| OnTrial::of(&r.facts, r.span, r.origin));
                Ok::<Result<OnTrial, NoSample>, _>(on_trial)
            })
            .await?;
        if let Err(why) = &*computed {
            errors.push(no_sample(*why));
        }
        found = Some(computed);
    }
    let on_trial = found.as_deref().and_then(|found| found.as_ref().ok());
    let units = here.records.units();
    page(&SensorsPage {
        frame: Frame::of_site(&here, "Sensors compared", Chapter::Trial)?,
        site_id: here.id(),
        same: asked.query(),
        errors,
        origin: on_trial.map_or(String::new(), |t| query::origin(&t.origin, t.span.first, t.span.last)),
        sensors: on_trial.map_or_else(Vec::new, |t| t.sensors.iter().map(|own| view(own, units)).collect()),
    })
}

//! The first screen: what each sensor says_of, what it does to tonight, what is due; and what would pay.

use super::grid::{Grid, grid};
use super::{Tab, TabLink, frame, tabs};
use crate::page::frame::Frame;
use crate::page::quantities::{in_words, in_words_capital, plain, volume};
use crate::page::sensor_words::{conflict, moment, pays, says_of, verdict};
use crate::page::upkeep_words::next_task;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::{PageError, page};
use crate::site::context::AtSite;
use crate::site::sensing::{stations, stopped_by};
use crate::site::snapshot::SiteSnapshot;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::ToSpan;
use jiff::tz::TimeZone;
use std::collections::BTreeSet;
use std::sync::Arc;
use upland_core::account::running::{ControllerRun, Holder};
use upland_core::advice::sensor_choice::{Pays, advise, conflicts};
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::units::Litres;
use upland_core::sensors::placement::{Surroundings, judge, overall};
use upland_core::sensors::state::Says;
use upland_core::sensors::{Sense, mapping};
use upland_store::readings::Refused;
use upland_store::sensors::{SensorEventKind, SensorRecord};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(sensors_page);
}

pub(super) struct Line {
    pub href: String,
    pub name: String,
    pub card: String,
    pub says: String,
    pub because: String,
    /// holds, free or silent
    pub class: &'static str,
    pub source: &'static str,
    pub tonight: String,
    pub place: &'static str,
    pub place_bad: bool,
    pub due: String,
    pub overdue: bool,
}

/// A bypass or a silence that runs.
pub(super) struct Pausing {
    pub sensor_id: i64,
    pub id: i64,
    pub text: String,
}

struct AdviceRow {
    sense: &'static str,
    pays: &'static str,
    yes: bool,
    nights: String,
    water: String,
    zones: String,
    card: &'static str,
    has: bool,
}

struct ControllerAdvice {
    number: u8,
    place: String,
    rows: Vec<AdviceRow>,
    conflicts: Vec<String>,
}

/// What the list shows, whoever looks.
struct List {
    verdict: String,
    at: String,
    lines: Vec<Line>,
    pausing: Vec<Pausing>,
    grids: Vec<Grid>,
    advice: Vec<ControllerAdvice>,
    /// Posts that no device made, for whoever may make tokens.
    unknown: Option<String>,
}

#[derive(Template)]
#[template(path = "chapters/sensors/list.html")]
struct ListPage {
    frame: Frame,
    tabs: Vec<TabLink>,
    site_id: i64,
    controllers: usize,
    list: Arc<List>,
    common: crate::page::common_practice::CommonThresholds,
}

/// What a sensor does to tonight's runs of its controller.
fn tonight_of(snapshot: &SiteSnapshot, record: &SensorRecord) -> String {
    let Some(own) = snapshot.site_controller(record.sensor.controller_number) else {
        return "its controller was removed".into();
    };
    let Some(night) = snapshot.tonight(own) else { return "the controller has no settings yet".into() };
    let runs = stations(&night);
    let place = snapshot.place_of(record);
    let by_it = |holder: &Holder| matches!(holder, Holder::Sensor { sensor, .. } if Some(*sensor) == place);
    let stopped = stopped_by(&night, by_it).len();
    match (runs.len(), stopped) {
        (0, _) => "nothing is set to run tonight".into(),
        (all, 0) => format!("blocks none of tonight's {} stations", in_words(all)),
        (all, n) if n == all => format!("blocks all {} stations of tonight", in_words(all)),
        (all, n) => format!("blocks {} of tonight's {} stations", in_words(n), in_words(all)),
    }
}

/// How its place is judged, over the zones that it can hold.
pub(super) fn judged(
    snapshot: &SiteSnapshot,
    record: &SensorRecord,
) -> Vec<upland_core::sensors::placement::Judged> {
    let sensor = &record.sensor;
    let zones: Vec<_> = snapshot
        .records
        .zones
        .iter()
        .filter(|z| z.zone.controller_number == sensor.controller_number)
        .collect();
    let held = zones.iter().filter(|z| {
        mapping::tie(&sensor.card, &sensor.map, &z.zone, sensor.placement.probe_station, false).holds
    });
    let skies: Vec<_> = held.map(|z| z.zone.sky).collect();
    let latitude_deg = snapshot.records.site.site.latitude_deg;
    let root_depth = snapshot.probe_zone(record).map(|z| z.zone.resolve(latitude_deg).root_depth.value);
    judge(sensor, Surroundings { skies: &skies, root_depth, by_decoder: snapshot.is_by_decoder(record) })
}

fn line(snapshot: &SiteSnapshot, record: &SensorRecord) -> Line {
    let said = snapshot.says(record);
    let (text, because) = says_of(snapshot, record, &said);
    let place = overall(&judged(snapshot, record));
    let (due, overdue) = next_task(snapshot, record);
    Line {
        href: address::sensor(snapshot.records.site.id.number(), record.id),
        name: record.sensor.name.clone(),
        card: format!("{}, controller {}", record.sensor.card.name, record.sensor.controller_number),
        says: text,
        because,
        class: match said {
            Says::Holds { .. } => "holds",
            Says::Free { .. } => "free",
            Says::Silent { .. } => "silent",
        },
        source: if snapshot.own(record.id).is_some() {
            "from its own readings"
        } else {
            "as the site's record would trip it"
        },
        tonight: tonight_of(snapshot, record),
        place: verdict(place),
        place_bad: place == upland_core::sensors::placement::Verdict::Fails,
        due,
        overdue,
    }
}

/// Bypasses and silences that run, on any sensor.
pub(super) fn pausing(snapshot: &SiteSnapshot) -> Vec<Pausing> {
    snapshot
        .records
        .sensor_events
        .iter()
        .filter(|e| !e.undone)
        .filter_map(|event| {
            let until = event.until.filter(|u| event.from <= snapshot.at() && snapshot.at() < *u)?;
            let what = if event.kind == SensorEventKind::Bypass { "is on bypass" } else { "is silent" };
            Some(Pausing {
                sensor_id: event.sensor_id,
                id: event.id,
                text: format!(
                    "{} {what} until {}: {} ({})",
                    snapshot.sensor(event.sensor_id)?.sensor.name,
                    moment(until, &snapshot.tz),
                    event.reason,
                    event.said_by
                ),
            })
        })
        .collect()
}

fn card_for(sense: Sense) -> &'static str {
    match sense {
        Sense::Rain => "rain_switch",
        Sense::Freeze => "freeze_switch",
        Sense::Wind => "wind_switch",
        Sense::SoilMoisture => "soil_probe",
        Sense::Flow => "flow_meter",
        Sense::Et => "et_sensor",
    }
}

fn advice(snapshot: &SiteSnapshot) -> Vec<ControllerAdvice> {
    let units = snapshot.units();
    let span = snapshot.climate.span().map(|DateSpan { first, last }| {
        let to = last.min(snapshot.today());
        // Whole years, three at most, so that seasons weigh the same.
        let years = ((to - first).get_days() / 365).clamp(0, 3);
        let from = if years == 0 { first } else { to.checked_sub((years * 365 - 1).days()).unwrap_or(first) };
        DateSpan::new(from, to)
    });
    snapshot
        .records
        .controllers
        .iter()
        .map(|own| {
            let installation = snapshot.installation(own);
            let settings = own.settings_or_clean();
            let sensors: Vec<_> = snapshot.of_controller(own.number()).map(|s| &s.sensor).collect();
            let rows = advise(&installation, &settings, &snapshot.climate, span)
                .into_iter()
                .map(|a| AdviceRow {
                    sense: a.sense.label(),
                    pays: pays(a.pays),
                    yes: a.pays == Pays::Yes,
                    nights: a.nights_a_year.map_or("–".into(), |n| plain(n, 0)),
                    water: a.litres_a_year.map_or("–".into(), |l| volume(units, Litres::from_l(l))),
                    zones: match a.zones {
                        0 => "no zone feels it".into(),
                        1 => "one zone".into(),
                        n => format!("{} zones", in_words(n)),
                    },
                    card: card_for(a.sense),
                    has: sensors.iter().any(|s| s.card.senses(a.sense)),
                })
                .collect();
            ControllerAdvice {
                number: own.number(),
                place: own.record.controller.place.clone(),
                rows,
                conflicts: conflicts(&installation, &sensors).into_iter().map(conflict).collect(),
            }
        })
        .collect()
}

/// Stations that a sensor holds or cuts tonight.
fn held(night: &[ControllerRun]) -> BTreeSet<u16> {
    stopped_by(night, |holder| matches!(holder, Holder::Sensor { .. }))
}

fn headline(snapshot: &SiteSnapshot) -> String {
    if snapshot.records.sensors.is_empty() {
        return "No sensor yet: rain, frost and wind stop nothing.".into();
    }
    let holding: Vec<&str> = snapshot
        .records
        .sensors
        .iter()
        .filter(|s| matches!(snapshot.says(s), Says::Holds { .. }))
        .map(|s| s.sensor.name.as_str())
        .collect();
    let stopped: usize =
        snapshot.records.controllers.iter().filter_map(|b| snapshot.tonight(b)).map(|n| held(&n).len()).sum();
    match (holding.len(), stopped) {
        (0, 0) => "No sensor prevents watering; tonight runs as set.".into(),
        (0, n) => format!("{} of tonight's stations are refused.", in_words_capital(n)),
        (1, 0) => {
            format!(
                "{} prevents watering, but no run of tonight is affected.",
                holding.first().copied().unwrap_or_default()
            )
        }
        (1, n) => format!(
            "{} prevents watering: {} of tonight's stations are skipped.",
            holding.first().copied().unwrap_or_default(),
            in_words(n)
        ),
        (h, n) => {
            format!(
                "{} sensors prevent watering: {} of tonight's stations are skipped.",
                in_words_capital(h),
                in_words(n)
            )
        }
    }
}

fn unknown(refused: &Refused, tz: &TimeZone) -> String {
    format!(
        "Posts with {}s: {}, last {} from {}. A device whose token was replaced or mistyped looks so.",
        refused.reason,
        refused.count,
        moment(refused.last_at, tz),
        refused.example
    )
}

questions! {
    words WholeList {} -> List;
}

#[get("/sites/{id}/sensors")]
async fn sensors_page(here: AtSite) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let list = here.once(here.about_moment(here.moment(None)), WholeList {}, 20, move |state| {
        let refused = state.store.read(|snapshot| snapshot.refusals(&[]))?;
        Ok(List {
            unknown: refused.first().map(|r| unknown(r, &snapshot.tz)),
            verdict: headline(&snapshot),
            at: moment(snapshot.at(), &snapshot.tz),
            lines: snapshot.records.sensors.iter().map(|s| line(&snapshot, s)).collect(),
            pausing: pausing(&snapshot),
            grids: snapshot.records.controllers.iter().filter_map(|own| grid(&snapshot, own)).collect(),
            advice: advice(&snapshot),
        })
    });
    page(&ListPage {
        common: crate::page::common_practice::common_thresholds(here.records.units()),
        frame: frame(&here, "sensors")?,
        tabs: tabs(here.id(), Tab::List),
        site_id: here.id(),
        controllers: here.records.controllers.len(),
        list: list.await?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_sense_has_a_card_to_begin_with() {
        use upland_core::sensors::Task;
        let all = upland_core::sensors::generic();
        for sense in Sense::ALL {
            let card = &all.iter().find(|(code, _)| *code == card_for(sense)).unwrap().1;
            assert!(card.senses(sense));
        }
        assert!(Task::ALL.iter().all(|t| !t.label().is_empty()));
    }
}

//! The first screen: what each sensor says, what it does to tonight, what is due; and what would pay.

use super::{Tab, TabLink, frame, tabs};
use crate::page::frame::Frame;
use crate::page::quantities::{in_words, in_words_capital, plain, volume};
use crate::page::sensor_words::{conflict, moment, pays, says, verdict};
use crate::server::error::{PageError, page};
use crate::site::context::AtSite;
use crate::site::sensing::SensorStates;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::ToSpan;
use upland_core::advice::sensor_choice::{Pays, advise, conflicts};
use upland_core::quantity::units::Litres;
use upland_core::sensors::placement::{judge, overall};
use upland_core::sensors::state::Says;
use upland_core::sensors::{Sense, mapping, upkeep};
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

struct BoxAdvice {
    number: u8,
    place: String,
    rows: Vec<AdviceRow>,
    conflicts: Vec<String>,
}

#[derive(Template)]
#[template(path = "chapters/sensors/list.html")]
struct ListPage {
    frame: Frame,
    tabs: Vec<TabLink>,
    site_id: i64,
    verdict: String,
    at: String,
    lines: Vec<Line>,
    pausing: Vec<Pausing>,
    advice: Vec<BoxAdvice>,
    boxes: usize,
    /// Posts that no device made, for whoever may make tokens.
    unknown: Option<String>,
}

/// What a sensor does to tonight's runs of its box.
fn tonight_of(room: &SensorStates, record: &SensorRecord) -> String {
    let Some(own) = room.site_box(record.sensor.box_number) else { return "its box was taken down".into() };
    let Some(night) = room.tonight(own) else { return "the box has no settings yet".into() };
    let runs = night.stations();
    let stopped = runs.iter().filter(|s| night.stopper(**s) == Some(record.sensor.name.as_str())).count();
    match (runs.len(), stopped) {
        (0, _) => "nothing is set to run tonight".into(),
        (all, 0) => format!("stops none of tonight's {}", in_words(all)),
        (all, n) if n == all => format!("stops all {} of tonight", in_words(all)),
        (all, n) => format!("stops {} of tonight's {}", in_words(n), in_words(all)),
    }
}

/// The next task of a sensor in words, and whether it is overdue.
pub(super) fn next_task(room: &SensorStates, record: &SensorRecord) -> (String, bool) {
    let all = upkeep::due(&record.sensor.card, record.installed_on, &room.done(record.id));
    match all.first() {
        None => ("nothing to do".into(), false),
        Some(due) if due.overdue_days(room.today) >= 0 => {
            (format!("{} since {}", due.task.label(), due.on.strftime("%-d %b")), true)
        }
        Some(due) => (format!("{} by {}", due.task.label(), due.on.strftime("%-d %b %Y")), false),
    }
}

/// How its place is judged, over the zones that it can hold.
pub(super) fn judged(
    room: &SensorStates,
    record: &SensorRecord,
) -> Vec<upland_core::sensors::placement::Judged> {
    let sensor = &record.sensor;
    let zones: Vec<_> = room.loaded.zones.iter().filter(|z| z.zone.box_number == sensor.box_number).collect();
    let held = zones.iter().filter(|z| {
        mapping::tie(&sensor.card, &sensor.map, &z.zone, sensor.placement.probe_station, false).holds
    });
    let skies: Vec<_> = held.map(|z| z.zone.sky).collect();
    let root = zones
        .iter()
        .find(|z| Some(z.zone.number) == sensor.placement.probe_station)
        .map(|z| z.zone.resolve(room.loaded.site.site.latitude_deg).root_depth.value);
    judge(sensor, &skies, root)
}

fn line(room: &SensorStates, record: &SensorRecord) -> Line {
    let said = room.says(record);
    let (text, because) = says(room.units(), &said, &room.tz);
    let place = overall(&judged(room, record));
    let (due, overdue) = next_task(room, record);
    Line {
        href: format!("/sites/{}/sensors/{}", room.loaded.site.id, record.id),
        name: record.sensor.name.clone(),
        card: format!("{}, box {}", record.sensor.card.name, record.sensor.box_number),
        says: text,
        because,
        class: match said {
            Says::Holds { .. } => "holds",
            Says::Free { .. } => "free",
            Says::Silent { .. } => "silent",
        },
        source: if room.own(record.id).is_some() {
            "from its own readings"
        } else {
            "as the site's record would trip it"
        },
        tonight: tonight_of(room, record),
        place: verdict(place),
        place_bad: place == upland_core::sensors::placement::Verdict::Fails,
        due,
        overdue,
    }
}

/// Bypasses and silences that run, on any sensor.
pub(super) fn pausing(room: &SensorStates) -> Vec<Pausing> {
    room.loaded
        .sensor_events
        .iter()
        .filter(|e| !e.undone)
        .filter_map(|event| {
            let until = event.until.filter(|u| event.from <= room.at && room.at < *u)?;
            let what = if event.kind == SensorEventKind::Bypass { "is on bypass" } else { "is silent" };
            Some(Pausing {
                sensor_id: event.sensor_id,
                id: event.id,
                text: format!(
                    "{} {what} until {}: {} ({})",
                    room.sensor(event.sensor_id)?.sensor.name,
                    moment(until, &room.tz),
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

fn advice(room: &SensorStates) -> Vec<BoxAdvice> {
    let units = room.units();
    let span = room.climate.span().map(|(first, last)| {
        let to = last.min(room.today);
        // Whole years, three at most, so that seasons weigh the same.
        let years = ((to - first).get_days() / 365).clamp(0, 3);
        let from = if years == 0 { first } else { to.checked_sub((years * 365 - 1).days()).unwrap_or(first) };
        (from, to)
    });
    room.loaded
        .boxes
        .iter()
        .map(|own| {
            let installation = room.installation(own);
            let settings = own.settings.as_ref().map_or_else(
                || upland_core::controller::schedule::Settings::clean(&installation.card),
                |s| s.settings.clone(),
            );
            let sensors: Vec<_> = room.of_box(own.number()).map(|s| &s.sensor).collect();
            let rows = advise(&installation, &settings, &room.climate, span)
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
            BoxAdvice {
                number: own.number(),
                place: own.record.controller.place.clone(),
                rows,
                conflicts: conflicts(&installation, &sensors).into_iter().map(conflict).collect(),
            }
        })
        .collect()
}

fn headline(room: &SensorStates) -> String {
    if room.loaded.sensors.is_empty() {
        return "No sensor yet: rain, frost and wind stop nothing.".into();
    }
    let holding: Vec<&str> = room
        .loaded
        .sensors
        .iter()
        .filter(|s| matches!(room.says(s), Says::Holds { .. }))
        .map(|s| s.sensor.name.as_str())
        .collect();
    let stopped: usize =
        room.loaded.boxes.iter().filter_map(|b| room.tonight(b)).map(|n| n.stopped().len()).sum();
    match (holding.len(), stopped) {
        (0, 0) => "No sensor holds; tonight runs as set.".into(),
        (0, n) => format!("{} of tonight's stations are refused.", in_words_capital(n)),
        (1, 0) => {
            format!("{} holds, but stops nothing tonight.", holding.first().copied().unwrap_or_default())
        }
        (1, n) => format!(
            "{} holds: {} of tonight's stations wait.",
            holding.first().copied().unwrap_or_default(),
            in_words(n)
        ),
        (h, n) => {
            format!("{} sensors hold: {} of tonight's stations wait.", in_words_capital(h), in_words(n))
        }
    }
}

#[get("/sites/{id}/sensors")]
async fn sensors_page(here: AtSite) -> Result<HttpResponse, PageError> {
    let room = here.sensor_states(None).await?;
    let frame = frame(&here, "sensors")?;
    let refused =
        if frame.may_edit { here.read(|snapshot| snapshot.refusals(&[])).await? } else { Vec::new() };
    let unknown = refused.first().map(|r| {
        format!(
            "Posts with {}s: {}, last {} from {}. A device whose token was replaced or mistyped looks so.",
            r.reason,
            r.count,
            moment(r.last_at, &room.tz),
            r.example
        )
    });
    let drawn = web::block(move || ListPage {
        frame,
        tabs: tabs(room.loaded.site.id, Tab::List),
        site_id: room.loaded.site.id,
        verdict: headline(&room),
        at: moment(room.at, &room.tz),
        lines: room.loaded.sensors.iter().map(|s| line(&room, s)).collect(),
        pausing: pausing(&room),
        advice: advice(&room),
        boxes: room.loaded.boxes.len(),
        unknown,
    })
    .await?;
    page(&drawn)
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

//! What a sensor's page computes: each rain threshold on the record, tonight's percentage, learned flows.

use crate::page::quantities::{depth, plain, volume};
use crate::page::sensor_words::percentage;
use crate::page::sensor_words::{cause, moment};
use crate::site::sensing::SensorStates;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use upland_core::account::sensed::{as_read, nights};
use upland_core::advice::rain_replay::{advised, thresholds};
use upland_core::sensors::state::{flow_alarms, learn_flow};
use upland_core::sensors::{Channel, Sense};
use upland_store::sensors::{SensorEventKind, SensorRecord};

pub(super) struct ThresholdRow {
    pub threshold: String,
    pub mm: String,
    pub trips: u32,
    pub held: u32,
    pub in_need: u32,
    pub kept: String,
    pub set: bool,
    pub advised: bool,
}

/// A span of the year as a strip shows it.
pub(super) struct Span {
    pub x: String,
    pub width: String,
    pub title: String,
}

/// The thresholds of a rain sensor on the record, and its last year.
#[derive(Default)]
pub(super) struct Replayed {
    pub rows: Vec<ThresholdRow>,
    pub words: String,
    pub spans: Vec<Span>,
    pub months: Vec<Span>,
}

/// The last year of the record for a sensor of rain, at every threshold.
pub(super) fn replayed(room: &SensorStates, record: &SensorRecord) -> Replayed {
    let (Some(own), Some((first, last))) = (room.site_box(record.sensor.box_number), room.climate.span())
    else {
        return Replayed::default();
    };
    if !record.sensor.card.senses(Sense::Rain) {
        return Replayed::default();
    }
    let to = last.min(room.today);
    let from = first.max(to.checked_sub(729.days()).unwrap_or(first));
    let units = room.units();
    let installation = room.installation(own);
    let settings = own.settings.as_ref().map_or_else(
        || upland_core::controller::schedule::Settings::clean(&installation.card),
        |s| s.settings.clone(),
    );
    let all = nights(
        &installation,
        &settings,
        &room.climate,
        (&record.sensor.card, &record.sensor.map),
        (from, to),
    );
    let read = as_read(&room.climate, (from, to), &room.tz);
    let none = upland_core::sensors::Readings::default();
    let rain = read.channels.get(&Channel::Rain).unwrap_or(&none);
    let set = record.sensor.setting;
    let results = thresholds(set.release, rain, &read.drying, &all);
    let best = advised(&results).map(|r| r.threshold);
    let rows = results
        .iter()
        .map(|r| ThresholdRow {
            threshold: depth(units, r.threshold),
            mm: plain(r.threshold.mm(), 2),
            trips: r.trips,
            held: r.held,
            in_need: r.held_in_need,
            kept: volume(units, r.kept),
            set: (r.threshold.mm() - set.rain_threshold.mm()).abs() < 1e-9,
            advised: Some(r.threshold) == best,
        })
        .collect();
    let words = format!(
        "{} nights from {from} to {to}, as the box is set now. A night is held against need when it lies in the summer half and a zone had reached its refill point, rain counted.",
        all.len()
    );
    // The last year as a strip.
    let begin = to.checked_sub(364.days()).unwrap_or(from).max(from);
    let start = |date: Date| {
        room.tz
            .to_ambiguous_zoned(date.at(0, 0, 0, 0))
            .compatible()
            .map_or(Timestamp::UNIX_EPOCH, |z| z.timestamp())
    };
    let (zero, end) = (start(begin), start(to.tomorrow().unwrap_or(to)));
    let width = end.duration_since(zero).as_secs_f64().max(1.0);
    let x = |at: Timestamp| (100.0 * at.duration_since(zero).as_secs_f64() / width).clamp(0.0, 100.0);
    let holds =
        upland_core::sensors::state::rain_holds((set.rain_threshold, set.release), rain, &read.drying, end);
    let spans = holds
        .iter()
        .filter(|h| h.until.unwrap_or(end) > zero)
        .map(|h| {
            let (a, b) = (x(h.from), x(h.until.unwrap_or(end)));
            Span {
                x: format!("{a:.2}%"),
                width: format!("{:.2}%", (b - a).max(0.2)),
                title: format!("{}: {}", moment(h.from, &room.tz), cause(units, h.cause)),
            }
        })
        .collect();
    let mut months = Vec::new();
    let mut date = begin;
    while date <= to {
        if date.day() == 1 {
            months.push(Span {
                x: format!("{:.2}%", x(start(date))),
                width: String::new(),
                title: date.strftime("%b").to_string(),
            });
        }
        let Ok(next) = date.tomorrow() else { break };
        date = next;
    }
    Replayed { rows, words, spans, months }
}

/// What else there is to say: a percentage, learned flows, a threshold that is missing.
pub(super) fn extra(room: &SensorStates, record: &SensorRecord) -> Vec<String> {
    let mut out = Vec::new();
    let (sensor, units) = (&record.sensor, room.units());
    let own = room.own(record.id);
    out.extend(percentage(room, record));
    if sensor.card.senses(Sense::SoilMoisture) {
        match sensor.setting.soil_threshold_pct {
            None => out.push(
                "No threshold yet: calibrate it from its own trace first. Until then it refuses nothing."
                    .into(),
            ),
            Some(t) => {
                let window = room.site_box(sensor.box_number).and_then(|own| {
                    let settings = &own.settings.as_ref()?.settings;
                    upland_core::sensors::state::cycle_window_needed_min(
                        room.night_runs(own, settings).iter(),
                    )
                });
                out.push(format!(
                    "Refuses at {} % and above, decided at the start of the cycle window and held through it{}.",
                    plain(t, 1),
                    window.map_or(String::new(), |m| format!("; tonight's cycle and an hour need {m} min"))
                ));
            }
        }
    }
    if sensor.card.senses(Sense::Flow)
        && let Some(own_box) = room.site_box(sensor.box_number)
        && let Some(settings) = &own_box.settings
    {
        let from = room.today.checked_sub(30.days()).unwrap_or(room.today);
        let runs = upland_core::controller::schedule::expand(
            &settings.settings,
            &own_box.record.controller.card,
            &room.tz,
            from,
            room.today,
        );
        match own.and_then(|r| r.get(&Channel::Flow)) {
            None => out.push("No flow was read yet: it learns each zone's flow from three readings while the zone runs alone.".into()),
            Some(read) => {
                let learned = learn_flow(read, &runs);
                for (station, flow) in &learned {
                    out.push(format!(
                        "Station {station}: learned {}, alarms below {} and above {}.",
                        crate::page::quantities::flow(units, upland_core::quantity::units::LitresPerMinute::from_l_per_min(*flow)),
                        plain(flow * (1.0 - sensor.setting.flow_low_pct / 100.0), 0),
                        plain(flow * (1.0 + sensor.setting.flow_high_pct / 100.0), 0)
                    ));
                }
                let silenced = room.pauses(record.id, SensorEventKind::Silence);
                let alarms = flow_alarms((sensor.setting.flow_high_pct, sensor.setting.flow_low_pct), &learned, read, &runs);
                for alarm in alarms.iter().rev().filter(|a| !silenced.iter().any(|s| s.runs(a.at))).take(5) {
                    let what = match alarm.kind {
                        upland_core::sensors::state::FlowAlarmKind::High => "high flow",
                        upland_core::sensors::state::FlowAlarmKind::Low => "low flow",
                        upland_core::sensors::state::FlowAlarmKind::Leak => "water while nothing runs",
                    };
                    out.push(format!(
                        "Alarm {}: {what}{}, {} L/min.",
                        moment(alarm.at, &room.tz),
                        alarm.station.map_or(String::new(), |s| format!(" on station {s}")),
                        plain(alarm.read, 1)
                    ));
                }
            }
        }
    }
    out
}

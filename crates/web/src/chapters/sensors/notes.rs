//! What else a sensor's page says: tonight's percentage, a threshold that is missing, learned flows, alarms.

use crate::page::quantities::{flow, in_words, plain};
use crate::page::sensor_words::{moment, percentage};
use crate::site::snapshot::SiteSnapshot;
use jiff::ToSpan;
use upland_core::controller::schedule::expand;
use upland_core::quantity::units::LitresPerMinute;
use upland_core::sensors::state::{
    FlowAlarmKind, LEARNING_READINGS, cycle_window_needed_min, flow_alarms, learn_flow,
};
use upland_core::sensors::{Channel, Sense, Sensor};
use upland_store::sensors::{SensorEventKind, SensorRecord};

/// What else there is to say: a percentage, learned flows, a threshold that is missing.
pub(super) fn notes(snapshot: &SiteSnapshot, record: &SensorRecord) -> Vec<String> {
    let mut out: Vec<String> = percentage(snapshot, record).into_iter().collect();
    if record.sensor.card.senses(Sense::SoilMoisture) {
        out.push(soil_note(snapshot, &record.sensor));
    }
    if record.sensor.card.senses(Sense::Flow) {
        out.extend(flow_notes(snapshot, record));
    }
    out
}

fn soil_note(snapshot: &SiteSnapshot, sensor: &Sensor) -> String {
    let Some(threshold) = sensor.setting.soil_threshold_pct else {
        return "No threshold yet: calibrate it from its own trace first. Until then it skips nothing."
            .into();
    };
    let window = snapshot
        .site_controller(sensor.controller_number)
        .and_then(|own| cycle_window_needed_min(snapshot.tonight(own)?.iter().map(|r| &r.run)));
    format!(
        "Skips watering at {} % and above, decided at the start of the watering window and kept for all of it{}.",
        plain(threshold, 1),
        window.map_or(String::new(), |m| format!("; tonight's cycle and an hour need {m} min"))
    )
}

/// Days back whose runs teach the flow of a station, and whose alarms are listed.
const FLOW_DAYS: i32 = 30;
/// Alarms listed.
const ALARMS_LISTED: usize = 5;

fn flow_notes(snapshot: &SiteSnapshot, record: &SensorRecord) -> Vec<String> {
    let (sensor, units) = (&record.sensor, snapshot.units());
    let Some((own, settings)) = snapshot
        .site_controller(sensor.controller_number)
        .and_then(|own| Some((own, own.settings.as_ref()?)))
    else {
        return Vec::new();
    };
    let Some(read) = snapshot.own(record.id).and_then(|r| r.get(&Channel::Flow)) else {
        return vec![format!(
            "No flow was read yet: it learns each zone's flow from {} readings while the zone runs alone.",
            in_words(LEARNING_READINGS)
        )];
    };
    let from = snapshot.today().checked_sub(FLOW_DAYS.days()).unwrap_or(snapshot.today());
    let runs = expand(&settings.settings, &own.record.controller.card, &snapshot.tz, from, snapshot.today());
    let learned = learn_flow(read, &runs);
    let (high, low) = (sensor.setting.flow_high_pct, sensor.setting.flow_low_pct);
    let flow_of = |l_per_min: f64| flow(units, LitresPerMinute::from_l_per_min(l_per_min));
    let mut out: Vec<String> = learned
        .iter()
        .map(|(station, flow)| {
            let pulses = sensor
                .litres_per_pulse()
                .map_or(String::new(), |litres| format!(" ({} pulses a minute)", plain(flow / litres, 1)));
            format!(
                "Station {station}: learned {}{pulses}, alarms below {} and above {}.",
                flow_of(*flow),
                flow_of(flow * (1.0 - low / 100.0)),
                flow_of(flow * (1.0 + high / 100.0))
            )
        })
        .collect();
    let silenced = snapshot.pauses(record.id, SensorEventKind::Silence);
    let alarms = flow_alarms(high, low, &learned, read, &runs);
    let loud = alarms.iter().rev().filter(|a| !silenced.iter().any(|s| s.runs(a.at)));
    out.extend(loud.take(ALARMS_LISTED).map(|alarm| {
        let what = match alarm.kind {
            FlowAlarmKind::High => "high flow",
            FlowAlarmKind::Low => "low flow",
            FlowAlarmKind::Leak => "water while nothing runs",
        };
        let station = alarm.station.map_or(String::new(), |s| format!(" on station {s}"));
        format!("Alarm {}: {what}{station}, {}.", moment(alarm.at, &snapshot.tz), flow_of(alarm.read))
    }));
    out
}

//! Whether sensors, zones and settings belong together.

use super::{CheckedRuns, Finding, FindingKind, FindingPlace, Severity};
use crate::sensors::mapping::{Why, tie};
use crate::sensors::state::cycle_window_needed_min;
use crate::sensors::wiring::assign;
use crate::sensors::{Sense, Sensor};

pub(super) fn find(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let (installation, settings) = (look.installation, look.settings);
    let sensors = &installation.sensors;
    let cards: Vec<_> = sensors.iter().map(|s| &s.card).collect();
    for (sensor, join) in sensors.iter().zip(assign(installation.card.sensor_places(), &cards)) {
        if let Err(refusal) = join {
            findings.push(Finding::new(
                FindingKind::SensorNotWired { sensor: sensor.name.clone(), refusal },
                Severity::Fault,
                FindingPlace::Controller,
            ));
            continue;
        }
        window(look, sensor, findings);
        // Data units are told zone by zone; a contact stops whoever does not ignore it.
        if !sensor.card.is_contact() {
            continue;
        }
        for zone in &installation.zones {
            let set = settings.station(zone.zone.number);
            let wanted =
                tie(&sensor.card, &sensor.map, &zone.zone, sensor.placement.probe_station, set.lighting);
            let place = FindingPlace::Station(zone.zone.number);
            let name = sensor.name.clone();
            if set.lighting {
                continue;
            }
            // A probe's relay stops its neighbours too; the map says so, and it does no harm by itself.
            let harms = matches!(wanted.why, Why::UnderRoof | Why::UnderGlass | Why::Chosen);
            if !wanted.holds && !set.ignores_sensors && harms {
                findings.push(Finding::new(
                    FindingKind::StoppedUnfelt { sensor: name, why: wanted.why },
                    Severity::Warning,
                    place,
                ));
            } else if wanted.holds && set.ignores_sensors && all_hold(sensors, zone.zone.number, look) {
                findings.push(Finding::new(
                    FindingKind::IgnoresSensor { sensor: name },
                    Severity::Note,
                    place,
                ));
            }
        }
    }
}

/// Whether every contact of the controller may hold a station: only then does ignoring them make no sense.
fn all_hold(sensors: &[Sensor], station: u16, look: &CheckedRuns<'_>) -> bool {
    look.installation.zone(station).is_some_and(|zone| {
        sensors
            .iter()
            .filter(|s| s.card.is_contact())
            .all(|s| tie(&s.card, &s.map, &zone.zone, s.placement.probe_station, false).holds)
    })
}

/// A cycle window that the schedule has outgrown.
fn window(look: &CheckedRuns<'_>, sensor: &Sensor, findings: &mut Vec<Finding>) {
    if !sensor.card.senses(Sense::SoilMoisture) {
        return;
    }
    let Some(set_min) = sensor.setting.cycle_window_min else { return };
    if let Some(needed_min) = cycle_window_needed_min(look.runs.iter())
        && i64::from(set_min) < needed_min
    {
        let kind = FindingKind::WindowTooShort { sensor: sensor.name.clone(), set_min, needed_min };
        findings.push(Finding::new(kind, Severity::Warning, FindingPlace::Controller));
    }
}

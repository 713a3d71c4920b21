//! Tonight, zone by zone: what each sensor does to each zone, as a mark and a word, and what is left of its runs.

use crate::page::quantities::span;
use crate::server::address;
use crate::site::records::SiteController;
use crate::site::snapshot::SiteSnapshot;
use upland_core::account::running::{ControllerRun, Holder};
use upland_core::controller::schedule::Settings;
use upland_core::quantity::time::Seconds;
use upland_core::sensors::mapping::tie;
use upland_core::sensors::state::Says;
use upland_core::site::Zone;
use upland_store::sensors::SensorRecord;

/// What a sensor does to a zone tonight.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Effect {
    /// It prevents a run of tonight.
    Prevents,
    /// It asks for no water, and nothing is set to run.
    WouldPrevent,
    /// It may prevent watering, and does not.
    Allows,
    /// It may prevent watering, and is not heard.
    NotHeard,
    /// Somebody put it on bypass.
    Bypassed,
    /// It has no effect on this zone.
    None,
}

impl Effect {
    const fn mark(self) -> Mark {
        match self {
            Self::Prevents => Mark { class: "holds", sign: "■", word: "prevents" },
            Self::WouldPrevent => Mark { class: "holds", sign: "■", word: "would prevent" },
            Self::Allows => Mark { class: "free", sign: "□", word: "allows" },
            Self::NotHeard => Mark { class: "silent", sign: "?", word: "not heard" },
            Self::Bypassed => Mark { class: "silent", sign: "↷", word: "on bypass" },
            Self::None => Mark { class: "none", sign: "·", word: "no effect" },
        }
    }
}

/// A cell of the grid.
pub(super) struct Mark {
    pub class: &'static str,
    pub sign: &'static str,
    pub word: &'static str,
}

/// A zone of the grid.
pub(super) struct GridRow {
    pub href: String,
    pub name: String,
    pub marks: Vec<Mark>,
    pub tonight: String,
    pub stopped: bool,
}

/// The zones of a controller by its sensors.
pub(super) struct Grid {
    pub number: u8,
    pub place: String,
    pub sensors: Vec<String>,
    pub rows: Vec<GridRow>,
}

/// Tonight's runs of one station: how long they are set, how long they water.
fn lengths(runs: &[&ControllerRun]) -> (Seconds, Seconds) {
    (runs.iter().map(|run| run.run.length()).sum(), runs.iter().map(|run| run.waters()).sum())
}

fn tonight(runs: &[&ControllerRun]) -> String {
    let (set, waters) = lengths(runs);
    let minutes = |length: Seconds| span(length.minutes().min_value());
    match (set > Seconds::ZERO, waters > Seconds::ZERO) {
        (false, _) => "no run".to_owned(),
        (true, false) => format!("prevented, {}", minutes(set)),
        (true, true) if waters < set => format!("{} of {}", minutes(waters), minutes(set)),
        (true, true) => format!("runs {}", minutes(waters)),
    }
}

fn effect(
    snapshot: &SiteSnapshot,
    record: &SensorRecord,
    zone: &Zone,
    settings: &Settings,
    runs: &[&ControllerRun],
) -> Effect {
    let (sensor, set) = (&record.sensor, settings.station(zone.number));
    let place = snapshot.place_of(record);
    let by_it = |holder: &Holder| matches!(holder, Holder::Sensor { sensor, .. } if Some(*sensor) == place);
    if runs.iter().any(|run| run.held_by.iter().any(by_it)) {
        return Effect::Prevents;
    }
    let tied = tie(&sensor.card, &sensor.map, zone, sensor.placement.probe_station, set.lighting);
    if !tied.holds || set.ignores_sensors {
        return Effect::None;
    }
    if snapshot.bypassed(record.id).is_some() {
        return Effect::Bypassed;
    }
    match snapshot.says(record) {
        Says::Holds { .. } if runs.is_empty() => Effect::WouldPrevent,
        Says::Holds { .. } | Says::Free { .. } => Effect::Allows,
        Says::Silent { .. } => Effect::NotHeard,
    }
}

/// The zones of a controller by its sensors; `None` where it has neither.
pub(super) fn grid(snapshot: &SiteSnapshot, own: &SiteController) -> Option<Grid> {
    let sensors: Vec<&SensorRecord> = snapshot.of_controller(own.number()).collect();
    let zones = snapshot.records.zones.iter().filter(|z| z.zone.controller_number == own.number());
    let mut zones: Vec<_> = zones.collect();
    if sensors.is_empty() || zones.is_empty() {
        return None;
    }
    zones.sort_by_key(|record| record.zone.number);
    let (settings, night) = (own.settings_or_clean(), snapshot.tonight(own).unwrap_or_default());
    let site = snapshot.records.site.id.number();
    let row = |record: &&upland_store::zones::ZoneRecord| {
        let zone = &record.zone;
        let runs: Vec<&ControllerRun> = night.iter().filter(|run| run.run.station == zone.number).collect();
        let (set, waters) = lengths(&runs);
        GridRow {
            href: address::zone(site, record.id),
            name: format!("{} {}", zone.number, zone.name),
            marks: sensors.iter().map(|s| effect(snapshot, s, zone, &settings, &runs).mark()).collect(),
            tonight: tonight(&runs),
            stopped: waters < set,
        }
    };
    Some(Grid {
        number: own.number(),
        place: own.record.controller.place.clone(),
        sensors: sensors.iter().map(|record| record.sensor.name.clone()).collect(),
        rows: zones.iter().map(row).collect(),
    })
}

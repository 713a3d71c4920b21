//! The sensors of a site at a moment: what each read and says, who holds a run, and how they are joined.

use crate::site::records::SiteController;
use crate::site::snapshot::SiteSnapshot;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet};
use upland_core::account::running::{ControllerRun, Holder, SensorFacts};
use upland_core::account::sensed::sensor_facts_since;
use upland_core::controller::ordinance::Law;
use upland_core::installation::{Installation, InstalledCard};
use upland_core::quantity::time::midnight;
use upland_core::sensors::state::{ByChannel, Hold, Pause, Says, holds, says};
use upland_core::sensors::wiring::{Join, assign};
use upland_core::sensors::{Channel, Readings, Sense, Task};
use upland_core::site::StationId;
use upland_store::sensors::{SensorEvent, SensorEventKind, SensorRecord};
use upland_store::zones::ZoneRecord;

/// Days ahead for which holds are told: the weeks that a controller's pages look ahead, and more.
const AHEAD_DAYS: i32 = 70;

impl SiteSnapshot {
    pub fn sensor(&self, id: i64) -> Option<&SensorRecord> {
        self.records.sensors.iter().find(|s| s.id == id)
    }

    /// Readings of its own, if a sensor has any lately.
    pub fn own(&self, id: i64) -> Option<&ByChannel> {
        self.heard.0.get(&id).filter(|r| r.keys().any(|c| *c != Channel::Battery))
    }

    /// Its own readings, else the site's record as it would have read it.
    pub fn readings(&self, id: i64) -> &ByChannel {
        self.own(id).unwrap_or(&self.record.channels)
    }

    /// What a sensor says now.
    pub fn says(&self, sensor: &SensorRecord) -> Says {
        says(&sensor.sensor, self.readings(sensor.id), &self.record.drying, self.at())
    }

    /// Its holds of the last weeks.
    pub fn holds(&self, sensor: &SensorRecord, until: Timestamp) -> Vec<Hold> {
        holds(&sensor.sensor, self.readings(sensor.id), &self.record.drying, until)
    }

    pub fn events_of(&self, id: i64) -> impl Iterator<Item = &SensorEvent> {
        self.records.sensor_events.iter().filter(move |e| e.sensor_id == id && !e.undone)
    }

    /// Bypasses or silences of a sensor.
    pub fn pauses(&self, id: i64, kind: SensorEventKind) -> Vec<Pause> {
        let own = self.events_of(id).filter(|e| e.kind == kind);
        own.filter_map(|e| Some(Pause { from: e.from, until: e.until? })).collect()
    }

    /// Until when a sensor is on bypass, if it is.
    pub fn bypassed(&self, id: i64) -> Option<Timestamp> {
        self.pauses(id, SensorEventKind::Bypass).iter().filter(|p| p.runs(self.at())).map(|p| p.until).max()
    }

    /// When each task was done last.
    pub fn done(&self, id: i64) -> BTreeMap<Task, Date> {
        use upland_core::codes::Coded;
        let mut out = BTreeMap::new();
        for event in self
            .events_of(id)
            .filter(|e| matches!(e.kind, SensorEventKind::Task | SensorEventKind::Calibration))
        {
            let task = match event.kind {
                SensorEventKind::Calibration if event.body.get("threshold_pct").is_none() => None,
                SensorEventKind::Calibration => Some(Task::Calibrate),
                _ => event.body.get("task").and_then(|t| t.as_str()).and_then(Task::from_code),
            };
            if let Some(task) = task {
                let date = event.from.to_zoned(self.tz.clone()).date();
                let slot = out.entry(task).or_insert(date);
                *slot = (*slot).max(date);
            }
        }
        out
    }

    pub fn of_controller(&self, number: u8) -> impl Iterator<Item = &SensorRecord> {
        self.records.sensors.iter().filter(move |s| s.sensor.controller_number == number)
    }

    /// The controller as installed, without the law: sensors ask nothing of it.
    pub fn installation(&self, own: &SiteController) -> Installation {
        let mut there = Installation::new(
            &self.records.site.site,
            InstalledCard { card: &own.record.controller.card, number: own.number() },
            &self.records.surveys(),
            Law::default(),
            &self.climate,
            self.today(),
            &self.tz,
        );
        there.sensors = self.of_controller(own.number()).map(|s| s.sensor.clone()).collect();
        there
    }

    /// The zone that a soil-moisture sensor stands in, where that was said.
    pub fn probe_zone(&self, record: &SensorRecord) -> Option<&ZoneRecord> {
        let station = record.sensor.placement.probe_station?;
        let number = record.sensor.controller_number;
        self.records.zone_on(StationId::new(number, station))
    }

    /// How a sensor is joined to its controller; `None` where it cannot be, or the controller was removed.
    pub fn joined(&self, record: &SensorRecord) -> Option<Join> {
        let own = self.site_controller(record.sensor.controller_number)?;
        let cards: Vec<_> = self.of_controller(own.number()).map(|s| &s.sensor.card).collect();
        let joins = assign(own.record.controller.card.sensor_places(), &cards);
        joins.get(self.place_of(record)?).copied()?.ok()
    }

    /// Whether it is joined through a decoder on the two-wire path.
    pub fn is_by_decoder(&self, record: &SensorRecord) -> bool {
        matches!(self.joined(record), Some(Join::Decoder { .. }))
    }

    /// The place of a sensor among those of its controller.
    pub fn place_of(&self, record: &SensorRecord) -> Option<usize> {
        self.of_controller(record.sensor.controller_number).position(|own| own.id == record.id)
    }

    /// What a flow meter of each controller read.
    pub(super) fn flows(&self) -> BTreeMap<u8, Readings> {
        let controllers = self.records.controllers.iter().map(SiteController::number);
        let read = |number: u8| {
            let meters = self.of_controller(number).filter(|r| r.sensor.card.senses(Sense::Flow));
            let mut readings = meters.filter_map(|r| self.own(r.id)?.get(&Channel::Flow));
            readings.next().map(|own| (number, own.clone()))
        };
        controllers.filter_map(read).collect()
    }

    /// The sensors of a controller with what they say, past and ahead.
    pub(super) fn sensor_facts(&self, number: u8) -> Vec<SensorFacts> {
        let last = self.today().checked_add(AHEAD_DAYS.days()).unwrap_or(self.today());
        let until = midnight(last, &self.tz);
        let facts = |record: &SensorRecord| {
            let readings = self.since_first_reading(record.id);
            let paused = self.pauses(record.id, SensorEventKind::Bypass);
            let (sensor, drying) = (&record.sensor, &self.record.drying);
            let facts =
                sensor_facts_since(sensor, &record.history, &readings, drying, paused, &self.tz, until);
            SensorFacts { read_until: self.at(), ..facts }
        };
        self.of_controller(number).map(facts).collect()
    }

    /// Readings of its own, and before its first one the site's record as it would have read it.
    fn since_first_reading(&self, id: i64) -> ByChannel {
        let mut out = self.record.channels.clone();
        for (channel, own) in self.own(id).into_iter().flatten() {
            let Some(first) = own.as_slice().first() else { continue };
            let before = out.get(channel).map(Readings::as_slice).unwrap_or_default();
            let before = before.iter().filter(|r| r.at < first.at);
            let all = before.chain(own.as_slice()).copied().collect();
            out.insert(*channel, Readings::new(all));
        }
        out
    }
}

/// Stations of some runs.
pub(crate) fn stations(runs: &[ControllerRun]) -> BTreeSet<u16> {
    runs.iter().map(|r| r.run.station).collect()
}

/// Stations of which a run is held or cut by somebody who is asked for.
pub(crate) fn stopped_by(runs: &[ControllerRun], by: impl Fn(&Holder) -> bool) -> BTreeSet<u16> {
    let stopped = runs.iter().filter(|r| r.held_by.iter().any(&by));
    stopped.map(|r| r.run.station).collect()
}

//! Everything the sensor pages of a site are computed from.

use crate::server::state::AppState;
use crate::site::clock::Moment;
use crate::site::facts::{SiteBox, SiteFacts};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use upland_core::account::sensed::{AsRead, as_read};
use upland_core::controller::ordinance::Law;
use upland_core::controller::schedule::{ScheduledRun, Settings, expand};
use upland_core::installation::Installation;
use upland_core::quantity::time::noon;
use upland_core::sensors::effect::{ActiveSensor, Outcome, outcome, windows_of};
use upland_core::sensors::state::{
    ByChannel, Hold, Pause, Says, cycle_window_needed_min, decide_windows, holds, says,
};
use upland_core::sensors::{Channel, Readings, Sense, Sensor, Task};
use upland_core::site::{UnitSystem, Zone};
use upland_core::weather::climate::Climate;
use upland_store::StoreError;
use upland_store::accounts::SiteStamp;
use upland_store::sensors::{SensorEvent, SensorEventKind, SensorRecord};

/// Days back that a state can depend on: the longest a switch stays wet.
const MEMORY_DAYS: i32 = 60;

/// A site's sensors with what they say.
pub(crate) struct SensorStates {
    pub loaded: Arc<SiteFacts>,
    pub climate: Arc<Climate>,
    heard: BTreeMap<i64, ByChannel>,
    record: AsRead,
    pub today: Date,
    /// The instant that the pages are about.
    pub at: Timestamp,
    pub tz: TimeZone,
}

/// What the sensors of a site read lately, by sensor.
struct Heard(BTreeMap<i64, ByChannel>);

/// Readings until an instant; asked once for a revision of the readings and an hour.
fn heard(
    state: &AppState,
    facts: &SiteFacts,
    (stamp, at): (SiteStamp, Timestamp),
) -> Result<BTreeMap<i64, ByChannel>, StoreError> {
    if stamp.readings == 0 || facts.sensors.is_empty() {
        return Ok(BTreeMap::new());
    }
    let ids: Vec<i64> = facts.sensors.iter().map(|s| s.id).collect();
    let key = format!("site {} readings {} sensors {ids:?} until {at}", stamp.id, stamp.readings);
    let size = |heard: &Heard| {
        heard.0.values().flat_map(BTreeMap::values).map(|r| r.as_slice().len()).sum::<usize>() / 40
    };
    let heard = state
        .cache
        .once(key, size, || Ok(Heard(state.store.read(|snapshot| snapshot.readings(&ids, at))?)))?;
    Ok(heard.0.clone())
}

impl SensorStates {
    /// A site's sensors at a moment.
    pub fn build(
        state: &AppState,
        loaded: Arc<SiteFacts>,
        (stamp, moment): (SiteStamp, Moment),
    ) -> Result<Self, StoreError> {
        let heard = heard(state, &loaded, (stamp, moment.at))?;
        Ok(Self::of(loaded, heard, moment))
    }

    fn of(loaded: Arc<SiteFacts>, heard: BTreeMap<i64, ByChannel>, moment: Moment) -> Self {
        let (today, tz) = (moment.date, loaded.tz.clone());
        let first = today.checked_sub(MEMORY_DAYS.days()).unwrap_or(today);
        // Today and Programs ask this of every site; without sensors nobody asks what they would read.
        let record = if loaded.sensors.is_empty() {
            AsRead::default()
        } else {
            as_read(&loaded.climate, loaded.site.site.longitude_deg, (first, today), &tz)
        };
        Self { climate: Arc::clone(&loaded.climate), loaded, heard, record, today, at: moment.at, tz }
    }

    /// The sensors on the evening of a day, with what each heard.
    #[cfg(test)]
    pub fn for_tests(loaded: SiteFacts, heard: BTreeMap<i64, ByChannel>, today: Date) -> Self {
        let at = crate::site::clock::evening(today, &loaded.tz);
        Self::of(Arc::new(loaded), heard, Moment { date: today, at, record_ended: None })
    }

    pub fn units(&self) -> UnitSystem {
        self.loaded.site.site.units
    }

    pub fn sensor(&self, id: i64) -> Option<&SensorRecord> {
        self.loaded.sensors.iter().find(|s| s.id == id)
    }

    /// Readings of its own, if a sensor has any lately.
    pub fn own(&self, id: i64) -> Option<&ByChannel> {
        self.heard.get(&id).filter(|r| r.keys().any(|c| *c != Channel::Battery))
    }

    /// Its own readings, else the site's record as it would have read it.
    pub fn readings(&self, id: i64) -> &ByChannel {
        self.own(id).unwrap_or(&self.record.channels)
    }

    /// What a sensor says now.
    pub fn says(&self, sensor: &SensorRecord) -> Says {
        says(&sensor.sensor, self.readings(sensor.id), &self.record.drying, self.at)
    }

    /// Its holds of the last weeks.
    pub fn holds(&self, sensor: &SensorRecord, until: Timestamp) -> Vec<Hold> {
        holds(&sensor.sensor, self.readings(sensor.id), &self.record.drying, until)
    }

    pub fn events_of(&self, id: i64) -> impl Iterator<Item = &SensorEvent> {
        self.loaded.sensor_events.iter().filter(move |e| e.sensor_id == id && !e.undone)
    }

    /// Bypasses or silences of a sensor.
    pub fn pauses(&self, id: i64, kind: SensorEventKind) -> Vec<Pause> {
        let own = self.events_of(id).filter(|e| e.kind == kind);
        own.filter_map(|e| Some(Pause { from: e.from, until: e.until? })).collect()
    }

    /// Until when a sensor is on bypass, if it is.
    pub fn bypassed(&self, id: i64) -> Option<Timestamp> {
        self.pauses(id, SensorEventKind::Bypass).iter().filter(|p| p.runs(self.at)).map(|p| p.until).max()
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

    pub fn site_box(&self, number: u8) -> Option<&SiteBox> {
        self.loaded.boxes.iter().find(|b| b.number() == number)
    }

    /// The box where it hangs, without the law: sensors ask nothing of it.
    pub fn installation(&self, own: &SiteBox) -> Installation {
        let zones: Vec<_> = self.loaded.zones.iter().map(|z| z.zone.clone()).collect();
        let of = (&own.record.controller.card, own.number());
        let mut there = Installation::new(
            &self.loaded.site.site,
            of,
            &zones,
            Law::default(),
            &self.climate,
            self.today,
            &self.tz,
        );
        there.sensors = self.of_box(own.number()).map(|s| s.sensor.clone()).collect();
        there
    }

    pub fn of_box(&self, number: u8) -> impl Iterator<Item = &SensorRecord> {
        self.loaded.sensors.iter().filter(move |s| s.sensor.box_number == number)
    }

    /// The sensors of a box with what they say until an instant, apart from the site.
    pub fn sensor_holds(&self, number: u8, until: Timestamp) -> Vec<SensorHolds> {
        self.of_box(number)
            .map(|record| SensorHolds {
                sensor: record.sensor.clone(),
                holds: self.holds(record, until),
                bypasses: self.pauses(record.id, SensorEventKind::Bypass),
                probe: self.readings(record.id).get(&Channel::SoilMoisture).cloned().unwrap_or_default(),
            })
            .collect()
    }

    /// The runs of the night that begins on their day, as a box is set.
    pub fn night_runs(&self, own: &SiteBox, settings: &Settings) -> Vec<ScheduledRun> {
        let next = self.today.tomorrow().unwrap_or(self.today);
        let mut runs = expand(settings, &own.record.controller.card, &self.tz, self.today, next);
        runs.retain(|r| {
            r.start >= noon(self.today, &self.tz)
                && r.start < noon(next, &self.tz)
                && !settings.station(r.station).lighting
        });
        runs
    }

    /// What becomes of tonight's runs of a box.
    pub fn tonight(&self, own: &SiteBox) -> Option<NightOutcomes> {
        let settings = &own.settings.as_ref()?.settings;
        let runs = self.night_runs(own, settings);
        let until = runs.iter().map(|r| r.end).max().unwrap_or(self.at);
        let zones: Vec<&Zone> =
            self.loaded.zones.iter().map(|z| &z.zone).filter(|z| z.box_number == own.number()).collect();
        Some(NightOutcomes::of(&self.sensor_holds(own.number(), until), &runs, &zones, settings))
    }
}

/// A sensor with what it says, apart from the site it hangs in.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct SensorHolds {
    sensor: Sensor,
    holds: Vec<Hold>,
    bypasses: Vec<Pause>,
    /// Soil readings, for a probe.
    probe: Readings,
}

impl SensorHolds {
    /// What it does to some runs of its box.
    fn over(&self, runs: &[ScheduledRun]) -> ActiveSensor<'_> {
        let set = &self.sensor.setting;
        let windows = match set.soil_threshold_pct {
            Some(threshold) if self.sensor.card.senses(Sense::SoilMoisture) => {
                let length = set.cycle_window_min.map(i64::from).or(cycle_window_needed_min(runs.iter()));
                decide_windows(threshold, &windows_of(runs, length.unwrap_or(60)), &self.probe)
            }
            _ => Vec::new(),
        };
        ActiveSensor {
            sensor: &self.sensor,
            probe_station: self.sensor.placement.probe_station,
            holds: self.holds.clone(),
            windows,
            bypasses: self.bypasses.clone(),
        }
    }
}

/// Runs of a box with what its sensors do to them.
pub(crate) struct NightOutcomes {
    pub outcomes: Vec<(ScheduledRun, Outcome)>,
    /// Names of the sensors, as the outcomes count them.
    names: Vec<String>,
}

impl NightOutcomes {
    /// What becomes of some runs.
    pub fn of(
        sensor_holds: &[SensorHolds],
        runs: &[ScheduledRun],
        zones: &[&Zone],
        settings: &Settings,
    ) -> Self {
        let watching: Vec<ActiveSensor<'_>> = sensor_holds.iter().map(|w| w.over(runs)).collect();
        let zone = |station: u16| zones.iter().find(|z| z.number == station).copied();
        Self {
            outcomes: runs
                .iter()
                .map(|run| (*run, outcome(&watching, run, zone(run.station), settings)))
                .collect(),
            names: sensor_holds.iter().map(|w| w.sensor.name.clone()).collect(),
        }
    }

    /// Stations that a sensor stops, wholly or midway.
    pub fn stopped(&self) -> BTreeSet<u16> {
        self.outcomes.iter().filter(|(_, f)| *f != Outcome::Runs).map(|(r, _)| r.station).collect()
    }

    /// Stations that run or would.
    pub fn stations(&self) -> BTreeSet<u16> {
        self.outcomes.iter().map(|(r, _)| r.station).collect()
    }

    fn name(&self, outcome: &Outcome) -> Option<&str> {
        match outcome {
            Outcome::Runs => None,
            Outcome::Held { sensor, .. } | Outcome::Cut { sensor, .. } => {
                self.names.get(*sensor).map(String::as_str)
            }
        }
    }

    /// What stops a station, if something does.
    pub fn stopper(&self, station: u16) -> Option<&str> {
        self.outcomes.iter().filter(|(r, _)| r.station == station).find_map(|(_, outcome)| self.name(outcome))
    }

    /// What stops the run of a station that begins at an instant, if something does.
    pub fn stops(&self, station: u16, start: Timestamp) -> Option<&str> {
        self.outcomes
            .iter()
            .find(|(r, _)| r.station == station && r.start == start)
            .and_then(|(_, outcome)| self.name(outcome))
    }
}

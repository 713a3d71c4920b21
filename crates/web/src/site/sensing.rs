//! Everything the sensor pages of a site are computed from.

use crate::server::state::AppState;
use crate::site::clock::{Moment, evening};
use crate::site::facts::{SiteController, SiteFacts};
use jiff::Timestamp;
use jiff::ToSpan;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use upland_core::account::evidence::FieldReading;
use upland_core::account::log::{Log, LoggedReading, LoggedRun, MeterReading};
use upland_core::account::running::{ControllerFacts, ControllerRun, Holder, SensorFacts};
use upland_core::account::sensed::{AsRead, as_read, sensor_facts_since};
use upland_core::account::whole::{Facts, begins};
use upland_core::advice::tonight::night_runs;
use upland_core::controller::ordinance::Law;
use upland_core::controller::windows::window_instants;
use upland_core::installation::Installation;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::time::{Seconds, midnight};
use upland_core::quantity::units::{Litres, Minutes};
use upland_core::sensors::state::{ByChannel, Hold, Pause, Says, holds, says};
use upland_core::sensors::wiring::{Join, assign};
use upland_core::sensors::{Channel, Reading, Readings, Sense, Task};
use upland_core::site::UnitSystem;
use upland_core::weather::climate::Climate;
use upland_store::StoreError;
use upland_store::accounts::SiteStamp;
use upland_store::field::{EventKind, ZoneEvent};
use upland_store::sensors::{SensorEvent, SensorEventKind, SensorRecord};
use upland_store::settings::{SettingsKind, SettingsRecord};
use upland_store::ticks::{TickRecord, What};
use upland_store::visits::EntryRecord;
use upland_store::zones::ZoneRecord;

/// Days ahead for which holds are told: the weeks that a controller's pages look ahead, and more.
const AHEAD_DAYS: i32 = 70;

/// What is dated about a site's controllers and zones: versions of settings by controller, and what was noted at zones.
#[derive(Default)]
pub(crate) struct Dated {
    pub versions: BTreeMap<i64, Vec<SettingsRecord>>,
    pub noted: Vec<ZoneEvent>,
    pub entries: Vec<EntryRecord>,
    pub ticks: Vec<TickRecord>,
}

/// Reads them; asked once for a revision of the site.
pub(crate) fn dated(state: &AppState, facts: &SiteFacts) -> Result<Arc<Dated>, StoreError> {
    let id = facts.site.id;
    let key = format!("site {id} revision {} dated", facts.site.revision);
    let size =
        |dated: &Dated| 5 + 4 * dated.versions.values().map(Vec::len).sum::<usize>() + dated.entries.len();
    state.cache.once(key, size, || {
        state.store.read(|snapshot| {
            Ok(Dated {
                versions: snapshot.settings_versions(id)?,
                noted: snapshot.zone_events(id)?,
                entries: snapshot.visit_entries(id)?,
                ticks: snapshot.ticks(id)?,
            })
        })
    })
}

/// A site's sensors with what they say.
pub(crate) struct SensorStates {
    pub loaded: Arc<SiteFacts>,
    pub climate: Arc<Climate>,
    heard: Arc<Heard>,
    record: AsRead,
    /// Everything that an account of the site follows from.
    pub facts: Facts,
    pub today: Date,
    /// The instant that the pages are about.
    pub at: Timestamp,
    pub tz: TimeZone,
    /// The pages are about the last evening of a record that ended a while ago.
    record_ended: bool,
}

/// What the sensors of a site read lately, by sensor.
#[derive(Default)]
struct Heard(BTreeMap<i64, ByChannel>);

/// So many readings fill a kilobyte.
const READINGS_A_KB: usize = 1024 / size_of::<Reading>();

/// Readings until an instant; asked once for a revision of the readings and a minute.
fn heard(
    state: &AppState,
    facts: &SiteFacts,
    (stamp, at): (SiteStamp, Timestamp),
) -> Result<Arc<Heard>, StoreError> {
    if stamp.readings == 0 || facts.sensors.is_empty() {
        return Ok(Arc::default());
    }
    let ids: Vec<i64> = facts.sensors.iter().map(|s| s.id).collect();
    let key = format!("site {} readings {} sensors {ids:?} until {at}", stamp.id, stamp.readings);
    let size = |heard: &Heard| {
        let readings = heard.0.values().flat_map(BTreeMap::values).map(|r| r.as_slice().len());
        readings.sum::<usize>() / READINGS_A_KB
    };
    state.cache.once(key, size, || Ok(Heard(state.store.read(|snapshot| snapshot.readings(&ids, at))?)))
}

impl SensorStates {
    /// A site's sensors at a moment.
    pub fn build(
        state: &AppState,
        loaded: Arc<SiteFacts>,
        (stamp, moment): (SiteStamp, Moment),
    ) -> Result<Self, StoreError> {
        let heard = heard(state, &loaded, (stamp, moment.at))?;
        let dated = dated(state, &loaded)?;
        Ok(Self::of(loaded, heard, &dated, moment))
    }

    /// Takes about so many kilobytes, without the facts, the climate and what was heard, which others hold too: the
    /// hours of the record as sensors would have read it, and the readings that holds and meters follow from.
    pub fn kilobytes(&self) -> usize {
        let sensors = self.facts.controllers.iter().flat_map(|own| &own.sensors);
        let kept = sensors.map(|own| own.probe.as_slice().len() + 2 * own.holds.len() + 2 * own.et0.len());
        let flow = self.facts.log.flow.values().map(|own| own.as_slice().len());
        let record = if self.loaded.sensors.is_empty() { 0 } else { 200 };
        10 + record + (kept.sum::<usize>() + flow.sum::<usize>()) / READINGS_A_KB
    }

    fn of(loaded: Arc<SiteFacts>, heard: Arc<Heard>, dated: &Dated, moment: Moment) -> Self {
        let (today, tz) = (moment.date, loaded.tz.clone());
        let first = begins(&loaded.climate, today);
        // Today and Programs ask this of every site; without sensors nobody asks what they would read.
        let record = if loaded.sensors.is_empty() {
            AsRead::default()
        } else {
            as_read(&loaded.climate, loaded.site.site.longitude_deg, (first, today), &tz)
        };
        let (site, surveys) = (&loaded.site.site, loaded.surveys());
        let mut facts = Facts {
            law: loaded.law(),
            log: log(&loaded, dated, moment.at),
            ..Facts::surveyed(site, &tz, &surveys, Arc::clone(&loaded.climate))
        };
        for zone in &loaded.zones {
            facts.add_earlier(&zone.earlier);
        }
        let mut states = Self {
            climate: Arc::clone(&loaded.climate),
            loaded,
            heard,
            record,
            facts,
            today,
            at: moment.at,
            tz,
            record_ended: moment.record_ended.is_some(),
        };
        states.facts.log.flow = states.flows();
        states.facts.controllers =
            states.loaded.controllers.iter().map(|own| states.controller_facts(own, dated)).collect();
        states
    }

    /// What a flow meter of each controller read.
    fn flows(&self) -> BTreeMap<u8, Readings> {
        let controllers = self.loaded.controllers.iter().map(SiteController::number);
        let read = |number: u8| {
            let meters = self.of_controller(number).filter(|r| r.sensor.card.senses(Sense::Flow));
            let mut readings = meters.filter_map(|r| self.own(r.id)?.get(&Channel::Flow));
            readings.next().map(|own| (number, own.clone()))
        };
        controllers.filter_map(read).collect()
    }

    /// A controller with the versions of its settings and its sensors.
    fn controller_facts(&self, own: &SiteController, dated: &Dated) -> ControllerFacts {
        let current = own.settings.iter();
        let known = dated.versions.get(&own.record.id).filter(|all| !all.is_empty());
        let versions = known.map_or_else(|| current.collect(), |all| all.iter().collect::<Vec<_>>());
        let since = |(place, version): (usize, &SettingsRecord)| match version.kind {
            // What was found on a controller was set before anybody looked.
            SettingsKind::AsFound if place == 0 => Timestamp::MIN,
            _ => version.saved_at,
        };
        let keyed = keyed_in(&dated.ticks, own.record.id);
        // Once somebody ticks what was programmed, a version counts from its tick, and one without a tick is not in
        // the controller yet. Before the first tick a version counts from when it was saved.
        let counts = |(place, version): (usize, &SettingsRecord)| match keyed.keys().next() {
            // What was found was in the controller before anybody ticked it.
            Some(_) if place == 0 && version.kind == SettingsKind::AsFound => Some(Timestamp::MIN),
            Some(first) if version.version >= *first => keyed.get(&version.version).copied(),
            _ => Some(since((place, version))),
        };
        let in_controller =
            versions.iter().enumerate().filter_map(|(k, v)| Some((counts((k, v))?, v.settings.clone())));
        let mut in_controller: Vec<_> = in_controller.collect();
        in_controller.sort_by_key(|(since, _)| *since);
        // A record that ended is read on its last evening. What was saved since is all that is known of the controller.
        if self.record_ended
            && let Some((since, _)) = in_controller.first_mut().filter(|(since, _)| *since > self.at)
        {
            *since = Timestamp::MIN;
        }
        ControllerFacts {
            number: own.number(),
            card: own.record.controller.card.clone(),
            versions: in_controller,
            sensors: self.sensor_facts(own.number()),
        }
    }

    /// The sensors of a controller with what they say, past and ahead.
    fn sensor_facts(&self, number: u8) -> Vec<SensorFacts> {
        let last = self.today.checked_add(AHEAD_DAYS.days()).unwrap_or(self.today);
        let until = midnight(last, &self.tz);
        let facts = |record: &SensorRecord| {
            let readings = self.since_first_reading(record.id);
            let paused = self.pauses(record.id, SensorEventKind::Bypass);
            let of = (&record.sensor, &record.history);
            let facts = sensor_facts_since(of, &readings, &self.record.drying, paused, (&self.tz, until));
            SensorFacts { read_until: self.at, ..facts }
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

    /// The sensors on the evening of a day, with what each heard.
    #[cfg(test)]
    pub fn for_tests(loaded: SiteFacts, heard: BTreeMap<i64, ByChannel>, today: Date) -> Self {
        let at = evening(today, &loaded.tz);
        let moment = Moment { date: today, at, record_ended: None };
        Self::of(Arc::new(loaded), Arc::new(Heard(heard)), &Dated::default(), moment)
    }

    /// The same with what was noted at zones.
    #[cfg(test)]
    pub fn noted_for_tests(loaded: Arc<SiteFacts>, noted: Vec<ZoneEvent>, moment: Moment) -> Self {
        Self::of(loaded, Arc::default(), &Dated { noted, ..Dated::default() }, moment)
    }

    pub fn units(&self) -> UnitSystem {
        self.loaded.site.site.units
    }

    pub fn sensor(&self, id: i64) -> Option<&SensorRecord> {
        self.loaded.sensors.iter().find(|s| s.id == id)
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

    pub fn site_controller(&self, number: u8) -> Option<&SiteController> {
        self.loaded.controllers.iter().find(|b| b.number() == number)
    }

    /// The controller as installed, without the law: sensors ask nothing of it.
    pub fn installation(&self, own: &SiteController) -> Installation {
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
        there.sensors = self.of_controller(own.number()).map(|s| s.sensor.clone()).collect();
        there
    }

    pub fn of_controller(&self, number: u8) -> impl Iterator<Item = &SensorRecord> {
        self.loaded.sensors.iter().filter(move |s| s.sensor.controller_number == number)
    }

    /// The runs of a controller in the night that begins on their day, with who holds each; `None` when nobody entered its
    /// settings.
    pub fn tonight(&self, own: &SiteController) -> Option<Vec<ControllerRun>> {
        own.settings.as_ref()?;
        Some(night_runs(&self.facts, self.facts.of_controller(own.number())?, self.today))
    }

    /// The zone that a soil-moisture sensor stands in, where that was said.
    pub fn probe_zone(&self, record: &SensorRecord) -> Option<&ZoneRecord> {
        let station = record.sensor.placement.probe_station?;
        let number = record.sensor.controller_number;
        self.loaded.zones.iter().find(|z| (z.zone.controller_number, z.zone.number) == (number, station))
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
}

/// When each version of a controller was programmed, as it is ticked.
pub(crate) fn keyed_in(ticks: &[TickRecord], controller: i64) -> BTreeMap<i32, Timestamp> {
    let own = ticks.iter().filter(|t| t.what == What::KeyedIn && t.about == controller);
    own.map(|t| (t.number, t.at)).collect()
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

/// What probe, spade and meter said at visits. The body of an entry is the visit file's.
fn read_at_visits(facts: &SiteFacts, entries: &[EntryRecord], at: Timestamp, log: &mut Log) {
    // Pages are about whole minutes; what was entered in this one is known already.
    let known = at + jiff::SignedDuration::from_secs(60);
    for entry in entries.iter().filter(|e| !e.undone && e.at < known) {
        let number = |name: &str| entry.body.get(name).and_then(serde_json::Value::as_f64);
        if let ("zone", Some(percent)) = (entry.kind.as_str(), number("available_pct"))
            && let Ok(zone) = facts.zone(entry.about)
        {
            let reading = FieldReading {
                at: entry.at.min(at),
                available_share: Share::from_percent(percent),
                reason: "read at a visit".into(),
            };
            let (controller_number, station) = (zone.zone.controller_number, zone.zone.number);
            log.readings.push(LoggedReading { controller_number, station, reading });
        }
        if let ("site", Some(litres)) = (entry.kind.as_str(), number("meter_litres")) {
            log.meter.push(MeterReading { at: entry.at.min(at), counted: Litres::from_l(litres) });
        }
    }
}

/// What was noted at the zones of a site up to an instant: readings of the evening of their day, or of the instant if
/// that lies before, and runs from the opening of the night's window.
fn log(facts: &SiteFacts, dated: &Dated, at: Timestamp) -> Log {
    let mut log = Log::default();
    read_at_visits(facts, &dated.entries, at, &mut log);
    for event in dated.noted.iter().filter(|event| !event.undone) {
        let Ok(zone) = facts.zone(event.zone_id) else { continue };
        let (controller_number, station) = (zone.zone.controller_number, zone.zone.number);
        let said = event.said_at.to_zoned(facts.tz.clone()).date() == event.date;
        match event.kind {
            EventKind::Reading => {
                let on = if said { event.said_at } else { evening(event.date, &facts.tz) };
                let today = at.to_zoned(facts.tz.clone()).date() == event.date;
                let reading = FieldReading {
                    at: if today { on.min(at) } else { on },
                    available_share: Share::from_fraction(event.value),
                    reason: event.reason.clone(),
                };
                log.readings.push(LoggedReading { controller_number, station, reading });
            }
            EventKind::Run => {
                // A run is noted on the day it ran, without its hour.
                let before = event.date.yesterday().unwrap_or(event.date);
                let (opens, _) = window_instants(before, facts.site.site.windows.main, &facts.tz);
                let from = opens;
                let length = Seconds::of(Minutes::from_min(event.value), f64::round);
                log.runs.push(LoggedRun { controller_number, station, from, until: from + length });
            }
        }
    }
    log.in_order()
}

//! What sensors do to runs: which are held, which are cut, which are refused, and by whom.

use super::mapping::tie_of;
use super::state::{Cause, CycleWindow, Hold, Pause, WindowDecision};
use super::{Sense, Sensor};
use crate::controller::schedule::{ScheduledRun, Settings};
use crate::site::Zone;
use jiff::Timestamp;

/// What becomes of a run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Outcome {
    /// It runs.
    Runs,
    /// It does not run.
    Held {
        /// Index of the sensor.
        sensor: usize,
        /// Why it holds.
        cause: Cause,
    },
    /// It starts and is stopped.
    Cut {
        /// Index of the sensor.
        sensor: usize,
        /// When.
        at: Timestamp,
        /// Why.
        cause: Cause,
    },
}

/// A sensor with what it says over the time looked at.
#[derive(Debug, Clone, PartialEq)]
pub struct ActiveSensor<'a> {
    /// The sensor.
    pub sensor: &'a Sensor,
    /// The zone a soil probe stands in.
    pub probe_station: Option<u16>,
    /// Its holds.
    pub holds: Holds,
    /// Its decisions by window, in order and apart from each other.
    pub windows: Vec<WindowDecision>,
    /// Bypasses.
    pub bypasses: Vec<Pause>,
}

/// Holds in order of their begin, so that those that meet a run are found without looking at all.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Holds {
    all: Vec<Hold>,
    /// The latest end of a hold and of all before it.
    latest: Vec<Timestamp>,
}

impl From<Vec<Hold>> for Holds {
    fn from(mut all: Vec<Hold>) -> Self {
        all.sort_by_key(|h| h.from);
        let ends = all.iter().scan(Timestamp::MIN, |latest, hold| {
            *latest = (*latest).max(hold.until.unwrap_or(Timestamp::MAX));
            Some(*latest)
        });
        Self { latest: ends.collect(), all }
    }
}

impl Holds {
    /// Those that stand in some of a span.
    fn meeting(&self, from: Timestamp, until: Timestamp) -> impl Iterator<Item = &Hold> {
        let first = self.latest.partition_point(|latest| *latest <= from);
        let last = self.all.partition_point(|hold| hold.from < until);
        let near = self.all.get(first..last).unwrap_or_default();
        near.iter().filter(move |hold| hold.until.is_none_or(|end| end > from))
    }
}

fn sense_of(cause: Cause) -> Option<Sense> {
    match cause {
        Cause::Rain { .. } => Some(Sense::Rain),
        Cause::Frost { .. } => Some(Sense::Freeze),
        Cause::Wind { .. } => Some(Sense::Wind),
        Cause::WetSoil { .. } => Some(Sense::SoilMoisture),
        Cause::Contact => None,
    }
}

impl ActiveSensor<'_> {
    fn may_hold(
        &self,
        cause: Cause,
        station: u16,
        zone: Option<&Zone>,
        program: usize,
        settings: &Settings,
    ) -> bool {
        let set = settings.station(station);
        if set.ignores_sensors || self.sensor.map.programs_ignoring.contains(&program) {
            return false;
        }
        // A contact on a port stops every station that does not ignore it, whatever was meant; the
        // checks say where that does harm.
        if self.sensor.card.is_contact() {
            return !set.lighting;
        }
        let Some(zone) = zone else { return false };
        sense_of(cause).is_some_and(|sense| {
            tie_of(sense, &self.sensor.card, &self.sensor.map, zone, self.probe_station, set.lighting).holds
        })
    }

    /// Everything of this sensor that stops a run, each with the first instant in the run at which it does.
    fn stops<'a>(
        &'a self,
        run: &'a ScheduledRun,
        zone: Option<&'a Zone>,
        settings: &'a Settings,
    ) -> impl Iterator<Item = (Timestamp, Hold)> + 'a {
        let of = (run.station, zone);
        let bypassed = |at: Timestamp| self.bypasses.iter().any(|b| b.runs(at));
        let held = self.holds.meeting(run.start, run.end).filter_map(move |h| {
            // A hold counts from its start, or from the end of a bypass that lies over it.
            let mut at = h.from.max(run.start);
            while let Some(bypass) = self.bypasses.iter().find(|b| b.runs(at)) {
                at = bypass.until;
            }
            (h.stands(at) && at < run.end).then_some((at, *h))
        });
        let held = held.filter(move |(_, h)| self.may_hold(h.cause, of.0, of.1, run.program, settings));
        let begun = self.windows.partition_point(|w| w.window.from <= run.start);
        let own = |w: &&WindowDecision| w.refuses && run.start < w.window.until && !bypassed(w.window.from);
        let last = begun.checked_sub(1).and_then(|at| self.windows.get(at));
        let refused = last.filter(own).map(|w| Hold {
            from: w.window.from,
            until: Some(w.window.until),
            cause: Cause::WetSoil { read_pct: w.read_pct.unwrap_or_default() },
        });
        let refused = refused.filter(|h| self.may_hold(h.cause, of.0, of.1, run.program, settings));
        held.chain(refused.map(|hold| (run.start, hold)))
    }
}

/// A hold that stops a run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stopper {
    /// Index of the sensor.
    pub sensor: usize,
    /// The instant in the run at which it stops it.
    pub at: Timestamp,
    /// The hold, with its cause and its end.
    pub hold: Hold,
}

/// Everything that stops a scheduled run, the first first; empty when it runs whole. A station without a zone is
/// stopped by contacts like any other; what is run by hand is not scheduled, and ignores every sensor.
#[must_use]
pub fn stoppers(
    active: &[ActiveSensor<'_>],
    run: &ScheduledRun,
    zone: Option<&Zone>,
    settings: &Settings,
) -> Vec<Stopper> {
    let mut all: Vec<Stopper> = Vec::new();
    for (sensor, own) in active.iter().enumerate() {
        all.extend(own.stops(run, zone, settings).map(|(at, hold)| Stopper { sensor, at, hold }));
    }
    all.sort_by_key(|s| (s.at, s.sensor));
    all
}

/// What becomes of a scheduled run. A station without a zone is stopped by contacts like any other; what
/// is run by hand is not scheduled, and ignores every sensor.
#[must_use]
pub fn outcome(
    active: &[ActiveSensor<'_>],
    run: &ScheduledRun,
    zone: Option<&Zone>,
    settings: &Settings,
) -> Outcome {
    match stoppers(active, run, zone, settings).first() {
        None => Outcome::Runs,
        Some(Stopper { sensor, at, hold }) if *at <= run.start => {
            Outcome::Held { sensor: *sensor, cause: hold.cause }
        }
        Some(Stopper { sensor, at, hold }) => Outcome::Cut { sensor: *sensor, at: *at, cause: hold.cause },
    }
}

/// The cycle windows of a controller: each day's first run begins one of the given length, minutes.
#[must_use]
pub fn windows_of(runs: &[ScheduledRun], length_min: i64) -> Vec<CycleWindow> {
    let mut out: Vec<CycleWindow> = Vec::new();
    let mut date = None;
    for run in runs {
        if date != Some(run.date) && out.last().is_none_or(|w| run.start >= w.until) {
            let until = run.start + jiff::SignedDuration::from_mins(length_min);
            out.push(CycleWindow { from: run.start, until });
            date = Some(run.date);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::twelve_stations;
    use crate::ground::plant::Sky;
    use crate::quantity::time::Seconds;
    use crate::sensors::generic;
    use crate::site::samples::lawn;
    use jiff::civil::date;
    use jiff::{SignedDuration, ToSpan};

    fn at(hour: i64) -> Timestamp {
        "2026-07-01T00:00:00Z".parse::<Timestamp>().unwrap() + hour.hours()
    }

    fn run(station: u16, from: i64, until: i64) -> ScheduledRun {
        ScheduledRun {
            start: at(from),
            end: at(until),
            program: 0,
            start_number: 1,
            start_index: 0,
            station,
            cycle: 1,
            date: date(2026, 7, 1),
            queued: Seconds::from_s(0),
        }
    }

    fn sensor(code: &str) -> Sensor {
        Sensor::of_card(generic().into_iter().find(|(c, _)| *c == code).unwrap().1, 1)
    }

    fn active(sensor: &Sensor, holds: Vec<Hold>) -> ActiveSensor<'_> {
        let (windows, bypasses) = (Vec::new(), Vec::new());
        ActiveSensor { sensor, probe_station: None, holds: holds.into(), windows, bypasses }
    }

    const RAIN: Cause = Cause::Rain { fallen_mm: 14.0, since: Timestamp::UNIX_EPOCH };

    #[test]
    fn a_hold_stops_what_it_meets_and_only_whom_it_may() {
        let rain = sensor("rain_switch");
        let settings = Settings::clean(&twelve_stations());
        let hold = Hold { from: at(3), until: Some(at(10)), cause: RAIN };
        let mut eaves = lawn(2);
        eaves.sky = Sky::UnderEaves;
        let all = [active(&rain, vec![hold])];
        let zone = lawn(1);
        let outcome = |run: &ScheduledRun, zone: &Zone| super::outcome(&all, run, Some(zone), &settings);
        assert_eq!(outcome(&run(1, 1, 2), &zone), Outcome::Runs);
        assert_eq!(outcome(&run(1, 2, 4), &zone), Outcome::Cut { sensor: 0, at: at(3), cause: RAIN });
        assert_eq!(outcome(&run(1, 5, 6), &zone), Outcome::Held { sensor: 0, cause: RAIN });
        assert_eq!(outcome(&run(1, 10, 11), &zone), Outcome::Runs);
        assert_eq!(
            outcome(&run(2, 5, 6), &eaves),
            Outcome::Held { sensor: 0, cause: RAIN },
            "a contact knows no roofs"
        );
        let station = sensor("weather_station");
        let told = [active(&station, vec![hold])];
        assert_eq!(
            super::outcome(&told, &run(2, 5, 6), Some(&eaves), &settings),
            Outcome::Runs,
            "data are told apart"
        );
        let mut ignoring = settings.clone();
        ignoring.update_station(1, |s| s.ignores_sensors = true);
        assert_eq!(super::outcome(&all, &run(1, 5, 6), Some(&zone), &ignoring), Outcome::Runs);
        assert_eq!(
            super::outcome(&all, &run(9, 5, 6), None, &settings),
            Outcome::Held { sensor: 0, cause: RAIN },
            "nobody's zone"
        );
        assert_eq!(super::outcome(&told, &run(9, 5, 6), None, &settings), Outcome::Runs);
    }

    #[test]
    fn of_many_holds_just_those_that_meet_a_span_are_found() {
        let hold = |from, until: Option<i64>| Hold { from: at(from), until: until.map(at), cause: RAIN };
        // A long one lies over short ones, and the last has no end.
        let all =
            vec![hold(5, Some(6)), hold(0, Some(20)), hold(2, Some(3)), hold(30, None), hold(8, Some(9))];
        let holds = Holds::from(all.clone());
        for (from, until) in [(0, 1), (1, 2), (3, 5), (5, 9), (9, 20), (20, 30), (20, 31), (40, 41), (-3, 0)]
        {
            let meets = |h: &&Hold| h.from < at(until) && h.until.is_none_or(|end| end > at(from));
            let mut plain: Vec<Hold> = all.iter().filter(meets).copied().collect();
            plain.sort_by_key(|h| h.from);
            let found: Vec<Hold> = holds.meeting(at(from), at(until)).copied().collect();
            assert_eq!(found, plain, "{from} to {until}");
        }
        assert_eq!(Holds::default().meeting(at(0), at(9)).count(), 0);
    }

    #[test]
    fn a_bypass_lets_run_and_then_ends() {
        let rain = sensor("rain_switch");
        let settings = Settings::clean(&twelve_stations());
        let mut w = active(&rain, vec![Hold { from: at(0), until: None, cause: RAIN }]);
        w.bypasses = vec![Pause { from: at(1), until: at(4) }];
        let zone = lawn(1);
        let outcome = |run| super::outcome(std::slice::from_ref(&w), &run, Some(&zone), &settings);
        assert_eq!(outcome(run(1, 2, 3)), Outcome::Runs);
        assert_eq!(outcome(run(1, 3, 5)), Outcome::Cut { sensor: 0, at: at(4), cause: RAIN });
        assert_eq!(outcome(run(1, 4, 5)), Outcome::Held { sensor: 0, cause: RAIN });
    }

    #[test]
    fn a_program_can_ignore_a_sensor_and_a_probe_refuses_its_window() {
        let mut probe = sensor("soil_probe");
        let settings = Settings::clean(&twelve_stations());
        let runs = [run(1, 1, 2), run(1, 5, 6)];
        let windows = windows_of(&runs, 7 * 60);
        assert_eq!(windows, [CycleWindow { from: at(1), until: at(1) + SignedDuration::from_hours(7) }]);
        let refuse = |sensor: &Sensor, bypass: &[Pause]| {
            let w = ActiveSensor {
                sensor,
                probe_station: Some(1),
                holds: Holds::default(),
                windows: vec![WindowDecision { window: windows[0], read_pct: Some(33.0), refuses: true }],
                bypasses: bypass.to_vec(),
            };
            runs.map(|r| super::outcome(std::slice::from_ref(&w), &r, Some(&lawn(1)), &settings))
        };
        let held = Outcome::Held { sensor: 0, cause: Cause::WetSoil { read_pct: 33.0 } };
        assert_eq!(refuse(&probe, &[]), [held, held]);
        assert_eq!(
            refuse(&probe, &[Pause { from: at(0), until: at(2) }]),
            [Outcome::Runs, Outcome::Runs],
            "decided while bypassed"
        );
        probe.map.programs_ignoring.insert(0);
        assert_eq!(refuse(&probe, &[]), [Outcome::Runs, Outcome::Runs]);
    }
}

//! What a box runs over some dates as it is set: every run with who holds it, and how long it really waters.

use super::evidence::Watering;
use crate::controller::Card;
use crate::controller::schedule::{Rest, ScheduledRun, Settings, expand_scaled};
use crate::quantity::ratio::Percentage;
use crate::quantity::time::{Seconds, midnight};
use crate::quantity::units::Millimetres;
use crate::sensors::effect::{ActiveSensor, Stopper, stoppers, windows_of};
use crate::sensors::mapping::tie_of;
use crate::sensors::state::{
    EtPercentage, Hold, Pause, cycle_window_needed_min, decide_windows, et_percentage,
};
use crate::sensors::{Readings, Sense, Sensor};
use crate::site::{ResolvedZone, Zone};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::BTreeMap;

/// Nights that an ET sensor's last percentage stands when too few days were read since (our stated limit).
const KEPT_NIGHTS: i32 = 7;

/// A sensor of a box with what it says over the time looked at.
#[derive(Debug, Clone, PartialEq)]
pub struct SensorFacts {
    /// The sensor.
    pub sensor: Sensor,
    /// Its holds, in order of time.
    pub holds: Vec<Hold>,
    /// Bypasses.
    pub bypasses: Vec<Pause>,
    /// Readings of soil water, for a probe.
    pub probe: Readings,
    /// Reference ET that it read, by day, for an ET sensor.
    pub et0: BTreeMap<Date, Millimetres>,
}

impl SensorFacts {
    /// The same for a sensor that was hung at an instant: it held nothing before.
    #[must_use]
    pub fn since(mut self, installed: Timestamp) -> Self {
        self.holds.retain(|h| h.until.is_none_or(|until| until > installed));
        for hold in &mut self.holds {
            hold.from = hold.from.max(installed);
        }
        self
    }

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
            holds: self.holds.clone().into(),
            windows,
            bypasses: self.bypasses.clone(),
        }
    }

    /// The percentage that an ET sensor sets for the night that begins on a date; the last one it could set when
    /// too few days were read. `None` for any other sensor, and for one that never could.
    #[must_use]
    pub fn percentage(&self, night: Date) -> Option<EtPercentage> {
        if !self.sensor.card.senses(Sense::Et) {
            return None;
        }
        let back = i32::from(self.sensor.setting.et_days.max(1));
        (0..=KEPT_NIGHTS).find_map(|k| {
            let of = night.checked_sub(k.days()).ok()?;
            let first = of.checked_sub(back.days()).ok()?;
            et_percentage(&self.sensor.setting, self.et0.range(first..=of).map(|(d, mm)| (*d, *mm)), of)
        })
    }

    fn is_bypassed(&self, at: Timestamp) -> bool {
        self.bypasses.iter().any(|b| b.runs(at))
    }
}

/// Who holds a run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Holder {
    /// A sensor of the box, by index, with its hold.
    Sensor {
        /// Index among the sensors of the box.
        sensor: usize,
        /// The hold: its cause and its end.
        hold: Hold,
    },
    /// The box by its own settings.
    Rest(Rest),
}

/// A run of a box with what becomes of it.
#[derive(Debug, Clone, PartialEq)]
pub struct BoxRun {
    /// The run as it is set, percentages counted.
    pub run: ScheduledRun,
    /// When its water really stops: at its start when it is held, in its midst when it is cut.
    pub until: Timestamp,
    /// Who holds or cuts it, each with its end; empty when it runs whole.
    pub held_by: Vec<Holder>,
}

impl BoxRun {
    /// How long water really runs.
    #[must_use]
    pub fn waters(&self) -> Seconds {
        Seconds::between(self.run.start, self.until)
    }

    /// Whether nothing of it runs.
    #[must_use]
    pub fn is_held(&self) -> bool {
        self.until <= self.run.start
    }

    /// As the zone feels it.
    #[must_use]
    pub fn watering(&self) -> Watering {
        Watering::plain(self.run.start, self.until)
    }
}

/// A box with everything that its runs follow from.
#[derive(Debug, Clone, PartialEq)]
pub struct BoxFacts {
    /// Its number at the site.
    pub number: u8,
    /// What it can hold.
    pub card: Card,
    /// Versions of its settings, in order, each with the instant from which it counts; none when they are not
    /// known.
    pub versions: Vec<(Timestamp, Settings)>,
    /// Its sensors.
    pub sensors: Vec<SensorFacts>,
}

impl BoxFacts {
    /// Names of its sensors, in their order.
    #[must_use]
    pub fn sensor_names(&self) -> Vec<String> {
        self.sensors.iter().map(|s| s.sensor.name.clone()).collect()
    }

    /// The settings in force at an instant.
    #[must_use]
    pub fn settings_at(&self, at: Timestamp) -> Option<&Settings> {
        self.versions.iter().rfind(|(since, _)| *since <= at).map(|(_, settings)| settings)
    }

    /// The instant from which its settings are known.
    #[must_use]
    pub fn known_since(&self) -> Option<Timestamp> {
        self.versions.first().map(|(since, _)| *since)
    }

    /// Whether its runs cannot be told from its settings: it computes them itself every day.
    #[must_use]
    pub fn computes_itself(&self) -> bool {
        self.card.daily_run_times
    }
}

/// Every run of a box that begins on some dates, both included, in order of time, lighting left out. Runs before
/// the first known settings are not known, and a box that computes its own run times has none to tell.
#[must_use]
pub fn running(
    facts: &BoxFacts,
    zones: &[(Zone, ResolvedZone)],
    tz: &TimeZone,
    (from, to): (Date, Date),
) -> Vec<BoxRun> {
    let mut out = Vec::new();
    if facts.computes_itself() {
        return out;
    }
    let date_of = |at: Timestamp| at.to_zoned(tz.clone()).date();
    for (i, (since, settings)) in facts.versions.iter().enumerate() {
        let next = facts.versions.get(i + 1).map_or(Timestamp::MAX, |(next, _)| *next);
        // A run that waits in line may begin on the date after its own.
        let first = date_of(*since).yesterday().unwrap_or(from).max(from);
        let last = date_of(next).min(to);
        if first <= last {
            let runs = version(facts, settings, zones, tz, (first, last));
            out.extend(runs.into_iter().filter(|r| (*since..next).contains(&r.run.start)));
        }
    }
    out.sort_by_key(|r| (r.run.start, r.run.program, r.run.station, r.run.cycle));
    out
}

/// The runs of one version of settings.
fn version(
    facts: &BoxFacts,
    settings: &Settings,
    zones: &[(Zone, ResolvedZone)],
    tz: &TimeZone,
    span: (Date, Date),
) -> Vec<BoxRun> {
    let own = zones.iter().filter(|(zone, _)| zone.box_number == facts.number);
    let by_station: BTreeMap<u16, &Zone> = own.map(|(zone, _)| (zone.number, zone)).collect();
    let zone = |station: u16| by_station.get(&station).copied();
    let nightly = Nightly::of(facts, tz, span);
    let scale = |date: Date, program: usize, station: u16| nightly.of_run(date, program, zone(station)?);
    let mut runs = expand_scaled(&settings.awake(), &facts.card, tz, span, &scale);
    runs.retain(|run| !settings.station(run.station).lighting);
    let active: Vec<ActiveSensor<'_>> = facts.sensors.iter().map(|s| s.over(&runs)).collect();
    let held = |run: &ScheduledRun| {
        let rests = settings.rests_on(run.date);
        let mut until = if rests.is_empty() { run.end } else { run.start };
        let stopped = stoppers(&active, run, zone(run.station), settings);
        // Of what stops it, all that stands at the first instant that counts.
        if let Some(first) = stopped.first() {
            until = until.min(first.at);
        }
        let standing = stopped.iter().filter(|s| s.at <= until);
        let sensors =
            standing.map(|Stopper { sensor, hold, .. }| Holder::Sensor { sensor: *sensor, hold: *hold });
        let held_by = rests.into_iter().map(Holder::Rest).chain(sensors).collect();
        BoxRun { run: *run, until, held_by }
    };
    runs.iter().map(held).collect()
}

/// What the ET sensors of a box set, night by night.
struct Nightly<'a> {
    sensors: Vec<(&'a Sensor, BTreeMap<Date, Percentage>)>,
}

impl<'a> Nightly<'a> {
    fn of(facts: &'a BoxFacts, tz: &TimeZone, (from, to): (Date, Date)) -> Self {
        let senses = facts.sensors.iter().filter(|s| s.sensor.card.senses(Sense::Et));
        let sensors = senses.map(|own| {
            let dates = from.series(1.day()).take_while(|date| *date <= to);
            // A run belongs to the date of its start; the percentage of a night that crosses midnight was
            // set on the evening before, and both rest on the same days.
            let set = dates.filter(|date| !own.is_bypassed(midnight(*date, tz))).filter_map(|date| {
                let evening = date.yesterday().ok()?;
                Some((date, whole(own.percentage(evening)?, &facts.card)))
            });
            (&own.sensor, set.collect())
        });
        Self { sensors: sensors.collect() }
    }

    /// The percentage of a run from outside.
    fn of_run(&self, date: Date, program: usize, zone: &Zone) -> Option<Percentage> {
        self.sensors.iter().find_map(|(sensor, by_date)| {
            let scales = !sensor.map.programs_ignoring.contains(&program)
                && tie_of(Sense::Et, &sensor.card, &sensor.map, zone, None, false).holds;
            by_date.get(&date).copied().filter(|_| scales)
        })
    }
}

/// A percentage as the box takes it: whole, and no more than its card allows.
fn whole(set: EtPercentage, card: &Card) -> Percentage {
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "clamped")]
    let percent = set.percentage.round().clamp(0.0, f64::from(card.percentage_max.percent())) as u16;
    Percentage::from_percent(percent)
}

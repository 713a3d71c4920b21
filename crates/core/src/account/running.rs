//! What a controller runs over some dates as it is set: every run with who holds it, and how long it really waters.

use super::evidence::Watering;
use crate::controller::Card;
use crate::controller::schedule::{CARRIED_DAYS, Rest, ScheduledRun, Settings, expand_scaled};
use crate::quantity::ratio::Percentage;
use crate::quantity::span::DateSpan;
use crate::quantity::time::{Seconds, midnight};
use crate::quantity::units::Millimetres;
use crate::sensors::effect::{ActiveSensor, Stopper, stoppers, windows_of};
use crate::sensors::mapping::tie_of;
use crate::sensors::state::Cause;
use crate::sensors::state::{
    EtPercentage, Hold, Pause, cycle_window_needed_min, decide_windows, et_percentage,
};
use crate::sensors::wiring::assign;
use crate::sensors::{Readings, Sense, Sensor};
use crate::site::{Surveys, Zone};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::BTreeMap;

/// Nights that an ET sensor's last percentage stands when too few days were read since (our stated limit).
const KEPT_NIGHTS: i32 = 7;

/// How a sensor was set in a time before the present setting.
#[derive(Debug, Clone, PartialEq)]
pub struct EarlierSetting {
    /// Until then.
    pub until: Timestamp,
    /// The date of that instant at the site.
    pub until_date: Date,
    /// As it was set.
    pub sensor: Sensor,
}

/// A sensor of a controller with what it says over the time looked at.
#[derive(Debug, Clone, PartialEq)]
pub struct SensorFacts {
    /// The sensor as it is set now.
    pub sensor: Sensor,
    /// How it was set before, the oldest first.
    pub earlier: Vec<EarlierSetting>,
    /// Its holds, each by the setting of its time, in order of time.
    pub holds: Vec<Hold>,
    /// Bypasses.
    pub bypasses: Vec<Pause>,
    /// Readings of soil water by which a probe decides; none where its relay speaks for itself.
    pub probe: Readings,
    /// The instant up to which its readings are known.
    pub read_until: Timestamp,
    /// Reference ET that it read, by day, for an ET sensor.
    pub et0: BTreeMap<Date, Millimetres>,
}

impl SensorFacts {
    /// The same for a sensor that was installed on a date: it held and read nothing before.
    #[must_use]
    pub fn since(mut self, installed_on: Date, tz: &TimeZone) -> Self {
        let installed = midnight(installed_on, tz);
        self.holds.retain(|h| h.until.is_none_or(|until| until > installed));
        for hold in &mut self.holds {
            hold.from = hold.from.max(installed);
        }
        self.et0.retain(|date, _| *date >= installed_on);
        self
    }

    /// Each setting with the time in which it counts, the oldest first.
    fn settings(&self) -> impl Iterator<Item = (Timestamp, Timestamp, &Sensor)> {
        let begins = core::iter::once(Timestamp::MIN).chain(self.earlier.iter().map(|e| e.until));
        let ends = self.earlier.iter().map(|e| e.until).chain([Timestamp::MAX]);
        let sensors = self.earlier.iter().map(|e| &e.sensor).chain([&self.sensor]);
        begins.zip(ends).zip(sensors).map(|((from, until), sensor)| (from, until, sensor))
    }

    /// As it was set for the night that begins on a date.
    #[must_use]
    pub fn set_on(&self, night: Date) -> &Sensor {
        self.earlier.iter().find(|e| night < e.until_date).map_or(&self.sensor, |e| &e.sensor)
    }

    /// What it does to some runs of its controller, setting by setting.
    fn over(&self, runs: &[ScheduledRun]) -> Vec<ActiveSensor<'_>> {
        let of = |(from, until, sensor): (Timestamp, Timestamp, &'_ Sensor)| {
            let set = &sensor.setting;
            let within = |at: Timestamp| (from..until).contains(&at);
            let windows = match set.soil_threshold_pct {
                Some(threshold) if sensor.card.senses(Sense::SoilMoisture) => {
                    let length = set.cycle_window_min.map(i64::from).or(cycle_window_needed_min(runs.iter()));
                    let mut windows = windows_of(runs, length.unwrap_or(60));
                    windows.retain(|window| within(window.from));
                    decide_windows(threshold, &windows, &self.probe, self.read_until)
                }
                _ => Vec::new(),
            };
            let holds = self.holds.iter().filter(|h| h.from < until && h.until.is_none_or(|end| end > from));
            let holds = holds.map(|h| Hold {
                from: h.from.max(from),
                until: if until < Timestamp::MAX {
                    Some(h.until.map_or(until, |end| end.min(until)))
                } else {
                    h.until
                },
                ..*h
            });
            (windows, holds.collect::<Vec<Hold>>())
        };
        self.settings()
            .map(|(from, until, sensor)| {
                let (windows, holds) = of((from, until, sensor));
                ActiveSensor {
                    sensor,
                    probe_station: sensor.placement.probe_station,
                    holds: holds.into(),
                    windows,
                    bypasses: self.bypasses.clone(),
                }
            })
            .collect()
    }

    /// The percentage that an ET sensor sets for the night that begins on a date; the last one it could set when
    /// too few days were read. `None` for any other sensor, and for one that never could.
    #[must_use]
    pub fn percentage(&self, night: Date) -> Option<EtPercentage> {
        if !self.sensor.card.senses(Sense::Et) {
            return None;
        }
        let setting = &self.set_on(night).setting;
        let back = i32::from(setting.et_days.max(1));
        (0..=KEPT_NIGHTS).find_map(|k| {
            let of = night.checked_sub(k.days()).ok()?;
            let first = of.checked_sub(back.days()).ok()?;
            et_percentage(setting, self.et0.range(first..=of).map(|(d, mm)| (*d, *mm)), of)
        })
    }

    /// Whether a bypass switches its percentage off at an instant.
    fn scaling_is_bypassed(&self, at: Timestamp) -> bool {
        !self.sensor.card.bypass_keeps_percentage && self.bypasses.iter().any(|b| b.runs(at))
    }
}

/// Who holds a run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Holder {
    /// A sensor of the controller, by index, with its hold.
    Sensor {
        /// Index among the sensors of the controller.
        sensor: usize,
        /// The hold: its cause and its end.
        hold: Hold,
    },
    /// The controller by its own settings.
    Rest(Rest),
}

/// A run of a controller with what becomes of it.
#[derive(Debug, Clone, PartialEq)]
pub struct ControllerRun {
    /// The run as it is set, percentages counted.
    pub run: ScheduledRun,
    /// When its water really stops: at its start when it is held, in its midst when it is cut.
    pub until: Timestamp,
    /// Who holds or cuts it, each with its end; empty when it runs whole.
    pub held_by: Vec<Holder>,
}

/// The short name of who held a run.
#[must_use]
pub const fn cause_of(holder: &Holder) -> &'static str {
    match holder {
        Holder::Rest(Rest::RainDelay { .. }) => "rain_delay",
        Holder::Rest(Rest::OffSeason { .. }) => "off_season",
        Holder::Rest(Rest::OmittedDate) => "omitted_date",
        Holder::Sensor { hold, .. } => match hold.cause {
            Cause::Rain { .. } => "rain",
            Cause::Frost { .. } => "frost",
            Cause::Wind { .. } => "wind",
            Cause::WetSoil { .. } => "wet_soil",
            Cause::Contact => "contact",
        },
    }
}

impl ControllerRun {
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

/// A controller with everything that its runs follow from.
#[derive(Debug, Clone, PartialEq)]
pub struct ControllerFacts {
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

impl ControllerFacts {
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

    /// From when the runs of a station follow from its settings; `None` where they never do: the settings are not known,
    /// or the controller computes its run times itself and it is not set to fixed ones.
    #[must_use]
    pub fn set_since(&self, station: u16) -> Option<Timestamp> {
        if !self.computes_itself() {
            return self.known_since();
        }
        let fixed = self.versions.iter().rev().take_while(|(_, s)| s.station(station).fixed_run_time);
        fixed.last().map(|(since, _)| *since)
    }

    /// Whether its runs cannot be told from its settings, but for stations with a fixed run time: it computes them
    /// itself every day.
    #[must_use]
    pub fn computes_itself(&self) -> bool {
        self.card.daily_run_times
    }
}

/// Every run of a controller that begins on some dates, both included, in order of time, lighting left out. Runs before
/// the first known settings are not known, and of a controller that computes its run times only the stations with
/// fixed ones are.
#[must_use]
pub fn running(
    facts: &ControllerFacts,
    zones: Surveys<'_>,
    tz: &TimeZone,
    from: Date,
    to: Date,
) -> Vec<ControllerRun> {
    let mut out = Vec::new();
    let has_fixed = |(_, s): &(Timestamp, Settings)| s.stations.iter().any(|(_, own)| own.fixed_run_time);
    if facts.computes_itself() && !facts.versions.iter().any(has_fixed) {
        return out;
    }
    let date_of = |at: Timestamp| at.to_zoned(tz.clone()).date();
    for (i, (since, settings)) in facts.versions.iter().enumerate() {
        let next = facts.versions.get(i + 1).map_or(Timestamp::MAX, |(next, _)| *next);
        // A run that waits in line may begin on the date after its own.
        let first = date_of(*since).yesterday().unwrap_or(from).max(from);
        let last = date_of(next).min(to);
        if first <= last {
            let runs = version(facts, settings, zones, tz, DateSpan::new(first, last));
            out.extend(runs.into_iter().filter(|r| (*since..next).contains(&r.run.start)));
        }
    }
    out.sort_by_key(|r| (r.run.start, r.run.program, r.run.station, r.run.cycle));
    out
}

/// The runs of one version of settings.
fn version(
    facts: &ControllerFacts,
    settings: &Settings,
    zones: Surveys<'_>,
    tz: &TimeZone,
    span: DateSpan,
) -> Vec<ControllerRun> {
    // Which sensors a zone is tied to follows the survey of the run's own date.
    let by_station = zones.of_controller(facts.number);
    let zone = |station: u16, date: Date| Some(by_station.get(&station)?.on(date));
    let nightly = Nightly::new(facts, tz, span);
    let scale =
        |date: Date, program: usize, station: u16| nightly.of_run(date, program, zone(station, date)?);
    let mut runs = expand_scaled(&settings.awake(), &facts.card, tz, span.first, span.last, &scale);
    let is_computed = |station: u16| facts.computes_itself() && !settings.station(station).fixed_run_time;
    runs.retain(|run| !settings.station(run.station).lighting && !is_computed(run.station));
    // A sensor stands once for each of its settings.
    let (of_sensor, active): (Vec<usize>, Vec<ActiveSensor<'_>>) = (0..)
        .zip(&facts.sensors)
        .flat_map(|(k, s)| s.over(&runs).into_iter().map(move |own| (k, own)))
        .unzip();
    let held = |run: &ScheduledRun| {
        let rests = settings.rests_on(run.date);
        let mut until = if rests.is_empty() { run.end } else { run.start };
        let stopped = stoppers(&active, run, zone(run.station, run.date), settings);
        // Of what stops it, all that stands at the first instant that counts.
        if let Some(first) = stopped.first() {
            until = until.min(first.at);
        }
        let standing = stopped.iter().filter(|s| s.at <= until);
        let sensors = standing.filter_map(|Stopper { sensor, hold, .. }| {
            Some(Holder::Sensor { sensor: *of_sensor.get(*sensor)?, hold: *hold })
        });
        let held_by = rests.into_iter().map(Holder::Rest).chain(sensors).collect();
        ControllerRun { run: *run, until, held_by }
    };
    runs.iter().map(held).collect()
}

/// What the ET sensors of a controller set, night by night.
struct Nightly<'a> {
    sensors: Vec<(&'a SensorFacts, BTreeMap<Date, Percentage>)>,
}

impl<'a> Nightly<'a> {
    fn new(facts: &'a ControllerFacts, tz: &TimeZone, span: DateSpan) -> Self {
        // What cannot be joined to the controller sets nothing.
        let cards: Vec<_> = facts.sensors.iter().map(|s| &s.sensor.card).collect();
        let joins = assign(facts.card.sensor_places(), &cards);
        let joined = facts.sensors.iter().zip(joins).filter(|(_, join)| join.is_ok()).map(|(own, _)| own);
        let senses = joined.filter(|s| s.sensor.card.senses(Sense::Et));
        let sensors = senses.map(|own| {
            // What was started on the days before may still run.
            let from = span.first.checked_sub(CARRIED_DAYS.days()).unwrap_or(span.first);
            let dates = DateSpan::new(from, span.last).dates();
            // A run belongs to the date of its start; the percentage of a night that crosses midnight was
            // set on the evening before, and both rest on the same days.
            let set = dates.filter(|date| !own.scaling_is_bypassed(midnight(*date, tz))).filter_map(|date| {
                let evening = date.yesterday().ok()?;
                Some((date, whole(own.percentage(evening)?, &facts.card)))
            });
            (own, set.collect())
        });
        Self { sensors: sensors.collect() }
    }

    /// The percentage of a run from outside.
    fn of_run(&self, date: Date, program: usize, zone: &Zone) -> Option<Percentage> {
        self.sensors.iter().find_map(|(own, by_date)| {
            let sensor = own.set_on(date.yesterday().unwrap_or(date));
            let scales = !sensor.map.programs_ignoring.contains(&program)
                && tie_of(Sense::Et, &sensor.card, &sensor.map, zone, None, false).holds;
            by_date.get(&date).copied().filter(|_| scales)
        })
    }
}

/// A percentage as the controller takes it: whole, and no more than its card allows.
fn whole(set: EtPercentage, card: &Card) -> Percentage {
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "clamped")]
    let percent = set.percentage.round().clamp(0.0, f64::from(card.percentage_max.percent())) as u16;
    Percentage::from_percent(percent)
}

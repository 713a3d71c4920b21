//! Ways of watering a site, and what each makes of its facts.

use crate::account::running::{BoxFacts, SensorFacts};
use crate::account::sensed::{AsRead, as_read, sensor_facts};
use crate::account::whole::{Facts, Way, begins};
use crate::account::zone::Advise;
use crate::advice::budget::{Base, RainRule, budget, needs, week, with_best, with_week};
use crate::advice::planner::{Basis, Binding, Relax, Request, Strategy, plan};
use crate::controller::schedule::{Percentages, Settings};
use crate::installation::Installation;
use crate::quantity::month::Month;
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::time::{Hours, midnight, monday_of};
use crate::quantity::units::Millimetres;
use crate::sensors::state::Pause;
use crate::sensors::{Channel, Reading, Readings, Sense, Sensor, generic};
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};

/// Where the runs come from.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum Schedule {
    /// The settings in force on the last day of the trial.
    #[default]
    AsSet,
    /// Other settings for a box, by its number.
    Settings(Vec<(u8, Settings)>),
    /// What the planner proposes for the whole year.
    School(Strategy),
    /// As Today advises: to full when the refill point is reached, inside law, frost and window.
    AsAdvised,
    /// A box that computes itself: every open night what is missing.
    DailyBalance,
}

/// What turns the run times over the season.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum PercentageRule {
    /// The percentages that are set.
    #[default]
    AsSet,
    /// 100 % all year.
    Left,
    /// The best twelve of the climate.
    Monthly,
    /// Each Monday what the week before asked for, by hand.
    Weekly,
    /// An ET sensor's, every night, with its trim in percent.
    EtSensor {
        /// The trim.
        trim_pct: f64,
    },
}

/// A place that is not the right one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Spot {
    /// Under an eave: a fifth of the rain reaches it (our stated share).
    UnderEave,
    /// In shade: it dries at half the pace (our stated share).
    InShade,
}

/// What becomes of a sensor.
#[derive(Debug, Clone, PartialEq)]
pub enum Change {
    /// It is not there.
    Absent,
    /// Another rain threshold.
    RainThreshold(Millimetres),
    /// On bypass between two days, both included.
    Bypassed(Date, Date),
    /// It hangs elsewhere.
    Misplaced(Spot),
}

/// A change to a sensor of the site.
#[derive(Debug, Clone, PartialEq)]
pub struct SensorChange {
    /// Number of its box.
    pub box_number: u8,
    /// Its name.
    pub name: String,
    /// What becomes of it.
    pub change: Change,
}

/// A way of watering a site.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct TrialWay {
    /// Its name.
    pub name: String,
    /// Where the runs come from.
    pub schedule: Schedule,
    /// What turns them.
    pub percentages: PercentageRule,
    /// No sensor holds or scales anything.
    pub without_sensors: bool,
    /// What becomes of single sensors.
    pub sensors: Vec<SensorChange>,
    /// Another water window, for what is advised or planned.
    pub window: Option<Hours>,
}

/// The ways that have a name of their own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Named {
    /// The box as it is set.
    AsSet,
    /// As Today advises.
    AsAdvised,
    /// As set, without any sensor.
    NoSensors,
    /// As set, at 100 % all year.
    Leave,
    /// As set, twelve percentages.
    Monthly,
    /// As set, a percentage a week.
    Weekly,
    /// As set, an ET sensor's percentage a night.
    EtSensor,
    /// A box that computes itself.
    DailyBalance,
}

impl Named {
    /// The way, under the name that lists give it.
    #[must_use]
    pub fn way(self, name: &str) -> TrialWay {
        let way = TrialWay { name: name.to_owned(), ..TrialWay::default() };
        match self {
            Self::AsSet => way,
            Self::AsAdvised => TrialWay { schedule: Schedule::AsAdvised, ..way },
            Self::NoSensors => TrialWay { without_sensors: true, ..way },
            Self::Leave => TrialWay { percentages: PercentageRule::Left, ..way },
            Self::Monthly => TrialWay { percentages: PercentageRule::Monthly, ..way },
            Self::Weekly => TrialWay { percentages: PercentageRule::Weekly, ..way },
            Self::EtSensor => TrialWay { percentages: PercentageRule::EtSensor { trim_pct: 0.0 }, ..way },
            Self::DailyBalance => TrialWay { schedule: Schedule::DailyBalance, ..way },
        }
    }
}

/// Why a way cannot be tried.
#[derive(Debug, Clone, PartialEq)]
pub enum Refusal {
    /// Nobody entered what a box is set to.
    Unset {
        /// The box.
        box_number: u8,
    },
    /// No box hangs there.
    NoBox {
        /// The box.
        box_number: u8,
    },
    /// The settings are none that the box can hold.
    CannotHold {
        /// The box.
        box_number: u8,
        /// What is wrong.
        message: String,
    },
    /// The school fits no night of the box.
    NoPlan {
        /// The box.
        box_number: u8,
        /// What binds.
        binding: Binding,
    },
    /// No sensor has that name.
    NoSensor {
        /// The name.
        name: String,
    },
    /// The box takes no percentage from a sensor.
    NoPort {
        /// The box.
        box_number: u8,
    },
    /// There is no weather in the days.
    NoWeather,
}

/// Shares that a misplaced sensor feels (our stated estimates).
const UNDER_EAVE: Share = Share::from_fraction(0.2);
const IN_SHADE: f64 = 0.5;

/// The facts that a way makes of a site's over some days, and how its account is counted.
///
/// # Errors
/// Everything that keeps the way from being tried.
pub fn apply(way: &TrialWay, facts: &Facts, (from, to): (Date, Date)) -> Result<(Facts, Way), Vec<Refusal>> {
    let first = begins(&facts.climate, from);
    let mut refusals = Vec::new();
    if facts.climate.range(from, to).next().is_none() {
        refusals.push(Refusal::NoWeather);
    }
    let mut tried = Facts { log: crate::account::log::Log::default(), ..facts.clone() };
    tried.site.window = way.window.unwrap_or(facts.site.window);
    let counted = match way.schedule {
        Schedule::AsAdvised => Way::AsAdvised,
        Schedule::DailyBalance => {
            tried.advise = Advise::Nightly;
            Way::AsAdvised
        }
        Schedule::AsSet | Schedule::Settings(_) | Schedule::School(_) => Way::AsSet,
    };
    let read = as_read(&facts.climate, facts.site.longitude_deg, (first, to), &facts.tz);
    for own in &mut tried.boxes {
        if let Err(refusal) = change_box(way, facts, own, ((first, to), counted, &read)) {
            refusals.push(refusal);
        }
    }
    let known = |change: &SensorChange| {
        facts.of_box(change.box_number).is_some_and(|b| b.sensor_names().contains(&change.name))
    };
    let unknown = way.sensors.iter().filter(|change| !known(change));
    refusals.extend(unknown.map(|change| Refusal::NoSensor { name: change.name.clone() }));
    if let Schedule::Settings(all) = &way.schedule {
        let there = |n: u8| facts.of_box(n).is_some();
        let missing = all.iter().filter(|(n, _)| !there(*n));
        refusals.extend(missing.map(|(n, _)| Refusal::NoBox { box_number: *n }));
    }
    if refusals.is_empty() { Ok((tried, counted)) } else { Err(refusals) }
}

/// What a way makes of a box.
fn change_box(
    way: &TrialWay,
    facts: &Facts,
    own: &mut BoxFacts,
    ((from, to), counted, read): ((Date, Date), Way, &AsRead),
) -> Result<(), Refusal> {
    let until = midnight(to.tomorrow().unwrap_or(to), &facts.tz);
    let by_sensor = matches!(way.percentages, PercentageRule::EtSensor { .. });
    if by_sensor && counted == Way::AsSet && !own.card.takes_percentages() {
        return Err(Refusal::NoPort { box_number: own.number });
    }
    sensors(way, facts, own, (read, until));
    if counted == Way::AsAdvised || own.computes_itself() {
        return Ok(());
    }
    let box_number = own.number;
    let present = own.settings_at(until).cloned();
    let settings = match &way.schedule {
        Schedule::Settings(all) => {
            all.iter().find(|(n, _)| *n == box_number).map(|(_, s)| s.clone()).or(present)
        }
        Schedule::School(strategy) => Some(planned(facts, own, present, (*strategy, from))?),
        _ => present,
    };
    let settings = settings.ok_or(Refusal::Unset { box_number })?;
    if let Some(fault) = settings.check(&own.card).into_iter().next() {
        return Err(Refusal::CannotHold {
            box_number,
            message: format!("{}: {}", fault.path, fault.message),
        });
    }
    // A trial of last summer asks what a rhythm does, not on which day it was begun; a rain delay has passed.
    let settings = Settings { rain_delay: None, ..settings }.with_rhythms_since(from);
    own.versions = versions(way.percentages, facts, own, (settings, from, to));
    Ok(())
}

fn installation(facts: &Facts, own: &BoxFacts, from: Date) -> Installation {
    let zones: Vec<_> = facts.zones.iter().map(|(zone, _)| zone.clone()).collect();
    let of = (&own.card, own.number);
    let mut there =
        Installation::new(&facts.site, of, &zones, facts.law.clone(), &facts.climate, from, &facts.tz);
    there.sensors = own.sensors.iter().map(|s| s.sensor.clone()).collect();
    there
}

fn planned(
    facts: &Facts,
    own: &BoxFacts,
    present: Option<Settings>,
    (strategy, from): (Strategy, Date),
) -> Result<Settings, Refusal> {
    let there = installation(facts, own, from);
    let present = present.unwrap_or_else(|| Settings::clean(&own.card));
    let (basis, relax) = (Basis::Year, Relax::default());
    let request = Request { installation: &there, present: &present, strategy, from, basis, relax };
    let planned = plan(&request).map(|proposal| proposal.settings);
    planned.map_err(|binding| Refusal::NoPlan { box_number: own.number, binding })
}

/// The settings over the days, each version with the instant from which it counts.
fn versions(
    rule: PercentageRule,
    facts: &Facts,
    own: &BoxFacts,
    (settings, from, to): (Settings, Date, Date),
) -> Vec<(Timestamp, Settings)> {
    let at = |date: Date| midnight(date, &facts.tz);
    let always = |settings: Settings| vec![(Timestamp::MIN, settings)];
    match rule {
        PercentageRule::AsSet | PercentageRule::EtSensor { .. } => always(settings),
        PercentageRule::Left => {
            let hundred = own.card.nearest_percentage(Percentage::HUNDRED);
            always(Settings { percentages: settings.percentages.all_at(hundred), ..settings })
        }
        PercentageRule::Monthly => {
            let there = installation(facts, own, from);
            // Rain is taken off where no hold of the box counts it already.
            let holds_rain = own.sensors.iter().any(|s| s.sensor.card.senses(Sense::Rain));
            let rain = if holds_rain { RainRule::LeftToHold } else { RainRule::Counted };
            let base = Base::new(&there, &settings, from.year());
            let found = budget(&base, &needs(&there, &facts.climate, rain, from.year()), rain);
            if matches!(settings.percentages, Percentages::Month(_)) {
                return always(with_best(&settings, &found, Month::of(from)));
            }
            let months =
                core::iter::successors(Some(from.first_of_month()), |d| d.checked_add(1.month()).ok());
            months
                .take_while(|d| *d <= to)
                .map(|d| (at(d), with_best(&settings, &found, Month::of(d))))
                .collect()
        }
        PercentageRule::Weekly => {
            let there = installation(facts, own, from);
            let lowest = own.card.nearest_percentage(own.card.percentage_min);
            let mondays = core::iter::successors(Some(monday_of(from)), |d| d.checked_add(7.days()).ok());
            let mut year = None;
            let of = |monday: Date| {
                // The events of a year are counted once.
                let known: &Base<'_> = match &mut year {
                    Some((of, base)) if *of == monday.year() => base,
                    slot => &slot.insert((monday.year(), Base::new(&there, &settings, monday.year()))).1,
                };
                (at(monday), with_week(&settings, &week(known, &facts.climate, monday), Some(lowest)))
            };
            mondays.take_while(|d| *d <= to).map(of).collect()
        }
    }
}

/// The sensors of a box as the record would have been read by them.
fn sensors(way: &TrialWay, facts: &Facts, own: &mut BoxFacts, (read, until): (&AsRead, Timestamp)) {
    let hung = core::mem::take(&mut own.sensors);
    if !way.without_sensors {
        let changes = |name: &str| {
            let of = way.sensors.iter().filter(|c| c.box_number == own.number && c.name == name);
            of.map(|c| c.change.clone()).collect::<Vec<_>>()
        };
        own.sensors = hung
            .into_iter()
            .filter_map(|sensor| {
                let changes = changes(&sensor.sensor.name);
                changed(&sensor, &changes, (read, facts, until))
            })
            .collect();
    }
    if let PercentageRule::EtSensor { trim_pct } = way.percentages {
        own.sensors.retain(|s| !s.sensor.card.senses(Sense::Et));
        own.sensors.extend(et_sensor(facts, own, trim_pct, (read, until)));
    }
}

/// A sensor as it hangs, or hung elsewhere or set otherwise; `None` when it is not there.
fn changed(
    hung: &SensorFacts,
    changes: &[Change],
    (read, facts, until): (&AsRead, &Facts, Timestamp),
) -> Option<SensorFacts> {
    let mut sensor: Sensor = hung.sensor.clone();
    let mut bypasses: Vec<Pause> = Vec::new();
    let mut channels = read.channels.clone();
    let mut drying = read.drying.clone();
    // A probe tells what no record of the sky does.
    channels.insert(Channel::SoilMoisture, hung.probe.clone());
    for change in changes {
        match change {
            Change::Absent => return None,
            Change::RainThreshold(mm) => sensor.setting.rain_threshold = *mm,
            Change::Bypassed(from, to) => bypasses.push(Pause {
                from: midnight(*from, &facts.tz),
                until: midnight(to.tomorrow().unwrap_or(*to), &facts.tz),
            }),
            Change::Misplaced(Spot::UnderEave) => {
                if let Some(rain) = channels.get_mut(&Channel::Rain) {
                    let all = rain.as_slice().iter();
                    let less = |r: &Reading| Reading { value: r.value * UNDER_EAVE.fraction(), ..*r };
                    *rain = Readings::new(all.map(less).collect());
                }
            }
            Change::Misplaced(Spot::InShade) => drying = drying.slower(IN_SHADE),
        }
    }
    Some(sensor_facts(&sensor, &channels, &drying, bypasses, (&facts.tz, until)))
}

/// An ET sensor on a box: what the month of most demand asks a day stands for 100 %.
fn et_sensor(
    facts: &Facts,
    own: &BoxFacts,
    trim_pct: f64,
    (read, until): (&AsRead, Timestamp),
) -> Option<SensorFacts> {
    let (_, card) = generic().into_iter().find(|(code, _)| *code == "et_sensor")?;
    let mut sensor = Sensor::of_card(card, own.number);
    let monthly = installation(facts, own, Date::constant(2026, 7, 1)).monthly_et0;
    let peak = monthly.iter().map(|et0| et0.mm()).fold(0.0, f64::max);
    if peak > 0.0 {
        sensor.setting.et_full = Millimetres::from_mm(peak);
    }
    sensor.setting.et_trim_pct = trim_pct;
    Some(sensor_facts(&sensor, &read.channels, &read.drying, Vec::new(), (&facts.tz, until)))
}

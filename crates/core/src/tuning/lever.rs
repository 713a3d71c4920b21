//! Levers: one change for each likely cause, in the steps of the box, and what not to touch.

use super::Diagnosis;
use super::cause::{Cause, Evidence, Suspicion};
use super::nights::{et_sensor, read};
use super::picture::Picture;
use super::visit::{Looks, Visit};
use crate::account::running::BoxFacts;
use crate::account::whole::{Facts, SiteAccount};
use crate::advice::budget::{Measure, week, with_week};
use crate::advice::findings::{FindingKind, FindingPlace, check};
use crate::advice::rain_replay::steps;
use crate::advice::{SoundBase, sound_base};
use crate::controller::schedule::{Days, Settings};
use crate::installation::Installation;
use crate::quantity::ratio::Percentage;
use crate::quantity::time::Seconds;
use crate::quantity::units::Millimetres;
use crate::sensors::{COMMON_RAIN_THRESHOLD, Sensor};
use jiff::ToSpan;
use jiff::civil::Date;

/// Which lever.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum LeverCode {
    /// Mend what is broken; no setting.
    Mend,
    /// Bring the box back to what is known: its clock, its switch, a bypass, a program, a start, a percentage.
    SetBoxRight,
    /// Move or service a sensor.
    SensorByHand,
    /// Measure again, and correct the survey.
    Survey,
    /// One zone's run time.
    ZoneMinutes,
    /// Cycles and soaks, or more starts.
    Cycles,
    /// Starts of programs that meet, or that repeat.
    Starts,
    /// A percentage.
    Percentage,
    /// Days.
    Days,
    /// The rain threshold.
    RainThreshold,
    /// The threshold of a soil probe.
    ProbeThreshold,
    /// Whom a sensor holds.
    SensorMap,
    /// The trim of an ET sensor.
    EtTrim,
    /// What stands for 100 % on an ET sensor.
    EtFull,
}

/// What a lever stands at, or is turned to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Amount {
    /// Nothing that has a number.
    None,
    /// A run time.
    Minutes(Seconds),
    /// A percentage.
    Percentage(Percentage),
    /// Days.
    Days(Days),
    /// A depth.
    Depth(Millimetres),
    /// Percent by volume.
    SoilPct(f64),
    /// A trim, percent.
    TrimPct(f64),
    /// Starts.
    Starts(usize),
    /// Longest cycle.
    Cycle(Seconds),
    /// Whether a sensor holds a zone.
    Holds(bool),
}

/// The settings that a lever makes.
#[derive(Debug, Clone, PartialEq)]
pub enum Turn {
    /// None: it is done by hand.
    ByHand,
    /// Other settings of a box.
    Settings(u8, Box<Settings>),
    /// A sensor set otherwise, by its box.
    Sensor(u8, Box<Sensor>),
}

/// A lever.
#[derive(Debug, Clone, PartialEq)]
pub struct Lever {
    /// Which.
    pub code: LeverCode,
    /// The cause that it answers.
    pub cause: Cause,
    /// Its box.
    pub box_number: Option<u8>,
    /// Its zone.
    pub station: Option<u16>,
    /// Its sensor.
    pub sensor: Option<String>,
    /// What it stands at.
    pub from: Amount,
    /// What it is turned to.
    pub to: Amount,
    /// What that makes of the settings.
    pub turn: Turn,
    /// Zones of the same box that are right and must not be touched: those that another lever would change too.
    pub leave: Vec<u16>,
    /// When to look again.
    pub look_again: Date,
}

/// Most that a run time is turned at once when nothing says how much (common practice: 10 to 20 %).
const STEP_SHARE: f64 = 0.15;
/// Most and least that a run time is multiplied by at one visit (our stated bounds: plants follow slowly).
const MOST_TURN: (f64, f64) = (0.5, 2.0);
/// A soil threshold is moved by this much, percent by volume (common practice: half a point to one).
const SOIL_STEP: f64 = 1.0;
/// Days after a mended fault, a trim or a threshold until it shows.
const SOON_DAYS: i32 = 7;
/// Days after another change until it shows (common practice: one to two weeks).
const LATER_DAYS: i32 = 14;

/// The levers of a diagnosis, in the order in which to turn them. Only the first that concerns a zone is offered: one
/// thing at a time, then look again (common practice).
#[must_use]
pub fn levers(facts: &Facts, account: &SiteAccount, visit: &Visit, found: &Diagnosis) -> Vec<Lever> {
    let picture = Picture::of(facts, account, visit);
    let chosen = found.chosen.iter().filter_map(|at| found.causes.get(*at));
    chosen.filter_map(|suspicion| of(&picture, suspicion)).collect()
}

/// Everything that a lever is made of.
struct Making<'p, 'a> {
    picture: &'p Picture<'a>,
    suspicion: &'p Suspicion,
    own: Option<&'a BoxFacts>,
    settings: Option<&'a Settings>,
    there: Option<Installation>,
}

fn of(picture: &Picture<'_>, suspicion: &Suspicion) -> Option<Lever> {
    let number = suspicion.box_number;
    let own = number.and_then(|n| picture.facts.of_box(n));
    let making = Making {
        picture,
        suspicion,
        own,
        settings: own.and_then(|b| b.settings_at(picture.visit.at)),
        there: own.map(|b| picture.facts.installation(b, picture.date)),
    };
    let made = making.made()?;
    let days = match made.code {
        LeverCode::ZoneMinutes | LeverCode::Percentage | LeverCode::Days | LeverCode::Survey => LATER_DAYS,
        _ => SOON_DAYS,
    };
    let leave = match (number, suspicion.station) {
        (Some(number), Some(station)) => right(picture, number, station),
        _ => Vec::new(),
    };
    Some(Lever {
        code: made.code,
        cause: suspicion.cause,
        box_number: number,
        station: suspicion.station,
        sensor: suspicion.sensor.clone(),
        from: made.from,
        to: made.to,
        turn: made.turn,
        leave,
        look_again: picture.date.checked_add(days.days()).unwrap_or(picture.date),
    })
}

/// Other zones of a box that do not look wrong.
fn right(picture: &Picture<'_>, number: u8, station: u16) -> Vec<u16> {
    let others = picture.of_box(number).filter(|z| z.zone.number != station);
    others.filter(|z| z.looks().unwrap_or(z.expected) == Looks::Right).map(|z| z.zone.number).collect()
}

struct Made {
    code: LeverCode,
    from: Amount,
    to: Amount,
    turn: Turn,
}

fn by_hand(code: LeverCode) -> Made {
    Made { code, from: Amount::None, to: Amount::None, turn: Turn::ByHand }
}

impl Making<'_, '_> {
    fn made(&self) -> Option<Made> {
        Some(match self.suspicion.cause {
            Cause::NothingWrong => return None,
            Cause::NoWater
            | Cause::ValveOpen
            | Cause::BrokenHead
            | Cause::BlockedHeads
            | Cause::LowPressure
            | Cause::Leak => by_hand(LeverCode::Mend),
            Cause::HiddenProgram | Cause::ClockWrong | Cause::BoxOff | Cause::BypassLeft => {
                by_hand(LeverCode::SetBoxRight)
            }
            Cause::GaugeSheltered | Cause::GaugeSprayed | Cause::SensorSlowToDry => {
                by_hand(LeverCode::SensorByHand)
            }
            Cause::ExtraStart => self.starts(),
            Cause::TwoAtOnce => self.by_finding(LeverCode::Starts).unwrap_or(by_hand(LeverCode::Starts)),
            Cause::RunoffCycles => self.cycles(),
            Cause::RateWrong | Cause::PlantsWrong | Cause::SoilWrong => self.survey(),
            Cause::MinutesWrong | Cause::GrowInOver | Cause::WeanOffDue => self.minutes()?,
            Cause::PercentageStale | Cause::PercentageLow | Cause::PercentageHigh => self.percentage(),
            Cause::DaysFew | Cause::DaysMany => self.days()?,
            Cause::ThresholdSmall => self.rain_threshold()?,
            Cause::ProbeThresholdHigh | Cause::ProbeThresholdLow => self.probe_threshold()?,
            Cause::SensorOnRoofedZone | Cause::SensorIgnored => self.sensor_map(),
            Cause::EtTrim | Cause::EtClimate => self.et()?,
        })
    }

    fn settings_of(&self, code: LeverCode, (from, to): (Amount, Amount), changed: Settings) -> Option<Made> {
        let own = self.own?;
        let fits = changed.check(&own.card).is_empty() && self.settings != Some(&changed);
        let turn = if fits { Turn::Settings(own.number, Box::new(changed)) } else { Turn::ByHand };
        Some(Made { code, from, to, turn })
    }

    fn sensor_of(&self, code: LeverCode, (from, to): (Amount, Amount), changed: Sensor) -> Option<Made> {
        let own = self.own?;
        let fits = changed.setting.check(&changed.card).is_empty();
        let turn = if fits { Turn::Sensor(own.number, Box::new(changed)) } else { Turn::ByHand };
        Some(Made { code, from, to, turn })
    }

    fn sensor(&self) -> Option<&Sensor> {
        let name = self.suspicion.sensor.as_ref()?;
        self.own?.sensors.iter().map(|s| &s.sensor).find(|s| s.name == *name)
    }

    /// Settings with one station's run times multiplied, to the nearest step; with its longest before and after.
    fn scaled(&self, station: u16, factor: f64) -> Option<(Seconds, Seconds, Settings)> {
        let (own, settings) = (self.own?, self.settings?);
        let factor = factor.clamp(MOST_TURN.0, MOST_TURN.1);
        let mut changed = settings.clone();
        let (mut before, mut after) = (Seconds::ZERO, Seconds::ZERO);
        let programs = changed.programs.iter_mut().filter(|p| p.waters());
        for time in programs.flat_map(|p| &mut p.run_times).filter(|(n, t)| *n == station && t.any()) {
            let step = own.card.run_step.max(Seconds::ONE);
            let wanted = Seconds::of(time.1.minutes() * factor, f64::round);
            // To the nearest step, and never the same.
            let mut steps = (wanted + Seconds::from_s(step.s() / 2)).steps(step);
            if steps == time.1.steps(step) {
                steps += if factor > 1.0 { 1 } else { -1 };
            }
            let next = (step * steps.max(1)).min(own.card.longest_run);
            if time.1 > before {
                (before, after) = (time.1, next);
            }
            time.1 = next;
        }
        before.any().then_some((before, after, changed))
    }

    /// One zone's minutes: to what it asks for.
    fn minutes(&self) -> Option<Made> {
        let station = self.suspicion.station?;
        let shown = self.suspicion.for_it.iter().find_map(|e| match e {
            Evidence::BoxShowsMinutes { shown, known } => Some((*shown, *known)),
            _ => None,
        });
        if let Some((shown, known)) = shown {
            let amounts = (Amount::Minutes(shown), Amount::Minutes(known));
            return Some(Made {
                code: LeverCode::ZoneMinutes,
                from: amounts.0,
                to: amounts.1,
                turn: Turn::ByHand,
            });
        }
        let zone = self.picture.zones.iter().find(|z| {
            Some(z.zone.number) == self.suspicion.station
                && Some(z.zone.box_number) == self.suspicion.box_number
        })?;
        let gets = zone.gets.filter(|g| *g > 0.0)?;
        let (before, after, changed) = self.scaled(station, 1.0 / gets)?;
        self.settings_of(LeverCode::ZoneMinutes, (Amount::Minutes(before), Amount::Minutes(after)), changed)
    }

    /// The survey is off: minutes by what the meter says, else by a small step, and measure.
    fn survey(&self) -> Made {
        let measure = || by_hand(LeverCode::Survey);
        let Some(station) = self.suspicion.station else { return measure() };
        let key = (self.suspicion.box_number.unwrap_or(0), station);
        let Some(zone) = self.picture.zones.iter().find(|z| z.key() == key) else { return measure() };
        let looks = zone.looks().unwrap_or(Looks::Right);
        let by_meter = zone.flow_ratio().filter(|r| self.suspicion.cause == Cause::RateWrong && *r > 0.0);
        let by_looks = match looks {
            Looks::Dry => 1.0 + STEP_SHARE,
            Looks::Wet => 1.0 - STEP_SHARE,
            Looks::Right => return measure(),
        };
        let scaled = self.scaled(station, by_meter.map_or(by_looks, |ratio| 1.0 / ratio));
        let made = scaled.and_then(|(before, after, changed)| {
            let amounts = (Amount::Minutes(before), Amount::Minutes(after));
            self.settings_of(LeverCode::ZoneMinutes, amounts, changed)
        });
        made.unwrap_or_else(measure)
    }

    /// The action that the checks offer, tried by them.
    fn by_finding(&self, code: LeverCode) -> Option<Made> {
        let (there, settings) = (self.there.as_ref()?, self.settings?);
        let fits = |kind: &FindingKind, place: FindingPlace| match self.suspicion.cause {
            Cause::TwoAtOnce => {
                matches!(kind, FindingKind::SupplyExceeded { .. } | FindingKind::Queues { .. })
            }
            Cause::ExtraStart => matches!(kind, FindingKind::RepeatedStarts { .. }),
            Cause::RunoffCycles => {
                matches!(kind, FindingKind::CycleTooLong { .. })
                    && matches!(place, FindingPlace::Station(n) if Some(n) == self.suspicion.station)
            }
            _ => false,
        };
        let found = check(there, settings, self.picture.date);
        let remedy = found.into_iter().filter(|f| fits(&f.kind, f.place)).find_map(|f| f.remedy)?;
        self.settings_of(code, (Amount::None, Amount::None), remedy.apply(there, settings))
    }

    fn cycles(&self) -> Made {
        let made = self.by_finding(LeverCode::Cycles);
        let longest = self.suspicion.station.and_then(|n| self.there.as_ref()?.zone(n)?.longest_cycle());
        let set = self.suspicion.for_it.iter().find_map(|e| match e {
            Evidence::Cycle { set, .. } => Some(*set),
            _ => None,
        });
        let mut made = made.unwrap_or(by_hand(LeverCode::Cycles));
        if let (Some(set), Some(longest)) = (set, longest) {
            (made.from, made.to) = (Amount::Cycle(set), Amount::Cycle(longest));
        }
        made
    }

    fn starts(&self) -> Made {
        let counts = self.suspicion.for_it.iter().find_map(|e| match e {
            Evidence::Starts { shown, known, .. } => Some((*shown, *known)),
            _ => None,
        });
        let by_box = self.suspicion.for_it.iter().any(|e| {
            matches!(e, Evidence::Starts { program, known, .. }
            if self.settings.and_then(|s| s.programs.get(*program)).is_some_and(|p| p.starts.len() == *known))
        });
        let mut made = match by_box {
            true => by_hand(LeverCode::SetBoxRight),
            false => self.by_finding(LeverCode::Starts).unwrap_or(by_hand(LeverCode::Starts)),
        };
        if let Some((shown, known)) = counts {
            (made.from, made.to) = (Amount::Starts(shown), Amount::Starts(known));
        }
        made
    }

    fn percentage(&self) -> Made {
        let shown = self.suspicion.for_it.iter().find_map(|e| match e {
            Evidence::BoxShowsPercentage { shown, known } => Some((*shown, *known)),
            _ => None,
        });
        if let Some((shown, known)) = shown {
            let (from, to) = (Amount::Percentage(shown), Amount::Percentage(known));
            return Made { code: LeverCode::SetBoxRight, from, to, turn: Turn::ByHand };
        }
        let made = || {
            let (there, settings) = (self.there.as_ref()?, self.settings?);
            let SoundBase { base, .. } = sound_base(there, settings, self.picture.date, Measure::default());
            let changed =
                with_week(settings, &week(&base, &self.picture.facts.climate, self.picture.date), None);
            let longest =
                self.picture.boxes.iter().find(|b| Some(b.facts.number) == self.suspicion.box_number)?;
            let program = settings
                .programs
                .iter()
                .enumerate()
                .filter(|(_, p)| p.waters())
                .max_by_key(|(_, p)| p.run_times.iter().map(|(_, t)| t.s()).sum::<i64>())?;
            let (from, to) = (longest.percentage?, changed.percentages.of(program.0, self.picture.date));
            self.settings_of(
                LeverCode::Percentage,
                (Amount::Percentage(from), Amount::Percentage(to)),
                changed,
            )
        };
        made().unwrap_or(by_hand(LeverCode::Percentage))
    }

    /// A day more or fewer for every program that waters.
    fn days(&self) -> Option<Made> {
        let settings = self.settings?;
        let more = self.suspicion.cause == Cause::DaysFew;
        let main = settings.programs.iter().filter(|p| p.waters());
        let main = main.max_by_key(|p| p.run_times.iter().map(|(_, t)| t.s()).sum::<i64>())?;
        let mut changed = settings.clone();
        for program in changed.programs.iter_mut().filter(|p| p.waters()) {
            program.days = another_day(program.days, more, self.picture.date);
        }
        let to = another_day(main.days, more, self.picture.date);
        self.settings_of(LeverCode::Days, (Amount::Days(main.days), Amount::Days(to)), changed)
    }

    fn rain_threshold(&self) -> Option<Made> {
        let mut sensor = self.sensor()?.clone();
        let before = sensor.setting.rain_threshold;
        let steps = steps(&sensor.card);
        let near = |a: &&Millimetres, b: &&Millimetres| {
            let off = |mm: &Millimetres| (mm.mm() - COMMON_RAIN_THRESHOLD.mm()).abs();
            off(a).total_cmp(&off(b))
        };
        let after = steps.iter().min_by(near).copied().unwrap_or(COMMON_RAIN_THRESHOLD);
        sensor.setting.rain_threshold = after;
        self.sensor_of(LeverCode::RainThreshold, (Amount::Depth(before), Amount::Depth(after)), sensor)
    }

    fn probe_threshold(&self) -> Option<Made> {
        let mut sensor = self.sensor()?.clone();
        let before = sensor.setting.soil_threshold_pct?;
        let lower = self.suspicion.cause == Cause::ProbeThresholdHigh;
        let after = before + if lower { -SOIL_STEP } else { SOIL_STEP };
        sensor.setting.soil_threshold_pct = Some(after);
        self.sensor_of(LeverCode::ProbeThreshold, (Amount::SoilPct(before), Amount::SoilPct(after)), sensor)
    }

    /// One zone listens to a sensor, or does not.
    fn sensor_map(&self) -> Made {
        let holds = self.suspicion.cause == Cause::SensorIgnored;
        let amounts = (Amount::Holds(!holds), Amount::Holds(holds));
        let service = || by_hand(LeverCode::SensorByHand);
        let Some(station) = self.suspicion.station else { return service() };
        let made = || {
            let (own, sensor, settings) = (self.own?, self.sensor()?, self.settings?);
            if sensor.card.is_contact() {
                let mut changed = settings.clone();
                changed.update_station(station, |s| s.ignores_sensors = !holds);
                if own.card.sensor_override && changed != *settings {
                    return self.settings_of(LeverCode::SensorMap, amounts, changed);
                }
            }
            let mut sensor = sensor.clone();
            sensor.map.stations.insert(station, holds);
            self.sensor_of(LeverCode::SensorMap, amounts, sensor)
        };
        made().unwrap_or_else(service)
    }

    /// Trim first, climate setting second.
    fn et(&self) -> Option<Made> {
        let own = self.own?;
        let nights = read(self.picture.facts, own, self.picture.visit)?;
        let mut sensor = et_sensor(own)?.sensor.clone();
        if self.suspicion.cause == Cause::EtTrim {
            let (before, after) = (sensor.setting.et_trim_pct, nights.trim_needed(&sensor.setting));
            sensor.setting.et_trim_pct = after;
            return self.sensor_of(
                LeverCode::EtTrim,
                (Amount::TrimPct(before), Amount::TrimPct(after)),
                sensor,
            );
        }
        let before = sensor.setting.et_full;
        // In tenths of a millimetre, as such sensors are set.
        let after = Millimetres::from_mm((before.mm() * nights.ratio * 10.0).round() / 10.0);
        sensor.setting.et_full = after;
        self.sensor_of(LeverCode::EtFull, (Amount::Depth(before), Amount::Depth(after)), sensor)
    }
}

/// The same days with one more a week, or one fewer, as far apart as they can be.
fn another_day(days: Days, more: bool, today: Date) -> Days {
    match days {
        Days::EveryNth { interval, first } => {
            let interval = if more { interval.saturating_sub(1).max(1) } else { interval.saturating_add(1) };
            Days::EveryNth { interval, first: first.max(today) }
        }
        Days::Odd | Days::Even if more => Days::Weekdays([true; 7]),
        Days::Odd | Days::Even => Days::Weekdays(spread(3)),
        Days::Weekdays(on) => {
            let count = on.iter().filter(|d| **d).count();
            let wanted = if more { count + 1 } else { count.saturating_sub(1).max(1) };
            Days::Weekdays(spread(wanted))
        }
    }
}

/// So many days of a week, spread evenly from Monday.
fn spread(count: usize) -> [bool; 7] {
    let count = count.clamp(1, 7);
    let mut week = [false; 7];
    for k in 0..count {
        if let Some(day) = week.get_mut(k * 7 / count) {
            *day = true;
        }
    }
    week
}

/// The facts of a site with a lever turned from an instant on.
#[must_use]
pub fn turned(facts: &Facts, lever: &Lever, at: jiff::Timestamp) -> Facts {
    let mut facts = facts.clone();
    match &lever.turn {
        Turn::ByHand => {}
        Turn::Settings(number, settings) => {
            if let Some(own) = facts.boxes.iter_mut().find(|b| b.number == *number) {
                own.versions.retain(|(since, _)| *since < at);
                own.versions.push((at, (**settings).clone()));
            }
        }
        Turn::Sensor(number, sensor) => {
            if let Some(own) = facts.boxes.iter_mut().find(|b| b.number == *number) {
                for hung in own.sensors.iter_mut().filter(|s| s.sensor.name == sensor.name) {
                    hung.sensor = (**sensor).clone();
                }
            }
        }
    }
    facts
}

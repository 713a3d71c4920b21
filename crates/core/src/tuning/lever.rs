//! Adjustments: one change for each likely cause, in the steps of the controller, and what not to touch.

use super::Diagnosis;
use super::cause::{Cause, Evidence, Suspicion};
use super::days::{another_day, at_interval, days_a_week};
use super::lever_kind::{Amount, Lever, LeverCode, ProgramPercentage, Turn};
use super::nights::{et_sensor, read};
use super::picture::{ControllerPicture, Picture, ZonePicture};
use super::visit::{Looks, Visit};
use crate::account::running::ControllerFacts;
use crate::account::site_account::{AccountInputs, SiteAccount};
use crate::advice::budget::{Measure, week_of_demand, with_week};
use crate::advice::findings::{Checked, FindingKind, FindingPlace};
use crate::advice::rain_replay::steps;
use crate::controller::schedule::{Percentages, Settings};
use crate::installation::Installation;
use crate::quantity::time::Seconds;
use crate::quantity::units::Millimetres;
use crate::sensors::{COMMON_RAIN_THRESHOLD, Sensor};
use crate::site::StationId;
use crate::sound::{SoundBase, sound_base};
use core::cell::OnceCell;
use jiff::ToSpan;
use jiff::civil::Date;

/// Most that a run time is turned at once when nothing says how much (common practice: 10 to 20 %).
pub(super) const STEP_SHARE: f64 = 0.15;
/// Most and least that a run time is multiplied by at one visit (our stated bounds: plants follow slowly).
const MOST_TURN: (f64, f64) = (0.5, 2.0);
/// A soil threshold is moved by this much, percent by volume (common practice: half a point to one).
const SOIL_STEP: f64 = 1.0;
/// Days after a corrected fault, a trim or a threshold until it shows.
const SOON_DAYS: i32 = 7;
/// Days after another change until it shows (common practice: one to two weeks).
const LATER_DAYS: i32 = 14;

/// The adjustments of a diagnosis, in the order in which to make them. Only the first that concerns a zone is offered: one
/// thing at a time, then look again (common practice).
#[must_use]
pub fn levers(facts: &AccountInputs, account: &SiteAccount, visit: &Visit, found: &Diagnosis) -> Vec<Lever> {
    let picture = Picture::of(facts, account, visit);
    let checks: Vec<ControllerChecks<'_>> = picture.controllers.iter().map(ControllerChecks::of).collect();
    let chosen = found.chosen.iter().filter_map(|at| found.causes.get(*at));
    let all: Vec<Lever> = chosen.filter_map(|suspicion| of(&picture, &checks, suspicion)).collect();
    // While something is broken or left over, what is seen of the zones it reaches says nothing of their settings.
    let repaired = |lever: &Lever| lever.turn == Turn::ByHand && lever.cause.is_fault();
    let waits = |lever: &Lever| {
        let mut faults = all.iter().filter(|other| repaired(other) && !repaired(lever));
        faults.any(|fault| match (fault.controller_number, fault.station) {
            (None, _) => true,
            (number, None) => number == lever.controller_number,
            (number, station) => number == lever.controller_number && station == lever.station,
        })
    };
    all.iter().filter(|lever| !waits(lever)).cloned().collect()
}

/// A small change to try where a zone looks dry and by the account should not, until its rate, plants and soil are
/// measured. It is no answer: it is offered beside the measurement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TrialChange {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its station.
    pub station: u16,
    /// Its longest run time as set.
    pub from: Seconds,
    /// The same to try: a step of 15 % more.
    pub to: Seconds,
}

/// The changes to try at zones that look dry, should not, and whose cause nobody can tell yet.
pub(super) fn trials(
    facts: &AccountInputs,
    account: &SiteAccount,
    visit: &Visit,
    found: &Diagnosis,
) -> Vec<TrialChange> {
    let picture = Picture::of(facts, account, visit);
    let checks: Vec<ControllerChecks<'_>> = picture.controllers.iter().map(ControllerChecks::of).collect();
    let chosen = || found.chosen.iter().filter_map(|at| found.causes.get(*at));
    let open = found.contradictions.iter().filter(|c| {
        c.seen == Looks::Dry
            && !chosen().any(|s| s.explains.contains(&StationId::new(c.controller_number, c.station)))
    });
    open.filter_map(|c| {
        let of_zone =
            |s: &&Suspicion| (s.controller_number, s.station) == (Some(c.controller_number), Some(c.station));
        let suspicion = found.causes.iter().find(of_zone)?;
        let (from, to, _) = Making::new(&picture, &checks, suspicion).scaled(c.station, 1.0 + STEP_SHARE)?;
        Some(TrialChange { controller_number: c.controller_number, station: c.station, from, to })
    })
    .collect()
}

/// A controller with what its checks find, made once however many adjustments ask.
struct ControllerChecks<'p> {
    own: &'p ControllerPicture<'p>,
    checked: OnceCell<Checked<'p>>,
}

impl<'p> ControllerChecks<'p> {
    fn of(own: &'p ControllerPicture<'p>) -> Self {
        Self { own, checked: OnceCell::new() }
    }

    fn checked(&self, settings: &'p Settings, from: Date) -> &Checked<'p> {
        self.checked.get_or_init(|| Checked::of(&self.own.there, settings, from))
    }
}

/// Everything that an adjustment is made of.
struct Making<'p, 'a> {
    picture: &'p Picture<'a>,
    suspicion: &'p Suspicion,
    checks: Option<&'p ControllerChecks<'p>>,
    own: Option<&'a ControllerFacts>,
    settings: Option<&'a Settings>,
    there: Option<&'p Installation>,
}

fn of<'p>(
    picture: &'p Picture<'_>,
    checks: &'p [ControllerChecks<'p>],
    suspicion: &'p Suspicion,
) -> Option<Lever> {
    let number = suspicion.controller_number;
    let made = Making::new(picture, checks, suspicion).made()?;
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
        controller_number: number,
        station: suspicion.station,
        sensor: suspicion.sensor.clone(),
        program: made.program.or(suspicion.program),
        percentages: made.percentages,
        from: made.from,
        to: made.to,
        turn: made.turn,
        leave,
        look_again: picture.date.checked_add(days.days()).unwrap_or(picture.date),
    })
}

/// Other zones of a controller that do not look wrong.
fn right(picture: &Picture<'_>, number: u8, station: u16) -> Vec<u16> {
    let others = picture.of_controller(number).filter(|z| z.zone.number != station);
    others.filter(|z| z.looks().unwrap_or(z.expected) == Looks::Right).map(|z| z.zone.number).collect()
}

struct Made {
    code: LeverCode,
    from: Amount,
    to: Amount,
    turn: Turn,
    program: Option<usize>,
    percentages: Vec<ProgramPercentage>,
}

impl Made {
    fn new(code: LeverCode, from: Amount, to: Amount, turn: Turn) -> Self {
        Self { code, from, to, turn, program: None, percentages: Vec::new() }
    }

    fn of_program(self, program: usize) -> Self {
        Self { program: Some(program), ..self }
    }
}

fn by_hand(code: LeverCode) -> Made {
    Made::new(code, Amount::None, Amount::None, Turn::ByHand)
}

impl<'p, 'a> Making<'p, 'a> {
    fn new(picture: &'p Picture<'a>, checks: &'p [ControllerChecks<'p>], suspicion: &'p Suspicion) -> Self {
        let checks = checks.iter().find(|c| Some(c.own.facts.number) == suspicion.controller_number);
        let own = suspicion.controller_number.and_then(|n| picture.facts.of_controller(n));
        Self {
            picture,
            suspicion,
            own,
            settings: own.and_then(|b| b.settings_at(picture.visit.at)),
            there: checks.map(|c| &c.own.there),
            checks,
        }
    }

    fn made(&self) -> Option<Made> {
        Some(match self.suspicion.cause {
            Cause::NothingWrong => return None,
            Cause::NoWater
            | Cause::ValveOpen
            | Cause::BrokenHead
            | Cause::BlockedHeads
            | Cause::LowPressure
            | Cause::Leak => by_hand(LeverCode::Mend),
            Cause::HiddenProgram | Cause::ClockWrong | Cause::ControllerOff | Cause::BypassLeft => {
                by_hand(LeverCode::SetControllerRight)
            }
            Cause::GaugeSheltered | Cause::GaugeSprayed | Cause::SensorSlowToDry => {
                by_hand(LeverCode::SensorByHand)
            }
            Cause::ExtraStart => self.starts(),
            Cause::TwoAtOnce => self.by_finding(LeverCode::Starts).unwrap_or(by_hand(LeverCode::Starts)),
            Cause::RunoffCycles => self.cycles(),
            Cause::SoilWrong => self.soil().unwrap_or_else(|| self.survey()),
            Cause::RateWrong | Cause::PlantsWrong => self.survey(),
            Cause::MinutesWrong | Cause::GrowInOver | Cause::WeanOffDue => self.minutes()?,
            Cause::PercentageStale | Cause::PercentageLow | Cause::PercentageHigh => self.percentage()?,
            Cause::DaysFew | Cause::DaysMany => self.days()?,
            Cause::ThresholdSmall => self.rain_threshold()?,
            Cause::ProbeThresholdHigh | Cause::ProbeThresholdLow => self.probe_threshold()?,
            Cause::SensorOnRoofedZone | Cause::SensorIgnored => self.sensor_map(),
            Cause::EtTrim | Cause::EtClimate => self.et()?,
        })
    }

    fn settings_of(&self, code: LeverCode, from: Amount, to: Amount, changed: Settings) -> Option<Made> {
        let own = self.own?;
        // What is set already is no adjustment.
        if self.settings == Some(&changed) {
            return None;
        }
        let fits = changed.check(&own.card).is_empty();
        let turn = if fits { Turn::Settings(own.number, Box::new(changed)) } else { Turn::ByHand };
        Some(Made::new(code, from, to, turn))
    }

    fn sensor_of(&self, code: LeverCode, from: Amount, to: Amount, changed: Sensor) -> Option<Made> {
        let own = self.own?;
        let fits = changed.setting.check(&changed.card).is_empty();
        let turn = if fits { Turn::Sensor(own.number, Box::new(changed)) } else { Turn::ByHand };
        Some(Made::new(code, from, to, turn))
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
            Evidence::ControllerShowsMinutes { shown, known } => Some((*shown, *known)),
            _ => None,
        });
        if let Some((shown, known)) = shown {
            let amounts = (Amount::Minutes(shown), Amount::Minutes(known));
            return Some(Made::new(LeverCode::ZoneMinutes, amounts.0, amounts.1, Turn::ByHand));
        }
        let zone = self.picture.zones.iter().find(|z| {
            Some(z.zone.number) == self.suspicion.station
                && Some(z.zone.controller_number) == self.suspicion.controller_number
        })?;
        let gets = zone.gets.filter(|g| *g > 0.0)?;
        let (before, after, changed) = self.scaled(station, 1.0 / gets)?;
        self.settings_of(LeverCode::ZoneMinutes, Amount::Minutes(before), Amount::Minutes(after), changed)
    }

    /// The survey is off: minutes by what the meter says, else by a small step, and measure.
    fn survey(&self) -> Made {
        let measure = || by_hand(LeverCode::Survey);
        let Some(station) = self.suspicion.station else { return measure() };
        let key = StationId::new(self.suspicion.controller_number.unwrap_or(0), station);
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
            self.settings_of(LeverCode::ZoneMinutes, amounts.0, amounts.1, changed)
        });
        made.unwrap_or_else(measure)
    }

    /// The action that the checks offer, tried by them.
    fn by_finding(&self, code: LeverCode) -> Option<Made> {
        let (there, settings) = (self.there?, self.settings?);
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
        let checked = self.checks?.checked(settings, self.picture.date);
        let mut found = checked.findings().iter().filter(|f| fits(&f.kind, f.place));
        let remedy = found.find_map(|f| checked.remedy(f))?;
        self.settings_of(code, Amount::None, Amount::None, remedy.apply(there, settings))
    }

    fn cycles(&self) -> Made {
        let made = self.by_finding(LeverCode::Cycles);
        let longest = self.suspicion.station.and_then(|n| self.there?.zone(n)?.longest_cycle());
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
        let by_controller = self.suspicion.for_it.iter().any(|e| {
            matches!(e, Evidence::Starts { program, known, .. }
            if self.settings.and_then(|s| s.programs.get(*program)).is_some_and(|p| p.starts.len() == *known))
        });
        let mut made = match by_controller {
            true => by_hand(LeverCode::SetControllerRight),
            false => self.by_finding(LeverCode::Starts).unwrap_or(by_hand(LeverCode::Starts)),
        };
        if let Some((shown, known)) = counts {
            (made.from, made.to) = (Amount::Starts(shown), Amount::Starts(known));
        }
        made
    }

    /// The percentages of the season, without the rain of the last days: rain comes off by a hold, and last week's is no
    /// reason for the next month's.
    fn percentage(&self) -> Option<Made> {
        let shown = self.suspicion.for_it.iter().find_map(|e| match e {
            Evidence::ControllerShowsPercentage { shown, known } => Some((*shown, *known)),
            _ => None,
        });
        if let Some((shown, known)) = shown {
            let amounts = (Amount::Percentage(shown), Amount::Percentage(known));
            return Some(Made::new(LeverCode::SetControllerRight, amounts.0, amounts.1, Turn::ByHand));
        }
        let (there, settings, date) = (self.there?, self.settings?, self.picture.date);
        let SoundBase { base, .. } = sound_base(there, settings, date, Measure::default());
        let advised = with_week(settings, &week_of_demand(&base, &self.picture.facts.climate, date), None);
        let by_program = matches!(settings.percentages, Percentages::Program(_));
        let of = |p: usize| ProgramPercentage {
            program: by_program.then_some(p),
            from: settings.percentages.of(p, date),
            to: advised.percentages.of(p, date),
        };
        // Of a program alone where only its zones are off.
        let own = self.suspicion.program.filter(|_| by_program);
        let programs = settings.programs.iter().enumerate().filter(|(_, p)| p.waters()).map(|(p, _)| p);
        let mut changes: Vec<ProgramPercentage> =
            programs.filter(|p| own.is_none_or(|own| own == *p)).map(of).filter(|c| c.from != c.to).collect();
        if !by_program {
            changes.truncate(1);
        }
        let first = *changes.first()?;
        let mut changed = settings.clone();
        match (&mut changed.percentages, &advised.percentages, own) {
            (Percentages::Program(values), Percentages::Program(to), Some(program)) => {
                if let (Some(value), Some(to)) = (values.get_mut(program), to.get(program)) {
                    *value = *to;
                }
            }
            (values, to, _) => *values = to.clone(),
        }
        let amounts = (Amount::Percentage(first.from), Amount::Percentage(first.to));
        let made = self.settings_of(LeverCode::Percentage, amounts.0, amounts.1, changed)?;
        Some(Made { percentages: changes, ..made })
    }

    /// A day more or fewer for the program that is off, or for each that waters. Where the amount would do and comes too
    /// seldom for the soil, it is spread over as many days as the soil asks for.
    fn days(&self) -> Option<Made> {
        let settings = self.settings?;
        let more = self.suspicion.cause == Cause::DaysFew;
        let own = |at: usize| self.suspicion.program.is_none_or(|own| own == at);
        let main = settings.programs.iter().enumerate().filter(|(at, p)| p.waters() && own(*at));
        let (at, main) = main.max_by_key(|(_, p)| p.run_times.iter().map(|(_, t)| t.s()).sum::<i64>())?;
        let seldom = self.suspicion.for_it.iter().find_map(|e| match e {
            Evidence::Gap { refill, .. } if more => Some(*refill),
            _ => None,
        });
        let short = self.suspicion.for_it.iter().any(|e| {
            matches!(e, Evidence::AllGet(share) | Evidence::ProgramGets { share, .. } if share.fraction() < 1.0)
        });
        if let Some(refill) = seldom.filter(|_| !short) {
            return self.spread_over(at, refill);
        }
        let mut changed = settings.clone();
        for (at, program) in changed.programs.iter_mut().enumerate().filter(|(_, p)| p.waters()) {
            if own(at) {
                program.days = another_day(program.days, more, self.picture.date);
            }
        }
        let to = another_day(main.days, more, self.picture.date);
        let made = self.settings_of(LeverCode::Days, Amount::Days(main.days), Amount::Days(to), changed)?;
        Some(made.of_program(at))
    }

    /// The same water of a program on more days, so that no wait is longer than the days to the refill point.
    fn spread_over(&self, at: usize, refill_days: f64) -> Option<Made> {
        let (own, settings) = (self.own?, self.settings?);
        let program = settings.programs.get(at)?;
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "clamped to a week")]
        let interval = refill_days.floor().clamp(1.0, 7.0) as u8;
        let to = at_interval(program.days, interval, self.picture.date)?;
        let share = days_a_week(program.days) / days_a_week(to);
        let mut changed = settings.clone();
        let spread = changed.programs.get_mut(at)?;
        spread.days = to;
        let step = own.card.run_step.max(Seconds::ONE);
        for (_, time) in spread.run_times.iter_mut().filter(|(_, t)| t.any()) {
            let wanted = Seconds::of(time.minutes() * share, f64::round);
            *time = step * (wanted + Seconds::from_s(step.s() / 2)).steps(step).max(1);
        }
        let made =
            self.settings_of(LeverCode::Days, Amount::Days(program.days), Amount::Days(to), changed)?;
        Some(made.of_program(at))
    }

    /// A soil that holds less than was surveyed asks for shorter waits, not for more water.
    fn soil(&self) -> Option<Made> {
        let station = self.suspicion.station?;
        let found = self.suspicion.for_it.iter().find_map(|e| match e {
            Evidence::SoilFound { found, surveyed } => {
                (found.available_mm_per_m() < surveyed.available_mm_per_m()).then_some(*found)
            }
            _ => None,
        })?;
        let own = |z: &&ZonePicture<'_>| {
            z.zone.number == station && Some(z.zone.controller_number) == self.suspicion.controller_number
        };
        let zone = self.picture.zones.iter().find(own)?;
        let [program] = zone.programs.as_slice() else { return None };
        let less = found.available_mm_per_m() / zone.zone.soil.available_mm_per_m();
        self.spread_over(*program, zone.refill_days * less)
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
        self.sensor_of(LeverCode::RainThreshold, Amount::Depth(before), Amount::Depth(after), sensor)
    }

    fn probe_threshold(&self) -> Option<Made> {
        let mut sensor = self.sensor()?.clone();
        let before = sensor.setting.soil_threshold_pct?;
        let lower = self.suspicion.cause == Cause::ProbeThresholdHigh;
        let after = before + if lower { -SOIL_STEP } else { SOIL_STEP };
        sensor.setting.soil_threshold_pct = Some(after);
        self.sensor_of(LeverCode::ProbeThreshold, Amount::SoilPct(before), Amount::SoilPct(after), sensor)
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
                    return self.settings_of(LeverCode::SensorMap, amounts.0, amounts.1, changed);
                }
            }
            let mut sensor = sensor.clone();
            sensor.map.stations.insert(station, holds);
            self.sensor_of(LeverCode::SensorMap, amounts.0, amounts.1, sensor)
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
                Amount::TrimPct(before),
                Amount::TrimPct(after),
                sensor,
            );
        }
        let before = sensor.setting.et_full;
        // In tenths of a millimetre, as such sensors are set.
        let after = Millimetres::from_mm((before.mm() * nights.ratio * 10.0).round() / 10.0);
        sensor.setting.et_full = after;
        self.sensor_of(LeverCode::EtFull, Amount::Depth(before), Amount::Depth(after), sensor)
    }
}

/// The facts of a site with an adjustment turned from an instant on.
#[must_use]
pub fn turned(facts: &AccountInputs, lever: &Lever, at: jiff::Timestamp) -> AccountInputs {
    let mut facts = facts.clone();
    match &lever.turn {
        Turn::ByHand => {}
        Turn::Settings(number, settings) => {
            if let Some(own) = facts.controllers.iter_mut().find(|b| b.number == *number) {
                own.versions.retain(|(since, _)| *since < at);
                own.versions.push((at, (**settings).clone()));
            }
        }
        Turn::Sensor(number, sensor) => {
            if let Some(own) = facts.controllers.iter_mut().find(|b| b.number == *number) {
                for hung in own.sensors.iter_mut().filter(|s| s.sensor.name == sensor.name) {
                    hung.sensor = (**sensor).clone();
                }
            }
        }
    }
    facts
}

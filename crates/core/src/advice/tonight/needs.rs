//! What a zone needs tonight, and because of what.

use super::verdict::{Verdict, Will};
use crate::account::evidence::Evidence;
use crate::account::nights::{Barred, ZoneNight};
use crate::account::zone::{AccountDay, ZoneState, is_due};
use crate::controller::night::{Keying, NightPlan, Shortfall};
use crate::ground::application::{self, Cycles};
use crate::ground::balance::RootZone;
use crate::quantity::ratio::Share;
use crate::quantity::units::{Litres, LitresPerMinute, Millimetres, Minutes};
use crate::site::{ResolvedZone, Zone};
use crate::weather::climate::Climate;
use jiff::civil::Date;

/// Rain below this is not named as a reason, mm.
const NOTABLE_RAIN_MM: f64 = 2.0;
/// Days back in which rain is named as a reason.
const NOTABLE_RAIN_DAYS: i32 = 10;
/// Furthest that the next watering is looked for, days.
const LOOK_AHEAD_DAYS: i32 = 60;

/// How the state of the soil is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StateFrom {
    /// From the record.
    Record,
    /// No weather at all up to this day: expected demand and no rain are used.
    Expected,
}

/// The reason of a decision, as facts.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Because {
    /// The refill point was passed by this much.
    PastRefill {
        /// Depletion beyond the refill point.
        by: Millimetres,
    },
    /// There is less left above the refill point than tomorrow is expected to take.
    ReachesRefillTomorrow {
        /// Left above the refill point.
        left: Millimetres,
        /// Expected demand of tomorrow.
        expected: Millimetres,
    },
    /// Enough is left.
    AboveRefill {
        /// Left above the refill point.
        left: Millimetres,
        /// Latest notable rain that reached the zone.
        rain: Option<(Date, Millimetres)>,
        /// Date of the latest watering and how it is known, when it came after that rain.
        watered: Option<(Date, Evidence)>,
        /// Night on which it is expected to be due without more rain.
        next: Option<Date>,
    },
    /// The deficit is too small to be worth a start.
    NothingToRefill,
}

/// What becomes of a zone tonight.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Decision {
    /// It runs in full.
    Runs,
    /// It runs, but less than it needs.
    RunsShort {
        /// Minutes it would need.
        asked_minutes: u32,
    },
    /// It runs, but an ordinance allows fewer minutes a date than it needs.
    RunsLawful {
        /// Minutes it would need.
        asked_minutes: u32,
    },
    /// It is due, but the window is full.
    Deferred,
    /// It is due, and something forbids it.
    Barred(Barred),
    /// It is not due.
    Waits,
}

/// A watering of a zone from a given depletion to full.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Refill {
    /// Net depth.
    pub net: Millimetres,
    /// Gross depth: net × run-time multiplier.
    pub gross: Millimetres,
    /// Run time before rounding.
    pub run_time: Minutes,
    /// As the controller takes it.
    pub cycles: Cycles,
}

/// Refills a zone from a depletion.
#[must_use]
pub fn refill(zone: &ResolvedZone, net: Millimetres) -> Refill {
    let run_time = application::run_time(net, zone.rate.value, zone.multiplier);
    Refill {
        net,
        gross: net * zone.multiplier,
        run_time,
        cycles: application::cycles(run_time, zone.cycle_limit),
    }
}

/// One zone tonight.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneTonight {
    /// The survey.
    pub zone: Zone,
    /// The survey with its defaults.
    pub resolved: ResolvedZone,
    /// The day whose evening is meant.
    pub date: Date,
    /// The soil store of that day.
    pub root_zone: RootZone,
    /// How the state is known.
    pub state_from: StateFrom,
    /// Depletion this evening.
    pub depletion: Millimetres,
    /// Depletion after tonight's watering.
    pub depletion_after: Millimetres,
    /// The last two days of its account, oldest first.
    pub days: Vec<AccountDay>,
    /// Whether it is due, whatever forbids it.
    pub due: bool,
    /// Its night: what is open, what forbids the rest.
    pub night: ZoneNight,
    /// Demand of tomorrow, K × expected ET0.
    pub expected_demand: Millimetres,
    /// What becomes of it.
    pub decision: Decision,
    /// Why.
    pub because: Because,
    /// What it would take to bring it back to full from where it is.
    pub refill: Refill,
    /// The watering from its refill point to full: what a sheet in the controller says.
    pub refill_from_refill_point: Refill,
    /// Nights between two such waterings at tomorrow's demand.
    pub interval_days: f64,
    /// What it gets tonight, cycles as laid out; `None` when it does not run.
    pub cycles: Option<Cycles>,
    /// Water for tonight, if the area is known.
    pub volume: Option<Litres>,
    /// Flow of the zone, if the area is known.
    pub flow: Option<LitresPerMinute>,
    /// Share of run time that better uniformity would save, when mending is the advice.
    pub repair_saving: Option<Share>,
    /// What the controller will do; `None` when its settings are not known or it computes them itself.
    pub will: Option<Will>,
    /// Whether that is right.
    pub verdict: Option<Verdict>,
}

impl ZoneTonight {
    /// The cycles that bring it back to full, as far as an ordinance allows minutes for them.
    pub(super) fn lawful_cycles(&self) -> Cycles {
        let most = self.night.most_minutes.map_or(u32::MAX, u32::from);
        self.refill.cycles.at_most(most)
    }
}

/// Where a zone stands this evening.
pub(super) struct Standing<'a> {
    /// The days of its account.
    pub days: &'a [AccountDay],
    /// Its state; `None` without an account, as if full.
    pub state: Option<ZoneState>,
    /// Its night.
    pub night: ZoneNight,
}

pub(super) fn decide_zone(
    zone: &Zone,
    resolved: &ResolvedZone,
    climate: &Climate,
    date: Date,
    standing: &Standing<'_>,
) -> ZoneTonight {
    let root_zone = resolved.root_zone_on(date);
    let raw = root_zone.readily_available();
    let tomorrow = date.tomorrow().unwrap_or(date);
    let expected_demand = climate.expected_et0(tomorrow).0 * resolved.demand_factor_on(tomorrow);
    let recorded = climate.span().is_some_and(|span| span.first <= date);
    let state_from = if recorded { StateFrom::Record } else { StateFrom::Expected };
    let state = standing.state.unwrap_or_default();
    // A grow-in that has begun makes the store smaller: no more can be missing than it holds.
    let depletion = state.depletion.min(root_zone.total_available);
    let soil = Soil { raw, depletion, expected_demand };
    let next = || next_due(resolved, climate, date, depletion);
    let (decision, because) = decide(&root_zone, soil, standing.days, next);
    let due = decision == Decision::Runs;
    let decision = match standing.night.barred {
        Some(barred) if due => Decision::Barred(barred),
        _ => decision,
    };
    let interval_days =
        if expected_demand.mm() > 0.0 { raw.mm() / expected_demand.mm() } else { f64::INFINITY };
    let uniformity = resolved.uniformity;
    let repair_saving = (!uniformity.is_default() && uniformity.value < application::REPAIR_BELOW_UNIFORMITY)
        .then(|| {
            let corrected = application::run_time_multiplier(zone.head.default_uniformity());
            Share::from_fraction(1.0 - corrected / resolved.multiplier)
        });
    ZoneTonight {
        refill: refill(resolved, depletion),
        refill_from_refill_point: refill(resolved, raw),
        zone: zone.clone(),
        date,
        root_zone,
        state_from,
        depletion,
        depletion_after: depletion,
        days: standing.days.iter().rev().take(2).rev().copied().collect(),
        due,
        night: standing.night,
        expected_demand,
        decision,
        because,
        interval_days,
        cycles: None,
        volume: None,
        flow: zone.area.map(|area| resolved.rate.value.flow_over(area)),
        repair_saving,
        will: None,
        verdict: None,
        resolved: resolved.clone(),
    }
}

/// What a decision rests on: readily available water, what is missing, and what the morrow will take.
#[derive(Clone, Copy)]
struct Soil {
    raw: Millimetres,
    depletion: Millimetres,
    expected_demand: Millimetres,
}

/// Whether a zone runs, and because of what.
fn decide(
    root_zone: &RootZone,
    soil: Soil,
    days: &[AccountDay],
    next: impl FnOnce() -> Option<Date>,
) -> (Decision, Because) {
    let Soil { raw, depletion, expected_demand } = soil;
    if is_due(root_zone, depletion, expected_demand) {
        let because = if depletion >= raw {
            Because::PastRefill { by: depletion - raw }
        } else {
            Because::ReachesRefillTomorrow { left: raw - depletion, expected: expected_demand }
        };
        return (Decision::Runs, because);
    }
    if depletion + expected_demand >= raw {
        return (Decision::Waits, Because::NothingToRefill);
    }
    let lately = || days.iter().rev().take(usize::try_from(NOTABLE_RAIN_DAYS).unwrap_or_default());
    let rain = lately().find(|d| d.water.rain_in.mm() >= NOTABLE_RAIN_MM);
    let rain = rain.map(|d| (d.date, d.water.rain_in));
    let watered = lately()
        .find(|d| d.water.applied_in > Millimetres::ZERO)
        .map(|d| (d.date, d.evidence))
        .filter(|(on, _)| rain.is_none_or(|(wet, _)| *on > wet));
    (Decision::Waits, Because::AboveRefill { left: raw - depletion, rain, watered, next: next() })
}

/// The next night on which a zone is expected to be due without more rain.
fn next_due(zone: &ResolvedZone, climate: &Climate, date: Date, depletion: Millimetres) -> Option<Date> {
    let mut depletion = depletion;
    let mut day = date;
    for _ in 0..LOOK_AHEAD_DAYS {
        day = day.tomorrow().ok()?;
        depletion = depletion + climate.expected_et0_as_of(day, date).0 * zone.demand_factor_on(day);
        let after = day.tomorrow().ok()?;
        let following = climate.expected_et0_as_of(after, date).0 * zone.demand_factor_on(after);
        if is_due(&zone.root_zone_on(day), depletion, following) {
            return Some(day);
        }
    }
    None
}

/// Takes over what the night could hold.
pub(super) fn apply_night(row: &mut ZoneTonight, night: &NightPlan, keying: &Keying) {
    row.refill.cycles = keying.keyed(row.refill.cycles);
    row.refill_from_refill_point.cycles = keying.keyed(row.refill_from_refill_point.cycles);
    let number = row.zone.number;
    let runs: Vec<_> = night.layout.runs.iter().filter(|r| r.number == number).collect();
    if let Some(first) = runs.first() {
        let cycles = Cycles {
            count: u32::try_from(runs.len()).unwrap_or(u32::MAX),
            minutes_each: first.minutes,
            soak_minutes: if runs.len() > 1 { row.refill.cycles.soak_minutes } else { 0 },
        };
        let applied = Minutes::from_min(f64::from(cycles.total_minutes()));
        let gross = row.resolved.rate.value.over_time(applied);
        let net = gross * (1.0 / row.resolved.multiplier);
        row.depletion_after = (row.depletion - net).max(Millimetres::ZERO);
        row.volume = row.zone.area.map(|area| gross.over(area));
        row.cycles = Some(cycles);
    }
    let lawful = row.lawful_cycles();
    if row.decision == Decision::Runs && lawful != row.refill.cycles {
        row.decision = Decision::RunsLawful { asked_minutes: row.refill.cycles.total_minutes() };
    }
    match night.shortfalls.iter().find(|(n, _)| *n == number) {
        Some((_, Shortfall::Deferred)) => row.decision = Decision::Deferred,
        Some((_, Shortfall::Cut { asked_minutes })) => {
            row.decision = Decision::RunsShort { asked_minutes: *asked_minutes };
        }
        None => {}
    }
}

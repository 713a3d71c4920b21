//! The best settable percentages of one month or week.

use super::{Base, Column, NO_NEED_MM};
use crate::quantity::ratio::Percentage;

/// Combinations of coupled slots that are tried through; beyond, the search goes step by step.
const MOST_COMBINATIONS: usize = 60_000;
/// The order of a sum may round it so much.
const BOUND_ROUNDING: f64 = 1e-9;
/// Rounds of the stepwise search.
const MOST_ROUNDS: usize = 40;

/// What was found for a column.
pub(super) struct Found {
    /// By slot; `None` when it turns nothing that needs water or runs.
    pub percents: Vec<Option<Percentage>>,
    /// Whether every combination was tried.
    pub exhaustive: bool,
}

/// A shortage of all of a peak need counts so many times as much more as one that is hardly any, squared (our stated
/// weight: plants that dried out are not watered back).
const DEEP: f64 = 3.0;
/// Too much counts the less the more it is already, and never as more than so many peak needs (our stated bound).
const DROWNED: f64 = 3.0;

/// The error of a zone as a share of its peak need, below nought where it is short: the heavier the deeper. So a bed
/// that wants next to nothing does not outvote the lawn whose percentage it shares. Without any need 1 mm stands for the
/// peak.
pub(super) fn relative(given: f64, need: f64, peak: f64) -> f64 {
    let peak = if peak > NO_NEED_MM { peak } else { 1.0 };
    if given < need {
        let short = (need - given) / peak;
        -short * (1.0 + DEEP * short).sqrt()
    } else if given <= peak {
        (given - need) / peak
    } else {
        DROWNED * (given - need) / (given + (DROWNED - 1.0) * peak)
    }
}

/// Sum of squared errors of a column.
pub(super) fn error(base: &Base, column: &Column, peak: &[f64], percents: &[Percentage]) -> f64 {
    base.given(column, percents)
        .iter()
        .zip(&column.need)
        .zip(peak)
        .map(|((given, need), peak)| relative(*given, *need, *peak).powi(2))
        .sum()
}

/// Slots that share a zone must be chosen together; the others each by itself.
fn groups(base: &Base, column: &Column) -> Vec<Vec<usize>> {
    let mut group: Vec<usize> = (0..base.slots.len()).collect();
    for programs in &column.events {
        let mut slots = programs
            .iter()
            .enumerate()
            .filter(|(_, events)| **events > 0.0)
            .filter_map(|(program, _)| base.slot_of(program));
        let Some(first) = slots.next() else { continue };
        for other in slots {
            let (a, b) =
                (group.get(first).copied().unwrap_or(first), group.get(other).copied().unwrap_or(other));
            for g in &mut group {
                if *g == b {
                    *g = a;
                }
            }
        }
    }
    (0..base.slots.len())
        .filter_map(|g| {
            let members: Vec<usize> = (0..base.slots.len()).filter(|k| group.get(*k) == Some(&g)).collect();
            (!members.is_empty()).then_some(members)
        })
        .collect()
}

/// Squared error of the zones of a group for each choice, looked up by zone, program and choice.
struct Tables {
    /// Per zone: need, peak and, per member slot, what each choice brings a day.
    zones: Vec<(f64, f64, Vec<Vec<f64>>)>,
}

impl Tables {
    fn new(base: &Base, column: &Column, peak: &[f64], members: &[usize], choices: &[Percentage]) -> Self {
        let zones = (0..base.zones.len())
            .filter_map(|place| {
                let events = column.events.get(place)?;
                let by_slot: Vec<Vec<f64>> = members
                    .iter()
                    .map(|slot| {
                        choices
                            .iter()
                            .map(|percent| {
                                events
                                    .iter()
                                    .enumerate()
                                    .filter(|(program, e)| **e > 0.0 && base.slot_of(*program) == Some(*slot))
                                    .map(|(program, e)| e * base.net_of_event(place, program, *percent))
                                    .sum()
                            })
                            .collect()
                    })
                    .collect();
                let runs = by_slot.iter().flatten().any(|g| *g > 0.0);
                runs.then(|| {
                    (
                        column.need.get(place).copied().unwrap_or_default(),
                        peak.get(place).copied().unwrap_or_default(),
                        by_slot,
                    )
                })
            })
            .collect();
        Self { zones }
    }

    fn error(&self, picks: &[usize]) -> f64 {
        self.error_below(picks, f64::INFINITY).unwrap_or(f64::INFINITY)
    }

    /// The error, unless it reaches a bound: then the rest of the zones is not looked at.
    fn error_below(&self, picks: &[usize], bound: f64) -> Option<f64> {
        let mut sum = 0.0;
        for (need, peak, by_slot) in &self.zones {
            let given: f64 = by_slot.iter().zip(picks).filter_map(|(g, pick)| g.get(*pick)).sum();
            sum += relative(given, *need, *peak).powi(2);
            if sum >= bound {
                return None;
            }
        }
        Some(sum)
    }
}

/// The best percentages of a column: of equal errors the lowest percentages.
pub(super) fn best(base: &Base, column: &Column, peak: &[f64]) -> Found {
    let choices: Vec<Percentage> = base.installation.card.percentages().collect();
    let mut percents = vec![None; base.slots.len()];
    let mut exhaustive = true;
    for members in groups(base, column) {
        let tables = Tables::new(base, column, peak, &members, &choices);
        if tables.zones.iter().all(|(need, _, _)| *need <= NO_NEED_MM) {
            continue;
        }
        let combinations = choices.len().checked_pow(u32::try_from(members.len()).unwrap_or(u32::MAX));
        let picks = if combinations.is_some_and(|n| n <= MOST_COMBINATIONS) {
            all_through(&tables, members.len(), choices.len())
        } else {
            exhaustive = false;
            step_by_step(&tables, members.len(), choices.len())
        };
        for (slot, pick) in members.iter().zip(picks) {
            if let Some(slot) = percents.get_mut(*slot) {
                *slot = choices.get(pick).copied();
            }
        }
    }
    Found { percents, exhaustive }
}

fn all_through(tables: &Tables, slots: usize, choices: usize) -> Vec<usize> {
    let mut picks = vec![0; slots];
    // What the stepwise search finds bounds what is worth adding up; the first that is as good is still found.
    let bound = tables.error(&step_by_step(tables, slots, choices));
    let (mut least, mut found) = (bound * (1.0 + BOUND_ROUNDING) + f64::MIN_POSITIVE, picks.clone());
    loop {
        if let Some(error) = tables.error_below(&picks, least) {
            found.clone_from(&picks);
            least = error;
        }
        let mut at = 0;
        loop {
            let Some(pick) = picks.get_mut(at) else { return found };
            *pick += 1;
            if *pick < choices {
                break;
            }
            *pick = 0;
            at += 1;
        }
    }
}

/// One slot after the other, each searched through, until none changes.
fn step_by_step(tables: &Tables, slots: usize, choices: usize) -> Vec<usize> {
    let mut picks = vec![choices / 2; slots];
    let mut least = tables.error(&picks);
    for _ in 0..MOST_ROUNDS {
        let before = least;
        for slot in 0..slots {
            for pick in 0..choices {
                let mut tried = picks.clone();
                if let Some(slot) = tried.get_mut(slot) {
                    *slot = pick;
                }
                let error = tables.error(&tried);
                if error < least {
                    (least, picks) = (error, tried);
                }
            }
        }
        if least >= before {
            break;
        }
    }
    picks
}

//! The best settable percentages of one month or week.

use super::measure::{Measure, ZoneNeed};
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

/// What a column costs by the base's measure.
pub(super) fn cost(base: &Base, column: &Column, percents: &[Percentage]) -> f64 {
    let given = base.given(column, percents);
    given.iter().zip(&column.zones).map(|(given, zone)| zone.cost(base.measure, *given)).sum()
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

/// A zone of a group.
struct ZoneTable {
    zone: ZoneNeed,
    /// By member slot and choice, what it brings a day, mm.
    brings: Vec<Vec<f64>>,
}

/// What the zones of a group cost for each choice, looked up by zone, slot and choice.
struct Tables {
    measure: Measure,
    zones: Vec<ZoneTable>,
}

impl Tables {
    fn new(base: &Base, column: &Column, members: &[usize], choices: &[Percentage]) -> Self {
        let zones = (0..base.zones.len())
            .filter_map(|place| {
                let events = column.events.get(place)?;
                let brings: Vec<Vec<f64>> = members
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
                let runs = brings.iter().flatten().any(|g| *g > 0.0);
                let zone = *column.zones.get(place)?;
                runs.then_some(ZoneTable { zone, brings })
            })
            .collect();
        Self { measure: base.measure, zones }
    }

    fn cost(&self, picks: &[usize]) -> f64 {
        self.cost_below(picks, f64::INFINITY).unwrap_or(f64::INFINITY)
    }

    /// The cost, unless it reaches a bound: then the rest of the zones is not looked at.
    fn cost_below(&self, picks: &[usize], bound: f64) -> Option<f64> {
        let mut sum = 0.0;
        for ZoneTable { zone, brings } in &self.zones {
            let given: f64 = brings.iter().zip(picks).filter_map(|(g, pick)| g.get(*pick)).sum();
            sum += zone.cost(self.measure, given);
            if sum >= bound {
                return None;
            }
        }
        Some(sum)
    }
}

/// The percentages of a column that cost least: of equal ones the lowest.
pub(super) fn best(base: &Base, column: &Column) -> Found {
    let choices: Vec<Percentage> = base.installation.card.percentages().collect();
    let mut percents = vec![None; base.slots.len()];
    let mut exhaustive = true;
    for members in groups(base, column) {
        let tables = Tables::new(base, column, &members, &choices);
        if tables.zones.iter().all(|own| own.zone.need_mm <= NO_NEED_MM) {
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
    let bound = tables.cost(&step_by_step(tables, slots, choices));
    let (mut least, mut found) = (bound * (1.0 + BOUND_ROUNDING) + f64::MIN_POSITIVE, picks.clone());
    loop {
        if let Some(cost) = tables.cost_below(&picks, least) {
            found.clone_from(&picks);
            least = cost;
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
    let mut least = tables.cost(&picks);
    for _ in 0..MOST_ROUNDS {
        let before = least;
        for slot in 0..slots {
            for pick in 0..choices {
                let mut tried = picks.clone();
                if let Some(slot) = tried.get_mut(slot) {
                    *slot = pick;
                }
                let cost = tables.cost(&tried);
                if cost < least {
                    (least, picks) = (cost, tried);
                }
            }
        }
        if least >= before {
            break;
        }
    }
    picks
}

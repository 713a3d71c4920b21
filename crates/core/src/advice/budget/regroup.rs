//! What lessens the error that one percentage leaves: another base run time for a zone, or another
//! program. A proposal is offered only when the budget was worked out again with it and is better.

use super::{Base, Budget, NO_NEED_MM, Need, Outcome, RainRule, budget};
use crate::advice::FaultCount;
use crate::controller::schedule::Settings;
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::time::Seconds;
use crate::quantity::units::{Millimetres, Minutes};
use jiff::civil::Date;

/// A proposal must lower the cost by this share at least, or it is not worth a visit.
const WORTHWHILE: f64 = 0.02;
/// Most moves of one regrouping.
const MOST_MOVES: usize = 6;

/// One change of a zone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Move {
    /// Another base run time in its program.
    BaseTime {
        /// The program.
        program: usize,
        /// The station.
        station: u16,
        /// Run time now.
        from: Seconds,
        /// Run time then.
        to: Seconds,
    },
    /// Into another program, with a run time that fits its days.
    Program {
        /// The station.
        station: u16,
        /// The program it leaves.
        from: usize,
        /// The program it joins.
        to: usize,
        /// Run time there.
        run_time: Seconds,
    },
}

impl Move {
    fn apply(self, settings: &mut Settings) {
        match self {
            Self::BaseTime { program, station, to, .. } => settings.set_run_time(program, station, to),
            Self::Program { station, from, to, run_time } => {
                settings.set_run_time(from, station, Seconds::ZERO);
                settings.set_run_time(to, station, run_time);
            }
        }
    }
}

/// What lessens the error.
#[derive(Debug, Clone, PartialEq)]
pub struct Improvement {
    /// The changes.
    pub moves: Vec<Move>,
    /// The settings with them done and the best percentages of the month set.
    pub settings: Settings,
    /// What the best percentages leave now.
    pub before: Outcome,
    /// The same then, under the best percentages of then.
    pub after: Outcome,
}

/// Proposals for a controller: base run times alone, and base run times with regrouping where that does better; best first. `from` says the
/// month whose percentages are set. `faults` counts the faults and warnings that the checks find in settings of
/// the controller: a proposal has no more of them than the settings have now.
#[must_use]
pub fn improvements(
    base: &Base,
    needs: &[Need],
    rain: RainRule,
    from: Date,
    faults: impl Fn(&Settings) -> FaultCount,
) -> Vec<Improvement> {
    let (settings, year) = (base.settings, from.year());
    let card = &base.installation.card;
    let of = |s: &Settings| budget(&base.with_settings(s, year), needs, rain);
    let now = of(settings);
    let faults_now = faults(settings);
    let mut out = Vec::new();
    for regroup in [false, true] {
        let mut tried = settings.clone();
        let mut moves = Vec::new();
        if regroup {
            regroup_zones(base, &mut tried, needs, &mut moves, year);
        }
        rebase(base, &mut tried, needs, &mut moves, year);
        if moves.is_empty() || (regroup && !moves.iter().any(|m| matches!(m, Move::Program { .. }))) {
            continue;
        }
        let then = of(&tried);
        // Base minutes and percentage belong together: longer minutes at the old percentage would
        // drown everybody until the next visit.
        let tried = super::with_best(&tried, &then, Month::of(from));
        let (before, after) = (now.outcome, then.outcome);
        let better = after.cost < before.cost * (1.0 - WORTHWHILE) && after.cost < before.cost - 1e-6;
        // Moving zones is the longer work: it is proposed where base minutes alone do not do as well.
        let simpler = out.first().map_or(f64::INFINITY, |alone: &Improvement| alone.after.cost);
        let better = better && after.cost < simpler * (1.0 - WORTHWHILE);
        if better && tried.check(card).is_empty() && faults(&tried).no_worse_than(faults_now) {
            out.push(Improvement { moves, settings: tried, before, after });
        }
    }
    out.sort_by(|a, b| a.after.cost.total_cmp(&b.after.cost));
    out
}

/// Need of a zone a day by month, mm.
fn need_of(needs: &[Need], station: u16) -> Option<ByMonth<f64>> {
    needs.iter().find(|n| n.station == station).map(|n| n.net_a_day.map(Millimetres::mm))
}

fn peak(need: &ByMonth<f64>) -> f64 {
    need.iter().copied().fold(0.0, f64::max)
}

/// The season of a zone as shares of its peak: what one percentage has to follow.
fn shape(need: &ByMonth<f64>) -> ByMonth<f64> {
    let peak = peak(need);
    need.map(|n| if peak > NO_NEED_MM { n / peak } else { 0.0 })
}

/// Sets each zone's run time so that its program's percentage means the same for all: its peak need
/// is met at the same percentage as the others'.
fn rebase(like: &Base, settings: &mut Settings, needs: &[Need], moves: &mut Vec<Move>, year: i16) {
    let base_settings = settings.clone();
    let base = like.with_settings(&base_settings, year);
    let now = budget(&base, needs, RainRule::default());
    for (place, zone) in now.zones.iter().enumerate() {
        let [program] = zone.programs.as_slice() else { continue };
        let Some(best) = best_run_time(&base, &now, place, *program, needs) else { continue };
        let from = settings.run_time(*program, zone.station);
        if best != from {
            // A zone that was moved just now gets its run time in the same move.
            let moved = moves.iter_mut().find_map(|m| match m {
                Move::Program { station, run_time, .. } if *station == zone.station => Some(run_time),
                _ => None,
            });
            match moved {
                Some(slot) => *slot = best,
                None => {
                    moves.push(Move::BaseTime { program: *program, station: zone.station, from, to: best });
                }
            }
            settings.set_run_time(*program, zone.station, best);
        }
    }
}

/// The settable run time that makes a zone's squared error least under the percentages of its
/// program. Without the controller's rounding the error is a parabola in the run time, so its lowest
/// settable point lies beside the turning point.
fn best_run_time(base: &Base, now: &Budget, place: usize, program: usize, needs: &[Need]) -> Option<Seconds> {
    let zone = base.zone(place)?;
    let station = zone.zone.number;
    let need = need_of(needs, station)?;
    let card = &base.installation.card;
    let slot = base.slot_of(program)?;
    let months = base.events.get(place)?.get(program)?;
    // Depth a day of one second of base run time, by month.
    let per_second = zone.net_of(Minutes::from_min(1.0 / 60.0)).mm();
    let (mut up, mut down) = (0.0, 0.0);
    for (month, events) in months.months() {
        let need = need.of(month);
        let Some(percent) = now.best.of(month).get(slot).copied().flatten() else { continue };
        let gain = events * per_second * percent.factor();
        up += gain * need;
        down += gain * gain;
    }
    if down <= 0.0 {
        return None;
    }
    let step = card.run_step.max(Seconds::ONE);
    #[allow(clippy::cast_precision_loss, reason = "an hour at most")]
    let whole = |seconds: f64| (seconds / step.s() as f64).round() * step.s() as f64;
    let best = Seconds::of(Minutes::from_min(up / down / 60.0), whole);
    Some(best.clamp(step, card.longest_run))
}

/// Moves zones into the program whose season is most like theirs, worst first, as long as it helps.
fn regroup_zones(like: &Base, settings: &mut Settings, needs: &[Need], moves: &mut Vec<Move>, year: i16) {
    let mut moved: Vec<u16> = Vec::new();
    for _ in 0..MOST_MOVES {
        let best = {
            let base = like.with_settings(settings, year);
            if base.slots.len() < 2 {
                return;
            }
            best_program(&base, settings, needs, &moved)
        };
        let Some(step) = best else { return };
        step.apply(settings);
        moves.push(step);
        moved.extend(match step {
            Move::Program { station, .. } => Some(station),
            Move::BaseTime { .. } => None,
        });
    }
}

/// How far the season of a station lies from the mean of a program's others; `None` when it has none.
fn distance(settings: &Settings, needs: &[Need], program: usize, station: u16) -> Option<f64> {
    let own = shape(&need_of(needs, station)?);
    let others: Vec<ByMonth<f64>> = settings
        .programs
        .get(program)
        .into_iter()
        .flat_map(|p| &p.run_times)
        .filter(|(n, s)| *n != station && s.any())
        .filter_map(|(n, _)| need_of(needs, *n).map(|need| shape(&need)))
        .collect();
    #[allow(clippy::cast_precision_loss, reason = "zones of a program")]
    let count = others.len() as f64;
    let apart = |month: Month| {
        let mean = others.iter().map(|other| other.of(month)).sum::<f64>() / count;
        (own.of(month) - mean).powi(2)
    };
    (!others.is_empty()).then(|| Month::ALL.into_iter().map(apart).sum())
}

/// The move of a zone that was not moved yet which brings its season nearest to its program's.
fn best_program(base: &Base, settings: &Settings, needs: &[Need], moved: &[u16]) -> Option<Move> {
    let mut candidates: Vec<(f64, u16, usize, usize)> = Vec::new();
    for zone in (0..base.zones.len()).filter_map(|place| base.zone(place)) {
        let station = zone.zone.number;
        let programs: Vec<usize> =
            (0..settings.programs.len()).filter(|p| settings.run_time(*p, station).any()).collect();
        let [own] = programs.as_slice() else { continue };
        if moved.contains(&station) {
            continue;
        }
        let Some(here) = distance(settings, needs, *own, station) else { continue };
        for other in 0..settings.programs.len() {
            if other == *own || !base.slots.contains(&super::PercentageSlot::Program(other)) {
                continue;
            }
            if let Some(there) = distance(settings, needs, other, station).filter(|d| *d < here) {
                candidates.push((here - there, station, *own, other));
            }
        }
    }
    candidates.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
    let (_, station, from, to) = candidates.first().copied()?;
    Some(Move::Program { station, from, to, run_time: settings.run_time(from, station) })
}

//! Twelve percentages that follow the climate's curve. Each month by itself may jump where two choices cost nearly the
//! same; a jump against the curve is kept only where it saves more than it costs here.

use super::{Base, MonthFound, NO_NEED_MM, best};
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Percentage;

/// Ten points of a jump against the curve must save this share of the two months' demand (ours).
const TEN_POINTS_SAVE: f64 = 0.01;
/// Rounds through the year.
const MOST_ROUNDS: usize = 8;

/// What jumps of one year cost: how far the percentages of neighbouring months are apart beyond what the months ask for.
struct Curve {
    /// By month and slot: the mean percentage that its zones ask for; `None` where none runs or needs water.
    asked: ByMonth<Vec<Option<f64>>>,
    /// By month: price of one point, in the measure.
    price: ByMonth<f64>,
}

impl Curve {
    fn new(base: &Base, months: &ByMonth<MonthFound>) -> Self {
        let asked = ByMonth::from_fn(|m| {
            let found = months.of(m);
            let full = found.at_full(base);
            (0..base.slots.len()).map(|slot| mean_asked(base, found, &full, slot)).collect()
        });
        let price = ByMonth::from_fn(|m| {
            let found = months.of(m);
            // In any measure: what it costs to leave everybody a hundredth short, per hundredth.
            let hundredth = |zone: &super::ZoneNeed| zone.cost(base.measure, 0.99 * zone.need_mm);
            TEN_POINTS_SAVE * 10.0 * found.column.zones.iter().map(hundredth).sum::<f64>()
        });
        Self { asked, price }
    }

    /// What the jump of a slot between two neighbouring months costs.
    fn jump(&self, slot: usize, from: (Month, Option<Percentage>), to: (Month, Option<Percentage>)) -> f64 {
        let asked = |month: Month| self.asked.of(month).get(slot).copied().flatten();
        let (Some(a), Some(b)) = (asked(from.0), asked(to.0)) else { return 0.0 };
        let (Some(p), Some(q)) = (from.1, to.1) else { return 0.0 };
        let against = (f64::from(p.percent()) - a) - (f64::from(q.percent()) - b);
        against.abs() * 0.5 * (self.price.of(from.0) + self.price.of(to.0)) * from.0.days()
    }
}

/// The mean percentage that the zones of a slot ask for, by their demand.
fn mean_asked(base: &Base, found: &MonthFound, full: &[f64], slot: usize) -> Option<f64> {
    let (mut sum, mut of) = (0.0, 0.0);
    for ((zone, full), events) in found.column.zones.iter().zip(full).zip(&found.column.events) {
        if *full > 0.0 && zone.need_mm > NO_NEED_MM && base.slots_of(events).contains(&slot) {
            let weight = zone.weight * zone.demand_mm;
            sum += weight * 100.0 * zone.need_mm / full;
            of += weight;
        }
    }
    (of > 0.0).then(|| sum / of)
}

/// Moves the percentages of each month as long as a smaller jump costs less than what the zones lose by it.
pub(super) fn smooth(base: &Base, months: &mut ByMonth<MonthFound>) {
    let choices: Vec<Percentage> = base.installation.card.percentages().collect();
    let curve = Curve::new(base, months);
    for _ in 0..MOST_ROUNDS {
        let mut changed = false;
        for month in Month::ALL {
            for slot in 0..base.slots.len() {
                let Some(better) = better(base, months, &curve, month, slot, &choices) else { continue };
                if let Some(percent) = months.of_mut(month).found.percents.get_mut(slot) {
                    *percent = Some(better);
                    changed = true;
                }
            }
        }
        if !changed {
            return;
        }
    }
}

/// The percentage of a slot in a month that makes the zones' cost and both jumps least, where it is not the present one.
fn better(
    base: &Base,
    months: &ByMonth<MonthFound>,
    curve: &Curve,
    month: Month,
    slot: usize,
    choices: &[Percentage],
) -> Option<Percentage> {
    let found = months.of(month);
    let now = found.found.percents.get(slot).copied().flatten()?;
    let of = |m: Month| (m, months.of(m).found.percents.get(slot).copied().flatten());
    let (before, after) = (of(month.previous()), of(month.next()));
    let jumps = |percent: Percentage| {
        let own = (month, Some(percent));
        curve.jump(slot, before, own) + curve.jump(slot, own, after)
    };
    if jumps(now) <= 0.0 {
        return None;
    }
    let mut percents = found.chosen();
    let mut total = |percent: Percentage| {
        if let Some(own) = percents.get_mut(slot) {
            *own = percent;
        }
        month.days() * best::cost(base, &found.column, &percents) + jumps(percent)
    };
    let stays = total(now);
    // Only between the neighbours and where it stands can it be smoother.
    let near = |p: &Percentage| {
        let ends = [before.1, after.1, Some(now)].into_iter().flatten();
        let (low, high) = (ends.clone().min().unwrap_or(now), ends.max().unwrap_or(now));
        (low..=high).contains(p)
    };
    let costs = choices.iter().copied().filter(near).map(|percent| (total(percent), percent));
    let (cost, percent) = costs.min_by(|a, b| a.0.total_cmp(&b.0))?;
    (cost < stays * (1.0 - 1e-9) - 1e-9 && percent != now).then_some(percent)
}

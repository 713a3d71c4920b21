//! The percentages of a plan by month, where the box holds twelve: a plan made in July must not water January like
//! July.

use super::Request;
use crate::controller::schedule::{Percentages, Settings};
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Percentage;

/// Less of the planned need than this is none, where the box can be set to nought.
const NEXT_TO_NOTHING: f64 = 0.03;

/// The percentage of each month: what its plants use over what the plan was made for, and never more than all of it,
/// since the night was laid out for that. Minutes that a smaller percentage would round to nothing keep the smallest
/// that does not. `None` where the box has other percentages, or programs were kept that the same percentages would
/// scale.
pub(super) fn percentages(request: &Request<'_>, settings: &Settings, kept: &[usize]) -> Option<Percentages> {
    let there = request.installation;
    let card = &there.card;
    let waters = |index: &usize| {
        settings.programs.get(*index).is_some_and(crate::controller::schedule::Program::waters)
    };
    if !matches!(settings.percentages, Percentages::Month(_)) || kept.iter().any(waters) {
        return None;
    }
    let run_times = || settings.programs.iter().filter(|p| p.waters()).flat_map(|p| &p.run_times);
    let planned = || there.zones.iter().filter(|z| run_times().any(|(n, _)| *n == z.zone.number));
    let reference: f64 = planned().map(|z| z.demand.mm()).sum();
    if reference <= 0.0 {
        return None;
    }
    let hundred = card.nearest_percentage(Percentage::HUNDRED);
    let of_month = |month: Month| {
        let et0 = there.monthly_et0.of(month).mm();
        let demand: f64 = planned().map(|z| et0 * z.resolved.landscape_coefficient_in(month)).sum();
        let share = demand / reference;
        if share >= 1.0 || month == Month::of(request.from) {
            return hundred;
        }
        if share < NEXT_TO_NOTHING && card.percentage_min == Percentage::ZERO {
            return Percentage::ZERO;
        }
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share below one")]
        let wanted = card.nearest_percentage(Percentage::from_percent((100.0 * share).round() as u16));
        let whole = |p: &Percentage| run_times().all(|(_, run_time)| card.scaled(*run_time, *p).any());
        card.percentages().filter(|p| *p >= wanted && *p > Percentage::ZERO).find(whole).unwrap_or(hundred)
    };
    Some(Percentages::Month(ByMonth::from_fn(of_month)))
}

//! The percentages of a plan by month, where the controller holds twelve: a plan made in July must not water January like
//! July.

use super::{Proposal, Request};
use crate::controller::schedule::{Percentages, Settings, expand};
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Percentage;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use std::collections::BTreeMap;

/// Less of the planned need than this is none, where the controller can be set to nought.
const NEXT_TO_NOTHING: f64 = 0.03;
/// Nights that are laid out under each percentage: every rhythm of a plan falls on several of them.
const NIGHTS: i32 = 28;

/// The percentage of each month: what its plants use over what the plan was made for, and never more than all of it,
/// since the night was laid out for that. A controller that fills the soaks of one zone with another may take longer over less
/// water: a percentage whose nights end later than the planned ones is passed over for a higher one. Minutes that a smaller percentage would round to nothing keep the smallest
/// that does not. `None` where the controller has other percentages, or programs were kept that the same percentages would
/// scale.
pub(super) fn percentages(request: &Request<'_>, proposal: &Proposal) -> Option<Percentages> {
    let (settings, kept) = (&proposal.settings, &proposal.kept);
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
    let laid_out = last_ends(request, settings, hundred);
    let mut known: BTreeMap<Percentage, bool> = BTreeMap::new();
    let of_month = |month: Month| {
        let et0 = there.monthly_et0.of(month).mm();
        let demand: f64 = planned().map(|z| et0 * z.resolved.landscape_coefficient_in(month)).sum();
        let share = demand / reference;
        if share >= 1.0 || month == proposal.month {
            return hundred;
        }
        if share < NEXT_TO_NOTHING && card.percentage_min == Percentage::ZERO {
            return Percentage::ZERO;
        }
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share below one")]
        let wanted = card.nearest_percentage(Percentage::from_percent((100.0 * share).round() as u16));
        let whole = |p: &Percentage| run_times().all(|(_, run_time)| card.scaled(*run_time, *p).any());
        // Months share percentages; each is laid out once.
        let mut within = |p: &Percentage| {
            *known.entry(*p).or_insert_with(|| {
                let nights = last_ends(request, settings, *p);
                nights.iter().all(|(night, end)| laid_out.get(night).is_some_and(|full| end <= full))
            })
        };
        card.percentages()
            .filter(|p| *p >= wanted && *p > Percentage::ZERO)
            .find(|p| whole(p) && within(p))
            .unwrap_or(hundred)
    };
    Some(Percentages::Month(ByMonth::from_fn(of_month)))
}

/// When the last run of each program and date ends under a percentage, over some nights.
fn last_ends(
    request: &Request<'_>,
    settings: &Settings,
    percentage: Percentage,
) -> BTreeMap<(usize, Date), Timestamp> {
    let there = request.installation;
    let own = Settings { percentages: settings.percentages.all_at(percentage), ..settings.clone() };
    let to = request.from.checked_add(NIGHTS.days()).unwrap_or(request.from);
    let mut ends: BTreeMap<(usize, Date), Timestamp> = BTreeMap::new();
    for run in expand(&own, &there.card, &there.tz, request.from, to) {
        let end = ends.entry((run.program, run.date)).or_insert(run.end);
        *end = run.end.max(*end);
    }
    ends
}

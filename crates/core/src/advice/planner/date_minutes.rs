//! Minutes that a law gives a date, where the nights of two dates meet in one. A run late in the evening and one after the
//! midnight before it count for the same date. On ordinary nights only one of them does; where a month's percentage begins,
//! what ran after midnight may move before it, and for one date there are both.

use super::{Proposal, Request};
use crate::controller::breaches::breaches;
use crate::controller::schedule::expand;
use crate::quantity::span::TimeSpan;
use crate::quantity::time::MINUTES_A_DAY;
use jiff::ToSpan;
use std::collections::BTreeMap;

/// How the minutes of a date are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum DateMinutes {
    /// Each night by itself.
    #[default]
    ByNight,
    /// A zone whose minutes are counted runs on one side of midnight.
    OneSide,
    /// Each night has half of them.
    Half,
}

/// Whether a law counts minutes of a date at all.
fn counts_minutes(request: &Request<'_>) -> bool {
    let rules = request.installation.law.applied.iter().flat_map(|own| &own.ordinance.rules);
    rules.into_iter().any(|rule| rule.most_minutes_a_day.is_some())
}

/// Whether a plan keeps the minutes of every date of the coming year.
pub(super) fn keeps_dates(request: &Request<'_>, proposal: &Proposal) -> bool {
    let there = request.installation;
    let hull = there.hull_minutes();
    let over_midnight = hull.from / MINUTES_A_DAY != hull.until.saturating_sub(1) / MINUTES_A_DAY;
    if !over_midnight || !counts_minutes(request) {
        return true;
    }
    let to = request.from.checked_add(1.year()).unwrap_or(request.from);
    let mut stations: BTreeMap<u16, Vec<TimeSpan>> = BTreeMap::new();
    for run in expand(&proposal.settings, &there.card, &there.tz, request.from, to) {
        stations.entry(run.station).or_default().push(TimeSpan::new(run.start, run.end));
    }
    stations
        .into_iter()
        .filter(|(station, _)| proposal.zones.iter().any(|zone| zone.station == *station))
        .all(|(station, runs)| {
            !breaches(&there.law, there.subject(station), &runs, &there.tz).contains(&true)
        })
}

//! Until when a plan holds: the first date on which what it was made for is no longer so.

use super::{Basis, Proposal, Request};
use crate::controller::breaches::breaches;
use crate::controller::schedule::{Percentages, Rest, Settings, expand};
use crate::installation::{Installation, NEED_SHARES};
use crate::quantity::month::Month;
use crate::quantity::ratio::Share;
use crate::quantity::span::TimeSpan;
use jiff::ToSpan;
use jiff::civil::Date;
use std::collections::BTreeMap;

/// Days that are looked ahead: a year.
const AHEAD_DAYS: i32 = 366;
/// Days after a change of the law over which the plan is held against it.
const LOOK_DAYS: i64 = 28;

/// What ends a plan.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Ends {
    /// A law begins to bind, a permit ends: the plan would break it.
    LawBegins {
        /// A zone that it forbids a run of.
        station: u16,
    },
    /// A law ends, or a permit begins: more is allowed than the plan uses.
    LawEases {
        /// A zone that it frees.
        station: u16,
    },
    /// The off-season begins.
    OffSeason,
    /// A grow-in or a wean-off ends.
    Planting {
        /// The zone.
        station: u16,
    },
    /// The plants of the controller use more or less than the plan gives.
    Need {
        /// Share of the need that it gives from then on.
        share: Share,
    },
}

/// The first date on which a plan no longer holds, with the reason; `None` when it holds for a year.
#[must_use]
pub fn holds_until(request: &Request<'_>, proposal: &Proposal) -> Option<(Date, Ends)> {
    let from = match request.basis {
        Basis::Month(month) => super::first_of(month, request.from).max(request.from),
        Basis::Coming | Basis::Year => request.from,
    };
    let all = [law(request, proposal, from), off_season(&proposal.settings, from), planting(request, from)];
    let need = (request.basis != Basis::Year).then(|| need(request, proposal, from)).flatten();
    all.into_iter().flatten().chain(need).min_by_key(|(date, _)| *date)
}

fn ahead(from: Date) -> impl Iterator<Item = Date> {
    (1..=AHEAD_DAYS).filter_map(move |k| from.checked_add(k.days()).ok())
}

/// The first date on which other rules bind a planned zone, and the plan breaks them or could be freer.
fn law(request: &Request<'_>, proposal: &Proposal, from: Date) -> Option<(Date, Ends)> {
    let there = request.installation;
    let planned = proposal.zones.iter().map(|z| there.subject(z.station));
    let mut kinds: Vec<_> = planned.map(|subject| (there.law.kind_of(subject), subject.station)).collect();
    kinds.sort_unstable();
    kinds.dedup_by_key(|(kind, _)| *kind);
    let mut before = from;
    for date in ahead(from) {
        let changed = kinds.iter().find(|(kind, _)| !there.law.is_alike(*kind, before, date));
        if let Some((_, station)) = changed {
            if let Some(station) = breaks(there, proposal, date) {
                return Some((date, Ends::LawBegins { station }));
            }
            // What was planned for a span that held both is not freed by one of them.
            if request.basis == Basis::Coming {
                return Some((date, Ends::LawEases { station: *station }));
            }
        }
        before = date;
    }
    None
}

/// A zone of which a law forbids a run in the weeks from a date.
fn breaks(there: &Installation, proposal: &Proposal, date: Date) -> Option<u16> {
    let to = date.checked_add(LOOK_DAYS.days()).unwrap_or(date);
    let awake = proposal.settings.awake();
    let mut runs = expand(&awake, &there.card, &there.tz, date, to);
    runs.retain(|r| proposal.zones.iter().any(|z| z.station == r.station));
    let mut by_station: BTreeMap<u16, Vec<TimeSpan>> = BTreeMap::new();
    for run in &runs {
        by_station.entry(run.station).or_default().push(TimeSpan::new(run.start, run.end));
    }
    let broken = |(station, runs): &(&u16, &Vec<_>)| {
        breaches(&there.law, there.subject(**station), runs, &there.tz).contains(&true)
    };
    by_station.iter().find(broken).map(|(station, _)| *station)
}

fn off_season(settings: &Settings, from: Date) -> Option<(Date, Ends)> {
    let off = |date: Date| settings.rests_on(date).iter().any(|r| matches!(r, Rest::OffSeason { .. }));
    let mut before = off(from);
    for date in ahead(from) {
        let now = off(date);
        if now && !before {
            return Some((date, Ends::OffSeason));
        }
        before = now;
    }
    None
}

fn planting(request: &Request<'_>, from: Date) -> Option<(Date, Ends)> {
    let ends = request.installation.zones.iter().filter_map(|zone| {
        let grow_in = zone.resolved.grow_in.filter(|g| g.holds(from)).and_then(|g| g.until.tomorrow().ok());
        let wean_off = zone.resolved.wean_off.and_then(|w| w.last_day().tomorrow().ok());
        let first = grow_in.into_iter().chain(wean_off.filter(|end| *end > from)).min()?;
        Some((first, Ends::Planting { station: zone.zone.number }))
    });
    ends.min_by_key(|(date, _)| *date)
}

/// The first month in which the plan gives its zones together a share of their need outside the bounds.
fn need(request: &Request<'_>, proposal: &Proposal, from: Date) -> Option<(Date, Ends)> {
    let there = request.installation;
    let planned =
        || there.zones.iter().filter(|z| proposal.zones.iter().any(|own| own.station == z.zone.number));
    let of_month = |month: Month| {
        let et0 = there.monthly_et0.of(month).mm();
        planned().map(|z| et0 * z.resolved.landscape_coefficient_in(month)).sum::<f64>()
    };
    let percentage = |month: Month| match &proposal.settings.percentages {
        Percentages::Month(own) => own.of(month).factor(),
        _ => 1.0,
    };
    let reference = of_month(proposal.month) / percentage(proposal.month).max(0.01);
    let mut first = from.first_of_month();
    for _ in 0..12 {
        first = first.checked_add(1.month()).ok()?;
        let month = Month::of(first);
        let (gives, needs) = (reference * percentage(month), of_month(month));
        if needs <= 0.0 && gives <= 0.0 {
            continue;
        }
        let share = Share::from_fraction(if needs > 0.0 { gives / needs } else { f64::INFINITY });
        if share < NEED_SHARES.0 || share > NEED_SHARES.1 {
            return Some((first, Ends::Need { share }));
        }
    }
    None
}

//! What would make a plan fit: each limit by itself, loosened no further than it must be.

use super::{Binding, Relax, Request, plan};
use crate::quantity::time::{MINUTES_A_DAY, MinuteOfDay};
use crate::quantity::units::LitresPerMinute;

/// Step in which an earlier opening of the window is looked for, minutes.
const WINDOW_STEP_MIN: u32 = 5;
/// Step in which a smaller share of the water is looked for, percent.
const SHARE_STEP_PCT: u8 = 5;
/// Less than half of the water is no plan for the same plants, percent left out.
const MOST_CUT_PCT: u32 = 50;
/// Most of the extra days and programs that are tried.
const MOST_EXTRA: u8 = 4;

/// One limit, loosened as little as would do.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Relaxation {
    /// What is loosened; everything else stands.
    pub relax: Relax,
    /// How much: minutes, days, percent of water left out, programs; litres a minute for a supply.
    pub by: f64,
}

/// The smallest relaxations, each by itself enough. Empty when the plan fits or nothing helps.
#[must_use]
pub fn relaxations(request: &Request<'_>) -> Vec<Relaxation> {
    let Err(binding) = plan(request) else { return Vec::new() };
    let fits = |relax: Relax| plan(&Request { relax, ..*request }).is_ok();
    let base = request.relax;
    let mut out = Vec::new();
    if let Binding::Supply { flow, supply, .. } = binding {
        let relax = Relax { supply: Some(flow), ..base };
        if fits(relax) {
            out.push(Relaxation { relax, by: flow.l_per_min() - supply.l_per_min() });
        }
        return out;
    }
    if !matches!(binding, Binding::Window { .. } | Binding::NoDay { .. } | Binding::NoProgram) {
        return out;
    }
    let installation = request.installation;
    let from = MinuteOfDay::of(base.window_from.unwrap_or(installation.windows.main.from)).minutes();
    let most = MINUTES_A_DAY - installation.windows.main.minutes() - 1;
    let earlier = |k: u32| Relax {
        window_from: Some(MinuteOfDay::after_midnight(from + MINUTES_A_DAY - k * WINDOW_STEP_MIN).time()),
        ..base
    };
    // More room never hurts, so the least that does is found by halving.
    if let Some(k) = least(1, most / WINDOW_STEP_MIN, |k| fits(earlier(k))) {
        out.push(Relaxation { relax: earlier(k), by: f64::from(k * WINDOW_STEP_MIN) });
    }
    let days = |k: u8| Relax { extra_days: base.extra_days + k, ..base };
    if let Some(k) = (1..=MOST_EXTRA).find(|k| fits(days(*k))) {
        out.push(Relaxation { relax: days(k), by: f64::from(k) });
    }
    let programs = |k: u8| Relax { extra_programs: base.extra_programs + k, ..base };
    if let Some(k) = (1..=MOST_EXTRA).find(|k| fits(programs(*k))) {
        out.push(Relaxation { relax: programs(k), by: f64::from(k) });
    }
    if let Some(relaxation) = more_supply(request, &fits) {
        out.push(relaxation);
    }
    let less = |k: u32| {
        let cut = u8::try_from(k).unwrap_or(u8::MAX).saturating_mul(SHARE_STEP_PCT);
        Relax { share_pct: Some(base.share_pct.unwrap_or(100).saturating_sub(cut)), ..base }
    };
    if let Some(k) = least(1, MOST_CUT_PCT / u32::from(SHARE_STEP_PCT), |k| fits(less(k))) {
        out.push(Relaxation { relax: less(k), by: f64::from(k) * f64::from(SHARE_STEP_PCT) });
    }
    out
}

/// Enough supply for programs to run side by side, where the controller can.
fn more_supply(request: &Request<'_>, fits: &impl Fn(Relax) -> bool) -> Option<Relaxation> {
    let installation = request.installation;
    if installation.card.overlap != crate::controller::Overlap::Concurrent {
        return None;
    }
    let supply = installation.supply?;
    let flows: Vec<f64> =
        installation.zones.iter().filter_map(|z| z.flow).map(LitresPerMinute::l_per_min).collect();
    let most = flows.iter().copied().fold(0.0, f64::max);
    (2..=3)
        .map(|n| f64::from(n) * most)
        .filter(|flow| *flow > supply.l_per_min())
        .map(|flow| (Relax { supply: Some(LitresPerMinute::from_l_per_min(flow)), ..request.relax }, flow))
        .find(|(relax, _)| fits(*relax))
        .map(|(relax, flow)| Relaxation { relax, by: flow - supply.l_per_min() })
}

/// The least number in a range for which something that stays true once it is holds.
fn least(low: u32, high: u32, holds: impl Fn(u32) -> bool) -> Option<u32> {
    if low > high || !holds(high) {
        return None;
    }
    let (mut low, mut high) = (low, high);
    while low < high {
        let middle = low + (high - low) / 2;
        if holds(middle) { high = middle } else { low = middle + 1 }
    }
    Some(low)
}

//! What no schedule can get past: the minutes that a controller must water in a week against those that its nights have. A
//! refusal that this proves says so; another is only what the search did not find.

use super::allowed_days::allowed_days;
use super::{Binding, Request};
use crate::controller::Overlap;
use crate::installation::WiredZone;
use crate::quantity::span::MinuteSpan;
use crate::quantity::units::LitresPerMinute;

/// That the window is too short for any schedule, with the least minutes of a night that each needs; `None` where that
/// is not so.
pub(super) fn proof(request: &Request<'_>, left_out: &[u16]) -> Option<Binding> {
    let (needed, have) =
        least_night(request, left_out).filter(|(needed, have)| *needed > f64::from(*have))?;
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "minutes of a night")]
    let needed_minutes = (needed.ceil() as u32).max(have + 1);
    Some(Binding::Window { needed_minutes, have_minutes: have, proved: true })
}

/// Minutes a night that the zones ask for at least, when they are spread evenly over every night that is allowed and as
/// many run at once as the supply carries; and the minutes that the widest night has.
fn least_night(request: &Request<'_>, left_out: &[u16]) -> Option<(f64, u32)> {
    let there = request.installation;
    let share = f64::from(request.relax.share_pct.unwrap_or(100)) / 100.0;
    let planned = there.zones.iter().filter(|z| z.needs_water() && !left_out.contains(&z.zone.number));
    let (mut minutes, mut nights) = (0.0, 0.0_f64);
    let mut open_spans: Vec<MinuteSpan> = Vec::new();
    let mut least_flow: Option<LitresPerMinute> = None;
    for zone in planned {
        let station = zone.zone.number;
        let subject = (there.law.kind_of(there.subject(station)), there.windows_of(station));
        let own = allowed_days(there, request.present, subject.0, subject.1, request.span(), &request.relax);
        // A controller may round each run down by half a step.
        let step =
            there.card.run_step.minutes().min_value().max(there.card.rounding_step.minutes().min_value());
        minutes += (weekly(zone, share, request) - 3.5 * step).max(0.0);
        let open = own.weekdays.iter().filter(|d| **d).count().max(usize::from(own.lawful.contains(&true)));
        // Dates by parity open every second day and no whole weekday.
        let open = if own.lawful.contains(&false) { 7 } else { open };
        nights = nights.max(f64::from(u8::try_from(open).unwrap_or(7).min(own.most)));
        open_spans.extend(&own.usable);
        least_flow = match (least_flow, zone.flow) {
            (Some(least), Some(flow)) => Some(least.min(flow)),
            (None, flow) => flow,
            (least, None) => least,
        };
    }
    let at_once = match (there.card.overlap, there.supply, least_flow) {
        (Overlap::Concurrent, Some(supply), Some(flow)) if flow.l_per_min() > 0.0 => {
            (supply.l_per_min() / flow.l_per_min()).floor().clamp(1.0, f64::from(there.card.programs))
        }
        _ => 1.0,
    };
    let room = minutes_of(open_spans);
    (nights > 0.0).then(|| (minutes / nights / at_once, room))
}

/// Minutes that lie in any of some spans.
fn minutes_of(mut spans: Vec<MinuteSpan>) -> u32 {
    spans.sort_unstable();
    let mut reached = 0;
    spans.iter().fold(0, |sum, span| {
        let own = span.until.saturating_sub(span.from.max(reached));
        reached = reached.max(span.until);
        sum + own
    })
}

/// Minutes a week that a strategy asks of a zone.
fn weekly(zone: &WiredZone, share: f64, request: &Request<'_>) -> f64 {
    let need = zone.demand * 7.0;
    let net = match request.strategy.fixed_depth() {
        Some((times, depth)) => (depth * f64::from(times)).min(need),
        None => need,
    };
    zone.minutes_for(net * share).min_value()
}

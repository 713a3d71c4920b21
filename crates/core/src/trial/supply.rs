//! What a season asks of the supply, and what it costs.

use crate::account::evidence::Watering;
use crate::quantity::time::Seconds;
use crate::quantity::units::{Litres, LitresPerMinute};
use jiff::Timestamp;
use jiff::civil::Date;
use std::collections::BTreeMap;
use std::ops::Range;

/// A price of water in steps, and of the pump that lifts it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Tariff {
    /// Cubic metres up to which each price holds, and the price of one; the last holds beyond, too. The steps are of
    /// all days tried together.
    pub steps: Vec<(f64, f64)>,
    /// The pump.
    pub pump: Option<Pump>,
}

/// A pump on electricity.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Pump {
    /// What it takes while it runs, kW.
    pub kilowatts: f64,
    /// Price of a kilowatt-hour.
    pub price: f64,
}

impl Tariff {
    /// One price of a cubic metre, whatever is used.
    #[must_use]
    pub fn plain(price: f64) -> Self {
        Self { steps: vec![(f64::INFINITY, price)], pump: None }
    }

    /// What some water costs.
    #[must_use]
    pub fn of_water(&self, water: Litres) -> f64 {
        let cubic_metres = water.l() / 1000.0;
        let (mut from, mut cost) = (0.0, 0.0);
        for (at, (until, price)) in self.steps.iter().enumerate() {
            let until = if at + 1 == self.steps.len() { f64::INFINITY } else { *until };
            cost += (cubic_metres.min(until) - from).max(0.0) * price;
            from = until;
        }
        cost
    }

    /// What some water costs that the pump ran so long for.
    #[must_use]
    pub fn cost(&self, water: Litres, pumped: Seconds) -> f64 {
        let energy =
            self.pump.map_or(0.0, |pump| pump.kilowatts * pumped.minutes().min_value() / 60.0 * pump.price);
        self.of_water(water) + energy
    }
}

/// What a season asks of the supply.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Demand {
    /// Time in which any zone is watered.
    pub running: Seconds,
    /// The most that flows at once, of the zones whose flow is known.
    pub most: LitresPerMinute,
    /// Time in which more flows than the supply gives.
    pub over: Seconds,
    /// Nights whose runs, one zone after another, are longer than the water window; only of ways that are advised: what
    /// a box is set to is laid out already.
    pub nights_too_long: u32,
}

/// The same where nobody laid the nights out yet: the zones run one after another, as on a box. `night` names the night
/// that a watering belongs to.
#[must_use]
pub fn in_turn(
    zones: &[(Option<LitresPerMinute>, &[Watering])],
    (supply, window): (Option<LitresPerMinute>, Seconds),
    span: &Range<Timestamp>,
    night: impl Fn(Timestamp) -> Date,
) -> Demand {
    let mut nights: BTreeMap<Date, Seconds> = BTreeMap::new();
    let mut out = Demand::default();
    for (flow, waterings) in zones {
        for own in waterings.iter().filter(|w| span.contains(&w.from) && w.strength > 0.0) {
            let length = Seconds::between(own.from, own.until);
            let flow = flow.unwrap_or_default();
            out.running = out.running + length;
            out.most = out.most.max(flow);
            if supply.is_some_and(|supply| flow.l_per_min() > supply.l_per_min() + ROUNDING_L_PER_MIN) {
                out.over = out.over + length;
            }
            let sum = nights.entry(night(own.from)).or_default();
            *sum = *sum + length;
        }
    }
    let too_long = nights.values().filter(|sum| **sum > window).count();
    out.nights_too_long = u32::try_from(too_long).unwrap_or(u32::MAX);
    out
}

/// Adds up what flows at each instant, of the waterings that begin in a span: each zone's flow, `None` where it is not known, and when it is watered.
#[must_use]
pub fn demand(
    zones: &[(Option<LitresPerMinute>, &[Watering])],
    supply: Option<LitresPerMinute>,
    span: &Range<Timestamp>,
) -> Demand {
    let mut changes: Vec<(Timestamp, i32, f64)> = Vec::new();
    for (flow, waterings) in zones {
        for own in waterings.iter().filter(|w| span.contains(&w.from) && w.strength > 0.0) {
            let flow = flow.map_or(0.0, |flow| flow.l_per_min()) * own.strength;
            changes.push((own.from, 1, flow));
            changes.push((own.until, -1, -flow));
        }
    }
    // What ends at an instant ends before what begins at it.
    changes.sort_by_key(|(at, by, _)| (*at, *by));
    let mut out = Demand::default();
    let (mut open, mut flow, mut before) = (0, 0.0_f64, span.start);
    let most = supply.map_or(f64::INFINITY, |supply| supply.l_per_min());
    for (at, by, change) in changes {
        let span = Seconds::between(before, at);
        if open > 0 {
            out.running = out.running + span;
        }
        if flow > most + ROUNDING_L_PER_MIN {
            out.over = out.over + span;
        }
        (open, before) = (open + by, at);
        // Nothing is left of rounding when nothing runs.
        flow = if open == 0 { 0.0 } else { flow + change };
        out.most = out.most.max(LitresPerMinute::from_l_per_min(flow));
    }
    out
}

/// Flows that differ by less are the same.
const ROUNDING_L_PER_MIN: f64 = 1e-6;

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::SignedDuration;

    fn at(minute: i64) -> Timestamp {
        Timestamp::UNIX_EPOCH + SignedDuration::from_mins(minute)
    }

    /// From a minute on.
    fn all(from: i64) -> Range<Timestamp> {
        at(from)..Timestamp::MAX
    }

    fn span(from: i64, until: i64) -> Watering {
        Watering::plain(at(from), at(until))
    }

    #[test]
    fn steps_are_paid_one_after_the_other_and_the_last_goes_on() {
        let tariff = Tariff { steps: vec![(100.0, 1.0), (200.0, 2.0)], pump: None };
        assert_eq!(tariff.of_water(Litres::from_l(50_000.0)), 50.0);
        assert_eq!(tariff.of_water(Litres::from_l(150_000.0)), 200.0);
        assert_eq!(tariff.of_water(Litres::from_l(300_000.0)), 500.0, "the last step has no end");
        assert_eq!(Tariff::plain(1.5).of_water(Litres::from_l(2_000.0)), 3.0);
        assert_eq!(Tariff::default().of_water(Litres::from_l(2_000.0)), 0.0);
    }

    #[test]
    fn a_pump_costs_its_kilowatts_for_the_time_it_runs() {
        let tariff = Tariff { pump: Some(Pump { kilowatts: 4.0, price: 0.25 }), ..Tariff::plain(2.0) };
        let cost = tariff.cost(Litres::from_l(1_000.0), Seconds::from_min(90));
        assert!((cost - (2.0 + 4.0 * 1.5 * 0.25)).abs() < 1e-12);
    }

    #[test]
    fn time_counts_once_and_flows_add_up_while_zones_run_together() {
        let l = |l| Some(LitresPerMinute::from_l_per_min(l));
        let zones: [(_, &[Watering]); 3] =
            [(l(30.0), &[span(0, 10), span(60, 70)]), (l(20.0), &[span(5, 15)]), (None, &[span(15, 20)])];
        let found = demand(&zones, l(45.0), &all(0));
        assert_eq!(found.running, Seconds::from_min(30));
        assert_eq!(found.most.l_per_min(), 50.0);
        assert_eq!(found.over, Seconds::from_min(5));
        // One that ends when the other begins is no sum.
        let after: [(_, &[Watering]); 2] = [(l(30.0), &[span(0, 10)]), (l(20.0), &[span(10, 15)])];
        assert_eq!(demand(&after, l(45.0), &all(0)).over, Seconds::ZERO);
        assert_eq!(demand(&after, l(45.0), &all(5)).running, Seconds::from_min(5), "from an instant on");
        assert_eq!(demand(&[], None, &all(0)), Demand::default());
    }

    #[test]
    fn zones_that_nobody_laid_out_run_in_turn_and_a_night_may_be_too_long() {
        let l = |l| Some(LitresPerMinute::from_l_per_min(l));
        let zones: [(_, &[Watering]); 2] =
            [(l(30.0), &[span(0, 40), span(1440, 1460)]), (l(50.0), &[span(0, 30), span(1440, 1470)])];
        let night = |at: Timestamp| at.to_zoned(jiff::tz::TimeZone::UTC).date();
        let found = in_turn(&zones, (l(45.0), Seconds::from_min(60)), &all(0), night);
        assert_eq!(found.running, Seconds::from_min(120), "never at once");
        assert_eq!((found.most.l_per_min(), found.over), (50.0, Seconds::from_min(60)));
        assert_eq!(found.nights_too_long, 1, "70 min do not fit an hour, 50 do");
    }
}

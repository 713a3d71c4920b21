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
    /// Cubic metres up to which each price holds, and the price of one; the last holds beyond, too. The steps begin
    /// anew with each bill.
    pub steps: Vec<(f64, f64)>,
    /// What a bill is of.
    pub bill: Bill,
    /// The pump.
    pub pump: Option<Pump>,
}

/// The days that one bill is of, by the calendar; the steps of a price begin anew with each.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Bill {
    /// A month (common practice, and our default).
    #[default]
    Month,
    /// Two months, from January.
    TwoMonths,
    /// A quarter of the year.
    Quarter,
    /// A year.
    Year,
    /// All days tried together.
    AllDays,
}

impl Bill {
    /// The first day of the bill that a date is on.
    #[must_use]
    pub fn begins(self, date: Date) -> Date {
        let months = match self {
            Self::Month => 1,
            Self::TwoMonths => 2,
            Self::Quarter => 3,
            Self::Year => 12,
            Self::AllDays => return Date::MIN,
        };
        let month = date.month() - (date.month() - 1) % months;
        Date::new(date.year(), month, 1).unwrap_or(date)
    }

    /// Words for lists, as the end of "steps of".
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Month => "each month",
            Self::TwoMonths => "each two months",
            Self::Quarter => "each quarter",
            Self::Year => "each year",
            Self::AllDays => "all days together",
        }
    }
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
        Self { steps: vec![(f64::INFINITY, price)], ..Self::default() }
    }

    /// What the water of one bill costs.
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

    /// What the water of some days costs, bill by bill, that the pump ran so long for.
    #[must_use]
    pub fn cost(&self, by_day: &BTreeMap<Date, Litres>, pumped: Seconds) -> f64 {
        let energy =
            self.pump.map_or(0.0, |pump| pump.kilowatts * pumped.minutes().min_value() / 60.0 * pump.price);
        let mut bills: BTreeMap<Date, Litres> = BTreeMap::new();
        for (date, water) in by_day {
            let bill = bills.entry(self.bill.begins(*date)).or_insert(Litres::ZERO);
            *bill = *bill + *water;
        }
        bills.values().map(|water| self.of_water(*water)).sum::<f64>() + energy
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
    /// a controller is set to is laid out already.
    pub nights_too_long: u32,
}

/// The same where nobody laid the nights out yet: the zones run one after another, as on a controller. `night` names the night
/// that a watering belongs to.
#[must_use]
pub fn in_turn(
    zones: &[(Option<LitresPerMinute>, &[Watering])],
    supply: Option<LitresPerMinute>,
    window: Seconds,
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
    use jiff::civil::date;

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
    fn sentence_9_steps_of_a_price_begin_anew_with_each_bill() {
        // 90 m³ on the first of each month of three years: up to 100 m³ at 1, beyond at 2.
        let months = (2024..2027).flat_map(|year| (1..=12).map(move |month| date(year, month, 1)));
        let water: BTreeMap<Date, Litres> = months.map(|on| (on, Litres::from_l(90_000.0))).collect();
        let cost = |bill| {
            let tariff = Tariff { steps: vec![(100.0, 1.0), (f64::INFINITY, 2.0)], pump: None, bill };
            tariff.cost(&water, Seconds::ZERO)
        };
        assert_eq!(cost(Bill::Month), 36.0 * 90.0);
        assert_eq!(cost(Bill::TwoMonths), 18.0 * (100.0 + 80.0 * 2.0));
        assert_eq!(cost(Bill::Quarter), 12.0 * (100.0 + 170.0 * 2.0));
        assert_eq!(cost(Bill::Year), 3.0 * (100.0 + 980.0 * 2.0));
        assert_eq!(cost(Bill::AllDays), 100.0 + 3140.0 * 2.0);
        assert_eq!(Bill::TwoMonths.begins(date(2026, 12, 31)), date(2026, 11, 1));
        assert_eq!(Bill::Quarter.begins(date(2026, 2, 28)), date(2026, 1, 1));
    }

    #[test]
    fn steps_are_paid_one_after_the_other_and_the_last_goes_on() {
        let tariff = Tariff { steps: vec![(100.0, 1.0), (200.0, 2.0)], ..Tariff::default() };
        assert_eq!(tariff.of_water(Litres::from_l(50_000.0)), 50.0);
        assert_eq!(tariff.of_water(Litres::from_l(150_000.0)), 200.0);
        assert_eq!(tariff.of_water(Litres::from_l(300_000.0)), 500.0, "the last step has no end");
        assert_eq!(Tariff::plain(1.5).of_water(Litres::from_l(2_000.0)), 3.0);
        assert_eq!(Tariff::default().of_water(Litres::from_l(2_000.0)), 0.0);
    }

    #[test]
    fn a_pump_costs_its_kilowatts_for_the_time_it_runs() {
        let tariff = Tariff { pump: Some(Pump { kilowatts: 4.0, price: 0.25 }), ..Tariff::plain(2.0) };
        let water = [(date(2026, 7, 1), Litres::from_l(1_000.0))].into();
        let cost = tariff.cost(&water, Seconds::from_min(90));
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
        let found = in_turn(&zones, l(45.0), Seconds::from_min(60), &all(0), night);
        assert_eq!(found.running, Seconds::from_min(120), "never at once");
        assert_eq!((found.most.l_per_min(), found.over), (50.0, Seconds::from_min(60)));
        assert_eq!(found.nights_too_long, 1, "70 min do not fit an hour, 50 do");
    }
}

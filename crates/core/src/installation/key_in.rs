//! What to key into a controller that works out its own minutes, zone by zone, and what it will do with it.

use super::WiredZone;
use crate::controller::{AskedInput, Computing, Input};
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Share;
use crate::quantity::units::Millimetres;
use jiff::civil::Date;

/// An input with what was measured and what is to be keyed.
#[derive(Debug, Clone, PartialEq)]
pub struct KeyedInput {
    /// What is asked.
    pub input: Input,
    /// What was measured or stands as a default, in the unit of the input; `None` for windows and days.
    pub measured: Option<f64>,
    /// The controller's choice to take; `None` where a number is programmed.
    pub choice: Option<String>,
    /// What that choice stands for, or the number to key.
    pub keyed: Option<f64>,
}

/// What to program for a zone.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneKeyIn {
    /// The station.
    pub station: u16,
    /// Inputs in the order of the card.
    pub inputs: Vec<KeyedInput>,
    /// What the controller will then water over a year, as a share of what the zone needs beside the rain; without a unit, 1 is
    /// just right.
    pub does: f64,
    /// The same month by month; `None` where the zone needs nothing.
    pub does_in: ByMonth<Option<f64>>,
}

/// Deepest and highest correction that is advised where the controller takes any number, percent: beyond it another input is
/// wrong, and some controllers end there (our stated bounds).
const TRIM: (f64, f64) = (-25.0, 25.0);

/// The mean of something over the year, each month by the demand of the zone in it; over all months alike where it never
/// has any.
fn weighed(zone: &WiredZone, et0: &ByMonth<Millimetres>, of: impl Fn(Month) -> f64) -> f64 {
    let demand = |month: Month| {
        et0.of(month).mm().max(0.0) * zone.resolved.landscape_coefficient_in(month) * month.days()
    };
    let whole: f64 = Month::ALL.into_iter().map(demand).sum();
    let sum = |weight: &dyn Fn(Month) -> f64| Month::ALL.into_iter().map(|m| weight(m) * of(m)).sum::<f64>();
    if whole > 0.0 { sum(&|m| demand(m) / whole) } else { sum(&|_| 1.0 / 12.0) }
}

/// What a zone is, as an input asks it.
fn measured(zone: &WiredZone, et0: &ByMonth<Millimetres>, input: Input, date: Date) -> Option<f64> {
    let resolved = &zone.resolved;
    Some(match input {
        Input::Rate => resolved.rate.value.mm_per_hour(),
        // Chosen once and kept all year: what the season asks in the mean, each month by its demand.
        Input::Plants => weighed(zone, et0, |month| *resolved.coefficients.value.of(month)),
        Input::Soil => resolved.available_mm_per_m,
        Input::Slope => resolved.slope_pct.value,
        Input::Sun => resolved.sun_factor * resolved.transmission,
        Input::Trim => 100.0 * (resolved.trim_factor - 1.0),
        Input::Refill => resolved.allowable_depletion.value.percent(),
        Input::Maturity => resolved.grow_in.filter(|g| g.holds(date)).map_or(1.0, |g| g.factor),
        Input::Window | Input::NeverDays => return None,
    })
}

/// What to key into a controller for a zone on a date. Each input takes the choice nearest to what was measured; a trim, where
/// the controller has one, takes up what the other choices leave.
///
/// The controller waters `ET0 × plants × sun × maturity × (1 + trim) ÷ efficiency ÷ rate` of time; the zone puts down its own
/// rate in that time, and needs `ET0 × factor × multiplier`. ET0 is the same on both sides. The plants are those whose
/// coefficient meets the demand of the whole year best, not that of the day on which somebody programs it: it stays for
/// the seasons to come. `et0` is the usual one of each month, mm a day.
#[must_use]
pub fn key_in(zone: &WiredZone, computing: &Computing, et0: &ByMonth<Millimetres>, date: Date) -> ZoneKeyIn {
    let keyed = |asked: &AskedInput, value: f64| {
        let choice = asked.nearest(value);
        (choice.map(|c| c.name.clone()), choice.map_or(value, |c| c.value))
    };
    let of = |input: Input| -> f64 {
        let neutral = if input == Input::Rate { zone.resolved.rate.value.mm_per_hour() } else { 1.0 };
        computing
            .asked(input)
            .and_then(|asked| Some(keyed(asked, measured(zone, et0, input, date)?).1))
            .unwrap_or(neutral)
    };
    let demand = of(Input::Plants) * of(Input::Sun) * of(Input::Maturity);
    let applied = zone.resolved.rate.value.mm_per_hour() / of(Input::Rate);
    let young = zone.resolved.grow_in_factor_on(date) * zone.resolved.wean_off_factor_on(date);
    let needs_in =
        |month: Month| zone.resolved.landscape_coefficient_in(month) * young * zone.resolved.multiplier;
    let brings = demand / computing.efficiency.fraction() * applied;
    // A month counts by its demand: what a controller brings too much in winter makes up for no dry summer.
    let sum = |of: &dyn Fn(Month) -> f64| {
        let demand =
            |m: Month| et0.of(m).mm().max(0.0) * m.days() * zone.resolved.landscape_coefficient_in(m);
        Month::ALL.into_iter().map(|m| demand(m) * of(m)).sum::<f64>()
    };
    let needed = sum(&needs_in);
    let untrimmed = if needed > 0.0 { sum(&|_| brings) / needed } else { 1.0 };
    // No more than the controller has: its choices end where they end, and so does what it takes as a number.
    let wanted = (100.0 * (1.0 / untrimmed - 1.0)).clamp(TRIM.0, TRIM.1);
    let trim = computing.asked(Input::Trim).map(|asked| keyed(asked, wanted.round()));
    let inputs = computing
        .asks
        .iter()
        .map(|asked| {
            let value = measured(zone, et0, asked.input, date);
            let (choice, number) = match (asked.input, &trim, value) {
                (Input::Trim, Some((choice, number)), _) => (choice.clone(), Some(*number)),
                (_, _, Some(value)) => {
                    let (choice, number) = keyed(asked, value);
                    (choice, Some(number))
                }
                _ => (None, None),
            };
            KeyedInput { input: asked.input, measured: value, choice, keyed: number }
        })
        .collect();
    let trimmed = 1.0 + trim.map_or(0.0, |(_, number)| number) / 100.0;
    let does_in = ByMonth::from_fn(|m| (needs_in(m) > 0.0).then(|| brings * trimmed / needs_in(m)));
    ZoneKeyIn { station: zone.zone.number, inputs, does: untrimmed * trimmed, does_in }
}

/// Shares of the need between which a controller does enough.
pub const DOES_ENOUGH: (Share, Share) = (Share::from_fraction(0.9), Share::from_fraction(1.15));

#[cfg(test)]
mod tests {
    use super::super::samples;
    use super::*;
    use crate::controller::Choice;
    use jiff::civil::date;

    const DAY: Date = Date::constant(2026, 7, 14);

    fn asked(input: Input, choices: &[(&str, f64)]) -> AskedInput {
        let choices =
            choices.iter().map(|(name, value)| Choice { name: (*name).into(), value: *value }).collect();
        AskedInput { input, choices }
    }

    fn computing(asks: Vec<AskedInput>) -> Computing {
        Computing { asks, efficiency: Share::from_fraction(0.75) }
    }

    #[test]
    fn a_controller_that_takes_every_number_is_off_only_by_what_it_assumes_of_the_heads() {
        let there = samples::installation();
        let zone = &there.zones[0];
        let all = [Input::Rate, Input::Plants, Input::Sun, Input::Maturity].map(|input| asked(input, &[]));
        let found = key_in(zone, &computing(all.to_vec()), &there.monthly_et0, DAY);
        // Net need over an assumed 75 % against the zone's own multiplier; a zone trim of its own stays out.
        let expected = 1.0 / 0.75 / zone.resolved.multiplier / zone.resolved.trim_factor;
        assert!((found.does - expected).abs() < 1e-9, "{} {expected}", found.does);
        assert_eq!(found.inputs[0].keyed, Some(zone.resolved.rate.value.mm_per_hour()));
        // With a trim it is brought to the need to a whole percent.
        let with_trim: Vec<_> = all.into_iter().chain([asked(Input::Trim, &[])]).collect();
        let found = key_in(zone, &computing(with_trim), &there.monthly_et0, DAY);
        assert!((found.does - 1.0).abs() < 0.006, "{}", found.does);
        assert!(found.inputs[4].keyed.is_some_and(|t| t.fract() == 0.0));
    }

    #[test]
    fn a_coarse_choice_is_told_with_what_it_makes_the_controller_do() {
        let there = samples::installation();
        let zone = &there.zones[0];
        let rate = zone.resolved.rate.value.mm_per_hour();
        let asks = vec![
            asked(Input::Rate, &[("drizzle", rate / 3.0), ("twice as fast", rate * 2.0)]),
            asked(Input::Plants, &[("lawn", 0.8), ("shrubs", 0.3)]),
            asked(Input::Window, &[]),
        ];
        let found = key_in(zone, &computing(asks), &there.monthly_et0, DAY);
        assert_eq!(found.inputs[0].choice.as_deref(), Some("twice as fast"));
        assert_eq!(found.inputs[0].measured, Some(rate));
        assert_eq!((found.inputs[2].measured, found.inputs[2].keyed), (None, None), "a window has no number");
        // It thinks the heads are twice as fast, so it waters half of what it would.
        let exact =
            key_in(zone, &computing(vec![asked(Input::Rate, &[]), found_plants()]), &there.monthly_et0, DAY);
        assert!((found.does / exact.does - 0.5).abs() < 1e-9, "{} {}", found.does, exact.does);
        assert!(found.does < DOES_ENOUGH.0.fraction());
    }

    fn found_plants() -> AskedInput {
        asked(Input::Plants, &[("lawn", 0.8), ("shrubs", 0.3)])
    }

    #[test]
    fn a_grow_in_is_the_maturity_while_it_lasts() {
        let there = samples::installation();
        let mut zone = there.zones[0].clone();
        zone.resolved.grow_in = Some(crate::ground::planting::GrowIn {
            from: DAY,
            until: date(2026, 7, 31),
            factor: 1.2,
            root_depth: crate::quantity::units::Metres::from_m(0.05),
        });
        let young = asked(Input::Maturity, &[("established", 1.0), ("new", 1.25)]);
        let asks = computing(vec![asked(Input::Rate, &[]), young]);
        assert_eq!(key_in(&zone, &asks, &there.monthly_et0, DAY).inputs[1].choice.as_deref(), Some("new"));
        assert_eq!(
            key_in(&zone, &asks, &there.monthly_et0, date(2026, 8, 1)).inputs[1].choice.as_deref(),
            Some("established")
        );
    }

    #[test]
    fn sentence_7_plants_are_chosen_for_the_season_and_not_for_the_day() {
        let mut there = samples::installation();
        let zone = &mut there.zones[0];
        // Vegetables: next to nothing in winter, much in summer.
        let course = ByMonth::from_fn(|m| if (5..=9).contains(&m.number()) { 1.0 } else { 0.15 });
        zone.resolved.coefficients.value = course;
        let asks = || {
            computing(vec![
                asked(Input::Rate, &[]),
                asked(Input::Plants, &[("beds", 0.9), ("dry garden", 0.2)]),
            ])
        };
        for day in [date(2026, 1, 15), DAY] {
            let found = key_in(&there.zones[0], &asks(), &there.monthly_et0, day);
            assert_eq!(found.inputs[1].choice.as_deref(), Some("beds"), "on {day}");
            let (july, january) =
                (found.does_in.of(Month::July).unwrap(), found.does_in.of(Month::January).unwrap());
            assert!((0.7..1.3).contains(&july), "summer has enough: {july}");
            assert!(january > 3.0, "the error of the other months is told: {january}");
        }
        // A trim takes up what is left, and no more than a controller has.
        let mut with_trim = asks();
        with_trim.asks.push(asked(Input::Trim, &[]));
        let found = key_in(&there.zones[0], &with_trim, &there.monthly_et0, DAY);
        assert!(found.inputs[2].keyed.is_some_and(|t| t.abs() <= 25.0), "{:?}", found.inputs[2]);
    }
}

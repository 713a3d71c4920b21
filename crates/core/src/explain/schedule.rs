//! How the numbers of a schedule were reached.

use super::{Explanation, Input, InputOrigin, Quantity, WorkingStep, computed, share, sourced, table};
use crate::installation::{Given, WiredZone};
use crate::quantity::units::{Millimetres, Minutes};
use crate::site::Origin;

fn days(value: f64) -> Quantity {
    Quantity::Ratio((value * 10.0).round() / 10.0)
}

/// What a zone gets a week against what it needs.
// Long: the steps of one working, in order.
#[must_use]
pub fn weekly(zone: &WiredZone, given: &Given) -> Explanation {
    let resolved = &zone.resolved;
    let coefficient = zone.factor;
    let et0 = if coefficient > 0.0 { zone.demand * (1.0 / coefficient) } else { Millimetres::ZERO };
    let steps = vec![
        WorkingStep {
            name: "demand of a day",
            formula: "expected reference ET × factor",
            source: "FAO-56 eq. 58; landscape coefficient (WUCOLS method, from memory)",
            inputs: vec![
                Input {
                    name: "expected reference ET (ET0), mean of fourteen days",
                    quantity: Quantity::Depth(et0),
                    origin: Some(InputOrigin::Record),
                },
                Input {
                    name: "factor from ET0 to demand: plants, sun, trim, dated factors",
                    quantity: Quantity::Ratio(coefficient),
                    origin: Some(match resolved.coefficients.origin {
                        Origin::Given => InputOrigin::Given,
                        Origin::Default(source) => InputOrigin::Default(source),
                    }),
                },
            ],
            result: Quantity::Depth(zone.demand),
        },
        WorkingStep {
            name: "need of a week",
            formula: "demand of a day × 7",
            source: "arithmetic; rain is left to sensors and the daily balance",
            inputs: vec![computed("demand of a day", Quantity::Depth(zone.demand))],
            result: Quantity::Depth(given.need_a_week),
        },
        WorkingStep {
            name: "minutes that cover it",
            formula: "60 × need × multiplier ÷ precipitation rate; multiplier = 1 ÷ (0.4 + 0.6 × uniformity)",
            source: "Irrigation Association (from memory)",
            inputs: vec![
                computed("need of a week", Quantity::Depth(given.need_a_week)),
                sourced("distribution uniformity", resolved.uniformity, share),
                computed("run-time multiplier", Quantity::Ratio(resolved.multiplier)),
                sourced("precipitation rate", resolved.rate, Quantity::Rate),
            ],
            result: Quantity::Time(Minutes::from_min(given.minutes_needed)),
        },
        WorkingStep {
            name: "what it gets a week, net",
            formula: "minutes as set × precipitation rate ÷ 60 ÷ multiplier",
            source: "every run of the coming four weeks, percentage and rounding of the controller included",
            inputs: vec![
                computed("minutes as set", Quantity::Time(Minutes::from_min(given.minutes_a_week))),
                computed("run-time multiplier", Quantity::Ratio(resolved.multiplier)),
            ],
            result: Quantity::Depth(given.net_a_week),
        },
        WorkingStep {
            name: "days from full to the refill point",
            formula: "available water × root depth × allowable depletion ÷ demand of a day",
            source: "FAO-56 eq. 82 and 83",
            inputs: vec![
                table(
                    "readily available water",
                    Quantity::Depth(resolved.root_zone.readily_available()),
                    "soil texture, root depth and allowable depletion of the zone",
                ),
                computed("demand of a day", Quantity::Depth(zone.demand)),
            ],
            result: days(zone.days_to_refill().min(999.0)),
        },
    ];
    Explanation {
        title: "Applied versus required",
        steps,
        assumptions: vec![
            "No rain is counted.",
            "Water beyond the need drains or runs off; water short of it is not made up elsewhere.",
        ],
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::schedule::{Settings, expand};
    use crate::installation::{given, samples::installation};
    use crate::quantity::time::Seconds;
    use jiff::civil::{date, time};

    #[test]
    fn every_step_follows_from_its_inputs() {
        let installation = installation();
        let mut settings = Settings::clean(&installation.card);
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(2, 0, 0, 0)];
        settings.set_run_time(0, 1, Seconds::from_s(840));
        let runs =
            expand(&settings, &installation.card, &installation.tz, date(2026, 7, 13), date(2026, 7, 19));
        let given = given(&installation, &settings, &runs, 1);
        let zone = &installation.zones[0];
        let told = weekly(zone, &given[0]);
        let result = |name: &str| told.steps.iter().find(|s| s.name == name).unwrap().result;
        assert_eq!(result("need of a week"), Quantity::Depth(zone.demand * 7.0));
        let Quantity::Time(minutes) = result("minutes that cover it") else { panic!() };
        let by_hand =
            60.0 * zone.demand.mm() * 7.0 * zone.resolved.multiplier / zone.resolved.rate.value.mm_per_hour();
        assert!((minutes.min_value() - by_hand).abs() < 1e-9);
        let Quantity::Depth(net) = result("what it gets a week, net") else { panic!() };
        assert!(
            (net.mm() - 98.0 * zone.resolved.rate.value.mm_per_hour() / 60.0 / zone.resolved.multiplier)
                .abs()
                < 1e-9
        );
    }
}

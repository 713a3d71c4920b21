//! How the numbers of a budget were reached.

use super::{Explanation, Input, InputOrigin, Quantity, WorkingStep, computed, share, sourced};
use crate::advice::budget::{Need, NeedFrom, RainRule, WeekZone, ZoneBudget};
use crate::installation::WiredZone;
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::units::Millimetres;
use crate::site::Sourced;

/// A zone in a month of a budget: need, ideal percentage, what it is given, the error.
// Long: the steps of one working, in order.
#[must_use]
pub fn budget_month(
    zone: &WiredZone,
    budget: &ZoneBudget,
    need: &Need,
    et0: Millimetres,
    month: Month,
    rain: RainRule,
) -> Explanation {
    let at = |values: &ByMonth<Millimetres>| *values.of(month);
    let resolved = &zone.resolved;
    let coefficient = Sourced { value: resolved.coefficient_in(month), origin: resolved.coefficients.origin };
    let (needed, given) = (at(&budget.need), at(&budget.given));
    let mut steps = vec![
        WorkingStep {
            name: "plant demand of a day",
            formula: "normal ET0 × plant coefficient × sun factor × trim",
            source: "FAO-56 eq. 58; landscape coefficient (WUCOLS method, from memory)",
            inputs: vec![
                Input {
                    name: "normal ET0 of a day in this month",
                    quantity: Quantity::Depth(et0),
                    origin: Some(InputOrigin::Record),
                },
                sourced("plant coefficient of the month", coefficient, Quantity::Ratio),
                computed("sun factor", Quantity::Ratio(resolved.sun_factor)),
                computed("trim", Quantity::Ratio(resolved.trim_factor)),
            ],
            result: Quantity::Depth(at(&need.demand_a_day)),
        },
        WorkingStep {
            name: "need of a day, net",
            formula: match need.from {
                NeedFrom::EtAlone => "plant demand; rain is left to the rain sensor",
                NeedFrom::Balance => {
                    "mean over every recorded day of demand less the rain that stayed in the root zone"
                }
                NeedFrom::ScsFormula => {
                    "demand less effective rain, SF (0.70917 P^0.82416 - 0.11556) 10^(0.02426 ETc)"
                }
            },
            source: match need.from {
                NeedFrom::EtAlone => "arithmetic",
                NeedFrom::Balance => "FAO-56 eq. 82 to 88 on the site's own record",
                NeedFrom::ScsFormula => "USDA-SCS, National Engineering Handbook part 623 (from memory)",
            },
            inputs: vec![computed("plant demand of a day", Quantity::Depth(at(&need.demand_a_day)))],
            result: Quantity::Depth(needed),
        },
        WorkingStep {
            name: "what it is given a day, net",
            formula: "runs a day × run time at the percentage, as the controller rounds it × rate ÷ 60 ÷ multiplier",
            source: "every start of a year as set; multiplier 1 ÷ (0.4 + 0.6 DU), Irrigation Association (from memory)",
            inputs: vec![
                sourced("precipitation rate", resolved.rate, Quantity::Rate),
                sourced("distribution uniformity", resolved.uniformity, share),
                computed("run-time multiplier", Quantity::Ratio(resolved.multiplier)),
            ],
            result: Quantity::Depth(given),
        },
    ];
    if let Some(ideal) = *budget.ideal.of(month) {
        steps.push(WorkingStep {
            name: "ideal percentage",
            formula: "100 × need ÷ what the base minutes bring at 100 %",
            source: "arithmetic",
            inputs: vec![computed("need of a day", Quantity::Depth(needed))],
            result: Quantity::Percent(ideal),
        });
    }
    let ratio = if needed.mm() > 0.0 { 100.0 * given.mm() / needed.mm() } else { 0.0 };
    steps.push(WorkingStep {
        name: "given against need",
        formula: "given ÷ need",
        source: "arithmetic",
        inputs: vec![computed("given", Quantity::Depth(given)), computed("need", Quantity::Depth(needed))],
        result: Quantity::Percent(ratio),
    });
    let mut assumptions = vec![match rain {
        RainRule::LeftToHold => {
            "Rain is not in the budget: the rain sensor skips watering after rain, and counting it twice would starve the plants."
        }
        RainRule::Counted => "Rain is in the budget; a rain sensor on top of it would count it twice.",
    }];
    assumptions.push("A dated grow-in or wean-off is left out: a budget is for an ordinary year.");
    Explanation { title: "Given against need", steps, assumptions }
}

/// The need of a zone in the trailing days.
#[must_use]
pub fn budget_week(zone: &WeekZone) -> Explanation {
    let steps = vec![
        WorkingStep {
            name: "need of the week",
            formula: "plant demand of seven days - rain that entered the soil, never below 0",
            source: "FAO-56 eq. 85; rain bounded by the intake of the soil",
            inputs: vec![
                Input {
                    name: "plant demand of seven days",
                    quantity: Quantity::Depth(zone.demand),
                    origin: Some(InputOrigin::Record),
                },
                Input {
                    name: "rain that it could use",
                    quantity: Quantity::Depth(zone.rain),
                    origin: Some(InputOrigin::Record),
                },
            ],
            result: Quantity::Depth(zone.need),
        },
        WorkingStep {
            name: "ideal percentage",
            formula: "100 × need ÷ what the base minutes bring in a week at 100 %",
            source: "arithmetic",
            inputs: vec![computed("need of the week", Quantity::Depth(zone.need))],
            result: Quantity::Percent(zone.ideal.unwrap_or(0.0)),
        },
    ];
    Explanation {
        title: "This week's percentage",
        steps,
        assumptions: vec!["The coming week is taken to ask what the last one did; look again in a week."],
    }
}

//! A derivation in the units of the reader.

use crate::page::quantities::quantity;
use upland_core::explain::{Explanation, InputOrigin};
use upland_core::site::UnitSystem;

pub(crate) struct InputView {
    pub name: &'static str,
    pub value: String,
    pub origin: Option<String>,
    /// A measurement would replace it.
    pub is_default: bool,
}

pub(crate) struct StepView {
    pub name: String,
    pub formula: String,
    pub source: String,
    pub result: String,
    pub inputs: Vec<InputView>,
}

/// The sheet behind a number.
pub(crate) struct Working {
    pub id: String,
    pub title: String,
    /// What it belongs to.
    pub of: String,
    pub steps: Vec<StepView>,
    pub assumptions: Vec<String>,
}

pub(crate) fn working(id: String, of: String, explanation: &Explanation, units: UnitSystem) -> Working {
    Working {
        id,
        title: explanation.title.to_owned(),
        of,
        steps: explanation
            .steps
            .iter()
            .map(|step| StepView {
                name: step.name.to_owned(),
                formula: step.formula.to_owned(),
                source: step.source.to_owned(),
                result: quantity(units, step.result),
                inputs: step
                    .inputs
                    .iter()
                    .map(|input| InputView {
                        name: input.name,
                        value: quantity(units, input.quantity),
                        is_default: matches!(input.origin, Some(InputOrigin::Default(_))),
                        origin: input.origin.as_ref().map(|origin| match origin {
                            InputOrigin::Given => "measured or typed for this zone".to_owned(),
                            InputOrigin::Record => "from the weather record".to_owned(),
                            InputOrigin::Table(source) => format!("table: {source}"),
                            InputOrigin::Default(source) => format!("default: {source}"),
                        }),
                    })
                    .collect(),
            })
            .collect(),
        assumptions: explanation.assumptions.iter().map(|a| (*a).to_owned()).collect(),
    }
}

//! A climate in short as JSON: what the database keeps for lists over many sites.

use crate::json::PathProblem;
use serde::{Deserialize, Serialize};
use upland_core::quantity::units::{Celsius, Millimetres};
use upland_core::weather::climate::ClimateSummary;
use upland_core::weather::forecast::Foretold;
use upland_core::weather::record::{RawDay, VARIABLES};

#[derive(Serialize, Deserialize)]
struct SummaryDto {
    expected_mm: Vec<f64>,
    /// Date and every variable, in the order of the raw record.
    days: Vec<(jiff::civil::Date, [Option<f64>; VARIABLES])>,
    /// The same of what is foretold, with the lowest temperature as it was said before the day.
    #[serde(default)]
    foretold: Vec<(jiff::civil::Date, [Option<f64>; VARIABLES], Option<f64>)>,
}

/// Writes a brief.
#[must_use]
pub fn to_json(brief: &ClimateSummary) -> serde_json::Value {
    let dto = SummaryDto {
        expected_mm: brief.expected.iter().map(|e| e.mm()).collect(),
        days: brief.days.iter().map(RawDay::from).map(|raw| (raw.date, *raw.values())).collect(),
        foretold: brief
            .foretold
            .iter()
            .map(|day| (RawDay::from(&day.weather), day.lowest_ahead.map(|c| c.c())))
            .map(|(raw, ahead)| (raw.date, *raw.values(), ahead))
            .collect(),
    };
    serde_json::to_value(dto).unwrap_or_default()
}

/// Reads a brief.
///
/// # Errors
/// What is not one.
pub fn from_json(value: serde_json::Value) -> Result<ClimateSummary, Vec<PathProblem>> {
    let dto: SummaryDto = serde_json::from_value(value)
        .map_err(|error| vec![PathProblem { path: String::new(), message: error.to_string() }])?;
    Ok(ClimateSummary {
        expected: dto.expected_mm.into_iter().map(Millimetres::from_mm).collect(),
        days: dto.days.into_iter().filter_map(|(date, values)| RawDay::of(date, values).weather()).collect(),
        foretold: dto
            .foretold
            .into_iter()
            .filter_map(|(date, values, ahead)| {
                let weather = RawDay::of(date, values).weather()?;
                Some(Foretold { weather, lowest_ahead: ahead.map(Celsius::from_c) })
            })
            .collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::quantity::units::{Celsius, MetresPerSecond};
    use upland_core::weather::DayWeather;

    #[test]
    fn a_brief_survives() {
        let mut day = DayWeather::from_temperatures(
            jiff::civil::date(2026, 7, 14),
            Celsius::from_c(9.3),
            Celsius::from_c(24.1),
        );
        day.wind = Some(MetresPerSecond::from_m_per_s(1.7));
        day.rain = Some(Millimetres::from_mm(0.3));
        let brief = ClimateSummary {
            expected: vec![Millimetres::from_mm(0.1 + 0.2); 366],
            days: vec![day],
            foretold: vec![Foretold { weather: day, lowest_ahead: Some(Celsius::from_c(8.1)) }],
        };
        assert_eq!(from_json(to_json(&brief)).unwrap(), brief);
        assert!(from_json(serde_json::json!({ "days": 3 })).is_err());
    }
}

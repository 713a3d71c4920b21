//! A catch-can test as JSON: what the database keeps.

use crate::json::{Checker, PathProblem};
use serde::{Deserialize, Serialize};
use upland_core::codes::Coded;
use upland_core::ground::catch_can::{Can, CanReading, CatchTest};
use upland_core::quantity::bounds;
use upland_core::quantity::units::Minutes;

/// Most cans of a test.
pub const MOST_CANS: usize = 400;

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct TestDto {
    run_min: f64,
    throat_cm2: f64,
    /// How the cans were read; by volume where it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    read_by: Option<String>,
    cans: Vec<CanDto>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct CanDto {
    x_m: f64,
    y_m: f64,
    ml: f64,
}

/// Writes a test.
#[must_use]
pub fn to_json(test: &CatchTest) -> serde_json::Value {
    let dto = TestDto {
        run_min: test.run.min_value(),
        throat_cm2: test.throat_cm2,
        read_by: (test.reading != CanReading::Volume).then(|| test.reading.code().to_owned()),
        cans: test.cans.iter().map(|c| CanDto { x_m: c.x_m, y_m: c.y_m, ml: c.millilitres }).collect(),
    };
    serde_json::to_value(dto).unwrap_or_default()
}

/// Reads a test.
///
/// # Errors
/// Every problem, by path.
pub fn from_json(value: serde_json::Value) -> Result<CatchTest, Vec<PathProblem>> {
    let dto: TestDto = serde_json::from_value(value)
        .map_err(|error| vec![PathProblem { path: String::new(), message: error.to_string() }])?;
    let mut take = Checker::default();
    let reading = match dto.read_by.as_deref() {
        None => Some(CanReading::Volume),
        Some(code) => CanReading::from_code(code),
    };
    if reading.is_none() {
        take.say("read_by", "is neither volume nor depth".to_owned());
    }
    take.bounded("run_min", &bounds::CATCH_MINUTES, dto.run_min);
    take.bounded("throat_cm2", &bounds::CATCH_THROAT, dto.throat_cm2);
    if dto.cans.len() > MOST_CANS {
        take.say("cans", format!("has more than {MOST_CANS} cans"));
    }
    for (i, can) in dto.cans.iter().enumerate().take(MOST_CANS) {
        take.bounded(&format!("cans[{i}].ml"), &bounds::CATCH_READING, can.ml);
    }
    take.finish(CatchTest {
        run: Minutes::from_min(dto.run_min),
        throat_cm2: dto.throat_cm2,
        reading: reading.unwrap_or_default(),
        cans: dto.cans.iter().map(|c| Can { x_m: c.x_m, y_m: c.y_m, millilitres: c.ml }).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_test_survives_its_file_and_a_negative_can_is_told() {
        let can = |ml| Can { x_m: 1.0, y_m: 2.5, millilitres: ml };
        let test = CatchTest {
            run: Minutes::from_min(12.0),
            throat_cm2: 82.0,
            reading: CanReading::Depth,
            cans: vec![can(20.0), can(31.5)],
        };
        assert_eq!(from_json(to_json(&test)), Ok(test.clone()));
        let mut value = to_json(&test);
        value["cans"][1]["ml"] = (-3.0).into();
        assert_eq!(from_json(value).unwrap_err()[0].path, "cans[1].ml");
    }
}

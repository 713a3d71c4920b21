//! Twelve typed months as JSON: what the database keeps and a site file may carry.

use crate::json::{Checker, PathProblem};
use serde::{Deserialize, Serialize};
use upland_core::quantity::bounds;
use upland_core::quantity::month::ByMonth;
use upland_core::quantity::units::{Celsius, Millimetres};
use upland_core::weather::climate::TypedNormals;

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct NormalsDto {
    tmin_c: [f64; 12],
    tmax_c: [f64; 12],
    #[serde(default, skip_serializing_if = "Option::is_none")]
    rain_mm: Option<[f64; 12]>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    et0_mm_a_day: Option<[f64; 12]>,
}

/// Writes normals.
#[must_use]
pub fn to_json(normals: &TypedNormals) -> serde_json::Value {
    let dto = NormalsDto {
        tmin_c: normals.temperature_min.map(Celsius::c).into_values(),
        tmax_c: normals.temperature_max.map(Celsius::c).into_values(),
        rain_mm: normals.rain.map(|r| r.map(Millimetres::mm).into_values()),
        et0_mm_a_day: normals.et0_a_day.map(|e| e.map(Millimetres::mm).into_values()),
    };
    serde_json::to_value(dto).unwrap_or_default()
}

/// Reads normals.
///
/// # Errors
/// Every problem, by path.
pub fn from_json(value: serde_json::Value) -> Result<TypedNormals, Vec<PathProblem>> {
    let dto: NormalsDto = serde_json::from_value(value)
        .map_err(|error| vec![PathProblem { path: String::new(), message: error.to_string() }])?;
    let mut take = Checker::default();
    for m in 0..12 {
        let at = |field: &str| format!("{field}[{m}]");
        let of = |values: &[f64; 12]| values.get(m).copied().unwrap_or_default();
        let (min, max) = (of(&dto.tmin_c), of(&dto.tmax_c));
        take.bounded(&at("tmin_c"), &bounds::NORMAL_TEMPERATURE, min);
        take.bounded(&at("tmax_c"), &bounds::NORMAL_TEMPERATURE, max);
        if min > max {
            take.say(&at("tmin_c"), "is above the month's maximum; check whether the two are swapped");
        }
        if let Some(rain) = &dto.rain_mm {
            take.bounded(&at("rain_mm"), &bounds::NORMAL_RAIN, of(rain));
        }
        if let Some(et0) = &dto.et0_mm_a_day {
            take.bounded(&at("et0_mm_a_day"), &bounds::NORMAL_ET0, of(et0));
        }
    }
    take.finish(TypedNormals {
        temperature_min: ByMonth::new(dto.tmin_c).map(Celsius::from_c),
        temperature_max: ByMonth::new(dto.tmax_c).map(Celsius::from_c),
        rain: dto.rain_mm.map(|r| ByMonth::new(r).map(Millimetres::from_mm)),
        et0_a_day: dto.et0_mm_a_day.map(|e| ByMonth::new(e).map(Millimetres::from_mm)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn normals_survive_their_file_and_crossed_months_are_told() {
        let normals = TypedNormals {
            temperature_min: ByMonth::all(Celsius::from_c(2.0)),
            temperature_max: ByMonth::all(Celsius::from_c(12.0)),
            rain: Some(ByMonth::all(Millimetres::from_mm(60.0))),
            et0_a_day: None,
        };
        assert_eq!(from_json(to_json(&normals)), Ok(normals));
        let mut value = to_json(&normals);
        value["tmin_c"][3] = 20.0.into();
        value["rain_mm"][5] = (-1.0).into();
        let paths: Vec<_> = from_json(value).unwrap_err().into_iter().map(|p| p.path).collect();
        assert_eq!(paths, ["tmin_c[3]", "rain_mm[5]"]);
    }
}

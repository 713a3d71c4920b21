//! The plan of a site as JSON: where its zones, obstacles, heads and controllers lie.

use crate::json::{Checker, PathProblem};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use upland_core::quantity::bounds;
use upland_core::sensors::site_plan::{Arc, ControllerSpot, Obstacle, Plot, SitePlan};

/// Most things of a kind on a plan.
pub const MOST_ON_PLAN: usize = 400;

#[derive(Serialize, Deserialize, JsonSchema, Default)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Plan", transform = crate::names::controllers)]
pub(crate) struct PlanDto {
    /// Station, west edge, north edge, width, depth; metres.
    zones: Vec<(u16, f64, f64, f64, f64)>,
    /// Name, west edge, north edge, width, depth, height; metres.
    obstacles: Vec<(String, f64, f64, f64, f64, f64)>,
    /// Place, throw in metres, first and last edge in degrees from north, clockwise.
    heads: Vec<(f64, f64, f64, f64, f64)>,
    /// Number and place; metres. Also read as "boxes", as it was called before.
    #[serde(alias = "boxes", skip_serializing_if = "Vec::is_empty")]
    controllers: Vec<(u8, f64, f64)>,
    /// How far north lies clockwise from up, degrees.
    north_deg: f64,
}

impl From<&SitePlan> for PlanDto {
    fn from(plan: &SitePlan) -> Self {
        Self {
            zones: plan.plots.iter().map(|p| (p.station, p.x, p.y, p.width, p.depth)).collect(),
            obstacles: plan
                .obstacles
                .iter()
                .map(|o| (o.name.clone(), o.x, o.y, o.width, o.depth, o.height))
                .collect(),
            heads: plan.arcs.iter().map(|a| (a.x, a.y, a.throw, a.from_deg, a.to_deg)).collect(),
            controllers: plan.controllers.iter().map(|b| (b.number, b.x, b.y)).collect(),
            north_deg: plan.north_deg,
        }
    }
}

/// A plan as the value of a JSON column.
#[must_use]
pub fn plan_to_json(plan: &SitePlan) -> serde_json::Value {
    serde_json::to_value(PlanDto::from(plan)).unwrap_or_default()
}

/// A plan from a JSON column.
///
/// # Errors
/// What is not a plan.
pub fn plan_from_json(value: serde_json::Value) -> Result<SitePlan, Vec<PathProblem>> {
    let dto: PlanDto = serde_json::from_value(value)
        .map_err(|error| vec![PathProblem { path: "plan".into(), message: error.to_string() }])?;
    let mut taker = Checker::default();
    let plan = take_plan(&mut taker, "plan", dto);
    taker.finish(plan)
}

// Long: one kind of thing after another.
pub(crate) fn take_plan(take: &mut Checker, at: &str, dto: PlanDto) -> SitePlan {
    for (list, count) in [
        ("zones", dto.zones.len()),
        ("obstacles", dto.obstacles.len()),
        ("heads", dto.heads.len()),
        ("controllers", dto.controllers.len()),
    ] {
        if count > MOST_ON_PLAN {
            take.say(
                &format!("{at}.{list}"),
                format!("has {count} entries; a plan has at most {MOST_ON_PLAN}"),
            );
        }
    }
    let mut sizes = |path: String, values: &[f64]| {
        if values.iter().any(|v| !v.is_finite() || v.abs() > bounds::SITE_METRES.max) {
            take.say(&path, "has a number that is no length on a site");
        }
    };
    for (i, (_, x, y, w, d)) in dto.zones.iter().enumerate() {
        sizes(format!("{at}.zones[{i}]"), &[*x, *y, *w, *d]);
    }
    for (i, (_, x, y, w, d, h)) in dto.obstacles.iter().enumerate() {
        sizes(format!("{at}.obstacles[{i}]"), &[*x, *y, *w, *d, *h]);
    }
    for (i, (x, y, throw, from, to)) in dto.heads.iter().enumerate() {
        sizes(format!("{at}.heads[{i}]"), &[*x, *y, *throw, *from, *to]);
    }
    for (i, (_, x, y)) in dto.controllers.iter().enumerate() {
        sizes(format!("{at}.controllers[{i}]"), &[*x, *y]);
    }
    sizes(format!("{at}.north_deg"), &[dto.north_deg]);
    SitePlan {
        controllers: dto
            .controllers
            .into_iter()
            .map(|(number, x, y)| ControllerSpot { number, x, y })
            .collect(),
        north_deg: dto.north_deg.rem_euclid(360.0),
        plots: dto
            .zones
            .into_iter()
            .map(|(station, x, y, width, depth)| Plot {
                station,
                x,
                y,
                width: width.abs(),
                depth: depth.abs(),
            })
            .collect(),
        obstacles: dto
            .obstacles
            .into_iter()
            .map(|(name, x, y, width, depth, height)| Obstacle {
                name,
                x,
                y,
                width: width.abs(),
                depth: depth.abs(),
                height,
            })
            .collect(),
        arcs: dto
            .heads
            .into_iter()
            .map(|(x, y, throw, from_deg, to_deg)| Arc { x, y, throw, from_deg, to_deg })
            .collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plan_survives_and_a_wild_one_is_refused() {
        let plan = SitePlan {
            plots: vec![Plot { station: 1, x: 0.0, y: 0.0, width: 10.0, depth: 5.0 }],
            obstacles: vec![Obstacle {
                name: "shed".into(),
                x: 1.0,
                y: 2.0,
                width: 3.0,
                depth: 4.0,
                height: 5.0,
            }],
            arcs: vec![Arc { x: 0.0, y: 0.0, throw: 4.0, from_deg: 0.0, to_deg: 90.0 }],
            controllers: vec![ControllerSpot { number: 2, x: 3.5, y: 1.0 }],
            north_deg: 15.0,
        };
        assert_eq!(plan_from_json(plan_to_json(&plan)).unwrap(), plan);
        let wild = serde_json::json!({ "zones": [[1, 0, 0, 1e9, 1]], "obstacles": [], "heads": [] });
        assert_eq!(plan_from_json(wild).unwrap_err()[0].path, "plan.zones[0]");
    }
}

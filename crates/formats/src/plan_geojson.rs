//! The plan of a site as GeoJSON (RFC 7946): the site's position is the plan's corner, and the ground is flat around it.

use crate::plan_json::MOST_ON_PLAN;
use crate::plan_lines::PlanText;
use geojson::{Feature, FeatureCollection, GeoJson, GeometryValue, JsonObject, JsonValue};
use upland_core::quantity::bounds;
use upland_core::sensors::site_plan::{Arc, ControllerSpot, Obstacle, Plot, SitePlan};

/// Metres of a degree of latitude, on a sphere of the earth's mean radius.
const M_PER_DEGREE: f64 = 111_194.93;
/// Largest accepted text, bytes.
pub const MAX_BYTES: usize = 512 * 1024;

/// A frame that turns places on the plan into positions and back.
struct Ground {
    latitude: f64,
    longitude: f64,
    north_deg: f64,
}

impl Ground {
    fn metres_a_degree(&self) -> (f64, f64) {
        (M_PER_DEGREE * self.latitude.to_radians().cos().max(1e-6), M_PER_DEGREE)
    }

    /// Longitude and latitude of a place.
    fn position(&self, x: f64, y: f64) -> Vec<f64> {
        let (sin, cos) = self.north_deg.to_radians().sin_cos();
        // Right and down on the plan, turned to east and north.
        let (east, north) = (x * cos + y * sin, x * sin - y * cos);
        let (a_degree_east, a_degree_north) = self.metres_a_degree();
        vec![self.longitude + east / a_degree_east, self.latitude + north / a_degree_north]
    }

    fn place(&self, position: &[f64]) -> Option<(f64, f64)> {
        let (longitude, latitude) = (position.first()?, position.get(1)?);
        let (a_degree_east, a_degree_north) = self.metres_a_degree();
        let (east, north) =
            ((longitude - self.longitude) * a_degree_east, (latitude - self.latitude) * a_degree_north);
        let (sin, cos) = self.north_deg.to_radians().sin_cos();
        let (x, y) = (east * cos + north * sin, east * sin - north * cos);
        let near = |v: f64| v.is_finite() && v.abs() <= bounds::SITE_METRES.max;
        (near(x) && near(y)).then_some((x, y))
    }
}

fn feature(geometry: GeometryValue, properties: &[(&str, JsonValue)]) -> Feature {
    let properties: JsonObject = properties.iter().map(|(k, v)| ((*k).to_owned(), v.clone())).collect();
    Feature {
        bbox: None,
        geometry: Some(geojson::Geometry::new(geometry)),
        id: None,
        properties: Some(properties),
        foreign_members: None,
    }
}

/// Writes a plan around a position in degrees.
#[must_use]
pub fn write(text: &PlanText, latitude: f64, longitude: f64) -> String {
    let plan = &text.plan;
    let ground = Ground { latitude, longitude, north_deg: plan.north_deg };
    let point = |at: (f64, f64)| GeometryValue::new_point(ground.position(at.0, at.1));
    let rectangle = |(x, y): (f64, f64), (width, depth): (f64, f64)| {
        let corners = [(x, y), (x, y + depth), (x + width, y + depth), (x + width, y), (x, y)];
        GeometryValue::new_polygon([corners.map(|corner| ground.position(corner.0, corner.1)).to_vec()])
    };
    let mut features = Vec::new();
    features.extend(plan.plots.iter().map(|p| {
        feature(
            rectangle((p.x, p.y), (p.width, p.depth)),
            &[("kind", "zone".into()), ("station", p.station.into())],
        )
    }));
    features.extend(plan.obstacles.iter().map(|o| {
        let own =
            [("kind", "obstacle".into()), ("name", o.name.clone().into()), ("height_m", o.height.into())];
        feature(rectangle((o.x, o.y), (o.width, o.depth)), &own)
    }));
    features.extend(plan.arcs.iter().map(|a| {
        let own: [(&str, JsonValue); 4] = [
            ("kind", "head".into()),
            ("throw_m", a.throw.into()),
            ("from_deg", a.from_deg.into()),
            ("to_deg", a.to_deg.into()),
        ];
        feature(point((a.x, a.y)), &own)
    }));
    features.extend(
        plan.controllers.iter().map(|b| {
            feature(point((b.x, b.y)), &[("kind", "controller".into()), ("number", b.number.into())])
        }),
    );
    features.extend(
        text.sensors.iter().map(|(name, at)| {
            feature(point(*at), &[("kind", "sensor".into()), ("name", name.clone().into())])
        }),
    );
    let foreign = JsonObject::from_iter([("north_deg".to_owned(), plan.north_deg.into())]);
    let all = FeatureCollection { bbox: None, features, foreign_members: Some(foreign) };
    format!("{}\n", GeoJson::from(all))
}

/// The rectangle on the plan that holds a polygon.
fn held(ground: &Ground, rings: &[Vec<geojson::Position>]) -> Option<(f64, f64, f64, f64)> {
    let places: Option<Vec<(f64, f64)>> =
        rings.first()?.iter().map(|position| ground.place(position.as_slice())).collect();
    let places = places?;
    let (x0, y0, x1, y1) =
        places.iter().fold((f64::MAX, f64::MAX, f64::MIN, f64::MIN), |(a, b, c, d), (x, y)| {
            (a.min(*x), b.min(*y), c.max(*x), d.max(*y))
        });
    (x1 > x0 && y1 > y0).then_some((x0, y0, x1 - x0, y1 - y0))
}

/// Reads a plan. Polygons become the rectangles that hold them; `kind` says what a feature is.
///
/// # Errors
/// Every feature that cannot be taken, by number.
pub fn read(text: &str, latitude: f64, longitude: f64) -> Result<PlanText, Vec<String>> {
    let collection = (text.len() <= MAX_BYTES).then(|| text.parse::<GeoJson>().ok()).flatten();
    let Some(GeoJson::FeatureCollection(collection)) = collection else {
        return Err(vec![format!(
            "This is not a GeoJSON FeatureCollection of at most {} kB.",
            MAX_BYTES / 1024
        )]);
    };
    if collection.features.len() > MOST_ON_PLAN {
        return Err(vec![format!("At most {MOST_ON_PLAN} things on a plan.")]);
    }
    let north =
        collection.foreign_members.as_ref().and_then(|own| own.get("north_deg")).and_then(JsonValue::as_f64);
    let north_deg = north.filter(|deg| deg.is_finite()).unwrap_or(0.0).rem_euclid(360.0);
    let ground = Ground { latitude, longitude, north_deg };
    let mut found = PlanText { plan: SitePlan { north_deg, ..SitePlan::default() }, sensors: Vec::new() };
    let mut errors = Vec::new();
    for (i, feature) in collection.features.iter().enumerate() {
        if put(&mut found, feature, &ground).is_none() {
            errors.push(format!(
                "Feature {}: a zone has a polygon and its station; an obstacle a polygon, height_m and a name; a head a point, throw_m, from_deg and to_deg; a controller a point and its number; a sensor a point and its name; all near the site.",
                i + 1
            ));
        }
    }
    if errors.is_empty() { Ok(found) } else { Err(errors) }
}

fn put(found: &mut PlanText, feature: &Feature, ground: &Ground) -> Option<()> {
    let own = feature.properties.as_ref()?;
    let number = |name: &str| own.get(name).and_then(JsonValue::as_f64).filter(|v| v.is_finite());
    let size = |name: &str| number(name).filter(|v| *v > 0.0 && *v <= bounds::SITE_METRES.max);
    let name =
        || own.get("name").and_then(JsonValue::as_str).map(|name| name.chars().take(60).collect::<String>());
    let geometry = &feature.geometry.as_ref()?.value;
    let place = || match geometry {
        GeometryValue::Point { coordinates } => ground.place(coordinates.as_slice()),
        _ => None,
    };
    let rectangle = || match geometry {
        GeometryValue::Polygon { coordinates } => held(ground, coordinates),
        _ => None,
    };
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "checked by the filter")]
    let count = |name: &str| number(name).filter(|v| (1.0..=250.0).contains(v)).map(|v| v as u16);
    let plan = &mut found.plan;
    match own.get("kind").and_then(JsonValue::as_str)? {
        "zone" => {
            let (x, y, width, depth) = rectangle()?;
            plan.plots.push(Plot { station: count("station")?, x, y, width, depth });
        }
        "obstacle" => {
            let (x, y, width, depth) = rectangle()?;
            plan.obstacles.push(Obstacle {
                name: name().unwrap_or_default(),
                x,
                y,
                width,
                depth,
                height: size("height_m")?,
            });
        }
        "head" => {
            let (x, y) = place()?;
            let (throw, from_deg, to_deg) = (size("throw_m")?, number("from_deg")?, number("to_deg")?);
            plan.arcs.push(Arc { x, y, throw, from_deg, to_deg });
        }
        "controller" | "box" => {
            let (x, y) = place()?;
            plan.controllers.push(ControllerSpot { number: u8::try_from(count("number")?).ok()?, x, y });
        }
        "sensor" => found.sensors.push((name()?, place()?)),
        _ => return None,
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;

    const HERE: (f64, f64) = (46.0, -30.0);

    fn sample() -> PlanText {
        let text = "north 20\nzone 1 0 0 20 10\nobstacle 24 -3 4 4 5 potting shed\nhead 0 0 6 90 180\ncontroller 1 23 2\nsensor 18 2 Rain switch";
        crate::plan_lines::read(text, ("m", 1.0)).unwrap()
    }

    #[test]
    fn a_plan_survives_its_file_where_north_is_up() {
        let mut plan = sample();
        plan.plan.north_deg = 0.0;
        let again = read(&write(&plan, HERE.0, HERE.1), HERE.0, HERE.1).unwrap();
        let near = |a: f64, b: f64| (a - b).abs() < 1e-6;
        let (a, b) = (again.plan.plots[0], plan.plan.plots[0]);
        assert!(
            near(a.x, b.x) && near(a.y, b.y) && near(a.width, b.width) && near(a.depth, b.depth),
            "{a:?} {b:?}"
        );
        assert!(near(again.plan.arcs[0].throw, 6.0) && again.plan.obstacles[0].name == "potting shed");
        assert!(near(again.sensors[0].1.0, 18.0) && again.plan.controllers[0].number == 1);
    }

    #[test]
    fn a_turned_plan_comes_back_turned_and_points_lie_where_they_should() {
        let plan = sample();
        let again = read(&write(&plan, HERE.0, HERE.1), HERE.0, HERE.1).unwrap();
        assert!((again.plan.plots[0].width - 20.0).abs() < 1e-6 && again.plan.north_deg == 20.0);
        // Straight up on the plan is 20 degrees west of north.
        let ground = Ground { latitude: HERE.0, longitude: HERE.1, north_deg: 20.0 };
        let up = ground.position(0.0, -10.0);
        assert!(up[1] > HERE.0 && up[0] < HERE.1, "{up:?}");
        let north_m = (up[1] - HERE.0) * M_PER_DEGREE;
        assert!((north_m - 10.0 * 20.0_f64.to_radians().cos()).abs() < 1e-6);
    }

    #[test]
    fn what_is_no_plan_is_told_by_feature() {
        for text in ["", "[]", "{\"type\":\"Point\",\"coordinates\":[0,0]}"] {
            assert_eq!(read(text, HERE.0, HERE.1).unwrap_err().len(), 1, "{text}");
        }
        let far = r#"{"type":"FeatureCollection","features":[{"type":"Feature","geometry":{"type":"Point","coordinates":[10,10]},"properties":{"kind":"sensor","name":"x"}},{"type":"Feature","geometry":null,"properties":null}]}"#;
        assert_eq!(read(far, HERE.0, HERE.1).unwrap_err().len(), 2);
    }
}

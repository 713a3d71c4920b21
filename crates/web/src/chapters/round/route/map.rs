//! The drawing of a route: the places by their coordinates, the order as lines, a scale. There are no tiles under it.

use super::asked::distance;
use super::day::{Day, class_of};
use upland_core::quantity::units::KM_PER_MILE;
use upland_core::site::UnitSystem;
use upland_store::routes::RouteAsked;

/// Width and most height of the drawing, units.
const WIDE: f64 = 640.0;
const HIGH: f64 = 460.0;
/// Space around it.
const EDGE: f64 = 34.0;
/// Kilometres of a degree of latitude.
const KM_PER_DEGREE: f64 = 111.195;

/// A number on the drawing.
pub(super) struct Pin {
    pub x: f64,
    pub y: f64,
    pub label: String,
    pub name: String,
    pub class: &'static str,
}

/// A driver's line.
pub(super) struct Line {
    pub points: String,
    pub class: &'static str,
}

pub(super) struct Map {
    pub height: f64,
    pub lines: Vec<Line>,
    pub pins: Vec<Pin>,
    pub scale_width: f64,
    pub scale: String,
    pub words: String,
}

/// Where a place lies on the drawing.
struct Sheet {
    west: f64,
    north: f64,
    /// Units of the drawing for a kilometre.
    per_km: f64,
    km_per_longitude: f64,
    shift: [f64; 2],
}

impl Sheet {
    fn of(spots: &[[f64; 2]]) -> Option<(Self, f64)> {
        let bounds = |part: usize| {
            let all = spots.iter().filter_map(|spot| spot.get(part).copied());
            all.fold(None, |b: Option<[f64; 2]>, v| Some(b.map_or([v, v], |[lo, hi]| [lo.min(v), hi.max(v)])))
        };
        let ([south, north], [west, east]) = (bounds(0)?, bounds(1)?);
        let km_per_longitude = KM_PER_DEGREE * f64::midpoint(south, north).to_radians().cos().max(0.01);
        let (wide_km, high_km) = ((east - west) * km_per_longitude, (north - south) * KM_PER_DEGREE);
        // A hundred metres at least: one place alone has no extent.
        let room = [WIDE - 2.0 * EDGE, HIGH - 2.0 * EDGE];
        let per_km = (room[0] / wide_km.max(0.1)).min(room[1] / high_km.max(0.1));
        let height = (high_km * per_km + 2.0 * EDGE).clamp(160.0, HIGH);
        let shift = [(WIDE - wide_km * per_km) / 2.0, (height - high_km * per_km) / 2.0];
        Some((Self { west, north, per_km, km_per_longitude, shift }, height))
    }

    fn place(&self, [latitude, longitude]: [f64; 2]) -> [f64; 2] {
        [
            (longitude - self.west) * self.km_per_longitude * self.per_km + self.shift[0],
            (self.north - latitude) * KM_PER_DEGREE * self.per_km + self.shift[1],
        ]
    }
}

/// A round length that is about a fifth of the drawing, in km.
fn round_km(per_km: f64, units: UnitSystem) -> f64 {
    let unit = match units {
        UnitSystem::Metric => 1.0,
        UnitSystem::UsCustomary => KM_PER_MILE,
    };
    let wanted = WIDE / 5.0 / per_km / unit;
    let power = 10f64.powf(wanted.log10().floor());
    let step = [5.0, 2.0, 1.0].into_iter().find(|step| step * power <= wanted).unwrap_or(1.0);
    step * power * unit
}

impl Map {
    /// The drawing of a day; none when it goes nowhere.
    pub fn of(day: &Day, asked: &RouteAsked, units: UnitSystem) -> Option<Self> {
        let spot = |stop: usize| day.sites.get(stop).map(|site| [site.latitude_deg, site.longitude_deg]);
        let mut spots: Vec<[f64; 2]> = (0..day.sites.len()).filter_map(spot).collect();
        if spots.is_empty() {
            return None;
        }
        spots.extend(asked.start.into_iter().chain(asked.end));
        let (sheet, height) = Sheet::of(&spots)?;
        let (mut lines, mut pins) = (Vec::new(), Vec::new());
        for (driver, route) in
            day.plan.routes.iter().enumerate().filter(|(_, route)| !route.visits.is_empty())
        {
            let class = class_of(driver);
            let stops = route.visits.iter().filter_map(|visit| spot(visit.stop));
            let way = asked.start.into_iter().chain(stops).chain(asked.end).map(|at| sheet.place(at));
            let points: Vec<String> = way.map(|[x, y]| format!("{x:.1},{y:.1}")).collect();
            lines.push(Line { points: points.join(" "), class });
            for (place, visit) in route.visits.iter().enumerate() {
                let Some(site) = day.sites.get(visit.stop) else { continue };
                let [x, y] = sheet.place([site.latitude_deg, site.longitude_deg]);
                pins.push(Pin { x, y, label: (place + 1).to_string(), name: site.name.clone(), class });
            }
        }
        for site in day.plan.left_out.iter().filter_map(|at| day.sites.get(*at)) {
            let [x, y] = sheet.place([site.latitude_deg, site.longitude_deg]);
            pins.push(Pin {
                x,
                y,
                label: "–".into(),
                name: format!("{}, left out", site.name),
                class: "out",
            });
        }
        let ends =
            [(asked.start, "S", "Start"), (asked.end.filter(|_| asked.end != asked.start), "E", "End")];
        for (at, label, name) in ends {
            if let Some([x, y]) = at.map(|at| sheet.place(at)) {
                pins.push(Pin { x, y, label: label.into(), name: name.into(), class: "end" });
            }
        }
        let km = round_km(sheet.per_km, units);
        let order =
            pins.iter().map(|pin| format!("{} {}", pin.label, pin.name)).collect::<Vec<_>>().join("; ");
        Some(Self {
            height,
            lines,
            pins,
            scale_width: km * sheet.per_km,
            scale: distance(units, km),
            words: format!("Map of the route, north up: {order}"),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_lie_as_on_the_globe_and_inside_the_drawing() {
        let spots = [[54.0, -3.0], [54.1, -3.0], [54.0, -2.8]];
        let (sheet, height) = Sheet::of(&spots).unwrap();
        let [a, north, east] = spots.map(|spot| sheet.place(spot));
        assert!(north[1] < a[1] && (north[0] - a[0]).abs() < 1e-9, "north is up");
        assert!(east[0] > a[0] && (east[1] - a[1]).abs() < 1e-9);
        // 11.1 km north, 13.1 km east at this latitude.
        let ratio = (east[0] - a[0]) / (a[1] - north[1]);
        assert!((ratio - 2.0 * 54.05f64.to_radians().cos()).abs() < 1e-6, "{ratio}");
        for [x, y] in [a, north, east] {
            assert!((0.0..=WIDE).contains(&x) && (0.0..=height).contains(&y));
        }
        let (alone, _) = Sheet::of(&spots[..1]).unwrap();
        assert!(alone.place(spots[0]).iter().all(|v| v.is_finite()));
    }

    #[test]
    fn the_scale_is_a_round_length_in_either_units() {
        assert!((round_km(10.0, UnitSystem::Metric) - 10.0).abs() < 1e-9);
        assert!((round_km(50.0, UnitSystem::Metric) - 2.0).abs() < 1e-9);
        assert!((round_km(50.0, UnitSystem::UsCustomary) - 1.609_344).abs() < 1e-6);
    }
}

//! The plan of a site: zones, obstacles, spray arcs and sensors on the ground, in metres east and
//! south of a corner, and what follows from it for a sensor's place.

use crate::quantity::units::Metres;
use crate::weather::sun::{altitude_rad, day_of_year, declination_rad};
use jiff::civil::Date;
use std::f64::consts::PI;

/// Steps of a day in which the sun is looked for.
const SUN_STEPS: u32 = 144;

/// A zone's area as a rectangle.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Plot {
    /// Station.
    pub station: u16,
    /// West edge.
    pub x: f64,
    /// North edge.
    pub y: f64,
    /// West to east.
    pub width: f64,
    /// North to south.
    pub depth: f64,
}

/// Something that stands up: a wall, a tree, a roof.
#[derive(Debug, Clone, PartialEq)]
pub struct Obstacle {
    /// What it is.
    pub name: String,
    /// West edge.
    pub x: f64,
    /// North edge.
    pub y: f64,
    /// West to east.
    pub width: f64,
    /// North to south.
    pub depth: f64,
    /// How high it is.
    pub height: f64,
}

/// A head with its throw; angles from north, clockwise, degrees.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Arc {
    /// Place.
    pub x: f64,
    /// Place.
    pub y: f64,
    /// Throw.
    pub throw: f64,
    /// First edge.
    pub from_deg: f64,
    /// Last edge, clockwise from the first.
    pub to_deg: f64,
}

impl Arc {
    /// Degrees that it sweeps, 0 to 360; a full circle when both edges are the same.
    #[must_use]
    pub fn sweep_deg(&self) -> f64 {
        let sweep = (self.to_deg - self.from_deg).rem_euclid(360.0);
        if sweep == 0.0 { 360.0 } else { sweep }
    }

    /// Whether its water reaches a place on a plan whose north lies so many degrees clockwise from up.
    #[must_use]
    pub fn wets(&self, x: f64, y: f64, north_deg: f64) -> bool {
        let (dx, dy) = (x - self.x, y - self.y);
        if dx.hypot(dy) > self.throw {
            return false;
        }
        // y falls upwards.
        let bearing = (dx.atan2(-dy).to_degrees() - north_deg).rem_euclid(360.0);
        (bearing - self.from_deg).rem_euclid(360.0) <= self.sweep_deg()
    }
}

/// A controller as installed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ControllerSpot {
    /// Its number.
    pub number: u8,
    /// Place.
    pub x: f64,
    /// Place.
    pub y: f64,
}

/// A plan. Places are metres to the right and down from a corner; up is north unless it says otherwise.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SitePlan {
    /// Zones.
    pub plots: Vec<Plot>,
    /// Obstacles.
    pub obstacles: Vec<Obstacle>,
    /// Heads.
    pub arcs: Vec<Arc>,
    /// Controllers.
    pub controllers: Vec<ControllerSpot>,
    /// How far north lies clockwise from up, degrees.
    pub north_deg: f64,
}

/// What a plan says about a place.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Seen {
    /// Distance to the obstacle that shuts off most of the sky, and how much higher it is.
    pub obstacle: Option<(Metres, Metres)>,
    /// Whether something stands straight above.
    pub covered: bool,
    /// Whether a head wets it.
    pub in_spray: bool,
    /// The zone it stands in.
    pub station: Option<u16>,
}

/// A building or tree from above, m east and south of the plan's corner.
#[derive(Debug, Clone, Copy)]
struct Rectangle {
    left: f64,
    top: f64,
    width: f64,
    depth: f64,
}

fn distance(x: f64, y: f64, to: Rectangle) -> f64 {
    let Rectangle { left, top, width, depth } = to;
    let dx = (left - x).max(0.0).max(x - left - width);
    let dy = (top - y).max(0.0).max(y - top - depth);
    dx.hypot(dy)
}

/// How far a ray goes until it enters a rectangle; `None` when it passes by.
fn ray(x: f64, y: f64, dx: f64, dy: f64, to: Rectangle) -> Option<f64> {
    let Rectangle { left, top, width, depth } = to;
    let slab = |from: f64, step: f64, low: f64, high: f64| {
        if step.abs() < 1e-12 {
            return if (low..=high).contains(&from) {
                Some((f64::NEG_INFINITY, f64::INFINITY))
            } else {
                None
            };
        }
        let (a, b) = ((low - from) / step, (high - from) / step);
        Some((a.min(b), a.max(b)))
    };
    let (x_in, x_out) = slab(x, dx, left, left + width)?;
    let (y_in, y_out) = slab(y, dy, top, top + depth)?;
    let (enters, leaves) = (x_in.max(y_in), x_out.min(y_out));
    (enters <= leaves && leaves >= 0.0).then_some(enters.max(0.0))
}

/// Shadows are cut off at this length, m.
const LONGEST_SHADOW_M: f64 = 500.0;

/// The convex hull of some points, clockwise as drawn (Andrew's monotone chain).
fn hull(mut points: Vec<(f64, f64)>) -> Vec<(f64, f64)> {
    points.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.total_cmp(&b.1)));
    let half = |points: &mut dyn Iterator<Item = (f64, f64)>| {
        let mut chain: Vec<(f64, f64)> = Vec::new();
        for point in points {
            while let [.., a, b] = chain.as_slice() {
                let turn = (b.0 - a.0) * (point.1 - a.1) - (b.1 - a.1) * (point.0 - a.0);
                if turn > 0.0 {
                    break;
                }
                chain.pop();
            }
            chain.push(point);
        }
        chain.pop();
        chain
    };
    let mut all = half(&mut points.iter().copied());
    all.extend(half(&mut points.iter().rev().copied()));
    all
}

impl SitePlan {
    /// Looks at a place, at a height above the ground.
    #[must_use]
    pub fn seen(&self, at: (f64, f64), height: Metres) -> Seen {
        let taller = self.obstacles.iter().filter_map(|o| {
            let above = o.height - height.m();
            (above > 0.0).then(|| {
                (
                    distance(at.0, at.1, Rectangle { left: o.x, top: o.y, width: o.width, depth: o.depth }),
                    above,
                )
            })
        });
        let worst = taller.clone().max_by(|a, b| (a.1 / a.0.max(1e-6)).total_cmp(&(b.1 / b.0.max(1e-6))));
        Seen {
            obstacle: worst.map(|(d, above)| (Metres::from_m(d), Metres::from_m(above))),
            covered: taller.clone().any(|(d, _)| d <= 0.0),
            in_spray: self.arcs.iter().any(|a| a.wets(at.0, at.1, self.north_deg)),
            station: self
                .plots
                .iter()
                .find(|p| {
                    distance(at.0, at.1, Rectangle { left: p.x, top: p.y, width: p.width, depth: p.depth })
                        <= 0.0
                })
                .map(|p| p.station),
        }
    }

    /// Hours of sun at a place on a clear day: the sun stands above the horizon and nothing on the plan
    /// stands in its way. Steps of ten minutes.
    #[must_use]
    pub fn sun_hours(&self, at: (f64, f64), height: Metres, latitude_deg: f64, date: Date) -> f64 {
        let (phi, delta) = (latitude_deg.to_radians(), declination_rad(day_of_year(date)));
        let lit = (0..SUN_STEPS)
            .filter(|step| {
                let angle = 2.0 * PI * (f64::from(*step) + 0.5) / f64::from(SUN_STEPS) - PI;
                let altitude = altitude_rad(phi, delta, angle);
                if altitude <= 0.0 {
                    return false;
                }
                let towards = self.towards_sun(phi, delta, angle);
                !self.obstacles.iter().any(|o| {
                    let above = o.height - height.m();
                    above > 0.0
                        && ray(
                            at.0,
                            at.1,
                            towards.0,
                            towards.1,
                            Rectangle { left: o.x, top: o.y, width: o.width, depth: o.depth },
                        )
                        .is_some_and(|d| above > d * altitude.tan())
                })
            })
            .count();
        #[allow(clippy::cast_precision_loss, reason = "steps of a day")]
        let hours = 24.0 * lit as f64 / f64::from(SUN_STEPS);
        hours
    }

    /// The direction on the plan, right and down, in which the sun stands; from latitude, declination and hour angle.
    fn towards_sun(&self, phi: f64, delta: f64, angle: f64) -> (f64, f64) {
        let east = -delta.cos() * angle.sin();
        let south = phi.sin() * delta.cos() * angle.cos() - phi.cos() * delta.sin();
        let length = east.hypot(south).max(1e-9);
        let (sin, cos) = self.north_deg.to_radians().sin_cos();
        let (east, south) = (east / length, south / length);
        (east * cos - south * sin, east * sin + south * cos)
    }

    /// The ground that lies in shade at an hour of solar time, 12 at noon: a polygon for each obstacle, its own ground
    /// included. `None` when the sun is down. Ground is taken to be level.
    #[must_use]
    pub fn shade(&self, latitude_deg: f64, date: Date, solar_hour: f64) -> Option<Vec<Vec<(f64, f64)>>> {
        let (phi, delta) = (latitude_deg.to_radians(), declination_rad(day_of_year(date)));
        let angle = (solar_hour - 12.0) * PI / 12.0;
        let altitude = altitude_rad(phi, delta, angle);
        if altitude <= 0.0 {
            return None;
        }
        let (right, down) = self.towards_sun(phi, delta, angle);
        let polygon = |o: &Obstacle| {
            // Near the horizon a shadow has no end; it leaves every site.
            let reach = (o.height / altitude.tan()).min(LONGEST_SHADOW_M);
            let corners =
                [(o.x, o.y), (o.x + o.width, o.y), (o.x + o.width, o.y + o.depth), (o.x, o.y + o.depth)];
            let thrown = corners.map(|(x, y)| (x - right * reach, y - down * reach));
            hull(corners.into_iter().chain(thrown).collect())
        };
        Some(self.obstacles.iter().map(polygon).collect())
    }

    /// Length of a wire from a controller to a place, straight over the ground; `None` when the controller is not on the plan.
    #[must_use]
    pub fn wire(&self, controller_number: u8, x: f64, y: f64) -> Option<Metres> {
        let spot = self.controllers.iter().find(|b| b.number == controller_number)?;
        Some(Metres::from_m((spot.x - x).hypot(spot.y - y)))
    }

    /// The corner and size that hold everything, and some places besides; `None` when there is nothing.
    #[must_use]
    pub fn extent(&self, places: &[(f64, f64)]) -> Option<(f64, f64, f64, f64)> {
        let corners = self
            .plots
            .iter()
            .map(|p| (p.x, p.y, p.x + p.width, p.y + p.depth))
            .chain(self.obstacles.iter().map(|o| (o.x, o.y, o.x + o.width, o.y + o.depth)))
            .chain(self.arcs.iter().map(|a| (a.x - a.throw, a.y - a.throw, a.x + a.throw, a.y + a.throw)))
            .chain(self.controllers.iter().map(|b| (b.x, b.y, b.x, b.y)))
            .chain(places.iter().map(|(x, y)| (*x, *y, *x, *y)));
        let (x0, y0, x1, y1) =
            corners.reduce(|a, b| (a.0.min(b.0), a.1.min(b.1), a.2.max(b.2), a.3.max(b.3)))?;
        Some((x0, y0, x1 - x0, y1 - y0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plan() -> SitePlan {
        SitePlan {
            plots: vec![Plot { station: 1, x: 0.0, y: 0.0, width: 20.0, depth: 10.0 }],
            obstacles: vec![
                Obstacle { name: "shed".into(), x: 24.0, y: 0.0, width: 4.0, depth: 4.0, height: 5.0 },
                Obstacle { name: "hedge".into(), x: 0.0, y: 11.0, width: 20.0, depth: 1.0, height: 1.5 },
            ],
            // A quarter from the corner, towards the south-east.
            arcs: vec![Arc { x: 0.0, y: 0.0, throw: 6.0, from_deg: 90.0, to_deg: 180.0 }],
            controllers: vec![ControllerSpot { number: 1, x: 27.0, y: 4.0 }],
            north_deg: 0.0,
        }
    }

    #[test]
    fn shade_lies_away_from_the_sun_and_as_long_as_its_height_asks() {
        let june = jiff::civil::date(2026, 6, 21);
        let wall = SitePlan {
            obstacles: vec![Obstacle {
                name: "wall".into(),
                x: 0.0,
                y: 0.0,
                width: 10.0,
                depth: 1.0,
                height: 5.0,
            }],
            ..SitePlan::default()
        };
        // At solar noon of the solstice at 46 degrees the sun stands 90 - 46 + 23.45 = 67.4 degrees high in the south:
        // the shadow falls north by 5 / tan 67.4.
        let noon = wall.shade(46.0, june, 12.0).unwrap().remove(0);
        let north = noon.iter().map(|p| p.1).fold(f64::INFINITY, f64::min);
        assert!((north + 5.0 / 67.44_f64.to_radians().tan()).abs() < 0.02, "{north}");
        let (west, east) = noon.iter().fold((f64::MAX, f64::MIN), |(a, b), p| (a.min(p.0), b.max(p.0)));
        assert!((west).abs() < 0.01 && (east - 10.0).abs() < 0.01, "straight north: {west} {east}");
        // In the morning it falls west, in the evening east; at night there is none.
        let span = |hour| {
            let all = wall.shade(46.0, june, hour).unwrap().remove(0);
            all.iter().fold((f64::MAX, f64::MIN), |(a, b), p| (a.min(p.0), b.max(p.0)))
        };
        assert!(span(8.0).0 < -2.0 && span(8.0).1 <= 10.01 && span(16.0).1 > 12.0);
        assert_eq!(wall.shade(46.0, june, 0.5), None);
        // A quarter turn of north turns the shadow: north lies to the right now.
        let turned = SitePlan { north_deg: 90.0, ..wall };
        let noon = turned.shade(46.0, june, 12.0).unwrap().remove(0);
        let right = noon.iter().map(|p| p.0).fold(f64::MIN, f64::max);
        assert!((right - 10.0 - 5.0 / 67.44_f64.to_radians().tan()).abs() < 0.02, "{right}");
    }

    #[test]
    fn the_shade_and_the_hours_of_sun_are_one_sun() {
        // A place is lit in as many steps of the day as no shadow covers it.
        let date = jiff::civil::date(2026, 7, 15);
        let shed = SitePlan { north_deg: 25.0, ..plan() };
        let at = (21.0, 1.0);
        let inside = |polygon: &[(f64, f64)]| {
            let edges = polygon.iter().zip(polygon.iter().cycle().skip(1));
            let turns: Vec<f64> =
                edges.map(|(a, b)| (b.0 - a.0) * (at.1 - a.1) - (b.1 - a.1) * (at.0 - a.0)).collect();
            turns.iter().all(|t| *t >= 0.0) || turns.iter().all(|t| *t <= 0.0)
        };
        let lit = (0..144).filter(|step| {
            let hour = (f64::from(*step) + 0.5) / 6.0;
            shed.shade(46.0, date, hour).is_some_and(|all| !all.iter().any(|p| inside(p)))
        });
        let hours = f64::from(u32::try_from(lit.count()).unwrap()) / 6.0;
        let asked = shed.sun_hours(at, Metres::ZERO, 46.0, date);
        assert!((hours - asked).abs() < 0.01, "{hours} {asked}");
    }

    #[test]
    fn a_wire_is_as_long_as_the_way_from_its_controller() {
        assert_eq!(plan().wire(1, 24.0, 8.0).map(Metres::m), Some(5.0));
        assert_eq!(plan().wire(2, 24.0, 8.0), None);
    }

    #[test]
    fn a_place_knows_its_zone_its_spray_and_its_sky() {
        let seen = plan().seen((18.0, 2.0), Metres::from_m(2.0));
        assert_eq!(seen.station, Some(1));
        assert!(!seen.in_spray && !seen.covered);
        let (distance, above) = seen.obstacle.unwrap();
        assert_eq!((distance.m(), above.m()), (6.0, 3.0), "the shed; the hedge is lower than the sensor");
        assert!(plan().seen((26.0, 2.0), Metres::from_m(2.0)).covered);
        assert_eq!(plan().seen((50.0, 50.0), Metres::from_m(6.0)).obstacle, None);
    }

    #[test]
    fn an_arc_wets_its_sector_only() {
        let arc = plan().arcs[0];
        assert!(arc.wets(3.0, 3.0, 0.0));
        assert!(!arc.wets(3.0, -3.0, 0.0) && !arc.wets(-3.0, 3.0, 0.0) && !arc.wets(6.0, 6.0, 0.0));
        let full = Arc { from_deg: 0.0, to_deg: 0.0, ..arc };
        assert!(full.wets(-3.0, -3.0, 0.0));
        let across_north = Arc { from_deg: 315.0, to_deg: 45.0, ..arc };
        assert!(across_north.wets(0.0, -3.0, 0.0) && !across_north.wets(0.0, 3.0, 0.0));
    }

    #[test]
    fn sun_is_what_the_obstacles_leave_of_the_day() {
        let summer = jiff::civil::date(2026, 6, 21);
        let hours = |plan: &SitePlan| plan.sun_hours((10.0, 10.0), Metres::from_m(2.0), 46.0, summer);
        let open = hours(&SitePlan::default());
        // Daylight hours N = 24 ÷ π × ωs (FAO-56 eq. 34).
        let n = 24.0 / PI
            * crate::weather::sun::sunset_hour_angle_rad(
                46.0_f64.to_radians(),
                declination_rad(day_of_year(summer)),
            );
        assert!((open - n).abs() < 0.2, "{open} {n}");
        let wall = |x: f64, y: f64, width: f64, depth: f64, height: f64| SitePlan {
            obstacles: vec![Obstacle { name: "wall".into(), x, y, width, depth, height }],
            ..SitePlan::default()
        };
        // A high wall to the east takes the morning, one to the north of it takes little, a low one nothing.
        let east = hours(&wall(11.0, -90.0, 1.0, 200.0, 40.0));
        assert!((open / 2.0 - 0.6..open / 2.0 + 0.6).contains(&east), "{east}");
        let south = hours(&wall(-90.0, 12.0, 200.0, 1.0, 40.0));
        assert!(south < open - 5.0, "{south}");
        assert!(hours(&wall(-90.0, 2.0, 200.0, 1.0, 6.0)) > open - 3.0);
        assert_eq!(hours(&wall(11.0, -90.0, 1.0, 200.0, 1.9)), open);
    }

    #[test]
    fn the_extent_holds_everything() {
        assert_eq!(SitePlan::default().extent(&[]), None);
        let (x, y, width, depth) = plan().extent(&[(30.0, 40.0)]).unwrap();
        assert_eq!((x, y, width, depth), (-6.0, -6.0, 36.0, 46.0));
    }
}

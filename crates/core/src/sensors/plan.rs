//! The plan of a site: zones, obstacles, spray arcs and sensors on the ground, in metres east and
//! south of a corner, and what follows from it for a sensor's place.

use crate::units::Metres;

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

    /// Whether its water reaches a place.
    #[must_use]
    pub fn wets(&self, (x, y): (f64, f64)) -> bool {
        let (dx, dy) = (x - self.x, y - self.y);
        if dx.hypot(dy) > self.throw {
            return false;
        }
        // North is up, so y falls northwards.
        let bearing = dx.atan2(-dy).to_degrees().rem_euclid(360.0);
        (bearing - self.from_deg).rem_euclid(360.0) <= self.sweep_deg()
    }
}

/// A plan.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Plan {
    /// Zones.
    pub plots: Vec<Plot>,
    /// Obstacles.
    pub obstacles: Vec<Obstacle>,
    /// Heads.
    pub arcs: Vec<Arc>,
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

fn distance((x, y): (f64, f64), (left, top, width, depth): (f64, f64, f64, f64)) -> f64 {
    let dx = (left - x).max(0.0).max(x - left - width);
    let dy = (top - y).max(0.0).max(y - top - depth);
    dx.hypot(dy)
}

impl Plan {
    /// Looks at a place, at a height above the ground.
    #[must_use]
    pub fn seen(&self, at: (f64, f64), height: Metres) -> Seen {
        let taller = self.obstacles.iter().filter_map(|o| {
            let above = o.height - height.m();
            (above > 0.0).then(|| (distance(at, (o.x, o.y, o.width, o.depth)), above))
        });
        let worst = taller.clone().max_by(|a, b| (a.1 / a.0.max(1e-6)).total_cmp(&(b.1 / b.0.max(1e-6))));
        Seen {
            obstacle: worst.map(|(d, above)| (Metres::from_m(d), Metres::from_m(above))),
            covered: taller.clone().any(|(d, _)| d <= 0.0),
            in_spray: self.arcs.iter().any(|a| a.wets(at)),
            station: self.plots.iter().find(|p| distance(at, (p.x, p.y, p.width, p.depth)) <= 0.0).map(|p| p.station),
        }
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
            .chain(places.iter().map(|(x, y)| (*x, *y, *x, *y)));
        let (x0, y0, x1, y1) = corners.reduce(|a, b| (a.0.min(b.0), a.1.min(b.1), a.2.max(b.2), a.3.max(b.3)))?;
        Some((x0, y0, x1 - x0, y1 - y0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plan() -> Plan {
        Plan {
            plots: vec![Plot { station: 1, x: 0.0, y: 0.0, width: 20.0, depth: 10.0 }],
            obstacles: vec![
                Obstacle { name: "shed".into(), x: 24.0, y: 0.0, width: 4.0, depth: 4.0, height: 5.0 },
                Obstacle { name: "hedge".into(), x: 0.0, y: 11.0, width: 20.0, depth: 1.0, height: 1.5 },
            ],
            // A quarter from the corner, towards the south-east.
            arcs: vec![Arc { x: 0.0, y: 0.0, throw: 6.0, from_deg: 90.0, to_deg: 180.0 }],
        }
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
        assert!(arc.wets((3.0, 3.0)));
        assert!(!arc.wets((3.0, -3.0)) && !arc.wets((-3.0, 3.0)) && !arc.wets((6.0, 6.0)));
        let full = Arc { from_deg: 0.0, to_deg: 0.0, ..arc };
        assert!(full.wets((-3.0, -3.0)));
        let across_north = Arc { from_deg: 315.0, to_deg: 45.0, ..arc };
        assert!(across_north.wets((0.0, -3.0)) && !across_north.wets((0.0, 3.0)));
    }

    #[test]
    fn the_extent_holds_everything() {
        assert_eq!(Plan::default().extent(&[]), None);
        let (x, y, width, depth) = plan().extent(&[(30.0, 40.0)]).unwrap();
        assert_eq!((x, y, width, depth), (-6.0, -6.0, 36.0, 46.0));
    }
}

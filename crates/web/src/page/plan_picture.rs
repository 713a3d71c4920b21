//! The plan of a site drawn: where it is edited, and wherever a place is looked at.

use crate::page::quantities::{counted, length, plain};
use crate::server::cache::questions;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use askama::Template;
use upland_core::quantity::units::Metres;
use upland_core::sensors::site_plan::Arc;
use upland_core::sensors::site_plan::SitePlan;
use upland_core::site::UnitSystem;
use upland_formats::plan_lines::PlanText;

/// A rectangle, a point or a sector of the plan that can be chosen and pulled.
struct Thing {
    /// Its line in the text of the plan, from 0.
    line: usize,
    kind: &'static str,
    /// What a screen reader says.
    words: String,
    label: String,
    x: String,
    y: String,
    width: String,
    height: String,
    /// The sector of a head.
    path: String,
    /// Where it can be pulled, and what that changes.
    handles: Vec<(&'static str, String, String)>,
    looked_at: bool,
    /// Whether its name stands to the left, as there is no room to the right.
    left: bool,
}

/// The drawing.
#[derive(Template)]
#[template(path = "page/plan_picture.svg")]
pub(crate) struct PlanPicture {
    view: String,
    /// Pixels a metre, and the plan's place of the drawing's corner.
    scale: String,
    corner: (String, String),
    things: Vec<Thing>,
    shade: Vec<String>,
    north: String,
    bar: (String, String, String),
    editable: bool,
    words: String,
}

/// What is drawn besides the plan.
#[derive(Default)]
pub(crate) struct PlanOptions<'a> {
    /// Polygons of shade.
    pub shade: Vec<Vec<(f64, f64)>>,
    /// Whether things can be pulled.
    pub editable: bool,
    /// Names of zones by station.
    pub zones: &'a [(u16, String)],
    /// A zone, or a sensor by its name, that the picture is about.
    pub about: (Option<u16>, Option<&'a str>),
}

/// Width of the drawing, px.
const WIDTH_PX: f64 = 900.0;
/// Lengths that a scale bar may have, metres, and the width it may take, px.
const BARS_M: [f64; 8] = [0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0];
const BAR_PX: f64 = 220.0;

fn one(value: f64) -> String {
    plain(value, 1)
}

/// Metres on the ground as pixels of the drawing.
struct Ground {
    /// The plan's place of the drawing's corner.
    corner: (f64, f64),
    /// Pixels a metre.
    scale: f64,
    north_deg: f64,
}

impl Ground {
    fn at(&self, x: f64, y: f64) -> (String, String) {
        (one((x - self.corner.0) * self.scale), one((y - self.corner.1) * self.scale))
    }

    fn point(&self, place: (f64, f64)) -> String {
        let (x, y) = self.at(place.0, place.1);
        format!("{x} {y}")
    }

    /// A place on the edge of a head's throw.
    fn edge(&self, arc: &Arc, deg: f64) -> (f64, f64) {
        let (sin, cos) = (deg + self.north_deg).to_radians().sin_cos();
        (arc.x + arc.throw * sin, arc.y - arc.throw * cos)
    }

    /// What a head throws on.
    fn sector(&self, arc: &Arc) -> String {
        let edge = |deg: f64| self.point(self.edge(arc, deg));
        let r = one(arc.throw * self.scale);
        if arc.sweep_deg() >= 360.0 {
            let (north, south) = (edge(0.0), edge(180.0));
            return format!("M{north} A{r} {r} 0 1 1 {south} A{r} {r} 0 1 1 {north}Z");
        }
        let large = i32::from(arc.sweep_deg() > 180.0);
        let centre = self.point((arc.x, arc.y));
        format!("M{centre} L{} A{r} {r} 0 {large} 1 {}Z", edge(arc.from_deg), edge(arc.to_deg))
    }
}

/// The things of a plan, with the line that each stands in when it is written.
// Long: one kind after another.
fn things(text: &PlanText, ground: &Ground, look: &PlanOptions<'_>, units: UnitSystem) -> Vec<Thing> {
    let plan = &text.plan;
    let mut line = usize::from(plan.north_deg != 0.0);
    let mut out = Vec::new();
    let metres = |v: f64| length(units, Metres::from_m(v));
    let name_of = |station: u16| {
        let found = look.zones.iter().find(|(n, _)| *n == station);
        found.map_or_else(|| format!("zone {station}"), |(n, name)| format!("{n} {name}"))
    };
    let mut put = |kind: &'static str, label: String, at: (f64, f64), size: (f64, f64), words: String| {
        let (x, y) = ground.at(at.0, at.1);
        let handle = |place: (f64, f64)| ground.at(place.0, place.1);
        let sized = size.0 > 0.0;
        let (hx, hy) = handle((at.0 + size.0, at.1 + size.1));
        out.push(Thing {
            line,
            kind,
            words,
            label,
            x,
            y,
            width: one(size.0 * ground.scale),
            height: one(size.1 * ground.scale),
            path: String::new(),
            handles: if sized { vec![("size", hx, hy)] } else { Vec::new() },
            looked_at: false,
            left: (at.0 - ground.corner.0) * ground.scale > 0.78 * WIDTH_PX,
        });
        line += 1;
    };
    for p in &plan.plots {
        let name = name_of(p.station);
        let words = format!("Zone {name}, {} by {}", metres(p.width), metres(p.depth));
        put("zone", name, (p.x, p.y), (p.width, p.depth), words);
    }
    for o in &plan.obstacles {
        let label = format!("{} {}", o.name, metres(o.height));
        let words = format!("{label} high, {} by {}", metres(o.width), metres(o.depth));
        put("obstacle", label, (o.x, o.y), (o.width, o.depth), words);
    }
    for a in &plan.arcs {
        let words = format!(
            "Head, throws {}, from {} to {} degrees",
            metres(a.throw),
            plain(a.from_deg, 0),
            plain(a.to_deg, 0)
        );
        put("head", String::new(), (a.x, a.y), (0.0, 0.0), words);
    }
    for b in &plan.controllers {
        put(
            "controller",
            format!("controller {}", b.number),
            (b.x, b.y),
            (0.0, 0.0),
            format!("Controller {}", b.number),
        );
    }
    for (name, at) in &text.sensors {
        put("sensor", name.clone(), *at, (0.0, 0.0), format!("Sensor {name}"));
    }
    let heads = out.iter_mut().filter(|t| t.kind == "head").zip(&plan.arcs);
    for (thing, arc) in heads {
        thing.path = ground.sector(arc);
        let handle = |what, deg| {
            let edge = ground.edge(arc, deg);
            let (x, y) = ground.at(edge.0, edge.1);
            (what, x, y)
        };
        let middle = arc.from_deg + arc.sweep_deg() / 2.0;
        thing.handles = vec![handle("from", arc.from_deg), handle("throw", middle), handle("to", arc.to_deg)];
    }
    let (station, sensor) = look.about;
    let plots = plan.plots.iter().map(|p| Some(p.station) == station);
    for (thing, on) in out.iter_mut().filter(|t| t.kind == "zone").zip(plots) {
        thing.looked_at = on;
    }
    for thing in out.iter_mut().filter(|t| t.kind == "sensor") {
        thing.looked_at = sensor == Some(thing.label.as_str());
    }
    out
}

/// Draws a plan; `None` when there is nothing on it and nothing to pull.
pub(crate) fn plan_picture(
    text: &PlanText,
    look: &PlanOptions<'_>,
    units: UnitSystem,
) -> Option<PlanPicture> {
    let plan = &text.plan;
    let places: Vec<(f64, f64)> = text.sensors.iter().map(|(_, at)| *at).collect();
    let empty = look.editable.then_some((0.0, 0.0, 30.0, 18.0));
    let (x0, y0, width, depth) = plan.extent(&places).or(empty)?;
    let margin = (0.04 * width.max(depth)).max(1.0);
    let scale = WIDTH_PX / (width.max(1.0) + 2.0 * margin);
    let ground = Ground { corner: (x0 - margin, y0 - margin), scale, north_deg: plan.north_deg };
    let height = (depth + 2.0 * margin) * scale + 34.0;
    let bar = BARS_M.into_iter().rfind(|m| m * scale <= BAR_PX).unwrap_or(0.5);
    let polygon = |points: &Vec<(f64, f64)>| {
        points.iter().map(|p| ground.point(*p).replace(' ', ",")).collect::<Vec<_>>().join(" ")
    };
    Some(PlanPicture {
        view: format!("0 0 {WIDTH_PX} {}", one(height)),
        scale: plain(scale, 4),
        corner: (plain(ground.corner.0, 3), plain(ground.corner.1, 3)),
        things: things(text, &ground, look, units),
        shade: look.shade.iter().map(polygon).collect(),
        north: plain(plan.north_deg, 1),
        bar: (one(height - 12.0), one(bar * scale), length(units, Metres::from_m(bar))),
        editable: look.editable,
        words: format!(
            "Plan of the site: {}, {}, {}, {}, {}",
            counted(plan.plots.len(), "zone"),
            counted(plan.obstacles.len(), "obstacle"),
            counted(plan.arcs.len(), "head"),
            counted(plan.controllers.len(), "controller"),
            counted(text.sensors.len(), "sensor")
        ),
    })
}

questions! {
    facts Saved {} -> (i64, SitePlan);
}

/// The plan of a site with its sensors where they stand, as it is saved.
pub(crate) async fn saved_plan(here: &AtSite) -> Result<PlanText, PageError> {
    Ok(saved_plan_at(here).await?.1)
}

/// The drawing itself behind its version, without sensors.
pub(crate) async fn drawn_plan(here: &AtSite) -> Result<std::sync::Arc<(i64, SitePlan)>, PageError> {
    let of_site = here.site_key();
    here.more(Saved {}, 10, move |snapshot| snapshot.site_plan(of_site)).await
}

/// The same behind its version.
pub(crate) async fn saved_plan_at(here: &AtSite) -> Result<(i64, PlanText), PageError> {
    let known = drawn_plan(here).await?;
    let placed = here.records.sensors.iter();
    let sensors = placed.filter_map(|s| Some((s.sensor.name.clone(), s.sensor.placement.at?))).collect();
    Ok((known.0, PlanText { plan: known.1.clone(), sensors }))
}

/// The saved plan around a zone or a sensor; empty where none was drawn or what it is about is not on it.
pub(crate) fn plan_about(here: &AtSite, text: &PlanText, about: (Option<u16>, Option<&str>)) -> String {
    let (station, sensor) = about;
    let there = station.is_some_and(|n| text.plan.plots.iter().any(|p| p.station == n))
        || sensor.is_some_and(|name| text.sensors.iter().any(|(own, _)| own == name));
    let zones = here.records.zone_names();
    let look = PlanOptions { zones: &zones, about, ..PlanOptions::default() };
    let picture = there.then(|| plan_picture(text, &look, here.records.units())).flatten();
    picture.and_then(|p| p.render().ok()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_formats::plan_lines::{read, write};

    const METRES: (&str, f64) = ("m", 1.0);

    #[test]
    fn every_thing_knows_its_line_and_where_it_can_be_pulled() {
        let text = "north 30\nzone 1 0 0 20 10\nobstacle 24 0 4 4 5 potting shed\nhead 0 0 6 90 180\nbox 1 23 2\nsensor 18 2 Rain";
        let plan = read(text, METRES).unwrap();
        let zones = [(1, "Upper lawn".to_owned())];
        let look =
            PlanOptions { editable: true, zones: &zones, about: (Some(1), None), ..PlanOptions::default() };
        let drawn = plan_picture(&plan, &look, UnitSystem::Metric).unwrap();
        let written = write(&plan, METRES);
        let lines: Vec<&str> = written.lines().collect();
        for thing in &drawn.things {
            assert!(lines[thing.line].starts_with(thing.kind), "{} {}", thing.line, thing.kind);
        }
        assert_eq!(drawn.things.iter().map(|t| t.handles.len()).collect::<Vec<_>>(), [1, 1, 3, 0, 0]);
        assert!(drawn.things[0].looked_at && !drawn.things[4].looked_at);
        assert_eq!(drawn.things[0].words, "Zone 1 Upper lawn, 20 m by 10 m");
        let svg = drawn.render().unwrap();
        assert!(svg.contains("rotate(30") && svg.contains("data-line=\"1\""), "{svg}");
    }

    #[test]
    fn an_empty_plan_is_drawn_only_where_it_can_be_filled() {
        let empty = PlanText::default();
        assert!(plan_picture(&empty, &PlanOptions::default(), UnitSystem::Metric).is_none());
        let drawn = plan_picture(
            &empty,
            &PlanOptions { editable: true, ..PlanOptions::default() },
            UnitSystem::UsCustomary,
        );
        assert!(drawn.is_some_and(|d| d.things.is_empty() && d.bar.2.contains("ft")));
    }
}

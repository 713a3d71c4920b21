//! The plan of a site: zones, obstacles, throws and sensors as a drawing over a list of lines, and what
//! it says about each sensor's place.

use super::{Tab, TabLink, find, frame, tabs};
use crate::page::frame::Frame;
use crate::page::quantities::{length, plain};
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::sensing::SensorStates;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use upland_core::quantity::bounds;
use upland_core::quantity::units::Metres;
use upland_core::sensors::Sensor;
use upland_core::sensors::site_plan::{Arc, Obstacle, Plot, SitePlan};
use upland_formats::sensor_file::MOST_ON_PLAN;
use upland_store::Saved;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(plan_page).service(save).service(take_over);
}

struct Shape {
    x: String,
    y: String,
    width: String,
    height: String,
    text: String,
}

struct Throw {
    path: String,
}

struct Mark {
    x: String,
    y: String,
    name: String,
}

struct Drawing {
    view: String,
    plots: Vec<Shape>,
    obstacles: Vec<Shape>,
    throws: Vec<Throw>,
    marks: Vec<Mark>,
    scale: Shape,
}

struct Seen {
    sensor: i64,
    version: i32,
    name: String,
    text: String,
}

#[derive(Template)]
#[template(path = "chapters/sensors/site_plan.html")]
struct PlanPage {
    frame: Frame,
    tabs: Vec<TabLink>,
    site_id: i64,
    base: i64,
    lines: String,
    errors: Vec<String>,
    drawing: Option<Drawing>,
    seen: Vec<Seen>,
    unplaced: Vec<(i64, String)>,
}

/// The plan as lines.
fn lines(plan: &SitePlan) -> String {
    let n = |v: f64| plain(v, 2);
    let mut out: Vec<String> = Vec::new();
    out.extend(
        plan.plots
            .iter()
            .map(|p| format!("zone {} {} {} {} {}", p.station, n(p.x), n(p.y), n(p.width), n(p.depth))),
    );
    out.extend(plan.obstacles.iter().map(|o| {
        format!("obstacle {} {} {} {} {} {}", n(o.x), n(o.y), n(o.width), n(o.depth), n(o.height), o.name)
    }));
    out.extend(
        plan.arcs
            .iter()
            .map(|a| format!("head {} {} {} {} {}", n(a.x), n(a.y), n(a.throw), n(a.from_deg), n(a.to_deg))),
    );
    out.join("\n")
}

/// A plan from lines, with every problem by line.
fn read(text: &str) -> Result<SitePlan, Vec<String>> {
    let mut plan = SitePlan::default();
    let mut errors = Vec::new();
    for (i, line) in text.lines().map(str::trim).enumerate().filter(|(_, l)| !l.is_empty()) {
        let words: Vec<&str> = line.split_whitespace().collect();
        let number = |at: usize| {
            words
                .get(at)
                .and_then(|w| w.parse::<f64>().ok())
                .filter(|v| v.is_finite() && v.abs() <= bounds::SITE_METRES.max)
        };
        let all: Vec<Option<f64>> = (1..=5).map(number).collect();
        let wrong = match (words.first().copied(), all.as_slice()) {
            (Some("zone"), [Some(station), Some(x), Some(y), Some(w), Some(d)])
                if *station >= 1.0 && *station <= 250.0 && *w > 0.0 && *d > 0.0 =>
            {
                #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "checked")]
                plan.plots.push(Plot { station: *station as u16, x: *x, y: *y, width: *w, depth: *d });
                None
            }
            (Some("obstacle"), [Some(x), Some(y), Some(w), Some(d), Some(h)])
                if *w > 0.0 && *d > 0.0 && *h > 0.0 =>
            {
                let name = words.iter().skip(6).copied().collect::<Vec<_>>().join(" ");
                plan.obstacles.push(Obstacle {
                    name: name.chars().take(60).collect(),
                    x: *x,
                    y: *y,
                    width: *w,
                    depth: *d,
                    height: *h,
                });
                None
            }
            (Some("head"), [Some(x), Some(y), Some(throw), Some(from), Some(to)]) if *throw > 0.0 => {
                plan.arcs.push(Arc { x: *x, y: *y, throw: *throw, from_deg: *from, to_deg: *to });
                None
            }
            (Some("zone"), _) => Some("a zone is: zone NUMBER EAST SOUTH WIDTH DEPTH"),
            (Some("obstacle"), _) => Some("an obstacle is: obstacle EAST SOUTH WIDTH DEPTH HEIGHT NAME"),
            (Some("head"), _) => {
                Some("a head is: head EAST SOUTH THROW FROM TO, edges in degrees from north, clockwise")
            }
            _ => Some("begin with zone, obstacle or head"),
        };
        if let Some(wrong) = wrong {
            errors.push(format!("Line {}: {wrong}; lengths in metres.", i + 1));
        }
        if plan.plots.len() + plan.obstacles.len() + plan.arcs.len() > MOST_ON_PLAN {
            errors.push(format!("At most {MOST_ON_PLAN} things on a plan."));
            break;
        }
    }
    if errors.is_empty() { Ok(plan) } else { Err(errors) }
}

/// Metres on the ground as pixels of the drawing.
struct Ground {
    /// The corner and a margin, metres.
    corner: (f64, f64),
    margin: f64,
    /// Pixels a metre.
    scale: f64,
}

/// Width of the drawing, px.
const WIDTH_PX: f64 = 900.0;
/// Lengths that a scale bar may have, metres, and the width it may take, px.
const BARS_M: [f64; 7] = [1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0];
const BAR_PX: f64 = 220.0;

fn one(value: f64) -> String {
    plain(value, 1)
}

impl Ground {
    fn px(&self, x: f64) -> f64 {
        (x - self.corner.0 + self.margin) * self.scale
    }

    fn py(&self, y: f64) -> f64 {
        (y - self.corner.1 + self.margin) * self.scale
    }

    /// A rectangle by its corner and its size.
    fn shape(&self, (x, y): (f64, f64), (width, depth): (f64, f64), text: String) -> Shape {
        Shape {
            x: one(self.px(x)),
            y: one(self.py(y)),
            width: one(width * self.scale),
            height: one(depth * self.scale),
            text,
        }
    }

    /// What a head throws on.
    fn throw(&self, arc: &Arc) -> Throw {
        let edge = |deg: f64| {
            let (sin, cos) = deg.to_radians().sin_cos();
            let (x, y) = (arc.x + arc.throw * sin, arc.y - arc.throw * cos);
            format!("{} {}", one(self.px(x)), one(self.py(y)))
        };
        let r = one(arc.throw * self.scale);
        let path = if arc.sweep_deg() >= 360.0 {
            let (north, south) = (edge(0.0), edge(180.0));
            format!("M{north} A{r} {r} 0 1 1 {south} A{r} {r} 0 1 1 {north}Z")
        } else {
            let large = i32::from(arc.sweep_deg() > 180.0);
            let centre = format!("{} {}", one(self.px(arc.x)), one(self.py(arc.y)));
            let (from, to) = (edge(arc.from_deg), edge(arc.to_deg));
            format!("M{centre} L{from} A{r} {r} 0 {large} 1 {to}Z")
        };
        Throw { path }
    }
}

fn drawing(states: &SensorStates, plan: &SitePlan) -> Option<Drawing> {
    let placed = || states.loaded.sensors.iter().filter_map(|s| Some((&s.sensor, s.sensor.placement.at?)));
    let places: Vec<(f64, f64)> = placed().map(|(_, at)| at).collect();
    let (x0, y0, width, depth) = plan.extent(&places)?;
    let margin = 0.02 * width.max(depth).max(1.0);
    let scale = WIDTH_PX / (width.max(1.0) + 2.0 * margin);
    let ground = Ground { corner: (x0, y0), margin, scale };
    let zone = |station: u16| {
        let zone = states.loaded.zones.iter().find(|z| z.zone.number == station);
        zone.map_or(String::new(), |z| format!("{station} {}", z.zone.name))
    };
    let obstacle = |o: &Obstacle| {
        let text = format!("{} {}", o.name, length(states.units(), Metres::from_m(o.height)));
        ground.shape((o.x, o.y), (o.width, o.depth), text)
    };
    let mark = |(sensor, (x, y)): (&Sensor, (f64, f64))| Mark {
        x: one(ground.px(x)),
        y: one(ground.py(y)),
        name: sensor.name.clone(),
    };
    let bar = BARS_M.into_iter().rfind(|m| m * scale <= BAR_PX).unwrap_or(1.0);
    let height = (depth + 2.0 * margin) * scale + 30.0;
    let plots = plan.plots.iter();
    Some(Drawing {
        view: format!("0 0 {WIDTH_PX} {}", one(height)),
        plots: plots.map(|p| ground.shape((p.x, p.y), (p.width, p.depth), zone(p.station))).collect(),
        obstacles: plan.obstacles.iter().map(obstacle).collect(),
        throws: plan.arcs.iter().map(|arc| ground.throw(arc)).collect(),
        marks: placed().map(mark).collect(),
        scale: Shape {
            x: "20".into(),
            y: one(height - 14.0),
            width: one(bar * scale),
            height: String::new(),
            text: length(states.units(), Metres::from_m(bar)),
        },
    })
}

/// The middle of the watering season: the middle of the month with the greatest demand.
fn mid_season(states: &SensorStates) -> Date {
    let year = states.today.year();
    let et0 = states.climate.monthly_expected_et0(year);
    let peak = et0.months().max_by(|a, b| a.1.mm().total_cmp(&b.1.mm()));
    peak.and_then(|(month, _)| Date::new(year, month.number(), 15).ok()).unwrap_or(states.today)
}

/// What the plan says about the placed sensors.
fn seen(states: &SensorStates, plan: &SitePlan) -> Vec<Seen> {
    states
        .loaded
        .sensors
        .iter()
        .filter_map(|record| {
            let place = &record.sensor.placement;
            let seen = plan.seen(
                place.at?,
                place.height.unwrap_or(Metres::from_m(upland_core::sensors::placement::SWITCH_LEAST_M)),
            );
            let units = states.units();
            let mut parts = vec![match seen.obstacle {
                Some((distance, above)) => {
                    format!("{} from what stands {} higher", length(units, distance), length(units, above))
                }
                None => "nothing on the plan stands higher".to_owned(),
            }];
            parts.push(if seen.in_spray { "inside a throw" } else { "outside every throw" }.to_owned());
            if seen.covered {
                parts.push("under something".to_owned());
            }
            let hours = plan.sun_hours(
                place.at?,
                place.height.unwrap_or_default(),
                states.loaded.site.site.latitude_deg,
                mid_season(states),
            );
            parts.push(format!("{} h of sun on a clear day in the middle of the season", plain(hours, 1)));
            if let Some(station) = seen.station {
                parts.push(format!("in zone {station}"));
            }
            Some(Seen {
                sensor: record.id,
                version: record.version,
                name: record.sensor.name.clone(),
                text: format!("{}.", parts.join(", ")),
            })
        })
        .collect()
}

async fn draw(
    here: &AtSite,
    site_id: i64,
    refused: Option<(String, Vec<String>)>,
) -> Result<HttpResponse, PageError> {
    let states = here.sensor_states(None).await?;
    let known = here.more("plan", 10, move |snapshot| snapshot.site_plan(site_id)).await?;
    let (base, plan) = (known.0, &known.1);
    let status = if refused.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let (lines, errors) = refused.unwrap_or_else(|| (lines(plan), Vec::new()));
    page_with(
        status,
        &PlanPage {
            frame: frame(here, "plan")?,
            tabs: tabs(site_id, Tab::Plan),
            site_id,
            base,
            lines,
            errors,
            drawing: drawing(&states, plan),
            seen: seen(&states, plan),
            unplaced: states
                .loaded
                .sensors
                .iter()
                .filter(|s| s.sensor.placement.at.is_none())
                .map(|s| (s.id, s.sensor.name.clone()))
                .collect(),
        },
    )
}

#[get("/sites/{id}/sensors/plan")]
async fn plan_page(here: AtSite) -> Result<HttpResponse, PageError> {
    draw(&here, here.id(), None).await
}

#[post("/sites/{id}/sensors/plan")]
async fn save(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let text = fields.get("lines").to_owned();
    let plan = match read(&text) {
        Ok(plan) => plan,
        Err(errors) => return draw(&here, here.id(), Some((text, errors))).await,
    };
    let (site, base) = (here.id(), fields.get("base").parse().unwrap_or(-1));
    if !here.change(move |change| change.save_site_plan(base, &plan)).await? {
        let said = "Somebody saved the plan meanwhile; theirs is drawn below. What you typed stands in the field: save again to keep yours.";
        return draw(&here.again().await?, site, Some((text, vec![said.to_owned()]))).await;
    }
    flash(&here.who.session, "The plan is saved.", None)?;
    Ok(see_other(&format!("{}/plan", address::sensors(site))))
}

/// Takes what the plan says over into a sensor's placement.
#[post("/sites/{id}/sensors/{sensor}/from-plan")]
async fn take_over(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let states = here.sensor_states(None).await?;
    let record = find(&states, id)?;
    let known = here.more("plan", 10, move |snapshot| snapshot.site_plan(site_id)).await?;
    let plan = &known.1;
    let mut sensor = record.sensor.clone();
    let Some(at) = sensor.placement.at else { return Err(PageError::NotFound) };
    let height =
        sensor.placement.height.unwrap_or(Metres::from_m(upland_core::sensors::placement::SWITCH_LEAST_M));
    let seen = plan.seen(at, height);
    let hours = plan.sun_hours(at, height, states.loaded.site.site.latitude_deg, mid_season(&states));
    sensor.placement.sun_hours = Some((hours * 10.0).round() / 10.0);
    sensor.placement.in_spray = Some(seen.in_spray);
    sensor.placement.covered = Some(seen.covered);
    (sensor.placement.obstacle_distance, sensor.placement.obstacle_above) = match seen.obstacle {
        Some((distance, above)) => (Some(distance), Some(above)),
        None => (None, Some(Metres::ZERO)),
    };
    let base = fields.get("base_version").parse().unwrap_or(0);
    let said = match here.change(move |change| change.save_sensor(id, base, &sensor)).await? {
        None => return Err(PageError::NotFound),
        Some(Saved::As(_) | Saved::Unchanged(_)) => {
            "Sun, spray, cover and clearance are taken from the plan.".to_owned()
        }
        Some(Saved::Conflict(theirs)) => {
            format!("{} changed this sensor meanwhile; look again.", theirs.saved_by)
        }
    };
    flash(&here.who.session, said, None)?;
    Ok(see_other(&format!("{}#h-place", address::sensor(site_id, id))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plan_goes_into_lines_and_back_and_is_refused_by_line() {
        let text = "zone 1 0 0 20 10\nobstacle 24 0 4 4 5 potting shed\nhead 0 0 6 90 180";
        let plan = read(text).unwrap();
        assert_eq!(
            (plan.plots.len(), plan.obstacles[0].name.as_str(), plan.arcs[0].throw),
            (1, "potting shed", 6.0)
        );
        assert_eq!(lines(&plan), text);
        let bad = read("zone 1 0 0\nwall 1 2\nhead 0 0 -6 0 0\nobstacle 1 1 1 1 9e9 x").unwrap_err();
        assert_eq!(bad.len(), 4);
        assert!(bad[0].starts_with("Line 1: a zone is") && bad[1].contains("begin with"));
    }
}

//! The plan of a site: zones, obstacles, heads, controllers and sensors on a drawing over a list of lines, and what it
//! says about each sensor's place. Each pull is computed on the server at once; nothing is stored until it is saved.

use super::{Tab, TabLink, find, frame, tabs};
use crate::page::frame::Frame;
use crate::page::plan_picture::{PlanOptions, PlanPicture, plan_picture, saved_plan, saved_plan_at};
use crate::page::quantities::{counted, length, plain};
use crate::page::sensor_words;
use crate::page::units::Units;
use crate::server::address;
use crate::server::download::attachment;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::snapshot::SiteSnapshot;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use std::collections::BTreeSet;
use upland_core::quantity::month::Month;
use upland_core::quantity::units::Metres;
use upland_core::sensors::Sensor;
use upland_core::sensors::placement::{SWITCH_LEAST_M, Verdict};
use upland_core::sensors::site_plan::SitePlan;
use upland_formats::plan_geojson;
use upland_formats::plan_lines::{self, LengthUnit, PlanText};
use upland_store::Saved;
use upland_store::sensors::SensorRecord;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(plan_page).service(look).service(save).service(geojson).service(take_over);
}

/// What the plan says of a sensor's place, and what a move gains.
struct Seen {
    sensor: i64,
    version: i32,
    name: String,
    text: String,
    /// What is better or worse there than where it is saved.
    moved: Vec<String>,
    /// Whether it stands where it is saved.
    saved: bool,
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
    picture: Option<PlanPicture>,
    seen: String,
    unplaced: Vec<String>,
    months: Vec<(&'static str, i8, bool)>,
    unit: &'static str,
}

/// The list under the drawing.
#[derive(Template)]
#[template(path = "chapters/sensors/plan_seen.html")]
struct SeenPart {
    seen: Vec<Seen>,
    site_id: i64,
    csrf: String,
    may_edit: bool,
}

impl SeenPart {
    fn of(here: &AtSite, snapshot: &SiteSnapshot, text: &PlanText) -> Result<Self, PageError> {
        let (csrf, may_edit) = (here.who.csrf()?, here.who.may_edit());
        Ok(Self { seen: seen(snapshot, text), site_id: here.id(), csrf, may_edit })
    }
}

/// The unit of length of a site, for the lines.
fn unit_of(snapshot: &SiteSnapshot) -> LengthUnit<'static> {
    let shown = Units::of(snapshot.units()).length;
    (shown.unit, shown.metric(1.0))
}

/// Lines or GeoJSON, as they were typed.
fn read(text: &str, snapshot: &SiteSnapshot) -> Result<PlanText, Vec<String>> {
    let site = &snapshot.records.site.site;
    let found = if text.trim_start().starts_with('{') {
        plan_geojson::read(text, site.latitude_deg, site.longitude_deg)?
    } else {
        plan_lines::read(text, unit_of(snapshot))?
    };
    let known = |name: &str| snapshot.records.sensors.iter().any(|s| s.sensor.name == name);
    let strange: Vec<String> = found
        .sensors
        .iter()
        .filter(|(name, _)| !known(name))
        .map(|(name, _)| {
            format!("There is no sensor \"{name}\" at this site; make it first, or correct its name.")
        })
        .collect();
    if strange.is_empty() { Ok(found) } else { Err(strange) }
}

/// The middle of the watering season: the middle of the month with the greatest demand.
fn mid_season(snapshot: &SiteSnapshot) -> Date {
    let year = snapshot.today().year();
    let et0 = snapshot.climate.monthly_expected_et0(year);
    let peak = et0.months().max_by(|a, b| a.1.mm().total_cmp(&b.1.mm()));
    peak.and_then(|(month, _)| Date::new(year, month.number(), 15).ok()).unwrap_or(snapshot.today())
}

/// What a plan says of a place, as placement is judged.
fn placed_by(plan: &SitePlan, record: &SensorRecord, at: (f64, f64), snapshot: &SiteSnapshot) -> Sensor {
    let (sensor, by_decoder) = (&record.sensor, snapshot.is_by_decoder(record));
    let mut placed = sensor.clone();
    let height = sensor.placement.height.unwrap_or(Metres::from_m(SWITCH_LEAST_M));
    let seen = plan.seen(at, height);
    let hours = plan.sun_hours(at, height, snapshot.records.site.site.latitude_deg, mid_season(snapshot));
    placed.placement.at = Some(at);
    placed.placement.sun_hours = Some((hours * 10.0).round() / 10.0);
    placed.placement.in_spray = Some(seen.in_spray);
    placed.placement.covered = Some(seen.covered);
    (placed.placement.obstacle_distance, placed.placement.obstacle_above) = match seen.obstacle {
        Some((distance, above)) => (Some(distance), Some(above)),
        None => (None, Some(Metres::ZERO)),
    };
    // A decoder may sit anywhere along its path, which the plan does not know.
    if let Some(wire) = plan.wire(sensor.controller_number, at.0, at.1).filter(|_| !by_decoder) {
        placed.placement.distance = Some(wire);
    }
    placed
}

/// What becomes better or worse by a move, criterion by criterion.
fn gains(record: &SensorRecord, snapshot: &SiteSnapshot, before: &Sensor, after: &Sensor) -> Vec<String> {
    let judged = |sensor: &Sensor| {
        let moved = SensorRecord { sensor: sensor.clone(), ..record.clone() };
        super::list::judged(snapshot, &moved)
    };
    let (was, is) = (judged(before), judged(after));
    let rank = |verdict: Verdict| match verdict {
        Verdict::Fails => 0,
        Verdict::Unknown => 1,
        Verdict::Doubtful => 2,
        Verdict::Good => 3,
    };
    is.iter()
        .filter_map(|now| {
            let old = was.iter().find(|w| w.criterion == now.criterion)?;
            let better = rank(now.verdict) - rank(old.verdict);
            let figure = sensor_words::found(snapshot.units(), now);
            let figure = if figure.is_empty() { figure } else { format!(" ({figure})") };
            let what = sensor_words::criterion(now.criterion);
            match better {
                0 => None,
                up if up > 0 => Some(format!("better: {what}{figure}")),
                _ => Some(format!("worse: {what}{figure}")),
            }
        })
        .collect()
}

/// Whether two places, metres, are one: lines are written to the centimetre.
fn same_place(a: (f64, f64), b: (f64, f64)) -> bool {
    (a.0 - b.0).hypot(a.1 - b.1) < 0.02
}

/// What a plan says about the sensors on it, beside where they are saved.
fn seen(snapshot: &SiteSnapshot, text: &PlanText) -> Vec<Seen> {
    let of = |(name, at): &(String, (f64, f64))| {
        let record = snapshot.records.sensors.iter().find(|s| s.sensor.name == *name)?;
        let (plan, units) = (&text.plan, snapshot.units());
        let here = placed_by(plan, record, *at, snapshot);
        let place = &here.placement;
        let mut parts = vec![match (place.obstacle_distance, place.obstacle_above) {
            (Some(distance), Some(above)) => {
                format!("{} from an obstacle {} higher", length(units, distance), length(units, above))
            }
            _ => "no obstacle on the plan is higher".to_owned(),
        }];
        let sprayed = place.in_spray == Some(true);
        parts.push(if sprayed { "inside a throw" } else { "outside every throw" }.to_owned());
        if place.covered == Some(true) {
            parts.push("under something".to_owned());
        }
        let hours = place.sun_hours.unwrap_or_default();
        parts.push(format!("{} h of sun on a clear day in the middle of the season", plain(hours, 1)));
        if let Some(wire) = plan.wire(record.sensor.controller_number, at.0, at.1) {
            parts.push(format!(
                "{} from controller {}",
                length(units, wire),
                record.sensor.controller_number
            ));
        }
        if let Some(station) = plan.seen(*at, Metres::ZERO).station {
            parts.push(format!("in zone {station}"));
        }
        let saved_at = record.sensor.placement.at;
        let before = saved_at.map(|old| placed_by(plan, record, old, snapshot));
        let saved = saved_at.is_some_and(|old| same_place(old, *at));
        let moved = match before {
            Some(before) if !saved => gains(record, snapshot, &before, &here),
            _ => Vec::new(),
        };
        let text = format!("{}.", parts.join(", "));
        Some(Seen { sensor: record.id, version: record.version, name: name.clone(), text, moved, saved })
    };
    text.sensors.iter().filter_map(of).collect()
}

/// The month and the hour whose shade is drawn, as a form asks for them.
fn shade(snapshot: &SiteSnapshot, plan: &SitePlan, fields: &Fields) -> Vec<Vec<(f64, f64)>> {
    let month = fields.get("month").parse().ok().and_then(Month::from_number);
    let hour: Option<f64> = fields.get("hour").parse().ok().filter(|h| (0.0..=24.0).contains(h));
    let date = month.and_then(|month| Date::new(snapshot.today().year(), month.number(), 15).ok());
    let latitude = snapshot.records.site.site.latitude_deg;
    date.zip(hour).and_then(|(date, hour)| plan.shade(latitude, date, hour)).unwrap_or_default()
}

fn picture(snapshot: &SiteSnapshot, text: &PlanText, fields: &Fields, editable: bool) -> Option<PlanPicture> {
    let zones = snapshot.records.zone_names();
    let asked = PlanOptions {
        shade: shade(snapshot, &text.plan, fields),
        editable,
        zones: &zones,
        about: (None, None),
    };
    plan_picture(text, &asked, snapshot.units())
}

async fn draw(
    here: &AtSite,
    site_id: i64,
    refused: Option<(String, Vec<String>)>,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let (base, text) = saved_plan_at(here).await?;
    let status = if refused.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let (lines, errors) =
        refused.unwrap_or_else(|| (plan_lines::write(&text, unit_of(&snapshot)), Vec::new()));
    // What was typed is drawn where it can be read.
    let text = read(&lines, &snapshot).unwrap_or(text);
    let may_edit = here.who.may_edit();
    let part = SeenPart::of(here, &snapshot, &text)?;
    let on_plan = |s: &&SensorRecord| !text.sensors.iter().any(|(name, _)| *name == s.sensor.name);
    page_with(
        status,
        &PlanPage {
            frame: frame(here, "plan")?,
            tabs: tabs(site_id, Tab::Plan),
            site_id,
            base,
            picture: picture(&snapshot, &text, &Fields::default(), may_edit),
            seen: part.render()?,
            unplaced: snapshot
                .records
                .sensors
                .iter()
                .filter(on_plan)
                .map(|s| s.sensor.name.clone())
                .collect(),
            months: Month::ALL
                .into_iter()
                .map(|m| (m.name(), m.number(), m == Month::of(snapshot.today())))
                .collect(),
            unit: unit_of(&snapshot).0,
            lines,
            errors,
        },
    )
}

#[get("/sites/{id}/sensors/plan")]
async fn plan_page(here: AtSite) -> Result<HttpResponse, PageError> {
    draw(&here, here.id(), None).await
}

/// Draws what was typed or pulled, and says what it means for each sensor; stores nothing.
#[post("/sites/{id}/sensors/plan/look")]
async fn look(here: AtSite, fields: Fields) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let (picture, part, lines, errors) = match read(fields.get("lines"), &snapshot) {
        Err(errors) => (None, None, String::new(), errors),
        Ok(text) => {
            let part = SeenPart::of(&here, &snapshot, &text)?;
            let lines = plan_lines::write(&text, unit_of(&snapshot));
            (picture(&snapshot, &text, &fields, here.who.may_edit()), Some(part), lines, Vec::new())
        }
    };
    let answer = serde_json::json!({
        "picture": picture.map(|p| p.render()).transpose()?.unwrap_or_default(),
        "seen": part.map(|p| p.render()).transpose()?.unwrap_or_default(),
        // In the order in which the drawing counts them.
        "lines": lines,
        "errors": errors,
    });
    Ok(HttpResponse::Ok().json(answer))
}

/// The plan as GeoJSON.
#[get("/sites/{id}/sensors/plan.geojson")]
async fn geojson(here: AtSite) -> Result<HttpResponse, PageError> {
    let site = &here.records.site.site;
    let body = plan_geojson::write(&saved_plan(&here).await?, site.latitude_deg, site.longitude_deg);
    Ok(HttpResponse::Ok()
        .content_type("application/geo+json")
        .insert_header(attachment(&format!("{} plan", site.name), "geojson"))
        .body(body))
}

/// What to say where somebody saved the plan meanwhile: each line of theirs that saving again would remove.
fn only_theirs(theirs: &str, typed: &str) -> Vec<String> {
    let own: BTreeSet<&str> = typed.lines().map(str::trim).collect();
    let lost: Vec<&str> =
        theirs.lines().map(str::trim).filter(|l| !l.is_empty() && !own.contains(l)).collect();
    let said = match lost.is_empty() {
        true => {
            "Somebody saved the plan meanwhile; yours has everything that theirs has. Save again to keep yours."
        }
        false => {
            "Somebody saved the plan meanwhile. Saving again keeps what you typed and removes these lines of theirs; copy those \
             that should stay into the field first."
        }
    };
    core::iter::once(said.to_owned()).chain(lost.into_iter().map(str::to_owned)).collect()
}

#[post("/sites/{id}/sensors/plan")]
async fn save(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let typed = fields.get("lines").to_owned();
    let text = match read(&typed, &snapshot) {
        Ok(text) => text,
        Err(errors) => return draw(&here, here.id(), Some((typed, errors))).await,
    };
    let (site, base) = (here.id(), fields.get("base").parse().unwrap_or(-1));
    // Sensors that stand elsewhere now; each is a version of its own, so that somebody's other change stays.
    let moved: Vec<(i64, i32, Sensor)> = text
        .sensors
        .iter()
        .filter_map(|(name, at)| {
            let record = snapshot.records.sensors.iter().find(|s| s.sensor.name == *name)?;
            let same = record.sensor.placement.at.is_some_and(|old| same_place(old, *at));
            let mut sensor = record.sensor.clone();
            sensor.placement.at = Some(*at);
            (!same).then_some((record.id, record.version, sensor))
        })
        .collect();
    let (plan, count) = (text.plan, moved.len());
    let saved = here
        .change(move |change| {
            if !change.save_site_plan(base, &plan)? {
                return Ok(None);
            }
            let mut left = 0;
            for (id, version, sensor) in &moved {
                if matches!(change.save_sensor(*id, *version, sensor)?, Some(Saved::Conflict(_)) | None) {
                    left += 1;
                }
            }
            Ok(Some(left))
        })
        .await?;
    let Some(left) = saved else {
        let here = here.again().await?;
        let said = only_theirs(&plan_lines::write(&saved_plan(&here).await?, unit_of(&snapshot)), &typed);
        return draw(&here, site, Some((typed, said))).await;
    };
    let said = match (count, left) {
        (0, _) => "The plan is saved.".to_owned(),
        (n, 0) => {
            format!("The plan is saved, with {} in another place.", counted(n, "sensor"))
        }
        (_, 1) => {
            "The plan is saved. Somebody changed a sensor meanwhile, and it stays where it is; save again to move it.".to_owned()
        }
        (_, n) => format!(
            "The plan is saved. Somebody changed {n} sensors meanwhile, and they stay where they are; save again to move them."
        ),
    };
    flash(&here.who.session, said, None)?;
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
    let snapshot = here.snapshot(None).await?;
    let record = find(&snapshot, id)?;
    let plan = saved_plan(&here).await?.plan;
    let Some(at) = record.sensor.placement.at else { return Err(PageError::NotFound) };
    let sensor = placed_by(&plan, record, at, &snapshot);
    let base = fields.get("base_version").parse().unwrap_or(0);
    let said = match here.change(move |change| change.save_sensor(id, base, &sensor)).await? {
        None => return Err(PageError::NotFound),
        Some(Saved::As(_) | Saved::Unchanged(_)) => {
            "Sun, spray, cover, clearance and the way to its controller are taken from the plan.".to_owned()
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
    use super::only_theirs;

    #[test]
    fn sentence_4_a_conflict_of_plans_names_each_line_that_saving_again_would_remove() {
        let theirs = "tree 3 4 radius 2 height 5\nwall 0 0 to 9 0 height 2\n";
        let said = only_theirs(theirs, "wall 0 0 to 9 0 height 2\n  post 1 1\n");
        assert_eq!(said[1..], ["tree 3 4 radius 2 height 5"]);
        assert!(said[0].contains("removes these lines of theirs"));
        assert_eq!(only_theirs(theirs, theirs).len(), 1);
        assert!(only_theirs(theirs, theirs)[0].contains("yours has everything"));
    }
}

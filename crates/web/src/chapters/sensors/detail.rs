//! The page of one sensor, and what is done from it: a bypass, a task, another threshold, taking it down.

use super::thresholds::{Replayed, replayed};
use super::view::SensorView;
use super::{find, frame};
use crate::page::frame::Frame;
use crate::page::photographs::photographs;
use crate::page::plan_picture::{plan_about, saved_plan};
use crate::page::sensor_words::moment;
use crate::page::sensor_words::setting_fault;
use crate::page::take_back::TakeBack;
use crate::page::units::HOURS;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::request_locale::habit;
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::snapshot::SiteSnapshot;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::sync::Arc;
use upland_core::codes::Coded;
use upland_core::quantity::time::instant;
use upland_core::quantity::units::Millimetres;
use upland_core::sensors::state::{BYPASS_HOURS, LONGEST_BYPASS_HOURS, Pause};
use upland_core::sensors::{Channel, Task};
use upland_formats::typed;
use upland_store::Subject;
use upland_store::photos::PhotoOf;
use upland_store::sensors::{NewSensorEvent, SensorEventKind};

/// When a task of a day counts as done.
const NOON: jiff::civil::Time = jiff::civil::time(12, 0, 0, 0);

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(sensor_page)
        .service(note)
        .service(undo_event)
        .service(redo_event)
        .service(set_threshold)
        .service(remove)
        .service(restore);
}

#[derive(Template)]
#[template(path = "chapters/sensors/sensor.html")]
struct SensorPage {
    frame: Frame,
    site_id: i64,
    id: i64,
    sensor: Arc<SensorView>,
    /// The plan around it.
    plan: String,
    photos: String,
    new_token: Option<String>,
    /// Whether stand-ins are offered, readings of one that runs, and speeds.
    stand_ins: bool,
    stand_in: Option<u64>,
    speeds: [(u32, &'static str); 3],
    channels: Vec<(&'static str, &'static str)>,
    errors: Vec<String>,
    typed: Fields,
    bypass_hours: i64,
    longest_hours: i64,
}

impl SensorPage {
    fn typed(&self, name: &str) -> &str {
        self.typed.get(name)
    }
}

/// What a form left behind when it was refused.
#[derive(Default)]
pub(super) struct Left {
    pub errors: Vec<String>,
    pub typed: Fields,
    pub new_token: Option<String>,
}

questions! {
    words ReplayOf { sensor: i64, today: Date } -> Replayed;
    words Whole { sensor: i64 } -> SensorView;
}

pub(super) async fn draw(
    here: &AtSite,
    site_id: i64,
    id: i64,
    status: StatusCode,
    left: Left,
) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let snapshot = here.snapshot(None).await?;
    find(&snapshot, id)?;
    let own = Arc::clone(&snapshot);
    let question = ReplayOf { sensor: id, today: snapshot.today() };
    let replayed =
        here.once(here.about(), question, 30, move |_| Ok(replayed(&own, find(&own, id)?))).await?;
    let about = here.about_moment(here.moment(None));
    let sensor = here.once(about, Whole { sensor: id }, 20, move |state| {
        let (devices, refused) = state.store.read(|snapshot| {
            let mut devices = snapshot.devices(of_site)?;
            devices.retain(|d| d.sensor_id == id);
            let ids: Vec<i64> = devices.iter().map(|d| d.id).collect();
            let refused = if ids.is_empty() { Vec::new() } else { snapshot.refusals(&ids)? };
            Ok((devices, refused))
        })?;
        SensorView::of(&snapshot, id, replayed, &devices, &refused)
    });
    let sensor = sensor.await?;
    let running = &here.state.stand_ins;
    let plan = plan_about(here, &saved_plan(here).await?, (None, Some(&sensor.name)));
    page_with(
        status,
        &SensorPage {
            frame: frame(here, "sensor")?,
            site_id,
            id,
            sensor,
            plan,
            photos: photographs(here, PhotoOf::Sensor(id)).await?,
            new_token: left.new_token,
            stand_ins: running.url.is_some(),
            stand_in: running.taken(id),
            speeds: super::simulator::SPEEDS,
            channels: Channel::TABLE.iter().map(|(c, code)| (*code, c.bound().name)).collect(),
            errors: left.errors,
            typed: left.typed,
            bypass_hours: BYPASS_HOURS,
            longest_hours: LONGEST_BYPASS_HOURS,
        },
    )
}

#[get("/sites/{id}/sensors/{sensor}")]
async fn sensor_page(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let token = here.who.session.remove_as::<String>("device_token").and_then(Result::ok);
    draw(&here, path.0, path.1, StatusCode::OK, Left { new_token: token, ..Left::default() }).await
}

/// Longest reason of an event, characters.
const LONGEST_REASON: usize = 300;

/// What was noted of a sensor: kind, from when, until when, and what belongs to it.
type Noted = (SensorEventKind, Timestamp, Option<Timestamp>, serde_json::Value);

/// Longest silence, days.
const LONGEST_SILENCE_DAYS: i32 = 60;

/// The end of a silence that was given as a date: the end of that day.
fn silent_until(text: &str, at: Timestamp, tz: &TimeZone) -> Option<Timestamp> {
    let today = at.to_zoned(tz.clone()).date();
    let last = typed::date(text, today, habit()).ok()?;
    let days = (last - today).get_days();
    let after = last.tomorrow().ok().filter(|_| (0..=LONGEST_SILENCE_DAYS).contains(&days))?;
    Some(upland_core::quantity::time::midnight(after, tz))
}

/// A bypass or a silence of some hours from now; a silence may also be until a date.
fn read_pause(
    fields: &Fields,
    kind: SensorEventKind,
    at: Timestamp,
    tz: &TimeZone,
) -> Result<Noted, Vec<String>> {
    let mut errors = Vec::new();
    if fields.get("reason").is_empty() {
        errors.push("Say why, for whoever finds it next.".into());
    }
    let hours = match fields.get("hours") {
        "" => Some(BYPASS_HOURS),
        text => {
            #[allow(clippy::cast_possible_truncation, reason = "checked by the filter")]
            let hours = HOURS.read(text).ok().map(|h| h.round() as i64);
            hours.filter(|h| (1..=LONGEST_BYPASS_HOURS).contains(h))
        }
    };
    let until = Some(fields.get("hours")).filter(|_| kind == SensorEventKind::Silence && hours.is_none());
    if let (Some(until), true) = (until.and_then(|text| silent_until(text, at, tz)), errors.is_empty()) {
        return Ok((kind, at, Some(until), serde_json::json!({})));
    }
    match hours {
        Some(hours) if errors.is_empty() => {
            let pause = Pause::of_hours(at, hours);
            Ok((kind, pause.from, Some(pause.until), serde_json::json!({})))
        }
        Some(_) => Err(errors),
        None => {
            errors.push({
                let until =
                    if kind == SensorEventKind::Silence { ", or until a date within two months" } else { "" };
                format!("It lasts 1 to {LONGEST_BYPASS_HOURS} hours{until}; then it ends by itself.")
            });
            Err(errors)
        }
    }
}

/// A task that was done on a day, today at the latest.
fn read_task(fields: &Fields, snapshot: &SiteSnapshot, latest: Date) -> Result<Noted, Vec<String>> {
    let task = Task::from_code(fields.get("task"));
    let date = fields.date("date", latest).map_err(|refusal| refusal.to_string());
    let date = date.and_then(|date| {
        let ahead = date > latest;
        if ahead { Err("The day lies in the future; note what was done.".to_owned()) } else { Ok(date) }
    });
    match (task, date) {
        (Some(task), Ok(date)) => Ok((
            SensorEventKind::Task,
            instant(date, NOON, &snapshot.tz),
            None,
            serde_json::json!({ "task": task.code() }),
        )),
        (task, date) => {
            let no_task = task.is_none().then(|| "Choose a task of the list.".to_owned());
            Err(no_task.into_iter().chain(date.err()).collect())
        }
    }
}

/// A bypass, a silence, or a task that was done.
#[post("/sites/{id}/sensors/{sensor}/events")]
async fn note(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let snapshot = here.snapshot(None).await?;
    find(&snapshot, id)?;
    let noted = match fields.get("kind") {
        "bypass" => read_pause(&fields, SensorEventKind::Bypass, here.now(), &here.records.tz),
        "silence" => read_pause(&fields, SensorEventKind::Silence, here.now(), &here.records.tz),
        "task" => read_task(&fields, &snapshot, snapshot.today().max(here.today())),
        _ => {
            return Err(PageError::BadRequest(
                "The form does not say what was done. Reload the page.".into(),
            ));
        }
    };
    let reason = fields.get("reason").to_owned();
    let long = reason.chars().count() > LONGEST_REASON;
    let long = long.then(|| format!("A reason has at most {LONGEST_REASON} letters."));
    let (kind, from, until, body) = match (noted, long) {
        (Ok(noted), None) => noted,
        (noted, long) => {
            let errors = long.into_iter().chain(noted.err().into_iter().flatten()).collect();
            let left = Left { errors, typed: fields, new_token: None };
            return draw(&here, site_id, id, StatusCode::UNPROCESSABLE_ENTITY, left).await;
        }
    };
    let until_words = until.map_or(String::new(), |until| moment(until, &snapshot.tz));
    let said = match kind {
        SensorEventKind::Bypass => format!("On bypass until {until_words}; then it counts again by itself."),
        SensorEventKind::Silence => {
            format!("Silent until {until_words}; then its alarms come back by themselves.")
        }
        _ => "Written down.".to_owned(),
    };
    let made = here
        .change(move |change| {
            change.add_sensor_event(id, &NewSensorEvent { kind, from, until, body, reason: &reason })
        })
        .await?
        .ok_or(PageError::NotFound)?;
    flash(&here.who.session, said, Some(format!("{}/events/{made}/undo", address::sensor(site_id, id))))?;
    Ok(see_other(&address::sensor(site_id, id)))
}

fn event(path: (i64, i64, i64)) -> TakeBack {
    let (site, sensor, id) = path;
    TakeBack {
        subject: Subject::SensorEvent,
        under: sensor,
        id,
        address: format!("{}/events/{id}", address::sensor(site, sensor)),
        list: address::sensor(site, sensor),
        said: ("Taken back.", "It is restored."),
    }
}

#[post("/sites/{id}/sensors/{sensor}/events/{event}/undo")]
async fn undo_event(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    event(*path).set(&here, true).await
}

#[post("/sites/{id}/sensors/{sensor}/events/{event}/redo")]
async fn redo_event(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    event(*path).set(&here, false).await
}

/// Sets the rain threshold to one of the replayed ones.
#[post("/sites/{id}/sensors/{sensor}/threshold")]
async fn set_threshold(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let snapshot = here.snapshot(None).await?;
    let record = find(&snapshot, id)?;
    let mut sensor = record.sensor.clone();
    let mm: f64 = fields
        .get("mm")
        .parse()
        .map_err(|_| PageError::BadRequest("The form does not say its threshold. Reload the page.".into()))?;
    sensor.setting.rain_threshold = Millimetres::from_mm(mm);
    if let Some(fault) = sensor.setting.check(&sensor.card).first() {
        let left = Left {
            errors: vec![setting_fault(snapshot.units(), fault)],
            typed: fields.clone(),
            new_token: None,
        };
        return draw(&here, site_id, id, StatusCode::UNPROCESSABLE_ENTITY, left).await;
    }
    let base = fields.get("base_version").parse().unwrap_or(0);
    let said = match here.change(move |change| change.save_sensor(id, base, &sensor)).await? {
        None => return Err(PageError::NotFound),
        Some(upland_store::Saved::As(_)) => "The threshold is set here; set it on the sensor too.".to_owned(),
        Some(upland_store::Saved::Unchanged(_)) => "That is the threshold already.".to_owned(),
        Some(upland_store::Saved::Conflict(theirs)) => format!(
            "{} saved version {} meanwhile; nothing was set. Look again.",
            theirs.saved_by, theirs.version
        ),
    };
    flash(&here.who.session, said, None)?;
    Ok(see_other(&address::sensor(site_id, id)))
}

#[post("/sites/{id}/sensors/{sensor}/remove")]
async fn remove(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (of, now) = (*path, here.now());
    if !here.change(move |change| change.take_back(Subject::Sensor, of.0, of.1, Some(now))).await? {
        return Err(PageError::NotFound);
    }
    let undo = format!("{}/restore", address::sensor(of.0, of.1));
    flash(&here.who.session, "The sensor is taken down.", Some(undo))?;
    Ok(see_other(&address::sensors(of.0)))
}

#[post("/sites/{id}/sensors/{sensor}/restore")]
async fn restore(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let of = *path;
    if !here.change(move |change| change.take_back(Subject::Sensor, of.0, of.1, None)).await? {
        return Err(PageError::NotFound);
    }
    flash(&here.who.session, "The sensor is restored.", None)?;
    Ok(see_other(&address::sensor(path.0, path.1)))
}

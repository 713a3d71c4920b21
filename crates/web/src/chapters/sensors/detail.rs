//! One sensor: what it says and why, its record, each threshold on the site's own rain, its place, its
//! bypass, its upkeep, its devices.

use super::figures::{Replayed, Span, ThresholdRow, extra, replayed};
use super::list::{judged, next_task};
use super::{find, frame};
use crate::page::frame::Frame;
use crate::page::quantities::plain;
use crate::page::sensor_words::{cause, criterion, found, moment, remedy, says, verdict};
use crate::page::take_back::TakeBack;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::clock::instant;
use crate::site::context::{AtSite, EditorAt};
use crate::site::sensing::SensorStates;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use upland_core::codes::Coded;
use upland_core::quantity::units::Millimetres;
use upland_core::sensors::state::{BYPASS_HOURS, LONGEST_BYPASS_HOURS, Pause};
use upland_core::sensors::{Channel, Sense, Task, upkeep};
use upland_store::Subject;
use upland_store::readings::{DeviceRecord, Refused};
use upland_store::sensors::{NewSensorEvent, SensorEvent, SensorEventKind};

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

struct PlaceRow {
    criterion: &'static str,
    verdict: &'static str,
    fails: bool,
    found: String,
    remedy: &'static str,
}

struct TaskRow {
    code: &'static str,
    label: &'static str,
    since: Date,
    due: Date,
    overdue: bool,
}

struct EventRow {
    id: i64,
    what: String,
    when: String,
    reason: String,
    by: String,
    undone: bool,
}

struct ReadRow {
    channel: String,
    last: String,
    value: String,
    count: usize,
}

struct DeviceRow {
    id: i64,
    name: String,
    seen: String,
    revoked: bool,
    refused: Vec<String>,
}

#[derive(Template)]
#[template(path = "chapters/sensors/sensor.html")]
struct SensorPage {
    frame: Frame,
    site_id: i64,
    id: i64,
    name: String,
    card: String,
    version: i32,
    box_number: u8,
    says: String,
    because: String,
    source: &'static str,
    silent: bool,
    broken_wire: &'static str,
    extra: Vec<String>,
    holds: Vec<String>,
    spans: Vec<Span>,
    months: Vec<Span>,
    thresholds: Vec<ThresholdRow>,
    replay_words: String,
    place: Vec<PlaceRow>,
    next: String,
    overdue: bool,
    tasks: Vec<TaskRow>,
    events: Vec<EventRow>,
    reads: Vec<ReadRow>,
    devices: Vec<DeviceRow>,
    new_token: Option<String>,
    /// Whether stand-ins are offered, readings of one that runs, and speeds.
    stand_ins: bool,
    stand_in: Option<u64>,
    speeds: [(u32, &'static str); 3],
    channels: Vec<(&'static str, &'static str)>,
    is_probe: bool,
    errors: Vec<String>,
    typed: Fields,
    today: Date,
    bypass_hours: i64,
    longest_hours: i64,
    clock: String,
}

impl SensorPage {
    fn typed(&self, name: &str) -> &str {
        self.typed.get(name)
    }
}

fn event_row(room: &SensorStates, event: &SensorEvent) -> EventRow {
    let text = |key: &str| {
        event
            .body
            .get(key)
            .map(|v| v.as_f64().map_or_else(|| v.as_str().unwrap_or("").to_owned(), |n| plain(n, 1)))
    };
    let what = match event.kind {
        SensorEventKind::Bypass => "bypass".to_owned(),
        SensorEventKind::Silence => "alarms silent".to_owned(),
        SensorEventKind::Task => {
            text("task").and_then(|t| Task::from_code(&t)).map_or("upkeep", Task::label).to_owned()
        }
        SensorEventKind::Calibration => match text("threshold_pct") {
            Some(t) => format!("calibrated: threshold {t} %"),
            None => format!("calibration failed: {}", text("failure").unwrap_or_default()),
        },
        SensorEventKind::Adjustment => format!(
            "threshold {} → {}; looked {}",
            text("from").unwrap_or_default(),
            text("to").unwrap_or_default(),
            text("looks").unwrap_or_default()
        ),
    };
    EventRow {
        id: event.id,
        what,
        when: match event.until {
            Some(until) => format!("{} to {}", moment(event.from, &room.tz), moment(until, &room.tz)),
            None => moment(event.from, &room.tz),
        },
        reason: event.reason.clone(),
        by: event.said_by.clone(),
        undone: event.undone,
    }
}

struct Around {
    devices: Vec<DeviceRecord>,
    refused: Vec<Refused>,
    stand_ins: bool,
    stand_in: Option<u64>,
}

/// What a form left behind when it was refused.
#[derive(Default)]
pub(super) struct Left {
    pub errors: Vec<String>,
    pub typed: Fields,
    pub new_token: Option<String>,
}

pub(super) async fn draw(
    here: &AtSite,
    (site_id, id): (i64, i64),
    status: StatusCode,
    left: Left,
) -> Result<HttpResponse, PageError> {
    let room = here.sensor_states(None).await?;
    find(&room, id)?;
    let (devices, refused) = here
        .read(move |snapshot| {
            let mut devices = snapshot.devices(site_id)?;
            devices.retain(|d| d.sensor_id == id);
            let ids: Vec<i64> = devices.iter().map(|d| d.id).collect();
            let refused = if ids.is_empty() { Vec::new() } else { snapshot.refusals(&ids)? };
            Ok((devices, refused))
        })
        .await?;
    let running = &here.state.stand_ins;
    let around = Around { devices, refused, stand_ins: running.url.is_some(), stand_in: running.taken(id) };
    let frame = frame(here, "sensor")?;
    let drawn = web::block(move || build(frame, &room, id, around, left)).await??;
    page_with(status, &drawn)
}

fn build(
    frame: Frame,
    room: &SensorStates,
    id: i64,
    around: Around,
    left: Left,
) -> Result<SensorPage, PageError> {
    let record = find(room, id)?;
    let units = room.units();
    let said = room.says(record);
    let (line, because) = says(units, &said, &room.tz);
    let Replayed { rows: thresholds, words: replay_words, spans, months } = replayed(room, record);
    let (next, overdue) = next_task(room, record);
    let holds = room
        .holds(record, room.at)
        .iter()
        .rev()
        .take(6)
        .map(|h| {
            format!(
                "{} to {}: {}",
                moment(h.from, &room.tz),
                h.until.map_or("now".to_owned(), |u| moment(u, &room.tz)),
                cause(units, h.cause)
            )
        })
        .collect();
    Ok(SensorPage {
        site_id: room.loaded.site.id,
        id,
        name: record.sensor.name.clone(),
        card: format!("{}, {}", record.sensor.card.name, record.sensor.card.signal.label()),
        version: record.version,
        box_number: record.sensor.box_number,
        says: line,
        because,
        source: if room.own(id).is_some() {
            "From its own readings."
        } else {
            "It has no readings of its own, so this is what the site's record would make it say."
        },
        silent: matches!(said, upland_core::sensors::state::Says::Silent { .. }),
        broken_wire: record.sensor.card.signal.broken_wire(),
        extra: extra(room, record),
        holds,
        spans,
        months,
        thresholds,
        replay_words,
        place: judged(room, record)
            .iter()
            .map(|j| PlaceRow {
                criterion: criterion(j.criterion),
                verdict: verdict(j.verdict),
                fails: j.verdict == upland_core::sensors::placement::Verdict::Fails,
                found: found(units, j),
                remedy: if j.verdict == upland_core::sensors::placement::Verdict::Good {
                    ""
                } else {
                    remedy(j.criterion, &record.sensor.card)
                },
            })
            .collect(),
        next,
        overdue,
        tasks: upkeep::due(&record.sensor.card, record.installed_on, &room.done(id))
            .into_iter()
            .map(|d| TaskRow {
                code: d.task.code(),
                label: d.task.label(),
                since: d.since,
                due: d.on,
                overdue: d.overdue_days(room.today) >= 0,
            })
            .collect(),
        events: room
            .loaded
            .sensor_events
            .iter()
            .filter(|e| e.sensor_id == id)
            .take(20)
            .map(|e| event_row(room, e))
            .collect(),
        reads: room
            .own(id)
            .map(|all| {
                all.iter()
                    .filter_map(|(channel, readings)| {
                        let last = readings.last()?;
                        Some(ReadRow {
                            channel: channel.bound().name.to_owned(),
                            last: moment(last.at, &room.tz),
                            value: format!("{} {}", plain(last.value, 2), channel.bound().unit),
                            count: readings.as_slice().len(),
                        })
                    })
                    .collect()
            })
            .unwrap_or_default(),
        devices: around
            .devices
            .iter()
            .map(|d| DeviceRow {
                id: d.id,
                name: d.name.clone(),
                seen: d
                    .seen_at
                    .map_or("never seen".into(), |at| format!("last seen {}", moment(at, &room.tz))),
                revoked: d.revoked_at.is_some(),
                refused: around
                    .refused
                    .iter()
                    .filter(|r| r.device_id == Some(d.id))
                    .map(|r| {
                        format!(
                            "{} refused, {} times, last {}: {}",
                            r.reason,
                            r.count,
                            moment(r.last_at, &room.tz),
                            r.example
                        )
                    })
                    .collect(),
            })
            .collect(),
        new_token: left.new_token,
        stand_ins: around.stand_ins,
        stand_in: around.stand_in,
        speeds: super::stand_in::SPEEDS,
        channels: Channel::TABLE.iter().map(|(c, code)| (*code, c.bound().name)).collect(),
        is_probe: record.sensor.card.senses(Sense::SoilMoisture),
        errors: left.errors,
        typed: left.typed,
        today: room.today,
        bypass_hours: BYPASS_HOURS,
        longest_hours: LONGEST_BYPASS_HOURS,
        clock: room.at.to_zoned(room.tz.clone()).strftime("%Y-%m-%dT%H:%M").to_string(),
        frame,
    })
}

#[get("/sites/{id}/sensors/{sensor}")]
async fn sensor_page(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let token = here.who.session.remove_as::<String>("device_token").and_then(Result::ok);
    draw(&here, *path, StatusCode::OK, Left { new_token: token, ..Left::default() }).await
}

/// A bypass, a silence, or a task that was done.
#[post("/sites/{id}/sensors/{sensor}/events")]
async fn note(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let room = here.sensor_states(None).await?;
    find(&room, id)?;
    let mut errors = Vec::new();
    let reason = fields.get("reason").to_owned();
    let kind = fields.get("kind");
    if reason.chars().count() > 300 {
        errors.push("A reason has at most 300 letters.".to_owned());
    }
    let event = match kind {
        "bypass" | "silence" => {
            if reason.is_empty() {
                errors.push("Say why, for whoever finds it next.".into());
            }
            let hours = match fields.get("hours") {
                "" => Some(BYPASS_HOURS),
                text => text.parse::<i64>().ok().filter(|h| (1..=LONGEST_BYPASS_HOURS).contains(h)),
            };
            if hours.is_none() {
                errors.push(format!(
                    "A bypass lasts 1 to {LONGEST_BYPASS_HOURS} hours; then it ends by itself."
                ));
            }
            let pause = Pause::of_hours(room.at, hours.unwrap_or(BYPASS_HOURS));
            let kind = if kind == "bypass" { SensorEventKind::Bypass } else { SensorEventKind::Silence };
            (kind, pause.from, Some(pause.until), serde_json::json!({}))
        }
        "task" => {
            let task = Task::from_code(fields.get("task"));
            let date = fields.date("date");
            if task.is_none() {
                errors.push("Choose a task of the list.".into());
            }
            let at = match date {
                Some(date) if date <= room.today.max(here.today()) => instant(date, NOON, &room.tz),
                _ => {
                    errors.push("A date written YYYY-MM-DD, not in the future.".into());
                    room.at
                }
            };
            (SensorEventKind::Task, at, None, serde_json::json!({ "task": task.map_or("", |t| t.code()) }))
        }
        _ => {
            return Err(PageError::BadRequest(
                "The form does not say what was done. Reload the page.".into(),
            ));
        }
    };
    if !errors.is_empty() {
        return draw(
            &here,
            (site_id, id),
            StatusCode::UNPROCESSABLE_ENTITY,
            Left { errors, typed: fields, new_token: None },
        )
        .await;
    }
    let said = match event.0 {
        SensorEventKind::Bypass => event.2.map_or(String::new(), |u| {
            format!("On bypass until {}; then it counts again by itself.", moment(u, &room.tz))
        }),
        SensorEventKind::Silence => event.2.map_or(String::new(), |u| {
            format!("Silent until {}; then its alarms come back by themselves.", moment(u, &room.tz))
        }),
        _ => "Written down.".to_owned(),
    };
    let made = here
        .change(move |change| {
            let new = NewSensorEvent {
                kind: event.0,
                from: event.1,
                until: event.2,
                body: event.3,
                reason: &reason,
            };
            change.add_sensor_event(id, &new)
        })
        .await?
        .ok_or(PageError::NotFound)?;
    flash(&here.who.session, said, Some(format!("/sites/{site_id}/sensors/{id}/events/{made}/undo")))?;
    Ok(see_other(&format!("/sites/{site_id}/sensors/{id}")))
}

fn event(path: (i64, i64, i64)) -> TakeBack {
    let (site, sensor, id) = path;
    TakeBack {
        subject: Subject::SensorEvent,
        under: sensor,
        id,
        address: format!("/sites/{site}/sensors/{sensor}/events/{id}"),
        list: format!("/sites/{site}/sensors/{sensor}"),
        said: ("Taken back.", "It stands again."),
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
    let room = here.sensor_states(None).await?;
    let record = find(&room, id)?;
    let mut sensor = record.sensor.clone();
    let mm: f64 = fields
        .get("mm")
        .parse()
        .map_err(|_| PageError::BadRequest("The form does not say its threshold. Reload the page.".into()))?;
    sensor.setting.rain_threshold = Millimetres::from_mm(mm);
    if let Some((_, message)) = sensor.setting.check(&sensor.card).first() {
        let left = Left {
            errors: vec![crate::page::quantities::capital(message)],
            typed: fields.clone(),
            new_token: None,
        };
        return draw(&here, (site_id, id), StatusCode::UNPROCESSABLE_ENTITY, left).await;
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
    Ok(see_other(&format!("/sites/{site_id}/sensors/{id}")))
}

#[post("/sites/{id}/sensors/{sensor}/remove")]
async fn remove(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (of, now) = (*path, here.now());
    if !here.change(move |change| change.take_back(Subject::Sensor, of, Some(now))).await? {
        return Err(PageError::NotFound);
    }
    let undo = format!("/sites/{}/sensors/{}/restore", of.0, of.1);
    flash(&here.who.session, "The sensor is taken down.", Some(undo))?;
    Ok(see_other(&format!("/sites/{}/sensors", of.0)))
}

#[post("/sites/{id}/sensors/{sensor}/restore")]
async fn restore(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let of = *path;
    if !here.change(move |change| change.take_back(Subject::Sensor, of, None)).await? {
        return Err(PageError::NotFound);
    }
    flash(&here.who.session, "It hangs again.", None)?;
    Ok(see_other(&format!("/sites/{}/sensors/{}", path.0, path.1)))
}

//! One sensor: what it says and why, its record, each threshold on the site's own rain, its place, its
//! bypass, its upkeep, its devices.

use super::list::{judged, next_task};
use super::words::{cause, criterion, found, moment, remedy, says, verdict};
use super::{Room, find, frame};
use crate::error::{PageError, page_with, see_other};
use crate::pages::Frame;
use crate::quantities::{depth, plain, volume};
use crate::session::{Editor, Fields, SignedIn, flash, random_hex};
use crate::sites::load;
use crate::state::{AppState, db, db_with_climates};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use upland_core::codes::Coded;
use upland_core::sensors::record::{as_read, nights};
use upland_core::sensors::replay::{advised, thresholds};
use upland_core::sensors::state::{
    BYPASS_HOURS, LONGEST_BYPASS_HOURS, Pause, et_percentage, flow_alarms, learn_flow,
};
use upland_core::sensors::{Channel, Reading, Sense, Task, upkeep};
use upland_core::units::Millimetres;
use upland_store::readings::{DeviceRecord, Refused};
use upland_store::sensors::{NewSensorEvent, SensorEvent, SensorEventKind, SensorRecord};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(sensor_page)
        .service(note)
        .service(undo_event)
        .service(redo_event)
        .service(set_threshold)
        .service(typed_readings)
        .service(make_device)
        .service(rotate)
        .service(revoke)
        .service(remove)
        .service(restore);
}

struct ThresholdRow {
    threshold: String,
    mm: String,
    trips: u32,
    held: u32,
    in_need: u32,
    kept: String,
    set: bool,
    advised: bool,
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

/// A span of the year as a strip shows it.
struct Span {
    x: String,
    width: String,
    title: String,
}

#[derive(Template)]
#[template(path = "sensors/sensor.html")]
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

/// The last year of the record for a sensor of rain, at every threshold.
fn replayed(room: &Room, record: &SensorRecord) -> (Vec<ThresholdRow>, String, Vec<Span>, Vec<Span>) {
    let nothing = || (Vec::new(), String::new(), Vec::new(), Vec::new());
    let (Some(own), Some((first, last))) = (room.site_box(record.sensor.box_number), room.climate.span()) else {
        return nothing();
    };
    if !record.sensor.card.senses(Sense::Rain) {
        return nothing();
    }
    let to = last.min(room.today);
    let from = first.max(to.checked_sub(729.days()).unwrap_or(first));
    let units = room.units();
    let installation = room.installation(own);
    let settings = own.settings.as_ref().map_or_else(
        || upland_core::schedule::Settings::clean(&installation.card),
        |s| s.settings.clone(),
    );
    let all = nights(&installation, &settings, &room.climate, (&record.sensor.card, &record.sensor.map), (from, to));
    let read = as_read(&room.climate, (from, to), &room.tz);
    let none = upland_core::sensors::Readings::default();
    let rain = read.channels.get(&Channel::Rain).unwrap_or(&none);
    let set = record.sensor.setting;
    let results = thresholds(set.release, rain, &read.drying, &all);
    let best = advised(&results).map(|r| r.threshold);
    let rows = results
        .iter()
        .map(|r| ThresholdRow {
            threshold: depth(units, r.threshold),
            mm: plain(r.threshold.mm(), 2),
            trips: r.trips,
            held: r.held,
            in_need: r.held_in_need,
            kept: volume(units, r.kept),
            set: (r.threshold.mm() - set.rain_threshold.mm()).abs() < 1e-9,
            advised: Some(r.threshold) == best,
        })
        .collect();
    let words = format!(
        "{} nights from {from} to {to}, as the box is set now. A night is held against need when it lies in the summer half and a zone had reached its refill point, rain counted.",
        all.len()
    );
    // The last year as a strip.
    let begin = to.checked_sub(364.days()).unwrap_or(from).max(from);
    let start = |date: Date| room.tz.to_ambiguous_zoned(date.at(0, 0, 0, 0)).compatible().map_or(Timestamp::UNIX_EPOCH, |z| z.timestamp());
    let (zero, end) = (start(begin), start(to.tomorrow().unwrap_or(to)));
    let width = end.duration_since(zero).as_secs_f64().max(1.0);
    let x = |at: Timestamp| (100.0 * at.duration_since(zero).as_secs_f64() / width).clamp(0.0, 100.0);
    let holds = upland_core::sensors::state::rain_holds((set.rain_threshold, set.release), rain, &read.drying, end);
    let spans = holds
        .iter()
        .filter(|h| h.until.unwrap_or(end) > zero)
        .map(|h| {
            let (a, b) = (x(h.from), x(h.until.unwrap_or(end)));
            Span {
                x: format!("{a:.2}%"),
                width: format!("{:.2}%", (b - a).max(0.2)),
                title: format!("{}: {}", moment(h.from, &room.tz), cause(units, h.cause)),
            }
        })
        .collect();
    let mut months = Vec::new();
    let mut date = begin;
    while date <= to {
        if date.day() == 1 {
            months.push(Span { x: format!("{:.2}%", x(start(date))), width: String::new(), title: date.strftime("%b").to_string() });
        }
        let Ok(next) = date.tomorrow() else { break };
        date = next;
    }
    (rows, words, spans, months)
}

/// The percentage that an ET unit sets tonight, in words.
pub(crate) fn percentage(room: &Room, record: &SensorRecord) -> Option<String> {
    let (sensor, units) = (&record.sensor, room.units());
    if !sensor.card.senses(Sense::Et) {
        return None;
    }
    let own = room.own(record.id);
    let heard: Vec<(Date, Millimetres)> = own
        .and_then(|r| r.get(&Channel::Et))
        .map(|r| r.as_slice().iter().map(|r| (r.at.to_zoned(room.tz.clone()).date(), Millimetres::from_mm(r.value))).collect())
        .unwrap_or_default();
    let from_record = heard.is_empty();
    let recorded = room.climate.range(room.today.checked_sub(20.days()).unwrap_or(room.today), room.today);
    let days: Vec<(Date, Millimetres)> =
        if from_record { recorded.map(|(d, day)| (*d, day.et.et0)).collect() } else { heard };
    Some(match et_percentage(&sensor.setting, days.into_iter(), room.today) {
        Some(p) => format!(
            "Tonight {} %: mean of {} {} {} ÷ {} for 100 %{}{}. It changes run times only, never days or starts.",
            plain(p.percentage, 0),
            p.days,
            if p.days == 1 { "day" } else { "days" },
            depth(units, p.mean),
            depth(units, sensor.setting.et_full),
            if sensor.setting.et_trim_pct == 0.0 { String::new() } else { format!(", trim {} %", plain(sensor.setting.et_trim_pct, 1)) },
            if from_record { ", from the site's record" } else { "" }
        ),
        None => "No percentage tonight: fewer than half of its days were read; the box keeps the last one.".into(),
    })
}

/// What else there is to say: a percentage, learned flows, a threshold that is missing.
fn extra(room: &Room, record: &SensorRecord) -> Vec<String> {
    let mut out = Vec::new();
    let (sensor, units) = (&record.sensor, room.units());
    let own = room.own(record.id);
    out.extend(percentage(room, record));
    if sensor.card.senses(Sense::SoilMoisture) {
        match sensor.setting.soil_threshold_pct {
            None => out.push("No threshold yet: calibrate it from its own trace first. Until then it refuses nothing.".into()),
            Some(t) => {
                let window = room.site_box(sensor.box_number).and_then(|own| {
                    let settings = &own.settings.as_ref()?.settings;
                    upland_core::sensors::state::cycle_window_needed_min(room.night_runs(own, settings).iter())
                });
                out.push(format!(
                    "Refuses at {} % and above, decided at the start of the cycle window and held through it{}.",
                    plain(t, 1),
                    window.map_or(String::new(), |m| format!("; tonight's cycle and an hour need {m} min"))
                ));
            }
        }
    }
    if sensor.card.senses(Sense::Flow)
        && let Some(own_box) = room.site_box(sensor.box_number)
        && let Some(settings) = &own_box.settings
    {
        let from = room.today.checked_sub(30.days()).unwrap_or(room.today);
        let runs = upland_core::schedule::expand(&settings.settings, &own_box.record.controller.card, &room.tz, from, room.today);
        match own.and_then(|r| r.get(&Channel::Flow)) {
            None => out.push("No flow was read yet: it learns each zone's flow from three readings while the zone runs alone.".into()),
            Some(read) => {
                let learned = learn_flow(read, &runs);
                for (station, flow) in &learned {
                    out.push(format!(
                        "Station {station}: learned {}, alarms below {} and above {}.",
                        crate::quantities::flow(units, upland_core::units::LitresPerMinute::from_l_per_min(*flow)),
                        plain(flow * (1.0 - sensor.setting.flow_low_pct / 100.0), 0),
                        plain(flow * (1.0 + sensor.setting.flow_high_pct / 100.0), 0)
                    ));
                }
                let silenced = room.pauses(record.id, SensorEventKind::Silence);
                let alarms = flow_alarms((sensor.setting.flow_high_pct, sensor.setting.flow_low_pct), &learned, read, &runs);
                for alarm in alarms.iter().rev().filter(|a| !silenced.iter().any(|s| s.runs(a.at))).take(5) {
                    let what = match alarm.kind {
                        upland_core::sensors::state::FlowAlarmKind::High => "high flow",
                        upland_core::sensors::state::FlowAlarmKind::Low => "low flow",
                        upland_core::sensors::state::FlowAlarmKind::Leak => "water while nothing runs",
                    };
                    out.push(format!(
                        "Alarm {}: {what}{}, {} L/min.",
                        moment(alarm.at, &room.tz),
                        alarm.station.map_or(String::new(), |s| format!(" on station {s}")),
                        plain(alarm.read, 1)
                    ));
                }
            }
        }
    }
    out
}

fn event_row(room: &Room, event: &SensorEvent) -> EventRow {
    let text = |key: &str| event.body.get(key).map(|v| v.as_f64().map_or_else(|| v.as_str().unwrap_or("").to_owned(), |n| plain(n, 1)));
    let what = match event.kind {
        SensorEventKind::Bypass => "bypass".to_owned(),
        SensorEventKind::Silence => "alarms silent".to_owned(),
        SensorEventKind::Task => text("task").and_then(|t| Task::from_code(&t)).map_or("upkeep", Task::label).to_owned(),
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
struct Left {
    errors: Vec<String>,
    typed: Fields,
    new_token: Option<String>,
}

async fn draw(
    state: &web::Data<AppState>,
    who: &SignedIn,
    (site_id, id): (i64, i64),
    status: StatusCode,
    left: Left,
) -> Result<HttpResponse, PageError> {
    let loaded = load(state, site_id).await?;
    let (room, around) = db_with_climates(state, move |state, store| {
        let room = Room::build(state, store, loaded, None)?;
        let devices: Vec<DeviceRecord> = store.devices(site_id)?.into_iter().filter(|d| d.sensor_id == id).collect();
        let ids: Vec<i64> = devices.iter().map(|d| d.id).collect();
        let refused = if ids.is_empty() { Vec::new() } else { store.refusals(&ids)? };
        let (stand_ins, stand_in) = (!state.stand_ins.url.is_empty(), state.stand_ins.taken(id));
        Ok((room, Around { devices, refused, stand_ins, stand_in }))
    })
    .await?;
    find(&room, id)?;
    let frame = frame(who, &room, "sensor")?;
    let drawn = web::block(move || build(frame, &room, id, around, left)).await??;
    page_with(status, &drawn)
}

fn build(frame: Frame, room: &Room, id: i64, around: Around, left: Left) -> Result<SensorPage, PageError> {
    let record = find(room, id)?;
    let units = room.units();
    let said = room.says(record);
    let (line, because) = says(units, &said, &room.tz);
    let (thresholds, replay_words, spans, months) = replayed(room, record);
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
        source: if room.own(id).is_some() { "From its own readings." } else { "It has no readings of its own, so this is what the site's record would make it say." },
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
                remedy: if j.verdict == upland_core::sensors::placement::Verdict::Good { "" } else { remedy(j.criterion, &record.sensor.card) },
            })
            .collect(),
        next,
        overdue,
        tasks: upkeep::due(&record.sensor.card, record.installed_on, &room.done(id))
            .into_iter()
            .map(|d| TaskRow { code: d.task.code(), label: d.task.label(), since: d.since, due: d.on, overdue: d.overdue_days(room.today) >= 0 })
            .collect(),
        events: room.events.iter().filter(|e| e.sensor_id == id).take(20).map(|e| event_row(room, e)).collect(),
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
                seen: d.seen_at.map_or("never seen".into(), |at| format!("last seen {}", moment(at, &room.tz))),
                revoked: d.revoked_at.is_some(),
                refused: around
                    .refused
                    .iter()
                    .filter(|r| r.device_id == Some(d.id))
                    .map(|r| format!("{} refused, {} times, last {}: {}", r.reason, r.count, moment(r.last_at, &room.tz), r.example))
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
async fn sensor_page(state: web::Data<AppState>, who: SignedIn, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let token = who.session.remove_as::<String>("device_token").and_then(Result::ok);
    draw(&state, &who, *path, StatusCode::OK, Left { new_token: token, ..Left::default() }).await
}

/// A bypass, a silence, or a task that was done.
#[post("/sites/{id}/sensors/{sensor}/events")]
async fn note(
    state: web::Data<AppState>,
    Editor(who): Editor,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let room = super::open(&state, site_id).await?;
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
                errors.push(format!("A bypass lasts 1 to {LONGEST_BYPASS_HOURS} hours; then it ends by itself."));
            }
            let pause = Pause::of_hours(room.at, hours.unwrap_or(BYPASS_HOURS));
            let kind = if kind == "bypass" { SensorEventKind::Bypass } else { SensorEventKind::Silence };
            (kind, pause.from, Some(pause.until), serde_json::json!({}))
        }
        "task" => {
            let task = Task::from_code(fields.get("task"));
            let date = fields.get("date").parse::<Date>();
            if task.is_none() {
                errors.push("Choose a task of the list.".into());
            }
            let at = match date {
                Ok(date) if date <= room.today.max(Timestamp::now().to_zoned(room.tz.clone()).date()) => {
                    room.tz.to_ambiguous_zoned(date.at(12, 0, 0, 0)).compatible().map_or(room.at, |z| z.timestamp())
                }
                _ => {
                    errors.push("A date written YYYY-MM-DD, not in the future.".into());
                    room.at
                }
            };
            (SensorEventKind::Task, at, None, serde_json::json!({ "task": task.map_or("", |t| t.code()) }))
        }
        _ => return Err(PageError::BadRequest("The form does not say what was done. Reload the page.".into())),
    };
    if !errors.is_empty() {
        return draw(&state, &who, (site_id, id), StatusCode::UNPROCESSABLE_ENTITY, Left { errors, typed: fields, new_token: None }).await;
    }
    let user = who.user.id;
    let said = match event.0 {
        SensorEventKind::Bypass => event.2.map_or(String::new(), |u| format!("On bypass until {}; then it counts again by itself.", moment(u, &room.tz))),
        SensorEventKind::Silence => event.2.map_or(String::new(), |u| format!("Silent until {}; then its alarms come back by themselves.", moment(u, &room.tz))),
        _ => "Written down.".to_owned(),
    };
    let made = db(&state, move |store| {
        let new = NewSensorEvent { kind: event.0, from: event.1, until: event.2, body: event.3, reason: &reason };
        store.add_sensor_event(id, &new, user)
    })
    .await?;
    flash(&who.session, said, Some(format!("/sites/{site_id}/sensors/{id}/events/{made}/undo")))?;
    Ok(see_other(&format!("/sites/{site_id}/sensors/{id}")))
}

async fn set_undone(state: &web::Data<AppState>, who: &SignedIn, (site, sensor, id): (i64, i64, i64), undone: bool) -> Result<HttpResponse, PageError> {
    find(&super::open(state, site).await?, sensor)?;
    let at = undone.then(Timestamp::now);
    if !db(state, move |store| store.set_sensor_event_undone(sensor, id, at)).await? {
        return Err(PageError::NotFound);
    }
    let redo = undone.then(|| format!("/sites/{site}/sensors/{sensor}/events/{id}/redo"));
    flash(&who.session, if undone { "Taken back." } else { "It stands again." }, redo)?;
    Ok(see_other(&format!("/sites/{site}/sensors/{sensor}")))
}

#[post("/sites/{id}/sensors/{sensor}/events/{event}/undo")]
async fn undo_event(state: web::Data<AppState>, Editor(who): Editor, path: web::Path<(i64, i64, i64)>, _fields: Fields) -> Result<HttpResponse, PageError> {
    set_undone(&state, &who, *path, true).await
}

#[post("/sites/{id}/sensors/{sensor}/events/{event}/redo")]
async fn redo_event(state: web::Data<AppState>, Editor(who): Editor, path: web::Path<(i64, i64, i64)>, _fields: Fields) -> Result<HttpResponse, PageError> {
    set_undone(&state, &who, *path, false).await
}

/// Sets the rain threshold to one of the replayed ones.
#[post("/sites/{id}/sensors/{sensor}/threshold")]
async fn set_threshold(state: web::Data<AppState>, Editor(who): Editor, path: web::Path<(i64, i64)>, fields: Fields) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let room = super::open(&state, site_id).await?;
    let record = find(&room, id)?;
    let mut sensor = record.sensor.clone();
    let mm: f64 = fields.get("mm").parse().map_err(|_| PageError::BadRequest("The form does not say its threshold. Reload the page.".into()))?;
    sensor.setting.rain_threshold = Millimetres::from_mm(mm);
    if let Some((_, message)) = sensor.setting.check(&sensor.card).first() {
        let left = Left { errors: vec![crate::quantities::capital(message)], typed: fields.clone(), new_token: None };
        return draw(&state, &who, (site_id, id), StatusCode::UNPROCESSABLE_ENTITY, left).await;
    }
    let (base, user) = (fields.get("base_version").parse().unwrap_or(0), who.user.id);
    let said = match db(&state, move |store| store.save_sensor(id, base, &sensor, user)).await? {
        None => return Err(PageError::NotFound),
        Some(upland_store::Saved::As(_)) => "The threshold is set here; set it on the sensor too.".to_owned(),
        Some(upland_store::Saved::Conflict(theirs)) => format!("{} saved version {} meanwhile; nothing was set. Look again.", theirs.saved_by, theirs.version),
    };
    flash(&who.session, said, None)?;
    Ok(see_other(&format!("/sites/{site_id}/sensors/{id}")))
}

/// Readings typed or pasted: a line each, time and value.
#[post("/sites/{id}/sensors/{sensor}/readings")]
async fn typed_readings(state: web::Data<AppState>, Editor(who): Editor, path: web::Path<(i64, i64)>, fields: Fields) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let room = super::open(&state, site_id).await?;
    find(&room, id)?;
    let parsed = match Channel::from_code(fields.get("channel")) {
        Some(channel) => read_lines(channel, fields.get("lines"), &room.tz, Timestamp::now()),
        None => Err(vec!["Choose what was read.".to_owned()]),
    };
    match parsed {
        Ok(readings) => {
            let count = readings.len();
            let new = db(&state, move |store| store.add_readings(id, None, &readings)).await?;
            flash(&who.session, format!("{new} readings are new, {} were there already.", count - new), None)?;
            Ok(see_other(&format!("/sites/{site_id}/sensors/{id}")))
        }
        Err(errors) => draw(&state, &who, (site_id, id), StatusCode::UNPROCESSABLE_ENTITY, Left { errors, typed: fields, new_token: None }).await,
    }
}

/// Most lines of typed readings.
const MOST_LINES: usize = 5_000;

/// "2026-07-14 18:00 31.5" or "2026-07-14T18:00;31.5", by the clock of the site.
pub(super) fn read_lines(channel: Channel, text: &str, tz: &jiff::tz::TimeZone, now: Timestamp) -> Result<Vec<(Channel, Reading)>, Vec<String>> {
    let (mut out, mut errors) = (Vec::new(), Vec::new());
    let lines: Vec<&str> = text.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
    if lines.is_empty() {
        errors.push("Type a time and a value, a line each.".to_owned());
    }
    if lines.len() > MOST_LINES {
        errors.push(format!("At most {MOST_LINES} lines at once."));
    }
    for (i, line) in lines.iter().take(MOST_LINES).enumerate() {
        let cut = line.rfind([' ', '\t', ';', ',']).map(|at| line.split_at(at));
        let parsed = cut.and_then(|(when, value)| {
            let value: f64 = value.trim_matches([' ', '\t', ';', ',']).parse().ok()?;
            let when = when.trim().replace(' ', "T");
            let at = when.parse::<Timestamp>().ok().or_else(|| {
                let civil: jiff::civil::DateTime = when.parse().ok()?;
                Some(tz.to_ambiguous_zoned(civil).compatible().ok()?.timestamp())
            })?;
            Some(Reading { at, value })
        });
        match parsed {
            None => errors.push(format!("Line {}: \"{line}\" is not a time (YYYY-MM-DD HH:MM) and a value.", i + 1)),
            Some(r) if r.at > now => errors.push(format!("Line {}: it lies in the future.", i + 1)),
            Some(r) => match channel.bound().check(r.value) {
                Ok(_) => out.push((channel, r)),
                Err(error) => errors.push(format!("Line {}: {} is refused. {error}.", i + 1, r.value)),
            },
        }
        if errors.len() >= 10 {
            break;
        }
    }
    if errors.is_empty() { Ok(out) } else { Err(errors) }
}

fn token_hash(token: &str) -> Vec<u8> {
    super::api::hash(token)
}

/// A device that may post for this sensor; its token is shown once.
#[post("/sites/{id}/sensors/{sensor}/devices")]
async fn make_device(state: web::Data<AppState>, Editor(who): Editor, path: web::Path<(i64, i64)>, fields: Fields) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    find(&super::open(&state, site_id).await?, id)?;
    let name = fields.get("name").to_owned();
    if name.is_empty() || name.chars().count() > 80 {
        let left = Left { errors: vec!["Give the device a name of at most 80 letters.".into()], typed: fields, new_token: None };
        return draw(&state, &who, (site_id, id), StatusCode::UNPROCESSABLE_ENTITY, left).await;
    }
    let (token, user) = (random_hex(), who.user.id);
    let hash = token_hash(&token);
    db(&state, move |store| store.create_device(id, &name, &hash, user)).await?;
    who.session.insert("device_token", token)?;
    Ok(see_other(&format!("/sites/{site_id}/sensors/{id}#devices")))
}

#[post("/sites/{id}/sensors/{sensor}/devices/{device}/rotate")]
async fn rotate(state: web::Data<AppState>, Editor(who): Editor, path: web::Path<(i64, i64, i64)>, _fields: Fields) -> Result<HttpResponse, PageError> {
    let (site_id, id, device) = *path;
    find(&super::open(&state, site_id).await?, id)?;
    let token = random_hex();
    let hash = token_hash(&token);
    if !db(&state, move |store| store.rotate_device(id, device, &hash)).await? {
        return Err(PageError::NotFound);
    }
    who.session.insert("device_token", token)?;
    flash(&who.session, "The device has a new token. The old one is good until the new one was used.", None)?;
    Ok(see_other(&format!("/sites/{site_id}/sensors/{id}#devices")))
}

#[post("/sites/{id}/sensors/{sensor}/devices/{device}/revoke")]
async fn revoke(state: web::Data<AppState>, Editor(who): Editor, path: web::Path<(i64, i64, i64)>, _fields: Fields) -> Result<HttpResponse, PageError> {
    let (site_id, id, device) = *path;
    find(&super::open(&state, site_id).await?, id)?;
    if !db(&state, move |store| store.revoke_device(id, device, Timestamp::now())).await? {
        return Err(PageError::NotFound);
    }
    flash(&who.session, "Its tokens open nothing any more. A new token brings it back.", None)?;
    Ok(see_other(&format!("/sites/{site_id}/sensors/{id}#devices")))
}

async fn set_removed(state: &web::Data<AppState>, (site_id, id): (i64, i64), removed: Option<Timestamp>) -> Result<(), PageError> {
    if db(state, move |store| store.set_sensor_removed(site_id, id, removed)).await? { Ok(()) } else { Err(PageError::NotFound) }
}

#[post("/sites/{id}/sensors/{sensor}/remove")]
async fn remove(state: web::Data<AppState>, Editor(who): Editor, path: web::Path<(i64, i64)>, _fields: Fields) -> Result<HttpResponse, PageError> {
    set_removed(&state, *path, Some(Timestamp::now())).await?;
    flash(&who.session, "The sensor is taken down.", Some(format!("/sites/{}/sensors/{}/restore", path.0, path.1)))?;
    Ok(see_other(&format!("/sites/{}/sensors", path.0)))
}

#[post("/sites/{id}/sensors/{sensor}/restore")]
async fn restore(state: web::Data<AppState>, Editor(who): Editor, path: web::Path<(i64, i64)>, _fields: Fields) -> Result<HttpResponse, PageError> {
    set_removed(&state, *path, None).await?;
    flash(&who.session, "It hangs again.", None)?;
    Ok(see_other(&format!("/sites/{}/sensors/{}", path.0, path.1)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn typed_readings_are_read_by_the_clock_of_the_site_and_refused_by_line() {
        let tz = jiff::tz::TimeZone::get("Etc/GMT-2").unwrap();
        let now: Timestamp = "2026-07-14T20:00:00Z".parse().unwrap();
        let read = |text: &str| read_lines(Channel::SoilMoisture, text, &tz, now);
        let good = read("2026-07-14 18:00 31.5\n2026-07-14T19:00;30\n2026-07-14T17:30:00Z\t29.5\n").unwrap();
        assert_eq!(good[0].1.at.to_string(), "2026-07-14T16:00:00Z");
        assert_eq!(good[2].1, Reading { at: "2026-07-14T17:30:00Z".parse().unwrap(), value: 29.5 });
        let bad = read("2026-07-14 18:00 130\nyesterday 30\n2026-07-15 18:00 30").unwrap_err();
        assert!(bad[0].contains("between 0 and 100") && bad[1].contains("Line 2") && bad[2].contains("future"), "{bad:?}");
        assert!(read("").is_err());
    }
}

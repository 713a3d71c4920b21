//! Calibration of a soil probe: a guided run, its curve with the drained level, the threshold or the
//! named reason why there is none; and later steps by half a point.

use super::devices::read_lines;
use super::{find, frame};
use crate::page::dates::{typed_date, typed_time};
use crate::page::forms::out_of_bounds;
use crate::page::frame::Frame;
use crate::page::quantities::{capital, in_words, plain};
use crate::page::sensor_words::setting_fault;
use crate::page::sensor_words::{failure, moment};
use crate::page::units::SIGNED_PERCENT;
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::request_locale::{habit, off_loop};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::snapshot::SiteSnapshot;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::{SignedDuration, Timestamp};
use upland_core::quantity::bounds;
use upland_core::quantity::time::instant;
use upland_core::sensors::calibration::{
    Drained, FEWEST, Failure, RUN_HOURS, calibrate, check_adjustment, expected_drained_pct,
};
use upland_core::sensors::{Channel, Reading, Sense, Sensor};
use upland_core::site::UnitSystem;
use upland_formats::typed;
use upland_store::Saved;
use upland_store::sensors::{NewSensorEvent, SensorEventKind, SensorRecord};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(run_page).service(look).service(adjust);
}

struct Curve {
    points: Vec<(String, String)>,
    line: String,
    level_y: Option<String>,
    level: String,
    hours: Vec<(String, String)>,
    top: String,
    bottom: String,
}

struct Outcome {
    verdict: String,
    detail: String,
    remedy: &'static str,
    good: bool,
    steps: Vec<(&'static str, String)>,
    curve: Option<Curve>,
}

#[derive(Template)]
#[template(path = "chapters/sensors/calibrate.html")]
struct CalibratePage {
    frame: Frame,
    site_id: i64,
    id: i64,
    name: String,
    version: i32,
    zone: String,
    threshold: Option<String>,
    typed: Fields,
    errors: Vec<String>,
    outcome: Option<Outcome>,
    /// Asks whether a level that the soil does not usually have is meant.
    unusual: bool,
    begun: String,
    received: usize,
    fewest: String,
}

impl CalibratePage {
    fn typed(&self, name: &str) -> &str {
        self.typed.get(name)
    }
}

/// Hours of received readings that a run looks at.
const LOOKED_AT_HOURS: i64 = 26;
/// Size of the curve.
const WIDTH: f64 = 720.0;
const HEIGHT: f64 = 220.0;

fn curve(begun: Timestamp, readings: &[Reading], drained: Option<&Drained>) -> Option<Curve> {
    let values = || readings.iter().map(|r| r.value);
    let (low, high) =
        (values().fold(f64::INFINITY, f64::min) - 1.0, values().fold(f64::NEG_INFINITY, f64::max) + 1.0);
    if readings.is_empty() || high - low < 0.1 {
        return None;
    }
    let x = |hours: f64| WIDTH * hours / (RUN_HOURS + 2.0);
    let y = |v: f64| HEIGHT * (high - v) / (high - low);
    let hours = |at: Timestamp| at.duration_since(begun).as_secs_f64() / 3600.0;
    let one = |v: f64| plain(v, 1);
    let line = drained.map_or(String::new(), |d| {
        let rise = d.saturated_pct - d.rest_pct;
        let fitted = |t: f64| d.rest_pct + rise * (-t / d.tau_h).exp();
        (0..=104)
            .map(|i| f64::from(i) / 4.0)
            .enumerate()
            .map(|(i, t)| {
                format!(
                    "{}{} {}",
                    if i == 0 { 'M' } else { 'L' },
                    one(x(t)),
                    one(y(fitted(t)).clamp(0.0, HEIGHT))
                )
            })
            .collect()
    });
    Some(Curve {
        points: readings.iter().map(|r| (one(x(hours(r.at))), one(y(r.value)))).collect(),
        line,
        level_y: drained.map(|d| one(y(d.drained_pct))),
        level: drained.map_or(String::new(), |d| format!("drained {} %", plain(d.drained_pct, 1))),
        hours: (0..=4).map(|i| (one(x(f64::from(i) * 6.0)), format!("{} h", i * 6))).collect(),
        top: format!("{} %", plain(high - 1.0, 0)),
        bottom: format!("{} %", plain(low + 1.0, 0)),
    })
}

/// Whether a level lies outside what the soil around the probe usually drains to; `false` where the zone is not said.
fn is_unusual(snapshot: &SiteSnapshot, record: &SensorRecord, drained_pct: f64) -> bool {
    snapshot.probe_zone(record).is_some_and(|z| {
        let (low, high) = expected_drained_pct(z.zone.soil);
        !(low..=high).contains(&drained_pct)
    })
}

/// What asks before a level is taken that the soil does not usually have.
fn ask_unusual(snapshot: &SiteSnapshot, record: &SensorRecord, drained_pct: f64) -> String {
    format!(
        "{} % was not set. {} Correct the zone's soil or seat the probe again; if both were checked, tick \"I checked soil and probe\" and set it.",
        plain(drained_pct, 1),
        against_soil(snapshot, record, drained_pct)
    )
}

/// What the soil around a probe says to a drained level.
fn against_soil(snapshot: &SiteSnapshot, record: &SensorRecord, drained_pct: f64) -> String {
    let Some(soil) = snapshot.probe_zone(record).map(|z| z.zone.soil) else {
        return "Choose the zone it is in, and its reading is compared with that soil.".to_owned();
    };
    let (low, high) = expected_drained_pct(soil);
    let usual =
        format!("{} usually drains to {} to {} %", capital(soil.label()), plain(low, 0), plain(high, 0));
    if (low..=high).contains(&drained_pct) {
        format!("{usual}: it fits.")
    } else {
        format!("{usual} (FAO-56 table 19, from memory): look at the texture or at the seat of the probe.")
    }
}

/// The working of a drained level, step by step.
fn steps(d: &Drained) -> Vec<(&'static str, String)> {
    let percent = |value, places| format!("{} %", plain(value, places));
    let points = |value| format!("{} points", plain(value, 2));
    vec![
        ("first reading, saturated", percent(d.saturated_pct, 1)),
        ("fit: rest + rise × e^(−t ÷ τ), least squares; τ", format!("{} h", plain(d.tau_h, 1))),
        ("where it settles", percent(d.rest_pct, 1)),
        ("drained level after 24 hours", percent(d.drained_pct, 2)),
        ("scatter of the readings", points(d.noise)),
        ("two standard uncertainties of the level", points(d.uncertainty)),
        ("threshold: the level in half points", percent(d.threshold_pct, 1)),
    ]
}

fn outcome(
    snapshot: &SiteSnapshot,
    record: &SensorRecord,
    begun: Timestamp,
    readings: &[Reading],
    found: &Result<Drained, Failure>,
) -> Outcome {
    let mut sorted = readings.to_vec();
    sorted
        .retain(|r| r.at >= begun && r.at.duration_since(begun).as_secs_f64() <= (RUN_HOURS + 2.0) * 3600.0);
    sorted.sort_by_key(|r| r.at);
    match found {
        Ok(d) => Outcome {
            verdict: format!(
                "Threshold {} %, give or take {} points.",
                plain(d.threshold_pct, 1),
                plain(d.uncertainty.max(0.25), 2)
            ),
            detail: against_soil(snapshot, record, d.drained_pct),
            remedy: "",
            good: true,
            steps: steps(d),
            curve: curve(begun, &sorted, Some(d)),
        },
        Err(why) => {
            let (verdict, remedy) = failure(why, &snapshot.tz);
            Outcome {
                verdict,
                detail: String::new(),
                remedy,
                good: false,
                steps: Vec::new(),
                curve: curve(begun, &sorted, None),
            }
        }
    }
}

/// What the form left.
#[derive(Default)]
struct Left {
    typed: Fields,
    errors: Vec<String>,
    outcome: Option<Outcome>,
    unusual: bool,
}

fn probe(snapshot: &SiteSnapshot, id: i64) -> Result<&SensorRecord, PageError> {
    let record = find(snapshot, id)?;
    if record.sensor.card.senses(Sense::SoilMoisture) { Ok(record) } else { Err(PageError::NotFound) }
}

fn draw(
    here: &AtSite,
    snapshot: &SiteSnapshot,
    id: i64,
    status: StatusCode,
    left: Left,
) -> Result<HttpResponse, PageError> {
    let record = probe(snapshot, id)?;
    let yesterday = snapshot.at() - SignedDuration::from_hours(25);
    page_with(
        status,
        &CalibratePage {
            frame: frame(here, "calibration")?,
            site_id: snapshot.records.site.id.number(),
            id,
            fewest: in_words(FEWEST),
            name: record.sensor.name.clone(),
            version: record.version,
            zone: snapshot
                .probe_zone(record)
                .map_or(String::new(), |z| format!("{} {}", z.zone.number, z.zone.name)),
            threshold: record.sensor.setting.soil_threshold_pct.map(|t| plain(t, 1)),
            begun: {
                let at = yesterday.to_zoned(snapshot.tz.clone());
                format!("{} {}", typed_date(at.date()), typed_time(at.time()))
            },
            received: snapshot
                .own(id)
                .and_then(|r| r.get(&Channel::SoilMoisture))
                .map_or(0, |r| r.as_slice().len()),
            unusual: left.unusual,
            typed: left.typed,
            errors: left.errors,
            outcome: left.outcome,
        },
    )
}

#[get("/sites/{id}/sensors/{sensor}/calibrate")]
async fn run_page(EditorAt(here): EditorAt, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    draw(&here, &snapshot, path.1, StatusCode::OK, Left::default())
}

/// When a run began and what was read since, typed or received.
async fn read_run(
    here: &AtSite,
    snapshot: &SiteSnapshot,
    id: i64,
    fields: &Fields,
) -> Result<Result<(Timestamp, Vec<Reading>), Vec<String>>, PageError> {
    let mut errors = Vec::new();
    let begun = typed::date_and_time(fields.get("begun"), snapshot.today(), habit());
    let begun = begun
        .map(|civil| instant(civil.date(), civil.time(), &snapshot.tz))
        .map_err(|refusal| {
            errors.push(format!("Say when the soak ended and the first reading was taken. {refusal}"));
        })
        .ok();
    let lines = fields.get("lines");
    let readings: Vec<Reading> = if lines.is_empty() {
        let from = begun.unwrap_or(snapshot.at());
        let until = from + SignedDuration::from_hours(LOOKED_AT_HOURS);
        here.read(move |snapshot| snapshot.raw_readings(id, Channel::SoilMoisture, from, until)).await?
    } else {
        match read_lines(Channel::SoilMoisture, SIGNED_PERCENT, lines, &snapshot.tz, here.now()) {
            Ok(all) => all.into_iter().map(|(_, r)| r).collect(),
            Err(found) => {
                errors.extend(found);
                Vec::new()
            }
        }
    };
    Ok(begun.filter(|_| errors.is_empty()).map(|begun| (begun, readings)).ok_or(errors))
}

/// Looks at a run, and takes its threshold over when asked.
#[post("/sites/{id}/sensors/{sensor}/calibrate")]
async fn look(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = path.1;
    let snapshot = here.snapshot(None).await?;
    let record = probe(&snapshot, id)?;
    if fields.get("then") == "own" {
        return take_own(&here, &snapshot, record, fields).await;
    }
    let (begun, readings) = match read_run(&here, &snapshot, id, &fields).await? {
        Ok(run) => run,
        Err(errors) => {
            let left = Left { typed: fields, errors, ..Left::default() };
            return draw(&here, &snapshot, id, StatusCode::UNPROCESSABLE_ENTITY, left);
        }
    };
    let run = {
        let readings = readings.clone();
        off_loop(move || calibrate(begun, &readings)).await?
    };
    let unusual = run.as_ref().is_ok_and(|d| is_unusual(&snapshot, record, d.drained_pct));
    let take = fields.get("then") == "take";
    let asks = unusual && fields.get("checked").is_empty();
    if let (Ok(drained), true) = (&run, take && !asks) {
        return take_threshold(&here, &snapshot, record, begun, readings, *drained, fields).await;
    }
    let shown = outcome(&snapshot, record, begun, &readings, &run);
    let refused = run.is_err() || take && asks;
    let status = if refused { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let asked = run.as_ref().ok().filter(|_| take && asks);
    let errors = asked.map(|d| ask_unusual(&snapshot, record, d.drained_pct)).into_iter().collect();
    if let (Err(why), "note") = (&run, fields.get("then")) {
        // A failed run is remembered where somebody says so: the next one may meet the same fault.
        let (said, _) = failure(why, &snapshot.tz);
        let body = serde_json::json!({ "failure": said });
        here.change(move |change| change.add_sensor_event(id, &calibration(begun, body, "calibration run")))
            .await?;
    }
    let left = Left { typed: fields, errors, outcome: Some(shown), unusual };
    draw(&here, &snapshot, id, status, left)
}

/// Takes over the threshold that the unit found by itself.
async fn take_own(
    here: &AtSite,
    snapshot: &SiteSnapshot,
    record: &SensorRecord,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = record.id;
    let mut sensor = record.sensor.clone();
    let read = SIGNED_PERCENT.read(fields.get("own")).map_err(|refusal| refusal.to_string());
    let mut errors: Vec<String> = read.as_ref().err().cloned().into_iter().collect();
    sensor.setting.soil_threshold_pct = read.ok();
    errors.extend(sensor.setting.check(&sensor.card).iter().map(|f| setting_fault(snapshot.units(), f)));
    let bound = &bounds::SOIL_THRESHOLD;
    if sensor.setting.soil_threshold_pct.is_some_and(|t| bound.check(t).is_err()) && errors.is_empty() {
        errors.push(out_of_bounds(SIGNED_PERCENT, bound));
    }
    let threshold = sensor.setting.soil_threshold_pct.unwrap_or_default();
    let unusual = errors.is_empty() && is_unusual(snapshot, record, threshold);
    if unusual && fields.get("checked").is_empty() {
        errors.push(ask_unusual(snapshot, record, threshold));
    }
    if !errors.is_empty() {
        let left = Left { typed: fields, errors, unusual, ..Left::default() };
        return draw(here, snapshot, id, StatusCode::UNPROCESSABLE_ENTITY, left);
    }
    let (base, at) = (fields.get("base_version").parse().unwrap_or(0), here.now());
    let saved = here
        .change(move |change| {
            let saved = change.save_sensor(id, base, &sensor)?;
            if matches!(saved, Some(Saved::As(_) | Saved::Unchanged(_))) {
                let body = serde_json::json!({ "threshold_pct": threshold });
                change.add_sensor_event(id, &calibration(at, body, "found by the unit itself"))?;
            }
            Ok(saved)
        })
        .await?;
    let said = match saved.ok_or(PageError::NotFound)? {
        Saved::Conflict(theirs) => {
            format!("{} changed this probe meanwhile; nothing was set.", theirs.saved_by)
        }
        _ => format!("Threshold {} %, as the unit found it by itself.", plain(threshold, 1)),
    };
    flash(&here.who.session, said, None)?;
    Ok(see_other(&address::sensor(here.id(), id)))
}

/// A calibration run as an event.
fn calibration(begun: Timestamp, body: serde_json::Value, reason: &'static str) -> NewSensorEvent<'static> {
    NewSensorEvent { kind: SensorEventKind::Calibration, from: begun, until: None, body, reason }
}

/// Takes the threshold of a run over, with the readings that it rests on.
async fn take_threshold(
    here: &AtSite,
    snapshot: &SiteSnapshot,
    record: &SensorRecord,
    begun: Timestamp,
    readings: Vec<Reading>,
    drained: Drained,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = record.id;
    let mut sensor = record.sensor.clone();
    sensor.setting.soil_threshold_pct = Some(drained.threshold_pct);
    let base = fields.get("base_version").parse().unwrap_or(0);
    let kept: Vec<(Channel, Reading)> = readings.into_iter().map(|r| (Channel::SoilMoisture, r)).collect();
    let body = serde_json::json!({
        "threshold_pct": drained.threshold_pct,
        "drained_pct": drained.drained_pct,
        "uncertainty": drained.uncertainty,
    });
    let saved = here
        .change(move |change| {
            let saved = change.save_sensor(id, base, &sensor)?;
            if matches!(saved, Some(Saved::As(_) | Saved::Unchanged(_))) {
                change.add_readings(id, &kept)?;
                change.add_sensor_event(id, &calibration(begun, body, "24-hour run"))?;
            }
            Ok(saved)
        })
        .await?;
    match saved.ok_or(PageError::NotFound)? {
        Saved::As(_) | Saved::Unchanged(_) => {
            let text = format!(
                "Threshold {} % from the run of {}. Set it on the probe too.",
                plain(drained.threshold_pct, 1),
                moment(begun, &snapshot.tz)
            );
            flash(&here.who.session, text, None)?;
            Ok(see_other(&address::sensor(here.id(), id)))
        }
        Saved::Conflict(theirs) => {
            let errors = vec![format!(
                "{} changed this probe meanwhile. Your run is still here; take it over again.",
                theirs.saved_by
            )];
            let here = here.again().await?;
            let snapshot = here.snapshot(None).await?;
            draw(
                &here,
                &snapshot,
                id,
                StatusCode::CONFLICT,
                Left { typed: fields, errors, ..Left::default() },
            )
        }
    }
}

/// What is wrong with a later step of a threshold.
fn wrong_step(before: Option<f64>, to: Option<f64>, fields: &Fields, sensor: &Sensor) -> Vec<String> {
    let mut errors = Vec::new();
    match (before, to) {
        (None, _) => errors.push("There is no threshold yet; calibrate first.".to_owned()),
        (_, None) => errors.push("Type the new threshold in percent.".to_owned()),
        (Some(from), Some(to)) => {
            if let Err(why) = check_adjustment(from, to) {
                errors.push(format!("From {} to {} %: {why}.", plain(from, 1), plain(to, 1)));
            }
        }
    }
    if fields.get("looks").is_empty() || fields.get("reason").is_empty() {
        errors.push("Say how the turf looks and why it moves: the next one learns from it.".to_owned());
    }
    if errors.is_empty() {
        errors
            .extend(sensor.setting.check(&sensor.card).iter().map(|f| setting_fault(UnitSystem::Metric, f)));
    }
    errors
}

/// A later step of the threshold, with the looks of the turf.
#[post("/sites/{id}/sensors/{sensor}/adjust")]
async fn adjust(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let snapshot = here.snapshot(None).await?;
    let record = probe(&snapshot, id)?;
    let before = record.sensor.setting.soil_threshold_pct;
    let to: Option<f64> = SIGNED_PERCENT.read(fields.get("to")).ok();
    let looks = fields.get("looks").to_owned();
    let mut sensor = record.sensor.clone();
    sensor.setting.soil_threshold_pct = to;
    let errors = wrong_step(before, to, &fields, &sensor);
    if !errors.is_empty() {
        let left = Left { typed: fields, errors, ..Left::default() };
        return draw(&here, &snapshot, id, StatusCode::UNPROCESSABLE_ENTITY, left);
    }
    let base = fields.get("base_version").parse().unwrap_or(0);
    let (reason, at) = (fields.get("reason").to_owned(), snapshot.at());
    let saved = here
        .change(move |change| {
            let saved = change.save_sensor(id, base, &sensor)?;
            if matches!(saved, Some(Saved::As(_))) {
                let body = serde_json::json!({ "from": before, "to": to, "looks": looks });
                let kind = SensorEventKind::Adjustment;
                let event = NewSensorEvent { kind, from: at, until: None, body, reason: &reason };
                change.add_sensor_event(id, &event)?;
            }
            Ok(saved)
        })
        .await?;
    let said = match saved {
        None => return Err(PageError::NotFound),
        Some(Saved::Unchanged(_)) => "That is the threshold already; nothing was moved.".to_owned(),
        Some(Saved::As(_)) => "Moved. Look at the turf for a week before the next step.".to_owned(),
        Some(Saved::Conflict(theirs)) => {
            format!("{} changed this probe meanwhile; nothing was moved.", theirs.saved_by)
        }
    };
    flash(&here.who.session, said, None)?;
    Ok(see_other(&address::sensor(site_id, id)))
}

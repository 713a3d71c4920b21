//! An adjustment taken: a version of settings or a sensor set otherwise, with what was forecast and when to look again.

use super::decided::{Decided, decided, keep};
use crate::page::controller_version::ControllerVersion;
use crate::page::quantities;
use crate::page::tuning_words::Words;
use crate::server::address;
use crate::server::error::{PageError, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::{HttpResponse, post, web};
use jiff::SignedDuration;
use upland_core::codes::Coded;
use upland_core::controller::schedule::Settings;
use upland_core::ground::planting::{RateBasis, Trim};
use upland_core::quantity::bounds;
use upland_core::quantity::units::MillimetresPerHour;
use upland_core::sensors::Sensor;
use upland_core::site::{StationId, ZoneSince};
use upland_core::tuning::{
    CorrectionKind, Lever, OUTLOOK_DAYS, Turn, ZoneOutlook, account_at, as_diagnosed, outlook, turned,
};
use upland_store::Saved;
use upland_store::settings::SettingsKind;
use upland_store::visits::NewLever;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(accept).service(correct);
}

/// What names an adjustment of a visit: it is found again when the form comes back.
pub(super) fn name_of(lever: &Lever) -> String {
    let of = |n: Option<u16>| n.map_or("all".to_owned(), |n| n.to_string());
    let number = of(lever.controller_number.map(u16::from));
    let program = of(lever.program.and_then(|p| u16::try_from(p + 1).ok()));
    format!("{}-{}-{number}-{}-{program}", lever.code.code(), lever.cause.code(), of(lever.station))
}

#[post("/sites/{id}/visits/{visit}/accept")]
async fn accept(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let found = decided(&here, path.1).await?;
    let back = format!("{}/visits/{}", address::site_root(here.id()), path.1);
    let wanted = fields.get("lever");
    let Some(proposed) = found.decision.levers.iter().find(|p| name_of(&p.lever) == wanted) else {
        let text = "What was seen or set has changed since, and the adjustment with it. Look again before you apply one.";
        flash(&here.who.session, text, None)?;
        return Ok(see_other(&back));
    };
    let lever = &proposed.lever;
    let words = Words::of(&found.snapshot.inputs).lever(lever);
    let mut taken = lever.clone();
    let (done, go_to) = match &lever.turn {
        Turn::ByHand => (Some("It is noted.".to_owned()), back.clone()),
        Turn::Settings(number, settings) => {
            let (done, go_to, set) = version(&here, &found, *number, settings, &words).await?;
            taken.turn = Turn::Settings(*number, Box::new(set));
            (done, go_to)
        }
        Turn::Sensor(number, sensor) => (sensor_set(&here, *number, sensor).await?, back.clone()),
    };
    let Some(done) = done else {
        flash(
            &here.who.session,
            "The same was set otherwise since the visit. Look at the controller's versions, then adjust it there.",
            None,
        )?;
        return Ok(see_other(&back));
    };
    note(&here, &found, lever, &words, keep(&foretold(&found, &taken))).await?;
    let date = crate::page::tuning_words::look_again(lever.look_again);
    flash(&here.who.session, format!("{done} Look again on {date}."), None)?;
    Ok(see_other(&go_to))
}

/// The adjustment's change as a version of the controller, put on what was saved since: the adjustment before it, or somebody's edit.
/// `None` when the same was changed in another way, or somebody saved in between.
async fn version(
    here: &AtSite,
    found: &Decided,
    number: u8,
    settings: &Settings,
    words: &str,
) -> Result<(Option<String>, String, Settings), PageError> {
    let snapshot = here.controller_snapshot(number).await?;
    let own = found.snapshot.inputs.of_controller(number).ok_or(PageError::NotFound)?;
    let before = own.settings_at(found.together.visit.at).ok_or(PageError::NotFound)?;
    let base = snapshot.saved().map_or(0, |saved| saved.version);
    let Some(changed) = snapshot.settings().with_change(before, settings) else {
        return Ok((None, String::new(), settings.clone()));
    };
    let set = changed.clone();
    let version = ControllerVersion {
        settings: changed,
        kind: SettingsKind::Changed,
        reason: format!("after a visit: {words}"),
        base,
    };
    let path = format!("{}/history", snapshot.path());
    let done = match version.store(here, &snapshot).await? {
        Saved::As(version) => {
            Some(format!("Version {version} is saved. Program it at the controller and tick it there."))
        }
        Saved::Unchanged(version) => Some(format!("The controller is already set so, as version {version}.")),
        Saved::Conflict(_) => None,
    };
    Ok((done, path, set))
}

/// What the two weeks after the visit bring with an adjustment and with those taken before it.
fn foretold(found: &Decided, lever: &Lever) -> Vec<ZoneOutlook> {
    let (facts, visit) = (&found.snapshot.inputs, &found.together.visit);
    let last = facts.controllers.iter().filter_map(|b| b.versions.last()).map(|(since, _)| *since).max();
    // After what was set since, so that this stands.
    let at = last.map_or(visit.at, |last| visit.at.max(last + SignedDuration::from_secs(1)));
    let diagnosis = &found.decision.diagnosis;
    let causes: Vec<_> = diagnosis.chosen.iter().filter_map(|at| diagnosis.causes.get(*at)).collect();
    let facts = as_diagnosed(&turned(facts, lever, at), visit, &causes, Some(lever));
    let date = visit.at.to_zoned(facts.tz.clone()).date();
    let days = OUTLOOK_DAYS.first().copied().unwrap_or(14);
    outlook(&facts, &account_at(&facts, visit), date, days)
}

/// A sensor set otherwise; `None` when somebody saved in between.
async fn sensor_set(here: &AtSite, number: u8, sensor: &Sensor) -> Result<Option<String>, PageError> {
    let own = here.records.sensors.iter();
    let mut own = own.filter(|s| s.sensor.controller_number == number && s.sensor.name == sensor.name);
    let record = own.next().ok_or(PageError::NotFound)?;
    let (id, base, set) = (record.id, record.version, sensor.clone());
    let saved = here.change(move |change| change.save_sensor(id, base, &set)).await?;
    Ok(match saved.ok_or(PageError::NotFound)? {
        Saved::As(_) | Saved::Unchanged(_) => {
            Some(format!("{} is noted as set so. Set it at the sensor.", sensor.name))
        }
        Saved::Conflict(_) => None,
    })
}

async fn note(
    here: &AtSite,
    found: &Decided,
    lever: &Lever,
    words: &str,
    foretold: serde_json::Value,
) -> Result<(), PageError> {
    let zone = lever.controller_number.zip(lever.station);
    let zone = zone.and_then(|(number, station)| here.records.zone_on(StationId::new(number, station)));
    let (visit, words, zone_id) = (found.record.id, words.to_owned(), zone.map(|z| z.id));
    let (code, cause, look_again) = (lever.code.code(), lever.cause.code(), lever.look_again);
    here.change(move |change| {
        let new = NewLever { code, cause, words: &words, foretold: &foretold, look_again, zone_id };
        change.note_lever(visit, new)
    })
    .await?;
    Ok(())
}

/// Takes a correction that readings offer: a trim on what the plants ask for, or another precipitation rate.
#[post("/sites/{id}/visits/{visit}/correct")]
async fn correct(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let found = decided(&here, path.1).await?;
    let id: i64 = fields.get("zone").parse().map_err(|_| PageError::NotFound)?;
    let record = here.records.zone(id)?.clone();
    let key = record.zone.station_id();
    let wanted = fields.get("correction");
    let offered = found
        .corrections
        .iter()
        .find(|c| StationId::new(c.controller_number, c.station) == key && kind_code(c.kind) == wanted);
    let back = format!("{}/visits/{}", address::site_root(here.id()), path.1);
    let Some(offered) = offered else {
        flash(&here.who.session, "The readings no longer say so. Nothing was changed.", None)?;
        return Ok(see_other(&back));
    };
    let mut zone = record.zone.clone();
    let reason = format!("{} readings up to {}", offered.readings, found.record.on);
    let said = match offered.kind {
        CorrectionKind::Demand => {
            let before = zone.planting.trim.as_ref().map_or(0.0, |t| t.percent);
            let percent = (((1.0 + before / 100.0) * offered.factor - 1.0) * 100.0).round();
            let percent = percent.clamp(bounds::TRIM.min, bounds::TRIM.max);
            zone.planting.trim = (percent != 0.0).then_some(Trim { percent, reason });
            format!("{} is trimmed by {percent} %.", zone.name)
        }
        CorrectionKind::Rate => {
            let rate =
                zone.resolve(here.records.site.site.latitude_deg).rate.value.mm_per_hour() * offered.factor;
            let rate = rate.clamp(bounds::PRECIPITATION_RATE.min, bounds::PRECIPITATION_RATE.max);
            let rate = MillimetresPerHour::from_mm_per_hour((rate * 10.0).round() / 10.0);
            zone.precipitation_rate = Some(rate);
            zone.planting.rate_basis = RateBasis::Typed;
            format!(
                "{} applies {} now; cans would say it better.",
                zone.name,
                quantities::rate(here.records.units(), rate)
            )
        }
    };
    let (base, today) = (record.version, here.today());
    let saved = here
        .change(move |change| change.save_zone(id, base, &zone, ZoneSince::On(today)))
        .await?
        .ok_or(PageError::NotFound)?;
    let text = match saved {
        Saved::As(_) => said,
        Saved::Unchanged(_) => "It is so already.".to_owned(),
        Saved::Conflict(theirs) => format!("{} saved the zone in the meantime. Look again.", theirs.saved_by),
    };
    flash(&here.who.session, text, None)?;
    Ok(see_other(&back))
}

/// Short name of what is corrected.
pub(super) const fn kind_code(kind: CorrectionKind) -> &'static str {
    match kind {
        CorrectionKind::Demand => "demand",
        CorrectionKind::Rate => "rate",
    }
}

//! Versions of a controller's settings: who, when, why, what changed; restore and fallback.

use super::ControllerPage;
use super::{ControllerHead, Tab};
use crate::page::change_words::ChangeLine;
use crate::page::controller_version::{ControllerVersion, Sayings};
use crate::page::dates::DateFormat;
use crate::page::dates::date_writer;
use crate::page::frame::Frame;
use crate::page::ticks::{TickMark, ticks_of};
use crate::server::download::attachment;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::server::upload;
use crate::site::context::{AtSite, EditorAt};
use crate::site::controller_snapshot::ControllerSnapshot;
use crate::site::noted::keyed_in;
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use upland_core::controller::schedule::{Settings, difference_by};
use upland_formats::PathProblem;
use upland_formats::settings_file;
use upland_store::settings::{SettingsKind, SettingsRecord};
use upland_store::ticks::{TickRecord, What};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(history_page)
        .service(restore_version)
        .service(set_fallback)
        .service(download_version)
        .service(open_file);
}

/// How a version came about, in words.
pub(super) fn kind_words(kind: SettingsKind) -> &'static str {
    match kind {
        SettingsKind::AsFound => "as found",
        SettingsKind::Changed => "changed",
        SettingsKind::Planned => "planned",
        SettingsKind::Restored => "restored",
    }
}

struct VersionLine {
    version: i32,
    kind: &'static str,
    by: String,
    at: String,
    reason: String,
    changes: Vec<ChangeLine>,
    is_current: bool,
    is_fallback: bool,
    keyed_in: TickMark,
    /// Whether the account takes it as what the controller runs now.
    runs: bool,
}

#[derive(Template)]
#[template(path = "chapters/programs/history.html")]
struct HistoryPage {
    frame: Frame,
    head: ControllerHead,
    versions: Vec<VersionLine>,
    current: i32,
    takes_daily: bool,
    problems: Vec<PathProblem>,
    /// What the account takes as the version that the controller runs, in a sentence.
    in_controller: String,
}

/// The version that the account takes as what the controller runs: the one that was programmed last, and where nobody ticks,
/// the last saved.
fn running(history: &[SettingsRecord], keyed: &BTreeMap<i32, jiff::Timestamp>) -> Option<i32> {
    let last = keyed.iter().max_by_key(|(_, at)| **at).map(|(version, _)| *version);
    last.or_else(|| history.first().map(|r| r.version))
}

fn in_controller(history: &[SettingsRecord], keyed: &BTreeMap<i32, jiff::Timestamp>) -> String {
    let (last, runs) = (history.first().map(|r| r.version), running(history, keyed));
    match (last, runs) {
        (None, _) | (_, None) => String::new(),
        (Some(_), Some(_)) if keyed.is_empty() => {
            "Tick a version when it is programmed: from then on only what is ticked counts as what the controller runs.".into()
        }
        (Some(last), Some(runs)) if last != runs => {
            format!("The controller runs version {runs}; version {last} is not programmed yet, and nothing counts it until it is.")
        }
        (_, Some(runs)) => format!("The controller runs version {runs}, as it was programmed."),
    }
}

fn lines(
    snapshot: &ControllerSnapshot,
    history: &[SettingsRecord],
    ticks: &[TickRecord],
) -> Result<Vec<VersionLine>, PageError> {
    let record = &snapshot.site_controller()?.record;
    let (fallback, id) = (record.fallback_version, record.id);
    let runs = running(history, &keyed_in(ticks, id));
    let back = format!("{}/history", snapshot.path());
    let tz: &TimeZone = &snapshot.installation.tz;
    let clean = Settings::clean(&snapshot.installation.card);
    let line = |(i, record): (usize, &SettingsRecord)| {
        let before = history.get(i + 1).map_or(&clean, |r| &r.settings);
        let names = snapshot.names(&record.settings);
        VersionLine {
            version: record.version,
            kind: kind_words(record.kind),
            by: record.saved_by.clone(),
            at: record.saved_at.to_zoned(tz.clone()).formatted("%-d %b %Y, %H:%M"),
            reason: record.reason.clone(),
            changes: names.changes(difference_by(before, &record.settings, date_writer())),
            is_current: i == 0,
            is_fallback: fallback == Some(record.version),
            keyed_in: TickMark::of(
                snapshot.records.site.id.number(),
                What::KeyedIn,
                id,
                record.version,
                ticks,
                tz,
                back.clone(),
            ),
            runs: runs == Some(record.version),
        }
    };
    Ok(history.iter().enumerate().map(line).collect())
}

#[get("/sites/{id}/controllers/{number}/history")]
async fn history_page(here: AtSite, path: web::Path<(i64, u8)>) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    draw(&here, &snapshot, StatusCode::OK, Vec::new()).await
}

async fn draw(
    here: &AtSite,
    snapshot: &ControllerSnapshot,
    status: StatusCode,
    problems: Vec<PathProblem>,
) -> Result<HttpResponse, PageError> {
    let history = here.settings_history(snapshot).await?;
    let ticks = ticks_of(here).await?;
    let id = snapshot.site_controller()?.record.id;
    page_with(
        status,
        &HistoryPage {
            frame: snapshot.frame(here, "versions")?,
            head: snapshot.head(Tab::History)?,
            versions: lines(snapshot, &history, &ticks)?,
            in_controller: in_controller(&history, &keyed_in(&ticks, id)),
            current: history.first().map_or(0, |r| r.version),
            takes_daily: snapshot.installation.card.daily_run_times,
            problems,
        },
    )
}

/// Settings from a file, as a version; what the controller cannot hold is refused by path.
#[post("/sites/{id}/controllers/{number}/open")]
async fn open_file(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    let file = upload::read(&here.who.session, payload, settings_file::MAX_BYTES).await?;
    let snapshot = here.controller_snapshot(path.1).await?;
    let read = file.read_with("settings have a few", |bytes| {
        settings_file::read(bytes).and_then(|read| {
            let faults: Vec<PathProblem> = read
                .settings
                .check(&snapshot.installation.card)
                .into_iter()
                .map(|f| PathProblem { path: format!("settings.{}", f.path), message: f.message })
                .collect();
            if faults.is_empty() { Ok(read.settings.canonical()) } else { Err(faults) }
        })
    });
    let settings = match read {
        Ok(settings) => settings,
        Err(problems) => return draw(&here, &snapshot, StatusCode::UNPROCESSABLE_ENTITY, problems).await,
    };
    let base = snapshot.saved().map_or(0, |s| s.version);
    let back = format!("{}/history", snapshot.path());
    let name = file.file_name;
    let reason = format!("from the file {name}");
    let say = Sayings {
        done: &|version| format!("{name} is version {version}."),
        done_at: back.clone(),
        meanwhile: "Send the file again.",
        again_at: back,
        undo: true,
    };
    ControllerVersion { settings, kind: SettingsKind::Changed, reason, base }
        .save(&here, &snapshot, say)
        .await
}

async fn version(
    here: &AtSite,
    snapshot: &ControllerSnapshot,
    version: i32,
) -> Result<SettingsRecord, PageError> {
    let id = snapshot.site_controller()?.record.id;
    here.read(move |snapshot| snapshot.settings_version(id, version)).await?.ok_or(PageError::NotFound)
}

#[post("/sites/{id}/controllers/{number}/history/{version}/restore")]
async fn restore_version(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8, i32)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    // An undo knows which version to bring back, not which one stands.
    let base =
        fields.get("base_version").parse().unwrap_or_else(|_| snapshot.saved().map_or(0, |s| s.version));
    let old = version(&here, &snapshot, path.2).await?;
    let back = format!("{}/history", snapshot.path());
    if let Some(fault) = old.settings.check(&snapshot.installation.card).into_iter().next() {
        let text = format!(
            "Version {} stays where it is: the type of the controller was changed since, and it cannot be set to this: {}.",
            old.version, fault.message
        );
        flash(&here.who.session, text, None)?;
        return Ok(see_other(&back));
    }
    let reason = format!("back to version {}: {}", old.version, old.reason);
    let say = Sayings {
        done: &|now| format!("Version {} is back, as version {now}.", old.version),
        done_at: back.clone(),
        meanwhile: "Preview, then restore.",
        again_at: back,
        undo: false,
    };
    let restored = ControllerVersion { settings: old.settings, kind: SettingsKind::Restored, reason, base };
    restored.save(&here, &snapshot, say).await
}

#[post("/sites/{id}/controllers/{number}/history/{version}/fallback")]
async fn set_fallback(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8, i32)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let old = version(&here, &snapshot, path.2).await?;
    let id = snapshot.site_controller()?.record.id;
    let chosen = (fields.get("off") != "yes").then_some(old.version);
    if !here.change(move |change| change.set_fallback(id, chosen)).await? {
        return Err(PageError::NotFound);
    }
    let text = match chosen {
        Some(version) => format!("Version {version} is the fallback of this controller."),
        None => "The controller has no fallback version now.".to_owned(),
    };
    flash(&here.who.session, text, None)?;
    Ok(see_other(&format!("{}/history", snapshot.path())))
}

/// A version as a settings file.
#[get("/sites/{id}/controllers/{number}/history/{version}/settings.json")]
async fn download_version(here: AtSite, path: web::Path<(i64, u8, i32)>) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let record = version(&here, &snapshot, path.2).await?;
    let name = format!("{} version {}", snapshot.controller()?.place, record.version);
    Ok(HttpResponse::Ok().content_type("application/json").insert_header(attachment(&name, "json")).body(
        settings_file::write(
            &snapshot.records.controller_file(&snapshot.installation.card, &record.settings),
        ),
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::quantity::time::Seconds;

    #[test]
    fn a_version_says_what_it_changed_by_name() {
        let mut snapshot = fixture::controller_snapshot();
        let newest = snapshot.saved().unwrap().clone();
        let mut older = newest.clone();
        older.version = 1;
        older.kind = SettingsKind::AsFound;
        older.settings.set_run_time(0, 1, Seconds::from_s(1200));
        older.settings.programs[1].active = false;
        std::sync::Arc::get_mut(&mut snapshot.records).unwrap().controllers[0].record.fallback_version =
            Some(1);
        let shown = lines(&snapshot, &[newest, older], &[]).unwrap();
        let changed: Vec<String> = shown[0]
            .changes
            .iter()
            .map(|c| format!("{}, {}: {} -> {}", c.place, c.what, c.before, c.after))
            .collect();
        assert_eq!(changed, ["Program A, 1 Upper lawn: 20 min -> 15 min", "Program B, switched: off -> on"]);
        assert!(shown[0].is_current && !shown[0].is_fallback && shown[1].is_fallback);
        assert_eq!((shown[1].kind, shown[0].kind), ("as found", "changed"));
        assert!(shown[1].changes.len() > 5, "the first version against a clean controller");
    }
}

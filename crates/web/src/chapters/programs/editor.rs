//! The settings page: enter, see, mend, save.

use super::BoxPage;
use super::texts::{self, TextError, Texts};
use super::timeline::Zoom;
use super::view::{self, FieldsView, LiveView};
use super::{BoxHead, Tab};
use crate::page::forms::base_version;
use crate::page::forms::three_way;
use crate::page::frame::Frame;
use crate::server::error::{PageError, page, page_with, see_other};
use crate::server::session::{Fields, SignedIn, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::workbench::Workbench;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::advice::findings::check;
use upland_core::controller::schedule::{Settings, difference};
use upland_store::Saved;
use upland_store::settings::{NewSettings, SettingsKind};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(first_box).service(settings_page).service(draft).service(save);
}

/// Longest reason of a version, characters.
pub(super) const LONGEST_REASON: usize = 300;

/// The page that a chapter opens on: the first box, or the form that hangs one.
#[get("/sites/{id}/programs")]
async fn first_box(here: AtSite) -> Result<HttpResponse, PageError> {
    let loaded = Arc::clone(&here.facts);
    Ok(see_other(&match loaded.boxes.first() {
        Some(first) => format!("/sites/{}/boxes/{}", here.id(), first.number()),
        None => format!("/sites/{}/boxes/new", here.id()),
    }))
}

/// The part of the page that is drawn anew when an action changes the settings.
#[derive(Template)]
#[template(path = "chapters/programs/editor.html")]
struct EditorPart {
    head_path: String,
    csrf: String,
    version: i32,
    first_time: bool,
    chosen: Date,
    zoom: &'static str,
    fields: FieldsView,
    live: LiveView,
    changes: usize,
    message: String,
    reason: String,
    refused: String,
    may_edit: bool,
}

#[derive(Template)]
#[template(path = "chapters/programs/settings.html")]
struct SettingsPage {
    frame: Frame,
    head: BoxHead,
    saved: String,
    editor: EditorPart,
}

#[derive(serde::Deserialize)]
pub(super) struct NightQuery {
    night: Option<String>,
    zoom: Option<String>,
}

pub(super) fn night_of(text: Option<&str>, today: Date) -> Result<Date, PageError> {
    match text {
        None | Some("") => Ok(today),
        Some(text) => text
            .parse::<Date>()
            .ok()
            .filter(|d| (1900..=2200).contains(&d.year()))
            .ok_or_else(|| PageError::BadRequest(format!("\"{text}\" is not a date written YYYY-MM-DD."))),
    }
}

/// What the page is drawn from.
struct Drawing<'a> {
    texts: &'a Texts,
    errors: &'a [TextError],
    settings: Option<&'a Settings>,
    version: i32,
    chosen: Date,
    zoom: Zoom,
    message: String,
    reason: String,
    refused: String,
}

fn part(bench: &Workbench, who: &SignedIn, drawing: Drawing<'_>) -> Result<EditorPart, PageError> {
    let may_edit = who.may_edit();
    let changes = match drawing.settings {
        Some(settings) => difference(&bench.settings(), settings).len(),
        None => 1,
    };
    Ok(EditorPart {
        head_path: bench.path(),
        csrf: who.csrf()?,
        version: drawing.version,
        first_time: bench.saved().is_none(),
        chosen: drawing.chosen,
        zoom: drawing.zoom.code(),
        fields: view::fields(bench, drawing.texts, drawing.errors, may_edit),
        live: match drawing.settings {
            Some(settings) => view::live(bench, settings, (drawing.chosen, drawing.zoom), may_edit),
            None => view::unreadable(bench, drawing.errors, drawing.chosen),
        },
        changes,
        message: drawing.message,
        reason: drawing.reason,
        refused: drawing.refused,
        may_edit,
    })
}

fn whole(
    bench: &Workbench,
    here: &AtSite,
    status: StatusCode,
    drawing: Drawing<'_>,
) -> Result<HttpResponse, PageError> {
    let saved = match bench.saved() {
        Some(record) => format!(
            "Version {}, {} by {} on {}: {}",
            record.version,
            super::history::kind_words(record.kind),
            record.saved_by,
            record.saved_at.to_zoned(bench.installation.tz.clone()).strftime("%-d %b %Y"),
            record.reason
        ),
        None => "Nothing is recorded of this box yet. Enter what you find in it, or let the planner make a first schedule."
            .to_owned(),
    };
    page_with(
        status,
        &SettingsPage {
            frame: bench.frame(here, "settings")?,
            head: bench.head(Tab::Settings)?,
            saved,
            editor: part(bench, &here.who, drawing)?,
        },
    )
}

#[get("/sites/{id}/boxes/{number}")]
async fn settings_page(
    here: AtSite,
    path: web::Path<(i64, u8)>,
    query: web::Query<NightQuery>,
) -> Result<HttpResponse, PageError> {
    let bench = here.workbench(path.1).await?;
    let settings = bench.settings();
    let chosen = night_of(query.night.as_deref(), bench.today)?;
    let drawing = Drawing {
        texts: &texts::texts(&settings),
        errors: &[],
        settings: Some(&settings),
        version: bench.saved().map_or(0, |s| s.version),
        chosen,
        zoom: Zoom::of(query.zoom.as_deref().unwrap_or("")),
        message: String::new(),
        reason: String::new(),
        refused: String::new(),
    };
    whole(&bench, &here, StatusCode::OK, drawing)
}

/// Computes a draft without storing it. With `mend`, the action of that finding is done first.
/// A script asks for the part it shows; without one the whole page comes back.
#[post("/sites/{id}/boxes/{number}/draft")]
async fn draft(
    here: AtSite,
    request: HttpRequest,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let bench = here.workbench(path.1).await?;
    let (chosen, zoom) = (night_of(Some(fields.get("night")), bench.today)?, Zoom::of(fields.get("zoom")));
    let version = base_version(&fields)?;
    let wanted = request.headers().get("x-part").and_then(|v| v.to_str().ok()).unwrap_or("page").to_owned();
    let read = texts::read(&fields, &bench.installation.card, bench.today);
    if wanted == "live" {
        return page(&match &read {
            Ok(settings) => view::live(&bench, settings, (chosen, zoom), here.who.may_edit()),
            Err(errors) => view::unreadable(&bench, errors, chosen),
        });
    }
    let (typed, errors, settings, message) = match read {
        Err(errors) => (fields.0.clone(), errors, None, String::new()),
        Ok(settings) => {
            let (settings, message) = mended(&bench, settings, fields.get("mend"));
            (texts::texts(&settings), Vec::new(), Some(settings), message)
        }
    };
    let drawing = Drawing {
        texts: &typed,
        errors: &errors,
        settings: settings.as_ref(),
        version,
        chosen,
        zoom,
        message,
        reason: fields.get("reason").to_owned(),
        refused: String::new(),
    };
    if wanted == "editor" {
        return page(&part(&bench, &here.who, drawing)?);
    }
    whole(&bench, &here, StatusCode::OK, drawing)
}

/// Does the action of a finding, if it is still there.
fn mended(bench: &Workbench, settings: Settings, id: &str) -> (Settings, String) {
    if id.is_empty() {
        return (settings, String::new());
    }
    let found = check(&bench.installation, &settings, bench.today);
    let Some(mend) = found.iter().find(|f| f.id() == id).and_then(|f| f.mend.as_ref()) else {
        return (settings, "That finding is gone already; nothing was changed.".into());
    };
    let words = bench.names(&settings).mend(mend);
    let changed = mend.apply(&bench.installation, &settings).canonical();
    (changed, format!("{words}: done. Nothing is stored until you save."))
}

#[post("/sites/{id}/boxes/{number}")]
async fn save(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let bench = here.workbench(path.1).await?;
    let (chosen, zoom) = (night_of(Some(fields.get("night")), bench.today)?, Zoom::of(fields.get("zoom")));
    let base = base_version(&fields)?;
    let reason = fields.get("reason").to_owned();
    let refuse = |texts: &Texts, errors: &[TextError], settings: Option<&Settings>, refused: &str| {
        let drawing = Drawing {
            texts,
            errors,
            settings,
            version: base,
            chosen,
            zoom,
            message: String::new(),
            reason: reason.clone(),
            refused: refused.to_owned(),
        };
        whole(&bench, &here, StatusCode::UNPROCESSABLE_ENTITY, drawing)
    };
    let settings = match texts::read(&fields, &bench.installation.card, bench.today) {
        Ok(settings) => settings,
        Err(errors) => {
            return refuse(
                &fields.0,
                &errors,
                None,
                "Some lines cannot be read. Nothing is stored yet, and everything you typed is still here.",
            );
        }
    };
    let typed = texts::texts(&settings);
    if let Some(fault) = settings.check(&bench.installation.card).into_iter().next() {
        let message = format!(
            "The box cannot hold this: {}. Nothing is stored yet; take the nearest under the findings, or change it.",
            fault.message
        );
        return refuse(&typed, &[], Some(&settings), &message);
    }
    if reason.is_empty() || reason.chars().count() > LONGEST_REASON || reason.chars().any(char::is_control) {
        return refuse(
            &typed,
            &[],
            Some(&settings),
            "Say in a few words why; it is what the next person reads. Nothing is stored yet.",
        );
    }
    let kind = if base == 0 || fields.get("kind") == "as_found" {
        SettingsKind::AsFound
    } else {
        SettingsKind::Changed
    };
    let id = bench.site_box()?.record.id;
    let new = settings.clone();
    let saved = here
        .change(move |change| {
            change.save_settings(id, base, NewSettings { settings: &new, kind, reason: &reason })
        })
        .await?;
    match saved {
        None => Err(PageError::NotFound),
        Some(Saved::As(version)) => {
            flash(
                &here.who.session,
                format!("Saved as version {version}. Print the door sheet, or key it in."),
                None,
            )?;
            Ok(see_other(&bench.path()))
        }
        Some(Saved::Unchanged(version)) => {
            let text = format!("Nothing changed: version {version} stands, and your reason was not needed.");
            flash(&here.who.session, text, None)?;
            Ok(see_other(&bench.path()))
        }
        Some(Saved::Conflict(theirs)) => {
            let before = here.read(move |snapshot| snapshot.settings_version(id, base)).await?;
            let started = before.map(|b| texts::texts(&b.settings)).unwrap_or_default();
            let (merged, both) = three_way(&started, &typed, &texts::texts(&theirs.settings));
            // Lines that were both readable stay so when they are put together.
            let together = texts::read(&Fields(merged.clone()), &bench.installation.card, bench.today);
            let (errors, settings) = match together {
                Ok(settings) => (Vec::new(), Some(settings)),
                Err(errors) => (errors, None),
            };
            let mut names: Vec<String> = both.iter().map(|n| texts::label(n)).collect();
            names.dedup();
            let refused = format!(
                "{} saved version {} while you were editing. Your changes are put on top of theirs{}. Look it over and save again.",
                theirs.saved_by,
                theirs.version,
                if names.is_empty() {
                    "; no line was changed by both".to_owned()
                } else {
                    format!("; both of you changed {}", names.join(", "))
                }
            );
            let drawing = Drawing {
                texts: &merged,
                errors: &errors,
                settings: settings.as_ref(),
                version: theirs.version,
                chosen,
                zoom,
                message: String::new(),
                reason: fields.get("reason").to_owned(),
                refused,
            };
            whole(&bench, &here, StatusCode::CONFLICT, drawing)
        }
    }
}

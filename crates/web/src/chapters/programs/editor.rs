//! The settings page: enter, see, mend, save.

use super::ControllerPage;
use super::entry;
use super::settings_form::{self, TextError, Texts};
use super::timeline::Zoom;
use super::view::{self, FieldsView, LiveView};
use super::{ControllerHead, Tab};
use crate::page::controller_version::ControllerVersion;
use crate::page::dates::DateFormat;
use crate::page::dates::typed_time;
use crate::page::forms::base_version;
use crate::page::forms::three_way;
use crate::page::frame::Frame;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::{PageError, page, page_with, see_other};
use crate::server::request_locale::off_loop;
use crate::server::session::{Fields, flash};
use crate::server::state::with_store;
use crate::site::clock::asked_day;
use crate::site::context::{AtSite, EditorAt};
use crate::site::controller_snapshot::ControllerSnapshot;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::advice::findings::check;
use upland_core::controller::schedule::{Settings, difference};
use upland_core::trial::{Schedule, TrialWay};
use upland_formats::way_file;
use upland_store::Saved;
use upland_store::drafts::SettingsDraft;
use upland_store::settings::{SettingsKind, SettingsRecord};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(first_controller)
        .service(settings_page)
        .service(draft)
        .service(drop_draft)
        .service(try_draft)
        .service(save);
}

/// Longest reason of a version, characters.
pub(super) const LONGEST_REASON: usize = 300;

/// The page that a chapter opens on: the first controller, or the form that adds one.
#[get("/sites/{id}/programs")]
async fn first_controller(here: AtSite) -> Result<HttpResponse, PageError> {
    let records = Arc::clone(&here.records);
    Ok(see_other(&match records.controllers.first() {
        Some(first) => address::site_controller(here.id(), first.number()),
        None => format!("{}/new", address::controllers(here.id())),
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
    live: Arc<LiveView>,
    changes: usize,
    message: String,
    reason: String,
    refused: String,
    /// A draft that was found again, in words.
    kept: Option<String>,
    line: String,
    line_error: String,
    example: String,
    may_edit: bool,
}

#[derive(Template)]
#[template(path = "chapters/programs/settings.html")]
struct SettingsPage {
    frame: Frame,
    head: ControllerHead,
    saved: String,
    editor: EditorPart,
}

#[derive(serde::Deserialize)]
pub(super) struct NightQuery {
    night: Option<String>,
    zoom: Option<String>,
}

/// The night that is looked at closely, and how.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
struct NightView {
    chosen: Date,
    zoom: Zoom,
}

impl NightView {
    fn of(fields: &Fields, today: Date) -> Result<Self, PageError> {
        let chosen = asked_day(Some(fields.get("night")), today)?.unwrap_or(today);
        Ok(Self { chosen, zoom: Zoom::of(fields.get("zoom")) })
    }
}

/// What the page is drawn from.
struct Drawing {
    texts: Texts,
    errors: Vec<TextError>,
    /// `None` while a line cannot be read.
    settings: Option<Settings>,
    version: i32,
    look: NightView,
    message: String,
    reason: String,
    refused: String,
    kept: Option<String>,
    /// A program in one line that was not taken, and why.
    line: (String, String),
}

impl Drawing {
    /// Settings as they are.
    fn of(settings: Settings, version: i32, look: NightView) -> Self {
        Self {
            texts: settings_form::texts(&settings),
            errors: Vec::new(),
            settings: Some(settings),
            version,
            look,
            message: String::new(),
            reason: String::new(),
            refused: String::new(),
            kept: None,
            line: Default::default(),
        }
    }

    /// Settings as they are, with what was added to be keyed and is empty yet.
    fn of_typed(settings: Settings, fields: &Fields, version: i32, look: NightView) -> Self {
        let mut drawing = Self::of(settings, version, look);
        drawing.texts.insert("shown".into(), fields.get("shown").to_owned());
        drawing
    }

    /// What was typed, with the lines that cannot be read.
    fn typed(texts: Texts, errors: Vec<TextError>, version: i32, look: NightView) -> Self {
        let none = String::new;
        let (message, reason, refused) = (none(), none(), none());
        let (kept, line) = (None, Default::default());
        Self { texts, errors, settings: None, version, look, message, reason, refused, kept, line }
    }
}

questions! {
    words Live { number: u8, night: NightView, may_edit: bool, settings: String } -> LiveView;
}

/// Everything computed from settings, once for the same settings and moment.
async fn live(
    here: &AtSite,
    snapshot: &Arc<ControllerSnapshot>,
    settings: &Settings,
    look: NightView,
) -> Result<Arc<LiveView>, PageError> {
    let may_edit = here.who.may_edit();
    let number = snapshot.controller()?.number;
    let question = Live { number, night: look, may_edit, settings: format!("{settings:?}") };
    let about = here.about_moment(here.moment(None));
    let (snapshot, settings) = (Arc::clone(snapshot), settings.clone());
    let compute = move |_: &_| Ok(view::live(&snapshot, &settings, look.chosen, look.zoom, may_edit));
    here.once(about, question, 80, compute).await
}

async fn part(
    here: &AtSite,
    snapshot: &Arc<ControllerSnapshot>,
    drawing: Drawing,
) -> Result<EditorPart, PageError> {
    let may_edit = here.who.may_edit();
    let (changes, live) = match &drawing.settings {
        Some(settings) => {
            let changes = difference(&snapshot.settings(), settings).len();
            (changes, live(here, snapshot, settings, drawing.look).await?)
        }
        None => (1, Arc::new(view::unreadable(snapshot, &drawing.errors, drawing.look.chosen))),
    };
    Ok(EditorPart {
        head_path: snapshot.path(),
        csrf: here.who.csrf()?,
        version: drawing.version,
        first_time: snapshot.saved().is_none(),
        chosen: drawing.look.chosen,
        zoom: drawing.look.zoom.code(),
        fields: view::fields(snapshot, &drawing.texts, &drawing.errors, may_edit),
        live,
        changes,
        message: drawing.message,
        reason: drawing.reason,
        refused: drawing.refused,
        kept: drawing.kept,
        line: drawing.line.0,
        line_error: drawing.line.1,
        example: typed_time(jiff::civil::time(2, 0, 0, 0)),
        may_edit,
    })
}

async fn whole(
    here: &AtSite,
    snapshot: &Arc<ControllerSnapshot>,
    status: StatusCode,
    drawing: Drawing,
) -> Result<HttpResponse, PageError> {
    let saved = match snapshot.saved() {
        Some(record) => format!(
            "Version {}, {} by {} on {}: {}",
            record.version,
            super::history::kind_words(record.kind),
            record.saved_by,
            record.saved_at.to_zoned(snapshot.installation.tz.clone()).formatted("%-d %b %Y"),
            record.reason
        ),
        None => "Nothing is recorded of this controller yet. Enter what you find in it, or let the planner make a first schedule."
            .to_owned(),
    };
    page_with(
        status,
        &SettingsPage {
            frame: snapshot.frame(here, "settings")?,
            head: snapshot.head(Tab::Settings)?,
            saved,
            editor: part(here, snapshot, drawing).await?,
        },
    )
}

#[get("/sites/{id}/controllers/{number}")]
async fn settings_page(
    here: AtSite,
    path: web::Path<(i64, u8)>,
    query: web::Query<NightQuery>,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let chosen = asked_day(query.night.as_deref(), snapshot.today)?.unwrap_or(snapshot.today);
    let look = NightView { chosen, zoom: Zoom::of(query.zoom.as_deref().unwrap_or("")) };
    let version = snapshot.saved().map_or(0, |s| s.version);
    let kept = kept_draft(&here, &snapshot).await?;
    let drawing = match kept {
        None => Drawing::of(snapshot.settings(), version, look),
        Some(kept) => {
            let found = Some(entry::found_again(&snapshot, &kept));
            let fields = Fields(kept.fields);
            let drawing = match entry::read(&snapshot, &fields) {
                Ok(settings) => Drawing::of_typed(settings, &fields, kept.base_version, look),
                Err(errors) => Drawing::typed(fields.0.clone(), errors, kept.base_version, look),
            };
            Drawing { kept: found, reason: fields.get("reason").to_owned(), ..drawing }
        }
    };
    whole(&here, &snapshot, StatusCode::OK, drawing).await
}

/// The draft of who asks, if there is one.
async fn kept_draft(
    here: &AtSite,
    snapshot: &ControllerSnapshot,
) -> Result<Option<SettingsDraft>, PageError> {
    if !here.who.may_edit() {
        return Ok(None);
    }
    let (user, id) = (here.who.user.id, snapshot.site_controller()?.record.id);
    here.read(move |snapshot| snapshot.settings_draft(user, id)).await
}

/// Keeps what was typed so far until it is saved or dropped; what says nothing new is no draft.
async fn keep_draft(
    here: &AtSite,
    snapshot: &ControllerSnapshot,
    fields: &Fields,
    read: Option<&Settings>,
    version: i32,
) -> Result<(), PageError> {
    if !here.who.may_edit() {
        return Ok(());
    }
    if read == Some(&snapshot.settings()) && fields.get("reason").is_empty() {
        return forget_draft(here, snapshot).await;
    }
    let whose = (here.who.user.id, snapshot.site_controller()?.record.id);
    let mut own = fields.shown();
    own.retain(|name, _| !matches!(name.as_str(), "night" | "zoom" | "mend" | "add" | "line"));
    with_store(&here.state, move |store| store.keep_settings_draft(whose.0, whose.1, version, &own)).await?;
    Ok(())
}

async fn forget_draft(here: &AtSite, snapshot: &ControllerSnapshot) -> Result<(), PageError> {
    let (user, id) = (here.who.user.id, snapshot.site_controller()?.record.id);
    with_store(&here.state, move |store| store.drop_settings_draft(user, id)).await?;
    Ok(())
}

/// Forgets the draft: the settings as they are saved stand in the form again.
#[post("/sites/{id}/controllers/{number}/draft/drop")]
async fn drop_draft(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    forget_draft(&here, &snapshot).await?;
    flash(&here.who.session, "The draft is dropped; the settings as saved stand here.", None)?;
    Ok(see_other(&snapshot.path()))
}

/// The form with a program that was typed in one line, and with what was added to be keyed; what was done, in words;
/// and a line that was not taken, with the reason.
fn with_additions(snapshot: &ControllerSnapshot, fields: Fields) -> (Fields, String, (String, String)) {
    let mut texts = fields.0.clone();
    let added = fields.get("add");
    if !added.is_empty() {
        let shown = format!("{} {added}", fields.get("shown"));
        texts.insert("shown".into(), shown.trim().chars().take(2000).collect());
    }
    let line = fields.get("line").to_owned();
    if fields.get("then") != "line" || line.is_empty() {
        return (Fields(texts), String::new(), Default::default());
    }
    match entry::with_line(snapshot, &texts, &line) {
        Ok((texts, said)) => (Fields(texts), said, Default::default()),
        Err(why) => (Fields(texts), String::new(), (line, why)),
    }
}

/// Computes a draft and keeps it for who types it, until it is saved or dropped. With `mend`, the action of that finding is done first.
/// A script asks for the part it shows; without one the whole page comes back.
#[post("/sites/{id}/controllers/{number}/draft")]
async fn draft(
    here: AtSite,
    request: HttpRequest,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let look = NightView::of(&fields, snapshot.today)?;
    let version = base_version(&fields)?;
    let wanted = request.headers().get("x-part").and_then(|v| v.to_str().ok()).unwrap_or("page").to_owned();
    let (fields, said, line) = with_additions(&snapshot, fields);
    let read = entry::read(&snapshot, &fields);
    if wanted == "live" {
        keep_draft(&here, &snapshot, &fields, read.as_ref().ok(), version).await?;
        let view = match &read {
            Ok(settings) => live(&here, &snapshot, settings, look).await?,
            Err(errors) => Arc::new(view::unreadable(&snapshot, errors, look.chosen)),
        };
        return Ok(HttpResponse::Ok().json(serde_json::json!({
            "week": view.week_part(), "totals": view.totals_part(), "live": view.render()?,
        })));
    }
    let mut drawing = match read {
        Err(errors) => Drawing::typed(fields.0.clone(), errors, version, look),
        Ok(settings) => {
            let (id, shared) = (fields.get("mend").to_owned(), Arc::clone(&snapshot));
            let (settings, message) = off_loop(move || remedied(&shared, settings, &id)).await?;
            Drawing { message, ..Drawing::of_typed(settings, &fields, version, look) }
        }
    };
    drawing.reason = fields.get("reason").to_owned();
    if !said.is_empty() {
        drawing.message = said;
    }
    drawing.line = line;
    let now = Fields(drawing.texts.clone());
    keep_draft(&here, &snapshot, &now, drawing.settings.as_ref(), version).await?;
    if wanted == "editor" {
        return page(&part(&here, &snapshot, drawing).await?);
    }
    whole(&here, &snapshot, StatusCode::OK, drawing).await
}

/// The page again when some lines cannot be read: with all that was typed, and what became of it.
async fn unreadable(
    here: &AtSite,
    snapshot: &Arc<ControllerSnapshot>,
    fields: &Fields,
    errors: Vec<TextError>,
    base: i32,
    look: NightView,
    refused: &str,
) -> Result<HttpResponse, PageError> {
    let typed = Drawing::typed(fields.0.clone(), errors, base, look);
    let reason = fields.get("reason").to_owned();
    let drawing = Drawing { reason, refused: refused.to_owned(), ..typed };
    whole(here, snapshot, StatusCode::UNPROCESSABLE_ENTITY, drawing).await
}

/// Keeps the draft as a way of its own and shows it in Trial beside the controller as it is set; the settings stay.
#[post("/sites/{id}/controllers/{number}/try")]
async fn try_draft(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let look = NightView::of(&fields, snapshot.today)?;
    let base = base_version(&fields)?;
    let settings = match entry::read(&snapshot, &fields) {
        Ok(settings) => settings,
        Err(errors) => {
            let refused =
                "Some lines cannot be read, so nothing is tried; everything you typed is still here.";
            return unreadable(&here, &snapshot, &fields, errors, base, look, refused).await;
        }
    };
    let at = here.now().to_zoned(here.records.tz.clone()).formatted("%-d %b %Y, %H:%M");
    let first = format!("Draft of controller {} on {at}", path.1);
    let schedule = Schedule::Settings(vec![(path.1, settings)]);
    let value = |name: &str| {
        way_file::to_value(&TrialWay {
            name: name.to_owned(),
            schedule: schedule.clone(),
            ..TrialWay::default()
        })
    };
    // Another draft within the same minute has a number; the same one sent twice has its name.
    let of_site = here.site_key();
    let ways = here.read(move |snapshot| snapshot.trial_ways(of_site)).await?;
    let mut name = first.clone();
    let mut number = 1;
    while ways.iter().any(|own| own.name == name && own.way != value(&name)) {
        number += 1;
        name = format!("{first} ({number})");
    }
    let (kept, way) = (name.clone(), value(&name));
    let id = here.change(move |change| change.save_trial_way(&kept, &way)).await?;
    let root = address::site_root(here.id());
    let said = if id.is_some() { "is tried beside the others." } else { "is tried already." };
    let undo = id.map(|id| format!("{root}/trial/ways/{id}/undo"));
    flash(&here.who.session, format!("{name} {said} The settings stay as they are."), undo)?;
    Ok(see_other(&format!("{root}/trial?way={}#h-way", address::encoded(&name))))
}

/// Does the action of a finding, if it is still there.
fn remedied(snapshot: &ControllerSnapshot, settings: Settings, id: &str) -> (Settings, String) {
    if id.is_empty() {
        return (settings, String::new());
    }
    let found = check(&snapshot.installation, &settings, snapshot.today);
    let Some(remedy) = found.iter().find(|f| f.id() == id).and_then(|f| f.remedy.as_ref()) else {
        return (settings, "That finding is gone already; nothing was changed.".into());
    };
    let words = snapshot.names(&settings).remedy(remedy);
    let changed = remedy.apply(&snapshot.installation, &settings).canonical();
    (changed, format!("{words}: done. Nothing is stored until you save."))
}

/// Why settings with their reason cannot be stored, in words.
fn refusal(snapshot: &ControllerSnapshot, settings: &Settings, reason: &str) -> Option<String> {
    if let Some(fault) = settings.check(&snapshot.installation.card).into_iter().next() {
        return Some(format!(
            "The controller cannot be set to this: {}. Nothing is stored yet; take the nearest under the findings, or change it.",
            fault.message
        ));
    }
    let unfit = reason.chars().count() > LONGEST_REASON || reason.chars().any(char::is_control);
    (reason.is_empty() || unfit).then(|| {
        "Say in a few words why; it is what the next person reads. Nothing is stored yet.".to_owned()
    })
}

#[post("/sites/{id}/controllers/{number}")]
async fn save(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let look = NightView::of(&fields, snapshot.today)?;
    let base = base_version(&fields)?;
    let reason = fields.get("reason").to_owned();
    let settings = match entry::read(&snapshot, &fields) {
        Ok(settings) => settings,
        Err(errors) => {
            let refused =
                "Some lines cannot be read. Nothing is stored yet, and everything you typed is still here.";
            return unreadable(&here, &snapshot, &fields, errors, base, look, refused).await;
        }
    };
    if let Some(refused) = refusal(&snapshot, &settings, &reason) {
        let drawing = Drawing { reason, refused, ..Drawing::of(settings, base, look) };
        return whole(&here, &snapshot, StatusCode::UNPROCESSABLE_ENTITY, drawing).await;
    }
    let as_found = base == 0 || fields.get("kind") == "as_found";
    let kind = if as_found { SettingsKind::AsFound } else { SettingsKind::Changed };
    let new = ControllerVersion { settings: settings.clone(), kind, reason: reason.clone(), base };
    let text = match new.store(&here, &snapshot).await? {
        Saved::As(version) => {
            format!("Saved as version {version}. Print the controller sheet, or program it.")
        }
        Saved::Unchanged(version) => {
            format!("Nothing changed: version {version} remains in force, so no reason was needed.")
        }
        Saved::Conflict(theirs) => {
            let before = here.read({
                let id = snapshot.site_controller()?.record.id;
                move |snapshot| snapshot.settings_version(id, base)
            });
            let started = before.await?.map(|b| b.settings);
            let together = together(&snapshot, started.as_ref(), &settings, &theirs);
            let drawing = Drawing { reason, look, ..together };
            return whole(&here, &snapshot, StatusCode::CONFLICT, drawing).await;
        }
    };
    forget_draft(&here, &snapshot).await?;
    flash(&here.who.session, text, None)?;
    Ok(see_other(&snapshot.path()))
}

/// Two edits of the same settings put together, yours on top of theirs.
fn together(
    snapshot: &ControllerSnapshot,
    started: Option<&Settings>,
    yours: &Settings,
    theirs: &SettingsRecord,
) -> Drawing {
    let started = started.map(settings_form::texts).unwrap_or_default();
    let (merged, both) =
        three_way(&started, &settings_form::texts(yours), &settings_form::texts(&theirs.settings));
    // Lines that were both readable stay so when they are put together.
    let read = entry::read(snapshot, &Fields(merged.clone()));
    let (errors, settings) = match read {
        Ok(settings) => (Vec::new(), Some(settings)),
        Err(errors) => (errors, None),
    };
    let mut names: Vec<String> = both.iter().map(|n| settings_form::label(n)).collect();
    names.dedup();
    let lines = if names.is_empty() {
        "; no line was changed by both".to_owned()
    } else {
        format!("; both of you changed {}", names.join(", "))
    };
    let look = NightView { chosen: snapshot.today, zoom: Zoom::Day };
    Drawing {
        settings,
        refused: format!(
            "{} saved version {} while you were editing. Your changes are put on top of theirs{lines}. Check it and save again.",
            theirs.saved_by, theirs.version
        ),
        ..Drawing::typed(merged, errors, theirs.version, look)
    }
}

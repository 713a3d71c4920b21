//! The ordinance editor: rules by season, written once, applied to many sites.

use super::ordinance_form::{self, DAY_MODES, HOURS, TextError};
use super::{Kept, entry, keep, shelve};
use crate::page::dates::{DateFormat, typed_month_day};
use crate::page::forms::{Cell, Cells, Tick, base_version};
use crate::page::frame::Frame;
use crate::page::law_words::{exempt_words, rule_words};
use crate::server::download::attachment;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Editor, Fields, SignedIn, flash};
use crate::server::state::{AppState, read, with_store};
use crate::server::upload;
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use upland_core::controller::ordinance::Ordinance;
use upland_core::ground::application::HeadType;
use upland_core::quantity::time::WEEKDAYS;
use upland_formats::{PathProblem, ordinance_file};
use upland_store::library::Entry;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(list)
        .service(new_page)
        .service(create)
        .service(open_file)
        .service(download)
        .service(edit_page)
        .service(save)
        .service(remove)
        .service(restore)
        .service(schema);
}

struct OrdinanceLine {
    id: i64,
    name: String,
    rules: Vec<String>,
    exempt: String,
    sites: String,
}

#[derive(Template)]
#[template(path = "chapters/library/ordinances.html")]
struct ListPage {
    frame: Frame,
    ordinances: Vec<OrdinanceLine>,
    problems: Vec<PathProblem>,
}

async fn list_page(
    state: &web::Data<AppState>,
    who: &SignedIn,
    status: StatusCode,
    problems: Vec<PathProblem>,
) -> Result<HttpResponse, PageError> {
    let scope = who.scope.clone();
    let ordinances = read(state, move |snapshot| {
        let entries: Vec<Entry<Ordinance>> = snapshot.library()?;
        entries
            .into_iter()
            .map(|entry| {
                let sites = snapshot.sites_of_ordinance(&scope, entry.id)?;
                Ok(OrdinanceLine {
                    id: entry.id,
                    rules: entry.item.rules.iter().map(rule_words).collect(),
                    exempt: exempt_words(&entry.item),
                    sites: if sites.is_empty() { "no site yet".into() } else { sites.join(", ") },
                    name: entry.item.name,
                })
            })
            .collect::<upland_store::Result<Vec<_>>>()
    })
    .await?;
    page_with(status, &ListPage { frame: Frame::new(who, "Ordinances")?, ordinances, problems })
}

#[get("/ordinances")]
async fn list(state: web::Data<AppState>, who: SignedIn) -> Result<HttpResponse, PageError> {
    list_page(&state, &who, StatusCode::OK, Vec::new()).await
}

/// A text field of a rule.
struct RuleBlock {
    title: String,
    from: Cell,
    until: Cell,
    days: Cell,
    modes: Vec<(&'static str, &'static str, bool)>,
    odd: Vec<Tick>,
    even: Vec<Tick>,
    /// A weekday's name and its last digits.
    digits: Vec<(&'static str, Cell)>,
    hours: Vec<(Cell, Cell)>,
    most: Cell,
    minutes: Cell,
    dry: Cell,
    rain: Cell,
}

#[derive(Template)]
#[template(path = "chapters/library/ordinance.html")]
struct EditPage {
    frame: Frame,
    /// The ends of a season as an example, as the reader writes dates.
    season_from: String,
    season_until: String,
    id: Option<i64>,
    version: i32,
    saved: Option<(String, String)>,
    name: Cell,
    /// Field, words and whether the ordinance exempts it, head by head.
    heads: Vec<(String, &'static str, bool)>,
    hours_bind: bool,
    exempts_new_planting: bool,
    rules: Vec<RuleBlock>,
    errors: usize,
    both: Vec<String>,
    their_name: String,
}

fn edit(
    who: &SignedIn,
    status: StatusCode,
    entry: Option<&Entry<Ordinance>>,
    texts: &BTreeMap<String, String>,
    errors: &[TextError],
    merged: Option<(Vec<String>, String)>,
) -> Result<HttpResponse, PageError> {
    let form = Cells { texts, errors };
    let cell = |name: String| form.cell(name);
    let block = |i: usize| {
        let at = |field: &str| format!("r{i}-{field}");
        let mode = form.text(&at("days"));
        RuleBlock {
            title: format!("Rule {}", i + 1),
            from: cell(at("from")),
            until: cell(at("until")),
            days: cell(at("days")),
            modes: DAY_MODES.iter().map(|(code, words)| (*code, *words, *code == mode)).collect(),
            odd: form.week(|k| at(&format!("odd{k}"))),
            even: form.week(|k| at(&format!("even{k}"))),
            digits: (0..).zip(WEEKDAYS).map(|(k, day)| (day, cell(at(&format!("digits{k}"))))).collect(),
            hours: (0..HOURS)
                .map(|k| (cell(at(&format!("h{k}-from"))), cell(at(&format!("h{k}-until")))))
                .collect(),
            most: cell(at("most")),
            minutes: cell(at("minutes")),
            dry: cell(at("dry")),
            rain: cell(at("rain")),
        }
    };
    let (both, their_name) = merged.unwrap_or_default();
    page_with(
        status,
        &EditPage {
            season_from: typed_month_day(5, 1),
            season_until: typed_month_day(9, 30),
            frame: Frame::new(who, entry.map_or("New ordinance".to_owned(), |e| e.item.name.clone()))?,
            id: entry.map(|e| e.id),
            version: entry.map_or(0, |e| e.version),
            saved: entry.map(|e| (e.saved_by.clone(), e.saved_at.formatted("%-d %b %Y"))),
            name: cell("name".into()),
            heads: HeadType::ALL
                .into_iter()
                .map(|head| {
                    let field = ordinance_form::head_field(head);
                    let on = form.text(&field) == "on";
                    (field, head.label(), on)
                })
                .collect(),
            hours_bind: form.text("hours_bind") == "on",
            exempts_new_planting: form.text("exempts_new_planting") == "on",
            rules: (0..ordinance_form::blocks(texts)).map(block).collect(),
            errors: errors.len(),
            both,
            their_name,
        },
    )
}

#[get("/ordinances/new")]
async fn new_page(Editor(who): Editor) -> Result<HttpResponse, PageError> {
    edit(&who, StatusCode::OK, None, &BTreeMap::new(), &[], None)
}

#[post("/ordinances")]
async fn create(
    state: web::Data<AppState>,
    Editor(who): Editor,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    match ordinance_form::read(&fields) {
        Ok(ordinance) => {
            let (user, name) = (who.user.id, ordinance.name.clone());
            let id = with_store(&state, move |store| store.create_library_entry(&ordinance, user)).await?;
            flash(
                &who.session,
                format!("{name} is saved. Apply it to a site under Programs."),
                Some(format!("/ordinances/{id}/remove")),
            )?;
            Ok(see_other("/ordinances"))
        }
        Err(errors) => edit(&who, StatusCode::UNPROCESSABLE_ENTITY, None, &fields.0, &errors, None),
    }
}

#[post("/ordinances/open")]
async fn open_file(
    state: web::Data<AppState>,
    Editor(who): Editor,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    let file = upload::read(&who.session, payload, ordinance_file::MAX_BYTES).await?;
    let read = file.read_with("an ordinance has about one", ordinance_file::read);
    match read {
        Ok(ordinance) => {
            let (user, name) = (who.user.id, ordinance.name.clone());
            let id = with_store(&state, move |store| store.create_library_entry(&ordinance, user)).await?;
            flash(
                &who.session,
                format!("{name} is imported from {}.", file.file_name),
                Some(format!("/ordinances/{id}/remove")),
            )?;
            Ok(see_other("/ordinances"))
        }
        Err(problems) => list_page(&state, &who, StatusCode::UNPROCESSABLE_ENTITY, problems).await,
    }
}

#[get("/ordinances/{id}/ordinance.json")]
async fn download(
    state: web::Data<AppState>,
    _who: SignedIn,
    id: web::Path<i64>,
) -> Result<HttpResponse, PageError> {
    let entry = entry::<Ordinance>(&state, *id).await?;
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&entry.item.name, "json"))
        .body(ordinance_file::write(&entry.item)))
}

#[get("/ordinances/{id}")]
async fn edit_page(
    state: web::Data<AppState>,
    who: SignedIn,
    id: web::Path<i64>,
) -> Result<HttpResponse, PageError> {
    let entry = entry::<Ordinance>(&state, *id).await?;
    edit(&who, StatusCode::OK, Some(&entry), &ordinance_form::texts(&entry.item), &[], None)
}

/// Whether a site that somebody does not see keeps to an ordinance: then it is not theirs to change.
async fn binds_outside(state: &web::Data<AppState>, who: &SignedIn, id: i64) -> Result<bool, PageError> {
    let scope = who.scope.clone();
    read(state, move |snapshot| snapshot.binds_outside(id, &scope)).await
}

/// Saves what somebody changed as an ordinance of its own; the one that others keep to stays as it is.
async fn save_as_copy(
    state: &web::Data<AppState>,
    who: &SignedIn,
    mut ordinance: Ordinance,
) -> Result<HttpResponse, PageError> {
    let (user, name) = (who.user.id, ordinance.name.clone());
    let kept: String = name.chars().take(LONGEST_NAME - COPY.len()).collect();
    ordinance.name = format!("{kept}{COPY}");
    let copy = ordinance.name.clone();
    let id = with_store(state, move |store| store.create_library_entry(&ordinance, user)).await?;
    let text = format!(
        "Sites that you do not see apply {name}, so it stays as it was. Your change is saved as {copy}: apply it to your sites under Programs."
    );
    flash(&who.session, text, Some(format!("/ordinances/{id}/remove")))?;
    Ok(see_other("/ordinances"))
}

/// Letters of an ordinance's name.
const LONGEST_NAME: usize = 120;
const COPY: &str = " (copy)";

#[post("/ordinances/{id}")]
async fn save(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = *id;
    let base = base_version(&fields)?;
    let now = entry::<Ordinance>(&state, id).await?;
    let ordinance = match ordinance_form::read(&fields) {
        Ok(ordinance) => ordinance,
        Err(errors) => {
            let as_sent = Entry { version: base, ..now };
            return edit(&who, StatusCode::UNPROCESSABLE_ENTITY, Some(&as_sent), &fields.0, &errors, None);
        }
    };
    if binds_outside(&state, &who, id).await? {
        return save_as_copy(&state, &who, ordinance).await;
    }
    let text = format!("{} is saved; it takes effect at once on every site that applies it.", ordinance.name);
    match keep(&state, &who, id, ordinance, &fields, ordinance_form::texts).await? {
        Kept::Saved => {
            flash(&who.session, text, None)?;
            Ok(see_other("/ordinances"))
        }
        Kept::Unchanged(version) => {
            flash(&who.session, format!("Nothing changed; version {version} remains in force."), None)?;
            Ok(see_other("/ordinances"))
        }
        Kept::Merged(theirs, merged, both) => {
            let by = theirs.saved_by.clone();
            edit(&who, StatusCode::CONFLICT, Some(&theirs), &merged, &[], Some((both, by)))
        }
    }
}

#[post("/ordinances/{id}/remove")]
async fn remove(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let name = entry::<Ordinance>(&state, *id).await?.item.name;
    if binds_outside(&state, &who, *id).await? {
        let text = format!("{name} stays: sites that you do not see apply it. Ask the owner to remove it.");
        flash(&who.session, text, None)?;
        return Ok(see_other("/ordinances"));
    }
    shelve::<Ordinance>(
        &state,
        &who,
        "/ordinances",
        *id,
        true,
        format!("{name} is removed from the list. Sites that apply it keep it."),
    )
    .await
}

#[post("/ordinances/{id}/restore")]
async fn restore(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    shelve::<Ordinance>(&state, &who, "/ordinances", *id, false, "The ordinance is back.".into()).await
}

#[get("/schemas/ordinance-v1.json")]
async fn schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").body(ordinance_file::schema())
}

//! Logbook: one dated ledger of everything that was done at a site, ticks that count, and why a zone was dry.

mod asked;
mod ticks;
mod view;
mod why;

use crate::page::frame::{Chapter, Frame};
use crate::server::address;
use crate::server::cache::questions;
use crate::server::download::attachment;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::{HttpResponse, get, post, web};
use asked::{Query, asked};
use std::sync::Arc;
use upland_store::Subject;
use upland_store::logbook::LogEntry;
use view::{LogPage, csv, json};

/// Entries on a page, and in a file.
const ON_PAGE: i64 = 100;
const IN_FILE: i64 = 20_000;
/// Longest note, characters.
const MAX_NOTE: usize = 4000;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(log_page)
        .service(log_csv)
        .service(log_json)
        .service(write_note)
        .service(note_undo)
        .service(note_redo)
        .service(bring_back)
        .service(printed);
    ticks::routes(config);
    why::routes(config);
}

async fn entries(here: &AtSite, query: &Query, most: i64) -> Result<Vec<LogEntry>, PageError> {
    let of_site = here.site_key();
    let asked = asked(query, &here.records.tz, here.today())?;
    here.read(move |snapshot| snapshot.logbook(of_site, &asked, most)).await
}

questions! {
    facts People {} -> Vec<(i64, String)>;
}

#[get("/sites/{id}/logbook")]
async fn log_page(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let frame = Frame::of_site(&here, "Logbook", Chapter::Logbook)?;
    // One more than is shown says whether there are older ones.
    let found = entries(&here, &query, ON_PAGE + 1).await?;
    let people: Arc<Vec<(i64, String)>> =
        here.more(People {}, 2, move |snapshot| snapshot.people_of(of_site)).await?;
    page(&LogPage::of(frame, &here, &query, &found, &people, usize::try_from(ON_PAGE).unwrap_or(100)))
}

#[get("/sites/{id}/logbook.csv")]
async fn log_csv(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let found = entries(&here, &query, IN_FILE).await?;
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment(&format!("{} logbook", here.records.site.site.name), "csv"))
        .body(csv(&here, &found)))
}

#[get("/sites/{id}/logbook.json")]
async fn log_json(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let found = entries(&here, &query, IN_FILE).await?;
    Ok(HttpResponse::Ok()
        .insert_header(attachment(&format!("{} logbook", here.records.site.site.name), "json"))
        .json(json(&here, &found)))
}

/// Writes a note; a correction of an entry is a note of its own.
#[post("/sites/{id}/logbook")]
async fn write_note(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let root = address::site_root(here.id());
    let back = format!("{root}/logbook");
    let text = fields.get("note").to_owned();
    let count = text.chars().count();
    if count == 0 || count > MAX_NOTE {
        let said = if count == 0 {
            "Write what there is to note.".to_owned()
        } else {
            format!("At most {MAX_NOTE} characters.")
        };
        flash(&here.who.session, format!("{said} Nothing was noted."), None)?;
        return Ok(see_other(&back));
    }
    let zone =
        fields.get("zone").parse::<i64>().ok().filter(|id| here.records.zones.iter().any(|z| z.id == *id));
    let corrects: Option<i64> = fields.get("corrects").parse().ok();
    let id = here.change(move |change| change.note(&text, zone, corrects)).await?;
    flash(&here.who.session, "It is in the logbook.", Some(format!("{root}/notes/{id}/undo")))?;
    Ok(see_other(&back))
}

fn a_note(here: &AtSite, id: i64) -> crate::page::take_back::TakeBack {
    let root = address::site_root(here.id());
    crate::page::take_back::TakeBack {
        subject: Subject::Note,
        under: here.id(),
        id,
        address: format!("{root}/notes/{id}"),
        list: format!("{root}/logbook"),
        said: ("The note is taken back.", "The note is restored."),
    }
}

#[post("/sites/{id}/notes/{note}/undo")]
async fn note_undo(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    a_note(&here, path.1).set(&here, true).await
}

#[post("/sites/{id}/notes/{note}/redo")]
async fn note_redo(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    a_note(&here, path.1).set(&here, false).await
}

/// Brings back what an entry of the logbook says was removed.
#[post("/sites/{id}/logbook/restore")]
async fn bring_back(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let subject = crate::page::event_words::restorable(fields.get("subject")).ok_or(PageError::NotFound)?;
    let id: i64 = fields.get("id").parse().map_err(|_| PageError::NotFound)?;
    // What belongs to a zone says to which; everything else belongs to the site.
    let under = fields.get("under").parse().unwrap_or(here.id());
    let back = here.change(move |change| change.take_back(subject, under, id, None)).await?;
    let text =
        if back { "It is restored." } else { "It is in force already, or something else is in its place." };
    flash(&here.who.session, text, None)?;
    Ok(see_other(&format!("{}/logbook", address::site_root(here.id()))))
}

/// Notes that a sheet was printed.
#[post("/sites/{id}/printed")]
async fn printed(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let what: String = fields.get("what").chars().filter(|c| !c.is_control()).take(120).collect();
    if what.is_empty() {
        return Err(PageError::BadRequest("The form does not say what was printed.".into()));
    }
    here.change(move |change| {
        change.note_print(&what);
        Ok(())
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}

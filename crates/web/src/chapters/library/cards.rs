//! The card library: generic cards to start from, own cards to edit, JSON in and out.

use super::{Kept, entry, keep, shelve};
use crate::page::card_form;
use crate::page::dates::DateFormat;
use crate::page::forms::base_version;
use crate::page::forms::{FieldError, Form};
use crate::page::frame::Frame;
use crate::server::download::attachment;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Editor, Fields, SignedIn, flash};
use crate::server::state::{AppState, read, with_store};
use crate::server::upload;
use crate::site::library::OWN;
use crate::site::library::card_by_choice;
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use upland_core::controller::{Card, Overlap, PercentageScope, generic};
use upland_formats::{PathProblem, card_file};
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
        .service(schema)
        .service(settings_schema);
}

struct CardLine {
    code: String,
    /// Identity of an own card.
    id: Option<i64>,
    name: String,
    holds: String,
    percentage: String,
    cycles: &'static str,
    meeting: &'static str,
}

fn line(code: String, id: Option<i64>, card: &Card) -> CardLine {
    CardLine {
        code,
        id,
        name: card.name.clone(),
        holds: format!(
            "{} {}, {} {} of {} {}",
            card.stations,
            if card.stations == 1 { "station" } else { "stations" },
            card.programs,
            if card.programs == 1 { "program" } else { "programs" },
            card.starts_per_program,
            if card.starts_per_program == 1 { "start" } else { "starts" },
        ),
        percentage: if card.percentage_min == card.percentage_max {
            "none".into()
        } else {
            let scope = match card.percentage_scope {
                PercentageScope::Controller => "whole controller",
                PercentageScope::Program => "by program",
                PercentageScope::Month => "by month",
            };
            format!(
                "{scope}, {} to {} in {}s",
                card.percentage_min.percent(),
                card.percentage_max.percent(),
                card.percentage_step.percent()
            )
        },
        cycles: if card.cycle_and_soak { "built in" } else { "from starts" },
        meeting: match card.overlap {
            Overlap::Queue => "wait",
            Overlap::Concurrent => "run together",
        },
    }
}

#[derive(Template)]
#[template(path = "chapters/library/cards.html")]
struct ListPage {
    frame: Frame,
    own: Vec<CardLine>,
    generic: Vec<CardLine>,
    problems: Vec<PathProblem>,
}

async fn list_page(
    state: &web::Data<AppState>,
    who: &SignedIn,
    status: StatusCode,
    problems: Vec<PathProblem>,
) -> Result<HttpResponse, PageError> {
    let own: Vec<Entry<Card>> = read(state, |snapshot| snapshot.library()).await?;
    page_with(
        status,
        &ListPage {
            frame: Frame::new(who, "Controller types")?,
            own: own.iter().map(|e| line(format!("{OWN}{}", e.id), Some(e.id), &e.item)).collect(),
            generic: generic().iter().map(|(code, card)| line((*code).to_owned(), None, card)).collect(),
            problems,
        },
    )
}

#[get("/cards")]
async fn list(state: web::Data<AppState>, who: SignedIn) -> Result<HttpResponse, PageError> {
    list_page(&state, &who, StatusCode::OK, Vec::new()).await
}

#[derive(Template)]
#[template(path = "chapters/library/card.html")]
struct EditPage {
    frame: Frame,
    form: Form,
    id: Option<i64>,
    version: i32,
    saved: Option<(String, String)>,
    both: Vec<String>,
    their_name: String,
}

fn edit(
    who: &SignedIn,
    status: StatusCode,
    entry: Option<&Entry<Card>>,
    texts: &BTreeMap<String, String>,
    errors: &[FieldError],
    merged: Option<(Vec<String>, String)>,
) -> Result<HttpResponse, PageError> {
    let title = entry.map_or("New controller type".to_owned(), |e| e.item.name.clone());
    let form = card_form::form(texts, errors);
    let (both, their_name) = merged.unwrap_or_default();
    let label =
        |name: &String| form.fields().find(|f| f.name == name).map_or(name.clone(), |f| f.label.to_owned());
    let both = both.iter().map(label).collect();
    page_with(
        status,
        &EditPage {
            frame: Frame::new(who, title)?,
            both,
            form,
            id: entry.map(|e| e.id),
            version: entry.map_or(0, |e| e.version),
            saved: entry.map(|e| (e.saved_by.clone(), e.saved_at.formatted("%-d %b %Y"))),
            their_name,
        },
    )
}

#[derive(serde::Deserialize)]
struct FromQuery {
    from: Option<String>,
}

#[get("/cards/new")]
async fn new_page(
    state: web::Data<AppState>,
    Editor(who): Editor,
    query: web::Query<FromQuery>,
) -> Result<HttpResponse, PageError> {
    let code = query.from.as_deref().unwrap_or("twelve");
    let card = card_by_choice(&state, code).await?.ok_or(PageError::NotFound)?;
    edit(&who, StatusCode::OK, None, &card_form::texts(&card), &[], None)
}

#[post("/cards")]
async fn create(
    state: web::Data<AppState>,
    Editor(who): Editor,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    match card_form::read(&fields) {
        Ok(card) => {
            let (user, name) = (who.user.id, card.name.clone());
            let id = with_store(&state, move |store| store.create_library_entry(&card, user)).await?;
            flash(
                &who.session,
                format!("The controller type {name} is made."),
                Some(format!("/cards/{id}/remove")),
            )?;
            Ok(see_other("/cards"))
        }
        Err(errors) => edit(&who, StatusCode::UNPROCESSABLE_ENTITY, None, &fields.0, &errors, None),
    }
}

#[post("/cards/open")]
async fn open_file(
    state: web::Data<AppState>,
    Editor(who): Editor,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    let file = upload::read(&who.session, payload, card_file::MAX_BYTES).await?;
    let read = file.read_with("a controller type has about one", card_file::read);
    match read {
        Ok(card) => {
            let (user, name) = (who.user.id, card.name.clone());
            let id = with_store(&state, move |store| store.create_library_entry(&card, user)).await?;
            flash(
                &who.session,
                format!("The controller type {name} is imported from {}.", file.file_name),
                Some(format!("/cards/{id}/remove")),
            )?;
            Ok(see_other("/cards"))
        }
        Err(problems) => list_page(&state, &who, StatusCode::UNPROCESSABLE_ENTITY, problems).await,
    }
}

#[get("/cards/{code}/card.json")]
async fn download(
    state: web::Data<AppState>,
    _who: SignedIn,
    code: web::Path<String>,
) -> Result<HttpResponse, PageError> {
    let card = card_by_choice(&state, &code).await?.ok_or(PageError::NotFound)?;
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&card.name, "json"))
        .body(card_file::write(&card)))
}

#[get("/cards/{id}")]
async fn edit_page(
    state: web::Data<AppState>,
    who: SignedIn,
    id: web::Path<i64>,
) -> Result<HttpResponse, PageError> {
    let entry = entry::<Card>(&state, *id).await?;
    edit(&who, StatusCode::OK, Some(&entry), &card_form::texts(&entry.item), &[], None)
}

#[post("/cards/{id}")]
async fn save(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = *id;
    let base = base_version(&fields)?;
    let now = entry::<Card>(&state, id).await?;
    let card = match card_form::read(&fields) {
        Ok(card) => card,
        Err(errors) => {
            let as_sent = Entry { version: base, ..now };
            return edit(&who, StatusCode::UNPROCESSABLE_ENTITY, Some(&as_sent), &fields.0, &errors, None);
        }
    };
    let text = format!("{} is saved. Controllers that were made from it keep their own copy.", card.name);
    match keep(&state, &who, id, card, &fields, card_form::texts).await? {
        Kept::Saved => {
            flash(&who.session, text, None)?;
            Ok(see_other("/cards"))
        }
        Kept::Unchanged(version) => {
            flash(&who.session, format!("Nothing changed; version {version} remains in force."), None)?;
            Ok(see_other("/cards"))
        }
        Kept::Merged(theirs, merged, both) => {
            let by = theirs.saved_by.clone();
            edit(&who, StatusCode::CONFLICT, Some(&theirs), &merged, &[], Some((both, by)))
        }
    }
}

#[post("/cards/{id}/remove")]
async fn remove(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let name = entry::<Card>(&state, *id).await?.item.name;
    shelve::<Card>(&state, &who, "/cards", *id, true, format!("{name} is removed from the list.")).await
}

#[post("/cards/{id}/restore")]
async fn restore(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    shelve::<Card>(&state, &who, "/cards", *id, false, "The controller type is back.".into()).await
}

#[get("/schemas/settings-v1.json")]
async fn settings_schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").body(upland_formats::settings_file::schema())
}

#[get("/schemas/card-v1.json")]
async fn schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").body(card_file::schema())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_card_is_summed_up_in_a_line() {
        let lines: Vec<String> = generic()
            .iter()
            .map(|(code, card)| line((*code).to_owned(), None, card))
            .map(|l| format!("{}: {} | {} | {} | {}", l.code, l.holds, l.percentage, l.cycles, l.meeting))
            .collect();
        insta::assert_snapshot!(lines.join("\n"), @r"
        twelve: 12 stations, 3 programs of 4 starts | by program, 10 to 200 in 10s | built in | wait
        small-indoor: 6 stations, 2 programs of 3 starts | whole controller, 10 to 150 in 10s | from starts | wait
        monthly: 24 stations, 4 programs of 8 starts | by month, 0 to 200 in 5s | built in | wait
        two-wire: 48 stations, 8 programs of 8 starts | by program, 0 to 300 in 1s | built in | run together
        hose-valve: 1 station, 1 program of 6 starts | none | from starts | wait
        daily: 18 stations, 6 programs of 8 starts | by program, 0 to 200 in 1s | built in | wait
        ");
    }
}

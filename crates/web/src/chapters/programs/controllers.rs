//! Controllers of a site: hang one, correct its card, take it down.

use super::ControllerPage;
use super::upkeep::{self, UpkeepLine};
use super::{ControllerHead, Tab};
use crate::page::card_form;
use crate::page::dates::DateFormat;
use crate::page::forms::base_version;
use crate::page::forms::{Field, FieldError, FieldGroup, Form, Reader};
use crate::page::frame::{Chapter, Frame};
use crate::page::merge::Merged;
use crate::page::quantities::counted;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::download::attachment;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::library::{card_by_choice, card_choices};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use upland_core::controller::Card;
use upland_core::site::Controller;
use upland_formats::card_file;
use upland_store::library::Entry;
use upland_store::{Saved, Subject};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(new_controller)
        .service(create_controller)
        .service(card_page)
        .service(save_card)
        .service(download_card)
        .service(remove_controller)
        .service(restore_controller);
}

#[derive(Template)]
#[template(path = "chapters/programs/new_controller.html")]
struct NewPage {
    frame: Frame,
    site_id: i64,
    form: Form,
}

questions! {
    facts OwnTypes {} -> Vec<Entry<Card>>;
}

async fn new_page(
    here: &AtSite,
    site_id: i64,
    status: StatusCode,
    texts: &BTreeMap<String, String>,
    errors: &[FieldError],
) -> Result<HttpResponse, PageError> {
    let own = here.more(OwnTypes {}, 30, |snapshot| snapshot.library()).await?;
    let cards = card_choices(&own);
    let kind = Field::one_of("card", "Kind of controller", cards);
    let form = Form {
        groups: vec![FieldGroup {
            folded: false,
            legend: "Controller",
            fields: vec![
                Field::text("place", "Location"),
                kind.help("The nearest will do; every limit can be corrected afterwards."),
            ],
        }],
    };
    page_with(
        status,
        &NewPage {
            frame: Frame::of_site(here, "New controller", Chapter::Programs)?,
            site_id,
            form: form.filled(texts, errors),
        },
    )
}

#[get("/sites/{id}/controllers/new")]
async fn new_controller(EditorAt(here): EditorAt) -> Result<HttpResponse, PageError> {
    new_page(&here, here.id(), StatusCode::OK, &BTreeMap::new(), &[]).await
}

#[post("/sites/{id}/controllers")]
async fn create_controller(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let id = here.id();
    let mut reader = Reader::new(&fields);
    let place = reader.name("place");
    let card = card_by_choice(&here.state, fields.get("card")).await?;
    if card.is_none() {
        reader.say("card", "Choose one from the list.");
    }
    let errors = reader.errors;
    let (Some(card), true) = (card, errors.is_empty()) else {
        return new_page(&here, id, StatusCode::UNPROCESSABLE_ENTITY, &fields.0, &errors).await;
    };
    let text = format!("{place} is added. Enter its settings as found, or plan them.");
    let controller = Controller { number: 0, place, card };
    let (_, number) = here.change(move |change| change.create_controller(&controller)).await?;
    flash(&here.who.session, text, Some(format!("{}/remove", address::site_controller(id, number))))?;
    Ok(see_other(&address::site_controller(id, number)))
}

#[derive(Template)]
#[template(path = "chapters/programs/card.html")]
struct CardPage {
    frame: Frame,
    head: ControllerHead,
    form: Form,
    version: i32,
    saved: (String, String),
    merged: Merged,
    zones: usize,
    upkeep: Vec<UpkeepLine>,
}

fn texts(controller: &Controller) -> BTreeMap<String, String> {
    let mut texts = card_form::texts(&controller.card);
    texts.insert("place".into(), controller.place.clone());
    texts
}

/// What a card form is drawn from.
struct Drawn<'a> {
    status: StatusCode,
    version: i32,
    texts: &'a BTreeMap<String, String>,
    errors: &'a [FieldError],
    merged: Merged,
}

fn form() -> Form {
    let mut groups = vec![FieldGroup {
        folded: false,
        legend: "Controller",
        fields: vec![Field::text("place", "Location")],
    }];
    groups.extend(card_form::groups());
    Form { groups }
}

async fn draw(here: &AtSite, path: (i64, u8), drawn: Drawn<'_>) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let form = form().filled(drawn.texts, drawn.errors);
    let record = &snapshot.site_controller()?.record;
    let upkeep = upkeep::lines(here, &snapshot, &format!("{}/card", snapshot.path())).await?;
    page_with(
        drawn.status,
        &CardPage {
            frame: snapshot.frame(here, "controller")?,
            head: snapshot.head(Tab::Controller)?,
            form,
            version: drawn.version,
            saved: (
                record.saved_by.clone(),
                record.saved_at.to_zoned(here.records.tz.clone()).formatted("%-d %b %Y"),
            ),
            merged: drawn.merged,
            zones: snapshot.installation.zones.len(),
            upkeep,
        },
    )
}

#[get("/sites/{id}/controllers/{number}/card")]
async fn card_page(here: AtSite, path: web::Path<(i64, u8)>) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let record = &snapshot.site_controller()?.record;
    let drawn = Drawn {
        status: StatusCode::OK,
        version: record.version,
        texts: &texts(&record.controller),
        errors: &[],
        merged: Merged::default(),
    };
    draw(&here, *path, drawn).await
}

/// What is said of a controller that was saved, whose settings go beyond its card in so many places.
fn saved_words(beyond: usize) -> String {
    match beyond {
        0 => "The controller is saved.".to_owned(),
        _ => format!(
            "The controller is saved. Its settings go beyond the new controller type in {}; the findings offer the nearest.",
            counted(beyond, "place")
        ),
    }
}

#[post("/sites/{id}/controllers/{number}/card")]
async fn save_card(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let base = base_version(&fields)?;
    let mut reader = Reader::new(&fields);
    let place = reader.name("place");
    let errors = reader.errors;
    let card = match (card_form::read(&fields), errors.is_empty()) {
        (Ok(card), true) => card,
        (read, _) => {
            let mut all = errors;
            all.extend(read.err().unwrap_or_default());
            let drawn = Drawn {
                status: StatusCode::UNPROCESSABLE_ENTITY,
                version: base,
                texts: &fields.0,
                errors: &all,
                merged: Merged::default(),
            };
            return draw(&here, *path, drawn).await;
        }
    };
    let id = snapshot.site_controller()?.record.id;
    let controller = Controller { number: path.1, place, card };
    let edited = controller.clone();
    match here.change(move |change| change.save_controller(id, base, &edited)).await? {
        None => Err(PageError::NotFound),
        Some(Saved::As(_)) => {
            let beyond = snapshot.saved().map_or(0, |s| s.settings.check(&controller.card).len());
            flash(&here.who.session, saved_words(beyond), None)?;
            Ok(see_other(&snapshot.path()))
        }
        Some(Saved::Unchanged(version)) => {
            flash(&here.who.session, format!("Nothing changed; version {version} remains in force."), None)?;
            Ok(see_other(&snapshot.path()))
        }
        Some(Saved::Conflict(theirs)) => {
            let before = here.read(move |snapshot| snapshot.controller_version(id, base)).await?;
            let started = before.as_ref().map(texts).unwrap_or_default();
            let of_them = texts(&theirs.controller);
            let (typed, by) = (texts(&controller), &theirs.saved_by);
            let (merged_texts, merged) = Merged::of(&form(), &started, &typed, &of_them, by);
            let drawn = Drawn {
                status: StatusCode::CONFLICT,
                version: theirs.version,
                texts: &merged_texts,
                errors: &[],
                merged,
            };
            draw(&here, *path, drawn).await
        }
    }
}

#[get("/sites/{id}/controllers/{number}/card.json")]
async fn download_card(here: AtSite, path: web::Path<(i64, u8)>) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let card = &snapshot.installation.card;
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&card.name, "json"))
        .body(card_file::write(card)))
}

#[post("/sites/{id}/controllers/{number}/remove")]
async fn remove_controller(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    if !snapshot.installation.zones.is_empty() {
        let text = format!(
            "Still wired to {}: {}. Move what is wired to another controller, or remove it, then remove the controller.",
            snapshot.controller()?.place,
            counted(snapshot.installation.zones.len(), "zone")
        );
        flash(&here.who.session, text, None)?;
        return Ok(see_other(&format!("{}/card", snapshot.path())));
    }
    let record = &snapshot.site_controller()?.record;
    let (id, place) = (record.id, record.controller.place.clone());
    let (of, now) = ((path.0, id), here.now());
    if !here.change(move |change| change.take_back(Subject::Controller, of.0, of.1, Some(now))).await? {
        return Err(PageError::NotFound);
    }
    flash(
        &here.who.session,
        format!("{place} is removed. Nothing of it is deleted."),
        Some(format!("{}/restore/{id}", address::controllers(path.0))),
    )?;
    Ok(see_other(&address::programs(path.0)))
}

#[post("/sites/{id}/controllers/restore/{controller}")]
async fn restore_controller(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    if !here.change(move |change| change.take_back(Subject::Controller, site_id, id, None)).await? {
        return Err(PageError::NotFound);
    }
    flash(&here.who.session, "The controller is restored.", None)?;
    Ok(see_other(&address::programs(site_id)))
}

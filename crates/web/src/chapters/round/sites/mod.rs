//! The list of sites, the site survey, and a whole site as a file.

mod survey;

use crate::page::forms;
use crate::page::forms::{FieldError, Form, Merge};
use crate::page::forms::{base_version, units_of};
use crate::page::frame::{Chapter, Frame};
use crate::page::merge::MergePage;
use crate::server::download::attachment;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Editor, Fields, SignedIn, flash};
use crate::server::state::{AppState, db};
use crate::server::upload;
use crate::site::facts::{Loaded, load};
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::Timestamp;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::controller::ordinance::Law;
use upland_core::site::Controller;
use upland_core::site::UnitSystem;
use upland_formats::site_file::SiteFile;
use upland_formats::{PathProblem, site_file};
use upland_store::Saved;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(list)
        .service(find)
        .service(new_page)
        .service(create)
        .service(open_file)
        .service(edit_page)
        .service(save)
        .service(switch_units)
        .service(remove)
        .service(restore)
        .service(download)
        .service(schema);
}

struct SiteLine {
    id: i64,
    name: String,
    place: String,
}

#[derive(Template)]
#[template(path = "chapters/round/sites/list.html")]
struct ListPage {
    frame: Frame,
    sites: Vec<SiteLine>,
    problems: Vec<PathProblem>,
}

async fn list_page(
    state: &web::Data<AppState>,
    who: &SignedIn,
    status: StatusCode,
    problems: Vec<PathProblem>,
) -> Result<HttpResponse, PageError> {
    let sites = db(state, upland_store::Store::sites).await?;
    let sites = sites
        .into_iter()
        .map(|record| SiteLine {
            id: record.id,
            place: format!(
                "{}, {}°, {}°",
                crate::page::quantities::length(record.site.units, record.site.elevation),
                record.site.latitude_deg,
                record.site.longitude_deg
            ),
            name: record.site.name,
        })
        .collect();
    page_with(status, &ListPage { frame: Frame::new(who, "Sites")?, sites, problems })
}

#[get("/")]
async fn list(state: web::Data<AppState>, who: SignedIn) -> Result<HttpResponse, PageError> {
    list_page(&state, &who, StatusCode::OK, Vec::new()).await
}

/// Every site and zone by name, for the find box.
#[get("/find.json")]
async fn find(state: web::Data<AppState>, _who: SignedIn) -> Result<HttpResponse, PageError> {
    let hits = db(&state, |store| {
        let mut hits = Vec::new();
        for site in store.sites()? {
            hits.push(serde_json::json!({ "name": site.site.name, "href": format!("/sites/{}/today", site.id) }));
        }
        for zone in store.all_zone_names()? {
            let name = format!("{} {}, {}", zone.number, zone.name, zone.site_name);
            hits.push(serde_json::json!({ "name": name, "href": format!("/sites/{}/zones/{}", zone.site_id, zone.zone_id) }));
        }
        Ok(hits)
    })
    .await?;
    Ok(HttpResponse::Ok().insert_header(("cache-control", "no-store")).json(hits))
}

#[derive(Template)]
#[template(path = "chapters/round/sites/edit.html")]
struct EditPage {
    frame: Frame,
    form: Form,
    id: Option<i64>,
    version: i32,
    units: &'static str,
    time_zones: Vec<String>,
    saved: Option<(String, String)>,
}

/// Every IANA name, for the list behind the time zone field.
fn time_zones() -> Vec<String> {
    jiff::tz::db().available().map(|name| name.as_str().to_owned()).collect()
}

async fn new_site_page(
    state: &web::Data<AppState>,
    who: &SignedIn,
    (status, units): (StatusCode, UnitSystem),
    texts: &BTreeMap<String, String>,
    errors: &[FieldError],
) -> Result<HttpResponse, PageError> {
    let cards = crate::site::library::card_choices(state).await?;
    page_with(
        status,
        &EditPage {
            frame: Frame::new(who, "New site")?,
            form: survey::form_with_box(units, cards, texts, errors),
            id: None,
            version: 0,
            units: units.code(),
            time_zones: time_zones(),
            saved: None,
        },
    )
}

#[derive(serde::Deserialize)]
struct UnitsQuery {
    units: Option<String>,
}

#[get("/sites/new")]
async fn new_page(
    state: web::Data<AppState>,
    Editor(who): Editor,
    query: web::Query<UnitsQuery>,
) -> Result<HttpResponse, PageError> {
    let units = query.units.as_deref().and_then(UnitSystem::from_code).unwrap_or(UnitSystem::Metric);
    new_site_page(&state, &who, (StatusCode::OK, units), &survey::blank(), &[]).await
}

#[post("/sites")]
async fn create(
    state: web::Data<AppState>,
    Editor(who): Editor,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let units = units_of(&fields)?;
    let card = crate::site::library::card_by_choice(&state, fields.get("card")).await?;
    match survey::read_with_box(&fields, units, card) {
        Ok((site, place, card)) => {
            let (user, name) = (who.user.id, site.name.clone());
            let file = SiteFile {
                site,
                controllers: vec![(Controller { number: 1, place, card }, None)],
                law: Law::default(),
                zones: Vec::new(),
                sensors: Vec::new(),
                plan: Default::default(),
            };
            let id = db(&state, move |store| store.create_site(&file, user)).await?;
            flash(&who.session, format!("{name} is made. Now its zones."), None)?;
            Ok(see_other(&format!("/sites/{id}/zones/new")))
        }
        Err(errors) => {
            new_site_page(&state, &who, (StatusCode::UNPROCESSABLE_ENTITY, units), &fields.0, &errors).await
        }
    }
}

/// A whole site from a file.
#[post("/sites/open")]
async fn open_file(
    state: web::Data<AppState>,
    Editor(who): Editor,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    let file = upload::read(&who.session, payload, site_file::MAX_BYTES).await?;
    let read = if file.too_large {
        Err(vec![PathProblem {
            path: String::new(),
            message: "The file is larger than 1 MB; a site file has a few kB.".into(),
        }])
    } else {
        site_file::read(&file.bytes)
    };
    match read {
        Ok(read) => {
            let user = who.user.id;
            let text = format!(
                "{} is opened from {}, with {} zones.",
                read.site.name,
                file.file_name,
                read.zones.len()
            );
            let id = db(&state, move |store| store.create_site(&read, user)).await?;
            flash(&who.session, text, Some(format!("/sites/{id}/remove")))?;
            Ok(see_other(&format!("/sites/{id}/today")))
        }
        Err(problems) => list_page(&state, &who, StatusCode::UNPROCESSABLE_ENTITY, problems).await,
    }
}

fn edit(
    who: &SignedIn,
    status: StatusCode,
    loaded: &Loaded,
    (units, version): (UnitSystem, i32),
    texts: &BTreeMap<String, String>,
    errors: &[FieldError],
) -> Result<HttpResponse, PageError> {
    let record = &loaded.site;
    let saved = (record.saved_by.clone(), record.saved_at.strftime("%-d %b %Y").to_string());
    page_with(
        status,
        &EditPage {
            frame: Frame::of_site(who, format!("{}: site", record.site.name), loaded, Chapter::Site)?,
            form: survey::form(units, texts, errors),
            id: Some(record.id),
            version,
            units: units.code(),
            time_zones: time_zones(),
            saved: Some(saved),
        },
    )
}

#[get("/sites/{id}/edit")]
async fn edit_page(
    state: web::Data<AppState>,
    who: SignedIn,
    id: web::Path<i64>,
) -> Result<HttpResponse, PageError> {
    let loaded = load(&state, *id).await?;
    edit(
        &who,
        StatusCode::OK,
        &loaded,
        (loaded.site.site.units, loaded.site.version),
        &survey::texts(&loaded.site.site),
        &[],
    )
}

#[post("/sites/{id}/edit")]
async fn save(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = *id;
    let (units, base) = (units_of(&fields)?, base_version(&fields)?);
    let loaded = load(&state, id).await?;
    let before = db(&state, move |store| store.site_version(id, base)).await?;
    let site = match survey::read(&fields, units, before.as_ref()) {
        Ok(site) => site,
        Err(errors) => {
            return edit(&who, StatusCode::UNPROCESSABLE_ENTITY, &loaded, (units, base), &fields.0, &errors);
        }
    };
    let user = who.user.id;
    match db(&state, move |store| store.save_site(id, base, &site, user)).await? {
        None => Err(PageError::NotFound),
        Some(Saved::As(version)) => {
            flash(&who.session, format!("Saved as version {version}."), None)?;
            Ok(see_other(&format!("/sites/{id}/today")))
        }
        Some(Saved::Conflict(theirs)) => {
            // Both are brought into the units of the form that was sent.
            let in_units = |site: &upland_core::site::Site| {
                survey::texts(&upland_core::site::Site { units, ..site.clone() })
            };
            let (same, differing) = forms::merge(
                &survey::form(units, &BTreeMap::new(), &[]),
                &fields,
                &in_units(&theirs.site),
                before.as_ref().map(in_units).as_ref(),
            );
            page_with(
                StatusCode::CONFLICT,
                &MergePage {
                    frame: Frame::of_site(&who, "Two versions", &loaded, Chapter::Site)?,
                    what: theirs.site.name.clone(),
                    action: format!("/sites/{id}/edit"),
                    back: format!("/sites/{id}/edit"),
                    merge: Merge {
                        their_name: theirs.saved_by.clone(),
                        their_version: theirs.version,
                        units: units.code(),
                        same,
                        differing,
                    },
                },
            )
        }
    }
}

/// Switches the units that a site is shown in, as a version like any other.
#[post("/sites/{id}/units")]
async fn switch_units(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (id, units) = (*id, units_of(&fields)?);
    let record = load(&state, id).await?.site;
    let mut site = record.site;
    site.units = units;
    let (version, user) = (record.version, who.user.id);
    db(&state, move |store| store.save_site(id, version, &site, user)).await?;
    let back = fields.get("back");
    let own = format!("/sites/{id}/");
    Ok(see_other(if back.starts_with(&own) { back } else { "/" }))
}

#[post("/sites/{id}/remove")]
async fn remove(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let record = load(&state, *id).await?.site;
    db(&state, move |store| store.set_site_removed(*id, Some(Timestamp::now()))).await?;
    let undo = format!("/sites/{}/restore", record.id);
    flash(
        &who.session,
        format!("{} is removed from the list. Nothing of it is deleted.", record.site.name),
        Some(undo),
    )?;
    Ok(see_other("/"))
}

#[post("/sites/{id}/restore")]
async fn restore(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = *id;
    db(&state, move |store| store.set_site_removed(id, None)).await?;
    flash(&who.session, "The site is back.", None)?;
    Ok(see_other(&format!("/sites/{id}/today")))
}

#[get("/sites/{id}/site.json")]
async fn download(
    state: web::Data<AppState>,
    _who: SignedIn,
    id: web::Path<i64>,
) -> Result<HttpResponse, PageError> {
    let loaded = load(&state, *id).await?;
    let law = crate::site::library::law(&state, *id).await?;
    let name = loaded.site.site.name.clone();
    let site_id = *id;
    let (sensors, plan) = db(&state, move |store| {
        let sensors = store.sensors(site_id)?.into_iter().map(|s| s.sensor).collect();
        Ok((sensors, store.site_plan(site_id)?.1))
    })
    .await?;
    let file = SiteFile {
        site: loaded.site.site,
        controllers: loaded
            .boxes
            .into_iter()
            .map(|b| (b.record.controller, b.settings.map(|s| s.settings)))
            .collect(),
        law,
        zones: loaded.zones.into_iter().map(|z| z.zone).collect(),
        sensors,
        plan,
    };
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&name, "json"))
        .body(site_file::write(&file)))
}

#[get("/schemas/site-v1.json")]
async fn schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").body(site_file::schema())
}

//! The list of sites, the site survey, and a whole site as a file.

mod card;
mod filter;
mod find;
mod list;
mod survey;

pub(super) use filter::usual_units;

use crate::page::dates::DateFormat;
use crate::page::forms::{FieldError, Form, base_version, units_of};
use crate::page::frame::{Chapter, Frame};
use crate::page::merge::Merged;
use crate::page::plan_picture::drawn_plan;
use crate::server::address;
use crate::server::download::attachment;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Editor, Fields, SignedIn, flash};
use crate::server::state::{AppState, with_store};
use crate::server::time_zones;
use crate::server::upload;
use crate::site::context::{AllSites, AtSite, EditorAt};
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::controller::ordinance::Law;
use upland_core::site::{Controller, Site, UnitSystem};
use upland_formats::site_file;
use upland_formats::site_file::SiteFile;
use upland_store::Saved;
use upland_store::sites::time_zone;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(list::list)
        .service(find::find)
        .service(new_page)
        .service(create)
        .service(open_file)
        .service(edit_page)
        .service(card::card_page)
        .service(save)
        .service(switch_units)
        .service(remove)
        .service(restore)
        .service(download)
        .service(schema)
        .service(root);
}

/// Whether a name holds every word of a search, in lower case.
fn holds(name: &str, search: &str) -> bool {
    let name = name.to_lowercase();
    search.split_whitespace().all(|word| name.contains(word))
}

/// A site's own address leads to its Today.
#[get("/sites/{id}")]
async fn root(here: AtSite) -> HttpResponse {
    see_other(&address::today(here.id()))
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
    merged: Merged,
}

async fn new_site_page(
    state: &web::Data<AppState>,
    who: &SignedIn,
    status: StatusCode,
    units: UnitSystem,
    texts: &BTreeMap<String, String>,
    errors: &[FieldError],
) -> Result<HttpResponse, PageError> {
    let own = crate::server::state::read(state, |snapshot| snapshot.library()).await?;
    let cards = crate::site::library::card_choices(&own);
    page_with(
        status,
        &EditPage {
            frame: Frame::new(who, "New site")?,
            form: survey::form_with_controller(units, cards, texts, errors),
            id: None,
            version: 0,
            units: units.code(),
            time_zones: time_zones::names(),
            saved: None,
            merged: Merged::default(),
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
    new_site_page(&state, &who, StatusCode::OK, units, &survey::blank(), &[]).await
}

/// The day on the clock at a site that is being made.
fn first_day(who: &SignedIn, site: &Site) -> Result<Date, PageError> {
    Ok(who.now.to_zoned(time_zone(&site.time_zone)?).date())
}

#[post("/sites")]
async fn create(
    state: web::Data<AppState>,
    Editor(who): Editor,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let units = units_of(&fields)?;
    let card = crate::site::library::card_by_choice(&state, fields.get("card")).await?;
    match survey::read_with_controller(&fields, units, card, who.now.to_zoned(jiff::tz::TimeZone::UTC).date())
    {
        Ok((site, place, card)) => {
            let (user, name, today) = (who.user.id, site.name.clone(), first_day(&who, &site)?);
            let file = SiteFile {
                site,
                controllers: vec![(Controller { number: 1, place, card }, None)],
                law: Law::default(),
                zones: Vec::new(),
                earlier_zones: Vec::new(),
                sensors: Vec::new(),
                histories: Vec::new(),
                plan: Default::default(),
            };
            let id = with_store(&state, move |store| store.create_site(&file, today, user)).await?;
            flash(&who.session, format!("{name} is created. Add its zones next."), None)?;
            Ok(see_other(&format!("{}/new", address::zones(id.number()))))
        }
        Err(errors) => {
            new_site_page(&state, &who, StatusCode::UNPROCESSABLE_ENTITY, units, &fields.0, &errors).await
        }
    }
}

/// A whole site from a file.
#[post("/sites/open")]
async fn open_file(
    Editor(who): Editor,
    here: AllSites,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    let file = upload::read(&who.session, payload, site_file::MAX_BYTES).await?;
    let read = file.read_with("a site file has a few", site_file::read);
    match read {
        Ok(read) => {
            let (user, today) = (who.user.id, first_day(&who, &read.site)?);
            let text = format!(
                "{} is opened from {}, with {} zones.",
                read.site.name,
                file.file_name,
                read.zones.len()
            );
            let id = with_store(&here.state, move |store| store.create_site(&read, today, user)).await?;
            flash(&who.session, text, Some(format!("{}/remove", address::site_root(id.number()))))?;
            Ok(see_other(&address::today(id.number())))
        }
        Err(problems) => {
            list::list_page(&here, StatusCode::UNPROCESSABLE_ENTITY, problems, &filter::Listing::default())
                .await
        }
    }
}

/// What the form of a site is drawn from.
struct Editing<'a> {
    status: StatusCode,
    units: UnitSystem,
    version: i32,
    texts: &'a BTreeMap<String, String>,
    errors: &'a [FieldError],
    merged: Merged,
}

fn edit(here: &AtSite, editing: Editing<'_>) -> Result<HttpResponse, PageError> {
    let record = &here.records.site;
    let on = record.saved_at.to_zoned(here.records.tz.clone());
    let saved = (record.saved_by.clone(), on.formatted("%-d %b %Y"));
    page_with(
        editing.status,
        &EditPage {
            frame: Frame::of_site(here, format!("{}: site", record.site.name), Chapter::Site)?,
            form: survey::form(editing.units, editing.texts, editing.errors),
            id: Some(record.id.number()),
            version: editing.version,
            units: editing.units.code(),
            time_zones: time_zones::names(),
            saved: Some(saved),
            merged: editing.merged,
        },
    )
}

#[get("/sites/{id}/edit")]
async fn edit_page(here: AtSite) -> Result<HttpResponse, PageError> {
    let record = &here.records.site;
    let editing = Editing {
        status: StatusCode::OK,
        units: record.site.units,
        version: record.version,
        texts: &survey::texts(&record.site),
        errors: &[],
        merged: Merged::default(),
    };
    edit(&here, editing)
}

#[post("/sites/{id}/edit")]
async fn save(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let id = here.id();
    let (units, base) = (units_of(&fields)?, base_version(&fields)?);
    let before = here.read(move |snapshot| snapshot.site_version(of_site, base)).await?;
    let site = match survey::read(&fields, units, before.as_ref(), here.today()) {
        Ok(site) => site,
        Err(errors) => {
            let editing = Editing {
                status: StatusCode::UNPROCESSABLE_ENTITY,
                units,
                version: base,
                texts: &fields.0,
                errors: &errors,
                merged: Merged::default(),
            };
            return edit(&here, editing);
        }
    };
    match here.change(move |change| change.save_site(base, &site)).await?.ok_or(PageError::NotFound)? {
        Saved::As(version) => {
            flash(&here.who.session, format!("Saved as version {version}."), None)?;
            Ok(see_other(&address::today(id)))
        }
        Saved::Unchanged(version) => {
            flash(&here.who.session, format!("Nothing changed; version {version} remains in force."), None)?;
            Ok(see_other(&address::today(id)))
        }
        Saved::Conflict(theirs) => {
            // All three are brought into the units of the form that was sent.
            let in_units = |site: &Site| survey::texts(&Site { units, ..site.clone() });
            let started = before.as_ref().map(in_units).unwrap_or_default();
            let form = survey::form(units, &BTreeMap::new(), &[]);
            let theirs_by = &theirs.saved_by;
            let (texts, merged) =
                Merged::of(&form, &started, &fields.shown(), &in_units(&theirs.site), theirs_by);
            let editing = Editing {
                status: StatusCode::CONFLICT,
                units,
                version: theirs.version,
                texts: &texts,
                errors: &[],
                merged,
            };
            edit(&here, editing)
        }
    }
}

/// Switches the units that a site is shown in, as a version like any other.
#[post("/sites/{id}/units")]
async fn switch_units(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let (id, units) = (here.id(), units_of(&fields)?);
    let record = &here.records.site;
    let (base, site) = (record.version, Site { units, ..record.site.clone() });
    let saved = here.change(move |change| change.save_site(base, &site)).await?.ok_or(PageError::NotFound)?;
    if let Saved::Conflict(theirs) = saved {
        let text = format!("{} saved the site meanwhile; switch the units again.", theirs.saved_by);
        flash(&here.who.session, text, None)?;
    }
    let back = fields.get("back");
    let own = format!("{}/", address::site_root(id));
    Ok(see_other(if back.starts_with(&own) { back } else { "/" }))
}

#[post("/sites/{id}/remove")]
async fn remove(EditorAt(here): EditorAt, _fields: Fields) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let (id, user, now) = (here.id(), here.who.user.id, here.now());
    if !with_store(&here.state, move |store| store.set_site_removed(user, of_site, Some(now))).await? {
        return Err(PageError::NotFound);
    }
    let text = format!("{} is removed from the list. Nothing of it is deleted.", here.records.site.site.name);
    flash(&here.who.session, text, Some(format!("{}/restore", address::site_root(id))))?;
    Ok(see_other("/"))
}

#[post("/sites/{id}/restore")]
async fn restore(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (id, user) = (*id, who.user.id);
    let of_site = who.scope.site(id).ok_or(PageError::NotFound)?;
    if !with_store(&state, move |store| store.set_site_removed(user, of_site, None)).await? {
        return Err(PageError::NotFound);
    }
    flash(&who.session, "The site is back.", None)?;
    Ok(see_other(&address::today(id)))
}

#[get("/sites/{id}/site.json")]
async fn download(here: AtSite, asked: web::Query<WithAccess>) -> Result<HttpResponse, PageError> {
    let plan = drawn_plan(&here).await?;
    let file = here.records.file(plan.1.clone());
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&file.site.name, "json"))
        .body(if asked.access.is_some() && here.who.may_edit() {
            site_file::write_with_access(&file)
        } else {
            site_file::write(&file)
        }))
}

/// Whether a file carries access notes too.
#[derive(serde::Deserialize)]
struct WithAccess {
    access: Option<String>,
}

#[get("/schemas/site-v1.json")]
async fn schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").body(site_file::schema())
}

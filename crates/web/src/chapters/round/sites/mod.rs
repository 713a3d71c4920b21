//! The list of sites, the site survey, and a whole site as a file.

mod survey;

use crate::chapters::round::calls::nights::{self, SiteNight};
use crate::page::dates::Said;
use crate::page::forms::{FieldError, Form, base_version, units_of};
use crate::page::frame::{Chapter, Frame};
use crate::page::merge::Merged;
use crate::server::address;
use crate::server::download::attachment;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::reader::off_loop;
use crate::server::session::{Editor, Fields, SignedIn, flash};
use crate::server::state::{AppState, with_store};
use crate::server::upload;
use crate::site::context::{AllSites, AtSite, EditorAt};
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::codes::Coded;
use upland_core::controller::ordinance::Law;
use upland_core::site::{Controller, Site, UnitSystem};
use upland_formats::site_file::SiteFile;
use upland_formats::{PathProblem, site_file};
use upland_store::Saved;
use upland_store::sites::{SiteRecord, time_zone};

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
    sites: Arc<Vec<SiteLine>>,
    problems: Vec<PathProblem>,
    /// What needs a look tonight, by site; a site that is missing is still worked on.
    tonight: BTreeMap<i64, Vec<String>>,
    waiting: bool,
}

async fn list_page(
    here: &AllSites,
    status: StatusCode,
    problems: Vec<PathProblem>,
) -> Result<HttpResponse, PageError> {
    let line = |record: SiteRecord| SiteLine {
        id: record.id.number(),
        place: format!(
            "{}, {}°, {}°",
            crate::page::quantities::length(record.site.units, record.site.elevation),
            record.site.latitude_deg,
            record.site.longitude_deg
        ),
        name: record.site.name,
    };
    let scope = here.who.scope.clone();
    let sites = here.once("list", 100, move |state| {
        let sites = state.store.read(|snapshot| snapshot.sites(&scope))?;
        Ok(sites.into_iter().map(line).collect::<Vec<_>>())
    });
    let sites = sites.await?;
    let (state, scope, now) = (here.state.clone(), here.who.scope.clone(), here.who.now);
    let known = off_loop(move || nights::known(&state, &scope, now)).await??;
    let tonight = known.known.iter().map(|(id, night)| (*id, attention(night))).collect();
    let waiting = !known.missing.is_empty();
    nights::work_on(&here.state, known.missing, now);
    let frame = Frame::new(&here.who, "Sites")?;
    page_with(status, &ListPage { frame, sites, problems, tonight, waiting })
}

/// What needs a look tonight at a site, box by box; empty where all is right.
fn attention(night: &SiteNight) -> Vec<String> {
    let wrong = night.boxes.iter().filter(|own| own.wrong);
    wrong.map(|own| format!("{} {}: {}", own.number, own.place, own.sentence)).collect()
}

#[get("/")]
async fn list(here: AllSites) -> Result<HttpResponse, PageError> {
    // Whoever reads one site has no use for a list.
    if let (Some([only]), false) = (here.who.scope.given(), here.who.may_edit()) {
        return Ok(see_other(&address::today(*only)));
    }
    list_page(&here, StatusCode::OK, Vec::new()).await
}

/// What the find box can find.
#[derive(serde::Serialize)]
struct Findable {
    name: String,
    href: String,
}

/// Most that the find box offers.
const MOST_FOUND: usize = 12;
/// Longest search that is looked at, letters.
const LONGEST_SEARCH: usize = 100;

#[derive(serde::Deserialize)]
struct Search {
    #[serde(default)]
    words: String,
}

/// Sites and zones whose names hold all of some words, for the find box.
#[get("/find.json")]
async fn find(here: AllSites, search: web::Query<Search>) -> Result<HttpResponse, PageError> {
    let scope = here.who.scope.clone();
    let all = here.once("names", 400, move |state| {
        let (sites, zones) =
            state.store.read(|snapshot| Ok((snapshot.sites(&scope)?, snapshot.all_zone_names(&scope)?)))?;
        let sites = sites
            .into_iter()
            .map(|site| Findable { href: address::today(site.id.number()), name: site.site.name });
        let zones = zones.into_iter().map(|zone| Findable {
            name: format!("{} {}, {}", zone.number, zone.name, zone.site_name),
            href: address::zone(zone.site_id.number(), zone.zone_id),
        });
        Ok(sites.chain(zones).collect::<Vec<_>>())
    });
    let all = all.await?;
    let search: String = search.words.chars().take(LONGEST_SEARCH).collect::<String>().to_lowercase();
    let words: Vec<&str> = search.split_whitespace().collect();
    let holds = |hit: &&Findable| {
        let name = hit.name.to_lowercase();
        !words.is_empty() && words.iter().all(|word| name.contains(word))
    };
    let found: Vec<&Findable> = all.iter().filter(holds).take(MOST_FOUND).collect();
    Ok(HttpResponse::Ok().json(found))
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
    let own = crate::server::state::read(state, |snapshot| snapshot.library()).await?;
    let cards = crate::site::library::card_choices(&own);
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
    new_site_page(&state, &who, (StatusCode::OK, units), &survey::blank(), &[]).await
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
    match survey::read_with_box(&fields, units, card) {
        Ok((site, place, card)) => {
            let (user, name, today) = (who.user.id, site.name.clone(), first_day(&who, &site)?);
            let file = SiteFile {
                site,
                controllers: vec![(Controller { number: 1, place, card }, None)],
                law: Law::default(),
                zones: Vec::new(),
                sensors: Vec::new(),
                plan: Default::default(),
            };
            let id = with_store(&state, move |store| store.create_site(&file, today, user)).await?;
            flash(&who.session, format!("{name} is made. Now its zones."), None)?;
            Ok(see_other(&format!("{}/new", address::zones(id.number()))))
        }
        Err(errors) => {
            new_site_page(&state, &who, (StatusCode::UNPROCESSABLE_ENTITY, units), &fields.0, &errors).await
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
        Err(problems) => list_page(&here, StatusCode::UNPROCESSABLE_ENTITY, problems).await,
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
    let record = &here.facts.site;
    let saved = (record.saved_by.clone(), record.saved_at.said("%-d %b %Y"));
    page_with(
        editing.status,
        &EditPage {
            frame: Frame::of_site(here, format!("{}: site", record.site.name), Chapter::Site)?,
            form: survey::form(editing.units, editing.texts, editing.errors),
            id: Some(record.id.number()),
            version: editing.version,
            units: editing.units.code(),
            time_zones: time_zones(),
            saved: Some(saved),
            merged: editing.merged,
        },
    )
}

#[get("/sites/{id}/edit")]
async fn edit_page(here: AtSite) -> Result<HttpResponse, PageError> {
    let record = &here.facts.site;
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
    let site = match survey::read(&fields, units, before.as_ref()) {
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
            flash(&here.who.session, format!("Nothing changed: version {version} stands."), None)?;
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
    let record = &here.facts.site;
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
    let text = format!("{} is removed from the list. Nothing of it is deleted.", here.facts.site.site.name);
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
async fn download(here: AtSite) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let plan = here.more("plan", 10, move |snapshot| snapshot.site_plan(of_site)).await?;
    let file = here.facts.file(plan.1.clone());
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&file.site.name, "json"))
        .body(site_file::write(&file)))
}

#[get("/schemas/site-v1.json")]
async fn schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").body(site_file::schema())
}

//! Zones: what grows where, in which soil and slope, under which heads.

mod cans;
mod planting_form;
mod season;
mod survey;
mod units;

use crate::page::forms;
use crate::page::forms::{FieldError, Form, Merge};
use crate::page::forms::{base_version, units_of};
use crate::page::frame::{Chapter, Frame};
use crate::page::merge::MergePage;
use crate::page::quantities;
use crate::server::error::{PageError, page, page_with, see_other};
use crate::server::session::{Editor, Fields, SignedIn, flash};
use crate::server::state::{AppState, db, db_with_climates};
use crate::site::facts::{Loaded, load};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::Timestamp;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::ground::planting::mixed_cost;
use upland_core::site::{UnitSystem, Zone};
use upland_core::weather::climate::Climate;
use upland_store::Saved;
use upland_store::zones::ZoneRecord;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(list)
        .service(new_page)
        .service(create)
        .service(edit_page)
        .service(save)
        .service(remove)
        .service(restore)
        .configure(cans::routes)
        .configure(season::routes);
}

/// A number in the list with a mark when it is a default.
struct Cell {
    text: String,
    is_default: bool,
}

struct ZoneLine {
    id: i64,
    box_number: u8,
    number: u16,
    name: String,
    plants: &'static str,
    soil: String,
    head: &'static str,
    rate: Cell,
    uniformity: Cell,
    refill: String,
    area: String,
    open: String,
}

fn line(record: &ZoneRecord, units: UnitSystem, latitude_deg: f64) -> ZoneLine {
    let zone = &record.zone;
    let resolved = zone.resolve(latitude_deg);
    let defaults = resolved.defaults();
    ZoneLine {
        id: record.id,
        box_number: zone.box_number,
        number: zone.number,
        name: zone.name.clone(),
        plants: zone.plant.defaults().label,
        soil: format!("{}, {} %", zone.soil.label(), quantities::plain(resolved.slope_pct.value, 1)),
        head: zone.head.label(),
        rate: Cell {
            text: quantities::rate(units, resolved.rate.value),
            is_default: resolved.rate.is_default(),
        },
        uniformity: Cell {
            text: format!("{} %", quantities::plain(100.0 * resolved.uniformity.value, 0)),
            is_default: resolved.uniformity.is_default(),
        },
        refill: quantities::depth(units, resolved.root_zone.readily_available()),
        area: zone.area.map_or(String::new(), |a| quantities::area(units, a)),
        open: if defaults.is_empty() {
            "all measured".to_owned()
        } else {
            format!("{} defaults", quantities::in_words(defaults.len()))
        },
    }
}

#[derive(Template)]
#[template(path = "chapters/zones/list.html")]
struct ListPage {
    frame: Frame,
    site_id: i64,
    zones: Vec<ZoneLine>,
    several_boxes: bool,
    unmeasured: String,
}

#[get("/sites/{id}/zones")]
async fn list(
    state: web::Data<AppState>,
    who: SignedIn,
    id: web::Path<i64>,
) -> Result<HttpResponse, PageError> {
    let loaded = load(&state, *id).await?;
    let (site, zones) = (&loaded.site, &loaded.zones);
    let unmeasured = zones.iter().filter(|z| z.zone.precipitation_rate.is_none()).count();
    page(&ListPage {
        frame: Frame::of_site(&who, format!("{}: zones", site.site.name), &loaded, Chapter::Zones)?,
        site_id: site.id,
        several_boxes: loaded.boxes.len() > 1,
        zones: zones.iter().map(|z| line(z, site.site.units, site.site.latitude_deg)).collect(),
        unmeasured: match unmeasured {
            0 => "Every precipitation rate is measured.".to_owned(),
            1 => "One zone still has a precipitation rate from its head type.".to_owned(),
            n => format!(
                "{} zones still have a precipitation rate from their head type.",
                quantities::in_words_capital(n)
            ),
        },
    })
}

#[derive(Template)]
#[template(path = "chapters/zones/edit.html")]
struct EditPage {
    frame: Frame,
    form: Form,
    site_id: i64,
    zone: Option<(i64, String)>,
    version: i32,
    units: &'static str,
    defaults_json: String,
    saved: Option<(String, String)>,
    ranges: Vec<cans::RangeView>,
    basis: String,
    mixed: String,
}

/// What a zone form is about.
struct Editing<'a> {
    loaded: &'a Loaded,
    zone: Option<&'a ZoneRecord>,
    units: UnitSystem,
    version: i32,
    /// Climate and the day that pages open on, when the answers of the zone are shown.
    at: Option<(std::sync::Arc<Climate>, jiff::civil::Date)>,
}

/// What mixed plants on a valve cost, in the month of a day.
fn mixed_words(zone: &Zone, latitude_deg: f64, month: i8) -> String {
    if zone.planting.others.is_empty() {
        return String::new();
    }
    let cost = mixed_cost(&zone.plants_in(usize::from(month.unsigned_abs()), latitude_deg));
    format!(
        "Mixed plants: for the thirstiest the valve takes {} % more water than the plants need together; weighted by area the thirstiest goes {} % short.",
        quantities::plain(100.0 * cost.thirstiest_excess, 0),
        quantities::plain(100.0 * cost.weighted_shortage, 0)
    )
}

fn edit(
    who: &SignedIn,
    status: StatusCode,
    editing: &Editing<'_>,
    texts: &BTreeMap<String, String>,
    errors: &[FieldError],
) -> Result<HttpResponse, PageError> {
    let title = editing.zone.map_or("New zone".to_owned(), |z| format!("Zone {}", z.zone.number));
    let answers = editing.zone.zip(editing.at.as_ref());
    page_with(
        status,
        &EditPage {
            frame: Frame::of_site(who, title, editing.loaded, Chapter::Zones)?,
            form: survey::form(editing.units, &editing.loaded.box_names(), texts, errors),
            site_id: editing.loaded.site.id,
            zone: editing.zone.map(|z| (z.id, format!("{} {}", z.zone.number, z.zone.name))),
            version: editing.version,
            units: editing.units.code(),
            defaults_json: survey::defaults_json(editing.units),
            ranges: answers.map_or(Vec::new(), |(z, (climate, today))| {
                cans::ranges(&z.zone, climate, *today, editing.units)
            }),
            basis: editing.zone.map_or(String::new(), |z| cans::basis_words(&z.zone, editing.units)),
            mixed: answers.map_or(String::new(), |(z, (climate, today))| {
                mixed_words(&z.zone, climate.station().latitude_deg, today.month())
            }),
            saved: editing.zone.map(|z| (z.saved_by.clone(), z.saved_at.strftime("%-d %b %Y").to_string())),
        },
    )
}

/// The lowest station of a box that no zone has.
fn free_number(zones: &[ZoneRecord], box_number: u8) -> u16 {
    let taken = |n: &u16| zones.iter().any(|z| (z.zone.box_number, z.zone.number) == (box_number, *n));
    (1..=250).find(|n| !taken(n)).unwrap_or(250)
}

#[get("/sites/{id}/zones/new")]
async fn new_page(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
) -> Result<HttpResponse, PageError> {
    let loaded = load(&state, *id).await?;
    let units = loaded.site.site.units;
    let first = loaded.boxes.first().map_or(1, crate::site::facts::SiteBox::number);
    let editing = Editing { loaded: &loaded, zone: None, units, version: 0, at: None };
    edit(&who, StatusCode::OK, &editing, &survey::blank(first, free_number(&loaded.zones, first)), &[])
}

#[post("/sites/{id}/zones")]
async fn create(
    state: web::Data<AppState>,
    Editor(who): Editor,
    id: web::Path<i64>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let id = *id;
    let units = units_of(&fields)?;
    let loaded = load(&state, id).await?;
    match survey::read(&fields, units, None, &survey::Stations::of(&loaded, None)) {
        Ok(zone) => {
            let (user, text) = (who.user.id, format!("Zone {} {} is made.", zone.number, zone.name));
            let zone_id = db(&state, move |store| store.create_zone(id, &zone, user)).await?;
            flash(&who.session, text, Some(format!("/sites/{id}/zones/{zone_id}/remove")))?;
            let next = if fields.get("then") == "another" { "zones/new" } else { "zones" };
            Ok(see_other(&format!("/sites/{id}/{next}")))
        }
        Err(errors) => {
            let editing = Editing { loaded: &loaded, zone: None, units, version: 0, at: None };
            edit(&who, StatusCode::UNPROCESSABLE_ENTITY, &editing, &fields.0, &errors)
        }
    }
}

#[get("/sites/{id}/zones/{zone}")]
async fn edit_page(
    state: web::Data<AppState>,
    who: SignedIn,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, PageError> {
    let loaded = load(&state, path.0).await?;
    let zone = loaded.zones.iter().find(|z| z.id == path.1).ok_or(PageError::NotFound)?;
    let units = loaded.site.site.units;
    let site = loaded.site.clone();
    let climate =
        db_with_climates(&state, move |state, _| crate::site::climate::climate(state, &site)).await?;
    let tz = jiff::tz::TimeZone::get(&loaded.site.site.time_zone).unwrap_or(jiff::tz::TimeZone::UTC);
    let today = crate::site::clock::open_on(
        climate.span().map(|(_, last)| last),
        Timestamp::now().to_zoned(tz).date(),
    );
    let editing = Editing {
        loaded: &loaded,
        zone: Some(zone),
        units,
        version: zone.version,
        at: Some((climate, today)),
    };
    edit(&who, StatusCode::OK, &editing, &survey::texts(&zone.zone, units), &[])
}

#[post("/sites/{id}/zones/{zone}")]
async fn save(
    state: web::Data<AppState>,
    Editor(who): Editor,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, zone_id) = *path;
    let (units, base) = (units_of(&fields)?, base_version(&fields)?);
    let loaded = load(&state, site_id).await?;
    let current = loaded.zones.iter().find(|z| z.id == zone_id).ok_or(PageError::NotFound)?;
    let before = db(&state, move |store| store.zone_version(zone_id, base)).await?;
    let zone =
        match survey::read(&fields, units, before.as_ref(), &survey::Stations::of(&loaded, Some(zone_id))) {
            Ok(zone) => zone,
            Err(errors) => {
                let editing =
                    Editing { loaded: &loaded, zone: Some(current), units, version: base, at: None };
                return edit(&who, StatusCode::UNPROCESSABLE_ENTITY, &editing, &fields.0, &errors);
            }
        };
    let (user, text) = (who.user.id, format!("Zone {} {} is saved.", zone.number, zone.name));
    match db(&state, move |store| store.save_zone(zone_id, base, &zone, user)).await? {
        None => Err(PageError::NotFound),
        Some(Saved::As(_)) => {
            flash(&who.session, text, None)?;
            Ok(see_other(&format!("/sites/{site_id}/zones")))
        }
        Some(Saved::Conflict(theirs)) => {
            let (same, differing) = forms::merge(
                &survey::form(units, &loaded.box_names(), &BTreeMap::new(), &[]),
                &fields,
                &survey::texts(&theirs.zone, units),
                before.as_ref().map(|z| survey::texts(z, units)).as_ref(),
            );
            page_with(
                StatusCode::CONFLICT,
                &MergePage {
                    frame: Frame::of_site(&who, "Two versions", &loaded, Chapter::Zones)?,
                    what: format!("zone {} {}", theirs.zone.number, theirs.zone.name),
                    action: format!("/sites/{site_id}/zones/{zone_id}"),
                    back: format!("/sites/{site_id}/zones"),
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

#[post("/sites/{id}/zones/{zone}/remove")]
async fn remove(
    state: web::Data<AppState>,
    Editor(who): Editor,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, zone_id) = *path;
    let loaded = load(&state, site_id).await?;
    let zone = loaded.zones.iter().find(|z| z.id == zone_id).ok_or(PageError::NotFound)?;
    db(&state, move |store| store.remove_zone(zone_id, Timestamp::now())).await?;
    flash(
        &who.session,
        format!("Zone {} {} is removed.", zone.zone.number, zone.zone.name),
        Some(format!("/sites/{site_id}/zones/{zone_id}/restore")),
    )?;
    Ok(see_other(&format!("/sites/{site_id}/zones")))
}

#[post("/sites/{id}/zones/{zone}/restore")]
async fn restore(
    state: web::Data<AppState>,
    Editor(who): Editor,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, zone_id) = *path;
    load(&state, site_id).await?;
    let restored = db(&state, move |store| store.restore_zone(site_id, zone_id)).await?;
    let text = if restored {
        "The zone is back."
    } else {
        "The zone stays removed: its number is used by another zone now. Give that one another number first."
    };
    flash(&who.session, text, None)?;
    Ok(see_other(&format!("/sites/{site_id}/zones")))
}

//! Zones: what grows where, in which soil and slope, under which heads.

mod cans;
mod many;
mod now;
mod planting_form;
mod season;
mod survey;

use crate::page::dates::DateFormat;
use crate::page::forms::{FieldError, Form, base_version, units_of};
use crate::page::frame::{Chapter, Frame};
use crate::page::merge::Merged;
use crate::page::quantities;
use crate::server::address;
use crate::server::error::{PageError, page, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::records::SiteController;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::ground::planting::mixed_cost;
use upland_core::quantity::month::Month;
use upland_core::site::{StationId, UnitSystem, Zone};
use upland_store::zones::ZoneRecord;
use upland_store::{Saved, Subject};

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(list)
        // Before the pages of a zone, whose address would take its last part for a number.
        .configure(many::routes)
        .service(new_page)
        .service(create)
        .service(now::now_page)
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
    controller_number: u8,
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
        controller_number: zone.controller_number,
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
            text: quantities::share(resolved.uniformity.value),
            is_default: resolved.uniformity.is_default(),
        },
        refill: quantities::depth(units, resolved.root_zone.readily_available()),
        area: zone.area.map_or(String::new(), |a| quantities::area(units, a)),
        open: match defaults.len() {
            0 => "all measured".to_owned(),
            1 => "one default".to_owned(),
            n => format!("{} defaults", quantities::in_words(n)),
        },
    }
}

#[derive(Template)]
#[template(path = "chapters/zones/list.html")]
struct ListPage {
    frame: Frame,
    site_id: i64,
    zones: Vec<ZoneLine>,
    several_controllers: bool,
    unmeasured: String,
}

#[get("/sites/{id}/zones")]
async fn list(here: AtSite) -> Result<HttpResponse, PageError> {
    let (records, site, zones) = (&here.records, &here.records.site, &here.records.zones);
    let unmeasured = zones.iter().filter(|z| z.zone.precipitation_rate.is_none()).count();
    page(&ListPage {
        frame: Frame::of_site(&here, format!("{}: zones", site.site.name), Chapter::Zones)?,
        site_id: site.id.number(),
        several_controllers: records.controllers.len() > 1,
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
    merged: Merged,
}

/// What mixed plants on a valve cost, in the month of a day.
fn mixed_words(zone: &Zone, latitude_deg: f64, month: Month) -> String {
    if zone.planting.others.is_empty() {
        return String::new();
    }
    let cost = mixed_cost(&zone.plants_in(month, latitude_deg));
    format!(
        "Mixed plants: for the thirstiest the valve takes {} % more water than the plants need together; weighted by area the thirstiest goes {} % short.",
        quantities::plain(100.0 * cost.thirstiest_excess, 0),
        quantities::plain(100.0 * cost.weighted_shortage, 0)
    )
}

/// What a zone form is drawn from.
struct Editing<'a> {
    status: StatusCode,
    zone: Option<&'a ZoneRecord>,
    units: UnitSystem,
    version: i32,
    texts: &'a BTreeMap<String, String>,
    errors: &'a [FieldError],
    merged: Merged,
    /// Whether the answers of the zone are shown.
    answers: bool,
}

fn edit(here: &AtSite, editing: Editing<'_>) -> Result<HttpResponse, PageError> {
    let title = editing.zone.map_or("New zone".to_owned(), |z| format!("Zone {}", z.zone.number));
    let answered = editing.zone.filter(|_| editing.answers);
    let (climate, today) = (&here.records.climate, here.moment(None).date);
    page_with(
        editing.status,
        &EditPage {
            frame: Frame::of_site(here, title, Chapter::Zones)?,
            form: {
                let (texts, errors) = (editing.texts, editing.errors);
                let mut form = survey::form(editing.units, &here.records.controller_names(), texts, errors);
                if editing.zone.is_some() {
                    form.groups.push(survey::since_group());
                    form = form.filled(texts, errors);
                }
                form
            },
            site_id: here.id(),
            zone: editing.zone.map(|z| (z.id, format!("{} {}", z.zone.number, z.zone.name))),
            version: editing.version,
            units: editing.units.code(),
            defaults_json: survey::defaults_json(editing.units),
            ranges: answered.map_or(Vec::new(), |z| cans::ranges(&z.zone, climate, today, editing.units)),
            basis: editing.zone.map_or(String::new(), |z| cans::basis_words(&z.zone, editing.units)),
            mixed: answered.map_or(String::new(), |z| {
                mixed_words(&z.zone, climate.station().latitude_deg, Month::of(today))
            }),
            saved: editing.zone.map(|z| {
                let on = z.saved_at.to_zoned(here.records.tz.clone());
                (z.saved_by.clone(), on.formatted("%-d %b %Y"))
            }),
            merged: editing.merged,
        },
    )
}

/// The lowest station of a controller that no zone has.
fn free_number(zones: &[ZoneRecord], controller_number: u8) -> u16 {
    let taken = |n: &u16| zones.iter().any(|z| z.zone.station_id() == StationId::new(controller_number, *n));
    (1..=250).find(|n| !taken(n)).unwrap_or(250)
}

#[get("/sites/{id}/zones/new")]
async fn new_page(EditorAt(here): EditorAt) -> Result<HttpResponse, PageError> {
    let first = here.records.controllers.first().map_or(1, SiteController::number);
    let editing = Editing {
        status: StatusCode::OK,
        zone: None,
        units: here.records.units(),
        version: 0,
        texts: &survey::blank(first, free_number(&here.records.zones, first)),
        errors: &[],
        merged: Merged::default(),
        answers: false,
    };
    edit(&here, editing)
}

#[post("/sites/{id}/zones")]
async fn create(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let (id, units) = (here.id(), units_of(&fields)?);
    match survey::read(&fields, units, None, &survey::Stations::of(&here.records, None), here.today()) {
        Ok(zone) => {
            let text = format!("Zone {} {} is made.", zone.number, zone.name);
            let zone_id = here.change(move |change| change.create_zone(&zone)).await?;
            flash(&here.who.session, text, Some(format!("{}/remove", address::zone(id, zone_id))))?;
            let next = if fields.get("then") == "another" { "zones/new" } else { "zones" };
            Ok(see_other(&format!("{}/{next}", address::site_root(id))))
        }
        Err(errors) => {
            let editing = Editing {
                status: StatusCode::UNPROCESSABLE_ENTITY,
                zone: None,
                units,
                version: 0,
                texts: &fields.0,
                errors: &errors,
                merged: Merged::default(),
                answers: false,
            };
            edit(&here, editing)
        }
    }
}

#[get("/sites/{id}/zones/{zone}/survey")]
async fn edit_page(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let zone = here.records.zone(path.1)?;
    let units = here.records.units();
    let editing = Editing {
        status: StatusCode::OK,
        zone: Some(zone),
        units,
        version: zone.version,
        texts: &survey::texts(&zone.zone, units),
        errors: &[],
        merged: Merged::default(),
        answers: true,
    };
    edit(&here, editing)
}

#[post("/sites/{id}/zones/{zone}")]
async fn save(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, zone_id) = *path;
    let (units, base) = (units_of(&fields)?, base_version(&fields)?);
    let current = here.records.zone(zone_id)?;
    let drawn = |status, version, texts, errors, merged| {
        let zone = Some(current);
        edit(&here, Editing { status, zone, units, version, texts, errors, merged, answers: false })
    };
    let before = here.read(move |snapshot| snapshot.zone_version(zone_id, base)).await?;
    let stations = survey::Stations::of(&here.records, Some(zone_id));
    let zone = match survey::read(&fields, units, before.as_ref(), &stations, here.today()) {
        Ok(zone) => zone,
        Err(errors) => {
            let status = StatusCode::UNPROCESSABLE_ENTITY;
            return drawn(status, base, &fields.0, &errors, Merged::default());
        }
    };
    let since = match survey::since(&fields, here.today()) {
        Ok(since) => since,
        Err(errors) => {
            let status = StatusCode::UNPROCESSABLE_ENTITY;
            return drawn(status, base, &fields.0, &errors, Merged::default());
        }
    };
    let name = format!("Zone {} {}", zone.number, zone.name);
    let saved = here.change(move |change| change.save_zone(zone_id, base, &zone, since)).await?;
    let text = match saved.ok_or(PageError::NotFound)? {
        Saved::As(_) => format!("{name} is saved."),
        Saved::Unchanged(version) => {
            format!("Nothing changed; version {version} of {name} remains in force.")
        }
        Saved::Conflict(theirs) => {
            let form = survey::form(units, &here.records.controller_names(), &BTreeMap::new(), &[]);
            let started = before.as_ref().map(|z| survey::texts(z, units)).unwrap_or_default();
            let of_them = survey::texts(&theirs.zone, units);
            let (texts, merged) = Merged::of(&form, &started, &fields.shown(), &of_them, &theirs.saved_by);
            return drawn(StatusCode::CONFLICT, theirs.version, &texts, &[], merged);
        }
    };
    flash(&here.who.session, text, None)?;
    Ok(see_other(&address::zones(site_id)))
}

#[post("/sites/{id}/zones/{zone}/remove")]
async fn remove(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, zone_id) = *path;
    let zone = here.records.zone(zone_id)?;
    let now = here.now();
    let done = here.change(move |change| change.take_back(Subject::Zone, site_id, zone_id, Some(now)));
    if !done.await? {
        return Err(PageError::NotFound);
    }
    flash(
        &here.who.session,
        format!("Zone {} {} is removed.", zone.zone.number, zone.zone.name),
        Some(format!("{}/restore", address::zone(site_id, zone_id))),
    )?;
    Ok(see_other(&address::zones(site_id)))
}

#[post("/sites/{id}/zones/{zone}/restore")]
async fn restore(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, zone_id) = *path;
    if !here.change(move |change| change.take_back(Subject::Zone, site_id, zone_id, None)).await? {
        return Err(PageError::NotFound);
    }
    flash(&here.who.session, "The zone is back.", None)?;
    Ok(see_other(&address::zones(site_id)))
}

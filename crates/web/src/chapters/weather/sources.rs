//! Sources: make one, take one away, compare two, choose which one counts.

use super::{MAX_REASON, Refused, away, draw};
use crate::page::forms::{Field, FieldError, FieldGroup, Form, Reader};
use crate::page::frame::{Chapter, Frame};
use crate::page::units::{DEGREES, Units};
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::codes::Coded;
use upland_core::quantity::bounds;
use upland_core::quantity::units::Metres;
use upland_core::site::UnitSystem;
use upland_core::weather::record::{SourceKind, VariableGroup, compare};
use upland_store::Subject;
use upland_store::weather::SourcePlace;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(new_page)
        .service(create)
        .service(remove)
        .service(restore)
        .service(choose)
        .service(comparison);
}

fn source_form(system: UnitSystem, texts: &BTreeMap<String, String>, errors: &[FieldError]) -> Form {
    let u = Units::of(system).length;
    Form {
        groups: vec![
            FieldGroup {
                folded: false,
                legend: "Source",
                fields: vec![
                    Field::text("name", "Name").help("As the team calls it."),
                    Field::choice::<SourceKind>("kind", "What it is", SourceKind::label),
                ],
            },
            FieldGroup {
                folded: false,
                legend: "Location of the station",
                fields: vec![
                    Field::number("latitude", "Latitude", "°").help("Only for a station at some distance."),
                    Field::number("longitude", "Longitude", "°"),
                    Field::number("elevation", "Elevation", u.unit),
                    Field::number("wind_height", "Height of its wind sensor", u.unit)
                        .default(u.round_text(10.0)),
                ],
            },
        ],
    }
    .filled(texts, errors)
}

#[derive(Template)]
#[template(path = "chapters/weather/source.html")]
struct SourcePage {
    frame: Frame,
    site_id: i64,
    form: Form,
}

fn source_page(
    here: &AtSite,
    status: StatusCode,
    texts: &BTreeMap<String, String>,
    errors: &[FieldError],
) -> Result<HttpResponse, PageError> {
    page_with(
        status,
        &SourcePage {
            frame: Frame::of_site(here, "New source", Chapter::Weather)?,
            site_id: here.id(),
            form: source_form(here.records.units(), texts, errors),
        },
    )
}

#[get("/sites/{id}/weather/sources/new")]
async fn new_page(EditorAt(here): EditorAt) -> Result<HttpResponse, PageError> {
    let texts = BTreeMap::from([("kind".to_owned(), SourceKind::Station.code().to_owned())]);
    source_page(&here, StatusCode::OK, &texts, &[])
}

#[post("/sites/{id}/weather/sources")]
async fn create(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let id = here.id();
    let u = Units::of(here.records.units());
    let mut reader = Reader::new(&fields);
    let name = reader.name("name");
    let kind: Option<SourceKind> = reader.choice("kind");
    let place = (kind == Some(SourceKind::Station)).then(|| SourcePlace {
        latitude_deg: reader.required("latitude", DEGREES, &bounds::LATITUDE, None),
        longitude_deg: reader.required("longitude", DEGREES, &bounds::LONGITUDE, None),
        elevation: Metres::from_m(reader.required("elevation", u.length, &bounds::ELEVATION, None)),
        wind_height: Metres::from_m(
            reader.optional("wind_height", u.length, &bounds::WIND_HEIGHT, None).unwrap_or(10.0),
        ),
    });
    let (Some(kind), true) = (kind, reader.errors.is_empty()) else {
        return source_page(&here, StatusCode::UNPROCESSABLE_ENTITY, &fields.0, &reader.errors);
    };
    let label = name.clone();
    let source = here.change(move |change| change.create_source(kind, &label, place)).await?;
    flash(
        &here.who.session,
        format!("{name} is made."),
        Some(format!("{}/sources/{source}/remove", address::weather(id))),
    )?;
    let next = if kind == SourceKind::Normals { format!("/sources/{source}/normals") } else { String::new() };
    Ok(see_other(&format!("{}{next}", address::weather(id))))
}

/// Takes a source away or brings it back, and says so with the way back.
async fn set_removed(
    here: &AtSite,
    of: (i64, i64),
    removed: bool,
    text: &str,
    back: &str,
) -> Result<HttpResponse, PageError> {
    let at = removed.then(|| here.now());
    if !here.change(move |change| change.take_back(Subject::Source, of.0, of.1, at)).await? {
        return Err(PageError::NotFound);
    }
    flash(&here.who.session, text, Some(format!("{}/sources/{}/{back}", address::weather(of.0), of.1)))?;
    Ok(see_other(&address::weather(of.0)))
}

#[post("/sites/{id}/weather/sources/{source}/remove")]
async fn remove(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    set_removed(&here, *path, true, "The source is taken away; its files are kept.", "restore").await
}

#[post("/sites/{id}/weather/sources/{source}/restore")]
async fn restore(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    set_removed(&here, *path, false, "The source is back.", "remove").await
}

/// Says which source counts, by variable.
#[post("/sites/{id}/weather/choice")]
async fn choose(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let id = here.id();
    let known: Vec<i64> =
        here.read(move |snapshot| snapshot.sources(of_site)).await?.iter().map(|s| s.id).collect();
    let picked = |group: VariableGroup, place: &str| {
        fields.get(&format!("{}-{place}", group.code())).parse::<i64>().ok().filter(|s| known.contains(s))
    };
    let order = VariableGroup::ALL.map(|group| {
        let mut ids: Vec<i64> = picked(group, "first").into_iter().collect();
        ids.extend(picked(group, "second").filter(|s| !ids.contains(s)));
        ids
    });
    let reason: String = fields.get("reason").trim().chars().take(MAX_REASON).collect();
    let refuse = |message: &str| Refused {
        message: message.to_owned(),
        reason: reason.clone(),
        picked: Some(order.to_vec()),
        file: None,
    };
    if reason.is_empty() {
        let refused = refuse("Say why these sources count; whoever reads the numbers later will ask.");
        return draw(&here, StatusCode::UNPROCESSABLE_ENTITY, refused).await;
    }
    if order.first().is_none_or(Vec::is_empty) {
        let refused = refuse("Temperature needs a source: without it no day counts.");
        return draw(&here, StatusCode::UNPROCESSABLE_ENTITY, refused).await;
    }
    let (base, why, chosen) = (fields.get("base").parse().ok(), reason.clone(), order.clone());
    if let Some(theirs) = here.change(move |change| change.choose_sources(base, &chosen, &why)).await? {
        let refused = refuse(&format!(
            "{} chose meanwhile ({}). Your choice is kept below, with theirs beside it where they differ. Save again to \
             replace theirs.",
            theirs.chosen_by, theirs.reason
        ));
        return draw(&here.again().await?, StatusCode::CONFLICT, refused).await;
    }
    flash(&here.who.session, "The choice is saved; every number follows it from now on.", None)?;
    Ok(see_other(&address::weather(id)))
}

struct CompareLine {
    variable: &'static str,
    days: usize,
    bias: String,
    scatter: String,
    correlation: String,
    apart: String,
}

#[derive(Template)]
#[template(path = "chapters/weather/compare.html")]
struct ComparePage {
    frame: Frame,
    site_id: i64,
    first: i64,
    second: i64,
    sources: Vec<(i64, String)>,
    words: String,
    lines: Vec<CompareLine>,
    /// From which difference on two values are far apart.
    far: &'static str,
}

#[derive(serde::Deserialize)]
struct Pair {
    first: Option<i64>,
    second: Option<i64>,
}

// Long: one part of the page after another.
#[get("/sites/{id}/weather/compare")]
async fn comparison(here: AtSite, query: web::Query<Pair>) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let records = Arc::clone(&here.records);
    let (id, site) = (here.id(), records.site.site.clone());
    let weather = here.read(move |snapshot| snapshot.site_weather(of_site, &site)).await?;
    let with_days: Vec<usize> =
        (0..weather.sources.len()).filter(|i| weather.days.get(*i).is_some_and(|d| !d.is_empty())).collect();
    let pick = |wanted: Option<i64>, place: usize| {
        wanted
            .and_then(|id| {
                with_days.iter().copied().find(|i| weather.sources.get(*i).is_some_and(|s| s.id == id))
            })
            .or_else(|| with_days.get(place).copied())
    };
    let pair = pick(query.first, 0).zip(pick(query.second, 1));
    let source = |i: usize| weather.sources.get(i);
    let (mut words, mut lines, mut ids) = (String::new(), Vec::new(), (0, 0));
    if let Some((a, b)) = pair
        && let (Some(first), Some(second)) = (source(a), source(b))
    {
        let site = &records.site.site;
        let at = |s: &upland_store::weather::SourceRecord| {
            s.place.map_or((site.latitude_deg, site.longitude_deg), |p| (p.latitude_deg, p.longitude_deg))
        };
        let (here, there) = (at(first), at(second));
        let rise = second.station(site).elevation.m() - first.station(site).elevation.m();
        words = format!(
            "{} against {}: {}. Bias is the second less the first.",
            second.name,
            first.name,
            away(
                records.units(),
                upland_core::weather::record::distance_km(here.0, here.1, there.0, there.1),
                rise
            ),
        );
        ids = (first.id, second.id);
        let units = Units::of(records.units());
        let (left, right) = (weather.days.get(a), weather.days.get(b));
        lines = compare(left.map_or(&[][..], Vec::as_slice), right.map_or(&[][..], Vec::as_slice))
            .into_iter()
            .map(|c| (units.of_variable(c.variable), c))
            .map(|(shown, c)| CompareLine {
                variable: c.variable.label(),
                days: c.days,
                bias: format!("{:+.2} {}", shown.difference(c.bias), shown.unit),
                scatter: format!("{:.2} {}", shown.difference(c.scatter), shown.unit),
                correlation: c.correlation.map_or("–".into(), |r| format!("{r:.2}")),
                apart: if c.days_apart == 0 { "none".into() } else { c.days_apart.to_string() },
            })
            .collect();
    }
    let far = match records.units() {
        UnitSystem::Metric => "3 °C, 15 % humidity, 4 MJ/m², 1.5 m/s, 5 mm",
        UnitSystem::UsCustomary => "5.4 °F, 15 % humidity, 96 langleys, 3.4 mph, 0.2 in",
    };
    crate::server::error::page(&ComparePage {
        far,
        frame: Frame::of_site(&here, "Two sources", Chapter::Weather)?,
        site_id: id,
        first: ids.0,
        second: ids.1,
        sources: with_days.iter().filter_map(|i| source(*i)).map(|s| (s.id, s.name.clone())).collect(),
        words,
        lines,
    })
}

//! Typed normals: twelve months of means that stand in where no record reaches.

use crate::page::forms::NO_UNIT;
use crate::page::frame::{Chapter, Frame};
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use upland_core::quantity::bounds::{self, Bound};
use upland_core::quantity::month::{ByMonth, Month};
use upland_core::quantity::units::{Celsius, Millimetres};
use upland_core::weather::climate::TypedNormals;
use upland_core::weather::record::SourceKind;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(normals_page).service(save_normals);
}

/// Columns of the table of normals: name, heading, range, needed.
const NORMALS: [(&str, &str, &Bound, bool); 4] = [
    ("tmin", "mean minimum, °C", &bounds::NORMAL_TEMPERATURE, true),
    ("tmax", "mean maximum, °C", &bounds::NORMAL_TEMPERATURE, true),
    ("rain", "rain, mm", &bounds::NORMAL_RAIN, false),
    ("et0", "ET0 a day, mm", &bounds::NORMAL_ET0, false),
];

struct NormalsRow {
    month: &'static str,
    /// Field name, label, value, error.
    cells: Vec<(String, String, String, String)>,
}

#[derive(Template)]
#[template(path = "chapters/weather/normals.html")]
struct NormalsPage {
    frame: Frame,
    site_id: i64,
    source_id: i64,
    name: String,
    heads: Vec<&'static str>,
    rows: Vec<NormalsRow>,
    wrong: usize,
}

/// The field of a column and a month.
fn field(column: &str, month: Month) -> String {
    format!("{column}{}", month.number() - 1)
}

/// The value of a cell, or what is wrong with it.
fn cell(text: &str, bound: &Bound) -> Result<f64, String> {
    let value = text.parse().ok().filter(|v| bound.check(*v).is_ok());
    value.ok_or_else(|| {
        if text.is_empty() { "needed".to_owned() } else { format!("{} to {}", bound.min, bound.max) }
    })
}

/// Reads the table: values by column, or errors by field.
fn read_normals(fields: &Fields) -> Result<TypedNormals, BTreeMap<String, String>> {
    let mut errors = BTreeMap::new();
    let columns = NORMALS.map(|(name, _, bound, needed)| {
        let empty = Month::ALL.into_iter().all(|m| fields.get(&field(name, m)).is_empty());
        if empty && !needed {
            return None;
        }
        let values = ByMonth::from_fn(|m| {
            let read = cell(fields.get(&field(name, m)), bound);
            read.map_err(|message| errors.insert(field(name, m), message)).ok()
        });
        Some(values)
    });
    let [low, high, rain, et0] = columns;
    let of = |column: &Option<ByMonth<Option<f64>>>, month| column.and_then(|c| *c.of(month));
    for month in Month::ALL.into_iter().filter(|m| of(&low, *m) > of(&high, *m) && of(&high, *m).is_some()) {
        errors.entry(field("tmin", month)).or_insert_with(|| "above the maximum".to_owned());
    }
    let whole = |column: Option<ByMonth<Option<f64>>>| column.and_then(|c| c.whole());
    let (Some(low), Some(high), true) = (whole(low), whole(high), errors.is_empty()) else {
        return Err(errors);
    };
    Ok(TypedNormals {
        temperature_min: low.map(Celsius::from_c),
        temperature_max: high.map(Celsius::from_c),
        rain: whole(rain).map(|r| r.map(Millimetres::from_mm)),
        et0_a_day: whole(et0).map(|e| e.map(Millimetres::from_mm)),
    })
}

fn normals_texts(normals: &TypedNormals) -> BTreeMap<String, String> {
    let columns = [
        ("tmin", Some(normals.temperature_min.map(Celsius::c))),
        ("tmax", Some(normals.temperature_max.map(Celsius::c))),
        ("rain", normals.rain.map(|r| r.map(Millimetres::mm))),
        ("et0", normals.et0_a_day.map(|e| e.map(Millimetres::mm))),
    ];
    let typed = columns.iter().filter_map(|(name, values)| Some((name, values.as_ref()?)));
    typed
        .flat_map(|(name, values)| {
            values.months().map(|(month, value)| (field(name, month), NO_UNIT.text(Some(*value))))
        })
        .collect()
}

/// What was typed, and what is wrong with it, by field.
type Typed<'a> = (&'a BTreeMap<String, String>, BTreeMap<String, String>);

async fn draw_normals(
    here: &AtSite,
    (site_id, source_id): (i64, i64),
    refused: Option<Typed<'_>>,
) -> Result<HttpResponse, PageError> {
    let (sources, normals) =
        here.read(move |snapshot| Ok((snapshot.sources(site_id)?, snapshot.normals(source_id)?))).await?;
    let source = sources
        .into_iter()
        .find(|s| s.id == source_id && s.kind == SourceKind::Normals)
        .ok_or(PageError::NotFound)?;
    let known = normals.as_ref().map(normals_texts).unwrap_or_default();
    let empty = BTreeMap::new();
    let (texts, errors) = refused.as_ref().map_or((&known, &empty), |(t, e)| (*t, e));
    let cell = |month: Month, name: &str, head: &str| {
        let field = field(name, month);
        let of = |map: &BTreeMap<String, String>| map.get(&field).cloned().unwrap_or_default();
        (field.clone(), format!("{}, {head}", month.name()), of(texts), of(errors))
    };
    let row = |month: Month| NormalsRow {
        month: month.name(),
        cells: NORMALS.iter().map(|(name, head, ..)| cell(month, name, head)).collect(),
    };
    let rows = Month::ALL.into_iter().map(row).collect();
    page_with(
        if errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY },
        &NormalsPage {
            frame: Frame::of_site(here, "Typed normals", Chapter::Weather)?,
            site_id,
            source_id,
            name: source.name,
            heads: NORMALS.iter().map(|(_, head, ..)| *head).collect(),
            rows,
            wrong: errors.len(),
        },
    )
}

#[get("/sites/{id}/weather/sources/{source}/normals")]
async fn normals_page(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    draw_normals(&here, *path, None).await
}

#[post("/sites/{id}/weather/sources/{source}/normals")]
async fn save_normals(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, source_id) = *path;
    match read_normals(&fields) {
        Ok(normals) => {
            let found = here
                .change(move |change| {
                    let ours = change
                        .sources(site_id)?
                        .iter()
                        .any(|s| s.id == source_id && s.kind == SourceKind::Normals);
                    if ours {
                        change.set_normals(source_id, &normals)?;
                    }
                    Ok(ours)
                })
                .await?;
            if !found {
                return Err(PageError::NotFound);
            }
            flash(&here.who.session, "The normals are saved; they stand in where no record reaches.", None)?;
            Ok(see_other(&address::weather(site_id)))
        }
        Err(errors) => draw_normals(&here, *path, Some((&fields.0, errors))).await,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_of_normals_is_read_or_told_cell_by_cell() {
        let mut texts: BTreeMap<String, String> = BTreeMap::new();
        for m in 0..12 {
            texts.insert(format!("tmin{m}"), "2".into());
            texts.insert(format!("tmax{m}"), "14.5".into());
        }
        let normals = read_normals(&Fields(texts.clone())).unwrap();
        assert_eq!((normals.temperature_max.of(Month::July).c(), normals.rain), (14.5, None));
        assert_eq!(normals_texts(&normals), texts);
        texts.insert("tmin3".into(), "20".into());
        texts.insert("rain5".into(), "much".into());
        texts.remove("tmax7");
        let errors = read_normals(&Fields(texts)).unwrap_err();
        assert_eq!(errors["tmin3"], "above the maximum");
        assert_eq!(errors["tmax7"], "needed");
        assert_eq!(errors["rain5"], "0 to 3000");
        assert_eq!(errors["rain0"], "needed", "a column is whole or empty");
    }
}

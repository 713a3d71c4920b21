//! Typed normals: twelve months of means that stand in where no record reaches.

use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::plain;
use crate::page::units::{Shown, Units};
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
use upland_core::site::UnitSystem;
use upland_core::weather::climate::TypedNormals;
use upland_core::weather::record::SourceKind;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(normals_page).service(save_normals);
}

/// A column of the table of normals.
struct Column {
    name: &'static str,
    head: &'static str,
    shown: Shown,
    bound: &'static Bound,
    needed: bool,
}

impl Column {
    /// Its heading with the unit of the site.
    fn head(&self) -> String {
        format!("{}, {}", self.head, self.shown.unit)
    }
}

fn columns(units: UnitSystem) -> [Column; 4] {
    let u = Units::of(units);
    let column = |name, head, shown, bound, needed| Column { name, head, shown, bound, needed };
    [
        column("tmin", "mean minimum", u.temperature, &bounds::NORMAL_TEMPERATURE, true),
        column("tmax", "mean maximum", u.temperature, &bounds::NORMAL_TEMPERATURE, true),
        column("rain", "rain", u.depth, &bounds::NORMAL_RAIN, false),
        column("et0", "ET0 a day", u.depth, &bounds::NORMAL_ET0, false),
    ]
}

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
    heads: Vec<String>,
    rows: Vec<NormalsRow>,
    wrong: usize,
}

/// The field of a column and a month.
fn field(column: &str, month: Month) -> String {
    format!("{column}{}", month.number() - 1)
}

/// The value of a cell, or what is wrong with it.
fn cell(text: &str, column: &Column) -> Result<f64, String> {
    if text.is_empty() {
        return Err("needed".into());
    }
    let value = column.shown.read(text).map_err(|refusal| refusal.to_string())?;
    let range = || {
        let show = |v: f64| plain(column.shown.shown(v), 1);
        format!("{} to {} {}", show(column.bound.min), show(column.bound.max), column.shown.unit)
    };
    column.bound.check(value).map_err(|_| range())
}

/// Reads the table: values by column, or errors by field.
fn read_normals(fields: &Fields, units: UnitSystem) -> Result<TypedNormals, BTreeMap<String, String>> {
    let mut errors = BTreeMap::new();
    let columns = columns(units).map(|column| {
        let name = column.name;
        let empty = Month::ALL.into_iter().all(|m| fields.get(&field(name, m)).is_empty());
        if empty && !column.needed {
            return None;
        }
        let values = ByMonth::from_fn(|m| {
            let read = cell(fields.get(&field(name, m)), &column);
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

fn normals_texts(normals: &TypedNormals, units: UnitSystem) -> BTreeMap<String, String> {
    let [low, high, rain, et0] = columns(units).map(|column| column.shown);
    let columns = [
        ("tmin", low, Some(normals.temperature_min.map(Celsius::c))),
        ("tmax", high, Some(normals.temperature_max.map(Celsius::c))),
        ("rain", rain, normals.rain.map(|r| r.map(Millimetres::mm))),
        ("et0", et0, normals.et0_a_day.map(|e| e.map(Millimetres::mm))),
    ];
    let typed = columns.iter().filter_map(|(name, shown, values)| Some((name, shown, values.as_ref()?)));
    typed
        .flat_map(|(name, shown, values)| {
            values.months().map(|(month, value)| (field(name, month), shown.text(Some(*value))))
        })
        .collect()
}

/// What was typed, and what is wrong with it, by field.
type Typed<'a> = (&'a BTreeMap<String, String>, BTreeMap<String, String>);

async fn draw_normals(
    here: &AtSite,
    site_id: i64,
    source_id: i64,
    refused: Option<Typed<'_>>,
) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let (sources, normals) =
        here.read(move |snapshot| Ok((snapshot.sources(of_site)?, snapshot.normals(source_id)?))).await?;
    let source = sources
        .into_iter()
        .find(|s| s.id == source_id && s.kind == SourceKind::Normals)
        .ok_or(PageError::NotFound)?;
    let units = here.records.units();
    let known = normals.as_ref().map(|n| normals_texts(n, units)).unwrap_or_default();
    let empty = BTreeMap::new();
    let (texts, errors) = refused.as_ref().map_or((&known, &empty), |(t, e)| (*t, e));
    let cell = |month: Month, name: &str, head: &str| {
        let field = field(name, month);
        let of = |map: &BTreeMap<String, String>| map.get(&field).cloned().unwrap_or_default();
        (field.clone(), format!("{}, {head}", month.name()), of(texts), of(errors))
    };
    let row = |month: Month| NormalsRow {
        month: month.name(),
        cells: columns(units).iter().map(|column| cell(month, column.name, &column.head())).collect(),
    };
    let rows = Month::ALL.into_iter().map(row).collect();
    page_with(
        if errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY },
        &NormalsPage {
            frame: Frame::of_site(here, "Typed normals", Chapter::Weather)?,
            site_id,
            source_id,
            name: source.name,
            heads: columns(units).iter().map(Column::head).collect(),
            rows,
            wrong: errors.len(),
        },
    )
}

#[get("/sites/{id}/weather/sources/{source}/normals")]
async fn normals_page(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    draw_normals(&here, path.0, path.1, None).await
}

#[post("/sites/{id}/weather/sources/{source}/normals")]
async fn save_normals(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let (site_id, source_id) = *path;
    match read_normals(&fields, here.records.units()) {
        Ok(normals) => {
            let found = here
                .change(move |change| {
                    let ours = change
                        .sources(of_site)?
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
            flash(&here.who.session, "The normals are saved; they are used where no record reaches.", None)?;
            Ok(see_other(&address::weather(site_id)))
        }
        Err(errors) => draw_normals(&here, path.0, path.1, Some((&fields.0, errors))).await,
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
        let normals = read_normals(&Fields(texts.clone()), UnitSystem::Metric).unwrap();
        assert_eq!((normals.temperature_max.of(Month::July).c(), normals.rain), (14.5, None));
        assert_eq!(normals_texts(&normals, UnitSystem::Metric), texts);
        // The same table in Fahrenheit and inches.
        let us = normals_texts(&normals, UnitSystem::UsCustomary);
        assert_eq!((us["tmin0"].as_str(), us["tmax6"].as_str()), ("35.6", "58.1"));
        let again = read_normals(&Fields(us), UnitSystem::UsCustomary).unwrap();
        assert!((again.temperature_max.of(Month::July).c() - 14.5).abs() < 1e-9);
        texts.insert("tmin3".into(), "20".into());
        texts.insert("rain5".into(), "much".into());
        texts.remove("tmax7");
        let errors = read_normals(&Fields(texts), UnitSystem::Metric).unwrap_err();
        assert_eq!(errors["tmin3"], "above the maximum");
        assert_eq!(errors["tmax7"], "needed");
        assert!(errors["rain5"].starts_with("\"much\" is not a number of mm"), "{}", errors["rain5"]);
        assert_eq!(errors["rain0"], "needed", "a column is whole or empty");
    }
}

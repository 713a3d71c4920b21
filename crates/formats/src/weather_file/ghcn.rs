//! GHCN-Daily as CSV, in both shapes that NOAA publishes: a value a row (`ID,DATE,ELEMENT,...`,
//! also without a header) and a day a row (`STATION,DATE,...,PRCP,TMAX,...`). Values are tenths: of
//! a millimetre, a degree, a metre a second. A value with a quality flag failed NOAA's own checks
//! and is left out. (Public documentation of the data set; from memory.)

use super::{FileKind, FilePlace, WeatherFile, of_days};
use crate::table::{Column, Problem, Problems};
use jiff::civil::Date;
use std::collections::{BTreeMap, BTreeSet};
use upland_core::weather::record::{RawDay, Variable};

/// Element, what it holds, factor from the file to metric.
const ELEMENTS: [(&str, Variable, f64, &str); 7] = [
    ("TMIN", Variable::TemperatureMin, 0.1, "tenths of °C"),
    ("TMAX", Variable::TemperatureMax, 0.1, "tenths of °C"),
    ("PRCP", Variable::Rain, 0.1, "tenths of mm"),
    ("AWND", Variable::Wind, 0.1, "tenths of m/s"),
    ("ADPT", Variable::DewPoint, 0.1, "tenths of °C"),
    ("RHMN", Variable::HumidityMin, 1.0, "%"),
    ("RHMX", Variable::HumidityMax, 1.0, "%"),
];

/// The value that stands for missing.
const MISSING: f64 = -9999.0;

/// A station id: eleven letters and digits.
fn is_id(cell: &str) -> bool {
    cell.len() == 11 && cell.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '-')
}

fn compact_date(cell: &str) -> Option<Date> {
    if cell.len() == 8 && cell.bytes().all(|b| b.is_ascii_digit()) {
        let part = |range| cell.get(range);
        return Date::new(part(0..4)?.parse().ok()?, part(4..6)?.parse().ok()?, part(6..8)?.parse().ok()?)
            .ok()
            .filter(|date| crate::table::is_recent(*date));
    }
    crate::table::date(cell).ok()
}

/// Columns of the two shapes.
enum Shape {
    /// id, date, element, value, measurement flag, quality flag, ...
    ValueARow {
        skip_first: bool,
    },
    DayARow {
        headers: Vec<String>,
    },
}

fn shape(text: &str) -> Option<Shape> {
    let first = text.lines().find(|l| !l.trim().is_empty())?;
    let cells: Vec<String> =
        first.split(',').map(|c| c.trim().trim_matches('"').to_ascii_uppercase()).collect();
    let at = |i: usize| cells.get(i).map_or("", String::as_str);
    if at(0) == "STATION" && at(1) == "DATE" && cells.iter().any(|c| ELEMENTS.iter().any(|(e, ..)| e == c)) {
        return Some(Shape::DayARow { headers: cells });
    }
    if at(0) == "ID" && at(2) == "ELEMENT" {
        return Some(Shape::ValueARow { skip_first: true });
    }
    (is_id(at(0)) && compact_date(at(1)).is_some() && at(2).len() == 4 && cells.len() >= 7)
        .then_some(Shape::ValueARow { skip_first: false })
}

pub(super) fn is_one(text: &str, _header: &[String]) -> bool {
    shape(text).is_some()
}

fn records(
    text: &str,
    skip_first: bool,
) -> impl Iterator<Item = Result<(u64, csv::StringRecord), Problem>> + '_ {
    csv::ReaderBuilder::new()
        .has_headers(skip_first)
        .flexible(true)
        .from_reader(text.as_bytes())
        .into_records()
        .map(|record| {
            let record = record.map_err(|e| Problem::file(format!("cannot be read as CSV: {e}")))?;
            Ok((record.position().map_or(0, csv::Position::line), record))
        })
}

/// The stations of a file, in order; empty when it is not of this format.
pub(super) fn stations(text: &str) -> Vec<String> {
    let skip_first = match shape(text) {
        Some(Shape::ValueARow { skip_first }) => skip_first,
        Some(Shape::DayARow { .. }) => true,
        None => return Vec::new(),
    };
    let ids: BTreeSet<String> =
        records(text, skip_first).filter_map(|r| r.ok()?.1.get(0).map(|c| c.trim().to_owned())).collect();
    ids.into_iter().collect()
}

pub(super) fn read(text: &str, station_id: Option<&str>) -> Result<WeatherFile, Vec<Problem>> {
    let all = stations(text);
    let chosen = match (station_id, all.as_slice()) {
        (Some(id), _) if all.iter().any(|s| s == id) => id.to_owned(),
        (Some(id), _) => {
            return Err(vec![Problem::file(format!(
                "station {id} is not in the file; it has {}",
                all.join(", ")
            ))]);
        }
        (None, [only]) => only.clone(),
        (None, several) => {
            return Err(vec![Problem::file(format!(
                "has {} stations ({}); say which one is meant",
                several.len(),
                several.iter().take(8).cloned().collect::<Vec<_>>().join(", ")
            ))]);
        }
    };
    match shape(text) {
        Some(Shape::DayARow { headers }) => day_a_row(text, &headers, &chosen),
        Some(Shape::ValueARow { skip_first }) => value_a_row(text, skip_first, &chosen),
        None => Err(vec![Problem::file("is no GHCN-Daily file")]),
    }
}

fn columns(found: &BTreeSet<&'static str>) -> Vec<Column> {
    ELEMENTS
        .iter()
        .filter(|(name, ..)| found.contains(name))
        .map(|(name, _, _, unit)| Column { header: (*name).to_owned(), unit })
        .collect()
}

fn quality_note(failed: usize) -> Vec<Problem> {
    if failed == 0 {
        return Vec::new();
    }
    vec![Problem::file(format!("{failed} values carry a quality flag of their publisher and are left out"))]
}

fn value_a_row(text: &str, skip_first: bool, station: &str) -> Result<WeatherFile, Vec<Problem>> {
    let mut days: BTreeMap<Date, (u64, RawDay)> = BTreeMap::new();
    let (mut problems, mut found, mut failed) = (Problems::default(), BTreeSet::new(), 0);
    for record in records(text, skip_first) {
        let (line, cells) = match record {
            Ok(record) => record,
            Err(problem) => {
                problems.push(problem);
                continue;
            }
        };
        let cell = |i: usize| cells.get(i).map_or("", str::trim);
        if cell(0) != station {
            continue;
        }
        let Some((name, variable, factor, _)) = ELEMENTS.iter().find(|(e, ..)| *e == cell(2)) else {
            continue;
        };
        let Some(date) = compact_date(cell(1)) else {
            problems.push(Problem::cell(
                line,
                "DATE",
                format!("\"{}\" is not a date written YYYYMMDD", cell(1)),
            ));
            continue;
        };
        let Ok(value) = cell(3).parse::<f64>() else {
            problems.push(Problem::cell(line, "VALUE", format!("\"{}\" is not a number", cell(3))));
            continue;
        };
        if !cell(5).is_empty() {
            failed += 1;
            continue;
        }
        if value <= MISSING {
            continue;
        }
        found.insert(*name);
        days.entry(date).or_insert((line, RawDay::new(date))).1.set(*variable, Some(value * factor));
    }
    if !problems.is_empty() {
        return Err(problems.told());
    }
    of_days(FileKind::GhcnDaily, None, days.into_values().collect(), columns(&found), quality_note(failed))
}

/// Where a row says that its station stands.
fn place_of<'a>(cell: &dyn Fn(&str) -> Option<&'a str>, station: &str) -> Option<FilePlace> {
    let number = |name| cell(name)?.parse::<f64>().ok();
    Some(FilePlace {
        name: cell("NAME").unwrap_or(station).to_owned(),
        latitude_deg: number("LATITUDE")?,
        longitude_deg: number("LONGITUDE")?,
        elevation_m: number("ELEVATION")?,
    })
}

fn day_a_row(text: &str, headers: &[String], station: &str) -> Result<WeatherFile, Vec<Problem>> {
    let index = |name: &str| headers.iter().position(|h| h == name);
    let (mut problems, mut found, mut failed) = (Problems::default(), BTreeSet::new(), 0);
    let mut dated = Vec::new();
    let mut place = None;
    for record in records(text, true) {
        let (line, cells) = match record {
            Ok(record) => record,
            Err(problem) => {
                problems.push(problem);
                continue;
            }
        };
        let cell = |i: usize| cells.get(i).map_or("", str::trim);
        if cell(0) != station {
            continue;
        }
        let Some(date) = compact_date(cell(1)) else {
            problems.push(Problem::cell(
                line,
                "DATE",
                format!("\"{}\" is not a date written YYYY-MM-DD", cell(1)),
            ));
            continue;
        };
        place = place.or_else(|| place_of(&|name| index(name).map(cell), station));
        let mut day = RawDay::new(date);
        for (name, variable, factor, _) in ELEMENTS {
            let Some(at) = index(name) else { continue };
            // Attributes are "measurement,quality,source": the second says whether it failed.
            let attributes = index(&format!("{name}_ATTRIBUTES")).map_or("", cell);
            let value = cell(at);
            if value.is_empty() {
                continue;
            }
            let Ok(value) = value.parse::<f64>() else {
                problems.push(Problem::cell(line, name, format!("\"{value}\" is not a number")));
                continue;
            };
            if attributes.split(',').nth(1).is_some_and(|flag| !flag.trim().is_empty()) {
                failed += 1;
            } else if value > MISSING {
                found.insert(name);
                day.set(variable, Some(value * factor));
            }
        }
        dated.push((line, day));
    }
    if !problems.is_empty() {
        return Err(problems.told());
    }
    of_days(FileKind::GhcnDaily, place, dated, columns(&found), quality_note(failed))
}

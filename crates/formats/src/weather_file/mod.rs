//! Weather files of any kind: the own daily and hourly CSV, EPW, GHCN-Daily CSV, and any other table
//! through a mapping of its columns. Values come as they are; what they are worth is judged later.

mod epw;
mod ghcn;
mod grid;
mod json_rows;
mod mapping;
mod propose;
mod when;

pub use grid::Grid;
pub use mapping::{Clock, MappedColumn, Mapping, Quantity, Stamp, UNITS, Unit, quantities, units_of};
pub use propose::{Doubt, Proposal, propose};
pub use when::DateOrder;

use crate::table::{Column, Problem, Problems};
use crate::{daily_csv, hourly_csv};
use jiff::tz::TimeZone;
use upland_core::weather::record::{HourVariable, RawDay, RawHour, days_of, examine_hours};
use upland_core::weather::{HourHumidity, HourWeather, Station};

/// What a file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileKind {
    /// This program's daily CSV.
    OwnDaily,
    /// This program's hourly CSV.
    OwnHourly,
    /// A typical or actual year for building simulation.
    Epw,
    /// Daily summaries of stations, NOAA.
    GhcnDaily,
    /// Another table, read through a mapping.
    Mapped,
}

impl FileKind {
    /// Words for the page.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::OwnDaily => "daily CSV of this program",
            Self::OwnHourly => "hourly CSV of this program",
            Self::Epw => "EPW, hourly",
            Self::GhcnDaily => "GHCN-Daily CSV",
            Self::Mapped => "a table, its columns as you said",
        }
    }
}

/// Where a file says it was measured.
#[derive(Debug, Clone, PartialEq)]
pub struct FilePlace {
    /// Name.
    pub name: String,
    /// Latitude, degrees.
    pub latitude_deg: f64,
    /// Longitude, degrees.
    pub longitude_deg: f64,
    /// Elevation, m.
    pub elevation_m: f64,
}

/// A file, read.
#[derive(Debug, Clone, PartialEq)]
pub struct WeatherFile {
    /// What it is.
    pub kind: FileKind,
    /// Where it was measured, as far as it says.
    pub place: Option<FilePlace>,
    /// Days in order; of an hourly file those that its hours make.
    pub days: Vec<RawDay>,
    /// Hours in order; empty for a daily file.
    pub hours: Vec<RawHour>,
    /// Columns as they were read.
    pub columns: Vec<Column>,
    /// What is doubtful but was taken.
    pub notes: Vec<Problem>,
}

/// What came of opening a file.
#[derive(Debug, Clone, PartialEq)]
pub enum Opened {
    /// It could be read.
    Read(WeatherFile),
    /// Its columns must be confirmed first.
    Asks(Box<Proposal>),
}

/// Opens a weather file for a station in a time zone. A table that no format knows is read with
/// `mapping`, else its columns are asked.
///
/// # Errors
/// Every problem that was found, by line; nothing of the file is returned then.
pub fn open(
    bytes: &[u8],
    station: &Station,
    tz: &TimeZone,
    mapping: Option<&Mapping>,
) -> Result<Opened, Vec<Problem>> {
    let text = crate::table::decode(bytes).map_err(|problem| vec![problem])?;
    let first = text.lines().find(|l| !l.starts_with('#') && !l.trim().is_empty()).unwrap_or_default();
    let header: Vec<String> =
        first.split([',', ';', '\t']).map(|h| h.trim().trim_matches('"').to_ascii_lowercase()).collect();
    let has = |name: &str| header.iter().any(|h| h == name);
    if let Some(mapping) = mapping {
        return mapping::read(text, mapping, station, tz).map(Opened::Read);
    }
    if header.first().is_some_and(|h| h == "location") {
        return epw::read(text, station).map(Opened::Read);
    }
    if ghcn::is_one(text, &header) {
        return ghcn::read(text, None).map(Opened::Read);
    }
    if header.first().is_some_and(|h| h == "date")
        && (has("tmin_c") || has("tmin_f"))
        && (has("tmax_c") || has("tmax_f"))
    {
        return own_daily(bytes, station).map(Opened::Read);
    }
    if header.first().is_some_and(|h| h == "time") && (has("temp_c") || has("temp_f")) {
        return own_hourly(bytes, station).map(Opened::Read);
    }
    propose::propose(text, tz).map(|proposal| Opened::Asks(Box::new(proposal)))
}

/// Whether a file is daily summaries of several stations, and which.
#[must_use]
pub fn stations_of(bytes: &[u8]) -> Vec<String> {
    crate::table::decode(bytes).map(ghcn::stations).unwrap_or_default()
}

/// As [`open`], for daily summaries of several stations of which one is meant.
///
/// # Errors
/// As [`open`].
pub fn open_station(bytes: &[u8], station_id: &str) -> Result<WeatherFile, Vec<Problem>> {
    let text = crate::table::decode(bytes).map_err(|problem| vec![problem])?;
    ghcn::read(text, Some(station_id))
}

fn own_daily(bytes: &[u8], station: &Station) -> Result<WeatherFile, Vec<Problem>> {
    let file = daily_csv::read_as_it_came(bytes, station)?;
    Ok(WeatherFile {
        kind: FileKind::OwnDaily,
        place: None,
        days: file.days.iter().map(RawDay::from).collect(),
        hours: Vec::new(),
        columns: file.columns,
        notes: file.notes,
    })
}

fn own_hourly(bytes: &[u8], station: &Station) -> Result<WeatherFile, Vec<Problem>> {
    let file = hourly_csv::read(bytes)?;
    let hours = file.hours.iter().map(|(_, hour)| raw_hour(hour)).collect();
    Ok(of_hours(FileKind::OwnHourly, None, hours, Vec::new(), file.notes, station))
}

fn raw_hour(hour: &HourWeather) -> RawHour {
    let raw = RawHour::new(hour.start, hour.local_date)
        .with(HourVariable::Temperature, hour.temperature.c())
        .with(HourVariable::Solar, hour.solar.mj_per_m2())
        .with(HourVariable::Wind, hour.wind.m_per_s());
    let mut raw = match hour.humidity {
        HourHumidity::RelativePct(pct) => raw.with(HourVariable::Humidity, pct),
        HourHumidity::DewPoint(t) => raw.with(HourVariable::DewPoint, t.c()),
    };
    raw.set(HourVariable::Rain, hour.rain.map(|r| r.mm()));
    raw
}

/// A note when hours are not in order.
fn order_note(starts: impl Iterator<Item = jiff::Timestamp>) -> Vec<Problem> {
    let starts: Vec<_> = starts.collect();
    if starts.windows(2).all(|w| matches!(w, [a, b] if a <= b)) {
        return Vec::new();
    }
    vec![Problem::file(
        "the hours are not in order (a typical year is put together of months of several years); they are sorted by time",
    )]
}

/// A file of hours: sorted, checked, and made into days.
fn of_hours(
    kind: FileKind,
    place: Option<FilePlace>,
    mut hours: Vec<RawHour>,
    columns: Vec<Column>,
    mut notes: Vec<Problem>,
    station: &Station,
) -> WeatherFile {
    notes.extend(order_note(hours.iter().map(|h| h.start)));
    hours.sort_by_key(|h| h.start);
    let at = place.as_ref().map_or(*station, |p| Station {
        latitude_deg: p.latitude_deg,
        longitude_deg: p.longitude_deg,
        elevation: upland_core::quantity::units::Metres::from_m(p.elevation_m),
        ..*station
    });
    let flags = examine_hours(&hours, &at);
    let mut by_rule: std::collections::BTreeMap<_, (usize, usize)> = std::collections::BTreeMap::new();
    for flag in &flags {
        by_rule.entry(flag.rule).or_insert((0, flag.index)).0 += 1;
    }
    for (rule, (count, first)) in by_rule {
        let when = hours.get(first).map_or(String::new(), |h| h.local_date.to_string());
        notes.push(Problem::file(format!(
            "{count} {} {}: {} (first on {when})",
            if count == 1 { "value of an hour" } else { "values of hours" },
            match (rule.rejects(), count) {
                (true, _) => "will not count",
                (false, 1) => "is doubtful but counts",
                (false, _) => "are doubtful but count",
            },
            rule.words(),
        )));
    }
    let days = days_of(&hours, &flags, &at);
    WeatherFile { kind, place, days, hours, columns, notes }
}

/// Sorts days and tells doubled dates and gaps.
fn of_days(
    kind: FileKind,
    place: Option<FilePlace>,
    mut dated: Vec<(u64, RawDay)>,
    columns: Vec<Column>,
    mut notes: Vec<Problem>,
) -> Result<WeatherFile, Vec<Problem>> {
    if dated.windows(2).any(|w| matches!(w, [(_, a), (_, b)] if a.date > b.date)) {
        notes.push(Problem::file("the days are not in order; they are sorted by date"));
    }
    dated.sort_by_key(|(line, day)| (day.date, *line));
    let pairs = dated.windows(2).filter_map(|pair| match pair {
        [(first, a), (second, b)] if a.date == b.date => Some(Problem::line(
            *second,
            format!(
                "{} is on line {first} already; keep one row a day, or say which station is meant",
                b.date
            ),
        )),
        _ => None,
    });
    let mut doubled = Problems::default();
    doubled.extend(pairs);
    if !doubled.is_empty() {
        return Err(doubled.told());
    }
    let days: Vec<RawDay> = dated.into_iter().map(|(_, d)| d).filter(|d| !d.is_empty()).collect();
    if days.is_empty() {
        return Err(vec![Problem::file("no row has a value that is read")]);
    }
    notes.extend(daily_csv::gaps(days.iter().map(|d| d.date)));
    Ok(WeatherFile { kind, place, days, hours: Vec::new(), columns, notes })
}

#[cfg(test)]
mod tests;

//! A mapping says how the columns of a strange table are read. It is kept by the header, so that
//! the next file with it is read at once.

use super::grid::Grid;
use super::when::DateOrder;
use super::{FileKind, WeatherFile, of_days, of_hours, when};
use crate::table::{Column, Problem, Problems};
use jiff::SignedDuration;
use jiff::tz::{Offset, TimeZone};
use serde::{Deserialize, Serialize};
use upland_core::quantity::units::{
    Celsius, M_S_PER_MPH, MJ_M2_PER_LANGLEY, MJ_M2_PER_W_M2_DAY, MJ_M2_PER_W_M2_HOUR, MM_PER_INCH,
};
use upland_core::weather::Station;
use upland_core::weather::record::{HourVariable, RawDay, RawHour, Variable};

/// What a stamp of an hour marks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Stamp {
    /// The start of the hour.
    Start,
    /// Its end.
    End,
}

/// Which clock the stamps follow.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Clock {
    /// Each stamp carries its offset.
    InText,
    /// The wall clock of the site, daylight saving included.
    Site,
    /// A clock that is never changed, minutes east of UTC.
    Fixed(i16),
}

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Quantity {
    /// Lowest temperature of a day.
    Tmin,
    /// Highest temperature of a day.
    Tmax,
    /// Temperature of an hour.
    Temperature,
    /// Dew point.
    DewPoint,
    /// Lowest humidity of a day.
    RhMin,
    /// Highest humidity of a day.
    RhMax,
    /// Humidity of an hour.
    Rh,
    /// Vapour pressure of a day.
    Vapour,
    /// Radiation.
    Solar,
    /// Wind.
    Wind,
    /// Rain.
    Rain,
}

impl Quantity {
    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Tmin => "lowest temperature",
            Self::Tmax => "highest temperature",
            Self::Temperature => "temperature",
            Self::DewPoint => "dew point",
            Self::RhMin => "lowest humidity",
            Self::RhMax => "highest humidity",
            Self::Rh => "humidity",
            Self::Vapour => "vapour pressure",
            Self::Solar => "radiation",
            Self::Wind => "wind",
            Self::Rain => "rain",
        }
    }

    fn of_day(self) -> Option<Variable> {
        Some(match self {
            Self::Tmin => Variable::TemperatureMin,
            Self::Tmax => Variable::TemperatureMax,
            Self::DewPoint => Variable::DewPoint,
            Self::RhMin => Variable::HumidityMin,
            Self::RhMax => Variable::HumidityMax,
            Self::Vapour => Variable::VapourPressure,
            Self::Solar => Variable::Solar,
            Self::Wind => Variable::Wind,
            Self::Rain => Variable::Rain,
            Self::Temperature | Self::Rh => return None,
        })
    }

    fn of_hour(self) -> Option<HourVariable> {
        Some(match self {
            Self::Temperature => HourVariable::Temperature,
            Self::DewPoint => HourVariable::DewPoint,
            Self::Rh => HourVariable::Humidity,
            Self::Solar => HourVariable::Solar,
            Self::Wind => HourVariable::Wind,
            Self::Rain => HourVariable::Rain,
            _ => return None,
        })
    }
}

/// What a table of days or hours can hold.
#[must_use]
pub fn quantities(hourly: bool) -> Vec<Quantity> {
    use Quantity as Q;
    if hourly {
        vec![Q::Temperature, Q::DewPoint, Q::Rh, Q::Solar, Q::Wind, Q::Rain]
    } else {
        vec![Q::Tmin, Q::Tmax, Q::DewPoint, Q::RhMin, Q::RhMax, Q::Vapour, Q::Solar, Q::Wind, Q::Rain]
    }
}

/// A unit that a column may be in.
pub struct Unit {
    /// Short name.
    pub code: &'static str,
    /// As written.
    pub label: &'static str,
    /// Dimension: temperature, humidity, pressure, solar, wind, rain.
    pub of: &'static str,
    /// To metric, for a day.
    day: fn(f64) -> f64,
    /// To metric, for an hour.
    hour: fn(f64) -> f64,
}

const fn unit(code: &'static str, label: &'static str, of: &'static str, both: fn(f64) -> f64) -> Unit {
    Unit { code, label, of, day: both, hour: both }
}

/// Every unit, the metric one of each dimension first.
pub static UNITS: [Unit; 20] = [
    unit("c", "°C", "temperature", |v| v),
    unit("f", "°F", "temperature", |v| Celsius::from_f(v).c()),
    unit("tenths_c", "tenths of °C", "temperature", |v| v * 0.1),
    unit("k", "K", "temperature", |v| v - 273.15),
    unit("pct", "%", "humidity", |v| v),
    unit("fraction", "fraction", "humidity", |v| v * 100.0),
    unit("kpa", "kPa", "pressure", |v| v),
    unit("hpa", "hPa", "pressure", |v| v * 0.1),
    unit("mj_m2", "MJ/m²", "solar", |v| v),
    Unit {
        code: "w_m2",
        label: "W/m², mean",
        of: "solar",
        day: |v| v * MJ_M2_PER_W_M2_DAY,
        hour: |v| v * MJ_M2_PER_W_M2_HOUR,
    },
    unit("wh_m2", "Wh/m²", "solar", |v| v * MJ_M2_PER_W_M2_HOUR),
    unit("kj_m2", "kJ/m²", "solar", |v| v * 0.001),
    unit("langley", "langleys", "solar", |v| v * MJ_M2_PER_LANGLEY),
    unit("m_s", "m/s", "wind", |v| v),
    unit("km_h", "km/h", "wind", |v| v / 3.6),
    unit("mph", "mph", "wind", |v| v * M_S_PER_MPH),
    unit("kn", "knots", "wind", |v| v * 1852.0 / 3600.0),
    unit("mm", "mm", "rain", |v| v),
    unit("in", "in", "rain", |v| v * MM_PER_INCH),
    unit("tenths_mm", "tenths of mm", "rain", |v| v * 0.1),
];

/// The units of what a column holds, the metric one first.
#[must_use]
pub fn units_of(quantity: Quantity) -> Vec<&'static Unit> {
    use Quantity as Q;
    let of = match quantity {
        Q::Tmin | Q::Tmax | Q::Temperature | Q::DewPoint => "temperature",
        Q::RhMin | Q::RhMax | Q::Rh => "humidity",
        Q::Vapour => "pressure",
        Q::Solar => "solar",
        Q::Wind => "wind",
        Q::Rain => "rain",
    };
    UNITS.iter().filter(|u| u.of == of).collect()
}

/// A column that is read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MappedColumn {
    /// Its header.
    pub header: String,
    /// What it can be set to.
    pub quantity: Quantity,
    /// Short name of its unit.
    pub unit: String,
}

/// How a table is read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Mapping {
    /// An hour a row, else a day.
    pub hourly: bool,
    /// Header of the date (or of date and time).
    pub date_column: String,
    /// Header of the time, when it stands by itself.
    pub time_column: Option<String>,
    /// Order of the parts of a date.
    pub date_order: DateOrder,
    /// What a stamp marks.
    pub stamp: Stamp,
    /// Which clock it follows.
    pub clock: Clock,
    /// Decimals behind a comma.
    pub decimal_comma: bool,
    /// Texts that stand for "not measured".
    pub missing: Vec<String>,
    /// Header of the station and the one that is meant, when a file has several.
    pub station: Option<(String, String)>,
    /// The columns that are read.
    pub columns: Vec<MappedColumn>,
}

/// A trace of rain, as many services write it.
const TRACE: &str = "T";

impl Mapping {
    /// The number in a cell: `Ok(None)` when it says "not measured".
    ///
    /// # Errors
    /// Why it is no number.
    pub(super) fn number(&self, cell: &str, quantity: Quantity) -> Result<Option<f64>, String> {
        if cell.is_empty() || self.missing.iter().any(|m| m == cell) {
            return Ok(None);
        }
        if quantity == Quantity::Rain && cell.eq_ignore_ascii_case(TRACE) {
            return Ok(Some(0.0));
        }
        let swapped;
        let text = if self.decimal_comma {
            swapped = cell.replace('.', "").replace(',', ".");
            &swapped
        } else {
            cell
        };
        match text.parse::<f64>() {
            Ok(value) if value.is_finite() => {
                // -9999 and -9999.0 are one sentinel.
                let same = |m: &String| m.parse::<f64>().is_ok_and(|m| (m - value).abs() < 1e-9);
                Ok(if self.missing.iter().any(same) { None } else { Some(value) })
            }
            _ => Err(format!(
                "\"{cell}\" is not a number; if it means \"not measured\", add it to the texts that do"
            )),
        }
    }
}

/// Where a mapping finds its columns in a table.
struct Found<'a> {
    date: usize,
    /// `None` where the date column holds the time as well.
    time: Option<usize>,
    station: Option<(usize, &'a str)>,
    columns: Vec<(usize, &'a MappedColumn, &'static Unit)>,
}

impl<'a> Found<'a> {
    fn of(grid: &Grid, mapping: &'a Mapping) -> Result<Self, Vec<Problem>> {
        let mut problems = Vec::new();
        let mut index = |header: &str| {
            let found = grid.index(header);
            if found.is_none() {
                let message = format!("has no column \"{header}\", which the mapping names");
                problems.push(Problem::line(grid.header_line, message));
            }
            found
        };
        let date = index(&mapping.date_column);
        let time = mapping.time_column.as_ref().and_then(|header| index(header));
        let station = mapping.station.as_ref().and_then(|(header, id)| Some((index(header)?, id.as_str())));
        let found: Vec<_> = mapping.columns.iter().map(|column| (index(&column.header), column)).collect();
        let mut columns = Vec::new();
        for (at, column) in found {
            let unit = units_of(column.quantity).into_iter().find(|u| u.code == column.unit);
            match (at, unit) {
                (Some(at), Some(unit)) => columns.push((at, column, unit)),
                (Some(_), None) => {
                    let message = format!("{} is no unit of {}", column.unit, column.quantity.label());
                    problems.push(Problem::cell(grid.header_line, &column.header, message));
                }
                (None, _) => {}
            }
        }
        match date {
            Some(_) if problems.is_empty() && columns.is_empty() => {
                Err(vec![Problem::file("no column is read; say what at least one of them contains")])
            }
            Some(date) if problems.is_empty() => Ok(Self { date, time, station, columns }),
            _ => Err(problems),
        }
    }
}

/// What the rows of a table hold, each with its line.
#[derive(Default)]
struct Rows {
    hours: Vec<(u64, RawHour)>,
    days: Vec<(u64, RawDay)>,
    problems: Problems,
}

impl Rows {
    fn take(
        &mut self,
        line: u64,
        cells: &csv::StringRecord,
        found: &Found<'_>,
        mapping: &Mapping,
        tz: &TimeZone,
    ) {
        let cell = |at: usize| cells.get(at).unwrap_or_default();
        let mut values = Vec::with_capacity(found.columns.len());
        for (at, column, unit) in &found.columns {
            let metric = if mapping.hourly { unit.hour } else { unit.day };
            match mapping.number(cell(*at), column.quantity) {
                Ok(value) => values.push((column.quantity, value.map(metric))),
                Err(message) => self.problems.push(Problem::cell(line, &column.header, message)),
            }
        }
        let refuse = |message| Problem::cell(line, &mapping.date_column, message);
        if mapping.hourly {
            match hour_start(cell(found.date), found.time.map(cell), mapping, tz) {
                Ok((start, local_date)) => {
                    let mut hour = RawHour::new(start, local_date);
                    for (variable, value) in values.iter().filter_map(|(q, v)| Some((q.of_hour()?, *v))) {
                        hour.set(variable, value);
                    }
                    self.hours.push((line, hour));
                }
                Err(message) => self.problems.push(refuse(message)),
            }
        } else if let Some(date) = when::date(cell(found.date), mapping.date_order) {
            let mut day = RawDay::new(date);
            for (variable, value) in values.iter().filter_map(|(q, v)| Some((q.of_day()?, *v))) {
                day.set(variable, value);
            }
            self.days.push((line, day));
        } else {
            let message = format!("\"{}\" is not a date in the order you said", cell(found.date));
            self.problems.push(refuse(message));
        }
    }
}

pub(super) fn read(
    text: &str,
    mapping: &Mapping,
    station: &Station,
    tz: &TimeZone,
) -> Result<WeatherFile, Vec<Problem>> {
    let grid = Grid::cut(text)?;
    let found = Found::of(&grid, mapping)?;
    let mut rows = Rows::default();
    for (line, cells) in &grid.rows {
        let of_station = |(at, id): (usize, &str)| cells.get(at).unwrap_or_default() == id;
        if !found.station.is_none_or(of_station) {
            continue;
        }
        if cells.len() < grid.headers.len() {
            let message = format!("has {} cells, the header {}", cells.len(), grid.headers.len());
            rows.problems.push(Problem::line(*line, message));
            continue;
        }
        rows.take(*line, cells, &found, mapping, tz);
    }
    let Rows { mut hours, days, mut problems } = rows;
    if problems.is_empty() && hours.is_empty() && days.is_empty() {
        problems.push(Problem::file("no row is of the station you said"));
    }
    if !problems.is_empty() {
        return Err(problems.told());
    }
    let columns = found.columns.iter();
    let described = columns.map(|(_, c, u)| Column { header: c.header.clone(), unit: u.label }).collect();
    if !mapping.hourly {
        return of_days(FileKind::Mapped, None, days, described, Vec::new());
    }
    let notes = super::order_note(hours.iter().map(|(_, h)| h.start));
    hours.sort_by_key(|(_, h)| h.start);
    let doubled = doubled(&hours);
    if !doubled.is_empty() {
        return Err(doubled.told());
    }
    let hours = hours.into_iter().map(|(_, h)| h).collect();
    Ok(of_hours(FileKind::Mapped, None, hours, described, notes, station))
}

/// Hours in order that stand twice.
fn doubled(hours: &[(u64, RawHour)]) -> Problems {
    let pairs = hours.windows(2).filter_map(|pair| match pair {
        [(a, first), (b, second)] if first.start == second.start => Some((*a.min(b), *a.max(b))),
        _ => None,
    });
    let told = |(first, second)| {
        let message = format!(
            "is the same hour as line {first}; with a clock that is never changed, say so, or say which station is meant"
        );
        Problem::line(second, message)
    };
    let mut problems = Problems::default();
    problems.extend(pairs.map(told));
    problems
}

/// The instant at which an hour begins, and its local day.
fn hour_start(
    date: &str,
    time: Option<&str>,
    mapping: &Mapping,
    tz: &TimeZone,
) -> Result<(jiff::Timestamp, jiff::civil::Date), String> {
    let written = || format!("{date} {}", time.unwrap_or_default()).trim().to_owned();
    let stamp = when::stamp(date, time, mapping.date_order)
        .ok_or_else(|| format!("\"{}\" is not a date and time in the order you said", written()))?;
    let fixed = |minutes: i16| Offset::from_seconds(i32::from(minutes) * 60).ok();
    let marked = match (mapping.clock, stamp.offset) {
        (Clock::InText, Some(offset)) => offset.to_timestamp(stamp.local).ok(),
        (Clock::InText, None) => {
            return Err(format!("\"{}\" carries no offset; say which clock the stamps follow", written()));
        }
        (Clock::Fixed(minutes), _) => fixed(minutes).and_then(|o| o.to_timestamp(stamp.local).ok()),
        (Clock::Site, _) => tz.to_timestamp(stamp.local).ok(),
    }
    .ok_or_else(|| format!("\"{}\" is out of range", written()))?;
    let start = match mapping.stamp {
        Stamp::Start => marked,
        Stamp::End => marked - SignedDuration::from_hours(1),
    };
    // A day is a day of the clock that was read, so that a fixed clock keeps 24 hours a day.
    let local = match (mapping.clock, stamp.offset) {
        (Clock::Fixed(minutes), _) => fixed(minutes).map(|o| o.to_datetime(start).date()),
        (Clock::InText, Some(offset)) => Some(offset.to_datetime(start).date()),
        _ => None,
    };
    Ok((start, local.unwrap_or_else(|| start.to_zoned(tz.clone()).date())))
}

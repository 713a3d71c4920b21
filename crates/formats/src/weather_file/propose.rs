//! What a strange table seems to hold, from the names of its columns and from their values, and what
//! is not certain about it.

use super::grid::Grid;
use super::mapping::{Clock, MappedColumn, Mapping, Quantity, Stamp, units_of};
use super::when;
use super::when::DateOrder;
use crate::table::Problem;
use jiff::tz::TimeZone;

/// Rows shown beside the questions.
pub const SAMPLE_ROWS: usize = 5;

/// Something that is not certain.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Doubt {
    /// The column it is about, or the field of the mapping.
    pub at: String,
    /// What was seen and what was taken for it.
    pub message: String,
}

impl Doubt {
    fn new(at: &str, message: impl Into<String>) -> Self {
        Self { at: at.to_owned(), message: message.into() }
    }
}

/// A table with what it seems to hold.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposal {
    /// Key under which its mapping is remembered.
    pub key: String,
    /// Headers.
    pub headers: Vec<String>,
    /// First rows.
    pub sample: Vec<Vec<String>>,
    /// Rows in the table.
    pub rows: usize,
    /// What it seems to hold.
    pub mapping: Mapping,
    /// What is not certain.
    pub doubts: Vec<Doubt>,
    /// Stations, by a column that names them, when there are several.
    pub stations: Vec<String>,
}

/// Texts that many services write where nothing was measured.
const SENTINELS: [&str; 14] =
    ["M", "NA", "N/A", "NaN", "null", "-", "--", "---", "-9999", "-9900", "-999", "-99.9", "999.9", "9999"];

/// Numeric sentinels: values that no weather reaches.
fn is_sentinel(cell: &str) -> bool {
    if SENTINELS.contains(&cell) {
        return true;
    }
    cell.parse::<f64>().is_ok_and(|v| {
        [-9999.0, -9900.0, -999.0, -999.9, -99.9, -99.99, 999.9, 9999.0, 9999.9, 99_999.0]
            .iter()
            .any(|s| (v - s).abs() < 1e-9)
    })
}

/// The columns of a table that tell when a row was measured.
#[derive(Clone, Copy)]
struct WhenColumns {
    date: usize,
    time: Option<usize>,
    order: DateOrder,
}

/// Looks at a table.
///
/// # Errors
/// A text without header or rows, or without a column of dates.
pub fn propose(text: &str, tz: &TimeZone) -> Result<Proposal, Vec<Problem>> {
    let grid = Grid::cut(text)?;
    let mut doubts = Vec::new();
    let Some(date) = date_column(&grid) else {
        return Err(vec![Problem::line(
            grid.header_line,
            "no column has dates; a table needs one such as 2026-07-14, 14.07.2026 or 07/14/2026",
        )]);
    };
    let order = order_of(&grid, date, &mut doubts);
    let at = WhenColumns { date, time: time_column(&grid, date), order };
    let in_one = grid.column(date).take(50).all(|c| when::stamp(c, None, order).is_some());
    let hourly = at.time.is_some() || in_one;
    let (stamp, clock) =
        if hourly { stamps_of(&grid, at, tz, &mut doubts) } else { (Stamp::Start, Clock::Site) };
    let Columns { columns, missing, decimal_comma } = columns_of(&grid, at, hourly, &mut doubts);
    let (station, stations) = stations_in(&grid);
    if stations.len() > 1 {
        let message = format!("the file has {} stations; choose the one that is meant.", stations.len());
        doubts.push(Doubt::new("station", message));
    }
    if decimal_comma {
        doubts.push(Doubt::new("decimal_comma", "numbers are written with a decimal comma."));
    }
    Ok(Proposal {
        key: grid.key(),
        sample: grid
            .rows
            .iter()
            .take(SAMPLE_ROWS)
            .map(|(_, cells)| cells.iter().map(str::to_owned).collect())
            .collect(),
        rows: grid.rows.len(),
        mapping: Mapping {
            hourly,
            date_column: grid.headers.get(date).cloned().unwrap_or_default(),
            time_column: at.time.and_then(|i| grid.headers.get(i).cloned()),
            date_order: order,
            stamp,
            clock,
            decimal_comma,
            missing,
            station: station.zip(stations.first().cloned()).filter(|_| stations.len() > 1),
            columns,
        },
        headers: grid.headers,
        doubts,
        stations,
    })
}

/// The order of day, month and year in a column of dates.
fn order_of(grid: &Grid, date: usize, doubts: &mut Vec<Doubt>) -> DateOrder {
    let order = date_order(grid, date);
    if order.len() > 1 {
        let example = grid.column(date).next().unwrap_or_default();
        let message =
            format!("{example} can be read day first or month first; no row decides it. Taken: day first.");
        doubts.push(Doubt::new("date_order", message));
    }
    order.first().copied().unwrap_or(DateOrder::YearFirst)
}

/// The column of times of day beside a column of dates.
fn time_column(grid: &Grid, date: usize) -> Option<usize> {
    (0..grid.headers.len()).find(|i| {
        let name = grid.headers.get(*i).map(|h| h.to_lowercase()).unwrap_or_default();
        *i != date
            && (name.contains("time") || name.starts_with("hour") || name == "hr" || name.contains("hh:mm"))
            && grid.column(*i).take(50).all(|c| when::clock(c).is_some())
    })
}

/// What the stamps of an hourly table mark, and which clock they follow.
fn stamps_of(grid: &Grid, at: WhenColumns, tz: &TimeZone, doubts: &mut Vec<Doubt>) -> (Stamp, Clock) {
    let read = |cells: &csv::StringRecord| {
        let time = match at.time {
            Some(time) => Some(cells.get(time)?),
            None => None,
        };
        when::stamp(cells.get(at.date)?, time, at.order)
    };
    let stamps: Vec<when::Stamp> = grid.rows.iter().filter_map(|(_, cells)| read(cells)).collect();
    let says_24 = grid
        .column(at.time.unwrap_or(at.date))
        .any(|c| c.starts_with("24") || c.contains(" 24") || c.contains("T24"));
    let stamp = if says_24 {
        let message = "the hours run to 24:00, so a stamp marks the end of its hour.";
        doubts.push(Doubt::new("stamp", message));
        Stamp::End
    } else {
        let message = "nothing says whether a stamp marks the start or the end of its hour. Taken: the start; sun in the dark would show otherwise.";
        doubts.push(Doubt::new("stamp", message));
        Stamp::Start
    };
    if stamps.iter().any(|s| s.offset.is_some()) {
        return (stamp, Clock::InText);
    }
    let changes = stamps.windows(2).filter(|w| matches!(w, [a, b] if a.local == b.local)).count();
    let standard = standard_minutes(tz);
    // A file that has every hour of a spring change follows a clock that is never changed.
    if changes == 0 && has_skipped_hour(&stamps, tz) {
        let message = format!(
            "the stamps carry no offset; they have the hour that the spring change skips, so the clock is never changed. Taken: standard time of the site ({}).",
            offset_words(standard)
        );
        doubts.push(Doubt::new("clock", message));
        return (stamp, Clock::Fixed(standard));
    }
    let message = "the stamps carry no offset. Taken: the wall clock of the site; choose standard time when the clock is never changed.";
    doubts.push(Doubt::new("clock", message));
    (stamp, Clock::Site)
}

/// What the columns of a table hold.
struct Columns {
    columns: Vec<MappedColumn>,
    /// Texts that stand for "not measured".
    missing: Vec<String>,
    decimal_comma: bool,
}

fn columns_of(grid: &Grid, at: WhenColumns, hourly: bool, doubts: &mut Vec<Doubt>) -> Columns {
    let mut found = Columns { columns: Vec::new(), missing: Vec::new(), decimal_comma: false };
    let plain = |c: &str| c.replace(',', ".").parse::<f64>().ok();
    let others = grid.headers.iter().enumerate().filter(|(i, _)| *i != at.date && Some(*i) != at.time);
    for (index, header) in others {
        let Some(quantity) = quantity_of(header, hourly) else { continue };
        let cells: Vec<&str> = grid.column(index).collect();
        let numbers: Vec<f64> = cells.iter().filter(|c| !is_sentinel(c)).filter_map(|c| plain(c)).collect();
        if numbers.is_empty() || found.columns.iter().any(|c| c.quantity == quantity) {
            continue;
        }
        found.decimal_comma |= cells.iter().any(|c| c.contains(',') && plain(c).is_some());
        for cell in cells.into_iter().filter(|c| is_sentinel(c)) {
            if !found.missing.iter().any(|m| m == cell) {
                found.missing.push(cell.to_owned());
                doubts.push(Doubt::new(header, format!("{cell} means \"not measured\".")));
            }
        }
        let (unit, said) = unit_of(header, quantity);
        let (unit, message) = by_values(quantity, unit, said, &numbers, hourly);
        doubts.extend(message.map(|message| Doubt::new(header, message)));
        found.columns.push(MappedColumn { header: header.clone(), quantity, unit: unit.to_owned() });
    }
    found
}

/// Minutes east of UTC that the site's clock has when it is not summer: the least of the year.
fn standard_minutes(tz: &TimeZone) -> i16 {
    let at = |month| {
        let local = jiff::civil::date(2025, month, 15).at(12, 0, 0, 0);
        tz.to_timestamp(local).map_or(0, |t| tz.to_offset(t).seconds() / 60)
    };
    i16::try_from(at(1).min(at(7))).unwrap_or(0)
}

/// An offset in words.
fn offset_words(minutes: i16) -> String {
    format!("UTC{}{:02}:{:02}", if minutes < 0 { '-' } else { '+' }, minutes.abs() / 60, minutes.abs() % 60)
}

/// Whether the stamps have an hour that the site's wall clock never shows.
fn has_skipped_hour(stamps: &[when::Stamp], tz: &TimeZone) -> bool {
    stamps.iter().any(|s| tz.to_ambiguous_timestamp(s.local).offset().is_gap())
}

trait Gap {
    fn is_gap(&self) -> bool;
}

impl Gap for jiff::tz::AmbiguousOffset {
    fn is_gap(&self) -> bool {
        matches!(self, Self::Gap { .. })
    }
}

fn date_column(grid: &Grid) -> Option<usize> {
    let holds = |i: usize| {
        let mut cells = grid.column(i).take(50).peekable();
        cells.peek().is_some()
            && cells.all(|c| {
                let day = c.split(['T', ' ']).next().unwrap_or(c);
                let shaped = day.len() >= 6 && (day.len() == 8 || day.contains(['-', '/', '.']));
                shaped
                    && [DateOrder::YearFirst, DateOrder::DayFirst, DateOrder::MonthFirst]
                        .iter()
                        .any(|o| when::date(day, *o).is_some())
            })
    };
    let named = (0..grid.headers.len()).find(|i| {
        let name = grid.headers.get(*i).map(|h| h.to_lowercase()).unwrap_or_default();
        (name.contains("date") || name.contains("time") || name.contains("day")) && holds(*i)
    });
    named.or_else(|| (0..grid.headers.len()).find(|i| holds(*i)))
}

/// Orders that every date of the column fits; the likelier first.
fn date_order(grid: &Grid, at: usize) -> Vec<DateOrder> {
    let fits = |order: DateOrder| {
        grid.column(at).all(|c| {
            let day = c.split(['T', ' ']).next().unwrap_or(c);
            // A year of four digits stands where the order says.
            let groups: Vec<&str> = day.split(|c: char| !c.is_ascii_digit()).collect();
            let year_first = groups.first().is_some_and(|g| g.len() >= 4);
            year_first == (order == DateOrder::YearFirst) && when::date(day, order).is_some()
        })
    };
    [DateOrder::YearFirst, DateOrder::DayFirst, DateOrder::MonthFirst]
        .into_iter()
        .filter(|o| fits(*o))
        .collect()
}

/// What a header names.
fn quantity_of(header: &str, hourly: bool) -> Option<Quantity> {
    let name = header.to_lowercase();
    let bare: String = name.chars().map(|c| if c.is_alphanumeric() { c } else { ' ' }).collect();
    let words: Vec<&str> = bare.split_whitespace().collect();
    let has = |w: &str| words.contains(&w);
    let any = |all: &[&str]| all.iter().any(|w| name.contains(w));
    if any(&["source", "uncert", "flag", "quality", "attributes", "direction", "gust", "soil", "level"]) {
        return None;
    }
    let low = has("min")
        || has("minimum")
        || has("low")
        || has("lowest")
        || has("tmin")
        || has("tn")
        || any(&["_min", "min_", "tmin", "rhmin"]);
    let high = has("max")
        || has("maximum")
        || has("high")
        || has("highest")
        || has("tmax")
        || has("tx")
        || any(&["_max", "max_", "tmax", "rhmax"]);
    if any(&["dew"]) {
        return Some(Quantity::DewPoint);
    }
    if any(&["humid", "rhum", "rh_", "rh "]) || has("rh") || has("rhmin") || has("rhmax") {
        return match (hourly, low, high) {
            (true, ..) => Some(Quantity::Rh),
            (false, true, _) => Some(Quantity::RhMin),
            (false, _, true) => Some(Quantity::RhMax),
            _ => None,
        };
    }
    if any(&["vapo", "vapour"]) {
        return (!hourly).then_some(Quantity::Vapour);
    }
    if any(&["precip", "rain", "prcp", "ppt"]) || has("precipitation") {
        // A depth, not how long it fell.
        return (!any(&["quantity", "hours", "duration"])).then_some(Quantity::Rain);
    }
    if any(&["ghi", "solar", "global rad", "radiation", "shortwave"]) || has("srad") || has("rs") {
        return (!any(&["etr", "direct", "diffuse", "dni", "dhi", "illum"])).then_some(Quantity::Solar);
    }
    if any(&["wspd", "wind"]) || has("u2") || has("ws") {
        return (!any(&["dir"])).then_some(Quantity::Wind);
    }
    if any(&["temp", "dry-bulb", "dry bulb", "tmin", "tmax", "tair"]) || has("t") || has("tn") || has("tx") {
        return match (hourly, low, high) {
            (true, ..) => Some(Quantity::Temperature),
            (false, true, _) => Some(Quantity::Tmin),
            (false, _, true) => Some(Quantity::Tmax),
            _ => None,
        };
    }
    None
}

/// Unit that a header says, and whether it says one.
// Long: a table of spellings.
fn unit_of(header: &str, quantity: Quantity) -> (&'static str, bool) {
    let name = header.to_lowercase().replace('°', "");
    let tail: String =
        name.chars().map(|c| if c.is_alphanumeric() || "/%^²".contains(c) { c } else { ' ' }).collect();
    let words: Vec<&str> = tail.split_whitespace().collect();
    let has = |all: &[&str]| all.iter().any(|w| words.contains(w));
    let tenths = name.contains("tenth");
    let found = match quantity {
        Quantity::Tmin | Quantity::Tmax | Quantity::Temperature | Quantity::DewPoint => {
            if tenths {
                Some("tenths_c")
            } else if has(&["f", "fahrenheit", "degf"]) {
                Some("f")
            } else if has(&["c", "celsius", "degc"]) {
                Some("c")
            } else if has(&["k", "kelvin"]) {
                Some("k")
            } else {
                None
            }
        }
        Quantity::RhMin | Quantity::RhMax | Quantity::Rh => has(&["%", "pct", "percent"]).then_some("pct"),
        Quantity::Vapour => {
            if has(&["hpa", "mbar"]) {
                Some("hpa")
            } else {
                has(&["kpa"]).then_some("kpa")
            }
        }
        Quantity::Solar => {
            if name.contains("wh/m") {
                Some("wh_m2")
            } else if name.contains("w/m") || has(&["w"]) {
                Some("w_m2")
            } else if name.contains("mj") {
                Some("mj_m2")
            } else if name.contains("kj") {
                Some("kj_m2")
            } else if name.contains("langley") || has(&["ly"]) {
                Some("langley")
            } else {
                None
            }
        }
        Quantity::Wind => {
            if name.contains("km/h") || has(&["kmh", "kph"]) {
                Some("km_h")
            } else if has(&["mph"]) {
                Some("mph")
            } else if has(&["kn", "kt", "kts", "knots"]) {
                Some("kn")
            } else if name.contains("m/s") || has(&["ms", "mps"]) {
                Some("m_s")
            } else {
                None
            }
        }
        Quantity::Rain => {
            if tenths {
                Some("tenths_mm")
            } else if has(&["in", "inch", "inches"]) {
                Some("in")
            } else if has(&["mm"]) {
                Some("mm")
            } else {
                None
            }
        }
    };
    let metric = units_of(quantity).first().map_or("", |u| u.code);
    (found.unwrap_or(metric), found.is_some())
}

/// What the values say about a unit: contradicts the header, or decides where it is silent.
fn by_values(
    quantity: Quantity,
    unit: &'static str,
    said: bool,
    numbers: &[f64],
    hourly: bool,
) -> (&'static str, Option<String>) {
    let most = numbers.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let whole = numbers.iter().all(|v| v.fract() == 0.0);
    let guess: Option<(&'static str, String)> = match quantity {
        Quantity::Tmin | Quantity::Tmax | Quantity::Temperature | Quantity::DewPoint => match unit {
            "c" if most > 150.0 && whole => {
                Some(("tenths_c", format!("values up to {most} look like tenths of a degree")))
            }
            "c" if most > 200.0 => Some(("k", format!("values up to {most} look like kelvin"))),
            "c" if most > 58.0 => Some(("f", format!("values up to {most} look like Fahrenheit"))),
            _ => None,
        },
        Quantity::RhMin | Quantity::RhMax | Quantity::Rh if most <= 1.0 => {
            Some(("fraction", format!("values up to {most} look like fractions")))
        }
        Quantity::Vapour if unit == "kpa" && most > 7.5 => {
            Some(("hpa", format!("values up to {most} look like hPa")))
        }
        Quantity::Solar if unit == "mj_m2" && most > if hourly { 6.0 } else { 50.0 } => {
            Some(("w_m2", format!("values up to {most} are beyond the sun in MJ/m²; taken: W/m²")))
        }
        Quantity::Rain if unit == "mm" && whole && most > 300.0 => {
            Some(("tenths_mm", format!("whole numbers up to {most} look like tenths of a millimetre")))
        }
        _ => None,
    };
    let label = |code: &str| units_of(quantity).into_iter().find(|u| u.code == code).map_or("", |u| u.label);
    match guess {
        Some((other, why)) if said => {
            (other, Some(format!("the header says {}, but {why}. Taken: {}.", label(unit), label(other))))
        }
        Some((other, why)) => {
            (other, Some(format!("the header names no unit; {why}. Taken: {}.", label(other))))
        }
        None if !said => (unit, Some(format!("the header names no unit. Taken: {}.", label(unit)))),
        None => (unit, None),
    }
}

fn stations_in(grid: &Grid) -> (Option<String>, Vec<String>) {
    let at = grid.headers.iter().position(|h| {
        let name = h.to_lowercase();
        name == "station"
            || name == "id"
            || name.contains("station_id")
            || name.contains("station id")
            || name == "site"
    });
    let Some(at) = at else { return (None, Vec::new()) };
    let names: std::collections::BTreeSet<String> = grid.column(at).map(str::to_owned).collect();
    (grid.headers.get(at).cloned(), names.into_iter().collect())
}

//! EPW: eight header lines, then an hour a line, stamped at its end in standard time (public
//! description of the format by the US Department of Energy; columns from memory). A typical year
//! carries months of several years.

use super::{FileKind, FilePlace, WeatherFile, of_hours};
use crate::table::{Column, Problem, Problems, is_recent};
use jiff::SignedDuration;
use jiff::civil::Date;
use jiff::tz::Offset;
use upland_core::quantity::bounds::{self, Bound};
use upland_core::quantity::units::MJ_M2_PER_W_M2_HOUR;
use upland_core::weather::Station;
use upland_core::weather::record::{HourVariable, RawHour};

const HEADER_LINES: usize = 8;
/// Column, what it holds, the value from which it says "missing", factor to metric.
const COLUMNS: [(usize, HourVariable, f64, f64, &str, &str); 6] = [
    (6, HourVariable::Temperature, 99.9, 1.0, "dry bulb", "°C"),
    (7, HourVariable::DewPoint, 99.9, 1.0, "dew point", "°C"),
    (8, HourVariable::Humidity, 999.0, 1.0, "relative humidity", "%"),
    (13, HourVariable::Solar, 9999.0, MJ_M2_PER_W_M2_HOUR, "global horizontal radiation", "Wh/m²"),
    (21, HourVariable::Wind, 999.0, 1.0, "wind speed", "m/s"),
    (33, HourVariable::Rain, 999.0, 1.0, "liquid precipitation depth", "mm"),
];

/// The place and the standard time of a LOCATION line.
fn location(cells: &csv::StringRecord) -> Result<(FilePlace, Offset), Problem> {
    let number = |i: usize, bound: &Bound| {
        let value = cells.get(i).and_then(|c| c.trim().parse::<f64>().ok());
        value.filter(|value| bound.check(*value).is_ok())
    };
    let (Some(latitude_deg), Some(longitude_deg), Some(zone), Some(elevation_m)) = (
        number(6, &bounds::LATITUDE),
        number(7, &bounds::LONGITUDE),
        cells.get(8).and_then(|c| c.trim().parse::<f64>().ok()),
        number(9, &bounds::ELEVATION),
    ) else {
        return Err(Problem::line(
            1,
            "LOCATION must carry latitude, longitude, time zone and elevation of a place on land",
        ));
    };
    #[allow(clippy::cast_possible_truncation, reason = "checked by the constructor")]
    let offset = Offset::from_seconds((zone * 3600.0).round() as i32);
    let offset = offset.map_err(|_| Problem::line(1, format!("time zone {zone} is no offset in hours")))?;
    let name = cells.get(1).unwrap_or_default().trim().to_owned();
    Ok((FilePlace { name, latitude_deg, longitude_deg, elevation_m }, offset))
}

/// The hour of a line.
fn hour(record: &csv::StringRecord, offset: Offset) -> Result<RawHour, Vec<Problem>> {
    let line = record.position().map_or(0, csv::Position::line);
    let whole = |i: usize| record.get(i).and_then(|c| c.trim().parse::<i16>().ok());
    let small = |i| whole(i).and_then(|v| i8::try_from(v).ok());
    let stamp = || {
        let date = Date::new(whole(0)?, small(1)?, small(2)?).ok().filter(|date| is_recent(*date))?;
        let ends = small(3).filter(|h| (1..=24).contains(h))?;
        let midnight = offset.to_timestamp(date.at(0, 0, 0, 0)).ok()?;
        Some((date, midnight + SignedDuration::from_hours(i64::from(ends) - 1)))
    };
    let Some((date, start)) = stamp() else {
        return Err(vec![Problem::line(
            line,
            "does not begin with year (1800 to 2200), month, day and an hour of 1 to 24",
        )]);
    };
    let mut hour = RawHour::new(start, date);
    let mut problems = Vec::new();
    for (index, variable, missing, factor, name, _) in COLUMNS {
        // Rain is not in every file.
        let Some(cell) = record.get(index).map(str::trim).filter(|c| !c.is_empty()) else { continue };
        match cell.parse::<f64>() {
            Ok(value) if value < missing => hour.set(variable, Some(value * factor)),
            Ok(_) => {}
            Err(_) => problems.push(Problem::cell(line, name, format!("\"{cell}\" is not a number"))),
        }
    }
    if problems.is_empty() { Ok(hour) } else { Err(problems) }
}

pub(super) fn read(text: &str, station: &Station) -> Result<WeatherFile, Vec<Problem>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(text.as_bytes());
    let mut records = reader.records();
    let ended = |line: usize| vec![Problem::line(line as u64, "the file ends in its header")];
    let Some(Ok(first)) = records.next() else { return Err(ended(1)) };
    let (place, offset) = location(&first).map_err(|problem| vec![problem])?;
    for line in 2..=HEADER_LINES {
        let Some(Ok(_)) = records.next() else { return Err(ended(line)) };
    }
    let (mut hours, mut problems) = (Vec::new(), Problems::default());
    for record in records {
        match record {
            Ok(record) => match hour(&record, offset) {
                Ok(hour) => hours.push(hour),
                Err(told) => problems.extend(told),
            },
            Err(error) => problems.push(Problem::file(format!("cannot be read as CSV: {error}"))),
        }
    }
    if hours.is_empty() && problems.is_empty() {
        problems.push(Problem::file("the file has a header but no hours"));
    }
    if !problems.is_empty() {
        return Err(problems.told());
    }
    let columns = COLUMNS
        .iter()
        .filter(|(_, variable, ..)| hours.iter().any(|h| h.get(*variable).is_some()))
        .map(|(_, _, _, _, name, unit)| Column { header: (*name).to_owned(), unit })
        .collect();
    let notes = vec![Problem::file(format!(
        "stamps at the end of the hour, standard time (UTC{offset}); each hour is kept by its start"
    ))];
    Ok(of_hours(FileKind::Epw, Some(place), hours, columns, notes, station))
}

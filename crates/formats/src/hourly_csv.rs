//! Hourly weather as CSV: `time` in ISO 8601 with offset, stamped at the START of the hour.

use crate::table::{Known, Problem, Problems, Row, Table, same};
use jiff::Timestamp;
use jiff::fmt::temporal::Pieces;
use upland_core::quantity::units::{
    Celsius, MJ_M2_PER_W_M2_HOUR, MegajoulesPerSquareMetre, MetresPerSecond, Millimetres,
};
use upland_core::weather::quality::{self, Input};
use upland_core::weather::reference_et::HourlyEt;
use upland_core::weather::{HourHumidity, HourWeather};

#[derive(Debug, Clone, Copy, PartialEq)]
enum Field {
    Temperature,
    Humidity,
    DewPoint,
    Solar,
    Wind,
    Rain,
}

static KNOWN: [Known<Field>; 10] = [
    Known { header: "temp_c", field: Field::Temperature, to_metric: same, unit: "°C" },
    Known { header: "temp_f", field: Field::Temperature, to_metric: |f| Celsius::from_f(f).c(), unit: "°F" },
    Known { header: "rh_pct", field: Field::Humidity, to_metric: same, unit: "%" },
    Known { header: "dew_point_c", field: Field::DewPoint, to_metric: same, unit: "°C" },
    Known {
        header: "dew_point_f",
        field: Field::DewPoint,
        to_metric: |f| Celsius::from_f(f).c(),
        unit: "°F",
    },
    Known {
        header: "solar_w_m2", field: Field::Solar, to_metric: |w| w * MJ_M2_PER_W_M2_HOUR, unit: "W/m²"
    },
    Known { header: "wind_m_s", field: Field::Wind, to_metric: same, unit: "m/s" },
    Known {
        header: "wind_mph",
        field: Field::Wind,
        to_metric: |v| MetresPerSecond::from_mph(v).m_per_s(),
        unit: "mph",
    },
    Known { header: "rain_mm", field: Field::Rain, to_metric: same, unit: "mm" },
    Known {
        header: "rain_in",
        field: Field::Rain,
        to_metric: |v| Millimetres::from_inches(v).mm(),
        unit: "in",
    },
];

/// An hourly file, read: each hour with its time as written.
#[derive(Debug, Clone, PartialEq)]
pub struct HourlyFile {
    /// The hours in order, each with the text of its `time` cell.
    pub hours: Vec<(String, HourWeather)>,
    /// What is doubtful but was taken.
    pub notes: Vec<Problem>,
}

/// Reads an hourly file.
///
/// # Errors
/// Every problem that was found, by line: no offset, hours that overlap or run backward, missing
/// or impossible values. Nothing is returned of a file with a problem.
pub fn read(bytes: &[u8]) -> Result<HourlyFile, Vec<Problem>> {
    let table = Table::open(bytes, "time", &KNOWN)?;
    let mut problems = table.problems.clone();
    for (field, name) in
        [(Field::Temperature, "temp_c"), (Field::Solar, "solar_w_m2"), (Field::Wind, "wind_m_s")]
    {
        if !table.has(field) {
            problems.push(Problem::line(1, format!("has no column {name}; hourly ET0 needs it")));
        }
    }
    if !table.has(Field::Humidity) && !table.has(Field::DewPoint) {
        problems.push(Problem::line(1, "has neither rh_pct nor dew_point_c; hourly ET0 needs one of them"));
    }
    if problems.len() > table.problems.len() {
        return Err(problems.told());
    }
    let notes = table.notes();
    let mut hours: Vec<(String, HourWeather)> = Vec::with_capacity(table.rows.len());
    for row in &table.rows {
        let Some(hour) = hour_of(&table, row, &mut problems) else { continue };
        for flag in quality::check_hour(&hour) {
            let header = table.header(field_of(flag.input), &KNOWN);
            problems.push(Problem::cell(row.line, header, flag.message));
        }
        let text = row.cell(table.key);
        if let Some((previous_text, previous)) = hours.last() {
            let step = hour.start.duration_since(previous.start).as_secs();
            if step < 3600 {
                let what = if step == 0 { "is the same hour as" } else { "begins before the end of" };
                problems.push(Problem::cell(
                    row.line,
                    "time",
                    format!("{text} {what} the row above ({previous_text}); rows are whole hours in order, stamped at their start"),
                ));
            }
        }
        hours.push((text.to_owned(), hour));
    }
    if problems.is_empty() { Ok(HourlyFile { hours, notes }) } else { Err(problems.told()) }
}

/// The hour of a row; `None` when it cannot be one, and why is told.
fn hour_of(table: &Table<Field>, row: &Row, problems: &mut Problems) -> Option<HourWeather> {
    let before = problems.len();
    let time = start_of_hour(row.cell(table.key))
        .map_err(|message| problems.push(Problem::cell(row.line, "time", message)))
        .ok();
    let [temperature, rh, dew_point, solar, wind, rain] =
        table.numbers(row, |field| field as usize, problems);
    if problems.len() > before {
        return None;
    }
    let mut need = |value: Option<f64>, field| {
        if value.is_none() {
            let header = table.header(field, &KNOWN);
            problems.push(Problem::cell(row.line, header, "is empty; hourly ET0 needs it"));
        }
        value
    };
    let temperature = need(temperature, Field::Temperature);
    let solar = need(solar, Field::Solar);
    let wind = need(wind, Field::Wind);
    let humidity = match (dew_point, rh) {
        (Some(t), _) => Some(HourHumidity::DewPoint(Celsius::from_c(t))),
        (None, Some(pct)) => Some(HourHumidity::RelativePct(pct)),
        (None, None) => {
            need(None, if table.has(Field::Humidity) { Field::Humidity } else { Field::DewPoint });
            None
        }
    };
    let (start, local_date) = time?;
    Some(HourWeather {
        start,
        local_date,
        temperature: Celsius::from_c(temperature?),
        humidity: humidity?,
        solar: MegajoulesPerSquareMetre::from_mj_per_m2(solar?),
        wind: MetresPerSecond::from_m_per_s(wind?),
        rain: rain.map(Millimetres::from_mm),
    })
}

fn start_of_hour(text: &str) -> Result<(Timestamp, jiff::civil::Date), String> {
    let refused = || format!("\"{text}\" is not a time with offset, such as 2026-07-14T13:00:00+02:00");
    let pieces = Pieces::parse(text).map_err(|_| refused())?;
    let (Some(time), Some(offset)) = (pieces.time(), pieces.to_numeric_offset()) else {
        return Err(refused());
    };
    let local = pieces.date().to_datetime(time);
    let start = offset.to_timestamp(local).map_err(|_| refused())?;
    Ok((start, local.date()))
}

fn field_of(input: Input) -> Field {
    match input {
        Input::DewPoint => Field::DewPoint,
        Input::HumidityMin | Input::HumidityMax | Input::VapourPressure => Field::Humidity,
        Input::Solar => Field::Solar,
        Input::Wind => Field::Wind,
        Input::Rain => Field::Rain,
        Input::Temperature | Input::TemperatureMin | Input::TemperatureMax => Field::Temperature,
    }
}

/// Hourly ET0 as CSV: `time,et0_mm,method`, the time as it was written in the input.
#[must_use]
pub fn write_et(hours: &[(String, HourWeather)], et: &[HourlyEt]) -> String {
    let mut out = String::from("time,et0_mm,method\n");
    for ((time, _), et) in hours.iter().zip(et) {
        out.push_str(&format!("{time},{:.6},{}\n", et.et0.mm(), et.method.name()));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn refused(text: &str) -> String {
        read(text.as_bytes()).unwrap_err().iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
    }

    #[test]
    fn the_day_is_the_local_day() {
        let file =
            read(b"time,temp_c,rh_pct,solar_w_m2,wind_m_s\n2026-07-14T23:00:00-08:00,15,80,0,1\n").unwrap();
        let hour = file.hours[0].1;
        assert_eq!(hour.local_date, jiff::civil::date(2026, 7, 14));
        assert_eq!(hour.start.to_string(), "2026-07-15T07:00:00Z");
    }

    #[test]
    fn problems_by_line() {
        insta::assert_snapshot!(refused(
            "time,temp_c,rh_pct,solar_w_m2,wind_m_s\n\
             2026-07-14T10:00:00,15,80,0,1\n\
             2026-07-14T10:00:00Z,15,80,0,1\n\
             2026-07-14T10:30:00Z,15,80,0,1\n\
             2026-07-14T11:30:00Z,,80,0,1\n\
             2026-07-14T12:30:00Z,15,180,9000,1\n"
        ));
        assert!(
            refused("time,temp_c,solar_w_m2,wind_m_s\n2026-07-14T10:00Z,1,2,3\n").contains("neither rh_pct")
        );
    }
}

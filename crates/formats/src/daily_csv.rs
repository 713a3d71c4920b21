//! Daily weather as CSV: `date,tmin_c,tmax_c` and what else was measured, in metric or US
//! customary columns. Written back in metric.

use crate::table::{Column, Known, Problem, Problems, Row, Table, date, same};
use jiff::civil::Date;
use upland_core::quantity::units::{
    Celsius, Kilopascals, MJ_M2_PER_W_M2_DAY, MegajoulesPerSquareMetre, MetresPerSecond, Millimetres,
};
use upland_core::weather::quality::{self, FlagSeverity};
use upland_core::weather::{DayWeather, Station};

#[derive(Debug, Clone, Copy, PartialEq)]
enum Field {
    Min,
    Max,
    DewPoint,
    HumidityMin,
    HumidityMax,
    Vapour,
    Solar,
    Wind,
    Rain,
}

const fn known(
    header: &'static str,
    field: Field,
    to_metric: fn(f64) -> f64,
    unit: &'static str,
) -> Known<Field> {
    Known { header, field, to_metric, unit }
}

fn fahrenheit(f: f64) -> f64 {
    Celsius::from_f(f).c()
}

static KNOWN: [Known<Field>; 20] = [
    known("tmin_c", Field::Min, same, "°C"),
    known("tmin_f", Field::Min, fahrenheit, "°F"),
    known("tmax_c", Field::Max, same, "°C"),
    known("tmax_f", Field::Max, fahrenheit, "°F"),
    known("dew_point_c", Field::DewPoint, same, "°C"),
    known("dew_point_f", Field::DewPoint, fahrenheit, "°F"),
    known("rh_min_pct", Field::HumidityMin, same, "%"),
    known("rh_max_pct", Field::HumidityMax, same, "%"),
    known("vapour_pressure_kpa", Field::Vapour, same, "kPa"),
    known("vapor_pressure_kpa", Field::Vapour, same, "kPa"),
    known("solar_mj_m2", Field::Solar, same, "MJ/m² a day"),
    known("solar_w_m2", Field::Solar, |v| v * MJ_M2_PER_W_M2_DAY, "W/m², mean of the day"),
    known(
        "solar_langley",
        Field::Solar,
        |v| MegajoulesPerSquareMetre::from_langleys(v).mj_per_m2(),
        "langleys a day",
    ),
    known("wind_m_s", Field::Wind, same, "m/s"),
    known("wind_mph", Field::Wind, |v| MetresPerSecond::from_mph(v).m_per_s(), "mph"),
    known("wind_km_h", Field::Wind, |v| v / 3.6, "km/h"),
    known("rain_mm", Field::Rain, same, "mm"),
    known("rain_in", Field::Rain, |v| Millimetres::from_inches(v).mm(), "in"),
    known("rain_cm", Field::Rain, |v| v * 10.0, "cm"),
    known("rain_tenths_mm", Field::Rain, |v| v * 0.1, "tenths of mm"),
];

/// A daily file, read.
#[derive(Debug, Clone, PartialEq)]
pub struct DailyFile {
    /// The days, in order of date.
    pub days: Vec<DayWeather>,
    /// The columns as they were read.
    pub columns: Vec<Column>,
    /// What is doubtful but was taken: unknown columns, gaps, order, unlikely values.
    pub notes: Vec<Problem>,
}

/// Reads a daily file measured at a station.
///
/// # Errors
/// Every problem that was found: encoding, header, rows, numbers, impossible values, doubled
/// dates. Nothing is returned of a file with a problem.
pub fn read(bytes: &[u8], station: &Station) -> Result<DailyFile, Vec<Problem>> {
    read_with(bytes, station, true)
}

/// As [`read`], but a value that cannot be right is kept as it came, with a note: whoever keeps the
/// original judges it later.
///
/// # Errors
/// As [`read`], but for impossible values.
pub fn read_as_it_came(bytes: &[u8], station: &Station) -> Result<DailyFile, Vec<Problem>> {
    read_with(bytes, station, false)
}

/// What the rows of a daily table hold.
struct Rows {
    days: Vec<(u64, DayWeather)>,
    problems: Problems,
    notes: Problems,
}

impl Rows {
    /// The day of a row; `None` when it cannot be one, and why is told.
    fn day(&mut self, table: &Table<Field>, row: &Row) -> Option<DayWeather> {
        let before = self.problems.len();
        let day_date = date(row.cell(table.key))
            .map_err(|message| self.problems.push(Problem::cell(row.line, "date", message)))
            .ok();
        let [min, max, dew_point, rh_min, rh_max, vapour, solar, wind, rain] =
            table.numbers(row, |field| field as usize, &mut self.problems);
        if self.problems.len() > before {
            return None;
        }
        for (_, field) in [(min, Field::Min), (max, Field::Max)].into_iter().filter(|(v, _)| v.is_none()) {
            self.problems.push(Problem::cell(
                row.line,
                table.header(field, &KNOWN),
                "is empty; a day needs both temperatures, so give it or leave the whole row out",
            ));
        }
        Some(DayWeather {
            date: day_date?,
            temperature_min: Celsius::from_c(min?),
            temperature_max: Celsius::from_c(max?),
            dew_point: dew_point.map(Celsius::from_c),
            humidity_min_pct: rh_min,
            humidity_max_pct: rh_max,
            vapour_pressure: vapour.map(Kilopascals::from_kpa),
            solar: solar.map(MegajoulesPerSquareMetre::from_mj_per_m2),
            wind: wind.map(MetresPerSecond::from_m_per_s),
            rain: rain.map(Millimetres::from_mm),
        })
    }

    /// Tells what is wrong or doubtful about the values of a day.
    fn judge(
        &mut self,
        table: &Table<Field>,
        row: &Row,
        day: &DayWeather,
        station: &Station,
        refuse_impossible: bool,
    ) {
        for flag in quality::check_day(day, station) {
            let field = field_of(flag.input);
            let column = table.columns.iter().find(|(_, k)| k.field == field);
            let cell = column.map_or("", |(index, _)| row.cell(*index));
            let said = |end: &str| {
                let message = format!("{cell} {}{end}", flag.message);
                Problem::cell(row.line, table.header(field, &KNOWN), message)
            };
            match flag.severity {
                FlagSeverity::Fault if refuse_impossible => self.problems.push(said("")),
                FlagSeverity::Fault => self.notes.push(said("; it is kept as it came and will not count")),
                FlagSeverity::Doubt => self.notes.push(said("")),
            }
        }
    }

    /// The days by date; those that stand twice are told, and that they had to be sorted.
    fn sorted(&mut self) -> Vec<DayWeather> {
        let mut days = std::mem::take(&mut self.days);
        if !days.is_sorted_by(|(_, a), (_, b)| a.date < b.date) {
            self.notes.push(Problem::file("the days are not in order; they are sorted by date"));
        }
        days.sort_by_key(|(line, day)| (day.date, *line));
        for pair in days.windows(2) {
            if let [(first, a), (second, b)] = pair
                && a.date == b.date
            {
                let message = format!("{} is on line {first} already; keep one row a day", b.date);
                self.problems.push(Problem::cell(*second, "date", message));
            }
        }
        days.into_iter().map(|(_, day)| day).collect()
    }
}

fn read_with(bytes: &[u8], station: &Station, refuse_impossible: bool) -> Result<DailyFile, Vec<Problem>> {
    let table = Table::open(bytes, "date", &KNOWN)?;
    let mut problems = table.problems.clone();
    for (field, a, b) in [(Field::Min, "tmin_c", "tmin_f"), (Field::Max, "tmax_c", "tmax_f")] {
        if !table.has(field) {
            let message = format!("has no column {a} (or {b}); a day needs both temperatures");
            problems.push(Problem::line(1, message));
        }
    }
    if problems.len() > table.problems.len() {
        return Err(problems.told());
    }
    let mut rows = Rows { days: Vec::with_capacity(table.rows.len()), problems, notes: table.notes().into() };
    for row in &table.rows {
        if let Some(day) = rows.day(&table, row) {
            rows.judge(&table, row, &day, station, refuse_impossible);
            rows.days.push((row.line, day));
        }
    }
    let days = rows.sorted();
    let Rows { problems, mut notes, .. } = rows;
    if !problems.is_empty() {
        return Err(problems.told());
    }
    notes.extend(gaps(days.iter().map(|d| d.date)));
    Ok(DailyFile { days, columns: table.described(), notes: notes.into_found() })
}

/// One note for each run of missing days.
pub(crate) fn gaps(dates: impl Iterator<Item = Date> + Clone) -> Vec<Problem> {
    dates
        .clone()
        .zip(dates.skip(1))
        .filter_map(|(a, b)| {
            let missing = (b - a).get_days() - 1;
            (missing > 0).then(|| {
                Problem::file(format!(
                    "{missing} {} between {} and {}; expected values replace them",
                    if missing == 1 { "day is missing" } else { "days are missing" },
                    a,
                    b
                ))
            })
        })
        .collect()
}

fn field_of(input: quality::Input) -> Field {
    use quality::Input;
    match input {
        Input::TemperatureMin | Input::Temperature => Field::Min,
        Input::TemperatureMax => Field::Max,
        Input::DewPoint => Field::DewPoint,
        Input::HumidityMin => Field::HumidityMin,
        Input::HumidityMax => Field::HumidityMax,
        Input::VapourPressure => Field::Vapour,
        Input::Solar => Field::Solar,
        Input::Wind => Field::Wind,
        Input::Rain => Field::Rain,
    }
}

/// Writes days in the metric columns of this format.
#[must_use]
pub fn write<'a>(days: impl IntoIterator<Item = &'a DayWeather>) -> String {
    let mut out = String::from(
        "date,tmin_c,tmax_c,dew_point_c,rh_min_pct,rh_max_pct,vapour_pressure_kpa,solar_mj_m2,wind_m_s,rain_mm\n",
    );
    for day in days {
        let optional = |value: Option<f64>| value.map_or(String::new(), |v| v.to_string());
        let cells: [String; 10] = [
            day.date.to_string(),
            day.temperature_min.c().to_string(),
            day.temperature_max.c().to_string(),
            optional(day.dew_point.map(Celsius::c)),
            optional(day.humidity_min_pct),
            optional(day.humidity_max_pct),
            optional(day.vapour_pressure.map(Kilopascals::kpa)),
            optional(day.solar.map(MegajoulesPerSquareMetre::mj_per_m2)),
            optional(day.wind.map(MetresPerSecond::m_per_s)),
            optional(day.rain.map(Millimetres::mm)),
        ];
        out.push_str(&cells.join(","));
        out.push('\n');
    }
    out
}

/// ET0 as CSV: `date,et0_mm,method`, six decimals.
#[must_use]
pub fn write_et<'a>(rows: impl IntoIterator<Item = (Date, f64, &'a str)>) -> String {
    let mut out = String::from("date,et0_mm,method\n");
    for (date, et0_mm, method) in rows {
        out.push_str(&format!("{date},{et0_mm:.6},{method}\n"));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use upland_core::quantity::units::Metres;

    fn station() -> Station {
        Station {
            latitude_deg: 46.2,
            longitude_deg: 8.1,
            elevation: Metres::from_m(1040.0),
            wind_height: Metres::from_m(2.0),
        }
    }

    fn refused(text: &str) -> Vec<String> {
        read(text.as_bytes(), &station()).unwrap_err().iter().map(ToString::to_string).collect()
    }

    #[test]
    fn us_customary_columns_become_metric() {
        let file =
            read(b"date,tmin_f,tmax_f,rain_in,wind_mph\n2026-07-01,50,77,0.5,10\n", &station()).unwrap();
        let day = file.days[0];
        assert_eq!((day.temperature_min.c(), day.temperature_max.c()), (10.0, 25.0));
        assert!((day.rain.unwrap().mm() - 12.7).abs() < 1e-9);
        assert!((day.wind.unwrap().m_per_s() - 4.4704).abs() < 1e-9);
    }

    #[test]
    fn every_problem_is_told_by_line() {
        insta::assert_snapshot!(
            refused(
                "date,tmin_c,tmax_c,rain_mm,solar_mj_m2\n\
             2026-07-01,24,9,0,20\n\
             2026-07-02,warm,20,0,20\n\
             2026-07-03,10,20,\"1,5\",20\n\
             03.07.2026,10,20,0,20\n\
             2026-07-04,10,20,0,70\n\
             2026-07-04,10,21,0,20\n\
             2026-07-05,,21,0,20\n\
             2026-07-06,10,21,0\n"
            )
            .join("\n")
        );
    }

    #[test]
    fn files_that_are_no_table_say_what_they_are() {
        assert!(refused("")[0].contains("empty"));
        assert!(refused("date,tmin_c\n")[0].contains("no rows"));
        assert!(refused("day,tmin_c\n1,2\n")[0].contains("no column \"date\""));
        assert!(refused("date,tmin_c\n2026-01-01,1\n")[0].contains("tmax_c (or tmax_f)"));
        assert!(refused("date,tmin_c,tmin_f,tmax_c\n2026-01-01,1,34,5\n")[0].contains("says the same"));
        let read_bytes = |bytes: &[u8]| read(bytes, &station()).unwrap_err()[0].to_string();
        assert!(read_bytes(b"PK\x03\x04\x00\x00binary").contains("not a text file"));
        assert!(read_bytes(b"\xFF\xFEd\0a\0").contains("UTF-16"));
        assert!(read_bytes(b"date,tmin_c,tmax_c\n2026-01-01,1,5\n# caf\xE9\n").contains("line 3"));
    }

    #[test]
    fn fahrenheit_under_a_celsius_header_is_told_apart() {
        assert!(refused("date,tmin_c,tmax_c\n2026-07-01,61,85\n")[0].contains("Fahrenheit"));
    }

    #[test]
    fn gaps_order_and_unknown_columns_are_notes() {
        let file =
            read(b"date,tmin_c,tmax_c,mood\n2026-07-05,10,20,x\n2026-07-01,10,20,y\n", &station()).unwrap();
        let notes: Vec<_> = file.notes.iter().map(ToString::to_string).collect();
        assert_eq!(notes.len(), 3, "{notes:?}");
        assert!(notes[2].contains("3 days are missing between 2026-07-01 and 2026-07-05"));
        assert_eq!(file.days[0].date.day(), 1);
    }

    #[test]
    fn semicolons_and_tabs_are_separators_too() {
        for text in ["date;tmin_c;tmax_c\n2026-07-01;10;20\n", "date\ttmin_c\ttmax_c\n2026-07-01\t10\t20\n"] {
            assert_eq!(read(text.as_bytes(), &station()).unwrap().days.len(), 1);
        }
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_again(rows in proptest::collection::vec((0.0..15.0_f64, 0.0..15.0_f64, proptest::option::of(0.0..60.0_f64)), 1..30)) {
            let start = jiff::civil::date(2026, 5, 1);
            let days: Vec<_> = rows.iter().enumerate().map(|(i, (min, span, rain))| {
                let date = start.checked_add(jiff::Span::new().days(i as i64)).unwrap();
                let mut day = DayWeather::from_temperatures(date, Celsius::from_c(*min), Celsius::from_c(min + span));
                day.rain = rain.map(Millimetres::from_mm);
                day
            }).collect();
            prop_assert_eq!(read(write(&days).as_bytes(), &station()).unwrap().days, days);
        }

        #[test]
        fn no_bytes_make_it_panic(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
            let _ = read(&bytes, &station());
        }
    }
}

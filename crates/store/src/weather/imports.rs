//! Imports are layers: a day is never overwritten, the newest import that is not undone counts.

use super::{BySource, count};
use crate::schema::{users, weather_days, weather_hours, weather_imports, weather_sources};
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, Subject};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff_diesel::ToDiesel;
use std::collections::BTreeMap;
use upland_core::weather::climate::RainHours;
use upland_core::weather::record::{HOUR_VARIABLES, RawDay, RawHour, Variable};

/// Rows inserted with one statement. Twelve columns of parameters each, far below PostgreSQL's
/// limit of 65 535.
const BATCH_ROWS: usize = 500;

/// An import as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Import {
    /// Identity.
    pub id: i64,
    /// Its source.
    pub source_id: i64,
    /// File name.
    pub file_name: String,
    /// First day of the file.
    pub first_date: Date,
    /// Last day of the file.
    pub last_date: Date,
    /// Days that were not known.
    pub days_new: i32,
    /// Days whose values differ from those known.
    pub days_changed: i32,
    /// Days known with the same values; not stored again.
    pub days_same: i32,
    /// Hours stored.
    pub hours: i32,
    /// Identity of who brought it.
    pub imported_by_id: i64,
    /// Who.
    pub imported_by: String,
    /// When.
    pub imported_at: Timestamp,
    /// Whether it was undone.
    pub undone: bool,
}

/// What an import would do, or did.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Comparison {
    /// Days that are not known.
    pub new: usize,
    /// Days whose values differ.
    pub changed: usize,
    /// Days known with the same values.
    pub same: usize,
}

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = weather_days, check_for_backend(diesel::pg::Pg))]
struct DayRow {
    site_id: i64,
    date: jiff_diesel::Date,
    import_id: i64,
    tmin_c: Option<f64>,
    tmax_c: Option<f64>,
    dew_point_c: Option<f64>,
    rh_min_pct: Option<f64>,
    rh_max_pct: Option<f64>,
    vapour_pressure_kpa: Option<f64>,
    solar_mj_m2: Option<f64>,
    wind_m_s: Option<f64>,
    rain_mm: Option<f64>,
}

impl DayRow {
    fn new(site_id: i64, import_id: i64, day: &RawDay) -> Self {
        Self {
            site_id,
            date: day.date.to_diesel(),
            import_id,
            tmin_c: day.get(Variable::TemperatureMin),
            tmax_c: day.get(Variable::TemperatureMax),
            dew_point_c: day.get(Variable::DewPoint),
            rh_min_pct: day.get(Variable::HumidityMin),
            rh_max_pct: day.get(Variable::HumidityMax),
            vapour_pressure_kpa: day.get(Variable::VapourPressure),
            solar_mj_m2: day.get(Variable::Solar),
            wind_m_s: day.get(Variable::Wind),
            rain_mm: day.get(Variable::Rain),
        }
    }

    fn day(&self) -> RawDay {
        let mut day = RawDay::new(self.date.to_jiff());
        for (variable, value) in [
            (Variable::TemperatureMin, self.tmin_c),
            (Variable::TemperatureMax, self.tmax_c),
            (Variable::DewPoint, self.dew_point_c),
            (Variable::HumidityMin, self.rh_min_pct),
            (Variable::HumidityMax, self.rh_max_pct),
            (Variable::VapourPressure, self.vapour_pressure_kpa),
            (Variable::Solar, self.solar_mj_m2),
            (Variable::Wind, self.wind_m_s),
            (Variable::Rain, self.rain_mm),
        ] {
            day.set(variable, value);
        }
        day
    }
}

/// The hours of one local day.
#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = weather_hours, check_for_backend(diesel::pg::Pg))]
struct HoursRow {
    source_id: i64,
    date: jiff_diesel::Date,
    import_id: i64,
    starts: Vec<i64>,
    temp_c: Vec<Option<f64>>,
    rh_pct: Vec<Option<f64>>,
    dew_point_c: Vec<Option<f64>>,
    solar_mj_m2: Vec<Option<f64>>,
    wind_m_s: Vec<Option<f64>>,
    rain_mm: Vec<Option<f64>>,
}

impl HoursRow {
    fn new(source_id: i64, import_id: i64, date: Date, hours: &[RawHour]) -> Self {
        let [temp_c, rh_pct, dew_point_c, solar_mj_m2, wind_m_s, rain_mm] =
            HOUR_VARIABLES.map(|v| hours.iter().map(|h| h.get(v)).collect());
        Self {
            source_id,
            date: date.to_diesel(),
            import_id,
            starts: hours.iter().map(|h| h.start.as_second()).collect(),
            temp_c,
            rh_pct,
            dew_point_c,
            solar_mj_m2,
            wind_m_s,
            rain_mm,
        }
    }

    fn hours(&self) -> impl Iterator<Item = RawHour> + '_ {
        let columns =
            [&self.temp_c, &self.rh_pct, &self.dew_point_c, &self.solar_mj_m2, &self.wind_m_s, &self.rain_mm];
        self.starts.iter().enumerate().filter_map(move |(i, start)| {
            let mut hour = RawHour::new(Timestamp::from_second(*start).ok()?, self.date.to_jiff());
            for (variable, column) in HOUR_VARIABLES.into_iter().zip(columns) {
                hour.set(variable, column.get(i).copied().flatten());
            }
            Some(hour)
        })
    }
}

pub(super) fn raw_days_of_site(connection: &mut PgConnection, site_id: i64) -> Result<BySource<RawDay>> {
    let rows: Vec<(DayRow, i64)> = weather_days::table
        .inner_join(weather_imports::table)
        .filter(weather_days::site_id.eq(site_id).and(weather_imports::undone_at.is_null()))
        .distinct_on((weather_imports::source_id, weather_days::date))
        .order((weather_imports::source_id, weather_days::date, weather_days::import_id.desc()))
        .select((DayRow::as_select(), weather_imports::source_id))
        .load(connection)?;
    let mut by_source: BySource<RawDay> = BTreeMap::new();
    for (row, source) in rows {
        by_source.entry(source).or_default().push(row.day());
    }
    Ok(by_source)
}

fn raw_days(connection: &mut PgConnection, source_id: i64) -> Result<Vec<RawDay>> {
    let rows: Vec<DayRow> = weather_days::table
        .inner_join(weather_imports::table)
        .filter(weather_imports::source_id.eq(source_id).and(weather_imports::undone_at.is_null()))
        .distinct_on(weather_days::date)
        .order((weather_days::date, weather_days::import_id.desc()))
        .select(DayRow::as_select())
        .load(connection)?;
    Ok(rows.iter().map(DayRow::day).collect())
}

fn raw_hours(connection: &mut PgConnection, source_id: i64, from: Date, to: Date) -> Result<Vec<RawHour>> {
    let rows: Vec<HoursRow> = weather_hours::table
        .inner_join(weather_imports::table)
        .filter(weather_hours::source_id.eq(source_id).and(weather_imports::undone_at.is_null()))
        .filter(weather_hours::date.between(from.to_diesel(), to.to_diesel()))
        .distinct_on(weather_hours::date)
        .order((weather_hours::date, weather_hours::import_id.desc()))
        .select(HoursRow::as_select())
        .load(connection)?;
    Ok(rows.iter().flat_map(HoursRow::hours).collect())
}

/// Hours in which rain was recorded, by source.
pub(super) fn rain_hours(connection: &mut PgConnection, sources: &[i64]) -> Result<BTreeMap<i64, RainHours>> {
    type Row = (i64, jiff_diesel::Date, Vec<i64>, Vec<Option<f64>>);
    let rows: Vec<Row> = weather_hours::table
        .inner_join(weather_imports::table)
        .filter(weather_hours::source_id.eq_any(sources).and(weather_imports::undone_at.is_null()))
        .distinct_on((weather_hours::source_id, weather_hours::date))
        .order((weather_hours::source_id, weather_hours::date, weather_hours::import_id.desc()))
        .select((
            weather_hours::source_id,
            weather_hours::date,
            weather_hours::starts,
            weather_hours::rain_mm,
        ))
        .load(connection)?;
    let mut by_source: BTreeMap<i64, RainHours> = BTreeMap::new();
    for (source, date, starts, rain) in rows {
        let wet =
            starts.into_iter().zip(rain).filter_map(|(start, mm)| Some((start, mm.filter(|mm| *mm > 0.0)?)));
        let hours: Vec<_> =
            wet.filter_map(|(start, mm)| Some((Timestamp::from_second(start).ok()?, mm))).collect();
        if !hours.is_empty() {
            by_source.entry(source).or_default().insert(date.to_jiff(), hours);
        }
    }
    Ok(by_source)
}

/// Compares days with those known; returns the counts and the days worth storing. A value that the
/// file does not have does not take away one that is known.
fn compare(known: &[RawDay], days: &[RawDay]) -> (Comparison, Vec<RawDay>) {
    let known: BTreeMap<Date, &RawDay> = known.iter().map(|d| (d.date, d)).collect();
    let mut counts = Comparison::default();
    let mut to_store = Vec::new();
    for day in days {
        let Some(old) = known.get(&day.date) else {
            counts.new += 1;
            to_store.push(*day);
            continue;
        };
        let mut merged = **old;
        for variable in Variable::ALL {
            if let Some(value) = day.get(variable) {
                merged.set(variable, Some(value));
            }
        }
        if merged == **old {
            counts.same += 1;
        } else {
            counts.changed += 1;
            to_store.push(merged);
        }
    }
    (counts, to_store)
}

/// Blocks of hours that are new or differ, each with all hours then known of its day.
fn changed_blocks(known: &[RawHour], hours: &[RawHour]) -> Vec<(Date, Vec<RawHour>)> {
    let mut before: BTreeMap<Date, BTreeMap<Timestamp, RawHour>> = BTreeMap::new();
    for hour in known {
        before.entry(hour.local_date).or_default().insert(hour.start, *hour);
    }
    let mut after: BTreeMap<Date, BTreeMap<Timestamp, RawHour>> = BTreeMap::new();
    for hour in hours {
        let block = after
            .entry(hour.local_date)
            .or_insert_with(|| before.get(&hour.local_date).cloned().unwrap_or_default());
        block.insert(hour.start, *hour);
    }
    after
        .into_iter()
        .filter(|(date, block)| before.get(date) != Some(block))
        .map(|(date, block)| (date, block.into_values().collect()))
        .collect()
}

impl Snapshot<'_> {
    /// The days of a source as they came, in order.
    ///
    /// # Errors
    /// As any query.
    pub fn raw_days(&mut self, source_id: i64) -> Result<Vec<RawDay>> {
        raw_days(self.connection, source_id)
    }

    /// The hours of a source as they came, of some local days, both ends included, in order.
    ///
    /// # Errors
    /// As any query.
    pub fn raw_hours(&mut self, source_id: i64, from: Date, to: Date) -> Result<Vec<RawHour>> {
        raw_hours(self.connection, source_id, from, to)
    }

    /// What importing these days would do.
    ///
    /// # Errors
    /// As any query.
    pub fn compare_weather(&mut self, source_id: i64, days: &[RawDay]) -> Result<Comparison> {
        Ok(compare(&self.raw_days(source_id)?, days).0)
    }

    /// The imports of a site, newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn imports(&mut self, site_id: i64) -> Result<Vec<Import>> {
        type Row = (
            (i64, i64, String, jiff_diesel::Date, jiff_diesel::Date),
            (i32, i32, i32, i32),
            (i64, String, jiff_diesel::Timestamp, Option<jiff_diesel::Timestamp>),
        );
        let rows: Vec<Row> = weather_imports::table
            .inner_join(users::table)
            .filter(weather_imports::site_id.eq(site_id))
            .order(weather_imports::id.desc())
            .select((
                (
                    weather_imports::id,
                    weather_imports::source_id,
                    weather_imports::file_name,
                    weather_imports::first_date,
                    weather_imports::last_date,
                ),
                (
                    weather_imports::days_new,
                    weather_imports::days_changed,
                    weather_imports::days_same,
                    weather_imports::hours,
                ),
                (users::id, users::display_name, weather_imports::imported_at, weather_imports::undone_at),
            ))
            .load(self.connection)?;
        Ok(rows
            .into_iter()
            .map(
                |(
                    (id, source_id, file_name, first, last),
                    (new, changed, same, hours),
                    (imported_by_id, imported_by, at, undone),
                )| {
                    Import {
                        id,
                        source_id,
                        file_name,
                        first_date: first.to_jiff(),
                        last_date: last.to_jiff(),
                        days_new: new,
                        days_changed: changed,
                        days_same: same,
                        hours,
                        imported_by_id,
                        imported_by,
                        imported_at: at.to_jiff(),
                        undone: undone.is_some(),
                    }
                },
            )
            .collect())
    }
}

impl Change<'_> {
    /// Stores the days and hours that are new or differ. A file that brings nothing new makes no import.
    /// `progress` hears how many rows of `days` are done and may stop the work with an error.
    ///
    /// # Errors
    /// As any query or as `progress`; nothing is stored then.
    // Long: an insert of ten columns.
    pub fn import_weather(
        &mut self,
        source_id: i64,
        file_name: &str,
        (days, hours): (&[RawDay], &[RawHour]),
        mut progress: impl FnMut(usize) -> Result<()>,
    ) -> Result<Comparison> {
        let (site_id, actor) = (self.site_id, self.actor);
        let connection = &mut *self.connection;
        weather_sources::table
            .filter(weather_sources::id.eq(source_id).and(weather_sources::site_id.eq(site_id)))
            .select(weather_sources::id)
            .first::<i64>(connection)?;
        let (counts, to_store) = compare(&raw_days(connection, source_id)?, days);
        let (Some(first), Some(last)) = (days.first(), days.last()) else { return Ok(counts) };
        let blocks = if hours.is_empty() {
            Vec::new()
        } else {
            changed_blocks(&raw_hours(connection, source_id, first.date, last.date)?, hours)
        };
        if to_store.is_empty() && blocks.is_empty() {
            progress(days.len())?;
            return Ok(counts);
        }
        let stored_hours = blocks.iter().map(|(_, h)| h.len()).sum();
        let import_id: i64 = diesel::insert_into(weather_imports::table)
            .values((
                weather_imports::site_id.eq(site_id),
                weather_imports::source_id.eq(source_id),
                weather_imports::file_name.eq(file_name),
                weather_imports::first_date.eq(first.date.to_diesel()),
                weather_imports::last_date.eq(last.date.to_diesel()),
                weather_imports::days_new.eq(count(counts.new)),
                weather_imports::days_changed.eq(count(counts.changed)),
                weather_imports::days_same.eq(count(counts.same)),
                weather_imports::hours.eq(count(stored_hours)),
                weather_imports::imported_by.eq(actor),
            ))
            .returning(weather_imports::id)
            .get_result(connection)?;
        // Days and blocks of hours advance together, so that the bar moves evenly.
        let total = (to_store.len() + blocks.len()).max(1);
        let mut written = 0;
        let mut advance = |rows: usize| {
            written += rows;
            progress(counts.same + (days.len() - counts.same) * written / total)
        };
        for batch in to_store.chunks(BATCH_ROWS) {
            let rows: Vec<DayRow> = batch.iter().map(|day| DayRow::new(site_id, import_id, day)).collect();
            diesel::insert_into(weather_days::table).values(&rows).execute(connection)?;
            advance(batch.len())?;
        }
        for batch in blocks.chunks(BATCH_ROWS) {
            let rows: Vec<HoursRow> =
                batch.iter().map(|(date, hours)| HoursRow::new(source_id, import_id, *date, hours)).collect();
            diesel::insert_into(weather_hours::table).values(&rows).execute(connection)?;
            advance(batch.len())?;
        }
        self.record(
            NewEvent::new(Subject::Import, Some(import_id), Action::Created).with(file_name).said(file_name),
        );
        Ok(counts)
    }
}

//! Imports are layers: a day is never overwritten, the newest import that is not undone counts.

use super::{BySource, count};
use crate::schema::{users, weather_days, weather_hours, weather_imports, weather_sources};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Result, Snapshot, Store, StoreError, Subject};
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
pub(super) struct DayRow {
    site_id: SiteKey,
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
    pub(super) fn new(site_id: SiteKey, import_id: i64, day: &RawDay) -> Self {
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

    pub(super) fn day(&self) -> RawDay {
        let values = [
            self.tmin_c,
            self.tmax_c,
            self.dew_point_c,
            self.rh_min_pct,
            self.rh_max_pct,
            self.vapour_pressure_kpa,
            self.solar_mj_m2,
            self.wind_m_s,
            self.rain_mm,
        ];
        RawDay::of(self.date.to_jiff(), values)
    }
}

/// The hours of one local day.
#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = weather_hours, check_for_backend(diesel::pg::Pg))]
pub(super) struct HoursRow {
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
    parts: Option<Vec<i16>>,
}

impl HoursRow {
    pub(super) fn new(source_id: i64, import_id: i64, date: Date, hours: &[RawHour]) -> Self {
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
            parts: hours
                .iter()
                .any(|h| h.parts() != 0)
                .then(|| hours.iter().map(|h| i16::from(h.parts())).collect()),
        }
    }

    pub(super) fn hours(&self) -> impl Iterator<Item = RawHour> + '_ {
        let columns =
            [&self.temp_c, &self.rh_pct, &self.dew_point_c, &self.solar_mj_m2, &self.wind_m_s, &self.rain_mm];
        self.starts.iter().enumerate().filter_map(move |(i, start)| {
            let mut hour = RawHour::new(Timestamp::from_second(*start).ok()?, self.date.to_jiff());
            for (variable, column) in HOUR_VARIABLES.into_iter().zip(columns) {
                hour.set(variable, column.get(i).copied().flatten());
            }
            let parts = self.parts.as_ref().and_then(|p| p.get(i)).and_then(|p| u8::try_from(*p).ok());
            Some(hour.with_parts(parts.unwrap_or(0)))
        })
    }
}

/// What several layers say of a day, the newest last: a value that a layer does not have does not take away one that
/// is there.
fn over(days: impl Iterator<Item = RawDay>) -> Vec<RawDay> {
    let mut out: Vec<RawDay> = Vec::new();
    for day in days {
        match out.last_mut().filter(|below| below.date == day.date) {
            None => out.push(day),
            Some(below) => {
                for variable in Variable::ALL {
                    if let Some(value) = day.get(variable) {
                        below.set(variable, Some(value));
                    }
                }
            }
        }
    }
    out
}

/// The same of hours; what a layer says of a variable is said with how much of the hour was heard.
fn hours_over(layers: impl Iterator<Item = RawHour>) -> Vec<RawHour> {
    let mut out: BTreeMap<Timestamp, RawHour> = BTreeMap::new();
    for hour in layers {
        let below = out.entry(hour.start).or_insert_with(|| RawHour::new(hour.start, hour.local_date));
        let mut parts = below.parts();
        for variable in HOUR_VARIABLES {
            if let Some(value) = hour.get(variable) {
                below.set(variable, Some(value));
                parts &= !(1 << variable as u8);
                parts |= hour.parts() & (1 << variable as u8);
            }
        }
        *below = below.with_parts(parts);
    }
    out.into_values().collect()
}

/// The newest layer of each day that was imported, and the one that follows sensors or a service, the newer of the two last.
macro_rules! layers {
    ($table:ident, $row:ty, $filter:expr) => {
        $table::table
            .inner_join(weather_imports::table)
            .filter($filter.and(weather_imports::undone_at.is_null()))
            .distinct_on((weather_imports::source_id, $table::date, weather_imports::follows))
            .order((
                weather_imports::source_id,
                $table::date,
                weather_imports::follows,
                $table::import_id.desc(),
            ))
            .select((<$row>::as_select(), weather_imports::source_id, $table::import_id))
    };
}

/// Rows of each source and day with the newer layer last.
fn newest_last<R>(mut rows: Vec<(R, i64, i64)>, date: impl Fn(&R) -> Date) -> Vec<(R, i64)> {
    rows.sort_by_key(|(row, source, import)| (*source, date(row), *import));
    rows.into_iter().map(|(row, source, _)| (row, source)).collect()
}

pub(super) fn raw_days_of_site(connection: &mut PgConnection, site_id: SiteKey) -> Result<BySource<RawDay>> {
    let rows: Vec<(DayRow, i64, i64)> =
        layers!(weather_days, DayRow, weather_days::site_id.eq(site_id)).load(connection)?;
    let mut by_source: BySource<RawDay> = BTreeMap::new();
    for (row, source) in newest_last(rows, |row| row.date.to_jiff()) {
        by_source.entry(source).or_default().push(row.day());
    }
    Ok(by_source.into_iter().map(|(source, days)| (source, over(days.into_iter()))).collect())
}

fn raw_days(connection: &mut PgConnection, source_id: i64) -> Result<Vec<RawDay>> {
    let rows: Vec<(DayRow, i64, i64)> =
        layers!(weather_days, DayRow, weather_imports::source_id.eq(source_id)).load(connection)?;
    let rows = newest_last(rows, |row| row.date.to_jiff());
    Ok(over(rows.iter().map(|(row, _)| row.day())))
}

fn raw_hours(connection: &mut PgConnection, source_id: i64, from: Date, to: Date) -> Result<Vec<RawHour>> {
    let of_days = weather_hours::source_id
        .eq(source_id)
        .and(weather_hours::date.between(from.to_diesel(), to.to_diesel()));
    let rows: Vec<(HoursRow, i64, i64)> = layers!(weather_hours, HoursRow, of_days).load(connection)?;
    let rows = newest_last(rows, |row| row.date.to_jiff());
    Ok(hours_over(rows.iter().flat_map(|(row, _)| row.hours())))
}

/// A day's hours of rain, and whose they are.
#[derive(Queryable, Selectable)]
#[diesel(table_name = weather_hours, check_for_backend(diesel::pg::Pg))]
struct RainRow {
    date: jiff_diesel::Date,
    starts: Vec<i64>,
    rain_mm: Vec<Option<f64>>,
}

/// Hours in which rain was recorded, by source.
pub(super) fn rain_hours(connection: &mut PgConnection, sources: &[i64]) -> Result<BTreeMap<i64, RainHours>> {
    let rows: Vec<(RainRow, i64, i64)> =
        layers!(weather_hours, RainRow, weather_hours::source_id.eq_any(sources)).load(connection)?;
    let mut measured: BTreeMap<(i64, Date), BTreeMap<Timestamp, f64>> = BTreeMap::new();
    for (row, source) in newest_last(rows, |row| row.date.to_jiff()) {
        let of_day = measured.entry((source, row.date.to_jiff())).or_default();
        for (start, mm) in row.starts.into_iter().zip(row.rain_mm) {
            if let (Ok(start), Some(mm)) = (Timestamp::from_second(start), mm) {
                of_day.insert(start, mm);
            }
        }
    }
    let mut by_source: BTreeMap<i64, RainHours> = BTreeMap::new();
    for ((source, date), hours) in measured {
        let wet: Vec<_> = hours.into_iter().filter(|(_, mm)| *mm > 0.0).collect();
        if !wet.is_empty() {
            by_source.entry(source).or_default().insert(date, wet);
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
pub(super) fn changed_blocks(known: &[RawHour], hours: &[RawHour]) -> Vec<Block> {
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
    pub fn imports(&mut self, site_id: SiteKey) -> Result<Vec<Import>> {
        type Row = (
            (i64, i64, String, jiff_diesel::Date, jiff_diesel::Date),
            (i32, i32, i32, i32),
            (i64, String, jiff_diesel::Timestamp, Option<jiff_diesel::Timestamp>),
        );
        let rows: Vec<Row> = weather_imports::table
            .inner_join(users::table)
            .filter(weather_imports::site_id.eq(site_id).and(weather_imports::follows.eq(false)))
            .filter(weather_imports::staged_for.is_null())
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

/// A file on its way into the record.
#[derive(Debug, Clone, Copy)]
pub struct Incoming<'a> {
    /// Who brings it, to which site and source.
    pub to: (i64, SiteKey, i64),
    /// Its name.
    pub file_name: &'a str,
    /// The draft it is read from; 0 for none.
    pub draft: i64,
    /// Its days, in order.
    pub days: &'a [RawDay],
    /// Its hours, in order.
    pub hours: &'a [RawHour],
}

impl Store {
    /// Stores the days and hours that are new or differ. A file that brings nothing new makes no import.
    ///
    /// Rows are written a few hundred at a time without holding the site, so that people save meanwhile; they count from
    /// one short last step on. What a killed run of the same draft left is cleared first. `progress` hears how many rows
    /// of `days` are done and may stop the work with an error.
    ///
    /// # Errors
    /// As any query or as `progress`; [`StoreError::Cancelled`] when the site is gone. Nothing of it counts then.
    pub fn import_weather(
        &self,
        incoming: Incoming<'_>,
        progress: impl FnMut(usize) -> Result<()>,
    ) -> Result<Comparison> {
        let (actor, site_id, source_id) = incoming.to;
        let connection = &mut *self.connection()?;
        weather_sources::table
            .filter(weather_sources::id.eq(source_id).and(weather_sources::site_id.eq(site_id)))
            .select(weather_sources::id)
            .first::<i64>(connection)?;
        let left =
            weather_imports::source_id.eq(source_id).and(weather_imports::staged_for.eq(incoming.draft));
        diesel::delete(weather_imports::table.filter(left)).execute(connection)?;
        let (counts, staged) = stage(connection, incoming, progress)?;
        let Some(import_id) = staged else { return Ok(counts) };
        let counted = self.change(actor, site_id, |change| {
            diesel::update(weather_imports::table.find(import_id))
                .set((
                    weather_imports::staged_for.eq(None::<i64>),
                    weather_imports::undone_at.eq(None::<jiff_diesel::Timestamp>),
                ))
                .execute(change.connection)?;
            let event = NewEvent::new(Subject::Import, Some(import_id), Action::Created);
            change.record(event.with(incoming.file_name).said(incoming.file_name));
            Ok(())
        })?;
        counted.map(|()| counts).ok_or(StoreError::Cancelled)
    }
}

/// Writes an import that does not count yet; `None` when it would bring nothing.
fn stage(
    connection: &mut PgConnection,
    incoming: Incoming<'_>,
    mut progress: impl FnMut(usize) -> Result<()>,
) -> Result<(Comparison, Option<i64>)> {
    let (_, _, source_id) = incoming.to;
    let (days, hours) = (incoming.days, incoming.hours);
    let (counts, to_store) = compare(&raw_days(connection, source_id)?, days);
    let (Some(first), Some(last)) = (days.first(), days.last()) else { return Ok((counts, None)) };
    let blocks = if hours.is_empty() {
        Vec::new()
    } else {
        changed_blocks(&raw_hours(connection, source_id, first.date, last.date)?, hours)
    };
    if to_store.is_empty() && blocks.is_empty() {
        progress(days.len())?;
        return Ok((counts, None));
    }
    let import_id = begun(connection, incoming, first.date, last.date, &counts, &blocks)?;
    let written = write(connection, incoming, import_id, &counts, &to_store, &blocks, &mut progress);
    if let Err(error) = written {
        diesel::delete(weather_imports::table.find(import_id)).execute(connection)?;
        return Err(error);
    }
    Ok((counts, Some(import_id)))
}

/// Hours of a local day.
pub(super) type Block = (Date, Vec<RawHour>);

/// The row of an import that does not count yet.
fn begun(
    connection: &mut PgConnection,
    incoming: Incoming<'_>,
    first: Date,
    last: Date,
    counts: &Comparison,
    blocks: &[Block],
) -> Result<i64> {
    let (actor, site_id, source_id) = incoming.to;
    let stored_hours = blocks.iter().map(|(_, h)| h.len()).sum();
    Ok(diesel::insert_into(weather_imports::table)
        .values((
            weather_imports::site_id.eq(site_id),
            weather_imports::source_id.eq(source_id),
            weather_imports::file_name.eq(incoming.file_name),
            (
                weather_imports::first_date.eq(first.to_diesel()),
                weather_imports::last_date.eq(last.to_diesel()),
            ),
            weather_imports::days_new.eq(count(counts.new)),
            weather_imports::days_changed.eq(count(counts.changed)),
            weather_imports::days_same.eq(count(counts.same)),
            weather_imports::hours.eq(count(stored_hours)),
            weather_imports::imported_by.eq(actor),
            weather_imports::staged_for.eq(incoming.draft),
            weather_imports::undone_at.eq(diesel::dsl::now),
        ))
        .returning(weather_imports::id)
        .get_result(connection)?)
}

/// Writes the rows of an import, some hundreds at a time.
fn write(
    connection: &mut PgConnection,
    incoming: Incoming<'_>,
    import_id: i64,
    counts: &Comparison,
    to_store: &[RawDay],
    blocks: &[Block],
    progress: &mut impl FnMut(usize) -> Result<()>,
) -> Result<()> {
    let (_, site_id, source_id) = incoming.to;
    // Days and blocks of hours advance together, so that the bar moves evenly.
    let (all, total) = (incoming.days.len(), (to_store.len() + blocks.len()).max(1));
    let mut written = 0;
    let mut advance = |rows: usize| {
        written += rows;
        progress(counts.same + (all - counts.same) * written / total)
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
    Ok(())
}

//! The weather record: drafts that wait for a yes, imports that can be undone, days of which none
//! is overwritten.

use crate::schema::{sites, users, weather_days, weather_drafts, weather_imports};
use crate::{Result, Store, StoreError};
use diesel::prelude::*;
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use jiff_diesel::ToDiesel;
use std::collections::BTreeMap;
use upland_core::units::{Celsius, Kilopascals, MegajoulesPerSquareMetre, MetresPerSecond, Millimetres};
use upland_core::weather::DayWeather;

/// Days inserted with one statement. Twelve columns of parameters each, far below PostgreSQL's
/// limit of 65 535.
const BATCH_DAYS: usize = 500;
/// A draft that nobody confirmed goes after this time.
const DRAFT_LIFE: SignedDuration = SignedDuration::from_hours(24);

/// Where a draft stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DraftState {
    /// Waiting for a yes.
    Preview,
    /// Being taken in.
    Running,
    /// Taken in.
    Done,
    /// Refused by the database; nothing was stored.
    Failed,
}

/// A file waiting for its reader's yes.
#[derive(Debug, Clone, PartialEq)]
pub struct Draft {
    /// Identity.
    pub id: i64,
    /// Its site.
    pub site_id: i64,
    /// Who brought it.
    pub user_id: i64,
    /// Its name.
    pub file_name: String,
    /// Days in the file.
    pub days_total: i32,
    /// Days taken in so far.
    pub days_done: i32,
    /// Where it stands.
    pub state: DraftState,
    /// Outcome in words.
    pub message: String,
}

/// An import as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Import {
    /// Identity.
    pub id: i64,
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
    tmin_c: f64,
    tmax_c: f64,
    dew_point_c: Option<f64>,
    rh_min_pct: Option<f64>,
    rh_max_pct: Option<f64>,
    vapour_pressure_kpa: Option<f64>,
    solar_mj_m2: Option<f64>,
    wind_m_s: Option<f64>,
    rain_mm: Option<f64>,
}

impl DayRow {
    fn new(site_id: i64, import_id: i64, day: &DayWeather) -> Self {
        Self {
            site_id,
            date: day.date.to_diesel(),
            import_id,
            tmin_c: day.temperature_min.c(),
            tmax_c: day.temperature_max.c(),
            dew_point_c: day.dew_point.map(Celsius::c),
            rh_min_pct: day.humidity_min_pct,
            rh_max_pct: day.humidity_max_pct,
            vapour_pressure_kpa: day.vapour_pressure.map(Kilopascals::kpa),
            solar_mj_m2: day.solar.map(MegajoulesPerSquareMetre::mj_per_m2),
            wind_m_s: day.wind.map(MetresPerSecond::m_per_s),
            rain_mm: day.rain.map(Millimetres::mm),
        }
    }

    fn day(&self) -> DayWeather {
        DayWeather {
            date: self.date.to_jiff(),
            temperature_min: Celsius::from_c(self.tmin_c),
            temperature_max: Celsius::from_c(self.tmax_c),
            dew_point: self.dew_point_c.map(Celsius::from_c),
            humidity_min_pct: self.rh_min_pct,
            humidity_max_pct: self.rh_max_pct,
            vapour_pressure: self.vapour_pressure_kpa.map(Kilopascals::from_kpa),
            solar: self.solar_mj_m2.map(MegajoulesPerSquareMetre::from_mj_per_m2),
            wind: self.wind_m_s.map(MetresPerSecond::from_m_per_s),
            rain: self.rain_mm.map(Millimetres::from_mm),
        }
    }
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = weather_drafts, check_for_backend(diesel::pg::Pg))]
struct DraftRow {
    id: i64,
    site_id: i64,
    user_id: i64,
    file_name: String,
    days_total: i32,
    days_done: i32,
    state: String,
    message: String,
}

impl DraftRow {
    fn draft(self) -> Result<Draft> {
        let state = match self.state.as_str() {
            "preview" => DraftState::Preview,
            "running" => DraftState::Running,
            "done" => DraftState::Done,
            "failed" => DraftState::Failed,
            _ => return Err(StoreError::Unknown { what: "draft state", value: self.state }),
        };
        Ok(Draft {
            id: self.id,
            site_id: self.site_id,
            user_id: self.user_id,
            file_name: self.file_name,
            days_total: self.days_total,
            days_done: self.days_done,
            state,
            message: self.message,
        })
    }
}

fn record(connection: &mut PgConnection, site_id: i64) -> Result<Vec<DayWeather>> {
    let rows: Vec<DayRow> = weather_days::table
        .inner_join(weather_imports::table)
        .filter(weather_days::site_id.eq(site_id).and(weather_imports::undone_at.is_null()))
        .distinct_on(weather_days::date)
        .order((weather_days::date, weather_days::import_id.desc()))
        .select(DayRow::as_select())
        .load(connection)?;
    Ok(rows.iter().map(DayRow::day).collect())
}

/// Compares days with the record; returns the counts and the days worth storing.
fn compare(known: &[DayWeather], days: &[DayWeather]) -> (Comparison, Vec<DayWeather>) {
    let known: BTreeMap<Date, &DayWeather> = known.iter().map(|d| (d.date, d)).collect();
    let mut counts = Comparison::default();
    let mut to_store = Vec::new();
    for day in days {
        match known.get(&day.date) {
            None => counts.new += 1,
            Some(old) if **old == *day => {
                counts.same += 1;
                continue;
            }
            Some(_) => counts.changed += 1,
        }
        to_store.push(*day);
    }
    (counts, to_store)
}

fn count(value: usize) -> i32 {
    i32::try_from(value).unwrap_or(i32::MAX)
}

fn raise_weather_version(connection: &mut PgConnection, site_id: i64) -> Result<()> {
    diesel::update(sites::table.find(site_id))
        .set(sites::weather_version.eq(sites::weather_version + 1))
        .execute(connection)?;
    Ok(())
}

impl Store {
    /// The days that count for a site, in order.
    ///
    /// # Errors
    /// As any query.
    pub fn weather(&self, site_id: i64) -> Result<Vec<DayWeather>> {
        record(&mut *self.connection()?, site_id)
    }

    /// What importing these days would do.
    ///
    /// # Errors
    /// As any query.
    pub fn compare_weather(&self, site_id: i64, days: &[DayWeather]) -> Result<Comparison> {
        Ok(compare(&self.weather(site_id)?, days).0)
    }

    /// Keeps a file until its reader says yes; older unconfirmed files go.
    ///
    /// # Errors
    /// As any query.
    pub fn create_draft(
        &self,
        site_id: i64,
        user_id: i64,
        file_name: &str,
        content: &[u8],
        days_total: usize,
        now: Timestamp,
    ) -> Result<i64> {
        let mut connection = self.connection()?;
        diesel::delete(weather_drafts::table.filter(weather_drafts::created_at.lt((now - DRAFT_LIFE).to_diesel())))
            .execute(&mut connection)?;
        Ok(diesel::insert_into(weather_drafts::table)
            .values((
                weather_drafts::site_id.eq(site_id),
                weather_drafts::user_id.eq(user_id),
                weather_drafts::file_name.eq(file_name),
                weather_drafts::content.eq(content),
                weather_drafts::days_total.eq(count(days_total)),
            ))
            .returning(weather_drafts::id)
            .get_result(&mut connection)?)
    }

    /// A draft of a site, without its content.
    ///
    /// # Errors
    /// As any query.
    pub fn draft(&self, site_id: i64, id: i64) -> Result<Option<Draft>> {
        weather_drafts::table
            .filter(weather_drafts::id.eq(id).and(weather_drafts::site_id.eq(site_id)))
            .select(DraftRow::as_select())
            .first(&mut self.connection()?)
            .optional()?
            .map(DraftRow::draft)
            .transpose()
    }

    /// The file of a draft.
    ///
    /// # Errors
    /// As any query.
    pub fn draft_content(&self, site_id: i64, id: i64) -> Result<Option<Vec<u8>>> {
        Ok(weather_drafts::table
            .filter(weather_drafts::id.eq(id).and(weather_drafts::site_id.eq(site_id)))
            .select(weather_drafts::content)
            .first(&mut self.connection()?)
            .optional()?)
    }

    /// Marks a draft as being taken in; `false` when somebody already did.
    ///
    /// # Errors
    /// As any query.
    pub fn start_draft(&self, id: i64) -> Result<bool> {
        let changed = diesel::update(
            weather_drafts::table.filter(weather_drafts::id.eq(id).and(weather_drafts::state.eq("preview"))),
        )
        .set(weather_drafts::state.eq("running"))
        .execute(&mut self.connection()?)?;
        Ok(changed == 1)
    }

    /// Drops a draft.
    ///
    /// # Errors
    /// As any query.
    pub fn drop_draft(&self, site_id: i64, id: i64) -> Result<()> {
        diesel::delete(
            weather_drafts::table.filter(
                weather_drafts::id
                    .eq(id)
                    .and(weather_drafts::site_id.eq(site_id))
                    .and(weather_drafts::state.ne("running")),
            ),
        )
        .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Takes in the days of a started draft and writes its outcome. All or nothing: a failure
    /// leaves the record as it was and the draft failed, with the reason.
    ///
    /// # Errors
    /// As any query, after the draft was marked failed.
    pub fn run_draft(&self, draft: &Draft, days: &[DayWeather]) -> Result<Comparison> {
        // Progress goes over a second connection, or it would only be seen at the end.
        let mut progress = self.connection()?;
        let result = self.import_weather(draft.site_id, draft.user_id, &draft.file_name, days, |done| {
            diesel::update(weather_drafts::table.find(draft.id))
                .set(weather_drafts::days_done.eq(count(done)))
                .execute(&mut progress)?;
            Ok(())
        });
        let (state, message) = match &result {
            Ok(counts) => (
                "done",
                format!(
                    "{} new, {} changed, {} already known",
                    counts.new, counts.changed, counts.same
                ),
            ),
            Err(error) => ("failed", format!("Nothing was stored: {error}")),
        };
        let content: &[u8] = &[];
        diesel::update(weather_drafts::table.find(draft.id))
            .set((
                weather_drafts::state.eq(state),
                weather_drafts::message.eq(message),
                weather_drafts::content.eq(content),
            ))
            .execute(&mut progress)?;
        result
    }

    /// Stores the days that are new or differ, in one transaction. A file that brings nothing new
    /// makes no import.
    ///
    /// # Errors
    /// As any query; nothing is stored then.
    pub fn import_weather(
        &self,
        site_id: i64,
        user_id: i64,
        file_name: &str,
        days: &[DayWeather],
        mut progress: impl FnMut(usize) -> Result<()>,
    ) -> Result<Comparison> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            // One import a site at a time, so that "already known" is true when it is written.
            sites::table.find(site_id).select(sites::id).for_update().first::<i64>(connection)?;
            let (counts, to_store) = compare(&record(connection, site_id)?, days);
            let (Some(first), Some(last)) = (days.first(), days.last()) else { return Ok(counts) };
            if to_store.is_empty() {
                progress(days.len())?;
                return Ok(counts);
            }
            let import_id: i64 = diesel::insert_into(weather_imports::table)
                .values((
                    weather_imports::site_id.eq(site_id),
                    weather_imports::file_name.eq(file_name),
                    weather_imports::first_date.eq(first.date.to_diesel()),
                    weather_imports::last_date.eq(last.date.to_diesel()),
                    weather_imports::days_new.eq(count(counts.new)),
                    weather_imports::days_changed.eq(count(counts.changed)),
                    weather_imports::days_same.eq(count(counts.same)),
                    weather_imports::imported_by.eq(user_id),
                ))
                .returning(weather_imports::id)
                .get_result(connection)?;
            let mut done = counts.same;
            for batch in to_store.chunks(BATCH_DAYS) {
                let rows: Vec<DayRow> = batch.iter().map(|day| DayRow::new(site_id, import_id, day)).collect();
                diesel::insert_into(weather_days::table).values(&rows).execute(connection)?;
                done += batch.len();
                progress(done)?;
            }
            raise_weather_version(connection, site_id)?;
            Ok(counts)
        })
    }

    /// The imports of a site, newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn imports(&self, site_id: i64) -> Result<Vec<Import>> {
        type Row = (
            (i64, String, jiff_diesel::Date, jiff_diesel::Date, i32, i32, i32),
            (String, jiff_diesel::Timestamp, Option<jiff_diesel::Timestamp>),
        );
        let rows: Vec<Row> = weather_imports::table
            .inner_join(users::table)
            .filter(weather_imports::site_id.eq(site_id))
            .order(weather_imports::id.desc())
            .select((
                (
                    weather_imports::id,
                    weather_imports::file_name,
                    weather_imports::first_date,
                    weather_imports::last_date,
                    weather_imports::days_new,
                    weather_imports::days_changed,
                    weather_imports::days_same,
                ),
                (users::display_name, weather_imports::imported_at, weather_imports::undone_at),
            ))
            .load(&mut self.connection()?)?;
        Ok(rows
            .into_iter()
            .map(|((id, file_name, first, last, new, changed, same), (imported_by, at, undone))| Import {
                id,
                file_name,
                first_date: first.to_jiff(),
                last_date: last.to_jiff(),
                days_new: new,
                days_changed: changed,
                days_same: same,
                imported_by,
                imported_at: at.to_jiff(),
                undone: undone.is_some(),
            })
            .collect())
    }

    /// Undoes an import, or takes the undoing back. `false` when it is not of this site.
    ///
    /// # Errors
    /// As any query.
    pub fn set_import_undone(&self, site_id: i64, id: i64, undone: Option<Timestamp>) -> Result<bool> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            let changed = diesel::update(
                weather_imports::table
                    .filter(weather_imports::id.eq(id).and(weather_imports::site_id.eq(site_id))),
            )
            .set(weather_imports::undone_at.eq(undone.map(ToDiesel::to_diesel)))
            .execute(connection)?;
            if changed == 1 {
                raise_weather_version(connection, site_id)?;
            }
            Ok(changed == 1)
        })
    }
}

//! Sources that are fetched: where from, how often, and what they answered.

use super::imports::changed_blocks;
use super::layer::{Layer, weather_moved};
use super::{count, forecasts};
use crate::schema::{sites, users, weather_answers, weather_services, weather_sources};
use crate::scope::SiteKey;
use crate::sites::time_zone;
use crate::tasks::{self, Task};
use crate::transaction::NewEvent;
use crate::{Action, Change, Number, Result, Snapshot, Store, Subject};
use diesel::prelude::*;
use diesel::sql_types::BigInt;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use jiff_diesel::ToDiesel;
use upland_core::quantity::time::midnight;
use upland_core::site::Site;
use upland_core::weather::Station;
use upland_core::weather::record::{RawDay, RawHour, days_of, examine_hours};

/// Answers of a source that are kept.
const KEPT: i64 = 40;

/// How a source is fetched, as somebody said.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ServiceSettings {
    /// Address of what was measured; empty: it tells none.
    pub measured: String,
    /// Address of what is forecast; empty: it tells none.
    pub foretold: String,
    /// Minutes between two askings, 10 to 1440.
    pub every_min: i32,
    /// It is not asked until it is let again.
    pub stopped: bool,
}

/// A source that is fetched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Service {
    /// The source.
    pub source_id: i64,
    /// How it is fetched.
    pub settings: ServiceSettings,
    /// Version of that.
    pub version: i32,
    /// Who said so.
    pub saved_by: String,
}

/// What a service answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// Of what is forecast, else of what was measured.
    pub foretold: bool,
    /// When it was asked.
    pub asked_at: Timestamp,
    /// How long it took.
    pub took: SignedDuration,
    /// Its length.
    pub bytes: i32,
    /// Hours or days that it held.
    pub held: i32,
    /// Days that are other than they were.
    pub changed: i32,
    /// Until when it knows: of what was measured no later than it was asked.
    pub until: Option<Timestamp>,
    /// It held days and no hours, so that the next of them is a day away.
    pub by_day: bool,
    /// What was wrong with it; empty when it was taken in.
    pub fault: String,
}

/// An answer on its way into the record or the forecast.
#[derive(Debug, Clone, Copy)]
pub struct Heard<'a> {
    /// Of what is forecast.
    pub foretold: bool,
    /// How long it took.
    pub took: std::time::Duration,
    /// As it came.
    pub body: &'a [u8],
    /// Its days and hours, in order, or what was wrong.
    pub content: core::result::Result<(&'a [RawDay], &'a [RawHour]), &'a str>,
}

type Row = (i64, String, String, i32, bool, i32, String);

fn service((source_id, measured, foretold, every_min, stopped, version, saved_by): Row) -> Service {
    let settings = ServiceSettings { measured, foretold, every_min, stopped };
    Service { source_id, settings, version, saved_by }
}

macro_rules! services {
    () => {
        weather_services::table
            .inner_join(users::table)
            .inner_join(weather_sources::table)
            .filter(weather_sources::removed_at.is_null())
            .order(weather_services::source_id)
            .select((
                weather_services::source_id,
                weather_services::measured_url,
                weather_services::foretold_url,
                weather_services::every_min,
                weather_services::stopped,
                weather_services::version,
                users::display_name,
            ))
    };
}

/// Services whose time it is: the interval since they were last asked, twice, four and eight times it after faults. One
/// minute is given, since they are looked for every five.
const DUE: &str = "
    SELECT s.source_id AS number FROM weather_services s
    JOIN weather_sources w ON w.id = s.source_id JOIN sites ON sites.id = w.site_id
    WHERE NOT s.stopped AND w.removed_at IS NULL AND sites.removed_at IS NULL AND NOT EXISTS (
        SELECT FROM weather_answers a WHERE a.source_id = s.source_id AND a.asked_at <= app_now()
          AND a.asked_at > app_now() + interval '1 minute' - make_interval(mins => s.every_min * (1 << least(3, (
            SELECT count(*)::int FROM weather_answers f WHERE f.source_id = s.source_id AND f.fault <> ''
              AND f.id > COALESCE((SELECT max(id) FROM weather_answers g
                                   WHERE g.source_id = s.source_id AND g.fault = ''), 0))))))
    ORDER BY 1";

impl Snapshot<'_> {
    /// The sources of a site that are fetched.
    ///
    /// # Errors
    /// As any query.
    pub fn services(&mut self, site_id: SiteKey) -> Result<Vec<Service>> {
        let rows: Vec<Row> =
            services!().filter(weather_sources::site_id.eq(site_id)).load(self.connection)?;
        Ok(rows.into_iter().map(service).collect())
    }

    /// A source that is fetched, with its site.
    ///
    /// # Errors
    /// As any query.
    pub fn service(&mut self, source_id: i64) -> Result<Option<(SiteKey, Service)>> {
        let row: Option<Row> = services!()
            .filter(weather_services::source_id.eq(source_id))
            .first(self.connection)
            .optional()?;
        let Some(row) = row else { return Ok(None) };
        let site_id = weather_sources::table
            .inner_join(sites::table)
            .filter(weather_sources::id.eq(source_id).and(sites::removed_at.is_null()))
            .select(weather_sources::site_id)
            .first(self.connection)
            .optional()?;
        Ok(site_id.map(|site_id| (site_id, service(row))))
    }

    /// What a source answered, the newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn answers(&mut self, source_id: i64) -> Result<Vec<Answer>> {
        type Asked = (bool, jiff_diesel::Timestamp, i32, i32);
        type Row = (Asked, (i32, i32, Option<jiff_diesel::Timestamp>, bool, String));
        let rows: Vec<Row> = weather_answers::table
            .filter(weather_answers::source_id.eq(source_id))
            .order(weather_answers::id.desc())
            .select((
                (
                    weather_answers::foretold,
                    weather_answers::asked_at,
                    weather_answers::took_ms,
                    weather_answers::bytes,
                ),
                (
                    weather_answers::held,
                    weather_answers::changed,
                    weather_answers::until,
                    weather_answers::by_day,
                    weather_answers::fault,
                ),
            ))
            .load(self.connection)?;
        let answer =
            |((foretold, asked_at, took, bytes), (held, changed, until, by_day, fault)): Row| Answer {
                foretold,
                asked_at: asked_at.to_jiff(),
                took: SignedDuration::from_millis(i64::from(took)),
                bytes,
                held,
                changed,
                until: until.map(jiff_diesel::Timestamp::to_jiff),
                by_day,
                fault,
            };
        Ok(rows.into_iter().map(answer).collect())
    }

    /// The last answer of a source as it came.
    ///
    /// # Errors
    /// As any query.
    pub fn answer_body(&mut self, source_id: i64, foretold: bool) -> Result<Option<Vec<u8>>> {
        let body: Option<Option<Vec<u8>>> = weather_answers::table
            .filter(weather_answers::source_id.eq(source_id).and(weather_answers::foretold.eq(foretold)))
            .filter(weather_answers::body.is_not_null())
            .order(weather_answers::id.desc())
            .select(weather_answers::body)
            .first(self.connection)
            .optional()?;
        Ok(body.flatten())
    }
}

impl Change<'_> {
    /// Says how a source is fetched, and lets it be fetched at once. Who edited another version than the one that stands
    /// is given that one instead; `base` 0: there is none yet.
    ///
    /// # Errors
    /// As any query.
    pub fn save_service(
        &mut self,
        source_id: i64,
        name: &str,
        base: i32,
        settings: &ServiceSettings,
    ) -> Result<Option<Service>> {
        let there = self.service(source_id)?.map(|(_, service)| service);
        if let Some(theirs) = there.filter(|there| there.version != base) {
            return Ok(Some(theirs));
        }
        let values = (
            weather_services::measured_url.eq(&settings.measured),
            weather_services::foretold_url.eq(&settings.foretold),
            weather_services::every_min.eq(settings.every_min),
            weather_services::stopped.eq(settings.stopped),
            weather_services::version.eq(base + 1),
            weather_services::saved_by.eq(self.actor),
        );
        diesel::insert_into(weather_services::table)
            .values((weather_services::source_id.eq(source_id), values))
            .on_conflict(weather_services::source_id)
            .do_update()
            .set(values)
            .execute(self.connection)?;
        let said = match (settings.stopped, base) {
            (true, _) => format!("{name} is not fetched any more"),
            (false, 0) => format!("{name} is fetched every {} minutes", settings.every_min),
            (false, _) => format!("how {name} is fetched, every {} minutes", settings.every_min),
        };
        // The addresses may hold a key, so that the logbook does not name them.
        self.record(NewEvent::new(Subject::Service, Some(source_id), Action::Changed).said(said));
        if !settings.stopped {
            tasks::ask(self.connection, Task::Fetch, source_id, SignedDuration::ZERO)?;
        }
        Ok(None)
    }
}

impl Store {
    /// Asks for the fetches whose time it is. Returns of how many sources.
    ///
    /// # Errors
    /// As any query.
    pub fn ask_for_due_fetches(&self) -> Result<usize> {
        let connection = &mut *self.connection()?;
        let due: Vec<Number> = diesel::sql_query(DUE).load(connection)?;
        for source in &due {
            tasks::ask(connection, Task::Fetch, source.number, SignedDuration::ZERO)?;
        }
        Ok(due.len())
    }

    /// Takes an answer into the record, or into the forecast, and notes it. What it does not hold stays as it was; what
    /// lies ahead of the clock was not measured, and what lies behind it is not forecast. Returns how many days are other
    /// than they were.
    ///
    /// # Errors
    /// As any query; nothing is stored then.
    pub fn take_answer(&self, source_id: i64, heard: Heard<'_>) -> Result<usize> {
        self.connection()?.transaction(|connection| {
            let Some((site_id, _)) = (Snapshot { connection }).service(source_id)? else { return Ok(0) };
            sites::table.find(site_id).select(sites::id).for_update().first::<i64>(connection)?;
            let site = (Snapshot { connection }).site(site_id)?.ok_or(crate::StoreError::Cancelled)?.site;
            let (tz, now) = (time_zone(&site.time_zone)?, crate::clock::app_now(connection)?);
            let noted = match heard.content {
                Err(fault) => Noted { fault, ..Noted::default() },
                Ok((days, hours)) => {
                    let of = Of { site_id, source_id, site: &site, tz: &tz, now };
                    let held = if hours.is_empty() { days.len() } else { hours.len() };
                    let (changed, until) = match heard.foretold {
                        true => (foretell(connection, &of, days)?, until(days, hours, &tz)),
                        false => {
                            let (days, hours) = of.measured(days, hours);
                            (measure(connection, &of, &days, &hours)?, until(&days, &hours, &tz))
                        }
                    };
                    Noted { changed, held, until, by_day: hours.is_empty(), fault: "" }
                }
            };
            note(connection, source_id, &heard, &noted)?;
            Ok(noted.changed)
        })
    }
}

/// Whose answer is imported, and when.
struct Of<'a> {
    site_id: SiteKey,
    source_id: i64,
    site: &'a Site,
    tz: &'a TimeZone,
    now: Timestamp,
}

impl Of<'_> {
    /// What of an answer can have been measured: a day that is not over is no day yet, whatever a service says of it, and
    /// days count only where there are no hours.
    fn measured(&self, days: &[RawDay], hours: &[RawHour]) -> (Vec<RawDay>, Vec<RawHour>) {
        let today = self.now.to_zoned(self.tz.clone()).date();
        let over = |hour: &&RawHour| hour.start + SignedDuration::from_hours(1) <= self.now;
        let days = days.iter().filter(|d| hours.is_empty() && d.date < today).copied().collect();
        (days, hours.iter().filter(over).copied().collect())
    }
}

/// What an answer came to.
#[derive(Default)]
struct Noted<'a> {
    changed: usize,
    held: usize,
    until: Option<Timestamp>,
    by_day: bool,
    fault: &'a str,
}

fn foretell(connection: &mut PgConnection, of: &Of<'_>, days: &[RawDay]) -> Result<usize> {
    let changed = forecasts::keep(connection, of.source_id, days, of.tz, of.now)?;
    if changed > 0 {
        weather_moved(connection, of.site_id)?;
    }
    Ok(changed)
}

/// Puts what was measured into the layer of its source: hours over the hours that are known of their day, and the day
/// made of all of them; days only where there are no hours.
fn measure(connection: &mut PgConnection, of: &Of<'_>, days: &[RawDay], hours: &[RawHour]) -> Result<usize> {
    let by: i64 =
        weather_services::table.find(of.source_id).select(weather_services::saved_by).first(connection)?;
    let sources = super::sources::of_site(connection, of.site_id)?;
    let source = sources.iter().find(|s| s.id == of.source_id);
    let station = source.map_or(of.site.station(), |s| s.station(of.site));
    let dates = || days.iter().map(|day| day.date).chain(hours.iter().map(|hour| hour.local_date));
    let (Some(first), Some(last)) = (dates().min(), dates().max()) else { return Ok(0) };
    let name = ("answers of a weather service", by);
    let layer = Layer::of(connection, of.site_id, of.source_id, name.0, name.1, first)?;
    let (known_days, known_hours) = layer.known(connection, first, last)?;
    let mut changed = 0;
    let stood = |date| known_days.get(&date).copied().unwrap_or_else(|| RawDay::new(date));
    for day in days.iter().filter(|day| stood(day.date) != **day) {
        let hours = known_hours.get(&day.date).map_or(&[][..], Vec::as_slice);
        layer.replace(connection, day, hours)?;
        changed += 1;
    }
    let known: Vec<RawHour> = known_hours.into_values().flatten().collect();
    for (date, all) in changed_blocks(&known, hours) {
        layer.replace(connection, &made(date, &all, &station), &all)?;
        changed += 1;
    }
    if changed > 0 {
        layer.tell(connection)?;
    }
    Ok(changed)
}

/// The day that hours make.
fn made(date: Date, hours: &[RawHour], station: &Station) -> RawDay {
    let days = days_of(hours, &examine_hours(hours, station), station);
    days.into_iter().find(|day| day.date == date).unwrap_or_else(|| RawDay::new(date))
}

/// Until when an answer knows.
fn until(days: &[RawDay], hours: &[RawHour], tz: &TimeZone) -> Option<Timestamp> {
    match hours.last() {
        Some(last) => Some(last.start + SignedDuration::from_hours(1)),
        None => days.last()?.date.tomorrow().ok().map(|date| midnight(date, tz)),
    }
}

/// Notes an answer; of the older ones the bodies go, and the oldest go whole. The newest that told something is kept
/// however many faults came since: it says since when the service is silent.
fn note(connection: &mut PgConnection, source_id: i64, heard: &Heard<'_>, noted: &Noted<'_>) -> Result<()> {
    let of_kind = weather_answers::source_id.eq(source_id).and(weather_answers::foretold.eq(heard.foretold));
    diesel::update(weather_answers::table.filter(of_kind))
        .set(weather_answers::body.eq(None::<Vec<u8>>))
        .execute(connection)?;
    diesel::insert_into(weather_answers::table)
        .values((
            weather_answers::source_id.eq(source_id),
            weather_answers::foretold.eq(heard.foretold),
            weather_answers::took_ms.eq(i32::try_from(heard.took.as_millis()).unwrap_or(i32::MAX)),
            weather_answers::bytes.eq(count(heard.body.len())),
            weather_answers::held.eq(count(noted.held)),
            weather_answers::changed.eq(count(noted.changed)),
            weather_answers::until.eq(noted.until.map(|at| at.to_diesel())),
            weather_answers::by_day.eq(noted.by_day),
            weather_answers::fault.eq(noted.fault),
            weather_answers::body.eq(Some(heard.body)),
        ))
        .execute(connection)?;
    diesel::sql_query(
        "DELETE FROM weather_answers WHERE source_id = $1 AND id NOT IN \
         (SELECT id FROM weather_answers WHERE source_id = $1 ORDER BY id DESC LIMIT $2) AND id NOT IN \
         (SELECT max(id) FROM weather_answers WHERE source_id = $1 AND until IS NOT NULL GROUP BY foretold)",
    )
    .bind::<BigInt, _>(source_id)
    .bind::<BigInt, _>(KEPT)
    .execute(connection)?;
    Ok(())
}

//! Sensors and their versions, what was done to them, and the plan of a site.

use crate::schema::{sensor_events, sensor_versions, sensors, site_plans, users};
use crate::scope::SiteKey;
use crate::tasks::{self, Task};
use crate::transaction::{NewEvent, Versioned};
use crate::{Action, Change, Result, Saved, Snapshot, StoreError, Subject, document, json};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff_diesel::ToDiesel;
use upland_core::sensors::site_plan::SitePlan;
use upland_core::sensors::{Sensor, SensorHistory};
use upland_formats::{plan_json, sensor_file};

/// A sensor as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct SensorRecord {
    /// Identity.
    pub id: i64,
    /// Its site.
    pub site_id: SiteKey,
    /// Version shown.
    pub version: i32,
    /// When it was installed.
    pub installed_on: Date,
    /// Whether what it reads counts as weather of the site.
    pub feeds_weather: bool,
    /// What it is.
    pub sensor: Sensor,
    /// When it was installed and how it was set before.
    pub history: SensorHistory,
    /// Who saved this version.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
}

impl Versioned for SensorRecord {
    type Item = Sensor;
    fn id(&self) -> i64 {
        self.id
    }
    fn version(&self) -> i32 {
        self.version
    }
    fn item(&self) -> &Sensor {
        &self.sensor
    }
}

/// What was done to a sensor.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SensorEventKind {
    /// It is ignored for a time.
    Bypass,
    /// Its alarms are silent for a time.
    Silence,
    /// A task of upkeep was done; the body names it.
    Task,
    /// A calibration run; the body has its readings and its outcome.
    Calibration,
    /// A threshold was moved; the body has both values and the looks.
    Adjustment,
}

impl SensorEventKind {
    const ALL: [Self; 5] = [Self::Bypass, Self::Silence, Self::Task, Self::Calibration, Self::Adjustment];

    fn code(self) -> &'static str {
        match self {
            Self::Bypass => "bypass",
            Self::Silence => "silence",
            Self::Task => "task",
            Self::Calibration => "calibration",
            Self::Adjustment => "adjustment",
        }
    }

    fn from_code(code: &str) -> Result<Self> {
        Self::ALL
            .into_iter()
            .find(|k| k.code() == code)
            .ok_or_else(|| StoreError::Unknown { what: "sensor event", value: code.to_owned() })
    }
}

/// Something done to a sensor, dated.
#[derive(Debug, Clone, PartialEq)]
pub struct SensorEvent {
    /// Identity.
    pub id: i64,
    /// The sensor.
    pub sensor_id: i64,
    /// What.
    pub kind: SensorEventKind,
    /// When it was, or begins.
    pub from: Timestamp,
    /// When it ends, for what has an end.
    pub until: Option<Timestamp>,
    /// What belongs to its kind.
    pub body: serde_json::Value,
    /// Why.
    pub reason: String,
    /// Who said so.
    pub said_by: String,
    /// When.
    pub said_at: Timestamp,
    /// Whether it was taken back.
    pub undone: bool,
}

/// An event to be kept.
#[derive(Debug, Clone)]
pub struct NewSensorEvent<'a> {
    /// What.
    pub kind: SensorEventKind,
    /// When it was, or begins.
    pub from: Timestamp,
    /// When it ends; bypass and silence always have an end.
    pub until: Option<Timestamp>,
    /// What belongs to its kind.
    pub body: serde_json::Value,
    /// Why.
    pub reason: &'a str,
}

type Loaded = (
    (i64, SiteKey, jiff_diesel::Date, bool),
    (i32, serde_json::Value, jiff_diesel::Date, String, jiff_diesel::Timestamp),
);

/// Which sensors to load.
#[derive(Clone, Copy)]
enum Which {
    OfSite(SiteKey),
    One(i64),
}

fn current(connection: &mut PgConnection, which: Which) -> Result<Vec<SensorRecord>> {
    let mut query = sensor_versions::table
        .inner_join(sensors::table)
        .inner_join(users::table)
        .filter(sensors::removed_at.is_null())
        .order((sensor_versions::sensor_id, sensor_versions::version))
        .select((
            (sensor_versions::sensor_id, sensors::site_id, sensors::installed_on, sensors::feeds_weather),
            (
                sensor_versions::version,
                sensor_versions::body,
                sensor_versions::since,
                users::display_name,
                sensor_versions::saved_at,
            ),
        ))
        .into_boxed();
    query = match which {
        Which::OfSite(id) => query.filter(sensors::site_id.eq(id)),
        Which::One(id) => query.filter(sensors::id.eq(id)),
    };
    let rows = query.load::<Loaded>(connection)?;
    rows.chunk_by(|((a, ..), _), ((b, ..), _)| a == b).map(record).collect()
}

/// A sensor from its versions, the oldest first.
fn record(versions: &[Loaded]) -> Result<SensorRecord> {
    let read = |body: &serde_json::Value| document("sensor", sensor_file::read(body.to_string().as_bytes()));
    let Some(((id, site_id, installed_on, feeds_weather), (version, body, _, saved_by, saved_at))) =
        versions.last()
    else {
        return Err(StoreError::Unknown { what: "sensor", value: String::new() });
    };
    let installed_on = installed_on.to_jiff();
    let dated = (0..).zip(versions).map(|(place, (_, (_, body, since, ..))): (usize, &Loaded)| {
        // What it was set to at first counts from the day on which it was installed.
        let since = if place == 0 { installed_on } else { since.to_jiff().max(installed_on) };
        Ok((since, read(body)?))
    });
    let history = SensorHistory::of_versions(Some(installed_on), dated.collect::<Result<_>>()?);
    Ok(SensorRecord {
        id: *id,
        site_id: *site_id,
        version: *version,
        installed_on,
        feeds_weather: *feeds_weather,
        sensor: read(body)?,
        history,
        saved_by: saved_by.clone(),
        saved_at: saved_at.to_jiff(),
    })
}

fn insert_version(
    connection: &mut PgConnection,
    id: i64,
    version: i32,
    since: Option<Date>,
    sensor: &Sensor,
    user_id: i64,
) -> Result<()> {
    diesel::insert_into(sensor_versions::table)
        .values((
            since.map(|since| sensor_versions::since.eq(since.to_diesel())),
            sensor_versions::sensor_id.eq(id),
            sensor_versions::version.eq(version),
            sensor_versions::body.eq(json(&sensor_file::write(sensor))?),
            sensor_versions::saved_by.eq(user_id),
        ))
        .execute(connection)?;
    Ok(())
}

pub(crate) fn insert(
    connection: &mut PgConnection,
    site_id: SiteKey,
    installed_on: Date,
    sensor: &Sensor,
    user_id: i64,
) -> Result<i64> {
    let id: i64 = diesel::insert_into(sensors::table)
        .values((sensors::site_id.eq(site_id), sensors::installed_on.eq(installed_on.to_diesel())))
        .returning(sensors::id)
        .get_result(connection)?;
    insert_version(connection, id, 1, Some(installed_on), sensor, user_id)?;
    Ok(id)
}

pub(crate) fn insert_plan(
    connection: &mut PgConnection,
    site_id: SiteKey,
    plan: &SitePlan,
    user_id: i64,
) -> Result<()> {
    diesel::insert_into(site_plans::table)
        .values((
            site_plans::site_id.eq(site_id),
            site_plans::body.eq(plan_json::plan_to_json(plan)),
            site_plans::saved_by.eq(user_id),
        ))
        .execute(connection)?;
    Ok(())
}

impl Snapshot<'_> {
    /// The sensors of a site, in the order they were installed.
    ///
    /// # Errors
    /// As any query.
    pub fn sensors(&mut self, site_id: SiteKey) -> Result<Vec<SensorRecord>> {
        current(self.connection, Which::OfSite(site_id))
    }

    /// What was done to the sensors of a site, the newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn sensor_events(&mut self, site_id: SiteKey) -> Result<Vec<SensorEvent>> {
        type Row = (
            (i64, i64, String, jiff_diesel::Timestamp, Option<jiff_diesel::Timestamp>),
            (serde_json::Value, String, String, jiff_diesel::Timestamp, Option<jiff_diesel::Timestamp>),
        );
        let rows: Vec<Row> = sensor_events::table
            .inner_join(sensors::table)
            .inner_join(users::table)
            .filter(sensors::site_id.eq(site_id))
            .order((sensor_events::from_at.desc(), sensor_events::id.desc()))
            .select((
                (
                    sensor_events::id,
                    sensor_events::sensor_id,
                    sensor_events::kind,
                    sensor_events::from_at,
                    sensor_events::until_at,
                ),
                (
                    sensor_events::body,
                    sensor_events::reason,
                    users::display_name,
                    sensor_events::said_at,
                    sensor_events::undone_at,
                ),
            ))
            .load(self.connection)?;
        rows.into_iter()
            .map(|((id, sensor_id, kind, from, until), (body, reason, said_by, said_at, undone))| {
                Ok(SensorEvent {
                    id,
                    sensor_id,
                    kind: SensorEventKind::from_code(&kind)?,
                    from: from.to_jiff(),
                    until: until.map(jiff_diesel::Timestamp::to_jiff),
                    body,
                    reason,
                    said_by,
                    said_at: said_at.to_jiff(),
                    undone: undone.is_some(),
                })
            })
            .collect()
    }

    /// The plan of a site with its identity, which a save names; empty when none was drawn.
    ///
    /// # Errors
    /// As any query.
    pub fn site_plan(&mut self, site_id: SiteKey) -> Result<(i64, SitePlan)> {
        let row: Option<(i64, serde_json::Value)> = site_plans::table
            .filter(site_plans::site_id.eq(site_id))
            .order(site_plans::id.desc())
            .select((site_plans::id, site_plans::body))
            .first(self.connection)
            .optional()?;
        match row {
            Some((id, body)) => Ok((id, document("plan", plan_json::plan_from_json(body))?)),
            None => Ok((0, SitePlan::default())),
        }
    }
}

impl Change<'_> {
    /// A sensor of the site that is installed.
    pub(crate) fn own_sensor(&mut self, id: i64) -> Result<Option<SensorRecord>> {
        let site_id = self.site_id;
        Ok(current(self.connection, Which::One(id))?.pop().filter(|s| s.site_id == site_id))
    }

    /// Hangs a sensor.
    ///
    /// # Errors
    /// As any query.
    pub fn create_sensor(&mut self, installed_on: Date, sensor: &Sensor) -> Result<i64> {
        let (site_id, actor) = (self.site_id, self.actor);
        let id = insert(self.connection, site_id, installed_on, sensor, actor)?;
        self.record(NewEvent::new(Subject::Sensor, Some(id), Action::Created).said(&sensor.name));
        Ok(id)
    }

    /// Saves a sensor that was edited from `base_version`. `None` when it was taken down meanwhile.
    ///
    /// # Errors
    /// As any query.
    pub fn save_sensor(
        &mut self,
        id: i64,
        base_version: i32,
        sensor: &Sensor,
    ) -> Result<Option<Saved<SensorRecord>>> {
        self.save_sensor_since(id, base_version, sensor, None)
    }

    /// The same from a date on: the nights before keep what was set then. `None`: from today on.
    ///
    /// # Errors
    /// As any query.
    pub fn save_sensor_since(
        &mut self,
        id: i64,
        base_version: i32,
        sensor: &Sensor,
        since: Option<Date>,
    ) -> Result<Option<Saved<SensorRecord>>> {
        let now = self.own_sensor(id)?;
        self.save_version(Subject::Sensor, now, base_version, sensor, |connection, version, user_id| {
            insert_version(connection, id, version, since, sensor, user_id)
        })
    }

    /// Keeps the history that a site file brought with a sensor: its earlier settings, and the present one from when they
    /// end.
    pub(crate) fn insert_with_history(
        connection: &mut PgConnection,
        site_id: SiteKey,
        sensor: &Sensor,
        history: &SensorHistory,
        today: Date,
        user_id: i64,
    ) -> Result<()> {
        let installed_on = history.installed_on.unwrap_or(today);
        let Some(first) = history.earlier.first() else {
            insert(connection, site_id, installed_on, sensor, user_id)?;
            return Ok(());
        };
        let id = insert(connection, site_id, installed_on, &first.sensor, user_id)?;
        let later = history.earlier.iter().skip(1).map(|e| &e.sensor).chain([sensor]);
        for ((number, since), set) in (2..).zip(history.earlier.iter().map(|e| e.until)).zip(later) {
            insert_version(connection, id, number, Some(since), set, user_id)?;
        }
        Ok(())
    }

    /// Says when a sensor was installed; its upkeep counts from there. `false` when it is not of this site.
    ///
    /// # Errors
    /// As any query.
    pub fn set_sensor_installed(&mut self, id: i64, on: Date) -> Result<bool> {
        let Some(now) = self.own_sensor(id)? else { return Ok(false) };
        if now.installed_on == on {
            return Ok(true);
        }
        diesel::update(sensors::table.find(id))
            .set(sensors::installed_on.eq(on.to_diesel()))
            .execute(self.connection)?;
        let event = NewEvent::new(Subject::InstallDate, Some(id), Action::Changed).said(&now.sensor.name);
        self.record(event.between(now.installed_on.to_string(), on.to_string()));
        Ok(true)
    }

    /// Says whether what a sensor reads counts as weather of the site, and asks for every day of it to be computed anew.
    /// `false` when it is not of this site.
    ///
    /// # Errors
    /// As any query.
    pub fn set_sensor_feeds(&mut self, id: i64, feeds: bool) -> Result<bool> {
        let Some(now) = self.own_sensor(id)? else { return Ok(false) };
        if now.feeds_weather == feeds {
            return Ok(true);
        }
        diesel::update(sensors::table.find(id))
            .set(sensors::feeds_weather.eq(feeds))
            .execute(self.connection)?;
        diesel::sql_query(
            "INSERT INTO readings_due (sensor_id, day) \
             SELECT DISTINCT sensor_id, (bucket AT TIME ZONE 'UTC')::date FROM sensor_buckets WHERE sensor_id = $1 \
             ON CONFLICT (sensor_id, day) DO UPDATE SET posts = readings_due.posts + 1",
        )
        .bind::<diesel::sql_types::BigInt, _>(id)
        .execute(self.connection)?;
        let site = self.site_id;
        tasks::ask(self.connection, Task::Readings, site.number(), jiff::SignedDuration::ZERO)?;
        let words = if feeds { "counts as weather" } else { "is left out of the weather" };
        let event = NewEvent::new(Subject::Sensor, Some(id), Action::Changed);
        self.record(event.said(format!("{} {words}", now.sensor.name)));
        Ok(true)
    }

    /// Keeps an event of a sensor; returns its identity, or `None` when the sensor is not of this site.
    ///
    /// # Errors
    /// As any query.
    pub fn add_sensor_event(&mut self, sensor_id: i64, event: &NewSensorEvent<'_>) -> Result<Option<i64>> {
        if self.own_sensor(sensor_id)?.is_none() {
            return Ok(None);
        }
        let actor = self.actor;
        let id: i64 = diesel::insert_into(sensor_events::table)
            .values((
                sensor_events::sensor_id.eq(sensor_id),
                sensor_events::kind.eq(event.kind.code()),
                sensor_events::from_at.eq(event.from.to_diesel()),
                sensor_events::until_at.eq(event.until.map(ToDiesel::to_diesel)),
                sensor_events::body.eq(&event.body),
                sensor_events::reason.eq(event.reason),
                sensor_events::said_by.eq(actor),
            ))
            .returning(sensor_events::id)
            .get_result(self.connection)?;
        let said = format!("{}: {}", event.kind.code(), event.reason);
        self.record(
            NewEvent::new(Subject::SensorEvent, Some(id), Action::Created).with(event.kind.code()).said(said),
        );
        Ok(Some(id))
    }

    /// Saves a plan that was edited from the one named; `false` when another was saved meanwhile.
    ///
    /// # Errors
    /// As any query.
    pub fn save_site_plan(&mut self, base: i64, plan: &SitePlan) -> Result<bool> {
        let (site_id, actor) = (self.site_id, self.actor);
        let (now, before) = self.site_plan(site_id)?;
        if now != base {
            return Ok(false);
        }
        if before != *plan {
            insert_plan(self.connection, site_id, plan, actor)?;
            self.record(NewEvent::new(Subject::Plan, None, Action::Changed));
        }
        Ok(true)
    }
}

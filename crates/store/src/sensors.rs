//! Sensors and their versions, what was done to them, and the plan of a site.

use crate::schema::{sensor_events, sensor_versions, sensors, site_plans, users};
use crate::{Result, Saved, Store, StoreError, document, json};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff_diesel::ToDiesel;
use upland_core::sensors::Sensor;
use upland_core::sensors::plan::Plan;
use upland_formats::sensor_file;

/// A sensor as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct SensorRecord {
    /// Identity.
    pub id: i64,
    /// Its site.
    pub site_id: i64,
    /// Version shown.
    pub version: i32,
    /// When it was hung.
    pub installed_on: Date,
    /// What it is.
    pub sensor: Sensor,
    /// Who saved this version.
    pub saved_by: String,
    /// When.
    pub saved_at: Timestamp,
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

type Loaded = (i64, i64, jiff_diesel::Date, i32, serde_json::Value, String, jiff_diesel::Timestamp);

/// Which sensors to load.
#[derive(Clone, Copy)]
enum Which {
    OfSite(i64),
    One(i64),
}

fn current(connection: &mut PgConnection, which: Which) -> Result<Vec<SensorRecord>> {
    let mut query = sensor_versions::table
        .inner_join(sensors::table)
        .inner_join(users::table)
        .filter(sensors::removed_at.is_null())
        .distinct_on(sensor_versions::sensor_id)
        .order((sensor_versions::sensor_id, sensor_versions::version.desc()))
        .select((
            sensor_versions::sensor_id,
            sensors::site_id,
            sensors::installed_on,
            sensor_versions::version,
            sensor_versions::body,
            users::display_name,
            sensor_versions::saved_at,
        ))
        .into_boxed();
    query = match which {
        Which::OfSite(id) => query.filter(sensors::site_id.eq(id)),
        Which::One(id) => query.filter(sensors::id.eq(id)),
    };
    query
        .load::<Loaded>(connection)?
        .into_iter()
        .map(|(id, site_id, installed_on, version, body, saved_by, saved_at)| {
            Ok(SensorRecord {
                id,
                site_id,
                version,
                installed_on: installed_on.to_jiff(),
                sensor: document("sensor", sensor_file::read(body.to_string().as_bytes()))?,
                saved_by,
                saved_at: saved_at.to_jiff(),
            })
        })
        .collect()
}

fn insert_version(
    connection: &mut PgConnection,
    id: i64,
    version: i32,
    sensor: &Sensor,
    user_id: i64,
) -> Result<()> {
    diesel::insert_into(sensor_versions::table)
        .values((
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
    site_id: i64,
    installed_on: Date,
    sensor: &Sensor,
    user_id: i64,
) -> Result<i64> {
    let id: i64 = diesel::insert_into(sensors::table)
        .values((sensors::site_id.eq(site_id), sensors::installed_on.eq(installed_on.to_diesel())))
        .returning(sensors::id)
        .get_result(connection)?;
    insert_version(connection, id, 1, sensor, user_id)?;
    Ok(id)
}

pub(crate) fn insert_plan(
    connection: &mut PgConnection,
    site_id: i64,
    plan: &Plan,
    user_id: i64,
) -> Result<()> {
    diesel::insert_into(site_plans::table)
        .values((
            site_plans::site_id.eq(site_id),
            site_plans::body.eq(sensor_file::plan_to_json(plan)),
            site_plans::saved_by.eq(user_id),
        ))
        .execute(connection)?;
    Ok(())
}

impl Store {
    /// The sensors of a site, in the order they were hung.
    ///
    /// # Errors
    /// As any query.
    pub fn sensors(&self, site_id: i64) -> Result<Vec<SensorRecord>> {
        current(&mut *self.connection()?, Which::OfSite(site_id))
    }

    /// Hangs a sensor.
    ///
    /// # Errors
    /// As any query.
    pub fn create_sensor(
        &self,
        site_id: i64,
        installed_on: Date,
        sensor: &Sensor,
        user_id: i64,
    ) -> Result<i64> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| insert(connection, site_id, installed_on, sensor, user_id))
    }

    /// Saves a sensor that was edited from `base_version`. `None` when it was taken down meanwhile.
    ///
    /// # Errors
    /// As any query.
    pub fn save_sensor(
        &self,
        id: i64,
        base_version: i32,
        sensor: &Sensor,
        user_id: i64,
    ) -> Result<Option<Saved<SensorRecord>>> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            // The lock orders two savers, so that the second sees the first.
            let locked: Option<i64> =
                sensors::table.find(id).select(sensors::id).for_update().first(connection).optional()?;
            if locked.is_none() {
                return Ok(None);
            }
            let Some(now) = current(connection, Which::One(id))?.pop() else { return Ok(None) };
            if now.version != base_version {
                return Ok(Some(Saved::Conflict(Box::new(now))));
            }
            if now.sensor == *sensor {
                return Ok(Some(Saved::As(now.version)));
            }
            insert_version(connection, id, now.version + 1, sensor, user_id)?;
            Ok(Some(Saved::As(now.version + 1)))
        })
    }

    /// Says when a sensor was hung; its upkeep counts from there.
    ///
    /// # Errors
    /// As any query.
    pub fn set_sensor_installed(&self, id: i64, on: Date) -> Result<()> {
        diesel::update(sensors::table.find(id))
            .set(sensors::installed_on.eq(on.to_diesel()))
            .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Takes a sensor of a site down, or hangs it again; nothing is deleted.
    ///
    /// # Errors
    /// As any query.
    pub fn set_sensor_removed(&self, site_id: i64, id: i64, removed: Option<Timestamp>) -> Result<bool> {
        let rows =
            diesel::update(sensors::table.filter(sensors::id.eq(id).and(sensors::site_id.eq(site_id))))
                .set(sensors::removed_at.eq(removed.map(ToDiesel::to_diesel)))
                .execute(&mut self.connection()?)?;
        Ok(rows == 1)
    }

    /// What was done to the sensors of a site, the newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn sensor_events(&self, site_id: i64) -> Result<Vec<SensorEvent>> {
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
            .load(&mut self.connection()?)?;
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

    /// Keeps an event of a sensor; returns its identity.
    ///
    /// # Errors
    /// As any query.
    pub fn add_sensor_event(&self, sensor_id: i64, event: &NewSensorEvent<'_>, user_id: i64) -> Result<i64> {
        Ok(diesel::insert_into(sensor_events::table)
            .values((
                sensor_events::sensor_id.eq(sensor_id),
                sensor_events::kind.eq(event.kind.code()),
                sensor_events::from_at.eq(event.from.to_diesel()),
                sensor_events::until_at.eq(event.until.map(ToDiesel::to_diesel)),
                sensor_events::body.eq(&event.body),
                sensor_events::reason.eq(event.reason),
                sensor_events::said_by.eq(user_id),
            ))
            .returning(sensor_events::id)
            .get_result(&mut self.connection()?)?)
    }

    /// Takes an event of a sensor back, or lets it stand again.
    ///
    /// # Errors
    /// As any query.
    pub fn set_sensor_event_undone(
        &self,
        sensor_id: i64,
        id: i64,
        undone: Option<Timestamp>,
    ) -> Result<bool> {
        let rows = diesel::update(
            sensor_events::table.filter(sensor_events::id.eq(id).and(sensor_events::sensor_id.eq(sensor_id))),
        )
        .set(sensor_events::undone_at.eq(undone.map(ToDiesel::to_diesel)))
        .execute(&mut self.connection()?)?;
        Ok(rows == 1)
    }

    /// The plan of a site with its identity, which a save names; empty when none was drawn.
    ///
    /// # Errors
    /// As any query.
    pub fn site_plan(&self, site_id: i64) -> Result<(i64, Plan)> {
        let row: Option<(i64, serde_json::Value)> = site_plans::table
            .filter(site_plans::site_id.eq(site_id))
            .order(site_plans::id.desc())
            .select((site_plans::id, site_plans::body))
            .first(&mut self.connection()?)
            .optional()?;
        match row {
            Some((id, body)) => Ok((id, document("plan", sensor_file::plan_from_json(body))?)),
            None => Ok((0, Plan::default())),
        }
    }

    /// Saves a plan that was edited from the one named; `false` when another was saved meanwhile.
    ///
    /// # Errors
    /// As any query.
    pub fn save_site_plan(&self, site_id: i64, base: i64, plan: &Plan, user_id: i64) -> Result<bool> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            crate::schema::sites::table
                .find(site_id)
                .select(crate::schema::sites::id)
                .for_update()
                .first::<i64>(connection)?;
            let now: Option<i64> = site_plans::table
                .filter(site_plans::site_id.eq(site_id))
                .select(diesel::dsl::max(site_plans::id))
                .first(connection)?;
            if now.unwrap_or(0) != base {
                return Ok(false);
            }
            insert_plan(connection, site_id, plan, user_id)?;
            Ok(true)
        })
    }
}

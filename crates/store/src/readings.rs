//! Readings and the devices that post them. A reading is kept once for its sensor, channel and
//! instant; what was refused is counted.

use crate::schema::{reading_refusals, sensor_buckets, sensor_devices, sensor_readings, sensors, users};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, Store, Subject, known, tasks};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Double, Nullable, Text, Timestamptz};
use jiff::Timestamp;
use jiff_diesel::ToDiesel;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::sensors::state::ByChannel;
use upland_core::sensors::weather::WEATHER_CHANNELS;
use upland_core::sensors::{Channel, Reading, Readings};

/// A device as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceRecord {
    /// Identity.
    pub id: i64,
    /// Its sensor.
    pub sensor_id: i64,
    /// Name.
    pub name: String,
    /// Who made it.
    pub made_by: String,
    /// When.
    pub made_at: Timestamp,
    /// When it last posted.
    pub seen_at: Option<Timestamp>,
    /// From where.
    pub seen_from: Option<String>,
    /// When its token was revoked.
    pub revoked_at: Option<Timestamp>,
}

/// What a token opens.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Posting {
    /// The device.
    pub device_id: i64,
    /// Its sensor.
    pub sensor_id: i64,
    /// The token was revoked, or the sensor taken down.
    pub revoked: bool,
    /// Another device was seen at the same address in the last hour, by name.
    pub shares_address_with: Option<String>,
    /// By how much the application's clock is ahead of real time.
    pub clock_ahead: Option<jiff::SignedDuration>,
    /// New readings that the device has brought today, by universal time.
    pub taken_today: usize,
}

/// What was refused, counted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    /// The device; `None`: an unknown token.
    pub device_id: Option<i64>,
    /// Why.
    pub reason: String,
    /// How often.
    pub count: i64,
    /// When last.
    pub last_at: Timestamp,
    /// The last of them.
    pub example: String,
}

/// New readings that a device has brought today, by universal time.
const TAKEN_TODAY: &str =
    "CASE WHEN quota_day = (now() AT TIME ZONE 'UTC')::date THEN quota_taken ELSE 0 END::bigint";

/// A reading with its channel.
pub type ChannelReading = (Channel, Reading);

/// Keeps readings of a sensor in one statement, their ten minutes in step, and the days of which weather is due; says how
/// many were new, and whether a day became due that was not. Rain is counted to the ten minutes that end with it.
const INSERT: &str = "
    WITH new AS (
        INSERT INTO sensor_readings (sensor_id, channel, at, value, device_id)
        SELECT $1, channel, at, value, $2 FROM unnest($3::text[], $4::timestamptz[], $5::float8[]) AS t(channel, at, value)
        ON CONFLICT DO NOTHING
        RETURNING channel, at, value
    ), thin AS (
        INSERT INTO sensor_buckets (sensor_id, channel, bucket, at, value, readings, sum)
        SELECT $1, channel,
               date_bin('10 minutes', at - CASE channel WHEN 'rain_mm' THEN interval '1 microsecond' ELSE '0' END,
                        TIMESTAMPTZ '2000-01-01'),
               max(at),
               CASE WHEN channel = 'rain_mm' THEN sum(value) ELSE (array_agg(value ORDER BY at DESC))[1] END,
               count(*), sum(value)
        FROM new GROUP BY 2, 3
        ON CONFLICT (sensor_id, channel, bucket) DO UPDATE SET
            value = CASE WHEN EXCLUDED.channel = 'rain_mm' THEN sensor_buckets.value + EXCLUDED.value
                         WHEN EXCLUDED.at >= sensor_buckets.at THEN EXCLUDED.value
                         ELSE sensor_buckets.value END,
            at = GREATEST(sensor_buckets.at, EXCLUDED.at),
            readings = sensor_buckets.readings + EXCLUDED.readings,
            sum = sensor_buckets.sum + EXCLUDED.sum
    ), due AS (
        -- A post that finds the day due waits for whoever is computing it, and is then due again.
        INSERT INTO readings_due (sensor_id, day)
        SELECT DISTINCT $1, ((at - interval '1 microsecond') AT TIME ZONE 'UTC')::date AS day FROM new
        WHERE channel = ANY($6) ORDER BY day
        ON CONFLICT (sensor_id, day) DO UPDATE SET posts = readings_due.posts + 1
        RETURNING posts
    ), raised AS (
        INSERT INTO site_readings (site_id, last_at)
        SELECT site_id, (SELECT max(at) FROM new) FROM sensors WHERE id = $1 AND EXISTS (SELECT FROM new)
        ON CONFLICT (site_id) DO UPDATE SET
            revision = site_readings.revision + 1, last_at = GREATEST(site_readings.last_at, EXCLUDED.last_at)
    )
    SELECT (SELECT count(*) FROM new) AS new, EXISTS (SELECT FROM due WHERE posts = 1) AS fresh, app_now() AS now";

/// How many readings of a statement were new.
#[derive(QueryableByName)]
struct New {
    #[diesel(sql_type = BigInt)]
    new: i64,
    #[diesel(sql_type = diesel::sql_types::Bool)]
    fresh: bool,
    #[diesel(sql_type = Timestamptz)]
    now: jiff_diesel::Timestamp,
}

/// Late readings are computed with after so long, together with those that come meanwhile, seconds.
const LATE_S: i64 = 15;
/// A whole hour of any time zone ends with a quarter of an hour of universal time, seconds.
const QUARTER_S: i64 = 900;

/// After how long a post is computed with: when the quarter of an hour that goes on is over, and soon when something of it
/// is older. `None` when that is asked for already.
fn gathered_after(new: &New, readings: &[ChannelReading]) -> Option<jiff::SignedDuration> {
    let now = new.now.to_jiff();
    let into = now.as_second().rem_euclid(QUARTER_S);
    let is_late = readings.iter().any(|(_, r)| r.at.as_second() <= now.as_second() - into);
    if new.new == 0 || !(is_late || new.fresh) {
        return None;
    }
    Some(jiff::SignedDuration::from_secs(if is_late { LATE_S } else { QUARTER_S - into + LATE_S }))
}

/// Days back that a state can depend on what a channel read.
const fn memory_days(channel: Channel) -> i64 {
    match channel {
        // A switch stays wet for weeks of winter.
        Channel::Rain | Channel::Contact => 60,
        Channel::Flow => 30,
        Channel::Et => 20,
        _ => 4,
    }
}

fn insert_readings(
    connection: &mut PgConnection,
    sensor_id: i64,
    device_id: Option<i64>,
    readings: &[ChannelReading],
) -> Result<usize> {
    let channels: Vec<&str> = readings.iter().map(|(c, _)| c.code()).collect();
    let times: Vec<jiff_diesel::Timestamp> = readings.iter().map(|(_, r)| r.at.to_diesel()).collect();
    let values: Vec<f64> = readings.iter().map(|(_, r)| r.value).collect();
    diesel::sql_query(
        "SELECT readings_month(m) FROM (SELECT DISTINCT date_trunc('month', at) AS m FROM unnest($1) at) x",
    )
    .bind::<Array<Timestamptz>, _>(&times)
    .execute(connection)?;
    let new: New = diesel::sql_query(INSERT)
        .bind::<BigInt, _>(sensor_id)
        .bind::<Nullable<BigInt>, _>(device_id)
        .bind::<Array<Text>, _>(channels)
        .bind::<Array<Timestamptz>, _>(times)
        .bind::<Array<Double>, _>(values)
        .bind::<Array<Text>, _>(WEATHER_CHANNELS.map(|(channel, _)| channel.code()).to_vec())
        .get_result(connection)?;
    if new.new > 0
        && let Some(device) = device_id
    {
        diesel::sql_query(format!(
            "UPDATE sensor_devices SET quota_day = (now() AT TIME ZONE 'UTC')::date, \
                 quota_taken = $2::int + {TAKEN_TODAY} WHERE id = $1"
        ))
        .bind::<BigInt, _>(device)
        .bind::<BigInt, _>(new.new)
        .execute(connection)?;
    }
    if let Some(after) = gathered_after(&new, readings) {
        let site: i64 = sensors::table.find(sensor_id).select(sensors::site_id).first(connection)?;
        tasks::ask(connection, tasks::Task::Readings, site, after)?;
    }
    Ok(usize::try_from(new.new).unwrap_or(0))
}

const REFUSE: &str = "
    INSERT INTO reading_refusals (device_id, reason, count, last_at, example) VALUES ($1, $2, $3, now(), $4)
    ON CONFLICT (COALESCE(device_id, 0), reason)
    DO UPDATE SET count = reading_refusals.count + EXCLUDED.count, last_at = now(), example = EXCLUDED.example";

impl Snapshot<'_> {
    /// The devices of the sensors of a site.
    ///
    /// # Errors
    /// As any query.
    pub fn devices(&mut self, site_id: SiteKey) -> Result<Vec<DeviceRecord>> {
        type Row = (
            (i64, i64, String, String, jiff_diesel::Timestamp),
            (Option<jiff_diesel::Timestamp>, Option<String>, Option<jiff_diesel::Timestamp>),
        );
        let rows: Vec<Row> = sensor_devices::table
            .inner_join(sensors::table)
            .inner_join(users::table)
            .filter(sensors::site_id.eq(site_id))
            .order(sensor_devices::id)
            .select((
                (
                    sensor_devices::id,
                    sensor_devices::sensor_id,
                    sensor_devices::name,
                    users::display_name,
                    sensor_devices::made_at,
                ),
                (sensor_devices::seen_at, sensor_devices::seen_from, sensor_devices::revoked_at),
            ))
            .load(self.connection)?;
        Ok(rows
            .into_iter()
            .map(|((id, sensor_id, name, made_by, made_at), (seen_at, seen_from, revoked_at))| DeviceRecord {
                id,
                sensor_id,
                name,
                made_by,
                made_at: made_at.to_jiff(),
                seen_at: seen_at.map(jiff_diesel::Timestamp::to_jiff),
                seen_from,
                revoked_at: revoked_at.map(jiff_diesel::Timestamp::to_jiff),
            })
            .collect())
    }

    /// What was refused of the devices of a site, and of unknown tokens, the latest first.
    ///
    /// # Errors
    /// As any query.
    pub fn refusals(&mut self, devices: &[i64]) -> Result<Vec<Refused>> {
        type Row = (Option<i64>, String, i64, jiff_diesel::Timestamp, String);
        let rows: Vec<Row> = reading_refusals::table
            .filter(reading_refusals::device_id.is_null().or(reading_refusals::device_id.eq_any(devices)))
            .order(reading_refusals::last_at.desc())
            .select((
                reading_refusals::device_id,
                reading_refusals::reason,
                reading_refusals::count,
                reading_refusals::last_at,
                reading_refusals::example,
            ))
            .load(self.connection)?;
        Ok(rows
            .into_iter()
            .map(|(device_id, reason, count, last_at, example)| Refused {
                device_id,
                reason,
                count,
                last_at: last_at.to_jiff(),
                example,
            })
            .collect())
    }

    /// What some sensors read until an instant, by ten minutes and as far back as a state can depend
    /// on it: rain as the sum of its ten minutes, else the last value of them.
    ///
    /// # Errors
    /// As any query.
    pub fn readings(&mut self, sensors: &[i64], until: Timestamp) -> Result<BTreeMap<i64, ByChannel>> {
        type Row = (i64, String, jiff_diesel::Timestamp, f64);
        let connection = &mut *self.connection;
        let mut lists: BTreeMap<i64, BTreeMap<Channel, Vec<Reading>>> = BTreeMap::new();
        for days in [60, 30, 20, 4] {
            let codes: Vec<&str> =
                Channel::ALL.into_iter().filter(|c| memory_days(*c) == days).map(Coded::code).collect();
            let from = until - jiff::SignedDuration::from_hours(24 * days);
            let rows: Vec<Row> = sensor_buckets::table
                .filter(sensor_buckets::sensor_id.eq_any(sensors))
                .filter(sensor_buckets::channel.eq_any(codes))
                .filter(sensor_buckets::bucket.ge(from.to_diesel()))
                .filter(sensor_buckets::at.le(until.to_diesel()))
                .select((
                    sensor_buckets::sensor_id,
                    sensor_buckets::channel,
                    sensor_buckets::at,
                    sensor_buckets::value,
                ))
                .load(connection)?;
            for (sensor, channel, at, value) in rows {
                let channel: Channel = known("channel", &channel)?;
                lists
                    .entry(sensor)
                    .or_default()
                    .entry(channel)
                    .or_default()
                    .push(Reading { at: at.to_jiff(), value });
            }
        }
        Ok(lists
            .into_iter()
            .map(|(id, channels)| {
                (id, channels.into_iter().map(|(c, list)| (c, Readings::new(list))).collect())
            })
            .collect())
    }

    /// Every reading of one channel of a sensor from an instant to another, as it came.
    ///
    /// # Errors
    /// As any query.
    pub fn raw_readings(
        &mut self,
        sensor_id: i64,
        channel: Channel,
        from: Timestamp,
        until: Timestamp,
    ) -> Result<Vec<Reading>> {
        let rows: Vec<(jiff_diesel::Timestamp, f64)> = sensor_readings::table
            .filter(sensor_readings::sensor_id.eq(sensor_id).and(sensor_readings::channel.eq(channel.code())))
            .filter(sensor_readings::at.between(from.to_diesel(), until.to_diesel()))
            .order(sensor_readings::at)
            .select((sensor_readings::at, sensor_readings::value))
            .load(self.connection)?;
        Ok(rows.into_iter().map(|(at, value)| Reading { at: at.to_jiff(), value }).collect())
    }
}

impl Store {
    /// What a token with a hash opens; `None` for an unknown one. Using the newest token ends the one
    /// before it.
    ///
    /// # Errors
    /// As any query.
    pub fn posting(&self, token_hash: &[u8], from: &str) -> Result<Option<Posting>> {
        let mut connection = self.connection()?;
        type Row = (i64, i64, Option<jiff_diesel::Timestamp>, Option<jiff_diesel::Timestamp>, Vec<u8>, bool);
        let row: Option<Row> = sensor_devices::table
            .inner_join(sensors::table)
            .filter(sensor_devices::token_hash.eq(token_hash).or(sensor_devices::old_hash.eq(token_hash)))
            .select((
                sensor_devices::id,
                sensor_devices::sensor_id,
                sensor_devices::revoked_at,
                sensors::removed_at,
                sensor_devices::token_hash,
                sensor_devices::old_hash.is_not_null(),
            ))
            .first(&mut connection)
            .optional()?;
        let Some((device_id, sensor_id, revoked_at, removed_at, newest, has_old)) = row else {
            return Ok(None);
        };
        let revoked = revoked_at.is_some() || removed_at.is_some();
        let (mut shares_address_with, mut taken_today) = (None, 0);
        if !revoked {
            if has_old && newest == token_hash {
                diesel::update(sensor_devices::table.find(device_id))
                    .set(sensor_devices::old_hash.eq(None::<Vec<u8>>))
                    .execute(&mut connection)?;
            }
            let taken: i64 = diesel::update(sensor_devices::table.find(device_id))
                .set((sensor_devices::seen_at.eq(diesel::dsl::now), sensor_devices::seen_from.eq(from)))
                .returning(diesel::dsl::sql::<BigInt>(TAKEN_TODAY))
                .get_result(&mut connection)?;
            taken_today = usize::try_from(taken).unwrap_or(0);
            // Of the same site alone: a token says nothing of others.
            let site =
                sensors::table.find(sensor_id).select(sensors::site_id).first::<SiteKey>(&mut connection)?;
            let beside = sensors::table.filter(sensors::site_id.eq(site)).select(sensors::id);
            shares_address_with = sensor_devices::table
                .filter(sensor_devices::sensor_id.eq_any(beside))
                .filter(sensor_devices::id.ne(device_id).and(sensor_devices::seen_from.eq(from)))
                .filter(sensor_devices::revoked_at.is_null())
                .filter(
                    sensor_devices::seen_at
                        .gt(diesel::dsl::sql::<Nullable<Timestamptz>>("now() - interval '1 hour'")),
                )
                .select(sensor_devices::name)
                .first(&mut connection)
                .optional()?;
        }
        let clock_ahead = crate::clock::ahead(&mut connection)?;
        Ok(Some(Posting { device_id, sensor_id, revoked, shares_address_with, clock_ahead, taken_today }))
    }

    /// Keeps readings of a sensor, all or none; returns how many were new. A reading that is there
    /// already stays as it is.
    ///
    /// # Errors
    /// As any query.
    pub fn add_readings(
        &self,
        sensor_id: i64,
        device_id: Option<i64>,
        readings: &[ChannelReading],
    ) -> Result<usize> {
        if readings.is_empty() {
            return Ok(0);
        }
        self.connection()?
            .transaction(|connection| insert_readings(connection, sensor_id, device_id, readings))
    }

    /// Counts what was refused.
    ///
    /// # Errors
    /// As any query.
    pub fn count_refusals(
        &self,
        device_id: Option<i64>,
        reason: &str,
        count: i64,
        example: &str,
    ) -> Result<()> {
        diesel::sql_query(REFUSE)
            .bind::<Nullable<BigInt>, _>(device_id)
            .bind::<Text, _>(reason)
            .bind::<BigInt, _>(count)
            .bind::<Text, _>(example)
            .execute(&mut self.connection()?)?;
        Ok(())
    }
}

impl Change<'_> {
    /// Keeps readings that were typed for a sensor; returns how many were new, or `None` when it is not of this
    /// site.
    ///
    /// # Errors
    /// As any query.
    pub fn add_readings(&mut self, sensor_id: i64, readings: &[ChannelReading]) -> Result<Option<usize>> {
        if self.own_sensor(sensor_id)?.is_none() {
            return Ok(None);
        }
        insert_readings(self.connection, sensor_id, None, readings).map(Some)
    }

    /// Makes a device whose token has a hash; `None` when the sensor is not of this site.
    ///
    /// # Errors
    /// As any query.
    pub fn create_device(&mut self, sensor_id: i64, name: &str, token_hash: &[u8]) -> Result<Option<i64>> {
        if self.own_sensor(sensor_id)?.is_none() {
            return Ok(None);
        }
        let actor = self.actor;
        let id: i64 = diesel::insert_into(sensor_devices::table)
            .values((
                sensor_devices::sensor_id.eq(sensor_id),
                sensor_devices::name.eq(name),
                sensor_devices::token_hash.eq(token_hash),
                sensor_devices::made_by.eq(actor),
            ))
            .returning(sensor_devices::id)
            .get_result(self.connection)?;
        self.record(NewEvent::new(Subject::Device, Some(id), Action::Created).with(name).said(name));
        Ok(Some(id))
    }

    /// Gives a device another token. The one that it uses is good until the new one was used, however often
    /// it is rotated before. `false` when it is not of this sensor, or was revoked.
    ///
    /// # Errors
    /// As any query.
    pub fn rotate_device(&mut self, sensor_id: i64, id: i64, token_hash: &[u8]) -> Result<bool> {
        if self.own_sensor(sensor_id)?.is_none() {
            return Ok(false);
        }
        let rows = diesel::sql_query(
            "UPDATE sensor_devices SET old_hash = COALESCE(old_hash, token_hash), token_hash = $3 \
             WHERE id = $1 AND sensor_id = $2 AND revoked_at IS NULL",
        )
        .bind::<BigInt, _>(id)
        .bind::<BigInt, _>(sensor_id)
        .bind::<diesel::sql_types::Binary, _>(token_hash)
        .execute(self.connection)?;
        if rows == 1 {
            self.record(NewEvent::new(Subject::Device, Some(id), Action::Changed).with("token rotated"));
        }
        Ok(rows == 1)
    }

    /// Revokes the tokens of a device. `false` when it is not of this sensor, or was revoked before.
    ///
    /// # Errors
    /// As any query.
    pub fn revoke_device(&mut self, sensor_id: i64, id: i64, now: Timestamp) -> Result<bool> {
        if self.own_sensor(sensor_id)?.is_none() {
            return Ok(false);
        }
        let rows = diesel::update(
            sensor_devices::table
                .find(id)
                .filter(sensor_devices::sensor_id.eq(sensor_id).and(sensor_devices::revoked_at.is_null())),
        )
        .set((sensor_devices::revoked_at.eq(now.to_diesel()), sensor_devices::old_hash.eq(None::<Vec<u8>>)))
        .execute(self.connection)?;
        if rows == 1 {
            self.record(NewEvent::new(Subject::Device, Some(id), Action::Removed).with("token revoked"));
        }
        Ok(rows == 1)
    }
}

//! What the site's own sensors read, as days and hours of its own source: a layer that follows the readings and is
//! computed anew wherever some came, early or late.

use super::layer::Layer;
use super::sources;
use crate::schema::{sensor_buckets, sensor_versions, sensors, sites, weather_imports};
use crate::scope::SiteKey;
use crate::sites::time_zone;
use crate::tasks::{self, Task};
use crate::{Result, Snapshot, Store, known};
use diesel::prelude::*;
use diesel::sql_types::BigInt;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use jiff_diesel::ToDiesel;
use std::collections::{BTreeMap, BTreeSet};
use upland_core::codes::Coded;
use upland_core::quantity::time::midnight;
use upland_core::sensors::Channel;
use upland_core::sensors::weather::{OfSensor, TenMinutes, WEATHER_CHANNELS, sensed_day};
use upland_core::weather::record::{HourVariable, RawHour, SourceKind};

/// Days computed of one load of ten minutes.
const DAYS_AT_ONCE: usize = 8;
/// After an hour has ended, readings of it may still be on their way.
const AFTER_THE_HOUR: SignedDuration = SignedDuration::from_secs(20);

/// What computing readings into weather did.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Gathered {
    /// Local days that were computed anew.
    pub days: usize,
    /// Those of them that are other than they were.
    pub changed: usize,
}

/// A layer that follows sensors or a service.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Followed {
    /// Its source.
    pub source_id: i64,
    /// First day of it.
    pub first: Date,
    /// Last day of it.
    pub last: Date,
    /// Days of it that have values.
    pub days: i32,
    /// Hours of it.
    pub hours: i32,
    /// Whole hours of temperature on its last day.
    pub last_hours: usize,
}

/// Whose readings, and where they belong.
struct Own {
    layer: Layer,
    station: upland_core::weather::Station,
    zone: TimeZone,
}

#[derive(QueryableByName)]
struct Due {
    #[diesel(sql_type = diesel::sql_types::Date)]
    day: jiff_diesel::Date,
}

/// Takes what is due; a post that comes meanwhile makes it due again.
const TAKE: &str = "
    DELETE FROM readings_due d USING sensors s WHERE s.id = d.sensor_id AND s.site_id = $1 RETURNING d.day";

impl Snapshot<'_> {
    /// The layers of a site that follow sensors or a service.
    ///
    /// # Errors
    /// As any query.
    pub fn followed(&mut self, site_id: SiteKey) -> Result<Vec<Followed>> {
        type Row = (i64, jiff_diesel::Date, jiff_diesel::Date, i32, i32);
        let rows: Vec<Row> = weather_imports::table
            .filter(weather_imports::site_id.eq(site_id).and(weather_imports::follows))
            .select((
                weather_imports::source_id,
                weather_imports::first_date,
                weather_imports::last_date,
                weather_imports::days_new,
                weather_imports::hours,
            ))
            .load(self.connection)?;
        let mut followed = Vec::new();
        for (source_id, first, last, days, hours) in rows {
            let (first, last) = (first.to_jiff(), last.to_jiff());
            let of_last = self.raw_hours(source_id, last, last)?;
            let is_whole = |h: &&RawHour| {
                h.get(HourVariable::Temperature).is_some() && !h.is_in_part(HourVariable::Temperature)
            };
            let last_hours = of_last.iter().filter(is_whole).count();
            followed.push(Followed { source_id, first, last, days, hours, last_hours });
        }
        Ok(followed)
    }
}

impl Store {
    /// Computes the weather of every day of a site of which readings came since it was last done. Hours that are not
    /// over are left for later, and asked for.
    ///
    /// # Errors
    /// As any query; nothing is stored then, and everything stays due.
    pub fn gather_weather(&self, site_id: SiteKey) -> Result<Gathered> {
        self.connection()?.transaction(|connection| gather(connection, site_id))
    }
}

fn gather(connection: &mut PgConnection, site_id: SiteKey) -> Result<Gathered> {
    let there: Option<i64> = sites::table
        .filter(sites::id.eq(site_id).and(sites::removed_at.is_null()))
        .select(sites::id)
        .for_update()
        .first(connection)
        .optional()?;
    // Of a removed site everything stays due until it is brought back.
    if there.is_none() {
        return Ok(Gathered::default());
    }
    let due: Vec<Due> = diesel::sql_query(TAKE).bind::<BigInt, _>(site_id).load(connection)?;
    if due.is_empty() {
        return Ok(Gathered::default());
    }
    let feeding: Vec<i64> = sensors::table
        .filter(sensors::site_id.eq(site_id).and(sensors::feeds_weather))
        .order(sensors::id)
        .select(sensors::id)
        .load(connection)?;
    let Some(own) = own(connection, site_id, due.iter().map(|d| d.day.to_jiff()))? else {
        return Ok(Gathered::default());
    };
    let now = crate::clock::app_now(connection)?;
    let dates = local_days(&due, &own.zone, now);
    let mut gathered = Gathered { days: dates.len(), changed: 0 };
    for dates in dates.chunks(DAYS_AT_ONCE) {
        gathered.changed += store_days(connection, &own, &feeding, dates, now)?;
    }
    if gathered.changed > 0 {
        own.layer.tell(connection)?;
    }
    ask_for_the_hour(connection, &own, &due, now)?;
    Ok(gathered)
}

/// The own source of a site with its following layer; both are made when they are not there. `None` when the site has no
/// sensor.
fn own(
    connection: &mut PgConnection,
    site_id: SiteKey,
    due: impl Iterator<Item = Date>,
) -> Result<Option<Own>> {
    let Some(site) = (Snapshot { connection }).site(site_id)? else { return Ok(None) };
    let zone = time_zone(&site.site.time_zone)?;
    // Who set the first sensor up answers for what it brings.
    let by: Option<i64> = sensor_versions::table
        .inner_join(sensors::table)
        .filter(sensors::site_id.eq(site_id))
        .order((sensors::id, sensor_versions::version))
        .select(sensor_versions::saved_by)
        .first(connection)
        .optional()?;
    let Some(by) = by else { return Ok(None) };
    let own = sources::of_site(connection, site_id)?.into_iter().find(|s| s.kind == SourceKind::Own);
    let source_id = match own {
        Some(source) => source.id,
        None => sources::insert(connection, site_id, by, SourceKind::Own, sources::OWN_NAME, None)?,
    };
    let first = due.min().unwrap_or(Date::MIN);
    let layer = Layer::of(connection, site_id, source_id, "readings of the site's sensors", by, first)?;
    Ok(Some(Own { layer, station: site.site.station(), zone }))
}

/// The local days that days in universal time touch, until today.
fn local_days(due: &[Due], zone: &TimeZone, now: Timestamp) -> Vec<Date> {
    let today = now.to_zoned(zone.clone()).date();
    let mut dates = BTreeSet::new();
    for day in due {
        let from = midnight(day.day.to_jiff(), &TimeZone::UTC);
        // The first reading after midnight may speak for the hour before it.
        for at in [from - SignedDuration::from_hours(1), from, from + SignedDuration::from_hours(24)] {
            dates.insert(at.to_zoned(zone.clone()).date());
        }
    }
    dates.into_iter().filter(|date| *date <= today).collect()
}

/// Ten minutes of some sensors over some days and an hour on either side.
fn tens(
    connection: &mut PgConnection,
    feeding: &[i64],
    from: Timestamp,
    until: Timestamp,
) -> Result<Vec<OfSensor>> {
    type Row = (i64, String, jiff_diesel::Timestamp, i32, f64);
    let codes: Vec<&str> = WEATHER_CHANNELS.iter().map(|(channel, _)| channel.code()).collect();
    let rows: Vec<Row> = sensor_buckets::table
        .filter(sensor_buckets::sensor_id.eq_any(feeding).and(sensor_buckets::channel.eq_any(codes)))
        .filter(sensor_buckets::bucket.ge(from.to_diesel()).and(sensor_buckets::bucket.lt(until.to_diesel())))
        .order((sensor_buckets::sensor_id, sensor_buckets::channel, sensor_buckets::bucket))
        .select((
            sensor_buckets::sensor_id,
            sensor_buckets::channel,
            sensor_buckets::bucket,
            sensor_buckets::readings,
            sensor_buckets::sum,
        ))
        .load(connection)?;
    let mut by_sensor: BTreeMap<i64, OfSensor> = BTreeMap::new();
    for (sensor, channel, start, readings, sum) in rows {
        let channel: Channel = known("channel", &channel)?;
        let ten = TenMinutes { start: start.to_jiff(), count: readings.unsigned_abs(), sum };
        by_sensor.entry(sensor).or_default().entry(channel).or_default().push(ten);
    }
    Ok(by_sensor.into_values().collect())
}

/// Computes some days and stores those that are other than they were; returns how many.
fn store_days(
    connection: &mut PgConnection,
    own: &Own,
    feeding: &[i64],
    dates: &[Date],
    now: Timestamp,
) -> Result<usize> {
    let (Some(first), Some(last)) = (dates.first(), dates.last()) else { return Ok(0) };
    let hour = SignedDuration::from_hours(1);
    let span = (midnight(*first, &own.zone) - hour, midnight(last.saturating_add(1.day()), &own.zone) + hour);
    let tens = tens(connection, feeding, span.0, span.1)?;
    let (days, hours) = own.layer.known(connection, *first, *last)?;
    let mut changed = 0;
    for date in dates {
        let sensed = sensed_day(*date, &own.zone, &own.station, now, &tens);
        let day = (!sensed.day.is_empty()).then_some(sensed.day);
        let same = days.get(date) == day.as_ref()
            && hours.get(date).map_or(&[][..], Vec::as_slice) == sensed.hours.as_slice();
        if !same {
            own.layer.replace(connection, &sensed.day, &sensed.hours)?;
            changed += 1;
        }
    }
    Ok(changed)
}

/// Asks for the hour that goes on, when it is over.
fn ask_for_the_hour(connection: &mut PgConnection, own: &Own, due: &[Due], now: Timestamp) -> Result<()> {
    let today = now.to_zoned(TimeZone::UTC).date();
    if !due.iter().any(|d| d.day.to_jiff() >= today) {
        return Ok(());
    }
    let into = SignedDuration::from_secs(now.as_second().rem_euclid(3600));
    diesel::sql_query(
        "INSERT INTO readings_due (sensor_id, day, posts) \
         SELECT min(id), $2, 2 FROM sensors WHERE site_id = $1 AND feeds_weather HAVING count(*) > 0 \
         ON CONFLICT DO NOTHING",
    )
    .bind::<BigInt, _>(own.layer.site_id)
    .bind::<diesel::sql_types::Date, _>(today.to_diesel())
    .execute(connection)?;
    tasks::ask(
        connection,
        Task::Readings,
        own.layer.site_id.number(),
        SignedDuration::from_hours(1) - into + AFTER_THE_HOUR,
    )
}

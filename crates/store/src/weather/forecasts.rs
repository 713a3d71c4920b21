//! What services foretell, kept apart from the record: of each day what was last said of it.

use super::sources::SourceRecord;
use super::{OverruleRecord, judged};
use crate::Result;
use crate::schema::weather_forecasts;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Date as SqlDate, Double, Nullable};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff_diesel::ToDiesel;
use std::collections::BTreeMap;
use upland_core::quantity::time::midnight;
use upland_core::quantity::units::{Celsius, MetresPerSecond};
use upland_core::site::Site;
use upland_core::weather::atmosphere::wind_at_2_m;
use upland_core::weather::forecast::Foretold;
use upland_core::weather::record::{RawDay, Variable};

#[derive(Queryable, Selectable)]
#[diesel(table_name = weather_forecasts, check_for_backend(diesel::pg::Pg))]
struct ForecastRow {
    date: jiff_diesel::Date,
    tmin_ahead_c: Option<f64>,
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

impl ForecastRow {
    fn day(&self) -> RawDay {
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

fn rows(connection: &mut PgConnection, source_id: i64) -> Result<Vec<ForecastRow>> {
    Ok(weather_forecasts::table
        .filter(weather_forecasts::source_id.eq(source_id))
        .order(weather_forecasts::date)
        .select(ForecastRow::as_select())
        .load(connection)?)
}

/// What sources foretell, of each day what the first of them does; judged by the rules of the record, wind at 2 m.
pub(super) fn of_sources(
    connection: &mut PgConnection,
    sources: &[SourceRecord],
    site: &Site,
) -> Result<Vec<Foretold>> {
    let ids: Vec<i64> = sources.iter().map(|source| source.id).collect();
    let all: Vec<(i64, ForecastRow)> = weather_forecasts::table
        .filter(weather_forecasts::source_id.eq_any(ids))
        .order((weather_forecasts::source_id, weather_forecasts::date))
        .select((weather_forecasts::source_id, ForecastRow::as_select()))
        .load(connection)?;
    let mut foretold: BTreeMap<Date, Foretold> = BTreeMap::new();
    for source in sources {
        let station = source.station(site);
        let own: Vec<&ForecastRow> =
            all.iter().filter(|(id, _)| *id == source.id).map(|(_, row)| row).collect();
        let days: Vec<RawDay> = own.iter().map(|row| row.day()).collect();
        let said: &[OverruleRecord] = &[];
        for (row, day) in own.iter().zip(judged(&days, &station, said)) {
            let Some(mut weather) = day.effective().weather() else { continue };
            let lowest_ahead = row.tmin_ahead_c.map(Celsius::from_c);
            weather.wind = weather
                .wind
                .map(|wind| wind_at_2_m(MetresPerSecond::from_m_per_s(wind.m_per_s()), station.wind_height));
            foretold.entry(weather.date).or_insert(Foretold { weather, lowest_ahead });
        }
    }
    Ok(foretold.into_values().collect())
}

/// A day that was forecast before it began keeps what was said of its night then.
const KEEP: &str = "
    INSERT INTO weather_forecasts AS f (source_id, date, said_at, tmin_ahead_c, tmin_c, tmax_c, dew_point_c,
        rh_min_pct, rh_max_pct, vapour_pressure_kpa, solar_mj_m2, wind_m_s, rain_mm)
    VALUES ($1, $2, app_now(), $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)
    ON CONFLICT (source_id, date) DO UPDATE SET said_at = app_now(),
        tmin_ahead_c = COALESCE(EXCLUDED.tmin_ahead_c, f.tmin_ahead_c),
        tmin_c = EXCLUDED.tmin_c, tmax_c = EXCLUDED.tmax_c, dew_point_c = EXCLUDED.dew_point_c,
        rh_min_pct = EXCLUDED.rh_min_pct, rh_max_pct = EXCLUDED.rh_max_pct,
        vapour_pressure_kpa = EXCLUDED.vapour_pressure_kpa, solar_mj_m2 = EXCLUDED.solar_mj_m2,
        wind_m_s = EXCLUDED.wind_m_s, rain_mm = EXCLUDED.rain_mm";

/// Keeps what a source foretells of today and later; returns how many days are other than was said before.
pub(super) fn keep(
    connection: &mut PgConnection,
    source_id: i64,
    days: &[RawDay],
    tz: &TimeZone,
    now: Timestamp,
) -> Result<usize> {
    let today = now.to_zoned(tz.clone()).date();
    let known: BTreeMap<Date, RawDay> =
        rows(connection, source_id)?.iter().map(|row| (row.date.to_jiff(), row.day())).collect();
    let mut changed = 0;
    for day in days.iter().filter(|day| day.date >= today && !day.is_empty()) {
        changed += usize::from(known.get(&day.date) != Some(day));
        let ahead = (now < midnight(day.date, tz)).then(|| day.get(Variable::TemperatureMin)).flatten();
        let insert = diesel::sql_query(KEEP)
            .bind::<BigInt, _>(source_id)
            .bind::<SqlDate, _>(day.date.to_diesel())
            .bind::<Nullable<Double>, _>(ahead);
        let mut insert = insert.into_boxed::<diesel::pg::Pg>();
        for value in day.values() {
            insert = insert.bind::<Nullable<Double>, _>(*value);
        }
        insert.execute(connection)?;
    }
    Ok(changed)
}

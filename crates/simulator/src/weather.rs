//! The sky above a stand-in: an hour's weather at any instant, the same for every stand-in of a seed.

use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::BTreeMap;
use std::f64::consts::TAU;
use upland_core::quantity::units::Celsius;
use upland_core::weather::DayWeather;
use upland_core::weather::atmosphere::saturation_vapour_pressure;

/// Weather at an instant.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SkyHour {
    /// Air temperature, °C.
    pub temperature_c: f64,
    /// Relative humidity, %.
    pub humidity_pct: f64,
    /// Global radiation, W/m².
    pub solar_w_m2: f64,
    /// Wind at 2 m, m/s.
    pub wind_m_s: f64,
    /// Rain in the hour, mm.
    pub rain_mm_h: f64,
    /// Reference ET of the day, mm (a plain share of its sun; the stand-in is no instrument).
    pub et_mm_day: f64,
}

/// Where the weather comes from.
#[derive(Debug, Clone)]
pub struct Sky {
    seed: u64,
    recorded: BTreeMap<Date, DayWeather>,
    /// Days that a recorded date is moved by, so that an old record runs now.
    moved_days: i32,
}

impl Sky {
    /// Generated weather.
    #[must_use]
    pub fn generated(seed: u64) -> Self {
        Self { seed, recorded: BTreeMap::new(), moved_days: 0 }
    }

    /// Days of a record, moved so that its last day is the given one; generated where it has none.
    #[must_use]
    pub fn recorded(days: &[DayWeather], last_is: Date, seed: u64) -> Self {
        let moved_days = days.last().map_or(0, |d| (last_is - d.date).get_days());
        Self { seed, recorded: days.iter().map(|d| (d.date, *d)).collect(), moved_days }
    }

    /// A day: lowest and highest temperature, rain, the hour it falls in, wind, share of clear sun.
    fn day(&self, date: Date) -> (f64, f64, f64, u32, f64, f64) {
        let day = i64::from(date.year()) * 400 + i64::from(date.day_of_year());
        let mut rng =
            ChaCha8Rng::seed_from_u64(self.seed ^ day.unsigned_abs().wrapping_mul(0x9E37_79B9_7F4A_7C15));
        let season = (TAU * (f64::from(date.day_of_year()) - 203.0) / 365.0).cos();
        let wet = rng.random_bool(0.28);
        let rain = if wet { -rng.random_range(0.02f64..1.0).ln() * 8.0 } else { 0.0 };
        let hour = rng.random_range(12..20);
        let mean = 7.5 + 10.0 * season + rng.random_range(-3.0..3.0);
        let range = if wet { 6.0 } else { 11.0 };
        let generated = (
            mean - range / 2.0,
            mean + range / 2.0,
            rain,
            hour,
            rng.random_range(0.6..3.4),
            if wet { 0.4 } else { 0.9 },
        );
        let recorded = date.checked_sub(self.moved_days.days()).ok().and_then(|d| self.recorded.get(&d));
        match recorded {
            Some(d) => (
                d.temperature_min.c(),
                d.temperature_max.c(),
                d.rain.map_or(0.0, |r| r.mm()),
                hour,
                d.wind.map_or(generated.4, |w| w.m_per_s()),
                if d.rain.is_some_and(|r| r.mm() > 1.0) { 0.4 } else { 0.9 },
            ),
            None => generated,
        }
    }

    /// The weather at an instant; the clock of the sky is UTC.
    #[must_use]
    pub fn at(&self, at: Timestamp) -> SkyHour {
        let civil = at.to_zoned(jiff::tz::TimeZone::UTC).datetime();
        let (low, high, rain, rain_hour, wind, clear) = self.day(civil.date());
        let hour = f64::from(civil.hour()) + f64::from(civil.minute()) / 60.0;
        let warm = 0.5 - 0.5 * (TAU * (hour - 3.0) / 24.0).cos();
        let season = 0.55 + 0.45 * (TAU * (f64::from(civil.day_of_year()) - 172.0) / 365.0).cos();
        let sun = (TAU * (hour - 6.0) / 24.0).sin().max(0.0) * 900.0 * season * clear;
        let temperature = low + (high - low) * warm;
        // The night's dew stays in the air by day; a clear night leaves less of it.
        let saturated = |c: f64| saturation_vapour_pressure(Celsius::from_c(c)).kpa();
        let dew = low - 0.5 - 3.0 * clear - 0.3 * wind;
        SkyHour {
            temperature_c: temperature,
            humidity_pct: (100.0 * saturated(dew) / saturated(temperature)).clamp(5.0, 100.0),
            solar_w_m2: sun,
            wind_m_s: wind * (0.6 + 0.8 * warm),
            rain_mm_h: if u32::from(civil.hour().unsigned_abs()) == rain_hour { rain } else { 0.0 },
            et_mm_day: (6.2 * season * clear * (high + 8.0) / 30.0).clamp(0.2, 9.0),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sky_is_the_same_for_all_and_plausible_all_year() {
        let sky = Sky::generated(7);
        let start: Timestamp = "2026-01-01T00:00:00Z".parse().unwrap();
        let mut rain = 0.0;
        for h in 0..8760 {
            let at = start + h.hours();
            let now = sky.at(at);
            assert_eq!(now, Sky::generated(7).at(at));
            assert!(
                (-25.0..40.0).contains(&now.temperature_c) && (0.0..=1000.0).contains(&now.solar_w_m2),
                "{now:?}"
            );
            assert!(now.wind_m_s >= 0.0 && (0.0..=100.0).contains(&now.humidity_pct) && now.et_mm_day < 9.5);
            rain += now.rain_mm_h;
        }
        assert!((300.0..1500.0).contains(&rain), "{rain}");
    }

    #[test]
    fn a_record_runs_as_if_it_were_now() {
        use upland_core::quantity::units::{Celsius, Millimetres};
        let mut day = DayWeather::from_temperatures(
            jiff::civil::date(2024, 7, 10),
            Celsius::from_c(10.0),
            Celsius::from_c(20.0),
        );
        day.rain = Some(Millimetres::from_mm(12.0));
        let sky = Sky::recorded(&[day], jiff::civil::date(2026, 11, 20), 1);
        let start: Timestamp = "2026-11-20T00:00:00Z".parse().unwrap();
        let fallen: f64 = (0..24).map(|h| sky.at(start + h.hours()).rain_mm_h).sum();
        assert!((fallen - 12.0).abs() < 1e-9);
    }
}

//! The invented weather of Larkrigg, drawn from a fixed seed.

use jiff::ToSpan;
use jiff::civil::{Date, date};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::units::{Celsius, MegajoulesPerSquareMetre, MetresPerSecond, Millimetres};
use upland_core::weather::radiation;
use upland_core::weather::{DayWeather, Station};

/// Weather of the town; each site's gauge differs a little.
const TOWN_SEED: u64 = 0x1A2C_0001;
/// First recorded day.
const FIRST: Date = date(2024, 1, 1);
/// The logger stood still on these days.
const GAP: DateSpan = DateSpan::new(date(2025, 6, 4), date(2025, 6, 8));

/// Nights of late frost.
const LATE_FROSTS: [Date; 3] = [date(2024, 5, 7), date(2025, 5, 13), date(2026, 5, 10)];

fn round(value: f64, digits: i32) -> f64 {
    let factor = 10f64.powi(digits);
    (value * factor).round() / factor
}

/// The record of one of the demo's sites until a day. A longer one begins as a shorter one does.
// Long: one draw after another, in an order that never changes.
pub fn record(site: u64, station: &Station, last: Date) -> Vec<DayWeather> {
    let mut town = ChaCha8Rng::seed_from_u64(TOWN_SEED);
    let mut gauge = ChaCha8Rng::seed_from_u64(TOWN_SEED + 1 + site);
    let mut days = Vec::new();
    let mut anomaly = 0.0;
    let mut wet = false;
    let mut on = FIRST;
    while on <= last {
        let j = f64::from(on.day_of_year());
        let season = (2.0 * std::f64::consts::PI * (j - 203.0) / 365.0).cos();
        // Sum of three uniforms: near enough to normal, bounded, and the same everywhere.
        let normal = |rng: &mut ChaCha8Rng| (0..3).map(|_| rng.random_range(-1.0..1.0)).sum::<f64>();
        anomaly = 0.72 * anomaly + 1.9 * normal(&mut town);
        let wet_chance: f64 = match on.month() {
            _ if (on.year(), on.month()) == (2026, 7) => 0.0,
            7 => 0.16,
            5 | 6 | 8 | 9 => 0.28,
            _ => 0.34,
        };
        wet = town.random_bool(if wet && wet_chance > 0.0 { wet_chance + 0.24 } else { wet_chance });
        let thunder = wet && (5..=9).contains(&on.month()) && town.random_bool(0.3);
        let draw = town.random_range(0.0..1.0f64);
        // Most wet days of an upland are drizzle, some are showers, few a steady day's rain; a thunderstorm brings
        // twelve to thirty millimetres in an afternoon.
        let amount = match draw {
            _ if thunder => 6.0 + 22.0 * draw * draw,
            d if d < 0.55 => 0.3 + 2.6 * d,
            d if d < 0.9 => 1.5 + 14.0 * (d - 0.55),
            d => 6.5 + 90.0 * (d - 0.9),
        };
        // One storm in the dry July of the demo, on the Wednesday before its evening, and a front on the day after it.
        let (wet_today, amount) = match (on.year(), on.month(), on.day()) {
            (2026, 7, 8) => (true, 13.6),
            (2026, 7, 15) => (true, 7.4),
            _ => (wet, amount),
        };

        // A clear night in May that takes the blossom.
        let late_frost = if LATE_FROSTS.contains(&on) { 7.0 } else { 0.0 };
        let mean = 7.4 + 10.2 * season + anomaly - late_frost - if wet_today { 1.5 } else { 0.0 };
        let range = if wet_today { 6.5 } else { 11.5 } + 1.6 * normal(&mut town);
        let top = radiation::extraterrestrial_day(on, station.latitude_deg);
        let clearness = if wet_today { 0.38 } else { 0.66 } + 0.05 * normal(&mut town);
        let wind = (1.9 + 0.6 * normal(&mut town)).clamp(0.3, 6.0);
        let humid = if wet_today { 68.0 } else { 44.0 } + 6.0 * normal(&mut town);
        let local = gauge.random_range(0.8..1.2);

        if !GAP.contains(on) {
            let (min, max) = (round(mean - range / 2.0, 1), round(mean + range / 2.0, 1));
            let mut day = DayWeather::from_temperatures(on, Celsius::from_c(min), Celsius::from_c(max));
            day.humidity_min_pct = Some(round(humid.clamp(15.0, 95.0), 0));
            day.humidity_max_pct = Some(round((humid + 42.0).clamp(60.0, 100.0), 0));
            day.solar = Some(MegajoulesPerSquareMetre::from_mj_per_m2(round(
                top.mj_per_m2() * clearness.clamp(0.12, 0.74),
                2,
            )));
            day.wind = Some(MetresPerSecond::from_m_per_s(round(wind, 1)));
            let rain = if wet_today { round(amount * local, 1) } else { 0.0 };
            day.rain = Some(Millimetres::from_mm(rain));
            days.push(day);
        }
        on += 1.days();
    }
    days
}

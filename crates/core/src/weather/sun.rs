//! Sun geometry: declination, distance, sunset angle, clock times of sunrise and sunset.
//! Equations of FAO-56 chapter 3 and ASCE-EWRI (2005); where both print one, they agree.

use crate::quantity::span::TimeSpan;
use jiff::SignedDuration;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::f64::consts::PI;

/// Altitude of the sun's centre at apparent sunrise: refraction 34' and half a disc of 16'
/// (common astronomical practice).
const SUNRISE_ALTITUDE_DEG: f64 = -0.833;

/// Day of the year, 1 to 366.
#[must_use]
pub fn day_of_year(date: Date) -> f64 {
    f64::from(date.day_of_year())
}

/// Inverse relative distance Earth to Sun (FAO-56 eq. 23), without unit.
#[must_use]
pub fn inverse_relative_distance(day_of_year: f64) -> f64 {
    1.0 + 0.033 * (2.0 * PI / 365.0 * day_of_year).cos()
}

/// Solar declination in radians (FAO-56 eq. 24).
#[must_use]
pub fn declination_rad(day_of_year: f64) -> f64 {
    0.409 * (2.0 * PI / 365.0 * day_of_year - 1.39).sin()
}

/// Sunset hour angle in radians (FAO-56 eq. 25); 0 in polar night, π under the midnight sun.
#[must_use]
pub fn sunset_hour_angle_rad(latitude_rad: f64, declination_rad: f64) -> f64 {
    (-latitude_rad.tan() * declination_rad.tan()).clamp(-1.0, 1.0).acos()
}

/// Seasonal correction of solar time in hours (FAO-56 eq. 32 and 33).
#[must_use]
pub fn seasonal_correction_h(day_of_year: f64) -> f64 {
    let b = 2.0 * PI * (day_of_year - 81.0) / 364.0;
    0.1645 * (2.0 * b).sin() - 0.1255 * b.cos() - 0.025 * b.sin()
}

/// Solar time angle in radians, in (-π, π], for a UTC hour of the day (FAO-56 eq. 31 with the
/// meridian of Greenwich for Lz).
#[must_use]
pub fn solar_time_angle_rad(utc_hour: f64, longitude_deg: f64, day_of_year: f64) -> f64 {
    let solar_hour = utc_hour + longitude_deg / 15.0 + seasonal_correction_h(day_of_year);
    let angle = PI / 12.0 * (solar_hour - 12.0);
    (angle + PI).rem_euclid(2.0 * PI) - PI
}

/// Altitude of the sun above the horizon in radians (ASCE-EWRI eq. 62).
#[must_use]
pub fn altitude_rad(latitude_rad: f64, declination_rad: f64, time_angle_rad: f64) -> f64 {
    (latitude_rad.sin() * declination_rad.sin()
        + latitude_rad.cos() * declination_rad.cos() * time_angle_rad.cos())
    .clamp(-1.0, 1.0)
    .asin()
}

/// Sunrise and sunset as UTC hours, counted from 00:00 UTC of the given date (so they may be
/// below 0 or above 24 far from Greenwich). `None` when the sun does not cross the horizon.
///
/// Good to about two minutes between the polar circles: the declination above is a single sine.
#[must_use]
fn sunrise_sunset_utc_h(date: Date, latitude_deg: f64, longitude_deg: f64) -> Option<(f64, f64)> {
    let j = day_of_year(date);
    let (phi, delta) = (latitude_deg.to_radians(), declination_rad(j));
    let cos_omega =
        (SUNRISE_ALTITUDE_DEG.to_radians().sin() - phi.sin() * delta.sin()) / (phi.cos() * delta.cos());
    if cos_omega.abs() > 1.0 {
        return None;
    }
    let half_day_h = cos_omega.acos() * 12.0 / PI;
    let noon = 12.0 - longitude_deg / 15.0 - seasonal_correction_h(j);
    Some((noon - half_day_h, noon + half_day_h))
}

/// The daylight of a date, from sunrise until sunset. `None` when the sun does not cross the horizon.
#[must_use]
pub fn sunrise_sunset(date: Date, latitude_deg: f64, longitude_deg: f64) -> Option<TimeSpan> {
    let (rise, set) = sunrise_sunset_utc_h(date, latitude_deg, longitude_deg)?;
    let midnight = crate::quantity::time::midnight(date, &TimeZone::UTC);
    #[allow(clippy::cast_possible_truncation, reason = "seconds of a day or two")]
    let at = |hours: f64| midnight + SignedDuration::from_secs((hours * 3600.0) as i64);
    Some(TimeSpan::new(at(rise), at(set)))
}

#[cfg(test)]
mod tests {
    //! The printed values of the FAO-56 examples were written from memory.
    use super::*;
    use jiff::civil::date;

    #[test]
    fn fao56_example_8_angles() {
        // FAO-56 example 8: 3 September (J = 246), 20° S.
        assert!((inverse_relative_distance(246.0) - 0.985).abs() < 5e-4);
        let delta = declination_rad(246.0);
        assert!((delta - 0.120).abs() < 5e-4);
        assert!((sunset_hour_angle_rad(-20.0_f64.to_radians(), delta) - 1.527).abs() < 5e-4);
    }

    #[test]
    fn equinox_sunrise_is_near_six() {
        // At the equator on the equinox the day is 12 h plus refraction (about 7 min).
        let (rise, set) = sunrise_sunset_utc_h(date(2026, 3, 20), 0.0, 0.0).unwrap();
        assert!((set - rise - 12.11).abs() < 0.02, "{rise} {set}");
        assert!((rise - 6.07).abs() < 0.06, "{rise}");
    }

    #[test]
    fn sunrise_is_an_instant_on_its_own_date_of_the_clock_in_greenwich() {
        let TimeSpan { from: rise, until: set } = sunrise_sunset(date(2026, 3, 20), 0.0, 0.0).unwrap();
        assert_eq!(rise.to_string().get(..14), Some("2026-03-20T06:"));
        assert_eq!(set.to_string().get(..14), Some("2026-03-20T18:"));
        // Half round the world the sun of a date rises on the evening of the day before in Greenwich.
        let east = sunrise_sunset(date(2026, 3, 20), 0.0, 170.0).unwrap().from;
        assert_eq!(east.to_string().get(..11), Some("2026-03-19T"));
    }

    #[test]
    fn polar_day_has_no_sunrise() {
        assert_eq!(sunrise_sunset(date(2026, 6, 21), 75.0, 20.0), None);
    }
}

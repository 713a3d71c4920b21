//! The hourly equation.

use super::Method;
use crate::quantity::units::{Kilopascals, Millimetres};
use crate::weather::sun;
use crate::weather::{HourHumidity, HourWeather, Station};
use crate::weather::{atmosphere, radiation};

/// Numerator constant for the short reference and an hour (ASCE-EWRI table 1).
const CN_HOUR: f64 = 37.0;
/// Denominator constant by day and by night (ASCE-EWRI table 1).
const CD_HOUR: (f64, f64) = (0.24, 0.96);
/// Soil heat flux as a share of net radiation by day and by night (ASCE-EWRI eq. 65, 66).
const SOIL_HEAT_SHARE: (f64, f64) = (0.1, 0.5);
/// Below this altitude of the sun Rs/Rso is too uncertain to use (ASCE-EWRI: 0.3 rad, about 17°).
const LOW_SUN_RAD: f64 = 0.3;
/// Rs/Rso where a series has no hour with the sun high enough (ASCE-EWRI suggests 0.4 to 0.6 for
/// humid and 0.7 to 0.8 for arid places; from memory).
const RELATIVE_SOLAR_UNKNOWN: f64 = 0.7;

/// ET0 of one hour.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct HourlyEt {
    /// The instant at which the hour begins.
    pub start: jiff::Timestamp,
    /// Reference evapotranspiration as computed; slightly negative on some nights. Balances
    /// count a negative hour as zero.
    pub et0: Millimetres,
    /// The equation.
    pub method: Method,
}

/// Standardized Penman-Monteith for a series of hours in order of time (ASCE-EWRI eq. 1).
///
/// The cloudiness of night and low-sun hours is carried from the last hour with the sun at least
/// 0.3 rad high; hours before the first such hour take the cloudiness of that first hour.
#[must_use]
pub fn hourly_series(hours: &[HourWeather], station: &Station) -> Vec<HourlyEt> {
    let mut carried = hours
        .iter()
        .find_map(|hour| measured_cloudiness(hour, station))
        .unwrap_or_else(|| radiation::cloudiness(RELATIVE_SOLAR_UNKNOWN));
    hours
        .iter()
        .map(|hour| {
            if let Some(cloudiness) = measured_cloudiness(hour, station) {
                carried = cloudiness;
            }
            HourlyEt {
                start: hour.start,
                et0: penman_monteith(hour, station, carried),
                method: Method::PenmanMonteith,
            }
        })
        .collect()
}

/// Solar time angle at the middle of an hour.
fn time_angle(hour: &HourWeather, day_of_year: f64, station: &Station) -> f64 {
    let middle_s = (hour.start.as_second() + 1800).rem_euclid(86_400);
    #[allow(clippy::cast_precision_loss, reason = "seconds of a day are exact in f64")]
    let utc_hour = middle_s as f64 / 3600.0;
    sun::solar_time_angle_rad(utc_hour, station.longitude_deg, day_of_year)
}

/// The hour's own cloudiness when the sun stands high enough to measure it.
fn measured_cloudiness(hour: &HourWeather, station: &Station) -> Option<f64> {
    let j = sun::day_of_year(hour.local_date);
    let angle = time_angle(hour, j, station);
    let altitude = sun::altitude_rad(station.latitude_deg.to_radians(), sun::declination_rad(j), angle);
    if altitude < LOW_SUN_RAD {
        return None;
    }
    let clear_sky = radiation::clear_sky(
        radiation::extraterrestrial_hour(j, station.latitude_deg, angle),
        station.elevation,
    );
    Some(radiation::cloudiness(radiation::relative_solar(hour.solar, clear_sky)))
}

fn penman_monteith(hour: &HourWeather, station: &Station, cloudiness: f64) -> Millimetres {
    let saturation = atmosphere::saturation_vapour_pressure(hour.temperature);
    let vapour = match hour.humidity {
        HourHumidity::RelativePct(rh) => Kilopascals::from_kpa(saturation.kpa() * rh / 100.0),
        HourHumidity::DewPoint(t) => atmosphere::saturation_vapour_pressure(t),
    };
    let gamma = atmosphere::psychrometric_constant(atmosphere::pressure(station.elevation));
    let slope = atmosphere::saturation_slope(hour.temperature);
    let wind = atmosphere::wind_at_2_m(hour.wind, station.wind_height).m_per_s();
    let net = radiation::net_shortwave(hour.solar)
        - radiation::net_longwave_hour(hour.temperature, vapour, cloudiness);
    let net = net.mj_per_m2();
    let (cd, soil_share) =
        if net < 0.0 { (CD_HOUR.1, SOIL_HEAT_SHARE.1) } else { (CD_HOUR.0, SOIL_HEAT_SHARE.0) };
    Millimetres::from_mm(
        (super::INVERSE_LATENT_HEAT * slope * net * (1.0 - soil_share)
            + gamma * CN_HOUR / (hour.temperature.c() + 273.0) * wind * (saturation.kpa() - vapour.kpa()))
            / (slope + gamma * (1.0 + cd * wind)),
    )
}

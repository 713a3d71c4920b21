//! The daily equation.

use super::hargreaves::hargreaves_of;
use super::{DailyEt, INVERSE_LATENT_HEAT, Method};
use crate::quantity::units::{Kilopascals, MegajoulesPerSquareMetre, MetresPerSecond, Millimetres};
use crate::weather::fill;
use crate::weather::{DayWeather, Station};
use crate::weather::{atmosphere, radiation};

/// Numerator constant for the short reference and a day (ASCE-EWRI table 1).
const CN_DAY: f64 = 900.0;
/// Denominator constant for the short reference and a day (ASCE-EWRI table 1).
const CD_DAY: f64 = 0.34;

/// Every intermediate of a daily Penman-Monteith ET0, for explanations and checks.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DailyTerms {
    /// Atmospheric pressure.
    pub pressure: Kilopascals,
    /// Psychrometric constant, kPa/°C.
    pub psychrometric_kpa_per_c: f64,
    /// Slope of the saturation curve, kPa/°C.
    pub slope_kpa_per_c: f64,
    /// Mean saturation vapour pressure.
    pub saturation: Kilopascals,
    /// Actual vapour pressure.
    pub vapour: Kilopascals,
    /// Extraterrestrial radiation.
    pub extraterrestrial: MegajoulesPerSquareMetre,
    /// Clear-sky radiation.
    pub clear_sky: MegajoulesPerSquareMetre,
    /// Solar radiation used.
    pub solar: MegajoulesPerSquareMetre,
    /// Net short-wave radiation.
    pub net_shortwave: MegajoulesPerSquareMetre,
    /// Net long-wave radiation.
    pub net_longwave: MegajoulesPerSquareMetre,
    /// Net radiation.
    pub net: MegajoulesPerSquareMetre,
    /// Wind at 2 m.
    pub wind: MetresPerSecond,
    /// The result.
    pub et0: Millimetres,
}

/// ET0 of a day by the best equation its inputs allow: Penman-Monteith as soon as humidity,
/// radiation or wind was measured, else Hargreaves-Samani.
#[must_use]
pub fn daily(day: &DayWeather, station: &Station) -> DailyEt {
    let method =
        if day.has_more_than_temperatures() { Method::PenmanMonteith } else { Method::HargreavesSamani };
    daily_with(method, day, station)
}

/// ET0 of a day by the named equation, filling what it needs and the day lacks.
#[must_use]
pub fn daily_with(method: Method, day: &DayWeather, station: &Station) -> DailyEt {
    with(method, day, station, &Place::of(station), above(day, station))
}

fn above(day: &DayWeather, station: &Station) -> MegajoulesPerSquareMetre {
    radiation::extraterrestrial_day(day.date, station.latitude_deg)
}

/// What of a day's equation follows from the station alone.
#[derive(Debug, Clone, Copy)]
struct Place {
    pressure: Kilopascals,
    psychrometric_kpa_per_c: f64,
    wind_factor: f64,
}

impl Place {
    fn of(station: &Station) -> Self {
        let pressure = atmosphere::pressure(station.elevation);
        Self {
            pressure,
            psychrometric_kpa_per_c: atmosphere::psychrometric_constant(pressure),
            wind_factor: atmosphere::wind_factor(station.wind_height),
        }
    }
}

/// A station with the sun of its year, computed once for a record of many days.
#[derive(Debug, Clone)]
pub struct StationYear {
    station: Station,
    place: Place,
    /// Radiation above the atmosphere by day of the year, from the first.
    extraterrestrial: Vec<MegajoulesPerSquareMetre>,
}

impl StationYear {
    /// Of a station.
    #[must_use]
    pub fn of(station: &Station) -> Self {
        let above = |day: u16| radiation::extraterrestrial_of(f64::from(day), station.latitude_deg);
        Self {
            station: *station,
            place: Place::of(station),
            extraterrestrial: (1..=366).map(above).collect(),
        }
    }
}

/// As [`daily`], at a station whose year was computed before.
#[must_use]
pub fn daily_at(day: &DayWeather, year: &StationYear) -> DailyEt {
    let method =
        if day.has_more_than_temperatures() { Method::PenmanMonteith } else { Method::HargreavesSamani };
    let index = usize::from(day.date.day_of_year().unsigned_abs()).saturating_sub(1);
    let known = year.extraterrestrial.get(index).copied();
    with(method, day, &year.station, &year.place, known.unwrap_or_else(|| above(day, &year.station)))
}

fn with(
    method: Method,
    day: &DayWeather,
    station: &Station,
    place: &Place,
    extraterrestrial: MegajoulesPerSquareMetre,
) -> DailyEt {
    match method {
        Method::PenmanMonteith => {
            let (terms, fills) = penman_monteith(day, station, place, extraterrestrial);
            DailyEt { et0: terms.et0, method, fills }
        }
        Method::HargreavesSamani => {
            DailyEt { et0: hargreaves_of(day, extraterrestrial), method, fills: Vec::new() }
        }
    }
}

/// Standardized Penman-Monteith for a day (ASCE-EWRI eq. 1; FAO-56 eq. 6), soil heat flux zero.
///
/// Returns every intermediate, and the fills that were needed.
#[must_use]
pub fn daily_penman_monteith(day: &DayWeather, station: &Station) -> (DailyTerms, Vec<fill::Fill>) {
    penman_monteith(day, station, &Place::of(station), above(day, station))
}

fn penman_monteith(
    day: &DayWeather,
    station: &Station,
    place: &Place,
    extraterrestrial: MegajoulesPerSquareMetre,
) -> (DailyTerms, Vec<fill::Fill>) {
    let (min, max) = (day.temperature_min, day.temperature_max);
    let mean = min.mean_with(max);
    let saturated = |t| atmosphere::saturation_vapour_pressure(t).kpa();
    let (at_min, at_max) = (saturated(min), saturated(max));
    let (vapour, vapour_fill) = fill::vapour_pressure_between(day, at_min, at_max);
    let (solar, solar_fill) = fill::solar(day, station, extraterrestrial);
    let (wind, wind_fill) = fill::wind_at_2_m(day, place.wind_factor);

    let Place { pressure, psychrometric_kpa_per_c: gamma, .. } = *place;
    let slope = atmosphere::saturation_slope(mean);
    let saturation = Kilopascals::from_kpa(0.5 * (at_min + at_max));
    let deficit = (saturation.kpa() - vapour.kpa()).max(0.0);

    let clear_sky = radiation::clear_sky(extraterrestrial, station.elevation);
    let cloudiness = radiation::cloudiness(radiation::relative_solar(solar, clear_sky));
    let net_shortwave = radiation::net_shortwave(solar);
    let net_longwave = radiation::net_longwave_day(min, max, vapour, cloudiness);
    let net = net_shortwave - net_longwave;

    let u2 = wind.m_per_s();
    let et0 = Millimetres::from_mm(
        (INVERSE_LATENT_HEAT * slope * net.mj_per_m2() + gamma * CN_DAY / (mean.c() + 273.0) * u2 * deficit)
            / (slope + gamma * (1.0 + CD_DAY * u2)),
    );
    let terms = DailyTerms {
        pressure,
        psychrometric_kpa_per_c: gamma,
        slope_kpa_per_c: slope,
        saturation,
        vapour,
        extraterrestrial,
        clear_sky,
        solar,
        net_shortwave,
        net_longwave,
        net,
        wind,
        et0,
    };
    (terms, [vapour_fill, solar_fill, wind_fill].into_iter().flatten().collect())
}

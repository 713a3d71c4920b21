//! Filling of missing inputs after FAO-56 chapter 3. Each fill names its rule, so that a derived
//! day can say what it rests on.

use crate::quantity::units::{Kilopascals, MegajoulesPerSquareMetre, MetresPerSecond};
use crate::weather::{DayWeather, Station};
use crate::weather::{atmosphere, radiation};

/// k_Rs of FAO-56 eq. 50 for inland places; coasts use about 0.19.
const K_RS_INLAND: f64 = 0.16;
/// World mean wind at 2 m (FAO-56 chapter 3, "missing climatic data").
const DEFAULT_WIND_M_S: f64 = 2.0;

/// A missing input and the rule that stood in for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fill {
    /// Radiation from the temperature range, FAO-56 eq. 50 with k_Rs 0.16.
    SolarFromTemperatureRange,
    /// Dew point taken as the day's lowest temperature, FAO-56 eq. 48.
    DewPointFromMinimum,
    /// Vapour pressure from the highest relative humidity alone, FAO-56 eq. 18.
    VapourFromHighestHumidity,
    /// Vapour pressure from the lowest relative humidity alone, at the highest temperature.
    VapourFromLowestHumidity,
    /// Wind of 2 m/s.
    WindDefault,
}

impl Fill {
    /// The input that was missing, in one word.
    #[must_use]
    pub fn input(self) -> &'static str {
        match self {
            Self::SolarFromTemperatureRange => "solar",
            Self::DewPointFromMinimum => "dew point",
            Self::VapourFromHighestHumidity => "humidity minimum",
            Self::VapourFromLowestHumidity => "humidity maximum",
            Self::WindDefault => "wind",
        }
    }

    /// The rule in one sentence with its source.
    #[must_use]
    pub fn rule(self) -> &'static str {
        match self {
            Self::SolarFromTemperatureRange => {
                "Radiation was estimated from the day's temperature range (FAO-56 eq. 50, k = 0.16)."
            }
            Self::DewPointFromMinimum => {
                "The dew point was taken as the day's lowest temperature (FAO-56 eq. 48)."
            }
            Self::VapourFromHighestHumidity => {
                "Humidity was taken from the day's highest reading alone (FAO-56 eq. 18)."
            }
            Self::VapourFromLowestHumidity => {
                "Humidity was taken from the day's lowest reading alone, at its highest temperature (half of FAO-56 eq. 17)."
            }
            Self::WindDefault => "Wind was taken as 2 m/s (FAO-56 chapter 3).",
        }
    }
}

/// The actual vapour pressure of a day from the best humidity there is, in the order of
/// FAO-56 chapter 3: vapour pressure itself, dew point (eq. 14), both relative humidities
/// (eq. 17), the highest alone (eq. 18), the lowest alone (the other half of eq. 17), the lowest
/// temperature (eq. 48).
#[must_use]
pub fn vapour_pressure(day: &DayWeather) -> (Kilopascals, Option<Fill>) {
    let saturated = |t| atmosphere::saturation_vapour_pressure(t).kpa();
    vapour_pressure_between(day, saturated(day.temperature_min), saturated(day.temperature_max))
}

/// As [`vapour_pressure`], with the saturation at the day's lowest and highest temperature, kPa, at hand.
pub(crate) fn vapour_pressure_between(
    day: &DayWeather,
    at_min: f64,
    at_max: f64,
) -> (Kilopascals, Option<Fill>) {
    if let Some(vapour) = day.vapour_pressure {
        return (vapour, None);
    }
    if let Some(dew_point) = day.dew_point {
        return (atmosphere::saturation_vapour_pressure(dew_point), None);
    }
    match (day.humidity_min_pct, day.humidity_max_pct) {
        (Some(low), Some(high)) => {
            (Kilopascals::from_kpa(0.5 * (at_min * high + at_max * low) / 100.0), None)
        }
        (None, Some(high)) => {
            (Kilopascals::from_kpa(at_min * high / 100.0), Some(Fill::VapourFromHighestHumidity))
        }
        (Some(low), None) => {
            (Kilopascals::from_kpa(at_max * low / 100.0), Some(Fill::VapourFromLowestHumidity))
        }
        (None, None) => (Kilopascals::from_kpa(at_min), Some(Fill::DewPointFromMinimum)),
    }
}

/// The day's radiation, measured or from the temperature range and what comes from above the atmosphere.
#[must_use]
pub fn solar(
    day: &DayWeather,
    station: &Station,
    extraterrestrial: MegajoulesPerSquareMetre,
) -> (MegajoulesPerSquareMetre, Option<Fill>) {
    match day.solar {
        Some(solar) => (solar, None),
        None => (
            radiation::from_temperature_range(
                extraterrestrial,
                station.elevation,
                day.temperature_min,
                day.temperature_max,
                K_RS_INLAND,
            ),
            Some(Fill::SolarFromTemperatureRange),
        ),
    }
}

/// The day's wind at 2 m, measured and brought there by a factor, or 2 m/s.
#[must_use]
pub fn wind_at_2_m(day: &DayWeather, factor: f64) -> (MetresPerSecond, Option<Fill>) {
    match day.wind {
        Some(wind) => (MetresPerSecond::from_m_per_s(wind.m_per_s() * factor), None),
        None => (MetresPerSecond::from_m_per_s(DEFAULT_WIND_M_S), Some(Fill::WindDefault)),
    }
}

#[cfg(test)]
mod tests {
    //! The printed values of the FAO-56 examples were written from memory.
    use super::*;
    use crate::quantity::units::{Celsius, Metres};
    use jiff::civil::date;

    fn day() -> DayWeather {
        DayWeather::from_temperatures(date(2026, 7, 15), Celsius::from_c(14.8), Celsius::from_c(26.6))
    }

    #[test]
    fn fao56_example_5_vapour_from_both_humidities() {
        // Example 5: Tmin 18 °C at 82 %, Tmax 25 °C at 54 % give 1.70 kPa.
        let day = DayWeather {
            humidity_min_pct: Some(54.0),
            humidity_max_pct: Some(82.0),
            ..DayWeather::from_temperatures(date(2026, 1, 1), Celsius::from_c(18.0), Celsius::from_c(25.0))
        };
        let (vapour, fill) = vapour_pressure(&day);
        assert!((vapour.kpa() - 1.70).abs() < 0.005);
        assert_eq!(fill, None);
    }

    #[test]
    fn fao56_example_15_solar_from_temperature_range() {
        // Example 15: Lyon, 45°43' N, 200 m, July, Tmax 26.6, Tmin 14.8: Ra 40.6, Rs 22.3.
        let station = Station {
            latitude_deg: 45.72,
            longitude_deg: 0.0,
            elevation: Metres::from_m(200.0),
            wind_height: Metres::from_m(2.0),
        };
        let above = radiation::extraterrestrial_day(day().date, station.latitude_deg);
        let (solar, fill) = solar(&day(), &station, above);
        assert!((solar.mj_per_m2() - 22.3).abs() < 0.05, "{}", solar.mj_per_m2());
        assert_eq!(fill, Some(Fill::SolarFromTemperatureRange));
    }

    #[test]
    fn humidity_is_taken_in_the_order_of_the_standard() {
        let mut day = day();
        assert_eq!(vapour_pressure(&day).1, Some(Fill::DewPointFromMinimum));
        day.humidity_min_pct = Some(40.0);
        let (low, fill) = vapour_pressure(&day);
        assert_eq!(fill, Some(Fill::VapourFromLowestHumidity), "one value alone is never ignored");
        assert!((low.kpa() - 0.4 * 3.483).abs() < 5e-3, "{low:?}");
        day.humidity_min_pct = None;
        day.humidity_max_pct = Some(100.0);
        assert_eq!(vapour_pressure(&day).1, Some(Fill::VapourFromHighestHumidity));
        day.dew_point = Some(Celsius::from_c(10.0));
        assert!((vapour_pressure(&day).0.kpa() - 1.228).abs() < 5e-4);
        day.vapour_pressure = Some(Kilopascals::from_kpa(1.5));
        assert_eq!(vapour_pressure(&day).0.kpa(), 1.5);
    }
}

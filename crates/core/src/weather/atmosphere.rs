//! Pressure, humidity and wind.

use crate::quantity::units::{Celsius, Kilopascals, Metres, MetresPerSecond};

/// Atmospheric pressure in kPa at an elevation (FAO-56 eq. 7).
#[must_use]
pub fn pressure(elevation: Metres) -> Kilopascals {
    Kilopascals::from_kpa(101.3 * ((293.0 - 0.0065 * elevation.m()) / 293.0).powf(5.26))
}

/// Psychrometric constant in kPa/°C (FAO-56 eq. 8).
#[must_use]
pub fn psychrometric_constant(pressure: Kilopascals) -> f64 {
    0.000_665 * pressure.kpa()
}

/// Saturation vapour pressure at a temperature (FAO-56 eq. 11).
#[must_use]
pub fn saturation_vapour_pressure(t: Celsius) -> Kilopascals {
    Kilopascals::from_kpa(0.6108 * (17.27 * t.c() / (t.c() + 237.3)).exp())
}

/// Mean saturation vapour pressure of a day (FAO-56 eq. 12).
#[must_use]
pub fn mean_saturation_vapour_pressure(min: Celsius, max: Celsius) -> Kilopascals {
    Kilopascals::from_kpa(
        0.5 * (saturation_vapour_pressure(min).kpa() + saturation_vapour_pressure(max).kpa()),
    )
}

/// Slope of the saturation vapour pressure curve in kPa/°C (ASCE-EWRI eq. 5; FAO-56 eq. 13
/// prints 4098 × 0.6108 = 2503.06 for the 2503).
#[must_use]
pub fn saturation_slope(t: Celsius) -> f64 {
    2503.0 * (17.27 * t.c() / (t.c() + 237.3)).exp() / (t.c() + 237.3).powi(2)
}

/// Wind at 2 m from wind at another height over grass (FAO-56 eq. 47). Applied as printed, at 2 m
/// too, where its rounded constants give a factor of 1.0002.
#[must_use]
pub fn wind_at_2_m(wind: MetresPerSecond, height: Metres) -> MetresPerSecond {
    MetresPerSecond::from_m_per_s(wind.m_per_s() * wind_factor(height))
}

/// The factor from wind at a height to wind at 2 m (FAO-56 eq. 47).
#[must_use]
pub fn wind_factor(height: Metres) -> f64 {
    4.87 / (67.8 * height.m() - 5.42).ln()
}

#[cfg(test)]
mod tests {
    //! The printed values of the FAO-56 examples were written from memory.
    use super::*;

    fn close(a: f64, b: f64, tolerance: f64) {
        assert!((a - b).abs() <= tolerance, "{a} is not {b} within {tolerance}");
    }

    #[test]
    fn fao56_example_2_pressure_and_psychrometric_constant() {
        let p = pressure(Metres::from_m(1800.0));
        close(p.kpa(), 81.8, 0.05);
        close(psychrometric_constant(p), 0.054, 0.0005);
    }

    #[test]
    fn fao56_example_3_saturation_vapour_pressure() {
        let (min, max) = (Celsius::from_c(15.0), Celsius::from_c(24.5));
        close(saturation_vapour_pressure(max).kpa(), 3.075, 0.0005);
        close(saturation_vapour_pressure(min).kpa(), 1.705, 0.0005);
        close(mean_saturation_vapour_pressure(min, max).kpa(), 2.39, 0.005);
    }

    #[test]
    fn fao56_example_14_wind_from_10_m() {
        close(wind_at_2_m(MetresPerSecond::from_m_per_s(3.2), Metres::from_m(10.0)).m_per_s(), 2.4, 0.05);
    }
}

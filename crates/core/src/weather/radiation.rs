//! Radiation at the top of the atmosphere, at the ground and net.

use crate::quantity::units::{Celsius, Kilopascals, MegajoulesPerSquareMetre, Metres};
use crate::weather::sun;
use jiff::civil::Date;
use std::f64::consts::PI;

/// Solar constant, MJ m⁻² h⁻¹ (ASCE-EWRI 4.92; FAO-56 prints 0.0820 per minute).
const SOLAR_CONSTANT_MJ_M2_H: f64 = 4.92;
/// Stefan-Boltzmann constant, MJ K⁻⁴ m⁻² d⁻¹ (ASCE-EWRI 4.901e-9; FAO-56 prints 4.903e-9).
const STEFAN_BOLTZMANN_DAY: f64 = 4.901e-9;
/// The same for an hour, as ASCE-EWRI eq. 44 prints it.
const STEFAN_BOLTZMANN_HOUR: f64 = 2.042e-10;
/// Albedo of the reference surface.
const ALBEDO: f64 = 0.23;

type Energy = MegajoulesPerSquareMetre;

fn energy(value: f64) -> Energy {
    Energy::from_mj_per_m2(value)
}

/// Extraterrestrial radiation of a day (FAO-56 eq. 21).
#[must_use]
pub fn extraterrestrial_day(date: Date, latitude_deg: f64) -> Energy {
    extraterrestrial_of(sun::day_of_year(date), latitude_deg)
}

/// The same for a day of the year, 1 to 366.
#[must_use]
pub fn extraterrestrial_of(j: f64, latitude_deg: f64) -> Energy {
    let (phi, delta) = (latitude_deg.to_radians(), sun::declination_rad(j));
    let omega_s = sun::sunset_hour_angle_rad(phi, delta);
    energy(
        24.0 / PI
            * SOLAR_CONSTANT_MJ_M2_H
            * sun::inverse_relative_distance(j)
            * (omega_s * phi.sin() * delta.sin() + phi.cos() * delta.cos() * omega_s.sin()),
    )
}

/// Extraterrestrial radiation of the hour around a solar time angle (FAO-56 eq. 28-30), with the
/// angles held between sunrise and sunset (ASCE-EWRI eq. 56).
#[must_use]
pub fn extraterrestrial_hour(day_of_year: f64, latitude_deg: f64, time_angle_rad: f64) -> Energy {
    let (phi, delta) = (latitude_deg.to_radians(), sun::declination_rad(day_of_year));
    let omega_s = sun::sunset_hour_angle_rad(phi, delta);
    let half_hour = PI / 24.0;
    let end = (time_angle_rad + half_hour).clamp(-omega_s, omega_s);
    let start = (time_angle_rad - half_hour).clamp(-omega_s, omega_s).min(end);
    energy(
        12.0 / PI
            * SOLAR_CONSTANT_MJ_M2_H
            * sun::inverse_relative_distance(day_of_year)
            * ((end - start) * phi.sin() * delta.sin() + phi.cos() * delta.cos() * (end.sin() - start.sin())),
    )
}

/// Clear-sky radiation (FAO-56 eq. 37), for days and for hours.
#[must_use]
pub fn clear_sky(extraterrestrial: Energy, elevation: Metres) -> Energy {
    extraterrestrial * (0.75 + 2e-5 * elevation.m())
}

/// Radiation from the temperature range (FAO-56 eq. 50), never above clear sky.
#[must_use]
pub fn from_temperature_range(
    extraterrestrial: Energy,
    elevation: Metres,
    min: Celsius,
    max: Celsius,
    adjustment_k_rs: f64,
) -> Energy {
    (extraterrestrial * (adjustment_k_rs * (max - min).kelvin().max(0.0).sqrt()))
        .min(clear_sky(extraterrestrial, elevation))
}

/// Cloudiness function f_cd (ASCE-EWRI eq. 18): the ratio Rs/Rso is held between 0.3 and 1.
#[must_use]
pub fn cloudiness(relative_solar: f64) -> f64 {
    1.35 * relative_solar.clamp(0.3, 1.0) - 0.35
}

/// Rs over Rso, 1 where there is no sun at all (polar night).
#[must_use]
pub fn relative_solar(solar: Energy, clear_sky: Energy) -> f64 {
    if clear_sky.mj_per_m2() > 0.0 { solar.mj_per_m2() / clear_sky.mj_per_m2() } else { 1.0 }
}

/// Net short-wave radiation (FAO-56 eq. 38).
#[must_use]
pub fn net_shortwave(solar: Energy) -> Energy {
    solar * (1.0 - ALBEDO)
}

/// Net long-wave radiation of a day (FAO-56 eq. 39, cloudiness as in ASCE-EWRI eq. 18).
#[must_use]
pub fn net_longwave_day(min: Celsius, max: Celsius, vapour: Kilopascals, cloudiness: f64) -> Energy {
    energy(
        STEFAN_BOLTZMANN_DAY
            * cloudiness
            * (0.34 - 0.14 * vapour.kpa().max(0.0).sqrt())
            * 0.5
            * (max.k().powi(4) + min.k().powi(4)),
    )
}

/// Net long-wave radiation of an hour (ASCE-EWRI eq. 44).
#[must_use]
pub fn net_longwave_hour(mean: Celsius, vapour: Kilopascals, cloudiness: f64) -> Energy {
    energy(
        STEFAN_BOLTZMANN_HOUR * cloudiness * (0.34 - 0.14 * vapour.kpa().max(0.0).sqrt()) * mean.k().powi(4),
    )
}

#[cfg(test)]
mod tests {
    //! The printed values of the FAO-56 examples were written from memory.
    use super::*;
    use jiff::civil::date;

    fn close(a: f64, b: f64, tolerance: f64) {
        assert!((a - b).abs() <= tolerance, "{a} is not {b} within {tolerance}");
    }

    #[test]
    fn fao56_example_8_extraterrestrial_radiation() {
        // 20° S on 3 September.
        close(extraterrestrial_day(date(2026, 9, 3), -20.0).mj_per_m2(), 32.2, 0.05);
    }

    #[test]
    fn fao56_example_10_solar_from_sunshine() {
        // Rio de Janeiro, 22.9° S, 15 May (J = 135): Ra 25.1, n = 220/31 h, N = 10.9 h.
        // The Angstrom step itself (eq. 35) is not part of the product; Rso and Rns are.
        let ra = extraterrestrial_day(date(2026, 5, 15), -22.9);
        close(ra.mj_per_m2(), 25.1, 0.05);
        let omega_s = sun::sunset_hour_angle_rad((-22.9_f64).to_radians(), sun::declination_rad(135.0));
        close(24.0 / PI * omega_s, 10.9, 0.05);
        let rs = energy((0.25 + 0.5 * (220.0 / 31.0) / 10.9) * ra.mj_per_m2());
        close(rs.mj_per_m2(), 14.5, 0.05);
        // Example 11 continues it at sea level: Rnl 3.5, with Rso = 0.75 Ra = 18.8.
        let rso = clear_sky(ra, Metres::from_m(0.0));
        close(rso.mj_per_m2(), 18.8, 0.05);
        close(net_shortwave(rs).mj_per_m2(), 11.1, 0.1);
        let rnl = net_longwave_day(
            Celsius::from_c(19.1),
            Celsius::from_c(25.1),
            Kilopascals::from_kpa(2.1),
            cloudiness(relative_solar(rs, rso)),
        );
        close(rnl.mj_per_m2(), 3.5, 0.05);
    }

    #[test]
    fn hourly_radiation_sums_to_the_day() {
        let (j, latitude) = (196.0, 46.0);
        let sum: f64 = (0..24)
            .map(|h| {
                let angle = PI / 12.0 * (f64::from(h) + 0.5 - 12.0);
                extraterrestrial_hour(j, latitude, angle).mj_per_m2()
            })
            .sum();
        close(sum, extraterrestrial_day(date(2026, 7, 15), latitude).mj_per_m2(), 0.01);
    }

    #[test]
    fn no_radiation_in_polar_night() {
        assert_eq!(extraterrestrial_day(date(2026, 12, 21), 80.0).mj_per_m2(), 0.0);
        close(relative_solar(energy(0.0), energy(0.0)), 1.0, 0.0);
    }
}

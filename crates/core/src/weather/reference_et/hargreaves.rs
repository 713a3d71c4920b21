//! Hargreaves-Samani.

use crate::quantity::units::{MegajoulesPerSquareMetre, Millimetres};
use crate::weather::radiation;
use crate::weather::{DayWeather, Station};

/// ET0 of a day from its two temperatures (FAO-56 eq. 52), never below zero.
///
/// FAO-56 gives Ra in mm/day there; 0.408 turns MJ/m² into millimetres.
#[must_use]
pub fn hargreaves_samani(day: &DayWeather, station: &Station) -> Millimetres {
    hargreaves_of(day, radiation::extraterrestrial_day(day.date, station.latitude_deg))
}

/// The same with the radiation above the atmosphere at hand.
pub(super) fn hargreaves_of(day: &DayWeather, extraterrestrial: MegajoulesPerSquareMetre) -> Millimetres {
    let ra = extraterrestrial.mj_per_m2();
    let mean = day.temperature_min.mean_with(day.temperature_max).c();
    let range = (day.temperature_max - day.temperature_min).kelvin().max(0.0);
    Millimetres::from_mm((super::INVERSE_LATENT_HEAT * 0.0023 * (mean + 17.8) * range.sqrt() * ra).max(0.0))
}

//! Weather records as values. Only the two temperatures of a day must be there; everything else
//! may be missing and is filled later by a named rule ([`crate::weather::fill`]).

pub mod assembled;
pub mod atmosphere;
pub mod climate;
pub mod fill;
pub mod forecast;
pub mod quality;
pub mod radiation;
pub mod record;
pub mod reference_et;
pub mod sun;

use crate::quantity::units::{
    Celsius, Kilopascals, MegajoulesPerSquareMetre, Metres, MetresPerSecond, Millimetres,
};
use jiff::civil::Date;

/// One day of weather, midnight to midnight local time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DayWeather {
    /// The local calendar day.
    pub date: Date,
    /// Lowest air temperature.
    pub temperature_min: Celsius,
    /// Highest air temperature.
    pub temperature_max: Celsius,
    /// Mean dew point.
    pub dew_point: Option<Celsius>,
    /// Lowest relative humidity, percent.
    pub humidity_min_pct: Option<f64>,
    /// Highest relative humidity, percent.
    pub humidity_max_pct: Option<f64>,
    /// Mean actual vapour pressure.
    pub vapour_pressure: Option<Kilopascals>,
    /// Solar radiation over the day.
    pub solar: Option<MegajoulesPerSquareMetre>,
    /// Mean wind at the height it was measured at.
    pub wind: Option<MetresPerSecond>,
    /// Rain.
    pub rain: Option<Millimetres>,
}

impl DayWeather {
    /// A day on which nothing but the temperatures was measured.
    #[must_use]
    pub fn from_temperatures(date: Date, temperature_min: Celsius, temperature_max: Celsius) -> Self {
        Self {
            date,
            temperature_min,
            temperature_max,
            dew_point: None,
            humidity_min_pct: None,
            humidity_max_pct: None,
            vapour_pressure: None,
            solar: None,
            wind: None,
            rain: None,
        }
    }

    /// Whether any of humidity, radiation or wind was measured.
    #[must_use]
    pub fn has_more_than_temperatures(&self) -> bool {
        self.dew_point.is_some()
            || self.humidity_max_pct.is_some()
            || self.humidity_min_pct.is_some()
            || self.vapour_pressure.is_some()
            || self.solar.is_some()
            || self.wind.is_some()
    }
}

/// Humidity of an hour, as it was measured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum HourHumidity {
    /// Relative humidity, percent.
    RelativePct(f64),
    /// Dew point.
    DewPoint(Celsius),
}

/// One hour of weather, with the radiation as energy over that hour.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct HourWeather {
    /// The instant at which the hour begins.
    pub start: jiff::Timestamp,
    /// The local calendar day on which the hour begins.
    pub local_date: Date,
    /// Mean air temperature.
    pub temperature: Celsius,
    /// Humidity.
    pub humidity: HourHumidity,
    /// Solar radiation over the hour.
    pub solar: MegajoulesPerSquareMetre,
    /// Mean wind at the height it was measured at.
    pub wind: MetresPerSecond,
    /// Rain.
    pub rain: Option<Millimetres>,
}

/// Where the weather was measured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Station {
    /// Latitude, degrees, north positive.
    pub latitude_deg: f64,
    /// Longitude, degrees, east positive.
    pub longitude_deg: f64,
    /// Elevation above sea level.
    pub elevation: Metres,
    /// Height of the wind sensor above ground.
    pub wind_height: Metres,
}

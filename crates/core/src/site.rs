//! The survey: a site and its zones as the technician described them, and the same with every
//! gap filled by a stated default.

use crate::application::{HeadType, cycle_limit, run_time_multiplier, CycleLimit};
use crate::balance::RootZone;
use crate::plant::{PlantKind, Sky, Sun};
use crate::soil::Texture;
use crate::units::{LitresPerMinute, Metres, MillimetresPerHour, SquareMetres};
use crate::weather::Station;
use jiff::civil::Time;

/// How numbers are read and written for a site.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UnitSystem {
    /// Millimetres, metres, litres, degrees Celsius.
    Metric,
    /// Inches, feet, US gallons, degrees Fahrenheit.
    UsCustomary,
}

/// A box of a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Controller {
    /// Its number at the site, from 1.
    pub number: u8,
    /// Where it hangs.
    pub place: String,
    /// What it can hold.
    pub card: crate::controller::Card,
}

/// The hours in which watering may run, by the wall clock. It may cross midnight.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WaterWindow {
    /// First minute.
    pub from: Time,
    /// End, exclusive.
    pub until: Time,
}

/// A property.
#[derive(Debug, Clone, PartialEq)]
pub struct Site {
    /// Name.
    pub name: String,
    /// Latitude, degrees, north positive.
    pub latitude_deg: f64,
    /// Longitude, degrees, east positive.
    pub longitude_deg: f64,
    /// Elevation above sea level.
    pub elevation: Metres,
    /// Height of the wind sensor behind the site's weather.
    pub wind_height: Metres,
    /// IANA name of the time zone.
    pub time_zone: String,
    /// Units shown.
    pub units: UnitSystem,
    /// When watering may run.
    pub window: WaterWindow,
    /// Flow the supply can give, if known.
    pub supply: Option<LitresPerMinute>,
}

impl Site {
    /// The site as the station of its weather.
    #[must_use]
    pub fn station(&self) -> Station {
        Station {
            latitude_deg: self.latitude_deg,
            longitude_deg: self.longitude_deg,
            elevation: self.elevation,
            wind_height: self.wind_height,
        }
    }
}

/// A zone as surveyed: what is `None` was not measured and takes a default.
#[derive(Debug, Clone, PartialEq)]
pub struct Zone {
    /// Which box of the site it is wired to, from 1.
    pub box_number: u8,
    /// Station number on the box.
    pub number: u16,
    /// Name.
    pub name: String,
    /// What grows there.
    pub plant: PlantKind,
    /// Own plant coefficient, instead of the kind's.
    pub own_coefficient: Option<f64>,
    /// Soil texture.
    pub soil: Texture,
    /// Slope, percent.
    pub slope_pct: Option<f64>,
    /// Sun.
    pub sun: Sun,
    /// Rain exposure.
    pub sky: Sky,
    /// What applies the water.
    pub head: HeadType,
    /// Measured precipitation rate.
    pub precipitation_rate: Option<MillimetresPerHour>,
    /// Measured distribution uniformity, a fraction.
    pub uniformity: Option<f64>,
    /// Root depth.
    pub root_depth: Option<Metres>,
    /// Allowable depletion p, a fraction.
    pub allowable_depletion: Option<f64>,
    /// Area.
    pub area: Option<SquareMetres>,
}

/// Slope taken where none was measured, percent (our stated default: nearly level).
pub const DEFAULT_SLOPE_PCT: f64 = 2.0;

/// Where a value comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// Somebody measured or typed it.
    Given,
    /// A default, with its source.
    Default(&'static str),
}

/// A value with its origin.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sourced<T> {
    /// The value.
    pub value: T,
    /// Where it comes from.
    pub origin: Origin,
}

impl<T> Sourced<T> {
    fn given_or(given: Option<T>, default: T, source: &'static str) -> Self {
        match given {
            Some(value) => Self { value, origin: Origin::Given },
            None => Self { value: default, origin: Origin::Default(source) },
        }
    }

    /// Whether it is a default.
    #[must_use]
    pub fn is_default(&self) -> bool {
        matches!(self.origin, Origin::Default(_))
    }
}

/// A zone with every gap filled, and what follows from it without weather.
#[derive(Debug, Clone, PartialEq)]
pub struct ResolvedZone {
    /// Plant coefficient before the sun factor.
    pub plant_coefficient: Sourced<f64>,
    /// Microclimate factor; 1 when the user gave an own coefficient, which already contains it.
    pub sun_factor: f64,
    /// Share of rain that reaches the ground.
    pub rain_share: f64,
    /// Slope, percent.
    pub slope_pct: Sourced<f64>,
    /// Precipitation rate.
    pub rate: Sourced<MillimetresPerHour>,
    /// Distribution uniformity, a fraction.
    pub uniformity: Sourced<f64>,
    /// Run-time multiplier from the uniformity.
    pub multiplier: f64,
    /// Root depth.
    pub root_depth: Sourced<Metres>,
    /// Allowable depletion p.
    pub allowable_depletion: Sourced<f64>,
    /// The soil store.
    pub root_zone: RootZone,
    /// Cycle limit and soak.
    pub cycle_limit: CycleLimit,
}

impl ResolvedZone {
    /// KL, the factor from ET0 to demand.
    #[must_use]
    pub fn landscape_coefficient(&self) -> f64 {
        self.plant_coefficient.value * self.sun_factor
    }

    /// Names of the inputs that are defaults, in the order of the survey.
    #[must_use]
    pub fn defaults(&self) -> Vec<&'static str> {
        [
            (self.plant_coefficient.is_default(), "plant coefficient"),
            (self.slope_pct.is_default(), "slope"),
            (self.rate.is_default(), "precipitation rate"),
            (self.uniformity.is_default(), "uniformity"),
            (self.root_depth.is_default(), "root depth"),
            (self.allowable_depletion.is_default(), "allowable depletion"),
        ]
        .into_iter()
        .filter_map(|(is_default, name)| is_default.then_some(name))
        .collect()
    }
}

impl Zone {
    /// Fills every gap with its stated default.
    #[must_use]
    pub fn resolve(&self) -> ResolvedZone {
        let plant = self.plant.defaults();
        let plant_coefficient =
            Sourced::given_or(self.own_coefficient, plant.coefficient, plant.coefficient_source);
        let slope_pct = Sourced::given_or(self.slope_pct, DEFAULT_SLOPE_PCT, "nearly level (our default)");
        let rate = Sourced::given_or(
            self.precipitation_rate,
            self.head.default_rate(),
            HeadType::RATE_SOURCE,
        );
        let uniformity = Sourced::given_or(
            self.uniformity,
            self.head.default_uniformity(),
            HeadType::UNIFORMITY_SOURCE,
        );
        let root_depth = Sourced::given_or(
            self.root_depth,
            Metres::from_m(plant.root_depth_m),
            "root zone of watered landscapes (common practice)",
        );
        let allowable_depletion = Sourced::given_or(
            self.allowable_depletion,
            plant.allowable_depletion,
            "FAO-56 table 22 or 0.5 (from memory)",
        );
        ResolvedZone {
            plant_coefficient,
            sun_factor: if self.own_coefficient.is_some() { 1.0 } else { self.sun.factor() },
            rain_share: self.sky.rain_share(),
            slope_pct,
            rate,
            uniformity,
            multiplier: run_time_multiplier(uniformity.value),
            root_depth,
            allowable_depletion,
            root_zone: RootZone {
                total_available: self.soil.total_available(root_depth.value),
                allowable_depletion: allowable_depletion.value,
            },
            cycle_limit: cycle_limit(self.soil, slope_pct.value, rate.value),
        }
    }
}


#[cfg(test)]
pub(crate) mod samples {
    //! A zone for tests in other modules.
    use super::*;

    pub(crate) fn lawn(number: u16) -> Zone {
        Zone {
            box_number: 1,
            number,
            name: "Lawn".into(),
            plant: PlantKind::CoolSeasonTurf,
            own_coefficient: None,
            soil: Texture::Loam,
            slope_pct: None,
            sun: Sun::Full,
            sky: Sky::Open,
            head: HeadType::Spray,
            precipitation_rate: None,
            uniformity: None,
            root_depth: None,
            allowable_depletion: None,
            area: None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_unmeasured_zone_says_what_it_assumes() {
        let zone = samples::lawn(1).resolve();
        assert_eq!(
            zone.defaults(),
            ["plant coefficient", "slope", "precipitation rate", "uniformity", "root depth", "allowable depletion"]
        );
        assert!((zone.root_zone.total_available.mm() - 25.5).abs() < 1e-9);
        assert!((zone.root_zone.readily_available().mm() - 10.2).abs() < 1e-9);
    }

    #[test]
    fn a_measurement_replaces_its_default_and_shade_is_counted_once() {
        let mut zone = samples::lawn(1);
        zone.sun = Sun::Part;
        assert!((zone.resolve().landscape_coefficient() - 0.64).abs() < 1e-12);
        zone.own_coefficient = Some(0.7);
        assert!((zone.resolve().landscape_coefficient() - 0.7).abs() < 1e-12);
        zone.precipitation_rate = Some(MillimetresPerHour::from_mm_per_hour(22.0));
        assert!(!zone.resolve().defaults().contains(&"precipitation rate"));
    }
}

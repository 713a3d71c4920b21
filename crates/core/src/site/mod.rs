//! The survey: a site and its zones as the technician described them, and the same with every
//! gap filled by a stated default.

pub mod card;
mod history;
pub mod range;
mod station;
pub mod windows;

pub use history::{EarlierSurvey, EarlierZone, SurveyedStation, SurveyedZone, Surveys, ZoneSince};
pub use station::StationId;

use crate::ground::application::{
    CycleLimit, HeadType, REPAIR_BELOW_UNIFORMITY, cycle_limit, run_time_multiplier,
};
use crate::ground::balance::RootZone;
use crate::ground::plant::{PlantKind, Sky, Sun};
use crate::ground::planting::{GrowIn, OwnCoefficient, Planting, WeanOff, mix};
use crate::ground::soil::Texture;
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Share;
use crate::quantity::time::Hours;
use crate::quantity::units::{
    LitresPerMinute, Metres, Millimetres, MillimetresPerHour, Minutes, SquareMetres,
};
use crate::weather::Station;
use crate::weather::climate::Drizzle;
use jiff::civil::Date;
use windows::WaterWindows;

/// How numbers are read and written for a site.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum UnitSystem {
    /// Millimetres, metres, litres, degrees Celsius.
    Metric,
    /// Inches, feet, US gallons, degrees Fahrenheit.
    UsCustomary,
}

/// A controller of a site.
#[derive(Debug, Clone, PartialEq)]
pub struct Controller {
    /// Its number at the site, from 1.
    pub number: u8,
    /// Where it is installed.
    pub place: String,
    /// What it can hold.
    pub card: crate::controller::Card,
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
    pub windows: WaterWindows,
    /// Flow the supply can give, if known.
    pub supply: Option<LitresPerMinute>,
    /// What rain below a fifth of a day's ET0 counts for.
    pub drizzle: Drizzle,
    /// Customer, contacts, address, access and water supply.
    pub card: card::SiteCard,
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
    /// Which controller of the site it is wired to, from 1.
    pub controller_number: u8,
    /// Station number on the controller.
    pub number: u16,
    /// Name.
    pub name: String,
    /// What grows there.
    pub plant: PlantKind,
    /// Own plant coefficient, instead of the kind's.
    pub own_coefficient: Option<OwnCoefficient>,
    /// Other plants, grow-in, wean-off, trim, and how the rate was found.
    pub planting: Planting,
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
    pub uniformity: Option<Share>,
    /// Root depth.
    pub root_depth: Option<Metres>,
    /// Allowable depletion p, a fraction.
    pub allowable_depletion: Option<Share>,
    /// Area.
    pub area: Option<SquareMetres>,
    /// Its own water window, instead of the site's.
    pub window: Option<Hours>,
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
    /// Plant coefficient by calendar month, plants of the valve mixed, before the
    /// sun factor.
    pub coefficients: Sourced<ByMonth<f64>>,
    /// Microclimate factor; 1 when the user gave an own coefficient, which already contains it.
    pub sun_factor: f64,
    /// Share of the sun's energy that the cover lets through; 1 when the user gave an own coefficient.
    pub transmission: f64,
    /// Trim as a factor on demand.
    pub trim_factor: f64,
    /// Young planting.
    pub grow_in: Option<GrowIn>,
    /// A ramp to the computed need.
    pub wean_off: Option<WeanOff>,
    /// Available water of the soil, mm/m.
    pub available_mm_per_m: f64,
    /// Share of rain that reaches the ground.
    pub rain_share: Share,
    /// Slope, percent.
    pub slope_pct: Sourced<f64>,
    /// Precipitation rate.
    pub rate: Sourced<MillimetresPerHour>,
    /// Distribution uniformity, a fraction.
    pub uniformity: Sourced<Share>,
    /// Run-time multiplier from the uniformity, as run times are made with it: below the uniformity at which repair is
    /// the advice it rises no further.
    pub multiplier: f64,
    /// Share of what goes in that falls where there is more than the low quarter gets, by the uniformity as it is: it
    /// drains, and a repair saves it.
    pub uneven: Share,
    /// Root depth.
    pub root_depth: Sourced<Metres>,
    /// Allowable depletion p.
    pub allowable_depletion: Sourced<Share>,
    /// The soil store.
    pub root_zone: RootZone,
    /// Cycle limit and soak.
    pub cycle_limit: CycleLimit,
}

impl ResolvedZone {
    /// Plant coefficient of a date, before the sun factor.
    #[must_use]
    pub fn coefficient_on(&self, date: Date) -> f64 {
        self.coefficient_in(Month::of(date))
    }

    /// Plant coefficient of a month, before the sun factor.
    #[must_use]
    pub fn coefficient_in(&self, month: Month) -> f64 {
        *self.coefficients.value.of(month)
    }

    /// KL of a month, with trim but without the dated grow-in and wean-off: what a year's
    /// budget is made of.
    #[must_use]
    pub fn landscape_coefficient_in(&self, month: Month) -> f64 {
        self.coefficient_in(month) * self.sun_factor * self.transmission * self.trim_factor
    }

    /// The factor from ET0 to demand on a date: coefficient × sun × trim × grow-in × wean-off.
    #[must_use]
    pub fn demand_factor_on(&self, date: Date) -> f64 {
        self.landscape_coefficient_in(Month::of(date))
            * self.grow_in_factor_on(date)
            * self.wean_off_factor_on(date)
    }

    /// Net depth that a run time brings.
    #[must_use]
    pub fn net_of(&self, minutes: Minutes) -> Millimetres {
        self.rate.value.over_time(minutes) * (1.0 - self.uneven.fraction())
    }

    /// Run time that brings a net depth, before rounding.
    #[must_use]
    pub fn minutes_for(&self, net: Millimetres) -> Minutes {
        crate::ground::application::run_time(net, self.rate.value, self.multiplier)
    }

    /// Extra factor of a grow-in on a date; 1 outside it.
    #[must_use]
    pub fn grow_in_factor_on(&self, date: Date) -> f64 {
        self.grow_in.filter(|g| g.holds(date)).map_or(1.0, |g| g.factor)
    }

    /// Factor of a wean-off on a date; 1 outside it.
    #[must_use]
    pub fn wean_off_factor_on(&self, date: Date) -> f64 {
        self.wean_off.map_or(1.0, |w| w.share_on(date).fraction())
    }

    /// The soil store on a date: shallower during a grow-in.
    #[must_use]
    pub fn root_zone_on(&self, date: Date) -> RootZone {
        match self.grow_in.filter(|g| g.holds(date)) {
            Some(grow_in) => RootZone {
                total_available: Millimetres::from_mm(self.available_mm_per_m * grow_in.root_depth.m()),
                allowable_depletion: self.allowable_depletion.value,
            },
            None => self.root_zone,
        }
    }

    /// Names of the inputs that are defaults, in the order of the survey.
    #[must_use]
    pub fn defaults(&self) -> Vec<&'static str> {
        [
            (self.coefficients.is_default(), "plant coefficient"),
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
    /// Its station.
    #[must_use]
    pub const fn station_id(&self) -> StationId {
        StationId::new(self.controller_number, self.number)
    }

    /// The plants of the valve in a month: coefficient before the sun factor, and share of
    /// the area. The own kind comes first and has what the others leave.
    #[must_use]
    pub fn plants_in(&self, month: Month, latitude_deg: f64) -> Vec<(f64, f64)> {
        let of_kind = |kind: PlantKind| *kind.coefficients(latitude_deg).of(month);
        let own = self.own_coefficient.map_or_else(|| of_kind(self.plant), |own| own.in_month(month));
        let others: f64 = self.planting.others.iter().map(|o| o.share.fraction()).sum();
        let mut plants = vec![(own, (1.0 - others).max(0.0))];
        plants.extend(self.planting.others.iter().map(|o| (of_kind(o.plant), o.share.fraction())));
        plants
    }

    /// Fills every gap with its stated default, at a latitude.
    // Long: one value after another, each with its source.
    #[must_use]
    pub fn resolve(&self, latitude_deg: f64) -> ResolvedZone {
        let plant = self.plant.defaults();
        let coefficients = Sourced {
            value: ByMonth::from_fn(|m| mix(&self.plants_in(m, latitude_deg), self.planting.mixed)),
            origin: match self.own_coefficient {
                Some(_) => Origin::Given,
                None => Origin::Default(plant.coefficient_source),
            },
        };
        let slope_pct = Sourced::given_or(self.slope_pct, DEFAULT_SLOPE_PCT, "nearly level (our default)");
        let rate =
            Sourced::given_or(self.precipitation_rate, self.head.default_rate(), HeadType::RATE_SOURCE);
        let uniformity =
            Sourced::given_or(self.uniformity, self.head.default_uniformity(), HeadType::UNIFORMITY_SOURCE);
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
            coefficients,
            sun_factor: if self.own_coefficient.is_some_and(|own| own.contains_sun()) {
                1.0
            } else {
                self.sun.factor()
            },
            transmission: if self.own_coefficient.is_some_and(|own| own.contains_sun()) {
                1.0
            } else {
                self.sky.transmission()
            },
            trim_factor: self.planting.trim.as_ref().map_or(1.0, |t| 1.0 + t.percent / 100.0),
            grow_in: self.planting.grow_in,
            wean_off: self.planting.wean_off,
            available_mm_per_m: self.soil.available_mm_per_m(),
            rain_share: self.sky.rain_share(),
            slope_pct,
            rate,
            uniformity,
            uneven: Share::from_fraction(1.0 - 1.0 / run_time_multiplier(uniformity.value)),
            // Below the uniformity at which mending is the advice, minutes stop rising: more of them would only
            // drown what is wet already.
            multiplier: run_time_multiplier(if uniformity.value < REPAIR_BELOW_UNIFORMITY {
                REPAIR_BELOW_UNIFORMITY
            } else {
                uniformity.value
            }),
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
            controller_number: 1,
            number,
            name: "Lawn".into(),
            plant: PlantKind::CoolSeasonTurf,
            own_coefficient: None,
            planting: Planting::default(),
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
            window: None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NORTH: f64 = 46.0;

    #[test]
    fn an_unmeasured_zone_says_what_it_assumes() {
        let zone = samples::lawn(1).resolve(NORTH);
        assert_eq!(
            zone.defaults(),
            [
                "plant coefficient",
                "slope",
                "precipitation rate",
                "uniformity",
                "root depth",
                "allowable depletion"
            ]
        );
        assert!((zone.root_zone.total_available.mm() - 25.5).abs() < 1e-9);
        assert!((zone.root_zone.readily_available().mm() - 10.2).abs() < 1e-9);
    }

    #[test]
    fn a_measurement_replaces_its_default_and_shade_is_counted_once() {
        let mut zone = samples::lawn(1);
        zone.sun = Sun::Part;
        assert!((zone.resolve(NORTH).landscape_coefficient_in(Month::July) - 0.94 * 0.8).abs() < 1e-12);
        zone.own_coefficient = Some(OwnCoefficient::Constant(0.7));
        assert!((zone.resolve(NORTH).landscape_coefficient_in(Month::July) - 0.7).abs() < 1e-12);
        // WUCOLS worked product ks × kd × kmc: 0.5 × 1.2 × 0.8.
        zone.own_coefficient = Some(OwnCoefficient::Landscape { species: 0.5, density: 1.2 });
        assert!((zone.resolve(NORTH).landscape_coefficient_in(Month::July) - 0.48).abs() < 1e-12);
        zone.precipitation_rate = Some(MillimetresPerHour::from_mm_per_hour(22.0));
        assert!(!zone.resolve(NORTH).defaults().contains(&"precipitation rate"));
    }

    #[test]
    fn demand_on_a_date_is_the_product_of_its_named_factors() {
        use jiff::civil::date;
        let mut zone = samples::lawn(1);
        zone.own_coefficient = Some(OwnCoefficient::Constant(0.6));
        zone.planting.trim =
            Some(crate::ground::planting::Trim { percent: -10.0, reason: "north side".into() });
        zone.planting.grow_in = Some(GrowIn {
            from: date(2026, 5, 1),
            until: date(2026, 5, 31),
            factor: 1.3,
            root_depth: Metres::from_m(0.05),
        });
        zone.planting.wean_off =
            Some(WeanOff { from: date(2026, 5, 25), weeks: 4, start: Share::from_percent(140.0) });
        let resolved = zone.resolve(NORTH);
        assert!((resolved.demand_factor_on(date(2026, 4, 30)) - 0.54).abs() < 1e-12);
        assert!((resolved.demand_factor_on(date(2026, 5, 2)) - 0.54 * 1.3).abs() < 1e-12);
        assert!((resolved.demand_factor_on(date(2026, 5, 26)) - 0.54 * 1.3 * 1.4).abs() < 1e-12);
        assert!(
            (resolved.demand_factor_on(date(2026, 6, 2)) - 0.54 * 1.3).abs() < 1e-12,
            "second week: 130 %"
        );
        assert!(
            (resolved.root_zone_on(date(2026, 5, 2)).total_available.mm() - 8.5).abs() < 1e-9,
            "170 mm/m × 0.05 m"
        );
        assert_eq!(resolved.root_zone_on(date(2026, 6, 1)), resolved.root_zone);
    }

    #[test]
    fn the_thirstiest_of_a_mixed_valve_may_change_with_the_month() {
        let mut zone = samples::lawn(1);
        zone.planting.others = vec![crate::ground::planting::OtherPlants {
            plant: PlantKind::FruitTrees,
            share: Share::from_fraction(0.25),
        }];
        let resolved = zone.resolve(NORTH);
        assert_eq!(resolved.coefficient_in(Month::April), 1.04, "cool-season turf in April");
        assert_eq!(resolved.coefficient_in(Month::July), 0.95, "fruit trees in full leaf");
        zone.planting.mixed = crate::ground::planting::MixedRule::AreaWeighted;
        assert!(
            (zone.resolve(NORTH).coefficient_in(Month::April) - (0.75 * 1.04 + 0.25 * 0.45)).abs() < 1e-12
        );
    }
}

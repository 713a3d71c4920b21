//! Plant demand: ETL = KL × ET0. KL is a turf coefficient, a landscape coefficient
//! ks × kd × kmc, or the user's own number.

use crate::quantity::month::ByMonth;
use crate::quantity::ratio::Share;

/// What grows on a zone, as far as its demand and roots go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PlantKind {
    /// Lawn of cool-season grasses (fescue, bluegrass, rye).
    CoolSeasonTurf,
    /// Lawn of warm-season grasses.
    WarmSeasonTurf,
    /// Alpines, succulents and other plants of very low demand.
    VeryLowDemand,
    /// Shrubs and perennials of low demand.
    LowDemand,
    /// Shrubs and perennials of moderate demand.
    ModerateDemand,
    /// Shrubs, ferns and perennials of high demand.
    HighDemand,
    /// Established trees of moderate demand.
    Trees,
    /// Fruit trees with bare ground below.
    FruitTrees,
    /// Vegetables.
    Vegetables,
    /// Bedding plants of one season.
    Annuals,
    /// Plants of the region that live on its rain once they have rooted.
    Natives,
    /// Low plants that cover the ground.
    GroundCover,
    /// No plants: a surface such as a riding arena's footing, kept moist so that it binds and does not dust.
    Footing,
}

/// The stated defaults of a plant kind.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PlantDefaults {
    /// Words for the list.
    pub label: &'static str,
    /// Plant coefficient in full sun, without unit; turf has a curve instead
    /// ([`PlantKind::coefficients`]) and this is its mean.
    pub coefficient: f64,
    /// Where the coefficient is from.
    pub coefficient_source: &'static str,
    /// Root zone depth, m (common practice for watered landscapes; FAO-56 table 22 gives the
    /// depths of unrestricted roots).
    pub root_depth_m: f64,
    /// Allowable depletion p, FAO-56 table 22 or 0.5 (from memory).
    pub allowable_depletion: Share,
}

const TURF: &str = "monthly turf curve, mean about 0.8 for cool season and 0.65 for warm season (University of California; from memory)";
/// Coefficients of cool-season turf by month of a northern year, January first.
const COOL_SEASON_BY_MONTH: ByMonth<f64> =
    ByMonth::new([0.61, 0.64, 0.75, 1.04, 0.95, 0.88, 0.94, 0.86, 0.74, 0.75, 0.69, 0.60]);
/// Coefficients of warm-season turf by month of a northern year, January first.
const WARM_SEASON_BY_MONTH: ByMonth<f64> =
    ByMonth::new([0.55, 0.54, 0.76, 0.72, 0.79, 0.68, 0.71, 0.71, 0.62, 0.54, 0.58, 0.55]);
/// Coefficients of fruit trees with bare ground below: in full leaf from June to August, near bare ground in winter
/// (stages after FAO-56 table 12, with killing frost; months are our stated default for a northern upland).
const FRUIT_TREES_BY_MONTH: ByMonth<f64> =
    ByMonth::new([0.20, 0.20, 0.20, 0.45, 0.70, 0.95, 0.95, 0.95, 0.85, 0.60, 0.30, 0.20]);
/// Coefficients of a vegetable bed by month: sown in April, full from June, bare from November (stages after FAO-56
/// table 12; months are our stated default).
const VEGETABLES_BY_MONTH: ByMonth<f64> =
    ByMonth::new([0.15, 0.15, 0.15, 0.40, 0.70, 1.05, 1.05, 1.05, 0.90, 0.50, 0.15, 0.15]);
/// Coefficients of a bed of annuals by month: planted in May, full from June to September, bare from November (months
/// are our stated default).
const ANNUALS_BY_MONTH: ByMonth<f64> =
    ByMonth::new([0.15, 0.15, 0.15, 0.30, 0.60, 0.80, 0.80, 0.80, 0.75, 0.40, 0.15, 0.15]);
/// Nearer to the equator than this plants know no winter, degrees.
const TROPICS_DEG: f64 = 23.5;
/// Nearer to the equator than this winters are mostly free of frost, and bedding and vegetables grow through them,
/// degrees (our stated default; a place with other winters types its own twelve coefficients).
const FROST_FREE_DEG: f64 = 30.0;
const BEDDING: &str = "by month: about 0.8 while the bed is planted, 0.15 of bare ground in winter, all year where winters are free of frost (months are our stated default)";
const LANDSCAPE: &str = "landscape coefficient, species factor at the middle of its class, average density (WUCOLS method, University of California; from memory)";
const GROUND_COVER: &str =
    "ground cover of the test protocol for climate-based controllers (IA SWAT; from memory)";
const FOOTING: &str = "no plants: bare ground that is kept moist loses about ET0 by evaporation (FAO-56 chapter 7, stage 1; from memory)";
const CROP: &str = "crop coefficient by stage of the year, FAO-56 table 12 (from memory)";

impl PlantKind {
    /// All kinds, in the order of the list.
    pub const ALL: [Self; 13] = [
        Self::CoolSeasonTurf,
        Self::WarmSeasonTurf,
        Self::VeryLowDemand,
        Self::LowDemand,
        Self::ModerateDemand,
        Self::HighDemand,
        Self::Trees,
        Self::FruitTrees,
        Self::Vegetables,
        Self::Annuals,
        Self::Natives,
        Self::GroundCover,
        Self::Footing,
    ];

    /// Coefficients in full sun by calendar month: turf, deciduous and annual plants follow the year. South of the
    /// equator it is half a year later.
    #[must_use]
    pub fn coefficients(self, latitude_deg: f64) -> ByMonth<f64> {
        let northern = match self {
            Self::CoolSeasonTurf => COOL_SEASON_BY_MONTH,
            Self::WarmSeasonTurf => WARM_SEASON_BY_MONTH,
            Self::FruitTrees if latitude_deg.abs() > TROPICS_DEG => FRUIT_TREES_BY_MONTH,
            Self::Vegetables if latitude_deg.abs() > FROST_FREE_DEG => VEGETABLES_BY_MONTH,
            Self::Annuals if latitude_deg.abs() > FROST_FREE_DEG => ANNUALS_BY_MONTH,
            other => ByMonth::all(other.defaults().coefficient),
        };
        if latitude_deg < 0.0 { northern.half_a_year_later() } else { northern }
    }

    /// Whether anything grows: a surface without plants has no roots and no wilting, only a depth that is kept moist.
    #[must_use]
    pub const fn grows(self) -> bool {
        !matches!(self, Self::Footing)
    }

    /// The stated defaults of this kind.
    #[must_use]
    pub const fn defaults(self) -> PlantDefaults {
        const fn row(
            label: &'static str,
            coefficient: f64,
            coefficient_source: &'static str,
            root_depth_m: f64,
            allowable_depletion: f64,
        ) -> PlantDefaults {
            let allowable_depletion = Share::from_fraction(allowable_depletion);
            PlantDefaults { label, coefficient, coefficient_source, root_depth_m, allowable_depletion }
        }
        match self {
            Self::CoolSeasonTurf => row("cool-season turf", 0.79, TURF, 0.15, 0.4),
            Self::WarmSeasonTurf => row("warm-season turf", 0.65, TURF, 0.20, 0.5),
            Self::VeryLowDemand => row("alpines, very low demand", 0.08, LANDSCAPE, 0.20, 0.5),
            Self::LowDemand => row("shrubs, low demand", 0.2, LANDSCAPE, 0.40, 0.5),
            Self::ModerateDemand => row("shrubs, moderate demand", 0.5, LANDSCAPE, 0.40, 0.5),
            Self::HighDemand => row("shrubs and ferns, high demand", 0.8, LANDSCAPE, 0.30, 0.4),
            Self::Trees => row("trees, moderate demand", 0.5, LANDSCAPE, 0.60, 0.5),
            Self::FruitTrees => row("fruit trees", 0.95, CROP, 0.60, 0.5),
            Self::Vegetables => row("vegetables", 1.05, CROP, 0.30, 0.3),
            Self::Annuals => row("annuals, bedding plants", 0.8, BEDDING, 0.20, 0.4),
            Self::Natives => row("natives of dry places", 0.2, LANDSCAPE, 0.45, 0.6),
            Self::GroundCover => row("ground cover", 0.55, GROUND_COVER, 0.25, 0.5),
            Self::Footing => row("no plants: footing kept moist", 1.0, FOOTING, 0.08, 0.4),
        }
    }
}

/// How much sun a zone gets. This is the microclimate factor of the landscape coefficient and is
/// counted there only, never a second time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sun {
    /// Full sun with heat from walls or paving.
    ReflectedHeat,
    /// Six hours of sun or more.
    Full,
    /// Three to six hours.
    Part,
    /// Less than three hours.
    Shade,
}

impl Sun {
    /// All exposures, in the order of the list.
    pub const ALL: [Self; 4] = [Self::ReflectedHeat, Self::Full, Self::Part, Self::Shade];
    /// Source of the factors.
    pub const SOURCE: &'static str =
        "microclimate factor: high 1.1-1.4, average 1.0, low 0.5-0.9 (WUCOLS method; from memory)";

    /// Microclimate factor, without unit.
    #[must_use]
    pub const fn factor(self) -> f64 {
        match self {
            Self::ReflectedHeat => 1.2,
            Self::Full => 1.0,
            Self::Part => 0.8,
            Self::Shade => 0.6,
        }
    }

    /// Words for the list.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::ReflectedHeat => "full sun with reflected heat",
            Self::Full => "full sun, 6 h or more",
            Self::Part => "part shade, 3 to 6 h",
            Self::Shade => "shade, under 3 h",
        }
    }
}

/// What stands between a zone and the rain.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sky {
    /// Open to the sky: all rain counts.
    Open,
    /// Under deep eaves or a canopy: no rain is counted.
    UnderEaves,
    /// Under glass or indoors: no rain.
    UnderGlass,
}

impl Sky {
    /// All exposures, in the order of the list.
    pub const ALL: [Self; 3] = [Self::Open, Self::UnderEaves, Self::UnderGlass];

    /// Share of the rain that reaches the ground (our stated default).
    #[must_use]
    pub const fn rain_share(self) -> Share {
        match self {
            Self::Open => Share::WHOLE,
            Self::UnderEaves | Self::UnderGlass => Share::NONE,
        }
    }

    /// Source of the transmission.
    pub const TRANSMISSION_SOURCE: &'static str =
        "single glass lets through about 70 % of the sun's energy (our stated default)";

    /// Share of the sun's energy that reaches the plants: demand follows it.
    #[must_use]
    pub const fn transmission(self) -> f64 {
        match self {
            Self::Open | Self::UnderEaves => 1.0,
            Self::UnderGlass => 0.7,
        }
    }

    /// Words for the list.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Open => "open to the rain",
            Self::UnderEaves => "under eaves",
            Self::UnderGlass => "under glass",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::month::Month;

    #[test]
    fn turf_curves_have_the_means_of_common_practice_and_turn_with_the_hemisphere() {
        for (kind, about) in [(PlantKind::CoolSeasonTurf, 0.8), (PlantKind::WarmSeasonTurf, 0.6)] {
            let curve = kind.coefficients(45.0);
            let mean = curve.iter().sum::<f64>() / 12.0;
            assert!((mean - about).abs() < 0.06, "{mean}");
            assert!((mean - kind.defaults().coefficient).abs() < 0.01, "the table says the mean");
            let south = kind.coefficients(-45.0);
            assert_eq!(
                south.of(Month::January),
                curve.of(Month::July),
                "January in the south is July in the north"
            );
        }
        assert_eq!(PlantKind::Vegetables.coefficients(-10.0), ByMonth::all(1.05), "no winter in the tropics");
        for kind in [PlantKind::FruitTrees, PlantKind::Vegetables, PlantKind::Annuals] {
            let curve = kind.coefficients(46.0);
            assert_eq!(*curve.of(Month::July), kind.defaults().coefficient, "in full leaf as the table says");
            assert!(*curve.of(Month::January) <= 0.2, "near bare ground out of leaf");
            assert_eq!(kind.coefficients(-46.0).of(Month::January), curve.of(Month::July));
        }
    }
}

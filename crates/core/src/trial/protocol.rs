//! Six virtual zones on which climate-based controllers are tested: the protocol of the Irrigation Association
//! ("SWAT", 8th draft) with the criteria of the EPA. Every value of the zones is from memory, and so are the
//! criteria: adequacy of at least 80 % a zone, excess of at most 10 % a zone and 5 % on average.
//!
//! The protocol's own reckoning: adequacy is the share of the demand that was met; excess is what ran off by the
//! surface and drained below the roots because of watering, over what was applied net of the loss that the
//! efficiency stands for.

use super::run::{WayResult, run};
use super::way::{Refusal, Schedule, TrialWay};
use crate::account::running::ControllerFacts;
use crate::account::site_account::AccountInputs;
use crate::account::zone::AccountHour;
use crate::advice::planner::Strategy;
use crate::controller::schedule::Settings;
use crate::controller::twelve_stations;
use crate::ground::application::HeadType;
use crate::ground::plant::{PlantKind, Sky, Sun};
use crate::ground::planting::{OwnCoefficient, Planting};
use crate::ground::soil::Texture;
use crate::quantity::ratio::Share;
use crate::quantity::span::DateSpan;
use crate::quantity::time::Hours;
use crate::quantity::units::{Metres, Millimetres, MillimetresPerHour, SquareMetres};
use crate::site::windows::WaterWindows;
use crate::site::{ResolvedZone, Site, Sourced, SurveyedZone, UnitSystem, Zone};
use crate::weather::Station;
use crate::weather::climate::Climate;
use jiff::civil::time;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

/// Days of a period.
pub const PERIOD_DAYS: i64 = 30;
/// Least rain and reference ET of a period: 0.40 in and 2.50 in.
pub const PERIOD_LEAST: (Millimetres, Millimetres) =
    (Millimetres::from_mm(0.40 * INCH), Millimetres::from_mm(2.50 * INCH));

/// Less than this in an hour is rounding, mm.
const LEAST_MISS_MM: f64 = 0.001;
const INCH: f64 = 25.4;
const SQUARE_FOOT: f64 = 0.092_903_04;
/// Share of the available water that may be used before the refill point (from memory).
const ALLOWABLE: f64 = 0.5;

/// One of the zones; inches and square feet, as the protocol gives them (all from memory).
struct Virtual {
    soil: Texture,
    slope_pct: f64,
    sun: Sun,
    /// Root zone storage at the allowed depletion, in.
    storage_in: f64,
    plant: PlantKind,
    coefficient: Option<f64>,
    head: HeadType,
    rate_in_per_h: f64,
    efficiency: f64,
    area_ft2: f64,
}

/// The six. The coefficients of zones 3 to 5 count their shade already; that of zone 1 is the turf curve in shade.
const ZONES: [Virtual; 6] = [
    Virtual {
        soil: Texture::Loam,
        slope_pct: 6.0,
        sun: Sun::Shade,
        storage_in: 0.85,
        plant: PlantKind::CoolSeasonTurf,
        coefficient: None,
        head: HeadType::Spray,
        rate_in_per_h: 1.60,
        efficiency: 0.55,
        area_ft2: 1000.0,
    },
    Virtual {
        soil: Texture::SiltyClay,
        slope_pct: 10.0,
        sun: Sun::Full,
        storage_in: 0.55,
        plant: PlantKind::WarmSeasonTurf,
        coefficient: None,
        head: HeadType::Spray,
        rate_in_per_h: 1.60,
        efficiency: 0.60,
        area_ft2: 1200.0,
    },
    Virtual {
        soil: Texture::LoamySand,
        slope_pct: 8.0,
        sun: Sun::Full,
        storage_in: 0.90,
        plant: PlantKind::ModerateDemand,
        coefficient: Some(0.55),
        head: HeadType::Spray,
        rate_in_per_h: 1.40,
        efficiency: 0.70,
        area_ft2: 800.0,
    },
    Virtual {
        soil: Texture::SandyLoam,
        slope_pct: 12.0,
        sun: Sun::Full,
        storage_in: 2.00,
        plant: PlantKind::ModerateDemand,
        coefficient: Some(0.40),
        head: HeadType::Spray,
        rate_in_per_h: 1.40,
        efficiency: 0.75,
        area_ft2: 500.0,
    },
    Virtual {
        soil: Texture::Clay,
        slope_pct: 2.0,
        sun: Sun::Full,
        storage_in: 2.25,
        plant: PlantKind::ModerateDemand,
        coefficient: Some(0.61),
        head: HeadType::Drip,
        rate_in_per_h: 0.20,
        efficiency: 0.80,
        area_ft2: 650.0,
    },
    Virtual {
        soil: Texture::Clay,
        slope_pct: 20.0,
        sun: Sun::Full,
        storage_in: 0.55,
        plant: PlantKind::WarmSeasonTurf,
        coefficient: None,
        head: HeadType::Rotor,
        rate_in_per_h: 0.35,
        efficiency: 0.65,
        area_ft2: 1600.0,
    },
];

impl Virtual {
    fn zone(&self, number: u16) -> Zone {
        let available_mm = self.storage_in * INCH / ALLOWABLE;
        Zone {
            controller_number: 1,
            number,
            name: format!("Zone {number}"),
            plant: self.plant,
            own_coefficient: self.coefficient.map(OwnCoefficient::Constant),
            planting: Planting::default(),
            soil: self.soil,
            slope_pct: Some(self.slope_pct),
            sun: self.sun,
            sky: Sky::Open,
            head: self.head,
            precipitation_rate: Some(MillimetresPerHour::from_mm_per_hour(self.rate_in_per_h * INCH)),
            uniformity: None,
            root_depth: Some(Metres::from_m(available_mm / self.soil.available_mm_per_m())),
            allowable_depletion: Some(Share::from_fraction(ALLOWABLE)),
            area: Some(SquareMetres::from_m2(self.area_ft2 * SQUARE_FOOT)),
            window: None,
        }
    }

    /// With its efficiency: what is applied net of it reaches the roots, the rest falls where there is too much.
    fn resolved(&self, zone: &Zone, latitude_deg: f64) -> ResolvedZone {
        // The uniformity whose multiplier is 1 ÷ efficiency.
        let uniformity = Share::from_fraction(((self.efficiency - 0.4) / 0.6).max(0.0));
        let resolved = zone.resolve(latitude_deg);
        ResolvedZone {
            multiplier: 1.0 / self.efficiency,
            uneven: Share::from_fraction(1.0 - self.efficiency),
            uniformity: Sourced { value: uniformity, ..resolved.uniformity },
            ..resolved
        }
    }
}

/// Why there is no report.
#[derive(Debug, Clone, PartialEq)]
pub enum NoReport {
    /// No thirty days on end have the rain and the ET that the protocol asks for.
    NoPeriod,
    /// A way cannot be tried.
    Refused(Vec<Refusal>),
}

/// An hour in which a zone missed what the protocol asks for; hours of a day count as one.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Miss {
    /// The first such hour of the day.
    pub at: Timestamp,
    /// What.
    pub kind: MissKind,
    /// How much of it, over the day.
    pub amount: Millimetres,
    /// What was missing from full at the end of that hour, and at which the refill point lies.
    pub depletion: (Millimetres, Millimetres),
}

/// What was missed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MissKind {
    /// Plants were short of water.
    Short,
    /// Watering ran off the surface.
    RanOff,
    /// Watering drained below the roots.
    Drained,
}

/// A zone of a report.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneReport {
    /// Its number, 1 to 6.
    pub number: u16,
    /// Met demand over demand.
    pub adequacy: Share,
    /// Excess over what was applied net of the efficiency's loss.
    pub excess: Share,
    /// Every miss, day by day.
    pub misses: Vec<Miss>,
}

/// A way in the protocol's terms.
#[derive(Debug, Clone, PartialEq)]
pub struct WayReport {
    /// Its name.
    pub name: String,
    /// The zones.
    pub zones: Vec<ZoneReport>,
    /// Mean of the zones.
    pub adequacy: Share,
    /// Mean of the zones.
    pub excess: Share,
}

/// A report over a period.
#[derive(Debug, Clone, PartialEq)]
pub struct Report {
    /// First and last day.
    pub period: DateSpan,
    /// Rain and reference ET of it.
    pub weather: (Millimetres, Millimetres),
    /// The daily balance first, then the other strategies that fit.
    pub ways: Vec<WayReport>,
}

/// Rain and reference ET of some days; `None` when a day is not recorded.
fn weather_of(climate: &Climate, span: DateSpan) -> Option<(Millimetres, Millimetres)> {
    let (mut rain, mut et0, mut days) = (Millimetres::ZERO, Millimetres::ZERO, 0);
    for (date, day) in climate.range(span.first, span.last) {
        rain = rain + climate.rain_on(*date).unwrap_or(Millimetres::ZERO);
        et0 = et0 + day.et.et0;
        days += 1;
    }
    (span.count() == days).then_some((rain, et0))
}

/// The first period of a record that has the rain and the ET that the protocol asks for.
#[must_use]
pub fn first_period(climate: &Climate) -> Option<DateSpan> {
    let record = climate.span()?;
    record
        .dates()
        .filter_map(|from| Some(DateSpan::new(from, from.checked_add((PERIOD_DAYS - 1).days()).ok()?)))
        .take_while(|period| period.last <= record.last)
        .find(|period| {
            weather_of(climate, *period)
                .is_some_and(|(rain, et0)| rain >= PERIOD_LEAST.0 && et0 >= PERIOD_LEAST.1)
        })
}

/// The six zones at a station, on an ordinary controller of twelve stations, with the whole night for water.
#[must_use]
pub fn facts(climate: Climate, station: Station, longitude_deg: f64, tz: &TimeZone) -> AccountInputs {
    let site = Site {
        name: "Six virtual zones".into(),
        latitude_deg: station.latitude_deg,
        longitude_deg,
        elevation: station.elevation,
        wind_height: station.wind_height,
        time_zone: tz.iana_name().unwrap_or("UTC").to_owned(),
        units: UnitSystem::Metric,
        windows: WaterWindows::only(Hours { from: time(20, 0, 0, 0), until: time(10, 0, 0, 0) }),
        supply: None,
        drizzle: Default::default(),
        card: Default::default(),
    };
    let zones: Vec<Zone> = (1..).zip(&ZONES).map(|(number, zone)| zone.zone(number)).collect();
    let mut facts = AccountInputs::surveyed(&site, tz, &zones, climate);
    // The protocol knows no frost.
    facts.heeds_frost = false;
    for (SurveyedZone { zone, resolved }, own) in facts.zones.iter_mut().zip(&ZONES) {
        *resolved = own.resolved(zone, station.latitude_deg);
    }
    let card = twelve_stations();
    facts.controllers = vec![ControllerFacts {
        number: 1,
        versions: vec![(Timestamp::MIN, Settings::clean(&card))],
        card,
        sensors: Vec::new(),
    }];
    facts
}

/// The report over a period: one that was asked for, else the first that has the weather. Beside the daily balance
/// stand what Today would advise, and strategies of the planner under the names that lists give them.
///
/// # Errors
/// When no period has the weather that is asked for, or the daily balance cannot be tried.
pub fn report(
    facts: &AccountInputs,
    period: Option<DateSpan>,
    schools: &[(Strategy, &str)],
) -> Result<Report, NoReport> {
    let period = period.or_else(|| first_period(&facts.climate)).ok_or(NoReport::NoPeriod)?;
    let weather = weather_of(&facts.climate, period).ok_or(NoReport::NoPeriod)?;
    let long = period.count() >= usize::try_from(PERIOD_DAYS).unwrap_or(30);
    if !long || weather.0 < PERIOD_LEAST.0 || weather.1 < PERIOD_LEAST.1 {
        return Err(NoReport::NoPeriod);
    }
    let way = |name: &str, schedule| TrialWay { name: name.into(), schedule, ..TrialWay::default() };
    let balance = way("daily-balance", Schedule::DailyBalance);
    let mut ways = vec![one(facts, &balance, period).map_err(NoReport::Refused)?];
    // The soil balance is what the daily balance does; on an ordinary controller it is minimum days.
    let schools = schools.iter().filter(|(school, _)| *school != Strategy::SoilBalance);
    let schools = schools.map(|(school, name)| way(name, Schedule::School(*school)));
    let others = core::iter::once(way("as-advised", Schedule::AsAdvised)).chain(schools);
    // A strategy that no night of the controller holds is no way to list.
    ways.extend(others.filter_map(|other| one(facts, &other, period).ok()));
    Ok(Report { period, weather, ways })
}

fn one(facts: &AccountInputs, way: &TrialWay, period: DateSpan) -> Result<WayReport, Vec<Refusal>> {
    let mut misses: Vec<Vec<Miss>> = vec![Vec::new(); ZONES.len()];
    let found = run(way, facts, period, None, |place, hour| {
        if let Some(own) = misses.get_mut(place) {
            note(own, facts, place, hour);
        }
    })?;
    Ok(reported(&found, misses))
}

/// Notes what an hour missed; of a day only the first hour stands, with the day's sum.
fn note(misses: &mut Vec<Miss>, facts: &AccountInputs, place: usize, hour: &AccountHour) {
    let water = &hour.water;
    let refill = facts.zones.get(place).map_or(Millimetres::ZERO, |SurveyedZone { resolved: r, .. }| {
        r.root_zone_on(hour.date).readily_available()
    });
    for (kind, amount) in [
        (MissKind::Short, water.demand - water.et),
        (MissKind::RanOff, water.applied_off),
        (MissKind::Drained, water.applied_drained - water.uneven),
    ] {
        if amount.mm() < LEAST_MISS_MM {
            continue;
        }
        let date = |at: Timestamp| at.to_zoned(facts.tz.clone()).date();
        match misses.iter_mut().rev().find(|m| m.kind == kind).filter(|m| date(m.at) == hour.date) {
            Some(known) => known.amount = known.amount + amount,
            None => misses.push(Miss { at: hour.from, kind, amount, depletion: (water.depletion, refill) }),
        }
    }
}

fn reported(found: &WayResult, misses: Vec<Vec<Miss>>) -> WayReport {
    let zones: Vec<ZoneReport> = found
        .zones
        .iter()
        .zip(&ZONES)
        .zip(misses)
        .map(|((zone, own), misses)| {
            let uneven: Millimetres = zone.days.iter().map(|d| d.water.uneven).sum();
            let net = zone.applied.mm() * own.efficiency;
            let excess = (zone.wasted - uneven).mm().max(0.0);
            ZoneReport {
                number: zone.station,
                adequacy: zone.adequacy(),
                excess: Share::from_fraction(if net > 0.0 { excess / net } else { 0.0 }),
                misses,
            }
        })
        .collect();
    #[allow(clippy::cast_precision_loss, reason = "six zones")]
    let mean = |of: fn(&ZoneReport) -> Share| {
        Share::from_fraction(zones.iter().map(|z| of(z).fraction()).sum::<f64>() / zones.len().max(1) as f64)
    };
    WayReport {
        name: found.way.name.clone(),
        adequacy: mean(|z| z.adequacy),
        excess: mean(|z| z.excess),
        zones,
    }
}

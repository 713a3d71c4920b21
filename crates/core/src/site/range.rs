//! How far an answer can be trusted: the range that the unmeasured inputs of a zone leave open, and
//! which measurement would narrow it most.
//!
//! Each input has a relative standard uncertainty, larger for a default than for a measurement.
//! They are our stated estimates. Independent parts add in quadrature (JCGM 100:2008, 5.1.2); the
//! range shown is two standard uncertainties either way, as factors, so that it stays positive.

use crate::ground::planting::RateBasis;
use crate::site::{ResolvedZone, Zone};
use crate::weather::climate::{Climate, ExpectedFrom};
use crate::weather::reference_et::{DailyEt, Method};
use jiff::civil::Date;

/// One input's part in a range.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Part {
    /// The input.
    pub name: &'static str,
    /// Its relative standard uncertainty in the answer, a fraction.
    pub uncertainty: f64,
    /// Whether it is a default.
    pub is_default: bool,
    /// What it would be when measured.
    pub when_measured: f64,
    /// How to measure it.
    pub how: &'static str,
}

/// A range about an answer.
#[derive(Debug, Clone, PartialEq)]
pub struct Range {
    /// Factor from the answer to the low end.
    pub low: f64,
    /// Factor from the answer to the high end.
    pub high: f64,
    /// The parts, largest first.
    pub parts: Vec<Part>,
}

impl Range {
    fn of(mut parts: Vec<Part>) -> Self {
        parts.sort_by(|a, b| b.uncertainty.total_cmp(&a.uncertainty));
        let spread = (2.0 * quadrature(&parts)).exp();
        Self { low: 1.0 / spread, high: spread, parts }
    }

    /// The default whose measurement narrows the range most, with the factors of the range after it.
    #[must_use]
    pub fn best_next(&self) -> Option<(Part, f64, f64)> {
        let gain = |p: &Part| p.uncertainty.powi(2) - p.when_measured.powi(2);
        let best = self.parts.iter().filter(|p| p.is_default).max_by(|a, b| gain(a).total_cmp(&gain(b)))?;
        let after: Vec<Part> = self
            .parts
            .iter()
            .map(|p| if p.name == best.name { Part { uncertainty: p.when_measured, ..*p } } else { *p })
            .collect();
        let spread = (2.0 * quadrature(&after)).exp();
        Some((*best, 1.0 / spread, spread))
    }
}

fn quadrature(parts: &[Part]) -> f64 {
    parts.iter().map(|p| p.uncertainty.powi(2)).sum::<f64>().sqrt()
}

/// Relative standard uncertainty of an area that was measured (our stated estimate).
const AREA_KNOWN: f64 = 0.05;

fn part(name: &'static str, is_default: bool, default: f64, measured: f64, how: &'static str) -> Part {
    Part {
        name,
        uncertainty: if is_default { default } else { measured },
        is_default,
        when_measured: measured,
        how,
    }
}

/// Relative standard uncertainty of a day's ET0 with everything measured (our stated estimate; lysimeters find the
/// equation within some percent).
const ET_MEASURED: f64 = 0.05;
/// What each input that a rule filled adds, in quadrature.
const ET_FILLED: f64 = 0.07;
/// From temperatures alone, as FAO-56 eq. 52 is usually found against the full equation.
const ET_FROM_TEMPERATURES: f64 = 0.15;
/// From typed monthly normals, and from latitude and elevation for want of any record.
const ET_UNRECORDED: (f64, f64) = (0.12, 0.25);

/// From a forecast of some days ahead (from memory: studies of forecast reference ET find about a sixth).
const ET_FORETOLD: f64 = 0.16;

/// How well the expected ET0 of a date is known.
#[must_use]
pub fn et0_part(climate: &Climate, date: Date) -> Part {
    let of_day = |et: &DailyEt| match et.method {
        Method::HargreavesSamani => ET_FROM_TEMPERATURES,
        Method::PenmanMonteith => {
            let filled = f64::from(u8::try_from(et.fills.len()).unwrap_or(u8::MAX));
            (ET_MEASURED.powi(2) + filled * ET_FILLED.powi(2)).sqrt()
        }
    };
    let (uncertainty, how) = match climate.expected_et0(date).1 {
        ExpectedFrom::Forecast => (ET_FORETOLD, "the day itself, once it is recorded"),
        ExpectedFrom::TypedNormals => (ET_UNRECORDED.0, "a record of the site instead of typed normals"),
        ExpectedFrom::RoughEstimate => (ET_UNRECORDED.1, "a weather record, or typed monthly normals"),
        ExpectedFrom::Normals => {
            let days = || climate.range(Date::MIN, Date::MAX).map(|(_, day)| of_day(&day.et));
            #[allow(clippy::cast_precision_loss, reason = "days of a record")]
            let mean = days().sum::<f64>() / days().count().max(1) as f64;
            (mean, "a station that measures sun, wind and humidity")
        }
    };
    let is_default = uncertainty > ET_MEASURED + 1e-9;
    Part { name: "reference ET", uncertainty, is_default, when_measured: ET_MEASURED, how }
}

/// The part of the precipitation rate in an answer.
fn rate_part(zone: &Zone, resolved: &ResolvedZone) -> Part {
    let measured = match zone.planting.rate_basis {
        RateBasis::CatchCans { .. } => 0.04,
        RateBasis::FlowAndArea { .. } => 0.06,
        RateBasis::Emitters { .. } | RateBasis::Typed => 0.08,
    };
    let how = "a catch-can test, or flow and area";
    part("precipitation rate", resolved.rate.is_default(), 0.20, measured, how)
}

/// Range of the volume that a zone was watered with: run time × rate × area, with an area that was paced or measured on
/// a plan.
#[must_use]
pub fn applied_water(zone: &Zone, resolved: &ResolvedZone) -> Range {
    let how = "a tape, or a plan to scale";
    Range::of(vec![rate_part(zone, resolved), part("area", false, AREA_KNOWN, AREA_KNOWN, how)])
}

/// Range of the weekly run time of a zone: demand × multiplier ÷ rate.
#[must_use]
pub fn weekly_minutes(zone: &Zone, resolved: &ResolvedZone, et0: Part) -> Range {
    Range::of(vec![
        rate_part(zone, resolved),
        part(
            "plant coefficient",
            resolved.coefficients.is_default(),
            0.12,
            0.08,
            "the coefficient builder, then tuning by eye",
        ),
        part("uniformity", resolved.uniformity.is_default(), 0.08, 0.02, "a catch-can test"),
        et0,
    ])
}

/// Range of the refill depth of a zone: available water × root depth × allowable depletion.
#[must_use]
pub fn refill_depth(resolved: &ResolvedZone) -> Range {
    Range::of(vec![
        part("root depth", resolved.root_depth.is_default(), 0.20, 0.07, "a spade or a soil core"),
        part(
            "allowable depletion",
            resolved.allowable_depletion.is_default(),
            0.12,
            0.06,
            "watching when the plants first show thirst",
        ),
        part("available water of the soil", false, 0.12, 0.12, "a texture by feel gives the class only"),
    ])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::ratio::Share;
    use crate::quantity::units::{Metres, MillimetresPerHour};
    use crate::site::samples::lawn;

    fn measured() -> Part {
        Part { name: "reference ET", uncertainty: 0.05, is_default: false, when_measured: 0.05, how: "" }
    }

    #[test]
    fn reference_et_is_known_as_well_as_it_was_obtained() {
        use crate::quantity::units::{Celsius, MegajoulesPerSquareMetre, Metres, MetresPerSecond};
        use crate::weather::{DayWeather, Station};
        let station = Station {
            latitude_deg: 46.0,
            longitude_deg: 0.0,
            elevation: Metres::from_m(1040.0),
            wind_height: Metres::from_m(2.0),
        };
        let on = jiff::civil::date(2026, 7, 1);
        let of = |day: Option<DayWeather>| {
            let days = day.into_iter().flat_map(|day| {
                (0..60).map(move |k| DayWeather { date: on + jiff::Span::new().days(k), ..day })
            });
            et0_part(
                &Climate::from_record(&days.collect::<Vec<_>>(), station),
                on + jiff::Span::new().days(30),
            )
        };
        let bare = DayWeather::from_temperatures(on, Celsius::from_c(10.0), Celsius::from_c(25.0));
        let mut sunny = bare;
        sunny.solar = Some(MegajoulesPerSquareMetre::from_mj_per_m2(24.0));
        let mut windy = sunny;
        windy.wind = Some(MetresPerSecond::from_m_per_s(2.0));
        let [rough, bare, sunny, windy] =
            [None, Some(bare), Some(sunny), Some(windy)].map(|day| of(day).uncertainty);
        assert!(
            rough > bare && bare > sunny && sunny > windy && windy > 0.05,
            "{rough} {bare} {sunny} {windy}"
        );
        assert_eq!(rough, 0.25);
        assert!(of(None).is_default && of(None).how.contains("weather record"));
    }

    #[test]
    fn each_measurement_narrows_the_range() {
        let mut zone = lawn(1);
        let width = |zone: &Zone| {
            let range = weekly_minutes(zone, &zone.resolve(46.0), measured());
            range.high - range.low
        };
        let unmeasured = width(&zone);
        zone.precipitation_rate = Some(MillimetresPerHour::from_mm_per_hour(30.0));
        let typed = width(&zone);
        zone.planting.rate_basis = RateBasis::CatchCans { on: jiff::civil::date(2026, 6, 1) };
        let cans = width(&zone);
        zone.uniformity = Some(Share::from_fraction(0.6));
        let uniform = width(&zone);
        assert!(
            unmeasured > typed && typed > cans && cans > uniform,
            "{unmeasured} {typed} {cans} {uniform}"
        );
        let depth = |zone: &Zone| refill_depth(&zone.resolve(46.0)).high;
        let before = depth(&zone);
        zone.root_depth = Some(Metres::from_m(0.12));
        assert!(depth(&zone) < before);
    }

    #[test]
    fn the_best_next_measurement_is_the_one_that_narrows_most() {
        let zone = lawn(1);
        let range = weekly_minutes(&zone, &zone.resolve(46.0), measured());
        let (best, low, high) = range.best_next().unwrap();
        assert_eq!(best.name, "precipitation rate");
        assert!(low > range.low && high < range.high);
        // 0.2, 0.12, 0.08, 0.05 in quadrature are 0.2517; two of them as a factor 1.654.
        assert!((range.high - (2.0_f64 * 0.063_3_f64.sqrt()).exp()).abs() < 1e-9, "{}", range.high);
    }

    #[test]
    fn a_zone_measured_in_full_has_no_next() {
        let mut zone = lawn(1);
        zone.precipitation_rate = Some(MillimetresPerHour::from_mm_per_hour(30.0));
        zone.uniformity = Some(Share::from_fraction(0.6));
        zone.own_coefficient = Some(crate::ground::planting::OwnCoefficient::Constant(0.8));
        assert_eq!(weekly_minutes(&zone, &zone.resolve(46.0), measured()).best_next(), None);
    }
}

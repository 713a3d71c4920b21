//! How far an answer can be trusted: the range that the unmeasured inputs of a zone leave open, and
//! which measurement would narrow it most.
//!
//! Each input has a relative standard uncertainty, larger for a default than for a measurement.
//! They are our stated estimates. Independent parts add in quadrature (JCGM 100:2008, 5.1.2); the
//! range shown is two standard uncertainties either way, as factors, so that it stays positive.

use crate::ground::planting::RateBasis;
use crate::site::{ResolvedZone, Zone};

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

fn part(name: &'static str, is_default: bool, (default, measured): (f64, f64), how: &'static str) -> Part {
    Part {
        name,
        uncertainty: if is_default { default } else { measured },
        is_default,
        when_measured: measured,
        how,
    }
}

/// Range of the weekly run time of a zone: demand × multiplier ÷ rate.
#[must_use]
pub fn weekly_minutes(zone: &Zone, resolved: &ResolvedZone) -> Range {
    let rate_measured = match zone.planting.rate_basis {
        RateBasis::CatchCans { .. } => 0.04,
        RateBasis::FlowAndArea { .. } => 0.06,
        RateBasis::Emitters { .. } | RateBasis::Typed => 0.08,
    };
    Range::of(vec![
        part(
            "precipitation rate",
            resolved.rate.is_default(),
            (0.20, rate_measured),
            "a catch-can test, or flow and area",
        ),
        part(
            "plant coefficient",
            resolved.coefficients.is_default(),
            (0.12, 0.08),
            "the coefficient builder, then tuning by eye",
        ),
        part("uniformity", resolved.uniformity.is_default(), (0.08, 0.02), "a catch-can test"),
        part("reference ET", false, (0.05, 0.05), "a record of the site"),
    ])
}

/// Range of the refill depth of a zone: available water × root depth × allowable depletion.
#[must_use]
pub fn refill_depth(resolved: &ResolvedZone) -> Range {
    Range::of(vec![
        part("root depth", resolved.root_depth.is_default(), (0.20, 0.07), "a spade or a soil core"),
        part(
            "allowable depletion",
            resolved.allowable_depletion.is_default(),
            (0.12, 0.06),
            "watching when the plants first show thirst",
        ),
        part("available water of the soil", false, (0.12, 0.12), "a texture by feel gives the class only"),
    ])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::ratio::Share;
    use crate::quantity::units::{Metres, MillimetresPerHour};
    use crate::site::samples::lawn;

    #[test]
    fn each_measurement_narrows_the_range() {
        let mut zone = lawn(1);
        let width = |zone: &Zone| {
            let range = weekly_minutes(zone, &zone.resolve(46.0));
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
        let range = weekly_minutes(&zone, &zone.resolve(46.0));
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
        assert_eq!(weekly_minutes(&zone, &zone.resolve(46.0)).best_next(), None);
    }
}

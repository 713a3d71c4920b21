//! Two sources side by side: bias, scatter, days apart, distance.

use super::{JudgedDay, Variable};

/// Mean radius of the earth, km (IUGG).
pub const EARTH_RADIUS_KM: f64 = 6_371.009;

/// How a second source compares with a first in one variable.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Comparison {
    /// The variable.
    pub variable: Variable,
    /// Days on which both count.
    pub days: usize,
    /// Mean of the second less the first.
    pub bias: f64,
    /// Standard deviation of the differences about the bias.
    pub scatter: f64,
    /// Correlation; `None` when one of them never moves.
    pub correlation: Option<f64>,
    /// Days on which they are further apart than [`apart`] of the variable.
    pub days_apart: usize,
}

/// A difference of two sources that a technician would ask about (our stated limits).
#[must_use]
pub const fn apart(variable: Variable) -> f64 {
    match variable {
        Variable::TemperatureMin | Variable::TemperatureMax | Variable::DewPoint => 3.0,
        Variable::HumidityMin | Variable::HumidityMax => 15.0,
        Variable::VapourPressure => 0.3,
        Variable::Solar => 4.0,
        Variable::Wind => 1.5,
        Variable::Rain => 5.0,
    }
}

/// Compares two judged records, both in order of date, in every variable that both have.
#[must_use]
pub fn compare(first: &[JudgedDay], second: &[JudgedDay]) -> Vec<Comparison> {
    Variable::ALL
        .into_iter()
        .filter_map(|variable| {
            let pairs: Vec<(f64, f64)> = first
                .iter()
                .filter_map(|a| {
                    let at = second.binary_search_by_key(&a.raw.date, |b| b.raw.date).ok()?;
                    Some((a.counted(variable)?, second.get(at)?.counted(variable)?))
                })
                .collect();
            (!pairs.is_empty()).then(|| of_pairs(variable, &pairs))
        })
        .collect()
}

fn of_pairs(variable: Variable, pairs: &[(f64, f64)]) -> Comparison {
    #[allow(clippy::cast_precision_loss, reason = "days of a record")]
    let n = pairs.len() as f64;
    let mean = |get: fn(&(f64, f64)) -> f64| pairs.iter().map(get).sum::<f64>() / n;
    let (a, b) = (mean(|p| p.0), mean(|p| p.1));
    let bias = b - a;
    let scatter = (pairs.iter().map(|(x, y)| (y - x - bias).powi(2)).sum::<f64>() / n).sqrt();
    let (mut together, mut xs, mut ys) = (0.0, 0.0, 0.0);
    for (x, y) in pairs {
        together += (x - a) * (y - b);
        xs += (x - a).powi(2);
        ys += (y - b).powi(2);
    }
    Comparison {
        variable,
        days: pairs.len(),
        bias,
        scatter,
        correlation: (xs > 0.0 && ys > 0.0).then(|| together / (xs * ys).sqrt()),
        days_apart: pairs.iter().filter(|(x, y)| (y - x).abs() > apart(variable)).count(),
    }
}

/// Great-circle distance of two places, km (haversine).
#[must_use]
pub fn distance_km(lat_a: f64, lon_a: f64, lat_b: f64, lon_b: f64) -> f64 {
    let (a, b) = (lat_a.to_radians(), lat_b.to_radians());
    let half = |d: f64| (d / 2.0).sin().powi(2);
    let h = half(b - a) + a.cos() * b.cos() * half((lon_b - lon_a).to_radians());
    2.0 * EARTH_RADIUS_KM * h.sqrt().min(1.0).asin()
}

#[cfg(test)]
mod tests {
    use super::super::{RawDay, judge};
    use super::*;
    use jiff::ToSpan;
    use jiff::civil::date;

    fn record(offset: i64, values: &[f64]) -> Vec<JudgedDay> {
        let days: Vec<RawDay> = values
            .iter()
            .enumerate()
            .map(|(i, v)| {
                RawDay::new(date(2026, 6, 1) + (offset + i as i64).days()).with(Variable::TemperatureMax, *v)
            })
            .collect();
        judge(&days, &[], &[])
    }

    #[test]
    fn bias_and_scatter_by_hand() {
        let a = record(0, &[20.0, 22.0, 24.0, 26.0]);
        let b = record(1, &[23.0, 25.0, 30.0, 99.0]);
        // Shared days: 22/23, 24/25, 26/30: differences 1, 1, 4; mean 2, variance (1+1+4)/3 = 2.
        let found = compare(&a, &b);
        assert_eq!(found.len(), 1);
        assert_eq!((found[0].days, found[0].days_apart), (3, 1));
        assert!((found[0].bias - 2.0).abs() < 1e-12);
        assert!((found[0].scatter - 2.0_f64.sqrt()).abs() < 1e-12);
        assert!(found[0].correlation.unwrap() > 0.9);
    }

    #[test]
    fn distances_on_the_globe() {
        // One degree of latitude is 111.195 km on this sphere; a quarter of a great circle 10 007.6 km.
        assert!((distance_km(45.0, 7.0, 46.0, 7.0) - 111.195).abs() < 0.001);
        assert!((distance_km(0.0, 0.0, 0.0, 90.0) - 10_007.557).abs() < 0.01);
        assert_eq!(distance_km(10.0, 20.0, 10.0, 20.0), 0.0);
    }
}

//! Calibration of a soil probe from its own trace: saturate, let soak, a first reading, 24 hours
//! without water, and the drained level.
//!
//! A drained soil comes to rest like `level + rise × e^(-t ÷ τ)`. The level is fitted by least
//! squares, τ by trying a ladder of them (our method; the step-by-step practice of a reading after
//! 24 hours is common practice). What goes wrong has a name and a remedy.

use super::Reading;
use crate::ground::soil::Texture;
use jiff::Timestamp;

/// Length of the run, hours (common practice).
pub const RUN_HOURS: f64 = 24.0;
/// Longest gap between two readings, hours.
pub const LONGEST_GAP_H: f64 = 4.0;
/// Fewest readings.
pub const FEWEST: usize = 6;
/// Rise from one reading to a later one that only water makes, points.
const WATER_RISE: f64 = 1.5;
/// Least fall of a soil that was saturated, points.
const LEAST_FALL: f64 = 1.0;
/// Fall of the fitted curve over the last six hours above which it has not come to rest, points (our stated bound: two
/// steps of a threshold).
const STILL_FALLING: f64 = 1.0;
/// Hours over which that is judged.
pub const REST_HOURS: f64 = 6.0;
/// Noise above which a trace says nothing, points (standard deviation of the residuals).
const MOST_NOISE: f64 = 1.0;
/// Fall in an hour that no soil drains, points: the probe came out.
const FALLS_OUT: f64 = 12.0;
/// Below this a probe is in the air, percent by volume.
const AIR_PCT: f64 = 3.0;
/// Step in which a threshold is set, points.
pub const THRESHOLD_STEP: f64 = 0.5;
/// Largest later step, points (common practice: half a point to one point).
pub const LARGEST_ADJUSTMENT: f64 = 1.0;

/// What a good run found.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Drained {
    /// First reading, saturated, percent by volume.
    pub saturated_pct: f64,
    /// Level after 24 hours by the fit.
    pub drained_pct: f64,
    /// Two standard uncertainties of it, points.
    pub uncertainty: f64,
    /// The threshold: the drained level in steps of half a point.
    pub threshold_pct: f64,
    /// Where the fit comes to rest.
    pub rest_pct: f64,
    /// Its time constant, hours.
    pub tau_h: f64,
    /// Standard deviation of the readings about it, points.
    pub noise: f64,
}

/// Why a run says nothing, with what shows it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Failure {
    /// Fewer than [`FEWEST`] readings.
    TooFew {
        /// Readings.
        readings: usize,
    },
    /// It does not last 24 hours.
    TooShort {
        /// Hours that it lasts.
        hours: f64,
    },
    /// Readings are missing.
    Gap {
        /// Last before the gap.
        from: Timestamp,
        /// First after it.
        until: Timestamp,
    },
    /// Water came during the run.
    Water {
        /// The first reading that rose.
        at: Timestamp,
        /// By how much, points.
        rise: f64,
    },
    /// It hardly fell: it was not saturated at the start.
    NeverSaturated {
        /// First reading.
        first_pct: f64,
        /// Fall over the run, points.
        fall: f64,
    },
    /// It still falls after 24 hours: the level is not the drained one.
    StillFalling {
        /// Fall over the last [`REST_HOURS`], points.
        fall: f64,
        /// Where the fit would come to rest, percent by volume.
        rest_pct: f64,
    },
    /// The readings scatter.
    Noisy {
        /// Standard deviation about the fit, points.
        noise: f64,
    },
    /// It reads air, or fell at once: it is not in touch with the soil.
    OutOfSoil {
        /// When.
        at: Timestamp,
        /// What it read.
        read_pct: f64,
    },
}

fn hours(from: Timestamp, to: Timestamp) -> f64 {
    to.duration_since(from).as_secs_f64() / 3600.0
}

/// Reads a run that began with the saturated soak at an instant. Readings before it and more than two
/// hours beyond the 24 are left out.
///
/// # Errors
/// The first [`Failure`] in the order in which a technician would look: is it in the soil, was it
/// wet, did water come, is the trace whole, is it quiet.
pub fn calibrate(begun: Timestamp, readings: &[Reading]) -> Result<Drained, Failure> {
    let mut trace: Vec<Reading> = readings
        .iter()
        .filter(|r| r.value.is_finite() && r.at >= begun && hours(begun, r.at) <= RUN_HOURS + 2.0)
        .copied()
        .collect();
    trace.sort_by_key(|r| r.at);
    trace.dedup_by_key(|r| r.at);
    let (Some(first), Some(last)) = (trace.first().copied(), trace.last().copied()) else {
        return Err(Failure::TooFew { readings: 0 });
    };
    if let Some(air) = trace.iter().find(|r| r.value <= AIR_PCT) {
        return Err(Failure::OutOfSoil { at: air.at, read_pct: air.value });
    }
    let pairs = || trace.iter().zip(trace.iter().skip(1));
    if let Some((_, after)) =
        pairs().find(|(a, b)| a.value - b.value > FALLS_OUT * hours(a.at, b.at).max(0.25))
    {
        return Err(Failure::OutOfSoil { at: after.at, read_pct: after.value });
    }
    if trace.len() < FEWEST {
        return Err(Failure::TooFew { readings: trace.len() });
    }
    if let Some((a, b)) = pairs().find(|(a, b)| hours(a.at, b.at) > LONGEST_GAP_H) {
        return Err(Failure::Gap { from: a.at, until: b.at });
    }
    let lasted = hours(begun, last.at);
    if lasted < RUN_HOURS - 0.5 {
        return Err(Failure::TooShort { hours: lasted });
    }
    // Water: most of some readings rise above an earlier level, while a value that falls back is scatter.
    if let Some((at, rise)) = lasting_rise(&trace) {
        return Err(Failure::Water { at, rise });
    }
    let fit = fit(begun, &trace);
    if fit.noise > MOST_NOISE {
        return Err(Failure::Noisy { noise: fit.noise });
    }
    let fall = first.value - last.value;
    if fall < LEAST_FALL.max(2.0 * fit.noise) {
        return Err(Failure::NeverSaturated { first_pct: first.value, fall });
    }
    let level = |hours: f64| fit.rest + fit.rise * (-hours / fit.tau).exp();
    let drained = level(RUN_HOURS);
    let falling = level(RUN_HOURS - REST_HOURS) - drained;
    if falling > STILL_FALLING {
        return Err(Failure::StillFalling { fall: falling, rest_pct: fit.rest });
    }
    Ok(Drained {
        saturated_pct: first.value,
        drained_pct: drained,
        uncertainty: fit.uncertainty,
        threshold_pct: (drained / THRESHOLD_STEP).round() * THRESHOLD_STEP,
        rest_pct: fit.rest,
        tau_h: fit.tau,
        noise: fit.noise,
    })
}

/// Readings whose median and mean stand for one, so that scatter and a reading or two that jump and fall back are not
/// taken for water.
const SMOOTHED: usize = 5;

/// Sum over count.
#[allow(clippy::cast_precision_loss, reason = "a few readings")]
fn mean(window: &[Reading]) -> f64 {
    window.iter().map(|r| r.value).sum::<f64>() / window.len() as f64
}

/// The first rise of the smoothed trace above its lowest so far by more than [`WATER_RISE`]: the
/// reading that rose most from the one before, and how far above the lowest it stands.
fn lasting_rise(trace: &[Reading]) -> Option<(Timestamp, f64)> {
    let (mut lowest, mut lowest_mean) = (f64::INFINITY, f64::INFINITY);
    for (i, window) in trace.windows(SMOOTHED).enumerate() {
        let mut values: Vec<f64> = window.iter().map(|r| r.value).collect();
        values.sort_by(f64::total_cmp);
        let Some(median) = values.get(SMOOTHED / 2).copied() else { break };
        // Scatter from side to side moves the median, a short jump the mean; water moves both.
        let mean = window.get(1..).map_or(median, mean);
        if median - lowest > WATER_RISE / 2.0 && mean - lowest_mean > WATER_RISE {
            let from = trace.get(i.saturating_sub(1)..i + SMOOTHED)?;
            let jump = |pair: &&[Reading]| match pair {
                [a, b] => b.value - a.value,
                _ => 0.0,
            };
            let (at, value) = from
                .windows(2)
                .max_by(|a, b| jump(a).total_cmp(&jump(b)))
                .and_then(<[Reading]>::last)
                .map(|r| (r.at, r.value))?;
            return Some((at, value - lowest));
        }
        lowest = lowest.min(median);
        lowest_mean = lowest_mean.min(mean);
    }
    None
}

struct Fit {
    rest: f64,
    rise: f64,
    tau: f64,
    noise: f64,
    /// Two standard uncertainties of the level at 24 hours.
    uncertainty: f64,
}

/// Least squares of rest and rise for each time constant of a ladder; the best counts.
#[allow(clippy::cast_precision_loss, reason = "a day of readings")]
fn fit(begun: Timestamp, trace: &[Reading]) -> Fit {
    let points: Vec<(f64, f64)> = trace.iter().map(|r| (hours(begun, r.at), r.value)).collect();
    let n = points.len() as f64;
    let mut best: Option<(f64, Fit)> = None;
    // Two per cent apart, half an hour to two days: the level of a clean trace comes within a few hundredths of a point.
    for step in 0..235 {
        let tau = 0.5 * 1.02_f64.powi(step);
        let basis = |t: f64| (-t / tau).exp();
        let (mut se, mut see, mut sy, mut sey) = (0.0, 0.0, 0.0, 0.0);
        for (t, y) in &points {
            let e = basis(*t);
            se += e;
            see += e * e;
            sy += y;
            sey += e * y;
        }
        let determinant = n * see - se * se;
        if determinant.abs() < 1e-9 {
            continue;
        }
        let rise = (n * sey - se * sy) / determinant;
        let rest = (sy - rise * se) / n;
        let squares: f64 = points.iter().map(|(t, y)| (y - rest - rise * basis(*t)).powi(2)).sum();
        let noise = (squares / (n - 3.0).max(1.0)).sqrt();
        // Variance of rest + rise × e at 24 h, from the normal equations.
        let e = basis(RUN_HOURS);
        let variance = noise * noise * (see - 2.0 * e * se + n * e * e) / determinant;
        if best.as_ref().is_none_or(|(s, _)| squares < *s) {
            best =
                Some((squares, Fit { rest, rise, tau, noise, uncertainty: 2.0 * variance.max(0.0).sqrt() }));
        }
    }
    best.map_or(
        Fit { rest: 0.0, rise: 0.0, tau: 1.0, noise: f64::INFINITY, uncertainty: f64::INFINITY },
        |(_, fit)| fit,
    )
}

/// Water content at field capacity that a texture is expected to drain to, percent by volume, low and
/// high (FAO-56 table 19; from memory).
#[must_use]
pub const fn expected_drained_pct(texture: Texture) -> (f64, f64) {
    match texture {
        Texture::Sand => (7.0, 17.0),
        Texture::LoamySand => (11.0, 19.0),
        Texture::SandyLoam => (18.0, 28.0),
        Texture::Loam => (20.0, 30.0),
        Texture::ClayLoam => (27.0, 37.0),
        Texture::SiltyClay => (30.0, 42.0),
        Texture::Clay => (32.0, 40.0),
    }
}

/// Whether a later change of the threshold is small enough to learn from.
///
/// # Errors
/// What to do instead.
pub fn check_adjustment(from_pct: f64, to_pct: f64) -> Result<(), &'static str> {
    let step = (to_pct - from_pct).abs();
    if step < 1e-9 {
        Err("it stands there already")
    } else if step > LARGEST_ADJUSTMENT + 1e-9 {
        Err(
            "move it by half a point to one point, look at the turf for a week, then again; for more, calibrate anew",
        )
    } else {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::SignedDuration;
    use proptest::prelude::*;

    fn begun() -> Timestamp {
        "2026-05-04T08:00:00Z".parse().unwrap()
    }

    fn at(h: f64) -> Timestamp {
        begun() + SignedDuration::from_secs((h * 3600.0) as i64)
    }

    /// Readings every half hour of a soil that drains from one level to another.
    fn trace(saturated: f64, rest: f64, tau: f64, noise: impl Fn(usize) -> f64) -> Vec<Reading> {
        (0..=48)
            .map(|i| {
                let t = i as f64 / 2.0;
                Reading { at: at(t), value: rest + (saturated - rest) * (-t / tau).exp() + noise(i) }
            })
            .collect()
    }

    #[test]
    fn a_known_drainage_curve_gives_its_level() {
        let found = calibrate(begun(), &trace(46.0, 31.0, 5.0, |_| 0.0)).unwrap();
        let level = 31.0 + 15.0 * (-24.0_f64 / 5.0).exp();
        assert!((found.drained_pct - level).abs() < 0.05, "{found:?}");
        assert_eq!(found.threshold_pct, 31.0);
        assert!((found.tau_h - 5.0).abs() < 0.3 && found.noise < 0.1 && found.uncertainty < 0.1);
    }

    #[test]
    fn noise_widens_the_answer_and_too_much_refuses_it() {
        // A fixed pattern of alternating signs stands in for noise.
        let wave = |size: f64| move |i: usize| size * [0.9, -1.1, 0.4, -0.6, 1.2, -0.8][i % 6];
        let quiet = calibrate(begun(), &trace(44.0, 30.0, 6.0, wave(0.1))).unwrap();
        let loud = calibrate(begun(), &trace(44.0, 30.0, 6.0, wave(0.5))).unwrap();
        assert!(loud.uncertainty > 2.0 * quiet.uncertainty);
        assert!((loud.drained_pct - quiet.drained_pct).abs() < loud.uncertainty + quiet.uncertainty);
        let told = calibrate(begun(), &trace(44.0, 30.0, 6.0, wave(1.4)));
        assert!(matches!(told, Err(Failure::Noisy { noise }) if noise > 1.0), "{told:?}");
    }

    #[test]
    fn each_failure_has_its_name() {
        let good = || trace(44.0, 30.0, 5.0, |_| 0.0);
        assert_eq!(calibrate(begun(), &[]), Err(Failure::TooFew { readings: 0 }));
        assert_eq!(calibrate(begun(), &good()[..4]), Err(Failure::TooFew { readings: 4 }));
        let Err(Failure::TooShort { hours }) = calibrate(begun(), &good()[..30]) else { panic!() };
        assert!((hours - 14.5).abs() < 0.01);
        let mut gap = good();
        gap.drain(20..32);
        assert_eq!(calibrate(begun(), &gap), Err(Failure::Gap { from: at(9.5), until: at(16.0) }));
        let rained: Vec<_> = good()
            .into_iter()
            .map(|r| Reading { value: r.value + if r.at >= at(10.0) { 4.0 } else { 0.0 }, ..r })
            .collect();
        let Err(Failure::Water { at: when, rise }) = calibrate(begun(), &rained) else { panic!() };
        assert!(when == at(10.0) && rise > 2.5, "{rise}");
        let dry = trace(30.4, 30.0, 5.0, |_| 0.0);
        assert!(matches!(calibrate(begun(), &dry), Err(Failure::NeverSaturated { fall, .. }) if fall < 0.5));
        let mut out = good();
        out[20].value = 1.0;
        assert_eq!(calibrate(begun(), &out), Err(Failure::OutOfSoil { at: at(10.0), read_pct: 1.0 }));
        let pulled: Vec<_> = good()
            .into_iter()
            .map(|r| Reading { value: if r.at >= at(6.0) { 12.0 } else { r.value }, ..r })
            .collect();
        assert_eq!(calibrate(begun(), &pulled), Err(Failure::OutOfSoil { at: at(6.0), read_pct: 12.0 }));
    }

    #[test]
    fn sentence_8_a_trace_that_still_falls_is_not_settled_and_a_jump_is_judged_by_its_shape() {
        let slow = calibrate(begun(), &trace(46.0, 20.0, 24.0, |_| 0.0));
        assert!(
            matches!(slow, Err(Failure::StillFalling { fall, rest_pct }) if fall > 2.0 && rest_pct < 25.0),
            "{slow:?}"
        );
        // The same soil a little quicker has come to rest.
        assert!(calibrate(begun(), &trace(46.0, 30.0, 6.0, |_| 0.0)).is_ok());
        // Two readings that jump and fall back are no water: they scatter, or with less of a jump do nothing.
        let spike =
            |points: f64| trace(44.0, 30.0, 4.0, move |i| if i == 30 || i == 31 { points } else { 0.0 });
        assert!(matches!(calibrate(begun(), &spike(5.7)), Err(Failure::Noisy { .. })));
        assert!(calibrate(begun(), &spike(3.0)).is_ok());
        let stays = trace(44.0, 30.0, 4.0, |i| if i >= 30 { 4.0 } else { 0.0 });
        assert!(
            matches!(calibrate(begun(), &stays), Err(Failure::Water { at: when, .. }) if when == at(15.0))
        );
    }

    #[test]
    fn later_changes_go_by_half_a_point_to_one() {
        assert!(check_adjustment(31.0, 31.5).is_ok() && check_adjustment(31.0, 30.0).is_ok());
        assert!(check_adjustment(31.0, 33.0).unwrap_err().contains("half a point"));
        assert!(check_adjustment(31.0, 31.0).is_err());
    }

    proptest! {
        #[test]
        fn any_drainage_curve_gives_its_level(rest in 8.0..40.0_f64, rise in 4.0..20.0_f64, tau in 1.5..9.0_f64, shift in 0..48_usize) {
            let mut readings = trace(rest + rise, rest, tau, |_| 0.0);
            readings.rotate_left(shift);
            let level = rest + rise * (-24.0 / tau).exp();
            let falling = rest + rise * (-(24.0 - REST_HOURS) / tau).exp() - level;
            // Near the bound the fit decides.
            if (falling - STILL_FALLING).abs() < 0.05 {
                return Ok(());
            }
            let found = calibrate(begun(), &readings);
            if falling > STILL_FALLING {
                prop_assert!(matches!(found, Err(Failure::StillFalling { .. })), "{found:?}");
                return Ok(());
            }
            let found = found.unwrap();
            prop_assert!((found.drained_pct - level).abs() < 0.1, "{} {}", found.drained_pct, level);
            prop_assert!((found.threshold_pct - level).abs() <= THRESHOLD_STEP / 2.0 + 0.1);
        }

        #[test]
        fn water_during_the_run_is_always_told(hour in 6.0..22.0_f64, points in 3.0..10.0_f64) {
            let rained: Vec<_> = trace(44.0, 30.0, 3.0, |_| 0.0)
                .into_iter()
                .map(|r| Reading { value: r.value + if r.at >= at(hour) { points } else { 0.0 }, ..r })
                .collect();
            let told = matches!(calibrate(begun(), &rained), Err(Failure::Water { at: when, .. }) if when >= at(hour) && when <= at(hour + 2.0));
            prop_assert!(told, "{:?}", calibrate(begun(), &rained));
        }
    }
}

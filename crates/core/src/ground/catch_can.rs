//! The catch-can test: cans set out on a zone, a run of some minutes, the water in each can. It gives
//! the precipitation rate, the uniformity, where the zone is under and over, and whether to add
//! minutes or to mend heads.

use crate::ground::application::{REPAIR_BELOW_UNIFORMITY, run_time_multiplier};
use crate::quantity::ratio::Share;
use crate::quantity::units::{Millimetres, MillimetresPerHour, Minutes};

/// Fewest cans that say anything about a quarter (common practice asks for twenty and more).
pub const FEWEST_CANS: usize = 4;
/// Cans from which the low quarter is steady enough (common practice: about twenty).
pub const ENOUGH_CANS: usize = 20;
/// Cells of the map along its longer side.
const MAP_CELLS: usize = 24;
/// Depth below this share of the mean counts as under (our stated limit).
pub const UNDER: f64 = 0.75;
/// Depth above this share of the mean counts as over (our stated limit).
pub const OVER: f64 = 1.25;
/// Cans within this distance of a place, in metres, decide it alone.
const AT_THE_CAN_M: f64 = 1e-6;

/// A can where it stood.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Can {
    /// Metres from the left edge of the drawing.
    pub x_m: f64,
    /// Metres from its top edge.
    pub y_m: f64,
    /// Water caught, mL.
    pub millilitres: f64,
}

/// How a can is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CanReading {
    /// The water poured out and measured, or a can graduated by volume; needs the area of its mouth.
    #[default]
    Volume,
    /// The depth of the water in a straight-sided can, whatever its mouth.
    Depth,
}

impl CanReading {
    /// As a form names it.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Volume => "by volume",
            Self::Depth => "by depth in a straight can",
        }
    }
}

/// Mouth that stands for any straight-sided can read by its depth, cm²: a millimetre in it is 10 mL.
pub const DEPTH_THROAT_CM2: f64 = 100.0;

/// A test as it was run.
#[derive(Debug, Clone, PartialEq)]
pub struct CatchTest {
    /// How long the zone ran.
    pub run: Minutes,
    /// Area of the mouth of a can, cm².
    pub throat_cm2: f64,
    /// How the cans were read.
    pub reading: CanReading,
    /// The cans.
    pub cans: Vec<Can>,
}

/// Why a test gives no answer.
#[derive(Debug, Clone, Copy, PartialEq, thiserror::Error)]
pub enum CatchFault {
    /// Too few cans.
    #[error(
        "{0} cans are too few for a low quarter; set out at least {FEWEST_CANS}, better {ENOUGH_CANS} and more"
    )]
    TooFew(usize),
    /// No time or no mouth.
    #[error("minutes and throat area must be above zero")]
    NoBase,
    /// A reading below zero or not a number.
    #[error("can {0} has a reading that is no volume; type millilitres from 0 up")]
    Reading(usize),
    /// Nothing was caught.
    #[error("every can is empty; run the zone longer, or see whether its valve opens")]
    Empty,
}

/// What to do about a uniformity.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CatchAdvice {
    /// The minutes can make up for it.
    RunByMultiplier,
    /// Below the stated limit: mend heads, pressure and spacing first; minutes would drown the rest.
    MendHeads,
}

/// What a test says.
#[derive(Debug, Clone, PartialEq)]
pub struct CatchResult {
    /// Depth caught in each can, in the order of the cans.
    pub depths: Vec<Millimetres>,
    /// Mean depth.
    pub mean: Millimetres,
    /// Mean depth of the driest quarter of the cans.
    pub low_quarter: Millimetres,
    /// Precipitation rate.
    pub rate: MillimetresPerHour,
    /// Distribution uniformity of the low quarter.
    pub uniformity: Share,
    /// Christiansen's coefficient of uniformity, a fraction (may fall below zero).
    pub christiansen: f64,
    /// Run-time multiplier from the uniformity.
    pub multiplier: f64,
    /// Share of the drawing that is under.
    pub under: Share,
    /// Share of it that is over.
    pub over: Share,
    /// What to do.
    pub advice: CatchAdvice,
}

impl CatchTest {
    /// Works the test out.
    ///
    /// Rate in mm/h = 600 × mean mL ÷ (minutes × throat cm²), which is the handbook's
    /// in/h = 3.66 × mL ÷ (minutes × in²) in metric (Irrigation Association). The low quarter takes
    /// part of a can when their number does not divide by four.
    ///
    /// # Errors
    /// [`CatchFault`] for a test that cannot be read.
    pub fn result(&self) -> Result<CatchResult, CatchFault> {
        let n = self.cans.len();
        if n < FEWEST_CANS {
            return Err(CatchFault::TooFew(n));
        }
        let base = self.run.min_value() * self.throat_cm2;
        if !(base > 0.0 && base.is_finite() && self.throat_cm2 > 0.0) {
            return Err(CatchFault::NoBase);
        }
        if let Some(bad) = self.cans.iter().position(|c| !(c.millilitres >= 0.0 && c.millilitres.is_finite()))
        {
            return Err(CatchFault::Reading(bad + 1));
        }
        // 1 mL on 1 cm² stands 10 mm deep.
        let depth = |ml: f64| 10.0 * ml / self.throat_cm2;
        let mut sorted: Vec<f64> = self.cans.iter().map(|c| depth(c.millilitres)).collect();
        #[allow(clippy::cast_precision_loss, reason = "a few hundred cans")]
        let count = n as f64;
        let mean = sorted.iter().sum::<f64>() / count;
        if mean <= 0.0 {
            return Err(CatchFault::Empty);
        }
        let deviation = sorted.iter().map(|d| (d - mean).abs()).sum::<f64>() / count;
        sorted.sort_by(f64::total_cmp);
        let low_quarter = lowest_mean(&sorted, count / 4.0);
        let uniformity = Share::from_fraction(low_quarter / mean);
        let map = self.map();
        #[allow(clippy::cast_precision_loss, reason = "a few hundred cells")]
        let share = |test: fn(f64) -> bool| {
            let cells = map.cells.iter().map(Vec::len).sum::<usize>().max(1) as f64;
            Share::from_fraction(map.cells.iter().flatten().filter(|s| test(**s)).count() as f64 / cells)
        };
        Ok(CatchResult {
            depths: self.cans.iter().map(|c| Millimetres::from_mm(depth(c.millilitres))).collect(),
            mean: Millimetres::from_mm(mean),
            low_quarter: Millimetres::from_mm(low_quarter),
            rate: MillimetresPerHour::from_mm_per_hour(60.0 * mean / self.run.min_value()),
            uniformity,
            christiansen: 1.0 - deviation / mean,
            multiplier: run_time_multiplier(uniformity),
            under: share(|s| s < UNDER),
            over: share(|s| s > OVER),
            advice: if uniformity < REPAIR_BELOW_UNIFORMITY {
                CatchAdvice::MendHeads
            } else {
                CatchAdvice::RunByMultiplier
            },
        })
    }

    /// The zone between the cans as cells, each with its depth as a share of the mean, weighted by
    /// the inverse square of the distance to the cans (Shepard 1968).
    #[must_use]
    pub fn map(&self) -> CatchMap {
        let (mut x0, mut x1, mut y0, mut y1) = (f64::MAX, f64::MIN, f64::MAX, f64::MIN);
        for can in &self.cans {
            (x0, x1) = (x0.min(can.x_m), x1.max(can.x_m));
            (y0, y1) = (y0.min(can.y_m), y1.max(can.y_m));
        }
        #[allow(clippy::cast_precision_loss, reason = "a few hundred cans")]
        let mean = self.cans.iter().map(|c| c.millilitres).sum::<f64>() / (self.cans.len().max(1) as f64);
        let (width, height) = ((x1 - x0).max(0.0), (y1 - y0).max(0.0));
        let longer = width.max(height);
        if self.cans.is_empty() || longer <= 0.0 || mean <= 0.0 {
            return CatchMap { x_m: 0.0, y_m: 0.0, cell_m: 0.0, cells: Vec::new() };
        }
        #[allow(clippy::cast_precision_loss, reason = "a small constant")]
        let cell = longer / MAP_CELLS as f64;
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "at most MAP_CELLS")]
        let along = |length: f64| ((length / cell).round() as usize).clamp(1, MAP_CELLS);
        #[allow(clippy::cast_precision_loss, reason = "at most MAP_CELLS")]
        let centre = |start: f64, i: usize| start + (i as f64 + 0.5) * cell;
        let cells = (0..along(height))
            .map(|row| {
                (0..along(width)).map(|column| self.at(centre(x0, column), centre(y0, row)) / mean).collect()
            })
            .collect();
        CatchMap { x_m: x0, y_m: y0, cell_m: cell, cells }
    }

    fn at(&self, x: f64, y: f64) -> f64 {
        let (mut sum, mut weights) = (0.0, 0.0);
        for can in &self.cans {
            let squared = (can.x_m - x).powi(2) + (can.y_m - y).powi(2);
            if squared < AT_THE_CAN_M * AT_THE_CAN_M {
                return can.millilitres;
            }
            sum += can.millilitres / squared;
            weights += 1.0 / squared;
        }
        sum / weights
    }
}

/// Depths over a zone as shares of the mean: rows of cells from the top.
#[derive(Debug, Clone, PartialEq)]
pub struct CatchMap {
    /// Left edge, metres.
    pub x_m: f64,
    /// Top edge, metres.
    pub y_m: f64,
    /// Side of a cell, metres; 0 when there is no map.
    pub cell_m: f64,
    /// Rows from the top.
    pub cells: Vec<Vec<f64>>,
}

/// Mean of the lowest `quarter` values, the last of them in part.
fn lowest_mean(sorted: &[f64], quarter: f64) -> f64 {
    let (mut left, mut sum) = (quarter, 0.0);
    for value in sorted {
        let part = left.min(1.0);
        if part <= 0.0 {
            break;
        }
        sum += value * part;
        left -= part;
    }
    sum / quarter
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn row(readings: &[f64], minutes: f64, throat_cm2: f64) -> CatchTest {
        let cans = readings
            .iter()
            .enumerate()
            .map(|(i, ml)| Can { x_m: (i % 4) as f64 * 2.0, y_m: (i / 4) as f64 * 2.0, millilitres: *ml })
            .collect();
        CatchTest { run: Minutes::from_min(minutes), throat_cm2, reading: CanReading::Volume, cans }
    }

    /// The handbook formula (Irrigation Association): in/h = 3.66 × mL ÷ (minutes × in²).
    #[test]
    fn the_metric_rate_is_the_handbook_s() {
        let in2 = 16.5;
        let test = row(&[20.0, 24.0, 18.0, 22.0, 30.0, 26.0, 21.0, 19.0], 10.0, in2 * 2.54 * 2.54);
        let result = test.result().unwrap();
        let mean_ml = 180.0 / 8.0;
        let handbook = 3.66 * mean_ml / (10.0 * in2);
        // 3.66 is 60 ÷ 16.387 rounded: it holds to 0.05 %.
        assert!((result.rate.inches_per_hour() / handbook - 1.0).abs() < 5e-4);
        // Lowest two of eight: 18 and 19; 18.5 ÷ 22.5.
        assert!((result.uniformity.fraction() - 18.5 / 22.5).abs() < 1e-12);
    }

    /// Worked by hand after Christiansen (1942): CU = 1 - Σ|x - mean| ÷ Σx.
    #[test]
    fn christiansen_by_hand() {
        let result = row(&[10.0, 20.0, 30.0, 40.0], 10.0, 100.0).result().unwrap();
        assert!((result.christiansen - 0.6).abs() < 1e-12, "deviations 15, 5, 5, 15 over 100");
        assert!((result.mean.mm() - 2.5).abs() < 1e-12, "25 mL on 100 cm² stand 2.5 mm");
        assert!((result.rate.mm_per_hour() - 15.0).abs() < 1e-12);
        assert!((result.uniformity.fraction() - 0.4).abs() < 1e-12);
        assert_eq!(result.advice, CatchAdvice::MendHeads);
    }

    #[test]
    fn a_quarter_of_ten_cans_takes_half_of_the_third() {
        let result = row(&[1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 9.0, 10.0], 10.0, 100.0).result().unwrap();
        // (1 + 2 + 0.5 × 3) ÷ 2.5 = 1.8 of a mean of 5.5.
        assert!((result.uniformity.fraction() - 1.8 / 5.5).abs() < 1e-12);
    }

    #[test]
    fn even_cans_are_even_everywhere() {
        let result = row(&[12.0; 16], 12.0, 80.0).result().unwrap();
        assert!((result.uniformity.fraction() - 1.0).abs() < 1e-12);
        assert_eq!((result.under, result.over), (Share::NONE, Share::NONE));
        assert!((result.multiplier - 1.0).abs() < 1e-12);
    }

    #[test]
    fn the_map_finds_the_dry_side() {
        // Left half catches a third of the right half.
        let readings: Vec<f64> = (0..16).map(|i| if i % 4 < 2 { 10.0 } else { 30.0 }).collect();
        let test = row(&readings, 10.0, 80.0);
        let map = test.map();
        let (left, right) = (map.cells[12][0], map.cells[12][23]);
        assert!(left < UNDER && right > OVER, "{left} {right}");
        let result = test.result().unwrap();
        assert!(result.under.fraction() > 0.3 && result.over.fraction() > 0.3, "{result:?}");
    }

    #[test]
    fn tests_that_say_nothing_are_refused() {
        assert_eq!(row(&[1.0, 2.0, 3.0], 10.0, 80.0).result(), Err(CatchFault::TooFew(3)));
        assert_eq!(row(&[1.0; 4], 0.0, 80.0).result(), Err(CatchFault::NoBase));
        assert_eq!(row(&[1.0; 4], 10.0, 0.0).result(), Err(CatchFault::NoBase));
        assert_eq!(row(&[1.0, -1.0, 1.0, 1.0], 10.0, 80.0).result(), Err(CatchFault::Reading(2)));
        assert_eq!(row(&[0.0; 4], 10.0, 80.0).result(), Err(CatchFault::Empty));
    }

    proptest! {
        #[test]
        fn uniformity_is_a_fraction_and_does_not_depend_on_the_order(
            mut readings in proptest::collection::vec(0.0..200.0_f64, 4..60), minutes in 1.0..60.0_f64, throat in 10.0..400.0_f64,
        ) {
            prop_assume!(readings.iter().sum::<f64>() > 0.0);
            let result = row(&readings, minutes, throat).result().unwrap();
            prop_assert!((0.0..=1.0 + 1e-9).contains(&result.uniformity.fraction()));
            prop_assert!(result.under.fraction() + result.over.fraction() <= 1.0 + 1e-9);
            readings.reverse();
            let turned = row(&readings, minutes, throat).result().unwrap();
            prop_assert!((turned.uniformity.fraction() - result.uniformity.fraction()).abs() < 1e-9);
            prop_assert!((turned.rate.mm_per_hour() - result.rate.mm_per_hour()).abs() < 1e-6);
        }
    }
}

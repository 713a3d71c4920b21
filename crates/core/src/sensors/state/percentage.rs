//! An ET sensor: a nightly percentage from the trailing mean against the demand that stands for
//! 100 %. It changes run times only, never days or starts.

use crate::quantity::units::Millimetres;
use crate::sensors::Setting;
use jiff::civil::Date;

/// Share of the days of the mean that must have been read.
const LEAST_SHARE: f64 = 0.5;

/// A percentage with what it follows from.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct EtPercentage {
    /// Mean of the days read.
    pub mean: Millimetres,
    /// Days read.
    pub days: u32,
    /// 100 × mean ÷ demand of 100 % × (1 + trim).
    pub percentage: f64,
}

/// The percentage for the night that begins on a date, from the days before and on it. `None` when
/// fewer than half of the days were read.
#[must_use]
pub fn et_percentage(
    set: &Setting,
    days: impl Iterator<Item = (Date, Millimetres)>,
    night: Date,
) -> Option<EtPercentage> {
    let wanted = i32::from(set.et_days.max(1));
    let mut sum = 0.0;
    let mut count = 0_u32;
    for (date, et0) in days {
        if (0..wanted).contains(&(night - date).get_days()) {
            sum += et0.mm();
            count += 1;
        }
    }
    let enough =
        f64::from(count) >= LEAST_SHARE * f64::from(wanted) && count > 0 && set.et_full > Millimetres::ZERO;
    enough.then(|| {
        let mean = sum / f64::from(count);
        EtPercentage {
            mean: Millimetres::from_mm(mean),
            days: count,
            percentage: (100.0 * mean / set.et_full.mm() * (1.0 + set.et_trim_pct / 100.0)).max(0.0),
        }
    })
}

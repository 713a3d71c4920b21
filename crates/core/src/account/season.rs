//! A season of an account in a few sums.

use super::zone::AccountDay;
use crate::quantity::units::Millimetres;

/// A season in a few sums.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct SeasonSum {
    /// What the plants asked for.
    pub demand: Millimetres,
    /// What they got of it.
    pub met: Millimetres,
    /// Rain that entered the soil.
    pub rain_in: Millimetres,
    /// Watering as it came out of the heads.
    pub applied: Millimetres,
    /// Of it, what fell where there was more than the mean.
    pub uneven: Millimetres,
    /// Of the rest, what ran off or the root zone could not hold.
    pub wasted: Millimetres,
    /// Water that drained below the roots.
    pub drainage: Millimetres,
    /// Days on which plants were short of water.
    pub stress_days: u32,
    /// Days.
    pub days: u32,
}

/// Sums some days of an account.
#[must_use]
pub fn sum(days: &[AccountDay]) -> SeasonSum {
    days.iter().fold(SeasonSum::default(), |s, d| SeasonSum {
        demand: s.demand + d.water.demand,
        met: s.met + d.water.et,
        rain_in: s.rain_in + d.water.rain_in,
        applied: s.applied + d.water.applied,
        uneven: s.uneven + d.water.uneven,
        wasted: s.wasted + d.water.applied_off + (d.water.applied_drained - d.water.uneven),
        drainage: s.drainage + d.water.drainage,
        stress_days: s.stress_days + u32::from(d.short),
        days: s.days + 1,
    })
}

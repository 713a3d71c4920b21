//! Percentages for the programs that are sound: one that is wrong in itself has a finding and no percentage.

use crate::advice::budget::{Base, Measure};
use crate::advice::findings::{Finding, wrong_programs};
use crate::controller::schedule::Settings;
use crate::installation::Installation;
use jiff::civil::Date;

/// The base of percentages, with what was left out of it.
#[derive(Debug, Clone)]
pub struct SoundBase<'a> {
    /// The programs that have percentages.
    pub base: Base<'a>,
    /// What is wrong with the others, one finding each.
    pub wrong: Vec<Finding>,
}

/// The base of the percentages of a controller from a date on, by a measure, without the programs that are wrong in themselves.
#[must_use]
pub fn sound_base<'a>(
    installation: &'a Installation,
    settings: &'a Settings,
    from: Date,
    measure: Measure,
) -> SoundBase<'a> {
    let wrong = wrong_programs(installation, settings, from);
    let programs: Vec<usize> = wrong.iter().filter_map(|finding| finding.place.program()).collect();
    let base = Base::new(installation, settings, from.year()).by(measure).without(&programs);
    SoundBase { base, wrong }
}

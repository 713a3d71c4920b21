//! The nights of an ET sensor: the percentage of each, as the controller shows it, against what the weather asked for.

use super::cause::Evidence;
use super::visit::Visit;
use crate::account::running::{ControllerFacts, SensorFacts};
use crate::account::site_account::AccountInputs;
use crate::account::sky::et0_of;
use crate::quantity::bounds;
use crate::quantity::units::Millimetres;
use crate::sensors::state::et_percentage;
use crate::sensors::{Sense, Setting};
use jiff::ToSpan;
use jiff::civil::Date;

/// Nights that are read at most: two weeks.
pub const NIGHTS: usize = 14;
/// Nights that say something at least (our stated bound).
const LEAST_NIGHTS: usize = 3;
/// A night that was asked for less than this percentage is too small to divide by.
const LEAST_ASKED: f64 = 5.0;
/// A night is implausible when it shows so many times more or less than was asked.
const IMPLAUSIBLE: f64 = 1.5;

/// One night.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Night {
    /// Its evening.
    pub date: Date,
    /// What the controller shows, percent.
    pub shown: f64,
    /// What the weather asked for, percent of the hottest month, trim left out.
    pub asked: f64,
    /// Mean reference ET of the days that it rests on.
    pub mean: Millimetres,
}

impl Night {
    /// Whether it can be believed beside what was asked.
    #[must_use]
    pub fn is_plausible(&self) -> bool {
        self.asked < LEAST_ASKED || (1.0 / IMPLAUSIBLE..=IMPLAUSIBLE).contains(&(self.shown / self.asked))
    }
}

/// The nights of a controller.
#[derive(Debug, Clone, PartialEq)]
pub struct Read {
    /// In order.
    pub nights: Vec<Night>,
    /// Shown over asked, over all nights.
    pub ratio: f64,
    /// Coefficient of variation of single nights' ratios.
    pub spread: f64,
}

impl Read {
    /// Whether they are off by more than a share, or do not follow the weather.
    #[must_use]
    pub fn is_off(&self, by: f64) -> bool {
        self.nights.len() >= LEAST_NIGHTS && ((self.ratio - 1.0).abs() > by || self.spread > 2.0 * by)
    }

    /// The trim that would set the mean right, in percent, from the one that is set.
    #[must_use]
    pub fn trim_needed(&self, setting: &Setting) -> f64 {
        let now = 1.0 + setting.et_trim_pct / 100.0;
        let wanted = (now / self.ratio.max(0.01) - 1.0) * 100.0;
        wanted.clamp(bounds::TRIM.min, bounds::TRIM.max).round()
    }

    /// As evidence.
    #[must_use]
    pub fn evidence(&self) -> Evidence {
        Evidence::Nights { ratio: self.ratio, spread: self.spread, nights: self.nights.len() }
    }
}

/// The ET sensor of a controller.
#[must_use]
pub fn et_sensor(own: &ControllerFacts) -> Option<&SensorFacts> {
    own.sensors.iter().find(|s| s.sensor.card.senses(Sense::Et))
}

/// The nights that a visit found on a controller with an ET sensor, against the record: what stands for 100 % is the demand
/// of the hottest month, as base run times are made for it (common practice).
#[must_use]
pub fn read(facts: &AccountInputs, own: &ControllerFacts, visit: &Visit) -> Option<Read> {
    let sensor = et_sensor(own)?;
    let shown = visit.of_controller(own.number).map(|b| &b.nights)?;
    let setting = right_setting(facts, &sensor.sensor.setting, visit);
    let back = i32::from(setting.et_days.max(1));
    let of = |(date, shown): (&Date, &f64)| {
        let days = (0..back).filter_map(|k| date.checked_sub(k.days()).ok());
        let days: Vec<_> = days.map(|day| (day, et0_of(&facts.climate, day).0)).collect();
        let asked = et_percentage(&setting, days.into_iter(), *date)?;
        Some(Night { date: *date, shown: *shown, asked: asked.percentage, mean: asked.mean })
    };
    let nights: Vec<Night> = shown.iter().rev().take(NIGHTS).filter_map(of).collect();
    let nights: Vec<Night> = nights.into_iter().rev().collect();
    let counted: Vec<&Night> = nights.iter().filter(|n| n.asked >= LEAST_ASKED).collect();
    let sum = |of: fn(&Night) -> f64| counted.iter().map(|n| of(n)).sum::<f64>();
    let asked = sum(|n| n.asked);
    let ratio = if asked > 0.0 { sum(|n| n.shown) / asked } else { 1.0 };
    let count = u32::try_from(counted.len()).map_or(1.0, f64::from).max(1.0);
    let off = |n: &&Night| (n.shown / n.asked / ratio.max(0.01) - 1.0).powi(2);
    let spread = (counted.iter().map(off).sum::<f64>() / count).sqrt();
    Some(Read { nights, ratio, spread })
}

/// The setting of a sensor with the climate of its site and no trim.
fn right_setting(facts: &AccountInputs, set: &Setting, visit: &Visit) -> Setting {
    let year = visit.at.to_zoned(facts.tz.clone()).year();
    let peak = facts.climate.monthly_expected_et0(year).iter().map(|et0| et0.mm()).fold(0.0, f64::max);
    Setting { et_full: Millimetres::from_mm(peak.max(0.1)), et_trim_pct: 0.0, ..*set }
}

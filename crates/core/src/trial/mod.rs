//! A season of real weather through box, sensors and soil, one way beside another. A way is data: it turns the
//! facts of a site into others, and the account of these is its season. Nothing here simulates by itself.

pub mod protocol;
mod run;
mod way;

pub use run::{PartResult, SiteResult, Tariff, WayResult, ZoneResult, cause_of, run};
pub use way::{Change, Named, PercentageRule, Refusal, Schedule, SensorChange, Spot, TrialWay, apply};

#[cfg(test)]
mod tests;

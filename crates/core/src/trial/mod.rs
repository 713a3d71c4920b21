//! A season of real weather through controller, sensors and soil, one way beside another. A way is data: it turns the
//! facts of a site into others, and the account of these is its season. Nothing here simulates by itself.

mod apply;
mod day;
pub mod protocol;
mod run;
mod sample;
mod search;
mod sensors;
mod supply;
mod way;

pub use apply::apply;
pub use day::{TrialDay, day};
pub use run::{PartResult, SiteResult, WayResult, ZoneResult, run, run_mean};
pub use sample::{NoSample, Origin, Picked, Sample, pick};
pub use search::{Found, Goal, Progress, Space, search};
pub use sensors::{Installed, SensorTrial, variants};
pub use supply::{Bill, Demand, Pump, Tariff, demand, in_turn};
pub use way::{Change, Named, PercentageRule, Ramps, Refusal, Schedule, SensorChange, Spot, TrialWay};

#[cfg(test)]
mod search_tests;
#[cfg(test)]
mod tests;

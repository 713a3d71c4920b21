//! The account of water: what ran, what fell and what the soil holds, over past days and those ahead.

pub mod evidence;
mod facts;
pub mod log;
mod meters;
pub mod nights;
pub mod running;
pub mod season;
pub mod sensed;
pub mod site_runs;
pub mod sky;
pub mod whole;
pub mod zone;

#[cfg(test)]
mod tests;

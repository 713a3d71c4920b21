//! The account of water: what ran, what fell and what the soil holds, over past days and those ahead.

pub mod evidence;
mod flows;
mod inputs;
pub mod log;
mod meters;
pub mod nights;
pub mod period;
pub mod running;
pub mod season;
pub mod sensed;
pub mod site_account;
pub mod site_runs;
pub mod sky;
pub mod zone;

/// Share of what is missing below which a watering is too little, and above which it is too much (our stated
/// bounds).
pub const ENOUGH: (f64, f64) = (0.7, 1.3);

#[cfg(test)]
mod tests;

//! The account of water: what ran, what fell and what the soil holds, over past days and those ahead.

pub mod season;
pub mod sensed;

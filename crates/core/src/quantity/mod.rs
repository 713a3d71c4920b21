//! Quantities: units, shares and percentages, the ranges that inputs may have, months and times of day.

pub mod bounds;
pub mod month;
pub mod ratio;
pub mod span;
pub mod time;
pub mod units;

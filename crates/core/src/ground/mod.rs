//! The ground: what grows in which soil, how water is put down on it, and what the root zone holds.

pub mod application;
pub mod balance;
pub mod catch_can;
pub mod plant;
pub mod planting;
pub mod soil;

//! The water window: the hours in which watering may run.

use jiff::civil::Time;

/// The hours in which watering may run, by the wall clock. It may cross midnight.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WaterWindow {
    /// First minute.
    pub from: Time,
    /// End, exclusive.
    pub until: Time,
}

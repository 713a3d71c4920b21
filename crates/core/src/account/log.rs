//! What people and meters wrote down about a site's water: runs that happened, readings of the soil, counts of
//! the main meter.

use super::evidence::FieldReading;
use crate::quantity::units::Litres;
use crate::sensors::Readings;
use crate::site::StationId;
use jiff::Timestamp;
use std::collections::BTreeMap;

/// A run that somebody saw or logged.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LoggedRun {
    /// Number of the controller.
    pub controller_number: u8,
    /// Station.
    pub station: u16,
    /// When water started.
    pub from: Timestamp,
    /// When it stopped.
    pub until: Timestamp,
}

/// A reading of a zone's soil.
#[derive(Debug, Clone, PartialEq)]
pub struct LoggedReading {
    /// Number of the controller.
    pub controller_number: u8,
    /// Station.
    pub station: u16,
    /// What was read.
    pub reading: FieldReading,
}

/// What the main meter had counted at an instant.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct MeterReading {
    /// When it was read.
    pub at: Timestamp,
    /// Litres since it was built in.
    pub counted: Litres,
}

/// Everything that was written down; each list in order of time.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Log {
    /// Runs.
    pub runs: Vec<LoggedRun>,
    /// Readings of soils.
    pub readings: Vec<LoggedReading>,
    /// Readings of the main meter.
    pub meter: Vec<MeterReading>,
    /// What a flow meter on the main line of a controller read, L/min, by the number of the controller.
    pub flow: BTreeMap<u8, Readings>,
}

impl Log {
    /// The same in order of time.
    #[must_use]
    pub fn in_order(mut self) -> Self {
        self.runs.sort_by_key(|r| r.from);
        self.readings.sort_by_key(|r| r.reading.at);
        self.meter.sort_by_key(|m| m.at);
        self
    }

    /// Readings of a zone's soil until an instant: what lies in the future is not known yet.
    #[must_use]
    pub fn readings_of(&self, controller_number: u8, station: u16, until: Timestamp) -> Vec<FieldReading> {
        let own = self.readings.iter().filter(|r| {
            StationId::new(r.controller_number, r.station) == StationId::new(controller_number, station)
        });
        own.filter(|r| r.reading.at <= until).map(|r| r.reading.clone()).collect()
    }
}

//! Readings: what a device said and when. The order of arrival does not matter.

use crate::quantity::bounds::{self, Bound};
use jiff::Timestamp;

/// What a reading is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Channel {
    /// Rain since the reading before, mm.
    Rain,
    /// Air temperature, °C.
    Temperature,
    /// Relative humidity, %.
    Humidity,
    /// Global radiation, W/m².
    Solar,
    /// Wind at 2 m, m/s.
    Wind,
    /// Soil water, percent by volume.
    SoilMoisture,
    /// Flow, L/min.
    Flow,
    /// Reference ET of the day that ends, mm.
    Et,
    /// Whether a contact holds: 1 prevents watering, 0 allows it.
    Contact,
    /// Charge of its battery, %.
    Battery,
}

impl Channel {
    /// All, in the order of the lists.
    pub const ALL: [Self; 10] = [
        Self::Rain,
        Self::Temperature,
        Self::Humidity,
        Self::Solar,
        Self::Wind,
        Self::SoilMoisture,
        Self::Flow,
        Self::Et,
        Self::Contact,
        Self::Battery,
    ];

    /// Its range, with name and unit.
    #[must_use]
    pub const fn bound(self) -> &'static Bound {
        match self {
            Self::Rain => &bounds::READ_RAIN,
            Self::Temperature => &bounds::READ_TEMPERATURE,
            Self::Humidity => &bounds::READ_HUMIDITY,
            Self::Solar => &bounds::READ_SOLAR,
            Self::Wind => &bounds::READ_WIND,
            Self::SoilMoisture => &bounds::READ_SOIL,
            Self::Flow => &bounds::READ_FLOW,
            Self::Et => &bounds::READ_ET,
            Self::Contact => &bounds::READ_CONTACT,
            Self::Battery => &bounds::READ_BATTERY,
        }
    }
}

/// One reading.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reading {
    /// When.
    pub at: Timestamp,
    /// What, in the unit of its channel.
    pub value: f64,
}

/// Readings of one channel in order of time, one for an instant.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Readings(Vec<Reading>);

impl Readings {
    /// Puts readings in order. Of several for one instant the largest counts, so that the order in
    /// which they came cannot matter.
    #[must_use]
    pub fn new(mut readings: Vec<Reading>) -> Self {
        readings.retain(|r| r.value.is_finite());
        readings.sort_by(|a, b| a.at.cmp(&b.at).then(b.value.total_cmp(&a.value)));
        readings.dedup_by_key(|r| r.at);
        Self(readings)
    }

    /// In order of time.
    #[must_use]
    pub fn as_slice(&self) -> &[Reading] {
        &self.0
    }

    /// The latest at or before an instant.
    #[must_use]
    pub fn at_or_before(&self, at: Timestamp) -> Option<Reading> {
        let end = self.0.partition_point(|r| r.at <= at);
        end.checked_sub(1).and_then(|i| self.0.get(i)).copied()
    }

    /// Those from an instant to another, both included.
    #[must_use]
    pub fn between(&self, from: Timestamp, until: Timestamp) -> &[Reading] {
        let start = self.0.partition_point(|r| r.at < from);
        let end = self.0.partition_point(|r| r.at <= until);
        self.0.get(start..end).unwrap_or(&[])
    }

    /// The last of all.
    #[must_use]
    pub fn last(&self) -> Option<Reading> {
        self.0.last().copied()
    }
}

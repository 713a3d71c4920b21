//! What is known of the watering of a day, and the runs that follow from it.

use crate::quantity::ratio::Share;
use crate::quantity::units::Millimetres;
use jiff::Timestamp;

/// How the watering of a day is known, best first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Evidence {
    /// Somebody wrote down the runs.
    Logged,
    /// The controller's settings, set right by what a meter counted.
    Metered,
    /// A device told what ran.
    Device,
    /// The settings in force that day, under the sensors, delays and bypasses of that day.
    AsSet,
    /// Nothing is known: watering as advised.
    AsAdvised,
}

impl Evidence {
    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Logged => "as logged",
            Self::Metered => "as set, by the meter",
            Self::Device => "as a device told",
            Self::AsSet => "as set",
            Self::AsAdvised => "as advised",
        }
    }
}

/// A span in which a zone was, or will be, watered.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Watering {
    /// When water starts.
    pub from: Timestamp,
    /// When it stops.
    pub until: Timestamp,
    /// Its strength: 1 at the zone's own rate, other where a meter counted more or less.
    pub strength: f64,
}

impl Watering {
    /// At the zone's own rate.
    #[must_use]
    pub const fn plain(from: Timestamp, until: Timestamp) -> Self {
        Self { from, until, strength: 1.0 }
    }
}

/// Puts spans of one zone in order and joins those that overlap: a valve that is opened twice is open once.
#[must_use]
pub fn joined(mut spans: Vec<Watering>) -> Vec<Watering> {
    spans.retain(|s| s.from < s.until);
    spans.sort_by_key(|s| (s.from, s.until));
    let mut out: Vec<Watering> = Vec::with_capacity(spans.len());
    for span in spans {
        match out.last_mut() {
            Some(last) if span.from < last.until => {
                last.until = last.until.max(span.until);
                last.strength = last.strength.max(span.strength);
            }
            _ => out.push(span),
        }
    }
    out
}

/// A reading from the field.
#[derive(Debug, Clone, PartialEq)]
pub struct FieldReading {
    /// When.
    pub at: Timestamp,
    /// Share of the available water that is left, a fraction.
    pub available_share: Share,
    /// How it was found.
    pub reason: String,
}

impl FieldReading {
    /// The depletion that it says, of a root zone that holds so much.
    #[must_use]
    pub fn depletion(&self, total_available: Millimetres) -> Millimetres {
        total_available * (1.0 - self.available_share.fraction().clamp(0.0, 1.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::ToSpan;

    fn at(minute: i64) -> Timestamp {
        "2026-07-01T00:00:00Z".parse::<Timestamp>().unwrap() + minute.minutes()
    }

    #[test]
    fn a_valve_that_is_opened_twice_is_open_once() {
        let span = |a, b| Watering::plain(at(a), at(b));
        let all = joined(vec![span(30, 40), span(0, 10), span(5, 12), span(12, 20), span(50, 50)]);
        assert_eq!(all, [span(0, 12), span(12, 20), span(30, 40)]);
    }

    #[test]
    fn a_reading_is_a_share_of_what_the_root_zone_holds() {
        let reading = |percent| FieldReading {
            at: at(0),
            available_share: Share::from_percent(percent),
            reason: String::new(),
        };
        let total = Millimetres::from_mm(40.0);
        assert_eq!(reading(75.0).depletion(total).mm(), 10.0);
        assert_eq!(reading(130.0).depletion(total).mm(), 0.0, "no more than full");
    }
}

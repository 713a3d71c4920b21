//! What a sensor says: spans in which it holds, as pure functions over setting and readings.
//!
//! A hold always has a cause that was read, and every hold ends: by drying out, by warming, by calm,
//! by its days, or, for want of readings, when the last of them is too old to be believed.

mod drying;
mod flow;
mod percentage;
mod soil;

pub use drying::{Drying, rain_holds};
pub use flow::{FlowAlarm, FlowAlarmKind, LEARNING_READINGS, flow_alarms, learn_flow};
pub use percentage::{EtPercentage, et_percentage};
pub use soil::{CycleWindow, WINDOW_MARGIN_MIN, WindowDecision, cycle_window_needed_min, decide_windows};

use super::{Channel, FREEZE_DIFFERENCE_C, Reading, Readings, Sense, Sensor, WIND_CALM_S};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

/// A reading older than this says nothing about now, hours (our stated default).
pub const STALE_HOURS: i64 = 6;

/// Why a sensor holds, with the value that says so.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Cause {
    /// Rain that tripped it.
    Rain {
        /// What fell from the event's beginning until it tripped, mm.
        fallen_mm: f64,
        /// The first rain of the event.
        since: Timestamp,
    },
    /// Cold.
    Frost {
        /// The reading that tripped it, °C.
        read_c: f64,
    },
    /// Wind.
    Wind {
        /// The reading that tripped it, m/s.
        read_m_s: f64,
    },
    /// The soil is wet enough.
    WetSoil {
        /// The reading, percent by volume.
        read_pct: f64,
    },
    /// Its contact says so.
    Contact,
}

/// A span in which a sensor holds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Hold {
    /// When it begins.
    pub from: Timestamp,
    /// When it ends; `None`: it still holds at the end of what was read.
    pub until: Option<Timestamp>,
    /// What for.
    pub cause: Cause,
}

impl Hold {
    /// Whether it stands at an instant.
    #[must_use]
    pub fn stands(&self, at: Timestamp) -> bool {
        self.from <= at && self.until.is_none_or(|until| at < until)
    }
}

/// Readings of a sensor by channel.
pub type ByChannel = BTreeMap<Channel, Readings>;

/// Whether a sensor's own contact said nothing, so that its state is modelled from weather.
#[must_use]
pub fn is_modelled(readings: &ByChannel) -> bool {
    readings.get(&Channel::Contact).is_none_or(|r| r.as_slice().is_empty())
}

/// Every span in which a sensor holds until an instant, in order of time; soil moisture decides by
/// window and is not here ([`decide_windows`]).
///
/// What its own contact said counts; a sensor without contact readings is modelled from what it
/// measures.
#[must_use]
pub fn holds(sensor: &Sensor, readings: &ByChannel, drying: &Drying, until: Timestamp) -> Vec<Hold> {
    let none = Readings::default();
    let of = |channel| readings.get(&channel).unwrap_or(&none);
    if !is_modelled(readings) {
        return latch(of(Channel::Contact), until, None, |v| v >= 0.5, |v| v < 0.5, |_| Cause::Contact);
    }
    let set = &sensor.setting;
    let mut all = Vec::new();
    if sensor.card.senses(Sense::Rain) {
        all.extend(rain_holds(set.rain_threshold, set.release, of(Channel::Rain), drying, until));
    }
    if sensor.card.senses(Sense::Freeze) {
        let point = set.freeze_at.c();
        all.extend(latch(
            of(Channel::Temperature),
            until,
            Some(0),
            |v| v <= point,
            |v| v >= point + FREEZE_DIFFERENCE_C,
            |read_c| Cause::Frost { read_c },
        ));
    }
    if sensor.card.senses(Sense::Wind) {
        let point = set.wind_above.m_per_s();
        all.extend(latch(
            of(Channel::Wind),
            until,
            Some(WIND_CALM_S),
            |v| v > point,
            |v| v <= point,
            |read_m_s| Cause::Wind { read_m_s },
        ));
    }
    all.sort_by_key(|h| (h.from, h.until));
    all
}

/// A latch over readings: trips, and releases when the value has stayed on the other side for a time.
/// `stale_after` of `None` believes a contact until it says something else; otherwise a gap longer
/// than [`STALE_HOURS`] ends the hold there, since nobody knows.
fn latch(
    readings: &Readings,
    until: Timestamp,
    calm_s: Option<i64>,
    trips: impl Fn(f64) -> bool,
    releases: impl Fn(f64) -> bool,
    cause: impl Fn(f64) -> Cause,
) -> Vec<Hold> {
    let mut out: Vec<Hold> = Vec::new();
    let mut open: Option<Hold> = None;
    let mut calm_since: Option<Timestamp> = None;
    let mut before: Option<Reading> = None;
    let stale = SignedDuration::from_hours(STALE_HOURS);
    let believed = |last: Reading, now: Timestamp| calm_s.is_none() || now.duration_since(last.at) <= stale;
    for reading in readings.as_slice().iter().filter(|r| r.at <= until) {
        if let (Some(hold), Some(last)) = (open, before)
            && !believed(last, reading.at)
        {
            out.push(Hold { until: Some(last.at + stale), ..hold });
            (open, calm_since) = (None, None);
        }
        match open {
            None if trips(reading.value) => {
                open = Some(Hold { from: reading.at, until: None, cause: cause(reading.value) });
            }
            Some(hold) if releases(reading.value) => {
                let since = *calm_since.get_or_insert(reading.at);
                if reading.at.duration_since(since).as_secs() >= calm_s.unwrap_or(0) {
                    out.push(Hold { until: Some(reading.at), ..hold });
                    (open, calm_since) = (None, None);
                }
            }
            _ => calm_since = None,
        }
        before = Some(*reading);
    }
    if let Some(hold) = open {
        let over = before.filter(|last| !believed(*last, until)).map(|last| last.at + stale);
        out.push(Hold { until: over, ..hold });
    }
    out
}

/// A bypass or a silence: it always has an end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pause {
    /// From when.
    pub from: Timestamp,
    /// Until when.
    pub until: Timestamp,
}

/// Length of a bypass when nothing else was said.
pub const BYPASS_HOURS: i64 = 24;
/// Longest bypass, hours: two weeks.
pub const LONGEST_BYPASS_HOURS: i64 = 14 * 24;

impl Pause {
    /// A pause of some hours, at least one and at most [`LONGEST_BYPASS_HOURS`].
    #[must_use]
    pub fn of_hours(from: Timestamp, hours: i64) -> Self {
        Self { from, until: from + SignedDuration::from_hours(hours.clamp(1, LONGEST_BYPASS_HOURS)) }
    }

    /// Whether it runs at an instant.
    #[must_use]
    pub fn runs(&self, at: Timestamp) -> bool {
        self.from <= at && at < self.until
    }
}

/// What a sensor says at an instant.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Says {
    /// It holds.
    Holds {
        /// The hold that stands; of several, the one that ends last.
        hold: Hold,
        /// When it ends at the earliest, if that can be said.
        earliest: Option<Timestamp>,
    },
    /// It lets everything run, since when its last hold ended.
    Free {
        /// End of the hold before, if there was one.
        since: Option<Timestamp>,
    },
    /// Nothing was read lately.
    Silent {
        /// The last reading of all.
        last: Option<Timestamp>,
    },
}

/// Whether a channel is what a sensor acts on.
fn speaks_by(sensor: &Sensor, channel: Channel) -> bool {
    let senses = |sense| sensor.card.senses(sense);
    match channel {
        Channel::Contact => true,
        Channel::Rain => senses(Sense::Rain),
        Channel::Temperature => senses(Sense::Freeze),
        Channel::Wind => senses(Sense::Wind),
        Channel::SoilMoisture => senses(Sense::SoilMoisture),
        Channel::Flow => senses(Sense::Flow),
        Channel::Et => senses(Sense::Et),
        Channel::Humidity | Channel::Solar | Channel::Battery => false,
    }
}

/// Who decides what a soil-moisture sensor does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ProbeDecides {
    /// Its relay opens and closes by itself; each state stands until the next one is reported.
    Relay,
    /// Its readings against the threshold, at the start of the day's first run; each counts for [`STALE_HOURS`].
    Readings,
    /// Nobody: it has neither a relay that reported nor a threshold.
    Nobody,
}

/// Who decides for a soil-moisture sensor; `None` for any other. The one rule behind its page, the list and the runs.
#[must_use]
pub fn probe_decides(sensor: &Sensor, readings: &ByChannel) -> Option<ProbeDecides> {
    let is_probe = sensor.card.senses(Sense::SoilMoisture);
    is_probe.then(|| match (is_modelled(readings), sensor.setting.soil_threshold_pct) {
        (false, _) => ProbeDecides::Relay,
        (true, Some(_)) => ProbeDecides::Readings,
        (true, None) => ProbeDecides::Nobody,
    })
}

/// What a sensor says at an instant, from the readings up to it. `drying` reaches ahead of it with
/// what is expected, so that the end of a rain hold can be told.
#[must_use]
pub fn says(sensor: &Sensor, readings: &ByChannel, drying: &Drying, at: Timestamp) -> Says {
    let mut past: Vec<Hold> = holds(sensor, readings, drying, at);
    if let (Some(point), Some(read)) =
        (sensor.setting.soil_threshold_pct, readings.get(&Channel::SoilMoisture))
        && probe_decides(sensor, readings) == Some(ProbeDecides::Readings)
    {
        past.extend(latch(
            read,
            at,
            Some(0),
            |v| v >= point,
            |v| v < point,
            |read_pct| Cause::WetSoil { read_pct },
        ));
    }
    let standing = past.iter().filter(|h| h.stands(at)).copied();
    if let Some(hold) = standing.max_by_key(|h| (h.until.is_none(), h.until)) {
        let ahead = at + SignedDuration::from_hours(24 * 60);
        let later = match hold.cause {
            // Without a further reading a rain hold ends by drying or by its days.
            Cause::Rain { .. } if hold.until.is_none() => holds(sensor, readings, drying, ahead)
                .into_iter()
                .find(|h| h.from == hold.from)
                .and_then(|h| h.until),
            _ => hold.until,
        };
        return Says::Holds { hold, earliest: later };
    }
    let heard = readings.iter().filter(|(c, _)| speaks_by(sensor, **c));
    let last = heard.filter_map(|(_, r)| r.at_or_before(at)).map(|r| r.at).max();
    let speaks = last.is_some_and(|l| at.duration_since(l) <= SignedDuration::from_hours(STALE_HOURS));
    if speaks || (!is_modelled(readings) && last.is_some()) {
        Says::Free { since: past.iter().filter_map(|h| h.until).filter(|u| *u <= at).max() }
    } else {
        Says::Silent { last }
    }
}

#[cfg(test)]
mod tests;

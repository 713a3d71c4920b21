//! A rain switch: what wets it, and how it dries out.
//!
//! Model (ours, after the common description of a disc switch): rain adds up while it dries at the
//! vent's share of reference ET; when the threshold has come together the switch trips. Its discs then
//! hold at most what soaks them, whatever the threshold, and it releases when they are dry. So a small
//! step trips more often and never holds less. A switch of the other kind holds a number of days after
//! the last 24 hours with the threshold's rain.

use super::{Cause, Hold};
use crate::quantity::units::Millimetres;
use crate::sensors::{Readings, Release};
use jiff::{SignedDuration, Timestamp};

const DAY_S: f64 = 86_400.0;
/// What soaked discs hold, mm: about two summer days of drying (our stated default).
const SOAKED_MM: f64 = 8.0;
/// Water below this is dry, mm.
const DRY_MM: f64 = 1e-6;

/// How fast things dry: reference ET day by day, each spread evenly over its 24 hours (our stated
/// default; a hold is told by the day, not the hour).
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Drying {
    days: Vec<(Timestamp, f64)>,
}

impl Drying {
    /// From the start of each day and its ET0, in any order; a day stands until the next one.
    #[must_use]
    pub fn new(mut days: Vec<(Timestamp, Millimetres)>) -> Self {
        days.sort_by_key(|(at, _)| *at);
        Self { days: days.into_iter().map(|(at, et0)| (at, et0.mm().max(0.0))).collect() }
    }

    /// Dries a store from an instant to another; returns what is left, and when it became dry.
    fn dry(&self, store: f64, vent: f64, from: Timestamp, until: Timestamp) -> (f64, Option<Timestamp>) {
        if store <= DRY_MM || from >= until {
            return (store.max(0.0), None);
        }
        let mut left = store;
        let mut clock = from;
        let mut index = self.days.partition_point(|(at, _)| *at <= from);
        while clock < until {
            let next = self.days.get(index).map_or(until, |(at, _)| (*at).min(until));
            let rate =
                index.checked_sub(1).and_then(|i| self.days.get(i)).map_or(0.0, |(_, mm)| mm * vent / DAY_S);
            let seconds = next.duration_since(clock).as_secs_f64();
            if rate > 0.0 && left - rate * seconds <= DRY_MM {
                let needed = (left / rate).min(seconds);
                return (
                    0.0,
                    Some(clock + SignedDuration::try_from_secs_f64(needed).unwrap_or(SignedDuration::ZERO)),
                );
            }
            left -= rate * seconds;
            clock = next;
            index += 1;
        }
        (left, None)
    }
}

/// The spans in which a rain switch holds, until an instant. A value is the rain since the reading
/// before it.
#[must_use]
pub fn rain_holds(
    (threshold, release): (Millimetres, Release),
    readings: &Readings,
    drying: &Drying,
    until: Timestamp,
) -> Vec<Hold> {
    match release {
        Release::DriesOut { vent } => dried(threshold.mm(), vent, readings, drying, until),
        Release::Days(days) => counted(threshold.mm(), i64::from(days), readings, until),
    }
}

fn dried(threshold: f64, vent: f64, readings: &Readings, drying: &Drying, until: Timestamp) -> Vec<Hold> {
    let mut out = Vec::new();
    let mut open: Option<Hold> = None;
    // What has come together, and what the discs hold of it; both dry alike.
    let (mut together, mut discs, mut fallen) = (0.0_f64, 0.0_f64, 0.0);
    let mut clock = Timestamp::MIN;
    // Drying is the same in one step or in many, so that hours without rain need no look.
    for reading in readings.as_slice().iter().take_while(|r| r.at <= until).filter(|r| r.value > 0.0) {
        let (left, dry_at) = drying.dry(discs, vent, clock, reading.at);
        if let (Some(at), Some(hold)) = (dry_at, open) {
            out.push(Hold { until: Some(at), ..hold });
            open = None;
        }
        together = drying.dry(together, vent, clock, reading.at).0;
        if together <= DRY_MM {
            fallen = 0.0;
        }
        let rain = reading.value.max(0.0);
        fallen += rain;
        together += rain;
        discs = (left + rain).min(SOAKED_MM);
        clock = reading.at;
        if open.is_none() && rain > 0.0 && together >= threshold - DRY_MM {
            open = Some(Hold { from: reading.at, until: None, cause: Cause::Rain { fallen_mm: fallen } });
        }
    }
    if let Some(hold) = open {
        out.push(Hold { until: drying.dry(discs, vent, clock, until).1, ..hold });
    }
    out
}

fn counted(threshold: f64, days: i64, readings: &Readings, until: Timestamp) -> Vec<Hold> {
    let mut out: Vec<Hold> = Vec::new();
    let readings = readings.as_slice();
    let day = SignedDuration::from_hours(24);
    let mut first = 0;
    let mut sum = 0.0;
    for (i, reading) in readings.iter().enumerate().take_while(|(_, r)| r.at <= until) {
        sum += reading.value.max(0.0);
        while let Some(old) =
            readings.get(first).filter(|old| first < i && reading.at.duration_since(old.at) >= day)
        {
            sum -= old.value.max(0.0);
            first += 1;
        }
        if reading.value <= 0.0 || sum < threshold - DRY_MM {
            continue;
        }
        let ends = reading.at + SignedDuration::from_hours(24 * days);
        match out.last_mut().filter(|hold| hold.until.is_some_and(|u| u >= reading.at)) {
            Some(hold) => hold.until = Some(ends),
            None => {
                out.push(Hold { from: reading.at, until: Some(ends), cause: Cause::Rain { fallen_mm: sum } });
            }
        }
    }
    if let Some(last) = out.last_mut().filter(|h| h.until.is_some_and(|u| u > until)) {
        last.until = None;
    }
    out
}

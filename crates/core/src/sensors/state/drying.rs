//! A rain switch: what wets it, and how it dries out.
//!
//! A disc switch takes up rain until its discs are soaked; what falls beyond that runs off them. They dry
//! at the vent's share of reference ET. An **event** begins with the rain that falls on dry discs and ends
//! when they are dry again. The switch trips when the rain of an event reaches its threshold, holds to the
//! event's end, and then counts from nought. Events do not depend on the threshold, so a larger one never
//! trips more often. A gauge switch counts the rain of 24 hours and holds until a number of days were dry.

use super::{Cause, Hold};
use crate::quantity::units::Millimetres;
use crate::sensors::{Readings, Release};
use jiff::{SignedDuration, Timestamp};

/// Longest that the last entry of a drying rate stands.
const LAST_STANDS: SignedDuration = SignedDuration::from_hours(24);
/// What soaked discs hold, mm: about two summer days of drying (our stated default).
const SOAKED_MM: f64 = 8.0;
/// Water below this is dry, mm.
const DRY_MM: f64 = 1e-6;

/// Rain of 24 hours below which a day is dry, mm (our stated default): dew and drizzle do not restart a hold
/// that counts dry days.
const DRY_DAY_MM: f64 = 1.0;

/// How fast things dry: reference ET by the hour or by the day, each spread evenly until the next begins.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Drying {
    /// Begin of each span, and ET0 a second through it.
    spans: Vec<(Timestamp, f64)>,
}

impl Drying {
    /// From the begin of each span, hour or day, and the ET0 within it, in any order; a span reaches to the next
    /// one, the last a day.
    #[must_use]
    pub fn new(mut spans: Vec<(Timestamp, Millimetres)>) -> Self {
        spans.sort_by_key(|(at, _)| *at);
        let ends: Vec<Timestamp> = spans.iter().skip(1).map(|(at, _)| *at).collect();
        let mut ends = ends.into_iter();
        let rated = spans.into_iter().map(|(at, et0)| {
            let end = ends.next().unwrap_or(at + LAST_STANDS);
            (at, et0.mm().max(0.0) / end.duration_since(at).as_secs_f64().max(1.0))
        });
        Self { spans: rated.collect() }
    }

    /// The same at another pace, such as in shade.
    #[must_use]
    pub fn slower(&self, share: f64) -> Self {
        Self { spans: self.spans.iter().map(|(at, rate)| (*at, rate * share)).collect() }
    }

    /// Dries a store from an instant to another; returns what is left, and when it became dry.
    fn dry(&self, store: f64, vent: f64, from: Timestamp, until: Timestamp) -> (f64, Option<Timestamp>) {
        if store <= DRY_MM || from >= until {
            return (store.max(0.0), None);
        }
        let mut left = store;
        let mut clock = from;
        let mut index = self.spans.partition_point(|(at, _)| *at <= from);
        while clock < until {
            let next = self.spans.get(index).map_or(until, |(at, _)| (*at).min(until));
            let rate = index.checked_sub(1).and_then(|i| self.spans.get(i)).map_or(0.0, |(_, mm)| mm * vent);
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
    threshold: Millimetres,
    release: Release,
    readings: &Readings,
    drying: &Drying,
    until: Timestamp,
) -> Vec<Hold> {
    match release {
        Release::DriesOut { vent } => dried(threshold.mm(), vent, readings, drying, until),
        Release::Days(days) => counted(threshold.mm(), i64::from(days), readings, until),
    }
}

/// Rain since the discs were dry.
#[derive(Clone, Copy)]
struct Event {
    from: Timestamp,
    fallen: f64,
}

fn dried(threshold: f64, vent: f64, readings: &Readings, drying: &Drying, until: Timestamp) -> Vec<Hold> {
    let mut out = Vec::new();
    let mut open: Option<Hold> = None;
    let mut event: Option<Event> = None;
    let mut discs = 0.0_f64;
    let mut clock = Timestamp::MIN;
    // Drying is the same in one step or in many, so that hours without rain need no look.
    for reading in readings.as_slice().iter().take_while(|r| r.at <= until).filter(|r| r.value > 0.0) {
        let (left, dry_at) = drying.dry(discs, vent, clock, reading.at);
        if let Some(at) = dry_at {
            out.extend(open.take().map(|hold| Hold { until: Some(at), ..hold }));
            event = None;
        }
        discs = (left + reading.value).min(SOAKED_MM);
        clock = reading.at;
        let before = event.unwrap_or(Event { from: reading.at, fallen: 0.0 });
        let now = Event { fallen: before.fallen + reading.value, ..before };
        event = Some(now);
        if open.is_none() && now.fallen >= threshold - DRY_MM {
            let cause = Cause::Rain { fallen_mm: now.fallen, since: now.from };
            open = Some(Hold { from: reading.at, until: None, cause });
        }
    }
    if let Some(hold) = open {
        out.push(Hold { until: drying.dry(discs, vent, clock, until).1, ..hold });
    }
    out
}

fn counted(threshold: f64, days: i64, readings: &Readings, until: Timestamp) -> Vec<Hold> {
    let mut out: Vec<Hold> = Vec::new();
    let mut open: Option<Hold> = None;
    let readings = readings.as_slice();
    let (day, dry) = (SignedDuration::from_hours(24), SignedDuration::from_hours(24 * days));
    let (mut first, mut sum) = (0, 0.0);
    let mut last_wet: Option<Timestamp> = None;
    for (i, reading) in readings.iter().enumerate().take_while(|(_, r)| r.at <= until) {
        sum += reading.value.max(0.0);
        while let Some(old) =
            readings.get(first).filter(|old| first < i && reading.at.duration_since(old.at) >= day)
        {
            sum -= old.value.max(0.0);
            first += 1;
        }
        if reading.value <= 0.0 || sum < DRY_DAY_MM - DRY_MM {
            continue;
        }
        if let Some(ended) = last_wet.map(|at| at + dry).filter(|ended| *ended < reading.at) {
            out.extend(open.take().map(|hold| Hold { until: Some(ended), ..hold }));
        }
        last_wet = Some(reading.at);
        if open.is_none() && sum >= threshold - DRY_MM {
            let wet = readings.get(first..=i).unwrap_or(&[]).iter().find(|r| r.value > 0.0);
            let since = wet.map_or(reading.at, |r| r.at);
            let cause = Cause::Rain { fallen_mm: sum, since };
            open = Some(Hold { from: reading.at, until: None, cause });
        }
    }
    if let (Some(hold), Some(wet)) = (open, last_wet) {
        out.push(Hold { until: Some(wet + dry).filter(|ends| *ends <= until), ..hold });
    }
    out
}

//! A flow meter: what each zone takes when all is well, and when it takes more, less, or water runs
//! though nothing should.

use crate::controller::schedule::ScheduledRun;
use crate::sensors::Readings;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

/// Time in which a zone's pipes fill before its flow is taken (our stated default).
const FILL: SignedDuration = SignedDuration::from_secs(120);
/// Time after a run in which the pipes may still draw.
const SETTLE: SignedDuration = SignedDuration::from_secs(60);
/// Readings from which a zone's flow counts as learned.
pub const LEARNING_READINGS: usize = 3;
/// Flow that counts as water while nothing runs, L/min (our stated default).
const LEAK_L_PER_MIN: f64 = 1.0;

/// What is wrong with a flow.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FlowAlarmKind {
    /// More than learned: a broken pipe or head.
    High,
    /// Less than learned: a closed valve, a blocked filter, a broken wire.
    Low,
    /// Water though nothing runs.
    Leak,
}

/// A flow that is not no change needed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FlowAlarm {
    /// When.
    pub at: Timestamp,
    /// The station, unless nothing ran.
    pub station: Option<u16>,
    /// What.
    pub kind: FlowAlarmKind,
    /// Read, L/min.
    pub read: f64,
    /// Learned, L/min; nought for a leak.
    pub learned: f64,
}

/// The run that a reading belongs to: exactly one station runs, and its pipes have filled.
fn alone(runs: &[ScheduledRun], at: Timestamp) -> Option<&ScheduledRun> {
    let mut now = runs.iter().filter(|r| r.start <= at && at < r.end);
    let run = now.next()?;
    (now.next().is_none() && at >= run.start + FILL).then_some(run)
}

/// Flow of each station, L/min: the median of the readings taken while it ran alone and filled.
/// Stations with fewer than [`LEARNING_READINGS`] are left out.
#[must_use]
pub fn learn_flow(readings: &Readings, runs: &[ScheduledRun]) -> BTreeMap<u16, f64> {
    let mut by_station: BTreeMap<u16, Vec<f64>> = BTreeMap::new();
    for reading in readings.as_slice() {
        if let Some(run) = alone(runs, reading.at) {
            by_station.entry(run.station).or_default().push(reading.value);
        }
    }
    by_station
        .into_iter()
        .filter(|(_, values)| values.len() >= LEARNING_READINGS)
        .filter_map(|(station, mut values)| {
            values.sort_by(f64::total_cmp);
            Some((station, *values.get(values.len() / 2)?))
        })
        .collect()
}

/// Readings that differ from the learned flow by more than the alarm allows.
#[must_use]
pub fn flow_alarms(
    high_pct: f64,
    low_pct: f64,
    learned: &BTreeMap<u16, f64>,
    readings: &Readings,
    runs: &[ScheduledRun],
) -> Vec<FlowAlarm> {
    readings
        .as_slice()
        .iter()
        .filter_map(|r| {
            let idle = runs.iter().all(|run| r.at < run.start || r.at >= run.end + SETTLE);
            if idle {
                return (r.value > LEAK_L_PER_MIN).then_some(FlowAlarm {
                    at: r.at,
                    station: None,
                    kind: FlowAlarmKind::Leak,
                    read: r.value,
                    learned: 0.0,
                });
            }
            let station = alone(runs, r.at)?.station;
            let usual = *learned.get(&station)?;
            let kind = if r.value > usual * (1.0 + high_pct / 100.0) {
                FlowAlarmKind::High
            } else if r.value < usual * (1.0 - low_pct / 100.0) {
                FlowAlarmKind::Low
            } else {
                return None;
            };
            Some(FlowAlarm { at: r.at, station: Some(station), kind, read: r.value, learned: usual })
        })
        .collect()
}

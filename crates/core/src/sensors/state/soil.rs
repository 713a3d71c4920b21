//! A soil-moisture probe decides once, at the start of a cycle window, and holds its word through it.

use super::STALE_HOURS;
use crate::controller::schedule::ScheduledRun;
use crate::quantity::span::TimeSpan;
use crate::sensors::Readings;
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;

/// Time beyond the day's whole cycle that a window needs, minutes (common practice: 6 h needs 7 h).
pub const WINDOW_MARGIN_MIN: i64 = 60;

/// The window of a day's watering.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CycleWindow {
    /// Start of the day's first run.
    pub from: Timestamp,
    /// End of the window.
    pub until: Timestamp,
}

/// What a probe decided for a window.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct WindowDecision {
    /// The window.
    pub window: CycleWindow,
    /// The reading it decided on; `None`: nothing was read lately, and it lets run.
    pub read_pct: Option<f64>,
    /// Whether watering is refused through the whole window.
    pub refuses: bool,
}

/// Minutes that the cycle window needs: the longest day's cycle from first start to last end, and
/// [`WINDOW_MARGIN_MIN`]. `None` when nothing runs.
#[must_use]
pub fn cycle_window_needed_min<'a>(runs: impl Iterator<Item = &'a ScheduledRun>) -> Option<i64> {
    let mut days: BTreeMap<Date, TimeSpan> = BTreeMap::new();
    for run in runs {
        let span = days.entry(run.date).or_insert(TimeSpan::new(run.start, run.end));
        *span = TimeSpan::new(span.from.min(run.start), span.until.max(run.end));
    }
    let longest = days.values().map(|span| span.duration().as_secs()).max()?;
    Some((longest + 59) / 60 + WINDOW_MARGIN_MIN)
}

/// The probe's decision for each window. It refuses when the last reading at the window's start is at
/// or above the threshold; readings during the window do not change its word. A reading counts for [`STALE_HOURS`]; for
/// a window that begins after `read_until`, the last one that still counts then stands, since it reads again before.
#[must_use]
pub fn decide_windows(
    threshold_pct: f64,
    windows: &[CycleWindow],
    readings: &Readings,
    read_until: Timestamp,
) -> Vec<WindowDecision> {
    let stale = SignedDuration::from_hours(STALE_HOURS);
    windows
        .iter()
        .map(|window| {
            let read = readings.at_or_before(window.from).filter(|r| {
                let known = window.from.min(read_until.max(r.at));
                known.duration_since(r.at) <= stale
            });
            WindowDecision {
                window: *window,
                read_pct: read.map(|r| r.value),
                refuses: read.is_some_and(|r| r.value >= threshold_pct),
            }
        })
        .collect()
}

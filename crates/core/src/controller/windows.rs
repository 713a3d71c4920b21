//! The hours in which one zone may run, and where they lie in the night of its site.

use crate::quantity::span::{MinuteSpan, TimeSpan, joined};
use crate::quantity::time::{Hours, MINUTES_A_DAY, MinuteOfDay, instant};
use jiff::civil::{Date, Time, time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

/// When the night's watering is decided, by the wall clock, unless its window opens earlier.
pub const EVENING: Time = time(20, 0, 0, 0);

/// The windows of one zone. A night is the day from one evening to the next, by the main window of the site; any
/// other window lies in it where it comes first after that evening.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Windows {
    night: Hours,
    first: Hours,
    second: Option<Hours>,
}

impl Windows {
    /// The main window of the site alone.
    #[must_use]
    pub fn only(main: Hours) -> Self {
        Self { night: main, first: main, second: None }
    }

    /// Other hours in nights that a main window decides.
    #[must_use]
    pub fn new(main: Hours, first: Hours, second: Option<Hours>) -> Self {
        Self { night: main, first, second }
    }

    /// Each of them, the one that counts first in front.
    pub fn all(self) -> impl Iterator<Item = Hours> {
        [Some(self.first), self.second].into_iter().flatten()
    }

    /// Whether a time of day lies in one of them.
    #[must_use]
    pub fn hold(self, time: Time) -> bool {
        self.all().any(|hours| hours.hold(time) || hours.from == hours.until)
    }

    /// The instants in which they are open in the night that begins on an evening, in order and apart.
    #[must_use]
    pub fn spans(self, evening: Date, tz: &TimeZone) -> Vec<TimeSpan> {
        let decided = decided(self.night);
        let mut spans: Vec<_> = self.all().map(|hours| placed(evening, decided, hours, tz)).collect();
        spans.sort_unstable();
        joined(spans)
    }

    /// Minutes of each by the clock of an ordinary night, counted from midnight before its evening.
    pub fn minutes(self) -> impl Iterator<Item = MinuteSpan> {
        let decided = MinuteOfDay::of(decided(self.night));
        self.all().map(move |hours| {
            let from = decided.minutes() + decided.until(MinuteOfDay::of(hours.from)) % MINUTES_A_DAY;
            MinuteSpan::new(from, from + hours.minutes())
        })
    }
}

/// The time of day at which the nights of a main window are decided.
fn decided(main: Hours) -> Time {
    if main.from >= time(12, 0, 0, 0) { EVENING.min(main.from) } else { EVENING }
}

/// The evening on which the night began in which an instant lies: from when one night is decided to when the next is.
#[must_use]
pub fn night_at(at: &jiff::Zoned, main: Hours) -> Date {
    let date = at.date();
    if at.time() >= decided(main) { date } else { date.yesterday().unwrap_or(date) }
}

/// Where some hours lie in the night that is decided at a time of an evening.
fn placed(evening: Date, decided: Time, hours: Hours, tz: &TimeZone) -> TimeSpan {
    let next = |date: Date| date.checked_add(1.day()).unwrap_or(date);
    let from = if hours.from >= decided { evening } else { next(evening) };
    let until = if hours.cross_midnight() { next(from) } else { from };
    TimeSpan::new(instant(from, hours.from, tz), instant(until, hours.until, tz))
}

/// The span of the main window in the night that begins on an evening. One that starts at noon or later
/// belongs to the evening itself, else to the next morning. A time that a clock change skips moves forward by the gap;
/// one that it repeats is taken the first time.
#[must_use]
pub fn main_window(evening: Date, main: Hours, tz: &TimeZone) -> TimeSpan {
    placed(evening, decided(main), main, tz)
}

/// The instant at which the night that begins on a date is decided: its evening, or the opening of a window
/// that opens before it.
#[must_use]
pub fn decided_at(date: Date, main: Hours, tz: &TimeZone) -> Timestamp {
    instant(date, EVENING, tz).min(main_window(date, main, tz).from)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    fn hours(from: i8, until: i8) -> Hours {
        Hours { from: time(from, 0, 0, 0), until: time(until, 0, 0, 0) }
    }

    fn said(windows: Windows) -> Vec<String> {
        let clock = |at: Timestamp| at.strftime("%d %H").to_string();
        let spans = windows.spans(date(2026, 7, 14), &TimeZone::UTC);
        spans.into_iter().map(|span| format!("{} to {}", clock(span.from), clock(span.until))).collect()
    }

    #[test]
    fn an_instant_lies_in_the_night_whose_windows_may_hold_it() {
        let at = |day, hour| date(2026, 7, day).at(hour, 0, 0, 0).to_zoned(TimeZone::UTC).unwrap();
        for main in [hours(22, 6), hours(2, 6), hours(21, 4)] {
            for (day, hour, evening) in [(14, 20, 14), (14, 19, 13), (15, 0, 14), (15, 19, 14), (15, 20, 15)]
            {
                assert_eq!(night_at(&at(day, hour), main), date(2026, 7, evening), "{main:?} {day} {hour}");
            }
        }
        // A main window of the afternoon decides its own night.
        assert_eq!(night_at(&at(14, 14), hours(14, 16)), date(2026, 7, 14));
        assert_eq!(night_at(&at(14, 13), hours(14, 16)), date(2026, 7, 13));
        // Every hour of every window belongs to the night in which it is laid.
        for (main, other) in
            [(hours(22, 6), hours(12, 14)), (hours(2, 6), hours(21, 23)), (hours(2, 6), hours(19, 20))]
        {
            for TimeSpan { from, until } in
                Windows::new(main, main, Some(other)).spans(date(2026, 7, 14), &TimeZone::UTC)
            {
                let mut at = from.to_zoned(TimeZone::UTC);
                while at.timestamp() < until {
                    assert_eq!(night_at(&at, main), date(2026, 7, 14), "{at}");
                    at = &at + jiff::SignedDuration::from_mins(30);
                }
            }
        }
    }

    #[test]
    fn every_window_lies_in_the_night_of_the_main_one() {
        let night = hours(22, 6);
        assert_eq!(said(Windows::only(night)), ["14 22 to 15 06"]);
        assert_eq!(said(Windows::only(hours(2, 6))), ["15 02 to 15 06"]);
        // At noon it belongs to the night that began the evening before, which the next evening ends.
        assert_eq!(
            said(Windows::new(night, night, Some(hours(12, 14)))),
            ["14 22 to 15 06", "15 12 to 15 14"]
        );
        assert_eq!(said(Windows::new(night, hours(10, 15), None)), ["15 10 to 15 15"]);
        assert_eq!(said(Windows::new(hours(2, 6), hours(21, 23), None)), ["14 21 to 14 23"]);
        // One before the evening at which the night is decided comes after it.
        assert_eq!(said(Windows::new(hours(2, 6), hours(19, 20), None)), ["15 19 to 15 20"]);
        // A main window of the afternoon decides its own night.
        assert_eq!(said(Windows::new(hours(14, 16), hours(13, 14), None)), ["15 13 to 15 14"]);
    }

    #[test]
    fn windows_that_touch_are_one_and_a_whole_day_is_open() {
        let night = hours(2, 6);
        assert_eq!(said(Windows::new(night, night, Some(hours(6, 8)))), ["15 02 to 15 08"]);
        assert_eq!(said(Windows::new(night, night, Some(night))), ["15 02 to 15 06"]);
        let whole = Windows::only(hours(0, 0));
        assert_eq!(said(whole), ["15 00 to 16 00"]);
        assert!(whole.hold(time(13, 0, 0, 0)));
    }

    #[test]
    fn minutes_are_those_of_the_spans() {
        let windows = Windows::new(hours(2, 6), hours(21, 23), Some(hours(12, 13)));
        assert_eq!(
            windows.minutes().collect::<Vec<_>>(),
            [MinuteSpan::new(21 * 60, 23 * 60), MinuteSpan::new(36 * 60, 37 * 60)]
        );
        assert!(windows.hold(time(22, 59, 0, 0)) && windows.hold(time(12, 0, 0, 0)));
        assert!(!windows.hold(time(23, 0, 0, 0)) && !windows.hold(time(3, 0, 0, 0)));
    }
}

//! Times of the wall clock: minutes and hours of a day, weekdays, and the instants that they stand for.

use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

/// Minutes of a day.
pub const MINUTES_A_DAY: u32 = 24 * 60;

/// Short names of the days of a week, Monday first.
pub const WEEKDAYS: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

/// A minute of the day by the wall clock, 0 to 1439.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct MinuteOfDay(u32);

impl MinuteOfDay {
    /// The minute of a time; its seconds are dropped.
    #[must_use]
    pub fn of(time: Time) -> Self {
        Self(u32::from(time.hour().unsigned_abs()) * 60 + u32::from(time.minute().unsigned_abs()))
    }

    /// The minute on the clock so many minutes after midnight: beyond a day it begins anew.
    #[must_use]
    pub const fn after_midnight(minutes: u32) -> Self {
        Self(minutes % MINUTES_A_DAY)
    }

    /// Minutes since midnight.
    #[must_use]
    pub const fn minutes(self) -> u32 {
        self.0
    }

    /// Minutes from this one until the clock next shows another; a whole day until it shows the same.
    #[must_use]
    pub const fn until(self, next: Self) -> u32 {
        if next.0 > self.0 { next.0 - self.0 } else { next.0 + MINUTES_A_DAY - self.0 }
    }

    /// The time of the clock.
    #[must_use]
    pub fn time(self) -> Time {
        let part = |value: u32| i8::try_from(value).unwrap_or(0);
        Time::new(part(self.0 / 60), part(self.0 % 60), 0, 0).unwrap_or_default()
    }
}

/// Hours of the day by the wall clock; they may cross midnight, the end is outside.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Hours {
    /// First minute.
    pub from: Time,
    /// End.
    pub until: Time,
}

impl Hours {
    /// Whether the hours hold a time of day. Hours that begin and end at the same minute hold none.
    #[must_use]
    pub fn hold(&self, time: Time) -> bool {
        if self.from <= self.until {
            (self.from..self.until).contains(&time)
        } else {
            time >= self.from || time < self.until
        }
    }

    /// Whether they end on the day after the one they begin on.
    #[must_use]
    pub fn cross_midnight(&self) -> bool {
        self.until <= self.from
    }

    /// Their length in minutes; a whole day when they end at the minute they begin.
    #[must_use]
    pub fn minutes(&self) -> u32 {
        MinuteOfDay::of(self.from).until(MinuteOfDay::of(self.until))
    }
}

/// The place of a date in its week, Monday 0 to Sunday 6.
#[must_use]
pub fn weekday_index(date: Date) -> usize {
    usize::from(date.weekday().to_monday_zero_offset().unsigned_abs())
}

/// Monday of a date's week.
#[must_use]
pub fn monday_of(date: Date) -> Date {
    date.checked_sub(i64::from(date.weekday().to_monday_zero_offset()).days()).unwrap_or(date)
}

/// A time of the wall clock as an instant; one that a clock change skips moves on by the gap, one that it
/// repeats is the first. Only the first and last days that jiff knows are clamped; no form or file admits
/// them.
#[must_use]
pub fn instant(date: Date, time: Time, tz: &TimeZone) -> Timestamp {
    let wall = date.to_datetime(time);
    let clamped = if wall.year() < 0 { Timestamp::MIN } else { Timestamp::MAX };
    tz.to_ambiguous_zoned(wall).compatible().map_or(clamped, |zoned| zoned.timestamp())
}

/// The instant at which a date begins.
#[must_use]
pub fn midnight(date: Date, tz: &TimeZone) -> Timestamp {
    instant(date, Time::midnight(), tz)
}

/// The instant of noon on a date: a night reaches from noon to noon.
#[must_use]
pub fn noon(date: Date, tz: &TimeZone) -> Timestamp {
    instant(date, Time::constant(12, 0, 0, 0), tz)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::{date, time};

    #[test]
    fn minutes_go_round_the_clock() {
        let at = |hour, minute| MinuteOfDay::of(time(hour, minute, 59, 0));
        assert_eq!((at(0, 0).minutes(), at(23, 59).minutes()), (0, 1439));
        assert_eq!(MinuteOfDay::after_midnight(1440 + 61), at(1, 1));
        assert_eq!(at(23, 59).time(), time(23, 59, 0, 0));
        assert_eq!((at(22, 0).until(at(6, 0)), at(6, 0).until(at(22, 0))), (480, 960));
        assert_eq!(at(6, 0).until(at(6, 0)), MINUTES_A_DAY);
    }

    #[test]
    fn hours_may_cross_midnight_and_their_end_is_outside() {
        let night = Hours { from: time(22, 0, 0, 0), until: time(6, 0, 0, 0) };
        assert!(night.hold(time(22, 0, 0, 0)) && night.hold(time(0, 0, 0, 0)));
        assert!(!night.hold(time(6, 0, 0, 0)) && !night.hold(time(12, 0, 0, 0)));
        assert!(night.cross_midnight());
        assert_eq!(night.minutes(), 480);
        let none = Hours { from: time(6, 0, 0, 0), until: time(6, 0, 0, 0) };
        assert!(!none.hold(time(6, 0, 0, 0)));
    }

    #[test]
    fn a_week_begins_on_monday() {
        assert_eq!((weekday_index(date(2026, 7, 13)), weekday_index(date(2026, 7, 19))), (0, 6));
        assert_eq!(monday_of(date(2026, 7, 19)), date(2026, 7, 13));
        assert_eq!(monday_of(date(2026, 7, 13)), date(2026, 7, 13));
    }

    #[test]
    fn a_wall_clock_time_that_is_skipped_moves_on_and_one_that_is_repeated_is_the_first() {
        let tz = TimeZone::get("Europe/Zurich").unwrap();
        // Public rule: the clock goes from 02:00 to 03:00 on 29 March 2026, back on 25 October.
        assert_eq!(instant(date(2026, 3, 29), time(2, 30, 0, 0), &tz).to_string(), "2026-03-29T01:30:00Z");
        assert_eq!(instant(date(2026, 10, 25), time(2, 30, 0, 0), &tz).to_string(), "2026-10-25T00:30:00Z");
        assert_eq!(midnight(date(2026, 7, 14), &tz).to_string(), "2026-07-13T22:00:00Z");
        assert_eq!(noon(date(2026, 1, 14), &tz).to_string(), "2026-01-14T11:00:00Z");
    }

    #[test]
    fn the_ends_of_time_are_clamped_and_never_1970() {
        let east = TimeZone::get("Etc/GMT-14").unwrap();
        assert!(instant(Date::MIN, Time::midnight(), &east) <= midnight(date(-9999, 1, 3), &east));
        let west = TimeZone::get("Etc/GMT+12").unwrap();
        assert!(instant(Date::MAX, Time::MAX, &west) > midnight(date(9990, 1, 1), &west));
    }
}

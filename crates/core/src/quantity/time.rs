//! Lengths in seconds, and times of the wall clock: minutes and hours of a day, weekdays, and the instants
//! that they stand for.

use super::units::Minutes;
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};

/// A length of time in whole seconds, the grain of every controller: run times, cycles, soaks and pauses. Below
/// zero only where a delay between two stations is an overlap.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Seconds(i64);

impl Seconds {
    /// No time.
    pub const ZERO: Self = Self(0);
    /// One second.
    pub const ONE: Self = Self(1);
    /// A day.
    pub const DAY: Self = Self(86_400);

    /// From whole seconds.
    #[must_use]
    pub const fn from_s(value: i64) -> Self {
        Self(value)
    }

    /// From whole minutes.
    #[must_use]
    pub const fn from_min(value: i64) -> Self {
        Self(value * 60)
    }

    /// From whole hours.
    #[must_use]
    pub const fn from_h(value: i64) -> Self {
        Self(value * 3600)
    }

    /// From a length that may have a fraction, by a rounding such as `f64::round`; beyond a day it is a day,
    /// and below zero (or not a number) nothing, as no controller runs longer.
    #[must_use]
    pub fn of(length: Minutes, round: impl FnOnce(f64) -> f64) -> Self {
        #[allow(clippy::cast_possible_truncation, reason = "clamped to a day; not a number becomes 0")]
        let whole = round(length.min_value() * 60.0).clamp(0.0, 86_400.0) as i64;
        Self(whole)
    }

    /// From one instant to another; below zero when the second comes first.
    #[must_use]
    pub fn between(from: Timestamp, to: Timestamp) -> Self {
        Self(to.duration_since(from).as_secs())
    }

    /// The number of seconds.
    #[must_use]
    pub const fn s(self) -> i64 {
        self.0
    }

    /// The number of seconds as files and forms carry it: nothing below zero.
    #[must_use]
    pub fn length_s(self) -> u32 {
        u32::try_from(self.0.max(0)).unwrap_or(u32::MAX)
    }

    /// Whole minutes that hold it.
    #[must_use]
    pub fn minutes_up(self) -> u32 {
        self.length_s().div_ceil(60)
    }

    /// In minutes, with their fraction.
    #[must_use]
    pub fn minutes(self) -> Minutes {
        #[allow(clippy::cast_precision_loss, reason = "some days at most")]
        let value = self.0 as f64;
        Minutes::from_min(value / 60.0)
    }

    /// Its length, whichever way it runs.
    #[must_use]
    pub const fn abs(self) -> Self {
        Self(self.0.saturating_abs())
    }

    /// Whether any time passes.
    #[must_use]
    pub const fn any(self) -> bool {
        self.0 > 0
    }

    /// The whole number of steps that it holds, its excess dropped; a step of nothing counts as a second.
    #[must_use]
    pub fn steps(self, step: Self) -> i64 {
        self.0.div_euclid(step.0.max(1))
    }

    /// How many steps are needed to hold it.
    #[must_use]
    pub fn steps_up(self, step: Self) -> i64 {
        let step = step.0.max(1);
        self.0.div_euclid(step) + i64::from(self.0.rem_euclid(step) > 0)
    }

    /// Whether it is a whole number of steps.
    #[must_use]
    pub fn is_in_steps_of(self, step: Self) -> bool {
        self.0.rem_euclid(step.0.max(1)) == 0
    }
}

/// As one reads it: "7 min", "7 min 30 s", "45 s"; no time is "0 min".
impl core::fmt::Display for Seconds {
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        let sign = if self.0 < 0 { "-" } else { "" };
        match (self.abs().0 / 60, self.abs().0 % 60) {
            (m, 0) => write!(f, "{sign}{m} min"),
            (0, s) => write!(f, "{sign}{s} s"),
            (m, s) => write!(f, "{sign}{m} min {s} s"),
        }
    }
}

impl From<u32> for Seconds {
    fn from(value: u32) -> Self {
        Self(i64::from(value))
    }
}

impl core::ops::Add for Seconds {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }
}

impl core::ops::Sub for Seconds {
    type Output = Self;
    fn sub(self, other: Self) -> Self {
        Self(self.0.saturating_sub(other.0))
    }
}

impl core::ops::Neg for Seconds {
    type Output = Self;
    fn neg(self) -> Self {
        Self(self.0.saturating_neg())
    }
}

impl core::ops::Mul<i64> for Seconds {
    type Output = Self;
    fn mul(self, times: i64) -> Self {
        Self(self.0.saturating_mul(times))
    }
}

impl core::iter::Sum for Seconds {
    fn sum<I: Iterator<Item = Self>>(items: I) -> Self {
        items.fold(Self::ZERO, |sum, item| sum + item)
    }
}

impl core::ops::Add<Seconds> for Timestamp {
    type Output = Self;
    fn add(self, length: Seconds) -> Self {
        self.saturating_add(SignedDuration::from_secs(length.0)).unwrap_or(self)
    }
}

impl core::ops::Sub<Seconds> for Timestamp {
    type Output = Self;
    fn sub(self, length: Seconds) -> Self {
        self + -length
    }
}

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
    fn seconds_count_in_steps_and_never_run_backwards_in_a_file() {
        let s = Seconds::from_s;
        assert_eq!((s(125).steps(s(60)), s(125).steps_up(s(60)), s(120).steps_up(s(60))), (2, 3, 2));
        assert!(s(120).is_in_steps_of(s(60)) && !s(125).is_in_steps_of(s(60)));
        assert_eq!((s(7).steps(Seconds::ZERO), s(7).steps_up(Seconds::ZERO)), (7, 7), "no step is a second");
        assert_eq!((s(-10).length_s(), s(61).minutes_up(), s(90).minutes().min_value()), (0, 2, 1.5));
        let said: Vec<String> = [0, 45, 420, 450, -10].into_iter().map(|n| s(n).to_string()).collect();
        assert_eq!(said, ["0 min", "45 s", "7 min", "7 min 30 s", "-10 s"]);
        assert_eq!(Seconds::of(Minutes::from_min(1.51), f64::floor), s(90));
        assert_eq!(Seconds::of(Minutes::from_min(f64::NAN), f64::round), Seconds::ZERO);
        assert_eq!(Seconds::of(Minutes::from_min(1e9), f64::round), Seconds::DAY);
        let noon = Timestamp::from_second(43_200).unwrap();
        assert_eq!(
            (Seconds::between(noon, noon + s(90)), Seconds::between(noon + s(90), noon)),
            (s(90), s(-90))
        );
        assert_eq!(noon - s(90) + s(90), noon);
        assert_eq!(Timestamp::MAX + Seconds::DAY, Timestamp::MAX);
    }

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

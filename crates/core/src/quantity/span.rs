//! Spans: of dates, of time, and of minutes on a clock. Each names its ends and whether the last one belongs to it.

use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp, ToSpan};

/// From the first date to the last; both belong to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DateSpan {
    /// The first date.
    pub first: Date,
    /// The last date.
    pub last: Date,
}

impl DateSpan {
    /// The span of two dates.
    #[must_use]
    pub const fn new(first: Date, last: Date) -> Self {
        Self { first, last }
    }

    /// Whether a date lies in it.
    #[must_use]
    pub fn contains(self, date: Date) -> bool {
        (self.first..=self.last).contains(&date)
    }

    /// How many days it has; 0 where the last date comes before the first.
    #[must_use]
    pub fn count(self) -> usize {
        usize::try_from(i64::from((self.last - self.first).get_days()) + 1).unwrap_or(0)
    }

    /// Its dates in order.
    pub fn dates(self) -> impl Iterator<Item = Date> + Clone {
        self.first.series(1.day()).take_while(move |date| *date <= self.last)
    }

    /// The part of it that lies in another one as well.
    #[must_use]
    pub fn shared(self, other: Self) -> Option<Self> {
        let both = Self { first: self.first.max(other.first), last: self.last.min(other.last) };
        (both.first <= both.last).then_some(both)
    }
}

/// From one moment until another, which does not belong to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TimeSpan {
    /// When it begins.
    pub from: Timestamp,
    /// When it is over.
    pub until: Timestamp,
}

impl TimeSpan {
    /// The span between two moments.
    #[must_use]
    pub const fn new(from: Timestamp, until: Timestamp) -> Self {
        Self { from, until }
    }

    /// How long it is; negative where it ends before it begins.
    #[must_use]
    pub fn duration(self) -> SignedDuration {
        self.until.duration_since(self.from)
    }

    /// Whether any time lies in it.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self.until <= self.from
    }

    /// Whether a moment lies in it.
    #[must_use]
    pub fn contains(self, at: Timestamp) -> bool {
        (self.from..self.until).contains(&at)
    }

    /// Whether some time lies in both.
    #[must_use]
    pub fn meets(self, other: Self) -> bool {
        self.from < other.until && self.until > other.from
    }

    /// What lies in both; it is empty where nothing does.
    #[must_use]
    pub fn shared(self, other: Self) -> Self {
        Self { from: self.from.max(other.from), until: self.until.min(other.until) }
    }

    /// How long both last together; zero where they do not meet.
    #[must_use]
    pub fn shared_duration(self, other: Self) -> SignedDuration {
        self.shared(other).duration().max(SignedDuration::ZERO)
    }
}

/// Spans in the order of their beginnings as ones that do not touch.
#[must_use]
pub fn joined(spans: impl IntoIterator<Item = TimeSpan>) -> Vec<TimeSpan> {
    let mut out: Vec<TimeSpan> = Vec::new();
    for span in spans {
        match out.last_mut() {
            Some(last) if span.from <= last.until => last.until = last.until.max(span.until),
            _ => out.push(span),
        }
    }
    out
}

/// Whole minutes counted from some midnight: from the first until the last, which does not belong to it. They may
/// run past the end of the day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct MinuteSpan {
    /// When it begins.
    pub from: u32,
    /// When it is over.
    pub until: u32,
}

impl MinuteSpan {
    /// The span between two minutes.
    #[must_use]
    pub const fn new(from: u32, until: u32) -> Self {
        Self { from, until }
    }

    /// How many minutes it has; 0 where it ends before it begins.
    #[must_use]
    pub const fn minutes(self) -> u32 {
        self.until.saturating_sub(self.from)
    }

    /// Whether some minute lies in both.
    #[must_use]
    pub const fn meets(self, other: Self) -> bool {
        self.from < other.until && self.until > other.from
    }

    /// What lies in both; it has no minutes where nothing does.
    #[must_use]
    pub fn shared(self, other: Self) -> Self {
        Self { from: self.from.max(other.from), until: self.until.min(other.until) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    #[test]
    fn both_ends_of_a_span_of_dates_belong_to_it() {
        let june = DateSpan::new(date(2026, 6, 1), date(2026, 6, 30));
        assert_eq!((june.count(), june.dates().count()), (30, 30));
        assert!(june.contains(june.first) && june.contains(june.last) && !june.contains(date(2026, 7, 1)));
        assert_eq!(DateSpan::new(june.last, june.first).count(), 0);
        let late = DateSpan::new(june.last, date(2026, 8, 1));
        assert_eq!(june.shared(late), Some(DateSpan::new(june.last, june.last)));
        assert_eq!(june.shared(DateSpan::new(date(2026, 7, 1), date(2026, 7, 2))), None);
    }

    #[test]
    fn the_end_of_a_span_of_time_does_not_belong_to_it() {
        let at = |hour: i64| Timestamp::from_second(hour * 3600).unwrap();
        let night = TimeSpan::new(at(2), at(6));
        assert!(night.contains(at(2)) && !night.contains(at(6)));
        assert!(!night.meets(TimeSpan::new(at(6), at(8))), "they touch and do not meet");
        assert_eq!(night.shared_duration(TimeSpan::new(at(5), at(9))), SignedDuration::from_hours(1));
        assert_eq!(night.shared_duration(TimeSpan::new(at(7), at(9))), SignedDuration::ZERO);
        assert!(night.shared(TimeSpan::new(at(7), at(9))).is_empty());
    }

    #[test]
    fn spans_that_touch_become_one() {
        let at = |hour: i64| Timestamp::from_second(hour * 3600).unwrap();
        let spans = [(0, 2), (2, 3), (1, 4), (5, 6)].map(|(a, b)| TimeSpan::new(at(a), at(b)));
        let one = [(0, 4), (5, 6)].map(|(a, b)| TimeSpan::new(at(a), at(b)));
        assert_eq!(joined(spans), one);
    }

    #[test]
    fn minutes_are_counted_up_to_the_end() {
        let (early, late) = (MinuteSpan::new(120, 180), MinuteSpan::new(180, 240));
        assert_eq!((early.minutes(), MinuteSpan::new(9, 3).minutes()), (60, 0));
        assert!(!early.meets(late) && early.meets(MinuteSpan::new(179, 181)));
        assert_eq!(early.shared(MinuteSpan::new(100, 130)), MinuteSpan::new(120, 130));
    }
}

//! Times and dates as their reader writes them.

use crate::server::request_locale::{habit, in_habit};
use jiff::civil::{Date, Time};
use jiff::{Timestamp, Zoned};
use std::borrow::Cow;
use upland_core::controller::night::NightPlan;
use upland_core::controller::schedule::DateWriter;
use upland_core::controller::windows::Windows;
use upland_core::quantity::time::Hours;
use upland_formats::typed::{Clock, DateOrder, Habit, write_date, write_month_day, write_time};

/// Something with a time or a date in it.
pub(crate) trait DateFormat {
    /// Written by a pattern of `strftime` in 24 hours and day first; whoever reads otherwise is given their own.
    fn formatted(&self, pattern: &str) -> String;
}

macro_rules! date_format {
    ($($kind:ty),*) => {$(
        impl DateFormat for $kind {
            fn formatted(&self, pattern: &str) -> String {
                self.strftime(&*in_the_way_of(habit(), pattern)).to_string()
            }
        }
    )*};
}

date_format!(Date, Time, Zoned, Timestamp);

/// Every habit of writing times and dates.
const HABITS: [Habit; 4] = [
    Habit { clock: Clock::Hours24, dates: DateOrder::DayFirst },
    Habit { clock: Clock::Hours24, dates: DateOrder::MonthFirst },
    Habit { clock: Clock::Hours12, dates: DateOrder::DayFirst },
    Habit { clock: Clock::Hours12, dates: DateOrder::MonthFirst },
];

/// A sentence for every reader: one, or where it holds a time or a date one for each habit.
pub(crate) fn for_every_habit(say: impl Fn() -> String) -> Vec<String> {
    let all = HABITS.map(|habit| in_habit(habit, &say));
    let [first, others @ ..] = &all;
    if others.iter().all(|other| other == first) { vec![first.clone()] } else { all.to_vec() }
}

/// The one of such sentences that the reader reads.
pub(crate) fn in_own_words(sentences: &[String]) -> &str {
    let place = HABITS.iter().position(|known| *known == habit()).unwrap_or(0);
    sentences.get(place).or(sentences.first()).map_or("", String::as_str)
}

/// A date as its field holds it.
pub(crate) fn typed_date(date: Date) -> String {
    write_date(date, habit())
}

/// A time as its field holds it.
pub(crate) fn typed_time(time: Time) -> String {
    write_time(time, habit())
}

/// The beginning of some hours as its field holds it; empty when there are none.
pub(crate) fn typed_from(hours: Option<Hours>) -> String {
    hours.map_or(String::new(), |hours| typed_time(hours.from))
}

/// Their end.
pub(crate) fn typed_until(hours: Option<Hours>) -> String {
    hours.map_or(String::new(), |hours| typed_time(hours.until))
}

/// Hours as a reader sees them: "22:00 to 06:00".
pub(crate) fn said_hours(hours: Hours) -> String {
    format!("{} to {}", hours.from.formatted("%H:%M"), hours.until.formatted("%H:%M"))
}

/// Windows as a reader sees them: "22:00 to 06:00 and 12:00 to 14:00".
pub(crate) fn said_windows(windows: Windows) -> String {
    windows.all().map(said_hours).collect::<Vec<_>>().join(" and ")
}

/// The hours that a night is laid out in: "22:00 to 06:00 and 12:00 to 14:00".
pub(crate) fn said_open(night: &NightPlan) -> String {
    let hours = night.open.iter().map(|(from, until)| Hours { from: from.time(), until: until.time() });
    hours.map(said_hours).collect::<Vec<_>>().join(" and ")
}

/// A time of day as an example, as the reader writes it.
pub(crate) fn example_time() -> String {
    typed_time(jiff::civil::time(14, 5, 0, 0))
}

/// A day and a time as an example, as the reader writes them.
pub(crate) fn example_stamp() -> String {
    format!("{} {}", typed_date(jiff::civil::date(2026, 5, 4)), typed_time(jiff::civil::time(8, 0, 0, 0)))
}

/// A day of every year as its field holds it.
pub(crate) fn typed_month_day(month: i8, day: i8) -> String {
    write_month_day(month, day, habit())
}

/// Times as a field takes them.
pub(crate) fn typed_times(times: &[Time]) -> String {
    times.iter().map(|time| typed_time(*time)).collect::<Vec<_>>().join(", ")
}

/// How changes of settings are written for the reader.
pub(crate) fn date_writer() -> DateWriter {
    DateWriter { time: typed_time, date: typed_date, month_day: |day| write_month_day(day.0, day.1, habit()) }
}

/// Patterns of 24 hours with those of twelve, longer ones first.
const HOURS: [(&str, &str); 3] = [("%H:%M:%S", "%-I:%M:%S %p"), ("%H:%M", "%-I:%M %p"), ("%H", "%-I %p")];

/// Patterns with the day first and with the month first, longer ones first.
const DATES: [(&str, &str); 6] = [
    ("%A %-d %B", "%A, %B %-d"),
    ("%-d %b %Y", "%b %-d, %Y"),
    ("%-d %B %Y", "%B %-d, %Y"),
    ("%B %-d %Y", "%B %-d, %Y"),
    ("%-d %b", "%b %-d"),
    ("%-d %B", "%B %-d"),
];

fn in_the_way_of(habit: Habit, pattern: &str) -> Cow<'_, str> {
    let mut pattern = Cow::Borrowed(pattern);
    let mut turn = |from: &str, to: &str| {
        if pattern.contains(from) {
            pattern = Cow::Owned(pattern.replace(from, to));
        }
    };
    if habit.clock == Clock::Hours12 {
        HOURS.into_iter().for_each(|(from, to)| turn(from, to));
    }
    if habit.dates == DateOrder::MonthFirst {
        DATES.into_iter().for_each(|(from, to)| turn(from, to));
    }
    pattern
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::server::request_locale::in_habit;
    use jiff::civil::{date, time};

    #[test]
    fn each_reader_is_given_their_own_times_and_dates() {
        let us = Habit { clock: Clock::Hours12, dates: DateOrder::MonthFirst };
        let (day, at) = (date(2026, 7, 14), time(22, 5, 0, 0));
        let all = || {
            [
                at.formatted("%H:%M"),
                at.formatted("%H:%M:%S"),
                at.formatted("%H"),
                day.formatted("%a %-d %b"),
                day.formatted("%-d %b %Y"),
                day.formatted("%A %-d %B %Y"),
                day.formatted("%A %-d %B"),
                day.formatted("%A, %-d %B"),
                day.formatted("%-d %B"),
                day.to_zoned(jiff::tz::TimeZone::UTC)
                    .map(|z| z.formatted("%a %-d %b, %H:%M"))
                    .unwrap_or_default(),
            ]
            .join(" | ")
        };
        assert_eq!(
            all(),
            "22:05 | 22:05:00 | 22 | Tue 14 Jul | 14 Jul 2026 | Tuesday 14 July 2026 | Tuesday 14 July | \
             Tuesday, 14 July | 14 July | Tue 14 Jul, 00:00"
        );
        assert_eq!(
            in_habit(us, all),
            "10:05 PM | 10:05:00 PM | 10 PM | Tue Jul 14 | Jul 14, 2026 | Tuesday, July 14, 2026 | Tuesday, July 14 | \
             Tuesday, July 14 | July 14 | Tue Jul 14, 12:00 AM"
        );
    }

    #[test]
    fn a_sentence_is_kept_for_every_reader_and_once_where_all_read_the_same() {
        let us = Habit { clock: Clock::Hours12, dates: DateOrder::MonthFirst };
        let at = || format!("first {}", time(22, 5, 0, 0).formatted("%H:%M"));
        let kept = for_every_habit(at);
        assert_eq!(kept, ["first 22:05", "first 22:05", "first 10:05 PM", "first 10:05 PM"]);
        assert_eq!(in_own_words(&kept), "first 22:05");
        assert_eq!(in_habit(us, || in_own_words(&kept).to_owned()), "first 10:05 PM");
        let plain = for_every_habit(|| "nothing runs".to_owned());
        assert_eq!(
            (plain.len(), in_habit(us, || in_own_words(&plain).to_owned())),
            (1, "nothing runs".into())
        );
        assert_eq!(in_own_words(&[]), "");
    }
}

//! On which dates a program runs.

use crate::quantity::time::{WEEKDAYS, weekday_index};
use jiff::civil::Date;

/// How a program chooses its days.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Days {
    /// Days of the week, Monday first.
    Weekdays([bool; 7]),
    /// Odd dates. The 31st is followed by the 1st, two odd dates on end.
    Odd,
    /// Even dates.
    Even,
    /// Every n-th day, counted from a first day; never before it.
    EveryNth {
        /// The interval, at least 1.
        interval: u8,
        /// The day it is counted from.
        first: Date,
    },
}

impl Days {
    /// Whether the pattern alone admits a date.
    #[must_use]
    pub fn admits(&self, date: Date) -> bool {
        match self {
            Self::Weekdays(week) => week.get(weekday_index(date)).copied().unwrap_or(false),
            Self::Odd => date.day() % 2 == 1,
            Self::Even => date.day() % 2 == 0,
            Self::EveryNth { interval, first } => {
                let since = (date - *first).get_days();
                since >= 0 && since % i32::from((*interval).max(1)) == 0
            }
        }
    }
}

/// Whether a program with these days runs on a date of a controller with these never-days (Monday first).
#[must_use]
pub fn runs_on(days: Days, never: [bool; 7], date: Date) -> bool {
    let forbidden = never.get(weekday_index(date)).copied().unwrap_or(false);
    days.admits(date) && !forbidden
}

/// Days as a reader says them: "Mon, Wed, Fri", "odd dates", "every 3rd day from 1 Jul 2026".
#[must_use]
pub fn days_in_words(days: Days) -> String {
    days_in_words_by(days, |date| date.strftime("%-d %b %Y").to_string())
}

/// The letters behind a number that counts: the "rd" of 3rd.
#[must_use]
pub const fn ordinal_ending(n: u8) -> &'static str {
    match (n % 10, n % 100) {
        (_, 11..=13) => "th",
        (1, _) => "st",
        (2, _) => "nd",
        (3, _) => "rd",
        _ => "th",
    }
}

/// The same with dates as its reader writes them.
#[must_use]
pub fn days_in_words_by(days: Days, write: impl Fn(Date) -> String) -> String {
    match days {
        Days::Weekdays(week) if week == [true; 7] => "every day of the week".to_owned(),
        Days::Weekdays(week) if week == [false; 7] => "no day".to_owned(),
        Days::Weekdays(week) => {
            WEEKDAYS.iter().zip(week).filter(|(_, on)| *on).map(|(n, _)| *n).collect::<Vec<_>>().join(", ")
        }
        Days::Odd => "odd dates".to_owned(),
        Days::Even => "even dates".to_owned(),
        Days::EveryNth { interval, first } => {
            let nth = match interval {
                0 | 1 => "every day".to_owned(),
                n => format!("every {n}{} day", ordinal_ending(n)),
            };
            format!("{nth} from {}", write(first))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    const FREE: [bool; 7] = [false; 7];

    #[test]
    fn odd_days_run_twice_on_end_at_the_seam_of_a_month() {
        assert!(runs_on(Days::Odd, FREE, date(2026, 7, 31)) && runs_on(Days::Odd, FREE, date(2026, 8, 1)));
        assert!(
            !runs_on(Days::Even, FREE, date(2026, 7, 31)) && !runs_on(Days::Even, FREE, date(2026, 8, 1))
        );
        assert!(runs_on(Days::Odd, FREE, date(2028, 2, 29)) && runs_on(Days::Odd, FREE, date(2028, 3, 1)));
    }

    #[test]
    fn days_are_said_as_people_say_them() {
        let nth = |interval| days_in_words(Days::EveryNth { interval, first: date(2026, 7, 1) });
        assert_eq!(
            days_in_words(Days::Weekdays([true, false, true, false, true, false, false])),
            "Mon, Wed, Fri"
        );
        assert_eq!(days_in_words(Days::Weekdays([true; 7])), "every day of the week");
        assert_eq!(days_in_words(Days::Weekdays([false; 7])), "no day");
        assert_eq!(
            (days_in_words(Days::Odd), days_in_words(Days::Even)),
            ("odd dates".into(), "even dates".into())
        );
        assert_eq!(nth(1), "every day from 1 Jul 2026");
        for (n, words) in [
            (2, "2nd"),
            (3, "3rd"),
            (4, "4th"),
            (11, "11th"),
            (12, "12th"),
            (13, "13th"),
            (21, "21st"),
            (22, "22nd"),
            (23, "23rd"),
        ] {
            assert_eq!(nth(n), format!("every {words} day from 1 Jul 2026"));
        }
    }

    #[test]
    fn every_nth_day_keeps_its_count_over_months_and_begins_at_its_first() {
        let days = Days::EveryNth { interval: 3, first: date(2026, 7, 30) };
        let runs: Vec<_> = (27..=31)
            .map(|d| date(2026, 7, d))
            .chain((1..=5).map(|d| date(2026, 8, d)))
            .filter(|d| runs_on(days, FREE, *d))
            .collect();
        assert_eq!(runs, [date(2026, 7, 30), date(2026, 8, 2), date(2026, 8, 5)]);
    }

    #[test]
    fn a_never_day_wins_over_every_mode() {
        let mut never = FREE;
        never[0] = true; // Monday
        let monday = date(2026, 7, 13);
        for days in [Days::Weekdays([true; 7]), Days::Odd, Days::EveryNth { interval: 1, first: monday }] {
            assert!(!runs_on(days, never, monday));
            assert!(runs_on(days, FREE, monday));
        }
    }
}

//! The part of a night that a law leaves open.

use super::ordinance::{Law, Subject, merged};
use super::windows::Windows;
use crate::quantity::span::TimeSpan;
use jiff::ToSpan;
use jiff::civil::Date;
use jiff::tz::TimeZone;

/// The spans of the night that begins on an evening in which a subject may run: its windows without what the law
/// forbids, in order. Empty when nothing is left.
#[must_use]
pub fn open_spans(
    law: &Law,
    subject: Subject,
    evening: Date,
    windows: Windows,
    tz: &TimeZone,
) -> Vec<TimeSpan> {
    let spans = windows.spans(evening, tz);
    if law.applied.is_empty() {
        return spans;
    }
    let last = evening.checked_add(2.days()).unwrap_or(evening);
    let closed = merged(&law.forbidden(Some(subject), evening, last, tz));
    let mut open = Vec::new();
    for span in spans {
        let mut from = span.from;
        for shut in closed.iter().filter(|shut| shut.meets(span)) {
            if shut.from > from {
                open.push(TimeSpan::new(from, shut.from));
            }
            from = from.max(shut.until);
        }
        if from < span.until {
            open.push(TimeSpan::new(from, span.until));
        }
    }
    open
}

/// The longest of some spans; the earliest among equals.
#[must_use]
pub fn longest(spans: &[TimeSpan]) -> Option<TimeSpan> {
    spans.iter().copied().rev().max_by_key(|span| span.duration())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::ordinance::{AllowedDays, samples};
    use crate::ground::application::HeadType;
    use crate::quantity::time::Hours;
    use jiff::civil::{date, time};

    fn law(days: AllowedDays, hours: &[(i8, i8)]) -> Law {
        let forbidden =
            hours.iter().map(|(a, b)| Hours { from: time(*a, 0, 0, 0), until: time(*b, 0, 0, 0) }).collect();
        samples::law(samples::ban(days, forbidden))
    }

    fn spans(law: &Law, head: HeadType, from: i8, until: i8) -> Vec<String> {
        let window = Hours { from: time(from, 0, 0, 0), until: time(until, 0, 0, 0) };
        let subject = Subject { controller_number: 1, station: 1, head: Some(head) };
        let open = open_spans(law, subject, date(2026, 7, 14), Windows::only(window), &TimeZone::UTC);
        let clock = |at: jiff::Timestamp| at.strftime("%d %H").to_string();
        open.into_iter().map(|span| format!("{}-{}", clock(span.from), clock(span.until))).collect()
    }

    #[test]
    fn a_forbidden_hour_cuts_the_window_and_drip_may_be_free_of_it() {
        let law = law(AllowedDays::Any, &[(3, 5)]);
        assert_eq!(spans(&law, HeadType::Spray, 2, 6), ["15 02-15 03", "15 05-15 06"]);
        assert_eq!(spans(&law, HeadType::Drip, 2, 6), ["15 02-15 06"]);
        assert_eq!(spans(&Law::default(), HeadType::Spray, 22, 4), ["14 22-15 04"]);
    }

    #[test]
    fn a_forbidden_date_leaves_the_other_side_of_midnight() {
        let odd = law(AllowedDays::OddDates, &[]);
        assert_eq!(spans(&odd, HeadType::Spray, 22, 4), ["15 00-15 04"], "the 14th is even");
        assert_eq!(spans(&odd, HeadType::Spray, 2, 6), ["15 02-15 06"]);
        let even = law(AllowedDays::EvenDates, &[]);
        assert_eq!(
            spans(&even, HeadType::Spray, 2, 6),
            Vec::<String>::new(),
            "the night of the 14th is the 15th"
        );
        assert_eq!(spans(&even, HeadType::Spray, 22, 4), ["14 22-15 00"]);
    }

    #[test]
    fn the_longest_span_counts_and_the_earlier_of_two_alike() {
        let at = |h: i64| jiff::Timestamp::from_second(h * 3600).unwrap();
        let spans = [(0, 1), (2, 4), (5, 7)].map(|(from, until)| TimeSpan::new(at(from), at(until)));
        assert_eq!(longest(&spans), Some(spans[1]));
        assert_eq!(longest(&[]), None);
    }
}

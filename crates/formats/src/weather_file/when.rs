//! Dates and times as strange files write them.

use crate::table::is_recent;
use jiff::civil::{Date, DateTime};
use jiff::tz::Offset;
use serde::{Deserialize, Serialize};

/// Order of the parts of a date.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DateOrder {
    /// 2026-07-04 or 20260704.
    YearFirst,
    /// 04.07.2026.
    DayFirst,
    /// 07/04/2026.
    MonthFirst,
}

/// A stamp as written: local date and time, with the offset when the text carries one.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Stamp {
    pub local: DateTime,
    pub offset: Option<Offset>,
}

/// The groups of digits of a text.
fn digits(text: &str) -> Vec<&str> {
    text.split(|c: char| !c.is_ascii_digit()).filter(|g| !g.is_empty()).collect()
}

fn date_of(parts: [&str; 3], order: DateOrder) -> Option<Date> {
    let [a, b, c] = parts;
    let (y, m, d) = match order {
        DateOrder::YearFirst => (a, b, c),
        DateOrder::DayFirst => (c, b, a),
        DateOrder::MonthFirst => (c, a, b),
    };
    let year: i16 = y.parse().ok()?;
    // Two digits: the century that makes a record, not a prophecy.
    let year = if y.len() == 2 { year + if year < 50 { 2000 } else { 1900 } } else { year };
    Date::new(year, m.parse().ok()?, d.parse().ok()?).ok().filter(|date| is_recent(*date))
}

/// A date without its time; also eight digits in a row.
pub(super) fn date(text: &str, order: DateOrder) -> Option<Date> {
    let groups = digits(text);
    match groups.as_slice() {
        [only] if only.len() == 8 && order == DateOrder::YearFirst => {
            date_of([only.get(0..4)?, only.get(4..6)?, only.get(6..8)?], order)
        }
        [a, b, c, ..] => date_of([a, b, c], order),
        _ => None,
    }
}

/// A time of day: `13`, `13:00`, `1300`, with 24 as the end of the day. Hours and minutes.
pub(super) fn clock(text: &str) -> Option<(i8, i8)> {
    let groups = digits(text);
    let afternoon = text.to_ascii_lowercase().contains("pm");
    let morning = text.to_ascii_lowercase().contains("am");
    let (hour, minute): (i8, i8) = match groups.as_slice() {
        [only] if only.len() == 4 => (only.get(0..2)?.parse().ok()?, only.get(2..4)?.parse().ok()?),
        [only] if only.len() == 3 => (only.get(0..1)?.parse().ok()?, only.get(1..3)?.parse().ok()?),
        [hour] => (hour.parse().ok()?, 0),
        [hour, minute, ..] => (hour.parse().ok()?, minute.parse().ok()?),
        [] => return None,
    };
    let hour = if afternoon && hour < 12 {
        hour + 12
    } else if morning && hour == 12 {
        0
    } else {
        hour
    };
    ((0..=24).contains(&hour) && (0..60).contains(&minute) && (hour < 24 || minute == 0))
        .then_some((hour, minute))
}

/// A date and time in one or two cells.
pub(super) fn stamp(date_text: &str, time_text: Option<&str>, order: DateOrder) -> Option<Stamp> {
    let (day, time) = match time_text {
        Some(time) => (date_text, time),
        None => {
            let cut = date_text.find(['T', ' '])?;
            (date_text.get(..cut)?, date_text.get(cut + 1..)?.trim())
        }
    };
    let date = date(day, order)?;
    let (time, offset) = split_offset(time);
    let (hour, minute) = clock(time)?;
    let (date, hour) = if hour == 24 { (date.tomorrow().ok()?, 0) } else { (date, hour) };
    Some(Stamp { local: date.at(hour, minute, 0, 0), offset })
}

/// Cuts `Z`, `+02:00` or `-0700` off a time.
fn split_offset(time: &str) -> (&str, Option<Offset>) {
    if let Some(rest) = time.strip_suffix(['Z', 'z']) {
        return (rest, Some(Offset::UTC));
    }
    let Some(at) = time.rfind(['+', '-']).filter(|at| *at > 0) else { return (time, None) };
    let (clock, tail) = time.split_at(at);
    let sign = if tail.starts_with('-') { -1 } else { 1 };
    let numbers = tail.get(1..).unwrap_or_default().replace(':', "");
    let parts = match numbers.len() {
        2 => numbers.parse::<i32>().ok().map(|h| (h, 0)),
        4 => {
            numbers.get(0..2).and_then(|h| h.parse().ok()).zip(numbers.get(2..4).and_then(|m| m.parse().ok()))
        }
        _ => None,
    };
    match parts.and_then(|(h, m): (i32, i32)| Offset::from_seconds(sign * (h * 3600 + m * 60)).ok()) {
        Some(offset) => (clock, Some(offset)),
        None => (time, None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date as on;

    #[test]
    fn dates_as_people_write_them() {
        assert_eq!(date("2026-07-04", DateOrder::YearFirst), Some(on(2026, 7, 4)));
        assert_eq!(date("20260704", DateOrder::YearFirst), Some(on(2026, 7, 4)));
        assert_eq!(date("04.07.2026", DateOrder::DayFirst), Some(on(2026, 7, 4)));
        assert_eq!(date("07/04/26", DateOrder::MonthFirst), Some(on(2026, 7, 4)));
        assert_eq!(date("7/4/98", DateOrder::MonthFirst), Some(on(1998, 7, 4)));
        assert_eq!(date("13/40/2026", DateOrder::MonthFirst), None);
        assert_eq!(date("soon", DateOrder::YearFirst), None);
    }

    #[test]
    fn times_as_people_write_them() {
        for (text, expected) in [
            ("13:05", Some((13, 5))),
            ("1305", Some((13, 5))),
            ("900", Some((9, 0))),
            ("7", Some((7, 0))),
            ("24:00", Some((24, 0))),
            ("12:30 AM", Some((0, 30))),
            ("1:15 pm", Some((13, 15))),
            ("24:30", None),
            ("25", None),
            ("", None),
        ] {
            assert_eq!(clock(text), expected, "{text}");
        }
    }

    #[test]
    fn stamps_in_one_cell_or_two() {
        let one = stamp("2026-07-04T13:00:00+02:00", None, DateOrder::YearFirst).unwrap();
        assert_eq!(
            (one.local, one.offset.map(|o| o.seconds())),
            (on(2026, 7, 4).at(13, 0, 0, 0), Some(7200))
        );
        let two = stamp("12/31/1980", Some("24:00"), DateOrder::MonthFirst).unwrap();
        assert_eq!((two.local, two.offset), (on(1981, 1, 1).at(0, 0, 0, 0), None));
        assert_eq!(
            stamp("2026-07-04 06:00 -0730", None, DateOrder::YearFirst).unwrap().offset.unwrap().seconds(),
            -27_000
        );
        assert_eq!(stamp("2026-07-04", None, DateOrder::YearFirst), None, "no time");
    }
}

//! Dates, and days that come every year.

use super::{DateOrder, Habit, Read, Reading, Refusal, one_of, refused, time_of_day, trimmed};
use jiff::civil::{Date, DateTime, Weekday};
use jiff::{Span, ToSpan};
use upland_core::quantity::month::Month;

/// Years that a typed day may lie in.
pub(super) const YEARS: core::ops::RangeInclusive<i16> = 1900..=2200;

/// A year with a 29 February.
const LEAP: i16 = 2000;

fn takes(habit: Habit) -> &'static str {
    match habit.dates {
        DateOrder::DayFirst => "a date; write 14 Jul, 14/7/2026, 2026-07-14 or in 4 days",
        DateOrder::MonthFirst => "a date; write Jul 14, 7/14/2026, 2026-07-14 or in 4 days",
    }
}

fn month_of(word: &str) -> Option<i8> {
    let word = word.trim_end_matches('.');
    let is = |month: &Month| {
        let name = month.name().to_lowercase();
        word.len() >= 3 && name.starts_with(word) || word == "sept" && *month == Month::September
    };
    Month::ALL.into_iter().find(is).map(Month::number)
}

/// A day of the week by three letters or more, or two.
pub(super) fn weekday_of(word: &str) -> Option<Weekday> {
    const NAMES: [&str; 7] = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];
    let at = NAMES.iter().position(|name| word.len() >= 2 && name.starts_with(word))?;
    Weekday::from_monday_zero_offset(i8::try_from(at).ok()?).ok()
}

/// What a date text says: year where it has one, month, day.
type Parts = (Option<i16>, i8, i8);

fn small(text: &str) -> Option<i8> {
    ((1..=2).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_digit()))
        .then(|| text.parse().ok())
        .flatten()
}

fn year_of(text: &str) -> Option<i16> {
    let plain = text.bytes().all(|b| b.is_ascii_digit());
    match text.len() {
        4 if plain => text.parse().ok().filter(|y| YEARS.contains(y)),
        2 if plain => text.parse::<i16>().ok().map(|y| 2000 + y),
        _ => None,
    }
}

fn valid((year, month, day): Parts) -> bool {
    Date::new(year.unwrap_or(LEAP), month, day).is_ok()
}

/// "14 Jul 2026", "Jul 14, 2026", "14. July".
fn with_name(typed: &str) -> Option<Parts> {
    let words: Vec<&str> = typed.split([' ', ',', '-', '/']).filter(|w| !w.is_empty()).collect();
    let (a, b, year) = match words.as_slice() {
        [a, b] => (*a, *b, None),
        [a, b, year] => (*a, *b, Some(year_of(year)?)),
        _ => return None,
    };
    let day = |word: &str| {
        let bare = word.trim_end_matches('.');
        small(["st", "nd", "rd", "th"].iter().find_map(|e| bare.strip_suffix(e)).unwrap_or(bare))
    };
    let (month, day) = match (month_of(a), month_of(b)) {
        (Some(month), None) => (month, day(b)?),
        (None, Some(month)) => (month, day(a)?),
        _ => return None,
    };
    Some((year, month, day)).filter(|p| valid(*p))
}

/// Every way in which numbers alone are a date, the reader's own first.
fn with_numbers(typed: &str, habit: Habit) -> Vec<Parts> {
    let by = |c: char| matches!(c, '/' | '.' | '-');
    let words: Vec<&str> = typed.trim_end_matches('.').split(by).collect();
    let (a, b, year) = match words.as_slice() {
        [year, month, day] if year.len() == 4 => {
            let parts = year_of(year).zip(small(month)).zip(small(day));
            return parts.map(|((y, m), d)| (Some(y), m, d)).filter(|p| valid(*p)).into_iter().collect();
        }
        [a, b] => (*a, *b, None),
        [a, b, year] => match year_of(year) {
            Some(year) => (*a, *b, Some(year)),
            None => return Vec::new(),
        },
        _ => return Vec::new(),
    };
    let Some((a, b)) = small(a).zip(small(b)) else { return Vec::new() };
    let (own, other) = match habit.dates {
        DateOrder::DayFirst => ((year, b, a), (year, a, b)),
        DateOrder::MonthFirst => ((year, a, b), (year, b, a)),
    };
    let mut found: Vec<Parts> = [own, other].into_iter().filter(|p| valid(*p)).collect();
    // A bare 05-06 is month and day in one standard and day and month in many countries; strokes and points follow
    // the reader's habit.
    if !(typed.contains('-') && year.is_none()) {
        found.truncate(1);
    }
    found
}

/// The date of that month and day nearest to a day.
fn nearest(month: i8, day: i8, to: Date) -> Option<Date> {
    let years = (-4..=4).filter_map(|k| to.year().checked_add(k));
    years.filter_map(|year| Date::new(year, month, day).ok()).min_by_key(|date| {
        let days = to.until(*date).map_or(i32::MAX, |span| span.get_days());
        (days.abs(), days < 0)
    })
}

/// "today", "in 4 days", "2 left", "3 weeks ago"; a day of the week is the next of its name.
fn spoken(typed: &str, today: Date, habit: Habit) -> Option<Vec<(Date, Reading)>> {
    let reading = |date: Date| {
        let text = write_date(date, habit);
        (date, Reading { means: format!("{} {text}", date.strftime("%a")), text })
    };
    let by = |span: Span| today.checked_add(span).ok().filter(|d| YEARS.contains(&d.year())).map(reading);
    let one = |found: Option<(Date, Reading)>| found.map(|f| vec![f]);
    match typed {
        "today" | "now" => return one(by(0.days())),
        "tomorrow" => return one(by(1.day())),
        "yesterday" => return one(by((-1).days())),
        _ => {}
    }
    if let Some(day) = weekday_of(typed) {
        let ahead = today.weekday().until(day);
        return if ahead == 0 {
            Some([by(0.days()), by(7.days())].into_iter().flatten().collect())
        } else {
            one(by(i64::from(ahead).days()))
        };
    }
    let words: Vec<&str> = typed.split_whitespace().collect();
    let (count, unit, sign) = match words.as_slice() {
        ["in", count, unit] => (*count, *unit, 1),
        [count, unit, "ago"] => (*count, *unit, -1),
        [count, "left"] | [count, "days", "left"] | [count, "day", "left"] => (*count, "days", 1),
        _ => return None,
    };
    let count: i64 = match count {
        "a" | "one" => 1,
        count => count.parse().ok().filter(|n| (0..=3660).contains(n))?,
    };
    match unit {
        "d" | "day" | "days" => one(by((sign * count).days())),
        "w" | "week" | "weeks" => one(by((sign * count).weeks())),
        "month" | "months" => one(by((sign * count).months())),
        _ => None,
    }
}

/// A date: "2026-07-14", "14 Jul 2026", "Jul 14", "14/7" in the reader's order, "today", "in 4 days", "mon". Without
/// a year it is the nearest such day.
///
/// # Errors
/// What cannot be read, years outside 1900 to 2200, and what can be read in two ways.
pub fn date(text: &str, today: Date, habit: Habit) -> Read<Date> {
    let takes = takes(habit);
    let Some(typed) = trimmed(text) else { return refused(text, takes) };
    if let Some(found) = spoken(&typed, today, habit) {
        return one_of(text, found, takes);
    }
    let parts = with_name(&typed).map_or_else(|| with_numbers(&typed, habit), |p| vec![p]);
    let dates = parts.into_iter().filter_map(|(year, month, day)| match year {
        Some(year) => Date::new(year, month, day).ok(),
        None => nearest(month, day, today),
    });
    let found = dates.map(|date| {
        let text = write_date(date, habit);
        (date, Reading { means: text.clone(), text })
    });
    one_of(text, found.collect(), takes)
}

/// A month and a day of every year: "1 Nov", "Nov 1", "1/11" in the reader's order.
///
/// # Errors
/// What cannot be read, and what can be read in two ways.
pub fn month_day(text: &str, habit: Habit) -> Read<(i8, i8)> {
    let takes = match habit.dates {
        DateOrder::DayFirst => "a day of the year; write 1 Nov or 1/11",
        DateOrder::MonthFirst => "a day of the year; write Nov 1 or 11/1",
    };
    let Some(typed) = trimmed(text) else { return refused(text, takes) };
    let parts = with_name(&typed).map_or_else(|| with_numbers(&typed, habit), |p| vec![p]);
    let found = parts.into_iter().filter(|(year, ..)| year.is_none()).map(|(_, month, day)| {
        let text = write_month_day(month, day, habit);
        ((month, day), Reading { means: text.clone(), text })
    });
    one_of(text, found.collect(), takes)
}

/// Several dates of one text: with semicolons or new lines between them, or with commas where no date has one.
#[must_use]
pub fn date_parts(text: &str, today: Date, habit: Habit) -> Vec<&str> {
    let commas = !text.contains(';') && date(text, today, habit).is_err();
    let parts = text.split(['\n', if commas { ',' } else { ';' }]);
    parts.map(str::trim).filter(|part| !part.is_empty()).collect()
}

/// "14 Jul 2026", or "Jul 14, 2026".
#[must_use]
pub fn write_date(date: Date, habit: Habit) -> String {
    date.strftime(match habit.dates {
        DateOrder::DayFirst => "%-d %b %Y",
        DateOrder::MonthFirst => "%b %-d, %Y",
    })
    .to_string()
}

/// "1 Nov", or "Nov 1".
#[must_use]
pub fn write_month_day(month: i8, day: i8, habit: Habit) -> String {
    let format = match habit.dates {
        DateOrder::DayFirst => "%-d %b",
        DateOrder::MonthFirst => "%b %-d",
    };
    Date::new(LEAP, month, day).map_or(String::new(), |d| d.strftime(format).to_string())
}

/// A day and a time of it: "2026-07-14 18:00", "14 Jul 6 pm", "yesterday 18:00"; a time alone is today's.
///
/// # Errors
/// As [`date`] and [`super::time_of_day`].
pub fn date_and_time(text: &str, today: Date, habit: Habit) -> Read<DateTime> {
    const TAKES: &str = "a day and a time; write 14 Jul 18:00, or 2026-07-14 6 pm";
    let typed = text.trim();
    if let Some((day, at)) = typed.split_once('T').filter(|(day, _)| day.len() == 10) {
        let at = at.get(..5).filter(|_| at.len() == 8 && at.ends_with(":00")).unwrap_or(at);
        return Ok(date(day, today, habit)?.to_datetime(time_of_day(at, habit)?));
    }
    let ends: Vec<usize> = typed.match_indices([' ', '\t']).map(|(at, _)| at).collect();
    let mut asked = None;
    for at in ends.into_iter().rev().take(2) {
        let (day, time) = typed.split_at(at);
        match (date(day.trim_end_matches(','), today, habit), time_of_day(time, habit)) {
            (Ok(day), Ok(time)) => return Ok(day.to_datetime(time)),
            (Err(two @ Refusal::TwoWays(..)), Ok(_)) | (Ok(_), Err(two @ Refusal::TwoWays(..))) => {
                asked = Some(two);
            }
            _ => {}
        }
    }
    if let Some(two) = asked {
        return Err(two);
    }
    time_of_day(typed, habit).map(|time| today.to_datetime(time)).or_else(|_| refused(text, TAKES))
}

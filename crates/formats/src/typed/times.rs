//! Times of day.

use super::{Clock, Habit, Read, Reading, one_of, refused, trimmed};
use jiff::civil::Time;

fn takes(habit: Habit) -> &'static str {
    match habit.clock {
        Clock::Hours24 => "a time of day; write 03:00 or 3 am",
        Clock::Hours12 => "a time of day; write 3:00 AM or 03:00",
    }
}

/// A time of day: "03:00", "3:00", "0300", "3.00", "3 AM", "3:00am", "noon", "midnight".
///
/// # Errors
/// What cannot be read; and for whoever reads twelve hours, "3:00" without AM or PM.
pub fn time_of_day(text: &str, habit: Habit) -> Read<Time> {
    let takes = takes(habit);
    let Some(typed) = trimmed(text) else { return refused(text, takes) };
    match typed.as_str() {
        "noon" => return Ok(Time::constant(12, 0, 0, 0)),
        "midnight" => return Ok(Time::midnight()),
        _ => {}
    }
    let (digits, half) = halved(&typed);
    let Some((hour, minute)) = hour_and_minute(digits) else { return refused(text, takes) };
    let at = |hour: i8| Time::new(hour, minute, 0, 0).ok();
    let found = match half {
        Some(afternoon) if (1..=12).contains(&hour) => at(hour % 12 + if afternoon { 12 } else { 0 }),
        Some(_) => None,
        None if habit.clock == Clock::Hours12 && (1..=12).contains(&hour) && !digits.starts_with('0') => {
            let both = [at(hour % 12), at(hour % 12 + 12)].into_iter().flatten();
            let found = both.map(|time| {
                let text = write_time(time, habit);
                (time, Reading { means: text.clone(), text })
            });
            return one_of(text, found.collect(), takes);
        }
        None => at(hour),
    };
    found.map_or_else(|| refused(text, takes), Ok)
}

/// The digits of a time, and whether it says afternoon.
fn halved(typed: &str) -> (&str, Option<bool>) {
    for (ending, afternoon) in
        [("a.m.", false), ("p.m.", true), ("am", false), ("pm", true), ("a", false), ("p", true)]
    {
        if let Some(digits) = typed.strip_suffix(ending) {
            return (digits.trim_end(), Some(afternoon));
        }
    }
    (typed, None)
}

/// "3", "03", "3:00", "3.00", "300", "0300".
fn hour_and_minute(text: &str) -> Option<(i8, i8)> {
    let number = |text: &str, most: usize| {
        let right = (1..=most).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_digit());
        right.then(|| text.parse::<i8>().ok()).flatten()
    };
    if let Some((hour, minute)) = text.split_once([':', '.', 'h']) {
        return (minute.len() == 2).then(|| number(hour, 2).zip(number(minute, 2))).flatten();
    }
    match text.len() {
        1 | 2 => number(text, 2).map(|hour| (hour, 0)),
        3 | 4 if text.is_ascii() => {
            let (hour, minute) = text.split_at(text.len() - 2);
            number(hour, 2).zip(number(minute, 2))
        }
        _ => None,
    }
}

/// Several times, with spaces, commas or "and" between them.
///
/// # Errors
/// As [`time_of_day`], for the first that cannot be taken.
pub fn times(text: &str, habit: Habit) -> Read<Vec<Time>> {
    let mut words: Vec<String> = Vec::new();
    let parts = text.split(|c: char| c.is_whitespace() || matches!(c, ',' | ';')).filter(|w| !w.is_empty());
    for word in parts {
        let half = matches!(word.to_lowercase().as_str(), "am" | "pm" | "a" | "p" | "a.m." | "p.m.");
        match words.last_mut() {
            Some(last) if half => last.push_str(word),
            _ if word.eq_ignore_ascii_case("and") || word == "+" => {}
            _ => words.push(word.to_owned()),
        }
    }
    words.iter().map(|word| time_of_day(word, habit)).collect()
}

/// "03:00", or "3:00 AM".
#[must_use]
pub fn write_time(time: Time, habit: Habit) -> String {
    time.strftime(match habit.clock {
        Clock::Hours24 => "%H:%M",
        Clock::Hours12 => "%-I:%M %p",
    })
    .to_string()
}

/// The hour alone, as an axis says it: "03", or "3 AM".
#[must_use]
pub fn write_hour(time: Time, habit: Habit) -> String {
    time.strftime(match habit.clock {
        Clock::Hours24 => "%H",
        Clock::Hours12 => "%-I %p",
    })
    .to_string()
}

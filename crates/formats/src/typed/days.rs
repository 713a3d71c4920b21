//! Which days a program waters.

use super::dates::weekday_of;
use super::{Habit, Read, date, refused, trimmed, write_date};
use jiff::civil::Date;
use upland_core::controller::schedule::{Days, ordinal_ending};
use upland_core::quantity::time::WEEKDAYS;

const TAKES: &str = "days; write mon wed fri, mon-fri, odd, even, or every 3rd day, 2 left";

/// Days of a program: "mon wed fri", "mon-fri", "every day", "odd", "even", "every 3rd day, 2 left", "every other
/// day from 14 Jul". Without more the count begins today.
///
/// # Errors
/// What cannot be read.
pub fn days(text: &str, today: Date, habit: Habit) -> Read<Days> {
    let Some(typed) = trimmed(text) else { return refused(text, TAKES) };
    match typed.as_str() {
        "odd" | "odd dates" | "odd days" => return Ok(Days::Odd),
        "even" | "even dates" | "even days" => return Ok(Days::Even),
        "daily" | "every day" | "all" | "all days" => return Ok(Days::Weekdays([true; 7])),
        "off" | "none" | "no days" | "never" => return Ok(Days::Weekdays([false; 7])),
        _ => {}
    }
    if let Some(rest) = typed.strip_prefix("every ") {
        return every(rest, today, habit).map_or_else(|| refused(text, TAKES), Ok);
    }
    week(&typed)
        .or_else(|| letters(&typed))
        .map_or_else(|| refused(text, TAKES), |week| Ok(Days::Weekdays(week)))
}

/// Days by their letters, in the order of the week: "m w f", "mwf", "mtwtf", "tth". Of two days that share a letter the
/// one that comes next in the week is meant; a t or an s by itself says neither.
pub(super) fn letters(typed: &str) -> Option<[bool; 7]> {
    const LETTERS: [char; 7] = ['m', 't', 'w', 't', 'f', 's', 's'];
    let compact: String = typed.chars().filter(|c| !matches!(c, ' ' | ',' | '/' | '+' | '-' | '.')).collect();
    // "th" and "su" say which; so do the letters r and u that some write for them.
    let compact = compact.replace("th", "r").replace("su", "u").replace("sa", "s");
    let mut week = [false; 7];
    let mut from = 0;
    for letter in compact.chars() {
        let (letter, least) = match letter {
            'r' => ('t', 3),
            'u' => ('s', 6),
            letter => (letter, 0),
        };
        let at = (from.max(least)..7).find(|k| LETTERS.get(*k) == Some(&letter))?;
        *week.get_mut(at)? = true;
        from = at + 1;
    }
    let said = week.iter().filter(|on| **on).count();
    let alone = said == 1 && matches!(compact.as_str(), "t" | "s");
    (said > 0 && !alone).then_some(week)
}

/// "3rd day, 2 left", "3 days from 14 Jul", "other day".
fn every(rest: &str, today: Date, habit: Habit) -> Option<Days> {
    let (count, rest) = rest.split_once(' ')?;
    let interval: u8 = match count {
        "other" | "second" => 2,
        "third" => 3,
        count => count
            .trim_end_matches(|c: char| c.is_alphabetic())
            .parse()
            .ok()
            .filter(|n| (1..=31).contains(n))?,
    };
    let rest = rest.strip_prefix("days").or_else(|| rest.strip_prefix("day"))?;
    let rest = rest.trim_start_matches([',', ' ']);
    let rest = rest.strip_prefix("from ").or_else(|| rest.strip_prefix("next ")).unwrap_or(rest);
    let first = if rest.is_empty() { today } else { date(rest, today, habit).ok()? };
    Some(Days::EveryNth { interval, first })
}

/// Names of days and spans of them.
pub(super) fn week(typed: &str) -> Option<[bool; 7]> {
    let mut week = [false; 7];
    let at = |word: &str| weekday_of(word).map(|d| usize::from(d.to_monday_zero_offset().unsigned_abs()));
    for word in typed.split([' ', ',', ';', '+', '/']).filter(|w| !w.is_empty() && *w != "and") {
        let (from, until) = match word.split_once(['-', '–']) {
            Some((from, until)) => (at(from)?, at(until)?),
            None => (at(word)?, at(word)?),
        };
        let mut day = from;
        loop {
            *week.get_mut(day)? = true;
            if day == until {
                break;
            }
            day = (day + 1) % 7;
        }
    }
    week.contains(&true).then_some(week)
}

/// "Mon Wed Fri", "odd", "every 3rd day from 14 Jul 2026": as it is read back.
#[must_use]
pub fn write_days(days: Days, habit: Habit) -> String {
    match days {
        Days::Weekdays(week) if week == [true; 7] => "every day".into(),
        Days::Weekdays(week) => {
            let on = WEEKDAYS.into_iter().zip(week).filter(|(_, on)| *on).map(|(name, _)| name);
            on.collect::<Vec<_>>().join(" ")
        }
        Days::Odd => "odd".into(),
        Days::Even => "even".into(),
        Days::EveryNth { interval, first } => {
            format!("every {interval}{} day from {}", ordinal_ending(interval), write_date(first, habit))
        }
    }
}

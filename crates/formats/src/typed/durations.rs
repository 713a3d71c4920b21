//! Lengths of time: run times, cycles, soaks, pauses.

use super::{Read, Reading, Refusal, number, one_of, quantity, refused, trimmed};
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::{Millimetres, MillimetresPerHour};

const TAKES: &str = "a length of time up to a day; write 12, 7 min 30 s or 1 h 15 min";

/// Longest length that is taken, seconds.
const MOST_S: f64 = 86_400.0;

/// How much of an hour, a minute or a second a word stands for.
fn unit_s(word: &str) -> Option<f64> {
    match word {
        "h" | "hr" | "hrs" | "hour" | "hours" => Some(3600.0),
        "m" | "min" | "mins" | "minute" | "minutes" => Some(60.0),
        "s" | "sec" | "secs" | "second" | "seconds" => Some(1.0),
        _ => None,
    }
}

/// A length of time, at most a day: "12" and "7.5" are minutes, "75 min", "1h15", "7m30", "1 h 15 min", "90 s",
/// "1:15:00".
///
/// # Errors
/// What cannot be read, and "1:30", which is hours and minutes to some and minutes and seconds to others.
pub fn duration(text: &str) -> Read<Seconds> {
    let Some(typed) = trimmed(text) else { return refused(text, TAKES) };
    if typed.contains(':') {
        return with_colons(text, &typed);
    }
    if !typed.contains(|c: char| c.is_alphabetic()) {
        let minutes = match number(&typed) {
            // A run of a thousand minutes and more is nobody's: the comma is a decimal one.
            Err(Refusal::TwoWays(_, [decimal, _])) => number(&decimal.text),
            other => other,
        };
        return minutes.ok().and_then(|m| whole(m * 60.0)).map_or_else(|| refused(text, TAKES), Ok);
    }
    pairs(&typed).and_then(whole).map_or_else(|| refused(text, TAKES), Ok)
}

/// A station that a run time is typed for.
#[derive(Debug, Clone, Copy)]
pub struct AtStation<'a> {
    /// The unit of a depth that is typed without one's own, such as "mm".
    pub depth_unit: &'a str,
    /// How fast its zone applies water, if it has one.
    pub rate: Option<MillimetresPerHour>,
    /// The steps in which its controller is set.
    pub step: Seconds,
}

/// A run time: a length of time, or the depth that it is to put down ("1/2 in", "12 mm").
///
/// # Errors
/// As [`duration`]; a depth at a station without a zone, and one that would take more than a day.
pub fn run_time(text: &str, at: AtStation<'_>) -> Read<Seconds> {
    let as_time = duration(text);
    let Err(Refusal::Unreadable(_)) = as_time else { return as_time };
    let Ok(depth) = quantity(text, at.depth_unit) else { return as_time };
    let shown = text.trim();
    let Some(rate) = at.rate.filter(|rate| rate.mm_per_hour() > 0.0) else {
        return Err(Refusal::Unreadable(format!(
            "\"{shown}\" is a depth, and no zone of this station says how fast it applies water; write minutes."
        )));
    };
    let mm =
        if at.depth_unit == "in" { Millimetres::from_inches(depth) } else { Millimetres::from_mm(depth) };
    let seconds = rate.time_for(mm).min_value() * 60.0;
    if !(0.0..=MOST_S).contains(&seconds) {
        return Err(Refusal::Unreadable(format!(
            "\"{shown}\" takes more than a day here; split it over days."
        )));
    }
    let step = at.step.max(Seconds::ONE);
    #[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, reason = "seconds of a day")]
    let steps = (seconds / step.s() as f64).round() as i64;
    Ok(step * steps)
}

fn whole(seconds: f64) -> Option<Seconds> {
    #[allow(clippy::cast_possible_truncation, reason = "bounded")]
    (0.0..=MOST_S).contains(&seconds).then(|| Seconds::from_s(seconds.round() as i64))
}

/// "1 h 15 min": numbers with units, each smaller than the one before; the last may do without.
fn pairs(typed: &str) -> Option<f64> {
    let letter = |c: char| c.is_alphabetic();
    let mut rest = typed.trim();
    let (mut sum, mut last) = (0.0, f64::INFINITY);
    while !rest.is_empty() {
        let end = rest.find(letter).unwrap_or(rest.len());
        let (value, after) = rest.split_at(end);
        let value = number(value).ok().filter(|v| *v >= 0.0)?;
        let end = after.find(|c| !letter(c)).unwrap_or(after.len());
        let (word, after) = after.split_at(end);
        let unit = if word.is_empty() { if last < 3600.0 { 1.0 } else { 60.0 } } else { unit_s(word)? };
        // "1h75" is a slip, and so is a second of nothing.
        if unit >= last || (last.is_finite() && value * unit >= last) {
            return None;
        }
        sum += value * unit;
        last = unit;
        rest = after.trim_start_matches([' ', ',']);
        rest = rest.strip_prefix("and ").unwrap_or(rest).trim_start();
    }
    last.is_finite().then_some(sum)
}

fn with_colons(text: &str, typed: &str) -> Read<Seconds> {
    let parts: Option<Vec<i64>> = typed
        .split(':')
        .map(|p| {
            let p = p.trim();
            ((1..=4).contains(&p.len()) && p.bytes().all(|b| b.is_ascii_digit()))
                .then(|| p.parse().ok())
                .flatten()
        })
        .collect();
    let reading = |seconds: i64| {
        let value = whole(f64::from(i32::try_from(seconds).ok()?))?;
        let text = write_duration(value);
        Some((value, Reading { means: text.clone(), text }))
    };
    let found = match parts.as_deref() {
        Some([h, m, s]) if *m < 60 && *s < 60 => vec![reading(h * 3600 + m * 60 + s)],
        Some([a, b]) if *b < 60 => vec![reading(a * 3600 + b * 60), reading(a * 60 + b)],
        _ => Vec::new(),
    };
    one_of(text, found.into_iter().flatten().collect(), TAKES)
}

/// "1 h 15 min", "12 min", "7 min 30 s": as a person reads it.
#[must_use]
pub fn write_duration(length: Seconds) -> String {
    let all = length.s().abs();
    let parts = [(all / 3600, "h"), (all % 3600 / 60, "min"), (all % 60, "s")];
    let said: Vec<String> =
        parts.into_iter().filter(|(n, _)| *n > 0).map(|(n, unit)| format!("{n} {unit}")).collect();
    if said.is_empty() { "0 min".into() } else { said.join(" ") }
}

/// The same as it stands in a narrow field: minutes alone where there are no seconds ("75"), else "7m30".
#[must_use]
pub fn write_duration_briefly(length: Seconds) -> String {
    match (length.s() / 60, length.s() % 60) {
        (m, 0) => m.to_string(),
        (0, s) => format!("{s}s"),
        (m, s) if m < 60 => format!("{m}m{s:02}"),
        (m, s) => format!("{}h{:02}m{s:02}", m / 60, m % 60),
    }
}

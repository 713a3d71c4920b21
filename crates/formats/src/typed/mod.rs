//! Texts as people type them, and as they read them back: one reader for every field, paste and line.
//!
//! Each kind has a function that reads and one that writes; what is written is read back as the same value. A text
//! that can be read in two ways is never guessed: both readings are returned, each as a text that has one only.

mod dates;
mod days;
mod durations;
mod numbers;
mod program_line;
mod times;
mod units;

pub use dates::{date, date_and_time, date_parts, month_day, write_date, write_month_day};
pub use days::{days, write_days};
pub use durations::{AtStation, duration, run_time, write_duration, write_duration_briefly};
pub use numbers::number;
pub use program_line::{ProgramLine, program_line, write_program_line};
pub use times::{time_of_day, times, write_hour, write_time};
pub use units::{quantity, slope_percent};

/// How a person writes and reads the hours of a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum Clock {
    /// 00:00 to 23:59.
    #[default]
    Hours24,
    /// 12:00 AM to 11:59 PM.
    Hours12,
}

/// Which part of a date a person writes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum DateOrder {
    /// 14 Jul, 14/7.
    #[default]
    DayFirst,
    /// Jul 14, 7/14.
    MonthFirst,
}

/// How a person writes and reads times and dates.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Habit {
    /// Hours of the day.
    pub clock: Clock,
    /// Order of dates.
    pub dates: DateOrder,
}

/// One of the readings of a text that has two.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reading {
    /// What to type instead: it is read in this way only.
    pub text: String,
    /// The reading as a person says it.
    pub means: String,
}

/// Why a text was not taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Refusal {
    /// It says nothing that fits; the sentence says what would.
    Unreadable(String),
    /// It can be read in two ways.
    TwoWays(String, [Reading; 2]),
}

impl core::fmt::Display for Refusal {
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        match self {
            Self::Unreadable(message) => f.write_str(message),
            Self::TwoWays(typed, [a, b]) => {
                write!(f, "\"{typed}\" can be read as {} or as {}. Choose one.", a.means, b.means)
            }
        }
    }
}

impl Refusal {
    /// The readings to choose from; none for a text that cannot be read at all.
    #[must_use]
    pub fn readings(&self) -> &[Reading] {
        match self {
            Self::Unreadable(_) => &[],
            Self::TwoWays(_, readings) => readings,
        }
    }
}

/// What a text says, or why it was not taken.
pub type Read<T> = Result<T, Refusal>;

/// Longest text that is looked at, bytes: nobody types more into a field.
const LONGEST: usize = 200;

/// A text without its edges and in small letters; `None` when it is empty or too long to be meant.
fn trimmed(text: &str) -> Option<String> {
    let text = text.trim();
    (!text.is_empty() && text.len() <= LONGEST).then(|| text.to_lowercase())
}

fn refused<T>(typed: &str, takes: &str) -> Read<T> {
    let shown: String = typed.trim().chars().take(40).collect();
    Err(Refusal::Unreadable(format!("\"{shown}\" is not {takes}.")))
}

/// The only reading, or both where there are two.
fn one_of<T: Clone + PartialEq>(typed: &str, mut found: Vec<(T, Reading)>, takes: &str) -> Read<T> {
    found.dedup_by(|a, b| a.0 == b.0);
    let mut found = found.into_iter();
    match (found.next(), found.next()) {
        (None, _) => refused(typed, takes),
        (Some((value, _)), None) => Ok(value),
        (Some((_, a)), Some((_, b))) => Err(Refusal::TwoWays(typed.trim().to_owned(), [a, b])),
    }
}

#[cfg(test)]
mod tests;

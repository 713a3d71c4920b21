//! The commands, a file each. A wrong file ends with 1 and every problem on standard error,
//! wrong usage with 2; standard output stays empty in both cases.

pub mod account;
mod at_work;
pub mod balance;
pub mod bench;
pub mod budget;
pub mod check;
pub mod diagnose;
pub mod et;
pub mod expand;
pub mod plan;
pub mod replay;
pub mod serve;
pub mod simulate;
pub mod tonight;
pub mod weather;

use jiff::civil::Date;
use std::io::{Read, Write};
use upland_core::quantity::bounds::Bound;

/// How a command failed.
#[derive(Debug)]
pub enum Failure {
    /// The input is wrong, or something outside failed: exit 1.
    Failed(String),
    /// The call is wrong: exit 2.
    Usage(String),
}

impl Failure {
    pub fn code(&self) -> u8 {
        match self {
            Self::Failed(_) => 1,
            Self::Usage(_) => 2,
        }
    }

    /// One line a problem.
    pub fn problems<P: ToString>(problems: &[P]) -> Self {
        Self::Failed(problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
    }
}

impl core::fmt::Display for Failure {
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        match self {
            Self::Failed(text) => f.write_str(text),
            Self::Usage(text) => write!(f, "error: {text}\n\nFor more information, try '--help'."),
        }
    }
}

/// Reads a file whole, or standard input for `-`.
pub fn read_input(path: &str) -> Result<Vec<u8>, Failure> {
    let result = if path == "-" {
        let mut bytes = Vec::new();
        std::io::stdin().read_to_end(&mut bytes).map(|_| bytes)
    } else {
        std::fs::read(path)
    };
    result.map_err(|error| Failure::Failed(format!("{path} cannot be read: {error}")))
}

/// Prints a value as JSON.
pub fn print_json(value: &impl serde::Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(value).map_err(|e| Failure::Failed(e.to_string()))?;
    print(&(text + "\n"))
}

/// Writes to standard output; a closed pipe is the reader's choice and no failure.
pub fn print(text: &str) -> Result<(), Failure> {
    match std::io::stdout().write_all(text.as_bytes()) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            Err(Failure::Failed(format!("standard output cannot be written: {error}")))
        }
        _ => Ok(()),
    }
}

/// Notes do not fail a command; they go to standard error.
pub fn print_notes<P: ToString>(notes: &[P]) {
    for note in notes {
        eprintln!("note: {}", note.to_string());
    }
}

/// A number for an option within its bound; clap shows the error and exits 2.
pub fn bounded(text: &str, bound: &Bound) -> Result<f64, String> {
    let value: f64 = text.parse().map_err(|_| "not a number".to_owned())?;
    bound.check(value).map_err(|error| error.to_string())
}

/// Longest span of dates that a command answers for at once, days.
const MOST_DAYS: i32 = 3660;

/// Whether `--from` and `--to` make a span that a command can answer for.
fn check_span(from: Date, to: Date) -> Result<(), Failure> {
    let days = (to - from).get_days();
    if days < 0 {
        return Err(Failure::Usage("--to lies before --from".into()));
    }
    if days > MOST_DAYS {
        return Err(Failure::Usage(format!(
            "the span is longer than {MOST_DAYS} days; ask for less at a time"
        )));
    }
    Ok(())
}

/// Real time: commands and the server's set-up run in it, pages ask the application's clock.
#[allow(clippy::disallowed_methods, reason = "a command has no other clock")]
pub fn real_time() -> jiff::Timestamp {
    jiff::Timestamp::now()
}

/// The day on the clock in a time zone.
fn today(tz: &jiff::tz::TimeZone) -> Date {
    real_time().to_zoned(tz.clone()).date()
}

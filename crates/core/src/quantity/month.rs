//! Months of an ordinary year.

use jiff::civil::Date;

/// Days of a month in an ordinary year, for sums over the year. January is 0.
#[must_use]
pub fn days_in(month: usize) -> f64 {
    i8::try_from(month + 1)
        .ok()
        .and_then(|m| Date::new(2025, m, 1).ok())
        .map_or(30.0, |d| f64::from(d.days_in_month()))
}

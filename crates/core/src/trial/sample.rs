//! The weather that a trial runs: days of the record, or a year picked or put together from it.

use crate::quantity::span::DateSpan;
use crate::weather::assembled::{dryness_mm, generated_days, typical_days, typical_months, whole_years};
use crate::weather::climate::Climate;
use jiff::ToSpan;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Which weather.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Sample {
    /// These days of the record, both included.
    Days(DateSpan),
    /// A year of which each month is the most ordinary of its name.
    Typical,
    /// The whole year of the record with the most ET0 less rain.
    Driest,
    /// The one with the least.
    Wettest,
    /// A year of days drawn from the record by a seed.
    Generated(u64),
}

/// Where the days of a trial come from.
#[derive(Debug, Clone, PartialEq)]
pub enum Origin {
    /// They are the record's own.
    Record,
    /// They are the record's own, of one of so many whole years.
    OneOf(usize),
    /// Each month is of this year.
    Months(BTreeMap<i8, i16>),
    /// Drawn by a seed.
    Drawn(u64),
}

/// Weather that was picked.
#[derive(Debug, Clone)]
pub struct Picked {
    /// The climate whose days are tried.
    pub climate: Arc<Climate>,
    /// First and last day.
    pub span: DateSpan,
    /// Where they come from.
    pub origin: Origin,
}

/// Why there is no such weather.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoSample {
    /// No whole year was recorded.
    NoWholeYear,
    /// Some month was not recorded whole in two years.
    NoTwoYears,
    /// Less than ten months of days that follow each other.
    TooFewDays,
}

/// Picks the weather from a record. A year that is put together carries the dates of the last year of the record, and
/// the year before it is put together alike, so that nothing begins in a drought that nobody recorded.
///
/// # Errors
/// When the record is too short for it.
pub fn pick(sample: Sample, climate: &Arc<Climate>, tz: &TimeZone) -> Result<Picked, NoSample> {
    // Recorded days are tried; what is forecast is no part of them.
    let bare = || match climate.forecast().next() {
        Some(_) => Arc::new(Climate::clone(climate).with_forecast(&[])),
        None => Arc::clone(climate),
    };
    let own = |span, origin| Ok(Picked { climate: bare(), span, origin });
    match sample {
        Sample::Days(span) => own(span, Origin::Record),
        Sample::Driest | Sample::Wettest => {
            let years = whole_years(climate);
            let by =
                |a: &&DateSpan, b: &&DateSpan| dryness_mm(climate, **a).total_cmp(&dryness_mm(climate, **b));
            let found =
                if sample == Sample::Driest { years.iter().max_by(by) } else { years.iter().min_by(by) };
            own(*found.ok_or(NoSample::NoWholeYear)?, Origin::OneOf(years.len()))
        }
        Sample::Typical => {
            let months = typical_months(climate).ok_or(NoSample::NoTwoYears)?;
            let (before, span) = year_of(climate).ok_or(NoSample::NoTwoYears)?;
            let days = typical_days(&months, DateSpan::new(before, span.last));
            let climate = Arc::new(climate.put_together(&days, tz));
            Ok(Picked { climate, span, origin: Origin::Months(months) })
        }
        Sample::Generated(seed) => {
            let (before, span) = year_of(climate).ok_or(NoSample::TooFewDays)?;
            let days = generated_days(climate, seed, DateSpan::new(before, span.last))
                .ok_or(NoSample::TooFewDays)?;
            let climate = Arc::new(climate.put_together(&days, tz));
            Ok(Picked { climate, span, origin: Origin::Drawn(seed) })
        }
    }
}

/// The last year that the record reaches into: the first day of the year before it, and its own span.
fn year_of(climate: &Climate) -> Option<(Date, DateSpan)> {
    let last = climate.span()?.last;
    let month = if climate.station().latitude_deg < 0.0 { 7 } else { 1 };
    let own = Date::new(last.year(), month, 1).ok()?;
    let from = if own <= last { own } else { own.checked_sub(1.year()).ok()? };
    let to = from.checked_add(1.year()).ok()?.yesterday().ok()?;
    Some((from.checked_sub(1.year()).ok()?, DateSpan::new(from, to)))
}

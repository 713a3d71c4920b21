//! A site file, its weather and its log as the facts that an account follows from.

use super::weather::{self, Options};
use super::{Failure, print_notes, read_input};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::account::log::Log;
use upland_core::account::site_account::AccountInputs;
use upland_core::quantity::span::DateSpan;
use upland_core::weather::climate::Climate;
use upland_formats::log_file::{self, LogFile};
use upland_formats::site_file::{self, SiteFile};

/// Reads a site file and its time zone.
pub fn site(path: &str) -> Result<(SiteFile, TimeZone), Failure> {
    let file = site_file::read(&read_input(path)?).map_err(|p| Failure::problems(&p))?;
    let tz = TimeZone::get(&file.site.time_zone)
        .map_err(|error| Failure::Failed(format!("time zone: {error}")))?;
    Ok((file, tz))
}

/// Puts a site file, its weather and its log together. `last` is the day up to which the sensors are asked.
pub fn at_work(
    file: SiteFile,
    tz: TimeZone,
    climate: impl Into<Arc<Climate>>,
    log: Option<&str>,
    last: Date,
) -> Result<AccountInputs, Failure> {
    let log = match log {
        Some(path) => log_file::read(&read_input(path)?, &file).map_err(|p| Failure::problems(&p))?,
        None => LogFile::default(),
    };
    Ok(file.facts(tz, climate, log, last))
}

/// The climate of a weather file at a site: its days that count, rain of days without temperatures, and the hours
/// in which rain was recorded.
pub fn climate(path: &str, options: &Options, file: &SiteFile, tz: &TimeZone) -> Result<Climate, Failure> {
    let station = file.site.station();
    let record = weather::read(path, options, &station, tz)?;
    Ok(weather::climate(&record, station))
}

/// What is said of a record that ends before it is asked about, has no rain, or has none at all.
pub fn weather_notes(climate: &Climate, from: Date, to: Date) {
    let mut notes = Vec::new();
    match climate.span() {
        None => notes
            .push("the weather file has no day that counts; expected demand and no rain are used".to_owned()),
        Some(DateSpan { last, .. }) if last < to => {
            notes.push(format!("the record ends on {last}; expected demand and no rain are used after it"));
        }
        Some(DateSpan { first, .. }) if first > from => {
            notes.push(format!(
                "the record begins on {first}; expected demand and no rain are used before it"
            ));
        }
        Some(_) => {}
    }
    let without = climate.days_without_rain_record(from, to);
    if without > 0 {
        notes.push(format!("{without} days have no rain recorded; none is counted on them"));
    }
    print_notes(&notes);
}

/// Readings that lie after an instant are not known yet: said, and not counted.
pub fn future_notes(log: &Log, until: jiff::Timestamp, tz: &TimeZone) {
    let late = |at: jiff::Timestamp| at > until;
    let mut notes: BTreeMap<&str, usize> = BTreeMap::new();
    *notes.entry("readings").or_default() += log.readings.iter().filter(|r| late(r.reading.at)).count();
    *notes.entry("runs").or_default() += log.runs.iter().filter(|r| late(r.from)).count();
    *notes.entry("meter readings").or_default() += log.meter.iter().filter(|m| late(m.at)).count();
    let until = until.to_zoned(tz.clone()).strftime("%Y-%m-%d %H:%M").to_string();
    let told: Vec<String> = notes
        .into_iter()
        .filter(|(_, count)| *count > 0)
        .map(|(what, count)| format!("{count} {what} of the log lie after {until} and are not counted"))
        .collect();
    print_notes(&told);
}

//! A day of a zone under a way, hour by hour, with the runs that were set and who held them.

use super::apply::apply;
use super::way::{Refusal, TrialWay};
use crate::account::running::ControllerRun;
use crate::account::site_account::{AccountInputs, begins, end_of, of_site};
use crate::account::zone::AccountHour;
use crate::controller::schedule::Settings;
use crate::quantity::span::DateSpan;
use crate::quantity::time::midnight;
use crate::site::{StationId, SurveyedZone};
use jiff::civil::Date;

/// A day of a zone.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialDay {
    /// Its hours.
    pub hours: Vec<AccountHour>,
    /// Runs that the controller was set to, held ones too; none where watering was advised.
    pub runs: Vec<ControllerRun>,
    /// What the controller is set to on the day, where it is set.
    pub settings: Option<Settings>,
}

/// A day of a zone, by controller and station, in a trial of some days; `None` when there is no such zone or day.
///
/// # Errors
/// Everything that keeps the way from being tried.
pub fn day(
    way: &TrialWay,
    facts: &AccountInputs,
    span: DateSpan,
    id: StationId,
    date: Date,
) -> Result<Option<TrialDay>, Vec<Refusal>> {
    let (mut tried, counted) = apply(way, facts, span)?;
    tried.zones.retain(|SurveyedZone { zone, .. }| zone.station_id() == id);
    if tried.zones.is_empty() || !span.contains(date) {
        return Ok(None);
    }
    let mut hours = Vec::new();
    let (begin, end) = (begins(&tried.climate, span.first), end_of(date, &tried.tz));
    let found = of_site(&tried, counted, begin, end, |_, hour| {
        if hour.date == date {
            hours.push(*hour);
        }
    });
    let begins = midnight(date, &tried.tz);
    let of = |run: &&ControllerRun| run.run.start < end && run.run.end > begins;
    let runs = found.runs.of(id).filter(of).cloned().collect();
    let settings = tried.of_controller(id.controller).and_then(|own| own.settings_at(begins)).cloned();
    Ok(Some(TrialDay { hours, runs, settings }))
}

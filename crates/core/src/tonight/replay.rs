//! The past of a zone, day by day, on the assumption that each watering so advised was run.

use crate::balance::{DayBalance, DayWater};
use crate::climate::{Climate, ExpectedFrom};
use crate::site::{ResolvedZone, Zone};
use crate::units::Millimetres;
use jiff::ToSpan;
use jiff::civil::Date;

/// Days of record replayed before the chosen date; long enough that the start no longer matters.
const REPLAY_DAYS: i32 = 365;
/// Hours that a day's rain is spread over when only its sum is known (our stated default).
pub const RAIN_HOURS: f64 = 6.0;
/// A refill smaller than this share of the readily available water is not worth a start.
const SMALLEST_REFILL_SHARE: f64 = 0.25;

/// Where a day's ET0 came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DemandFrom {
    /// The site's record of that day.
    Record,
    /// Expected, for want of a record of that day.
    Expected(ExpectedFrom),
}

/// One day of a zone's replay.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ReplayDay {
    /// The day.
    pub date: Date,
    /// Its reference ET.
    pub et0: Millimetres,
    /// Where that came from.
    pub demand_from: DemandFrom,
    /// Rain on the gauge.
    pub rain: Millimetres,
    /// Rain that entered the soil.
    pub rain_in: Millimetres,
    /// Net irrigation of the night before, as advised.
    pub irrigation: Millimetres,
    /// End of the day.
    pub balance: DayBalance,
}

/// ET0 of a day: recorded, else expected.
#[must_use]
pub fn et0_of(climate: &Climate, date: Date) -> (Millimetres, DemandFrom) {
    match climate.day(date) {
        Some(day) => (day.et.et0.max(Millimetres::ZERO), DemandFrom::Record),
        None => {
            let (et0, from) = climate.expected_et0(date);
            (et0, DemandFrom::Expected(from))
        }
    }
}

/// Replays a zone over a span of days, both ends included, from full, watering as advised.
#[must_use]
pub fn replay(zone: &Zone, resolved: &ResolvedZone, climate: &Climate, from: Date, to: Date) -> Vec<ReplayDay> {
    let k = resolved.landscape_coefficient();
    let slope = resolved.slope_pct.value;
    let intake_bound = zone.soil.basic_intake().mm_per_hour() * RAIN_HOURS
        + zone.soil.allowable_surface_accumulation(slope).mm();
    let mut days = Vec::new();
    let mut depletion = Millimetres::ZERO;
    let mut irrigation = Millimetres::ZERO;
    let mut date = from;
    while date <= to {
        let (et0, demand_from) = et0_of(climate, date);
        let rain = climate.day(date).and_then(|d| d.weather.rain).unwrap_or(Millimetres::ZERO);
        let rain_in = (rain * resolved.rain_share).min(Millimetres::from_mm(intake_bound));
        let balance = resolved
            .root_zone
            .day(depletion, DayWater { demand: et0 * k, rain: rain_in, irrigation });
        days.push(ReplayDay { date, et0, demand_from, rain, rain_in, irrigation, balance });
        depletion = balance.depletion;
        let Ok(next) = date.tomorrow() else { break };
        let expected = climate.expected_et0(next).0 * k;
        irrigation = if is_due(resolved, depletion, expected) { depletion } else { Millimetres::ZERO };
        date = next;
    }
    days
}

pub(super) fn is_due(zone: &ResolvedZone, depletion: Millimetres, expected: Millimetres) -> bool {
    let raw = zone.root_zone.readily_available();
    depletion + expected >= raw && depletion >= raw * SMALLEST_REFILL_SHARE
}

/// First day of the replay: a year back or the first recorded day; `None` without any record
/// before the date.
pub(super) fn replay_start(climate: &Climate, date: Date) -> Option<Date> {
    let (first, _) = climate.span()?;
    if first > date {
        return None;
    }
    let back = date.checked_sub(REPLAY_DAYS.days()).unwrap_or(first);
    Some(first.max(back))
}

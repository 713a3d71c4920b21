//! What the reader must know about the whole site before trusting its night.

use super::ZoneTonight;
use crate::account::nights::lowest_of_night;
use crate::account::site_account::{AccountInputs, begins};
use crate::controller::Card;
use crate::controller::night::NightPlan;
use crate::ground::plant::Sky;
use crate::quantity::span::DateSpan;
use crate::quantity::units::{Celsius, LitresPerMinute, Millimetres};
use crate::weather::climate::Climate;
use jiff::civil::Date;

/// At or below this the night may ice paving, °C (common practice: freeze sensors near 3 °C).
const FREEZE_CAUTION: Celsius = Celsius::from_c(3.0);

/// Something about the whole site that the reader must know.
#[derive(Debug, Clone, PartialEq)]
pub enum Notice {
    /// There is no weather at all.
    NoWeather,
    /// The record ends before the chosen date; the days since are expected values.
    RecordEnds {
        /// Last recorded day.
        last: Date,
        /// Days filled.
        days: i32,
    },
    /// The record begins after the chosen date.
    BeforeRecord {
        /// First recorded day.
        first: Date,
    },
    /// Days missing inside the replayed year, filled with expected values and no rain.
    Gaps {
        /// How many.
        days: u32,
    },
    /// Days with temperatures but without rain: none is counted on them.
    NoRain {
        /// How many.
        days: u32,
        /// Whether no day of the record has any.
        all: bool,
    },
    /// A root zone that holds less than a day's demand: no watering once a day is enough.
    NeedsSeveralADay {
        /// Station number.
        number: u16,
        /// Readily available water.
        holds: Millimetres,
        /// Demand of tomorrow.
        demand: Millimetres,
    },
    /// The night may freeze.
    FreezeCaution {
        /// The lowest temperature that is expected.
        lowest: Celsius,
        /// A service forecast it; else it is the minimum of the last night.
        foretold: bool,
    },
    /// Rain is forecast for the day after the night.
    RainLikely {
        /// That day.
        date: Date,
        /// How much.
        rain: Millimetres,
        /// The zones that run and would not be stressed if they waited for it, by station number.
        can_wait: Vec<u16>,
    },
    /// A zone asks for more than the supply gives.
    SupplyExceeded {
        /// Station number.
        number: u16,
        /// Its flow.
        flow: LitresPerMinute,
        /// What the supply gives.
        supply: LitresPerMinute,
    },
    /// A station number beyond the controller.
    BeyondController {
        /// Station number.
        number: u16,
        /// Stations of the controller.
        stations: u16,
    },
    /// Due zones that the window could not hold.
    WindowFull {
        /// How many are deferred or cut.
        zones: usize,
    },
}

/// Everything that must be said, the weather first.
pub(super) fn of(
    facts: &AccountInputs,
    card: &Card,
    night: &NightPlan,
    rows: &[ZoneTonight],
    date: Date,
) -> Vec<Notice> {
    let mut notices = weather(&facts.climate, date);
    let anything_runs = rows.iter().any(|r| r.cycles.is_some());
    if let Some((lowest, foretold)) = lowest_of_night(&facts.climate, date)
        && anything_runs
        && lowest <= FREEZE_CAUTION
    {
        notices.push(Notice::FreezeCaution { lowest, foretold });
    }
    notices.extend(rain_likely(&facts.climate, rows, date));
    for row in rows {
        if let (Some(flow), Some(supply)) = (row.flow, facts.site.supply)
            && flow > supply
        {
            notices.push(Notice::SupplyExceeded { number: row.zone.number, flow, supply });
        }
        if row.zone.number > card.stations {
            notices.push(Notice::BeyondController { number: row.zone.number, stations: card.stations });
        }
        if row.resolved.root_zone.readily_available() < row.expected_demand {
            notices.push(Notice::NeedsSeveralADay {
                number: row.zone.number,
                holds: row.resolved.root_zone.readily_available(),
                demand: row.expected_demand,
            });
        }
    }
    if !night.shortfalls.is_empty() {
        notices.push(Notice::WindowFull { zones: night.shortfalls.len() });
    }
    notices
}

/// Rain that is likely on the day after the night, where zones run that it could serve. It is not counted: a forecast
/// that fails must not cost the plants.
fn rain_likely(climate: &Climate, rows: &[ZoneTonight], date: Date) -> Option<Notice> {
    let next = date.tomorrow().ok()?;
    let rain = climate.foretold(next)?.rain_is_likely()?;
    let outside = |row: &&ZoneTonight| row.cycles.is_some() && row.zone.sky != Sky::UnderGlass;
    let waits =
        |row: &ZoneTonight| row.depletion + row.expected_demand <= row.resolved.root_zone.readily_available();
    let running: Vec<&ZoneTonight> = rows.iter().filter(outside).collect();
    let can_wait = running.iter().filter(|row| waits(row)).map(|row| row.zone.number).collect();
    (!running.is_empty()).then_some(Notice::RainLikely { date: next, rain, can_wait })
}

/// What must be said of the record behind a date.
fn weather(climate: &Climate, date: Date) -> Vec<Notice> {
    let mut notices = Vec::new();
    match climate.span() {
        None => notices.push(Notice::NoWeather),
        Some(record) if record.first > date => {
            notices.push(Notice::BeforeRecord { first: record.first });
        }
        Some(DateSpan { last, .. }) => {
            if last < date {
                notices.push(Notice::RecordEnds { last, days: (date - last).get_days() });
            }
            let (start, end) = (begins(climate, date), date.min(last));
            let expected = (end - start).get_days() + 1;
            let recorded = climate.range(start, end).count();
            let missing = usize::try_from(expected).unwrap_or(0).saturating_sub(recorded);
            if missing > 0 {
                notices.push(Notice::Gaps { days: u32::try_from(missing).unwrap_or(u32::MAX) });
            }
            let without = climate.days_without_rain_record(start, end);
            if without > 0 {
                let all = without == recorded;
                notices.push(Notice::NoRain { days: u32::try_from(without).unwrap_or(u32::MAX), all });
            }
        }
    }
    notices
}

//! The site's record as a sensor would have read it, and its nights as a replay asks about them.

use crate::account::season::{ANY_NIGHT, replay};
use crate::controller::night::window_instants;
use crate::controller::schedule::{ScheduledRun, Settings, expand};
use crate::installation::Installation;
use crate::quantity::time::{instant, midnight};
use crate::quantity::units::{Litres, Millimetres};
use crate::sensors::mapping::tie;
use crate::sensors::state::{Drying, Hold};
use crate::sensors::{Channel, Reading, Readings, SensorCard, mapping};
use crate::weather::climate::Climate;
use jiff::civil::{Date, Time, time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet};

/// When a day's rain counts as fallen, by the wall clock (our stated default: a daily record does not
/// say the hour, and an evening's watering must know of it).
const RAIN_BY: Time = time(18, 0, 0, 0);
/// When a day's lowest temperature is taken to be read.
const COLDEST: Time = time(5, 0, 0, 0);
/// When its highest is.
const WARMEST: Time = time(15, 0, 0, 0);
/// When its mean wind is.
const MEAN_WIND: Time = time(12, 0, 0, 0);
/// When a day's ET0 is known.
const DAY_IS_OVER: Time = time(19, 0, 0, 0);
/// Days ahead for which expected ET0 dries a switch.
const DAYS_AHEAD: i32 = 60;

/// A record as readings.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct AsRead {
    /// Rain, temperature and wind.
    pub channels: BTreeMap<Channel, Readings>,
    /// ET0 of the record, and what is expected after it.
    pub drying: Drying,
}

/// Reads a record as a sensor at its place would have: rain by six in the evening, the lowest
/// temperature at five in the morning, the highest at three, mean wind at noon.
#[must_use]
pub fn as_read(climate: &Climate, (from, to): (Date, Date), tz: &TimeZone) -> AsRead {
    let mut lists: BTreeMap<Channel, Vec<Reading>> = BTreeMap::new();
    let mut days = Vec::new();
    let last = to.checked_add(DAYS_AHEAD.days()).unwrap_or(to);
    let mut date = from;
    while date <= last {
        let begins = midnight(date, tz);
        if let Some(day) = climate.day(date).filter(|_| date <= to) {
            let weather = &day.weather;
            let mut put = |channel, at, value: Option<f64>| {
                if let Some(value) = value {
                    let at = instant(date, at, tz);
                    lists.entry(channel).or_default().push(Reading { at, value });
                }
            };
            put(Channel::Rain, RAIN_BY, weather.rain.map(Millimetres::mm));
            put(Channel::Temperature, COLDEST, Some(weather.temperature_min.c()));
            put(Channel::Temperature, WARMEST, Some(weather.temperature_max.c()));
            put(Channel::Wind, MEAN_WIND, weather.wind.map(|w| w.m_per_s()));
            put(Channel::Et, DAY_IS_OVER, Some(day.et.et0.mm().max(0.0)));
            days.push((begins, day.et.et0));
        } else {
            days.push((begins, climate.expected_et0(date).0));
        }
        let Ok(next) = date.tomorrow() else { break };
        date = next;
    }
    AsRead {
        channels: lists.into_iter().map(|(c, list)| (c, Readings::new(list))).collect(),
        drying: Drying::new(days),
    }
}

/// A night of the record, as the replay asks about it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RecordedNight {
    /// Its evening.
    pub date: Date,
    /// When watering would start.
    pub at: Timestamp,
    /// Whether a zone that the switch can hold had reached its refill point, rain counted.
    pub due: bool,
    /// Whether it lies in the half of the year with the greater demand.
    pub summer: bool,
    /// What the box would have put down on zones that the switch can hold.
    pub scheduled: Litres,
}

/// Whether one of some holds, in order of time and apart from each other, stands at an instant.
#[must_use]
pub fn stands(holds: &[Hold], at: Timestamp) -> bool {
    let after = holds.partition_point(|h| h.from <= at);
    after.checked_sub(1).and_then(|i| holds.get(i)).is_some_and(|h| h.stands(at))
}

/// The nights of a record for one sensor on a box: on which the zones that it can hold were due, and
/// what the box as set would have put down on them.
#[must_use]
pub fn nights(
    installation: &Installation,
    settings: &Settings,
    climate: &Climate,
    (card, chosen): (&SensorCard, &mapping::Chosen),
    (from, to): (Date, Date),
) -> Vec<RecordedNight> {
    let zones: Vec<_> = installation
        .zones
        .iter()
        .filter(|z| tie(card, chosen, &z.zone, None, settings.station(z.zone.number).lighting).holds)
        .collect();
    let stations: BTreeSet<u16> = zones.iter().map(|z| z.zone.number).collect();
    let mut due: BTreeSet<Date> = BTreeSet::new();
    for zone in &zones {
        let days = replay((&zone.zone, &zone.resolved), climate, (from, to), &ANY_NIGHT, &[]);
        // Irrigation stands on the day after the evening on which the zone was due.
        due.extend(days.iter().filter(|d| d.irrigation.mm() > 0.0).filter_map(|d| d.date.yesterday().ok()));
    }
    let mut scheduled: BTreeMap<Date, Vec<ScheduledRun>> = BTreeMap::new();
    for run in expand(settings, &installation.card, &installation.tz, from, to) {
        if stations.contains(&run.station) {
            scheduled.entry(run.date).or_default().push(run);
        }
    }
    let yearly: f64 = installation.monthly_et0.iter().map(|e| e.mm()).sum::<f64>() / 12.0;
    let mut out = Vec::new();
    let mut date = from;
    while date <= to {
        let (opens, _) = window_instants(date, installation.window, &installation.tz);
        out.push(RecordedNight {
            date,
            at: opens.timestamp(),
            due: due.contains(&date),
            summer: installation.monthly_et0.on(date).mm() > yearly,
            scheduled: scheduled
                .get(&date)
                .and_then(|runs| installation.volume(runs.iter()))
                .unwrap_or(Litres::ZERO),
        });
        let Ok(next) = date.tomorrow() else { break };
        date = next;
    }
    out
}

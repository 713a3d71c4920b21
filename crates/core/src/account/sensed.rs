//! The site's record as a sensor would have read it, and its nights as a replay asks about them.

use crate::account::nights::free_nights;
use crate::account::running::{EarlierSetting, SensorFacts};
use crate::account::sky::{RAIN_BY, SkyHours};
use crate::account::zone::{ZoneFacts, account};
use crate::controller::schedule::{ScheduledRun, Settings, expand};
use crate::controller::windows::main_window;
use crate::installation::Installation;
use crate::quantity::time::{instant, midnight};
use crate::quantity::units::{Litres, Millimetres};
use crate::sensors::mapping::tie;
use crate::sensors::state::{ByChannel, Drying, Hold, Pause, ProbeDecides, holds, probe_decides};
use crate::sensors::{Channel, Reading, Readings, Sense, Sensor, SensorCard, SensorHistory, mapping};
use crate::weather::climate::Climate;
use jiff::civil::{Date, Time, time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet};

/// When a day's lowest temperature is taken to be read.
const COLDEST: Time = time(5, 0, 0, 0);
const NOON: Time = time(12, 0, 0, 0);
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

/// Reads a record as a sensor at its place would have: rain at the end of each hour in which it fell, the lowest
/// temperature at five in the morning, the highest at three, mean wind at noon; things dry by the hour.
#[must_use]
pub fn as_read(climate: &Climate, longitude_deg: f64, from: Date, to: Date, tz: &TimeZone) -> AsRead {
    let last = to.checked_add(DAYS_AHEAD.days()).unwrap_or(to);
    let sky = SkyHours::of(climate, longitude_deg, tz, from, midnight(last, tz));
    let mut lists: BTreeMap<Channel, Vec<Reading>> = BTreeMap::new();
    for day in sky.days().iter().filter(|day| day.date <= to) {
        let mut put = |channel, at, value: Option<f64>| {
            if let Some(value) = value {
                lists.entry(channel).or_default().push(Reading { at, value });
            }
        };
        let on = |time| instant(day.date, time, tz);
        if day.rain.is_some() {
            // A day without rain was read too.
            put(Channel::Rain, on(RAIN_BY), Some(0.0));
            for hour in sky.hours(day).filter(|hour| hour.rain > Millimetres::ZERO) {
                put(Channel::Rain, hour.until, Some(hour.rain.mm()));
            }
        }
        if let Some(recorded) = climate.day(day.date) {
            let weather = &recorded.weather;
            put(Channel::Temperature, on(COLDEST), Some(weather.temperature_min.c()));
            put(Channel::Temperature, on(WARMEST), Some(weather.temperature_max.c()));
            put(Channel::Wind, on(MEAN_WIND), weather.wind.map(|w| w.m_per_s()));
            put(Channel::Et, on(DAY_IS_OVER), Some(recorded.et.et0.mm().max(0.0)));
        }
    }
    AsRead {
        channels: lists.into_iter().map(|(c, list)| (c, Readings::new(list))).collect(),
        drying: Drying::new(sky.all().map(|hour| (hour.from, hour.et0)).collect()),
    }
}

/// A sensor with what it says until an instant, from its readings.
#[must_use]
pub fn sensor_facts(
    sensor: &Sensor,
    readings: &ByChannel,
    drying: &Drying,
    bypasses: Vec<Pause>,
    tz: &TimeZone,
    until: Timestamp,
) -> SensorFacts {
    let history = SensorHistory::default();
    sensor_facts_since(sensor, &history, readings, drying, bypasses, tz, until)
}

/// The same with how it was set before and when it was installed: each of its holds is by the setting of its time.
#[must_use]
pub fn sensor_facts_since(
    sensor: &Sensor,
    history: &SensorHistory,
    readings: &ByChannel,
    drying: &Drying,
    bypasses: Vec<Pause>,
    tz: &TimeZone,
    until: Timestamp,
) -> SensorFacts {
    let earlier: Vec<EarlierSetting> = history
        .earlier
        .iter()
        .map(|e| EarlierSetting {
            until: midnight(e.until, tz),
            until_date: e.until,
            sensor: e.sensor.clone(),
        })
        .collect();
    let et = readings.get(&Channel::Et).filter(|_| sensor.card.senses(Sense::Et));
    let by_day = |r: &Reading| (r.at.to_zoned(tz.clone()).date(), Millimetres::from_mm(r.value));
    let begins = core::iter::once(Timestamp::MIN).chain(earlier.iter().map(|e| e.until));
    let set = earlier.iter().map(|e| (e.until, &e.sensor)).chain([(Timestamp::MAX, sensor)]);
    let all = begins.zip(set).flat_map(|(from, (ends, sensor))| {
        let own = holds(sensor, readings, drying, until.min(ends)).into_iter();
        let within = own.filter(move |h| h.from < ends && h.until.is_none_or(|end| end > from));
        within.map(move |h| Hold {
            from: h.from.max(from),
            // At a change of its setting nobody knows of a hold that the new one would not make.
            until: if ends < Timestamp::MAX {
                Some(h.until.map_or(ends, |end| end.min(ends)))
            } else {
                h.until
            },
            ..h
        })
    });
    let facts = SensorFacts {
        holds: all.collect(),
        earlier: earlier.clone(),
        bypasses,
        // Where its relay reported, the relay decides.
        probe: readings
            .get(&Channel::SoilMoisture)
            .filter(|_| probe_decides(sensor, readings) != Some(ProbeDecides::Relay))
            .cloned()
            .unwrap_or_default(),
        read_until: until,
        et0: et.map(|r| r.as_slice().iter().map(by_day).collect()).unwrap_or_default(),
        sensor: sensor.clone(),
    };
    match history.installed_on {
        Some(on) => facts.since(on, tz),
        None => facts,
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
    /// What the controller would have put down on zones that the switch can hold.
    pub scheduled: Litres,
}

impl RecordedNight {
    /// Whether anything would run that night: the controller is set to water, or a zone is due.
    #[must_use]
    pub fn runs(&self) -> bool {
        self.due || self.scheduled > Litres::ZERO
    }
}

/// Whether one of some holds, in order of time and apart from each other, stands at an instant.
#[must_use]
pub fn stands(holds: &[Hold], at: Timestamp) -> bool {
    let after = holds.partition_point(|h| h.from <= at);
    after.checked_sub(1).and_then(|i| holds.get(i)).is_some_and(|h| h.stands(at))
}

// Long: what was due, what was set to run, night by night.
/// The nights of a record for one sensor on a controller: on which the zones that it can hold were due, and
/// what the controller as set would have put down on them.
#[must_use]
pub fn nights(
    installation: &Installation,
    settings: &Settings,
    climate: &Climate,
    card: &SensorCard,
    chosen: &mapping::Chosen,
    from: Date,
    to: Date,
) -> Vec<RecordedNight> {
    let zones: Vec<_> = installation
        .zones
        .iter()
        .filter(|z| tie(card, chosen, &z.zone, None, settings.station(z.zone.number).lighting).holds)
        .collect();
    let stations: BTreeSet<u16> = zones.iter().map(|z| z.zone.number).collect();
    let mut due: BTreeSet<Date> = BTreeSet::new();
    let tz = &installation.tz;
    let sky = SkyHours::of(climate, installation.longitude_deg, tz, from, midnight(to + 1.day(), tz));
    for zone in &zones {
        let (zone, resolved) = (&zone.zone, &zone.resolved);
        let free = free_nights(&sky, zone, &installation.windows);
        let facts = ZoneFacts { nights: &free, ..ZoneFacts::of(zone, resolved) };
        let (days, _) = account(&facts, &sky, |_| ());
        // Watering as advised stands on the date after the evening on which the zone was due, or on that
        // evening itself.
        let watered = days.iter().filter(|d| d.water.applied.mm() > 0.0);
        due.extend(watered.filter_map(|d| {
            if installation.windows.main.from >= NOON { Some(d.date) } else { d.date.yesterday().ok() }
        }));
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
        let opens = main_window(date, installation.windows.main, &installation.tz).from;
        out.push(RecordedNight {
            date,
            at: opens,
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

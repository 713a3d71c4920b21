//! Hours and days of weather out of what the site's own sensors read.
//!
//! Readings are kept by ten minutes for good; everything here is computed from those, so that a late or repeated reading
//! only asks for the same day once more.

use crate::quantity::time::midnight;
use crate::sensors::Channel;
use crate::weather::Station;
use crate::weather::atmosphere::wind_factor;
use crate::weather::record::{HourFlag, HourVariable, RawDay, RawHour, Variable, days_of, examine_hours};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use std::collections::BTreeMap;

/// Ten minutes of one channel.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TenMinutes {
    /// When they begin.
    pub start: Timestamp,
    /// Readings in them.
    pub count: u32,
    /// The readings' sum, in the unit of the channel.
    pub sum: f64,
}

/// Ten minutes of each channel of a sensor, in order of time.
pub type OfSensor = BTreeMap<Channel, Vec<TenMinutes>>;

/// Channels that are weather.
pub const WEATHER_CHANNELS: [(Channel, HourVariable); 5] = [
    (Channel::Temperature, HourVariable::Temperature),
    (Channel::Humidity, HourVariable::Humidity),
    (Channel::Solar, HourVariable::Solar),
    (Channel::Wind, HourVariable::Wind),
    (Channel::Rain, HourVariable::Rain),
];

/// Length of what is kept for good.
const TEN_MINUTES: SignedDuration = SignedDuration::from_mins(10);
/// Ten minutes of an hour.
const IN_HOUR: i64 = 6;
/// Of the six ten minutes of an hour, so many must have been heard of for the hour to count (our stated limit).
const HEARD: u32 = 4;
/// MJ/m² over an hour of one W/m².
const MJ_OF_WATT_HOUR: f64 = 0.0036;

/// What a variable was over an hour.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Heard {
    value: f64,
    /// The lowest and highest ten minutes.
    low: f64,
    high: f64,
    /// Ten minutes spoken for, of six.
    spoken: u32,
}

/// The hours of a local day that are over, as some sensors heard them, and what they make of the day.
#[derive(Debug, Clone, PartialEq)]
pub struct SensedDay {
    /// The day, empty where no variable was heard for twenty hours.
    pub day: RawDay,
    /// Its hours, in order; none for an hour in which nothing was heard.
    pub hours: Vec<RawHour>,
}

/// What sensors heard over a local day until an instant. Of several sensors the first counts that heard a whole hour
/// of a variable, else the first that heard any of it.
///
/// Temperature, humidity, wind and radiation are means of the ten-minute means, so that a device that speaks faster for a
/// while weighs no more; rain is a sum by the instant at which it was read. The day's extremes are those of ten-minute
/// means (WMO-No. 8 asks for one minute, from memory; ten keep a single bad reading out: our choice). A reading speaks for
/// the time since the one before, for twice the usual step of its day at most and never for more than an hour; an hour
/// spoken for by less than two thirds is heard in part.
#[must_use]
pub fn sensed_day(
    date: Date,
    zone: &TimeZone,
    station: &Station,
    until: Timestamp,
    sensors: &[OfSensor],
) -> SensedDay {
    let (from, end) = (midnight(date, zone), midnight(date.saturating_add(1.day()), zone));
    let mut hours = Vec::with_capacity(25);
    let mut extremes: Vec<Option<(f64, f64)>> = Vec::with_capacity(25);
    let steps: Vec<BTreeMap<Channel, i64>> = sensors.iter().map(|s| usual_steps(s, from, end)).collect();
    let mut start = from;
    while start < end && start + SignedDuration::from_hours(1) <= until {
        let mut hour = RawHour::new(start, date);
        let mut warmth = None;
        for (channel, variable) in WEATHER_CHANNELS {
            let of_each = sensors.iter().zip(&steps).filter_map(|(sensor, steps)| {
                heard(channel, sensor.get(&channel)?, start, steps.get(&channel).copied().unwrap_or(1))
            });
            let Some(best) = best(of_each) else { continue };
            hour.set(variable, Some(in_unit(variable, best.value, station)));
            if best.spoken < HEARD {
                hour.heard_in_part(variable);
            }
            if variable == HourVariable::Temperature {
                warmth = Some((best.low, best.high));
            }
        }
        if WEATHER_CHANNELS.iter().any(|(_, variable)| hour.get(*variable).is_some()) {
            hours.push(hour);
            extremes.push(warmth);
        }
        start += SignedDuration::from_hours(1);
    }
    let flags = examine_hours(&hours, station);
    let mut day = days_of(&hours, &flags, station).pop().unwrap_or(RawDay::new(date));
    widen(&mut day, &extremes, &flags);
    SensedDay { day, hours }
}

/// The one that counts of what several sensors heard of an hour.
fn best(of_each: impl Iterator<Item = Heard>) -> Option<Heard> {
    let mut first = None;
    for heard in of_each {
        if heard.spoken >= HEARD {
            return Some(heard);
        }
        first = first.or(Some(heard));
    }
    first
}

/// A value in the unit of the hour's variable.
fn in_unit(variable: HourVariable, value: f64, station: &Station) -> f64 {
    match variable {
        HourVariable::Solar => value * MJ_OF_WATT_HOUR,
        // The channel is wind at 2 m; the record has it at the height of the station's sensor.
        HourVariable::Wind => value / wind_factor(station.wind_height),
        _ => value,
    }
}

/// The median step of each channel over a day, in ten minutes.
fn usual_steps(sensor: &OfSensor, from: Timestamp, end: Timestamp) -> BTreeMap<Channel, i64> {
    let step = |list: &Vec<TenMinutes>| {
        let of_day: Vec<_> = list.iter().filter(|t| (from..end).contains(&t.start)).collect();
        let mut gaps: Vec<i64> = of_day
            .windows(2)
            .filter_map(|w| match w {
                [a, b] => Some(tens_between(a.start, b.start)),
                _ => None,
            })
            .collect();
        gaps.sort_unstable();
        gaps.get(gaps.len() / 2).copied().unwrap_or(1).clamp(1, IN_HOUR)
    };
    sensor.iter().map(|(channel, list)| (*channel, step(list))).collect()
}

/// Whole ten minutes from one to another.
fn tens_between(a: Timestamp, b: Timestamp) -> i64 {
    b.duration_since(a).as_secs() / TEN_MINUTES.as_secs()
}

/// What a channel was over the hour that begins so, read at a usual step of so many ten minutes.
fn heard(channel: Channel, list: &[TenMinutes], start: Timestamp, step: i64) -> Option<Heard> {
    let end = start + SignedDuration::from_hours(1);
    let (first, after) = (list.partition_point(|t| t.start < start), list.partition_point(|t| t.start < end));
    let of_hour = list.get(first..after).filter(|l| !l.is_empty())?;
    let mean = |t: &TenMinutes| t.sum / f64::from(t.count.max(1));
    #[allow(clippy::cast_precision_loss, reason = "at most six")]
    let value = match channel {
        Channel::Rain => of_hour.iter().map(|t| t.sum).sum(),
        _ => of_hour.iter().map(mean).sum::<f64>() / of_hour.len() as f64,
    };
    // The first reading of the next hour may speak for the end of this one.
    let mut slots = 0_u8;
    for (i, tens) in list.iter().enumerate().take(after + 1).skip(first) {
        let since =
            i.checked_sub(1).and_then(|b| list.get(b)).map_or(1, |b| tens_between(b.start, tens.start));
        let last = tens_between(start, tens.start);
        for slot in last + 1 - since.clamp(1, (2 * step).min(IN_HOUR))..=last {
            if (0..IN_HOUR).contains(&slot) {
                slots |= 1 << slot;
            }
        }
    }
    Some(Heard {
        value,
        low: of_hour.iter().map(mean).fold(f64::INFINITY, f64::min),
        high: of_hour.iter().map(mean).fold(f64::NEG_INFINITY, f64::max),
        spoken: slots.count_ones(),
    })
}

/// Widens the extremes of a day to those of its ten minutes, of hours that count.
fn widen(day: &mut RawDay, extremes: &[Option<(f64, f64)>], flags: &[HourFlag]) {
    let counts = |index: usize| {
        !flags.iter().any(|f| f.index == index && f.variable == HourVariable::Temperature && f.rule.rejects())
    };
    let of_hours = extremes.iter().enumerate().filter(|(i, _)| counts(*i)).filter_map(|(_, e)| *e);
    for (low, high) in of_hours {
        if let Some(lowest) = day.get(Variable::TemperatureMin) {
            day.set(Variable::TemperatureMin, Some(lowest.min(low)));
        }
        if let Some(highest) = day.get(Variable::TemperatureMax) {
            day.set(Variable::TemperatureMax, Some(highest.max(high)));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::Metres;
    use jiff::civil::date;
    use proptest::prelude::*;

    const DAY: Date = date(2026, 7, 1);

    fn station() -> Station {
        Station {
            latitude_deg: 46.0,
            longitude_deg: 0.0,
            elevation: Metres::from_m(1000.0),
            wind_height: Metres::from_m(2.0),
        }
    }

    fn at(minute: i64) -> Timestamp {
        midnight(DAY, &TimeZone::UTC) + SignedDuration::from_mins(minute)
    }

    fn end() -> Timestamp {
        at(1440 * 2)
    }

    /// One reading of a channel every so many minutes from an offset on, over the day and an hour on either side.
    fn every(step: i64, offset: i64, of: impl Fn(i64) -> f64) -> Vec<TenMinutes> {
        let mut tens: BTreeMap<Timestamp, TenMinutes> = BTreeMap::new();
        for minute in (-60..1500).filter(|m| (m - offset).rem_euclid(step) == 0) {
            let start = at(minute.div_euclid(10) * 10);
            let ten = tens.entry(start).or_insert(TenMinutes { start, count: 0, sum: 0.0 });
            ten.count += 1;
            ten.sum += of(minute);
        }
        tens.into_values().collect()
    }

    fn sensor(channels: impl IntoIterator<Item = (Channel, Vec<TenMinutes>)>) -> OfSensor {
        channels.into_iter().collect()
    }

    fn of(sensors: &[OfSensor], until: Timestamp) -> SensedDay {
        sensed_day(DAY, &TimeZone::UTC, &station(), until, sensors)
    }

    fn warm(minute: i64) -> f64 {
        #[allow(clippy::cast_precision_loss)]
        let angle = (minute - 900) as f64 * std::f64::consts::PI / 720.0;
        15.0 + 6.0 * angle.cos()
    }

    #[test]
    fn a_day_of_minutes_has_means_extremes_and_sums() {
        let station = sensor([
            (Channel::Temperature, every(1, 0, warm)),
            (Channel::Humidity, every(1, 0, |_| 60.0)),
            (Channel::Wind, every(1, 0, |_| 2.0)),
            (Channel::Rain, every(5, 0, |m| if (240..300).contains(&m) { 0.25 } else { 0.0 })),
        ]);
        let sensed = of(&[station], end());
        assert_eq!(sensed.hours.len(), 24);
        assert!(sensed.hours.iter().all(|h| h.parts() == 0));
        let value = |v| sensed.day.get(v).unwrap();
        assert!((value(Variable::Rain) - 3.0).abs() < 1e-9);
        // Wind at 2 m stays so; FAO-56 eq. 47 at 2 m is 1.0002.
        assert!((value(Variable::Wind) - 2.0).abs() < 0.002);
        // Extremes of ten minutes reach further than those of hours.
        assert!(value(Variable::TemperatureMax) > 20.99 && value(Variable::TemperatureMin) < 9.01);
        let hourly = sensed.hours.iter().filter_map(|h| h.get(HourVariable::Temperature));
        assert!(hourly.fold(f64::NEG_INFINITY, f64::max) < value(Variable::TemperatureMax));
    }

    #[test]
    fn radiation_of_an_hour_is_its_mean_power() {
        let lit =
            sensor([(Channel::Solar, every(10, 0, |m| if (360..1080).contains(&m) { 500.0 } else { 0.0 }))]);
        let sensed = of(&[lit], end());
        assert_eq!(sensed.hours[12].get(HourVariable::Solar), Some(1.8), "500 W over an hour, in MJ");
        assert!((sensed.day.get(Variable::Solar).unwrap() - 12.0 * 1.8).abs() < 1e-9);
    }

    #[test]
    fn a_device_that_speaks_once_an_hour_is_heard_whole_and_one_that_falls_silent_in_part() {
        for offset in [0, 5, 30, 59] {
            let hourly = sensor([(Channel::Temperature, every(60, offset, warm))]);
            let sensed = of(&[hourly], end());
            assert!(sensed.hours.iter().all(|h| h.parts() == 0), "at minute {offset}");
            assert!(sensed.day.get(Variable::TemperatureMax).is_some());
        }
        let mut broken = every(1, 0, warm);
        broken.retain(|t| !(at(620)..at(660)).contains(&t.start));
        let sensed = of(&[sensor([(Channel::Temperature, broken)])], end());
        let parts: Vec<usize> = (0..24).filter(|i| sensed.hours[*i].parts() != 0).collect();
        assert_eq!(parts, [10], "twenty of its minutes were heard, and ten more spoken for");
        assert!(sensed.day.get(Variable::TemperatureMax).is_some(), "23 hours are enough");
    }

    #[test]
    fn hours_that_are_not_over_are_not_there_and_twenty_make_a_day() {
        let list = || sensor([(Channel::Temperature, every(10, 0, warm))]);
        let nineteen = of(&[list()], at(19 * 60 + 59));
        assert_eq!(nineteen.hours.len(), 19);
        assert!(nineteen.day.is_empty());
        assert!(!of(&[list()], at(20 * 60)).day.is_empty());
        assert!(of(&[], end()).hours.is_empty());
    }

    #[test]
    fn the_first_whole_sensor_counts_and_a_second_stands_in() {
        let mut list = every(10, 0, |_| 10.0);
        list.retain(|t| t.start < at(360) || t.start >= at(405));
        let first = sensor([(Channel::Temperature, list)]);
        let second = sensor([(Channel::Temperature, every(10, 0, |_| 12.0))]);
        let sensed = of(&[first, second], end());
        let warmth = |i: usize| sensed.hours[i].get(HourVariable::Temperature);
        assert_eq!((warmth(5), warmth(6), warmth(7)), (Some(10.0), Some(12.0), Some(10.0)));
    }

    #[test]
    fn a_day_of_25_hours_has_them_all() {
        let zone = TimeZone::get("Europe/Paris").unwrap();
        let day = date(2026, 10, 25);
        let from = midnight(day, &zone);
        let list = (-6..156).map(|i| TenMinutes { start: from + TEN_MINUTES * i, count: 1, sum: 0.1 });
        let sensors = [sensor([(Channel::Rain, list.collect())])];
        let sensed = sensed_day(day, &zone, &station(), Timestamp::MAX, &sensors);
        assert_eq!(sensed.hours.len(), 25);
        assert!((sensed.day.get(Variable::Rain).unwrap() - 15.0).abs() < 1e-9);
    }

    proptest! {
        #[test]
        fn rain_is_never_lost_or_doubled(falls in proptest::collection::vec((0_i64..1440, 0.0_f64..20.0), 0..60)) {
            let mut tens = every(10, 0, |_| 0.0);
            for (minute, mm) in &falls {
                let ten = tens.iter_mut().find(|t| t.start == at(minute / 10 * 10)).unwrap();
                ten.sum += mm;
                ten.count += 1;
            }
            let sensed = of(&[sensor([(Channel::Rain, tens)])], end());
            let whole: f64 = falls.iter().map(|(_, mm)| mm).sum();
            prop_assert!((sensed.day.get(Variable::Rain).unwrap() - whole).abs() < 1e-6);
        }

        #[test]
        fn an_hour_is_never_beyond_what_was_read(
            step in 1_i64..90,
            gaps in proptest::collection::vec(any::<bool>(), 162),
        ) {
            let mut list = every(step, 3, warm);
            list.retain(|t| gaps[usize::try_from(tens_between(at(-60), t.start)).unwrap().min(161)]);
            let sensed = of(&[sensor([(Channel::Temperature, list.clone())])], end());
            for hour in &sensed.hours {
                let value = hour.get(HourVariable::Temperature).unwrap();
                let (mut low, mut high) = (f64::INFINITY, f64::NEG_INFINITY);
                let after = hour.start + SignedDuration::from_hours(1);
                for t in list.iter().filter(|t| t.start >= hour.start && t.start < after) {
                    let mean = t.sum / f64::from(t.count);
                    (low, high) = (low.min(mean), high.max(mean));
                }
                prop_assert!(low - 1e-9 <= value && value <= high + 1e-9);
            }
        }
    }
}

//! What is set on a controller beside its programs, in the reader's language: for the programming steps and the sheet.

use crate::page::messages::{Reader, Value};
use jiff::civil::Date;
use upland_core::controller::schedule::{Days, Settings, StationSetting};
use upland_core::quantity::time::Seconds;

/// The days of the week on which nothing may run, where there are any.
pub(super) fn never_words(reader: &Reader, settings: &Settings) -> Option<String> {
    settings.never_days.contains(&true).then(|| {
        let days = reader.days(Days::Weekdays(settings.never_days));
        reader.with("steps-days-never", &[("days", days.into())])
    })
}

/// What else is set for the whole controller.
pub(super) fn rest_of_controller(reader: &Reader, settings: &Settings) -> Vec<String> {
    let mut lines = Vec::new();
    let length = |length: Seconds| Value::from(length.to_string());
    match settings.delay {
        Seconds::ZERO => {}
        delay if delay.any() => lines.push(reader.with("steps-rest-delay", &[("delay", length(delay))])),
        delay => lines.push(reader.with("steps-rest-overlap", &[("overlap", length(delay.abs()))])),
    }
    if let Some(hours) = settings.omit_hours {
        let (from, until) = (reader.clock(hours.from).into(), reader.clock(hours.until).into());
        lines.push(reader.with("steps-rest-hours", &[("from", from), ("until", until)]));
    }
    if let Some(span) = settings.off_season {
        // 2000 has a 29 February.
        let day =
            |(month, day): (i8, i8)| Date::new(2000, month, day).map_or(String::new(), |d| reader.day(d));
        let (from, until) = (day(span.from).into(), day(span.until).into());
        lines.push(reader.with("steps-rest-off-season", &[("from", from), ("until", until)]));
    }
    if let Some((first, days)) = settings.rain_delay {
        let first = reader.day_of_year(first).into();
        lines.push(reader.with("steps-rest-rain-delay", &[("days", days.into()), ("first", first)]));
    }
    if !settings.omit_dates.is_empty() {
        let dates: Vec<String> = settings.omit_dates.iter().map(|date| reader.day_of_year(*date)).collect();
        lines.push(reader.with("steps-rest-dates", &[("dates", dates.join(", ").into())]));
    }
    match settings.master_lead {
        (Seconds::ZERO, Seconds::ZERO) => {}
        (lead, lag) => {
            lines.push(reader.with("steps-rest-master", &[("lead", length(lead)), ("lag", length(lag))]));
        }
    }
    lines
}

/// What a station does beside watering.
pub(super) fn extras(reader: &Reader, setting: &StationSetting) -> Vec<String> {
    let all = [
        (setting.lighting, "extra-lighting"),
        (setting.master_valve, "extra-master-valve"),
        (setting.pump, "extra-pump"),
        (setting.ignores_sensors, "extra-ignores-sensors"),
        (setting.fixed_run_time, "extra-fixed"),
    ];
    all.into_iter().filter(|(on, _)| *on).map(|(_, key)| reader.say(key)).collect()
}

/// Messages that are numbered from 1.
pub(super) fn numbered(reader: &Reader, key: &str, count: usize) -> Vec<String> {
    (1..=count).map(|number| reader.say(&format!("{key}-{number}"))).collect()
}

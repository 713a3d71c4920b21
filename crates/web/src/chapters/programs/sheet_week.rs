//! What the sheet of a controller adds to its settings: a week as a drawing, its sensors with what they are set to, telephone numbers.

use crate::page::dates::DateFormat;
use crate::page::quantities::{plain, rain_threshold};
use crate::page::units::Units;
use crate::site::controller_snapshot::ControllerSnapshot;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use upland_core::controller::schedule::{Settings, expand, passes};
use upland_core::quantity::span::TimeSpan;
use upland_core::quantity::time::midnight;
use upland_core::sensors::{Sense, Sensor};
use upland_core::site::UnitSystem;

/// Days of the drawing.
const DAYS: i32 = 7;
/// Where its hours begin and how wide they are together, units of the drawing.
const LEFT: f64 = 78.0;
const WIDE: f64 = 540.0;
/// Height of a day, and of what stands above the first.
const ROW: f64 = 20.0;
const TOP: f64 = 18.0;
/// Width from which a bar holds its letter.
const ROOM: f64 = 14.0;
/// Thinnest bar that is still seen.
const THINNEST: f64 = 2.5;

pub(super) struct WeekBar {
    pub x: f64,
    pub y: f64,
    pub width: f64,
    /// The program; inside its bar where there is room, else behind it.
    pub letter: String,
    pub inside: bool,
    pub words: String,
}

pub(super) struct WeekDay {
    pub y: f64,
    pub name: String,
}

pub(super) struct WeekHour {
    pub x: f64,
    pub words: String,
}

/// A week of starts, a day a row.
pub(super) struct SheetWeek {
    pub height: f64,
    pub hours: Vec<WeekHour>,
    pub days: Vec<WeekDay>,
    pub bars: Vec<WeekBar>,
    pub words: String,
}

/// The week that begins on a day; none where nothing runs in it.
pub(super) fn week(snapshot: &ControllerSnapshot, settings: &Settings, from: Date) -> Option<SheetWeek> {
    let there = &snapshot.installation;
    let last = from.checked_add((DAYS - 1).days()).ok()?;
    let before = from.yesterday().ok()?;
    let runs = expand(settings, &there.card, &there.tz, before, last);
    let bounds = |day: i32| -> Option<TimeSpan> {
        let date = from.checked_add(day.days()).ok()?;
        Some(TimeSpan::new(midnight(date, &there.tz), midnight(date.tomorrow().ok()?, &there.tz)))
    };
    let mut bars = Vec::new();
    for pass in passes(runs.iter()) {
        let letter =
            settings.programs.get(pass.program).map_or(String::new(), |program| program.name.clone());
        for day in 0..DAYS {
            let whole = bounds(day)?;
            let seen = TimeSpan::new(pass.begin, pass.end).shared(whole);
            if seen.is_empty() {
                continue;
            }
            // A day of 23 or 25 hours is drawn as wide as the others.
            let share =
                |at: Timestamp| at.duration_since(whole.from).as_secs_f64() / whole.duration().as_secs_f64();
            let width = ((share(seen.until) - share(seen.from)) * WIDE).max(THINNEST);
            let clock = |at: Timestamp| at.to_zoned(there.tz.clone()).formatted("%H:%M");
            bars.push(WeekBar {
                x: WIDE.mul_add(share(seen.from), LEFT),
                y: ROW.mul_add(f64::from(day), TOP + 3.0),
                width,
                words: format!("{letter}, {} to {}", clock(pass.begin), clock(pass.end)),
                letter: letter.clone(),
                inside: width >= ROOM,
            });
        }
    }
    if bars.is_empty() {
        return None;
    }
    let day = |number: i32| {
        let date = from.checked_add(number.days()).unwrap_or(from);
        WeekDay { y: ROW.mul_add(f64::from(number), TOP), name: date.formatted("%a %-d %b") }
    };
    let hour = |number: i8| WeekHour {
        x: WIDE.mul_add(f64::from(number) / 24.0, LEFT),
        words: jiff::civil::Time::new(number % 24, 0, 0, 0)
            .map_or(String::new(), |time| time.formatted("%H:%M")),
    };
    Some(SheetWeek {
        height: ROW.mul_add(f64::from(DAYS), TOP + 6.0),
        hours: [0, 6, 12, 18, 24].map(hour).into(),
        days: (0..DAYS).map(day).collect(),
        words: format!("Starts of the week from {}", from.formatted("%-d %B")),
        bars,
    })
}

/// What a sensor is set to, in a few words.
fn set_to(sensor: &Sensor, units: UnitSystem) -> String {
    let (card, setting) = (&sensor.card, &sensor.setting);
    let wind = Units::of(units).wind;
    let mut parts = Vec::new();
    if card.senses(Sense::Rain) {
        parts.push(match units {
            UnitSystem::Metric => format!("rain {} mm", plain(setting.rain_threshold.mm(), 1)),
            UnitSystem::UsCustomary => format!("rain {}", rain_threshold(units, setting.rain_threshold)),
        });
    }
    if card.senses(Sense::Freeze) {
        let shown = Units::of(units).temperature;
        parts.push(format!("frost {} {}", plain(shown.shown(setting.freeze_at.c()), 1), shown.unit));
    }
    if card.senses(Sense::Wind) {
        parts.push(format!("wind {} {}", wind.round_text(setting.wind_above.m_per_s()), wind.unit));
    }
    if card.senses(Sense::SoilMoisture) {
        parts.push(match setting.soil_threshold_pct {
            Some(percent) => format!("soil {} % by volume", plain(percent, 1)),
            None => "not calibrated yet".to_owned(),
        });
    }
    parts.join(", ")
}

/// The sensors of a controller, each with what it is set to.
pub(super) fn sensors(snapshot: &ControllerSnapshot) -> Vec<(String, String)> {
    let units = snapshot.records.units();
    let number = snapshot.installation.controller_number;
    let own = snapshot.records.sensors.iter().filter(|record| record.sensor.controller_number == number);
    own.map(|record| (record.sensor.name.clone(), set_to(&record.sensor, units))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use jiff::civil::date;

    #[test]
    fn the_week_has_a_bar_for_each_pass_and_day_and_none_outside_of_it() {
        let snapshot = fixture::controller_snapshot();
        let settings = snapshot.settings();
        let from = date(2026, 7, 13);
        let drawn = week(&snapshot, &settings, from).unwrap();
        let there = &snapshot.installation;
        let runs = expand(&settings, &there.card, &there.tz, from, from + 6.days());
        let begun = passes(runs.iter()).into_iter().filter(|pass| {
            let on = pass.begin.to_zoned(there.tz.clone()).date();
            (from..=from + 6.days()).contains(&on)
        });
        assert!(drawn.bars.len() >= begun.count(), "a pass over midnight has two");
        for bar in &drawn.bars {
            assert!(bar.x >= LEFT && bar.x + bar.width <= LEFT + WIDE + THINNEST, "{}", bar.words);
            assert!(drawn.days.iter().any(|day| (bar.y - day.y - 3.0).abs() < 1e-9));
        }
        let silent = Settings::clean(&there.card);
        assert!(week(&snapshot, &silent, from).is_none());
    }

    #[test]
    fn a_sensor_says_what_it_is_set_to_in_the_units_of_the_site() {
        let of = |code: &str| {
            let card = upland_core::sensors::generic().into_iter().find(|(own, _)| *own == code).unwrap().1;
            Sensor::of_card(card, 1)
        };
        let mut rain = of("rain_switch");
        rain.setting.rain_threshold = upland_core::quantity::units::Millimetres::from_inches(0.5);
        assert_eq!(set_to(&rain, UnitSystem::UsCustomary), "rain 1/2 in");
        assert_eq!(set_to(&of("freeze_switch"), UnitSystem::Metric), "frost 3 °C");
        assert_eq!(set_to(&of("soil_probe"), UnitSystem::Metric), "not calibrated yet");
    }
}

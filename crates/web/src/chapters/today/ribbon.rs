//! The year ribbon: demand as a line, rain as bars, the share of the peak month as a step, frost
//! weeks shaded, the chosen week marked. It is also the way to another week.

use crate::page::quantities::{depth, short_date};
use jiff::ToSpan;
use jiff::civil::Date;
use upland_core::quantity::units::Millimetres;
use upland_core::site::UnitSystem;
use upland_core::weather::climate::Climate;

/// Height of the drawing area, in units of its own box.
const HEIGHT: f64 = 54.0;
/// Demand that reaches the top, mm a day.
const TOP_DEMAND_MM: f64 = 7.0;
/// Rain that reaches the top, mm a day; more is cut.
const TOP_RAIN_MM: f64 = 35.0;
/// Days that the demand line is smoothed over.
const SMOOTH_DAYS: i32 = 7;

pub(super) struct Week {
    pub x: String,
    pub width: String,
    pub href_date: Date,
    pub label: String,
    pub chosen: bool,
    pub frost: bool,
}

/// Neighbouring frost weeks as one shade.
pub(super) struct Shade {
    pub x: String,
    pub width: String,
}

pub(super) struct Month {
    pub name: &'static str,
    pub percent: String,
    pub demand: String,
    pub rain: String,
    pub x: String,
}

pub(super) struct Ribbon {
    pub year: i16,
    pub days: i32,
    pub measured: String,
    pub expected: String,
    pub rain: String,
    pub step: String,
    pub weeks: Vec<Week>,
    pub frost: Vec<Shade>,
    pub months: Vec<Month>,
    pub today_x: String,
    pub previous_week: Date,
    pub next_week: Date,
    pub words: String,
}

/// Height of a value above the ground line, as a distance from the top of the box.
fn y(value: f64, top: f64) -> f64 {
    HEIGHT - HEIGHT * (value / top).clamp(0.0, 1.0)
}

pub(super) fn build(climate: &Climate, date: Date, units: UnitSystem) -> Ribbon {
    let year = date.year();
    let first = date.first_of_year();
    let days = i32::from(date.days_in_year());
    let at = |i: i32| first.checked_add(i.days()).unwrap_or(first);

    let (mut measured, mut expected, mut rain) = (String::new(), String::new(), String::new());
    let mut last_measured = None;
    for i in 0..days {
        let window = climate.range(at(i - SMOOTH_DAYS + 1), at(i));
        let (sum, count) = window.fold((0.0, 0.0), |(s, n), (_, day)| (s + day.et.et0.mm(), n + 1.0));
        if let Some(day) = climate.day(at(i)) {
            let command = if last_measured == Some(i - 1) { 'L' } else { 'M' };
            measured.push_str(&format!("{command}{i} {:.1}", y(sum / f64::max(count, 1.0), TOP_DEMAND_MM)));
            last_measured = Some(i);
            let mm = day.weather.rain.unwrap_or(Millimetres::ZERO).mm();
            if mm >= 0.2 {
                rain.push_str(&format!("M{i} {HEIGHT}V{:.1}", y(mm, TOP_RAIN_MM)));
            }
        }
    }
    let from = last_measured.map_or(0, |i| i + 1);
    for i in (from..days).step_by(4) {
        let command = if i == from { 'M' } else { 'L' };
        expected
            .push_str(&format!("{command}{i} {:.1}", y(climate.expected_et0(at(i)).0.mm(), TOP_DEMAND_MM)));
    }

    let monthly = climate.monthly_expected_et0(year);
    let peak = monthly.iter().fold(0.1_f64, |a, m| a.max(m.mm()));
    let mut step = String::new();
    let mut months = Vec::new();
    for (month, et0) in monthly.months() {
        let Ok(start) = Date::new(year, month.number(), 1) else { continue };
        let x = i32::from(start.day_of_year()) - 1;
        let end = x + i32::from(start.days_in_month());
        let share = et0.mm() / peak;
        step.push_str(&format!(
            "{}{x} {:.1}H{end}",
            if step.is_empty() { 'M' } else { 'L' },
            y(share * peak, TOP_DEMAND_MM)
        ));
        let rain: Millimetres =
            climate.range(start, start.last_of_month()).filter_map(|(_, d)| d.weather.rain).sum();
        months.push(Month {
            name: month.short(),
            percent: format!("{:.0} %", 100.0 * share),
            demand: depth(units, *et0 * f64::from(start.days_in_month())),
            rain: depth(units, rain),
            x: format!("{:.2}%", 100.0 * f64::from(x) / f64::from(days)),
        });
    }

    let weeks: Vec<Week> = (0..52)
        .map(|w| {
            let start = w * 7;
            // The last week takes the year's odd days with it.
            let length = if w == 51 { days - start } else { 7 };
            let chosen = (start..start + length).contains(&(i32::from(date.day_of_year()) - 1));
            let weekday_of_date = (i32::from(date.day_of_year()) - 1).rem_euclid(7);
            Week {
                x: format!("{:.3}%", 100.0 * f64::from(start) / f64::from(days)),
                width: format!("{:.3}%", 100.0 * f64::from(length) / f64::from(days)),
                href_date: at(start + weekday_of_date.min(length - 1)),
                label: format!("Week from {}", short_date(at(start))),
                chosen,
                frost: frost_week(climate, at(start), length),
            }
        })
        .collect();

    let frost = (0..52_i32)
        .zip(&weeks)
        .collect::<Vec<_>>()
        .chunk_by(|(_, a), (_, b)| a.frost == b.frost)
        .filter_map(|run| {
            let ((first, week), (last, _)) = (run.first()?, run.last()?);
            let end = if *last == 51 { days } else { (last + 1) * 7 };
            let share = 100.0 * f64::from(end - first * 7) / f64::from(days);
            week.frost.then(|| Shade { x: week.x.clone(), width: format!("{share:.3}%") })
        })
        .collect();

    let words = match climate.span() {
        Some((a, b)) => format!(
            "Year {year}: demand, rain and frost weeks; record from {a} to {b}; chosen {}",
            short_date(date)
        ),
        None => format!("Year {year}: expected demand, no record yet; chosen {}", short_date(date)),
    };
    Ribbon {
        year,
        days,
        measured,
        expected,
        rain,
        step,
        weeks,
        frost,
        months,
        today_x: format!("{:.3}%", 100.0 * (f64::from(date.day_of_year()) - 0.5) / f64::from(days)),
        previous_week: date.checked_sub(7.days()).unwrap_or(date),
        next_week: date.checked_add(7.days()).unwrap_or(date),
        words,
    }
}

/// Whether a week had frost this year, or, where it is not recorded, in at least half of the
/// recorded years.
fn frost_week(climate: &Climate, start: Date, length: i32) -> bool {
    let froze = |first: Date| {
        let last = first.checked_add((length - 1).days()).unwrap_or(first);
        let mut recorded = climate.range(first, last).peekable();
        recorded.peek()?;
        Some(recorded.any(|(_, d)| d.weather.temperature_min.c() <= 0.0))
    };
    if let Some(this_year) = froze(start) {
        return this_year;
    }
    let Some((first, last)) = climate.span() else { return false };
    let others: Vec<bool> = (first.year()..=last.year())
        .filter_map(|year| Date::new(year, start.month(), start.day()).ok())
        .filter_map(froze)
        .collect();
    !others.is_empty() && 2 * others.iter().filter(|f| **f).count() >= others.len()
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use upland_core::quantity::units::{Celsius, Metres};
    use upland_core::weather::{DayWeather, Station};

    fn climate() -> Climate {
        let station = Station {
            latitude_deg: 46.0,
            longitude_deg: -30.0,
            elevation: Metres::from_m(1040.0),
            wind_height: Metres::from_m(2.0),
        };
        let days: Vec<_> = (0..560)
            .map(|i| {
                let on = date(2025, 1, 1) + i.days();
                let cold = on.month() <= 2;
                let mut day = DayWeather::from_temperatures(
                    on,
                    Celsius::from_c(if cold { -4.0 } else { 8.0 }),
                    Celsius::from_c(if cold { 3.0 } else { 20.0 }),
                );
                day.rain = Some(Millimetres::from_mm(if i % 10 == 0 { 12.0 } else { 0.0 }));
                day
            })
            .collect();
        Climate::from_record(&days, station)
    }

    #[test]
    fn one_week_is_chosen_and_winter_weeks_are_frost() {
        let ribbon = build(&climate(), date(2026, 7, 14), UnitSystem::Metric);
        assert_eq!(ribbon.weeks.len(), 52);
        let chosen: Vec<_> = ribbon.weeks.iter().filter(|w| w.chosen).collect();
        assert_eq!(chosen.len(), 1);
        assert_eq!(chosen[0].href_date, date(2026, 7, 14), "the chosen week leads to the chosen day");
        assert!(ribbon.weeks[2].frost && !ribbon.weeks[28].frost);
        assert!(ribbon.months.iter().any(|m| m.percent == "100 %"));
    }

    #[test]
    fn the_ends_of_the_year_have_their_week() {
        for on in [date(2026, 1, 1), date(2026, 12, 31), date(2028, 12, 31)] {
            let ribbon = build(&climate(), on, UnitSystem::Metric);
            assert_eq!(ribbon.weeks.iter().filter(|w| w.chosen).count(), 1, "{on}");
        }
    }
}

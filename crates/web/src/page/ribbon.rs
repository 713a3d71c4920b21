//! The year ribbon: demand as a line, rain as bars, the share of the peak month as a step, frost
//! weeks shaded, the chosen week marked. It is also the way to another week.

use crate::page::dates::DateFormat;
use crate::page::quantities::{depth, short_date};
use jiff::ToSpan;
use jiff::civil::Date;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::units::Millimetres;
use upland_core::site::UnitSystem;
use upland_core::weather::climate::Climate;

/// Height of the drawing area, in units of its own controller.
const HEIGHT: f64 = 54.0;
/// Demand that reaches the top, mm a day.
const TOP_DEMAND_MM: f64 = 7.0;
/// Rain that reaches the top, mm a day; more is cut.
const TOP_RAIN_MM: f64 = 35.0;
/// Days that the demand line is smoothed over.
const SMOOTH_DAYS: i32 = 7;

struct Week {
    x: String,
    width: String,
    href_date: Date,
    label: String,
    chosen: bool,
    frost: bool,
}

/// Neighbouring frost weeks as one shade.
struct Shade {
    x: String,
    width: String,
}

struct Month {
    name: &'static str,
    percent: String,
    demand: String,
    rain: String,
    x: String,
}

struct Ribbon {
    year: i16,
    days: i32,
    measured: String,
    expected: String,
    rain: String,
    step: String,
    weeks: Vec<Week>,
    frost: Vec<Shade>,
    months: Vec<Month>,
    today_x: String,
    previous_week: Date,
    next_week: Date,
    words: String,
}

/// Height of a value above the ground line, as a distance from the top of the controller.
/// Rain below this is not drawn, mm.
const LEAST_RAIN_MM: f64 = 0.2;
/// Nothing is divided by a peak below this, mm a day.
const LEAST_PEAK_MM: f64 = 0.1;

fn y(value: f64, top: f64) -> f64 {
    HEIGHT - HEIGHT * (value / top).clamp(0.0, 1.0)
}

/// The days of a year, counted from nought.
struct Year {
    first: Date,
    days: i32,
}

impl Year {
    fn of(date: Date) -> Self {
        Self { first: date.first_of_year(), days: i32::from(date.days_in_year()) }
    }

    fn at(&self, day: i32) -> Date {
        self.first.checked_add(day.days()).unwrap_or(self.first)
    }

    /// A day or a number of days as percent of the year.
    fn percent(&self, days: impl Into<f64>) -> f64 {
        100.0 * days.into() / f64::from(self.days)
    }

    /// First day and length of each of 52 weeks; the last takes the year's odd days with it.
    fn weeks(&self) -> impl Iterator<Item = (i32, i32)> {
        let days = self.days;
        (0..WEEKS).map(move |w| (w * 7, if w == WEEKS - 1 { days - w * 7 } else { 7 }))
    }
}

/// Weeks of a year on the ribbon.
const WEEKS: i32 = 52;
/// Days between two points of the expected curve.
const EXPECTED_STEP_DAYS: usize = 4;

/// The recorded demand and rain of a year as paths, and its last recorded day.
fn record(climate: &Climate, year: &Year) -> (String, String, Option<i32>) {
    let (mut measured, mut rain, mut last) = (String::new(), String::new(), None);
    for i in 0..year.days {
        let window = climate.range(year.at(i - SMOOTH_DAYS + 1), year.at(i));
        let (sum, count) = window.fold((0.0, 0.0), |(s, n), (_, day)| (s + day.et.et0.mm(), n + 1.0));
        let Some(day) = climate.day(year.at(i)) else { continue };
        let command = if last == Some(i - 1) { 'L' } else { 'M' };
        measured.push_str(&format!("{command}{i} {:.1}", y(sum / f64::max(count, 1.0), TOP_DEMAND_MM)));
        last = Some(i);
        let mm = day.weather.rain.unwrap_or(Millimetres::ZERO).mm();
        if mm >= LEAST_RAIN_MM {
            rain.push_str(&format!("M{i} {HEIGHT}V{:.1}", y(mm, TOP_RAIN_MM)));
        }
    }
    (measured, rain, last)
}

/// The expected demand after the last recorded day as a path.
fn expectation(climate: &Climate, year: &Year, last: Option<i32>) -> String {
    let from = last.map_or(0, |i| i + 1);
    let mut path = String::new();
    for i in (from..year.days).step_by(EXPECTED_STEP_DAYS) {
        let command = if i == from { 'M' } else { 'L' };
        let et0 = climate.expected_et0(year.at(i)).0;
        path.push_str(&format!("{command}{i} {:.1}", y(et0.mm(), TOP_DEMAND_MM)));
    }
    path
}

/// The mean demand of each month as a stepped path, and the months in numbers.
fn months(climate: &Climate, year: &Year, units: UnitSystem) -> (String, Vec<Month>) {
    let monthly = climate.monthly_expected_et0(year.first.year());
    let peak = monthly.iter().fold(LEAST_PEAK_MM, |a, m| a.max(m.mm()));
    let (mut step, mut months) = (String::new(), Vec::new());
    for (month, et0) in monthly.months() {
        let Ok(start) = Date::new(year.first.year(), month.number(), 1) else { continue };
        let x = i32::from(start.day_of_year()) - 1;
        let end = x + i32::from(start.days_in_month());
        let command = if step.is_empty() { 'M' } else { 'L' };
        step.push_str(&format!("{command}{x} {:.1}H{end}", y(et0.mm(), TOP_DEMAND_MM)));
        let recorded = climate.range(start, start.last_of_month());
        let rain: Vec<Millimetres> = recorded.filter_map(|(_, d)| d.weather.rain).collect();
        months.push(Month {
            name: month.short(),
            percent: format!("{:.0} %", 100.0 * et0.mm() / peak),
            demand: depth(units, *et0 * f64::from(start.days_in_month())),
            rain: if rain.is_empty() { "–".into() } else { depth(units, rain.into_iter().sum()) },
            x: format!("{:.2}%", year.percent(x)),
        });
    }
    (step, months)
}

/// The weeks, that of a date chosen.
fn weeks(climate: &Climate, year: &Year, date: Date) -> Vec<Week> {
    let today = i32::from(date.day_of_year()) - 1;
    let week = |(start, length): (i32, i32)| Week {
        x: format!("{:.3}%", year.percent(start)),
        width: format!("{:.3}%", year.percent(length)),
        href_date: year.at(start + today.rem_euclid(7).min(length - 1)),
        label: format!("Week from {}", short_date(year.at(start))),
        chosen: (start..start + length).contains(&today),
        frost: frost_week(climate, year.at(start), length),
    };
    year.weeks().map(week).collect()
}

/// Weeks of frost that follow each other, as one shade.
fn frost(weeks: &[Week], year: &Year) -> Vec<Shade> {
    let all: Vec<((i32, i32), &Week)> = year.weeks().zip(weeks).collect();
    all.chunk_by(|(_, a), (_, b)| a.frost == b.frost)
        .filter_map(|run| {
            let (((first, _), week), ((last, length), _)) = (run.first()?, run.last()?);
            let width = format!("{:.3}%", year.percent(last + length - first));
            week.frost.then(|| Shade { x: week.x.clone(), width })
        })
        .collect()
}

/// A ribbon as a page shows it, and where its weeks lead.
#[derive(askama::Template)]
#[template(path = "page/ribbon.html")]
pub(crate) struct RibbonPart {
    ribbon: Ribbon,
    /// What stands before and behind the date in the address of a week.
    link: (String, String),
}

impl RibbonPart {
    /// The ribbon of the year of a date, of which every week leads to `link` around its date.
    pub fn new(climate: &Climate, date: Date, units: UnitSystem, link: (String, String)) -> Self {
        Self { ribbon: build(climate, date, units), link }
    }

    fn to(&self, date: &Date) -> String {
        let (before, after) = &self.link;
        format!("{before}{date}{after}")
    }
}

fn build(climate: &Climate, date: Date, units: UnitSystem) -> Ribbon {
    let year = Year::of(date);
    let (measured, rain, last) = record(climate, &year);
    let (step, months) = months(climate, &year, units);
    let weeks = weeks(climate, &year, date);
    let (number, chosen) = (date.year(), short_date(date));
    let words = match climate.span() {
        Some(DateSpan { first, last }) => {
            let (a, b) = (first.formatted("%-d %b %Y"), last.formatted("%-d %b %Y"));
            format!("Year {number}: demand, rain and frost weeks; record from {a} to {b}; chosen {chosen}")
        }
        None => format!("Year {number}: expected demand, no record yet; chosen {chosen}"),
    };
    Ribbon {
        year: number,
        days: year.days,
        measured,
        expected: expectation(climate, &year, last),
        rain,
        step,
        frost: frost(&weeks, &year),
        weeks,
        months,
        today_x: format!("{:.3}%", year.percent(f64::from(date.day_of_year()) - 0.5)),
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
    let Some(DateSpan { first, last }) = climate.span() else { return false };
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
    fn a_month_without_a_record_has_no_rain_rather_than_none() {
        let ribbon = build(&climate(), date(2026, 7, 14), UnitSystem::Metric);
        // The record ends on 14 July 2026; every tenth day brought 12 mm.
        let rain: Vec<_> = ribbon.months.iter().map(|m| m.rain.as_str()).collect();
        assert_eq!((rain[5], rain[7], rain[11]), ("36.0 mm", "–", "–"));
        let dry = build(&climate(), date(2026, 7, 14), UnitSystem::UsCustomary);
        assert_eq!(dry.months[0].rain, "1.42 in");
    }

    #[test]
    fn the_ends_of_the_year_have_their_week() {
        for on in [date(2026, 1, 1), date(2026, 12, 31), date(2028, 12, 31)] {
            let ribbon = build(&climate(), on, UnitSystem::Metric);
            assert_eq!(ribbon.weeks.iter().filter(|w| w.chosen).count(), 1, "{on}");
        }
    }
}

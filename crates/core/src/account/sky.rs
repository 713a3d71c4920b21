//! The hours over a site: rain and reference ET of each, from days by stated rules, or as recorded.
//!
//! - The ET0 of a day falls in its hours as the sine of the sun's height at the middle of each, nothing in
//!   the dark; without any sun it is even. So the hours add up to the day that every page shows.
//! - The rain of a day falls evenly in the [`RAIN_HOURS`] before [`RAIN_BY`], or as its hours were recorded.

use crate::quantity::span::TimeSpan;
use crate::quantity::time::{instant, midnight};
use crate::quantity::units::Millimetres;
use crate::weather::climate::{Climate, ExpectedFrom};
use crate::weather::sun;
use jiff::civil::{Date, Time, time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

/// Hours that a day's rain is spread over when only its sum is known (our stated default).
pub const RAIN_HOURS: f64 = 6.0;
/// When they end, by the wall clock: a daily record does not say the hour, and an evening's watering must know
/// of the rain (our stated default).
pub const RAIN_BY: Time = time(18, 0, 0, 0);

const HOUR_S: i64 = 3600;

/// Where a day's ET0 came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DemandFrom {
    /// The site's record of that day.
    Record,
    /// Expected, for want of a record of that day.
    Expected(ExpectedFrom),
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

/// A day over a site.
#[derive(Debug, Clone, PartialEq)]
pub struct SkyDay {
    /// The day.
    pub date: Date,
    /// Its first midnight.
    pub begins: Timestamp,
    /// Its last.
    pub ends: Timestamp,
    /// Reference ET of the whole day.
    pub et0: Millimetres,
    /// Where that came from.
    pub demand_from: DemandFrom,
    /// Rain of the whole day; `None` when none was recorded.
    pub rain: Option<Millimetres>,
    /// Expected reference ET of the day after.
    pub expected_next: Millimetres,
    /// Whether its rain was a drizzle that counts for nothing in the soil.
    pub drizzle: bool,
    /// Place of its first hour.
    first: usize,
    /// How many hours of it there are, the last perhaps shorter.
    hours: usize,
}

/// One hour over a site.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SkyHour {
    /// When it begins.
    pub from: Timestamp,
    /// When it ends.
    pub until: Timestamp,
    /// Rain.
    pub rain: Millimetres,
    /// Reference ET.
    pub et0: Millimetres,
}

/// The hours over a site from the midnight of a first day to an instant.
#[derive(Debug, Clone, PartialEq)]
pub struct SkyHours {
    /// Time zone of the days.
    pub tz: TimeZone,
    days: Vec<SkyDay>,
    all: Vec<SkyHour>,
}

impl SkyHours {
    /// The hours of a climate from a date up to an instant: hours that have not ended by then are left out.
    #[must_use]
    pub fn of(climate: &Climate, longitude_deg: f64, tz: &TimeZone, from: Date, until: Timestamp) -> Self {
        let mut out = Self { tz: tz.clone(), days: Vec::new(), all: Vec::new() };
        let mut date = from;
        let mut begins = midnight(date, tz);
        while begins < until {
            let Ok(next) = date.tomorrow() else { break };
            let ends = midnight(next, tz);
            let (et0, demand_from) = et0_of(climate, date);
            let rain = climate.rain_on(date);
            let day = SkyDay {
                date,
                begins,
                ends,
                et0,
                demand_from,
                rain,
                drizzle: rain.is_some_and(|rain| climate.leaves_out(rain, et0)),
                expected_next: climate.expected_et0(next).0,
                first: out.all.len(),
                hours: 0,
            };
            out.push(day, climate, longitude_deg, until);
            (date, begins) = (next, ends);
        }
        out
    }

    /// Adds the hours of a day that end by an instant.
    fn push(&mut self, mut day: SkyDay, climate: &Climate, longitude_deg: f64, until: Timestamp) {
        let spans: Vec<TimeSpan> = hours_of(day.begins, day.ends).collect();
        let weights = sun_weights(&spans, day.date, climate.station().latitude_deg, longitude_deg);
        let rained = rain_weights(&spans, climate.rain_hours(day.date), day.date, &self.tz);
        let rain = day.rain.unwrap_or(Millimetres::ZERO).mm();
        for (span, (et0, wet)) in spans.iter().zip(weights.into_iter().zip(rained)) {
            if span.until > until {
                break;
            }
            self.all.push(SkyHour {
                from: span.from,
                until: span.until,
                rain: Millimetres::from_mm(rain * wet),
                et0: Millimetres::from_mm(day.et0.mm() * et0),
            });
            day.hours += 1;
        }
        if day.hours > 0 {
            self.days.push(day);
        }
    }

    /// Hours that bring the same each: what a day brings, divided by its hours. For checks against a balance by
    /// the day.
    #[must_use]
    pub fn even(climate: &Climate, tz: &TimeZone, from: Date, until: Timestamp) -> Self {
        let mut out = Self::of(climate, 0.0, tz, from, until);
        for day in &out.days {
            #[allow(clippy::cast_precision_loss, reason = "hours of a day")]
            let share = 1.0 / hours_of(day.begins, day.ends).count() as f64;
            for hour in out.all.get_mut(day.first..day.first + day.hours).into_iter().flatten() {
                hour.et0 = day.et0 * share;
                hour.rain = day.rain.unwrap_or(Millimetres::ZERO) * share;
            }
        }
        out
    }

    /// Whole days from a date, each with its rain and ET0, spread evenly over its hours.
    #[cfg(test)]
    pub(crate) fn from_days(
        days: &[(Millimetres, Millimetres)],
        first: Date,
        station: crate::weather::Station,
    ) -> Self {
        let nowhere = Climate::from_record(&[], station);
        let last = first.checked_add(jiff::Span::new().days(i64::try_from(days.len()).unwrap_or(0)));
        let until = midnight(last.unwrap_or(first), &TimeZone::UTC);
        let mut out = Self::even(&nowhere, &TimeZone::UTC, first, until);
        for (day, (rain, et0)) in out.days.iter_mut().zip(days) {
            (day.rain, day.et0) = (Some(*rain), *et0);
            for hour in &mut out.all[day.first..day.first + day.hours] {
                (hour.rain, hour.et0) = (*rain * (1.0 / 24.0), *et0 * (1.0 / 24.0));
            }
        }
        out
    }

    /// The same without the rain of the hours that begin at or after an instant: nobody knows it yet.
    #[must_use]
    pub fn without_rain_after(mut self, at: Timestamp) -> Self {
        for hour in self.all.iter_mut().filter(|hour| hour.from >= at) {
            hour.rain = Millimetres::ZERO;
        }
        self
    }

    /// The same as it is forecast from a date on: expected ET0, and no rain. Days after it that were recorded
    /// meanwhile are not looked at.
    #[must_use]
    pub fn foretold_from(mut self, climate: &Climate, date: Date) -> Self {
        for day in self.days.iter_mut().filter(|day| day.date >= date) {
            let (expected, from) = climate.expected_et0_as_of(day.date, date.yesterday().unwrap_or(date));
            let share = if day.et0.mm() > 0.0 { expected.mm() / day.et0.mm() } else { 0.0 };
            for hour in self.all.get_mut(day.first..day.first + day.hours).into_iter().flatten() {
                (hour.et0, hour.rain) = (hour.et0 * share, Millimetres::ZERO);
            }
            (day.et0, day.rain, day.demand_from) = (expected, None, DemandFrom::Expected(from));
        }
        self
    }

    /// The days, in order.
    #[must_use]
    pub fn days(&self) -> &[SkyDay] {
        &self.days
    }

    /// The hours of a day, in order.
    pub fn hours(&self, day: &SkyDay) -> impl Iterator<Item = SkyHour> {
        self.all.get(day.first..day.first + day.hours).unwrap_or_default().iter().copied()
    }

    /// All hours, in order.
    pub fn all(&self) -> impl Iterator<Item = SkyHour> {
        self.all.iter().copied()
    }
}

/// The hours between two midnights: 23 or 25 when a clock changes, the last perhaps shorter.
fn hours_of(begins: Timestamp, ends: Timestamp) -> impl Iterator<Item = TimeSpan> {
    let seconds = ends.as_second() - begins.as_second();
    let count = seconds.div_euclid(HOUR_S) + i64::from(seconds.rem_euclid(HOUR_S) > 0);
    (0..count).map(move |k| {
        let from = begins + SignedDuration::from_secs(k * HOUR_S);
        TimeSpan::new(from, (from + SignedDuration::from_secs(HOUR_S)).min(ends))
    })
}

/// Shares of a day's ET0 by hour.
fn sun_weights(spans: &[TimeSpan], date: Date, latitude_deg: f64, longitude_deg: f64) -> Vec<f64> {
    let j = sun::day_of_year(date);
    let (phi, delta) = (latitude_deg.to_radians(), sun::declination_rad(j));
    let (level, swing) = (phi.sin() * delta.sin(), phi.cos() * delta.cos());
    let height = |span: &TimeSpan| {
        let middle = i64::midpoint(span.from.as_second(), span.until.as_second());
        #[allow(clippy::cast_precision_loss, reason = "seconds of a day")]
        let utc_hour = middle.rem_euclid(86_400) as f64 / 3600.0;
        (level + swing * sun::solar_time_angle_rad(utc_hour, longitude_deg, j).cos()).max(0.0)
    };
    shared_out(spans.iter().map(height).collect())
}

/// Shares of a day's rain by hour: as recorded, else in the hours before [`RAIN_BY`].
fn rain_weights(
    spans: &[TimeSpan],
    recorded: Option<&[(Timestamp, f64)]>,
    date: Date,
    tz: &TimeZone,
) -> Vec<f64> {
    if let Some(recorded) = recorded {
        let within = |span: &TimeSpan| {
            let own = recorded.iter().filter(|(at, _)| span.contains(*at));
            own.map(|(_, mm)| mm.max(0.0)).sum::<f64>()
        };
        let weights: Vec<f64> = spans.iter().map(within).collect();
        if weights.iter().sum::<f64>() > 0.0 {
            return shared_out(weights);
        }
    }
    let ends = instant(date, RAIN_BY, tz);
    #[allow(clippy::cast_possible_truncation, reason = "some hours")]
    let begins = ends - SignedDuration::from_secs((RAIN_HOURS * 3600.0) as i64);
    let rain = TimeSpan::new(begins, ends);
    let within = |span: &TimeSpan| span.shared_duration(rain).as_secs_f64();
    shared_out(spans.iter().map(within).collect())
}

/// Weights as shares of the whole; even where there is no weight at all.
fn shared_out(mut weights: Vec<f64>) -> Vec<f64> {
    let sum: f64 = weights.iter().sum();
    #[allow(clippy::cast_precision_loss, reason = "hours of a day")]
    let even = 1.0 / weights.len().max(1) as f64;
    for weight in &mut weights {
        *weight = if sum > 0.0 { *weight / sum } else { even };
    }
    weights
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::{Celsius, Metres};
    use crate::weather::{DayWeather, Station};
    use jiff::ToSpan;
    use jiff::civil::date;

    fn climate(days: &[(Date, f64)], latitude_deg: f64) -> Climate {
        let days: Vec<_> = days
            .iter()
            .map(|(on, rain)| {
                let mut day =
                    DayWeather::from_temperatures(*on, Celsius::from_c(11.0), Celsius::from_c(25.0));
                day.rain = Some(Millimetres::from_mm(*rain));
                day
            })
            .collect();
        let station = Station {
            latitude_deg,
            longitude_deg: 8.0,
            elevation: Metres::from_m(1000.0),
            wind_height: Metres::from_m(2.0),
        };
        Climate::from_record(&days, station)
    }

    fn sums(sky: &SkyHours, day: &SkyDay) -> (f64, f64) {
        sky.hours(day).fold((0.0, 0.0), |s, h| (s.0 + h.rain.mm(), s.1 + h.et0.mm()))
    }

    #[test]
    fn the_hours_of_every_day_add_up_to_it_when_clocks_change_too() {
        let tz = TimeZone::get("Europe/Paris").unwrap();
        let dates = [date(2026, 3, 29), date(2026, 7, 1), date(2026, 10, 25)];
        let climate = climate(&dates.map(|d| (d, 12.0)), 46.0);
        for (on, hours) in dates.into_iter().zip([23, 24, 25]) {
            let sky = SkyHours::of(&climate, 8.0, &tz, on, midnight(on + 1.day(), &tz));
            let day = &sky.days()[0];
            assert_eq!((sky.days().len(), sky.hours(day).count()), (1, hours));
            let (rain, et0) = sums(&sky, day);
            assert!((rain - 12.0).abs() < 1e-9 && (et0 - day.et0.mm()).abs() < 1e-9);
        }
    }

    #[test]
    fn rain_falls_in_the_afternoon_and_et_by_daylight() {
        let tz = TimeZone::get("Etc/GMT-2").unwrap();
        let climate = climate(&[(date(2026, 7, 1), 12.0)], 46.0);
        let sky = SkyHours::of(&climate, 30.0, &tz, date(2026, 7, 1), midnight(date(2026, 7, 2), &tz));
        let hours: Vec<_> = sky.all().collect();
        let wet: Vec<usize> = (0..24).filter(|h| hours[*h].rain.mm() > 0.0).collect();
        assert_eq!(wet, [12, 13, 14, 15, 16, 17]);
        assert!((hours[12].rain.mm() - 2.0).abs() < 1e-9);
        assert!(hours[2].et0.mm() == 0.0 && hours[23].et0.mm() == 0.0);
        let most = (0..24).max_by(|a, b| hours[*a].et0.mm().total_cmp(&hours[*b].et0.mm())).unwrap();
        assert!((11..=12).contains(&most), "the sun stands highest about noon: {most}");
    }

    #[test]
    fn without_sun_a_day_is_even_and_an_instant_ends_the_hours() {
        let climate = climate(&[(date(2026, 12, 21), 6.0)], 80.0);
        let until = "2026-12-21T15:30:00Z".parse().unwrap();
        let sky = SkyHours::of(&climate, 0.0, &TimeZone::UTC, date(2026, 12, 21), until);
        assert_eq!(sky.all().count(), 15, "the hour that has not ended is left out");
        let et0: Vec<f64> = sky.all().map(|h| h.et0.mm()).collect();
        assert!(et0.windows(2).all(|p| (p[0] - p[1]).abs() < 1e-12));
        assert!((sky.all().map(|h| h.rain.mm()).sum::<f64>() - 3.0).abs() < 1e-9, "half of it by three");
    }

    #[test]
    fn recorded_hours_say_when_it_rained() {
        let at = |h: i64| midnight(date(2026, 7, 1), &TimeZone::UTC) + SignedDuration::from_hours(h);
        let climate = climate(&[(date(2026, 7, 1), 10.0)], 46.0)
            .with_rain_hours([(date(2026, 7, 1), vec![(at(3), 1.0), (at(4), 3.0)])].into());
        let sky = SkyHours::of(
            &climate,
            8.0,
            &TimeZone::UTC,
            date(2026, 7, 1),
            midnight(date(2026, 7, 2), &TimeZone::UTC),
        );
        let rain: Vec<f64> = sky.all().map(|h| h.rain.mm()).collect();
        assert!(
            (rain[3] - 2.5).abs() < 1e-9 && (rain[4] - 7.5).abs() < 1e-9,
            "the day's sum counts: {rain:?}"
        );
    }
}

//! Years put together of recorded days: what a typical year is made of, and generated ones.

use super::climate::{Climate, MovedDay};
use crate::quantity::month::Month;
use crate::quantity::span::DateSpan;
use jiff::ToSpan;
use jiff::civil::Date;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::BTreeMap;

/// A month with fewer recorded days is not whole.
const WHOLE_MONTH_DAYS: i8 = 25;
/// Days of the calendar on either side of a day among which its like are looked for (our stated default).
const HALF_WINDOW_DAYS: i16 = 15;
/// Fewest days from which days are drawn.
const FEWEST_DAYS: usize = 300;

/// The whole years of a record, from the first of a month to the day before it a year later: each of their months has
/// nearly all its days. In the south a year begins in July, so that a season is not cut.
#[must_use]
pub fn whole_years(climate: &Climate) -> Vec<DateSpan> {
    let Some(DateSpan { first, last }) = climate.span() else { return Vec::new() };
    let month = if climate.station().latitude_deg < 0.0 { 7 } else { 1 };
    let begins = (first.year()..=last.year()).filter_map(|year| Date::new(year, month, 1).ok());
    begins
        .filter_map(|from| Some(DateSpan::new(from, from.checked_add(1.year()).ok()?.yesterday().ok()?)))
        .filter(|year| {
            let months = (0..12).filter_map(|k| year.first.checked_add(k.months()).ok());
            months.into_iter().all(|month| is_whole(climate, month))
        })
        .collect()
}

fn is_whole(climate: &Climate, first: Date) -> bool {
    let days = climate.range(first, first.last_of_month());
    let with_rain = days.filter(|(date, _)| climate.rain_on(**date).is_some()).count();
    with_rain >= usize::from(WHOLE_MONTH_DAYS.unsigned_abs())
}

/// What a year asked for beyond its rain, mm: ET0 less rain.
#[must_use]
pub fn dryness_mm(climate: &Climate, span: DateSpan) -> f64 {
    let of = |(date, day): (&Date, &super::climate::ClimateDay)| {
        day.et.et0.mm() - climate.rain_on(*date).map_or(0.0, |rain| rain.mm())
    };
    climate.range(span.first, span.last).map(of).sum()
}

/// The year, by number, whose month is nearest to the mean of all whole months of its name in ET0 and rain, both in mm
/// a day; the earlier of two alike. As typical meteorological years are made, of whole months of
/// different years, but by these two sums alone.
///
/// `None` when fewer than two years have that month.
fn typical_month(climate: &Climate, month: Month) -> Option<i16> {
    let DateSpan { first, last } = climate.span()?;
    let firsts = (first.year()..=last.year()).filter_map(|year| Date::new(year, month.number(), 1).ok());
    let sums: Vec<(i16, f64, f64)> = firsts
        .filter(|first| is_whole(climate, *first))
        .map(|first| {
            #[allow(clippy::cast_precision_loss, reason = "days of a month")]
            let days = climate.range(first, first.last_of_month()).count().max(1) as f64;
            let sum = |of: fn(&Climate, &Date) -> f64| {
                climate.range(first, first.last_of_month()).map(|(date, _)| of(climate, date)).sum::<f64>()
            };
            let et0 = sum(|c, d| c.day(*d).map_or(0.0, |day| day.et.et0.mm()));
            let rain = sum(|c, d| c.rain_on(*d).map_or(0.0, |rain| rain.mm()));
            (first.year(), et0 / days, rain / days)
        })
        .collect();
    if sums.len() < 2 {
        return None;
    }
    let (et0, _) = spread(sums.iter().map(|s| s.1));
    let (rain, _) = spread(sums.iter().map(|s| s.2));
    let far = |s: &(i16, f64, f64)| (s.1 - et0).powi(2) + (s.2 - rain).powi(2);
    // The first of several alike.
    sums.iter().min_by(|a, b| far(a).total_cmp(&far(b))).map(|s| s.0)
}

/// Mean and standard deviation; one where there is no spread, so that nothing is divided by nought.
fn spread(values: impl Iterator<Item = f64> + Clone) -> (f64, f64) {
    #[allow(clippy::cast_precision_loss, reason = "years of a record")]
    let count = values.clone().count().max(1) as f64;
    let mean = values.clone().sum::<f64>() / count;
    let variance = values.map(|v| (v - mean).powi(2)).sum::<f64>() / count;
    (mean, if variance > 1e-12 { variance.sqrt() } else { 1.0 })
}

/// The year from which each month of a typical year is taken; `None` when a month was not recorded whole twice.
#[must_use]
pub fn typical_months(climate: &Climate) -> Option<BTreeMap<i8, i16>> {
    Month::ALL.into_iter().map(|month| Some((month.number(), typical_month(climate, month)?))).collect()
}

/// Days of a typical year on the dates of a span: each the same day of its month in the year that the month is taken
/// from. 29 February is the 28th where that year has none.
#[must_use]
pub fn typical_days(months: &BTreeMap<i8, i16>, span: DateSpan) -> Vec<MovedDay> {
    span.dates()
        .filter_map(|date| {
            let year = *months.get(&date.month())?;
            let first = Date::new(year, date.month(), 1).ok()?;
            let from = Date::new(year, date.month(), date.day().min(first.days_in_month())).ok()?;
            Some(MovedDay { date, from })
        })
        .collect()
}

/// A recorded day that another follows.
struct Known {
    date: Date,
    et0: f64,
    /// Square root of the rain: a storm is not everything.
    rain: f64,
}

/// Days drawn from a record by a seed for the dates of a span: a weather generator by nearest neighbours (Rajagopalan
/// and Lall 1999; Buishand and Brandsma 2001). The days like the present one, in ET0 and rain, at the same time of the
/// year are found, one of the `k` nearest is drawn, the nearer the likelier (1 ÷ rank), and the day that followed it in
/// the record is the next; `k` is the square root of their number. So wet and dry spells, and what belongs together on
/// a day, are those of the record. The same seed gives the same days.
///
/// `None` when the record has less than about ten months of days that follow each other.
#[must_use]
pub fn generated_days(climate: &Climate, seed: u64, span: DateSpan) -> Option<Vec<MovedDay>> {
    let DateSpan { first, last } = climate.span()?;
    let complete = |date: Date| climate.day(date).is_some() && climate.rain_on(date).is_some();
    let known: Vec<Known> = climate
        .range(first, last)
        .filter(|(date, _)| complete(**date) && date.tomorrow().is_ok_and(complete))
        .map(|(date, day)| Known {
            date: *date,
            et0: day.et.et0.mm(),
            rain: climate.rain_on(*date).map_or(0.0, |rain| rain.mm().max(0.0).sqrt()),
        })
        .collect();
    if known.len() < FEWEST_DAYS {
        return None;
    }
    let mut by_day: Vec<Vec<&Known>> = Vec::new();
    for day in 1..=366 {
        let near = |own: &&Known| {
            let apart = (own.date.day_of_year() - day).abs();
            apart.min(366 - apart) <= HALF_WINDOW_DAYS
        };
        by_day.push(known.iter().filter(near).collect());
    }
    let like = |date: Date| {
        let own = by_day.get(usize::try_from(date.day_of_year() - 1).ok()?)?;
        (!own.is_empty()).then_some(own)
    };
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let before = span.first.yesterday().ok()?;
    let start = like(before)?;
    let mut now: Date = start.get(rng.random_range(0..start.len()))?.date;
    let mut days = Vec::new();
    for date in span.dates() {
        let here = like(date.yesterday().ok()?)?;
        let (et0, rain) = (spread(here.iter().map(|k| k.et0)), spread(here.iter().map(|k| k.rain)));
        let state = (climate.day(now)?.et.et0.mm(), climate.rain_on(now)?.mm().max(0.0).sqrt());
        let far = |k: &Known| ((k.et0 - state.0) / et0.1).powi(2) + ((k.rain - state.1) / rain.1).powi(2);
        let mut nearest: Vec<(f64, Date)> = here.iter().map(|k| (far(k), k.date)).collect();
        nearest.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        let most = nearest.len().isqrt().max(1);
        now = drawn(&nearest, most, &mut rng)?.tomorrow().ok()?;
        days.push(MovedDay { date, from: now });
    }
    Some(days)
}

/// One of the nearest, the nearer the likelier.
fn drawn(nearest: &[(f64, Date)], most: usize, rng: &mut ChaCha8Rng) -> Option<Date> {
    #[allow(clippy::cast_precision_loss, reason = "some dozens")]
    let weight = |rank: usize| 1.0 / (rank + 1) as f64;
    let all: f64 = (0..most).map(weight).sum();
    let mut left = rng.random_range(0.0..all);
    for (rank, (_, date)) in nearest.iter().take(most).enumerate() {
        left -= weight(rank);
        if left <= 0.0 {
            return Some(*date);
        }
    }
    nearest.get(most.checked_sub(1)?).map(|(_, date)| *date)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::{Celsius, Metres, Millimetres};
    use crate::weather::{DayWeather, Station};
    use jiff::civil::date;
    use jiff::tz::TimeZone;

    /// Years with so much rain every fifth day, warm by the season.
    fn climate(rains: &[f64], latitude_deg: f64) -> Climate {
        let station = Station {
            latitude_deg,
            longitude_deg: 0.0,
            elevation: Metres::from_m(300.0),
            wind_height: Metres::from_m(2.0),
        };
        let first = date(2020, 1, 1);
        let years = i16::try_from(rains.len()).unwrap();
        let days: Vec<DayWeather> = first
            .series(1.day())
            .take_while(|d| d.year() < 2020 + years)
            .map(|d| {
                let season = (f64::from(d.day_of_year() - 200) / 365.0 * std::f64::consts::TAU).cos();
                let warm = 12.0 + 9.0 * season + f64::from(d.day() % 7) * 0.3;
                let mut day = DayWeather::from_temperatures(
                    d,
                    Celsius::from_c(warm - 5.0),
                    Celsius::from_c(warm + 6.0),
                );
                let year = usize::try_from(d.year() - 2020).unwrap();
                day.rain =
                    Some(Millimetres::from_mm(if d.day_of_year() % 5 == 0 { rains[year] } else { 0.0 }));
                day
            })
            .collect();
        Climate::from_record(&days, station)
    }

    #[test]
    fn whole_years_begin_with_the_winter_and_a_cut_one_is_none() {
        let north = climate(&[3.0, 9.0, 1.0], 47.0);
        let years = whole_years(&north);
        assert_eq!(years.len(), 3);
        assert_eq!(years[0], DateSpan::new(date(2020, 1, 1), date(2020, 12, 31)));
        // 73 rainy days, and 74 of a leap year less the same ET0: 6 mm more rain a rainy day.
        let drier = dryness_mm(&north, years[2]) - dryness_mm(&north, years[1]);
        assert!((drier - 73.0 * 8.0).abs() < 6.0, "{drier}");
        let south = whole_years(&climate(&[3.0, 9.0, 1.0], -33.0));
        let from_july = |year| DateSpan::new(date(year, 7, 1), date(year + 1, 6, 30));
        assert_eq!(south, [from_july(2020), from_july(2021)]);
    }

    #[test]
    fn a_typical_year_takes_the_middle_month_and_needs_two_years() {
        let climate = climate(&[3.0, 9.0, 1.0], 47.0);
        let months = typical_months(&climate).unwrap();
        // Of 3, 9 and 1 mm a rainy day the mean is 4.3: 2020 is nearest in every month.
        assert!(months.values().all(|year| *year == 2020), "{months:?}");
        let days = typical_days(&months, DateSpan::new(date(2024, 2, 27), date(2024, 3, 1)));
        assert_eq!(days.len(), 4);
        assert_eq!(days[2], MovedDay { date: date(2024, 2, 29), from: date(2020, 2, 29) });
        let short: BTreeMap<i8, i16> = months.keys().map(|m| (*m, 2021)).collect();
        assert_eq!(
            typical_days(&short, DateSpan::new(date(2024, 2, 29), date(2024, 2, 29))),
            [MovedDay { date: date(2024, 2, 29), from: date(2021, 2, 28) }]
        );
        assert_eq!(typical_months(&self::climate(&[3.0], 47.0)), None);
    }

    #[test]
    fn a_seed_gives_its_days_again_and_their_sums_are_those_of_the_record() {
        let climate = climate(&[6.0; 6], 47.0);
        let span = DateSpan::new(date(2030, 1, 1), date(2035, 12, 31));
        let days = generated_days(&climate, 7, span).unwrap();
        assert_eq!(days.len(), 2191);
        assert_eq!(days, generated_days(&climate, 7, span).unwrap());
        assert_ne!(days, generated_days(&climate, 8, span).unwrap());
        // Every day lies at its time of the year.
        for MovedDay { date, from } in &days {
            let apart = (date.day_of_year() - from.day_of_year()).abs();
            assert!(apart.min(366 - apart) <= HALF_WINDOW_DAYS + 2, "{date} from {from}");
        }
        let made = climate.put_together(&days, &TimeZone::UTC);
        let sum = |c: &Climate, span| {
            let days = || c.range(span, span.checked_add(6.years()).unwrap().yesterday().unwrap());
            let rain = |(d, _): (&Date, &_)| c.rain_on(*d).map_or(0.0, |r| r.mm());
            (days().map(|(_, d)| d.et.et0.mm()).sum::<f64>(), days().map(rain).sum::<f64>())
        };
        let (own, drawn) = (sum(&climate, date(2020, 1, 1)), sum(&made, date(2030, 1, 1)));
        assert!((drawn.0 / own.0 - 1.0).abs() < 0.05, "{own:?} {drawn:?}");
        assert!((drawn.1 / own.1 - 1.0).abs() < 0.25, "{own:?} {drawn:?}");
        assert_eq!(generated_days(&self::climate(&[], 47.0), 1, span), None);
    }

    #[test]
    fn days_put_elsewhere_keep_their_water_and_what_is_expected() {
        let own = climate(&[6.0, 2.0], 47.0);
        let made = own.put_together(
            &[
                MovedDay { date: date(2030, 5, 5), from: date(2020, 5, 4) },
                MovedDay { date: date(2030, 5, 6), from: date(2021, 5, 5) },
            ],
            &TimeZone::UTC,
        );
        assert_eq!(made.len(), 2);
        assert_eq!(made.day(date(2030, 5, 5)).unwrap().et.et0, own.day(date(2020, 5, 4)).unwrap().et.et0);
        assert_eq!(made.rain_on(date(2030, 5, 6)), own.rain_on(date(2021, 5, 5)));
        assert_eq!(made.expected_et0(date(2030, 7, 1)), own.expected_et0(date(2030, 7, 1)));
        assert_eq!(made.monthly_expected_rain(), own.monthly_expected_rain());
    }
}

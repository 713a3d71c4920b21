//! The weather record of a site as a climate: ET0 of every recorded day, and what a day of the
//! year is expected to ask where nothing was recorded.

use crate::quantity::month::{ByMonth, Month};
use crate::quantity::span::DateSpan;
use crate::quantity::time::instant;
use crate::quantity::units::{Celsius, Millimetres};
use crate::weather::forecast::Foretold;
use crate::weather::reference_et::{DailyEt, StationYear, daily, daily_at};
use crate::weather::{DayWeather, Station};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::BTreeMap;

/// Days either side of a day of the year that its normal is averaged over.
const NORMAL_HALF_WINDOW_DAYS: usize = 10;
/// Fewest recorded days behind a normal before it is used.
const NORMAL_MIN_DAYS: u32 = 5;
/// Recorded days from which a month counts as whole.
const WHOLE_MONTH_DAYS: u32 = 25;
/// Diurnal range assumed where there is no record, °C (our rough estimate).
const ROUGH_RANGE_C: f64 = 12.0;

/// Share of a day's ET0 below which its rain is a drizzle (FAO-56 chapter 8).
const DRIZZLE_SHARE: f64 = 0.2;

/// What rain below a fifth of a day's ET0 counts for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Drizzle {
    /// Nothing: it wets leaves and evaporates again (FAO-56 chapter 8, and our default).
    #[default]
    LeftOut,
    /// It counts like all rain.
    Counted,
}

impl Drizzle {
    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::LeftOut => "left out: it evaporates from the leaves",
            Self::Counted => "counted like all rain",
        }
    }
}

/// One recorded day with its ET0.
#[derive(Debug, Clone, PartialEq)]
pub struct ClimateDay {
    /// The weather.
    pub weather: DayWeather,
    /// Its reference ET.
    pub et: DailyEt,
}

/// What an expected ET0 rests on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ExpectedFrom {
    /// What a weather service foretells of the day.
    Forecast,
    /// The mean of this time of year in the record.
    Normals,
    /// Monthly normals that somebody typed.
    TypedNormals,
    /// A rough climate by latitude and elevation, for want of any record.
    RoughEstimate,
}

/// A site's record turned into ET0 and normals.
#[derive(Debug, Clone)]
pub struct Climate {
    station: Station,
    days: BTreeMap<Date, ClimateDay>,
    normals: Normals,
    typed: Option<TypedNormals>,
    /// Rain of days whose temperatures are missing: it fell all the same.
    rain_alone: BTreeMap<Date, Millimetres>,
    rain_hours: RainHours,
    /// What was forecast, with its ET0; it is no record, and never counts as fallen.
    foretold: BTreeMap<Date, (Foretold, Millimetres)>,
    /// Monthly rain to expect when the days are not those that it was found from.
    normal_rain: Option<ByMonth<Millimetres>>,
    drizzle: Drizzle,
}

/// A recorded day on another date.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MovedDay {
    /// The date on which it stands.
    pub date: Date,
    /// The date on which it was recorded.
    pub from: Date,
}

/// Begins and millimetres of recorded hours, by the day they lie in.
pub type RainHours = BTreeMap<Date, Vec<(Timestamp, f64)>>;

/// Monthly means that stand in where there is no record, typed from a table.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TypedNormals {
    /// Mean daily minimum.
    pub temperature_min: ByMonth<Celsius>,
    /// Mean daily maximum.
    pub temperature_max: ByMonth<Celsius>,
    /// Rain of the month; `None` when it was not typed.
    pub rain: Option<ByMonth<Millimetres>>,
    /// ET0 of a day; `None` when it was not typed and Hargreaves-Samani on the temperatures stands in.
    pub et0_a_day: Option<ByMonth<Millimetres>>,
}

impl TypedNormals {
    /// ET0 of a day of a month.
    #[must_use]
    pub fn et0(&self, date: Date, station: &Station) -> Millimetres {
        if let Some(et0) = self.et0_a_day {
            return *et0.on(date);
        }
        let (min, max) = (self.temperature_min.on(date), self.temperature_max.on(date));
        daily(&DayWeather::from_temperatures(date, *min, *max), station).et0.max(Millimetres::ZERO)
    }
}

impl Climate {
    /// Computes ET0 for every day and the normals by day of the year.
    #[must_use]
    pub fn from_record(days: &[DayWeather], station: Station) -> Self {
        let year = StationYear::of(&station);
        let days: BTreeMap<Date, ClimateDay> = days
            .iter()
            .map(|weather| (weather.date, ClimateDay { weather: *weather, et: daily_at(weather, &year) }))
            .collect();
        let normals = Normals::of(&days);
        Self {
            station,
            days,
            normals,
            typed: None,
            rain_alone: BTreeMap::new(),
            rain_hours: BTreeMap::new(),
            foretold: BTreeMap::new(),
            normal_rain: None,
            drizzle: Drizzle::default(),
        }
    }

    /// The same with what its drizzle counts for.
    #[must_use]
    pub fn with_drizzle(self, drizzle: Drizzle) -> Self {
        Self { drizzle, ..self }
    }

    /// What its drizzle counts for.
    #[must_use]
    pub const fn drizzle(&self) -> Drizzle {
        self.drizzle
    }

    /// Whether rain of a day with this ET0 is a drizzle that counts for nothing.
    #[must_use]
    pub fn leaves_out(&self, rain: Millimetres, et0: Millimetres) -> bool {
        self.drizzle == Drizzle::LeftOut && rain.mm() < DRIZZLE_SHARE * et0.mm()
    }

    /// Recorded days on other dates, with the hours of their rain by the wall clock. What is expected of a time of year stays as this record has it.
    #[must_use]
    pub fn put_together(&self, moved: &[MovedDay], tz: &TimeZone) -> Self {
        let day = |MovedDay { date, from }: &MovedDay| {
            let day = self.day(*from)?;
            let rain = self.rain_on(*from);
            let weather = DayWeather { date: *date, rain, ..day.weather };
            Some((*date, ClimateDay { weather, et: day.et.clone() }))
        };
        let hours = |MovedDay { date, from }: &MovedDay| {
            let own = self.rain_hours(*from)?.iter();
            let at = |at: &Timestamp| instant(*date, at.to_zoned(tz.clone()).time(), tz);
            Some((*date, own.map(|(begin, mm)| (at(begin), *mm)).collect()))
        };
        Self {
            station: self.station,
            days: moved.iter().filter_map(day).collect(),
            normals: self.normals.of_all_time(),
            typed: self.typed,
            rain_alone: BTreeMap::new(),
            rain_hours: moved.iter().filter_map(hours).collect(),
            foretold: BTreeMap::new(),
            normal_rain: self.monthly_expected_rain(),
            drizzle: self.drizzle,
        }
    }

    /// The same with monthly normals behind the record.
    #[must_use]
    pub fn with_typed(self, typed: Option<TypedNormals>) -> Self {
        Self { typed, ..self }
    }

    /// The same with rain of days whose temperatures are missing.
    #[must_use]
    pub fn with_rain_alone(self, rain_alone: BTreeMap<Date, Millimetres>) -> Self {
        Self { rain_alone, ..self }
    }

    /// The same with the hours in which rain was recorded; a day's own sum counts.
    #[must_use]
    pub fn with_rain_hours(self, rain_hours: RainHours) -> Self {
        Self { rain_hours, ..self }
    }

    /// The same with what was forecast of days, in place of what was forecast before.
    #[must_use]
    pub fn with_forecast(self, days: &[Foretold]) -> Self {
        let year = StationYear::of(&self.station);
        let with_et0 = |day: &Foretold| {
            let et0 = daily_at(&day.weather, &year).et0.max(Millimetres::ZERO);
            (day.weather.date, (*day, et0))
        };
        Self { foretold: days.iter().map(with_et0).collect(), ..self }
    }

    /// What was forecast of a day, if anything was.
    #[must_use]
    pub fn foretold(&self, date: Date) -> Option<&Foretold> {
        self.foretold.get(&date).map(|(day, _)| day)
    }

    /// Every day of which something was forecast, in order.
    pub fn forecast(&self) -> impl DoubleEndedIterator<Item = &Foretold> {
        self.foretold.values().map(|(day, _)| day)
    }

    /// Rain of a day, if it was recorded.
    #[must_use]
    pub fn rain_on(&self, date: Date) -> Option<Millimetres> {
        self.day(date).and_then(|day| day.weather.rain).or_else(|| self.rain_alone.get(&date).copied())
    }

    /// The hours of a day in which rain was recorded: begins and millimetres; `None` when only days were.
    #[must_use]
    pub fn rain_hours(&self, date: Date) -> Option<&[(Timestamp, f64)]> {
        self.rain_hours.get(&date).map(Vec::as_slice)
    }

    /// Every day with recorded hours of rain.
    #[must_use]
    pub const fn all_rain_hours(&self) -> &RainHours {
        &self.rain_hours
    }

    /// Rain of days whose temperatures are missing.
    #[must_use]
    pub const fn rain_alone(&self) -> &BTreeMap<Date, Millimetres> {
        &self.rain_alone
    }

    /// Monthly normals that somebody typed.
    #[must_use]
    pub const fn typed(&self) -> Option<TypedNormals> {
        self.typed
    }

    /// Days between two dates, both included, that have a temperature but no rain recorded.
    #[must_use]
    pub fn days_without_rain_record(&self, from: Date, to: Date) -> usize {
        self.range(from, to).filter(|(date, _)| self.rain_on(**date).is_none()).count()
    }

    /// Mean rain of each month: of the recorded months that are nearly whole, else
    /// as typed; `None` when neither has every month.
    #[must_use]
    pub fn monthly_expected_rain(&self) -> Option<ByMonth<Millimetres>> {
        if self.normal_rain.is_some() {
            return self.normal_rain;
        }
        let mut months: BTreeMap<(i16, Month), (f64, u32)> = BTreeMap::new();
        let recorded = self.days.keys().filter_map(|date| Some((*date, self.rain_on(*date)?)));
        let alone = self.rain_alone.iter().filter(|(date, _)| !self.days.contains_key(*date));
        for (date, rain) in recorded.chain(alone.map(|(date, rain)| (*date, *rain))) {
            let slot = months.entry((date.year(), Month::of(date))).or_default();
            slot.0 += rain.mm();
            slot.1 += 1;
        }
        let mean = |month: Month| {
            let whole: Vec<f64> = months
                .iter()
                .filter(|((_, m), (_, days))| *m == month && *days >= WHOLE_MONTH_DAYS)
                .map(|(_, (sum, days))| sum / f64::from(*days) * month.days())
                .collect();
            #[allow(clippy::cast_precision_loss, reason = "years of a record")]
            let count = whole.len() as f64;
            (!whole.is_empty()).then(|| Millimetres::from_mm(whole.iter().sum::<f64>() / count))
        };
        let recorded = ByMonth::from_fn(mean);
        let typed = || self.typed.and_then(|t| t.rain);
        recorded.whole().or_else(typed)
    }

    /// Where the weather was measured.
    #[must_use]
    pub fn station(&self) -> &Station {
        &self.station
    }

    /// Whether there is any recorded day.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.days.is_empty()
    }

    /// Number of recorded days.
    #[must_use]
    pub fn len(&self) -> usize {
        self.days.len()
    }

    /// First and last recorded day.
    #[must_use]
    pub fn span(&self) -> Option<DateSpan> {
        Some(DateSpan::new(*self.days.keys().next()?, *self.days.keys().next_back()?))
    }

    /// The recorded day, if there is one.
    #[must_use]
    pub fn day(&self, date: Date) -> Option<&ClimateDay> {
        self.days.get(&date)
    }

    /// Recorded days of a range, both ends included.
    pub fn range(&self, from: Date, to: Date) -> impl Iterator<Item = (&Date, &ClimateDay)> {
        // BTreeMap::range panics when the ends are crossed.
        let to = to.max(from);
        self.days.range(from..=to)
    }

    /// ET0 to expect on a date without a record: as forecast, else the usual one, as both were known before it.
    #[must_use]
    pub fn expected_et0(&self, date: Date) -> (Millimetres, ExpectedFrom) {
        self.expected_et0_as_of(date, date.yesterday().unwrap_or(date))
    }

    /// The same by the days recorded up to an evening: what somebody could expect then.
    #[must_use]
    pub fn expected_et0_as_of(&self, date: Date, evening: Date) -> (Millimetres, ExpectedFrom) {
        match self.foretold.get(&date) {
            Some((_, et0)) => (*et0, ExpectedFrom::Forecast),
            None => self.usual_et0_as_of(date, evening),
        }
    }

    /// ET0 that is usual on a day of the year, whatever is forecast, by all days that are recorded.
    #[must_use]
    pub fn usual_et0(&self, date: Date) -> (Millimetres, ExpectedFrom) {
        self.usual_et0_as_of(date, Date::MAX)
    }

    fn usual_et0_as_of(&self, date: Date, evening: Date) -> (Millimetres, ExpectedFrom) {
        match self.normals.et0(date, evening) {
            // Dew on a winter's night makes a day's ET0 negative; nobody waters against dew.
            Some(et0) => (et0.max(Millimetres::ZERO), ExpectedFrom::Normals),
            None => match &self.typed {
                Some(typed) => (typed.et0(date, &self.station), ExpectedFrom::TypedNormals),
                None => (rough_et0(date, &self.station), ExpectedFrom::RoughEstimate),
            },
        }
    }

    /// Usual daily ET0 averaged over each month of a year.
    #[must_use]
    pub fn monthly_expected_et0(&self, year: i16) -> ByMonth<Millimetres> {
        let mut sums = ByMonth::all((Millimetres::ZERO, 0.0));
        for date in days_of_year(year) {
            let (sum, days) = sums.of_mut(Month::of(date));
            *sum = *sum + self.usual_et0(date).0;
            *days += 1.0;
        }
        sums.map(|(sum, days)| sum * (1.0 / days))
    }
}

/// Means by the time of year, of any part of a record: what was usual on a date does not change when later days are
/// known.
#[derive(Debug, Clone)]
struct Normals {
    /// The first recorded day.
    first: Date,
    /// Sum of ET0 and recorded days before each day of the record, from the first on, mm.
    before: Vec<(f64, u32)>,
    /// Whether it speaks of dates that are not those of the record: then all of it counts on each.
    all_time: bool,
}

impl Normals {
    fn of(days: &BTreeMap<Date, ClimateDay>) -> Self {
        let first = days.keys().next().copied().unwrap_or(Date::MIN);
        let mut before = vec![(0.0, 0)];
        let (mut sum, mut count) = (0.0, 0);
        for (date, day) in days {
            let place = offset(first, *date);
            // Days without a record add nothing.
            before.resize(place.max(before.len() - 1) + 1, (sum, count));
            sum += day.et.et0.mm();
            count += 1;
            before.push((sum, count));
        }
        Self { first, before, all_time: false }
    }

    fn of_all_time(&self) -> Self {
        Self { all_time: true, ..self.clone() }
    }

    /// Sum and count of the days from one to another, both ends included.
    fn between(&self, from: Date, to: Date) -> (f64, u32) {
        let at =
            |place: usize| self.before.get(place.min(self.before.len() - 1)).copied().unwrap_or_default();
        if to < self.first || to < from {
            return (0.0, 0);
        }
        let (low, high) = (at(offset(self.first, from)), at(offset(self.first, to) + 1));
        (high.0 - low.0, high.1 - low.1)
    }

    /// The mean of the days about a date's time of year that were recorded up to an evening.
    fn et0(&self, date: Date, evening: Date) -> Option<Millimetres> {
        if self.before.len() <= 1 {
            return None;
        }
        let evening = if self.all_time { Date::MAX } else { evening };
        let last = self.first.checked_add((i64::try_from(self.before.len()).ok()?).days()).ok()?;
        let half = i64::try_from(NORMAL_HALF_WINDOW_DAYS).ok()?;
        let (mut sum, mut count) = (0.0, 0);
        for year in self.first.year() - 1..=last.year() + 1 {
            // 29 February has the neighbours of the 28th in other years.
            let centre =
                date.with().year(year).build().or_else(|_| date.with().day(28).year(year).build()).ok()?;
            let (from, to) = (centre.checked_sub(half.days()).ok()?, centre.checked_add(half.days()).ok()?);
            let (own, days) = self.between(from, to.min(evening));
            sum += own;
            count += days;
        }
        (count >= NORMAL_MIN_DAYS).then(|| Millimetres::from_mm(sum / f64::from(count)))
    }
}

/// Days from one date to another; nought before it.
fn offset(first: Date, date: Date) -> usize {
    usize::try_from((date - first).get_days()).unwrap_or(0)
}

/// Every day of a year.
fn days_of_year(year: i16) -> impl Iterator<Item = Date> {
    let first = Date::constant(2000, 1, 1).with().year(year).build().unwrap_or(Date::MIN);
    first.series(1.day()).take_while(move |date| date.year() == first.year())
}

/// ET0 from a rough climate by latitude and elevation, so that a site without any record gets a
/// first sheet: sea-level annual mean 27 °C - 0.0075 lat², season ± 0.28 °C per degree of
/// latitude, 6.5 °C less per kilometre (the standard atmosphere), a daily range of 12 °C, and
/// Hargreaves-Samani on those. The two latitude constants are our own rough fit to world climate;
/// the estimate is always shown as one.
#[must_use]
pub fn rough_et0(date: Date, station: &Station) -> Millimetres {
    let latitude = station.latitude_deg;
    let annual = 27.0 - 0.0075 * latitude * latitude - 0.0065 * station.elevation.m();
    // Warmest about a month after the solstice: day 201 in the north, half a year later in the south.
    let peak = if latitude >= 0.0 { 201.0 } else { 201.0 - 182.5 };
    let phase = 2.0 * std::f64::consts::PI * (crate::weather::sun::day_of_year(date) - peak) / 365.0;
    let mean = annual + 0.28 * latitude.abs() * phase.cos();
    let day = DayWeather::from_temperatures(
        date,
        Celsius::from_c(mean - ROUGH_RANGE_C / 2.0),
        Celsius::from_c(mean + ROUGH_RANGE_C / 2.0),
    );
    daily(&day, station).et0
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::Metres;
    use jiff::ToSpan;
    use jiff::civil::date;

    fn station() -> Station {
        Station {
            latitude_deg: 46.0,
            longitude_deg: 8.0,
            elevation: Metres::from_m(1000.0),
            wind_height: Metres::from_m(2.0),
        }
    }

    #[test]
    fn normals_average_the_same_time_of_year() {
        let days: Vec<_> = (0..730)
            .map(|i| {
                let on = date(2023, 1, 1) + i.days();
                DayWeather::from_temperatures(on, Celsius::from_c(8.0), Celsius::from_c(20.0))
            })
            .collect();
        let climate = Climate::from_record(&days, station());
        let (expected, from) = climate.expected_et0(date(2026, 7, 1));
        assert_eq!(from, ExpectedFrom::Normals);
        let measured = climate.day(date(2024, 7, 1)).unwrap().et.et0;
        assert!((expected.mm() - measured.mm()).abs() < 0.1);
        // The seam of the year has a normal too.
        assert_eq!(climate.expected_et0(date(2028, 2, 29)).1, ExpectedFrom::Normals);
        assert_eq!(climate.expected_et0(date(2026, 12, 31)).1, ExpectedFrom::Normals);
    }

    #[test]
    fn sentence_6_what_was_usual_on_a_date_does_not_change_when_later_days_are_known() {
        let days: Vec<_> = (0..1100)
            .map(|i| {
                let on = date(2023, 1, 1) + i.days();
                let warm = 20.0 + f64::from(i * 7 % 13) + f64::from(i) / 200.0;
                DayWeather::from_temperatures(on, Celsius::from_c(8.0), Celsius::from_c(warm))
            })
            .collect();
        let whole = Climate::from_record(&days, station());
        for known in [400, 500, 730, 900] {
            let then = Climate::from_record(&days[..known], station());
            for back in 1..120 {
                let on = days[known - back].date;
                assert_eq!(then.expected_et0(on), whole.expected_et0(on), "{on} of {known} days");
            }
            let evening = days[known - 1].date;
            let next = evening + 3.days();
            assert_eq!(
                then.expected_et0(next),
                whole.expected_et0_as_of(next, evening),
                "what comes, as it was expected"
            );
        }
        assert_ne!(whole.expected_et0(date(2023, 8, 1)).0, whole.usual_et0(date(2023, 8, 1)).0);
    }

    #[test]
    fn without_a_record_the_estimate_is_plausible_in_both_hemispheres() {
        let climate = Climate::from_record(&[], station());
        let (july, from) = climate.expected_et0(date(2026, 7, 15));
        assert_eq!(from, ExpectedFrom::RoughEstimate);
        assert!((3.0..6.5).contains(&july.mm()), "{july:?}");
        assert!(climate.expected_et0(date(2026, 1, 15)).0.mm() < 1.5);
        let south = Station { latitude_deg: -35.0, ..station() };
        assert!(rough_et0(date(2026, 1, 15), &south) > rough_et0(date(2026, 7, 15), &south));
    }
}

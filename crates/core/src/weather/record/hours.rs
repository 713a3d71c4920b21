//! Hours as they came, the rules that judge them, and the days they make.

use super::{RawDay, Variable};
use crate::quantity::units::Celsius;
use crate::weather::Station;
use crate::weather::atmosphere::saturation_vapour_pressure;
use crate::weather::radiation;
use crate::weather::sun;
use jiff::Timestamp;
use jiff::civil::Date;

/// Hours that a day needs for a value of its own (our stated limit).
pub const WHOLE_DAY_HOURS: usize = 20;
/// Sky of the heard hours over that of the day from which none of its light is missing: the two sums differ by
/// less than this where every hour is there.
const HOURS_SKY: f64 = 0.98;
/// Hours with the very same temperature from which a sensor counts as stuck.
const STUCK_HOURS: usize = 12;
/// Sun in an hour that the sky was dark, MJ/m²: 20 W/m².
const DARK_MJ_M2: f64 = 0.072;
/// A change of temperature from one hour to the next beyond this is doubted, °C.
const JUMP_C: f64 = 15.0;

/// A variable of an hour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum HourVariable {
    /// Temperature, °C.
    Temperature,
    /// Relative humidity, %.
    Humidity,
    /// Dew point, °C.
    DewPoint,
    /// Solar radiation over the hour, MJ/m².
    Solar,
    /// Wind, m/s.
    Wind,
    /// Rain, mm.
    Rain,
}

/// All variables of an hour, in the order of a raw hour.
pub const HOUR_VARIABLES: [HourVariable; 6] = [
    HourVariable::Temperature,
    HourVariable::Humidity,
    HourVariable::DewPoint,
    HourVariable::Solar,
    HourVariable::Wind,
    HourVariable::Rain,
];

/// An hour as it came, metric, stamped at its start; anything may be missing.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RawHour {
    /// The instant at which it begins.
    pub start: Timestamp,
    /// The local day in which it begins.
    pub local_date: Date,
    values: [Option<f64>; 6],
    /// Variables that were heard over a part of the hour only, a bit each.
    in_part: u8,
}

impl RawHour {
    /// An hour of which nothing was measured.
    #[must_use]
    pub fn new(start: Timestamp, local_date: Date) -> Self {
        Self { start, local_date, values: [None; 6], in_part: 0 }
    }

    /// Whether a variable was heard over a part of the hour only.
    #[must_use]
    pub fn is_in_part(&self, variable: HourVariable) -> bool {
        self.in_part & (1 << variable as u8) != 0
    }

    /// The variables that have a value of a part of the hour only.
    fn heard_in_parts(&self) -> impl Iterator<Item = HourVariable> + '_ {
        HOUR_VARIABLES.into_iter().filter(|v| self.is_in_part(*v) && self.get(*v).is_some())
    }

    /// Says that a variable was heard over a part of the hour only.
    pub fn heard_in_part(&mut self, variable: HourVariable) {
        self.in_part |= 1 << variable as u8;
    }

    /// The variables heard in part, a bit each in the order of [`HOUR_VARIABLES`].
    #[must_use]
    pub const fn parts(&self) -> u8 {
        self.in_part
    }

    /// The same with the variables heard in part.
    #[must_use]
    pub const fn with_parts(mut self, parts: u8) -> Self {
        self.in_part = parts;
        self
    }

    /// A value.
    #[must_use]
    pub fn get(&self, variable: HourVariable) -> Option<f64> {
        self.values.get(variable as usize).copied().flatten()
    }

    /// Sets a value.
    pub fn set(&mut self, variable: HourVariable, value: Option<f64>) {
        if let Some(slot) = self.values.get_mut(variable as usize) {
            *slot = value;
        }
    }

    /// The same with a value set.
    #[must_use]
    pub fn with(mut self, variable: HourVariable, value: f64) -> Self {
        self.set(variable, Some(value));
        self
    }
}

/// A rule that a value of an hour broke; the last three only doubt it: fog holds a temperature for half
/// a day too, and rain that was heard did fall.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum HourRule {
    /// Outside what is physically possible.
    Range,
    /// Sun in the dark.
    SunInTheDark,
    /// More sun than above the atmosphere.
    AboveTheSky,
    /// A dew point that the air could not hold.
    DewAboveAir,
    /// Heard over a part of the hour only.
    InPart,
    /// Rain heard over a part of the hour only: at least so much.
    RainInPart,
    /// The very same temperature for half a day.
    Stuck,
    /// A jump from the hour before.
    Jump,
}

impl HourRule {
    /// Whether a value that broke it does not count.
    #[must_use]
    pub const fn rejects(self) -> bool {
        !matches!(self, Self::Jump | Self::Stuck | Self::RainInPart)
    }

    /// The rule as the end of a sentence.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Range => "outside what is physically possible",
            Self::SunInTheDark => {
                "sun while it was dark: a clock that is off, or stamps at the end of the hour"
            }
            Self::AboveTheSky => "more sun than above the atmosphere",
            Self::DewAboveAir => "a dew point that the air could not hold",
            Self::InPart => "heard over less than two thirds of the hour",
            Self::RainInPart => "heard over less than two thirds of the hour: at least so much rain",
            Self::Stuck => "the very same temperature for twelve hours and more",
            Self::Jump => "more than 15 °C (27 °F) from the hour before",
        }
    }
}

/// A value of an hour that broke a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HourFlag {
    /// Index of the hour.
    pub index: usize,
    /// The variable.
    pub variable: HourVariable,
    /// The rule.
    pub rule: HourRule,
}

/// Everything that the rules find in hours in order of time; by hour.
// Long: a paragraph a rule.
#[must_use]
pub fn examine_hours(hours: &[RawHour], station: &Station) -> Vec<HourFlag> {
    use HourVariable as V;
    let mut flags = Vec::new();
    let mut still = 0;
    for (index, hour) in hours.iter().enumerate() {
        let mut say = |variable, rule| flags.push(HourFlag { index, variable, rule });
        for (variable, (low, high)) in [
            (V::Temperature, (-70.0, 58.0)),
            (V::Humidity, (0.0, 105.0)),
            (V::DewPoint, (-70.0, 58.0)),
            (V::Wind, (0.0, 60.0)),
            (V::Rain, (0.0, 500.0)),
            (V::Solar, (-0.05, f64::INFINITY)),
        ] {
            if hour.get(variable).is_some_and(|v| !(low..=high).contains(&v)) {
                say(variable, HourRule::Range);
            }
        }
        if let (Some(dew), Some(air)) = (hour.get(V::DewPoint), hour.get(V::Temperature))
            && dew > air + 0.5
        {
            say(V::DewPoint, HourRule::DewAboveAir);
        }
        if let Some(solar) = hour.get(V::Solar) {
            let top = sky(hour, station);
            if top <= 0.0 && solar > DARK_MJ_M2 {
                say(V::Solar, HourRule::SunInTheDark);
            } else if top > 0.0 && solar > top * 1.05 + 0.2 {
                say(V::Solar, HourRule::AboveTheSky);
            }
        }
        hour.heard_in_parts().for_each(|variable| {
            say(variable, if variable == V::Rain { HourRule::RainInPart } else { HourRule::InPart });
        });
        let before = index.checked_sub(1).and_then(|i| hours.get(i));
        match (before.and_then(|b| b.get(V::Temperature)), hour.get(V::Temperature)) {
            (Some(a), Some(b)) => {
                let follows = before.is_some_and(|h| hour.start.duration_since(h.start).as_secs() <= 3600);
                #[allow(clippy::float_cmp, reason = "a stuck sensor repeats its bits")]
                if a == b && follows {
                    still += 1;
                } else {
                    still = 0;
                }
                if follows && (a - b).abs() > JUMP_C {
                    say(V::Temperature, HourRule::Jump);
                }
            }
            _ => still = 0,
        }
        if still + 1 == STUCK_HOURS {
            flags.extend((index + 1 - STUCK_HOURS..=index).map(|i| HourFlag {
                index: i,
                variable: V::Temperature,
                rule: HourRule::Stuck,
            }));
        } else if still >= STUCK_HOURS {
            flags.push(HourFlag { index, variable: V::Temperature, rule: HourRule::Stuck });
        }
    }
    flags.sort_by_key(|f| (f.index, f.variable, f.rule));
    flags
}

/// Radiation above the atmosphere over an hour, MJ/m²; 0 when the sun is down at its start, middle
/// and end.
fn sky(hour: &RawHour, station: &Station) -> f64 {
    let middle = hour.start + jiff::SignedDuration::from_mins(30);
    let utc = middle.to_zoned(jiff::tz::TimeZone::UTC);
    let day = sun::day_of_year(utc.date());
    let clock = f64::from(utc.hour()) + f64::from(utc.minute()) / 60.0;
    let angle = sun::solar_time_angle_rad(clock, station.longitude_deg, day);
    radiation::extraterrestrial_hour(day, station.latitude_deg, angle).mj_per_m2()
}

/// The days that hours make. A value that a rule rejects does not count. A day needs twenty hours
/// of a variable; rain is their sum, radiation is scaled by the sky of the hours that are missing (FAO-56 eq. 28
/// against eq. 21), humidity becomes the mean vapour pressure (FAO-56 eq. 14 on each hour) beside its lowest and highest.
#[must_use]
pub fn days_of(hours: &[RawHour], flags: &[HourFlag], station: &Station) -> Vec<RawDay> {
    let mut rejected = flags.iter().filter(|f| f.rule.rejects()).peekable();
    let mut days: Vec<Gathered> = Vec::new();
    for (index, hour) in hours.iter().enumerate() {
        let mut counted = *hour;
        while let Some(flag) = rejected.next_if(|f| f.index <= index) {
            counted.set(flag.variable, None);
        }
        match days.last_mut().filter(|d| d.date == hour.local_date) {
            Some(day) => day.add(&counted, station),
            None => {
                let mut day = Gathered::new(hour.local_date);
                day.add(&counted, station);
                days.push(day);
            }
        }
    }
    days.iter().map(|day| day.day(station)).filter(|d| !d.is_empty()).collect()
}

/// The hours of a day, gathered.
struct Gathered {
    date: Date,
    temperature: Vec<f64>,
    vapour: Vec<f64>,
    humidity: Vec<f64>,
    solar: Vec<f64>,
    /// Above the atmosphere over the hours of `solar`, MJ/m².
    sky: f64,
    wind: Vec<f64>,
    rain: Vec<f64>,
}

impl Gathered {
    fn new(date: Date) -> Self {
        let empty = || Vec::with_capacity(24);
        Self {
            date,
            temperature: empty(),
            vapour: empty(),
            humidity: empty(),
            solar: empty(),
            sky: 0.0,
            wind: empty(),
            rain: empty(),
        }
    }

    fn add(&mut self, hour: &RawHour, station: &Station) {
        use HourVariable as V;
        let air = hour.get(V::Temperature);
        self.temperature.extend(air);
        let saturated = |c: f64| saturation_vapour_pressure(Celsius::from_c(c)).kpa();
        let humidity = hour.get(V::Humidity).map(|h| h.clamp(0.0, 100.0));
        let vapour = match (hour.get(V::DewPoint), humidity, air) {
            (Some(dew), _, _) => Some(saturated(dew)),
            (None, Some(humidity), Some(air)) => Some(saturated(air) * humidity / 100.0),
            _ => None,
        };
        self.vapour.extend(vapour);
        let humidity = humidity.or_else(|| Some((100.0 * vapour? / saturated(air?)).clamp(0.0, 100.0)));
        self.humidity.extend(humidity);
        if let Some(solar) = hour.get(V::Solar) {
            self.solar.push(solar.max(0.0));
            self.sky += sky(hour, station);
        }
        self.wind.extend(hour.get(V::Wind));
        self.rain.extend(hour.get(V::Rain));
    }

    fn day(&self, station: &Station) -> RawDay {
        let mut day = RawDay::new(self.date);
        let whole = |values: &[f64]| values.len() >= WHOLE_DAY_HOURS;
        #[allow(clippy::cast_precision_loss, reason = "at most 25 hours")]
        let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
        let least = |values: &[f64]| values.iter().copied().fold(f64::INFINITY, f64::min);
        let most = |values: &[f64]| values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let mut set = |variable, values: &[f64], of: &dyn Fn(&[f64]) -> f64| {
            if whole(values) {
                day.set(variable, Some(of(values)));
            }
        };
        set(Variable::TemperatureMin, &self.temperature, &least);
        set(Variable::TemperatureMax, &self.temperature, &most);
        set(Variable::VapourPressure, &self.vapour, &mean);
        set(Variable::HumidityMin, &self.humidity, &least);
        set(Variable::HumidityMax, &self.humidity, &most);
        let whole_sky = radiation::extraterrestrial_day(self.date, station.latitude_deg).mj_per_m2();
        let missing =
            if self.sky > 0.0 && self.sky < HOURS_SKY * whole_sky { whole_sky / self.sky } else { 1.0 };
        set(Variable::Solar, &self.solar, &|v| missing * v.iter().sum::<f64>());
        set(Variable::Wind, &self.wind, &mean);
        set(Variable::Rain, &self.rain, &|v| v.iter().sum());
        day
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::Metres;
    use jiff::SignedDuration;
    use jiff::civil::date;

    fn station() -> Station {
        Station {
            latitude_deg: 46.0,
            longitude_deg: 0.0,
            elevation: Metres::from_m(1000.0),
            wind_height: Metres::from_m(2.0),
        }
    }

    /// A July day in UTC at Greenwich's longitude: warm at fifteen, sun from five to nineteen.
    fn day_of_hours() -> Vec<RawHour> {
        let first: Timestamp = "2026-07-01T00:00:00Z".parse().unwrap();
        (0..24)
            .map(|h| {
                let angle = (f64::from(h) - 15.0) * std::f64::consts::PI / 12.0;
                let sun = (1.0 - ((f64::from(h) + 0.5 - 12.0) / 7.0).powi(2)).max(0.0) * 2.8;
                RawHour::new(first + SignedDuration::from_hours(i64::from(h)), date(2026, 7, 1))
                    .with(HourVariable::Temperature, 15.0 + 6.0 * angle.cos())
                    .with(HourVariable::Humidity, 60.0)
                    .with(HourVariable::Solar, sun)
                    .with(HourVariable::Wind, 2.0)
                    .with(HourVariable::Rain, if h == 4 { 3.0 } else { 0.0 })
            })
            .collect()
    }

    fn rules(hours: &[RawHour]) -> Vec<(usize, HourVariable, HourRule)> {
        examine_hours(hours, &station()).iter().map(|f| (f.index, f.variable, f.rule)).collect()
    }

    #[test]
    fn a_day_of_hours_becomes_a_day() {
        let hours = day_of_hours();
        assert_eq!(rules(&hours), []);
        let days = days_of(&hours, &[], &station());
        assert_eq!(days.len(), 1);
        let value = |v| days[0].get(v).unwrap();
        assert!((value(Variable::TemperatureMax) - 21.0).abs() < 1e-9);
        assert!((value(Variable::TemperatureMin) - 9.0).abs() < 1e-9);
        assert_eq!((value(Variable::Rain), value(Variable::Wind)), (3.0, 2.0));
        assert!(
            (value(Variable::HumidityMin) - 60.0).abs() < 1e-9
                && (value(Variable::HumidityMax) - 60.0).abs() < 1e-9
        );
        let mean: f64 = hours
            .iter()
            .map(|h| {
                0.6 * saturation_vapour_pressure(Celsius::from_c(h.get(HourVariable::Temperature).unwrap()))
                    .kpa()
            })
            .sum::<f64>()
            / 24.0;
        assert!((value(Variable::VapourPressure) - mean).abs() < 1e-12);
    }

    #[test]
    fn a_day_of_few_hours_has_no_value_and_rejected_hours_do_not_count() {
        let mut hours = day_of_hours();
        assert!(days_of(&hours[..19], &[], &station()).is_empty());
        hours[15].set(HourVariable::Temperature, Some(99.0));
        let flags = examine_hours(&hours, &station());
        let range: Vec<_> = flags.iter().filter(|f| f.rule == HourRule::Range).collect();
        assert_eq!(range.len(), 1);
        let highest = days_of(&hours, &flags, &station())[0].get(Variable::TemperatureMax).unwrap();
        assert!(highest < 21.0, "{highest}");
    }

    #[test]
    fn hours_that_are_missing_at_night_take_no_light_away_and_those_at_noon_do() {
        let hours = day_of_hours();
        let solar = |hours: &[RawHour]| days_of(hours, &[], &station())[0].get(Variable::Solar).unwrap();
        let whole = solar(&hours);
        let sum: f64 = hours.iter().map(|h| h.get(HourVariable::Solar).unwrap()).sum();
        assert!((whole - sum).abs() < 1e-9, "all hours are there: {whole}, {sum}");
        // Until eight in the evening the sun has all but set.
        assert!((solar(&hours[..20]) / whole - 1.0).abs() < 0.01, "{}", solar(&hours[..20]));
        let mut gap = hours;
        for hour in &mut gap[10..14] {
            hour.set(HourVariable::Solar, None);
        }
        let of_gap = solar(&gap);
        assert!((of_gap / whole - 1.0).abs() < 0.2 && of_gap > 20.0 / 24.0 * whole, "{of_gap} of {whole}");
    }

    #[test]
    fn an_hour_heard_in_part_does_not_count_but_its_rain_does() {
        let mut hours = day_of_hours();
        for hour in &mut hours[4..9] {
            hour.heard_in_part(HourVariable::Rain);
            hour.heard_in_part(HourVariable::Wind);
        }
        let flags = examine_hours(&hours, &station());
        assert_eq!(flags.iter().filter(|f| f.rule == HourRule::InPart).count(), 5);
        let day = days_of(&hours, &flags, &station())[0];
        assert_eq!((day.get(Variable::Wind), day.get(Variable::Rain)), (None, Some(3.0)));
    }

    #[test]
    fn stamps_at_the_end_of_the_hour_show_as_sun_in_the_dark() {
        let mut hours = day_of_hours();
        for i in (3..24).rev() {
            let late = hours[i - 3].get(HourVariable::Solar);
            hours[i].set(HourVariable::Solar, late);
        }
        assert!(rules(&hours).iter().any(|(_, _, r)| *r == HourRule::SunInTheDark), "{:?}", rules(&hours));
    }

    #[test]
    fn half_a_day_of_one_temperature_is_stuck_and_a_jump_is_doubted() {
        let mut hours = day_of_hours();
        for hour in &mut hours[2..14] {
            hour.set(HourVariable::Temperature, Some(12.5));
        }
        let stuck = rules(&hours).iter().filter(|(_, _, r)| *r == HourRule::Stuck).count();
        assert_eq!(stuck, 12);
        hours[13].set(HourVariable::Temperature, Some(12.6));
        assert!(rules(&hours).iter().all(|(_, _, r)| *r != HourRule::Stuck));
        let mut hours = day_of_hours();
        hours[8].set(HourVariable::Temperature, Some(40.0));
        assert_eq!(
            rules(&hours).iter().map(|f| (f.0, f.2)).collect::<Vec<_>>(),
            [(8, HourRule::Jump), (9, HourRule::Jump)]
        );
        assert!(!HourRule::Jump.rejects());
    }
}

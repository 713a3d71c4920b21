//! A weather record as it came: values by day and variable, of several sources, with what each
//! value is worth. The original is never changed; judgement is computed and people may overrule it.

mod combine;
mod compare;
mod hours;
mod judge;

pub use combine::{CombinedRecord, Source, SourceKind, VariableGroup, combine, order};
pub use compare::{Comparison, EARTH_RADIUS_KM, compare, distance_km};
pub use hours::{
    HOUR_VARIABLES, HourFlag, HourRule, HourVariable, RawHour, WHOLE_DAY_HOURS, days_of, examine_hours,
};
pub use judge::{Flag, Rule, examine};

use crate::quantity::units::{Celsius, Kilopascals, MegajoulesPerSquareMetre, MetresPerSecond, Millimetres};
use crate::weather::DayWeather;
use jiff::civil::Date;

/// A variable of a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Variable {
    /// Lowest temperature, °C.
    TemperatureMin,
    /// Highest temperature, °C.
    TemperatureMax,
    /// Dew point, °C.
    DewPoint,
    /// Lowest relative humidity, %.
    HumidityMin,
    /// Highest relative humidity, %.
    HumidityMax,
    /// Vapour pressure, kPa.
    VapourPressure,
    /// Solar radiation, MJ/m².
    Solar,
    /// Wind, m/s.
    Wind,
    /// Rain, mm.
    Rain,
}

/// How many variables a day has.
pub const VARIABLES: usize = 9;

impl Variable {
    /// All, in the order of a raw day.
    pub const ALL: [Self; VARIABLES] = [
        Self::TemperatureMin,
        Self::TemperatureMax,
        Self::DewPoint,
        Self::HumidityMin,
        Self::HumidityMax,
        Self::VapourPressure,
        Self::Solar,
        Self::Wind,
        Self::Rain,
    ];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::TemperatureMin => "lowest temperature",
            Self::TemperatureMax => "highest temperature",
            Self::DewPoint => "dew point",
            Self::HumidityMin => "lowest humidity",
            Self::HumidityMax => "highest humidity",
            Self::VapourPressure => "vapour pressure",
            Self::Solar => "solar radiation",
            Self::Wind => "wind",
            Self::Rain => "rain",
        }
    }

    /// Metric unit.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::TemperatureMin | Self::TemperatureMax | Self::DewPoint => "°C",
            Self::HumidityMin | Self::HumidityMax => "%",
            Self::VapourPressure => "kPa",
            Self::Solar => "MJ/m²",
            Self::Wind => "m/s",
            Self::Rain => "mm",
        }
    }
}

/// A day as it came, metric; anything may be missing.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RawDay {
    /// The local calendar day.
    pub date: Date,
    values: [Option<f64>; VARIABLES],
}

impl RawDay {
    /// A day on which nothing was measured.
    #[must_use]
    pub fn new(date: Date) -> Self {
        Self { date, values: [None; VARIABLES] }
    }

    /// A value.
    #[must_use]
    pub fn get(&self, variable: Variable) -> Option<f64> {
        self.values.get(variable as usize).copied().flatten()
    }

    /// Sets a value.
    pub fn set(&mut self, variable: Variable, value: Option<f64>) {
        if let Some(slot) = self.values.get_mut(variable as usize) {
            *slot = value;
        }
    }

    /// Every value, in the order of [`Variable::ALL`].
    #[must_use]
    pub const fn values(&self) -> &[Option<f64>; VARIABLES] {
        &self.values
    }

    /// A day from every value, in the order of [`Variable::ALL`].
    #[must_use]
    pub const fn of(date: Date, values: [Option<f64>; VARIABLES]) -> Self {
        Self { date, values }
    }

    /// The same with a value set.
    #[must_use]
    pub fn with(mut self, variable: Variable, value: f64) -> Self {
        self.set(variable, Some(value));
        self
    }

    /// Whether nothing was measured.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.values.iter().all(Option::is_none)
    }

    /// As weather; `None` without both temperatures.
    #[must_use]
    pub fn weather(&self) -> Option<DayWeather> {
        use Variable as V;
        Some(DayWeather {
            date: self.date,
            temperature_min: Celsius::from_c(self.get(V::TemperatureMin)?),
            temperature_max: Celsius::from_c(self.get(V::TemperatureMax)?),
            dew_point: self.get(V::DewPoint).map(Celsius::from_c),
            humidity_min_pct: self.get(V::HumidityMin),
            humidity_max_pct: self.get(V::HumidityMax),
            vapour_pressure: self.get(V::VapourPressure).map(Kilopascals::from_kpa),
            solar: self.get(V::Solar).map(MegajoulesPerSquareMetre::from_mj_per_m2),
            wind: self.get(V::Wind).map(MetresPerSecond::from_m_per_s),
            rain: self.get(V::Rain).map(Millimetres::from_mm),
        })
    }
}

impl From<&DayWeather> for RawDay {
    fn from(day: &DayWeather) -> Self {
        let mut raw = Self::new(day.date);
        for (variable, value) in [
            (Variable::TemperatureMin, Some(day.temperature_min.c())),
            (Variable::TemperatureMax, Some(day.temperature_max.c())),
            (Variable::DewPoint, day.dew_point.map(Celsius::c)),
            (Variable::HumidityMin, day.humidity_min_pct),
            (Variable::HumidityMax, day.humidity_max_pct),
            (Variable::VapourPressure, day.vapour_pressure.map(Kilopascals::kpa)),
            (Variable::Solar, day.solar.map(MegajoulesPerSquareMetre::mj_per_m2)),
            (Variable::Wind, day.wind.map(MetresPerSecond::m_per_s)),
            (Variable::Rain, day.rain.map(Millimetres::mm)),
        ] {
            raw.set(variable, value);
        }
        raw
    }
}

/// What a person says about a value, against or with the rules.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Overrule {
    /// The day.
    pub date: Date,
    /// The variable.
    pub variable: Variable,
    /// It counts, or it does not.
    pub keep: bool,
    /// Why.
    pub reason: String,
}

/// What a value of a source is worth.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// Not measured.
    Missing,
    /// Measured and without a finding.
    Good,
    /// Measured and counted, but a rule doubts it.
    Doubtful(Rule),
    /// Measured and not counted, by a rule.
    Rejected(Rule),
    /// A person counts it, against the rules or past a doubt.
    Kept,
    /// A person does not count it.
    Discarded,
}

impl Standing {
    /// Whether the value counts.
    #[must_use]
    pub fn counts(self) -> bool {
        matches!(self, Self::Good | Self::Doubtful(_) | Self::Kept)
    }
}

/// A day with what each of its values is worth.
#[derive(Debug, Clone, PartialEq)]
pub struct JudgedDay {
    /// As it came.
    pub raw: RawDay,
    standings: [Standing; VARIABLES],
}

impl JudgedDay {
    /// What a value is worth.
    #[must_use]
    pub fn standing(&self, variable: Variable) -> Standing {
        self.standings.get(variable as usize).copied().unwrap_or(Standing::Missing)
    }

    /// A value that counts.
    #[must_use]
    pub fn counted(&self, variable: Variable) -> Option<f64> {
        if self.standing(variable).counts() { self.raw.get(variable) } else { None }
    }

    /// The values that count.
    #[must_use]
    pub fn effective(&self) -> RawDay {
        let mut day = RawDay::new(self.raw.date);
        for variable in Variable::ALL {
            let value = self.counted(variable);
            // A sensor that saturates reads a little above 100 %; the air does not.
            let humid = matches!(variable, Variable::HumidityMin | Variable::HumidityMax);
            day.set(variable, if humid { value.map(|v| v.min(100.0)) } else { value });
        }
        day
    }
}

/// Judges days in order of date: the rules first, then what people said, the latest last.
#[must_use]
pub fn judge(days: &[RawDay], flags: &[Flag], overrules: &[Overrule]) -> Vec<JudgedDay> {
    let mut judged: Vec<JudgedDay> = days
        .iter()
        .map(|day| {
            let standings =
                Variable::ALL.map(|v| if day.get(v).is_some() { Standing::Good } else { Standing::Missing });
            JudgedDay { raw: *day, standings }
        })
        .collect();
    let mut say = |date: Date, variable: Variable, standing: Standing| {
        let Ok(at) = judged.binary_search_by_key(&date, |d| d.raw.date) else { return };
        let slot = judged.get_mut(at).and_then(|d| d.standings.get_mut(variable as usize));
        if let Some(slot) = slot.filter(|s| **s != Standing::Missing) {
            *slot = standing;
        }
    };
    // A rejection outweighs a doubt.
    for flag in flags.iter().filter(|f| !f.rule.rejects()).chain(flags.iter().filter(|f| f.rule.rejects())) {
        let standing =
            if flag.rule.rejects() { Standing::Rejected(flag.rule) } else { Standing::Doubtful(flag.rule) };
        say(flag.date, flag.variable, standing);
    }
    for overrule in overrules {
        let standing = if overrule.keep { Standing::Kept } else { Standing::Discarded };
        say(overrule.date, overrule.variable, standing);
    }
    judged
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    #[test]
    fn a_person_outweighs_a_rule_and_the_original_stays() {
        let day =
            RawDay::new(date(2026, 7, 1)).with(Variable::TemperatureMin, 9.0).with(Variable::Rain, 400.0);
        let flag = |rule| Flag { date: day.date, variable: Variable::Rain, rule };
        let overrule =
            |keep| Overrule { date: day.date, variable: Variable::Rain, keep, reason: "seen".into() };
        let standing = |flags: &[Flag], overrules: &[Overrule]| {
            let judged = judge(&[day], flags, overrules);
            assert_eq!(judged[0].raw, day, "the original stays");
            (judged[0].standing(Variable::Rain), judged[0].counted(Variable::Rain))
        };
        assert_eq!(standing(&[], &[]), (Standing::Good, Some(400.0)));
        assert_eq!(standing(&[flag(Rule::RareRain)], &[]), (Standing::Doubtful(Rule::RareRain), Some(400.0)));
        let both = [flag(Rule::Range), flag(Rule::RareRain)];
        assert_eq!(standing(&both, &[]), (Standing::Rejected(Rule::Range), None), "whatever the order");
        assert_eq!(standing(&both, &[overrule(true)]), (Standing::Kept, Some(400.0)));
        assert_eq!(standing(&[], &[overrule(false)]), (Standing::Discarded, None));
        assert_eq!(
            standing(&both, &[overrule(false), overrule(true)]).0,
            Standing::Kept,
            "the latest counts"
        );
        let judged = judge(&[day], &[], &[Overrule { variable: Variable::Wind, ..overrule(true) }]);
        assert_eq!(judged[0].standing(Variable::Wind), Standing::Missing, "nothing was measured to keep");
    }

    #[test]
    fn weather_goes_through_a_raw_day_unchanged() {
        let mut day =
            DayWeather::from_temperatures(date(2026, 7, 1), Celsius::from_c(9.0), Celsius::from_c(21.0));
        day.wind = Some(MetresPerSecond::from_m_per_s(2.5));
        day.humidity_max_pct = Some(95.0);
        assert_eq!(RawDay::from(&day).weather(), Some(day));
        assert_eq!(RawDay::new(date(2026, 7, 1)).with(Variable::TemperatureMin, 1.0).weather(), None);
    }
}

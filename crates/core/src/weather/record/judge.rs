//! The rules that judge a daily record, after ASCE-EWRI (2005) appendix D (from memory): order of
//! minimum and maximum, physical ranges, radiation against the sky, humidity, stuck values, wind
//! floor, values far from their time of year.

use super::{RawDay, Variable};
use crate::weather::Station;
use crate::weather::quality::{self, FlagSeverity};
use jiff::civil::Date;

/// Days with the very same value from which a sensor is doubted: whole degrees may repeat by chance.
const STUCK_DAYS: usize = 5;
/// Days with the very same value from which a sensor counts as frozen.
const FROZEN_DAYS: usize = 10;
/// Days of hardly any wind from which the sensor's bearing is doubted.
const CALM_DAYS: usize = 10;
/// Daily wind below this counts as hardly any, m/s.
const CALM_M_S: f64 = 0.3;
/// Standard deviations from the mean of the month beyond which a temperature is doubted.
const FAR_SD: f64 = 4.5;
/// Days of a month, over all years, before a mean says anything.
const FAR_MIN_DAYS: usize = 40;

/// A rule that a value broke.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rule {
    /// Minimum above maximum.
    Order,
    /// Outside what is physically possible.
    Range,
    /// More sun than above the atmosphere.
    AboveTheSky,
    /// Well above a clear sky.
    AboveClearSky,
    /// Dew point above what the air can hold.
    DewAboveAir,
    /// A temperature range wider than 45 °C.
    WideRange,
    /// A daily wind of a storm.
    Storm,
    /// A very rare day's rain.
    RareRain,
    /// The very same value for five days and more.
    Stuck,
    /// The very same value for ten days and more.
    Frozen,
    /// Hardly any wind for days.
    CalmSensor,
    /// Far from its time of year.
    FarFromSeason,
}

impl Rule {
    /// All rules, those that reject first.
    pub const ALL: [Self; 12] = [
        Self::Order,
        Self::Range,
        Self::AboveTheSky,
        Self::DewAboveAir,
        Self::Frozen,
        Self::Stuck,
        Self::AboveClearSky,
        Self::WideRange,
        Self::Storm,
        Self::RareRain,
        Self::CalmSensor,
        Self::FarFromSeason,
    ];

    /// Whether a value that broke it does not count.
    #[must_use]
    pub const fn rejects(self) -> bool {
        matches!(self, Self::Order | Self::Range | Self::AboveTheSky | Self::DewAboveAir | Self::Frozen)
    }

    /// The rule as the end of a sentence.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Order => "the minimum is above the maximum",
            Self::Range => "outside what is physically possible",
            Self::AboveTheSky => "more sun than above the atmosphere",
            Self::AboveClearSky => "well above a clear sky",
            Self::DewAboveAir => "a dew point that the air could not hold",
            Self::WideRange => "more than 45 °C (81 °F) between minimum and maximum",
            Self::Storm => "a storm as the mean of a day",
            Self::RareRain => "a very rare day's rain",
            Self::Stuck => "the very same value for five days and more",
            Self::Frozen => "the very same value for ten days and more: a frozen or unplugged sensor",
            Self::CalmSensor => "hardly any wind for ten days: a worn bearing or a blocked cup",
            Self::FarFromSeason => "far from this time of year in the record",
        }
    }
}

/// A value that broke a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Flag {
    /// The day.
    pub date: Date,
    /// The variable.
    pub variable: Variable,
    /// The rule.
    pub rule: Rule,
}

fn variable_of(input: quality::Input) -> Variable {
    use quality::Input;
    match input {
        Input::TemperatureMin => Variable::TemperatureMin,
        Input::TemperatureMax | Input::Temperature => Variable::TemperatureMax,
        Input::DewPoint => Variable::DewPoint,
        Input::HumidityMin => Variable::HumidityMin,
        Input::HumidityMax => Variable::HumidityMax,
        Input::VapourPressure => Variable::VapourPressure,
        Input::Solar => Variable::Solar,
        Input::Wind => Variable::Wind,
        Input::Rain => Variable::Rain,
    }
}

/// Everything that the rules find in days in order of date, measured at a station; by date.
#[must_use]
pub fn examine(days: &[RawDay], station: &Station) -> Vec<Flag> {
    let mut flags = Vec::new();
    for day in days {
        by_itself(day, station, &mut flags);
    }
    for variable in Variable::ALL {
        stuck(days, variable, &mut flags);
    }
    calm(days, &mut flags);
    for variable in [Variable::TemperatureMin, Variable::TemperatureMax] {
        far_from_season(days, variable, &mut flags);
    }
    flags.sort_by_key(|f| (f.date, f.variable, f.rule));
    flags.dedup();
    flags
}

fn by_itself(day: &RawDay, station: &Station, flags: &mut Vec<Flag>) {
    // The checks of a day want both temperatures; a day without them is looked at as far as it goes.
    let mut filled = *day;
    let bare = (day.get(Variable::TemperatureMin), day.get(Variable::TemperatureMax));
    if let (None, Some(t)) | (Some(t), None) = bare {
        filled.set(Variable::TemperatureMin, Some(t));
        filled.set(Variable::TemperatureMax, Some(t));
        // Of a dew point it can only be said that it is too high with the maximum at hand.
        if bare.1.is_none() {
            filled.set(Variable::DewPoint, None);
        }
    } else if bare == (None, None) {
        filled.set(Variable::TemperatureMin, Some(0.0));
        filled.set(Variable::TemperatureMax, Some(0.0));
        filled.set(Variable::DewPoint, None);
    }
    let Some(weather) = filled.weather() else { return };
    for finding in quality::check_day(&weather, station) {
        let variable = variable_of(finding.input);
        if day.get(variable).is_none() {
            continue;
        }
        let rule = rule_of(&finding, day);
        flags.push(Flag { date: day.date, variable, rule });
        // Of two that contradict each other neither can be trusted.
        let partner = match (rule, variable) {
            (Rule::Order, Variable::TemperatureMin) => Some(Variable::TemperatureMax),
            (Rule::Order, Variable::HumidityMin) => Some(Variable::HumidityMax),
            _ => None,
        };
        if let Some(variable) = partner {
            flags.push(Flag { date: day.date, variable, rule });
        }
    }
}

fn rule_of(finding: &quality::QualityFlag, day: &RawDay) -> Rule {
    use quality::Input;
    let crossed =
        |low: Variable, high: Variable| matches!((day.get(low), day.get(high)), (Some(a), Some(b)) if a > b);
    match (finding.input, finding.severity) {
        (Input::TemperatureMin, _) if crossed(Variable::TemperatureMin, Variable::TemperatureMax) => {
            Rule::Order
        }
        (Input::HumidityMin, _) if crossed(Variable::HumidityMin, Variable::HumidityMax) => Rule::Order,
        (Input::TemperatureMax, FlagSeverity::Doubt) => Rule::WideRange,
        (Input::DewPoint, FlagSeverity::Fault) if crossed(Variable::DewPoint, Variable::TemperatureMax) => {
            Rule::DewAboveAir
        }
        (Input::Solar, FlagSeverity::Fault) if day.get(Variable::Solar).is_some_and(|v| v > 0.0) => {
            Rule::AboveTheSky
        }
        (Input::Solar, FlagSeverity::Doubt) => Rule::AboveClearSky,
        (Input::Wind, FlagSeverity::Doubt) => Rule::Storm,
        (Input::Rain, FlagSeverity::Doubt) => Rule::RareRain,
        _ => Rule::Range,
    }
}

/// Values that ordinary weather repeats: no rain, and air that is saturated at its highest.
fn may_repeat(variable: Variable, value: f64) -> bool {
    match variable {
        Variable::Rain => value == 0.0,
        Variable::HumidityMax => value >= 98.0,
        _ => false,
    }
}

/// Runs of the very same value on days that follow each other.
fn stuck(days: &[RawDay], variable: Variable, flags: &mut Vec<Flag>) {
    let mut run: Vec<&RawDay> = Vec::new();
    let mut close = |run: &mut Vec<&RawDay>| {
        if run.len() >= STUCK_DAYS {
            let rule = if run.len() >= FROZEN_DAYS { Rule::Frozen } else { Rule::Stuck };
            flags.extend(run.iter().map(|d| Flag { date: d.date, variable, rule }));
        }
        run.clear();
    };
    for day in days {
        let Some(value) = day.get(variable).filter(|v| !may_repeat(variable, *v)) else {
            close(&mut run);
            continue;
        };
        let goes_on = run.last().is_some_and(|last| {
            last.get(variable) == Some(value) && last.date.tomorrow().is_ok_and(|next| next == day.date)
        });
        if !goes_on {
            close(&mut run);
        }
        run.push(day);
    }
    close(&mut run);
}

fn calm(days: &[RawDay], flags: &mut Vec<Flag>) {
    let mut run: Vec<Date> = Vec::new();
    let mut close = |run: &mut Vec<Date>| {
        if run.len() >= CALM_DAYS {
            flags.extend(run.iter().map(|date| Flag {
                date: *date,
                variable: Variable::Wind,
                rule: Rule::CalmSensor,
            }));
        }
        run.clear();
    };
    for day in days {
        match day.get(Variable::Wind) {
            Some(wind) if (0.0..CALM_M_S).contains(&wind) => run.push(day.date),
            _ => close(&mut run),
        }
    }
    close(&mut run);
}

fn far_from_season(days: &[RawDay], variable: Variable, flags: &mut Vec<Flag>) {
    for month in 1..=12 {
        let values: Vec<(Date, f64)> = days
            .iter()
            .filter(|d| d.date.month() == month)
            .filter_map(|d| Some((d.date, d.get(variable)?)))
            .collect();
        if values.len() < FAR_MIN_DAYS {
            continue;
        }
        // Median and median deviation stand firm where a few values are far off.
        let median = |mut sorted: Vec<f64>| {
            sorted.sort_by(f64::total_cmp);
            sorted.get(sorted.len() / 2).copied().unwrap_or_default()
        };
        let middle = median(values.iter().map(|(_, v)| *v).collect());
        let spread = 1.4826 * median(values.iter().map(|(_, v)| (v - middle).abs()).collect());
        for (date, value) in values {
            if (value - middle).abs() > FAR_SD * spread.max(1.0) {
                flags.push(Flag { date, variable, rule: Rule::FarFromSeason });
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::Metres;
    use jiff::ToSpan;
    use jiff::civil::date;
    use proptest::prelude::*;

    fn station() -> Station {
        Station {
            latitude_deg: 46.2,
            longitude_deg: 8.0,
            elevation: Metres::from_m(1040.0),
            wind_height: Metres::from_m(2.0),
        }
    }

    /// Days of a lively June: nothing repeats.
    fn june(days: i64) -> Vec<RawDay> {
        (0..days)
            .map(|i| {
                let wave = (i as f64 * 0.9).sin();
                RawDay::new(date(2026, 6, 1) + i.days())
                    .with(Variable::TemperatureMin, 9.0 + 2.0 * wave)
                    .with(Variable::TemperatureMax, 21.0 + 3.0 * wave)
                    .with(Variable::Wind, 2.0 + wave)
                    .with(Variable::Rain, 0.0)
            })
            .collect()
    }

    fn rules(days: &[RawDay]) -> Vec<(i8, Variable, Rule)> {
        examine(days, &station()).iter().map(|f| (f.date.day(), f.variable, f.rule)).collect()
    }

    #[test]
    fn a_good_record_has_no_flag() {
        assert_eq!(rules(&june(30)), []);
    }

    #[test]
    fn crossed_temperatures_are_both_rejected() {
        let mut days = june(6);
        days[2].set(Variable::TemperatureMin, Some(30.0));
        assert_eq!(
            rules(&days),
            [(3, Variable::TemperatureMin, Rule::Order), (3, Variable::TemperatureMax, Rule::Order),]
        );
    }

    #[test]
    fn each_rule_flags_its_value() {
        let with = |variable, value| {
            let mut days = june(3);
            days[1].set(variable, Some(value));
            rules(&days)
        };
        assert_eq!(with(Variable::TemperatureMax, 85.0)[0].2, Rule::Range);
        assert_eq!(with(Variable::TemperatureMax, 57.0), [(2, Variable::TemperatureMax, Rule::WideRange)]);
        assert_eq!(with(Variable::DewPoint, 28.0), [(2, Variable::DewPoint, Rule::DewAboveAir)]);
        assert_eq!(with(Variable::Solar, 60.0), [(2, Variable::Solar, Rule::AboveTheSky)]);
        assert_eq!(with(Variable::Solar, -2.0), [(2, Variable::Solar, Rule::Range)]);
        assert_eq!(with(Variable::Solar, 39.0), [(2, Variable::Solar, Rule::AboveClearSky)]);
        assert_eq!(with(Variable::Wind, 25.0), [(2, Variable::Wind, Rule::Storm)]);
        assert_eq!(with(Variable::Rain, 400.0), [(2, Variable::Rain, Rule::RareRain)]);
        assert_eq!(with(Variable::Rain, -1.0), [(2, Variable::Rain, Rule::Range)]);
        assert_eq!(with(Variable::VapourPressure, 14.0), [(2, Variable::VapourPressure, Rule::Range)]);
        assert_eq!(with(Variable::HumidityMax, 140.0), [(2, Variable::HumidityMax, Rule::Range)]);
    }

    #[test]
    fn a_stuck_sensor_is_found_but_dry_days_and_fog_are_not() {
        let mut days = june(12);
        for day in &mut days[2..7] {
            day.set(Variable::TemperatureMin, Some(9.5));
            day.set(Variable::HumidityMax, Some(100.0));
        }
        let found = rules(&days);
        assert_eq!(found.len(), 5);
        assert!(found.iter().all(|(_, v, r)| (*v, *r) == (Variable::TemperatureMin, Rule::Stuck)));
        assert!(!Rule::Stuck.rejects() && Rule::Frozen.rejects());
        // A gap in the middle breaks the run.
        let mut gap = days.clone();
        gap.remove(4);
        assert_eq!(rules(&gap), []);
        for day in &mut days[..10] {
            day.set(Variable::TemperatureMin, Some(9.5));
        }
        assert!(rules(&days).iter().all(|(_, _, r)| *r == Rule::Frozen) && rules(&days).len() == 10);
    }

    #[test]
    fn ten_days_without_wind_doubt_the_sensor() {
        let mut days = june(12);
        for (i, day) in days[..10].iter_mut().enumerate() {
            day.set(Variable::Wind, Some(0.1 + 0.01 * i as f64));
        }
        assert_eq!(rules(&days).len(), 10);
        assert_eq!(rules(&days[..9]), []);
    }

    #[test]
    fn a_value_far_from_its_season_is_doubted() {
        let mut days: Vec<RawDay> = (0..3)
            .flat_map(|y| {
                june(28).into_iter().map(move |mut d| {
                    d.date = Date::new(2024 + y, 6, d.date.day()).unwrap();
                    d
                })
            })
            .collect();
        days[40].set(Variable::TemperatureMin, Some(-15.0));
        let found = rules(&days);
        assert_eq!(found, [(days[40].date.day(), Variable::TemperatureMin, Rule::FarFromSeason)]);
        assert!(!found[0].2.rejects(), "it counts until somebody says no");
    }

    #[test]
    fn a_day_without_temperatures_is_judged_as_far_as_it_goes() {
        let day = RawDay::new(date(2026, 6, 1)).with(Variable::Rain, -3.0).with(Variable::DewPoint, 12.0);
        assert_eq!(rules(&[day]), [(1, Variable::Rain, Rule::Range)]);
        let half =
            RawDay::new(date(2026, 6, 1)).with(Variable::TemperatureMin, 9.0).with(Variable::DewPoint, 12.0);
        assert_eq!(rules(&[half]), []);
    }

    proptest! {
        #[test]
        fn flags_stand_at_measured_values_only(
            rows in proptest::collection::vec(proptest::collection::vec(proptest::option::of(-100.0..500.0_f64), 9), 0..40),
        ) {
            let days: Vec<RawDay> = rows.iter().enumerate().map(|(i, row)| {
                let mut day = RawDay::new(date(2026, 1, 1) + (i as i64).days());
                for (variable, value) in Variable::ALL.into_iter().zip(row) { day.set(variable, *value); }
                day
            }).collect();
            let flags = examine(&days, &station());
            for flag in &flags {
                let day = days.iter().find(|d| d.date == flag.date).unwrap();
                prop_assert!(day.get(flag.variable).is_some(), "{flag:?}");
            }
            // What counts after judging passes the physical rules.
            for day in super::super::judge(&days, &flags, &[]) {
                let effective = day.effective();
                if let Some(weather) = effective.weather() {
                    let again = quality::check_day(&weather, &station());
                    prop_assert!(again.iter().all(|f| f.severity == FlagSeverity::Doubt), "{again:?}");
                }
            }
        }
    }
}

//! Quality control of daily weather, after ASCE-EWRI (2005) appendix D (from memory): order of
//! minimum and maximum, physical ranges, radiation against the sky. A fault is refused, a doubt is
//! said and kept.

use crate::weather::radiation;
use crate::weather::{DayWeather, HourWeather, Station};

/// An input of a day or hour, to say where a fault is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Input {
    /// Lowest temperature of the day.
    TemperatureMin,
    /// Highest temperature of the day.
    TemperatureMax,
    /// Temperature of the hour.
    Temperature,
    /// Dew point.
    DewPoint,
    /// Lowest or only relative humidity.
    HumidityMin,
    /// Highest relative humidity.
    HumidityMax,
    /// Vapour pressure.
    VapourPressure,
    /// Solar radiation.
    Solar,
    /// Wind.
    Wind,
    /// Rain.
    Rain,
}

/// Whether a finding stops an import.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FlagSeverity {
    /// The value cannot be right.
    Fault,
    /// The value is possible but unlikely.
    Doubt,
}

/// Something wrong or doubtful about a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct QualityFlag {
    /// Where.
    pub input: Input,
    /// How bad.
    pub severity: FlagSeverity,
    /// What is wrong and what to do, as the end of a sentence.
    pub message: &'static str,
}

/// Coldest and warmest air temperature accepted: a little beyond the records on land.
const TEMPERATURE_RANGE_C: (f64, f64) = (-70.0, 58.0);
/// A dew point this far above the temperature is still rounding of a saturated sensor, °C.
const ROUNDING_C: f64 = 0.5;
/// Strongest daily mean wind accepted, m/s.
const WIND_MAX_M_S: f64 = 60.0;
/// A daily mean wind above this is doubted, m/s.
const WIND_DOUBT_M_S: f64 = 20.0;
/// Most rain accepted in a day, mm: about the world record.
const RAIN_MAX_MM: f64 = 1900.0;
/// A day's rain above this is doubted, mm.
const RAIN_DOUBT_MM: f64 = 300.0;
/// Sensors may read a little above clear sky; more is doubted.
const CLEAR_SKY_MARGIN: f64 = 1.15;
/// No more than this share above the top of the atmosphere is accepted.
const EXTRATERRESTRIAL_MARGIN: f64 = 1.02;
/// Vapour pressure accepted, kPa: saturation at about 40 °C.
const VAPOUR_MAX_KPA: f64 = 7.5;
/// Relative humidity a saturated sensor may read, percent.
const HUMIDITY_MAX_PCT: f64 = 105.0;

const TEMPERATURE_MESSAGE: &str =
    "is outside -70 to 58 °C; if the column is in Fahrenheit, head it with _f instead of _c";

fn temperature_ok(c: f64) -> bool {
    (TEMPERATURE_RANGE_C.0..=TEMPERATURE_RANGE_C.1).contains(&c)
}

fn humidity_ok(pct: f64) -> bool {
    (0.0..=HUMIDITY_MAX_PCT).contains(&pct)
}

/// Everything wrong or doubtful about a day at a station; empty when all is well.
// Long: one rule after another.
#[must_use]
pub fn check_day(day: &DayWeather, station: &Station) -> Vec<QualityFlag> {
    let mut findings = Vec::new();
    let mut say = |input, severity, message| findings.push(QualityFlag { input, severity, message });
    let (min, max) = (day.temperature_min, day.temperature_max);

    if !temperature_ok(min.c()) {
        say(Input::TemperatureMin, FlagSeverity::Fault, TEMPERATURE_MESSAGE);
    }
    if !temperature_ok(max.c()) {
        say(Input::TemperatureMax, FlagSeverity::Fault, TEMPERATURE_MESSAGE);
    }
    if min > max {
        say(
            Input::TemperatureMin,
            FlagSeverity::Fault,
            "is above the day's maximum; check whether the two columns are swapped",
        );
    } else if (max - min).kelvin() > 45.0 {
        say(Input::TemperatureMax, FlagSeverity::Doubt, "is more than 45 °C above the day's minimum");
    }
    if let Some(t) = day.dew_point {
        if !temperature_ok(t.c()) {
            say(Input::DewPoint, FlagSeverity::Fault, TEMPERATURE_MESSAGE);
        } else if (t - max).kelvin() > ROUNDING_C {
            say(
                Input::DewPoint,
                FlagSeverity::Fault,
                "is above the day's maximum temperature, which air cannot hold",
            );
        }
    }
    for (value, input) in
        [(day.humidity_min_pct, Input::HumidityMin), (day.humidity_max_pct, Input::HumidityMax)]
    {
        if value.is_some_and(|pct| !humidity_ok(pct)) {
            say(input, FlagSeverity::Fault, "is not a relative humidity of 0 to 100 %");
        }
    }
    if let (Some(low), Some(high)) = (day.humidity_min_pct, day.humidity_max_pct)
        && low > high
    {
        say(
            Input::HumidityMin,
            FlagSeverity::Fault,
            "is above the day's highest humidity; check whether the two columns are swapped",
        );
    }
    if day.vapour_pressure.is_some_and(|vapour| !(0.0..=VAPOUR_MAX_KPA).contains(&vapour.kpa())) {
        say(
            Input::VapourPressure,
            FlagSeverity::Fault,
            "is outside 0 to 7.5 kPa; a column in hPa must be divided by ten",
        );
    }
    if let Some(solar) = day.solar {
        let top = radiation::extraterrestrial_day(day.date, station.latitude_deg);
        let clear = radiation::clear_sky(top, station.elevation);
        if solar.mj_per_m2() < 0.0 {
            say(Input::Solar, FlagSeverity::Fault, "is below zero");
        } else if solar.mj_per_m2() > top.mj_per_m2() * EXTRATERRESTRIAL_MARGIN + 0.1 {
            say(
                Input::Solar,
                FlagSeverity::Fault,
                "is more than the sun gives above the atmosphere on that day; check unit, date and latitude",
            );
        } else if solar.mj_per_m2() > clear.mj_per_m2() * CLEAR_SKY_MARGIN + 0.5 {
            say(
                Input::Solar,
                FlagSeverity::Doubt,
                "is well above a clear sky; check the sensor's calibration",
            );
        }
    }
    if let Some(wind) = day.wind {
        if !(0.0..=WIND_MAX_M_S).contains(&wind.m_per_s()) {
            say(
                Input::Wind,
                FlagSeverity::Fault,
                "is outside 0 to 60 m/s; if it is in km/h, divide by 3.6; if in mph, head the column wind_mph",
            );
        } else if wind.m_per_s() > WIND_DOUBT_M_S {
            say(Input::Wind, FlagSeverity::Doubt, "is a storm as a day's mean; check the unit");
        }
    }
    if let Some(rain) = day.rain {
        if !(0.0..=RAIN_MAX_MM).contains(&rain.mm()) {
            say(Input::Rain, FlagSeverity::Fault, "is outside 0 to 1900 mm in a day");
        } else if rain.mm() > RAIN_DOUBT_MM {
            say(Input::Rain, FlagSeverity::Doubt, "is a very rare day's rain; check the unit");
        }
    }
    findings
}

/// Everything wrong about an hour.
#[must_use]
pub fn check_hour(hour: &HourWeather) -> Vec<QualityFlag> {
    use crate::weather::HourHumidity;
    let mut findings = Vec::new();
    let mut fault = |input, message| {
        findings.push(QualityFlag { input, severity: FlagSeverity::Fault, message });
    };
    if !temperature_ok(hour.temperature.c()) {
        fault(Input::Temperature, TEMPERATURE_MESSAGE);
    }
    match hour.humidity {
        HourHumidity::RelativePct(pct) if !humidity_ok(pct) => {
            fault(Input::HumidityMin, "is not a relative humidity of 0 to 100 %");
        }
        HourHumidity::DewPoint(t) if !temperature_ok(t.c()) => {
            fault(Input::DewPoint, TEMPERATURE_MESSAGE);
        }
        HourHumidity::DewPoint(t) if (t - hour.temperature).kelvin() > ROUNDING_C => {
            fault(Input::DewPoint, "is above the air temperature, which air cannot hold");
        }
        _ => {}
    }
    // 1 500 W/m² over an hour: above the solar constant.
    if !(-0.05..=5.4).contains(&hour.solar.mj_per_m2()) {
        fault(Input::Solar, "is outside -14 to 1500 W/m² over an hour");
    }
    if !(0.0..=WIND_MAX_M_S).contains(&hour.wind.m_per_s()) {
        fault(Input::Wind, "is outside 0 to 60 m/s");
    }
    if hour.rain.is_some_and(|rain| !(0.0..=500.0).contains(&rain.mm())) {
        fault(Input::Rain, "is outside 0 to 500 mm in an hour");
    }
    findings
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::*;
    use jiff::civil::date;

    fn station() -> Station {
        Station {
            latitude_deg: 46.2,
            longitude_deg: 8.0,
            elevation: Metres::from_m(1040.0),
            wind_height: Metres::from_m(2.0),
        }
    }

    fn day(min: f64, max: f64) -> DayWeather {
        DayWeather::from_temperatures(date(2026, 7, 1), Celsius::from_c(min), Celsius::from_c(max))
    }

    fn faults(day: &DayWeather) -> Vec<Input> {
        check_day(day, &station())
            .into_iter()
            .filter(|f| f.severity == FlagSeverity::Fault)
            .map(|f| f.input)
            .collect()
    }

    #[test]
    fn a_good_day_passes() {
        let good = DayWeather {
            solar: Some(MegajoulesPerSquareMetre::from_mj_per_m2(28.0)),
            wind: Some(MetresPerSecond::from_m_per_s(2.0)),
            rain: Some(Millimetres::ZERO),
            humidity_min_pct: Some(40.0),
            humidity_max_pct: Some(95.0),
            ..day(9.0, 24.0)
        };
        assert_eq!(check_day(&good, &station()), []);
    }

    #[test]
    fn each_fault_is_found_at_its_input() {
        assert_eq!(faults(&day(24.0, 9.0)), [Input::TemperatureMin]);
        assert_eq!(faults(&day(55.0, 85.0)), [Input::TemperatureMax], "a July of 85 is Fahrenheit");
        let with = |change: fn(&mut DayWeather)| {
            let mut d = day(9.0, 24.0);
            change(&mut d);
            faults(&d)
        };
        assert_eq!(with(|d| d.solar = Some(MegajoulesPerSquareMetre::from_mj_per_m2(60.0))), [Input::Solar]);
        assert_eq!(with(|d| d.solar = Some(MegajoulesPerSquareMetre::from_mj_per_m2(-1.0))), [Input::Solar]);
        assert_eq!(with(|d| d.wind = Some(MetresPerSecond::from_m_per_s(-1.0))), [Input::Wind]);
        assert_eq!(with(|d| d.rain = Some(Millimetres::from_mm(-0.2))), [Input::Rain]);
        assert_eq!(with(|d| d.dew_point = Some(Celsius::from_c(30.0))), [Input::DewPoint]);
        assert_eq!(with(|d| d.humidity_max_pct = Some(130.0)), [Input::HumidityMax]);
        assert_eq!(with(|d| d.vapour_pressure = Some(Kilopascals::from_kpa(14.0))), [Input::VapourPressure]);
        assert_eq!(
            with(|d| (d.humidity_min_pct, d.humidity_max_pct) = (Some(90.0), Some(40.0))),
            [Input::HumidityMin]
        );
    }
}

//! What a weather service foretells of days to come. It moves what is expected; it is no record.

use super::DayWeather;
use crate::quantity::units::{Celsius, Millimetres};

/// Rain forecast of a day from which it is called likely (our stated rule: less hardly reaches the roots).
pub const LIKELY_RAIN: Millimetres = Millimetres::from_mm(2.0);

/// A day as it was forecast.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Foretold {
    /// What was last said of it; wind at 2 m.
    pub weather: DayWeather,
    /// The lowest temperature as it was last said before the day began, °C: what its night could be judged by.
    pub lowest_ahead: Option<Celsius>,
}

impl Foretold {
    /// Whether it is likely to rain.
    #[must_use]
    pub fn rain_is_likely(&self) -> Option<Millimetres> {
        self.weather.rain.filter(|rain| *rain >= LIKELY_RAIN)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::Metres;
    use crate::weather::Station;
    use crate::weather::climate::{Climate, ExpectedFrom};
    use crate::weather::reference_et::daily;
    use jiff::ToSpan;
    use jiff::civil::{Date, date};

    fn day(on: Date, low: f64, high: f64) -> DayWeather {
        DayWeather::from_temperatures(on, Celsius::from_c(low), Celsius::from_c(high))
    }

    fn station() -> Station {
        Station {
            latitude_deg: 50.0,
            longitude_deg: 8.0,
            elevation: Metres::from_m(300.0),
            wind_height: Metres::from_m(2.0),
        }
    }

    #[test]
    fn a_forecast_is_expected_and_never_recorded() {
        let from = date(2026, 6, 20);
        let record: Vec<DayWeather> = (0..25).map(|i| day(from + i.days(), 10.0, 22.0)).collect();
        let tomorrow = date(2026, 7, 15);
        let mut hot = day(tomorrow, 18.0, 35.0);
        hot.rain = Some(Millimetres::from_mm(12.0));
        let bare = Climate::from_record(&record, station());
        let ahead = bare.clone().with_forecast(&[Foretold { weather: hot, lowest_ahead: None }]);
        let (et0, from) = ahead.expected_et0(tomorrow);
        assert_eq!((et0, from), (daily(&hot, &station()).et0, ExpectedFrom::Forecast));
        assert_eq!(ahead.usual_et0(tomorrow), bare.expected_et0(tomorrow), "the usual one stays");
        assert_eq!(ahead.monthly_expected_et0(2026), bare.monthly_expected_et0(2026), "so do the months");
        assert_eq!((ahead.rain_on(tomorrow), ahead.len(), ahead.span()), (None, bare.len(), bare.span()));
        assert_eq!(
            ahead.expected_et0(date(2026, 7, 16)),
            bare.expected_et0(date(2026, 7, 16)),
            "a day of which nothing is said"
        );
        assert_eq!(ahead.with_forecast(&[]).expected_et0(tomorrow), bare.expected_et0(tomorrow));
    }

    #[test]
    fn rain_is_likely_from_two_millimetres() {
        let with = |mm: Option<f64>| {
            let mut weather = day(date(2026, 7, 15), 10.0, 20.0);
            weather.rain = mm.map(Millimetres::from_mm);
            Foretold { weather, lowest_ahead: None }.rain_is_likely().is_some()
        };
        assert_eq!(
            [None, Some(0.0), Some(1.9), Some(2.0), Some(30.0)].map(with),
            [false, false, false, true, true]
        );
    }
}

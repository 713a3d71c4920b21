//! Which day a page is about.

use jiff::civil::Date;
use upland_core::weather::climate::Climate;

/// A record that ended longer ago than this opens on its last day instead of today.
const STALE_DAYS: i32 = 7;

/// The date a page is about: the one asked for, else today, else the last day of an old record.
pub(crate) fn choose_date(asked: Option<Date>, climate: &Climate, today: Date) -> (Date, bool) {
    match asked {
        Some(date) => (date, false),
        None => {
            let opened = open_on(climate.span().map(|(_, last)| last), today);
            (opened, opened != today)
        }
    }
}

/// The day that pages open on: today, or the last recorded day of an old record.
pub(crate) fn open_on(last_recorded: Option<Date>, today: Date) -> Date {
    last_recorded.filter(|last| (today - *last).get_days() > STALE_DAYS).unwrap_or(today)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use upland_core::quantity::units::{Celsius, Metres};
    use upland_core::weather::{DayWeather, Station};

    #[test]
    fn an_old_record_opens_on_its_last_day() {
        let station = Station {
            latitude_deg: 46.0,
            longitude_deg: -30.0,
            elevation: Metres::from_m(1040.0),
            wind_height: Metres::from_m(2.0),
        };
        let days =
            [DayWeather::from_temperatures(date(2026, 7, 14), Celsius::from_c(9.0), Celsius::from_c(22.0))];
        let climate = Climate::from_record(&days, station);
        assert_eq!(choose_date(None, &climate, date(2026, 11, 23)), (date(2026, 7, 14), true));
        assert_eq!(choose_date(None, &climate, date(2026, 7, 16)), (date(2026, 7, 16), false));
        assert_eq!(choose_date(Some(date(2025, 1, 1)), &climate, date(2026, 7, 16)).0, date(2025, 1, 1));
    }
}

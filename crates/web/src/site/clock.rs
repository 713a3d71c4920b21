//! The instant that a page is about. Every chapter asks here, so that all describe one evening.

use crate::server::error::PageError;
use jiff::civil::{Date, Time, time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use upland_core::quantity::time::instant;

/// A record that ended longer ago than this is old: pages open on its last evening, while no device speaks.
const STALE: SignedDuration = SignedDuration::from_hours(24 * 7);
/// Hour of the evening at which another night than tonight is looked at.
const EVENING: Time = time(20, 0, 0, 0);

/// What a page is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Moment {
    /// The day.
    pub date: Date,
    /// The instant: now on the clock's own day, else its evening.
    pub at: Timestamp,
    /// The last day of a record that ended a while ago, where the page opened on it instead of now.
    pub record_ended: Option<Date>,
}

/// The day that an address asks for, if it asks for one; as typed into a field of the page or written by a link.
pub(crate) fn asked_day(text: Option<&str>, today: Date) -> Result<Option<Date>, PageError> {
    let Some(text) = text.filter(|text| !text.is_empty()) else { return Ok(None) };
    let read = upland_formats::typed::date(text, today, crate::server::request_locale::habit());
    read.map(Some).map_err(|refusal| PageError::BadRequest(refusal.to_string()))
}

/// The evening of a date.
pub(crate) fn evening(date: Date, tz: &TimeZone) -> Timestamp {
    instant(date, EVENING, tz)
}

impl Moment {
    /// The date asked for, else now, else the evening of the last recorded day when the record ended a while
    /// ago and no device has spoken since.
    pub fn choose(
        asked: Option<Date>,
        now: Timestamp,
        tz: &TimeZone,
        last_recorded: Option<Date>,
        last_reading: Option<Timestamp>,
    ) -> Self {
        let today = now.to_zoned(tz.clone()).date();
        let speaks = last_reading.is_some_and(|at| at + STALE >= now);
        let days = |since: Date| SignedDuration::from_hours(24 * i64::from((today - since).get_days()));
        let ended = last_recorded.filter(|last| !speaks && days(*last) > STALE);
        let record_ended = ended.filter(|_| asked.is_none());
        let date = asked.or(record_ended).unwrap_or(today);
        let at = if date == today { now } else { evening(date, tz) };
        Self { date, at, record_ended }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TODAY: Date = Date::constant(2026, 7, 14);

    use jiff::ToSpan;
    use jiff::civil::date;

    fn choose(asked: Option<Date>, now: &str, last: Option<Date>, reading: Option<&str>) -> Moment {
        let tz = TimeZone::get("Etc/GMT+2").unwrap();
        let reading = reading.map(|at| at.parse().unwrap());
        Moment::choose(asked, now.parse().unwrap(), &tz, last, reading)
    }

    #[test]
    fn a_page_is_about_now_and_an_old_record_opens_on_its_last_evening() {
        let last = Some(date(2026, 7, 14));
        let old = choose(None, "2026-11-23T09:00:00Z", last, None);
        assert_eq!((old.date, old.record_ended), (date(2026, 7, 14), last));
        assert_eq!(old.at.to_string(), "2026-07-14T22:00:00Z", "eight in the evening, two hours west");
        let fresh = choose(None, "2026-07-16T09:00:00Z", last, None);
        assert_eq!((fresh.date, fresh.record_ended), (date(2026, 7, 16), None));
        assert_eq!(fresh.at.to_string(), "2026-07-16T09:00:00Z");
    }

    #[test]
    fn a_day_that_an_address_asks_for_is_a_day_of_the_almanac() {
        let refused = |text| asked_day(Some(text), TODAY).unwrap_err().to_string();
        assert_eq!(asked_day(None, TODAY).unwrap(), None);
        assert_eq!(asked_day(Some(""), TODAY).unwrap(), None);
        assert_eq!(asked_day(Some("2026-02-28"), TODAY).unwrap(), Some(date(2026, 2, 28)));
        assert_eq!(asked_day(Some("28 February"), TODAY).unwrap(), Some(date(2026, 2, 28)));
        for text in ["2026-02-29", "-009998-01-01", "2201-01-01", "soon"] {
            let said = refused(text);
            assert!(said.starts_with(&format!("\"{text}\" is not a date; write 14 Jul")), "{said}");
        }
    }

    #[test]
    fn an_old_record_stays_old_to_the_day_and_a_device_that_speaks_makes_it_now() {
        let last = Some(date(2026, 7, 14));
        assert_eq!(choose(None, "2026-07-21T23:00:00Z", last, None).record_ended, None, "seven days");
        assert_eq!(choose(None, "2026-07-22T23:00:00Z", last, None).record_ended, last, "eight");
        let speaks = choose(None, "2026-11-23T09:00:00Z", last, Some("2026-11-20T09:00:00Z"));
        assert_eq!((speaks.date, speaks.record_ended), (date(2026, 11, 23), None));
        let silent = choose(None, "2026-11-23T09:00:00Z", last, Some("2026-11-01T09:00:00Z"));
        assert_eq!(silent.record_ended, last);
    }

    #[test]
    fn a_date_that_was_asked_for_stands_and_no_weather_is_now() {
        let asked = choose(Some(date(2025, 1, 1)), "2026-11-23T09:00:00Z", Some(date(2026, 7, 14)), None);
        assert_eq!((asked.date, asked.record_ended), (date(2025, 1, 1), None));
        let none = choose(None, "2026-11-23T01:00:00Z", None, None);
        assert_eq!(none.date, date(2026, 11, 22), "still the day before in the west");
        let same = choose(Some(date(2026, 11, 23)), "2026-11-23T09:00:00Z", None, None);
        assert_eq!(same.at.to_string(), "2026-11-23T09:00:00Z", "today is now, asked for or not");
        assert!(
            evening(date(2026, 1, 1) + 1.day(), &TimeZone::UTC) > evening(date(2026, 1, 1), &TimeZone::UTC)
        );
    }
}

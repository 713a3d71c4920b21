//! Coming runs as iCalendar (RFC 5545): an event for each start of a program.

use icalendar::{Calendar, Component, Event};
use jiff::Timestamp;
use upland_core::controller::schedule::{ScheduledRun, passes};

/// What a calendar is about.
#[derive(Debug, Clone, Copy)]
pub struct About<'a> {
    /// Name of the calendar.
    pub name: &'a str,
    /// Keeps the events of two controllers apart.
    pub uid: &'a str,
    /// When it was written.
    pub now: Timestamp,
}

/// iCalendar's form of an instant in UTC.
fn utc(at: Timestamp) -> String {
    at.strftime("%Y%m%dT%H%M%SZ").to_string()
}

/// Writes the runs, one event a start of a program. `words` names a program and its stations.
#[must_use]
pub fn write(
    runs: &[ScheduledRun],
    about: About<'_>,
    words: impl Fn(usize, &[u16]) -> (String, String),
) -> String {
    let mut calendar = Calendar::new();
    calendar.name(about.name);
    for pass in passes(runs.iter()) {
        let (summary, description) = words(pass.program, &pass.stations());
        let mut event = Event::new();
        event
            .uid(&format!("{}-{}-{}-{}", about.uid, pass.program, pass.start_number, pass.date))
            .summary(&summary)
            .description(&description)
            .add_property("DTSTAMP", utc(about.now))
            .add_property("DTSTART", utc(pass.begin))
            .add_property("DTEND", utc(pass.end))
            .add_property("TRANSP", "TRANSPARENT");
        calendar.push(event.done());
    }
    calendar.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::{date, time};
    use jiff::tz::TimeZone;
    use upland_core::controller::schedule::{Settings, expand};
    use upland_core::controller::twelve_stations;
    use upland_core::quantity::time::Seconds;

    #[test]
    fn each_start_of_a_program_is_an_event() {
        let card = twelve_stations();
        let mut settings = Settings::clean(&card);
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(2, 0, 0, 0), time(4, 0, 0, 0)];
        settings.set_run_time(0, 1, Seconds::from_s(600));
        settings.set_run_time(0, 2, Seconds::from_s(1200));
        let runs = expand(&settings, &card, &TimeZone::UTC, date(2026, 7, 14), date(2026, 7, 14));
        let about = About { name: "Shed; Larkrigg, Slope", uid: "controller-1", now: Timestamp::UNIX_EPOCH };
        let text = write(&runs, about, |p, s| (format!("Program {p}"), format!("stations {s:?}")));
        assert_eq!(text.matches("BEGIN:VEVENT").count(), 2);
        for line in [
            "DTSTART:20260714T020000Z",
            "DTEND:20260714T023000Z",
            "UID:controller-1-0-2-2026-07-14",
            "DTSTAMP:19700101T000000Z",
        ] {
            assert!(text.contains(line), "{line} in {text}");
        }
        assert!(text.lines().all(|l| l.len() <= 76), "RFC 5545 folds lines at 75 octets");
        assert!(text.contains("\r\n"));
    }
}

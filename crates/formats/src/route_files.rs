//! A day's route: driving minutes that come in as a table, and the stops that go out as CSV and iCalendar.

use crate::table::Problem;
use icalendar::{Calendar, Component, Event};
use jiff::Timestamp;

/// Most lines of a table of driving minutes.
const MOST_LINES: usize = 10_000;
/// Longest drive that is taken, minutes.
const LONGEST_MIN: f64 = 1_440.0;

/// Driving minutes from one place to another, by their names.
#[derive(Debug, Clone, PartialEq)]
pub struct DriveLine {
    /// Name of a site, or "start" or "end".
    pub from: String,
    /// Name of a site, or "start" or "end".
    pub to: String,
    /// Minutes.
    pub minutes: f64,
}

/// Reads a table of driving minutes: columns from, to, minutes; the header may be missing.
///
/// # Errors
/// Every problem by its line; nothing is taken of a table that has any.
pub fn read_minutes(text: &str) -> Result<Vec<DriveLine>, Vec<Problem>> {
    let mut reader = csv::ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .trim(csv::Trim::All)
        .from_reader(text.as_bytes());
    let (mut lines, mut problems) = (Vec::new(), Vec::new());
    for record in reader.records().take(MOST_LINES) {
        let Ok(record) = record else {
            problems.push(Problem::file("is no CSV; write lines such as Home terrace,Mill lane,12"));
            break;
        };
        let line = record.position().map(csv::Position::line);
        let mut say = |message: String| problems.push(Problem { line, column: None, message });
        match record.iter().collect::<Vec<_>>().as_slice() {
            [_, _, minutes] if line == Some(1) && minutes.eq_ignore_ascii_case("minutes") => {}
            [from, to, minutes] => match minutes.parse::<f64>() {
                Ok(minutes) if (0.0..=LONGEST_MIN).contains(&minutes) => {
                    lines.push(DriveLine { from: (*from).to_owned(), to: (*to).to_owned(), minutes });
                }
                _ => say(format!("\"{minutes}\" is no number of minutes from 0 to {LONGEST_MIN}")),
            },
            cells => say(format!("has {} cells instead of three: from, to, minutes", cells.len())),
        }
    }
    if problems.is_empty() { Ok(lines) } else { Err(problems) }
}

/// A stop as it is written out.
#[derive(Debug, Clone)]
pub struct StopRow {
    /// Who drives.
    pub driver: String,
    /// The place in the driver's day, from 1.
    pub place: usize,
    /// The site.
    pub site: String,
    /// Its street address, or its coordinates.
    pub address: String,
    /// Latitude, degrees.
    pub latitude_deg: f64,
    /// Longitude, degrees.
    pub longitude_deg: f64,
    /// When work begins.
    pub begins: Timestamp,
    /// When it ends.
    pub leaves: Timestamp,
    /// The drive that leads there, minutes.
    pub drive_min: f64,
    /// The same, km.
    pub drive_km: f64,
    /// What is to be done, in words.
    pub because: String,
}

/// The columns of a route.
const HEADER: [&str; 11] = [
    "driver",
    "place",
    "site",
    "address",
    "latitude_deg",
    "longitude_deg",
    "begins",
    "leaves",
    "drive_min",
    "drive_km",
    "because",
];

/// Writes a route as CSV, a row a stop; times RFC 3339 in universal time.
#[must_use]
pub fn write_csv(stops: &[StopRow]) -> String {
    let row = |stop: &StopRow| {
        [
            stop.driver.clone(),
            stop.place.to_string(),
            stop.site.clone(),
            stop.address.clone(),
            format!("{:.5}", stop.latitude_deg),
            format!("{:.5}", stop.longitude_deg),
            stop.begins.to_string(),
            stop.leaves.to_string(),
            format!("{:.0}", stop.drive_min),
            format!("{:.1}", stop.drive_km),
            stop.because.clone(),
        ]
    };
    crate::rows_csv::write(&HEADER, &stops.iter().map(row).collect::<Vec<_>>())
}

/// Writes a route as iCalendar (RFC 5545), an event a stop.
#[must_use]
pub fn write_ics(stops: &[StopRow], uid: &str, now: Timestamp) -> String {
    let utc = |at: Timestamp| at.strftime("%Y%m%dT%H%M%SZ").to_string();
    let mut calendar = Calendar::new();
    calendar.name("Route");
    for stop in stops {
        let mut event = Event::new();
        event
            .uid(&format!("{uid}-{}-{}", stop.driver, stop.place))
            .summary(&stop.site)
            .description(&stop.because)
            .add_property("LOCATION", stop.address.as_str())
            .add_property("GEO", format!("{:.5};{:.5}", stop.latitude_deg, stop.longitude_deg))
            .add_property("DTSTAMP", utc(now))
            .add_property("DTSTART", utc(stop.begins))
            .add_property("DTEND", utc(stop.leaves));
        calendar.push(event.done());
    }
    calendar.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_is_read_with_and_without_a_header_and_refused_by_line() {
        let line = |from: &str, to: &str, minutes| DriveLine { from: from.into(), to: to.into(), minutes };
        let wanted = [line("start", "Mill lane", 12.0), line("Mill lane", "Home, upper", 7.5)];
        let text = "from,to,minutes\nstart, Mill lane ,12\nMill lane,\"Home, upper\",7.5\n";
        assert_eq!(read_minutes(text).unwrap(), wanted);
        assert_eq!(read_minutes(text.split_once('\n').unwrap().1).unwrap(), wanted);
        assert_eq!(read_minutes("").unwrap(), []);
        let wrong = read_minutes("a,b,soon\na,b\na,b,-1\na,b,3\n").unwrap_err();
        assert_eq!(wrong.iter().map(|p| p.line).collect::<Vec<_>>(), [Some(1), Some(2), Some(3)]);
    }

    #[test]
    fn a_stop_goes_out_with_its_times_and_no_cell_runs_as_a_formula() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let stop = StopRow {
            driver: "Bram".into(),
            place: 1,
            site: "=Mill lane".into(),
            address: "4 Mill lane, Tarnside".into(),
            latitude_deg: 54.5,
            longitude_deg: -3.25,
            begins: at("2026-07-14T07:10:00Z"),
            leaves: at("2026-07-14T07:50:00Z"),
            drive_min: 10.4,
            drive_km: 6.94,
            because: "2 faults".into(),
        };
        let csv = write_csv(std::slice::from_ref(&stop));
        let row = csv.lines().nth(1).unwrap();
        assert!(row.starts_with("Bram,1,'=Mill lane,\"4 Mill lane, Tarnside\",54.50000,-3.25000"), "{row}");
        assert!(row.ends_with("2026-07-14T07:10:00Z,2026-07-14T07:50:00Z,10,6.9,2 faults"), "{row}");
        let ics = write_ics(&[stop], "day", at("2026-07-14T05:00:00Z"));
        assert!(
            ics.contains("DTSTART:20260714T071000Z") && ics.contains("GEO:54.50000\\;-3.25000")
                || ics.contains("GEO:54.50000;-3.25000"),
            "{ics}"
        );
    }
}

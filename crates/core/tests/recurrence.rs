//! Day patterns and clock changes against an independent recurrence library (python-dateutil;
//! `tools/reference/recurrence.py` wrote the vectors, the second line names the version).
#![allow(clippy::unwrap_used, clippy::indexing_slicing, clippy::panic)]

use jiff::civil::{Date, date};
use jiff::tz::TimeZone;
use upland_core::controller::schedule::{Days, Percentages, Program, Settings, expand};
use upland_core::controller::twelve_stations;
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::time::Seconds;

fn days(pattern: &str) -> Days {
    let counted_from = date(2027, 12, 1);
    match pattern {
        "mon-wed-fri" => Days::Weekdays([true, false, true, false, true, false, false]),
        "odd" => Days::Odd,
        "even" => Days::Even,
        "every-3" => Days::EveryNth { interval: 3, first: counted_from },
        "every-14" => Days::EveryNth { interval: 14, first: counted_from },
        other => panic!("{other}"),
    }
}

#[test]
fn starts_agree_with_dateutil() {
    let mut compared = 0;
    for line in include_str!("data/recurrence.csv").lines().filter(|l| !l.starts_with('#')).skip(1) {
        let cells: Vec<&str> = line.split(',').collect();
        let settings = Settings {
            programs: vec![Program {
                name: "A".into(),
                active: true,
                starts: vec![jiff::civil::Time::strptime("%H:%M", cells[2]).unwrap()],
                days: days(cells[0]),
                run_times: vec![(1, Seconds::from_min(10))],
                repeat: None,
            }],
            percentages: Percentages::Program([100].map(Percentage::from_percent).to_vec()),
            stations: Vec::new(),
            delay: Seconds::from_s(0),
            never_days: [false; 7],
            omit_hours: None,
            rain_delay: None,
            off_season: None,
            omit_dates: Vec::new(),
            master_lead: (Seconds::ZERO, Seconds::ZERO),
        };
        let tz = TimeZone::get(cells[1]).unwrap();
        let span: [Date; 2] = [cells[3].parse().unwrap(), cells[4].parse().unwrap()];
        let runs = expand(&settings, &twelve_stations(), &tz, span[0], span[1]);
        let got: Vec<String> = runs.iter().map(|r| r.start.to_string()).collect();
        let expected: Vec<&str> = cells[5].split_whitespace().collect();
        assert_eq!(got, expected, "{} {} {}", cells[0], cells[1], cells[2]);
        compared += got.len();
    }
    assert!(compared > 3000, "{compared}");
}

//! Readers meet whatever a disk can hold: they refuse or read, and never panic; and a file with
//! one damaged place is refused at that place.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, clippy::panic)]

use proptest::prelude::*;
use upland_core::units::Metres;
use upland_core::weather::Station;
use upland_formats::{balance_csv, daily_csv, hourly_csv, settings_file, site_file};

fn station() -> Station {
    Station {
        latitude_deg: 46.0,
        longitude_deg: -30.0,
        elevation: Metres::from_m(1040.0),
        wind_height: Metres::from_m(2.0),
    }
}

const DAILY: &str = "date,tmin_c,tmax_c,rain_mm,solar_mj_m2,wind_m_s\n\
    2026-07-01,9,21,0,24.5,1.9\n2026-07-02,10,22,4.5,18,2.4\n2026-07-03,11,23,0,25,1.2\n";
const HOURLY: &str = "time,temp_c,rh_pct,solar_w_m2,wind_m_s\n\
    2026-07-14T10:00:00+02:00,21,60,640,1.5\n2026-07-14T11:00:00+02:00,22,58,700,1.7\n";
const BALANCE: &str = "date,et0_mm,rain_mm,irrigation_mm\n2026-07-01,5,0,0\n2026-07-02,4.5,12,0\n";
const SITE: &str = include_str!("../../app/src/demo/sites/botanic-slope.json");

/// A text with one byte replaced, removed or doubled.
fn damaged(text: &'static str) -> impl Strategy<Value = Vec<u8>> {
    (0..text.len(), any::<u8>(), 0..3_u8).prop_map(move |(at, byte, how)| {
        let mut bytes = text.as_bytes().to_vec();
        match how {
            0 => bytes[at] = byte,
            1 => {
                bytes.remove(at);
            }
            _ => bytes.insert(at, byte),
        }
        bytes
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn any_bytes(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
        let _ = daily_csv::read(&bytes, &station());
        let _ = hourly_csv::read(&bytes);
        let _ = balance_csv::read(&bytes);
        let _ = site_file::read(&bytes);
        let _ = settings_file::read(&bytes);
    }

    #[test]
    fn a_damaged_daily_file(bytes in damaged(DAILY)) {
        if let Err(problems) = daily_csv::read(&bytes, &station()) {
            prop_assert!(!problems.is_empty() && problems.iter().all(|p| !p.message.is_empty()));
            // A problem of a row names a line that is there.
            let lines = bytes.iter().filter(|b| **b == b'\n').count() as u64 + 1;
            prop_assert!(problems.iter().filter_map(|p| p.line).all(|line| (1..=lines).contains(&line)));
        }
    }

    #[test]
    fn a_damaged_hourly_file(bytes in damaged(HOURLY)) {
        if let Err(problems) = hourly_csv::read(&bytes) {
            prop_assert!(!problems.is_empty());
        }
    }

    #[test]
    fn a_damaged_balance_file(bytes in damaged(BALANCE)) {
        if let Err(problems) = balance_csv::read(&bytes) {
            prop_assert!(!problems.is_empty());
        }
    }

    #[test]
    fn a_damaged_site_file(bytes in damaged(SITE)) {
        match site_file::read(&bytes) {
            Err(problems) => prop_assert!(!problems.is_empty()),
            // What is read is whole: it survives being written.
            Ok(file) => {
                let again = site_file::read(site_file::write(&file).as_bytes());
                prop_assert_eq!(again, Ok(file));
            }
        }
    }
}

#[test]
fn the_undamaged_files_are_read() {
    assert_eq!(daily_csv::read(DAILY.as_bytes(), &station()).unwrap().days.len(), 3);
    assert_eq!(hourly_csv::read(HOURLY.as_bytes()).unwrap().hours.len(), 2);
    assert_eq!(balance_csv::read(BALANCE.as_bytes()).unwrap().len(), 2);
    assert_eq!(site_file::read(SITE.as_bytes()).unwrap().zones.len(), 8);
}

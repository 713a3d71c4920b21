//! Readers meet whatever a disk can hold: they refuse or read, and never panic; and a file with
//! one damaged place is refused at that place.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, clippy::panic)]

use proptest::prelude::*;
use upland_core::controller::generic;
use upland_core::controller::ordinance::{AllowedDays, Ordinance, Rule};
use upland_core::controller::schedule::{Settings, YearSpan};
use upland_core::ground::application::HeadType;
use upland_core::quantity::time::Hours;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::Metres;
use upland_core::weather::Station;
use upland_formats::settings_file::ControllerFile;
use upland_formats::{
    balance_csv, card_file, daily_csv, hourly_csv, ordinance_file, settings_file, site_file,
};

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

/// A text with one byte replaced, removed or doubled, at a place that may lie behind its end.
fn damage(text: &str, at: usize, byte: u8, how: u8) -> Vec<u8> {
    let mut bytes = text.as_bytes().to_vec();
    let at = at % bytes.len();
    match how {
        0 => bytes[at] = byte,
        1 => {
            bytes.remove(at);
        }
        _ => bytes.insert(at, byte),
    }
    bytes
}

fn settings_text() -> String {
    let card = generic().remove(0).1;
    let mut settings = Settings::clean(&card);
    settings.programs[0].active = true;
    settings.programs[0].starts = vec![jiff::civil::time(2, 0, 0, 0)];
    settings.set_run_time(0, 1, Seconds::from_min(15));
    settings.update_station(1, |s| s.cycle_and_soak = Some((Seconds::from_min(5), Seconds::from_min(30))));
    settings.off_season = Some(YearSpan { from: (11, 1), until: (3, 31) });
    settings.rain_delay = Some((jiff::civil::date(2026, 7, 10), 3));
    settings_file::write(&ControllerFile {
        time_zone: "UTC".into(),
        tz: jiff::tz::TimeZone::UTC,
        card,
        settings,
    })
}

fn ordinance() -> Ordinance {
    let week = |days: [usize; 2]| core::array::from_fn(|i| days.contains(&i));
    Ordinance {
        name: "Larkrigg summer watering".into(),
        rules: vec![Rule {
            season: Some(YearSpan { from: (4, 1), until: (10, 31) }),
            days: AllowedDays::Weekdays { odd: week([2, 6]), even: week([1, 5]) },
            forbidden_hours: vec![Hours {
                from: jiff::civil::time(10, 0, 0, 0),
                until: jiff::civil::time(18, 0, 0, 0),
            }],
            most_days_a_week: Some(2),
            most_minutes_a_day: None,
            after_rain: None,
        }],
        exempt_heads: vec![HeadType::Drip],
        hours_bind_exempt_heads: false,
        exempts_new_planting: true,
    }
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
        let _ = card_file::read(&bytes);
        let _ = ordinance_file::read(&bytes);
    }

    #[test]
    fn a_damaged_settings_file(at in 0usize..4000, byte in any::<u8>(), how in 0..3_u8) {
        let bytes = damage(&settings_text(), at, byte, how);
        match settings_file::read(&bytes) {
            Err(problems) => prop_assert!(problems.iter().all(|p| !p.message.is_empty()) && !problems.is_empty()),
            Ok(file) => prop_assert_eq!(settings_file::read(settings_file::write(&file).as_bytes()), Ok(file)),
        }
    }

    #[test]
    fn a_damaged_card_file(card in 0usize..6, at in 0usize..2000, byte in any::<u8>(), how in 0..3_u8) {
        let bytes = damage(&card_file::write(&generic()[card].1), at, byte, how);
        match card_file::read(&bytes) {
            Err(problems) => prop_assert!(!problems.is_empty()),
            Ok(card) => {
                prop_assert_eq!(card.check(), [], "what is read can be");
                prop_assert_eq!(card_file::read(card_file::write(&card).as_bytes()), Ok(card));
            }
        }
    }

    #[test]
    fn a_damaged_ordinance_file(at in 0usize..2000, byte in any::<u8>(), how in 0..3_u8) {
        let bytes = damage(&ordinance_file::write(&ordinance()), at, byte, how);
        match ordinance_file::read(&bytes) {
            Err(problems) => prop_assert!(!problems.is_empty()),
            Ok(read) => {
                prop_assert_eq!(read.check(), []);
                prop_assert_eq!(ordinance_file::read(ordinance_file::write(&read).as_bytes()), Ok(read));
            }
        }
    }

    #[test]
    fn settings_of_every_card_survive_their_file(card in 0usize..6, minutes in proptest::collection::vec(0u32..120, 1..6), start in 0u16..1440) {
        let card = generic()[card].1.clone();
        let mut settings = Settings::clean(&card);
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![jiff::civil::time((start / 60) as i8, (start % 60) as i8, 0, 0)];
        for (n, minutes) in (1..).zip(minutes) {
            settings.set_run_time(0, n, Seconds::from_min(minutes.into()));
        }
        let settings = settings.fitted(&card);
        let file = ControllerFile { time_zone: "UTC".into(), tz: jiff::tz::TimeZone::UTC, card, settings: settings.clone() };
        prop_assert_eq!(settings_file::read(settings_file::write(&file).as_bytes()).unwrap(), file);
        // As it lies in the database.
        prop_assert_eq!(settings_file::settings_from(settings_file::settings_value(&settings)), Ok(settings));
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
                let again = site_file::read(site_file::write_with_access(&file).as_bytes());
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

#[test]
fn a_site_with_several_controllers_is_refused_where_it_is_wrong() {
    let good: serde_json::Value =
        serde_json::from_str(include_str!("../../app/src/demo/sites/tarnside.json")).unwrap();
    let read = |change: &dyn Fn(&mut serde_json::Value)| {
        let mut value = good.clone();
        change(&mut value);
        match site_file::read(value.to_string().as_bytes()) {
            Ok(file) => vec![format!("ok, {} controllers", file.controllers.len())],
            Err(problems) => problems.iter().map(ToString::to_string).collect(),
        }
    };
    assert_eq!(read(&|_| ()), ["ok, 2 controllers"]);
    for (change, expected) in [
        (
            &(|v: &mut serde_json::Value| v["controllers"][1]["number"] = 1.into())
                as &dyn Fn(&mut serde_json::Value),
            "controllers[1].number: 1 is 0 or used twice",
        ),
        (
            &|v| v["zones"][0]["controller"] = 7.into(),
            "zones[0].controller: 7 is not the number of a controller",
        ),
        (&|v| v["controllers"] = serde_json::json!([]), "controllers: give either a list of controllers"),
        (
            &|v| v["controllers"][0]["card"]["programs"] = 99.into(),
            "controllers[0].card.programs: 99 is outside 1 to 26",
        ),
        (
            &|v| v["controllers"][1]["settings"]["percentages"]["box"] = 50.into(),
            "controllers[1].settings.percentages[0]: 50 % cannot be set",
        ),
        (
            &|v| v["controllers"][0]["settings"]["programs"][0]["days"] = "sometimes".into(),
            "controllers[0].settings.programs[0].days",
        ),
        (&|v| v["zones"][1]["number"] = 1.into(), "zones[1].number: 1 is used twice"),
    ] {
        let told = read(change);
        assert!(told.iter().any(|t| t.starts_with(expected)), "{expected} in {told:?}");
    }
}

/// Numbers of the database mean another thing at every server, so that a file never names one: whatever it brings
/// becomes a thing of the site that it is brought to.
#[test]
fn sentence_2_no_file_carries_an_identity_of_the_database() {
    fn names(value: &serde_json::Value, found: &mut Vec<String>) {
        match value {
            serde_json::Value::Object(all) => {
                if let Some(serde_json::Value::Object(own)) = all.get("properties") {
                    found.extend(own.keys().cloned());
                }
                all.values().for_each(|v| names(v, found));
            }
            serde_json::Value::Array(all) => all.iter().for_each(|v| names(v, found)),
            _ => {}
        }
    }
    let docs = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    let mut found = Vec::new();
    for entry in std::fs::read_dir(docs).unwrap() {
        let path = entry.unwrap().path();
        if path.to_string_lossy().ends_with(".schema.json") {
            names(&serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap(), &mut found);
        }
    }
    assert!(found.len() > 200, "the schemas were not found: {}", found.len());
    found.retain(|name| name == "id" || name.ends_with("_id"));
    assert!(found.is_empty(), "{found:?}");
}

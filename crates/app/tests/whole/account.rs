//! The account on the command line: against an independent one in another language, and at its edges.

use super::cli::{run, stderr, stdout};

const DATA: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data");

fn path(case: u32, ending: &str) -> String {
    format!("{DATA}/account-{case:02}.{ending}")
}

/// The rows of a CSV text, without its header.
fn rows(text: &str) -> Vec<Vec<String>> {
    text.lines().skip(1).map(|line| line.split(',').map(str::to_owned).collect()).collect()
}

/// First and last day of a weather file.
fn span(case: u32) -> (String, String) {
    let text = std::fs::read_to_string(path(case, "weather.csv")).unwrap();
    let all = rows(&text);
    (all[0][0].clone(), all[all.len() - 1][0].clone())
}

fn of_case(case: u32, more: &[&str]) -> String {
    let (site, weather, log) = (path(case, "json"), path(case, "weather.csv"), path(case, "log.json"));
    let (from, to) = span(case);
    let mut arguments = vec!["account", &site, &weather, "--from", &from, "--to", &to, "--log", &log];
    arguments.extend(more);
    let out = run(&arguments, "");
    assert!(out.status.success(), "case {case}: {}", stderr(&out));
    stdout(&out)
}

/// `tools/reference/account.py`: FAO-56 and the soil tables in Python's standard library, written from the rules.
#[test]
fn days_and_hours_agree_with_the_independent_account() {
    let mut compared = 0;
    for case in 1..=6 {
        for (kind, more) in [("days", &[][..]), ("hours", &["--hours"][..])] {
            let expected = rows(&std::fs::read_to_string(path(case, &format!("{kind}.csv"))).unwrap());
            let got = rows(&of_case(case, more));
            for want in &expected {
                let found = got.iter().find(|row| row[..2] == want[..2]);
                let found = found.unwrap_or_else(|| panic!("case {case}: no row {:?}", &want[..2]));
                for (column, (a, b)) in found[2..11].iter().zip(&want[2..11]).enumerate() {
                    let gap = (a.parse::<f64>().unwrap() - b.parse::<f64>().unwrap()).abs();
                    assert!(gap < 2e-5, "case {case} {kind}, column {}: {found:?} and {want:?}", column + 2);
                }
                assert_eq!(found[11], want[11], "case {case}: {found:?}");
                compared += 1;
            }
        }
    }
    assert_eq!(compared, 6 * 4 * (45 + 48));
}

#[test]
fn every_row_adds_up_whatever_the_way() {
    for way in ["best", "as-set", "as-advised"] {
        let mut before: Option<(String, f64)> = None;
        for row in rows(&of_case(3, &["--way", way])) {
            let v: Vec<f64> = row[2..11].iter().map(|cell| cell.parse().unwrap()).collect();
            let [rain, rain_in, applied, applied_in, runoff, drainage, et, _, depletion] = v[..] else {
                panic!()
            };
            assert!((rain + applied - rain_in - applied_in - runoff).abs() < 1e-5, "{row:?}");
            let known = before.as_ref().filter(|(zone, _)| *zone == row[1]).map_or(0.0, |(_, mm)| *mm);
            if !row[11].contains("reading") {
                assert!((known - rain_in - applied_in + et + drainage - depletion).abs() < 1e-5, "{row:?}");
            }
            before = Some((row[1].clone(), depletion));
        }
    }
}

#[test]
fn bad_input_is_told_at_its_place_and_nothing_is_printed() {
    let (site, weather) = (path(1, "json"), path(1, "weather.csv"));
    let account = |more: &[&str], input: &str| {
        let mut arguments = vec!["account", &site, &weather];
        arguments.extend(more);
        let out = run(&arguments, input);
        assert_eq!(stdout(&out), "");
        (out.status.code(), stderr(&out))
    };
    let (code, text) = account(&["--from", "2026-05-02", "--to", "2026-05-01"], "");
    assert!(code == Some(2) && text.contains("--to lies before --from"), "{text}");
    let (code, text) = account(&["--from", "2026-05-01", "--to", "2026-05-02", "--way", "dry"], "");
    assert!(code == Some(2) && text.contains("not one of best, as-set, as-advised"), "{text}");
    let log =
        r#"{"format":"upland-almanac-log","version":1,"runs":[{"station":77,"start":"noon","seconds":5}]}"#;
    let (code, text) = account(&["--from", "2026-05-01", "--to", "2026-05-02", "--log", "-"], log);
    assert!(
        code == Some(1) && text.contains("runs[0]: the site has no zone on station 77 of controller 1"),
        "{text}"
    );
    assert!(text.contains("runs[0].start: \"noon\" is not an instant"), "{text}");
}

#[test]
fn a_record_that_ends_and_a_reading_in_the_future_are_said() {
    let (from, to) = span(1);
    let beyond = "2026-12-31";
    let (site, weather, log) = (path(1, "json"), path(1, "weather.csv"), path(1, "log.json"));
    let out = run(&["account", &site, &weather, "--from", &to, "--to", beyond, "--log", &log], "");
    assert!(stderr(&out).contains(&format!("the record ends on {to}")), "{}", stderr(&out));
    let out = run(&["account", &site, &weather, "--from", &from, "--to", &from, "--log", &log], "");
    let told = stderr(&out);
    assert!(told.contains("readings of the log lie after") && told.contains("runs of the log"), "{told}");
    assert_eq!(stdout(&out).lines().count(), 5, "four zones, one day");
}

#[test]
fn a_site_without_weather_has_a_balance_and_does_not_run_every_night() {
    let site = path(2, "json");
    let weather = "date,tmin_c,tmax_c,rain_mm\n2020-01-01,10,20,0\n";
    let out = run(&["account", &site, "-", "--from", "2026-07-01", "--to", "2026-07-30"], weather);
    assert!(stderr(&out).contains("the record ends on 2020-01-01"), "{}", stderr(&out));
    let all = rows(&stdout(&out));
    let watered = |zone: &str| all.iter().filter(|r| r[1] == zone && r[4] != "0.000000").count();
    for zone in ["1", "2", "3", "4"] {
        assert!((1..30).contains(&watered(zone)), "zone {zone}: {}", watered(zone));
    }
}

#[test]
fn check_prints_every_finding_with_its_weight_and_place() {
    let site = concat!(env!("CARGO_MANIFEST_DIR"), "/src/demo/sites/botanic-slope.json");
    let out = run(&["check", site, "--from", "2026-07-15"], "");
    let found: serde_json::Value = serde_json::from_str(&stdout(&out)).unwrap();
    let all = found["findings"].as_array().unwrap();
    assert!(!all.is_empty());
    for finding in all {
        assert!(["fault", "warning", "note"].contains(&finding["severity"].as_str().unwrap()), "{finding}");
        assert!(!finding["text"].as_str().unwrap().is_empty());
        assert!(finding["kind"].as_str().unwrap().bytes().all(|b| b.is_ascii_lowercase() || b == b'_'));
        assert!(finding["program"].is_null() || finding["program"].is_string());
    }
    assert!(all.iter().any(|f| f["kind"] == "zone_drowned" && f["station"].is_u64()), "{all:#?}");
    let out = run(&["check", &path(1, "json"), "--from", "2026-07-15"], "");
    assert_eq!(stdout(&out), "{\n  \"findings\": []\n}\n");
    assert!(stderr(&out).contains("the settings of the controller are not known"));
}

#[test]
fn replay_tells_every_step_of_the_switch_with_its_holds() {
    let mut weather = String::from("date,tmin_c,tmax_c,rain_mm\n");
    for (day, rain) in [(1, 0.0), (2, 4.0), (3, 0.0), (10, 7.0), (11, 9.0), (20, 30.0), (28, 0.0)] {
        weather.push_str(&format!("2026-07-{day:02},12,25,{rain}\n"));
    }
    let (_, card) = upland_core::sensors::generic().into_iter().find(|(c, _)| *c == "rain_switch").unwrap();
    let sensor = upland_formats::sensor_file::write(&upland_core::sensors::Sensor::of_card(card, 1));
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), sensor).unwrap();
    let name = file.path().to_str().unwrap();
    let place = ["--latitude", "46", "--longitude", "30", "--elevation", "1040"];
    let mut arguments = vec!["replay", name, "-"];
    arguments.extend(place);
    let out = run(&arguments, &weather);
    let told: serde_json::Value =
        serde_json::from_str(&stdout(&out)).unwrap_or_else(|_| panic!("{}", stderr(&out)));
    let steps = told["thresholds"].as_array().unwrap();
    let trips: Vec<u64> = steps.iter().map(|s| s["trips"].as_u64().unwrap()).collect();
    // 4 mm alone; 16 mm in two days on discs that never dried; a storm.
    let of = |mm: f64| steps.iter().position(|s| s["threshold_mm"] == mm).unwrap();
    assert_eq!((trips[of(3.0)], trips[of(6.0)], trips[of(12.0)], trips[of(18.0)]), (3, 2, 2, 1), "{told}");
    let second = &steps[of(12.0)]["holds"][0];
    assert!(second["event_from"].as_str().unwrap().starts_with("2026-07-10T"), "{second}");
    assert!(second["from"].as_str().unwrap().starts_with("2026-07-11T"), "{second}");
    let mut wrong = vec!["replay", name, "-", "--latitude", "96"];
    wrong.extend(&place[2..]);
    assert_eq!(run(&wrong, &weather).status.code(), Some(2));
}

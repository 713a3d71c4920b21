//! The file commands: what they print, and how they fail.

use super::server::BINARY;
use std::io::Write;
use std::process::{Command, Output, Stdio};

pub fn run(arguments: &[&str], input: &str) -> Output {
    let mut child = Command::new(BINARY)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    // A command that refuses its arguments never reads, and the pipe may close first.
    let _ = child.stdin.take().unwrap().write_all(input.as_bytes());
    child.wait_with_output().unwrap()
}

pub fn stdout(output: &Output) -> String {
    String::from_utf8(output.stdout.clone()).unwrap()
}

pub fn stderr(output: &Output) -> String {
    String::from_utf8(output.stderr.clone()).unwrap()
}

/// FAO-56 example 18 (Uccle, 6 July): 3.9 mm/day. The example gives sunshine; 22.07 MJ/m² is its Rs.
#[test]
fn et_gives_the_worked_example() {
    let input = "date,tmin_c,tmax_c,rh_min_pct,rh_max_pct,solar_mj_m2,wind_m_s\n2026-07-06,12.3,21.5,63,84,22.07,2.7778\n";
    let out = run(&["et", "--latitude", "50.8", "--elevation", "100", "--wind-height", "10", "-"], input);
    let text = stdout(&out);
    let row: Vec<_> = text.lines().nth(1).unwrap().split(',').collect();
    assert_eq!((row[0], row[2]), ("2026-07-06", "penman-monteith"));
    assert!((row[1].parse::<f64>().unwrap() - 3.88).abs() < 0.01, "{text}");
    assert_eq!(row[1].split_once('.').unwrap().1.len(), 6, "six decimals");
}

#[test]
fn et_says_its_method_and_obeys_the_one_asked_for() {
    let input = "date,tmin_c,tmax_c\n2026-07-06,12.3,21.5\n";
    let method = |extra: &[&str]| {
        let mut arguments = vec!["et", "--latitude", "-33.9", "--elevation", "100"];
        arguments.extend(extra);
        arguments.push("-");
        stdout(&run(&arguments, input)).lines().nth(1).unwrap().split(',').nth(2).unwrap().to_owned()
    };
    assert_eq!(method(&[]), "hargreaves");
    assert_eq!(method(&["--method", "hargreaves"]), "hargreaves");
    assert_eq!(method(&["--method", "penman-monteith"]), "penman-monteith; filled: dew point + solar + wind");
}

#[test]
fn et_hourly_echoes_the_times_and_needs_a_longitude() {
    let input = "time,temp_c,rh_pct,solar_w_m2,wind_m_s\n\
        2026-10-01T14:00:00-01:00,38,52,680.6,3.3\n2026-10-01T15:00:00-01:00,37,54,500,3.0\n";
    let out = run(
        &["et", "--latitude", "16.22", "--longitude", "-16.25", "--elevation", "8", "--hourly", "-"],
        input,
    );
    let text = stdout(&out);
    assert!(text.starts_with("time,et0_mm,method\n2026-10-01T14:00:00-01:00,0."), "{text}");
    let out = run(&["et", "--latitude", "16.22", "--elevation", "8", "--hourly", "-"], input);
    assert_eq!(out.status.code(), Some(2));
    assert!(stdout(&out).is_empty());
}

#[test]
fn a_wrong_file_exits_1_with_every_problem_and_nothing_on_standard_output() {
    let input = "date,tmin_c,tmax_c\n2026-07-06,22.3,21.5\n2026-07-07,x,21.5\n2026-07-08,1,2\n";
    let out = run(&["et", "--latitude", "50", "--elevation", "100", "-"], input);
    assert_eq!(out.status.code(), Some(1));
    assert!(out.stdout.is_empty());
    let errors = stderr(&out);
    assert!(errors.contains("line 2, tmin_c") && errors.contains("line 3, tmin_c"), "{errors}");
    let out = run(&["et", "--latitude", "50", "--elevation", "100", "no-such-file.csv"], "");
    assert_eq!(out.status.code(), Some(1));
}

#[test]
fn wrong_usage_exits_2() {
    for arguments in [
        &["et", "--latitude", "95", "--elevation", "100", "-"][..],
        &["et", "-"],
        &["et", "--latitude", "50", "--elevation", "1", "--method", "guess", "-"],
        &["nonsense"],
        &[
            "balance",
            "--kc",
            "1",
            "--field-capacity",
            "0.1",
            "--wilting-point",
            "0.2",
            "--root-depth",
            "1",
            "--depletion",
            "0.5",
            "--initial-depletion",
            "0",
            "-",
        ],
        &[
            "balance",
            "--kc",
            "1",
            "--field-capacity",
            "0.3",
            "--wilting-point",
            "0.2",
            "--root-depth",
            "1",
            "--depletion",
            "0.5",
            "--initial-depletion",
            "101",
            "-",
        ],
    ] {
        let out = run(arguments, "");
        assert_eq!(out.status.code(), Some(2), "{arguments:?}: {}", stderr(&out));
        assert!(out.stdout.is_empty());
    }
}

/// FAO-56 example 37: tomato, TAW 160 mm, p 0.4, 55 mm depleted, 5 mm/day.
#[test]
fn balance_gives_the_worked_example() {
    let mut input = String::from("date,et0_mm,rain_mm,irrigation_mm\n");
    for day in 1..=10 {
        input.push_str(&format!("2026-07-{day:02},5,0,0\n"));
    }
    let out = run(
        &[
            "balance",
            "--kc",
            "1",
            "--field-capacity",
            "0.32",
            "--wilting-point",
            "0.12",
            "--root-depth",
            "0.8",
            "--depletion",
            "0.4",
            "--initial-depletion",
            "55",
            "-",
        ],
        &input,
    );
    let text = stdout(&out);
    assert!(text.starts_with(
        "date,depletion_mm,etc_mm,drainage_mm,ks\n2026-07-01,60.000000,5.000000,0.000000,1.000000\n"
    ));
    let last: Vec<_> = text.lines().last().unwrap().split(',').collect();
    assert!((last[1].parse::<f64>().unwrap() - 98.0).abs() < 0.5, "{text}");
    assert!((last[4].parse::<f64>().unwrap() - 0.68).abs() < 0.0051);
}

#[test]
fn tonight_reads_the_site_file_and_the_schema_is_printed() {
    let site = concat!(env!("CARGO_MANIFEST_DIR"), "/src/demo/sites/botanic-slope.json");
    let mut weather = String::from("date,tmin_c,tmax_c,rain_mm\n");
    for day in 1..=14 {
        weather.push_str(&format!("2026-07-{day:02},12,25,0\n"));
    }
    let out = run(&["tonight", site, "-", "--date", "2026-07-14"], &weather);
    let text = stdout(&out);
    assert_eq!(text.lines().count(), 9, "{}", stderr(&out));
    // What the controller will do stands beside what each zone needs, and what must be known on standard error.
    let header = text.lines().next().unwrap();
    assert!(header.ends_with(",box_minutes,box_starts,box_held_by,verdict"), "{header}");
    let lawn = text.lines().nth(1).unwrap();
    assert!(lawn.contains(",40,02:00 04:15,,"), "{lawn}");
    assert!(text.lines().skip(1).any(|l| l.ends_with(",too much")), "{text}");
    let settings = stdout(&run(&["schema", "settings"], ""));
    assert_eq!(settings, include_str!("../../../../docs/settings-v1.schema.json"));
    let schema = stdout(&run(&["schema"], ""));
    assert!(schema.contains("\"zones\""));
    assert_eq!(schema, include_str!("../../../../docs/site-v1.schema.json"));
}

const CONTROLLER: &str = r#"{
  "format": "upland-almanac-settings", "version": 1, "time_zone": "Europe/Paris",
  "card": { "name": "Controller", "stations": 6, "programs": 2, "starts_per_program": 3, "start_step_min": 1,
    "run_step_s": 60, "longest_run_s": 7200, "weekdays": true, "odd_even": true, "longest_interval_days": 7,
    "never_days": true, "percentage_min": 10, "percentage_max": 200, "percentage_step": 10,
    "percentage_scope": "box", "percentage_applies_to": "total", "rounding": "nearest", "rounding_step_s": 1,
    "cycle_and_soak": true, "overlapping_programs": "queue", "longest_delay_s": 60, "longest_overlap_s": 0,
    "longest_rain_delay_days": 7, "omit_hours": false, "loops": false, "lighting": false },
  "settings": { "percentages": { "box": 50 }, "programs": [
    { "name": "A", "starts": ["02:30"], "days": "odd",
      "run_times": [ { "station": 1, "seconds": 900 }, { "station": 2, "seconds": 600 } ] } ] }
}"#;

#[test]
fn expand_writes_every_run_across_a_clock_change_and_a_months_end() {
    let out = run(&["expand", "--settings", "-", "--from", "2026-03-29", "--to", "2026-04-01"], CONTROLLER);
    let text = stdout(&out);
    // 29 March has no 02:30; 31 March is followed by 1 April; 50 % of 15 min is 7 min 30 s.
    assert_eq!(
        text,
        "start,end,program,start_number,station,cycle,seconds\n\
         2026-03-29T03:30:00+02:00,2026-03-29T03:37:30+02:00,A,1,1,1,450\n\
         2026-03-29T03:37:30+02:00,2026-03-29T03:42:30+02:00,A,1,2,1,300\n\
         2026-03-31T02:30:00+02:00,2026-03-31T02:37:30+02:00,A,1,1,1,450\n\
         2026-03-31T02:37:30+02:00,2026-03-31T02:42:30+02:00,A,1,2,1,300\n\
         2026-04-01T02:30:00+02:00,2026-04-01T02:37:30+02:00,A,1,1,1,450\n\
         2026-04-01T02:37:30+02:00,2026-04-01T02:42:30+02:00,A,1,2,1,300\n",
        "{}",
        stderr(&out)
    );
}

#[test]
fn expand_refuses_what_the_card_cannot_hold() {
    let beyond = CONTROLLER.replace("\"station\": 2", "\"station\": 9");
    let out = run(&["expand", "--settings", "-", "--from", "2026-03-29", "--to", "2026-04-01"], &beyond);
    assert_eq!((out.status.code(), stdout(&out).as_str()), (Some(1), ""));
    assert!(
        stderr(&out).contains("settings.programs[0].run_times[1]: station 9 is not on a controller of 6")
    );
    let out = run(&["expand", "--settings", "-", "--from", "2026-04-02", "--to", "2026-04-01"], CONTROLLER);
    assert_eq!(out.status.code(), Some(2));
}

#[test]
fn plan_prints_settings_that_expand_and_says_what_binds() {
    let site = concat!(env!("CARGO_MANIFEST_DIR"), "/src/demo/sites/botanic-slope.json");
    let out = run(&["plan", site, "--from", "2026-07-14", "--strategy", "just_need"], "");
    assert!(out.status.success(), "{}", stderr(&out));
    assert!(stderr(&out).contains("rough estimate"));
    let settings = stdout(&out);
    assert_eq!(
        stdout(&run(&["plan", site, "--from", "2026-07-14", "--strategy", "just_need"], "")),
        settings,
        "the same again"
    );
    let runs = run(&["expand", "--settings", "-", "--from", "2026-07-14", "--to", "2026-07-20"], &settings);
    assert!(runs.status.success(), "{}", stderr(&runs));
    assert!(stdout(&runs).lines().count() > 20);
    // Every run ends inside the window of the site, 01:00 to 06:30.
    for line in stdout(&runs).lines().skip(1) {
        let (start, end) = (&line[11..16], &line.split(',').nth(1).unwrap()[11..16]);
        assert!(("01:00"..="06:30").contains(&start) && ("01:00"..="06:30").contains(&end), "{line}");
    }
    let narrow = std::fs::read_to_string(site).unwrap().replace("\"from\": \"01:00\"", "\"from\": \"06:20\"");
    let out = run(&["plan", "-", "--from", "2026-07-14"], &narrow);
    assert_eq!((out.status.code(), stdout(&out).as_str()), (Some(1), ""));
    assert!(
        stderr(&out).contains("the water window is too short")
            && stderr(&out).contains("would fit: window from")
    );
    assert_eq!(run(&["plan", site, "--strategy", "hourly"], "").status.code(), Some(2));
    assert_eq!(run(&["plan", site, "--controller", "7"], "").status.code(), Some(2));
}

#[test]
fn every_published_schema_is_printed() {
    for (name, published) in [
        ("card", include_str!("../../../../docs/card-v1.schema.json")),
        ("ordinance", include_str!("../../../../docs/ordinance-v1.schema.json")),
        ("settings", include_str!("../../../../docs/settings-v1.schema.json")),
    ] {
        assert_eq!(stdout(&run(&["schema", name], "")), published, "{name}");
    }
}

#[test]
fn balance_takes_a_weather_file_and_says_where_it_has_a_gap() {
    let zone = [
        "--kc",
        "0.8",
        "--field-capacity",
        "0.32",
        "--wilting-point",
        "0.15",
        "--root-depth",
        "0.2",
        "--depletion",
        "0.4",
        "--initial-depletion",
        "0",
    ];
    let balance = |input: &str, place: &[&str]| {
        let mut arguments = vec!["balance"];
        arguments.extend(zone);
        arguments.extend(place);
        arguments.push("-");
        run(&arguments, input)
    };
    let place = ["--any", "--latitude", "46", "--elevation", "1040"];
    let weather = "date,tmin_c,tmax_c,rain_mm\n2026-07-01,9,22,0\n2026-07-02,10,23,30\n2026-07-03,9.5,24,0\n";
    let out = balance(weather, &place);
    let text = stdout(&out);
    assert_eq!(text.lines().count(), 4, "{text} {}", stderr(&out));
    // The same as with ET0 from the et command.
    let et = stdout(&run(&["et", "--latitude", "46", "--elevation", "1040", "-"], weather));
    let mut rows = String::from("date,et0_mm,rain_mm,irrigation_mm\n");
    for (line, rain) in et.lines().skip(1).zip([0, 30, 0]) {
        let cells: Vec<_> = line.split(',').collect();
        rows.push_str(&format!("{},{},{rain},0\n", cells[0], cells[1]));
    }
    let by_hand = stdout(&balance(&rows, &[]));
    for (a, b) in text.lines().zip(by_hand.lines()).skip(1) {
        for (x, y) in a.split(',').zip(b.split(',')).skip(1) {
            assert!((x.parse::<f64>().unwrap() - y.parse::<f64>().unwrap()).abs() < 1e-4, "{a} {b}");
        }
    }
    let gap = balance(&weather.replace("2026-07-02,10,23,30\n", ""), &place);
    assert_eq!(gap.status.code(), Some(1));
    assert!(stderr(&gap).contains("between 2026-07-01 and 2026-07-03"), "{}", stderr(&gap));
    assert_eq!(balance(weather, &["--any"]).status.code(), Some(2));
}

#[test]
fn bench_says_which_stand_ins_there_are() {
    let out = run(&["bench", "moon", "--token", "x"], "");
    assert_eq!(out.status.code(), Some(2));
    assert!(stderr(&out).contains("weather-station, rain-switch, soil-probe, flow-meter, et-sensor"));
}

//! View models of the chapter over a site: fixed weather with 14 mm on the ninth, four zones of which
//! one is a fern house, and a controller with programs.

use super::list::{judged, pausing};
use super::notes::notes;
use super::thresholds::replayed;
use crate::fixture;
use crate::fixture::key;
use crate::page::sensor_words::{self as words, percentage};
use crate::page::upkeep_words::next_task;
use crate::site::sensing::{stations, stopped_by};
use crate::site::snapshot::SiteSnapshot;
use jiff::civil::date;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use upland_core::account::running::Holder;
use upland_core::quantity::units::{Metres, Millimetres};
use upland_core::sensors::placement::{Criterion, Verdict, overall};
use upland_core::sensors::state::{ByChannel, Says};
use upland_core::sensors::{Channel, Reading, Readings, Release, Sensor, generic};
use upland_core::site::UnitSystem;
use upland_store::sensors::{SensorEvent, SensorEventKind, SensorRecord};

fn sensor(code: &str) -> Sensor {
    Sensor::of_card(generic().into_iter().find(|(c, _)| *c == code).unwrap().1, 1)
}

fn record(id: i64, sensor: Sensor) -> SensorRecord {
    SensorRecord {
        id,
        site_id: key(1),
        version: 1,
        installed_on: date(2025, 11, 20),
        history: upland_core::sensors::SensorHistory::default(),
        feeds_weather: true,
        sensor,
        saved_by: "Bram".into(),
        saved_at: Timestamp::UNIX_EPOCH,
    }
}

fn event(
    id: i64,
    sensor_id: i64,
    kind: SensorEventKind,
    from: Timestamp,
    until: Option<Timestamp>,
    body: serde_json::Value,
) -> SensorEvent {
    SensorEvent {
        id,
        sensor_id,
        kind,
        from,
        until,
        body,
        reason: "new turf".into(),
        said_by: "Bram".into(),
        said_at: from,
        undone: false,
    }
}

fn room_of(sensors: Vec<Sensor>, events: Vec<SensorEvent>, heard: BTreeMap<i64, ByChannel>) -> SiteSnapshot {
    let snapshot = fixture::controller_snapshot();
    let sensors = sensors.into_iter().zip(1..).map(|(s, id)| record(id, s)).collect();
    let mut records = std::sync::Arc::into_inner(snapshot.records).unwrap();
    (records.sensors, records.sensor_events) = (sensors, events);
    SiteSnapshot::for_tests(records, heard, date(2026, 7, 13))
}

fn snapshot(sensors: Vec<Sensor>) -> SiteSnapshot {
    room_of(sensors, Vec::new(), BTreeMap::new())
}

fn evening() -> Timestamp {
    "2026-07-13T21:00:00Z".parse().unwrap()
}

/// The rain switch of the fixture holds by days, so that the rain of the ninth still holds.
fn holding() -> Sensor {
    let mut switch = sensor("rain_switch");
    switch.setting.release = Release::Days(10);
    switch
}

#[test]
fn a_hold_is_said_with_its_reason_and_stops_the_night() {
    let snapshot = snapshot(vec![holding()]);
    assert_eq!(snapshot.at(), evening());
    let said = snapshot.says(&snapshot.records.sensors[0]);
    let (line, because) = words::says(UnitSystem::Metric, &said, &snapshot.tz);
    assert!(line.starts_with("Prevents watering until Sun 19 Jul, 18:00"), "{line}");
    assert_eq!(because, "since Thu 9 Jul, 18:00: 14.0 mm of rain");
    let own = snapshot.site_controller(1).unwrap();
    let night = snapshot.tonight(own).unwrap();
    assert!(!night.is_empty());
    let by_rain =
        |holder: &Holder| matches!(holder, Holder::Sensor { sensor: 0, hold } if hold.until.is_some());
    assert_eq!(stopped_by(&night, by_rain), stations(&night), "a contact stops whoever does not ignore it");
    assert_eq!(snapshot.place_of(&snapshot.records.sensors[0]), Some(0));
}

#[test]
fn a_bypass_is_listed_and_lets_the_night_run() {
    let bypass = event(
        1,
        1,
        SensorEventKind::Bypass,
        evening(),
        Some(evening() + SignedDuration::from_hours(24)),
        serde_json::json!({}),
    );
    let snapshot = room_of(vec![holding()], vec![bypass], BTreeMap::new());
    assert_eq!(snapshot.bypassed(1), Some(evening() + SignedDuration::from_hours(24)));
    let listed = pausing(&snapshot);
    assert_eq!(listed[0].text, "Rain switch, wired is on bypass until Tue 14 Jul, 20:00: new turf (Bram)");
    let night = snapshot.tonight(snapshot.site_controller(1).unwrap()).unwrap();
    assert!(night.len() > 4 && night.iter().all(|r| r.held_by.is_empty()), "{night:?}");
}

#[test]
fn what_it_heard_itself_counts_before_the_record() {
    let dry = Readings::new(vec![Reading { at: evening() - SignedDuration::from_mins(10), value: 0.0 }]);
    let heard = [(1, [(Channel::Contact, dry)].into())].into();
    let snapshot = room_of(vec![holding()], Vec::new(), heard);
    assert!(snapshot.own(1).is_some());
    assert!(
        matches!(snapshot.says(&snapshot.records.sensors[0]), Says::Free { .. }),
        "its contact is closed"
    );
    // A battery alone is no reading of the weather.
    let battery = Readings::new(vec![Reading { at: evening(), value: 80.0 }]);
    let snapshot = room_of(vec![holding()], Vec::new(), [(1, [(Channel::Battery, battery)].into())].into());
    assert!(snapshot.own(1).is_none());
    assert!(matches!(snapshot.says(&snapshot.records.sensors[0]), Says::Holds { .. }));
}

#[test]
fn upkeep_counts_from_what_was_done() {
    let radio = sensor("rain_switch_radio");
    let overdue = snapshot(vec![radio.clone()]);
    assert_eq!(
        next_task(&overdue, &overdue.records.sensors[0]),
        ("change its battery since 20 May".into(), true)
    );
    let at: Timestamp = "2026-07-01T12:00:00Z".parse().unwrap();
    let events = ["battery", "trip_test"]
        .iter()
        .zip(1..)
        .map(|(task, id)| event(id, 1, SensorEventKind::Task, at, None, serde_json::json!({ "task": task })))
        .collect();
    let done = room_of(vec![radio], events, BTreeMap::new());
    assert_eq!(next_task(&done, &done.records.sensors[0]), ("clean it by 20 Nov 2026".into(), false));
}

#[test]
fn a_failed_calibration_is_no_calibration() {
    let at: Timestamp = "2026-07-01T12:00:00Z".parse().unwrap();
    let with = |body| {
        let events = vec![event(1, 1, SensorEventKind::Calibration, at, None, body)];
        room_of(vec![sensor("soil_probe")], events, BTreeMap::new()).done(1).len()
    };
    assert_eq!(with(serde_json::json!({ "failure": "water" })), 0);
    assert_eq!(with(serde_json::json!({ "threshold_pct": 24.0 })), 1);
}

#[test]
fn each_threshold_is_replayed_and_the_year_is_a_strip() {
    let snapshot = snapshot(vec![sensor("rain_switch")]);
    let found = replayed(&snapshot, &snapshot.records.sensors[0]);
    assert_eq!(found.rows.len(), 5);
    assert_eq!(found.rows.iter().filter(|r| r.set).count(), 1, "12 mm is set");
    assert_eq!(found.rows.iter().filter(|r| !r.because.is_empty()).count(), 1);
    let trips: Vec<u32> = found.rows.iter().map(|r| r.trips).collect();
    assert_eq!(trips, [1, 1, 1, 0, 0], "14 mm trip up to 12");
    assert_eq!(found.spans.len(), 1);
    assert!(found.spans[0].title.contains("14.0 mm of rain") && found.months.len() >= 2);
    let snapshot = self::snapshot(vec![sensor("flow_meter")]);
    assert!(
        replayed(&snapshot, &snapshot.records.sensors[0]).rows.is_empty(),
        "a meter has no rain threshold"
    );
}

#[test]
fn an_et_unit_says_tonight_s_percentage_from_its_own_days_or_the_record() {
    let mut unit = sensor("et_sensor");
    unit.setting.et_full = Millimetres::from_mm(5.0);
    unit.setting.et_trim_pct = 10.0;
    let snapshot = snapshot(vec![unit.clone(), sensor("rain_switch")]);
    let text = percentage(&snapshot, &snapshot.records.sensors[0]).unwrap();
    assert!(
        text.starts_with("Tonight ") && text.contains("trim 10 %") && text.contains("from the site's record"),
        "{text}"
    );
    assert_eq!(percentage(&snapshot, &snapshot.records.sensors[1]), None);
    let day = |back: i64| Reading { at: evening() - SignedDuration::from_hours(24 * back + 2), value: 4.0 };
    let heard = [(1, [(Channel::Et, Readings::new((0..3).map(day).collect()))].into())].into();
    let snapshot = room_of(vec![unit], Vec::new(), heard);
    assert!(
        percentage(&snapshot, &snapshot.records.sensors[0])
            .unwrap()
            .starts_with("Tonight 88 %: mean of 3 days 4.0 mm")
    );
}

#[test]
fn a_meter_tells_what_it_learned_and_what_is_wrong_unless_it_is_silenced() {
    let controller = fixture::controller_snapshot();
    let runs = upland_core::controller::schedule::expand(
        &controller.settings(),
        &controller.installation.card,
        &controller.installation.tz,
        date(2026, 7, 5),
        date(2026, 7, 12),
    );
    let alone = |r: &&upland_core::controller::schedule::ScheduledRun| {
        r.station == 1 && runs.iter().filter(|o| o.start < r.end && r.start < o.end).count() == 1
    };
    let mut all: Vec<Reading> = runs
        .iter()
        .filter(alone)
        .flat_map(|r| [3, 4].map(|m| Reading { at: r.start + SignedDuration::from_mins(m), value: 40.0 }))
        .collect();
    assert!(all.len() > 6);
    let burst = all.last().unwrap().at;
    all.last_mut().unwrap().value = 90.0;
    let heard: BTreeMap<i64, ByChannel> = [(1, [(Channel::Flow, Readings::new(all))].into())].into();
    let lines = |events| {
        let controller = room_of(vec![sensor("flow_meter")], events, heard.clone());
        notes(&controller, &controller.records.sensors[0])
    };
    let told = lines(Vec::new());
    assert!(
        told[0].starts_with(
            "Station 1: learned 40 L/min (40 pulses a minute), alarms below 28 L/min and above 52 L/min"
        ),
        "{told:?}"
    );
    assert!(told.iter().any(|l| l.contains("high flow on station 1, 90 L/min")), "{told:?}");
    let silence = event(
        1,
        1,
        SensorEventKind::Silence,
        burst - SignedDuration::from_mins(5),
        Some(burst + SignedDuration::from_mins(5)),
        serde_json::json!({}),
    );
    assert!(lines(vec![silence]).iter().all(|l| !l.contains("high flow")));
    let controller = snapshot(vec![sensor("flow_meter"), sensor("soil_probe")]);
    assert!(notes(&controller, &controller.records.sensors[0])[0].contains("No flow was read yet"));
    assert!(notes(&controller, &controller.records.sensors[1])[0].contains("No threshold yet"));
}

#[test]
fn places_are_judged_over_the_zones_that_it_can_hold() {
    let mut switch = sensor("rain_switch");
    switch.placement.covered = Some(true);
    switch.placement.distance = Some(Metres::from_m(10.0));
    let snapshot = snapshot(vec![switch]);
    let all = judged(&snapshot, &snapshot.records.sensors[0]);
    assert_eq!(overall(&all), Verdict::Fails);
    let of = |criterion| all.iter().find(|j| j.criterion == criterion).unwrap();
    assert_eq!(
        (of(Criterion::OpenSky).verdict, of(Criterion::SameExposure).verdict),
        (Verdict::Fails, Verdict::Good)
    );
    assert_eq!(words::found(UnitSystem::Metric, of(Criterion::Reach)), "10 m; it reaches 60 m");
}

#[test]
fn every_verdict_conflict_refusal_and_failure_has_its_words() {
    use upland_core::advice::sensor_choice::Conflict;
    use upland_core::controller::SensorPort;
    use upland_core::sensors::Sense;
    use upland_core::sensors::calibration::Failure;
    use upland_core::sensors::wiring::Refusal;
    let at = evening();
    let failures = [
        Failure::TooFew { readings: 3 },
        Failure::TooShort { hours: 12.25 },
        Failure::Gap { from: at, until: at },
        Failure::Water { at, rise: 3.25 },
        Failure::NeverSaturated { first_pct: 24.0, fall: 0.4 },
        Failure::StillFalling { fall: 2.0, rest_pct: 20.0 },
        Failure::Noisy { noise: 1.6 },
        Failure::OutOfSoil { at, read_pct: 1.0 },
    ];
    let mut lines: Vec<String> = failures
        .iter()
        .map(|f| {
            let (what, remedy) = words::failure(f, &jiff::tz::TimeZone::UTC);
            format!("{what} {remedy}")
        })
        .collect();
    lines.extend(
        [
            Refusal::WrongContact,
            Refusal::NoPort(SensorPort::SoilProbe),
            Refusal::NoPort(SensorPort::FlowMeter),
            Refusal::NoPort(SensorPort::Weather),
        ]
        .map(|r| words::refusal(r).to_owned()),
    );
    let conflicts = [
        Conflict::RainButAllRoofed,
        Conflict::WindButAllDrip,
        Conflict::RainTwice,
        Conflict::EtWithoutPort,
        Conflict::TwoOfOne(Sense::Rain),
    ];
    lines.extend(conflicts.map(words::conflict));
    insta::assert_snapshot!(lines.join("\n"));
}

#[test]
fn the_page_of_a_sensor_shows_what_it_says_and_who_posts_for_it() {
    use super::view::SensorView;
    use upland_store::readings::{DeviceRecord, Refused};
    let snapshot = snapshot(vec![holding()]);
    let replayed = std::sync::Arc::new(replayed(&snapshot, &snapshot.records.sensors[0]));
    let device = |id, revoked: bool| DeviceRecord {
        id,
        sensor_id: 1,
        name: format!("Unit {id}"),
        made_by: "Bram".into(),
        made_at: Timestamp::UNIX_EPOCH,
        seen_from: None,
        seen_at: (id == 1).then(|| evening() - SignedDuration::from_mins(12)),
        revoked_at: revoked.then(evening),
    };
    let refused = Refused {
        device_id: Some(1),
        reason: "future".into(),
        count: 3,
        last_at: evening(),
        example: "rain_mm 4 at 2031-01-01T00:00:00Z".into(),
    };
    let devices = [device(1, false), device(2, true)];
    let view = SensorView::of(&snapshot, 1, replayed, &devices, &[refused]).unwrap();
    assert!(
        view.says.starts_with("Prevents watering until Sun 19 Jul, 18:00") && !view.silent,
        "{}",
        view.says
    );
    assert!(view.source.starts_with("It has no readings of its own"));
    assert_eq!(view.card, "Rain switch, wired, contact, normally closed");
    assert_eq!(view.devices[0].seen, "last seen Mon 13 Jul, 19:48");
    assert_eq!(view.devices[0].refused.len(), 1, "of this device alone");
    assert!(view.devices[0].refused[0].contains("3 times"), "{:?}", view.devices[0].refused);
    assert_eq!(view.devices[1].seen, "not heard yet");
    assert!(view.devices[1].revoked && view.devices[1].refused.is_empty());
    assert_eq!(view.tasks.len(), 2, "clean and trip");
    assert!(view.holds[0].contains("14.0 mm of rain"), "{:?}", view.holds);
    assert!(view.reads.is_empty() && !view.is_probe && !view.replayed.rows.is_empty());
    assert!(SensorView::of(&snapshot, 9, Default::default(), &[], &[]).is_err(), "there is no such sensor");
}

#[test]
fn the_strip_of_the_last_year_lies_within_its_width_and_names_the_months() {
    let snapshot = snapshot(vec![holding()]);
    let strip = replayed(&snapshot, &snapshot.records.sensors[0]);
    let percent = |text: &str| text.trim_end_matches('%').parse::<f64>().unwrap();
    assert!(!strip.spans.is_empty());
    for span in &strip.spans {
        assert!((0.0..=100.0).contains(&percent(&span.x)) && percent(&span.width) >= 0.2, "{}", span.title);
        assert!(percent(&span.x) + percent(&span.width) <= 100.5, "{}", span.title);
    }
    let months: Vec<&str> = strip.months.iter().map(|m| m.title.as_str()).collect();
    assert_eq!(months, ["Jun", "Jul"], "the record of the fixture begins in the middle of May");
    assert_eq!(strip.rows.iter().filter(|r| r.set).count(), 1, "one threshold is set");
    assert!(strip.words.contains("nights from"), "{}", strip.words);
    let wind = replayed(&states_of_wind(), &states_of_wind().records.sensors[0]);
    assert!(wind.rows.is_empty() && wind.spans.is_empty(), "a sensor of wind has no rain threshold");
}

fn states_of_wind() -> SiteSnapshot {
    snapshot(vec![sensor("wind_switch")])
}

/// The words of the grid, zone by zone: what each sensor does, and what is left of tonight.
fn grid_words(snapshot: &SiteSnapshot) -> Vec<(Vec<&'static str>, String)> {
    let grid = super::grid::grid(snapshot, &snapshot.records.controllers[0]).unwrap();
    grid.rows.into_iter().map(|row| (row.marks.iter().map(|mark| mark.word).collect(), row.tonight)).collect()
}

#[test]
fn the_grid_says_of_each_zone_what_its_night_says() {
    let held = snapshot(vec![holding(), sensor("soil_probe")]);
    let night = held.tonight(&held.records.controllers[0]).unwrap();
    assert!(!night.is_empty());
    let rows = grid_words(&held);
    let mut zones: Vec<_> = held.records.zones.iter().map(|z| z.zone.number).collect();
    zones.sort_unstable();
    for (station, (marks, tonight)) in zones.iter().zip(&rows) {
        let runs: Vec<_> = night.iter().filter(|run| run.run.station == *station).collect();
        let by_rain = runs.iter().any(|run| !run.held_by.is_empty());
        assert_eq!(marks[0] == "prevents", by_rain, "{station}: {marks:?}");
        assert_eq!(tonight == "no run", runs.is_empty(), "{station}: {tonight}");
        assert_eq!(tonight.starts_with("prevented"), !runs.is_empty() && runs.iter().all(|r| r.is_held()));
        // The probe stands in no zone yet.
        assert!(matches!(marks[1], "no effect" | "not heard"), "{marks:?}");
    }
    assert!(rows.iter().any(|(marks, _)| marks[0] == "prevents"));
    // On bypass it prevents nothing, and the grid says why.
    let until = evening() + SignedDuration::from_hours(24);
    let bypass = event(1, 1, SensorEventKind::Bypass, evening(), Some(until), serde_json::json!({}));
    let bypassed = grid_words(&room_of(vec![holding()], vec![bypass], BTreeMap::new()));
    assert!(
        bypassed.iter().all(|(marks, tonight)| marks[0] != "prevents" && !tonight.starts_with("prevented"))
    );
    assert!(bypassed.iter().any(|(marks, _)| marks[0] == "on bypass"));
}

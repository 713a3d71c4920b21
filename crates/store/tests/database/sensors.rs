//! Sensors, what was done to them, and readings that are kept once.

use super::{World, done, world};
use jiff::civil::date;
use jiff::{SignedDuration, Timestamp};
use upland_core::sensors::site_plan::{Arc, SitePlan};
use upland_core::sensors::{Channel, Reading, Sensor, generic};
use upland_store::Saved;
use upland_store::Subject;
use upland_store::sensors::{NewSensorEvent, SensorEventKind};

fn sensor() -> Sensor {
    Sensor::of_card(generic().remove(0).1, 1)
}

fn at(minutes: i64) -> Timestamp {
    "2026-07-14T06:00:00Z".parse::<Timestamp>().unwrap() + SignedDuration::from_mins(minutes)
}

fn readings(list: &[(Channel, i64, f64)]) -> Vec<(Channel, Reading)> {
    list.iter().map(|(c, m, v)| (*c, Reading { at: at(*m), value: *v })).collect()
}

#[test]
fn a_sensor_has_versions_and_the_second_saver_sees_the_first() {
    let World { store, user, site, .. } = &world();
    let id = done(store, *user, *site, |c| c.create_sensor(date(2026, 5, 1), &sensor())).unwrap();
    let mut first = sensor();
    first.name = "Shed".into();
    assert_eq!(done(store, *user, *site, |c| c.save_sensor(id, 1, &first)).unwrap(), Some(Saved::As(2)));
    let Some(Saved::Conflict(theirs)) =
        done(store, *user, *site, |c| c.save_sensor(id, 1, &sensor())).unwrap()
    else {
        panic!()
    };
    assert_eq!(
        (theirs.version, theirs.sensor.name.as_str(), theirs.installed_on),
        (2, "Shed", date(2026, 5, 1))
    );
    assert!(
        done(store, *user, *site, |c| c.take_back(Subject::Sensor, site.number(), id, Some(at(0)))).unwrap()
    );
    assert_eq!(store.read(|s| s.sensors(*site)).unwrap(), []);
    assert!(
        !done(store, *user, *site, |c| c.take_back(Subject::Sensor, site.number() + 1, id, None)).unwrap(),
        "not by way of another site"
    );
    assert!(done(store, *user, *site, |c| c.take_back(Subject::Sensor, site.number(), id, None)).unwrap());
    assert_eq!(store.read(|s| s.sensors(*site)).unwrap().len(), 1);
}

#[test]
fn a_bypass_has_an_end_and_is_taken_back_not_deleted() {
    let World { store, user, site, .. } = &world();
    let id = done(store, *user, *site, |c| c.create_sensor(date(2026, 5, 1), &sensor())).unwrap();
    let event = |until| NewSensorEvent {
        kind: SensorEventKind::Bypass,
        from: at(0),
        until,
        body: serde_json::json!({}),
        reason: "turf",
    };
    assert!(
        done(store, *user, *site, |c| c.add_sensor_event(id, &event(None))).is_err(),
        "the database knows no bypass without end"
    );
    let made = done(store, *user, *site, |c| c.add_sensor_event(id, &event(Some(at(60))))).unwrap().unwrap();
    assert!(done(store, *user, *site, |c| c.take_back(Subject::SensorEvent, id, made, Some(at(5)))).unwrap());
    let all = store.read(|s| s.sensor_events(*site)).unwrap();
    assert_eq!((all.len(), all[0].undone, all[0].until), (1, true, Some(at(60))));
}

#[test]
fn readings_come_in_any_order_once_and_their_ten_minutes_keep_step() {
    let World { store, user, site, .. } = &world();
    let id = done(store, *user, *site, |c| c.create_sensor(date(2026, 5, 1), &sensor())).unwrap();
    let device = done(store, *user, *site, |c| c.create_device(id, "Gauge", b"hash")).unwrap().unwrap();
    let list = readings(&[
        (Channel::Rain, 12, 0.4),
        (Channel::Rain, 3, 0.2),
        (Channel::Rain, 1, 0.6),
        (Channel::Temperature, 8, 11.0),
        (Channel::Temperature, 2, 9.0),
    ]);
    assert_eq!(store.add_readings(id, Some(device), &list).unwrap(), 5);
    assert_eq!(store.add_readings(id, Some(device), &list).unwrap(), 0, "a repeated post changes nothing");
    // One that came late adds its rain, and does not push a later temperature aside.
    let late =
        readings(&[(Channel::Rain, 5, 1.0), (Channel::Temperature, 4, 30.0), (Channel::Rain, 3, 99.0)]);
    assert_eq!(store.add_readings(id, None, &late).unwrap(), 2);
    let read = store.read(|s| s.readings(&[id], at(60))).unwrap().remove(&id).unwrap();
    let rain: Vec<(Timestamp, f64)> =
        read[&Channel::Rain].as_slice().iter().map(|r| (r.at, r.value)).collect();
    assert!((rain[0].1 - 1.8).abs() < 1e-9 && rain[0].0 == at(5) && rain[1] == (at(12), 0.4), "{rain:?}");
    assert_eq!(read[&Channel::Temperature].last().unwrap().value, 11.0);
    let raw = store.read(|s| s.raw_readings(id, Channel::Rain, at(0), at(60))).unwrap();
    assert_eq!(
        raw.iter().map(|r| r.value).collect::<Vec<_>>(),
        [0.6, 0.2, 1.0, 0.4],
        "the first to come stays"
    );
}

#[test]
fn tokens_open_until_they_are_rotated_or_revoked_and_refusals_are_counted() {
    let World { store, user, site, .. } = &world();
    let id = done(store, *user, *site, |c| c.create_sensor(date(2026, 5, 1), &sensor())).unwrap();
    let device = done(store, *user, *site, |c| c.create_device(id, "Gauge", b"one")).unwrap().unwrap();
    let opens = |hash: &[u8]| store.posting(hash, "127.0.0.1").unwrap().map(|p| p.revoked);
    assert_eq!((opens(b"one"), opens(b"none")), (Some(false), None));
    assert!(done(store, *user, *site, |c| c.rotate_device(id, device, b"two")).unwrap());
    assert_eq!(opens(b"one"), Some(false), "the old one is good until the new one was used");
    assert_eq!((opens(b"two"), opens(b"one")), (Some(false), None));
    assert!(done(store, *user, *site, |c| c.revoke_device(id, device, at(0))).unwrap());
    assert_eq!(opens(b"two"), Some(true));
    for example in ["a", "b"] {
        store.count_refusals(Some(device), "future stamp", 2, example).unwrap();
        store.count_refusals(None, "unknown token", 1, example).unwrap();
    }
    let all = store.read(|s| s.refusals(&[device])).unwrap();
    let counts: Vec<_> = all.iter().map(|r| (r.device_id, r.count, r.example.as_str())).collect();
    assert!(counts.contains(&(Some(device), 4, "b")) && counts.contains(&(None, 2, "b")), "{counts:?}");
}

#[test]
fn a_plan_is_saved_over_the_one_it_began_from() {
    let World { store, user, site, .. } = &world();
    assert_eq!(store.read(|s| s.site_plan(*site)).unwrap(), (0, SitePlan::default()));
    let plan = SitePlan {
        arcs: vec![Arc { x: 1.0, y: 2.0, throw: 4.0, from_deg: 0.0, to_deg: 90.0 }],
        ..SitePlan::default()
    };
    assert!(done(store, *user, *site, |c| c.save_site_plan(0, &plan)).unwrap());
    assert!(
        !done(store, *user, *site, |c| c.save_site_plan(0, &SitePlan::default())).unwrap(),
        "somebody was faster"
    );
    let (base, kept) = store.read(|s| s.site_plan(*site)).unwrap();
    assert_eq!(kept, plan);
    assert!(done(store, *user, *site, |c| c.save_site_plan(base, &SitePlan::default())).unwrap());
}

//! Work that no page waits for: the queue, readings that become weather, imports that hold nobody up.

use super::{World, done, world};
use jiff::civil::{Date, date};
use jiff::{SignedDuration, Timestamp};
use upland_core::sensors::{Channel, Reading, Sensor, generic};
use upland_core::weather::record::{HourVariable, RawDay, Variable};
use upland_store::Store;
use upland_store::queue::{Outcome, Task};
use upland_store::weather::{Gathered, Incoming};

const DAY: Date = date(2026, 7, 14);

fn midnight() -> Timestamp {
    "2026-07-14T00:00:00Z".parse().unwrap()
}

/// The clock of these tests: the evening of the day.
fn in_the_evening(store: &Store) {
    let evening = midnight() + SignedDuration::from_hours(22);
    store.set_clock(evening.duration_since(Timestamp::now())).unwrap();
}

fn sensor(world: &World) -> i64 {
    let card = Sensor::of_card(generic().remove(0).1, 1);
    done(&world.store, world.user, world.site, |c| c.create_sensor(date(2026, 5, 1), &card)).unwrap()
}

/// Readings of a channel every ten minutes of some hours.
fn read(
    channel: Channel,
    hours: std::ops::Range<i64>,
    value: impl Fn(i64) -> f64,
) -> Vec<(Channel, Reading)> {
    (hours.start * 6..hours.end * 6)
        .map(|ten| {
            (channel, Reading { at: midnight() + SignedDuration::from_mins(10 * ten + 5), value: value(ten) })
        })
        .collect()
}

fn own_day(world: &World) -> Option<RawDay> {
    let World { store, site, .. } = world;
    store
        .read(|s| {
            let Some(own) = s.sources(*site)?.into_iter().next() else { return Ok(None) };
            Ok(s.raw_days(own.id)?.into_iter().find(|d| d.date == DAY))
        })
        .unwrap()
}

#[test]
fn readings_become_hours_and_a_day_and_late_ones_change_them() {
    let world = world();
    let World { store, site, .. } = &world;
    in_the_evening(store);
    let id = sensor(&world);
    let morning = read(Channel::Temperature, 0..19, |_| 15.0);
    assert_eq!(store.add_readings(id, None, &morning).unwrap(), morning.len());
    let mut asked = store.read(|s| s.waiting_work()).unwrap();
    asked.retain(|job| job.task != Some(Task::Round));
    assert_eq!((asked.len(), asked[0].task, asked[0].of), (1, Some(Task::Readings), site.number()));
    assert!(store.gather_weather(*site).unwrap().changed > 0);
    assert_eq!(own_day(&world), None, "nineteen hours are no day");
    let followed = store.read(|s| s.followed(*site)).unwrap()[0];
    assert_eq!((followed.days, followed.hours, followed.last_hours), (0, 19, 19));
    assert_eq!(
        store.gather_weather(*site).unwrap().changed,
        0,
        "the hour that goes on is looked at again, no more"
    );
    let version = || store.read(|s| s.site(*site)).unwrap().unwrap().weather_version;
    let before = version();
    store.add_readings(id, None, &read(Channel::Temperature, 19..22, |_| 25.0)).unwrap();
    store.gather_weather(*site).unwrap();
    assert_eq!(version(), before + 1, "what is computed from the weather is computed anew");
    let day = own_day(&world).unwrap();
    assert_eq!(
        (day.get(Variable::TemperatureMin), day.get(Variable::TemperatureMax)),
        (Some(15.0), Some(25.0))
    );
    // Repeated readings change nothing; a late one does.
    store.add_readings(id, None, &morning).unwrap();
    assert_eq!(store.gather_weather(*site).unwrap().changed, 0);
    let late = Reading { at: midnight() + SignedDuration::from_mins(182), value: 1.0 };
    store.add_readings(id, None, &[(Channel::Temperature, late)]).unwrap();
    assert!(store.gather_weather(*site).unwrap().changed > 0);
    assert_eq!(own_day(&world).unwrap().get(Variable::TemperatureMin), Some(8.0), "its ten minutes have two");
}

#[test]
fn a_sensor_left_out_takes_its_days_along_and_a_file_below_keeps_its_values() {
    let world = world();
    let World { store, user, site, .. } = &world;
    in_the_evening(store);
    let id = sensor(&world);
    let source = done(store, *user, *site, |c| c.own_source()).unwrap();
    let of_file = RawDay::new(DAY).with(Variable::Rain, 4.0).with(Variable::TemperatureMax, 30.0);
    let incoming =
        Incoming { to: (*user, *site, source), file_name: "x.csv", draft: 0, days: &[of_file], hours: &[] };
    store.import_weather(incoming, |_| Ok(())).unwrap();
    store.add_readings(id, None, &read(Channel::Temperature, 0..22, |_| 15.0)).unwrap();
    store.gather_weather(*site).unwrap();
    let day = own_day(&world).unwrap();
    assert_eq!(
        (day.get(Variable::TemperatureMax), day.get(Variable::Rain)),
        (Some(15.0), Some(4.0)),
        "the sensor's own, and the rain that it does not measure"
    );
    assert_eq!(store.read(|s| s.imports(*site)).unwrap().len(), 1, "what follows is no import");
    assert!(done(store, *user, *site, |c| c.set_sensor_feeds(id, false)).unwrap());
    store.gather_weather(*site).unwrap();
    assert_eq!(own_day(&world), Some(of_file));
    assert!(done(store, *user, *site, |c| c.set_sensor_feeds(id, true)).unwrap());
    store.gather_weather(*site).unwrap();
    assert_eq!(own_day(&world), Some(day));
    assert!(!done(store, *user, *site, |c| c.set_sensor_feeds(id + 1, true)).unwrap());
    // Of a removed site readings wait until it is brought back.
    store.set_site_removed(*user, *site, Some(Timestamp::now())).unwrap();
    let cold = Reading { at: midnight() + SignedDuration::from_mins(62), value: -5.0 };
    store.add_readings(id, None, &[(Channel::Temperature, cold)]).unwrap();
    assert_eq!(store.gather_weather(*site).unwrap(), Gathered::default());
    assert_eq!(store.ask_for_due_readings().unwrap(), 0);
    store.set_site_removed(*user, *site, None).unwrap();
    assert_eq!(store.ask_for_due_readings().unwrap(), 1);
    assert!(store.gather_weather(*site).unwrap().changed > 0);
    assert_eq!(own_day(&world).unwrap().get(Variable::TemperatureMin), Some(5.0));
}

#[test]
fn hours_say_what_was_heard_in_part_when_they_come_back() {
    let world = world();
    let World { store, site, .. } = &world;
    in_the_evening(store);
    let id = sensor(&world);
    let mut broken = read(Channel::Wind, 0..22, |_| 2.0);
    broken.retain(|(_, r)| !(200..240).contains(&(r.at.duration_since(midnight()).as_mins())));
    store.add_readings(id, None, &broken).unwrap();
    store.gather_weather(*site).unwrap();
    let source = store.read(|s| s.sources(*site)).unwrap()[0].id;
    let hours = store.read(|s| s.raw_hours(source, DAY, DAY)).unwrap();
    let parts: Vec<usize> = (0..22).filter(|i| hours[*i].is_in_part(HourVariable::Wind)).collect();
    assert_eq!(parts, [3]);
}

/// Posts while the weather is computed: whatever the order, the last computing has all of it.
#[test]
fn no_reading_is_left_behind_by_a_computing_that_goes_on() {
    let world = world();
    let World { store, site, .. } = &world;
    in_the_evening(store);
    let id = sensor(&world);
    std::thread::scope(|scope| {
        for part in 0..4 {
            scope.spawn(move || {
                for hour in 0..22 {
                    let mut some = read(Channel::Rain, hour..hour + 1, |_| 0.25);
                    some.retain(|(_, r)| r.at.as_second() / 600 % 4 == part);
                    store.add_readings(id, None, &some).unwrap();
                }
            });
        }
        scope.spawn(move || {
            for _ in 0..20 {
                store.gather_weather(*site).unwrap();
            }
        });
    });
    store.gather_weather(*site).unwrap();
    assert_eq!(own_day(&world).unwrap().get(Variable::Rain), Some(22.0 * 6.0 * 0.25));
}

#[test]
fn a_job_is_asked_for_once_sooner_when_asked_sooner_and_can_be_tried_or_taken_away() {
    let World { store, .. } = &world();
    let waiting = || {
        let all = store.read(|s| s.waiting_work()).unwrap();
        all.into_iter().filter(|job| job.task != Some(Task::Round)).collect::<Vec<_>>()
    };
    store.ask(Task::Sweep, 7, SignedDuration::from_hours(2)).unwrap();
    store.ask(Task::Sweep, 7, SignedDuration::from_hours(1)).unwrap();
    let first = waiting();
    assert_eq!(first.len(), 1);
    store.ask(Task::Sweep, 7, SignedDuration::from_hours(5)).unwrap();
    assert_eq!(waiting(), first, "no later than it was asked for before");
    store.ask(Task::Sweep, 8, SignedDuration::ZERO).unwrap();
    assert_eq!(waiting().len(), 2);
    assert!(store.work_again(first[0].id).unwrap());
    assert!(waiting().iter().find(|j| j.of == 7).unwrap().due_at < first[0].due_at);
    assert!(store.drop_work(first[0].id).unwrap() && !store.drop_work(first[0].id).unwrap());
    assert_eq!(waiting().len(), 1);
    let took = std::time::Duration::from_millis(1500);
    let outcome = |said| Outcome { task: Task::Sweep, of: 8, took, attempt: 1, said };
    store.note_work(outcome(Ok("12 went"))).unwrap();
    store.note_work(outcome(Err("the disk is full"))).unwrap();
    let ended = store.read(|s| s.ended_work()).unwrap();
    assert_eq!((ended[0].fault.as_str(), ended[1].said.as_str()), ("the disk is full", "12 went"));
    assert_eq!(ended[1].took, SignedDuration::from_millis(1500));
}

#[test]
fn a_job_that_was_given_up_and_is_asked_for_again_is_one_job() {
    use diesel::{Connection, PgConnection, RunQueryDsl};
    let World { store, database, .. } = &world();
    let of_sweep = || {
        let all = store.read(|s| s.waiting_work()).unwrap();
        all.into_iter().filter(|job| job.task == Some(Task::Sweep)).collect::<Vec<_>>()
    };
    store.ask(Task::Sweep, 7, SignedDuration::ZERO).unwrap();
    let first = of_sweep()[0].clone();
    let mut connection = PgConnection::establish(&database.url).unwrap();
    let mut set = |what: &str| {
        let sql = format!("UPDATE work._private_jobs SET {what} WHERE key = 'sweep 7'");
        assert_eq!(diesel::sql_query(sql).execute(&mut connection).unwrap(), 1);
    };
    set("attempts = max_attempts, last_error = 'the disk is full'");
    assert_eq!((store.given_up().unwrap(), of_sweep()[0].given_up), (1, true));
    store.ask(Task::Sweep, 7, SignedDuration::from_hours(1)).unwrap();
    store.ask(Task::Sweep, 7, SignedDuration::from_hours(1)).unwrap();
    let again = of_sweep();
    assert_eq!((again.len(), again[0].id, again[0].of, again[0].given_up), (1, first.id, 7, false));
    assert_eq!((store.given_up().unwrap(), again[0].attempts), (0, 0));
    assert!(again[0].due_at > first.due_at, "after its time");
    // In its last attempt it is followed by another, as any that runs.
    set("attempts = max_attempts, locked_at = now()");
    store.ask(Task::Sweep, 7, SignedDuration::ZERO).unwrap();
    assert_eq!(of_sweep().iter().filter(|job| job.of == 7 && !job.given_up).count(), 1);
}

#[test]
fn sentence_4_a_job_replaced_while_its_worker_is_killed_was_not_given_up() {
    use diesel::{Connection, PgConnection, RunQueryDsl};
    let World { store, database, .. } = &world();
    store.ask(Task::Round, 7, SignedDuration::ZERO).unwrap();
    let mut connection = PgConnection::establish(&database.url).unwrap();
    let mut set = |sql: &str| diesel::sql_query(sql).execute(&mut connection).unwrap();
    // A worker has it; it is asked for again; the worker is killed, and what it held is let go.
    set("UPDATE work._private_jobs SET attempts = 1, locked_at = now() WHERE key = 'round 7'");
    store.ask(Task::Round, 7, SignedDuration::ZERO).unwrap();
    assert_eq!(set("UPDATE work._private_jobs SET locked_at = NULL WHERE key IS NULL"), 1);
    let of_round = || {
        let all = store.read(|s| s.waiting_work()).unwrap();
        // The site of the world waits for its own round.
        all.into_iter().filter(|job| job.task == Some(Task::Round) && job.of != 1).collect::<Vec<_>>()
    };
    let waiting = of_round();
    assert_eq!((waiting.len(), waiting[0].of, waiting[0].given_up), (1, 7, false), "{waiting:?}");
    assert_eq!(store.given_up().unwrap(), 0);
    assert!((store.queue_counts().unwrap().given_up).abs() < f64::EPSILON);
    // The sweep takes the row that nobody will begin again, and no other.
    store.sweep(15).unwrap();
    assert_eq!(set("UPDATE work._private_jobs SET attempts = 0 WHERE key IS NULL"), 0);
    assert_eq!(of_round().len(), 1);
}

#[test]
fn raw_readings_stand_by_month_and_the_old_months_go_while_ten_minutes_stay() {
    let world = world();
    let World { store, .. } = &world;
    in_the_evening(store);
    let id = sensor(&world);
    let of = |text: &str, value| (Channel::SoilMoisture, Reading { at: text.parse().unwrap(), value });
    let list = [
        of("2025-03-31T23:59:59Z", 20.0),
        of("2025-04-01T00:00:00Z", 21.0),
        of("2026-07-14T06:00:00Z", 22.0),
    ];
    assert_eq!(store.add_readings(id, None, &list).unwrap(), 3);
    assert_eq!(store.add_readings(id, None, &list).unwrap(), 0);
    let raw = || {
        let span = ("2025-01-01T00:00:00Z".parse().unwrap(), midnight() + SignedDuration::from_hours(22));
        store.read(|s| s.raw_readings(id, Channel::SoilMoisture, span.0, span.1)).unwrap().len()
    };
    assert_eq!(raw(), 3);
    assert!(store.sweep(15).unwrap().contains("1 months of raw readings"));
    assert_eq!(raw(), 2, "March is more than fifteen months ago");
    // A reading of a month that went is taken all the same.
    assert_eq!(store.add_readings(id, None, &[of("2025-03-30T12:00:00Z", 19.0)]).unwrap(), 1);
}

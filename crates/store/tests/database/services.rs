//! Weather services: what they answer goes into the record or the forecast, by the application's clock.

use super::{World, done, world};
use jiff::civil::{Date, date};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use std::time::Duration;
use upland_core::quantity::units::Metres;
use upland_core::weather::record::{HourVariable, RawDay, RawHour, SourceKind, Variable};
use upland_store::weather::{Heard, ServiceSettings, SourcePlace};
use upland_store::{Store, Subject};

fn settings(every_min: i32) -> ServiceSettings {
    ServiceSettings {
        measured: "https://fell.example/hours.csv?key=secret".into(),
        foretold: "https://fell.example/forecast.json".into(),
        every_min,
        stopped: false,
    }
}

/// A station of a site that is fetched, with the clock at noon of a day by the site's wall clock.
fn fetched(world: &World, noon: Date) -> i64 {
    let World { store, user, site, .. } = world;
    let place = SourcePlace {
        latitude_deg: 46.25,
        longitude_deg: 8.1,
        elevation: Metres::from_m(1100.0),
        wind_height: Metres::from_m(10.0),
    };
    let source =
        done(store, *user, *site, |c| c.create_source(SourceKind::Station, "Fell", Some(place))).unwrap();
    assert_eq!(
        done(store, *user, *site, |c| c.save_service(source, "Fell", 0, &settings(60))).unwrap(),
        None
    );
    at(store, noon, 12);
    source
}

/// Sets the clock to an hour of a day at the site.
fn at(store: &Store, day: Date, hour: i8) {
    let tz = TimeZone::get("Etc/GMT-2").unwrap();
    let then = day.at(hour, 0, 30, 0).to_zoned(tz).unwrap().timestamp();
    store.set_clock(then.duration_since(Timestamp::now())).unwrap();
}

fn answer(
    store: &Store,
    source: i64,
    foretold: bool,
    content: Result<(&[RawDay], &[RawHour]), &str>,
) -> usize {
    let heard = Heard { foretold, took: Duration::from_millis(120), body: b"{}", content };
    store.take_answer(source, heard).unwrap()
}

/// Hours from an instant, a degree more each.
fn hours(from: &str, count: i64) -> Vec<RawHour> {
    let from: Timestamp = from.parse().unwrap();
    let tz = TimeZone::get("Etc/GMT-2").unwrap();
    let hour = |i: i64| {
        let start = from + i.hours();
        let date = start.to_zoned(tz.clone()).date();
        #[allow(clippy::cast_precision_loss, reason = "some hours")]
        let warm = 10.0 + (i % 24) as f64 / 2.0;
        RawHour::new(start, date).with(HourVariable::Temperature, warm).with(HourVariable::Rain, 0.5)
    };
    (0..count).map(hour).collect()
}

fn day(on: Date, low: f64, rain: f64) -> RawDay {
    RawDay::new(on)
        .with(Variable::TemperatureMin, low)
        .with(Variable::TemperatureMax, low + 12.0)
        .with(Variable::Wind, 3.0)
        .with(Variable::Rain, rain)
}

#[test]
fn hours_that_were_measured_become_days_and_the_hours_to_come_do_not() {
    let world = world();
    let World { store, site, .. } = &world;
    let source = fetched(&world, date(2026, 7, 14));
    // From midnight of the thirteenth by the site's clock; the last hours lie ahead of noon of the fourteenth.
    let all = hours("2026-07-12T22:00:00Z", 48);
    assert_eq!(answer(store, source, false, Ok((&[], &all))), 2);
    let version = || store.read(|s| s.site(*site)).unwrap().unwrap().weather_version;
    let known = |from, to| store.read(|s| s.raw_hours(source, from, to)).unwrap();
    assert_eq!(known(date(2026, 7, 13), date(2026, 7, 13)).len(), 24);
    assert_eq!(known(date(2026, 7, 14), date(2026, 7, 14)).len(), 12, "until noon, not ahead of it");
    let days = store.read(|s| s.raw_days(source)).unwrap();
    assert_eq!(days[0].get(Variable::TemperatureMax), Some(21.5));
    assert_eq!(days[0].get(Variable::Rain), Some(12.0));
    assert!(
        days.iter().all(|d| d.date != date(2026, 7, 14) || d.get(Variable::TemperatureMax).is_none()),
        "{days:?}"
    );
    let before = version();
    assert_eq!(answer(store, source, false, Ok((&[], &all))), 0, "a feed that repeats");
    assert_eq!(version(), before, "nothing is computed anew for it");
    // Only the last hours come, later: those that were known stay.
    at(store, date(2026, 7, 15), 1);
    assert_eq!(answer(store, source, false, Ok((&[], &all[34..]))), 1);
    assert_eq!(known(date(2026, 7, 14), date(2026, 7, 14)).len(), 24);
    let answers = store.read(|s| s.answers(source)).unwrap();
    assert_eq!(answers.len(), 3);
    assert_eq!((answers[0].held, answers[0].changed, answers[0].fault.as_str()), (14, 1, ""));
    assert_eq!(answers[0].until, Some("2026-07-14T22:00:00Z".parse().unwrap()));
}

#[test]
fn a_forecast_is_kept_apart_and_what_was_said_of_a_night_before_it_stays() {
    let world = world();
    let World { store, user, site, .. } = &world;
    let source = fetched(&world, date(2026, 7, 14));
    let facts = || {
        let at = store.read(|s| s.site(*site)).unwrap().unwrap().site;
        store.read(|s| s.site_weather(*site, &at)).unwrap()
    };
    let said = [
        day(date(2026, 7, 13), 1.0, 9.0),
        day(date(2026, 7, 15), 4.0, 9.0),
        day(date(2026, 7, 16), 8.0, 0.0),
    ];
    assert_eq!(answer(store, source, true, Ok((&said, &[]))), 2, "yesterday is not forecast");
    let forecast = facts().forecast;
    assert_eq!(forecast.len(), 2);
    assert_eq!(forecast[0].lowest_ahead.map(|c| c.c()), Some(4.0));
    let wind = forecast[0].weather.wind.unwrap().m_per_s();
    // FAO-56 eq. 47: 3 m/s at 10 m are 2.24 m/s at 2 m.
    assert!((wind - 2.244).abs() < 0.001, "{wind}");
    assert!(facts().days.iter().all(Vec::is_empty), "nothing of it is recorded");
    // During the day itself another minimum is told: the day moves, what its night was judged by does not.
    at(store, date(2026, 7, 15), 9);
    assert_eq!(answer(store, source, true, Ok((&[day(date(2026, 7, 15), 6.5, 9.0)], &[]))), 1);
    let of_today = facts().forecast[0];
    assert_eq!(
        (of_today.weather.temperature_min.c(), of_today.lowest_ahead.map(|c| c.c())),
        (6.5, Some(4.0))
    );
    // A value that no weather reaches is judged as in the record: a day without a temperature is none.
    let wild = day(date(2026, 7, 17), 900.0, 0.0);
    answer(store, source, true, Ok((&[wild], &[])));
    assert_eq!(facts().forecast.len(), 2, "{:?}", facts().forecast);
    done(store, *user, *site, |c| {
        c.take_back(Subject::Source, site.number(), source, Some(Timestamp::now()))
    })
    .unwrap();
    assert!(facts().forecast.is_empty(), "a source that was taken away forecasts nothing");
}

#[test]
fn a_service_is_due_after_its_interval_and_asked_with_patience_after_faults() {
    let world = world();
    let World { store, user, site, .. } = &world;
    let source = fetched(&world, date(2026, 7, 14));
    let due = || store.ask_for_due_fetches().unwrap();
    assert_eq!(due(), 1, "it was never asked");
    let pass = |minutes: i64| {
        let ahead = store.read(|s| s.clock_ahead()).unwrap().unwrap_or(SignedDuration::ZERO);
        store.set_clock(ahead + SignedDuration::from_mins(minutes)).unwrap();
    };
    answer(store, source, false, Ok((&[], &hours("2026-07-13T22:00:00Z", 3))));
    assert_eq!(due(), 0);
    pass(58);
    assert_eq!(due(), 0);
    pass(2);
    assert_eq!(due(), 1);
    for (faults, wait) in [(1, 120), (2, 240), (3, 480), (4, 480)] {
        answer(store, source, false, Err("it did not answer"));
        pass(wait - 5);
        assert_eq!(due(), 0, "{faults} faults");
        pass(5);
        assert_eq!(due(), 1, "{faults} faults");
    }
    answer(store, source, false, Ok((&[], &hours("2026-07-13T22:00:00Z", 3))));
    pass(60);
    assert_eq!(due(), 1, "one good answer, and it is asked as often as before");
    pass(-60 * 24 * 30);
    assert_eq!(due(), 1, "a clock that was set back does not silence it");
    let stopped = ServiceSettings { stopped: true, ..settings(60) };
    assert_eq!(done(store, *user, *site, |c| c.save_service(source, "Fell", 1, &stopped)).unwrap(), None);
    assert_eq!(due(), 0);
    let theirs =
        done(store, *user, *site, |c| c.save_service(source, "Fell", 1, &settings(30))).unwrap().unwrap();
    assert_eq!((theirs.version, theirs.settings), (2, stopped), "two people at once: the second is told");
    for _ in 0..50 {
        answer(store, source, true, Err("it did not answer"));
    }
    let answers = store.read(|s| s.answers(source)).unwrap();
    assert_eq!(answers.len(), 41, "the newest are kept, and the last that told something");
    assert_eq!((answers[40].held, answers[40].foretold), (3, false));
    assert_eq!(store.read(|s| s.answer_body(source, true)).unwrap().as_deref(), Some(&b"{}"[..]));
}

#[test]
fn what_a_service_says_of_days_that_are_not_over_is_not_measured_and_it_knows_no_longer_for_it() {
    let world = world();
    let World { store, .. } = &world;
    let source = fetched(&world, date(2026, 7, 14));
    let last = || store.read(|s| s.answers(source)).unwrap()[0].clone();
    let midnight = |text: &str| Some(text.parse::<Timestamp>().unwrap());
    // Of today and tomorrow only: nothing is known yet, however often it says so.
    let ahead = [day(date(2026, 7, 14), 8.0, 0.0), day(date(2026, 7, 15), 8.0, 0.0)];
    assert_eq!(answer(store, source, false, Ok((&ahead, &[]))), 0);
    assert_eq!((last().held, last().until, last().by_day), (2, None, true));
    let days = [day(date(2026, 7, 12), 8.0, 2.0), day(date(2026, 7, 13), 8.0, 0.0), ahead[0]];
    assert_eq!(answer(store, source, false, Ok((&days, &[]))), 2);
    assert_eq!((last().held, last().until), (3, midnight("2026-07-13T22:00:00Z")));
    // Hours up to noon, and some to come.
    assert_eq!(answer(store, source, false, Ok((&[], &hours("2026-07-13T22:00:00Z", 20)))), 1);
    assert_eq!((last().until, last().by_day), (midnight("2026-07-14T10:00:00Z"), false));
    // What is forecast is known ahead.
    assert_eq!(answer(store, source, true, Ok((&ahead, &[]))), 2);
    assert_eq!(last().until, midnight("2026-07-15T22:00:00Z"));
}

//! Weather and what was found in the field: sources, imports, overrules, tests.

use super::{TODAY, World, beside, days, done, file, raw, world};
use jiff::civil::date;
use jiff::{SignedDuration, Timestamp};
use upland_core::ground::catch_can::{Can, CatchTest};
use upland_core::ground::planting::{OwnCoefficient, Trim};
use upland_core::quantity::month::ByMonth;
use upland_core::quantity::units::{Celsius, Metres, Minutes};
use upland_core::site::ZoneSince;
use upland_core::weather::DayWeather;
use upland_core::weather::climate::TypedNormals;
use upland_core::weather::record::{
    HourVariable, Overrule, RawDay, RawHour, Rule, SourceKind, Standing, Variable,
};
use upland_store::field::EventKind;
use upland_store::queue::Task;
use upland_store::scope::SiteKey;
use upland_store::weather::{Comparison, DraftState, Incoming, SourcePlace};
use upland_store::{Store, Subject};

/// Takes days and hours into the record: by whom, for which site, to which source.
fn import(
    store: &Store,
    to: (i64, SiteKey, i64),
    file_name: &str,
    days: &[RawDay],
    hours: &[RawHour],
) -> upland_store::Result<Comparison> {
    store.import_weather(Incoming { to, file_name, draft: 0, days, hours }, |_| Ok(()))
}

#[test]
fn an_import_repeats_without_doubling_and_undoes() {
    let World { store, user, site, .. } = &world();
    let source = done(store, *user, *site, |c| c.own_source()).unwrap();
    assert_eq!(done(store, *user, *site, |c| c.own_source()).unwrap(), source, "it is made once");
    let import =
        |days: &[DayWeather]| import(store, (*user, *site, source), "larkrigg.csv", &raw(days), &[]).unwrap();
    let weather = |site_id: SiteKey| {
        store
            .read(|s| {
                let site = s.site(site_id)?.unwrap().site;
                s.weather(site_id, &site)
            })
            .unwrap()
    };
    let first = days(1200, 20.0);
    assert_eq!(import(&first), Comparison { new: 1200, changed: 0, same: 0 });
    assert_eq!(weather(*site), first);
    assert_eq!(import(&first), Comparison { new: 0, changed: 0, same: 1200 });
    assert_eq!(
        store.read(|s| s.imports(*site)).unwrap().len(),
        1,
        "a file that brings nothing makes no import"
    );

    let mut corrected = days(1201, 20.0);
    corrected[3].temperature_max = Celsius::from_c(25.0);
    assert_eq!(import(&corrected), Comparison { new: 1, changed: 1, same: 1199 });
    assert_eq!(weather(*site), corrected);

    let newest = store.read(|s| s.imports(*site)).unwrap()[0].clone();
    let version = store.read(|s| s.site(*site)).unwrap().unwrap().weather_version;
    assert!(
        done(store, *user, *site, |c| c.take_back(
            Subject::Import,
            site.number(),
            newest.id,
            Some(Timestamp::now())
        ))
        .unwrap()
    );
    assert_eq!(weather(*site), first, "the earlier values are back");
    assert!(store.read(|s| s.site(*site)).unwrap().unwrap().weather_version > version);
    assert!(
        done(store, *user, *site, |c| c.take_back(Subject::Import, site.number(), newest.id, None)).unwrap()
    );
    assert_eq!(weather(*site), corrected);
    assert!(
        !done(store, *user, *site, |c| c.take_back(Subject::Import, site.number() + 1, newest.id, None))
            .unwrap(),
        "not of another site"
    );
}

/// A draft that was started.
fn started(world: &World, days_total: usize) -> upland_store::weather::Draft {
    let World { store, user, site, .. } = world;
    let source = done(store, *user, *site, |c| c.own_source()).unwrap();
    let id = store.create_draft(*site, source, *user, "x.csv", b"...", false).unwrap();
    assert!(store.start_draft(id, days_total).unwrap());
    assert!(!store.start_draft(id, days_total).unwrap(), "only one may take it in");
    store.read(|s| s.draft(*site, id)).unwrap().unwrap()
}

#[test]
fn a_failing_import_leaves_the_record_as_it_was() {
    let world = world();
    let World { store, site, .. } = &world;
    // A day twice: the database's own key refuses it in the second batch.
    let mut bad = raw(&days(900, 20.0));
    bad[700] = bad[699];
    let draft = started(&world, bad.len());
    assert!(store.run_draft(&draft, &bad, &[]).is_err());
    assert_eq!(store.read(|s| s.raw_days(draft.source_id)).unwrap(), []);
    assert_eq!(store.read(|s| s.imports(*site)).unwrap(), []);
    let again = store.import_weather(
        Incoming {
            to: (world.user, *site, draft.source_id),
            file_name: "x.csv",
            draft: draft.id,
            days: &bad[..600],
            hours: &[],
        },
        |done| {
            // Half of it is written, and neither counts nor holds anybody up.
            if done > 0 {
                assert_eq!(store.read(|s| s.raw_days(draft.source_id)).unwrap(), []);
                let saved = super::done(store, world.user, *site, |c| c.create_zone(&super::zone(9)));
                assert!(saved.is_ok() || done > 500, "{saved:?}");
            }
            Ok(())
        },
    );
    assert_eq!(again.unwrap().new, 600);
    assert_eq!(store.read(|s| s.raw_days(draft.source_id)).unwrap().len(), 600);
    let draft = store.read(|s| s.draft(*site, draft.id)).unwrap().unwrap();
    assert_eq!(draft.state, DraftState::Failed);
    assert!(draft.message.starts_with("Nothing was stored"));
}

#[test]
fn an_import_whose_database_goes_away_stays_accepted_and_is_taken_in_by_the_next_attempt() {
    use diesel::{Connection, PgConnection, RunQueryDsl};
    let world = world();
    let World { store, site, database, .. } = &world;
    let draft = started(&world, 1200);
    let days = raw(&days(1200, 20.0));
    // Whoever holds the draft's row stops the import where it tells how far it is; there its connections end.
    let mut holder = PgConnection::establish(&database.url).unwrap();
    let mut run = |sql: &str| diesel::sql_query(sql).execute(&mut holder).unwrap();
    run("BEGIN");
    run(&format!("SELECT FROM weather_drafts WHERE id = {} FOR UPDATE", draft.id));
    let broken = std::thread::scope(|scope| {
        let importing = scope.spawn(|| store.run_draft(&draft, &days, &[]));
        let waits = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() \
                     AND pid <> pg_backend_pid() AND EXISTS (SELECT FROM pg_stat_activity w \
                     WHERE w.datname = current_database() AND w.wait_event_type = 'Lock')";
        while run(waits) == 0 && !importing.is_finished() {
            std::thread::sleep(std::time::Duration::from_millis(5));
        }
        importing.join().unwrap().unwrap_err()
    });
    run("ROLLBACK");
    assert!(broken.is_passing(), "{broken:?}");
    let state = || store.read(|s| s.draft(*site, draft.id)).unwrap().unwrap().state;
    assert_eq!((state(), store.read(|s| s.imports(*site)).unwrap()), (DraftState::Running, vec![]));
    let (again, _) = store.running_draft(draft.id).unwrap().expect("it waits for the next attempt");
    store.run_draft(&again, &days, &[]).unwrap();
    assert_eq!(
        (state(), store.read(|s| s.raw_days(draft.source_id)).unwrap().len()),
        (DraftState::Done, 1200)
    );
}

#[test]
fn a_cancelled_import_stores_nothing_and_says_so() {
    let world = world();
    let World { store, site, .. } = &world;
    let draft = started(&world, 1200);
    assert!(!store.cancel_draft(beside(*site), draft.id).unwrap());
    assert!(store.cancel_draft(*site, draft.id).unwrap());
    let stopped = store.run_draft(&draft, &raw(&days(1200, 20.0)), &[]);
    assert!(matches!(stopped, Err(upland_store::StoreError::Cancelled)), "{stopped:?}");
    assert_eq!(store.read(|s| s.raw_days(draft.source_id)).unwrap(), []);
    let draft = store.read(|s| s.draft(*site, draft.id)).unwrap().unwrap();
    assert_eq!(
        (draft.state, draft.message.as_str()),
        (DraftState::Cancelled, "Stopped; nothing was stored.")
    );
}

#[test]
fn an_import_that_is_tried_no_more_waits_for_a_word_with_its_file_and_never_reads_running() {
    let world = world();
    let World { store, site, database, .. } = &world;
    let draft = started(&world, 1200);
    let now = || store.read(|s| s.draft(*site, draft.id)).unwrap().unwrap();
    let job_of = |id: i64, what: &str| {
        use diesel::{Connection, PgConnection, RunQueryDsl};
        let mut connection = PgConnection::establish(&database.url).unwrap();
        let sql = format!("UPDATE work._private_jobs SET {what} WHERE key = 'import {id}'");
        assert_eq!(diesel::sql_query(sql).execute(&mut connection).unwrap(), 1);
    };
    let job = |what: &str| job_of(draft.id, what);
    assert!(!store.resume_draft(*site, draft.id).unwrap(), "it waits for a worker");
    job("attempts = max_attempts, last_error = 'no room', locked_at = now()");
    assert_eq!(now().state, DraftState::Running, "its last attempt is under way");
    job("locked_at = NULL");
    assert_eq!((now().state, now().message.as_str()), (DraftState::GivenUp, "no room"));
    // Neither another site nor the sweep of old files has a say.
    assert!(!store.resume_draft(beside(*site), draft.id).unwrap());
    assert!(store.resume_draft(*site, draft.id).unwrap() && !store.resume_draft(*site, draft.id).unwrap());
    assert_eq!(now().state, DraftState::Running);
    let waiting = store.read(|s| s.waiting_work()).unwrap();
    let asked = waiting.iter().find(|job| job.task == Some(Task::Import)).unwrap();
    assert_eq!((asked.of, asked.attempts, asked.given_up), (draft.id, 0, false));
    // The owner took its job away: it is given up as well, and whoever stops it ends it at once.
    assert!(store.drop_work(asked.id).unwrap());
    assert_eq!((now().state, now().message.as_str()), (DraftState::GivenUp, ""));
    assert_eq!(store.running_draft(draft.id).unwrap().unwrap().1, b"...", "its file is kept");
    assert!(store.cancel_draft(*site, draft.id).unwrap());
    assert_eq!(now().state, DraftState::Cancelled);
    assert!(store.running_draft(draft.id).unwrap().is_none());
    assert!(!store.resume_draft(*site, draft.id).unwrap());
    // Whoever stops one that was given up leaves nothing to the owner either.
    let other = store.create_draft(*site, draft.source_id, world.user, "z.csv", b"z", false).unwrap();
    assert!(store.start_draft(other, 1).unwrap());
    job_of(other, "attempts = max_attempts");
    assert_eq!(store.given_up().unwrap(), 1);
    assert!(store.cancel_draft(*site, other).unwrap());
    assert_eq!(store.given_up().unwrap(), 0);
}

#[test]
fn an_old_file_goes_when_another_is_brought_but_not_one_that_was_accepted() {
    use diesel::{Connection, PgConnection, RunQueryDsl};
    let world = world();
    let World { store, site, user, database, .. } = &world;
    let accepted = started(&world, 3);
    let bring = || store.create_draft(*site, accepted.source_id, *user, "y.csv", b"y", false).unwrap();
    let left = bring();
    let mut connection = PgConnection::establish(&database.url).unwrap();
    let aged = "UPDATE weather_drafts SET created_at = created_at - interval '25 hours'";
    assert_eq!(diesel::sql_query(aged).execute(&mut connection).unwrap(), 2);
    let new = bring();
    let stands = |id| store.read(|s| s.draft(*site, id)).unwrap().map(|d| d.state);
    assert_eq!(stands(accepted.id), Some(DraftState::Running));
    assert_eq!((stands(left), stands(new)), (None, Some(DraftState::Preview)));
}

#[test]
fn progress_is_seen_by_others_while_it_runs() {
    let world = world();
    let World { store, site, .. } = &world;
    let draft = started(&world, 1200);
    store.run_draft(&draft, &raw(&days(1200, 20.0)), &[]).unwrap();
    let draft = store.read(|s| s.draft(*site, draft.id)).unwrap().unwrap();
    assert_eq!((draft.state, draft.days_done), (DraftState::Done, 1200));
}

#[test]
fn hours_come_as_blocks_of_days_and_grow_together() {
    let World { store, user, site, .. } = &world();
    let source = done(store, *user, *site, |c| c.own_source()).unwrap();
    let first: Timestamp = "2026-07-01T00:00:00Z".parse().unwrap();
    let hour = |i: i64, t: f64| {
        let start = first + SignedDuration::from_hours(i);
        RawHour::new(start, start.to_zoned(jiff::tz::TimeZone::UTC).date()).with(HourVariable::Temperature, t)
    };
    let day = |d: i8| RawDay::new(date(2026, 7, d)).with(Variable::TemperatureMax, 20.0);
    let import = |days: &[RawDay], hours: &[RawHour]| {
        import(store, (*user, *site, source), "hours.csv", days, hours).unwrap()
    };
    let morning: Vec<_> = (0..12).map(|i| hour(i, 10.0)).collect();
    import(&[day(1)], &morning);
    // The rest of the day comes later, with one hour of the morning corrected, and the day after.
    let mut rest: Vec<_> = (12..30).map(|i| hour(i, 15.0)).collect();
    rest.insert(0, hour(5, 11.0));
    import(&[day(1), day(2)], &rest);
    let stored = store.read(|s| s.raw_hours(source, date(2026, 7, 1), date(2026, 7, 2))).unwrap();
    assert_eq!(stored.len(), 30, "nothing known is lost");
    assert_eq!(stored[5], hour(5, 11.0));
    assert_eq!((stored[4], stored[29]), (hour(4, 10.0), hour(29, 15.0)));
    assert_eq!(store.read(|s| s.imports(*site)).unwrap()[0].hours, 30, "the blocks of both days");
    // Undone, the morning is as it was.
    let newest = store.read(|s| s.imports(*site)).unwrap()[0].id;
    done(store, *user, *site, |c| {
        c.take_back(Subject::Import, site.number(), newest, Some(Timestamp::now()))
    })
    .unwrap();
    assert_eq!(store.read(|s| s.raw_hours(source, date(2026, 7, 1), date(2026, 7, 2))).unwrap(), morning);
}

#[test]
fn a_value_is_overruled_with_a_reason_and_comes_back() {
    let World { store, user, site, .. } = &world();
    let source = done(store, *user, *site, |c| c.own_source()).unwrap();
    let mut record = raw(&days(20, 20.0));
    record[5].set(Variable::Rain, Some(-4.0));
    import(store, (*user, *site, source), "x.csv", &record, &[]).unwrap();
    let at = store.read(|s| s.site(*site)).unwrap().unwrap().site;
    let rain = || store.read(|s| s.site_weather(*site, &at)).unwrap().days[0][5].standing(Variable::Rain);
    let highest =
        || store.read(|s| s.site_weather(*site, &at)).unwrap().days[0][6].standing(Variable::TemperatureMax);
    assert_eq!(rain(), Standing::Rejected(Rule::Range));
    let said = Overrule {
        date: record[6].date,
        variable: Variable::TemperatureMax,
        keep: false,
        reason: "the screen was open".into(),
    };
    let id = done(store, *user, *site, |c| c.overrule(source, &said)).unwrap().unwrap();
    assert_eq!(highest(), Standing::Discarded);
    assert_eq!(
        store.read(|s| s.weather(*site, &at)).unwrap().len(),
        19,
        "a day without its maximum is no day"
    );
    assert!(
        !done(store, *user, *site, |c| c.take_back(
            Subject::Overrule,
            site.number() + 1,
            id,
            Some(Timestamp::now())
        ))
        .unwrap()
    );
    assert!(
        done(store, *user, *site, |c| c.take_back(
            Subject::Overrule,
            site.number(),
            id,
            Some(Timestamp::now())
        ))
        .unwrap()
    );
    assert!(highest().counts());
    assert_eq!(store.read(|s| s.raw_days(source)).unwrap(), record, "the original stays");
    assert_eq!(store.read(|s| s.overrules(*site)).unwrap()[&source][0].overrule, said);
}

#[test]
fn the_chosen_source_counts_and_two_choosers_see_each_other() {
    let World { store, user, site, .. } = &world();
    let own = done(store, *user, *site, |c| c.own_source()).unwrap();
    let place = SourcePlace {
        latitude_deg: 46.3,
        longitude_deg: 8.1,
        elevation: Metres::from_m(900.0),
        wind_height: Metres::from_m(10.0),
    };
    let far =
        done(store, *user, *site, |c| c.create_source(SourceKind::Station, "Valley", Some(place))).unwrap();
    for (source, tmax) in [(own, 20.0), (far, 25.0)] {
        import(store, (*user, *site, source), "x.csv", &raw(&days(10, tmax)), &[]).unwrap();
    }
    let at = store.read(|s| s.site(*site)).unwrap().unwrap().site;
    let first = || store.read(|s| s.weather(*site, &at)).unwrap()[0].temperature_max.c();
    assert_eq!(first(), 20.0, "the own sensor, until somebody chooses");
    let all = |id: i64| [vec![id], vec![id], vec![id], vec![id], vec![id]];
    assert_eq!(
        done(store, *user, *site, |c| c.choose_sources(None, &all(far), "the own screen is in the sun"))
            .unwrap(),
        None
    );
    assert_eq!(first(), 25.0);
    let theirs = done(store, *user, *site, |c| c.choose_sources(None, &all(own), ""))
        .unwrap()
        .expect("somebody chose before");
    assert_eq!((theirs.order, theirs.reason.as_str()), (all(far), "the own screen is in the sun"));
    assert!(
        done(store, *user, *site, |c| c.take_back(
            Subject::Source,
            site.number(),
            far,
            Some(Timestamp::now())
        ))
        .unwrap()
    );
    assert_eq!(
        store.read(|s| s.weather(*site, &at)).unwrap(),
        [],
        "a removed source does not count, and no other was named"
    );
    assert!(done(store, *user, *site, |c| c.take_back(Subject::Source, site.number(), far, None)).unwrap());
    assert_eq!(first(), 25.0);
    assert!((store.read(|s| s.sources(*site)).unwrap()[1].distance_km(&at) - 10.0).abs() < 2.0);
}

#[test]
fn normals_tests_and_events_are_kept() {
    let World { store, user, site, .. } = &world();
    let at = store.read(|s| s.site(*site)).unwrap().unwrap().site;
    let source =
        done(store, *user, *site, |c| c.create_source(SourceKind::Normals, "Table of the valley", None))
            .unwrap();
    let normals = TypedNormals {
        temperature_min: ByMonth::all(Celsius::from_c(3.0)),
        temperature_max: ByMonth::all(Celsius::from_c(14.0)),
        rain: None,
        et0_a_day: None,
    };
    done(store, *user, *site, |c| c.set_normals(source, &normals)).unwrap();
    assert_eq!(store.read(|s| s.site_weather(*site, &at)).unwrap().normals, Some(normals));

    let zone = store.read(|s| s.zones(*site)).unwrap()[0].id;
    let can = |ml| Can { x_m: 0.0, y_m: 0.0, millilitres: ml };
    let test = CatchTest {
        run: Minutes::from_min(10.0),
        throat_cm2: 80.0,
        reading: Default::default(),
        cans: [9.0, 10.0, 11.0, 12.0].map(can).to_vec(),
    };
    let id =
        done(store, *user, *site, |c| c.save_catch_test(zone, date(2026, 7, 1), &test)).unwrap().unwrap();
    assert_eq!(store.read(|s| s.catch_tests(zone)).unwrap()[0].test, test);
    assert!(
        done(store, *user, *site, |c| c.take_back(Subject::CatchTest, zone, id, Some(Timestamp::now())))
            .unwrap()
    );
    assert!(store.read(|s| s.catch_tests(zone)).unwrap()[0].undone);
    assert!(!done(store, *user, *site, |c| c.take_back(Subject::CatchTest, zone + 1, id, None)).unwrap());

    let event = done(store, *user, *site, |c| {
        c.note_event(zone, date(2026, 7, 3), EventKind::Reading, 0.4, "by feel")
    })
    .unwrap()
    .unwrap();
    done(store, *user, *site, |c| c.note_event(zone, date(2026, 7, 2), EventKind::Run, 12.0, "by hand"))
        .unwrap()
        .unwrap();
    let noted: Vec<_> =
        store.read(|s| s.zone_events(*site)).unwrap().into_iter().map(|e| (e.kind, e.value)).collect();
    assert_eq!(noted, [(EventKind::Run, 12.0), (EventKind::Reading, 0.4)], "by date");
    assert!(
        done(store, *user, *site, |c| c.take_back(Subject::ZoneEvent, zone, event, Some(Timestamp::now())))
            .unwrap()
    );
    assert_eq!(store.read(|s| s.mapping("a,b")).unwrap(), None);
    store.save_mapping("a,b", &serde_json::json!({ "x": 1 }), *user).unwrap();
    store.save_mapping("a,b", &serde_json::json!({ "x": 2 }), *user).unwrap();
    assert_eq!(store.read(|s| s.mapping("a,b")).unwrap(), Some(serde_json::json!({ "x": 2 })));
}

#[test]
fn a_planting_survives_its_row() {
    let World { store, user, site, .. } = &world();
    let record = store.read(|s| s.zones(*site)).unwrap().remove(0);
    let mut changed = record.zone.clone();
    changed.own_coefficient = Some(OwnCoefficient::Landscape { species: 0.5, density: 1.2 });
    changed.planting.trim = Some(Trim { percent: 10.0, reason: "south wall".into() });
    done(store, *user, *site, |c| c.save_zone(record.id, record.version, &changed, ZoneSince::Always))
        .unwrap();
    assert_eq!(store.read(|s| s.zone(record.id)).unwrap().unwrap().zone, changed);
}

#[test]
fn drafts_belong_to_their_site() {
    let World { store, user, site, .. } = &world();
    let other = store.create_site(&file("Tarnside Allotments", Vec::new()), TODAY, *user).unwrap();
    let source = done(store, *user, *site, |c| c.own_source()).unwrap();
    let id = store.create_draft(*site, source, *user, "a.csv", b"content", false).unwrap();
    let content = |site| store.read(|s| s.draft_content(site, id)).unwrap();
    assert_eq!((content(*site).as_deref(), content(other)), (Some(&b"content"[..]), None));
    assert_eq!(store.read(|s| s.draft(other, id)).unwrap(), None);
    let mapping = serde_json::json!({ "x": 1 });
    assert!(!store.set_draft_mapping(other, id, &mapping).unwrap());
    assert!(!store.cancel_draft(other, id).unwrap());
    assert!(!store.drop_draft(other, id).unwrap(), "another site cannot drop it");
    assert!(store.read(|s| s.draft(*site, id)).unwrap().is_some());
    assert!(store.set_draft_mapping(*site, id, &mapping).unwrap() && store.drop_draft(*site, id).unwrap());
}

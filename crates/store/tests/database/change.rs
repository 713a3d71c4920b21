//! The one way to write: every write raises the revision of its site and says who did what; none reaches
//! another site, and none says "done" for what is not there.

use super::{TODAY, World, beside, card_of, done, file, world, zone};
use jiff::{SignedDuration, Timestamp};
use upland_core::controller::twelve_stations;
use upland_core::ground::application::HeadType;
use upland_core::site::{Controller, StationId, Zone, ZoneSince};
use upland_store::accounts::Role;
use upland_store::field::EventKind;
use upland_store::scope::Scope;
use upland_store::trials::{MOST_WAYS, NewTrial};
use upland_store::{Saved, StoreError, Subject};

fn now() -> Timestamp {
    "2026-07-14T18:00:00Z".parse().unwrap()
}

#[test]
fn a_write_raises_the_revision_and_says_who_did_what() {
    let World { store, user, site, .. } = &world();
    let revision = || store.read(|s| s.stamp(*site)).unwrap().unwrap().revision;
    let record = store.read(|s| s.zones(*site)).unwrap().remove(0);
    let mut changed = record.zone.clone();
    changed.name = "Upper lawn".into();
    let before = revision();
    let save =
        |zone| done(store, *user, *site, |c| c.save_zone(record.id, 1, zone, ZoneSince::Always)).unwrap();
    assert_eq!(save(&record.zone), Some(Saved::Unchanged(1)));
    assert_eq!(revision(), before, "nothing changed, so what was computed stays good");
    assert_eq!(save(&changed), Some(Saved::As(2)));
    assert_eq!(revision(), before + 1);
    let events = store.read(|s| s.events(Some(site.number()), 10)).unwrap();
    let newest = &events[0];
    assert_eq!(
        (newest.actor, newest.subject.as_str(), newest.subject_id),
        (Some(*user), "zone", Some(record.id))
    );
    assert_eq!(
        (newest.action.as_str(), newest.before.clone(), newest.after.clone()),
        ("changed", Some(1.into()), Some(2.into()))
    );
    assert_eq!(events[1].action, "created", "the site itself");
}

#[test]
fn a_write_that_fails_leaves_neither_event_nor_revision() {
    let World { store, user, site, .. } = &world();
    let before =
        store.read(|s| Ok((s.stamp(*site)?.unwrap(), s.events(Some(site.number()), 10)?.len()))).unwrap();
    let failed = store.change(*user, *site, |c| {
        c.create_zone(&zone(7))?;
        Err::<(), _>(StoreError::Cancelled)
    });
    assert!(failed.is_err());
    let after =
        store.read(|s| Ok((s.stamp(*site)?.unwrap(), s.events(Some(site.number()), 10)?.len()))).unwrap();
    assert_eq!(before, after);
    assert_eq!(store.change(*user, beside(*site), |_| Ok(())).unwrap(), None, "there is no such site");
}

#[test]
fn no_write_reaches_a_thing_of_another_site() {
    let World { store, user, site, .. } = &world();
    let other = store.create_site(&file("Tarnside Allotments", vec![zone(1)]), TODAY, *user).unwrap();
    let of = store.read(|s| Ok((s.zones(*site)?[0].clone(), s.controllers(*site)?[0].clone()))).unwrap();
    let (zone_of_site, controller) = (of.0.id, of.1.id);
    let at = |work: &dyn Fn(&mut upland_store::Change<'_>) -> upland_store::Result<bool>| {
        done(store, *user, other, |c| work(c)).unwrap()
    };
    assert!(!at(&|c| c.take_back(Subject::Zone, other.number(), zone_of_site, Some(now()))));
    assert!(!at(&|c| c.take_back(Subject::Zone, site.number(), zone_of_site, Some(now()))));
    assert!(!at(&|c| c.take_back(Subject::Controller, other.number(), controller, Some(now()))));
    assert!(!at(&|c| c.renew_calendar(controller, b"h")) && !at(&|c| c.set_fallback(controller, None)));
    assert!(at(&|c| Ok(c.save_zone(zone_of_site, 1, &zone(9), ZoneSince::Always)?.is_none())));
    let moved = Controller { number: 1, place: "Elsewhere".into(), card: twelve_stations() };
    assert!(at(&|c| Ok(c.save_controller(controller, 1, &moved)?.is_none())));
    assert!(at(&|c| Ok(c.note_event(zone_of_site, TODAY, EventKind::Run, 5.0, "x")?.is_none())));
    let event = done(store, *user, *site, |c| c.note_event(zone_of_site, TODAY, EventKind::Run, 5.0, "x"))
        .unwrap()
        .unwrap();
    assert!(!at(&|c| c.take_back(Subject::ZoneEvent, zone_of_site, event, Some(now()))));
    assert_eq!(store.read(|s| s.zones(*site)).unwrap()[0], of.0, "all is as it was");
    let events = store.read(|s| s.events(Some(other.number()), 10)).unwrap();
    assert_eq!(events.len(), 1, "nothing was done, so nothing is said: {events:?}");
}

#[test]
fn taking_back_what_is_taken_back_already_is_told() {
    let World { store, user, site, .. } = &world();
    let id = store.read(|s| s.zones(*site)).unwrap()[0].id;
    let set = |at| done(store, *user, *site, |c| c.take_back(Subject::Zone, site.number(), id, at)).unwrap();
    assert!(!set(None), "it stands");
    assert!(set(Some(now())) && !set(Some(now())));
    assert!(set(None));
    assert!(store.set_site_removed(*user, *site, Some(now())).unwrap());
    assert!(!store.set_site_removed(*user, *site, Some(now())).unwrap());
    assert!(!store.set_site_removed(*user, beside(*site), Some(now())).unwrap());
}

#[test]
fn two_zones_cannot_have_one_station_nor_a_site_two_own_sources() {
    let World { store, user, site, .. } = &world();
    let made = store.change(*user, *site, |c| c.create_zone(&zone(1)));
    assert!(matches!(made, Err(StoreError::Taken(_))), "{made:?}");
    let second = store.read(|s| s.zones(*site)).unwrap()[1].id;
    let moved = store.change(*user, *site, |c| c.save_zone(second, 1, &zone(1), ZoneSince::Always));
    assert!(matches!(moved, Err(StoreError::Taken(_))), "{moved:?}");
    let sources = std::thread::scope(|scope| {
        let own = || done(store, *user, *site, |c| c.own_source()).unwrap();
        let (a, b) = (scope.spawn(own), scope.spawn(own));
        [a.join().unwrap(), b.join().unwrap()]
    });
    assert_eq!(sources[0], sources[1]);
    let kind = upland_core::weather::record::SourceKind::Own;
    let again = store.change(*user, *site, |c| c.create_source(kind, "Second", None));
    assert!(matches!(again, Err(StoreError::Taken(_))), "{again:?}");
}

#[test]
fn a_write_to_the_library_raises_every_site() {
    use upland_core::controller::ordinance::{AllowedDays, HouseNumber, Ordinance, Rule};
    let World { store, user, site, .. } = &world();
    let other = store.create_site(&file("Tarnside Allotments", Vec::new()), TODAY, *user).unwrap();
    let revision = |id| store.read(|s| s.stamp(id)).unwrap().unwrap().revision;
    let rule = Rule {
        season: None,
        days: AllowedDays::OddDates,
        forbidden_hours: Vec::new(),
        most_days_a_week: None,
        most_minutes_a_day: None,
        after_rain: None,
    };
    let mut law = Ordinance {
        name: "Odd dates".into(),
        rules: vec![rule],
        exempt_heads: vec![HeadType::Drip],
        hours_bind_exempt_heads: false,
        exempts_new_planting: false,
    };
    let id = store.create_library_entry(&law, *user).unwrap();
    let keep = |c: &mut upland_store::Change<'_>| c.apply_ordinance(id, None, HouseNumber::Odd, &[], false);
    assert!(done(store, *user, *site, keep).unwrap());
    let before = (revision(*site), revision(other));
    law.exempt_heads.clear();
    assert_eq!(store.save_library_entry(id, 1, &law, *user).unwrap(), Some(Saved::As(2)));
    // Both offer it, whether they keep to it or not.
    assert_eq!((revision(*site), revision(other)), (before.0 + 1, before.1 + 1));
    assert_eq!(store.save_library_entry(id, 2, &law, *user).unwrap(), Some(Saved::Unchanged(2)));
    assert_eq!(revision(other), before.1 + 1, "nothing changed");
    let removed = Some("2026-07-14T12:00:00Z".parse().unwrap());
    assert!(store.set_library_entry_removed::<Ordinance>(id, removed, *user).unwrap());
    assert!(!store.set_library_entry_removed::<Ordinance>(id, removed, *user).unwrap(), "it is off already");
    assert!(store.set_library_entry_removed::<Ordinance>(id, None, *user).unwrap());
    assert_eq!(revision(other), before.1 + 3);
    let shared = store.read(|s| s.events(None, 10)).unwrap();
    let told: Vec<_> = shared.iter().map(|e| (e.subject.as_str(), e.action.as_str())).collect();
    let of = |action| ("library", action);
    assert_eq!(told[..4], [of("restored"), of("removed"), of("changed"), of("created")]);
}

#[test]
fn the_clock_is_shared_moves_when_it_was_set_and_dates_what_is_written() {
    let World { store, user, site, .. } = &world();
    let day = SignedDuration::from_hours(24);
    assert_eq!(store.move_clock(day).unwrap(), None, "real time cannot be moved");
    store.set_clock(-day * 100).unwrap();
    assert_eq!(store.move_clock(day).unwrap(), Some(-day * 99));
    assert_eq!(store.read(|s| s.clock_ahead()).unwrap(), Some(-day * 99));
    let id = done(store, *user, *site, |c| c.create_zone(&zone(7))).unwrap();
    let saved = store.read(|s| s.zone(id)).unwrap().unwrap().saved_at;
    let real = store.read(|s| s.site(*site)).unwrap().unwrap().saved_at;
    let apart = real.duration_since(saved);
    assert!((day * 98..=day * 100).contains(&apart), "{apart}");
}

#[test]
fn two_processes_that_prepare_an_empty_database_at_once_both_succeed() {
    let database = upland_store::testing::TestDatabase::empty();
    let migrate = || upland_store::Store::connect(&database.url, 2).unwrap().migrate().unwrap().len();
    let ran = std::thread::scope(|scope| {
        let (a, b) = (scope.spawn(migrate), scope.spawn(migrate));
        [a.join().unwrap(), b.join().unwrap()]
    });
    assert_eq!(ran.iter().filter(|n| **n > 0).count(), 1, "one migrates, the other waits: {ran:?}");
}

#[test]
fn what_is_known_of_all_sites_is_stamped_by_every_write_to_any() {
    let World { store, user, site, .. } = &world();
    store.create_session(&[7; 32], *user, SignedDuration::from_hours(1)).unwrap();
    let stamp = || store.asked(&[7; 32], None).unwrap().unwrap().everywhere.unwrap();
    assert_eq!(
        store.asked(&[7; 32], Some(site.number())).unwrap().unwrap().everywhere,
        None,
        "a page of one site"
    );
    let mut before = stamp();
    assert_eq!(stamp(), before, "nothing happened");
    let mut rises = |what: &str| {
        let now = stamp();
        assert!(now > before, "{what}: {before} to {now}");
        before = now;
    };
    let other = store.create_site(&file("Tarnside Allotments", vec![zone(1)]), TODAY, *user).unwrap();
    rises("another site");
    done(store, *user, other, |c| c.create_zone(&zone(2))).unwrap();
    rises("a zone of the other");
    store.set_site_removed(*user, other, Some(now())).unwrap();
    rises("taking it away");
    store.set_site_removed(*user, other, None).unwrap();
    rises("bringing it back");
}

#[test]
fn a_connection_that_died_is_replaced_before_it_is_used() {
    use diesel::{Connection, PgConnection, RunQueryDsl};
    let World { store, database, .. } = &world();
    store.ping().unwrap();
    let mut other = PgConnection::establish(&database.url).unwrap();
    let ended = diesel::sql_query(
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity \
         WHERE datname = current_database() AND pid <> pg_backend_pid()",
    );
    assert!(ended.execute(&mut other).unwrap() > 0, "somebody was connected");
    for _ in 0..8 {
        store.ping().expect("another connection takes its place");
    }
    assert!(!store.read(|s| s.sites(&Scope::program())).unwrap().is_empty());
}

#[test]
fn ways_and_trials_are_kept_byte_for_byte_taken_off_and_back_and_stay_at_their_site() {
    let World { store, user, site, .. } = &world();
    let other = store.create_site(&file("Tarnside Allotments", vec![zone(1)]), TODAY, *user).unwrap();
    let way = serde_json::json!({ "format": "a way", "share": 0.1 + 0.2 });
    let save = |site, name: &str| done(store, *user, site, |c| c.save_trial_way(name, &way)).unwrap();
    let id = save(*site, "Less in May").unwrap();
    assert_eq!(save(*site, "Less in May"), None, "a name is taken once at a site");
    assert!(save(other, "Less in May").is_some(), "another site has names of its own");
    let ways = store.read(|s| s.trial_ways(*site)).unwrap();
    assert_eq!(ways.len(), 1);
    assert_eq!((ways[0].id, &ways[0].way), (id, &way), "to the last bit");
    let file = "{ \"kept\" :  1.0 }\n";
    let new = NewTrial { name: "July", file, result: "{}", answer: "As it is set uses least." };
    let trial = done(store, *user, *site, |c| c.keep_trial(new)).unwrap();
    let kept = store.read(|s| s.trial(*site, trial)).unwrap().unwrap();
    assert_eq!((kept.file.as_str(), kept.line.name.as_str()), (file, "July"));
    assert_eq!(store.read(|s| s.trial(other, trial)).unwrap(), None, "not under another site");
    assert_eq!(store.read(|s| s.trials(*site)).unwrap(), [kept.line]);
    for (subject, id) in [(Subject::TrialWay, id), (Subject::Trial, trial)] {
        let back =
            |under, at| done(store, *user, under, |c| c.take_back(subject, under.number(), id, at)).unwrap();
        assert!(!back(other, Some(now())), "another site cannot");
        assert!(back(*site, Some(now())));
        let left = store.read(|s| Ok((s.trial_ways(*site)?.len(), s.trials(*site)?.len()))).unwrap();
        assert_eq!(left, if subject == Subject::TrialWay { (0, 1) } else { (1, 0) });
        assert!(back(*site, None));
    }
    assert!(store.read(|s| s.events(Some(site.number()), 1)).unwrap()[0].subject == "trial");
    // A name that was taken off and given anew cannot come back.
    done(store, *user, *site, |c| c.take_back(Subject::TrialWay, site.number(), id, Some(now()))).unwrap();
    assert!(save(*site, "Less in May").is_some());
    let again = store.change(*user, *site, |c| c.take_back(Subject::TrialWay, site.number(), id, None));
    assert!(matches!(again, Err(StoreError::Taken(_))), "{again:?}");
    for n in 1..MOST_WAYS {
        assert!(save(*site, &format!("Way {n}")).is_some());
    }
    let full = store.change(*user, *site, |c| c.save_trial_way("One more", &way));
    assert!(matches!(full, Err(StoreError::Full("ways", MOST_WAYS))), "{full:?}");
}

#[test]
fn the_usual_time_zone_is_that_of_most_sites_of_a_scope() {
    let World { store, user, site, .. } = &world();
    let usual = |scope: &Scope| store.read(|s| s.usual_time_zone(scope)).unwrap();
    assert_eq!(usual(&Scope::program()).as_deref(), Some("Etc/GMT-2"));
    let mut elsewhere = file("Quarryfoot Pavilion Ground", vec![]);
    elsewhere.site.time_zone = "Etc/GMT+1".into();
    store.create_site(&elsewhere, TODAY, *user).unwrap();
    store.create_site(&elsewhere, TODAY, *user).unwrap();
    assert_eq!(usual(&Scope::program()).as_deref(), Some("Etc/GMT+1"));
    // Of a person who sees one site only, and of one who sees none.
    let reader = store.create_user("wren", "Wren", "hash", Role::Reader, None).unwrap().unwrap().id;
    let asks = |sites: &[i64]| {
        store.give_sites(reader, Some(sites), *user).unwrap();
        store.create_session(&[9; 32], reader, SignedDuration::from_hours(1)).unwrap();
        let scope = store.asked(&[9; 32], None).unwrap().unwrap().scope;
        store.end_session(&[9; 32]).unwrap();
        usual(&scope)
    };
    assert_eq!(asks(&[site.number()]).as_deref(), Some("Etc/GMT-2"));
    assert_eq!(asks(&[]), None);
}

#[test]
fn a_zone_of_another_controller_may_have_the_same_station() {
    let World { store, user, site, .. } = &world();
    let hose = Controller { number: 0, place: "Hose".into(), card: card_of(1) };
    done(store, *user, *site, |c| c.create_controller(&hose)).unwrap();
    let elsewhere = Zone { controller_number: 2, ..zone(1) };
    let id = done(store, *user, *site, |c| c.create_zone(&elsewhere)).unwrap();
    done(store, *user, *site, |c| c.take_back(Subject::Zone, site.number(), id, Some(Timestamp::now())))
        .unwrap();
    assert!(
        done(store, *user, *site, |c| c.take_back(Subject::Zone, site.number(), id, None)).unwrap(),
        "station 1 of another controller is another station"
    );
    let order: Vec<_> = store.read(|s| s.zones(*site)).unwrap().iter().map(|z| z.zone.station_id()).collect();
    assert_eq!(order, [StationId::new(1, 1), StationId::new(1, 2), StationId::new(2, 1)]);
}

#[test]
fn sentence_6_a_zone_knows_how_it_was_before_until_a_survey_says_that_it_was_so_all_along() {
    use upland_core::quantity::units::MillimetresPerHour;
    use upland_core::site::EarlierZone;
    let World { store, user, site, .. } = &world();
    let record = store.read(|s| s.zones(*site)).unwrap().remove(0);
    let at = |rate: f64| Zone {
        precipitation_rate: Some(MillimetresPerHour::from_mm_per_hour(rate)),
        ..record.zone.clone()
    };
    let save = |base, zone: &Zone, since| {
        done(store, *user, *site, |c| c.save_zone(record.id, base, zone, since)).unwrap()
    };
    let earlier = || store.read(|s| s.zones(*site)).unwrap().remove(0).earlier;
    let june = jiff::civil::date(2026, 6, 1);
    save(1, &at(20.0), ZoneSince::On(june));
    assert_eq!(earlier(), [EarlierZone { until: june, zone: record.zone.clone() }]);
    // The whole site as a file brings it back.
    save(2, &at(22.0), ZoneSince::Always);
    assert_eq!(earlier(), []);
}

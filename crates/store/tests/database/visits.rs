//! Visits, ticks and the logbook.

use super::*;
use jiff::Timestamp;
use serde_json::json;
use upland_store::logbook::Asked;
use upland_store::photos::{NewPhoto, PhotoOf, Picture};
use upland_store::ticks::What;
use upland_store::visits::{NewEntry, NewLever};

fn at(minute: i64) -> Timestamp {
    "2026-07-14T09:00:00Z".parse::<Timestamp>().unwrap() + minute.minutes()
}

fn entry<'a>(key: &'a str, about: i64, body: &'a serde_json::Value, minute: i64) -> NewEntry<'a> {
    NewEntry {
        client_key: key,
        kind: "zone",
        about,
        body,
        at: at(minute),
        clock_off_s: 0,
        words: "3 Heather: dry",
    }
}

#[test]
fn a_visit_is_one_a_day_and_what_is_sent_twice_is_kept_once() {
    let World { store, user, site: site_id, database: _database } = world();
    let zone = store.read(|s| s.zones(site_id)).unwrap()[0].id;
    let body = json!({ "controller": 1, "station": 1, "looks": "dry" });
    let day = date(2026, 7, 14);
    let first = store
        .change(user, site_id, |c| {
            let visit = c.visit_on(day)?;
            Ok((
                visit,
                c.enter(visit, entry("key-1", zone, &body, 0))?,
                c.enter(visit, entry("key-1", zone, &body, 0))?,
            ))
        })
        .unwrap()
        .unwrap();
    assert!(first.1.is_some() && first.2.is_none(), "the same key is the same entry");
    let again = store.change(user, site_id, |c| c.visit_on(day)).unwrap().unwrap();
    assert_eq!(again, first.0, "two people on one day write one visit");
    let entries = store.read(|s| s.visit_entries(site_id)).unwrap();
    assert_eq!((entries.len(), entries[0].about, entries[0].body.clone()), (1, zone, body));
    // Taken back it stays, marked; brought back it stands.
    let own = (first.0, entries[0].id);
    assert!(
        store
            .change(user, site_id, |c| c.take_back(Subject::VisitEntry, own.0, own.1, Some(at(1))))
            .unwrap()
            .unwrap()
    );
    assert!(store.read(|s| s.visit_entries(site_id)).unwrap()[0].undone);
    assert!(
        store
            .change(user, site_id, |c| c.take_back(Subject::VisitEntry, own.0, own.1, None))
            .unwrap()
            .unwrap()
    );
    // A visit that is taken off the list takes its entries with it, and the day may have another.
    let whole = (site_id.number(), first.0);
    assert!(
        store
            .change(user, site_id, |c| c.take_back(Subject::Visit, whole.0, whole.1, Some(at(2))))
            .unwrap()
            .unwrap()
    );
    assert!(store.read(|s| s.visit_entries(site_id)).unwrap().is_empty());
    let other = store.change(user, site_id, |c| c.visit_on(day)).unwrap().unwrap();
    assert_ne!(other, first.0);
    // Then the first cannot come back beside it.
    assert!(store.change(user, site_id, |c| c.take_back(Subject::Visit, whole.0, whole.1, None)).is_err());
}

fn photo<'a>(client_key: &'a str, visit_id: Option<i64>, of: PhotoOf, picture: Picture) -> NewPhoto<'a> {
    NewPhoto { client_key, visit_id, of, caption: "terminals", picture, width: 4, height: 3 }
}

#[test]
fn a_photograph_is_of_a_thing_of_the_site_and_goes_with_its_visit_alone() {
    let World { store, user, site: site_id, database: _database } = world();
    let day = date(2026, 7, 14);
    let (visit, at_visit, of_sensor) = store
        .change(user, site_id, |c| {
            let visit = c.visit_on(day)?;
            let jpeg = || Picture::Jpeg(vec![1]);
            let first = c.keep_photo(photo("p1", Some(visit), PhotoOf::Zone(3), jpeg()))?;
            let second = c.keep_photo(photo("p2", None, PhotoOf::Sensor(9), jpeg()))?;
            Ok((visit, first.unwrap(), second.unwrap()))
        })
        .unwrap()
        .unwrap();
    let listed = || store.read(|s| s.photos(site_id)).unwrap().into_iter().map(|p| p.of).collect::<Vec<_>>();
    assert_eq!(listed(), [PhotoOf::Sensor(9), PhotoOf::Zone(3)], "the newest first");
    let take_back = |subject, under, id, when| {
        store.change(user, site_id, |c| c.take_back(subject, under, id, when)).unwrap().unwrap()
    };
    // Under another site's number nothing is taken back.
    assert!(!take_back(Subject::Photo, beside(site_id).number(), of_sensor, Some(at(2))));
    assert!(take_back(Subject::Photo, site_id.number(), of_sensor, Some(at(2))));
    assert_eq!(listed(), [PhotoOf::Zone(3)]);
    assert_eq!(
        store.read(|s| s.photo_of(site_id, of_sensor)).unwrap(),
        Some(PhotoOf::Sensor(9)),
        "still known"
    );
    assert!(take_back(Subject::Photo, site_id.number(), of_sensor, None));
    assert!(take_back(Subject::Visit, site_id.number(), visit, Some(at(3))));
    assert_eq!(listed(), [PhotoOf::Sensor(9)], "that of the visit goes with it");
    assert_eq!(store.read(|s| s.photo(site_id, at_visit)).unwrap(), None);
}

#[test]
fn photographs_and_levers_hang_under_their_visit_and_the_first_look_counts() {
    let World { store, user, site: site_id, database: _database } = world();
    let kept = store
        .change(user, site_id, |c| {
            let visit = c.visit_on(date(2026, 7, 14))?;
            let photo = |key, picture| photo(key, Some(visit), PhotoOf::Site, picture);
            let one = c.keep_photo(photo("p1", Picture::Jpeg(vec![1, 2])))?;
            let twice = c.keep_photo(photo("p1", Picture::Jpeg(vec![9])))?;
            let file = c.keep_photo(photo("p2", Picture::File("x.jpg".into())))?;
            for (day, code) in [(28, "days"), (21, "mend"), (30, "percentage")] {
                let look_again = date(2026, 7, day);
                let foretold = json!([]);
                let new = NewLever {
                    code,
                    cause: "leak",
                    words: "Mend it",
                    foretold: &foretold,
                    look_again,
                    zone_id: None,
                };
                c.note_lever(visit, new)?;
            }
            Ok((visit, one, twice, file))
        })
        .unwrap()
        .unwrap();
    assert!(kept.1.is_some() && kept.2.is_none());
    let read = |id: Option<i64>| store.read(|s| s.photo(site_id, id.unwrap())).unwrap();
    assert_eq!(read(kept.1), Some(Picture::Jpeg(vec![1, 2])));
    assert_eq!(read(kept.3), Some(Picture::File("x.jpg".into())));
    assert_eq!(store.read(|s| s.photo(beside(site_id), kept.1.unwrap())).unwrap(), None, "of another site");
    let visit = store.read(|s| s.visit(site_id, kept.0)).unwrap().unwrap();
    assert_eq!(visit.look_again, Some(date(2026, 7, 21)), "the soonest");
    let levers = store.read(|s| s.levers(site_id)).unwrap();
    assert_eq!(levers.iter().map(|l| l.code.as_str()).collect::<Vec<_>>(), ["percentage", "mend", "days"]);
}

#[test]
fn a_tick_stands_once_and_is_undone_by_a_tick() {
    let World { store, user, site: site_id, database: _database } = world();
    let tick =
        |at| store.change(user, site_id, |c| c.tick(What::KeyedIn, 7, 3, at, "version 3")).unwrap().unwrap();
    assert!(tick(Some(at(0))) && !tick(Some(at(5))), "once");
    let known = store.read(|s| s.ticks(site_id)).unwrap();
    assert_eq!(
        (known.len(), known[0].what, known[0].about, known[0].number, known[0].at),
        (1, What::KeyedIn, 7, 3, at(0))
    );
    assert!(tick(None) && !tick(None));
    assert!(store.read(|s| s.ticks(site_id)).unwrap().is_empty());
    assert!(tick(Some(at(9))), "and again");
    let call =
        |site| store.change(user, site, |c| c.tick(What::Called, 7, 20_000, Some(at(0)), "called")).unwrap();
    call(site_id);
    assert_eq!(store.read(|s| s.called_since(20_000)).unwrap().len(), 1);
    assert!(store.read(|s| s.called_since(20_001)).unwrap().is_empty());
}

#[test]
fn the_logbook_finds_by_words_kind_zone_person_and_time() {
    let World { store, user, site: site_id, database: _database } = world();
    let zone = store.read(|s| s.zones(site_id)).unwrap()[0].id;
    store
        .change(user, site_id, |c| {
            c.note("The pump was serviced; it's fine & quiet.", None, None)?;
            c.note("Heather bed mulched", Some(zone), None)?;
            c.note_print("Controller sheet of Potting shed");
            Ok(())
        })
        .unwrap();
    let find = |asked: Asked| store.read(|s| s.logbook(site_id, &asked, 100)).unwrap();
    let words = |text: &str| find(Asked { text: text.into(), ..Asked::default() });
    let all = find(Asked::default());
    assert!(all.len() >= 4 && all.windows(2).all(|w| w[0].id > w[1].id), "newest first");
    assert_eq!(words("pump serv").len(), 1, "beginnings of words, all of them");
    assert_eq!(words("PUMP it's").len(), 1);
    assert_eq!(words("pump heather").len(), 0);
    assert_eq!(words("'; drop table events; --").len(), 0);
    let own = find(Asked { zone_id: Some(zone), ..Asked::default() });
    assert!(
        own.iter().any(|e| e.words == "Heather bed mulched") && own.iter().all(|e| e.zone_id == Some(zone))
    );
    let notes = find(Asked { subjects: vec!["note".into()], ..Asked::default() });
    assert_eq!(notes.len(), 2);
    assert_eq!(find(Asked { person: Some(user + 1), ..Asked::default() }).len(), 0);
    assert_eq!(find(Asked { person: Some(user), ..Asked::default() }).len(), all.len());
    let (newest, oldest) = (all[0].at, all[all.len() - 1].at);
    assert_eq!(find(Asked { from: Some(newest + 1.minute()), ..Asked::default() }).len(), 0);
    assert_eq!(find(Asked { until: Some(oldest), ..Asked::default() }).len(), 0, "up to, not at");
    let older = find(Asked { before: Some(all[1].id), ..Asked::default() });
    assert_eq!(older.first().map(|e| e.id), all.get(2).map(|e| e.id));
    assert_eq!(store.read(|s| s.people_of(site_id)).unwrap().len(), 1);
    // What is removed says what it was.
    let note = notes[0].subject_id.unwrap();
    store.change(user, site_id, |c| c.take_back(Subject::Note, site_id.number(), note, Some(at(0)))).unwrap();
    let last = &find(Asked::default())[0];
    assert_eq!((last.action.as_str(), last.words.as_str()), ("removed", "Heather bed mulched"));
    assert_eq!(last.zone_id, Some(zone));
}

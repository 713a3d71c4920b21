//! The store against a real PostgreSQL. `bin/test` starts one and sets `UPLAND_TEST_DATABASE_URL`.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, clippy::panic)]

use jiff::civil::{date, time};
use jiff::{SignedDuration, Timestamp, ToSpan};
use upland_core::application::HeadType;
use upland_core::plant::{PlantKind, Sky, Sun};
use upland_core::site::{Controller, Site, UnitSystem, WaterWindow, Zone};
use upland_core::soil::Texture;
use upland_core::units::*;
use upland_core::weather::DayWeather;
use upland_store::accounts::Role;
use upland_store::testing::TestDatabase;
use upland_store::weather::{Comparison, DraftState};
use upland_store::{Saved, Store};

fn site(name: &str) -> Site {
    Site {
        name: name.into(),
        latitude_deg: 46.21,
        longitude_deg: 8.1,
        elevation: Metres::from_m(1040.0),
        wind_height: Metres::from_m(2.0),
        time_zone: "Etc/GMT-2".into(),
        units: UnitSystem::Metric,
        controller: Controller { name: "Potting shed".into(), stations: 12, programs: 3, starts_per_program: 4 },
        window: WaterWindow { from: time(22, 0, 0, 0), until: time(6, 0, 0, 0) },
        supply: None,
    }
}

fn zone(number: u16) -> Zone {
    Zone {
        number,
        name: format!("Zone {number}"),
        plant: PlantKind::CoolSeasonTurf,
        own_coefficient: None,
        soil: Texture::Loam,
        slope_pct: Some(4.0),
        sun: Sun::Full,
        sky: Sky::Open,
        head: HeadType::Spray,
        precipitation_rate: None,
        uniformity: Some(0.62),
        root_depth: None,
        allowable_depletion: None,
        area: Some(SquareMetres::from_m2(120.0)),
    }
}

fn days(count: i64, tmax: f64) -> Vec<DayWeather> {
    (0..count)
        .map(|i| {
            let mut day = DayWeather::from_temperatures(
                date(1996, 7, 14) + i.days(),
                Celsius::from_c(8.5),
                Celsius::from_c(tmax),
            );
            day.rain = Some(Millimetres::from_mm(0.2));
            day
        })
        .collect()
}

struct World {
    store: Store,
    user: i64,
    site: i64,
    _database: TestDatabase,
}

fn world() -> World {
    let database = TestDatabase::create();
    let store = database.store();
    let user = store.create_user("isla", "Isla", "hash", Role::Owner).unwrap().unwrap().id;
    let site = store.create_site(&site("Larkrigg Botanic Slope"), &[zone(2), zone(1)], user).unwrap();
    World { store, user, site, _database: database }
}

#[test]
fn migrations_run_up_down_and_up() {
    let database = TestDatabase::create();
    let store = database.store();
    assert_eq!(store.migrate().unwrap(), Vec::<String>::new(), "a second run has nothing to do");
    store.revert_all().unwrap();
    assert!(store.sites().is_err(), "all is gone");
    assert_eq!(store.migrate().unwrap().len(), 3);
    assert_eq!(store.sites().unwrap(), []);
}

#[test]
fn a_site_and_its_zones_come_back_as_they_went_in() {
    let World { store, site: id, .. } = &world();
    let record = store.site(*id).unwrap().unwrap();
    assert_eq!((record.version, record.saved_by.as_str()), (1, "Isla"));
    assert_eq!(record.site, site("Larkrigg Botanic Slope"));
    let zones: Vec<_> = store.zones(*id).unwrap().into_iter().map(|r| r.zone).collect();
    assert_eq!(zones, [zone(1), zone(2)]);
}

#[test]
fn the_second_of_two_savers_sees_the_first() {
    let World { store, user, site, .. } = &world();
    let record = store.zones(*site).unwrap().remove(0);
    let mut first = record.zone.clone();
    first.name = "Upper lawn".into();
    let mut second = record.zone.clone();
    second.uniformity = Some(0.7);
    assert_eq!(store.save_zone(record.id, 1, &first, *user).unwrap(), Some(Saved::As(2)));
    let Some(Saved::Conflict(theirs)) = store.save_zone(record.id, 1, &second, *user).unwrap() else {
        panic!("the second save must not pass")
    };
    assert_eq!((theirs.version, theirs.zone), (2, first.clone()));
    assert_eq!(store.zone(record.id).unwrap().unwrap().zone, first, "nothing was lost");
    assert_eq!(store.save_zone(record.id, 2, &first, *user).unwrap(), Some(Saved::As(2)), "no change, no version");
    assert_eq!(store.save_zone(record.id, 2, &second, *user).unwrap(), Some(Saved::As(3)));
}

#[test]
fn two_threads_saving_at_once_make_one_version_and_one_conflict() {
    let World { store, user, site, .. } = &world();
    let record = store.zones(*site).unwrap().remove(0);
    let save = |name: &str| {
        let mut zone = record.zone.clone();
        zone.name = name.into();
        store.save_zone(record.id, 1, &zone, *user).unwrap().unwrap()
    };
    let outcomes = std::thread::scope(|scope| {
        let (a, b) = (scope.spawn(|| save("A")), scope.spawn(|| save("B")));
        [a.join().unwrap(), b.join().unwrap()]
    });
    assert_eq!(outcomes.iter().filter(|o| matches!(o, Saved::As(2))).count(), 1);
    assert_eq!(outcomes.iter().filter(|o| matches!(o, Saved::Conflict(_))).count(), 1);
}

#[test]
fn what_is_removed_can_be_brought_back() {
    let World { store, site, user, .. } = &world();
    let record = store.zones(*site).unwrap().remove(0);
    store.remove_zone(record.id, Timestamp::now()).unwrap();
    assert_eq!(store.zones(*site).unwrap().len(), 1);
    assert!(store.restore_zone(*site, record.id).unwrap());
    assert_eq!(store.zones(*site).unwrap()[0], record);
    assert_eq!(store.all_zone_names().unwrap().len(), 2);
    store.remove_zone(record.id, Timestamp::now()).unwrap();
    store.create_zone(*site, &zone(1), *user).unwrap();
    assert!(!store.restore_zone(*site, record.id).unwrap(), "its number is taken by now");
    assert_eq!(store.zones(*site).unwrap().len(), 2);
    store.set_site_removed(*site, Some(Timestamp::now())).unwrap();
    assert_eq!(store.site(*site).unwrap(), None);
    store.set_site_removed(*site, None).unwrap();
    assert!(store.site(*site).unwrap().is_some());
}

#[test]
fn an_import_repeats_without_doubling_and_undoes() {
    let World { store, user, site, .. } = &world();
    let import = |days: &[DayWeather]| store.import_weather(*site, *user, "larkrigg.csv", days, |_| Ok(())).unwrap();
    let first = days(1200, 20.0);
    assert_eq!(import(&first), Comparison { new: 1200, changed: 0, same: 0 });
    assert_eq!(store.weather(*site).unwrap(), first);
    assert_eq!(import(&first), Comparison { new: 0, changed: 0, same: 1200 });
    assert_eq!(store.imports(*site).unwrap().len(), 1, "a file that brings nothing makes no import");

    let mut corrected = days(1201, 20.0);
    corrected[3].temperature_max = Celsius::from_c(25.0);
    assert_eq!(import(&corrected), Comparison { new: 1, changed: 1, same: 1199 });
    assert_eq!(store.weather(*site).unwrap(), corrected);

    let newest = store.imports(*site).unwrap()[0].clone();
    let version = store.site(*site).unwrap().unwrap().weather_version;
    assert!(store.set_import_undone(*site, newest.id, Some(Timestamp::now())).unwrap());
    assert_eq!(store.weather(*site).unwrap(), first, "the earlier values are back");
    assert!(store.site(*site).unwrap().unwrap().weather_version > version);
    assert!(store.set_import_undone(*site, newest.id, None).unwrap());
    assert_eq!(store.weather(*site).unwrap(), corrected);
    assert!(!store.set_import_undone(*site + 1, newest.id, None).unwrap(), "not of another site");
}

#[test]
fn a_failing_import_leaves_the_record_as_it_was() {
    let World { store, user, site, .. } = &world();
    let mut bad = days(900, 20.0);
    // The database's own check refuses it in the second batch.
    bad[700].temperature_max = Celsius::from_c(-20.0);
    let now = Timestamp::now();
    let id = store.create_draft(*site, *user, "bad.csv", b"...", bad.len(), now).unwrap();
    assert!(store.start_draft(id).unwrap());
    assert!(!store.start_draft(id).unwrap(), "only one may take it in");
    let draft = store.draft(*site, id).unwrap().unwrap();
    assert!(store.run_draft(&draft, &bad).is_err());
    assert_eq!(store.weather(*site).unwrap(), []);
    assert_eq!(store.imports(*site).unwrap(), []);
    let draft = store.draft(*site, id).unwrap().unwrap();
    assert_eq!(draft.state, DraftState::Failed);
    assert!(draft.message.starts_with("Nothing was stored"));
}

#[test]
fn progress_is_seen_by_others_while_it_runs() {
    let World { store, user, site, .. } = &world();
    let id = store.create_draft(*site, *user, "x.csv", b"...", 1200, Timestamp::now()).unwrap();
    store.start_draft(id).unwrap();
    let draft = store.draft(*site, id).unwrap().unwrap();
    store.run_draft(&draft, &days(1200, 20.0)).unwrap();
    let draft = store.draft(*site, id).unwrap().unwrap();
    assert_eq!((draft.state, draft.days_done), (DraftState::Done, 1200));
}

#[test]
fn sessions_end_and_the_last_owner_stays() {
    let World { store, user, .. } = &world();
    let now = Timestamp::now();
    store.create_session(&[1; 32], *user, now, SignedDuration::from_hours(1)).unwrap();
    assert_eq!(store.session_user(&[1; 32], now).unwrap().unwrap().login, "isla");
    assert_eq!(store.session_user(&[1; 32], now + SignedDuration::from_hours(2)).unwrap(), None);
    assert_eq!(store.session_user(&[2; 32], now).unwrap(), None);
    store.end_session(&[1; 32]).unwrap();
    assert_eq!(store.session_user(&[1; 32], now).unwrap(), None);
    assert!(!store.set_role(*user, Role::Reader).unwrap());
    assert!(store.create_user("Isla", "Other", "hash", Role::Reader).unwrap().is_none(), "the name is taken");
    assert!(store.create_first_owner("bram", "Bram", "hash").unwrap().is_none(), "there is an owner already");
    assert_eq!(store.secret("cookie", || vec![1]).unwrap(), store.secret("cookie", || vec![2]).unwrap());
}

#[test]
fn a_site_keeps_its_versions_and_tells_conflicts() {
    let World { store, user, site: id, .. } = &world();
    let mut moved = site("Larkrigg Botanic Slope");
    moved.window.until = time(5, 30, 0, 0);
    assert_eq!(store.save_site(*id, 1, &moved, *user).unwrap(), Some(Saved::As(2)));
    let Some(Saved::Conflict(theirs)) = store.save_site(*id, 1, &site("Other name"), *user).unwrap() else {
        panic!("the second save must not pass")
    };
    assert_eq!((theirs.version, &theirs.site), (2, &moved));
    assert_eq!(store.site_version(*id, 1).unwrap().unwrap(), site("Larkrigg Botanic Slope"), "nothing is overwritten");
    assert_eq!(store.site_version(*id, 3).unwrap(), None);
    assert_eq!(store.save_site(*id + 1, 1, &moved, *user).unwrap(), None);
    let zone_id = store.zones(*id).unwrap()[0].id;
    assert_eq!(store.zone_version(zone_id, 1).unwrap().unwrap(), zone(1));
    assert_eq!(store.zone_version(zone_id, 2).unwrap(), None);
}

#[test]
fn a_site_that_cannot_be_stored_leaves_no_trace() {
    let World { store, user, .. } = &world();
    // The database's own check refuses the second zone; the site and the first go with it.
    let mut bad = zone(2);
    bad.number = 0;
    assert!(store.create_site(&site("Half a site"), &[zone(1), bad], *user).is_err());
    assert_eq!(store.sites().unwrap().len(), 1);
}

#[test]
fn drafts_belong_to_their_site_and_grow_old() {
    let World { store, user, site, .. } = &world();
    let other = store.create_site(&crate::site("Tarnside Allotments"), &[], *user).unwrap();
    let now = Timestamp::now();
    let id = store.create_draft(*site, *user, "a.csv", b"content", 3, now).unwrap();
    assert_eq!(store.draft_content(*site, id).unwrap().as_deref(), Some(&b"content"[..]));
    assert_eq!(store.draft(other, id).unwrap(), None);
    assert_eq!(store.draft_content(other, id).unwrap(), None);
    store.drop_draft(other, id).unwrap();
    assert!(store.draft(*site, id).unwrap().is_some(), "another site cannot drop it");
    let tomorrow = now + SignedDuration::from_hours(25);
    store.create_draft(*site, *user, "b.csv", b"content", 3, tomorrow).unwrap();
    assert_eq!(store.draft(*site, id).unwrap(), None, "nobody said yes for a day");
}

#[test]
fn sites_are_listed_by_name_and_zones_found_with_their_site() {
    let World { store, user, .. } = &world();
    store.create_site(&site("hollin green"), &[zone(4)], *user).unwrap();
    let names: Vec<_> = store.sites().unwrap().into_iter().map(|s| s.site.name).collect();
    assert_eq!(names, ["hollin green", "Larkrigg Botanic Slope"]);
    let found = store.all_zone_names().unwrap();
    let four = found.iter().find(|z| z.number == 4).unwrap();
    assert_eq!((four.site_name.as_str(), four.name.as_str()), ("hollin green", "Zone 4"));
    let gone = four.site_id;
    store.set_site_removed(gone, Some(Timestamp::now())).unwrap();
    assert!(store.all_zone_names().unwrap().iter().all(|z| z.site_id != gone), "a removed site is not found");
}

#[test]
fn roles_change_while_an_owner_remains() {
    let World { store, user, .. } = &world();
    let second = store.create_user("Bram", "Bram", "hash", Role::Technician).unwrap().unwrap();
    assert_eq!(second.login, "bram", "sign-in names are lower case");
    assert!(store.set_role(second.id, Role::Owner).unwrap());
    assert!(store.set_role(*user, Role::Reader).unwrap());
    assert!(!store.set_role(second.id, Role::Technician).unwrap(), "the last owner stays");
    let roles: Vec<_> = store.users().unwrap().into_iter().map(|u| (u.login, u.role)).collect();
    assert_eq!(roles, [("bram".to_owned(), Role::Owner), ("isla".to_owned(), Role::Reader)]);
    assert_eq!(store.credentials("BRAM").unwrap().unwrap().user.id, second.id);
    assert!(store.credentials("nobody").unwrap().is_none());
}

//! The store against a real PostgreSQL. `bin/test` starts one and sets `UPLAND_TEST_DATABASE_URL`.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, clippy::panic)]

mod weather;

use jiff::civil::{date, time};
use jiff::{SignedDuration, Timestamp, ToSpan};
use upland_core::controller::ordinance::{AllowedDays, Applied, HouseNumber, Law, Ordinance, Permit, Rule};
use upland_core::controller::schedule::{Settings, expand};
use upland_core::controller::twelve_stations;
use upland_core::controller::window::WaterWindow;
use upland_core::ground::application::HeadType;
use upland_core::ground::plant::{PlantKind, Sky, Sun};
use upland_core::ground::planting::Planting;
use upland_core::ground::soil::Texture;
use upland_core::quantity::units::*;
use upland_core::site::{Controller, Site, UnitSystem, Zone};
use upland_core::weather::DayWeather;
use upland_core::weather::record::RawDay;
use upland_formats::site_file::SiteFile;
use upland_store::accounts::Role;
use upland_store::settings::{NewSettings, SettingsKind};
use upland_store::testing::TestDatabase;
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
        window: WaterWindow { from: time(22, 0, 0, 0), until: time(6, 0, 0, 0) },
        supply: None,
    }
}

fn zone(number: u16) -> Zone {
    Zone {
        box_number: 1,
        number,
        name: format!("Zone {number}"),
        plant: PlantKind::CoolSeasonTurf,
        own_coefficient: None,
        planting: Planting::default(),
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

/// The same as they came.
fn raw(days: &[DayWeather]) -> Vec<RawDay> {
    days.iter().map(RawDay::from).collect()
}

fn days(count: i64, tmax: f64) -> Vec<DayWeather> {
    (0..count)
        .map(|i| {
            // A sensor that repeats itself for ten days would not count.
            let wave = (i % 3) as f64;
            let mut day = DayWeather::from_temperatures(
                date(1996, 7, 14) + i.days(),
                Celsius::from_c(8.5 + wave),
                Celsius::from_c(tmax + wave),
            );
            day.rain = Some(Millimetres::from_mm(0.2 + wave));
            day
        })
        .collect()
}

fn file(name: &str, zones: Vec<Zone>) -> SiteFile {
    let shed = Controller { number: 1, place: "Potting shed".into(), card: twelve_stations() };
    SiteFile {
        site: site(name),
        controllers: vec![(shed, None)],
        law: Law::default(),
        zones,
        sensors: Vec::new(),
        plan: Default::default(),
    }
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
    let site = store.create_site(&file("Larkrigg Botanic Slope", vec![zone(2), zone(1)]), user).unwrap();
    World { store, user, site, _database: database }
}

#[test]
fn migrations_run_up_down_and_up() {
    let database = TestDatabase::create();
    let store = database.store();
    assert_eq!(store.migrate().unwrap(), Vec::<String>::new(), "a second run has nothing to do");
    store.revert_all().unwrap();
    assert!(store.sites().is_err(), "all is gone");
    assert_eq!(store.migrate().unwrap().len(), 6);
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
    assert_eq!(
        store.save_zone(record.id, 2, &first, *user).unwrap(),
        Some(Saved::As(2)),
        "no change, no version"
    );
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
    assert_eq!(
        store.site_version(*id, 1).unwrap().unwrap(),
        site("Larkrigg Botanic Slope"),
        "nothing is overwritten"
    );
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
    assert!(store.create_site(&file("Half a site", vec![zone(1), bad]), *user).is_err());
    assert_eq!(store.sites().unwrap().len(), 1);
}

#[test]
fn sites_are_listed_by_name_and_zones_found_with_their_site() {
    let World { store, user, .. } = &world();
    store.create_site(&file("hollin green", vec![zone(4)]), *user).unwrap();
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

fn card_of(stations: u16) -> upland_core::controller::Card {
    upland_core::controller::Card { stations, ..twelve_stations() }
}

#[test]
fn settings_are_versions_that_come_back_as_they_were() {
    let World { store, user, site, _database } = &world();
    let id = store.controllers(*site).unwrap()[0].id;
    assert_eq!(store.settings(id).unwrap(), None);
    let mut found = Settings::clean(&twelve_stations());
    found.programs[0].active = true;
    found.programs[0].starts = vec![time(2, 0, 0, 0)];
    found.set_run_time_s(0, 1, 900);
    found.update_station(1, |s| s.cycle_and_soak_s = Some((360, 1800)));
    let save = |base, settings: &Settings, kind, reason| {
        store.save_settings(id, base, NewSettings { settings, kind, reason }, *user).unwrap().unwrap()
    };
    assert_eq!(save(0, &found, SettingsKind::AsFound, "first visit"), Saved::As(1));
    assert_eq!(
        save(1, &found, SettingsKind::Changed, "nothing"),
        Saved::As(1),
        "no version without a change"
    );
    let mut changed = found.clone();
    changed.set_run_time_s(0, 1, 600);
    assert_eq!(save(1, &changed, SettingsKind::Changed, "a third less"), Saved::As(2));
    let Saved::Conflict(theirs) = save(1, &found, SettingsKind::Changed, "late") else {
        panic!("no conflict")
    };
    assert_eq!((theirs.version, theirs.settings.run_time_s(0, 1)), (2, 600));

    // Restoring a version gives identical runs.
    let old = store.settings_version(id, 1).unwrap().unwrap();
    assert_eq!(
        (old.kind, old.reason.as_str(), old.saved_by.as_str()),
        (SettingsKind::AsFound, "first visit", "Isla")
    );
    assert_eq!(save(2, &old.settings, SettingsKind::Restored, "back"), Saved::As(3));
    let runs = |s: &Settings| {
        expand(s, &twelve_stations(), &jiff::tz::TimeZone::UTC, date(2026, 7, 1), date(2026, 7, 31))
    };
    assert_eq!(runs(&store.settings(id).unwrap().unwrap().settings), runs(&found));
    let history: Vec<_> = store.settings_history(id).unwrap().iter().map(|v| v.version).collect();
    assert_eq!(history, [3, 2, 1]);
    assert_eq!(store.settings_of_site(*site).unwrap()[&id].version, 3);

    store.set_fallback(id, Some(1)).unwrap();
    assert_eq!(store.controllers(*site).unwrap()[0].fallback_version, Some(1));
    assert!(store.set_fallback(id, Some(9)).is_err(), "a version that is not there");
}

#[test]
fn boxes_have_numbers_of_their_own_and_a_calendar_each() {
    let World { store, user, site, _database } = &world();
    let hose = Controller { number: 0, place: "Hose".into(), card: card_of(1) };
    let (id, number) = store.create_controller(*site, &hose, *user).unwrap();
    assert_eq!(number, 2);
    let boxes = store.controllers(*site).unwrap();
    assert_eq!(
        boxes.iter().map(|b| b.controller.place.as_str()).collect::<Vec<_>>(),
        ["Potting shed", "Hose"]
    );
    let token = boxes[1].calendar_token.clone();
    assert_eq!(store.controller_of_calendar(&token).unwrap().unwrap().id, id);
    store.renew_calendar(id).unwrap();
    assert_eq!(store.controller_of_calendar(&token).unwrap(), None);

    let moved = Controller { number: 2, place: "Compost yard".into(), card: card_of(2) };
    assert_eq!(store.save_controller(id, 1, &moved, *user).unwrap(), Some(Saved::As(2)));
    assert_eq!(store.controller_version(id, 1).unwrap().unwrap().card.stations, 1);
    assert!(matches!(store.save_controller(id, 1, &hose, *user).unwrap(), Some(Saved::Conflict(_))));
    store.remove_controller(id, Timestamp::now()).unwrap();
    let (_, again) = store.create_controller(*site, &hose, *user).unwrap();
    assert_eq!(again, 2, "its number is free");
    assert!(!store.restore_controller(*site, id).unwrap(), "and now it is not");
}

#[test]
fn the_library_keeps_versions_and_sites_keep_to_its_ordinances() {
    let World { store, user, site, _database } = &world();
    let mut card = card_of(9);
    let id = store.create_library_entry(&card, *user).unwrap();
    card.stations = 10;
    assert_eq!(store.save_library_entry(id, 1, &card, *user).unwrap(), Some(Saved::As(2)));
    assert_eq!(store.library_version::<upland_core::controller::Card>(id, 1).unwrap().unwrap().stations, 9);
    assert_eq!(store.library_entry::<Ordinance>(id).unwrap(), None, "a card is no ordinance");

    let ordinance = Ordinance {
        name: "Larkrigg summer watering".into(),
        rules: vec![Rule {
            season: None,
            days: AllowedDays::OddDates,
            forbidden_hours: Vec::new(),
            most_days_a_week: None,
        }],
        exempts_drip: true,
        exempts_new_planting: true,
    };
    let law = store.create_library_entry(&ordinance, *user).unwrap();
    let permit = Permit { box_number: 1, station: 2, until: date(2026, 9, 30), reference: "P 12".into() };
    assert!(
        store
            .apply_ordinance(
                (*site, law),
                None,
                (HouseNumber::Even, std::slice::from_ref(&permit), false),
                *user
            )
            .unwrap()
    );
    let held = store.ordinances(*site).unwrap();
    assert_eq!((held[0].applied.house, &held[0].applied.permits[0]), (HouseNumber::Even, &permit));
    assert!(
        !store.apply_ordinance((*site, law), None, (HouseNumber::Odd, &[], false), *user).unwrap(),
        "somebody was faster"
    );
    assert_eq!(store.sites_of_ordinance(law).unwrap(), ["Larkrigg Botanic Slope"]);
    store.set_library_entry_removed(law, Some(Timestamp::now())).unwrap();
    assert_eq!(store.library::<Ordinance>().unwrap(), []);
    assert_eq!(store.ordinances(*site).unwrap().len(), 1, "it still holds where it was applied");
    assert!(
        store.apply_ordinance((*site, law), Some(held[0].id), (HouseNumber::Even, &[], true), *user).unwrap()
    );
    assert_eq!(store.ordinances(*site).unwrap(), []);
}

#[test]
fn a_site_file_brings_boxes_settings_and_law() {
    let World { store, user, .. } = &world();
    let mut whole = file("Quarryfoot Pavilion Ground", vec![zone(1)]);
    whole.controllers[0].1 = Some(Settings::clean(&twelve_stations()));
    let ordinance = Ordinance {
        name: "Larkrigg".into(),
        rules: vec![Rule {
            season: None,
            days: AllowedDays::EvenDates,
            forbidden_hours: Vec::new(),
            most_days_a_week: None,
        }],
        exempts_drip: false,
        exempts_new_planting: false,
    };
    whole.law = Law { applied: vec![Applied { ordinance, house: HouseNumber::Odd, permits: Vec::new() }] };
    let first = store.create_site(&whole, *user).unwrap();
    whole.site.name = "Tarnside Allotments".into();
    store.create_site(&whole, *user).unwrap();
    assert_eq!(store.library::<Ordinance>().unwrap().len(), 1, "the same ordinance is not written twice");
    let id = store.controllers(first).unwrap()[0].id;
    assert_eq!(store.settings(id).unwrap().unwrap().kind, SettingsKind::AsFound);
}

#[test]
fn of_many_who_save_at_once_one_is_first_and_nobody_is_lost() {
    let World { store, user, site, _database } = &world();
    let id = store.controllers(*site).unwrap()[0].id;
    let clean = Settings::clean(&twelve_stations());
    let new = NewSettings { settings: &clean, kind: SettingsKind::AsFound, reason: "first visit" };
    store.save_settings(id, 0, new, *user).unwrap();
    let outcomes: Vec<_> = std::thread::scope(|scope| {
        let savers: Vec<_> = (1..=6u16)
            .map(|n| {
                let mut mine = clean.clone();
                mine.set_run_time_s(0, n, 600);
                scope.spawn(move || {
                    let new = NewSettings { settings: &mine, kind: SettingsKind::Changed, reason: "at once" };
                    store.save_settings(id, 1, new, *user).unwrap().unwrap()
                })
            })
            .collect();
        savers.into_iter().map(|s| s.join().unwrap()).collect()
    });
    let first = outcomes.iter().filter(|o| matches!(o, Saved::As(2))).count();
    let told =
        outcomes.iter().filter(|o| matches!(o, Saved::Conflict(theirs) if theirs.version == 2)).count();
    assert_eq!((first, told), (1, 5));
    assert_eq!(store.settings_history(id).unwrap().len(), 2);
}

#[test]
fn boxes_hung_at_once_get_numbers_of_their_own() {
    let World { store, user, site, _database } = &world();
    let hose = Controller { number: 0, place: "Hose".into(), card: card_of(1) };
    let mut numbers: Vec<u8> = std::thread::scope(|scope| {
        let all: Vec<_> =
            (0..5).map(|_| scope.spawn(|| store.create_controller(*site, &hose, *user).unwrap().1)).collect();
        all.into_iter().map(|t| t.join().unwrap()).collect()
    });
    numbers.sort_unstable();
    assert_eq!(numbers, [2, 3, 4, 5, 6]);
}

#[test]
fn a_zone_of_another_box_may_have_the_same_station() {
    let World { store, user, site, _database } = &world();
    let hose = Controller { number: 0, place: "Hose".into(), card: card_of(1) };
    store.create_controller(*site, &hose, *user).unwrap();
    let elsewhere = Zone { box_number: 2, ..zone(1) };
    let id = store.create_zone(*site, &elsewhere, *user).unwrap();
    store.remove_zone(id, Timestamp::now()).unwrap();
    assert!(store.restore_zone(*site, id).unwrap(), "station 1 of another box is another station");
    let order: Vec<_> =
        store.zones(*site).unwrap().iter().map(|z| (z.zone.box_number, z.zone.number)).collect();
    assert_eq!(order, [(1, 1), (1, 2), (2, 1)]);
}

#[test]
fn a_removed_site_closes_the_calendars_of_its_boxes() {
    let World { store, site, .. } = &world();
    let token = store.controllers(*site).unwrap()[0].calendar_token.clone();
    assert_eq!(token.len(), 48, "twenty-four random bytes");
    store.set_site_removed(*site, Some(Timestamp::now())).unwrap();
    assert_eq!(store.controller_of_calendar(&token).unwrap(), None);
    store.set_site_removed(*site, None).unwrap();
    assert!(store.controller_of_calendar(&token).unwrap().is_some());
}

mod sensors;

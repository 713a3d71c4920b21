//! The store against a real PostgreSQL. `bin/test` starts one and sets `UPLAND_TEST_DATABASE_URL`.
#![allow(
    clippy::disallowed_methods,
    clippy::expect_used,
    clippy::unwrap_used,
    clippy::indexing_slicing,
    clippy::panic
)]

mod background;
mod change;
mod owner_links;
mod people;
mod phone;
mod rounds;
mod searches;
mod services;
mod visits;
mod weather;

use jiff::civil::{Date, date, time};
use jiff::{SignedDuration, Timestamp, ToSpan};
use upland_core::controller::ordinance::{AllowedDays, Applied, HouseNumber, Law, Ordinance, Permit, Rule};
use upland_core::controller::schedule::{Settings, expand};
use upland_core::controller::twelve_stations;
use upland_core::ground::application::HeadType;
use upland_core::ground::plant::{PlantKind, Sky, Sun};
use upland_core::ground::planting::Planting;
use upland_core::ground::soil::Texture;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::time::Hours;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::*;
use upland_core::site::windows::WaterWindows;
use upland_core::site::{Controller, Site, UnitSystem, Zone, ZoneSince};
use upland_core::weather::DayWeather;
use upland_core::weather::record::RawDay;
use upland_formats::site_file::SiteFile;
use upland_store::accounts::{Role, RoleChange};
use upland_store::scope::{Scope, SiteKey};
use upland_store::settings::{NewSettings, SettingsKind};
use upland_store::testing::TestDatabase;
use upland_store::{Change, Saved, Store, StoreError, Subject};

fn site(name: &str) -> Site {
    Site {
        name: name.into(),
        latitude_deg: 46.21,
        longitude_deg: 8.1,
        elevation: Metres::from_m(1040.0),
        wind_height: Metres::from_m(2.0),
        time_zone: "Etc/GMT-2".into(),
        units: UnitSystem::Metric,
        windows: WaterWindows::only(Hours { from: time(22, 0, 0, 0), until: time(6, 0, 0, 0) }),
        supply: None,
        drizzle: Default::default(),
        card: Default::default(),
    }
}

fn zone(number: u16) -> Zone {
    Zone {
        controller_number: 1,
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
        uniformity: Some(Share::from_fraction(0.62)),
        root_depth: None,
        allowable_depletion: None,
        area: Some(SquareMetres::from_m2(120.0)),
        window: Some(Hours { from: time(4, 0, 0, 0), until: time(5, 30, 0, 0) }),
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
        earlier_zones: Vec::new(),
        sensors: Vec::new(),
        histories: Vec::new(),
        plan: Default::default(),
    }
}

/// The day on which the sensors of a file were installed.
const TODAY: Date = date(2026, 7, 14);

/// A change of a site that is there.
fn done<T>(
    store: &Store,
    user: i64,
    site: SiteKey,
    work: impl FnOnce(&mut Change<'_>) -> upland_store::Result<T>,
) -> upland_store::Result<T> {
    Ok(store.change(user, site, work)?.expect("the site is there"))
}

/// Another site than this one, which is not there.
fn beside(site: SiteKey) -> SiteKey {
    Scope::program().site(site.number() + 1).unwrap()
}

struct World {
    store: Store,
    user: i64,
    site: SiteKey,
    database: TestDatabase,
}

fn world() -> World {
    let database = TestDatabase::create();
    let store = database.store();
    let user = store.create_user("isla", "Isla", "hash", Role::Owner, None).unwrap().unwrap().id;
    let site =
        store.create_site(&file("Larkrigg Botanic Slope", vec![zone(2), zone(1)]), TODAY, user).unwrap();
    World { store, user, site, database }
}

#[test]
fn migrations_run_up_down_and_up() {
    let database = TestDatabase::empty();
    let store = database.store();
    assert_eq!(store.migrate().unwrap(), Vec::<String>::new(), "a second run has nothing to do");
    store.revert_all().unwrap();
    assert!(store.read(|s| s.sites(&Scope::program())).is_err(), "all is gone");
    let folders = std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/migrations")).unwrap();
    assert_eq!(store.migrate().unwrap().len(), folders.count(), "every one of them");
    assert_eq!(store.read(|s| s.sites(&Scope::program())).unwrap(), []);
}

#[test]
fn a_site_and_its_zones_come_back_as_they_went_in() {
    let World { store, site: id, .. } = &world();
    let record = store.read(|s| s.site(*id)).unwrap().unwrap();
    assert_eq!((record.version, record.saved_by.as_str()), (1, "Isla"));
    assert_eq!(record.site, site("Larkrigg Botanic Slope"));
    let zones: Vec<_> = store.read(|s| s.zones(*id)).unwrap().into_iter().map(|r| r.zone).collect();
    assert_eq!(zones, [zone(1), zone(2)]);
}

#[test]
fn the_second_of_two_savers_sees_the_first() {
    let World { store, user, site, .. } = &world();
    let record = store.read(|s| s.zones(*site)).unwrap().remove(0);
    let mut first = record.zone.clone();
    first.name = "Upper lawn".into();
    let mut second = record.zone.clone();
    second.uniformity = Some(Share::from_fraction(0.7));
    assert_eq!(
        done(store, *user, *site, |c| c.save_zone(record.id, 1, &first, ZoneSince::Always)).unwrap(),
        Some(Saved::As(2))
    );
    let Some(Saved::Conflict(theirs)) =
        done(store, *user, *site, |c| c.save_zone(record.id, 1, &second, ZoneSince::Always)).unwrap()
    else {
        panic!("the second save must not pass")
    };
    assert_eq!((theirs.version, theirs.zone), (2, first.clone()));
    assert_eq!(store.read(|s| s.zone(record.id)).unwrap().unwrap().zone, first, "nothing was lost");
    assert_eq!(
        done(store, *user, *site, |c| c.save_zone(record.id, 2, &first, ZoneSince::Always)).unwrap(),
        Some(Saved::Unchanged(2)),
        "no change, no version"
    );
    assert_eq!(
        done(store, *user, *site, |c| c.save_zone(record.id, 2, &second, ZoneSince::Always)).unwrap(),
        Some(Saved::As(3))
    );
}

#[test]
fn two_threads_saving_at_once_make_one_version_and_one_conflict() {
    let World { store, user, site, .. } = &world();
    let record = store.read(|s| s.zones(*site)).unwrap().remove(0);
    let save = |name: &str| {
        let mut zone = record.zone.clone();
        zone.name = name.into();
        done(store, *user, *site, |c| c.save_zone(record.id, 1, &zone, ZoneSince::Always)).unwrap().unwrap()
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
    let record = store.read(|s| s.zones(*site)).unwrap().remove(0);
    done(store, *user, *site, |c| {
        c.take_back(Subject::Zone, site.number(), record.id, Some(Timestamp::now()))
    })
    .unwrap();
    assert_eq!(store.read(|s| s.zones(*site)).unwrap().len(), 1);
    assert!(
        done(store, *user, *site, |c| c.take_back(Subject::Zone, site.number(), record.id, None)).unwrap()
    );
    assert_eq!(store.read(|s| s.zones(*site)).unwrap()[0], record);
    assert_eq!(store.read(|s| s.all_zone_names(&Scope::program())).unwrap().len(), 2);
    done(store, *user, *site, |c| {
        c.take_back(Subject::Zone, site.number(), record.id, Some(Timestamp::now()))
    })
    .unwrap();
    done(store, *user, *site, |c| c.create_zone(&zone(1))).unwrap();
    let back = done(store, *user, *site, |c| c.take_back(Subject::Zone, site.number(), record.id, None));
    assert!(matches!(back, Err(StoreError::Taken(_))), "its number is taken by now: {back:?}");
    assert_eq!(store.read(|s| s.zones(*site)).unwrap().len(), 2);
    store.set_site_removed(*user, *site, Some(Timestamp::now())).unwrap();
    assert_eq!(store.read(|s| s.site(*site)).unwrap(), None);
    store.set_site_removed(*user, *site, None).unwrap();
    assert!(store.read(|s| s.site(*site)).unwrap().is_some());
}

#[test]
fn sessions_end_and_the_last_owner_stays() {
    let World { store, user, site, .. } = &world();
    let login = |token: &[u8]| store.asked(token, None).unwrap().map(|asked| asked.user.login);
    store.create_session(&[1; 32], *user, SignedDuration::from_hours(1)).unwrap();
    store.create_session(&[3; 32], *user, SignedDuration::from_hours(-1)).unwrap();
    assert_eq!(login(&[1; 32]).as_deref(), Some("isla"));
    assert_eq!((login(&[3; 32]), login(&[2; 32])), (None, None), "ended, and unknown");
    let asked = store.asked(&[1; 32], Some(site.number())).unwrap().unwrap();
    let stamp = asked.site.unwrap();
    assert_eq!((stamp.id, stamp.readings, stamp.last_reading, asked.clock_ahead), (*site, 0, None, None));
    assert_eq!(store.asked(&[1; 32], Some(site.number() + 1)).unwrap().unwrap().site, None);
    store.end_session(&[1; 32]).unwrap();
    assert_eq!(login(&[1; 32]), None);
    assert_eq!(store.set_role(*user, Role::Reader, *user).unwrap(), RoleChange::LastOwner);
    assert!(
        store.create_user("Isla", "Other", "hash", Role::Reader, None).unwrap().is_none(),
        "the name is taken"
    );
    assert!(store.create_first_owner("bram", "Bram", "hash").unwrap().is_none(), "there is an owner already");
    assert_eq!(store.secret("cookie", || vec![1]).unwrap(), store.secret("cookie", || vec![2]).unwrap());
}

#[test]
fn a_site_keeps_its_versions_and_tells_conflicts() {
    let World { store, user, site: id, .. } = &world();
    let mut moved = site("Larkrigg Botanic Slope");
    moved.windows.main.until = time(5, 30, 0, 0);
    moved.windows.second = Some(Hours { from: time(12, 0, 0, 0), until: time(14, 0, 0, 0) });
    moved.windows.grow_in = Some(Hours { from: time(23, 0, 0, 0), until: time(16, 0, 0, 0) });
    assert_eq!(done(store, *user, *id, |c| c.save_site(1, &moved)).unwrap(), Some(Saved::As(2)));
    let Some(Saved::Conflict(theirs)) =
        done(store, *user, *id, |c| c.save_site(1, &site("Other name"))).unwrap()
    else {
        panic!("the second save must not pass")
    };
    assert_eq!((theirs.version, &theirs.site), (2, &moved));
    assert_eq!(
        store.read(|s| s.site_version(*id, 1)).unwrap().unwrap(),
        site("Larkrigg Botanic Slope"),
        "nothing is overwritten"
    );
    assert_eq!(store.read(|s| s.site_version(*id, 3)).unwrap(), None);
    assert_eq!(store.change(*user, beside(*id), |c| c.save_site(1, &moved)).unwrap(), None);
    let zone_id = store.read(|s| s.zones(*id)).unwrap()[0].id;
    assert_eq!(store.read(|s| s.zone_version(zone_id, 1)).unwrap().unwrap(), zone(1));
    assert_eq!(store.read(|s| s.zone_version(zone_id, 2)).unwrap(), None);
}

#[test]
fn a_site_that_cannot_be_stored_leaves_no_trace() {
    let World { store, user, .. } = &world();
    // The database's own check refuses the second zone; the site and the first go with it.
    let mut bad = zone(2);
    bad.number = 0;
    assert!(store.create_site(&file("Half a site", vec![zone(1), bad]), TODAY, *user).is_err());
    assert_eq!(store.read(|s| s.sites(&Scope::program())).unwrap().len(), 1);
}

#[test]
fn sites_are_listed_by_name_and_zones_found_with_their_site() {
    let World { store, user, .. } = &world();
    store.create_site(&file("hollin green", vec![zone(4)]), TODAY, *user).unwrap();
    let names: Vec<_> =
        store.read(|s| s.sites(&Scope::program())).unwrap().into_iter().map(|s| s.site.name).collect();
    assert_eq!(names, ["hollin green", "Larkrigg Botanic Slope"]);
    let found = store.read(|s| s.all_zone_names(&Scope::program())).unwrap();
    let four = found.iter().find(|z| z.number == 4).unwrap();
    assert_eq!((four.site_name.as_str(), four.name.as_str()), ("hollin green", "Zone 4"));
    let gone = four.site_id;
    store.set_site_removed(*user, gone, Some(Timestamp::now())).unwrap();
    assert!(
        store.read(|s| s.all_zone_names(&Scope::program())).unwrap().iter().all(|z| z.site_id != gone),
        "a removed site is not found"
    );
}

#[test]
fn roles_change_while_an_owner_remains() {
    let World { store, user, .. } = &world();
    let second = store.create_user("Bram", "Bram", "hash", Role::Technician, None).unwrap().unwrap();
    assert_eq!(second.login, "bram", "sign-in names are lower case");
    let set = |id, role| store.set_role(id, role, *user).unwrap();
    assert_eq!(set(second.id, Role::Owner), RoleChange::Done);
    assert_eq!(set(second.id, Role::Owner), RoleChange::Unchanged);
    assert_eq!(set(*user, Role::Reader), RoleChange::Done);
    assert_eq!(set(second.id, Role::Technician), RoleChange::LastOwner, "the last owner stays");
    assert_eq!(set(second.id + 1, Role::Reader), RoleChange::NoSuchAccount);
    let roles: Vec<_> = store.read(|s| s.users()).unwrap().into_iter().map(|u| (u.login, u.role)).collect();
    assert_eq!(roles, [("bram".to_owned(), Role::Owner), ("isla".to_owned(), Role::Reader)]);
    assert_eq!(store.credentials("BRAM").unwrap().unwrap().user.id, second.id);
    assert!(store.credentials("nobody").unwrap().is_none());
}

fn card_of(stations: u16) -> upland_core::controller::Card {
    upland_core::controller::Card { stations, ..twelve_stations() }
}

#[test]
fn settings_are_versions_that_come_back_as_they_were() {
    let World { store, user, site, .. } = &world();
    let id = store.read(|s| s.controllers(*site)).unwrap()[0].id;
    assert_eq!(store.read(|s| s.settings(id)).unwrap(), None);
    let mut found = Settings::clean(&twelve_stations());
    found.programs[0].active = true;
    found.programs[0].starts = vec![time(2, 0, 0, 0)];
    found.set_run_time(0, 1, Seconds::from_s(900));
    found.update_station(1, |s| s.cycle_and_soak = Some((Seconds::from_s(360), Seconds::from_s(1800))));
    let save = |base, settings: &Settings, kind, reason| {
        done(store, *user, *site, |c| c.save_settings(id, base, NewSettings { settings, kind, reason }))
            .unwrap()
            .unwrap()
    };
    assert_eq!(save(0, &found, SettingsKind::AsFound, "first visit"), Saved::As(1));
    assert_eq!(
        save(1, &found, SettingsKind::Changed, "nothing"),
        Saved::Unchanged(1),
        "no version without a change"
    );
    let mut changed = found.clone();
    changed.set_run_time(0, 1, Seconds::from_s(600));
    assert_eq!(save(1, &changed, SettingsKind::Changed, "a third less"), Saved::As(2));
    let Saved::Conflict(theirs) = save(1, &found, SettingsKind::Changed, "late") else {
        panic!("no conflict")
    };
    assert_eq!((theirs.version, theirs.settings.run_time(0, 1)), (2, Seconds::from_min(10)));

    // Restoring a version gives identical runs.
    let old = store.read(|s| s.settings_version(id, 1)).unwrap().unwrap();
    assert_eq!(
        (old.kind, old.reason.as_str(), old.saved_by.as_str()),
        (SettingsKind::AsFound, "first visit", "Isla")
    );
    assert_eq!(save(2, &old.settings, SettingsKind::Restored, "back"), Saved::As(3));
    let runs = |s: &Settings| {
        expand(s, &twelve_stations(), &jiff::tz::TimeZone::UTC, date(2026, 7, 1), date(2026, 7, 31))
    };
    assert_eq!(runs(&store.read(|s| s.settings(id)).unwrap().unwrap().settings), runs(&found));
    let history: Vec<_> = store.read(|s| s.settings_history(id)).unwrap().iter().map(|v| v.version).collect();
    assert_eq!(history, [3, 2, 1]);
    assert_eq!(store.read(|s| s.settings_of_site(*site)).unwrap()[&id].version, 3);

    done(store, *user, *site, |c| c.set_fallback(id, Some(1))).unwrap();
    assert_eq!(store.read(|s| s.controllers(*site)).unwrap()[0].fallback_version, Some(1));
    let missing = done(store, *user, *site, |c| c.set_fallback(id, Some(9))).unwrap();
    assert!(!missing, "a version that is not there");
}

#[test]
fn controllers_have_numbers_of_their_own_and_a_calendar_each() {
    let World { store, user, site, .. } = &world();
    let hose = Controller { number: 0, place: "Hose".into(), card: card_of(1) };
    let (id, number) = done(store, *user, *site, |c| c.create_controller(&hose)).unwrap();
    assert_eq!(number, 2);
    let controllers = store.read(|s| s.controllers(*site)).unwrap();
    assert_eq!(
        controllers.iter().map(|b| b.controller.place.as_str()).collect::<Vec<_>>(),
        ["Potting shed", "Hose"]
    );
    assert_eq!(controllers[1].calendar_made_at, None, "none before somebody asks for it");
    let opens = |hash: &[u8]| store.read(|s| s.controller_of_calendar(hash)).unwrap().map(|c| c.id);
    assert!(done(store, *user, *site, |c| c.renew_calendar(id, b"first")).unwrap());
    assert_eq!(opens(b"first"), Some(id));
    assert!(done(store, *user, *site, |c| c.renew_calendar(id, b"second")).unwrap());
    assert_eq!((opens(b"first"), opens(b"second")), (None, Some(id)));

    let moved = Controller { number: 2, place: "Compost yard".into(), card: card_of(2) };
    assert_eq!(done(store, *user, *site, |c| c.save_controller(id, 1, &moved)).unwrap(), Some(Saved::As(2)));
    assert_eq!(store.read(|s| s.controller_version(id, 1)).unwrap().unwrap().card.stations, 1);
    assert!(matches!(
        done(store, *user, *site, |c| c.save_controller(id, 1, &hose)).unwrap(),
        Some(Saved::Conflict(_))
    ));
    done(store, *user, *site, |c| {
        c.take_back(Subject::Controller, site.number(), id, Some(Timestamp::now()))
    })
    .unwrap();
    let (_, again) = done(store, *user, *site, |c| c.create_controller(&hose)).unwrap();
    assert_eq!(again, 2, "its number is free");
    let back = done(store, *user, *site, |c| c.take_back(Subject::Controller, site.number(), id, None));
    assert!(matches!(back, Err(StoreError::Taken(_))), "and now it is not: {back:?}");
}

// Long: one life of an ordinance, from its first version to its last site.
#[test]
fn the_library_keeps_versions_and_sites_keep_to_its_ordinances() {
    let World { store, user, site, .. } = &world();
    let mut card = card_of(9);
    let id = store.create_library_entry(&card, *user).unwrap();
    card.stations = 10;
    assert_eq!(store.save_library_entry(id, 1, &card, *user).unwrap(), Some(Saved::As(2)));
    assert_eq!(
        store.read(|s| s.library_version::<upland_core::controller::Card>(id, 1)).unwrap().unwrap().stations,
        9
    );
    assert_eq!(
        store.read(|s| s.library_entry::<Ordinance>(id)).unwrap(),
        None,
        "a controller type is no ordinance"
    );

    let ordinance = Ordinance {
        name: "Larkrigg summer watering".into(),
        rules: vec![Rule {
            season: None,
            days: AllowedDays::OddDates,
            forbidden_hours: Vec::new(),
            most_days_a_week: None,
            most_minutes_a_day: None,
            after_rain: None,
        }],
        exempt_heads: vec![HeadType::Drip],
        hours_bind_exempt_heads: false,
        exempts_new_planting: true,
    };
    let law = store.create_library_entry(&ordinance, *user).unwrap();
    let permit = Permit {
        controller_number: 1,
        station: 2,
        from: Some(date(2026, 3, 1)),
        until: date(2026, 9, 30),
        reference: "P 12".into(),
    };
    assert!(
        done(store, *user, *site, |c| c.apply_ordinance(
            law,
            None,
            HouseNumber::Even,
            std::slice::from_ref(&permit),
            false
        ))
        .unwrap()
    );
    let held = store.read(|s| s.ordinances(*site)).unwrap();
    assert_eq!((held[0].applied.house, &held[0].applied.permits[0]), (HouseNumber::Even, &permit));
    assert!(
        !done(store, *user, *site, |c| c.apply_ordinance(law, None, HouseNumber::Odd, &[], false)).unwrap(),
        "somebody was faster"
    );
    assert_eq!(
        store.read(|s| s.sites_of_ordinance(&Scope::program(), law)).unwrap(),
        ["Larkrigg Botanic Slope"]
    );
    let remove = Some(Timestamp::now());
    let as_card = store.set_library_entry_removed::<upland_core::controller::Card>(law, remove, *user);
    assert!(!as_card.unwrap(), "an ordinance is no controller type");
    assert!(store.set_library_entry_removed::<Ordinance>(law, remove, *user).unwrap());
    assert_eq!(store.read(|s| s.library::<Ordinance>()).unwrap(), []);
    assert_eq!(store.read(|s| s.ordinances(*site)).unwrap().len(), 1, "it still holds where it was applied");
    assert!(
        done(store, *user, *site, |c| c.apply_ordinance(law, Some(held[0].id), HouseNumber::Even, &[], true))
            .unwrap()
    );
    assert_eq!(store.read(|s| s.ordinances(*site)).unwrap(), []);
}

#[test]
fn a_site_file_brings_controllers_settings_and_law() {
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
            most_minutes_a_day: None,
            after_rain: None,
        }],
        exempt_heads: Vec::new(),
        hours_bind_exempt_heads: false,
        exempts_new_planting: false,
    };
    whole.law = Law { applied: vec![Applied { ordinance, house: HouseNumber::Odd, permits: Vec::new() }] };
    let first = store.create_site(&whole, TODAY, *user).unwrap();
    whole.site.name = "Tarnside Allotments".into();
    store.create_site(&whole, TODAY, *user).unwrap();
    assert_eq!(
        store.read(|s| s.library::<Ordinance>()).unwrap().len(),
        1,
        "the same ordinance is not written twice"
    );
    let id = store.read(|s| s.controllers(first)).unwrap()[0].id;
    assert_eq!(store.read(|s| s.settings(id)).unwrap().unwrap().kind, SettingsKind::AsFound);
}

#[test]
fn of_many_who_save_at_once_one_is_first_and_nobody_is_lost() {
    let World { store, user, site, .. } = &world();
    let id = store.read(|s| s.controllers(*site)).unwrap()[0].id;
    let clean = Settings::clean(&twelve_stations());
    let new = NewSettings { settings: &clean, kind: SettingsKind::AsFound, reason: "first visit" };
    done(store, *user, *site, |c| c.save_settings(id, 0, new)).unwrap();
    let outcomes: Vec<_> = std::thread::scope(|scope| {
        let savers: Vec<_> = (1..=6u16)
            .map(|n| {
                let mut mine = clean.clone();
                mine.set_run_time(0, n, Seconds::from_s(600));
                scope.spawn(move || {
                    let new = NewSettings { settings: &mine, kind: SettingsKind::Changed, reason: "at once" };
                    done(store, *user, *site, |c| c.save_settings(id, 1, new)).unwrap().unwrap()
                })
            })
            .collect();
        savers.into_iter().map(|s| s.join().unwrap()).collect()
    });
    let first = outcomes.iter().filter(|o| matches!(o, Saved::As(2))).count();
    let told =
        outcomes.iter().filter(|o| matches!(o, Saved::Conflict(theirs) if theirs.version == 2)).count();
    assert_eq!((first, told), (1, 5));
    assert_eq!(store.read(|s| s.settings_history(id)).unwrap().len(), 2);
}

#[test]
fn controllers_hung_at_once_get_numbers_of_their_own() {
    let World { store, user, site, .. } = &world();
    let hose = Controller { number: 0, place: "Hose".into(), card: card_of(1) };
    let mut numbers: Vec<u8> = std::thread::scope(|scope| {
        let all: Vec<_> = (0..5)
            .map(|_| scope.spawn(|| done(store, *user, *site, |c| c.create_controller(&hose)).unwrap().1))
            .collect();
        all.into_iter().map(|t| t.join().unwrap()).collect()
    });
    numbers.sort_unstable();
    assert_eq!(numbers, [2, 3, 4, 5, 6]);
}

#[test]
fn a_removed_site_closes_the_calendars_of_its_controllers() {
    let World { store, site, user, .. } = &world();
    let id = store.read(|s| s.controllers(*site)).unwrap()[0].id;
    assert!(done(store, *user, *site, |c| c.renew_calendar(id, b"hash")).unwrap());
    store.set_site_removed(*user, *site, Some(Timestamp::now())).unwrap();
    assert_eq!(store.read(|s| s.controller_of_calendar(b"hash")).unwrap(), None);
    store.set_site_removed(*user, *site, None).unwrap();
    assert!(store.read(|s| s.controller_of_calendar(b"hash")).unwrap().is_some());
}

mod sensors;

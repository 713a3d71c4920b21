//! People: tries to sign in, sessions, links, second factors, what each sees, and drafts that are nobody else's.

use super::{TODAY, World, beside, card_of, done, file, world, zone};
use diesel::{Connection, PgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use upland_core::controller::schedule::Settings;
use upland_store::accounts::{Role, RoleChange};
use upland_store::settings::{NewSettings, SettingsKind};
use upland_store::sign_ins::Tried;
use upland_store::{Saved, Store};

const HOUR: SignedDuration = SignedDuration::from_hours(1);

/// Does something that only time does.
fn run(world: &World, sql: &str) -> usize {
    let mut connection = PgConnection::establish(&world.database.url).unwrap();
    diesel::sql_query(sql).execute(&mut connection).unwrap()
}

fn person(store: &Store, login: &str, role: Role) -> i64 {
    store.create_user(login, login, "hash", role, None).unwrap().unwrap().id
}

/// Who a session belongs to.
fn login(store: &Store, token: &[u8]) -> Option<String> {
    store.asked(token, None).unwrap().map(|asked| asked.user.login)
}

#[test]
fn failed_tries_count_by_name_and_by_address_together_and_time_forgives() {
    let world = world();
    let store = &world.store;
    let fail = |login: &str, address: &str, times: usize| {
        for _ in 0..times {
            store.note_sign_in(login, address, Tried::Failed).unwrap();
        }
    };
    let may = |login: &str, address: &str| store.may_sign_in(login, address).unwrap();
    fail("bram", "192.0.2.1", 9);
    store.note_sign_in("bram", "192.0.2.1", Tried::Opened).unwrap();
    store.note_sign_in("bram", "192.0.2.1", Tried::Refused).unwrap();
    assert!(may("bram", "192.0.2.1"), "nine failed; what opened or was refused is no failure");
    fail("bram", "192.0.2.1", 1);
    assert!(!may("bram", "192.0.2.1"), "ten of this name from here");
    assert!(may("bram", "192.0.2.2") && may("wren", "192.0.2.1"), "another address, another name");
    // One name from many addresses, none of which failed ten times.
    for n in 3..9 {
        fail("bram", &format!("192.0.2.{n}"), 9);
    }
    assert!(!may("bram", "198.51.100.1"), "sixty-four of this name");
    assert!(may("wren", "192.0.2.3"));
    // One address with many names.
    for n in 0..60 {
        fail(&format!("guess{n}"), "203.0.113.5", 1);
    }
    assert!(!may("isla", "203.0.113.5") && may("isla", "203.0.113.6"));
    // The list of the owner: the newest first, without what opened.
    let list = store.read(|s| s.failed_sign_ins(500)).unwrap();
    assert!(list.windows(2).all(|w| w[0].last_at >= w[1].last_at));
    let own = list.iter().find(|t| t.login == "bram" && t.address == "192.0.2.1").unwrap();
    assert_eq!((own.opened, own.failed, own.refused), (1, 10, 1));
    assert_eq!(store.read(|s| s.failed_sign_ins(3)).unwrap().len(), 3);
    run(&world, "UPDATE sign_ins SET slot = slot - interval '20 minutes'");
    assert!(may("bram", "192.0.2.1") && may("isla", "203.0.113.5"), "a quarter of an hour is over");
    run(&world, "UPDATE sign_ins SET last_at = now() - interval '91 days'");
    assert!(store.sweep(15).unwrap().contains("sign-ins"), "what is told of it");
    assert_eq!(store.read(|s| s.failed_sign_ins(500)).unwrap(), []);
}

#[test]
fn a_name_that_is_none_is_counted_all_the_same_and_takes_no_room() {
    let world = world();
    let store = &world.store;
    let long = "x".repeat(500_000);
    let strange = "a\u{0}b\nc";
    for login in [long.as_str(), strange, "", "naïve ✓"] {
        for _ in 0..10 {
            store.note_sign_in(login, &long, Tried::Failed).unwrap();
        }
        assert!(!store.may_sign_in(login, &long).unwrap());
    }
    let list = store.read(|s| s.failed_sign_ins(10)).unwrap();
    assert!(list.iter().all(|t| t.login.chars().count() <= 80 && t.address.chars().count() <= 80));
    assert!(list.iter().any(|t| t.login == "abc"), "{list:?}");
}

#[test]
fn sessions_are_listed_and_ended_and_a_person_who_is_let_out_has_none() {
    let world = world();
    let World { store, user, .. } = &world;
    let bram = person(store, "bram", Role::Technician);
    for (token, who, length) in
        [(1, bram, HOUR), (2, bram, HOUR), (3, bram, -HOUR), (4, *user, HOUR), (5, bram, HOUR)]
    {
        store.create_session(&[token; 32], who, length).unwrap();
    }
    let of = |who| store.read(|s| s.sessions_of(who)).unwrap().into_iter().map(|s| s.token_sha256[0]);
    assert_eq!(of(bram).collect::<Vec<_>>(), [5, 2, 1], "the newest first, without what has ended");
    assert_eq!(store.end_sessions(bram, &[2; 32]).unwrap(), 2);
    assert_eq!((of(bram).count(), of(*user).count()), (1, 1), "nobody else's");
    let now = Timestamp::now();
    assert_eq!(store.set_disabled(bram, true, now, *user).unwrap(), RoleChange::Done);
    assert_eq!(store.set_disabled(bram, true, now, *user).unwrap(), RoleChange::Unchanged);
    assert_eq!((login(store, &[2; 32]), of(bram).count()), (None, 0));
    assert!(store.credentials("bram").unwrap().is_none(), "there is no such account to whoever signs in");
    assert!(store.read(|s| s.users()).unwrap().iter().any(|u| u.id == bram && u.disabled));
    // A session that another server began at that moment opens nothing.
    store.create_session(&[6; 32], bram, HOUR).unwrap();
    assert_eq!(login(store, &[6; 32]), None);
    assert_eq!(store.set_disabled(bram, false, now, *user).unwrap(), RoleChange::Done);
    assert!(store.credentials("bram").unwrap().is_some());
    assert_eq!(store.set_disabled(*user, true, now, bram).unwrap(), RoleChange::LastOwner);
    assert_eq!(store.set_disabled(999, true, now, *user).unwrap(), RoleChange::NoSuchAccount);
    // Two owners: one may be let out, and then the other is the last.
    let other = person(store, "moss", Role::Owner);
    assert_eq!(store.set_disabled(other, true, now, *user).unwrap(), RoleChange::Done);
    assert_eq!(
        store.set_role(*user, Role::Reader, other).unwrap(),
        RoleChange::LastOwner,
        "who is out owns nothing"
    );
}

#[test]
fn a_link_opens_once_the_newest_only_within_its_day_and_ends_every_session() {
    let world = world();
    let World { store, user, .. } = &world;
    let bram = person(store, "bram", Role::Technician);
    let make = |token: u8, length| store.make_password_link(&[token; 32], bram, length, *user).unwrap();
    let of = |token: u8| store.read(|s| s.password_link(&[token; 32])).unwrap().map(|u| u.login);
    let hash = || store.read(|s| s.password_hash(bram)).unwrap().unwrap();
    assert!(make(1, HOUR) && make(2, HOUR));
    assert_eq!((of(1), of(2).as_deref()), (None, Some("bram")), "the newer takes the place of the older");
    assert_eq!(store.use_password_link(&[1; 32], "stolen").unwrap(), None);
    store.create_session(&[7; 32], bram, HOUR).unwrap();
    store.create_session(&[8; 32], *user, HOUR).unwrap();
    assert_eq!(store.use_password_link(&[2; 32], "chosen").unwrap(), Some(bram));
    assert_eq!(hash(), "chosen");
    assert_eq!((login(store, &[7; 32]), login(store, &[8; 32]).as_deref()), (None, Some("isla")));
    assert_eq!(store.use_password_link(&[2; 32], "again").unwrap(), None);
    assert!(make(3, -HOUR));
    assert_eq!((of(3), store.use_password_link(&[3; 32], "late").unwrap()), (None, None));
    // Of many who use it at once, one does.
    assert!(make(4, HOUR));
    let opened = std::thread::scope(|scope| {
        let tries: Vec<_> = (0..6)
            .map(|n| scope.spawn(move || store.use_password_link(&[4; 32], &format!("of {n}")).unwrap()))
            .collect();
        tries.into_iter().filter_map(|own| own.join().unwrap()).count()
    });
    assert_eq!(opened, 1);
    // Whoever changes the password themselves makes a link useless, and keeps the session that did it.
    assert!(make(5, HOUR));
    store.create_session(&[9; 32], bram, HOUR).unwrap();
    store.create_session(&[10; 32], bram, HOUR).unwrap();
    store.change_password(bram, "own", &[9; 32]).unwrap();
    assert_eq!((of(5), hash().as_str()), (None, "own"));
    assert_eq!((login(store, &[9; 32]).is_some(), login(store, &[10; 32])), (true, None));
    // A link of somebody who is let out opens nothing, then or later.
    assert!(make(6, HOUR));
    store.set_disabled(bram, true, Timestamp::now(), *user).unwrap();
    assert_eq!((of(6), store.use_password_link(&[6; 32], "in").unwrap()), (None, None));
    store.set_disabled(bram, false, Timestamp::now(), *user).unwrap();
    assert_eq!(
        (of(6), store.use_password_link(&[6; 32], "in").unwrap(), hash().as_str()),
        (None, None, "own")
    );
    assert!(!store.make_password_link(&[11; 32], 999, HOUR, *user).unwrap(), "there is no such account");
}

#[test]
fn a_second_factor_counts_once_confirmed_and_each_code_opens_once() {
    let world = world();
    let World { store, user, .. } = &world;
    let bram = person(store, "bram", Role::Technician);
    let factor = || store.read(|s| s.factor(bram)).unwrap().unwrap();
    assert_eq!((factor().secret, factor().pending, factor().spare), (None, None, 0));
    store.begin_factor(bram, &[1; 20]).unwrap();
    store.begin_factor(bram, &[2; 20]).unwrap();
    let spare = [vec![1; 32], vec![2; 32]];
    assert!(!store.confirm_factor(bram, &[1; 20], 100, &spare).unwrap(), "another was shown since");
    assert_eq!(factor().secret, None, "shown is not confirmed");
    assert!(store.confirm_factor(bram, &[2; 20], 100, &spare).unwrap());
    assert_eq!((factor().secret, factor().pending, factor().spare), (Some(vec![2; 20]), None, 2));
    assert!(store.read(|s| s.with_factor()).unwrap().iter().eq([&bram]));
    // The half minute that confirmed it, those before it, then each once.
    let used = [100, 99, 101, 101, 100, 103].map(|step| store.use_step(bram, step).unwrap());
    assert_eq!(used, [false, false, true, false, false, true]);
    let opened = std::thread::scope(|scope| {
        let tries: Vec<_> = (0..6).map(|_| scope.spawn(|| store.use_step(bram, 200).unwrap())).collect();
        tries.into_iter().filter(|_| true).map(|own| own.join().unwrap()).filter(|own| *own).count()
    });
    assert_eq!(opened, 1, "one code typed on six servers at once");
    assert!(store.use_spare(bram, &[1; 32]).unwrap() && !store.use_spare(bram, &[1; 32]).unwrap());
    assert!(!store.use_spare(*user, &[2; 32]).unwrap(), "somebody else's");
    assert_eq!(factor().spare, 1);
    // A new one takes the place of the old with its spare codes.
    store.begin_factor(bram, &[3; 20]).unwrap();
    assert_eq!(factor().secret, Some(vec![2; 20]), "the old one counts until then");
    assert!(store.confirm_factor(bram, &[3; 20], 300, &spare[..1]).unwrap());
    assert_eq!((factor().spare, store.use_spare(bram, &[2; 32]).unwrap()), (1, false));
    assert!(store.drop_factor(bram, *user).unwrap() && !store.drop_factor(bram, *user).unwrap());
    assert_eq!((factor().secret, factor().spare), (None, 0));
    assert_eq!(store.read(|s| s.factor(999)).unwrap(), None);
}

#[test]
fn a_person_sees_the_sites_that_were_given_and_an_owner_every_one() {
    let world = world();
    let World { store, user, site, .. } = &world;
    let second = store.create_site(&file("Second", vec![zone(1)]), TODAY, *user).unwrap();
    let wren = person(store, "wren", Role::Reader);
    store.create_session(&[1; 32], wren, HOUR).unwrap();
    let sees = |number: i64| store.asked(&[1; 32], Some(number)).unwrap().unwrap().site.is_some();
    assert!(sees(site.number()) && sees(second.number()), "every site, where nothing was said");
    assert!(store.give_sites(wren, Some(&[second.number(), 999]), *user).unwrap());
    assert!(!sees(site.number()) && sees(second.number()));
    let given = store.read(|s| s.restricted()).unwrap();
    assert_eq!(
        given,
        BTreeMap::from([(wren, vec![second.number()])]),
        "a site that is not there is not given"
    );
    assert!(store.give_sites(wren, Some(&[]), *user).unwrap());
    assert!(!sees(site.number()) && !sees(second.number()), "none at all");
    // Who makes a site sees it, and a site that was removed is seen by nobody.
    let own = store.create_site(&file("Own", vec![zone(1)]), TODAY, wren).unwrap();
    assert!(sees(own.number()) && !sees(second.number()));
    assert!(!sees(beside(own).number()), "there is none such");
    // Somebody who becomes an owner sees every site, and cannot be given less.
    assert_eq!(store.set_role(wren, Role::Owner, *user).unwrap(), RoleChange::Done);
    assert!(sees(site.number()) && sees(second.number()) && sees(own.number()));
    assert!(!store.give_sites(wren, Some(&[own.number()]), *user).unwrap());
    assert!(sees(site.number()));
    assert!(!store.give_sites(999, None, *user).unwrap(), "there is no such person");
}

#[test]
fn what_was_typed_and_not_saved_is_kept_for_its_writer_until_it_is_saved() {
    let world = world();
    let World { store, user, site, .. } = &world;
    let own_controller = store.read(|s| s.controllers(*site)).unwrap()[0].id;
    let bram = person(store, "bram", Role::Technician);
    let typed = |text: &str| BTreeMap::from([("line".to_owned(), text.to_owned())]);
    let draft = |who| {
        store.read(|s| s.settings_draft(who, own_controller)).unwrap().map(|d| d.fields["line"].clone())
    };
    assert_eq!(draft(*user), None);
    assert!(store.keep_settings_draft(*user, own_controller, 0, &typed("A 2:00")).unwrap());
    assert!(store.keep_settings_draft(*user, own_controller, 0, &typed("A 2:30")).unwrap());
    assert!(store.keep_settings_draft(bram, own_controller, 0, &typed("B 4:00")).unwrap());
    assert_eq!((draft(*user).as_deref(), draft(bram).as_deref()), (Some("A 2:30"), Some("B 4:00")));
    // Too much is nobody's typing, and what was kept stays.
    assert!(!store.keep_settings_draft(*user, own_controller, 0, &typed(&"x".repeat(2001))).unwrap());
    let many = (0..8001).map(|n| (n.to_string(), String::new())).collect();
    assert!(!store.keep_settings_draft(*user, own_controller, 0, &many).unwrap());
    assert_eq!(draft(*user).as_deref(), Some("A 2:30"));
    // A draft that was on its way while its writer saved does not come back; somebody else's stays.
    let settings = Settings::clean(&card_of(12));
    let new = NewSettings { kind: SettingsKind::AsFound, reason: "found", settings: &settings };
    let saved = done(store, *user, *site, |c| c.save_settings(own_controller, 0, new)).unwrap();
    assert!(matches!(saved, Some(Saved::As(1))), "{saved:?}");
    assert!(!store.keep_settings_draft(*user, own_controller, 0, &typed("A 2:30")).unwrap());
    assert_eq!((draft(*user), draft(bram).as_deref()), (None, Some("B 4:00")));
    assert!(
        store.keep_settings_draft(*user, own_controller, 1, &typed("A 3:00")).unwrap(),
        "begun on the new one"
    );
    assert!(store.drop_settings_draft(*user, own_controller).unwrap());
    assert!(!store.drop_settings_draft(*user, own_controller).unwrap());
}

#[test]
fn sentence_7_a_database_that_a_newer_program_prepared_is_refused() {
    let world = world();
    run(&world, "INSERT INTO __diesel_schema_migrations (version) VALUES ('99999999999999')");
    let told = world.store.migrate().unwrap_err().to_string();
    assert!(told.contains("newer version of this program") && told.contains("99999999999999"), "{told}");
}

#[test]
fn sentence_3_tries_at_the_same_time_are_no_more_than_the_limit_and_a_right_one_is_no_failure() {
    let World { store, .. } = &world();
    let may: usize = std::thread::scope(|scope| {
        let all: Vec<_> =
            (0..50).map(|_| scope.spawn(|| store.begin_sign_in("wren", "192.0.2.1").unwrap())).collect();
        all.into_iter().map(|t| usize::from(t.join().unwrap())).sum()
    });
    assert_eq!(may, 10);
    for _ in 0..30 {
        assert!(store.begin_sign_in("bram", "192.0.2.2").unwrap());
        store.sign_in_opened("bram", "192.0.2.2").unwrap();
    }
}

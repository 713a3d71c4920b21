//! What the lists over all sites show: kept by workers, replaced as a whole, and of a notice since when it stands.

use super::{World, world};
use jiff::{SignedDuration, Timestamp, ToSpan};
use upland_core::quantity::ratio::Percentage;
use upland_store::accounts::{Role, SiteStamp};
use upland_store::mails::MailChoice;
use upland_store::queue::Task;
use upland_store::rounds::{Asked, Call, Night, NightState, Notice, NoticeKind, Round, Weight};
use upland_store::scope::Scope;

const EVERY: (i64, i64) = (i64::MAX, 0);

fn noon() -> Timestamp {
    "2026-07-14T12:00:00Z".parse().unwrap()
}

/// The clock of these tests shows this.
fn clock(world: &World, at: Timestamp) {
    world.store.set_clock(at.duration_since(Timestamp::now())).unwrap();
}

fn notice(about: &str, words: &str) -> Notice {
    Notice {
        kind: NoticeKind::Upkeep,
        about: about.into(),
        weight: Weight::Task,
        words: vec![words.into()],
        href: "/sites/1/sensors".into(),
    }
}

fn round(world: &World, at: Timestamp, notices: Vec<Notice>) -> Round {
    let of = world.store.read(|s| s.stamp(world.site)).unwrap().unwrap();
    let night = Night {
        number: 1,
        place: "Shed".into(),
        state: NightState::Wrong,
        sentence: ["22:00", "22:00", "10 PM", "10 PM"].map(str::to_owned).to_vec(),
    };
    let call = Call {
        number: 1,
        slot: 0,
        controller_id: 5,
        place: "Shed".into(),
        program: String::new(),
        set: Percentage::HUNDRED,
        advised: Some(Percentage::from_percent(80)),
        because: "dry".into(),
        week: jiff::civil::date(2026, 7, 14),
        record_ended: None,
    };
    Round { nights: vec![night], calls: vec![call], notices, ..Round::new(of, at) }
}

fn standing(world: &World) -> Vec<(String, String, Timestamp)> {
    let asked = Asked { kind: None, put_off: false, since: None, page: EVERY };
    let rows = world.store.read(|s| s.notices(&Scope::program(), asked)).unwrap();
    rows.into_iter().map(|n| (n.notice.about, n.notice.words.concat(), n.first_at)).collect()
}

#[test]
fn a_round_replaces_the_one_before_and_an_older_one_does_not_come_back() {
    let world = world();
    clock(&world, noon());
    let all = Scope::program();
    let first = round(&world, noon(), vec![]);
    assert!(world.store.keep_round(&first).unwrap() && world.store.keep_round(&first).unwrap());
    let nights = world.store.read(|s| s.round_nights(&all, None, EVERY.0, EVERY.1)).unwrap();
    assert_eq!((nights.len(), nights[0].sentence.len(), nights[0].state), (1, 4, NightState::Wrong));
    let calls = world.store.read(|s| s.round_calls(&all, EVERY.0, EVERY.1)).unwrap();
    assert_eq!(calls[0].call, first.calls[0]);
    let totals = world.store.read(|s| s.call_totals(&all)).unwrap();
    assert_eq!((totals.calls, totals.controllers, totals.changes, totals.open), (1, 1, 1, 1));
    let standing = world.store.read(|s| s.rounds(&all)).unwrap()[&world.site.number()].clone();
    assert!(standing.fresh && standing.wrong == 1);

    let older = Round { of: SiteStamp { revision: first.of.revision - 1, ..first.of }, ..first.clone() };
    assert!(!world.store.keep_round(&older).unwrap(), "facts never go back");
    assert!(!world.store.keep_round(&Round { at: noon() - 1.hour(), ..first.clone() }).unwrap());
    assert!(world.store.keep_round(&Round { at: noon() + 1.minute(), ..first.clone() }).unwrap());
    clock(&world, noon() - SignedDuration::from_hours(48));
    let back = Round { at: noon() - SignedDuration::from_hours(48), ..first };
    assert!(world.store.keep_round(&back).unwrap(), "a clock that was set back is believed");
}

#[test]
fn a_round_is_due_once_an_hour_and_when_the_facts_change() {
    let world = world();
    clock(&world, noon());
    let due = || {
        let _ = world.store.ask_for_due_rounds().unwrap();
        let waiting = world.store.read(|s| s.waiting_work()).unwrap();
        waiting.iter().filter(|w| w.task == Some(Task::Round) && w.of == world.site.number()).count()
    };
    assert_eq!((due(), due()), (1, 1), "asked for once");
    let jobs = world.store.read(|s| s.waiting_work()).unwrap();
    let drop_all = || {
        for job in world.store.read(|s| s.waiting_work()).unwrap() {
            world.store.drop_work(job.id).unwrap();
        }
    };
    assert!(!jobs.is_empty());
    drop_all();
    world.store.keep_round(&round(&world, noon(), vec![])).unwrap();
    assert_eq!(due(), 0);
    let fresh = || world.store.read(|s| s.rounds(&Scope::program())).unwrap()[&world.site.number()].fresh;
    assert!(fresh());
    clock(&world, noon() + 61.minutes());
    assert!(!fresh());
    assert_eq!(due(), 1, "an hour later");
    drop_all();
    world.store.keep_round(&round(&world, noon() + 61.minutes(), vec![])).unwrap();
    super::done(&world.store, world.user, world.site, |c| {
        let record = c.site(world.site)?.unwrap();
        c.save_site(record.version, &super::site("Another name"))
    })
    .unwrap();
    assert!(!fresh());
    assert_eq!(due(), 1, "asked for by the very change");
}

#[test]
fn what_an_earlier_program_made_is_due_to_a_later_one_and_not_the_other_way_round() {
    let world = world();
    clock(&world, noon());
    let known_as = |name: &str| world.store.clone().built_as(name).unwrap();
    let (old, new) = (known_as("one"), known_as("two"));
    let due = |store: &upland_store::Store| store.ask_for_due_rounds().unwrap();
    old.keep_round(&round(&world, noon(), vec![])).unwrap();
    assert_eq!((due(&old), due(&new)), (0, 1));
    new.keep_round(&round(&world, noon(), vec![])).unwrap();
    assert_eq!((due(&old), due(&new), due(&known_as("two"))), (0, 0, 0), "started again it is no other");
    // One that was brought back is no older than what it finds.
    assert!(known_as("one").keep_round(&round(&world, noon(), vec![])).unwrap());
    assert_eq!((due(&old), due(&new)), (0, 1));
}

#[test]
fn a_notice_keeps_its_beginning_and_ends_with_its_cause() {
    let world = world();
    let keep = |hours: i64, notices: Vec<Notice>| {
        let at = noon() + SignedDuration::from_hours(hours);
        clock(&world, at);
        assert!(world.store.keep_round(&round(&world, at, notices)).unwrap());
    };
    keep(0, vec![notice("a", "one"), notice("b", "two")]);
    keep(5, vec![notice("a", "one, still"), notice("c", "three")]);
    let at = |hours: i64| noon() + SignedDuration::from_hours(hours);
    let of = |about: &str, words: &str, hours| (about.to_owned(), words.to_owned(), at(hours));
    assert_eq!(standing(&world), [of("a", "one, still", 0), of("c", "three", 5)]);
    keep(10, vec![notice("b", "two"), notice("c", "three")]);
    assert_eq!(standing(&world), [of("b", "two", 0), of("c", "three", 5)], "gone for a few hours is no news");
    keep(200, vec![]);
    assert_eq!(standing(&world), []);
    keep(300, vec![notice("c", "three")]);
    assert_eq!(standing(&world), [of("c", "three", 300)], "after days it is");
}

#[test]
fn what_is_put_off_comes_back_by_itself_and_by_hand() {
    let world = world();
    clock(&world, noon());
    world.store.keep_round(&round(&world, noon(), vec![notice("a", "one")])).unwrap();
    let listed = |put_off: bool| {
        let asked = Asked { kind: Some(NoticeKind::Upkeep), put_off, since: None, page: EVERY };
        world.store.read(|s| s.notices(&Scope::program(), asked)).unwrap()
    };
    let id = listed(false)[0].id;
    let week = noon() + SignedDuration::from_hours(7 * 24);
    assert!(world.store.put_off(world.site, id, Some(week), world.user).unwrap());
    assert!(listed(false).is_empty());
    assert_eq!(listed(true)[0].put_off.as_ref().unwrap().0, week);
    let counts = world.store.read(|s| s.notice_counts(&Scope::program(), noon() - 1.hour())).unwrap();
    assert_eq!((counts.len(), counts[0].put_off, counts[0].number, counts[0].new), (1, true, 1, 1));
    assert!(world.store.put_off(world.site, id, None, world.user).unwrap());
    assert_eq!((listed(false).len(), listed(true).len()), (1, 0));
    world.store.put_off(world.site, id, Some(week), world.user).unwrap();
    clock(&world, week + 1.second());
    assert_eq!((listed(false).len(), listed(true).len()), (1, 0), "the week is over");
    assert!(!world.store.put_off(world.site, id + 1, None, world.user).unwrap(), "there is no such notice");
    let wren = world.store.create_user("wren", "Wren", "hash", Role::Reader, None).unwrap().unwrap().id;
    world.store.give_sites(wren, Some(&[]), world.user).unwrap();
    let choice = MailChoice { to: "w@example.net".into(), at_min: 0, zone: "UTC".into() };
    world.store.choose_mail(wren, &choice).unwrap();
    let nobody = world.store.begin_mail(wren).unwrap().unwrap().scope;
    assert!(
        world
            .store
            .read(|s| s.notices(&nobody, Asked { kind: None, put_off: false, since: None, page: EVERY }))
            .unwrap()
            .is_empty()
    );
}

#[test]
fn a_mail_is_begun_once_a_day_and_tells_of_what_began_since_the_one_before() {
    let world = world();
    clock(&world, noon());
    let store = &world.store;
    assert_eq!(store.begin_mail(world.user).unwrap(), None, "nobody asked for one");
    let choice = MailChoice { to: "a@example.net".into(), at_min: 12 * 60, zone: "UTC".into() };
    store.choose_mail(world.user, &choice).unwrap();
    assert_eq!((store.ask_for_due_mails().unwrap(), store.ask_for_due_mails().unwrap()), (1, 0));
    let mail = store.begin_mail(world.user).unwrap().unwrap();
    assert_eq!((mail.day, mail.choice.clone()), (jiff::civil::date(2026, 7, 14), choice.clone()));
    let age = noon().duration_since(mail.since);
    assert!(
        (age - SignedDuration::from_hours(24)).abs() < SignedDuration::from_mins(5),
        "the first tells of a day"
    );
    store.end_mail(&mail, Err("no such host")).unwrap();
    let again = store.begin_mail(world.user).unwrap().unwrap();
    assert_eq!(again.since, mail.since, "it is the same mail that is tried again");
    store.end_mail(&again, Ok(3)).unwrap();
    assert_eq!(store.begin_mail(world.user).unwrap(), None, "sent is sent");
    let last = store.read(|s| s.mail_choice(world.user)).unwrap().1.unwrap();
    assert_eq!((last.notices, last.fault.as_str()), (3, ""));
    clock(&world, noon() + SignedDuration::from_hours(23));
    assert_eq!(store.ask_for_due_mails().unwrap(), 0, "the next is due at noon");
    clock(&world, noon() + SignedDuration::from_hours(25));
    for job in store.read(|s| s.waiting_work()).unwrap() {
        store.drop_work(job.id).unwrap();
    }
    assert_eq!(store.ask_for_due_mails().unwrap(), 1);
    let next = store.begin_mail(world.user).unwrap().unwrap();
    assert!(next.since.duration_since(noon()).abs() < SignedDuration::from_mins(5), "since the mail before");
    store.choose_mail(world.user, &MailChoice { to: String::new(), ..choice }).unwrap();
    assert_eq!(store.begin_mail(world.user).unwrap(), None, "somebody changed their mind");
}

#[test]
fn many_who_ask_for_rounds_at_once_do_not_wait_for_each_other() {
    let world = world();
    let sites: Vec<i64> = (0..120)
        .map(|n| {
            let file = super::file(&format!("Site {n}"), vec![]);
            world.store.create_site(&file, super::TODAY, world.user).unwrap().number()
        })
        .collect();
    for job in world.store.read(|s| s.waiting_work()).unwrap() {
        world.store.drop_work(job.id).unwrap();
    }
    let mut back = sites.clone();
    back.reverse();
    std::thread::scope(|scope| {
        for turn in 0..6 {
            let (store, asked) = (&world.store, if turn % 2 == 0 { &sites } else { &back });
            scope.spawn(move || (0..5).for_each(|_| store.ask_for_rounds(asked).unwrap()));
        }
    });
    world.store.ask_for_rounds(&sites).unwrap();
    let waiting = world.store.read(|s| s.waiting_work()).unwrap();
    let asked: std::collections::BTreeSet<i64> =
        waiting.iter().filter(|w| w.task == Some(Task::Round)).map(|w| w.of).collect();
    assert_eq!((asked.len(), sites.iter().all(|site| asked.contains(site))), (120, true));
}

//! What a phone sends: once each, also when it is sent again; and the ticks of lists of steps.

use super::{World, world};
use jiff::{SignedDuration, Timestamp};
use upland_store::phone::SentBefore;

const KEY: &str = "0123456789abcdef0123456789abcdef";

#[test]
fn an_entry_is_applied_once_and_a_refused_one_may_come_again() {
    let World { store, user, .. } = &world();
    let begin = || store.begin_sent_entry(KEY, *user).unwrap();
    assert_eq!(begin(), SentBefore::New);
    assert_eq!(begin(), SentBefore::Running, "the same entry from a second window");
    store.end_sent_entry(KEY, false).unwrap();
    assert_eq!(begin(), SentBefore::New, "it was refused and corrected nothing");
    store.end_sent_entry(KEY, true).unwrap();
    assert_eq!(begin(), SentBefore::Applied, "its answer was lost on the way");
    store.end_sent_entry(KEY, false).unwrap();
    assert_eq!(begin(), SentBefore::Applied, "what was applied is not forgotten");
}

#[test]
fn a_key_that_no_phone_makes_is_refused_by_the_database() {
    let World { store, user, .. } = &world();
    assert!(store.begin_sent_entry("short", *user).is_err());
}

#[test]
fn two_people_tick_one_list_and_the_first_tick_stands() {
    let World { store, site, user, .. } = &world();
    let at = Timestamp::now() - SignedDuration::from_mins(5);
    let tick = |list: &str, step: &str, at| store.tick_step(*site, list, step, *user, at).unwrap();
    let steps = |list: &'static str| {
        let all = store.read(move |s| s.step_ticks(*site, list)).unwrap();
        all.into_iter().map(|tick| tick.step).collect::<Vec<_>>()
    };
    tick("walk-1-2", "clock", Some(at));
    tick("walk-1-2", "auto", Some(at + SignedDuration::from_mins(1)));
    tick("walk-1-2", "clock", Some(at + SignedDuration::from_mins(2)));
    tick("walk-1-3", "clock", Some(at));
    assert_eq!(steps("walk-1-2"), ["clock", "auto"], "in the order of the ticks");
    let first = store.read(|s| s.step_ticks(*site, "walk-1-2")).unwrap().remove(0);
    assert_eq!(first.ticked_at.as_second(), at.as_second());
    tick("walk-1-2", "clock", None);
    assert_eq!(steps("walk-1-2"), ["auto"]);
    store.clear_steps(*site, "walk-1-2").unwrap();
    assert_eq!((steps("walk-1-2").len(), steps("walk-1-3").len()), (0, 1), "another version keeps its ticks");
}

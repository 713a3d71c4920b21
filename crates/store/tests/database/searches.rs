//! Searches: one a site, seen and stopped from anywhere, and never running for ever.

use super::{World, beside, world};
use diesel::{Connection, PgConnection, RunQueryDsl};
use upland_store::queue::Task;
use upland_store::searches::{NewSearch, Outcome, Search};

fn asked(goal_pct: u8) -> NewSearch {
    NewSearch {
        controller_number: 1,
        space: vec!["minutes".into(), "days".into()],
        goal_pct,
        asked: "weather=typical".into(),
    }
}

fn found(tried: usize) -> Outcome {
    Outcome {
        complete: true,
        tried,
        runs: 40,
        origin: "365 days of the site's own weather".into(),
        revision: 7,
        way: Some(serde_json::json!({ "name": "found" })),
        refusals: Vec::new(),
    }
}

fn known(world: &World) -> Option<Search> {
    world.store.read(|s| s.search(world.site)).unwrap()
}

/// Does to the job of the search what only a worker does.
fn job(world: &World, sql: &str) {
    let mut connection = PgConnection::establish(&world.database.url).unwrap();
    let sql = format!("{sql} WHERE key = 'search {}'", world.site);
    assert_eq!(diesel::sql_query(sql).execute(&mut connection).unwrap(), 1);
}

#[test]
fn a_search_tells_how_far_it_is_and_keeps_what_it_found() {
    let world = world();
    let World { store, site, user, .. } = &world;
    assert_eq!(known(&world), None);
    store.begin_search(*site, &asked(95), *user).unwrap();
    let begun = known(&world).unwrap();
    assert_eq!((begun.runs, begun.outcome.clone(), begun.progress), (true, None, (0, 0)));
    assert_eq!(begun.asked, asked(95));
    assert!(store.tell_search(*site, begun.number, 3, 40).unwrap(), "it goes on");
    assert_eq!(known(&world).unwrap().progress, (3, 40));
    store.end_search(*site, begun.number, &found(40)).unwrap();
    let ended = known(&world).unwrap();
    assert_eq!((ended.runs, ended.outcome), (false, Some(found(40))));
    // What comes late from a worker that was presumed dead changes nothing.
    store.end_search(*site, begun.number, &found(2)).unwrap();
    assert!(!store.tell_search(*site, begun.number, 9, 9).unwrap());
    assert_eq!(known(&world).unwrap().outcome, Some(found(40)));
    assert_eq!(store.read(|s| s.search(beside(*site))).unwrap(), None, "of its site alone");
}

#[test]
fn another_question_takes_the_place_of_the_one_before() {
    let world = world();
    let World { store, site, user, .. } = &world;
    store.begin_search(*site, &asked(95), *user).unwrap();
    let first = known(&world).unwrap().number;
    store.begin_search(*site, &asked(100), *user).unwrap();
    let second = known(&world).unwrap();
    assert!(second.number > first && second.asked == asked(100));
    assert!(
        !store.tell_search(*site, first, 3, 40).unwrap(),
        "the first hears that it is not wanted any more"
    );
    store.end_search(*site, first, &found(1)).unwrap();
    assert_eq!(known(&world).unwrap().outcome, None, "and what it found is nobody's answer");
    let waiting = store.read(|s| s.waiting_work()).unwrap();
    let searches = waiting.iter().filter(|job| job.task == Some(Task::Search));
    assert_eq!(searches.count(), 1, "one job, however often it is asked for");
}

#[test]
fn one_that_runs_is_told_to_stop_and_one_that_nobody_works_on_is_forgotten() {
    let world = world();
    let World { store, site, user, .. } = &world;
    store.begin_search(*site, &asked(95), *user).unwrap();
    let number = known(&world).unwrap().number;
    store.stop_search(*site).unwrap();
    assert!(!store.tell_search(*site, number, 3, 40).unwrap(), "it ends with the best so far");
    store.end_search(*site, number, &found(3)).unwrap();
    assert!(known(&world).unwrap().outcome.is_some());
    store.stop_search(*site).unwrap();
    assert_eq!(known(&world), None, "an answer that was read is put away");
    // Its last attempt is under way: it runs. Given up, it does not, and can be put away.
    store.begin_search(*site, &asked(95), *user).unwrap();
    job(&world, "UPDATE work._private_jobs SET attempts = max_attempts, locked_at = now()");
    assert!(known(&world).unwrap().runs);
    store.stop_search(*site).unwrap();
    assert!(known(&world).is_some(), "a worker has it, and hears of it");
    job(&world, "UPDATE work._private_jobs SET locked_at = NULL");
    let given_up = known(&world).unwrap();
    assert_eq!((given_up.runs, given_up.outcome), (false, None));
    assert_eq!(store.given_up().unwrap(), 1);
    store.stop_search(*site).unwrap();
    assert_eq!((known(&world), store.given_up().unwrap()), (None, 0));
}

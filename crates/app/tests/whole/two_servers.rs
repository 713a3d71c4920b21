//! Two servers on one database: what one saves, the other shows at once, however warm its caches are.

use super::http::Person;
use super::programs::{fields, fields_of, send};
use super::server::Server;

/// Two people at two servers on one database, who have looked at everything before.
fn two() -> (Server, Server, Person, Person) {
    let first = Server::start(true);
    let second = first.beside();
    let (bram, wren) = (Person::signed_in(&first, "bram"), Person::signed_in(&second, "wren"));
    for page in PAGES {
        for person in [&bram, &wren] {
            assert_eq!(person.get(page).status, 200, "{page}");
        }
    }
    (first, second, bram, wren)
}

/// Pages that are computed once for a revision and kept.
const PAGES: [&str; 16] = [
    "/",
    "/find.json",
    "/calls",
    "/sites/1/today",
    "/sites/1/sheet",
    "/sites/1/zones",
    "/sites/1/zones/1",
    "/sites/1/zones/1/season?by=logged",
    "/sites/1/zones/1/cans",
    "/sites/1/controllers/1",
    "/sites/1/controllers/1/history",
    "/sites/1/controllers/1/plan",
    "/sites/1/controllers/1/budget",
    "/sites/1/sensors",
    "/sites/1/sensors/1",
    "/sites/1/weather",
];

/// The fields of a form that stands on a page, one of them changed.
fn changed(person: &Person, page: &str, name: &str, value: &str) -> u16 {
    let mut all = fields_of(&person.get(page).text, "<form class=\"survey\"");
    assert!(all.insert(name.into(), value.into()).is_some(), "{page} has no field {name}");
    send(person, page.trim_end_matches("/survey"), &all).status
}

#[test]
fn a_survey_saved_on_one_server_is_read_on_the_other() {
    let (_first, _second, bram, wren) = two();
    let zone = "/sites/1/zones/1";
    assert_eq!(changed(&bram, &format!("{zone}/survey"), "name", "Topmost lawn"), 303);
    for page in [
        "/find.json?words=topmost",
        "/sites/1/today",
        "/sites/1/sheet",
        "/sites/1/zones",
        zone,
        "/sites/1/controllers/1",
    ] {
        assert!(wren.get(page).text.contains("Topmost lawn"), "{page}");
    }
    let site = "/sites/1/edit";
    assert_eq!(changed(&bram, site, "name", "Larkrigg Upper Slope"), 303);
    for page in ["/", "/find.json?words=upper", "/calls", "/sites/1/today", "/sites/1/weather"] {
        assert!(wren.get(page).text.contains("Larkrigg Upper Slope"), "{page}");
    }
    assert_eq!(bram.post_from(site, "/sites/2/remove", &[]).status, 303);
    assert!(!wren.get("/").text.contains("/sites/2/"), "a site that was taken away");
    assert_eq!(wren.get("/sites/2/today").status, 404);
    assert_eq!(bram.post_from(site, "/sites/2/restore", &[]).status, 303);
    assert_eq!(wren.get("/sites/2/today").status, 200, "and back");
}

#[test]
fn settings_saved_on_one_server_are_computed_with_on_the_other() {
    let (_first, _second, bram, wren) = two();
    let page = "/sites/1/controllers/1";
    let (calls, budget) = (wren.get("/calls.csv").text, wren.get("/sites/1/controllers/1/budget").text);
    let mut all = fields(&bram.get(page).text);
    let percent = all.keys().find(|name| name.ends_with("percent")).expect("a percentage").clone();
    all.insert(percent, "30".into());
    all.insert("reason".into(), "turned down by hand".into());
    let saved = send(&bram, page, &all);
    assert_eq!(saved.status, 303, "{}", saved.text);
    assert!(wren.get("/sites/1/controllers/1/history").text.contains("turned down by hand"));
    assert!(wren.get(page).text.contains("turned down by hand"));
    assert_ne!(wren.get("/calls.csv").text, calls, "the list says where the controller stands now");
    assert_ne!(wren.get("/sites/1/controllers/1/budget").text, budget);
}

#[test]
fn what_is_noted_on_one_server_is_seen_on_the_other_and_taken_back() {
    let (_first, _second, bram, wren) = two();
    let season = "/sites/1/zones/1/season?by=logged";
    let run =
        [("kind", "run"), ("date", "2026-07-10"), ("value", "13"), ("reason", "seen at the controller")];
    assert_eq!(bram.post_from(season, "/sites/1/zones/1/events", &run).status, 303);
    assert!(wren.get(season).text.contains("ran 13 min"));
    let sensor = "/sites/1/sensors/1";
    let bypass = [("kind", "bypass"), ("hours", "5"), ("reason", "winter test")];
    let events = format!("{sensor}/events");
    let noted = bram.post_from(sensor, &events, &bypass);
    assert_eq!(noted.status, 303, "{}", noted.text);
    for page in ["/sites/1/sensors", sensor, "/sites/1/today"] {
        assert!(wren.get(page).text.contains("bypass"), "{page}");
    }
    let shown = bram.get(sensor).text;
    let undo = shown.split("action=\"").find(|a| a.starts_with(&events) && a.contains("/undo")).unwrap();
    assert_eq!(bram.post_from(sensor, undo.split('"').next().unwrap(), &[]).status, 303);
    assert!(
        !wren.get("/sites/1/sensors").text.contains("is on bypass"),
        "taken back on one, gone on the other"
    );
}

#[test]
fn a_day_that_passes_on_one_server_has_passed_on_the_other() {
    let (first, _second, _bram, wren) = two();
    let isla = Person::signed_in(&first, "isla");
    assert!(wren.get("/sites/1/today").text.contains("14 July"));
    assert_eq!(isla.post_from("/sites/1/today", "/clock/day", &[("back", "/sites/1/today")]).status, 303);
    let after = wren.get("/sites/1/today").text;
    assert!(after.contains("15 July"), "the clock is one");
    assert!(!after.contains("The weather record ended"), "and the day brought its weather");
    assert!(wren.get("/sites/1/sensors").text.contains("15 Jul"));
    assert!(wren.get("/calls.csv").text.contains("2026-07-15"));
}

//! The weather room over HTTP: sources, overrules, drafts, and a record that ended.

use super::http::{Answer, Person};
use super::server::Server;

const ROOM: &str = "/sites/1/weather";

/// The identities of the sources on the page, in its order.
fn sources(person: &Person) -> Vec<String> {
    let page = person.get(ROOM).text;
    let mut all: Vec<String> = page
        .split("/weather/sources/")
        .skip(1)
        .filter_map(|rest| rest.split(|c: char| !c.is_ascii_digit()).next().map(str::to_owned))
        .filter(|id| !id.is_empty())
        .collect();
    all.dedup();
    all
}

fn overrule(person: &Person, source: &str, day: &str, variable: &str, keep: &str, reason: &str) -> Answer {
    let fields =
        [("source", source), ("date", day), ("variable", variable), ("keep", keep), ("reason", reason)];
    person.post_from(ROOM, "/sites/1/weather/overrule", &fields)
}

#[test]
fn a_value_is_judged_by_hand_with_a_reason_and_the_rules_come_back() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let source = sources(&person).first().expect("the demo has a station").clone();
    for (day, variable, reason, told) in [
        ("2026-07-10", "rain", "", "the reason stays with the value"),
        ("10 Julember", "rain", "a bucket", "is not a date; write 14 Jul"),
        ("2026-07-10", "mood", "a bucket", "a source, a day and a variable"),
        ("1066-07-10", "rain", "a bucket", "is not a date; write 14 Jul"),
    ] {
        let refused = overrule(&person, &source, day, variable, "no", reason);
        assert_eq!(refused.status, 422, "{day} {variable} {reason}");
        assert!(refused.text.contains(told), "{day} {variable}");
    }
    let foreign = overrule(&person, "99999", "2026-07-10", "rain", "no", "a bucket");
    assert_eq!(foreign.status, 422, "a source that is not of this site");
    let record = |person: &Person| person.get("/sites/1/weather.csv").text;
    let day = |csv: &str| csv.lines().find(|l| l.starts_with("2026-07-12")).unwrap_or_default().to_owned();
    let before = day(&record(&person));
    let said = overrule(&person, &source, "2026-07-12", "tmax", "no", "the screen fell off");
    assert_eq!(said.status, 303, "{}", said.text);
    let shown = person.get(ROOM).text;
    assert!(shown.contains("excluded manually") && shown.contains("the screen fell off"));
    assert_ne!(day(&record(&person)), before, "the record does without it");
    let undo = shown
        .split("action=\"")
        .find(|a| a.starts_with("/sites/1/weather/overrules/") && a.contains("/undo"))
        .and_then(|a| a.split('"').next())
        .expect("a way back");
    assert_eq!(person.post_from(ROOM, undo, &[]).status, 303);
    assert_eq!(day(&record(&person)), before, "the value counts again");
    assert_eq!(person.post_from(ROOM, &undo.replace("undo", "redo"), &[]).status, 303);
    assert_ne!(day(&record(&person)), before);
    assert_eq!(person.post_from(ROOM, &undo.replace("undo", "redo"), &[]).status, 404, "it stands already");
    let reader = Person::signed_in(&server, "wren");
    assert_eq!(overrule(&reader, &source, "2026-07-12", "tmax", "yes", "no").status, 403);
}

#[test]
fn a_source_is_made_taken_away_and_brought_back() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let make = |fields: &[(&str, &str)]| person.post_from(ROOM, "/sites/1/weather/sources", fields);
    let nameless = make(&[("name", ""), ("kind", "normals")]);
    assert_eq!(nameless.status, 422);
    let placeless = make(&[("name", "Far mast"), ("kind", "station")]);
    assert_eq!(placeless.status, 422, "a station some way off has a place");
    assert!(placeless.text.contains("value=\"Far mast\""), "what was typed is kept");
    let far = [
        ("name", "Far mast"),
        ("kind", "station"),
        ("latitude", "46.5"),
        ("longitude", "8.25"),
        ("elevation", "910"),
        ("wind_height", "10"),
    ];
    let made = make(&far);
    assert_eq!(made.status, 303, "{}", made.text);
    let shown = person.get(ROOM).text;
    assert!(shown.contains("Far mast") && shown.contains(" km off"));
    let newest = sources(&person).iter().filter_map(|id| id.parse::<u32>().ok()).max().unwrap();
    let at = |what: &str| format!("/sites/1/weather/sources/{newest}/{what}");
    assert_eq!(person.post_from(ROOM, &at("remove"), &[]).status, 303);
    assert!(!person.get(ROOM).text.contains("<h3>Far mast"), "it is removed from the list");
    assert_eq!(person.post_from(ROOM, &at("remove"), &[]).status, 404, "it is away already");
    assert_eq!(person.post_from(ROOM, &at("restore"), &[]).status, 303);
    assert!(person.get(ROOM).text.contains("Far mast"));
    let other = format!("/sites/2/weather/sources/{newest}/remove");
    assert_eq!(person.post_from(ROOM, &other, &[]).status, 404, "not under another site's address");
}

#[test]
fn two_sources_are_held_against_each_other_and_need_to_be_two() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "wren");
    let all = sources(&person);
    assert!(all.len() > 1, "the demo has two: {all:?}");
    let page = person.get("/sites/1/weather/compare");
    assert_eq!(page.status, 200);
    assert!(page.text.contains("Two sources") && page.text.contains("<table"), "{}", page.text);
    let same = person.get(&format!("/sites/1/weather/compare?first={0}&second={0}", all[0]));
    assert_eq!(same.status, 200, "one against itself has no difference and is no failure");
}

#[test]
fn a_record_that_ended_is_said_on_every_page_that_is_about_it_and_in_the_lists() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    // The two stations go, a record that ended in the spring comes in their place.
    for id in sources(&person) {
        let path = format!("/sites/1/weather/sources/{id}/remove");
        assert_eq!(person.post_from(ROOM, &path, &[]).status, 303);
    }
    let days: String =
        (1..=28).map(|d| format!("2026-02-{d:02},{},{},{}\n", d % 5, 8 + d % 7, d % 3)).collect();
    let file = format!("date,tmin_c,tmax_c,rain_mm\n{days}");
    let sent = person.upload(ROOM, "/sites/1/weather/sources/0/files", "spring.csv", file.as_bytes());
    assert_eq!(sent.status, 303, "{}", sent.text);
    let draft = sent.headers["location"].clone();
    let progress = person.post_from(&draft, &draft, &[]).headers["location"].clone();
    while person.get(&format!("{progress}.json")).text.contains("\"running\":true") {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    for page in [
        "/sites/1/today",
        "/sites/1/sheet",
        "/sites/1/controllers/1",
        "/sites/1/controllers/1/plan",
        "/sites/1/controllers/1/budget",
        "/sites/1/controllers/1/sheet",
        "/sites/1/controllers/1/manual",
        "/sites/1/sensors",
        "/sites/1/zones/1/season",
    ] {
        let text = person.get(page).text;
        assert!(text.contains("The weather record ended on 28 February 2026"), "{page}");
    }
    let calls = person.get("/calls.csv").text;
    let first = calls.lines().filter(|l| l.starts_with("2026-02-28")).count();
    assert!(first > 0, "the call is about the last evening: {calls}");
    assert!(
        calls
            .lines()
            .filter(|l| l
                .contains(",2026-02-28,Tonight is not known: the weather record ended on 28 February 2026."))
            .count()
            == first,
        "and says so: {calls}"
    );
    assert!(person.get("/calls").text.contains("the weather record ended then"));
    let sheet = person.get("/sites/1/sheet.csv");
    assert!(sheet.headers["content-disposition"].contains("record-ended"), "{:?}", sheet.headers);
    // A date that is asked for stands, and today is today.
    let asked = person.get("/sites/1/sheet.csv?date=2026-07-14");
    assert!(!asked.headers["content-disposition"].contains("record-ended"));
}

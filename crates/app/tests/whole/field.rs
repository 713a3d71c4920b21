//! Work in the field over HTTP: cans on a zone, and what was found at it.

use super::http::{Answer, Person, token};
use super::programs::fields_of;
use super::server::{Server, key};

const ZONE: &str = "/sites/1/zones/1";
/// The form of the zone.
const SURVEY: &str = "/sites/1/zones/1/survey";
const CANS: &str = "/sites/1/zones/1/cans";
const FORM: &str = "id=\"cans-form\"";
/// Sixteen cans on a grid of two metres, millilitres.
const GRID: &str = "0 0 41\n2 0 44\n4 0 46\n6 0 40\n0 2 45\n2 2 52\n4 2 50\n6 2 43\n\
                    0 4 44\n2 4 51\n4 4 53\n6 4 42\n0 6 40\n2 6 45\n4 6 44\n6 6 39";

fn cans(person: &Person, on: &str, minutes: &str, throat: &str, cans: &str, then: &str) -> Answer {
    let base = fields_of(&person.get(CANS).text, FORM).remove("base").unwrap_or_default();
    let fields = [
        ("on", on),
        ("minutes", minutes),
        ("throat", throat),
        ("cans", cans),
        ("then", then),
        ("base", &base),
    ];
    person.post_from(CANS, CANS, &fields)
}

/// The address of the newest way back on a page.
fn way_back(page: &str, under: &str) -> String {
    let form = page.split("action=\"").find(|a| a.starts_with(under) && a.contains("/undo"));
    form.and_then(|a| a.split('"').next()).expect("a way back").to_owned()
}

#[test]
fn cans_are_refused_at_their_field_and_what_was_typed_is_kept() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    for (on, minutes, throat, typed, told) in [
        ("some day", "10", "80", GRID, "is not a date"),
        ("2026-07-10", "ten", "80", GRID, "value=\"ten\""),
        ("2026-07-10", "10", "0", GRID, "value=\"0\""),
        ("2026-07-10", "10", "80", "0 0 41\n2 0", "2 0"),
        ("2026-07-10", "10", "80", "0 0 41\n2 0 44\n4 0 46", "too few for a low quarter"),
        ("2026-07-10", "240", "500", GRID, "came out as"),
    ] {
        let then = if told == "came out as" { "save" } else { "look" };
        let refused = cans(&person, on, minutes, throat, typed, then);
        assert_eq!(refused.status, 422, "{on} {minutes} {throat}");
        assert!(refused.text.contains(told), "{on} {minutes} {throat}: no {told}");
        assert!(refused.text.contains("0 0 41"), "the cans are still there");
    }
    assert!(!person.get(SURVEY).text.contains("The rate is from cans"), "nothing of it was stored");
    let reader = Person::signed_in(&server, "wren");
    assert_eq!(reader.get(CANS).status, 200, "a reader sees the tests");
    assert_eq!(reader.post_from(CANS, CANS, &[("then", "save")]).status, 403);
}

#[test]
fn a_test_is_looked_at_kept_taken_back_and_let_stand() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let looked = cans(&person, "2026-07-10", "10", "80", GRID, "look");
    assert_eq!(looked.status, 200, "{}", looked.text);
    assert!(looked.text.contains("mm/h") && looked.text.contains("<svg"), "rate, map");
    assert!(!person.get(SURVEY).text.contains("The rate is from cans"), "looking stores nothing");
    let kept = cans(&person, "2026-07-10", "10", "80", GRID, "save");
    assert_eq!(kept.status, 303, "{}", kept.text);
    assert!(person.get(SURVEY).text.contains("The rate is from cans"));
    let page = person.get(CANS).text;
    assert!(page.contains("16 cans"), "the test is listed");
    let undo = way_back(&page, CANS);
    assert_eq!(person.post_from(CANS, &undo, &[]).status, 303);
    assert!(person.get(CANS).text.contains("taken back"));
    assert_eq!(person.post_from(CANS, &undo, &[]).status, 404, "it is taken back already");
    assert_eq!(person.post_from(CANS, &undo.replace("/undo", "/redo"), &[]).status, 303);
    let elsewhere = undo.replace("/zones/1/", "/zones/2/");
    assert_eq!(person.post_from(CANS, &elsewhere, &[]).status, 404, "not under another zone");
    let stranger = undo.replace("/sites/1/", "/sites/2/");
    assert_eq!(person.post_from(CANS, &stranger, &[]).status, 404, "nor under another site");
}

#[test]
fn a_test_on_a_zone_that_somebody_saved_meanwhile_is_not_lost() {
    let server = Server::start(true);
    let (bram, isla) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "isla"));
    let mut survey = fields_of(&isla.get(SURVEY).text, "<form class=\"survey\"");
    let base = fields_of(&bram.get(CANS).text, FORM).remove("base").unwrap();
    survey.insert("name".into(), "Topmost lawn".into());
    let pairs: Vec<(&str, &str)> = survey.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
    assert_eq!(isla.post(ZONE, &pairs).status, 303);
    let late = [
        ("on", "2026-07-10"),
        ("minutes", "10"),
        ("throat", "80"),
        ("cans", GRID),
        ("then", "save"),
        ("base", base.as_str()),
    ];
    let told = bram.post_from(CANS, CANS, &late);
    assert_eq!(told.status, 409, "{}", told.text);
    assert!(told.text.contains("0 0 41") && told.text.contains("Isla"), "who, and the cans still there");
    assert!(bram.get(ZONE).text.contains("Topmost lawn"), "theirs stands");
    let again = cans(&bram, "2026-07-10", "10", "80", GRID, "save");
    assert_eq!(again.status, 303, "{}", again.text);
    assert!(bram.get(ZONE).text.contains("Topmost lawn"), "and both are in the zone");
}

#[test]
fn what_was_found_at_a_zone_needs_a_day_a_value_and_a_reason() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let season = "/sites/1/zones/1/season";
    let note = |kind: &str, date: &str, value: &str, reason: &str| {
        let fields = [("kind", kind), ("date", date), ("value", value), ("reason", reason), ("by", "logged")];
        person.post_from(season, "/sites/1/zones/1/events", &fields)
    };
    for (kind, date, value, reason, told) in [
        ("reading", "13 Julember", "40", "probe", "is not a date; write 14 Jul"),
        ("reading", "2026-07-10", "-1", "probe", "between 0 % (wilting) and 100 % (full)"),
        ("reading", "2026-07-10", "wet", "probe", "between 0 % (wilting) and 100 % (full)"),
        ("run", "2026-07-10", "0", "seen", "between 0.1 minutes and a day"),
        ("run", "2026-07-10", "1441", "seen", "between 0.1 minutes and a day"),
        ("run", "2026-07-10", "12", " ", "Say how it was found"),
    ] {
        let refused = note(kind, date, value, reason);
        assert_eq!(refused.status, 422, "{kind} {date} {value}");
        assert!(refused.text.contains(told), "{kind} {date} {value}: no {told}");
    }
    for (kind, value) in [("reading", "0"), ("reading", "100"), ("run", "0.1"), ("run", "1440")] {
        assert_eq!(note(kind, "2026-07-10", value, "at its edge").status, 303, "{kind} {value}");
    }
    let shown = person.get("/sites/1/zones/1/season?by=logged").text;
    assert!(shown.contains("ran 0.1 min") && shown.contains("ran 1440 min"), "both ends are listed");
    assert!(shown.contains("0 % of the available water left"));
    let undo = way_back(&shown, "/sites/1/zones/1/events");
    assert_eq!(person.post_from(season, &undo.replace("/zones/1/", "/zones/2/"), &[]).status, 404);
    assert_eq!(person.post_from(season, &undo, &[]).status, 303);
    for by in ["advised", "scheduled", "logged", "nonsense"] {
        assert_eq!(person.get(&format!("{season}?by={by}")).status, 200, "{by}");
    }
    assert_eq!(person.get("/sites/1/zones/999/season").status, 404);
    assert_eq!(person.get("/sites/2/zones/1/season").status, 404, "a zone of another site");
}

fn location(answer: &Answer) -> Option<&str> {
    answer.headers.get("location").map(String::as_str)
}

#[test]
fn a_photograph_is_shown_where_its_thing_is_and_is_taken_back_there() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let picture = std::fs::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/screenshots/why.png"));
    let picture = picture.expect("a picture to send");
    let sheet = "/sites/1/controllers/1/sheet";
    let sensor = "/sites/1/sensors/1";
    for (page, kind, caption) in [
        (ZONE, "zone", "Leak at the walk"),
        (sheet, "controller", "Terminals <before>"),
        (sensor, "sensor", ""),
    ] {
        let about = fields_of(&person.get(page).text, "class=\"addphoto\"").remove("about").unwrap();
        let fields = [("kind", kind), ("about", about.as_str()), ("caption", caption)];
        let sent = person.upload_with(page, "/sites/1/photos", &fields, ("phone.png", &picture));
        assert_eq!((sent.status, location(&sent)), (303, Some(page)), "{kind}: {}", sent.text);
        let shown = person.get(page).text;
        let src = shown.split("<img src=\"").nth(1).and_then(|s| s.split('"').next()).expect("a picture");
        assert_eq!(person.get(src).status, 200);
        assert!(shown.contains(&caption.replace('<', "&#60;").replace('>', "&#62;")), "{kind}");
        // Each page shows its own alone.
        assert_eq!(shown.matches("<figcaption class=\"small\">").count(), 1, "{kind}");
        let undo = way_back(&shown, "/sites/1/photos/");
        assert_eq!(location(&person.post_from(page, &undo, &[])), Some(page));
        assert!(!person.get(page).text.contains("<figcaption class=\"small\">"));
        assert_eq!(person.get(src).status, 404, "taken back, it is shown to nobody");
        let redo = undo.replace("/undo", "/redo");
        assert_eq!(location(&person.post_from(page, &redo, &[])), Some(page));
        assert!(person.get(page).text.contains("<figcaption class=\"small\">"));
    }
    // A zone of another site is not this one's to name: the picture is the site's.
    let fields = [("kind", "zone"), ("about", "999999"), ("caption", "")];
    let sent = person.upload_with(ZONE, "/sites/1/photos", &fields, ("phone.png", &picture));
    assert_eq!(location(&sent), Some("/sites/1/card"), "{}", sent.text);
    let refused = person.upload_with(ZONE, "/sites/1/photos", &[], ("notes.txt", b"no picture"));
    assert!(person.get("/sites/1/card").text.contains("This is no photograph"), "{}", refused.status);
    assert!(Person::signed_in(&server, "wren").get(sheet).text.contains("Terminals"), "a reader sees it");
    assert!(!Person::signed_in(&server, "wren").get(sheet).text.contains("addphoto"), "and adds none");
}

#[test]
fn several_zones_are_pasted_corrected_and_made_together() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let path = "/sites/2/zones/many";
    let before = server.store().read(|s| s.zones(key(2))).unwrap().len();
    let csrf = token(&bram.get(path).text);
    let sheet =
        "Name\tPlants\tHeads\tSoil\nNorth lawn\tcool-season turf\trotor\tclay\nRoses\tmystery\tdrip\tloam\n";
    let table = bram.post(path, &[("csrf", &csrf), ("do", "paste"), ("paste", sheet)]);
    assert_eq!(table.status, 200, "{}", table.text);
    assert!(
        table.text.contains("value=\"North lawn\"") && table.text.contains("\"mystery\"")
            || table.text.contains("mystery&#34; is none of the list"),
        "{}",
        table.text
    );
    assert_eq!(server.store().read(|s| s.zones(key(2))).unwrap().len(), before, "nothing is made yet");
    let row = |place: usize, number: &str, name: &str, area: &str| {
        [
            ("number", number),
            ("name", name),
            ("plant", "cool_season_turf"),
            ("head", "rotor"),
            ("soil", "clay"),
            ("sun", "full"),
            ("area", area),
        ]
        .map(|(field, value)| (format!("r{place}_{field}"), value.to_owned()))
    };
    let send = |rows: Vec<[(String, String); 7]>| {
        let all: Vec<(String, String)> = rows.into_iter().flatten().collect();
        let mut fields: Vec<(&str, &str)> = vec![("csrf", csrf.as_str()), ("do", "save")];
        fields.extend(all.iter().map(|(name, value)| (name.as_str(), value.as_str())));
        bram.post(path, &fields)
    };
    // One wrong row keeps all of them from being made, and nothing typed is lost.
    let wrong =
        send(vec![row(0, "61", "North lawn", "120"), row(1, "61", "Roses", "wide"), row(2, "62", "", "")]);
    assert_eq!(wrong.status, 422);
    assert!(
        wrong.text.contains("value=\"Roses\"") && wrong.text.contains("value=\"wide\""),
        "{}",
        wrong.text
    );
    assert!(wrong.text.contains("1 of the rows cannot be saved yet"), "{}", wrong.text);
    assert_eq!(server.store().read(|s| s.zones(key(2))).unwrap().len(), before);
    let made = send(vec![row(0, "61", "North lawn", "120"), row(1, "63", "Roses", ""), row(2, "62", "", "")]);
    assert_eq!(made.status, 303, "{}", made.text);
    let zones = server.store().read(|s| s.zones(key(2))).unwrap();
    assert_eq!(zones.len(), before + 2, "a row without a name is left out");
    assert!(bram.get("/sites/2/zones").text.contains("2 zones made"));
    assert_eq!(send(vec![row(0, "64", "", "")]).status, 422, "nothing has a name");
    let more = [("csrf", csrf.as_str()), ("do", "more"), ("r0_name", "Rockery"), ("r0_number", "70")];
    let more = bram.post(path, &more).text;
    assert!(more.contains("value=\"Rockery\"") && more.contains("r5_name"), "what was typed stays: {more}");
}

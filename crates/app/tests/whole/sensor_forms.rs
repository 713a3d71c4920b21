//! The forms of sensors over HTTP: every generic card, what is refused, thresholds, the map.

use super::http::{Answer, Person, token};
use super::programs::fields_of;
use super::server::Server;
use std::collections::BTreeMap;

const LIST: &str = "/sites/1/sensors";
const FORM: &str = "<form class=\"survey\"";

fn send(person: &Person, page: &str, path: &str, fields: &BTreeMap<String, String>) -> Answer {
    let pairs: Vec<(&str, &str)> = fields.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
    let all: Vec<(&str, &str)> = pairs.into_iter().filter(|(k, _)| *k != "csrf").collect();
    person.post_from(page, path, &all)
}

fn new_form(person: &Person, card: &str) -> (String, BTreeMap<String, String>) {
    let page = format!("{LIST}/new?card={card}");
    let shown = person.get(&page);
    assert_eq!(shown.status, 200, "{card}");
    let fields = fields_of(&shown.text, FORM);
    (page, fields)
}

#[test]
fn every_generic_card_makes_a_sensor_as_it_stands() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    for (card, _) in upland_core::sensors::generic() {
        let (page, mut fields) = new_form(&person, card);
        fields.insert("name".into(), format!("Comparison of {card}"));
        let made = send(&person, &page, LIST, &fields);
        assert_eq!(made.status, 303, "{card}: {}", made.text);
        let sensor = made.headers["location"].clone();
        let shown = person.get(&sensor);
        assert_eq!(shown.status, 200, "{card}");
        assert!(shown.text.contains(&format!("Comparison of {card}")));
        let edit = person.get(&format!("{sensor}/edit")).text;
        let mut again = fields_of(&edit, FORM);
        let unchanged = send(&person, &format!("{sensor}/edit"), &format!("{sensor}/edit"), &again);
        assert_eq!(unchanged.status, 303, "{card}: {}", unchanged.text);
        assert!(person.get(&sensor).text.contains("Nothing changed; version 1 remains in force."), "{card}");
        again.insert("name".into(), format!("{card}, moved"));
        assert_eq!(send(&person, &format!("{sensor}/edit"), &format!("{sensor}/edit"), &again).status, 303);
        assert!(person.get(&sensor).text.contains("Saved as version 2."), "{card}");
    }
    assert!(person.get(LIST).text.contains("rain_switch, moved"));
    assert_eq!(person.get("/sites/1/sensors/wiring").status, 200, "all of them are wired somehow");
    assert_eq!(person.get(&format!("{LIST}/new?card=crystal_ball")).status, 404);
}

#[test]
fn what_a_sensor_cannot_be_is_told_at_its_field_and_nothing_is_lost() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let (page, whole) = new_form(&person, "rain_switch");
    for (name, value) in
        [("name", ""), ("rain_threshold", "900"), ("rain_threshold", "some"), ("controller", "77")]
    {
        let mut fields = whole.clone();
        fields.insert("name".into(), "Porch gauge".into());
        let known = fields.insert(name.into(), value.into());
        if name != "controller" {
            assert!(known.is_some(), "the form has no {name}: {:?}", whole.keys());
        }
        let refused = send(&person, &page, LIST, &fields);
        assert_eq!(refused.status, 422, "{name} = {value}");
        assert!(refused.text.contains("need") && refused.text.contains("still here"), "{name} = {value}");
        if !value.is_empty() && name != "controller" {
            assert!(refused.text.contains(&format!("value=\"{value}\"")), "{name} = {value} is kept");
        }
    }
    assert!(!person.get(LIST).text.contains("Porch gauge"));
    let mut cardless = whole;
    cardless.insert("card".into(), "crystal_ball".into());
    assert_eq!(send(&person, &page, LIST, &cardless).status, 400);
    let reader = Person::signed_in(&server, "wren");
    assert_eq!(reader.get(&page).status, 403);
}

#[test]
fn a_threshold_of_the_record_is_taken_over_and_a_sensor_comes_down_and_up() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let sensor = "/sites/1/sensors/1";
    let set = |mm: &str| {
        let base = fields_of(&person.get(&format!("{sensor}/edit")).text, FORM)["base_version"].clone();
        let fields = [("mm", mm), ("base_version", base.as_str())];
        person.post_from(sensor, &format!("{sensor}/threshold"), &fields)
    };
    assert_eq!(set("lots").status, 400);
    let wild = set("900");
    assert_eq!(wild.status, 422);
    assert!(wild.text.contains("Nothing is stored yet"), "{}", wild.text);
    assert_eq!(set("8").status, 303);
    assert!(person.get(sensor).text.contains("The threshold is set here; set it on the sensor too."));
    assert_eq!(set("8").status, 303);
    assert!(person.get(sensor).text.contains("That is the threshold already."));
    let late = [("mm", "10"), ("base_version", "1")];
    assert_eq!(person.post_from(sensor, &format!("{sensor}/threshold"), &late).status, 303);
    assert!(person.get(sensor).text.contains("nothing was set. Look again."), "somebody saved meanwhile");
    assert_eq!(person.post_from(sensor, &format!("{sensor}/remove"), &[]).status, 303);
    assert_eq!(person.get(sensor).status, 404);
    assert!(!person.get("/sites/1/today").text.contains("/sites/1/sensors/1\""), "it holds nothing any more");
    assert_eq!(person.post_from(LIST, &format!("{sensor}/remove"), &[]).status, 404, "it is down already");
    assert_eq!(
        person.post_from(LIST, "/sites/2/sensors/1/restore", &[]).status,
        404,
        "not from another site"
    );
    assert_eq!(person.post_from(LIST, &format!("{sensor}/restore"), &[]).status, 303);
    assert_eq!(person.get(sensor).status, 200);
}

#[test]
fn whom_a_sensor_stops_is_chosen_zone_by_zone_and_the_why_of_a_run_follows() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let page = "/sites/1/sensors/map";
    let version = || {
        let form = fields_of(&person.get("/sites/1/sensors/1/edit").text, FORM);
        form["base_version"].clone()
    };
    let choose = |what: (&str, &str), how: (&str, &str), base: &str| {
        person.post_from(page, page, &[("sensor", "1"), ("base_version", base), what, how])
    };
    let shown = || person.get(page).text;
    // What the controller does is told where a choice says otherwise.
    let before = shown();
    let as_proposed = before.matches(">as proposed<").count();
    let holds = before.matches("■ blocks").count();
    let base = version();
    assert_eq!(choose(("station", "1"), ("holds", "no"), &base).status, 303);
    assert!(shown().contains("Zone 1 and ") && shown().matches(">as proposed<").count() == as_proposed + 1);
    assert_eq!(shown().matches("■ blocks").count(), holds - 1);
    // Somebody who saw the page before that is told, and nothing of theirs is lost.
    assert_eq!(choose(("station", "2"), ("holds", "no"), &base).status, 303);
    let told = shown();
    assert!(told.contains("changed this sensor meanwhile"), "{told}");
    assert_eq!(told.matches("■ blocks").count(), holds - 1);
    assert_eq!(choose(("station", "1"), ("holds", ""), &version()).status, 303);
    assert_eq!(shown().matches("■ blocks").count(), holds);
    // A program that ignores it.
    assert_eq!(choose(("program", "0"), ("ignores", "yes"), &version()).status, 303);
    assert_eq!(choose(("program", "0"), ("ignores", "no"), &version()).status, 303);
    // Neither a zone nor a program that is not there, nor a sensor of another site.
    for what in [("station", "77"), ("program", "99"), ("station", "-1"), ("station", "all")] {
        let refused = choose(what, ("holds", "no"), &version());
        assert!(
            refused.status == 400 && refused.text.contains("Reload the page"),
            "{what:?}: {}",
            refused.text
        );
    }
    let foreign = [("sensor", "99999"), ("base_version", "1"), ("station", "1"), ("holds", "no")];
    assert_eq!(person.post_from(page, page, &foreign).status, 404);
    let reader = Person::signed_in(&server, "wren");
    assert_eq!(reader.post_from(page, page, &foreign).status, 403);
}

#[test]
fn a_unit_is_replaced_and_keeps_what_belongs_to_the_sensor() {
    use super::server::key;
    use upland_store::ticks::What;
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let before = server.store().read(|s| s.sensors(key(1))).unwrap().remove(0);
    let path = format!("/sites/1/sensors/{}/replace", before.id);
    let csrf = token(&bram.get(&path).text);
    let (about, base) = (before.id.to_string(), before.version.to_string());
    let tick = [("csrf", csrf.as_str()), ("what", "tested"), ("about", about.as_str()), ("number", "0")];
    assert_eq!(bram.post("/sites/1/ticks", &tick).status, 303);
    let tested = || {
        let ticks = server.store().read(|s| s.ticks(key(1))).unwrap();
        ticks.iter().any(|tick| tick.what == What::Tested && tick.about == before.id)
    };
    assert!(tested());
    let send = |pairs: &[(&str, &str)]| {
        let usual = [
            ("csrf", csrf.as_str()),
            ("base_version", base.as_str()),
            ("card", "same"),
            ("reason", "cap broken"),
        ];
        let all: Vec<(&str, &str)> = usual.into_iter().chain(pairs.iter().copied()).collect();
        bram.post(&path, &all)
    };
    let wrong = send(&[("on", "2031-01-01")]);
    assert_eq!(wrong.status, 422);
    assert!(wrong.text.contains("It lies ahead") && wrong.text.contains("cap broken"), "{}", wrong.text);
    assert_eq!(send(&[("printed", "No 12")]).status, 303);
    let after = server.store().read(|s| s.sensors(key(1))).unwrap().remove(0);
    assert_eq!(
        (after.id, &after.sensor.setting, &after.sensor.map),
        (before.id, &before.sensor.setting, &before.sensor.map)
    );
    assert!(!tested(), "the new unit is not tested yet");
    assert!(bram.get("/sites/1/sensors/wiring?controller=1").text.contains("The unit is replaced"));
    assert!(bram.get("/sites/1/logbook").text.contains("No 12; what was wrong: cap broken"));
}

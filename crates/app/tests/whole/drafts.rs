//! A draft of a controller's settings, tried on the weather before it is saved.

use super::http::Person;
use super::programs::{fields, send};
use super::server::Server;
use serde_json::Value;

const CONTROLLER: &str = "/sites/3/controllers/1";

#[test]
fn a_draft_is_tried_beside_the_controller_and_the_settings_stay() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let before = bram.get(CONTROLLER).text;
    let mut draft = fields(&before);
    let minutes = draft.iter().find(|(name, value)| name.starts_with("p0-m") && !value.is_empty());
    let minute = minutes.map(|(name, _)| name.clone()).unwrap();
    draft.insert(minute.clone(), "1".into());
    let tried = send(&bram, &format!("{CONTROLLER}/try"), &draft);
    assert_eq!(tried.status, 303, "{}", tried.text);
    let address = tried.headers["location"].split('#').next().unwrap().to_owned();
    let page = bram.get(&address).text;
    assert!(
        page.contains("Draft of controller 1 on 14 Jul 2026")
            && page.contains("The settings stay as they are")
    );
    assert!(page.contains("Use this option for controller 1"), "it can be taken over from there");
    let told: Value = serde_json::from_str(&bram.get("/sites/3/trial.json").text).unwrap();
    let ways = told["ways"].as_array().unwrap();
    let litres = |way: &Value| way["site"]["litres"].as_f64().unwrap();
    let own = ways.iter().find(|w| w["name"].as_str().unwrap().starts_with("Draft of controller 1")).unwrap();
    let set = ways.iter().find(|w| w["name"] == "as-set").unwrap();
    assert!(litres(own) < litres(set), "a minute is less than what is set");
    let (now, then) = (fields(&bram.get(CONTROLLER).text), fields(&before));
    assert_eq!(now["base_version"], then["base_version"], "nothing was saved");
    // The same sent twice within a minute is one way; another draft is another.
    let sent = || send(&bram, &format!("{CONTROLLER}/try"), &draft).headers["location"].clone();
    let twice = || sent() == sent();
    assert!(twice() || twice(), "no two minutes end so soon");
    assert!(bram.get(&address).text.contains("is tried already"));
    draft.insert(minute, "2".into());
    let other = send(&bram, &format!("{CONTROLLER}/try"), &draft).headers["location"].clone();
    assert_ne!(other, tried.headers["location"]);
    let told: Value = serde_json::from_str(&bram.get("/sites/3/trial.json").text).unwrap();
    let ways = told["ways"].as_array().unwrap();
    let drafts: Vec<f64> =
        ways.iter().filter(|w| w["name"].as_str().unwrap().starts_with("Draft of")).map(litres).collect();
    assert!(drafts.len() >= 2 && drafts[0] < drafts[drafts.len() - 1], "{drafts:?}");
}

#[test]
fn a_draft_that_cannot_be_read_is_not_tried_and_keeps_what_was_typed() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let mut draft = fields(&bram.get(CONTROLLER).text);
    draft.insert("p0-starts".into(), "25:99".into());
    draft.insert("reason".into(), "lawn ran past the window".into());
    let refused = send(&bram, &format!("{CONTROLLER}/try"), &draft);
    assert_eq!(refused.status, 422);
    for words in ["so nothing is tried", "value=\"25:99\"", "value=\"lawn ran past the window\""] {
        assert!(refused.text.contains(words), "{words}");
    }
    assert!(!bram.get("/sites/3/trial.json").text.contains("Draft of controller"));
}

#[test]
fn a_draft_that_the_save_overtook_is_not_kept() {
    let server = Server::start(true);
    let (bram, isla) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "isla"));
    let controller_page = "/sites/1/controllers/1";
    let mut typed = fields(&bram.get(controller_page).text);
    typed.insert("p0-m1".into(), "9".into());
    typed.insert("reason".into(), "less on the lawn".into());
    let theirs = fields(&isla.get(controller_page).text);
    assert_eq!(send(&bram, controller_page, &typed).status, 303);
    // What was sent a moment before the save comes in a moment after it.
    typed.insert("p0-m1".into(), "90".into());
    send(&bram, &format!("{controller_page}/draft"), &typed);
    assert!(!bram.get(controller_page).text.contains("Your draft of"));
    // Who saved nothing keeps hers, and so does who types on from what was saved.
    let mut hers = theirs;
    hers.insert("p0-m1".into(), "14".into());
    send(&isla, &format!("{controller_page}/draft"), &hers);
    assert!(isla.get(controller_page).text.contains("Your draft of"));
    let mut on = fields(&bram.get(controller_page).text);
    on.insert("p0-m1".into(), "10".into());
    send(&bram, &format!("{controller_page}/draft"), &on);
    assert!(bram.get(controller_page).text.contains("Your draft of"));
}

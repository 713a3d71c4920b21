//! The owner's page: a link opens one property in plain words, in two languages, until it is revoked, and nothing else.

use super::http::{Person, token};
use super::server::{Server, key};

/// Makes a link of the first site and returns its address.
fn make(bram: &Person, fields: &[(&str, &str)]) -> String {
    let csrf = token(&bram.get("/sites/1/owner").text);
    let usual = [("csrf", csrf.as_str()), ("name", "Owner"), ("language", "es"), ("baseline", "fixed")];
    let all: Vec<(&str, &str)> = usual.into_iter().chain(fields.iter().copied()).collect();
    let answer = bram.post("/sites/1/owner", &all);
    assert_eq!(answer.status, 303, "{}", answer.text);
    let page = bram.get("/sites/1/owner").text;
    let from = page.find("/o/").expect("the link is shown") + 3;
    assert!(!bram.get("/sites/1/owner").text.contains("/o/"), "shown once");
    format!("/o/{}", page[from..].split('<').next().unwrap())
}

#[test]
// Long: one story, told to its end.
fn a_link_opens_one_property_in_plain_words_until_it_is_revoked() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let path = make(&bram, &[("price", "2.40"), ("currency", "€")]);
    let owner = Person::new(&server);
    let page = owner.get(&path);
    assert_eq!(page.status, 200);
    assert!(page.text.contains("lang=\"es\"") && page.text.contains("El agua en Larkrigg"), "{}", page.text);
    assert!(page.text.contains("Esta noche") && page.text.contains("€"), "{}", page.text);
    assert!(!page.text.contains("/sites/") && !page.text.contains("csrf"), "no page of a technician");
    let english = owner.get(&format!("{path}?lang=en&month=2026-06"));
    for part in
        ["1 June 2026 to 30 June 2026", "Water used", "Rain that the plants used", "Each area", "Tonight"]
    {
        assert!(english.text.contains(part), "{part}: {}", english.text);
    }
    let sheet = owner.get(&format!("{path}/handover?lang=en"));
    assert!(sheet.text.contains("Leave as it is") && sheet.text.contains("Potting shed"), "{}", sheet.text);
    // What cannot be read is said, and what is not the owner's is not there.
    let wrong = owner.get(&format!("{path}?month=June"));
    assert_eq!(wrong.status, 400);
    assert!(wrong.text.contains("Write it as 2026-07"), "{}", wrong.text);
    assert_eq!(owner.get(&format!("{path}/photos/1.jpg")).status, 404);
    assert_eq!(owner.get("/o/0123").status, 404);
    assert_eq!(owner.get("/sites/1/today").status, 303, "it opens nothing else");
    let known = server.store().read(|s| s.owner_links(key(1))).unwrap();
    assert_eq!((known.len(), known[0].views), (1, 3), "the page, not its sheet");
    assert!(bram.get("/sites/1/owner").text.contains("opened 3 times"));

    let csrf = token(&bram.get("/sites/1/owner").text);
    let revoke = format!("/sites/1/owner/{}/revoke", known[0].id);
    assert_eq!(bram.post(&revoke, &[("csrf", &csrf)]).status, 303);
    assert_eq!(owner.get(&path).status, 404);
    assert_eq!(bram.post(&revoke.replace("revoke", "restore"), &[("csrf", &csrf)]).status, 303);
    assert_eq!(owner.get(&path).status, 200);
    assert_eq!(bram.post(&revoke.replace("/1/", "/2/"), &[("csrf", &csrf)]).status, 404, "of another site");
    assert!(bram.get("/sites/1/logbook").text.contains("Owner"), "it is in the logbook");
}

#[test]
fn a_fault_that_was_seen_waits_for_the_owner_until_the_zone_is_seen_without_it() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let zones = server.store().read(|s| s.zones(key(1))).unwrap();
    let lawn = zones.iter().find(|zone| zone.zone.name == "Upper lawn").unwrap().id.to_string();
    let see = |fields: &[(&str, &str)]| {
        let csrf = token(&bram.get("/sites/1/visit").text);
        let usual = [("csrf", csrf.as_str()), ("what", "zone"), ("about", lawn.as_str())];
        let all: Vec<(&str, &str)> = usual.into_iter().chain(fields.iter().copied()).collect();
        assert_eq!(bram.post("/sites/1/visit/entries", &all).status, 303);
        bram.get("/sites/1/owner/page").text
    };
    let page = see(&[("looks", "right"), ("blocked", "on"), ("dry_patches", "on")]);
    assert!(page.contains("Upper lawn: a blocked sprinkler or dripper, seen on"), "{page}");
    assert!(!page.contains("dry patches"), "that is a matter of watering");
    assert!(page.contains("visit by Bram"), "{page}");
    let page = see(&[("looks", "right")]);
    assert!(!page.contains("blocked sprinkler") && page.contains("Nothing waits for you."), "{page}");
}

#[test]
fn a_form_that_is_wrong_says_so_and_keeps_what_was_typed() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let csrf = token(&bram.get("/sites/1/owner").text);
    let typed = [
        ("csrf", csrf.as_str()),
        ("name", "Neighbour"),
        ("language", "en"),
        ("baseline", "fixed"),
        ("price", "dear"),
    ];
    let answer = bram.post("/sites/1/owner", &typed);
    assert_eq!(answer.status, 422);
    assert!(
        answer.text.contains("is not a number") && answer.text.contains("value=\"Neighbour\""),
        "{}",
        answer.text
    );
    let wren = Person::signed_in(&server, "wren");
    assert_eq!(wren.get("/sites/1/owner").status, 403);
}

//! Cards and ordinances that many sites share, and the law of a site, over HTTP.

use super::http::Person;
use super::programs::fields;
use super::server::Server;
use std::collections::BTreeMap;

const LAW: &str = "/sites/1/controllers/1/law";

/// Writes an ordinance; its identity.
fn write(person: &Person, fields: &[(&str, &str)]) -> String {
    assert_eq!(person.post_from("/ordinances/new", "/ordinances", fields).status, 303);
    let law = person.get(LAW).text;
    let all = law.split("/law/").skip(1).filter_map(|r| r.split('"').next()?.parse::<i64>().ok());
    all.max().expect("it is offered").to_string()
}

/// The application of an ordinance that a page of the law was drawn from.
fn base(person: &Person, id: &str) -> String {
    let law = person.get(LAW).text;
    let form = law.split(&format!("/law/{id}\"")).nth(1).expect("its form");
    form.split("name=\"base\" value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned()
}

/// The fields of an edit form as they stand.
fn standing(page: &str) -> BTreeMap<String, String> {
    let mut fields = BTreeMap::new();
    let form = page.split("<form").find(|f| f.contains("name=\"base_version\"")).expect("an edit form");
    for tag in form.split("<input").skip(1).map(|t| t.split('>').next().unwrap()) {
        let attribute =
            |name: &str| tag.split(&format!("{name}=\"")).nth(1).and_then(|a| a.split('"').next());
        let ticked = !tag.contains("type=\"checkbox\"") || tag.contains("checked");
        if let (Some(name), true) = (attribute(" name"), ticked) {
            fields.insert(name.to_owned(), attribute(" value").unwrap_or("on").to_owned());
        }
    }
    for select in form.split("<select").skip(1).map(|t| t.split("</select>").next().unwrap()) {
        let name = select.split(" name=\"").nth(1).unwrap().split('"').next().unwrap();
        let chosen =
            select.split("<option").find(|o| o.contains(" selected")).or(select.split("<option").nth(1));
        let value = chosen.and_then(|o| o.split("value=\"").nth(1)).and_then(|v| v.split('"').next());
        fields.insert(name.to_owned(), value.unwrap_or_default().to_owned());
    }
    fields
}

fn send(person: &Person, page: &str, path: &str, fields: &BTreeMap<String, String>) -> super::http::Answer {
    let own: Vec<(&str, &str)> =
        fields.iter().filter(|(k, _)| *k != "csrf").map(|(k, v)| (k.as_str(), v.as_str())).collect();
    person.post_from(page, path, &own)
}

#[test]
fn an_ordinance_that_two_edit_comes_together_and_an_unchanged_one_says_so() {
    let server = Server::start(true);
    let (bram, isla) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "isla"));
    let id = write(&bram, &[("name", "Larkrigg summer"), ("r0-days", "any"), ("r0-most", "3")]);
    let page = format!("/ordinances/{id}");
    let asked = standing(&bram.get(&page).text);
    assert_eq!((asked["name"].as_str(), asked["r0-most"].as_str()), ("Larkrigg summer", "3"));
    assert_eq!(send(&bram, &page, &page, &asked).status, 303);
    assert!(bram.get("/ordinances").text.contains("Nothing changed; version 1 remains in force."));

    let mut renamed = asked.clone();
    renamed.insert("name".into(), "Larkrigg dry summer".into());
    assert_eq!(send(&bram, &page, &page, &renamed).status, 303);
    assert!(bram.get("/ordinances").text.contains("takes effect at once on every site"));
    let mut fewer = asked;
    fewer.insert("r0-most".into(), "2".into());
    let met = send(&isla, &page, &page, &fewer);
    assert_eq!(met.status, 409);
    let both = standing(&met.text);
    assert_eq!(
        (both["name"].as_str(), both["r0-most"].as_str()),
        ("Larkrigg dry summer", "2"),
        "nothing is lost"
    );
    assert_eq!(send(&isla, &page, &page, &both).status, 303);
    let file: serde_json::Value =
        serde_json::from_str(&bram.get(&format!("{page}/ordinance.json")).text).unwrap();
    assert_eq!(file["ordinance"]["name"], "Larkrigg dry summer", "{file}");
}

#[test]
fn an_ordinance_off_the_list_still_holds_where_it_was_applied_and_comes_back() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let id = write(&bram, &[("name", "Larkrigg even"), ("r0-days", "even_dates")]);
    let (own, of_other) = (format!("{LAW}/{id}"), "/sites/2/controllers/1/law");
    assert!(bram.get(of_other).text.contains("Larkrigg even"), "every site offers it at once");
    assert_eq!(bram.post_from(LAW, &own, &[("base", "0"), ("house", "odd")]).status, 303);
    assert!(bram.get(LAW).text.contains("Larkrigg even applies to this site."));
    let forbidden = |page: &str| bram.get(page).text.contains("Larkrigg even");
    assert!(forbidden("/sites/1/controllers/1"), "the check of the controller says it");
    let list = "/ordinances";
    assert_eq!(bram.post_from(list, &format!("/ordinances/{id}/remove"), &[]).status, 303);
    assert!(bram.get(list).text.contains("is removed from the list. Sites that apply it keep it."));
    assert!(
        !bram.get(of_other).text.contains("Larkrigg even"),
        "a site that does not keep to it has it no more"
    );
    assert!(bram.get(LAW).text.contains("applied here") && forbidden("/sites/1/controllers/1"));
    assert_eq!(
        bram.post_from(list, &format!("/ordinances/{id}/remove"), &[]).status,
        404,
        "it is off already"
    );
    assert_eq!(bram.post_from(list, &format!("/ordinances/{id}/restore"), &[]).status, 303);
    assert!(bram.get(of_other).text.contains("Larkrigg even"));
    let lift = [("base", base(&bram, &id)), ("lift", "yes".to_owned())];
    let lift: Vec<(&str, &str)> = lift.iter().map(|(k, v)| (*k, v.as_str())).collect();
    assert_eq!(bram.post_from(LAW, &own, &lift).status, 303);
    assert!(bram.get(LAW).text.contains("Larkrigg even no longer applies to this site."));
    assert!(!forbidden("/sites/1/controllers/1"));
}

#[test]
fn a_permit_that_cannot_be_read_is_told_at_its_row_and_what_was_typed_is_kept() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let rule = [
        ("name", "Larkrigg none"),
        ("r0-days", "weekdays"),
        ("r0-odd0", "on"),
        ("r0-even1", "on"),
        ("exempts_new_planting", "on"),
    ];
    let id = write(&bram, &rule);
    let own = format!("{LAW}/{id}");
    let permit = |zone: &'static str, until: &'static str| {
        [
            ("base", "0"),
            ("house", "odd"),
            ("permit0-zone", zone),
            ("permit0-until", until),
            ("permit0-reference", "P <7>"),
        ]
    };
    for (zone, until, told) in [
        ("1-1", "soon", "A permit needs its last date."),
        ("1-1", "2026-02-30", "A permit needs its last date."),
        ("lawn", "2026-08-01", "Choose a zone, and keep the reference short."),
    ] {
        let refused = bram.post_from(LAW, &own, &permit(zone, until));
        assert_eq!(refused.status, 422, "{zone} {until}");
        assert!(refused.text.contains(told) && refused.text.contains("P &#60;7&#62;"), "{zone} {until}");
        assert!(refused.text.contains("Nothing is stored yet."));
    }
    assert!(!bram.get(LAW).text.contains("applied here"));
    assert_eq!(bram.post_from(LAW, &own, &permit("1-1", "2026-08-01")).status, 303);
    let law = bram.get(LAW).text;
    assert!(law.contains("value=\"1 Aug 2026\"") && law.contains("P &#60;7&#62;"), "the permit stands");
    assert!(law.contains("permit1-from"), "and asks for the first day of another");
}

#[test]
fn two_ordinances_that_leave_no_night_are_refused_together() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let odd = write(&bram, &[("name", "Larkrigg odd"), ("r0-days", "odd_dates")]);
    let even = write(&bram, &[("name", "Larkrigg even"), ("r0-days", "even_dates")]);
    let keep = |id: &str| bram.post_from(LAW, &format!("{LAW}/{id}"), &[("base", "0"), ("house", "odd")]);
    assert_eq!(keep(&odd).status, 303);
    let refused = keep(&even);
    assert_eq!(refused.status, 422);
    assert!(refused.text.contains("contradict each other for this site"), "{}", refused.text);
    assert!(refused.text.contains("Nothing is stored."));
    assert_eq!(base(&bram, &even), "0");
}

#[test]
fn a_law_that_begins_the_day_after_tomorrow_forbids_nothing_before_its_midnight() {
    let server = Server::start(true);
    let (bram, isla) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "isla"));
    // The demo's evening is Tuesday 14 July 2026; only Sundays are left from the 16th to the 31st.
    let rule = [
        ("name", "Larkrigg ban"),
        ("r0-from", "07-16"),
        ("r0-until", "07-31"),
        ("r0-days", "weekdays"),
        ("r0-odd6", "on"),
        ("r0-even6", "on"),
    ];
    let id = write(&bram, &rule);
    assert_eq!(bram.post_from(LAW, &format!("{LAW}/{id}"), &[("base", "0"), ("house", "odd")]).status, 303);
    assert!(bram.get(LAW).text.contains("Larkrigg ban applies to this site."));
    let forbidden = |at: &str| {
        let page = bram.get(&format!("/sites/1/controllers/1/manual?what=zone&station=1&minutes=10&at={at}"));
        assert_eq!(page.status, 200);
        page.text.contains("Larkrigg ban&#34; forbids this day")
    };
    assert!(!forbidden("23:55"), "on the 14th, over midnight into the 15th");
    let pass = |who: &Person| who.post_from("/sites/1/today", "/clock/day", &[("back", "/sites/1/today")]);
    assert_eq!(pass(&bram).status, 403, "only the owner lets a day pass");
    assert_eq!(pass(&isla).status, 303);
    assert!(!forbidden("23:49"), "on the 15th, to a minute before midnight");
    assert!(forbidden("23:55"), "over midnight into its first day");
    assert_eq!(pass(&isla).status, 303);
    assert!(forbidden("00:00") && forbidden("12:00"), "the 16th is a Thursday");
    assert!(
        bram.get("/sites/1/controllers/1").text.contains("Larkrigg ban"),
        "and the check of the controller says it"
    );
}

#[test]
fn a_card_is_edited_taken_off_the_list_and_offered_again() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let generic = bram.get("/cards/two-wire/card.json").text;
    assert_eq!(bram.upload("/cards", "/cards/open", "card.json", generic.as_bytes()).status, 303);
    let list = bram.get("/cards").text;
    let id =
        list.split("/cards/").filter_map(|r| r.split(['"', '/']).next()?.parse::<i64>().ok()).max().unwrap();
    let page = format!("/cards/{id}");
    let mut fields = standing(&bram.get(&page).text);
    assert_eq!(send(&bram, &page, &page, &fields).status, 303);
    assert!(bram.get("/cards").text.contains("Nothing changed; version 1 remains in force."));
    fields.insert("stations".into(), "0".into());
    let refused = send(&bram, &page, &page, &fields);
    assert_eq!(refused.status, 422);
    assert!(refused.text.contains("0 is outside 1 to 250"), "at its field");
    fields.extend([("stations".into(), "24".into()), ("name".into(), "Gate path".into())]);
    assert_eq!(send(&bram, &page, &page, &fields).status, 303);
    let offered = || bram.get("/sites/1/controllers/new").text.contains(">Gate path<");
    assert!(offered(), "a new controller may be made from it at once");
    assert_eq!(bram.post_from("/cards", &format!("{page}/remove"), &[]).status, 303);
    assert!(!offered());
    assert_eq!(bram.post_from("/cards", &format!("{page}/restore"), &[]).status, 303);
    assert!(offered());
}

#[test]
fn a_card_edited_by_two_comes_together_and_a_smaller_one_shows_what_is_beyond_it() {
    let server = Server::start(true);
    let (bram, isla) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "isla"));
    let path = "/sites/1/controllers/1/card";
    let form = |person: &Person| {
        fields(&person.get(path).text.replace("<form class=\"survey\"", "<form id=\"settings\""))
    };
    let (mut mine, mut theirs) = (form(&bram), form(&isla));
    theirs.insert("programs".into(), "4".into());
    assert_eq!(send(&isla, path, path, &theirs).status, 303);
    mine.insert("place".into(), "Potting shed, north wall".into());
    let conflict = send(&bram, path, path, &mine);
    assert_eq!(conflict.status, 409);
    assert!(
        conflict.text.contains("Isla saved a version")
            && conflict.text.contains("nothing was changed by both")
    );
    let merged = fields(&conflict.text.replace("<form class=\"survey\"", "<form id=\"settings\""));
    assert_eq!((merged["programs"].as_str(), merged["place"].as_str()), ("4", "Potting shed, north wall"));
    assert_eq!(send(&bram, path, path, &merged).status, 303);

    let mut smaller = form(&bram);
    smaller.insert("programs".into(), "2".into());
    smaller.insert("stations".into(), "0".into());
    let refused = send(&bram, path, path, &smaller);
    assert_eq!(refused.status, 422);
    assert!(refused.text.contains("0 is outside 1 to 250"));
    smaller.insert("stations".into(), "8".into());
    assert_eq!(send(&bram, path, path, &smaller).status, 303);
    let shown = bram.get("/sites/1/controllers/1").text;
    assert!(
        shown.contains("go beyond the new controller type")
            && shown.contains("Use the nearest settings that the controller has")
    );
}

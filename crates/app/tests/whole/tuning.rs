//! Visits, what they come to, adjustments, ticks and the logbook: by form, by command, and on a phone without a network.

use super::browser::{Browser, Page};
use super::cli::{run, stderr, stdout};
use super::http::{Person, token};
use super::server::{Server, key};
use serde_json::Value;
use std::time::Duration;

/// Enters something at the visit of today.
fn enter(person: &Person, fields: &[(&str, &str)]) -> String {
    let key = token(&person.get("/sites/1/visit").text);
    let all: Vec<(&str, &str)> = [("csrf", key.as_str())].into_iter().chain(fields.iter().copied()).collect();
    let answer = person.post("/sites/1/visit/entries", &all);
    assert_eq!(answer.status, 303, "{}", answer.text);
    person.get("/sites/1/tuning").text
}

fn zone_id(server: &Server, name: &str) -> String {
    let zones = server.store().read(|s| s.zones(key(1))).unwrap();
    zones.iter().find(|z| z.zone.name == name).unwrap().id.to_string()
}

fn events(server: &Server) -> usize {
    server.store().read(|s| s.events(Some(1), 1000)).unwrap().len()
}

#[test]
// Long: one story, told to its end.
fn a_visit_is_entered_seen_taken_back_and_brought_back() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    assert!(bram.get("/sites/1/tuning").text.contains("inspection"), "nobody inspected it, or a demo did");
    let lawn = zone_id(&server, "Upper lawn");
    let dry = [
        ("what", "zone"),
        ("about", lawn.as_str()),
        ("looks", "dry"),
        ("blocked", "on"),
        ("dry_patches", "on"),
    ];
    let page = enter(&bram, &dry);
    assert!(
        page.contains("Heads are blocked") && page.contains("Clean the heads and filters of 1 Upper lawn")
    );
    assert!(page.contains("Seen: blocked head or dripper."), "why");
    // Sent again with its own key it is kept once.
    let again =
        [("key", "0123456789abcdef0123"), ("what", "zone"), ("about", lawn.as_str()), ("looks", "wet")];
    enter(&bram, &again);
    let before = events(&server);
    enter(&bram, &again);
    assert_eq!(events(&server), before, "a visit sent twice is kept once");
    // Wrong input is told and not kept.
    let wrong = [("what", "zone"), ("about", lawn.as_str()), ("available", "130")];
    let page = enter(&bram, &wrong);
    assert!(page.contains("Not kept yet") && page.contains("must lie between 0 and 100"), "{page}");
    assert_eq!(events(&server), before);
    for (fields, said) in [
        (vec![("what", "box"), ("about", "1"), ("clock", "25:99")], "is not a time"),
        (vec![("what", "box"), ("about", "1"), ("p0_pct", "4000")], "is not a percentage"),
        (vec![("what", "box"), ("about", "1"), ("p0_minutes", "three: 1")], "a station and its minutes"),
        (vec![("what", "nonsense")], "nothing that a visit is about"),
    ] {
        assert!(enter(&bram, &fields).contains(said), "{said}");
    }
    // What the controller shows and nobody knew is said at once.
    let page = enter(
        &bram,
        &[("what", "box"), ("about", "1"), ("p0_same", "on"), ("p0_pct", "60"), ("bypassed", "yes")],
    );
    assert!(
        page.contains("Program A is at 60 %; recorded was 100 %.") && page.contains("bypassed"),
        "{page}"
    );
    // A reader sees it and changes nothing.
    let wren = Person::signed_in(&server, "wren");
    let visit = server.store().read(|s| s.visits(key(1), 1)).unwrap()[0].id;
    let seen = wren.get(&format!("/sites/1/visits/{visit}"));
    assert_eq!((seen.status, seen.text.contains("Apply this adjustment")), (200, false));
    // The visit as a file is one that the command reads.
    let file = bram.get(&format!("/sites/1/visits/{visit}.json"));
    let told: Value = serde_json::from_str(&file.text).unwrap();
    assert_eq!(
        (told["format"].as_str(), told["zones"][0]["looks"].as_str()),
        (Some("upland-almanac-visit"), Some("wet"))
    );
    // And one that another site of the same make takes in, once.
    // Its clock begins anew, so the visit is of that morning.
    let mut morning = told;
    morning["at"] = Value::from("2026-07-14T09:00:00+00:00");
    let morning = morning.to_string();
    let fresh = Server::start(true);
    let wren = Person::signed_in(&fresh, "isla");
    let take = || wren.upload("/sites/1/tuning", "/sites/1/visits", "visit.json", morning.as_bytes()).status;
    assert_eq!((take(), take()), (303, 303));
    assert_eq!(
        fresh.store().read(|s| s.visit_entries(key(1))).unwrap().len(),
        2,
        "a zone and a controller, once"
    );
    assert!(wren.get("/sites/1/tuning").text.contains("0 of 2 entries"));
    let bad = morning.replace("wet", "damp");
    wren.upload("/sites/1/tuning", "/sites/1/visits", "visit.json", bad.as_bytes());
    assert!(wren.get("/sites/1/tuning").text.contains("The visit was not taken: zones[0].looks"));
    let csrf = token(&bram.get("/").text);
    let undo = |what: &str| bram.post(&format!("/sites/1/visits/{visit}/{what}"), &[("csrf", &csrf)]).status;
    assert_eq!((undo("undo"), undo("undo")), (303, 404), "taken off the list, once");
    assert_eq!(bram.get(&format!("/sites/1/visits/{visit}")).status, 404);
    assert_eq!((undo("redo"), undo("redo")), (303, 404));
    let entry = server
        .store()
        .read(|s| s.visit_entries(key(1)))
        .unwrap()
        .iter()
        .find(|e| e.kind == "box")
        .unwrap()
        .id;
    assert_eq!(undo(&format!("entries/{entry}/undo")), 303);
    assert!(!bram.get(&format!("/sites/1/visits/{visit}")).text.contains("A bypass was left on"));
}

#[test]
fn two_people_are_brought_together_and_a_removed_zone_is_a_note() {
    let server = Server::start(true);
    let (bram, isla) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "isla"));
    let lawn = zone_id(&server, "Upper lawn");
    enter(&bram, &[("what", "zone"), ("about", &lawn), ("looks", "dry"), ("runoff", "on")]);
    let page = enter(&isla, &[("what", "zone"), ("about", &lawn), ("looks", "wet"), ("broken", "on")]);
    assert!(page.contains("Bram saw it dry, Isla later wet; the later counts."), "{page}");
    assert!(page.contains("broken head or pipe") && page.contains("water runs off"), "signs of both");
    let page = enter(&bram, &[("what", "zone"), ("about", "99999"), ("name", "9 Old bed"), ("looks", "dry")]);
    assert!(page.contains("The site no longer has zone 9 Old bed. What you saw is kept as a note"), "{page}");
    assert!(bram.get("/sites/1/logbook?q=removed+meanwhile").text.contains("looks dry"));
    // A phone whose clock is a year off: the entry is of today, and the page says so.
    let off = [("at", "2024-01-01T10:00:00Z"), ("sent_at", "2024-01-01T10:05:00Z")];
    let fields: Vec<(&str, &str)> =
        [("what", "site"), ("wet_elsewhere", "on")].into_iter().chain(off).collect();
    let page = enter(&bram, &fields);
    assert!(
        page.contains("phone was") && page.contains("days off; what was entered on it is dated by ours"),
        "{page}"
    );
    assert_eq!(server.store().read(|s| s.visits(key(1), 10)).unwrap().len(), 1, "one visit, of today");
}

#[test]
// Long: one story, told to its end.
fn a_lever_makes_a_version_and_what_is_keyed_in_is_what_the_account_takes() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    // Every zone as the account expects it: then the settings are what is wrong.
    let lawn = zone_id(&server, "Upper lawn");
    let heather = zone_id(&server, "Heather terrace");
    enter(&bram, &[("what", "box"), ("about", "1"), ("all_same", "on")]);
    enter(&bram, &[("what", "zone"), ("about", &lawn), ("looks", "wet")]);
    let page =
        enter(&bram, &[("what", "zone"), ("about", &heather), ("looks", "wet"), ("wet_patches", "on")]);
    let visit = server.store().read(|s| s.visits(key(1), 1)).unwrap()[0].id;
    let levers: Vec<&str> =
        page.split("name=\"lever\" value=\"").skip(1).map(|p| p.split('"').next().unwrap()).collect();
    assert!(!levers.is_empty(), "{page}");
    let csrf = token(&bram.get("/").text);
    let accept = |lever: &str| {
        bram.post(&format!("/sites/1/visits/{visit}/accept"), &[("csrf", &csrf), ("lever", lever)])
    };
    assert_eq!(
        accept("mend-leak-all-all").status,
        303,
        "an adjustment that is no longer proposed is said, not an error"
    );
    let before = server.store().read(|s| s.settings_of_site(key(1))).unwrap();
    let (&controller_id, first) = before.iter().next().unwrap();
    let first = first.version;
    for lever in &levers {
        assert_eq!(accept(lever).status, 303);
    }
    let after = server.store().read(|s| s.settings_of_site(key(1))).unwrap()[&controller_id].version;
    let taken = server.store().read(|s| s.levers(key(1))).unwrap();
    let told = |l: &upland_store::visits::LeverRecord| l.foretold.as_array().map_or(0, Vec::len);
    assert!(taken.iter().all(|l| told(l) == 8), "every zone is forecast");
    assert!(!taken.is_empty() && taken.iter().all(|l| l.look_again > jiff::civil::date(2026, 7, 14)));
    if after == first {
        return;
    }
    // Every adjustment stands in the last version: none undid another.
    let history = bram.get("/sites/1/controllers/1/history").text;
    assert!(history.matches("after a visit:").count() >= usize::try_from(after - first).unwrap());
    let last =
        server.store().read(|s| s.settings_of_site(key(1))).unwrap().remove(&controller_id).unwrap().settings;
    let again = bram.get(&format!("/sites/1/visits/{visit}")).text;
    assert!(!again.contains("Apply this adjustment"), "each says that it is taken: {again}");
    let found = before[&controller_id].settings.clone();
    let changed = upland_core::controller::schedule::difference(&found, &last).len();
    assert!(changed >= usize::try_from(after - first).unwrap(), "{changed} lines");
    // Saved, it counts; once anything is ticked, only what is ticked counts.
    let history = bram.get("/sites/1/controllers/1/history").text;
    assert!(history.contains("Tick a version when it is programmed"), "{history}");
    let tick = |number: i32, back: &str| {
        let number = number.to_string();
        let about = controller_id.to_string();
        let fields = [
            ("csrf", csrf.as_str()),
            ("what", "keyed_in"),
            ("about", &about),
            ("number", &number),
            ("back_off", back),
        ];
        bram.post("/sites/1/ticks", &fields).status
    };
    assert_eq!(tick(first, ""), 303);
    let history = bram.get("/sites/1/controllers/1/history").text;
    assert!(
        history
            .contains(&format!("The controller runs version {first}; version {after} is not programmed yet")),
        "{history}"
    );
    assert_eq!(tick(after, ""), 303);
    assert!(
        bram.get("/sites/1/controllers/1/history")
            .text
            .contains(&format!("The controller runs version {after}, as it was programmed"))
    );
    assert_eq!(tick(after, "yes"), 303, "a tick is undone by a tick");
    assert_eq!(tick(after + 5, ""), 404, "a version that is not there");
    let log = bram.get("/sites/1/logbook?kind=ticks").text;
    assert!(log.contains("programmed at controller 1") && log.contains("taken back"), "{log}");
}

#[test]
fn the_logbook_is_searched_corrected_exported_and_says_why() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let csrf = token(&bram.get("/").text);
    let note = |text: &str, corrects: &str| {
        bram.post("/sites/1/logbook", &[("csrf", &csrf), ("note", text), ("corrects", corrects)]).status
    };
    assert_eq!(note("=HYPERLINK(\"x\") pump serviced", ""), 303);
    assert_eq!(note("", ""), 303);
    assert!(bram.get("/sites/1/logbook").text.contains("Write what there is to note."));
    let page = bram.get("/sites/1/logbook?q=pump").text;
    assert!(page.contains("pump serviced"));
    let id = page.split("id=\"entry-").nth(1).unwrap().split('"').next().unwrap().to_owned();
    assert_eq!(note("it was the filter", &id), 303);
    assert!(
        bram.get("/sites/1/logbook?kind=notes").text.matches("class=\"logwords\"").count() >= 2,
        "a correction is new"
    );
    let csv = bram.get("/sites/1/logbook.csv?q=pump").text;
    assert!(csv.starts_with("at,person,subject,action,zone,words") && csv.contains("'=HYPERLINK"), "{csv}");
    let json: Value = serde_json::from_str(&bram.get("/sites/1/logbook.json?q=pump").text).unwrap();
    assert_eq!(json["entries"].as_array().unwrap().len(), 1);
    for wrong in ["kind=nonsense", "from=July", "zone=x", "person=x", "before=x"] {
        assert_eq!(bram.get(&format!("/sites/1/logbook?{wrong}")).status, 400, "{wrong}");
    }
    // Who removed what, and back again.
    let lawn = zone_id(&server, "Upper lawn");
    assert_eq!(bram.post(&format!("/sites/1/zones/{lawn}/remove"), &[("csrf", &csrf)]).status, 303);
    assert!(bram.get("/sites/1/logbook?kind=zones").text.contains("Restore"));
    let back = [("csrf", csrf.as_str()), ("subject", "zone"), ("id", lawn.as_str()), ("under", "")];
    assert_eq!(bram.post("/sites/1/logbook/restore", &back).status, 303);
    assert_eq!(zone_id(&server, "Upper lawn"), lawn);
    assert_eq!(
        bram.post("/sites/1/logbook/restore", &[("csrf", &csrf), ("subject", "site"), ("id", "1")]).status,
        404
    );
    // Why a zone was as it was: the sums are those of its season.
    let why = bram.get(&format!("/sites/1/zones/{lawn}/why?from=2026-06-20&to=2026-07-10"));
    assert!(
        why.text.contains("Its plants required") && why.text.contains("20 June to 10 July 2026"),
        "{}",
        why.text
    );
    assert_eq!(bram.get(&format!("/sites/1/zones/{lawn}/why?from=2026-07-10&to=2026-06-20")).status, 400);
    assert_eq!(bram.get("/sites/1/zones/99999/why").status, 404);
    assert_eq!(bram.post("/sites/1/printed", &[("csrf", &csrf), ("what", "Controller sheet")]).status, 204);
    assert!(bram.get("/sites/1/logbook?kind=notes").text.contains("Controller sheet"));
}

/// A summer's weather, dry at the end.
fn weather() -> String {
    let mut text = String::from("date,tmin_c,tmax_c,rain_mm\n");
    let mut date = jiff::civil::date(2026, 1, 1);
    for k in 0..195 {
        let season = -(f64::from(k + 15) / 365.0 * std::f64::consts::TAU).cos();
        let rain = if k % 6 == 0 && k < 180 { 9.0 } else { 0.0 };
        let moves = f64::from(k % 7) * 0.2;
        let (min, max) = (6.0 + 8.0 * season + moves, 15.0 + 11.0 * season + moves);
        text.push_str(&format!("{date},{min:.1},{max:.1},{rain}\n"));
        date = date.tomorrow().unwrap();
    }
    text
}

#[test]
fn diagnose_says_causes_levers_and_when_to_look_again() {
    let site = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(site.path(), include_str!("../../src/demo/sites/hollin-green.json")).unwrap();
    let file = tempfile::NamedTempFile::new().unwrap();
    let diagnose = |visit: &str| {
        std::fs::write(file.path(), visit).unwrap();
        run(&["diagnose", site.path().to_str().unwrap(), "-", file.path().to_str().unwrap()], &weather())
    };
    let visit = r#"{"format":"upland-almanac-visit","version":1,"at":"2026-07-14T09:00:00+00:00",
        "zones":[{"station":1,"looks":"dry","signs":["broken"]},{"station":2,"looks":"right"}],
        "boxes":[{"on":true,"bypassed":false,"clock_ahead_s":30}]}"#;
    let out = diagnose(visit);
    let told: Value = serde_json::from_str(&stdout(&out)).unwrap_or_else(|_| panic!("{}", stderr(&out)));
    let causes = told["causes"].as_array().unwrap();
    assert_eq!((causes[0]["code"].as_str(), causes[0]["zone"].as_str()), (Some("broken_head"), Some("1-1")));
    assert!(causes[0]["for"][0].as_str().unwrap().contains("broken head or pipe"));
    assert!(!causes[0]["settle"].as_str().unwrap().is_empty());
    let share: f64 = causes.iter().map(|c| c["share"].as_f64().unwrap()).sum();
    assert!(share > 0.9 && share <= 1.0 + 1e-3, "{share}");
    let lever = &told["levers"][0];
    assert_eq!((lever["code"].as_str(), lever["zone"].as_str()), (Some("mend"), Some("1-1")));
    assert_eq!(told["look_again"], "2026-07-21");
    assert_eq!(stdout(&diagnose(visit)), stdout(&out), "the same bytes");
    for (wrong, said) in [
        (visit.replace("\"station\":1", "\"station\":77"), "no zone on station 77"),
        (visit.replace("\"dry\"", "\"damp\""), "is not one of dry, right, wet"),
        (visit.replace("2026-07-14T09:00:00+00:00", "today"), "is not an instant"),
        (visit.replace("\"station\":2", "\"station\":1"), "says one thing of a zone"),
        ("{".to_owned(), ""),
    ] {
        let out = diagnose(&wrong);
        assert_eq!((out.status.code(), stdout(&out).as_str()), (Some(1), ""), "{wrong}");
        assert!(stderr(&out).contains(said), "{}", stderr(&out));
    }
    let schema: Value = serde_json::from_str(&stdout(&run(&["schema", "visit"], ""))).unwrap();
    assert_eq!(schema["title"], "Upland Almanac visit");
    assert_eq!(stdout(&run(&["schema", "visit"], "")), include_str!("../../../../docs/visit-v1.schema.json"));
}

async fn walked(page: &Page<'_>) -> String {
    page.script("return [...document.querySelectorAll('[data-step]')].find((s) => !s.hidden).id")
        .await
        .as_str()
        .unwrap()
        .to_owned()
}

/// Chooses how the zone on the screen looks, and goes on.
async fn look(page: &Page<'_>, looks: &str) {
    let before = walked(page).await;
    page.script(&format!(
        "const s = [...document.querySelectorAll('[data-step]')].find((s) => !s.hidden); \
         s.querySelector('input[value={looks}]').click(); s.querySelector('form .savebar button').click();"
    ))
    .await;
    for _ in 0..200 {
        if walked(page).await != before {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("the screen stays at {before}: {}", page.text().await)
}

/// Waits until a zone is on the screen.
async fn on_a_zone(page: &Page<'_>) {
    for _ in 0..200 {
        let id = "return [...document.querySelectorAll('[data-step]')].find((s) => !s.hidden && !document.querySelector('.visit-nav').hidden)?.id ?? ''";
        if page.script(id).await.as_str().unwrap().starts_with("zone-") {
            return;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("no zone is on the screen: {}", page.text().await)
}

async fn waiting(page: &Page<'_>, part: &str) {
    for _ in 0..300 {
        let said = page.script("return document.querySelector('.visit-head')?.innerText ?? ''").await;
        let said = said.as_str().unwrap().to_owned();
        if (part.is_empty() && !said.contains("kept on this phone"))
            || (!part.is_empty() && said.contains(part))
        {
            return;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("\"{part}\" is not said: {}", page.text().await)
}

#[tokio::test(flavor = "multi_thread")]
// Long: one story, told to its end.
async fn a_visit_on_a_phone_outlives_a_cut_network_and_a_closed_browser() {
    let mut server = Server::several(true);
    let browser = Browser::open(360, 740).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "bram").await;
    page.goto(&server, "/sites/1/visit").await;
    page.sound("the visit").await;
    // The worker keeps the page and what it needs.
    for _ in 0..200 {
        let kept = page
            .0
            .execute_async(
                "const done = arguments[0]; caches.open('upland-kept').then(async (c) => done((await c.keys()).length));",
                vec![],
            )
            .await
            .unwrap();
        if kept.as_u64().unwrap() >= 6 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    page.script("document.querySelector('[data-step]:not([hidden]) input[name=all_same]').click()").await;
    page.script("[...document.querySelectorAll('[data-step]')].find((s) => !s.hidden).querySelector('form .savebar button').click()").await;
    on_a_zone(&page).await;
    look(&page, "wet").await;
    let kept = || server.store().read(|s| s.visit_entries(key(1))).unwrap().len();
    assert_eq!(kept(), 2, "sent while the network was there");

    server.stop();
    look(&page, "right").await;
    look(&page, "dry").await;
    waiting(&page, "2 kept on this phone").await;
    // The sheet opens as well, and the page itself anew.
    page.goto(&server, "/sites/1/controllers/1/sheet").await;
    assert!(page.text().await.contains("Potting shed"), "{}", page.text().await);
    let browser = browser.reopen(360, 740).await;
    let page = Page(&browser.client);
    page.goto(&server, "/sites/1/visit").await;
    waiting(&page, "2 kept on this phone").await;
    page.script(
        "document.querySelector('[data-step]:not([hidden]) input[name=bypassed][value=no]')?.click()",
    )
    .await;

    server.start_again();
    page.script("window.dispatchEvent(new Event('online'))").await;
    waiting(&page, "").await;
    let entries = server.store().read(|s| s.visit_entries(key(1))).unwrap();
    let mut keys: Vec<_> =
        entries.iter().filter(|e| e.kind == "zone").map(|e| (e.about, e.body["looks"].clone())).collect();
    assert_eq!(keys.len(), 3, "each once: {keys:?}");
    keys.sort_by_key(|(about, _)| *about);
    let looks: Vec<&str> = keys.iter().map(|(_, l)| l.as_str().unwrap()).collect();
    assert_eq!(looks, ["wet", "right", "dry"]);

    // A second phone on the same day writes the same visit.
    let other = Browser::open(360, 740).await;
    let second = Page(&other.client);
    second.sign_in(&server, "isla").await;
    second.goto(&server, "/sites/1/visit").await;
    second.script("location.hash = document.querySelector('[id^=zone-]').id; location.reload()").await;
    on_a_zone(&second).await;
    look(&second, "dry").await;
    second.goto(&server, "/sites/1/tuning").await;
    second.sound("what the visit comes to").await;
    assert!(second.text().await.contains("Bram saw it wet, Isla later dry"), "{}", second.text().await);
    assert_eq!(server.store().read(|s| s.visits(key(1), 10)).unwrap().len(), 1);
    other.close().await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tuning_and_the_logbook_are_sound_at_desk_and_phone() {
    let server = Server::several(true);
    let bram = Person::signed_in(&server, "bram");
    let lawn = zone_id(&server, "Upper lawn");
    enter(&bram, &[("what", "zone"), ("about", &lawn), ("looks", "wet"), ("available", "98")]);
    for width in [1280, 360] {
        let browser = Browser::open(width, 800).await;
        let page = Page(&browser.client);
        page.sign_in(&server, "bram").await;
        for path in
            ["/sites/1/tuning", "/sites/1/visit", "/sites/1/logbook", &format!("/sites/1/zones/{lawn}/why")]
        {
            page.goto(&server, path).await;
            page.sound(&format!("{path} at {width}")).await;
        }
        browser.close().await;
    }
}

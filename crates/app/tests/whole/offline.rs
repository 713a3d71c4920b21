//! A day without a network, in a real browser with its server stopped: pages that were taken along, what is entered on
//! them, and how it is sent when the server is back.

use super::browser::{Browser, Page};
use super::http::{Person, token};
use super::server::{Server, key};
use std::time::Duration;

/// Waits until a script of the page says yes.
async fn until(page: &Page<'_>, what: &str, script: &str) {
    for _ in 0..400 {
        if page.script(script).await.as_bool() == Some(true) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{what} never comes: {}", page.text().await)
}

const SHOWN: &str = "[...document.querySelectorAll('[data-step]')].find((s) => !s.hidden)";

/// How many entries wait in the browser.
async fn waits(page: &Page<'_>) -> u64 {
    let ask = "const done = arguments[0]; window.uplandOutbox.mine().then((all) => done(all.length));";
    page.0.execute_async(ask, vec![]).await.unwrap().as_u64().unwrap()
}

/// Presses the button that keeps the screen of a visit, and waits until it is kept.
async fn save(page: &Page<'_>) {
    let before = waits(page).await;
    page.script(&format!("{SHOWN}.querySelector('form .savebar button').click()")).await;
    for _ in 0..200 {
        if waits(page).await > before {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("nothing is kept: {}", page.text().await)
}

#[tokio::test(flavor = "multi_thread")]
// Long: one story, told to its end.
async fn a_day_without_a_network_is_kept_corrected_and_sent_once() {
    let mut server = Server::several(true);
    let browser = Browser::open(360, 740).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "bram").await;
    page.goto(&server, "/route").await;
    page.script("document.querySelector('form[action=\"/route/propose\"] button').click()").await;
    until(&page, "a route", "return Boolean(document.querySelector('[data-sites]')) && document.querySelectorAll('.stops li').length > 0").await;
    page.sound("the route").await;
    let sites = page.script("return document.querySelector('.titled [data-sites]').dataset.sites").await;
    let sites = sites.as_str().unwrap().to_owned();
    assert!(sites.split(' ').any(|site| site == "1"), "{sites}");
    page.script("[...document.querySelectorAll('.titled button')].find((b) => b.innerText.startsWith('Take')).click()").await;
    until(
        &page,
        "the pages",
        "return document.querySelector('.titled [data-sites]').innerText.includes('Taken along')",
    )
    .await;
    let said = page.script("return document.querySelector('.titled [data-sites]').innerText").await;
    assert!(!said.as_str().unwrap().contains("could not"), "{said}");

    server.stop();
    page.goto(&server, "/sites/1/controllers/1/walk").await;
    until(&page, "the age of the page", "return !document.querySelector('[data-keptline]').hidden").await;
    assert!(page.text().await.contains("less than an hour ago"));
    page.sound("programming steps that were taken along").await;
    page.script("document.querySelector('[data-tick=clock]').click()").await;
    until(
        &page,
        "a tick that waits",
        "return document.querySelector('[data-waiting]').innerText.includes('1 not sent')",
    )
    .await;
    page.goto(&server, "/sites/1/controllers/1/walk").await;
    until(&page, "the tick again", "return document.querySelector('[data-tick=clock]').checked").await;

    // A clock that no clock shows, and behind it what is right.
    page.goto(&server, "/sites/1/visit").await;
    until(&page, "the visit", "return !document.querySelector('.visit-nav').hidden").await;
    page.script(&format!("const c = {SHOWN}.querySelector('[name=clock]'); c.value = '99:99'; c.dispatchEvent(new Event('input', {{ bubbles: true }}))")).await;
    save(&page).await;
    until(&page, "a zone", &format!("return {SHOWN}.id.startsWith('zone-')")).await;
    let zone = page.script(&format!("return {SHOWN}.id")).await.as_str().unwrap().to_owned();
    page.script(&format!("{SHOWN}.querySelector('input[value=dry]').click()")).await;
    save(&page).await;
    page.goto(&server, "/sites/1/controllers/1/manual?what=walk").await;
    page.script("document.querySelector('.steps.run [data-tick]').click()").await;
    page.script("document.querySelector('.steps.run').closest('form').requestSubmit()").await;
    until(&page, "the runs kept", "return Boolean(document.querySelector('.kept-here'))").await;
    // A page that was not taken along leads to what is here.
    page.goto(&server, "/sites/1/trial").await;
    until(&page, "the list", "return document.querySelectorAll('.waitings > li').length === 5 && document.querySelectorAll('.takens li').length > 0").await;
    let text = page.text().await;
    assert!(text.contains("was not taken along") && text.contains("Program controller 1"), "{text}");

    // The phone is restarted: the visit shows what was entered.
    let browser = browser.reopen(360, 740).await;
    let page = Page(&browser.client);
    page.goto(&server, "/sites/1/visit").await;
    until(&page, "what was entered", &format!("const z = document.getElementById('{zone}'); return z.querySelector('input[value=dry]').checked && z.innerText.length >= 0 && z.querySelector('.tag')?.textContent === 'kept here'")).await;

    server.start_again();
    page.goto(&server, "/waiting").await;
    until(&page, "one that was refused", "return document.querySelectorAll('.waitings > li').length === 1 && document.querySelector('.waitings .is-refused') !== null").await;
    page.sound("an entry that was refused").await;
    let text = page.text().await;
    assert!(text.contains("99:99") && text.contains("is not a time"), "{text}");
    let entries = || server.store().read(|s| s.visit_entries(key(1))).unwrap();
    assert_eq!(entries().iter().filter(|e| e.kind == "zone").count(), 1, "what came behind it is there");
    let steps = |list: &str| {
        let list = list.to_owned();
        server.store().read(move |s| s.step_ticks(key(1), &list)).unwrap()
    };
    let list = page_list(&server);
    assert_eq!(steps(&list).iter().map(|tick| tick.step.as_str()).collect::<Vec<_>>(), ["clock"]);
    assert_eq!(runs(&server), 1, "the run of the station test");

    page.script("const c = [...document.querySelectorAll('.waitings input')].find((i) => i.value === '99:99'); c.value = '10:15'; c.dispatchEvent(new Event('change'))").await;
    until(&page, "the corrected entry", "return !document.querySelector('.waitings .is-refused')").await;
    page.script("document.activeElement.blur(); [...document.querySelectorAll('.waitings button')].find((b) => b.innerText.startsWith('Send'))?.click()").await;
    until(&page, "an empty list", "return document.querySelectorAll('.waitings > li').length === 0").await;
    assert_eq!(entries().iter().filter(|e| e.kind != "zone").count(), 1, "the controller, once");
    page.sound("nothing waits").await;
    browser.close().await;
}

/// The list of programming steps of the demo's first controller.
fn page_list(server: &Server) -> String {
    let bram = Person::signed_in(server, "bram");
    let text = bram.get("/sites/1/controllers/1/walk").text;
    let from = text.find("data-key=\"walk-").unwrap() + 10;
    text[from..].split('"').next().unwrap().to_owned()
}

fn runs(server: &Server) -> usize {
    server.sql("SELECT 1 FROM zone_events WHERE kind = 'run' AND reason = 'station test'")
}

#[test]
fn an_entry_with_a_key_counts_once_and_says_where_it_leads() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let csrf = token(&bram.get("/sites/1/controllers/1/manual").text);
    let fields = [("csrf", csrf.as_str()), ("what", "walk"), ("ran-1", "120"), ("seen-1", "blocked")];
    let headers = [("x-part", "entry"), ("x-entry-key", "00112233445566778899aabbccddeeff")];
    let sent = |fields: &[(&str, &str)]| bram.post_with("/sites/1/controllers/1/manual", fields, &headers);
    let before = server.sql("SELECT 1 FROM visit_entries");
    for turn in 0..3 {
        let answer = sent(&fields);
        assert_eq!(answer.status, 200, "{}", answer.text);
        assert!(answer.text.contains("\"kept\":true"), "{}", answer.text);
        assert_eq!(answer.text.contains("manual?what=walk"), turn == 0, "{}", answer.text);
    }
    assert_eq!((runs(&server), server.sql("SELECT 1 FROM visit_entries") - before), (1, 1));
    let page = bram.get("/sites/1/controllers/1/manual?what=walk").text;
    assert!(page.contains("1 run logged for"), "{page}");
    // Who may not is told so in words, and the key is free again.
    let wren = Person::signed_in(&server, "wren");
    let csrf = token(&wren.get("/sites/1/today").text);
    let other = [("x-part", "entry"), ("x-entry-key", "ffeeddccbbaa99887766554433221100")];
    let refused = wren.post_with(
        "/sites/1/steps",
        &[("csrf", csrf.as_str()), ("list", "walk-1-1"), ("step", "clock"), ("on", "yes")],
        &other,
    );
    assert_eq!(refused.status, 403);
    assert!(
        refused.text.contains("may look but not change") && refused.text.contains("\"again\":false"),
        "{}",
        refused.text
    );
    assert_eq!(server.sql("SELECT 1 FROM sent_entries WHERE applied_at IS NULL"), 0);
}

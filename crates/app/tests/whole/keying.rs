//! Fields that understand, a controller keyed as fast as on paper, drafts that are found again, units switched in a half-filled
//! form, and the plan drawn with the pointer and with keys alone.

use super::browser::{Browser, Page, key, press};
use super::http::Person;
use super::programs::{fields, fields_of, send};
use super::server::Server;
use fantoccini::key::Key;
use std::time::Duration;

/// Waits until a script says so.
async fn until(page: &Page<'_>, what: &str, script: &str) {
    for _ in 0..200 {
        if page.holds(script).await {
            return;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    panic!("{what} never came: {}", page.text().await);
}

/// Five zones, one start and three days on an empty controller, the way of a wall chart.
// Long: one story, told to its end.
#[tokio::test(flavor = "multi_thread")]
async fn five_zones_a_start_and_three_days_are_one_line() {
    let server = Server::several(true);
    let person = Person::signed_in(&server, "bram");
    // The demo's second site without what its controller is set to, and with five of its zones.
    let mut site: serde_json::Value = serde_json::from_str(&person.get("/sites/2/site.json").text).unwrap();
    site["controllers"][0].as_object_mut().unwrap().remove("settings");
    site["zones"].as_array_mut().unwrap().truncate(5);
    let file = site.to_string();
    let opened = person.upload("/", "/sites/open", "copy.json", file.as_bytes());
    let path = opened.headers["location"].replace("/today", "/controllers/1");

    let browser = Browser::open(1280, 800).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "bram").await;
    page.goto(&server, &path).await;
    let controls = "return [...document.querySelectorAll('#settings input:not([type=hidden]), #settings select')]\
                    .filter((c) => c.checkVisibility()).length";
    let shown = page.script(controls).await.as_u64().unwrap();
    assert!(shown < 60, "{shown} controls for five zones");

    let line = "A 02:00 mon wed fri 1 12 2 12 3 20 4 1h15 5 7m";
    page.css("#line").await.click().await.unwrap();
    press(&page, line).await;
    press(&page, key(Key::Enter)).await;
    until(&page, "the line", "return document.getElementsByName('p0-m5')[0].value === '7'").await;
    let values = page
        .script(
            "return [...Array(5)].map((_, i) => document.getElementsByName(`p0-m${i + 1}`)[0].value)\
             .concat([...Array(7)].map((_, i) => String(document.getElementsByName(`p0-d${i}`)[0].checked)))",
        )
        .await;
    assert_eq!(
        values,
        serde_json::json!([
            "12", "12", "20", "75", "7", "true", "false", "true", "false", "true", "false", "false"
        ])
    );
    let totals = page.script("return document.getElementById('totals').innerText").await;
    let totals = totals.as_str().unwrap();
    assert!(totals.contains("2 h 6 min") && totals.contains("02:00 to 04:06"), "{totals}");
    page.sound("a controller programmed one line").await;

    // A look at the sheet, and the draft is as it was left.
    page.goto(&server, &format!("{path}/sheet")).await;
    page.goto(&server, &path).await;
    assert!(page.text().await.contains("Your draft of"));
    assert_eq!(page.script("return document.getElementsByName('p0-m4')[0].value").await, "75");

    // Enter goes down the column; a column goes in from where it is pasted.
    page.click("[name=p0-m1]").await;
    press(&page, key(Key::Enter)).await;
    assert_eq!(page.script("return document.activeElement.name").await, "p0-m2");
    page.script(
        "const at = document.activeElement; const data = new DataTransfer(); data.setData('text', '8\\n9\\n10\\n');\
         at.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }));",
    )
    .await;
    until(&page, "the column", "return document.getElementsByName('p0-m4')[0].value === '10'").await;

    // A text with two readings is asked, and one press answers it.
    page.fill("p0-m1", "1:30").await;
    until(&page, "the question", "return document.querySelectorAll('#said-of-fields button').length === 2")
        .await;
    page.click("#said-of-fields button").await;
    until(&page, "the answer", "return document.getElementsByName('p0-m1')[0].value === '1 h 30 min'").await;
    // A depth stands for the minutes that put it down.
    page.script("const f = document.getElementsByName('p0-m1')[0]; f.value = '1/2 in'; f.dispatchEvent(new Event('input', { bubbles: true }))").await;
    until(&page, "the depth", "return document.getElementById('said-of-fields').innerText.includes('min')")
        .await;
    page.fill("reason", "as found").await;
    page.click("#savebar button.is-primary").await;
    until(&page, "saved", "return document.querySelector('.flash') !== null").await;
    assert!(!page.text().await.contains("Your draft of"), "saved is no draft");
    assert_eq!(fields(&person.get(&path).text)["p0-m2"], "8");
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn units_switched_in_a_half_filled_form_keep_what_was_typed() {
    let server = Server::several(true);
    let browser = Browser::open(1280, 800).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "bram").await;
    page.goto(&server, "/sites/1/zones/1/survey").await;
    page.script("document.querySelectorAll('details.group').forEach((d) => { d.open = true; })").await;
    page.fill("rate", "31").await;
    page.fill("name", "Upper lawn, east").await;
    page.click("form[data-units] button").await;
    until(&page, "inches", "return document.querySelector('[name=rate]').dataset.unit === 'in/h'").await;
    assert_eq!(page.script("return document.querySelector('[name=rate]').value").await, "31 mm/h");
    assert_eq!(page.script("return document.querySelector('[name=name]').value").await, "Upper lawn, east");
    until(
        &page,
        "what it means",
        "return document.getElementById('rate-said').textContent.includes('1.22 in/h')",
    )
    .await;
    page.click("form.survey button.is-primary").await;
    page.heading_with("Zones").await;
    let person = Person::signed_in(&server, "bram");
    let site: serde_json::Value = serde_json::from_str(&person.get("/sites/1/site.json").text).unwrap();
    let zone = site["zones"].as_array().unwrap().iter().find(|z| z["name"] == "Upper lawn, east").unwrap();
    assert!((zone["precipitation_rate_mm_per_h"].as_f64().unwrap() - 31.0).abs() < 1e-9, "{zone}");
    browser.close().await;
}

// Long: the same move three times, by pointer, by keys, by the list.
#[tokio::test(flavor = "multi_thread")]
async fn the_plan_is_drawn_with_the_pointer_and_with_keys_alone() {
    let server = Server::several(true);
    let browser = Browser::open(1280, 1000).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "bram").await;
    page.goto(&server, "/sites/1/sensors/plan").await;
    page.css("svg.siteplan .thing").await;
    page.sound("the plan").await;
    let lines = "return document.querySelector('[name=lines]').value.split('\\n')";
    let line = |kind: &'static str| {
        format!(
            "return document.querySelector('[name=lines]').value.split('\\n').filter((l) => l.startsWith('{kind} '))"
        )
    };
    let of = |value: serde_json::Value| -> Vec<String> { serde_json::from_value(value).unwrap() };
    let before = of(page.script(&line("sensor")).await);
    // Pulled by the pointer: the sensor's line moves, and it says what its place gains or loses.
    page.script(
        "const mark = document.querySelector('.thing.sensor circle.mark'); const rect = mark.getBoundingClientRect();\
         const at = (type, target, dx, dy) => target.dispatchEvent(new PointerEvent(type, { bubbles: true, button: 0, clientX: rect.left + 4 + dx, clientY: rect.top + 4 + dy }));\
         at('pointerdown', mark, 0, 0); at('pointermove', document, 60, -20); at('pointerup', document, 120, -50);",
    )
    .await;
    until(
        &page,
        "the move",
        "return document.getElementById('plan-seen').innerText.includes('Not saved there yet')",
    )
    .await;
    assert_ne!(of(page.script(&line("sensor")).await), before);
    page.click("[data-undo]").await;
    until(
        &page,
        "the undo",
        "return !document.getElementById('plan-seen').innerText.includes('Not saved there yet')",
    )
    .await;
    assert_eq!(of(page.script(&line("sensor")).await), before);
    // With keys alone: a controller is added, moved, and something that stands is added and made larger.
    page.script("document.querySelector('[data-add=controller]').focus()").await;
    press(&page, key(Key::Enter)).await;
    until(&page, "the controller", "return document.activeElement.dataset.kind === 'controller'").await;
    let was = of(page.script(&line("controller")).await);
    press(&page, key(Key::Right)).await;
    until(
        &page,
        "the step",
        &format!("return document.querySelector('[name=lines]').value.indexOf('{}') < 0", was[0]),
    )
    .await;
    page.script("document.querySelector('[data-add=obstacle]').focus()").await;
    press(&page, key(Key::Enter)).await;
    until(&page, "the wall", "return document.activeElement.dataset.kind === 'obstacle'").await;
    let walls = of(page.script(&line("obstacle")).await).len();
    press(&page, key(Key::Delete)).await;
    until(
        &page,
        "the wall gone",
        &format!("return document.querySelectorAll('.thing.obstacle').length === {}", walls - 1),
    )
    .await;
    // The shade of an hour.
    page.script("const h = document.querySelector('[name=hour]'); h.value = 9; h.dispatchEvent(new Event('input', { bubbles: true }))").await;
    page.css("polygon.shade").await;
    page.click("form.planform button.is-primary").await;
    page.css(".flash").await;
    assert!(
        of(page.script(lines).await).iter().any(|l| l.starts_with("controller 1 ")),
        "the controller stays"
    );
    browser.close().await;
}

#[test]
fn a_person_reads_and_writes_times_and_dates_their_own_way() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    assert!(bram.get("/sites/1/controllers/1").text.contains("Tue 14 Jul"));
    assert_eq!(bram.post_from("/me", "/me", &[("clock", "12"), ("dates", "month")]).status, 303);
    let shown = bram.get("/sites/1/controllers/1").text;
    assert!(shown.contains("Tue Jul 14") && !shown.contains("Tue 14 Jul"), "the week");
    let starts = &fields(&shown)["p0-starts"];
    assert_eq!(starts, "2:00 AM, 4:15 AM");
    for path in
        ["/sites/1/today", "/sites/1/controllers/1/sheet", "/sites/1/budget", "/sites/1/sensors", "/calls"]
    {
        let text = bram.get(path).text;
        assert!(!text.contains(" 14 Jul") && !text.contains("02:00"), "{path}");
    }
    // The other reader is not touched, whatever was kept for the first.
    let isla = Person::signed_in(&server, "isla");
    let hers = isla.get("/sites/1/controllers/1").text;
    assert!(hers.contains("Tue 14 Jul") && fields(&hers)["p0-starts"] == "02:00, 04:15");
    // What was understood is said the reader's way too.
    assert!(bram.get("/typed?reads=time&text=0300").text.contains("3:00 AM"));
    assert!(isla.get("/typed?reads=time&text=3+AM").text.contains("03:00"));
    let asked = bram.get("/typed?reads=duration&text=1:30").text;
    assert!(asked.contains("1 h 30 min") && asked.contains("1 min 30 s"), "{asked}");
}

#[test]
fn a_controller_that_asks_tells_its_sheet_what_to_key() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let card = "/sites/1/controllers/1/card";
    let mut form = fields(&bram.get(card).text.replace("<form class=\"survey\"", "<form id=\"settings\""));
    form.insert(
        "computing".into(),
        "rate: spray 40, rotor 15, drip 8\nplants: lawn 0.8, shrubs 0.4\ntrim\nefficiency: 75".into(),
    );
    assert_eq!(super::programs::send(&bram, card, &form).status, 303);
    let sheet = bram.get("/sites/1/controllers/1/sheet").text;
    assert!(
        sheet.contains("What the controller asks") && sheet.contains("of its need"),
        "the sheet lists it"
    );
    form.insert("base_version".into(), "2".into());
    form.insert("computing".into(), "rate: spray fast".into());
    let refused = super::programs::send(&bram, card, &form);
    assert_eq!(refused.status, 422);
    assert!(refused.text.contains("is not a number") && refused.text.contains("rate: spray fast"));
}

#[test]
fn a_plan_is_pasted_as_geojson_and_taken_home() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let path = "/sites/1/sensors/plan";
    let home = bram.get("/sites/1/sensors/plan.geojson").text;
    assert!(home.contains("FeatureCollection") && home.contains("potting shed"));
    let base = |person: &Person| {
        let text = person.get(path).text;
        text.split("name=\"base\" value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned()
    };
    let changed = home.replace("potting shed", "seed store");
    assert_eq!(bram.post_from(path, path, &[("base", &base(&bram)), ("lines", &changed)]).status, 303);
    assert!(bram.get(path).text.contains("seed store"));
    let strange =
        bram.post_from(path, path, &[("base", &base(&bram)), ("lines", "sensor 1 1 Nobody knows it")]);
    assert_eq!(strange.status, 422);
    assert!(strange.text.contains("There is no sensor") && strange.text.contains("Nobody knows it"));
}

#[test]
fn a_controller_is_looked_after_by_the_wall_clock_and_water_windows_reach_every_page() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let card = |path: &str| person.get(path).text;
    let tick = |number: &str, back_off: &str| {
        let fields = [("what", "backup_battery"), ("about", "1"), ("number", number), ("back_off", back_off)];
        person.post_from("/sites/1/controllers/1/card", "/sites/1/ticks", &fields).status
    };
    assert!(card("/sites/1/controllers/1/card").contains("Nobody said when the backup battery was changed"));
    assert_eq!(tick("99999999", ""), 404, "a day that has not come");
    // 14 July 2026, as days since 1970.
    assert_eq!(tick("20648", ""), 303);
    for path in ["/sites/1/controllers/1/card", "/sites/1/controllers/1/walk"] {
        assert!(card(path).contains("The backup battery is due on 14 Jul 2027"), "{path}");
    }
    assert!(person.get("/sites/1/logbook?kind=ticks").text.contains("backup battery changed"));
    assert_eq!(tick("20648", "yes"), 303);
    assert!(card("/sites/1/controllers/1/walk").contains("Nobody said when"));

    // A window of half a form is told at its other end, and nothing is stored.
    let mut site = fields_of(&card("/sites/1/edit"), "<form class=\"survey\"");
    site.insert("second_from".into(), "noon".into());
    let refused = send(&person, "/sites/1/edit", &site);
    assert_eq!(refused.status, 422);
    assert!(refused.text.contains("Say when it ends, or leave both ends empty"), "{}", refused.text);
    site.insert("second_until".into(), "2 pm".into());
    assert_eq!(send(&person, "/sites/1/edit", &site).status, 303);
    let mut zone = fields_of(&card("/sites/1/zones/1/survey"), "<form class=\"survey\"");
    zone.insert("window_from".into(), "21:00".into());
    zone.insert("window_until".into(), "23:00".into());
    assert_eq!(send(&person, "/sites/1/zones/1", &zone).status, 303);
    let sheet = card("/sites/1/controllers/1/sheet");
    assert!(sheet.contains("01:00 to 06:30 and 12:00 to 14:00; 1 Upper lawn 21:00 to 23:00"), "{sheet}");
    let settings = card("/sites/1/controllers/1");
    assert!(
        settings.contains("Runs 1 Upper lawn outside its own water window (21:00 to 23:00)"),
        "{settings}"
    );
    // Today lays the night out over both windows of the site where the first does not hold it.
    assert!(card("/sites/1/today").contains("01:00 to 06:30 and 12:00 to 14:00"));
}

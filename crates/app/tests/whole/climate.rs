//! Climate, plant demand and budget, from a strange file to the call list.

use super::browser::{Browser, Page};
use super::http::Person;
use super::server::Server;

/// A strange table: a line above its header, day first, Fahrenheit, inches, decimal commas, "M", and
/// one sunstroke of a value.
fn strange_table() -> tempfile::NamedTempFile {
    let file = tempfile::Builder::new().suffix(".csv").tempfile().unwrap();
    let mut text = String::from("Valley station, daily report\nDatum;T min (F);T max (F);Rain [in]\n");
    for day in 1..=30 {
        let tmax = if day == 12 { "170,5".to_owned() } else { format!("{},{}", 70 + day % 7, day % 10) };
        let rain = if day % 8 == 0 { "0,40" } else { "M" };
        text.push_str(&format!("{day:02}.06.2026;{},{};{tmax};{rain}\n", 46 + day % 5, day % 9));
    }
    std::fs::write(file.path(), text).unwrap();
    file
}

fn minutes(text: &str) -> f64 {
    text.split_whitespace().find_map(|w| w.parse().ok()).unwrap_or_else(|| panic!("no number in {text}"))
}

// Long: one story, told to its end.
#[tokio::test(flavor = "multi_thread")]
async fn a_strange_file_cans_percentages_and_the_call_list() {
    let server = Server::several(true);
    let browser = Browser::open(1280, 800).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "bram").await;

    // A station some way off, and its strange file.
    page.goto(&server, "/sites/1/weather/sources/new").await;
    page.fill("name", "Valley").await;
    page.fill("latitude", "46.3").await;
    page.fill("longitude", "8.2").await;
    page.fill("elevation", "760").await;
    page.click("form.survey button.is-primary").await;
    page.heading_with("Weather").await;
    let file = strange_table();
    page.css(".sources article:last-of-type input[type=file]")
        .await
        .send_keys(file.path().to_str().unwrap())
        .await
        .unwrap();
    page.click(".sources article:last-of-type form.inline button.button").await;
    page.heading_with("is read").await;
    page.sound("mapping").await;
    let text = page.text().await;
    assert!(text.contains("M means \"not measured\""), "{text}");
    assert_eq!(page.script("return document.getElementById('date_order').value").await, "day_first");
    assert_eq!(page.script("return document.querySelector('[name=decimal_comma]').checked").await, true);
    page.click("form button.is-primary").await;
    page.heading_with("30 days in").await;
    page.click("form .button.is-primary").await;
    page.heading_with("is in the record").await;

    // The sunstroke does not count; somebody says that it does, with a reason; then not.
    page.goto(&server, "/sites/1/weather").await;
    page.css(".plot canvas").await;
    page.sound("weather room").await;
    assert!(page.text().await.contains("outside what is physically possible"));
    page.css("#flagged input[name=reason]").await.send_keys("the thermometer was checked").await.unwrap();
    page.click("#flagged form.inline button").await;
    page.css(".flash").await;
    assert!(page.text().await.contains("included manually"));
    page.click(".flash button").await;
    page.css(".flash").await;
    assert!(page.text().await.contains("does not count"));
    page.goto(&server, "/sites/1/weather/compare").await;
    assert!(page.text().await.contains("km off"));
    page.sound("comparison").await;

    // Cans on the upper lawn change its minutes.
    let zone = page.zone_path(&server, "Upper lawn").await;
    page.goto(&server, &format!("{zone}/cans")).await;
    page.script("document.getElementById('across').value = 4; document.getElementById('down').value = 2")
        .await;
    page.click("#lay").await;
    page.fill("throat", "80").await;
    page.css("#paste").await.send_keys("20 22 24 21 23 19 25 22").await.unwrap();
    page.click("button[value=look]").await;
    page.css("#h-result").await;
    page.sound("cans worked out").await;
    // Mean 22 mL on 80 cm² in 10 min: 16.5 mm/h; driest two of eight 19 and 20: 19.5 ÷ 22 is 89 %.
    let text = page.text().await;
    assert!(text.contains("16.5 mm/h") && text.contains("89 %"), "{text}");
    let row = page.script("const c = [...document.querySelectorAll('.result tr')].find(r => r.innerText.includes('Minutes a week')).querySelectorAll('td'); return c[0].innerText + '|' + c[1].innerText").await;
    let row = row.as_str().unwrap().to_owned();
    let (then, was) = row.split_once('|').unwrap();
    assert!((minutes(then) - minutes(was)).abs() > 0.5, "{row}");
    page.click("button[value=save]").await;
    page.css(".flash").await;
    page.heading_with("Upper lawn").await;
    page.goto(&server, "/sites/1/zones/1/survey").await;
    assert!(page.text().await.contains("The rate is from cans"), "the measurement replaced the default");
    page.sound("zone with its ranges").await;

    // Percentages of the month, then the call list.
    page.goto(&server, "/sites/1/controllers/1/budget").await;
    page.sound("budget").await;
    page.click("#h-less ~ .pairs article:first-of-type button").await;
    page.css(".flash").await;
    assert!(page.text().await.contains("of the demand is not met instead of"));
    assert!(page.text().await.contains("Already set"), "the month's percentages come with it");
    page.goto(&server, "/sites/1/controllers/1/budget?month=4").await;
    page.click("form.actions button.is-primary").await;
    page.css(".flash").await;
    assert!(page.text().await.contains("percentages are set"));
    assert!(page.text().await.contains("Already set"));
    // The file waits for every night, so that the page need not look again.
    assert_eq!(Person::signed_in(&server, "wren").get("/calls.csv").status, 200);
    page.goto(&server, "/calls").await;
    page.sound("call list").await;
    assert!(page.text().await.contains("Larkrigg Botanic Slope"));
    page.prints_on_one_page().await;
    browser.close().await;
}

#[test]
fn a_season_is_set_right_by_a_reading_and_a_run_is_logged() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let page = "/sites/1/zones/1/season";
    let events = "/sites/1/zones/1/events";
    let refused = person.post_from(
        page,
        events,
        &[("kind", "reading"), ("date", "2026-07-10"), ("value", "140"), ("reason", "probe")],
    );
    assert_eq!(refused.status, 422);
    assert!(
        refused.text.contains("between 0 % (wilting) and 100 % (full)")
            && refused.text.contains("value=\"140\"")
    );
    let note = |kind, value| {
        person.post_from(
            page,
            events,
            &[
                ("kind", kind),
                ("date", "2026-07-10"),
                ("value", value),
                ("reason", "probe"),
                ("by", "logged"),
            ],
        )
    };
    assert_eq!(note("reading", "35").status, 303);
    assert_eq!(note("run", "12").status, 303);
    let shown = person.get("/sites/1/zones/1/season?by=logged").text;
    assert!(shown.contains("reading; computed") && shown.contains("ran 12 min"));
    let undo = shown.split("action=\"").find(|a| a.starts_with(events) && a.contains("/undo")).unwrap();
    assert_eq!(person.post_from(page, undo.split('"').next().unwrap(), &[]).status, 303);
    assert!(person.get("/sites/1/zones/1/season?by=logged").text.contains("taken back"));
    let reader = Person::signed_in(&server, "wren");
    assert_eq!(reader.post_from(page, events, &[("kind", "run")]).status, 403);
}

#[test]
fn the_year_of_a_building_file_comes_in_by_the_hour() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let mut text = String::from("LOCATION,Larkrigg,-,XX,made up,000000,46.2,8.1,1.0,1040.0\n");
    for line in [
        "DESIGN CONDITIONS,0",
        "TYPICAL/EXTREME PERIODS,0",
        "GROUND TEMPERATURES,0",
        "HOLIDAYS/DAYLIGHT SAVINGS,No,0,0,0",
        "COMMENTS 1,x",
        "COMMENTS 2,y",
        "DATA PERIODS,1,1,Data,Sunday,1/1,12/31",
    ] {
        text.push_str(line);
        text.push('\n');
    }
    for day in 1..=20 {
        for hour in 1..=24 {
            let sun = if (8..=18).contains(&hour) { 400 } else { 0 };
            text.push_str(&format!("2024,7,{day},{hour},0,x,{}.{},9.{},999,99999,0,0,0,{sun},0,0,0,0,0,0,180,2.{},0,0,0,0,0,0,0,0,0,0,0,0.0,1\n", 12 + hour / 3, day % 9, day % 7, hour % 8));
        }
    }
    let page = "/sites/1/weather";
    let brought = person.upload(page, "/sites/1/weather/sources/0/files", "year.epw", text.as_bytes());
    assert_eq!(brought.status, 303, "{}", brought.text);
    let draft = brought.headers["location"].clone();
    let preview = person.get(&draft).text;
    assert!(preview.contains("480 hours") && preview.contains("stamps at the end of the hour"), "{preview}");
    let started = person.post_from(&draft, &draft, &[]);
    let progress = started.headers["location"].clone();
    for _ in 0..100 {
        if person.get(&format!("{progress}.json")).text.contains("\"running\":false") {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    assert!(person.get(page).text.contains("480 hours"), "the import says its hours");
    let source = person
        .get(page)
        .text
        .split("/weather/sources/")
        .nth(1)
        .unwrap()
        .split(['/', '.'])
        .next()
        .unwrap()
        .to_owned();
    let series = |rest: &str| {
        person.get(&format!("/sites/1/weather/series.json?source={source}&variable=tmax{rest}")).text
    };
    assert!(series("").contains("\"hourly\":false"));
    let hours = series("&from=2024-07-02&to=2024-07-03");
    assert!(hours.contains("\"hourly\":true") && hours.matches(',').count() > 200, "{hours}");
    assert_eq!(person.get("/sites/1/weather/series.json?source=99999&variable=tmax").status, 404);
    assert_eq!(
        person.get(&format!("/sites/1/weather/series.json?source={source}&variable=mood")).status,
        400
    );
}

#[test]
fn a_choice_of_sources_needs_its_reason_and_tells_of_another_s() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let page = "/sites/1/weather";
    let made = person.post_from(page, "/sites/1/weather/sources", &[("name", "Table"), ("kind", "normals")]);
    assert_eq!(made.status, 303);
    let normals = made.headers["location"].clone();
    let mut cells: Vec<(String, String)> = Vec::new();
    for m in 0..12 {
        cells.push((format!("tmin{m}"), "3".into()));
        cells.push((format!("tmax{m}"), if m == 4 { "-8" } else { "14" }.into()));
    }
    let send = |cells: &[(String, String)]| {
        let fields: Vec<(&str, &str)> = cells.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        person.post_from(&normals, &normals, &fields)
    };
    let refused = send(&cells);
    assert_eq!(refused.status, 422);
    assert!(
        refused.text.contains("above the maximum") && refused.text.contains("value=\"-8\""),
        "what was typed is kept"
    );
    cells[9].1 = "15".into();
    assert_eq!(send(&cells).status, 303);
    let own = person
        .get(page)
        .text
        .split("/weather/sources/")
        .nth(1)
        .unwrap()
        .split(['/', '.'])
        .next()
        .unwrap()
        .to_owned();
    let choose = |reason: &str| {
        let mut fields = vec![("base", ""), ("reason", reason)];
        for group in ["temperature-first", "humidity-first", "solar-first", "wind-first", "rain-first"] {
            fields.push((group, own.as_str()));
        }
        person.post_from(page, "/sites/1/weather/choice", &fields)
    };
    assert_eq!(choose("").status, 422);
    assert_eq!(choose("it is the only one").status, 303);
    let theirs = choose("no, mine");
    assert_eq!(theirs.status, 409);
    assert!(theirs.text.contains("it is the only one"));
}

#[test]
fn calls_are_a_file_too_and_a_controller_without_runs_is_no_call() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "wren");
    let csv = person.get("/calls.csv").text;
    assert!(
        csv.starts_with(
            "week_from,site,controller,place,program,set_pct,advised_pct,because,record_ended,tonight\n"
        ),
        "{csv}"
    );
    assert!(csv.lines().count() > 4, "{csv}");
    // The file waits for every night; the page then knows them all, and says of each what its Today says.
    let page = person.get("/calls").text;
    assert!(!page.contains("sites are worked out"), "{page}");
    // A sentence with a comma stands in quotation marks.
    let last = |row: &str| match row.strip_suffix('"') {
        Some(quoted) => quoted.rsplit(",\"").next().unwrap().to_owned(),
        None => row.rsplit(',').next().unwrap().to_owned(),
    };
    let sentences: std::collections::BTreeSet<String> = csv.lines().skip(1).map(last).collect();
    assert!(sentences.len() > 1 && !sentences.contains(""), "{sentences:?}");
    let nights: Vec<String> = (1..=4).map(|id| person.get(&format!("/sites/{id}/today")).text).collect();
    for sentence in &sentences {
        assert!(page.contains(sentence.as_str()), "{sentence}");
    }
    let told = sentences.iter().filter(|s| nights.iter().any(|night| night.contains(s.as_str()))).count();
    assert!(told >= 2, "Today says the same: {sentences:?}");
    assert_eq!(person.get("/calls.csv").text, csv, "from the cache the same");
}

//! Sensors: devices over HTTP, and a technician who chooses, wires, calibrates and bypasses.

use super::browser::{Browser, Page};
use super::http::{Answer, Person};
use super::server::Server;
use jiff::{SignedDuration, Timestamp, ToSpan};

const SENSOR: &str = "/sites/1/sensors/1";

pub fn token_on(page: &str) -> String {
    page.split("<code class=\"token\">")
        .nth(1)
        .expect("a token that is shown once")
        .split('<')
        .next()
        .unwrap()
        .to_owned()
}

/// A device of the first sensor; returns its token.
pub fn device(person: &Person, name: &str) -> String {
    assert_eq!(person.post_from(SENSOR, &format!("{SENSOR}/devices"), &[("name", name)]).status, 303);
    let shown = person.get(SENSOR).text;
    assert!(!person.get(SENSOR).text.contains("class=\"token\""), "it is shown once");
    token_on(&shown)
}

pub fn post(server: &Server, token: &str, body: &str) -> Answer {
    Person::new(server).post_json("/api/v1/readings", token, body)
}

/// The evening on which the clock of the demo begins.
fn evening() -> Timestamp {
    "2026-07-14T21:00:00Z".parse().unwrap()
}

fn at(minutes_ago: i64) -> String {
    (evening() - SignedDuration::from_mins(minutes_ago)).to_string()
}

pub fn body(readings: &[(&str, String, &str)]) -> String {
    let all: Vec<String> = readings
        .iter()
        .map(|(channel, at, value)| {
            format!("{{\"channel\":\"{channel}\",\"at\":\"{at}\",\"value\":{value}}}")
        })
        .collect();
    format!("{{\"readings\":[{}]}}", all.join(","))
}

#[test]
fn readings_are_kept_once_in_any_order_and_each_refusal_has_its_reason() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let token = device(&person, "Gauge");
    let mixed = body(&[("rain_mm", at(10), "0.4"), ("rain_mm", at(30), "13"), ("rain_mm", at(20), "0")]);
    let first = post(&server, &token, &mixed);
    assert_eq!(first.status, 200, "{}", first.text);
    assert!(first.text.contains("\"taken\":3") && first.text.contains("\"repeated\":0"));
    let again = post(&server, &token, &mixed);
    assert!(again.text.contains("\"taken\":0") && again.text.contains("\"repeated\":3"), "{}", again.text);
    let bad = body(&[
        ("mood\\u0000", at(5), "1"),
        ("rain_mm", (evening() + 2.hours()).to_string(), "1"),
        ("rain_mm", "2001-01-01T00:00:00Z".into(), "1"),
        ("rain_mm", at(4), "-3"),
        ("rain_mm", "today".into(), "1"),
        ("rain_mm", at(3), "0.2"),
    ]);
    let told = post(&server, &token, &bad);
    assert_eq!(told.status, 200);
    for reason in
        ["unknown channel", "future", "older than 400 days", "must lie between 0 and 500", "not RFC 3339"]
    {
        assert!(told.text.contains(reason), "{reason} in {}", told.text);
    }
    assert!(told.text.contains("\"taken\":1"));
    let shown = person.get(SENSOR).text;
    assert!(
        shown.contains("future stamp refused, 1 times") && shown.contains("impossible value refused"),
        "counted and visible"
    );
    assert!(
        shown.contains("From its own readings") && shown.contains("Prevents watering"),
        "13 mm trip it: {shown}"
    );
    // Nothing of a post that is refused whole is stored.
    let only_bad = body(&[("rain_mm", at(2), "9999")]);
    assert_eq!(post(&server, &token, &only_bad).status, 422);
}

#[test]
fn tokens_are_rotated_revoked_and_limited() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let old = device(&person, "Gauge");
    let one = |minutes| body(&[("rain_mm", at(minutes), "0.2")]);
    assert_eq!(post(&server, &old, &one(50)).status, 200);
    let devices = person.get(SENSOR).text;
    let rotate = devices
        .split("action=\"")
        .find(|a| a.contains("/rotate\""))
        .unwrap()
        .split('"')
        .next()
        .unwrap()
        .to_owned();
    assert_eq!(person.post_from(SENSOR, &rotate, &[]).status, 303);
    let new = token_on(&person.get(SENSOR).text);
    assert_eq!(post(&server, &old, &one(40)).status, 200, "good until the new one was used");
    assert_eq!(post(&server, &new, &one(30)).status, 200);
    assert_eq!(post(&server, &old, &one(20)).status, 401, "and not after");
    assert_eq!(person.post_from(SENSOR, &rotate.replace("rotate", "revoke"), &[]).status, 303);
    let revoked = post(&server, &new, &one(10));
    assert_eq!(revoked.status, 403);
    assert!(revoked.text.contains("revoked") && person.get(SENSOR).text.contains("revoked token refused"));
    for (token, status) in [("", 401), ("nonsense", 401)] {
        assert_eq!(post(&server, token, &one(5)).status, status);
    }
    assert!(
        person.get("/sites/1/sensors").text.contains("Posts with unknown tokens: 2, last"),
        "counted and visible"
    );
    let guesses: Vec<u16> = (0..80).map(|i| post(&server, &format!("guess{i}"), &one(5)).status).collect();
    assert!(guesses.contains(&429) && guesses[0] == 401, "guessing is slowed down: {guesses:?}");
    // Two devices at one address are told so; a device that floods is slowed down.
    let (first, second) = (device(&person, "Left"), device(&person, "Right"));
    assert_eq!(post(&server, &first, &one(9)).status, 200);
    assert!(post(&server, &second, &one(8)).text.contains("same address"));
    // Eight at once, so that a slow machine floods as well.
    let flood = || (0..60).map(|_| post(&server, &first, &one(7)).status).collect::<Vec<u16>>();
    let statuses: Vec<u16> = std::thread::scope(|scope| {
        let all: Vec<_> = (0..8).map(|_| scope.spawn(flood)).collect();
        all.into_iter().flat_map(|one| one.join().unwrap()).collect()
    });
    assert!(statuses.contains(&429) && statuses.contains(&200), "{statuses:?}");
    let skewed = format!("{{\"device_time\":\"{}\",{}", evening() - 3.hours(), &one(6)[1..]);
    assert!(post(&server, &second, &skewed).text.contains("clock is off by"));
}

#[test]
fn a_post_that_is_not_as_described_is_refused_whole() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let token = device(&person, "Gauge");
    for (text, status) in [
        ("", 400),
        ("{}", 400),
        ("{\"readings\":[]}", 400),
        ("{\"readings\":[{\"channel\":\"rain_mm\",\"at\":\"2026-07-14T00:00:00Z\"}]}", 400),
        ("{\"readings\":[],\"secret\":1}", 400),
        ("{\"readings\":[{\"channel\":\"rain_mm\",\"at\":\"2026-07-14T00:00:00Z\",\"value\":\"wet\"}]}", 400),
    ] {
        let answer = post(&server, &token, text);
        assert_eq!(answer.status, status, "{text}: {}", answer.text);
        assert!(answer.text.contains("not as described"), "{}", answer.text);
    }
    let many: Vec<(&str, String, &str)> = (0..5001).map(|i| ("rain_mm", at(i), "0")).collect();
    let told = post(&server, &token, &body(&many));
    assert!(told.status == 400 && told.text.contains("at most 5000"), "{}", told.text);
    for (path, allowed) in [("readings", "POST"), ("time", "GET"), ("openapi.json", "GET")] {
        for method in ["TRACE", "OPTIONS", "DELETE"] {
            let answer = person.request(method, &format!("/api/v1/{path}"));
            let told = answer.headers.get("allow").map(String::as_str);
            assert_eq!((answer.status, told), (405, Some(allowed)), "{method} {path}");
        }
    }
    assert_eq!(person.get("/api/v1/readings").status, 405);
    assert_eq!(person.get("/api/v1/openapi.json").status, 200);
}

#[test]
fn sentence_6_a_token_brings_so_many_new_readings_a_day_and_is_told_what_is_left() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let token = device(&person, "Gauge");
    let left = |answer: &Answer| answer.headers.get("ratelimit-remaining").cloned();
    let three = |from| {
        body(&[("rain_mm", at(from), "0"), ("rain_mm", at(from + 1), "0"), ("rain_mm", at(from + 2), "0")])
    };
    let first = post(&server, &token, &three(10));
    assert_eq!((first.status, left(&first).as_deref()), (200, Some("249997")));
    let again = post(&server, &token, &three(10));
    assert_eq!(left(&again).as_deref(), Some("249997"), "what is known already costs nothing");
    assert_eq!(server.sql("UPDATE sensor_devices SET quota_taken = 249998 WHERE quota_taken = 3"), 1);
    let refused = post(&server, &token, &three(20));
    assert_eq!((refused.status, left(&refused).as_deref()), (429, Some("2")), "{}", refused.text);
    assert!(refused.text.contains("2 are left; nothing of this post was stored"), "{}", refused.text);
    let wait: u64 = refused.headers["retry-after"].parse().unwrap();
    assert!((1..=86_400).contains(&wait));
    assert_eq!(
        server.sql("UPDATE sensor_devices SET quota_day = quota_day - 1 WHERE quota_taken = 249998"),
        1
    );
    let next = post(&server, &token, &three(20));
    assert_eq!((next.status, left(&next).as_deref()), (200, Some("249997")), "another day");
}

#[test]
fn a_bypass_a_task_and_the_roles() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let events = format!("{SENSOR}/events");
    let refused = person.post_from(SENSOR, &events, &[("kind", "bypass"), ("hours", "9999")]);
    assert_eq!(refused.status, 422);
    assert!(
        refused.text.contains("Say why")
            && refused.text.contains("1 to 336 hours")
            && refused.text.contains("value=\"9999\"")
    );
    assert_eq!(person.post_from(SENSOR, &events, &[("kind", "bypass"), ("reason", "new turf")]).status, 303);
    let list = person.get("/sites/1/sensors").text;
    assert!(list.contains("is on bypass until Wed 15 Jul, 20:00: new turf (Bram)"), "{list}");
    assert!(person.get("/sites/1/today?date=2026-07-14").text.contains("is on bypass until"));
    assert!(
        !person.get("/sites/1/today?date=2026-07-15").text.contains("is on bypass until"),
        "it ended by itself"
    );
    let due = person.get(SENSOR).text;
    assert!(due.contains("change its battery since"), "overdue on the demo's evening");
    assert_eq!(
        person
            .post_from(SENSOR, &events, &[("kind", "task"), ("task", "battery"), ("date", "2026-07-14")])
            .status,
        303
    );
    assert!(person.get(SENSOR).text.contains("due 14 Jan 2027"));
    assert_eq!(
        person
            .post_from(SENSOR, &events, &[("kind", "task"), ("task", "battery"), ("date", "2099-07-14")])
            .status,
        422
    );
    let reader = Person::signed_in(&server, "wren");
    assert_eq!(reader.get(SENSOR).status, 200);
    assert_eq!(reader.post_from("/", &events, &[("kind", "bypass"), ("reason", "x")]).status, 403);
    assert_eq!(reader.get(&format!("{SENSOR}/edit")).status, 403);
}

#[test]
fn two_people_editing_a_sensor_and_its_plan_lose_nothing() {
    let server = Server::start(true);
    let (bram, isla) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "isla"));
    let form = format!("{SENSOR}/edit");
    let fields = |name: &str, base: &str| {
        let page = bram.get(&form).text;
        let mut all: Vec<(String, String)> = Vec::new();
        for part in page.split("<input class=\"input\" id=\"").skip(1) {
            let id = part.split('"').next().unwrap().to_owned();
            let value = part.split("value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned();
            all.push((id, value));
        }
        for part in page.split("<select id=\"").skip(1) {
            let id = part.split('"').next().unwrap().to_owned();
            let chosen = part
                .split("</select>")
                .next()
                .unwrap()
                .split(" selected")
                .next()
                .unwrap()
                .rsplit("value=\"")
                .next()
                .unwrap();
            all.push((id, chosen.split('"').next().unwrap().to_owned()));
        }
        all.retain(|(k, _)| k != "name");
        all.push(("name".into(), name.into()));
        all.push(("base_version".into(), base.into()));
        all
    };
    let send = |who: &Person, all: &[(String, String)]| {
        let pairs: Vec<(&str, &str)> = all.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        who.post_from(&form, &form, &pairs)
    };
    assert_eq!(send(&isla, &fields("Shed rain", "1")).status, 303);
    let late = send(&bram, &fields("Roof rain", "1"));
    assert_eq!(late.status, 409, "{}", late.text);
    assert!(
        late.text.contains("Isla saved version 2")
            && late.text.contains("Name: Shed rain")
            && late.text.contains("value=\"Roof rain\"")
    );
    let plan = "/sites/1/sensors/plan";
    let bad = bram.post_from(plan, plan, &[("lines", "zone 1 0 0\nhead 1 1 4 0 90"), ("base", "1")]);
    assert_eq!(bad.status, 422);
    assert!(
        bad.text.contains("Line 1: a zone is") && bad.text.contains("head 1 1 4 0 90"),
        "what was typed is kept"
    );
    assert_eq!(bram.post_from(plan, plan, &[("lines", "zone 1 0 0 9 9"), ("base", "77")]).status, 422);
    let file = bram.get("/sites/1/site.json").text;
    assert!(
        file.contains("\"sensors\"") && file.contains("\"plan\"") && file.contains("Shed rain"),
        "the whole site goes out"
    );
}

/// A run of a probe as lines: it drains from one level to another.
fn run(rest: f64, rise: f64, wet_at: Option<f64>) -> String {
    (0..=24)
        .map(|h| {
            let h = f64::from(h);
            let water = wet_at.filter(|w| h >= *w).map_or(0.0, |_| 5.0);
            let at =
                jiff::civil::date(2026, 5, 4).at(8, 0, 0, 0) + SignedDuration::from_secs((h * 3600.0) as i64);
            format!("{} {:.2}", at.strftime("%Y-%m-%d %H:%M"), rest + rise * (-h / 5.0).exp() + water)
        })
        .collect::<Vec<_>>()
        .join("\n")
}

// Long: one story, told to its end.
#[tokio::test(flavor = "multi_thread")]
async fn sensors_are_chosen_wired_calibrated_mapped_and_bypassed() {
    let server = Server::several(true);
    let browser = Browser::open(1280, 800).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "bram").await;

    // The controller at the gate has one port, and a switch under the eave on it; a relay must share it.
    page.goto(&server, "/sites/2/sensors").await;
    page.sound("sensors").await;
    assert!(page.text().await.contains("Place: will not work there"));
    page.goto(&server, "/sites/2/sensors/new?card=soil_relay").await;
    page.sound("sensor form").await;
    page.fill("name", "Gate lawn probe").await;
    page.script("document.getElementById('probe_station').value = '5'").await;
    page.fill("height", "0.1").await;
    page.click("form.survey button.is-primary").await;
    page.heading_with("Gate lawn probe").await;
    page.goto(&server, "/sites/2/sensors/wiring").await;
    page.sound("wiring").await;
    let text = page.text().await;
    assert!(
        text.contains("in series: either one opens the loop")
            && text.contains("Take the jumper out of port 1"),
        "{text}"
    );
    assert!(
        text.find("Switch the controller off").unwrap() < text.find("Take the jumper out").unwrap(),
        "power off first"
    );

    // A calibration that fails for its reason, and one that passes.
    page.goto(&server, "/sites/2/sensors").await;
    let probe = page
        .script("return [...document.querySelectorAll('.sensors h2 a')].find(a => a.innerText.includes('Gate lawn')).getAttribute('href')")
        .await;
    let probe = probe.as_str().unwrap().to_owned();
    page.goto(&server, &format!("{probe}/calibrate")).await;
    page.sound("calibration").await;
    let look = |lines: String| {
        format!(
            "document.getElementById('begun').value = '2026-05-04T08:00'; document.getElementById('lines').value = `{lines}`; document.querySelector('button[value=look]').click()"
        )
    };
    page.script(&look(run(24.0, 14.0, Some(9.0)))).await;
    page.css("#h-out").await;
    assert!(page.text().await.contains("Water came: the reading rose by"), "{}", page.text().await);
    page.script(&look(run(24.0, 14.0, None))).await;
    page.css("button[value=take]").await;
    let text = page.text().await;
    assert!(
        text.contains("Threshold 24 %") && text.contains("Silty clay usually drains to 30 to 42 %"),
        "{text}"
    );
    page.sound("calibrated").await;
    // A level that this soil does not usually drain to is asked about, and taken once both were checked.
    page.click("button[value=take]").await;
    page.css(".message.is-danger").await;
    assert!(page.text().await.contains("% was not set."), "{}", page.text().await);
    page.click("input[name=checked]").await;
    page.click("button[value=take]").await;
    page.css(".flash").await;
    assert!(page.text().await.contains("Skips watering at 24 % and above"));

    // The map, and a zone chosen against the proposal.
    page.goto(&server, "/sites/2/sensors/map").await;
    page.sound("map").await;
    assert!(page.text().await.contains("rain never reaches it, so rain must not stop it"));
    page.click(".tiemap button[value=yes]").await;
    page.css(".flash").await;
    assert!(page.text().await.contains("chosen so"));

    // A rain hold on the strip of a night, bypassed, and gone with the bypass.
    page.goto(&server, "/sites/1/sensors/1").await;
    page.sound("sensor").await;
    assert!(page.text().await.contains("Wrongly skipped nights"));
    page.goto(&server, "/sites/1/controllers/1?night=2026-07-08").await;
    page.css(".by-station").await;
    let held = page.script("return document.querySelectorAll('.by-station .held').length").await;
    assert!(held.as_u64().unwrap() > 0, "the storm of the eighth stopped what was set for its night");
    page.goto(&server, "/sites/1/controllers/1?night=2026-07-13").await;
    page.css(".by-station").await;
    assert_eq!(
        page.script("return document.querySelectorAll('.by-station .held').length").await,
        0,
        "and dried out by the tenth"
    );
    page.goto(&server, "/sites/1/today?date=2026-07-08").await;
    page.css("svg.night .held").await;
    assert!(page.text().await.contains("mm of rain, until"), "{}", page.text().await);
    page.goto(&server, "/sites/1/sensors/plan").await;
    page.sound("plan").await;
    assert!(page.text().await.contains("from an obstacle"));
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hold_is_seen_on_tonight_s_strip_and_ends_with_a_bypass() {
    let server = Server::several(true);
    let browser = Browser::open(1280, 800).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "bram").await;
    // The shed's switch is set to its smallest step by days: the rain of the eighth holds for a week.
    page.goto(&server, "/sites/1/sensors/1/edit").await;
    page.script("document.getElementById('release').value = 'days'").await;
    page.fill("hold_days", "14").await;
    page.click("form.survey button.is-primary").await;
    page.css(".flash").await;
    page.goto(&server, "/sites/1/today?date=2026-07-14").await;
    page.css("svg.night .held").await;
    let bars = page.script("return [document.querySelectorAll('svg.night .held').length, document.querySelectorAll('svg.night .will').length]").await;
    let bars: Vec<u64> = bars.as_array().unwrap().iter().map(|v| v.as_u64().unwrap()).collect();
    assert!(bars[0] > 0, "the controller's own runs are held: {bars:?}");
    assert!(page.text().await.contains("Held by Potting shed rain and frost"), "{}", page.text().await);
    page.sound("today with a hold").await;
    page.goto(&server, "/sites/1/controllers/1").await;
    page.css(".by-station .held").await;
    // Bypass it for a day: tonight runs, the night after does not.
    page.goto(&server, "/sites/1/sensors/1").await;
    page.css("#bypass input[name=reason]").await.send_keys("new turf needs its water").await.unwrap();
    page.click("#bypass button").await;
    page.css(".flash").await;
    page.goto(&server, "/sites/1/today?date=2026-07-14").await;
    assert_eq!(page.script("return document.querySelectorAll('svg.night .held').length").await, 0);
    assert!(page.text().await.contains("is on bypass until"));
    page.goto(&server, "/sites/1/today?date=2026-07-16").await;
    page.css("svg.night .held").await;
    assert!(!page.text().await.contains("on bypass"), "it ended by itself");
    browser.close().await;
}

#[test]
fn a_stand_in_posts_over_the_same_interface_and_stops() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    assert_eq!(person.post_from(SENSOR, &format!("{SENSOR}/stand-in"), &[("speed", "86400")]).status, 303);
    let mut heard = false;
    for _ in 0..100 {
        if person.get(SENSOR).text.contains("From its own readings") {
            heard = true;
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    assert!(heard, "{}", person.get(SENSOR).text);
    assert!(person.get(SENSOR).text.contains("A simulated unit runs"));
    assert_eq!(person.post_from(SENSOR, &format!("{SENSOR}/stand-in/stop"), &[]).status, 303);
    assert!(!person.get(SENSOR).text.contains("A simulated unit runs"));
}

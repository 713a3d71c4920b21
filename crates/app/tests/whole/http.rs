//! The server over HTTP: who may do what, what is refused and how, and how heavy a page is.

use super::server::Server;
use std::collections::BTreeMap;
use ureq::http::Response;
use ureq::{Agent, Body};

/// A person with a cookie jar.
pub struct Person {
    agent: Agent,
    url: String,
}

/// An answer, read.
pub struct Answer {
    pub status: u16,
    pub text: String,
    pub headers: BTreeMap<String, String>,
}

fn read(mut response: Response<Body>) -> Answer {
    let headers = response
        .headers()
        .iter()
        .map(|(k, v)| (k.to_string(), v.to_str().unwrap_or_default().to_owned()))
        .collect();
    let bytes = response.body_mut().with_config().limit(64 * 1024 * 1024).read_to_vec().unwrap();
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let headers: BTreeMap<String, String> = headers;
    let is_page = headers.get("content-type").is_some_and(|kind| kind.starts_with("text/html"));
    // As a reader sees it: where a template breaks its lines is nothing to a page.
    let text = if is_page { text.split_whitespace().collect::<Vec<_>>().join(" ") } else { text };
    Answer { status: response.status().as_u16(), text, headers }
}

/// The form token of a page.
pub fn token(page: &str) -> String {
    let at = page.find("name=\"csrf\" value=\"").expect("a form with a token") + 19;
    page[at..].split('"').next().unwrap().to_owned()
}

impl Person {
    pub fn new(server: &Server) -> Self {
        let agent = Agent::config_builder()
            .http_status_as_error(false)
            .max_redirects(0)
            .max_redirects_will_error(false)
            .build()
            .into();
        Self { agent, url: server.url.clone() }
    }

    pub fn signed_in(server: &Server, login: &str) -> Self {
        let person = Self::new(server);
        let answer = person.sign_in(login, "larkrigg-demo");
        assert_eq!(answer.status, 303, "{}", answer.text);
        person
    }

    fn sign_in(&self, login: &str, password: &str) -> Answer {
        self.post_from("/sign-in", "/sign-in", &[("login", login), ("password", password)])
    }

    pub fn get(&self, path: &str) -> Answer {
        read(self.agent.get(format!("{}{path}", self.url)).call().unwrap())
    }

    fn get_packed(&self, path: &str) -> usize {
        let mut response =
            self.agent.get(format!("{}{path}", self.url)).header("accept-encoding", "br").call().unwrap();
        assert_eq!(response.status().as_u16(), 200, "{path}");
        response.body_mut().read_to_vec().unwrap().len()
    }

    /// A request by any method, without a body.
    pub fn request(&self, method: &str, path: &str) -> Answer {
        // The client would unpack the body that a HEAD does not have.
        let request = ureq::http::Request::builder()
            .method(method)
            .uri(format!("{}{path}", self.url))
            .header("accept-encoding", "identity");
        read(self.agent.run(request.body(()).unwrap()).unwrap())
    }

    pub fn post(&self, path: &str, fields: &[(&str, &str)]) -> Answer {
        read(self.agent.post(format!("{}{path}", self.url)).send_form(fields.iter().copied()).unwrap())
    }

    /// Posts a form with some headers.
    pub fn post_with(&self, path: &str, fields: &[(&str, &str)], headers: &[(&str, &str)]) -> Answer {
        let mut request = self.agent.post(format!("{}{path}", self.url));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        read(request.send_form(fields.iter().copied()).unwrap())
    }

    /// Posts JSON with a bearer token.
    pub fn post_json(&self, path: &str, token: &str, body: &str) -> Answer {
        let mut request =
            self.agent.post(format!("{}{path}", self.url)).header("content-type", "application/json");
        if !token.is_empty() {
            request = request.header("authorization", format!("Bearer {token}"));
        }
        read(request.send(body).unwrap())
    }

    /// Reads with a bearer token; with none where it is empty.
    pub fn get_with_token(&self, path: &str, token: &str) -> Answer {
        let mut request = self.agent.get(format!("{}{path}", self.url));
        if !token.is_empty() {
            request = request.header("authorization", format!("Bearer {token}"));
        }
        read(request.call().unwrap())
    }

    /// Sends a form with the token of the page it stands on.
    pub fn post_from(&self, page: &str, path: &str, fields: &[(&str, &str)]) -> Answer {
        let token = token(&self.get(page).text);
        let mut all = vec![("csrf", token.as_str())];
        all.extend_from_slice(fields);
        self.post(path, &all)
    }

    /// Sends a file with the token of the page it stands on.
    pub fn upload(&self, page: &str, path: &str, name: &str, content: &[u8]) -> Answer {
        self.upload_with(page, path, &[], (name, content))
    }

    /// The same with fields before the file, which has a name and a content.
    pub fn upload_with(
        &self,
        page: &str,
        path: &str,
        fields: &[(&str, &str)],
        file: (&str, &[u8]),
    ) -> Answer {
        let token = token(&self.get(page).text);
        let boundary = "----upland-test-boundary";
        let part = |head: &str, text: &str| {
            format!("--{boundary}\r\ncontent-disposition: form-data; name={head}\r\n\r\n{text}")
        };
        let fields = [("csrf", token.as_str())].into_iter().chain(fields.iter().copied());
        let mut body: String = fields.map(|(name, value)| part(name, value) + "\r\n").collect();
        body += &part(&format!("file; filename=\"{}\"\r\ncontent-type: text/csv", file.0), "");
        let body = [body.as_bytes(), file.1, format!("\r\n--{boundary}--\r\n").as_bytes()].concat();
        let kind = format!("multipart/form-data; boundary={boundary}");
        let sent =
            self.agent.post(format!("{}{path}", self.url)).header("content-type", kind).send(&body[..]);
        read(sent.unwrap())
    }
}

pub const ZONE: [(&str, &str); 8] = [
    ("units", "metric"),
    ("number", "9"),
    ("name", "Rock wall"),
    ("plant", "low_demand"),
    ("sun", "full"),
    ("sky", "open"),
    ("soil", "loam"),
    ("head", "drip"),
];

#[test]
fn the_first_visit_makes_the_owner_and_only_one() {
    let server = Server::start(false);
    let first = Person::new(&server);
    assert_eq!(first.get("/").status, 303);
    assert!(first.get("/sign-in").text.contains("The owner's account"));
    let fields = [
        ("login", "isla"),
        ("name", "Isla"),
        ("password", "heather-over-slate"),
        ("again", "heather-over-slatf"),
    ];
    let refused = first.post_from("/sign-in", "/first-owner", &fields);
    assert_eq!(refused.status, 422);
    assert!(
        refused.text.contains("differ") && refused.text.contains("value=\"Isla\""),
        "what was typed is kept"
    );
    let fields = [
        ("login", "isla"),
        ("name", "Isla"),
        ("password", "heather-over-slate"),
        ("again", "heather-over-slate"),
    ];
    assert_eq!(first.post_from("/sign-in", "/first-owner", &fields).status, 303);
    assert!(first.get("/").text.contains("No site yet"));
    let second = Person::new(&server);
    assert!(second.get("/sign-in").text.contains("Sign in"));
    second.post_from(
        "/sign-in",
        "/first-owner",
        &[("login", "x"), ("name", "X"), ("password", "heather-over-slate"), ("again", "heather-over-slate")],
    );
    assert_eq!(second.get("/").status, 303, "nobody else becomes owner");
}

#[test]
fn attempts_are_limited_and_sign_out_ends_the_session() {
    let server = Server::start(true);
    let person = Person::new(&server);
    let statuses: Vec<_> = (0..11).map(|_| person.sign_in("bram", "wrong").status).collect();
    assert_eq!(
        (&statuses[..10], statuses[10]),
        (&[422; 10][..], 429),
        "ten failures in a quarter of an hour"
    );
    assert_eq!(person.sign_in("wren", "larkrigg-demo").status, 303, "another name is not locked out");
    assert_eq!(person.get("/").status, 200);
    assert_eq!(person.post_from("/", "/sign-out", &[]).status, 303);
    assert_eq!(person.get("/").status, 303);
}

#[test]
fn roles_and_tokens_are_enforced_on_the_server() {
    let server = Server::start(true);
    let (reader, technician) = (Person::signed_in(&server, "wren"), Person::signed_in(&server, "bram"));
    assert_eq!(reader.get("/sites/1/today").status, 200);
    assert!(!reader.get("/sites/1/zones").text.contains("New zone"));
    assert_eq!(reader.get("/sites/new").status, 403);
    assert_eq!(reader.post_from("/sites/1/zones", "/sites/1/zones", &ZONE).status, 403);
    assert_eq!(
        reader.upload("/sites/1/weather", "/sites/1/weather/sources/0/files", "a.csv", b"date").status,
        403
    );
    assert_eq!(reader.post_from("/", "/sites/1/remove", &[]).status, 403);
    assert_eq!(technician.get("/people").status, 403);
    assert_eq!(Person::signed_in(&server, "isla").get("/people").status, 200);
    assert_eq!(technician.post("/sites/1/zones", &ZONE).status, 403, "without a token");
    let answer = technician
        .agent
        .post(format!("{}/sites/1/remove", server.url))
        .header("sec-fetch-site", "cross-site")
        .send_form([("csrf", token(&technician.get("/").text))])
        .unwrap();
    assert_eq!(answer.status().as_u16(), 403, "from another origin");
    assert!(technician.get("/").text.contains("Larkrigg Botanic Slope"));
}

#[test]
fn a_form_survives_the_end_of_its_session() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let mut form = vec![("csrf", token(&person.get("/sites/1/zones/new").text))];
    form.extend(ZONE.map(|(k, v)| (k, v.to_owned())));
    let fields: Vec<(&str, &str)> = form.iter().map(|(k, v)| (*k, v.as_str())).collect();
    let cleared = server.end_sessions();
    assert_eq!(cleared, 1);
    let answer = person.post("/sites/1/zones", &fields);
    assert_eq!(answer.status, 401);
    assert!(answer.text.contains("Nothing was stored yet"));
    assert_eq!(person.sign_in("bram", "larkrigg-demo").status, 303);
    assert_eq!(person.post("/sites/1/zones", &fields).status, 303, "the open form can be sent");
}

#[test]
fn every_answer_carries_the_policy_and_a_true_status() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "isla");
    for (path, status) in [
        ("/healthz", 200),
        ("/sites/1/today", 200),
        ("/sites/999/today", 404),
        ("/sites/x/today", 404),
        ("/nowhere", 404),
        ("/sites/1/today?date=garbage", 400),
        ("/sites/1/today?date=9999-12-31", 400),
        ("/sites/1/today?date=1900-01-01", 200),
        ("/assets/nothing.css", 404),
        ("/assets/almanac.css", 200),
        ("/schemas/site-v1.json", 200),
        ("/find.json", 200),
    ] {
        let answer = person.get(path);
        assert_eq!(answer.status, status, "{path}");
        let policy = &answer.headers["content-security-policy"];
        assert!(policy.contains("default-src 'none'") && !policy.contains("unsafe"), "{path}");
    }
    let page = person.get("/sites/1/today").text;
    assert!(!page.contains(" style=") && !page.contains("<style"), "nothing inline");
}

#[test]
fn pages_are_light() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "isla");
    for site in 1..=4 {
        for page in ["today", "zones", "sheet", "weather", "edit"] {
            let bytes = person.get_packed(&format!("/sites/{site}/{page}"));
            assert!(bytes <= 40_000, "{page} of site {site}: {bytes} bytes");
        }
    }
    let first: usize = [
        "/sites/1/today",
        "/assets/almanac.css",
        "/assets/almanac.js",
        "/assets/alpine-csp.js",
        "/assets/fonts/fraunces.woff2",
        "/assets/fonts/atkinson-hyperlegible-next.woff2",
        "/assets/mark.svg",
    ]
    .iter()
    .map(|path| person.get_packed(path))
    .sum();
    assert!(first <= 200_000, "first load {first} bytes");
}

#[test]
fn bad_weather_files_are_refused_by_name_and_change_nothing() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let before = person.get("/sites/1/weather.csv").text;
    let large = vec![b'a'; 25 * 1024 * 1024];
    let cases: [(&str, &[u8], &str); 6] = [
        ("columns.csv", b"day,low,high\n1,2,3\n", "no column has dates"),
        ("text.csv", b"date,tmin_c,tmax_c\n2026-07-01,warm,20\n", "line 2, tmin_c"),
        ("twice.csv", b"date,tmin_c,tmax_c\n2026-07-01,9,25\n2026-07-01,9,25\n", "is on line 2 already"),
        ("binary.csv", b"PK\x03\x04\x00\x00\x00", "not a text file"),
        ("latin.csv", b"date,tmin_c,tmax_c\n2026-07-01,9,25\n# \xE9t\xE9\n", "another encoding"),
        ("large.csv", &large, "larger than 24 MB"),
    ];
    for (name, content, message) in cases {
        let answer = person.upload("/sites/1/weather", "/sites/1/weather/sources/0/files", name, content);
        assert_eq!(answer.status, 422, "{name}");
        assert!(answer.text.contains(message), "{name}: {message}");
        assert!(answer.text.contains(name) && answer.text.contains("The record is as it was"), "{name}");
    }
    assert_eq!(person.get("/sites/1/weather.csv").text, before);
}

#[test]
fn a_site_goes_out_and_in_as_one_file() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "isla");
    let file = person.get("/sites/1/site.json").text;
    let opened = person.upload("/", "/sites/open", "slope.json", file.as_bytes());
    assert_eq!(opened.status, 303, "{}", opened.text);
    let copy = opened.headers["location"].replace("/today", "/site.json");
    assert_eq!(person.get(&copy).text, file);
    let sites = |text: &str| text.matches("/today\"><b>").count();
    let before = sites(&person.get("/").text);
    let hostile = "[".repeat(200_000);
    for (content, message) in [
        (file.replace("46.0", "95.0"), "place.latitude_deg"),
        (hostile, "invalid"),
        ("{}".to_owned(), "missing field"),
    ] {
        let answer = person.upload("/", "/sites/open", "bad.json", content.as_bytes());
        assert_eq!(answer.status, 422);
        assert!(answer.text.contains(message), "{message}");
    }
    assert_eq!(sites(&person.get("/").text), before, "nothing stored");
}

#[test]
fn the_second_of_two_savers_sees_both_versions() {
    let server = Server::start(true);
    let (isla, bram) = (Person::signed_in(&server, "isla"), Person::signed_in(&server, "bram"));
    let page = isla.get("/sites/1/zones").text;
    let zone = |part: &str| part.split('"').next().filter(|id| id.parse::<u32>().is_ok()).map(str::to_owned);
    let id = page.split("/sites/1/zones/").skip(1).find_map(zone).expect("a zone is listed");
    let path = format!("/sites/1/zones/{id}");
    let fields = |name: &'static str, uniformity: &'static str| {
        let mut all = ZONE.to_vec();
        all.retain(|(k, _)| *k != "name" && *k != "number");
        all.extend([("number", "1"), ("base_version", "1"), ("name", name), ("uniformity", uniformity)]);
        all
    };
    assert_eq!(isla.post_from(&path, &path, &fields("Top lawn", "64")).status, 303);
    let conflict = bram.post_from(&path, &path, &fields("Upper lawn", "71"));
    assert_eq!(conflict.status, 409);
    // He changed only the uniformity against version 1: his stands on top of hers, and her name stays.
    for text in ["Isla saved a version", "nothing was changed by both", "name=\"base_version\" value=\"2\""] {
        assert!(conflict.text.contains(text), "{text}");
    }
    assert!(conflict.text.contains("value=\"Top lawn\"") && conflict.text.contains("value=\"71\""));
    let mut merged = fields("Top lawn", "71");
    merged.retain(|(k, _)| *k != "base_version");
    merged.push(("base_version", "2"));
    assert_eq!(bram.post_from(&path, &path, &merged).status, 303);
    let now = isla.get(&format!("{path}/survey")).text;
    assert!(now.contains("value=\"Top lawn\"") && now.contains("value=\"71\"") && now.contains("Version 3"));
}

#[test]
fn a_removed_zone_comes_back_and_units_switch() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let made = person.post_from("/sites/1/zones", "/sites/1/zones", &ZONE);
    assert_eq!(made.status, 303, "{}", made.text);
    let page = person.get("/sites/1/zones").text;
    assert!(page.contains("Rock wall") && page.contains("/remove\""), "making it can be taken back");
    assert_eq!(
        person
            .post_from("/", "/sites/1/units", &[("units", "us_customary"), ("back", "/sites/1/zones")])
            .status,
        303
    );
    assert!(person.get("/sites/1/zones").text.contains("in/h"));
    assert!(person.get("/sites/1/today").text.contains(" in</button>"));
    let answer = person.post_from("/", "/sites/1/units", &[("units", "metric"), ("back", "//elsewhere")]);
    assert_eq!(answer.headers["location"], "/", "no way out of this server");
}

/// Values of one column of a CSV.
fn column(csv: &str, name: &str) -> Vec<String> {
    let mut lines = csv.lines();
    let at = lines.next().unwrap().split(',').position(|h| h == name).unwrap();
    lines.map(|l| l.split(',').nth(at).unwrap().to_owned()).collect()
}

/// Sends a file, says yes to its preview, and waits until it is in.
fn take_in(person: &Person, site: u32, name: &str, content: &[u8]) -> Answer {
    let page = format!("/sites/{site}/weather");
    let brought = person.upload(&page, &format!("{page}/sources/0/files"), name, content);
    assert_eq!(brought.status, 303, "{}", brought.text);
    let draft = brought.headers["location"].clone();
    let started = person.post_from(&draft, &draft, &[]);
    assert_eq!(started.status, 303);
    let progress = started.headers["location"].clone();
    for _ in 0..200 {
        if person.get(&format!("{progress}.json")).text.contains("\"running\":false") {
            return person.get(&progress);
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    panic!("the import does not end")
}

#[test]
fn thirty_years_come_in_repeat_without_doubling_and_undo() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let before = person.get("/sites/2/weather.csv").text;
    let mut file = String::from("date,tmin_f,tmax_f,rain_in\n");
    let first: jiff::civil::Date = "1994-01-01".parse().unwrap();
    for i in 0..10_957_i64 {
        let date = first.checked_add(jiff::Span::new().days(i)).unwrap();
        file.push_str(&format!(
            "{date},{},{},{}\n",
            41 + i % 9,
            59 + i % 18,
            if i % 6 == 0 { 0.3 } else { 0.0 }
        ));
    }
    let done = take_in(&person, 2, "thirty-years.csv", file.as_bytes());
    // The last of these days stand in the demo's record already, with other values: none here.
    assert!(done.text.contains("10957 new, 0 changed, 0 already known"), "{}", done.text);
    let after = person.get("/sites/2/weather.csv").text;
    assert_eq!(after.lines().count(), before.lines().count() + 10_957);
    assert_eq!(column(&after, "tmin_c")[0], "5", "41 °F");

    let again = take_in(&person, 2, "the same again.csv", file.as_bytes());
    assert!(again.text.contains("0 new, 0 changed, 10957 already known"));
    assert_eq!(person.get("/sites/2/weather.csv").text, after);

    let page = person.get("/sites/2/weather").text;
    let undo = page
        .split("action=\"")
        .find(|a| a.contains("/undo\""))
        .unwrap()
        .split('"')
        .next()
        .unwrap()
        .to_owned();
    assert_eq!(person.post_from("/sites/2/weather", &undo, &[]).status, 303);
    assert_eq!(person.get("/sites/2/weather.csv").text, before, "as it was");
    assert_eq!(person.post_from("/sites/2/weather", &undo.replace("undo", "redo"), &[]).status, 303);
    assert_eq!(person.get("/sites/2/weather.csv").text, after);
    // An import of another site cannot be undone from here.
    assert_eq!(
        person.post_from("/sites/1/weather", &undo.replace("/sites/2/", "/sites/1/"), &[]).status,
        404
    );
}

#[test]
fn a_file_that_is_not_confirmed_changes_nothing() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let before = person.get("/sites/1/weather.csv").text;
    let brought = person.upload(
        "/sites/1/weather",
        "/sites/1/weather/sources/0/files",
        "maybe.csv",
        b"date,tmin_c,tmax_c\n2026-07-15,9,25\n",
    );
    let draft = brought.headers["location"].clone();
    let preview = person.get(&draft);
    assert!(preview.text.contains("1 new, 0 differ from the record"));
    assert!(preview.text.contains("tmin_c") && preview.text.contains("in °C"));
    assert_eq!(person.get("/sites/1/weather.csv").text, before, "looking stores nothing");
    // Of another site it is not to be had.
    assert_eq!(person.get(&draft.replace("/sites/1/", "/sites/2/")).status, 404);
    assert_eq!(person.post_from(&draft, &format!("{draft}/drop"), &[]).status, 303);
    assert_eq!(person.get(&draft).status, 404);
    assert_eq!(person.get("/sites/1/weather.csv").text, before);
}

#[test]
fn a_measurement_changes_the_minutes_of_its_zone() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let sheet = |person: &Person| person.get("/sites/1/sheet.csv?date=2026-07-14").text;
    let before = column(&sheet(&person), "full_refill_min");
    let page = person.get("/sites/1/zones").text;
    let zone = page.split("href=\"").find(|h| h.contains("/zones/") && h.contains("<b>Bank</b>")).unwrap();
    let path = zone.split('"').next().unwrap().to_owned();
    let fields = [
        ("units", "metric"),
        ("base_version", "1"),
        ("number", "7"),
        ("name", "Bank"),
        ("plant", "warm_season_turf"),
        ("sun", "full"),
        ("sky", "open"),
        ("soil", "clay"),
        ("slope", "18"),
        ("root_depth", "12"),
        ("head", "spray"),
        ("area", "140"),
        ("rate", "15.9"),
    ];
    assert_eq!(person.post_from(&path, &path, &fields).status, 303);
    let after = column(&sheet(&person), "full_refill_min");
    let (was, is): (f64, f64) = (before[6].parse().unwrap(), after[6].parse().unwrap());
    assert!(is > 1.7 * was, "half the rate takes about twice as long: {was} {is}");
    assert_eq!(before[..6], after[..6], "other zones keep theirs");
}

#[test]
fn site_errors_stand_at_their_fields_in_the_units_of_the_form() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let fields = [
        ("units", "us_customary"),
        ("name", ""),
        ("latitude", "95"),
        ("longitude", "-30"),
        ("elevation", "3,412"),
        ("time_zone", "Larkrigg/Town"),
        ("controller", "Controller"),
        ("card", "cardboard"),
        ("from", "22:00"),
        ("until", "22:00"),
        ("supply", "20"),
    ];
    let answer = person.post_from("/sites/new", "/sites", &fields);
    assert_eq!(answer.status, 422);
    for message in [
        "Give it a name",
        "between -89 and 89",
        "can be read as 3.412 or as 3412",
        "IANA list",
        "Choose one from the list",
        "give it a length",
    ] {
        assert!(answer.text.contains(message), "{message}");
    }
    assert!(answer.text.contains("value=\"3,412\"") && answer.text.contains("value=\"Larkrigg/Town\""));
    assert!(answer.text.contains(">ft<") && answer.text.contains(">gpm<"));
    assert!(!person.get("/").text.contains("Box</td>"), "nothing stored");
}

#[test]
fn a_server_that_lives_says_so_and_a_head_is_answered_like_its_page() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "wren");
    assert_eq!(person.get("/readyz").text, "ready\n");
    for path in ["/healthz", "/sites/1/today", "/sites/1/logbook.csv"] {
        let (head, page) = (person.request("HEAD", path), person.get(path));
        assert_eq!((head.status, head.text.as_str()), (page.status, ""), "{path}");
        assert_eq!(head.headers["content-type"], page.headers["content-type"]);
    }
    assert_eq!(person.request("HEAD", "/no/such/page").status, 404);
}

#[test]
fn addresses_from_before_lead_on_for_good() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    for (before, now) in [
        ("/sites/1/boxes/1", "/sites/1/controllers/1"),
        ("/sites/1/boxes/1/sheet?night=2026-07-14", "/sites/1/controllers/1/sheet?night=2026-07-14"),
        ("/sites/1/boxes", "/sites/1/controllers"),
    ] {
        let answer = person.get(before);
        assert_eq!((answer.status, answer.headers["location"].as_str()), (308, now), "{before}");
    }
    assert_eq!(person.get("/sites/1/today?box=1").status, 200, "a query as it was before is read");
}

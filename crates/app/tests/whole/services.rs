//! A weather service: said where it answers, asked by a worker, its columns said once, and seen where the night is decided.

use super::background::until;
use super::http::Person;
use super::server::Server;
use jiff::Timestamp;
use std::net::TcpListener;
use upland_simulator::{Clock, Sky, service};

/// A stand-in that follows the clock of a server; its address.
fn stand_in(server: &Server) -> String {
    let ahead = server.store().read(|s| s.clock_ahead()).unwrap().unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        service::serve(listener, Sky::generated(3), Clock::new(move || Timestamp::now() + ahead), 3)
    });
    address
}

#[test]
// Long: one story from the address to the night.
fn a_service_is_asked_by_itself_and_moves_what_is_expected() {
    let server = Server::without_worker(true);
    let bram = Person::signed_in(&server, "bram");
    let address = stand_in(&server);
    let page = "/sites/1/weather/sources/2/service";
    let form = |measured: &str, foretold: &str, every: &str, base: &str| {
        let fields = [
            ("measured", measured),
            ("foretold", foretold),
            ("every", every),
            ("stopped", "no"),
            ("base_version", base),
        ];
        bram.post_from(page, page, &fields)
    };
    for (measured, foretold, every, says) in [
        ("", "", "1 h", "one address at least"),
        ("ftp://a.example/x", "", "1 h", "begins with https://"),
        ("https://me:pw@a.example/x", "", "1 h", "name and password"),
        ("https://a.example/x", "", "3 min", "10"),
        ("https://a.example/x", "", "soon", "soon"),
    ] {
        let refused = form(measured, foretold, every, "0");
        assert!(refused.status == 422 && refused.text.contains(says), "{measured} {every}: {}", refused.text);
        assert!(refused.text.contains(measured) && refused.text.contains(every), "what was typed stays");
    }
    let (hours, week) =
        (format!("{address}{}?key=secret", service::MEASURED), format!("{address}{}", service::FORETOLD));
    let before = bram.get("/sites/1/today").text;
    assert!(!before.contains("foretold"), "nothing is forecast yet");
    assert_eq!(form(&hours, &week, "30 min", "0").status, 303);
    let worker = server.worker();
    until("an answer", || bram.get(page).text.contains("what its columns contain must be said once"));
    let mine = form(&hours, "", "1 h", "0");
    assert!(mine.status == 409 && mine.text.contains("Bram saved meanwhile"), "{}", mine.text);
    assert!(mine.text.contains("hours.csv?…"), "their key is not shown: {}", mine.text);
    // The JSON of the forecast is new here: its columns are said once, in the form of files.
    let draft =
        bram.post_from(page, &format!("{page}/columns"), &[("foretold", "yes")]).headers["location"].clone();
    let asked = bram.get(&draft).text;
    assert!(asked.contains("temperature_c") && asked.contains("rain_mm"), "{asked}");
    // By the alphabet: humidity, rain, sun, temperature, time, wind.
    let said = bram.post_from(
        &draft,
        &format!("{draft}/mapping"),
        &[
            ("hourly", "yes"),
            ("date_column", "time"),
            ("date_order", "year_first"),
            ("stamp", "start"),
            ("clock", "in_text"),
            ("holds0", "rh.pct"),
            ("holds1", "rain.mm"),
            ("holds2", "solar.w_m2"),
            ("holds3", "temperature.c"),
            ("holds5", "wind.m_s"),
        ],
    );
    assert_eq!(said.headers["location"], page, "nothing waits to be taken in");
    until("a forecast", || bram.get("/sites/1/weather").text.contains("The coming days"));
    let room = bram.get("/sites/1/weather").text;
    assert!(room.contains("Foretells until") && room.contains("Measured until"), "{room}");
    let known = |source| {
        server
            .store()
            .read(|s| s.raw_hours(source, "2026-07-13".parse().unwrap(), "2026-07-13".parse().unwrap()))
    };
    assert_eq!(known(2).unwrap().len(), 24);
    // Page and command are asked the same.
    let file = tempfile::tempdir().unwrap();
    let keep = |name: &str, path: &str| {
        let to = file.path().join(name);
        std::fs::write(&to, bram.get(path).text).unwrap();
        to.to_str().unwrap().to_owned()
    };
    let site = keep("site.json", "/sites/1/site.json");
    let (record, coming) =
        (keep("record.csv", "/sites/1/weather.csv"), keep("coming.csv", "/sites/1/weather/forecast.csv"));
    let told = |more: &[&str]| {
        let mut command = std::process::Command::new(super::server::BINARY);
        command.args(["tonight", &site, &record, "--date", "2026-07-14"]).args(more);
        let output = command.output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        (String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap())
    };
    let (plain, with) = (told(&[]), told(&["--forecast", &coming]));
    let likely = with.1.contains("rain is likely");
    assert!(!plain.1.contains("rain is likely"));
    let today = bram.get("/sites/1/today").text;
    assert_eq!(today.contains("Rain is likely"), likely, "{}", with.1);
    let next = today.contains("foretold");
    assert!(next || !likely, "what is forecast is called so");
    // Somebody who only reads sees the coming days, and no address.
    let wren = Person::signed_in(&server, "wren");
    assert!(wren.get("/sites/1/weather").text.contains("The coming days"));
    assert!(!wren.get("/sites/1/weather").text.contains("secret"));
    assert_eq!(wren.get(page).status, 403);
    assert!(worker.stop());
}

#[test]
fn a_service_that_is_gone_or_answers_a_page_is_told_where_one_looks() {
    let server = Server::without_worker(true);
    let bram = Person::signed_in(&server, "bram");
    let page = "/sites/1/weather/sources/2/service";
    // The sign-in page of the server itself: HTML where data was expected.
    let (html, nobody) = (format!("{}/sign-in", server.url), "http://127.0.0.1:9/x");
    let fields = [
        ("measured", html.as_str()),
        ("foretold", nobody),
        ("every", "10 min"),
        ("stopped", "no"),
        ("base_version", "0"),
    ];
    assert_eq!(bram.post_from(page, page, &fields).status, 303);
    let worker = server.worker();
    until("two answers", || bram.get(page).text.contains("nobody listens there"));
    let told = bram.get(page).text;
    assert!(told.contains("a page for people, not with data"), "{told}");
    assert!(told.contains("No measurements came yet") && told.contains("No forecast came yet"), "{told}");
    assert!(bram.get("/sites/1/weather").text.contains("nobody listens there"), "in the weather room too");
    let isla = Person::signed_in(&server, "isla");
    let jobs = isla.get("/jobs").text;
    assert!(jobs.contains("Valley mast: measured: it answered with a page"), "the owner sees it: {jobs}");
    assert!(worker.stop());
}

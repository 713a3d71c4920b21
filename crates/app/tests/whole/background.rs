//! Work in the background, by workers of their own: killed, taken up by another, and nothing twice.

use super::http::Person;
use super::sensors::{body, device, post};
use super::server::{Server, key};
use jiff::{Timestamp, ToSpan};
use std::time::Duration;
use upland_store::queue::Task;

/// Waits until something is so.
pub fn until(what: &str, mut is: impl FnMut() -> bool) {
    for _ in 0..600 {
        if is() {
            return;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    panic!("{what} did not come to pass");
}

/// Thirty years of days of a station.
fn thirty_years() -> String {
    let mut file = "date,tmin_c,tmax_c,rain_mm\n".to_owned();
    let mut day = jiff::civil::date(1996, 1, 1);
    while day.year() < 2026 {
        let n = f64::from(day.day_of_year());
        file.push_str(&format!("{day},{:.1},{:.1},{}\n", 2.0 + n / 40.0, 12.0 + n / 30.0, n % 7.0));
        day = day.tomorrow().unwrap();
    }
    file
}

#[test]
fn a_file_taken_in_by_a_killed_worker_is_taken_in_once_by_the_next() {
    let server = Server::without_worker(true);
    let bram = Person::signed_in(&server, "bram");
    let isla = Person::signed_in(&server, "isla");
    let page = "/sites/4/weather";
    let brought =
        bram.upload(page, &format!("{page}/sources/0/files"), "thirty.csv", thirty_years().as_bytes());
    let draft = brought.headers["location"].clone();
    let progress = bram.post_from(&draft, &draft, &[]).headers["location"].clone();
    let told = || bram.get(&format!("{progress}.json")).text;
    assert!(told().contains("\"running\":true"));
    let work = isla.get("/jobs").text;
    assert!(work.contains("Nothing is worked on") && work.contains("Taking a file in"), "{work}");
    // Killed as soon as it has begun to write.
    let first = server.worker();
    until("a beginning", || !told().contains("\"done\":0,"));
    first.kill();
    let second = server.worker();
    until("the end", || told().contains("\"running\":false"));
    let imports = server.store().read(|s| s.imports(key(4))).unwrap();
    let of_file: Vec<_> = imports.iter().filter(|i| i.file_name == "thirty.csv").collect();
    assert_eq!(of_file.len(), 1, "{of_file:?}");
    let days = server.store().read(|s| s.raw_days(of_file[0].source_id)).unwrap();
    let old: Vec<_> = days.iter().filter(|d| d.date.year() < 2024).map(|d| d.date).collect();
    assert!(old.len() == 28 * 365 + 7 && old.windows(2).all(|w| w[0] < w[1]), "{}", old.len());
    assert!(isla.get("/jobs").text.contains("thirty.csv: "), "what was done is told");
    assert!(second.stop(), "a worker that is told to stop ends well");
}

#[test]
fn an_import_whose_work_was_taken_away_waits_for_a_word_and_is_taken_in_or_stopped() {
    let server = Server::without_worker(true);
    let (bram, isla) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "isla"));
    let page = "/sites/4/weather";
    let begun = |name: &str| {
        let file = b"date,tmin_c,tmax_c,rain_mm\n1999-05-01,4,15,0\n1999-05-02,5,16,3\n";
        let brought = bram.upload(page, &format!("{page}/sources/0/files"), name, file);
        let draft = brought.headers["location"].clone();
        assert_eq!(bram.post_from(&draft, &draft, &[]).status, 303);
        let waiting = server.store().read(|s| s.waiting_work()).unwrap();
        let job = waiting.iter().find(|j| j.task == Some(Task::Import)).expect("it was asked for").id;
        assert!(bram.get(&format!("{draft}/progress")).text.contains("Stop and discard"));
        assert_eq!(isla.post_from("/jobs", &format!("/jobs/{job}/remove"), &[]).status, 303);
        let told = bram.get(&format!("{draft}/progress"));
        assert!(told.text.contains(&format!("{name} waits for your decision")), "{}", told.text);
        assert!(bram.get(&format!("{draft}/progress.json")).text.contains("\"running\":false"));
        draft
    };
    let stopped = begun("stopped.csv");
    let progress = format!("{stopped}/progress");
    assert_eq!(bram.post_from(&progress, &format!("{stopped}/cancel"), &[]).status, 303);
    assert!(bram.get(&progress).text.contains("Stopped; nothing was stored."));
    let kept = begun("kept.csv");
    let progress = format!("{kept}/progress");
    assert_eq!(bram.post_from(&progress, &kept, &[]).headers["location"], progress);
    assert!(bram.get(&progress).text.contains("Importing kept.csv"));
    let worker = server.worker();
    until("the end", || bram.get(&progress).text.contains("kept.csv is in the record"));
    let names: Vec<String> =
        server.store().read(|s| s.imports(key(4))).unwrap().into_iter().map(|i| i.file_name).collect();
    assert!(
        names.contains(&"kept.csv".to_owned()) && !names.contains(&"stopped.csv".to_owned()),
        "{names:?}"
    );
    assert!(worker.stop());
}

#[test]
fn what_devices_read_becomes_the_weather_of_the_site_by_itself() {
    let server = Server::without_worker(true);
    let (bram, isla) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "isla"));
    let token = device(&bram, "Mast");
    let ahead = server.store().read(|s| s.clock_ahead()).unwrap().unwrap();
    let now = Timestamp::now() + ahead;
    // Two days, by ten minutes, until now.
    let all: Vec<(&str, String, String)> = (1..288)
        .map(|ten| {
            let at = now - (10 * ten).minutes();
            ("temperature_c", at.to_string(), format!("{}", 3.0 + f64::from(ten % 9)))
        })
        .collect();
    let some: Vec<(&str, String, &str)> = all.iter().map(|(c, at, v)| (*c, at.clone(), v.as_str())).collect();
    assert_eq!(post(&server, &token, &body(&some)).status, 200);
    let waiting = server.store().read(|s| s.waiting_work()).unwrap();
    let job = waiting.iter().find(|j| j.task == Some(Task::Readings) && j.of == 1).expect("it was asked for");
    // Two workers at once, and the owner does not wait for its hour.
    let _workers = (server.worker(), server.worker());
    isla.post_from("/jobs", &format!("/jobs/{}/again", job.id), &[]);
    until("the layer", || bram.get("/sites/1/weather").text.contains("Follows the sensors of the site"));
    let csv = bram.get("/sites/1/weather/sources/1.csv").text;
    let yesterday = (now - 24.hours()).to_zoned(jiff::tz::TimeZone::UTC).date();
    let line = csv.lines().find(|l| l.starts_with(&yesterday.to_string())).expect("yesterday");
    assert!(line.contains(",3.0,") || line.contains(",3,"), "its lowest was read: {line}");
    // A sensor that is left out takes its days along.
    let sensor = "/sites/1/sensors/1";
    assert!(bram.get(sensor).text.contains("counts as"));
    assert_eq!(bram.post_from(sensor, &format!("{sensor}/weather"), &[("feeds", "no")]).status, 303);
    until("the record as it was", || {
        let csv = bram.get("/sites/1/weather/sources/1.csv").text;
        !csv.lines().any(|l| l == line)
    });
}

#[test]
fn only_the_owner_sees_the_work_and_can_take_it_away() {
    let server = Server::without_worker(true);
    let (bram, isla) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "isla"));
    server.store().ask(Task::Sweep, 9, jiff::SignedDuration::from_hours(1)).unwrap();
    assert_eq!(bram.get("/jobs").status, 403);
    let swept = || {
        let waiting = server.store().read(|s| s.waiting_work()).unwrap();
        waiting.into_iter().find(|job| job.task == Some(Task::Sweep)).map(|job| job.id)
    };
    let id = swept().unwrap();
    assert_eq!(bram.post_from("/me", &format!("/jobs/{id}/remove"), &[]).status, 403);
    assert_eq!(isla.post_from("/jobs", &format!("/jobs/{id}/remove"), &[]).status, 303);
    assert!(isla.get("/jobs").text.contains("It is taken away"));
    assert_eq!(swept(), None);
    isla.post_from("/jobs", &format!("/jobs/{id}/again"), &[]);
    assert!(isla.get("/jobs").text.contains("or it is done already"));
}

#[test]
fn a_search_outlives_its_worker_and_can_be_stopped_from_any_server() {
    let server = Server::without_worker(true);
    let beside = server.beside();
    let (bram, there) = (Person::signed_in(&server, "bram"), Person::signed_in(&beside, "bram"));
    let page = "/sites/2/trial/search";
    let all = ["minutes", "days", "thresholds"];
    let mut fields =
        vec![("same", "weather=days&from=2026-05-01&to=2026-06-30"), ("controller", "1"), ("goal", "95")];
    fields.extend(all.map(|code| (code, "yes")));
    // The server beside has a worker of its own; what is asked for before it looks may be its.
    assert_eq!(bram.post_from(page, page, &fields).status, 303);
    let found = |who: &Person| who.get(page).text;
    until("a search to its end", || found(&there).contains("It went to its end"));
    let first = found(&bram);
    drop(there);
    drop(beside);
    assert_eq!(bram.post_from(page, page, &fields).status, 303);
    let progress = || bram.get(&format!("{page}/progress.json")).text;
    let killed = server.worker();
    until("a beginning", || !progress().contains("\"done\":0,"));
    killed.kill();
    assert!(progress().contains("\"running\":true"), "it waits for another: {}", progress());
    let _next = server.worker();
    until("the end", || progress().contains("\"running\":false"));
    let answer =
        |page: &str| page.split("class=\"verdict\">").nth(1).unwrap().split('<').next().unwrap().to_owned();
    assert_eq!(answer(&found(&bram)), answer(&first), "begun anew it finds the same");

    assert_eq!(bram.post_from(page, page, &fields).status, 303);
    until("a beginning", || !progress().contains("\"done\":0,"));
    bram.post_from(page, &format!("{page}/stop"), &[]);
    until("the end", || progress().contains("\"running\":false"));
    assert!(found(&bram).contains("It was stopped"), "the best so far");
}

//! What a scraper is told.

use super::http::Person;
use super::server::{METRICS_TOKEN, Server};

fn scraped(server: &Server, token: &str) -> (u16, String) {
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let mut answer = agent
        .get(format!("{}/metrics", server.url))
        .header("authorization", format!("Bearer {token}"))
        .call()
        .unwrap();
    (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap())
}

/// The value of a series, by the beginning of its line.
fn value(text: &str, series: &str) -> Option<f64> {
    text.lines().find_map(|line| line.strip_prefix(series)?.trim().parse().ok())
}

#[test]
fn a_scraper_with_the_token_is_told_what_was_answered_and_what_waits() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    for _ in 0..3 {
        assert_eq!(bram.get("/sites/1/today").status, 200);
    }
    assert_eq!(bram.get("/sites/99/today").status, 404);
    assert_eq!(bram.get("/nowhere/at/all?key=secret").status, 404);
    assert_eq!(
        (scraped(&server, "another").0, scraped(&server, "").0, bram.get("/metrics").status),
        (401, 401, 401)
    );
    let (status, told) = scraped(&server, METRICS_TOKEN);
    assert_eq!(status, 200);
    let of_today = |status: u16| {
        value(
            &told,
            &format!(
                "upland_requests_total{{method=\"GET\",route=\"/sites/{{id}}/today\",status=\"{status}\"}}"
            ),
        )
    };
    assert_eq!((of_today(200), of_today(404)), (Some(3.0), Some(1.0)), "{told}");
    assert_eq!(value(&told, "upland_request_seconds_count{route=\"/sites/{id}/today\"}"), Some(4.0));
    assert!(
        value(&told, "upland_resident_bytes").is_some_and(|bytes| (1e6..1e10).contains(&bytes)),
        "{told}"
    );
    assert_eq!(value(&told, "upland_jobs_given_up"), Some(0.0));
    assert!(value(&told, "upland_jobs_waiting").is_some() && value(&told, "upland_workers").is_some());
    assert!(
        !told.contains("nowhere") && !told.contains("secret"),
        "an address that no route knows is no series"
    );
}

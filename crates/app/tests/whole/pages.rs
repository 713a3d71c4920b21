//! Every page that can be opened by its address: no wider than a phone or a window at twice its size, and sound.

use super::browser::{Browser, Page};
use super::server::Server;

/// Addresses of the demo for every page of the route table that a technician or the owner opens. Downloads, data for
/// scripts and pages that need something made first are left out.
pub const PAGES: [&str; 69] = [
    "/",
    "/about",
    "/audit",
    "/calls",
    "/cards",
    "/cards/new",
    "/glossary",
    "/jobs",
    "/me",
    "/ordinances",
    "/ordinances/1",
    "/ordinances/new",
    "/me/factor",
    "/me/mail",
    "/me/tokens",
    "/notices",
    "/people",
    "/route",
    "/people/2/sites",
    "/sites/1/controllers/1",
    "/sites/1/controllers/1/budget",
    "/sites/1/controllers/1/card",
    "/sites/1/controllers/1/history",
    "/sites/1/controllers/1/law",
    "/sites/1/controllers/1/manual",
    "/sites/1/controllers/1/plan",
    "/sites/1/controllers/1/sheet",
    "/sites/1/controllers/1/walk",
    "/sites/1/controllers/new",
    "/sites/1/card",
    "/sites/1/edit",
    "/sites/1/logbook",
    "/sites/1/owner",
    "/sites/1/owner/page",
    "/sites/1/owner/page/handover",
    "/sites/1/sensors",
    "/sites/1/sensors/1",
    "/sites/1/sensors/1/edit",
    "/sites/1/sensors/2",
    "/sites/1/sensors/2/calibrate",
    "/sites/1/sensors/1/replace",
    "/sites/1/sensors/map",
    "/sites/1/sensors/new",
    "/sites/1/sensors/plan",
    "/sites/1/sensors/wiring",
    "/sites/1/sheet",
    "/sites/1/today",
    "/sites/1/trial",
    "/sites/1/trial/protocol",
    "/sites/1/trial/search",
    "/sites/1/trial/sensors",
    "/sites/1/trial/ways/new",
    "/sites/1/tuning",
    "/sites/1/visit",
    "/sites/1/weather",
    "/sites/1/weather/compare",
    "/sites/1/weather/sources/new",
    "/sites/1/weather/sources/2/service",
    "/sites/1/zones",
    "/sites/1/zones/1",
    "/sites/1/zones/1/cans",
    "/sites/1/zones/1/season",
    "/sites/1/zones/1/survey",
    "/sites/1/zones/1/why",
    "/sites/1/zones/many",
    "/sites/1/zones/new",
    "/sites/2/tuning",
    "/sites/new",
    "/waiting",
];

/// Routes whose pages are not opened here, and why.
const LEFT_OUT: [(&str, &str); 27] = [
    ("/sites/{id}", "goes on to Today"),
    ("/metrics", "words for a scraper"),
    ("/sign-in/code", "opened after a password, in the story of people"),
    ("/password/{token}", "opened by its link, in the story of people"),
    ("/readyz", "words for a supervisor"),
    ("/cards/{id}", "the demo has no controller type of its own; its form is that of a new one"),
    ("/healthz", "words for a supervisor"),
    ("/sign-in", "opened before every other page"),
    ("/sites/{id}/budget", "goes on to the first controller"),
    ("/sites/{id}/programs", "goes on to the first controller"),
    ("/sites/{id}/trials/{trial}", "kept first; opened in the story of comparisons"),
    ("/sites/{id}/visits/{visit}", "made first; opened in the story of a visit"),
    ("/sites/{id}/weather/drafts/{draft}", "brought first; opened in the story of weather"),
    ("/sites/{id}/weather/drafts/{draft}/progress", "a piece of a page"),
    ("/sites/{id}/weather/sources/{source}/normals", "only of a source of normals"),
    ("/typed", "an answer for a script"),
    ("/api/v1/time", "an answer for a device"),
    ("/api/v1/sites", "an answer for other software"),
    ("/api/v1/sites/{id}", "an answer for other software"),
    ("/api/v1/sites/{id}/account", "an answer for other software"),
    ("/api/v1/sites/{id}/controllers/{number}/settings", "an answer for other software"),
    ("/api/v1/sites/{id}/night", "an answer for other software"),
    ("/api/v1/notices", "an answer for other software"),
    ("/api/v1/weekly-list", "an answer for other software"),
    ("/assets/{path:.*}", "what ships"),
    ("/o/{token}", "made first; opened in the story of an owner"),
    ("/o/{token}/handover", "made first; opened in the story of an owner"),
];

/// Whether an address is one of a route.
fn of_route(route: &str, path: &str) -> bool {
    let (a, b): (Vec<&str>, Vec<&str>) = (route.split('/').collect(), path.split('/').collect());
    a.len() == b.len()
        && a.iter().zip(&b).all(|(a, b)| a == b || (a.starts_with('{') && b.parse::<u32>().is_ok()))
}

/// A route is in the list, or said to be left out; and what is left out is a route.
#[test]
fn the_list_of_pages_is_the_table_of_routes() {
    let routes: Vec<&str> = include_str!("routes.txt")
        .lines()
        .filter(|line| !line.starts_with('#'))
        .filter_map(|line| {
            let mut words = line.split_whitespace().skip(1);
            (words.next() == Some("GET")).then(|| words.next()).flatten()
        })
        .collect();
    let file =
        |route: &str| route.rsplit('/').next().is_some_and(|last| last.contains('.') && !last.contains(":"));
    let left = |route: &str| LEFT_OUT.iter().any(|(known, _)| *known == route);
    for route in routes.iter().filter(|route| !file(route) && !left(route)) {
        assert!(PAGES.iter().any(|path| of_route(route, path)), "no page of {route} is opened");
    }
    for (route, why) in LEFT_OUT {
        assert!(routes.contains(&route), "{route} is no route: {why}");
    }
    for path in PAGES {
        assert!(routes.iter().any(|route| of_route(route, path)), "{path} is of no route");
    }
}

/// Opens every page and says which are wider than the window, and what axe-core finds.
async fn faults(width: u32, height: u32) -> Vec<String> {
    let server = Server::several(true);
    let browser = Browser::open(width, height).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "isla").await;
    let mut faults = Vec::new();
    for path in PAGES {
        page.goto(&server, path).await;
        let title = page.script("return document.title").await;
        if title.as_str().is_some_and(|t| t.contains("no such page")) {
            faults.push(format!("{path} is no page"));
        }
        faults.extend(page.faults(path, false).await);
        // A day is shown as its reader writes it; two pages show how a file does.
        let days = "const page = document.body.cloneNode(true);\
                    page.querySelectorAll('textarea, script').forEach((field) => field.remove());\
                    return page.textContent.match(/\\b20\\d\\d-\\d\\d-\\d\\d\\b.{0,30}/g) ?? []";
        let days: Vec<String> = serde_json::from_value(page.script(days).await).unwrap();
        faults.extend(
            days.into_iter()
                .filter(|_| path != "/me" && !path.ends_with("calibrate"))
                .map(|day| format!("{path} shows {day}")),
        );
    }
    browser.close().await;
    faults
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_fits_a_phone() {
    assert_eq!(faults(360, 740).await, Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_fits_a_window_at_twice_its_size() {
    assert_eq!(faults(640, 400).await, Vec::<String>::new());
}

//! Every page that can be opened by its address: no wider than a phone or a window at twice its size, and sound.

use super::browser::{Browser, Page};
use super::server::Server;

/// Addresses of the demo for every page of the route table that a technician or the owner opens. Downloads, data for
/// scripts and pages that need something made first are left out.
pub const PAGES: [&str; 47] = [
    "/",
    "/about",
    "/calls",
    "/cards",
    "/cards/new",
    "/glossary",
    "/me",
    "/ordinances",
    "/ordinances/new",
    "/people",
    "/sites/1/boxes/1",
    "/sites/1/boxes/1/budget",
    "/sites/1/boxes/1/card",
    "/sites/1/boxes/1/history",
    "/sites/1/boxes/1/law",
    "/sites/1/boxes/1/manual",
    "/sites/1/boxes/1/plan",
    "/sites/1/boxes/1/sheet",
    "/sites/1/boxes/1/walk",
    "/sites/1/boxes/new",
    "/sites/1/edit",
    "/sites/1/logbook",
    "/sites/1/sensors",
    "/sites/1/sensors/1",
    "/sites/1/sensors/1/edit",
    "/sites/1/sensors/2",
    "/sites/1/sensors/2/calibrate",
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
    "/sites/1/weather/sources/new",
    "/sites/1/zones",
    "/sites/1/zones/1",
    "/sites/1/zones/1/cans",
    "/sites/1/zones/1/season",
    "/sites/1/zones/new",
];

/// Opens every page and says which are wider than the window, and what axe-core finds.
async fn faults(width: u32, height: u32) -> Vec<String> {
    let server = Server::start(true);
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

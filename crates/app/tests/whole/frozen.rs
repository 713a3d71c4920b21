//! A database that hangs: every page says so and what to do, nothing waits for ever, and it goes on by itself.

use super::background::until;
use super::http::{Person, token};
use super::server::Server;
use std::time::Instant;

#[test]
fn a_database_that_hangs_is_told_on_every_page_and_is_no_reason_to_start_the_server_again() {
    let server = Server::with_a_gate();
    let (bram, nobody) = (Person::signed_in(&server, "bram"), Person::new(&server));
    let pages = ["/", "/calls", "/sites/1/today", "/sites/2/sensors", "/sites/1/weather.csv", "/people"];
    for page in pages {
        assert!(matches!(bram.get(page).status, 200 | 403), "{page}");
    }
    assert_eq!(nobody.get("/readyz").status, 200);
    let csrf = token(&bram.get("/sites/1/logbook").text);
    let note = |text: &str| bram.post("/sites/1/logbook", &[("csrf", &csrf), ("note", text)]);
    server.freeze(true);
    let began = Instant::now();
    // More at once than there are connections, so that some wait for one.
    std::thread::scope(|scope| {
        for page in pages.iter().cycle().take(36) {
            let bram = &bram;
            scope.spawn(move || {
                let told = bram.get(page);
                assert_eq!(told.status, 503, "{page}: {}", told.text);
                assert!(told.text.contains("The database does not answer"), "{page}: {}", told.text);
                assert!(told.text.contains("again in a moment"), "what to do: {}", told.text);
            });
        }
    });
    // Three seconds are promised; ten are not for ever.
    assert!(began.elapsed().as_secs() < 10, "{:?}", began.elapsed());
    assert_eq!((nobody.get("/healthz").status, nobody.get("/readyz").status), (200, 503));
    assert_eq!(nobody.get("/sign-in").status, 503, "whether there is an owner yet is not known");
    // Of what was sent nobody knows whether it was stored, and the page says so.
    let sent = note("the valve hums");
    assert_eq!(sent.status, 503);
    assert!(
        sent.text.contains("Nothing was stored") || sent.text.contains("not known whether it was stored"),
        "{}",
        sent.text
    );
    server.freeze(false);
    until("the pages", || bram.get("/sites/1/today").status == 200);
    for page in pages {
        assert!(matches!(bram.get(page).status, 200 | 403), "{page}");
    }
    assert_eq!(nobody.get("/readyz").status, 200);
    assert_eq!(note("it answers again").status, 303);
    let book = bram.get("/sites/1/logbook.csv").text;
    assert_eq!(book.matches("it answers again").count(), 1);
    assert!(book.matches("the valve hums").count() <= 1, "once at most: {book}");
}

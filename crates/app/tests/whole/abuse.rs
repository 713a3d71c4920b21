//! What nobody can do: stop the server without an account, keep others out, or change what sites out of sight rest on.

use super::http::{Person, ZONE};
use super::server::{BINARY, Server, key, key_file};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::process::Command;
use upland_store::sign_ins::Tried;

#[test]
fn sentence_1_without_an_account_nothing_is_estimated_and_no_method_is_made_up() {
    let server = Server::start(true);
    let nobody = Person::new(&server);
    let hard = "4@8({[</369g!|10$57%+2Z".repeat(5);
    let owner =
        [("login", "mallow"), ("name", "Mallow"), ("password", hard.as_str()), ("again", hard.as_str())];
    for _ in 0..3 {
        let answer = nobody.post_from("/sign-in", "/first-owner", &owner);
        assert_eq!(
            (answer.status, answer.headers["location"].as_str()),
            (303, "/sign-in"),
            "there is an owner"
        );
    }
    let mut line = TcpStream::connect(server.url.trim_start_matches("http://")).unwrap();
    let request = format!("{} /sign-in HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n", "A".repeat(3_000));
    line.write_all(request.as_bytes()).unwrap();
    let mut answer = String::new();
    line.read_to_string(&mut answer).unwrap();
    assert!(answer.starts_with("HTTP/1.1 405 "), "{answer}");
    assert_eq!(nobody.get("/healthz").status, 200);
}

#[test]
fn sentence_3_right_sign_ins_are_no_failures_and_a_half_way_one_ends_with_a_new_password() {
    let server = Server::start(true);
    for _ in 0..12 {
        let again = Person::new(&server);
        let right = [("login", "wren"), ("password", "larkrigg-demo")];
        assert_eq!(again.post_from("/sign-in", "/sign-in", &right).status, 303);
    }
    let wrong = [("login", "wren"), ("password", "wrong")];
    let statuses: Vec<u16> =
        (0..11).map(|_| Person::new(&server).post_from("/sign-in", "/sign-in", &wrong).status).collect();
    assert_eq!(statuses[..10], [422; 10]);
    assert_eq!(statuses[10], 429, "ten failures are enough");
}

#[test]
fn sentence_2_an_ordinance_that_other_sites_keep_to_is_changed_as_a_copy() {
    let server = Server::start(true);
    let (isla, bram) = (Person::signed_in(&server, "isla"), Person::signed_in(&server, "bram"));
    let rule = [("name", "Larkrigg odd"), ("r0-days", "odd_dates")];
    assert_eq!(isla.post_from("/ordinances/new", "/ordinances", &rule).status, 303);
    let list = isla.get("/ordinances").text;
    let row =
        list.split("/ordinances/").find(|part| part.contains("\">Larkrigg odd<")).expect("it is listed");
    let id: String = row.chars().take_while(char::is_ascii_digit).collect();
    let law = "/sites/3/controllers/1/law";
    let keep = [("base", "0"), ("house", "odd")];
    assert_eq!(isla.post_from(law, &format!("{law}/{id}"), &keep).status, 303);
    let people = isla.get("/people").text;
    let row = people.split("<tr>").find(|row| row.contains("<td>Bram</td>")).expect("a row");
    let bram_id = row.split("/people/").nth(1).unwrap().split('/').next().unwrap().to_owned();
    let sees = format!("/people/{bram_id}/sites");
    assert_eq!(isla.post_from(&sees, &sees, &[("sees", "these"), ("site-2", "yes")]).status, 303);
    let page = format!("/ordinances/{id}");
    let changed = [("name", "Larkrigg odd"), ("base_version", "1"), ("r0-days", "even_dates")];
    assert_eq!(bram.post_from(&page, &page, &changed).status, 303);
    let list = bram.get("/ordinances").text;
    assert!(list.contains("Larkrigg odd (copy)") && list.contains("saved as Larkrigg odd (copy)"), "{list}");
    assert!(isla.get(&page).text.contains("Version 1"), "what site 3 keeps to stays as it was");
    assert_eq!(bram.post_from("/ordinances", &format!("{page}/remove"), &[]).status, 303);
    assert!(bram.get("/ordinances").text.contains("stays: sites that you do not see apply it"));
    // Whoever sees every site changes it itself.
    assert_eq!(isla.post_from(&page, &page, &changed).status, 303);
    assert!(isla.get(&page).text.contains("Version 2"));
}

#[test]
fn sentence_3_failures_of_others_keep_no_known_device_out_and_the_console_lets_in() {
    let server = Server::start(true);
    let store = server.store();
    let right = [("login", "wren"), ("password", "larkrigg-demo")];
    let known = Person::signed_in(&server, "wren");
    assert_eq!(known.post_from("/me", "/sign-out", &[]).status, 303);
    assert_eq!(known.get("/sites/1/today").status, 303, "signed out");
    for at in 0..60 {
        store.note_sign_in("wren", &format!("192.0.2.{}", at % 6), Tried::Failed).unwrap();
    }
    let stranger = Person::new(&server);
    assert_eq!(stranger.post_from("/sign-in", "/sign-in", &right).status, 429, "from a device nobody knows");
    // The device is known under that name alone, and guesses no more often than others.
    let guess = |login: &str| {
        known.post_from("/sign-in", "/sign-in", &[("login", login), ("password", "wrong")]).status
    };
    assert_eq!(guess("wren"), 422);
    assert_eq!(known.post_from("/sign-in", "/sign-in", &right).status, 303, "a device that signed in before");
    assert_eq!(known.get("/sites/1/today").status, 200);

    let link = |name: &str| {
        let mut command = Command::new(BINARY);
        command.args(["sign-in-link", name, "--database-url", store.url(), "--public-url", &server.url]);
        command.output().unwrap()
    };
    let nobody = link("nobody-here");
    assert!(
        !nobody.status.success() && String::from_utf8_lossy(&nobody.stderr).contains("nobody signs in as")
    );
    let told = String::from_utf8(link("Wren").stdout).unwrap();
    let path = told.split_once(&server.url).expect("a link").1.lines().next().unwrap();
    let fresh = [("password", "heather over wet slate"), ("again", "heather over wet slate")];
    assert_eq!(stranger.post_from(path, path, &fresh).status, 303, "{told}");
    assert_eq!(stranger.get("/sites/1/today").status, 200);
    assert_eq!(Person::new(&server).get(path).status, 400, "it opens once");
    let right = [("login", "wren"), ("password", "heather over wet slate")];
    assert_eq!(
        Person::new(&server).post_from("/sign-in", "/sign-in", &right).status,
        303,
        "failures are forgotten"
    );
}

#[test]
fn sentence_3_a_second_factor_rests_sealed_and_is_sealed_anew_with_a_new_key() {
    let server = Server::start(true);
    let store = server.store();
    let bram = Person::signed_in(&server, "bram");
    assert_eq!(bram.post_from("/me/factor", "/me/factor", &[("now", "larkrigg-demo")]).status, 303);
    let shown = bram.get("/me/factor").text;
    let letters = shown.split_once("type these letters: <code>").unwrap().1.split_once('<').unwrap().0;
    let secret = totp_rs::Secret::Encoded(letters.to_owned()).to_bytes().unwrap();
    let rests = || store.factors_at_rest().unwrap().remove(0).secret;
    let first = rests();
    assert!(!first.windows(4).any(|part| part == &secret[..4]), "the database does not show it");
    let folder = std::env::temp_dir().join(format!("upland-whole-keys-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let (known, strange) = (folder.join("known"), folder.join("strange"));
    std::fs::copy(key_file(), &known).unwrap();
    upland_web::Keys::rotate(&known).unwrap();
    let both = upland_web::Keys::of_file(&known).unwrap();
    assert_eq!((both.seal_all(&store).unwrap(), both.seal_all(&store).unwrap()), (1, 0));
    assert_ne!(rests(), first);
    let other = upland_web::Keys::of_file(&strange).unwrap();
    assert!(other.seal_all(&store).unwrap_err().to_string().contains("not in the key file"));
    // This server does not know the new key: it says that something is wrong, and shows nothing.
    let answer = bram.get("/me/factor");
    assert!(answer.status == 500 && !answer.text.contains(letters), "{}", answer.status);
    std::fs::remove_dir_all(&folder).unwrap();
}

/// An address, the fields that are posted to it, and the answers that are right.
type Asked<'a> = (&'a str, &'a [(&'a str, &'a str)], &'a [u16]);

/// Every identity that a form carries in its body, with another site's in it.
#[test]
fn sentence_2_an_identity_of_another_site_in_a_body_is_refused_or_left_out() {
    let server = Server::start(true);
    let store = server.store();
    let bram = Person::signed_in(&server, "bram");
    let facts = |number| {
        let zone = store.read(|s| s.zones(key(number))).unwrap()[0].id;
        let own = store.read(|s| s.controllers(key(number))).unwrap()[0].id;
        (zone, own)
    };
    let (zone, controller) = facts(1);
    let sensor = store.read(|s| s.sensors(key(1))).unwrap()[0].id;
    let source = store.read(|s| s.sources(key(1))).unwrap()[0].id;
    let user = store.credentials("bram").unwrap().unwrap().user.id;
    let note = store.change(user, key(1), |c| c.note("of the first site", None, None)).unwrap().unwrap();
    let (zone, controller, sensor, source, note) =
        [zone, controller, sensor, source, note].map(|id| id.to_string()).into();
    let events = || store.read(|s| s.events(Some(1), 500)).unwrap().len();
    let before = events();
    let table: [Asked<'_>; 9] = [
        (
            "/sites/2/sensors/map",
            &[("sensor", &sensor), ("base_version", "1"), ("station", "1"), ("holds", "no")],
            &[404],
        ),
        (
            "/sites/2/weather/overrule",
            &[("source", &source), ("variable", "rain_mm"), ("date", "2026-07-01"), ("reason", "x")],
            &[422],
        ),
        ("/sites/2/weather/choice", &[("temperature-first", &source), ("reason", "x")], &[422]),
        ("/sites/2/logbook/restore", &[("subject", "note"), ("id", &note), ("under", "1")], &[303]),
        ("/sites/2/logbook/restore", &[("subject", "zone"), ("id", &zone), ("under", "2")], &[303]),
        ("/sites/2/ticks", &[("what", "keyed_in"), ("about", &controller), ("number", "0")], &[404, 303]),
        ("/sites/2/ticks", &[("what", "called"), ("about", &controller), ("number", "0")], &[404, 303]),
        (
            "/sites/2/logbook",
            &[("note", "about a zone elsewhere"), ("zone", &zone), ("corrects", &note)],
            &[303],
        ),
        (
            "/sites/2/visit/entries",
            &[("what", "zone"), ("about", &zone), ("looks", "dry"), ("key", "a-key-of-this-test-1")],
            &[200, 303, 404, 409, 422],
        ),
    ];
    for (path, fields, statuses) in table {
        let answer = bram.post_from("/sites/2/today", path, fields);
        assert!(statuses.contains(&answer.status), "{path} {fields:?}: {} {}", answer.status, answer.text);
    }
    assert_eq!(events(), before, "nothing of the first site changed");
    let told = bram.get("/sites/2/logbook").text;
    assert!(told.contains("about a zone elsewhere"));
    let first = bram.get("/sites/1/logbook").text;
    assert!(first.contains("of the first site") && !first.contains("corrected"), "the note is not corrected");
}

/// Every identity that an address carries behind its question mark: another site's shows what nobody's shows.
#[test]
fn sentence_2_an_identity_of_another_site_in_a_query_shows_nothing_of_it() {
    let server = Server::start(true);
    let store = server.store();
    let bram = Person::signed_in(&server, "bram");
    let source = store.read(|s| s.sources(key(1))).unwrap()[0].id;
    let zone = store.read(|s| s.zones(key(1))).unwrap()[0].id;
    let user = store.credentials("bram").unwrap().unwrap().user.id;
    store.change(user, key(1), |c| c.note("of the first site", Some(zone), None)).unwrap().unwrap();
    let own = store.read(|s| s.sources(key(2))).unwrap()[0].id;
    let series =
        |id: i64| bram.get(&format!("/sites/2/weather/series.json?source={id}&variable=rain")).status;
    assert_eq!((series(own), series(source), series(i64::MAX)), (200, 404, 404));
    let nobody = i64::from(i32::MAX);
    for (path, id) in [
        ("/sites/2/weather/compare?first={}&second={}", source),
        ("/sites/2/logbook?zone={}", zone),
        ("/sites/2/logbook.csv?zone={}", zone),
        ("/sites/2/logbook.json?zone={}", zone),
    ] {
        let shown = |id: i64| {
            let answer = bram.get(&path.replace("{}", &id.to_string()));
            assert_eq!(answer.status, 200, "{path}");
            answer.text.replace(&format!("zone={id}"), "zone=ID")
        };
        let (others, nobodys) = (shown(id), shown(nobody));
        assert!(!others.contains("of the first site"), "{path}");
        assert!(others == nobodys, "{path}: {} and {} letters", others.len(), nobodys.len());
    }
    let code = format!("kept-{zone}");
    let none = bram.get(&format!("/sites/2/trial?way={code}")).status;
    assert!([200, 404].contains(&none), "{none}");
}

#[test]
fn the_cookie_of_a_session_is_closed_to_scripts_and_to_other_pages() {
    let server = Server::start(true);
    let person = Person::new(&server);
    let cookie = person.get("/sign-in").headers["set-cookie"].to_lowercase();
    for word in ["httponly", "samesite=", "path=/"] {
        assert!(cookie.contains(word), "{word} of {cookie}");
    }
    assert!(!cookie.contains("samesite=none") && !cookie.contains("domain="), "{cookie}");
}

#[test]
fn what_people_type_is_shown_and_never_run() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let mut fields = ZONE.to_vec();
    fields.retain(|(k, _)| *k != "name");
    fields.push(("name", "<script>alert(1)</script>\"'&"));
    assert_eq!(person.post_from("/sites/1/zones", "/sites/1/zones", &fields).status, 303);
    for page in ["/sites/1/zones", "/sites/1/today", "/sites/1/sheet"] {
        let text = person.get(page).text;
        assert!(!text.contains("<script>alert"), "{page}");
        assert!(text.contains("&#60;script&#62;alert(1)"), "{page}");
    }
    assert!(person.get("/find.json").headers["content-type"].starts_with("application/json"));
}

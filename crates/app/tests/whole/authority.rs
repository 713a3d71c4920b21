//! Who may do what: every route of the program against nobody, a reader, a technician and the owner, without
//! a form token and with a wrong one, and with the identities of one site under the address of another.

use super::http::{Person, token};
use super::server::{Server, key};
use jiff::civil::date;
use std::collections::BTreeMap;
use std::path::Path;
use upland_core::ground::catch_can::{Can, CatchTest};
use upland_core::quantity::units::Minutes;
use upland_core::trial::Named;
use upland_core::weather::record::{Overrule, Variable};
use upland_formats::way_file;
use upland_store::Store;
use upland_store::field::EventKind;
use upland_store::owner_links::{OwnerBaseline, OwnerView};
use upland_store::photos::{NewPhoto, PhotoOf, Picture};
use upland_store::rounds::Asked;
use upland_store::scope::Scope;
use upland_store::sensors::{NewSensorEvent, SensorEventKind};
use upland_store::trials::NewTrial;
use upland_store::visits::NewEntry;

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Least {
    Anyone,
    Reader,
    Technician,
    Owner,
    /// A token of its own; nobody's sign-in is enough.
    Token,
}

/// A route with the least role that may use it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Row {
    path: String,
    method: String,
    least: Least,
}

fn rows() -> Vec<Row> {
    let lines = include_str!("routes.txt").lines().filter(|l| !l.starts_with('#'));
    let row = |line: &str| {
        let mut words = line.split_whitespace();
        let least = match words.next().unwrap() {
            "anyone" => Least::Anyone,
            "reader" => Least::Reader,
            "technician" => Least::Technician,
            "owner" => Least::Owner,
            "token" => Least::Token,
            other => panic!("{other} is no role"),
        };
        let (method, path) = (words.next().unwrap().to_owned(), words.next().unwrap().to_owned());
        Row { path, method, least }
    };
    lines.map(row).collect()
}

/// Every route as the handlers declare it.
fn declared(folder: &Path, found: &mut Vec<(String, String)>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            declared(&path, found);
        } else if path.extension().is_some_and(|e| e == "rs") {
            let text = std::fs::read_to_string(&path).unwrap();
            for method in ["get", "post", "put", "patch", "delete"] {
                for rest in text.split(&format!("#[{method}(\"")).skip(1) {
                    found.push((rest.split('"').next().unwrap().to_owned(), method.to_uppercase()));
                }
            }
        }
    }
}

/// The addresses that templates carry, what is filled in as `{}`.
fn addresses(folder: &Path, found: &mut Vec<(String, String)>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            addresses(&path, found);
        } else if path.extension().is_some_and(|e| e == "html" || e == "svg") {
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            let text = std::fs::read_to_string(&path).unwrap();
            for attribute in ["href", "action", "formaction", "data-url", "data-draft"] {
                for rest in text.split(&format!(" {attribute}=\"/")).skip(1) {
                    let whole = format!("/{}", rest.split('"').next().unwrap());
                    // Where a condition chooses the end, the address before it is tried.
                    let plain = whole.split("{%").next().unwrap();
                    let cut = plain.split(['?', '#']).next().unwrap();
                    let filled: String = cut
                        .split("{{")
                        .map(|part| {
                            part.split_once("}}").map_or(part.to_owned(), |(_, after)| format!("{{}}{after}"))
                        })
                        .collect();
                    if !whole.contains("{%") {
                        found.push((name.clone(), filled));
                    }
                }
            }
        }
    }
}

/// Whether a route answers an address whose filled-in parts may be anything.
fn answers(route: &str, address: &str) -> bool {
    if let Some(start) = route.strip_suffix("{path:.*}") {
        return address.starts_with(start);
    }
    let (route, address): (Vec<&str>, Vec<&str>) = (route.split('/').collect(), address.split('/').collect());
    let fits = |(r, a): (&&str, &&str)| r.contains('{') || r == a || *a == "{}";
    route.len() == address.len() && route.iter().zip(&address).all(fits)
}

#[test]
fn every_address_that_a_template_carries_is_a_route() {
    let mut found = Vec::new();
    addresses(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../web/src"), &mut found);
    assert!(found.len() > 60, "the templates were not found: {}", found.len());
    let routes: Vec<String> = rows().into_iter().map(|r| r.path).collect();
    let lost: Vec<_> = found.iter().filter(|(_, a)| !routes.iter().any(|r| answers(r, a))).collect();
    assert!(lost.is_empty(), "no route answers {lost:#?}");
    assert!(
        !answers("/sites/{id}/zones", "/sites/{}/zone")
            && answers("/sites/{id}/zones/{z}", "/sites/1/zones/{}")
    );
}

#[test]
fn every_route_has_a_row_and_every_row_a_route() {
    let mut found = Vec::new();
    declared(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../web/src"), &mut found);
    let mut listed: Vec<_> = rows().into_iter().map(|r| (r.path, r.method)).collect();
    found.sort();
    listed.sort();
    assert!(found.len() > 140);
    assert_eq!(found, listed);
}

/// Things of the first site, by their name in an address.
struct Things(BTreeMap<&'static str, String>);

impl Things {
    // Long: one thing of each kind.
    fn of(store: &Store) -> Self {
        let user = store.read(|s| s.users()).unwrap().into_iter().find(|u| u.login == "bram").unwrap().id;
        let facts = store
            .read(|s| Ok((s.zones(key(1))?[0].id, s.controllers(key(1))?[0].id, s.sensors(key(1))?[0].id)));
        let (zone, controller, sensor) = facts.unwrap();
        let source = store.read(|s| s.sources(key(1))).unwrap()[0].id;
        let import = store.read(|s| s.imports(key(1))).unwrap()[0].id;
        let draft =
            store.create_draft(key(1), source, user, "x.csv", b"date,tmin_c,tmax_c\n", false).unwrap();
        let event = NewSensorEvent {
            kind: SensorEventKind::Task,
            from: "2026-07-14T12:00:00Z".parse().unwrap(),
            until: None,
            body: serde_json::json!({ "task": "clean" }),
            reason: "x",
        };
        let can = |millilitres| Can { x_m: 0.0, y_m: 0.0, millilitres };
        let cans = CatchTest {
            run: Minutes::from_min(10.0),
            throat_cm2: 80.0,
            reading: Default::default(),
            cans: [9.0, 10.0, 11.0, 12.0].map(can).to_vec(),
        };
        let said =
            Overrule { date: date(2026, 7, 1), variable: Variable::Rain, keep: false, reason: "x".into() };
        let for_owner = OwnerView {
            name: "x".into(),
            language: "en".into(),
            baseline: OwnerBaseline::default(),
            price: None,
        };
        let made = store.change(user, key(1), |c| {
            Ok([
                c.note_event(zone, date(2026, 7, 1), EventKind::Run, 5.0, "x")?,
                c.save_catch_test(zone, date(2026, 7, 1), &cans)?,
                c.add_sensor_event(sensor, &event)?,
                c.create_device(sensor, "x", b"hash")?,
                c.overrule(source, &said)?,
                c.save_trial_way("x", &way_file::to_value(&Named::AsSet.way("x")))?,
                Some(c.keep_trial(NewTrial { name: "x", file: "{}", result: "{}", answer: "x" })?),
                Some(c.note("x", None, None)?),
                c.make_owner_link(&for_owner, b"hash")?,
            ])
        });
        let visited = store.change(user, key(1), |c| {
            let visit = c.visit_on(date(2026, 7, 1))?;
            let at = "2026-07-01T12:00:00Z".parse().unwrap();
            let body = serde_json::json!({ "controller": 1, "station": 1, "looks": "dry" });
            let entry = NewEntry {
                client_key: "x",
                kind: "zone",
                about: zone,
                body: &body,
                at,
                clock_off_s: 0,
                words: "x",
            };
            let picture = Picture::Jpeg(b"x".to_vec());
            let photo = NewPhoto {
                client_key: "x",
                visit_id: Some(visit),
                of: PhotoOf::Site,
                caption: "",
                picture,
                width: 1,
                height: 1,
            };
            Ok((visit, c.enter(visit, entry)?.unwrap(), c.keep_photo(photo)?.unwrap()))
        });
        let (visit, entry, photo) = visited.unwrap().unwrap();
        let [zone_event, test, sensor_event, device, overrule, way, trial, note, link] =
            made.unwrap().unwrap().map(|id| id.expect("of this site"));
        let asked = Asked { kind: None, put_off: false, since: None, page: (i64::MAX, 0) };
        let noticed = || {
            let all = store.read(|s| s.notices(&Scope::program(), asked)).unwrap();
            all.into_iter().find(|n| n.site_id == key(1)).map(|n| n.id)
        };
        super::background::until("a notice", || noticed().is_some());
        let notice = noticed().unwrap();
        let ids = [
            ("zone", zone),
            ("controller", controller),
            ("sensor", sensor),
            ("source", source),
            ("import", import),
            ("draft", draft),
            ("event", zone_event),
            ("sensor event", sensor_event),
            ("test", test),
            ("device", device),
            ("overrule", overrule),
            ("way", way),
            ("trial", trial),
            ("note", note),
            ("link", link),
            ("visit", visit),
            ("entry", entry),
            ("photo", photo),
            ("notice", notice),
        ];
        let mut things: BTreeMap<_, _> = ids.map(|(name, id)| (name, id.to_string())).into();
        for (name, value) in
            [("number", "1"), ("version", "1"), ("ordinance", "1"), ("code", "twelve_stations")]
        {
            things.insert(name, value.to_owned());
        }
        things.insert("token", "none".into());
        things.insert("api_token", "1".into());
        things.insert("secret", "none".into());
        things.insert("job", "1".into());
        things.insert("path:.*", "mark.svg".into());
        Self(things)
    }

    /// An address with the things of the first site, under a site.
    fn address(&self, path: &str, site: i64) -> String {
        let mut out = String::new();
        let mut rest = path;
        while let Some((before, after)) = rest.split_once('{') {
            let (name, end) = after.split_once('}').unwrap();
            out.push_str(before);
            let of_sensor = name == "event" && path.contains("/sensors/");
            match if of_sensor { "sensor event" } else { name } {
                "id" => out.push_str(&site.to_string()),
                name => out.push_str(self.0.get(name).unwrap_or_else(|| panic!("{name} in {path}"))),
            }
            rest = end;
        }
        out + rest
    }
}

fn send(person: &Person, row: &Row, address: &str, fields: &[(&str, &str)]) -> u16 {
    if row.method == "GET" { person.get(address).status } else { person.post(address, fields).status }
}

/// Routes that end what the test stands on, or whose answer is asked elsewhere.
fn apart(path: &str) -> bool {
    matches!(path, "/sign-out" | "/sign-in" | "/first-owner" | "/people/{id}/role")
}

#[test]
fn nobody_a_reader_and_a_technician_get_what_their_role_allows_and_no_more() {
    let server = Server::start(true);
    let store = server.store();
    let things = Things::of(&store);
    let people = [
        (Least::Anyone, Person::new(&server)),
        (Least::Reader, Person::signed_in(&server, "wren")),
        (Least::Technician, Person::signed_in(&server, "bram")),
    ];
    for row in rows().iter().filter(|r| !apart(&r.path)) {
        let address = things.address(&row.path, 1);
        for (role, person) in &people {
            if *role >= row.least {
                continue;
            }
            let key = if *role == Least::Anyone { String::new() } else { token(&person.get("/").text) };
            let status = send(person, row, &address, &[("csrf", key.as_str())]);
            let refused: &[u16] = match (role, row.least) {
                (_, Least::Token) => &[401],
                (Least::Anyone, _) => &[303, 401],
                _ => &[403],
            };
            assert!(refused.contains(&status), "{role:?} {} {address}: {status}", row.method);
        }
    }
    let revision = store.read(|s| s.stamp(key(1))).unwrap().unwrap().revision;
    let expected = store.read(|s| s.events(Some(1), 1)).unwrap();
    assert!(revision > 1 && !expected.is_empty(), "and the test itself wrote before");
}

#[test]
fn whoever_was_given_other_sites_finds_nothing_of_this_one_at_any_address() {
    let server = Server::start(true);
    let store = server.store();
    let things = Things::of(&store);
    let users = store.read(|s| s.users()).unwrap();
    let id = |login: &str| users.iter().find(|u| u.login == login).unwrap().id;
    for login in ["wren", "bram"] {
        assert!(store.give_sites(id(login), Some(&[2, 3]), id("isla")).unwrap());
    }
    let people = [(Least::Reader, "wren"), (Least::Technician, "bram")];
    let people = people.map(|(role, login)| (role, Person::signed_in(&server, login)));
    let stamp = || store.read(|s| s.stamp(key(1))).unwrap();
    let before = stamp();
    let mut tried = 0;
    for row in rows().iter().filter(|r| r.path.starts_with("/sites/{id}")) {
        let address = things.address(&row.path, 1);
        for (role, person) in people.iter().filter(|(role, _)| *role >= row.least) {
            let token = token(&person.get("/").text);
            let status = send(person, row, &address, &[("csrf", token.as_str())]);
            // What is no question or file at all may be refused before its site is looked for.
            assert!(matches!(status, 404 | 400), "{role:?} {} {address}: {status}", row.method);
            tried += 1;
        }
    }
    assert!(tried > 200, "{tried}");
    assert_eq!(stamp(), before, "nothing was written");
    for (_, person) in &people {
        for page in
            ["/", "/calls", "/calls.csv", "/ordinances", "/find.json?words=a", "/find.json?words=botanic"]
        {
            let told = person.get(page).text;
            assert!(!told.contains("Botanic") && !told.contains("/sites/1/"), "{page}: {told}");
        }
        assert_eq!(person.get("/sites/2/today").status, 200);
    }
    assert!(people[0].1.get("/find.json?words=hollin").text.contains("/sites/2/"), "what was given is found");
}

#[test]
fn no_form_is_taken_without_the_token_of_its_session() {
    let server = Server::start(true);
    let store = server.store();
    let things = Things::of(&store);
    let stamps = || store.read(|s| Ok((s.stamp(key(1))?, s.stamp(key(2))?, s.users()?))).unwrap();
    let before = stamps();
    let owner = Person::signed_in(&server, "isla");
    let other = token(&Person::signed_in(&server, "bram").get("/").text);
    let forms = |r: &&Row| r.method == "POST" && r.path != "/first-owner" && r.least != Least::Token;
    for row in rows().iter().filter(forms) {
        let address = things.address(&row.path, 1);
        for fields in [&[][..], &[("csrf", "nonsense")], &[("csrf", other.as_str())]] {
            let status = owner.post(&address, fields).status;
            // A file comes in parts; what is no file at all is refused before its token is looked for.
            let refused = status == 403
                || (status == 400
                    && ["/open", "/files", "/photos", "/visits"].iter().any(|end| address.ends_with(end)));
            assert!(refused, "{address} with {fields:?}: {status}");
        }
    }
    assert_eq!(stamps(), before, "nothing was written");
}

#[test]
fn no_page_or_form_reaches_a_thing_of_another_site() {
    let server = Server::start(true);
    let store = server.store();
    let things = Things::of(&store);
    let owner = Person::signed_in(&server, "isla");
    let key = token(&owner.get("/").text);
    let stamps = || {
        store
            .read(|s| {
                Ok((
                    s.stamp(super::server::key(1))?.unwrap().revision,
                    s.stamp(super::server::key(2))?.unwrap().revision,
                ))
            })
            .unwrap()
    };
    let before = stamps();
    // Everything that a form of this program may carry, so that only the address is wrong.
    let fields = [
        ("csrf", key.as_str()),
        ("base_version", "1"),
        ("base", "1"),
        ("units", "metric"),
        ("name", "Moved"),
        ("reason", "other site"),
        ("kind", "bypass"),
        ("hours", "2"),
        ("date", "2026-07-01"),
        ("value", "10"),
        ("channel", "rain_mm"),
        ("lines", "2026-07-01 18:00 1"),
        ("mm", "12"),
    ];
    let own = ["id", "number", "version", "ordinance", "code", "token", "path:.*"];
    let mut tried = 0;
    for row in rows().iter().filter(|r| r.path.starts_with("/sites/{id}/")) {
        let names: Vec<&str> =
            row.path.split('{').skip(1).map(|part| part.split('}').next().unwrap()).collect();
        if names.iter().all(|name| own.contains(name)) {
            continue;
        }
        tried += 1;
        let address = things.address(&row.path, 2);
        let status = send(&owner, row, &address, &fields);
        let refused = status == 404 || (row.path.ends_with("/files") && status == 400);
        assert!(refused, "{} {address}: {status}", row.method);
    }
    assert!(tried > 45, "{tried}");
    assert_eq!(stamps(), before, "neither site was written");
}

#[test]
fn every_page_answers_its_least_role_and_no_address_fails() {
    let server = Server::start(true);
    let things = Things::of(&server.store());
    let owner = Person::signed_in(&server, "isla");
    let key = token(&owner.get("/").text);
    for row in rows().iter().filter(|r| !apart(&r.path)) {
        let address = things.address(&row.path, 1);
        let status = send(&owner, row, &address, &[("csrf", key.as_str())]);
        let let_in = status != 401 && status != 403;
        assert!(status < 500 && let_in == (row.least != Least::Token), "{} {address}: {status}", row.method);
        for strange in ["0", "-1", "9223372036854775807", "x", "%00", "1%00"] {
            let filled = row.path.replace("{id}", strange);
            let address = things.address(&filled, 1);
            let status = send(&owner, row, &address, &[("csrf", key.as_str())]);
            assert!(status < 500, "{} {address}: {status}", row.method);
        }
    }
}

#[test]
fn a_role_is_changed_by_the_owner_only_and_truly() {
    let server = Server::start(true);
    let owner = Person::signed_in(&server, "isla");
    let bram = Person::signed_in(&server, "bram");
    let key = token(&bram.get("/").text);
    assert_eq!(bram.post("/people/3/role", &[("csrf", key.as_str()), ("role", "owner")]).status, 403);
    let set = |id: &str, role| owner.post_from("/people", &format!("/people/{id}/role"), &[("role", role)]);
    assert_eq!(set("99", "reader").status, 404, "nobody has that account");
    assert_eq!(set("2", "king").status, 400);
    assert_eq!(set("1", "reader").status, 303);
    assert!(owner.get("/people").text.contains("There must be an owner"));
    assert_eq!(set("2", "reader").status, 303);
    assert!(owner.get("/people").text.contains("The role is changed"));
    assert_eq!(bram.get("/sites/1/zones/new").status, 403, "from the next request on");
}

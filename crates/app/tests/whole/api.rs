//! Other software that reads by a token: every answer is read by the schema that the interface publishes, says what the pages
//! say, and ends with the token.

use super::http::{Answer, Person};
use super::sensors::token_on;
use super::server::Server;
use serde_json::{Value, json};

const PAGE: &str = "/me/tokens";

/// A token of a person that reads what is named.
fn reading_token(person: &Person, scopes: &[&str]) -> String {
    let mut fields = vec![("name", "Office screen")];
    fields.extend(scopes.iter().map(|scope| (*scope, "yes")));
    let made = person.post_from(PAGE, PAGE, &fields);
    assert_eq!(made.status, 303, "{}", made.text);
    let shown = person.get(PAGE).text;
    assert!(!person.get(PAGE).text.contains("class=\"token\""), "it is shown once");
    token_on(&shown)
}

const ALL: [&str; 4] = ["sites", "settings", "nights", "account"];

fn read(answer: &Answer) -> Value {
    serde_json::from_str(&answer.text).unwrap_or_else(|error| panic!("{error}: {}", answer.text))
}

/// The published description; schemas of answers are looked up in it.
struct Described(Value);

impl Described {
    fn of(person: &Person) -> Self {
        Self(read(&person.get("/api/v1/openapi.json")))
    }

    /// Fails unless an answer is what its address describes for its status.
    fn holds(&self, route: &str, answer: &Answer) {
        let response = &self.0["paths"][route]["get"]["responses"][answer.status.to_string()];
        let mut schema = response["content"]["application/json"]["schema"].clone();
        assert!(schema.is_object(), "{route} does not describe {}: {}", answer.status, answer.text);
        // References begin at the root of the document, which is the description's.
        schema["components"] = self.0["components"].clone();
        let validator = jsonschema::validator_for(&schema).unwrap();
        let value = read(answer);
        let faults: Vec<String> =
            validator.iter_errors(&value).map(|e| format!("{}: {e}", e.instance_path())).collect();
        assert!(faults.is_empty(), "{route}: {faults:#?}");
    }
}

#[test]
fn every_answer_is_read_by_its_published_schema() {
    let server = Server::several(true);
    let person = Person::signed_in(&server, "isla");
    let described = Described::of(&person);
    let token = reading_token(&person, &ALL);
    let sites = person.get_with_token("/api/v1/sites", &token);
    let ids: Vec<i64> =
        read(&sites)["sites"].as_array().unwrap().iter().map(|s| s["id"].as_i64().unwrap()).collect();
    assert!(ids.len() > 1);
    let mut tried = vec![
        ("/api/v1/sites", "/api/v1/sites".to_owned(), 200),
        ("/api/v1/sites", "/api/v1/sites?limit=1".to_owned(), 200),
        ("/api/v1/weekly-list", "/api/v1/weekly-list".to_owned(), 200),
        ("/api/v1/notices", "/api/v1/notices?from=1&limit=3".to_owned(), 200),
        ("/api/v1/sites/{id}", "/api/v1/sites/999".to_owned(), 404),
        ("/api/v1/sites/{id}/night", "/api/v1/sites/1/night?date=whenever".to_owned(), 400),
        (
            "/api/v1/sites/{id}/account",
            "/api/v1/sites/1/account?from=2020-01-01&to=2026-07-01".to_owned(),
            400,
        ),
        (
            "/api/v1/sites/{id}/account",
            "/api/v1/sites/1/account?policy=best&from=2026-07-01&to=2026-06-01".to_owned(),
            400,
        ),
        ("/api/v1/sites/{id}/account", "/api/v1/sites/1/account?policy=none".to_owned(), 400),
    ];
    let (night, settings) = ("/api/v1/sites/{id}/night", "/api/v1/sites/{id}/controllers/{number}/settings");
    for id in &ids {
        tried.push(("/api/v1/sites/{id}", format!("/api/v1/sites/{id}"), 200));
        tried.push((night, format!("/api/v1/sites/{id}/night"), 200));
        tried.push((night, format!("/api/v1/sites/{id}/night?date=2026-07-01"), 200));
        tried.push(("/api/v1/sites/{id}/account", format!("/api/v1/sites/{id}/account"), 200));
        tried.push((settings, format!("/api/v1/sites/{id}/controllers/99/settings"), 404));
        let answer = person.get_with_token(&format!("/api/v1/sites/{id}/night"), &token);
        for controller in read(&answer)["controllers"].as_array().unwrap() {
            let known = controller["runs_known"] != "unknown";
            let address = format!("/api/v1/sites/{id}/controllers/{}/settings", controller["controller"]);
            tried.push((settings, address, if known { 200 } else { 404 }));
        }
    }
    for (route, address, status) in tried {
        let answer = person.get_with_token(&address, &token);
        assert_eq!(answer.status, status, "{address}: {}", answer.text);
        described.holds(route, &answer);
    }
}

#[test]
fn a_night_and_an_account_say_what_the_pages_and_the_command_say() {
    let server = Server::start(true);
    let person = Person::signed_in(&server, "bram");
    let token = reading_token(&person, &ALL);
    let night = read(&person.get_with_token("/api/v1/sites/1/night", &token));
    let sheet = person.get("/sites/1/sheet.csv").text;
    let zones = night["controllers"][0]["zones"].as_array().unwrap();
    let rows: Vec<Vec<&str>> = sheet.lines().skip(1).map(|line| line.split(',').collect()).collect();
    assert!(!rows.is_empty() && rows.len() == zones.len());
    for (zone, row) in zones.iter().zip(&rows) {
        assert_eq!(zone["station"].to_string(), row[0]);
        assert_eq!(format!("{:.1}", zone["depletion_mm"].as_f64().unwrap()), row[3], "{zone}");
        assert_eq!(zone["verdict"].as_str().unwrap_or_default().replace('_', " "), row[18], "{zone}");
    }
    // A day of the account closes, and is the evening that the night begins with.
    let account = read(&person.get_with_token("/api/v1/sites/1/account?from=2026-07-01", &token));
    for (zone, tonight) in account["zones"].as_array().unwrap().iter().zip(zones) {
        let days = zone["days"].as_array().unwrap();
        for pair in days.windows(2) {
            let of = |name: &str| pair[1][name].as_f64().unwrap();
            let before = pair[0]["depletion_mm"].as_f64().unwrap();
            let after = before - of("rain_in_mm") - of("applied_in_mm") + of("et_mm") + of("drainage_mm");
            assert!(
                pair[1]["set_by_reading"] == true || (after - of("depletion_mm")).abs() < 0.01,
                "{}",
                pair[1]
            );
        }
        assert_eq!(days.last().unwrap()["depletion_mm"], tonight["depletion_mm"], "{tonight}");
    }
    // The list over all sites is what its page shows.
    let list = read(&person.get_with_token("/api/v1/weekly-list", &token));
    let page = person.get("/calls").text;
    for row in list["percentages"].as_array().unwrap() {
        assert!(page.contains(row["site_name"].as_str().unwrap()), "{row}");
    }
}

#[test]
fn a_token_reads_what_it_may_and_ends_when_it_is_revoked() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let nobody = Person::new(&server);
    let described = Described::of(&nobody);
    let [sites, night] = ["/api/v1/sites", "/api/v1/sites/1/night"];
    // A session opens nothing here, and an unknown token neither.
    for (person, token) in [(&bram, ""), (&nobody, ""), (&nobody, "0123abcd")] {
        let answer = person.get_with_token(sites, token);
        assert_eq!((answer.status, answer.headers["www-authenticate"].as_str()), (401, "Bearer"), "{token}");
        described.holds(sites, &answer);
    }
    let token = reading_token(&bram, &["sites"]);
    assert_eq!(nobody.get_with_token(sites, &token).status, 200);
    let out = nobody.get_with_token(night, &token);
    assert!(out.status == 403 && out.text.contains("may not read nights"), "{}", out.text);
    described.holds("/api/v1/sites/{id}/night", &out);
    // It changes nothing, and a page does not know it.
    assert_eq!(nobody.post_json("/api/v1/readings", &token, "{\"readings\":[]}").status, 401);
    assert_eq!(nobody.get_with_token("/sites/1/today", &token).status, 303);
    assert!(!nobody.get_with_token("/api/v1/sites/1", &token).text.contains("\"access\""), "no access notes");
    let page = bram.get(PAGE).text;
    assert!(page.contains("Office screen") && page.contains("last used"), "{page}");
    let id = page.split("/me/tokens/").nth(1).unwrap().split('/').next().unwrap();
    // Nobody ends the token of another.
    let wren = Person::signed_in(&server, "wren");
    let revoke = format!("{PAGE}/{id}/revoke");
    assert_eq!(wren.post_from(PAGE, &revoke, &[]).status, 404);
    assert_eq!(bram.post_from(PAGE, &revoke, &[]).status, 303);
    assert_eq!(bram.post_from(PAGE, &revoke, &[]).status, 404, "it is revoked already");
    let ended = nobody.get_with_token(sites, &token);
    assert!(ended.status == 403 && ended.text.contains("was revoked"), "{}", ended.text);
    let refused = bram.post_from(PAGE, PAGE, &[("name", "")]);
    assert!(refused.status == 422 && refused.text.contains("Tick what it may read"), "{}", refused.text);
}

#[test]
fn a_token_sees_the_sites_of_its_person_and_no_others() {
    let server = Server::several(true);
    let store = server.store();
    let wren = store.credentials("wren").unwrap().unwrap().user.id;
    let own = 1;
    let person = Person::signed_in(&server, "wren");
    let token = reading_token(&person, &ALL);
    store.give_sites(wren, Some(&[own]), wren).unwrap();
    let listed = read(&person.get_with_token("/api/v1/sites", &token));
    let ids: Vec<Value> = listed["sites"].as_array().unwrap().iter().map(|site| site["id"].clone()).collect();
    assert_eq!(ids, [json!(own)]);
    let other = 2;
    for rest in ["", "/night", "/account", "/controllers/1/settings"] {
        let answer = person.get_with_token(&format!("/api/v1/sites/{other}{rest}"), &token);
        assert_eq!(answer.status, 404, "{rest}: {}", answer.text);
    }
    for list in ["weekly-list", "notices"] {
        let answer = read(&person.get_with_token(&format!("/api/v1/{list}"), &token));
        for row in answer["percentages"].as_array().into_iter().chain(answer["notices"].as_array()).flatten()
        {
            assert_eq!(row["site"], json!(own), "{row}");
        }
    }
}

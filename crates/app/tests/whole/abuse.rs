//! What nobody can do: stop the server without an account, keep others out, or change what sites out of sight rest on.

use super::http::Person;
use super::server::Server;
use std::io::{Read, Write};
use std::net::TcpStream;

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
    let law = "/sites/3/boxes/1/law";
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
    assert!(bram.get("/ordinances").text.contains("stays: sites that you do not see keep to it"));
    // Whoever sees every site changes it itself.
    assert_eq!(isla.post_from(&page, &page, &changed).status, 303);
    assert!(isla.get(&page).text.contains("Version 2"));
}

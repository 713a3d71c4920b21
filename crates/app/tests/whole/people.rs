//! People and their roles, over HTTP.

use super::http::Person;
use super::server::Server;
use upland_store::sign_ins::Tried;

const PEOPLE: &str = "/people";

fn add(owner: &Person, login: &str, name: &str, password: &str, role: &str) -> super::http::Answer {
    let fields = [("login", login), ("name", name), ("password", password), ("role", role)];
    owner.post_from(PEOPLE, PEOPLE, &fields)
}

/// The identity of somebody on the page of people.
fn identity(owner: &Person, name: &str) -> String {
    let page = owner.get(PEOPLE).text;
    let row = page.split("<tr>").find(|row| row.contains(&format!("<td>{name}</td>"))).expect("a row");
    row.split("/people/").nth(1).unwrap().split('/').next().unwrap().to_owned()
}

#[test]
// Long: one story from the door to the sites.
fn somebody_is_let_in_and_can_do_what_the_role_says() {
    let server = Server::start(true);
    let isla = Person::signed_in(&server, "isla");
    for (login, name, password, role, told) in [
        ("fern", "Fern", "short", "reader", "password"),
        ("fern", "", "a-long-password", "reader", "name"),
        ("fe rn", "Fern", "a-long-password", "reader", "ign-in name"),
        ("fern", "Fern", "a-long-password", "king", "Choose a role."),
        ("bram", "Fern", "a-long-password", "reader", "This sign-in name is taken."),
        ("BRAM", "Fern", "a-long-password", "reader", "This sign-in name is taken."),
    ] {
        let refused = add(&isla, login, name, password, role);
        assert_eq!(refused.status, 422, "{login} {name} {role}");
        assert!(refused.text.contains(told), "{login} {name} {role}: no {told}");
        assert!(!refused.text.contains(password), "a password is never shown");
    }
    assert_eq!(add(&isla, "Fern", "Fern of the Slope", "larkrigg-demo", "reader").status, 303);
    let fern = Person::signed_in(&server, "fern");
    assert_eq!(fern.get("/sites/1/today").status, 404, "a reader sees what was given, and nothing was yet");
    let id = identity(&isla, "Fern of the Slope");
    let sees = format!("/people/{id}/sites");
    let give = |fields: &[(&str, &str)]| isla.post_from(&sees, &sees, fields).status;
    assert_eq!(give(&[]), 400, "neither every site nor these");
    assert_eq!(give(&[("sees", "these"), ("site-1", "yes"), ("site-999", "yes"), ("site-x", "yes")]), 303);
    assert!(isla.get(PEOPLE).text.contains("1 site<"), "{}", isla.get(PEOPLE).text);
    assert_eq!(fern.get("/").headers["location"], "/sites/1/today", "one site needs no list");
    assert_eq!((fern.get("/sites/1/today").status, fern.get("/sites/2/today").status), (200, 404));
    assert_eq!(give(&[("sees", "every")]), 303);
    assert_eq!((fern.get("/sites/2/today").status, fern.get("/").status), (200, 200));
    assert_eq!(give(&[("sees", "these"), ("site-1", "yes"), ("site-2", "yes")]), 303);
    assert_eq!(fern.get("/sites/1/zones/new").status, 403, "a reader");
    let role = |role: &str| isla.post_from(PEOPLE, &format!("/people/{id}/role"), &[("role", role)]);
    assert_eq!(role("technician").status, 303);
    assert!(isla.get(PEOPLE).text.contains("The role is changed."));
    assert_eq!(fern.get("/sites/1/zones/new").status, 200, "from the next page on");
    assert_eq!(fern.get(PEOPLE).status, 403, "people are the owner's");
    assert_eq!(role("technician").status, 303);
    assert!(isla.get(PEOPLE).text.contains("That is the role already."), "nothing was done, and it says so");
    assert_eq!(role("king").status, 400);
    // Whoever makes a site sees it, and an owner sees every one.
    let made = [
        ("name", "Larkrigg Nursery"),
        ("units", "metric"),
        ("latitude", "46.2"),
        ("longitude", "8.1"),
        ("elevation", "900"),
        ("time_zone", "Etc/GMT-2"),
        ("from", "22:00"),
        ("until", "06:00"),
        ("controller", "Shed"),
        ("card", "twelve"),
    ];
    let new = fern.post_from("/sites/new", "/sites", &made);
    assert_eq!(new.status, 303, "{}", new.text);
    assert_eq!(fern.get(&new.headers["location"]).status, 200, "the maker sees it");
    assert_eq!(fern.get("/sites/3/today").status, 404);
    assert_eq!(role("owner").status, 303);
    assert_eq!(fern.get("/sites/3/today").status, 200);
    assert_eq!(fern.get(&sees).status, 404, "there is nothing to give to an owner");
    assert_eq!(role("technician").status, 303);
    assert_eq!(isla.post_from(PEOPLE, "/people/99999/role", &[("role", "reader")]).status, 404);
}

#[test]
fn there_is_always_an_owner() {
    let server = Server::start(true);
    let isla = Person::signed_in(&server, "isla");
    let own = identity(&isla, "Isla");
    let step_down = || isla.post_from(PEOPLE, &format!("/people/{own}/role"), &[("role", "reader")]);
    assert_eq!(step_down().status, 303);
    assert!(isla.get(PEOPLE).text.contains("There must be an owner; the role stays as it is."));
    let bram = identity(&isla, "Bram");
    let raised = isla.post_from(PEOPLE, &format!("/people/{bram}/role"), &[("role", "owner")]);
    assert_eq!(raised.status, 303);
    assert_eq!(step_down().status, 303, "now there is another");
    assert_eq!(isla.get(PEOPLE).status, 403);
    assert_eq!(Person::signed_in(&server, "bram").get(PEOPLE).status, 200);
}

#[test]
fn thirty_wrong_passwords_at_once_are_answered_and_the_right_one_still_opens() {
    let server = Server::start(true);
    let answers: Vec<u16> = std::thread::scope(|scope| {
        let tries: Vec<_> = (0..30)
            .map(|i| {
                let person = Person::new(&server);
                scope.spawn(move || {
                    let fields = [("login", "wren"), ("password", "wrong")];
                    (i, person.post_from("/sign-in", "/sign-in", &fields).status).1
                })
            })
            .collect();
        tries.into_iter().map(|t| t.join().unwrap()).collect()
    });
    assert!(answers.iter().all(|s| matches!(s, 422 | 429)), "{answers:?}");
    assert!(answers.contains(&429), "guessing is slowed down: {answers:?}");
    assert_eq!(Person::new(&server).get("/healthz").status, 200);
    let other = Person::signed_in(&server, "isla");
    assert_eq!(other.get("/").status, 200, "nobody else is locked out");
    let audit = other.get("/audit").text;
    assert!(audit.contains("127.0.0.1") && audit.contains("failed ") && audit.contains("not even looked at"));
    assert!(audit.contains("Weather import added"), "every site's changes stand there");
    assert_eq!(Person::signed_in(&server, "bram").get("/audit").status, 403);
}

#[test]
fn several_servers_count_failed_sign_ins_together_and_the_search_asks_the_server() {
    let first = Server::start(true);
    let second = first.beside();
    let store = first.store();
    for _ in 0..9 {
        store.note_sign_in("wren", "127.0.0.1", Tried::Failed).unwrap();
    }
    let wrong = [("login", "wren"), ("password", "wrong")];
    assert_eq!(Person::new(&first).post_from("/sign-in", "/sign-in", &wrong).status, 422);
    let right = [("login", "wren"), ("password", "larkrigg-demo")];
    let refused = Person::new(&second).post_from("/sign-in", "/sign-in", &right);
    assert!(refused.status == 429 && refused.text.contains("Wait a few minutes"), "the other server knows");
    assert!(store.may_sign_in("wren", "192.0.2.1").unwrap(), "from elsewhere it is open");
    let bram = Person::signed_in(&second, "bram");
    let found = bram.get("/find.json?words=upper%20lark").text;
    assert!(found.contains("Upper lawn, Larkrigg Botanic Slope") && !found.contains("Heather"), "{found}");
    for nothing in ["/find.json", "/find.json?words=%20", "/find.json?words=zzz"] {
        assert_eq!(bram.get(nothing).text, "[]", "{nothing}");
    }
}

#[test]
fn a_password_is_changed_by_its_owner_and_ends_the_other_sessions() {
    let server = Server::start(true);
    let (desk, phone) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "bram"));
    let change = |now: &str, new: &str, again: &str| {
        desk.post_from("/me", "/me/password", &[("now", now), ("password", new), ("again", again)])
    };
    for (now, new, again, told) in [
        ("larkrigg-demi", "heather over wet slate", "heather over wet slate", "is another one"),
        ("larkrigg-demo", "short", "short", "twelve characters"),
        ("larkrigg-demo", "passwordpassword", "passwordpassword", "easy to guess"),
        ("larkrigg-demo", "heather over wet slate", "heather over wet slat", "two passwords differ"),
    ] {
        let refused = change(now, new, again);
        assert_eq!(refused.status, 422, "{new}");
        assert!(refused.text.contains(told) && !refused.text.contains(now), "{told}");
    }
    assert!(desk.get("/me").text.contains("End every other session"));
    assert_eq!(change("larkrigg-demo", "heather over wet slate", "heather over wet slate").status, 303);
    assert!(desk.get("/me").text.contains("every other session of yours has ended"));
    assert_eq!(phone.get("/sites/1/today").status, 303, "signed out");
    assert_eq!(desk.get("/sites/1/today").status, 200);
    let old = Person::new(&server);
    let tried = [("login", "bram"), ("password", "larkrigg-demo")];
    assert_eq!(old.post_from("/sign-in", "/sign-in", &tried).status, 422);
    let tried = [("login", "bram"), ("password", "heather over wet slate")];
    assert_eq!(old.post_from("/sign-in", "/sign-in", &tried).status, 303);
    assert_eq!(desk.post_from("/me", "/me/sessions/end", &[]).status, 303);
    assert!(desk.get("/me").text.contains("The other session has ended."));
    assert_eq!(old.get("/sites/1/today").status, 303);
}

#[test]
fn the_owner_hands_over_a_link_once_and_lets_people_out_and_in() {
    let server = Server::start(true);
    let (isla, wren) = (Person::signed_in(&server, "isla"), Person::signed_in(&server, "wren"));
    let id = identity(&isla, "Wren");
    let ask = |step: &str| isla.post_from(PEOPLE, &format!("/people/{id}/{step}"), &[]);
    assert_eq!(wren.post_from("/me", &format!("/people/{id}/link"), &[]).status, 403);
    let link = || {
        assert_eq!(ask("link").status, 303);
        let page = isla.get(PEOPLE).text;
        let token = page.split("/password/").nth(1).expect("a link").get(..64).unwrap().to_owned();
        assert!(!isla.get(PEOPLE).text.contains(&token), "it is shown once");
        format!("/password/{token}")
    };
    let (first, second) = (link(), link());
    let new = Person::new(&server);
    assert_eq!(new.get(&first).status, 400, "another link took its place");
    assert!(new.get(&second).text.contains("Wren, you sign in as wren"));
    let choose =
        |password: &str| new.post_from(&second, &second, &[("password", password), ("again", password)]);
    assert_eq!(choose("wren wren wren").status, 422);
    assert_eq!(choose("peat under old snow").status, 303);
    assert_eq!(new.get("/sites/1/today").status, 200, "signed in at once");
    assert_eq!(wren.get("/sites/1/today").status, 303, "earlier sessions end");
    assert_eq!(Person::new(&server).get(&second).status, 400, "used");

    assert_eq!(ask("out").status, 303);
    assert!(isla.get(PEOPLE).text.contains("may not sign in any more"));
    assert_eq!(new.get("/sites/1/today").status, 303);
    let tried = [("login", "wren"), ("password", "peat under old snow")];
    let sign_in = || Person::new(&server).post_from("/sign-in", "/sign-in", &tried).status;
    assert_eq!(sign_in(), 422);
    assert_eq!(ask("in").status, 303);
    assert_eq!(sign_in(), 303);
    let own = identity(&isla, "Isla");
    isla.post_from(PEOPLE, &format!("/people/{own}/out"), &[]);
    assert!(isla.get(PEOPLE).text.contains("There must be an owner who can sign in"));
    assert_eq!(isla.get(PEOPLE).status, 200);
}

/// The code that a telephone shows for the letters of a secret, some half minutes from now.
fn code(letters: &str, steps: i64) -> String {
    let secret = totp_rs::Secret::Encoded(letters.to_owned()).to_bytes().unwrap();
    let totp = totp_rs::TOTP::new(totp_rs::Algorithm::SHA1, 6, 0, 30, secret, None, "x".to_owned()).unwrap();
    totp.generate(u64::try_from(jiff::Timestamp::now().as_second() + 30 * steps).unwrap())
}

fn between<'a>(text: &'a str, before: &str, after: &str) -> &'a str {
    text.split_once(before).unwrap_or_else(|| panic!("no {before} in {text}")).1.split_once(after).unwrap().0
}

#[test]
// Long: one story from the telephone to its loss.
fn a_second_factor_is_asked_for_and_no_code_opens_twice() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    let page = "/me/factor";
    let own = [("now", "larkrigg-demo")];
    assert_eq!(bram.post_from(page, page, &[("now", "not it")]).status, 422, "the password is asked");
    assert_eq!(bram.post_from(page, page, &own).status, 303);
    let shown = bram.get(page).text;
    let letters = between(&shown, "type these letters: <code>", "</code>").to_owned();
    let confirm = |code: &str| bram.post_from(page, "/me/factor/confirm", &[("code", code)]);
    assert_eq!(confirm("000000x").status, 422);
    let before = Person::new(&server);
    let sign_in = |person: &Person| {
        person.post_from("/sign-in", "/sign-in", &[("login", "bram"), ("password", "larkrigg-demo")])
    };
    assert_eq!(sign_in(&before).headers["location"], "/", "it counts once it is confirmed");
    let done = confirm(&code(&letters, -1));
    assert_eq!(done.status, 200, "{}", done.text);
    let spare: Vec<&str> =
        done.text.split("<li><code>").skip(1).map(|rest| rest.split_once('<').unwrap().0).collect();
    assert_eq!(spare.len(), 8);
    assert!(!bram.get(page).text.contains(spare[0]), "they are shown once");

    let person = Person::new(&server);
    assert_eq!(sign_in(&person).headers["location"], "/sign-in/code");
    assert_eq!(person.get("/sites/1/today").status, 303, "the password alone opens nothing");
    let ask = "/sign-in/code";
    let with = |person: &Person, code: &str| person.post_from(ask, ask, &[("code", code)]);
    assert_eq!(with(&person, &code(&letters, -1)).status, 422, "the one that confirmed it was used");
    let now = code(&letters, 0);
    assert_eq!(with(&person, &now).headers["location"], "/");
    assert_eq!(person.get("/sites/1/today").status, 200);
    let other = Person::new(&server);
    sign_in(&other);
    assert_eq!(with(&other, &now).status, 422, "no code opens twice");
    assert_eq!(with(&other, &spare[0].to_uppercase().replace('-', " ")).headers["location"], "/");
    let third = Person::new(&server);
    sign_in(&third);
    assert_eq!(with(&third, spare[0]).status, 422, "nor does a spare one");
    assert_eq!(
        Person::new(&server).get(ask).headers["location"],
        "/sign-in",
        "without a password there is no code"
    );
    // Guessing codes is counted as guessing passwords is.
    let guess = |n: u32| with(&third, &format!("{:06}", 100_000 + n)).status;
    assert!((0..12).map(guess).any(|status| status == 429));

    let isla = Person::signed_in(&server, "isla");
    let id = identity(&isla, "Bram");
    assert_eq!(isla.post_from(PEOPLE, &format!("/people/{id}/factor"), &[]).status, 303);
    assert!(isla.get(PEOPLE).text.contains("The second factor is taken away"));
    assert!(isla.get("/audit").text.contains("signs in without a second factor"));
    assert!(bram.get(page).text.contains("With a second factor"), "it is gone");
}

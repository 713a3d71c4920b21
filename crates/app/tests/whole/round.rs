//! What the pages over all sites show was worked out ahead of them by workers, and says what the pages of each site say.

use super::background::until;
use super::http::Person;
use super::server::{Server, key};
use upland_core::quantity::ratio::Percentage;
use upland_store::rounds::{Asked, NoticeKind};
use upland_store::scope::Scope;

fn notices(server: &Server, kind: NoticeKind) -> Vec<upland_store::rounds::NoticeRow> {
    let asked = Asked { kind: Some(kind), put_off: false, since: None, page: (i64::MAX, 0) };
    server.store().read(|s| s.notices(&Scope::program(), asked)).unwrap()
}

/// Waits until every site of the demo was worked out.
fn worked_out(server: &Server) {
    until("every round", || {
        let rounds = server.store().read(|s| s.rounds(&Scope::program())).unwrap();
        rounds.len() == 4 && rounds.values().all(|round| round.fresh)
    });
}

#[test]
fn lists_over_all_sites_say_what_the_pages_of_each_say() {
    let server = Server::start(true);
    let wren = Person::signed_in(&server, "wren");
    worked_out(&server);
    let (list, calls) = (wren.get("/").text, wren.get("/calls").text);
    let nights = server.store().read(|s| s.round_nights(&Scope::program(), None, 100, 0)).unwrap();
    assert_eq!(nights.len(), 5);
    for night in nights {
        let (site, number) = (night.site_id.number(), night.number);
        let today = wren.get(&format!("/sites/{site}/today?controller={number}")).text;
        let sentence = night.sentence[0].replace('\'', "&#39;");
        assert!(today.contains(&sentence), "Today of {site}, controller {number} says {sentence}");
        assert!(calls.contains(&sentence), "so do the calls");
    }
    let narrowed = wren.get("/?only=attention&words=quarryfoot").text;
    assert!(narrowed.contains("Pavilion cellar") && !narrowed.contains("Sexton"), "{narrowed}");
    assert!(wren.get("/?words=nowhere").text.contains("No site is like that"));
    for wrong in ["page=0", "rain=much", "unvisited=soon", "rain=5&days=0"] {
        assert_eq!(wren.get(&format!("/?{wrong}")).status, 400, "{wrong}");
    }
    // A row shows what the pages of its site say.
    for row in server.store().read(|s| s.round_sites(&Scope::program())).unwrap() {
        let site = row.id.number();
        assert!(list.contains(&format!("href=\"/sites/{site}/today\"")));
        let told: i64 = row.notices.iter().sum();
        let stands = server.store().read(|s| s.gravest(&[row.id], 1000)).unwrap();
        assert_eq!(usize::try_from(told).unwrap(), stands.len(), "notices of {}", row.name);
        let zones = wren.get(&format!("/sites/{site}/zones")).text;
        assert_eq!(
            row.standing.zones.len(),
            zones.matches("/survey\"").count().max(row.standing.zones.len())
        );
        assert_eq!(row.standing.rain.len(), 14);
        // The runs of tonight are those of Today: where nothing waters, no bar stands.
        let waters = row.standing.runs.iter().any(|run| run.tonight && !run.held);
        let nights = server.store().read(|s| s.round_nights(&Scope::program(), Some(&[site]), 9, 0)).unwrap();
        let said = nights
            .iter()
            .any(|night| night.sentence[0].contains("will run") || night.sentence[0].contains("waters"));
        assert!(waters || !said, "{}: {nights:?}", row.name);
    }
    // The faults of a controller stand on its page, each.
    for fault in notices(&server, NoticeKind::Finding) {
        let text = fault.notice.words[0].rsplit(": ").next().unwrap().replace('"', "&#34;");
        let page = wren.get(&fault.notice.href).text;
        assert!(page.contains(&text), "{} says {text}", fault.notice.href);
    }
    // Percentages are those of the budget.
    for row in server.store().read(|s| s.round_calls(&Scope::program(), 100, 0)).unwrap() {
        let path = format!("/sites/{}/controllers/{}/budget", row.site_id.number(), row.call.number);
        let advised = row.call.advised.unwrap_or(Percentage::ZERO);
        assert!(
            advised == Percentage::ZERO || wren.get(&path).text.contains(&advised.to_string()),
            "{row:?}"
        );
    }
}

#[test]
fn a_notice_goes_with_its_cause_and_can_be_put_off() {
    let server = Server::start(true);
    let (bram, wren) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "wren"));
    worked_out(&server);
    let page = bram.get("/notices").text;
    assert!(page.contains("Larkrigg summer watering") && page.contains("Snooze for a week"), "{page}");
    let read = wren.get("/notices?kind=finding").text;
    assert!(read.contains("Runs outside the water window") && !read.contains("Snooze for a week"));
    assert!(!read.contains("change its battery"), "one kind alone");
    assert_eq!(wren.get("/notices?kind=weird").status, 404);

    let battery = notices(&server, NoticeKind::Upkeep).into_iter().find(|n| n.site_id == key(2)).unwrap();
    let path = format!("/sites/2/notices/{}", battery.id);
    let back = [("back", "/notices?kind=upkeep&page=1")];
    let put = bram.post_from("/notices", &format!("{path}/put-off"), &back);
    assert_eq!((put.status, put.headers["location"].as_str()), (303, "/notices?kind=upkeep&page=1"));
    let off = bram.get("/notices?kind=put-off").text;
    assert!(off.contains("by Bram") && off.contains("Unsnooze"), "{off}");
    assert_eq!(bram.post_from("/notices", &format!("/sites/1/notices/{}/back", battery.id), &[]).status, 404);
    let elsewhere = [("back", "https://elsewhere.example/notices?")];
    let taken = bram.post_from("/notices", &format!("{path}/back"), &elsewhere);
    assert_eq!(taken.headers["location"], "/notices");
    assert!(!bram.get("/notices").text.contains("Put off 1"));

    // A tick is a change: the notice goes within a moment, by itself.
    let of_controller = |n: &upland_store::rounds::NoticeRow| n.notice.about.contains("BackupBattery");
    let before = notices(&server, NoticeKind::Upkeep).iter().filter(|n| of_controller(n)).count();
    let controller_facts = server.store().read(|s| s.controllers(key(2))).unwrap()[0].id.to_string();
    let day = bram.get("/sites/2/controllers/1/card").text;
    let number =
        day.split("value=\"backup_battery\"").nth(1).and_then(|t| t.split("name=\"number\" value=\"").nth(1));
    let number = number.unwrap().split('"').next().unwrap().to_owned();
    let tick = [
        ("what", "backup_battery"),
        ("about", controller_facts.as_str()),
        ("number", number.as_str()),
        ("back", "/calls"),
    ];
    assert_eq!(bram.post_from("/calls", "/sites/2/ticks", &tick).status, 303);
    until("the notice goes", || {
        notices(&server, NoticeKind::Upkeep).iter().filter(|n| of_controller(n)).count() == before - 1
    });
}

#[test]
fn one_mail_a_day_tells_what_is_new_at_the_sites_that_its_reader_sees() {
    let folder = std::env::temp_dir().join(format!("almanac-mails-{}", std::process::id()));
    let server = Server::with(true, &["--mail", &format!("folder:{}", folder.display())]);
    let (isla, wren) = (Person::signed_in(&server, "isla"), Person::signed_in(&server, "wren"));
    worked_out(&server);
    let users = server.store().read(|s| s.users()).unwrap();
    let id = |login: &str| users.iter().find(|u| u.login == login).unwrap().id;
    let owner = id("isla");
    server.store().give_sites(id("wren"), Some(&[3]), owner).unwrap();
    // Before anything was chosen the wall clock of the sites is offered, not that of nowhere.
    assert!(wren.get("/me/mail").text.contains("value=\"Etc/GMT+1\""), "{}", wren.get("/me/mail").text);
    let refused =
        wren.post_from("/me/mail", "/me/mail", &[("to", "wren"), ("at", "0:00"), ("time_zone", "UTC")]);
    assert!(refused.status == 422 && refused.text.contains("This is no mail address"), "{}", refused.text);
    let chosen = [("to", "wren@example.net"), ("at", "0:00"), ("time_zone", "UTC")];
    assert_eq!(wren.post_from("/me/mail", "/me/mail", &chosen).status, 303);
    assert!(wren.get("/me/mail").text.contains("wren@example.net"));
    assert!(!isla.get("/me/mail").text.contains("wren@example.net"), "everybody their own");
    assert_eq!(server.store().ask_for_due_mails().unwrap(), 1);
    let file = || {
        std::fs::read_dir(&folder)
            .unwrap()
            .filter_map(|f| Some(f.ok()?.path()))
            .find(|p| p.extension().is_some_and(|e| e == "eml"))
    };
    until("the mail", || file().is_some());
    let mail = std::fs::read_to_string(file().unwrap()).unwrap();
    assert!(mail.contains("To: Wren <wren@example.net>") && mail.contains("Quarryfoot"), "{mail}");
    assert!(!mail.contains("Larkrigg Botanic"), "what Wren does not see is not in it: {mail}");
    until("its note", || wren.get("/me/mail").text.contains("The last one was sent"));
    assert_eq!(server.store().ask_for_due_mails().unwrap(), 0, "one a day");
    std::fs::remove_dir_all(folder).unwrap();
}

/// What a controller of the demo is set to.
fn set_to(server: &Server, site: i64) -> upland_store::settings::SettingsRecord {
    let id = Scope::program().site(site).unwrap();
    let all = server.store().read(|s| s.settings_of_site(id)).unwrap();
    all.into_values().next().expect("it has settings")
}

/// The hidden fields of the form that sends to an address.
fn form_of(page: &str, action: &str) -> Vec<(String, String)> {
    let form = page.split(&format!("action=\"{action}\"")).nth(1).expect("the form");
    let form = form.split("</form>").next().unwrap();
    let inputs = form.split("<input type=\"hidden\" name=\"").skip(1);
    let pair = |input: &str| {
        let (name, rest) = input.split_once('"').unwrap();
        let value = rest.split("value=\"").nth(1).unwrap().split('"').next().unwrap();
        (name.to_owned(), value.to_owned())
    };
    inputs.map(pair).filter(|(name, _)| name != "csrf").collect()
}

fn pairs(fields: &[(String, String)]) -> Vec<(&str, &str)> {
    fields.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect()
}

#[test]
fn a_rain_delay_of_many_sites_is_previewed_stored_site_by_site_and_undone() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    worked_out(&server);
    let before: Vec<_> = [1, 3, 4].map(|site| set_to(&server, site)).into();
    let asked = [("s-1", "1"), ("s-3", "1"), ("s-4", "1"), ("action", "delay"), ("days", "3")];
    let preview = bram.post_from("/", "/round/preview", &asked).text;
    assert!(
        preview.contains("waters again on Fri 17 Jul") && preview.contains("Nothing is stored yet"),
        "{preview}"
    );
    assert_eq!(set_to(&server, 1), before[0], "a preview stores nothing");
    // Somebody saves other settings of one site meanwhile.
    let wanted = form_of(&preview, "/round/apply");
    let meanwhile = [("s-3", "1"), ("action", "delay"), ("days", "1")];
    let other = form_of(&bram.post_from("/", "/round/preview", &meanwhile).text, "/round/apply");
    assert_eq!(bram.post_from("/", "/round/apply", &pairs(&other)).status, 200);
    let theirs = set_to(&server, 3);
    let done = bram.post_from("/", "/round/apply", &pairs(&wanted));
    assert_eq!(done.status, 409, "one of three failed, and is said");
    assert!(done.text.contains("saved other settings meanwhile"), "{}", done.text);
    assert_eq!(set_to(&server, 3), theirs, "nothing of theirs is lost");
    for (site, before) in [(1, &before[0]), (4, &before[2])] {
        let now = set_to(&server, site);
        assert_eq!(now.version, before.version + 1);
        assert_eq!(now.settings.rain_delay.map(|(_, days)| days), Some(3));
        // The same as it is by hand on the controller's own page: nothing else changed.
        let by_hand = upland_core::controller::schedule::Settings {
            rain_delay: before.settings.rain_delay,
            ..now.settings
        };
        assert_eq!(by_hand, before.settings);
    }
    // Sent twice, it finds nothing to change.
    assert!(bram.post_from("/", "/round/apply", &pairs(&wanted)).text.contains("meanwhile"));
    assert_eq!(set_to(&server, 1).version, before[0].version + 1);
    let undone = bram.post_from("/", "/round/undo", &pairs(&form_of(&done.text, "/round/undo")));
    assert_eq!(undone.status, 200, "{}", undone.text);
    assert_eq!(set_to(&server, 1).settings, before[0].settings);
    assert_eq!(set_to(&server, 4).settings, before[2].settings);
    // Undone twice, somebody's newer version stays.
    assert_eq!(bram.post_from("/", "/round/undo", &pairs(&form_of(&done.text, "/round/undo"))).status, 409);
}

#[test]
fn sites_are_assigned_found_by_it_and_given_back() {
    let server = Server::start(true);
    let bram = Person::signed_in(&server, "bram");
    worked_out(&server);
    let id = server
        .store()
        .read(|s| s.users())
        .unwrap()
        .into_iter()
        .find(|u| u.login == "bram")
        .unwrap()
        .id
        .to_string();
    let asked = [("s-2", "1"), ("p-1", "1"), ("action", "assign"), ("person", id.as_str())];
    let preview = bram.post_from("/", "/round/preview", &asked).text;
    let done = bram.post_from("/", "/round/apply", &pairs(&form_of(&preview, "/round/apply")));
    assert_eq!(done.status, 200, "{}", done.text);
    let mine = bram.get(&format!("/?assigned={id}")).text;
    assert!(mine.contains("/sites/2/today") && !mine.contains("/sites/1/today"), "only the ticked one");
    assert!(bram.get("/?assigned=none").text.contains("/sites/1/today"));
    bram.post_from("/", "/round/undo", &pairs(&form_of(&done.text, "/round/undo")));
    assert!(bram.get(&format!("/?assigned={id}")).text.contains("No site is like that"));
    for wrong in [
        &[("action", "delay"), ("days", "2")][..],
        &[("s-1", "1"), ("action", "delay"), ("days", "0")],
        &[("s-1", "1"), ("action", "assign"), ("person", "999")],
        &[("s-1", "1"), ("action", "burn")],
    ] {
        assert_eq!(bram.post_from("/", "/round/preview", wrong).status, 400, "{wrong:?}");
    }
    let none = bram.post_from("/", "/round/preview", &[("s-999", "1"), ("action", "end")]).text;
    assert!(none.contains("Nothing would change"), "a site that is not there is nobody's");
    let wren = Person::signed_in(&server, "wren");
    assert_eq!(wren.post_from("/me", "/round/preview", &asked).status, 403);
}

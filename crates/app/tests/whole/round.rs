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
    assert!(list.contains("Needs attention tonight: 3"), "{list}");
    let narrowed = wren.get("/?only=attention&words=quarryfoot").text;
    assert!(narrowed.contains("Pavilion cellar") && !narrowed.contains("Sexton"), "{narrowed}");
    assert!(wren.get("/?words=nowhere").text.contains("No site has such a name"));
    assert_eq!(wren.get("/?page=0").status, 400);
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

//! A day's route: proposed by need, ordered, kept, refused at its fields, as files, and only of sites that one sees.

use super::http::Person;
use super::server::Server;

const DAY: &str = "/route?day=2026-07-15";

/// The fields of a day with two stops.
fn day<'a>(more: &[(&'a str, &'a str)]) -> Vec<(&'a str, &'a str)> {
    let mut fields = vec![
        ("day", "2026-07-15"),
        ("drivers", "Bram"),
        ("from", "07:00"),
        ("until", "16:00"),
        ("start", "46.004, -30.012"),
        ("end", ""),
        ("detour", "1.3"),
        ("speed", "40"),
        ("table", ""),
        ("s-1", "1"),
        ("s-2", "1"),
    ];
    for (name, text) in more {
        fields.retain(|(own, _)| own != name);
        fields.push((name, text));
    }
    fields
}

fn stops(csv: &str) -> Vec<Vec<String>> {
    let mut reader = csv::Reader::from_reader(csv.as_bytes());
    reader.records().map(|row| row.unwrap().iter().map(str::to_owned).collect()).collect()
}

/// Who goes where and when: what is to be done there changes with the rounds.
fn order(csv: &str) -> Vec<Vec<String>> {
    stops(csv).into_iter().map(|mut row| row.drain(..10).collect()).collect()
}

#[test]
fn a_day_is_proposed_ordered_and_kept_and_goes_out_as_files() {
    let server = Server::several(true);
    let bram = Person::signed_in(&server, "bram");
    // After the working day the next one is planned.
    assert!(bram.get("/route").text.contains("Wednesday 15 July"));
    assert_eq!(bram.post_from(DAY, "/route/propose", &[("day", "2026-07-15")]).status, 303);
    let page = bram.get(DAY).text;
    assert!(page.contains("proposed by need") && page.contains("never visited"), "{page}");
    // From the list: what is ticked is added once.
    let ticked = [("s-1", "1"), ("s-2", "1")];
    assert_eq!(bram.post_from("/", "/route/take", &ticked).status, 303);
    assert!(bram.get(DAY).text.contains("0 sites added"), "they were proposed already");
    let saved = bram.post_from(DAY, "/route", &day(&[("at-2", "10:00"), ("min-1", "1 h")]));
    assert_eq!(saved.status, 303, "{}", saved.text);
    let csv = bram.get("/route.csv?day=2026-07-15").text;
    let rows = stops(&csv);
    assert_eq!(rows.len(), 2, "the sites that were not ticked are off the day: {csv}");
    // Ten in the morning an hour west of Greenwich; the hour on the other site is before it or after it.
    let second = rows.iter().find(|row| row[2].contains("Hollin")).unwrap();
    assert!(second[6].starts_with("2026-07-15T11:0"), "{csv}");
    let first = rows.iter().find(|row| row[2].contains("Larkrigg")).unwrap();
    let minutes = |text: &str| text.parse::<jiff::Timestamp>().unwrap().as_second() / 60;
    assert_eq!(minutes(&first[7]) - minutes(&first[6]), 60);
    let again = bram.get("/route.csv?day=2026-07-15").text;
    assert_eq!(order(&again), order(&csv), "a day that was kept stays as it is");
    let gpx = bram.get("/route.gpx?day=2026-07-15").text;
    assert!(gpx.contains("<rtept lat=\"46") && gpx.contains("Larkrigg"), "{gpx}");
    let ics = bram.get("/route.ics?day=2026-07-15").text;
    assert_eq!(ics.matches("BEGIN:VEVENT").count(), 2);
    // Another day begins with the same hours and start, and no site.
    let next = bram.get("/route?day=2026-07-16").text;
    assert!(next.contains("46.00400") && next.contains("No site is chosen yet"), "{next}");
}

#[test]
fn what_is_wrong_stands_at_its_field_and_nothing_is_kept() {
    let server = Server::several(true);
    let bram = Person::signed_in(&server, "bram");
    assert_eq!(bram.post_from("/", "/route/take", &[("s-1", "1"), ("s-2", "1")]).status, 303);
    assert_eq!(bram.post_from(DAY, "/route", &day(&[])).status, 303);
    let kept = bram.get("/route.csv?day=2026-07-15").text;
    for (field, typed, said) in [
        ("start", "46.004", "latitude and longitude"),
        ("start", "-46.0, 30.0", "from the nearest site"),
        ("until", "05:00", "ends after it begins"),
        ("drivers", "", "Name who drives"),
        ("detour", "9", "lies between"),
        ("table", "start,Larkrigg Botanic Slope", "three: from, to, minutes"),
        ("at-1", "99:99", "99:99"),
        ("min-2", "soon", "soon"),
    ] {
        let refused = bram.post_from(DAY, "/route", &day(&[(field, typed)]));
        assert!(refused.status == 422 && refused.text.contains(said), "{field} {typed}: {}", refused.text);
        assert!(refused.text.contains("Larkrigg Botanic Slope"), "the sites are still there");
    }
    assert_eq!(order(&bram.get("/route.csv?day=2026-07-15").text), order(&kept));
    // A day that is too short leaves out what it cannot hold, and says so.
    assert_eq!(bram.post_from(DAY, "/route", &day(&[("until", "07:45")])).status, 303);
    assert!(bram.get(DAY).text.contains("Left out, since the hours hold no more"));
    assert!(bram.get("/route?day=someday").status == 400);
}

#[test]
fn a_route_is_its_person_s_own_and_of_sites_that_one_sees() {
    let server = Server::several(true);
    let (bram, wren) = (Person::signed_in(&server, "bram"), Person::signed_in(&server, "wren"));
    assert_eq!(bram.post_from("/", "/route/take", &[("s-1", "1"), ("s-2", "1")]).status, 303);
    assert!(wren.get(DAY).text.contains("No site is chosen yet"));
    let id = server.store().credentials("bram").unwrap().unwrap().user.id;
    server.store().give_sites(id, Some(&[2]), id).unwrap();
    let rows = stops(&bram.get("/route.csv?day=2026-07-15").text);
    assert!(rows.len() == 1 && rows[0][2].contains("Hollin"), "{rows:?}");
    // A site out of sight cannot be asked for by its number.
    assert_eq!(bram.post_from(DAY, "/route/take", &[("s-1", "1")]).status, 400);
}

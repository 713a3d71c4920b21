//! The order of stops against tours whose optimum is published, and by hand where a day has hours, appointments and two people.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, clippy::cast_precision_loss)]

use upland_route::{Drive, Driver, Legs, Plan, Question, Route, Stop, Window, plan, timed};

/// berlin52 of TSPLIB (G. Reinelt, TSPLIB - A Traveling Salesman Problem Library, ORSA J. Computing 3, 1991): 52 places in the
/// plane, rounded Euclidean distances, shortest tour 7542. Coordinates and optimum from memory; that no tour found is
/// shorter, and some are as long as that within a twentieth, speaks for both.
const BERLIN52: [(f64, f64); 52] = [
    (565., 575.),
    (25., 185.),
    (345., 750.),
    (945., 685.),
    (845., 655.),
    (880., 660.),
    (25., 230.),
    (525., 1000.),
    (580., 1175.),
    (650., 1130.),
    (1605., 620.),
    (1220., 580.),
    (1465., 200.),
    (1530., 5.),
    (845., 680.),
    (725., 370.),
    (145., 665.),
    (415., 635.),
    (510., 875.),
    (560., 365.),
    (300., 465.),
    (520., 585.),
    (480., 415.),
    (835., 625.),
    (975., 580.),
    (1215., 245.),
    (1320., 315.),
    (1250., 400.),
    (660., 180.),
    (410., 250.),
    (420., 555.),
    (575., 665.),
    (1150., 1160.),
    (700., 580.),
    (685., 595.),
    (685., 610.),
    (770., 610.),
    (795., 645.),
    (720., 635.),
    (760., 650.),
    (475., 960.),
    (95., 260.),
    (875., 920.),
    (700., 500.),
    (555., 815.),
    (830., 485.),
    (1170., 65.),
    (830., 610.),
    (605., 625.),
    (595., 360.),
    (1340., 725.),
    (1740., 245.),
];

const ALL_DAY: Window = Window { from_min: 0.0, until_min: 1e6 };

/// Legs in the plane, rounded as TSPLIB rounds (EUC_2D).
fn plane(places: &[(f64, f64)]) -> Legs {
    let drive = |a: (f64, f64), b: (f64, f64)| {
        let length = (a.0 - b.0).hypot(a.1 - b.1).round();
        Drive { km: length, minutes: length }
    };
    let drives = places.iter().flat_map(|a| places.iter().map(move |b| drive(*a, *b))).collect();
    Legs::of_table(places.len(), drives).unwrap()
}

fn whenever(on_site_min: f64) -> Stop {
    Stop { on_site_min, appointment: None }
}

fn check(question: &Question, found: &Plan) {
    // Each stop once or left out, times that follow each other, appointments kept, hours kept.
    let mut seen: Vec<usize> = found.routes.iter().flat_map(|r| r.visits.iter().map(|v| v.stop)).collect();
    seen.extend(&found.left_out);
    seen.sort_unstable();
    assert_eq!(seen, (0..question.stops.len()).collect::<Vec<_>>());
    for (route, driver) in found.routes.iter().zip(&question.drivers) {
        let mut clock = route.leaves_min;
        for visit in &route.visits {
            assert!((visit.arrives_min - clock - visit.drive.minutes).abs() < 1e-6, "{visit:?}");
            let stop = &question.stops[visit.stop];
            assert!(visit.begins_min >= visit.arrives_min);
            if let Some(window) = stop.appointment {
                assert!(
                    visit.begins_min >= window.from_min && visit.begins_min <= window.until_min,
                    "{visit:?}"
                );
            }
            assert!((visit.leaves_min - visit.begins_min - stop.on_site_min).abs() < 1e-6);
            clock = visit.leaves_min;
        }
        assert!(route.visits.is_empty() || route.ends_min <= driver.hours.until_min + 1e-6, "{route:?}");
    }
}

#[test]
fn the_tour_of_a_published_instance_is_within_a_twentieth_of_its_optimum() {
    // The first city is where the tour begins and ends.
    let places: Vec<_> = BERLIN52[1..].iter().chain(&BERLIN52[..1]).copied().collect();
    let drivers = vec![Driver { start: Some(51), end: Some(51), hours: ALL_DAY }];
    let question = Question { stops: vec![whenever(0.0); 51], drivers, legs: plane(&places) };
    let found = plan(&question).unwrap();
    check(&question, &found);
    let length = found.driving_min();
    assert!((7542.0..=7542.0 * 1.05).contains(&length), "{length}");
    assert_eq!(timed(&question, &found.orders()), found, "an order that is kept is the same day");
}

/// Every order of a few stops.
fn orders(count: usize) -> Vec<Vec<usize>> {
    if count == 0 {
        return vec![vec![]];
    }
    let shorter = orders(count - 1);
    let with = |order: &Vec<usize>| {
        (0..count)
            .map(|at| {
                let mut order = order.clone();
                order.insert(at, count - 1);
                order
            })
            .collect::<Vec<_>>()
    };
    shorter.iter().flat_map(with).collect()
}

#[test]
fn six_stops_from_and_to_anywhere_are_as_short_as_any_order() {
    let places = &BERLIN52[10..16];
    let legs = plane(places);
    for (start, end) in [(None, None), (Some(0), None), (None, Some(3))] {
        // A start or end at a stop's own place costs nothing more than being there.
        let drivers = vec![Driver { start, end, hours: ALL_DAY }];
        let question = Question { stops: vec![whenever(30.0); 6], drivers, legs: legs.clone() };
        let found = plan(&question).unwrap();
        check(&question, &found);
        let length = |order: &Vec<usize>| {
            let mut all: Vec<usize> = start.into_iter().collect();
            all.extend(order);
            all.extend(end);
            all.windows(2).map(|pair| legs.drive(pair[0], pair[1]).minutes).sum::<f64>()
        };
        let least = orders(6).iter().map(length).fold(f64::INFINITY, f64::min);
        assert!(
            (found.driving_min() - least).abs() < 1e-6,
            "{start:?} {end:?}: {} {least}",
            found.driving_min()
        );
    }
}

#[test]
fn an_appointment_is_kept_and_waiting_for_it_is_spent_at_home() {
    // A line: the depot at 0, stops at 10, 20 and 30; the nearest is wanted at noon.
    let places = [(10., 0.), (20., 0.), (30., 0.), (0., 0.)];
    let noon = Window { from_min: 720.0, until_min: 720.0 };
    let stops = vec![Stop { on_site_min: 20.0, appointment: Some(noon) }, whenever(20.0), whenever(20.0)];
    let hours = Window { from_min: 360.0, until_min: 1080.0 };
    let drivers = vec![Driver { start: Some(3), end: Some(3), hours }];
    let question = Question { stops, drivers, legs: plane(&places) };
    let found = plan(&question).unwrap();
    check(&question, &found);
    let first = |route: &Route| route.visits[0].stop;
    assert!((found.driving_min() - 60.0).abs() < 1e-6, "there and back");
    // Whatever the order, the day begins so late that nobody waits: noon less what comes before.
    let route = &found.routes[0];
    assert!(route.visits.iter().all(|visit| visit.begins_min - visit.arrives_min < 1e-6), "{route:?}");
    let noon_at = if first(route) == 0 { 710.0 } else { 720.0 - 40.0 - 50.0 };
    assert!((route.leaves_min - noon_at).abs() < 1e-6, "{route:?}");
}

#[test]
fn what_does_not_fit_into_the_hours_is_left_out_and_two_share_the_work() {
    let places: Vec<_> = BERLIN52[..13].to_vec();
    let hours = Window { from_min: 0.0, until_min: 3_000.0 };
    let driver = Driver { start: Some(12), end: Some(12), hours };
    let mut question =
        Question { stops: vec![whenever(300.0); 12], drivers: vec![driver], legs: plane(&places) };
    let alone = plan(&question).unwrap();
    check(&question, &alone);
    assert!(!alone.left_out.is_empty() && alone.left_out.len() < 12);
    question.drivers.push(driver);
    question.drivers[0].hours.until_min = 1e5;
    question.drivers[1].hours.until_min = 1e5;
    let two = plan(&question).unwrap();
    check(&question, &two);
    assert!(two.left_out.is_empty());
    let [a, b] = [&two.routes[0], &two.routes[1]].map(|route| route.visits.len());
    assert!(a.abs_diff(b) <= 4 && a > 0 && b > 0, "{a} and {b}");
}

#[test]
fn a_question_that_is_none_is_refused_and_an_empty_day_is_a_day() {
    let hours = Window { from_min: 420.0, until_min: 900.0 };
    let driver = Driver { start: None, end: None, hours };
    let nobody = Question { stops: vec![whenever(1.0)], drivers: vec![], legs: plane(&[(0., 0.)]) };
    assert!(plan(&nobody).is_err());
    let endless = Question { stops: vec![whenever(f64::NAN)], drivers: vec![driver], ..nobody };
    assert!(plan(&endless).is_err());
    let empty = Question { stops: vec![], drivers: vec![driver], legs: plane(&[]) };
    let found = plan(&empty).unwrap();
    assert!(
        found.left_out.is_empty() && found.routes[0].visits.is_empty() && found.routes[0].ends_min == 420.0
    );
}

use super::*;

fn typed(cans: &str) -> Typed {
    Typed { on: "2026-07-01".into(), minutes: "10".into(), throat: "80".into(), cans: cans.into() }
}

#[test]
fn cans_are_read_line_by_line() {
    let (on, test) = read(&typed("0 0 12\n2 0 14.5\n\n0;2;9\n2\t2\t11\n")).unwrap();
    assert_eq!((on, test.cans.len()), (jiff::civil::date(2026, 7, 1), 4));
    assert_eq!(test.cans[1], Can { x_m: 2.0, y_m: 0.0, millilitres: 14.5 });
}

#[test]
fn every_problem_is_told_at_its_field() {
    let mut bad = typed("0 0 12\n2 0\nfour\n1 1 -3\n");
    bad.on = "today".into();
    bad.throat = "1".into();
    let errors = read(&bad).unwrap_err();
    let fields: Vec<_> = errors.iter().map(|(n, _)| *n).collect();
    assert_eq!(fields, ["on", "throat", "cans", "cans", "cans"]);
    assert!(errors[2].1.contains("Can 2: its reading is missing"));
    assert!(read(&typed("0 0 1\n1 0 2\n0 1 3\n")).unwrap_err()[0].1.contains("too few"));
}

#[test]
fn a_test_moves_the_minutes_of_the_zone_and_draws_its_map() {
    let decided = crate::fixture::decided(UnitSystem::Metric);
    let zone = decided.loaded.zones[0].zone.clone();
    let (on, test) = read(&typed("0 0 10\n4 0 12\n0 4 28\n4 4 30\n")).unwrap();
    let result = test.result().unwrap();
    let view = result_view(&test, &result, &zone, &decided.climate, on, UnitSystem::Metric);
    assert_ne!(view.minutes, view.was_minutes);
    assert!(view.few.contains("4 cans"));
    let drawing = view.drawing.unwrap();
    assert!(drawing.cells.iter().any(|c| c.class == "dry") && drawing.cells.iter().any(|c| c.class == "wet"));
    assert_eq!(drawing.cans.len(), 4);
    let after = measured(&zone, on, &result);
    let ranges = |z: &Zone| ranges(z, &decided.climate, on, UnitSystem::Metric);
    let width = |r: &RangeView| r.x_high.parse::<f64>().unwrap() - r.x_low.parse::<f64>().unwrap();
    let mut bare = zone;
    (bare.precipitation_rate, bare.uniformity) = (None, None);
    assert!(width(&ranges(&after)[0]) < width(&ranges(&bare)[0]), "the measurement narrows the answer");
    assert!(basis_words(&after, UnitSystem::Metric).contains("2026-07-01"));
}

use super::*;

fn typed(cans: &str) -> Typed {
    Typed {
        on: "2026-07-01".into(),
        minutes: "10".into(),
        read_as: "volume".into(),
        throat: "80".into(),
        cans: cans.into(),
    }
}

const TODAY: Date = Date::constant(2026, 7, 14);

fn read(typed: &Typed) -> Outcome {
    super::read(typed, UnitSystem::Metric, TODAY)
}

#[test]
fn cans_read_by_depth_need_no_mouth_and_speak_the_units_of_the_site() {
    let lines = "0 0 0.4\n6 0 1/2\n0 6 0.45\n6 6 12mm";
    let depth = Typed { read_as: "depth".into(), throat: String::new(), ..typed(lines) };
    let (_, test) = super::read(&depth, UnitSystem::UsCustomary, TODAY).unwrap();
    let caught: Vec<f64> = test.result().unwrap().depths.iter().map(|d| d.mm()).collect();
    for (found, mm) in caught.into_iter().zip([10.16, 12.7, 11.43, 12.0]) {
        assert!((found - mm).abs() < 1e-9, "{found} {mm}");
    }
    assert!((test.cans[1].x_m - 1.8288).abs() < 1e-9, "six feet");
    let view = drawing(&test, &test.map(), UnitSystem::UsCustomary).unwrap();
    assert_eq!((view.cans[1].text.as_str(), view.words.contains("caught 0.4 in at 0 ft")), ("0.5", true));
    // By volume the same lines need the mouth, told in square inches.
    let volume = Typed {
        read_as: "volume".into(),
        throat: "0.1".into(),
        ..typed("0 0 0.4\n6 0 1/2\n0 6 0.45\n6 6 12ml")
    };
    let errors = super::read(&volume, UnitSystem::UsCustomary, TODAY).unwrap_err();
    assert!(errors[0].1.contains("between 0.78 and 310 in²"), "{errors:?}");
    let wide = Typed { throat: "4 in across".into(), ..volume };
    let (_, test) = super::read(&wide, UnitSystem::UsCustomary, TODAY).unwrap_or_else(|e| panic!("{e:?}"));
    assert!((test.throat_cm2 - 81.073).abs() < 0.01, "{}", test.throat_cm2);
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
    bad.on = "soon".into();
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
    let zone = decided.records.zones[0].zone.clone();
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
    assert!(basis_words(&after, UnitSystem::Metric).contains("1 Jul 2026"));
}

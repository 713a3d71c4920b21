use super::*;

fn controllers() -> Vec<(u8, String)> {
    vec![(1, "Potting shed".into())]
}

#[test]
fn every_card_goes_into_its_form_and_back_in_both_units() {
    for (code, card) in generic() {
        let mut sensor = Sensor::of_card(card, 1);
        sensor.placement.distance = Some(Metres::from_m(18.0));
        sensor.placement.at = Some((3.0, 4.5));
        for system in [UnitSystem::Metric, UnitSystem::UsCustomary] {
            let shown = texts(&sensor, system);
            let form = form(&sensor.card, &controllers(), &[], system);
            assert!(
                form.fields()
                    .all(|f| shown.contains_key(f.name) || f.name == "hold_days" || f.name == "vent"),
                "{code}"
            );
            let back = read(&Fields(shown), &sensor, &controllers(), system).unwrap();
            assert_eq!((back.setting, &back.card), (sensor.setting, &sensor.card), "{code} {system:?}");
            let (x, y) = back.placement.at.unwrap();
            assert!((x - 3.0).abs() < 1e-5 && (y - 4.5).abs() < 1e-5);
        }
    }
}

#[test]
fn a_threshold_that_is_set_does_not_jump_in_the_form() {
    let mut sensor = Sensor::of_card(generic_card("soil_probe").unwrap().1, 1);
    sensor.setting.soil_threshold_pct = Some(24.0);
    let mut typed = texts(&sensor, UnitSystem::Metric);
    assert!(read(&Fields(typed.clone()), &sensor, &controllers(), UnitSystem::Metric).is_ok());
    for value in ["30", ""] {
        typed.insert("soil_threshold".into(), value.into());
        let errors = read(&Fields(typed.clone()), &sensor, &controllers(), UnitSystem::Metric).unwrap_err();
        assert!(errors[0].0 == "soil_threshold" && errors[0].1.contains("half a point"), "{errors:?}");
    }
}

#[test]
fn what_cannot_be_set_is_told_at_its_field() {
    let sensor = Sensor::of_card(generic_card("rain_freeze_switch").unwrap().1, 1);
    let mut typed = texts(&sensor, UnitSystem::Metric);
    for (name, value) in [
        ("rain_threshold", "40"),
        ("freeze_at", "warm"),
        ("controller", "9"),
        ("name", ""),
        ("sun_hours", "30"),
    ] {
        typed.insert(name.into(), value.into());
    }
    let errors = read(&Fields(typed), &sensor, &controllers(), UnitSystem::Metric).unwrap_err();
    let names: Vec<_> = errors.iter().map(|(n, _)| *n).collect();
    assert_eq!(names, ["name", "controller", "freeze_at", "sun_hours", "rain_threshold"]);
    assert!(errors[4].1.contains("3 to 25 mm"));
}

#[test]
fn sentence_8_half_an_inch_is_the_step_of_twelve_millimetres() {
    let sensor = Sensor::of_card(generic_card("rain_switch").unwrap().1, 1);
    let mut typed = texts(&sensor, UnitSystem::UsCustomary);
    assert_eq!(typed["rain_threshold"], "1/2", "as it is sold");
    assert_eq!(texts(&sensor, UnitSystem::Metric)["rain_threshold"], "12");
    for (text, mm) in [("1/2", 12.0), ("1/4", 6.0), ("0.75", 18.0), ("1", 25.0), ("1/8", 3.0)] {
        typed.insert("rain_threshold".into(), text.into());
        let read = read(&Fields(typed.clone()), &sensor, &controllers(), UnitSystem::UsCustomary).unwrap();
        assert!((read.setting.rain_threshold.mm() - mm).abs() < 1e-9, "{text}");
    }
}

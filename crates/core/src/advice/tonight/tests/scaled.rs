//! Percentages from outside, and stations on fixed minutes.

use super::*;

#[test]
fn an_et_sensor_changes_the_minutes_that_are_shown() {
    let card = generic().into_iter().find(|(_, card)| card.senses(crate::sensors::Sense::Et)).unwrap().1;
    let mut sensor = Sensor::of_card(card, 1);
    sensor.setting.et_full = Millimetres::from_mm(8.0);
    let mut facts = with_controller(set(20), 0.0);
    let et0: BTreeMap<_, _> = (0..5).map(|back| (DAY - back.days(), Millimetres::from_mm(4.0))).collect();
    facts.controllers[0].sensors = vec![SensorFacts { sensor, et0, ..switch(Vec::new(), Vec::new()) }];
    let minutes = |facts: &AccountInputs| decided(facts, DAY).zones[0].will.as_ref().unwrap().waters();
    facts.controllers[0].card.sensor_ports.clear();
    assert_eq!(minutes(&facts), Seconds::from_min(20), "sentence 8: it cannot be joined and sets nothing");
    facts.controllers[0].card.sensor_ports.push(SensorPort::Weather);
    assert_eq!(minutes(&facts), Seconds::from_min(10), "half of it");
    facts.controllers[0].versions[0].1.percentages =
        crate::controller::schedule::Percentages::Program(vec![Percentage::from_percent(150)]);
    let night = decided(&facts, DAY);
    assert_eq!(
        night.zones[0].will.as_ref().unwrap().waters(),
        Seconds::from_min(10),
        "instead of the controller's own"
    );
}

#[test]
fn sentence_8_a_bypass_ends_the_holds_of_a_combined_sensor_and_not_its_percentage() {
    let at = |text: &str| text.parse::<Timestamp>().unwrap();
    let bypass = Pause { from: at("2026-07-10T00:00:00Z"), until: at("2026-07-20T00:00:00Z") };
    let rain = Cause::Rain { fallen_mm: 14.0, since: at("2026-07-13T10:00:00Z") };
    let hold = Hold { from: at("2026-07-13T12:00:00Z"), until: None, cause: rain };
    let et0: BTreeMap<_, _> = (0..5).map(|back| (DAY - back.days(), Millimetres::from_mm(2.5))).collect();
    let minutes = |code: &str, bypasses: Vec<Pause>| {
        let card = generic().into_iter().find(|(own, _)| *own == code).unwrap().1;
        let mut facts = with_controller(set(20), 0.0);
        facts.controllers[0].card.sensor_ports = vec![SensorPort::Weather];
        let own = switch(if card.can_hold() { vec![hold] } else { Vec::new() }, bypasses);
        facts.controllers[0].sensors =
            vec![SensorFacts { sensor: Sensor::of_card(card, 1), et0: et0.clone(), ..own }];
        decided(&facts, DAY).zones[0].will.as_ref().unwrap().waters()
    };
    assert_eq!(minutes("et_rain_freeze", Vec::new()), Seconds::ZERO, "its rain hold stands");
    assert_eq!(minutes("et_rain_freeze", vec![bypass]), Seconds::from_min(10), "half of it, and no hold");
    assert_eq!(minutes("et_sensor", Vec::new()), Seconds::from_min(10));
    assert_eq!(minutes("et_sensor", vec![bypass]), Seconds::from_min(20), "the controller's own percentage");
}

#[test]
fn sentence_7_a_zone_on_fixed_minutes_runs_as_set_on_a_controller_that_computes() {
    let mut facts = with_controller(set(20), 0.0);
    facts.controllers[0].card.daily_run_times = true;
    let of = |facts: &AccountInputs| {
        let night = decided(facts, DAY);
        let minutes = night.zones[0].will.as_ref().map(|will| will.waters());
        (night.known, minutes, night.zones[0].verdict.is_some(), night.runs.len())
    };
    assert_eq!(of(&facts), (ControllerKnown::ComputesItself, None, false, 0), "it computes every zone");
    facts.controllers[0].versions[0].1.update_station(1, |s| s.fixed_run_time = true);
    assert_eq!(of(&facts), (ControllerKnown::ComputesItself, Some(Seconds::from_min(20)), true, 1));
}

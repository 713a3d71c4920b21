//! Which sensors hold a zone follows how it was surveyed on the day of the run.

use super::*;
use crate::account::running::running;
use crate::site::EarlierZone;

#[test]
fn sentence_6_a_roof_built_today_frees_no_run_of_the_nights_before() {
    let at = |text: &str| text.parse::<Timestamp>().unwrap();
    let rain = Cause::Rain { fallen_mm: 14.0, since: at("2026-07-01T10:00:00Z") };
    let hold =
        Hold { from: at("2026-07-01T12:00:00Z"), until: Some(at("2026-07-28T12:00:00Z")), cause: rain };
    let mut facts = with_controller(set(20), 0.0);
    // A station that reports each hold with its cause: a contact would stop every station, roofed or not.
    let card = generic().into_iter().find(|(code, _)| *code == "weather_station").unwrap().1;
    let sensor = Sensor::of_card(card, 1);
    facts.controllers[0].sensors = vec![SensorFacts { sensor, ..switch(vec![hold], Vec::new()) }];
    facts.controllers[0].versions[0].0 = Timestamp::MIN;
    let open = facts.zones[0].zone.clone();
    let roofed = Zone { sky: Sky::UnderEaves, ..open.clone() };
    facts.zones = AccountInputs::resolved(&facts.site, &[roofed]);
    let held = |facts: &AccountInputs| {
        let runs = running(&facts.controllers[0], facts.surveys(), &facts.tz, DAY - 6.days(), DAY + 6.days());
        runs.iter().map(|own| (own.run.date >= DAY, own.is_held())).collect::<Vec<_>>()
    };
    assert!(held(&facts).iter().all(|(_, held)| !held), "rain does not reach a roofed zone");
    facts.add_earlier(&[EarlierZone { until: DAY, zone: open }]);
    let runs = held(&facts);
    assert!(runs.iter().any(|(since, _)| *since) && runs.iter().any(|(since, _)| !since), "{runs:?}");
    assert!(runs.iter().all(|(since, held)| since != held), "held before the roof, not since: {runs:?}");
}

//! What sensors say at the edges.

use super::*;
use upland_core::sensors::generic;
use upland_core::sensors::state::Hold;

#[test]
fn what_it_says_reads_as_a_sentence() {
    let at = |text: &str| text.parse::<Timestamp>().unwrap();
    let hold = Hold {
        from: at("2026-07-08T18:00:00Z"),
        until: None,
        cause: Cause::Rain { fallen_mm: 13.6, since: at("2026-07-08T18:00:00Z") },
    };
    let said = Says::Holds { hold, earliest: Some(at("2026-07-11T04:20:00Z")) };
    let (line, because) = says(UnitSystem::Metric, &said, &TimeZone::UTC);
    assert_eq!(line, "Prevents watering until Sat 11 Jul, 04:20 at the earliest");
    assert_eq!(because, "since Wed 8 Jul, 18:00: 13.6 mm of rain");
    let frost = Cause::Frost { read_c: 2.0 };
    assert_eq!(cause(UnitSystem::UsCustomary, frost), "36 °F in the air");
}

#[test]
fn every_step_of_every_card_has_its_words_and_the_cautions_stand_where_the_hand_is() {
    use upland_core::sensors::wiring::steps;
    for (code, card) in generic() {
        for join in [Join::OwnPort(0), Join::InSeries(1), Join::ValveCommon] {
            let sensor = Sensor::of_card(card.clone(), 1);
            let say = |s| step(s, &sensor, UnitSystem::Metric);
            let words: Vec<StepWords> = steps(&card, join).into_iter().map(say).collect();
            assert!(words.iter().all(|w| w.text.ends_with('.')), "{code}");
            assert!(words.iter().any(|w| w.caution.contains("licensed electrician")));
            assert!(
                words.iter().any(|w| w.caution.contains("Ladder") || w.caution.contains("buried services"))
            );
        }
    }
}

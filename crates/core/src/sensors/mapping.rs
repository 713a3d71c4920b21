//! Who can hold whom: zones and programs against sensors.
//!
//! The proposal follows from what each zone is exposed to; what somebody chose against it stands and
//! is shown as chosen. Lighting stations and manual runs ignore every sensor.

use super::{Sense, SensorCard};
use crate::ground::application::HeadType;
use crate::ground::plant::Sky;
use crate::site::Zone;
use std::collections::{BTreeMap, BTreeSet};

/// What was chosen against the proposal.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Chosen {
    /// By station: whether it may be held.
    pub stations: BTreeMap<u16, bool>,
    /// Programs that ignore the sensor, by index.
    pub programs_ignoring: BTreeSet<usize>,
}

/// Why a zone is or is not held by a sense.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Why {
    /// Somebody chose it.
    Chosen,
    /// The zone feels what the sensor feels.
    SameExposure,
    /// Rain never reaches it.
    UnderRoof,
    /// It stands under glass: its air is not the air outside.
    UnderGlass,
    /// Wind does not carry drops from drippers.
    NothingDrifts,
    /// A flow meter measures the whole main.
    WholeMain,
    /// Its probe stands in this zone.
    OwnProbe,
    /// The probe stands elsewhere, in other soil.
    OtherSoil,
    /// A lighting station.
    Lighting,
}

impl Why {
    /// As the end of a sentence.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Chosen => "chosen so",
            Self::SameExposure => "it feels the same weather",
            Self::UnderRoof => "rain never reaches it, so rain must not stop it",
            Self::UnderGlass => "under glass the weather outside says nothing",
            Self::NothingDrifts => "nothing drifts from drippers",
            Self::WholeMain => "the meter measures the whole main",
            Self::OwnProbe => "its probe is in this zone",
            Self::OtherSoil => "the probe is in another zone's soil",
            Self::Lighting => "lighting ignores every sensor",
        }
    }
}

/// Whether one sense may hold (or scale) a zone, and why.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tie {
    /// Whether it may.
    pub holds: bool,
    /// Why.
    pub why: Why,
}

/// What a zone's exposure proposes for one sense. `probe_station` is the zone a soil probe stands in.
#[must_use]
pub fn proposed(sense: Sense, zone: &Zone, probe_station: Option<u16>) -> Tie {
    let tie = |holds, why| Tie { holds, why };
    match (sense, zone.sky) {
        (Sense::Flow, _) => tie(true, Why::WholeMain),
        (Sense::SoilMoisture, _) => match probe_station {
            Some(station) if station == zone.number => tie(true, Why::OwnProbe),
            _ => tie(false, Why::OtherSoil),
        },
        (Sense::Rain, Sky::UnderEaves) => tie(false, Why::UnderRoof),
        (Sense::Rain | Sense::Freeze | Sense::Wind | Sense::Et, Sky::UnderGlass) => {
            tie(false, Why::UnderGlass)
        }
        (Sense::Wind, _) if matches!(zone.head, HeadType::Drip | HeadType::Bubbler) => {
            tie(false, Why::NothingDrifts)
        }
        _ => tie(true, Why::SameExposure),
    }
}

/// Whether a unit may hold a zone. A unit of several senses speaks through one contact, so it holds a
/// zone only if every sense of it may; a unit with data is told sense by sense and the first that may
/// not decides nothing for the others.
#[must_use]
pub fn tie(
    card: &SensorCard,
    chosen: &Chosen,
    zone: &Zone,
    probe_station: Option<u16>,
    lighting: bool,
) -> Tie {
    if lighting {
        return Tie { holds: false, why: Why::Lighting };
    }
    if let Some(holds) = chosen.stations.get(&zone.number) {
        return Tie { holds: *holds, why: Why::Chosen };
    }
    let all: Vec<Tie> = card.senses.iter().map(|s| proposed(*s, zone, probe_station)).collect();
    let against = all.iter().find(|t| !t.holds).copied();
    let first_for = all.iter().find(|t| t.holds).copied();
    let ties = if card.is_contact() { against.or(first_for) } else { first_for.or(against) };
    ties.unwrap_or(Tie { holds: false, why: Why::OtherSoil })
}

/// Whether one sense of a unit with data may hold a zone, chosen or proposed.
#[must_use]
pub fn tie_of(
    sense: Sense,
    card: &SensorCard,
    chosen: &Chosen,
    zone: &Zone,
    probe_station: Option<u16>,
    lighting: bool,
) -> Tie {
    let whole = tie(card, chosen, zone, probe_station, lighting);
    if card.is_contact() || matches!(whole.why, Why::Chosen | Why::Lighting) {
        return whole;
    }
    proposed(sense, zone, probe_station)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sensors::generic;
    use crate::site::samples::lawn;

    fn card(code: &str) -> SensorCard {
        generic().into_iter().find(|(c, _)| *c == code).unwrap().1
    }

    fn zone(sky: Sky, head: HeadType) -> Zone {
        Zone { sky, head, ..lawn(3) }
    }

    #[test]
    fn a_roofed_drip_bed_is_not_stopped_by_rain() {
        let tie = |sky, code: &str| {
            super::tie(&card(code), &Chosen::default(), &zone(sky, HeadType::Drip), None, false)
        };
        assert_eq!(tie(Sky::UnderEaves, "rain_switch"), Tie { holds: false, why: Why::UnderRoof });
        assert_eq!(tie(Sky::UnderGlass, "rain_freeze_switch"), Tie { holds: false, why: Why::UnderGlass });
        assert!(tie(Sky::Open, "rain_switch").holds);
        assert_eq!(tie(Sky::Open, "wind_switch").why, Why::NothingDrifts);
        assert!(tie(Sky::UnderEaves, "freeze_switch").holds, "eaves keep rain off, not frost");
    }

    #[test]
    fn a_contact_of_two_senses_is_one_word_and_data_are_told_apart() {
        let eaves = zone(Sky::UnderEaves, HeadType::Spray);
        let none = Chosen::default();
        assert!(
            !tie(&card("rain_freeze_switch"), &none, &eaves, None, false).holds,
            "the contact cannot say which"
        );
        let station = card("weather_station");
        assert!(!tie_of(Sense::Rain, &station, &none, &eaves, None, false).holds);
        assert!(tie_of(Sense::Freeze, &station, &none, &eaves, None, false).holds);
    }

    #[test]
    fn a_probe_speaks_for_its_own_zone() {
        let probe = card("soil_probe");
        let of = |station| tie(&probe, &Chosen::default(), &zone(Sky::Open, HeadType::Spray), station, false);
        assert_eq!(of(Some(3)), Tie { holds: true, why: Why::OwnProbe });
        assert_eq!(of(Some(4)).why, Why::OtherSoil);
        assert_eq!(of(None).why, Why::OtherSoil);
    }

    #[test]
    fn what_was_chosen_stands_but_lighting_ignores_all() {
        let chosen = Chosen { stations: [(3, true)].into(), ..Chosen::default() };
        let eaves = zone(Sky::UnderEaves, HeadType::Drip);
        assert_eq!(
            tie(&card("rain_switch"), &chosen, &eaves, None, false),
            Tie { holds: true, why: Why::Chosen }
        );
        assert_eq!(tie(&card("rain_switch"), &chosen, &eaves, None, true).why, Why::Lighting);
    }
}

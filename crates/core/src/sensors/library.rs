//! Generic sensor cards, invented: kinds that are met, none of them anybody's.
//!
//! Distances and battery lives are common practice: about 12 m of wire supplied and up to 60 m,
//! radio 30 to 60 m through walls and up to 240 m in the open, batteries twice a year.

use super::{Link, PowerSupply, Sense, SensorCard, Signal, Task};
use crate::quantity::units::{Celsius, Metres, MetresPerSecond, Millimetres};

const BATTERY_MONTHS: u8 = 6;
const YEARLY: u8 = 12;

fn rain_switch() -> SensorCard {
    SensorCard {
        name: "Rain switch, wired".into(),
        senses: vec![Sense::Rain],
        signal: Signal::NormallyClosed,
        supply: PowerSupply::None,
        link: Link::Wire,
        wire_supplied: Metres::from_m(12.0),
        wire_longest: Metres::from_m(60.0),
        radio_walls: Metres::ZERO,
        radio_open: Metres::ZERO,
        rain_range: Some((Millimetres::from_mm(3.0), Millimetres::from_mm(25.0))),
        rain_steps: [3.0, 6.0, 12.0, 18.0, 25.0].map(Millimetres::from_mm).to_vec(),
        vent: true,
        freeze_range: None,
        wind_range: None,
        soil_range_pct: None,
        per_pulse: None,
        upkeep: vec![(Task::Clean, YEARLY), (Task::TripTest, BATTERY_MONTHS)],
        bypass_keeps_percentage: false,
    }
}

fn by_radio(card: SensorCard, name: &str) -> SensorCard {
    let mut upkeep = vec![(Task::Battery, BATTERY_MONTHS)];
    upkeep.extend(card.upkeep);
    SensorCard {
        name: name.into(),
        supply: PowerSupply::Battery,
        link: Link::Radio,
        wire_supplied: Metres::ZERO,
        wire_longest: Metres::ZERO,
        radio_walls: Metres::from_m(45.0),
        radio_open: Metres::from_m(240.0),
        upkeep,
        ..card
    }
}

fn freezing(card: SensorCard, name: &str) -> SensorCard {
    let mut senses = card.senses;
    senses.push(Sense::Freeze);
    SensorCard {
        name: name.into(),
        senses,
        freeze_range: Some((Celsius::from_c(0.0), Celsius::from_c(7.0))),
        ..card
    }
}

fn nothing_set(name: &str, senses: Vec<Sense>) -> SensorCard {
    SensorCard {
        name: name.into(),
        senses,
        rain_range: None,
        rain_steps: Vec::new(),
        vent: false,
        ..rain_switch()
    }
}

/// Every generic card, with its short name.
// Long: a table of cards.
#[must_use]
pub fn generic() -> Vec<(&'static str, SensorCard)> {
    let tipping = SensorCard {
        name: "Tipping-bucket rain gauge".into(),
        signal: Signal::Pulse,
        vent: false,
        per_pulse: Some(0.2),
        upkeep: vec![(Task::Clean, 3), (Task::Calibrate, YEARLY)],
        ..rain_switch()
    };
    let freeze = SensorCard {
        freeze_range: Some((Celsius::from_c(0.0), Celsius::from_c(7.0))),
        upkeep: vec![(Task::TripTest, YEARLY)],
        ..nothing_set("Freeze switch", vec![Sense::Freeze])
    };
    let wind = SensorCard {
        wind_range: Some((MetresPerSecond::from_m_per_s(4.0), MetresPerSecond::from_m_per_s(16.0))),
        upkeep: vec![(Task::Clean, YEARLY), (Task::TripTest, YEARLY)],
        ..nothing_set("Wind switch", vec![Sense::Wind])
    };
    let soil = SensorCard {
        signal: Signal::Data,
        supply: PowerSupply::FromController,
        wire_longest: Metres::from_m(300.0),
        soil_range_pct: Some((5.0, 60.0)),
        upkeep: vec![(Task::Calibrate, YEARLY)],
        ..nothing_set("Soil-moisture probe, wired", vec![Sense::SoilMoisture])
    };
    let soil_relay = SensorCard {
        name: "Soil-moisture probe with relay".into(),
        signal: Signal::NormallyClosed,
        ..soil.clone()
    };
    let flow = SensorCard {
        signal: Signal::Pulse,
        supply: PowerSupply::FromController,
        wire_longest: Metres::from_m(600.0),
        per_pulse: Some(1.0),
        upkeep: vec![(Task::Calibrate, YEARLY)],
        ..nothing_set("Flow meter, a litre a pulse", vec![Sense::Flow])
    };
    let et = SensorCard {
        signal: Signal::Data,
        supply: PowerSupply::FromController,
        upkeep: vec![(Task::Clean, BATTERY_MONTHS), (Task::Calibrate, YEARLY)],
        ..nothing_set("ET sensor, sun and temperature", vec![Sense::Et])
    };
    let combined = SensorCard {
        senses: vec![Sense::Rain, Sense::Freeze, Sense::Et],
        signal: Signal::Data,
        supply: PowerSupply::FromController,
        upkeep: vec![
            (Task::Clean, BATTERY_MONTHS),
            (Task::TripTest, BATTERY_MONTHS),
            (Task::Calibrate, YEARLY),
        ],
        bypass_keeps_percentage: true,
        ..freezing(rain_switch(), "combined ET, rain and freeze sensor")
    };
    let station = SensorCard {
        name: "Weather station".into(),
        senses: vec![Sense::Rain, Sense::Freeze, Sense::Wind, Sense::Et],
        signal: Signal::Data,
        supply: PowerSupply::Battery,
        link: Link::Radio,
        wire_supplied: Metres::ZERO,
        wire_longest: Metres::ZERO,
        radio_walls: Metres::from_m(60.0),
        radio_open: Metres::from_m(240.0),
        freeze_range: Some((Celsius::from_c(-5.0), Celsius::from_c(10.0))),
        wind_range: Some((MetresPerSecond::from_m_per_s(2.0), MetresPerSecond::from_m_per_s(20.0))),
        vent: false,
        bypass_keeps_percentage: true,
        upkeep: vec![(Task::Battery, BATTERY_MONTHS), (Task::Clean, 3), (Task::Calibrate, YEARLY)],
        ..rain_switch()
    };
    vec![
        ("rain_switch", rain_switch()),
        ("rain_switch_radio", by_radio(rain_switch(), "Rain switch, radio")),
        ("rain_freeze_switch", freezing(rain_switch(), "Rain and freeze switch, wired")),
        ("rain_freeze_radio", by_radio(freezing(rain_switch(), ""), "Rain and freeze switch, radio")),
        ("tipping_bucket", tipping),
        ("freeze_switch", freeze),
        ("wind_switch", wind),
        ("soil_probe", soil),
        ("soil_relay", soil_relay),
        ("flow_meter", flow),
        ("et_sensor", et),
        ("et_rain_freeze", combined),
        ("weather_station", station),
    ]
}

//! Generic cards, invented: kinds of controllers that are met, none of them anybody's. They are a
//! start; the user copies one and corrects it against the controller in front of them.

use super::{
    AskedInput, Card, Choice, Computing, DayModes, Input, Overlap, PercentageScope, PercentageTarget,
    Rounding, SensorPort,
};
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::time::Seconds;

const ALL_DAY_MODES: DayModes =
    DayModes { weekdays: true, parity: true, longest_interval: 31, never_days: true };

/// Twelve stations and three programs, an ordinary controller out of doors.
#[must_use]
pub fn twelve_stations() -> Card {
    Card {
        name: "12-station controller, three programs".into(),
        stations: 12,
        programs: 3,
        starts_per_program: 4,
        start_step_min: 1,
        run_step: Seconds::from_s(60),
        longest_run: Seconds::from_s(4 * 3600),
        day_modes: ALL_DAY_MODES,
        percentage_min: Percentage::from_percent(10),
        percentage_max: Percentage::from_percent(200),
        percentage_step: Percentage::from_percent(10),
        percentage_scope: PercentageScope::Program,
        percentage_target: PercentageTarget::Total,
        rounding: Rounding::Nearest,
        rounding_step: Seconds::from_s(1),
        cycle_and_soak: true,
        overlap: Overlap::Queue,
        longest_delay: Seconds::from_s(1800),
        longest_overlap: Seconds::from_s(0),
        longest_rain_delay_days: 14,
        omit_hours: true,
        loops: true,
        lighting: true,
        sensor_ports: vec![SensorPort::HoldSwitch],
        sensor_override: true,
        master_valve: true,
        pump_start: false,
        daily_run_times: false,
        computing: None,
        transformer_ma: Some(1000),
        longest_master_lead: Seconds::from_s(60),
        decoder_inputs: 1,
        backup_battery_months: 12,
    }
}

/// A small controller indoors: few stations, coarse steps, one percentage for all.
fn small_indoor() -> Card {
    Card {
        name: "Small indoor controller, 6 stations, two programs".into(),
        stations: 6,
        programs: 2,
        starts_per_program: 3,
        start_step_min: 15,
        longest_run: Seconds::from_s(2 * 3600),
        day_modes: DayModes { weekdays: true, parity: false, longest_interval: 7, never_days: false },
        percentage_step: Percentage::from_percent(10),
        percentage_max: Percentage::from_percent(150),
        percentage_scope: PercentageScope::Controller,
        rounding: Rounding::Down,
        rounding_step: Seconds::from_s(60),
        cycle_and_soak: false,
        longest_delay: Seconds::from_s(0),
        longest_rain_delay_days: 3,
        omit_hours: false,
        loops: false,
        lighting: false,
        sensor_override: false,
        ..twelve_stations()
    }
}

/// Twenty-four stations with a percentage for each month.
fn monthly() -> Card {
    Card {
        name: "24-station controller, four programs, monthly percentages".into(),
        stations: 24,
        programs: 4,
        starts_per_program: 8,
        run_step: Seconds::from_s(30),
        longest_run: Seconds::from_s(9 * 3600),
        percentage_step: Percentage::from_percent(5),
        percentage_min: Percentage::from_percent(0),
        percentage_scope: PercentageScope::Month,
        longest_delay: Seconds::from_s(3600),
        longest_overlap: Seconds::from_s(30),
        sensor_ports: vec![SensorPort::HoldSwitch, SensorPort::HoldSwitch, SensorPort::FlowMeter],
        pump_start: true,
        ..twelve_stations()
    }
}

/// Forty-eight stations on a two-wire path, programs side by side.
fn two_wire() -> Card {
    Card {
        name: "48-station two-wire controller".into(),
        // Decoders hold their valves with little.
        transformer_ma: None,
        stations: 48,
        programs: 8,
        starts_per_program: 8,
        run_step: Seconds::from_s(1),
        longest_run: Seconds::from_s(12 * 3600),
        percentage_step: Percentage::from_percent(1),
        percentage_min: Percentage::from_percent(0),
        percentage_max: Percentage::from_percent(300),
        percentage_target: PercentageTarget::Cycle,
        overlap: Overlap::Concurrent,
        longest_delay: Seconds::from_s(2 * 3600),
        longest_overlap: Seconds::from_s(60),
        longest_rain_delay_days: 31,
        sensor_ports: vec![SensorPort::TwoWire; 8],
        decoder_inputs: 2,
        pump_start: true,
        ..twelve_stations()
    }
}

/// A valve with its own battery and timer on a hose.
fn hose_valve() -> Card {
    Card {
        name: "Battery valve on a hose".into(),
        stations: 1,
        programs: 1,
        starts_per_program: 6,
        longest_run: Seconds::from_s(6 * 3600),
        day_modes: DayModes { weekdays: true, parity: false, longest_interval: 14, never_days: false },
        percentage_min: Percentage::from_percent(100),
        percentage_max: Percentage::from_percent(100),
        percentage_step: Percentage::from_percent(100),
        percentage_scope: PercentageScope::Controller,
        cycle_and_soak: false,
        longest_delay: Seconds::from_s(0),
        longest_rain_delay_days: 7,
        omit_hours: false,
        loops: false,
        lighting: false,
        sensor_ports: Vec::new(),
        sensor_override: false,
        master_valve: false,
        ..twelve_stations()
    }
}

/// A controller that is told new run times every day and falls back on what it is set to.
fn daily() -> Card {
    Card {
        name: "18-station controller that takes daily run times".into(),
        stations: 18,
        programs: 6,
        starts_per_program: 8,
        run_step: Seconds::from_s(1),
        longest_run: Seconds::from_s(6 * 3600),
        percentage_step: Percentage::from_percent(1),
        percentage_min: Percentage::from_percent(0),
        sensor_ports: vec![SensorPort::HoldSwitch, SensorPort::SoilProbe, SensorPort::Weather],
        pump_start: true,
        daily_run_times: true,
        computing: Some(asks()),
        ..twelve_stations()
    }
}

/// What such a controller may ask: words and numbers of ours, to be corrected against the controller in front of one.
fn asks() -> Computing {
    let asked = |input, choices: &[(&str, f64)]| AskedInput {
        input,
        choices: choices.iter().map(|(name, value)| Choice { name: (*name).into(), value: *value }).collect(),
    };
    Computing {
        asks: vec![
            asked(
                Input::Rate,
                &[
                    ("fixed spray", 40.0),
                    ("rotating nozzle", 12.0),
                    ("rotor", 15.0),
                    ("bubbler", 50.0),
                    ("drip", 10.0),
                ],
            ),
            asked(
                Input::Plants,
                &[
                    ("cool lawn", 0.8),
                    ("warm lawn", 0.65),
                    ("flowers", 0.8),
                    ("shrubs", 0.5),
                    ("trees", 0.5),
                    ("dry garden", 0.2),
                ],
            ),
            asked(Input::Soil, &[("light", 80.0), ("middling", 160.0), ("heavy", 175.0)]),
            asked(Input::Slope, &[("level", 1.0), ("gentle", 5.0), ("marked", 9.0), ("steep", 15.0)]),
            asked(Input::Sun, &[("sun all day", 1.0), ("half the day", 0.8), ("little", 0.6)]),
            asked(Input::Maturity, &[("settled", 1.0), ("newly planted", 1.2)]),
            asked(Input::Trim, &[]),
        ],
        efficiency: Share::from_fraction(0.75),
    }
}

/// Every generic card with the short name that files and forms give it.
#[must_use]
pub fn generic() -> Vec<(&'static str, Card)> {
    vec![
        ("twelve", twelve_stations()),
        ("small-indoor", small_indoor()),
        ("monthly", monthly()),
        ("two-wire", two_wire()),
        ("hose-valve", hose_valve()),
        ("daily", daily()),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_generic_card_can_be() {
        for (code, card) in generic() {
            assert_eq!(card.check(), [], "{code}");
        }
    }

    #[test]
    fn the_generic_cards_span_what_controllers_differ_in() {
        let cards: Vec<Card> = generic().into_iter().map(|(_, card)| card).collect();
        for scope in [PercentageScope::Controller, PercentageScope::Program, PercentageScope::Month] {
            assert!(cards.iter().any(|c| c.percentage_scope == scope));
        }
        for overlap in [Overlap::Queue, Overlap::Concurrent] {
            assert!(cards.iter().any(|c| c.overlap == overlap));
        }
        assert!(cards.iter().any(|c| !c.cycle_and_soak) && cards.iter().any(|c| c.daily_run_times));
    }
}

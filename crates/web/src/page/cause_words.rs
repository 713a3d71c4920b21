//! The names of causes, and what settles which of them it is.

use upland_core::tuning::{Cause, Settle};

/// What a cause is called.
#[must_use]
pub fn cause_name(cause: Cause) -> &'static str {
    match cause {
        Cause::NoWater => "No water reaches it",
        Cause::ValveOpen => "A valve does not shut",
        Cause::BrokenHead => "A head or pipe is broken",
        Cause::BlockedHeads => "Heads are blocked",
        Cause::LowPressure => "Too little pressure",
        Cause::TwoAtOnce => "Two run at once",
        Cause::RateWrong => "Its precipitation rate differs from the survey",
        Cause::PlantsWrong => "Its plants need another amount",
        Cause::SoilWrong => "Its soil differs from the survey",
        Cause::RunoffCycles => "Cycles longer than the soil takes",
        Cause::MinutesWrong => "Its run time",
        Cause::PercentageStale => "The percentage is out of date",
        Cause::PercentageLow => "The percentage is too low",
        Cause::PercentageHigh => "The percentage is too high",
        Cause::DaysFew => "Too few days",
        Cause::DaysMany => "Too many days",
        Cause::HiddenProgram => "An unknown program runs",
        Cause::ExtraStart => "One start too many",
        Cause::ClockWrong => "The clock of the controller is off",
        Cause::ControllerOff => "The controller is off",
        Cause::BypassLeft => "A bypass was left on",
        Cause::GaugeSheltered => "Rain does not reach the sensor",
        Cause::GaugeSprayed => "Heads spray the sensor",
        Cause::SensorSlowToDry => "The sensor dries too slowly",
        Cause::ThresholdSmall => "The rain threshold is small",
        Cause::ProbeThresholdHigh => "The soil sensor skips too late",
        Cause::ProbeThresholdLow => "The soil sensor skips too early",
        Cause::SensorOnRoofedZone => "Rain prevents watering of a zone under a roof",
        Cause::SensorIgnored => "It runs although the sensor prevents watering",
        Cause::EtTrim => "The ET sensor's trim",
        Cause::EtClimate => "The ET sensor's climate setting",
        Cause::GrowInOver => "A grow-in is over",
        Cause::WeanOffDue => "A step of the wean-off is due",
        Cause::Leak => "Water is lost in the ground",
        Cause::NothingWrong => "Nothing is wrong",
    }
}

/// What would settle it, as an instruction.
#[must_use]
pub fn settle(settle: Settle) -> &'static str {
    match settle {
        Settle::RunZone => "Start the zone manually and look at its valve and every head.",
        Settle::WatchMeter => {
            "Switch everything off and watch the meter for ten minutes; then shut the valve of one zone after the other."
        }
        Settle::Cans => "Set out catch cans and measure the rate.",
        Settle::FlowOfZone => "Read the meter while the zone runs.",
        Settle::Pressure => {
            "Measure the pressure at the last head while the zone runs, and again while nothing else does."
        }
        Settle::Spade => "Dig to the root depth, or push a probe, and feel the soil.",
        Settle::LookAtPlants => "Look at what grows there and how much of the ground it covers.",
        Settle::WatchCycle => {
            "Watch one cycle to its end and note the minute at which water begins to run off."
        }
        Settle::ReadController => "Read the controller program by program and compare it with the sheet.",
        Settle::LookAtSensor => {
            "Look at the sensor where it is installed: what is above it, and which heads reach it."
        }
        Settle::TripTest => {
            "Pour water on the sensor, see that the controller prevents watering, and note how long it stays wet."
        }
        Settle::ProbeTrace => {
            "Soak the ground at the probe, let it drain for a day, and compare the reading with the threshold."
        }
        Settle::MoreNights => "Write down the percentages of some more nights.",
        Settle::Nothing => "",
    }
}

/// The usual caution where a hand goes in.
pub(crate) fn safety(cause: Cause) -> &'static str {
    match cause {
        Cause::NoWater
        | Cause::ValveOpen
        | Cause::HiddenProgram
        | Cause::ControllerOff
        | Cause::ClockWrong => {
            "Power off before the controller is opened; low-voltage side only, mains by a licensed electrician."
        }
        Cause::BrokenHead | Cause::Leak => {
            "Locate buried services before digging. Backflow devices are for those licensed for them."
        }
        Cause::LowPressure => "Regulators and backflow devices are for those licensed for them.",
        Cause::GaugeSheltered | Cause::GaugeSprayed | Cause::SensorSlowToDry => {
            "Ladder work: level ground, somebody to hold it."
        }
        _ => "",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::codes::Coded;

    #[test]
    fn every_cause_has_a_name_and_every_settlement_an_instruction() {
        for (cause, code) in Cause::TABLE {
            assert!(!cause_name(*cause).is_empty() && !code.is_empty());
        }
        let names: std::collections::BTreeSet<&str> =
            Cause::TABLE.iter().map(|(c, _)| cause_name(*c)).collect();
        assert_eq!(names.len(), Cause::TABLE.len(), "no two are called the same");
        assert!(settle(Settle::Cans).ends_with('.'));
        assert_eq!(settle(Settle::Nothing), "");
    }
}

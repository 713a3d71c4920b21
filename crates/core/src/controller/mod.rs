//! The controller card: what a controller can hold, as data that its user can write. A card knows no
//! make; it lists limits. [`Card::check`] refuses a card that no controller could be; [`library`] holds
//! the generic ones.

use crate::quantity::ratio::Percentage;
use crate::quantity::time::Seconds;
pub mod breaches;
mod computing;
pub mod library;
pub mod night;
pub mod open_hours;
pub mod ordinance;
pub mod schedule;
mod steps;
pub mod upkeep;
pub mod windows;

pub use computing::{AskedInput, Choice, Computing, Input, MOST_CHOICES};
pub use library::{generic, twelve_stations};

/// What a percentage is set for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PercentageScope {
    /// One for the whole controller.
    Controller,
    /// One for each program.
    Program,
    /// One for each month, whole controller.
    Month,
}

/// How a run time that the percentage makes uneven is rounded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rounding {
    /// To the nearest step, halves up.
    Nearest,
    /// Down to a step.
    Down,
    /// Up to a step.
    Up,
}

/// What the percentage is applied to when a run is split into cycles.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PercentageTarget {
    /// The whole run time, which is then split.
    Total,
    /// Each cycle by itself; the number of cycles stays.
    Cycle,
}

/// What a controller does when a program's start comes while another program runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Overlap {
    /// It waits until the other is done.
    Queue,
    /// Both run at once.
    Concurrent,
}

/// Where sensors are joined to a controller.
#[derive(Debug, Clone, Copy)]
pub struct SensorPlaces<'a> {
    /// Its ports.
    pub ports: &'a [SensorPort],
    /// Inputs that a sensor decoder on its two-wire path has under one address.
    pub decoder_inputs: u8,
}

/// What can be wired to a controller's sensor port.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SensorPort {
    /// A switch whose open contact holds watering.
    HoldSwitch,
    /// A soil-moisture probe.
    SoilProbe,
    /// A flow meter.
    FlowMeter,
    /// A weather or ET sensor that sets the percentage.
    Weather,
    /// A decoder on the two-wire path, whatever it carries.
    TwoWire,
}

/// Which ways of choosing days a controller has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DayModes {
    /// Days of the week.
    pub weekdays: bool,
    /// Odd and even dates.
    pub parity: bool,
    /// Longest interval of "every n-th day"; 0 when the controller has none.
    pub longest_interval: u8,
    /// Weekdays on which nothing runs, whatever the mode.
    pub never_days: bool,
}

/// What a controller can hold.
#[derive(Debug, Clone, PartialEq)]
pub struct Card {
    /// Name of the card.
    pub name: String,
    /// Stations.
    pub stations: u16,
    /// Programs.
    pub programs: u8,
    /// Start times per program.
    pub starts_per_program: u8,
    /// Step in which a start time can be set, minutes.
    pub start_step_min: u16,
    /// Step in which a run time can be set.
    pub run_step: Seconds,
    /// Longest run time.
    pub longest_run: Seconds,
    /// Ways of choosing days.
    pub day_modes: DayModes,
    /// Lowest percentage.
    pub percentage_min: Percentage,
    /// Highest percentage.
    pub percentage_max: Percentage,
    /// Step of the percentage.
    pub percentage_step: Percentage,
    /// What a percentage is set for.
    pub percentage_scope: PercentageScope,
    /// What it is applied to.
    pub percentage_target: PercentageTarget,
    /// How the result is rounded.
    pub rounding: Rounding,
    /// Step that a run time is rounded to after the percentage.
    pub rounding_step: Seconds,
    /// Whether a cycle and a soak can be set for a station.
    pub cycle_and_soak: bool,
    /// Overlapping programs.
    pub overlap: Overlap,
    /// Longest pause between two stations.
    pub longest_delay: Seconds,
    /// Longest overlap of two stations for slow valves.
    pub longest_overlap: Seconds,
    /// Longest rain delay, days.
    pub longest_rain_delay_days: u8,
    /// Whether hours can be set in which nothing starts.
    pub omit_hours: bool,
    /// Whether a program can repeat until an end time.
    pub loops: bool,
    /// Whether a station can be set as lighting, which ignores percentage and rain delay.
    pub lighting: bool,
    /// Sensor ports and what each takes.
    pub sensor_ports: Vec<SensorPort>,
    /// Whether a station can be set to ignore the sensors.
    pub sensor_override: bool,
    /// Whether a master valve can be set for each station.
    pub master_valve: bool,
    /// Whether a pump start can be set for each station.
    pub pump_start: bool,
    /// Whether the controller takes new run times every day; those it is set to are then its fallback.
    pub daily_run_times: bool,
    /// What it asks of each zone, where it works out its minutes by itself.
    pub computing: Option<Computing>,
    /// What its transformer gives, mA; `None` where it is not known.
    pub transformer_ma: Option<u32>,
    /// How long a master valve can open before a station and stay open after it.
    pub longest_master_lead: Seconds,
    /// Inputs that a sensor decoder on the two-wire path has under its one address.
    pub decoder_inputs: u8,
    /// Every how many months its backup battery is changed; 0 where it has none.
    pub backup_battery_months: u8,
}

/// Most sensor ports of a card.
pub const MOST_SENSOR_PORTS: usize = 64;

/// Why a card cannot be one.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{field}: {message}")]
pub struct CardFault {
    /// Name of the limit.
    pub field: &'static str,
    /// What is wrong and what to do.
    pub message: String,
}

impl Card {
    /// Whether a sensor can set its percentages: it computes by itself, or has a port for such a sensor.
    #[must_use]
    pub fn takes_percentages(&self) -> bool {
        let ports = &self.sensor_ports;
        self.daily_run_times || ports.iter().any(|p| matches!(p, SensorPort::Weather | SensorPort::TwoWire))
    }

    /// Whether anybody sets a percentage on it: it has more than one, and does not work its run times out itself.
    #[must_use]
    pub fn has_percentage(&self) -> bool {
        self.computing.is_none() && !self.daily_run_times && self.percentage_min < self.percentage_max
    }

    /// Its ports for sensors, with the inputs of a decoder on its path.
    #[must_use]
    pub fn sensor_places(&self) -> SensorPlaces<'_> {
        SensorPlaces { ports: &self.sensor_ports, decoder_inputs: self.decoder_inputs.max(1) }
    }

    /// Everything that makes a card impossible; empty for a card that can be.
    #[must_use]
    pub fn check(&self) -> Vec<CardFault> {
        let mut faults = Vec::new();
        let mut say = |field, message: String| faults.push(CardFault { field, message });
        let mut within = |field, value: u32, low: u32, high: u32| {
            if !(low..=high).contains(&value) {
                say(field, format!("{value} is outside {low} to {high}"));
            }
        };
        within("stations", u32::from(self.stations), 1, 250);
        within("programs", u32::from(self.programs), 1, 26);
        within("starts_per_program", u32::from(self.starts_per_program), 1, 48);
        within("run_step_s", self.run_step.length_s(), 1, 3600);
        within("longest_run_s", self.longest_run.length_s(), 60, 86_400);
        within("rounding_step_s", self.rounding_step.length_s(), 1, 60);
        within("percentage_min", u32::from(self.percentage_min.percent()), 0, 100);
        within("percentage_max", u32::from(self.percentage_max.percent()), 100, 400);
        within("percentage_step", u32::from(self.percentage_step.percent()), 1, 100);
        within("longest_delay_s", self.longest_delay.length_s(), 0, 9 * 3600);
        within("longest_master_lead_s", self.longest_master_lead.length_s(), 0, 600);
        within("decoder_inputs", u32::from(self.decoder_inputs), 1, 16);
        within("backup_battery_months", u32::from(self.backup_battery_months), 0, 120);
        within("transformer_ma", self.transformer_ma.unwrap_or(1000), 50, 20_000);
        within("longest_overlap_s", self.longest_overlap.length_s(), 0, 600);
        within("sensor_ports", u32::try_from(self.sensor_ports.len()).unwrap_or(u32::MAX), 0, 64);
        within("longest_interval", u32::from(self.day_modes.longest_interval), 0, 60);
        within("longest_rain_delay_days", u32::from(self.longest_rain_delay_days), 0, 60);
        if !self.longest_run.is_in_steps_of(self.run_step) {
            say(
                "longest_run_s",
                format!(
                    "{} s is not a whole number of steps of {} s",
                    self.longest_run.s(),
                    self.run_step.s()
                ),
            );
        }
        let name = self.name.trim();
        if name.is_empty() || name.chars().count() > 120 || name.chars().any(char::is_control) {
            say("name", "give it a name of at most 120 letters, numbers and signs".into());
        }
        if self.start_step_min == 0 || 1440 % self.start_step_min != 0 {
            say("start_step_min", format!("{} minutes do not divide a day", self.start_step_min));
        }
        let modes = self.day_modes;
        if !modes.weekdays && !modes.parity && modes.longest_interval == 0 {
            say("day_modes", "there is no way to choose a day; give at least one".into());
        }
        if self.percentage_min <= Percentage::HUNDRED
            && self.nearest_percentage(Percentage::HUNDRED) != Percentage::HUNDRED
        {
            say("percentage_step", "100 % cannot be set with this minimum and step".into());
        }
        faults.extend(self.computing.iter().flat_map(Computing::check));
        faults
    }

    /// A run time at a percentage, as the controller counts it.
    ///
    /// Common practice: 90 % of 10 min is 9 min, 50 % of 15 min is 7 min 30 s, 200 % of 8 is 16.
    #[must_use]
    pub fn scaled(&self, run_time: Seconds, percentage: Percentage) -> Seconds {
        // In hundredths of a second, so that nothing is rounded before the controller rounds.
        let exact = run_time * i64::from(percentage.percent());
        let step = self.rounding_step.max(Seconds::ONE);
        let hundred = step * 100;
        step * match self.rounding {
            Rounding::Nearest => (exact + step * 50).steps(hundred),
            Rounding::Down => exact.steps(hundred),
            Rounding::Up => exact.steps_up(hundred),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percentages_of_common_practice() {
        let card = twelve_stations();
        for (minutes, percentage, seconds) in
            [(10, 90, 540), (20, 90, 1080), (8, 200, 960), (15, 50, 450), (15, 100, 900)]
        {
            assert_eq!(
                card.scaled(Seconds::from_min(minutes), Percentage::from_percent(percentage)),
                Seconds::from_s(seconds)
            );
        }
    }

    #[test]
    fn rounding_is_the_controllers_own() {
        let with = |rounding| Card { rounding, rounding_step: Seconds::from_s(60), ..twelve_stations() };
        let half = |rounding| with(rounding).scaled(Seconds::from_min(15), Percentage::from_percent(50));
        assert_eq!(half(Rounding::Down), Seconds::from_min(7));
        assert_eq!(half(Rounding::Up), Seconds::from_min(8));
        assert_eq!(half(Rounding::Nearest), Seconds::from_min(8));
        let gone = with(Rounding::Down).scaled(Seconds::from_min(1), Percentage::from_percent(90));
        assert_eq!(gone, Seconds::ZERO, "it rounds to zero, and a check says so");
    }

    #[test]
    fn every_limit_has_its_bounds_and_says_them() {
        type Spoil = fn(&mut Card);
        let spoilt: [(&str, Spoil); 17] = [
            ("decoder_inputs", |c| c.decoder_inputs = 0),
            ("backup_battery_months", |c| c.backup_battery_months = 121),
            ("stations", |c| c.stations = 251),
            ("programs", |c| c.programs = 0),
            ("starts_per_program", |c| c.starts_per_program = 49),
            ("run_step_s", |c| c.run_step = Seconds::from_s(0)),
            ("longest_run_s", |c| c.longest_run = Seconds::from_s(30)),
            ("rounding_step_s", |c| c.rounding_step = Seconds::from_s(61)),
            ("percentage_min", |c| c.percentage_min = Percentage::from_percent(101)),
            ("percentage_max", |c| c.percentage_max = Percentage::from_percent(99)),
            ("percentage_step", |c| c.percentage_step = Percentage::from_percent(7)),
            ("longest_delay_s", |c| c.longest_delay = Seconds::from_s(90_000)),
            ("longest_overlap_s", |c| c.longest_overlap = Seconds::from_s(601)),
            ("longest_rain_delay_days", |c| c.longest_rain_delay_days = 61),
            ("longest_interval", |c| c.day_modes.longest_interval = 61),
            ("sensor_ports", |c| c.sensor_ports = vec![SensorPort::TwoWire; 65]),
            ("name", |c| c.name = " ".into()),
        ];
        for (field, spoil) in spoilt {
            let mut card = twelve_stations();
            spoil(&mut card);
            let faults = card.check();
            assert!(faults.iter().any(|f| f.field == field), "{field} in {faults:?}");
            assert!(faults.iter().all(|f| !f.message.is_empty() && f.to_string().starts_with(f.field)));
        }
    }

    #[test]
    fn the_percentages_of_common_practice_can_be_set() {
        // Common practice: percentages of 5 or 10 to 200.
        for (step, values) in [(5, [5, 35, 100, 200]), (10, [10, 50, 100, 200])] {
            let card = Card {
                percentage_min: Percentage::from_percent(step),
                percentage_step: Percentage::from_percent(step),
                percentage_max: Percentage::from_percent(200),
                ..twelve_stations()
            };
            assert_eq!(card.check(), []);
            for value in values {
                let value = Percentage::from_percent(value);
                assert_eq!(card.nearest_percentage(value), value);
            }
        }
    }

    #[test]
    fn an_impossible_card_is_told_by_field() {
        assert_eq!(twelve_stations().check(), []);
        let card = Card {
            stations: 0,
            start_step_min: 7,
            percentage_step: Percentage::ZERO,
            longest_run: Seconds::from_s(3601),
            day_modes: DayModes { weekdays: false, parity: false, longest_interval: 0, never_days: true },
            ..twelve_stations()
        };
        let fields: Vec<_> = card.check().into_iter().map(|f| f.field).collect();
        assert_eq!(fields, ["stations", "percentage_step", "longest_run_s", "start_step_min", "day_modes"]);
    }
}

//! What an adjustment is: what is changed, from what to what, and how.

use super::cause::Cause;
use crate::controller::schedule::{Days, Settings};
use crate::quantity::ratio::Percentage;
use crate::quantity::time::Seconds;
use crate::quantity::units::Millimetres;
use crate::sensors::Sensor;
use jiff::civil::Date;

/// Which adjustment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum LeverCode {
    /// Mend what is broken; no setting.
    Mend,
    /// Bring the controller back to what is known: its clock, its switch, a bypass, a program, a start, a percentage.
    SetControllerRight,
    /// Move or service a sensor.
    SensorByHand,
    /// Measure again, and correct the survey.
    Survey,
    /// One zone's run time.
    ZoneMinutes,
    /// Cycles and soaks, or more starts.
    Cycles,
    /// Starts of programs that meet, or that repeat.
    Starts,
    /// A percentage.
    Percentage,
    /// Days.
    Days,
    /// The rain threshold.
    RainThreshold,
    /// The threshold of a soil probe.
    ProbeThreshold,
    /// Whom a sensor holds.
    SensorMap,
    /// The trim of an ET sensor.
    EtTrim,
    /// What stands for 100 % on an ET sensor.
    EtFull,
}

/// What an adjustment stands at, or is turned to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Amount {
    /// Nothing that has a number.
    None,
    /// A run time.
    Minutes(Seconds),
    /// A percentage.
    Percentage(Percentage),
    /// Days.
    Days(Days),
    /// A depth.
    Depth(Millimetres),
    /// Percent by volume.
    SoilPct(f64),
    /// A trim, percent.
    TrimPct(f64),
    /// Starts.
    Starts(usize),
    /// Max cycle time.
    Cycle(Seconds),
    /// Whether a sensor holds a zone.
    Holds(bool),
}

/// The settings that an adjustment makes.
#[derive(Debug, Clone, PartialEq)]
pub enum Turn {
    /// None: it is done by hand.
    ByHand,
    /// Other settings of a controller.
    Settings(u8, Box<Settings>),
    /// A sensor set otherwise, by its controller.
    Sensor(u8, Box<Sensor>),
}

/// A percentage of one program, or of all where the controller has one for all.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ProgramPercentage {
    /// The program, by index; `None`: the whole controller.
    pub program: Option<usize>,
    /// As set.
    pub from: Percentage,
    /// To set.
    pub to: Percentage,
}

/// An adjustment.
#[derive(Debug, Clone, PartialEq)]
pub struct Lever {
    /// Which.
    pub code: LeverCode,
    /// The cause that it answers.
    pub cause: Cause,
    /// Its controller.
    pub controller_number: Option<u8>,
    /// Its zone.
    pub station: Option<u16>,
    /// Its sensor.
    pub sensor: Option<String>,
    /// Its program, by index, where it is about one.
    pub program: Option<usize>,
    /// Percentages by program, where it changes percentages.
    pub percentages: Vec<ProgramPercentage>,
    /// What it stands at.
    pub from: Amount,
    /// What it is turned to.
    pub to: Amount,
    /// What that makes of the settings.
    pub turn: Turn,
    /// Zones of the same controller that are right and must not be touched: those that another adjustment would change too.
    pub leave: Vec<u16>,
    /// When to look again.
    pub look_again: Date,
}

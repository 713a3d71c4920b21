//! What was seen on a visit: zones, boxes, sensors and the meter. Everything may be left empty.

use crate::ground::soil::Texture;
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::time::Seconds;
use crate::quantity::units::{Litres, LitresPerMinute};
use jiff::Timestamp;
use jiff::civil::{Date, Time};
use std::collections::{BTreeMap, BTreeSet};

/// How wet the ground of a zone is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Looks {
    /// Hard, pale, footprints stay.
    Dry,
    /// As it should be.
    Right,
    /// Soft, squelching, moss or algae.
    Wet,
}

impl Looks {
    /// All, in the order of the lists.
    pub const ALL: [Self; 3] = [Self::Dry, Self::Right, Self::Wet];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Dry => "dry",
            Self::Right => "right",
            Self::Wet => "wet",
        }
    }
}

/// Something that was seen at a zone.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Sign {
    /// It was switched on and no water came.
    NoWater,
    /// Water runs or drips while nothing should run.
    RunsWhenOff,
    /// A head or pipe is broken.
    Broken,
    /// A head leans or has sunk.
    Leaning,
    /// A head, nozzle or dripper is blocked.
    Blocked,
    /// The spray is short or a mist.
    WeakSpray,
    /// Another zone ran at the same time.
    OtherRunning,
    /// Water runs off before the cycle ends.
    Runoff,
    /// Dry patches in an else even zone.
    DryPatches,
    /// Wet patches in an else even zone.
    WetPatches,
    /// It looks so only since it rained.
    AfterRain,
    /// Other plants grow there than the survey says.
    OtherPlants,
}

impl Sign {
    /// All, in the order of the lists.
    pub const ALL: [Self; 12] = [
        Self::NoWater,
        Self::RunsWhenOff,
        Self::Broken,
        Self::Leaning,
        Self::Blocked,
        Self::WeakSpray,
        Self::OtherRunning,
        Self::Runoff,
        Self::DryPatches,
        Self::WetPatches,
        Self::AfterRain,
        Self::OtherPlants,
    ];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::NoWater => "no water when switched on",
            Self::RunsWhenOff => "runs or drips when off",
            Self::Broken => "broken head or pipe",
            Self::Leaning => "leaning or sunk head",
            Self::Blocked => "blocked head or dripper",
            Self::WeakSpray => "short spray or mist",
            Self::OtherRunning => "another zone runs too",
            Self::Runoff => "water runs off",
            Self::DryPatches => "dry patches",
            Self::WetPatches => "wet patches",
            Self::AfterRain => "only since the rain",
            Self::OtherPlants => "other plants than surveyed",
        }
    }
}

/// How the plants of a zone look.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Plants {
    /// Well.
    Fine,
    /// Limp or folded leaves.
    Wilting,
    /// Brown edges.
    Scorched,
    /// Pale or yellow.
    Yellow,
    /// Soft growth, moss, fungus.
    Soft,
}

impl Plants {
    /// All, in the order of the lists.
    pub const ALL: [Self; 5] = [Self::Fine, Self::Wilting, Self::Scorched, Self::Yellow, Self::Soft];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Fine => "fine",
            Self::Wilting => "wilting",
            Self::Scorched => "brown edges",
            Self::Yellow => "yellow",
            Self::Soft => "soft, mossy",
        }
    }
}

/// A zone as it was found.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ZoneSeen {
    /// Number of its box.
    pub box_number: u8,
    /// Its station.
    pub station: u16,
    /// How wet it looks.
    pub looks: Option<Looks>,
    /// What was seen.
    pub signs: BTreeSet<Sign>,
    /// How its plants look.
    pub plants: Option<Plants>,
    /// What a probe or a spade says is left of the available water.
    pub available: Option<Share>,
    /// The soil that a spade turned up.
    pub soil: Option<Texture>,
    /// What the meter read while it ran.
    pub flow: Option<LitresPerMinute>,
    /// Anything else.
    pub note: String,
}

impl ZoneSeen {
    /// Whether nothing was said.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self { box_number: self.box_number, station: self.station, ..Self::default() }
    }
}

/// State of a battery.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Battery {
    /// It holds.
    Good,
    /// It is low.
    Low,
    /// It is empty or missing: the box forgets its clock in a power cut.
    Dead,
}

impl Battery {
    /// All, in the order of the lists.
    pub const ALL: [Self; 3] = [Self::Good, Self::Low, Self::Dead];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Low => "low",
            Self::Dead => "empty or missing",
        }
    }
}

/// A program as the box shows it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ProgramSeen {
    /// Whether it is on.
    pub on: Option<bool>,
    /// Its percentage.
    pub percentage: Option<Percentage>,
    /// Its start times.
    pub starts: Option<Vec<Time>>,
    /// Run times that were read, by station.
    pub minutes: BTreeMap<u16, Seconds>,
}

/// A box as it was found.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct BoxSeen {
    /// Its number.
    pub box_number: u8,
    /// How far its clock is ahead of the right time; negative when it is behind.
    pub clock_ahead: Option<Seconds>,
    /// Whether it is switched to automatic.
    pub on: Option<bool>,
    /// Whether its sensors are bypassed.
    pub bypassed: Option<bool>,
    /// Its backup battery.
    pub battery: Option<Battery>,
    /// Programs that were read, by index.
    pub programs: BTreeMap<usize, ProgramSeen>,
    /// Percentages that it says it used, by the evening of the night.
    pub nights: BTreeMap<Date, f64>,
}

impl BoxSeen {
    /// Whether nothing was said.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self { box_number: self.box_number, ..Self::default() }
    }
}

/// A sensor as it was found.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SensorSeen {
    /// Its name.
    pub name: String,
    /// Whether it holds.
    pub holds: Option<bool>,
    /// Whether something keeps rain from it.
    pub covered: Option<bool>,
    /// Whether heads spray it.
    pub sprayed: Option<bool>,
}

/// A visit.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Visit {
    /// When.
    pub at: Timestamp,
    /// Zones.
    pub zones: Vec<ZoneSeen>,
    /// Boxes.
    pub boxes: Vec<BoxSeen>,
    /// Sensors.
    pub sensors: Vec<SensorSeen>,
    /// What the main meter had counted.
    pub meter: Option<Litres>,
    /// Whether the ground is wet where nothing waters.
    pub wet_elsewhere: bool,
    /// Anything else.
    pub note: String,
}

impl Visit {
    /// A zone as it was found.
    #[must_use]
    pub fn zone(&self, box_number: u8, station: u16) -> Option<&ZoneSeen> {
        self.zones.iter().find(|z| (z.box_number, z.station) == (box_number, station))
    }

    /// A box as it was found.
    #[must_use]
    pub fn of_box(&self, number: u8) -> Option<&BoxSeen> {
        self.boxes.iter().find(|b| b.box_number == number)
    }

    /// A sensor as it was found.
    #[must_use]
    pub fn sensor(&self, name: &str) -> Option<&SensorSeen> {
        self.sensors.iter().find(|s| s.name == name)
    }
}

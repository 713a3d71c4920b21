//! Ways of watering a site, as data.

use crate::advice::budget::RainRule;
use crate::advice::planner::{Binding, Strategy};
use crate::controller::schedule::{Days, Settings};
use crate::ground::planting::WeanOff;
use crate::quantity::span::DateSpan;
use crate::quantity::time::Hours;
use crate::quantity::units::Millimetres;
use crate::sensors::Release;

/// Where the runs come from.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum Schedule {
    /// The settings in force on the last day of the trial.
    #[default]
    AsSet,
    /// Other settings for a controller, by its number.
    Settings(Vec<(u8, Settings)>),
    /// What the planner proposes for the whole year.
    School(Strategy),
    /// As Today advises: to full when the refill point is reached, inside law, frost and window.
    AsAdvised,
    /// A controller that computes itself: every open night what is missing.
    DailyBalance,
}

/// What turns the run times over the season.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum PercentageRule {
    /// The percentages that are set.
    #[default]
    AsSet,
    /// 100 % all year.
    Left,
    /// The best twelve of the climate.
    Monthly,
    /// Each Monday what the week before asked for, by hand.
    Weekly,
    /// An ET sensor's, every night, with its trim in percent.
    EtSensor {
        /// The trim.
        trim_pct: f64,
    },
}

/// A place that is not the right one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Spot {
    /// Under an eave: a fifth of the rain reaches it (our stated share).
    UnderEave,
    /// In shade: it dries at half the pace (our stated share).
    InShade,
}

/// What becomes of a sensor.
#[derive(Debug, Clone, PartialEq)]
pub enum Change {
    /// It is not there.
    Absent,
    /// Another rain threshold.
    RainThreshold(Millimetres),
    /// Another end of its rain holds.
    Release(Release),
    /// On bypass between two days, both included.
    Bypassed(DateSpan),
    /// It is installed elsewhere.
    Misplaced(Spot),
}

/// A change to a sensor of the site.
#[derive(Debug, Clone, PartialEq)]
pub struct SensorChange {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its name.
    pub name: String,
    /// What becomes of it.
    pub change: Change,
}

/// A watering option a site.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct TrialWay {
    /// Its name.
    pub name: String,
    /// Where the runs come from.
    pub schedule: Schedule,
    /// What turns them.
    pub percentages: PercentageRule,
    /// No sensor holds or scales anything.
    pub without_sensors: bool,
    /// What becomes of single sensors.
    pub sensors: Vec<SensorChange>,
    /// Whether rain is left to sensors or counted; `None` as the controller has it.
    pub rain: Option<RainRule>,
    /// Other days for every program that waters.
    pub days: Option<Days>,
    /// Another water window, for what is advised or planned.
    pub window: Option<Hours>,
    /// What becomes of grow-ins, and of the ramp from what a landscape was used to.
    pub planting: Ramps,
}

/// Grow-ins and wean-offs of a way.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum Ramps {
    /// As each zone has them.
    #[default]
    AsSet,
    /// None: established plants that get their need.
    None,
    /// Every zone is weaned off, in place of what it has.
    WeanOff(WeanOff),
}

/// The ways that have a name of their own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Named {
    /// The controller as it is set.
    AsSet,
    /// As Today advises.
    AsAdvised,
    /// As set, without any sensor.
    NoSensors,
    /// As set, at 100 % all year.
    Leave,
    /// As set, twelve percentages.
    Monthly,
    /// As set, a percentage a week.
    Weekly,
    /// As set, an ET sensor's percentage a night.
    EtSensor,
    /// A controller that computes itself.
    DailyBalance,
}

impl Named {
    /// The way, under the name that lists give it.
    #[must_use]
    pub fn way(self, name: &str) -> TrialWay {
        let way = TrialWay { name: name.to_owned(), ..TrialWay::default() };
        match self {
            Self::AsSet => way,
            Self::AsAdvised => TrialWay { schedule: Schedule::AsAdvised, ..way },
            Self::NoSensors => TrialWay { without_sensors: true, ..way },
            Self::Leave => TrialWay { percentages: PercentageRule::Left, ..way },
            Self::Monthly => TrialWay { percentages: PercentageRule::Monthly, ..way },
            Self::Weekly => TrialWay { percentages: PercentageRule::Weekly, ..way },
            Self::EtSensor => TrialWay { percentages: PercentageRule::EtSensor { trim_pct: 0.0 }, ..way },
            Self::DailyBalance => TrialWay { schedule: Schedule::DailyBalance, ..way },
        }
    }
}

/// Why a way cannot be tried.
#[derive(Debug, Clone, PartialEq)]
pub enum Refusal {
    /// Nobody entered what a controller is set to.
    Unset {
        /// The controller.
        controller_number: u8,
    },
    /// No controller is installed there.
    NoController {
        /// The controller.
        controller_number: u8,
    },
    /// The settings are none that the controller can hold.
    CannotHold {
        /// The controller.
        controller_number: u8,
        /// What is wrong.
        message: String,
    },
    /// The strategy fits no night of the controller.
    NoPlan {
        /// The controller.
        controller_number: u8,
        /// What binds.
        binding: Binding,
    },
    /// No sensor has that name.
    NoSensor {
        /// The name.
        name: String,
    },
    /// The controller takes no percentage from a sensor.
    NoPort {
        /// The controller.
        controller_number: u8,
    },
    /// There is no weather in the days.
    NoWeather,
}

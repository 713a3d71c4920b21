//! The closed list of causes, what speaks for and against each, and what would settle it.

use super::visit::{Looks, Sign};
use crate::ground::soil::Texture;
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::time::Seconds;
use crate::quantity::units::{Millimetres, MillimetresPerHour};
use crate::site::StationId;
use jiff::civil::Date;

/// Why a zone, a controller or a site is not no change needed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Cause {
    /// A valve does not open, or nothing reaches it.
    NoWater,
    /// A valve does not shut.
    ValveOpen,
    /// A head or pipe is broken.
    BrokenHead,
    /// Heads, nozzles or drippers are blocked.
    BlockedHeads,
    /// Too little pressure at the heads.
    LowPressure,
    /// More runs at once than the supply gives.
    TwoAtOnce,
    /// The zone's precipitation rate is not what the survey says.
    RateWrong,
    /// Its plants need another amount than the survey says.
    PlantsWrong,
    /// Its soil differs from the survey.
    SoilWrong,
    /// Cycles are longer than the soil takes in.
    RunoffCycles,
    /// One zone's run time.
    MinutesWrong,
    /// A percentage that was left while the season went on.
    PercentageStale,
    /// A percentage that is too low.
    PercentageLow,
    /// A percentage that is too high.
    PercentageHigh,
    /// Too few days.
    DaysFew,
    /// Too many days.
    DaysMany,
    /// A program runs that nobody knows of.
    HiddenProgram,
    /// One start too many runs a program again.
    ExtraStart,
    /// The clock of the controller.
    ClockWrong,
    /// The controller is switched off.
    ControllerOff,
    /// A bypass that was left.
    BypassLeft,
    /// Rain does not reach the rain sensor.
    GaugeSheltered,
    /// Heads spray the rain sensor.
    GaugeSprayed,
    /// The rain sensor stays wet too long.
    SensorSlowToDry,
    /// The rain threshold is so small that a drizzle holds.
    ThresholdSmall,
    /// A soil probe refuses too late.
    ProbeThresholdHigh,
    /// A soil probe refuses too early.
    ProbeThresholdLow,
    /// A rain sensor holds a zone that rain never reaches.
    SensorOnRoofedZone,
    /// A zone in the rain does not listen to the sensor.
    SensorIgnored,
    /// The ET sensor is off by an even share: its trim.
    EtTrim,
    /// The ET sensor's climate setting: what stands for 100 %.
    EtClimate,
    /// A grow-in is over and its watering goes on.
    GrowInOver,
    /// A step of a wean-off is due.
    WeanOffDue,
    /// Water is lost in the ground.
    Leak,
    /// All is no change needed.
    NothingWrong,
}

impl Cause {
    /// Whether something is broken, left over or misplaced: it comes before every setting (common practice).
    #[must_use]
    pub const fn is_fault(self) -> bool {
        matches!(
            self,
            Self::NoWater
                | Self::ValveOpen
                | Self::BrokenHead
                | Self::BlockedHeads
                | Self::LowPressure
                | Self::HiddenProgram
                | Self::ExtraStart
                | Self::ClockWrong
                | Self::ControllerOff
                | Self::BypassLeft
                | Self::GaugeSheltered
                | Self::GaugeSprayed
                | Self::SensorSlowToDry
                | Self::SensorOnRoofedZone
                | Self::SensorIgnored
                | Self::Leak
        )
    }

    /// The order in which to see to causes: faults, then what many zones share (sensors, percentage or ET sensor, trim
    /// before climate, days), then one zone (common practice): a zone that is off alone is judged under right settings of
    /// its program.
    #[must_use]
    pub const fn rank(self) -> u8 {
        match self {
            cause if cause.is_fault() => 0,
            Self::TwoAtOnce => 1,
            Self::ThresholdSmall | Self::ProbeThresholdHigh | Self::ProbeThresholdLow => 2,
            Self::PercentageStale | Self::PercentageLow | Self::PercentageHigh | Self::EtTrim => 3,
            Self::EtClimate => 4,
            Self::DaysFew | Self::DaysMany => 5,
            Self::MinutesWrong
            | Self::RateWrong
            | Self::PlantsWrong
            | Self::SoilWrong
            | Self::RunoffCycles
            | Self::GrowInOver
            | Self::WeanOffDue => 6,
            _ => 7,
        }
    }
}

/// One thing that speaks for or against a cause.
#[derive(Debug, Clone, PartialEq)]
pub enum Evidence {
    /// It was seen.
    Sign(Sign),
    /// It was not seen, though a cause of this kind shows so.
    NoSign(Sign),
    /// The zone looks so, and the account expects otherwise.
    Contradicts {
        /// What was seen.
        seen: Looks,
        /// What the account expects.
        expected: Looks,
    },
    /// The zone looks as the account expects.
    AsExpected(Looks),
    /// The zone looks otherwise than the cause would make it.
    LooksOtherwise(Looks),
    /// So many zones of the controller look so, of so many looked at.
    Alike {
        /// How they look.
        looks: Looks,
        /// Zones that look so.
        zones: usize,
        /// Zones looked at.
        of: usize,
    },
    /// The meter read a share of what the zone takes by rate and area.
    Flow(f64),
    /// The meter counted a share of what the runs would have taken.
    Meter(f64),
    /// The meter stood still.
    MeterStill,
    /// The ground is wet where nothing waters.
    WetElsewhere,
    /// The rate is a default, never measured.
    RateIsDefault,
    /// The rate was measured.
    RateMeasured(MillimetresPerHour),
    /// The plant coefficient is the kind's.
    CoefficientIsDefault,
    /// A spade turned up another soil than the survey has.
    SoilFound {
        /// What it is.
        found: Texture,
        /// What the survey says.
        surveyed: Texture,
    },
    /// A spade turned up the soil of the survey.
    SoilAsSurveyed,
    /// Nobody dug.
    SoilUnread,
    /// The ground is not wet where nothing waters.
    DryElsewhere,
    /// The longest cycle against the longest that the soil takes.
    Cycle {
        /// As set.
        set: Seconds,
        /// Longest before water stands too deep.
        longest: Seconds,
    },
    /// The soil takes the longest cycle.
    CyclesFit,
    /// What a zone got, rain counted, over what it asked for, and the middle of the others.
    Gets {
        /// Share of the zone.
        share: Share,
        /// Middle of the other zones of the controller.
        others: Share,
    },
    /// What all zones got in the middle, over what they asked for.
    AllGet(Share),
    /// What the zones of a program got in the middle, over what they asked for.
    ProgramGets {
        /// The program, by index.
        program: usize,
        /// Middle of its zones.
        share: Share,
    },
    /// The controller shows another run time than is known.
    ControllerShowsMinutes {
        /// As the controller shows.
        shown: Seconds,
        /// As known.
        known: Seconds,
    },
    /// The controller shows another percentage than is known.
    ControllerShowsPercentage {
        /// As the controller shows.
        shown: Percentage,
        /// As known.
        known: Percentage,
    },
    /// The controller shows what is known.
    ControllerAsKnown,
    /// Nobody read the controller.
    ControllerUnread,
    /// The percentage stands since a date.
    PercentageSince(Date),
    /// The percentage against what the weather of these days is to the hottest month.
    PercentageAgainst {
        /// As set.
        set: Percentage,
        /// Reference ET of these days over that of the hottest month.
        weather: Share,
    },
    /// Days between waterings against days until the refill point.
    Gap {
        /// Longest wait, days.
        days: i32,
        /// Days in which the zone that dries first reaches its refill point.
        refill: f64,
    },
    /// The controller shows a program that is on, and none is known.
    ProgramOn(usize),
    /// More starts than are known.
    Starts {
        /// The program.
        program: usize,
        /// As the controller shows, or as set.
        shown: usize,
        /// As known, or as needed.
        known: usize,
    },
    /// The clock of the controller is off.
    ClockOff(Seconds),
    /// The controller is off.
    SwitchedOff,
    /// The controller is on automatic.
    SwitchedOn,
    /// The controller shows a bypass.
    Bypassed,
    /// Sensors are not bypassed.
    NotBypassed,
    /// Runs that the sensors should have held.
    HeldRuns(usize),
    /// Something keeps rain from the sensor.
    Covered,
    /// Heads spray the sensor.
    Sprayed,
    /// The sensor was looked at and is installed in the open.
    HangsFree,
    /// The sensor holds, and by the record it should not.
    HoldsTooLong {
        /// Days since rain that would trip it.
        dry_days: i32,
    },
    /// The sensor does not hold, and by the record it should.
    DoesNotHold,
    /// It says what the record says.
    SensorAsRecord,
    /// Rain that was enough to hold.
    SmallRain {
        /// The threshold.
        threshold: Millimetres,
        /// Runs that were held for less than the common threshold.
        runs: usize,
    },
    /// A probe refused so many of so many windows.
    Refused {
        /// Windows refused.
        windows: usize,
        /// Windows decided.
        of: usize,
    },
    /// The threshold of a probe, percent by volume, against what the soil holds.
    ThresholdAgainst {
        /// As set.
        threshold_pct: f64,
        /// Field capacity.
        full_pct: f64,
        /// Refill point.
        refill_pct: f64,
    },
    /// The zone stands under a roof and was held for rain.
    HeldUnderRoof(usize),
    /// The zone ran while the sensor held the others.
    RanInHold(usize),
    /// Nights of the ET sensor: shown over asked.
    Nights {
        /// Mean of shown over asked.
        ratio: f64,
        /// How far single nights lie from that mean: their coefficient of variation.
        spread: f64,
        /// Nights read.
        nights: usize,
    },
    /// The trim that would set it right.
    TrimNeeded(f64),
    /// A grow-in ended, and the controller is set as before.
    GrowInEnded(Date),
    /// The share of a wean-off now and when the controller was last set.
    WeanStep {
        /// Now.
        now: Share,
        /// When it was last set.
        then: Share,
    },
    /// More water at once than the supply gives: litres a minute asked over given, in percent.
    OverSupply(f64),
    /// Runs lie over each other.
    Overlap(usize),
    /// Readings of the soil say so.
    Reading(Share),
    /// Nothing was seen that is not no change needed.
    AllRight(usize),
}

/// What would settle whether it is so.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Settle {
    /// Start the zone manually and look at its valve and heads.
    RunZone,
    /// Shut the zone's valve and watch the meter.
    WatchMeter,
    /// Set out catch cans.
    Cans,
    /// Read the meter while the zone runs.
    FlowOfZone,
    /// Measure the pressure at the last head.
    Pressure,
    /// Dig, or push a probe.
    Spade,
    /// Look at what grows there.
    LookAtPlants,
    /// Watch one cycle to its end.
    WatchCycle,
    /// Read the controller, program by program.
    ReadController,
    /// Look at the sensor as installed.
    LookAtSensor,
    /// Pour water on the sensor and time how long it holds.
    TripTest,
    /// Compare the readings of the probe with the soil a day after a soaking.
    ProbeTrace,
    /// Write down the percentages of more nights.
    MoreNights,
    /// Nothing more is needed.
    Nothing,
}

/// A cause with how likely it is, and why.
#[derive(Debug, Clone, PartialEq)]
pub struct Suspicion {
    /// The cause.
    pub cause: Cause,
    /// Its controller; `None`: the whole site.
    pub controller_number: Option<u8>,
    /// Its zone, when it is about one.
    pub station: Option<u16>,
    /// Its sensor, when it is about one.
    pub sensor: Option<String>,
    /// Its program, by index, when it is about one.
    pub program: Option<usize>,
    /// Its share of what is likely.
    pub share: Share,
    /// Where it is one to act on: its share of what could explain the same.
    pub of_rivals: Option<Share>,
    /// What speaks for it.
    pub for_it: Vec<Evidence>,
    /// What speaks against it.
    pub against: Vec<Evidence>,
    /// What would settle it.
    pub settle: Settle,
    /// Zones that it explains, by controller and station.
    pub explains: Vec<StationId>,
}

//! Checks of a controller's settings as installed: named findings with their weight, place, cost and,
//! where there is one, the action that mends them.
//!
//! An action is only offered when it was tried: after it the finding is gone and the controller is no
//! worse off elsewhere.

mod need;
mod remedy;
mod sensing;
mod stations;
mod stress;
mod timing;
mod water;

pub use remedy::Remedy;

use super::FaultCount;
use crate::controller::schedule::{ScheduledRun, Settings, expand};
use crate::installation::Installation;
use crate::quantity::month::Month;
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::time::Seconds;
use crate::quantity::units::{Litres, LitresPerMinute, Millimetres};
use jiff::civil::{Date, Time};
use jiff::{Timestamp, ToSpan};

/// Weeks over which runs are looked at.
pub const WEEKS: u16 = 4;

/// Weeks on which an action is tried where they show the finding.
const TRIAL_WEEKS: u16 = 2;

/// How grave a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// The law is broken, the controller cannot do it, or watering fails.
    Fault,
    /// Water or plants are at risk.
    Warning,
    /// Worth knowing.
    Note,
}

/// Where a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum FindingPlace {
    /// The whole controller.
    Controller,
    /// A program, by index.
    Program(usize),
    /// A start of a program, both by index.
    Start(usize, usize),
    /// A station.
    Station(u16),
    /// A station in a program.
    RunTime(usize, u16),
}

impl FindingPlace {
    /// The program it lies in, by index.
    #[must_use]
    pub const fn program(self) -> Option<usize> {
        match self {
            Self::Program(p) | Self::Start(p, _) | Self::RunTime(p, _) => Some(p),
            Self::Controller | Self::Station(_) => None,
        }
    }
}

/// What a finding costs, as far as it can be said.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Cost {
    /// Water a week.
    pub litres_a_week: Option<Litres>,
    /// Minutes a week.
    pub minutes_a_week: Option<f64>,
    /// Days in the weeks looked at.
    pub days: Option<u32>,
}

/// What was found, as facts.
#[derive(Debug, Clone, PartialEq)]
pub enum FindingKind {
    /// The card cannot hold it.
    BeyondCard {
        /// Where, as a path.
        path: String,
        /// What, with the nearest.
        message: String,
    },
    /// More starts than its zones can use: each runs the whole program again.
    RepeatedStarts {
        /// Starts.
        starts: usize,
        /// Starts whose water the zones can use.
        needed: usize,
        /// Stations that these starts do not bring enough: they need longer run times, not another start.
        short: Vec<u16>,
    },
    /// A start waits for another program.
    Queues {
        /// The longest wait, minutes.
        minutes: i64,
        /// The program it waits for.
        behind: usize,
        /// A date on which it does.
        on: Date,
    },
    /// Runs outside the water window.
    OutsideWindow {
        /// The first run outside.
        from: Timestamp,
        /// Its end.
        until: Timestamp,
        /// Its station, whose windows they are.
        station: u16,
    },
    /// Runs on a day that an ordinance forbids.
    ForbiddenDay {
        /// Name of the ordinance.
        ordinance: String,
        /// The first such date.
        on: Date,
    },
    /// Runs in hours that an ordinance forbids.
    ForbiddenHour {
        /// Name of the ordinance.
        ordinance: String,
        /// When it first does.
        at: Timestamp,
    },
    /// More days a week than an ordinance allows.
    TooManyDays {
        /// Name of the ordinance.
        ordinance: String,
        /// Days in the worst week.
        days: u32,
        /// Allowed.
        most: u8,
    },
    /// A station runs for more minutes of a date than an ordinance allows.
    TooManyMinutes {
        /// Name of the ordinance.
        ordinance: String,
        /// Minutes of the worst date.
        minutes: u32,
        /// Allowed.
        most: u16,
    },
    /// Valves that are open together draw more current than the transformer gives.
    TransformerExceeded {
        /// Stations that run together.
        stations: Vec<u16>,
        /// What they draw with master valve and pump relay, mA.
        draws_ma: u32,
        /// What the transformer gives, mA.
        gives_ma: u32,
        /// When they first do.
        at: Timestamp,
    },
    /// Stations ask for more than the supply gives.
    SupplyExceeded {
        /// The stations that run together.
        stations: Vec<u16>,
        /// What they and other controllers take.
        flow: LitresPerMinute,
        /// The part of it that other controllers take.
        elsewhere: LitresPerMinute,
        /// What there is.
        supply: LitresPerMinute,
        /// When first.
        at: Timestamp,
    },
    /// The percentage rounds a run time to nothing.
    RoundsToZero {
        /// The percentage.
        percentage: Percentage,
        /// The months in which it does, where each has its own; empty when it is one all year.
        months: Vec<Month>,
    },
    /// A zone gets more than 130 % of its need over the coming weeks.
    ZoneDrowned {
        /// What it gets of it.
        share: Share,
    },
    /// A zone gets less than 70 % of its need over the coming weeks.
    ZoneShort {
        /// What it gets of it.
        share: Share,
    },
    /// A zone falls below its refill point between waterings, though the amount would do: too seldom for its soil.
    DriesBetween {
        /// Days below it in the weeks looked at.
        days: u32,
        /// Days looked at.
        of: u32,
        /// Demand that is met.
        adequacy: Share,
    },
    /// Watering drains because a dose is more than the root zone can hold, though the amount of a week would do.
    DrainsBetween {
        /// Share of what is applied, net.
        share: Share,
        /// Net depth a week.
        a_week: Millimetres,
    },
    /// A zone has a run time that never runs.
    NeverRuns {
        /// Why.
        because: NeverBecause,
    },
    /// A run lasts into omit times.
    OmittedHours {
        /// When they begin.
        from: Time,
        /// The first run that does.
        first: Timestamp,
    },
    /// A cycle longer than the soil takes before water runs off.
    CycleTooLong {
        /// The longest run.
        run: Seconds,
        /// The limit.
        limit: Seconds,
    },
    /// Two cycles closer than the soak that the soil needs.
    SoakTooShort {
        /// The shortest pause.
        pause: Seconds,
        /// What it needs.
        needed: Seconds,
    },
    /// Minutes on a station without a zone.
    MinutesWithoutZone,
    /// A surveyed zone on a station that is set as lighting: no percentage and no rain hold reaches it.
    LightingIsPlanted,
    /// A zone that no active program waters.
    ZoneWithoutMinutes,
    /// A zone whose station the controller does not have.
    NoStation,
    /// An active program that only repeats what others water.
    HiddenProgram,
    /// An active program that never runs anything.
    EmptyProgram,
    /// Odd dates run on the last and first day of a month's seam.
    OddPair {
        /// The first of the two.
        on: Date,
    },
    /// The percentage pushes the night past sunrise in a month.
    PastSunrise {
        /// The month, January is 1.
        month: Month,
        /// Its percentage.
        percentage: Percentage,
        /// Minutes past sunrise (or the window's end, if that is later).
        minutes: i64,
    },
    /// A start in the hour that a clock change repeats or removes.
    ClockChange {
        /// The date.
        on: Date,
        /// Whether the hour is removed; it is repeated otherwise.
        removed: bool,
    },
    /// A controller that takes daily run times has none to fall back on for a zone.
    NoFallbackMinutes,
    /// The controller opens a master valve for some stations but not for this one.
    NoMasterValve,
    /// A sensor stops a zone that does not feel what it feels.
    StoppedUnfelt {
        /// Name of the sensor.
        sensor: String,
        /// Why it must not.
        why: crate::sensors::mapping::Why,
    },
    /// A station ignores a sensor that should stop it.
    IgnoresSensor {
        /// Name of the sensor.
        sensor: String,
    },
    /// A sensor cannot be joined to the controller.
    SensorNotWired {
        /// Name of the sensor.
        sensor: String,
        /// Why.
        refusal: crate::sensors::wiring::Refusal,
    },
    /// The cycle window of a soil probe is shorter than the schedule needs.
    WindowTooShort {
        /// Name of the sensor.
        sensor: String,
        /// As set, minutes.
        set_min: u32,
        /// The longest day's cycle and an hour, minutes.
        needed_min: i64,
    },
}

/// Why a run time never runs, the nearest to running first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum NeverBecause {
    /// All its days are no-water days of the controller.
    NeverDays,
    /// All its starts lie in omit times.
    OmittedHours,
    /// Its percentage is nought.
    ZeroPercent,
    /// It counts days from one that lies beyond the weeks looked at.
    BeginsLater,
    /// It has no day.
    NoDay,
    /// It has no start time.
    NoStart,
    /// Its program is off.
    Off,
}

/// A finding.
#[derive(Debug, Clone, PartialEq)]
pub struct Finding {
    /// What.
    pub kind: FindingKind,
    /// How grave.
    pub severity: Severity,
    /// Where.
    pub place: FindingPlace,
    /// What it costs.
    pub cost: Cost,
    /// The action that mends it, if one was found to.
    pub remedy: Option<Remedy>,
}

impl FindingKind {
    /// Its short name.
    #[must_use]
    pub fn code(&self) -> &'static str {
        match self {
            Self::BeyondCard { .. } => "beyond-card",
            Self::RepeatedStarts { .. } => "repeated-starts",
            Self::Queues { .. } => "queues",
            Self::OutsideWindow { .. } => "outside-window",
            Self::ForbiddenDay { .. } => "forbidden-day",
            Self::ForbiddenHour { .. } => "forbidden-hour",
            Self::TooManyDays { .. } => "too-many-days",
            Self::TooManyMinutes { .. } => "too-many-minutes",
            Self::TransformerExceeded { .. } => "transformer-exceeded",
            Self::SupplyExceeded { .. } => "supply-exceeded",
            Self::RoundsToZero { .. } => "rounds-to-zero",
            Self::ZoneDrowned { .. } => "zone-drowned",
            Self::ZoneShort { .. } => "zone-short",
            Self::DriesBetween { .. } => "dries-between",
            Self::DrainsBetween { .. } => "drains-between",
            Self::NeverRuns { .. } => "never-runs",
            Self::OmittedHours { .. } => "omitted-hours",
            Self::CycleTooLong { .. } => "cycle-too-long",
            Self::SoakTooShort { .. } => "soak-too-short",
            Self::MinutesWithoutZone => "minutes-without-zone",
            Self::LightingIsPlanted => "lighting-is-planted",
            Self::ZoneWithoutMinutes => "zone-without-minutes",
            Self::NoStation => "no-station",
            Self::HiddenProgram => "hidden-program",
            Self::EmptyProgram => "empty-program",
            Self::OddPair { .. } => "odd-pair",
            Self::PastSunrise { .. } => "past-sunrise",
            Self::ClockChange { .. } => "clock-change",
            Self::NoFallbackMinutes => "no-fallback-minutes",
            Self::NoMasterValve => "no-master-valve",
            Self::StoppedUnfelt { .. } => "stopped-unfelt",
            Self::IgnoresSensor { .. } => "ignores-sensor",
            Self::SensorNotWired { .. } => "sensor-not-wired",
            Self::WindowTooShort { .. } => "window-too-short",
        }
    }
}

impl Finding {
    fn new(kind: FindingKind, severity: Severity, place: FindingPlace) -> Self {
        Self { kind, severity, place, cost: Cost::default(), remedy: None }
    }

    fn costing(mut self, cost: Cost) -> Self {
        self.cost = cost;
        self
    }

    /// A name that stays the same while the finding does, such as `queues-p1-s0`.
    #[must_use]
    pub fn id(&self) -> String {
        let code = self.kind.code();
        match self.place {
            FindingPlace::Controller => match &self.kind {
                FindingKind::BeyondCard { path, .. } => format!("{code}-{path}"),
                FindingKind::SensorNotWired { sensor, .. } | FindingKind::WindowTooShort { sensor, .. } => {
                    format!("{code}-{sensor}")
                }
                _ => code.to_owned(),
            },
            FindingPlace::Program(p) => format!("{code}-p{p}"),
            FindingPlace::Start(p, s) => format!("{code}-p{p}-s{s}"),
            FindingPlace::Station(n) => format!("{code}-n{n}"),
            FindingPlace::RunTime(p, n) => format!("{code}-p{p}-n{n}"),
        }
    }
}

/// Runs of the weeks looked at, with what the checks share.
struct CheckedRuns<'a> {
    installation: &'a Installation,
    settings: &'a Settings,
    from: Date,
    weeks: u16,
    /// Runs that water; lighting is left out.
    runs: Vec<ScheduledRun>,
}

impl CheckedRuns<'_> {
    fn to(&self) -> Date {
        last_day(self.from, self.weeks)
    }

    /// Cost of some runs, by the week.
    fn cost<'r>(&self, runs: impl Iterator<Item = &'r ScheduledRun> + Clone) -> Cost {
        let mut dates: Vec<Date> = runs.clone().map(|r| r.date).collect();
        dates.sort_unstable();
        dates.dedup();
        let weeks = f64::from(self.weeks);
        let minutes = runs.clone().map(ScheduledRun::length).sum::<Seconds>().minutes().min_value() / weeks;
        Cost {
            litres_a_week: self.installation.volume(runs).map(|v| v * (1.0 / weeks)),
            minutes_a_week: Some(minutes),
            days: u32::try_from(dates.len()).ok(),
        }
    }

    fn of_program(&self, program: usize) -> impl Iterator<Item = &ScheduledRun> + Clone {
        self.runs.iter().filter(move |r| r.program == program)
    }
}

fn last_day(from: Date, weeks: u16) -> Date {
    from.checked_add((i32::from(weeks) * 7 - 1).days()).unwrap_or(from)
}

/// Everything found in some weeks, without the actions.
fn look(installation: &Installation, settings: &Settings, from: Date, weeks: u16) -> Vec<Finding> {
    let mut runs = expand(settings, &installation.card, &installation.tz, from, last_day(from, weeks));
    let lights: Vec<u16> = settings.stations.iter().filter(|(_, s)| s.lighting).map(|(n, _)| *n).collect();
    runs.retain(|run| !lights.contains(&run.station));
    let look = CheckedRuns { installation, settings, from, weeks, runs };
    let mut findings = Vec::new();
    stations::find(&look, &mut findings);
    water::find(&look, &mut findings);
    need::find(&look, &mut findings);
    stress::find(&look, &mut findings);
    timing::find(&look, &mut findings);
    sensing::find(&look, &mut findings);
    findings.sort_by_key(|f| (f.severity, f.place, f.kind.code()));
    findings
}

/// All but this share of a program's minutes lies in hours in which it must not run, and it is wrong in itself.
const ALL_BUT: f64 = 0.02;

/// The programs that are wrong in themselves, each with the finding that says so: one that only repeats what others
/// water, and one whose runs all lie outside the water window or in forbidden hours. No percentage mends those.
#[must_use]
pub fn wrong_programs(installation: &Installation, settings: &Settings, from: Date) -> Vec<Finding> {
    let runs = expand(settings, &installation.card, &installation.tz, from, last_day(from, TRIAL_WEEKS));
    let minutes = |program: usize| {
        let own = runs.iter().filter(|r| r.program == program && !settings.station(r.station).lighting);
        own.map(ScheduledRun::length).sum::<Seconds>().minutes().min_value() / f64::from(TRIAL_WEEKS)
    };
    let wrong = |finding: &Finding| match (&finding.kind, finding.place.program()) {
        (FindingKind::HiddenProgram, _) => true,
        (FindingKind::OutsideWindow { .. } | FindingKind::ForbiddenHour { .. }, Some(program)) => {
            finding.cost.minutes_a_week.is_some_and(|m| m > 0.0 && m >= (1.0 - ALL_BUT) * minutes(program))
        }
        _ => false,
    };
    let mut out: Vec<Finding> = Vec::new();
    for finding in look(installation, settings, from, TRIAL_WEEKS).into_iter().filter(wrong) {
        let program = finding.place.program();
        match out.iter_mut().find(|known| known.place.program() == program) {
            // That it is a second program over the same zones says more than the hours at which it runs.
            Some(known) if finding.kind == FindingKind::HiddenProgram => *known = finding,
            Some(_) => {}
            None => out.push(finding),
        }
    }
    out
}

/// How bad a controller is: faults first, then warnings. What a zone gets of its need is left out: an action mends how the
/// controller runs, and minutes and percentages are the planner's and the budget's.
fn score(findings: &[Finding]) -> FaultCount {
    let of_need = |f: &&Finding| {
        matches!(
            f.kind,
            FindingKind::ZoneDrowned { .. }
                | FindingKind::ZoneShort { .. }
                | FindingKind::DriesBetween { .. }
                | FindingKind::DrainsBetween { .. }
        )
    };
    let weighed = findings.iter().filter(|f| !of_need(f));
    let count = |severity| weighed.clone().filter(|f| f.severity == severity).count();
    FaultCount { faults: count(Severity::Fault), warnings: count(Severity::Warning) }
}

/// Findings whose actions are tried when they are asked for: trying them takes most of a check's time.
pub(crate) struct Checked<'a> {
    look_at: (&'a Installation, &'a Settings, Date),
    findings: Vec<Finding>,
    /// What the shorter time shows.
    soon: Vec<Finding>,
}

impl<'a> Checked<'a> {
    /// What is found from a date on, the gravest first.
    pub fn of(installation: &'a Installation, settings: &'a Settings, from: Date) -> Self {
        let of = |weeks| look(installation, settings, from, weeks);
        Self { look_at: (installation, settings, from), findings: of(WEEKS), soon: of(TRIAL_WEEKS) }
    }

    /// The findings, without their actions.
    pub fn findings(&self) -> &[Finding] {
        &self.findings
    }

    /// The action that mends one of them. Most can be tried on half the time; what only shows later needs it all. What
    /// passes is then tried on all the weeks that were looked at: it is gone there too, and nothing worse has come.
    pub fn remedy(&self, finding: &Finding) -> Option<Remedy> {
        let (installation, settings, from) = self.look_at;
        let whole = score(&self.findings);
        let id = finding.id();
        let shows_soon = self.soon.iter().any(|f| f.id() == id);
        let (weeks, before) = if shows_soon { (TRIAL_WEEKS, score(&self.soon)) } else { (WEEKS, whole) };
        remedy::candidates(installation, settings, finding, from).into_iter().find(|remedy| {
            let remedied = remedy.apply(installation, settings);
            let after = look(installation, &remedied, from, weeks);
            let gone = |after: &[Finding]| after.iter().all(|f| f.id() != id);
            let better =
                score(&after) < before || finding.severity == Severity::Note && score(&after) == before;
            let holds = || {
                let after = look(installation, &remedied, from, WEEKS);
                gone(&after) && score(&after) <= whole
            };
            gone(&after) && better && (weeks == WEEKS || holds())
        })
    }
}

/// Checks a controller from a date on: the gravest findings first, each with the action that mends it.
#[must_use]
pub fn check(installation: &Installation, settings: &Settings, from: Date) -> Vec<Finding> {
    let mut checked = Checked::of(installation, settings, from);
    let offers: Vec<Option<Remedy>> =
        checked.findings.iter().map(|finding| checked.remedy(finding)).collect();
    for (finding, remedy) in checked.findings.iter_mut().zip(offers) {
        finding.remedy = remedy;
    }
    checked.findings
}

/// How many faults and warnings the checks find in settings of a controller from a date on.
#[must_use]
pub fn faults(installation: &Installation, settings: &Settings, from: Date) -> FaultCount {
    score(&look(installation, settings, from, WEEKS))
}

#[cfg(test)]
mod tests;

//! A search for the way that keeps every zone at enough with the least water, inside the law and the water window.
//!
//! One thing after another is varied, and what is best so far is kept: the rhythm and the grouping, the percentages,
//! the threshold of the rain switches, and round again until nothing betters it. For each, the run time of every zone
//! is found by halving: the shortest, in the steps of the controller, that still gives the zone enough. So it finds a good
//! way, not provably the best; it says how many it tried. The same facts give the same way.

use super::run::{WayResult, run_mean};
use super::way::{Change, Refusal, Schedule, SensorChange, TrialWay};
use super::{PercentageRule, apply};
use crate::account::running::ControllerFacts;
use crate::account::site_account::AccountInputs;
use crate::advice::planner::{LEAST_RUN_MIN, Strategy};
use crate::advice::rain_replay::steps;
use crate::controller::PercentageScope;
use crate::controller::schedule::{Days, Percentages, Settings};
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::span::DateSpan;
use crate::quantity::time::Seconds;
use crate::quantity::units::{Millimetres, Minutes};
use crate::sensors::Sense;
use crate::site::SurveyedZone;
use std::collections::BTreeMap;
use std::ops::ControlFlow;

/// What may change; all else is held as it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Space {
    /// Percentages: as they are, 100 %, and twelve where the controller holds a value a month.
    pub percentages: bool,
    /// Days: every day to every seventh, for all programs alike.
    pub days: bool,
    /// Thresholds of the rain switches, all alike.
    pub thresholds: bool,
    /// Run times, zone by zone.
    pub minutes: bool,
    /// Which zones share a program, with the days and starts that the strategies of the planner give them.
    pub grouping: bool,
}

impl Space {
    /// Everything.
    pub const ALL: Self =
        Self { percentages: true, days: true, thresholds: true, minutes: true, grouping: true };
}

/// What is searched for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Goal {
    /// Share of its demand that every zone gets at least.
    pub adequacy: Share,
}

/// How far a search is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Progress {
    /// Seasons that were run.
    pub runs: usize,
    /// Schedules that were fitted.
    pub tried: usize,
    /// Of at most so many.
    pub of: usize,
    /// Water of the best so far over what it is now; `None` while none keeps to law and window.
    pub best: Option<f64>,
}

/// What was found.
#[derive(Debug, Clone, PartialEq)]
pub struct Found {
    /// The best way; `None` when none that was tried keeps to law and window.
    pub way: Option<(TrialWay, WayResult)>,
    /// The controller as it is set.
    pub now: WayResult,
    /// How far it got.
    pub progress: Progress,
    /// Whether it went to its end.
    pub complete: bool,
}

/// Run times are halved so often.
const HALVINGS: usize = 7;
/// The longest run time that is looked at, over that of the schedule.
const MOST_FACTOR: f64 = 2.5;
/// Rounds over everything that may change.
const ROUNDS: usize = 2;
/// Longest interval of days.
const LONGEST_INTERVAL: u8 = 7;
/// Shares that differ by less are alike.
const ALIKE: f64 = 0.001;

/// Something to fit.
#[derive(Debug, Clone, PartialEq)]
struct Candidate {
    settings: Settings,
    threshold: Option<Millimetres>,
}

/// How good a way is: first what zones lack of enough, then the water.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Worth {
    lack: f64,
    water: f64,
}

impl Worth {
    fn beats(self, other: Self) -> bool {
        self.lack < other.lack - ALIKE
            || ((self.lack - other.lack).abs() <= ALIKE && self.water < other.water * (1.0 - ALIKE))
    }
}

struct Search<'a, F> {
    facts: &'a AccountInputs,
    own: &'a ControllerFacts,
    span: DateSpan,
    space: Space,
    goal: Goal,
    now: WayResult,
    best: Option<(Candidate, WayResult, Worth)>,
    progress: Progress,
    each: F,
}

/// Searches a way for one controller of a site over some days. `each` is told how far it is, and may break it off: then the
/// best so far is given.
///
/// # Errors
/// When the controller cannot be tried as it is set.
pub fn search<F: FnMut(&Progress) -> ControlFlow<()>>(
    facts: &AccountInputs,
    controller_number: u8,
    span: DateSpan,
    space: Space,
    goal: Goal,
    each: F,
) -> Result<Found, Vec<Refusal>> {
    let alone = facts.only_controller(controller_number);
    let Some(own) = alone.controllers.first().cloned() else {
        return Err(vec![Refusal::NoController { controller_number }]);
    };
    let as_set = TrialWay { name: "as-set".into(), ..TrialWay::default() };
    let (applied, _) = apply(&as_set, &alone, span)?;
    let settings = applied.controllers.first().and_then(|own| own.versions.first()).map(|(_, s)| s.clone());
    let Some(settings) = settings else { return Err(vec![Refusal::Unset { controller_number }]) };
    let now = run_mean(&as_set, &alone, span, None)?;
    let progress = Progress { runs: 1, tried: 0, of: 0, best: None };
    let mut search = Search { facts: &alone, own: &own, span, space, goal, now, best: None, progress, each };
    search.progress.of = search.most();
    let flow = search.go(&Candidate { settings, threshold: None });
    let way = search.best.take().map(|(candidate, result, _)| (search.way(&candidate), result));
    Ok(Found { way, now: search.now, progress: search.progress, complete: flow.is_continue() })
}

impl<F: FnMut(&Progress) -> ControlFlow<()>> Search<'_, F> {
    /// Most candidates of all rounds.
    fn most(&self) -> usize {
        let rhythms = if self.space.days { usize::from(self.longest_interval()) } else { 0 };
        let schools = if self.space.grouping { Strategy::ALL.len() - 1 } else { 0 };
        let percentages = if self.space.percentages { 2 } else { 0 };
        1 + ROUNDS * (rhythms + schools + percentages + self.thresholds().len())
    }

    fn longest_interval(&self) -> u8 {
        self.own.card.day_modes.longest_interval.min(LONGEST_INTERVAL)
    }

    /// Steps of the rain switches of the controller.
    fn thresholds(&self) -> Vec<Millimetres> {
        let rain = self.own.sensors.iter().find(|s| s.sensor.card.senses(Sense::Rain));
        rain.filter(|_| self.space.thresholds).map_or_else(Vec::new, |s| steps(&s.sensor.card))
    }

    fn go(&mut self, present: &Candidate) -> ControlFlow<()> {
        self.consider(present.clone())?;
        for _ in 0..ROUNDS {
            let before = self.best.as_ref().map(|(_, _, worth)| *worth);
            for candidate in self.schedules(present) {
                self.consider(candidate)?;
            }
            for candidate in self.percentages(present) {
                self.consider(candidate)?;
            }
            for threshold in self.thresholds() {
                let from = self.from(present);
                self.consider(Candidate { threshold: Some(threshold), ..from })?;
            }
            // A round that bettered nothing would come to the same again.
            if before == self.best.as_ref().map(|(_, _, worth)| *worth) {
                break;
            }
        }
        ControlFlow::Continue(())
    }

    /// What the next candidates start from: the best so far, else the present.
    fn from(&self, present: &Candidate) -> Candidate {
        self.best.as_ref().map_or_else(|| present.clone(), |(candidate, ..)| candidate.clone())
    }

    /// Other days, and other groupings.
    fn schedules(&self, present: &Candidate) -> Vec<Candidate> {
        let from = self.from(present);
        let mut all = Vec::new();
        if self.space.days {
            for interval in 1..=self.longest_interval() {
                let mut settings = from.settings.clone();
                for program in settings.programs.iter_mut().filter(|p| p.waters()) {
                    program.days = Days::EveryNth { interval, first: self.span.first };
                }
                all.push(Candidate { settings, ..from.clone() });
            }
        }
        if self.space.grouping {
            for school in Strategy::ALL.into_iter().filter(|s| *s != Strategy::SoilBalance) {
                let way = TrialWay { schedule: Schedule::School(school), ..TrialWay::default() };
                let planned = apply(&way, self.facts, self.span).ok();
                let planned = planned
                    .and_then(|(tried, _)| Some(tried.controllers.first()?.versions.first()?.1.clone()));
                all.extend(planned.map(|settings| Candidate { settings, ..from.clone() }));
            }
        }
        all
    }

    /// Other percentages.
    fn percentages(&self, present: &Candidate) -> Vec<Candidate> {
        if !self.space.percentages {
            return Vec::new();
        }
        let from = self.from(present);
        let card = &self.own.card;
        let hundred = card.nearest_percentage(Percentage::HUNDRED);
        let level =
            Settings { percentages: from.settings.percentages.all_at(hundred), ..from.settings.clone() };
        let mut all = vec![Candidate { settings: level, ..from }];
        if card.percentage_scope == PercentageScope::Month {
            let schedule = Schedule::Settings(vec![(self.own.number, from.settings.clone())]);
            let way = TrialWay { schedule, percentages: PercentageRule::Monthly, ..TrialWay::default() };
            let found = apply(&way, self.facts, self.span).ok();
            let found =
                found.and_then(|(tried, _)| Some(tried.controllers.first()?.versions.first()?.1.clone()));
            let monthly = found.filter(|s| matches!(s.percentages, Percentages::Month(_)));
            all.extend(monthly.map(|settings| Candidate { settings, ..from.clone() }));
        }
        all
    }

    fn way(&self, candidate: &Candidate) -> TrialWay {
        let change = |threshold: Millimetres| {
            let rain = self.own.sensors.iter().filter(|s| s.sensor.card.senses(Sense::Rain));
            rain.map(move |s| SensorChange {
                controller_number: self.own.number,
                name: s.sensor.name.clone(),
                change: Change::RainThreshold(threshold),
            })
        };
        TrialWay {
            name: "searched".into(),
            schedule: Schedule::Settings(vec![(self.own.number, candidate.settings.clone())]),
            sensors: candidate.threshold.into_iter().flat_map(change).collect(),
            ..TrialWay::default()
        }
    }

    /// A season of a candidate; `None` when it cannot be tried. Breaks off when it is told to.
    fn season(&mut self, candidate: &Candidate) -> ControlFlow<(), Option<WayResult>> {
        self.progress.runs += 1;
        (self.each)(&self.progress)?;
        ControlFlow::Continue(run_mean(&self.way(candidate), self.facts, self.span, None).ok())
    }

    /// Fits a candidate and keeps it when it is the best.
    fn consider(&mut self, candidate: Candidate) -> ControlFlow<()> {
        let fitted = if self.space.minutes { self.fitted(candidate)? } else { Some(candidate) };
        self.progress.tried += 1;
        let Some(fitted) = fitted else { return ControlFlow::Continue(()) };
        let Some(result) = self.season(&fitted)? else { return ControlFlow::Continue(()) };
        if !self.keeps_to_law_and_window(&result) {
            return ControlFlow::Continue(());
        }
        let worth = self.worth(&result);
        if self.best.as_ref().is_none_or(|(_, _, best)| worth.beats(*best)) {
            let now = self.worth(&self.now).water;
            self.progress.best = (now > 0.0).then(|| worth.water / now);
            self.best = Some((fitted, result, worth));
        }
        ControlFlow::Continue(())
    }

    /// No run is forbidden, and none lies outside the window beyond those that do now: some controllers must water by day.
    fn keeps_to_law_and_window(&self, result: &WayResult) -> bool {
        let outside = |of: &WayResult| of.zones.iter().map(|z| z.outside).sum::<u32>();
        result.zones.iter().all(|zone| zone.forbidden == 0) && outside(result) <= outside(&self.now)
    }

    fn worth(&self, result: &WayResult) -> Worth {
        let lack = |share: Share| (self.goal.adequacy.fraction() - share.fraction()).max(0.0);
        let water = result.zones.iter().map(|z| z.litres.map_or(z.applied.mm(), |l| l.l()));
        Worth { lack: result.zones.iter().map(|z| lack(z.adequacy())).sum(), water: water.sum() }
    }

    /// The same schedule with the shortest run times that give every zone enough. A zone that never has enough keeps
    /// its run time.
    fn fitted(&mut self, candidate: Candidate) -> ControlFlow<(), Option<Candidate>> {
        let mut brackets: BTreeMap<u16, (f64, f64)> = self
            .facts
            .zones
            .iter()
            .map(|SurveyedZone { zone, .. }| (zone.number, (0.0, MOST_FACTOR)))
            .collect();
        for _ in 0..HALVINGS {
            let middle = brackets.iter().map(|(n, (low, high))| (*n, (low + high) / 2.0)).collect();
            let Some(result) = self.season(&self.scaled(&candidate, &middle))? else {
                return ControlFlow::Continue(None);
            };
            for zone in &result.zones {
                let Some(own) = brackets.get_mut(&zone.station) else { continue };
                let at = (own.0 + own.1) / 2.0;
                let enough = zone.adequacy() >= self.goal.adequacy;
                *own = if enough { (own.0, at) } else { (at, own.1) };
            }
        }
        // A zone that has enough without any run, because rain keeps it, is dropped.
        let without = brackets.keys().map(|n| (*n, 0.0)).collect();
        let dry = self.season(&self.scaled(&candidate, &without))?;
        let kept_by_rain = |station: u16| {
            let zone = dry.iter().flat_map(|result| &result.zones).find(|z| z.station == station);
            zone.is_some_and(|zone| zone.adequacy() >= self.goal.adequacy)
        };
        let factor = |station: u16, high: f64| match high {
            _ if kept_by_rain(station) => 0.0,
            high if high >= MOST_FACTOR => 1.0,
            high => high,
        };
        let factors = brackets.iter().map(|(n, (_, high))| (*n, factor(*n, *high))).collect();
        ControlFlow::Continue(Some(self.scaled(&candidate, &factors)))
    }

    /// A candidate with the run times of its stations scaled, up to the next step of the controller and never below the least
    /// run; by nought, without them.
    fn scaled(&self, candidate: &Candidate, factors: &BTreeMap<u16, f64>) -> Candidate {
        let card = &self.own.card;
        let mut settings = candidate.settings.clone();
        let times = settings
            .programs
            .iter_mut()
            .filter(|p| p.active && p.repeat.is_none())
            .flat_map(|p| p.run_times.iter_mut());
        for (station, run_time) in times {
            let Some(factor) = factors.get(station).filter(|_| run_time.any()) else { continue };
            if *factor <= 0.0 {
                *run_time = Seconds::ZERO;
                continue;
            }
            let wanted = Seconds::of(run_time.minutes() * *factor, f64::ceil);
            // A run time that is shorter already stays as it is: somebody set it so.
            let least = Seconds::of(Minutes::from_min(LEAST_RUN_MIN), f64::round).min(*run_time);
            let steps = wanted.max(least).steps_up(card.run_step).max(1);
            *run_time = Seconds::from_s(steps * card.run_step.s()).min(card.longest_run);
        }
        Candidate { settings, ..candidate.clone() }
    }
}

//! From need to a schedule: which zones share a program, on which days, for how long, in how many
//! cycles, and when each start must be so that the night ends with the window.
//!
//! A [`Strategy`] says how a schedule is planned. The planner is deterministic: the same controller, present
//! settings and date give the same proposal. When nothing fits it says which limit binds and the
//! smallest relaxations that would do.

mod allowed_days;
mod block;
mod bound;
mod date_minutes;
mod group;
mod holding;
mod months;
mod place;
mod relax;

pub use date_minutes::DateMinutes;
pub use group::LEAST_RUN_MIN;
pub use holding::{Ends, holds_until};
pub use relax::{Relaxation, relaxations};

use crate::controller::schedule::{Days, Settings};
use crate::controller::{Card, Overlap};
use crate::ground::application::Cycles;
use crate::ground::application::DEEP_WATERING_MM;
use crate::installation::Installation;
use crate::installation::waterings_a_day;
use crate::quantity::month::Month;
use crate::quantity::units::{LitresPerMinute, Millimetres, Minutes};
use date_minutes::keeps_dates;
use jiff::ToSpan;
use jiff::civil::{Date, Time};

/// A strategy of watering.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Strategy {
    /// 25 mm once a week.
    DeepOnce,
    /// Half of that twice a week.
    DeepTwice,
    /// The fewest allowed days that keep every zone above its refill point, minimum days.
    JustNeed,
    /// Every allowed day, and a soil-moisture sensor refuses what is not needed.
    EveryDay,
    /// Each zone when its root zone reaches the refill point.
    SoilBalance,
}

impl Strategy {
    /// All, in the order of the list.
    pub const ALL: [Self; 5] =
        [Self::JustNeed, Self::SoilBalance, Self::EveryDay, Self::DeepTwice, Self::DeepOnce];

    /// The default for a controller: soil balance where it takes new run times every day, else just the
    /// need on allowed days.
    #[must_use]
    pub fn default_for(card: &Card) -> Self {
        if card.daily_run_times { Self::SoilBalance } else { Self::JustNeed }
    }

    /// Waterings a week and the net depth of each that the strategy fixes; a zone that needs less gets its need.
    fn fixed_depth(self) -> Option<(u32, Millimetres)> {
        match self {
            Self::DeepOnce => Some((1, Millimetres::from_mm(DEEP_WATERING_MM))),
            Self::DeepTwice => Some((2, Millimetres::from_mm(DEEP_WATERING_MM / 2.0))),
            _ => None,
        }
    }
}

/// Limits taken less strictly than they stand, to see what would do.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Relax {
    /// The window opens at this time instead.
    pub window_from: Option<Time>,
    /// So many more allowed days a week.
    pub extra_days: u8,
    /// Only this share of the water, percent; `None` is all of it.
    pub share_pct: Option<u8>,
    /// The supply gives this much.
    pub supply: Option<LitresPerMinute>,
    /// So many more programs on the controller.
    pub extra_programs: u8,
    /// Drip shares no program with others, even where these then share one with less in common.
    pub drip_apart: bool,
    /// How the minutes are kept that a law gives a date.
    pub date_minutes: DateMinutes,
}

/// What a plan is made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Basis {
    /// The coming weeks.
    #[default]
    Coming,
    /// A month: its demand and its law.
    Month(Month),
    /// The whole year: the demand of the month in which the controller's plants use most, days and hours that the law
    /// allows in every season.
    Year,
}

/// Days on end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Span {
    first: Date,
    days: i64,
}

impl Span {
    fn dates(self) -> impl Iterator<Item = Date> {
        (0..self.days).filter_map(move |k| self.first.checked_add(k.days()).ok())
    }
}

/// One way of making a plan.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Attempt {
    /// So many rhythms more frequent than the strategy asks for, which makes each night shorter.
    steps: usize,
    /// Most waterings a day, for root zones that do not bear a whole one.
    waterings: u32,
    /// Alike zones are split over so many programs that run side by side.
    abreast: usize,
    /// Zones, by their place among those that are planned, that run every other day while the others run more often: a bit
    /// each. What the controller's steps round up then may just fit.
    alternate: u32,
}

/// What a plan starts from.
#[derive(Debug, Clone, Copy)]
pub struct Request<'a> {
    /// The controller.
    pub installation: &'a Installation,
    /// Its present settings: what is not about watering by need (lighting, pulses, pauses, master
    /// valve, off-season) is kept.
    pub present: &'a Settings,
    /// The strategy.
    pub strategy: Strategy,
    /// First day.
    pub from: Date,
    /// What it is made for.
    pub basis: Basis,
    /// Limits to relax.
    pub relax: Relax,
}

/// Days looked at for a plan of the coming weeks: eight weeks hold every parity of every weekday.
const COMING_DAYS: i64 = 56;

impl Request<'_> {
    /// The days that the plan is made for.
    fn span(&self) -> Span {
        match self.basis {
            Basis::Coming => Span { first: self.from, days: COMING_DAYS },
            Basis::Year => Span { first: self.from, days: 366 },
            Basis::Month(month) => {
                let first = first_of(month, self.from);
                Span { first, days: i64::from(first.days_in_month()) }
            }
        }
    }

    /// The first day of the time that is planned for.
    #[must_use]
    pub fn first_day(&self) -> Date {
        self.span().first
    }

    /// The controller with the limits relaxed and the demand of the time that is planned for.
    #[must_use]
    pub fn planned_for(&self) -> Installation {
        self.planned_in(self.month())
    }

    /// The same when the month is known: a year looks at twelve to find it.
    fn planned_in(&self, month: Month) -> Installation {
        let own = loosened(self.installation, &self.relax);
        match self.basis {
            Basis::Coming => own,
            Basis::Month(_) | Basis::Year => own.in_month(first_of(month, self.from)),
        }
    }

    /// The month whose demand the run times are made for.
    #[must_use]
    pub fn month(&self) -> Month {
        match self.basis {
            Basis::Coming => Month::of(self.from),
            Basis::Month(month) => month,
            Basis::Year => {
                let total = |month: &Month| {
                    let there = self.installation.in_month(first_of(*month, self.from));
                    there.zones.iter().map(|z| z.demand.mm()).sum::<f64>()
                };
                let most = Month::ALL.into_iter().rev().max_by(|a, b| total(a).total_cmp(&total(b)));
                most.unwrap_or(Month::July)
            }
        }
    }
}

/// The first day of the month that a date lies in, else of its next one.
fn first_of(month: Month, from: Date) -> Date {
    let mut first = from.first_of_month();
    while Month::of(first) != month {
        let Ok(next) = first.checked_add(1.month()) else { break };
        first = next;
    }
    first
}

/// Why a program is as it is.
#[derive(Debug, Clone, PartialEq)]
pub struct ProgramReason {
    /// Index of the program.
    pub program: usize,
    /// Its stations.
    pub stations: Vec<u16>,
    /// Its days.
    pub days: Days,
    /// Days a week on which it runs.
    pub events_a_week: f64,
    /// Waterings on each of them, and the minutes from one to the next.
    pub waterings: (u32, u32),
    /// Longest wait, days.
    pub gap_days: u32,
    /// The zone that needs water soonest, with the days it can wait.
    pub tightest: Option<(u16, f64)>,
    /// The wait is longer than that zone can bear: no allowed pattern is tighter.
    pub strained: bool,
    /// Zones share a program because the controller has too few for each rhythm.
    pub merged: bool,
    /// The zones are spread over this many sets of nights, because one night cannot hold them.
    pub spread_over: usize,
    /// Its soaks are filled by the runs of programs of another rhythm.
    pub interleaved: bool,
    /// Longest night of the program, minutes, soaks included.
    pub span_minutes: u32,
}

/// Why a zone gets what it gets.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneReason {
    /// Station.
    pub station: u16,
    /// Net depth of one watering.
    pub net: Millimetres,
    /// Run time that it takes, before rounding.
    pub run_time: Minutes,
    /// As the controller is told it.
    pub cycles: Cycles,
    /// The controller has too few starts for all its cycles; this much run time is left out each time.
    pub short_by: Option<Minutes>,
    /// Its program starts so often that the shortest run times bring more than is needed.
    pub starts_too_many: Option<u32>,
    /// The law allows fewer minutes a day; this much run time is left out each time.
    pub unlawful: Option<Minutes>,
}

/// A plan that fits.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposal {
    /// The settings.
    pub settings: Settings,
    /// By program.
    pub programs: Vec<ProgramReason>,
    /// By zone.
    pub zones: Vec<ZoneReason>,
    /// Programs that were kept as they are: lighting and pulses.
    pub kept: Vec<usize>,
    /// Zones that only a kept program waters.
    pub left_to_kept: Vec<u16>,
    /// Zones that need no water in that time: they get no minutes.
    pub without_need: Vec<u16>,
    /// The month whose demand the run times are made for.
    pub month: Month,
    /// The zones run on more days than the strategy asks for, because its nights would be too long.
    pub more_days: bool,
}

/// What a plan cannot get past.
#[derive(Debug, Clone, PartialEq)]
pub enum Binding {
    /// There are no zones to plan for.
    NoZones,
    /// No zone needs water in that time that nothing else gives it.
    NoNeed,
    /// The window is too short.
    Window {
        /// Minutes that a night needs.
        needed_minutes: u32,
        /// Minutes there are, forbidden hours taken off.
        have_minutes: u32,
        /// No schedule of this controller can be shorter: the figure is a bound. Else it is the shortest that was found.
        proved: bool,
    },
    /// Law, never-days and card leave no day for a zone.
    NoDay {
        /// The zone.
        station: u16,
    },
    /// One zone alone takes more than the supply gives.
    Supply {
        /// The zone.
        station: u16,
        /// What it takes.
        flow: LitresPerMinute,
        /// What there is.
        supply: LitresPerMinute,
    },
    /// The zone's station is not on the controller.
    NoStation {
        /// The zone.
        station: u16,
    },
    /// Every program of the controller is taken by lighting and pulses.
    NoProgram,
}

/// Plans a controller.
///
/// # Errors
/// The limit that binds, when nothing fits; see [`relaxations`] for what would do.
pub fn plan(request: &Request<'_>) -> Result<Proposal, Binding> {
    let proposal = planned(request)?;
    if request.relax.date_minutes != DateMinutes::ByNight || keeps_dates(request, &proposal) {
        return Ok(proposal);
    }
    let stricter = |date_minutes| {
        let relax = Relax { date_minutes, ..request.relax };
        planned(&Request { relax, ..*request }).ok().filter(|found| keeps_dates(request, found))
    };
    let found = [DateMinutes::OneSide, DateMinutes::Half].into_iter().find_map(stricter);
    Ok(found.unwrap_or(proposal))
}

/// A plan whose nights keep the law each by itself.
fn planned(request: &Request<'_>) -> Result<Proposal, Binding> {
    let month = request.month();
    let changed = request.relax != Relax::default() || request.basis != Basis::Coming;
    let own = changed.then(|| request.planned_in(month));
    let installation = own.as_ref().unwrap_or(request.installation);
    let request = &Request { installation, ..*request };
    group::survey(request)?;
    let kept = group::kept_programs(request);
    let slots: Vec<usize> =
        (0..usize::from(installation.card.programs)).filter(|i| !kept.contains(i)).collect();
    if slots.is_empty() {
        return Err(Binding::NoProgram);
    }
    let left_to_kept = group::left_to(request, &kept);
    let kept = Kept { programs: kept, zones: left_to_kept, slots };
    // What no controller can do is not searched for; a zone without a day or hour is named first.
    let first = Attempt { steps: 0, waterings: 1, abreast: 1, alternate: 0 };
    group::form(request, &kept.zones, kept.slots.len(), first)?;
    if let Some(refused) = bound::proof(request, &kept.zones) {
        return Err(refused);
    }
    let refused = match attempted(request, &kept, month) {
        Ok(proposal) => return Ok(proposal),
        Err(refused) => refused,
    };
    // Where too few programs made drip share one, it may have one of its own and others share instead.
    let is_drip =
        |z: &&crate::installation::WiredZone| z.zone.head == crate::ground::application::HeadType::Drip;
    let drips = installation.zones.iter().filter(is_drip).count();
    if drips == 0 || drips == installation.zones.len() || request.relax.drip_apart {
        return Err(refused);
    }
    let apart = Request { relax: Relax { drip_apart: true, ..request.relax }, ..*request };
    attempted(&apart, &kept, month).map_err(|_| refused)
}

/// What a plan leaves as it is, and what is left for it.
struct Kept {
    /// Programs that are kept.
    programs: Vec<usize>,
    /// Zones that only those water.
    zones: Vec<u16>,
    /// Programs that may be written.
    slots: Vec<usize>,
}

/// The first attempt that fits.
fn attempted(request: &Request<'_>, kept: &Kept, month: Month) -> Result<Proposal, Binding> {
    let mut binding = None;
    let mut formed: Option<(Attempt, Vec<group::ZoneGroup>)> = None;
    // Once every zone runs as often as it may, another step changes nothing.
    let mut tried: Vec<(u32, usize, Vec<group::ZoneGroup>)> = Vec::new();
    for attempt in attempts(request) {
        let own = Attempt { abreast: 1, ..attempt };
        let groups = match formed.take() {
            Some((of, groups)) if of == own => groups,
            _ => group::form(request, &kept.zones, kept.slots.len(), own)?,
        };
        let (_, groups) = formed.insert((own, groups));
        let Some(groups) = group::abreast(groups, attempt.abreast, kept.slots.len()) else { continue };
        let same = |(waterings, abreast, before): &(u32, usize, Vec<group::ZoneGroup>)| {
            (*waterings, *abreast) == (attempt.waterings, attempt.abreast) && group::alike(before, &groups)
        };
        if tried.iter().any(same) {
            continue;
        }
        tried.retain(|(_, abreast, _)| *abreast != attempt.abreast || attempt.alternate > 0);
        tried.push((attempt.waterings, attempt.abreast, groups.clone()));
        match place::place(request, &groups, kept.slots.len()) {
            Ok(placed) => {
                let (programs, zones) = (kept.programs.clone(), kept.zones.clone());
                let mut proposal =
                    place::assemble(request, placed, programs, zones, &kept.slots, month, attempt.steps > 0);
                spare_unfelt(request.installation, &mut proposal.settings);
                if let Some(own) = months::percentages(request, &proposal) {
                    proposal.settings.percentages = own;
                }
                return Ok(proposal);
            }
            // What several waterings cannot get past, one a day may.
            Err(_) if attempt.waterings > 1 => {}
            Err(found) => binding = Some(nearest(binding, found)),
        }
    }
    Err(binding.unwrap_or(Binding::NoZones))
}

/// The ways in which a plan is tried, the best first.
fn attempts(request: &Request<'_>) -> Vec<Attempt> {
    // A strategy that is free in its days may take more of them to make each night shorter.
    let most_steps = match request.strategy {
        Strategy::JustNeed | Strategy::SoilBalance => MOST_STEPS,
        Strategy::EveryDay | Strategy::DeepOnce | Strategy::DeepTwice => 0,
    };
    let bears = |z: &crate::installation::WiredZone| z.days_to_refill();
    let shortest =
        request.installation.zones.iter().filter(|z| z.needs_water()).map(bears).fold(1.0, f64::min);
    let most = match request.strategy.fixed_depth() {
        None => waterings_a_day(shortest).min(MOST_WATERINGS),
        Some(_) => 1,
    };
    // Side by side only where the controller runs programs at once and somebody knows what the supply carries.
    let card = &request.installation.card;
    let side_by_side = card.overlap == Overlap::Concurrent && request.installation.supply.is_some();
    let most_abreast = if side_by_side { usize::from(card.programs).clamp(1, MOST_ABREAST) } else { 1 };
    let ways = |steps: usize, waterings: u32| {
        (1..=most_abreast).map(move |abreast| Attempt { steps, waterings, abreast, alternate: 0 })
    };
    let steps = |waterings: u32| (0..=most_steps).flat_map(move |steps| ways(steps, waterings));
    let planned = request.installation.zones.iter().filter(|z| z.needs_water()).count();
    let masks =
        if most_steps > 0 && (2..=MOST_ALTERNATING).contains(&planned) { 1_u32 << planned } else { 1 };
    let mixed =
        (1..masks).map(|alternate| Attempt { steps: most_steps, waterings: 1, abreast: 1, alternate });
    (1..=most).rev().flat_map(steps).chain(mixed).collect()
}

/// Of what two attempts could not get past, what came nearest to fitting.
fn nearest(before: Option<Binding>, found: Binding) -> Binding {
    let missing = |binding: &Binding| match binding {
        Binding::Window { needed_minutes, have_minutes, .. } => needed_minutes.saturating_sub(*have_minutes),
        _ => u32::MAX,
    };
    match before {
        Some(before) if missing(&before) <= missing(&found) => before,
        _ => found,
    }
}

/// Lets stations ignore the contacts of the controller where none of them should hold the zone: a bed under a
/// roof must not wait for rain to dry.
fn spare_unfelt(installation: &Installation, settings: &mut Settings) {
    let contacts = installation.sensors.iter().any(|s| s.card.is_contact());
    if !contacts || !installation.card.sensor_override {
        return;
    }
    for zone in &installation.zones {
        if installation.no_contact_holds(zone.zone.number) {
            settings.update_station(zone.zone.number, |s| s.ignores_sensors = true);
        }
    }
}

/// Steps of more frequent days that are tried when a night is too long: more than there are rhythms, so that every day
/// is among them.
const MOST_STEPS: usize = 24;
/// Most zones of which every choice of some that run every other day is tried.
const MOST_ALTERNATING: usize = 6;
/// Most programs that alike zones are split over.
const MOST_ABREAST: usize = 8;
/// Most waterings a day (our stated limit): beyond it pulses are the advice.
const MOST_WATERINGS: u32 = 4;

fn loosened(installation: &Installation, relax: &Relax) -> Installation {
    let mut loosened = installation.clone();
    if let Some(from) = relax.window_from {
        loosened.windows.main.from = from;
    }
    loosened.supply = relax.supply.or(loosened.supply);
    loosened.card.programs = loosened.card.programs.saturating_add(relax.extra_programs);
    loosened
}

#[cfg(test)]
mod tests;

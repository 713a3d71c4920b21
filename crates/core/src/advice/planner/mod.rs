//! From need to a schedule: which zones share a program, on which days, for how long, in how many
//! cycles, and when each start must be so that the night ends with the window.
//!
//! A [`Strategy`] is a school of watering. The planner is deterministic: the same box, present
//! settings and date give the same proposal. When nothing fits it says which limit binds and the
//! smallest relaxations that would do.

mod allowed_days;
mod group;
mod months;
mod place;
mod relax;

pub use relax::{Relaxation, relaxations};

use crate::controller::Card;
use crate::controller::schedule::{Days, Settings};
use crate::ground::application::Cycles;
use crate::ground::application::DEEP_WATERING_MM;
use crate::installation::Installation;
use crate::quantity::units::{LitresPerMinute, Millimetres, Minutes};
use jiff::civil::{Date, Time};

/// A school of watering.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Strategy {
    /// 25 mm once a week.
    DeepOnce,
    /// Half of that twice a week.
    DeepTwice,
    /// The fewest allowed days that keep every zone above its refill point, just the need.
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

    /// The default for a box: soil balance where it takes new run times every day, else just the
    /// need on allowed days.
    #[must_use]
    pub fn default_for(card: &Card) -> Self {
        if card.daily_run_times { Self::SoilBalance } else { Self::JustNeed }
    }

    /// Waterings a week and the net depth of each that the school fixes; a zone that needs less gets its need.
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
    /// So many more programs on the box.
    pub extra_programs: u8,
}

/// What a plan starts from.
#[derive(Debug, Clone, Copy)]
pub struct Request<'a> {
    /// The box.
    pub installation: &'a Installation,
    /// Its present settings: what is not about watering by need (lighting, pulses, pauses, master
    /// valve, off-season) is kept.
    pub present: &'a Settings,
    /// The school.
    pub strategy: Strategy,
    /// First day.
    pub from: Date,
    /// Limits to relax.
    pub relax: Relax,
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
    /// Longest wait, days.
    pub gap_days: u32,
    /// The zone that needs water soonest, with the days it can wait.
    pub tightest: Option<(u16, f64)>,
    /// The wait is longer than that zone can bear: no allowed pattern is tighter.
    pub strained: bool,
    /// Zones share a program because the box has too few for each rhythm.
    pub merged: bool,
    /// The zones are spread over this many sets of nights, because one night cannot hold them.
    pub spread_over: usize,
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
    /// As the box is told it.
    pub cycles: Cycles,
    /// The box has too few starts for all its cycles; this much run time is left out each time.
    pub short_by: Option<Minutes>,
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
    /// The zones run on more days than the school asks for, because its nights would be too long.
    pub more_days: bool,
}

/// What a plan cannot get past.
#[derive(Debug, Clone, PartialEq)]
pub enum Binding {
    /// There are no zones to plan for.
    NoZones,
    /// The window is too short.
    Window {
        /// Minutes that a night needs.
        needed_minutes: u32,
        /// Minutes there are, forbidden hours taken off.
        have_minutes: u32,
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
    /// The zone's station is not on the box.
    NoStation {
        /// The zone.
        station: u16,
    },
    /// Every program of the box is taken by lighting and pulses.
    NoProgram,
}

/// Plans a box.
///
/// # Errors
/// The limit that binds, when nothing fits; see [`relaxations`] for what would do.
pub fn plan(request: &Request<'_>) -> Result<Proposal, Binding> {
    let relaxed;
    let installation = if request.relax == Relax::default() {
        request.installation
    } else {
        relaxed = loosened(request.installation, &request.relax);
        &relaxed
    };
    let request = &Request { installation, ..*request };
    group::survey(request)?;
    let kept = group::kept_programs(request);
    let slots: Vec<usize> =
        (0..usize::from(installation.card.programs)).filter(|i| !kept.contains(i)).collect();
    if slots.is_empty() {
        return Err(Binding::NoProgram);
    }
    let left_to_kept = group::left_to(request, &kept);
    // A school that is free in its days may take more of them to make each night shorter.
    let most_steps = match request.strategy {
        Strategy::JustNeed | Strategy::SoilBalance => MOST_STEPS,
        Strategy::EveryDay | Strategy::DeepOnce | Strategy::DeepTwice => 0,
    };
    let mut binding = None;
    for steps in 0..=most_steps {
        let groups = group::form(request, &left_to_kept, slots.len(), steps)?;
        match place::place(request, &groups, slots.len()) {
            Ok(placed) => {
                let mut proposal = place::assemble(request, placed, kept, &slots, (left_to_kept, steps > 0));
                spare_unfelt(installation, &mut proposal.settings);
                if let Some(own) = months::percentages(request, &proposal.settings, &proposal.kept) {
                    proposal.settings.percentages = own;
                }
                return Ok(proposal);
            }
            Err(found) => binding = Some(nearest(binding, found)),
        }
    }
    Err(binding.unwrap_or(Binding::NoZones))
}

/// Of what two attempts could not get past, what came nearest to fitting.
fn nearest(before: Option<Binding>, found: Binding) -> Binding {
    let missing = |binding: &Binding| match binding {
        Binding::Window { needed_minutes, have_minutes } => needed_minutes.saturating_sub(*have_minutes),
        _ => u32::MAX,
    };
    match before {
        Some(before) if missing(&before) <= missing(&found) => before,
        _ => found,
    }
}

/// Lets stations ignore the contacts of the box where none of them should hold the zone: a bed under a
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

/// Steps of more frequent days that are tried when a night is too long.
const MOST_STEPS: usize = 6;

fn loosened(installation: &Installation, relax: &Relax) -> Installation {
    let mut loosened = installation.clone();
    if let Some(from) = relax.window_from {
        loosened.window.from = from;
    }
    loosened.supply = relax.supply.or(loosened.supply);
    loosened.card.programs = loosened.card.programs.saturating_add(relax.extra_programs);
    loosened
}

#[cfg(test)]
mod tests;

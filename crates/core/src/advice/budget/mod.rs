//! The seasonal budget of a controller: what each zone needs month by month, what its base minutes bring,
//! the percentages that serve all zones best within what the controller can be set to, the error that is
//! left for each zone, and what would lessen it.
//!
//! Which percentages are best is a matter of the [`Measure`]: by default the least harm to the plants and then the least
//! water, so that a bed of little need does not dry out the lawn whose program it shares. The twelve months follow the
//! climate's curve; a jump against it must save more than it costs (see `smooth.rs`).

mod best;
mod measure;
mod need;
mod regroup;
mod schools;
mod smooth;
mod week;

pub use measure::Measure;
pub use need::{Need, NeedFrom, RainRule, effective_rain_scs, needs};
pub use regroup::{Improvement, Move, improvements};
pub use schools::{School, SchoolResult, schools};
pub use week::{TRAILING_DAYS, WORTH_POINTS, WeekAdvice, WeekShort, WeekZone, week, week_of_demand};

use measure::ZoneNeed;

use crate::controller::PercentageScope;
use crate::controller::schedule::{Percentages, Settings, event_length, expand};
use crate::installation::{Installation, WiredZone};
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::units::{Millimetres, SquareMetres};
use jiff::ToSpan;
use jiff::civil::Date;

/// A need below this is no need: nothing is divided by it, mm a day.
const NO_NEED_MM: f64 = 0.005;

/// What a percentage is set for, as far as it can differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PercentageSlot {
    /// The whole controller.
    Controller,
    /// One program, by index.
    Program(usize),
}

/// How the zones of a controller get their water at 100 %: run times, and how often a day each runs.
#[derive(Debug, Clone)]
pub struct Base<'a> {
    installation: &'a Installation,
    settings: &'a Settings,
    /// Zones that the settings water, as indices into the installation's.
    pub zones: Vec<usize>,
    /// Events a day by zone (in the order of `zones`), program and month.
    events: Vec<Vec<ByMonth<f64>>>,
    /// Slots of the controller, and the programs each turns.
    pub slots: Vec<PercentageSlot>,
    /// By which measure percentages are chosen.
    pub measure: Measure,
    /// Programs that have no percentage, by index.
    left_out: Vec<usize>,
    /// By place of `zones`: area times value of the planting over their mean.
    weights: Vec<f64>,
}

/// A stretch of time that has one percentage a slot: needs and events a day of each zone.
#[derive(Debug, Clone)]
struct Column {
    zones: Vec<ZoneNeed>,
    /// By zone and program.
    events: Vec<Vec<f64>>,
}

/// What a zone needs in a stretch of time, net depth a day, mm.
#[derive(Debug, Clone, Copy, Default)]
struct Asked {
    need: f64,
    demand: f64,
    peak: f64,
}

/// What percentages leave of the demand over a year, by area and value of the plantings.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Outcome {
    /// The measure: the less the better; only comparable with others of the same measure and site.
    pub cost: f64,
    /// Need that is not met, a share of the demand.
    pub short: f64,
    /// Water beyond the need, a share of the demand.
    pub surplus: f64,
}

/// A zone of at least this peak need a day has real demand, mm; it is named when a percentage leaves it short (ours).
pub const REAL_DEMAND_MM: f64 = 1.0;
/// A zone that gets less than this share of its need is named (our stated bound).
pub const NAMED_BELOW: f64 = 0.8;

impl<'a> Base<'a> {
    /// Counts the events of a year from the settings themselves, off-season and never-days
    /// included; a rain delay is a passing thing and left out.
    #[must_use]
    pub fn new(installation: &'a Installation, settings: &'a Settings, year: i16) -> Self {
        let programs = settings.programs.len();
        let full = at_full(settings);
        let mut base = Self {
            installation,
            settings,
            zones: Vec::new(),
            events: Vec::new(),
            slots: Vec::new(),
            measure: Measure::default(),
            left_out: Vec::new(),
            weights: Vec::new(),
        };
        let (Ok(first), Ok(last)) = (Date::new(year, 1, 1), Date::new(year, 12, 31)) else {
            return base;
        };
        let mut by_zone = vec![vec![ByMonth::all(0.0_f64); programs]; installation.zones.len()];
        for run in expand(&full, &installation.card, &installation.tz, first, last) {
            if run.cycle != 1 || settings.station(run.station).lighting {
                continue;
            }
            let at = installation.zones.binary_search_by_key(&run.station, |z| z.zone.number);
            let by_month = at.ok().and_then(|z| by_zone.get_mut(z)?.get_mut(run.program));
            if let Some(by_month) = by_month {
                *by_month.of_mut(Month::of(run.date)) += 1.0 / f64::from(run.date.days_in_month());
            }
        }
        base.slots = match installation.card.percentage_scope {
            PercentageScope::Controller | PercentageScope::Month => vec![PercentageSlot::Controller],
            PercentageScope::Program => (0..programs).map(PercentageSlot::Program).collect(),
        };
        base.settle(by_zone);
        base
    }

    /// Takes the events of each zone of the installation over, those that run none left out, and weighs the zones.
    fn settle(&mut self, by_zone: Vec<Vec<ByMonth<f64>>>) {
        let runs = |programs: &[ByMonth<f64>]| programs.iter().flatten().any(|e| *e > 0.0);
        let kept = by_zone.into_iter().enumerate().filter(|(_, programs)| runs(programs));
        (self.zones, self.events) = kept.unzip();
        // A program that waters no zone has nothing to be set for.
        let events = &self.events;
        let used = |p: usize| events.iter().any(|e| e.get(p).is_some_and(|m| m.iter().any(|e| *e > 0.0)));
        self.slots.retain(|slot| match slot {
            PercentageSlot::Controller => true,
            PercentageSlot::Program(p) => used(*p),
        });
        let known = |place: usize| self.zone(place).and_then(|z| z.zone.area).map(SquareMetres::m2);
        let places = || 0..self.zones.len();
        let areas: Vec<f64> = places().filter_map(known).collect();
        #[allow(clippy::cast_precision_loss, reason = "a few hundred zones")]
        let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len().max(1) as f64;
        // A zone whose area nobody measured counts as a mean one.
        let unknown = if areas.is_empty() { 1.0 } else { mean(&areas) };
        let value = |place: usize| self.zone(place).map_or(1.0, |z| z.zone.planting.value.factor());
        let raw: Vec<f64> = places().map(|p| known(p).unwrap_or(unknown) * value(p)).collect();
        let whole = mean(&raw);
        self.weights = raw.iter().map(|w| if whole > 0.0 { w / whole } else { 1.0 }).collect();
    }

    /// The same by another measure.
    #[must_use]
    pub fn by(self, measure: Measure) -> Self {
        Self { measure, ..self }
    }

    /// The same without some programs: those that are wrong in themselves have no percentage until they are repaired, and
    /// their water is not counted on.
    #[must_use]
    pub fn without(mut self, programs: &[usize]) -> Self {
        if programs.is_empty() {
            return self;
        }
        self.left_out = programs.to_vec();
        let mut by_zone = vec![Vec::new(); self.installation.zones.len()];
        for (zone, mut events) in
            core::mem::take(&mut self.zones).into_iter().zip(core::mem::take(&mut self.events))
        {
            for program in programs {
                if let Some(own) = events.get_mut(*program) {
                    *own = ByMonth::all(0.0);
                }
            }
            if let Some(slot) = by_zone.get_mut(zone) {
                *slot = events;
            }
        }
        self.settle(by_zone);
        self
    }

    /// Other settings of the same controller by the same measure, without the same programs.
    fn with_settings<'b>(&self, settings: &'b Settings, year: i16) -> Base<'b>
    where
        'a: 'b,
    {
        Base::new(self.installation, settings, year).by(self.measure).without(&self.left_out)
    }

    /// The zone at a place of `zones`.
    fn zone(&self, place: usize) -> Option<&'a WiredZone> {
        self.installation.zones.get(*self.zones.get(place)?)
    }

    /// Which slot turns a program.
    fn slot_of(&self, program: usize) -> Option<usize> {
        self.slots
            .iter()
            .position(|k| matches!(k, PercentageSlot::Controller) || *k == PercentageSlot::Program(program))
    }

    /// The slots that turn a zone which gets so many events of each program.
    fn slots_of(&self, events: &[f64]) -> Vec<usize> {
        let running = events.iter().enumerate().filter(|(_, events)| **events > 0.0);
        let mut slots: Vec<usize> = running.filter_map(|(program, _)| self.slot_of(program)).collect();
        slots.dedup();
        slots
    }

    fn column(&self, month: Month, asked: &[Asked]) -> Column {
        let of_month = |programs: &Vec<ByMonth<f64>>| programs.iter().map(|p| *p.of(month)).collect();
        self.column_of(self.events.iter().map(of_month).collect(), asked)
    }

    fn column_of(&self, events: Vec<Vec<f64>>, asked: &[Asked]) -> Column {
        let zones = asked.iter().zip(&self.weights).map(|(asked, weight)| ZoneNeed {
            need_mm: asked.need,
            demand_mm: asked.demand,
            peak_mm: asked.peak,
            weight: *weight,
        });
        Column { zones: zones.collect(), events }
    }

    /// Net depth that one event of a program brings a zone at a percentage, mm, the controller's own
    /// rounding included.
    fn net_of_event(&self, place: usize, program: usize, percent: Percentage) -> f64 {
        let Some(zone) = self.zone(place) else { return 0.0 };
        let station = zone.zone.number;
        let cycle = self.settings.station(station).cycle_and_soak.map(|(cycle, _)| cycle);
        let run_time = self.settings.run_time(program, station);
        zone.net_of(event_length(&self.installation.card, run_time, percent, cycle).minutes()).mm()
    }

    /// Net depth a day that each zone gets in a column.
    fn given(&self, column: &Column, percents: &[Percentage]) -> Vec<f64> {
        (0..self.zones.len())
            .map(|place| {
                column.events.get(place).map_or(0.0, |programs| {
                    programs
                        .iter()
                        .enumerate()
                        .filter(|(_, events)| **events > 0.0)
                        .map(|(program, events)| {
                            let percent = self
                                .slot_of(program)
                                .and_then(|k| percents.get(k))
                                .copied()
                                .unwrap_or(Percentage::HUNDRED);
                            events * self.net_of_event(place, program, percent)
                        })
                        .sum()
                })
            })
            .collect()
    }
}

/// The same settings with every percentage at 100 and no rain delay.
fn at_full(settings: &Settings) -> Settings {
    let percentages = settings.percentages.all_at(Percentage::HUNDRED);
    // A rhythm is counted over the whole year, whatever day it was set to begin on.
    Settings { percentages, rain_delay: None, ..settings.clone() }.with_rhythms_since(EARLY)
}

/// Before this day no rhythm is counted.
const EARLY: Date = Date::constant(1900, 1, 1);

/// One zone of a budget.
#[derive(Debug, Clone, PartialEq)]
pub struct ZoneBudget {
    /// Station.
    pub station: u16,
    /// Programs that water it, by index.
    pub programs: Vec<usize>,
    /// Need a day by month, net.
    pub need: ByMonth<Millimetres>,
    /// The percentage that would give minimum days, by month; `None` when it does not run then.
    pub ideal: ByMonth<Option<f64>>,
    /// What it gets a day by month under the best percentages, net.
    pub given: ByMonth<Millimetres>,
    /// Need of its peak month, a day.
    pub peak: Millimetres,
    /// Root mean square over the months of (given - need) over the need of the peak month.
    pub error: f64,
    /// Water beyond the need over a year.
    pub over: Millimetres,
    /// Need that is not given over a year.
    pub under: Millimetres,
}

/// The budget of a controller.
#[derive(Debug, Clone, PartialEq)]
pub struct Budget {
    /// How rain was counted.
    pub rain: RainRule,
    /// Slots, in the order of the percentages.
    pub slots: Vec<PercentageSlot>,
    /// Zones that the settings water.
    pub zones: Vec<ZoneBudget>,
    /// Best settable percentage by month and slot; `None` when nothing of it runs in the month or
    /// nothing needs water.
    pub best: ByMonth<Vec<Option<Percentage>>>,
    /// Whether each month was searched to the end; else it was found step by step.
    pub searched_through: ByMonth<bool>,
    /// By which measure the percentages were chosen.
    pub measure: Measure,
    /// What is left under the best percentages.
    pub outcome: Outcome,
    /// The same with 100 % all year.
    pub at_100: Outcome,
    /// The same with the percentages that are set now.
    pub as_set: Outcome,
}

impl Budget {
    /// The zones of real demand that the best percentage of a month leaves below [`NAMED_BELOW`] of their need, worst
    /// first, each with the share of it that it gets.
    #[must_use]
    pub fn left_short(&self, month: Month) -> Vec<LeftShort> {
        let of_zone = |zone: &ZoneBudget| {
            let (need, given) = (zone.need.of(month).mm(), zone.given.of(month).mm());
            // A zone that does not run in the month is for the checks to name.
            let runs = zone.ideal.of(month).is_some();
            let share = if need > NO_NEED_MM { given / need } else { 1.0 };
            let named = runs && zone.peak.mm() >= REAL_DEMAND_MM && share < NAMED_BELOW;
            named.then(|| LeftShort { station: zone.station, share: Share::from_fraction(share) })
        };
        let mut short: Vec<LeftShort> = self.zones.iter().filter_map(of_zone).collect();
        short.sort_by(|a, b| a.share.fraction().total_cmp(&b.share.fraction()));
        short
    }
}

/// A zone that a percentage leaves short.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LeftShort {
    /// Station.
    pub station: u16,
    /// What it gets of its need.
    pub share: Share,
}

/// A month with the percentages chosen for it.
struct MonthFound {
    found: best::Found,
    column: Column,
    month: Month,
}

impl MonthFound {
    fn new(base: &Base, month: Month, asked: &[Asked]) -> Self {
        let column = base.column(month, asked);
        Self { found: best::best(base, &column), column, month }
    }

    /// The percentages; what nothing needs is switched off.
    fn chosen(&self) -> Vec<Percentage> {
        self.found.percents.iter().map(|p| p.unwrap_or(Percentage::ZERO)).collect()
    }

    /// What each zone gets a day at 100 %.
    fn at_full(&self, base: &Base) -> Vec<f64> {
        base.given(&self.column, &vec![Percentage::HUNDRED; base.slots.len()])
    }
}

/// What percentages by month leave over a year.
fn outcome(
    base: &Base,
    months: &ByMonth<MonthFound>,
    percents: impl Fn(&MonthFound) -> Vec<Percentage>,
) -> Outcome {
    let (mut sum, mut demand) = (Outcome::default(), 0.0);
    for found in months {
        let days = found.month.days();
        for (zone, given) in found.column.zones.iter().zip(base.given(&found.column, &percents(found))) {
            sum.cost += days * zone.cost(base.measure, given);
            sum.short += days * zone.weight * (zone.need_mm - given).max(0.0);
            sum.surplus += days * zone.weight * (given - zone.need_mm).max(0.0);
            demand += days * zone.weight * zone.demand_mm;
        }
    }
    let share = |value: f64| if demand > 0.0 { value / demand } else { 0.0 };
    Outcome { cost: share(sum.cost), short: share(sum.short), surplus: share(sum.surplus) }
}

/// Works the budget of a controller out.
#[must_use]
pub fn budget(base: &Base, needs: &[Need], rain: RainRule) -> Budget {
    let need_of = |place: usize| {
        let station = base.zone(place)?.zone.number;
        needs.iter().find(|n| n.station == station)
    };
    let asked = |place: usize, month: Month| {
        need_of(place).map_or(Asked::default(), |need| Asked {
            need: need.net_a_day.of(month).mm(),
            demand: need.demand_a_day.of(month).mm(),
            peak: need.net_a_day.iter().map(|n| n.mm()).fold(0.0, f64::max),
        })
    };
    let places = || 0..base.zones.len();
    let mut months = ByMonth::from_fn(|month| {
        MonthFound::new(base, month, &places().map(|place| asked(place, month)).collect::<Vec<_>>())
    });
    smooth::smooth(base, &mut months);
    let brought = ByMonth::from_fn(|m| Brought::new(base, months.of(m)));
    let first_of = |m: &MonthFound| Date::constant(2025, 1, 1).with().month(m.month.number()).build();
    let full = |_: &MonthFound| vec![Percentage::HUNDRED; base.slots.len()];
    let as_set = |m: &MonthFound| first_of(m).map_or_else(|_| full(m), |date| percents_on(base, date));
    Budget {
        rain,
        measure: base.measure,
        slots: base.slots.clone(),
        zones: places().filter_map(|place| zone_budget(base, place, &months, &brought)).collect(),
        outcome: outcome(base, &months, MonthFound::chosen),
        at_100: outcome(base, &months, full),
        as_set: outcome(base, &months, as_set),
        searched_through: ByMonth::from_fn(|m| months.of(m).found.exhaustive),
        best: months.map(|m| m.found.percents),
    }
}

/// What a month brings each zone a day, mm.
struct Brought {
    /// Under the percentages chosen.
    given: Vec<f64>,
    /// At 100 %.
    full: Vec<f64>,
}

impl Brought {
    fn new(base: &Base, found: &MonthFound) -> Self {
        Self { given: base.given(&found.column, &found.chosen()), full: found.at_full(base) }
    }
}

/// The budget of the zone at a place of the base.
fn zone_budget(
    base: &Base,
    place: usize,
    months: &ByMonth<MonthFound>,
    brought: &ByMonth<Brought>,
) -> Option<ZoneBudget> {
    let zone = base.zone(place)?;
    let of = |m: Month| months.of(m).column.zones.get(place).copied();
    let asked = ByMonth::from_fn(of).whole()?;
    let given = ByMonth::from_fn(|m| brought.of(m).given.get(place).copied()).whole()?;
    let full = ByMonth::from_fn(|m| brought.of(m).full.get(place).copied()).whole()?;
    let need = asked.map(|zone| zone.need_mm);
    let peak = asked.of(Month::January).peak_mm;
    let beyond = |sign: f64| {
        let of_month = |m: Month| (sign * (given.of(m) - need.of(m))).max(0.0) * m.days();
        Millimetres::from_mm(Month::ALL.into_iter().map(of_month).sum())
    };
    let square = |m: Month| ((given.of(m) - need.of(m)) / if peak > NO_NEED_MM { peak } else { 1.0 }).powi(2);
    let runs = |events: &&ByMonth<f64>| events.iter().any(|e| *e > 0.0);
    let programs = base.events.get(place)?.iter().enumerate();
    Some(ZoneBudget {
        station: zone.zone.number,
        programs: programs.filter(|(_, events)| runs(events)).map(|(p, _)| p).collect(),
        need: need.map(Millimetres::from_mm),
        ideal: ByMonth::from_fn(|m| (*full.of(m) > 0.0).then(|| 100.0 * need.of(m) / full.of(m))),
        given: given.map(Millimetres::from_mm),
        peak: Millimetres::from_mm(peak),
        error: (Month::ALL.into_iter().map(square).sum::<f64>() / 12.0).sqrt(),
        over: beyond(1.0),
        under: beyond(-1.0),
    })
}

/// What the slots are set to on a date.
fn percents_on(base: &Base, date: Date) -> Vec<Percentage> {
    base.slots
        .iter()
        .map(|slot| match slot {
            PercentageSlot::Controller => base.settings.percentages.of(0, date),
            PercentageSlot::Program(p) => base.settings.percentages.of(*p, date),
        })
        .collect()
}

/// Settings with the best percentages of a month set; a controller that holds twelve takes all.
#[must_use]
pub fn with_best(settings: &Settings, budget: &Budget, month: Month) -> Settings {
    let mut changed = settings.clone();
    let months: &[Month] = match settings.percentages {
        Percentages::Month(_) => &Month::ALL,
        Percentages::Controller(_) | Percentages::Program(_) => &[month],
    };
    for month in months {
        turn(&mut changed, &budget.slots, budget.best.of(*month), *month);
    }
    changed
}

/// Settings with the percentages that a week's advice asks for; what nothing needs stays as it is, or is turned to
/// `idle`.
#[must_use]
pub fn with_week(settings: &Settings, advice: &WeekAdvice, idle: Option<Percentage>) -> Settings {
    let mut changed = settings.clone();
    let best: Vec<Option<Percentage>> = advice.best.iter().map(|p| p.or(idle)).collect();
    turn(&mut changed, &advice.slots, &best, Month::of(advice.from));
    changed
}

/// Turns the slots of a controller; a controller that holds twelve percentages has one a month.
fn turn(settings: &mut Settings, slots: &[PercentageSlot], to: &[Option<Percentage>], month: Month) {
    for (slot, to) in slots.iter().zip(to) {
        let Some(to) = to else { continue };
        match (&mut settings.percentages, slot) {
            (Percentages::Controller(value), _) => *value = *to,
            (Percentages::Month(values), _) => *values.of_mut(month) = *to,
            (Percentages::Program(values), PercentageSlot::Program(program)) => {
                if let Some(value) = values.get_mut(*program) {
                    *value = *to;
                }
            }
            (Percentages::Program(_), PercentageSlot::Controller) => {}
        }
    }
}

/// The last day of the week that begins on a date.
fn week_end(from: Date) -> Date {
    from.checked_add(6.days()).unwrap_or(from)
}

#[cfg(test)]
mod tests;

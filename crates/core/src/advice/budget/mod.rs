//! The seasonal budget of a box: what each zone needs month by month, what its base minutes bring,
//! the percentages that serve all zones best within what the box can be set to, the error that is
//! left for each zone, and what would lessen it.
//!
//! The error of a zone in a month is (given - need) ÷ the zone's need in its peak month, both net depths a day; a shortage
//! counts the heavier the deeper it is, and what goes beyond the peak need the less the more it is. The best percentages
//! make the sum of its squares over the zones least; every zone counts the same. (Our choice: a relative error of a winter
//! month would outweigh July, and a bed that wants next to nothing would dry out the lawn whose program it shares.)

mod best;
mod need;
mod regroup;
mod schools;
mod week;

pub use need::{Need, NeedFrom, RainRule, effective_rain_scs, needs};
pub use regroup::{Improvement, Move, improvements};
pub use schools::{School, SchoolResult, schools};
pub use week::{TRAILING_DAYS, WeekAdvice, WeekZone, week};

use crate::controller::PercentageScope;
use crate::controller::schedule::{Percentages, Settings, event_length, expand};
use crate::installation::{Installation, WiredZone};
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Percentage;
use crate::quantity::units::Millimetres;
use jiff::ToSpan;
use jiff::civil::Date;

/// A need below this is no need: nothing is divided by it, mm a day.
const NO_NEED_MM: f64 = 0.005;

/// What a percentage is set for, as far as it can differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PercentageSlot {
    /// The whole box.
    Box,
    /// One program, by index.
    Program(usize),
}

/// How the zones of a box get their water at 100 %: run times, and how often a day each runs.
#[derive(Debug, Clone)]
pub struct Base<'a> {
    installation: &'a Installation,
    settings: &'a Settings,
    /// Zones that the settings water, as indices into the installation's.
    pub zones: Vec<usize>,
    /// Events a day by zone (in the order of `zones`), program and month.
    events: Vec<Vec<ByMonth<f64>>>,
    /// Slots of the box, and the programs each turns.
    pub slots: Vec<PercentageSlot>,
}

/// A stretch of time that has one percentage a slot: needs and events a day of each zone.
pub(crate) struct Column {
    pub need: Vec<f64>,
    /// By zone and program.
    pub events: Vec<Vec<f64>>,
}

impl<'a> Base<'a> {
    /// Counts the events of a year from the settings themselves, off-season and never-days
    /// included; a rain delay is a passing thing and left out.
    #[must_use]
    pub fn new(installation: &'a Installation, settings: &'a Settings, year: i16) -> Self {
        let programs = settings.programs.len();
        let full = at_full(settings);
        let (Ok(first), Ok(last)) = (Date::new(year, 1, 1), Date::new(year, 12, 31)) else {
            return Self { installation, settings, zones: Vec::new(), events: Vec::new(), slots: Vec::new() };
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
        let zones: Vec<usize> = by_zone
            .iter()
            .enumerate()
            .filter(|(_, programs)| programs.iter().flatten().any(|e| *e > 0.0))
            .map(|(i, _)| i)
            .collect();
        let events = zones.iter().filter_map(|z| by_zone.get(*z).cloned()).collect();
        let slots = match installation.card.percentage_scope {
            PercentageScope::Box | PercentageScope::Month => vec![PercentageSlot::Box],
            PercentageScope::Program => (0..programs).map(PercentageSlot::Program).collect(),
        };
        let mut base = Self { installation, settings, zones, events, slots };
        // A program that waters no zone has nothing to be turned for.
        let used = |p: usize, base: &Self| {
            base.events.iter().any(|e| e.get(p).is_some_and(|m| m.iter().any(|e| *e > 0.0)))
        };
        base.slots = base
            .slots
            .iter()
            .copied()
            .filter(|k| {
                matches!(k, PercentageSlot::Program(p) if used(*p, &base)) || *k == PercentageSlot::Box
            })
            .collect();
        base
    }

    /// The zone at a place of `zones`.
    fn zone(&self, place: usize) -> Option<&'a WiredZone> {
        self.installation.zones.get(*self.zones.get(place)?)
    }

    /// Which slot turns a program.
    fn slot_of(&self, program: usize) -> Option<usize> {
        self.slots
            .iter()
            .position(|k| matches!(k, PercentageSlot::Box) || *k == PercentageSlot::Program(program))
    }

    /// The slots that turn a zone which gets so many events of each program.
    fn slots_of(&self, events: &[f64]) -> Vec<usize> {
        let running = events.iter().enumerate().filter(|(_, events)| **events > 0.0);
        let mut slots: Vec<usize> = running.filter_map(|(program, _)| self.slot_of(program)).collect();
        slots.dedup();
        slots
    }

    fn column(&self, month: Month, need: Vec<f64>) -> Column {
        let of_month = |programs: &Vec<ByMonth<f64>>| programs.iter().map(|p| *p.of(month)).collect();
        let events = self.events.iter().map(of_month).collect();
        Column { need, events }
    }

    /// Net depth that one event of a program brings a zone at a percentage, mm, the box's own
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
    /// The percentage that would give just the need, by month; `None` when it does not run then.
    pub ideal: ByMonth<Option<f64>>,
    /// What it gets a day by month under the best percentages, net.
    pub given: ByMonth<Millimetres>,
    /// Need of its peak month, a day.
    pub peak: Millimetres,
    /// Root mean square of its error over the months.
    pub error: f64,
    /// Water beyond the need over a year.
    pub over: Millimetres,
    /// Need that is not given over a year.
    pub under: Millimetres,
}

/// The budget of a box.
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
    /// Root mean square of all zones and months under the best percentages.
    pub error: f64,
    /// The same with 100 % all year.
    pub error_at_100: f64,
    /// The same with the percentages that are set now.
    pub error_as_set: f64,
}

/// What was found for a month: the percentages, what they bring, and the errors.
struct MonthFound {
    found: best::Found,
    column: Column,
    /// Net depth a day of each zone under the best percentages, and with 100 %.
    given: Vec<f64>,
    at_full: Vec<f64>,
    /// Squared errors of each zone under the best percentages.
    squares: Vec<f64>,
    /// Sums of the squared errors with 100 %, and as it is set now.
    error_at_full: f64,
    error_as_set: f64,
}

impl MonthFound {
    fn of(base: &Base, month: Month, need: Vec<f64>, peak: &[f64]) -> Self {
        let column = base.column(month, need);
        let found = best::best(base, &column, peak);
        // What nothing needs is switched off.
        let chosen: Vec<Percentage> = found.percents.iter().map(|p| p.unwrap_or(Percentage::ZERO)).collect();
        let full = vec![Percentage::HUNDRED; base.slots.len()];
        let given = base.given(&column, &chosen);
        let errors = given.iter().zip(&column.need).zip(peak);
        let first = Date::constant(2025, 1, 1).with().month(month.number()).build();
        let as_set = first.map_or_else(|_| full.clone(), |date| percents_on(base, date));
        Self {
            squares: errors.map(|((g, n), p)| best::relative(*g, *n, *p).powi(2)).collect(),
            at_full: base.given(&column, &full),
            error_at_full: best::error(base, &column, peak, &full),
            error_as_set: best::error(base, &column, peak, &as_set),
            found,
            column,
            given,
        }
    }
}

/// Works the budget of a box out.
#[must_use]
pub fn budget(base: &Base, needs: &[Need], rain: RainRule) -> Budget {
    let count = base.zones.len();
    let need_of = |place: usize| {
        let station = base.zone(place)?.zone.number;
        needs.iter().find(|n| n.station == station).map(|n| n.net_a_day.map(Millimetres::mm))
    };
    let need: Vec<ByMonth<f64>> = (0..count).map(|place| need_of(place).unwrap_or_default()).collect();
    let peak: Vec<f64> = need.iter().map(|n| n.iter().copied().fold(0.0, f64::max)).collect();
    let months = ByMonth::from_fn(|month| {
        MonthFound::of(base, month, need.iter().map(|n| *n.of(month)).collect(), &peak)
    });
    #[allow(clippy::cast_precision_loss, reason = "a few hundred zones")]
    let mean_root = |sum: f64| if count == 0 { 0.0 } else { (sum / (12.0 * count as f64)).sqrt() };
    let total = |of: fn(&MonthFound) -> f64| mean_root(months.iter().map(of).sum());
    Budget {
        rain,
        slots: base.slots.clone(),
        zones: (0..count).filter_map(|place| zone_budget(base, place, &months, &peak)).collect(),
        error: total(|m| m.squares.iter().sum()),
        error_at_100: total(|m| m.error_at_full),
        error_as_set: total(|m| m.error_as_set),
        searched_through: ByMonth::from_fn(|m| months.of(m).found.exhaustive),
        best: months.map(|m| m.found.percents),
    }
}

/// The budget of the zone at a place of the base.
fn zone_budget(base: &Base, place: usize, months: &ByMonth<MonthFound>, peak: &[f64]) -> Option<ZoneBudget> {
    let zone = base.zone(place)?;
    let of = |values: fn(&MonthFound) -> &Vec<f64>| {
        ByMonth::from_fn(|m| values(months.of(m)).get(place).copied()).whole()
    };
    let (need, given) = (of(|m| &m.column.need)?, of(|m| &m.given)?);
    let (full, squares) = (of(|m| &m.at_full)?, of(|m| &m.squares)?);
    let beyond = |sign: f64| {
        let of_month = |m: Month| (sign * (given.of(m) - need.of(m))).max(0.0) * m.days();
        Millimetres::from_mm(Month::ALL.into_iter().map(of_month).sum())
    };
    let runs = |events: &&ByMonth<f64>| events.iter().any(|e| *e > 0.0);
    let programs = base.events.get(place)?.iter().enumerate();
    Some(ZoneBudget {
        station: zone.zone.number,
        programs: programs.filter(|(_, events)| runs(events)).map(|(p, _)| p).collect(),
        need: need.map(Millimetres::from_mm),
        ideal: ByMonth::from_fn(|m| (*full.of(m) > 0.0).then(|| 100.0 * need.of(m) / full.of(m))),
        given: given.map(Millimetres::from_mm),
        peak: Millimetres::from_mm(*peak.get(place)?),
        error: (squares.iter().sum::<f64>() / 12.0).sqrt(),
        over: beyond(1.0),
        under: beyond(-1.0),
    })
}

/// What the slots are set to on a date.
fn percents_on(base: &Base, date: Date) -> Vec<Percentage> {
    base.slots
        .iter()
        .map(|slot| match slot {
            PercentageSlot::Box => base.settings.percentages.of(0, date),
            PercentageSlot::Program(p) => base.settings.percentages.of(*p, date),
        })
        .collect()
}

/// Settings with the best percentages of a month set; a box that holds twelve takes all.
#[must_use]
pub fn with_best(settings: &Settings, budget: &Budget, month: Month) -> Settings {
    let mut changed = settings.clone();
    let months: &[Month] = match settings.percentages {
        Percentages::Month(_) => &Month::ALL,
        Percentages::Box(_) | Percentages::Program(_) => &[month],
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

/// Turns the slots of a box; a box that holds twelve percentages has one a month.
fn turn(settings: &mut Settings, slots: &[PercentageSlot], to: &[Option<Percentage>], month: Month) {
    for (slot, to) in slots.iter().zip(to) {
        let Some(to) = to else { continue };
        match (&mut settings.percentages, slot) {
            (Percentages::Box(value), _) => *value = *to,
            (Percentages::Month(values), _) => *values.of_mut(month) = *to,
            (Percentages::Program(values), PercentageSlot::Program(program)) => {
                if let Some(value) = values.get_mut(*program) {
                    *value = *to;
                }
            }
            (Percentages::Program(_), PercentageSlot::Box) => {}
        }
    }
}

/// The last day of the week that begins on a date.
fn week_end(from: Date) -> Date {
    from.checked_add(6.days()).unwrap_or(from)
}

#[cfg(test)]
mod tests;

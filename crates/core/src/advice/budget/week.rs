//! This week's percentage: what the last days took and rain did not bring back, against what the
//! base minutes bring.

use super::{Asked, Base, NAMED_BELOW, PercentageSlot, REAL_DEMAND_MM, best, percents_on, week_end};
use crate::account::nights::free_nights;
use crate::account::sky::SkyHours;
use crate::account::sky::{DemandFrom, et0_of};
use crate::account::zone::{ZoneFacts, account};
use crate::installation::{Installation, WiredZone};
use crate::quantity::ratio::Percentage;
use crate::quantity::time::midnight;
use crate::quantity::units::{Litres, Millimetres};
use crate::weather::climate::Climate;
use jiff::ToSpan;
use jiff::civil::Date;

/// Days that the percentage of a week looks back on.
pub const TRAILING_DAYS: i32 = 7;

/// A percentage that is off by fewer points, or by less than a step, is left as it is (ours): the reading of a week is
/// no finer, and nobody goes to a controller for it.
pub const WORTH_POINTS: u16 = 5;

/// One zone of a week.
#[derive(Debug, Clone, PartialEq)]
pub struct WeekZone {
    /// Station.
    pub station: u16,
    /// Plant demand of the trailing days.
    pub demand: Millimetres,
    /// Rain that entered its soil and that demand could use.
    pub rain: Millimetres,
    /// What irrigation has to put back: demand - rain.
    pub need: Millimetres,
    /// The percentage that gives minimum days; `None` when it does not run.
    pub ideal: Option<f64>,
    /// Slots that turn it in this week, as indices.
    pub slots: Vec<usize>,
    /// What the advised percentage gives it in a week.
    pub given: Millimetres,
}

/// A zone that the advised percentage leaves short.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct WeekShort {
    /// Station.
    pub station: u16,
    /// Need of the week that is not met, net.
    pub deficit: Millimetres,
}

/// The advice for a week.
#[derive(Debug, Clone, PartialEq)]
pub struct WeekAdvice {
    /// First day it is for.
    pub from: Date,
    /// Slots of the controller.
    pub slots: Vec<PercentageSlot>,
    /// Best settable percentage by slot; `None` when nothing of it needs water.
    pub best: Vec<Option<Percentage>>,
    /// What is set on that day.
    pub set: Vec<Percentage>,
    /// The zones.
    pub zones: Vec<WeekZone>,
    /// ET0 of the trailing days.
    pub et0: Millimetres,
    /// Rain of the trailing days on the gauge.
    pub rain: Millimetres,
    /// Trailing days that had no record, where normals used.
    pub expected_days: u32,
}

impl WeekAdvice {
    /// Whether any slot stands elsewhere than advised.
    #[must_use]
    pub fn is_a_change(&self) -> bool {
        self.best.iter().zip(&self.set).any(|(best, set)| best.is_some_and(|b| b != *set))
    }

    /// The lowest and the highest percentage that a zone of a slot asks for; `None` when none of them runs.
    #[must_use]
    pub fn asked(&self, slot: usize) -> Option<(f64, f64)> {
        let own = self.zones.iter().filter(|zone| zone.slots.contains(&slot)).filter_map(|zone| zone.ideal);
        own.fold(None, |span, ideal| match span {
            None => Some((ideal, ideal)),
            Some((low, high)) => Some((ideal.min(low), ideal.max(high))),
        })
    }

    /// The zones of a slot with real demand that the advised percentage leaves below [`NAMED_BELOW`] of their need, most
    /// missing first.
    #[must_use]
    pub fn left_short(&self, slot: usize) -> Vec<WeekShort> {
        let own = self.zones.iter().filter(|zone| zone.slots.contains(&slot));
        let real = REAL_DEMAND_MM * f64::from(TRAILING_DAYS);
        // What rain met of the demand is no shortage: only a dry enough week is named.
        let named = own.filter(|zone| {
            let (need, given) = (zone.need.mm(), zone.given.mm());
            zone.demand.mm() >= real && given < NAMED_BELOW * need && need - given > 0.1 * zone.demand.mm()
        });
        let mut short: Vec<WeekShort> =
            named.map(|zone| WeekShort { station: zone.station, deficit: zone.need - zone.given }).collect();
        short.sort_by(|a, b| b.deficit.mm().total_cmp(&a.deficit.mm()));
        short
    }

    /// What the advised percentage brings the zones of a slot beyond their need in a week, as far as areas are known.
    #[must_use]
    pub fn surplus(&self, slot: usize, installation: &Installation) -> Option<Litres> {
        let own = self.zones.iter().filter(|zone| zone.slots.contains(&slot) && zone.given > zone.need);
        let of = |zone: &WeekZone| {
            installation.zone(zone.station)?.zone.area.map(|area| (zone.given - zone.need).over(area))
        };
        own.filter_map(of).reduce(|a, b| a + b)
    }
}

/// The advice for the week that begins on a date, from the [`TRAILING_DAYS`] before it.
#[must_use]
pub fn week(base: &Base, climate: &Climate, from: Date) -> WeekAdvice {
    advice(base, climate, from, &rain_kept(base, climate, from))
}

/// The same by the demand alone: what the weather of the season asks for, whatever fell in those days.
#[must_use]
pub fn week_of_demand(base: &Base, climate: &Climate, from: Date) -> WeekAdvice {
    advice(base, climate, from, &vec![Millimetres::ZERO; base.zones.len()])
}

/// The advice with the rain that each zone's root zone kept.
// Long: one step after another, from the week's weather to what each zone gets.
fn advice(base: &Base, climate: &Climate, from: Date, kept: &[Millimetres]) -> WeekAdvice {
    let days: Vec<Date> =
        (1..=TRAILING_DAYS).rev().filter_map(|back| from.checked_sub(back.days()).ok()).collect();
    let weather: Vec<_> = days
        .iter()
        .map(|date| {
            let (et0, source) = et0_of(climate, *date);
            let rain = climate.rain_on(*date).unwrap_or(Millimetres::ZERO);
            (*date, et0, rain, source)
        })
        .collect();
    let length = f64::from(TRAILING_DAYS);
    let mut zones = Vec::new();
    let mut asked = Vec::new();
    let mut events = Vec::new();
    for place in 0..base.zones.len() {
        let Some(zone) = base.zone(place) else { continue };
        let demand: Millimetres =
            weather.iter().map(|(date, et0, _, _)| *et0 * zone.resolved.demand_factor_on(*date)).sum();
        // Rain beyond what the root zone could hold is lost; what it held from before the week is not its need.
        let rain = kept.get(place).copied().unwrap_or(Millimetres::ZERO).min(demand);
        let need = demand - rain;
        asked.push(Asked {
            need: need.mm() / length,
            demand: demand.mm() / length,
            peak: demand.mm() / length,
        });
        events.push(events_of_week(base, place, from));
        zones.push(WeekZone {
            station: zone.zone.number,
            demand,
            rain,
            need,
            ideal: None,
            slots: base.slots_of(events.last().map_or(&[], Vec::as_slice)),
            given: Millimetres::ZERO,
        });
    }
    let column = base.column_of(events, &asked);
    let mut found = best::best(base, &column);
    let set = percents_on(base, from);
    let least = base.installation.card.percentage_step.percent().max(WORTH_POINTS);
    for (best, set) in found.percents.iter_mut().zip(&set) {
        if best.is_some_and(|b| b.percent().abs_diff(set.percent()) < least) {
            *best = Some(*set);
        }
    }
    let full = base.given(&column, &vec![Percentage::HUNDRED; base.slots.len()]);
    let chosen: Vec<Percentage> = found.percents.iter().map(|p| p.unwrap_or(Percentage::ZERO)).collect();
    let given = base.given(&column, &chosen);
    for ((zone, full), given) in zones.iter_mut().zip(full).zip(given) {
        zone.ideal = (full > 0.0).then(|| 100.0 * zone.need.mm() / (full * length));
        zone.given = Millimetres::from_mm(given * length);
    }
    WeekAdvice {
        from,
        slots: base.slots.clone(),
        best: found.percents,
        set,
        zones,
        et0: weather.iter().map(|(_, et0, _, _)| *et0).sum(),
        rain: weather.iter().map(|(_, _, rain, _)| *rain).sum(),
        expected_days: u32::try_from(weather.iter().filter(|(_, _, _, s)| *s != DemandFrom::Record).count())
            .unwrap_or(0),
    }
}

/// Days before the week from which on its zones are watered as advised, so that their state at its beginning no longer
/// depends on the start.
const BEFORE_DAYS: i32 = 28;

/// Rain of the trailing days that each zone's root zone held, in the order of the base: what fell on one that was
/// watered as advised, less what ran off or drained.
fn rain_kept(base: &Base, climate: &Climate, from: Date) -> Vec<Millimetres> {
    let there = base.installation;
    let week = from.checked_sub(TRAILING_DAYS.days()).unwrap_or(from);
    let first = week.checked_sub(BEFORE_DAYS.days()).unwrap_or(week);
    let sky = SkyHours::of(climate, there.longitude_deg, &there.tz, first, midnight(from, &there.tz));
    let of_zone = |zone: &WiredZone| {
        let (zone, resolved) = (&zone.zone, &zone.resolved);
        let nights = free_nights(&sky, zone, &there.windows);
        let facts = ZoneFacts { nights: &nights, ..ZoneFacts::of(zone, resolved) };
        let (days, _) = account(&facts, &sky, |_| ());
        days.iter().filter(|day| day.date >= week).map(|day| day.water.rain_kept()).sum()
    };
    (0..base.zones.len()).filter_map(|place| base.zone(place)).map(of_zone).collect()
}

/// Mean events a day of a zone by program in the week from a date: of its month, or of both when it
/// crosses into another.
fn events_of_week(base: &Base, place: usize, from: Date) -> Vec<f64> {
    let last = week_end(from);
    base.events.get(place).map_or(Vec::new(), |programs| {
        programs.iter().map(|by_month| 0.5 * (by_month.on(from) + by_month.on(last))).collect()
    })
}

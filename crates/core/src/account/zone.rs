//! One zone, hour by hour: what reached it, what went in, what ran off, what its plants took and what is missing.
//!
//! Rules of an hour, in this order:
//! 1. Rain that reaches the zone falls evenly through the hour; a run waters from its second to its second.
//!    Water that comes faster than the basic intake stands on the surface, at most the allowable surface
//!    accumulation; what comes beyond that runs off, rain and watering in proportion. Water that stands has
//!    gone in: it can go nowhere else.
//! 2. Of the watering that went in, the share `1 - (0.4 + 0.6 DU)` falls where there is more than
//!    the mean, and drains.
//! 3. What is more than the root zone misses drains (FAO-56 eq. 88).
//! 4. The plants take Ks × demand, Ks from the depletion after all that (FAO-56 eq. 84), and never more than
//!    is left.
//! 5. A field reading sets the depletion at the hour nearest to its instant.

use super::evidence::{Evidence, FieldReading, Watering};
pub use super::flows::Flows;
use super::flows::NOTHING_MM;
use super::nights::ZoneNight;
use super::sky::{SkyDay, SkyHour, SkyHours};
use crate::account::sky::DemandFrom;
use crate::ground::application::{cycles, run_time};
use crate::ground::balance::RootZone;
use crate::quantity::span::TimeSpan;
use crate::quantity::time::{Seconds, monday_of};
use crate::quantity::units::Millimetres;
use crate::site::{EarlierSurvey, ResolvedZone, Zone};
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use std::collections::VecDeque;

/// A refill smaller than this share of the readily available water is not worth a start.
const SMALLEST_REFILL_SHARE: f64 = 0.25;
/// Missing less than this, a nightly controller runs nothing, mm (our stated default).
const LEAST_NIGHTLY_MM: f64 = 2.0;

/// Everything about a zone that its account follows from.
pub struct ZoneFacts<'a> {
    /// The survey.
    pub zone: &'a Zone,
    /// With its defaults.
    pub resolved: &'a ResolvedZone,
    /// Runs that are known, in order and apart from each other.
    pub runs: &'a [Watering],
    /// How the watering of each day of the sky is known, in its order; a day beyond the list is as advised.
    pub evidence: &'a [Evidence],
    /// Nights that stand in where nothing is known, by place of the day of the sky on which each begins; empty:
    /// then nothing ran.
    pub nights: &'a [ZoneNight],
    /// Readings from the field, in order.
    pub readings: &'a [FieldReading],
    /// When watering is advised.
    pub advise: Advise,
    /// How the zone was before, the oldest first.
    pub earlier: &'a [EarlierSurvey],
}

impl<'a> ZoneFacts<'a> {
    /// A zone of which only the survey is known: nothing ran.
    #[must_use]
    pub const fn of(zone: &'a Zone, resolved: &'a ResolvedZone) -> Self {
        let advise = Advise::AtRefill;
        Self { zone, resolved, runs: &[], evidence: &[], nights: &[], readings: &[], advise, earlier: &[] }
    }

    /// The survey of a date.
    fn on(&self, date: Date) -> (&'a Zone, &'a ResolvedZone) {
        EarlierSurvey::on(self.earlier, date)
            .map_or((self.zone, self.resolved), |own| (&own.zone, &own.resolved))
    }
}

/// When watering is advised where nothing is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Advise {
    /// When the refill point is reached, or would be tomorrow.
    #[default]
    AtRefill,
    /// Every open night, whatever is missing, when it is worth a run: a controller that computes itself, to the second, and
    /// stops for the night when it rains.
    Nightly,
}

/// A day of a zone's account.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AccountDay {
    /// The day.
    pub date: Date,
    /// Its reference ET.
    pub et0: Millimetres,
    /// Where that came from.
    pub demand_from: DemandFrom,
    /// Rain on the gauge.
    pub gauge: Millimetres,
    /// Its water.
    pub water: Flows,
    /// The refill point of the day; a grow-in moves it.
    pub refill_at: Millimetres,
    /// Whether the plants were short of water in some hour.
    pub short: bool,
    /// How its watering is known.
    pub evidence: Evidence,
    /// Depletion before a field reading set it, when one did.
    pub reset_from: Option<Millimetres>,
}

/// An hour of a zone's account.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AccountHour {
    /// The day it lies in.
    pub date: Date,
    /// When it begins.
    pub from: Timestamp,
    /// Its water.
    pub water: Flows,
    /// How the day's watering is known.
    pub evidence: Evidence,
    /// Depletion before a field reading set it at its end, when one did.
    pub reset_from: Option<Millimetres>,
}

/// The water of a zone at an instant.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct ZoneState {
    /// What is missing from full.
    pub depletion: Millimetres,
    /// What stands on the surface; it is counted as gone in.
    pub standing: Millimetres,
}

/// What some runs do to a zone, from a state on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Ahead {
    /// The water of the hours looked at.
    pub water: Flows,
    /// What is missing at the end of the hour in which the last run ends; without a run, at the begin.
    pub after: Millimetres,
}

/// Goes on from a state over the hours of a sky that begin at or after an instant, under some runs.
#[must_use]
pub fn ahead(
    zone: &Zone,
    resolved: &ResolvedZone,
    sky: &SkyHours,
    begin: Timestamp,
    state: ZoneState,
    runs: &[Watering],
) -> Ahead {
    let facts = ZoneFacts { runs, ..ZoneFacts::of(zone, resolved) };
    let mut going = ZoneRun::new(&facts);
    (going.depletion, going.standing) = (state.depletion.mm(), state.standing.mm());
    let last = runs.last().map(|run| run.until);
    let mut out = Ahead { water: Flows::default(), after: state.depletion };
    for day in sky.days() {
        let root_zone = resolved.root_zone_on(day.date);
        let factor = resolved.demand_factor_on(day.date);
        for hour in sky.hours(day).filter(|hour| hour.from >= begin) {
            out.water.add(&going.hour(&hour, factor, &root_zone));
            if last.is_some_and(|last| hour.from < last) {
                out.after = out.water.depletion;
            }
        }
    }
    out
}

/// The account of a zone from full over the hours of a sky, by the day, and its state at their end; each hour is
/// shown to `each`.
pub fn account(
    facts: &ZoneFacts,
    sky: &SkyHours,
    each: impl FnMut(&AccountHour),
) -> (Vec<AccountDay>, ZoneState) {
    let (days, state, _) = account_with_runs(facts, sky, each);
    (days, state)
}

/// The same with the runs that were advised.
pub fn account_with_runs(
    facts: &ZoneFacts,
    sky: &SkyHours,
    mut each: impl FnMut(&AccountHour),
) -> (Vec<AccountDay>, ZoneState, Vec<Watering>) {
    let mut zone = ZoneRun::new(facts);
    let mut days = Vec::with_capacity(sky.days().len());
    for (at, day) in sky.days().iter().enumerate() {
        let evidence = facts.evidence.get(at).copied().unwrap_or(Evidence::AsAdvised);
        let survey = facts.on(day.date);
        if !facts.earlier.is_empty() {
            zone.adopt(survey.0, survey.1);
        }
        let resolved = survey.1;
        let root_zone = resolved.root_zone_on(day.date);
        let factor = resolved.demand_factor_on(day.date);
        let mut out = AccountDay {
            date: day.date,
            et0: day.et0,
            demand_from: day.demand_from,
            gauge: day.rain.unwrap_or(Millimetres::ZERO),
            water: Flows { depletion: Millimetres::from_mm(zone.depletion), ..Flows::default() },
            refill_at: root_zone.readily_available(),
            short: false,
            evidence,
            reset_from: None,
        };
        let next = facts.evidence.get(at + 1).copied().unwrap_or(Evidence::AsAdvised);
        let mut night = facts.nights.get(at).filter(|night| night.barred.is_none());
        let mut root_cut = zone.cut_to(&root_zone);
        for hour in sky.hours(day) {
            let hour = if day.drizzle { SkyHour { rain: Millimetres::ZERO, ..hour } } else { hour };
            if let Some(decided) = night.filter(|n| n.decided <= hour.from) {
                night = None;
                zone.advise(decided, &root_zone, evidence, next, day);
            }
            let mut water = if zone.stirs(&hour) {
                zone.hour(&hour, factor, &root_zone)
            } else {
                zone.still_hour(&hour, factor, &root_zone)
            };
            water.root_cut = core::mem::take(&mut root_cut);
            out.short |= water.et.mm() < water.demand.mm() - NOTHING_MM;
            let reset_from = if facts.readings.is_empty() { None } else { zone.read(&hour, &root_zone) };
            out.water.add(&water);
            if reset_from.is_some() {
                out.reset_from = out.reset_from.or(reset_from);
                water.depletion = Millimetres::from_mm(zone.depletion);
                out.water.depletion = water.depletion;
            }
            each(&AccountHour { date: day.date, from: hour.from, water, evidence, reset_from });
        }
        days.push(out);
    }
    let mm = Millimetres::from_mm;
    (days, ZoneState { depletion: mm(zone.depletion), standing: mm(zone.standing) }, zone.ran)
}

/// A zone on its way through the hours.
struct ZoneRun<'a> {
    facts: &'a ZoneFacts<'a>,
    /// As it is on the day that is counted.
    resolved: &'a ResolvedZone,
    /// mm missing from full, and mm standing on the surface.
    depletion: f64,
    standing: f64,
    /// mm/s.
    intake: f64,
    rate: f64,
    most_standing: f64,
    rain_share: f64,
    /// Share of watering that falls where there is more than the mean.
    lost: f64,
    week: Week,
    next_run: usize,
    advised: VecDeque<Watering>,
    /// Everything that was advised.
    ran: Vec<Watering>,
    next_reading: usize,
}

impl<'a> ZoneRun<'a> {
    fn new(facts: &'a ZoneFacts<'a>) -> Self {
        let mut new = Self {
            facts,
            resolved: facts.resolved,
            depletion: 0.0,
            standing: 0.0,
            intake: 0.0,
            rate: 0.0,
            most_standing: 0.0,
            rain_share: 0.0,
            lost: 0.0,
            week: Week::default(),
            next_run: 0,
            advised: VecDeque::new(),
            ran: Vec::new(),
            next_reading: 0,
        };
        new.adopt(facts.zone, facts.resolved);
        new
    }

    /// Goes on with a survey; what is missing and what stands stay as they are.
    fn adopt(&mut self, zone: &Zone, resolved: &'a ResolvedZone) {
        self.resolved = resolved;
        self.intake = zone.soil.basic_intake().mm_per_hour() / 3600.0;
        self.rate = resolved.rate.value.mm_per_hour() / 3600.0;
        self.most_standing = zone.soil.allowable_surface_accumulation(resolved.slope_pct.value).mm();
        self.rain_share = resolved.rain_share.fraction();
        self.lost = resolved.uneven.fraction().max(0.0);
    }

    /// Decides a night for want of knowledge: back to full when it is due, in cycles from the first open minute.
    fn advise(
        &mut self,
        night: &ZoneNight,
        root_zone: &RootZone,
        this: Evidence,
        next: Evidence,
        day: &SkyDay,
    ) {
        let Some(TimeSpan { from: opens, until: shuts }) = night.open else { return };
        let resolved = self.resolved;
        let tomorrow = day.date.tomorrow().unwrap_or(day.date);
        let expected = day.expected_next * resolved.demand_factor_on(tomorrow);
        let missing = Millimetres::from_mm(self.depletion).min(root_zone.total_available);
        let due = match self.facts.advise {
            Advise::AtRefill => is_due(root_zone, missing, expected),
            Advise::Nightly => missing.mm() >= LEAST_NIGHTLY_MM || is_due(root_zone, missing, expected),
        };
        if !due {
            return;
        }
        let morning = if opens < day.ends { day.date } else { tomorrow };
        if !self.week.admits(morning, night.most_a_week) {
            return;
        }
        let whole = run_time(missing, resolved.rate.value, resolved.multiplier);
        let cycles = cycles(whole, resolved.cycle_limit);
        let cycles = night.most_minutes.map_or(cycles, |most| cycles.at_most(u32::from(most)));
        let soak = Seconds::from_min(cycles.soak_minutes.into());
        let minutes = Seconds::from_min(cycles.minutes_each.into());
        // A controller that computes itself counts seconds, and never more than is missing.
        let each = match self.facts.advise {
            Advise::AtRefill => minutes,
            Advise::Nightly => minutes.min(Seconds::of(whole * (1.0 / f64::from(cycles.count)), f64::floor)),
        };
        let mut from = opens;
        let mut runs = false;
        for _ in 0..cycles.count {
            let until = (from + each).min(shuts);
            let known = if from < day.ends { this } else { next };
            if from < until && known == Evidence::AsAdvised {
                self.advised.push_back(Watering::plain(from, until));
                self.ran.push(Watering::plain(from, until));
                runs = true;
            }
            from = until + soak;
        }
        if runs {
            self.week.count(morning);
        }
    }

    /// No more can be missing than the root zone holds; what went beyond is returned.
    fn cut_to(&mut self, root_zone: &RootZone) -> Millimetres {
        let beyond = (self.depletion - root_zone.total_available.mm()).max(0.0);
        self.depletion -= beyond;
        Millimetres::from_mm(beyond)
    }

    /// Whether anything falls, runs or stands in an hour.
    fn stirs(&mut self, hour: &SkyHour) -> bool {
        self.has_run(hour) || self.standing > 0.0 || hour.rain.mm() > 0.0
    }

    /// The water of an hour in which only the plants take some.
    #[inline]
    fn still_hour(&mut self, hour: &SkyHour, factor: f64, root_zone: &RootZone) -> Flows {
        let (demand, et) = self.take(hour, factor, root_zone);
        let mm = Millimetres::from_mm;
        Flows { demand: mm(demand), et: mm(et), depletion: mm(self.depletion), ..Flows::default() }
    }

    /// What the plants ask for in an hour, and take.
    #[inline]
    fn take(&mut self, hour: &SkyHour, factor: f64, root_zone: &RootZone) -> (f64, f64) {
        let demand = hour.et0.mm() * factor;
        if demand <= 0.0 {
            return (0.0, 0.0);
        }
        let ks = root_zone.stress_coefficient(Millimetres::from_mm(self.depletion));
        let left = (root_zone.total_available.mm() - self.depletion).max(0.0);
        let et = (ks * demand).min(left);
        self.depletion += et;
        (demand, et)
    }

    /// The water of an hour.
    fn hour(&mut self, hour: &SkyHour, factor: f64, root_zone: &RootZone) -> Flows {
        let rain = hour.rain.mm() * self.rain_share;
        let mut out = Flows { rain: Millimetres::from_mm(rain), ..Flows::default() };
        let mut drained = 0.0;
        let (mut rain_in, mut applied_in) = (0.0, 0.0);
        if self.facts.advise == Advise::Nightly && rain > 0.0 && !self.advised.is_empty() {
            self.rained_off(hour.from);
        }
        let runs = self.has_run(hour);
        if runs || rain > 0.0 || self.standing > 0.0 {
            let surface = self.surface(hour, rain, runs);
            (rain_in, applied_in) = (surface.rain - surface.rain_off, surface.applied - surface.applied_off);
            out.rain_in = Millimetres::from_mm(rain_in);
            out.applied = Millimetres::from_mm(surface.applied);
            out.applied_in = Millimetres::from_mm(applied_in);
            out.applied_off = Millimetres::from_mm(surface.applied_off);
            out.runoff = Millimetres::from_mm(surface.rain_off + surface.applied_off);
        }
        if rain_in + applied_in > 0.0 {
            let lost = applied_in * self.lost;
            let left = self.depletion - rain_in - (applied_in - lost);
            let beyond = (-left).max(0.0);
            drained = lost + beyond;
            self.depletion = left.max(0.0);
            let watering = (applied_in - lost) / (rain_in + applied_in - lost).max(f64::MIN_POSITIVE);
            out.applied_drained = Millimetres::from_mm(lost + beyond * watering);
            out.uneven = Millimetres::from_mm(lost);
        }
        let (demand, et) = self.take(hour, factor, root_zone);
        out.demand = Millimetres::from_mm(demand);
        out.et = Millimetres::from_mm(et);
        out.drainage = Millimetres::from_mm(drained);
        out.depletion = Millimetres::from_mm(self.depletion);
        out
    }

    /// A controller that computes itself stops for the night when it rains.
    fn rained_off(&mut self, at: Timestamp) {
        self.advised.clear();
        self.ran.retain(|run| run.from < at);
        if let Some(last) = self.ran.last_mut() {
            last.until = last.until.min(at);
        }
    }

    /// Whether a run touches an hour; runs that ended before it are left behind.
    fn has_run(&mut self, hour: &SkyHour) -> bool {
        while self.facts.runs.get(self.next_run).is_some_and(|run| run.until <= hour.from) {
            self.next_run += 1;
        }
        while self.advised.front().is_some_and(|run| run.until <= hour.from) {
            self.advised.pop_front();
        }
        let begins = |run: Option<&Watering>| run.is_some_and(|run| run.from < hour.until);
        begins(self.facts.runs.get(self.next_run)) || begins(self.advised.front())
    }

    /// What reaches the surface in an hour and what runs off it.
    fn surface(&mut self, hour: &SkyHour, rain: f64, runs: bool) -> Surface {
        let length = seconds(hour.from, hour.until);
        let raining = rain / length.max(1.0);
        let mut out = Surface::default();
        if !runs {
            self.stand(length, raining, 0.0, &mut out);
            return out;
        }
        let known = self.facts.runs.get(self.next_run..).unwrap_or_default().iter();
        let mut spans: Vec<Watering> = known.take_while(|run| run.from < hour.until).copied().collect();
        spans.extend(self.advised.iter().take_while(|run| run.from < hour.until).copied());
        spans.sort_by_key(|run| run.from);
        let mut clock = hour.from;
        for run in spans {
            let (from, until) = (run.from.max(clock), run.until.min(hour.until));
            if from >= until {
                continue;
            }
            self.stand(seconds(clock, from), raining, 0.0, &mut out);
            self.stand(seconds(from, until), raining, self.rate * run.strength, &mut out);
            clock = until;
        }
        self.stand(seconds(clock, hour.until), raining, 0.0, &mut out);
        out
    }

    /// Some seconds of steady rain and watering, mm/s each.
    fn stand(&mut self, length: f64, rain: f64, applied: f64, out: &mut Surface) {
        if length <= 0.0 {
            return;
        }
        let coming = rain + applied;
        out.rain += rain * length;
        out.applied += applied * length;
        let standing = self.standing + (coming - self.intake) * length;
        let off = (standing - self.most_standing).max(0.0);
        self.standing = standing.clamp(0.0, self.most_standing);
        if off > 0.0 {
            out.rain_off += off * rain / coming;
            out.applied_off += off * applied / coming;
        }
    }

    /// Takes over the readings that fall nearest to the end of an hour; returns what was computed before.
    fn read(&mut self, hour: &SkyHour, root_zone: &RootZone) -> Option<Millimetres> {
        let mut before = None;
        let half = SignedDuration::from_secs(1800);
        while let Some(reading) = self.facts.readings.get(self.next_reading) {
            if reading.at >= hour.until + half {
                break;
            }
            self.next_reading += 1;
            // One from before the account began says nothing about it.
            if reading.at >= hour.from - half {
                before = before.or(Some(Millimetres::from_mm(self.depletion)));
                self.depletion = reading.depletion(root_zone.total_available).mm();
                self.standing = 0.0;
            }
        }
        before
    }
}

/// Days of a week, Monday to Sunday, on which a zone was watered.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Week {
    monday: Option<Date>,
    days: u8,
}

impl Week {
    /// Whether another day of the week of a date is left.
    pub(crate) fn admits(&self, date: Date, most: u8) -> bool {
        let used = if self.monday == Some(monday_of(date)) { self.days } else { 0 };
        used < most
    }

    /// Counts a day.
    pub(crate) fn count(&mut self, date: Date) {
        let monday = Some(monday_of(date));
        let used = if self.monday == monday { self.days } else { 0 };
        *self = Self { monday, days: used + 1 };
    }
}

/// What reached the surface and what ran off, mm.
#[derive(Default)]
struct Surface {
    rain: f64,
    rain_off: f64,
    applied: f64,
    applied_off: f64,
}

fn seconds(from: Timestamp, until: Timestamp) -> f64 {
    until.duration_since(from).as_secs_f64()
}

/// Whether a zone is due: it has reached its refill point or would pass it tomorrow, and enough is missing to be
/// worth a start.
#[must_use]
pub fn is_due(root_zone: &RootZone, depletion: Millimetres, expected: Millimetres) -> bool {
    let raw = root_zone.readily_available();
    depletion + expected >= raw && depletion >= raw * SMALLEST_REFILL_SHARE && depletion > Millimetres::ZERO
}

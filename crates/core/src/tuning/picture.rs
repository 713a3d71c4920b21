//! Everything that a diagnosis looks at, put side by side once: what was seen, what the account expects, what each
//! zone gets against what it asks for.

use super::visit::{ControllerSeen, Looks, SensorSeen, Sign, Visit, ZoneSeen};
use crate::account::running::{ControllerFacts, ControllerRun, SensorFacts, running};
use crate::account::site_account::{AccountInputs, SiteAccount, ZoneAccount};
use crate::account::zone::AccountDay;
use crate::controller::schedule::Settings;
use crate::installation::{Given, Installation, given};
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::time::midnight;
use crate::quantity::units::Millimetres;
use crate::site::{ResolvedZone, StationId, SurveyedZone, Zone};
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};

/// Days before a visit that are looked at (one to two weeks after a set-up: common practice).
pub const LOOK_BACK_DAYS: i32 = 14;
/// Days that are looked at at least, though something was changed since.
const LEAST_DAYS: i32 = 5;
/// Plants that took less of what they asked for look dry (our stated bound).
pub(super) const DRY_BELOW: f64 = 0.9;
/// This much beyond the refill point a zone looks dry, though its plants still cope (our stated bound).
const DRY_BEYOND: f64 = 1.1;
/// Watering that drained or ran off, over demand, above which a zone looks wet (our stated bound).
pub(super) const WET_ABOVE: f64 = 0.3;
/// A reading of less than this share of what is left at the refill point is dry (our stated bound).
const READ_DRY: f64 = 0.9;
/// With more than this left of the available water nothing is dry (our stated bound).
const DOUBT_FULL: f64 = 0.8;
/// What was read within so long before a visit is of it.
pub(super) const OF_THE_VISIT: jiff::SignedDuration = jiff::SignedDuration::from_hours(12);
/// Rain that reached a zone in the last days after which wet ground says nothing, mm (our stated bound).
const RAINED_MM: f64 = 8.0;
/// Rain that drained in the last days after which a zone looks wet of itself, mm (our stated bound).
const SOAKED_MM: f64 = 8.0;
/// Days in which rain that drained still shows.
const SOAKED_DAYS: usize = 2;

/// A zone of a picture.
pub(super) struct ZonePicture<'a> {
    pub zone: &'a Zone,
    pub resolved: &'a ResolvedZone,
    pub seen: Option<&'a ZoneSeen>,
    /// How the account expects it to look.
    pub expected: Looks,
    /// What its runs bring in a week, net, as set and with the percentages of these days, over what it asked for;
    /// rain and holds left out. `None` where nothing is known to run.
    pub gets: Option<f64>,
    /// Longest wait between two waterings, days.
    pub gap_days: Option<i32>,
    /// Days from full to the refill point at the demand of these days.
    pub refill_days: f64,
    /// Runs of these days that were held.
    pub held: Vec<&'a ControllerRun>,
    /// Runs of these days.
    pub runs: usize,
    /// Programs that water it as set, by index.
    pub programs: Vec<usize>,
    /// Whether rain of the last days explains wet ground.
    pub rained: bool,
}

impl ZonePicture<'_> {
    pub fn key(&self) -> StationId {
        self.zone.station_id()
    }

    /// How it was found: by its looks, else by what a probe or a spade says.
    pub fn looks(&self) -> Option<Looks> {
        self.seen.and_then(|s| s.looks.or_else(|| self.by_reading()))
    }

    /// How a reading of the soil would have it look.
    pub fn by_reading(&self) -> Option<Looks> {
        let left = self.seen?.available?.fraction();
        let refill = 1.0 - self.resolved.allowable_depletion.value.fraction();
        Some(if left < refill * READ_DRY { Looks::Dry } else { Looks::Right })
    }

    /// Whether looks and reading cannot both be so: dry to the eye and well filled, or wet and dried out.
    pub fn is_doubtful(&self) -> bool {
        let looks = self.seen.and_then(|s| s.looks);
        let left = self.seen.and_then(|s| s.available).map(|a| a.fraction());
        match (looks, left) {
            (Some(Looks::Dry), Some(left)) => left > DOUBT_FULL,
            (Some(Looks::Wet), Some(_)) => self.by_reading() == Some(Looks::Dry),
            _ => false,
        }
    }

    pub fn has(&self, sign: Sign) -> bool {
        self.seen.is_some_and(|s| s.signs.contains(&sign))
    }

    /// Whether somebody looked at it at all.
    pub fn looked_at(&self) -> bool {
        self.seen.is_some_and(|s| s.looks.is_some() || !s.signs.is_empty())
    }

    /// What the meter read while it ran, over what it takes by rate and area.
    pub fn flow_ratio(&self) -> Option<f64> {
        let expected = self.resolved.rate.value.flow_over(self.zone.area?).l_per_min();
        let read = self.seen?.flow?.l_per_min();
        (expected > 0.0).then_some(read / expected)
    }
}

/// A controller of a picture.
pub(super) struct ControllerPicture<'a> {
    pub facts: &'a ControllerFacts,
    pub there: Installation,
    pub settings: Option<&'a Settings>,
    pub seen: Option<&'a ControllerSeen>,
    /// When its percentages were last turned, as far back as it is known; `None`: always as they are.
    pub percentage_since: Option<Timestamp>,
    /// When it was last set at all.
    pub set_since: Option<Timestamp>,
    /// Middle of what its zones get.
    pub middle: Option<f64>,
    /// The percentage of most of its water.
    pub percentage: Option<Percentage>,
    /// What each of its zones gets in a week as set now, rain and holds left out.
    pub given: Vec<Given>,
    /// Its runs of these days.
    pub runs: &'a [ControllerRun],
}

/// What a diagnosis looks at.
pub(super) struct Picture<'a> {
    pub facts: &'a AccountInputs,
    pub visit: &'a Visit,
    pub date: Date,
    pub zones: Vec<ZonePicture<'a>>,
    pub controllers: Vec<ControllerPicture<'a>>,
    /// What the main meter counted since it was read last, over what the runs would have taken; nought over
    /// nought says nothing.
    pub meter: Option<f64>,
    /// Reference ET of these days over that of the hottest month.
    pub weather: f64,
}

impl<'a> Picture<'a> {
    pub fn of(facts: &'a AccountInputs, account: &'a SiteAccount, visit: &'a Visit) -> Self {
        let date = visit.at.to_zoned(facts.tz.clone()).date();
        let from = window(facts, visit, date);
        let begin = midnight(from, &facts.tz);
        let own_runs = |number: u8| {
            let all =
                account.runs.controllers().find(|(n, _)| *n == number).map_or(&[][..], |(_, runs)| runs);
            let first = all.partition_point(|r| r.run.start < begin);
            let all = all.get(first..).unwrap_or_default();
            all.get(..all.partition_point(|r| r.run.start < visit.at)).unwrap_or_default()
        };
        let mut controllers: Vec<ControllerPicture<'_>> = facts
            .controllers
            .iter()
            .map(|own| ControllerPicture {
                there: facts.installation(own, date),
                settings: own.settings_at(visit.at),
                seen: visit.of_controller(own.number),
                percentage_since: turned(own, visit.at),
                set_since: own.versions.iter().rfind(|(at, _)| *at <= visit.at).map(|(at, _)| *at),
                middle: None,
                percentage: percentage(own, visit.at, date),
                given: weekly(own, facts, visit.at, from),
                runs: own_runs(own.number),
                facts: own,
            })
            .collect();
        let zones: Vec<ZonePicture<'_>> = facts
            .zones
            .iter()
            .filter_map(|SurveyedZone { zone, resolved }| {
                let days = account.zone(zone.station_id())?.days.as_slice();
                let own = controllers.iter().find(|b| b.facts.number == zone.controller_number);
                Some(of_zone(zone, resolved, days, own, visit, from))
            })
            .collect();
        for own in &mut controllers {
            let gets = zones.iter().filter(|z| z.zone.controller_number == own.facts.number);
            own.middle = middle(gets.filter_map(|z| z.gets).collect());
        }
        let days = account.sky.days().iter().filter(|d| d.date >= from && d.date <= date);
        let (sum, count) = days.fold((0.0, 0.0), |(s, n), d| (s + d.et0.mm(), n + 1.0));
        let year = facts.climate.monthly_expected_et0(date.year());
        let peak = year.iter().map(|et0| et0.mm()).fold(0.0, f64::max);
        let weather = if count > 0.0 && peak > 0.0 { sum / count / peak } else { 1.0 };
        let meter = metered(facts, account, visit);
        Self { facts, visit, date, zones, controllers, meter, weather }
    }

    pub fn of_controller(&self, number: u8) -> impl Iterator<Item = &ZonePicture<'a>> {
        self.zones.iter().filter(move |z| z.zone.controller_number == number)
    }

    /// A sensor as it was found.
    pub fn sensor(&self, own: &SensorFacts) -> Option<&'a SensorSeen> {
        self.visit.sensor(&own.sensor.name)
    }
}

/// The first day looked at: two weeks back, or the day of the last change after that, at least some days.
fn window(facts: &AccountInputs, visit: &Visit, date: Date) -> Date {
    let back = |days: i32| date.checked_sub(days.days()).unwrap_or(date);
    let versions = facts.controllers.iter().flat_map(|b| &b.versions).map(|(at, _)| *at);
    let last = versions.filter(|at| *at <= visit.at).max();
    let last = last.map(|at| at.to_zoned(facts.tz.clone()).date());
    last.unwrap_or(back(LOOK_BACK_DAYS)).clamp(back(LOOK_BACK_DAYS), back(LEAST_DAYS))
}

/// When the percentages of a controller were last turned.
fn turned(own: &ControllerFacts, at: Timestamp) -> Option<Timestamp> {
    let known: Vec<_> = own.versions.iter().filter(|(since, _)| *since <= at).collect();
    let changes = known.windows(2).rev().find_map(|pair| {
        let [(_, before), (since, after)] = pair else { return None };
        (before.percentages != after.percentages).then_some(*since)
    });
    changes.or_else(|| known.first().map(|(since, _)| *since).filter(|since| *since > Timestamp::MIN))
}

/// The percentage of the program that waters longest.
fn percentage(own: &ControllerFacts, at: Timestamp, date: Date) -> Option<Percentage> {
    let settings = own.settings_at(at)?;
    let watered = |p: &&(usize, i64)| p.1 > 0;
    let programs = settings.programs.iter().enumerate().filter(|(_, p)| p.waters());
    let length = programs.map(|(i, p)| (i, p.run_times.iter().map(|(_, t)| t.s()).sum::<i64>()));
    let longest = length.collect::<Vec<_>>();
    let longest = longest.iter().filter(watered).max_by_key(|(_, s)| *s)?;
    Some(settings.percentages.of(longest.0, date))
}

fn of_zone<'a>(
    zone: &'a Zone,
    resolved: &'a ResolvedZone,
    days: &[AccountDay],
    own: Option<&ControllerPicture<'a>>,
    visit: &'a Visit,
    from: Date,
) -> ZonePicture<'a> {
    let first = days.partition_point(|d| d.date < from);
    let days = days.get(first..).unwrap_or_default();
    let count = f64::from(u32::try_from(days.len()).unwrap_or(1).max(1));
    let sum = |of: fn(&AccountDay) -> Millimetres| days.iter().map(of).sum::<Millimetres>().mm();
    let demand = sum(|d| d.water.demand) / count;
    let runs = own.map_or(&[][..], |b| b.runs);
    let runs = || runs.iter().filter(move |r| r.run.station == zone.number);
    let given = own.and_then(|own| own.given.iter().find(|g| g.station == zone.number));
    let raw = resolved.root_zone_on(from).readily_available().mm();
    let seen = visit.zone(zone.station_id());
    let last = days.iter().rev().take(SOAKED_DAYS);
    let rained = last.map(|d| d.water.rain.mm()).sum::<f64>() >= RAINED_MM;
    ZonePicture {
        zone,
        resolved,
        seen,
        expected: if rained && seen.and_then(|s| s.looks) == Some(Looks::Wet) {
            Looks::Wet
        } else {
            expected(days)
        },
        gets: given.filter(|_| demand > 0.01).map(|g| g.net_a_week.mm() / (demand * 7.0)),
        gap_days: given.and_then(|g| g.longest_gap_days),
        refill_days: if demand > 0.0 { raw / demand } else { f64::INFINITY },
        held: runs().filter(|r| r.is_held()).collect(),
        runs: runs().count(),
        programs: own.and_then(|own| own.settings).map_or_else(Vec::new, |s| programs(s, zone.number)),
        rained,
    }
}

/// The programs that water a station.
fn programs(settings: &Settings, station: u16) -> Vec<usize> {
    let waters = |p: &crate::controller::schedule::Program| {
        p.waters() && p.run_times.iter().any(|(n, t)| *n == station && t.any())
    };
    settings.programs.iter().enumerate().filter(|(_, p)| waters(p)).map(|(at, _)| at).collect()
}

/// What the zones of a controller get in a week as it is set now.
fn weekly(own: &ControllerFacts, facts: &AccountInputs, at: Timestamp, from: Date) -> Vec<Given> {
    let Some(settings) = own.settings_at(at).filter(|_| !own.computes_itself()) else { return Vec::new() };
    let settings = settings.awake().with_rhythms_since(from);
    let until = from.checked_add((LOOK_BACK_DAYS - 1).days()).unwrap_or(from);
    let now = ControllerFacts { versions: vec![(Timestamp::MIN, settings.clone())], ..own.clone() };
    let runs: Vec<_> = running(&now, facts.surveys(), &facts.tz, from, until).iter().map(|r| r.run).collect();
    given(&facts.installation(own, from), &settings, &runs, 2)
}

/// How a zone of a site should look on the last day of its account: what a visitor's look is put beside.
#[must_use]
pub fn expected_look(zone: &ZoneAccount) -> Looks {
    let first = zone.days.len().saturating_sub(usize::try_from(LOOK_BACK_DAYS).unwrap_or(usize::MAX));
    expected(zone.days.get(first..).unwrap_or_default())
}

/// How the account expects a zone to look.
pub(super) fn expected(days: &[AccountDay]) -> Looks {
    let sum = |of: fn(&AccountDay) -> Millimetres| days.iter().map(of).sum::<Millimetres>().mm();
    let demand = sum(|d| d.water.demand);
    let Some(last) = days.last() else { return Looks::Right };
    let missing = last.reset_from.unwrap_or(last.water.depletion).mm();
    let lost = sum(|d| d.water.applied_drained - d.water.uneven + d.water.applied_off);
    let soaked = days.iter().rev().take(SOAKED_DAYS);
    let soaked: f64 = soaked.map(|d| (d.water.drainage - d.water.applied_drained).mm()).sum();
    match () {
        () if demand > 0.0 && sum(|d| d.water.et) / demand < DRY_BELOW => Looks::Dry,
        () if missing > last.refill_at.mm() * DRY_BEYOND => Looks::Dry,
        () if soaked > SOAKED_MM => Looks::Wet,
        () if demand > 0.0 && lost / demand > WET_ABOVE => Looks::Wet,
        () => Looks::Right,
    }
}

/// The middle of some shares.
pub(super) fn middle(mut all: Vec<f64>) -> Option<f64> {
    all.sort_by(f64::total_cmp);
    let at = all.len() / 2;
    let upper = *all.get(at)?;
    Some(if all.len() % 2 == 1 { upper } else { (all.get(at - 1)? + upper) / 2.0 })
}

/// What the main meter counted since it was read last, over what the runs of the account would have taken.
fn metered(facts: &AccountInputs, account: &SiteAccount, visit: &Visit) -> Option<f64> {
    let now = visit.meter?;
    let before = facts.log.meter.iter().rfind(|m| m.at < visit.at - OF_THE_VISIT)?;
    let counted = now.l() - before.counted.l();
    let mut expected = 0.0;
    for (number, runs) in account.runs.controllers() {
        let within = runs.iter().filter(|r| r.run.start >= before.at && r.run.start < visit.at);
        for run in within.filter(|r| !r.is_held()) {
            let SurveyedZone { zone, resolved } = facts.zone(StationId::new(number, run.run.station))?;
            let flow = resolved.rate.value.flow_over(zone.area?);
            expected += flow.for_time(run.waters().minutes()).l();
        }
    }
    (expected > 0.0 && counted >= 0.0).then_some(counted / expected)
}

/// A share from a ratio, for showing.
pub(super) fn share(ratio: f64) -> Share {
    Share::from_fraction(ratio)
}

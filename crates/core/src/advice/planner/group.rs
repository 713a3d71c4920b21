//! Which zones share a program: the same allowed days, the same rhythm, the same kind of plants,
//! merged when the controller has too few programs.

use super::allowed_days::{AllowedDays, Pattern, allowed_days, patterns};
use super::{Attempt, Binding, Request, Strategy};
use crate::controller::ordinance::Subject;
use crate::controller::schedule::expand;
use crate::controller::windows::Windows;
use crate::ground::application::{Cycles, HeadType, cycles};
use crate::ground::plant::PlantKind;
use crate::installation::{NEED_SHARES, WiredZone, given};
use crate::quantity::span::MinuteSpan;
use crate::quantity::units::{Millimetres, Minutes};

/// Zones that take the same percentage over the year.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Plants {
    Drip,
    Beds,
    Turf,
}

fn plants(zone: &WiredZone) -> Plants {
    match (zone.zone.head, zone.zone.plant) {
        (HeadType::Drip, _) => Plants::Drip,
        (_, PlantKind::CoolSeasonTurf | PlantKind::WarmSeasonTurf) => Plants::Turf,
        _ => Plants::Beds,
    }
}

/// A zone with what one watering takes.
#[derive(Debug, Clone)]
pub(super) struct Member {
    pub zone: WiredZone,
    pub net: Millimetres,
    pub run_time: Minutes,
    /// What of it the law allows no minutes for.
    pub unlawful: Minutes,
    /// Cycles by soil and slope, in whole minutes.
    pub cycles: Cycles,
}

impl Member {
    /// Run time that the law leaves out, if it is worth a word.
    pub fn unlawful(&self) -> Option<Minutes> {
        Some(self.unlawful).filter(|m| m.min_value() >= 1.0)
    }
}

/// Zones of one rhythm.
#[derive(Debug, Clone)]
pub(super) struct ZoneGroup {
    pub days: AllowedDays,
    pub pattern: Pattern,
    plants: Plants,
    pub members: Vec<Member>,
    pub merged: bool,
}

impl ZoneGroup {
    /// The zone that needs water soonest.
    pub fn tightest(&self) -> Option<(u16, f64)> {
        self.members
            .iter()
            .map(|m| (m.zone.zone.number, m.zone.days_to_refill()))
            .min_by(|a, b| a.1.total_cmp(&b.1).then(a.0.cmp(&b.0)))
    }
}

/// Refuses what no schedule can help: no zones, a zone beyond controller or supply.
pub(super) fn survey(request: &Request<'_>) -> Result<(), Binding> {
    let installation = request.installation;
    if installation.zones.is_empty() {
        return Err(Binding::NoZones);
    }
    for zone in &installation.zones {
        let station = zone.zone.number;
        if station > installation.card.stations {
            return Err(Binding::NoStation { station });
        }
        if let (Some(flow), Some(supply)) = (zone.flow, installation.supply)
            && flow > supply
        {
            return Err(Binding::Supply { station, flow, supply });
        }
    }
    Ok(())
}

/// Programs that are not about watering by need: lighting, and pulses until an end time.
pub(super) fn kept_programs(request: &Request<'_>) -> Vec<usize> {
    let present = request.present;
    (0..)
        .zip(&present.programs)
        .filter(|(_, p)| p.waters())
        .filter(|(_, p)| {
            p.repeat.is_some() || p.run_times.iter().all(|(n, s)| !s.any() || present.station(*n).lighting)
        })
        .map(|(index, _)| index)
        .take_while(|index| *index < usize::from(request.installation.card.programs))
        .collect()
}

/// Weeks over which kept programs are looked at.
const KEPT_WEEKS: u16 = 4;

/// Zones that kept programs water by themselves. One that a loop only wets for a few minutes, such as a syringe
/// against heat, still needs its watering.
pub(super) fn left_to(request: &Request<'_>, kept: &[usize]) -> Vec<u16> {
    let there = request.installation;
    let mut settings = request.present.awake();
    for (index, program) in settings.programs.iter_mut().enumerate() {
        program.active &= kept.contains(&index);
    }
    let last = i64::from(KEPT_WEEKS) * 7 - 1;
    let to = request.from.checked_add(jiff::Span::new().days(last)).unwrap_or(request.from);
    let runs = expand(&settings, &there.card, &there.tz, request.from, to);
    let watered = given(there, &settings, &runs, KEPT_WEEKS)
        .into_iter()
        .filter(|g| g.minutes_a_week > 0.0)
        .filter(|g| g.minutes_a_week >= NEED_SHARES.0.fraction() * g.minutes_needed)
        .map(|g| g.station);
    // A station that is set as lighting waters nothing, whatever zone is described on it; the checks say so.
    let lights = there.zones.iter().map(|z| z.zone.number).filter(|n| request.present.station(*n).lighting);
    watered.chain(lights).collect()
}

fn member(request: &Request<'_>, zone: &WiredZone, days: &AllowedDays, pattern: &Pattern) -> Member {
    let share = f64::from(request.relax.share_pct.unwrap_or(100)) / 100.0;
    let need = zone.demand * (7.0 / pattern.waterings_a_week());
    let net = match request.strategy.fixed_depth() {
        // Deep, but no more than its plants use until the next time: the rest would drain.
        Some((_, depth)) => depth.min(need),
        None => need,
    };
    let wanted = zone.minutes_for(net * share);
    let lawful = days.most_minutes.map_or(f64::INFINITY, |m| f64::from(m) / f64::from(pattern.waterings));
    let run_time = Minutes::from_min(wanted.min_value().min(lawful));
    Member {
        zone: zone.clone(),
        net: zone.net_of(run_time),
        run_time,
        unlawful: Minutes::from_min(wanted.min_value() - run_time.min_value()),
        // Time between two cycles that is spent on the station delay counts as soak.
        cycles: cycles(run_time, zone.resolved.cycle_limit),
    }
}

/// Every other day, where a controller and its law have that.
fn every_other(all: &[Pattern]) -> Option<Pattern> {
    all.iter().find(|p| p.gap_days == 2 && p.phases.len() > 1).cloned()
}

/// The next more frequent patterns, so many steps on.
fn tightened(pattern: Pattern, all: &[Pattern], steps: usize) -> Pattern {
    let more = all.iter().filter(|p| p.events_a_week > pattern.events_a_week + 0.1);
    let mut rhythms: Vec<&Pattern> = Vec::new();
    for p in more {
        if rhythms.last().is_none_or(|last| p.events_a_week > last.events_a_week + 0.1) {
            rhythms.push(p);
        }
    }
    let at = steps.min(rhythms.len());
    at.checked_sub(1).and_then(|i| rhythms.get(i)).map_or(pattern, |p| (*p).clone())
}

/// The shortest run that is planned, minutes (our stated bound): pipes fill and heads rise before they water evenly.
pub const LEAST_RUN_MIN: f64 = 2.0;

/// A pattern whose runs are no shorter than the least run, where a rarer one is within the days to the refill point.
fn rare_enough(pattern: Pattern, zone: &WiredZone, all: &[Pattern]) -> Pattern {
    let run_time = |p: &Pattern| zone.minutes_for(zone.demand * (7.0 / p.events_a_week)).min_value();
    if run_time(&pattern) >= LEAST_RUN_MIN {
        return pattern;
    }
    let bears =
        |p: &&Pattern| f64::from(p.gap_days) <= zone.days_to_refill().max(f64::from(pattern.gap_days));
    let rarer = all.iter().rev().filter(|p| p.events_a_week < pattern.events_a_week).filter(bears);
    rarer.into_iter().find(|p| run_time(p) >= LEAST_RUN_MIN).cloned().unwrap_or(pattern)
}

/// The pattern a strategy wants for a zone out of those the controller can hold, fewest days first.
fn wanted(
    strategy: Strategy,
    zone: &WiredZone,
    all: &[Pattern],
    days: &AllowedDays,
    starts: Option<u32>,
) -> Option<Pattern> {
    let fits = |p: &&Pattern| f64::from(p.gap_days) <= zone.days_to_refill();
    // Where cycles are made from starts, a watering must not need more of them than there are; nor may it take
    // more minutes than the law gives a date.
    let startable = |p: &&Pattern| {
        let run_time = zone.minutes_for(zone.demand * (7.0 / p.events_a_week));
        let lawful = days.most_minutes.is_none_or(|most| run_time.min_value() <= f64::from(most));
        let count = || cycles(run_time, zone.resolved.cycle_limit).count;
        lawful && starts.is_none_or(|starts| count() <= starts)
    };
    match strategy {
        Strategy::DeepOnce | Strategy::DeepTwice => {
            let (count, _) = strategy.fixed_depth()?;
            let off = |p: &Pattern| (p.events_a_week - f64::from(count)).abs();
            all.iter().min_by(|a, b| off(a).total_cmp(&off(b))).cloned()
        }
        Strategy::EveryDay => all.last().cloned(),
        Strategy::JustNeed => all.iter().find(|p| fits(p) && startable(p)).or_else(|| all.last()).cloned(),
        Strategy::SoilBalance => {
            // The longest even rhythm that the root zone bears; weekdays only stand in.
            let even = all.iter().filter(|p| p.phases.len() > 1 || p.events_a_week >= 7.0);
            let even = even
                .filter(|p| fits(p) && startable(p))
                .min_by(|a, b| a.events_a_week.total_cmp(&b.events_a_week));
            even.or_else(|| all.iter().find(|p| fits(p) && startable(p))).or_else(|| all.last()).cloned()
        }
    }
}

/// How unlike two groups are; like ones are merged first.
fn unlike(a: &ZoneGroup, b: &ZoneGroup, drip_apart: bool) -> (u8, u8, u32, u8) {
    let rhythm = (a.pattern.waterings_a_week() - b.pattern.waterings_a_week()).abs();
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "some tens")]
    let rhythm = (rhythm * 10.0).round() as u32;
    let drip = (a.plants == Plants::Drip) != (b.plants == Plants::Drip);
    (u8::from(drip_apart && drip), u8::from(a.days != b.days), rhythm, u8::from(a.plants != b.plants))
}

/// Forms groups, at most as many as there are programs.
// Long: each zone's days, then the groups, then the merging, all about one list.
pub(super) fn form(
    request: &Request<'_>,
    left_out: &[u16],
    programs: usize,
    attempt: Attempt,
) -> Result<Vec<ZoneGroup>, Binding> {
    let installation = request.installation;
    let card = &installation.card;
    let starts = (!card.cycle_and_soak).then_some(u32::from(card.starts_per_program));
    let mut groups: Vec<ZoneGroup> = Vec::new();
    // Zones that the law does not tell apart share what is read from it.
    let mut known: Vec<((Subject, Windows), AllowedDays, Vec<Pattern>)> = Vec::new();
    let planned = installation.zones.iter().filter(|z| z.needs_water());
    for (place, zone) in planned.enumerate().filter(|(_, z)| !left_out.contains(&z.zone.number)) {
        let station = zone.zone.number;
        let subject =
            (installation.law.kind_of(installation.subject(station)), installation.windows_of(station));
        if !known.iter().any(|(s, _, _)| *s == subject) {
            let own = allowed_days(
                installation,
                request.present,
                subject.0,
                subject.1,
                request.span(),
                &request.relax,
            );
            let all = patterns(&own, card, request.from);
            known.push((subject, own, all));
        }
        let Some((_, own, all)) = known.iter().find(|(s, _, _)| *s == subject) else { continue };
        let pattern = wanted(request.strategy, zone, all, own, starts)
            .map(|pattern| rare_enough(pattern, zone, all))
            .filter(|_| !own.usable.is_empty())
            .map(|pattern| {
                let alternates = attempt.alternate >> place.min(31) & 1 == 1;
                if alternates {
                    every_other(all).unwrap_or(pattern)
                } else {
                    tightened(pattern, all, attempt.steps)
                }
            })
            .map(|pattern| pattern.often_enough(zone.days_to_refill(), attempt.waterings))
            .ok_or(Binding::NoDay { station })?;
        let (member, kind) = (member(request, zone, own, &pattern), plants(zone));
        let alike = |g: &&mut ZoneGroup| g.days == *own && g.pattern == pattern && g.plants == kind;
        match groups.iter_mut().find(alike) {
            Some(group) => group.members.push(member),
            None => groups.push(ZoneGroup {
                days: own.clone(),
                pattern,
                plants: kind,
                members: vec![member],
                merged: false,
            }),
        }
    }
    if groups.is_empty() {
        return Err(Binding::NoNeed);
    }
    let drip_apart = request.relax.drip_apart;
    while groups.len() > programs.max(1) {
        let pairs = (0..groups.len()).flat_map(|i| (i + 1..groups.len()).map(move |j| (i, j)));
        let nearest = pairs
            .min_by_key(|(i, j)| groups.get(*i).zip(groups.get(*j)).map(|(a, b)| unlike(a, b, drip_apart)));
        let Some((i, j)) = nearest else { break };
        let second = groups.remove(j);
        if let Some(first) = groups.get_mut(i) {
            merge(request, first, second);
        }
    }
    // Drip first, spray last: towards dawn there is least wind (common practice).
    groups.sort_by(|a, b| a.plants.cmp(&b.plants).then(first_station(a).cmp(&first_station(b))));
    Ok(groups)
}

/// Whether two ways of grouping are the same.
pub(super) fn alike(a: &[ZoneGroup], b: &[ZoneGroup]) -> bool {
    let stations = |g: &ZoneGroup| g.members.iter().map(|m| m.zone.zone.number).collect::<Vec<_>>();
    let same = |(a, b): (&ZoneGroup, &ZoneGroup)| a.pattern == b.pattern && stations(a) == stations(b);
    a.len() == b.len() && a.iter().zip(b).all(same)
}

/// Zones shared out over so many parts whose minutes are as alike as can be, each in order of station.
pub(super) fn shared_out(members: &[Member], parts: usize) -> Vec<Vec<&Member>> {
    // Longest first onto the emptiest part keeps the parts alike; ties by station.
    let mut order: Vec<&Member> = members.iter().collect();
    order.sort_by(|a, b| {
        b.run_time
            .min_value()
            .total_cmp(&a.run_time.min_value())
            .then(a.zone.zone.number.cmp(&b.zone.zone.number))
    });
    let mut shares: Vec<(f64, Vec<&Member>)> = vec![(0.0, Vec::new()); parts];
    for member in order {
        if let Some(share) = shares.iter_mut().min_by(|a, b| a.0.total_cmp(&b.0)) {
            share.0 += member.run_time.min_value();
            share.1.push(member);
        }
    }
    let mut parts: Vec<Vec<&Member>> = shares.into_iter().map(|(_, own)| own).collect();
    parts.iter_mut().for_each(|own| own.sort_by_key(|m| m.zone.zone.number));
    parts
}

/// The groups with their zones split over so many programs that may run side by side, each part as long as the others;
/// `None` where that is more programs than there are, or no other split than the one before.
pub(super) fn abreast(groups: &[ZoneGroup], parts: usize, programs: usize) -> Option<Vec<ZoneGroup>> {
    if parts <= 1 {
        return Some(groups.to_vec());
    }
    let most = groups.iter().map(|g| g.members.len()).max().unwrap_or(0);
    if parts > most {
        return None;
    }
    let mut out = Vec::new();
    for group in groups {
        for members in shared_out(&group.members, parts.min(group.members.len()).max(1)) {
            let members = members.into_iter().cloned().collect();
            out.push(ZoneGroup { members, ..group.clone() });
        }
    }
    (out.len() <= programs).then_some(out)
}

fn first_station(group: &ZoneGroup) -> u16 {
    group.members.iter().map(|m| m.zone.zone.number).min().unwrap_or(0)
}

/// The minutes that two lists of spans share.
fn shared(a: &[MinuteSpan], b: &[MinuteSpan]) -> Vec<MinuteSpan> {
    a.iter().flat_map(|x| b.iter().map(move |y| x.shared(*y))).filter(|span| span.minutes() > 0).collect()
}

/// Two groups in one program keep the stricter days and the tighter rhythm.
fn merge(request: &Request<'_>, first: &mut ZoneGroup, second: ZoneGroup) {
    let card = &request.installation.card;
    let stricter_is_second = (first.days.free, first.days.most) > (second.days.free, second.days.most);
    let both = shared(&first.days.usable, &second.days.usable);
    let days = if stricter_is_second { &second.days } else { &first.days };
    let most = first.pattern.events_a_week.max(second.pattern.events_a_week);
    let waterings = first.pattern.waterings.max(second.pattern.waterings);
    let all = patterns(days, card, request.from);
    let pattern = all.iter().find(|p| p.events_a_week >= most).or_else(|| all.last()).cloned();
    first.days = AllowedDays { usable: both, ..days.clone() };
    first.pattern = pattern.unwrap_or_else(|| first.pattern.clone());
    first.pattern.waterings = if first.pattern.events_a_week >= 7.0 { waterings } else { 1 };
    first.days.most_minutes = first.days.most_minutes.into_iter().chain(second.days.most_minutes).min();
    first.plants = first.plants.max(second.plants);
    first.merged = true;
    first.members.extend(second.members);
    let each = |m: &Member| member(request, &m.zone, &first.days, &first.pattern);
    first.members = first.members.iter().map(each).collect();
    first.members.sort_by_key(|m| m.zone.zone.number);
}

//! What runs together in a night: the zones of a group, or of several whose soaks one another fills, as the controller is
//! keyed with them; not yet on the clock.

use super::group::{Member, ZoneGroup, shared_out};
use super::{Request, ZoneReason};
use crate::controller::Card;
use crate::controller::night::{Due, Keying, Layout, lay_out};
use crate::controller::schedule::{Days, Settings, expand};
use crate::ground::application::Cycles;
use crate::installation::NEED_SHARES;
use crate::quantity::span::MinuteSpan;
use crate::quantity::time::Seconds;
use crate::quantity::units::{LitresPerMinute, Minutes};
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;

/// Least time between two waterings of a day, minutes (our stated default): nearer to each other they are one.
const LEAST_APART_MIN: u32 = 120;

/// A program without its clock.
#[derive(Debug, Clone)]
pub(super) struct Part {
    /// Minutes from the beginning of the block.
    pub starts: Vec<u32>,
    /// Stations and run times at each start.
    pub run_times: Vec<(u16, Seconds)>,
}

/// What runs on one set of nights.
#[derive(Debug, Clone)]
pub(super) struct Phase {
    /// Whose it is, of the groups of the block.
    pub group: usize,
    pub days: Days,
    pub parts: Vec<Part>,
    /// Minutes of one watering.
    pub span_minutes: u32,
}

/// Groups with their place.
#[derive(Debug, Clone)]
pub(super) struct Block {
    pub groups: Vec<ZoneGroup>,
    pub phases: Vec<Phase>,
    /// Minutes from the opening of the window.
    pub begin: u32,
    /// Waterings on each of its days.
    pub waterings: u32,
    /// Minutes from one of them to the next; `None`: the window or the starts of the controller do not hold them.
    pub apart: Option<u32>,
    pub zones: Vec<ZoneReason>,
}

impl Block {
    /// The spans of its nights that it may use.
    pub fn usable(&self) -> &[MinuteSpan] {
        self.groups.first().map_or(&[], |g| &g.days.usable)
    }

    /// Minutes of its nights that it may use.
    pub fn room(&self) -> u32 {
        self.usable().iter().map(|span| span.minutes()).sum()
    }

    /// Minutes of one watering.
    pub fn span(&self) -> u32 {
        self.phases.iter().map(|p| p.span_minutes).max().unwrap_or(0)
    }

    /// When it runs, if it begins at a minute.
    pub fn times(&self, begin: u32) -> impl Iterator<Item = MinuteSpan> + use<> {
        let (span, apart) = (self.span(), self.apart.unwrap_or(0));
        (0..self.waterings).map(move |k| MinuteSpan::new(begin + k * apart, begin + k * apart + span))
    }

    pub fn programs(&self) -> usize {
        self.phases.iter().map(|p| p.parts.len()).sum()
    }

    /// The most that its zones take at once.
    pub fn flow(&self) -> Option<LitresPerMinute> {
        let members = self.groups.iter().flat_map(|g| &g.members);
        members.map(|m| m.zone.flow).try_fold(LitresPerMinute::ZERO, |most, f| Some(most.max(f?)))
    }
}

/// How far apart the waterings of a day are: as far as the longest usable span of its nights lets them.
fn apart(request: &Request<'_>, block: &Block) -> Option<u32> {
    let card = &request.installation.card;
    let more = block.waterings.checked_sub(1).filter(|n| *n > 0);
    let Some(more) = more else { return Some(0) };
    let starts = block.phases.iter().flat_map(|p| &p.parts).map(|p| p.starts.len()).max().unwrap_or(0);
    if starts * usize::try_from(block.waterings).ok()? > usize::from(card.starts_per_program) {
        return None;
    }
    let longest = block.usable().iter().map(|span| span.minutes()).max()?;
    let step = u32::from(card.start_step_min.max(1));
    // The first start may have to go back to the controller's step.
    let room = longest.checked_sub(block.span())?.checked_sub(step - 1)?;
    let apart = room / more / step * step;
    (apart >= LEAST_APART_MIN.max(block.span()).max(soaked(block))).then_some(apart)
}

/// Least minutes between the beginnings of two waterings of a day for the soil to take in the first: where the last
/// cycle of one and the first of the next are together more than a zone takes at once, its soak lies between them.
fn soaked(block: &Block) -> u32 {
    let zones = block.groups.iter().flat_map(|g| &g.members).map(|m| &m.zone);
    let parts = || block.phases.iter().flat_map(|p| &p.parts);
    let needed = zones.flat_map(|zone| {
        let of_part = move |part: &Part| {
            let (_, each) = part.run_times.iter().find(|(station, _)| *station == zone.zone.number)?;
            zone.longest_cycle().filter(|limit| *each + *each > *limit)?;
            let (first, last) = (part.starts.iter().min()?, part.starts.iter().max()?);
            Some(last - first + each.minutes_up() + zone.soak().minutes_up())
        };
        parts().filter_map(of_part).collect::<Vec<u32>>()
    });
    needed.max().unwrap_or(0)
}

/// A run time as the controller can hold it: its own step, and one that 100 % leaves as it is.
fn settable(card: &Card, run_time: Minutes) -> Seconds {
    let (run, round) = (card.run_step.max(Seconds::ONE), card.rounding_step.max(Seconds::ONE));
    // The least common multiple: one that holds both steps.
    let gcd = |mut a: i64, mut b: i64| {
        while b != 0 {
            (a, b) = (b, a % b);
        }
        a.max(1)
    };
    let step = run * (round.s() / gcd(run.s(), round.s()));
    let minutes = step.minutes().min_value();
    Seconds::of(run_time, |s| (s / 60.0 / minutes).round() * minutes * 60.0).max(step)
}

/// A run time of which a law allows so many minutes a date, when it runs so many times on it.
fn lawful(card: &Card, each: Seconds, most: Option<u16>, times: u32) -> Seconds {
    let Some(most) = most else { return each };
    let step = settable(card, Minutes::from_min(0.0));
    let allowed = Seconds::from_min(i64::from(most)).s() / i64::from(times.max(1)) / step.s() * step.s();
    each.min(Seconds::from_s(allowed)).max(step)
}

/// One program where the controller cycles by itself; long run times are split over starts.
// Long: one pass over the members, then the span of the night.
fn built_in(
    request: &Request<'_>,
    members: &[&Member],
    days: Days,
    most: Option<u16>,
    waterings: u32,
) -> (Phase, Vec<ZoneReason>) {
    let card = &request.installation.card;
    let mut run_times = Vec::new();
    let mut zones = Vec::new();
    let total = |m: &Member| settable(card, m.run_time);
    let splits = members.iter().map(|m| total(m).steps_up(card.longest_run)).max().unwrap_or(1);
    let splits = splits.clamp(1, i64::from(card.starts_per_program.max(1)));
    let starts = u32::try_from(splits).unwrap_or(1);
    let mut settings = with_station_settings(request, members);
    for member in members {
        let each = settable(card, total(member).minutes() * (1.0 / f64::from(starts))).min(card.longest_run);
        let each = lawful(card, each, most, starts * waterings);
        let station = member.zone.zone.number;
        run_times.push((station, each));
        let short = total(member) - each * splits;
        let cycles = member.zone.longest_cycle().map_or(1, |longest| each.steps_up(longest));
        zones.push(ZoneReason {
            station,
            net: member.net,
            run_time: member.run_time,
            cycles: Cycles {
                count: u32::try_from(cycles).unwrap_or(1) * starts,
                minutes_each: Seconds::from_s(each.steps_up(Seconds::from_s(cycles))).minutes_up(),
                soak_minutes: member.cycles.soak_minutes,
            },
            short_by: (short > Seconds::from_min(1)).then(|| short.minutes()),
            starts_too_many: None,
            unlawful: member.unlawful(),
        });
    }
    // The controller's own interleaving of soaks decides how long a pass takes.
    let program = settings.programs.first_mut();
    if let Some(program) = program {
        program.active = true;
        program.starts = vec![Time::midnight()];
        program.days = Days::Weekdays([true; 7]);
        program.run_times.clone_from(&run_times);
    }
    let day = Date::constant(2026, 7, 1);
    let runs = expand(&settings, card, &TimeZone::UTC, day, day);
    let begin = runs.iter().map(|r| r.start).min();
    let end = runs.iter().map(|r| r.end).max();
    let pass = begin.zip(end).map_or(Seconds::ZERO, |(b, e)| Seconds::between(b, e)).minutes_up();
    let step = u32::from(card.start_step_min.max(1));
    // Where both passes together are more than the soil takes, the second waits for the soak.
    let over = |m: &&&Member| m.zone.longest_cycle().is_some_and(|limit| total(m) > limit);
    let soak = members.iter().filter(over).map(|m| m.zone.soak()).max().unwrap_or_default();
    let apart = (pass + soak.minutes_up()).div_ceil(step) * step;
    let phase = Phase {
        group: 0,
        days,
        parts: vec![Part { starts: (0..starts).map(|k| k * apart).collect(), run_times }],
        span_minutes: (starts - 1) * apart + pass,
    };
    (phase, zones)
}

/// Several programs by number of cycles where cycles are made from starts.
fn from_starts(
    request: &Request<'_>,
    members: &[&Member],
    days: Days,
    programs: usize,
    law: (Option<u16>, u32),
) -> (Phase, Vec<ZoneReason>) {
    let of_one: Vec<(u8, &Member)> = members.iter().map(|m| (0, *m)).collect();
    let layout = laid_out(request, &of_one, programs);
    let parts = layout.programs.iter().map(|p| part(request, p, law.0, law.1)).collect();
    let zones = reasons(&layout, members);
    (Phase { group: 0, days, parts, span_minutes: layout.span_minutes }, zones)
}

/// A night of some zones, each of the lane of its group.
fn laid_out(request: &Request<'_>, members: &[(u8, &Member)], programs: usize) -> Layout {
    let card = &request.installation.card;
    let longest = (card.longest_run.length_s() / 60).max(1);
    let due: Vec<Due> = members
        .iter()
        .map(|(lane, m)| {
            let total = m.cycles.total_minutes();
            let count = m.cycles.count.max(total.div_ceil(longest)).max(1);
            let cycles = Cycles { count, minutes_each: total.div_ceil(count), ..m.cycles };
            let asked = Seconds::of(m.run_time, |s| (s / 60.0).round() * 60.0).minutes_up().max(1);
            Due { number: m.zone.zone.number, cycles, asked_minutes: asked, urgency: 1.0, lane: *lane }
        })
        .collect();
    let keying = Keying {
        programs: u8::try_from(programs).unwrap_or(u8::MAX),
        cycles_itself: false,
        ..Keying::of(card, request.present.delay)
    };
    lay_out(&due, &keying)
}

/// A laid out program in the steps of the controller.
fn part(
    request: &Request<'_>,
    program: &crate::controller::night::NightProgram,
    most: Option<u16>,
    waterings: u32,
) -> Part {
    let card = &request.installation.card;
    let times = u32::try_from(program.starts.len()).unwrap_or(1) * waterings;
    let each = |minutes: u32| settable(card, Minutes::from_min(f64::from(minutes))).min(card.longest_run);
    let run_times = program.zones.iter();
    let run_times = run_times.map(|(n, minutes)| (*n, lawful(card, each(*minutes), most, times)));
    Part { starts: program.starts.clone(), run_times: run_times.collect() }
}

/// Why each zone of a layout gets what it gets.
fn reasons(layout: &Layout, members: &[&Member]) -> Vec<ZoneReason> {
    let of = |m: &&Member| {
        let own: Vec<_> = layout.runs.iter().filter(|r| r.number == m.zone.zone.number).collect();
        let each = own.first().map_or(0, |r| r.minutes);
        let count = u32::try_from(own.len()).unwrap_or(0);
        let short = f64::from(m.cycles.total_minutes()) - f64::from(count * each);
        let over = f64::from(count * each) / m.run_time.min_value().max(0.1);
        ZoneReason {
            station: m.zone.zone.number,
            net: m.net,
            run_time: m.run_time,
            cycles: Cycles { count, minutes_each: each, soak_minutes: m.cycles.soak_minutes },
            short_by: (short >= 1.0).then(|| Minutes::from_min(short)),
            starts_too_many: (count > m.cycles.count && over > NEED_SHARES.1.fraction()).then_some(count),
            unlawful: m.unlawful(),
        }
    };
    members.iter().map(of).collect()
}

/// A clean controller with what the present one has set for its stations, and cycles where zones need them.
pub(super) fn with_station_settings(request: &Request<'_>, members: &[&Member]) -> Settings {
    let mut settings = Settings::clean(&request.installation.card);
    settings.delay = request.present.delay;
    settings.stations.clone_from(&request.present.stations);
    for member in members {
        let cycle = member.zone.longest_cycle().filter(|longest| member.run_time > longest.minutes());
        settings.update_station(member.zone.zone.number, |s| {
            s.cycle_and_soak = cycle.map(|longest| (longest, member.zone.soak()));
        });
    }
    settings
}

/// Lays a group out over so many sets of nights.
pub(super) fn block(request: &Request<'_>, group: &ZoneGroup, sets: usize, programs: usize) -> Block {
    let sets = sets.clamp(1, group.pattern.phases.len().max(1)).min(group.members.len().max(1));
    let mut phases = Vec::new();
    let mut zones = Vec::new();
    let each = (programs / sets).max(1);
    let law = (group.days.most_minutes, group.pattern.waterings);
    for (members, days) in shared_out(&group.members, sets).into_iter().zip(&group.pattern.phases) {
        let (phase, reasons) = if request.installation.card.cycle_and_soak {
            built_in(request, &members, *days, law.0, law.1)
        } else {
            from_starts(request, &members, *days, each, law)
        };
        phases.push(phase);
        zones.extend(reasons);
    }
    zones.sort_by_key(|z| z.station);
    let waterings = group.pattern.waterings;
    let mut block = Block { groups: vec![group.clone()], phases, begin: 0, waterings, apart: None, zones };
    block.apart = apart(request, &block);
    block
}

/// Lays several groups out as one night in which the zones of one run while those of another soak. `None` where the
/// controller splits run times itself, where the groups have different hours, or too few programs for it.
pub(super) fn together(request: &Request<'_>, groups: &[ZoneGroup], programs: usize) -> Option<Block> {
    let first = groups.first().filter(|_| groups.len() > 1 && !request.installation.card.cycle_and_soak)?;
    if groups.iter().any(|g| g.days.usable != first.days.usable || g.pattern.waterings > 1) {
        return None;
    }
    let members: Vec<(u8, &Member)> =
        (0..).zip(groups).flat_map(|(lane, g)| g.members.iter().map(move |m| (lane, m))).collect();
    let layout = laid_out(request, &members, programs);
    if layout.programs.len() > programs {
        return None;
    }
    let own: Vec<&Member> = members.iter().map(|(_, m)| *m).collect();
    let zones = reasons(&layout, &own);
    let phase = |program: &crate::controller::night::NightProgram| {
        let group = usize::from(program.lane);
        let own = groups.get(group)?;
        Some(Phase {
            group,
            days: own.pattern.days,
            parts: vec![part(request, program, own.days.most_minutes, 1)],
            span_minutes: layout.span_minutes,
        })
    };
    let phases = layout.programs.iter().filter_map(phase).collect();
    Some(Block { groups: groups.to_vec(), phases, begin: 0, waterings: 1, apart: Some(0), zones })
}

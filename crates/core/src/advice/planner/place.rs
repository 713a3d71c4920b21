//! Where on the clock each group runs: blocks are put as late in the night as they fit, and
//! spread over nights, or side by side, when one after the other is too long.

use super::group::{Member, ZoneGroup};
use super::{Binding, ProgramReason, Proposal, Request, ZoneReason};
use crate::controller::Card;
use crate::controller::night::{Due, Keying, lay_out};
use crate::controller::schedule::{Days, Percentages, Program, Settings, expand};
use crate::ground::application::Cycles;
use crate::quantity::ratio::Percentage;
use crate::quantity::time::{MinuteOfDay, Seconds};
use crate::quantity::units::{LitresPerMinute, Minutes};
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;

/// A program without its clock.
#[derive(Debug, Clone)]
struct Part {
    /// Minutes from the beginning of the block.
    starts: Vec<u32>,
    /// Stations and run times at each start.
    run_times: Vec<(u16, Seconds)>,
}

/// What runs on one set of nights.
#[derive(Debug, Clone)]
struct Phase {
    days: Days,
    parts: Vec<Part>,
    span_minutes: u32,
}

/// A group with its place.
#[derive(Debug, Clone)]
pub(super) struct Block {
    group: ZoneGroup,
    phases: Vec<Phase>,
    /// Minutes from the opening of the window.
    begin: u32,
    zones: Vec<ZoneReason>,
}

impl Block {
    /// Minutes of its nights that it may use.
    fn room(&self) -> u32 {
        self.group.days.usable.iter().map(|(from, until)| until - from).sum()
    }

    fn span(&self) -> u32 {
        self.phases.iter().map(|p| p.span_minutes).max().unwrap_or(0)
    }

    fn programs(&self) -> usize {
        self.phases.iter().map(|p| p.parts.len()).sum()
    }

    /// The most that its zones take at once.
    fn flow(&self) -> Option<LitresPerMinute> {
        self.group
            .members
            .iter()
            .map(|m| m.zone.flow)
            .try_fold(LitresPerMinute::ZERO, |most, f| Some(most.max(f?)))
    }
}

/// A run time as the box can hold it: its own step, and one that 100 % leaves as it is.
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

/// One program where the box cycles by itself; long run times are split over starts.
fn built_in(request: &Request<'_>, members: &[&Member], days: Days) -> (Phase, Vec<ZoneReason>) {
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
        });
    }
    // The box's own interleaving of soaks decides how long a pass takes.
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
) -> (Phase, Vec<ZoneReason>) {
    let card = &request.installation.card;
    let pause = request.present.delay.minutes_up();
    let longest = (card.longest_run.length_s() / 60).max(1);
    let due: Vec<Due> = members
        .iter()
        .map(|m| {
            let total = m.cycles.total_minutes();
            let count = m.cycles.count.max(total.div_ceil(longest)).max(1);
            let cycles = Cycles { count, minutes_each: total.div_ceil(count) + pause, ..m.cycles };
            Due { number: m.zone.zone.number, cycles, urgency: 1.0 }
        })
        .collect();
    // The pause stands in the minutes already.
    let keying = Keying {
        programs: u8::try_from(programs).unwrap_or(u8::MAX),
        cycles_itself: false,
        ..Keying::of(card, Seconds::ZERO)
    };
    let layout = lay_out(&due, &keying);
    let parts = layout
        .programs
        .iter()
        .map(|p| Part {
            starts: p.starts.clone(),
            run_times: p
                .zones
                .iter()
                .map(|(n, minutes)| {
                    let own = Minutes::from_min(f64::from(minutes - pause.min(*minutes)));
                    (*n, settable(card, own).min(card.longest_run))
                })
                .collect(),
        })
        .collect();
    let zones = members
        .iter()
        .map(|m| {
            let own: Vec<_> = layout.runs.iter().filter(|r| r.number == m.zone.zone.number).collect();
            let each = own.first().map_or(0, |r| r.minutes - pause.min(r.minutes));
            let count = u32::try_from(own.len()).unwrap_or(0);
            let short = f64::from(m.cycles.total_minutes()) - f64::from(count * each);
            ZoneReason {
                station: m.zone.zone.number,
                net: m.net,
                run_time: m.run_time,
                cycles: Cycles { count, minutes_each: each, soak_minutes: m.cycles.soak_minutes },
                short_by: (short >= 1.0).then(|| Minutes::from_min(short)),
            }
        })
        .collect();
    (Phase { days, parts, span_minutes: layout.span_minutes }, zones)
}

/// A clean box with what the present one has set for its stations, and cycles where zones need them.
fn with_station_settings(request: &Request<'_>, members: &[&Member]) -> Settings {
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
fn block(request: &Request<'_>, group: &ZoneGroup, sets: usize, programs: usize) -> Block {
    // Longest first onto the emptiest set keeps the sets alike; ties by station.
    let mut order: Vec<&Member> = group.members.iter().collect();
    order.sort_by(|a, b| {
        b.run_time
            .min_value()
            .total_cmp(&a.run_time.min_value())
            .then(a.zone.zone.number.cmp(&b.zone.zone.number))
    });
    let sets = sets.clamp(1, group.pattern.phases.len().max(1)).min(order.len().max(1));
    let mut shares: Vec<(f64, Vec<&Member>)> = vec![(0.0, Vec::new()); sets];
    for member in order {
        if let Some(share) = shares.iter_mut().min_by(|a, b| a.0.total_cmp(&b.0)) {
            share.0 += member.run_time.min_value();
            share.1.push(member);
        }
    }
    let mut phases = Vec::new();
    let mut zones = Vec::new();
    let each = (programs / sets).max(1);
    for ((_, mut members), days) in shares.into_iter().zip(&group.pattern.phases) {
        members.sort_by_key(|m| m.zone.zone.number);
        let (phase, reasons) = if request.installation.card.cycle_and_soak {
            built_in(request, &members, *days)
        } else {
            from_starts(request, &members, *days, each)
        };
        phases.push(phase);
        zones.extend(reasons);
    }
    zones.sort_by_key(|z| z.station);
    Block { group: group.clone(), phases, begin: 0, zones }
}

/// Puts each block as late as it fits. `side_by_side` lets blocks share time when the supply
/// carries both. Blocks with the least freedom go first.
fn fit(request: &Request<'_>, blocks: &mut [Block], side_by_side: bool) -> bool {
    let installation = request.installation;
    let (step, open) = (
        u32::from(installation.card.start_step_min.max(1)),
        MinuteOfDay::of(installation.window.from).minutes(),
    );
    // Starts fall on the box's step by the clock, not from the opening of the window.
    let aligned = |minute: u32| ((open + minute) / step * step).checked_sub(open);
    let mut order: Vec<usize> = (0..blocks.len()).collect();
    // Later groups end the night, so they are placed before the ones in front of them.
    order.sort_by_key(|i| (blocks.get(*i).map(Block::room), core::cmp::Reverse(*i)));
    let mut taken: Vec<(u32, u32, Option<LitresPerMinute>)> = Vec::new();
    for index in order {
        let Some(block) = blocks.get_mut(index) else { return false };
        let (span, flow) = (block.span(), block.flow());
        let clashes = |begin: u32| {
            let over: Vec<_> = taken.iter().filter(|(f, u, _)| begin < *u && begin + span > *f).collect();
            if over.is_empty() {
                return false;
            }
            let Some(supply) = installation.supply.filter(|_| side_by_side) else { return true };
            let together = over.iter().try_fold(flow, |sum, (_, _, f)| Some(sum.zip(*f).map(|(a, b)| a + b)));
            together.flatten().is_none_or(|sum| sum > supply)
        };
        let mut begins: Vec<u32> = block
            .group
            .days
            .usable
            .iter()
            .flat_map(|(from, until)| {
                // Ends with the span, or in front of what is already there.
                let ends = taken.iter().map(|(f, _, _)| *f).chain([*until]).filter(move |e| e <= until);
                ends.filter_map(move |end| Some((end.checked_sub(span)?, *from)))
            })
            .filter_map(|(begin, from)| aligned(begin).filter(|b| *b >= from))
            .collect();
        begins.sort_unstable();
        let Some(begin) = begins.into_iter().rev().find(|b| !clashes(*b)) else { return false };
        block.begin = begin;
        taken.push((begin, begin + span, flow));
    }
    true
}

/// Places groups, over more nights or side by side when they must.
pub(super) fn place(
    request: &Request<'_>,
    groups: &[ZoneGroup],
    programs: usize,
) -> Result<Vec<Block>, Binding> {
    let card = &request.installation.card;
    let share = (programs / groups.len().max(1)).max(1);
    let mut sets = vec![1; groups.len()];
    let mut blocks: Vec<Block> = groups.iter().map(|g| block(request, g, 1, share)).collect();
    let mut first_try = None;
    loop {
        if fit(request, &mut blocks, false) {
            return Ok(blocks);
        }
        if card.overlap == crate::controller::Overlap::Concurrent && fit(request, &mut blocks, true) {
            return Ok(blocks);
        }
        let used: usize = blocks.iter().map(Block::programs).sum();
        // The longest block that can be spread over one more set of nights.
        let next = (0..)
            .zip(&blocks)
            .filter(|(i, b)| {
                let now = sets.get(*i).copied().unwrap_or(1);
                let adds = b.programs() / now.max(1);
                now < b.group.pattern.phases.len() && now < b.group.members.len() && used + adds <= programs
            })
            .max_by_key(|(i, b)| (b.span(), core::cmp::Reverse(*i)))
            .map(|(i, _): (usize, _)| i);
        let first = first_try.get_or_insert_with(|| binding(request, &blocks));
        let grown = next.and_then(|i| Some((sets.get_mut(i)?, blocks.get_mut(i)?, groups.get(i)?)));
        match grown {
            Some((count, own, group)) => {
                *count += 1;
                *own = block(request, group, *count, share);
            }
            None => {
                let last = binding(request, &blocks);
                return Err(match (&last, &*first) {
                    // Spread as far as it goes, it is nearer than the first try was.
                    (Binding::Window { .. }, _) => last,
                    _ => first.clone(),
                });
            }
        }
    }
}

fn binding(request: &Request<'_>, blocks: &[Block]) -> Binding {
    let have = blocks.iter().map(Block::room).max().unwrap_or(0);
    let step = u32::from(request.installation.card.start_step_min.max(1));
    let needed = blocks.iter().map(|b| b.span().div_ceil(step) * step).sum();
    Binding::Window { needed_minutes: needed, have_minutes: have }
}

/// The present settings with every program empty that is not kept, at 100 %.
fn beside(request: &Request<'_>, kept: &[usize], all: &[&Member]) -> Settings {
    let card = &request.installation.card;
    let mut settings = Settings { programs: Settings::clean(card).programs, ..request.present.clone() };
    if card.cycle_and_soak {
        settings.stations = with_station_settings(request, all).stations;
    }
    for (index, program) in settings.programs.iter_mut().enumerate() {
        if let Some(present) = request.present.programs.get(index) {
            if kept.contains(&index) {
                *program = present.clone();
            } else {
                program.name.clone_from(&present.name);
            }
        }
    }
    let hundred = card.nearest_percentage(Percentage::HUNDRED);
    settings.percentages = match &request.present.percentages {
        Percentages::Program(values) => Percentages::Program(
            (0..settings.programs.len())
                .map(|i| if kept.contains(&i) { values.get(i).copied().unwrap_or(hundred) } else { hundred })
                .collect(),
        ),
        other => other.all_at(hundred),
    };
    settings
}

/// Writes the placed groups into settings, with everything kept that is not about need.
pub(super) fn assemble(
    request: &Request<'_>,
    blocks: Vec<Block>,
    kept: Vec<usize>,
    slots: &[usize],
    (left_to_kept, more_days): (Vec<u16>, bool),
) -> Proposal {
    let installation = request.installation;
    let card = &installation.card;
    let open = MinuteOfDay::of(installation.window.from).minutes();
    let all: Vec<&Member> = blocks.iter().flat_map(|b| &b.group.members).collect();
    let mut settings = beside(request, &kept, &all);
    let mut reasons = Vec::new();
    let mut zones = Vec::new();
    let mut free = slots.iter().copied();
    for block in blocks {
        zones.extend(block.zones.clone());
        for phase in &block.phases {
            for part in &phase.parts {
                let Some(slot) = free.next() else { break };
                let Some(program) = settings.programs.get_mut(slot) else { break };
                *program = Program {
                    name: program.name.clone(),
                    active: true,
                    starts: part
                        .starts
                        .iter()
                        .map(|s| card.start_at_or_before(MinuteOfDay::after_midnight(open + block.begin + s)))
                        .collect(),
                    days: phase.days,
                    run_times: part.run_times.clone(),
                    repeat: None,
                };
                let tightest = block.group.tightest();
                let gap = block.group.pattern.gap_days;
                reasons.push(ProgramReason {
                    program: slot,
                    stations: part.run_times.iter().map(|(n, _)| *n).collect(),
                    days: phase.days,
                    events_a_week: block.group.pattern.events_a_week,
                    gap_days: gap,
                    tightest,
                    strained: tightest.is_some_and(|(_, days)| f64::from(gap) > days),
                    merged: block.group.merged,
                    spread_over: block.phases.len(),
                    span_minutes: phase.span_minutes,
                });
            }
        }
    }
    zones.sort_by_key(|z| z.station);
    reasons.sort_by_key(|r| r.program);
    Proposal { settings: settings.canonical(), programs: reasons, zones, kept, left_to_kept, more_days }
}

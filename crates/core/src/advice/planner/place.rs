//! Where on the clock each group runs: blocks are put as late in the night as they fit, and
//! spread over nights, or side by side, when one after the other is too long.

use super::block::{Block, block, together, with_station_settings};
use super::group::{Member, ZoneGroup};
use super::{Binding, ProgramReason, Proposal, Request};
use crate::controller::schedule::{Percentages, Program, Settings};
use crate::controller::windows::Windows;
use crate::quantity::month::Month;
use crate::quantity::ratio::Percentage;
use crate::quantity::span::MinuteSpan;
use crate::quantity::time::{MINUTES_A_DAY, MinuteOfDay};
use crate::quantity::units::LitresPerMinute;

/// A watering that has its place.
struct Laid {
    span: MinuteSpan,
    /// The most that its zones take at once.
    flow: Option<LitresPerMinute>,
}

/// What was laid when a block found no place.
struct Misfit {
    /// The spans that are taken.
    taken: Vec<MinuteSpan>,
    /// The block that found none, by index, and those that would have come after it.
    open: Vec<usize>,
}

/// Puts each block as late as it fits. `side_by_side` lets blocks share time when the supply
/// carries both. Blocks with the least freedom go first.
fn fit(request: &Request<'_>, blocks: &mut [Block], side_by_side: bool) -> Result<(), Misfit> {
    let installation = request.installation;
    let (step, open) = (
        u32::from(installation.card.start_step_min.max(1)),
        MinuteOfDay::of(installation.hull().from).minutes(),
    );
    let main = Windows::only(installation.windows.main);
    // Starts fall on the controller's step by the clock, not from the opening of the window.
    let aligned = |minute: u32| ((open + minute) / step * step).checked_sub(open);
    let mut order: Vec<usize> = (0..blocks.len()).collect();
    // Later groups end the night, so they are placed before the ones in front of them.
    order.sort_by_key(|i| (blocks.get(*i).map(Block::room), core::cmp::Reverse(*i)));
    let mut taken: Vec<Laid> = Vec::new();
    for (place, index) in order.iter().copied().enumerate() {
        let misfit = |taken: &[Laid]| Misfit {
            taken: taken.iter().map(|laid| laid.span).collect(),
            open: order.get(place..).unwrap_or_default().to_vec(),
        };
        let Some(block) = blocks.get_mut(index) else { return Err(misfit(&taken)) };
        let Some(apart) = block.apart else { return Err(misfit(&taken)) };
        let (span, flow) = (block.span(), block.flow());
        let whole = span + (block.waterings - 1) * apart;
        let clashes = |begin: u32| {
            let over: Vec<_> =
                taken.iter().filter(|laid| block.times(begin).any(|t| t.meets(laid.span))).collect();
            if over.is_empty() {
                return false;
            }
            let Some(supply) = installation.supply.filter(|_| side_by_side) else { return true };
            let together =
                over.iter().try_fold(flow, |sum, laid| Some(sum.zip(laid.flow).map(|(a, b)| a + b)));
            together.flatten().is_none_or(|sum| sum > supply)
        };
        let mut begins: Vec<u32> = block
            .usable()
            .iter()
            .flat_map(|own| {
                // Ends with the span, or in front of what is already there.
                let ends = taken.iter().map(|laid| laid.span.from).chain([own.until]);
                let ends = ends.filter(|end| *end <= own.until);
                ends.filter_map(|end| aligned(end.checked_sub(whole)?).filter(|begin| *begin >= own.from))
            })
            .collect();
        // The night comes before a window of the day.
        begins.sort_by_key(|b| (main.hold(MinuteOfDay::after_midnight(open + b).time()), *b));
        let Some(begin) = begins.into_iter().rev().find(|b| !clashes(*b)) else {
            return Err(misfit(&taken));
        };
        block.begin = begin;
        taken.extend(block.times(begin).map(|span| Laid { span, flow }));
    }
    Ok(())
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
        let Err(misfit) = fit(request, &mut blocks, false) else { return Ok(blocks) };
        if card.overlap == crate::controller::Overlap::Concurrent && fit(request, &mut blocks, true).is_ok() {
            return Ok(blocks);
        }
        // The soaks of one group may be the runs of another.
        if first_try.is_none()
            && let Some(all) = together(request, groups, programs)
        {
            let mut all = vec![all];
            if fit(request, &mut all, false).is_ok() {
                return Ok(all);
            }
        }
        let used: usize = blocks.iter().map(Block::programs).sum();
        // The longest block that can be spread over one more set of nights.
        let next = (0..)
            .zip(&blocks)
            .filter(|(i, b)| {
                let now = sets.get(*i).copied().unwrap_or(1);
                let adds = b.programs() / now.max(1);
                let Some(group) = b.groups.first() else { return false };
                now < group.pattern.phases.len() && now < group.members.len() && used + adds <= programs
            })
            .max_by_key(|(i, b)| (b.span(), core::cmp::Reverse(*i)))
            .map(|(i, _): (usize, _)| i);
        let first = first_try.get_or_insert_with(|| binding(request, &blocks, &misfit));
        let grown = next.and_then(|i| Some((sets.get_mut(i)?, blocks.get_mut(i)?, groups.get(i)?)));
        match grown {
            Some((count, own, group)) => {
                *count += 1;
                *own = block(request, group, *count, share);
            }
            None => {
                let last = binding(request, &blocks, &misfit);
                return Err(match (&last, &*first) {
                    // Spread as far as it goes, it is nearer than the first try was.
                    (Binding::Window { .. }, _) => last,
                    _ => first.clone(),
                });
            }
        }
    }
}

/// What keeps blocks from being laid one after another: of the first that finds no place, the minutes that are asked for
/// of the hours that it may use, by it and by others, against those that there are; where these would do, its own against
/// the longest piece of them that is left.
fn binding(request: &Request<'_>, blocks: &[Block], Misfit { taken, open }: &Misfit) -> Binding {
    let step = u32::from(request.installation.card.start_step_min.max(1));
    let waiting = || open.iter().filter_map(|index| blocks.get(*index));
    let Some(block) = waiting().next() else {
        return Binding::Window { needed_minutes: 0, have_minutes: 0, proved: false };
    };
    let asks = |block: &Block| block.waterings * (block.span().div_ceil(step) * step);
    let shares =
        |span: &MinuteSpan| block.usable().iter().map(|own| own.shared(*span).minutes()).sum::<u32>();
    let sharing = waiting().filter(|other| other.usable().iter().any(|span| shares(span) > 0));
    let needed = taken.iter().map(shares).sum::<u32>() + sharing.map(asks).sum::<u32>();
    let have = block.room();
    if needed > have {
        return Binding::Window { needed_minutes: needed, have_minutes: have, proved: false };
    }
    let needed = asks(block);
    let left = longest_piece(block.usable(), taken);
    // A start that must lie on a step of the clock may waste the rest of it.
    Binding::Window { needed_minutes: needed.max(left + step), have_minutes: left, proved: false }
}

/// The longest piece of some spans that nobody has taken.
fn longest_piece(usable: &[MinuteSpan], taken: &[MinuteSpan]) -> u32 {
    let mut taken = taken.to_vec();
    taken.sort_unstable();
    let of_span = |span: &MinuteSpan| {
        let (mut longest, mut free) = (0, span.from);
        for other in taken.iter().filter(|other| other.meets(*span)) {
            longest = longest.max(other.from.saturating_sub(free));
            free = free.max(other.until);
        }
        longest.max(span.until.saturating_sub(free))
    };
    usable.iter().map(of_span).max().unwrap_or(0)
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
    left_to_kept: Vec<u16>,
    slots: &[usize],
    month: Month,
    more_days: bool,
) -> Proposal {
    let installation = request.installation;
    let card = &installation.card;
    let open = MinuteOfDay::of(installation.hull().from).minutes();
    let all: Vec<&Member> = blocks.iter().flat_map(|b| &b.groups).flat_map(|g| &g.members).collect();
    let mut settings = beside(request, &kept, &all);
    let mut reasons = Vec::new();
    let mut zones = Vec::new();
    let mut free = slots.iter().copied();
    for block in &blocks {
        zones.extend(block.zones.clone());
        let parts = block.phases.iter().flat_map(|phase| phase.parts.iter().map(move |part| (phase, part)));
        for (phase, part) in parts {
            let Some(slot) = free.next() else { break };
            let Some(program) = settings.programs.get_mut(slot) else { break };
            let Some(group) = block.groups.get(phase.group) else { break };
            let at = |time: MinuteSpan| part.starts.iter().map(move |s| open + time.from + s);
            let starts = block.times(block.begin).flat_map(at);
            *program = Program {
                name: program.name.clone(),
                active: true,
                starts: starts.map(|s| card.start_at_or_before(MinuteOfDay::after_midnight(s))).collect(),
                days: phase.days,
                run_times: part.run_times.clone(),
                repeat: None,
            };
            reasons.push(reason(block, group, slot, phase.days, phase.span_minutes, &part.run_times));
        }
    }
    zones.sort_by_key(|z| z.station);
    reasons.sort_by_key(|r| r.program);
    let without = installation.zones.iter().filter(|z| !z.needs_water()).map(|z| z.zone.number);
    let without_need = without.filter(|n| !left_to_kept.contains(n)).collect();
    let settings = settings.canonical();
    Proposal { settings, programs: reasons, zones, kept, left_to_kept, without_need, month, more_days }
}

/// Why a program is as it is.
fn reason(
    block: &Block,
    group: &ZoneGroup,
    program: usize,
    days: crate::controller::schedule::Days,
    span_minutes: u32,
    run_times: &[(u16, crate::quantity::time::Seconds)],
) -> ProgramReason {
    let (tightest, gap) = (group.tightest(), group.pattern.gap_days);
    let apart = block.apart.unwrap_or(0);
    // Between the last watering of a day and the first of the next.
    let longest_wait = f64::from(gap) - f64::from((block.waterings - 1) * apart) / f64::from(MINUTES_A_DAY);
    let sets = block.phases.iter().filter(|p| block.groups.len() == 1 && p.group == 0);
    ProgramReason {
        program,
        stations: run_times.iter().map(|(n, _)| *n).collect(),
        days,
        events_a_week: group.pattern.events_a_week,
        waterings: (block.waterings, apart),
        gap_days: gap,
        tightest,
        strained: tightest.is_some_and(|(_, bears)| longest_wait > bears),
        merged: group.merged,
        spread_over: sets.count().max(1),
        interleaved: block.groups.len() > 1,
        span_minutes,
    }
}

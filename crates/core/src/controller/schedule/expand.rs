//! From settings to every run over a span of dates.
//!
//! A run belongs to the date of its program's start, also after midnight. Times are wall-clock
//! times of the site: a start that the spring change skips moves on by the gap, one that the
//! autumn change repeats is taken the first time.

use super::settings::{Program, Settings};
use super::{runs_on, settings};
use crate::controller::{Card, Overlap, PercentageTarget};
use crate::quantity::ratio::Percentage;
use crate::quantity::time::Seconds;
use crate::quantity::time::instant;
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// Passes of a repeating program in a day are cut here: a pass a minute, all day.
const MOST_PASSES: u32 = 1440;

/// Days before the first whose runs may still wait in line on it: a line of more than two days is no schedule.
pub const CARRIED_DAYS: i32 = 2;

/// One cycle of one station.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ScheduledRun {
    /// When water starts.
    pub start: Timestamp,
    /// When it stops.
    pub end: Timestamp,
    /// Index of the program.
    pub program: usize,
    /// Which of the program's starts of the day, from 1; passes of a repeating program count on.
    pub start_number: u32,
    /// Index of that start in the program's list.
    pub start_index: usize,
    /// The station.
    pub station: u16,
    /// Which cycle, from 1.
    pub cycle: u32,
    /// Date that the run belongs to.
    pub date: Date,
    /// How long it waited for another program.
    pub queued: Seconds,
}

impl ScheduledRun {
    /// How long water runs.
    #[must_use]
    pub fn length(&self) -> Seconds {
        Seconds::between(self.start, self.end)
    }
}

/// A start of a program, before it is queued.
struct Start {
    at: Timestamp,
    program: usize,
    number: u32,
    index: usize,
    date: Date,
    /// Repeats until then.
    repeat: Option<(Timestamp, Seconds)>,
}

/// A percentage from outside that stands instead of the controller's own: of a date, a program (by index) and a
/// station; `None` leaves the controller's own.
pub type Scale<'a> = &'a dyn Fn(Date, usize, u16) -> Option<Percentage>;

/// Every run from a first to a last date, both included, in order of time.
///
/// Settings that the card cannot hold are expanded as they are; check them first.
#[must_use]
pub fn expand(settings: &Settings, card: &Card, tz: &TimeZone, from: Date, to: Date) -> Vec<ScheduledRun> {
    expand_scaled(settings, card, tz, from, to, &|_, _, _| None)
}

/// As [`expand`], with percentages from outside: an ET sensor changes run times, never days or starts.
#[must_use]
pub fn expand_scaled(
    settings: &Settings,
    card: &Card,
    tz: &TimeZone,
    from: Date,
    to: Date,
    scale: Scale<'_>,
) -> Vec<ScheduledRun> {
    let mut starts = Vec::new();
    // What was started on the days before may still run, and what is asked for now waits for it.
    let back = if card.overlap == Overlap::Queue { CARRIED_DAYS } else { 0 };
    let mut date = from.checked_sub(back.days()).unwrap_or(from);
    while date <= to {
        for (index, program) in settings.programs.iter().enumerate() {
            if program.active && runs_on(program.days, settings.never_days, date) {
                add_starts(&mut starts, settings, index, program, date, tz);
            }
        }
        let Ok(next) = date.tomorrow() else { break };
        date = next;
    }
    // Passes in the order they are asked for: what a loop asks for next waits in line like a start.
    let mut line: BinaryHeap<Reverse<(Timestamp, usize, u32, usize)>> = (0..)
        .zip(&starts)
        .map(|(index, start): (usize, &Start)| Reverse((start.at, start.program, start.number, index)))
        .collect();
    let mut runs = Vec::new();
    let mut free_from = Timestamp::MIN;
    while let Some(Reverse((asked, _, number, index))) = line.pop() {
        let Some(start) = starts.get(index) else { continue };
        let Some(program) = settings.programs.get(start.program) else { continue };
        let begin = if card.overlap == Overlap::Queue { asked.max(free_from) } else { asked };
        let pass = Pass { start, number, begin, queued: Seconds::between(asked, begin) };
        let end = pass.lay((settings, card, scale), program, &mut runs);
        if card.overlap == Overlap::Queue {
            free_from = free_from.max(end);
        }
        let Some((until, pause)) = start.repeat else { continue };
        let next = end + pause;
        // An empty program would repeat for ever without time passing.
        if next < until && next > asked && number - start.number < MOST_PASSES {
            line.push(Reverse((next, start.program, number + 1, index)));
        }
    }
    runs.retain(|run| run.date >= from);
    runs.sort_by_key(|r| (r.start, r.program, r.station, r.cycle));
    runs
}

fn add_starts(
    starts: &mut Vec<Start>,
    settings: &Settings,
    index: usize,
    program: &Program,
    date: Date,
    tz: &TimeZone,
) {
    let mut times: Vec<(Time, usize)> = program.starts.iter().copied().zip(0..).collect();
    times.sort_unstable();
    for ((time, start_index), number) in times.into_iter().zip(1..) {
        if settings.omit_hours.is_some_and(|hours| hours.hold(time)) {
            continue;
        }
        let at = instant(date, time, tz);
        let repeat = program.repeat.and_then(|settings::Repeat { until, pause }| {
            let last = if until > time { date } else { date.tomorrow().ok()? };
            Some((instant(last, until, tz), pause))
        });
        starts.push(Start { at, program: index, number, index: start_index, date, repeat });
    }
}

/// One pass of a program through its stations.
struct Pass<'a> {
    start: &'a Start,
    number: u32,
    begin: Timestamp,
    queued: Seconds,
}

/// A station with what it still has to run.
struct Waiting {
    station: u16,
    cycles: Vec<Seconds>,
    next_cycle: usize,
    soak: Seconds,
    ready: Timestamp,
}

impl Pass<'_> {
    /// The stations that wait for their turn. Lighting runs beside them, and is laid at once.
    fn waiting(
        &self,
        settings: &Settings,
        card: &Card,
        scale: Scale<'_>,
        program: &Program,
        runs: &mut Vec<ScheduledRun>,
    ) -> Vec<Waiting> {
        let resting = settings.rests(self.start.date);
        let own = settings.percentages.of(self.start.program, self.start.date);
        let mut waiting = Vec::new();
        for &(station, run_time) in &program.run_times {
            let set = settings.station(station);
            if set.lighting {
                if run_time.any() {
                    runs.push(self.run(self.begin, self.begin + run_time, station, 1));
                }
                continue;
            }
            if resting {
                continue;
            }
            let percentage = scale(self.start.date, self.start.program, station).unwrap_or(own);
            let cycles = split(card, run_time, percentage, set.cycle_and_soak.map(|(cycle, _)| cycle));
            if !cycles.is_empty() {
                let soak = set.cycle_and_soak.map_or(Seconds::ZERO, |(_, soak)| soak);
                waiting.push(Waiting { station, cycles, next_cycle: 0, soak, ready: self.begin });
            }
        }
        waiting
    }

    /// Lays the stations of a program one after the other. A station that soaks lets the next
    /// ones run; when all soak, the controller waits. Returns when the last run ends.
    fn lay(
        &self,
        of: (&Settings, &Card, Scale<'_>),
        program: &Program,
        runs: &mut Vec<ScheduledRun>,
    ) -> Timestamp {
        let settings = of.0;
        let mut waiting = self.waiting(of.0, of.1, of.2, program, runs);
        let mut last_end = self.begin;
        let mut clock = self.begin;
        let mut cursor = 0;
        while !waiting.is_empty() {
            // The next station in the order of the controller that is ready, going round; else the first
            // to have soaked.
            let count = waiting.len();
            let ready = (0..count)
                .map(|k| (cursor + k) % count)
                .find(|&i| waiting.get(i).is_some_and(|w| w.ready <= clock));
            let chosen = ready.or_else(|| (0..count).min_by_key(|&i| waiting.get(i).map(|w| w.ready)));
            let Some(index) = chosen else { break };
            let Some(station) = waiting.get_mut(index) else { break };
            let begin = clock.max(station.ready);
            let length = station.cycles.get(station.next_cycle).copied().unwrap_or_default();
            let end = begin + length;
            station.next_cycle += 1;
            station.ready = end + station.soak;
            let cycle = u32::try_from(station.next_cycle).unwrap_or(u32::MAX);
            runs.push(self.run(begin, end, station.station, cycle));
            last_end = last_end.max(end);
            clock = (end + settings.delay).max(begin);
            if station.next_cycle == station.cycles.len() {
                waiting.remove(index);
                cursor = if waiting.is_empty() { 0 } else { index % waiting.len() };
            } else {
                cursor = (index + 1) % count;
            }
        }
        last_end
    }

    fn run(&self, start: Timestamp, end: Timestamp, station: u16, cycle: u32) -> ScheduledRun {
        ScheduledRun {
            start,
            end,
            program: self.start.program,
            start_number: self.number,
            start_index: self.start.index,
            station,
            cycle,
            date: self.start.date,
            queued: self.queued,
        }
    }
}

/// The cycles of a run time; together exactly the scaled run time (or, where the controller
/// scales each cycle, each scaled by itself).
fn split(
    card: &Card,
    run_time: Seconds,
    percentage: Percentage,
    longest_cycle: Option<Seconds>,
) -> Vec<Seconds> {
    let pieces = |total: Seconds, longest: Seconds| -> Vec<Seconds> {
        let count = total.steps_up(longest);
        // Even cycles; the first ones take the odd seconds.
        let (each, odd) = (total.s() / count.max(1), total.s() % count.max(1));
        (0..count).map(|i| Seconds::from_s(each + i64::from(i < odd))).collect()
    };
    let cycles = match (longest_cycle, card.percentage_target) {
        (None, _) => vec![card.scaled(run_time, percentage)],
        (Some(longest), PercentageTarget::Total) => pieces(card.scaled(run_time, percentage), longest),
        (Some(longest), PercentageTarget::Cycle) => {
            pieces(run_time, longest).into_iter().map(|s| card.scaled(s, percentage)).collect()
        }
    };
    cycles.into_iter().filter(|s| s.any()).collect()
}

/// How long one event of a station waters: its run time at 100 % under a percentage, cycles and the controller's
/// rounding included.
#[must_use]
pub fn event_length(
    card: &Card,
    run_time: Seconds,
    percentage: Percentage,
    longest_cycle: Option<Seconds>,
) -> Seconds {
    split(card, run_time, percentage, longest_cycle).into_iter().sum()
}

#[cfg(test)]
mod tests;

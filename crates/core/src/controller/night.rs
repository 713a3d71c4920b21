//! One night as the controller can be told it: zones grouped into programs by their number of cycles,
//! start times for each program, every run placed, working back from the window's end.
//!
//! A program repeats all of its zones at each start. So zones with the same number of cycles
//! share a program, and each pass over the programs (most cycles first) waits until every zone in
//! it has soaked. Any controller with a few programs and starts can be set to it.

use crate::controller::Card;
use crate::ground::application::Cycles;
use crate::quantity::time::Seconds;
use jiff::civil::Date;
use jiff::{SignedDuration, Zoned};
use std::collections::BTreeMap;

/// A part of a run time smaller than this share is not worth a start (our stated default).
const SMALLEST_PART: f64 = 0.25;

/// A zone that is to run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Due {
    /// Station number.
    pub number: u16,
    /// Its cycles.
    pub cycles: Cycles,
    /// Whole minutes that it asks for; its cycles may come to a few more.
    pub asked_minutes: u32,
    /// Larger is more urgent: how far past its refill point, as a share of it.
    pub urgency: f64,
    /// Zones of different lanes share no program: they run on other nights, too.
    pub lane: u8,
}

/// One cycle of one zone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// Station number.
    pub number: u16,
    /// Index of its program.
    pub program: usize,
    /// First cycle is 1.
    pub cycle: u32,
    /// Minutes from the start of the plan.
    pub from_minute: u32,
    /// Minutes of watering.
    pub minutes: u32,
}

/// A program as it is programmed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NightProgram {
    /// A, B, C, ...
    pub letter: char,
    /// The lane of its zones.
    pub lane: u8,
    /// Starts, as minutes from the start of the plan.
    pub starts: Vec<u32>,
    /// Stations and the minutes each runs at every start, in the order of the controller.
    pub zones: Vec<(u16, u32)>,
}

/// Runs laid out without a clock.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Layout {
    /// The programs, most cycles first.
    pub programs: Vec<NightProgram>,
    /// Every run in order of time.
    pub runs: Vec<Run>,
    /// Minutes from the first start to the last end.
    pub span_minutes: u32,
    /// Zones whose cycle count was raised to share a program, or cut to the controller's starts.
    pub adjusted: Vec<(u16, Cycles)>,
    /// The controller splits the run times itself: one start, with a cycle and a soak set for each station.
    pub built_in: bool,
}

/// What a controller can be set to for a night.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Keying {
    /// Programs.
    pub programs: u8,
    /// Starts of a program.
    pub starts: u8,
    /// Step of start times, minutes.
    pub start_step_min: u32,
    /// Step of run times in whole minutes.
    pub run_step_min: u32,
    /// Longest run time, minutes.
    pub longest_run_min: u32,
    /// Pause after each station, minutes.
    pub pause_min: u32,
    /// Whether it can split run times into cycles itself.
    pub cycles_itself: bool,
}

impl Keying {
    /// Of a card, and the station delay that is set on the controller.
    #[must_use]
    pub fn of(card: &Card, delay: Seconds) -> Self {
        let step = card.run_step.s().max(1);
        // Advice is in whole minutes: the fewest that the controller's own step divides.
        let run_step = (1..=60).find(|minutes| minutes * 60 % step == 0).unwrap_or(60);
        Self {
            programs: card.programs.max(1),
            starts: card.starts_per_program.max(1),
            start_step_min: u32::from(card.start_step_min.max(1)),
            run_step_min: u32::try_from(run_step).unwrap_or(1),
            longest_run_min: (card.longest_run.length_s() / 60).max(1),
            pause_min: delay.minutes_up(),
            cycles_itself: card.cycle_and_soak,
        }
    }

    /// The cycles that come nearest to what a zone asks and that can be set: run times in the controller's step, none
    /// longer than it allows, and none longer than was asked where water would run off.
    #[must_use]
    pub fn keyed(&self, asked: Cycles) -> Cycles {
        let step = self.run_step_min.max(1);
        let longest = (self.longest_run_min / step * step).max(step);
        let total = asked.total_minutes();
        let nearest = ((asked.minutes_each + step / 2) / step * step).max(step);
        let (each, count) = if asked.count > 1 {
            let each = (asked.minutes_each / step * step).clamp(step, longest);
            (each, total.div_ceil(each))
        } else {
            (nearest.min(longest), nearest.div_ceil(longest))
        };
        let total = if asked.count > 1 { total } else { nearest };
        // Equal cycles, up to the step.
        let even = total.div_ceil(count).div_ceil(step) * step;
        Cycles { count, minutes_each: even.min(each).max(step), ..asked }
    }
}

/// Why a due zone does not run in full.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shortfall {
    /// The window is full; it comes first on the next night.
    Deferred,
    /// It alone is longer than the window or has more cycles than the controller has starts; it runs as
    /// long as it can, the rest carries over.
    Cut {
        /// Minutes that were asked for.
        asked_minutes: u32,
    },
}

/// A night with its clock.
#[derive(Debug, Clone, PartialEq)]
pub struct NightPlan {
    /// The evening it begins on.
    pub evening: Date,
    /// The hours it is laid out in, apart from each other and in order; more than one where zones share none.
    pub open: Vec<(Zoned, Zoned)>,
    /// When watering may start.
    pub window_from: Zoned,
    /// When it must have ended.
    pub window_until: Zoned,
    /// The layout.
    pub layout: Layout,
    /// The instant of the layout's minute 0; `None` when nothing runs.
    pub first_start: Option<Zoned>,
    /// Due zones that do not run, or not in full.
    pub shortfalls: Vec<(u16, Shortfall)>,
}

impl NightPlan {
    /// The instant of a minute of the layout.
    #[must_use]
    pub fn at(&self, minute: u32) -> Option<Zoned> {
        let first = self.first_start.as_ref()?;
        Some(first + SignedDuration::from_mins(i64::from(minute)))
    }

    /// The same night with what another controller of hours of it holds, later on the clock.
    #[must_use]
    pub fn then(mut self, later: Self) -> Self {
        self.window_until = self.window_until.max(later.window_until);
        self.window_from = self.window_from.min(later.window_from);
        self.open.extend(later.open);
        self.open.sort_by_key(|(from, _)| from.timestamp());
        self.open.dedup();
        self.shortfalls.extend(later.shortfalls);
        self.shortfalls.sort_by_key(|(number, _)| *number);
        let Some(first) = later.first_start else { return self };
        let Some(own) = self.first_start.clone() else {
            return Self { layout: later.layout, first_start: Some(first), ..self };
        };
        let shift = u32::try_from(first.duration_since(&own).as_mins()).unwrap_or(0);
        let programs = self.layout.programs.len();
        self.layout.runs.extend(later.layout.runs.into_iter().map(|run| Run {
            program: run.program + programs,
            from_minute: run.from_minute + shift,
            ..run
        }));
        for (mut program, letter) in later.layout.programs.into_iter().zip(('A'..='Z').skip(programs)) {
            program.letter = letter;
            program.starts.iter_mut().for_each(|start| *start += shift);
            self.layout.programs.push(program);
        }
        self.layout.span_minutes = self.layout.span_minutes.max(later.layout.span_minutes + shift);
        self.layout.adjusted.extend(later.layout.adjusted);
        self.layout.built_in |= later.layout.built_in;
        self
    }

    /// The end of the last run.
    #[must_use]
    pub fn last_end(&self) -> Option<Zoned> {
        self.at(self.layout.span_minutes)
    }
}

/// Lays out due zones on a controller.
///
/// When their cycle counts need more programs than the controller has, the nearest counts are merged
/// upward: more, shorter cycles never raise runoff. More cycles than starts are cut.
#[must_use]
pub fn lay_out(due: &[Due], keying: &Keying) -> Layout {
    let by_starts = by_starts(due, keying);
    if by_starts.adjusted.is_empty() || !keying.cycles_itself {
        return by_starts;
    }
    built_in(due, keying)
}

/// One start, and the controller splits each run time: the next station that has soaked runs, else the controller waits.
fn built_in(due: &[Due], keying: &Keying) -> Layout {
    let mut zones: Vec<(Due, u32, u32)> = due.iter().map(|zone| (*zone, 0, 0)).collect();
    zones.sort_by_key(|(zone, _, _)| zone.number);
    let keyed = zones.iter().map(|(zone, _, _)| (zone.number, zone.cycles.total_minutes())).collect();
    let mut runs = Vec::new();
    let (mut clock, mut ends) = (0, 0);
    loop {
        let open = |(zone, done, _): &&mut (Due, u32, u32)| *done < zone.cycles.count;
        let next = zones.iter_mut().filter(open).min_by_key(|(_, done, ready)| ((*ready).max(clock), *done));
        let Some((zone, done, ready)) = next else { break };
        let from_minute = clock.max(*ready);
        *done += 1;
        let minutes = zone.cycles.minutes_each;
        runs.push(Run { number: zone.number, program: 0, cycle: *done, from_minute, minutes });
        ends = from_minute + minutes;
        *ready = ends + zone.cycles.soak_minutes;
        clock = ends + keying.pause_min;
    }
    let program = NightProgram { letter: 'A', lane: 0, starts: vec![0], zones: keyed };
    Layout { programs: vec![program], runs, span_minutes: ends, adjusted: Vec::new(), built_in: true }
}

/// A start for each cycle.
fn by_starts(due: &[Due], keying: &Keying) -> Layout {
    let mut counted = Counted::of(due, keying);
    counted.merge_to(usize::from(keying.programs.max(1)));
    let Counted { zones, counts, adjusted } = counted;
    let programs = counts
        .iter()
        .zip('A'..='Z')
        .map(|((count, lane), letter)| {
            let members = zones.iter().filter(|(z, c)| (c.count, z.lane) == (*count, *lane));
            let mut members: Vec<(u16, u32)> = members.map(|(z, c)| (z.number, c.minutes_each)).collect();
            members.sort_unstable();
            NightProgram { letter, lane: *lane, starts: Vec::new(), zones: members }
        })
        .collect();
    let mut laying =
        Laying { zones: &zones, programs, runs: Vec::new(), soaked_at: BTreeMap::new(), free_from: 0 };
    laying.pass_by_pass(&counts, keying);
    let Laying { programs, runs, free_from, .. } = laying;
    let span_minutes = free_from.saturating_sub(if runs.is_empty() { 0 } else { keying.pause_min });
    Layout { programs, runs, span_minutes, adjusted, built_in: false }
}

/// Due zones with the cycles that a controller can give them.
struct Counted {
    zones: Vec<(Due, Cycles)>,
    /// Counts of cycles that occur, with their lanes, the highest first: a program each.
    counts: Vec<(u32, u8)>,
    /// Zones whose cycles are others than they asked for.
    adjusted: Vec<(u16, Cycles)>,
}

impl Counted {
    /// Cuts what has more cycles than a program has starts.
    fn of(due: &[Due], keying: &Keying) -> Self {
        let most = u32::from(keying.starts.max(1));
        let mut adjusted = Vec::new();
        let mut zones = Vec::new();
        for zone in due {
            let cycles = Cycles { count: zone.cycles.count.min(most), ..zone.cycles };
            if cycles.count < zone.cycles.count {
                adjusted.push((zone.number, cycles));
            }
            zones.push((*zone, cycles));
        }
        let mut counts: Vec<(u32, u8)> = zones.iter().map(|(z, c)| (c.count, z.lane)).collect();
        counts.sort_unstable_by_key(|(count, lane)| (core::cmp::Reverse(*count), *lane));
        counts.dedup();
        Self { zones, counts, adjusted }
    }

    /// Merges neighbouring counts of a lane, those with the smallest step first, the lower into the higher, until
    /// so many are left, or nothing is left to merge.
    fn merge_to(&mut self, most: usize) {
        while self.counts.len() > most {
            // The next higher count of the same lane.
            let higher = |at: usize| {
                let (lower, lane) = *self.counts.get(at)?;
                let above = self.counts.iter().take(at).rev().find(|(_, own)| *own == lane);
                above.map(|(count, _)| (count - lower, at, *count))
            };
            let Some((_, at, higher)) = (1..self.counts.len()).filter_map(higher).min() else { break };
            let (lower, lane) = self.counts.remove(at);
            let of_it = |(zone, c): &&mut (Due, Cycles)| (c.count, zone.lane) == (lower, lane);
            for (zone, cycles) in self.zones.iter_mut().filter(of_it) {
                // Of what was asked, not of what its own cycles were rounded up to.
                let total = zone.asked_minutes.min(cycles.total_minutes());
                cycles.count = higher;
                cycles.minutes_each = total.div_ceil(higher).max(1);
                self.adjusted.push((zone.number, *cycles));
            }
        }
    }
}

/// A night that is being laid out, minutes from its first start.
struct Laying<'a> {
    zones: &'a [(Due, Cycles)],
    programs: Vec<NightProgram>,
    runs: Vec<Run>,
    /// When each zone has soaked.
    soaked_at: BTreeMap<u16, u32>,
    /// When the controller is free.
    free_from: u32,
}

impl Laying<'_> {
    /// Lays each pass through the programs that have so many cycles.
    fn pass_by_pass(&mut self, counts: &[(u32, u8)], keying: &Keying) {
        // Every zone keeps its place within a pass, so one wait serves them all.
        let lengths: Vec<u32> = self
            .programs
            .iter()
            .map(|p| p.zones.iter().map(|(_, minutes)| minutes + keying.pause_min).sum())
            .collect();
        let mut pass_start = 0;
        for pass in 1..=counts.first().map_or(0, |(count, _)| *count) {
            let running =
                |of_pass: u32| counts.iter().take_while(move |(count, _)| *count >= of_pass).count();
            if pass > 1 {
                let previous: u32 = lengths.iter().take(running(pass - 1)).sum();
                let again = self.zones.iter().filter(|(_, c)| c.count >= pass);
                let soaked = again.map(|(_, c)| c.minutes_each + c.soak_minutes).max().unwrap_or(0);
                pass_start += previous.max(soaked);
            }
            let mut offset = 0;
            for (index, length) in lengths.iter().enumerate().take(running(pass)) {
                self.lay(index, pass, pass_start + offset, keying);
                offset += length;
            }
        }
    }

    /// Lays one pass of a program, at the soonest where its zones have soaked and the controller is free.
    fn lay(&mut self, index: usize, pass: u32, soonest: u32, keying: &Keying) {
        let Some(program) = self.programs.get_mut(index) else { return };
        let mut soonest = soonest.max(self.free_from);
        // An earlier pass that waited for its step pushes the soaks behind it on.
        let mut within = 0;
        for (number, minutes) in &program.zones {
            let soaked = self.soaked_at.get(number).copied().unwrap_or(0);
            soonest = soonest.max(soaked.saturating_sub(within));
            within += minutes + keying.pause_min;
        }
        // The controller takes starts in its own step only.
        let step = keying.start_step_min.max(1);
        let mut at = soonest.div_ceil(step) * step;
        program.starts.push(at);
        for &(number, minutes) in &program.zones {
            self.runs.push(Run { number, program: index, cycle: pass, from_minute: at, minutes });
            at += minutes;
            let soak = self.zones.iter().find(|(z, _)| z.number == number).map_or(0, |(_, c)| c.soak_minutes);
            self.soaked_at.insert(number, at + soak);
            at += keying.pause_min;
        }
        self.free_from = at;
    }
}

/// The most of a zone that still fits beside the zones already kept; `None` when that is less
/// than a share worth a start.
fn shortened(kept: &[Due], zone: Due, keying: &Keying, room: u32) -> Option<Due> {
    let asked = f64::from(zone.cycles.total_minutes());
    let with =
        |count: u32, minutes_each: u32| Due { cycles: Cycles { count, minutes_each, ..zone.cycles }, ..zone };
    let fits = |part: Due| {
        let all: Vec<Due> = kept.iter().copied().chain([part]).collect();
        lay_out(&all, keying).span_minutes <= room
    };
    let best = (1..=zone.cycles.count)
        .filter_map(|count| {
            // The span grows with the minutes, so the longest that fits is found by halving.
            let step = keying.run_step_min.max(1);
            let (mut low, mut high) = (0, zone.cycles.minutes_each / step);
            while low < high {
                let middle = (low + high).div_ceil(2);
                if fits(with(count, middle * step)) { low = middle } else { high = middle - 1 }
            }
            (low > 0).then(|| with(count, low * step))
        })
        .max_by_key(|part| part.cycles.total_minutes())?;
    (f64::from(best.cycles.total_minutes()) >= SMALLEST_PART * asked).then_some(best)
}

/// Places a night's watering so that it ends with an open span of the window.
///
/// Zones are taken in order of urgency. One that no longer fits runs as long as the rest of the
/// span lets it, when that is at least a quarter of what it asks, and is deferred otherwise.
/// Deterministic: ties go to the lower station number.
#[must_use]
pub fn place(evening: Date, due: &[Due], keying: &Keying, open: Zoned, shut: Zoned) -> NightPlan {
    let (window_from, window_until) = (open, shut);
    let room = window_until.duration_since(&window_from).as_mins().max(0);
    // The first start goes back to the controller's step, which may cost all but a minute of one.
    let room = u32::try_from(room).unwrap_or(0).saturating_sub(keying.start_step_min.max(1) - 1);
    let keyed = |zone: &Due| {
        let cycles = keying.keyed(zone.cycles);
        Due { cycles, asked_minutes: cycles.total_minutes(), ..*zone }
    };
    let due: Vec<Due> = due.iter().map(keyed).collect();

    let mut by_urgency: Vec<Due> = due.clone();
    by_urgency.sort_by(|a, b| b.urgency.total_cmp(&a.urgency).then(a.number.cmp(&b.number)));
    let mut kept: Vec<Due> = Vec::with_capacity(due.len());
    let mut shortfalls = Vec::new();
    let mut layout = Layout::default();
    for zone in by_urgency {
        kept.push(zone);
        let whole = lay_out(&kept, keying);
        if whole.span_minutes <= room {
            layout = whole;
            continue;
        }
        kept.pop();
        match shortened(&kept, zone, keying, room) {
            Some(part) => {
                kept.push(part);
                layout = lay_out(&kept, keying);
            }
            None => shortfalls.push((zone.number, Shortfall::Deferred)),
        }
    }
    for zone in &kept {
        let asked = due.iter().find(|d| d.number == zone.number).map_or(0, |d| d.cycles.total_minutes());
        let runs: u32 = layout.runs.iter().filter(|r| r.number == zone.number).map(|r| r.minutes).sum();
        if runs < asked {
            shortfalls.retain(|(number, _)| *number != zone.number);
            shortfalls.push((zone.number, Shortfall::Cut { asked_minutes: asked }));
        }
    }
    shortfalls.sort_by_key(|(number, _)| *number);
    let first_start = (!layout.runs.is_empty()).then(|| {
        let latest = &window_until - SignedDuration::from_mins(i64::from(layout.span_minutes));
        let past_step =
            latest.minute().rem_euclid(i8::try_from(keying.start_step_min.clamp(1, 60)).unwrap_or(1));
        &latest - SignedDuration::from_mins(i64::from(past_step))
    });
    let open = vec![(window_from.clone(), window_until.clone())];
    NightPlan { evening, open, window_from, window_until, layout, first_start, shortfalls }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::windows::main_window;
    use crate::quantity::span::TimeSpan;
    use crate::quantity::time::Hours;
    use jiff::civil::{date, time};
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    fn controller(programs: u8, starts: u8) -> Keying {
        let card = Card { programs, starts_per_program: starts, ..crate::controller::twelve_stations() };
        Keying { cycles_itself: false, ..Keying::of(&card, Seconds::ZERO) }
    }

    fn placed(due: &[Due], keying: &Keying, window: Hours, tz: &TimeZone) -> NightPlan {
        let TimeSpan { from: open, until: shut } = main_window(date(2026, 7, 14), window, tz);
        let zoned = |at: jiff::Timestamp| at.to_zoned(tz.clone());
        place(date(2026, 7, 14), due, keying, zoned(open), zoned(shut))
    }

    fn due(number: u16, count: u32, minutes_each: u32, soak_minutes: u32) -> Due {
        let cycles = Cycles { count, minutes_each, soak_minutes };
        Due { number, cycles, asked_minutes: cycles.total_minutes(), urgency: 1.0, lane: 0 }
    }

    fn window() -> Hours {
        Hours { from: time(2, 0, 0, 0), until: time(6, 0, 0, 0) }
    }

    #[test]
    fn one_zones_soak_is_anothers_run() {
        let layout = lay_out(&[due(1, 2, 6, 30), due(2, 2, 10, 20), due(3, 1, 20, 0)], &controller(3, 4));
        // Pass 1: A = zones 1, 2 (16 min), B = zone 3 (20 min). Pass 2 at 36 = both soaks met.
        assert_eq!(layout.programs[0].starts, [0, 36]);
        assert_eq!(layout.programs[1].starts, [16]);
        assert_eq!(layout.span_minutes, 52);
    }

    #[test]
    fn night_ends_with_the_window() {
        let night = placed(&[due(1, 1, 30, 0)], &controller(3, 4), window(), &TimeZone::UTC);
        assert_eq!(night.first_start.as_ref().unwrap().datetime(), date(2026, 7, 15).at(5, 30, 0, 0));
        assert_eq!(night.last_end().unwrap(), night.window_until);
    }

    #[test]
    fn a_controller_with_coarse_starts_gets_starts_it_can_hold() {
        let card = Keying { start_step_min: 15, ..controller(3, 4) };
        let due = [due(1, 2, 6, 30), due(2, 2, 10, 20), due(3, 1, 20, 0)];
        let night = placed(&due, &card, window(), &TimeZone::UTC);
        for start in night.layout.programs.iter().flat_map(|p| &p.starts) {
            assert_eq!(night.at(*start).unwrap().minute() % 15, 0);
        }
        assert!(night.last_end().unwrap() <= night.window_until);
        let mut runs = night.layout.runs;
        runs.sort_by_key(|r| r.from_minute);
        assert!(runs.windows(2).all(|p| p[0].from_minute + p[0].minutes <= p[1].from_minute));
    }

    #[test]
    fn window_across_midnight_and_both_clock_changes() {
        let window = Hours { from: time(22, 0, 0, 0), until: time(4, 0, 0, 0) };
        let tz = TimeZone::get("Europe/Paris").unwrap();
        let hours = |evening| {
            let TimeSpan { from, until } = main_window(evening, window, &tz);
            until.duration_since(from).as_hours()
        };
        assert_eq!(hours(date(2026, 7, 14)), 6);
        assert_eq!(hours(date(2026, 3, 28)), 5, "an hour is skipped");
        assert_eq!(hours(date(2026, 10, 24)), 7, "an hour is repeated");
    }

    #[test]
    fn a_full_window_cuts_or_defers_the_least_urgent() {
        let mut late = due(2, 1, 100, 0);
        late.urgency = 0.1;
        let night = placed(&[due(1, 1, 200, 0), late], &controller(3, 4), window(), &TimeZone::UTC);
        assert_eq!(night.shortfalls, [(2, Shortfall::Cut { asked_minutes: 100 })]);
        assert_eq!(night.layout.runs.iter().find(|r| r.number == 2).unwrap().minutes, 40);
        late.cycles.minutes_each = 200;
        let night = placed(&[due(1, 1, 200, 0), late], &controller(3, 4), window(), &TimeZone::UTC);
        assert_eq!(night.shortfalls, [(2, Shortfall::Deferred)], "a fifth is not worth a start");
    }

    #[test]
    fn a_zone_longer_than_the_window_is_cut_and_says_so() {
        let night = placed(&[due(1, 1, 300, 0)], &controller(3, 4), window(), &TimeZone::UTC);
        assert_eq!(night.shortfalls, [(1, Shortfall::Cut { asked_minutes: 300 })]);
        assert_eq!(night.layout.span_minutes, 240);
    }

    #[test]
    fn more_cycle_counts_than_programs_are_merged_upward() {
        let layout = lay_out(&[due(1, 4, 5, 30), due(2, 3, 5, 30), due(3, 1, 12, 0)], &controller(2, 4));
        assert_eq!(layout.programs.len(), 2);
        assert_eq!(layout.adjusted, [(2, Cycles { count: 4, minutes_each: 4, soak_minutes: 30 })]);
    }

    proptest! {
        #[test]
        fn runs_never_overlap_soaks_hold_and_all_is_inside(
            zones in proptest::collection::vec((1u32..6, 1u32..25, 0u32..70), 1..14),
            programs in 1u8..5, starts in 1u8..7,
        ) {
            let due: Vec<_> = zones.iter().zip(1u16..).map(|(&(count, each, soak), n)| due(n, count, each, soak)).collect();
            let night = placed(&due, &controller(programs, starts), window(), &TimeZone::UTC);
            let mut runs = night.layout.runs.clone();
            runs.sort_by_key(|r| r.from_minute);
            for pair in runs.windows(2) {
                prop_assert!(pair[0].from_minute + pair[0].minutes <= pair[1].from_minute);
            }
            for zone in &due {
                let own: Vec<_> = runs.iter().filter(|r| r.number == zone.number).collect();
                for pair in own.windows(2) {
                    let gap = pair[1].from_minute - pair[0].from_minute - pair[0].minutes;
                    prop_assert!(gap >= zone.cycles.soak_minutes);
                }
                if zone.cycles.count > 1 {
                    prop_assert!(own.iter().all(|r| r.minutes <= zone.cycles.minutes_each));
                }
                let told = night.shortfalls.iter().any(|(n, _)| *n == zone.number);
                let total: u32 = own.iter().map(|r| r.minutes).sum();
                prop_assert!(told || total >= zone.cycles.total_minutes());
            }
            prop_assert!(night.layout.span_minutes <= 240);
            prop_assert!(night.layout.programs.iter().all(|p| p.starts.len() <= usize::from(starts)));
            prop_assert!(night.layout.programs.len() <= usize::from(programs));
        }
    }
}

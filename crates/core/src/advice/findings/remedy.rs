//! Actions that remedy a finding.

use super::{Finding, FindingKind, FindingPlace};
use crate::controller::schedule::{Days, ScheduledRun, Settings, expand};
use crate::installation::Installation;
use crate::quantity::span::MinuteSpan;
use crate::quantity::time::Seconds;
use crate::quantity::time::{MINUTES_A_DAY, MinuteOfDay, weekday_index};
use jiff::ToSpan;
use jiff::civil::{Date, Time};

/// A change of the settings that mends a finding.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Remedy {
    /// Keep the first starts of a program, drop the others.
    KeepStarts {
        /// The program.
        program: usize,
        /// How many stay.
        count: usize,
    },
    /// Move a start.
    MoveStart {
        /// The program.
        program: usize,
        /// The start.
        start: usize,
        /// Where to.
        to: Time,
    },
    /// Move every start so that the programs run one after the other and end with the window.
    WorkBack {
        /// The date whose percentages count.
        on: Date,
    },
    /// Give a program other days.
    SetDays {
        /// The program.
        program: usize,
        /// The days.
        days: Days,
    },
    /// Split a station's runs into cycles with a soak.
    SetCycle {
        /// The station.
        station: u16,
        /// Max cycle time.
        cycle: Seconds,
        /// Soak.
        soak: Seconds,
    },
    /// Split a program over more starts, each with its share of the minutes.
    SplitStarts {
        /// The program.
        program: usize,
        /// How many starts.
        count: usize,
        /// Minutes from one to the next.
        apart_min: u32,
    },
    /// Take a station out of a program.
    ClearRunTime {
        /// The program.
        program: usize,
        /// The station.
        station: u16,
    },
    /// Switch a program off.
    SwitchOff {
        /// The program.
        program: usize,
    },
    /// Open the master valve with a station.
    OpenMasterValve {
        /// The station.
        station: u16,
    },
    /// Water with a station that is set as lighting.
    NotLighting {
        /// The station.
        station: u16,
    },
    /// Let a station ignore the sensors, or heed them.
    Sensors {
        /// The station.
        station: u16,
        /// Whether it ignores them.
        ignored: bool,
    },
    /// Raise a run time to the shortest that still runs.
    RaiseRunTime {
        /// The program.
        program: usize,
        /// The station.
        station: u16,
        /// The new run time.
        run_time: Seconds,
    },
    /// Use the nearest settings that the controller has.
    FitCard,
}

impl Remedy {
    /// The settings with the action done.
    #[must_use]
    pub fn apply(&self, installation: &Installation, settings: &Settings) -> Settings {
        let mut changed = settings.clone();
        match self {
            Self::KeepStarts { program, count } => {
                if let Some(p) = changed.programs.get_mut(*program) {
                    p.starts.sort();
                    p.starts.truncate(*count);
                }
            }
            Self::MoveStart { program, start, to } => {
                let slot = changed.programs.get_mut(*program).and_then(|p| p.starts.get_mut(*start));
                if let Some(slot) = slot {
                    *slot = *to;
                }
            }
            Self::WorkBack { on } => return worked_back(installation, settings, *on).unwrap_or(changed),
            Self::SetDays { program, days } => {
                if let Some(p) = changed.programs.get_mut(*program) {
                    p.days = *days;
                }
            }
            Self::NotLighting { station } => changed.update_station(*station, |s| s.lighting = false),
            Self::SetCycle { station, cycle, soak } => {
                changed.update_station(*station, |s| s.cycle_and_soak = Some((*cycle, *soak)));
            }
            Self::SplitStarts { program, count, apart_min } => {
                split_starts(installation, &mut changed, *program, *count, *apart_min);
            }
            Self::ClearRunTime { program, station } => {
                changed.set_run_time(*program, *station, Seconds::ZERO);
            }
            Self::SwitchOff { program } => {
                if let Some(p) = changed.programs.get_mut(*program) {
                    p.active = false;
                }
            }
            Self::OpenMasterValve { station } => changed.update_station(*station, |s| s.master_valve = true),
            Self::Sensors { station, ignored } => {
                changed.update_station(*station, |s| s.ignores_sensors = *ignored);
            }
            Self::RaiseRunTime { program, station, run_time } => {
                changed.set_run_time(*program, *station, *run_time);
            }
            Self::FitCard => return settings.fitted(&installation.card),
        }
        changed
    }
}

fn split_starts(
    installation: &Installation,
    settings: &mut Settings,
    program: usize,
    count: usize,
    apart_min: u32,
) {
    let card = &installation.card;
    let Some(p) = settings.programs.get_mut(program) else { return };
    p.starts.sort();
    let Some(first) = p.starts.first().copied() else { return };
    // The share of the minutes that the starts so far gave together.
    let before = u32::try_from(p.starts.len()).unwrap_or(1);
    let parts = u32::try_from(count).unwrap_or(1).max(1);
    let first = MinuteOfDay::of(first).minutes();
    let start = |k: u32| card.start_at_or_before(MinuteOfDay::after_midnight(first + k * apart_min));
    p.starts = (0..parts).map(start).collect();
    let step = card.run_step.max(Seconds::ONE);
    for (_, run_time) in &mut p.run_times {
        *run_time = step * part_of(*run_time * i64::from(before), i64::from(parts)).steps_up(step);
    }
}

/// One of so many even parts, up to a whole second.
fn part_of(total: Seconds, parts: i64) -> Seconds {
    Seconds::from_s(total.steps_up(Seconds::from_s(parts)))
}

/// Begun before noon, a run belongs to the night of the date before.
const NOON: Time = Time::constant(12, 0, 0, 0);

/// Actions that may remedy a finding, the gentlest first; none of them is promised to.
// Long: one arm for each kind of finding.
pub(super) fn candidates(
    installation: &Installation,
    settings: &Settings,
    finding: &Finding,
    from: Date,
) -> Vec<Remedy> {
    let mut out = Vec::new();
    match (&finding.kind, finding.place) {
        (FindingKind::BeyondCard { .. }, _) => out.push(Remedy::FitCard),
        (FindingKind::RepeatedStarts { needed, .. }, FindingPlace::Program(program)) => {
            out.push(Remedy::KeepStarts { program, count: *needed });
        }
        (FindingKind::Queues { minutes, on, .. }, FindingPlace::Start(program, start)) => {
            if let Some(time) = settings.programs.get(program).and_then(|p| p.starts.get(start)) {
                let step = u32::from(installation.card.start_step_min.max(1));
                // When its turn comes, in the controller's step.
                let waits = u32::try_from(*minutes).unwrap_or(0) + 1;
                let turn = MinuteOfDay::after_midnight(MinuteOfDay::of(*time).minutes() + waits + step - 1);
                let to = installation.card.start_at_or_before(turn);
                out.push(Remedy::MoveStart { program, start, to });
            }
            out.push(Remedy::WorkBack { on: *on });
        }
        (FindingKind::OutsideWindow { .. }, FindingPlace::Start(program, start))
        | (FindingKind::ForbiddenHour { .. }, FindingPlace::Start(program, start)) => {
            out.extend(into_window(installation, settings, program, start, from));
            out.push(Remedy::WorkBack { on: from });
        }
        (FindingKind::SupplyExceeded { .. }, FindingPlace::Controller) => {
            out.push(Remedy::WorkBack { on: from });
        }
        (FindingKind::PastSunrise { month, .. }, FindingPlace::Program(_)) => {
            out.extend(super::timing::week_of(*month, from).map(|on| Remedy::WorkBack { on }));
        }
        (
            FindingKind::ForbiddenDay { .. } | FindingKind::TooManyDays { .. },
            FindingPlace::Program(program),
        ) => {
            // A run that goes on past midnight touches the next date; begun after midnight it does not.
            let starts = settings.programs.get(program).map_or(&[][..], |p| &p.starts);
            let late = starts.iter().enumerate().filter(|(_, time)| **time >= NOON);
            out.extend(late.map(|(start, _)| Remedy::MoveStart { program, start, to: Time::midnight() }));
            out.extend(other_days(installation, settings, program, from));
        }
        (FindingKind::OddPair { on }, FindingPlace::Program(program)) => {
            let days = Days::EveryNth { interval: 2, first: *on };
            out.push(Remedy::SetDays { program, days });
        }
        (FindingKind::ClockChange { .. }, FindingPlace::Start(program, start)) => {
            if let Some(time) = settings.programs.get(program).and_then(|p| p.starts.get(start)) {
                for shift in [60, 1380] {
                    let moved = MinuteOfDay::after_midnight(MinuteOfDay::of(*time).minutes() + shift);
                    let to = installation.card.start_at_or_before(moved);
                    out.push(Remedy::MoveStart { program, start, to });
                }
            }
        }
        (FindingKind::RoundsToZero { percentage, .. }, FindingPlace::RunTime(program, station)) => {
            let card = &installation.card;
            let step = card.run_step.max(Seconds::ONE);
            let shortest = (1..=card.longest_run.steps(step))
                .map(|k| step * k)
                .find(|s| card.scaled(*s, *percentage).any());
            out.extend(shortest.map(|run_time| Remedy::RaiseRunTime { program, station, run_time }));
        }
        (
            FindingKind::CycleTooLong { .. } | FindingKind::SoakTooShort { .. },
            FindingPlace::Station(station),
        ) => {
            if let Some(zone) = installation.zone(station) {
                if installation.card.cycle_and_soak
                    && let Some(cycle) = zone.longest_cycle()
                {
                    out.push(Remedy::SetCycle { station, cycle, soak: zone.soak() });
                }
                out.extend(more_starts(installation, settings, station));
            }
        }
        (FindingKind::MinutesWithoutZone, FindingPlace::RunTime(program, station)) => {
            out.push(Remedy::ClearRunTime { program, station });
        }
        (FindingKind::HiddenProgram | FindingKind::EmptyProgram, FindingPlace::Program(program)) => {
            out.push(Remedy::SwitchOff { program });
        }
        (FindingKind::LightingIsPlanted, FindingPlace::Station(station)) => {
            out.push(Remedy::NotLighting { station });
        }
        (FindingKind::NoMasterValve, FindingPlace::Station(station)) => {
            out.push(Remedy::OpenMasterValve { station });
        }
        (FindingKind::StoppedUnfelt { .. }, FindingPlace::Station(station))
            if installation.card.sensor_override && installation.no_contact_holds(station) =>
        {
            out.push(Remedy::Sensors { station, ignored: true });
        }
        (FindingKind::IgnoresSensor { .. }, FindingPlace::Station(station)) => {
            out.push(Remedy::Sensors { station, ignored: false });
        }
        _ => {}
    }
    out
}

/// Splits every program that runs a station over enough starts for its cycle limit.
fn more_starts(installation: &Installation, settings: &Settings, station: u16) -> Vec<Remedy> {
    let mut out = Vec::new();
    for (index, program) in
        settings.programs.iter().enumerate().filter(|(_, p)| p.active && p.repeat.is_none())
    {
        let Some(limit) = installation.zone(station).and_then(crate::installation::WiredZone::longest_cycle)
        else {
            continue;
        };
        let starts = i64::try_from(program.starts.len()).unwrap_or(0);
        let total = settings.run_time(index, station) * starts;
        let count = total.steps_up(limit);
        if !total.any() || count <= starts || count > i64::from(installation.card.starts_per_program) {
            continue;
        }
        let cycle = |run_time: Seconds| part_of(run_time * starts, count);
        let pass: Seconds = program.run_times.iter().map(|(_, r)| cycle(*r)).sum();
        let soaked = program
            .run_times
            .iter()
            .filter_map(|(n, r)| Some(cycle(*r) + installation.zone(*n)?.soak()))
            .max()
            .unwrap_or_default();
        let step = u32::from(installation.card.start_step_min.max(1));
        // Each cycle may be rounded up by a step of the controller.
        let slack = u32::try_from(program.run_times.len()).unwrap_or(0);
        let apart_min = (pass.max(soaked).minutes_up() + slack).div_ceil(step) * step;
        let count = usize::try_from(count).unwrap_or(1);
        out.push(Remedy::SplitStarts { program: index, count, apart_min });
    }
    out
}

/// Moves one start so that its pass ends with the window.
fn into_window(
    installation: &Installation,
    settings: &Settings,
    program: usize,
    start: usize,
    from: Date,
) -> Option<Remedy> {
    let mut alone = settings.clone();
    for (index, p) in alone.programs.iter_mut().enumerate() {
        p.active &= index == program;
        if index == program {
            p.starts = p.starts.get(start).copied().into_iter().collect();
        }
    }
    let (length, _) = longest_block(installation, &alone, from)?.first().copied()?;
    let station = settings.programs.get(program)?.run_times.iter().find(|(_, time)| time.any())?.0;
    let MinuteSpan { from, until } = installation.windows_of(station).minutes().next()?;
    (length <= until - from).then(|| Remedy::MoveStart {
        program,
        start,
        to: installation.card.start_at_or_before(MinuteOfDay::after_midnight(until - length)),
    })
}

/// For each active program that does not repeat: the most minutes from its first start to the end
/// of its last pass when it has the controller to itself, with the program.
fn longest_block(installation: &Installation, settings: &Settings, on: Date) -> Option<Vec<(u32, usize)>> {
    let last = on.checked_add(13.days()).ok()?;
    let mut out = Vec::new();
    for (index, program) in settings.programs.iter().enumerate() {
        if !program.active || program.repeat.is_some() || program.starts.is_empty() {
            continue;
        }
        let mut alone = settings.clone();
        for (other, p) in alone.programs.iter_mut().enumerate() {
            p.active = other == index;
        }
        let runs = expand(&alone, &installation.card, &installation.tz, on, last);
        let runs: Vec<&ScheduledRun> =
            runs.iter().filter(|r| !settings.station(r.station).lighting).collect();
        let mut longest = 0;
        let mut at = 0;
        while let Some(first) = runs.get(at) {
            let night = runs.iter().skip(at).take_while(|r| r.date == first.date);
            let end = night.clone().map(|r| r.end).max().unwrap_or(first.end);
            longest = longest.max(end.duration_since(first.start).as_secs());
            at += night.count();
        }
        if longest > 0 {
            let minutes = u32::try_from(longest).ok()?.div_ceil(60);
            out.push((minutes, index));
        }
    }
    Some(out)
}

/// The programs chained, in their order, so that the last ends with the window; the starts of each
/// keep their distances. `None` when they do not fit.
fn worked_back(installation: &Installation, settings: &Settings, on: Date) -> Option<Settings> {
    let blocks = longest_block(installation, settings, on)?;
    let step = u32::from(installation.card.start_step_min.max(1));
    let MinuteSpan { from: open, until: mut at } = installation.windows.of_site().minutes().next()?;
    let mut changed = settings.clone();
    for (length, index) in blocks.into_iter().rev() {
        let begin = at.checked_sub(length)? / step * step;
        if begin < open {
            return None;
        }
        let program = changed.programs.get_mut(index)?;
        // In the order of the night: a start after midnight follows one before it.
        program.starts.sort_by_key(|t| (*t < NOON, *t));
        let first = program.starts.first().copied().map(MinuteOfDay::of)?;
        for start in &mut program.starts {
            let offset = first.until(MinuteOfDay::of(*start)) % MINUTES_A_DAY;
            *start = installation.card.start_at_or_before(MinuteOfDay::after_midnight(begin + offset));
        }
        at = begin;
    }
    Some(changed)
}

/// Day patterns like the program's own, cut down to what the law allows.
fn other_days(installation: &Installation, settings: &Settings, program: usize, from: Date) -> Vec<Remedy> {
    let Some(p) = settings.programs.get(program) else { return Vec::new() };
    let law = &installation.law;
    // Days are chosen for whoever is bound most.
    let subject = p.run_times.iter().map(|(n, _)| installation.subject(*n)).find(|s| !law.exempts(*s, from));
    let span = || (0..i64::from(super::WEEKS) * 7).filter_map(|k| from.checked_add(k.days()).ok());
    // A run may go on past midnight, and then the next date counts as well.
    let over_midnight = p.starts.iter().any(|s| *s >= NOON);
    let allowed = |date: Date| {
        let next = date.tomorrow().unwrap_or(date);
        law.forbids_day(subject, date).is_none()
            && (!over_midnight || law.forbids_day(subject, next).is_none())
    };
    let mut open = [true; 7];
    let (mut odd, mut even) = (true, true);
    for date in span() {
        if !allowed(date) {
            if let Some(day) = open.get_mut(weekday_index(date)) {
                *day = false;
            }
            if date.day() % 2 == 1 { odd = false } else { even = false }
        }
    }
    // The tightest of these weeks: a law may begin or end in them.
    let counts = span().filter_map(|date| law.most_days_a_week(subject, date));
    let most = counts.map(|(most, _)| usize::from(most)).min().unwrap_or(7);
    let mut out = Vec::new();
    let mut offer = |week: [bool; 7]| {
        let thinned = thin(week, most);
        if thinned.contains(&true) && installation.card.day_modes.weekdays {
            out.push(Remedy::SetDays { program, days: Days::Weekdays(thinned) });
        }
    };
    if let Days::Weekdays(own) = p.days {
        offer(core::array::from_fn(|i| {
            own.get(i).copied().unwrap_or(false) && open.get(i).copied().unwrap_or(false)
        }));
    }
    offer(open);
    if installation.card.day_modes.parity && most >= 4 {
        for (free, days) in [(odd, Days::Odd), (even, Days::Even)] {
            if free {
                out.push(Remedy::SetDays { program, days });
            }
        }
    }
    out
}

/// At most some days of a week, spread as evenly as their order allows.
pub(crate) fn thin(week: [bool; 7], most: usize) -> [bool; 7] {
    let days: Vec<usize> = (0..7).filter(|i| week.get(*i).copied().unwrap_or(false)).collect();
    if days.len() <= most || most == 0 {
        return week;
    }
    let mut kept = [false; 7];
    for k in 0..most {
        if let Some(day) = days.get(k * days.len() / most).and_then(|d| kept.get_mut(*d)) {
            *day = true;
        }
    }
    kept
}

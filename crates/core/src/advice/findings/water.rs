//! Whether the water goes where it should: repeated starts, ghosts, runoff, supply, rounding.

use super::{CheckedRuns, Cost, Finding, FindingKind, FindingPlace, Severity};
use crate::controller::schedule::{Days, Percentages, ScheduledRun, StationSetting, VALVE_MA};
use crate::ground::application::DEEP_WATERING_MM;
use crate::installation::{WiredZone, waterings_a_day};
use crate::quantity::month::Month;
use crate::quantity::ratio::Percentage;
use crate::quantity::time::Seconds;
use crate::quantity::units::{LitresPerMinute, Millimetres, Minutes};
use jiff::Timestamp;
use jiff::civil::Date;
use std::collections::{BTreeSet, HashMap};

/// A run this much over its limit still counts as within it: controllers set whole minutes.
const LIMIT_TOLERANCE: Seconds = Seconds::from_s(59);

/// Minutes up to this much over the need are still taken as meant for it (our stated default).
const GENEROUS: f64 = 1.25;

pub(super) fn find(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    repeated_starts(look, findings);
    hidden_programs(look, findings);
    rounding(look, findings);
    runoff(look, findings);
    supply(look, findings);
    transformer(look, findings);
}

/// What a zone needs on each of some nights in the weeks looked at, generously; a rhythm of many days waters each time
/// for all of them, however many of its nights fall into the weeks.
fn need_of_a_night(zone: &WiredZone, weeks: u16, nights: u32, days: Days) -> Seconds {
    let apart = if let Days::EveryNth { interval, .. } = days { f64::from(interval) } else { 1.0 };
    let days = (f64::from(weeks) * 7.0 / f64::from(nights)).max(apart);
    let need = zone.minutes_for(zone.demand * days) * GENEROUS;
    // Deep and seldom waters by a fixed depth, need or not.
    let a_week = f64::from(nights) / f64::from(weeks);
    let deep = if a_week <= 2.0 { DEEP_WATERING_MM / a_week.max(1.0) } else { 0.0 };
    Seconds::of(need.max(zone.minutes_for(Millimetres::from_mm(deep)) + Minutes::from_min(1.0)), f64::floor)
}

fn repeated_starts(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    for (index, program) in look.settings.programs.iter().enumerate() {
        let starts = program.starts.len();
        if !program.active || starts < 2 || program.repeat.is_some() {
            continue;
        }
        let nights = look.cost(look.of_program(index)).days.unwrap_or(0).max(1);
        // What a night brings at one start, and what the zone can use of all of them.
        let zones: Vec<(u16, Seconds, Seconds)> = program
            .run_times
            .iter()
            .filter_map(|(station, run_time)| {
                let zone = look.installation.zone(*station)?;
                let percentage = look.settings.percentages.of(index, look.from);
                let once = look.installation.card.scaled(*run_time, percentage);
                once.any().then(|| (*station, once, need_of_a_night(zone, look.weeks, nights, program.days)))
            })
            .collect();
        // The fewest starts after which most of what the others bring is beyond every need.
        let mostly_wasted = |kept: usize| {
            let (kept, all) = (i64::try_from(kept).unwrap_or(1), i64::try_from(starts).unwrap_or(1));
            let (mut extra, mut wasted) = (Seconds::ZERO, Seconds::ZERO);
            for (_, once, need) in &zones {
                let own = *once * (all - kept);
                extra = extra + own;
                wasted = wasted + own.min((*once * all - *need).max(Seconds::ZERO));
            }
            extra.any() && wasted * 2 > extra
        };
        // A root zone that does not store the need of a day keeps the starts that it lives on.
        let stored = zones.iter().filter_map(|(station, ..)| look.installation.zone(*station));
        let least = stored.map(|zone| waterings_a_day(zone.days_to_refill())).max().unwrap_or(1);
        let least = usize::try_from(least).unwrap_or(starts).clamp(1, starts);
        // Runs that would bring too little if each were a step shorter are long by their rounding alone.
        let step = look.installation.card.run_step;
        let all = i64::try_from(starts).unwrap_or(1);
        let rounded = |(_, once, need): &(u16, Seconds, Seconds)| (*once - step) * all < *need;
        let needed = (least..starts).find(|kept| mostly_wasted(*kept)).unwrap_or(starts);
        let needed = if zones.iter().all(rounded) { starts } else { needed };
        if needed < starts {
            let surplus =
                look.of_program(index).filter(|r| usize::try_from(r.start_number).unwrap_or(0) > needed);
            let cost = look.cost(surplus);
            let kept = i64::try_from(needed).unwrap_or(1);
            let plain = |need: Seconds| Seconds::of(need.minutes() * (1.0 / GENEROUS), f64::floor);
            let short = zones.iter().filter(|(_, once, need)| *once * kept < plain(*need));
            let short = short.map(|(station, ..)| *station).collect();
            if cost.minutes_a_week.is_some_and(|m| m > 0.0) {
                findings.push(
                    Finding::new(
                        FindingKind::RepeatedStarts { starts, needed, short },
                        Severity::Warning,
                        FindingPlace::Program(index),
                    )
                    .costing(cost),
                );
            }
        }
    }
}

fn hidden_programs(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let mut watered: HashMap<(usize, u16), Seconds> = HashMap::new();
    for run in &look.runs {
        let sum = watered.entry((run.program, run.station)).or_default();
        *sum = *sum + run.length();
    }
    for (index, program) in look.settings.programs.iter().enumerate() {
        if program.repeat.is_some() {
            continue;
        }
        let own: Vec<(u16, Seconds)> =
            watered.iter().filter(|((p, _), _)| *p == index).map(|((_, n), s)| (*n, *s)).collect();
        let on_top = |(station, mine): &(u16, Seconds)| {
            watered.iter().any(|((p, n), theirs)| {
                // Of two programs that water the same, the later letter is the ghost.
                *p != index && n == station && (theirs > mine || theirs == mine && *p < index)
            })
        };
        if !own.is_empty() && own.iter().all(on_top) {
            findings.push(
                Finding::new(FindingKind::HiddenProgram, Severity::Warning, FindingPlace::Program(index))
                    .costing(look.cost(look.of_program(index))),
            );
        }
    }
}

fn rounding(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let card = &look.installation.card;
    for (index, program) in look.settings.programs.iter().enumerate().filter(|(_, p)| p.active) {
        for (station, run_time) in &program.run_times {
            if !run_time.any() || look.settings.station(*station).lighting {
                continue;
            }
            let to_nothing = |p: Percentage| p > Percentage::ZERO && !card.scaled(*run_time, p).any();
            let (percentage, months) = match &look.settings.percentages {
                Percentages::Month(values) => {
                    let months: Vec<Month> =
                        Month::ALL.into_iter().filter(|m| to_nothing(*values.of(*m))).collect();
                    let Some(first) = months.first() else { continue };
                    (*values.of(*first), months)
                }
                _ => (look.settings.percentages.of(index, look.from), Vec::new()),
            };
            if to_nothing(percentage) {
                let kind = FindingKind::RoundsToZero { percentage, months };
                findings.push(Finding::new(kind, Severity::Warning, FindingPlace::RunTime(index, *station)));
            }
        }
    }
}

fn runoff(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let mut by_station: HashMap<u16, Vec<&ScheduledRun>> = HashMap::new();
    for run in &look.runs {
        by_station.entry(run.station).or_default().push(run);
    }
    for zone in &look.installation.zones {
        let Some(limit) = zone.longest_cycle() else { continue };
        let station = zone.zone.number;
        let Some(own) = by_station.get(&station) else { continue };
        let over = |run: &&&ScheduledRun| run.length() > limit + LIMIT_TOLERANCE;
        let longest = own.iter().map(|r| r.length()).max().unwrap_or_default();
        if longest > limit + LIMIT_TOLERANCE {
            let excess: Seconds = own.iter().filter(over).map(|r| r.length() - limit).sum();
            let minutes = excess.minutes().min_value() / f64::from(look.weeks);
            let cost = Cost {
                litres_a_week: zone
                    .flow
                    .map(|f| crate::quantity::units::Litres::from_l(f.l_per_min() * minutes)),
                minutes_a_week: Some(minutes),
                days: None,
            };
            let kind = FindingKind::CycleTooLong { run: longest, limit };
            findings
                .push(Finding::new(kind, Severity::Warning, FindingPlace::Station(station)).costing(cost));
            continue;
        }
        let needed = zone.soak();
        // Two runs cannot be set closer than the controller's step to what one of them might take.
        let together = limit + LIMIT_TOLERANCE + look.installation.card.run_step;
        let shortest = own
            .iter()
            .zip(own.iter().skip(1))
            .filter(|(a, b)| a.length() + b.length() > together)
            .map(|(a, b)| Seconds::between(a.end, b.start).max(Seconds::ZERO))
            .min();
        if let Some(pause) = shortest
            && pause + LIMIT_TOLERANCE < needed
        {
            let kind = FindingKind::SoakTooShort { pause, needed };
            findings.push(Finding::new(kind, Severity::Warning, FindingPlace::Station(station)));
        }
    }
}

/// Water taken from the supply for a while.
#[derive(Clone, Copy)]
struct Draw {
    from: Timestamp,
    until: Timestamp,
    flow: LitresPerMinute,
    /// Station and date where it is this controller's.
    own: Option<(u16, Date)>,
}

fn supply(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let Some(supply) = look.installation.supply else { return };
    if look.installation.zones.iter().all(|z| z.flow.is_none()) {
        return;
    }
    let flow_of = |station| look.installation.zone(station).and_then(|z| z.flow).unwrap_or_default();
    let mut told: BTreeSet<u16> = BTreeSet::new();
    // Valves that overlap for their slowness share the pipe for seconds only.
    let overlap = look.settings.delay.min(Seconds::ZERO);
    let mut draws: Vec<Draw> = Vec::new();
    for run in &look.runs {
        let flow = flow_of(run.station);
        if flow > supply {
            if told.insert(run.station) {
                let kind = FindingKind::SupplyExceeded {
                    stations: vec![run.station],
                    flow,
                    elsewhere: LitresPerMinute::ZERO,
                    supply,
                    at: run.start,
                };
                findings.push(Finding::new(kind, Severity::Fault, FindingPlace::Station(run.station)));
            }
            continue;
        }
        draws.push(Draw {
            from: run.start,
            until: run.end + overlap,
            flow,
            own: Some((run.station, run.date)),
        });
    }
    let others = look.installation.elsewhere.iter();
    draws.extend(others.map(|e| Draw { from: e.from, until: e.until, flow: e.flow, own: None }));
    draws.sort_by_key(|d| (d.from, d.until));
    let mut open: Vec<Draw> = Vec::new();
    let mut worst: Option<(LitresPerMinute, LitresPerMinute, Vec<u16>, Timestamp)> = None;
    let mut dates: BTreeSet<Date> = BTreeSet::new();
    for draw in draws {
        open.retain(|other| other.until > draw.from);
        open.push(draw);
        let flow: LitresPerMinute = open.iter().map(|d| d.flow).sum();
        let own = open.iter().filter_map(|d| d.own);
        if flow <= supply || open.len() < 2 || own.clone().next().is_none() {
            continue;
        }
        dates.extend(own.clone().map(|(_, date)| date));
        if worst.as_ref().is_none_or(|(most, _, _, _)| flow > *most) {
            let elsewhere = open.iter().filter(|d| d.own.is_none()).map(|d| d.flow).sum();
            worst = Some((flow, elsewhere, own.map(|(station, _)| station).collect(), draw.from));
        }
    }
    if let Some((flow, elsewhere, stations, at)) = worst {
        let kind = FindingKind::SupplyExceeded { stations, flow, elsewhere, supply, at };
        let cost = Cost { days: u32::try_from(dates.len()).ok(), ..Cost::default() };
        findings.push(Finding::new(kind, Severity::Fault, FindingPlace::Controller).costing(cost));
    }
}

/// Whether what is open together draws more than the transformer gives. A master valve and a pump relay draw as a valve.
fn transformer(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let Some(gives_ma) = look.installation.card.transformer_ma else { return };
    let of = |station: u16| look.settings.station(station).valve_ma.unwrap_or(VALVE_MA);
    let mut open: Vec<(u16, Timestamp)> = Vec::new();
    let mut worst: Option<(u32, Vec<u16>, Timestamp)> = None;
    let mut runs: Vec<_> = look.runs.iter().collect();
    runs.sort_by_key(|run| (run.start, run.end));
    for run in runs {
        open.retain(|(_, until)| *until > run.start);
        open.push((run.station, run.end));
        let shared =
            |uses: fn(&StationSetting) -> bool| open.iter().any(|(n, _)| uses(&look.settings.station(*n)));
        let helpers = [shared(|s| s.master_valve), shared(|s| s.pump)].into_iter().filter(|on| *on).count();
        let helpers = u32::try_from(helpers).unwrap_or(2) * VALVE_MA;
        let draws = open.iter().map(|(n, _)| of(*n)).fold(helpers, u32::saturating_add);
        if draws > gives_ma && worst.as_ref().is_none_or(|(most, ..)| draws > *most) {
            worst = Some((draws, open.iter().map(|(n, _)| *n).collect(), run.start));
        }
    }
    if let Some((draws_ma, stations, at)) = worst {
        let kind = FindingKind::TransformerExceeded { stations, draws_ma, gives_ma, at };
        findings.push(Finding::new(kind, Severity::Fault, FindingPlace::Controller));
    }
}

//! Whether the water goes where it should: repeated starts, ghosts, runoff, supply, rounding.

use super::{Cost, Finding, FindingKind, FindingPlace, Look, Severity};
use crate::controller::schedule::ScheduledRun;
use crate::ground::application::DEEP_WATERING_MM;
use crate::installation::WiredZone;
use crate::quantity::units::{LitresPerMinute, Millimetres};
use jiff::Timestamp;
use jiff::civil::Date;
use std::collections::{BTreeSet, HashMap};

/// A run this much over its limit still counts as within it, seconds: boxes set whole minutes.
const LIMIT_TOLERANCE_S: u32 = 59;

/// Minutes up to this much over the need are still taken as meant for it (our stated default).
const GENEROUS: f64 = 1.25;

pub(super) fn find(look: &Look<'_>, findings: &mut Vec<Finding>) {
    repeated_starts(look, findings);
    hidden_programs(look, findings);
    rounding(look, findings);
    runoff(look, findings);
    supply(look, findings);
}

/// What a zone needs on each of some nights in the weeks looked at, seconds, generously.
fn need_of_a_night_s(zone: &WiredZone, weeks: u16, nights: u32) -> u32 {
    let days = f64::from(weeks) * 7.0 / f64::from(nights);
    let need = zone.minutes_for(zone.demand * days).min_value() * GENEROUS;
    // Deep and seldom waters by a fixed depth, need or not.
    let a_week = f64::from(nights) / f64::from(weeks);
    let deep = if a_week <= 2.0 { DEEP_WATERING_MM / a_week.max(1.0) } else { 0.0 };
    let minutes = need.max(zone.minutes_for(Millimetres::from_mm(deep)).min_value() + 1.0);
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded to a day")]
    let seconds = (minutes * 60.0).clamp(0.0, 86_400.0) as u32;
    seconds
}

fn repeated_starts(look: &Look<'_>, findings: &mut Vec<Finding>) {
    for (index, program) in look.settings.programs.iter().enumerate() {
        let starts = program.starts.len();
        if !program.active || starts < 2 || program.repeat.is_some() {
            continue;
        }
        let nights = look.cost(look.of_program(index)).days.unwrap_or(0).max(1);
        // Seconds of a night at one start, and what the zone can use of all of them.
        let zones: Vec<(u32, u32)> = program
            .run_times
            .iter()
            .filter_map(|(station, seconds)| {
                let zone = look.installation.zone(*station)?;
                let percentage = look.settings.percentages.of(index, look.from);
                let once = look.installation.card.scaled_s(*seconds, percentage);
                (once > 0).then(|| (once, need_of_a_night_s(zone, look.weeks, nights)))
            })
            .collect();
        // The fewest starts after which most of what the others bring is beyond every need.
        let mostly_wasted = |kept: usize| {
            let (kept, all) = (u32::try_from(kept).unwrap_or(1), u32::try_from(starts).unwrap_or(1));
            let (mut extra, mut wasted) = (0u64, 0u64);
            for (once, need) in &zones {
                let own = u64::from(once * (all - kept));
                extra += own;
                wasted += own.min(u64::from((once * all).saturating_sub(*need)));
            }
            extra > 0 && 2 * wasted > extra
        };
        let needed = (1..starts).find(|kept| mostly_wasted(*kept)).unwrap_or(starts);
        if needed < starts {
            let surplus =
                look.of_program(index).filter(|r| usize::try_from(r.start_number).unwrap_or(0) > needed);
            let cost = look.cost(surplus);
            if cost.minutes_a_week.is_some_and(|m| m > 0.0) {
                findings.push(
                    Finding::new(
                        FindingKind::RepeatedStarts { starts, needed },
                        Severity::Warning,
                        FindingPlace::Program(index),
                    )
                    .costing(cost),
                );
            }
        }
    }
}

fn hidden_programs(look: &Look<'_>, findings: &mut Vec<Finding>) {
    let mut seconds: HashMap<(usize, u16), i64> = HashMap::new();
    for run in &look.runs {
        *seconds.entry((run.program, run.station)).or_default() += run.seconds();
    }
    for (index, program) in look.settings.programs.iter().enumerate() {
        if program.repeat.is_some() {
            continue;
        }
        let own: Vec<(u16, i64)> =
            seconds.iter().filter(|((p, _), _)| *p == index).map(|((_, n), s)| (*n, *s)).collect();
        let on_top = |(station, mine): &(u16, i64)| {
            seconds.iter().any(|((p, n), theirs)| {
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

fn rounding(look: &Look<'_>, findings: &mut Vec<Finding>) {
    for (index, program) in look.settings.programs.iter().enumerate().filter(|(_, p)| p.active) {
        let percentage = look.settings.percentages.of(index, look.from);
        for (station, seconds) in &program.run_times {
            let lighting = look.settings.station(*station).lighting;
            if *seconds > 0
                && !lighting
                && percentage > 0
                && look.installation.card.scaled_s(*seconds, percentage) == 0
            {
                let kind = FindingKind::RoundsToZero { percentage };
                findings.push(Finding::new(kind, Severity::Warning, FindingPlace::RunTime(index, *station)));
            }
        }
    }
}

fn seconds_of(run: &ScheduledRun) -> u32 {
    u32::try_from(run.seconds()).unwrap_or(0)
}

fn runoff(look: &Look<'_>, findings: &mut Vec<Finding>) {
    let mut by_station: HashMap<u16, Vec<&ScheduledRun>> = HashMap::new();
    for run in &look.runs {
        by_station.entry(run.station).or_default().push(run);
    }
    for zone in &look.installation.zones {
        let Some(limit_s) = zone.longest_cycle_s() else { continue };
        let station = zone.zone.number;
        let Some(own) = by_station.get(&station) else { continue };
        let over = |run: &&&ScheduledRun| seconds_of(run) > limit_s + LIMIT_TOLERANCE_S;
        let longest = own.iter().map(|r| seconds_of(r)).max().unwrap_or(0);
        if longest > limit_s + LIMIT_TOLERANCE_S {
            let excess: u32 = own.iter().filter(over).map(|r| seconds_of(r) - limit_s).sum();
            let minutes = f64::from(excess) / 60.0 / f64::from(look.weeks);
            let cost = Cost {
                litres_a_week: zone
                    .flow
                    .map(|f| crate::quantity::units::Litres::from_l(f.l_per_min() * minutes)),
                minutes_a_week: Some(minutes),
                days: None,
            };
            let kind = FindingKind::CycleTooLong { run_s: longest, limit_s };
            findings
                .push(Finding::new(kind, Severity::Warning, FindingPlace::Station(station)).costing(cost));
            continue;
        }
        let needed_s = zone.soak_s();
        let shortest = own
            .iter()
            .zip(own.iter().skip(1))
            .filter(|(a, b)| seconds_of(a) + seconds_of(b) > limit_s + LIMIT_TOLERANCE_S)
            .map(|(a, b)| u32::try_from(b.start.duration_since(a.end).as_secs().max(0)).unwrap_or(u32::MAX))
            .min();
        if let Some(pause_s) = shortest
            && pause_s + LIMIT_TOLERANCE_S < needed_s
        {
            let kind = FindingKind::SoakTooShort { pause_s, needed_s };
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
    /// Station and date where it is this box's.
    own: Option<(u16, Date)>,
}

fn supply(look: &Look<'_>, findings: &mut Vec<Finding>) {
    let Some(supply) = look.installation.supply else { return };
    if look.installation.zones.iter().all(|z| z.flow.is_none()) {
        return;
    }
    let flow_of = |station| look.installation.zone(station).and_then(|z| z.flow).unwrap_or_default();
    let mut told: BTreeSet<u16> = BTreeSet::new();
    // Valves that overlap for their slowness share the pipe for seconds only.
    let overlap = jiff::SignedDuration::from_secs(i64::from(look.settings.delay_s.min(0)));
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
        findings.push(Finding::new(kind, Severity::Fault, FindingPlace::Box).costing(cost));
    }
}

//! Whether card, stations and zones belong together.

use super::{CheckedRuns, Finding, FindingKind, FindingPlace, Severity};

// Long: one check after another.
pub(super) fn find(look: &CheckedRuns<'_>, findings: &mut Vec<Finding>) {
    let (installation, settings) = (look.installation, look.settings);
    let card = &installation.card;
    for fault in settings.check(card) {
        let kind = FindingKind::BeyondCard { path: fault.path, message: fault.message };
        findings.push(Finding::new(kind, Severity::Fault, FindingPlace::Controller));
    }
    // A run time in a program that is off, or has no start, is told with that cause.
    let watered: Vec<u16> = settings
        .programs
        .iter()
        .filter(|p| !card.daily_run_times || p.active && !p.starts.is_empty())
        .flat_map(|p| p.run_times.iter().filter(|(_, s)| s.any()).map(|(n, _)| *n))
        .collect();
    let uses_master_valve = settings.stations.iter().any(|(_, s)| s.master_valve);
    for zone in &installation.zones {
        let station = zone.zone.number;
        let place = FindingPlace::Station(station);
        if station > card.stations {
            findings.push(Finding::new(FindingKind::NoStation, Severity::Fault, place));
            continue;
        }
        if settings.station(station).lighting {
            findings.push(Finding::new(FindingKind::LightingIsPlanted, Severity::Fault, place));
            continue;
        }
        if !watered.contains(&station) {
            let kind = if card.daily_run_times && !settings.station(station).fixed_run_time {
                FindingKind::NoFallbackMinutes
            } else {
                FindingKind::ZoneWithoutMinutes
            };
            findings.push(Finding::new(kind, Severity::Warning, place));
        } else if uses_master_valve && !settings.station(station).master_valve {
            findings.push(Finding::new(FindingKind::NoMasterValve, Severity::Warning, place));
        }
    }
    for (index, program) in settings.programs.iter().enumerate() {
        if !program.active {
            continue;
        }
        let runs = program.run_times.iter().any(|(_, s)| s.any());
        if !runs || program.starts.is_empty() {
            findings.push(Finding::new(
                FindingKind::EmptyProgram,
                Severity::Note,
                FindingPlace::Program(index),
            ));
            continue;
        }
        for (station, run_time) in &program.run_times {
            if run_time.any() && installation.zone(*station).is_none() && !settings.station(*station).lighting
            {
                let own = look.of_program(index).filter(|r| r.station == *station);
                findings.push(
                    Finding::new(
                        FindingKind::MinutesWithoutZone,
                        Severity::Warning,
                        FindingPlace::RunTime(index, *station),
                    )
                    .costing(look.cost(own)),
                );
            }
        }
    }
}

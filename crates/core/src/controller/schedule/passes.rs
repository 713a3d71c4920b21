//! Runs gathered by the start of the program that they follow from.

use super::ScheduledRun;
use crate::quantity::time::Seconds;
use jiff::Timestamp;
use jiff::civil::Date;
use std::collections::BTreeMap;

/// The runs that follow from one start of a program, in order of time; never empty.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProgramPass<'a> {
    /// Index of the program.
    pub program: usize,
    /// Which start of the day, from 1.
    pub start_number: u32,
    /// Date of the start.
    pub date: Date,
    /// When the first run begins.
    pub begin: Timestamp,
    /// When the last one ends.
    pub end: Timestamp,
    /// The runs.
    pub runs: Vec<&'a ScheduledRun>,
}

impl ProgramPass<'_> {
    /// Its stations, in the order they first run.
    #[must_use]
    pub fn stations(&self) -> Vec<u16> {
        let mut stations: Vec<u16> = Vec::new();
        for run in &self.runs {
            if !stations.contains(&run.station) {
                stations.push(run.station);
            }
        }
        stations
    }

    /// How long it waters, soaks and pauses left out.
    #[must_use]
    pub fn watered(&self) -> Seconds {
        self.runs.iter().map(|r| r.length()).sum()
    }
}

/// Gathers runs, which must be in order of time; passes come in the order they begin.
pub fn passes<'a>(runs: impl Iterator<Item = &'a ScheduledRun>) -> Vec<ProgramPass<'a>> {
    let mut known: BTreeMap<(usize, u32, Date), usize> = BTreeMap::new();
    let mut out: Vec<ProgramPass<'a>> = Vec::new();
    for run in runs {
        let at = *known.entry((run.program, run.start_number, run.date)).or_insert(out.len());
        match out.get_mut(at) {
            Some(pass) => {
                pass.end = pass.end.max(run.end);
                pass.runs.push(run);
            }
            None => out.push(ProgramPass {
                program: run.program,
                start_number: run.start_number,
                date: run.date,
                begin: run.start,
                end: run.end,
                runs: vec![run],
            }),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::schedule::{Settings, expand};
    use crate::controller::twelve_stations;
    use jiff::civil::{date, time};
    use jiff::tz::TimeZone;

    #[test]
    fn runs_are_gathered_by_their_start() {
        let card = twelve_stations();
        let mut settings = Settings::clean(&card);
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(4, 0, 0, 0), time(2, 0, 0, 0)];
        settings.set_run_time(0, 1, Seconds::from_s(600));
        settings.set_run_time(0, 2, Seconds::from_s(1200));
        let runs = expand(&settings, &card, &TimeZone::UTC, date(2026, 7, 14), date(2026, 7, 14));
        let passes = passes(runs.iter());
        let told: Vec<_> = passes.iter().map(|p| (p.start_number, p.stations(), p.watered().s())).collect();
        assert_eq!(told, [(1, vec![1, 2], 1800), (2, vec![1, 2], 1800)]);
        assert_eq!(passes[0].runs[0].start_index, 1, "the list is not in the order of the clock");
        assert_eq!(passes[1].end.to_string(), "2026-07-14T04:30:00Z");
    }
}

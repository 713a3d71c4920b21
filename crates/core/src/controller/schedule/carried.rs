//! A change carried over: what differs between two settings, put on a third.

use super::settings::{Percentages, Program, Settings};
use crate::quantity::ratio::Percentage;
use crate::quantity::time::Seconds;
use std::collections::BTreeSet;

/// One value of three: as it was, as it is changed, as it stands elsewhere. `None` where both changed it differently.
fn pick<T: PartialEq + Clone>(before: &T, after: &T, onto: &T) -> Option<T> {
    match () {
        () if after == before || after == onto => Some(onto.clone()),
        () if onto == before => Some(after.clone()),
        () => None,
    }
}

fn run_times(before: &Program, after: &Program, onto: &Program) -> Option<Vec<(u16, Seconds)>> {
    let of = |program: &Program, station: u16| {
        program.run_times.iter().find(|(n, _)| *n == station).map_or(Seconds::ZERO, |(_, time)| *time)
    };
    let all = [before, after, onto].into_iter().flat_map(|p| p.run_times.iter().map(|(n, _)| *n));
    let stations: BTreeSet<u16> = all.collect();
    let picked = stations.into_iter().map(|n| Some((n, pick(&of(before, n), &of(after, n), &of(onto, n))?)));
    let picked: Option<Vec<(u16, Seconds)>> = picked.collect();
    picked.map(|all| all.into_iter().filter(|(_, time)| time.any()).collect())
}

fn program(before: &Program, after: &Program, onto: &Program) -> Option<Program> {
    Some(Program {
        name: pick(&before.name, &after.name, &onto.name)?,
        active: pick(&before.active, &after.active, &onto.active)?,
        starts: pick(&before.starts, &after.starts, &onto.starts)?,
        days: pick(&before.days, &after.days, &onto.days)?,
        run_times: run_times(before, after, onto)?,
        repeat: pick(&before.repeat, &after.repeat, &onto.repeat)?,
    })
}

fn percentages(before: &Percentages, after: &Percentages, onto: &Percentages) -> Option<Percentages> {
    let each = |b: &[Percentage], a: &[Percentage], o: &[Percentage]| -> Option<Vec<Percentage>> {
        if b.len() != a.len() || a.len() != o.len() {
            return None;
        }
        b.iter().zip(a).zip(o).map(|((b, a), o)| pick(b, a, o)).collect()
    };
    match (before, after, onto) {
        (Percentages::Program(b), Percentages::Program(a), Percentages::Program(o)) => {
            each(b, a, o).map(Percentages::Program)
        }
        _ => pick(before, after, onto),
    }
}

impl Settings {
    /// These settings with the change from `before` to `after`: what was changed stands as changed, everything else as
    /// it is here. `None` where these changed the same in another way.
    #[must_use]
    pub fn with_change(&self, before: &Self, after: &Self) -> Option<Self> {
        if before.programs.len() != after.programs.len() || after.programs.len() != self.programs.len() {
            return None;
        }
        let triples = before.programs.iter().zip(&after.programs).zip(&self.programs);
        let programs: Option<Vec<Program>> = triples.map(|((b, a), o)| program(b, a, o)).collect();
        let numbers = [before, after, self].into_iter().flat_map(|s| s.stations.iter().map(|(n, _)| *n));
        let numbers: BTreeSet<u16> = numbers.collect();
        let stations = numbers
            .into_iter()
            .map(|n| Some((n, pick(&before.station(n), &after.station(n), &self.station(n))?)));
        let stations: Option<Vec<_>> = stations.collect();
        let changed = Self {
            percentages: percentages(&before.percentages, &after.percentages, &self.percentages)?,
            programs: programs?,
            stations: stations?,
            delay: pick(&before.delay, &after.delay, &self.delay)?,
            never_days: pick(&before.never_days, &after.never_days, &self.never_days)?,
            omit_hours: pick(&before.omit_hours, &after.omit_hours, &self.omit_hours)?,
            rain_delay: pick(&before.rain_delay, &after.rain_delay, &self.rain_delay)?,
            off_season: pick(&before.off_season, &after.off_season, &self.off_season)?,
            omit_dates: pick(&before.omit_dates, &after.omit_dates, &self.omit_dates)?,
            master_lead: pick(&before.master_lead, &after.master_lead, &self.master_lead)?,
        };
        Some(changed.canonical())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::twelve_stations;

    fn base() -> Settings {
        let mut settings = Settings::clean(&twelve_stations());
        settings.programs[0].active = true;
        for station in 1..=3 {
            settings.set_run_time(0, station, Seconds::from_min(10));
        }
        settings
    }

    #[test]
    fn two_changes_of_different_lines_both_stand_and_of_one_line_neither() {
        let before = base();
        let (mut first, mut second) = (before.clone(), before.clone());
        first.set_run_time(0, 1, Seconds::from_min(6));
        second.set_run_time(0, 2, Seconds::from_min(14));
        second.percentages = second.percentages.all_at(Percentage::from_percent(80));
        let both = first.with_change(&before, &second).unwrap();
        assert_eq!(both.run_time(0, 1), Seconds::from_min(6), "the first stands");
        assert_eq!(both.run_time(0, 2), Seconds::from_min(14), "and the second");
        assert_eq!(both.percentages, second.percentages);
        let mut other = before.clone();
        other.set_run_time(0, 1, Seconds::from_min(20));
        assert_eq!(first.with_change(&before, &other), None, "one line in two ways");
        assert_eq!(
            first.with_change(&before, &first),
            Some(first.clone().canonical()),
            "the same change twice"
        );
        assert_eq!(first.with_change(&before, &before), Some(first.canonical()), "no change");
    }

    #[test]
    fn a_station_taken_out_stays_out_and_other_controllers_are_refused() {
        let before = base();
        let mut without = before.clone();
        without.set_run_time(0, 3, Seconds::ZERO);
        let mut longer = before.clone();
        longer.set_run_time(0, 1, Seconds::from_min(12));
        let both = longer.with_change(&before, &without).unwrap();
        assert!(!both.run_time(0, 3).any() && both.run_time(0, 1) == Seconds::from_min(12));
        let mut fewer = before.clone();
        fewer.programs.pop();
        assert_eq!(before.with_change(&before, &fewer), None);
    }
}

//! Upkeep by date: what is due on a sensor, and since when.

use super::{SensorCard, Task};
use jiff::ToSpan;
use jiff::civil::Date;
use std::collections::BTreeMap;

/// A task with its date.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Due {
    /// What.
    pub task: Task,
    /// When it was done last; else when the sensor was installed.
    pub since: Date,
    /// Whether it was ever done.
    pub ever: bool,
    /// When it is due.
    pub on: Date,
}

impl Due {
    /// Days by which it is overdue on a date; below zero while it is not due.
    #[must_use]
    pub fn overdue_days(&self, today: Date) -> i32 {
        (today - self.on).get_days()
    }
}

/// Every task of a sensor with its next date, the earliest first.
#[must_use]
pub fn due(card: &SensorCard, installed: Date, done: &BTreeMap<Task, Date>) -> Vec<Due> {
    let mut all: Vec<Due> = card
        .upkeep
        .iter()
        .map(|(task, months)| {
            let last = done.get(task).copied();
            let since = last.unwrap_or(installed).max(installed);
            let on = since.saturating_add(i32::from(*months).months());
            Due { task: *task, since, ever: last.is_some(), on }
        })
        .collect();
    all.sort_by_key(|d| (d.on, d.task));
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sensors::generic;
    use jiff::civil::date;

    #[test]
    fn batteries_twice_a_year_and_what_was_done_counts() {
        let card = generic().into_iter().find(|(c, _)| *c == "rain_switch_radio").unwrap().1;
        let installed = date(2026, 1, 10);
        let first = due(&card, installed, &BTreeMap::new());
        assert_eq!(
            first[0],
            Due { task: Task::Battery, since: installed, ever: false, on: date(2026, 7, 10) }
        );
        assert_eq!(first[0].overdue_days(date(2026, 7, 14)), 4);
        let after = due(&card, installed, &[(Task::Battery, date(2026, 7, 14))].into());
        let battery = after.iter().find(|d| d.task == Task::Battery).unwrap();
        assert_eq!((battery.on, battery.ever), (date(2027, 1, 14), true));
        assert!(after[0].overdue_days(date(2026, 7, 1)) < 0);
    }

    #[test]
    fn the_end_of_a_month_stays_in_its_month() {
        let card = generic().into_iter().find(|(c, _)| *c == "rain_switch_radio").unwrap().1;
        let all = due(&card, date(2026, 8, 31), &BTreeMap::new());
        assert_eq!(all[0].on, date(2027, 2, 28));
    }
}

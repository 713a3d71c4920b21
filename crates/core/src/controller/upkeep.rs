//! Upkeep of a controller by the wall clock: its own clock after a change, and its backup battery.

use super::Card;
use jiff::civil::Date;
use jiff::tz::{TimeZone, TimeZoneTransition};
use jiff::{Timestamp, ToSpan};

/// What is looked after.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ControllerTask {
    /// The clock: the wall clock was moved, and a controller that does not follow runs an hour off.
    Clock,
    /// The battery that keeps clock and programs through a power cut.
    BackupBattery,
}

/// A task with its date.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ControllerDue {
    /// What.
    pub task: ControllerTask,
    /// When it is due, or was: the date of the last change of the clock, or some months after the last battery;
    /// `None` where nobody knows when that was.
    pub on: Option<Date>,
    /// Whether it is due now.
    pub now: bool,
}

/// The change of the wall clock before an instant that moved it, and the one after.
#[must_use]
pub fn clock_changes(tz: &TimeZone, at: Timestamp) -> (Option<Date>, Option<Date>) {
    let offset = |t: Timestamp| tz.to_offset(t);
    let moves = |t: &TimeZoneTransition<'_>| offset(t.timestamp() - 1.second()) != t.offset();
    let date = |t: TimeZoneTransition<'_>| t.timestamp().to_zoned(tz.clone()).date();
    // The instant itself belongs to what has been.
    (tz.preceding(at + 1.second()).find(moves).map(date), tz.following(at).find(moves).map(date))
}

/// A change of the clock longer ago than this says nothing about a controller any more, days.
const CLOCK_DAYS: i32 = 366;

/// The tasks of a controller at an instant. `done` says when a task was done last.
#[must_use]
pub fn due(
    card: &Card,
    tz: &TimeZone,
    at: Timestamp,
    done: impl Fn(ControllerTask) -> Option<Timestamp>,
) -> Vec<ControllerDue> {
    let today = at.to_zoned(tz.clone()).date();
    let day = |t: Timestamp| t.to_zoned(tz.clone()).date();
    let mut out = Vec::new();
    let (last, _) = clock_changes(tz, at);
    if let Some(last) = last.filter(|last| (today - *last).get_days() <= CLOCK_DAYS) {
        let done = done(ControllerTask::Clock).map(day);
        let now = done.is_none_or(|done| done < last);
        out.push(ControllerDue { task: ControllerTask::Clock, on: Some(last), now });
    }
    if card.backup_battery_months > 0 {
        let done = done(ControllerTask::BackupBattery).map(day);
        let on = done.map(|done| done.saturating_add(i32::from(card.backup_battery_months).months()));
        out.push(ControllerDue {
            task: ControllerTask::BackupBattery,
            on,
            now: on.is_none_or(|on| on <= today),
        });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::twelve_stations;
    use jiff::civil::{date, time};

    fn at(tz: &TimeZone, day: Date, hour: i8) -> Timestamp {
        day.to_datetime(time(hour, 0, 0, 0)).to_zoned(tz.clone()).unwrap().timestamp()
    }

    #[test]
    fn the_clock_is_due_from_the_hour_it_was_moved_until_somebody_looked() {
        // Rules of the European Union, in force in 2026: last Sundays of March and October, at 01:00 UTC.
        let tz = TimeZone::get("Europe/Zurich").unwrap();
        let asked = |now: Timestamp, done: Option<Timestamp>| {
            let all =
                due(&twelve_stations(), &tz, now, |task| done.filter(|_| task == ControllerTask::Clock));
            let own = all.into_iter().find(|d| d.task == ControllerTask::Clock).unwrap();
            (own.on.unwrap(), own.now)
        };
        let before = at(&tz, date(2026, 10, 25), 1);
        let looked = at(&tz, date(2026, 4, 2), 9);
        assert_eq!(asked(before, None), (date(2026, 3, 29), true));
        assert_eq!(asked(before, Some(looked)), (date(2026, 3, 29), false));
        assert_eq!(asked(at(&tz, date(2026, 10, 25), 4), Some(looked)), (date(2026, 10, 25), true));
        assert_eq!(clock_changes(&tz, before).1, Some(date(2026, 10, 25)));
    }

    #[test]
    fn where_no_clock_is_moved_there_is_nothing_to_do() {
        let tz = TimeZone::get("Etc/GMT+1").unwrap();
        let all = due(&twelve_stations(), &tz, at(&tz, date(2026, 7, 14), 20), |_| None);
        assert_eq!(all.iter().map(|d| d.task).collect::<Vec<_>>(), [ControllerTask::BackupBattery]);
        assert_eq!(clock_changes(&tz, at(&tz, date(2026, 7, 14), 20)), (None, None));
        // A rule that was given up long ago asks nobody any more.
        let still = TimeZone::get("Asia/Tokyo").unwrap();
        let none = due(
            &Card { backup_battery_months: 0, ..twelve_stations() },
            &still,
            Timestamp::UNIX_EPOCH,
            |_| None,
        );
        assert_eq!(none, []);
    }

    #[test]
    fn a_backup_battery_is_due_a_year_after_the_last_or_at_once_when_nobody_knows() {
        let tz = TimeZone::UTC;
        let changed = at(&tz, date(2026, 2, 28), 12);
        let asked = |now: Date, done| due(&twelve_stations(), &tz, at(&tz, now, 0), |_| done)[0];
        assert!(asked(date(2026, 7, 14), None).now);
        assert!(!asked(date(2027, 2, 27), Some(changed)).now);
        assert!(asked(date(2027, 2, 28), Some(changed)).now);
        assert_eq!(asked(date(2026, 7, 14), Some(changed)).on, Some(date(2027, 2, 28)));
    }
}

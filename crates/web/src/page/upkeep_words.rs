//! What is due on controllers and sensors, in words.

use crate::page::dates::DateFormat;
use crate::site::snapshot::SiteSnapshot;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use upland_core::controller::upkeep::{ControllerDue, ControllerTask, due};
use upland_core::sensors::upkeep;
use upland_store::controllers::ControllerRecord;
use upland_store::sensors::SensorRecord;
use upland_store::ticks::{TickRecord, What};

/// How a task is ticked.
pub(crate) const fn tick_of(task: ControllerTask) -> What {
    match task {
        ControllerTask::Clock => What::ClockSet,
        ControllerTask::BackupBattery => What::BackupBattery,
    }
}

/// A task of a controller in words.
pub(crate) fn controller_words(due: &ControllerDue, next: Option<Date>) -> String {
    let day = |date: Date| date.formatted("%-d %b %Y");
    let next = next.map_or(String::new(), |next| format!(" The next change is on {}.", day(next)));
    match (due.task, due.now, due.on) {
        (ControllerTask::Clock, true, Some(on)) => format!(
            "The wall clock was moved on {}: look whether the clock of the controller went along, else every start is an hour off.{next}",
            day(on)
        ),
        (ControllerTask::Clock, _, _) => format!("The clock was looked at since it was moved last.{next}"),
        (ControllerTask::BackupBattery, _, None) => {
            "Nobody said when the backup battery was changed. It keeps clock and programs through a power cut; a flat one is found out too late.".into()
        }
        (ControllerTask::BackupBattery, true, Some(on)) => {
            format!("The backup battery is due since {}: change it with the controller under power, or the programs are lost.", day(on))
        }
        (ControllerTask::BackupBattery, false, Some(on)) => format!("The backup battery is due on {}.", day(on)),
    }
}

/// The last tick of something.
pub(crate) fn last_tick(ticks: &[TickRecord], what: What, about: i64) -> Option<&TickRecord> {
    ticks.iter().filter(|t| t.what == what && t.about == about).max_by_key(|t| t.at)
}

/// The tasks of a controller by what was ticked, due or not.
pub(crate) fn controller_due(
    own: &ControllerRecord,
    ticks: &[TickRecord],
    tz: &TimeZone,
    now: Timestamp,
) -> Vec<ControllerDue> {
    due(&own.controller.card, tz, now, |task| last_tick(ticks, tick_of(task), own.id).map(|t| t.at))
}

/// The next task of a sensor.
pub(crate) fn next_due(snapshot: &SiteSnapshot, record: &SensorRecord) -> Option<upkeep::Due> {
    let all = upkeep::due(&record.sensor.card, record.installed_on, &snapshot.done(record.id));
    all.first().copied()
}

/// The next task of a sensor in words, and whether it is overdue.
pub(crate) fn next_task(snapshot: &SiteSnapshot, record: &SensorRecord) -> (String, bool) {
    match next_due(snapshot, record) {
        None => ("nothing to do".into(), false),
        Some(due) if due.overdue_days(snapshot.today()) >= 0 => {
            (format!("{} since {}", due.task.label(), due.on.formatted("%-d %b")), true)
        }
        Some(due) => (format!("{} by {}", due.task.label(), due.on.formatted("%-d %b %Y")), false),
    }
}

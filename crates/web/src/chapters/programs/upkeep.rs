//! Upkeep of a box by the wall clock, as ticks: its clock after a change, its backup battery.

use crate::page::dates::Said;
use crate::page::ticks::{TickMark, day_number, ticks_of};
use crate::server::error::PageError;
use crate::site::context::AtSite;
use crate::site::workbench::Workbench;
use jiff::civil::Date;
use upland_core::controller::upkeep::{BoxDue, BoxTask, clock_changes, due};
use upland_store::ticks::{TickRecord, What};

/// A task with its tick.
pub(super) struct UpkeepLine {
    pub now: bool,
    pub words: String,
    pub tick: TickMark,
}

const fn tick_of(task: BoxTask) -> What {
    match task {
        BoxTask::Clock => What::ClockSet,
        BoxTask::BackupBattery => What::BackupBattery,
    }
}

fn words(due: &BoxDue, next: Option<Date>) -> String {
    let day = |date: Date| date.said("%-d %b %Y");
    let next = next.map_or(String::new(), |next| format!(" The next change is on {}.", day(next)));
    match (due.task, due.now, due.on) {
        (BoxTask::Clock, true, Some(on)) => format!(
            "The wall clock was moved on {}: look whether the clock of the box went along, else every start is an hour off.{next}",
            day(on)
        ),
        (BoxTask::Clock, _, _) => format!("The clock was looked at since it was moved last.{next}"),
        (BoxTask::BackupBattery, _, None) => {
            "Nobody said when the backup battery was changed. It keeps clock and programs through a power cut; a flat one is found out too late.".into()
        }
        (BoxTask::BackupBattery, true, Some(on)) => {
            format!("The backup battery is due since {}: change it with the box under power, or the programs are lost.", day(on))
        }
        (BoxTask::BackupBattery, false, Some(on)) => format!("The backup battery is due on {}.", day(on)),
    }
}

/// The tasks of a box, due or not.
pub(super) async fn lines(
    here: &AtSite,
    bench: &Workbench,
    back: &str,
) -> Result<Vec<UpkeepLine>, PageError> {
    let ticks = ticks_of(here).await?;
    let own = &bench.site_box()?.record;
    let tz = &here.facts.tz;
    let last = |what: What| -> Option<&TickRecord> {
        ticks.iter().filter(|t| t.what == what && t.about == own.id).max_by_key(|t| t.at)
    };
    let all = due(&bench.installation.card, tz, here.now(), |task| last(tick_of(task)).map(|t| t.at));
    let (_, next) = clock_changes(tz, here.now());
    let line = |due: BoxDue| {
        let what = tick_of(due.task);
        // A tick is numbered by the day it is about; what is not due shows the one that stands.
        let number = match last(what).filter(|_| !due.now) {
            Some(tick) => tick.number,
            None => day_number(due.on.unwrap_or_else(|| here.today())),
        };
        let about = (what, own.id, number);
        UpkeepLine {
            now: due.now,
            words: words(&due, next.filter(|_| due.task == BoxTask::Clock)),
            tick: TickMark::of(here.id(), about, &ticks, (tz, back.to_owned())),
        }
    };
    Ok(all.into_iter().map(line).collect())
}

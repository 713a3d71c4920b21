//! Upkeep of a controller by the wall clock, as ticks: its clock after a change, its backup battery.

use crate::page::ticks::{TickMark, day_number, ticks_of};
use crate::page::upkeep_words::{controller_due, controller_words, last_tick, tick_of};
use crate::server::error::PageError;
use crate::site::context::AtSite;
use crate::site::controller_snapshot::ControllerSnapshot;
use upland_core::controller::upkeep::{ControllerDue, ControllerTask, clock_changes};

/// A task with its tick.
pub(super) struct UpkeepLine {
    pub now: bool,
    pub words: String,
    pub tick: TickMark,
}

/// The tasks of a controller, due or not.
pub(super) async fn lines(
    here: &AtSite,
    snapshot: &ControllerSnapshot,
    back: &str,
) -> Result<Vec<UpkeepLine>, PageError> {
    let ticks = ticks_of(here).await?;
    let own = &snapshot.site_controller()?.record;
    let tz = &here.records.tz;
    let all = controller_due(own, &ticks, tz, here.now());
    let (_, next) = clock_changes(tz, here.now());
    let line = |due: ControllerDue| {
        let what = tick_of(due.task);
        // A tick is numbered by the day it is about; what is not due shows the one that stands.
        let number = match last_tick(&ticks, what, own.id).filter(|_| !due.now) {
            Some(tick) => tick.number,
            None => day_number(due.on.unwrap_or_else(|| here.today())),
        };
        UpkeepLine {
            now: due.now,
            words: controller_words(&due, next.filter(|_| due.task == ControllerTask::Clock)),
            tick: TickMark::of(here.id(), what, own.id, number, &ticks, tz, back.to_owned()),
        }
    };
    Ok(all.into_iter().map(line).collect())
}

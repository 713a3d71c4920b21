//! Ticks that count: who did what to which controller or sensor, and when.

use crate::schema::{sites, ticks, users};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Change, Result, Snapshot, StoreError, Subject};
use diesel::prelude::*;
use jiff::Timestamp;
use jiff_diesel::ToDiesel;

/// What is ticked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum What {
    /// A version of settings was programmed at its controller.
    KeyedIn,
    /// A call was made: its percentage stands at the controller.
    Called,
    /// A sensor was wired.
    Wired,
    /// A sensor was tested.
    Tested,
    /// A sensor was calibrated.
    Calibrated,
    /// The clock of a controller was looked at after the wall clock was moved.
    ClockSet,
    /// The backup battery of a controller was changed.
    BackupBattery,
}

impl What {
    /// All.
    pub const ALL: [Self; 7] = [
        Self::KeyedIn,
        Self::Called,
        Self::Wired,
        Self::Tested,
        Self::Calibrated,
        Self::ClockSet,
        Self::BackupBattery,
    ];

    /// Short name.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::KeyedIn => "keyed_in",
            Self::Called => "called",
            Self::Wired => "wired",
            Self::Tested => "tested",
            Self::Calibrated => "calibrated",
            Self::ClockSet => "clock_set",
            Self::BackupBattery => "backup_battery",
        }
    }

    /// The value of a short name.
    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|what| what.code() == code)
    }

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::KeyedIn => "programmed",
            Self::Called => "called",
            Self::Wired => "wired",
            Self::Tested => "tested",
            Self::Calibrated => "calibrated",
            Self::ClockSet => "clock looked at",
            Self::BackupBattery => "backup battery changed",
        }
    }
}

/// A tick that stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TickRecord {
    /// The site.
    pub site_id: SiteKey,
    /// What.
    pub what: What,
    /// The controller or sensor.
    pub about: i64,
    /// A version, or the week of a call as days since 1970.
    pub number: i32,
    /// When it was done.
    pub at: Timestamp,
    /// Who.
    pub said_by: String,
}

type Row = (SiteKey, String, i64, i32, jiff_diesel::Timestamp, String);

fn tick_of((site_id, what, about, number, at, said_by): Row) -> Result<TickRecord> {
    let what = What::from_code(&what).ok_or(StoreError::Unknown { what: "tick", value: what })?;
    Ok(TickRecord { site_id, what, about, number, at: at.to_jiff(), said_by })
}

impl Snapshot<'_> {
    /// The ticks of a site that stand, in order of time.
    ///
    /// # Errors
    /// As any query.
    pub fn ticks(&mut self, site_id: SiteKey) -> Result<Vec<TickRecord>> {
        let rows: Vec<Row> = ticks::table
            .inner_join(users::table)
            .filter(ticks::site_id.eq(site_id).and(ticks::undone_at.is_null()))
            .order((ticks::at, ticks::id))
            .select((
                ticks::site_id,
                ticks::what,
                ticks::about,
                ticks::number,
                ticks::at,
                users::display_name,
            ))
            .load(self.connection)?;
        rows.into_iter().map(tick_of).collect()
    }

    /// Calls of all sites that are ticked, of a number or later.
    ///
    /// # Errors
    /// As any query.
    pub fn called_since(&mut self, number: i32) -> Result<Vec<TickRecord>> {
        let rows: Vec<Row> = ticks::table
            .inner_join(users::table)
            .inner_join(sites::table.on(sites::id.eq(ticks::site_id)))
            .filter(ticks::what.eq(What::Called.code()).and(ticks::number.ge(number)))
            .filter(ticks::undone_at.is_null().and(sites::removed_at.is_null()))
            .select((
                ticks::site_id,
                ticks::what,
                ticks::about,
                ticks::number,
                ticks::at,
                users::display_name,
            ))
            .load(self.connection)?;
        rows.into_iter().map(tick_of).collect()
    }
}

impl Change<'_> {
    /// Ticks something, or takes the tick back. `false` when it is so already.
    ///
    /// # Errors
    /// As any query.
    pub fn tick(
        &mut self,
        what: What,
        about: i64,
        number: i32,
        at: Option<Timestamp>,
        words: &str,
    ) -> Result<bool> {
        let (site_id, actor) = (self.site_id, self.actor);
        let id: Option<i64> = match at {
            Some(at) => diesel::insert_into(ticks::table)
                .values((
                    ticks::site_id.eq(site_id),
                    ticks::what.eq(what.code()),
                    ticks::about.eq(about),
                    ticks::number.eq(number),
                    ticks::at.eq(at.to_diesel()),
                    ticks::said_by.eq(actor),
                ))
                .on_conflict_do_nothing()
                .returning(ticks::id)
                .get_result(self.connection)
                .optional()?,
            None => diesel::update(
                ticks::table
                    .filter(ticks::site_id.eq(site_id).and(ticks::what.eq(what.code())))
                    .filter(ticks::about.eq(about).and(ticks::number.eq(number)))
                    .filter(ticks::undone_at.is_null()),
            )
            .set(ticks::undone_at.eq(diesel::dsl::now))
            .returning(ticks::id)
            .get_result(self.connection)
            .optional()?,
        };
        if let Some(id) = id {
            let action = if at.is_some() { Action::Created } else { Action::Removed };
            self.record(NewEvent::new(Subject::Tick, Some(id), action).with(what.code()).said(words));
        }
        Ok(id.is_some())
    }
}

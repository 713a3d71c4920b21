//! The application's clock: real time, or ahead of it or behind by a number of seconds that every server
//! on the database shares.

use crate::{Result, Snapshot, Store};
use diesel::prelude::*;
use diesel::sql_types::BigInt;
use jiff::{SignedDuration, Timestamp};

/// The clock in queries.
pub(crate) mod sql {
    diesel::define_sql_function! {
        /// What the application's clock shows.
        fn app_now() -> diesel::sql_types::Timestamptz;
    }
}

#[derive(QueryableByName)]
struct Ahead {
    #[diesel(sql_type = BigInt)]
    ahead_seconds: i64,
}

pub(crate) fn ahead(connection: &mut PgConnection) -> Result<Option<SignedDuration>> {
    let row: Option<Ahead> =
        diesel::sql_query("SELECT ahead_seconds FROM clock").get_result(connection).optional()?;
    Ok(row.map(|r| SignedDuration::from_secs(r.ahead_seconds)))
}

/// What the application's clock shows.
pub(crate) fn app_now(connection: &mut PgConnection) -> Result<Timestamp> {
    let now: jiff_diesel::Timestamp = diesel::select(sql::app_now()).get_result(connection)?;
    Ok(now.to_jiff())
}

impl Snapshot<'_> {
    /// By how much the clock is ahead of real time; `None` when it shows real time.
    ///
    /// # Errors
    /// As any query.
    pub fn clock_ahead(&mut self) -> Result<Option<SignedDuration>> {
        ahead(self.connection)
    }
}

impl Store {
    /// Sets by how much the clock is ahead of real time.
    ///
    /// # Errors
    /// As any query.
    pub fn set_clock(&self, ahead: SignedDuration) -> Result<()> {
        diesel::sql_query(
            "INSERT INTO clock (ahead_seconds) VALUES ($1) \
             ON CONFLICT (only_row) DO UPDATE SET ahead_seconds = EXCLUDED.ahead_seconds",
        )
        .bind::<BigInt, _>(ahead.as_secs())
        .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Lets time pass on a clock that was set; returns by how much it is ahead now, or `None` when the clock
    /// shows real time, which cannot be moved.
    ///
    /// # Errors
    /// As any query.
    pub fn move_clock(&self, by: SignedDuration) -> Result<Option<SignedDuration>> {
        let row: Option<Ahead> =
            diesel::sql_query("UPDATE clock SET ahead_seconds = ahead_seconds + $1 RETURNING ahead_seconds")
                .bind::<BigInt, _>(by.as_secs())
                .get_result(&mut self.connection()?)
                .optional()?;
        Ok(row.map(|r| SignedDuration::from_secs(r.ahead_seconds)))
    }
}

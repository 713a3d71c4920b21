//! The search for a better way at a site: asked for by a person, done by a worker, watched and stopped by anybody who may.

use crate::scope::SiteKey;
use crate::tasks::{self, Task};
use crate::{Result, Snapshot, Store, small};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Integer, Jsonb, Nullable, Text, Timestamptz};
use jiff::SignedDuration;

/// What is searched for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewSearch {
    /// The controller.
    pub controller_number: u8,
    /// What may change, by short names.
    pub space: Vec<String>,
    /// Share of its demand that every zone gets at least, percent.
    pub goal_pct: u8,
    /// The weather and prices, as the address of the trial has them.
    pub asked: String,
}

/// What was found.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Outcome {
    /// Whether it went to its end.
    pub complete: bool,
    /// Schedules that were fitted.
    pub tried: usize,
    /// Seasons that were run.
    pub runs: usize,
    /// Where its days came from, in words.
    pub origin: String,
    /// The revision of the site that it saw.
    pub revision: i64,
    /// A way file; `None` when nothing keeps to law and window.
    pub way: Option<serde_json::Value>,
    /// Why nothing was searched, in words.
    pub refusals: Vec<String>,
}

/// A search as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Search {
    /// Which one it is at its site.
    pub number: i32,
    /// What was asked.
    pub asked: NewSearch,
    /// How far it is, of at most how much.
    pub progress: (i32, i32),
    /// What it came to; `None` while it goes on.
    pub outcome: Option<Outcome>,
    /// It goes on, or waits for a worker.
    pub runs: bool,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = Integer)]
    number: i32,
    #[diesel(sql_type = Integer)]
    controller_number: i32,
    #[diesel(sql_type = Array<Text>)]
    space: Vec<String>,
    #[diesel(sql_type = Integer)]
    goal_pct: i32,
    #[diesel(sql_type = Text)]
    asked: String,
    #[diesel(sql_type = Integer)]
    done: i32,
    #[diesel(sql_type = Integer)]
    most: i32,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    ended_at: Option<jiff_diesel::Timestamp>,
    #[diesel(sql_type = Bool)]
    complete: bool,
    #[diesel(sql_type = Integer)]
    runs: i32,
    #[diesel(sql_type = Text)]
    origin: String,
    #[diesel(sql_type = BigInt)]
    revision: i64,
    #[diesel(sql_type = Nullable<Jsonb>)]
    way: Option<serde_json::Value>,
    #[diesel(sql_type = Array<Text>)]
    refusals: Vec<String>,
    #[diesel(sql_type = Bool)]
    queued: bool,
}

/// With whether a worker has it or will.
fn of_site() -> String {
    format!("SELECT s.*, {} AS queued FROM searches s WHERE s.site_id = $1", queued())
}

fn queued() -> String {
    format!("EXISTS (SELECT FROM work.jobs j WHERE j.key = 'search ' || s.site_id AND {})", tasks::LIVES)
}

const BEGIN: &str = "
    INSERT INTO searches (site_id, number, controller_number, space, goal_pct, asked, begun_by)
    SELECT id, 1, $2, $3, $4, $5, $6 FROM sites WHERE id = $1
    ON CONFLICT (site_id) DO UPDATE SET
        number = searches.number + 1, controller_number = EXCLUDED.controller_number, space = EXCLUDED.space,
        goal_pct = EXCLUDED.goal_pct, asked = EXCLUDED.asked, begun_by = EXCLUDED.begun_by, done = 0, most = 0,
        stop = false, ended_at = NULL, complete = false, runs = 0, origin = '', revision = 0, way = NULL, refusals = '{}'";

#[derive(QueryableByName)]
struct Stop {
    #[diesel(sql_type = Bool)]
    stop: bool,
}

fn count(of: i32) -> usize {
    usize::try_from(of).unwrap_or(0)
}

fn number(of: usize) -> i32 {
    i32::try_from(of).unwrap_or(i32::MAX)
}

impl Snapshot<'_> {
    /// The search of a site, if one was asked for.
    ///
    /// # Errors
    /// As any query.
    pub fn search(&mut self, site: SiteKey) -> Result<Option<Search>> {
        let row: Option<Row> =
            diesel::sql_query(of_site()).bind::<BigInt, _>(site).get_result(self.connection).optional()?;
        let search = |row: Row| {
            Ok(Search {
                number: row.number,
                progress: (row.done, row.most),
                runs: row.ended_at.is_none() && row.queued,
                outcome: row.ended_at.map(|_| Outcome {
                    complete: row.complete,
                    tried: count(row.done),
                    runs: count(row.runs),
                    origin: row.origin,
                    revision: row.revision,
                    way: row.way,
                    refusals: row.refusals,
                }),
                asked: NewSearch {
                    controller_number: small("controller number", row.controller_number)?,
                    space: row.space,
                    goal_pct: small("goal", row.goal_pct)?,
                    asked: row.asked,
                },
            })
        };
        row.map(search).transpose()
    }
}

impl Store {
    /// Asks for a search at a site, in place of the one before.
    ///
    /// # Errors
    /// As any query.
    pub fn begin_search(&self, site: SiteKey, new: &NewSearch, actor: i64) -> Result<()> {
        self.connection()?.transaction(|connection| {
            diesel::sql_query(BEGIN)
                .bind::<BigInt, _>(site)
                .bind::<Integer, _>(i32::from(new.controller_number))
                .bind::<Array<Text>, _>(&new.space)
                .bind::<Integer, _>(i32::from(new.goal_pct))
                .bind::<Text, _>(&new.asked)
                .bind::<BigInt, _>(actor)
                .execute(connection)?;
            tasks::ask(connection, Task::Search, site.number(), SignedDuration::ZERO)
        })
    }

    /// Says how far a search is; whether it goes on: nobody stopped it, and no other took its place.
    ///
    /// # Errors
    /// As any query.
    pub fn tell_search(&self, site: SiteKey, which: i32, done: usize, most: usize) -> Result<bool> {
        let told: Option<Stop> = diesel::sql_query(
            "UPDATE searches SET done = $3, most = $4 WHERE site_id = $1 AND number = $2 AND ended_at IS NULL RETURNING stop",
        )
        .bind::<BigInt, _>(site)
        .bind::<Integer, _>(which)
        .bind::<Integer, _>(number(done))
        .bind::<Integer, _>(number(most))
        .get_result(&mut self.connection()?)
        .optional()?;
        Ok(told.is_some_and(|told| !told.stop))
    }

    /// Keeps what a search came to, unless another took its place.
    ///
    /// # Errors
    /// As any query.
    pub fn end_search(&self, site: SiteKey, which: i32, outcome: &Outcome) -> Result<()> {
        diesel::sql_query(
            "UPDATE searches SET ended_at = app_now(), complete = $3, done = $4, runs = $5, origin = $6, revision = $7, \
             way = $8, refusals = $9 WHERE site_id = $1 AND number = $2 AND ended_at IS NULL",
        )
        .bind::<BigInt, _>(site)
        .bind::<Integer, _>(which)
        .bind::<Bool, _>(outcome.complete)
        .bind::<Integer, _>(number(outcome.tried))
        .bind::<Integer, _>(number(outcome.runs))
        .bind::<Text, _>(&outcome.origin)
        .bind::<BigInt, _>(outcome.revision)
        .bind::<Nullable<Jsonb>, _>(&outcome.way)
        .bind::<Array<Text>, _>(&outcome.refusals)
        .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Stops the search of a site: one that goes on ends with the best so far, any other is forgotten.
    ///
    /// # Errors
    /// As any query.
    pub fn stop_search(&self, site: SiteKey) -> Result<()> {
        let connection = &mut *self.connection()?;
        connection.transaction(|connection| {
            diesel::sql_query("UPDATE searches SET stop = true WHERE site_id = $1 AND ended_at IS NULL")
                .bind::<BigInt, _>(site)
                .execute(connection)?;
            diesel::sql_query(format!(
                "DELETE FROM searches s WHERE site_id = $1 AND (ended_at IS NOT NULL OR NOT {})",
                queued()
            ))
            .bind::<BigInt, _>(site)
            .execute(connection)?;
            if (Snapshot { connection }).search(site)?.is_none() {
                tasks::forget(connection, Task::Search, site.number())?;
            }
            Ok(())
        })
    }
}

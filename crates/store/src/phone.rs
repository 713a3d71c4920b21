//! What a phone sends: entries that were kept while there was no network, each applied once, and the ticks of lists of
//! steps. Neither is a fact of the site: nothing is computed from them, and they raise no revision.

use crate::scope::SiteKey;
use crate::{Result, Snapshot, Store};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Text, Timestamptz};
use jiff::Timestamp;
use jiff_diesel::ToDiesel;

/// Most steps of a list that are kept ticked; no list of ours is as long.
const MOST_STEPS: i64 = 1_000;

/// What is known of an entry that a phone sends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SentBefore {
    /// It is new: it is to be applied now.
    New,
    /// It was applied.
    Applied,
    /// It is being applied now.
    Running,
    /// Applying it was begun a while ago and its end is not known: a server was stopped in between.
    Unknown,
}

/// A step that somebody ticked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StepTick {
    /// The step, as its page names it.
    pub step: String,
    /// Who ticked it.
    pub ticked_by: String,
    /// When.
    pub ticked_at: Timestamp,
}

#[derive(QueryableByName)]
struct Known {
    #[diesel(sql_type = Bool)]
    fresh: bool,
    #[diesel(sql_type = Bool)]
    applied: bool,
    #[diesel(sql_type = Bool)]
    running: bool,
}

#[derive(QueryableByName)]
struct StepRow {
    #[diesel(sql_type = Text)]
    step: String,
    #[diesel(sql_type = Text)]
    ticked_by: String,
    #[diesel(sql_type = Timestamptz)]
    ticked_at: jiff_diesel::Timestamp,
}

impl Snapshot<'_> {
    /// The ticked steps of a list of a site.
    ///
    /// # Errors
    /// As any query.
    pub fn step_ticks(&mut self, site: SiteKey, list: &str) -> Result<Vec<StepTick>> {
        let rows: Vec<StepRow> = diesel::sql_query(
            "SELECT t.step, u.display_name AS ticked_by, t.ticked_at \
             FROM step_ticks t JOIN users u ON u.id = t.ticked_by \
             WHERE t.site_id = $1 AND t.list = $2 ORDER BY t.ticked_at, t.step",
        )
        .bind::<BigInt, _>(site)
        .bind::<Text, _>(list)
        .load(self.connection)?;
        let tick = |row: StepRow| StepTick {
            step: row.step,
            ticked_by: row.ticked_by,
            ticked_at: row.ticked_at.to_jiff(),
        };
        Ok(rows.into_iter().map(tick).collect())
    }
}

impl Store {
    /// Notes that an entry begins to be applied, where it is new.
    ///
    /// # Errors
    /// As any query.
    pub fn begin_sent_entry(&self, client_key: &str, user_id: i64) -> Result<SentBefore> {
        let connection = &mut *self.connection()?;
        let known: Known = diesel::sql_query(
            "WITH fresh AS ( \
                     INSERT INTO sent_entries (client_key, user_id) VALUES ($1, $2) \
                     ON CONFLICT DO NOTHING RETURNING client_key) \
                 SELECT EXISTS (SELECT 1 FROM fresh) AS fresh, \
                     EXISTS (SELECT 1 FROM sent_entries WHERE client_key = $1 AND user_id = $2 \
                             AND applied_at IS NOT NULL) AS applied, \
                 EXISTS (SELECT 1 FROM sent_entries WHERE client_key = $1 AND user_id = $2 \
                         AND sent_at > now() - interval '2 minutes') AS running",
        )
        .bind::<Text, _>(client_key)
        .bind::<BigInt, _>(user_id)
        .get_result(connection)?;
        Ok(match known {
            Known { fresh: true, .. } => SentBefore::New,
            Known { applied: true, .. } => SentBefore::Applied,
            Known { running: true, .. } => SentBefore::Running,
            Known { .. } => SentBefore::Unknown,
        })
    }

    /// Notes how applying an entry ended: one that was refused may be sent again under its key.
    ///
    /// # Errors
    /// As any query.
    pub fn end_sent_entry(&self, client_key: &str, is_applied: bool) -> Result<()> {
        let text = if is_applied {
            "UPDATE sent_entries SET applied_at = now() WHERE client_key = $1"
        } else {
            "DELETE FROM sent_entries WHERE client_key = $1 AND applied_at IS NULL"
        };
        let connection = &mut *self.connection()?;
        diesel::sql_query(text).bind::<Text, _>(client_key).execute(connection)?;
        Ok(())
    }

    /// Ticks a step of a list of a site at a moment, or takes its tick back. Ticked twice, the first one stands.
    ///
    /// # Errors
    /// As any query.
    pub fn tick_step(
        &self,
        site: SiteKey,
        list: &str,
        step: &str,
        user_id: i64,
        at: Option<Timestamp>,
    ) -> Result<()> {
        let connection = &mut *self.connection()?;
        match at {
            Some(at) => diesel::sql_query(
                "INSERT INTO step_ticks (site_id, list, step, ticked_by, ticked_at) \
                     SELECT $1, $2, $3, $4, $5 \
                     WHERE (SELECT count(*) FROM step_ticks WHERE site_id = $1 AND list = $2) < $6 \
                     ON CONFLICT DO NOTHING",
            )
            .bind::<BigInt, _>(site)
            .bind::<Text, _>(list)
            .bind::<Text, _>(step)
            .bind::<BigInt, _>(user_id)
            .bind::<Timestamptz, _>(at.to_diesel())
            .bind::<BigInt, _>(MOST_STEPS)
            .execute(connection)?,
            None => {
                diesel::sql_query("DELETE FROM step_ticks WHERE site_id = $1 AND list = $2 AND step = $3")
                    .bind::<BigInt, _>(site)
                    .bind::<Text, _>(list)
                    .bind::<Text, _>(step)
                    .execute(connection)?
            }
        };
        Ok(())
    }

    /// Takes the ticks of a whole list back.
    ///
    /// # Errors
    /// As any query.
    pub fn clear_steps(&self, site: SiteKey, list: &str) -> Result<()> {
        let connection = &mut *self.connection()?;
        diesel::sql_query("DELETE FROM step_ticks WHERE site_id = $1 AND list = $2")
            .bind::<BigInt, _>(site)
            .bind::<Text, _>(list)
            .execute(connection)?;
        Ok(())
    }
}

//! A file waiting for its reader's yes, and the progress of taking it in.

use super::{Comparison, Incoming, count};
use crate::schema::weather_drafts;
use crate::scope::SiteKey;
use crate::tasks::{self, Task};
use crate::{Result, Snapshot, Store, StoreError};
use diesel::prelude::*;
use diesel::sql_types::{Bool, Text};
use upland_core::weather::record::{RawDay, RawHour};

/// Where a draft stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DraftState {
    /// Waiting for a yes.
    Preview,
    /// Being taken in, or waiting for a worker.
    Running,
    /// Accepted, and tried as often as it is tried by itself; the file is kept for whoever says again or stop.
    GivenUp,
    /// Taken in.
    Done,
    /// Refused by the database; nothing was stored.
    Failed,
    /// Stopped by a person; nothing was stored.
    Cancelled,
}

/// A file waiting for its reader's yes.
#[derive(Debug, Clone, PartialEq)]
pub struct Draft {
    /// Identity.
    pub id: i64,
    /// Its site.
    pub site_id: SiteKey,
    /// The source it goes to.
    pub source_id: i64,
    /// Who brought it.
    pub user_id: i64,
    /// Its name.
    pub file_name: String,
    /// How its columns are read, when that was asked.
    pub mapping: Option<serde_json::Value>,
    /// Days in the file; 0 while its columns are still asked.
    pub days_total: i32,
    /// Days imported so far.
    pub days_done: i32,
    /// Where it stands.
    pub state: DraftState,
    /// Outcome in words.
    pub message: String,
    /// It is an answer of a service, kept only to ask how its columns are read.
    pub of_service: bool,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = weather_drafts, check_for_backend(diesel::pg::Pg))]
struct DraftRow {
    id: i64,
    site_id: SiteKey,
    source_id: i64,
    user_id: i64,
    file_name: String,
    mapping: Option<serde_json::Value>,
    days_total: i32,
    days_done: i32,
    state: String,
    message: String,
    of_service: bool,
}

impl DraftRow {
    fn draft(self) -> Result<Draft> {
        let state = match self.state.as_str() {
            "preview" => DraftState::Preview,
            "running" => DraftState::Running,
            "done" => DraftState::Done,
            "failed" => DraftState::Failed,
            "cancelled" => DraftState::Cancelled,
            _ => return Err(StoreError::Unknown { what: "draft state", value: self.state }),
        };
        Ok(Draft {
            id: self.id,
            site_id: self.site_id,
            source_id: self.source_id,
            user_id: self.user_id,
            file_name: self.file_name,
            mapping: self.mapping,
            days_total: self.days_total,
            days_done: self.days_done,
            state,
            message: self.message,
            of_service: self.of_service,
        })
    }
}

#[derive(QueryableByName)]
struct JobRow {
    #[diesel(sql_type = Bool)]
    lives: bool,
    #[diesel(sql_type = Text)]
    fault: String,
}

/// What went wrong last with a running draft that nobody will take in any more; `None` while somebody will. A job that
/// its owner took away leaves no words.
fn given_up(connection: &mut PgConnection, id: i64) -> Result<Option<String>> {
    let job: Option<JobRow> = diesel::sql_query(format!(
        "SELECT {} AS lives, COALESCE(j.last_error, '') AS fault FROM work.jobs j WHERE j.key = $1",
        tasks::LIVES
    ))
    .bind::<Text, _>(tasks::key(Task::Import, id))
    .get_result(connection)
    .optional()?;
    Ok(match job {
        Some(JobRow { lives: true, .. }) => None,
        Some(JobRow { fault, .. }) => Some(fault),
        None => Some(String::new()),
    })
}

impl Snapshot<'_> {
    /// A draft of a site, without its content.
    ///
    /// # Errors
    /// As any query.
    pub fn draft(&mut self, site_id: SiteKey, id: i64) -> Result<Option<Draft>> {
        let row: Option<DraftRow> = weather_drafts::table
            .filter(weather_drafts::id.eq(id).and(weather_drafts::site_id.eq(site_id)))
            .select(DraftRow::as_select())
            .first(self.connection)
            .optional()?;
        let Some(mut draft) = row.map(DraftRow::draft).transpose()? else { return Ok(None) };
        if draft.state == DraftState::Running
            && let Some(fault) = given_up(self.connection, id)?
        {
            (draft.state, draft.message) = (DraftState::GivenUp, fault);
        }
        Ok(Some(draft))
    }

    /// The file of a draft.
    ///
    /// # Errors
    /// As any query.
    pub fn draft_content(&mut self, site_id: SiteKey, id: i64) -> Result<Option<Vec<u8>>> {
        Ok(weather_drafts::table
            .filter(weather_drafts::id.eq(id).and(weather_drafts::site_id.eq(site_id)))
            .select(weather_drafts::content)
            .first(self.connection)
            .optional()?)
    }
}

impl Store {
    /// Keeps a file until its reader says yes; unconfirmed files go after a day.
    ///
    /// # Errors
    /// As any query.
    pub fn create_draft(
        &self,
        site_id: SiteKey,
        source_id: i64,
        user_id: i64,
        file_name: &str,
        content: &[u8],
        of_service: bool,
    ) -> Result<i64> {
        let mut connection = self.connection()?;
        diesel::delete(
            weather_drafts::table.filter(
                diesel::dsl::sql::<Bool>("created_at < now() - interval '24 hours'")
                    .and(weather_drafts::state.ne("running")),
            ),
        )
        .execute(&mut connection)?;
        Ok(diesel::insert_into(weather_drafts::table)
            .values((
                weather_drafts::site_id.eq(site_id),
                weather_drafts::source_id.eq(source_id),
                weather_drafts::user_id.eq(user_id),
                weather_drafts::file_name.eq(file_name),
                weather_drafts::content.eq(content),
                weather_drafts::days_total.eq(0),
                weather_drafts::of_service.eq(of_service),
            ))
            .returning(weather_drafts::id)
            .get_result(&mut connection)?)
    }

    /// Remembers how the columns of a waiting draft are read. `false` when no such draft waits at the site.
    ///
    /// # Errors
    /// As any query.
    pub fn set_draft_mapping(&self, site_id: SiteKey, id: i64, mapping: &serde_json::Value) -> Result<bool> {
        let rows = diesel::update(
            weather_drafts::table.filter(
                weather_drafts::id
                    .eq(id)
                    .and(weather_drafts::site_id.eq(site_id))
                    .and(weather_drafts::state.eq("preview")),
            ),
        )
        .set(weather_drafts::mapping.eq(mapping))
        .execute(&mut self.connection()?)?;
        Ok(rows == 1)
    }

    /// Marks a draft as being taken in, with its number of days, and asks for the work; `false` when somebody already did.
    ///
    /// # Errors
    /// As any query.
    pub fn start_draft(&self, id: i64, days_total: usize) -> Result<bool> {
        self.connection()?.transaction(|connection| {
            let waits = weather_drafts::id.eq(id).and(weather_drafts::state.eq("preview"));
            let changed = diesel::update(weather_drafts::table.filter(waits))
                .set((weather_drafts::state.eq("running"), weather_drafts::days_total.eq(count(days_total))))
                .execute(connection)?;
            if changed == 1 {
                tasks::ask(connection, Task::Import, id, jiff::SignedDuration::ZERO)?;
            }
            Ok(changed == 1)
        })
    }

    /// Asks once more for the work of a draft that was given up; `false` when the site has none such.
    ///
    /// # Errors
    /// As any query.
    pub fn resume_draft(&self, site_id: SiteKey, id: i64) -> Result<bool> {
        self.connection()?.transaction(|connection| {
            let accepted = weather_drafts::id
                .eq(id)
                .and(weather_drafts::site_id.eq(site_id))
                .and(weather_drafts::state.eq("running"));
            let row: Option<i64> = weather_drafts::table
                .filter(accepted)
                .select(weather_drafts::id)
                .for_update()
                .first(connection)
                .optional()?;
            if row.is_none() || given_up(connection, id)?.is_none() {
                return Ok(false);
            }
            tasks::ask(connection, Task::Import, id, jiff::SignedDuration::ZERO)?;
            Ok(true)
        })
    }

    /// Asks a running draft to stop; it stops at its next step and stores nothing. One that was given up ends at once.
    /// `false` when the site has no such draft.
    ///
    /// # Errors
    /// As any query.
    pub fn cancel_draft(&self, site_id: SiteKey, id: i64) -> Result<bool> {
        self.connection()?.transaction(|connection| {
            let state: Option<String> = diesel::update(
                weather_drafts::table
                    .filter(weather_drafts::id.eq(id).and(weather_drafts::site_id.eq(site_id))),
            )
            .set(weather_drafts::cancel.eq(true))
            .returning(weather_drafts::state)
            .get_result(connection)
            .optional()?;
            if state.as_deref() == Some("running") && given_up(connection, id)?.is_some() {
                end(connection, id, Err(("cancelled", STOPPED.to_owned())))?;
                tasks::forget(connection, Task::Import, id)?;
            }
            Ok(state.is_some())
        })
    }

    /// Drops a draft; `false` when the site has none such, or it runs.
    ///
    /// # Errors
    /// As any query.
    pub fn drop_draft(&self, site_id: SiteKey, id: i64) -> Result<bool> {
        let rows = diesel::delete(
            weather_drafts::table.filter(
                weather_drafts::id
                    .eq(id)
                    .and(weather_drafts::site_id.eq(site_id))
                    .and(weather_drafts::state.ne("running")),
            ),
        )
        .execute(&mut self.connection()?)?;
        Ok(rows == 1)
    }

    /// A draft that is being taken in, with its file; `None` when it is not, or not any more.
    ///
    /// # Errors
    /// As any query.
    pub fn running_draft(&self, id: i64) -> Result<Option<(Draft, Vec<u8>)>> {
        let row: Option<(DraftRow, Vec<u8>)> = weather_drafts::table
            .filter(weather_drafts::id.eq(id).and(weather_drafts::state.eq("running")))
            .select((DraftRow::as_select(), weather_drafts::content))
            .first(&mut self.connection()?)
            .optional()?;
        row.map(|(row, content)| Ok((row.draft()?, content))).transpose()
    }

    /// Takes in the days and hours of a started draft and writes its outcome. All or nothing: a failure or a cancelling
    /// leaves the record as it was, with the reason at the draft.
    ///
    /// # Errors
    /// As any query, after the draft was marked; [`StoreError::Cancelled`] when a person stopped it.
    pub fn run_draft(&self, draft: &Draft, days: &[RawDay], hours: &[RawHour]) -> Result<Comparison> {
        // Progress goes over a second connection, or it would only be seen at the end of each step.
        let mut progress = self.connection()?;
        let incoming = Incoming {
            to: (draft.user_id, draft.site_id, draft.source_id),
            file_name: &draft.file_name,
            draft: draft.id,
            days,
            hours,
        };
        let result = self.import_weather(incoming, |done| {
            let stop: bool = diesel::update(weather_drafts::table.find(draft.id))
                .set(weather_drafts::days_done.eq(count(done)))
                .returning(weather_drafts::cancel)
                .get_result(&mut progress)?;
            if stop { Err(StoreError::Cancelled) } else { Ok(()) }
        });
        // It stays accepted, for the next attempt to take in.
        if result.as_ref().is_err_and(StoreError::is_passing) {
            return result;
        }
        let outcome = match &result {
            Ok(counts) => {
                Ok(format!("{} new, {} changed, {} already known", counts.new, counts.changed, counts.same))
            }
            Err(StoreError::Cancelled) => Err(("cancelled", STOPPED.to_owned())),
            Err(error) => Err(("failed", format!("Nothing was stored: {error}"))),
        };
        drop(progress);
        self.end_draft(draft.id, outcome)?;
        result
    }

    /// Writes what became of a draft and lets its file go.
    ///
    /// # Errors
    /// As any query.
    pub fn end_draft(&self, id: i64, outcome: core::result::Result<String, (&str, String)>) -> Result<()> {
        end(&mut *self.connection()?, id, outcome)
    }
}

/// What is said of a draft that a person stopped.
const STOPPED: &str = "Stopped; nothing was stored.";

fn end(
    connection: &mut PgConnection,
    id: i64,
    outcome: core::result::Result<String, (&str, String)>,
) -> Result<()> {
    let (state, message) = match outcome {
        Ok(message) => ("done", message),
        Err(other) => other,
    };
    let content: &[u8] = &[];
    diesel::update(weather_drafts::table.find(id))
        .set((
            weather_drafts::state.eq(state),
            weather_drafts::message.eq(message),
            weather_drafts::content.eq(content),
        ))
        .execute(connection)?;
    Ok(())
}

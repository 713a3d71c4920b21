//! Work that no page waits for, as jobs in the same database.
//!
//! A job is asked for in the transaction of the write that makes it due, so that nothing accepted is forgotten; workers
//! on any number of machines take jobs. The queue is `graphile_worker`: MIT licensed, released every few weeks, jobs with
//! keys, retries, heartbeats by which a killed worker's jobs are taken up by another, and an SQL function to ask for one
//! over any driver, ours included.

pub use crate::tasks::Task;
use crate::tasks::{GIVEN_UP, LIVES, ask};
use crate::{Number, Result, Snapshot, Store, StoreError};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Integer, Nullable, Text, Timestamptz};
use graphile_worker::WorkerUtils;
use jiff::Timestamp;

/// The schema of the queue's own tables.
pub const SCHEMA: &str = "work";
/// Ended jobs that are listed.
const MOST_LISTED: i64 = 200;

/// A job that waits, runs or has failed for good.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Waiting {
    /// Identity.
    pub id: i64,
    /// Its kind; `None`: of a newer program.
    pub task: Option<Task>,
    /// What it is about, by identity.
    pub of: i64,
    /// When it is due.
    pub due_at: Timestamp,
    /// Since when a worker has it.
    pub taken_at: Option<Timestamp>,
    /// Times that it was begun.
    pub attempts: i32,
    /// It is not tried again by itself.
    pub given_up: bool,
    /// What went wrong the last time.
    pub fault: String,
}

/// A job that has ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ended {
    /// Its kind.
    pub task: Option<Task>,
    /// What it was about, by identity.
    pub of: i64,
    /// When it ended.
    pub ended_at: Timestamp,
    /// How long it took.
    pub took: jiff::SignedDuration,
    /// Which try it was.
    pub attempt: i32,
    /// What went wrong; empty when nothing did.
    pub fault: String,
    /// What it did, in words.
    pub said: String,
}

/// What became of one try of a job.
#[derive(Debug, Clone, Copy)]
pub struct Outcome<'a> {
    /// Its kind.
    pub task: Task,
    /// What it was about.
    pub of: i64,
    /// How long it took.
    pub took: std::time::Duration,
    /// Which try it was.
    pub attempt: i32,
    /// What it did, or what went wrong.
    pub said: core::result::Result<&'a str, &'a str>,
}

/// A row of [`WAITING`].
#[derive(QueryableByName)]
struct WaitingRow {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = Text)]
    task: String,
    #[diesel(sql_type = BigInt)]
    of: i64,
    #[diesel(sql_type = Timestamptz)]
    due_at: jiff_diesel::Timestamp,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    taken_at: Option<jiff_diesel::Timestamp>,
    #[diesel(sql_type = Integer)]
    attempts: i32,
    #[diesel(sql_type = Bool)]
    lives: bool,
    #[diesel(sql_type = Text)]
    fault: String,
}

fn waiting() -> String {
    format!(
        "SELECT id, task_identifier AS task, COALESCE(substring(key FROM '[0-9]+$')::bigint, 0) AS of, run_at AS due_at, \
                locked_at AS taken_at, attempts::int, {LIVES} AS lives, COALESCE(last_error, '') AS fault \
         FROM work.jobs j WHERE {LIVES} OR {GIVEN_UP} ORDER BY {LIVES}, locked_at IS NULL, run_at LIMIT $1"
    )
}

/// A row of the work that has ended.
#[derive(QueryableByName)]
struct EndedRow {
    #[diesel(sql_type = Text)]
    task: String,
    #[diesel(sql_type = BigInt)]
    of: i64,
    #[diesel(sql_type = Timestamptz)]
    ended_at: jiff_diesel::Timestamp,
    #[diesel(sql_type = Integer)]
    took_ms: i32,
    #[diesel(sql_type = Integer)]
    attempt: i32,
    #[diesel(sql_type = Text)]
    fault: String,
    #[diesel(sql_type = Text)]
    said: String,
}

const ENDED: &str = "
    SELECT task, of, ended_at, took_ms, attempt, fault, said FROM work_done ORDER BY id DESC LIMIT $1";

/// Brings the queue's own tables up to date. Its driver is asynchronous, and this may be called from within a runtime.
pub(crate) fn migrate(url: &str) -> Result<()> {
    let fault = |what: String| StoreError::Migration(format!("the queue: {what}"));
    std::thread::scope(|scope| {
        let migrated = scope.spawn(|| {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
            let runtime = runtime.map_err(|error| fault(error.to_string()))?;
            runtime.block_on(async {
                let queue = database(url, 1).map_err(fault)?;
                WorkerUtils::new(queue, SCHEMA).migrate().await.map_err(|error| fault(error.to_string()))
            })
        });
        migrated.join().unwrap_or_else(|_| Err(fault("it broke off".into())))
    })
}

/// The queue's own connections to a database.
///
/// # Errors
/// The address in words, when it is none.
pub fn database(url: &str, connections: usize) -> core::result::Result<graphile_worker::Database, String> {
    let database = graphile_worker::tokio_postgres::TokioPostgresDatabase::from_url(url, connections);
    database.map(Into::into).map_err(|error| error.to_string())
}

/// How the queue stands, for a scraper.
#[derive(Debug, Clone, Copy, PartialEq, QueryableByName)]
pub struct QueueCounts {
    /// Jobs that wait or run.
    #[diesel(sql_type = diesel::sql_types::Double)]
    pub waiting: f64,
    /// Jobs that are not tried again by themselves.
    #[diesel(sql_type = diesel::sql_types::Double)]
    pub given_up: f64,
    /// For how long the oldest job that nobody has taken has been due, s.
    #[diesel(sql_type = diesel::sql_types::Double)]
    pub oldest_due_s: f64,
    /// Workers that said lately that they live.
    #[diesel(sql_type = diesel::sql_types::Double)]
    pub workers: f64,
    /// Weather services whose last answer was none.
    #[diesel(sql_type = diesel::sql_types::Double)]
    pub services_faulty: f64,
}

fn counts() -> String {
    format!(
        "SELECT count(*) FILTER (WHERE {LIVES})::float8 AS waiting, \
                count(*) FILTER (WHERE {GIVEN_UP})::float8 AS given_up, \
                COALESCE(extract(epoch FROM now() - min(run_at) FILTER ( \
                    WHERE locked_at IS NULL AND {LIVES} AND run_at < now())), 0)::float8 AS oldest_due_s, \
                (SELECT count(*) FROM work._private_workers \
                 WHERE last_heartbeat_at > now() - interval '30 seconds')::float8 AS workers, \
                (SELECT count(*) FROM ( \
                    SELECT DISTINCT ON (a.source_id, a.foretold) a.fault FROM weather_answers a \
                    JOIN weather_services s ON s.source_id = a.source_id AND NOT s.stopped \
                    ORDER BY a.source_id, a.foretold, a.id DESC) last WHERE fault <> '')::float8 AS services_faulty \
         FROM work.jobs j"
    )
}

#[derive(QueryableByName)]
struct Workers {
    #[diesel(sql_type = BigInt)]
    alive: i64,
    #[diesel(sql_type = Timestamptz)]
    now: jiff_diesel::Timestamp,
}

impl Snapshot<'_> {
    /// The jobs that wait, run or have failed: those given up first, then those that run.
    ///
    /// # Errors
    /// As any query.
    pub fn waiting_work(&mut self) -> Result<Vec<Waiting>> {
        let rows: Vec<WaitingRow> =
            diesel::sql_query(waiting()).bind::<BigInt, _>(MOST_LISTED).load(self.connection)?;
        Ok(rows
            .into_iter()
            .map(|row| Waiting {
                id: row.id,
                task: Task::from_code(&row.task),
                of: row.of,
                due_at: row.due_at.to_jiff(),
                taken_at: row.taken_at.map(jiff_diesel::Timestamp::to_jiff),
                attempts: row.attempts,
                given_up: !row.lives,
                fault: row.fault,
            })
            .collect())
    }

    /// The jobs that ended lately, the latest first.
    ///
    /// # Errors
    /// As any query.
    pub fn ended_work(&mut self) -> Result<Vec<Ended>> {
        let rows: Vec<EndedRow> =
            diesel::sql_query(ENDED).bind::<BigInt, _>(MOST_LISTED).load(self.connection)?;
        Ok(rows
            .into_iter()
            .map(|row| Ended {
                task: Task::from_code(&row.task),
                of: row.of,
                ended_at: row.ended_at.to_jiff(),
                took: jiff::SignedDuration::from_millis(i64::from(row.took_ms)),
                attempt: row.attempt,
                fault: row.fault,
                said: row.said,
            })
            .collect())
    }

    /// How many workers said lately that they live, and the database's time, by which jobs are due.
    ///
    /// # Errors
    /// As any query.
    pub fn workers(&mut self) -> Result<(i64, Timestamp)> {
        let workers: Workers = diesel::sql_query(
            "SELECT count(*) FILTER (WHERE last_heartbeat_at > now() - interval '30 seconds') AS alive, now() AS now \
             FROM work._private_workers",
        )
        .get_result(self.connection)?;
        Ok((workers.alive, workers.now.to_jiff()))
    }
}

impl Store {
    /// How the queue stands.
    ///
    /// # Errors
    /// As any query.
    pub fn queue_counts(&self) -> Result<QueueCounts> {
        Ok(diesel::sql_query(counts()).get_result(&mut self.connection()?)?)
    }

    /// How many jobs are not tried again by themselves.
    ///
    /// # Errors
    /// As any query.
    pub fn given_up(&self) -> Result<i64> {
        let number: Number =
            diesel::sql_query(format!("SELECT count(*) AS number FROM work.jobs j WHERE {GIVEN_UP}"))
                .get_result(&mut self.connection()?)?;
        Ok(number.number)
    }

    /// Asks for a job, after a time.
    ///
    /// # Errors
    /// As any query.
    pub fn ask(&self, task: Task, of: i64, after: jiff::SignedDuration) -> Result<()> {
        ask(&mut *self.connection()?, task, of, after)
    }

    /// The address of the database, for the queue's own connections.
    #[must_use]
    pub fn url(&self) -> &str {
        &self.url
    }

    /// Notes what became of a job.
    ///
    /// # Errors
    /// As any query.
    pub fn note_work(&self, outcome: Outcome<'_>) -> Result<()> {
        let (said, fault) = match outcome.said {
            Ok(said) => (said, ""),
            Err(fault) => ("", fault),
        };
        diesel::sql_query(
            "INSERT INTO work_done (task, of, took_ms, attempt, fault, said) VALUES ($1, $2, $3, $4, $5, $6)",
        )
        .bind::<Text, _>(outcome.task.code())
        .bind::<BigInt, _>(outcome.of)
        .bind::<Integer, _>(i32::try_from(outcome.took.as_millis()).unwrap_or(i32::MAX))
        .bind::<Integer, _>(outcome.attempt)
        .bind::<Text, _>(fault)
        .bind::<Text, _>(said)
        .execute(&mut self.connection()?)?;
        Ok(())
    }

    /// Lets a job that waits or was given up be tried at once, with every try before it. `false` when it is gone, or a
    /// worker has it.
    ///
    /// # Errors
    /// As any query.
    pub fn work_again(&self, id: i64) -> Result<bool> {
        self.of_queue("SELECT id FROM work.reschedule_jobs(ARRAY[$1], now(), NULL, 0, NULL)", id)
    }

    /// Takes a job that waits or was given up away. `false` when it is gone, or a worker has it.
    ///
    /// # Errors
    /// As any query.
    pub fn drop_work(&self, id: i64) -> Result<bool> {
        self.of_queue("SELECT id FROM work.complete_jobs(ARRAY[$1])", id)
    }

    fn of_queue(&self, call: &str, id: i64) -> Result<bool> {
        Ok(diesel::sql_query(call).bind::<BigInt, _>(id).execute(&mut self.connection()?)? > 0)
    }

    /// Clears what has served its time: the notes of ended work after two weeks, counts of sign-ins and keys of what phones sent after ninety days,
    /// ticks of steps after 400,
    /// what a killed import left, and months of raw readings after `months` whole ones. Returns what went, in words.
    ///
    /// # Errors
    /// As any query.
    pub fn sweep(&self, months: i32) -> Result<String> {
        let connection = &mut *self.connection()?;
        let notes = diesel::sql_query("DELETE FROM work_done WHERE ended_at < now() - interval '14 days'")
            .execute(connection)?;
        let tries = diesel::sql_query("DELETE FROM sign_ins WHERE last_at < now() - interval '90 days'")
            .execute(connection)?;
        diesel::sql_query("DELETE FROM sent_entries WHERE sent_at < now() - interval '90 days'")
            .execute(connection)?;
        diesel::sql_query("DELETE FROM step_ticks WHERE ticked_at < app_now() - interval '400 days'")
            .execute(connection)?;
        // What another job took the place of before its worker was killed.
        diesel::sql_query(format!(
            "SELECT id FROM work.complete_jobs(ARRAY (SELECT j.id FROM work.jobs j WHERE NOT {LIVES} AND NOT {GIVEN_UP}))"
        ))
        .execute(connection)?;
        let staged = diesel::sql_query(
            "DELETE FROM weather_imports i WHERE staged_for IS NOT NULL AND imported_at < app_now() - interval '1 day' \
             AND NOT EXISTS (SELECT FROM weather_drafts d WHERE d.id = i.staged_for AND d.state = 'running')",
        )
        .execute(connection)?;
        let old: Vec<Month> = diesel::sql_query(
            "SELECT c.relname::text AS name FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid \
             WHERE i.inhparent = 'sensor_readings'::regclass \
               AND c.relname < 'sensor_readings_' || to_char((app_now() AT TIME ZONE 'UTC') - make_interval(months => $1), 'YYYY_MM') \
             ORDER BY 1",
        )
        .bind::<Integer, _>(months)
        .load(connection)?;
        for month in &old {
            // The name is one that readings_month made.
            diesel::sql_query(format!("DROP TABLE \"{}\"", month.name.replace('"', "")))
                .execute(connection)?;
        }
        Ok(format!(
            "{notes} notes of ended work, {tries} counts of sign-ins, {staged} imports that nobody ended and {} months of raw readings went",
            old.len()
        ))
    }

    /// Asks for the work on readings that is due and that nobody asked for, such as after a restore. Returns of how many
    /// sites.
    ///
    /// # Errors
    /// As any query.
    pub fn ask_for_due_readings(&self) -> Result<usize> {
        let connection = &mut *self.connection()?;
        let sites: Vec<Number> = diesel::sql_query(
            "SELECT DISTINCT s.site_id AS number FROM readings_due d JOIN sensors s ON s.id = d.sensor_id \
             JOIN sites ON sites.id = s.site_id WHERE sites.removed_at IS NULL",
        )
        .load(connection)?;
        for site in &sites {
            ask(connection, Task::Readings, site.number, jiff::SignedDuration::ZERO)?;
        }
        Ok(sites.len())
    }
}

#[derive(QueryableByName)]
struct Month {
    #[diesel(sql_type = Text)]
    name: String,
}

//! The kinds of background work, and how a job of one is asked for: in the transaction of the write that makes it due.

use crate::Result;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Integer, Nullable, Text};

/// How often a job is tried before it stays for the owner to look at.
const MOST_ATTEMPTS: i32 = 12;

/// The kinds of work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Task {
    /// Readings of a site become weather.
    Readings,
    /// A file is taken into the weather record.
    Import,
    /// A weather service is asked.
    Fetch,
    /// What a site asks for is worked out, ahead of the pages that show it.
    Round,
    /// A person's mail of the day is written.
    Mail,
    /// A better way is searched for a site.
    Search,
    /// What is due and was not asked for is asked for.
    Look,
    /// What has served its time goes.
    Sweep,
}

impl Task {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Readings,
        Self::Import,
        Self::Fetch,
        Self::Round,
        Self::Mail,
        Self::Search,
        Self::Look,
        Self::Sweep,
    ];

    /// The code under which the queue knows it.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::Readings => "readings",
            Self::Import => "import",
            Self::Fetch => "fetch",
            Self::Round => "round",
            Self::Mail => "mail",
            Self::Search => "search",
            Self::Look => "look",
            Self::Sweep => "sweep",
        }
    }

    /// Words for lists.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Readings => "Readings into the weather record",
            Self::Import => "Taking a file in",
            Self::Fetch => "Asking a weather service",
            Self::Round => "Working a site out for the lists",
            Self::Mail => "Mail of the day",
            Self::Search => "Optimising",
            Self::Look => "Looking for what is due",
            Self::Sweep => "Clearing what has served its time",
        }
    }

    /// The line in which its jobs wait for each other: a search takes seconds of a core, and one at a time is enough.
    const fn line(self) -> Option<&'static str> {
        match self {
            Self::Search => Some("searches"),
            _ => None,
        }
    }

    /// The task of a code.
    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|task| task.code() == code)
    }
}

/// Whether a job `j` waits or is worked on: one in its last attempt is, one that was given up is not.
pub(crate) const LIVES: &str = "(j.attempts < j.max_attempts OR j.locked_at IS NOT NULL)";

/// Whether a job `j` was given up: its tries are used, and no other stands in its place. One that is asked for again
/// while a worker has it loses its key and its tries to the one that follows, and is left so when its worker is killed.
pub(crate) const GIVEN_UP: &str =
    "(j.attempts >= j.max_attempts AND j.locked_at IS NULL AND j.key IS NOT NULL)";

/// The name under which a job waits, so that a second one for the same replaces it.
pub(crate) fn key(task: Task, of: i64) -> String {
    format!("{} {of}", task.code())
}

/// Asks for a job, after a time. One that waits already for the same becomes due no later than that; one that runs is
/// followed by another. One that was given up is tried again as the job that it was; to the queue it would be another
/// beside it.
pub(crate) fn ask(
    connection: &mut PgConnection,
    task: Task,
    of: i64,
    after: jiff::SignedDuration,
) -> Result<()> {
    diesel::sql_query(format!(
        "SELECT CASE \
             WHEN EXISTS (SELECT FROM work.jobs j WHERE j.key = $6 AND NOT {LIVES}) \
             THEN (SELECT count(*) > 0 FROM work.reschedule_jobs( \
                 ARRAY (SELECT id FROM work.jobs WHERE key = $6), now() + make_interval(secs => $3), NULL, 0, $4)) \
             ELSE work.add_job( \
                 $1, json_build_object('of', $2), $5, \
                 LEAST(now() + make_interval(secs => $3), (SELECT run_at FROM work.jobs WHERE key = $6 AND attempts = 0)), \
                 $4, $6, NULL::int, NULL, 'replace') IS NOT NULL \
         END AS asked"
    ))
    .bind::<Text, _>(task.code())
    .bind::<BigInt, _>(of)
    .bind::<diesel::sql_types::Double, _>(after.as_secs_f64())
    .bind::<Integer, _>(MOST_ATTEMPTS)
    .bind::<Nullable<Text>, _>(task.line())
    .bind::<Text, _>(key(task, of))
    .execute(connection)?;
    Ok(())
}

/// Takes the job of something that nobody wants any more away, unless a worker has it.
pub(crate) fn forget(connection: &mut PgConnection, task: Task, of: i64) -> Result<()> {
    diesel::sql_query(
        "SELECT id FROM work.complete_jobs(ARRAY (SELECT id FROM work.jobs WHERE key = $1 AND locked_at IS NULL))",
    )
    .bind::<Text, _>(key(task, of))
    .execute(connection)?;
    Ok(())
}

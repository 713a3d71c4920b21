//! PostgreSQL through Diesel. Maps rows to core types and back; nothing above this crate names a
//! table, and no row type leaves it.
//!
//! What people say is kept in dated versions and never overwritten. A save names the version it
//! started from: when somebody else saved in between, the caller gets both and nothing is lost.

pub mod accounts;
pub mod api_tokens;
pub mod clock;
pub mod controllers;
pub mod drafts;
pub mod factors;
pub mod field;
pub mod grants;
pub mod library;
pub mod logbook;
pub mod mails;
pub mod owner_links;
pub mod passwords;
pub mod phone;
pub mod photos;
mod pool;
pub mod queue;
pub mod readings;
pub mod rounds;
pub mod routes;
mod schema;
mod schema_rounds;
mod schema_services;
mod schema_visits;
pub mod scope;
pub mod searches;
pub mod sensors;
pub mod settings;
pub mod sign_ins;
pub mod sites;
mod tasks;
#[cfg(feature = "testing")]
pub mod testing;
pub mod ticks;
mod transaction;
pub mod trials;
pub mod visits;
pub mod weather;
pub mod zones;

pub use transaction::{Action, Change, Event, Snapshot, Subject};

use diesel::migration::{Migration as _, MigrationSource};
use diesel::pg::PgConnection;
use diesel::r2d2::Pool;
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};

/// Names the lock that the process holds that prepares the database; any number that nothing else uses.
const PREPARING: i64 = 0x7570_6c61_6e64;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations");

/// A row of one number.
#[derive(diesel::QueryableByName)]
pub(crate) struct Number {
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub number: i64,
}

/// What went wrong between this program and its database.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// No connection could be had.
    #[error("the database cannot be reached: {0}")]
    Unreachable(String),
    /// A query failed.
    #[error("the database refused: {0}")]
    Query(diesel::result::Error),
    /// The database's disk is full; the transaction was rolled back.
    #[error("the disk of the database is full: {0}")]
    DiskFull(String),
    /// Something else has that number or place by now.
    #[error("another {0} by now")]
    Taken(&'static str),
    /// There are as many as may be.
    #[error("there are {1} {0} already")]
    Full(&'static str, usize),
    /// A migration failed.
    #[error("the database could not be brought to the current schema: {0}")]
    Migration(String),
    /// Long work was told to stop; nothing of it was stored.
    #[error("it was cancelled")]
    Cancelled,
    /// The same failure, told to several who waited for one answer.
    #[error("{0}")]
    Shared(std::sync::Arc<StoreError>),
    /// A row holds a value this program does not know.
    #[error("the database holds an unknown {what}: {value}")]
    Unknown {
        /// Kind of value.
        what: &'static str,
        /// The value.
        value: String,
    },
}

impl StoreError {
    /// Whether the database went away meanwhile, so that the same may well succeed once it is back.
    #[must_use]
    pub fn is_passing(&self) -> bool {
        use diesel::result::{DatabaseErrorKind as Kind, Error};
        match self {
            Self::Unreachable(_) | Self::DiskFull(_) | Self::Query(Error::BrokenTransactionManager) => true,
            Self::Query(Error::DatabaseError(Kind::ClosedConnection | Kind::UnableToSendCommand, _)) => true,
            Self::Query(Error::RollbackErrorOnCommit { .. }) => true,
            Self::Shared(error) => error.is_passing(),
            _ => false,
        }
    }
}

/// Whether a statement failed for want of disk. Diesel does not pass on the code (53100), so the words decide.
fn is_disk_full(info: &(dyn diesel::result::DatabaseErrorInformation + Send + Sync)) -> bool {
    info.message().contains("No space left on device") || info.hint() == Some("Check free disk space.")
}

impl From<diesel::result::Error> for StoreError {
    fn from(error: diesel::result::Error) -> Self {
        use diesel::result::{DatabaseErrorKind, Error};
        let Error::DatabaseError(kind, info) = &error else { return Self::Query(error) };
        if matches!(kind, DatabaseErrorKind::Unknown) && is_disk_full(info.as_ref()) {
            return Self::DiskFull(info.message().to_owned());
        }
        if !matches!(kind, DatabaseErrorKind::UniqueViolation) {
            return Self::Query(error);
        }
        match info.constraint_name() {
            Some("zones_station") => Self::Taken("zone has that station"),
            Some("controllers_number") => Self::Taken("controller has that number"),
            Some("weather_sources_own") => Self::Taken("own source is at the site"),
            Some("trial_ways_name") => Self::Taken("option has that name"),
            _ => Self::Query(error),
        }
    }
}

/// Result of a store call.
pub type Result<T> = core::result::Result<T, StoreError>;

/// Result of saving a version.
#[derive(Debug, Clone, PartialEq)]
pub enum Saved<T> {
    /// Saved as this version.
    As(i32),
    /// Nothing differs from this version; nothing was stored.
    Unchanged(i32),
    /// Somebody saved another version in between; it is given, and nothing was stored.
    Conflict(Box<T>),
}

/// A pool of connections to one database.
#[derive(Clone)]
pub struct Store {
    pool: Pool<pool::Manager>,
    url: String,
    /// The number of the program in the order in which programs came to this database; 0 for one that has no name.
    build: i64,
}

use pool::Connection;
use upland_core::quantity::time::Hours;

/// Refuses a database that a newer program prepared: this one does not know what stands in it.
fn refuse_newer(connection: &mut PgConnection) -> Result<()> {
    let failed = |error: Box<dyn std::error::Error + Send + Sync>| StoreError::Migration(error.to_string());
    let known = MigrationSource::<diesel::pg::Pg>::migrations(&MIGRATIONS).map_err(failed)?;
    let known: Vec<String> = known.iter().map(|own| own.name().version().to_string()).collect();
    let applied = connection.applied_migrations().map_err(failed)?;
    let newer = applied.iter().map(ToString::to_string).find(|version| !known.contains(version));
    newer.map_or(Ok(()), |version| {
        Err(StoreError::Migration(format!(
            "the database was prepared by a newer version of this program (it has migration {version}, which this version does \
             not know). Start that version, or restore a backup made before it"
        )))
    })
}

impl Store {
    /// Connections that are open, and those of them that nobody uses.
    #[must_use]
    pub fn connections(&self) -> (u32, u32) {
        let state = self.pool.state();
        (state.connections, state.idle_connections)
    }

    /// Opens a pool.
    ///
    /// # Errors
    /// [`StoreError::Unreachable`] when no connection could be made within two seconds.
    pub fn connect(url: &str, connections: u32) -> Result<Self> {
        let pool = pool::pool(url, connections);
        let pool = pool.map_err(|error| StoreError::Unreachable(error.to_string()))?;
        Ok(Self { pool, url: url.to_owned(), build: 0 })
    }

    fn connection(&self) -> Result<Connection> {
        self.pool.get().map_err(|error| StoreError::Unreachable(error.to_string()))
    }

    /// Brings the schema up to date; returns the migrations that ran.
    ///
    /// # Errors
    /// [`StoreError::Migration`] with the database's message; a failed migration leaves nothing.
    pub fn migrate(&self) -> Result<Vec<String>> {
        // Two servers that start at once would both find the migrations missing.
        self.alone(|store| {
            let mut connection = store.connection()?;
            refuse_newer(&mut connection)?;
            unbound(&mut connection, true)?;
            let ran = connection
                .run_pending_migrations(MIGRATIONS)
                .map_err(|error| StoreError::Migration(error.to_string()))?;
            let ran = ran.iter().map(ToString::to_string).collect();
            unbound(&mut connection, false)?;
            queue::migrate(&store.url)?;
            Ok(ran)
        })
    }

    /// Does something that only one process at a time may do to this database, such as preparing it; others
    /// wait until it is done.
    ///
    /// # Errors
    /// As `work`, and when no connection can be had.
    pub fn alone<T, E: From<StoreError>>(
        &self,
        work: impl FnOnce(&Self) -> core::result::Result<T, E>,
    ) -> core::result::Result<T, E> {
        use diesel::{Connection as _, RunQueryDsl};
        // A connection of its own: the work may need all of the pool.
        let holder = PgConnection::establish(&self.url);
        let mut holder = holder.map_err(|error| StoreError::Unreachable(error.to_string()))?;
        let run = |connection: &mut PgConnection, call: &str| {
            diesel::sql_query(format!("SELECT {call}({PREPARING})"))
                .execute(connection)
                .map_err(StoreError::from)
        };
        run(&mut holder, "pg_advisory_lock")?;
        let done = work(self);
        run(&mut holder, "pg_advisory_unlock")?;
        done
    }

    /// Reverts every migration. For tests only: it removes all data.
    ///
    /// # Errors
    /// [`StoreError::Migration`] with the database's message.
    #[cfg(feature = "testing")]
    pub fn revert_all(&self) -> Result<()> {
        use diesel::connection::SimpleConnection;
        let mut connection = self.connection()?;
        connection.batch_execute(&format!("DROP SCHEMA IF EXISTS {} CASCADE", queue::SCHEMA))?;
        connection
            .revert_all_migrations(MIGRATIONS)
            .map(|_| ())
            .map_err(|error| StoreError::Migration(error.to_string()))
    }

    /// Asks the database for an answer.
    ///
    /// # Errors
    /// As any query.
    pub fn ping(&self) -> Result<()> {
        use diesel::RunQueryDsl;
        diesel::sql_query("SELECT 1").execute(&mut self.connection()?)?;
        Ok(())
    }
}

/// What a JSON column holds, through the reader of its format.
fn document<T>(
    what: &'static str,
    read: core::result::Result<T, Vec<upland_formats::PathProblem>>,
) -> Result<T> {
    read.map_err(|problems| StoreError::Unknown {
        what,
        value: problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "),
    })
}

/// A file's text as the value of a JSON column.
fn json(text: &str) -> Result<serde_json::Value> {
    serde_json::from_str(text)
        .map_err(|error| StoreError::Unknown { what: "document", value: error.to_string() })
}

fn known<T: upland_core::codes::Coded>(what: &'static str, code: &str) -> Result<T> {
    T::from_code(code).ok_or_else(|| StoreError::Unknown { what, value: code.to_owned() })
}

fn small<T: TryFrom<i32>>(what: &'static str, value: i32) -> Result<T> {
    T::try_from(value).map_err(|_| StoreError::Unknown { what, value: value.to_string() })
}

/// Lifts the bounds on statements of a connection, or puts them back.
fn unbound(connection: &mut PgConnection, lifted: bool) -> Result<()> {
    use diesel::connection::SimpleConnection;
    let words = if lifted {
        "SET statement_timeout = 0; SET lock_timeout = 0"
    } else {
        "RESET statement_timeout; RESET lock_timeout"
    };
    Ok(connection.batch_execute(words)?)
}

/// A day in words that are kept, for every reader: the month by its name.
fn said(date: jiff::civil::Date) -> String {
    date.strftime("%-d %b %Y").to_string()
}

/// Hours whose two ends are both there or both not.
fn hours(from: Option<jiff_diesel::Time>, until: Option<jiff_diesel::Time>) -> Option<Hours> {
    Some(Hours { from: from?.to_jiff(), until: until?.to_jiff() })
}

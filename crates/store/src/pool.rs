//! The pool of connections.

use diesel::prelude::*;
use diesel::r2d2::{Error, ManageConnection, Pool, PooledConnection, R2D2Connection};
use diesel::sql_types::Integer;

/// Makes connections to one database. One that was used before is asked whether it lives, in one round trip:
/// the question stays prepared.
pub(crate) struct Manager {
    url: String,
}

impl ManageConnection for Manager {
    type Connection = PgConnection;
    type Error = Error;

    fn connect(&self) -> Result<PgConnection, Error> {
        <PgConnection as diesel::Connection>::establish(&self.url).map_err(Error::ConnectionError)
    }

    fn is_valid(&self, connection: &mut PgConnection) -> Result<(), Error> {
        let asked = diesel::select(1_i32.into_sql::<Integer>()).execute(connection);
        asked.map(|_| ()).map_err(Error::QueryError)
    }

    fn has_broken(&self, connection: &mut PgConnection) -> bool {
        std::thread::panicking() || connection.is_broken()
    }
}

/// A connection that goes back when it is dropped.
pub(crate) type Connection = PooledConnection<Manager>;

/// A pool of so many connections.
pub(crate) fn pool(url: &str, connections: u32) -> Result<Pool<Manager>, diesel::r2d2::PoolError> {
    Pool::builder()
        .max_size(connections)
        .connection_timeout(std::time::Duration::from_secs(10))
        .build(Manager { url: url.to_owned() })
}

//! The pool of connections.

use diesel::prelude::*;
use diesel::r2d2::{Error, ManageConnection, Pool, PooledConnection, R2D2Connection};
use diesel::sql_types::Integer;

/// Longest wait for a connection, seconds: somebody waits for a page.
const CONNECTION_S: u64 = 2;

/// What every connection asks for: no statement, lock or forgotten transaction holds anything up for ever, and a
/// peer that is gone is noticed.
const BOUNDS: [(&str, &str); 4] = [
    ("connect_timeout", "2"),
    ("tcp_user_timeout", "5000"),
    ("keepalives_idle", "10"),
    (
        "options",
        "-c statement_timeout=30000 -c lock_timeout=2500 -c idle_in_transaction_session_timeout=60000 -c jit=off",
    ),
];

/// An address of a database with the bounds of a connection; what it says itself stands.
pub(crate) fn bounded(url: &str) -> String {
    let mut out = url.to_owned();
    let is_address = url.contains("://");
    for (name, value) in BOUNDS {
        if url.contains(&format!("{name}=")) {
            continue;
        }
        if is_address {
            out.push(if out.contains('?') { '&' } else { '?' });
            out.push_str(&format!("{name}={}", value.replace(' ', "%20").replace('=', "%3D")));
        } else {
            out.push_str(&format!(" {name}='{value}'"));
        }
    }
    out
}

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
        .connection_timeout(std::time::Duration::from_secs(CONNECTION_S))
        .build(Manager { url: bounded(url) })
}

#[cfg(test)]
mod tests {
    use super::bounded;

    #[test]
    fn an_address_gets_its_bounds_and_keeps_what_it_says() {
        let plain = bounded("postgres://u:p@127.0.0.1:5432/upland");
        assert!(
            plain.starts_with("postgres://u:p@127.0.0.1:5432/upland?connect_timeout=2&tcp_user_timeout=5000")
        );
        assert!(plain.contains("lock_timeout%3D2500%20-c"), "{plain}");
        let own = bounded("postgres:///upland?host=/run/pg&connect_timeout=9");
        assert!(own.contains("connect_timeout=9&tcp_user_timeout") && !own.contains("connect_timeout=2"));
        assert!(bounded("host=/run dbname=upland").contains(" options='-c statement_timeout=30000"));
    }
}

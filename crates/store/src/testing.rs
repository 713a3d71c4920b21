//! Databases for tests: each test makes its own and drops it, so tests never clean up by hand.

use crate::Store;
use diesel::prelude::*;
use std::sync::atomic::{AtomicU32, Ordering};

/// A migrated database of its own, dropped with this value.
pub struct TestDatabase {
    admin_url: String,
    name: String,
    /// Address of the database.
    pub url: String,
}

static NEXT: AtomicU32 = AtomicU32::new(0);

impl TestDatabase {
    /// Creates a database on the server that `UPLAND_TEST_DATABASE_URL` names.
    ///
    /// # Panics
    /// When the variable is missing or the server refuses: a test cannot go on then.
    #[must_use]
    #[allow(clippy::panic, reason = "a test cannot go on without its database")]
    pub fn create() -> Self {
        let Ok(admin_url) = std::env::var("UPLAND_TEST_DATABASE_URL") else {
            panic!("UPLAND_TEST_DATABASE_URL is not set; run bin/test, which starts a server and sets it")
        };
        let name = format!("upland_test_{}_{}", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed));
        let mut admin = match PgConnection::establish(&admin_url) {
            Ok(connection) => connection,
            Err(error) => panic!("{admin_url}: {error}"),
        };
        if let Err(error) = diesel::sql_query(format!("CREATE DATABASE {name}")).execute(&mut admin) {
            panic!("{error}");
        }
        let url = match admin_url.rsplit_once('/') {
            Some((server, _)) => format!("{server}/{name}"),
            None => panic!("{admin_url} has no database name"),
        };
        Self { admin_url, name, url }
    }

    /// A migrated store on it.
    ///
    /// # Panics
    /// When it cannot be reached or migrated.
    #[must_use]
    #[allow(clippy::panic, reason = "a test cannot go on without its database")]
    pub fn store(&self) -> Store {
        let store = Store::connect(&self.url, 4).and_then(|store| store.migrate().map(|_| store));
        match store {
            Ok(store) => store,
            Err(error) => panic!("{error}"),
        }
    }
}

impl Drop for TestDatabase {
    fn drop(&mut self) {
        if let Ok(mut admin) = PgConnection::establish(&self.admin_url) {
            let _ = diesel::sql_query(format!("DROP DATABASE IF EXISTS {} WITH (FORCE)", self.name))
                .execute(&mut admin);
        }
    }
}

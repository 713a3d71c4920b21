//! Databases for tests: each test makes its own and drops it, so tests never clean up by hand.

use crate::Store;
use diesel::prelude::*;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};

/// A migrated database of its own, dropped with this value.
pub struct TestDatabase {
    admin_url: String,
    name: String,
    /// Address of the database.
    pub url: String,
}

static NEXT: AtomicU32 = AtomicU32::new(0);

/// The server that `UPLAND_TEST_DATABASE_URL` names.
#[allow(clippy::panic, reason = "a test cannot go on without its database")]
fn admin_url() -> String {
    match std::env::var("UPLAND_TEST_DATABASE_URL") {
        Ok(url) => url,
        Err(_) => {
            panic!("UPLAND_TEST_DATABASE_URL is not set; run bin/test, which starts a server and sets it")
        }
    }
}

#[allow(clippy::panic, reason = "a test cannot go on without its database")]
fn good<T, E: core::fmt::Display>(result: core::result::Result<T, E>) -> T {
    match result {
        Ok(value) => value,
        Err(error) => panic!("{error}"),
    }
}

fn url_of(admin_url: &str, name: &str) -> String {
    admin_url.rsplit_once('/').map_or_else(String::new, |(server, _)| format!("{server}/{name}"))
}

/// The name of a migrated database of which tests take copies: the migrations of this process run once.
fn template(admin: &mut PgConnection, admin_url: &str) -> String {
    static TEMPLATE: OnceLock<String> = OnceLock::new();
    TEMPLATE
        .get_or_init(|| {
            let name = format!("upland_template_{}", std::process::id());
            good(diesel::sql_query(format!("CREATE DATABASE {name}")).execute(admin));
            let store = good(Store::connect(&url_of(admin_url, &name), 1));
            good(store.migrate());
            name
        })
        .clone()
}

impl TestDatabase {
    /// Creates a migrated database.
    ///
    /// # Panics
    /// When the server cannot be reached or refuses: a test cannot go on then.
    #[must_use]
    pub fn create() -> Self {
        Self::with(true)
    }

    /// Creates an empty one, for tests of migrations.
    ///
    /// # Panics
    /// As [`TestDatabase::create`].
    #[must_use]
    pub fn empty() -> Self {
        Self::with(false)
    }

    fn with(migrated: bool) -> Self {
        // A template can be copied by one at a time, and while nobody is connected to it.
        static COPYING: Mutex<()> = Mutex::new(());
        let admin_url = admin_url();
        let mut admin = good(PgConnection::establish(&admin_url));
        let name = format!("upland_test_{}_{}", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed));
        let copying = COPYING.lock().unwrap_or_else(PoisonError::into_inner);
        let from = if migrated {
            format!(" TEMPLATE {} STRATEGY FILE_COPY", template(&mut admin, &admin_url))
        } else {
            String::new()
        };
        good(diesel::sql_query(format!("CREATE DATABASE {name}{from}")).execute(&mut admin));
        drop(copying);
        let url = url_of(&admin_url, &name);
        Self { admin_url, name, url }
    }

    /// Runs a statement: what a test needs and no page does. Returns how many rows it was about.
    ///
    /// # Panics
    /// When the database refuses.
    #[must_use]
    pub fn execute(&self, sql: &str) -> usize {
        let mut connection = good(PgConnection::establish(&self.url));
        good(diesel::sql_query(sql).execute(&mut connection))
    }

    /// A store on it, brought to the current schema.
    ///
    /// # Panics
    /// When it cannot be reached or migrated.
    #[must_use]
    pub fn store(&self) -> Store {
        let store = good(Store::connect(&self.url, 4));
        good(store.migrate());
        store
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

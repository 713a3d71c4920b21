//! A server of its own for a test, on a database of its own.

use super::round_robin::RoundRobin;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use upland_store::testing::TestDatabase;

/// What a scraper brings to the servers of the tests.
pub const METRICS_TOKEN: &str = "scraper of the tests";

pub const BINARY: &str = env!("CARGO_BIN_EXE_upland-almanac");

/// A site by its number, as the program itself sees it.
pub fn key(number: i64) -> upland_store::scope::SiteKey {
    upland_store::scope::Scope::program().site(number).unwrap()
}

/// A running server; stopped and its database dropped with this value.
pub struct Server {
    child: Child,
    pub url: String,
    /// What stands between it and its database, where something does.
    gate: Option<RoundRobin>,
    database: Arc<TestDatabase>,
    /// Another server and two workers, where there are several behind one address.
    others: Option<Others>,
    /// There were such before it was stopped.
    was_several: bool,
}

/// What works beside a server whose address leads to each of them in turn.
struct Others {
    before: RoundRobin,
    second: Box<Server>,
    workers: [Worker; 2],
}

/// The key file of all servers of the tests: several on one database share one.
pub fn key_file() -> &'static str {
    concat!(env!("CARGO_TARGET_TMPDIR"), "/keys")
}

impl Server {
    pub fn start(demo: bool) -> Self {
        Self::on(Arc::new(TestDatabase::create()), demo)
    }

    /// Two servers that leave background work to two workers, behind one address that leads to each of them in turn.
    pub fn several(demo: bool) -> Self {
        Self::several_at(Arc::new(TestDatabase::create()), demo, 0)
    }

    fn several_at(database: Arc<TestDatabase>, demo: bool, port: u16) -> Self {
        let alone = ["--at-once", "0"];
        let mut first = Self::begun(Arc::clone(&database), demo, "0", &alone);
        let second = Self::begun(database, false, "0", &alone);
        let at = |server: &Self| server.url.trim_start_matches("http://").to_owned();
        let before = RoundRobin::before(vec![at(&first), at(&second)], port);
        first.url = format!("http://127.0.0.1:{}", before.port);
        let workers = [first.worker(), first.worker()];
        first.others = Some(Others { before, second: Box::new(second), workers });
        first
    }

    /// Another server on the same database.
    pub fn beside(&self) -> Self {
        Self::on(Arc::clone(&self.database), false)
    }

    /// Stops it, as a network that is cut would: its address answers nothing.
    pub fn stop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        if let Some(Others { before, second, workers }) = self.others.take() {
            drop((before, second, workers));
            self.was_several = true;
        }
    }

    /// Starts it again at its address, on its database.
    pub fn start_again(&mut self) {
        let port = self.url.rsplit(':').next().unwrap().to_owned();
        let database = Arc::clone(&self.database);
        *self = match self.was_several {
            true => Self::several_at(database, false, port.parse().unwrap()),
            false => Self::at(database, false, &port),
        };
    }

    /// A server that leaves background work to workers.
    pub fn without_worker(demo: bool) -> Self {
        Self::begun(Arc::new(TestDatabase::create()), demo, "0", &["--at-once", "0"])
    }

    /// A server that is told more.
    pub fn with(demo: bool, more: &[&str]) -> Self {
        Self::begun(Arc::new(TestDatabase::create()), demo, "0", more)
    }

    /// A server whose database can hang, with its demo; see [`Self::freeze`].
    pub fn with_a_gate() -> Self {
        let database = Arc::new(TestDatabase::create());
        let (scheme, rest) = database.url.split_once("://").unwrap();
        let (before, name) = rest.rsplit_once('/').unwrap();
        let (who, at) = before.split_once('@').map_or(("", before), |(who, at)| (who, at));
        let gate = RoundRobin::before(vec![at.to_owned()], 0);
        let who = if who.is_empty() { String::new() } else { format!("{who}@") };
        let url = format!("{scheme}://{who}127.0.0.1:{}/{name}", gate.port);
        let mut server = Self::begun_at(database, &url, true, "0", &["--at-once", "0"]);
        server.gate = Some(gate);
        server
    }

    /// Lets its database hang, or answer again.
    pub fn freeze(&self, frozen: bool) {
        self.gate.as_ref().expect("it has a gate").freeze(frozen);
    }

    /// A worker on its database that presumes others dead after three seconds.
    pub fn worker(&self) -> Worker {
        let mut command = Command::new(BINARY);
        command.args(["worker", "--presumed-dead-after", "3", "--database-url", &self.database.url]);
        command.env("UPLAND_FETCH_PRIVATE", "true");
        let mut child =
            command.env("RUST_LOG", "error").stdout(Stdio::piped()).spawn().expect("the worker starts");
        let hello = BufReader::new(child.stdout.take().unwrap()).lines().next();
        assert_eq!(hello.unwrap().unwrap(), "Upland Almanac works.");
        Worker(child)
    }

    fn on(database: Arc<TestDatabase>, demo: bool) -> Self {
        Self::at(database, demo, "0")
    }

    fn at(database: Arc<TestDatabase>, demo: bool, port: &str) -> Self {
        Self::begun(database, demo, port, &[])
    }

    fn begun(database: Arc<TestDatabase>, demo: bool, port: &str, more: &[&str]) -> Self {
        let url = database.url.clone();
        Self::begun_at(database, &url, demo, port, more)
    }

    fn begun_at(database: Arc<TestDatabase>, at: &str, demo: bool, port: &str, more: &[&str]) -> Self {
        let mut command = Command::new(BINARY);
        command.args(["serve", "--port", port, "--workers", "2", "--database-url", at]).args(more);
        if demo {
            command.arg("--demo");
        }
        command.env("UPLAND_METRICS_TOKEN", METRICS_TOKEN).env("UPLAND_KEY_FILE", key_file());
        // Its forecast would come in the middle of a test.
        command.env("UPLAND_DEMO_SERVICE", "false");
        let mut child =
            command.env("RUST_LOG", "error").stdout(Stdio::piped()).spawn().expect("the server starts");
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let hello = lines.next().expect("the server says where").unwrap();
        let url = hello.split_once("http://").expect("an address").1.trim().to_owned();
        let url = format!("http://{url}");
        Self { child, url, database, others: None, gate: None, was_several: false }
    }
}

impl Server {
    /// A store on its database.
    pub fn store(&self) -> upland_store::Store {
        self.database.store()
    }

    /// Runs a statement on its database.
    pub fn sql(&self, sql: &str) -> usize {
        self.database.execute(sql)
    }

    /// Ends every session, as time would; returns how many there were.
    pub fn end_sessions(&self) -> usize {
        self.database.store().end_all_sessions().unwrap()
    }
}

/// A worker of its own; killed with this value.
pub struct Worker(Child);

impl Worker {
    /// Kills it at once, as a power cut would.
    pub fn kill(mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }

    /// Asks it to stop, and waits until it has; whether it ended well.
    pub fn stop(mut self) -> bool {
        let asked = Command::new("kill").args(["-TERM", &self.0.id().to_string()]).status();
        asked.unwrap().success() && self.0.wait().unwrap().success()
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

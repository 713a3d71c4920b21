//! Work that no page waits for: a task of the queue each, and the worker that takes them. Any number of workers run, in
//! servers or by themselves; a task may be begun twice, so each leaves the same behind however often it runs.

mod tasks;

use crate::server::state::AppState;
use graphile_worker::{LocalQueueConfig, RefetchDelayConfig, Worker, WorkerOptions, parse_crontab};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::watch;
use upland_store::queue;

/// How a worker works.
#[derive(Debug, Clone, Copy)]
pub struct Pace {
    /// Things done at once.
    pub at_once: usize,
    /// How long another may be silent before its jobs are taken up.
    pub silent: Duration,
}

impl Pace {
    /// So many things at once; who is silent for half a minute is presumed dead.
    #[must_use]
    pub const fn of(at_once: usize) -> Self {
        Self { at_once, silent: Duration::from_secs(30) }
    }
}

/// Of the time after which it is presumed dead, a worker says so many times that it lives.
const BEATS: u32 = 6;
/// How long work that goes on may take to end when the program stops.
const GRACE: Duration = Duration::from_secs(20);
/// After a failure of the database the worker begins anew after so long.
const AGAIN: Duration = Duration::from_secs(3);
/// How often an idle worker looks at the queue, at least.
const LOOKED: Duration = Duration::from_secs(2);
/// When what recurs is looked for: minute, hour, day, month, weekday, in universal time.
const RECURS: &str = "* * * * * look ?fill=1h {of:0}\n17 3 * * * sweep ?fill=1d {of:0}\n";

/// A worker that runs on a thread of its own.
pub struct Running {
    stop: watch::Sender<bool>,
    thread: std::thread::JoinHandle<()>,
}

impl Running {
    /// Lets it end what it has begun, and waits for that.
    pub fn stop(self) {
        let _ = self.stop.send(true);
        if self.thread.join().is_err() {
            tracing::error!("the worker broke off");
        }
    }
}

/// Starts a worker.
///
/// # Errors
/// When no thread can be had.
pub fn start(state: Arc<AppState>, pace: Pace) -> std::io::Result<Running> {
    let (stop, stopped) = watch::channel(false);
    let thread = std::thread::Builder::new()
        .name("worker".into())
        .spawn(move || until_stopped(&state, pace, stopped))?;
    Ok(Running { stop, thread })
}

/// Works until it is told to stop; a database that is gone is waited for.
fn until_stopped(state: &Arc<AppState>, pace: Pace, stopped: watch::Receiver<bool>) {
    let runtime = match tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => {
            tracing::error!(%error, "no runtime for the worker");
            return;
        }
    };
    runtime.block_on(async {
        let mut told = stopped.clone();
        while !*told.borrow() {
            let ended = match worker(state, pace, stopped.clone()).await {
                Ok(worker) => worker.run().await.map_err(|error| error.to_string()),
                Err(error) => Err(error),
            };
            match ended {
                Ok(()) => break,
                Err(error) => tracing::warn!(%error, "the worker begins anew"),
            }
            let _ = tokio::time::timeout(AGAIN, told.wait_for(|stop| *stop)).await;
        }
    });
}

/// Where nothing waits, the queue is looked at again when it says that something came, or after a while. Without this
/// the worker's own store asks over and over, two thousand times a second.
fn patience() -> RefetchDelayConfig {
    RefetchDelayConfig::default().with_duration(LOOKED).with_threshold(0).with_max_abort_threshold(1)
}

async fn worker(
    state: &Arc<AppState>,
    pace: Pace,
    mut stopped: watch::Receiver<bool>,
) -> Result<Worker, String> {
    let database = queue::database(state.store.url(), pace.at_once + 3)?;
    let options = WorkerOptions::default()
        .database(database)
        .schema(queue::SCHEMA)
        .concurrency(pace.at_once)
        // Without it one job is taken a look, and a thousand that are due at once would take half an hour. No more are
        // held than are done at once: what waits here for a long one could be done by another.
        .local_queue(LocalQueueConfig::default().with_size(pace.at_once).with_refetch_delay(patience()))
        .poll_interval(LOOKED)
        .heartbeat_interval(pace.silent / BEATS)
        .sweep_interval(pace.silent / BEATS)
        .sweep_threshold(pace.silent)
        .recovery_delay(Duration::ZERO)
        .listen_os_shutdown_signals(false)
        .shutdown_grace_period(GRACE)
        .shutdown_signal(async move {
            let _ = stopped.wait_for(|stop| *stop).await;
        })
        .add_extension(tasks::Shared(Arc::clone(state)))
        .with_crons(parse_crontab(RECURS).map_err(|error| format!("{error:?}"))?);
    tasks::defined(options).init().await.map_err(|error| error.to_string())
}

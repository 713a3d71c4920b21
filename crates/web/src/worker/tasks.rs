//! What each task does. What it says is noted for the owner; one that found nothing to do says nothing.

use crate::chapters::{round, trial, weather};
use crate::server::state::AppState;
use graphile_worker::{IntoTaskHandlerResult, TaskHandler, WorkerContext, WorkerOptions};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Instant;
use upland_store::queue::{Outcome, Task};
use upland_store::scope::Scope;
use upland_store::weather::Gathered;

/// Months of raw readings that are kept: more than a device may post of the past.
const RAW_MONTHS: i32 = 15;

/// What the tasks share.
#[derive(Clone)]
pub(super) struct Shared(pub Arc<AppState>);

impl std::fmt::Debug for Shared {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.write_str("the state of the application")
    }
}

macro_rules! tasks {
    ($($name:ident = $task:expr),+) => {
        $(
            #[derive(Serialize, Deserialize)]
            struct $name {
                of: i64,
            }

            impl TaskHandler for $name {
                const IDENTIFIER: &'static str = $task.code();

                async fn run(self, context: WorkerContext) -> impl IntoTaskHandlerResult {
                    taken($task, self.of, context).await
                }
            }
        )+

        /// A worker's options with every task.
        pub(super) fn defined(options: WorkerOptions) -> WorkerOptions {
            options$(.define_job::<$name>())+
        }
    };
}

tasks!(
    Readings = Task::Readings,
    Import = Task::Import,
    Fetch = Task::Fetch,
    Round = Task::Round,
    Mail = Task::Mail,
    Search = Task::Search,
    Look = Task::Look,
    Sweep = Task::Sweep
);

/// Does a task off the event loop and notes what became of it.
async fn taken(task: Task, of: i64, context: WorkerContext) -> Result<(), String> {
    let Some(shared) = context.get_ext::<Shared>().cloned() else {
        return Err("the worker has no state".to_owned());
    };
    let attempt = i32::from(*context.job().attempts());
    let span = tracing::info_span!("work", task = task.code(), of, attempt);
    let done = tokio::task::spawn_blocking(move || {
        let _entered = span.enter();
        let began = Instant::now();
        let done = work(&shared.0, task, of);
        let said = match &done {
            Ok(None) => return Ok(()),
            Ok(Some(said)) => Ok(said.as_str()),
            Err(fault) => Err(fault.as_str()),
        };
        crate::server::metrics::job_done(task.code(), began.elapsed(), said.is_ok());
        let outcome = Outcome { task, of, took: began.elapsed(), attempt, said };
        match said {
            Ok(said) => tracing::info!(said, took_ms = outcome.took.as_millis(), "work done"),
            Err(fault) => tracing::warn!(fault, "work failed"),
        }
        if let Err(error) = shared.0.store.note_work(outcome) {
            tracing::warn!(%error, "what became of work was not noted");
        }
        done.map(|_| ())
    });
    done.await.map_err(|broken| format!("it broke off: {broken}"))?
}

// It is the program that works here, and nobody asks.
#[allow(clippy::disallowed_methods)]
/// Does a task; what it did, in words, or `None` when there was nothing to do.
pub(super) fn work(state: &AppState, task: Task, of: i64) -> Result<Option<String>, String> {
    let store = &state.store;
    let said = match task {
        Task::Readings => Scope::program()
            .site(of)
            .map_or(Ok(Gathered::default()), |site| store.gather_weather(site))
            .map(|gathered| {
                (gathered.changed > 0).then(|| {
                    format!("{} of {} days are other than they were", gathered.changed, gathered.days)
                })
            }),
        Task::Import => weather::import_accepted(state, of),
        Task::Fetch => weather::fetch(state, of),
        Task::Round => return round_of(state, of),
        Task::Mail => return round::mail(state, of).map_err(|error| error.to_string()),
        Task::Search => return search_of(state, of),
        Task::Look => store
            .ask_for_due_readings()
            .and_then(|_| store.ask_for_due_fetches())
            .and_then(|_| store.ask_for_due_rounds())
            .and_then(|_| store.ask_for_due_mails())
            .map(|_| None),
        Task::Sweep => store.sweep(RAW_MONTHS).map(Some),
    };
    said.map_err(|error| error.to_string())
}

// It is the program that works here, and nobody asks.
#[allow(clippy::disallowed_methods)]
/// Works out what a site asks for, and keeps it. It happens every hour for every site, and says nothing of itself.
fn round_of(state: &AppState, site: i64) -> Result<Option<String>, String> {
    let Some(site) = Scope::program().site(site) else { return Ok(None) };
    round::work_on(state, site).map_err(|error| error.to_string())?;
    Ok(None)
}

// It is the program that works here, and nobody asks.
#[allow(clippy::disallowed_methods)]
/// Searches a better way for a site.
fn search_of(state: &AppState, site: i64) -> Result<Option<String>, String> {
    let Some(site) = Scope::program().site(site) else { return Ok(None) };
    trial::search_for(state, site).map_err(|error| error.to_string())
}

//! Work in the background: whether it goes on, what was given up, and what was done lately.

use crate::page::dates::DateFormat;
use crate::page::frame::Frame;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, Owner, flash};
use crate::server::state::{AppState, read, with_store};
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::SignedDuration;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use upland_store::StoreError;
use upland_store::queue::{Ended, Task, Waiting};

/// Where the page is.
const PAGE: &str = "/jobs";

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(jobs_page).service(again).service(take_away);
}

/// A job that waits, runs or was given up.
struct WaitingLine {
    id: i64,
    what: String,
    state: String,
    fault: String,
    given_up: bool,
    /// Nothing can be done with it while a worker has it.
    taken: bool,
}

/// A job that has ended.
struct EndedLine {
    at: String,
    what: String,
    took: String,
    said: String,
    fault: String,
}

#[derive(Template)]
#[template(path = "chapters/office/jobs.html")]
struct JobsPage {
    frame: Frame,
    headline: String,
    lead: String,
    waiting: Vec<WaitingLine>,
    ended: Vec<EndedLine>,
}

/// What a job is, with the name of what it is about.
fn what(task: Option<Task>, of: i64, sites: &BTreeMap<i64, String>) -> String {
    let Some(task) = task else { return "Work of a newer program".to_owned() };
    match (task, sites.get(&of)) {
        (Task::Readings | Task::Round | Task::Search, Some(site)) => format!("{}: {site}", task.words()),
        (Task::Readings | Task::Round | Task::Search, None) => format!("{}: site {of}", task.words()),
        (Task::Fetch, _) => format!("{}, source {of}", task.words()),
        (Task::Mail, _) => format!("{}, person {of}", task.words()),
        (Task::Import, _) => format!("{}, draft {of}", task.words()),
        (Task::Look | Task::Sweep, _) => task.words().to_owned(),
    }
}

/// A length of time as one says it.
fn length(of: SignedDuration) -> String {
    match of.as_millis() {
        ms @ 0..1_000 => format!("{ms} ms"),
        ms @ 1_000..60_000 => format!("{}.{} s", ms / 1000, ms % 1000 / 100),
        ms => format!("{} min", ms / 60_000),
    }
}

fn waiting_line(job: &Waiting, now: Timestamp, sites: &BTreeMap<i64, String>) -> WaitingLine {
    let times = |n: i32| if n == 1 { "once".to_owned() } else { format!("{n} times") };
    let state = match job.taken_at {
        Some(since) => format!("runs since {}", length(now.duration_since(since).max(SignedDuration::ZERO))),
        None if job.given_up => format!("given up: tried {}", times(job.attempts)),
        None if job.due_at <= now => "is due".to_owned(),
        None => format!("due in {}", length(job.due_at.duration_since(now))),
    };
    WaitingLine {
        id: job.id,
        what: what(job.task, job.of, sites),
        state: match job.attempts {
            tried @ 1.. if !job.given_up && job.taken_at.is_none() => {
                format!("{state}, tried {}", times(tried))
            }
            _ => state,
        },
        fault: job.fault.clone(),
        given_up: job.given_up,
        taken: job.taken_at.is_some(),
    }
}

fn ended_line(job: &Ended, sites: &BTreeMap<i64, String>) -> EndedLine {
    EndedLine {
        at: job.ended_at.to_zoned(TimeZone::UTC).formatted("%-d %b, %H:%M UTC"),
        what: what(job.task, job.of, sites),
        took: length(job.took),
        said: job.said.clone(),
        fault: job.fault.clone(),
    }
}

/// What the owner needs to know first.
fn headline(waiting: &[Waiting], workers: i64, now: Timestamp) -> (String, String) {
    let given_up = waiting.iter().filter(|j| j.given_up).count();
    let late = waiting
        .iter()
        .filter(|j| !j.given_up && j.taken_at.is_none())
        .map(|j| now.duration_since(j.due_at))
        .max()
        .unwrap_or(SignedDuration::ZERO);
    let alive = match workers {
        0 => "No worker lives".to_owned(),
        1 => "One worker lives".to_owned(),
        n => format!("{n} workers live"),
    };
    match (given_up, workers) {
        (_, 0) => (
            "Nothing is worked on".to_owned(),
            format!(
                "{alive}: start the server, or a worker of its own with `upland-almanac worker`. What waits is not lost."
            ),
        ),
        (0, _) if late > SignedDuration::from_mins(2) => {
            ("Work is late".to_owned(), format!("{alive}, and the oldest job waits for {}.", length(late)))
        }
        (0, _) => ("All work is in time".to_owned(), format!("{alive}; nothing was given up.")),
        (1, _) => (
            "One job was given up".to_owned(),
            format!("{alive}. Look at what went wrong, correct it, and try again."),
        ),
        (n, _) => (
            format!("{n} jobs were given up"),
            format!("{alive}. Look at what went wrong, correct it, and try them again."),
        ),
    }
}

#[get("/jobs")]
async fn jobs_page(state: web::Data<AppState>, Owner(who): Owner) -> Result<HttpResponse, PageError> {
    let scope = who.scope.clone();
    let (waiting, ended, workers, now, sites) = read(&state, move |snapshot| {
        let sites = snapshot.site_names(&scope)?;
        let (workers, now) = snapshot.workers()?;
        Ok((snapshot.waiting_work()?, snapshot.ended_work()?, workers, now, sites))
    })
    .await?;
    let sites: BTreeMap<i64, String> = sites.into_iter().map(|(id, name)| (id.number(), name)).collect();
    let (headline, lead) = headline(&waiting, workers, now);
    page(&JobsPage {
        frame: Frame::new(&who, "Work in the background")?,
        headline,
        lead,
        waiting: waiting.iter().map(|job| waiting_line(job, now, &sites)).collect(),
        ended: ended.iter().map(|job| ended_line(job, &sites)).collect(),
    })
}

/// Does something with a job, and says what became of it.
async fn done(
    state: &web::Data<AppState>,
    who: &crate::server::session::SignedIn,
    work: impl FnOnce(&upland_store::Store) -> Result<bool, StoreError> + Send + 'static,
    said: &'static str,
) -> Result<HttpResponse, PageError> {
    let text = match with_store(state, work).await? {
        true => said,
        false => "A worker has it by now, or it is done already.",
    };
    flash(&who.session, text, None)?;
    Ok(see_other(PAGE))
}

#[post("/jobs/{job}/again")]
async fn again(
    state: web::Data<AppState>,
    Owner(who): Owner,
    job: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    done(&state, &who, move |store| store.work_again(*job), "It is tried again at once.").await
}

#[post("/jobs/{job}/remove")]
async fn take_away(
    state: web::Data<AppState>,
    Owner(who): Owner,
    job: web::Path<i64>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    done(
        &state,
        &who,
        move |store| store.drop_work(*job),
        "It is taken away; what it would have done was not done.",
    )
    .await
}

#[cfg(test)]
mod tests {
    use super::*;

    fn job(attempts: i32, given_up: bool, due_in: i64) -> Waiting {
        Waiting {
            id: 1,
            task: Some(Task::Readings),
            of: 3,
            due_at: Timestamp::UNIX_EPOCH + SignedDuration::from_secs(due_in),
            taken_at: None,
            attempts,
            given_up,
            fault: "the database refused".into(),
        }
    }

    #[test]
    fn the_headline_says_what_needs_the_owner() {
        let now = Timestamp::UNIX_EPOCH;
        let says = |jobs: &[Waiting], workers| headline(jobs, workers, now).0;
        assert_eq!(says(&[], 1), "All work is in time");
        assert_eq!(says(&[job(0, false, -600)], 2), "Work is late");
        assert_eq!(says(&[job(12, true, -600)], 2), "One job was given up");
        assert_eq!(says(&[job(12, true, 0), job(12, true, 0)], 1), "2 jobs were given up");
        assert_eq!(says(&[job(12, true, 0)], 0), "Nothing is worked on");
    }

    #[test]
    fn a_job_says_where_it_stands() {
        let (now, sites) = (Timestamp::UNIX_EPOCH, BTreeMap::from([(3, "Tarnside".to_owned())]));
        let line = |job: &Waiting| waiting_line(job, now, &sites).state;
        assert_eq!(line(&job(0, false, 90)), "due in 1 min");
        assert_eq!(line(&job(2, false, 5)), "due in 5.0 s, tried 2 times");
        assert_eq!(line(&job(12, true, 5)), "given up: tried 12 times");
        let runs = Waiting { taken_at: Some(now - SignedDuration::from_secs(3)), ..job(1, false, 0) };
        assert_eq!(line(&runs), "runs since 3.0 s");
        assert_eq!(waiting_line(&runs, now, &sites).what, "Readings into the weather record: Tarnside");
    }
}

//! What a scraper may ask: how many requests were answered how fast, what waits in the queue, what the process takes. And
//! the line of the log for each request: who, what, how it ended.

use crate::server::error::PageError;
use crate::server::session::{Asking, hash};
use crate::server::state::{AppState, with_store};
use crate::server::trace::method_name;
use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::AUTHORIZATION;
use actix_web::middleware::Next;
use actix_web::{HttpMessage, HttpRequest, HttpResponse, get, web};
use metrics::{counter, gauge, histogram};
use metrics_exporter_prometheus::{Matcher, PrometheusBuilder, PrometheusHandle};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

/// Upper ends of the counted times, seconds: a warm page takes a few milliseconds, a page waits three seconds at most.
const TIMES_S: [f64; 10] = [0.001, 0.0025, 0.005, 0.01, 0.025, 0.06, 0.15, 0.5, 1.0, 3.0];

/// How often samples are put together.
const UPKEEP: Duration = Duration::from_secs(10);

/// What was counted in this process; `None` when another part of it counts already.
static COUNTED: OnceLock<Option<PrometheusHandle>> = OnceLock::new();

/// Begins to count, once a process.
pub(crate) fn begin() -> Option<&'static PrometheusHandle> {
    let counted = COUNTED.get_or_init(|| {
        let builder =
            PrometheusBuilder::new().set_buckets_for_metric(Matcher::Suffix("_seconds".into()), &TIMES_S);
        let handle = builder.and_then(PrometheusBuilder::install_recorder).ok()?;
        // Samples are kept one by one until they are put together, whether anybody asks for them or not.
        let kept = handle.clone();
        let putting_together = move || {
            loop {
                std::thread::sleep(UPKEEP);
                kept.run_upkeep();
            }
        };
        std::thread::Builder::new().name("metrics".into()).spawn(putting_together).ok()?;
        Some(handle)
    });
    counted.as_ref()
}

/// Counts a request and writes its line into the log.
pub(crate) async fn measured(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let (began, method) = (Instant::now(), method_name(request.method()));
    let answer = next.call(request).await;
    let took = began.elapsed();
    let (route, status, user) = match &answer {
        Ok(answer) => {
            let user = answer.request().extensions().get::<Asking>().map(|asking| asking.who.user.id);
            (answer.request().match_pattern(), answer.status().as_u16(), user)
        }
        Err(error) => (None, error.as_response_error().status_code().as_u16(), None),
    };
    // An address that no route knows would make a series of its own.
    let route = route.unwrap_or_else(|| "none".to_owned());
    let took_ms = took.as_secs_f64() * 1000.0;
    let is_quiet =
        route.starts_with("/assets/") || matches!(route.as_str(), "/healthz" | "/readyz" | "/metrics");
    if is_quiet {
        tracing::debug!(status, took_ms, "answered");
    } else {
        tracing::info!(status, took_ms, user, route, "answered");
    }
    counter!("upland_requests_total", "method" => method, "route" => route.clone(), "status" => status.to_string())
        .increment(1);
    histogram!("upland_request_seconds", "route" => route).record(took.as_secs_f64());
    answer
}

/// Counts a try of a job.
pub(crate) fn job_done(task: &'static str, took: Duration, went_well: bool) {
    let outcome = if went_well { "done" } else { "failed" };
    counter!("upland_jobs_total", "task" => task, "outcome" => outcome).increment(1);
    histogram!("upland_job_seconds", "task" => task).record(took.as_secs_f64());
}

/// Bytes of memory that the process holds.
fn resident_bytes() -> Option<f64> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find(|line| line.starts_with("VmRSS:"))?;
    let kilobytes: f64 = line.split_whitespace().nth(1)?.parse().ok()?;
    Some(kilobytes * 1024.0)
}

/// Everything that is counted, for who has the token of the setting. Without a setting there is nothing here.
#[get("/metrics")]
pub(crate) async fn metrics_page(
    state: web::Data<AppState>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let Some(token) = &state.configuration.metrics_token else { return Err(PageError::NotFound) };
    let sent =
        request.headers().get(AUTHORIZATION).and_then(|header| header.to_str().ok()).unwrap_or_default();
    // Hashes are compared: how long that takes says nothing of the token.
    if hash(sent) != hash(&format!("Bearer {token}")) {
        return Ok(HttpResponse::Unauthorized().insert_header(("www-authenticate", "Bearer")).finish());
    }
    let Some(counted) = begin() else { return Err(PageError::NotFound) };
    let queue = with_store(&state, upland_store::Store::queue_counts).await?;
    gauge!("upland_jobs_waiting").set(queue.waiting);
    gauge!("upland_jobs_given_up").set(queue.given_up);
    gauge!("upland_jobs_oldest_due_seconds").set(queue.oldest_due_s);
    gauge!("upland_workers").set(queue.workers);
    gauge!("upland_services_faulty").set(queue.services_faulty);
    let (open, idle) = state.store.connections();
    gauge!("upland_database_connections", "state" => "idle").set(f64::from(idle));
    gauge!("upland_database_connections", "state" => "busy").set(f64::from(open.saturating_sub(idle)));
    if let Some(bytes) = resident_bytes() {
        gauge!("upland_resident_bytes").set(bytes);
    }
    Ok(HttpResponse::Ok().content_type("text/plain; version=0.0.4; charset=utf-8").body(counted.render()))
}

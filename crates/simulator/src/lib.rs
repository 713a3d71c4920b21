//! Stand-ins for devices: simulated sensors that post readings over the interface that real ones use.
//!
//! A stand-in lives in simulated time: it begins some days back, runs at a chosen speed until it has
//! caught up with the clock, and keeps pace from there. What it reads comes from generated weather of
//! a fixed seed, or from days of a record. A post that the server could not store is sent again; the
//! server keeps each reading once.

mod device;
pub mod service;
mod weather;

pub use device::{DeviceKind, StandIn};
pub use weather::{Sky, SkyHour};

use jiff::{SignedDuration, Timestamp};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;
use upland_core::codes::Coded;

/// How a stand-in runs.
#[derive(Debug, Clone)]
pub struct Plan {
    /// Address of the server, such as `http://127.0.0.1:8080`.
    pub url: String,
    /// Token of the device.
    pub token: String,
    /// What it stands for.
    pub kind: DeviceKind,
    /// Simulated seconds in a second, until it has caught up.
    pub speed: f64,
    /// Days back that it begins at.
    pub days_back: u32,
    /// Simulated minutes between two readings.
    pub step_min: u32,
    /// The clock that it catches up with.
    pub clock: Clock,
}

/// A clock that a stand-in keeps pace with: real time, or that of a demo.
#[derive(Clone)]
pub struct Clock(Arc<dyn Fn() -> Timestamp + Send + Sync>);

impl Clock {
    /// A clock of one's own.
    pub fn new(now: impl Fn() -> Timestamp + Send + Sync + 'static) -> Self {
        Self(Arc::new(now))
    }

    /// The clock of a server: real time, ahead by what the server's clock is now. Real time when the server does
    /// not say.
    #[must_use]
    #[allow(clippy::disallowed_methods, reason = "the server's clock moves with real time")]
    pub fn of_server(url: &str) -> Self {
        let asked = ureq::get(format!("{url}/api/v1/time")).call().ok();
        let said = asked.and_then(|mut answer| answer.body_mut().read_to_string().ok());
        let shown = said
            .and_then(|text| serde_json::from_str::<serde_json::Value>(&text).ok())
            .and_then(|answer| answer.get("now")?.as_str()?.parse::<Timestamp>().ok());
        let ahead = shown.map_or(SignedDuration::ZERO, |shown| shown.duration_since(Timestamp::now()));
        Self::new(move || Timestamp::now() + ahead)
    }

    /// What it shows.
    #[must_use]
    pub fn now(&self) -> Timestamp {
        (self.0)()
    }
}

impl std::fmt::Debug for Clock {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Clock({})", self.now())
    }
}

/// Why a simulator stopped by itself.
#[derive(Debug, thiserror::Error)]
pub enum StoppedBy {
    /// The server refused it: its token, or what it sent.
    #[error("the server refused with {status}: {body}")]
    Refused {
        /// HTTP status.
        status: u16,
        /// What it said.
        body: String,
    },
}

/// Most readings of a post.
const BATCH: usize = 500;
/// Wait before a post is sent again.
const AGAIN: Duration = Duration::from_secs(1);
/// Longest sleep between two looks at whether it should stop.
const NAP: Duration = Duration::from_millis(100);

/// Runs a stand-in until it is told to stop. `taken` counts readings that the server acknowledged.
///
/// # Errors
/// [`StoppedBy::Refused`] when the server says that it will not take these posts.
pub fn run(plan: &Plan, sky: &Sky, stop: &AtomicBool, taken: &AtomicU64) -> Result<(), StoppedBy> {
    let agent: ureq::Agent = ureq::Agent::config_builder()
        .http_status_as_error(false)
        .timeout_global(Some(Duration::from_secs(20)))
        .build()
        .into();
    let mut device = StandIn::new(plan.kind);
    let step = SignedDuration::from_mins(i64::from(plan.step_min.max(1)));
    let mut at = plan.clock.now() - SignedDuration::from_hours(24 * i64::from(plan.days_back));
    let mut waiting: Vec<serde_json::Value> = Vec::new();
    let pause = Duration::from_secs_f64((step.as_secs_f64() / plan.speed.max(1e-3)).clamp(0.0, 3600.0));
    while !stop.load(Ordering::Relaxed) {
        let caught_up = at > plan.clock.now();
        if !caught_up {
            for (channel, value) in device.read(at, sky) {
                waiting.push(
                    serde_json::json!({ "channel": channel.code(), "at": at.to_string(), "value": value }),
                );
            }
            at += step;
            // Slow runs post as they read; fast ones join what belongs to a tenth of a second.
            let joined = pause >= NAP || waiting.len() >= BATCH;
            if joined || at > plan.clock.now() {
                post(&agent, plan, &mut waiting, stop, taken)?;
            }
            sleep(pause, stop);
        } else {
            post(&agent, plan, &mut waiting, stop, taken)?;
            sleep(Duration::from_secs(1), stop);
        }
    }
    post(&agent, plan, &mut waiting, stop, taken)
}

fn sleep(length: Duration, stop: &AtomicBool) {
    let mut left = length;
    while !left.is_zero() && !stop.load(Ordering::Relaxed) {
        let nap = left.min(NAP);
        std::thread::sleep(nap);
        left -= nap;
    }
}

/// Posts what waits, in batches, again until it is taken or refused.
fn post(
    agent: &ureq::Agent,
    plan: &Plan,
    waiting: &mut Vec<serde_json::Value>,
    stop: &AtomicBool,
    taken: &AtomicU64,
) -> Result<(), StoppedBy> {
    while !waiting.is_empty() {
        let batch: Vec<serde_json::Value> = waiting.iter().take(BATCH).cloned().collect();
        let body =
            serde_json::json!({ "readings": batch, "device_time": plan.clock.now().to_string() }).to_string();
        let answer = agent
            .post(format!("{}/api/v1/readings", plan.url))
            .header("authorization", format!("Bearer {}", plan.token))
            .header("content-type", "application/json")
            .send(body);
        match answer {
            Ok(response) if response.status().is_success() => {
                taken.fetch_add(u64::try_from(batch.len()).unwrap_or(0), Ordering::Relaxed);
                waiting.drain(..batch.len());
            }
            Ok(mut response) if response.status().is_client_error() && response.status().as_u16() != 429 => {
                let status = response.status().as_u16();
                return Err(StoppedBy::Refused {
                    status,
                    body: response.body_mut().read_to_string().unwrap_or_default(),
                });
            }
            other => {
                tracing::debug!(?other, "the post is sent again");
                if stop.load(Ordering::Relaxed) {
                    return Ok(());
                }
                sleep(AGAIN, stop);
            }
        }
    }
    Ok(())
}

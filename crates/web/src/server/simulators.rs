//! Simulated devices that run in this process, where the demo runs.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use upland_simulator::{Plan, Sky};

/// Most stand-ins at once: each is a thread.
pub(crate) const MOST_STAND_INS: usize = 12;

struct Running {
    stop: Arc<AtomicBool>,
    taken: Arc<AtomicU64>,
    over: Arc<AtomicBool>,
}

/// The stand-ins of this server.
#[derive(Default)]
pub(crate) struct StandIns {
    /// Where this server listens; `None` where stand-ins are not offered.
    pub url: Option<String>,
    running: Mutex<BTreeMap<i64, Running>>,
}

impl StandIns {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<i64, Running>> {
        // A thread that failed while it held the list leaves the list as it was.
        self.running.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Readings that a sensor's stand-in had acknowledged, while it runs.
    pub fn taken(&self, sensor: i64) -> Option<u64> {
        self.lock()
            .get(&sensor)
            .filter(|r| !r.over.load(Ordering::Relaxed))
            .map(|r| r.taken.load(Ordering::Relaxed))
    }

    /// Stops the stand-in of a sensor; `false` when none runs.
    pub fn stop(&self, sensor: i64) -> bool {
        self.lock().remove(&sensor).is_some_and(|r| {
            r.stop.store(true, Ordering::Relaxed);
            true
        })
    }

    /// Starts a stand-in; `false` when it runs already or too many do.
    pub fn start(&self, sensor: i64, plan: Plan, sky: Sky) -> bool {
        let mut running = self.lock();
        running.retain(|_, r| !r.over.load(Ordering::Relaxed));
        if running.contains_key(&sensor) || running.len() >= MOST_STAND_INS {
            return false;
        }
        let one = Running { stop: Arc::default(), taken: Arc::default(), over: Arc::default() };
        let (stop, taken, over) = (Arc::clone(&one.stop), Arc::clone(&one.taken), Arc::clone(&one.over));
        std::thread::spawn(move || {
            if let Err(refused) = upland_simulator::run(&plan, &sky, &stop, &taken) {
                tracing::info!(%refused, sensor, "simulator stopped");
            }
            over.store(true, Ordering::Relaxed);
        });
        running.insert(sensor, one);
        true
    }
}

impl Drop for StandIns {
    fn drop(&mut self) {
        for running in self.lock().values() {
            running.stop.store(true, Ordering::Relaxed);
        }
    }
}

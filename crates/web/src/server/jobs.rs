//! Long work that somebody asked for: it runs on a thread of its own, tells how far it is, can be stopped, and its
//! outcome is kept until the next is begun under the same name. In this process alone: it is lost with it.

use std::any::Any;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// Works that run at once: one core is left to pages.
const MOST_RUNNING: usize = 1;
/// Outcomes that are kept.
const MOST_KEPT: usize = 40;

/// A piece of long work.
#[derive(Default)]
pub(crate) struct Job {
    done: AtomicUsize,
    of: AtomicUsize,
    stopped: AtomicBool,
    ended: AtomicBool,
    outcome: OnceLock<Arc<dyn Any + Send + Sync>>,
    /// How many were begun before it.
    begun: usize,
}

impl Job {
    /// Says how far it is.
    pub fn tell(&self, done: usize, of: usize) {
        self.of.store(of, Ordering::Relaxed);
        self.done.store(done, Ordering::Relaxed);
    }

    /// How far it is, of how much.
    pub fn progress(&self) -> (usize, usize) {
        (self.done.load(Ordering::Relaxed), self.of.load(Ordering::Relaxed))
    }

    /// Tells it to stop.
    pub fn stop(&self) {
        self.stopped.store(true, Ordering::Relaxed);
    }

    /// Whether it was told to stop.
    pub fn is_stopped(&self) -> bool {
        self.stopped.load(Ordering::Relaxed)
    }

    /// Whether it still goes on.
    pub fn runs(&self) -> bool {
        !self.ended.load(Ordering::Acquire)
    }

    /// What it came to; `None` while it goes on, and when it broke off.
    pub fn outcome<T: Send + Sync + 'static>(&self) -> Option<Arc<T>> {
        Arc::clone(self.outcome.get()?).downcast().ok()
    }
}

/// Everything that was begun and is not forgotten yet.
#[derive(Default)]
pub(crate) struct Jobs(Mutex<BTreeMap<String, Arc<Job>>>);

/// Why a work was not begun.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum NotBegun {
    /// It is going on already.
    Runs,
    /// Others go on.
    Busy,
}

impl Jobs {
    fn all(&self) -> std::sync::MutexGuard<'_, BTreeMap<String, Arc<Job>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The work of a name, if one was begun.
    pub fn of(&self, name: &str) -> Option<Arc<Job>> {
        self.all().get(name).cloned()
    }

    /// Forgets a work that has ended.
    pub fn forget(&self, name: &str) {
        self.all().retain(|own, job| own != name || job.runs());
    }

    /// Begins a work on a thread of its own.
    pub fn begin<T: Send + Sync + 'static>(
        &self,
        name: &str,
        work: impl FnOnce(&Job) -> T + Send + 'static,
    ) -> Result<Arc<Job>, NotBegun> {
        let mut all = self.all();
        if all.get(name).is_some_and(|job| job.runs()) {
            return Err(NotBegun::Runs);
        }
        if all.values().filter(|job| job.runs()).count() >= MOST_RUNNING {
            return Err(NotBegun::Busy);
        }
        while all.len() >= MOST_KEPT {
            let oldest = all.iter().filter(|(_, job)| !job.runs()).min_by_key(|(_, job)| job.begun);
            let Some(oldest) = oldest.map(|(name, _)| name.clone()) else { break };
            all.remove(&oldest);
        }
        let begun = all.values().map(|job| job.begun + 1).max().unwrap_or(0);
        let job = Arc::new(Job { begun, ..Job::default() });
        all.insert(name.to_owned(), Arc::clone(&job));
        let mut ends = Ends(Arc::clone(&job));
        let thread = std::thread::Builder::new().name("long work".into()).spawn(move || {
            let outcome: Arc<dyn Any + Send + Sync> = Arc::new(work(&ends.0));
            let _ = ends.0.outcome.set(outcome);
            ends.end();
        });
        if let Err(error) = thread {
            // The thread's guard was dropped with it, so the work has ended.
            tracing::error!(%error, "no thread for long work");
        }
        Ok(job)
    }
}

/// Says that the work has ended, also when it broke off.
struct Ends(Arc<Job>);

impl Ends {
    fn end(&mut self) {
        self.0.ended.store(true, Ordering::Release);
    }
}

impl Drop for Ends {
    fn drop(&mut self) {
        self.end();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc;

    fn wait(job: &Job) {
        while job.runs() {
            std::thread::yield_now();
        }
    }

    #[test]
    fn a_work_tells_how_far_it_is_and_keeps_what_it_came_to() {
        let jobs = Jobs::default();
        let (go, wait_for) = mpsc::channel::<()>();
        let job = jobs
            .begin("site 1", move |job| {
                job.tell(3, 9);
                let _ = wait_for.recv();
                7_u32
            })
            .unwrap();
        while job.progress() != (3, 9) {
            std::thread::yield_now();
        }
        assert!(job.runs() && job.outcome::<u32>().is_none());
        assert_eq!(jobs.begin("site 1", |_| 8_u32).err(), Some(NotBegun::Runs));
        assert_eq!(jobs.begin("site 2", |_| 8_u32).err(), Some(NotBegun::Busy));
        jobs.forget("site 1");
        assert!(jobs.of("site 1").is_some(), "what goes on is not forgotten");
        go.send(()).unwrap();
        wait(&job);
        assert_eq!(jobs.of("site 1").unwrap().outcome::<u32>().as_deref(), Some(&7));
        assert!(job.outcome::<String>().is_none(), "of its own kind only");
        jobs.forget("site 1");
        assert!(jobs.of("site 1").is_none());
    }

    #[test]
    fn a_work_can_be_stopped_and_one_that_breaks_off_has_ended() {
        let jobs = Jobs::default();
        let job = jobs
            .begin("a", |job| {
                while !job.is_stopped() {
                    std::thread::yield_now();
                }
                1_u8
            })
            .unwrap();
        job.stop();
        wait(&job);
        assert_eq!(job.outcome::<u8>().as_deref(), Some(&1));
        let broken = jobs.begin("b", |_| -> u8 { panic!("broken off") }).unwrap();
        wait(&broken);
        assert!(broken.outcome::<u8>().is_none());
        wait(&jobs.begin("b", |_| 2_u8).unwrap());
    }

    #[test]
    fn the_oldest_outcomes_make_room() {
        let jobs = Jobs::default();
        for n in 0..MOST_KEPT + 5 {
            wait(&jobs.begin(&format!("site {n}"), move |_| n).unwrap());
        }
        assert!(jobs.of("site 0").is_none() && jobs.of("site 4").is_none());
        assert_eq!(jobs.of("site 5").unwrap().outcome::<usize>().as_deref(), Some(&5));
    }
}

//! Work that no page waits for: each kind of it at most once at a time in this process.

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};

/// What is being worked on.
#[derive(Clone, Default)]
pub(crate) struct Background(Arc<Mutex<BTreeSet<&'static str>>>);

impl Background {
    /// Begins some work on a thread of its own, unless work of that name is still going on.
    pub fn begin(&self, name: &'static str, work: impl FnOnce() + Send + 'static) {
        if !self.running().insert(name) {
            return;
        }
        let ends = Ends { of: self.clone(), name };
        let begun = std::thread::Builder::new().name(name.to_owned()).spawn(move || {
            let _ends = ends;
            work();
        });
        if let Err(error) = begun {
            tracing::error!(%error, name, "no thread for background work");
        }
    }

    fn running(&self) -> std::sync::MutexGuard<'_, BTreeSet<&'static str>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Says that the work has ended, also when it broke off.
struct Ends {
    of: Background,
    name: &'static str,
}

impl Drop for Ends {
    fn drop(&mut self) {
        self.of.running().remove(self.name);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc;

    #[test]
    fn work_of_a_name_goes_on_once_and_may_begin_again() {
        let background = Background::default();
        let (say, told) = mpsc::channel();
        let (go, wait) = mpsc::channel::<()>();
        let first = say.clone();
        background.begin("count", move || {
            let _ = wait.recv();
            let _ = first.send(1);
        });
        let second = say.clone();
        background.begin("count", move || {
            let _ = second.send(2);
        });
        let other = say.clone();
        background.begin("other", move || {
            let _ = other.send(3);
        });
        assert_eq!(told.recv(), Ok(3), "the second count did not begin");
        go.send(()).unwrap();
        assert_eq!(told.recv(), Ok(1));
        while background.running().contains("count") {
            std::thread::yield_now();
        }
        background.begin("count", || panic!("broken off"));
        while background.running().contains("count") {
            std::thread::yield_now();
        }
        background.begin("count", move || {
            let _ = say.send(4);
        });
        assert_eq!(told.recv(), Ok(4), "what broke off does not bar the next");
    }
}

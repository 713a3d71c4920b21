//! Work that takes much memory, done for one site after the other has ended.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError, Weak};

/// A turn for each of many keys.
#[derive(Default)]
pub(crate) struct Turns(Mutex<BTreeMap<i64, Weak<Mutex<()>>>>);

impl Turns {
    /// The turn of a key: whoever has locked it works alone on that key. To be waited for off the event loop.
    pub fn of(&self, key: i64) -> Arc<Mutex<()>> {
        let mut turns = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        turns.retain(|_, turn| turn.strong_count() > 0);
        let turn = turns.get(&key).and_then(Weak::upgrade).unwrap_or_default();
        turns.insert(key, Arc::downgrade(&turn));
        turn
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentence_6_one_of_a_key_at_a_time_and_others_beside_it() {
        let turns = Turns::default();
        let (first, other) = (turns.of(1), turns.of(2));
        let (held, beside) = (first.lock().unwrap(), other.lock().unwrap());
        assert!(turns.of(1).try_lock().is_err(), "it waits");
        drop(held);
        let again = turns.of(1);
        assert!(again.try_lock().is_ok());
        drop((first, again));
        let _third = turns.of(3);
        assert_eq!(turns.0.lock().unwrap().len(), 2, "keys that nobody holds are forgotten");
        drop(beside);
    }
}

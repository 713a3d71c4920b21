//! Work that takes much memory, done for one site after the other's request has been answered.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError, Weak};

/// A turn for each of many keys.
#[derive(Default)]
pub(crate) struct Turns(Mutex<BTreeMap<i64, Weak<tokio::sync::Mutex<()>>>>);

impl Turns {
    /// Waits for the turn of a key, and holds it until what is returned is dropped.
    pub async fn of(&self, key: i64) -> tokio::sync::OwnedMutexGuard<()> {
        let turn = {
            let mut turns = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            turns.retain(|_, turn| turn.strong_count() > 0);
            let known = turns.get(&key).and_then(Weak::upgrade);
            let turn = known.unwrap_or_default();
            turns.insert(key, Arc::downgrade(&turn));
            turn
        };
        turn.lock_owned().await
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[actix_web::test]
    async fn sentence_6_one_of_a_key_at_a_time_and_others_beside_it() {
        let turns = Turns::default();
        let first = turns.of(1).await;
        let _other = turns.of(2).await;
        let soon = std::time::Duration::from_millis(20);
        assert!(tokio::time::timeout(soon, turns.of(1)).await.is_err(), "it waits");
        drop(first);
        let again = tokio::time::timeout(soon, turns.of(1)).await;
        assert!(again.is_ok());
        drop(again);
        let _third = turns.of(3).await;
        assert_eq!(turns.0.lock().unwrap().len(), 2, "keys that nobody holds are forgotten");
    }
}

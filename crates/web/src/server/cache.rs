//! One cache of what was computed: a value by what is asked and the facts it follows from, worked out
//! once however many ask at the same time, and thrown away when room is needed.

use std::any::{Any, TypeId};
use std::sync::Arc;
use std::time::Duration;
use upland_store::StoreError;

/// Memory that the cache may take, in kilobytes.
const CAPACITY_KB: u64 = 64 * 1024;
/// A value that nobody asked for so long goes: most are of a minute that is over.
const UNASKED: Duration = Duration::from_secs(10 * 60);

/// What is asked (the type of the answer) and of which facts.
type Key = (TypeId, String);

#[derive(Clone)]
struct Kept {
    kilobytes: u32,
    value: Arc<dyn Any + Send + Sync>,
}

/// Computed values.
pub(crate) struct Cache {
    values: moka::sync::Cache<Key, Kept>,
}

impl Default for Cache {
    fn default() -> Self {
        let values = moka::sync::Cache::builder()
            .weigher(|_, kept: &Kept| kept.kilobytes.max(1))
            .max_capacity(CAPACITY_KB)
            .time_to_idle(UNASKED)
            .build();
        Self { values }
    }
}

impl Cache {
    /// The value for some facts, if it was computed before.
    pub fn get<T: Send + Sync + 'static>(&self, facts: &str) -> Option<Arc<T>> {
        let kept = self.values.get(&(TypeId::of::<T>(), facts.to_owned()))?;
        kept.value.downcast().ok()
    }

    /// The value for some facts; computed once, and kept at about so many kilobytes.
    ///
    /// `facts` must name everything that the value follows from: an identity and its revision.
    pub fn once<T: Send + Sync + 'static>(
        &self,
        facts: String,
        kilobytes: impl FnOnce(&T) -> usize,
        compute: impl FnOnce() -> Result<T, StoreError>,
    ) -> Result<Arc<T>, StoreError> {
        let kept = self.values.try_get_with((TypeId::of::<T>(), facts), || {
            let value = compute()?;
            let kilobytes = u32::try_from(kilobytes(&value)).unwrap_or(u32::MAX);
            Ok::<_, StoreError>(Kept { kilobytes, value: Arc::new(value) })
        });
        let kept = kept.map_err(StoreError::Shared)?;
        // The key names the type, so the value is of it.
        kept.value.downcast().map_err(|_| StoreError::Unknown { what: "cached value", value: String::new() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU32, Ordering};

    #[test]
    fn a_value_is_computed_once_however_many_ask() {
        let cache = Cache::default();
        let computed = AtomicU32::new(0);
        std::thread::scope(|scope| {
            for _ in 0..8 {
                scope.spawn(|| {
                    let value = cache.once(
                        "site 1, revision 3".into(),
                        |_| 1,
                        || {
                            computed.fetch_add(1, Ordering::Relaxed);
                            std::thread::sleep(std::time::Duration::from_millis(20));
                            Ok(7_u64)
                        },
                    );
                    assert_eq!(*value.unwrap(), 7);
                });
            }
        });
        assert_eq!(computed.load(Ordering::Relaxed), 1);
    }

    #[test]
    fn another_type_or_other_facts_are_another_value_and_an_error_is_not_kept() {
        let cache = Cache::default();
        let refused = cache.once("a".into(), |_: &u64| 1, || Err(StoreError::Cancelled));
        assert_eq!(refused.unwrap_err().to_string(), StoreError::Cancelled.to_string());
        assert_eq!(*cache.once("a".into(), |_| 1, || Ok(1_u64)).unwrap(), 1);
        assert_eq!(*cache.once("a".into(), |_| 1, || Ok("x".to_owned())).unwrap(), "x");
        assert_eq!(*cache.once("b".into(), |_| 1, || Ok(2_u64)).unwrap(), 2);
        assert_eq!(cache.get::<u64>("a").as_deref(), Some(&1));
        assert_eq!(cache.get::<u64>("c"), None);
    }
}

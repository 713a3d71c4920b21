//! One cache of what was computed: a value by what is asked and the facts it follows from, worked out
//! once however many ask at the same time, and thrown away when room is needed.

use jiff::Timestamp;
use std::any::Any;
use std::hash::{Hash, Hasher};
use std::sync::Arc;
use std::time::Duration;
use upland_formats::typed::Habit;
use upland_store::StoreError;
use upland_store::scope::{Scope, SiteKey};

/// Memory that the cache may take, in kilobytes.
const CAPACITY_KB: u64 = 64 * 1024;
/// A value that nobody asked for so long goes: most are of a minute that is over.
const UNASKED: Duration = Duration::from_secs(10 * 60);

/// A question whose answer is kept. Its fields are everything that the answer follows from beside the facts that
/// [`About`] names. The type of the question decides the type of the answer, so that two questions never share a value.
pub(crate) trait Question: Clone + Eq + Hash + Send + Sync + 'static {
    type Answer: Send + Sync + 'static;
    /// Whether the answer holds words: times, dates and names in the habit of whoever reads it. Such an answer is kept
    /// for each habit by itself.
    const WORDED: bool;
}

/// Declares questions: `words Name { fields } -> Answer;` where the answer holds words, `facts` where it holds none.
macro_rules! questions {
    ($($(#[$doc:meta])* $vis:vis $holds:ident $name:ident { $($field:ident: $type:ty),* $(,)? } -> $answer:ty;)+) => {$(
        $(#[$doc])*
        #[derive(Clone, PartialEq, Eq, Hash)]
        $vis struct $name {
            $($field: $type),*
        }

        impl $crate::server::cache::Question for $name {
            type Answer = $answer;
            const WORDED: bool = $crate::server::cache::questions!(@worded $holds);
        }
    )+};
    (@worded words) => { true };
    (@worded facts) => { false };
}
pub(crate) use questions;

/// The facts that an answer follows from.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) enum About {
    /// What the question itself names, such as a kept comparison that never changes.
    Itself,
    /// The weather of a site and what follows from its place.
    Weather { site: SiteKey, weather: i64, survey: i32 },
    /// What was stored of a site, without its devices' readings.
    Revision { site: SiteKey, revision: i64 },
    /// Everything stored of a site and read by its devices, whatever the time.
    Site { site: SiteKey, revision: i64, readings: i64 },
    /// The same at an instant.
    Moment { site: SiteKey, revision: i64, readings: i64, at: Timestamp, record_ended: bool },
    /// Every site of a scope.
    Sites { stamp: Option<i64>, scope: Scope },
}

/// What is asked, of which facts, and for which reader where the answer holds words.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct Key<Q> {
    about: About,
    reader: Option<Habit>,
    question: Q,
}

impl<Q: Question> Key<Q> {
    /// A question whose answer holds no words, so that no reader is needed. Does not compile where it holds some.
    pub fn of_facts(about: About, question: Q) -> Self {
        const { assert!(!Q::WORDED, "the answer holds words: say for which reader") };
        Self { about, reader: None, question }
    }

    /// A question of a reader.
    pub fn for_reader(about: About, question: Q, habit: Habit) -> Self {
        Self { about, reader: Q::WORDED.then_some(habit), question }
    }
}

/// A key of any question.
trait AnyKey: Send + Sync {
    fn same(&self, other: &dyn Any) -> bool;
    fn hash_into(&self, hasher: &mut dyn Hasher);
    fn as_any(&self) -> &dyn Any;
}

impl<Q: Question> AnyKey for Key<Q> {
    fn same(&self, other: &dyn Any) -> bool {
        other.downcast_ref::<Self>().is_some_and(|other| self == other)
    }

    fn hash_into(&self, mut hasher: &mut dyn Hasher) {
        std::any::TypeId::of::<Q>().hash(&mut hasher);
        self.hash(&mut hasher);
    }

    fn as_any(&self) -> &dyn Any {
        self
    }
}

#[derive(Clone)]
struct Erased(Arc<dyn AnyKey>);

impl PartialEq for Erased {
    fn eq(&self, other: &Self) -> bool {
        self.0.same(other.0.as_any())
    }
}

impl Eq for Erased {}

impl Hash for Erased {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.0.hash_into(state);
    }
}

#[derive(Clone)]
struct Kept {
    kilobytes: u32,
    value: Arc<dyn Any + Send + Sync>,
}

/// Computed values.
pub(crate) struct Cache {
    values: moka::sync::Cache<Erased, Kept>,
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
    /// The answer, if it was computed before.
    pub fn get<Q: Question>(&self, key: &Key<Q>) -> Option<Arc<Q::Answer>> {
        let kept = self.values.get(&Erased(Arc::new(key.clone())))?;
        kept.value.downcast().ok()
    }

    /// The answer; computed once, and kept at about so many kilobytes.
    pub fn once<Q: Question>(
        &self,
        key: Key<Q>,
        kilobytes: impl FnOnce(&Q::Answer) -> usize,
        compute: impl FnOnce() -> Result<Q::Answer, StoreError>,
    ) -> Result<Arc<Q::Answer>, StoreError> {
        let kept = self.values.try_get_with(Erased(Arc::new(key)), || {
            let value = compute()?;
            let kilobytes = u32::try_from(kilobytes(&value)).unwrap_or(u32::MAX);
            Ok::<_, StoreError>(Kept { kilobytes, value: Arc::new(value) })
        });
        let kept = kept.map_err(StoreError::Shared)?;
        // The key's type names the type of the answer, so the value is of it.
        kept.value.downcast().map_err(|_| StoreError::Unknown { what: "cached value", value: String::new() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU32, Ordering};
    use upland_formats::typed::{Clock, DateOrder};

    questions! {
        facts Number { of: &'static str } -> u64;
        facts Name { of: &'static str } -> String;
        words Sentence {} -> String;
    }

    fn number(of: &'static str) -> Key<Number> {
        Key::of_facts(About::Itself, Number { of })
    }

    #[test]
    fn a_value_is_computed_once_however_many_ask() {
        let cache = Cache::default();
        let computed = AtomicU32::new(0);
        std::thread::scope(|scope| {
            for _ in 0..8 {
                scope.spawn(|| {
                    let value = cache.once(
                        number("a"),
                        |_| 1,
                        || {
                            computed.fetch_add(1, Ordering::Relaxed);
                            std::thread::sleep(std::time::Duration::from_millis(20));
                            Ok(7)
                        },
                    );
                    assert_eq!(*value.unwrap(), 7);
                });
            }
        });
        assert_eq!(computed.load(Ordering::Relaxed), 1);
    }

    #[test]
    #[expect(clippy::disallowed_methods, reason = "no request asks here")]
    fn another_question_or_other_facts_have_another_answer_and_an_error_is_not_kept() {
        let cache = Cache::default();
        let refused = cache.once(number("a"), |_| 1, || Err(StoreError::Cancelled));
        assert_eq!(refused.unwrap_err().to_string(), StoreError::Cancelled.to_string());
        assert_eq!(*cache.once(number("a"), |_| 1, || Ok(1)).unwrap(), 1);
        let name = Key::of_facts(About::Itself, Name { of: "a" });
        assert_eq!(*cache.once(name, |_| 1, || Ok("x".to_owned())).unwrap(), "x");
        assert_eq!(*cache.once(number("b"), |_| 1, || Ok(2)).unwrap(), 2);
        let elsewhere = About::Sites { stamp: Some(3), scope: Scope::program() };
        assert_eq!(*cache.once(Key::of_facts(elsewhere, Number { of: "a" }), |_| 1, || Ok(3)).unwrap(), 3);
        assert_eq!(cache.get(&number("a")).as_deref(), Some(&1));
        assert_eq!(cache.get(&number("c")), None);
    }

    #[test]
    fn words_are_kept_by_the_habit_of_their_reader_and_numbers_are_not() {
        let cache = Cache::default();
        let twelve = Habit { clock: Clock::Hours12, dates: DateOrder::MonthFirst };
        let for_reader = |habit| Key::for_reader(About::Itself, Sentence {}, habit);
        let said = |habit, words: &str| {
            cache.once(for_reader(habit), |_| 1, || Ok(words.to_owned())).unwrap().to_string()
        };
        assert_eq!(said(Habit::default(), "at 18:00"), "at 18:00");
        assert_eq!(said(twelve, "at 6:00 pm"), "at 6:00 pm");
        assert_eq!(said(Habit::default(), "never computed"), "at 18:00");
        let number = |habit| Key::for_reader(About::Itself, Number { of: "a" }, habit);
        assert!(number(twelve) == number(Habit::default()));
    }
}

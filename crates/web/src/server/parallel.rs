//! Work that is spread over the cores.

use std::sync::Mutex;
use std::sync::PoisonError;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Works on each of some items and gives back what each came to, in order. A core that has done with one takes the
/// next, so that a long one holds up nothing.
pub(crate) fn each_of<T: Sync, R: Send>(items: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get).min(items.len());
    let next = AtomicUsize::new(0);
    let done: Mutex<Vec<(usize, R)>> = Mutex::new(Vec::with_capacity(items.len()));
    let go = || {
        while let Some((at, item)) =
            Some(next.fetch_add(1, Ordering::Relaxed)).and_then(|at| Some((at, items.get(at)?)))
        {
            let result = work(item);
            done.lock().unwrap_or_else(PoisonError::into_inner).push((at, result));
        }
    };
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..cores).map(|_| scope.spawn(go)).collect();
        go();
        let panicked = |cause| std::panic::resume_unwind(cause);
        others.into_iter().for_each(|other| other.join().unwrap_or_else(panicked));
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(at, _)| *at);
    done.into_iter().map(|(_, result)| result).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_item_is_worked_on_once_and_the_order_stays() {
        for count in [0_u32, 1, 2, 7, 100] {
            let items: Vec<u32> = (0..count).collect();
            let worked = AtomicUsize::new(0);
            let doubled = each_of(&items, |n| {
                worked.fetch_add(1, Ordering::Relaxed);
                n * 2
            });
            assert_eq!(doubled, items.iter().map(|n| n * 2).collect::<Vec<_>>());
            assert_eq!(worked.into_inner(), items.len());
        }
    }

    #[test]
    #[should_panic(expected = "the third")]
    fn a_panic_is_not_swallowed() {
        each_of(&[1, 2, 3, 4], |n| assert!(*n != 3, "the third"));
    }
}

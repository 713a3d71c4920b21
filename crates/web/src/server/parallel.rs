//! Work that is spread over the cores.

/// Works on parts of some items, one a core, and gives back what each part came to, in order.
pub(crate) fn in_parts<T: Sync, R: Send>(items: &[T], work: impl Fn(&[T]) -> R + Sync) -> Vec<R> {
    if items.is_empty() {
        return Vec::new();
    }
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    std::thread::scope(|scope| {
        let parts = items.chunks(items.len().div_ceil(cores));
        let running: Vec<_> = parts.map(|part| scope.spawn(|| work(part))).collect();
        let panicked = |cause| std::panic::resume_unwind(cause);
        running.into_iter().map(|part| part.join().unwrap_or_else(panicked)).collect()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_item_is_worked_on_once_and_the_order_stays() {
        for count in [0_u32, 1, 2, 7, 100] {
            let items: Vec<u32> = (0..count).collect();
            let parts = in_parts(&items, |part| part.iter().map(|n| n * 2).collect::<Vec<_>>());
            assert_eq!(parts.concat(), items.iter().map(|n| n * 2).collect::<Vec<_>>());
        }
    }
}

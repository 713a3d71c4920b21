//! Whose eyes a page is for: the habit in which its times and dates are written.
//!
//! It is ambient for a request, as a locale is: some hundred sentences hold a time, and none of them decides how it is
//! written. What is kept of a page is kept by habit; work off the event loop takes the habit with it.

use crate::server::error::PageError;
use actix_web::web;
use std::cell::Cell;
use std::time::{Duration, Instant};
use upland_formats::typed::Habit;

tokio::task_local! {
    static HABIT: Cell<Habit>;
    /// How long this request has waited for the database.
    static WAITED: Cell<Duration>;
}

/// The habit of who asks; of nobody in particular where nobody does, as in tests.
pub(crate) fn habit() -> Habit {
    HABIT.try_with(Cell::get).unwrap_or_default()
}

/// From here on the request is answered in this habit.
pub(crate) fn answer_in(habit: Habit) {
    // Outside of a request there is nothing to tell.
    let _ = HABIT.try_with(|now| now.set(habit));
}

/// Answers a request; its habit is told when it is known who asks.
pub(crate) async fn for_a_reader<T>(answer: impl Future<Output = T>) -> T {
    WAITED.scope(Cell::default(), HABIT.scope(Cell::default(), answer)).await
}

/// Does work off the event loop in the reader's habit.
pub(crate) async fn off_loop<T: Send + 'static>(
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<T, PageError> {
    let habit = habit();
    Ok(web::block(move || in_habit(habit, work)).await?)
}

/// Longest that a request waits for the database, all its questions together: then a page says that it does not answer.
const LONGEST: Duration = Duration::from_secs(3);

/// Asks the database off the event loop, and waits no longer than somebody waits for a page. A question that is given
/// up may still be answered; nobody hears it.
pub(crate) async fn asked<T: Send + 'static, E: Send + 'static>(
    work: impl FnOnce() -> Result<T, E> + Send + 'static,
) -> Result<T, PageError>
where
    PageError: From<E>,
{
    let left = LONGEST.saturating_sub(WAITED.try_with(Cell::get).unwrap_or_default());
    if left.is_zero() {
        return Err(PageError::Unanswered);
    }
    let begun = Instant::now();
    let answer = tokio::time::timeout(left, off_loop(work)).await;
    // Whose question was given up has waited enough, whatever a coarse clock says. Outside of a request nobody counts.
    let waited = if answer.is_ok() { begun.elapsed() } else { LONGEST };
    let _ = WAITED.try_with(|all| all.set(all.get() + waited));
    match answer {
        Ok(answer) => Ok(answer??),
        Err(_) => Err(PageError::Unanswered),
    }
}

/// Does something in a habit.
pub(crate) fn in_habit<T>(habit: Habit, work: impl FnOnce() -> T) -> T {
    HABIT.sync_scope(Cell::new(habit), work)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[actix_web::test]
    async fn a_request_waits_so_long_for_all_its_questions_together_and_no_longer() {
        let slow = |ms: u64| {
            move || -> Result<u64, PageError> {
                std::thread::sleep(Duration::from_millis(ms));
                Ok(ms)
            }
        };
        let begun = Instant::now();
        for_a_reader(async {
            assert!(matches!(asked(slow(50)).await, Ok(50)));
            WAITED.with(|waited| waited.set(LONGEST - Duration::from_millis(100)));
            assert!(matches!(asked(slow(400)).await, Err(PageError::Unanswered)));
            assert!(
                matches!(asked(slow(1)).await, Err(PageError::Unanswered)),
                "the whole request has waited enough"
            );
        })
        .await;
        assert!(begun.elapsed() < LONGEST);
    }
}

//! Whose eyes a page is for: the habit in which its times and dates are written.
//!
//! It is ambient for a request, as a locale is: some hundred sentences hold a time, and none of them decides how it is
//! written. What is kept of a page is kept by habit; work off the event loop takes the habit with it.

use crate::server::error::PageError;
use actix_web::web;
use std::cell::Cell;
use upland_formats::typed::Habit;

tokio::task_local! {
    static HABIT: Cell<Habit>;
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
    HABIT.scope(Cell::default(), answer).await
}

/// Does work off the event loop in the reader's habit.
pub(crate) async fn off_loop<T: Send + 'static>(
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<T, PageError> {
    let habit = habit();
    Ok(web::block(move || in_habit(habit, work)).await?)
}

/// Does something in a habit.
pub(crate) fn in_habit<T>(habit: Habit, work: impl FnOnce() -> T) -> T {
    HABIT.sync_scope(Cell::new(habit), work)
}

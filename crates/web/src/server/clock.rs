//! The application's clock. It shows real time, or, in a demo, a time of its own that moves with real time and
//! is kept in the database. Nothing else asks what time it is.

use jiff::{SignedDuration, Timestamp, Unit};

/// What the clock shows exactly, ahead of real time by so much: for what must stand in the order in which it came.
pub(crate) fn exactly(ahead: Option<SignedDuration>) -> Timestamp {
    #[allow(clippy::disallowed_methods, reason = "this is the clock")]
    let real = Timestamp::now();
    real.checked_add(ahead.unwrap_or(SignedDuration::ZERO)).unwrap_or(real)
}

/// What the clock shows to the minute, ahead of real time by so much.
pub(crate) fn now(ahead: Option<SignedDuration>) -> Timestamp {
    let shown = exactly(ahead);
    let minute = jiff::TimestampRound::new().smallest(Unit::Minute).mode(jiff::RoundMode::Trunc);
    shown.round(minute).unwrap_or(shown)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_clock_shows_whole_minutes_and_is_ahead_by_what_it_is_told() {
        let (real, ahead) = (now(None), now(Some(SignedDuration::from_hours(48))));
        assert_eq!(real.as_second() % 60, 0);
        let apart = ahead.duration_since(real);
        assert!(
            (SignedDuration::from_hours(48)..=SignedDuration::from_hours(49)).contains(&apart),
            "{apart}"
        );
        assert!(now(Some(SignedDuration::MAX)) >= real, "a clock that cannot be shows real time");
    }
}

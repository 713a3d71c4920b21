//! Watering days of a program, made rarer or more frequent.

use crate::controller::schedule::Days;
use jiff::civil::Date;

/// Watering days a week, in the mean.
pub(super) fn days_a_week(days: Days) -> f64 {
    match days {
        Days::EveryNth { interval, .. } => 7.0 / f64::from(interval.max(1)),
        Days::Odd | Days::Even => 3.5,
        Days::Weekdays(on) => on.iter().map(|d| if *d { 1.0 } else { 0.0 }).sum::<f64>().max(1.0),
    }
}

/// Days with no longer wait than an interval, in the way in which they are set; `None` where they are no rarer now.
pub(super) fn at_interval(days: Days, interval: u8, today: Date) -> Option<Days> {
    let wanted = 7_usize.div_ceil(usize::from(interval.max(1)));
    let to = match days {
        Days::EveryNth { interval: now, .. } if now <= interval => return None,
        Days::EveryNth { first, .. } => Days::EveryNth { interval, first: first.max(today) },
        Days::Odd | Days::Even if interval >= 2 => return None,
        Days::Odd | Days::Even => Days::Weekdays([true; 7]),
        Days::Weekdays(_) => Days::Weekdays(spread(wanted)),
    };
    (days_a_week(to) > days_a_week(days)).then_some(to)
}

/// The same days with one more a week, or one fewer, as far apart as they can be.
pub(super) fn another_day(days: Days, more: bool, today: Date) -> Days {
    match days {
        Days::EveryNth { interval, first } => {
            let interval = if more { interval.saturating_sub(1).max(1) } else { interval.saturating_add(1) };
            Days::EveryNth { interval, first: first.max(today) }
        }
        Days::Odd | Days::Even if more => Days::Weekdays([true; 7]),
        Days::Odd | Days::Even => Days::Weekdays(spread(3)),
        Days::Weekdays(on) => {
            let count = on.iter().filter(|d| **d).count();
            let wanted = if more { count + 1 } else { count.saturating_sub(1).max(1) };
            Days::Weekdays(spread(wanted))
        }
    }
}

/// So many days of a week, spread evenly from Monday.
fn spread(count: usize) -> [bool; 7] {
    let count = count.clamp(1, 7);
    let mut week = [false; 7];
    for k in 0..count {
        if let Some(day) = week.get_mut(k * 7 / count) {
            *day = true;
        }
    }
    week
}

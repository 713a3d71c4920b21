//! The steps of a card: the nearest values that a box can be set to.

use super::Card;
use crate::quantity::time::MinuteOfDay;
use jiff::civil::Time;

impl Card {
    /// The nearest percentage that it takes.
    #[must_use]
    pub fn nearest_percentage(&self, value: u16) -> u16 {
        let step = self.percentage_step.max(1);
        let value = value.clamp(self.percentage_min, self.percentage_max);
        let steps = (value - self.percentage_min + step / 2) / step;
        let nearest = self.percentage_min + steps * step;
        if nearest > self.percentage_max { nearest - step } else { nearest }
    }

    /// The start time that it can hold at or before a minute of the day.
    #[must_use]
    pub fn start_at_or_before(&self, minute: MinuteOfDay) -> Time {
        let step = u32::from(self.start_step_min.max(1));
        MinuteOfDay::after_midnight(minute.minutes() / step * step).time()
    }

    /// The start time nearest to a time of day that it can hold; the later of two that are as near.
    #[must_use]
    pub fn nearest_start(&self, time: Time) -> Time {
        let half = u32::from(self.start_step_min.max(1)) / 2;
        self.start_at_or_before(MinuteOfDay::after_midnight(MinuteOfDay::of(time).minutes() + half))
    }
}

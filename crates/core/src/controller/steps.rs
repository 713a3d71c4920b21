//! The steps of a card: the nearest values that a controller can be set to.

use super::Card;
use crate::quantity::ratio::Percentage;
use crate::quantity::time::MinuteOfDay;
use jiff::civil::Time;

impl Card {
    /// The nearest percentage that it takes.
    #[must_use]
    pub fn nearest_percentage(&self, value: Percentage) -> Percentage {
        let (low, high) = (self.percentage_min.percent(), self.percentage_max.percent());
        let step = self.percentage_step.percent().max(1);
        // A card whose lowest is above its highest is told by its own check.
        let steps = (value.percent().min(high).saturating_sub(low) + step / 2) / step;
        let nearest = low + steps * step;
        Percentage::from_percent(if nearest > high && steps > 0 { nearest - step } else { nearest })
    }

    /// The percentages that it can be set to, from the lowest.
    pub fn percentages(&self) -> impl Iterator<Item = Percentage> {
        let step = usize::from(self.percentage_step.percent().max(1));
        let all = self.percentage_min.percent()..=self.percentage_max.percent();
        all.step_by(step).map(Percentage::from_percent)
    }

    /// Whether it can be set to a percentage.
    #[must_use]
    pub fn takes_percentage(&self, value: Percentage) -> bool {
        (self.percentage_min..=self.percentage_max).contains(&value)
            && self.nearest_percentage(value) == value
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

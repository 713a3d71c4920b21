//! The water windows of a site, and which of them holds for a zone.

use super::Zone;
use crate::controller::windows::Windows;
use crate::quantity::time::Hours;
use jiff::civil::Date;

/// When watering may run at a site.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WaterWindows {
    /// The night's.
    pub main: Hours,
    /// Another in which it may run as well.
    pub second: Option<Hours>,
    /// The one of zones that grow in, instead: young roots are watered by day and often.
    pub grow_in: Option<Hours>,
}

impl WaterWindows {
    /// One window and no other.
    #[must_use]
    pub fn only(main: Hours) -> Self {
        Self { main, second: None, grow_in: None }
    }

    /// The windows of a zone on a date: that of its grow-in, else its own, else the site's.
    #[must_use]
    pub fn of(&self, zone: &Zone, date: Date) -> Windows {
        let grows_in = zone.planting.grow_in.is_some_and(|g| g.holds(date));
        let instead = self.grow_in.filter(|_| grows_in).or(zone.window);
        instead.map_or_else(|| self.of_site(), |hours| Windows::new(self.main, hours, None))
    }

    /// The windows of what has none of its own.
    #[must_use]
    pub fn of_site(&self) -> Windows {
        Windows::new(self.main, self.main, self.second)
    }
}

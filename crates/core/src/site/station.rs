//! The name of a station: a controller of the site and the number on it.

use std::fmt;

/// A station of a controller. Ordered by controller, then by number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct StationId {
    /// Number of the controller at the site.
    pub controller: u8,
    /// Number of the station on it.
    pub station: u16,
}

impl StationId {
    /// A station by its two numbers.
    #[must_use]
    pub const fn new(controller: u8, station: u16) -> Self {
        Self { controller, station }
    }
}

/// "2-11": as files name it where a site has several controllers.
impl fmt::Display for StationId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}", self.controller, self.station)
    }
}

#[cfg(test)]
mod tests {
    use super::StationId;

    #[test]
    fn stations_are_in_the_order_of_their_controllers() {
        let mut all = [StationId::new(2, 1), StationId::new(1, 12), StationId::new(1, 3)];
        all.sort_unstable();
        assert_eq!(all.map(|id| id.to_string()), ["1-3", "1-12", "2-1"]);
    }
}

//! The order in which sites are driven to in a day. The search is a solver of vehicle routing (`vrp-core`: ruin and recreate);
//! here its question is put in the words of the trade and its answer is read back. Nothing here knows a clock or a database.

mod legs;
mod polish;
mod solve;

pub use legs::{Legs, Pace};
pub use solve::{plan, timed};

/// Somewhere on the globe.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Spot {
    /// Latitude, degrees, north positive.
    pub latitude_deg: f64,
    /// Longitude, degrees, east positive.
    pub longitude_deg: f64,
}

/// A site to be visited.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stop {
    /// Minutes of work on site.
    pub on_site_min: f64,
    /// When work must begin, minutes after midnight, both included; `None`: whenever.
    pub appointment: Option<Window>,
}

/// A stretch of a day.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Window {
    /// Minutes after midnight.
    pub from_min: f64,
    /// Minutes after midnight, not before `from_min`.
    pub until_min: f64,
}

/// Somebody who drives.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Driver {
    /// Place of the start among the places of the legs; `None`: at the first stop.
    pub start: Option<usize>,
    /// Place of the end; `None`: at the last stop.
    pub end: Option<usize>,
    /// From when to when.
    pub hours: Window,
}

/// A day's question. Places of the legs come in this order: the stops, then starts and ends.
#[derive(Debug, Clone, PartialEq)]
pub struct Question {
    /// The sites.
    pub stops: Vec<Stop>,
    /// Who drives; at least one.
    pub drivers: Vec<Driver>,
    /// What lies between.
    pub legs: Legs,
}

/// The answer.
#[derive(Debug, Clone, PartialEq)]
pub struct Plan {
    /// A route for each driver, in their order; without stops where somebody stays.
    pub routes: Vec<Route>,
    /// Stops that found no place in anybody's hours.
    pub left_out: Vec<usize>,
}

impl Plan {
    /// For each driver the stops in order: what [`timed`] makes the same day of.
    #[must_use]
    pub fn orders(&self) -> Vec<Vec<usize>> {
        self.routes.iter().map(|route| route.visits.iter().map(|visit| visit.stop).collect()).collect()
    }

    /// Minutes on the road, all drivers together.
    #[must_use]
    pub fn driving_min(&self) -> f64 {
        self.routes.iter().map(Route::driving_min).sum()
    }
}

/// The day of a driver.
#[derive(Debug, Clone, PartialEq)]
pub struct Route {
    /// When the driver leaves the start, minutes after midnight: as late as makes nobody wait.
    pub leaves_min: f64,
    /// The stops in order.
    pub visits: Vec<Visit>,
    /// Drive from the last stop to the end.
    pub home: Drive,
    /// When the driver is at the end, minutes after midnight.
    pub ends_min: f64,
}

impl Route {
    /// Minutes on the road.
    #[must_use]
    pub fn driving_min(&self) -> f64 {
        self.visits.iter().map(|visit| visit.drive.minutes).sum::<f64>() + self.home.minutes
    }

    /// Kilometres.
    #[must_use]
    pub fn km(&self) -> f64 {
        self.visits.iter().map(|visit| visit.drive.km).sum::<f64>() + self.home.km
    }
}

/// A stop of a route. Times are minutes after midnight.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Visit {
    /// Which stop.
    pub stop: usize,
    /// The drive that leads to it.
    pub drive: Drive,
    /// When the driver is there.
    pub arrives_min: f64,
    /// When work begins: an appointment may lie later.
    pub begins_min: f64,
    /// When work ends.
    pub leaves_min: f64,
}

/// From one place to the next.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Drive {
    /// Kilometres.
    pub km: f64,
    /// Minutes.
    pub minutes: f64,
}

/// Why there is no answer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unsolved {
    /// Nobody drives.
    #[error("nobody drives")]
    NoDriver,
    /// A number of the question is not one.
    #[error("a time or a length of the question is not a number")]
    NotANumber,
    /// The solver refused the question.
    #[error("the search failed: {0}")]
    Search(String),
}

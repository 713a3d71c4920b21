//! What to do: tonight, about a controller's settings, about percentages and about sensors. Rooms of advice
//! do not import each other; what two of them share stands here or further down.

pub mod budget;
pub mod findings;
pub mod planner;
pub mod rain_replay;
pub mod sensor_choice;
pub mod tonight;

/// How many faults and warnings the checks find.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct FaultCount {
    /// Faults.
    pub faults: usize,
    /// Warnings.
    pub warnings: usize,
}

impl FaultCount {
    /// Whether there are neither more faults nor more of both together.
    #[must_use]
    pub fn no_worse_than(self, before: Self) -> bool {
        self.faults <= before.faults && self.faults + self.warnings <= before.faults + before.warnings
    }
}

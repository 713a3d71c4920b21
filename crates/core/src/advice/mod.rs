//! What to do: tonight, about a box's settings, about percentages and about sensors. Rooms of advice
//! do not import each other; what two of them share stands further down.

pub mod budget;
pub mod findings;
pub mod planner;
pub mod rain_replay;
pub mod sensor_choice;
pub mod tonight;

//! Schools of watering in words.

use upland_core::advice::planner::Strategy;

/// A strategy by its name, and what it means.
pub(crate) fn strategy(strategy: Strategy) -> (&'static str, &'static str) {
    match strategy {
        Strategy::JustNeed => {
            ("Minimum days", "The fewest allowed days that keep every zone above its refill point.")
        }
        Strategy::SoilBalance => (
            "Soil balance",
            "Each zone when its root zone reaches the refill point; the minutes are the controller's fallback.",
        ),
        Strategy::EveryDay => {
            ("Daily with soil sensor", "Every allowed day; a soil-moisture sensor skips what is not needed.")
        }
        Strategy::DeepTwice => {
            ("Deep, twice a week", "Half of 25 mm twice a week, less where plants use less.")
        }
        Strategy::DeepOnce => ("Deep, once a week", "25 mm once a week, less where plants use less."),
    }
}

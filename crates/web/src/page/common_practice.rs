//! What is common practice for sensors, in the units of a site and in the steps in which the trade writes them.

use upland_core::site::UnitSystem;

/// Thresholds of sensors.
pub(crate) struct CommonThresholds {
    pub rain: &'static str,
    pub freeze: &'static str,
    pub wind: &'static str,
}

/// Common practice of rain, freeze and wind sensors in the units of a site.
pub(crate) const fn common_thresholds(units: UnitSystem) -> CommonThresholds {
    match units {
        UnitSystem::Metric => CommonThresholds { rain: "12 mm", freeze: "3 °C", wind: "5.4 m/s" },
        UnitSystem::UsCustomary => CommonThresholds { rain: "1/2 in", freeze: "37 °F", wind: "12 mph" },
    }
}

/// Common practice as the help of the fields of thresholds: rain, freeze and wind.
pub(crate) const fn common_practice(units: UnitSystem) -> [&'static str; 3] {
    match units {
        UnitSystem::Metric => [
            "Small steps save more and prevent summer watering after a drizzle; about 12 mm is common practice.",
            "About 3 °C is common practice.",
            "Above about 5.4 m/s spray drifts.",
        ],
        UnitSystem::UsCustomary => [
            "Small steps save more and prevent summer watering after a drizzle; about 1/2 in is common practice.",
            "About 37 °F is common practice.",
            "Above about 12 mph spray drifts.",
        ],
    }
}

//! What devices post, and what they are told.

use super::jiff_schema::Instant;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// One reading.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PostedReading {
    /// What was read, with its unit: `rain_mm` (since the reading before), `temperature_c`, `humidity_pct`,
    /// `solar_w_m2`, `wind_m_s` (at 2 m), `soil_pct` (by volume), `flow_l_min`, `et_mm` (of the day that ends),
    /// `contact` (1 prevents watering, 0 allows it), `battery_pct`.
    #[schemars(example = &"soil_pct")]
    pub channel: String,
    /// When, RFC 3339 with offset.
    #[schemars(with = "Instant", example = &"2026-07-14T18:00:00Z")]
    pub at: String,
    /// How much.
    #[schemars(example = 31.5)]
    pub value: f64,
}

/// Readings of one device, in any order.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Post {
    /// At most 5 000.
    #[schemars(length(min = 1, max = 5000))]
    pub readings: Vec<PostedReading>,
    /// What the device's own clock says now; a clock that is off is flagged.
    #[serde(default)]
    #[schemars(with = "Option<Instant>")]
    pub device_time: Option<String>,
}

/// A reading that was not taken.
#[derive(Debug, Serialize, JsonSchema, PartialEq, Eq)]
pub struct RefusedReading {
    /// Its place in the post, from 0.
    pub index: usize,
    /// Why not.
    pub reason: String,
}

/// What became of a post.
#[derive(Debug, Serialize, JsonSchema, PartialEq, Eq)]
pub struct Taken {
    /// New and stored.
    pub taken: usize,
    /// Known already; nothing was doubled.
    pub repeated: usize,
    /// Not stored, each with its reason.
    pub refused: Vec<RefusedReading>,
    /// What the device or its owner should look at.
    pub warnings: Vec<String>,
}

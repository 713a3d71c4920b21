//! The sites of a person as the round has them.

use super::jiff_schema::{Day, Instant};
use jiff::Timestamp;
use jiff::civil::Date;
use schemars::JsonSchema;
use serde::Serialize;

/// Sites in the order of their numbers.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Sites {
    /// At most as many as were asked for.
    pub sites: Vec<Site>,
    /// Ask again with `after` set to this for those that follow; missing on the last page.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<i64>,
}

/// A site, and how it stood when its round was last worked out.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Site {
    /// Its number, for addresses.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// Customer, of its card.
    pub customer: String,
    /// Town or quarter, of its card.
    pub locality: String,
    /// Tags, of its card.
    pub tags: Vec<String>,
    /// Who looks after it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub assigned_to: Option<String>,
    /// How many controllers it has.
    pub controllers: i64,
    /// The round; missing until the first was worked out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub round: Option<SiteRound>,
}

/// What the round of a site came to.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SiteRound {
    /// When it was worked out, by the clock of the almanac.
    #[schemars(with = "Instant")]
    pub at: Timestamp,
    /// How each zone should look by its account, in the order of stations.
    pub zones: Vec<Look>,
    /// Rain of the last days, the newest last; null where a day has none recorded.
    pub rain_mm: Vec<Option<f64>>,
    /// The day of the last of them.
    #[schemars(with = "Option<Day>")]
    pub day: Option<Date>,
    /// What needs attention and is not put off.
    pub notices: NoticeCounts,
    /// How far the percentage that is most off stands from the advised one, points; null where no controller has one.
    pub percentage_off: Option<i32>,
    /// Sensors that are not heard.
    pub silent_sensors: i32,
    /// When somebody was last there.
    #[schemars(with = "Option<Day>")]
    pub last_visit: Option<Date>,
    /// When somebody wants to look again.
    #[schemars(with = "Option<Day>")]
    pub look_again: Option<Date>,
    /// The last day of a weather record that ended a while ago: the round is about that evening.
    #[schemars(with = "Option<Day>")]
    pub record_ended: Option<Date>,
}

/// How a zone should look.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Look {
    /// Short of water.
    Dry,
    /// As it should.
    Right,
    /// Wetter than it should be.
    Wet,
}

/// Notices by weight.
#[derive(Debug, Serialize, JsonSchema)]
pub struct NoticeCounts {
    /// Something is broken or does harm.
    pub faults: i64,
    /// Something is likely wrong.
    pub warnings: i64,
    /// Something is to be done.
    pub tasks: i64,
}

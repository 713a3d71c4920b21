//! The weekly list and the notices over all sites of a person.

use super::jiff_schema::{Day, Instant};
use jiff::Timestamp;
use jiff::civil::Date;
use schemars::JsonSchema;
use serde::Serialize;

/// Percentages over all sites, those to change first; page after page by `from`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct WeeklyList {
    /// At most as many as were asked for.
    pub percentages: Vec<WeekPercentage>,
    /// Ask again with `from` set to this for those that follow; missing on the last page.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<i64>,
}

/// A percentage of a controller, or of one of its programs.
#[derive(Debug, Serialize, JsonSchema)]
pub struct WeekPercentage {
    /// Number of the site.
    pub site: i64,
    /// Its name.
    pub site_name: String,
    /// Number of the controller.
    pub controller: u8,
    /// Where that is installed.
    pub place: String,
    /// The program; missing where the whole controller has one percentage.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub program: Option<String>,
    /// What it stands at, percent.
    pub set_percent: u16,
    /// What the week asks for, percent; null where nothing needs water.
    pub advised_percent: Option<u16>,
    /// Why, in words.
    pub because: String,
    /// The day before which the week ends.
    #[schemars(with = "Day")]
    pub week_ends: Date,
    /// The last day of a weather record that ended a while ago: the advice is about that evening.
    #[schemars(with = "Option<Day>")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub record_ended: Option<Date>,
}

/// What needs attention over all sites, the gravest first; page after page by `from`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Notices {
    /// At most as many as were asked for.
    pub notices: Vec<Notice>,
    /// Ask again with `from` set to this for those that follow; missing on the last page.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<i64>,
}

/// A notice.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Notice {
    /// Number of the site.
    pub site: i64,
    /// Its name.
    pub site_name: String,
    /// What it is about: `night`, `finding`, `percentage`, `upkeep`, `sensor` or `weather`.
    pub kind: String,
    /// What tells it from others of its kind at the site.
    pub about: String,
    /// How much it weighs.
    pub weight: Weight,
    /// What it says.
    pub words: String,
    /// The page where it is corrected, without the host.
    pub page: String,
    /// Since when it stands.
    #[schemars(with = "Instant")]
    pub since: Timestamp,
}

/// How much a notice weighs.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Weight {
    /// Something is broken or does harm.
    Fault,
    /// Something is likely wrong.
    Warning,
    /// Something is to be done.
    Task,
}

//! Open formats in and out. Each reader returns every problem at once, by line or path, and
//! nothing half-read: a file is taken whole or refused.

pub mod account_csv;
pub mod api;
pub mod balance_csv;
pub mod budget_file;
pub mod card_file;
pub mod catch_file;
pub mod daily_csv;
pub mod hourly_csv;
mod json;
pub mod log_file;
mod names;
pub mod night_csv;
pub mod normals;
pub mod ordinance_file;
pub mod plan_geojson;
pub mod plan_json;
pub mod plan_lines;
pub mod planting;
pub mod raw_csv;
pub mod route_files;
pub mod rows_csv;
pub mod runs_csv;
pub mod runs_ics;
pub mod sensor_file;
pub mod settings_file;
pub mod site_card;
mod site_facts;
pub mod site_file;
mod table;
pub mod trial_file;
pub mod trial_json;
pub mod typed;
pub mod visit_file;
pub mod way_file;
pub mod weather_file;
mod zone_dto;

pub use json::{MAX_NAME, PathProblem, clock_time};
pub use table::{Column, Problem};

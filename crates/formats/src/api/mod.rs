//! What the interface for devices and other software says and hears, as JSON. Every length of water is in millimetres,
//! every instant RFC 3339; a name of a list is one of the codes that files use too.

pub mod account;
pub mod lists;
pub mod night;
pub mod readings;
pub mod sites;

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::Serialize;

/// Why a request was not answered.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Problem {
    /// What was wrong, and what to do.
    pub error: String,
}

/// What the clock of the almanac shows.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Time {
    /// An instant, to the minute; a device without a clock of its own may set itself by it.
    #[schemars(with = "jiff_schema::Instant")]
    pub now: jiff::Timestamp,
}

/// A number to the thousandth: a micrometre of water is more than anybody measures.
pub(crate) fn thousandth(value: f64) -> f64 {
    let rounded = (value * 1000.0).round() / 1000.0;
    // Minus nought is nought.
    rounded + 0.0
}

/// Schemas of instants and dates, which the library of dates does not bring.
pub(crate) mod jiff_schema {
    use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
    use std::borrow::Cow;

    macro_rules! text {
        ($(#[$doc:meta] $name:ident $format:literal $about:literal)*) => {$(
            #[$doc]
            pub(crate) struct $name;

            impl JsonSchema for $name {
                fn schema_name() -> Cow<'static, str> {
                    stringify!($name).into()
                }

                fn inline_schema() -> bool {
                    true
                }

                fn json_schema(_: &mut SchemaGenerator) -> Schema {
                    json_schema!({ "type": "string", "format": $format, "description": $about })
                }
            }
        )*};
    }

    text! {
        /// An instant.
        Instant "date-time" "RFC 3339"
        /// A day.
        Day "date" "a day of the wall clock at the site"
    }
}

/// The schema of a site file.
pub fn site_file(generator: &mut SchemaGenerator) -> Schema {
    crate::site_file::schema_in(generator)
}

/// The schema of a settings file.
pub fn settings_file(generator: &mut SchemaGenerator) -> Schema {
    crate::settings_file::schema_in(generator)
}

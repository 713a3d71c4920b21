//! What the JSON formats share: problems by path, a parser with limits, and a collector that takes
//! values over and remembers what is wrong with them.

use jiff::civil::{Date, Time};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::borrow::Cow;
use upland_core::codes::Coded;
use upland_core::controller::schedule::YearSpan;
use upland_core::quantity::bounds::Bound;

/// Longest accepted name, characters.
pub const MAX_NAME: usize = 120;

/// A problem of a file, at its path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PathProblem {
    /// Where, such as `zones[2].soil`; empty for the whole file.
    pub path: String,
    /// What is wrong and what to do.
    pub message: String,
}

impl core::fmt::Display for PathProblem {
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        if self.path.is_empty() {
            f.write_str(&self.message)
        } else {
            write!(f, "{}: {}", self.path, self.message)
        }
    }
}

/// A wall-clock time written HH:MM.
#[must_use]
pub fn clock_time(text: &str) -> Option<Time> {
    (text.len() == 5).then(|| Time::strptime("%H:%M", text).ok()).flatten()
}

pub(crate) fn hhmm(time: Time) -> String {
    time.strftime("%H:%M").to_string()
}

/// Parses a JSON file of a limited size, with the path of the first problem.
pub(crate) fn parse<T: serde::de::DeserializeOwned>(
    bytes: &[u8],
    most: usize,
) -> Result<T, Vec<PathProblem>> {
    let whole = |message: String| vec![PathProblem { path: String::new(), message }];
    if bytes.len() > most {
        return Err(whole(format!("the file is larger than {} kB; such a file has a few kB", most / 1024)));
    }
    let mut deserializer = serde_json::Deserializer::from_slice(bytes);
    let dto = serde_path_to_error::deserialize(&mut deserializer).map_err(|error| {
        let path = error.path().to_string();
        let path = if path == "." { String::new() } else { path };
        vec![PathProblem { path, message: error.inner().to_string() }]
    })?;
    deserializer.end().map_err(|error| whole(format!("there is text behind the end: {error}")))?;
    Ok(dto)
}

pub(crate) fn schema_of<T: JsonSchema>() -> String {
    serde_json::to_string_pretty(&schemars::schema_for!(T)).unwrap_or_default() + "\n"
}

pub(crate) fn pretty<T: Serialize>(value: &T) -> String {
    serde_json::to_string_pretty(value).unwrap_or_default() + "\n"
}

/// The schemas of the two fields that say what a file is, from its `FORMAT` and `VERSION`.
macro_rules! head_schemas {
    () => {
        fn format_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
            schemars::json_schema!({ "const": FORMAT })
        }

        fn version_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
            schemars::json_schema!({ "const": VERSION })
        }
    };
}
pub(crate) use head_schemas;

/// The schema of a field that takes one short name of a list.
pub(crate) fn code_schema<T: Coded>(_: &mut SchemaGenerator) -> Schema {
    let codes: Vec<&str> = T::TABLE.iter().map(|(_, code)| *code).collect();
    json_schema!({ "type": "string", "enum": codes })
}

/// A value out of a fixed list, written by its short name.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Code<T>(pub T);

impl<T: Coded> Serialize for Code<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.0.code())
    }
}

impl<'de, T: Coded> Deserialize<'de> for Code<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let code = Cow::<'_, str>::deserialize(deserializer)?;
        T::from_code(&code).map(Self).ok_or_else(|| {
            let known: Vec<&str> = T::TABLE.iter().map(|(_, code)| *code).collect();
            D::Error::custom(format!("\"{code}\" is not one of {}", known.join(", ")))
        })
    }
}

impl<T: Coded> JsonSchema for Code<T> {
    fn inline_schema() -> bool {
        true
    }
    fn schema_name() -> Cow<'static, str> {
        "Code".into()
    }
    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        code_schema::<T>(generator)
    }
}

#[derive(Debug, Serialize, Deserialize, JsonSchema, Clone, Copy, PartialEq)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "Weekday")]
pub(crate) enum WeekdayDto {
    Monday,
    Tuesday,
    Wednesday,
    Thursday,
    Friday,
    Saturday,
    Sunday,
}

const WEEK: [WeekdayDto; 7] = [
    WeekdayDto::Monday,
    WeekdayDto::Tuesday,
    WeekdayDto::Wednesday,
    WeekdayDto::Thursday,
    WeekdayDto::Friday,
    WeekdayDto::Saturday,
    WeekdayDto::Sunday,
];

pub(crate) fn week_of(days: &[bool; 7]) -> Vec<WeekdayDto> {
    WEEK.into_iter().zip(days).filter(|(_, on)| **on).map(|(day, _)| day).collect()
}

pub(crate) fn days_of(week: &[WeekdayDto]) -> [bool; 7] {
    WEEK.map(|day| week.contains(&day))
}

#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Hours")]
pub(crate) struct HoursDto {
    /// HH:MM by the wall clock; may be later than `until` when the hours cross midnight.
    pub from: String,
    /// HH:MM, exclusive.
    pub until: String,
}

#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "YearSpan")]
pub(crate) struct YearSpanDto {
    /// MM-DD, included.
    pub from: String,
    /// MM-DD, included.
    pub until: String,
}

impl From<YearSpan> for YearSpanDto {
    fn from(span: YearSpan) -> Self {
        let text = |(month, day): (i8, i8)| format!("{month:02}-{day:02}");
        Self { from: text(span.from), until: text(span.until) }
    }
}

/// Collects problems while values are taken over.
#[derive(Default)]
pub(crate) struct Checker {
    pub problems: Vec<PathProblem>,
}

impl Checker {
    pub fn say(&mut self, path: &str, message: impl Into<String>) {
        self.problems.push(PathProblem { path: path.to_owned(), message: message.into() });
    }

    /// The format's name and version, which every file begins with.
    pub fn header(&mut self, format: (&str, &str), version: (u32, u32)) {
        if format.0 != format.1 {
            self.say("format", format!("\"{}\" is not \"{}\"", format.0, format.1));
        }
        if version.0 != version.1 {
            self.say(
                "version",
                format!("{} is not supported; this program reads version {}", version.0, version.1),
            );
        }
    }

    pub fn bounded(&mut self, path: &str, bound: &Bound, value: f64) -> f64 {
        if let Err(error) = bound.check(value) {
            self.say(path, format!("{value} is refused. {error}"));
        }
        value
    }

    pub fn optional(&mut self, path: &str, bound: &Bound, value: Option<f64>) -> Option<f64> {
        value.map(|value| self.bounded(path, bound, value))
    }

    pub fn name(&mut self, path: &str, name: &str) -> String {
        let name = name.trim();
        if name.is_empty() {
            self.say(path, "is empty; give it a name");
        } else if name.chars().count() > MAX_NAME {
            self.say(path, format!("is longer than {MAX_NAME} characters"));
        } else if name.chars().any(char::is_control) {
            self.say(path, "has control characters");
        }
        name.to_owned()
    }

    pub fn code<T: Coded>(&mut self, path: &str, code: &str) -> Option<T> {
        let found = T::from_code(code);
        if found.is_none() {
            let known: Vec<&str> = T::TABLE.iter().map(|(_, code)| *code).collect();
            self.say(path, format!("\"{code}\" is not one of {}", known.join(", ")));
        }
        found
    }

    pub fn time(&mut self, path: &str, text: &str) -> Time {
        clock_time(text).unwrap_or_else(|| {
            self.say(path, format!("\"{text}\" is not a time of day written HH:MM"));
            Time::midnight()
        })
    }

    pub fn date(&mut self, path: &str, text: &str) -> Date {
        crate::table::date(text).unwrap_or_else(|message| {
            self.say(path, message);
            Date::ZERO
        })
    }

    pub fn year_span(&mut self, path: &str, dto: &YearSpanDto) -> YearSpan {
        let mut day = |field: &str, text: &str| {
            // 2000 has a 29 February.
            match crate::table::date(&format!("2000-{text}")) {
                Ok(date) => (date.month(), date.day()),
                Err(_) => {
                    self.say(
                        &format!("{path}.{field}"),
                        format!("\"{text}\" is not a month and day written MM-DD"),
                    );
                    (1, 1)
                }
            }
        };
        YearSpan { from: day("from", &dto.from), until: day("until", &dto.until) }
    }

    pub fn count(&mut self, path: &str, value: u32, max: u32) {
        if value == 0 || value > max {
            self.say(path, format!("{value} is outside 1 to {max}"));
        }
    }

    /// The value when nothing was wrong, everything that was wrong otherwise.
    pub fn finish<T>(self, value: T) -> Result<T, Vec<PathProblem>> {
        if self.problems.is_empty() { Ok(value) } else { Err(self.problems) }
    }
}

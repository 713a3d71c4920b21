//! What the JSON formats share: problems by path, a parser with limits, and a collector that takes
//! values over and remembers what is wrong with them.

use jiff::Timestamp;
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::borrow::Cow;
use upland_core::codes::Coded;
use upland_core::controller::schedule::YearSpan;
use upland_core::quantity::bounds::Bound;
use upland_core::quantity::time::Hours;

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
    let digits =
        text.bytes().enumerate().all(|(i, byte)| if i == 2 { byte == b':' } else { byte.is_ascii_digit() });
    (text.len() == 5 && digits).then(|| Time::strptime("%H:%M", text).ok()).flatten()
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

impl From<Hours> for HoursDto {
    fn from(hours: Hours) -> Self {
        Self { from: hhmm(hours.from), until: hhmm(hours.until) }
    }
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
    /// Hours of a day.
    pub fn hours(&mut self, at: &str, hours: &HoursDto) -> Hours {
        Hours {
            from: self.time(&format!("{at}.from"), &hours.from),
            until: self.time(&format!("{at}.until"), &hours.until),
        }
    }

    /// Hours of some length.
    pub fn window(&mut self, at: &str, hours: &HoursDto) -> Hours {
        let before = self.problems.len();
        let window = self.hours(at, hours);
        if self.problems.len() == before && window.from == window.until {
            self.say(at, "begins and ends at the same minute; it needs a length");
        }
        window
    }

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

    /// An instant in the years of weather records: what follows one by hours is still an instant.
    pub fn instant(&mut self, path: &str, text: &str) -> Timestamp {
        let read = text.parse::<Timestamp>().ok();
        let recent = read.filter(|at| crate::table::is_recent(at.to_zoned(TimeZone::UTC).date()));
        recent.unwrap_or_else(|| {
            self.say(
                path,
                match read {
                    None => format!("\"{text}\" is not an instant such as 2026-07-14T02:00:00+02:00"),
                    Some(_) => format!("\"{text}\" lies outside the years 1800 to 2200"),
                },
            );
            Timestamp::UNIX_EPOCH
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

#[cfg(test)]
mod tests {
    use super::{Checker, MAX_NAME, YearSpanDto, clock_time, days_of, hhmm, parse, week_of};
    use serde::Deserialize;
    use upland_core::ground::soil::Texture;

    #[derive(Deserialize, Debug)]
    struct Bed {
        plants: Vec<Plant>,
    }

    #[derive(Deserialize, Debug)]
    struct Plant {
        height_m: f64,
    }

    fn refusal(text: &str, most: usize) -> (String, String) {
        let problem = parse::<Bed>(text.as_bytes(), most).expect_err("refused").remove(0);
        (problem.path, problem.message)
    }

    #[test]
    fn a_problem_is_told_at_its_path_and_a_whole_file_without_one() {
        let good = parse::<Bed>(br#"{"plants":[{"height_m":0.4}]}"#, 1024).expect("readable");
        assert!((good.plants[0].height_m - 0.4).abs() < f64::EPSILON);
        let (path, message) = refusal(r#"{"plants":[{"height_m":1},{"height_m":"tall"}]}"#, 1024);
        assert_eq!(path, "plants[1].height_m");
        assert!(message.contains("tall"), "{message}");
        assert_eq!(refusal("[", 1024).0, "", "the whole file has no path");
        let (path, message) = refusal(r#"{"plants":[]} and more"#, 1024);
        assert!(path.is_empty() && message.contains("behind the end"), "{message}");
        let (_, message) = refusal(&" ".repeat(2049), 2048);
        assert!(message.contains("larger than 2 kB"), "{message}");
    }

    #[test]
    fn a_time_of_day_is_hours_and_minutes_and_nothing_else() {
        for text in ["00:00", "04:05", "23:59"] {
            assert_eq!(clock_time(text).map(hhmm).as_deref(), Some(text));
        }
        for text in ["24:00", "4:05", "04:60", "04:05:00", " 4:05", "", "noon!"] {
            assert_eq!(clock_time(text), None, "{text:?}");
        }
    }

    #[test]
    fn any_choice_of_weekdays_comes_back_as_written() {
        for bits in 0_u8..128 {
            let days = core::array::from_fn(|day| bits >> day & 1 == 1);
            let written = week_of(&days);
            assert_eq!(written.len(), bits.count_ones() as usize);
            assert_eq!(days_of(&written), days);
        }
    }

    #[test]
    fn everything_that_is_wrong_is_collected_before_a_file_is_refused() {
        let mut checker = Checker::default();
        checker.header(("lake", "site"), (2, 1));
        checker.name("name", "  ");
        checker.name("owner", &"x".repeat(MAX_NAME + 1));
        checker.name("note", "a\u{7}b");
        assert_eq!(checker.code::<Texture>("soil", "mud"), None);
        assert_eq!(checker.time("at", "25:00"), jiff::civil::Time::midnight());
        checker.date("on", "yesterday");
        let span = YearSpanDto { from: "02-29".to_owned(), until: "13-01".to_owned() };
        assert_eq!(checker.year_span("season", &span).from, (2, 29), "a leap day is a day of some year");
        checker.count("stations", 0, 8);
        checker.count("programs", 9, 8);
        checker.count("starts", 8, 8);
        let problems = checker.finish(()).expect_err("refused");
        let places: Vec<&str> = problems.iter().map(|problem| problem.path.as_str()).collect();
        assert_eq!(
            places,
            [
                "format",
                "version",
                "name",
                "owner",
                "note",
                "soil",
                "at",
                "on",
                "season.until",
                "stations",
                "programs"
            ]
        );
        assert!(Checker::default().finish(7).is_ok_and(|value| value == 7));
    }

    #[test]
    fn a_name_is_kept_without_the_blanks_around_it() {
        let mut checker = Checker::default();
        assert_eq!(checker.name("name", " Heather terrace "), "Heather terrace");
        let longest = "ä".repeat(MAX_NAME);
        assert_eq!(checker.name("name", &longest), longest, "letters are counted, not bytes");
        assert!(checker.problems.is_empty());
    }
}

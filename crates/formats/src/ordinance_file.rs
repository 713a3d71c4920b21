//! A watering ordinance as a JSON file. Versioned; its JSON Schema is published as
//! `docs/ordinance-v1.schema.json`.

use crate::json::{
    Checker, Code, HoursDto, PathProblem, WeekdayDto, YearSpanDto, days_of, parse, pretty, schema_of, week_of,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use upland_core::controller::ordinance::{
    AfterRain, AllowedDays, Applied, HouseNumber, Ordinance, Permit, Rule,
};
use upland_core::ground::application::HeadType;
use upland_core::quantity::units::Millimetres;

/// The value of `format` in every such file.
pub const FORMAT: &str = "upland-almanac-ordinance";
/// The version this module reads and writes.
pub const VERSION: u32 = 1;
/// Largest accepted file, bytes.
pub const MAX_BYTES: usize = 64 * 1024;

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "Upland Almanac ordinance", description = "A watering ordinance, version 1.")]
struct FileDto {
    #[schemars(schema_with = "format_schema")]
    format: String,
    #[schemars(schema_with = "version_schema")]
    version: u32,
    ordinance: OrdinanceDto,
}

crate::json::head_schemas!();

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Ordinance")]
pub(crate) struct OrdinanceDto {
    name: String,
    rules: Vec<RuleDto>,
    /// The same as `exempt_heads` with drip in it; read from older files and never written.
    #[serde(default, skip_serializing)]
    exempts_drip: bool,
    /// Kinds of head that are free of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    exempt_heads: Vec<Code<HeadType>>,
    /// Exempt heads are free of all but its hours.
    #[serde(default)]
    hours_bind_exempt_heads: bool,
    #[serde(default)]
    exempts_new_planting: bool,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Rule")]
struct RuleDto {
    /// When it holds; all year when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    season: Option<YearSpanDto>,
    days: AllowedDaysDto,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    forbidden_hours: Vec<HoursDto>,
    /// Monday to Sunday, for each zone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    most_days_a_week: Option<u8>,
    /// Of a date, for each zone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    most_minutes_a_day: Option<u16>,
    /// Not for some hours after rain.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    after_rain: Option<AfterRainDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "AfterRain")]
struct AfterRainDto {
    hours: u16,
    /// The least rain of a day that counts, mm.
    least_mm: f64,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[schemars(rename = "AllowedDays")]
enum AllowedDaysDto {
    Any,
    /// By house number.
    Weekdays {
        odd: Vec<WeekdayDto>,
        even: Vec<WeekdayDto>,
    },
    /// By the last digit of the house number: the weekdays of each digit, 0 to 9.
    WeekdaysByDigit(Vec<Vec<WeekdayDto>>),
    /// Odd houses on odd dates, even houses on even dates.
    DatesOfHouseNumber,
    OddDates,
    EvenDates,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "AppliedOrdinance")]
pub(crate) struct AppliedDto {
    ordinance: OrdinanceDto,
    house_number: Code<HouseNumber>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    permits: Vec<PermitDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Permit")]
pub(crate) struct PermitDto {
    /// Number of the controller at the site.
    #[serde(default = "first_controller")]
    controller: u8,
    station: u16,
    /// YYYY-MM-DD, included; without it, it holds already.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    from: Option<String>,
    /// YYYY-MM-DD, included.
    until: String,
    #[serde(default)]
    reference: String,
}

fn first_controller() -> u8 {
    1
}

impl From<&Ordinance> for OrdinanceDto {
    fn from(ordinance: &Ordinance) -> Self {
        Self {
            name: ordinance.name.clone(),
            rules: ordinance
                .rules
                .iter()
                .map(|rule| RuleDto {
                    season: rule.season.map(Into::into),
                    days: match rule.days {
                        AllowedDays::Any => AllowedDaysDto::Any,
                        AllowedDays::Weekdays { odd, even } => {
                            AllowedDaysDto::Weekdays { odd: week_of(&odd), even: week_of(&even) }
                        }
                        AllowedDays::WeekdaysByDigit(weeks) => {
                            AllowedDaysDto::WeekdaysByDigit(weeks.iter().map(week_of).collect())
                        }
                        AllowedDays::DatesOfHouseNumber => AllowedDaysDto::DatesOfHouseNumber,
                        AllowedDays::OddDates => AllowedDaysDto::OddDates,
                        AllowedDays::EvenDates => AllowedDaysDto::EvenDates,
                    },
                    forbidden_hours: rule.forbidden_hours.iter().map(|hours| (*hours).into()).collect(),
                    most_days_a_week: rule.most_days_a_week,
                    most_minutes_a_day: rule.most_minutes_a_day,
                    after_rain: rule
                        .after_rain
                        .map(|after| AfterRainDto { hours: after.hours, least_mm: after.least.mm() }),
                })
                .collect(),
            exempts_drip: false,
            exempt_heads: ordinance.exempt_heads.iter().copied().map(Code).collect(),
            hours_bind_exempt_heads: ordinance.hours_bind_exempt_heads,
            exempts_new_planting: ordinance.exempts_new_planting,
        }
    }
}

impl From<&Applied> for AppliedDto {
    fn from(applied: &Applied) -> Self {
        Self {
            ordinance: (&applied.ordinance).into(),
            house_number: Code(applied.house),
            permits: applied.permits.iter().map(permit_dto).collect(),
        }
    }
}

fn permit_dto(permit: &Permit) -> PermitDto {
    PermitDto {
        controller: permit.controller_number,
        station: permit.station,
        from: permit.from.map(|from| from.to_string()),
        until: permit.until.to_string(),
        reference: permit.reference.clone(),
    }
}

fn take(taker: &mut Checker, at: &str, dto: &OrdinanceDto) -> Ordinance {
    let rules = dto
        .rules
        .iter()
        .enumerate()
        .map(|(i, rule)| {
            let path = |field: &str| format!("{at}.rules[{i}].{field}");
            Rule {
                season: rule.season.as_ref().map(|span| taker.year_span(&path("season"), span)),
                days: match &rule.days {
                    AllowedDaysDto::Any => AllowedDays::Any,
                    AllowedDaysDto::Weekdays { odd, even } => {
                        AllowedDays::Weekdays { odd: days_of(odd), even: days_of(even) }
                    }
                    AllowedDaysDto::WeekdaysByDigit(weeks) => {
                        if weeks.len() != 10 {
                            taker.say(&path("days"), "give the weekdays of ten digits, 0 to 9");
                        }
                        let week = |digit: usize| weeks.get(digit).map_or([false; 7], |own| days_of(own));
                        AllowedDays::WeekdaysByDigit(core::array::from_fn(week))
                    }
                    AllowedDaysDto::DatesOfHouseNumber => AllowedDays::DatesOfHouseNumber,
                    AllowedDaysDto::OddDates => AllowedDays::OddDates,
                    AllowedDaysDto::EvenDates => AllowedDays::EvenDates,
                },
                forbidden_hours: rule
                    .forbidden_hours
                    .iter()
                    .enumerate()
                    .map(|(k, hours)| taker.hours(&path(&format!("forbidden_hours[{k}]")), hours))
                    .collect(),
                most_days_a_week: rule.most_days_a_week,
                most_minutes_a_day: rule.most_minutes_a_day,
                after_rain: rule.after_rain.as_ref().map(|after| AfterRain {
                    hours: after.hours,
                    least: Millimetres::from_mm(after.least_mm),
                }),
            }
        })
        .collect();
    let ordinance = Ordinance {
        name: dto.name.trim().to_owned(),
        rules,
        exempt_heads: HeadType::ALL
            .into_iter()
            .filter(|head| {
                dto.exempt_heads.iter().any(|Code(own)| own == head)
                    || dto.exempts_drip && *head == HeadType::Drip
            })
            .collect(),
        hours_bind_exempt_heads: dto.hours_bind_exempt_heads,
        exempts_new_planting: dto.exempts_new_planting,
    };
    if taker.problems.is_empty() {
        for fault in ordinance.check() {
            taker.say(&format!("{at}.{}", fault.path), fault.message);
        }
    }
    ordinance
}

pub(crate) fn take_applied(taker: &mut Checker, at: &str, dto: &AppliedDto) -> Applied {
    Applied {
        ordinance: take(taker, &format!("{at}.ordinance"), &dto.ordinance),
        house: dto.house_number.0,
        permits: take_permits(taker, at, &dto.permits),
    }
}

fn take_permits(taker: &mut Checker, at: &str, permits: &[PermitDto]) -> Vec<Permit> {
    permits
        .iter()
        .enumerate()
        .map(|(i, permit)| {
            if permit.reference.chars().count() > crate::json::MAX_NAME {
                taker.say(&format!("{at}.permits[{i}].reference"), "is longer than 120 characters");
            }
            let until = taker.date(&format!("{at}.permits[{i}].until"), &permit.until);
            let path = format!("{at}.permits[{i}].from");
            let from = permit.from.as_ref().map(|from| taker.date(&path, from));
            if from.is_some_and(|from| until != jiff::civil::Date::ZERO && until < from) {
                taker.say(&path, "lies after the permit's last day; it must begin on or before it");
            }
            Permit {
                controller_number: permit.controller,
                station: permit.station,
                from,
                until,
                reference: permit.reference.clone(),
            }
        })
        .collect()
}

/// The JSON Schema of this format.
#[must_use]
pub fn schema() -> String {
    schema_of::<FileDto>()
}

/// Writes an ordinance.
#[must_use]
pub fn write(ordinance: &Ordinance) -> String {
    pretty(&FileDto { format: FORMAT.into(), version: VERSION, ordinance: ordinance.into() })
}

/// Reads an ordinance.
///
/// # Errors
/// Every problem that was found, by path, rules that contradict each other included; on malformed
/// JSON the first one.
pub fn read(bytes: &[u8]) -> Result<Ordinance, Vec<PathProblem>> {
    let dto: FileDto = parse(bytes, MAX_BYTES)?;
    let mut taker = Checker::default();
    taker.header((&dto.format, FORMAT), (dto.version, VERSION));
    let ordinance = take(&mut taker, "ordinance", &dto.ordinance);
    taker.finish(ordinance)
}

/// Permits as they lie in the database.
#[must_use]
pub fn permits_value(permits: &[Permit]) -> serde_json::Value {
    serde_json::to_value(permits.iter().map(permit_dto).collect::<Vec<_>>()).unwrap_or_default()
}

/// Permits from the database.
///
/// # Errors
/// When they are not permits.
pub fn permits_from(value: serde_json::Value) -> Result<Vec<Permit>, Vec<PathProblem>> {
    let dtos: Vec<PermitDto> = serde_json::from_value(value)
        .map_err(|error| vec![PathProblem { path: String::new(), message: error.to_string() }])?;
    let mut taker = Checker::default();
    let permits = take_permits(&mut taker, "", &dtos);
    taker.finish(permits)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::{date, time};
    use upland_core::controller::schedule::YearSpan;
    use upland_core::quantity::time::Hours;

    fn sample() -> Ordinance {
        let week = |days: [usize; 2]| core::array::from_fn(|i| days.contains(&i));
        Ordinance {
            name: "Larkrigg summer watering".into(),
            rules: vec![
                Rule {
                    season: Some(YearSpan { from: (4, 1), until: (10, 31) }),
                    days: AllowedDays::Weekdays { odd: week([2, 6]), even: week([1, 5]) },
                    forbidden_hours: vec![Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) }],
                    most_days_a_week: Some(2),
                    most_minutes_a_day: None,
                    after_rain: None,
                },
                Rule {
                    season: Some(YearSpan { from: (11, 1), until: (3, 31) }),
                    days: AllowedDays::DatesOfHouseNumber,
                    forbidden_hours: Vec::new(),
                    most_days_a_week: Some(1),
                    most_minutes_a_day: Some(60),
                    after_rain: Some(AfterRain { hours: 48, least: Millimetres::from_mm(5.0) }),
                },
            ],
            exempt_heads: vec![HeadType::Drip],
            hours_bind_exempt_heads: false,
            exempts_new_planting: true,
        }
    }

    #[test]
    fn an_ordinance_survives_its_file_and_fits_its_schema() {
        let text = write(&sample());
        assert_eq!(read(text.as_bytes()).unwrap(), sample());
        let schema: serde_json::Value = serde_json::from_str(&schema()).unwrap();
        let validator = jsonschema::validator_for(&schema).unwrap();
        assert!(validator.is_valid(&serde_json::from_str(&text).unwrap()));
        let permit = |from| Permit {
            controller_number: 1,
            station: 3,
            from,
            until: date(2026, 9, 30),
            reference: "P 12".into(),
        };
        let permits = vec![permit(None), permit(Some(date(2026, 9, 30)))];
        assert_eq!(permits_from(permits_value(&permits)).unwrap(), permits);
        let late = permits_from(permits_value(&[permit(Some(date(2026, 10, 1)))])).unwrap_err();
        assert!(
            late[0].to_string().contains("permits[0].from") && late[0].to_string().contains("lies after"),
            "{}",
            late[0]
        );
    }

    #[test]
    fn an_older_file_that_exempts_drip_still_does() {
        let text = write(&sample());
        let older = text.replace("\"exempt_heads\": [\n      \"drip\"\n    ]", "\"exempts_drip\": true");
        assert_ne!(older, text);
        assert_eq!(read(older.as_bytes()).unwrap(), sample());
        let mut hours = sample();
        hours.exempt_heads = vec![HeadType::MicroSpray, HeadType::Drip];
        hours.hours_bind_exempt_heads = true;
        assert_eq!(read(write(&hours).as_bytes()).unwrap(), hours);
        let unknown = text.replace("\"drip\"", "\"watering_can\"");
        assert!(read(unknown.as_bytes()).unwrap_err()[0].to_string().contains("is not one of"));
    }

    #[test]
    fn the_published_schema_is_the_one_in_force() {
        let published = include_str!("../../../docs/ordinance-v1.schema.json");
        assert_eq!(
            published,
            schema(),
            "write it anew: upland-almanac schema ordinance > docs/ordinance-v1.schema.json"
        );
    }

    #[test]
    fn contradictions_are_refused_by_path() {
        let mut value: serde_json::Value = serde_json::from_str(&write(&sample())).unwrap();
        value["ordinance"]["rules"][0]["forbidden_hours"][0]["until"] = "10:00".into();
        value["ordinance"]["rules"][1]["most_days_a_week"] = 0.into();
        let paths: Vec<_> =
            read(value.to_string().as_bytes()).unwrap_err().into_iter().map(|p| p.path).collect();
        assert_eq!(paths, ["ordinance.rules[0].forbidden_hours[0]", "ordinance.rules[1].most_days_a_week"]);
        value["ordinance"]["rules"][0]["forbidden_hours"][0]["until"] = "26:00".into();
        assert_eq!(
            read(value.to_string().as_bytes()).unwrap_err()[0].path,
            "ordinance.rules[0].forbidden_hours[0].until"
        );
    }
}

//! What was understood of a text that is being typed: asked by every field, answered by the one reader.

use crate::page::dates::{DateFormat, typed_times};
use crate::page::quantities::plain;
use crate::server::request_locale::habit;
use crate::server::session::SignedIn;
use crate::server::time_zones::zone_at;
use actix_web::{HttpResponse, get, web};
use jiff::civil::Date;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::MillimetresPerHour;
use upland_formats::typed::{self, AtStation, Read, Refusal};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(understood);
}

#[derive(serde::Deserialize)]
struct Query {
    /// The kind of text, as the field's `data-reads` says it.
    reads: String,
    #[serde(default)]
    unit: String,
    text: String,
    /// How fast the zone of a station applies water, mm/h, and the steps in which its controller is set, seconds.
    rate: Option<f64>,
    step: Option<i64>,
    /// The day at the site; of the server's clock where there is none.
    today: Option<Date>,
}

/// What stands beside the field.
#[derive(Debug, PartialEq, serde::Serialize)]
struct Understood {
    /// The reading as a person says it; empty when it says no more than the text.
    means: String,
    /// Why it is not taken.
    refused: String,
    /// Readings to choose from: what to type instead, and what it means.
    choices: Vec<(String, String)>,
}

/// A text of a kind in words.
fn means(query: &Query, today: Date) -> Read<String> {
    let (text, habit) = (query.text.as_str(), habit());
    let number = |value: f64| {
        let digits = if value.abs() >= 100.0 { 1 } else { 3 };
        format!("{} {}", plain(value, digits), query.unit).trim_end().to_owned()
    };
    match query.reads.as_str() {
        "time" => typed::time_of_day(text, habit).map(|time| typed::write_time(time, habit)),
        "times" => typed::times(text, habit).map(|all| typed_times(&all)),
        "duration" => typed::duration(text).map(typed::write_duration),
        "run_time" => {
            let at = AtStation {
                depth_unit: &query.unit,
                rate: query.rate.map(MillimetresPerHour::from_mm_per_hour),
                step: Seconds::from_s(query.step.unwrap_or(1).clamp(1, 3600)),
            };
            typed::run_time(text, at).map(|length| {
                let down = at.rate.map(|rate| rate.over_time(length.minutes()));
                let down = down.map_or(String::new(), |down| match at.depth_unit {
                    "in" => format!(", {} in", plain(down.inches(), 2)),
                    _ => format!(", {} mm", plain(down.mm(), 1)),
                });
                format!("{}{down}", typed::write_duration(length))
            })
        }
        "date" => typed::date(text, today, habit).map(|date| date.formatted("%a %-d %b %Y")),
        "dates" => {
            let one = |part: &str| typed::date(part, today, habit).map(|date| date.formatted("%a %-d %b %Y"));
            let all: Read<Vec<String>> = typed::date_parts(text, today, habit).into_iter().map(one).collect();
            all.map(|all| all.join("; "))
        }
        "moment" => typed::date_and_time(text, today, habit).map(|at| {
            format!("{}, {}", at.date().formatted("%a %-d %b %Y"), typed::write_time(at.time(), habit))
        }),
        "day" => typed::month_day(text, habit).map(|day| typed::write_month_day(day.0, day.1, habit)),
        "days" => typed::days(text, today, habit).map(|days| typed::write_days(days, habit)),
        // A position, latitude and longitude: the zone that an empty field takes.
        "zone" => {
            let (latitude, longitude) = text.split_once(';').unwrap_or((text, ""));
            let read = |text: &str| typed::quantity(text, "°");
            let zone = zone_at(read(latitude)?, read(longitude)?);
            Ok(zone.map_or("no zone is known there; type one".to_owned(), ToOwned::to_owned))
        }
        "slope" => typed::slope_percent(text).map(|percent| {
            format!("{} %, {}°", plain(percent, 1), plain((percent / 100.0).atan().to_degrees(), 1))
        }),
        _ => typed::quantity(text, &query.unit).map(number),
    }
}

fn answer(query: &Query, today: Date) -> Understood {
    let mut said = Understood { means: String::new(), refused: String::new(), choices: Vec::new() };
    if query.text.trim().is_empty() {
        return said;
    }
    match means(query, today) {
        // What was typed as it is read needs no echo.
        Ok(means)
            if means == query.text.trim()
                || query.text.trim().parse::<f64>().is_ok() && query.reads == "number" => {}
        Ok(means) => said.means = means,
        Err(refusal) => {
            said.refused = refusal.to_string();
            said.choices = refusal.readings().iter().map(|r| (r.text.clone(), r.means.clone())).collect();
            if let Refusal::TwoWays(text, _) = &refusal {
                said.refused = format!("\"{text}\" can be read in two ways. Which?");
            }
        }
    }
    said
}

/// What a text means to the reader who typed it.
#[get("/typed")]
async fn understood(who: SignedIn, query: web::Query<Query>) -> HttpResponse {
    let today = query.today.unwrap_or_else(|| who.now.to_zoned(jiff::tz::TimeZone::UTC).date());
    HttpResponse::Ok().json(answer(&query, today))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::server::request_locale::in_habit;
    use upland_formats::typed::{Clock, DateOrder, Habit};

    fn said(reads: &str, unit: &str, text: &str) -> Understood {
        let today = jiff::civil::date(2026, 7, 14);
        let query = Query {
            reads: reads.into(),
            unit: unit.into(),
            text: text.into(),
            today: None,
            rate: Some(31.75),
            step: Some(60),
        };
        answer(&query, today)
    }

    #[test]
    fn what_was_understood_is_said_as_one_reads_it() {
        for (reads, unit, text, means) in [
            ("duration", "", "75", "1 h 15 min"),
            ("duration", "", "7m30", "7 min 30 s"),
            ("time", "", "3 AM", "03:00"),
            ("times", "", "3am, 0430", "03:00, 04:30"),
            ("date", "", "in 4 days", "Sat 18 Jul 2026"),
            ("moment", "", "yesterday 6 pm", "Mon 13 Jul 2026, 18:00"),
            ("day", "", "Nov 1", "1 Nov"),
            ("days", "", "every 3rd day, 2 left", "every 3rd day from 16 Jul 2026"),
            ("slope", "%", "7°", "12.3 %, 7°"),
            ("zone", "", "47.4 N;8.5", "Europe/Zurich"),
            ("number", "mm", "1/2 in", "12.7 mm"),
            ("number", "in", "3/8", "0.375 in"),
            ("run_time", "in", "1/2 in", "24 min, 0.5 in"),
            ("run_time", "mm", "7m30", "7 min 30 s, 4 mm"),
            ("number", "mm", "12", ""),
            ("number", "mm", "", ""),
        ] {
            assert_eq!(said(reads, unit, text).means, means, "{reads} {text}");
        }
        let us = Habit { clock: Clock::Hours12, dates: DateOrder::MonthFirst };
        assert_eq!(in_habit(us, || said("time", "", "0300")).means, "3:00 AM");
        assert_eq!(in_habit(us, || said("date", "", "7/8")).means, "Wed Jul 8, 2026");
        let asked = said("duration", "", "1:30");
        assert_eq!(asked.choices[0], ("1 h 30 min".into(), "1 h 30 min".into()));
        assert_eq!((asked.choices.len(), asked.means.as_str()), (2, ""));
        assert!(asked.refused.contains("two ways"));
        assert!(said("number", "mm", "36 F").refused.contains("a temperature"));
    }
}

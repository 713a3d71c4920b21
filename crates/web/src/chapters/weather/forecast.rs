//! The days that are forecast: as the weather room shows them, and as a file.

use crate::page::dates::DateFormat;
use crate::page::quantities::{depth, temperature};
use crate::server::download::attachment;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use crate::site::records::SiteRecords;
use actix_web::{HttpResponse, get, web};
use jiff::civil::Date;
use upland_core::site::UnitSystem;
use upland_core::weather::DayWeather;
use upland_core::weather::forecast::Foretold;
use upland_formats::daily_csv;

/// Days that are shown.
const SHOWN: usize = 8;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(forecast_csv);
}

/// A day to come, as one reads it. Places of the bar of its temperatures are percent of the span of all.
pub(super) struct ComingDay {
    pub day: String,
    pub temperature: String,
    pub bar: (f64, f64),
    /// Empty when no rain is forecast.
    pub rain: String,
    pub rain_is_likely: bool,
    pub et0: String,
    pub usual: String,
}

/// The days from a date on of which something is forecast.
pub(super) fn coming_days(facts: &SiteRecords, from: Date) -> Vec<ComingDay> {
    let (climate, units) = (&facts.climate, facts.units());
    let days: Vec<&Foretold> =
        climate.forecast().filter(|day| day.weather.date >= from).take(SHOWN).collect();
    let least = days.iter().map(|d| d.weather.temperature_min.c()).fold(f64::INFINITY, f64::min);
    let most = days.iter().map(|d| d.weather.temperature_max.c()).fold(f64::NEG_INFINITY, f64::max);
    let place = |c: f64| if most > least { 100.0 * (c - least) / (most - least) } else { 0.0 };
    let coming = |day: &&Foretold| {
        let weather = &day.weather;
        let from = place(weather.temperature_min.c());
        ComingDay {
            day: weather.date.formatted("%a %-d"),
            temperature: lowest_to_highest(units, weather),
            bar: (from, (place(weather.temperature_max.c()) - from).max(1.0)),
            rain: weather
                .rain
                .filter(|rain| rain.mm() >= 0.05)
                .map_or(String::new(), |rain| depth(units, rain)),
            rain_is_likely: day.rain_is_likely().is_some(),
            et0: depth(units, climate.expected_et0(weather.date).0),
            usual: depth(units, climate.usual_et0(weather.date).0),
        }
    };
    days.iter().map(coming).collect()
}

/// The lowest and highest temperature of a day.
fn lowest_to_highest(units: UnitSystem, weather: &DayWeather) -> String {
    let highest = temperature(units, weather.temperature_max);
    let lowest = temperature(units, weather.temperature_min);
    // The unit stands once.
    let number = lowest.split_once(' ').map_or(lowest.as_str(), |(number, _)| number);
    format!("{number} to {highest}")
}

/// What is forecast from today on, as a daily file of this program.
#[get("/sites/{id}/weather/forecast.csv")]
async fn forecast_csv(here: AtSite) -> Result<HttpResponse, PageError> {
    let today = here.today();
    let coming = here.records.climate.forecast().filter(|day| day.weather.date >= today);
    let days: Vec<DayWeather> = coming.map(|day| day.weather).collect();
    let name = format!("{} forecast", here.records.site.site.name);
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment(&name, "csv"))
        .body(daily_csv::write(&days)))
}

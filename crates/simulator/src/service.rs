//! A stand-in for a weather service: a station some kilometres off that tells its last hours as CSV, and seven days of
//! forecast as JSON. What it foretells is the sky that comes, blurred the more the farther ahead.

use crate::{Clock, Sky};
use actix_web::{App, HttpResponse, HttpServer, web};
use jiff::{SignedDuration, Timestamp};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::net::TcpListener;
use std::sync::Arc;

/// Hours that it tells of the past.
const HOURS_BACK: i64 = 72;
/// Hours that it foretells: seven whole days after today.
const HOURS_AHEAD: i64 = 8 * 24;
/// How far a temperature is off for each day ahead, °C at most.
const BLUR_C: f64 = 0.35;
/// How far rain and sun are off for each day ahead, as a share at most.
const BLUR_SHARE: f64 = 0.06;

/// Under which path the hours that were measured stand.
pub const MEASURED: &str = "/hours.csv";
/// Under which path the forecast stands.
pub const FORETOLD: &str = "/forecast.json";

struct Service {
    sky: Sky,
    clock: Clock,
    seed: u64,
}

fn hour_of(at: Timestamp) -> Timestamp {
    at - SignedDuration::from_secs(at.as_second().rem_euclid(3600))
        - SignedDuration::from_nanos(i64::from(at.subsec_nanosecond()))
}

impl Service {
    /// The hours that have ended, one a line.
    fn hours(&self) -> String {
        let mut text = "time,temp_c,rh_pct,solar_w_m2,wind_m_s,rain_mm\n".to_owned();
        let until = hour_of(self.clock.now());
        for back in (1..=HOURS_BACK).rev() {
            let from = until - SignedDuration::from_hours(back);
            // The middle of an hour stands for it, its rain for the hour it begins in.
            let (middle, begin) = (self.sky.at(from + SignedDuration::from_mins(30)), self.sky.at(from));
            text.push_str(&format!(
                "{from},{:.1},{:.0},{:.0},{:.1},{:.1}\n",
                middle.temperature_c,
                middle.humidity_pct,
                middle.solar_w_m2,
                middle.wind_m_s,
                begin.rain_mm_h
            ));
        }
        text
    }

    /// What is forecast, an hour an object.
    fn forecast(&self) -> serde_json::Value {
        let from = hour_of(self.clock.now());
        let hours: Vec<serde_json::Value> = (0..HOURS_AHEAD)
            .map(|ahead| {
                let at = from + SignedDuration::from_hours(ahead);
                let day = at.as_second().div_euclid(86_400);
                let said = from.as_second().div_euclid(6 * 3600);
                let mut rng =
                    ChaCha8Rng::seed_from_u64(self.seed ^ day.unsigned_abs() << 20 ^ said.unsigned_abs());
                #[allow(clippy::cast_precision_loss, reason = "some days")]
                let days = ahead as f64 / 24.0;
                let warmer = rng.random_range(-1.0..1.0) * BLUR_C * days;
                let more = 1.0 + rng.random_range(-1.0..1.0) * BLUR_SHARE * days;
                let (middle, begin) = (self.sky.at(at + SignedDuration::from_mins(30)), self.sky.at(at));
                let round = |value: f64| (value * 10.0).round() / 10.0;
                serde_json::json!({
                    "time": at.to_string(),
                    "temperature_c": round(middle.temperature_c + warmer),
                    "humidity_pct": middle.humidity_pct.round(),
                    "solar_w_m2": (middle.solar_w_m2 * more).round(),
                    "wind_m_s": round(middle.wind_m_s),
                    "rain_mm": round(begin.rain_mm_h * more),
                })
            })
            .collect();
        serde_json::json!({ "said_at": self.clock.now().to_string(), "hours": hours })
    }
}

/// Serves until the process ends.
///
/// # Errors
/// When the listener cannot be used.
pub fn serve(listener: TcpListener, sky: Sky, clock: Clock, seed: u64) -> std::io::Result<()> {
    let service = web::Data::from(Arc::new(Service { sky, clock, seed }));
    let app = move || {
        let hours = |service: web::Data<Service>| async move {
            HttpResponse::Ok().content_type("text/csv; charset=utf-8").body(service.hours())
        };
        let forecast =
            |service: web::Data<Service>| async move { HttpResponse::Ok().json(service.forecast()) };
        App::new()
            .app_data(service.clone())
            .route(MEASURED, web::get().to(hours))
            .route(FORETOLD, web::get().to(forecast))
    };
    let server = HttpServer::new(app).workers(1).disable_signals().listen(listener)?;
    actix_web::rt::System::new().block_on(server.run())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn service(now: &str) -> Service {
        let now: Timestamp = now.parse().unwrap();
        Service { sky: Sky::generated(5), clock: Clock::new(move || now), seed: 5 }
    }

    #[test]
    fn it_tells_the_hours_that_ended_and_foretells_those_to_come() {
        let service = service("2026-07-14T18:20:31Z");
        let hours = service.hours();
        let lines: Vec<&str> = hours.lines().collect();
        assert_eq!(lines.len(), 73);
        assert!(lines[72].starts_with("2026-07-14T17:00:00Z,"), "{}", lines[72]);
        let forecast = service.forecast();
        let ahead = forecast["hours"].as_array().unwrap();
        assert_eq!(ahead.len(), 192);
        assert_eq!(ahead[0]["time"], "2026-07-14T18:00:00Z");
    }

    #[test]
    fn a_forecast_is_near_what_comes_and_worse_the_farther_ahead() {
        let service = service("2026-07-14T18:20:31Z");
        let forecast = service.forecast();
        let off = |hours: std::ops::Range<usize>| {
            let all = &forecast["hours"].as_array().unwrap()[hours.clone()];
            let off = all.iter().map(|hour| {
                let at: Timestamp = hour["time"].as_str().unwrap().parse().unwrap();
                let comes = service.sky.at(at + SignedDuration::from_mins(30)).temperature_c;
                (hour["temperature_c"].as_f64().unwrap() - comes).abs()
            });
            off.sum::<f64>() / hours.len() as f64
        };
        let (tomorrow, in_a_week) = (off(6..30), off(150..192));
        assert!(tomorrow < 0.6 && in_a_week > tomorrow && in_a_week < 3.0, "{tomorrow} {in_a_week}");
    }
}

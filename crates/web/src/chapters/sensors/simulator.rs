//! Stand-ins started and stopped from the page of a sensor, where the demo runs.

use super::{find, sensor_of};
use crate::server::address;
use crate::server::error::{PageError, see_other};
use crate::server::session::{Fields, flash, random_hex};
use crate::server::simulators::MOST_STAND_INS;
use crate::server::state::AppState;
use crate::site::context::EditorAt;
use actix_web::{HttpResponse, post, web};
use jiff::SignedDuration;
use upland_core::sensors::{Sense, Sensor};
use upland_simulator::{DeviceKind, Plan, Sky};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(start_one).service(stop_one);
}

/// Days back that a stand-in begins at.
const DAYS_BACK: u32 = 14;
/// Speeds that the page offers: simulated seconds in a second, and words.
pub(super) const SPEEDS: [(u32, &str); 3] =
    [(600, "ten minutes a second"), (3600, "an hour a second"), (86_400, "a day a second")];

/// The application's clock, for a thread of its own.
fn clock(state: &AppState) -> upland_simulator::Clock {
    let ahead = std::sync::Arc::clone(&state.clock_ahead);
    upland_simulator::Clock::new(move || {
        let ahead = SignedDuration::from_secs(ahead.load(std::sync::atomic::Ordering::Relaxed));
        crate::server::clock::now(Some(ahead))
    })
}

/// What stands in for a sensor.
pub(super) fn kind_of(sensor: &Sensor) -> DeviceKind {
    let senses = |sense| sensor.card.senses(sense);
    if senses(Sense::SoilMoisture) {
        DeviceKind::SoilProbe
    } else if senses(Sense::Flow) {
        DeviceKind::FlowMeter
    } else if senses(Sense::Rain) && sensor.card.is_contact() {
        DeviceKind::RainSwitch
    } else if sensor.card.only_scales() {
        DeviceKind::EtSensor
    } else {
        DeviceKind::WeatherStation
    }
}

#[post("/sites/{id}/sensors/{sensor}/stand-in")]
async fn start_one(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    let url = here.state.stand_ins.url.clone().ok_or(PageError::NotFound)?;
    let snapshot = here.snapshot(None).await?;
    let record = find(&snapshot, id)?;
    let speed = fields
        .get("speed")
        .parse::<u32>()
        .ok()
        .filter(|s| SPEEDS.iter().any(|(known, _)| known == s))
        .unwrap_or(3600);
    let token = random_hex();
    let hash = crate::server::session::hash(&token);
    let made = here.change(move |change| change.create_device(id, "Simulator", &hash)).await?;
    made.ok_or(PageError::NotFound)?;
    let plan = Plan {
        url,
        token,
        kind: kind_of(&record.sensor),
        speed: f64::from(speed),
        days_back: DAYS_BACK,
        step_min: 10,
        clock: clock(&here.state),
    };
    // The sky of a site is one: its stand-ins feel the same rain.
    let started = here.state.stand_ins.start(id, plan, Sky::generated(site_id.unsigned_abs()));
    let said = if started {
        format!(
            "A simulator posts readings for {}: it begins {DAYS_BACK} days back and catches up.",
            record.sensor.name
        )
    } else {
        format!("It runs already, or {MOST_STAND_INS} simulators run; stop one first.")
    };
    flash(&here.who.session, said, None)?;
    Ok(see_other(&format!("{}#devices", address::sensor(site_id, id))))
}

#[post("/sites/{id}/sensors/{sensor}/stand-in/stop")]
async fn stop_one(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    let (site_id, id) = *path;
    sensor_of(&here, id)?;
    flash(
        &here.who.session,
        if here.state.stand_ins.stop(id) { "The simulator stops." } else { "It did not run." },
        None,
    )?;
    Ok(see_other(&format!("{}#devices", address::sensor(site_id, id))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_card_has_its_stand_in() {
        for (code, card) in upland_core::sensors::generic() {
            let kind = kind_of(&Sensor::of_card(card, 1));
            let expected = match code {
                "soil_probe" | "soil_relay" => DeviceKind::SoilProbe,
                "flow_meter" => DeviceKind::FlowMeter,
                "et_sensor" => DeviceKind::EtSensor,
                "rain_switch" | "rain_switch_radio" | "rain_freeze_switch" | "rain_freeze_radio" => {
                    DeviceKind::RainSwitch
                }
                _ => DeviceKind::WeatherStation,
            };
            assert_eq!(kind, expected, "{code}");
        }
    }
}

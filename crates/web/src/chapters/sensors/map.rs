//! Which zones each sensor can stop: zones × sensors, with the reason in every cell.

use super::{Tab, TabLink, frame, tabs};
use crate::page::frame::Frame;
use crate::server::address;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::records::SiteController;
use crate::site::snapshot::SiteSnapshot;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use upland_core::controller::schedule::Settings;
use upland_core::sensors::mapping::{Why, tie};
use upland_core::sensors::{Sense, Sensor, SensorCard};
use upland_core::site::StationId;
use upland_store::Saved;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(map_page).service(choose);
}

struct Cell {
    sensor: i64,
    version: i32,
    /// May hold it, as proposed or chosen.
    holds: bool,
    verb: Verb,
    why: &'static str,
    chosen: bool,
    /// As the controller is set, a contact does otherwise.
    differs: &'static str,
}

struct ZoneRow {
    station: u16,
    name: String,
    exposure: String,
    ignores: bool,
    cells: Vec<Cell>,
}

struct Verb {
    third: &'static str,
    plain: &'static str,
}

struct ProgramRow {
    index: usize,
    name: String,
    cells: Vec<(i64, i32, bool)>,
}

struct ControllerMap {
    number: u8,
    place: String,
    heads: Vec<(String, String)>,
    zones: Vec<ZoneRow>,
    programs: Vec<ProgramRow>,
}

#[derive(Template)]
#[template(path = "chapters/sensors/map.html")]
struct MapPage {
    frame: Frame,
    tabs: Vec<TabLink>,
    site_id: i64,
    controllers: Vec<ControllerMap>,
}

/// What a sensor does to a zone: one that sets a percentage scales its run times, the others stop them.
fn verb(card: &SensorCard) -> Verb {
    // A meter's alarm stops the main.
    match (card.can_hold() || card.senses(Sense::Flow), card.senses(Sense::Et)) {
        (false, true) => Verb { third: "scales it", plain: "scale it" },
        (true, true) => Verb { third: "blocks and scales", plain: "block and scale" },
        _ => Verb { third: "blocks", plain: "block" },
    }
}

fn cell(sensor: (&Sensor, i64, i32), zone: &upland_core::site::Zone, settings: &Settings) -> Cell {
    let (sensor, id, version) = sensor;
    let set = settings.station(zone.number);
    let tie = tie(&sensor.card, &sensor.map, zone, sensor.placement.probe_station, set.lighting);
    let heeds = !set.ignores_sensors && !set.lighting;
    Cell {
        sensor: id,
        version,
        holds: tie.holds,
        verb: verb(&sensor.card),
        why: tie.why.words(),
        chosen: tie.why == Why::Chosen,
        differs: match (sensor.card.is_contact(), tie.holds, heeds) {
            (true, false, true) => "the controller blocks it all the same",
            (true, true, false) => "the controller lets it ignore sensors",
            _ => "",
        },
    }
}

fn controller_map(snapshot: &SiteSnapshot, own: &SiteController) -> ControllerMap {
    let settings = own.settings_or_clean();
    let sensors: Vec<_> = snapshot.of_controller(own.number()).collect();
    let mut zones: Vec<_> = snapshot
        .records
        .zones
        .iter()
        .map(|z| &z.zone)
        .filter(|z| z.controller_number == own.number())
        .collect();
    zones.sort_by_key(|z| z.number);
    ControllerMap {
        number: own.number(),
        place: own.record.controller.place.clone(),
        heads: sensors
            .iter()
            .map(|s| (address::sensor(snapshot.records.site.id.number(), s.id), s.sensor.name.clone()))
            .collect(),
        zones: zones
            .iter()
            .map(|zone| ZoneRow {
                station: zone.number,
                name: format!("{} {}", zone.number, zone.name),
                exposure: format!("{}, {}", zone.sky.label(), zone.head.label()),
                ignores: settings.station(zone.number).ignores_sensors,
                cells: sensors.iter().map(|s| cell((&s.sensor, s.id, s.version), zone, &settings)).collect(),
            })
            .collect(),
        programs: settings
            .programs
            .iter()
            .enumerate()
            .filter(|(_, p)| p.active)
            .map(|(index, p)| ProgramRow {
                index,
                name: p.name.clone(),
                cells: sensors
                    .iter()
                    .map(|s| (s.id, s.version, s.sensor.map.programs_ignoring.contains(&index)))
                    .collect(),
            })
            .collect(),
    }
}

#[get("/sites/{id}/sensors/map")]
async fn map_page(here: AtSite) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    page(&MapPage {
        frame: frame(&here, "sensor assignment")?,
        tabs: tabs(here.id(), Tab::Map),
        site_id: here.id(),
        controllers: snapshot.records.controllers.iter().map(|b| controller_map(&snapshot, b)).collect(),
    })
}

/// Chooses against the proposal for a zone or a program, or goes back to it.
#[post("/sites/{id}/sensors/map")]
async fn choose(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let missing = || PageError::BadRequest("The form does not say what it is about. Reload the page.".into());
    let sensor_id: i64 = fields.get("sensor").parse().map_err(|_| missing())?;
    let base: i32 = fields.get("base_version").parse().map_err(|_| missing())?;
    let record = snapshot.sensor(sensor_id).ok_or(PageError::NotFound)?;
    let mut sensor = record.sensor.clone();
    let own = snapshot.site_controller(sensor.controller_number).ok_or(PageError::NotFound)?;
    let zone = |station| snapshot.records.zone_on(StationId::new(own.number(), station)).is_some();
    let programs = own.settings_or_clean().programs.len();
    let map = &mut sensor.map;
    let said = match (fields.get("station").parse::<u16>(), fields.get("program").parse::<usize>()) {
        (Ok(station), _) if zone(station) => {
            match fields.get("holds") {
                "yes" => drop(map.stations.insert(station, true)),
                "no" => drop(map.stations.insert(station, false)),
                _ => drop(map.stations.remove(&station)),
            }
            format!("Zone {station} and {} are chosen so.", sensor.name)
        }
        (_, Ok(program)) if program < programs => {
            if fields.get("ignores") == "yes" {
                map.programs_ignoring.insert(program)
            } else {
                map.programs_ignoring.remove(&program)
            };
            format!("The program and {} are chosen so.", sensor.name)
        }
        _ => return Err(missing()),
    };
    let said = match here.change(move |change| change.save_sensor(sensor_id, base, &sensor)).await? {
        None => return Err(PageError::NotFound),
        Some(Saved::As(_) | Saved::Unchanged(_)) => said,
        Some(Saved::Conflict(theirs)) => {
            format!(
                "{} changed this sensor meanwhile; this is the current assignment. Choose again.",
                theirs.saved_by
            )
        }
    };
    flash(&here.who.session, said, None)?;
    Ok(see_other(&format!("{}/map", address::sensors(here.id()))))
}

//! The wiring of a controller: which sensor on which terminal, as a drawing and as steps with ticks.

use super::{Tab, TabLink, frame, tabs};
use crate::page::frame::Frame;
use crate::page::plan_picture::saved_plan;
use crate::page::quantities::length;
use crate::page::sensor_words::{join, refusal, step};
use crate::page::ticks::{StepList, TickMark, ticks_of};
use crate::server::address;
use crate::server::error::{PageError, page};
use crate::site::context::AtSite;
use crate::site::records::SiteController;
use crate::site::snapshot::SiteSnapshot;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use upland_core::controller::SensorPort;
use upland_core::sensors::wiring::{DecoderInput, Join, assign, steps};
use upland_core::sensors::{Link, Sense, Sensor, Signal};
use upland_formats::plan_lines::PlanText;
use upland_store::ticks::{TickRecord, What};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(wiring_page);
}

/// Height of a terminal block, px of the drawing.
const PORT_PX: u32 = 64;
/// Height of a sensor, px.
const SENSOR_PX: u32 = 56;

struct PortMark {
    y: u32,
    label: String,
    jumper: &'static str,
}

struct SensorMark {
    y: u32,
    name: String,
    note: String,
}

struct Wire {
    path: String,
    dashed: bool,
    plus: Option<(u32, u32)>,
}

/// The drawing of a controller's terminals and sensors.
#[derive(Template)]
#[template(path = "chapters/sensors/wiring.svg", escape = "html")]
struct Drawing {
    height: u32,
    ports: Vec<PortMark>,
    sensors: Vec<SensorMark>,
    wires: Vec<Wire>,
    common_y: Option<u32>,
    words: String,
}

struct StepRow {
    id: String,
    text: String,
    good: &'static str,
    bad: &'static str,
    caution: &'static str,
}

struct SensorSteps {
    name: String,
    how: String,
    broken: &'static str,
    steps: Vec<StepRow>,
    ticks: Vec<TickMark>,
}

struct ControllerWiring {
    number: u8,
    place: String,
    card: String,
    ports: String,
    refused: Vec<(String, &'static str)>,
    drawing: Option<Drawing>,
    sensors: Vec<SensorSteps>,
    list: StepList,
}

#[derive(Template)]
#[template(path = "chapters/sensors/wiring.html")]
struct WiringPage {
    frame: Frame,
    tabs: Vec<TabLink>,
    site_id: i64,
    controllers: Vec<ControllerWiring>,
}

/// A sensor with the way it is joined.
type Joined<'a> = (&'a Sensor, Join);

fn port_y(index: usize) -> u32 {
    20 + u32::try_from(index).unwrap_or(0) * PORT_PX
}

fn sensor_y(index: usize) -> u32 {
    20 + u32::try_from(index).unwrap_or(0) * SENSOR_PX
}

/// The wires of the sensor at an index.
fn wire(joined: &[Joined<'_>], index: usize, (sensor, how): &Joined<'_>, common_y: Option<u32>) -> Wire {
    let y = sensor_y(index) + 20;
    let (target, polarised) = match how {
        Join::OwnPort(p) | Join::InSeries(p) => (port_y(*p) + 20, !sensor.card.is_contact()),
        Join::Decoder { port, input, .. } => (port_y(*port) + 20, *input == DecoderInput::Polarised),
        Join::ValveCommon => (common_y.unwrap_or(20) + 20, false),
    };
    let (back, target_back) = (y + 12, target + 12);
    let there = format!("M560 {y} C430 {y} 430 {target} 300 {target}");
    // Those in series go from one to the next before they come back.
    let same = |(_, j): &Joined<'_>| matches!((j, how), (Join::InSeries(a), Join::InSeries(b)) if a == b);
    let path = match joined.iter().take(index).rposition(same) {
        Some(previous) => {
            let from = sensor_y(previous) + 34;
            format!(
                "M560 {from} C500 {from} 500 {y} 560 {y} M560 {back} C420 {back} 360 {target_back} 300 {target_back}"
            )
        }
        None if matches!(how, Join::InSeries(_)) => there,
        None => format!("{there} M560 {back} C430 {back} 430 {target_back} 300 {target_back}"),
    };
    let plus = polarised.then_some((308, target.saturating_sub(4)));
    Wire { path, dashed: sensor.card.link == Link::Radio, plus }
}

fn port_mark(index: usize, port: SensorPort, joined: &[Joined<'_>]) -> PortMark {
    let here = |join: &Join| matches!(join, Join::OwnPort(p) | Join::InSeries(p) if *p == index);
    let used = joined.iter().any(|(sensor, join)| sensor.card.is_contact() && here(join));
    PortMark {
        y: port_y(index),
        label: format!("{} {}", index + 1, crate::page::sensor_words::port(port)),
        jumper: match (port, used) {
            (SensorPort::HoldSwitch, true) => "jumper out",
            (SensorPort::HoldSwitch, false) => "jumper stays in",
            _ => "",
        },
    }
}

fn sensor_mark(index: usize, (sensor, how): &Joined<'_>) -> SensorMark {
    SensorMark {
        y: sensor_y(index),
        name: sensor.name.clone(),
        note: match (how, sensor.card.signal) {
            (Join::Decoder { address, number, input, .. }, _) => {
                let kind = if *input == DecoderInput::Polarised { "polarised" } else { "plain" };
                format!("decoder {address}, input {number}, {kind}")
            }
            (_, Signal::NormallyClosed) => "normally closed, opens to prevent watering".into(),
            (_, other) => other.label().into(),
        },
    }
}

/// Draws ports on the left, sensors on the right, and the wires between them.
fn drawing(ports: &[SensorPort], joined: &[Joined<'_>]) -> Drawing {
    let has_common = joined.iter().any(|(_, j)| *j == Join::ValveCommon);
    let common_y = has_common.then(|| port_y(ports.len()));
    let rows = u32::try_from(ports.len()).unwrap_or(0) + u32::from(has_common);
    let sensors_px = u32::try_from(joined.len()).unwrap_or(0) * SENSOR_PX;
    let words: Vec<String> =
        joined.iter().map(|(sensor, how)| format!("{} {}", sensor.name, join(*how, ports))).collect();
    let each = || joined.iter().enumerate();
    Drawing {
        height: 30 + (rows * PORT_PX).max(sensors_px),
        ports: ports.iter().enumerate().map(|(i, port)| port_mark(i, *port, joined)).collect(),
        sensors: each().map(|(k, one)| sensor_mark(k, one)).collect(),
        wires: each().map(|(k, one)| wire(joined, k, one, common_y)).collect(),
        common_y,
        words: format!("{}.", words.join("; ")),
    }
}

/// How a sensor is joined, with the way to its controller where both are on the plan.
fn joined_by(snapshot: &SiteSnapshot, plan: &PlanText, sensor: &Sensor, joined: String) -> String {
    let place = plan.sensors.iter().find(|(name, _)| *name == sensor.name);
    let way = place.and_then(|(_, at)| plan.plan.wire(sensor.controller_number, at.0, at.1));
    way.map_or(joined.clone(), |way| {
        format!("{joined}; {} to the controller over the plan, straight", length(snapshot.units(), way))
    })
}

// Long: a view of a controller, field after field.
fn wired(
    snapshot: &SiteSnapshot,
    own: &SiteController,
    list: StepList,
    ticks: &[TickRecord],
    plan: &PlanText,
) -> ControllerWiring {
    let site = snapshot.records.site.id.number();
    let card = &own.record.controller.card;
    let sensors: Vec<_> = snapshot.of_controller(own.number()).collect();
    let cards: Vec<_> = sensors.iter().map(|s| &s.sensor.card).collect();
    let joins = assign(card.sensor_places(), &cards);
    let mut refused = Vec::new();
    let mut joined = Vec::new();
    let mut lists = Vec::new();
    for (record, how) in sensors.iter().zip(joins) {
        match how {
            Err(why) => refused.push((record.sensor.name.clone(), refusal(why))),
            Ok(how) => {
                joined.push((&record.sensor, how));
                let back = format!("{}/wiring", address::sensors(site));
                let mark = |what| TickMark::of(site, what, record.id, 0, ticks, &snapshot.tz, back.clone());
                lists.push(SensorSteps {
                    ticks: [What::Wired, What::Tested, What::Calibrated]
                        .into_iter()
                        .filter(|what| {
                            *what != What::Calibrated || record.sensor.card.senses(Sense::SoilMoisture)
                        })
                        .map(mark)
                        .collect(),
                    name: record.sensor.name.clone(),
                    how: joined_by(snapshot, plan, &record.sensor, join(how, &card.sensor_ports)),
                    broken: record.sensor.card.signal.broken_wire(),
                    steps: steps(&record.sensor.card, how)
                        .into_iter()
                        .enumerate()
                        .map(|(i, s)| {
                            let words = step(s, &record.sensor, snapshot.units());
                            StepRow {
                                id: format!("{}-{i}", record.id),
                                text: words.text,
                                good: words.good,
                                bad: words.bad,
                                caution: words.caution,
                            }
                        })
                        .collect(),
                });
            }
        }
    }
    let ports: Vec<String> =
        card.sensor_ports.iter().map(|p| crate::page::sensor_words::port(*p).to_owned()).collect();
    ControllerWiring {
        number: own.number(),
        place: own.record.controller.place.clone(),
        card: card.name.clone(),
        ports: if ports.is_empty() { "no sensor port".into() } else { ports.join(", ") },
        refused,
        drawing: (!joined.is_empty()).then(|| drawing(&card.sensor_ports, &joined)),
        sensors: lists,
        list,
    }
}

#[derive(serde::Deserialize)]
struct ControllerQuery {
    #[serde(rename = "controller", alias = "box")]
    number: Option<u8>,
}

#[get("/sites/{id}/sensors/wiring")]
async fn wiring_page(here: AtSite, query: web::Query<ControllerQuery>) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let ticks = ticks_of(&here).await?;
    let plan = saved_plan(&here).await?;
    let chosen = |b: &&SiteController| query.number.is_none_or(|n| n == b.number());
    let mut controllers = Vec::new();
    for own in snapshot.records.controllers.iter().filter(chosen) {
        let list = StepList::of(&here, format!("wiring-{}", own.record.id)).await?;
        controllers.push(wired(&snapshot, own, list, &ticks, &plan));
    }
    page(&WiringPage {
        frame: frame(&here, "wiring")?,
        tabs: tabs(here.id(), Tab::Wiring),
        site_id: here.id(),
        controllers,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::sensors::{Sensor, generic};

    #[test]
    fn the_drawing_shows_terminals_jumpers_wires_and_polarity() {
        let of = |code: &str| Sensor::of_card(generic().into_iter().find(|(c, _)| *c == code).unwrap().1, 1);
        let (rain, relay, meter) = (of("rain_switch_radio"), of("soil_relay"), of("flow_meter"));
        let ports = [SensorPort::HoldSwitch, SensorPort::HoldSwitch, SensorPort::FlowMeter];
        let joined = [(&rain, Join::InSeries(0)), (&relay, Join::InSeries(0)), (&meter, Join::OwnPort(2))];
        let svg = drawing(&ports, &joined).render().unwrap();
        insta::assert_snapshot!(svg);
    }
}

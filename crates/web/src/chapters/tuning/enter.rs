//! An entry of a visit taken in: from a form, or from a phone that kept it while there was no network.

use super::entry_form::{self, When, differences, of_controller, when, words};
use crate::page::forms::FieldError;
use crate::server::address;
use crate::server::error::{PageError, see_other};
use crate::server::session::{Fields, client_key, flash};
use crate::server::upload;
use crate::site::context::{AtSite, EditorAt};
use actix_multipart::Multipart;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, post, web};
use upland_core::site::StationId;

use serde_json::json;
use sha2::{Digest, Sha256};
use upland_core::account::site_account::AccountInputs;
use upland_core::tuning::Visit;
use upland_formats::visit_file::{self, Entry};
use upland_store::visits::NewEntry;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(enter).service(bring);
}

/// What a form is about.
enum About {
    Known {
        kind: &'static str,
        id: i64,
        entry: Entry,
    },
    /// Something that the site no longer has.
    Gone(String),
}

fn about(
    here: &AtSite,
    facts: &AccountInputs,
    fields: &Fields,
    seen: When,
) -> Result<About, Vec<FieldError>> {
    let id: i64 = fields.get("about").parse().unwrap_or(0);
    let units = here.records.units();
    let known = |kind, entry| Ok(About::Known { kind, id, entry });
    match fields.get("what") {
        "zone" => match here.records.zones.iter().find(|z| z.id == id) {
            Some(zone) => {
                let key = zone.zone.station_id();
                known("zone", entry_form::zone(fields, key.controller, key.station, units)?)
            }
            None => Ok(About::Gone(format!("zone {}", fields.get("name")))),
        },
        "controller" | "box" => match here.records.controllers.iter().find(|b| b.record.id == id) {
            Some(own) => known("box", of_controller(fields, own.number(), facts, seen.at)?),
            None => Ok(About::Gone(format!("controller {}", fields.get("name")))),
        },
        "sensor" => match here.records.sensors.iter().find(|s| s.id == id) {
            Some(own) => known("sensor", entry_form::sensor(fields, &own.sensor.name)),
            None => Ok(About::Gone(format!("sensor {}", fields.get("name")))),
        },
        "site" => Ok(About::Known { kind: "site", id: 0, entry: entry_form::site(fields, units)? }),
        other => Err(vec![("what", format!("\"{other}\" is nothing that a visit is about."))]),
    }
}

/// What is answered to a script, or shown on the page.
struct Answer {
    status: StatusCode,
    text: String,
    more: Vec<String>,
}

impl Answer {
    fn send(self, here: &AtSite, request: &HttpRequest, next: &str) -> Result<HttpResponse, PageError> {
        if request.headers().contains_key("x-part") {
            let body = json!({ "text": self.text, "more": self.more, "kept": self.status.is_success() });
            return Ok(HttpResponse::build(self.status).json(body));
        }
        let more = if self.more.is_empty() { String::new() } else { format!(" {}", self.more.join(" ")) };
        flash(&here.who.session, format!("{}{more}", self.text), None)?;
        let root = address::site_root(here.id());
        let next: String = next.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '-').collect();
        Ok(see_other(&format!("{root}/visit#{next}")))
    }
}

#[post("/sites/{id}/visit/entries")]
async fn enter(
    EditorAt(here): EditorAt,
    request: HttpRequest,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let key = client_key(fields.get("key"))?;
    let seen = when(&fields, here.state.exactly_now(), crate::server::clock::exactly(None));
    let snapshot = here.snapshot(None).await?;
    let facts = &snapshot.inputs;
    let next = fields.get("next").to_owned();
    let (kind, id, entry) = match about(&here, facts, &fields, seen) {
        Ok(About::Known { kind, id, entry }) => (kind, id, entry),
        Ok(About::Gone(what)) => return gone(&here, &request, &what, &fields, &next).await,
        Err(errors) => {
            let more = errors.into_iter().map(|(_, message)| message).collect();
            let answer = Answer {
                status: StatusCode::UNPROCESSABLE_ENTITY,
                text: "Not kept yet; what you typed is still here.".into(),
                more,
            };
            return answer.send(&here, &request, &next);
        }
    };
    let said = words(&entry, facts, seen.at);
    let more = match &entry {
        Entry::Controller(own) => differences(own, facts, seen.at),
        _ => Vec::new(),
    };
    let (body, date) = (entry.to_json(facts), seen.at.to_zoned(facts.tz.clone()).date());
    let text = said.clone();
    let new = here
        .change(move |change| {
            let visit = change.visit_on(date)?;
            change.enter(
                visit,
                NewEntry {
                    client_key: &key,
                    kind,
                    about: id,
                    body: &body,
                    at: seen.at,
                    clock_off_s: seen.clock_off_s,
                    words: &said,
                },
            )
        })
        .await?;
    let text = if new.is_some() { text } else { "It was here already.".to_owned() };
    Answer { status: StatusCode::OK, text, more }.send(&here, &request, &next)
}

/// What was seen of something that was removed meanwhile is kept as a note.
async fn gone(
    here: &AtSite,
    request: &HttpRequest,
    what: &str,
    fields: &Fields,
    next: &str,
) -> Result<HttpResponse, PageError> {
    let own = |name: &&String| {
        !matches!(name.as_str(), "csrf" | "key" | "at" | "sent_at" | "what" | "about" | "next" | "name")
    };
    let all: Vec<String> = fields
        .0
        .iter()
        .filter(|(name, value)| own(name) && !value.is_empty())
        .map(|(name, value)| format!("{name} {value}"))
        .collect();
    let said: String = format!("Seen at {what}, which was removed meanwhile: {}", all.join("; "));
    let said: String = said.chars().take(2000).collect();
    here.change(move |change| change.note(&said, None, None)).await?;
    let text = format!("The site no longer has {what}. What you saw is kept as a note in the logbook.");
    Answer { status: StatusCode::OK, text, more: Vec::new() }.send(here, request, next)
}

/// What a whole visit says, as single entries: each with the thing that it is about.
fn entries(here: &AtSite, visit: &Visit) -> Vec<(&'static str, i64, Entry)> {
    let zone = |controller_number: u8, station: u16| {
        here.records.zone_on(StationId::new(controller_number, station)).map(|z| z.id)
    };
    let own_controller =
        |number: u8| here.records.controllers.iter().find(|b| b.number() == number).map(|b| b.record.id);
    let sensor = |name: &str| here.records.sensors.iter().find(|s| s.sensor.name == name).map(|s| s.id);
    let zones = visit.zones.iter().filter(|z| !z.is_empty());
    let zones =
        zones.filter_map(|z| Some(("zone", zone(z.controller_number, z.station)?, Entry::Zone(z.clone()))));
    let controllers = visit.controllers.iter().filter(|b| !b.is_empty());
    let controllers = controllers
        .filter_map(|b| Some(("box", own_controller(b.controller_number)?, Entry::Controller(b.clone()))));
    let sensors = visit.sensors.iter();
    let sensors = sensors.filter_map(|s| Some(("sensor", sensor(&s.name)?, Entry::Sensor(s.clone()))));
    let site =
        Entry::Site { meter: visit.meter, wet_elsewhere: visit.wet_elsewhere, note: visit.note.clone() };
    let says = visit.meter.is_some() || visit.wet_elsewhere || !visit.note.is_empty();
    zones.chain(controllers).chain(sensors).chain(says.then_some(("site", 0, site))).collect()
}

/// A visit from a file: what another tool wrote, or percentages that somebody read out. Sent twice it is kept once.
#[post("/sites/{id}/visits")]
async fn bring(EditorAt(here): EditorAt, payload: Multipart) -> Result<HttpResponse, PageError> {
    let file = upload::read(&here.who.session, payload, visit_file::MAX_BYTES).await?;
    let snapshot = here.snapshot(None).await?;
    let facts = &snapshot.inputs;
    let back = format!("{}/tuning", address::site_root(here.id()));
    let visit = match file.read_with("a visit has a few", |bytes| visit_file::read(bytes, facts)) {
        Ok(visit) if visit.at <= here.state.exactly_now() => visit,
        Ok(_) => {
            flash(&here.who.session, "The visit lies ahead of now. Nothing was kept.", None)?;
            return Ok(see_other(&back));
        }
        Err(problems) => {
            let told: Vec<String> = problems.iter().take(5).map(ToString::to_string).collect();
            flash(&here.who.session, format!("The visit was not taken: {}.", told.join("; ")), None)?;
            return Ok(see_other(&back));
        }
    };
    let date = visit.at.to_zoned(facts.tz.clone()).date();
    let all: Vec<_> = entries(&here, &visit)
        .into_iter()
        .map(|(kind, about, entry)| {
            let body = entry.to_json(facts);
            let key =
                hex::encode(Sha256::digest(format!("{} {kind} {about} {} {body}", here.id(), visit.at)));
            (kind, about, key, words(&entry, facts, visit.at), body)
        })
        .collect();
    let (count, at) = (all.len(), visit.at);
    let kept = here
        .change(move |change| {
            let id = change.visit_on(date)?;
            let mut kept = 0;
            for (kind, about, key, said, body) in &all {
                let new =
                    NewEntry { client_key: key, kind, about: *about, body, at, clock_off_s: 0, words: said };
                kept += usize::from(change.enter(id, new)?.is_some());
            }
            Ok(kept)
        })
        .await?;
    let text = if kept == count {
        format!("{kept} entries of {date} are kept.")
    } else {
        format!("{kept} of {count} entries of {date} are new; the others were here already.")
    };
    flash(&here.who.session, text, None)?;
    Ok(see_other(&back))
}

//! Work without a network: which pages of a site a phone takes along, what it kept to be sent later, and the ticks of
//! lists of steps, which are made at the controller and stand for everybody.

use crate::page::frame::Frame;
use crate::server::address;
use crate::server::error::{PageError, page};
use crate::server::sent_entries::entered_at;
use crate::server::session::{Fields, SignedIn};
use crate::server::state::with_store;
use crate::site::context::{AtSite, EditorAt};
use crate::site::records::SiteRecords;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use serde_json::json;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(waiting).service(along).service(tick_step);
}

/// Where entries that wait are listed.
const WAITING: &str = "/waiting";

#[derive(Template)]
#[template(path = "chapters/offline/waiting.html")]
struct WaitingPage {
    frame: Frame,
}

/// What this phone kept and has not sent yet; the list itself is on the phone.
#[get("/waiting")]
async fn waiting(who: SignedIn) -> Result<HttpResponse, PageError> {
    let mut frame = Frame::new(&who, "Not sent yet")?;
    frame.here = WAITING.into();
    page(&WaitingPage { frame })
}

/// The pages of a site that a phone takes along, in the order of the work.
fn pages(records: &SiteRecords) -> Vec<String> {
    let id = records.site.id.number();
    let root = address::site_root(id);
    let mut out: Vec<String> =
        ["today", "card", "visit", "zones"].iter().map(|part| format!("{root}/{part}")).collect();
    for own in &records.controllers {
        let path = address::site_controller(id, own.number());
        out.extend(
            ["sheet", "walk", "walk?lang=es", "manual", "manual?what=walk"]
                .iter()
                .map(|part| format!("{path}/{part}")),
        );
    }
    for zone in &records.zones {
        let path = address::zone(id, zone.id);
        out.extend([format!("{path}/cans"), path]);
    }
    out.push(address::sensors(id));
    out.push(format!("{}/wiring", address::sensors(id)));
    out.push(format!("{}/plan", address::sensors(id)));
    out.extend(records.sensors.iter().map(|sensor| address::sensor(id, sensor.id)));
    out.push(format!("{root}/logbook"));
    out.push(WAITING.into());
    out
}

/// What a phone takes along of a site.
#[get("/sites/{id}/along.json")]
async fn along(here: AtSite) -> Result<HttpResponse, PageError> {
    let body = json!({ "site": here.records.site.site.name, "pages": pages(&here.records) });
    Ok(HttpResponse::Ok().json(body))
}

/// A tick of a list of steps, or one taken back; or the whole list cleared. What was ticked without a network counts
/// from when it was ticked, as far as the phone's clock can be believed.
#[post("/sites/{id}/steps")]
async fn tick_step(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let (site, user, list) = (here.site_key(), here.who.user.id, fields.get("list").to_owned());
    let is_name = |text: &str| (1..=80).contains(&text.len()) && text.is_ascii();
    if !is_name(&list) {
        return Err(PageError::BadRequest("The list of steps has no name. Reload the page.".into()));
    }
    if fields.get("clear") == "yes" {
        with_store(&here.state, move |store| store.clear_steps(site, &list)).await?;
        return Ok(
            HttpResponse::Ok().json(json!({ "kept": true, "text": "Every tick is cleared.", "more": [] }))
        );
    }
    let step = fields.get("step").to_owned();
    if !is_name(&step) {
        return Err(PageError::BadRequest("The step has no name. Reload the page.".into()));
    }
    let at = (fields.get("on") == "yes").then(|| entered_at(&fields, here.state.exactly_now()));
    with_store(&here.state, move |store| store.tick_step(site, &list, &step, user, at)).await?;
    Ok(HttpResponse::Ok().json(json!({ "kept": true, "text": "Ticked.", "more": [] })))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;

    #[test]
    fn a_phone_takes_along_what_is_worked_with_at_a_site() {
        let snapshot = fixture::controller_snapshot();
        let all = pages(&snapshot.records);
        for part in ["/today", "/card", "/visit", "/controllers/1/walk", "/controllers/1/sheet", "/sensors"] {
            assert!(all.iter().any(|page| page.ends_with(part)), "{part} of {all:?}");
        }
        let zones = all.iter().filter(|page| page.contains("/zones/") && !page.ends_with("/cans")).count();
        assert_eq!(zones, snapshot.records.zones.len());
        let mut apart = all.clone();
        apart.sort();
        apart.dedup();
        assert_eq!(apart.len(), all.len(), "each once");
    }
}

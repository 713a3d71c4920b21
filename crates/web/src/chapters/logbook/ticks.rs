//! Ticks: programmed, called, wired, tested, calibrated, looked after. One press stores who and when; another takes it back.

use crate::page::quantities::short_date;
use crate::page::ticks::day_of;
use crate::server::address;
use crate::server::error::{PageError, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::{HttpResponse, post, web};
use upland_store::ticks::What;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(tick);
}

/// What a tick is about, in words; `None` when the site has no such thing.
fn words(here: &AtSite, what: What, about: i64, number: i32) -> Option<String> {
    let own_controller = || here.records.controllers.iter().find(|b| b.record.id == about);
    let sensor = || here.records.sensors.iter().find(|s| s.id == about);
    Some(match what {
        What::KeyedIn => {
            let own = own_controller()?;
            let last = own.settings.as_ref().map_or(0, |s| s.version);
            if !(1..=last).contains(&number) {
                return None;
            }
            format!(
                "version {number} programmed at controller {}, {}",
                own.number(),
                own.record.controller.place
            )
        }
        What::Called => {
            let week = day_of(number)?;
            let own = own_controller()?;
            format!(
                "percentage set for the week of {}: controller {}, {}",
                short_date(week),
                own.number(),
                own.record.controller.place
            )
        }
        What::ClockSet | What::BackupBattery => {
            // Numbered by the day it is about: that of the change, that on which the battery was due.
            day_of(number).filter(|day| *day <= here.today())?;
            let own = own_controller()?;
            format!("{}: controller {}, {}", what.label(), own.number(), own.record.controller.place)
        }
        What::Wired | What::Tested | What::Calibrated => {
            if number != 0 {
                return None;
            }
            format!("{} {}", sensor()?.sensor.name, what.label())
        }
    })
}

/// A path of this application, else the logbook.
fn back(here: &AtSite, asked: &str) -> String {
    let root = format!("{}/", address::site_root(here.id()));
    let own = asked == "/calls" || asked.starts_with(&root);
    if own && !asked.contains(['\\', '\n', '\r']) { asked.to_owned() } else { format!("{root}logbook") }
}

#[post("/sites/{id}/ticks")]
async fn tick(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let what = What::from_code(fields.get("what")).ok_or(PageError::NotFound)?;
    let about: i64 = fields.get("about").parse().map_err(|_| PageError::NotFound)?;
    let number: i32 = fields.get("number").parse().unwrap_or(0);
    let said = words(&here, what, about, number).ok_or(PageError::NotFound)?;
    let taken_back = fields.get("back_off") == "yes";
    let at = (!taken_back).then(|| here.now());
    let text = said.clone();
    let done = here.change(move |change| change.tick(what, about, number, at, &said)).await?;
    let text = match (done, taken_back) {
        (true, false) => format!("Ticked: {text}."),
        (true, true) => format!("The tick is taken back: {text}."),
        (false, _) => "It is so already.".to_owned(),
    };
    flash(&here.who.session, text, None)?;
    Ok(see_other(&back(&here, fields.get("back"))))
}

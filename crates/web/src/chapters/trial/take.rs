//! A way taken over as settings of a controller.

use super::query::{self, asked_beside, read};
use super::results::{common, own_ways};
use super::words;
use crate::page::controller_version::{ControllerVersion, Sayings};
use crate::page::forms::base_version;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::{PageError, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::{HttpResponse, post, web};
use jiff::ToSpan;
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::account::site_account::AccountInputs;
use upland_core::controller::schedule::Settings;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::time::midnight;
use upland_core::trial::{PercentageRule, Schedule, TrialWay, apply};
use upland_store::settings::SettingsKind;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(take);
}

/// The settings of a controller under a way on a day: what there is to key in. `None` where the way changes nothing that a
/// controller could be set to for good.
fn settings_of(way: &TrialWay, facts: &AccountInputs, number: u8, today: Date) -> Option<Settings> {
    let kept = matches!(way.percentages, PercentageRule::Left | PercentageRule::Monthly);
    let planned = matches!(way.schedule, Schedule::School(_) | Schedule::Settings(_)) || way.days.is_some();
    if !kept && !planned {
        return None;
    }
    // What somebody chose for a controller stands as they chose it, its delay and rhythms included.
    if let (Schedule::Settings(all), false, None) = (&way.schedule, kept, way.days) {
        return all.iter().find(|(own, _)| *own == number).map(|(_, settings)| settings.clone());
    }
    let month_ago = today.checked_sub(1.month()).unwrap_or(today);
    let (tried, _) = apply(way, facts, DateSpan::new(month_ago, today)).ok()?;
    let at = midnight(today.tomorrow().unwrap_or(today), &facts.tz);
    let settings = tried.of_controller(number)?.settings_at(at)?.clone();
    if planned {
        return Some(settings);
    }
    let present = facts.of_controller(number)?.settings_at(at)?.clone();
    Some(Settings { percentages: settings.percentages, ..present })
}

questions! {
    facts SettingsUnder { way: String, today: Date } -> Vec<(u8, Settings)>;
}

/// The settings of every controller under a way that there is something to program of: a plan may have to be made for them, so
/// they are found once for the facts and the day.
pub(super) async fn settings_under(
    here: &AtSite,
    way: &TrialWay,
) -> Result<Arc<Vec<(u8, Settings)>>, PageError> {
    let today = here.moment(None).date;
    let question = SettingsUnder { way: way.name.clone(), today };
    let (known, way) = (here.snapshot(None).await?, way.clone());
    here.once(here.about(), question, 20, move |_| {
        let controllers = known.inputs.controllers.iter().map(|own| own.number);
        let of = |number| Some((number, settings_of(&way, &known.inputs, number, today)?));
        Ok(controllers.filter_map(of).collect())
    })
    .await
}

/// Takes a way over as a version of a controller's settings, with the trial as its reason.
#[post("/sites/{id}/trial/take")]
async fn take(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let number: u8 = fields.get("controller").parse().map_err(|_| PageError::NotFound)?;
    let snapshot = here.controller_snapshot(number).await?;
    let base = base_version(&fields)?;
    let code = fields.get("way").to_owned();
    let own = own_ways(&here).await?;
    let own = own.iter().filter_map(|own| own.way.clone().ok());
    let way = common().into_iter().chain(own).find(|way| way.name == code).ok_or(PageError::NotFound)?;
    let (asked, _) = read(&here, &asked_beside(&fields)?);
    let (root, way_code) = (address::site_root(here.id()), address::encoded(&code));
    let back = format!("{root}/trial?{}&way={way_code}", asked.query());
    let all = settings_under(&here, &way).await?;
    let Some(settings) = all.iter().find(|(own, _)| *own == number).map(|(_, s)| s.clone()) else {
        flash(
            &here.who.session,
            "This option is not a lasting setting of a controller. Nothing was stored.",
            None,
        )?;
        return Ok(see_other(&back));
    };
    if settings == snapshot.settings() {
        flash(&here.who.session, "The controller is already set so.", None)?;
        return Ok(see_other(&back));
    }
    let name = words::way(&way);
    let reason = format!("comparison of {}: {}", query::short(&asked), words::uncapital(&name));
    let say = Sayings {
        done: &|version| {
            format!("{name}: version {version}. Program what changed, or print the controller sheet.")
        },
        done_at: format!("{}/history", snapshot.path()),
        meanwhile: "This is the comparison with it; check again.",
        again_at: back,
        undo: true,
    };
    ControllerVersion { settings, kind: SettingsKind::Planned, reason, base }
        .save(&here, &snapshot, say)
        .await
}

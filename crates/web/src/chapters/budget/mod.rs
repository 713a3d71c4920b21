//! Budget: the percentages of a controller, the error they leave, what lessens it, and this week's value.

mod bars;
mod results;
mod view;

use crate::page::controller_version::{ControllerVersion, Sayings};
use crate::page::frame::{Chapter, Frame};
use crate::server::address;
use crate::server::error::{PageError, page, see_other};
use crate::server::request_locale::off_loop;
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::controller_snapshot::ControllerSnapshot;
use actix_web::{HttpResponse, get, post, web};
use results::{Asked, Results};
use std::sync::Arc;
use upland_core::advice::budget::{
    Measure, RainRule, budget, improvements, needs, week, with_best, with_week,
};
use upland_core::advice::findings::faults;
use upland_core::codes::Coded;
use upland_core::controller::schedule::{Percentages, Settings};
use upland_core::quantity::month::Month;
use upland_core::sound::{SoundBase, sound_base};
use upland_store::settings::SettingsKind;
use view::BudgetPage;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(first_controller)
        .service(budget_page)
        .service(set_month)
        .service(set_week)
        .service(improve);
}

/// What the page is asked for.
#[derive(serde::Deserialize, Clone)]
struct Query {
    rain: Option<String>,
    measure: Option<String>,
    /// 1 to 12.
    month: Option<i8>,
    /// A station, whose month is opened.
    zone: Option<u16>,
}

impl Query {
    fn asked(&self) -> Asked {
        Asked {
            rain: self.rain.as_deref().and_then(RainRule::from_code).unwrap_or_default(),
            measure: self.measure.as_deref().and_then(Measure::from_code).unwrap_or_default(),
        }
    }
}

#[get("/sites/{id}/budget")]
async fn first_controller(here: AtSite) -> Result<HttpResponse, PageError> {
    let records = Arc::clone(&here.records);
    match records.controllers.first() {
        Some(first) => {
            Ok(see_other(&format!("{}/budget", address::site_controller(here.id(), first.number()))))
        }
        None => page(&view::NoController {
            frame: Frame::of_site(&here, "Budget", Chapter::Budget)?,
            site_id: here.id(),
        }),
    }
}

#[get("/sites/{id}/controllers/{number}/budget")]
async fn budget_page(
    here: AtSite,
    path: web::Path<(i64, u8)>,
    query: web::Query<Query>,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let history = here.settings_history(&snapshot).await?;
    let mut frame =
        Frame::of_site(&here, format!("{}: budget", snapshot.controller()?.place), Chapter::Budget)?;
    frame.here = format!("{}/budget", snapshot.path());
    let asked = query.asked();
    let shared = here.state.clone();
    let drawn = off_loop(move || {
        let figures = Results::of(&shared, &snapshot, asked)?;
        BudgetPage::new(
            frame,
            &snapshot,
            &history,
            &figures,
            asked,
            query.month.and_then(Month::from_number),
            query.zone,
        )
    })
    .await??;
    page(&drawn)
}

/// How the figures of a form were asked for.
fn asked_of(fields: &Fields) -> Asked {
    Asked {
        rain: RainRule::from_code(fields.get("rain")).unwrap_or_default(),
        measure: Measure::from_code(fields.get("measure")).unwrap_or_default(),
    }
}

/// Saves settings that the budget made as a new version.
async fn save(
    here: &AtSite,
    snapshot: &ControllerSnapshot,
    fields: &Fields,
    settings: Settings,
    reason: String,
    text: String,
) -> Result<HttpResponse, PageError> {
    let base: i32 = fields
        .get("base")
        .parse()
        .map_err(|_| PageError::BadRequest("The form does not say its version. Reload the page.".into()))?;
    // Back to the month that was looked at.
    let back = match fields.get("month").parse::<u8>() {
        Ok(month) => format!("{}/budget?month={month}", snapshot.path()),
        Err(_) => format!("{}/budget", snapshot.path()),
    };
    let say = Sayings {
        done: &|version| format!("{text} It is version {version}; set it at the controller too."),
        done_at: back.clone(),
        meanwhile: "This is the budget compared with it; check again.",
        again_at: back,
        undo: true,
    };
    ControllerVersion { settings, kind: SettingsKind::Changed, reason, base }.save(here, snapshot, say).await
}

/// Sets the best percentages of a month; a controller that holds twelve takes all.
#[post("/sites/{id}/controllers/{number}/budget/month")]
async fn set_month(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let month = fields.get("month").parse().ok().and_then(Month::from_number);
    let unsaid = || PageError::BadRequest("The form does not say its month. Reload the page.".into());
    let month = month.ok_or_else(unsaid)?;
    let Asked { rain, measure } = asked_of(&fields);
    let settings = snapshot.settings();
    let year = snapshot.today.year();
    let SoundBase { base, .. } = sound_base(&snapshot.installation, &settings, snapshot.today, measure);
    let found = budget(&base, &needs(&snapshot.installation, &snapshot.climate, rain, year), rain);
    let changed = with_best(&settings, &found, month);
    let twelve = matches!(changed.percentages, Percentages::Month(_));
    let name = month.name();
    let (reason, text) = if twelve {
        (
            "twelve monthly percentages from the budget".to_owned(),
            "The twelve percentages are set.".to_owned(),
        )
    } else {
        (format!("{name}'s percentages from the budget"), format!("{name}'s percentages are set."))
    };
    save(&here, &snapshot, &fields, changed, reason, text).await
}

/// Sets this week's percentages.
#[post("/sites/{id}/controllers/{number}/budget/week")]
async fn set_week(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let settings = snapshot.settings();
    let measure = asked_of(&fields).measure;
    let SoundBase { base, .. } = sound_base(&snapshot.installation, &settings, snapshot.today, measure);
    let advice = week(&base, &snapshot.climate, snapshot.today);
    let changed = with_week(&settings, &advice, None);
    let reason = format!("percentage of the week from {}", snapshot.today);
    save(&here, &snapshot, &fields, changed, reason, "This week's percentages are set.".to_owned()).await
}

/// Applies what lessens the error.
#[post("/sites/{id}/controllers/{number}/budget/improve")]
async fn improve(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let Asked { rain, measure } = asked_of(&fields);
    let settings = snapshot.settings();
    let SoundBase { base, .. } = sound_base(&snapshot.installation, &settings, snapshot.today, measure);
    let needs = needs(&snapshot.installation, &snapshot.climate, rain, snapshot.today.year());
    let all = improvements(&base, &needs, rain, snapshot.today, |tried| {
        faults(&snapshot.installation, tried, snapshot.today)
    });
    let which = fields.get("which").parse::<usize>().unwrap_or(0);
    let Some(chosen) = all.into_iter().nth(which) else {
        flash(&here.who.session, "The settings changed meanwhile, and this does not help any more.", None)?;
        return Ok(see_other(&format!("{}/budget", snapshot.path())));
    };
    let reason = format!("budget: {} changes fit the zones of a program to each other", chosen.moves.len());
    let (before, after) = (chosen.before, chosen.after);
    let text = format!(
        "Over a year {:.0} % of the demand is not met instead of {:.0} %, and the surplus is {:.0} % instead of {:.0} %.",
        100.0 * after.short,
        100.0 * before.short,
        100.0 * after.surplus,
        100.0 * before.surplus
    );
    save(&here, &snapshot, &fields, chosen.settings, reason, text).await
}

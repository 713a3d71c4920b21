//! Trial: a season of the site's own weather through one way of watering beside another.

mod view;
mod words;

use crate::page::box_version::{BoxVersion, Sayings};
use crate::page::forms::base_version;
use crate::page::frame::{Chapter, Frame};
use crate::server::address;
use crate::server::download::attachment;
use crate::server::error::{PageError, page, see_other};
use crate::server::parallel::in_parts;
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::sensing::SensorStates;
use actix_web::{HttpResponse, get, post, web};
use jiff::ToSpan;
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::account::whole::Facts;
use upland_core::advice::planner::Strategy;
use upland_core::codes::Coded;
use upland_core::controller::schedule::Settings;
use upland_core::quantity::time::midnight;
use upland_core::trial::{Named, PercentageRule, Refusal, Schedule, Tariff, TrialWay, WayResult, apply, run};
use upland_store::settings::SettingsKind;
use view::TrialPage;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(trial_page).service(csv).service(json).service(take);
}

/// Longest trial, days: three years.
const LONGEST_DAYS: i32 = 3 * 366;

/// What the page is asked for.
#[derive(serde::Deserialize, Clone, Default)]
struct Query {
    from: Option<String>,
    to: Option<String>,
    /// Price of a cubic metre.
    price: Option<String>,
    /// The way that is opened.
    way: Option<String>,
    /// The zone that is opened: box-station.
    zone: Option<String>,
}

/// What is tried.
#[derive(Clone, Debug, PartialEq)]
struct Asked {
    span: (Date, Date),
    price: Option<f64>,
}

/// The ways of the page by their name in addresses: the named ones, and the schools of the planner, but for the soil
/// balance: a box that computes itself is that.
fn ways() -> Vec<TrialWay> {
    let named = Named::TABLE.iter().map(|(named, code)| named.way(code));
    let schools = Strategy::ALL.into_iter().filter(|s| *s != Strategy::SoilBalance);
    let schools = schools.map(|school| TrialWay {
        name: school.code().to_owned(),
        schedule: Schedule::School(school),
        ..TrialWay::default()
    });
    named.chain(schools).collect()
}

/// Ways that were tried, and those that could not be, with the reason.
struct Tried {
    results: Vec<WayResult>,
    refused: Vec<(String, Vec<Refusal>)>,
}

impl Tried {
    /// Every way over the days, on every core.
    fn of(facts: &Facts, asked: &Asked) -> Self {
        let tariff = asked.price.map(|price| Tariff { steps: vec![(f64::INFINITY, price)] });
        let one =
            |way: &TrialWay| (way.name.clone(), run(way, facts, asked.span, tariff.as_ref(), |_, _| ()));
        let parts = in_parts(&ways(), |part| part.iter().map(one).collect::<Vec<_>>());
        let mut tried = Self { results: Vec::new(), refused: Vec::new() };
        for (name, outcome) in parts.into_iter().flatten() {
            match outcome {
                Ok(result) => tried.results.push(result),
                Err(refusals) => tried.refused.push((name, refusals)),
            }
        }
        tried
    }
}

/// A day of the form, or what is wrong with it.
fn day(text: Option<&str>, other: Date, what: &str, errors: &mut Vec<String>) -> Date {
    match text.filter(|t| !t.is_empty()).map(str::parse) {
        None => other,
        Some(Ok(date)) => date,
        Some(Err(_)) => {
            errors.push(format!("{what}: a date written YYYY-MM-DD."));
            other
        }
    }
}

/// What is asked, by default the last year of the record; with what cannot be read or tried.
fn read(here: &AtSite, query: &Query) -> (Asked, Vec<String>) {
    let mut errors = Vec::new();
    let today = here.moment(None).date;
    let (first, last) = here.facts.climate.span().unwrap_or((today, today));
    let to = last.min(today);
    let year_before = to.checked_sub(364.days()).unwrap_or(to).max(first);
    let from = day(query.from.as_deref(), year_before, "First day", &mut errors);
    let to = day(query.to.as_deref(), to, "Last day", &mut errors);
    let days = (to - from).get_days();
    if days < 0 {
        errors.push("The last day lies before the first.".into());
    } else if days >= LONGEST_DAYS {
        errors.push("At most three years are tried at once; choose fewer days.".into());
    }
    let price = query.price.as_deref().map(str::trim).filter(|t| !t.is_empty());
    let read = price.map(|t| t.replace(',', ".").parse::<f64>().ok().filter(|p| p.is_finite() && *p >= 0.0));
    if read == Some(None) {
        errors.push("The price of a cubic metre is a number, nought or more.".into());
    }
    (Asked { span: (from, to), price: read.flatten() }, errors)
}

/// Tries every way, once for the facts and what is asked.
async fn tried(here: &AtSite, asked: &Asked) -> Result<(Arc<SensorStates>, Arc<Tried>), PageError> {
    let states = here.sensor_states(None).await?;
    let key = format!("{} trial {asked:?}", here.facts_key());
    let days = usize::try_from((asked.span.1 - asked.span.0).get_days()).unwrap_or(0);
    let kilobytes = 50 + here.facts.zones.len() * ways().len() * days / 4;
    let (known, asked) = (Arc::clone(&states), asked.clone());
    let tried = here.once(key, kilobytes, move |_| Ok(Tried::of(&known.facts, &asked))).await?;
    Ok((states, tried))
}

#[get("/sites/{id}/trial")]
async fn trial_page(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let (asked, errors) = read(&here, &query);
    let frame = Frame::of_site(&here, "Trial", Chapter::Trial)?;
    if !errors.is_empty() || here.facts.zones.is_empty() {
        return page(&TrialPage::without(frame, &here, &query, errors));
    }
    let (states, tried) = tried(&here, &asked).await?;
    let opened = view::opened(&tried, &query);
    let set = match opened {
        Some(result) => settings_under(&here, &states, &result.way).await?,
        None => Arc::default(),
    };
    page(&TrialPage::of(frame, &here, &query, (&asked, &states.facts, &tried), (opened, &set)))
}

#[get("/sites/{id}/trial.csv")]
async fn csv(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let (asked, errors) = read(&here, &query);
    if let Some(error) = errors.into_iter().next() {
        return Err(PageError::BadRequest(error));
    }
    let (states, tried) = tried(&here, &asked).await?;
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment(&format!("{} trial", here.facts.site.site.name), "csv"))
        .body(view::table(&states.facts, &tried.results)))
}

#[get("/sites/{id}/trial.json")]
async fn json(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let (asked, errors) = read(&here, &query);
    if let Some(error) = errors.into_iter().next() {
        return Err(PageError::BadRequest(error));
    }
    let (_, tried) = tried(&here, &asked).await?;
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&format!("{} trial", here.facts.site.site.name), "json"))
        .body(upland_formats::trial_json::write(asked.span, &tried.results)))
}

/// The settings of a box under a way on a day: what there is to key in. `None` where the way changes nothing that a
/// box could be set to for good.
fn settings_of(way: &TrialWay, facts: &Facts, number: u8, today: Date) -> Option<Settings> {
    let kept = matches!(way.percentages, PercentageRule::Left | PercentageRule::Monthly);
    let school = matches!(way.schedule, Schedule::School(_));
    if !kept && !school {
        return None;
    }
    let month_ago = today.checked_sub(1.month()).unwrap_or(today);
    let (tried, _) = apply(way, facts, (month_ago, today)).ok()?;
    let at = midnight(today.tomorrow().unwrap_or(today), &facts.tz);
    let settings = tried.of_box(number)?.settings_at(at)?.clone();
    if school {
        return Some(settings);
    }
    let present = facts.of_box(number)?.settings_at(at)?.clone();
    Some(Settings { percentages: settings.percentages, ..present })
}

/// The settings of every box under a way that there is something to key in of: a plan may have to be made for them, so
/// they are found once for the facts and the day.
async fn settings_under(
    here: &AtSite,
    states: &Arc<SensorStates>,
    way: &TrialWay,
) -> Result<Arc<Vec<(u8, Settings)>>, PageError> {
    let today = here.moment(None).date;
    let key = format!("{} settings under {} on {today}", here.facts_key(), way.name);
    let (known, way) = (Arc::clone(states), way.clone());
    here.once(key, 20, move |_| {
        let boxes = known.facts.boxes.iter().map(|own| own.number);
        let of = |number| Some((number, settings_of(&way, &known.facts, number, today)?));
        Ok(boxes.filter_map(of).collect())
    })
    .await
}

/// Takes a way over as a version of a box's settings, with the trial as its reason.
#[post("/sites/{id}/trial/take")]
async fn take(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let number: u8 = fields.get("box").parse().map_err(|_| PageError::NotFound)?;
    let bench = here.workbench(number).await?;
    let base = base_version(&fields)?;
    let code = fields.get("way").to_owned();
    let way = ways().into_iter().find(|way| way.name == code).ok_or(PageError::NotFound)?;
    let back = format!("{}/trial?way={code}", address::site_root(here.id()));
    let states = here.sensor_states(None).await?;
    let all = settings_under(&here, &states, &way).await?;
    let Some(settings) = all.iter().find(|(own, _)| *own == number).map(|(_, s)| s.clone()) else {
        flash(
            &here.who.session,
            "This way is nothing that a box is set to for good. Nothing was stored.",
            None,
        )?;
        return Ok(see_other(&back));
    };
    if settings == bench.settings() {
        flash(&here.who.session, "The box is set so already.", None)?;
        return Ok(see_other(&back));
    }
    let name = words::way(&way);
    let reason = format!("trial {} to {}: {}", fields.get("from"), fields.get("to"), name.to_lowercase());
    let say = Sayings {
        done: &|version| format!("{name}: version {version}. Key in what changed, or print the door sheet."),
        done_at: format!("{}/history", bench.path()),
        meanwhile: "This is the trial against it; look again.",
        again_at: back,
        undo: true,
    };
    BoxVersion { settings, kind: SettingsKind::Planned, reason, base }.save(&here, &bench, say).await
}

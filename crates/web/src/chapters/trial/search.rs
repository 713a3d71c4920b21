//! The search for a better way: asked for, watched, stopped, and kept as a way of one's own.

use super::query::{self, Asked, Query, asked_beside, no_sample, read, read_on};
use super::results::{ready, trial_of};
use super::saved::name;
use super::words;
use crate::page::change_words::{ChangeLine, changes_on};
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::{plain, share, volume};
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, flash};
use crate::server::state::{AppState, with_store};
use crate::site::context::{AtSite, EditorAt};
use crate::site::snapshot::Latest;
use crate::site::snapshot::SiteSnapshot;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use std::ops::ControlFlow;
use std::sync::Arc;
use std::time::{Duration, Instant};
use upland_core::account::site_account::AccountInputs;
use upland_core::quantity::ratio::Share;
use upland_core::site::UnitSystem;
use upland_core::trial::{
    Goal, NoSample, Progress, Refusal, Schedule, Space, TrialWay, WayResult, ZoneResult, run_mean, search,
};
use upland_core::weather::climate::Climate;
use upland_formats::way_file;
use upland_store::scope::SiteKey;
use upland_store::searches::{NewSearch, Outcome, Search};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(search_page).service(start).service(stop).service(progress).service(keep);
}

/// Shares of demand that may be asked for, percent.
const GOALS: [u8; 4] = [90, 95, 98, 100];
/// The share that is asked for when none is chosen, percent.
const GOAL: u8 = 95;

/// How the controller fares as it is set, and the best way that was found with how it fares; computed on the facts as they stand.
type Beside = (WayResult, Option<(TrialWay, WayResult)>);

/// The same, or why it cannot be tried any more.
type Searched = Result<Beside, Vec<Refusal>>;

/// A thing that may change: its field, its words, whether it is chosen.
type Choice = (&'static str, &'static str, bool);

fn choices(space: Space) -> [Choice; 5] {
    [
        ("minutes", "run times, zone by zone", space.minutes),
        ("days", "days: every day to every seventh", space.days),
        ("grouping", "grouping, days and starts, as the strategies plan them", space.grouping),
        ("percentages", "percentages", space.percentages),
        ("thresholds", "thresholds of the rain switches", space.thresholds),
    ]
}

/// What may change, by the names of its fields.
fn space_of(codes: &[String]) -> Space {
    let has = |code: &str| codes.iter().any(|own| own == code);
    Space {
        minutes: has("minutes"),
        days: has("days"),
        grouping: has("grouping"),
        percentages: has("percentages"),
        thresholds: has("thresholds"),
    }
}

#[derive(Template)]
#[template(path = "chapters/trial/search.html")]
struct SearchPage {
    frame: Frame,
    site_id: i64,
    same: String,
    weather: String,
    errors: Vec<String>,
    controllers: Vec<(u8, String, bool)>,
    choices: [Choice; 5],
    goals: Vec<(u8, bool)>,
    running: Option<(i32, i32)>,
    found: Option<FoundView>,
}

/// What was found, in words and tables.
struct FoundView {
    answer: String,
    how_far: String,
    held: String,
    is_better: bool,
    stale: bool,
    controller_number: u8,
    changes: Vec<ChangeLine>,
    sensors: Vec<String>,
    zones: Vec<(String, String, String, String, String)>,
    suggested: String,
}

/// What was held fixed.
fn held(space: Space) -> String {
    let fixed: Vec<&str> =
        choices(space).into_iter().filter(|(_, _, chosen)| !chosen).map(|(_, words, _)| words).collect();
    let rest = if space.grouping {
        "the window, the pauses between stations and every other controller"
    } else {
        "programs, starts, cycles, the window and every other controller"
    };
    if fixed.is_empty() {
        format!("Kept fixed: {rest}.")
    } else {
        format!("Kept fixed: {}; {rest}.", fixed.join("; "))
    }
}

impl FoundView {
    fn of(
        here: &AtSite,
        facts: &AccountInputs,
        asked: &NewSearch,
        outcome: &Outcome,
        searched: &Searched,
    ) -> Self {
        let (units, number) = (here.records.units(), asked.controller_number);
        let blank = |answer: String| Self {
            answer,
            how_far: String::new(),
            held: held(space_of(&asked.space)),
            is_better: false,
            stale: outcome.revision != here.records.site.revision,
            controller_number: number,
            changes: Vec::new(),
            sensors: Vec::new(),
            zones: Vec::new(),
            suggested: String::new(),
        };
        if !outcome.refusals.is_empty() {
            return blank(format!("Nothing was searched: {}.", outcome.refusals.join("; ")));
        }
        let (now, found) = match searched {
            Ok(found) => found,
            Err(refusals) => {
                let why: Vec<String> = refusals.iter().map(words::refusal).collect();
                return blank(format!("What was found cannot be tried any more: {}.", why.join("; ")));
            }
        };
        let whole = if outcome.complete { "It went to its end" } else { "It was stopped" };
        let how_far = format!("{whole}: {} schedules fitted, {} seasons run.", outcome.tried, outcome.runs);
        let Some((way, best)) = found else {
            return Self {
                how_far,
                ..blank("None that was compared keeps to the restrictions and the water window.".into())
            };
        };
        let changes = changes(here, way, number);
        Self {
            answer: answer(facts, asked.goal_pct, now, best, units),
            how_far,
            is_better: !(way.sensors.is_empty() && changes.is_empty()),
            changes,
            sensors: words::sensor_settings(way, units),
            zones: zones(facts, now, best),
            suggested: format!("Searched, {} % of need", asked.goal_pct),
            ..blank(String::new())
        }
    }
}

fn answer(
    facts: &AccountInputs,
    goal_pct: u8,
    now: &WayResult,
    best: &WayResult,
    units: UnitSystem,
) -> String {
    let (before, after) = (now.water(), best.water());
    let pct = if before > 0.0 { 100.0 * (1.0 - after / before) } else { 0.0 };
    let amount =
        |result: &WayResult| result.site.litres.map_or(String::new(), |l| format!(" ({})", volume(units, l)));
    let uses = match pct {
        p if p >= 0.5 => {
            format!(
                "The best option found uses {} % less water than the current settings{}",
                plain(p, 0),
                amount(best)
            )
        }
        p if p <= -0.5 => {
            format!(
                "The best option found uses {} % more water than the current settings{}",
                plain(-p, 0),
                amount(best)
            )
        }
        _ => "The best option found uses as much water as the current settings".to_owned(),
    };
    let goal = Share::from_percent(f64::from(goal_pct));
    let short: Vec<&ZoneResult> = best.zones.iter().filter(|z| z.adequacy() < goal).collect();
    let name = |zone: &ZoneResult| words::zone_name(facts, zone);
    match short.as_slice() {
        [] => format!("{uses}; every zone has {goal_pct} % of its requirement."),
        [one] => format!(
            "{uses}; {} has {} of its requirement, the others {goal_pct} %.",
            name(one),
            share(one.adequacy())
        ),
        more => format!("{uses}; {} zones stay below {goal_pct} %.", more.len()),
    }
}

fn changes(here: &AtSite, way: &TrialWay, number: u8) -> Vec<ChangeLine> {
    let Schedule::Settings(all) = &way.schedule else { return Vec::new() };
    let own = here.records.controllers.iter().find(|own| own.number() == number);
    let (Some((_, settings)), Some(own)) = (all.first(), own) else { return Vec::new() };
    changes_on(&here.records, own, settings)
}

/// Each zone's name, enough now and then, water now and then.
fn zones(
    facts: &AccountInputs,
    now: &WayResult,
    best: &WayResult,
) -> Vec<(String, String, String, String, String)> {
    let mm = |zone: &ZoneResult| crate::page::quantities::depth(facts.site.units, zone.applied);
    let line = |(now, best): (&ZoneResult, &ZoneResult)| {
        let name = words::zone_name(facts, now);
        (name, share(now.adequacy()), share(best.adequacy()), mm(now), mm(best))
    };
    now.zones.iter().zip(&best.zones).map(line).collect()
}

/// The way that was found, as it reads on the site as it stands.
fn way_found(facts: &AccountInputs, outcome: &Outcome) -> Option<TrialWay> {
    way_file::read(outcome.way.as_ref()?.to_string().as_bytes(), facts).ok()
}

/// The trial that a search was asked beside.
fn asked_of(climate: &Climate, today: Date, search: &NewSearch) -> Result<Asked, PageError> {
    let query = web::Query::<Query>::from_query(&search.asked);
    let query = query.map_err(|error| PageError::BadRequest(error.to_string()))?;
    Ok(read_on(climate, today, &query).0)
}

/// Puts what was found beside the controller as it is set, on the weather of the search.
fn beside(
    snapshot: &SiteSnapshot,
    asked: &Asked,
    number: u8,
    outcome: &Outcome,
) -> Result<Searched, NoSample> {
    let made = ready(snapshot, &trial_of(snapshot, asked, String::new(), Vec::new()))?;
    let alone = made.facts.only_controller(number);
    let as_set = TrialWay { name: "as-set".into(), ..TrialWay::default() };
    let run = |way: &TrialWay| run_mean(way, &alone, made.span, None);
    Ok(run(&as_set).and_then(|now| {
        let best = way_found(&snapshot.inputs, outcome).map(|way| run(&way).map(|result| (way, result)));
        Ok((now, best.transpose()?))
    }))
}

questions! {
    /// What a search found beside what is set.
    facts FoundBeside { search: i32, today: Date } -> Option<Searched>;
}

/// The search of a site, if one was asked for.
async fn known(here: &AtSite) -> Result<Option<Search>, PageError> {
    let site = here.site_key();
    here.read(move |snapshot| snapshot.search(site)).await
}

#[get("/sites/{id}/trial/search")]
async fn search_page(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let (asked, mut errors) = read(&here, &query);
    let known = known(&here).await?;
    let running = known.as_ref().filter(|search| search.runs).map(|search| search.progress);
    let snapshot = here.snapshot(None).await?;
    let today = here.moment(None).date;
    let ended = known.as_ref().and_then(|search| Some((search, search.outcome.as_ref()?)));
    if known.as_ref().is_some_and(|search| !search.runs && search.outcome.is_none()) {
        errors.push("The search was interrupted; start it again.".into());
    }
    let asked = match &known {
        Some(search) => asked_of(&snapshot.climate, today, &search.asked)?,
        None => asked,
    };
    let found = match ended {
        Some((search, outcome)) => {
            let question = FoundBeside { search: search.number, today };
            let (beside_states, asked, outcome_of) = (Arc::clone(&snapshot), asked.clone(), outcome.clone());
            let number = search.asked.controller_number;
            let compare = move |_: &AppState| Ok(beside(&beside_states, &asked, number, &outcome_of).ok());
            let searched = here.once(here.about(), question, 20 * here.records.zones.len(), compare).await?;
            let of = (&search.asked, outcome);
            searched.as_ref().as_ref().map(|own| FoundView::of(&here, &snapshot.inputs, of.0, of.1, own))
        }
        None => None,
    };
    let (space, goal) =
        known.as_ref().map_or((Space::ALL, GOAL), |s| (space_of(&s.asked.space), s.asked.goal_pct));
    let first = here.records.controllers.first().map(|own| own.number());
    let chosen = known.as_ref().map(|search| search.asked.controller_number).or(first);
    let weather = match ended.filter(|(_, outcome)| !outcome.origin.is_empty()) {
        Some((_, outcome)) => outcome.origin.clone(),
        None => ready(&snapshot, &trial_of(&snapshot, &asked, String::new(), Vec::new()))
            .map_or_else(no_sample, |ready| query::origin(&ready.origin, ready.span.first, ready.span.last)),
    };
    page(&SearchPage {
        frame: Frame::of_site(&here, "Optimise", Chapter::Trial)?,
        site_id: here.id(),
        same: asked.query(),
        weather,
        errors,
        controllers: here
            .records
            .controller_names()
            .into_iter()
            .map(|(n, place)| (n, place, Some(n) == chosen))
            .collect(),
        choices: choices(space),
        goals: GOALS.map(|own| (own, own == goal)).into(),
        running,
        found,
    })
}

#[post("/sites/{id}/trial/search")]
async fn start(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let (asked, errors) = read(&here, &asked_beside(&fields)?);
    let back = format!("{}/trial/search?{}", address::site_root(here.id()), asked.query());
    let controller_number: u8 = fields.get("controller").parse().map_err(|_| PageError::NotFound)?;
    let chosen = |name: &str| !fields.get(name).is_empty();
    let space = Space {
        percentages: chosen("percentages"),
        days: chosen("days"),
        thresholds: chosen("thresholds"),
        minutes: chosen("minutes"),
        grouping: chosen("grouping"),
    };
    let goal_pct = fields.get("goal").parse().ok().filter(|g| GOALS.contains(g)).unwrap_or(GOAL);
    let none = Space { percentages: false, days: false, thresholds: false, minutes: false, grouping: false };
    let mut refused = errors.into_iter().next();
    if space == none {
        refused = refused.or(Some("Choose what may change.".into()));
    }
    let snapshot = here.snapshot(None).await?;
    let trial = trial_of(&snapshot, &asked, String::new(), Vec::new());
    let made = ready(&snapshot, &trial);
    if let Err(why) = &made {
        refused = refused.or(Some(no_sample(*why)));
    }
    if let Some(why) = refused {
        flash(&here.who.session, format!("{why} Nothing is searched."), None)?;
        return Ok(see_other(&back));
    }
    let codes = choices(space).into_iter().filter(|(_, _, chosen)| *chosen);
    let new = NewSearch {
        controller_number,
        space: codes.map(|(code, _, _)| code.to_owned()).collect(),
        goal_pct,
        asked: asked.query(),
    };
    let (site, actor) = (here.site_key(), here.who.user.id);
    if !known(&here).await?.is_some_and(|search| search.runs) {
        with_store(&here.state, move |store| store.begin_search(site, &new, actor)).await?;
    }
    Ok(see_other(&back))
}

/// How often a search says how far it is, and hears whether it shall stop.
const TELL: Duration = Duration::from_millis(500);

/// Searches what was asked for at a site; what came of it, in words. A worker does this, and begins anew what one that was
/// killed had begun.
pub(crate) fn search_for(state: &AppState, site: SiteKey) -> Result<Option<String>, PageError> {
    let known = state.store.read(|snapshot| snapshot.search(site))?;
    let Some(asked) = known.filter(|search| search.runs) else { return Ok(None) };
    let Some(Latest { site: snapshot, stamp, .. }) = Latest::open(state, site)? else { return Ok(None) };
    let trial = asked_of(&snapshot.climate, snapshot.today(), &asked.asked)?;
    let revision = stamp.revision;
    let refused = |refusals: Vec<String>| Outcome { refusals, revision, ..Outcome::default() };
    let outcome = match ready(&snapshot, &trial_of(&snapshot, &trial, String::new(), Vec::new())) {
        Err(why) => refused(vec![no_sample(why)]),
        Ok(made) => {
            let goal = Goal { adequacy: Share::from_percent(f64::from(asked.asked.goal_pct)) };
            let mut told = Instant::now();
            let each = |far: &Progress| {
                if told.elapsed() < TELL && far.tried > 1 {
                    return ControlFlow::Continue(());
                }
                told = Instant::now();
                // A database that is gone for a moment stops no search: it is asked again.
                match state.store.tell_search(site, asked.number, far.tried, far.of) {
                    Ok(false) => ControlFlow::Break(()),
                    Ok(true) | Err(_) => ControlFlow::Continue(()),
                }
            };
            let of = (space_of(&asked.asked.space), goal);
            match search(&made.facts, asked.asked.controller_number, made.span, of.0, of.1, each) {
                Err(refusals) => refused(refusals.iter().map(words::refusal).collect()),
                Ok(found) => Outcome {
                    complete: found.complete,
                    tried: found.progress.tried,
                    runs: found.progress.runs,
                    origin: query::origin(&made.origin, made.span.first, made.span.last),
                    revision,
                    way: found.way.map(|(way, _)| way_file::to_value(&way)),
                    refusals: Vec::new(),
                },
            }
        }
    };
    state.store.end_search(site, asked.number, &outcome)?;
    Ok(Some(format!("{} schedules fitted, {} seasons run", outcome.tried, outcome.runs)))
}

#[post("/sites/{id}/trial/search/stop")]
async fn stop(EditorAt(here): EditorAt, _fields: Fields) -> Result<HttpResponse, PageError> {
    let site = here.site_key();
    with_store(&here.state, move |store| store.stop_search(site)).await?;
    Ok(see_other(&format!("{}/trial/search", address::site_root(here.id()))))
}

#[get("/sites/{id}/trial/search/progress.json")]
async fn progress(here: AtSite) -> Result<HttpResponse, PageError> {
    let known = known(&here).await?;
    let (done, of) = known.as_ref().map_or((0, 0), |search| search.progress);
    let running = known.is_some_and(|search| search.runs);
    Ok(HttpResponse::Ok().json(serde_json::json!({ "running": running, "done": done, "of": of })))
}

/// Keeps what was found as a way of one's own.
#[post("/sites/{id}/trial/search/keep")]
async fn keep(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let root = address::site_root(here.id());
    let back = format!("{root}/trial/search");
    let snapshot = here.snapshot(None).await?;
    let known = known(&here).await?;
    let found = known.as_ref().and_then(|search| {
        let way = way_found(&snapshot.inputs, search.outcome.as_ref()?)?;
        Some((way, asked_of(&snapshot.climate, here.moment(None).date, &search.asked)))
    });
    let Some((way, asked)) = found else {
        flash(&here.who.session, "What was found is no longer there; search again.", None)?;
        return Ok(see_other(&back));
    };
    let asked = asked?;
    let name = match name(fields.get("name")) {
        Ok(name) => name,
        Err(error) => {
            flash(&here.who.session, format!("{error} Nothing was kept."), None)?;
            return Ok(see_other(&back));
        }
    };
    let way = TrialWay { name: name.clone(), ..way };
    let value = way_file::to_value(&way);
    let kept = name.clone();
    let Some(id) = here.change(move |change| change.save_trial_way(&kept, &value)).await? else {
        flash(
            &here.who.session,
            format!("There is an option called \"{name}\" already; choose another name."),
            None,
        )?;
        return Ok(see_other(&back));
    };
    let undo = format!("{root}/trial/ways/{id}/undo");
    flash(
        &here.who.session,
        format!("{name} is tried beside the others; take it over from there."),
        Some(undo),
    )?;
    Ok(see_other(&format!("{root}/trial?{}&way={}#h-way", asked.query(), address::encoded(&name))))
}

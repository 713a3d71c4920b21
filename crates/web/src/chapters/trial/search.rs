//! The search for a better way: asked for, watched, stopped, and kept as a way of one's own.

use super::asked::{self, Asked, Query, asked_beside, no_sample, read};
use super::kept::name;
use super::tried::{ready, trial_of};
use super::words;
use crate::page::change_words::{ChangeLine, changes_on};
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::{plain, share, volume};
use crate::server::address;
use crate::server::error::{PageError, page, see_other};
use crate::server::jobs::NotBegun;
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::ops::ControlFlow;
use upland_core::account::whole::Facts;
use upland_core::quantity::ratio::Share;
use upland_core::site::UnitSystem;
use upland_core::trial::{
    Found, Goal, NoSample, Refusal, Schedule, Space, TrialWay, WayResult, ZoneResult, search,
};
use upland_formats::way_file;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(search_page).service(start).service(stop).service(progress).service(keep);
}

/// Shares of demand that may be asked for, percent.
const GOALS: [u8; 4] = [90, 95, 98, 100];
/// The share that is asked for when none is chosen, percent.
const GOAL: u8 = 95;

/// What a search came to, with what it was asked.
struct Searched {
    box_number: u8,
    space: Space,
    goal_pct: u8,
    asked: Asked,
    /// Where its days came from.
    origin: String,
    /// The facts it was made for, by their key.
    facts_key: String,
    outcome: Result<Found, Vec<Refusal>>,
}

fn job(site: i64) -> String {
    format!("search of site {site}")
}

/// A thing that may change: its field, its words, whether it is chosen.
type Choice = (&'static str, &'static str, bool);

fn choices(space: Space) -> [Choice; 5] {
    [
        ("minutes", "run times, zone by zone", space.minutes),
        ("days", "days: every day to every seventh", space.days),
        ("grouping", "grouping, days and starts, as the schools plan them", space.grouping),
        ("percentages", "percentages", space.percentages),
        ("thresholds", "thresholds of the rain switches", space.thresholds),
    ]
}

#[derive(Template)]
#[template(path = "chapters/trial/search.html")]
struct SearchPage {
    frame: Frame,
    site_id: i64,
    same: String,
    weather: String,
    errors: Vec<String>,
    boxes: Vec<(u8, String, bool)>,
    choices: [Choice; 5],
    goals: Vec<(u8, bool)>,
    running: Option<(usize, usize)>,
    found: Option<FoundView>,
}

/// What was found, in words and tables.
struct FoundView {
    answer: String,
    how_far: String,
    held: String,
    is_better: bool,
    stale: bool,
    box_number: u8,
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
        "the window, the pauses between stations and every other box"
    } else {
        "programs, starts, cycles, the window and every other box"
    };
    if fixed.is_empty() {
        format!("Held fixed: {rest}.")
    } else {
        format!("Held fixed: {}; {rest}.", fixed.join("; "))
    }
}

impl FoundView {
    fn of(here: &AtSite, facts: &Facts, searched: &Searched) -> Self {
        let units = here.facts.units();
        let number = searched.box_number;
        let blank = |answer: String| Self {
            answer,
            how_far: String::new(),
            held: held(searched.space),
            is_better: false,
            stale: searched.facts_key != here.facts_key(),
            box_number: number,
            changes: Vec::new(),
            sensors: Vec::new(),
            zones: Vec::new(),
            suggested: String::new(),
        };
        let found = match &searched.outcome {
            Ok(found) => found,
            Err(refusals) => {
                let why: Vec<String> = refusals.iter().map(words::refusal).collect();
                return blank(format!("Nothing was searched: {}.", why.join("; ")));
            }
        };
        let p = &found.progress;
        let whole = if found.complete { "It went to its end" } else { "It was stopped" };
        let how_far = format!("{whole}: {} schedules fitted, {} seasons run.", p.tried, p.runs);
        let Some((way, best)) = &found.way else {
            return Self {
                how_far,
                ..blank("None that was tried keeps to the law and the water window.".into())
            };
        };
        let (now, changes) = (&found.now, changes(here, way, number));
        Self {
            answer: answer(facts, searched.goal_pct, (now, best), units),
            how_far,
            is_better: !(way.sensors.is_empty() && changes.is_empty()),
            changes,
            sensors: words::sensor_settings(way, units),
            zones: zones(facts, now, best),
            suggested: format!("Searched, {} % of need", searched.goal_pct),
            ..blank(String::new())
        }
    }
}

fn answer(facts: &Facts, goal_pct: u8, (now, best): (&WayResult, &WayResult), units: UnitSystem) -> String {
    let (before, after) = (now.water(), best.water());
    let pct = if before > 0.0 { 100.0 * (1.0 - after / before) } else { 0.0 };
    let amount =
        |result: &WayResult| result.site.litres.map_or(String::new(), |l| format!(" ({})", volume(units, l)));
    let uses = match pct {
        p if p >= 0.5 => {
            format!("The best way found uses {} % less water than as it is set{}", plain(p, 0), amount(best))
        }
        p if p <= -0.5 => {
            format!("The best way found uses {} % more water than as it is set{}", plain(-p, 0), amount(best))
        }
        _ => "The best way found uses as much water as it is set".to_owned(),
    };
    let goal = Share::from_percent(f64::from(goal_pct));
    let short: Vec<&ZoneResult> = best.zones.iter().filter(|z| z.adequacy() < goal).collect();
    let name = |zone: &ZoneResult| words::zone_name(facts, zone);
    match short.as_slice() {
        [] => format!("{uses}; every zone has {goal_pct} % of what it asks for."),
        [one] => format!(
            "{uses}; {} has {} of what it asks for, the others {goal_pct} %.",
            name(one),
            share(one.adequacy())
        ),
        more => format!("{uses}; {} zones stay below {goal_pct} %.", more.len()),
    }
}

fn changes(here: &AtSite, way: &TrialWay, number: u8) -> Vec<ChangeLine> {
    let Schedule::Settings(all) = &way.schedule else { return Vec::new() };
    let own = here.facts.boxes.iter().find(|own| own.number() == number);
    let (Some((_, settings)), Some(own)) = (all.first(), own) else { return Vec::new() };
    changes_on(&here.facts, own, settings)
}

/// Each zone's name, enough now and then, water now and then.
fn zones(facts: &Facts, now: &WayResult, best: &WayResult) -> Vec<(String, String, String, String, String)> {
    let mm = |zone: &ZoneResult| crate::page::quantities::depth(facts.site.units, zone.applied);
    let line = |(now, best): (&ZoneResult, &ZoneResult)| {
        let name = words::zone_name(facts, now);
        (name, share(now.adequacy()), share(best.adequacy()), mm(now), mm(best))
    };
    now.zones.iter().zip(&best.zones).map(line).collect()
}

#[get("/sites/{id}/trial/search")]
async fn search_page(here: AtSite, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let (asked, errors) = read(&here, &query);
    let known = here.state.jobs.of(&job(here.id()));
    let running = known.as_ref().filter(|job| job.runs()).map(|job| job.progress());
    let outcome = known.and_then(|job| job.outcome::<Searched>());
    let (space, goal) = outcome.as_ref().map_or((Space::ALL, GOAL), |o| (o.space, o.goal_pct));
    let states = here.sensor_states(None).await?;
    let chosen =
        outcome.as_ref().map(|o| o.box_number).or_else(|| here.facts.boxes.first().map(|b| b.number()));
    let asked = outcome.as_ref().map_or(asked, |o| o.asked.clone());
    let weather = match &outcome {
        Some(outcome) => outcome.origin.clone(),
        None => ready(&states, &trial_of(&states, &asked, String::new(), Vec::new()))
            .map_or_else(no_sample, |ready| asked::origin(&ready.origin, ready.span)),
    };
    page(&SearchPage {
        frame: Frame::of_site(&here, "Search a better way", Chapter::Trial)?,
        site_id: here.id(),
        same: asked.query(),
        weather,
        errors,
        boxes: here.facts.box_names().into_iter().map(|(n, place)| (n, place, Some(n) == chosen)).collect(),
        choices: choices(space),
        goals: GOALS.map(|own| (own, own == goal)).into(),
        running,
        found: outcome.map(|outcome| FoundView::of(&here, &states.facts, &outcome)),
    })
}

#[post("/sites/{id}/trial/search")]
async fn start(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let (asked, errors) = read(&here, &asked_beside(&fields)?);
    let back = format!("{}/trial/search?{}", address::site_root(here.id()), asked.query());
    let box_number: u8 = fields.get("box").parse().map_err(|_| PageError::NotFound)?;
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
    let states = here.sensor_states(None).await?;
    let trial = trial_of(&states, &asked, String::new(), Vec::new());
    let made = ready(&states, &trial);
    if let Err(why) = &made {
        refused = refused.or(Some(no_sample(*why)));
    }
    if let Some(why) = refused {
        flash(&here.who.session, format!("{why} Nothing is searched."), None)?;
        return Ok(see_other(&back));
    }
    let made = made.map_err(|_: NoSample| PageError::NotFound)?;
    let facts_key = here.facts_key();
    let origin = asked::origin(&made.origin, made.span);
    let begun = here.state.jobs.begin(&job(here.id()), move |job| {
        let goal = Goal { adequacy: Share::from_percent(f64::from(goal_pct)) };
        let outcome = search((&made.facts, box_number), made.span, (space, goal), |far| {
            job.tell(far.tried, far.of);
            if job.is_stopped() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        Searched { box_number, space, goal_pct, asked, origin, facts_key, outcome }
    });
    match begun {
        Ok(_) | Err(NotBegun::Runs) => {}
        Err(NotBegun::Busy) => flash(
            &here.who.session,
            "A search for another site goes on; one runs at a time, so that pages stay fast. Try again in a minute.",
            None,
        )?,
    }
    Ok(see_other(&back))
}

#[post("/sites/{id}/trial/search/stop")]
async fn stop(EditorAt(here): EditorAt, _fields: Fields) -> Result<HttpResponse, PageError> {
    if let Some(job) = here.state.jobs.of(&job(here.id())) {
        job.stop();
    }
    here.state.jobs.forget(&job(here.id()));
    Ok(see_other(&format!("{}/trial/search", address::site_root(here.id()))))
}

#[get("/sites/{id}/trial/search/progress.json")]
async fn progress(here: AtSite) -> Result<HttpResponse, PageError> {
    let known = here.state.jobs.of(&job(here.id()));
    let (done, of) = known.as_ref().map_or((0, 0), |job| job.progress());
    let running = known.is_some_and(|job| job.runs());
    Ok(HttpResponse::Ok().json(serde_json::json!({ "running": running, "done": done, "of": of })))
}

/// Keeps what was found as a way of one's own.
#[post("/sites/{id}/trial/search/keep")]
async fn keep(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let root = address::site_root(here.id());
    let back = format!("{root}/trial/search");
    let outcome = here.state.jobs.of(&job(here.id())).and_then(|job| job.outcome::<Searched>());
    let found =
        outcome.as_ref().and_then(|o| o.outcome.as_ref().ok()?.way.clone().map(|(way, _)| (way, &o.asked)));
    let Some((way, asked)) = found else {
        flash(&here.who.session, "What was found is no longer there; search again.", None)?;
        return Ok(see_other(&back));
    };
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
            format!("There is a way called \"{name}\" already; choose another name."),
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

//! The call list: what each controller will do tonight and what to set this week, over all sites.

use super::standing::Standing;
use super::work::{changes, work_on};
use crate::page::dates::in_own_words;
use crate::page::frame::Frame;
use crate::page::pagination::{LINES, Pages, asked_page};
use crate::page::quantities::{counted, plain, short_date};
use crate::page::ticks::{TickMark, week_number};
use crate::server::address;
use crate::server::download::attachment;
use crate::server::error::{PageError, page};
use crate::server::parallel::each_of;
use crate::server::request_locale::off_loop;
use crate::server::state::{AppState, read};
use crate::site::context::AllSites;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use upland_core::quantity::ratio::Percentage;
use upland_store::rounds::{CallRow, NightRow, NightState};
use upland_store::scope::Scope;
use upland_store::ticks::{TickRecord, What};

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(list).service(csv);
}

struct CallLine {
    href: String,
    site: String,
    place: String,
    turns: String,
    set: String,
    advised: String,
    /// The two percentages on one scale.
    marks: Option<Marks>,
    because: String,
    changes: bool,
    /// One tick a controller, in the first of its lines.
    called: Option<TickMark>,
}

#[derive(Template)]
#[template(path = "chapters/round/calls/list.html")]
struct ListPage {
    frame: Frame,
    lead: String,
    lines: Vec<CallLine>,
    call_pages: Pages,
    nights: Vec<NightLine>,
    night_pages: Pages,
    as_of: Option<String>,
    /// What is still worked on, in words.
    waiting: Option<String>,
}

/// A controller tonight.
struct NightLine {
    href: String,
    site: String,
    place: String,
    sentence: String,
    wrong: bool,
}

fn night_line(night: NightRow) -> NightLine {
    NightLine {
        href: format!("{}?controller={}", address::today(night.site_id.number()), night.number),
        place: format!("{} {}", night.number, night.place),
        sentence: in_own_words(&night.sentence).to_owned(),
        wrong: night.state == NightState::Wrong,
        site: night.site,
    }
}

fn line(row: &CallRow, called: &[TickRecord], is_first: bool) -> CallLine {
    let (site, call) = (row.site_id.number(), &row.call);
    let what = (What::Called, call.controller_id, week_number(call.week));
    CallLine {
        called: is_first
            .then(|| TickMark::of(site, what.0, what.1, what.2, called, &TimeZone::UTC, "/calls".into())),
        href: format!("{}/budget#h-week", address::site_controller(site, call.number)),
        site: row.site.clone(),
        place: format!("{} {}", call.number, call.place),
        turns: if call.program.is_empty() {
            "whole controller".into()
        } else {
            format!("program {}", call.program)
        },
        set: call.set.to_string(),
        advised: call.advised.map_or("none".into(), |a| a.to_string()),
        marks: call.advised.map(|advised| Marks::of(call.set, advised)),
        because: format!(
            "week from {}: {}{}",
            short_date(call.week),
            call.because,
            if call.record_ended.is_some() { "; the weather record ended then" } else { "" }
        ),
        changes: changes(call),
    }
}

/// Where the scale of the percentages ends; what is beyond is drawn at its end.
const SCALE_PCT: f64 = 200.0;
const SCALE_WIDTH: f64 = 100.0;

/// The percentage that is set and the advised one as two marks on one scale from 0 to 200 %.
struct Marks {
    now: String,
    advised: String,
    from: String,
    width: String,
    words: String,
}

impl Marks {
    fn of(set: Percentage, advised: Percentage) -> Self {
        let at = |p: Percentage| SCALE_WIDTH * (f64::from(p.percent()) / SCALE_PCT).min(1.0);
        let (now, to) = (at(set), at(advised));
        Self {
            now: plain(now, 1),
            advised: plain(to, 1),
            from: plain(now.min(to), 1),
            width: plain((to - now).abs(), 1),
            words: format!("now {set}, advised {advised}"),
        }
    }
}

/// Whether the line at a place is the first of its controller on the page.
fn is_first(calls: &[CallRow], place: usize) -> bool {
    let of = |k: usize| calls.get(k).map(|row| row.call.controller_id);
    place == 0 || of(place - 1) != of(place)
}

/// Which pages of the two lists are shown.
#[derive(serde::Deserialize)]
struct Listing {
    tonight: Option<String>,
    percentages: Option<String>,
}

#[get("/calls")]
async fn list(here: AllSites, asked: web::Query<Listing>) -> Result<HttpResponse, PageError> {
    let standing = Standing::of(&here).await?;
    let (tonight, percentages) =
        (asked_page(asked.tonight.as_deref())?, asked_page(asked.percentages.as_deref())?);
    let scope = here.who.scope.clone();
    let totals =
        read(&here.state, move |snapshot| Ok((snapshot.night_total(&scope)?, snapshot.call_totals(&scope)?)));
    let (controllers, totals) = totals.await?;
    let night_pages = Pages::of(controllers, tonight, |n| {
        format!("/calls?tonight={n}&percentages={percentages}#h-tonight")
    });
    let call_pages = Pages::of(totals.calls, percentages, |n| {
        format!("/calls?tonight={tonight}&percentages={n}#h-percentages")
    });
    let (scope, from) = (here.who.scope.clone(), (night_pages.from, call_pages.from));
    let shown = read(&here.state, move |snapshot| {
        let calls = snapshot.round_calls(&scope, LINES, from.1)?;
        let first = calls.iter().map(|row| week_number(row.call.week)).min().unwrap_or(0);
        Ok((snapshot.round_nights(&scope, None, LINES, from.0)?, snapshot.called_since(first)?, calls))
    });
    let (nights, called, calls) = shown.await?;
    let open = totals.open;
    let drawn = page(&ListPage {
        frame: Frame::new(&here.who, "Weekly list")?,
        lead: format!(
            "{} of {} on {} {} from the advised setting{}.",
            totals.changes,
            counted(totals.calls, "percentage"),
            counted(totals.controllers, "controller"),
            if totals.changes == 1 { "differs" } else { "differ" },
            if open < totals.changes { format!("; {open} not done yet") } else { String::new() }
        ),
        lines: (0..).zip(&calls).map(|(k, row)| line(row, &called, is_first(&calls, k))).collect(),
        call_pages,
        nights: nights.into_iter().map(night_line).collect(),
        night_pages,
        as_of: standing.as_of(),
        waiting: standing.waiting(),
    })?;
    Ok(standing.again(drawn))
}

/// Works out what waits: a file leaves none out.
fn complete(state: &AppState, scope: &Scope, stale: &[i64]) -> Result<(), PageError> {
    let keep = |site: &i64| scope.site(*site).map_or(Ok(()), |key| work_on(state, key));
    each_of(stale, keep).into_iter().collect()
}

#[get("/calls.csv")]
async fn csv(here: AllSites) -> Result<HttpResponse, PageError> {
    let stale = Standing::of(&here).await?.stale();
    let (state, scope) = (here.state.clone(), here.who.scope.clone());
    let (nights, calls) = off_loop(move || {
        complete(&state, &scope, &stale)?;
        let every = (i64::MAX, 0);
        let read = state.store.read(|snapshot| {
            Ok((
                snapshot.round_nights(&scope, None, every.0, every.1)?,
                snapshot.round_calls(&scope, every.0, every.1)?,
            ))
        });
        Ok::<_, PageError>(read?)
    })
    .await??;
    let tonight: BTreeMap<(i64, u8), String> = nights
        .into_iter()
        .map(|n| ((n.site_id.number(), n.number), in_own_words(&n.sentence).to_owned()))
        .collect();
    let rows: Vec<[String; 10]> = calls
        .into_iter()
        .map(|CallRow { site_id, site, call: c }| {
            [
                c.week.to_string(),
                site,
                c.number.to_string(),
                c.place,
                c.program,
                c.set.percent().to_string(),
                c.advised.map_or(String::new(), |a| a.percent().to_string()),
                c.because,
                c.record_ended.map_or(String::new(), |last| last.to_string()),
                tonight.get(&(site_id.number(), c.number)).cloned().unwrap_or_default(),
            ]
        })
        .collect();
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(attachment("calls", "csv"))
        .body(upland_formats::rows_csv::write(
            &[
                "week_from",
                "site",
                "controller",
                "place",
                "program",
                "set_pct",
                "advised_pct",
                "because",
                "record_ended",
                "tonight",
            ],
            &rows,
        )))
}

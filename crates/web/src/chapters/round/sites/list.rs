//! The list of sites as a round: the most urgent first, in rows that are looked at rather than read.

use super::filter::{Listing, SORTS, VIEWS, grave, in_view, rain, rain_since_visit, usual_units};
use crate::chapters::round::standing::Standing;
use crate::page::dates::{DateFormat, in_own_words};
use crate::page::frame::Frame;
use crate::page::pagination::{LINES, Pages, asked_page};
use crate::page::quantities::{counted, depth, in_words, span};
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::state::read;
use crate::site::context::AllSites;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::{BTreeMap, BTreeSet};
use upland_core::site::UnitSystem;
use upland_formats::PathProblem;
use upland_store::accounts::User;
use upland_store::rounds::{CallRow, Grave, NightRun, SiteRow, Weight, ZoneMark};
use upland_store::scope::SiteKey;

/// Notices that a row says; the rest is counted.
const NOTICES: usize = 2;
/// Percentages that a row says; the rest is counted.
const PERCENTAGES: usize = 2;

#[derive(Template)]
#[template(path = "chapters/round/sites/list.html")]
struct ListPage {
    frame: Frame,
    lead: String,
    /// Sites of the page, with what needs a look.
    sites: Vec<Line>,
    /// Sites in all, before any search.
    all: usize,
    /// Address, words, whether it is shown.
    views: Vec<(String, String, bool)>,
    sorts: Vec<(String, String, bool)>,
    asked: Listing,
    /// Identity, name, whether it is chosen.
    people: Vec<(String, String, bool)>,
    choosers: Vec<Chooser>,
    rain_unit: &'static str,
    rain_head: String,
    pages: Pages,
    problems: Vec<PathProblem>,
    waiting: Option<String>,
}

/// A filter by one of some names; not shown where there are none.
struct Chooser {
    name: &'static str,
    label: &'static str,
    /// Each with whether it is chosen.
    options: Vec<(String, bool)>,
}

/// A site of the list.
struct Line {
    id: i64,
    name: String,
    /// Customer, town, tags.
    about: String,
    assigned: String,
    /// What the strip of its two nights says.
    nights: String,
    bars: Vec<Bar>,
    /// Zones as marks, in the order of stations.
    marks: Vec<Mark>,
    soil: String,
    rain: String,
    /// Of the days since somebody was there.
    rain_since: String,
    percentages: Vec<String>,
    has_percentage: bool,
    more_percentages: String,
    notices: Vec<NoticeLine>,
    more_notices: String,
    seen: String,
    look_again: String,
    overdue: bool,
    ended: String,
    /// What is said instead of anything else: no controller, no round yet.
    instead: &'static str,
}

/// A bar of the strip: a run of the last night (upper) or of tonight.
struct Bar {
    x: i32,
    y: i32,
    width: i32,
    class: &'static str,
}

struct Mark {
    class: &'static str,
    sign: &'static str,
}

struct NoticeLine {
    class: &'static str,
    href: String,
    words: String,
}

/// The hours of a strip: from six in the evening to noon.
const STRIP: std::ops::Range<i32> = 6 * 60..24 * 60;
/// Width of a strip, units of its drawing.
const STRIP_WIDTH: i32 = 108;

fn bar(run: &NightRun) -> Option<Bar> {
    let (from, until) = (run.from.max(STRIP.start), run.until.min(STRIP.end));
    if until <= from {
        return None;
    }
    let x = |minute: i32| (minute - STRIP.start) * STRIP_WIDTH / (STRIP.end - STRIP.start);
    let class = match (run.held, run.tonight) {
        (true, _) => "held",
        (false, true) => "tonight",
        (false, false) => "last",
    };
    let y = if run.tonight { 12 } else { 2 };
    Some(Bar { x: x(from), y, width: (x(until) - x(from)).max(1), class })
}

/// "last night 2 h 10 min, tonight 1 h 5 min, some of it prevented".
fn nights_words(runs: &[NightRun]) -> String {
    let of = |tonight: bool| {
        let own = || runs.iter().filter(move |run| run.tonight == tonight);
        let minutes: i32 = own().filter(|run| !run.held).map(|run| run.until - run.from).sum();
        let watered = if minutes == 0 { "nothing".to_owned() } else { span(f64::from(minutes)) };
        if own().any(|run| run.held) { format!("{watered}, some prevented") } else { watered }
    };
    format!("Last night {}; tonight {}", of(false), of(true))
}

fn mark(mark: ZoneMark) -> Mark {
    match mark {
        ZoneMark::Dry => Mark { class: "dry", sign: "▽" },
        ZoneMark::Right => Mark { class: "right", sign: "○" },
        ZoneMark::Wet => Mark { class: "wet", sign: "△" },
    }
}

/// "8 zones: 2 dry, 1 wet".
fn soil_words(zones: &[ZoneMark]) -> String {
    let many = |mark: ZoneMark| zones.iter().filter(|own| **own == mark).count();
    let said: Vec<String> = [(ZoneMark::Dry, "dry"), (ZoneMark::Wet, "wet"), (ZoneMark::Right, "right")]
        .into_iter()
        .filter(|(mark, _)| many(*mark) > 0)
        .map(|(mark, word)| format!("{} {word}", many(mark)))
        .collect();
    format!("{}: {}", counted(zones.len(), "zone"), said.join(", "))
}

/// "1 fault, 3 tasks more".
fn more_words(site: &SiteRow, said: &[&Grave]) -> String {
    let left = |place: usize, weight: Weight| {
        let own = site.notices.get(place).copied().unwrap_or(0);
        own - i64::try_from(said.iter().filter(|notice| notice.weight == weight).count()).unwrap_or(0)
    };
    let kinds = [(0, Weight::Fault, "fault"), (1, Weight::Warning, "warning"), (2, Weight::Task, "task")];
    let more: Vec<String> = kinds
        .into_iter()
        .map(|(place, weight, word)| (left(place, weight), word))
        .filter(|(left, _)| *left > 0)
        .map(|(left, word)| counted(usize::try_from(left).unwrap_or(0), word))
        .collect();
    if more.is_empty() { String::new() } else { format!("and {}", more.join(", ")) }
}

/// "A 100 → 80 %".
fn percentage_words(site: &SiteRow, row: &CallRow) -> String {
    let call = &row.call;
    let advised = call.advised.map_or(0, |advised| advised.percent());
    let controller = if site.controllers > 1 { format!("{} ", call.number) } else { String::new() };
    let program = if call.program.is_empty() { String::new() } else { format!("{} ", call.program) };
    format!("{controller}{program}{} → {advised} %", call.set.percent())
}

/// What the rows of a page are made of.
struct Known<'a> {
    graves: &'a BTreeMap<i64, Vec<Grave>>,
    calls: &'a BTreeMap<i64, Vec<CallRow>>,
    rain_days: usize,
    today: Date,
}

impl Known<'_> {
    fn line(&self, site: &SiteRow) -> Line {
        let (id, standing) = (site.id.number(), &site.standing);
        let graves = self.graves.get(&id).map_or(&[][..], Vec::as_slice);
        let said: Vec<&Grave> = graves.iter().take(NOTICES).collect();
        let calls = self.calls.get(&id).map_or(&[][..], Vec::as_slice);
        let about = [site.customer.as_str(), site.locality.as_str(), &site.tags.join(", ")];
        let more = calls.len().saturating_sub(PERCENTAGES);
        Line {
            id,
            name: site.name.clone(),
            about: about.into_iter().filter(|own| !own.is_empty()).collect::<Vec<_>>().join(" · "),
            assigned: site.assigned.as_ref().map_or(String::new(), |(_, name)| name.clone()),
            nights: nights_words(&standing.runs),
            bars: standing.runs.iter().filter_map(bar).collect(),
            marks: standing.zones.iter().map(|own| mark(*own)).collect(),
            soil: soil_words(&standing.zones),
            rain: rain(site, self.rain_days).map_or_else(|| "–".to_owned(), |fell| depth(site.units, fell)),
            rain_since: rain_since_visit(site)
                .map_or(String::new(), |fell| format!("{} since the visit", depth(site.units, fell))),
            percentages: calls.iter().take(PERCENTAGES).map(|row| percentage_words(site, row)).collect(),
            more_percentages: if more > 0 { format!("and {more} more") } else { String::new() },
            notices: said.iter().map(|grave| notice_line(grave)).collect(),
            more_notices: more_words(site, &said),
            seen: standing.last_visit.map_or_else(
                || "never".to_owned(),
                |on| match on.until(self.today).map_or(0, |gone| gone.get_days()) {
                    0 => "today".to_owned(),
                    1 => "yesterday".to_owned(),
                    _ => on.formatted("%-d %b"),
                },
            ),
            look_again: standing.look_again.map_or(String::new(), |on| on.formatted("%-d %b")),
            overdue: standing.look_again.is_some_and(|on| on <= self.today),
            ended: standing.record_ended.map_or(String::new(), |on| on.formatted("%-d %b %Y")),
            has_percentage: site.off >= 0,
            instead: match (site.at, site.controllers) {
                (None, _) => "being worked out",
                (_, 0) => "no controller yet",
                _ => "",
            },
        }
    }
}

fn notice_line(grave: &Grave) -> NoticeLine {
    let class = match grave.weight {
        Weight::Fault => "fault",
        Weight::Warning => "warning",
        Weight::Task => "task",
    };
    NoticeLine { class, href: grave.href.clone(), words: in_own_words(&grave.words).to_owned() }
}

/// Groups what was read by its site.
fn by_site<T>(all: Vec<T>, site: impl Fn(&T) -> i64) -> BTreeMap<i64, Vec<T>> {
    let mut grouped: BTreeMap<i64, Vec<T>> = BTreeMap::new();
    for one in all {
        grouped.entry(site(&one)).or_default().push(one);
    }
    grouped
}

/// "2 sites have faults, 5 zones are dry. Nothing else waits."
fn lead(sites: &[&SiteRow]) -> String {
    let faulty = sites.iter().filter(|site| site.notices[0] > 0).count();
    let warned = sites.iter().filter(|site| site.notices[0] == 0 && grave(site) > 0).count();
    match (faulty, warned) {
        (0, 0) => "No fault and no warning at any of these sites.".to_owned(),
        (0, w) => format!("No fault; {} a warning.", have(w)),
        (f, 0) => format!("{} a fault.", have(f)),
        (f, w) => format!("{} a fault, {} more a warning.", have(f), in_words(w)),
    }
}

fn have(sites: usize) -> String {
    if sites == 1 { "One site has".to_owned() } else { format!("{sites} sites have") }
}

/// People that sites may be assigned to, and nobody, with whom the list is narrowed to.
fn people_of(people: Vec<User>, asked: &Listing) -> Vec<(String, String, bool)> {
    let named =
        people.into_iter().filter(|own| !own.disabled).map(|own| (own.id.to_string(), own.display_name));
    let nobody = ("none".to_owned(), "nobody".to_owned());
    named.chain([nobody]).map(|(id, name)| (id.clone(), name, asked.assigned == id)).collect()
}

/// The filters by name, each with the names that the sites have.
fn choosers(all: &[SiteRow], asked: &Listing) -> Vec<Chooser> {
    let tags: BTreeSet<&String> = all.iter().flat_map(|site| &site.tags).collect();
    let types: BTreeSet<&String> = all.iter().flat_map(|site| &site.standing.controller_types).collect();
    let ordinances: BTreeSet<&String> = all.iter().flat_map(|site| &site.standing.ordinances).collect();
    [
        ("tag", "Tag", tags, &asked.tag),
        ("controller", "Controller type", types, &asked.controller),
        ("ordinance", "Ordinance", ordinances, &asked.ordinance),
    ]
    .into_iter()
    .filter(|(_, _, names, _)| !names.is_empty())
    .map(|(name, label, names, chosen)| {
        let options = names.into_iter().map(|one| (one.clone(), one == chosen)).collect();
        Chooser { name, label, options }
    })
    .collect()
}

/// Orders of the list, with the one that it has.
fn sorts_of(asked: &Listing) -> Vec<(String, String, bool)> {
    let is = |sort: &str| asked.sort == sort || asked.sort.is_empty() && sort == "need";
    SORTS.map(|(sort, words)| (sort.to_owned(), words.to_owned(), is(sort))).into()
}

// Long: one part of the page after another.
pub(super) async fn list_page(
    here: &AllSites,
    status: StatusCode,
    problems: Vec<PathProblem>,
    asked: &Listing,
) -> Result<HttpResponse, PageError> {
    let limits = asked.limits()?;
    let (scope, stands) = (here.who.scope.clone(), Standing::of(here).await?);
    let (all, people) =
        read(&here.state, move |snapshot| Ok((snapshot.round_sites(&scope)?, snapshot.users()?))).await?;
    let today = here.who.now.to_zoned(TimeZone::UTC).date();
    let day = |site: &SiteRow| site.standing.day.unwrap_or(today);
    let mut listed: Vec<&SiteRow> = all.iter().filter(|site| asked.keeps(site, limits, day(site))).collect();
    let number = |only: &str| listed.iter().filter(|site| in_view(only, site)).count();
    let views = VIEWS.map(|(only, words)| {
        (asked.with("only", only), format!("{words} {}", number(only)), asked.only == only)
    });
    listed.retain(|site| in_view(&asked.only, site));
    asked.sort(&mut listed, limits);
    let total = i64::try_from(listed.len()).unwrap_or(i64::MAX);
    let page_of = |n: i64| {
        let first = asked.with("page", "");
        format!("{first}{}page={n}", if first.contains('?') { "&" } else { "?" })
    };
    let pages = Pages::of(total, asked_page(asked.page.as_deref())?, page_of);
    let place = |from: i64| usize::try_from(from).unwrap_or(0);
    let words = lead(&listed);
    let shown: Vec<&SiteRow> = listed.into_iter().skip(place(pages.from)).take(place(LINES)).collect();
    let (scope, ids) = (here.who.scope.clone(), shown.iter().map(|site| site.id).collect::<Vec<SiteKey>>());
    let most = i64::try_from(NOTICES).unwrap_or(2);
    let (graves, calls) = read(&here.state, move |snapshot| {
        Ok((snapshot.gravest(&ids, most)?, snapshot.changes_of(&scope, &ids)?))
    })
    .await?;
    let (graves, calls) =
        (by_site(graves, |own| own.site), by_site(calls, |own: &CallRow| own.site_id.number()));
    let units = if asked.unit == "in" { UnitSystem::UsCustomary } else { usual_units(&all) };
    let line = |site: &&SiteRow| {
        Known { graves: &graves, calls: &calls, rain_days: limits.days, today: day(site) }.line(site)
    };
    let page = ListPage {
        frame: Frame::new(&here.who, "Round")?,
        lead: words,
        sites: shown.iter().map(line).collect(),
        all: all.len(),
        views: views.into(),
        sorts: sorts_of(asked),
        people: people_of(people, asked),
        choosers: choosers(&all, asked),
        rain_unit: if units == UnitSystem::UsCustomary { "in" } else { "mm" },
        rain_head: match limits.days {
            1 => "Rain today".into(),
            n => format!("Rain, {n} days"),
        },
        asked: asked.clone(),
        pages,
        problems,
        waiting: stands.waiting(),
    };
    Ok(stands.again(page_with(status, &page)?))
}

#[get("/")]
pub(super) async fn list(here: AllSites, asked: web::Query<Listing>) -> Result<HttpResponse, PageError> {
    // Whoever reads one site has no use for a list.
    if let (Some([only]), false) = (here.who.scope.given(), here.who.may_edit()) {
        return Ok(see_other(&address::today(*only)));
    }
    list_page(&here, StatusCode::OK, Vec::new(), &asked).await
}

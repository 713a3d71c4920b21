//! The page of a trial: one sentence, the ways side by side, one way's zones, one zone's season, one day's hours.

use super::detail::Opened;
use super::query::{self, Asked, Query, WEATHERS};
use super::results::{OwnWay, Tried, Why, own_ways};
use super::words::{self, ENOUGH};
use crate::page::change_words::{ChangeLine, changes_on};
use crate::page::dates::DateFormat;
use crate::page::frame::Frame;
use crate::page::quantities::{depth, plain, share, short_date, volume};
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use askama::Template;
use std::sync::Arc;
use upland_core::account::site_account::AccountInputs;
use upland_core::codes::Coded;
use upland_core::controller::schedule::Settings;
use upland_core::quantity::span::DateSpan;
use upland_core::site::UnitSystem;
use upland_core::trial::{Bill, Named, Sample, TrialWay, WayResult, ZoneResult};
use upland_store::trials::TrialLine;

/// The ways and the trials that were kept at the site, for the foot of the page.
#[derive(Default)]
pub(super) struct Lists {
    pub ways: Vec<OwnLine>,
    pub trials: Vec<KeptLine>,
}

/// A way that somebody described.
pub(super) struct OwnLine {
    pub id: i64,
    pub name: String,
    pub words: String,
    pub by: String,
}

/// A trial that was kept.
pub(super) struct KeptLine {
    pub id: i64,
    pub name: String,
    pub answer: String,
    pub by: String,
    pub at: String,
}

questions! {
    facts KeptTrials {} -> Vec<TrialLine>;
}

impl Lists {
    pub async fn of(here: &AtSite) -> Result<Self, PageError> {
        let of_site = here.site_key();
        let trials = here.more(KeptTrials {}, 20, move |snapshot| snapshot.trials(of_site)).await?;
        let own = own_ways(here).await?;
        let way = |own: &OwnWay| OwnLine {
            id: own.record.id,
            words: match &own.way {
                Ok(way) => words::described(way, here.records.units()),
                Err(why) => format!("no longer fits: {why}"),
            },
            name: own.record.name.clone(),
            by: own.record.saved_by.clone(),
        };
        let trial = |line: &TrialLine| KeptLine {
            id: line.id,
            name: line.name.clone(),
            answer: line.answer.clone(),
            by: line.saved_by.clone(),
            at: line.saved_at.to_zoned(here.records.tz.clone()).formatted("%-d %b %Y, %H:%M"),
        };
        Ok(Self { ways: own.iter().map(way).collect(), trials: trials.iter().map(trial).collect() })
    }
}

/// A trial that was kept, above its page.
pub(super) struct Kept {
    pub id: i64,
    pub name: String,
    pub by: String,
    pub at: String,
    /// Whether it came to the very same now.
    pub repeats: bool,
    pub revision: i64,
}

/// What the page is about.
pub(super) struct Looking<'a> {
    pub here: &'a AtSite,
    pub query: &'a Query,
    pub asked: &'a Asked,
    pub tried: &'a Tried,
    pub is_kept: bool,
}

impl Looking<'_> {
    /// What stands before a way in the address of the same trial.
    pub fn same(&self) -> String {
        if self.is_kept { String::new() } else { format!("{}&", self.asked.query()) }
    }
}

#[derive(Template)]
#[template(path = "chapters/trial/page.html")]
pub(super) struct TrialPage {
    frame: Frame,
    ribbon: String,
    site_id: i64,
    kept: Option<Kept>,
    errors: Vec<String>,
    answer: String,
    origin: String,
    /// Days of the trial that nobody recorded.
    gaps: Option<String>,
    form: TrialForm,
    /// The query of the same trial, for tables.
    same: String,
    has_cost: bool,
    /// What the steps of the price are of, where it has several.
    bill: &'static str,
    /// What ways ask of supply and window beyond what they give.
    beyond: Vec<String>,
    forbids: bool,
    lines: Vec<WayLine>,
    refused: Vec<(String, String)>,
    /// Ways that come to the very same as the controller is set.
    alike: Vec<String>,
    opened: Option<Arc<Opened>>,
    controllers: Vec<ControllerLine>,
    lists: Lists,
}

/// What is asked, as the form shows it.
struct TrialForm {
    weathers: Vec<(&'static str, &'static str, bool)>,
    from: String,
    to: String,
    seed: String,
    price: String,
    bills: Vec<(&'static str, &'static str, bool)>,
    kw: String,
    kwh: String,
}

impl TrialForm {
    fn of(query: &Query) -> Self {
        let text = |value: &Option<String>| value.clone().unwrap_or_default();
        let chosen = query.weather.as_deref().unwrap_or("days");
        Self {
            weathers: WEATHERS.map(|(code, words)| (code, words, code == chosen)).into(),
            from: text(&query.from),
            to: text(&query.to),
            seed: query.seed.clone().unwrap_or_else(|| "1".into()),
            price: text(&query.price),
            bills: Bill::TABLE
                .iter()
                .map(|(bill, code)| {
                    let chosen =
                        query.bill.as_deref().map_or(*bill == Bill::default(), |asked| asked == *code);
                    (*code, bill.label(), chosen)
                })
                .collect(),
            kw: text(&query.kw),
            kwh: text(&query.kwh),
        }
    }
}

/// A way in the table.
struct WayLine {
    href: String,
    name: String,
    opened: bool,
    best: bool,
    water: String,
    cost: String,
    hours: String,
    enough: String,
    is_short: bool,
    wasted: String,
    stress: String,
    skipped: String,
    forbidden: u32,
    worst: String,
}

/// A controller whose settings the way changes.
struct ControllerLine {
    number: u8,
    place: String,
    version: i32,
    changes: Vec<ChangeLine>,
}

impl TrialPage {
    /// The page when nothing can be tried: its form, and why.
    pub fn without(frame: Frame, here: &AtSite, query: &Query, errors: Vec<String>, lists: Lists) -> Self {
        Self {
            frame,
            ribbon: String::new(),
            site_id: here.id(),
            kept: None,
            errors,
            answer: String::new(),
            origin: String::new(),
            gaps: None,
            form: TrialForm::of(query),
            same: String::new(),
            has_cost: false,
            bill: "",
            beyond: Vec::new(),
            forbids: false,
            lines: Vec::new(),
            refused: Vec::new(),
            alike: Vec::new(),
            opened: None,
            controllers: Vec::new(),
            lists,
        }
    }

    pub fn of(
        frame: Frame,
        looking: &Looking<'_>,
        opened: Option<Arc<Opened>>,
        set: &[(u8, Settings)],
        lists: Lists,
    ) -> Self {
        let Looking { here, query, asked, tried, .. } = looking;
        let (units, facts) = (here.records.units(), &tried.facts);
        let same = looking.same();
        let name = |zone: &ZoneResult| words::zone_name(facts, zone);
        let best = words::best(&tried.results).map(|r| r.way.name.clone());
        let line = |result: &WayResult| way_line(looking, result, &same, opened.as_deref(), best.as_deref());
        let as_set = tried.results.iter().find(|r| r.way.name == Named::AsSet.code());
        // Percentages that stand at 100 % already are no other way.
        let is_alike = |r: &&WayResult| as_set.is_some_and(|set| set.way != r.way && set.zones == r.zones);
        let lines: Vec<WayLine> = tried.results.iter().filter(|r| !is_alike(r)).map(line).collect();
        let mut form = TrialForm::of(query);
        if let Sample::Days(DateSpan { first: from, last: to }) = asked.sample {
            (form.from, form.to) = (from.to_string(), to.to_string());
        }
        Self {
            ribbon: opened.as_ref().map_or(String::new(), |o| o.ribbon.clone()),
            site_id: here.id(),
            errors: Vec::new(),
            answer: words::answer(&tried.results, &name),
            origin: query::origin(&tried.origin, tried.span.first, tried.span.last),
            gaps: query::gaps(&facts.climate, tried.span.first, tried.span.last),
            form,
            has_cost: asked.tariff.is_some(),
            bill: asked.tariff.as_ref().filter(|t| t.steps.len() > 1).map_or("", |t| t.bill.label()),
            beyond: words::beyond(units, &tried.results, facts.site.supply),
            forbids: lines.iter().any(|l| l.forbidden > 0),
            alike: tried.results.iter().filter(|r| is_alike(r)).map(|r| words::way(&r.way)).collect(),
            lines,
            refused: tried.refused.iter().map(|(code, why)| refused(code, why)).collect(),
            controllers: controllers(here, set),
            opened,
            same: asked.query(),
            lists,
            kept: None,
            frame,
        }
    }

    /// The same under the head of a trial that was kept.
    pub fn kept(self, kept: Kept) -> Self {
        Self { kept: Some(kept), ..self }
    }
}

/// A way in the table of all.
fn way_line(
    looking: &Looking<'_>,
    result: &WayResult,
    same: &str,
    opened: Option<&Opened>,
    best: Option<&str>,
) -> WayLine {
    let (units, facts) = (looking.here.records.units(), &looking.tried.facts);
    WayLine {
        href: format!("?{same}way={}#h-way", address::encoded(&result.way.name)),
        name: words::way(&result.way),
        opened: opened.is_some_and(|o| o.code == result.way.name),
        best: Some(result.way.name.as_str()) == best,
        water: result.site.litres.map_or("–".into(), |l| volume(units, l)),
        cost: result.site.cost.map_or(String::new(), |c| plain(c, 0)),
        hours: plain(result.site.supply.running.minutes().min_value() / 60.0, 0),
        enough: share(result.site.adequacy),
        is_short: result.zones.iter().any(|z| z.adequacy() < ENOUGH),
        wasted: share(result.site.excess),
        stress: plain(f64::from(result.stress_days()), 0),
        skipped: words::skipped(&result.zones),
        forbidden: result.zones.iter().map(|z| z.forbidden).sum(),
        worst: worst(facts, result, units),
    }
}

/// Why nothing could be tried: each reason once.
pub(super) fn all_refused(tried: &Tried) -> Vec<String> {
    let mut told: Vec<String> = Vec::new();
    for (_, why) in tried.refused.iter().map(|(code, why)| refused(code, why)) {
        let sentence = format!("{}.", crate::page::quantities::capital(&why));
        if !told.contains(&sentence) {
            told.push(sentence);
        }
    }
    told
}

/// A way that was not tried, with the reason.
fn refused(code: &str, why: &Why) -> (String, String) {
    let way = TrialWay { name: code.to_owned(), ..TrialWay::default() };
    let why = match why {
        Why::Refused(refusals) => refusals.iter().map(words::refusal).collect::<Vec<_>>().join("; "),
        Why::Unfit(why) => why.clone(),
    };
    (words::way(&way), why)
}

/// The way that is opened: the one that was asked for, else the best, else the first.
pub(super) fn opened<'a>(tried: &'a Tried, query: &Query) -> Option<&'a WayResult> {
    match &query.way {
        Some(wanted) => tried.results.iter().find(|r| r.way.name == *wanted),
        None => words::best(&tried.results).or(tried.results.first()),
    }
}

/// The zone that has least of what it asks for, and when.
fn worst(facts: &AccountInputs, result: &WayResult, units: UnitSystem) -> String {
    let least =
        |a: &&ZoneResult, b: &&ZoneResult| a.adequacy().fraction().total_cmp(&b.adequacy().fraction());
    let Some(zone) = result.zones.iter().min_by(least) else { return "–".into() };
    let Some((monday, missed)) = zone.worst_week else { return "none is short".into() };
    format!("{}, {} from {}", words::zone_name(facts, zone), depth(units, missed), short_date(monday))
}

/// Controllers whose settings a way changes, with what there is to key in.
fn controllers(here: &AtSite, set: &[(u8, Settings)]) -> Vec<ControllerLine> {
    let lines = here.records.controllers.iter().filter_map(|own| {
        let (number, settings) = set.iter().find(|(number, _)| *number == own.number())?;
        Some(ControllerLine {
            number: *number,
            place: own.record.controller.place.clone(),
            version: own.settings.as_ref().map_or(0, |s| s.version),
            changes: changes_on(&here.records, own, settings),
        })
    });
    lines.collect()
}

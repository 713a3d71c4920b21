//! The page of a trial: one sentence, the ways side by side, one way's zones, one zone's season, one day's hours.

use super::asked::{self, Asked, Query, WEATHERS};
use super::day::{self, DayView};
use super::tried::{OwnWay, Tried, Why, own_ways};
use super::words::{self, ENOUGH};
use crate::page::change_words::{ChangeLine, change_lines};
use crate::page::frame::Frame;
use crate::page::quantities::{depth, plain, share, short_date, volume};
use crate::page::ribbon::RibbonPart;
use crate::page::season_chart::{SeasonChart, chart};
use crate::server::error::PageError;
use crate::site::context::AtSite;
use askama::Template;
use jiff::civil::Date;
use upland_core::account::whole::Facts;
use upland_core::codes::Coded;
use upland_core::controller::schedule::{Settings, difference};
use upland_core::site::UnitSystem;
use upland_core::trial::{Named, Sample, TrialWay, WayResult, ZoneResult};
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

impl Lists {
    pub async fn of(here: &AtSite) -> Result<Self, PageError> {
        let id = here.id();
        let trials = here.more("kept trials", 20, move |snapshot| snapshot.trials(id)).await?;
        let own = own_ways(here).await?;
        let way = |own: OwnWay| OwnLine {
            id: own.record.id,
            words: own.way.map_or_else(|why| format!("no longer fits: {why}"), |way| words::described(&way)),
            name: own.record.name,
            by: own.record.saved_by,
        };
        let trial = |line: &TrialLine| KeptLine {
            id: line.id,
            name: line.name.clone(),
            answer: line.answer.clone(),
            by: line.saved_by.clone(),
            at: line.saved_at.to_zoned(here.facts.tz.clone()).strftime("%-d %b %Y, %H:%M").to_string(),
        };
        Ok(Self { ways: own.into_iter().map(way).collect(), trials: trials.iter().map(trial).collect() })
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
    pub kept: Option<Kept>,
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
    form: TrialForm,
    /// The query of the same trial, for tables.
    same: String,
    has_cost: bool,
    /// What ways ask of supply and window beyond what they give.
    beyond: Vec<String>,
    forbids: bool,
    lines: Vec<WayLine>,
    refused: Vec<(String, String)>,
    /// Ways that come to the very same as the box is set.
    alike: Vec<String>,
    opened: Option<Opened>,
    lists: Lists,
}

/// What is asked, as the form shows it.
struct TrialForm {
    weathers: Vec<(&'static str, &'static str, bool)>,
    from: String,
    to: String,
    seed: String,
    price: String,
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

/// The way that is opened.
struct Opened {
    code: String,
    name: String,
    zones: Vec<ZoneLine>,
    /// A zone's season under the way, and as it is set, with its sums in words.
    season: Option<(String, SeasonChart)>,
    day: Option<DayView>,
    boxes: Vec<BoxLine>,
    /// Sensors that are set otherwise under the way.
    sensors: Vec<String>,
}

/// A box whose settings the way changes.
struct BoxLine {
    number: u8,
    place: String,
    version: i32,
    changes: Vec<ChangeLine>,
}

struct ZoneLine {
    href: String,
    name: String,
    opened: bool,
    enough: String,
    is_short: bool,
    parts: String,
    applied: String,
    wasted: String,
    stress: u32,
    runs: u32,
    skipped: String,
    worst: String,
}

impl TrialPage {
    /// The page when nothing can be tried: its form, and why.
    pub fn without(
        frame: Frame,
        here: &AtSite,
        query: &Query,
        (errors, lists): (Vec<String>, Lists),
    ) -> Self {
        Self {
            frame,
            ribbon: String::new(),
            site_id: here.id(),
            kept: None,
            errors,
            answer: String::new(),
            origin: String::new(),
            form: TrialForm::of(query),
            same: String::new(),
            has_cost: false,
            beyond: Vec::new(),
            forbids: false,
            lines: Vec::new(),
            refused: Vec::new(),
            alike: Vec::new(),
            opened: None,
            lists,
        }
    }

    pub fn of(
        frame: Frame,
        looking: &Looking<'_>,
        (opened, set): (Option<&WayResult>, &[(u8, Settings)]),
        lists: Lists,
    ) -> Self {
        let Looking { here, query, asked, tried, .. } = looking;
        let (units, facts) = (here.facts.units(), &tried.facts);
        let same = if looking.kept.is_some() { String::new() } else { format!("{}&", asked.query()) };
        let name = |zone: &ZoneResult| zone_name(facts, zone);
        let best = words::best(&tried.results).map(|r| r.way.name.clone());
        let line = |result: &WayResult| way_line(looking, result, (&same, opened, best.as_deref()));
        let as_set = tried.results.iter().find(|r| r.way.name == Named::AsSet.code());
        // Percentages that stand at 100 % already are no other way.
        let is_alike = |r: &&WayResult| as_set.is_some_and(|set| set.way != r.way && set.zones == r.zones);
        let lines: Vec<WayLine> = tried.results.iter().filter(|r| !is_alike(r)).map(line).collect();
        let chosen = opened.map(|result| open(looking, (result, as_set, set), &same));
        let (link, date) = match &chosen {
            Some((opened, zone, date)) => {
                let way = words::encoded(&opened.code);
                ((format!("?{same}way={way}&zone={zone}&day="), "#h-day".to_owned()), *date)
            }
            None => ((format!("?{same}day="), String::new()), tried.span.1),
        };
        let ribbon = RibbonPart::new(&facts.climate, date, units, link);
        let mut form = TrialForm::of(query);
        if let Sample::Days(from, to) = asked.sample {
            (form.from, form.to) = (from.to_string(), to.to_string());
        }
        Self {
            ribbon: ribbon.render().unwrap_or_default(),
            site_id: here.id(),
            errors: Vec::new(),
            answer: words::answer(&tried.results, &name),
            origin: asked::origin(&tried.origin, tried.span),
            form,
            has_cost: asked.tariff.is_some(),
            beyond: tried.results.iter().flat_map(|r| words::beyond(units, r, facts.site.supply)).collect(),
            forbids: lines.iter().any(|l| l.forbidden > 0),
            alike: tried.results.iter().filter(|r| is_alike(r)).map(|r| words::way(&r.way)).collect(),
            lines,
            refused: tried.refused.iter().map(refused).collect(),
            opened: chosen.map(|(opened, ..)| opened),
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
    (same, opened, best): (&str, Option<&WayResult>, Option<&str>),
) -> WayLine {
    let (units, facts) = (looking.here.facts.units(), &looking.tried.facts);
    WayLine {
        href: format!("?{same}way={}#h-way", words::encoded(&result.way.name)),
        name: words::way(&result.way),
        opened: opened.is_some_and(|o| o.way == result.way),
        best: Some(result.way.name.as_str()) == best,
        water: result.site.litres.map_or("–".into(), |l| volume(units, l)),
        cost: result.site.cost.map_or(String::new(), |c| plain(c, 0)),
        hours: plain(result.site.supply.running.minutes().min_value() / 60.0, 0),
        enough: share(result.site.adequacy),
        is_short: result.zones.iter().any(|z| z.adequacy() < ENOUGH),
        wasted: share(result.site.excess),
        stress: plain(f64::from(result.zones.iter().map(|z| z.stress_days).sum::<u32>()), 0),
        skipped: words::skipped(&result.zones),
        forbidden: result.zones.iter().map(|z| z.forbidden).sum(),
        worst: worst(facts, result, units),
    }
}

/// A way that was not tried, with the reason.
fn refused((code, why): &(String, Why)) -> (String, String) {
    let way = TrialWay { name: code.clone(), ..TrialWay::default() };
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

pub(super) fn zone_name(facts: &Facts, zone: &ZoneResult) -> String {
    let name = facts.zone(zone.box_number, zone.station).map_or("", |(z, _)| z.name.as_str());
    if facts.boxes.len() > 1 {
        format!("{}-{} {name}", zone.box_number, zone.station)
    } else {
        format!("{} {name}", zone.station)
    }
}

/// The zone that has least of what it asks for, and when.
fn worst(facts: &Facts, result: &WayResult, units: UnitSystem) -> String {
    let least =
        |a: &&ZoneResult, b: &&ZoneResult| a.adequacy().fraction().total_cmp(&b.adequacy().fraction());
    let Some(zone) = result.zones.iter().min_by(least) else { return "–".into() };
    let Some((monday, missed)) = zone.worst_week else { return "none is short".into() };
    format!("{}, {} from {}", zone_name(facts, zone), depth(units, missed), short_date(monday))
}

fn key(zone: &ZoneResult) -> String {
    format!("{}-{}", zone.box_number, zone.station)
}

/// The way that is opened, with the key of its zone and the date that are opened in it.
fn open(
    looking: &Looking<'_>,
    (result, as_set, set): (&WayResult, Option<&WayResult>, &[(u8, Settings)]),
    same: &str,
) -> (Opened, String, Date) {
    let Looking { here, query, tried, .. } = looking;
    let (units, facts) = (here.facts.units(), &tried.facts);
    let code = result.way.name.clone();
    let least =
        |a: &&ZoneResult, b: &&ZoneResult| a.adequacy().fraction().total_cmp(&b.adequacy().fraction());
    let asked = query.zone.as_ref().and_then(|wanted| result.zones.iter().find(|z| key(z) == *wanted));
    let zone = asked.or_else(|| result.zones.iter().min_by(least));
    let way = words::encoded(&code);
    let line = |own: &ZoneResult| ZoneLine {
        href: format!("?{same}way={way}&zone={}#h-season", key(own)),
        name: zone_name(facts, own),
        opened: zone.is_some_and(|z| key(z) == key(own)),
        enough: share(own.adequacy()),
        is_short: own.adequacy() < ENOUGH,
        parts: words::parts(own),
        applied: depth(units, own.applied),
        wasted: share(own.excess()),
        stress: own.stress_days,
        runs: own.runs,
        skipped: words::skipped(core::slice::from_ref(own)),
        worst: own
            .worst_week
            .map_or("–".into(), |(monday, mm)| format!("{} from {}", depth(units, mm), short_date(monday))),
    };
    let beside = zone.and_then(|z| as_set?.zones.iter().find(|other| key(other) == key(z)));
    let beside = beside.filter(|_| code != Named::AsSet.code());
    let zone_key = zone.map(key).unwrap_or_default();
    let date = query.day.as_deref().and_then(|day| day.parse().ok());
    let date: Date =
        date.unwrap_or_else(|| zone.map_or(tried.span.1, |z| day::first_looked_at(z, tried.span)));
    let link = format!("?{same}way={way}&zone={zone_key}&day=");
    let opened = Opened {
        name: words::way(&result.way),
        zones: result.zones.iter().map(line).collect(),
        season: zone.map(|zone| season(facts, (zone, beside), (units, &link))),
        day: zone
            .and_then(|zone| DayView::of(facts, (&result.way, zone), (tried.span, date), (units, &link))),
        boxes: if looking.kept.is_some() { Vec::new() } else { boxes(here, set) },
        sensors: words::sensor_settings(&result.way, units),
        code,
    };
    (opened, zone_key, date)
}

/// Boxes whose settings a way changes, with what there is to key in.
fn boxes(here: &AtSite, set: &[(u8, Settings)]) -> Vec<BoxLine> {
    let lines = here.facts.boxes.iter().filter_map(|own| {
        let (number, settings) = set.iter().find(|(number, _)| *number == own.number())?;
        let zones = &here.facts.zones;
        let program = |at: usize| settings.programs.get(at).map_or(String::new(), |p| p.name.clone());
        let station = |n: u16| {
            let zone = zones.iter().find(|z| (z.zone.box_number, z.zone.number) == (*number, n));
            zone.map_or_else(|| format!("station {n}"), |z| format!("{n} {}", z.zone.name))
        };
        let changes = difference(&own.settings_or_clean(), settings);
        Some(BoxLine {
            number: *number,
            place: own.record.controller.place.clone(),
            version: own.settings.as_ref().map_or(0, |s| s.version),
            changes: change_lines(changes, &program, &station),
        })
    });
    lines.collect()
}

/// The drawing of a zone's season, with that of the box as it is set beside it.
fn season(
    facts: &Facts,
    (zone, beside): (&ZoneResult, Option<&ZoneResult>),
    (units, link): (UnitSystem, &str),
) -> (String, SeasonChart) {
    let total =
        facts.zone(zone.box_number, zone.station).map_or(0.0, |(_, r)| r.root_zone.total_available.mm());
    let drawn = chart(&zone.days, total, units).with_weeks(&zone.days, link);
    let words = format!(
        "{}: {} of {} met, {} of watering wasted, short on {} of {} days",
        zone_name(facts, zone),
        depth(units, zone.et),
        depth(units, zone.needed),
        share(zone.excess()),
        zone.stress_days,
        zone.days.len()
    );
    match beside {
        Some(other) => (words, drawn.beside(&other.days, total, units)),
        None => (words, drawn),
    }
}

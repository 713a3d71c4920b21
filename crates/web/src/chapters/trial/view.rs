//! The page of a trial: one sentence, the ways side by side, one way's zones, one zone's season.

use super::words::{self, ENOUGH};
use super::{Asked, Query, Tried};
use crate::page::frame::Frame;
use crate::page::quantities::{depth, plain, share, short_date, volume};
use crate::page::season_chart::{SeasonChart, chart};
use crate::site::context::AtSite;
use askama::Template;
use upland_core::account::whole::Facts;
use upland_core::codes::Coded;
use upland_core::controller::schedule::Settings;
use upland_core::site::UnitSystem;
use upland_core::trial::{Named, WayResult, ZoneResult};

#[derive(Template)]
#[template(path = "chapters/trial/page.html")]
pub(super) struct TrialPage {
    frame: Frame,
    site_id: i64,
    errors: Vec<String>,
    answer: String,
    from: String,
    to: String,
    price: String,
    days: i32,
    /// The query of the same trial, for tables.
    same: String,
    lines: Vec<WayLine>,
    refused: Vec<(String, String)>,
    /// Ways that come to the very same as the box is set.
    alike: Vec<String>,
    opened: Option<Opened>,
}

/// A way in the table.
struct WayLine {
    href: String,
    name: String,
    opened: bool,
    best: bool,
    water: String,
    cost: String,
    enough: String,
    is_short: bool,
    wasted: String,
    stress: String,
    skipped: String,
    worst: String,
}

/// The way that is opened.
struct Opened {
    code: String,
    name: String,
    zones: Vec<ZoneLine>,
    /// A zone's season under the way, and as it is set, with its sums in words.
    season: Option<(String, SeasonChart)>,
    /// Boxes whose settings it changes: number, place, version, whether it is set so already.
    boxes: Vec<(u8, String, i32, bool)>,
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
    pub fn without(frame: Frame, here: &AtSite, query: &Query, mut errors: Vec<String>) -> Self {
        if here.facts.zones.is_empty() {
            errors.push("The site has no zone yet. Describe its zones first.".into());
        }
        let text = |value: &Option<String>| value.clone().unwrap_or_default();
        Self {
            frame,
            site_id: here.id(),
            errors,
            answer: String::new(),
            from: text(&query.from),
            to: text(&query.to),
            price: text(&query.price),
            days: 0,
            same: String::new(),
            lines: Vec::new(),
            refused: Vec::new(),
            alike: Vec::new(),
            opened: None,
        }
    }

    pub fn of(
        frame: Frame,
        here: &AtSite,
        query: &Query,
        (asked, facts, tried): (&Asked, &Facts, &Tried),
        (opened, set): (Option<&WayResult>, &[(u8, Settings)]),
    ) -> Self {
        let (from, to) = asked.span;
        let units = here.facts.units();
        let price = asked.price.map_or(String::new(), |p| plain(p, 2));
        let same = format!("from={from}&to={to}&price={price}");
        let name = |zone: &ZoneResult| zone_name(facts, zone);
        let best = words::best(&tried.results).map(|r| r.way.name.clone());
        let line = |result: &WayResult| WayLine {
            href: format!("?{same}&way={}#h-way", result.way.name),
            name: words::way(&result.way),
            opened: opened.is_some_and(|o| o.way == result.way),
            best: Some(&result.way.name) == best.as_ref(),
            water: result.site.litres.map_or("–".into(), |l| volume(units, l)),
            cost: result.site.cost.map_or(String::new(), |c| plain(c, 0)),
            enough: share(result.site.adequacy),
            is_short: result.zones.iter().any(|z| z.adequacy() < ENOUGH),
            wasted: share(result.site.excess),
            stress: plain(f64::from(result.zones.iter().map(|z| z.stress_days).sum::<u32>()), 0),
            skipped: words::skipped(&result.zones),
            worst: worst(facts, result, units),
        };
        let refused = tried.refused.iter().map(|(code, refusals)| {
            let way = super::ways().into_iter().find(|way| way.name == *code).unwrap_or_default();
            let why: Vec<String> = refusals.iter().map(words::refusal).collect();
            (words::way(&way), why.join("; "))
        });
        let as_set = tried.results.iter().find(|r| r.way.name == Named::AsSet.code());
        // Percentages that stand at 100 % already are no other way.
        let is_alike = |r: &&WayResult| as_set.is_some_and(|set| set.way != r.way && set.zones == r.zones);
        Self {
            site_id: here.id(),
            errors: Vec::new(),
            answer: words::answer(&tried.results, &name),
            from: from.to_string(),
            to: to.to_string(),
            price,
            days: (to - from).get_days() + 1,
            lines: tried.results.iter().filter(|r| !is_alike(r)).map(line).collect(),
            alike: tried.results.iter().filter(|r| is_alike(r)).map(|r| words::way(&r.way)).collect(),
            refused: refused.collect(),
            opened: opened.map(|result| open(here, facts, (result, as_set, set), (query, &same))),
            same,
            frame,
        }
    }
}

/// The way that is opened: the one that was asked for, else the best.
pub(super) fn opened<'a>(tried: &'a Tried, query: &Query) -> Option<&'a WayResult> {
    match &query.way {
        Some(wanted) => tried.results.iter().find(|r| r.way.name == *wanted),
        None => words::best(&tried.results),
    }
}

fn zone_name(facts: &Facts, zone: &ZoneResult) -> String {
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
    format!("{}, {} in the week from {}", zone_name(facts, zone), depth(units, missed), short_date(monday))
}

fn open(
    here: &AtSite,
    facts: &Facts,
    (result, as_set, set): (&WayResult, Option<&WayResult>, &[(u8, Settings)]),
    (query, same): (&Query, &str),
) -> Opened {
    let units = here.facts.units();
    let code = result.way.name.clone();
    let key = |zone: &ZoneResult| format!("{}-{}", zone.box_number, zone.station);
    let least =
        |a: &&ZoneResult, b: &&ZoneResult| a.adequacy().fraction().total_cmp(&b.adequacy().fraction());
    let asked = query.zone.as_ref().and_then(|wanted| result.zones.iter().find(|z| key(z) == *wanted));
    let zone = asked.or_else(|| result.zones.iter().min_by(least));
    let line = |own: &ZoneResult| ZoneLine {
        href: format!("?{same}&way={code}&zone={}#h-season", key(own)),
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
    let boxes = here.facts.boxes.iter().filter_map(|own| {
        let (_, settings) = set.iter().find(|(number, _)| *number == own.number())?;
        let saved = own.settings.as_ref();
        let version = saved.map_or(0, |s| s.version);
        let place = own.record.controller.place.clone();
        Some((own.number(), place, version, saved.is_some_and(|s| s.settings == *settings)))
    });
    let beside = zone.and_then(|z| as_set?.zones.iter().find(|other| key(other) == key(z)));
    Opened {
        name: words::way(&result.way),
        zones: result.zones.iter().map(line).collect(),
        season: zone.map(|zone| season(facts, (zone, beside.filter(|_| code != Named::AsSet.code())), units)),
        boxes: boxes.collect(),
        code,
    }
}

/// The drawing of a zone's season, with that of the box as it is set beside it.
fn season(
    facts: &Facts,
    (zone, beside): (&ZoneResult, Option<&ZoneResult>),
    units: UnitSystem,
) -> (String, SeasonChart) {
    let known = facts.zone(zone.box_number, zone.station);
    let total = known.map_or(1.0, |(_, r)| r.root_zone.total_available.mm());
    let drawn = chart(&zone.days, total, units);
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

/// The trial as a table, a row a way and zone.
pub(super) fn table(facts: &Facts, results: &[WayResult]) -> String {
    let names = [
        "way",
        "box",
        "zone",
        "name",
        "needed_mm",
        "et_mm",
        "applied_mm",
        "applied_in_mm",
        "rain_mm",
        "rain_in_mm",
        "runoff_mm",
        "drainage_mm",
        "adequacy",
        "adequacy_least_quarter",
        "excess",
        "stress_days",
        "runs",
        "litres",
    ];
    let rows: Vec<[String; 18]> = results
        .iter()
        .flat_map(|result| result.zones.iter().map(move |zone| (result, zone)))
        .map(|(result, zone)| {
            let mm = |value: upland_core::quantity::units::Millimetres| format!("{:.2}", value.mm());
            let name =
                facts.zone(zone.box_number, zone.station).map_or(String::new(), |(z, _)| z.name.clone());
            let [least, _, _] = zone.parts;
            [
                result.way.name.clone(),
                zone.box_number.to_string(),
                zone.station.to_string(),
                name,
                mm(zone.needed),
                mm(zone.et),
                mm(zone.applied),
                mm(zone.applied_in),
                mm(zone.rain),
                mm(zone.rain_in),
                mm(zone.runoff),
                mm(zone.drainage),
                format!("{:.4}", zone.adequacy().fraction()),
                format!("{:.4}", least.adequacy().fraction()),
                format!("{:.4}", zone.excess().fraction()),
                zone.stress_days.to_string(),
                zone.runs.to_string(),
                zone.litres.map_or(String::new(), |l| format!("{:.0}", l.l())),
            ]
        })
        .collect();
    upland_formats::rows_csv::write(&names, &rows)
}

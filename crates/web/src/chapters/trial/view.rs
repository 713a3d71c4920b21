//! The page of a trial: one sentence, the ways side by side, one way's zones, one zone's season.

use super::words::{self, ENOUGH};
use super::{Asked, Query, Tried, settings_of};
use crate::page::frame::Frame;
use crate::page::quantities::{depth, plain, share, short_date, volume};
use crate::site::context::AtSite;
use askama::Template;
use upland_core::account::whole::Facts;
use upland_core::account::zone::AccountDay;
use upland_core::codes::Coded;
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
    season: Option<Season>,
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

/// A zone's season under the way, and as it is set.
struct Season {
    words: String,
    refill: String,
    line: String,
    beside: String,
    rain: Vec<Bar>,
    runs: Vec<Bar>,
    months: Vec<(String, String)>,
    full_words: String,
    empty_words: String,
}

struct Bar {
    x: String,
    y: String,
    width: String,
    height: String,
    title: String,
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
    ) -> Self {
        let (from, to) = asked.span;
        let units = here.facts.units();
        let price = asked.price.map_or(String::new(), |p| plain(p, 2));
        let same = format!("from={from}&to={to}&price={price}");
        let name = |zone: &ZoneResult| zone_name(facts, zone);
        let best = words::best(&tried.results).map(|r| r.way.name.clone());
        let wanted = query.way.clone().or_else(|| best.clone());
        let opened = tried.results.iter().find(|r| Some(&r.way.name) == wanted.as_ref());
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
            opened: opened.map(|result| open(here, facts, (result, as_set), (query, &same))),
            same,
            frame,
        }
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
    (result, as_set): (&WayResult, Option<&WayResult>),
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
    let today = here.moment(None).date;
    let boxes = here.facts.boxes.iter().filter_map(|own| {
        let settings = settings_of(&result.way, facts, own.number(), today)?;
        let saved = own.settings.as_ref();
        let version = saved.map_or(0, |s| s.version);
        let place = own.record.controller.place.clone();
        Some((own.number(), place, version, saved.is_some_and(|s| s.settings == settings)))
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

/// Width of the drawing, and its bands: rain hangs to 60, the root zone reaches from 60 to 280, watering stands
/// on 340.
const WIDTH: f64 = 1000.0;
const SOIL: (f64, f64) = (60.0, 280.0);
const RUNS: (f64, f64) = (290.0, 340.0);

fn season(facts: &Facts, (zone, beside): (&ZoneResult, Option<&ZoneResult>), units: UnitSystem) -> Season {
    let total = facts.zone(zone.box_number, zone.station);
    let total = total.map_or(1.0, |(_, r)| r.root_zone.total_available.mm()).max(1.0);
    #[allow(clippy::cast_precision_loss, reason = "days of a few years")]
    let step = WIDTH / zone.days.len().max(1) as f64;
    #[allow(clippy::cast_precision_loss, reason = "days of a few years")]
    let x = |k: usize| k as f64 * step;
    let y = |mm: f64| SOIL.0 + (SOIL.1 - SOIL.0) * (mm / total).clamp(0.0, 1.0);
    let path = |days: &[AccountDay], of: &dyn Fn(&AccountDay) -> f64| {
        let points = days.iter().enumerate();
        let points = points.map(|(k, d)| format!("{} {}", plain(x(k) + step, 1), plain(y(of(d)), 1)));
        let all: Vec<String> = points.collect();
        if all.is_empty() { String::new() } else { format!("M{}", all.join("L")) }
    };
    let most = |of: fn(&AccountDay) -> f64| zone.days.iter().map(of).fold(1.0, f64::max);
    let (rain_of, run_of) = (|d: &AccountDay| d.water.rain.mm(), |d: &AccountDay| d.water.applied.mm());
    let bars = |of: fn(&AccountDay) -> f64, most: f64, (top, bottom): (f64, f64), what: &str, hangs: bool| {
        let wet = zone.days.iter().enumerate().filter(|(_, d)| of(d) > 0.0);
        wet.map(|(k, d)| {
            let height = ((bottom - top) * of(d) / most).max(1.0);
            Bar {
                x: plain(x(k), 2),
                y: plain(if hangs { top } else { bottom - height }, 1),
                width: plain(step.max(0.8), 2),
                height: plain(height, 1),
                title: format!(
                    "{}: {} {what}",
                    short_date(d.date),
                    depth(units, upland_core::quantity::units::Millimetres::from_mm(of(d)))
                ),
            }
        })
        .collect()
    };
    let months = zone.days.iter().enumerate().filter(|(_, d)| d.date.day() == 1);
    Season {
        words: format!(
            "{}: {} of {} met, {} of watering wasted, short on {} of {} days",
            zone_name(facts, zone),
            depth(units, zone.et),
            depth(units, zone.needed),
            share(zone.excess()),
            zone.stress_days,
            zone.days.len()
        ),
        refill: path(&zone.days, &|d| d.refill_at.mm()),
        line: path(&zone.days, &|d| d.water.depletion.mm()),
        beside: beside.map_or(String::new(), |other| path(&other.days, &|d| d.water.depletion.mm())),
        rain: bars(rain_of, most(rain_of), (14.0, SOIL.0), "of rain", true),
        runs: bars(run_of, most(run_of), RUNS, "applied", false),
        months: months.map(|(k, d)| (plain(x(k), 1), d.date.strftime("%b").to_string())).collect(),
        full_words: "full".into(),
        empty_words: format!(
            "wilting, {} below",
            depth(units, upland_core::quantity::units::Millimetres::from_mm(total))
        ),
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

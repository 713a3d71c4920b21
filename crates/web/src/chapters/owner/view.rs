//! The page of an owner as it is drawn: figures and sentences in the reader's language, nothing to be computed any more.

use super::facts::Facts;
use crate::page::messages::{Reader, Value};
use jiff::civil::Date;
use std::collections::BTreeMap;
use upland_core::account::period::{Period, WaterSums, ZonePeriod};
use upland_core::account::running::cause_of;
use upland_core::codes::Coded;
use upland_core::controller::schedule::Settings;
use upland_core::quantity::units::{Litres, Millimetres};
use upland_core::site::StationId;
use upland_core::tuning::{Looks, expected_look};
use upland_store::owner_links::{OwnerBaseline, OwnerView};

/// Days on which a zone may be dry before that is said at the head of the page.
const SHORT_FROM: usize = 3;

/// The drawing: its width and height, and room for the marks on its left, in its own units.
const WIDE: f64 = 640.0;
const HIGH: f64 = 180.0;
const LEFT: f64 = 84.0;

/// A bar of a week.
pub(super) struct Week {
    pub x: f64,
    pub width: f64,
    pub rain_y: f64,
    pub rain_height: f64,
    pub watering_y: f64,
    pub watering_height: f64,
    pub needed_y: f64,
    pub words: String,
}

/// A line of the scale.
pub(super) struct Tick {
    pub y: f64,
    pub label: String,
}

/// What a figure says, and what stands under it.
pub(super) struct Figure {
    pub label: String,
    pub value: String,
    pub under: Vec<String>,
}

/// An area as its owner sees it.
pub(super) struct Area {
    pub name: String,
    /// "dry", "right", "wet".
    pub state: &'static str,
    pub state_words: String,
    /// Share of the water that its soil can give that is there, percent.
    pub full_pct: u32,
    pub lines: Vec<String>,
}

/// Something that waits for the owner.
pub(super) struct Decision {
    pub words: String,
    pub photos: Vec<i64>,
}

/// The page.
pub(super) struct OwnerPage {
    pub title: String,
    pub period: String,
    pub headline: String,
    pub figures: Vec<Figure>,
    pub weeks: Vec<Week>,
    pub ticks: Vec<Tick>,
    pub tonight: Vec<String>,
    pub areas: Vec<Area>,
    pub done: Vec<String>,
    pub decisions: Vec<Decision>,
}

fn used(reader: &Reader, period: &Period) -> Figure {
    let label = reader.say("owner-used");
    let Some(litres) = period.litres else {
        return Figure { label, value: "–".into(), under: vec![reader.say("owner-used-unknown")] };
    };
    let bound = |factor: f64| reader.volume(Litres::from_l(litres.l() * factor));
    let (low, high) = (bound(1.0 / period.spread), bound(period.spread));
    let about = reader.with("owner-used-about", &[("low", low.into()), ("high", high.into())]);
    Figure { label, value: reader.volume(litres), under: vec![about] }
}

fn rain(reader: &Reader, period: &Period) -> Figure {
    let all = period
        .weeks
        .values()
        .fold((0.0, 0.0), |sum, week| (sum.0 + week.rain_kept.mm().max(0.0), sum.1 + week.needed.mm()));
    let share = if all.1 > 0.0 { 100.0 * all.0 / all.1 } else { 0.0 };
    let share = reader.number(share.min(100.0), 0);
    Figure {
        label: reader.say("owner-rain"),
        value: reader.depth(Millimetres::from_mm(all.0)),
        under: vec![reader.with("owner-rain-share", &[("share", share.into())])],
    }
}

fn saved(reader: &Reader, facts: &Facts, period: &Period, view: &OwnerView) -> Figure {
    let known = facts.baseline.zip(period.litres);
    let Some((before, used)) = known else {
        let under = vec![reader.say("owner-saved-unknown")];
        return Figure { label: reader.say("owner-saved"), value: "–".into(), under };
    };
    let saved = before.l() - used.l();
    let label = reader.say(if saved >= 0.0 { "owner-saved" } else { "owner-more" });
    let share = if before.l() > 0.0 { 100.0 * saved.abs() / before.l() } else { 0.0 };
    let value = format!("{} ({} %)", reader.volume(Litres::from_l(saved.abs())), reader.number(share, 0));
    let mut under = vec![reader.say(match view.baseline {
        OwnerBaseline::AsFound => "owner-saved-as_found",
        OwnerBaseline::Fixed => "owner-saved-fixed",
    })];
    if let Some(price) = &view.price {
        let amount = format!("{} {}", reader.number(saved.abs() / 1000.0 * price.a_m3, 0), price.currency);
        under.push(reader.with("owner-money", &[("amount", amount.into())]));
    }
    Figure { label, value, under }
}

/// The greatest amount of the scale: a round number of millimetres or of hundredths of an inch, above everything drawn.
fn scale_mm(reader: &Reader, weeks: &BTreeMap<Date, WaterSums>) -> f64 {
    let most = weeks
        .values()
        .map(|week| week.needed.mm().max(week.rain_kept.mm().max(0.0) + week.applied_kept.mm().max(0.0)));
    let most = most.fold(1.0, f64::max);
    let unit = if reader.units == upland_core::site::UnitSystem::UsCustomary { 12.7 } else { 10.0 };
    (most / unit).ceil() * unit
}

fn drawing(reader: &Reader, weeks: &BTreeMap<Date, WaterSums>) -> (Vec<Week>, Vec<Tick>) {
    let most = scale_mm(reader, weeks);
    let depth = |mm: f64| reader.depth(Millimetres::from_mm(mm));
    let high = |mm: f64| mm.max(0.0) / most * HIGH;
    #[allow(clippy::cast_precision_loss, reason = "some weeks")]
    let step = (WIDE - LEFT) / weeks.len().max(1) as f64;
    let bar = |(place, (monday, week)): (usize, (&Date, &WaterSums))| {
        let (rain, watering) = (high(week.rain_kept.mm()), high(week.applied_kept.mm()));
        let day = reader.day(*monday);
        let words = reader.with(
            "owner-week-of",
            &[
                ("day", day.into()),
                ("needed", depth(week.needed.mm()).into()),
                ("rain", depth(week.rain_kept.mm().max(0.0)).into()),
                ("watering", depth(week.applied_kept.mm().max(0.0)).into()),
            ],
        );
        #[allow(clippy::cast_precision_loss, reason = "some weeks")]
        let x = step.mul_add(place as f64, LEFT) + step * 0.15;
        Week {
            x,
            width: step * 0.7,
            rain_y: HIGH - rain,
            rain_height: rain,
            watering_y: HIGH - rain - watering,
            watering_height: watering,
            needed_y: HIGH - high(week.needed.mm()),
            words,
        }
    };
    let ticks = [0.0, 0.5, 1.0].map(|share| Tick { y: HIGH - share * HIGH, label: depth(share * most) });
    (weeks.iter().enumerate().map(bar).collect(), ticks.into())
}

fn headline(reader: &Reader, period: &Period, names: &dyn Fn(StationId) -> String) -> String {
    let short: Vec<&ZonePeriod> = period.zones.iter().filter(|zone| zone.days_short >= SHORT_FROM).collect();
    let Some(most) = short.iter().map(|zone| zone.days_short).max() else {
        return reader.say("owner-all-well");
    };
    let listed: Vec<String> = short.iter().map(|zone| names(zone.id)).collect();
    reader.with(
        "owner-some-short",
        &[
            ("short", short.len().into()),
            ("zones", period.zones.len().into()),
            ("days", most.into()),
            ("names", listed.join(", ").into()),
        ],
    )
}

fn tonight(reader: &Reader, facts: &Facts) -> Vec<String> {
    let site = &facts.site;
    let clock = |at: jiff::Timestamp| Value::from(reader.clock(at.to_zoned(site.tz.clone()).time()));
    let line = |own: &crate::site::records::SiteController| {
        let place = Value::from(own.record.controller.place.clone());
        let runs = site.tonight(own).unwrap_or_default();
        let lighting =
            |station: u16| own.settings.as_ref().is_some_and(|set| set.settings.station(station).lighting);
        let set: Vec<_> = runs.iter().filter(|run| !lighting(run.run.station)).collect();
        let water: Vec<_> = set.iter().filter(|run| !run.is_held()).collect();
        let mut stations: Vec<u16> = water.iter().map(|run| run.run.station).collect();
        stations.sort_unstable();
        stations.dedup();
        if let (Some(first), Some(last)) = (water.first(), water.iter().map(|run| run.until).max()) {
            let (from, until) = (clock(first.run.start), clock(last));
            let zones = stations.len().into();
            let variables = [("place", place), ("zones", zones), ("from", from), ("until", until)];
            return reader.with("owner-tonight-runs", &variables);
        }
        if let Some(holder) = set.iter().find_map(|run| run.held_by.first()) {
            let cause = reader.say(&format!("cause-{}", cause_of(holder)));
            return reader.with("owner-tonight-held", &[("place", place), ("cause", cause.into())]);
        }
        let needs = site.night(own.number()).running().count();
        let computes = site.inputs.of_controller(own.number()).is_some_and(|own| own.computes_itself());
        if computes && needs > 0 {
            return reader.with("owner-tonight-needs", &[("place", place), ("zones", needs.into())]);
        }
        reader.with("owner-tonight-none", &[("place", place)])
    };
    site.records.controllers.iter().map(line).collect()
}

fn area(reader: &Reader, facts: &Facts, zone: &ZonePeriod) -> Option<Area> {
    let site = &facts.site;
    let record = site.records.zone_on(zone.id)?;
    let own = site.account().zone(zone.id)?;
    let surveyed = site.inputs.zones.iter().find(|surveyed| surveyed.zone.station_id() == zone.id)?;
    let holds = surveyed.resolved.root_zone_on(site.today()).total_available.mm().max(0.1);
    let full = (1.0 - own.end.depletion.mm() / holds).clamp(0.0, 1.0);
    let state = match expected_look(own) {
        Looks::Dry => "dry",
        Looks::Right => "right",
        Looks::Wet => "wet",
    };
    let mut lines = vec![reader.with("owner-area-watered", &[("nights", zone.watered.into())])];
    for (cause, nights) in &zone.held {
        let cause = reader.say(&format!("cause-{cause}"));
        lines.push(reader.with("owner-area-held", &[("nights", (*nights).into()), ("cause", cause.into())]));
    }
    if zone.days_short > 0 {
        lines.push(reader.with("owner-area-short", &[("days", zone.days_short.into())]));
    }
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a percentage")]
    let full_pct = (full * 100.0).round() as u32;
    let state_words = reader.say(&format!("owner-area-state-{state}"));
    Some(Area { name: record.zone.name.clone(), state, state_words, full_pct, lines })
}

fn done(reader: &Reader, facts: &Facts, period: &Period) -> Vec<String> {
    let noted = &facts.noted;
    let mut days: BTreeMap<Date, Vec<String>> = BTreeMap::new();
    for visit in noted.visits.iter().filter(|visit| period.span.contains(visit.on)) {
        let (day, who) = (reader.day(visit.on).into(), visit.begun_by.clone().into());
        let words = reader.with("owner-done-visit", &[("day", day), ("who", who)]);
        days.entry(visit.on).or_default().push(words);
    }
    let mut turned: BTreeMap<Date, usize> = BTreeMap::new();
    for lever in &noted.levers {
        let on = lever.said_at.to_zoned(facts.site.tz.clone()).date();
        if period.span.contains(on) {
            *turned.entry(on).or_default() += 1;
        }
    }
    for (on, count) in turned {
        let variables = [("day", reader.day(on).into()), ("count", count.into())];
        days.entry(on).or_default().push(reader.with("owner-done-adjusted", &variables));
    }
    days.into_values().rev().flatten().collect()
}

fn decisions(reader: &Reader, facts: &Facts) -> Vec<Decision> {
    let name = |id: i64| facts.site.records.zone(id).map_or(String::new(), |own| own.zone.name.clone());
    let decision = |repair: super::facts::Repair| {
        let what = reader.say(&format!("sign-{}", repair.sign.code()));
        let variables = [
            ("area", name(repair.zone).into()),
            ("what", what.into()),
            ("day", reader.day(repair.seen).into()),
        ];
        Decision { words: reader.with("owner-decide-repair", &variables), photos: repair.photos }
    };
    facts.repairs().into_iter().map(decision).collect()
}

impl OwnerPage {
    /// The page of a site over the days of its facts; `None` where there is no account of them.
    pub fn of(reader: &Reader, facts: &Facts, view: &OwnerView) -> Option<Self> {
        let (site, period) = (&facts.site, facts.period.as_ref()?);
        let name =
            |id: StationId| site.records.zone_on(id).map_or(String::new(), |own| own.zone.name.clone());
        let (weeks, ticks) = drawing(reader, &period.weeks);
        let (from, to) = (reader.day_of_year(period.span.first), reader.day_of_year(period.span.last));
        Some(Self {
            title: reader.with("owner-title", &[("site", site.records.site.site.name.clone().into())]),
            period: reader.with("owner-period", &[("from", from.into()), ("to", to.into())]),
            headline: headline(reader, period, &name),
            figures: vec![used(reader, period), rain(reader, period), saved(reader, facts, period, view)],
            weeks,
            ticks,
            tonight: tonight(reader, facts),
            areas: period.zones.iter().filter_map(|zone| area(reader, facts, zone)).collect(),
            done: done(reader, facts, period),
            decisions: decisions(reader, facts),
        })
    }
}

/// What a controller is set to, a line a program that waters.
pub(super) fn programs(reader: &Reader, settings: &Settings, name: impl Fn(u16) -> String) -> Vec<String> {
    let water = settings.programs.iter().filter(|program| program.waters());
    let line = |program: &upland_core::controller::schedule::Program| {
        let starts: Vec<String> = program.starts.iter().map(|start| reader.clock(*start)).collect();
        let ran = program.run_times.iter().filter(|(_, length)| length.any());
        let areas: Vec<String> =
            ran.map(|(station, length)| format!("{} {length}", name(*station))).collect();
        reader.with(
            "handover-program",
            &[
                ("name", program.name.clone().into()),
                ("days", reader.days(program.days).into()),
                ("starts", starts.join(", ").into()),
                ("areas", areas.join(", ").into()),
            ],
        )
    };
    water.map(line).collect()
}

/// Months that the page offers, the last first: each as an address has it and as its reader says it.
pub(super) fn months(reader: &Reader, today: Date, count: i32) -> Vec<(String, String)> {
    let month = |back: i32| {
        let first = today.first_of_month().checked_sub(jiff::Span::new().months(back)).ok()?;
        let (name, year) = (reader.say(&format!("month-{}", first.month())), first.year());
        Some((first.strftime("%Y-%m").to_string(), format!("{name} {year}")))
    };
    (0..count).filter_map(month).collect()
}

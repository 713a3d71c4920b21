//! The way that is opened: its zones, one zone's season, one day's hours. The same for everybody who looks.

use super::day::{self, DayView};
use super::query::Query;
use super::results::Tried;
use super::words::{self, ENOUGH};
use crate::page::quantities::{depth, share, short_date};
use crate::page::ribbon::RibbonPart;
use crate::page::season_chart::chart;
use crate::server::address;
use askama::Template;
use jiff::civil::Date;
use upland_core::account::site_account::AccountInputs;
use upland_core::codes::Coded;
use upland_core::site::{StationId, SurveyedZone, UnitSystem};
use upland_core::trial::{Named, WayResult, ZoneResult};

/// The way that is opened.
pub(super) struct Opened {
    pub code: String,
    pub name: String,
    pub zones: Vec<ZoneLine>,
    pub season: Option<Season>,
    pub day: Option<DayView>,
    /// Sensors that are set otherwise under the way.
    pub sensors: Vec<String>,
    /// The year of the opened day, of which every week leads to its days.
    pub ribbon: String,
}

/// A zone's season under the way, and as it is set, with its sums in words.
pub(super) struct Season {
    pub words: String,
    pub beside: bool,
    pub svg: String,
}

/// A zone under the way.
pub(super) struct ZoneLine {
    pub href: String,
    pub name: String,
    pub opened: bool,
    pub enough: String,
    pub is_short: bool,
    pub parts: String,
    pub applied: String,
    pub wasted: String,
    pub stress: u32,
    pub runs: u32,
    pub skipped: String,
    pub worst: String,
}

fn key(zone: &ZoneResult) -> String {
    format!("{}-{}", zone.controller_number, zone.station)
}

/// The zone and the day that are asked for, where there are such.
pub(super) fn asked_for(result: &WayResult, query: &Query) -> (Option<String>, Option<Date>) {
    let zone = query.zone.clone().filter(|wanted| result.zones.iter().any(|zone| key(zone) == *wanted));
    let within = |day: &Date| result.zones.iter().any(|zone| zone.days.iter().any(|own| own.date == *day));
    (zone, query.day.as_deref().and_then(|day| day.parse().ok()).filter(within))
}

impl Opened {
    /// What is seen of a way in full; `zone` and `day` are what was asked for, else the zone that has least, and its
    /// worst day.
    pub fn of(
        tried: &Tried,
        result: &WayResult,
        zone: Option<&str>,
        day: Option<Date>,
        units: UnitSystem,
        same: &str,
    ) -> Self {
        let facts = &tried.facts;
        let code = result.way.name.clone();
        let least =
            |a: &&ZoneResult, b: &&ZoneResult| a.adequacy().fraction().total_cmp(&b.adequacy().fraction());
        let asked = zone.and_then(|wanted| result.zones.iter().find(|z| key(z) == wanted));
        let zone = asked.or_else(|| result.zones.iter().min_by(least));
        let way = address::encoded(&code);
        let as_set = tried.results.iter().find(|r| r.way.name == Named::AsSet.code());
        let beside = zone.and_then(|z| as_set?.zones.iter().find(|other| key(other) == key(z)));
        let beside = beside.filter(|_| code != Named::AsSet.code());
        let zone_key = zone.map(key).unwrap_or_default();
        let date: Date = day.unwrap_or_else(|| {
            zone.map_or(tried.span.last, |z| day::first_looked_at(z, tried.span.first, tried.span.last))
        });
        let link = format!("?{same}way={way}&zone={zone_key}&day=");
        let line = |own: &ZoneResult| {
            let href = format!("?{same}way={way}&zone={}#h-season", key(own));
            zone_line(facts, own, units, href, zone_key == key(own))
        };
        let of_day = |zone| DayView::of(facts, &result.way, zone, tried.span, date, units, &link);
        let to_day = (link.clone(), "#h-day".to_owned());
        Self {
            name: words::way(&result.way),
            zones: result.zones.iter().map(line).collect(),
            season: zone.map(|zone| season(facts, zone, beside, units, &link)),
            day: zone.and_then(of_day),
            sensors: words::sensor_settings(&result.way, units),
            ribbon: RibbonPart::new(&facts.climate, date, units, to_day).render().unwrap_or_default(),
            code,
        }
    }
}

fn zone_line(
    facts: &AccountInputs,
    own: &ZoneResult,
    units: UnitSystem,
    href: String,
    opened: bool,
) -> ZoneLine {
    ZoneLine {
        href,
        name: words::zone_name(facts, own),
        opened,
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
    }
}

/// The drawing of a zone's season, with that of the controller as it is set beside it.
fn season(
    facts: &AccountInputs,
    zone: &ZoneResult,
    beside: Option<&ZoneResult>,
    units: UnitSystem,
    link: &str,
) -> Season {
    let total = facts
        .zone(StationId::new(zone.controller_number, zone.station))
        .map_or(0.0, |SurveyedZone { resolved: r, .. }| r.root_zone.total_available.mm());
    let drawn =
        chart(&zone.days, total, units).with_weeks(&zone.days, link).with_held(&zone.days, &zone.held);
    let words = format!(
        "{}: {} of {} met, {} of watering wasted, short on {} of {} days",
        words::zone_name(facts, zone),
        depth(units, zone.et),
        depth(units, zone.needed),
        share(zone.excess()),
        zone.stress_days,
        zone.days.len()
    );
    let drawn = match beside {
        Some(other) => drawn.beside(&other.days, total, units),
        None => drawn,
    };
    Season { words, beside: beside.is_some(), svg: drawn.render().unwrap_or_default() }
}

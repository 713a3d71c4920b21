//! A zone at a glance: tonight and whether it is right, what its soil has, its last two weeks, who prevents its watering,
//! and what was seen there. The survey is one press away.

use crate::page::dates::DateFormat;
use crate::page::frame::{Chapter, Frame};
use crate::page::night_words::{Requirement, because, requirement, sign, weight};
use crate::page::photographs::photographs;
use crate::page::quantities::{capital, cycles, depth, plain, short_date};
use crate::page::season_chart::{SeasonChart, short_chart};
use crate::page::sensor_words::{holders, says_of};
use crate::page::soil_column::{SoilColumn, soil_column};
use crate::page::why_words;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::{PageError, page};
use crate::server::state::AppState;
use crate::site::context::AtSite;
use crate::site::noted::dated;
use crate::site::records::SiteController;
use crate::site::snapshot::SiteSnapshot;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::ToSpan;
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::account::running::ControllerFacts;
use upland_core::account::zone::AccountDay;
use upland_core::advice::tonight::{Will, ZoneTonight};
use upland_core::codes::Coded;
use upland_core::sensors::mapping::tie;
use upland_core::site::{StationId, UnitSystem, Zone};
use upland_core::tuning::{Looks, Sign, why};
use upland_store::photos::PhotoOf;
use upland_store::visits::EntryRecord;
use upland_store::zones::ZoneRecord;

/// Days that the drawing shows, and that the answer is about.
const DAYS: i32 = 14;
/// Causes that are told, the largest first.
const CAUSES: usize = 3;
/// Looks at a visit that are shown, the newest first.
const SEEN: usize = 3;

/// A number of tonight with what stands under it.
struct Figure {
    label: &'static str,
    value: String,
    below: String,
}

/// A sensor of the controller, and whether it can prevent watering of the zone.
struct SensorLine {
    name: String,
    href: String,
    obeys: bool,
    says: String,
    because: String,
}

/// A program that waters the zone.
struct ProgramLine {
    name: String,
    minutes: String,
    percent: String,
}

/// What was seen at a visit.
struct SeenLine {
    on: String,
    words: String,
    by: String,
}

/// A zone before or after this one.
struct Neighbour {
    href: String,
    name: String,
}

/// What is known of the zone now; the same for everybody who reads in the same way.
struct Now {
    answer: String,
    verdict: Option<String>,
    weight: &'static str,
    sign: &'static str,
    figures: Vec<Figure>,
    soil: Option<SoilColumn>,
    because: String,
    held: Option<String>,
    chart: Option<SeasonChart>,
    span: String,
    why: String,
    causes: Vec<String>,
    sensors: Vec<SensorLine>,
    programs: Vec<ProgramLine>,
    seen: Vec<SeenLine>,
}

#[derive(Template)]
#[template(path = "chapters/zones/now.html")]
struct NowPage {
    frame: Frame,
    site_id: i64,
    id: i64,
    name: String,
    kind: String,
    previous: Option<Neighbour>,
    next: Option<Neighbour>,
    controller: u8,
    photos: String,
    now: Arc<Now>,
}

/// What the controller does with the zone tonight, in a sentence.
fn answer(zone: &ZoneTonight, tz: &jiff::tz::TimeZone) -> String {
    let Some(will) = &zone.will else { return "What the controller does tonight is not known.".to_owned() };
    let at = |at: jiff::Timestamp| at.to_zoned(tz.clone()).formatted("%H:%M");
    match (will.starts().min(), will.runs.iter().filter(|r| !r.is_held()).map(|r| r.until).max()) {
        (Some(from), Some(until)) => {
            format!("Tonight: {} from {} to {}.", will.waters(), at(from), at(until))
        }
        _ if will.runs.is_empty() => "Tonight: no watering.".to_owned(),
        _ if will.runs.len() == 1 => "Tonight: no watering; one run is set.".to_owned(),
        _ => format!("Tonight: no watering; {} runs are set.", will.runs.len()),
    }
}

/// The numbers of tonight, in the order in which they are asked for.
fn figures(zone: &ZoneTonight, units: UnitSystem) -> Vec<Figure> {
    let required = match requirement(zone) {
        Requirement::NotDue => ("nothing".to_owned(), "not due".to_owned()),
        Requirement::NotTonight { cycles: own, gross } => {
            (depth(units, gross), format!("{}, not tonight", cycles(own)))
        }
        Requirement::Tonight { cycles: own, gross } => (depth(units, gross), cycles(own)),
    };
    let applied = zone.will.as_ref().map_or(("not known".to_owned(), String::new()), |will| {
        let water = will.ahead.water.applied;
        let none = !will.waters().any();
        let value = if none { "nothing".to_owned() } else { depth(units, water) };
        (value, if none { String::new() } else { will.waters().to_string() })
    });
    let of = |label, (value, below): (String, String)| Figure { label, value, below };
    let refill = zone.root_zone.readily_available();
    vec![
        of("Required tonight", required),
        of("Applied tonight", applied),
        of(
            "Deficit now",
            (depth(units, zone.depletion), format!("refill point at {}", depth(units, refill))),
        ),
    ]
}

fn sensor_lines(site: &SiteSnapshot, own: &SiteController, zone: &Zone) -> Vec<SensorLine> {
    let settings = own.settings_or_clean();
    let set = settings.station(zone.number);
    let line = |record: &upland_store::sensors::SensorRecord| {
        let sensor = &record.sensor;
        let tie = tie(&sensor.card, &sensor.map, zone, sensor.placement.probe_station, set.lighting);
        let (says, because) = says_of(site, record, &site.says(record));
        SensorLine {
            name: sensor.name.clone(),
            href: address::sensor(site.records.site.id.number(), record.id),
            obeys: tie.holds,
            says,
            // What its state rests on, where it may prevent watering; else why the zone ignores it.
            because: if tie.holds { because } else { tie.why.words().into() },
        }
    };
    site.of_controller(own.number()).map(line).collect()
}

fn program_lines(own: &SiteController, zone: &Zone, today: Date) -> Vec<ProgramLine> {
    let Some(record) = &own.settings else { return Vec::new() };
    let settings = &record.settings;
    let waters = settings.programs.iter().enumerate();
    let waters = waters.filter(|(at, p)| p.active && settings.run_time(*at, zone.number).any());
    waters
        .map(|(at, program)| ProgramLine {
            name: program.name.clone(),
            minutes: settings.run_time(at, zone.number).to_string(),
            percent: settings.percentages.of(at, today).to_string(),
        })
        .collect()
}

/// What was seen of a zone at a visit; the body of an entry is that of the visit file.
fn seen_words(entry: &EntryRecord) -> String {
    let text = |name: &str| entry.body.get(name).and_then(serde_json::Value::as_str);
    let mut parts: Vec<String> = Vec::new();
    parts.extend(text("looks").and_then(Looks::from_code).map(|looks| looks.label().to_owned()));
    let signs = entry.body.get("signs").and_then(serde_json::Value::as_array);
    let codes = signs.into_iter().flatten().filter_map(serde_json::Value::as_str);
    parts.extend(codes.filter_map(Sign::from_code).map(|sign| sign.label().to_owned()));
    let available = entry.body.get("available_pct").and_then(serde_json::Value::as_f64);
    parts.extend(available.map(|pct| format!("{} % of the available water left", plain(pct, 0))));
    parts.extend(text("note").filter(|note| !note.is_empty()).map(str::to_owned));
    parts.join(", ")
}

impl Now {
    // Long: one part of the page after another.
    fn of(state: &AppState, site: &SiteSnapshot, record: &ZoneRecord) -> Result<Self, PageError> {
        let (zone, units, tz) = (&record.zone, site.units(), &site.tz);
        let (number, station, today) = (zone.controller_number, zone.number, site.today());
        let tonight = site.night(number);
        let own = site.site_controller(number);
        let night = tonight.zones.iter().find(|z| z.zone.number == station);
        let from = today.checked_sub((DAYS - 1).days()).unwrap_or(today);
        let account = site.account();
        let known = account.zone(StationId::new(number, station));
        let days: Vec<AccountDay> = known.map_or(Vec::new(), |own| {
            own.days.iter().filter(|d| (from..=today).contains(&d.date)).copied().collect()
        });
        let total = record.zone.resolve(site.records.site.site.latitude_deg).root_zone.total_available.mm();
        let runs = account.runs.of(StationId::new(number, station)).filter(|r| r.is_held());
        let skipped: Vec<(Date, &str)> = runs
            .map(|r| (r.run.start.to_zoned(tz.clone()).date(), "skipped"))
            .filter(|(date, _)| (from..=today).contains(date))
            .collect();
        let found = (!days.is_empty())
            .then(|| why(&site.inputs, account, StationId::new(number, station), from, today))
            .flatten();
        let sensors =
            site.inputs.of_controller(number).map(ControllerFacts::sensor_names).unwrap_or_default();
        let names: Vec<&str> = sensors.iter().map(String::as_str).collect();
        let held_by = night.and_then(|z| z.will.as_ref()).map(Will::held_by).unwrap_or_default();
        let id = record.id;
        let entries = dated(state, &site.records)?;
        let seen = entries.entries.iter().filter(|e| e.kind == "zone" && e.about == id && !e.undone).rev();
        let day = |at: jiff::Timestamp| at.to_zoned(tz.clone()).formatted("%-d %b %Y");
        Ok(Self {
            answer: night.map_or_else(|| "No controller waters this zone.".to_owned(), |z| answer(z, tz)),
            verdict: night.and_then(|z| z.verdict).map(|v| capital(v.label())),
            weight: night.map_or("held", weight),
            sign: night.map_or("", sign),
            figures: night.map_or(Vec::new(), |z| figures(z, units)),
            soil: night.map(|z| soil_column(z, units)),
            because: night.map_or(String::new(), |z| because(z, units, tz, tonight.date)),
            held: (!held_by.is_empty()).then(|| holders(units, &held_by, &names, tz)),
            chart: (!days.is_empty()).then(|| short_chart(&days, total, units).with_held(&days, &skipped)),
            span: format!("{} to {}", short_date(from), short_date(today)),
            why: found.as_ref().map_or(String::new(), |own| why_words::met(own, units)),
            causes: found.as_ref().map_or(Vec::new(), |own| {
                own.reasons.iter().take(CAUSES).map(|r| why_words::reason(r, own, units)).collect()
            }),
            sensors: own.map_or(Vec::new(), |own| sensor_lines(site, own, zone)),
            programs: own.map_or(Vec::new(), |own| program_lines(own, zone, today)),
            seen: seen
                .take(SEEN)
                .map(|e| SeenLine { on: day(e.at), words: seen_words(e), by: e.said_by.clone() })
                .collect(),
        })
    }
}

/// The zones before and after one, in the order of their stations.
fn neighbours(site_id: i64, zones: &[ZoneRecord], id: i64) -> (Option<Neighbour>, Option<Neighbour>) {
    let mut all: Vec<&ZoneRecord> = zones.iter().collect();
    all.sort_by_key(|z| z.zone.station_id());
    let at = all.iter().position(|z| z.id == id);
    let of = |place: Option<usize>| {
        let zone = all.get(place?)?;
        Some(Neighbour {
            href: address::zone(site_id, zone.id),
            name: format!("{} {}", zone.zone.number, zone.zone.name),
        })
    };
    (of(at.and_then(|at| at.checked_sub(1))), of(at.map(|at| at + 1)))
}

questions! {
    words OfZone { zone: i64 } -> Now;
}

#[get("/sites/{id}/zones/{zone}")]
pub(super) async fn now_page(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let zone = here.records.zone(path.1)?.clone();
    let site = here.snapshot(None).await?;
    let (about, question) = (here.about_moment(site.moment), OfZone { zone: zone.id });
    let (own, shared) = (zone.clone(), Arc::clone(&site));
    let now = here.once(about, question, 30, move |state| Now::of(state, &shared, &own)).await?;
    let (previous, next) = neighbours(here.id(), &here.records.zones, zone.id);
    page(&NowPage {
        frame: Frame::of_site(&here, format!("Zone {}", zone.zone.number), Chapter::Zones)?,
        site_id: here.id(),
        id: zone.id,
        name: format!("{} {}", zone.zone.number, zone.zone.name),
        kind: format!(
            "{}, {}, {}",
            zone.zone.plant.defaults().label,
            zone.zone.head.label(),
            zone.zone.soil.label()
        ),
        previous,
        next,
        controller: zone.zone.controller_number,
        photos: photographs(&here, PhotoOf::Zone(zone.id)).await?,
        now,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::advice::tonight::Decision;

    #[test]
    fn neighbours_go_by_station_and_end_at_the_ends() {
        let decided = fixture::decided(UnitSystem::Metric);
        let zones = &decided.records.zones;
        let (none, after) = neighbours(1, zones, zones[0].id);
        assert!(none.is_none());
        assert_eq!(after.unwrap().href, address::zone(1, zones[1].id));
        let last = zones.last().unwrap().id;
        assert!(neighbours(1, zones, last).1.is_none());
        assert!(neighbours(1, zones, 4_000).0.is_none(), "a zone that is not there has none");
    }

    #[test]
    fn what_was_seen_is_said_in_the_words_of_the_visit() {
        let entry = |body| EntryRecord {
            id: 1,
            visit_id: 1,
            kind: "zone".into(),
            about: 1,
            body,
            at: jiff::Timestamp::UNIX_EPOCH,
            clock_off_s: 0,
            person: 1,
            said_by: "Bram".into(),
            undone: false,
        };
        let body = serde_json::json!({ "looks": "dry", "available_pct": 35.0, "note": "by the gate" });
        let said = seen_words(&entry(body));
        assert!(said.ends_with("35 % of the available water left, by the gate"), "{said}");
        assert!(said.starts_with(Looks::Dry.label()), "{said}");
        assert_eq!(seen_words(&entry(serde_json::json!({}))), "");
    }

    #[test]
    fn the_figures_are_those_of_today() {
        let decided = fixture::decided(UnitSystem::Metric);
        for zone in &decided.night.zones {
            let shown = figures(zone, UnitSystem::Metric);
            assert_eq!(shown[2].value, depth(UnitSystem::Metric, zone.depletion));
            assert_eq!(shown[0].value == "nothing", zone.decision == Decision::Waits);
            // Where the window cuts a run, the depth is that of the minutes that are left, as Today has it.
            if let Requirement::Tonight { cycles: own, gross } = requirement(zone) {
                let minutes = f64::from(own.total_minutes());
                assert!((gross.mm() - zone.resolved.rate.value.mm_per_hour() * minutes / 60.0).abs() < 1e-9);
                assert_eq!(shown[0].value, depth(UnitSystem::Metric, gross));
            }
            assert!(answer(zone, &decided.records.tz).ends_with('.'));
        }
    }
}

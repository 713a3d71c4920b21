//! The visit as it is walked: a screen for each controller, zone and sensor, one for the site, made for a thumb.

use super::decided::{today, visits};
use super::entry_form::nights_asked;
use crate::page::dates::{DateFormat, typed_times};
use crate::page::frame::{Chapter, Frame};
use crate::page::plan_picture::{plan_about, saved_plan};
use crate::page::units::Units;
use crate::server::address;
use crate::server::cache::questions;
use crate::server::error::{PageError, page};
use crate::site::context::{AtSite, EditorAt};
use crate::site::noted::dated;
use crate::site::visits::{Together, together};
use actix_web::{HttpResponse, get, web};
use askama::Template;
use std::sync::Arc;
use upland_core::account::site_account::AccountInputs;
use upland_core::codes::Coded;
use upland_core::ground::soil::Texture;
use upland_core::quantity::units::Litres;
use upland_core::sensors::Sense;
use upland_core::tuning::{Battery, Looks, Plants, ProgramSeen, Sign};
use upland_store::visits::EntryRecord;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(walk);
}

/// A choice of a list, and whether it is chosen.
pub(super) struct Choice {
    pub code: &'static str,
    pub label: &'static str,
    pub on: bool,
}

fn choices<T: Coded>(label: fn(T) -> &'static str, on: impl Fn(T) -> bool) -> Vec<Choice> {
    T::TABLE.iter().map(|(value, code)| Choice { code, label: label(*value), on: on(*value) }).collect()
}

fn yes_no(set: Option<bool>) -> [Choice; 2] {
    [
        Choice { code: "yes", label: "yes", on: set == Some(true) },
        Choice { code: "no", label: "no", on: set == Some(false) },
    ]
}

/// Steps of the walk, each with an anchor of its own.
struct Steps {
    controllers: Vec<ControllerStep>,
    zones: Vec<ZoneStep>,
    sensors: Vec<SensorStep>,
    site: SiteStep,
}

struct ZoneStep {
    anchor: String,
    next: String,
    number: u16,
    /// The plan around it.
    plan: String,
    id: i64,
    title: String,
    about: String,
    looks: Vec<Choice>,
    signs: Vec<Choice>,
    plants: Vec<Choice>,
    soils: Vec<Choice>,
    available: String,
    flow: String,
    note: String,
    /// Whether more than looks and signs was said: then the rest stands open.
    more: bool,
    done: bool,
}

struct ProgramStep {
    index: usize,
    name: String,
    /// What is known, in words.
    known: String,
    known_on: &'static str,
    known_pct: String,
    known_starts: String,
    on: [Choice; 2],
    pct: String,
    starts: String,
    minutes: String,
    /// Whether something else than is known was entered of it.
    differs: bool,
}

struct ControllerStep {
    anchor: String,
    next: String,
    id: i64,
    title: String,
    on: [Choice; 2],
    bypassed: [Choice; 2],
    battery: Vec<Choice>,
    programs: Vec<ProgramStep>,
    nights: Vec<(String, String, String)>,
    done: bool,
}

struct SensorStep {
    anchor: String,
    next: String,
    id: i64,
    title: String,
    rain: bool,
    can_hold: bool,
    holds: [Choice; 2],
    covered: [Choice; 2],
    sprayed: [Choice; 2],
    done: bool,
}

struct SiteStep {
    meter: String,
    meter_before: Option<String>,
    wet_elsewhere: bool,
    note: String,
    done: bool,
}

#[derive(Template)]
#[template(path = "chapters/tuning/walk.html")]
struct WalkPage {
    frame: Frame,
    root: String,
    day: String,
    steps: Steps,
    total: usize,
    flow_unit: &'static str,
    meter_unit: &'static str,
    /// Where the result is, once something was entered.
    result: String,
}

questions! {
    facts Entered { visit: i64 } -> Vec<EntryRecord>;
}

#[get("/sites/{id}/visit")]
async fn walk(EditorAt(here): EditorAt) -> Result<HttpResponse, PageError> {
    let frame = Frame::of_site(&here, "Visit", Chapter::Tuning)?;
    let day = today(&here);
    let visit = visits(&here).await?.iter().find(|v| v.on == day).cloned();
    let snapshot = here.snapshot(None).await?;
    let (records, id) = (Arc::clone(&here.records), visit.as_ref().map_or(0, |v| v.id));
    let entries = here
        .once(here.about(), Entered { visit: id }, 50, move |state| {
            let all = dated(state, &records)?;
            Ok(all.entries.iter().filter(|e| e.visit_id == id).cloned().collect::<Vec<EntryRecord>>())
        })
        .await?;
    let known = together(&entries.iter().collect::<Vec<_>>(), &snapshot.inputs);
    let root = address::site_root(here.id());
    let mut steps = steps(&here, &snapshot.inputs, &known, day);
    let plan = saved_plan(&here).await?;
    for step in &mut steps.zones {
        step.plan = plan_about(&here, &plan, (Some(step.number), None));
    }
    let total = steps.controllers.len() + steps.zones.len() + steps.sensors.len() + 1;
    let units = here.records.units();
    page(&WalkPage {
        day: day.formatted("%A %-d %B"),
        steps,
        total,
        flow_unit: Units::of(units).flow.unit,
        meter_unit: Units::of(units).meter.unit,
        result: visit.map_or_else(|| format!("{root}/tuning"), |v| format!("{root}/visits/{}", v.id)),
        root,
        frame,
    })
}

/// Every step, each with the anchor of the next.
fn steps(here: &AtSite, facts: &AccountInputs, known: &Together, day: jiff::civil::Date) -> Steps {
    let records = &here.records;
    let mut anchors: Vec<String> =
        records.controllers.iter().map(|b| format!("controller-{}", b.record.id)).collect();
    anchors.extend(records.zones.iter().map(|z| format!("zone-{}", z.id)));
    anchors.extend(records.sensors.iter().map(|s| format!("sensor-{}", s.id)));
    anchors.push("site".to_owned());
    let next = |at: usize| anchors.get(at + 1).cloned().unwrap_or_else(|| "site".to_owned());
    let mut at = 0;
    let mut step = || {
        at += 1;
        (anchors.get(at - 1).cloned().unwrap_or_default(), next(at - 1))
    };
    let controllers =
        records.controllers.iter().map(|own| controller_step(step(), own, facts, known, day)).collect();
    let zones = records.zones.iter().map(|zone| zone_step(step(), zone, here, known)).collect();
    let sensors = records.sensors.iter().map(|own| sensor_step(step(), own, known)).collect();
    Steps { controllers, zones, sensors, site: site_step(here, facts, known) }
}

type Anchors = (String, String);

fn zone_step(
    (anchor, next): Anchors,
    record: &upland_store::zones::ZoneRecord,
    here: &AtSite,
    known: &Together,
) -> ZoneStep {
    let zone = &record.zone;
    let seen = known.visit.zone(zone.station_id()).cloned().unwrap_or_default();
    let flow = Units::of(here.records.units()).flow;
    let available =
        seen.available.map(|a| crate::page::quantities::plain(a.percent(), 0)).unwrap_or_default();
    ZoneStep {
        anchor,
        next,
        id: record.id,
        number: zone.number,
        plan: String::new(),
        title: format!("{} {}", zone.number, zone.name),
        about: format!("{} · {} · {}", zone.plant.defaults().label, zone.head.label(), zone.soil.label()),
        looks: choices(Looks::label, |l| seen.looks == Some(l)),
        signs: choices(Sign::label, |s| seen.signs.contains(&s)),
        plants: choices(Plants::label, |p| seen.plants == Some(p)),
        soils: choices(Texture::label, |t| seen.soil == Some(t)),
        more: seen.plants.is_some() || seen.soil.is_some() || seen.flow.is_some() || seen.available.is_some(),
        flow: flow.text(seen.flow.map(|f| f.l_per_min())),
        available,
        done: known.visit.zone(zone.station_id()).is_some(),
        note: seen.note,
    }
}

// Long: one field after another.
fn controller_step(
    (anchor, next): Anchors,
    own: &crate::site::records::SiteController,
    facts: &AccountInputs,
    known: &Together,
    day: jiff::civil::Date,
) -> ControllerStep {
    let number = own.number();
    let seen = known.visit.of_controller(number).cloned().unwrap_or_default();
    let at = upland_core::quantity::time::noon(day, &facts.tz);
    let set = facts.of_controller(number).and_then(|b| b.settings_at(at)).cloned();
    let set = set.unwrap_or_else(|| own.settings_or_clean());
    let program = |(index, program): (usize, &upland_core::controller::schedule::Program)| {
        let seen = seen.programs.get(&index).cloned().unwrap_or_else(ProgramSeen::default);
        let pct = set.percentages.of(index, day);
        let minutes = seen.minutes.iter().filter(|(n, t)| set.run_time(index, **n) != **t);
        let minutes: Vec<String> = minutes
            .map(|(n, t)| format!("{n}: {}", crate::page::quantities::plain(t.minutes().min_value(), 1)))
            .collect();
        ProgramStep {
            index,
            name: program.name.clone(),
            known: if program.waters() {
                format!("on, {pct}, starts {}", typed_times(&program.starts))
            } else if program.active {
                "on, nothing in it".to_owned()
            } else {
                "off".to_owned()
            },
            known_on: if program.active { "yes" } else { "no" },
            known_pct: pct.percent().to_string(),
            known_starts: typed_times(&program.starts),
            on: yes_no(seen.on),
            pct: seen.percentage.map(|p| p.percent().to_string()).unwrap_or_default(),
            starts: seen.starts.as_deref().map(typed_times).unwrap_or_default(),
            minutes: minutes.join(", "),
            differs: seen.percentage.is_some_and(|p| p != pct)
                || seen.on.is_some_and(|on| on != program.active)
                || seen.starts.as_ref().is_some_and(|s| *s != program.starts),
        }
    };
    let night = |night: jiff::civil::Date| {
        let value =
            seen.nights.get(&night).map(|v| crate::page::quantities::plain(*v, 0)).unwrap_or_default();
        (night.to_string(), night.formatted("%a %-d %b"), value)
    };
    ControllerStep {
        anchor,
        next,
        id: own.record.id,
        title: format!("Controller {number}, {}", own.record.controller.place),
        on: yes_no(seen.on),
        bypassed: yes_no(seen.bypassed),
        battery: choices(Battery::label, |b| seen.battery == Some(b)),
        programs: set.programs.iter().enumerate().map(program).collect(),
        nights: nights_asked(facts, number, day).into_iter().map(night).collect(),
        done: known.visit.of_controller(number).is_some(),
    }
}

fn sensor_step(
    (anchor, next): Anchors,
    own: &upland_store::sensors::SensorRecord,
    known: &Together,
) -> SensorStep {
    let seen = known.visit.sensor(&own.sensor.name).cloned().unwrap_or_default();
    SensorStep {
        anchor,
        next,
        id: own.id,
        title: own.sensor.name.clone(),
        rain: own.sensor.card.senses(Sense::Rain),
        // An ET sensor sets percentages and a flow meter counts: neither holds.
        can_hold: own.sensor.card.can_hold(),
        holds: yes_no(seen.holds),
        covered: yes_no(seen.covered),
        sprayed: yes_no(seen.sprayed),
        done: known.visit.sensor(&own.sensor.name).is_some(),
    }
}

fn site_step(here: &AtSite, facts: &AccountInputs, known: &Together) -> SiteStep {
    let unit = Units::of(here.records.units()).meter;
    let of_visit = known.visit.at;
    let before = facts.log.meter.iter().rfind(|m| m.at < of_visit || known.visit.meter.is_none());
    let words = |m: &upland_core::account::log::MeterReading| {
        let value = crate::page::quantities::plain(unit.shown(m.counted.l()), 1);
        let at = m.at.to_zoned(facts.tz.clone()).formatted("%-d %b");
        format!("{value} {} on {at}", unit.unit)
    };
    SiteStep {
        meter: unit.text(known.visit.meter.map(Litres::l)),
        meter_before: before.map(words),
        wet_elsewhere: known.visit.wet_elsewhere,
        done: known.visit.meter.is_some() || known.visit.wet_elsewhere || !known.visit.note.is_empty(),
        note: known.visit.note.clone(),
    }
}

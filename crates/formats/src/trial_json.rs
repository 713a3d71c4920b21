//! What ways of watering brought over some days, as JSON: sums by zone and by site.

use crate::json::pretty;
use jiff::civil::Date;
use serde::Serialize;
use std::collections::BTreeMap;
use upland_core::quantity::units::Millimetres;
use upland_core::trial::{WayResult, ZoneResult};

#[derive(Serialize)]
struct Output {
    from: String,
    to: String,
    ways: Vec<WayRow>,
}

#[derive(Serialize)]
struct WayRow {
    name: String,
    zones: Vec<ZoneRow>,
    site: SiteRow,
}

#[derive(Serialize)]
struct ZoneRow {
    number: serde_json::Value,
    needed_mm: f64,
    et_mm: f64,
    applied_mm: f64,
    applied_in_mm: f64,
    rain_mm: f64,
    rain_in_mm: f64,
    runoff_mm: f64,
    drainage_mm: f64,
    start_depletion_mm: f64,
    end_depletion_mm: f64,
    adequacy: f64,
    excess: f64,
    /// The quarter that gets least, the half between, the quarter that gets most.
    adequacy_by_part: [f64; 3],
    stress_days: u32,
    runs: u32,
    skipped: BTreeMap<&'static str, u32>,
    /// Runs that an ordinance forbids.
    forbidden: u32,
}

#[derive(Serialize)]
struct SiteRow {
    litres: Option<f64>,
    adequacy: f64,
    excess: f64,
    cost: Option<f64>,
    /// Hours in which any zone is watered, and in which more flows than the supply gives.
    hours: f64,
    hours_over_supply: f64,
    /// The most that flows at once.
    most_l_per_min: f64,
}

/// Six decimals: enough to add up, and the same bytes on every machine.
#[must_use]
pub fn round(value: f64) -> f64 {
    (value * 1e6).round() / 1e6
}

fn zone_row(several: bool, zone: &ZoneResult) -> ZoneRow {
    let mm = |value: Millimetres| round(value.mm());
    ZoneRow {
        number: if several {
            format!("{}-{}", zone.controller_number, zone.station).into()
        } else {
            zone.station.into()
        },
        needed_mm: mm(zone.needed),
        et_mm: mm(zone.et),
        applied_mm: mm(zone.applied),
        applied_in_mm: mm(zone.applied_in),
        rain_mm: mm(zone.rain),
        rain_in_mm: mm(zone.rain_in),
        runoff_mm: mm(zone.runoff),
        drainage_mm: mm(zone.drainage),
        start_depletion_mm: mm(zone.depletion.0),
        end_depletion_mm: mm(zone.depletion.1),
        adequacy: round(zone.adequacy().fraction()),
        excess: round(zone.excess().fraction()),
        adequacy_by_part: zone.parts.map(|part| round(part.adequacy().fraction())),
        stress_days: zone.stress_days,
        runs: zone.runs,
        skipped: zone.skipped.clone(),
        forbidden: zone.forbidden,
    }
}

fn way_row(several: bool, result: &WayResult) -> WayRow {
    let site = &result.site;
    WayRow {
        name: result.way.name.clone(),
        zones: result.zones.iter().map(|zone| zone_row(several, zone)).collect(),
        site: SiteRow {
            litres: site.litres.map(|l| round(l.l())),
            adequacy: round(site.adequacy.fraction()),
            excess: round(site.excess.fraction()),
            cost: site.cost.map(round),
            hours: round(site.supply.running.minutes().min_value() / 60.0),
            hours_over_supply: round(site.supply.over.minutes().min_value() / 60.0),
            most_l_per_min: round(site.supply.most.l_per_min()),
        },
    }
}

/// Writes the seasons of some ways; a zone of a site with several controllers is written controller-station.
#[must_use]
pub fn write(from: Date, to: Date, results: &[WayResult]) -> String {
    let controllers = results.first().map_or(0, |result| {
        result.zones.iter().map(|z| z.controller_number).collect::<std::collections::BTreeSet<_>>().len()
    });
    let ways = results.iter().map(|result| way_row(controllers > 1, result)).collect();
    pretty(&Output { from: from.to_string(), to: to.to_string(), ways })
}

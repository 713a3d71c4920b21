//! A trial as a table.

use upland_core::account::site_account::AccountInputs;
use upland_core::quantity::units::Millimetres;
use upland_core::site::{StationId, SurveyedZone};
use upland_core::trial::WayResult;

/// The trial as a table, a row a way and zone.
pub(super) fn write(facts: &AccountInputs, results: &[WayResult]) -> String {
    let names = [
        "way",
        "controller",
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
        "forbidden_runs",
        "litres",
    ];
    let rows: Vec<[String; 19]> = results
        .iter()
        .flat_map(|result| result.zones.iter().map(move |zone| (result, zone)))
        .map(|(result, zone)| {
            let mm = |value: Millimetres| format!("{:.2}", value.mm());
            let name = facts
                .zone(StationId::new(zone.controller_number, zone.station))
                .map_or(String::new(), |SurveyedZone { zone: z, .. }| z.name.clone());
            let [least, _, _] = zone.parts;
            [
                result.way.name.clone(),
                zone.controller_number.to_string(),
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
                zone.forbidden.to_string(),
                zone.litres.map_or(String::new(), |l| format!("{:.0}", l.l())),
            ]
        })
        .collect();
    upland_formats::rows_csv::write(&names, &rows)
}

//! The view model of Today.

use super::Decided;
use super::drawings::{self, NightStrip};
use super::row::{self, Row};
use crate::chapters::today::words;
use crate::chapters::today::words::NoticeWords;
use crate::page::dates::said_open;
use crate::page::headline::headline;
use crate::page::quantities;
use crate::page::quantities::{clock, depth, long_date, volume};
use crate::page::working::{InputView, StepView, Working, working};
use jiff::civil::Date;
use upland_core::account::sky::DemandFrom;
use upland_core::advice::tonight::{ControllerKnown, Decision, Tonight, ZoneTonight};
use upland_core::explain;
use upland_core::quantity::units::Litres;
use upland_core::site::UnitSystem;
use upland_core::weather::climate::ExpectedFrom;

pub(super) struct TodayView {
    pub date: Date,
    pub long_date: String,
    pub headline: String,
    pub et0: String,
    pub et0_words: String,
    pub rain_words: String,
    /// "1,240 L", and whether every area is known, of what the controller will put down and of what is needed.
    pub will_volume: Option<String>,
    /// What the night holds of what is needed.
    pub volume: Option<String>,
    /// What is needed, where the night does not hold it all.
    pub needed: Option<String>,
    pub notices: Vec<NoticeWords>,
    pub strip: Option<NightStrip>,
    pub window: String,
    /// Whether the controller's own runs are known, so that there is something to hold the needs against.
    pub compared: bool,
    /// What is to be done at the controller first, if anything: change it, or enter what is set.
    pub act: Option<&'static str>,
    pub rows: Vec<Row>,
    pub workings: Vec<Working>,
    /// What the sensors say beyond whom they hold.
    pub said: Vec<String>,
    pub opened_on_last_day: bool,
    pub no_zones: bool,
}

/// "at least" where an area is not known.
fn at_least(text: String, all: bool) -> String {
    if all { text } else { format!("at least {text}") }
}

// Long: one part of the page after another.
pub(super) fn build(decided: &Decided) -> TodayView {
    let tonight = &decided.night;
    let site = &decided.records.site.site;
    let units = site.units;
    let mut workings = vec![working(
        "w-et0".into(),
        long_date(tonight.date),
        &explain::reference_et(&decided.climate, tonight.date),
        units,
    )];
    let mut rows = Vec::new();
    for zone in &tonight.zones {
        let number = zone.zone.number;
        let of = format!("Zone {number}, {}", zone.zone.name);
        let id = |what: &str| format!("w-{what}-{number}");
        workings.push(working(id("state"), of.clone(), &explain::depletion(zone), units));
        if zone.decision != Decision::Waits {
            workings.push(working(id("cycles"), of, &explain::cycles(zone), units));
        }
        if let Some(will) = zone.will.as_ref().filter(|w| !w.runs.is_empty()) {
            workings.push(row::will_working(decided, zone, will));
        }
        rows.push(row::row(decided, zone));
    }
    let total = row::sum(tonight.running().map(|zone| zone.volume));
    if let Some((litres, known)) = total {
        workings.push(volume_working(decided, litres, known));
    }
    if tonight.night.first_start.is_some() {
        workings.push(night_working(decided));
    }
    let (et0, from) = tonight.et0;
    TodayView {
        date: tonight.date,
        long_date: long_date(tonight.date),
        headline: headline(tonight, &decided.records.tz),
        et0: depth(units, et0),
        et0_words: match from {
            DemandFrom::Record => decided.climate.day(tonight.date).map_or(String::new(), |d| {
                match d.et.label().split_once("; filled: ") {
                    Some((_, filled)) => format!("Penman-Monteith, {filled} filled in"),
                    None if d.weather.has_more_than_temperatures() => "Penman-Monteith, own record".into(),
                    None => "Hargreaves-Samani, from temperatures alone".into(),
                }
            }),
            DemandFrom::Expected(ExpectedFrom::Forecast) => "forecast; no record of this day yet".into(),
            DemandFrom::Expected(_) => "expected; no record of this day".into(),
        },
        rain_words: match tonight.rain {
            Some(rain) if rain.mm() >= 0.05 => format!("{} of rain", depth(units, rain)),
            Some(_) => "no rain".into(),
            None => "rain not recorded".into(),
        },
        will_volume: row::total(units, &tonight.zones, |z| Some(z.will.as_ref()?.ahead.water.applied))
            .map(|(text, all)| at_least(text, all)),
        volume: total.map(|(litres, known)| at_least(volume(units, litres), known)),
        needed: needed(tonight, units),
        notices: tonight.notices.iter().map(|n| words::notice(n, units)).collect(),
        strip: drawings::night_strip(tonight, &decided.records.tz, site.latitude_deg, site.longitude_deg),
        window: said_open(&tonight.night),
        compared: tonight.zones.iter().any(|zone| zone.will.is_some()),
        act: match tonight.known {
            ControllerKnown::Settings => {
                rows.iter().any(|r| r.weight == "wrong").then_some("Change the controller")
            }
            ControllerKnown::Unknown => Some("Enter what is set"),
            ControllerKnown::ComputesItself => None,
        },
        rows,
        workings,
        said: decided.said.clone(),
        opened_on_last_day: decided.opened_on_last_day,
        no_zones: tonight.zones.is_empty(),
    }
}

/// Water that the due zones need to be full, where window or law leave some of it for another night.
fn needed(tonight: &Tonight, units: UnitSystem) -> Option<String> {
    let due = |zone: &ZoneTonight| zone.decision == Decision::Deferred || zone.cycles.is_some();
    if tonight.zones.iter().all(|zone| !due(zone) || zone.decision == Decision::Runs) {
        return None;
    }
    row::total(units, &tonight.zones, |zone| due(zone).then_some(zone.refill.gross))
        .map(|(text, all)| at_least(text, all))
}

fn volume_working(decided: &Decided, total: Litres, known: bool) -> Working {
    let units = decided.records.site.site.units;
    let steps = decided
        .night
        .running()
        .filter_map(|zone| {
            let area = zone.zone.area?;
            Some(StepView {
                name: format!("{} {}", zone.zone.number, zone.zone.name),
                formula: "precipitation rate × minutes ÷ 60 × area".into(),
                source: match units {
                    UnitSystem::Metric => "1 mm on 1 m² is 1 L".into(),
                    UnitSystem::UsCustomary => "1 in on 1 ft² is 0.623 gal".into(),
                },
                result: volume(units, zone.volume?),
                inputs: vec![
                    InputView {
                        name: "precipitation rate",
                        value: quantities::rate(units, zone.resolved.rate.value),
                        is_default: zone.resolved.rate.is_default(),
                        origin: zone.resolved.rate.is_default().then(|| "default of the head type".into()),
                    },
                    InputView {
                        name: "minutes",
                        value: zone.cycles?.total_minutes().to_string(),
                        is_default: false,
                        origin: None,
                    },
                    InputView {
                        name: "area",
                        value: quantities::area(units, area),
                        is_default: false,
                        origin: None,
                    },
                ],
            })
        })
        .collect();
    Working {
        id: "w-volume".into(),
        title: format!("Water tonight: {}", volume(units, total)),
        of: "Sum over the zones that run".into(),
        steps,
        assumptions: if known { Vec::new() } else { vec!["Zones without an area are not counted.".into()] },
    }
}

/// How the start times follow from the window and the cycles.
fn night_working(decided: &Decided) -> Working {
    let night = &decided.night.night;
    let input = |name, value: String| InputView { name, value, origin: None, is_default: false };
    let mut steps: Vec<StepView> = night
        .layout
        .programs
        .iter()
        .map(|program| StepView {
            name: format!("Program {}", program.letter),
            formula: "a start for each cycle, once every zone before it has run and soaked".into(),
            source: "each start repeats the whole program (common practice)".into(),
            result: program
                .starts
                .iter()
                .map(|s| clock(night.at(*s).as_ref()))
                .collect::<Vec<_>>()
                .join(", "),
            inputs: vec![
                input(
                    "zones",
                    program.zones.iter().map(|(n, _)| n.to_string()).collect::<Vec<_>>().join(", "),
                ),
                input("minutes at each start", program.zones.iter().map(|(_, m)| m).sum::<u32>().to_string()),
            ],
        })
        .collect();
    steps.push(StepView {
        name: "First start".into(),
        formula: "end of the water window - time from first start to last end".into(),
        source: "working back from the window's end: cool, calm hours, and leaves dry soon after".into(),
        result: clock(night.first_start.as_ref()),
        inputs: vec![
            input("end of the window", clock(Some(&night.window_until))),
            input("first start to last end", format!("{} min", night.layout.span_minutes)),
        ],
    });
    Working {
        id: "w-night".into(),
        title: "Start times".into(),
        of: "One valve at a time; zones with the same number of cycles share a program".into(),
        steps,
        assumptions: Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::site::UnitSystem;

    #[test]
    fn every_number_that_opens_has_its_sheet() {
        for decided in [fixture::decided(UnitSystem::Metric), fixture::told(UnitSystem::UsCustomary)] {
            let view = build(&decided);
            let has = |id: &str| view.workings.iter().any(|w| w.id == id);
            assert!(has("w-et0") && has("w-night") && view.volume.is_none_or(|_| has("w-volume")));
            for row in &view.rows {
                assert!(has(&row.state_id));
                let sides = row.will.iter().chain([&row.needs]);
                assert!(sides.filter_map(|side| side.id.as_ref()).all(|id| has(id)), "{}", row.name);
            }
            assert_eq!(view.rows.len(), 4);
        }
    }

    #[test]
    fn both_sides_stand_beside_each_other_and_what_is_wrong_can_be_mended() {
        let view = build(&fixture::told(UnitSystem::Metric));
        assert!(view.compared && view.act == Some("Change the controller"));
        let told: Vec<String> = view
            .rows
            .iter()
            .map(|r| {
                let will = r.will.as_ref().map_or(String::new(), |w| format!("{} {}", w.what, w.when));
                format!(
                    "{}: {will} | {} {} | {}",
                    r.name,
                    r.needs.what,
                    r.needs.when,
                    r.verdict.unwrap_or_default()
                )
            })
            .collect();
        insta::assert_snapshot!(told.join("\n"));
        assert!(view.rows.iter().all(|r| (r.weight == "wrong") == r.fix.is_some()));
        let alone = build(&fixture::decided(UnitSystem::Metric));
        assert!(
            !alone.compared
                && alone.act == Some("Enter what is set")
                && alone.rows.iter().all(|r| r.will.is_none())
        );
    }
}

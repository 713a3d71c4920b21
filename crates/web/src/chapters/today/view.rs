//! The view model of Today.

use super::Decided;
use super::drawings::{self, NightStrip, SoilColumn};
use crate::chapters::today::words;
use crate::chapters::today::words::NoticeWords;
use crate::page::quantities;
use crate::page::quantities::{clock, depth, in_words, in_words_capital, long_date, volume};
use crate::page::working::{InputView, StepView, Working, working};
use jiff::civil::Date;
use upland_core::account::season::DemandFrom;
use upland_core::advice::tonight::{Decision, ZoneTonight};
use upland_core::explain;
use upland_core::quantity::units::Litres;

pub(super) struct Row {
    pub number: u16,
    pub name: String,
    pub kind: String,
    /// "2 × 11 min", or why there are none.
    pub cycles: String,
    pub cycles_id: String,
    pub minutes: String,
    pub minutes_id: String,
    pub give: String,
    pub give_id: String,
    pub state: String,
    pub state_id: String,
    pub start: String,
    pub program: String,
    pub soil: SoilColumn,
    pub because: String,
    pub short: bool,
}

pub(super) struct TodayView {
    pub date: Date,
    pub long_date: String,
    pub headline: String,
    pub et0: String,
    pub et0_words: String,
    pub rain_words: String,
    pub volume: Option<String>,
    pub notices: Vec<NoticeWords>,
    pub strip: Option<NightStrip>,
    pub window: String,
    pub runs: Vec<Row>,
    pub deferred: Vec<Row>,
    pub waits: Vec<Row>,
    pub workings: Vec<Working>,
    /// What the box does that night as it is set.
    pub as_set: Option<String>,
    /// What holds, and what it does to the box's own programs.
    pub holds: Vec<String>,
    pub opened_on_last_day: bool,
    pub no_zones: bool,
}

// Long: one part of the page after another.
pub(super) fn build(decided: &Decided) -> TodayView {
    let tonight = &decided.night;
    let site = &decided.loaded.site.site;
    let units = site.units;
    let mut workings = vec![working(
        "w-et0".into(),
        long_date(tonight.date),
        &explain::reference_et(&decided.climate, tonight.date),
        units,
    )];
    let (mut runs, mut deferred, mut waits) = (Vec::new(), Vec::new(), Vec::new());
    for zone in &tonight.zones {
        let number = zone.zone.number;
        let of = format!("Zone {number}, {}", zone.zone.name);
        let id = |what: &str| format!("w-{what}-{number}");
        workings.push(working(id("state"), of.clone(), &explain::depletion(zone), units));
        if zone.decision != Decision::Waits {
            workings.push(working(id("give"), of.clone(), &explain::need(zone), units));
            workings.push(working(id("minutes"), of.clone(), &explain::minutes(zone), units));
            workings.push(working(id("cycles"), of, &explain::cycles(zone), units));
        }
        let row = row(decided, zone);
        match zone.decision {
            Decision::Runs | Decision::RunsShort { .. } => runs.push(row),
            Decision::Deferred => deferred.push(row),
            Decision::Waits => waits.push(row),
        }
    }
    let total = total_volume(tonight.running());
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
        headline: headline(decided),
        et0: depth(units, et0),
        et0_words: match from {
            DemandFrom::Record => decided.climate.day(tonight.date).map_or(String::new(), |d| {
                match d.et.label().split_once("; filled: ") {
                    Some((_, filled)) => format!("Penman-Monteith, {filled} filled in"),
                    None if d.weather.has_more_than_temperatures() => "Penman-Monteith, own record".into(),
                    None => "Hargreaves-Samani, from temperatures alone".into(),
                }
            }),
            DemandFrom::Expected(_) => "expected; no record of this day".into(),
        },
        rain_words: match tonight.rain {
            Some(rain) if rain.mm() >= 0.05 => format!("{} of rain", depth(units, rain)),
            Some(_) => "no rain".into(),
            None => "rain not recorded".into(),
        },
        volume: total.map(|(litres, known)| {
            let text = volume(units, litres);
            if known { text } else { format!("at least {text}") }
        }),
        notices: tonight.notices.iter().map(|n| words::notice(n, units)).collect(),
        strip: drawings::night_strip(tonight, &decided.held.advised, (site.latitude_deg, site.longitude_deg)),
        window: format!(
            "{} to {}",
            tonight.night.window_from.strftime("%H:%M"),
            tonight.night.window_until.strftime("%H:%M")
        ),
        runs,
        deferred,
        waits,
        workings,
        as_set: decided.as_set.as_ref().map(as_set),
        holds: holds(decided),
        opened_on_last_day: decided.opened_on_last_day,
        no_zones: tonight.zones.is_empty(),
    }
}

/// What the sensors say, and whom they stop.
fn holds(decided: &Decided) -> Vec<String> {
    let mut lines = decided.held.lines.clone();
    let numbers: Vec<String> = decided.held.as_set.iter().map(u16::to_string).collect();
    if let Some((last, others)) = numbers.split_last() {
        lines.push(if others.is_empty() {
            format!("Of what is set, station {last} is stopped.")
        } else {
            format!("Of what is set, stations {} and {last} are stopped.", others.join(", "))
        });
    }
    lines
}

/// What the box does by itself, to hold against the advice.
fn as_set(set: &super::AsSet) -> String {
    let numbers: Vec<String> = set.stations.iter().map(u16::to_string).collect();
    match (&set.first, &set.last, numbers.split_last()) {
        (Some(first), Some(last), Some((end, others))) => {
            let zones = if others.is_empty() {
                format!("station {end}")
            } else {
                format!("stations {} and {end}", others.join(", "))
            };
            format!(
                "As it is set, the box runs {zones} tonight, {} to {}.",
                clock(Some(first)),
                clock(Some(last))
            )
        }
        _ => "As it is set, the box runs nothing tonight.".to_owned(),
    }
}

/// One sentence that answers the page.
fn headline(decided: &Decided) -> String {
    let tonight = &decided.night;
    let (total, running) = (tonight.zones.len(), tonight.running().count());
    let span = match (&tonight.night.first_start, tonight.night.last_end()) {
        (Some(first), Some(end)) => {
            format!("{} to {}", first.strftime("%H:%M"), end.strftime("%H:%M"))
        }
        _ => String::new(),
    };
    match (total, running) {
        (0, _) => "No zones yet.".to_owned(),
        (_, 0) => "No zone runs tonight.".to_owned(),
        (1, _) => format!("The zone runs tonight, {span}."),
        (all, some) if all == some => format!("All {} zones run tonight, {span}.", in_words(all)),
        (all, 1) => format!("One of {} zones runs tonight, {span}.", in_words(all)),
        (all, some) => format!("{} of {} zones run tonight, {span}.", in_words_capital(some), in_words(all)),
    }
}

fn row(decided: &Decided, zone: &ZoneTonight) -> Row {
    let units = decided.loaded.site.site.units;
    let night = &decided.night.night;
    let number = zone.zone.number;
    let first = night.layout.runs.iter().find(|r| r.number == number);
    let cycles = zone.cycles.unwrap_or(zone.refill.cycles);
    Row {
        number,
        name: zone.zone.name.clone(),
        kind: format!("{}, {}", zone.zone.plant.defaults().label, zone.zone.head.label()),
        cycles: quantities::cycles(cycles),
        cycles_id: format!("w-cycles-{number}"),
        minutes: format!("{} min in all", cycles.total_minutes()),
        minutes_id: format!("w-minutes-{number}"),
        give: depth(units, zone.depletion - zone.depletion_after),
        give_id: format!("w-give-{number}"),
        state: depth(units, zone.depletion),
        state_id: format!("w-state-{number}"),
        start: clock(first.and_then(|r| night.at(r.from_minute)).as_ref()),
        program: first
            .and_then(|r| night.layout.programs.get(r.program))
            .map_or(String::new(), |p| p.letter.to_string()),
        soil: drawings::soil_column(zone, units),
        because: words::because(zone, units, decided.night.date)
            + &decided
                .held
                .advised
                .get(&number)
                .map_or(String::new(), |sensor| format!(" {sensor} stops it.")),
        short: matches!(zone.decision, Decision::RunsShort { .. }),
    }
}

/// Litres of the zones that run, and whether every area is known; `None` without any area.
fn total_volume<'a>(running: impl Iterator<Item = &'a ZoneTonight>) -> Option<(Litres, bool)> {
    let (mut sum, mut any, mut all) = (Litres::ZERO, false, true);
    for zone in running {
        match zone.volume {
            Some(litres) => {
                sum = sum + litres;
                any = true;
            }
            None => all = false,
        }
    }
    any.then_some((sum, all))
}

fn volume_working(decided: &Decided, total: Litres, known: bool) -> Working {
    let units = decided.loaded.site.site.units;
    let steps = decided
        .night
        .running()
        .filter_map(|zone| {
            let area = zone.zone.area?;
            Some(StepView {
                name: format!("{} {}", zone.zone.number, zone.zone.name),
                formula: "precipitation rate × minutes ÷ 60 × area".into(),
                source: "1 mm on 1 m² is 1 L".into(),
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
        let view = build(&fixture::decided(UnitSystem::Metric));
        let has = |id: &str| view.workings.iter().any(|w| w.id == id);
        assert!(has("w-et0") && has("w-night") && view.volume.is_none_or(|_| has("w-volume")));
        for row in &view.runs {
            assert!(has(&row.cycles_id) && has(&row.minutes_id) && has(&row.give_id) && has(&row.state_id));
        }
        for row in view.waits.iter().chain(&view.deferred) {
            assert!(has(&row.state_id));
        }
        assert!(!view.runs.is_empty() && !view.waits.is_empty());
    }

    #[test]
    fn the_headline_answers_the_page() {
        let mut decided = fixture::decided(UnitSystem::Metric);
        assert!(build(&decided).headline.contains("of four zones run tonight, "));
        decided.night.zones.clear();
        assert_eq!(build(&decided).headline, "No zones yet.");
    }

    #[test]
    fn what_the_box_does_by_itself_is_said_beside_the_advice() {
        use super::super::AsSet;
        let at = |hour| {
            Some(jiff::civil::date(2026, 7, 14).at(hour, 5, 0, 0).to_zoned(jiff::tz::TimeZone::UTC).unwrap())
        };
        let set =
            |stations: &[u16]| as_set(&AsSet { stations: stations.to_vec(), first: at(2), last: at(4) });
        assert_eq!(
            set(&[1, 2, 7]),
            "As it is set, the box runs stations 1, 2 and 7 tonight, 02:05 to 04:05."
        );
        assert_eq!(set(&[3]), "As it is set, the box runs station 3 tonight, 02:05 to 04:05.");
        let nothing = as_set(&AsSet { stations: Vec::new(), first: None, last: None });
        assert_eq!(nothing, "As it is set, the box runs nothing tonight.");
    }
}

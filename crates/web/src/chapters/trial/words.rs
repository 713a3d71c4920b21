//! Trial in words: ways, refusals, and which way is best.

use crate::page::dates::Said;
use crate::page::quantities::{depth, flow, span};
use upland_core::account::whole::Facts;
use upland_core::advice::budget::RainRule;
use upland_core::controller::schedule::{Days, days_in_words_by};
use upland_core::quantity::units::LitresPerMinute;
use upland_core::sensors::Release;
use upland_core::site::UnitSystem;
use upland_core::trial::{Change, PercentageRule, Ramps, Schedule, Spot};

use crate::page::quantities::{in_words, plain, share, short_date};
use crate::page::school_words::strategy;
use upland_core::advice::planner::{Binding, Strategy};
use upland_core::codes::Coded;
use upland_core::quantity::ratio::Share;
use upland_core::trial::{Named, Refusal, TrialWay, WayResult, ZoneResult};

/// A zone gets enough from this share of its demand on (our stated bound; the protocol's own criterion is 80 %).
pub(super) const ENOUGH: Share = Share::from_fraction(0.95);

/// A way by its name.
pub(super) fn way(way: &TrialWay) -> String {
    if let Some(school) = Strategy::from_code(&way.name) {
        return format!("Planned: {}", strategy(school).0.to_lowercase());
    }
    match Named::from_code(&way.name) {
        Some(Named::AsSet) => "As it is set".into(),
        Some(Named::AsAdvised) => "Watering as Today advises".into(),
        Some(Named::NoSensors) => "Without sensors".into(),
        Some(Named::Leave) => "100 % all year".into(),
        Some(Named::Monthly) => "Twelve percentages".into(),
        Some(Named::Weekly) => "A percentage a week, by hand".into(),
        Some(Named::EtSensor) => "An ET sensor's percentage".into(),
        Some(Named::DailyBalance) => "A box that computes itself".into(),
        None => way.name.clone(),
    }
}

/// Why a way was not tried.
pub(super) fn refusal(refusal: &Refusal) -> String {
    match refusal {
        Refusal::Unset { box_number } => {
            format!("what box {box_number} is set to was never entered; enter it in Programs")
        }
        Refusal::NoBox { box_number } => format!("there is no box {box_number}"),
        Refusal::CannotHold { box_number, message } => {
            format!("box {box_number} cannot hold its settings ({message}); mend them in Programs")
        }
        Refusal::NoPlan { box_number, binding: Binding::Window { needed_minutes, have_minutes } } => format!(
            "no night of box {box_number} holds it: {needed_minutes} min of {have_minutes}; its plan says what would do"
        ),
        Refusal::NoPlan { box_number, .. } => {
            format!("there is no such plan for box {box_number}; its plan says why")
        }
        Refusal::NoSensor { name } => format!("no sensor is called {name}"),
        Refusal::NoPort { box_number } => format!("box {box_number} takes no percentage from a sensor"),
        Refusal::NoWeather => "there is no weather in these days; choose others".into(),
    }
}

/// A zone's number and name.
pub(super) type Names<'a> = &'a dyn Fn(&ZoneResult) -> String;

/// A zone by its number and name, with its box where the site has several.
pub(super) fn zone_name(facts: &Facts, zone: &ZoneResult) -> String {
    let name = facts.zone(zone.box_number, zone.station).map_or("", |(z, _)| z.name.as_str());
    if facts.boxes.len() > 1 {
        format!("{}-{} {name}", zone.box_number, zone.station)
    } else {
        format!("{} {name}", zone.station)
    }
}

/// Who is short under a way, in words.
fn short(result: &WayResult, name: Names<'_>) -> String {
    let mut zones: Vec<&ZoneResult> = result.zones.iter().filter(|z| z.adequacy() < ENOUGH).collect();
    zones.sort_by(|a, b| a.adequacy().fraction().total_cmp(&b.adequacy().fraction()));
    let Some(worst) = zones.first() else { return "every zone has enough".into() };
    let week = worst
        .worst_week
        .map_or(String::new(), |(monday, _)| format!(", most in the week from {}", short_date(monday)));
    let others = match zones.len() - 1 {
        0 => "nothing else is".to_owned(),
        n => format!(
            "{} more {} less than 95 % of what they ask for",
            in_words(n),
            if n == 1 { "has" } else { "have" }
        ),
    };
    format!("{} is short on {} days{week}; {others}", name(worst), worst.stress_days)
}

/// Whether a box can be set to a way for good: nobody has to come every night or week, and nothing is taken down.
fn is_settable(way: &TrialWay) -> bool {
    let runs = !matches!(way.schedule, Schedule::AsAdvised | Schedule::DailyBalance);
    let turned = matches!(way.percentages, PercentageRule::Weekly | PercentageRule::EtSensor { .. });
    runs && !turned && !way.without_sensors
}

/// Of the ways that are admitted, the one that keeps every zone at what it has now, or at enough, inside the law, with
/// the least water.
fn best_of(results: &[WayResult], admits: impl Fn(&TrialWay) -> bool) -> Option<&WayResult> {
    let as_set = results.iter().find(|r| r.way.name == Named::AsSet.code());
    let enough = |result: &&WayResult| {
        result.zones.iter().enumerate().all(|(at, zone)| {
            let now = as_set.and_then(|r| r.zones.get(at)).map_or(Share::WHOLE, ZoneResult::adequacy);
            // What is short already may not become shorter.
            let least = ENOUGH.fraction().min(now.fraction() - 0.005);
            zone.forbidden == 0 && zone.adequacy().fraction() >= least
        })
    };
    let by_water = |a: &&WayResult, b: &&WayResult| a.water().total_cmp(&b.water());
    results.iter().filter(|r| admits(&r.way)).filter(enough).min_by(by_water)
}

/// The best of all ways.
pub(super) fn best(results: &[WayResult]) -> Option<&WayResult> {
    best_of(results, |_| true)
}

/// What a way uses against the box as it is set, as the middle of a sentence.
fn uses(set: &WayResult, own: &WayResult) -> String {
    let water = |r: &WayResult| r.site.litres.map(|litres| litres.l());
    let saves = water(set).zip(water(own)).filter(|(a, _)| *a > 0.0);
    let less = saves.map(|(a, b)| 100.0 * (1.0 - b / a)).filter(|pct| pct.abs() >= 0.5);
    match less {
        Some(pct) if pct > 0.0 => format!("uses {} % less water than as it is set", plain(pct, 0)),
        Some(pct) => format!("uses {} % more water than as it is set, and zones need it", plain(-pct, 0)),
        None => "uses as much water as it is set".into(),
    }
}

/// The page in one sentence; in a second one what a box can be set to, where the best way is none of that.
pub(super) fn answer(results: &[WayResult], name: Names<'_>) -> String {
    let Some(best) = best(results) else {
        return "No way that was tried gives every zone enough inside the law.".into();
    };
    let label = way(&best.way);
    let Some(set) = results.iter().find(|r| r.way.name == Named::AsSet.code()) else {
        return format!("{label} uses least; {}.", short(best, name));
    };
    if set.way == best.way {
        let short = short(best, name);
        return format!("The box as it is set uses least of the ways that leave no zone worse: {short}.");
    }
    let first = format!("{label} {}; {}.", uses(set, best), short(best, name));
    if is_settable(&best.way) {
        return first;
    }
    match best_of(results, is_settable) {
        Some(own) if own.way != set.way => {
            format!(
                "{first} Of what a box can be set to for good, {} {}.",
                uncapital(&way(&own.way)),
                uses(set, own)
            )
        }
        _ => format!("{first} A box cannot be set to it for good."),
    }
}

/// A way as it was described, in words.
pub(super) fn described(way: &TrialWay) -> String {
    let mut told = vec![match &way.schedule {
        Schedule::AsSet => "settings as they are".to_owned(),
        Schedule::Settings(all) => {
            let boxes: Vec<String> = all.iter().map(|(number, _)| format!("box {number}")).collect();
            format!("settings of its own for {}", boxes.join(", "))
        }
        Schedule::School(school) => format!("planned for the year: {}", strategy(*school).0.to_lowercase()),
        Schedule::AsAdvised => "watering as Today advises".into(),
        Schedule::DailyBalance => "a box that computes itself".into(),
    }];
    told.extend(match way.percentages {
        PercentageRule::AsSet => None,
        PercentageRule::Left => Some("100 % all year".to_owned()),
        PercentageRule::Monthly => Some("twelve percentages".into()),
        PercentageRule::Weekly => Some("a percentage a week".into()),
        PercentageRule::EtSensor { trim_pct } => {
            Some(format!("an ET sensor's percentage, trimmed by {} %", plain(trim_pct, 0)))
        }
    });
    told.extend(way.days.map(|days| match days {
        Days::EveryNth { interval: 1, .. } => "every day".to_owned(),
        // On which day a rhythm was begun is nothing to a trial.
        Days::EveryNth { interval, .. } => format!("every {interval} days"),
        other => days_in_words_by(other, crate::page::dates::typed_date),
    }));
    told.extend(match way.rain {
        None => None,
        Some(RainRule::Counted) => Some("rain counted".to_owned()),
        Some(RainRule::LeftToHold) => Some("rain left to the sensors".into()),
    });
    if way.without_sensors {
        told.push("no sensor".into());
    }
    told.extend(
        way.sensors.iter().map(|own| format!("{} {}", own.name, change(&own.change, UnitSystem::Metric))),
    );
    told.extend(way.window.map(|w| format!("window {} to {}", w.from.said("%H:%M"), w.until.said("%H:%M"))));
    told.extend(match way.planting {
        Ramps::AsSet => None,
        Ramps::None => Some("no grow-in or wean-off".to_owned()),
        Ramps::WeanOff(own) => Some(format!(
            "weaned off from {} % over {} weeks from {}",
            plain(own.start.percent(), 0),
            own.weeks,
            short_date(own.from)
        )),
    });
    told.join("; ")
}

/// What becomes of a sensor.
pub(super) fn change(change: &Change, units: UnitSystem) -> String {
    match change {
        Change::Absent => "absent".into(),
        Change::RainThreshold(mm) => format!("at {}", depth(units, *mm)),
        Change::Release(Release::DriesOut { vent }) => {
            format!("drying at {} % of ET0", plain(vent * 100.0, 0))
        }
        Change::Release(Release::Days(days)) => format!("holding {days} dry days"),
        Change::Bypassed(from, to) => format!("on bypass {} to {}", short_date(*from), short_date(*to)),
        Change::Misplaced(Spot::UnderEave) => "under an eave".into(),
        Change::Misplaced(Spot::InShade) => "in shade".into(),
    }
}

/// Sensors that a way sets otherwise: to be set by hand, since settings of a box do not say it.
pub(super) fn sensor_settings(way: &TrialWay, units: UnitSystem) -> Vec<String> {
    let set =
        way.sensors.iter().filter(|c| matches!(c.change, Change::RainThreshold(_) | Change::Release(_)));
    set.map(|own| format!("Set {} {}; enter it in Sensors.", own.name, change(&own.change, units))).collect()
}

/// What is strange about ways: that nothing runs, or that more is asked of supply and window than they give; ways that ask the same stand together.
pub(super) fn beyond(
    units: UnitSystem,
    results: &[WayResult],
    supply: Option<LitresPerMinute>,
) -> Vec<String> {
    let mut told: Vec<(String, Vec<String>)> = Vec::new();
    let mut say = |what: String, result: &WayResult| {
        let name = way(&result.way);
        match told.iter_mut().find(|(known, _)| *known == what) {
            Some((_, names)) => names.push(name),
            None => told.push((what, vec![name])),
        }
    };
    for result in results {
        if result.zones.iter().all(|zone| zone.runs == 0 && zone.skipped.is_empty()) {
            say("nothing ever runs".into(), result);
        }
        let own = &result.site.supply;
        if let (Some(supply), true) = (supply, own.over.any()) {
            let most = flow(units, own.most);
            let supply = flow(units, supply);
            let long = span(own.over.minutes().min_value());
            say(
                format!("for {long} more flows than the {supply} that the supply gives, up to {most}"),
                result,
            );
        }
        match own.nights_too_long {
            0 => {}
            1 => say("one night is longer than the water window when zones run in turn".into(), result),
            n => say(format!("{n} nights are longer than the water window when zones run in turn"), result),
        }
    }
    told.into_iter().map(|(what, names)| format!("{}: {what}.", names.join(", "))).collect()
}

/// The first letter made small, unless a short name in capitals begins.
pub(super) fn uncapital(text: &str) -> String {
    let mut letters = text.chars();
    match letters.next() {
        Some(first) => first.to_lowercase().chain(letters).collect(),
        None => String::new(),
    }
}

/// Parts as one sentence.
pub(super) fn sentence(parts: &[String]) -> String {
    crate::page::quantities::capital(&parts.join("; "))
}

/// Skipped runs by cause.
pub(super) fn skipped(zones: &[ZoneResult]) -> String {
    let mut sums = std::collections::BTreeMap::new();
    for (cause, count) in zones.iter().flat_map(|z| &z.skipped) {
        *sums.entry(*cause).or_insert(0) += count;
    }
    let words = |cause: &str| cause.replace('_', " ");
    let all: Vec<String> = sums.iter().map(|(cause, count)| format!("{count} {}", words(cause))).collect();
    if all.is_empty() { "–".into() } else { all.join(", ") }
}

/// The three parts of a zone: the quarter that gets least, the half between, the quarter that gets most.
pub(super) fn parts(zone: &ZoneResult) -> String {
    let [low, middle, high] = zone.parts.map(|part| share(part.adequacy()));
    if low == middle && middle == high { low } else { format!("{low} · {middle} · {high}") }
}

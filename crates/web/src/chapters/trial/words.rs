//! Trial in words: ways, refusals, and which way is best.

use crate::page::dates::DateFormat;
use crate::page::quantities::{depth, flow, span};
use upland_core::account::site_account::AccountInputs;
use upland_core::advice::budget::RainRule;
use upland_core::controller::schedule::{Days, days_in_words_by};
use upland_core::quantity::units::LitresPerMinute;
use upland_core::sensors::Release;
use upland_core::site::{StationId, SurveyedZone, UnitSystem};
use upland_core::trial::{Change, PercentageRule, Ramps, Schedule, Spot};

use crate::page::quantities::{in_words, plain, share, short_date};
use crate::page::strategy_words::strategy;
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
        Some(Named::AsSet) => "Current settings".into(),
        Some(Named::AsAdvised) => "Watering as Today advises".into(),
        Some(Named::NoSensors) => "Without sensors".into(),
        Some(Named::Leave) => "100 % all year".into(),
        Some(Named::Monthly) => "Twelve percentages".into(),
        Some(Named::Weekly) => "Weekly percentage, set manually".into(),
        Some(Named::EtSensor) => "An ET sensor's percentage".into(),
        Some(Named::DailyBalance) => "A controller that computes itself".into(),
        None => way.name.clone(),
    }
}

/// Why a way was not tried.
pub(super) fn refusal(refusal: &Refusal) -> String {
    match refusal {
        Refusal::Unset { controller_number } => {
            format!("what controller {controller_number} is set to was never entered; enter it in Programs")
        }
        Refusal::NoController { controller_number } => format!("there is no controller {controller_number}"),
        Refusal::CannotHold { controller_number, message } => {
            format!(
                "controller {controller_number} cannot be set like this ({message}); correct them in Programs"
            )
        }
        Refusal::NoPlan {
            controller_number,
            binding: Binding::Window { needed_minutes, have_minutes, .. },
        } => {
            format!(
                "no night of controller {controller_number} is long enough: {needed_minutes} min needed, {have_minutes} min available; its plan says what would do"
            )
        }
        Refusal::NoPlan { controller_number, .. } => {
            format!("there is no such plan for controller {controller_number}; its plan says why")
        }
        Refusal::NoSensor { name } => format!("no sensor is called {name}"),
        Refusal::NoPort { controller_number } => {
            format!("controller {controller_number} takes no percentage from a sensor")
        }
        Refusal::NoWeather => "there is no weather in these days; choose others".into(),
    }
}

/// A zone's number and name.
pub(super) type Names<'a> = &'a dyn Fn(&ZoneResult) -> String;

/// A zone by its number and name, with its controller where the site has several.
pub(super) fn zone_name(facts: &AccountInputs, zone: &ZoneResult) -> String {
    let name = facts
        .zone(StationId::new(zone.controller_number, zone.station))
        .map_or("", |SurveyedZone { zone: z, .. }| z.name.as_str());
    if facts.controllers.len() > 1 {
        format!("{}-{} {name}", zone.controller_number, zone.station)
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
            "{} more {} less than 95 % of their requirement",
            in_words(n),
            if n == 1 { "has" } else { "have" }
        ),
    };
    format!("{} is short on {} days{week}; {others}", name(worst), worst.stress_days)
}

/// Whether a controller can be set to a way for good: nobody has to come every night or week, and nothing is taken down.
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

/// What a way uses against the controller as it is set, as the middle of a sentence.
fn uses(set: &WayResult, own: &WayResult) -> String {
    let water = |r: &WayResult| r.site.litres.map(|litres| litres.l());
    let saves = water(set).zip(water(own)).filter(|(a, _)| *a > 0.0);
    let less = saves.map(|(a, b)| 100.0 * (1.0 - b / a)).filter(|pct| pct.abs() >= 0.5);
    match less {
        Some(pct) if pct > 0.0 => format!("uses {} % less water than the current settings", plain(pct, 0)),
        Some(pct) => {
            format!("uses {} % more water than the current settings, and zones need it", plain(-pct, 0))
        }
        None => "uses as much water as the current settings".into(),
    }
}

/// The page in one sentence; in a second one what a controller can be set to, where the best way is none of that.
pub(super) fn answer(results: &[WayResult], name: Names<'_>) -> String {
    let Some(best) = best(results) else {
        return "No option that was compared gives every zone enough within the restrictions.".into();
    };
    let label = way(&best.way);
    let Some(set) = results.iter().find(|r| r.way.name == Named::AsSet.code()) else {
        return format!("{label} uses least; {}.", short(best, name));
    };
    if set.way == best.way {
        let short = short(best, name);
        return format!(
            "The current settings use the least water among the options that leave no zone worse: {short}."
        );
    }
    let first = format!("{label} {}; {}.", uses(set, best), short(best, name));
    if is_settable(&best.way) {
        return first;
    }
    match best_of(results, is_settable) {
        Some(own) if own.way != set.way => {
            format!("{first} Among lasting settings, {} {}.", uncapital(&way(&own.way)), uses(set, own))
        }
        _ => format!("{first} A controller cannot be set to it for good."),
    }
}

/// A way as it was described, in words.
pub(super) fn described(way: &TrialWay, units: UnitSystem) -> String {
    let mut told = vec![match &way.schedule {
        Schedule::AsSet => "settings as they are".to_owned(),
        Schedule::Settings(all) => {
            let controllers: Vec<String> =
                all.iter().map(|(number, _)| format!("controller {number}")).collect();
            format!("settings of its own for {}", controllers.join(", "))
        }
        Schedule::School(school) => format!("planned for the year: {}", strategy(*school).0.to_lowercase()),
        Schedule::AsAdvised => "watering as Today advises".into(),
        Schedule::DailyBalance => "a controller that computes itself".into(),
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
    told.extend(way.sensors.iter().map(|own| format!("{} {}", own.name, change(&own.change, units))));
    told.extend(
        way.window.map(|w| format!("window {} to {}", w.from.formatted("%H:%M"), w.until.formatted("%H:%M"))),
    );
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
        Change::Bypassed(span) => {
            format!("on bypass {} to {}", short_date(span.first), short_date(span.last))
        }
        Change::Misplaced(Spot::UnderEave) => "under an eave".into(),
        Change::Misplaced(Spot::InShade) => "in shade".into(),
    }
}

/// Sensors that a way sets otherwise: to be set by hand, since settings of a controller do not say it.
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture::long_set;
    use jiff::civil::{Date, date, time};
    use upland_core::controller::schedule::Settings;
    use upland_core::ground::planting::WeanOff;
    use upland_core::quantity::time::{Hours, Seconds};
    use upland_core::quantity::units::{Litres, Millimetres};
    use upland_core::trial::{SensorChange, run};

    use upland_core::quantity::span::DateSpan;

    const SPAN: DateSpan = DateSpan::new(Date::constant(2026, 6, 1), Date::constant(2026, 7, 10));

    fn tried(facts: &AccountInputs, ways: &[TrialWay]) -> Vec<WayResult> {
        ways.iter().map(|way| run(way, facts, SPAN, None, |_, _| ()).unwrap()).collect()
    }

    fn named(all: &[Named]) -> Vec<TrialWay> {
        all.iter().map(|named| named.way(named.code())).collect()
    }

    /// The answer and who it speaks of.
    fn told(facts: &AccountInputs, results: &[WayResult]) -> String {
        answer(results, &|zone| zone_name(facts, zone))
    }

    #[test]
    fn the_answer_follows_what_the_controller_is_set_to() {
        let mut facts = long_set(UnitSystem::Metric);
        let ways = named(&[Named::AsSet, Named::AsAdvised, Named::Leave]);
        // A quarter of an hour twice a night on every zone: it is much.
        let results = tried(&facts, &ways);
        let text = told(&facts, &results);
        assert!(
            text.starts_with("Watering as Today advises uses ") && text.contains(" % less water"),
            "{text}"
        );
        assert!(text.contains("A controller cannot be set to it for good."), "{text}");
        // A controller that never runs is no way to keep zones at enough, and there is nothing it may fall short of.
        let clean = Settings::clean(&facts.controllers[0].card);
        facts.controllers[0].versions[0].1 = clean;
        let results = tried(&facts, &ways);
        assert!(results[0].zones.iter().all(|zone| zone.runs == 0));
        let text = told(&facts, &results);
        assert!(
            text.starts_with("The current settings use the least water") && text.contains(" is short on "),
            "{text}"
        );
        let strange = beyond(facts.site.units, &results, facts.site.supply);
        assert_eq!(strange.len(), 1, "{strange:?}");
        assert_eq!(strange[0], "Current settings, 100 % all year: nothing ever runs.");
        // Without the controller as it is set there is nothing to hold a way against but enough.
        assert!(told(&facts, &results[1..2]).starts_with("Watering as Today advises uses least; "));
        assert_eq!(
            told(&facts, &results[2..]),
            "No option that was compared gives every zone enough within the restrictions."
        );
        assert_eq!(
            told(&facts, &[]),
            "No option that was compared gives every zone enough within the restrictions."
        );
    }

    #[test]
    fn the_best_way_has_the_least_water_of_those_that_break_no_law_and_leave_no_zone_worse() {
        let facts = long_set(UnitSystem::Metric);
        let as_set = &tried(&facts, &named(&[Named::AsSet]))[0];
        let like = |name: &str, litres: f64, et: f64, forbidden: u32| {
            let mut own = as_set.clone();
            own.way.name = name.into();
            own.site.litres = Some(Litres::from_l(litres));
            for zone in &mut own.zones {
                (zone.needed, zone.et) = (Millimetres::from_mm(100.0), Millimetres::from_mm(et));
                zone.forbidden = forbidden;
            }
            own
        };
        let name = |results: &[WayResult]| best(results).map(|r| r.way.name.clone());
        let set = like(Named::AsSet.code(), 1000.0, 90.0, 0);
        let all = |other: WayResult| [set.clone(), other];
        assert_eq!(name(&all(like("less", 900.0, 90.0, 0))).as_deref(), Some("less"));
        assert_eq!(name(&all(like("a little worse", 900.0, 89.6, 0))).as_deref(), Some("a little worse"));
        assert_eq!(name(&all(like("worse", 900.0, 89.4, 0))).as_deref(), Some("as-set"));
        assert_eq!(name(&all(like("forbidden", 900.0, 99.0, 1))).as_deref(), Some("as-set"));
        // A controller that breaks the law itself does not count: the other is best although it takes more.
        let law = [like(Named::AsSet.code(), 1000.0, 99.0, 2), like("lawful", 1200.0, 99.0, 0)];
        assert_eq!(name(&law).as_deref(), Some("lawful"));
        assert!(
            told(&facts, &law)
                .starts_with("lawful uses 20 % more water than the current settings, and zones need it")
        );
        // What has more than enough may have less, down to enough.
        let rich = [
            like(Named::AsSet.code(), 1000.0, 100.0, 0),
            like("enough", 800.0, 95.0, 0),
            like("under", 700.0, 94.9, 0),
        ];
        assert_eq!(name(&rich).as_deref(), Some("enough"));
    }

    #[test]
    fn who_is_short_is_counted() {
        let facts = long_set(UnitSystem::Metric);
        let mut one = tried(&facts, &named(&[Named::AsAdvised])).remove(0);
        let mut with = |ets: [f64; 4]| {
            for (zone, et) in one.zones.iter_mut().zip(ets) {
                (zone.needed, zone.et) = (Millimetres::from_mm(100.0), Millimetres::from_mm(et));
                (zone.stress_days, zone.worst_week) =
                    (7, Some((date(2026, 7, 6), Millimetres::from_mm(3.0))));
            }
            short(&one, &|zone| zone_name(&facts, zone))
        };
        assert_eq!(with([95.0; 4]), "every zone has enough");
        assert_eq!(
            with([99.0, 94.0, 99.0, 99.0]),
            "2 Bank is short on 7 days, most in the week from Mon 6 Jul; nothing else is"
        );
        assert!(
            with([90.0, 94.0, 99.0, 99.0]).ends_with("; one more has less than 95 % of their requirement")
        );
        assert!(with([90.0, 94.0, 93.0, 99.0]).starts_with("1 Upper lawn is short"));
        assert!(
            with([90.0, 94.0, 93.0, 99.0]).ends_with("; two more have less than 95 % of their requirement")
        );
    }

    #[test]
    fn a_way_is_described_in_the_units_of_the_site_with_all_that_it_changes() {
        let of = |change| SensorChange { controller_number: 1, name: "rain roof".into(), change };
        let way = TrialWay {
            name: "mine".into(),
            schedule: Schedule::Settings(vec![(
                1,
                Settings::clean(&upland_core::controller::twelve_stations()),
            )]),
            percentages: PercentageRule::EtSensor { trim_pct: -10.0 },
            without_sensors: true,
            sensors: vec![
                of(Change::RainThreshold(Millimetres::from_mm(12.7))),
                of(Change::Release(Release::Days(3))),
                of(Change::Release(Release::DriesOut { vent: 0.5 })),
                of(Change::Bypassed(DateSpan::new(date(2026, 7, 1), date(2026, 7, 3)))),
                of(Change::Misplaced(Spot::UnderEave)),
                of(Change::Absent),
            ],
            rain: Some(RainRule::Counted),
            days: Some(Days::EveryNth { interval: 3, first: date(2026, 1, 1) }),
            window: Some(Hours { from: time(22, 0, 0, 0), until: time(4, 30, 0, 0) }),
            planting: Ramps::WeanOff(WeanOff {
                from: date(2026, 8, 1),
                weeks: 6,
                start: Share::from_percent(120.0),
            }),
        };
        assert_eq!(
            described(&way, UnitSystem::Metric),
            "settings of its own for controller 1; an ET sensor's percentage, trimmed by -10 %; every 3 days; rain counted; no sensor; \
             rain roof at 12.7 mm; rain roof holding 3 dry days; rain roof drying at 50 % of ET0; rain roof on bypass Wed 1 Jul to Fri 3 Jul; \
             rain roof under an eave; rain roof absent; window 22:00 to 04:30; weaned off from 120 % over 6 weeks from Sat 1 Aug"
        );
        assert!(described(&way, UnitSystem::UsCustomary).contains("rain roof at 0.50 in;"));
        assert_eq!(described(&TrialWay::default(), UnitSystem::Metric), "settings as they are");
        // To be set by hand is only what a dial of the sensor sets.
        let set = sensor_settings(&way, UnitSystem::UsCustomary);
        assert_eq!(set.len(), 3);
        assert_eq!(set[0], "Set rain roof at 0.50 in; enter it in Sensors.");
    }

    #[test]
    fn what_a_controller_can_be_set_to_for_good_is_told_from_what_somebody_must_do_every_night() {
        let for_good = [Named::AsSet, Named::Leave, Named::Monthly];
        let not = [Named::AsAdvised, Named::NoSensors, Named::Weekly, Named::EtSensor, Named::DailyBalance];
        assert!(named(&for_good).iter().all(is_settable));
        assert!(!named(&not).iter().any(is_settable));
        let mut names: Vec<String> = named(&for_good).iter().chain(&named(&not)).map(way).collect();
        names.extend(
            Strategy::ALL.map(|school| way(&TrialWay { name: school.code().into(), ..TrialWay::default() })),
        );
        let mut apart = names.clone();
        apart.sort();
        apart.dedup();
        assert_eq!(apart.len(), names.len(), "{names:?}");
        assert_eq!(way(&TrialWay { name: "my own".into(), ..TrialWay::default() }), "my own");
    }

    #[test]
    fn what_was_held_and_the_parts_of_a_zone_are_told_in_short() {
        let facts = long_set(UnitSystem::Metric);
        let mut results = tried(&facts, &named(&[Named::AsSet]));
        assert_eq!(skipped(&results[0].zones), "–");
        for (zone, count) in results[0].zones.iter_mut().zip([2, 3]) {
            zone.skipped.insert("wet_soil", count);
            zone.skipped.insert("rain", 1);
        }
        assert_eq!(skipped(&results[0].zones), "2 rain, 5 wet soil");
        let mut zone = results[0].zones[0].clone();
        for (part, et) in zone.parts.iter_mut().zip([71.0, 96.0, 100.0]) {
            (part.needed, part.et) = (Millimetres::from_mm(100.0), Millimetres::from_mm(et));
        }
        assert_eq!(parts(&zone), "71 % · 96 % · 100 %");
        for part in &mut zone.parts {
            part.et = part.needed;
        }
        assert_eq!(parts(&zone), "100 %");
        // More than the supply gives, and nights too long.
        results[0].site.supply.over = Seconds::from_min(90);
        results[0].site.supply.most = LitresPerMinute::from_l_per_min(130.0);
        results[0].site.supply.nights_too_long = 1;
        let told = beyond(UnitSystem::Metric, &results, Some(LitresPerMinute::from_l_per_min(95.0)));
        assert_eq!(told.len(), 2, "{told:?}");
        assert!(
            told[0].contains("more flows than the 95 L/min that the supply gives, up to 130 L/min"),
            "{told:?}"
        );
        assert!(told[1].contains("one night is longer than the water window"), "{told:?}");
        assert!(beyond(UnitSystem::Metric, &results, None).len() == 1, "nobody knows what the supply gives");
    }
}

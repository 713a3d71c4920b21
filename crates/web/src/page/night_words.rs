//! Why a zone runs tonight or waits, as sentences built from facts.

use crate::page::dates::DateFormat;
use crate::page::quantities::{capital, depth, in_words, plain, share, temperature};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use upland_core::account::nights::Barred;
use upland_core::advice::tonight::{Because, Decision, Verdict, ZoneTonight, is_too_much};
use upland_core::controller::schedule::Rest;
use upland_core::ground::application::Cycles;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{Millimetres, Minutes};
use upland_core::site::UnitSystem;

/// Names a recent day by its weekday, an older or later one by its date.
fn day(date: Date, today: Date) -> String {
    let ago = (today - date).get_days();
    match ago {
        0 => "today".to_owned(),
        1 => "yesterday".to_owned(),
        -1 => "tomorrow".to_owned(),
        2..=6 => format!("on {}", date.formatted("%a")),
        -6..=-2 => date.formatted("%A"),
        _ => date.formatted("%-d %b"),
    }
}

/// Why a zone runs or waits, in one or two short sentences.
// Long: one sentence for each reason.
pub(crate) fn because(zone: &ZoneTonight, units: UnitSystem, tz: &TimeZone, today: Date) -> String {
    let mut sentences: Vec<String> = compared(zone, units).into_iter().collect();
    match zone.because {
        Because::PastRefill { by } => sentences.push(if by.mm() < 0.05 {
            "The refill point is reached.".to_owned()
        } else {
            format!("The refill point was passed by {}.", depth(units, by))
        }),
        Because::ReachesRefillTomorrow { left, expected } => sentences.push(format!(
            "Would pass its refill point tomorrow: {} left, {} expected.",
            depth(units, left),
            depth(units, expected)
        )),
        Because::AboveRefill { left, rain, watered, next } => {
            let since = match (watered, rain) {
                (Some((on, evidence)), _) => format!(": watered {}, {}", day(on, today), evidence.label()),
                (None, Some((on, amount))) => {
                    format!(": {} of rain soaked in {}", depth(units, amount), day(on, today))
                }
                (None, None) => String::new(),
            };
            let next = next.map_or(", not due within two months".to_owned(), |on| {
                let about = if (on - today).get_days() > 1 { "about " } else { "" };
                format!(", due {about}{}", day(on, today))
            });
            sentences.push(format!("{} above its refill point{since}{next}.", depth(units, left)));
        }
        Because::NothingToRefill => sentences.push("The deficit is too small to be worth a start.".into()),
    }
    match zone.decision {
        Decision::Deferred => sentences.push(
            "The window is full tonight; it comes first tomorrow. A longer window would fit it.".into(),
        ),
        Decision::RunsShort { asked_minutes } => sentences.push(format!(
            "It needs {asked_minutes} min, the window has {}; the rest carries over.",
            zone.cycles.map_or(0, upland_core::ground::application::Cycles::total_minutes)
        )),
        Decision::RunsLawful { asked_minutes } => sentences.push(format!(
            "It needs {asked_minutes} min, the ordinance allows {} a day; the rest carries over.",
            zone.cycles.map_or(0, upland_core::ground::application::Cycles::total_minutes)
        )),
        Decision::Barred(why) => sentences.push(barred(why, units, tz)),
        Decision::Runs | Decision::Waits => {}
    }
    if let Some(at) = zone.will.as_ref().and_then(|will| will.forbidden) {
        let at = at.to_zoned(tz.clone()).formatted("%a %H:%M");
        sentences.push(format!("What the controller will run is forbidden by the ordinance, from {at}."));
    }
    sentences.extend(why_cycles(zone));
    if let Some(saving) = zone.repair_saving {
        sentences.push(format!(
            "Uniformity is only {}: repairing heads would save {} of its time.",
            share(zone.resolved.uniformity.value),
            share(saving)
        ));
    }
    if zone.resolved.rain_share == Share::NONE {
        sentences.push("Sheltered: no rain reaches it.".into());
    }
    sentences.join(" ")
}

/// Why a zone runs in cycles: what its soil takes at once, or the zones beside it in its program.
fn why_cycles(zone: &ZoneTonight) -> Option<String> {
    let cycles = zone.cycles.filter(|c| c.count > 1)?;
    let count = in_words(usize::try_from(cycles.count).unwrap_or(usize::MAX));
    let soil = zone.resolved.cycle_limit.longest.filter(|longest| {
        longest.min_value().floor().max(1.0) < f64::from(cycles.total_minutes())
            && zone.refill.cycles.count > 1
    });
    let Some(longest) = soil else {
        return Some(format!("The zones of its program take turns: {count} cycles."));
    };
    Some(format!(
        "{} on a slope of {} % takes {} min before runoff, so {count} cycles.",
        capital(zone.zone.soil.label()),
        plain(zone.resolved.slope_pct.value, 1),
        cycle_minutes(longest),
    ))
}

/// The longest cycle before runoff that a controller can be set to, in minutes.
fn cycle_minutes(longest: Minutes) -> String {
    plain(longest.min_value().floor().max(1.0), 0)
}

/// What the controller brings against what is missing, where that needs a word.
fn compared(zone: &ZoneTonight, units: UnitSystem) -> Option<String> {
    let (will, verdict) = (zone.will.as_ref()?, zone.verdict?);
    let (brings, missing) = (depth(units, will.stays()), depth(units, zone.depletion));
    match verdict {
        Verdict::TooMuch | Verdict::NotNeeded => {
            Some(format!("The controller applies {brings} net; the deficit is {missing}."))
        }
        Verdict::RunsOff => {
            let off = share(Share::from_fraction(will.runs_off()));
            let cycles = zone.resolved.cycle_limit.longest.map_or("shorter cycles".to_owned(), |longest| {
                format!("cycles of at most {} min", cycle_minutes(longest))
            });
            let more = if is_too_much(will.brings, zone.depletion) { ", more than the deficit" } else { "" };
            Some(format!(
                "{off} of what the controller applies runs off: {brings} net remain for a deficit of {missing}. In {cycles}, with \
                 a soak between, it would apply {}{more}.",
                depth(units, will.brings)
            ))
        }
        Verdict::TooLittle if will.waters().any() => {
            Some(format!("The controller applies {brings} net of a deficit of {missing}."))
        }
        Verdict::TooLittle => Some("The controller has a run time for it, but not tonight.".to_owned()),
        Verdict::NothingReaches => Some("No program that is on has a run time for it.".to_owned()),
        Verdict::Right if will.waters().any() => {
            Some(format!("The controller applies {brings} net for a deficit of {missing}."))
        }
        Verdict::Right | Verdict::Forbidden | Verdict::Held => None,
    }
}

/// Why nothing is advised although a zone is due.
fn barred(why: Barred, units: UnitSystem, tz: &TimeZone) -> String {
    match why {
        Barred::Law { .. } => "The ordinance leaves no minute of this night for it.".to_owned(),
        Barred::AfterRain { until, .. } => format!(
            "The ordinance forbids it after the rain until {}.",
            until.to_zoned(tz.clone()).formatted("%a %-d %b at %H:%M")
        ),
        Barred::WeekIsFull { most } => format!(
            "The ordinance allows {} {} a week, and they are used up.",
            in_words(usize::from(most)),
            if most == 1 { "day" } else { "days" }
        ),
        Barred::Rest(Rest::RainDelay { until }) => {
            format!("The controller is on rain delay until {}.", until.formatted("%a %-d %b"))
        }
        Barred::Rest(Rest::OffSeason { until: Some(until) }) => {
            format!("It is off-season until {}.", until.formatted("%-d %b"))
        }
        Barred::Rest(Rest::OmittedDate) => "This date is an omitted date of the controller.".to_owned(),
        Barred::Shut => "No-water days or omitted hours of this controller leave no time in the water window. Change them under Programs.".to_owned(),
        Barred::Rest(Rest::OffSeason { until: None }) => {
            "The off-season of the controller is the whole year.".to_owned()
        }
        Barred::Frost { expected, set_point, foretold } => format!(
            "The night is {}, {}, at or below the freeze set point of {}.",
            if foretold { "forecast to fall to" } else { "expected as cold as the last" },
            temperature(units, expected),
            temperature(units, set_point)
        ),
        Barred::Frozen { mean } => {
            format!("The ground was frozen today: {} on the mean.", temperature(units, mean))
        }
    }
}

/// How grave a verdict is, as a class.
pub(crate) fn weight(zone: &ZoneTonight) -> &'static str {
    match zone.verdict {
        None | Some(Verdict::Right) => "right",
        Some(Verdict::Held) if !zone.due => "held",
        Some(_) => "wrong",
    }
}

/// The mark of that class, so that colour is not alone.
pub(crate) fn sign(zone: &ZoneTonight) -> &'static str {
    match weight(zone) {
        "right" => "●",
        "held" => "■",
        _ => "▲",
    }
}

/// What a zone requires, as every page says it.
pub(crate) enum Requirement {
    /// It is above its refill point.
    NotDue,
    /// It is due, and nothing of it fits or may run tonight.
    NotTonight { cycles: Cycles, gross: Millimetres },
    /// What is left of it for tonight: the window or the ordinance may have cut it.
    Tonight { cycles: Cycles, gross: Millimetres },
}

/// What a zone requires tonight.
pub(crate) fn requirement(zone: &ZoneTonight) -> Requirement {
    match (zone.decision, zone.cycles) {
        (Decision::Waits, _) => Requirement::NotDue,
        (Decision::Barred(_) | Decision::Deferred, _) | (_, None) => {
            Requirement::NotTonight { cycles: zone.refill.cycles, gross: zone.refill.gross }
        }
        (_, Some(cycles)) => {
            let minutes = Minutes::from_min(f64::from(cycles.total_minutes()));
            Requirement::Tonight { cycles, gross: zone.resolved.rate.value.over_time(minutes) }
        }
    }
}

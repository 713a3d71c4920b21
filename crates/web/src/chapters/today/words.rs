//! Decisions as sentences, built from facts.

use crate::page::dates::DateFormat;
use crate::page::quantities::{capital, depth, flow, in_words, in_words_capital, plain, share, temperature};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use upland_core::account::nights::Barred;
use upland_core::advice::tonight::{Because, Decision, Notice, Verdict, ZoneTonight, is_too_much};
use upland_core::controller::schedule::Rest;
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
            "It needs {asked_minutes} min, the window holds {}; the rest carries over.",
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

/// Rain that is forecast for the day after a night, and which zones could wait for it.
fn rain_likely(date: Date, rain: Millimetres, can_wait: &[u16], units: UnitSystem) -> String {
    let likely = format!(
        "Rain is likely: {} forecast for {}. It does not count until it has fallen",
        depth(units, rain),
        date.formatted("%A")
    );
    match can_wait {
        [] => format!("{likely}, and no zone that runs tonight can wait for it."),
        [one] => format!(
            "{likely}. Zone {one} can wait a night: without it, it would still be above its refill point tomorrow."
        ),
        zones => format!(
            "{likely}. Zones {} can wait a night: without it, they would still be above their refill points tomorrow.",
            zones.iter().map(u16::to_string).collect::<Vec<_>>().join(", ")
        ),
    }
}

/// A date that may lie in another year.
fn dated(date: Date) -> String {
    date.formatted("%-d %b %Y")
}

/// A notice with its weight and what to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct NoticeWords {
    pub grave: bool,
    pub text: String,
    /// Link to the page that mends it, below the site's address.
    pub link: Option<(&'static str, &'static str)>,
}

// Long: one sentence for each kind of notice.
pub(crate) fn notice(notice: &Notice, units: UnitSystem) -> NoticeWords {
    let (grave, text, link) = match notice {
        Notice::NoWeather => (
            true,
            "No weather yet. Every zone is counted with demand estimated roughly from latitude and elevation, and without rain.".to_owned(),
            Some(("weather", "Import a weather file")),
        ),
        Notice::RecordEnds { last, days } => (
            *days > 7,
            format!(
                "The record ends on {}. {} {} since then {} filled with expected demand and no rain.",
                dated(*last),
                in_words_capital(usize::try_from(*days).unwrap_or_default()),
                if *days == 1 { "day" } else { "days" },
                if *days == 1 { "is" } else { "are" }
            ),
            Some(("weather", "Import newer weather")),
        ),
        Notice::BeforeRecord { first } => (
            true,
            format!("The record only begins on {}. Before it, expected demand and no rain are used.", dated(*first)),
            Some(("weather", "Import older weather")),
        ),
        Notice::Gaps { days } => (
            false,
            format!(
                "deficit {} in the past year; expected demand and no rain are used.",
                if *days == 1 { "One day is".to_owned() } else { format!("{days} days are") }
            ),
            Some(("weather", "See the record")),
        ),
        Notice::NoRain { days, all } => (
            *all,
            if *all {
                "The record has temperatures but no rain: none is counted, so every zone looks drier than it may be.".to_owned()
            } else {
                format!(
                    "{} no rain recorded; none is counted on {}.",
                    if *days == 1 { "One day has".to_owned() } else { format!("{days} days have") },
                    if *days == 1 { "it" } else { "them" }
                )
            },
            Some(("weather", "See the record")),
        ),
        Notice::NeedsSeveralADay { number, holds, demand } => (
            true,
            format!(
                "Zone {number} holds {} between full and its refill point, less than the {} of a day: it needs more than one watering a day.",
                depth(units, *holds),
                depth(units, *demand)
            ),
            Some(("zones", "See its roots and soil")),
        ),
        Notice::FreezeCaution { lowest, foretold } => (
            true,
            format!("Near freezing: {} {}. Spray can ice paving and steps; hold sprinklers until it is warmer.", temperature(units, *lowest), if *foretold { "is forecast for the night" } else { "was recorded" }),
            None,
        ),
        Notice::RainLikely { date, rain, can_wait } => (false, rain_likely(*date, *rain, can_wait, units), Some(("weather#coming", "See the forecast"))),
        Notice::SupplyExceeded { number, flow: asked, supply } => (
            true,
            format!(
                "Zone {number} needs {}, the supply gives {}. Check its area and rate, or split it.",
                flow(units, *asked),
                flow(units, *supply)
            ),
            Some(("zones", "See the zones")),
        ),
        Notice::BeyondController { number, stations } => (
            true,
            format!("Zone {number} has no station: the controller has {stations}."),
            Some(("zones", "See the zones")),
        ),
        Notice::WindowFull { zones } => (
            true,
            format!(
                "The water window is too short for {} due {}. Widen it, or spread the zones over more nights.",
                in_words(*zones),
                if *zones == 1 { "zone" } else { "zones" }
            ),
            Some(("edit", "Change the window")),
        ),
    };
    NoticeWords { grave, text, link }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;

    fn lines(units: UnitSystem) -> String {
        let decided = fixture::decided(units);
        let zones = decided.night.zones.iter();
        zones
            .map(|z| {
                format!("{}: {}", z.zone.name, because(z, units, &decided.records.tz, decided.night.date))
            })
            .collect::<Vec<_>>()
            .join("\n")
    }

    #[test]
    fn because_lines() {
        insta::assert_snapshot!("because_metric", lines(UnitSystem::Metric));
        insta::assert_snapshot!("because_us_customary", lines(UnitSystem::UsCustomary));
    }

    #[test]
    fn notices_say_what_to_do_next() {
        use upland_core::quantity::units::{Celsius, LitresPerMinute};
        let all = [
            Notice::NoWeather,
            Notice::RecordEnds { last: jiff::civil::date(2026, 7, 14), days: 3 },
            Notice::RecordEnds { last: jiff::civil::date(2026, 7, 14), days: 132 },
            Notice::BeforeRecord { first: jiff::civil::date(2024, 1, 1) },
            Notice::Gaps { days: 5 },
            Notice::NoRain { days: 40, all: true },
            Notice::NoRain { days: 1, all: false },
            Notice::NeedsSeveralADay {
                number: 2,
                holds: upland_core::quantity::units::Millimetres::from_mm(4.1),
                demand: upland_core::quantity::units::Millimetres::from_mm(5.0),
            },
            Notice::FreezeCaution { lowest: Celsius::from_c(1.5), foretold: false },
            Notice::FreezeCaution { lowest: Celsius::from_c(0.5), foretold: true },
            Notice::RainLikely {
                date: jiff::civil::date(2026, 7, 15),
                rain: Millimetres::from_mm(8.2),
                can_wait: vec![],
            },
            Notice::RainLikely {
                date: jiff::civil::date(2026, 7, 15),
                rain: Millimetres::from_mm(8.2),
                can_wait: vec![2],
            },
            Notice::RainLikely {
                date: jiff::civil::date(2026, 7, 15),
                rain: Millimetres::from_mm(8.2),
                can_wait: vec![2, 5],
            },
            Notice::SupplyExceeded {
                number: 4,
                flow: LitresPerMinute::from_l_per_min(120.0),
                supply: LitresPerMinute::from_l_per_min(80.0),
            },
            Notice::BeyondController { number: 14, stations: 12 },
            Notice::WindowFull { zones: 2 },
        ];
        let text: Vec<_> = all
            .iter()
            .map(|n| notice(n, UnitSystem::Metric))
            .map(|w| {
                format!(
                    "{} {} -> {}",
                    if w.grave { "!" } else { "-" },
                    w.text,
                    w.link.map_or("", |(_, name)| name)
                )
            })
            .collect();
        insta::assert_snapshot!(text.join("\n"));
    }
}

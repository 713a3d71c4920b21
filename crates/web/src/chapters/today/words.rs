//! Decisions as sentences, built from facts.

use crate::page::dates::DateFormat;
use crate::page::quantities::{depth, flow, in_words, in_words_capital, temperature};
use jiff::civil::Date;
use upland_core::advice::tonight::Notice;
use upland_core::quantity::units::Millimetres;
use upland_core::site::UnitSystem;

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
            format!("Near freezing: {} {}. Spray can ice paving and steps; run no sprinklers until it is warmer.", temperature(units, *lowest), if *foretold { "is forecast for the night" } else { "was recorded" }),
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
    use crate::page::night_words::because;

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

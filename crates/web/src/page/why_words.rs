//! What the account says of a zone's days: why it was dry or wet, the largest cause first.

use crate::page::quantities::{depth, share, short_date};
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::Millimetres;
use upland_core::site::UnitSystem;
use upland_core::tuning::{HeldFor, Reason, Why};

/// The heading: why it was dry or wet, or how it did.
pub(crate) fn question(found: &Why, name: &str) -> String {
    let missed = found.missed().mm() > 0.03 * found.demand.mm() && found.missed().mm() > 1.0;
    match (missed, found.reasons.is_empty()) {
        (true, _) => format!("Why {name} was dry"),
        (false, false) => format!("Why {name} was wet"),
        (false, true) => format!("How {name} did"),
    }
}

/// What the plants required and got, in a sentence.
pub(crate) fn met(found: &Why, units: UnitSystem) -> String {
    let (head, days) = head(found, units);
    format!("{head}{days}.")
}

/// The account's answer in a sentence.
pub(crate) fn answer(found: &Why, units: UnitSystem) -> String {
    let (head, days) = head(found, units);
    let because = found.reasons.first().map(|r| reason(r, found, units));
    because.map_or_else(
        || format!("{head}{days}: the water balance shows no cause."),
        |because| format!("{head}{days}. {because}"),
    )
}

/// From this share of the demand on, what is met rounds to all of it.
const NEARLY_ALL: f64 = 0.995;

/// "Its plants required 50 mm and got 80 % of it", and ", stress on 3 days".
fn head(found: &Why, units: UnitSystem) -> (String, String) {
    let met = if found.demand > Millimetres::ZERO { found.taken.mm() / found.demand.mm() } else { 1.0 };
    let head = format!(
        "Its plants required {} and got {} of it",
        depth(units, found.demand),
        // "100 %" beside days of stress would contradict itself.
        if found.short_days > 0 && met > NEARLY_ALL {
            "almost all".to_owned()
        } else {
            share(Share::from_fraction(met))
        }
    );
    let days = match found.short_days {
        0 => String::new(),
        1 => ", with stress on one day".to_owned(),
        days => format!(", with stress on {days} days"),
    };
    (head, days)
}

fn cause_words(cause: &str) -> &'static str {
    match cause {
        "rain_delay" => "a rain delay",
        "off_season" => "the off-season",
        "omitted_date" => "dates that are left out",
        "rain" => "rain",
        "frost" => "frost",
        "wind" => "wind",
        "wet_soil" => "a probe in wet soil",
        _ => "a sensor",
    }
}

/// A reason as a sentence.
pub(crate) fn reason(reason: &Reason, found: &Why, units: UnitSystem) -> String {
    match reason {
        Reason::NothingSet => "Nothing was set to run on it.".into(),
        Reason::SetTooLittle(gap) => format!(
            "What was set to run is {} less than it needed beside the {} of rain that went in: runs were too short or too few.",
            depth(units, *gap),
            depth(units, found.rain)
        ),
        Reason::SetTooMuch(over) => {
            format!("What was set is {} more than it required.", depth(units, *over))
        }
        Reason::Held(HeldFor { cause, runs, net }) => format!(
            "{runs} {} skipped because of {}: {} less.",
            if *runs == 1 { "run was" } else { "runs were" },
            cause_words(cause),
            depth(units, *net)
        ),
        Reason::RanOff(mm) => format!(
            "{} of the watering ran off: cycles are longer than the soil takes in.",
            depth(units, *mm)
        ),
        Reason::Drained(mm) => format!("{} of the watering drained below the roots.", depth(units, *mm)),
        Reason::RainDrained(mm) => {
            format!("{} of rain was more than the root zone can store.", depth(units, *mm))
        }
    }
}

pub(crate) fn sums(found: &Why, units: UnitSystem) -> Vec<(&'static str, String)> {
    let mut out = vec![
        ("Required by the plants", depth(units, found.demand)),
        ("Received", depth(units, found.taken)),
        ("Rain that went in", depth(units, found.rain)),
        ("Watered", depth(units, found.applied)),
        ("Stress days", found.short_days.to_string()),
    ];
    if let Some((date, missing, refill)) = found.driest {
        out.push((
            "Driest",
            format!(
                "{}: deficit {}, refill at {}",
                short_date(date),
                depth(units, missing),
                depth(units, refill)
            ),
        ));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_of_stress_and_all_of_the_water_do_not_stand_together() {
        let mm = Millimetres::from_mm;
        let found = |taken, short_days| Why {
            from: jiff::civil::date(2026, 7, 1),
            to: jiff::civil::date(2026, 7, 14),
            demand: mm(60.0),
            taken: mm(taken),
            rain: mm(0.0),
            applied: mm(60.0),
            short_days,
            driest: None,
            held: Vec::new(),
            reasons: Vec::new(),
        };
        let said = |taken, days| met(&found(taken, days), UnitSystem::Metric);
        assert_eq!(
            said(59.9, 2),
            "Its plants required 60.0 mm and got almost all of it, with stress on 2 days."
        );
        assert_eq!(said(60.0, 0), "Its plants required 60.0 mm and got 100 % of it.");
        assert_eq!(said(45.0, 9), "Its plants required 60.0 mm and got 75 % of it, with stress on 9 days.");
    }
}

//! A night of a controller in one sentence: what the controller will do, and what is wrong with it.

use crate::page::dates::DateFormat;
use crate::page::quantities::{in_words, in_words_capital};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use upland_core::advice::tonight::{ControllerKnown, Tonight, Verdict};

/// "02:00 to 05:10", of the first start and the last end.
fn span(first: Timestamp, last: Timestamp, tz: &TimeZone) -> String {
    let clock = |at: Timestamp| at.to_zoned(tz.clone()).formatted("%H:%M");
    format!("{} to {}", clock(first), clock(last))
}

/// "all four zones", "three of seven zones", "the zone".
fn of_all(some: usize, all: usize) -> String {
    match (some, all) {
        (1, 1) => "the zone".to_owned(),
        (a, b) if a == b => format!("all {} zones", in_words(b)),
        (a, b) => format!("{} of {} zones", in_words(a), in_words(b)),
    }
}

/// The sentence.
pub(crate) fn headline(tonight: &Tonight, tz: &TimeZone) -> String {
    if tonight.zones.is_empty() {
        return "No zones yet.".to_owned();
    }
    match tonight.known {
        ControllerKnown::Settings => format!("{}{}.", will(tonight, tz), wrong(tonight)),
        ControllerKnown::Unknown => format!("What the controller is set to is not known. {}", needs(tonight)),
        ControllerKnown::ComputesItself => {
            format!("The controller computes its own run times. {}", needs(tonight))
        }
    }
}

/// What the controller will do.
fn will(tonight: &Tonight, tz: &TimeZone) -> String {
    let runs = || tonight.runs.iter().filter(|r| !r.is_held());
    let (first, last) = (runs().map(|r| r.run.start).min(), runs().map(|r| r.until).max());
    let running = tonight.will_run().count();
    match (first, last) {
        (Some(first), Some(last)) if running > 0 => {
            format!(
                "The controller will run {}, {}",
                of_all(running, tonight.zones.len()),
                span(first, last, tz)
            )
        }
        (Some(first), Some(last)) => {
            format!("The controller will run stations without a zone, {}", span(first, last, tz))
        }
        _ if !tonight.runs.is_empty() => {
            "Watering is prevented tonight; the controller will run nothing".to_owned()
        }
        _ => "The controller will run nothing tonight".to_owned(),
    }
}

/// What is wrong with that, the gravest first; or that it is right.
fn wrong(tonight: &Tonight) -> String {
    let count = |verdict| tonight.of_verdict(verdict).count();
    let held = tonight.of_verdict(Verdict::Held).filter(|z| z.due && z.night.barred.is_none()).count();
    // Due on a night in which an ordinance, frost or the controller's own settings let nothing run.
    let waiting = tonight.zones.iter().filter(|z| z.due && z.night.barred.is_some()).count();
    let say = |n: usize, one: &str, several: &str| match n {
        0 => None,
        1 => Some(format!("one {one}")),
        n => Some(format!("{} {several}", in_words(n))),
    };
    let parts: Vec<String> = [
        say(count(Verdict::Forbidden), "is forbidden", "are forbidden"),
        say(
            count(Verdict::NothingReaches),
            "is due and nothing reaches it",
            "are due and nothing reaches them",
        ),
        say(count(Verdict::TooLittle), "gets too little", "get too little"),
        say(held, "is due and prevented", "are due and prevented"),
        say(count(Verdict::TooMuch), "gets too much", "get too much"),
        say(count(Verdict::RunsOff), "loses water to runoff", "lose water to runoff"),
        say(count(Verdict::NotNeeded), "needs none", "need none"),
    ]
    .into_iter()
    .flatten()
    .collect();
    match (parts.is_empty(), tonight.will_run().count()) {
        (true, _) if waiting > 0 => {
            format!(": {}", say(waiting, "is due and waits", "are due and wait").unwrap_or_default())
        }
        (true, 0) => ": nothing is due".to_owned(),
        (true, _) if tonight.zones.iter().any(|z| z.due) => ": no change needed".to_owned(),
        (true, _) => ": no zone is due yet, and the runs refill what is missing".to_owned(),
        (false, _) => format!(": {}", parts.join(", ")),
    }
}

/// What the zones need, where nothing is known of the controller.
fn needs(tonight: &Tonight) -> String {
    let running = tonight.running().count();
    let all = tonight.zones.len();
    match (&tonight.night.first_start, tonight.night.last_end()) {
        (Some(first), Some(end)) => {
            let zones = if running == all && all > 1 {
                format!("All {} zones need", in_words(all))
            } else if all == 1 {
                "The zone needs".to_owned()
            } else {
                let verb = if running == 1 { "needs" } else { "need" };
                format!("{} of {} zones {verb}", in_words_capital(running), in_words(all))
            };
            format!("{zones} water tonight, {} to {}.", first.formatted("%H:%M"), end.formatted("%H:%M"))
        }
        _ => "No zone needs water tonight.".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::account::nights::Barred;
    use upland_core::site::UnitSystem;

    #[test]
    fn the_headline_says_what_the_controller_will_do_and_what_is_wrong_with_it() {
        let tz = TimeZone::get("Etc/GMT+1").unwrap();
        let told = fixture::told(UnitSystem::Metric).night;
        let text = headline(&told, &tz);
        assert!(
            text.starts_with("The controller will run all four zones, 02:00 to ") && text.contains(": "),
            "{text}"
        );
        let unknown = fixture::decided(UnitSystem::Metric).night;
        let text = headline(&unknown, &tz);
        assert!(
            text.starts_with("What the controller is set to is not known. ")
                && text.contains("water tonight"),
            "{text}"
        );
        let none = Tonight { zones: Vec::new(), ..unknown.clone() };
        assert_eq!(headline(&none, &tz), "No zones yet.");
        let itself = Tonight { known: ControllerKnown::ComputesItself, ..unknown };
        assert!(headline(&itself, &tz).starts_with("The controller computes its own run times."));
    }

    #[test]
    fn nothing_that_runs_and_nothing_that_is_due_is_said_so() {
        let tz = TimeZone::UTC;
        let mut told = fixture::told(UnitSystem::Metric).night;
        told.runs.clear();
        for zone in &mut told.zones {
            (zone.will, zone.verdict) = (None, Some(Verdict::Right));
        }
        told.zones.iter_mut().for_each(|zone| zone.due = false);
        assert_eq!(headline(&told, &tz), "The controller will run nothing tonight: nothing is due.");
        if let Some(zone) = told.zones.first_mut() {
            (zone.due, zone.night.barred) = (true, Some(Barred::Shut));
        }
        assert_eq!(headline(&told, &tz), "The controller will run nothing tonight: one is due and waits.");
        if let Some(zone) = told.zones.first_mut() {
            zone.verdict = Some(Verdict::NothingReaches);
        }
        assert_eq!(
            headline(&told, &tz),
            "The controller will run nothing tonight: one is due and nothing reaches it."
        );
    }
}

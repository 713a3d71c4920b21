//! How a weather service stands, in words.

use crate::page::dates::DateFormat;
use crate::page::quantities::span;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use upland_store::scope::SiteKey;
use upland_store::weather::{Answer, Service, SourceRecord};
use upland_store::{Snapshot, StoreError};

/// A service with the source that it is, and its last answers.
pub(crate) type Known = (SourceRecord, Service, Vec<Answer>);

/// The services of a site.
pub(crate) fn services_of(snapshot: &mut Snapshot<'_>, site: SiteKey) -> Result<Vec<Known>, StoreError> {
    let (services, sources) = (snapshot.services(site)?, snapshot.sources(site)?);
    let mut known = Vec::new();
    for service in services {
        if let Some(source) = sources.iter().find(|s| s.id == service.source_id) {
            let answers = snapshot.answers(service.source_id)?;
            known.push((source.clone(), service, answers));
        }
    }
    Ok(known)
}

/// What stands at an answer whose columns nobody confirmed.
pub(crate) const ASKS: &str = "what its columns contain must be said once";
/// Silence is told after so many intervals, and not before so many hours.
const SILENT: (i64, i64) = (3, 3);
/// Where it tells whole days, the next is a day away, and comes some hours after its end.
const SILENT_BY_DAY: (i64, i64) = (24, 12);

/// How a service stands, as one reads it.
pub(crate) struct Standing {
    pub source_id: i64,
    pub words: String,
    /// Somebody must look.
    pub grave: bool,
    /// Whose columns must be said: of what is forecast, or of what was measured.
    pub asks: Option<bool>,
}

/// How long a service has been silent, if it has: since when it knows nothing, or never knew.
fn silent(
    service: &Service,
    answers: &[Answer],
    foretold: bool,
    now: Timestamp,
) -> Option<Option<Timestamp>> {
    let address = if foretold { &service.settings.foretold } else { &service.settings.measured };
    if address.is_empty() || service.settings.stopped {
        return None;
    }
    let of_kind = || answers.iter().filter(|a| a.foretold == foretold);
    // A forecast is as new as it was asked for, unless all that it foretells has passed.
    let knows = |a: &Answer| a.until.map(|until| if foretold { until.min(a.asked_at) } else { until });
    let known = of_kind().filter_map(|a| Some((knows(a)?, a.by_day && !foretold))).max();
    let (first, least) = match known {
        Some((_, true)) => SILENT_BY_DAY,
        _ => (0, SILENT.1),
    };
    let patience = SignedDuration::from_mins(i64::from(service.settings.every_min) * SILENT.0)
        .max(SignedDuration::from_hours(least))
        + SignedDuration::from_hours(first);
    match known.map(|(at, _)| at) {
        Some(known) if known + patience < now => Some(Some(known)),
        None if of_kind().next().is_some() => Some(None),
        _ => None,
    }
}

impl Standing {
    pub fn of(
        source: &SourceRecord,
        service: &Service,
        answers: &[Answer],
        now: Timestamp,
        tz: &TimeZone,
    ) -> Self {
        let at = |at: Timestamp| at.to_zoned(tz.clone()).formatted("%a %-d %b %H:%M");
        let last = |foretold: bool| answers.iter().find(|a| a.foretold == foretold);
        let good = |foretold: bool| answers.iter().find(|a| a.foretold == foretold && a.fault.is_empty());
        let mut parts: Vec<String> = Vec::new();
        let mut grave = false;
        for (foretold, address) in [(false, &service.settings.measured), (true, &service.settings.foretold)] {
            if address.is_empty() {
                continue;
            }
            if let Some(until) = good(foretold).and_then(|a| a.until) {
                let what = if foretold { "Foretells until" } else { "Measured until" };
                parts.push(format!("{what} {}.", at(until)));
            }
            if let Some(since) = silent(service, answers, foretold, now) {
                let what = if foretold { "forecast" } else { "measurements" };
                grave = true;
                parts.push(match since {
                    Some(since) => format!("Silent: no newer {what} since {}.", at(since)),
                    None => format!("No {what} came yet."),
                });
            }
            if let Some(bad) = last(foretold).filter(|a| !a.fault.is_empty()) {
                grave |= bad.fault == ASKS;
                parts.push(format!("At {}: {}.", at(bad.asked_at), bad.fault));
            }
        }
        let every = span(f64::from(service.settings.every_min));
        parts.push(match (service.settings.stopped, answers.is_empty()) {
            (true, _) => "It is not asked any more.".to_owned(),
            (false, true) => format!("Not asked yet; it is asked every {every}."),
            (false, false) => format!("Asked every {every}."),
        });
        let asks = [false, true].into_iter().find(|f| last(*f).is_some_and(|a| a.fault == ASKS));
        Self { source_id: source.id, words: parts.join(" "), grave, asks }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_store::weather::ServiceSettings;

    const NOW: &str = "2026-07-14T12:00:00Z";

    fn now() -> Timestamp {
        NOW.parse().unwrap()
    }

    /// An instant some hours before now, or after it.
    fn ago(hours: i64) -> Timestamp {
        now() - SignedDuration::from_hours(hours)
    }

    fn service(every_min: i32, measured: bool, foretold: bool) -> Service {
        let address = |there: bool| if there { "https://fell.example/x".to_owned() } else { String::new() };
        let settings = ServiceSettings {
            measured: address(measured),
            foretold: address(foretold),
            every_min,
            stopped: false,
        };
        Service { source_id: 2, settings, version: 1, saved_by: "Bram".into() }
    }

    fn good(foretold: bool, asked: i64, until: i64) -> Answer {
        Answer {
            foretold,
            asked_at: ago(asked),
            took: SignedDuration::from_millis(120),
            bytes: 900,
            held: 24,
            changed: 1,
            until: Some(ago(until)),
            by_day: false,
            fault: String::new(),
        }
    }

    fn by_day(asked: i64, until: i64) -> Answer {
        Answer { by_day: true, ..good(false, asked, until) }
    }

    fn bad(foretold: bool, asked: i64, fault: &str) -> Answer {
        Answer { until: None, held: 0, changed: 0, fault: fault.into(), ..good(foretold, asked, 0) }
    }

    fn standing(service: &Service, answers: &[Answer]) -> Standing {
        let source = SourceRecord {
            id: 2,
            kind: upland_core::weather::record::SourceKind::Station,
            name: "Fell".into(),
            place: None,
            saved_by: "Bram".into(),
            saved_at: Timestamp::UNIX_EPOCH,
        };
        Standing::of(&source, service, answers, now(), &TimeZone::UTC)
    }

    fn is_grave(service: &Service, answers: &[Answer]) -> bool {
        standing(service, answers).grave
    }

    #[test]
    fn a_service_that_tells_is_well_and_says_until_when_it_knows() {
        let both = service(60, true, true);
        let told = standing(&both, &[good(true, 0, -48), good(false, 0, 1)]);
        assert_eq!(
            told.words,
            "Measured until Tue 14 Jul 11:00. Foretells until Thu 16 Jul 12:00. Asked every 1 h."
        );
        assert!(!told.grave && told.asks.is_none());
        assert_eq!(standing(&both, &[]).words, "Not asked yet; it is asked every 1 h.");
        assert!(!is_grave(&both, &[]), "nobody asked it yet");
    }

    #[test]
    fn silence_is_told_after_three_intervals_and_not_before_three_hours() {
        for (every, hours) in [(10, 3), (60, 3), (120, 6), (1440, 72)] {
            let own = service(every, true, false);
            assert!(!is_grave(&own, &[good(false, 0, hours)]), "every {every} min, {hours} h ago");
            assert!(is_grave(&own, &[good(false, 0, hours + 1)]), "every {every} min, {} h ago", hours + 1);
        }
        let told =
            standing(&service(60, true, false), &[bad(false, 1, "it did not answer"), good(false, 6, 7)]);
        assert_eq!(
            told.words,
            "Measured until Tue 14 Jul 05:00. Silent: no newer measurements since Tue 14 Jul 05:00. \
             At Tue 14 Jul 11:00: it did not answer. Asked every 1 h."
        );
    }

    #[test]
    fn a_service_of_whole_days_is_not_silent_while_the_next_day_is_not_over() {
        // Yesterday was told, the clock is at noon: the row of today comes after midnight.
        let hourly = service(60, true, false);
        for (until, grave) in [(12, false), (24, false), (36, false), (37, true)] {
            assert_eq!(is_grave(&hourly, &[by_day(0, until)]), grave, "{until} h");
        }
        let daily = service(1440, true, false);
        assert!(!is_grave(&daily, &[by_day(0, 96)]) && is_grave(&daily, &[by_day(0, 97)]));
    }

    #[test]
    fn a_forecast_is_as_new_as_its_answer_until_all_of_it_has_passed() {
        let own = service(60, false, true);
        assert!(!is_grave(&own, &[good(true, 2, -100)]));
        assert!(is_grave(&own, &[good(true, 4, -100)]), "nobody heard of it since");
        assert!(is_grave(&own, &[good(true, 0, 5)]), "it repeats what has passed");
        assert!(
            !is_grave(&own, &[good(false, 0, 50), good(true, 0, -5)]),
            "it is not asked what was measured"
        );
    }

    #[test]
    fn what_never_came_and_what_nobody_confirmed_is_told_and_a_stopped_one_is_left_alone() {
        let mut own = service(60, true, false);
        let told = standing(&own, &[bad(false, 0, "it did not answer")]);
        assert!(told.grave && told.words.starts_with("No measurements came yet. At "), "{}", told.words);
        let asks = standing(&own, &[bad(false, 0, ASKS), good(false, 1, 1)]);
        assert_eq!((asks.grave, asks.asks), (true, Some(false)));
        own.settings.stopped = true;
        let stopped = standing(&own, &[good(false, 500, 500)]);
        assert!(!stopped.grave && stopped.words.ends_with("It is not asked any more."), "{}", stopped.words);
    }
}

//! How a weather service stands, in words.

use crate::page::dates::Said;
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
pub(crate) const ASKS: &str = "what its columns hold must be said once";
/// Silence is told after so many intervals, and not before so many hours.
const SILENT: (i64, i64) = (3, 3);

/// How a service stands, as one reads it.
pub(crate) struct Standing {
    pub source_id: i64,
    pub words: String,
    /// Somebody must look.
    pub grave: bool,
    /// Whose columns must be said: of what is foretold, or of what was measured.
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
    let patience = SignedDuration::from_mins(i64::from(service.settings.every_min) * SILENT.0)
        .max(SignedDuration::from_hours(SILENT.1));
    let of_kind = || answers.iter().filter(|a| a.foretold == foretold);
    let good = of_kind().filter(|a| a.fault.is_empty());
    let known = good.filter_map(|a| if foretold { Some(a.asked_at) } else { a.until }).max();
    match known {
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
        (now, tz): (Timestamp, &TimeZone),
    ) -> Self {
        let at = |at: Timestamp| at.to_zoned(tz.clone()).said("%a %-d %b %H:%M");
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

//! A visit with what it comes to: put together once for the facts of the site.

use crate::server::cache::questions;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use crate::site::noted::dated;
use crate::site::snapshot::SiteSnapshot;
use crate::site::visits::{Together, judged_at, together};
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::tuning::{
    Correction, Decision, Outcome, ZoneOutlook, account_at, corrections, decide, outcomes,
};
use upland_store::visits::{EntryRecord, LeverRecord, VisitRecord};

/// A visit, decided.
pub(super) struct Decided {
    pub record: VisitRecord,
    pub entries: Vec<EntryRecord>,
    pub together: Together,
    pub snapshot: Arc<SiteSnapshot>,
    pub decision: Decision,
    pub corrections: Vec<Correction>,
    /// How the prediction of the adjustment before came out, with what was turned.
    pub outcome: Option<(LeverRecord, Vec<Outcome>)>,
    pub levers: Vec<LeverRecord>,
}

questions! {
    facts Visits {} -> Vec<VisitRecord>;
    words OfVisit { visit: i64 } -> Decided;
}

/// The visits of a site, newest first.
pub(super) async fn visits(here: &AtSite) -> Result<Arc<Vec<VisitRecord>>, PageError> {
    let of_site = here.site_key();
    here.more(Visits {}, 10, move |snapshot| snapshot.visits(of_site, 200)).await
}

/// A visit of the site.
pub(super) async fn decided(here: &AtSite, id: i64) -> Result<Arc<Decided>, PageError> {
    let of_site = here.site_key();
    let record = here.read(move |snapshot| snapshot.visit(of_site, id)).await?.ok_or(PageError::NotFound)?;
    let snapshot = here.snapshot(Some(record.on)).await?;
    let kilobytes = 200 + 60 * here.records.zones.len();
    let records = Arc::clone(&here.records);
    here.once(here.about(), OfVisit { visit: id }, kilobytes, move |state| {
        let dated = dated(state, &records)?;
        let entries: Vec<EntryRecord> =
            dated.entries.iter().filter(|e| e.visit_id == record.id).cloned().collect();
        let levers = state.store.read(|snapshot| snapshot.levers(of_site))?;
        let facts = &snapshot.inputs;
        let mut together = together(&entries.iter().collect::<Vec<_>>(), facts);
        together.visit.at = judged_at(&together.visit, record.on, facts);
        let account = account_at(facts, &together.visit);
        let decision = decide(facts, &account, &together.visit);
        let corrections = corrections(facts, &account);
        let before = levers.iter().find(|l| l.visit_id != record.id && l.said_at < together.visit.at);
        let outcome = before.map(|last| {
            // What was forecast with the last adjustment of a visit counts those before it.
            let of_visit = levers.iter().rev().filter(|l| l.visit_id == last.visit_id);
            let words = of_visit.map(|l| l.words.as_str()).collect::<Vec<_>>().join(" ");
            let lever = &LeverRecord { words, ..last.clone() };
            let since = lever.said_at.to_zoned(facts.tz.clone()).date();
            (lever.clone(), outcomes(&foretold(&lever.foretold), &account, since, &together.visit))
        });
        Ok(Decided { record, entries, together, snapshot, decision, corrections, outcome, levers })
    })
    .await
}

/// What is kept of a prediction.
pub(super) fn keep(foretold: &[ZoneOutlook]) -> serde_json::Value {
    use upland_core::codes::Coded;
    let one = |z: &ZoneOutlook| {
        serde_json::json!({
            "controller": z.controller_number, "station": z.station, "looks": z.looks.code(),
            "adequacy": z.adequacy.fraction(), "demand_mm": z.demand.mm(), "applied_mm": z.applied.mm(),
            "lost_mm": z.lost.mm(),
        })
    };
    serde_json::Value::Array(foretold.iter().map(one).collect())
}

/// Reads it back; what cannot be read is left out.
fn foretold(value: &serde_json::Value) -> Vec<ZoneOutlook> {
    use upland_core::codes::Coded;
    use upland_core::quantity::ratio::Share;
    use upland_core::quantity::units::Millimetres;
    let one = |value: &serde_json::Value| {
        let number = |name: &str| value.get(name).and_then(serde_json::Value::as_f64);
        let whole = |name: &str| value.get(name).and_then(serde_json::Value::as_u64);
        let looks = value.get("looks").and_then(serde_json::Value::as_str);
        Some(ZoneOutlook {
            controller_number: u8::try_from(whole("controller")?).ok()?,
            station: u16::try_from(whole("station")?).ok()?,
            demand: Millimetres::from_mm(number("demand_mm")?),
            adequacy: Share::from_fraction(number("adequacy")?),
            applied: Millimetres::from_mm(number("applied_mm")?),
            litres: None,
            lost: Millimetres::from_mm(number("lost_mm")?),
            looks: upland_core::tuning::Looks::from_code(looks?)?,
        })
    };
    value.as_array().into_iter().flatten().filter_map(one).collect()
}

/// The day of the visit that is written now.
pub(super) fn today(here: &AtSite) -> Date {
    here.today()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_prediction_is_read_back_as_it_was_kept() {
        use upland_core::quantity::ratio::Share;
        use upland_core::quantity::units::Millimetres;
        let told = ZoneOutlook {
            controller_number: 2,
            station: 7,
            demand: Millimetres::from_mm(41.5),
            adequacy: Share::from_fraction(0.82),
            applied: Millimetres::from_mm(50.0),
            litres: None,
            lost: Millimetres::from_mm(3.0),
            looks: upland_core::tuning::Looks::Dry,
        };
        assert_eq!(foretold(&keep(&[told])), [told]);
        assert_eq!(foretold(&serde_json::json!([{ "station": 7 }])), []);
    }
}

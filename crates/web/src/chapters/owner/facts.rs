//! What the page of an owner is made of: the site as it is, what was noted at it, and the water that would have been used
//! without the work that was done.

use crate::server::error::PageError;
use crate::server::state::AppState;
use crate::site::snapshot::{Latest, SiteSnapshot};
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::account::period::{Period, period};
use upland_core::account::site_account::EvidencePolicy;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::units::Litres;
use upland_core::trial::{PercentageRule, Schedule, TrialWay, run_mean};
use upland_core::tuning::Sign;
use upland_formats::visit_file::Entry;
use upland_store::StoreError;
use upland_store::owner_links::OwnerBaseline;
use upland_store::photos::{PhotoOf, PhotoRecord};
use upland_store::scope::SiteKey;
use upland_store::settings::SettingsKind;
use upland_store::visits::{EntryRecord, LeverRecord, VisitRecord};

/// How long a fault that was seen waits for the owner, days, where nobody looked at its zone again.
const OPEN_DAYS: i32 = 60;
/// Most visits that are read.
const MOST_VISITS: i64 = 200;

/// What was noted at a site.
pub(super) struct Noted {
    pub visits: Vec<VisitRecord>,
    pub entries: Vec<EntryRecord>,
    pub levers: Vec<LeverRecord>,
    pub photos: Vec<PhotoRecord>,
}

/// A fault that waits for the owner.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Repair {
    /// The zone, by its identity.
    pub zone: i64,
    pub sign: Sign,
    pub seen: Date,
    /// Photographs of the zone that were taken at that visit.
    pub photos: Vec<i64>,
}

/// Signs that somebody must repair; the others are a matter of watering.
const REPAIRS: [Sign; 8] = [
    Sign::NoWater,
    Sign::RunsWhenOff,
    Sign::Broken,
    Sign::Leaning,
    Sign::Blocked,
    Sign::WeakSpray,
    Sign::OtherRunning,
    Sign::Runoff,
];

/// Everything behind the page.
pub(super) struct Facts {
    pub site: Arc<SiteSnapshot>,
    pub noted: Noted,
    /// The days that were asked for, as far as there is an account.
    pub period: Option<Period>,
    /// What would have been used, where that can be told.
    pub baseline: Option<Litres>,
}

fn noted(state: &AppState, site: SiteKey) -> Result<Noted, StoreError> {
    state.store.read(|snapshot| {
        Ok(Noted {
            visits: snapshot.visits(site, MOST_VISITS)?,
            entries: snapshot.visit_entries(site)?,
            levers: snapshot.levers(site)?,
            photos: snapshot.photos(site)?,
        })
    })
}

/// The option that a baseline stands for; `None` where the controllers were never recorded as found.
fn way(
    state: &AppState,
    site: &SiteSnapshot,
    baseline: OwnerBaseline,
) -> Result<Option<TrialWay>, StoreError> {
    Ok(match baseline {
        OwnerBaseline::Fixed => Some(TrialWay {
            name: "fixed".into(),
            percentages: PercentageRule::Left,
            without_sensors: true,
            ..TrialWay::default()
        }),
        OwnerBaseline::AsFound => {
            let mut found = Vec::new();
            for own in &site.records.controllers {
                let id = own.record.id;
                let all = state.store.read(|snapshot| snapshot.settings_history(id))?;
                let as_found = all.into_iter().find(|version| version.kind == SettingsKind::AsFound);
                found.extend(as_found.map(|version| (own.number(), version.settings)));
            }
            let schedule = Schedule::Settings(found.clone());
            (!found.is_empty()).then(|| TrialWay { name: "as-found".into(), schedule, ..TrialWay::default() })
        }
    })
}

impl Facts {
    /// The facts of a site over some days; `None` where the site is gone.
    ///
    /// # Errors
    /// Those of the store.
    pub fn open(
        state: &AppState,
        key: SiteKey,
        asked: Option<DateSpan>,
        baseline: OwnerBaseline,
    ) -> Result<Option<Self>, PageError> {
        let Some(latest) = Latest::open(state, key)? else { return Ok(None) };
        let site = latest.site;
        let (noted, way) = (noted(state, key)?, way(state, &site, baseline)?);
        let span = asked.unwrap_or_else(|| last_days(site.today()));
        let period = period(&site.inputs, &site.account_over(span, EvidencePolicy::Best), span);
        // Where some zone is not set at all, the two would not be about the same water.
        let of_way =
            |way: TrialWay| run_mean(&way, &site.inputs, period.as_ref()?.span, None).ok()?.site.litres;
        let baseline = way.and_then(of_way);
        Ok(Some(Self { site, noted, period, baseline }))
    }

    /// Faults that were seen at a zone and not looked at again without them, the last first.
    pub fn repairs(&self) -> Vec<Repair> {
        repairs(&self.noted, &self.site)
    }
}

/// The thirty days that end with a day.
pub(super) fn last_days(today: Date) -> DateSpan {
    DateSpan::new(today.saturating_sub(jiff::Span::new().days(29)), today)
}

fn repairs(noted: &Noted, site: &SiteSnapshot) -> Vec<Repair> {
    let mut entries: Vec<&EntryRecord> =
        noted.entries.iter().filter(|entry| entry.kind == "zone" && !entry.undone).collect();
    entries.sort_by_key(|entry| std::cmp::Reverse(entry.at));
    let mut out: Vec<Repair> = Vec::new();
    for zone in &site.records.zones {
        let Some(last) = entries.iter().find(|entry| entry.about == zone.id) else { continue };
        let seen = last.at.to_zoned(site.tz.clone()).date();
        if (site.today() - seen).get_days() > OPEN_DAYS {
            continue;
        }
        let Ok(Entry::Zone(what)) = Entry::from_json(&last.kind, last.body.clone(), &site.inputs) else {
            continue;
        };
        let of_visit = |photo: &&PhotoRecord| {
            photo.of == PhotoOf::Zone(zone.id) && photo.visit_id == Some(last.visit_id)
        };
        let photos: Vec<i64> = noted.photos.iter().filter(of_visit).map(|photo| photo.id).collect();
        let signs = what.signs.into_iter().filter(|sign| REPAIRS.contains(sign));
        out.extend(signs.map(|sign| Repair { zone: zone.id, sign, seen, photos: photos.clone() }));
    }
    out.sort_by_key(|repair| std::cmp::Reverse(repair.seen));
    out
}

//! A site at a moment: its records, everything that its account follows from, and the account. Every chapter, list,
//! job, command and interface that asks about a site asks here.

use crate::server::cache::{About, Key, questions};
use crate::server::error::PageError;
use crate::server::state::AppState;
use crate::site::clock::Moment;
use crate::site::noted::{Dated, dated, keyed_in, log};
use crate::site::records::{SiteController, SiteRecords};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};
use upland_core::account::running::{ControllerFacts, ControllerRun};
use upland_core::account::sensed::{AsRead, as_read};
use upland_core::account::site_account::{
    AccountInputs, EvidencePolicy, SiteAccount, begins, end_of, of_site,
};
use upland_core::advice::tonight::{Tonight, account_of, night_runs, tonight};
use upland_core::quantity::span::DateSpan;
use upland_core::sensors::Reading;
use upland_core::sensors::state::ByChannel;
use upland_core::site::UnitSystem;
use upland_core::weather::climate::Climate;
use upland_store::StoreError;
use upland_store::accounts::SiteStamp;
use upland_store::scope::SiteKey;
use upland_store::settings::{SettingsKind, SettingsRecord};

/// A site at a moment.
pub(crate) struct SiteSnapshot {
    pub records: Arc<SiteRecords>,
    /// Everything that an account of the site follows from.
    pub inputs: AccountInputs,
    /// The day and the instant that the pages are about.
    pub moment: Moment,
    pub climate: Arc<Climate>,
    pub tz: TimeZone,
    /// What the sensors read lately.
    pub(super) heard: Arc<Heard>,
    /// What sensors would have read of the site's record.
    pub(super) record: AsRead,
    account: OnceLock<SiteAccount>,
}

/// What the sensors of a site read lately, by sensor.
#[derive(Default)]
pub(super) struct Heard(pub BTreeMap<i64, ByChannel>);

questions! {
    /// What the sensors of a site read until an instant.
    facts ReadUntil { site: SiteKey, readings: i64, sensors: Vec<i64>, at: Timestamp } -> Heard;
}

/// So many readings fill a kilobyte.
const READINGS_A_KB: usize = 1024 / size_of::<Reading>();

/// Readings until an instant; asked once for a revision of the readings and a minute.
fn heard(
    state: &AppState,
    records: &SiteRecords,
    stamp: SiteStamp,
    at: Timestamp,
) -> Result<Arc<Heard>, StoreError> {
    if stamp.readings == 0 || records.sensors.is_empty() {
        return Ok(Arc::default());
    }
    let ids: Vec<i64> = records.sensors.iter().map(|s| s.id).collect();
    let question = ReadUntil { site: stamp.id, readings: stamp.readings, sensors: ids.clone(), at };
    let key = Key::of_facts(About::Itself, question);
    let size = |heard: &Heard| {
        let readings = heard.0.values().flat_map(BTreeMap::values).map(|r| r.as_slice().len());
        readings.sum::<usize>() / READINGS_A_KB
    };
    state.cache.once(key, size, || Ok(Heard(state.store.read(|snapshot| snapshot.readings(&ids, at))?)))
}

impl SiteSnapshot {
    /// A site at a moment, with what its sensors read until then.
    pub fn build(
        state: &AppState,
        records: Arc<SiteRecords>,
        stamp: SiteStamp,
        moment: Moment,
    ) -> Result<Self, StoreError> {
        let heard = heard(state, &records, stamp, moment.at)?;
        let dated = dated(state, &records)?;
        Ok(Self::of(records, heard, &dated, moment))
    }

    /// Takes about so many kilobytes, without the records, the climate and what was heard, which others hold too: the
    /// account, the hours of the record as sensors would have read it, and the readings that holds and meters follow from.
    pub fn kilobytes(&self) -> usize {
        let sensors = self.inputs.controllers.iter().flat_map(|own| &own.sensors);
        let kept = sensors.map(|own| own.probe.as_slice().len() + 2 * own.holds.len() + 2 * own.et0.len());
        let flow = self.inputs.log.flow.values().map(|own| own.as_slice().len());
        let record = if self.records.sensors.is_empty() { 0 } else { 200 };
        60 + 160 * self.records.zones.len()
            + record
            + (kept.sum::<usize>() + flow.sum::<usize>()) / READINGS_A_KB
    }

    fn of(records: Arc<SiteRecords>, heard: Arc<Heard>, dated: &Dated, moment: Moment) -> Self {
        let tz = records.tz.clone();
        let first = begins(&records.climate, moment.date);
        // Today and Programs ask this of every site; without sensors nobody asks what they would read.
        let record = if records.sensors.is_empty() {
            AsRead::default()
        } else {
            as_read(&records.climate, records.site.site.longitude_deg, first, moment.date, &tz)
        };
        let mut inputs = AccountInputs {
            law: records.law(),
            log: log(&records, dated, moment.at),
            ..AccountInputs::surveyed(
                &records.site.site,
                &tz,
                &records.surveys(),
                Arc::clone(&records.climate),
            )
        };
        for zone in &records.zones {
            inputs.add_earlier(&zone.earlier);
        }
        let climate = Arc::clone(&records.climate);
        let mut snapshot =
            Self { records, inputs, moment, climate, tz, heard, record, account: OnceLock::new() };
        snapshot.inputs.log.flow = snapshot.flows();
        let controllers = snapshot.records.controllers.iter();
        snapshot.inputs.controllers = controllers.map(|own| snapshot.controller_facts(own, dated)).collect();
        snapshot
    }

    /// The soil balance of every zone until the evening that the moment belongs to; computed when it is asked for first.
    pub fn account(&self) -> &SiteAccount {
        self.account
            .get_or_init(|| account_of(&self.inputs, EvidencePolicy::Best, self.moment.date, self.moment.at))
    }

    /// The account over some days: that of the pages where it is the best known and reaches back so far, so that every
    /// answer about the site tells one story.
    pub fn account_over(&self, span: DateSpan, policy: EvidencePolicy) -> Cow<'_, SiteAccount> {
        let first = begins(&self.climate, span.first);
        if policy == EvidencePolicy::Best && first == begins(&self.climate, self.today()) {
            return Cow::Borrowed(self.account());
        }
        let until = end_of(span.last, &self.tz).min(self.account().until);
        Cow::Owned(of_site(&self.inputs, policy, first, until, |_, _| ()))
    }

    /// The night of a controller that begins on the day of the moment.
    pub fn night(&self, number: u8) -> Tonight {
        tonight(&self.inputs, self.account(), number, self.moment.date)
    }

    /// The day that the pages are about.
    pub fn today(&self) -> Date {
        self.moment.date
    }

    /// The instant that the pages are about.
    pub fn at(&self) -> Timestamp {
        self.moment.at
    }

    /// A controller with the versions of its settings and its sensors.
    fn controller_facts(&self, own: &SiteController, dated: &Dated) -> ControllerFacts {
        let current = own.settings.iter();
        let known = dated.versions.get(&own.record.id).filter(|all| !all.is_empty());
        let versions = known.map_or_else(|| current.collect(), |all| all.iter().collect::<Vec<_>>());
        let since = |(place, version): (usize, &SettingsRecord)| match version.kind {
            // What was found on a controller was set before anybody looked.
            SettingsKind::AsFound if place == 0 => Timestamp::MIN,
            _ => version.saved_at,
        };
        let keyed = keyed_in(&dated.ticks, own.record.id);
        // Once somebody ticks what was programmed, a version counts from its tick, and one without a tick is not in
        // the controller yet. Before the first tick a version counts from when it was saved.
        let counts = |(place, version): (usize, &SettingsRecord)| match keyed.keys().next() {
            // What was found was in the controller before anybody ticked it.
            Some(_) if place == 0 && version.kind == SettingsKind::AsFound => Some(Timestamp::MIN),
            Some(first) if version.version >= *first => keyed.get(&version.version).copied(),
            _ => Some(since((place, version))),
        };
        let in_controller =
            versions.iter().enumerate().filter_map(|(k, v)| Some((counts((k, v))?, v.settings.clone())));
        let mut in_controller: Vec<_> = in_controller.collect();
        in_controller.sort_by_key(|(since, _)| *since);
        // A record that ended is read on its last evening. What was saved since is all that is known of the controller.
        if self.moment.record_ended.is_some()
            && let Some((since, _)) = in_controller.first_mut().filter(|(since, _)| *since > self.at())
        {
            *since = Timestamp::MIN;
        }
        ControllerFacts {
            number: own.number(),
            card: own.record.controller.card.clone(),
            versions: in_controller,
            sensors: self.sensor_facts(own.number()),
        }
    }

    /// The sensors on the evening of a day, with what each heard.
    #[cfg(test)]
    pub fn for_tests(records: SiteRecords, heard: BTreeMap<i64, ByChannel>, today: Date) -> Self {
        let at = crate::site::clock::evening(today, &records.tz);
        let moment = Moment { date: today, at, record_ended: None };
        Self::of(Arc::new(records), Arc::new(Heard(heard)), &Dated::default(), moment)
    }

    /// The same with what was noted at zones.
    #[cfg(test)]
    pub fn noted_for_tests(
        records: Arc<SiteRecords>,
        noted: Vec<upland_store::field::ZoneEvent>,
        moment: Moment,
    ) -> Self {
        Self::of(records, Arc::default(), &Dated { noted, ..Dated::default() }, moment)
    }

    pub fn units(&self) -> UnitSystem {
        self.records.site.site.units
    }

    pub fn site_controller(&self, number: u8) -> Option<&SiteController> {
        self.records.controllers.iter().find(|b| b.number() == number)
    }

    /// The runs of a controller in the night that begins on their day, with who holds each; `None` when nobody entered its
    /// settings.
    pub fn tonight(&self, own: &SiteController) -> Option<Vec<ControllerRun>> {
        own.settings.as_ref()?;
        Some(night_runs(&self.inputs, self.inputs.of_controller(own.number())?, self.today()))
    }
}

/// A site as it is now, for work that nobody asked for from a page.
pub(crate) struct Latest {
    pub site: Arc<SiteSnapshot>,
    pub stamp: SiteStamp,
    /// The clock, which is later than the moment where a record ended.
    pub now: Timestamp,
}

impl Latest {
    /// A site at the clock of the application; `None` when it is not there.
    ///
    /// # Errors
    /// Those of the store.
    pub fn open(state: &AppState, site: SiteKey) -> Result<Option<Self>, PageError> {
        let found = state.store.read(|snapshot| Ok((snapshot.stamp(site)?, snapshot.clock_ahead()?)))?;
        let (Some(stamp), ahead) = found else { return Ok(None) };
        let now = crate::server::clock::now(ahead);
        let records = match SiteRecords::load(state, stamp) {
            Err(PageError::NotFound) => return Ok(None),
            read => read?,
        };
        let moment = records.moment(None, now, stamp.last_reading);
        let stamp = SiteStamp { revision: records.site.revision, ..stamp };
        let site = Arc::new(SiteSnapshot::build(state, records, stamp, moment)?);
        Ok(Some(Self { site, stamp, now }))
    }
}

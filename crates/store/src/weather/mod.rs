//! The weather of a site: sources, imports as layers of which none is overwritten, what people said
//! about values, and which source counts.

mod drafts;
mod forecasts;
mod imports;
mod judgements;
mod layer;
mod sensed;
mod services;
mod sources;

pub use drafts::{Draft, DraftState};
pub use imports::{Comparison, Import, Incoming};
pub use judgements::{Choice, OverruleRecord};
pub use sensed::{Followed, Gathered};
pub use services::{Answer, Heard, Service, ServiceSettings};
pub use sources::{SourcePlace, SourceRecord};

use crate::scope::SiteKey;
use crate::{Result, Snapshot};
use jiff::civil::Date;
use std::collections::BTreeMap;
use upland_core::site::Site;
use upland_core::weather::climate::{RainHours, TypedNormals};
use upland_core::weather::forecast::Foretold;
use upland_core::weather::record::{
    self, CombinedRecord, JudgedDay, RawDay, Source, SourceKind, VariableGroup,
};
use upland_core::weather::{DayWeather, Station};

/// Everything known about the weather of a site.
#[derive(Debug, Clone)]
pub struct SiteWeather {
    /// The sources, the site's own first.
    pub sources: Vec<SourceRecord>,
    /// Days of each source, judged, in the order of `sources`.
    pub days: Vec<Vec<JudgedDay>>,
    /// Which source counts, by variable, as it was said; `None` when nobody did.
    pub choice: Option<Choice>,
    /// Typed normals, if there are any.
    pub normals: Option<TypedNormals>,
    /// Hours in which each source recorded rain, in the order of `sources`.
    pub rain_hours: Vec<RainHours>,
    /// What is forecast, in order of date: of each day what the first source foretells that does.
    pub forecast: Vec<Foretold>,
}

impl SiteWeather {
    /// The sources of each group of variables by index, the one that counts first.
    #[must_use]
    pub fn order(&self) -> [Vec<usize>; 5] {
        let ids: Vec<i64> = self.sources.iter().map(|s| s.id).collect();
        record::order(&ids, self.choice.as_ref().map(|c| &c.order))
    }

    /// The hours of rain in a record, each day's from the source that its rain came from.
    #[must_use]
    pub fn rain_hours(&self, record: &CombinedRecord) -> RainHours {
        let rain = VariableGroup::Rain as usize;
        let of_day = |(date, from): (&Date, &[Option<usize>; 5])| {
            let source = from.get(rain).copied().flatten()?;
            Some((*date, self.rain_hours.get(source)?.get(date)?.clone()))
        };
        record.from.iter().filter_map(of_day).collect()
    }

    /// The record that counts, at the site.
    #[must_use]
    pub fn combined(&self, site: &Site) -> CombinedRecord {
        let sources: Vec<Source> = self
            .sources
            .iter()
            .zip(&self.days)
            .map(|(source, days)| Source { station: source.station(site), days })
            .collect();
        record::combine(&sources, &self.order())
    }
}

fn count(value: usize) -> i32 {
    i32::try_from(value).unwrap_or(i32::MAX)
}

impl Snapshot<'_> {
    /// Everything known about the weather of a site, judged.
    ///
    /// # Errors
    /// As any query.
    pub fn site_weather(&mut self, site_id: SiteKey, site: &Site) -> Result<SiteWeather> {
        let connection = &mut *self.connection;
        let sources = sources::of_site(connection, site_id)?;
        let raw = imports::raw_days_of_site(connection, site_id)?;
        let mut overrules = judgements::overrules_of_site(connection, site_id)?;
        let choice = judgements::choice(connection, site_id)?;
        let normals = judgements::normals_of_site(connection, site_id)?;
        let days = sources
            .iter()
            .map(|source| {
                let days: &[RawDay] = raw.get(&source.id).map_or(&[], Vec::as_slice);
                judged(days, &source.station(site), &overrules.remove(&source.id).unwrap_or_default())
            })
            .collect();
        let mut hours = imports::rain_hours(connection, &sources.iter().map(|s| s.id).collect::<Vec<_>>())?;
        let rain_hours = sources.iter().map(|source| hours.remove(&source.id).unwrap_or_default()).collect();
        let forecast = forecasts::of_sources(connection, &sources, site)?;
        Ok(SiteWeather { sources, days, choice, normals, rain_hours, forecast })
    }

    /// The days that count for a site, in order, wind at 2 m.
    ///
    /// # Errors
    /// As any query.
    pub fn weather(&mut self, site_id: SiteKey, site: &Site) -> Result<Vec<DayWeather>> {
        Ok(self.site_weather(site_id, site)?.combined(site).days)
    }
}

fn judged(days: &[RawDay], station: &Station, said: &[OverruleRecord]) -> Vec<JudgedDay> {
    let flags = record::examine(days, station);
    let overrules: Vec<_> = said.iter().filter(|o| !o.undone).map(|o| o.overrule.clone()).collect();
    record::judge(days, &flags, &overrules)
}

/// By source.
type BySource<T> = BTreeMap<i64, Vec<T>>;

/// Whether a source has days of its own.
fn has_days(kind: SourceKind) -> bool {
    kind != SourceKind::Normals
}

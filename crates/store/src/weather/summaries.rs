//! Climates in short, kept for lists over many sites. Each is good for one version of site and
//! weather and may be thrown away.

use crate::schema::site_normals;
use crate::scope::SiteKey;
use crate::{Result, Snapshot, Store, document};
use diesel::prelude::*;
use std::collections::BTreeMap;
use upland_core::weather::climate::ClimateSummary;
use upland_formats::climate_summary;

/// A brief with the versions of weather and site that it is good for.
pub type VersionedSummary = ((i64, i32), ClimateSummary);

impl Snapshot<'_> {
    /// The climates of some sites in short, each with the versions of weather and site that it is
    /// good for.
    ///
    /// # Errors
    /// As any query.
    pub fn climate_summaries(&mut self, sites: &[i64]) -> Result<BTreeMap<i64, VersionedSummary>> {
        let rows: Vec<(i64, i64, i32, serde_json::Value)> =
            site_normals::table.filter(site_normals::site_id.eq_any(sites)).load(self.connection)?;
        rows.into_iter()
            .map(|(id, weather, site, body)| {
                Ok((id, ((weather, site), document("climate in short", climate_summary::from_json(body))?)))
            })
            .collect()
    }
}

impl Store {
    /// Keeps the climate of a site in short.
    ///
    /// # Errors
    /// As any query.
    pub fn keep_brief(
        &self,
        site_id: SiteKey,
        (weather_version, site_version): (i64, i32),
        of: &ClimateSummary,
    ) -> Result<()> {
        let values = (
            site_normals::site_id.eq(site_id),
            site_normals::weather_version.eq(weather_version),
            site_normals::site_version.eq(site_version),
            site_normals::body.eq(climate_summary::to_json(of)),
        );
        diesel::insert_into(site_normals::table)
            .values(values.clone())
            .on_conflict(site_normals::site_id)
            .do_update()
            .set((values.1, values.2, values.3))
            .execute(&mut self.connection()?)?;
        Ok(())
    }
}

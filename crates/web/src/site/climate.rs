//! The climate of a site, computed once for a version of its weather and its survey.

use crate::server::state::AppState;
use std::sync::Arc;
use upland_core::weather::climate::Climate;
use upland_store::StoreError;
use upland_store::sites::SiteRecord;

/// The computed climate of a site.
pub(crate) fn climate(state: &AppState, site: &SiteRecord) -> Result<Arc<Climate>, StoreError> {
    let facts = format!("site {} weather {} survey {}", site.id, site.weather_version, site.version);
    // A recorded day takes about a quarter of a kilobyte.
    state.cache.once(
        facts,
        |climate: &Climate| climate.len() / 4 + 100,
        || {
            let weather = state.store.site_weather(site.id, &site.site)?;
            let days = weather.woven(&site.site).days;
            // Woven wind stands at 2 m, whatever the heights of its sources.
            let station = site.site.station().at_two_metres();
            let climate = Climate::from_record(&days, station).with_typed(weather.normals);
            // Lists over many sites ask the database for this instead of every day of every record.
            state.store.keep_brief(site.id, (site.weather_version, site.version), &climate.brief())?;
            Ok(climate)
        },
    )
}

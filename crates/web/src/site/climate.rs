//! The climate of a site, computed once for a version of its weather and its survey.

use crate::server::cache::{About, Key, questions};
use crate::server::state::AppState;
use std::sync::Arc;
use upland_core::weather::climate::Climate;
use upland_store::sites::SiteRecord;
use upland_store::{Snapshot, StoreError};

questions! {
    /// The climate of a site.
    facts OfSite {} -> Climate;
}

/// Everything that a climate follows from.
fn facts(site: &SiteRecord) -> Key<OfSite> {
    let about = About::Weather { site: site.id, weather: site.weather_version, survey: site.version };
    Key::of_facts(about, OfSite {})
}

/// The computed climate of a site.
pub(crate) fn climate(
    state: &AppState,
    snapshot: &mut Snapshot<'_>,
    site: &SiteRecord,
) -> Result<Arc<Climate>, StoreError> {
    // A recorded day takes about an eighth of a kilobyte.
    state.cache.once(
        facts(site),
        |climate: &Climate| climate.len() / 8 + 60,
        || {
            let weather = snapshot.site_weather(site.id, &site.site)?;
            let record = weather.combined(&site.site);
            // CombinedRecord wind stands at 2 m, whatever the heights of its sources.
            let station = site.site.station().at_two_metres();
            let rain_hours = weather.rain_hours(&record);
            Ok(Climate::from_record(&record.days, station)
                .with_rain_hours(rain_hours)
                .with_typed(weather.normals)
                .with_forecast(&weather.forecast)
                .with_rain_alone(record.rain_alone)
                .with_drizzle(site.site.drizzle))
        },
    )
}

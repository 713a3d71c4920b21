//! A site file, its weather and its log as the facts that an account follows from.

use crate::log_file::LogFile;
use crate::site_file::SiteFile;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::sync::Arc;
use upland_core::account::running::BoxFacts;
use upland_core::account::sensed::{as_read, sensor_facts};
use upland_core::account::whole::{Facts, begins, end_of};
use upland_core::quantity::time::midnight;
use upland_core::weather::climate::Climate;

/// Days ahead that a plan, a night or a finding may ask about.
const AHEAD_DAYS: i32 = 70;

impl SiteFile {
    /// Its facts: its settings count for all days unless the log has versions, its sensors read the
    /// record as they would have hung in it.
    #[must_use]
    pub fn facts(&self, tz: TimeZone, climate: impl Into<Arc<Climate>>, log: LogFile, last: Date) -> Facts {
        let (file, climate) = (self, climate.into());
        let site = &file.site;
        let first = begins(&climate, last);
        let LogFile { log, mut versions, bypasses } = log;
        let read = if file.sensors.is_empty() {
            None
        } else {
            Some(as_read(&climate, site.longitude_deg, (first, last), &tz))
        };
        let ahead = end_of(last.checked_add(AHEAD_DAYS.days()).unwrap_or(last), &tz);
        let boxes = file.controllers.iter().map(|(controller, settings)| {
            let number = controller.number;
            let always = || settings.iter().map(|s| (Timestamp::MIN, s.clone())).collect();
            let own = versions.remove(&number);
            let dated = own.map(|all| all.into_iter().map(|(since, s)| (midnight(since, &tz), s)).collect());
            let own = file.sensors.iter().filter(|s| s.box_number == number);
            let sensors = own.filter_map(|sensor| {
                let read = read.as_ref()?;
                let paused = bypasses.get(&sensor.name).cloned().unwrap_or_default();
                Some(sensor_facts(sensor, &read.channels, &read.drying, paused, (&tz, ahead)))
            });
            BoxFacts {
                number,
                card: controller.card.clone(),
                versions: dated.unwrap_or_else(always),
                sensors: sensors.collect(),
            }
        });
        let boxes = boxes.collect();
        Facts { boxes, law: file.law.clone(), log, ..Facts::surveyed(site, &tz, &file.zones, climate) }
    }
}

//! A site file, its weather and its log as the facts that an account follows from.

use crate::log_file::LogFile;
use crate::site_file::SiteFile;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::sync::Arc;
use upland_core::account::running::ControllerFacts;
use upland_core::account::sensed::{as_read, sensor_facts_since};
use upland_core::account::site_account::{AccountInputs, begins, end_of};
use upland_core::quantity::time::midnight;
use upland_core::weather::climate::Climate;

/// Days ahead that a plan, a night or a finding may ask about.
const AHEAD_DAYS: i32 = 70;

impl SiteFile {
    /// Its facts: its settings count for all days unless the log has versions, its sensors read the
    /// record as they would have been in it.
    #[must_use]
    pub fn facts(
        &self,
        tz: TimeZone,
        climate: impl Into<Arc<Climate>>,
        log: LogFile,
        last: Date,
    ) -> AccountInputs {
        let (file, climate) = (self, climate.into());
        let site = &file.site;
        // From the first day of the record: what a sensor says on a date must not hang on how far somebody asks.
        let first = climate.span().map_or_else(|| begins(&climate, last), |span| span.first.min(last));
        let LogFile { log, mut versions, bypasses } = log;
        let read = if file.sensors.is_empty() {
            None
        } else {
            Some(as_read(&climate, site.longitude_deg, first, last, &tz))
        };
        let ahead = end_of(last.checked_add(AHEAD_DAYS.days()).unwrap_or(last), &tz);
        let controllers = file.controllers.iter().map(|(controller, settings)| {
            let number = controller.number;
            let always = || settings.iter().map(|s| (Timestamp::MIN, s.clone())).collect();
            let own = versions.remove(&number);
            let dated = own.map(|all| all.into_iter().map(|(since, s)| (midnight(since, &tz), s)).collect());
            let own = (0..).zip(&file.sensors).filter(|(_, s)| s.controller_number == number);
            let sensors = own.filter_map(|(place, sensor)| {
                let read = read.as_ref()?;
                let paused = bypasses.get(&sensor.name).cloned().unwrap_or_default();
                let history = file.history(place);
                Some(sensor_facts_since(sensor, &history, &read.channels, &read.drying, paused, &tz, ahead))
            });
            ControllerFacts {
                number,
                card: controller.card.clone(),
                versions: dated.unwrap_or_else(always),
                sensors: sensors.collect(),
            }
        });
        let controllers = controllers.collect();
        let surveyed = AccountInputs::surveyed(site, &tz, &file.zones, climate);
        let mut facts = AccountInputs { controllers, law: file.law.clone(), log, ..surveyed };
        facts.add_earlier(&file.earlier_zones);
        facts
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site_file;
    use jiff::civil::date;
    use upland_core::account::site_account::{EvidencePolicy, SiteAccount, of_site};
    use upland_core::controller::schedule::Settings;
    use upland_core::quantity::time::Seconds;
    use upland_core::quantity::units::{Celsius, Millimetres};
    use upland_core::sensors::{EarlierSensor, Sensor, SensorHistory, generic};
    use upland_core::weather::DayWeather;

    /// A site with a rain sensor on a controller that waters every morning.
    fn site() -> SiteFile {
        let text = include_str!("../../app/src/demo/sites/botanic-slope.json");
        let mut file = site_file::read(text.as_bytes()).unwrap();
        let (_, card) = generic().into_iter().find(|(code, _)| *code == "rain_switch").unwrap();
        file.sensors = vec![Sensor::of_card(card, 1)];
        file.histories = Vec::new();
        let (controller, settings) = &mut file.controllers[0];
        let mut set = Settings::clean(&controller.card);
        set.programs[0].active = true;
        set.programs[0].starts = vec![jiff::civil::time(3, 0, 0, 0)];
        set.set_run_time(0, file.zones[0].number, Seconds::from_min(15));
        *settings = Some(set);
        file
    }

    fn climate(file: &SiteFile) -> Climate {
        let days: Vec<DayWeather> = (0..730)
            .map(|k| {
                let on = date(2025, 1, 1) + jiff::Span::new().days(k);
                let mut day = DayWeather::from_temperatures(on, Celsius::from_c(9.0), Celsius::from_c(21.0));
                day.rain = Some(Millimetres::from_mm(if k % 9 == 0 { 14.0 } else { 0.0 }));
                day
            })
            .collect();
        Climate::from_record(&days, file.site.station())
    }

    fn account(file: &SiteFile, climate: &Climate, asked_to: Date) -> SiteAccount {
        let facts = file.facts(TimeZone::UTC, climate.clone(), LogFile::default(), asked_to);
        let first = begins(&facts.climate, date(2026, 1, 1));
        of_site(&facts, EvidencePolicy::AsSet, first, end_of(asked_to, &facts.tz), |_, _| ())
    }

    fn applied_to_june(account: &SiteAccount) -> f64 {
        let days = account.zones[0].days.iter();
        days.filter(|d| d.date >= date(2026, 1, 1) && d.date <= date(2026, 6, 30))
            .map(|d| d.water.applied.mm())
            .sum()
    }

    #[test]
    fn sentence_6_an_account_to_june_and_to_december_agree_in_june() {
        let file = site();
        let climate = climate(&file);
        let (june, december) =
            (account(&file, &climate, date(2026, 6, 30)), account(&file, &climate, date(2026, 12, 31)));
        assert!(applied_to_june(&june) > 100.0);
        assert!((applied_to_june(&june) - applied_to_june(&december)).abs() < 1e-9);
    }

    #[test]
    fn sentence_6_a_nozzle_changed_today_leaves_the_nights_before_as_they_were() {
        use upland_core::quantity::units::MillimetresPerHour;
        use upland_core::site::EarlierZone;
        let (before, climate) = (site(), climate(&site()));
        let mut changed = before.clone();
        changed.zones[0].precipitation_rate = Some(MillimetresPerHour::from_mm_per_hour(10.0));
        changed.earlier_zones = vec![EarlierZone { until: date(2026, 7, 1), zone: before.zones[0].clone() }];
        let of = |file: &SiteFile| account(file, &climate, date(2026, 9, 30));
        let (was, is) = (of(&before), of(&changed));
        assert!((applied_to_june(&was) - applied_to_june(&is)).abs() < 1e-9, "the past stays");
        let summer = |a: &SiteAccount| {
            let days = a.zones[0].days.iter().filter(|d| d.date >= date(2026, 7, 1));
            days.map(|d| d.water.applied.mm()).sum::<f64>()
        };
        let rate = before.zones[0].resolve(46.0).rate.value.mm_per_hour();
        assert!(
            (summer(&is) / summer(&was) - 10.0 / rate).abs() < 1e-6,
            "what comes after is the new rate's"
        );
        let again = site_file::read(site_file::write(&changed).as_bytes()).unwrap();
        assert_eq!((&again.zones, &again.earlier_zones), (&changed.zones, &changed.earlier_zones));
    }

    #[test]
    fn sentence_6_a_threshold_set_today_leaves_the_nights_before_as_they_were() {
        let climate = climate(&site());
        let mut small = site();
        small.sensors[0].setting.rain_threshold = Millimetres::from_mm(6.0);
        // From July on it holds at 25 mm, and never trips in this record.
        let mut changed = small.clone();
        changed.sensors[0].setting.rain_threshold = Millimetres::from_mm(25.0);
        changed.histories = vec![SensorHistory {
            installed_on: None,
            earlier: vec![EarlierSensor { until: date(2026, 7, 1), sensor: small.sensors[0].clone() }],
        }];
        let of = |file: &SiteFile| account(file, &climate, date(2026, 9, 30));
        let (before, after) = (of(&small), of(&changed));
        assert!((applied_to_june(&before) - applied_to_june(&after)).abs() < 1e-9, "the past stays");
        let total = |a: &SiteAccount| a.zones[0].days.iter().map(|d| d.water.applied.mm()).sum::<f64>();
        assert!(total(&after) > total(&before) + 10.0, "what comes after follows the new setting");
        // The file carries it.
        let again = site_file::read(site_file::write(&changed).as_bytes()).unwrap();
        assert_eq!(again.histories, changed.histories);
        assert!((total(&of(&again)) - total(&after)).abs() < 1e-9);
        // A sensor that was installed in July held nothing before.
        let mut late = small.clone();
        late.histories = vec![SensorHistory { installed_on: Some(date(2026, 7, 1)), earlier: Vec::new() }];
        assert!(applied_to_june(&of(&late)) > applied_to_june(&before) + 10.0);
    }
}

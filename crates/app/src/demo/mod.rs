//! The demo: an invented hill town, four properties, a seeded weather record with late frosts,
//! thunderstorms, a dry July and one gap. Nothing in it stands for a real place or person.

pub mod service;
mod visit;
mod weather;

use super::commands::Failure;
use jiff::civil::{Date, DateTime, date};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use upland_core::quantity::units::Metres;
use upland_core::weather::Station;
use upland_core::weather::record::{RawDay, SourceKind, Variable};
use upland_formats::site_file::{self, SiteFile};
use upland_store::accounts::Role;
use upland_store::scope::{Scope, SiteKey};
use upland_store::sites::time_zone;
use upland_store::weather::{Incoming, SourcePlace};
use upland_store::{Change, Store, StoreError};

/// Password of the demo accounts. They exist only in a database the demo was loaded into, and the
/// server listens on loopback unless told otherwise.
pub const PASSWORD: &str = "larkrigg-demo";

/// The demo accounts: sign-in name, shown name, role.
pub const PEOPLE: [(&str, &str, Role); 3] =
    [("isla", "Isla", Role::Owner), ("bram", "Bram", Role::Technician), ("wren", "Wren", Role::Reader)];

/// Which of the generator's gauges the valley has.
const VALLEY_GAUGE: u64 = 9;
/// The day on which the demo's sensors were installed: a battery is overdue by its evening.
const HUNG: Date = date(2025, 11, 20);
/// The day of the slip.
const SLIP: Date = date(2025, 8, 20);

const SITES: [&str; 4] = [
    include_str!("sites/botanic-slope.json"),
    include_str!("sites/hollin-green.json"),
    include_str!("sites/quarryfoot.json"),
    include_str!("sites/tarnside.json"),
];

fn sites() -> Result<Vec<SiteFile>, Failure> {
    SITES.iter().map(|text| site_file::read(text.as_bytes()).map_err(|p| Failure::problems(&p))).collect()
}

/// The evening on which the demo begins, by the clock of Larkrigg.
const EVENING: DateTime = date(2026, 7, 14).at(20, 0, 0, 0);
/// Hour of the evening at which the record of a day has arrived.
const DAY_IS_IN: SignedDuration = SignedDuration::from_hours(20);
/// Files of the demo's gauges; days that pass bring more of them.
const STATION_FILE: &str = "larkrigg-station.csv";
const VALLEY_FILE: &str = "valley-mast.csv";

fn failed(error: StoreError) -> Failure {
    Failure::Failed(error.to_string())
}

/// Loads the demo into a database without accounts; returns whether it did. The clock is set to the demo's
/// evening and moves with real time from there.
///
/// # Errors
/// When the database refuses.
pub fn load(store: &Store, now: Timestamp) -> Result<bool, Failure> {
    let prepared: Result<Option<()>, StoreError> = store.alone(|store| {
        if store.user_count()? > 0 {
            return Ok(None);
        }
        fill(store, now).map(Some)
    });
    Ok(prepared.map_err(failed)?.is_some())
}

/// What a failure of the demo's own files looks like to the store.
fn own(failure: impl ToString) -> StoreError {
    StoreError::Unknown { what: "demo file", value: failure.to_string() }
}

fn fill(store: &Store, now: Timestamp) -> Result<(), StoreError> {
    let files = sites().map_err(|_| own("a site"))?;
    let first = files.first().ok_or_else(|| own("no site"))?;
    let tz = time_zone(&first.site.time_zone)?;
    let evening = EVENING.to_zoned(tz).map_err(own)?.timestamp();
    store.set_clock(evening.duration_since(now))?;
    let hash = upland_web::hash_password(PASSWORD).map_err(own)?;
    let mut user_id = 0;
    for (login, name, role) in PEOPLE {
        if let Some(user) = store.create_user(login, name, &hash, role, None)?
            && role == Role::Technician
        {
            user_id = user.id;
        }
    }
    for (index, file) in (0..).zip(files) {
        let id = store.create_site(&file, EVENING.date(), user_id)?;
        store.change(user_id, id, |change| {
            for sensor in change.sensors(id)? {
                change.set_sensor_installed(sensor.id, HUNG)?;
            }
            if index == visit::SITE {
                visit::enter(change, id, evening)?;
            }
            Ok(())
        })?;
        let own_source = store.change(user_id, id, |change| change.own_source())?.unwrap_or(0);
        let days = town(index, &file.site.station(), EVENING.date());
        bring(store, (user_id, id, own_source), STATION_FILE, &days)?;
        if index == 0 {
            let (place, days) = valley(&file.site.station(), EVENING.date());
            let make = |change: &mut Change<'_>| {
                change.create_source(SourceKind::Station, "Valley mast", Some(place))
            };
            let mast = store.change(user_id, id, make)?.unwrap_or(0);
            bring(store, (user_id, id, mast), VALLEY_FILE, &days)?;
        }
    }
    Ok(())
}

/// Takes days into the record of a source: who brings them, for which site, to which source.
fn bring(store: &Store, to: (i64, SiteKey, i64), file_name: &str, days: &[RawDay]) -> Result<(), StoreError> {
    let incoming = Incoming { to, file_name, draft: 0, days, hours: &[] };
    store.import_weather(incoming, |_| Ok(())).map(|_| ())
}

/// The record of a site's own gauge until a day.
fn town(index: u64, station: &Station, last: Date) -> Vec<RawDay> {
    weather::record(index, station, last).iter().map(RawDay::from).collect()
}

/// Brings the weather of the days that passed on the demo's clock until an instant: a day's record has come by
/// its evening. Sites and sources that are not the demo's stay as they are.
///
/// # Errors
/// When the database refuses.
pub fn bring_days(store: &Store, now: Timestamp) -> Result<(), StoreError> {
    store.alone(|store| {
        let mut gauges = 0;
        let sites: BTreeMap<SiteKey, _> = store
            .read(|snapshot| snapshot.sites(&Scope::program()))?
            .into_iter()
            .map(|s| (s.id, s))
            .collect();
        for (id, record) in sites {
            let imports = store.read(|snapshot| snapshot.imports(id))?;
            let of = |file: &str| imports.iter().rfind(|i| i.file_name == file && !i.undone);
            let Some(first) = of(STATION_FILE) else { continue };
            let index = gauges;
            gauges += 1;
            let tz = time_zone(&record.site.time_zone)?;
            let last = (now - DAY_IS_IN).to_zoned(tz).date();
            let known = imports.iter().filter(|i| i.file_name == STATION_FILE).map(|i| i.last_date).max();
            if known.is_none_or(|known| known >= last) {
                continue;
            }
            let station = record.site.station();
            let mast = of(VALLEY_FILE).map(|i| i.source_id);
            let (source, by) = (first.source_id, first.imported_by_id);
            bring(store, (by, id, source), STATION_FILE, &town(index, &station, last))?;
            if let Some(mast) = mast {
                bring(store, (by, id, mast), VALLEY_FILE, &valley(&station, last).1)?;
            }
        }
        Ok(())
    })
}

/// A mast in the valley below the first site: warmer, drier, and with one day on which Fahrenheit
/// slipped in.
fn valley(site: &Station, last: Date) -> (SourcePlace, Vec<RawDay>) {
    let place = SourcePlace {
        latitude_deg: site.latitude_deg - 0.04,
        longitude_deg: site.longitude_deg + 0.03,
        elevation: Metres::from_m(site.elevation.m() - 290.0),
        wind_height: Metres::from_m(10.0),
    };
    let days = weather::record(VALLEY_GAUGE, site, last)
        .iter()
        .map(RawDay::from)
        .map(|day| {
            let round = |v: f64| (v * 10.0).round() / 10.0;
            let mut moved = day;
            for (variable, change) in [(Variable::TemperatureMin, 1.2), (Variable::TemperatureMax, 2.1)] {
                moved.set(variable, day.get(variable).map(|v| round(v + change)));
            }
            moved.set(Variable::Wind, day.get(Variable::Wind).map(|v| round(v * 1.4)));
            moved.set(Variable::Rain, day.get(Variable::Rain).map(|v| round(v * 0.85)));
            if day.date == SLIP {
                moved.set(
                    Variable::TemperatureMax,
                    moved.get(Variable::TemperatureMax).map(|c| round(c * 1.8 + 32.0)),
                );
            }
            moved
        })
        .collect();
    (place, days)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_longer_record_begins_as_a_shorter_one() {
        let station = sites().unwrap().remove(0).site.station();
        let (short, long) = (town(0, &station, EVENING.date()), town(0, &station, date(2026, 8, 3)));
        assert_eq!(long[..short.len()], short[..]);
        assert_eq!(long.len(), short.len() + 20);
    }
    use upland_core::weather::quality::{FlagSeverity, check_day};

    #[test]
    fn every_demo_site_is_valid_and_its_weather_passes_the_checks() {
        for (index, file) in (0..).zip(sites().unwrap()) {
            assert!(file.zones.len() >= 5);
            let station = file.site.station();
            let days = weather::record(index, &station, EVENING.date());
            assert!(days.len() > 900);
            for day in &days {
                let faults: Vec<_> = check_day(day, &station)
                    .into_iter()
                    .filter(|f| f.severity == FlagSeverity::Fault)
                    .collect();
                assert_eq!(faults, [], "{day:?}");
            }
        }
    }

    #[test]
    fn the_demo_record_has_its_gap_frosts_and_dry_july() {
        let days = weather::record(0, &sites().unwrap().remove(0).site.station(), EVENING.date());
        assert!(!days.iter().any(|d| d.date == jiff::civil::date(2025, 6, 6)));
        assert!(days.iter().any(|d| d.date.month() == 5 && d.temperature_min.c() < 0.0));
        let july: f64 = days
            .iter()
            .filter(|d| (d.date.year(), d.date.month()) == (2026, 7))
            .filter_map(|d| d.rain)
            .map(|r| r.mm())
            .sum();
        assert!(july < 40.0, "{july}");
    }

    #[test]
    fn the_rain_is_that_of_an_upland_and_no_two_storms_are_alike() {
        let station = sites().unwrap().remove(0).site.station();
        let days = weather::record(0, &station, EVENING.date());
        let rain: Vec<(Date, f64)> = days.iter().filter_map(|d| Some((d.date, d.rain?.mm()))).collect();
        let years = rain.len() as f64 / 365.25;
        let yearly = rain.iter().map(|(_, mm)| mm).sum::<f64>() / years;
        assert!((550.0..1100.0).contains(&yearly), "{yearly} mm a year");
        let wet = rain.iter().filter(|(_, mm)| *mm >= 0.2).count() as f64 / years;
        assert!((90.0..180.0).contains(&wet), "{wet} wet days a year");
        let drizzle = rain.iter().filter(|(_, mm)| (0.2..3.0).contains(mm)).count() as f64 / years;
        assert!(drizzle > 0.4 * wet, "most wet days bring little: {drizzle} of {wet}");
        for pair in rain.windows(2) {
            assert!(pair[0].1 + pair[1].1 < 60.0, "two days on end: {pair:?}");
        }
        for month in 1..=12 {
            let mut sums: BTreeMap<i16, f64> = BTreeMap::new();
            for (date, mm) in rain.iter().filter(|(date, _)| date.month() == month) {
                *sums.entry(date.year()).or_default() += mm;
            }
            assert!(sums.values().all(|mm| *mm < 170.0), "month {month}: {sums:?}");
        }
        let mut large: Vec<i64> =
            rain.iter().filter(|(_, mm)| *mm > 15.0).map(|(_, mm)| (mm * 10.0).round() as i64).collect();
        let all = large.len();
        large.sort_unstable();
        large.dedup();
        assert!(all >= 5 && large.len() * 5 >= all * 4, "storms differ: {large:?} of {all}");
    }
}

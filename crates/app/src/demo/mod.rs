//! The demo: an invented hill town, four properties, a seeded weather record with late frosts,
//! thunderstorms, a dry July and one gap. Nothing in it stands for a real place or person.

mod weather;

use super::commands::Failure;
use jiff::civil::{Date, date};
use upland_core::quantity::units::Metres;
use upland_core::weather::Station;
use upland_core::weather::record::{RawDay, SourceKind, Variable};
use upland_formats::site_file::{self, SiteFile};
use upland_store::Store;
use upland_store::accounts::Role;
use upland_store::weather::SourcePlace;

/// Password of the demo accounts. They exist only in a database the demo was loaded into, and the
/// server listens on loopback unless told otherwise.
pub const PASSWORD: &str = "larkrigg-demo";

/// The demo accounts: sign-in name, shown name, role.
pub const PEOPLE: [(&str, &str, Role); 3] =
    [("isla", "Isla", Role::Owner), ("bram", "Bram", Role::Technician), ("wren", "Wren", Role::Reader)];

/// Which of the generator's gauges the valley has.
const VALLEY_GAUGE: u64 = 9;
/// The day on which the demo's sensors were hung: a battery is overdue by its evening.
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

/// Loads the demo into a database without accounts; returns whether it did.
///
/// # Errors
/// When the database refuses.
pub fn load(store: &Store) -> Result<bool, Failure> {
    let failed = |error: upland_store::StoreError| Failure::Failed(error.to_string());
    if store.user_count().map_err(failed)? > 0 {
        return Ok(false);
    }
    let hash = upland_web::hash_password(PASSWORD).map_err(Failure::Failed)?;
    let mut user_id = 0;
    for (login, name, role) in PEOPLE {
        if let Some(user) = store.create_user(login, name, &hash, role).map_err(failed)?
            && role == Role::Technician
        {
            user_id = user.id;
        }
    }
    for (index, file) in (0..).zip(sites()?) {
        let id = store.create_site(&file, user_id).map_err(failed)?;
        for sensor in store.sensors(id).map_err(failed)? {
            store.set_sensor_installed(sensor.id, HUNG).map_err(failed)?;
        }
        let days = weather::record(index, &file.site.station());
        let days: Vec<RawDay> = days.iter().map(RawDay::from).collect();
        let source = store.own_source(id, user_id).map_err(failed)?;
        store
            .import_weather((id, source), user_id, "larkrigg-station.csv", (&days, &[]), |_| Ok(()))
            .map_err(failed)?;
        if index == 0 {
            let (place, days) = valley(&file.site.station());
            let source = store
                .create_source(id, SourceKind::Station, "Valley mast", Some(place), user_id)
                .map_err(failed)?;
            store
                .import_weather((id, source), user_id, "valley-mast.csv", (&days, &[]), |_| Ok(()))
                .map_err(failed)?;
        }
    }
    Ok(true)
}

/// A mast in the valley below the first site: warmer, drier, and with one day on which Fahrenheit
/// slipped in.
fn valley(site: &Station) -> (SourcePlace, Vec<RawDay>) {
    let place = SourcePlace {
        latitude_deg: site.latitude_deg - 0.04,
        longitude_deg: site.longitude_deg + 0.03,
        elevation: Metres::from_m(site.elevation.m() - 290.0),
        wind_height: Metres::from_m(10.0),
    };
    let days = weather::record(VALLEY_GAUGE, site)
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
    use upland_core::weather::quality::{Severity, check_day};

    #[test]
    fn every_demo_site_is_valid_and_its_weather_passes_the_checks() {
        for (index, file) in (0..).zip(sites().unwrap()) {
            assert!(file.zones.len() >= 5);
            let station = file.site.station();
            let days = weather::record(index, &station);
            assert!(days.len() > 900);
            for day in &days {
                let faults: Vec<_> =
                    check_day(day, &station).into_iter().filter(|f| f.severity == Severity::Fault).collect();
                assert_eq!(faults, [], "{day:?}");
            }
        }
    }

    #[test]
    fn the_demo_record_has_its_gap_frosts_and_dry_july() {
        let days = weather::record(0, &sites().unwrap().remove(0).site.station());
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
}

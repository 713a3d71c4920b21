//! The stand-in of a weather service beside the demo: a station up the fell that tells its hours and foretells a week.

use super::{EVENING, own, sites, weather};
use crate::commands::real_time;
use jiff::ToSpan;
use std::net::TcpListener;
use upland_core::quantity::units::Metres;
use upland_core::site::Site;
use upland_core::weather::record::SourceKind;
use upland_formats::weather_file::{Clock as StampClock, DateOrder, MappedColumn, Mapping, Quantity, Stamp};
use upland_simulator::{Clock, Sky, service};
use upland_store::accounts::Role;
use upland_store::scope::{Scope, SiteKey};
use upland_store::weather::{ServiceSettings, SourcePlace};
use upland_store::{Change, Store, StoreError};

/// Its name.
const NAME: &str = "Fell station";
/// Which of the generator's gauges it has.
const GAUGE: u64 = 12;
/// Days of the invented weather that lie ready for it.
const READY_DAYS: i32 = 1500;
/// Ports it listens on, the first that is free.
const PORTS: std::ops::Range<u16> = 24_900..24_950;
/// Minutes between two askings.
const EVERY_MIN: i32 = 30;
const SEED: u64 = 0x1A2C;

/// Where it stands: higher than the site, some kilometres off.
fn place(site: &Site) -> SourcePlace {
    SourcePlace {
        latitude_deg: site.latitude_deg + 0.03,
        longitude_deg: site.longitude_deg - 0.04,
        elevation: Metres::from_m(site.elevation.m() + 60.0),
        wind_height: Metres::from_m(2.0),
    }
}

/// How its forecast is read: what a person would confirm once.
fn mapping() -> (String, Mapping) {
    let column = |header: &str, quantity, unit: &str| MappedColumn {
        header: header.to_owned(),
        quantity,
        unit: unit.to_owned(),
    };
    let columns = vec![
        column("temperature_c", Quantity::Temperature, "c"),
        column("humidity_pct", Quantity::Rh, "pct"),
        column("solar_w_m2", Quantity::Solar, "w_m2"),
        column("wind_m_s", Quantity::Wind, "m_s"),
        column("rain_mm", Quantity::Rain, "mm"),
    ];
    let mut headers: Vec<String> = columns.iter().map(|c| c.header.clone()).collect();
    headers.push("time".to_owned());
    // Its objects name their fields by the alphabet.
    headers.sort();
    let mapping = Mapping {
        hourly: true,
        date_column: "time".to_owned(),
        time_column: None,
        date_order: DateOrder::YearFirst,
        stamp: Stamp::Start,
        clock: StampClock::InText,
        decimal_comma: false,
        missing: Vec::new(),
        station: None,
        columns,
    };
    (headers.join("\u{1f}"), mapping)
}

/// Makes the source of the stand-in at a site; who answers for it.
fn enter(store: &Store, user: i64, id: SiteKey, site: &Site) -> Result<(), StoreError> {
    let place = place(site);
    let settings = at(PORTS.start);
    store.change(user, id, |change: &mut Change<'_>| {
        let source = change.create_source(SourceKind::Station, NAME, Some(place))?;
        change.save_service(source, NAME, 0, &settings).map(|_| ())
    })?;
    let (key, mapping) = mapping();
    store.save_mapping(&key, &serde_json::to_value(mapping).map_err(own)?, user)
}

fn at(port: u16) -> ServiceSettings {
    ServiceSettings {
        measured: format!("http://127.0.0.1:{port}{}", service::MEASURED),
        foretold: format!("http://127.0.0.1:{port}{}", service::FORETOLD),
        every_min: EVERY_MIN,
        stopped: false,
    }
}

/// Starts the stand-in beside a server of the demo, and tells its source where it listens; the source is made where the
/// demo was just loaded. Without a free port, or where somebody changed the source, nothing is started.
pub fn start(store: &Store, loaded: bool) -> Result<(), StoreError> {
    let files = sites().map_err(|_| own("a site"))?;
    let first = files.first().ok_or_else(|| own("no site"))?;
    if loaded {
        let sites = store.read(|snapshot| snapshot.sites(&Scope::program()))?;
        let by =
            store.read(|snapshot| snapshot.users())?.into_iter().find(|user| user.role == Role::Technician);
        let at = sites.into_iter().find(|site| site.site.name == first.site.name);
        if let (Some(at), Some(by)) = (at, by) {
            enter(store, by.id, at.id, &at.site)?;
        }
    }
    let found = store.read(|snapshot| {
        for (id, _) in snapshot.site_names(&Scope::program())? {
            let source = snapshot.sources(id)?.into_iter().find(|s| s.name == NAME);
            let service = match &source {
                Some(source) => snapshot.service(source.id)?,
                None => None,
            };
            if let (Some(source), Some((_, service))) = (source, service) {
                return Ok(Some((id, source.id, service)));
            }
        }
        Ok(None)
    })?;
    let Some((site, source, known)) = found else { return Ok(()) };
    let of_stand_in =
        |settings: &ServiceSettings| PORTS.into_iter().find(|port| at(*port).measured == settings.measured);
    let Some(before) = of_stand_in(&known.settings) else { return Ok(()) };
    let mut ports = std::iter::once(before).chain(PORTS);
    let listener = ports.find_map(|port| Some((port, TcpListener::bind(("127.0.0.1", port)).ok()?)));
    let Some((port, listener)) = listener else { return Ok(()) };
    if port != before {
        let settings = ServiceSettings {
            every_min: known.settings.every_min,
            stopped: known.settings.stopped,
            ..at(port)
        };
        let by = store.read(|snapshot| snapshot.users())?.first().map_or(0, |user| user.id);
        store.change(by, site, |change| change.save_service(source, NAME, known.version, &settings))?;
    }
    let last = EVENING.date().saturating_add(READY_DAYS.days());
    let days = weather::record(GAUGE, &first.site.station(), last);
    let clock = store.clone();
    std::thread::spawn(move || {
        let sky = Sky::recorded(&days, last, SEED);
        // Days may be let pass on the clock of the demo at any time.
        let ahead = move || clock.read(|snapshot| snapshot.clock_ahead()).ok().flatten().unwrap_or_default();
        let clock = Clock::new(move || real_time() + ahead());
        if let Err(error) = service::serve(listener, sky, clock, SEED) {
            tracing::warn!(%error, "the simulated weather service stopped");
        }
    });
    Ok(())
}

//! A decided night for the tests of the chapters: fixed weather, four zones that differ in what
//! they do.

use crate::chapters::today::Decided;
use crate::page::frame::Frame;
use crate::site::facts::{SiteBox, SiteFacts};
use jiff::civil::{date, time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::sync::Arc;
use upland_core::advice::tonight::tonight;
use upland_core::controller::{Card, twelve_stations};
use upland_core::ground::application::HeadType;
use upland_core::ground::plant::{PlantKind, Sky, Sun};
use upland_core::ground::soil::Texture;
use upland_core::quantity::time::Hours;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::*;
use upland_core::site::{Controller, Site, UnitSystem, Zone};
use upland_core::weather::DayWeather;
use upland_core::weather::climate::Climate;
use upland_store::controllers::ControllerRecord;
use upland_store::sites::SiteRecord;
use upland_store::zones::ZoneRecord;

fn zone(number: u16, name: &str, plant: PlantKind, soil: Texture, head: HeadType) -> Zone {
    Zone {
        box_number: 1,
        number,
        name: name.into(),
        plant,
        own_coefficient: None,
        planting: Default::default(),
        soil,
        slope_pct: None,
        sun: Sun::Full,
        sky: Sky::Open,
        head,
        precipitation_rate: None,
        uniformity: None,
        root_depth: None,
        allowable_depletion: None,
        area: None,
    }
}

// Long: one site with its four zones.
pub(crate) fn decided(units: UnitSystem) -> Decided {
    let mut lawn = zone(1, "Upper lawn", PlantKind::CoolSeasonTurf, Texture::Loam, HeadType::Spray);
    lawn.uniformity = Some(upland_core::quantity::ratio::Share::from_fraction(0.45));
    lawn.area = Some(SquareMetres::from_m2(150.0));
    let mut bank = zone(2, "Bank", PlantKind::WarmSeasonTurf, Texture::Clay, HeadType::Spray);
    bank.slope_pct = Some(18.0);
    bank.root_depth = Some(Metres::from_m(0.1));
    let heather = zone(3, "Heather terrace", PlantKind::LowDemand, Texture::SandyLoam, HeadType::Drip);
    let mut ferns = zone(4, "Fern house", PlantKind::HighDemand, Texture::SandyLoam, HeadType::MicroSpray);
    ferns.sky = Sky::UnderGlass;
    let zones = [lawn, bank, heather, ferns];
    let site = Site {
        name: "Larkrigg Botanic Slope".into(),
        latitude_deg: 46.0,
        longitude_deg: -30.0,
        elevation: Metres::from_m(1040.0),
        wind_height: Metres::from_m(2.0),
        time_zone: "Etc/GMT+1".into(),
        units,
        window: Hours { from: time(1, 0, 0, 0), until: time(6, 30, 0, 0) },
        supply: None,
    };
    let evening = date(2026, 7, 13);
    let last_recorded = date(2026, 7, 14);
    let days: Vec<DayWeather> = (0..60)
        .map(|back| {
            let mut day = DayWeather::from_temperatures(
                last_recorded - back.days(),
                Celsius::from_c(11.0),
                Celsius::from_c(25.0),
            );
            day.rain = Some(Millimetres::from_mm(if back == 5 { 14.0 } else { 0.0 }));
            day.wind = Some(MetresPerSecond::from_m_per_s(1.8));
            day
        })
        .collect();
    let climate = Climate::from_record(&days, site.station());
    let tz = TimeZone::get(&site.time_zone).unwrap();
    let card = Card { starts_per_program: 6, ..twelve_stations() };
    let night = tonight(&site, (&card, 1), &zones, &climate, evening, &tz);
    let saved_at = Timestamp::UNIX_EPOCH;
    let zones = zones
        .into_iter()
        .zip(1..)
        .map(|(zone, id)| ZoneRecord { id, site_id: 1, version: 1, zone, saved_by: "Bram".into(), saved_at })
        .collect();
    let record = ControllerRecord {
        id: 1,
        site_id: 1,
        version: 1,
        controller: Controller { number: 1, place: "Potting shed".into(), card },
        fallback_version: None,
        calendar_token: "token".into(),
        saved_by: "Bram".into(),
        saved_at,
    };
    let climate = Arc::new(climate);
    let site = SiteRecord {
        id: 1,
        version: 3,
        site,
        revision: 1,
        weather_version: 1,
        saved_by: "Bram".into(),
        saved_at,
    };
    Decided {
        loaded: Arc::new(facts(site, zones, vec![SiteBox { record, settings: None }], Arc::clone(&climate))),
        number: 1,
        as_set: None,
        held: Default::default(),
        climate,
        night,
        opened_on_last_day: false,
    }
}

/// Facts of a site without law or sensors.
fn facts(site: SiteRecord, zones: Vec<ZoneRecord>, boxes: Vec<SiteBox>, climate: Arc<Climate>) -> SiteFacts {
    SiteFacts {
        tz: TimeZone::get(&site.site.time_zone).unwrap(),
        site,
        zones,
        boxes,
        ordinances: Vec::new(),
        sensors: Vec::new(),
        sensor_events: Vec::new(),
        climate,
    }
}

pub(crate) fn frame() -> Frame {
    Frame {
        title: "Test".into(),
        assets: "test",
        csrf: "token".into(),
        user_name: "Bram".into(),
        may_edit: true,
        is_owner: false,
        flash: None,
        site: None,
        here: "/".into(),
        record_ended: None,
        demo_clock: None,
    }
}

/// The box of [`decided`] with a law and a supply, and settings that have a few things wrong.
pub(crate) fn box_with_faults()
-> (upland_core::installation::Installation, upland_core::controller::schedule::Settings) {
    use upland_core::controller::ordinance::{AllowedDays, Applied, HouseNumber, Law, Ordinance, Rule};
    let decided = decided(UnitSystem::Metric);
    let mut site = decided.loaded.site.site.clone();
    site.supply = Some(LitresPerMinute::from_l_per_min(95.0));
    let zones: Vec<Zone> = decided.loaded.surveys();
    let ordinance = Ordinance {
        name: "Larkrigg summer watering".into(),
        rules: vec![Rule {
            season: None,
            days: AllowedDays::Any,
            forbidden_hours: vec![Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) }],
            most_days_a_week: Some(4),
        }],
        exempts_drip: true,
        exempts_new_planting: false,
    };
    let law = Law { applied: vec![Applied { ordinance, house: HouseNumber::Odd, permits: Vec::new() }] };
    let card = Card { starts_per_program: 6, ..twelve_stations() };
    let tz = TimeZone::get(&site.time_zone).unwrap();
    let evening = date(2026, 7, 13);
    let installation = upland_core::installation::Installation::new(
        &site,
        (&card, 1),
        &zones,
        law,
        &decided.climate,
        evening,
        &tz,
    );
    let mut settings = upland_core::controller::schedule::Settings::clean(&card);
    settings.programs[0].active = true;
    settings.programs[0].starts = vec![time(2, 0, 0, 0), time(4, 0, 0, 0)];
    for station in 1..=4 {
        settings.set_run_time(0, station, Seconds::from_s(900));
    }
    settings.programs[1].active = true;
    settings.programs[1].starts = vec![time(2, 30, 0, 0)];
    settings.set_run_time(1, 9, Seconds::from_s(600));
    settings.programs[2].active = true;
    settings.programs[2].starts = vec![time(13, 0, 0, 0)];
    settings.set_run_time(2, 1, Seconds::from_s(300));
    (installation, settings)
}

/// The same box as its pages see it, with two versions of its settings.
pub(crate) fn workbench() -> crate::site::workbench::Workbench {
    let (installation, settings) = box_with_faults();
    let mut loaded = Arc::into_inner(decided(UnitSystem::Metric).loaded).unwrap();
    loaded.boxes[0].settings = Some(upland_store::settings::SettingsRecord {
        version: 2,
        kind: upland_store::settings::SettingsKind::Changed,
        reason: "drip moved".into(),
        settings,
        saved_by: "Bram".into(),
        saved_at: Timestamp::UNIX_EPOCH,
    });
    crate::site::workbench::Workbench::for_tests(loaded, installation, date(2026, 7, 13))
}

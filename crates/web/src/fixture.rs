//! A decided night for the tests of the chapters: fixed weather, four zones that differ in what
//! they do.

use crate::chapters::today::Decided;
use crate::page::frame::Frame;
use crate::site::records::{SiteController, SiteRecords};
use jiff::civil::{Date, date, time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::sync::Arc;
use upland_core::account::running::ControllerFacts;
use upland_core::account::site_account::{AccountInputs, EvidencePolicy};
use upland_core::advice::tonight::{Tonight, account_of, tonight};
use upland_core::controller::schedule::Settings;
use upland_core::controller::{Card, twelve_stations};
use upland_core::ground::application::HeadType;
use upland_core::ground::plant::{PlantKind, Sky, Sun};
use upland_core::ground::soil::Texture;
use upland_core::quantity::time::Hours;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::*;
use upland_core::site::windows::WaterWindows;
use upland_core::site::{Controller, Site, UnitSystem, Zone};
use upland_core::weather::DayWeather;
use upland_core::weather::climate::Climate;
use upland_store::controllers::ControllerRecord;
use upland_store::sites::SiteRecord;
use upland_store::zones::ZoneRecord;

fn zone(number: u16, name: &str, plant: PlantKind, soil: Texture, head: HeadType) -> Zone {
    Zone {
        controller_number: 1,
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
        window: None,
    }
}

/// Every site, as the program itself sees them.
#[allow(clippy::disallowed_methods)]
pub(crate) fn scope() -> upland_store::scope::Scope {
    upland_store::scope::Scope::program()
}

/// A site by its number.
pub(crate) fn key(number: i64) -> upland_store::scope::SiteKey {
    scope().site(number).unwrap()
}

/// The night of a site whose controller nobody entered.
pub(crate) fn decided(units: UnitSystem) -> Decided {
    with_settings(units, None)
}

/// The same night on a controller that is set, a few things wrong with it.
pub(crate) fn told(units: UnitSystem) -> Decided {
    with_settings(units, Some(faulty(&card())))
}

fn card() -> Card {
    Card { starts_per_program: 6, ..twelve_stations() }
}

/// Settings that have a few things wrong.
fn faulty(card: &Card) -> Settings {
    let mut settings = Settings::clean(card);
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
    settings
}

// Long: one site with its four zones.
fn with_settings(units: UnitSystem, settings: Option<Settings>) -> Decided {
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
        windows: WaterWindows::only(Hours { from: time(1, 0, 0, 0), until: time(6, 30, 0, 0) }),
        supply: None,
        drizzle: Default::default(),
        card: Default::default(),
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
    let card = card();
    let night = night(&site, &tz, &zones, &climate, &card, settings.as_ref(), evening);
    let saved_at = Timestamp::UNIX_EPOCH;
    let zones = zones
        .into_iter()
        .zip(1..)
        .map(|(zone, id)| ZoneRecord {
            id,
            site_id: key(1),
            version: 1,
            zone,
            earlier: Vec::new(),
            saved_by: "Bram".into(),
            saved_at,
        })
        .collect();
    let record = ControllerRecord {
        id: 1,
        site_id: key(1),
        version: 1,
        controller: Controller { number: 1, place: "Potting shed".into(), card },
        fallback_version: None,
        calendar_made_at: None,
        saved_by: "Bram".into(),
        saved_at,
    };
    let climate = Arc::new(climate);
    let site = SiteRecord {
        id: key(1),
        version: 3,
        site,
        revision: 1,
        weather_version: 1,
        saved_by: "Bram".into(),
        saved_at,
    };
    Decided {
        records: Arc::new(facts(
            site,
            zones,
            vec![SiteController { record, settings: None }],
            Arc::clone(&climate),
        )),
        number: 1,
        climate,
        night,
        sensors: Vec::new(),
        said: Vec::new(),
        opened_on_last_day: false,
    }
}

/// The night of a controller whose settings may be known since they were found.
fn night(
    site: &Site,
    tz: &TimeZone,
    zones: &[Zone],
    climate: &Climate,
    card: &Card,
    settings: Option<&Settings>,
    evening: Date,
) -> Tonight {
    // It was set this afternoon: until then watering as advised stands in.
    let since = upland_core::quantity::time::noon(evening, tz);
    let facts = account_facts(site, tz, zones, climate, card, settings.map(|s| (since, s)));
    let account = account_of(&facts, EvidencePolicy::Best, evening, Timestamp::MIN);
    tonight(&facts, &account, 1, evening)
}

/// What the account of a site rests on, its controller set since an instant.
fn account_facts(
    site: &Site,
    tz: &TimeZone,
    zones: &[Zone],
    climate: &Climate,
    card: &Card,
    settings: Option<(Timestamp, &Settings)>,
) -> AccountInputs {
    let mut facts = AccountInputs::surveyed(site, tz, zones, climate.clone());
    let versions = settings.into_iter().map(|(since, s)| (since, s.clone())).collect();
    facts.controllers =
        vec![ControllerFacts { number: 1, card: card.clone(), versions, sensors: Vec::new() }];
    facts
}

/// The same site with its controller set as it is in [`told`] since long ago: what a trial is run on.
pub(crate) fn long_set(units: UnitSystem) -> AccountInputs {
    let decided = told(units);
    let card = card();
    let of = (decided.records.surveys(), Arc::clone(&decided.climate));
    let settings = faulty(&card);
    account_facts(
        &decided.records.site.site,
        &decided.records.tz,
        &of.0,
        &of.1,
        &card,
        Some((Timestamp::UNIX_EPOCH, &settings)),
    )
}

/// Facts of a site without law or sensors.
fn facts(
    site: SiteRecord,
    zones: Vec<ZoneRecord>,
    controllers: Vec<SiteController>,
    climate: Arc<Climate>,
) -> SiteRecords {
    SiteRecords {
        tz: TimeZone::get(&site.site.time_zone).unwrap(),
        site,
        zones,
        controllers,
        ordinances: Vec::new(),
        sensors: Vec::new(),
        sensor_events: Vec::new(),
        climate,
    }
}

pub(crate) fn frame() -> Frame {
    Frame {
        today: jiff::civil::date(2026, 7, 14),
        hours: 24,
        dates: "day",
        title: "Test".into(),
        assets: "test",
        csrf: "token".into(),
        user_name: "Bram".into(),
        user_id: 2,
        may_edit: true,
        is_owner: false,
        flash: None,
        site: None,
        here: "/".into(),
        record_ended: None,
        et0_from: None,
        demo_clock: None,
    }
}

/// The controller of [`decided`] with a law and a supply, and settings that have a few things wrong.
pub(crate) fn controller_with_faults() -> (upland_core::installation::Installation, Settings) {
    use upland_core::controller::ordinance::{AllowedDays, Applied, HouseNumber, Law, Ordinance, Rule};
    let decided = decided(UnitSystem::Metric);
    let mut site = decided.records.site.site.clone();
    site.supply = Some(LitresPerMinute::from_l_per_min(95.0));
    let zones: Vec<Zone> = decided.records.surveys();
    let ordinance = Ordinance {
        name: "Larkrigg summer watering".into(),
        rules: vec![Rule {
            season: None,
            days: AllowedDays::Any,
            forbidden_hours: vec![Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) }],
            most_days_a_week: Some(4),
            most_minutes_a_day: None,
            after_rain: None,
        }],
        exempt_heads: vec![HeadType::Drip],
        hours_bind_exempt_heads: false,
        exempts_new_planting: false,
    };
    let law = Law { applied: vec![Applied { ordinance, house: HouseNumber::Odd, permits: Vec::new() }] };
    let card = card();
    let tz = TimeZone::get(&site.time_zone).unwrap();
    let evening = date(2026, 7, 13);
    let installation = upland_core::installation::Installation::new(
        &site,
        upland_core::installation::InstalledCard { card: &card, number: 1 },
        &zones,
        law,
        &decided.climate,
        evening,
        &tz,
    );
    let settings = faulty(&card);
    (installation, settings)
}

/// The same controller as its pages see it, with two versions of its settings.
pub(crate) fn controller_snapshot() -> crate::site::controller_snapshot::ControllerSnapshot {
    let (installation, settings) = controller_with_faults();
    let mut records = Arc::into_inner(decided(UnitSystem::Metric).records).unwrap();
    records.controllers[0].settings = Some(upland_store::settings::SettingsRecord {
        version: 2,
        kind: upland_store::settings::SettingsKind::Changed,
        reason: "drip moved".into(),
        settings,
        saved_by: "Bram".into(),
        saved_at: Timestamp::UNIX_EPOCH,
    });
    crate::site::controller_snapshot::ControllerSnapshot::for_tests(records, installation, date(2026, 7, 13))
}

/// The account that a decided night rests on; with a reading and a logged run of its first zone, where that is asked
/// for, some days before.
pub(crate) fn at_work(decided: &Decided, noted: bool) -> crate::site::snapshot::SiteSnapshot {
    use crate::site::clock::{Moment, evening};
    use crate::site::snapshot::SiteSnapshot;
    use upland_store::field::{EventKind, ZoneEvent};
    let (date, tz) = (decided.night.date, &decided.records.tz);
    let event = |id, kind, back: i32, value| ZoneEvent {
        id,
        zone_id: 1,
        date: date - back.days(),
        kind,
        value,
        reason: "seen".into(),
        said_by: "Bram".into(),
        said_at: Timestamp::UNIX_EPOCH,
        undone: false,
    };
    let noted = if noted {
        vec![event(1, EventKind::Reading, 40, 0.3), event(2, EventKind::Run, 30, 60.0)]
    } else {
        Vec::new()
    };
    let moment = Moment { date, at: evening(date, tz), record_ended: None };
    SiteSnapshot::noted_for_tests(Arc::clone(&decided.records), noted, moment)
}

/// Facts of a site once more, without its sensors: what a bench asks of them.
pub(crate) fn facts_of(records: &SiteRecords) -> SiteRecords {
    let controllers = records
        .controllers
        .iter()
        .map(|own| SiteController { record: own.record.clone(), settings: own.settings.clone() });
    facts(records.site.clone(), records.zones.clone(), controllers.collect(), Arc::clone(&records.climate))
}

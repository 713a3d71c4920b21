//! A site that is no change needed: weather, zones that get what they ask for, a controller that is set for the season.

use jiff::civil::{Date, Time, date, time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::f64::consts::TAU;
use upland_core::account::running::{ControllerFacts, SensorFacts};
use upland_core::account::sensed::{as_read, sensor_facts};
use upland_core::account::site_account::AccountInputs;
use upland_core::controller::schedule::{Days, Percentages, Settings};
use upland_core::controller::twelve_stations;
use upland_core::ground::application::HeadType;
use upland_core::ground::plant::{PlantKind, Sky, Sun};
use upland_core::ground::planting::Planting;
use upland_core::ground::soil::Texture;
use upland_core::quantity::ratio::{Percentage, Share};
use upland_core::quantity::time::{Hours, Seconds, instant, midnight};
use upland_core::quantity::units::{
    Celsius, LitresPerMinute, MegajoulesPerSquareMetre, Metres, MetresPerSecond, Millimetres,
    MillimetresPerHour, Minutes, SquareMetres,
};
use upland_core::sensors::{Sensor, generic};
use upland_core::site::windows::WaterWindows;
use upland_core::site::{Site, SurveyedZone, UnitSystem, Zone};
use upland_core::weather::DayWeather;
use upland_core::weather::climate::Climate;

/// First day of the record.
pub const FIRST: Date = date(2024, 10, 1);

/// A world in the making.
pub struct World {
    /// The dice.
    pub rng: ChaCha8Rng,
    /// The day of the visit.
    pub on: Date,
    /// Its instant.
    pub at: Timestamp,
    /// The day on which the controller was last set.
    pub set_on: Date,
    /// The record.
    pub days: Vec<DayWeather>,
    /// What is known, without sensors yet.
    pub facts: AccountInputs,
    /// Days from one watering to the next.
    pub interval: u8,
}

/// Rain that a cause needs: days before the visit, and how much, mm.
pub type Showers = &'static [(i32, f64)];

/// A well-kept site by seed, visited on some day of the summer.
#[must_use]
pub fn draw(seed: u64, showers: Showers, dry_days: i32) -> World {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let on = date(2026, 6, 12) + rng.random_range(0..75).days();
    draw_on(seed, on, showers, dry_days)
}

/// The same on a day.
#[must_use]
pub fn draw_on(seed: u64, on: Date, showers: Showers, dry_days: i32) -> World {
    let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0x5EED);
    let days = weather(&mut rng, on, showers, dry_days);
    let site = Site {
        name: "Test ground".into(),
        latitude_deg: rng.random_range(38.0..50.0),
        longitude_deg: 0.0,
        elevation: Metres::from_m(rng.random_range(20.0..900.0)),
        wind_height: Metres::from_m(2.0),
        time_zone: "Etc/UTC".into(),
        units: UnitSystem::Metric,
        windows: WaterWindows::only(Hours { from: time(21, 0, 0, 0), until: time(7, 0, 0, 0) }),
        supply: Some(LitresPerMinute::from_l_per_min(400.0)),
        drizzle: Default::default(),
        card: Default::default(),
    };
    let climate = Climate::from_record(&days, site.station());
    let zones: Vec<Zone> = (1..=rng.random_range(4..=8)).map(|n| zone(&mut rng, n)).collect();
    let set_on = on - rng.random_range(9..20).days();
    let mut facts = AccountInputs::surveyed(&site, &TimeZone::UTC, &zones, climate);
    let interval = interval(&facts, set_on);
    let settings = settings(&facts, set_on, interval);
    facts.controllers = vec![ControllerFacts {
        number: 1,
        card: twelve_stations(),
        versions: since(&facts, &settings, set_on),
        sensors: Vec::new(),
    }];
    let at = instant(on, time(9, 0, 0, 0), &TimeZone::UTC);
    World { rng, on, at, set_on, days, facts, interval }
}

/// Twenty months of weather: warm dry summers, rain every few days, none in the days before the visit but for some
/// showers.
fn weather(rng: &mut ChaCha8Rng, on: Date, showers: Showers, dry_days: i32) -> Vec<DayWeather> {
    let warm = rng.random_range(-2.0..4.0);
    let until = date(2026, 10, 15);
    FIRST
        .series(1.day())
        .take_while(|day| *day <= until)
        .map(|day| {
            let season = (TAU * (f64::from(day.day_of_year()) - 203.0) / 365.0).cos();
            let before = (on - day).get_days();
            let quiet = (0..=dry_days).contains(&before);
            let wet = rng.random_bool(0.2);
            let depth = -rng.random_range(0.05_f64..1.0).ln() * 7.0;
            let shower = showers.iter().find(|(back, _)| *back == before).map(|(_, mm)| *mm);
            let rain = shower.unwrap_or(if wet && !quiet { depth } else { 0.0 });
            let clear: f64 = if rain > 1.0 { 0.5 } else { rng.random_range(0.75..1.0) };
            let mean = 12.0 + warm + 9.0 * season + rng.random_range(-2.0..2.0);
            let sun = 5.0 + (14.0 + 11.0 * season) * clear;
            DayWeather {
                dew_point: Some(Celsius::from_c(mean - 7.0)),
                solar: Some(MegajoulesPerSquareMetre::from_mj_per_m2(sun)),
                wind: Some(MetresPerSecond::from_m_per_s(rng.random_range(1.0..3.0))),
                rain: Some(Millimetres::from_mm(rain)),
                ..DayWeather::from_temperatures(day, Celsius::from_c(mean - 6.0), Celsius::from_c(mean + 6.0))
            }
        })
        .collect()
}

fn zone(rng: &mut ChaCha8Rng, number: u16) -> Zone {
    let head = [HeadType::Spray, HeadType::Rotor, HeadType::Spray][rng.random_range(0..3)];
    let plant = [PlantKind::CoolSeasonTurf, PlantKind::CoolSeasonTurf, PlantKind::ModerateDemand]
        [rng.random_range(0..3)];
    let soil = [Texture::Loam, Texture::SandyLoam, Texture::ClayLoam][rng.random_range(0..3)];
    let rate = head.default_rate().mm_per_hour() * rng.random_range(0.75..1.2);
    let measured = rng.random_bool(0.6);
    Zone {
        controller_number: 1,
        number,
        name: format!("Zone {number}"),
        plant,
        own_coefficient: None,
        planting: Planting::default(),
        soil,
        slope_pct: Some(rng.random_range(0.0..4.0)),
        sun: Sun::Full,
        sky: Sky::Open,
        head,
        precipitation_rate: measured.then_some(MillimetresPerHour::from_mm_per_hour(rate)),
        uniformity: Some(Share::from_fraction(rng.random_range(0.62..0.8))),
        root_depth: Some(Metres::from_m(rng.random_range(0.15..0.3))),
        allowable_depletion: None,
        area: Some(SquareMetres::from_m2(rng.random_range(60.0..220.0))),
        window: None,
    }
}

/// Demand of a zone, mm a day, in the hottest month.
fn peak_demand(facts: &AccountInputs, at: usize) -> f64 {
    let zone = &facts.zones[at].resolved;
    let months = facts.climate.monthly_expected_et0(2026);
    months.months().map(|(m, et0)| et0.mm() * zone.landscape_coefficient_in(m)).fold(0.0, f64::max)
}

/// Days between waterings that every zone bears: none goes past its refill point.
fn interval(facts: &AccountInputs, _on: Date) -> u8 {
    let bears = |at: usize| {
        let raw = facts.zones[at].resolved.root_zone.readily_available().mm();
        raw / peak_demand(facts, at)
    };
    let least = (0..facts.zones.len()).map(bears).fold(f64::INFINITY, f64::min);
    (least.floor() as u8).clamp(1, 4)
}

/// Settings that give each zone its need of the hottest month at 100 %, turned to the weather of the day.
#[must_use]
pub fn settings(facts: &AccountInputs, on: Date, interval: u8) -> Settings {
    let mut settings = Settings::clean(&twelve_stations());
    let program = &mut settings.programs[0];
    program.active = true;
    program.starts = vec![Time::midnight()];
    program.days = Days::EveryNth { interval, first: FIRST };
    for at in 0..facts.zones.len() {
        let SurveyedZone { zone, resolved } = &facts.zones[at];
        let net = Millimetres::from_mm(peak_demand(facts, at) * f64::from(interval));
        let minutes = resolved.minutes_for(net).min_value().round().max(1.0);
        settings.set_run_time(0, zone.number, Seconds::of(Minutes::from_min(minutes), f64::round));
        if let Some(longest) = resolved.cycle_limit.longest.filter(|l| l.min_value() < minutes) {
            let cycle = Seconds::from_min(longest.min_value().floor().max(1.0) as i64);
            let soak = Seconds::from_min(resolved.cycle_limit.soak.min_value().ceil() as i64);
            settings.update_station(zone.number, |s| s.cycle_and_soak = Some((cycle, soak)));
        }
    }
    settings.percentages = percentage(&settings.percentages, weather_pct(facts, on));
    settings
}

/// All programs at a percentage, in the steps of the controller.
#[must_use]
pub fn percentage(now: &Percentages, pct: f64) -> Percentages {
    let card = twelve_stations();
    now.all_at(card.nearest_percentage(Percentage::from_percent(pct.round() as u16)))
}

/// What the weather of the fortnight about a day is to the hottest month, percent.
#[must_use]
pub fn weather_pct(facts: &AccountInputs, on: Date) -> f64 {
    let months = facts.climate.monthly_expected_et0(2026);
    let peak = months.iter().map(|e| e.mm()).fold(0.0, f64::max);
    let days = (on - 7.days()).series(1.day()).take(21);
    let own: Vec<f64> = days.filter_map(|d| facts.climate.day(d)).map(|d| d.et.et0.mm()).collect();
    let mean = own.iter().sum::<f64>() / own.len().max(1) as f64;
    (100.0 * mean / peak).min(130.0)
}

/// Settings that count from a day, and before it the same for the weather of then.
fn since(facts: &AccountInputs, settings: &Settings, on: Date) -> Vec<(Timestamp, Settings)> {
    let earlier = Settings {
        percentages: percentage(&settings.percentages, weather_pct(facts, on - 25.days())),
        ..settings.clone()
    };
    vec![(Timestamp::MIN, earlier), (midnight(on, &TimeZone::UTC), settings.clone())]
}

impl World {
    /// A generic sensor on the controller.
    #[must_use]
    pub fn sensor(&self, code: &str) -> Sensor {
        let (_, card) = generic().into_iter().find(|(c, _)| *c == code).unwrap();
        Sensor::of_card(card, 1)
    }

    /// A sensor with what it would have read in the record.
    #[must_use]
    pub fn hung(&self, sensor: &Sensor) -> SensorFacts {
        let first = self.on - 250.days();
        let read = as_read(&self.facts.climate, 0.0, first, self.on, &TimeZone::UTC);
        let until = midnight(self.on + 40.days(), &TimeZone::UTC);
        sensor_facts(sensor, &read.channels, &read.drying, Vec::new(), &TimeZone::UTC, until)
    }

    /// The settings in force.
    #[must_use]
    pub fn settings(&self) -> Settings {
        self.facts.controllers[0].settings_at(self.at).unwrap().clone()
    }

    /// Stations.
    #[must_use]
    pub fn stations(&self) -> Vec<u16> {
        self.facts.zones.iter().map(|SurveyedZone { zone: z, .. }| z.number).collect()
    }

    /// One station by the dice.
    pub fn pick(&mut self) -> u16 {
        let all = self.stations();
        all[self.rng.random_range(0..all.len())]
    }
}

//! How long the computation takes: `cargo bench -p upland-core`.
#![allow(clippy::unwrap_used)]

use divan::{Bencher, black_box};
use jiff::civil::{date, time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use upland_core::account::running::ControllerFacts;
use upland_core::account::site_account::{AccountInputs, EvidencePolicy};
use upland_core::advice::findings::check;
use upland_core::advice::planner::{Basis, Relax, Request, Strategy, plan, relaxations};
use upland_core::advice::tonight::{account_of, tonight};
use upland_core::controller::ordinance::Law;
use upland_core::controller::schedule::{Days, Percentages, Program, Settings, expand};
use upland_core::controller::{Card, twelve_stations};
use upland_core::ground::application::HeadType;
use upland_core::ground::plant::{PlantKind, Sky, Sun};
use upland_core::ground::soil::Texture;
use upland_core::installation::{Installation, InstalledCard};
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::time::Hours;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::*;
use upland_core::site::windows::WaterWindows;
use upland_core::site::{Site, UnitSystem, Zone};
use upland_core::weather::climate::Climate;
use upland_core::weather::reference_et::{StationYear, daily, daily_at, hourly_series};
use upland_core::weather::{DayWeather, HourHumidity, HourWeather, Station};

fn main() {
    divan::main();
}

fn station() -> Station {
    Station {
        latitude_deg: 46.0,
        longitude_deg: -30.0,
        elevation: Metres::from_m(1040.0),
        wind_height: Metres::from_m(2.0),
    }
}

/// Thirty years of days with everything measured.
fn thirty_years() -> Vec<DayWeather> {
    (0..10_957)
        .map(|i| {
            let mut day = DayWeather::from_temperatures(
                date(1996, 7, 15) + i.days(),
                Celsius::from_c(8.0 + (i % 7) as f64),
                Celsius::from_c(21.0 + (i % 5) as f64),
            );
            day.humidity_min_pct = Some(45.0);
            day.humidity_max_pct = Some(92.0);
            day.solar = Some(MegajoulesPerSquareMetre::from_mj_per_m2(8.0));
            day.wind = Some(MetresPerSecond::from_m_per_s(1.9));
            day.rain = Some(Millimetres::from_mm(if i % 6 == 0 { 7.0 } else { 0.0 }));
            day
        })
        .collect()
}

fn site() -> Site {
    Site {
        name: "Bench".into(),
        latitude_deg: 46.0,
        longitude_deg: -30.0,
        elevation: Metres::from_m(1040.0),
        wind_height: Metres::from_m(2.0),
        time_zone: "Etc/GMT+1".into(),
        units: UnitSystem::Metric,
        windows: WaterWindows::only(Hours { from: time(20, 0, 0, 0), until: time(8, 0, 0, 0) }),
        supply: None,
        drizzle: Default::default(),
        card: Default::default(),
    }
}

fn zones(count: u16) -> Vec<Zone> {
    (1..=count)
        .map(|number| Zone {
            controller_number: 1,
            number,
            name: format!("Zone {number}"),
            plant: PlantKind::CoolSeasonTurf,
            own_coefficient: None,
            planting: Default::default(),
            soil: if number % 2 == 0 { Texture::Clay } else { Texture::Loam },
            slope_pct: Some(f64::from(number % 15)),
            sun: Sun::Full,
            sky: Sky::Open,
            head: HeadType::Spray,
            precipitation_rate: None,
            uniformity: None,
            root_depth: None,
            allowable_depletion: None,
            area: None,
            window: None,
        })
        .collect()
}

/// One day's ET0, alone.
#[divan::bench]
fn daily_et(bencher: Bencher) {
    let day = thirty_years().pop().unwrap();
    bencher.bench(|| daily(black_box(&day), &station()));
}

/// ET0 of thirty years of days: 10,957 of them, the sun of the year computed once.
#[divan::bench]
fn daily_et_of_30_years(bencher: Bencher) {
    let days = thirty_years();
    bencher.bench(|| {
        let year = StationYear::of(&station());
        days.iter().map(|day| daily_at(black_box(day), &year).et0.mm()).sum::<f64>()
    });
}

/// ET0 and normals of thirty years of days.
#[divan::bench]
fn climate_of_30_years(bencher: Bencher) {
    let days = thirty_years();
    bencher.bench(|| Climate::from_record(black_box(&days), station()));
}

/// A year of hours.
#[divan::bench]
fn hourly_et_of_a_year(bencher: Bencher) {
    let start: Timestamp = "2025-01-01T00:00:00Z".parse().unwrap();
    let hours: Vec<HourWeather> = (0..8760)
        .map(|i| HourWeather {
            start: start + i.hours(),
            local_date: date(2025, 1, 1) + (i / 24).days(),
            temperature: Celsius::from_c(12.0),
            humidity: HourHumidity::RelativePct(70.0),
            solar: MegajoulesPerSquareMetre::from_mj_per_m2(if (7..18).contains(&(i % 24)) {
                1.2
            } else {
                0.0
            }),
            wind: MetresPerSecond::from_m_per_s(1.5),
            rain: None,
        })
        .collect();
    bencher.bench(|| hourly_series(black_box(&hours), &station()));
}

/// A site of some zones that one controller waters every second night.
fn at_work(count: u16) -> AccountInputs {
    let climate = Climate::from_record(&thirty_years(), station());
    let mut facts = AccountInputs::surveyed(&site(), &TimeZone::UTC, &zones(count), climate);
    let card = Card { stations: count.max(48), programs: 4, starts_per_program: 8, ..twelve_stations() };
    let mut settings = Settings::clean(&card);
    if let Some(program) = settings.programs.first_mut() {
        (program.active, program.starts, program.days) = (true, vec![time(2, 0, 0, 0)], Days::Odd);
    }
    for station in 1..=count {
        settings.set_run_time(0, station, Seconds::from_min(8));
    }
    let versions = vec![(Timestamp::MIN, settings)];
    facts.controllers = vec![ControllerFacts { number: 1, card, versions, sensors: Vec::new() }];
    facts
}

/// The account of a site up to an evening, and the night that follows.
#[divan::bench(args = [8, 24, 48])]
fn tonight_cold(bencher: Bencher, count: u16) {
    let facts = at_work(count);
    let on = date(2026, 7, 10);
    bencher.bench(|| {
        let account = account_of(black_box(&facts), EvidencePolicy::Best, on, Timestamp::MIN);
        tonight(&facts, &account, 1, on)
    });
}

/// The same where nothing of the controller is known.
#[divan::bench(args = [24])]
fn tonight_cold_as_advised(bencher: Bencher, count: u16) {
    let facts = at_work(count);
    let on = date(2026, 7, 10);
    bencher.bench(|| {
        let account = account_of(black_box(&facts), EvidencePolicy::AsAdvised, on, Timestamp::MIN);
        tonight(&facts, &account, 1, on)
    });
}

/// The night from an account that is there.
#[divan::bench(args = [8, 24, 48])]
fn tonight_warm(bencher: Bencher, count: u16) {
    let facts = at_work(count);
    let on = date(2026, 7, 10);
    let account = account_of(&facts, EvidencePolicy::Best, on, Timestamp::MIN);
    bencher.bench(|| tonight(black_box(&facts), &account, 1, on));
}

/// A year of a controller with 48 stations in four programs, two of them every day.
#[divan::bench]
fn expand_a_year_of_48_stations(bencher: Bencher) {
    let program = |k: u16, days| Program {
        name: k.to_string(),
        active: true,
        starts: vec![time(2, 0, 0, 0)],
        days,
        run_times: (1..=12).map(|n| (k * 12 + n, Seconds::from_min(10))).collect(),
        repeat: None,
    };
    let settings = Settings {
        programs: vec![
            program(0, Days::Weekdays([true; 7])),
            program(1, Days::Weekdays([true; 7])),
            program(2, Days::Odd),
            program(3, Days::EveryNth { interval: 3, first: date(2026, 1, 1) }),
        ],
        percentages: Percentages::Program([90, 100, 80, 110].map(Percentage::from_percent).to_vec()),
        stations: Vec::new(),
        delay: Seconds::from_s(5),
        never_days: [false, false, false, false, false, false, true],
        omit_hours: None,
        rain_delay: None,
        off_season: None,
        omit_dates: Vec::new(),
        master_lead: (Seconds::ZERO, Seconds::ZERO),
    };
    let card = Card { stations: 48, programs: 4, ..twelve_stations() };
    let tz = TimeZone::get("Europe/Paris").unwrap();
    bencher.bench(|| expand(black_box(&settings), &card, &tz, date(2026, 1, 1), date(2026, 12, 31)));
}

/// Every check of 48 stations in four programs over four weeks, actions tried.
#[divan::bench]
fn check_48_stations(bencher: Bencher) {
    let card = Card { stations: 48, programs: 4, starts_per_program: 8, ..twelve_stations() };
    let climate = Climate::from_record(&[], station());
    let from = date(2026, 7, 13);
    let controller_at_site = Installation::new(
        &site(),
        InstalledCard { card: &card, number: 1 },
        &zones(48),
        Law::default(),
        &climate,
        from,
        &TimeZone::UTC,
    );
    let mut settings = Settings::clean(&card);
    for (k, program) in settings.programs.iter_mut().enumerate() {
        program.active = true;
        program.starts = vec![time(20 + k as i8 % 2, 0, 0, 0)];
        program.run_times = (1..=12).map(|n| (k as u16 * 12 + n, Seconds::from_min(10))).collect();
    }
    bencher.bench(|| check(black_box(&controller_at_site), &settings, from));
}

/// A plan of 48 stations for fourteen days.
#[divan::bench(args = [Strategy::JustNeed, Strategy::SoilBalance])]
fn plan_48_stations(bencher: Bencher, strategy: Strategy) {
    let card = Card { stations: 48, programs: 8, starts_per_program: 8, ..twelve_stations() };
    let climate = Climate::from_record(&[], station());
    let from = date(2026, 7, 13);
    let site = Site {
        windows: WaterWindows::only(Hours { from: time(18, 0, 0, 0), until: time(10, 0, 0, 0) }),
        ..site()
    };
    let controller_at_site = Installation::new(
        &site,
        InstalledCard { card: &card, number: 1 },
        &zones(48),
        Law::default(),
        &climate,
        from,
        &TimeZone::UTC,
    );
    let present = Settings::clean(&card);
    let request = Request {
        installation: &controller_at_site,
        present: &present,
        strategy,
        from,
        basis: Basis::Coming,
        relax: Relax::default(),
    };
    if let Err(binding) = plan(&request) {
        eprintln!("no fit: {binding:?}");
    }
    bencher.bench(|| plan(black_box(&request)));
}

/// The smallest relaxations where nothing fits.
#[divan::bench]
fn relaxations_of_48_stations(bencher: Bencher) {
    let card = Card { stations: 48, programs: 8, starts_per_program: 8, ..twelve_stations() };
    let climate = Climate::from_record(&[], station());
    let from = date(2026, 7, 13);
    let site = Site {
        windows: WaterWindows::only(Hours { from: time(4, 0, 0, 0), until: time(6, 0, 0, 0) }),
        ..site()
    };
    let controller_at_site = Installation::new(
        &site,
        InstalledCard { card: &card, number: 1 },
        &zones(48),
        Law::default(),
        &climate,
        from,
        &TimeZone::UTC,
    );
    let present = Settings::clean(&card);
    let request = Request {
        installation: &controller_at_site,
        present: &present,
        strategy: Strategy::JustNeed,
        from,
        basis: Basis::Coming,
        relax: Relax::default(),
    };
    bencher.bench(|| relaxations(black_box(&request)));
}

/// Normals, and a budget that counts rain by the balance of 24 zones, from thirty years of days.
#[divan::bench]
fn budget_of_24_zones_and_30_years(bencher: Bencher) {
    use upland_core::advice::budget::{Base, RainRule, budget, needs};
    let days = thirty_years();
    let zones = zones(24);
    let card = Card { stations: 24, programs: 4, ..twelve_stations() };
    let mut settings = Settings::clean(&card);
    for (index, program) in settings.programs.iter_mut().enumerate() {
        program.active = true;
        program.starts = vec![time(1 + index as i8, 0, 0, 0)];
    }
    for zone in &zones {
        settings.set_run_time(usize::from(zone.number) % 4, zone.number, Seconds::from_min(10));
    }
    let span = (date(1996, 7, 15), date(2026, 7, 14));
    bencher.bench(|| {
        let climate = Climate::from_record(black_box(&days), station());
        let of = InstalledCard { card: &card, number: 1 };
        let installation =
            Installation::new(&site(), of, &zones, Law::default(), &climate, span.1, &TimeZone::UTC);
        let base = Base::new(&installation, &settings, 2026);
        budget(&base, &needs(&installation, &climate, RainRule::Counted, 2026), RainRule::Counted)
    });
}

/// A year of hourly readings through the states of eight sensors.
#[divan::bench]
fn a_year_of_hourly_states_of_8_sensors(bencher: Bencher) {
    use upland_core::sensors::state::{ByChannel, Drying, holds};
    use upland_core::sensors::{Channel, Reading, Readings, Sensor, generic};
    let start: Timestamp = "2025-01-01T00:00:00Z".parse().unwrap();
    let hourly = |value: &dyn Fn(i64) -> f64| {
        Readings::new((0..8760).map(|h| Reading { at: start + h.hours(), value: value(h) }).collect())
    };
    let readings: ByChannel = [
        (Channel::Rain, hourly(&|h| if h % 61 == 0 { 6.0 } else { 0.0 })),
        (
            Channel::Temperature,
            hourly(&|h| 8.0 + 7.0 * ((h % 24) as f64 / 24.0 - 0.5) - if h % 700 < 60 { 9.0 } else { 0.0 }),
        ),
        (Channel::Wind, hourly(&|h| if h % 37 < 3 { 7.0 } else { 2.0 })),
    ]
    .into();
    let drying =
        Drying::new((0..430).map(|d| (start + (24 * d).hours(), Millimetres::from_mm(3.0))).collect());
    let cards = generic();
    let sensors: Vec<Sensor> = ["rain_switch", "rain_freeze_switch", "freeze_switch", "wind_switch"]
        .iter()
        .cycle()
        .take(8)
        .map(|code| Sensor::of_card(cards.iter().find(|(c, _)| c == code).unwrap().1.clone(), 1))
        .collect();
    let until = start + 8760.hours();
    bencher.bench(|| {
        sensors.iter().map(|s| holds(black_box(s), &readings, &drying, until).len()).sum::<usize>()
    });
}

/// The hours of a year over a site, and a zone's account of them.
mod by_the_hour {
    use super::*;
    use upland_core::account::evidence::{Evidence, Watering};
    use upland_core::account::sky::SkyHours;
    use upland_core::account::zone::{ZoneFacts, account};
    use upland_core::quantity::time::midnight;

    fn year() -> SkyHours {
        let climate = Climate::from_record(&thirty_years(), station());
        let tz = TimeZone::UTC;
        SkyHours::of(&climate, 8.0, &tz, date(2010, 1, 1), midnight(date(2011, 1, 1), &tz))
    }

    #[divan::bench]
    fn sky_of_a_year(bencher: Bencher) {
        let climate = Climate::from_record(&thirty_years(), station());
        let tz = TimeZone::UTC;
        bencher.bench(|| {
            SkyHours::of(black_box(&climate), 8.0, &tz, date(2010, 1, 1), midnight(date(2011, 1, 1), &tz))
        });
    }

    #[divan::bench]
    fn zone_year(bencher: Bencher) {
        let sky = year();
        let zone = zones(1).remove(0);
        let resolved = zone.resolve(46.0);
        let runs: Vec<Watering> = sky
            .days()
            .iter()
            .map(|day| {
                let at = day.begins + jiff::SignedDuration::from_mins(125);
                Watering::plain(at, at + jiff::SignedDuration::from_mins(17))
            })
            .collect();
        let evidence = vec![Evidence::AsSet; sky.days().len()];
        let facts = ZoneFacts { runs: &runs, evidence: &evidence, ..ZoneFacts::of(&zone, &resolved) };
        bencher.bench(|| account(black_box(&facts), &sky, |_| ()));
    }
}

mod trials {
    //! A season of every zone with its three parts, under ways; a year by the hour.
    use super::*;
    use upland_core::codes::Coded;
    use upland_core::trial::{Goal, Named, Space, run, run_mean, search};

    /// One zone, as set: the account and three parts, with half a year before it.
    #[divan::bench(args = [1, 24])]
    fn a_year_as_set(bencher: Bencher, zones: u16) {
        let facts = at_work(zones);
        let last = facts.climate.span().unwrap().last;
        let span = DateSpan::new(last - jiff::Span::new().days(364), last);
        let way = Named::AsSet.way("as-set");
        bencher.bench(|| run(black_box(&way), &facts, span, None, |_, _| ()));
    }

    /// Twenty-four zones, every named way that the controller holds, one after the other on one core.
    #[divan::bench]
    fn every_way_of_24_zones(bencher: Bencher) {
        let facts = at_work(24);
        let last = facts.climate.span().unwrap().last;
        let span = DateSpan::new(last - jiff::Span::new().days(364), last);
        let ways: Vec<_> = Named::TABLE.iter().map(|(named, code)| named.way(code)).collect();
        bencher.bench(|| {
            ways.iter().filter_map(|way| run(black_box(way), &facts, span, None, |_, _| ()).ok()).count()
        });
    }

    /// The cost over zones and over years, the mean of each zone, as set: linear in both.
    #[divan::bench(sample_count = 5, args = [(10, 1), (100, 1), (1000, 1), (24, 1), (24, 5), (24, 30)])]
    fn zones_and_years(bencher: Bencher, case: (u16, i64)) {
        let (zones, years) = case;
        let facts = at_work(zones);
        let last = facts.climate.span().unwrap().last;
        let span = DateSpan::new(last - jiff::Span::new().days(365 * years - 1), last);
        let way = Named::AsSet.way("as-set");
        bencher.bench(|| run_mean(black_box(&way), &facts, span, None));
    }

    /// A search over everything, 24 zones, a year.
    #[divan::bench(sample_count = 3)]
    fn search_of_24_zones(bencher: Bencher) {
        use std::ops::ControlFlow;
        let facts = at_work(24);
        let last = facts.climate.span().unwrap().last;
        let span = DateSpan::new(last - jiff::Span::new().days(364), last);
        let goal = Goal { adequacy: upland_core::quantity::ratio::Share::from_fraction(0.95) };
        bencher.bench(|| search(&facts, 1, span, Space::ALL, goal, |_| ControlFlow::Continue(())));
    }
}

/// Diagnosing a visit to a site of so many zones, with the adjustments and what each does in two and four weeks.
#[divan::bench(args = [8, 24, 100])]
fn diagnosis_with_predictions(bencher: Bencher, count: u16) {
    use upland_core::tuning::{Looks, Sign, Visit, ZoneSeen, account_at, decide};
    let facts = at_work(count);
    let seen = |station: u16| ZoneSeen {
        controller_number: 1,
        station,
        looks: Some(if station.is_multiple_of(3) { Looks::Dry } else { Looks::Right }),
        signs: if station == 6 { [Sign::Blocked].into() } else { Default::default() },
        ..ZoneSeen::default()
    };
    let last = facts.climate.span().unwrap().last;
    let at = upland_core::quantity::time::noon(last, &facts.tz);
    let visit = Visit { at, zones: (1..=count).map(seen).collect(), ..Visit::default() };
    bencher.bench(|| decide(black_box(&facts), &account_at(&facts, &visit), &visit));
}

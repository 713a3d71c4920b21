//! Properties that hold for every survey and every weather, not only for the examples.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, clippy::panic)]

mod support;

use jiff::ToSpan;
use jiff::civil::{Date, Time, date};
use jiff::tz::TimeZone;
use proptest::prelude::*;
use upland_core::account::running::ControllerFacts;
use upland_core::account::site_account::{AccountInputs, EvidencePolicy};
use upland_core::advice::budget::{Base, RainRule, budget, needs};
use upland_core::advice::findings::{FindingKind, Severity, check};
use upland_core::advice::planner::{Basis, Relax, Request, Strategy as PlanStrategy, plan, relaxations};
use upland_core::advice::tonight::{Decision, Tonight, account_of, tonight};
use upland_core::controller::night::{Due, Keying, lay_out};
use upland_core::controller::ordinance::{AllowedDays, Applied, HouseNumber, Law, Ordinance, Rule};
use upland_core::controller::schedule::{Settings, difference};
use upland_core::controller::{Card, generic, twelve_stations};
use upland_core::explain;
use upland_core::ground::application::{Cycles, HeadType, cycle_limit, run_time_multiplier};
use upland_core::ground::plant::{PlantKind, Sky, Sun};
use upland_core::ground::soil::Texture;
use upland_core::installation::{Installation, InstalledCard};
use upland_core::quantity::month::ByMonth;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::time::{Hours, MINUTES_A_DAY, MinuteOfDay, instant, midnight};
use upland_core::quantity::units::*;
use upland_core::site::windows::WaterWindows;
use upland_core::site::{Site, UnitSystem, Zone};
use upland_core::weather::climate::Climate;
use upland_core::weather::reference_et::{daily, hourly_series};
use upland_core::weather::{DayWeather, HourHumidity, HourWeather, Station};
use upland_core::weather::{atmosphere, radiation};

const EVENING: Date = date(2026, 7, 14);

fn station() -> impl Strategy<Value = Station> {
    (-65.0..65.0_f64, -180.0..180.0_f64, 0.0..3000.0_f64, 1.0..12.0_f64).prop_map(
        |(lat, lon, elevation, height)| Station {
            latitude_deg: lat,
            longitude_deg: lon,
            elevation: Metres::from_m(elevation),
            wind_height: Metres::from_m(height),
        },
    )
}

/// A day with any of its optional inputs missing.
fn day(on: Date) -> impl Strategy<Value = DayWeather> {
    (
        (-15.0..28.0_f64, 0.5..20.0_f64),
        proptest::option::of((20.0..60.0_f64, 60.0..100.0_f64)),
        proptest::option::of(0.5..12.0_f64),
        proptest::option::of(0.2..8.0_f64),
        proptest::option::of(prop_oneof![3 => Just(0.0), 1 => 0.2..60.0_f64]),
    )
        .prop_map(move |((min, range), rh, solar, wind, rain)| {
            let mut day =
                DayWeather::from_temperatures(on, Celsius::from_c(min), Celsius::from_c(min + range));
            day.humidity_min_pct = rh.map(|(low, _)| low);
            day.humidity_max_pct = rh.map(|(_, high)| high);
            day.solar = solar.map(MegajoulesPerSquareMetre::from_mj_per_m2);
            day.wind = wind.map(MetresPerSecond::from_m_per_s);
            day.rain = rain.map(Millimetres::from_mm);
            day
        })
}

fn record() -> impl Strategy<Value = Vec<DayWeather>> {
    (0..45_i32).map(|back| day(EVENING - back.days())).collect::<Vec<_>>()
}

fn zone() -> impl Strategy<Value = Zone> {
    (
        (proptest::sample::select(&PlantKind::ALL), proptest::sample::select(&Texture::ALL)),
        (
            proptest::sample::select(&Sun::ALL),
            proptest::sample::select(&Sky::ALL),
            proptest::sample::select(&HeadType::ALL),
        ),
        (
            proptest::option::of(0.0..30.0_f64),
            proptest::option::of(3.0..60.0_f64),
            proptest::option::of(0.3..0.95_f64),
        ),
        (
            proptest::option::of(0.05..1.0_f64),
            proptest::option::of(0.1..0.8_f64),
            proptest::option::of(5.0..900.0_f64),
        ),
    )
        .prop_map(
            |((plant, soil), (sun, sky, head), (slope, rate, uniformity), (root, depletion, area))| Zone {
                controller_number: 1,
                number: 1,
                name: "Zone".into(),
                plant,
                own_coefficient: None,
                planting: Default::default(),
                soil,
                slope_pct: slope,
                sun,
                sky,
                head,
                precipitation_rate: rate.map(MillimetresPerHour::from_mm_per_hour),
                uniformity: uniformity.map(Share::from_fraction),
                root_depth: root.map(Metres::from_m),
                allowable_depletion: depletion.map(Share::from_fraction),
                area: area.map(SquareMetres::from_m2),
                window: None,
            },
        )
}

fn zones() -> impl Strategy<Value = Vec<Zone>> {
    proptest::collection::vec(zone(), 1..10).prop_map(|mut zones| {
        for (zone, number) in zones.iter_mut().zip(1..) {
            zone.number = number;
        }
        zones
    })
}

fn card(programs: u8, starts: u8) -> Card {
    Card { programs, starts_per_program: starts, ..twelve_stations() }
}

fn site(station: &Station, window: (u16, u16)) -> Site {
    let clock = |minute: u16| Time::new((minute / 60) as i8, (minute % 60) as i8, 0, 0).unwrap();
    Site {
        name: "Site".into(),
        latitude_deg: station.latitude_deg,
        longitude_deg: station.longitude_deg,
        elevation: station.elevation,
        wind_height: station.wind_height,
        time_zone: "UTC".into(),
        units: UnitSystem::Metric,
        windows: WaterWindows::only(Hours { from: clock(window.0), until: clock(window.1) }),
        supply: None,
        drizzle: Default::default(),
        card: Default::default(),
    }
}

/// The night of a controller of which only the card is known.
fn decided(site: &Site, card: Card, zones: &[Zone], climate: &Climate) -> Tonight {
    let mut facts = AccountInputs::surveyed(site, &TimeZone::UTC, zones, climate.clone());
    facts.controllers = vec![ControllerFacts { number: 1, card, versions: Vec::new(), sensors: Vec::new() }];
    tonight(&facts, &account_of(&facts, EvidencePolicy::Best, EVENING, jiff::Timestamp::MIN), 1, EVENING)
}

fn checked(result: &Tonight) -> Result<(), TestCaseError> {
    for row in &result.zones {
        let taw = row.resolved.root_zone.total_available.mm();
        prop_assert!((0.0..=taw + 1e-9).contains(&row.depletion.mm()));
        prop_assert!(row.depletion_after <= row.depletion, "watering never dries a zone");
        let has_runs = result.night.layout.runs.iter().any(|r| r.number == row.zone.number);
        prop_assert_eq!(has_runs, row.cycles.is_some());
        match row.decision {
            Decision::Waits | Decision::Deferred | Decision::Barred(_) => prop_assert!(!has_runs),
            Decision::Runs => {
                // Whole minutes may leave less than a minute's worth behind.
                let minute = row.resolved.rate.value.mm_per_hour() / 60.0;
                prop_assert!(has_runs && row.depletion_after.mm() <= minute);
            }
            Decision::RunsShort { asked_minutes } | Decision::RunsLawful { asked_minutes } => {
                prop_assert!(row.cycles.unwrap().total_minutes() < asked_minutes);
            }
        }
        if let (Some(cycles), Some(longest)) = (row.cycles, row.resolved.cycle_limit.longest) {
            prop_assert!(f64::from(cycles.minutes_each) <= longest.min_value().max(1.0), "no cycle runs off");
        }
    }
    if let Some(first) = &result.night.first_start {
        prop_assert!(*first >= result.night.window_from);
        prop_assert!(result.night.last_end().unwrap() <= result.night.window_until);
    }
    Ok(())
}

/// Where cases that failed are kept.
const KEPT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/properties.proptest-regressions");

fn cases(count: u32) -> ProptestConfig {
    support::cases(count, KEPT)
}

proptest! {
    #![proptest_config(cases(96))]

    #[test]
    fn every_night_stays_in_its_window_and_every_zone_adds_up(
        station in station(), zones in zones(), days in record(),
        window in (0u16..1440, 0u16..1440).prop_filter("a length", |(a, b)| a != b),
        programs in 1u8..5, starts in 1u8..9,
    ) {
        let climate = Climate::from_record(&days, station);
        let result = decided(&site(&station, window), card(programs, starts), &zones, &climate);
        checked(&result)?;
    }

    #[test]
    fn the_same_facts_give_the_same_night(station in station(), zones in zones(), days in record()) {
        let climate = Climate::from_record(&days, station);
        let decide = |zones: &[Zone]| decided(&site(&station, (60, 390)), card(3, 4), zones, &climate);
        let mut shuffled = zones.clone();
        shuffled.reverse();
        prop_assert_eq!(decide(&zones), decide(&shuffled), "the order of the survey does not matter");
    }

    #[test]
    fn every_number_is_explained_to_itself(station in station(), zone in zone(), days in record()) {
        let climate = Climate::from_record(&days, station);
        let result = decided(&site(&station, (60, 390)), card(3, 4), &[zone], &climate);
        let row = &result.zones[0];
        let last = |e: &explain::Explanation| e.steps.last().unwrap().result;
        prop_assert_eq!(last(&explain::need(row)), explain::Quantity::Depth(row.refill.net));
        prop_assert_eq!(last(&explain::minutes(row)), explain::Quantity::Time(row.refill.run_time));
        prop_assert_eq!(last(&explain::reference_et(&climate, EVENING)), explain::Quantity::Depth(result.et0.0));
        for step in explain::depletion(row).steps {
            prop_assert!(!step.source.is_empty() && !step.formula.is_empty());
        }
    }

    #[test]
    fn et0_is_finite_and_plausible(station in station(), day in day(EVENING)) {
        let et0 = daily(&day, &station).et0.mm();
        prop_assert!(et0.is_finite() && (-3.0..25.0).contains(&et0), "{et0}");
    }

    #[test]
    fn et0_rises_with_sun_and_wind_and_falls_with_humidity(
        solar in 8.0..20.0_f64, wind in 1.0..4.0_f64, rh in 30.0..50.0_f64,
    ) {
        let at = Station {
            latitude_deg: 46.0,
            longitude_deg: 0.0,
            elevation: Metres::from_m(500.0),
            wind_height: Metres::from_m(2.0),
        };
        let et0 = |solar: f64, wind: f64, rh: f64| {
            let mut day = DayWeather::from_temperatures(EVENING, Celsius::from_c(12.0), Celsius::from_c(27.0));
            day.solar = Some(MegajoulesPerSquareMetre::from_mj_per_m2(solar));
            day.wind = Some(MetresPerSecond::from_m_per_s(wind));
            day.humidity_min_pct = Some(rh);
            day.humidity_max_pct = Some(90.0);
            daily(&day, &at).et0.mm()
        };
        let base = et0(solar, wind, rh);
        prop_assert!(et0(solar + 3.0, wind, rh) > base);
        prop_assert!(et0(solar, wind + 1.0, rh) > base);
        prop_assert!(et0(solar, wind, rh + 10.0) < base);
    }

    #[test]
    fn hours_sum_to_about_the_day(lat in 30.0..55.0_f64, clearness in 0.45..0.7_f64) {
        // A smooth summer day by hours and by its daily values; the two forms of the standard
        // differ by some percent, not by tenths.
        let at = Station { latitude_deg: lat, longitude_deg: 0.0, elevation: Metres::from_m(200.0), wind_height: Metres::from_m(2.0) };
        let on = date(2026, 7, 10);
        let midnight = on.to_zoned(TimeZone::UTC).unwrap().timestamp();
        let temperature = |h: f64| 20.0 + 6.0 * (2.0 * std::f64::consts::PI * (h - 15.0) / 24.0).cos();
        let hours: Vec<HourWeather> = (0..24)
            .map(|h| {
                let hour = f64::from(h) + 0.5;
                let angle = upland_core::weather::sun::solar_time_angle_rad(hour, 0.0, 191.0);
                HourWeather {
                    start: midnight + jiff::SignedDuration::from_hours(i64::from(h)),
                    local_date: on,
                    temperature: Celsius::from_c(temperature(hour)),
                    humidity: HourHumidity::DewPoint(Celsius::from_c(11.0)),
                    solar: radiation::extraterrestrial_hour(191.0, lat, angle) * clearness,
                    wind: MetresPerSecond::from_m_per_s(2.0),
                    rain: None,
                }
            })
            .collect();
        let hourly: f64 = hourly_series(&hours, &at).iter().map(|e| e.et0.mm()).sum();
        let mut whole = DayWeather::from_temperatures(on, Celsius::from_c(14.0), Celsius::from_c(26.0));
        whole.dew_point = Some(Celsius::from_c(11.0));
        whole.solar = Some(radiation::extraterrestrial_day(on, lat) * clearness);
        whole.wind = Some(MetresPerSecond::from_m_per_s(2.0));
        let day = daily(&whole, &at).et0.mm();
        prop_assert!((hourly - day).abs() < 0.12 * day, "{hourly} by hours, {day} by the day");
    }

    #[test]
    fn vapour_rises_with_temperature_and_pressure_falls_with_height(t in -30.0..45.0_f64, z in 0.0..4000.0_f64) {
        let e = |t| atmosphere::saturation_vapour_pressure(Celsius::from_c(t)).kpa();
        prop_assert!(e(t + 0.5) > e(t));
        // The slope is the derivative of the curve.
        let difference = (e(t + 0.01) - e(t - 0.01)) / 0.02;
        prop_assert!((atmosphere::saturation_slope(Celsius::from_c(t)) / difference - 1.0).abs() < 1e-3);
        let p = |z| atmosphere::pressure(Metres::from_m(z)).kpa();
        prop_assert!(p(z + 10.0) < p(z));
    }

    #[test]
    fn worse_uniformity_runs_longer_and_steeper_slopes_cycle_shorter(
        du in 0.25..0.95_f64, soil in proptest::sample::select(&Texture::ALL), slope in 0.0..15.0_f64, rate in 3.0..60.0_f64,
    ) {
        let at = |du| run_time_multiplier(Share::from_fraction(du));
        prop_assert!(at(du) > at(du + 0.05));
        let rate = MillimetresPerHour::from_mm_per_hour(rate);
        let longest = |slope| cycle_limit(soil, slope, rate).longest.map_or(f64::INFINITY, Minutes::min_value);
        prop_assert!(longest(slope + 4.0) <= longest(slope));
    }
}

fn law(kind: usize) -> Law {
    let week = |days: [usize; 3]| core::array::from_fn(|i| days.contains(&i));
    let rule = |days, most| Rule {
        season: None,
        days,
        forbidden_hours: vec![Hours {
            from: Time::constant(10, 0, 0, 0),
            until: Time::constant(18, 0, 0, 0),
        }],
        most_days_a_week: most,
        most_minutes_a_day: None,
        after_rain: None,
    };
    let minutes = |most| Rule { most_minutes_a_day: Some(most), ..rule(AllowedDays::Any, None) };
    let rules = match kind {
        0 => return Law::default(),
        1 => vec![rule(AllowedDays::Weekdays { odd: week([0, 3, 5]), even: week([1, 4, 6]) }, Some(2))],
        2 => vec![rule(AllowedDays::DatesOfHouseNumber, None)],
        3 => vec![minutes(45)],
        _ => vec![rule(AllowedDays::Any, Some(3))],
    };
    let ordinance = Ordinance {
        name: "Larkrigg".into(),
        rules,
        exempt_heads: if kind.is_multiple_of(2) { vec![HeadType::Drip] } else { Vec::new() },
        hours_bind_exempt_heads: kind.is_multiple_of(3),
        exempts_new_planting: false,
    };
    Law { applied: vec![Applied { ordinance, house: HouseNumber::Odd, permits: Vec::new() }] }
}

proptest! {
    #![proptest_config(cases(96))]

    #[test]
    fn what_the_planner_proposes_passes_the_checks(
        zones in zones(), window in (0u16..1440, 120u16..700), supply in proptest::option::of(60.0..400.0_f64),
        strategy in 0usize..5, card in 0usize..6, law_kind in 0usize..5, pause in 0i32..3,
        second in proptest::option::of((0u16..1440, 60u16..300)), own in proptest::option::of((0u16..1440, 120u16..600)),
    ) {
        let station = Station { latitude_deg: 46.0, longitude_deg: 0.0, elevation: Metres::from_m(600.0), wind_height: Metres::from_m(2.0) };
        let mut site = site(&station, (window.0, (window.0 + window.1) % 1440));
        site.supply = supply.map(LitresPerMinute::from_l_per_min);
        let clock = |minutes: u16| MinuteOfDay::after_midnight(u32::from(minutes)).time();
        let hours = |(from, length): (u16, u16)| Hours { from: clock(from), until: clock((from + length) % 1440) };
        site.windows.second = second.map(hours);
        let card = generic()[card].1.clone();
        let climate = Climate::from_record(&[], station);
        let mut zones: Vec<Zone> = zones.into_iter().filter(|z| z.number <= card.stations).collect();
        zones[0].window = own.map(hours);
        let installation = Installation::new(&site, InstalledCard { card: &card, number: 1 }, &zones, law(law_kind), &climate, EVENING, &TimeZone::UTC);
        let mut present = Settings::clean(&card);
        present.delay = Seconds::from_s(i64::from(pause) * 30).min(card.longest_delay);
        let request = Request {
            installation: &installation, present: &present, strategy: PlanStrategy::ALL[strategy], from: EVENING, basis: Basis::Coming, relax: Relax::default(),
        };
        match plan(&request) {
            Ok(proposal) => {
                prop_assert_eq!(proposal.settings.check(&card), []);
                for finding in check(&installation, &proposal.settings, EVENING) {
                    // A zone whose cycles the controller has no starts for says so in its reason.
                    let told = proposal.zones.iter().any(|z| z.short_by.is_some() || z.unlawful.is_some() || z.starts_too_many.is_some());
                    // A strategy that fixes its depth leaves a thirsty zone short, and the checks say so.
                    // What the law's days or too few programs strain is said of the program.
                    let station = match finding.place { upland_core::advice::findings::FindingPlace::Station(n) => n, _ => 0 };
                    let strained = proposal.programs.iter().any(|p| p.stations.contains(&station) && (p.strained || p.merged));
                    let told = told || strained && matches!(finding.kind, FindingKind::DriesBetween { .. } | FindingKind::DrainsBetween { .. });
                    let deep = matches!(request.strategy, PlanStrategy::DeepOnce | PlanStrategy::DeepTwice)
                        && matches!(finding.kind, FindingKind::ZoneShort { .. } | FindingKind::DriesBetween { .. } | FindingKind::DrainsBetween { .. });
                    prop_assert!(finding.severity == Severity::Note || told || deep, "{} {:?}", finding.id(), finding.kind);
                }
                // The budget can read what the planner wrote, in every month, whatever day a rhythm begins on.
                let base = Base::new(&installation, &proposal.settings, EVENING.year());
                let found = budget(&base, &needs(&installation, &climate, RainRule::LeftToHold, EVENING.year()), RainRule::LeftToHold);
                for zone in proposal.zones.iter().filter(|z| z.run_time.min_value() >= 1.0) {
                    let read = found.zones.iter().find(|b| b.station == zone.station);
                    prop_assert!(read.is_some_and(|b| b.ideal.iter().all(Option::is_some)), "zone {}", zone.station);
                }
                prop_assert_eq!(plan(&request), Ok(proposal), "the same again");
            }
            Err(_) => {
                for relaxation in relaxations(&request) {
                    prop_assert!(plan(&Request { relax: relaxation.relax, ..request }).is_ok(), "{:?}", relaxation);
                }
            }
        }
    }

    #[test]
    fn the_difference_of_two_settings_is_empty_only_when_they_are_alike(
        minutes in proptest::collection::vec(0u32..90, 3), starts in proptest::collection::vec(0u16..1440, 0..4),
    ) {
        let card = twelve_stations();
        let before = Settings::clean(&card);
        let mut after = before.clone();
        for (minutes, n) in minutes.iter().zip(1..) {
            after.set_run_time(0, n, Seconds::from_min(i64::from(*minutes)));
        }
        after.programs[0].starts = starts.iter().map(|m| Time::constant((m / 60) as i8, (m % 60) as i8, 0, 0)).collect();
        let after = after.canonical();
        prop_assert_eq!(difference(&before, &after).is_empty(), before == after);
        prop_assert!(difference(&after, &after).is_empty());
    }

    #[test]
    fn a_night_gives_every_zone_its_minutes_and_never_two_at_once(
        asked in proptest::collection::vec((1u32..6, 1u32..25, 0u32..60), 1..10),
        programs in 1u8..5, starts in 1u8..8, step in prop::sample::select(vec![1u16, 5, 10, 15]),
    ) {
        let card = Card { start_step_min: step, ..card(programs, starts) };
        let due: Vec<Due> = asked
            .iter()
            .zip(1..)
            .map(|((count, minutes_each, soak_minutes), number)| Due { lane: 0,
                number,
                cycles: Cycles { count: *count, minutes_each: *minutes_each, soak_minutes: *soak_minutes },
                asked_minutes: count * minutes_each,
                urgency: 0.0,
            })
            .collect();
        let keying = Keying { cycles_itself: false, ..Keying::of(&card, Seconds::ZERO) };
        let layout = lay_out(&due, &keying);
        prop_assert!(layout.programs.len() <= usize::from(programs), "no more programs than the controller has");
        for program in &layout.programs {
            prop_assert!(program.starts.len() <= usize::from(starts), "nor more starts");
            prop_assert!(program.starts.iter().all(|s| s.is_multiple_of(u32::from(step))), "in its own step");
            prop_assert!(program.zones.is_sorted(), "stations in the order of the controller");
        }
        let mut runs = layout.runs.clone();
        runs.sort_by_key(|r| r.from_minute);
        for pair in runs.windows(2) {
            prop_assert!(pair[0].from_minute + pair[0].minutes <= pair[1].from_minute, "{pair:?} run together");
        }
        let end = runs.iter().map(|r| r.from_minute + r.minutes).max();
        prop_assert_eq!(end, Some(layout.span_minutes));
        for zone in &due {
            let own: Vec<_> = runs.iter().filter(|r| r.number == zone.number).collect();
            let changed = layout.adjusted.iter().rfind(|(n, _)| *n == zone.number).map(|(_, c)| *c);
            let cycles = changed.unwrap_or(zone.cycles);
            prop_assert_eq!(own.len(), usize::try_from(cycles.count).unwrap());
            prop_assert!(own.iter().all(|r| r.minutes == cycles.minutes_each));
            for pair in own.windows(2) {
                let rest = pair[1].from_minute - pair[0].from_minute - pair[0].minutes;
                prop_assert!(rest >= cycles.soak_minutes, "zone {} soaks {rest} min", zone.number);
            }
            // Merged upward, a zone gets at least its minutes; cut to the starts there are, it says so.
            let kept = zone.cycles.count <= u32::from(starts);
            prop_assert!(!kept || cycles.total_minutes() >= zone.cycles.total_minutes());
        }
    }

    #[test]
    fn hours_hold_as_many_minutes_as_they_are_long(from in 0u32..1440, until in 0u32..1440) {
        let at = |minute| MinuteOfDay::after_midnight(minute).time();
        let hours = Hours { from: at(from), until: at(until) };
        let held = (0..MINUTES_A_DAY).filter(|m| hours.hold(at(*m))).count();
        let expected = if from == until { 0 } else { hours.minutes() };
        prop_assert_eq!(u32::try_from(held).unwrap(), expected);
        let rest = Hours { from: hours.until, until: hours.from };
        prop_assert!((0..MINUTES_A_DAY).all(|m| from == until || hours.hold(at(m)) != rest.hold(at(m))), "or its rest");
    }

    #[test]
    fn an_instant_of_the_wall_clock_reads_back_unless_the_clock_skipped_it(
        days in 0i32..4000, minute in 0u32..1440, zone in prop::sample::select(vec!["Etc/UTC", "Etc/GMT+12", "Etc/GMT-14", "Europe/London"]),
    ) {
        let tz = TimeZone::get(zone).unwrap();
        let (on, at) = (date(2020, 1, 1) + days.days(), MinuteOfDay::after_midnight(minute).time());
        let read = instant(on, at, &tz).to_zoned(tz.clone());
        let wall = on.to_datetime(at);
        if matches!(tz.to_ambiguous_zoned(wall).offset(), jiff::tz::AmbiguousOffset::Gap { .. }) {
            prop_assert!(read.datetime() > wall, "it moves on by the gap");
        } else {
            prop_assert_eq!(read.datetime(), wall);
        }
        prop_assert!(midnight(on, &tz) <= instant(on, at, &tz));
        prop_assert!(instant(on, at, &tz) < midnight(on.tomorrow().unwrap(), &tz));
    }

    #[test]
    fn a_start_that_a_controller_takes_is_its_own_nearest(minute in 0u32..1440, step in prop::sample::select(vec![1u16, 5, 10, 15, 30, 60])) {
        let card = Card { start_step_min: step, ..twelve_stations() };
        let asked = MinuteOfDay::after_midnight(minute);
        let before = MinuteOfDay::of(card.start_at_or_before(asked));
        prop_assert!(before <= asked && asked.minutes() - before.minutes() < u32::from(step));
        let near = card.nearest_start(asked.time());
        prop_assert_eq!(card.nearest_start(near), near);
        let away = asked.until(MinuteOfDay::of(near)) % MINUTES_A_DAY;
        let away = away.min(MINUTES_A_DAY - away);
        prop_assert!(away <= u32::from(step) / 2 + 1, "{away} min away from {minute}");
    }

    #[test]
    fn a_year_of_months_sums_to_the_year_whichever_way_it_is_counted(peak in 0.5..8.0_f64, year in 1990i16..2060) {
        let by_month = ByMonth::from_fn(|month| peak * (1.0 - (f64::from(month.number()) - 7.0).abs() / 12.0));
        let by_day: f64 = date(year, 1, 1)
            .series(1.day())
            .take_while(|d| d.year() == year)
            .filter(|d| (d.month(), d.day()) != (2, 29))
            .map(|d| *by_month.on(d))
            .sum();
        let by_length: f64 = by_month.months().map(|(month, value)| value * month.days()).sum();
        prop_assert!((by_day - by_length).abs() < 1e-9, "{by_day} {by_length}");
        let south = by_month.half_a_year_later();
        prop_assert_eq!(south.half_a_year_later(), by_month);
    }
}

//! Properties of controllers, whatever they are set to: what fits a card, what an action mends, what a
//! law forbids, what follows from a version that comes back.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, clippy::panic)]

mod support;

use jiff::civil::{Date, Time, date, time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use proptest::prelude::*;
use upland_core::advice::findings::{Finding, FindingKind, Severity, check};
use upland_core::controller::ordinance::{
    AllowedDays, Applied, HouseNumber, Law, Ordinance, Permit, Rule, Subject, Why, merged,
};
use upland_core::controller::schedule::{
    Days, Percentages, Program, Repeat, Settings, StationSetting, YearSpan, difference, expand, passes,
};
use upland_core::controller::{Card, Overlap, generic};
use upland_core::ground::application::HeadType;
use upland_core::ground::plant::{PlantKind, Sky, Sun};
use upland_core::ground::soil::Texture;
use upland_core::installation::{Installation, InstalledCard};
use upland_core::quantity::month::ByMonth;
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::time::{Hours, Seconds};
use upland_core::quantity::units::{LitresPerMinute, Metres, SquareMetres};
use upland_core::site::windows::WaterWindows;
use upland_core::site::{Site, UnitSystem, Zone};
use upland_core::weather::climate::Climate;

const FROM: Date = Date::constant(2026, 7, 13);

fn clock(minute: u16) -> Time {
    time((minute % 1440 / 60) as i8, (minute % 60) as i8, 0, 0)
}

fn days() -> impl Strategy<Value = Days> {
    prop_oneof![
        proptest::array::uniform7(any::<bool>()).prop_map(Days::Weekdays),
        Just(Days::Odd),
        Just(Days::Even),
        (1u8..20).prop_map(|interval| Days::EveryNth { interval, first: date(2026, 7, 1) }),
    ]
}

fn seconds(range: core::ops::Range<i64>) -> impl Strategy<Value = Seconds> {
    range.prop_map(Seconds::from_s)
}

fn program() -> impl Strategy<Value = Program> {
    (
        any::<bool>(),
        proptest::collection::vec(0u16..1440, 0..5),
        days(),
        proptest::collection::vec((1u16..14, seconds(0..5000)), 0..6),
        proptest::option::of((0u16..1440, seconds(60..4000))),
    )
        .prop_map(|(active, starts, days, run_times, repeat)| Program {
            name: "P".into(),
            active,
            starts: starts.into_iter().map(clock).collect(),
            days,
            run_times,
            repeat: repeat.map(|(until, pause)| Repeat { until: clock(until), pause }),
        })
}

fn settings() -> impl Strategy<Value = Settings> {
    (
        proptest::collection::vec(program(), 0..6),
        proptest::collection::vec(0u16..450, 12),
        0usize..3,
        proptest::collection::vec(
            (1u16..14, proptest::option::of((seconds(0..2000), seconds(0..4000))), any::<[bool; 4]>()),
            0..5,
        ),
        (seconds(-100..10_000), proptest::array::uniform7(proptest::bool::weighted(0.1))),
        proptest::option::of((0u16..1440, 0u16..1440)),
        proptest::option::of((1i8..14, 1i8..32, 1i8..13, 1i8..29)),
    )
        .prop_map(|(programs, percent, scope, stations, (delay, never_days), omit, off)| Settings {
            percentages: match scope {
                0 => Percentages::Controller(Percentage::from_percent(percent[0])),
                1 => Percentages::Program(
                    percent[..programs.len()].iter().map(|p| Percentage::from_percent(*p)).collect(),
                ),
                _ => Percentages::Month(ByMonth::new(core::array::from_fn(|i| {
                    Percentage::from_percent(percent[i])
                }))),
            },
            programs,
            stations: stations
                .into_iter()
                .map(|(n, cycle_and_soak, [lighting, master_valve, pump, ignores_sensors])| {
                    (
                        n,
                        StationSetting {
                            fixed_run_time: false,
                            cycle_and_soak,
                            lighting,
                            master_valve,
                            pump,
                            ignores_sensors,
                            valve_ma: None,
                        },
                    )
                })
                .collect(),
            delay,
            never_days,
            omit_hours: omit.map(|(f, u)| Hours { from: clock(f), until: clock(u) }),
            rain_delay: None,
            off_season: off.map(|(m, d, n, e)| YearSpan { from: (m, d), until: (n, e) }),
            omit_dates: Vec::new(),
            master_lead: (Seconds::ZERO, Seconds::ZERO),
        })
}

fn card() -> impl Strategy<Value = Card> {
    (0usize..6).prop_map(|i| generic()[i].1.clone())
}

fn zone(number: u16) -> Zone {
    Zone {
        controller_number: 1,
        number,
        name: format!("Zone {number}"),
        plant: if number.is_multiple_of(3) { PlantKind::LowDemand } else { PlantKind::CoolSeasonTurf },
        own_coefficient: None,
        planting: Default::default(),
        soil: if number.is_multiple_of(2) { Texture::Clay } else { Texture::Loam },
        slope_pct: Some(f64::from(number) * 2.0),
        sun: Sun::Full,
        sky: Sky::Open,
        head: if number.is_multiple_of(3) { HeadType::Drip } else { HeadType::Spray },
        precipitation_rate: None,
        uniformity: None,
        root_depth: None,
        allowable_depletion: None,
        area: Some(SquareMetres::from_m2(60.0)),
        window: None,
    }
}

fn installation(card: &Card, law: Law) -> Installation {
    let site = Site {
        name: "Site".into(),
        latitude_deg: 46.0,
        longitude_deg: 0.0,
        elevation: Metres::from_m(600.0),
        wind_height: Metres::from_m(2.0),
        time_zone: "UTC".into(),
        units: UnitSystem::Metric,
        windows: WaterWindows::only(Hours { from: time(22, 0, 0, 0), until: time(6, 0, 0, 0) }),
        supply: Some(LitresPerMinute::from_l_per_min(50.0)),
        drizzle: Default::default(),
        card: Default::default(),
    };
    let zones: Vec<Zone> = (1..=card.stations.min(8)).map(zone).collect();
    let climate = Climate::from_record(&[], site.station());
    Installation::new(&site, InstalledCard { card, number: 1 }, &zones, law, &climate, FROM, &TimeZone::UTC)
}

fn ordinance() -> impl Strategy<Value = Ordinance> {
    let rule = (
        proptest::option::of((1i8..13, 1i8..13)),
        0usize..5,
        proptest::array::uniform7(any::<bool>()),
        proptest::collection::vec((0u16..1440, 0u16..1440), 0..3),
        proptest::option::of(1u8..8),
    )
        .prop_map(|(season, mode, week, hours, most_days_a_week)| Rule {
            season: season.map(|(from, until)| YearSpan { from: (from, 1), until: (until, 28) }),
            days: match mode {
                0 => AllowedDays::Any,
                1 => AllowedDays::Weekdays { odd: week, even: week.map(|d| !d) },
                2 => AllowedDays::DatesOfHouseNumber,
                3 => AllowedDays::OddDates,
                _ => AllowedDays::EvenDates,
            },
            forbidden_hours: hours
                .into_iter()
                .map(|(f, u)| Hours { from: clock(f), until: clock(u) })
                .collect(),
            most_days_a_week,
            most_minutes_a_day: None,
            after_rain: None,
        });
    (proptest::collection::vec(rule, 1..3), any::<[bool; 2]>(), any::<bool>()).prop_map(
        |(rules, [drip, hours_bind_exempt_heads], exempts_new_planting)| Ordinance {
            name: "Larkrigg".into(),
            rules,
            exempt_heads: if drip { vec![HeadType::Drip] } else { Vec::new() },
            hours_bind_exempt_heads,
            exempts_new_planting,
        },
    )
}

fn score(found: &[Finding]) -> (usize, usize) {
    // What a zone gets is the planner's and the budget's, and not an action's.
    let of_need = |f: &&Finding| {
        let kind = &f.kind;
        matches!(kind, FindingKind::ZoneDrowned { .. } | FindingKind::ZoneShort { .. })
            || matches!(kind, FindingKind::DriesBetween { .. } | FindingKind::DrainsBetween { .. })
    };
    let count = |severity| found.iter().filter(|f| f.severity == severity && !of_need(f)).count();
    (count(Severity::Fault), count(Severity::Warning))
}

/// Where cases that failed are kept.
const KEPT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/controllers.proptest-regressions");

fn cases(count: u32) -> ProptestConfig {
    support::cases(count, KEPT)
}

proptest! {
    #![proptest_config(cases(128))]

    #[test]
    fn the_nearest_settings_fit_and_stay_as_they_are(settings in settings(), card in card()) {
        let fitted = settings.fitted(&card);
        prop_assert_eq!(fitted.check(&card), []);
        prop_assert_eq!(&fitted.fitted(&card), &fitted, "fitting twice changes nothing");
        prop_assert_eq!(&fitted.clone().canonical(), &fitted);
    }

    #[test]
    fn a_version_that_comes_back_gives_identical_runs(settings in settings(), card in card()) {
        let fitted = settings.fitted(&card);
        let again = fitted.clone().canonical();
        let tz = TimeZone::get("Europe/Paris").unwrap();
        let runs = |s: &Settings| expand(s, &card, &tz, date(2026, 10, 20), date(2026, 11, 5));
        prop_assert_eq!(runs(&fitted), runs(&again));
        prop_assert!(difference(&fitted, &again).is_empty());
    }

    #[test]
    fn runs_keep_to_their_card(settings in settings(), card in card()) {
        let fitted = settings.fitted(&card);
        let runs = expand(&fitted, &card, &TimeZone::UTC, FROM, FROM + 6.days());
        let lights = |n: u16| fitted.station(n).lighting;
        prop_assert!(runs.windows(2).all(|p| p[0].start <= p[1].start), "in order of time");
        for run in &runs {
            prop_assert!(run.length().any());
            let program = &fitted.programs[run.program];
            prop_assert!(program.active && program.days.admits(run.date));
            prop_assert!(!fitted.never_days[run.date.weekday().to_monday_zero_offset() as usize]);
            prop_assert!(program.run_times.iter().any(|(n, s)| *n == run.station && s.any()));
            prop_assert_eq!(run.start_index < program.starts.len(), true);
            if let Some((longest, _)) = fitted.station(run.station).cycle_and_soak
                && !lights(run.station)
                && card.percentage_target == upland_core::controller::PercentageTarget::Total
            {
                prop_assert!(run.length() <= longest);
            }
        }
        if card.overlap == Overlap::Queue && fitted.delay >= Seconds::ZERO {
            let waters: Vec<_> = runs.iter().filter(|r| !lights(r.station)).collect();
            prop_assert!(waters.windows(2).all(|p| p[0].end <= p[1].start), "one station at a time");
        }
        // Gathered by their starts, no run is lost.
        let gathered = passes(runs.iter());
        prop_assert_eq!(gathered.iter().map(|p| p.runs.len()).sum::<usize>(), runs.len());
        for pass in &gathered {
            prop_assert!(pass.runs.iter().all(|r| r.start >= pass.begin && r.end <= pass.end));
        }
    }

    #[test]
    fn an_action_that_is_offered_mends_its_finding(settings in settings(), card in card(), ordinance in ordinance()) {
        let law = if ordinance.check().is_empty() {
            Law { applied: vec![Applied { ordinance, house: HouseNumber::Odd, permits: Vec::new() }] }
        } else {
            Law::default()
        };
        let installation = installation(&card, law);
        let settings = settings.fitted(&card);
        let found = check(&installation, &settings, FROM);
        let mut ids: Vec<String> = found.iter().map(Finding::id).collect();
        ids.sort();
        let all = ids.len();
        ids.dedup();
        prop_assert_eq!(ids.len(), all, "every finding has a name of its own");
        prop_assert!(found.windows(2).all(|p| p[0].severity <= p[1].severity), "the gravest first");
        for finding in found.iter().filter(|f| f.remedy.is_some()).take(4) {
            let remedied = finding.remedy.as_ref().unwrap().apply(&installation, &settings);
            prop_assert_eq!(remedied.check(&card), [], "an action stays within the controller type");
            let after = check(&installation, &remedied, FROM);
            prop_assert!(after.iter().all(|f| f.id() != finding.id()), "{} {:?}", finding.id(), finding.remedy);
            prop_assert!(score(&after) <= score(&found), "{} {:?}", finding.id(), finding.remedy);
        }
    }

    #[test]
    fn forbidden_spans_say_what_days_and_hours_say(ordinance in ordinance(), odd in any::<bool>(), minute in 0u16..1440, day in 0i64..360) {
        let house = if odd { HouseNumber::Odd } else { HouseNumber::Even };
        let law = Law { applied: vec![Applied { ordinance: ordinance.clone(), house, permits: Vec::new() }] };
        let lawn = Subject { controller_number: 1, station: 1, head: Some(HeadType::Spray) };
        let on = date(2026, 1, 1) + day.days();
        let at = on.to_datetime(clock(minute)).to_zoned(TimeZone::UTC).unwrap().timestamp();
        let spans = law.forbidden(Some(lawn), on, on, &TimeZone::UTC);
        let inside = |why: Why| spans.iter().any(|s| s.why == why && s.from <= at && at < s.until);
        prop_assert_eq!(inside(Why::Day), law.forbids_day(Some(lawn), on).is_some());
        let hours = law.forbidden_hours(lawn, on).any(|h| h.from != h.until && h.hold(clock(minute)));
        prop_assert_eq!(inside(Why::Hour), hours);
        // Merged spans cover the same time.
        let covered = merged(&spans).iter().any(|span| span.contains(at));
        prop_assert_eq!(covered, inside(Why::Day) || inside(Why::Hour));
        let drip = Subject { head: Some(HeadType::Drip), station: 2, ..lawn };
        let exempt = ordinance.exempt_heads.contains(&HeadType::Drip);
        prop_assert_eq!(law.exempts(drip, on), exempt);
        // Of an ordinance whose hours bind exempt heads, the hours are left and nothing else.
        let left = |why: Why| match (exempt, why) {
            (false, _) => true,
            (true, Why::Day) => false,
            (true, Why::Hour) => ordinance.hours_bind_exempt_heads,
        };
        let expected: Vec<_> = spans.iter().filter(|s| left(s.why)).copied().collect();
        prop_assert_eq!(law.forbidden(Some(drip), on, on, &TimeZone::UTC), expected);
        if exempt {
            prop_assert_eq!((law.forbids_day(Some(drip), on), law.most_days_a_week(Some(drip), on)), (None, None));
        }
    }

    #[test]
    fn a_permit_frees_its_zone_from_its_first_to_its_last_day(
        ordinance in ordinance(), day in 0i64..360, first in proptest::option::of(0i64..200)
    ) {
        let until = date(2026, 6, 30);
        let from = first.map(|first| date(2026, 1, 1) + first.days());
        let permit = Permit { controller_number: 1, station: 1, from, until, reference: "P".into() };
        let free = Ordinance { exempts_new_planting: true, ..ordinance };
        let law = Law { applied: vec![Applied { ordinance: free, house: HouseNumber::Odd, permits: vec![permit] }] };
        let on = date(2026, 1, 1) + day.days();
        let planted = Subject { controller_number: 1, station: 1, head: Some(HeadType::Spray) };
        let other = Subject { station: 2, ..planted };
        prop_assert!(law.has_permit(planted) && !law.has_permit(other));
        prop_assert_eq!((law.kind_of(planted), law.kind_of(other)), (planted, Subject { station: 0, ..other }));
        prop_assert_eq!(
            law.forbidden(Some(law.kind_of(other)), on, on, &TimeZone::UTC),
            law.forbidden(Some(other), on, on, &TimeZone::UTC)
        );
        let spans = law.forbidden(Some(planted), on, on, &TimeZone::UTC);
        if on <= until && from.is_none_or(|from| from <= on) {
            prop_assert!(spans.is_empty());
        } else {
            prop_assert_eq!(spans, law.forbidden(Some(other), on, on, &TimeZone::UTC));
        }
    }
}

#[test]
fn an_hour_that_is_skipped_or_repeated_does_not_shift_a_restriction() {
    // A restriction belongs to the wall clock: 10:00 to 18:00 is eight hours of clock time on the
    // days of both changes, and a forbidden day is 23 or 25 hours long.
    let tz = TimeZone::get("Europe/Paris").unwrap();
    let rule = |days, forbidden_hours| Rule {
        season: None,
        days,
        forbidden_hours,
        most_days_a_week: None,
        most_minutes_a_day: None,
        after_rain: None,
    };
    let midday = vec![Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) }];
    let law = |rule| Law {
        applied: vec![Applied {
            ordinance: Ordinance {
                name: "Larkrigg".into(),
                rules: vec![rule],
                exempt_heads: Vec::new(),
                hours_bind_exempt_heads: false,
                exempts_new_planting: false,
            },
            house: HouseNumber::Odd,
            permits: Vec::new(),
        }],
    };
    let length = |law: &Law, on: Date| -> Vec<SignedDuration> {
        law.forbidden(None, on, on, &tz).iter().map(|s| s.until.duration_since(s.from)).collect()
    };
    let hours = law(rule(AllowedDays::Any, midday));
    for on in [date(2026, 3, 29), date(2026, 10, 25), date(2026, 7, 14)] {
        assert_eq!(length(&hours, on), [SignedDuration::from_hours(8)], "{on}");
    }
    let even = law(rule(AllowedDays::EvenDates, Vec::new()));
    assert_eq!(length(&even, date(2026, 3, 29)), [SignedDuration::from_hours(23)]);
    assert_eq!(length(&even, date(2026, 10, 25)), [SignedDuration::from_hours(25)]);
    assert_eq!(length(&even, date(2026, 10, 24)), []);
}

#[test]
fn hours_over_midnight_split_at_it_and_merge_again() {
    let night = Hours { from: time(22, 0, 0, 0), until: time(4, 0, 0, 0) };
    let rule = Rule {
        season: None,
        days: AllowedDays::Any,
        forbidden_hours: vec![night],
        most_days_a_week: None,
        most_minutes_a_day: None,
        after_rain: None,
    };
    let ordinance = Ordinance {
        name: "Larkrigg".into(),
        rules: vec![rule],
        exempt_heads: Vec::new(),
        hours_bind_exempt_heads: false,
        exempts_new_planting: false,
    };
    let law = Law { applied: vec![Applied { ordinance, house: HouseNumber::Odd, permits: Vec::new() }] };
    let spans = law.forbidden(None, FROM, FROM + 1.days(), &TimeZone::UTC);
    let text = |t: Timestamp| t.strftime("%d %H:%M").to_string();
    let told: Vec<_> = merged(&spans).into_iter().map(|span| (text(span.from), text(span.until))).collect();
    let expected = [("13 00:00", "13 04:00"), ("13 22:00", "14 04:00"), ("14 22:00", "15 00:00")];
    assert_eq!(told, expected.map(|(f, u)| (f.to_owned(), u.to_owned())));
}

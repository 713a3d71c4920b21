use super::*;
use crate::fixture;
use jiff::civil::date;
use upland_core::advice::findings::check;
use upland_core::advice::planner::{Basis, Request, Strategy, plan, relaxations};
use upland_core::quantity::month::Month;
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{Litres, LitresPerMinute, Millimetres};

fn lines(findings: &[FindingWords]) -> String {
    findings
        .iter()
        .map(|f| {
            format!(
                "{} | {} | {} | {} | {}",
                f.weight,
                f.place,
                f.text,
                f.cost,
                f.remedy.as_deref().unwrap_or("-")
            )
        })
        .collect::<Vec<_>>()
        .join("\n")
}

#[test]
fn findings_read_as_sentences_with_their_cost_and_action() {
    let (installation, settings) = fixture::controller_with_faults();
    let names = Names { installation: &installation, settings: &settings, units: UnitSystem::Metric };
    let found = check(&installation, &settings, date(2026, 7, 13));
    let words: Vec<_> = found.iter().map(|f| names.finding(f)).collect();
    insta::assert_snapshot!(lines(&words));
}

// Long: one example of each kind.
#[test]
fn every_kind_of_finding_has_its_sentence() {
    let (installation, settings) = fixture::controller_with_faults();
    let names = Names { installation: &installation, settings: &settings, units: UnitSystem::UsCustomary };
    let at: Timestamp = "2026-07-14T03:30:00Z".parse().unwrap();
    let law = || "Larkrigg".to_owned();
    let supplied = |stations, elsewhere| FindingKind::SupplyExceeded {
        stations,
        flow: LitresPerMinute::from_us_gpm(30.0),
        elsewhere: LitresPerMinute::from_us_gpm(elsewhere),
        supply: LitresPerMinute::from_us_gpm(20.0),
        at,
    };
    let kinds = [
        FindingKind::BeyondCard { path: "programs".into(), message: "has 5; the controller has 3".into() },
        FindingKind::ForbiddenDay { ordinance: law(), on: date(2026, 7, 14) },
        FindingKind::ForbiddenHour { ordinance: law(), at },
        FindingKind::TooManyDays { ordinance: law(), days: 5, most: 2 },
        FindingKind::TooManyMinutes { ordinance: law(), minutes: 75, most: 60 },
        supplied(vec![1, 2], 0.0),
        supplied(vec![1], 0.0),
        supplied(vec![1], 12.0),
        FindingKind::RoundsToZero { percentage: Percentage::from_percent(30), months: Vec::new() },
        FindingKind::RoundsToZero {
            percentage: Percentage::from_percent(10),
            months: vec![Month::January, Month::December],
        },
        FindingKind::ZoneDrowned { share: Share::from_percent(392.0) },
        FindingKind::ZoneShort { share: Share::from_percent(41.0) },
        FindingKind::DriesBetween { days: 9, of: 28, adequacy: Share::from_percent(71.0) },
        FindingKind::DrainsBetween { share: Share::from_percent(38.0), a_week: Millimetres::from_mm(11.4) },
        FindingKind::NeverRuns { because: NeverBecause::NeverDays },
        FindingKind::OmittedHours {
            from: jiff::civil::time(6, 0, 0, 0),
            first: "2026-07-14T06:30:00Z".parse().unwrap(),
        },
        FindingKind::SoakTooShort { pause: Seconds::from_s(330), needed: Seconds::from_s(1800) },
        FindingKind::ZoneWithoutMinutes,
        FindingKind::NoStation,
        FindingKind::HiddenProgram,
        FindingKind::EmptyProgram,
        FindingKind::OddPair { on: date(2026, 7, 31) },
        FindingKind::PastSunrise {
            month: upland_core::quantity::month::Month::June,
            percentage: Percentage::from_percent(180),
            minutes: 75,
        },
        FindingKind::ClockChange { on: date(2026, 10, 25), removed: false },
        FindingKind::ClockChange { on: date(2027, 3, 28), removed: true },
        FindingKind::NoFallbackMinutes,
        FindingKind::NoMasterValve,
        FindingKind::StoppedUnfelt {
            sensor: "Rain switch".into(),
            why: upland_core::sensors::mapping::Why::UnderRoof,
        },
        FindingKind::IgnoresSensor { sensor: "Rain switch".into() },
        FindingKind::SensorNotWired {
            sensor: "Probe".into(),
            refusal: upland_core::sensors::wiring::Refusal::WrongContact,
        },
        FindingKind::WindowTooShort { sensor: "Probe".into(), set_min: 60, needed_min: 420 },
    ];
    let text: Vec<_> = kinds.iter().map(|k| names.kind(k, FindingPlace::Station(1))).collect();
    assert!(text.iter().all(|t| t.ends_with('.') || t.ends_with("needs 30 min.")), "{text:#?}");
    insta::assert_snapshot!(text.join("\n"));
    let all = [
        Remedy::KeepStarts { program: 0, count: 2 },
        Remedy::SplitStarts { program: 0, count: 3, apart_min: 80 },
        Remedy::SetDays { program: 0, days: upland_core::controller::schedule::Days::Even },
        Remedy::RaiseRunTime { program: 0, station: 1, run_time: Seconds::from_s(90) },
        Remedy::OpenMasterValve { station: 1 },
        Remedy::FitCard,
    ];
    assert_eq!(
        all.iter().map(|m| names.remedy(m)).collect::<Vec<_>>().join("; "),
        "Keep the first two starts; Split over three starts, 80 min apart; Run on even dates; Raise it to 1 min 30 s; Open the master valve with it; Use the nearest settings that the controller has"
    );
    let cost = Cost {
        litres_a_week: Some(Litres::from_us_gallons(1250.0)),
        minutes_a_week: Some(75.0),
        days: Some(4),
    };
    let finding = Finding {
        kind: FindingKind::HiddenProgram,
        severity: Severity::Warning,
        place: FindingPlace::Program(1),
        cost,
        remedy: None,
    };
    assert_eq!(names.finding(&finding).cost, "1\u{202f}250 gal a week, 1 h 15 min a week");
}

#[test]
fn a_plan_says_why_and_a_refusal_says_what_would_do() {
    let (mut installation, settings) = fixture::controller_with_faults();
    let from = date(2026, 7, 13);
    let of = |strategy| Request {
        installation: &installation,
        present: &settings,
        strategy,
        from,
        basis: Basis::Coming,
        relax: Relax::default(),
    };
    let proposal = plan(&of(Strategy::JustNeed)).unwrap();
    let names = Names { installation: &installation, settings: &settings, units: UnitSystem::Metric };
    let mut said: Vec<String> = proposal.programs.iter().map(|p| names.program_reason(p)).collect();
    said.extend(proposal.zones.iter().map(|z| format!("{}: {}", z.station, names.zone_reason(z))));
    said.extend(names.plan_notes(&proposal));
    insta::assert_snapshot!("plan", said.join("\n"));
    installation.windows.main.from = jiff::civil::time(6, 0, 0, 0);
    let request = Request {
        installation: &installation,
        present: &settings,
        strategy: Strategy::DeepTwice,
        from,
        basis: Basis::Coming,
        relax: Relax::default(),
    };
    let names = Names { installation: &installation, settings: &settings, units: UnitSystem::Metric };
    let mut said = vec![names.binding(&plan(&request).unwrap_err())];
    said.extend(relaxations(&request).iter().map(|r| names.relaxation(r)));
    insta::assert_snapshot!("refusal", said.join("\n"));
}

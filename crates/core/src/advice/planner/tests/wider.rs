//! Plans for a month and the year, zones without need, several waterings a day, what shares a night and a program.

use super::*;
use crate::controller::ordinance::{AllowedDays, Rule, samples};
use crate::controller::schedule::YearSpan;
use crate::ground::balance::RootZone;
use crate::ground::plant::PlantKind;
use crate::ground::soil::Texture;
use crate::quantity::month::Month;
use crate::quantity::ratio::Share;

fn asked<'a>(installation: &'a Installation, present: &'a Settings, basis: Basis) -> Request<'a> {
    let strategy = Strategy::JustNeed;
    Request { installation, present, strategy, from: FROM, basis, relax: Relax::default() }
}

fn run_time(proposal: &Proposal, station: u16) -> f64 {
    proposal.zones.iter().find(|z| z.station == station).unwrap().net.mm()
        * proposal.programs.iter().find(|p| p.stations.contains(&station)).unwrap().events_a_week
}

#[test]
fn a_plan_is_made_for_a_month_or_for_the_month_that_asks_most() {
    let installation = installation();
    let present = Settings::clean(&installation.card);
    let of = |basis| plan(&asked(&installation, &present, basis)).unwrap();
    let (april, july, year) =
        (of(Basis::Month(Month::April)), of(Basis::Month(Month::July)), of(Basis::Year));
    assert_eq!((april.month, july.month, year.month), (Month::April, Month::July, Month::July));
    let weekly = |month: Month| {
        installation.monthly_et0.of(month).mm()
            * installation.zones[0].resolved.landscape_coefficient_in(month)
            * 7.0
    };
    assert!((run_time(&april, 1) - weekly(Month::April)).abs() < 0.01, "{}", run_time(&april, 1));
    assert!((run_time(&july, 1) - weekly(Month::July)).abs() < 0.01);
    assert!(weekly(Month::April) < 0.8 * weekly(Month::July));
    assert_eq!(year.zones, july.zones);
}

#[test]
fn a_plan_for_the_year_keeps_to_the_law_of_every_season() {
    let mut installation = installation();
    let mut ordinance = two_days_a_week();
    ordinance.rules[0].season = Some(YearSpan { from: (11, 1), until: (2, 28) });
    installation.law = law(ordinance);
    let present = Settings::clean(&installation.card);
    let coming = plan(&asked(&installation, &present, Basis::Coming)).unwrap();
    let year = plan(&asked(&installation, &present, Basis::Year)).unwrap();
    let sunny = [false, false, true, false, false, false, true];
    assert_ne!(days_of(&coming, 1), Days::Weekdays(sunny), "in July the law is far");
    assert_eq!(days_of(&year, 1), Days::Weekdays(sunny), "Wednesday and Sunday, as in winter");
    let (on, ends) = holds_until(&asked(&installation, &present, Basis::Coming), &coming).unwrap();
    assert!(on <= date(2026, 11, 1) && !matches!(ends, Ends::LawEases { .. }), "{on} {ends:?}");
    assert_eq!(holds_until(&asked(&installation, &present, Basis::Year), &year), None);
}

#[test]
fn until_when_a_plan_holds_is_said_with_its_cause() {
    let installation = installation();
    let mut present = Settings::clean(&installation.card);
    let holds = |there: &Installation, present: &Settings, basis| {
        let request = asked(there, present, basis);
        holds_until(&request, &plan(&request).unwrap())
    };
    // At 46 degrees a lawn of October needs less than 1 ÷ 1.3 of July's.
    let (on, ends) = holds(&installation, &present, Basis::Coming).unwrap();
    let Ends::Need { share } = ends else { panic!("{ends:?}") };
    let month = Month::of(on);
    let ratio =
        |m: Month| installation.monthly_et0.of(m).mm() / installation.monthly_et0.of(Month::July).mm();
    assert!(share > Share::from_fraction(1.3) && ratio(month) < 0.8, "{on} {share:?}");
    let before = Month::from_number(month.number() - 1).unwrap();
    assert!(ratio(before) > 0.7, "the month before was still near enough: {}", ratio(before));
    assert_eq!(
        holds(&installation, &present, Basis::Year),
        None,
        "the year is planned for its dearest month"
    );

    present.off_season = Some(YearSpan { from: (8, 1), until: (3, 1) });
    assert_eq!(
        holds(&installation, &present, Basis::Coming),
        Some((date(2026, 8, 1), Ends::OffSeason)),
        "before the need falls"
    );
    present.off_season = None;
    let mut ordinance = two_days_a_week();
    ordinance.rules[0].season = Some(YearSpan { from: (7, 1), until: (7, 20) });
    let mut eased = installation.clone();
    eased.law = law(ordinance);
    assert_eq!(
        holds(&eased, &present, Basis::Coming),
        Some((date(2026, 7, 21), Ends::LawEases { station: 1 }))
    );
    let mut young = installation;
    young.zones[1].resolved.grow_in = Some(crate::ground::planting::GrowIn {
        from: FROM,
        until: date(2026, 7, 24),
        factor: 1.2,
        root_depth: crate::quantity::units::Metres::from_m(0.1),
    });
    assert_eq!(
        holds(&young, &present, Basis::Coming),
        Some((date(2026, 7, 25), Ends::Planting { station: 2 }))
    );
}

#[test]
fn a_zone_without_need_gets_no_minutes() {
    let mut installation = installation();
    installation.zones[3].demand = Millimetres::ZERO;
    let proposal = planned(&installation, Strategy::JustNeed).unwrap();
    assert_eq!(proposal.without_need, [4]);
    assert!(proposal.zones.iter().all(|z| z.station != 4));
    assert!(proposal.settings.programs.iter().all(|p| p.run_times.iter().all(|(n, _)| *n != 4)));
    for zone in &mut installation.zones {
        zone.demand = Millimetres::ZERO;
    }
    assert_eq!(planned(&installation, Strategy::JustNeed), Err(Binding::NoNeed));
    assert_eq!(planned(&installation, Strategy::DeepOnce), Err(Binding::NoNeed));
}

#[test]
fn a_syringe_does_not_water_a_zone() {
    let installation = installation();
    let mut present = Settings::clean(&installation.card);
    // A minute at noon, at one and at two, against heat.
    present.programs[2] = Program {
        active: true,
        starts: vec![time(12, 0, 0, 0)],
        run_times: vec![(1, Seconds::from_min(1))],
        repeat: Some(Repeat { until: time(14, 30, 0, 0), pause: Seconds::from_min(59) }),
        ..present.programs[2].clone()
    };
    let proposal = plan(&asked(&installation, &present, Basis::Coming)).unwrap();
    assert_eq!((proposal.kept.as_slice(), proposal.left_to_kept.as_slice()), (&[2][..], &[][..]));
    assert!(proposal.zones.iter().any(|z| z.station == 1), "its watering is planned all the same");
    assert_eq!(proposal.settings.programs[2], present.programs[2]);
}

/// One lawn whose root zone bears about a third of a day.
fn shallow() -> Installation {
    let mut installation = lawns(1);
    let bears = installation.zones[0].demand.mm() * 0.4;
    installation.zones[0].root_zone = RootZone {
        total_available: Millimetres::from_mm(2.0 * bears),
        allowable_depletion: Share::from_fraction(0.5),
    };
    installation
}

#[test]
fn a_root_zone_of_less_than_a_day_is_watered_several_times() {
    let mut installation = shallow();
    installation.windows.main.from = time(6, 0, 0, 0);
    installation.windows.main.until = time(22, 0, 0, 0);
    let proposal = planned(&installation, Strategy::JustNeed).unwrap();
    let only = &proposal.programs[0];
    let (waterings, apart) = only.waterings;
    assert_eq!((waterings, only.events_a_week), (3, 7.0));
    assert!((360..=480).contains(&apart), "from six in the morning to ten in the evening: {apart}");
    assert_eq!(proposal.settings.programs[0].starts.len(), 3);
    let need = installation.zones[0].demand.mm();
    assert!((proposal.zones[0].net.mm() - need / 3.0).abs() < 1e-9);
    assert!(!only.strained, "eight hours, and eight at night");
    assert_eq!(serious(&installation, &proposal.settings), Vec::<String>::new());

    // A window of two hours holds one watering, and says that it is not enough.
    installation.windows.main.until = time(8, 0, 0, 0);
    let one = planned(&installation, Strategy::JustNeed).unwrap();
    assert_eq!((one.programs[0].waterings, one.programs[0].strained), ((1, 0), true));
    // So does a controller with one start.
    installation.windows.main.until = time(22, 0, 0, 0);
    installation.card.starts_per_program = 1;
    assert_eq!(planned(&installation, Strategy::JustNeed).unwrap().programs[0].waterings, (1, 0));
    assert_eq!(planned(&lawns(2), Strategy::JustNeed).unwrap().programs[0].waterings, (1, 0), "deep enough");
}

#[test]
fn the_soaks_of_one_rhythm_are_the_runs_of_another() {
    let mut installation = installation();
    installation.zones.truncate(2);
    installation.card.cycle_and_soak = false;
    for (zone, plant) in installation.zones.iter_mut().zip([PlantKind::CoolSeasonTurf, PlantKind::LowDemand])
    {
        zone.zone.plant = plant;
        zone.zone.soil = Texture::Clay;
        zone.zone.slope_pct = Some(14.0);
        zone.zone.head = crate::ground::application::HeadType::Spray;
        zone.resolved = zone.zone.resolve(46.0);
        zone.root_zone = zone.resolved.root_zone;
    }
    installation.zones[1].demand = installation.zones[0].demand * 0.4;
    let wide = planned(&installation, Strategy::JustNeed).unwrap();
    assert!(wide.programs.iter().all(|p| !p.interleaved), "one after the other is simpler, where it fits");
    assert!(wide.programs.len() > 1, "two rhythms: {:?}", wide.programs);
    let (a, b) = (wide.programs[0].span_minutes, wide.programs[1].span_minutes);
    let longest = a.max(b);
    // A window for the longer of the two and a little: not for both.
    let minutes = i64::from(longest + 12);
    assert!(minutes < i64::from(a + b));
    installation.windows.main.until = time(5, 0, 0, 0);
    installation.windows.main.from = time(5, 0, 0, 0).wrapping_sub(jiff::Span::new().minutes(minutes));
    // Spread over nights it cannot be: the controller must water both on the same ones.
    let proposal = planned(&installation, Strategy::JustNeed).unwrap();
    assert!(proposal.programs.iter().all(|p| p.interleaved), "{:#?}", proposal.programs);
    assert_eq!(serious(&installation, &proposal.settings), Vec::<String>::new());
    let runs = expand(&proposal.settings, &installation.card, &installation.tz, FROM, date(2026, 8, 9));
    assert!(runs.iter().all(|r| !r.queued.any()), "nothing waits in line");
}

#[test]
fn drip_has_a_program_of_its_own_where_that_makes_the_night_fit() {
    let mut installation = installation();
    installation.card.programs = 2;
    // Two lawns that bear a day, a bed that bears longer, and drip as quick as the lawns but slow to run.
    for (at, factor) in [(0, 1.0), (1, 1.0), (2, 0.3), (3, 0.9)] {
        installation.zones[at].demand = installation.zones[0].demand * factor;
    }
    installation.zones[3].root_zone = installation.zones[0].root_zone;
    let present = Settings::clean(&installation.card);
    let (mut fits, mut refused) = (0, 0);
    for minutes in (30..400).step_by(5) {
        installation.windows.main.from = time(5, 0, 0, 0).wrapping_sub(jiff::Span::new().minutes(minutes));
        let request = asked(&installation, &present, Basis::Coming);
        let apart = Request { relax: Relax { drip_apart: true, ..Relax::default() }, ..request };
        match (plan(&request).is_ok(), plan(&apart).is_ok()) {
            (true, _) => fits += 1,
            (false, apart) => {
                assert!(!apart, "{minutes} min: it fits with drip apart, and nobody has to ask for that");
                refused += 1;
            }
        }
    }
    assert!(fits > 0 && refused > 0, "{fits} {refused}");
}

#[test]
fn minutes_of_a_date_that_a_law_allows_are_never_passed() {
    let mut installation = installation();
    let mut ordinance = samples::ban(AllowedDays::Any, Vec::new());
    ordinance.rules[0] = Rule { most_minutes_a_day: Some(14), ..ordinance.rules[0].clone() };
    ordinance.exempt_heads.clear();
    installation.law = law(ordinance);
    installation.zones[3].demand = installation.zones[3].demand * 6.0;
    let proposal = planned(&installation, Strategy::JustNeed).unwrap();
    let runs = expand(&proposal.settings, &installation.card, &installation.tz, FROM, date(2026, 8, 9));
    let mut sums = std::collections::BTreeMap::new();
    for run in &runs {
        let sum = sums.entry((run.station, run.date)).or_insert(Seconds::ZERO);
        *sum = *sum + run.length();
    }
    assert!(sums.values().all(|s| *s <= Seconds::from_min(14)), "{sums:?}");
    // A lawn takes its need in fourteen minutes on six days or seven, drip does not, and says so.
    let lawn = proposal.programs.iter().find(|p| p.stations.contains(&1)).unwrap();
    assert!(lawn.events_a_week >= 6.0, "{lawn:?}");
    let drip = proposal.zones.iter().find(|z| z.station == 4).unwrap();
    assert!(drip.unlawful.is_some_and(|m| m.min_value() > 1.0), "{drip:?}");
    // What runs longer is a fault of the settings.
    let mut long = proposal.settings.clone();
    long.set_run_time(proposal.programs[0].program, proposal.programs[0].stations[0], Seconds::from_min(15));
    let found = findings::check(&installation, &long, FROM);
    assert!(found.iter().any(|f| f.kind.code() == "too-many-minutes"), "{found:?}");
}

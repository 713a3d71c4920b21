use super::*;
use crate::ground::planting::OwnCoefficient;
use crate::installation::samples;
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Percentage;
use crate::quantity::time::Seconds;
use crate::quantity::units::Celsius;
use crate::weather::DayWeather;
use crate::weather::climate::Climate;
use jiff::civil::{date, time};
use proptest::prelude::*;

const YEAR: i16 = 2026;

/// A program with a start a day; run times in minutes by station.
fn program(settings: &mut Settings, index: usize, run_times: &[(u16, u32)]) {
    let program = &mut settings.programs[index];
    program.active = true;
    program.starts = vec![time(1, 0, 0, 0).saturating_add(jiff::Span::new().hours(index as i64))];
    for (station, minutes) in run_times {
        settings.set_run_time(index, *station, Seconds::from_min(i64::from(*minutes)));
    }
}

fn installation() -> Installation {
    samples::installation()
}

/// A need of a given peak and winter share for each zone.
fn need(station: u16, by_month: ByMonth<f64>) -> Need {
    let net = by_month.map(Millimetres::from_mm);
    Need { station, net_a_day: net, demand_a_day: net, from: need::NeedFrom::EtAlone }
}

fn wave(peak: f64, winter: f64) -> ByMonth<f64> {
    ByMonth::from_fn(|month| {
        let phase = (f64::from(month.number()) - 7.0).abs() / 6.0;
        peak * (1.0 - (1.0 - winter) * phase)
    })
}

#[test]
fn a_single_zone_gets_the_nearest_step_of_its_ideal() {
    let installation = installation();
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 10)]);
    let base = Base::new(&installation, &settings, YEAR);
    assert_eq!(base.slots, [PercentageSlot::Program(0)], "programs that water nothing have no slot");
    let budget = budget(&base, &[need(1, wave(4.0, 0.2))], RainRule::LeftToHold);
    let zone = &budget.zones[0];
    // 31.75 mm/h for 10 min at a multiplier of 1/0.76 brings 4.0217 mm.
    assert!((zone.ideal.of(Month::July).unwrap() - 100.0 * 4.0 / 4.021_667).abs() < 0.01, "{:?}", zone.ideal);
    for (month, ideal) in zone.ideal.months() {
        let step = Percentage::from_percent(((ideal.unwrap() / 10.0).round() * 10.0) as u16);
        assert_eq!(budget.best.of(month)[0], Some(step), "{month:?}: {ideal:?}");
    }
    assert!(budget.error < budget.error_at_100);
    assert!((budget.error_as_set - budget.error_at_100).abs() < 1e-12, "it is set to 100");
    assert!(budget.searched_through.iter().all(|s| *s));
}

#[test]
fn one_percentage_for_two_seasons_leaves_an_error_and_names_it() {
    let installation = installation();
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 10), (2, 10)]);
    // Two zones of one peak: one rests in winter, the other (under glass, say) hardly does.
    let needs = [need(1, wave(4.0, 0.0)), need(2, wave(4.0, 0.9))];
    let together = budget(&Base::new(&installation, &settings, YEAR), &needs, RainRule::LeftToHold);
    let mut apart = settings.clone();
    apart.set_run_time(0, 2, Seconds::from_s(0));
    program(&mut apart, 1, &[(2, 10)]);
    let regrouped = budget(&Base::new(&installation, &apart, YEAR), &needs, RainRule::LeftToHold);
    assert!(together.error > 0.15, "{}", together.error);
    assert!(regrouped.error < 0.05, "{}", regrouped.error);
    let (rests, steady) = (&together.zones[0], &together.zones[1]);
    assert!(
        rests.over > rests.under && steady.under > steady.over,
        "one drowns in winter, the other starves"
    );
}

#[test]
fn zones_under_one_box_percentage_have_one_slot() {
    let mut installation = installation();
    installation.card.percentage_scope = PercentageScope::Month;
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 10)]);
    program(&mut settings, 1, &[(2, 10)]);
    let base = Base::new(&installation, &settings, YEAR);
    assert_eq!(base.slots, [PercentageSlot::Box]);
    let needs = [need(1, wave(4.0, 0.2)), need(2, wave(4.0, 0.2))];
    let budget = budget(&base, &needs, RainRule::LeftToHold);
    let set = with_best(&settings, &budget, Month::April);
    let Percentages::Month(values) = set.percentages else { panic!() };
    assert_eq!(*values.of(Month::July), budget.best.of(Month::July)[0].unwrap());
    assert_eq!(
        *values.of(Month::January),
        budget.best.of(Month::January)[0].unwrap(),
        "a box that holds twelve takes all twelve"
    );
}

#[test]
fn months_of_an_off_season_have_no_percentage() {
    let installation = installation();
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 10)]);
    settings.off_season = Some(crate::controller::schedule::YearSpan { from: (11, 1), until: (2, 28) });
    let budget =
        budget(&Base::new(&installation, &settings, YEAR), &[need(1, wave(4.0, 0.3))], RainRule::LeftToHold);
    assert_eq!(budget.best.of(Month::December)[0], None);
    assert_eq!(*budget.zones[0].ideal.of(Month::January), None);
    assert!(budget.best.of(Month::May)[0].is_some());
    assert!(budget.zones[0].under.mm() > 0.0, "the need of the winter is not given");
}

/// A warm dry spell of forty days to 14 July 2026 with rain on some days back.
fn climate(rain: &[(i32, f64)]) -> Climate {
    let days: Vec<_> = (0..40)
        .map(|back| {
            let on = date(2026, 7, 14) - jiff::Span::new().days(back);
            let mut day = DayWeather::from_temperatures(on, Celsius::from_c(11.0), Celsius::from_c(25.0));
            let fell = rain.iter().find(|(b, _)| *b == back).map_or(0.0, |(_, mm)| *mm);
            day.rain = Some(Millimetres::from_mm(fell));
            day
        })
        .collect();
    Climate::from_record(&days, samples::site().station())
}

#[test]
fn this_week_follows_the_last_days_with_their_rain() {
    let mut installation = installation();
    for zone in &mut installation.zones {
        zone.zone.own_coefficient = Some(OwnCoefficient::Constant(0.8));
        // Deep enough to hold what falls.
        zone.zone.root_depth = Some(crate::quantity::units::Metres::from_m(0.6));
        zone.resolved = zone.zone.resolve(46.0);
    }
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 10)]);
    let base = Base::new(&installation, &settings, YEAR);
    let dry = week(&base, &climate(&[]), date(2026, 7, 15));
    let et0: f64 = (0..7)
        .map(|b| climate(&[]).day(date(2026, 7, 14) - jiff::Span::new().days(b)).unwrap().et.et0.mm())
        .sum();
    assert!((dry.zones[0].need.mm() - 0.8 * et0).abs() < 1e-9);
    assert_eq!(dry.expected_days, 0);
    // Ten millimetres in that week come off; those of eight days ago do not.
    let wet = week(&base, &climate(&[(2, 10.0), (8, 30.0)]), date(2026, 7, 15));
    assert!((dry.zones[0].need.mm() - wet.zones[0].need.mm() - 10.0).abs() < 1e-9);
    assert!(wet.best[0] < dry.best[0]);
    assert!((wet.rain.mm() - 10.0).abs() < 1e-9);
    assert!(wet.is_a_change());
}

#[test]
fn a_week_says_how_far_its_zones_pull_apart_and_whom_its_percentage_leaves_short() {
    let installation = installation();
    let advice = |minutes: &[(u16, u32)]| {
        let mut settings = Settings::clean(&installation.card);
        program(&mut settings, 0, minutes);
        week(&Base::new(&installation, &settings, YEAR), &climate(&[]), date(2026, 7, 15))
    };
    let alone = advice(&[(1, 10)]);
    let ideal = alone.zones[0].ideal.unwrap();
    assert_eq!(alone.asked(0), Some((ideal, ideal)));
    assert_eq!((alone.left_short(0), alone.asked(1), alone.left_short(1)), (None, None, None));
    // The second gets a twelfth of the first's minutes under the same percentage.
    let apart = advice(&[(1, 60), (2, 5)]);
    let (low, high) = apart.asked(0).unwrap();
    assert!(high > 3.0 * low, "{low} to {high}");
    let (station, by) = apart.left_short(0).unwrap();
    let zone = apart.zones.iter().find(|z| z.station == 2).unwrap();
    assert_eq!(station, 2);
    assert!((by.mm() - (zone.need.mm() - zone.given.mm())).abs() < 1e-9 && by.mm() > 0.3 * zone.need.mm());
}

#[test]
fn an_error_is_nought_at_the_need_and_grows_with_what_is_missing_or_too_much() {
    let error = |given: f64| best::relative(given, 3.0, 4.0);
    assert!(error(3.0).abs() < 1e-12);
    assert!(
        (error(4.0) - 0.25).abs() < 1e-12 && (error(4.000_001) - error(4.0)).abs() < 1e-6,
        "without a step"
    );
    // Hardly short weighs as hardly too much, all of it twice as its depth.
    assert!((error(2.99) / error(3.01) + 1.0).abs() < 0.01);
    assert!((best::relative(0.0, 4.0, 4.0) + 2.0).abs() < 1e-12);
    let all: Vec<f64> = (0..4000).map(|k| error(f64::from(k) / 10.0)).collect();
    assert!(
        all.windows(2).all(|w| w[0] < w[1]),
        "the more is given, the less it is short and the more too much"
    );
    assert!(all.iter().all(|e| (-2.0..3.0).contains(e)), "no zone outvotes others without bound");
    // Without any need, all that is given is too much.
    assert!(best::relative(0.0, 0.0, 0.0).abs() < 1e-12 && best::relative(2.0, 0.0, 0.0) > 1.0);
}

#[test]
fn a_bed_that_wants_next_to_nothing_does_not_dry_out_the_lawns_of_its_program() {
    let installation = installation();
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 20), (2, 20), (3, 20), (4, 20)]);
    let base = Base::new(&installation, &settings, YEAR);
    let best_for = |peaks: [f64; 4]| {
        let needs: Vec<Need> = (1..).zip(peaks).map(|(n, peak)| need(n, ByMonth::all(peak))).collect();
        let found = budget(&base, &needs, RainRule::LeftToHold);
        let asks: Vec<f64> = found.zones.iter().map(|z| z.ideal.of(Month::July).unwrap()).collect();
        (f64::from(found.best.of(Month::July)[0].unwrap().percent()), asks)
    };
    // The same base minutes; three of a kind, and a bed that asks for a twentieth of them.
    let lawns = |zone: usize| [4.0, 3.6, 1.1, 1.1][zone];
    let (alike, asks) = best_for([0, 1, 2, 3].map(lawns));
    let (low, high) = asks.iter().fold((f64::MAX, 0.0_f64), |(l, h), a| (l.min(*a), h.max(*a)));
    assert!((low..=high).contains(&alike), "{alike} of {asks:?}");
    let (with_bed, asks) = best_for([4.0, 3.6, 1.1, 0.05]);
    let lawn = asks[..3].iter().copied().fold(f64::MAX, f64::min);
    assert!(asks[3] < lawn / 8.0, "{asks:?}");
    assert!(
        with_bed >= 0.7 * lawn && with_bed <= alike,
        "{with_bed} with the bed, {alike} without, of {asks:?}"
    );
}

#[test]
fn a_week_credits_no_rain_that_the_root_zone_could_not_hold() {
    let installation = installation();
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 10)]);
    let base = Base::new(&installation, &settings, YEAR);
    let zone = |rain: &[(i32, f64)]| week(&base, &climate(rain), date(2026, 7, 15)).zones.remove(0);
    let (dry, wet) = (zone(&[]), zone(&[(3, 25.0), (2, 60.0), (1, 60.0)]));
    // A lawn holds 25.5 mm, and was never allowed to miss more than about ten of them.
    assert!(wet.rain.mm() < 20.0 && wet.rain.mm() > 5.0, "{wet:?}");
    assert!((dry.need.mm() - wet.need.mm() - wet.rain.mm()).abs() < 1e-9 && wet.need.mm() > 5.0);
}

#[test]
fn schools_differ_in_water_as_they_should() {
    let installation = installation();
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 20), (2, 20)]);
    let base = Base::new(&installation, &settings, YEAR);
    let climate = climate(&[(10, 40.0)]);
    let needs = needs(&installation, &climate, RainRule::LeftToHold, YEAR);
    let budget = budget(&base, &needs, RainRule::LeftToHold);
    let all = schools(&base, &budget, &climate, (date(2026, 6, 5), date(2026, 7, 14)));
    let of = |school| all.iter().find(|r| r.school == school).unwrap();
    assert_eq!(all.len(), 5);
    let water = |school| of(school).zones.iter().map(|(_, s)| s.applied.mm()).sum::<f64>();
    assert!(water(School::Leave) > water(School::Monthly), "100 % of 20 min is far too much");
    assert!(water(School::Weekly) < water(School::Monthly), "the rain is taken off");
    assert!(of(School::Leave).excess > of(School::DailyBalance).excess);
    assert!(of(School::DailyBalance).adequacy > 0.95, "{:?}", of(School::DailyBalance));
    for result in &all {
        assert!(
            (0.0..=1.0 + 1e-9).contains(&result.adequacy) && (0.0..=1.0).contains(&result.excess),
            "{result:?}"
        );
        assert!(result.litres.is_some());
    }
}

#[test]
fn rain_that_counts_lowers_the_need_and_a_roof_keeps_it() {
    let mut installation = installation();
    installation.zones[1].zone.sky = crate::ground::plant::Sky::UnderGlass;
    for zone in &mut installation.zones {
        zone.resolved = zone.zone.resolve(46.0);
    }
    let days: Vec<_> = (0..800)
        .map(|i| {
            let on = date(2024, 1, 1) + jiff::Span::new().days(i);
            let mut day = DayWeather::from_temperatures(on, Celsius::from_c(8.0), Celsius::from_c(20.0));
            day.rain = Some(Millimetres::from_mm(if i % 5 == 0 { 6.0 } else { 0.0 }));
            day
        })
        .collect();
    let climate = Climate::from_record(&days, samples::site().station());
    let dry = needs(&installation, &climate, RainRule::LeftToHold, YEAR);
    let wet = needs(&installation, &climate, RainRule::Counted, YEAR);
    assert!(wet[0].net_a_day.of(Month::July) < dry[0].net_a_day.of(Month::July));
    assert!(
        (wet[1].net_a_day.of(Month::July).mm() - dry[1].net_a_day.of(Month::July).mm()).abs() < 0.15,
        "no rain under glass"
    );
    assert_eq!(wet[0].from, need::NeedFrom::Balance);
    // 1.2 mm a day fall; what comes soon after a refill drains, the rest takes the place of watering.
    let saved = dry[0].net_a_day.of(Month::July).mm() - wet[0].net_a_day.of(Month::July).mm();
    assert!((0.5..=1.25).contains(&saved), "{saved}");
}

/// The least error over every combination of settable percentages, tried one by one.
fn brute(base: &Base, needs: &[ByMonth<f64>], peak: &[f64], month: Month, choices: &[Percentage]) -> f64 {
    let column = base.column(month, needs.iter().map(|n| *n.of(month)).collect());
    let mut least = f64::INFINITY;
    let total = choices.len().pow(base.slots.len() as u32);
    for mut code in 0..total {
        let percents: Vec<Percentage> = base
            .slots
            .iter()
            .map(|_| {
                let pick = choices[code % choices.len()];
                code /= choices.len();
                pick
            })
            .collect();
        least = least.min(best::error(base, &column, peak, &percents));
    }
    least
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn the_settable_percentages_are_the_best_there_are(
        minutes in proptest::collection::vec(0u32..25, 12),
        peaks in proptest::collection::vec(0.5..7.0_f64, 4),
        winters in proptest::collection::vec(0.0..1.0_f64, 4),
        whole_box in any::<bool>(), coarse in any::<bool>(),
    ) {
        let mut installation = installation();
        if whole_box {
            installation.card.percentage_scope = PercentageScope::Box;
        }
        installation.card.percentage_step = Percentage::from_percent(10);
        installation.card.percentage_max = Percentage::from_percent(150);
        installation.card.rounding_step = if coarse { Seconds::from_min(1) } else { Seconds::ONE };
        let mut settings = Settings::clean(&installation.card);
        // Zones may stand in several programs, so that their percentages hang together.
        for p in 0..3 {
            let run_times: Vec<(u16, u32)> = (0..4).map(|z| (z as u16 + 1, minutes[p * 4 + z])).collect();
            program(&mut settings, p, &run_times);
        }
        let base = Base::new(&installation, &settings, YEAR);
        prop_assume!(!base.zones.is_empty());
        let needs: Vec<Need> = (0..4).map(|z| need(z as u16 + 1, wave(peaks[z], winters[z]))).collect();
        let budget = budget(&base, &needs, RainRule::LeftToHold);
        let by_place: Vec<ByMonth<f64>> = base.zones.iter().map(|z| needs[*z].net_a_day.map(Millimetres::mm)).collect();
        let peak: Vec<f64> = by_place.iter().map(|n| n.iter().copied().fold(0.0, f64::max)).collect();
        let choices: Vec<Percentage> = installation.card.percentages().collect();
        for month in [Month::January, Month::July, Month::October] {
            let column = base.column(month, by_place.iter().map(|n| *n.of(month)).collect());
            // A month in which nothing needs water has no percentage and is not compared.
            if column.need.iter().all(|n| *n <= NO_NEED_MM) { continue }
            let chosen: Vec<Percentage> = budget.best.of(month).iter().map(|p| p.unwrap_or(installation.card.percentage_min)).collect();
            let error = best::error(&base, &column, &peak, &chosen);
            let least = brute(&base, &by_place, &peak, month, &choices);
            prop_assert!((error - least).abs() < 1e-12, "{month:?}: {error} against {least}");
        }
    }

    #[test]
    fn no_proposal_raises_the_error(
        minutes in proptest::collection::vec(2u32..25, 4),
        places in proptest::collection::vec(0usize..3, 4),
        peaks in proptest::collection::vec(0.5..7.0_f64, 4),
        winters in proptest::collection::vec(0.0..1.0_f64, 4),
        whole_box in any::<bool>(),
    ) {
        let mut installation = installation();
        if whole_box {
            installation.card.percentage_scope = PercentageScope::Box;
        }
        let mut settings = Settings::clean(&installation.card);
        for p in 0..3 {
            let own: Vec<(u16, u32)> = (0..4).filter(|z| places[*z] == p).map(|z| (z as u16 + 1, minutes[z])).collect();
            program(&mut settings, p, &own);
        }
        let needs: Vec<Need> = (0..4).map(|z| need(z as u16 + 1, wave(peaks[z], winters[z]))).collect();
        let all = improvements(&installation, &settings, &needs, RainRule::LeftToHold, date(2026, 7, 1), |s| {
            crate::advice::findings::faults(&installation, s, date(2026, 7, 1))
        });
        let of = |s: &Settings| budget(&Base::new(&installation, s, YEAR), &needs, RainRule::LeftToHold).error;
        let now = of(&settings);
        for proposal in all {
            prop_assert!((proposal.error_before - now).abs() < 1e-12);
            let then = of(&proposal.settings);
            prop_assert!((proposal.error_after - then).abs() < 1e-12);
            prop_assert!(then < now, "{then} is not less than {now}: {:?}", proposal.moves);
            prop_assert!(proposal.settings.check(&installation.card).is_empty());
            // Every zone is still watered.
            let watered = |s: &Settings| Base::new(&installation, s, YEAR).zones.len();
            prop_assert_eq!(watered(&proposal.settings), watered(&settings));
        }
    }
}

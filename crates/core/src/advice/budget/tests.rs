use super::*;
use crate::ground::planting::OwnCoefficient;
use crate::installation::samples;
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Percentage;
use crate::quantity::span::DateSpan;
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
    assert!(budget.outcome.cost < budget.at_100.cost);
    assert_eq!(budget.as_set, budget.at_100, "it is set to 100");
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
    assert!(together.outcome.surplus > 0.15, "{:?}", together.outcome);
    assert!(regrouped.outcome.surplus < 0.05, "{:?}", regrouped.outcome);
    let (rests, steady) = (&together.zones[0], &together.zones[1]);
    assert!(rests.over.mm() > 300.0 && rests.under < rests.over, "one gets far too much in winter");
    assert!(
        steady.under.mm() < 0.1 * steady.need.iter().map(|n| n.mm() * 30.4).sum::<f64>(),
        "the other has enough"
    );
}

#[test]
fn zones_under_one_controller_percentage_have_one_slot() {
    let mut installation = installation();
    installation.card.percentage_scope = PercentageScope::Month;
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 10)]);
    program(&mut settings, 1, &[(2, 10)]);
    let base = Base::new(&installation, &settings, YEAR);
    assert_eq!(base.slots, [PercentageSlot::Controller]);
    let needs = [need(1, wave(4.0, 0.2)), need(2, wave(4.0, 0.2))];
    let budget = budget(&base, &needs, RainRule::LeftToHold);
    let set = with_best(&settings, &budget, Month::April);
    let Percentages::Month(values) = set.percentages else { panic!() };
    assert_eq!(*values.of(Month::July), budget.best.of(Month::July)[0].unwrap());
    assert_eq!(
        *values.of(Month::January),
        budget.best.of(Month::January)[0].unwrap(),
        "a controller that holds twelve takes all twelve"
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
    assert_eq!((alone.left_short(0), alone.asked(1), alone.left_short(1)), (vec![], None, vec![]));
    // The second gets a twelfth of the first's minutes under the same percentage: 50 % of 60 minutes is enough for the
    // first, and more than twice of what the second can get leaves it short.
    let apart = advice(&[(1, 60), (2, 2)]);
    let (low, high) = apart.asked(0).unwrap();
    assert!(high > 3.0 * low, "{low} to {high}");
    let short = apart.left_short(0);
    let zone = apart.zones.iter().find(|z| z.station == 2).unwrap();
    assert_eq!((short.len(), short[0].station), (1, 2), "{apart:?}");
    assert!((short[0].deficit.mm() - (zone.need.mm() - zone.given.mm())).abs() < 1e-9);
    let surplus = apart.surplus(0, &installation).unwrap();
    let first = apart.zones.iter().find(|z| z.station == 1).unwrap();
    assert!((surplus.l() - 100.0 * (first.given.mm() - first.need.mm())).abs() < 1e-6, "on 100 m²");
}

/// One percentage for two zones of 100 m², which get the same net depth a day at 100 %.
fn shared(needs: [f64; 2], measure: Measure) -> (Budget, [f64; 2]) {
    let mut installation = installation();
    installation.card.percentage_step = Percentage::from_percent(5);
    installation.card.percentage_min = Percentage::from_percent(5);
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 15), (2, 15)]);
    let base = Base::new(&installation, &settings, YEAR).by(measure);
    let of = |n: u16| need(n, ByMonth::all(needs[usize::from(n) - 1]));
    let found = budget(&base, &[of(1), of(2)], RainRule::LeftToHold);
    let got = [0, 1].map(|z: usize| found.zones[z].given.of(Month::July).mm() / needs[z]);
    (found, got)
}

#[test]
fn sentence_1_a_lawn_is_not_dried_out_for_a_drier_bed_on_its_program() {
    // A lawn beside very low, low, native and moderate demand: the cases in which it got 15 to 55 %.
    for beside in [0.3, 1.0, 1.5, 2.5, 4.0] {
        let (found, [lawn, bed]) = shared([5.0, beside], Measure::Harm);
        assert!(lawn >= NAMED_BELOW, "beside {beside} mm a day the lawn gets {lawn} of its need");
        assert!(
            bed >= 1.0 && found.outcome.surplus > 0.0,
            "the surplus of the bed is said: {:?}",
            found.outcome
        );
        assert_eq!(found.left_short(Month::July), []);
    }
}

#[test]
fn sentence_1_a_zone_that_goes_short_is_named_with_its_share() {
    // By area, the mean of both: the lawn goes short, and the page says so before the percentage.
    let (found, [lawn, _]) = shared([5.0, 0.5], Measure::ByArea);
    let short = found.left_short(Month::July);
    assert_eq!(short.len(), 1);
    assert!(short[0].station == 1 && (short[0].share.fraction() - lawn).abs() < 1e-9 && lawn < NAMED_BELOW);
    let (_, [lawn, bed]) = shared([5.0, 0.5], Measure::Thirstiest);
    assert!(lawn >= 1.0 && bed > 1.0);
}

#[test]
fn sentence_1_the_value_of_a_planting_and_its_area_weigh() {
    let mut installation = installation();
    installation.card.percentage_step = Percentage::from_percent(1);
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 10), (2, 10)]);
    let best = |installation: &Installation| {
        let needs = [need(1, ByMonth::all(4.0)), need(2, ByMonth::all(1.0))];
        let found = budget(&Base::new(installation, &settings, YEAR), &needs, RainRule::LeftToHold);
        found.best.of(Month::July)[0].unwrap()
    };
    let alike = best(&installation);
    installation.zones[0].zone.planting.value = crate::ground::planting::PlantingValue::High;
    assert!(best(&installation) > alike, "the costly lawn gets nearer to its need");
    installation.zones[0].zone.planting.value = crate::ground::planting::PlantingValue::Low;
    assert!(best(&installation) < alike, "the rough one may go a little shorter");
    installation.zones[0].zone.area = Some(crate::quantity::units::SquareMetres::from_m2(10.0));
    assert!(best(&installation) < alike);
}

#[test]
fn sentence_1_a_program_that_is_wrong_in_itself_has_a_finding_and_no_percentage() {
    let installation = installation();
    let mut settings = Settings::clean(&installation.card);
    program(&mut settings, 0, &[(1, 10), (2, 10)]);
    program(&mut settings, 1, &[(1, 5)]);
    // The window is 22:00 to 05:00; a second program over zone 1 at 13:00.
    settings.programs[1].starts = vec![time(13, 0, 0, 0)];
    let sound = crate::sound::sound_base(&installation, &settings, date(2026, 7, 13), Measure::Harm);
    assert_eq!(sound.base.slots, [PercentageSlot::Program(0)]);
    assert_eq!(sound.wrong.len(), 1);
    assert_eq!(sound.wrong[0].place.program(), Some(1));
    let alone = {
        let mut without = settings.clone();
        without.programs[1].active = false;
        let base = Base::new(&installation, &without, YEAR);
        week(&base, &climate(&[]), date(2026, 7, 15)).best
    };
    assert_eq!(
        week(&sound.base, &climate(&[]), date(2026, 7, 15)).best,
        alone,
        "its water is not counted on"
    );
}

#[test]
fn sentence_1_uniform_sites_follow_the_month_over_the_peak_month() {
    // Common practice: the percentage of a month is its ET over that of the peak month.
    let mut installation = installation();
    let (mut within, mut all) = (0_u32, 0_u32);
    for step in [1, 5, 10] {
        installation.card.percentage_step = Percentage::from_percent(step);
        installation.card.percentage_min = Percentage::from_percent(step);
        for (peak, winter) in [(3.0, 0.1), (4.0, 0.25), (5.0, 0.4), (6.0, 0.6)] {
            let mut settings = Settings::clean(&installation.card);
            let zone = &installation.zones[0];
            let minutes = zone.minutes_for(Millimetres::from_mm(peak)).min_value().round() as u32;
            program(&mut settings, 0, &[(1, minutes), (2, minutes), (3, minutes)]);
            let needs: Vec<Need> = (1..=3).map(|n| need(n, wave(peak, winter))).collect();
            let found = budget(&Base::new(&installation, &settings, YEAR), &needs, RainRule::LeftToHold);
            for month in Month::ALL {
                let hand = 100.0 * wave(peak, winter).of(month) / peak;
                let best = f64::from(found.best.of(month)[0].unwrap().percent());
                all += 1;
                within += u32::from((best - hand).abs() <= 10.0);
            }
        }
    }
    assert!(f64::from(within) >= 0.95 * f64::from(all), "{within} of {all} months");
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
    let all = schools(&base, &budget, &climate, DateSpan::new(date(2026, 6, 5), date(2026, 7, 14)));
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

/// The least cost over every combination of settable percentages, tried one by one.
fn brute(base: &Base, column: &Column, choices: &[Percentage]) -> f64 {
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
        least = least.min(best::cost(base, column, &percents));
    }
    least
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    // Long: the same search, written a second time without its shortcuts.
    #[test]
    fn the_settable_percentages_are_the_best_there_are(
        minutes in proptest::collection::vec(0u32..25, 12),
        peaks in proptest::collection::vec(0.5..7.0_f64, 4),
        winters in proptest::collection::vec(0.0..1.0_f64, 4),
        whole_controller in any::<bool>(), coarse in any::<bool>(), measure in 0usize..4,
    ) {
        let mut installation = installation();
        if whole_controller {
            installation.card.percentage_scope = PercentageScope::Controller;
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
        let base = base.by(Measure::ALL[measure]);
        let choices: Vec<Percentage> = installation.card.percentages().collect();
        let asked = |month: Month| {
            let of = |place: &usize| {
                let own = &needs[*place].net_a_day;
                let peak = own.iter().map(|n| n.mm()).fold(0.0, f64::max);
                Asked { need: own.of(month).mm(), demand: own.of(month).mm(), peak }
            };
            base.zones.iter().map(of).collect::<Vec<_>>()
        };
        let year = budget(&base, &needs, RainRule::LeftToHold);
        let mut unsmoothed = 0.0;
        for month in Month::ALL {
            let column = base.column(month, &asked(month));
            let found = best::best(&base, &column);
            let chosen: Vec<Percentage> = found.percents.iter().map(|p| p.unwrap_or(Percentage::ZERO)).collect();
            let cost = best::cost(&base, &column, &chosen);
            unsmoothed += cost * month.days();
            // A month in which nothing needs water has no percentage and is not compared.
            if column.zones.iter().all(|zone| zone.need_mm <= NO_NEED_MM) || ![1, 7, 10].contains(&month.number()) {
                continue;
            }
            let lowest = |p: Option<Percentage>| p.unwrap_or(installation.card.percentage_min);
            let chosen: Vec<Percentage> = found.percents.iter().map(|p| lowest(*p)).collect();
            let cost = best::cost(&base, &column, &chosen);
            let least = brute(&base, &column, &choices);
            prop_assert!((cost - least).abs() <= 1e-9 * least.max(1.0), "{month:?}: {cost} against {least}");
        }
        // A smooth year is bought with little: what jumps save is more than what they cost.
        let demand: f64 = Month::ALL.iter().map(|m| m.days() * asked(*m).iter().map(|a| a.demand).sum::<f64>()).sum();
        let smoothed = year.outcome.cost * demand;
        prop_assert!(smoothed >= unsmoothed * (1.0 - 1e-9) - 1e-9);
        let jumps = |best: &ByMonth<Vec<Option<Percentage>>>| -> i32 {
            let of = |m: Month, k: usize| best.of(m).get(k).copied().flatten().map(|p| i32::from(p.percent()));
            let pair = |m: Month, k| Some((of(m, k)? - of(m.next(), k)?).abs());
            Month::ALL.into_iter().flat_map(|m| (0..base.slots.len()).filter_map(move |k| pair(m, k))).sum()
        };
        let single = ByMonth::from_fn(|m| best::best(&base, &base.column(m, &asked(m))).percents);
        let allowed = 12.0 * 400.0 * 0.001 * 1.02 * demand / 12.0;
        if base.measure == Measure::Harm {
            prop_assert!(smoothed <= unsmoothed + allowed, "{smoothed} against {unsmoothed}");
        }
        prop_assert!(jumps(&year.best) <= jumps(&single) + 200, "{:?} against {:?}", year.best, single);
    }

    #[test]
    fn no_proposal_raises_the_cost(
        minutes in proptest::collection::vec(2u32..25, 4),
        places in proptest::collection::vec(0usize..3, 4),
        peaks in proptest::collection::vec(0.5..7.0_f64, 4),
        winters in proptest::collection::vec(0.0..1.0_f64, 4),
        whole_controller in any::<bool>(),
    ) {
        let mut installation = installation();
        if whole_controller {
            installation.card.percentage_scope = PercentageScope::Controller;
        }
        let mut settings = Settings::clean(&installation.card);
        for p in 0..3 {
            let own: Vec<(u16, u32)> = (0..4).filter(|z| places[*z] == p).map(|z| (z as u16 + 1, minutes[z])).collect();
            program(&mut settings, p, &own);
        }
        let needs: Vec<Need> = (0..4).map(|z| need(z as u16 + 1, wave(peaks[z], winters[z]))).collect();
        let base = Base::new(&installation, &settings, YEAR);
        let all = improvements(&base, &needs, RainRule::LeftToHold, date(2026, 7, 1), |s| {
            crate::advice::findings::faults(&installation, s, date(2026, 7, 1))
        });
        let of = |s: &Settings| budget(&Base::new(&installation, s, YEAR), &needs, RainRule::LeftToHold).outcome.cost;
        let now = of(&settings);
        for proposal in all {
            prop_assert!((proposal.before.cost - now).abs() < 1e-12);
            let then = of(&proposal.settings);
            prop_assert!((proposal.after.cost - then).abs() < 1e-12);
            prop_assert!(then < now, "{then} is not less than {now}: {:?}", proposal.moves);
            prop_assert!(proposal.settings.check(&installation.card).is_empty());
            // Every zone is still watered.
            let watered = |s: &Settings| Base::new(&installation, s, YEAR).zones.len();
            prop_assert_eq!(watered(&proposal.settings), watered(&settings));
        }
    }
}

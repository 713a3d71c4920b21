//! The rules of the trade (common practice, each named), and predictions against what comes.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use jiff::ToSpan;
use upland_core::account::site_account::{AccountInputs, EvidencePolicy, begins, end_of, of_site};
use upland_core::controller::schedule::Days;
use upland_core::site::{StationId, SurveyedZone};
use upland_core::tuning::{
    Amount, Cause, Decision, LeverCode, Looks, Sign, Step, Turn, account_at, corrections, dated_steps,
    decide, outcomes, outlook, read_nights, turned, why,
};
use upland_faults::{CAUSES, Planted, looks_of, planted};

fn decided(case: &Planted) -> Decision {
    decide(&case.known, &account_at(&case.known, &case.visit), &case.visit)
}

/// Cases of a cause in which it is found first and acted on.
fn found(cause: Cause) -> Vec<(Planted, Decision)> {
    let all = (0..12).map(|seed| planted(cause, seed)).map(|case| {
        let decision = decided(&case);
        (case, decision)
    });
    let own: Vec<_> = all.filter(|(_, d)| d.levers.first().is_some_and(|l| l.lever.cause == cause)).collect();
    assert!(own.len() >= 4, "{cause:?} is acted on in {} of 12", own.len());
    own
}

#[test]
fn common_practice_a_fault_comes_before_every_setting() {
    let mut tried = 0;
    for (mut case, _) in found(Cause::PercentageLow) {
        case.visit.zones[0].signs.insert(Sign::Broken);
        case.visit.zones[0].looks = Some(Looks::Dry);
        let decision = decided(&case);
        let codes: Vec<LeverCode> = decision.levers.iter().map(|l| l.lever.code).collect();
        if codes.len() >= 2 {
            assert_eq!(codes[0], LeverCode::Mend, "{codes:?}");
            tried += 1;
        }
    }
    assert!(tried > 0, "no case had both");
}

#[test]
fn common_practice_one_zone_off_is_its_own_run_time_and_leaves_the_rest() {
    for (case, decision) in found(Cause::MinutesWrong) {
        let lever = &decision.levers[0].lever;
        assert_eq!((lever.code, lever.station), (LeverCode::ZoneMinutes, case.station));
        let zones = case.known.zones.len();
        assert!(lever.leave.len() >= zones / 2, "the right zones are named: {:?} of {zones}", lever.leave);
        if let Turn::Settings(_, settings) = &lever.turn {
            let before = case.known.controllers[0].settings_at(case.visit.at).unwrap();
            assert_eq!(settings.percentages, before.percentages);
            for SurveyedZone { zone, .. } in
                case.known.zones.iter().filter(|SurveyedZone { zone: z, .. }| Some(z.number) != case.station)
            {
                assert_eq!(settings.run_time(0, zone.number), before.run_time(0, zone.number));
            }
        }
    }
}

#[test]
fn common_practice_all_off_and_the_percentage_implausible_is_the_percentage() {
    for cause in [Cause::PercentageLow, Cause::PercentageHigh, Cause::PercentageStale] {
        for (_, decision) in found(cause) {
            let lever = &decision.levers[0].lever;
            assert!(matches!(lever.code, LeverCode::Percentage | LeverCode::SetControllerRight), "{cause:?}");
            if let (Amount::Percentage(from), Amount::Percentage(to)) = (lever.from, lever.to) {
                let low = decision.diagnosis.middle[0].1.is_some_and(|m| m.fraction() < 1.0);
                if lever.code == LeverCode::Percentage {
                    assert_eq!(to > from, low, "{cause:?}: {from} to {to}");
                }
            }
        }
    }
}

#[test]
fn common_practice_all_off_and_the_percentage_plausible_is_a_day_more_or_fewer() {
    for (cause, more) in [(Cause::DaysFew, true), (Cause::DaysMany, false)] {
        for (_, decision) in found(cause) {
            let lever = &decision.levers[0].lever;
            let (
                Amount::Days(Days::EveryNth { interval: from, .. }),
                Amount::Days(Days::EveryNth { interval: to, .. }),
            ) = (lever.from, lever.to)
            else {
                panic!("{lever:?}")
            };
            assert_eq!(to < from, more, "one day at a time");
            assert_eq!(from.abs_diff(to), 1);
        }
    }
}

#[test]
fn common_practice_the_trim_comes_before_the_climate_setting() {
    for (case, decision) in found(Cause::EtTrim) {
        let lever = &decision.levers[0].lever;
        let Amount::TrimPct(trim) = lever.to else { panic!("{lever:?}") };
        assert!(trim.abs() <= 25.0 && trim != 0.0);
        // With that trim the nights would have been as the weather asked for.
        let nights = read_nights(&case.known, &case.known.controllers[0], &case.visit).unwrap();
        assert!((nights.ratio * (1.0 + trim / 100.0) - 1.0).abs() < 0.02, "{} {trim}", nights.ratio);
    }
    for (case, decision) in found(Cause::EtClimate) {
        let lever = &decision.levers[0].lever;
        let (Amount::Depth(from), Amount::Depth(to)) = (lever.from, lever.to) else { panic!("{lever:?}") };
        let nights = read_nights(&case.known, &case.known.controllers[0], &case.visit).unwrap();
        assert!(
            (to.mm() / from.mm() - nights.ratio).abs() < 0.02,
            "what stands for 100 % moves with the nights"
        );
    }
}

#[test]
fn common_practice_dry_only_after_rain_is_that_zones_map_and_wet_is_the_sensor() {
    for (case, decision) in found(Cause::SensorOnRoofedZone) {
        let lever = &decision.levers[0].lever;
        assert_eq!(
            (lever.code, lever.station, lever.to),
            (LeverCode::SensorMap, case.station, Amount::Holds(false))
        );
    }
    for (_, decision) in found(Cause::GaugeSheltered) {
        assert_eq!(decision.levers[0].lever.code, LeverCode::SensorByHand);
    }
}

#[test]
fn common_practice_a_probe_threshold_moves_by_a_point_at_most() {
    for cause in [Cause::ProbeThresholdHigh, Cause::ProbeThresholdLow] {
        for (_, decision) in found(cause) {
            let lever = &decision.levers[0].lever;
            let (Amount::SoilPct(from), Amount::SoilPct(to)) = (lever.from, lever.to) else {
                panic!("{lever:?}")
            };
            assert!((0.5..=1.0).contains(&(to - from).abs()));
            assert_eq!(to > from, cause == Cause::ProbeThresholdLow);
        }
    }
}

#[test]
fn every_lever_is_one_that_its_controller_and_sensor_can_be_set_to() {
    let mut turned_any = 0;
    for cause in CAUSES {
        for seed in 20..24 {
            let case = planted(cause, seed);
            for proposed in decided(&case).levers {
                match &proposed.lever.turn {
                    Turn::ByHand => {}
                    Turn::Settings(number, settings) => {
                        turned_any += 1;
                        let own = case.known.of_controller(*number).unwrap();
                        assert_eq!(settings.check(&own.card), [], "{cause:?}");
                        assert_ne!(
                            Some(&**settings),
                            own.settings_at(case.visit.at),
                            "{cause:?} changes nothing"
                        );
                    }
                    Turn::Sensor(_, sensor) => {
                        turned_any += 1;
                        assert_eq!(sensor.setting.check(&sensor.card), [], "{cause:?}");
                    }
                }
                assert!(proposed.lever.look_again > case.visit.at.to_zoned(case.known.tz.clone()).date());
            }
        }
    }
    assert!(turned_any > 20, "{turned_any}");
}

/// How each zone really looks so many days after a visit, in a true world.
fn later(truth: &AccountInputs, at: jiff::Timestamp, days: i32) -> Vec<(u16, Looks)> {
    let on = at.to_zoned(truth.tz.clone()).date() + days.days();
    let account =
        of_site(truth, EvidencePolicy::AsSet, begins(&truth.climate, on), end_of(on, &truth.tz), |_, _| ());
    account.zones.iter().map(|z| (z.station, looks_of(&z.days))).collect()
}

#[test]
fn a_lever_taken_makes_more_zones_right_within_a_month_as_foretold() {
    let (mut with, mut without, mut as_told, mut all) = (0, 0, 0, 0);
    for cause in [Cause::MinutesWrong, Cause::PercentageLow, Cause::PercentageHigh, Cause::DaysFew] {
        for (case, decision) in found(cause) {
            let proposed = &decision.levers[0];
            let Turn::Settings(..) = proposed.lever.turn else { continue };
            let truth = turned(&case.truth, &proposed.lever, case.visit.at);
            let left = later(&case.truth, case.visit.at, 27);
            for ((station, looks), (_, left)) in later(&truth, case.visit.at, 27).into_iter().zip(left) {
                let told = proposed.turned[1].iter().find(|z| z.station == station).unwrap();
                all += 1;
                with += usize::from(looks == Looks::Right);
                without += usize::from(left == Looks::Right);
                // Rain that nobody forecast makes a zone wetter, never drier.
                as_told += usize::from(looks >= told.looks || told.looks == Looks::Wet);
            }
        }
    }
    if std::env::var_os("UPLAND_REPORT").is_some() {
        eprintln!("{with} right with, {without} without, {as_told} as told, of {all}");
    }
    assert!(with > without + all / 5, "{with} right with the adjustments, {without} without, of {all}");
    assert!(as_told * 10 >= all * 9, "{as_told} of {all} are as forecast, rain aside");
}

#[test]
fn an_outlook_follows_from_what_is_set_and_counts_no_rain() {
    let (case, _) = found(Cause::MinutesWrong).swap_remove(0);
    let account = account_at(&case.known, &case.visit);
    let on = case.visit.at.to_zoned(case.known.tz.clone()).date();
    let [two, four] = [14, 28].map(|days| outlook(&case.known, &account, on, days));
    for (a, b) in two.iter().zip(&four) {
        assert!(b.demand > a.demand && b.applied >= a.applied, "four weeks hold two");
        assert!((0.0..=1.0).contains(&a.adequacy.fraction()));
    }
    let mut dry = case.known;
    dry.controllers[0]
        .versions
        .iter_mut()
        .for_each(|(_, s)| s.programs.iter_mut().for_each(|p| p.active = false));
    let none = outlook(&dry, &account, on, 28);
    assert!(
        none.iter().all(|z| z.applied.mm() == 0.0 && z.looks == Looks::Dry),
        "nothing runs, nothing falls"
    );
}

#[test]
fn what_was_foretold_is_laid_beside_what_is_seen() {
    let (case, decision) = found(Cause::MinutesWrong).swap_remove(0);
    let on = case.visit.at.to_zoned(case.known.tz.clone()).date();
    let mut next = case.visit.clone();
    next.at = case.visit.at + (14 * 24).hours();
    for zone in &mut next.zones {
        zone.looks = Some(Looks::Right);
    }
    next.zones[0].looks = None;
    let account = account_at(&case.known, &next);
    let found = outcomes(&decision.levers[0].turned[0], &account, on, &next);
    assert_eq!(found.len(), next.zones.len() - 1, "what nobody looked at has no outcome");
    assert!(found.iter().all(|o| o.seen == Looks::Right && o.came.is_some()));
}

#[test]
fn readings_that_agree_offer_a_correction_and_more_of_them_more_surely() {
    use upland_core::account::evidence::FieldReading;
    use upland_core::account::log::LoggedReading;
    use upland_core::quantity::ratio::Share;
    let case = planted(Cause::NothingWrong, 3);
    let SurveyedZone { zone, resolved } = case.known.zones[0].clone();
    // The true zone is read every five days; its heads give four fifths of what the survey says.
    let mut truth = case.known.clone();
    let less = resolved.rate.value.mm_per_hour() * 0.8;
    truth.zones[0].zone.precipitation_rate =
        Some(upland_core::quantity::units::MillimetresPerHour::from_mm_per_hour(less));
    truth.zones[0].resolved = truth.zones[0].zone.resolve(truth.site.latitude_deg);
    let mut factors = Vec::new();
    for count in [2, 5] {
        let mut known = case.known.clone();
        for k in (0..count).rev() {
            let on = case.visit.at - (k * 5 * 24).hours();
            let date = on.to_zoned(truth.tz.clone()).date();
            let account = of_site(&truth, EvidencePolicy::AsSet, begins(&truth.climate, date), on, |_, _| ());
            let left = 1.0 - account.zones[0].end.depletion.mm() / resolved.root_zone.total_available.mm();
            known.log.readings.push(LoggedReading {
                controller_number: 1,
                station: zone.number,
                reading: FieldReading {
                    at: on,
                    available_share: Share::from_fraction(left),
                    reason: "probe".into(),
                },
            });
        }
        let on = case.visit.at;
        let date = on.to_zoned(known.tz.clone()).date();
        let account =
            of_site(&known, EvidencePolicy::Best, begins(&known.climate, date), on + 1.hour(), |_, _| ());
        let found = corrections(&known, &account);
        factors.extend(
            found.iter().filter(|c| c.station == zone.number).map(|c| (c.factor, c.readings, c.confidence)),
        );
    }
    assert!(!factors.is_empty(), "readings that say less are an offer");
    assert!(factors.iter().all(|(factor, ..)| (0.5..1.0).contains(factor)), "{factors:?}");
    let (first, last) = (factors[0], factors[factors.len() - 1]);
    assert!(last.1 >= first.1 && last.2 >= first.2, "{factors:?}");
}

#[test]
fn a_zone_says_why_it_was_dry() {
    let case = planted(Cause::SensorOnRoofedZone, 2);
    let account = account_at(&case.known, &case.visit);
    let to = case.visit.at.to_zoned(case.known.tz.clone()).date();
    let found =
        why(&case.known, &account, StationId::new(1, case.station.unwrap()), to - 14.days(), to).unwrap();
    assert!(found.short_days > 0 && found.missed().mm() > 1.0);
    let first = found.reasons.first().unwrap();
    assert!(
        matches!(first, upland_core::tuning::Reason::Held(held) if held.cause == "rain" && held.runs > 0),
        "{found:?}"
    );
    // A zone that nothing is set to run on says that, whatever else there is.
    let mut bare = case.known.clone();
    bare.controllers[0].versions.iter_mut().for_each(|(_, s)| s.programs[0].run_times.clear());
    let account = account_at(&bare, &case.visit);
    let found = why(&bare, &account, StationId::new(1, case.station.unwrap()), to - 14.days(), to).unwrap();
    assert_eq!(found.reasons.first(), Some(&upland_core::tuning::Reason::NothingSet));
    assert!(why(&bare, &account, StationId::new(1, 99), to, to).is_none());
}

#[test]
fn grow_in_and_wean_off_are_dated_steps() {
    let case = planted(Cause::WeanOffDue, 1);
    let from = case.visit.at.to_zoned(case.known.tz.clone()).date() - 30.days();
    let steps = dated_steps(&case.known, from, 60);
    assert!(steps.len() >= 5 && steps.iter().all(|s| Some(s.station) == case.station));
    assert!(steps.iter().all(|s| matches!(s.step, Step::WeanOff(_))));
    assert!(steps.windows(2).all(|w| w[0].on < w[1].on));
}

#[test]
fn looks_and_a_reading_that_cannot_both_be_so_are_named() {
    use upland_core::quantity::ratio::Share;
    let mut case = planted(Cause::NothingWrong, 5);
    case.visit.zones[0].looks = Some(Looks::Dry);
    case.visit.zones[0].available = Some(Share::from_fraction(0.95));
    let decision = decided(&case);
    assert_eq!(decision.diagnosis.doubtful, [StationId::new(1, case.visit.zones[0].station)]);
    assert!(decision.diagnosis.contradictions.iter().any(|c| c.station == case.visit.zones[0].station));
}

#[test]
fn an_empty_visit_and_a_site_without_anything_come_to_nothing_wrong() {
    let mut case = planted(Cause::NothingWrong, 6);
    case.visit.zones.clear();
    case.visit.controllers.clear();
    case.visit.meter = None;
    let decision = decided(&case);
    assert_eq!(decision.diagnosis.causes[0].cause, Cause::NothingWrong);
    assert!(decision.levers.is_empty());
    case.known.controllers.clear();
    case.known.zones.clear();
    let decision = decided(&case);
    assert_eq!(decision.diagnosis.causes.len(), 1);
    let share: f64 = decision.diagnosis.causes.iter().map(|c| c.share.fraction()).sum();
    assert!((share - 1.0).abs() < 1e-9);
}

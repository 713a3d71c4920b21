//! The search and the sensors on trial: what they find, and what they must not.

use super::tests::{SPAN, facts_of, gauged, set};
use super::*;
use crate::account::site_account::AccountInputs;
use crate::controller::ordinance::samples::{law, two_days_a_week};
use crate::controller::schedule::Settings;
use crate::installation::samples::zones;
use crate::quantity::ratio::Share;
use crate::quantity::time::Hours;
use crate::quantity::units::{Millimetres, SquareMetres};
use crate::sensors::Sense;
use jiff::civil::time;
use std::ops::ControlFlow;

const GOAL: Goal = Goal { adequacy: Share::from_fraction(0.95) };
const NOTHING: Space =
    Space { percentages: false, days: false, thresholds: false, minutes: false, grouping: false };

/// Four zones that get far more than they need, on a controller with a rain switch.
fn lavish() -> AccountInputs {
    let mut zones = zones();
    for zone in &mut zones {
        zone.area = Some(SquareMetres::from_m2(100.0));
    }
    gauged(facts_of(&zones, set(45)))
}

fn found(facts: &AccountInputs, space: Space) -> Found {
    search(facts, 1, SPAN, space, GOAL, |_| ControlFlow::Continue(())).unwrap()
}

fn water(result: &WayResult) -> f64 {
    result.site.litres.unwrap().l()
}

fn settings(found: &Found) -> Settings {
    let (way, _) = found.way.as_ref().unwrap();
    let Schedule::Settings(all) = &way.schedule else { panic!("{way:?}") };
    all[0].1.clone()
}

#[test]
fn shorter_run_times_are_found_that_still_give_enough_and_the_same_again() {
    let facts = lavish();
    let space = Space { minutes: true, ..NOTHING };
    let one = found(&facts, space);
    let (_, best) = one.way.as_ref().unwrap();
    assert!(water(best) < 0.6 * water(&one.now), "{} of {}", water(best), water(&one.now));
    assert!(best.zones.iter().all(|z| z.adequacy() >= GOAL.adequacy), "every zone has enough");
    assert!(one.complete && one.progress.tried == 1 && one.progress.runs > 7);
    assert_eq!(found(&facts, space), one, "the same facts, the same way");
    // A step shorter, and a zone would have less than enough: the answer is at the bound.
    let mut shorter = settings(&one);
    let programs = shorter.programs.iter_mut().flat_map(|p| p.run_times.iter_mut());
    programs
        .for_each(|(_, time)| *time = crate::quantity::time::Seconds::from_s(time.s() * 8 / 10 / 60 * 60));
    let way = TrialWay { schedule: Schedule::Settings(vec![(1, shorter)]), ..TrialWay::default() };
    let less = run_mean(&way, &facts, SPAN, None).unwrap();
    assert!(less.zones.iter().any(|z| z.adequacy() < GOAL.adequacy));
    // What was found is a way like any other: tried in full it comes to the same.
    let (way, best) = one.way.unwrap();
    let whole = run(&way, &facts, SPAN, None, |_, _| ()).unwrap();
    assert!((water(&whole) - water(&best)).abs() < 1e-6);
}

#[test]
fn more_that_may_change_never_makes_it_worse_and_what_is_held_stays() {
    let facts = lavish();
    let minutes = found(&facts, Space { minutes: true, ..NOTHING });
    let all = found(&facts, Space::ALL);
    let of = |found: &Found| water(&found.way.as_ref().unwrap().1);
    assert!(of(&all) <= of(&minutes) * 1.001, "{} {}", of(&all), of(&minutes));
    assert!(all.progress.tried <= all.progress.of, "{:?}", all.progress);
    let held = settings(&minutes);
    let present = set(45);
    assert_eq!(held.programs[0].starts, present.programs[0].starts);
    assert_eq!(held.programs[0].days.admits(SPAN.first), present.programs[0].days.admits(SPAN.first));
    assert!(minutes.way.as_ref().unwrap().0.sensors.is_empty(), "no threshold was moved");
    let thresholds = found(&facts, Space { thresholds: true, ..NOTHING });
    assert_eq!(settings(&thresholds).programs[0].run_times, present.programs[0].run_times);
}

#[test]
fn what_the_law_or_the_window_forbids_is_never_found() {
    // Monday, Wednesday and Friday are set; odd houses may on Wednesday and Sunday.
    let mut facts = lavish();
    facts.law = law(two_days_a_week());
    let held = found(&facts, Space { minutes: true, ..NOTHING });
    assert_eq!(held.way, None, "no run time makes a Monday lawful");
    let planned = found(&facts, Space { minutes: true, grouping: true, ..NOTHING });
    let (_, best) = planned.way.as_ref().unwrap();
    assert!(best.zones.iter().all(|z| z.forbidden == 0 && z.outside == 0));
    // A window that ends before the controller has run leaves the present as it is, and nothing longer.
    let mut narrow = lavish();
    narrow.site.windows.main = Hours { from: time(2, 0, 0, 0), until: time(3, 0, 0, 0) };
    let now = found(&narrow, NOTHING);
    let outside = |result: &WayResult| result.zones.iter().map(|z| z.outside).sum::<u32>();
    assert!(outside(&now.now) > 0);
    let shorter = found(&narrow, Space { minutes: true, ..NOTHING });
    assert!(outside(&shorter.way.unwrap().1) <= outside(&now.now));
}

#[test]
fn a_search_that_is_stopped_gives_the_best_so_far_and_says_how_far_it_got() {
    let facts = lavish();
    let whole = found(&facts, Space::ALL);
    let mut seen = 0;
    let stopped = search(&facts, 1, SPAN, Space::ALL, GOAL, |progress| {
        seen += 1;
        assert!(progress.of >= progress.tried);
        if progress.tried >= 2 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    let stopped = stopped.unwrap();
    assert!(!stopped.complete && stopped.way.is_some() && seen == stopped.progress.runs - 1);
    assert!(stopped.progress.tried < whole.progress.tried);
    let at_once = search(&facts, 1, SPAN, Space::ALL, GOAL, |_| ControlFlow::Break(())).unwrap();
    assert_eq!((at_once.way, at_once.complete), (None, false));
}

#[test]
fn a_controller_that_cannot_be_tried_is_refused_before_anything_runs() {
    let facts = lavish();
    let none = search(&facts, 7, SPAN, Space::ALL, GOAL, |_| ControlFlow::Continue(()));
    assert_eq!(none.unwrap_err(), [Refusal::NoController { controller_number: 7 }]);
    let mut unset = facts;
    unset.controllers[0].versions.clear();
    let none = search(&unset, 1, SPAN, Space::ALL, GOAL, |_| ControlFlow::Continue(()));
    assert_eq!(none.unwrap_err(), [Refusal::Unset { controller_number: 1 }]);
}

#[test]
fn a_zone_that_never_has_enough_keeps_its_run_time_and_the_others_are_fitted() {
    let mut facts = lavish();
    // Five minutes a night cannot keep the first zone, whatever two and a half times that brings.
    let mut settings = set(45);
    settings.set_run_time(0, 1, crate::quantity::time::Seconds::from_min(1));
    facts.controllers[0].versions[0].1 = settings;
    let found = found(&facts, Space { minutes: true, ..NOTHING });
    let (_, best) = found.way.as_ref().unwrap();
    assert!(best.zones[0].adequacy() < GOAL.adequacy);
    assert_eq!(self::settings(&found).run_time(0, 1), crate::quantity::time::Seconds::from_min(1));
    assert!(
        best.zones.iter().skip(1).all(|z| z.adequacy() >= GOAL.adequacy || z.applied == Millimetres::ZERO)
    );
}

#[test]
fn a_sensor_is_on_trial_as_it_hangs_absent_misplaced_and_at_every_other_step() {
    let facts = lavish();
    let all = variants(&facts);
    let [gauge] = &all[..] else { panic!("{all:?}") };
    assert_eq!(
        (gauge.controller_number, gauge.name.as_str(), &gauge.senses[..]),
        (1, "Gauge", &[Sense::Rain][..])
    );
    let kinds: Vec<Installed> = gauge.ways.iter().map(|(hung, _)| *hung).collect();
    assert_eq!(kinds[..4], [Installed::AsHung, Installed::Absent, Installed::UnderEave, Installed::InShade]);
    assert!(kinds[4..].iter().all(|k| matches!(k, Installed::At(mm) if (mm.mm() - 12.0).abs() > 0.05)));
    let of = |wanted: Installed| {
        let way = &gauge.ways.iter().find(|(hung, _)| *hung == wanted).unwrap().1;
        water(&run_mean(way, &facts, SPAN, None).unwrap())
    };
    assert!(of(Installed::AsHung) < of(Installed::Absent), "it saves");
    assert!(of(Installed::UnderEave) >= of(Installed::AsHung), "under an eave it saves less");
    assert!(of(Installed::InShade) <= of(Installed::AsHung), "in shade it holds longer");
    let steps: Vec<f64> =
        kinds.iter().filter_map(|k| if let Installed::At(_) = k { Some(of(*k)) } else { None }).collect();
    assert!(steps.windows(2).all(|pair| pair[0] <= pair[1]), "a larger step lets more run: {steps:?}");
    assert!(steps.first() < steps.last());
    let mut bare = facts;
    bare.controllers[0].sensors.clear();
    assert!(variants(&bare).is_empty());
}

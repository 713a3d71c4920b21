//! Where a sensor stands: each criterion with what was measured, what is wanted, and what to do.
//!
//! Clearances of gauges and heights of thermometers after the WMO Guide to Instruments and Methods of
//! Observation (WMO-No. 8; from memory); the rest is common practice.

use super::{Link, Sense, Sensor};
use crate::ground::plant::Sky;
use crate::quantity::units::Metres;

/// What was measured of a place; `None` was not looked at.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Placement {
    /// Hours of sun on a clear day in the middle of the season.
    pub sun_hours: Option<f64>,
    /// Distance to the nearest thing that stands higher than the sensor.
    pub obstacle_distance: Option<Metres>,
    /// How much higher than the sensor it is.
    pub obstacle_above: Option<Metres>,
    /// Whether an eave, a branch or a roof is straight above.
    pub covered: Option<bool>,
    /// Whether a head can wet it.
    pub in_spray: Option<bool>,
    /// Height above the ground; for a probe, its depth below it.
    pub height: Option<Metres>,
    /// Wire or radio distance to the controller.
    pub distance: Option<Metres>,
    /// Walls between it and the controller.
    pub walls: Option<u8>,
    /// Whether a thermometer has a radiation shield.
    pub shielded: Option<bool>,
    /// Whether a gauge has a screen and spikes against birds.
    pub screened: Option<bool>,
    /// Straight pipe before a flow meter, in pipe diameters.
    pub straight_before: Option<f64>,
    /// Straight pipe after it.
    pub straight_after: Option<f64>,
    /// Station of the zone that a soil probe stands in.
    pub probe_station: Option<u16>,
    /// Location on the plan, metres.
    pub at: Option<(f64, f64)>,
}

/// How a criterion came out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Verdict {
    /// It will not work there.
    Fails,
    /// It works, but worse than it could.
    Doubtful,
    /// Nobody looked.
    Unknown,
    /// As it should be.
    Good,
}

/// A criterion.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Criterion {
    /// Nothing straight above.
    OpenSky,
    /// Far enough from what stands higher.
    Clearance,
    /// Dries as the zones do.
    Sun,
    /// Out of every spray path.
    Spray,
    /// At its height.
    Height,
    /// Within reach of the controller.
    Reach,
    /// Within reach of its decoder on the two-wire path.
    DecoderReach,
    /// A radiation shield.
    Shield,
    /// Screen and bird spikes.
    Screen,
    /// Straight pipe on both sides.
    StraightPipe,
    /// Stands in the root zone of a zone.
    RootZone,
    /// Feels what the zones feel.
    SameExposure,
}

/// A criterion with its outcome.
#[derive(Debug, Clone, PartialEq)]
pub struct Judged {
    /// Which.
    pub criterion: Criterion,
    /// How it came out.
    pub verdict: Verdict,
    /// The figure, where there is one.
    pub found: Option<f64>,
    /// What is wanted, in the same unit.
    pub wanted: Option<f64>,
}

/// Distance wanted from an obstacle, as a multiple of how much higher it is: twice at least, four
/// times better (WMO-No. 8; from memory).
pub const CLEARANCE_LEAST: f64 = 2.0;
/// The better multiple.
pub const CLEARANCE_GOOD: f64 = 4.0;
/// Hours of sun below which a rain switch dries far later than the zones (common practice).
pub const SUN_LEAST_H: f64 = 4.0;
/// Hours of sun that are enough.
pub const SUN_GOOD_H: f64 = 6.0;
/// Height band of a thermometer, m (WMO-No. 8: 1.25 to 2; from memory).
pub const THERMOMETER_M: (f64, f64) = (1.25, 2.0);
/// Least height of a rain switch above the ground, m: above hands, splash and heads.
pub const SWITCH_LEAST_M: f64 = 1.5;
/// Height of the wind that ET0 is defined with, m (FAO-56).
pub const WIND_M: f64 = 2.0;
/// Share of the radio reach that is lost at each wall beyond the first (our stated default).
const WALL_LOSS: f64 = 0.5;
/// Pipe diameters wanted before and after a flow meter (common practice).
pub const STRAIGHT_PIPE: (f64, f64) = (10.0, 5.0);

/// How far the radio of a card reaches with some walls between.
#[must_use]
pub fn radio_reach(card: &super::SensorCard, walls: u8) -> Metres {
    match walls {
        0 => card.radio_open,
        more => Metres::from_m(card.radio_walls.m() * WALL_LOSS.powi(i32::from(more) - 1)),
    }
}

/// What a sensor's place is judged against.
#[derive(Debug, Clone, Copy, Default)]
pub struct Surroundings<'a> {
    /// Skies of the zones that it can hold.
    pub skies: &'a [Sky],
    /// Root depth of the zone that a probe stands in.
    pub root_depth: Option<Metres>,
    /// Whether it is joined through a decoder: its wire then runs to the two-wire path and not to the controller.
    pub by_decoder: bool,
}

/// Judges the place of a sensor, criterion by criterion, the worst first.
// Long: one criterion after another.
#[must_use]
pub fn judge(sensor: &Sensor, around: Surroundings<'_>) -> Vec<Judged> {
    let Surroundings { skies, root_depth, by_decoder } = around;
    let (card, place) = (&sensor.card, &sensor.placement);
    let mut out = Vec::new();
    let mut say = |criterion, verdict, found: Option<f64>, wanted: Option<f64>| {
        out.push(Judged { criterion, verdict, found, wanted });
    };
    let yes_no = |value: Option<bool>, good: bool| match value {
        None => Verdict::Unknown,
        Some(v) if v == good => Verdict::Good,
        Some(_) => Verdict::Fails,
    };
    let steps = |value: Option<f64>, least: f64, good: f64| match value {
        None => Verdict::Unknown,
        Some(v) if v >= good => Verdict::Good,
        Some(v) if v >= least => Verdict::Doubtful,
        Some(_) => Verdict::Fails,
    };
    let aloft = card.senses(Sense::Rain) || card.senses(Sense::Wind) || card.senses(Sense::Et);
    if card.senses(Sense::Rain) || card.senses(Sense::Et) {
        say(Criterion::OpenSky, yes_no(place.covered, false), None, None);
    }
    if aloft {
        let (found, verdict) = match (place.obstacle_distance, place.obstacle_above) {
            (_, Some(above)) if above.m() <= 0.0 => (None, Verdict::Good),
            (Some(distance), Some(above)) => {
                let multiple = distance.m() / above.m();
                (Some(multiple), steps(Some(multiple), CLEARANCE_LEAST, CLEARANCE_GOOD))
            }
            _ => (None, Verdict::Unknown),
        };
        say(Criterion::Clearance, verdict, found, Some(CLEARANCE_LEAST));
    }
    if card.senses(Sense::Rain) || card.senses(Sense::Et) {
        say(
            Criterion::Sun,
            steps(place.sun_hours, SUN_LEAST_H, SUN_GOOD_H),
            place.sun_hours,
            Some(SUN_GOOD_H),
        );
    }
    if aloft || card.senses(Sense::Freeze) {
        say(Criterion::Spray, yes_no(place.in_spray, false), None, None);
        let height = place.height.map(Metres::m);
        let (verdict, wanted) = match height {
            None => (Verdict::Unknown, None),
            Some(m) if card.senses(Sense::Wind) && !card.senses(Sense::Et) => {
                (steps(Some(m), SWITCH_LEAST_M, WIND_M), Some(WIND_M))
            }
            // What measures rain belongs above the roof edge, whatever else it reads.
            Some(m)
                if !card.senses(Sense::Rain)
                    && (card.senses(Sense::Freeze) && !card.is_contact() || card.senses(Sense::Et)) =>
            {
                let (low, high) = THERMOMETER_M;
                (if (low..=high).contains(&m) { Verdict::Good } else { Verdict::Doubtful }, Some(low))
            }
            Some(m) => {
                (if m >= SWITCH_LEAST_M { Verdict::Good } else { Verdict::Doubtful }, Some(SWITCH_LEAST_M))
            }
        };
        say(Criterion::Height, verdict, height, wanted);
    }
    if card.senses(Sense::Et) || card.senses(Sense::Freeze) && !card.is_contact() {
        say(Criterion::Shield, yes_no(place.shielded, true), None, None);
    }
    if card.senses(Sense::Rain) && !card.is_contact() {
        let verdict = match place.screened {
            None => Verdict::Unknown,
            Some(true) => Verdict::Good,
            Some(false) => Verdict::Doubtful,
        };
        say(Criterion::Screen, verdict, None, None);
    }
    if card.senses(Sense::Flow) {
        let enough = place
            .straight_before
            .zip(place.straight_after)
            .map(|(before, after)| (before / STRAIGHT_PIPE.0).min(after / STRAIGHT_PIPE.1));
        say(Criterion::StraightPipe, steps(enough, 0.5, 1.0), enough, Some(1.0));
    }
    if card.senses(Sense::SoilMoisture) {
        let verdict = match (place.probe_station, place.height, root_depth) {
            (Some(_), Some(depth), Some(root)) if depth.m() > 0.0 && depth.m() <= root.m() => Verdict::Good,
            (Some(_), Some(_), Some(_)) => Verdict::Fails,
            _ => Verdict::Unknown,
        };
        say(Criterion::RootZone, verdict, place.height.map(Metres::m), root_depth.map(Metres::m));
    }
    let (reach, walls) = match card.link {
        Link::Wire => (card.wire_longest, Some(0)),
        Link::Radio => (radio_reach(card, place.walls.unwrap_or(0)), place.walls),
    };
    let verdict = match (place.distance, walls) {
        (Some(distance), Some(_)) if distance.m() > reach.m() => Verdict::Fails,
        // The last fifth of a reach goes with leaves, rain and an old battery, or with a wire's way round corners.
        (Some(distance), Some(_)) if distance.m() > 0.8 * reach.m() => Verdict::Doubtful,
        (Some(_), Some(_)) => Verdict::Good,
        _ => Verdict::Unknown,
    };
    let criterion = if by_decoder { Criterion::DecoderReach } else { Criterion::Reach };
    say(criterion, verdict, place.distance.map(Metres::m), Some(reach.m()));
    if aloft && !skies.is_empty() {
        let open = skies.contains(&Sky::Open);
        say(Criterion::SameExposure, if open { Verdict::Good } else { Verdict::Fails }, None, None);
    }
    out.sort_by_key(|j| (j.verdict, j.criterion));
    out
}

/// The worst of some criteria; `Unknown` counts only when nothing is worse.
#[must_use]
pub fn overall(judged: &[Judged]) -> Verdict {
    judged.iter().map(|j| j.verdict).min().unwrap_or(Verdict::Unknown)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sensors::generic;

    fn at(code: &str, placement: Placement) -> Sensor {
        let mut sensor = Sensor::of_card(generic().into_iter().find(|(c, _)| *c == code).unwrap().1, 1);
        sensor.placement = placement;
        sensor
    }

    fn verdict(judged: &[Judged], criterion: Criterion) -> Verdict {
        judged.iter().find(|j| j.criterion == criterion).unwrap().verdict
    }

    fn open_to(skies: &[Sky]) -> Surroundings<'_> {
        Surroundings { skies, ..Surroundings::default() }
    }

    fn m(value: f64) -> Option<Metres> {
        Some(Metres::from_m(value))
    }

    #[test]
    fn an_unseen_place_is_unknown_not_good() {
        let judged = judge(&at("rain_switch", Placement::default()), open_to(&[Sky::Open]));
        assert_eq!(overall(&judged), Verdict::Unknown);
        assert_eq!(judged.iter().filter(|j| j.verdict == Verdict::Unknown).count(), 6);
    }

    #[test]
    fn under_an_eave_in_the_spray_and_far_away_each_says_so() {
        let bad = Placement {
            covered: Some(true),
            in_spray: Some(true),
            sun_hours: Some(2.0),
            obstacle_distance: m(3.0),
            obstacle_above: m(2.0),
            height: m(0.4),
            distance: m(75.0),
            ..Placement::default()
        };
        let judged = judge(&at("rain_switch", bad), open_to(&[Sky::UnderEaves]));
        for criterion in [
            Criterion::OpenSky,
            Criterion::Clearance,
            Criterion::Sun,
            Criterion::Spray,
            Criterion::Reach,
            Criterion::SameExposure,
        ] {
            assert_eq!(verdict(&judged, criterion), Verdict::Fails, "{criterion:?}");
        }
        assert_eq!(verdict(&judged, Criterion::Height), Verdict::Doubtful);
        assert_eq!(judged[0].verdict, Verdict::Fails, "the worst comes first");
    }

    #[test]
    fn wire_of_common_practice_is_good_well_inside_its_sixty_metres() {
        let reach = |distance| {
            let judged = judge(
                &at("rain_switch", Placement { distance: m(distance), ..Placement::default() }),
                Surroundings::default(),
            );
            verdict(&judged, Criterion::Reach)
        };
        assert_eq!(
            [reach(12.0), reach(12.5), reach(48.0), reach(48.1), reach(60.0), reach(61.0)],
            [
                Verdict::Good,
                Verdict::Good,
                Verdict::Good,
                Verdict::Doubtful,
                Verdict::Doubtful,
                Verdict::Fails
            ]
        );
    }

    #[test]
    fn sentence_8_on_a_decoder_the_distance_is_to_the_decoder() {
        let place = Placement { distance: m(40.0), ..Placement::default() };
        let judged =
            judge(&at("rain_switch", place), Surroundings { by_decoder: true, ..Surroundings::default() });
        assert_eq!(verdict(&judged, Criterion::DecoderReach), Verdict::Good);
        assert!(judged.iter().all(|j| j.criterion != Criterion::Reach), "the controller may be far away");
    }

    #[test]
    fn radio_of_common_practice_loses_by_walls() {
        let card = generic().into_iter().find(|(c, _)| *c == "rain_switch_radio").unwrap().1;
        assert_eq!(radio_reach(&card, 0).m(), 240.0);
        assert!((30.0..=60.0).contains(&radio_reach(&card, 1).m()));
        let reach = |distance, walls| {
            let place = Placement { distance: m(distance), walls: Some(walls), ..Placement::default() };
            verdict(&judge(&at("rain_switch_radio", place), Surroundings::default()), Criterion::Reach)
        };
        assert_eq!(
            [reach(180.0, 0), reach(230.0, 0), reach(50.0, 1), reach(30.0, 1), reach(30.0, 2)],
            [Verdict::Good, Verdict::Doubtful, Verdict::Fails, Verdict::Good, Verdict::Fails]
        );
    }

    #[test]
    fn a_gauge_stands_twice_as_far_as_things_are_higher() {
        let clear = |distance| {
            let place =
                Placement { obstacle_distance: m(distance), obstacle_above: m(3.0), ..Placement::default() };
            verdict(&judge(&at("tipping_bucket", place), Surroundings::default()), Criterion::Clearance)
        };
        assert_eq!([clear(5.9), clear(6.0), clear(12.0)], [Verdict::Fails, Verdict::Doubtful, Verdict::Good]);
    }

    #[test]
    fn a_probe_belongs_in_the_root_zone_and_a_meter_in_straight_pipe() {
        let probe = |depth| {
            let place = Placement { height: m(depth), probe_station: Some(2), ..Placement::default() };
            verdict(
                &judge(
                    &at("soil_probe", place),
                    Surroundings { root_depth: m(0.15), ..Surroundings::default() },
                ),
                Criterion::RootZone,
            )
        };
        assert_eq!([probe(0.1), probe(0.3)], [Verdict::Good, Verdict::Fails]);
        let meter = |before, after| {
            let place = Placement {
                straight_before: Some(before),
                straight_after: Some(after),
                ..Placement::default()
            };
            verdict(&judge(&at("flow_meter", place), Surroundings::default()), Criterion::StraightPipe)
        };
        assert_eq!(
            [meter(10.0, 5.0), meter(6.0, 5.0), meter(2.0, 5.0)],
            [Verdict::Good, Verdict::Doubtful, Verdict::Fails]
        );
    }
}

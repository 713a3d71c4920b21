//! A rain switch at each of its settings on the site's own record: how often it would have held, how
//! often while plants needed the water, and what it would have kept in the main.

use crate::account::sensed::{RecordedNight, stands};
use crate::quantity::units::{Litres, Millimetres};
use crate::sensors::state::{Drying, Hold, rain_holds};
use crate::sensors::{Readings, Release, SensorCard};

/// Steps that switches have, mm (common practice).
const COMMON_STEPS_MM: [f64; 6] = [3.0, 6.0, 9.0, 12.0, 18.0, 25.0];

/// The thresholds of a switch's own card: its steps; where it has none the common steps within its range, and the
/// range's ends. Without a range all common steps.
#[must_use]
pub fn steps(card: &SensorCard) -> Vec<Millimetres> {
    if !card.rain_steps.is_empty() {
        return card.rain_steps.clone();
    }
    let Some((low, high)) = card.rain_range else {
        return COMMON_STEPS_MM.map(Millimetres::from_mm).to_vec();
    };
    let within = COMMON_STEPS_MM.iter().copied().filter(|mm| (low.mm()..=high.mm()).contains(mm));
    let mut all: Vec<f64> = within.chain([low.mm(), high.mm()]).collect();
    all.sort_by(f64::total_cmp);
    all.dedup();
    all.into_iter().map(Millimetres::from_mm).collect()
}

/// What a threshold does.
#[derive(Debug, Clone, PartialEq)]
pub struct ThresholdResult {
    /// The threshold.
    pub threshold: Millimetres,
    /// Its holds: as many as it tripped.
    pub holds: Vec<Hold>,
    /// Nights on which it held something that the box would have run, or a zone that was due.
    pub held: u32,
    /// Of them, summer nights on which a zone was due: held against need.
    pub held_in_need: u32,
    /// Water that the held nights would have brought.
    pub kept: Litres,
}

impl ThresholdResult {
    /// Times it tripped.
    #[must_use]
    pub fn trips(&self) -> u32 {
        u32::try_from(self.holds.len()).unwrap_or(u32::MAX)
    }
}

/// Replays thresholds over the nights of a record.
#[must_use]
pub fn thresholds(
    (steps, release): (&[Millimetres], Release),
    rain: &Readings,
    drying: &Drying,
    nights: &[RecordedNight],
) -> Vec<ThresholdResult> {
    let Some(until) = nights.iter().map(|n| n.at).max() else { return Vec::new() };
    let replayed = |threshold: &Millimetres| {
        let holds = rain_holds((*threshold, release), rain, drying, until);
        let mut result =
            ThresholdResult { threshold: *threshold, holds, held: 0, held_in_need: 0, kept: Litres::ZERO };
        let held = nights.iter().filter(|n| n.runs() && stands(&result.holds, n.at));
        for night in held {
            result.held += 1;
            result.held_in_need += u32::from(night.due && night.summer);
            result.kept = result.kept + night.scheduled;
        }
        result
    };
    steps.iter().map(replayed).collect()
}

/// The setting that the record speaks for: of those that hold against need least often, the one that
/// keeps most water; the smallest threshold wins a tie.
#[must_use]
pub fn advised(results: &[ThresholdResult]) -> Option<&ThresholdResult> {
    let fewest = results.iter().map(|r| r.held_in_need).min()?;
    results
        .iter()
        .filter(|r| r.held_in_need == fewest)
        .reduce(|best, r| if r.kept > best.kept { r } else { best })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sensors::Reading;
    use jiff::Timestamp;
    use jiff::civil::date;
    use jiff::{SignedDuration, ToSpan};

    #[test]
    fn the_smallest_step_holds_against_need_and_the_middle_one_does_not() {
        let start: Timestamp = "2026-06-01T12:00:00Z".parse().unwrap();
        let day = |d: i64| start + SignedDuration::from_hours(24 * d);
        // A drizzle of 4 mm every third day, and one downpour of 30.
        let rain: Vec<Reading> = (0..30)
            .map(|d| Reading {
                at: day(d),
                value: if d == 20 {
                    30.0
                } else if d % 3 == 0 && d < 18 {
                    4.0
                } else {
                    0.0
                },
            })
            .collect();
        let drying = Drying::new((0..40).map(|d| (day(d), Millimetres::from_mm(5.0))).collect());
        let nights: Vec<RecordedNight> = (0..30)
            .map(|d| RecordedNight {
                date: date(2026, 6, 1) + d.days(),
                at: day(d) + SignedDuration::from_hours(10),
                due: !(20..24).contains(&d),
                summer: true,
                scheduled: Litres::from_l(100.0),
            })
            .collect();
        let tried = COMMON_STEPS_MM.map(Millimetres::from_mm);
        let results =
            thresholds((&tried, Release::DriesOut { vent: 1.0 }), &Readings::new(rain), &drying, &nights);
        assert_eq!(results.len(), COMMON_STEPS_MM.len());
        assert!(results[0].held_in_need >= 6, "{results:?}");
        assert_eq!(results[3].trips(), 1);
        assert_eq!(
            (results[3].held, results[3].held_in_need),
            (2, 0),
            "soaked discs dry in 38 hours: two nights"
        );
        assert_eq!(results[3].kept, Litres::from_l(200.0));
        let best = advised(&results).unwrap();
        assert_eq!(
            (best.held_in_need, best.threshold.mm()),
            (0, 6.0),
            "the smallest step that no drizzle trips"
        );
        assert_eq!(thresholds((&tried, Release::Days(2)), &Readings::default(), &drying, &[]), []);
    }
}

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
    /// Nights of the half year with the greater demand on which it held something that the controller would have run,
    /// or a zone that was due.
    pub held: u32,
    /// Of them, nights on which a zone was due: held against need.
    pub held_in_need: u32,
    /// Nights of the other half year on which it held. Nothing is saved on them: a well-set season waters little or
    /// nothing then.
    pub held_out_of_season: u32,
    /// Water that the held nights of the season would have brought.
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
    steps: &[Millimetres],
    release: Release,
    rain: &Readings,
    drying: &Drying,
    nights: &[RecordedNight],
) -> Vec<ThresholdResult> {
    let Some(until) = nights.iter().map(|n| n.at).max() else { return Vec::new() };
    let replayed = |threshold: &Millimetres| {
        let holds = rain_holds(*threshold, release, rain, drying, until);
        let mut result = ThresholdResult {
            threshold: *threshold,
            holds,
            held: 0,
            held_in_need: 0,
            held_out_of_season: 0,
            kept: Litres::ZERO,
        };
        for night in nights.iter().filter(|n| stands(&result.holds, n.at)) {
            if !night.summer {
                result.held_out_of_season += 1;
            } else if night.runs() {
                result.held += 1;
                result.held_in_need += u32::from(night.due);
                result.kept = result.kept + night.scheduled;
            }
        }
        result
    };
    steps.iter().map(replayed).collect()
}

/// Half an inch as switches have it, in mm (common practice).
const HALF_INCH_MM: (f64, f64) = (11.9, 12.8);
/// Nights a year against need by which another step has to be better than half an inch (our stated bound).
const FEWER_NIGHTS_A_YEAR: f64 = 3.0;
/// Share of the water kept by which another step has to be better (our stated bound).
const MORE_KEPT: f64 = 0.15;

/// Why a threshold is advised.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Because {
    /// Half an inch is common practice, and no other step is clearly better on this record.
    CommonPractice,
    /// It holds so many nights less against need than half an inch and keeps nearly as much.
    FewerInNeed {
        /// Nights of the record.
        nights: u32,
    },
    /// It keeps so much more and holds no more often against need than half an inch.
    KeepsMore {
        /// In the season of the record.
        water: Litres,
    },
    /// The switch has no step near half an inch: it holds against need least often, and of those keeps most.
    LeastInNeed,
}

/// An advised threshold.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AdvisedThreshold<'a> {
    /// Which.
    pub result: &'a ThresholdResult,
    /// Why.
    pub because: Because,
}

/// The setting to choose by a record of so many years: half an inch, unless another step holds clearly less against
/// need and keeps nearly as much, or keeps clearly more and holds no more often against need.
#[must_use]
pub fn advised(results: &[ThresholdResult], years: f64) -> Option<AdvisedThreshold<'_>> {
    let is_common = |r: &&ThresholdResult| (HALF_INCH_MM.0..=HALF_INCH_MM.1).contains(&r.threshold.mm());
    let Some(common) = results.iter().find(is_common) else {
        let fewest = results.iter().map(|r| r.held_in_need).min()?;
        let least = results.iter().filter(|r| r.held_in_need == fewest);
        let result = least.reduce(|best, r| if r.kept > best.kept { r } else { best })?;
        return Some(AdvisedThreshold { result, because: Because::LeastInNeed });
    };
    let margin = FEWER_NIGHTS_A_YEAR * years.max(f64::MIN_POSITIVE);
    let better = |r: &ThresholdResult| {
        let fewer = common.held_in_need.saturating_sub(r.held_in_need);
        let (kept, now) = (r.kept.l(), common.kept.l());
        if f64::from(fewer) >= margin && kept >= (1.0 - MORE_KEPT) * now {
            Some(Because::FewerInNeed { nights: fewer })
        } else if r.held_in_need <= common.held_in_need && kept > (1.0 + MORE_KEPT) * now {
            Some(Because::KeepsMore { water: Litres::from_l(kept - now) })
        } else {
            None
        }
    };
    let found = results.iter().filter_map(|r| Some(AdvisedThreshold { result: r, because: better(r)? }));
    let best = found.min_by(|a, b| {
        let (a, b) = (a.result, b.result);
        a.held_in_need.cmp(&b.held_in_need).then(b.kept.l().total_cmp(&a.kept.l()))
    });
    Some(best.unwrap_or(AdvisedThreshold { result: common, because: Because::CommonPractice }))
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
            thresholds(&tried, Release::DriesOut { vent: 1.0 }, &Readings::new(rain), &drying, &nights);
        assert_eq!(results.len(), COMMON_STEPS_MM.len());
        assert!(results[0].held_in_need >= 6, "{results:?}");
        assert_eq!(results[3].trips(), 1);
        assert_eq!(
            (results[3].held, results[3].held_in_need),
            (2, 0),
            "soaked discs dry in 38 hours: two nights"
        );
        assert_eq!(results[3].kept, Litres::from_l(200.0));
        let best = advised(&results, 30.0 / 365.0).unwrap();
        assert_eq!(
            (best.result.held_in_need, best.result.threshold.mm()),
            (0, 12.0),
            "6 mm does the same on this record, so the common half inch stays"
        );
        assert_eq!(best.because, Because::CommonPractice);
        let without_common: Vec<_> = results.iter().filter(|r| r.threshold.mm() < 11.0).cloned().collect();
        let best = advised(&without_common, 30.0 / 365.0).unwrap();
        assert_eq!((best.result.threshold.mm(), best.because), (6.0, Because::LeastInNeed));
        assert_eq!(thresholds(&tried, Release::Days(2), &Readings::default(), &drying, &[]), []);
    }

    fn result(mm: f64, held_in_need: u32, kept: f64) -> ThresholdResult {
        ThresholdResult {
            threshold: Millimetres::from_mm(mm),
            holds: Vec::new(),
            held: held_in_need + 5,
            held_in_need,
            held_out_of_season: 0,
            kept: Litres::from_l(kept),
        }
    }

    #[test]
    fn sentence_8_half_an_inch_stays_until_another_step_is_clearly_better() {
        let of = |all: &[ThresholdResult]| {
            advised(all, 2.0).map(|a| (a.result.threshold.mm(), a.because)).unwrap()
        };
        // A night or two less against need is no reason to lose the half inch.
        let close = [result(6.0, 7, 1050.0), result(12.0, 5, 1000.0), result(25.0, 4, 900.0)];
        assert_eq!(of(&close), (12.0, Because::CommonPractice));
        // Clearly fewer nights, but it hardly holds at all.
        let never = [result(12.7, 8, 1000.0), result(25.0, 0, 300.0)];
        assert_eq!(of(&never), (12.7, Because::CommonPractice));
        let fewer = [result(12.0, 9, 1000.0), result(18.0, 2, 900.0)];
        assert_eq!(of(&fewer), (18.0, Because::FewerInNeed { nights: 7 }));
        let more = [result(6.0, 4, 1300.0), result(12.0, 4, 1000.0)];
        assert_eq!(of(&more), (6.0, Because::KeepsMore { water: Litres::from_l(300.0) }));
        assert_eq!(advised(&[], 1.0), None);
    }

    #[test]
    fn sentence_8_a_night_outside_the_season_saves_no_water() {
        let start: Timestamp = "2026-06-01T12:00:00Z".parse().unwrap();
        let day = |d: i64| start + SignedDuration::from_hours(24 * d);
        let rain = Readings::new((0..20).map(|d| Reading { at: day(d), value: 14.0 }).collect());
        let drying = Drying::new((0..40).map(|d| (day(d), Millimetres::from_mm(1.0))).collect());
        let nights: Vec<RecordedNight> = (0..20)
            .map(|d| RecordedNight {
                date: date(2026, 6, 1) + d.days(),
                at: day(d) + SignedDuration::from_hours(10),
                due: false,
                summer: d < 8,
                scheduled: Litres::from_l(100.0),
            })
            .collect();
        let half_inch = [Millimetres::from_mm(12.0)];
        let found = thresholds(&half_inch, Release::DriesOut { vent: 1.0 }, &rain, &drying, &nights);
        assert_eq!((found[0].held, found[0].held_out_of_season), (8, 12));
        assert_eq!(found[0].kept, Litres::from_l(800.0));
    }
}

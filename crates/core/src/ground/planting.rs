//! What a technician says about the plants of a valve beyond their kind: an own coefficient, other
//! plants on the same valve, a grow-in, a wean-off and a trim.

use crate::ground::plant::PlantKind;
use crate::quantity::month::{ByMonth, Month};
use crate::quantity::ratio::Share;
use crate::quantity::units::Metres;
use jiff::ToSpan;
use jiff::civil::Date;

/// A coefficient that stands instead of the kind's.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum OwnCoefficient {
    /// One number all year. It already contains sun and shade.
    Constant(f64),
    /// One number for each calendar month. It already contains sun and shade.
    Monthly(ByMonth<f64>),
    /// Species factor × density factor (WUCOLS method); the zone's sun is the third factor.
    Landscape {
        /// Species factor ks.
        species: f64,
        /// Density factor kd.
        density: f64,
    },
}

impl OwnCoefficient {
    /// Its value in a month, before the zone's sun.
    #[must_use]
    pub fn in_month(&self, month: Month) -> f64 {
        match self {
            Self::Constant(value) => *value,
            Self::Monthly(values) => *values.of(month),
            Self::Landscape { species, density } => species * density,
        }
    }

    /// Whether sun and shade are in it already, so that they are not counted a second time.
    #[must_use]
    pub fn contains_sun(&self) -> bool {
        !matches!(self, Self::Landscape { .. })
    }
}

/// How densely the ground is covered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Density {
    /// Much bare ground: immature or widely set plants.
    Sparse,
    /// An ordinary full planting of one kind.
    Average,
    /// Several layers: trees over shrubs over ground cover.
    Dense,
}

impl Density {
    /// All classes, in the order of the list.
    pub const ALL: [Self; 3] = [Self::Sparse, Self::Average, Self::Dense];
    /// Source of the factors.
    pub const SOURCE: &'static str =
        "density factor: low 0.5-0.9, average 1.0, high 1.1-1.3 (WUCOLS method; from memory)";

    /// Density factor kd, the middle of its class.
    #[must_use]
    pub const fn factor(self) -> f64 {
        match self {
            Self::Sparse => 0.7,
            Self::Average => 1.0,
            Self::Dense => 1.2,
        }
    }

    /// Words for the list.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Sparse => "sparse, bare ground between",
            Self::Average => "average, one full layer",
            Self::Dense => "dense, several layers",
        }
    }
}

/// Other plants on the same valve.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct OtherPlants {
    /// What they are.
    pub plant: PlantKind,
    /// Their share of the zone's area.
    pub share: Share,
}

/// Whom a valve with mixed plants is watered for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum MixedRule {
    /// The thirstiest: nobody dries, the others get too much.
    #[default]
    Thirstiest,
    /// The mean by area: less water, and the thirstiest go short.
    AreaWeighted,
}

impl MixedRule {
    /// Words for the list.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Thirstiest => "for the thirstiest",
            Self::AreaWeighted => "weighted by area",
        }
    }
}

/// A dated grow-in of new planting; it ends by itself.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct GrowIn {
    /// First day.
    pub from: Date,
    /// Last day.
    pub until: Date,
    /// Extra factor on demand.
    pub factor: f64,
    /// Depth that young roots reach; the refill point moves with it.
    pub root_depth: Metres,
}

impl GrowIn {
    /// Whether it holds on a date.
    #[must_use]
    pub fn holds(&self, date: Date) -> bool {
        (self.from..=self.until).contains(&date)
    }
}

/// A dated ramp from what a landscape was used to, down (or up) to its computed need.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct WeanOff {
    /// First day.
    pub from: Date,
    /// Length of the ramp, weeks; common practice is 4 to 8.
    pub weeks: u8,
    /// Share of the computed need on the first day; it may be more than all of it.
    pub start: Share,
}

impl WeanOff {
    /// Share of the computed need on a date: one step a week, all of it before and after.
    #[must_use]
    pub fn share_on(&self, date: Date) -> Share {
        let days = (date - self.from).get_days();
        let week = days.div_euclid(7);
        if days < 0 || week >= i32::from(self.weeks) {
            return Share::WHOLE;
        }
        let done = f64::from(week) / f64::from(self.weeks.max(1));
        Share::from_fraction(self.start.fraction() + (1.0 - self.start.fraction()) * done)
    }

    /// The last day on which it is not 100 % by itself.
    #[must_use]
    pub fn last_day(&self) -> Date {
        self.from.checked_add((i32::from(self.weeks) * 7 - 1).days()).unwrap_or(self.from)
    }
}

/// A signed percentage on the demand of one zone, for its exposure. It is not the budget.
#[derive(Debug, Clone, PartialEq)]
pub struct Trim {
    /// Signed percentage.
    pub percent: f64,
    /// Why.
    pub reason: String,
}

/// How a precipitation rate was found, with what was read.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum RateBasis {
    /// Typed, without saying how.
    #[default]
    Typed,
    /// Cans set out on a day.
    CatchCans {
        /// Day of the test.
        on: Date,
    },
    /// Flow of the zone over its area: mm/h = 60 × L/min ÷ m².
    FlowAndArea {
        /// Flow read at the meter, L/min.
        flow_l_per_min: f64,
        /// Area watered, m².
        area_m2: f64,
    },
    /// Emitters: mm/h = L/h ÷ (spacing along the line × spacing of lines, m²).
    Emitters {
        /// Flow of one emitter, L/h.
        flow_l_per_h: f64,
        /// Distance of emitters along the line, m.
        along_m: f64,
        /// Distance of lines, m.
        rows_m: f64,
    },
}

/// What a planting is worth to its owner, as a weight where zones share a percentage (the weights are ours).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PlantingValue {
    /// A rough verge, a meadow: it may brown off.
    Low,
    /// An ordinary planting.
    #[default]
    Ordinary,
    /// A collection, a sports field, an old hedge: not to be replaced, or at great cost.
    High,
}

impl PlantingValue {
    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Low => "low: it may brown off",
            Self::Ordinary => "ordinary",
            Self::High => "high: costly or impossible to replace",
        }
    }

    /// Its weight beside the area.
    #[must_use]
    pub const fn factor(self) -> f64 {
        match self {
            Self::Low => 0.3,
            Self::Ordinary => 1.0,
            Self::High => 3.0,
        }
    }
}

/// Everything said about the planting of a zone beyond its kind.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Planting {
    /// Other plants on the valve; the zone's own kind has the rest of the area.
    pub others: Vec<OtherPlants>,
    /// Whom it is watered for.
    pub mixed: MixedRule,
    /// Young planting.
    pub grow_in: Option<GrowIn>,
    /// A ramp to the computed need.
    pub wean_off: Option<WeanOff>,
    /// A trim for exposure.
    pub trim: Option<Trim>,
    /// How the rate was found.
    pub rate_basis: RateBasis,
    /// What it is worth where zones share a percentage.
    pub value: PlantingValue,
}

/// What a valve with mixed plants costs, in a month.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct MixedCost {
    /// Water beyond the need of each plant when watered for the thirstiest, a fraction of the need.
    pub thirstiest_excess: f64,
    /// How far the thirstiest goes short when weighted by area, a fraction of its own need.
    pub weighted_shortage: f64,
}

/// Combines the coefficients of plants on one valve; shares are fractions of the area and the own
/// kind comes first.
#[must_use]
pub fn mix(plants: &[(f64, f64)], rule: MixedRule) -> f64 {
    match rule {
        MixedRule::Thirstiest => {
            plants.iter().filter(|(_, share)| *share > 0.0).map(|(k, _)| *k).fold(0.0, f64::max)
        }
        MixedRule::AreaWeighted => weighted(plants),
    }
}

fn weighted(plants: &[(f64, f64)]) -> f64 {
    let area: f64 = plants.iter().map(|(_, share)| share).sum();
    if area > 0.0 { plants.iter().map(|(k, share)| k * share).sum::<f64>() / area } else { 0.0 }
}

/// What mixing costs either way.
#[must_use]
pub fn mixed_cost(plants: &[(f64, f64)]) -> MixedCost {
    let (most, mean) = (mix(plants, MixedRule::Thirstiest), weighted(plants));
    MixedCost {
        thirstiest_excess: if mean > 0.0 { most / mean - 1.0 } else { 0.0 },
        weighted_shortage: if most > 0.0 { 1.0 - mean / most } else { 0.0 },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    #[test]
    fn a_wean_off_steps_down_week_by_week_and_ends_by_itself() {
        let ramp = WeanOff { from: date(2026, 6, 1), weeks: 5, start: Share::from_percent(150.0) };
        assert_eq!(ramp.share_on(date(2026, 5, 31)).percent(), 100.0, "not before its first day");
        assert_eq!(ramp.share_on(date(2026, 6, 1)).percent(), 150.0);
        assert_eq!(ramp.share_on(date(2026, 6, 7)).percent(), 150.0);
        assert_eq!(ramp.share_on(date(2026, 6, 8)).percent(), 140.0);
        assert_eq!(ramp.share_on(date(2026, 7, 5)).percent(), 110.0);
        assert_eq!(ramp.share_on(date(2026, 7, 6)).percent(), 100.0);
        assert_eq!(ramp.last_day(), date(2026, 7, 5));
    }

    #[test]
    fn mixed_plants_cost_water_or_somebody_goes_short() {
        // Half at 0.8, half at 0.2: the mean is 0.5. For the thirstiest 60 % too much; weighted, the
        // thirstiest gets 0.5 of 0.8.
        let plants = [(0.8, 0.5), (0.2, 0.5)];
        assert_eq!(mix(&plants, MixedRule::Thirstiest), 0.8);
        assert_eq!(mix(&plants, MixedRule::AreaWeighted), 0.5);
        let cost = mixed_cost(&plants);
        assert!((cost.thirstiest_excess - 0.6).abs() < 1e-12);
        assert!((cost.weighted_shortage - 0.375).abs() < 1e-12);
        assert_eq!(mixed_cost(&[(0.8, 1.0)]), MixedCost { thirstiest_excess: 0.0, weighted_shortage: 0.0 });
    }

    #[test]
    fn a_grow_in_holds_on_both_its_ends_only() {
        let grow_in = GrowIn {
            from: date(2026, 4, 1),
            until: date(2026, 5, 31),
            factor: 1.2,
            root_depth: Metres::from_m(0.05),
        };
        assert!(grow_in.holds(date(2026, 4, 1)) && grow_in.holds(date(2026, 5, 31)));
        assert!(!grow_in.holds(date(2026, 3, 31)) && !grow_in.holds(date(2026, 6, 1)));
    }
}

//! What a percentage costs the zones that share it: the measures by which one is called the best.

/// A shortage of this share of the demand doubles the price of a missing litre (our stated weight).
const PRICE_DOUBLES_AT: f64 = 0.1;
/// Water beyond twice the demand counts once more for each litre: roots that stand in it (our stated weight).
const WATERLOGGED: f64 = 1.0;
/// In the measure for the thirstiest a missing litre counts as so many that are too much.
const THIRST_FIRST: f64 = 1e4;
/// Less than this a day is no demand, mm: nothing is divided by it.
const NO_DEMAND_MM: f64 = 0.005;

/// By which measure percentages are chosen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash)]
pub enum Measure {
    /// Harm to the plants first, water second. A day's missing depth is priced `1 + (s / 0.1)²` where `s` is the share
    /// of the demand that is missing: over weeks that share is 1 - Ks, and with a yield response of one it is the loss of
    /// growth (FAO-56 ch. 8; response after FAO-33, from memory). Surplus costs its depth once, and once more beyond
    /// twice the demand, where roots stand in water. Both count by area and the value of the planting. The prices are ours.
    #[default]
    Harm,
    /// Every zone gets its need, whatever the others then get too much.
    Thirstiest,
    /// The mean need, weighed by area.
    ByArea,
    /// Least squares of (given - need) / peak need, each zone alike.
    LeastSquares,
}

impl Measure {
    /// All, the default first.
    pub const ALL: [Self; 4] = [Self::Harm, Self::Thirstiest, Self::ByArea, Self::LeastSquares];

    /// Words for the list.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Harm => "least harm to the plants, then least water",
            Self::Thirstiest => "enough for the thirstiest zone",
            Self::ByArea => "mean of the zones by area",
            Self::LeastSquares => "least squares, each zone alike",
        }
    }
}

/// A zone under a percentage, net depths a day.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct ZoneNeed {
    /// What irrigation has to bring, mm.
    pub need_mm: f64,
    /// What its plants use, rain or not, mm.
    pub demand_mm: f64,
    /// Need of its peak month, mm.
    pub peak_mm: f64,
    /// Area times value of the planting, over the mean of the zones.
    pub weight: f64,
}

impl ZoneNeed {
    /// What a depth costs by a measure; nought at the need, rising both ways.
    pub fn cost(&self, measure: Measure, given_mm: f64) -> f64 {
        let (short, surplus) = ((self.need_mm - given_mm).max(0.0), (given_mm - self.need_mm).max(0.0));
        let peak = if self.peak_mm > NO_DEMAND_MM { self.peak_mm } else { 1.0 };
        match measure {
            Measure::Harm => {
                let share = short / self.demand_mm.max(self.need_mm).max(NO_DEMAND_MM);
                let dry = short * (1.0 + (share / PRICE_DOUBLES_AT).powi(2));
                let wet = surplus + WATERLOGGED * (surplus - self.demand_mm).max(0.0);
                self.weight * (dry + wet)
            }
            Measure::Thirstiest => THIRST_FIRST * short + surplus,
            Measure::ByArea => self.weight * (given_mm - self.need_mm).powi(2),
            Measure::LeastSquares => ((given_mm - self.need_mm) / peak).powi(2),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn harm_is_nought_at_the_need_and_a_deep_shortage_outweighs_any_surplus() {
        let lawn = ZoneNeed { need_mm: 5.0, demand_mm: 5.0, peak_mm: 5.0, weight: 1.0 };
        let bed = ZoneNeed { need_mm: 0.3, demand_mm: 0.3, peak_mm: 0.3, weight: 1.0 };
        let harm = |zone: &ZoneNeed, given| zone.cost(Measure::Harm, given);
        assert!(harm(&lawn, 5.0).abs() < 1e-12);
        // A tenth short: 0.5 mm at twice the price; all of it: 5 mm at 101 times.
        assert!((harm(&lawn, 4.5) - 1.0).abs() < 1e-9 && (harm(&lawn, 0.0) - 505.0).abs() < 1e-9);
        // Twice the need costs its litres, three times counts what stands in the ground once more.
        assert!((harm(&lawn, 10.0) - 5.0).abs() < 1e-9 && (harm(&lawn, 15.0) - 15.0).abs() < 1e-9);
        // The bed's need dries out the lawn; the lawn's need only wastes water on the bed.
        assert!(harm(&lawn, 0.3) > 40.0 * harm(&bed, 5.0));
        for measure in Measure::ALL {
            let costs: Vec<f64> = (0..=200).map(|k| lawn.cost(measure, f64::from(k) / 20.0)).collect();
            assert!(costs.windows(2).take(100).all(|w| w[0] > w[1]), "{measure:?} falls to the need");
            assert!(costs.windows(2).skip(100).all(|w| w[0] < w[1]), "{measure:?} rises beyond it");
        }
    }

    #[test]
    fn after_rain_a_small_remaining_need_is_no_reason_to_water_everything() {
        // The rain met 19 of 20 mm: one missing millimetre is a twentieth of the demand.
        let wet = ZoneNeed { need_mm: 1.0, demand_mm: 20.0, peak_mm: 20.0, weight: 1.0 };
        assert!(wet.cost(Measure::Harm, 0.0) < 1.3);
    }
}

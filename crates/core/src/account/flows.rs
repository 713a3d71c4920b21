//! The water of a zone over a time, as sums.

use crate::quantity::units::Millimetres;

/// Depletion, demand or water below this is none, mm.
pub(super) const NOTHING_MM: f64 = 1e-9;

/// The water of a zone in one hour, or in a day: sums, and the depletion at its end.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Flows {
    /// Rain that reached the zone: none under a roof.
    pub rain: Millimetres,
    /// Of it, what went in.
    pub rain_in: Millimetres,
    /// Watering, as it came out of the heads.
    pub applied: Millimetres,
    /// Of it, what went in.
    pub applied_in: Millimetres,
    /// What ran off, of both.
    pub runoff: Millimetres,
    /// Of it, watering.
    pub applied_off: Millimetres,
    /// What drained below the roots.
    pub drainage: Millimetres,
    /// Of it, watering: what fell where there was too much, and what the root zone could not hold.
    pub applied_drained: Millimetres,
    /// Of that, what fell where there was more than the mean.
    pub uneven: Millimetres,
    /// What the plants asked for.
    pub demand: Millimetres,
    /// What they took.
    pub et: Millimetres,
    /// Deficit that left with soil which no longer counts: a young planting's roots reach less deep, and no more can be
    /// missing than its soil holds.
    pub root_cut: Millimetres,
    /// What is missing from full at the end: depletion before - `rain_in` - `applied_in` + `et` + `drainage` -
    /// `root_cut`.
    pub depletion: Millimetres,
}

impl Flows {
    /// Ks: what the plants took of what they asked for; 1 when they asked for nothing.
    #[must_use]
    pub fn stress_coefficient(&self) -> f64 {
        if self.demand.mm() > NOTHING_MM { (self.et.mm() / self.demand.mm()).clamp(0.0, 1.0) } else { 1.0 }
    }

    /// Rain that stayed in the root zone.
    #[must_use]
    pub fn rain_kept(&self) -> Millimetres {
        self.rain_in - (self.drainage - self.applied_drained)
    }

    /// Watering that stayed in the root zone.
    #[must_use]
    pub fn net(&self) -> Millimetres {
        self.applied_in - self.applied_drained
    }

    #[inline]
    pub(super) fn add(&mut self, hour: &Self) {
        self.demand = self.demand + hour.demand;
        self.et = self.et + hour.et;
        self.depletion = hour.depletion;
        // In most hours nothing falls, runs or drains.
        let nothing = Millimetres::ZERO;
        self.root_cut = self.root_cut + hour.root_cut;
        if hour.rain == nothing
            && hour.applied == nothing
            && hour.drainage == nothing
            && hour.runoff == nothing
        {
            return;
        }
        self.rain = self.rain + hour.rain;
        self.rain_in = self.rain_in + hour.rain_in;
        self.applied = self.applied + hour.applied;
        self.applied_in = self.applied_in + hour.applied_in;
        self.runoff = self.runoff + hour.runoff;
        self.applied_off = self.applied_off + hour.applied_off;
        self.drainage = self.drainage + hour.drainage;
        self.applied_drained = self.applied_drained + hour.applied_drained;
        self.uneven = self.uneven + hour.uneven;
    }
}

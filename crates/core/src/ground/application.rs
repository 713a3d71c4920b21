//! From a depth to minutes: precipitation rate, uniformity, run time, cycles and soaks.

use crate::ground::soil::Texture;
use crate::quantity::ratio::Share;
use crate::quantity::units::{LitresPerMinute, Millimetres, MillimetresPerHour, Minutes, SquareMetres};

/// Depth of a deep watering, mm (common practice: an inch a week).
pub const DEEP_WATERING_MM: f64 = 25.0;

/// What applies the water.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum HeadType {
    /// Fixed spray heads.
    Spray,
    /// Multi-stream rotating nozzles.
    MultiStreamRotor,
    /// Single-stream rotors.
    Rotor,
    /// Micro-spray.
    MicroSpray,
    /// Drip line or emitters.
    Drip,
    /// Bubblers that flood a basin.
    Bubbler,
}

impl HeadType {
    /// All types, in the order of the list.
    pub const ALL: [Self; 6] =
        [Self::Spray, Self::MultiStreamRotor, Self::Rotor, Self::MicroSpray, Self::Drip, Self::Bubbler];
    /// Source of the default rates.
    pub const RATE_SOURCE: &'static str = "half an inch takes 24 min of spray, 50 of multi-stream rotor, 52 of rotor, 75 of drip (common practice)";
    /// Source of the default uniformities.
    pub const UNIFORMITY_SOURCE: &'static str =
        "low-quarter uniformity of an ordinary installation in fair repair (common practice, from memory)";

    /// Words for the list.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Spray => "spray",
            Self::MultiStreamRotor => "multi-stream rotor",
            Self::Rotor => "rotor",
            Self::MicroSpray => "micro-spray",
            Self::Drip => "drip",
            Self::Bubbler => "bubbler",
        }
    }

    /// Default precipitation rate.
    #[must_use]
    pub fn default_rate(self) -> MillimetresPerHour {
        let minutes_for_half_an_inch = match self {
            Self::Spray => 24.0,
            Self::MultiStreamRotor => 50.0,
            Self::Rotor => 52.0,
            Self::MicroSpray => 40.0,
            Self::Drip => 75.0,
            // About two inches an hour over its basin (from memory).
            Self::Bubbler => 15.0,
        };
        MillimetresPerHour::from_inches_per_hour(0.5 * 60.0 / minutes_for_half_an_inch)
    }

    /// Default distribution uniformity of the low quarter, a fraction.
    #[must_use]
    pub const fn default_uniformity(self) -> Share {
        Share::from_fraction(match self {
            Self::Spray => 0.60,
            Self::MultiStreamRotor => 0.70,
            Self::Rotor | Self::MicroSpray => 0.65,
            Self::Drip => 0.85,
            Self::Bubbler => 0.80,
        })
    }
}

/// Uniformity below which mending heads is the advice, not more minutes (our stated limit, the
/// lower end of "fair" in common practice).
pub const REPAIR_BELOW_UNIFORMITY: Share = Share::from_fraction(0.5);

/// Precipitation rate from flow and area: mm/h = 60 × L/min ÷ m² (Irrigation Association:
/// in/h = 96.3 × gpm ÷ ft²).
#[must_use]
pub fn rate_from_flow(flow: LitresPerMinute, area: SquareMetres) -> MillimetresPerHour {
    MillimetresPerHour::from_mm_per_hour(60.0 * flow.l_per_min() / area.m2())
}

/// Precipitation rate of emitters: mm/h = L/h ÷ (spacing along the line × spacing of lines, m²)
/// (Irrigation Association; one litre on a square metre stands one millimetre deep).
#[must_use]
pub fn rate_from_emitters(flow_l_per_h: f64, along_m: f64, rows_m: f64) -> MillimetresPerHour {
    MillimetresPerHour::from_mm_per_hour(flow_l_per_h / (along_m * rows_m))
}

/// Run-time multiplier 1 ÷ (0.4 + 0.6 DU) (Irrigation Association; from memory): how much longer
/// to run so that the drier quarter gets its share.
#[must_use]
pub fn run_time_multiplier(uniformity: Share) -> f64 {
    1.0 / (0.4 + 0.6 * uniformity.fraction())
}

/// Run time for a net depth, before rounding to the controller's minutes.
#[must_use]
pub fn run_time(net: Millimetres, rate: MillimetresPerHour, multiplier: f64) -> Minutes {
    Minutes::from_min(60.0 * net.mm() * multiplier / rate.mm_per_hour())
}

/// How long a zone may run before water ponds beyond what its slope holds, and how long that
/// water needs to soak in.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CycleLimit {
    /// Max cycle time; `None` when the soil takes water in as fast as it comes.
    pub longest: Option<Minutes>,
    /// Shortest soak between two cycles.
    pub soak: Minutes,
}

/// Cycle limit = 60 × ASA ÷ (rate - intake); soak = 60 × ASA ÷ intake
/// (Irrigation Association; from memory).
#[must_use]
pub fn cycle_limit(texture: Texture, slope_pct: f64, rate: MillimetresPerHour) -> CycleLimit {
    let asa = texture.allowable_surface_accumulation(slope_pct).mm();
    let intake = texture.basic_intake().mm_per_hour();
    let excess = rate.mm_per_hour() - intake;
    if excess > 0.0 {
        CycleLimit {
            longest: Some(Minutes::from_min(60.0 * asa / excess)),
            soak: Minutes::from_min(60.0 * asa / intake),
        }
    } else {
        CycleLimit { longest: None, soak: Minutes::ZERO }
    }
}

/// A run time as the controller takes it: whole minutes, in equal cycles with a soak between.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cycles {
    /// How many cycles.
    pub count: u32,
    /// Minutes of each.
    pub minutes_each: u32,
    /// Least minutes from the end of one to the start of the next.
    pub soak_minutes: u32,
}

impl Cycles {
    /// Total minutes of watering.
    #[must_use]
    pub fn total_minutes(self) -> u32 {
        self.count * self.minutes_each
    }

    /// As much of it as so many minutes allow: as few cycles as that takes, none longer than they are.
    #[must_use]
    pub fn at_most(self, minutes: u32) -> Self {
        if self.total_minutes() <= minutes {
            return self;
        }
        let count = minutes.div_ceil(self.minutes_each.max(1)).max(1);
        Self { count, minutes_each: minutes / count, ..self }
    }
}

/// The fewest equal whole-minute cycles that give a run time within its limit. A limit under a
/// minute counts as one: no controller runs less.
///
/// Rounds the run time to the nearest minute (at least one), then each cycle up, so the total is
/// at most `count - 1` minutes over.
#[must_use]
pub fn cycles(run_time: Minutes, limit: CycleLimit) -> Cycles {
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded to a day")]
    let whole = |minutes: f64| minutes.clamp(0.0, 1440.0) as u32;
    let total = whole(run_time.min_value().round()).max(1);
    let longest = limit.longest.map_or(total, |m| whole(m.min_value().floor()).max(1));
    let count = total.div_ceil(longest);
    Cycles {
        count,
        minutes_each: total.div_ceil(count),
        soak_minutes: if count > 1 { whole(limit.soak.min_value().ceil()) } else { 0 },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn common_practice_minutes_for_half_an_inch() {
        // Common practice: half an inch takes 24 / 50 / 52 / 75 minutes; 1.25, 0.6, 0.58, 0.4 in/h.
        for (head, minutes, rate) in [
            (HeadType::Spray, 24.0, 1.25),
            (HeadType::MultiStreamRotor, 50.0, 0.6),
            (HeadType::Rotor, 52.0, 0.58),
            (HeadType::Drip, 75.0, 0.4),
        ] {
            let got = run_time(Millimetres::from_inches(0.5), head.default_rate(), 1.0);
            assert!((got.min_value() - minutes).abs() < 1e-9);
            assert!((head.default_rate().inches_per_hour() - rate).abs() < 0.005);
        }
    }

    #[test]
    fn rate_from_flow_in_both_unit_systems() {
        // Irrigation Association: in/h = 96.3 gpm / ft². 10 gpm on 1 000 ft² is 0.963 in/h.
        let rate = rate_from_flow(LitresPerMinute::from_us_gpm(10.0), SquareMetres::from_square_feet(1000.0));
        assert!((rate.inches_per_hour() - 0.963).abs() < 5e-4);
        let rate = rate_from_flow(LitresPerMinute::from_l_per_min(30.0), SquareMetres::from_m2(120.0));
        assert_eq!(rate.mm_per_hour(), 15.0);
    }

    #[test]
    fn rate_from_emitters_as_in_the_handbook() {
        // Irrigation Association, drip (from memory): in/h = 231.1 × gph ÷ (row × emitter spacing,
        // both in inches). 0.6 gph at 12 × 18 in is 0.642 in/h.
        let rate = rate_from_emitters(0.6 * 3.785_411_784, 12.0 * 0.0254, 18.0 * 0.0254);
        assert!(
            (rate.inches_per_hour() - 231.1 * 0.6 / (12.0 * 18.0)).abs() < 1e-3,
            "{}",
            rate.inches_per_hour()
        );
        assert!((rate_from_emitters(2.0, 0.3, 0.4).mm_per_hour() - 16.667).abs() < 1e-3);
    }

    #[test]
    fn multiplier_at_published_uniformities() {
        // Irrigation Association run-time multiplier table (from memory): 0.50 -> 1.43, 0.70 -> 1.22.
        assert!((run_time_multiplier(Share::from_fraction(0.5)) - 1.43).abs() < 0.005);
        assert!((run_time_multiplier(Share::from_fraction(0.7)) - 1.22).abs() < 0.005);
        assert_eq!(run_time_multiplier(Share::WHOLE), 1.0);
    }

    #[test]
    fn spray_on_a_clay_slope_is_cycled() {
        // 1.25 in/h on clay at 14 %: 60 × 0.10 / (1.25 - 0.10) = 5.2 min, soak 60 min.
        let limit = cycle_limit(Texture::Clay, 14.0, HeadType::Spray.default_rate());
        assert!((limit.longest.unwrap().min_value() - 5.217).abs() < 1e-3);
        assert!((limit.soak.min_value() - 60.0).abs() < 1e-9);
        assert_eq!(
            cycles(Minutes::from_min(24.0), limit),
            Cycles { count: 5, minutes_each: 5, soak_minutes: 60 }
        );
    }

    #[test]
    fn twenty_four_minutes_as_four_times_six() {
        // Common practice: 24 min as 4 x 6 with 30 min soaks.
        let limit = CycleLimit { longest: Some(Minutes::from_min(6.9)), soak: Minutes::from_min(30.0) };
        assert_eq!(
            cycles(Minutes::from_min(24.0), limit),
            Cycles { count: 4, minutes_each: 6, soak_minutes: 30 }
        );
    }

    #[test]
    fn sand_under_drip_needs_no_soak() {
        let limit = cycle_limit(Texture::Sand, 0.0, HeadType::Drip.default_rate());
        assert_eq!(limit.longest, None);
        assert_eq!(cycles(Minutes::from_min(74.4), limit).count, 1);
    }

    proptest! {
        #[test]
        fn cycles_give_the_run_time_and_keep_the_limit(
            minutes in 0.0..600.0_f64, longest in proptest::option::of(0.1..120.0_f64), soak in 0.0..120.0_f64,
        ) {
            let limit = CycleLimit { longest: longest.map(Minutes::from_min), soak: Minutes::from_min(soak) };
            let got = cycles(Minutes::from_min(minutes), limit);
            let asked = f64::from((minutes.round() as u32).max(1));
            let total = f64::from(got.total_minutes());
            prop_assert!(total >= asked && total < asked + f64::from(got.count));
            if let Some(longest) = longest {
                prop_assert!(f64::from(got.minutes_each) <= longest.max(1.0));
            }
        }
    }
}

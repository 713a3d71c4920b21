//! The units in which fields are typed and shown, metric or US customary: every form takes them from here.

use crate::page::quantities::plain;
use upland_core::quantity::units::{L_PER_US_GALLON, M_PER_FOOT, M_S_PER_MPH, MM_PER_INCH};
use upland_core::sensors::Channel;
use upland_core::site::UnitSystem;
use upland_core::weather::record::Variable;
use upland_formats::typed::{self, Read};

/// A unit as a form shows it: metric value = (shown value - zero) × factor.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Shown {
    pub unit: &'static str,
    factor: f64,
    zero: f64,
}

impl Shown {
    pub const fn of(unit: &'static str, factor: f64) -> Self {
        Self { unit, factor, zero: 0.0 }
    }

    /// A shown value as a metric one.
    pub fn metric(self, shown: f64) -> f64 {
        (shown - self.zero) * self.factor
    }

    /// A metric value as a shown one.
    pub fn shown(self, metric: f64) -> f64 {
        metric / self.factor + self.zero
    }

    /// A difference of metric values as one of shown values.
    pub fn difference(self, metric: f64) -> f64 {
        metric / self.factor
    }

    /// The text of a metric value. Six decimals lose nothing a person could have typed.
    pub fn text(self, metric: Option<f64>) -> String {
        metric.map_or(String::new(), |v| plain(self.shown(v), 6))
    }

    /// The same where the value was never typed in this unit: a figure that a person would write.
    pub fn round_text(self, metric: f64) -> String {
        let value = self.shown(metric);
        let digits = match value.abs() {
            v if v >= 20.0 => 0,
            v if v >= 2.0 => 1,
            _ => 2,
        };
        plain(value, digits)
    }

    /// The metric value of what was typed, in this unit or in another of its kind.
    ///
    /// # Errors
    /// What the reader of typed texts refuses.
    pub fn read(self, text: &str) -> Read<f64> {
        typed::quantity(text, self.unit).map(|v| self.metric(v))
    }
}

/// A bare number.
pub(crate) const NO_UNIT: Shown = Shown::of("", 1.0);
/// A fraction typed as a percentage.
pub(crate) const PERCENT: Shown = Shown::of("%", 0.01);
/// A percentage that stays one.
pub(crate) const SIGNED_PERCENT: Shown = Shown::of("%", 1.0);
pub(crate) const DEGREES: Shown = Shown::of("°", 1.0);
pub(crate) const HOURS: Shown = Shown::of("h", 1.0);
pub(crate) const MINUTES: Shown = Shown::of("min", 1.0);

/// The units of the fields of a site.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Units {
    /// Rain, thresholds, water in the soil: mm.
    pub depth: Shown,
    /// The same in a day: mm.
    pub depth_a_day: Shown,
    /// How fast heads apply: mm/h.
    pub rate: Shown,
    /// Distances and heights: m.
    pub length: Shown,
    /// Root depths, spacings of emitters: m.
    pub short: Shown,
    /// Mouths of cans: cm².
    pub mouth: Shown,
    /// What a can caught: mL.
    pub caught: Shown,
    /// m².
    pub area: Shown,
    /// L/min.
    pub flow: Shown,
    /// Flow of one emitter: L/h.
    pub emitter: Shown,
    /// Counts of a main meter: L.
    pub meter: Shown,
    /// Water of a pulse: L.
    pub volume: Shown,
    /// °C.
    pub temperature: Shown,
    /// m/s.
    pub wind: Shown,
}

/// Fluid ounces of a US gallon are millilitres too.
const ML_PER_FL_OZ: f64 = L_PER_US_GALLON * 1000.0 / 128.0;

impl Units {
    pub const fn of(system: UnitSystem) -> Self {
        match system {
            UnitSystem::Metric => Self {
                depth: Shown::of("mm", 1.0),
                depth_a_day: Shown::of("mm a day", 1.0),
                rate: Shown::of("mm/h", 1.0),
                length: Shown::of("m", 1.0),
                short: Shown::of("cm", 0.01),
                mouth: Shown::of("cm²", 1.0),
                caught: Shown::of("mL", 1.0),
                area: Shown::of("m²", 1.0),
                flow: Shown::of("L/min", 1.0),
                emitter: Shown::of("L/h", 1.0),
                meter: Shown::of("m³", 1000.0),
                volume: Shown::of("L", 1.0),
                temperature: Shown::of("°C", 1.0),
                wind: Shown::of("m/s", 1.0),
            },
            UnitSystem::UsCustomary => Self {
                depth: Shown::of("in", MM_PER_INCH),
                depth_a_day: Shown::of("in a day", MM_PER_INCH),
                rate: Shown::of("in/h", MM_PER_INCH),
                length: Shown::of("ft", M_PER_FOOT),
                short: Shown::of("in", MM_PER_INCH / 1000.0),
                mouth: Shown::of("in²", 6.4516),
                caught: Shown::of("fl oz", ML_PER_FL_OZ),
                area: Shown::of("ft²", M_PER_FOOT * M_PER_FOOT),
                flow: Shown::of("gpm", L_PER_US_GALLON),
                emitter: Shown::of("gph", L_PER_US_GALLON),
                meter: Shown::of("gal", L_PER_US_GALLON),
                volume: Shown::of("gal", L_PER_US_GALLON),
                temperature: Shown { unit: "°F", factor: 5.0 / 9.0, zero: 32.0 },
                wind: Shown::of("mph", M_S_PER_MPH),
            },
        }
    }
}

impl Units {
    /// The unit in which a variable of the weather is typed and shown.
    pub const fn of_variable(&self, variable: Variable) -> Shown {
        match variable {
            Variable::TemperatureMin | Variable::TemperatureMax | Variable::DewPoint => self.temperature,
            Variable::Rain => self.depth,
            Variable::Wind => self.wind,
            Variable::HumidityMin | Variable::HumidityMax => SIGNED_PERCENT,
            Variable::Solar => Shown::of("MJ/m²", 1.0),
            Variable::VapourPressure => Shown::of("kPa", 1.0),
        }
    }

    /// The unit in which a channel of a sensor is typed and shown.
    pub const fn of_channel(&self, channel: Channel) -> Shown {
        match channel {
            Channel::Rain | Channel::Et => self.depth,
            Channel::Temperature => self.temperature,
            Channel::Wind => self.wind,
            Channel::Flow => self.flow,
            Channel::Solar => Shown::of("W/m²", 1.0),
            Channel::Humidity | Channel::SoilMoisture | Channel::Battery => SIGNED_PERCENT,
            Channel::Contact => NO_UNIT,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_field_takes_its_own_unit_or_any_other_of_its_kind() {
        let (metric, us) = (Units::of(UnitSystem::Metric), Units::of(UnitSystem::UsCustomary));
        let near = |read: Read<f64>, expected: f64| read.is_ok_and(|v| (v - expected).abs() < 1e-9);
        assert!(near(us.depth.read("0.6"), 15.24), "inches where inches stand");
        assert!(near(metric.depth.read("1/2 in"), 12.7));
        assert!(near(us.temperature.read("36"), 20.0 / 9.0) && near(us.temperature.read("3 C"), 3.0));
        assert!(near(us.caught.read("2"), 2.0 * 29.573_529_562_5));
        assert!(
            near(metric.meter.read("12.5"), 12_500.0) && near(metric.meter.read("100 gal"), 378.541_178_4)
        );
        assert_eq!(
            (us.temperature.text(Some(3.0)), us.depth.text(Some(12.7))),
            ("37.4".into(), "0.5".into())
        );
        assert_eq!(us.length.round_text(60.0), "197");
    }
}

//! Sensors: what there is, where it stands, how it is wired, whom it can hold, and what it says.
//!
//! A card is data that the user can write, as for controllers; it knows no make. What a sensor does is a
//! pure function of its setting and its readings ([`state`]); the order in which readings came in
//! never matters.

pub mod calibration;
pub mod effect;
mod history;
pub mod library;
pub mod mapping;
pub mod placement;
pub mod readings;
pub mod site_plan;
pub mod state;
pub mod upkeep;
pub mod weather;
pub mod wiring;

pub use history::{EarlierSensor, SensorHistory};
pub use library::generic;
pub use readings::{Channel, Reading, Readings};

use crate::quantity::bounds::{self, Bound, OutOfBounds};
use crate::quantity::units::{Celsius, Metres, MetresPerSecond, Millimetres};

/// What a unit can act on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Sense {
    /// Rain that fell.
    Rain,
    /// Cold.
    Freeze,
    /// Wind.
    Wind,
    /// Water in the soil.
    SoilMoisture,
    /// Water through the main.
    Flow,
    /// Evapotranspiration, which sets the percentage.
    Et,
}

impl Sense {
    /// All, in the order of the lists.
    pub const ALL: [Self; 6] =
        [Self::Rain, Self::Freeze, Self::Wind, Self::SoilMoisture, Self::Flow, Self::Et];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Rain => "rain",
            Self::Freeze => "freeze",
            Self::Wind => "wind",
            Self::SoilMoisture => "soil moisture",
            Self::Flow => "flow",
            Self::Et => "ET",
        }
    }
}

/// How a unit speaks to the controller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Signal {
    /// A contact that is closed while watering may run, and opens to hold.
    NormallyClosed,
    /// A contact that is open while watering may run, and closes to hold.
    NormallyOpen,
    /// A pulse for each tip or each measure of water.
    Pulse,
    /// Numbers over a data line or radio.
    Data,
}

impl Signal {
    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::NormallyClosed => "contact, normally closed",
            Self::NormallyOpen => "contact, normally open",
            Self::Pulse => "pulses",
            Self::Data => "data",
        }
    }

    /// What a broken wire looks like to the controller, as the end of a sentence.
    #[must_use]
    pub const fn broken_wire(self) -> &'static str {
        match self {
            Self::NormallyClosed => {
                "a broken wire looks like rain: watering is prevented until somebody looks"
            }
            Self::NormallyOpen => {
                "a broken wire looks like dry weather: the sensor is ignored and nothing says so"
            }
            Self::Pulse => "a broken wire looks like no water at all: learned flow raises the low alarm",
            Self::Data => "a broken line sends nothing: the last value counts until the controller notices",
        }
    }
}

/// What powers a unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PowerSupply {
    /// Nothing: it is mechanical.
    None,
    /// The controller, over its wires.
    FromController,
    /// A battery of its own.
    Battery,
}

impl PowerSupply {
    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::None => "needs no power",
            Self::FromController => "powered by the controller",
            Self::Battery => "battery",
        }
    }
}

/// How a unit is joined to the controller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Link {
    /// Its own wires.
    Wire,
    /// Radio to a receiver at the controller.
    Radio,
}

impl Link {
    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Wire => "wire",
            Self::Radio => "radio",
        }
    }
}

/// What must be done to a unit from time to time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Task {
    /// Change its battery.
    Battery,
    /// Clean it: leaves, webs, screen, droppings.
    Clean,
    /// Trip it on purpose and see the controller hold.
    TripTest,
    /// Calibrate it again.
    Calibrate,
    /// Change the backup battery of the controller.
    BackupBattery,
}

impl Task {
    /// All, in the order of the lists.
    pub const ALL: [Self; 5] =
        [Self::Battery, Self::Clean, Self::TripTest, Self::Calibrate, Self::BackupBattery];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Battery => "change its battery",
            Self::Clean => "clean it",
            Self::TripTest => "trip test",
            Self::Calibrate => "calibrate again",
            Self::BackupBattery => "backup battery of the controller",
        }
    }
}

/// What a kind of sensor is and can do.
#[derive(Debug, Clone, PartialEq)]
pub struct SensorCard {
    /// Name of the card.
    pub name: String,
    /// What one unit combines.
    pub senses: Vec<Sense>,
    /// How it speaks.
    pub signal: Signal,
    /// What powers it.
    pub supply: PowerSupply,
    /// How it is joined.
    pub link: Link,
    /// Wire that comes with it.
    pub wire_supplied: Metres,
    /// Longest wire.
    pub wire_longest: Metres,
    /// Radio reach through walls; nought without radio.
    pub radio_walls: Metres,
    /// Radio reach in the open.
    pub radio_open: Metres,
    /// Rain that it can be set to hold at, lowest and highest.
    pub rain_range: Option<(Millimetres, Millimetres)>,
    /// The thresholds that it can be set to, where it has steps; any of its range where it has none.
    pub rain_steps: Vec<Millimetres>,
    /// Whether a vent sets how fast it dries out.
    pub vent: bool,
    /// Cold that it can be set to hold at.
    pub freeze_range: Option<(Celsius, Celsius)>,
    /// Wind that it can be set to hold above.
    pub wind_range: Option<(MetresPerSecond, MetresPerSecond)>,
    /// Soil water that it can be set to refuse above, percent by volume.
    pub soil_range_pct: Option<(f64, f64)>,
    /// Rain of a tip, or litres of a pulse, for pulses.
    pub per_pulse: Option<f64>,
    /// What must be done to it, and every how many months.
    pub upkeep: Vec<(Task, u8)>,
    /// Whether its percentage goes on while its holds are on bypass: it reaches the controller by another path than
    /// the contact that a bypass bridges.
    pub bypass_keeps_percentage: bool,
}

/// Senses that stop watering; the others measure or scale.
const HOLDING: [Sense; 4] = [Sense::Rain, Sense::Freeze, Sense::Wind, Sense::SoilMoisture];

impl SensorCard {
    /// Whether it can stop watering: a meter and an ET sensor cannot.
    #[must_use]
    pub fn can_hold(&self) -> bool {
        HOLDING.iter().any(|sense| self.senses(*sense))
    }

    /// Whether it does nothing but scale run times.
    #[must_use]
    pub fn only_scales(&self) -> bool {
        self.senses(Sense::Et) && !self.can_hold()
    }

    /// The default of [`Self::bypass_keeps_percentage`]: a unit that also holds sends its percentage as data, which a
    /// bypass of its holds leaves alone; one that only scales is switched off as a whole (common practice).
    #[must_use]
    pub fn usual_bypass_keeps_percentage(&self) -> bool {
        self.senses(Sense::Et) && self.can_hold()
    }

    /// The step of the card that a typed threshold means: half an inch is the step of 12 mm, as makers round it. What
    /// is further from every step stays as typed.
    #[must_use]
    pub fn rain_step(&self, typed: Millimetres) -> Millimetres {
        let off = |step: &Millimetres| (step.mm() - typed.mm()).abs();
        let near = self.rain_steps.iter().copied().min_by(|a, b| off(a).total_cmp(&off(b)));
        near.filter(|step| off(step) <= INCH_ROUNDING * step.mm()).unwrap_or(typed)
    }

    /// Whether it acts on something.
    #[must_use]
    pub fn senses(&self, sense: Sense) -> bool {
        self.senses.contains(&sense)
    }

    /// Whether it speaks by opening or closing a contact.
    #[must_use]
    pub const fn is_contact(&self) -> bool {
        matches!(self.signal, Signal::NormallyClosed | Signal::NormallyOpen)
    }

    /// Everything that makes a card impossible, by field; empty for a card that can be.
    #[must_use]
    pub fn check(&self) -> Vec<(&'static str, String)> {
        let mut faults = Vec::new();
        let mut say = |field, message: &str| faults.push((field, message.to_owned()));
        let name = self.name.trim();
        if name.is_empty() || name.chars().count() > 120 || name.chars().any(char::is_control) {
            say("name", "give it a name of at most 120 letters, numbers and signs");
        }
        if self.senses.is_empty() {
            say("senses", "it senses nothing; choose at least one");
        }
        let mut needs = |sense: Sense, range: bool, field, what: &str| {
            if self.senses(sense) != range {
                say(field, &format!("a unit that senses {} has {what}, and only such a unit", sense.label()));
            }
        };
        needs(Sense::Rain, self.rain_range.is_some(), "rain_range", "a range of millimetres");
        needs(Sense::Freeze, self.freeze_range.is_some(), "freeze_range", "a range of temperatures");
        needs(Sense::Wind, self.wind_range.is_some(), "wind_range", "a range of wind speeds");
        needs(Sense::SoilMoisture, self.soil_range_pct.is_some(), "soil_range_pct", "a range of percent");
        let upside_down = [
            ("rain_range", self.rain_range.is_some_and(|(a, b)| !(a > Millimetres::ZERO && a <= b))),
            ("freeze_range", self.freeze_range.is_some_and(|(a, b)| a.c() > b.c())),
            (
                "wind_range",
                self.wind_range.is_some_and(|(a, b)| !(a.m_per_s() > 0.0 && a.m_per_s() <= b.m_per_s())),
            ),
            ("soil_range_pct", self.soil_range_pct.is_some_and(|(a, b)| !(a >= 0.0 && a <= b && b <= 100.0))),
        ];
        for (field, wrong) in upside_down {
            if wrong {
                say(field, "the lowest comes first, and both are sizes that occur");
            }
        }
        if self.signal == Signal::Pulse && self.per_pulse.is_none_or(|p| !(p.is_finite() && p > 0.0)) {
            say("per_pulse", "give the volume of one pulse");
        }
        if self.link == Link::Radio && self.radio_open.m() <= 0.0 {
            say("radio_open", "say how far its radio reaches in the open");
        }
        faults
    }
}

/// How a rain hold ends.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Release {
    /// When it has dried out: at `vent` times reference ET.
    DriesOut {
        /// Share of reference ET at which it dries; a closed vent about 0.4, an open one about 1.
        vent: f64,
    },
    /// A number of days after the rain that tripped it.
    Days(u8),
}

/// Dry-out share of a vent that stands half open (our stated default).
pub const HALF_OPEN_VENT: f64 = 0.7;
/// Rain threshold of common practice: about half an inch.
pub const COMMON_RAIN_THRESHOLD: Millimetres = Millimetres::from_mm(12.0);
/// Freeze set point of common practice: 37 to 38 °F.
pub const COMMON_FREEZE_POINT: Celsius = Celsius::from_c(3.0);
/// How far it must warm above the set point before a freeze hold ends, °C (our stated default).
pub const FREEZE_DIFFERENCE_C: f64 = 1.0;
/// Wind above which spray drifts off its zone (common practice: about 12 mph).
pub const COMMON_WIND: MetresPerSecond = MetresPerSecond::from_m_per_s(5.4);
/// Time that wind must stay below the set point before a hold ends, seconds (our stated default).
pub const WIND_CALM_S: i64 = 15 * 60;

/// What is set on a sensor; only what its card senses counts.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Setting {
    /// Rain that holds.
    pub rain_threshold: Millimetres,
    /// How a rain hold ends.
    pub release: Release,
    /// Prevents watering at or below.
    pub freeze_at: Celsius,
    /// Prevents watering above.
    pub wind_above: MetresPerSecond,
    /// Skips watering at or above, percent by volume; `None` until it is calibrated.
    pub soil_threshold_pct: Option<f64>,
    /// Length of the cycle window, minutes; `None` takes what the schedule needs.
    pub cycle_window_min: Option<u32>,
    /// Days of the trailing mean.
    pub et_days: u8,
    /// Demand that stands for 100 %, a day.
    pub et_full: Millimetres,
    /// Trim of the ET percentage, percent.
    pub et_trim_pct: f64,
    /// High alarm above the learned flow, percent.
    pub flow_high_pct: f64,
    /// Low alarm below the learned flow, percent.
    pub flow_low_pct: f64,
    /// What a pulse of its meter stands for, litres, where it was found to be other than its card says.
    pub litres_per_pulse: Option<f64>,
}

impl Default for Setting {
    fn default() -> Self {
        Self {
            rain_threshold: COMMON_RAIN_THRESHOLD,
            release: Release::DriesOut { vent: HALF_OPEN_VENT },
            freeze_at: COMMON_FREEZE_POINT,
            wind_above: COMMON_WIND,
            soil_threshold_pct: None,
            cycle_window_min: None,
            et_days: 3,
            et_full: Millimetres::from_mm(5.0),
            et_trim_pct: 0.0,
            flow_high_pct: 30.0,
            flow_low_pct: 30.0,
            litres_per_pulse: None,
        }
    }
}

/// Something about a setting that cannot be.
#[derive(Debug, Clone, PartialEq)]
pub struct SettingFault {
    /// The field.
    pub field: &'static str,
    /// What is wrong and what would do, in metric units.
    pub message: String,
    /// For a size out of its card's range: the size, the lowest and the highest, in the field's metric unit.
    pub outside: Option<(f64, f64, f64)>,
}

impl Setting {
    /// Everything that the sensor's card cannot be set to, by field.
    // Long: one rule after another.
    #[must_use]
    pub fn check(&self, card: &SensorCard) -> Vec<SettingFault> {
        let mut faults: Vec<SettingFault> = Vec::new();
        let mut within = |field: &'static str, value: f64, range: Option<(f64, f64)>, unit: &str| {
            if let Some((low, high)) = range
                && !(value.is_finite() && (low..=high).contains(&value))
            {
                let message = format!("{value} {unit} cannot be set on it; it takes {low} to {high} {unit}");
                faults.push(SettingFault { field, message, outside: Some((value, low, high)) });
            }
        };
        let mm = |r: Option<(Millimetres, Millimetres)>| r.map(|(a, b)| (a.mm(), b.mm()));
        within("rain_threshold", self.rain_threshold.mm(), mm(card.rain_range), "mm");
        within("freeze_at", self.freeze_at.c(), card.freeze_range.map(|(a, b)| (a.c(), b.c())), "°C");
        within(
            "wind_above",
            self.wind_above.m_per_s(),
            card.wind_range.map(|(a, b)| (a.m_per_s(), b.m_per_s())),
            "m/s",
        );
        if let Some(threshold) = self.soil_threshold_pct {
            within("soil_threshold", threshold, card.soil_range_pct, "%");
        }
        let threshold = self.rain_threshold.mm();
        let within_range = faults.is_empty();
        let off_step = |step: &Millimetres| (step.mm() - threshold).abs();
        if let Some(near) = card.rain_steps.iter().min_by(|a, b| off_step(a).total_cmp(&off_step(b)))
            && within_range
            && off_step(near) > STEP_TOLERANCE_MM
        {
            let steps: Vec<String> = card.rain_steps.iter().map(|step| format!("{:.4}", step.mm())).collect();
            let steps: Vec<&str> =
                steps.iter().map(|s| s.trim_end_matches('0').trim_end_matches('.')).collect();
            faults.push(SettingFault {
                field: "rain_threshold",
                message: format!("{threshold} mm is no step of it; it has {} mm", steps.join(", ")),
                outside: None,
            });
        }
        let mut bounded = |field, bound: &Bound, value: f64| {
            if let Err(error) = bound.check(value) {
                faults.push(SettingFault { field, message: OutOfBounds::to_string(&error), outside: None });
            }
        };
        match self.release {
            Release::DriesOut { vent } => bounded("vent", &bounds::VENT, vent),
            Release::Days(days) => bounded("hold_days", &bounds::HOLD_DAYS, f64::from(days)),
        }
        if card.senses(Sense::Et) {
            bounded("et_days", &bounds::ET_DAYS, f64::from(self.et_days));
            bounded("et_full", &bounds::ET_FULL, self.et_full.mm());
            bounded("et_trim", &bounds::TRIM, self.et_trim_pct);
        }
        if card.senses(Sense::Flow) {
            bounded("flow_high", &bounds::FLOW_ALARM, self.flow_high_pct);
            bounded("flow_low", &bounds::FLOW_ALARM, self.flow_low_pct);
            if let Some(litres) = self.litres_per_pulse {
                bounded("litres_per_pulse", &bounds::METER_CONSTANT, litres);
            }
        }
        if let Some(minutes) = self.cycle_window_min {
            bounded("cycle_window", &bounds::CYCLE_WINDOW, f64::from(minutes));
        }
        faults
    }
}

/// Thresholds nearer to a step than this are the step: inches are written with two decimals, mm.
const STEP_TOLERANCE_MM: f64 = 0.4;
/// Share by which a step in millimetres and the fraction of an inch that it is sold as may differ: 12 and 12.7, 18 and
/// 19.05 mm (common practice).
pub const INCH_ROUNDING: f64 = 0.06;

/// A sensor as installed.
#[derive(Debug, Clone, PartialEq)]
pub struct Sensor {
    /// Name at the site.
    pub name: String,
    /// What it is.
    pub card: SensorCard,
    /// The controller that it is for, from 1.
    pub controller_number: u8,
    /// What is set on it.
    pub setting: Setting,
    /// What was measured of its place.
    pub placement: placement::Placement,
    /// Whom it can hold, where that was chosen against the proposal.
    pub map: mapping::Chosen,
}

impl Sensor {
    /// What a pulse of its meter stands for, litres; `None` for what counts no water.
    #[must_use]
    pub fn litres_per_pulse(&self) -> Option<f64> {
        let card = self.card.per_pulse.filter(|_| self.card.senses(Sense::Flow));
        self.setting.litres_per_pulse.filter(|_| self.card.senses(Sense::Flow)).or(card)
    }

    /// A sensor of a card with everything at its default.
    #[must_use]
    pub fn of_card(card: SensorCard, controller_number: u8) -> Self {
        Self {
            name: card.name.clone(),
            card,
            controller_number,
            setting: Setting::default(),
            placement: placement::Placement::default(),
            map: mapping::Chosen::default(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_generic_card_can_be_and_takes_its_default_setting() {
        for (code, card) in generic() {
            assert_eq!(card.check(), [], "{code}");
            assert_eq!(Setting::default().check(&card), [], "{code}");
        }
    }

    #[test]
    fn an_impossible_card_is_told_by_field() {
        let mut card = generic().remove(0).1;
        card.name = " ".into();
        card.senses = vec![Sense::Freeze];
        card.signal = Signal::Pulse;
        card.link = Link::Radio;
        card.radio_open = Metres::ZERO;
        let fields: Vec<_> = card.check().into_iter().map(|(f, _)| f).collect();
        assert_eq!(fields, ["name", "rain_range", "freeze_range", "per_pulse", "radio_open"]);
    }

    #[test]
    fn a_threshold_between_the_steps_of_its_card_is_told_them() {
        let card = generic().into_iter().find(|(c, _)| *c == "rain_switch").unwrap().1;
        let fault = |mm| {
            let setting = Setting { rain_threshold: Millimetres::from_mm(mm), ..Setting::default() };
            setting.check(&card).into_iter().map(|f| f.message).next()
        };
        assert_eq!(fault(12.0), None);
        for (inches, step) in [(0.125, 3.0), (0.25, 6.0), (0.5, 12.0), (0.75, 18.0), (1.0, 25.0)] {
            assert_eq!(
                card.rain_step(Millimetres::from_inches(inches)).mm(),
                step,
                "sentence 8: {inches} in"
            );
        }
        assert_eq!(card.rain_step(Millimetres::from_mm(14.0)).mm(), 14.0);
        assert_eq!(fault(12.7), Some("12.7 mm is no step of it; it has 3, 6, 12, 18, 25 mm".into()));
        assert_eq!(fault(6.35), None, "a quarter of an inch is the step of 6");
        assert!(fault(40.0).unwrap().contains("3 to 25 mm"), "out of range says the range alone");
    }

    #[test]
    fn a_setting_outside_its_card_says_what_it_takes() {
        let card = generic().into_iter().find(|(c, _)| *c == "rain_freeze_switch").unwrap().1;
        let setting = Setting {
            rain_threshold: Millimetres::from_mm(40.0),
            freeze_at: Celsius::from_c(20.0),
            release: Release::Days(0),
            ..Setting::default()
        };
        let faults = setting.check(&card);
        assert_eq!(
            faults.iter().map(|f| f.field).collect::<Vec<_>>(),
            ["rain_threshold", "freeze_at", "hold_days"]
        );
        assert!(faults[0].message.contains("it takes 3 to 25 mm"));
    }
}

//! A controller that works out its own minutes: what it asks of each zone, and which choices it offers.

use super::CardFault;
use crate::quantity::ratio::Share;

/// What such a controller can ask of a zone.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Input {
    /// How fast the heads apply, mm/h; where it offers kinds of heads, each stands for a rate.
    Rate,
    /// What grows there, as a plant coefficient in full sun.
    Plants,
    /// The soil, as the water it holds for plants, mm a metre of depth.
    Soil,
    /// The slope, percent.
    Slope,
    /// How much sun, as a factor on demand.
    Sun,
    /// A correction in percent.
    Trim,
    /// How much of the available water may be used before it waters, percent.
    Refill,
    /// How young the planting is, as a factor on demand.
    Maturity,
    /// From when until when it may water; asked by zone.
    Window,
    /// Days on which it must not water; asked by zone.
    NeverDays,
}

impl Input {
    /// All, in the order in which they are programmed.
    pub const ALL: [Self; 10] = [
        Self::Rate,
        Self::Plants,
        Self::Soil,
        Self::Slope,
        Self::Sun,
        Self::Maturity,
        Self::Refill,
        Self::Trim,
        Self::Window,
        Self::NeverDays,
    ];

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Rate => "heads or precipitation rate",
            Self::Plants => "plants",
            Self::Soil => "soil",
            Self::Slope => "slope",
            Self::Sun => "sun and shade",
            Self::Trim => "trim",
            Self::Refill => "refill point",
            Self::Maturity => "maturity",
            Self::Window => "water window",
            Self::NeverDays => "days it must not water",
        }
    }

    /// Whether it has a number, which a choice of the controller stands for.
    #[must_use]
    pub const fn has_number(self) -> bool {
        !matches!(self, Self::Window | Self::NeverDays)
    }

    /// Whether sizes are held against each other by their ratio; else by their difference.
    pub(crate) const fn by_ratio(self) -> bool {
        matches!(self, Self::Rate | Self::Plants | Self::Soil | Self::Sun | Self::Maturity)
    }
}

/// A choice that the controller offers.
#[derive(Debug, Clone, PartialEq)]
pub struct Choice {
    /// As the controller names it.
    pub name: String,
    /// What it stands for, in the unit of its [`Input`].
    pub value: f64,
}

/// An input with the choices that the controller offers; none where a number is programmed.
#[derive(Debug, Clone, PartialEq)]
pub struct AskedInput {
    /// What is asked.
    pub input: Input,
    /// The choices.
    pub choices: Vec<Choice>,
}

impl AskedInput {
    /// The choice nearest to a value; `None` where a number is programmed.
    #[must_use]
    pub fn nearest(&self, value: f64) -> Option<&Choice> {
        let off = |choice: &Choice| {
            if self.input.by_ratio() {
                (choice.value / value).ln().abs()
            } else {
                (choice.value - value).abs()
            }
        };
        self.choices.iter().min_by(|a, b| off(a).total_cmp(&off(b)))
    }
}

/// How a controller works out its minutes.
#[derive(Debug, Clone, PartialEq)]
pub struct Computing {
    /// What it asks of each zone.
    pub asks: Vec<AskedInput>,
    /// How even it takes the heads to be: it waters the need divided by this.
    pub efficiency: Share,
}

/// Most choices of an input.
pub const MOST_CHOICES: usize = 100;

impl Computing {
    /// What it asks of an input, if it does.
    #[must_use]
    pub fn asked(&self, input: Input) -> Option<&AskedInput> {
        self.asks.iter().find(|asked| asked.input == input)
    }

    /// Everything that makes it impossible.
    #[must_use]
    pub fn check(&self) -> Vec<CardFault> {
        let mut faults = Vec::new();
        let mut say = |message: String| faults.push(CardFault { field: "computing", message });
        if self.asked(Input::Rate).is_none() {
            say("a controller that calculates its minutes needs the heads or their rate".into());
        }
        if !(0.2..=1.0).contains(&self.efficiency.fraction()) {
            say("the efficiency that it assumes lies between 20 and 100 %".into());
        }
        for (i, asked) in self.asks.iter().enumerate() {
            let label = asked.input.label();
            if self.asks.iter().take(i).any(|other| other.input == asked.input) {
                say(format!("{label} is asked twice"));
            }
            if asked.choices.len() > MOST_CHOICES {
                say(format!("{label} has more than {MOST_CHOICES} choices"));
            }
            let named = |name: &str| !name.trim().is_empty() && name.chars().count() <= 60;
            let fits = |value: f64| {
                value.is_finite() && (!asked.input.by_ratio() || value > 0.0) && value.abs() <= 10_000.0
            };
            if let Some(wrong) = asked.choices.iter().find(|c| !named(&c.name) || !fits(c.value)) {
                say(format!(
                    "the choice \"{}\" of {label} needs a name and a number that occurs",
                    wrong.name
                ));
            }
        }
        faults
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn asked(input: Input, values: &[(&str, f64)]) -> AskedInput {
        let choices =
            values.iter().map(|(name, value)| Choice { name: (*name).into(), value: *value }).collect();
        AskedInput { input, choices }
    }

    #[test]
    fn the_nearest_choice_is_nearest_by_ratio_or_by_difference() {
        let rate = asked(Input::Rate, &[("drip", 5.0), ("rotor", 15.0), ("spray", 40.0)]);
        let nearest = |asked: &AskedInput, v| asked.nearest(v).map(|c| c.name.clone());
        // 25 is nearer to 15 by millimetres, but by what it does nearer to 40: a factor of 1.6 against 1.67.
        assert_eq!(nearest(&rate, 25.0).as_deref(), Some("spray"));
        assert_eq!(nearest(&rate, 24.0).as_deref(), Some("rotor"));
        let slope = asked(Input::Slope, &[("flat", 0.0), ("gentle", 5.0), ("steep", 15.0)]);
        assert_eq!(nearest(&slope, 9.0).as_deref(), Some("gentle"));
        assert_eq!(asked(Input::Trim, &[]).nearest(3.0), None, "a number is programmed");
    }

    #[test]
    fn what_cannot_be_asked_is_told() {
        let faults = |asks, efficiency| {
            let computing = Computing { asks, efficiency: Share::from_fraction(efficiency) };
            computing.check().into_iter().map(|f| f.message).collect::<Vec<_>>().join("; ")
        };
        assert!(faults(Vec::new(), 0.7).contains("needs the heads"));
        let rate = || asked(Input::Rate, &[("spray", 40.0)]);
        assert_eq!(faults(vec![rate()], 0.7), "");
        assert!(faults(vec![rate(), rate()], 0.7).contains("asked twice"));
        assert!(faults(vec![rate()], 1.2).contains("between 20 and 100"));
        assert!(faults(vec![asked(Input::Rate, &[("", 1.0)])], 0.7).contains("needs a name"));
        assert!(faults(vec![asked(Input::Rate, &[("none", 0.0)])], 0.7).contains("needs a name"));
    }
}

//! Whole messages, in the language of who reads: a text is written once, in the files under `messages/`, with its
//! variables, plurals and selectors (Project Fluent). The code decides which message and which variables, never which
//! letters. Numbers, dates and units are formatted here.

use crate::page::dates::DateFormat;
use fluent_bundle::concurrent::FluentBundle;
use fluent_bundle::{FluentArgs, FluentResource};
use jiff::civil::{Date, Time};
use std::sync::LazyLock;
use unic_langid::LanguageIdentifier;
use upland_core::controller::schedule::Days;
use upland_core::quantity::units::{L_PER_US_GALLON, Litres, MM_PER_INCH, Millimetres};
use upland_core::site::UnitSystem;

pub(crate) use fluent_bundle::FluentValue as Value;

/// A language of the messages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash)]
pub(crate) enum Language {
    #[default]
    English,
    Spanish,
}

impl Language {
    pub const ALL: [Self; 2] = [Self::English, Self::Spanish];

    /// As addresses, forms and the `lang` of a page name it.
    pub const fn code(self) -> &'static str {
        match self {
            Self::English => "en",
            Self::Spanish => "es",
        }
    }

    pub fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|language| language.code() == code)
    }

    /// What it calls itself.
    pub const fn own_name(self) -> &'static str {
        match self {
            Self::English => "English",
            Self::Spanish => "Español",
        }
    }

    /// What stands before the decimals, and between thousands: in Spanish a thin space, as the academies of the
    /// language recommend.
    const fn separators(self) -> (char, char) {
        match self {
            Self::English => ('.', ','),
            Self::Spanish => (',', '\u{202f}'),
        }
    }

    const fn files(self) -> &'static [&'static str] {
        match self {
            Self::English => &[
                include_str!("../../messages/en/common.ftl"),
                include_str!("../../messages/en/owner.ftl"),
                include_str!("../../messages/en/steps.ftl"),
            ],
            Self::Spanish => &[
                include_str!("../../messages/es/common.ftl"),
                include_str!("../../messages/es/owner.ftl"),
                include_str!("../../messages/es/steps.ftl"),
            ],
        }
    }

    fn catalogue(self) -> &'static FluentBundle<FluentResource> {
        static ENGLISH: LazyLock<FluentBundle<FluentResource>> = LazyLock::new(|| bundle(Language::English));
        static SPANISH: LazyLock<FluentBundle<FluentResource>> = LazyLock::new(|| bundle(Language::Spanish));
        match self {
            Self::English => &ENGLISH,
            Self::Spanish => &SPANISH,
        }
    }
}

fn bundle(language: Language) -> FluentBundle<FluentResource> {
    let id = language.code().parse::<LanguageIdentifier>().unwrap_or_default();
    let mut bundle = FluentBundle::new_concurrent(vec![id]);
    // No text runs from right to left, so that variables need no marks of direction.
    bundle.set_use_isolating(false);
    for text in language.files() {
        // A file that is wrong in part still gives its other messages; a test reads every file whole.
        let file = FluentResource::try_new((*text).to_owned()).unwrap_or_else(|(part, _)| part);
        bundle.add_resource_overriding(file);
    }
    bundle
}

/// Who reads: in which language and in which units.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Reader {
    pub language: Language,
    pub units: UnitSystem,
}

impl Reader {
    /// A message without variables; its key where there is none, so that a page never fails on a word.
    pub fn say(&self, key: &str) -> String {
        self.with(key, &[])
    }

    /// A message with its variables.
    pub fn with(&self, key: &str, variables: &[(&'static str, Value<'_>)]) -> String {
        let catalogue = self.language.catalogue();
        let Some(pattern) = catalogue.get_message(key).and_then(|message| message.value()) else {
            return key.to_owned();
        };
        let mut arguments = FluentArgs::new();
        for (name, value) in variables {
            arguments.set(*name, value.clone());
        }
        let mut faults = Vec::new();
        catalogue.format_pattern(pattern, Some(&arguments), &mut faults).into_owned()
    }

    /// A number with so many decimals, thousands apart where there are five digits or more.
    pub fn number(&self, value: f64, decimals: usize) -> String {
        let (point, apart) = self.language.separators();
        let text = format!("{:.decimals$}", value.abs());
        let (whole, rest) = text.split_once('.').unwrap_or((&text, ""));
        let mut out = String::new();
        if value < 0.0 && text.bytes().any(|byte| matches!(byte, b'1'..=b'9')) {
            out.push('\u{2212}');
        }
        for (place, digit) in whole.chars().enumerate() {
            if place > 0 && whole.len() > 4 && (whole.len() - place).is_multiple_of(3) {
                out.push(apart);
            }
            out.push(digit);
        }
        if !rest.is_empty() {
            out.push(point);
            out.push_str(rest);
        }
        out
    }

    /// A volume, in figures that somebody can picture.
    pub fn volume(&self, litres: Litres) -> String {
        let said = |key: &str, value: f64| {
            self.with(key, &[("value", self.number(value, usize::from(value.abs() < 10.0)).into())])
        };
        match self.units {
            UnitSystem::UsCustomary => said("unit-gallons", litres.l() / L_PER_US_GALLON),
            UnitSystem::Metric if litres.l().abs() >= 10_000.0 => {
                said("unit-cubic-metres", litres.l() / 1000.0)
            }
            UnitSystem::Metric => said("unit-litres", litres.l()),
        }
    }

    /// A depth of water.
    pub fn depth(&self, depth: Millimetres) -> String {
        match self.units {
            UnitSystem::UsCustomary => {
                let value = self.number(depth.mm() / MM_PER_INCH, 2);
                self.with("unit-inches", &[("value", value.into())])
            }
            UnitSystem::Metric => {
                let decimals = usize::from((0.05..9.95).contains(&depth.mm().abs()));
                let value = self.number(depth.mm(), decimals);
                self.with("unit-millimetres", &[("value", value.into())])
            }
        }
    }

    fn month(&self, date: Date) -> String {
        self.say(&format!("month-{}", date.month()))
    }

    /// A day with its year; in English as the reader's habit has it.
    pub fn day_of_year(&self, date: Date) -> String {
        if self.language == Language::English {
            return date.formatted("%-d %B %Y");
        }
        let (day, year) = (date.day().to_string(), date.year().to_string());
        let variables = [("day", day.into()), ("month", self.month(date).into()), ("year", year.into())];
        self.with("day-of-year", &variables)
    }

    /// A day without its year.
    pub fn day(&self, date: Date) -> String {
        if self.language == Language::English {
            return date.formatted("%-d %B");
        }
        let day = date.day().to_string();
        self.with("day-of-month", &[("day", day.into()), ("month", self.month(date).into())])
    }

    /// A time of day.
    pub fn clock(&self, time: Time) -> String {
        match self.language {
            Language::English => time.formatted("%H:%M"),
            Language::Spanish => time.strftime("%H:%M").to_string(),
        }
    }

    /// The days of a program.
    pub fn days(&self, days: Days) -> String {
        match days {
            Days::Weekdays(week) if week == [true; 7] => self.say("days-every"),
            Days::Weekdays(week) if week == [false; 7] => self.say("days-none"),
            Days::Weekdays(week) => {
                let on = (0..7).filter(|day| week.get(*day) == Some(&true));
                on.map(|day| self.say(&format!("weekday-{day}"))).collect::<Vec<_>>().join(", ")
            }
            Days::EveryNth { interval: 1, .. } => self.say("days-every"),
            Days::EveryNth { interval, first } => {
                let first = self.day_of_year(first).into();
                self.with("days-nth", &[("interval", interval.into()), ("first", first)])
            }
            Days::Odd => self.say("days-odd"),
            Days::Even => self.say("days-even"),
        }
    }
}

#[cfg(test)]
mod tests;

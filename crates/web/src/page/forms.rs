//! Surveys as forms: a list of fields with their texts, units, stated defaults and errors. Zones
//! and sites share it, and so does the page on which two versions are brought together.

use crate::page::quantities::plain;
use crate::page::units::{MINUTES, PERCENT, SIGNED_PERCENT, Shown};
use crate::server::error::PageError;
use crate::server::request_locale::habit;
use crate::server::session::Fields;
use jiff::civil::Date;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::quantity::bounds::Bound;
use upland_core::quantity::time::{Hours, WEEKDAYS};
use upland_core::site::UnitSystem;
use upland_formats::typed::{self, Read};

/// How a field is entered.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum FieldKind {
    Text,
    /// Several lines of text.
    Lines,
    Number,
    /// The slope of ground.
    Slope,
    /// A time of day.
    Time,
    Date,
    /// A length of time.
    Duration,
    Choice(Vec<(String, String)>),
}

/// A field of a form.
#[derive(Debug, Clone)]
pub(crate) struct Field {
    pub name: &'static str,
    pub label: &'static str,
    pub unit: String,
    pub kind: FieldKind,
    pub value: String,
    /// What stands in for an empty field, with its source; shown as a default.
    pub default: Option<String>,
    pub help: &'static str,
    pub error: Option<String>,
}

impl Field {
    pub fn text(name: &'static str, label: &'static str) -> Self {
        Self {
            name,
            label,
            unit: String::new(),
            kind: FieldKind::Text,
            value: String::new(),
            default: None,
            help: "",
            error: None,
        }
    }

    pub fn number(name: &'static str, label: &'static str, unit: impl Into<String>) -> Self {
        Self { kind: FieldKind::Number, unit: unit.into(), ..Self::text(name, label) }
    }

    pub fn time(name: &'static str, label: &'static str) -> Self {
        Self { kind: FieldKind::Time, ..Self::text(name, label) }
    }

    pub fn date(name: &'static str, label: &'static str) -> Self {
        Self { kind: FieldKind::Date, ..Self::text(name, label) }
    }

    pub fn lines(name: &'static str, label: &'static str) -> Self {
        Self { kind: FieldKind::Lines, ..Self::text(name, label) }
    }

    pub fn is_lines(&self) -> bool {
        self.kind == FieldKind::Lines
    }

    pub fn duration(name: &'static str, label: &'static str) -> Self {
        Self { kind: FieldKind::Duration, ..Self::text(name, label) }
    }

    pub fn slope(name: &'static str, label: &'static str) -> Self {
        Self { kind: FieldKind::Slope, unit: "%".into(), ..Self::text(name, label) }
    }

    pub fn choice<T: Coded>(name: &'static str, label: &'static str, words: fn(T) -> &'static str) -> Self {
        let options = T::TABLE.iter().map(|(v, code)| ((*code).to_owned(), words(*v).to_owned())).collect();
        Self { kind: FieldKind::Choice(options), ..Self::text(name, label) }
    }

    /// One of some options, each with its code and its words.
    pub fn one_of(name: &'static str, label: &'static str, options: Vec<(String, String)>) -> Self {
        Self { kind: FieldKind::Choice(options), ..Self::text(name, label) }
    }

    /// Yes or no.
    pub fn yes_no(name: &'static str, label: &'static str) -> Self {
        let options = [("yes", "yes"), ("no", "no")].map(|(c, w)| (c.to_owned(), w.to_owned())).to_vec();
        Self { kind: FieldKind::Choice(options), ..Self::text(name, label) }
    }

    pub fn help(self, help: &'static str) -> Self {
        Self { help, ..self }
    }

    pub fn default(self, text: impl Into<String>) -> Self {
        Self { default: Some(text.into()), ..self }
    }

    /// The reader of typed texts that the field is read by; empty for a plain text.
    pub fn reads(&self) -> &'static str {
        match self.kind {
            FieldKind::Text | FieldKind::Lines | FieldKind::Choice(_) => "",
            FieldKind::Number => "number",
            FieldKind::Slope => "slope",
            FieldKind::Time => "time",
            FieldKind::Date => "date",
            FieldKind::Duration => "duration",
        }
    }

    pub fn options(&self) -> Option<&[(String, String)]> {
        match &self.kind {
            FieldKind::Choice(options) => Some(options),
            _ => None,
        }
    }

    /// What the input describes itself by, for screen readers.
    pub fn described(&self) -> String {
        format!("{}-help {}-error", self.name, self.name)
    }
}

/// Fields under a heading.
#[derive(Debug, Clone)]
pub(crate) struct FieldGroup {
    pub legend: &'static str,
    pub fields: Vec<Field>,
    /// Whether it opens on demand, under a line that says what is in it.
    pub folded: bool,
}

impl FieldGroup {
    pub fn of(legend: &'static str, fields: Vec<Field>) -> Self {
        Self { legend, fields, folded: false }
    }

    pub fn folded(legend: &'static str, fields: Vec<Field>) -> Self {
        Self { legend, fields, folded: true }
    }

    /// Whether a field of it was refused.
    pub fn is_wrong(&self) -> bool {
        self.fields.iter().any(|f| f.error.is_some())
    }

    /// What is in it: what was filled in, or that nothing was.
    pub fn summary(&self) -> String {
        let said = self.fields.iter().filter(|f| !f.value.is_empty()).map(|f| {
            let value = f.options().and_then(|all| all.iter().find(|(code, _)| *code == f.value));
            let value = value.map_or(f.value.as_str(), |(_, words)| words.as_str());
            format!("{} {value} {}", f.label.to_lowercase(), f.unit).trim_end().to_owned()
        });
        let said: Vec<String> = said.collect();
        match (said.is_empty(), self.fields.iter().filter_map(|f| f.default.as_ref()).count()) {
            (false, _) => said.join(", "),
            (true, 0) => "nothing set".into(),
            (true, 1) => "its default".into(),
            (true, _) => "all defaults".into(),
        }
    }
}

/// A form as a template draws it.
#[derive(Debug, Clone)]
pub(crate) struct Form {
    pub groups: Vec<FieldGroup>,
}

/// What is wrong with a field.
pub(crate) type FieldError = (&'static str, String);

impl Form {
    pub fn fields(&self) -> impl Iterator<Item = &Field> {
        self.groups.iter().flat_map(|g| &g.fields)
    }

    /// Puts texts and errors at their fields. Texts that were typed are kept as they are.
    pub fn filled(mut self, texts: &BTreeMap<String, String>, errors: &[FieldError]) -> Self {
        for field in self.groups.iter_mut().flat_map(|g| &mut g.fields) {
            if let Some(text) = texts.get(field.name) {
                field.value.clone_from(text);
            }
            field.error =
                errors.iter().find(|(name, _)| *name == field.name).map(|(_, message)| message.clone());
        }
        self
    }

    pub fn wrong(&self) -> Vec<&Field> {
        self.fields().filter(|f| f.error.is_some()).collect()
    }
}

/// What is wrong with a name, if anything is.
pub(crate) fn name_fault(text: &str) -> Option<String> {
    let most = upland_formats::MAX_NAME;
    if text.is_empty() {
        Some("Give it a name.".into())
    } else if text.chars().count() > most {
        Some(format!("At most {most} characters."))
    } else if text.chars().any(char::is_control) {
        Some("Letters, numbers and signs only.".into())
    } else {
        None
    }
}

/// Reads fields and collects what is wrong with them.
pub(crate) struct Reader<'a> {
    fields: &'a Fields,
    pub errors: Vec<FieldError>,
}

impl<'a> Reader<'a> {
    pub fn new(fields: &'a Fields) -> Self {
        Self { fields, errors: Vec::new() }
    }

    pub fn say(&mut self, name: &'static str, message: impl Into<String>) {
        self.errors.push((name, message.into()));
    }

    /// A text as it was typed.
    pub fn typed(&self, name: &str) -> &str {
        self.fields.get(name)
    }

    pub fn name(&mut self, name: &'static str) -> String {
        let text = self.fields.get(name);
        if let Some(fault) = name_fault(text) {
            self.say(name, fault);
        }
        text.to_owned()
    }

    pub fn choice<T: Coded>(&mut self, name: &'static str) -> Option<T> {
        let found = T::from_code(self.fields.get(name));
        if found.is_none() {
            self.say(name, "Choose one from the list.");
        }
        found
    }

    /// What was read, or nothing and why.
    fn take<T>(&mut self, name: &'static str, read: Read<T>) -> Option<T> {
        read.map_err(|refusal| self.say(name, refusal.to_string())).ok()
    }

    pub fn time(&mut self, name: &'static str) -> jiff::civil::Time {
        let read = typed::time_of_day(self.fields.get(name), habit());
        self.take(name, read).unwrap_or_default()
    }

    /// Hours that may be left out, from one field to another.
    pub fn optional_hours(&mut self, from: &'static str, until: &'static str) -> Option<Hours> {
        match (self.fields.get(from).is_empty(), self.fields.get(until).is_empty()) {
            (true, true) => None,
            (true, false) => {
                self.say(from, "Say when it begins, or leave both ends empty.");
                None
            }
            (false, true) => {
                self.say(until, "Say when it ends, or leave both ends empty.");
                None
            }
            (false, false) => Some(self.hours(from, until)),
        }
    }

    /// Hours from one field to another, of some length.
    pub fn hours(&mut self, from: &'static str, until: &'static str) -> Hours {
        let before = self.errors.len();
        let hours = Hours { from: self.time(from), until: self.time(until) };
        if self.errors.len() == before && hours.from == hours.until {
            self.say(until, "The window begins and ends at the same minute; give it a length.");
        }
        hours
    }

    /// A length of time that may be left out, in minutes.
    pub fn optional_minutes(&mut self, name: &'static str, bound: &Bound) -> Option<f64> {
        let text = self.fields.get(name);
        if text.is_empty() {
            return None;
        }
        let length = self.take(name, typed::duration(text))?;
        self.within(name, MINUTES, bound, length.minutes().min_value())
    }

    /// A day that may be left out; without a year it is the nearest to today.
    pub fn optional_date(&mut self, name: &'static str, today: Date) -> Option<Date> {
        let text = self.fields.get(name);
        if text.is_empty() {
            return None;
        }
        let read = typed::date(text, today, habit());
        self.take(name, read)
    }

    /// A number that may be left out. A text that still says what `before` was is not rounded
    /// again: the stored value stays as it is.
    pub fn optional(
        &mut self,
        name: &'static str,
        shown: Shown,
        bound: &Bound,
        before: Option<f64>,
    ) -> Option<f64> {
        let text = self.fields.get(name);
        if text.is_empty() {
            return None;
        }
        if before.is_some() && shown.text(before) == text {
            return before;
        }
        let read = shown.read(text);
        // A factor may be typed as a percentage, 60 %, and a share as a fraction, 0.65, where the other reading is none.
        if shown.unit.is_empty()
            && let Some(percent) = text.trim().strip_suffix('%')
            && let Ok(percent) = typed::number(percent)
        {
            return self.within(name, shown, bound, percent / 100.0);
        }
        let metric = self.take(name, read)?;
        let is_fraction = shown == PERCENT && !text.contains('%') && bound.check(metric).is_err();
        let metric = if is_fraction && bound.check(metric * 100.0).is_ok() { metric * 100.0 } else { metric };
        self.within(name, shown, bound, metric)
    }

    /// A value that its bound allows.
    fn within(&mut self, name: &'static str, shown: Shown, bound: &Bound, metric: f64) -> Option<f64> {
        if bound.check(metric).is_ok() {
            return Some(metric);
        }
        self.say(name, out_of_bounds(shown, bound));
        None
    }

    /// The slope of ground in percent, which may be left out.
    pub fn optional_slope(&mut self, name: &'static str, bound: &Bound, before: Option<f64>) -> Option<f64> {
        let text = self.fields.get(name);
        if text.is_empty() {
            return None;
        }
        if before.is_some() && SIGNED_PERCENT.text(before) == text {
            return before;
        }
        let metric = self.take(name, typed::slope_percent(text))?;
        self.within(name, SIGNED_PERCENT, bound, metric)
    }

    pub fn required(&mut self, name: &'static str, shown: Shown, bound: &Bound, before: Option<f64>) -> f64 {
        if self.fields.get(name).is_empty() {
            self.say(name, format!("{} is needed.", bound.name));
            return bound.min;
        }
        self.optional(name, shown, bound, before).unwrap_or(bound.min)
    }

    /// A whole number.
    pub fn count(&mut self, name: &'static str, label: &str, most: u16) -> u16 {
        match self.fields.get(name).parse::<u16>() {
            Ok(value) if (1..=most).contains(&value) => value,
            _ => {
                self.say(name, format!("{label} is a whole number from 1 to {most}."));
                1
            }
        }
    }
}

/// What a bound allows, in the unit of the field.
pub(crate) fn out_of_bounds(shown: Shown, bound: &Bound) -> String {
    let show = |v: f64| {
        let value = shown.shown(v);
        plain(value, if value.abs() < 1.0 { 2 } else { 1 })
    };
    let (least, most) = (show(bound.min), show(bound.max));
    format!("{} must lie between {least} and {most} {}: {}.", bound.name, shown.unit, bound.why)
        .replace("  ", " ")
        .replace(" :", ":")
}

/// A field of a form that is drawn by hand.
pub(crate) struct Cell {
    pub name: String,
    pub value: String,
    pub error: String,
}

/// A field that is on or off.
pub(crate) struct Tick {
    pub name: String,
    pub label: &'static str,
    pub on: bool,
}

/// What was typed and what is wrong with it, from which such fields are made.
pub(crate) struct Cells<'a> {
    pub texts: &'a BTreeMap<String, String>,
    pub errors: &'a [(String, String)],
}

impl Cells<'_> {
    pub fn text(&self, name: &str) -> String {
        self.texts.get(name).cloned().unwrap_or_default()
    }

    pub fn cell(&self, name: impl Into<String>) -> Cell {
        let name = name.into();
        let error = self.errors.iter().find(|(n, _)| *n == name);
        Cell { value: self.text(&name), error: error.map_or(String::new(), |(_, m)| m.clone()), name }
    }

    pub fn tick(&self, name: String, label: &'static str) -> Tick {
        Tick { on: self.text(&name) == "on", name, label }
    }

    /// A tick for each day of the week.
    pub fn week(&self, name: impl Fn(usize) -> String) -> Vec<Tick> {
        WEEKDAYS.into_iter().enumerate().map(|(day, label)| self.tick(name(day), label)).collect()
    }
}

/// Two edits of one form brought together: what you changed stands, elsewhere theirs; names both
/// changed are returned, so that the reader looks at them.
pub(crate) fn three_way(
    base: &BTreeMap<String, String>,
    yours: &BTreeMap<String, String>,
    theirs: &BTreeMap<String, String>,
) -> (BTreeMap<String, String>, Vec<String>) {
    let empty = String::new();
    let of = |texts: &BTreeMap<String, String>, name: &str| texts.get(name).unwrap_or(&empty).clone();
    let names: std::collections::BTreeSet<&String> =
        base.keys().chain(yours.keys()).chain(theirs.keys()).collect();
    let (mut merged, mut both) = (BTreeMap::new(), Vec::new());
    for name in names {
        let (was, mine, other) = (of(base, name), of(yours, name), of(theirs, name));
        if mine != was && other != was && mine != other {
            both.push(name.clone());
        }
        let value = if mine == was { other } else { mine };
        if !value.is_empty() {
            merged.insert(name.clone(), value);
        }
    }
    (merged, both)
}

pub(crate) fn units_of(fields: &Fields) -> Result<UnitSystem, PageError> {
    UnitSystem::from_code(fields.get("units"))
        .ok_or_else(|| PageError::BadRequest("The form does not say its units. Reload the page.".into()))
}

pub(crate) fn base_version(fields: &Fields) -> Result<i32, PageError> {
    fields
        .get("base_version")
        .parse()
        .map_err(|_| PageError::BadRequest("The form does not say its version. Reload the page.".into()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::page::units::{DEGREES, NO_UNIT};
    use upland_core::quantity::bounds;

    fn fields(pairs: &[(&str, &str)]) -> Fields {
        Fields(pairs.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect())
    }

    #[test]
    fn a_value_that_was_not_touched_is_not_rounded() {
        let shown = Shown::of("in/h", 25.4);
        let before = Some(29.123_456_789);
        let text = shown.text(before);
        let fields = fields(&[("rate", &text)]);
        let mut reader = Reader::new(&fields);
        assert_eq!(reader.optional("rate", shown, &bounds::PRECIPITATION_RATE, before), before);
    }

    #[test]
    fn errors_say_the_range_in_the_unit_of_the_form() {
        let fields = fields(&[("rate", "90"), ("lat", "95"), ("area", "1,500")]);
        let mut reader = Reader::new(&fields);
        reader.optional("rate", Shown::of("in/h", 25.4), &bounds::PRECIPITATION_RATE, None);
        reader.required("lat", DEGREES, &bounds::LATITUDE, None);
        reader.optional("area", NO_UNIT, &bounds::AREA, None);
        reader.required("elevation", NO_UNIT, &bounds::ELEVATION, None);
        let messages: Vec<_> = reader.errors.iter().map(|(_, m)| m.as_str()).collect();
        insta::assert_snapshot!(messages.join("\n"), @r#"
        Precipitation rate must lie between 0.02 and 5.9 in/h: heads and emitters apply between a drip and a cloudburst.
        Latitude must lie between -89 and 89 °: north is positive, south negative, in decimal degrees.
        "1,500" can be read as 1.500 or as 1500. Choose one.
        Elevation is needed.
        "#);
    }

    fn form() -> Form {
        Form {
            groups: vec![FieldGroup {
                folded: false,
                legend: "All",
                fields: vec![
                    Field::text("name", "Name"),
                    Field::number("rate", "Rate", "mm/h"),
                    Field::choice::<upland_core::ground::soil::Texture>(
                        "soil",
                        "Soil",
                        upland_core::ground::soil::Texture::label,
                    ),
                ],
            }],
        }
    }

    fn texts(name: &str, rate: &str, soil: &str) -> BTreeMap<String, String> {
        fields(&[("name", name), ("rate", rate), ("soil", soil)]).0
    }

    #[test]
    fn two_edits_of_one_form_come_together_and_name_what_both_changed() {
        let of = |pairs: &[(&str, &str)]| fields(pairs).0;
        let base = of(&[("a", "1"), ("b", "2"), ("c", "3"), ("d", "4")]);
        let yours = of(&[("a", "9"), ("b", "2"), ("c", "5"), ("d", "4")]);
        let theirs = of(&[("a", "1"), ("b", "7"), ("c", "6")]);
        let (merged, both) = three_way(&base, &yours, &theirs);
        assert_eq!(merged, of(&[("a", "9"), ("b", "7"), ("c", "5")]), "d was taken out by them");
        assert_eq!(both, ["c"]);
    }

    #[test]
    fn a_filled_form_keeps_texts_and_puts_errors_at_their_fields() {
        let form = form().filled(&texts("", "fast", "loam"), &[("rate", "This is not a number.".into())]);
        let wrong: Vec<_> = form.wrong().into_iter().map(|f| (f.name, f.value.as_str())).collect();
        assert_eq!(wrong, [("rate", "fast")]);
    }

    #[test]
    fn a_field_drawn_by_hand_keeps_its_text_and_its_error() {
        let texts = BTreeMap::from([("start".to_owned(), "25:00".to_owned()), ("d2".into(), "on".into())]);
        let errors = [("start".to_owned(), "not a time".to_owned())];
        let form = Cells { texts: &texts, errors: &errors };
        let start = form.cell("start");
        assert_eq!((start.value.as_str(), start.error.as_str()), ("25:00", "not a time"));
        let other = form.cell("other");
        assert_eq!((other.value.as_str(), other.error.as_str()), ("", ""));
        let week = form.week(|day| format!("d{day}"));
        let on: Vec<&str> = week.iter().filter(|tick| tick.on).map(|tick| tick.label).collect();
        assert_eq!((week.len(), on), (7, vec!["Wed"]));
    }
}

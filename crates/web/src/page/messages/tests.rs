//! The catalogue against itself and against the code: what is missing, unused, or lacks a variable fails here.

use super::*;
use fluent_syntax::ast::{Entry, Expression, InlineExpression, Pattern, PatternElement};
use fluent_syntax::parser::parse;
use jiff::civil::date;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

fn of_inline(expression: &InlineExpression<&str>, out: &mut BTreeSet<String>) {
    match expression {
        InlineExpression::VariableReference { id } => {
            out.insert(id.name.to_owned());
        }
        InlineExpression::Placeable { expression } => of_expression(expression, out),
        _ => {}
    }
}

fn of_expression(expression: &Expression<&str>, out: &mut BTreeSet<String>) {
    match expression {
        Expression::Inline(inline) => of_inline(inline, out),
        Expression::Select { selector, variants } => {
            of_inline(selector, out);
            variants.iter().for_each(|variant| of_pattern(&variant.value, out));
        }
    }
}

fn of_pattern(pattern: &Pattern<&str>, out: &mut BTreeSet<String>) {
    for element in &pattern.elements {
        if let PatternElement::Placeable { expression } = element {
            of_expression(expression, out);
        }
    }
}

/// The messages of a language, each with its variables.
fn messages(language: Language) -> BTreeMap<String, BTreeSet<String>> {
    let mut all = BTreeMap::new();
    for text in language.files() {
        let file = parse(*text).unwrap_or_else(|(_, faults)| panic!("{}: {faults:?}", language.code()));
        for entry in file.body {
            if let Entry::Message(message) = entry {
                let mut variables = BTreeSet::new();
                of_pattern(&message.value.expect("a message has a text"), &mut variables);
                let twice = all.insert(message.id.name.to_owned(), variables);
                assert!(twice.is_none(), "{} stands twice", message.id.name);
            }
        }
    }
    all
}

fn sources(folder: &Path, out: &mut String) {
    for entry in std::fs::read_dir(folder).unwrap().map(Result::unwrap) {
        let path = entry.path();
        if path.is_dir() {
            sources(&path, out);
        } else if path.extension().is_some_and(|e| e == "rs" || e == "html") && !path.ends_with("tests.rs") {
            out.push_str(&std::fs::read_to_string(&path).unwrap());
        }
    }
}

#[test]
fn both_languages_have_every_message_with_the_same_variables() {
    let (english, spanish) = (messages(Language::English), messages(Language::Spanish));
    assert!(english.len() > 80);
    for (key, variables) in &english {
        assert_eq!(spanish.get(key), Some(variables), "{key}");
    }
    assert_eq!(spanish.len(), english.len());
}

#[test]
fn every_message_is_used_and_what_is_used_is_there() {
    let mut text = String::new();
    sources(Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/src")), &mut text);
    // Keys that are put together: what stands before the part that changes.
    let families = [
        "month-",
        "weekday-",
        "cause-",
        "sign-",
        "owner-area-state-",
        "owner-saved-",
        "steps-clean-",
        "caution-",
    ];
    let all = messages(Language::English);
    for key in all.keys() {
        let is_named = text.contains(&format!("\"{key}\""));
        assert!(is_named || families.iter().any(|family| key.starts_with(family)), "{key} is used nowhere");
    }
    for call in [".say(\"", ".with(\""] {
        for part in text.split(call).skip(1) {
            let key = part.split('"').next().unwrap();
            // The key of a message has a hyphen, unlike the texts that other functions of these names take.
            if key.contains('-') && key.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_') {
                assert!(all.contains_key(key), "\"{key}\" is no message");
            }
        }
    }
}

#[test]
fn numbers_days_and_plurals_follow_the_language() {
    let reader = |language| Reader { language, units: UnitSystem::Metric };
    let (english, spanish) = (reader(Language::English), reader(Language::Spanish));
    assert_eq!(english.number(1_234_567.25, 1), "1,234,567.2");
    assert_eq!(spanish.number(1_234_567.25, 1), "1\u{202f}234\u{202f}567,2");
    assert_eq!((english.number(9999.0, 0).as_str(), english.number(-0.04, 1).as_str()), ("9999", "0.0"));
    assert_eq!(english.day_of_year(date(2026, 7, 14)), "14 July 2026");
    assert_eq!(spanish.day_of_year(date(2026, 7, 14)), "14 de julio de 2026");
    let watered =
        |reader: Reader, nights: i64| reader.with("owner-area-watered", &[("nights", nights.into())]);
    assert_eq!(watered(english, 0), "not watered");
    assert_eq!(watered(english, 1), "watered on one day");
    assert_eq!(watered(english, 5), "watered on 5 days");
    assert_eq!((watered(spanish, 1), watered(spanish, 5)), ("regada un día".into(), "regada 5 días".into()));
    assert_eq!(spanish.volume(Litres::from_l(12_345.0)), "12 m³");
    assert_eq!(spanish.volume(Litres::from_l(4_500.0)), "4500 L");
    let inches = Reader { units: UnitSystem::UsCustomary, ..english };
    assert_eq!(inches.depth(Millimetres::from_mm(12.7)), "0.50 in");
    assert_eq!(english.say("no-such-message"), "no-such-message");
}

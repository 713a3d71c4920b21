//! What stands above a form when somebody saved while it was open: both edits are put together line by line.

use crate::page::forms::{Form, three_way};
use std::collections::BTreeMap;

/// Texts of a form by field.
pub(crate) type Texts = BTreeMap<String, String>;

/// Two edits put together.
#[derive(Default)]
pub(crate) struct Merged {
    /// Who saved in between; empty when nobody did.
    pub their_name: String,
    /// Labels of the lines that both changed: look at them before saving again.
    pub both: Vec<String>,
}

impl Merged {
    /// Puts your edit on top of theirs; returns what the form shows then.
    pub fn of(
        form: &Form,
        started: &Texts,
        yours: &Texts,
        theirs: &Texts,
        their_name: &str,
    ) -> (Texts, Self) {
        let (merged, both) = three_way(started, yours, theirs);
        let label = |name: &String| {
            form.fields().find(|f| f.name == name).map_or_else(|| name.clone(), |f| f.label.to_owned())
        };
        (merged, Self { their_name: their_name.to_owned(), both: both.iter().map(label).collect() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::page::forms::{Field, FieldGroup};

    fn texts(name: &str, rate: &str) -> Texts {
        [("name", name), ("rate", rate)].map(|(k, v)| (k.to_owned(), v.to_owned())).into()
    }

    #[test]
    fn your_edit_stands_on_top_of_theirs_and_lines_that_both_changed_are_named() {
        let fields = vec![Field::text("name", "Name"), Field::number("rate", "Precipitation rate", "mm/h")];
        let form = Form { groups: vec![FieldGroup { folded: false, legend: "Zone", fields }] };
        let started = texts("Lawn", "20");
        let (shown, merged) =
            Merged::of(&form, &started, &texts("Lawn", "25"), &texts("Top lawn", "20"), "Isla");
        assert_eq!(shown, texts("Top lawn", "25"));
        assert_eq!((merged.their_name.as_str(), merged.both.len()), ("Isla", 0));
        let (shown, merged) = Merged::of(&form, &started, &texts("Lawn", "25"), &texts("Lawn", "30"), "Isla");
        assert_eq!(shown, texts("Lawn", "25"));
        assert_eq!(merged.both, ["Precipitation rate"]);
    }
}

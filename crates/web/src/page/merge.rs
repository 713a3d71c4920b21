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

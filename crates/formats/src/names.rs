//! Names of properties as they were before: files written then are read for good, and the schemas say both.

use schemars::Schema;
use serde_json::{Map, Value};

/// What was called a box is a controller; the old name stands beside the new one wherever it is read.
pub(crate) fn controllers(schema: &mut Schema) {
    both(schema, "controllers", "boxes");
}

/// The same of one controller.
pub(crate) fn controller(schema: &mut Schema) {
    both(schema, "controller", "box");
    // A choice of one property is another choice under its old name.
    let choices = schema.as_object_mut().and_then(|own| own.get_mut("oneOf")).and_then(Value::as_array_mut);
    let Some(choices) = choices else { return };
    let named = |choice: &&Value| choice.get("required") == Some(&serde_json::json!(["controller"]));
    let Some(mut old) = choices.iter().find(named).and_then(Value::as_object).cloned() else { return };
    if let Some(value) = old.get("properties").and_then(|own| own.get("controller")).cloned() {
        old.insert("properties".into(), serde_json::json!({ "box": value }));
        old.insert("required".into(), serde_json::json!(["box"]));
        old.insert("description".into(), BEFORE.into());
        choices.push(old.into());
    }
}

const BEFORE: &str = "As it was called before; still read.";

fn both(schema: &mut Schema, name: &str, before: &str) {
    let properties: Option<&mut Map<String, Value>> =
        schema.as_object_mut().and_then(|own| own.get_mut("properties")).and_then(Value::as_object_mut);
    let Some(properties) = properties else { return };
    if let Some(mut old) = properties.get(name).cloned() {
        if let Some(own) = old.as_object_mut() {
            own.insert("description".into(), BEFORE.into());
        }
        properties.insert(before.to_owned(), old);
    }
}

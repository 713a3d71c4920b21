//! A table out of JSON: a list of objects, or an object of lists of one length, wherever it stands in the document.

use crate::table::{MOST_COLUMNS, Problem, too_large};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// Headers and rows of text.
pub(super) type Table = (Vec<String>, Vec<csv::StringRecord>);

/// Whether a text is JSON rather than a table of cells.
pub(super) fn is_one(text: &str) -> bool {
    text.trim_start().starts_with(['{', '['])
}

/// Finds the longest table of a JSON document. Fields of objects within a row are named with a point between.
pub(super) fn read(text: &str) -> Result<Table, Vec<Problem>> {
    let document: Value = serde_json::from_str(text).map_err(|error| {
        let line = u64::try_from(error.line()).unwrap_or(0);
        vec![Problem::line(line, format!("is not JSON: {error}"))]
    })?;
    let mut found: Vec<Vec<Map<String, Value>>> = Vec::new();
    look(&document, &mut found);
    // Of several of one length the first counts.
    let rows = found.into_iter().rev().max_by_key(Vec::len).filter(|rows| !rows.is_empty()).ok_or_else(|| {
        vec![Problem::file(
            "has no table; it needs a list of objects such as [{\"time\": ..., \"temp_c\": ...}], or lists of one length \
             by name",
        )]
    })?;
    table(&rows)
}

/// Collects every table of a value.
fn look(value: &Value, found: &mut Vec<Vec<Map<String, Value>>>) {
    match value {
        Value::Array(items) => {
            let objects: Vec<_> = items.iter().filter_map(Value::as_object).cloned().collect();
            if !objects.is_empty() {
                found.push(objects);
            }
        }
        Value::Object(fields) => {
            found.extend(of_lists(fields));
            for inner in fields.values() {
                look(inner, found);
            }
        }
        _ => {}
    }
}

/// The rows of lists of one length that stand beside each other.
fn of_lists(fields: &Map<String, Value>) -> Option<Vec<Map<String, Value>>> {
    let plain = |items: &&Vec<Value>| !items.iter().any(|item| item.is_object() || item.is_array());
    let lists: Vec<(&String, &Vec<Value>)> =
        fields.iter().filter_map(|(name, value)| Some((name, value.as_array().filter(plain)?))).collect();
    let length = lists.iter().map(|(_, items)| items.len()).max().filter(|length| *length > 0)?;
    let of_length: Vec<_> = lists.into_iter().filter(|(_, items)| items.len() == length).collect();
    (of_length.len() > 1).then(|| {
        let row = |at: usize| {
            of_length
                .iter()
                .filter_map(|(name, items)| Some(((*name).clone(), items.get(at)?.clone())))
                .collect()
        };
        (0..length).map(row).collect()
    })
}

fn table(rows: &[Map<String, Value>]) -> Result<Table, Vec<Problem>> {
    let mut places: BTreeMap<String, usize> = BTreeMap::new();
    let mut cells: Vec<BTreeMap<usize, String>> = Vec::with_capacity(rows.len());
    let mut count = 0;
    for (line, row) in rows.iter().enumerate() {
        let mut flat = Vec::new();
        flatten("", row, &mut flat);
        count += flat.len();
        if let Some(problem) = too_large(line + 1, count) {
            return Err(vec![problem]);
        }
        let mut own = BTreeMap::new();
        for (name, text) in flat {
            let next = places.len();
            let at = *places.entry(name).or_insert(next);
            own.insert(at, text);
        }
        if places.len() > MOST_COLUMNS {
            return Err(vec![Problem::file(format!("has more than {MOST_COLUMNS} columns"))]);
        }
        cells.push(own);
    }
    // One order of columns, however a service orders its fields: the header is what its mapping is kept by.
    let in_order: Vec<(String, usize)> = places.into_iter().collect();
    let filled = |own: &BTreeMap<usize, String>| {
        in_order.iter().map(|(_, at)| own.get(at).map_or("", String::as_str)).collect::<csv::StringRecord>()
    };
    let rows = cells.iter().map(filled).collect();
    Ok((in_order.into_iter().map(|(name, _)| name).collect(), rows))
}

/// The plain values of an object, by the path that leads to them; lists within a row are no cells.
fn flatten(path: &str, fields: &Map<String, Value>, into: &mut Vec<(String, String)>) {
    for (name, value) in fields {
        let path = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
        match value {
            Value::Object(inner) => flatten(&path, inner, into),
            Value::Array(_) => {}
            Value::Null => into.push((path, String::new())),
            Value::String(text) => into.push((path, text.trim().to_owned())),
            other => into.push((path, other.to_string())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cells(text: &str) -> (Vec<String>, Vec<Vec<String>>) {
        let (headers, rows) = read(text).unwrap();
        (headers, rows.iter().map(|row| row.iter().map(str::to_owned).collect()).collect())
    }

    #[test]
    fn a_list_of_objects_is_a_table_wherever_it_stands() {
        let (headers, rows) = cells(
            r#"{"station": {"name": "mast", "tags": ["a", "b"]},
                "data": {"hours": [{"at": "2026-07-14T05:00Z", "air": {"t": 9.5, "rh": null}},
                                   {"at": "2026-07-14T06:00Z", "rain": 0, "air": {"t": 11}}]}}"#,
        );
        let mut sorted = headers.clone();
        sorted.sort();
        assert_eq!(sorted, ["air.rh", "air.t", "at", "rain"]);
        let at = |name: &str| headers.iter().position(|h| h == name).unwrap();
        assert_eq!(
            (rows[0][at("air.t")].as_str(), rows[0][at("rain")].as_str()),
            ("9.5", ""),
            "not measured"
        );
        assert_eq!((rows[1][at("air.t")].as_str(), rows[1][at("rain")].as_str()), ("11", "0"));
    }

    #[test]
    fn lists_of_one_length_are_columns() {
        let (headers, rows) = cells(
            r#"{"units": ["C", "mm"], "hourly": {"time": ["a", "b", "c"], "temp": [1, null, 3.5], "note": ["x"]}}"#,
        );
        assert_eq!((headers.len(), rows.len()), (2, 3), "{headers:?}");
        let temp = headers.iter().position(|h| h == "temp").unwrap();
        assert_eq!(rows.iter().map(|row| row[temp].as_str()).collect::<Vec<_>>(), ["1", "", "3.5"]);
    }

    #[test]
    fn what_is_no_table_is_told() {
        for text in
            ["{}", "[]", "[1, 2]", "{\"a\": [1, 2]}", "{\"error\": \"no such station\"}", "[[1], [2]]"]
        {
            assert!(read(text).unwrap_err()[0].message.contains("has no table"), "{text}");
        }
        let broken = read("{\"a\": [\n1,,]}").unwrap_err();
        assert_eq!((broken.len(), broken[0].line), (1, Some(2)));
        assert!(is_one(" \n{\"a\":1}") && is_one("[") && !is_one("date,tmin_c"));
    }
}

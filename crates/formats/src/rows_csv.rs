//! Any list as CSV, quoted where a cell needs it.

/// Writes a header and rows.
#[must_use]
pub fn write<const N: usize>(header: &[&str; N], rows: &[[String; N]]) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let mut wrote = writer.write_record(header).is_ok();
    for row in rows {
        wrote &= writer.write_record(row).is_ok();
    }
    debug_assert!(wrote, "writing to memory does not fail");
    writer.into_inner().ok().and_then(|bytes| String::from_utf8(bytes).ok()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_with_commas_and_quotes_are_quoted() {
        let rows = [["a, b".to_owned(), "say \"so\"".to_owned()]];
        assert_eq!(write(&["x", "y"], &rows), "x,y\n\"a, b\",\"say \"\"so\"\"\"\n");
    }
}

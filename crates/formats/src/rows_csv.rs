//! Any list as CSV, quoted where a cell needs it.

/// A cell that a spreadsheet would run as a formula gets a leading apostrophe; a number stays one.
#[must_use]
pub fn safe(cell: &str) -> String {
    let runs = cell.starts_with(['=', '+', '-', '@', '\t', '\r']) && cell.parse::<f64>().is_err();
    if runs { format!("'{cell}") } else { cell.to_owned() }
}

/// Writes a header and rows.
#[must_use]
pub fn write<const N: usize>(header: &[&str; N], rows: &[[String; N]]) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let mut wrote = writer.write_record(header).is_ok();
    for row in rows {
        wrote &= writer.write_record(row.each_ref().map(|cell| safe(cell))).is_ok();
    }
    debug_assert!(wrote, "writing to memory does not fail");
    writer.into_inner().ok().and_then(|bytes| String::from_utf8(bytes).ok()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_cell_is_a_formula_and_numbers_stay_numbers() {
        for (cell, written) in [
            ("=1+1", "'=1+1"),
            ("@SUM(A1)", "'@SUM(A1)"),
            ("-2+3+cmd|' /C calc'!A0", "'-2+3+cmd|' /C calc'!A0"),
            ("\t=1", "'\t=1"),
            ("-1.50", "-1.50"),
            ("+3", "+3"),
            ("Upper lawn", "Upper lawn"),
            ("", ""),
        ] {
            assert_eq!(safe(cell), written);
            assert_eq!(write(&["x"], &[[cell.to_owned()]]).lines().count(), 2);
        }
    }

    #[test]
    fn cells_with_commas_and_quotes_are_quoted() {
        let rows = [["a, b".to_owned(), "say \"so\"".to_owned()]];
        assert_eq!(write(&["x", "y"], &rows), "x,y\n\"a, b\",\"say \"\"so\"\"\"\n");
    }
}

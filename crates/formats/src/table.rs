//! Reading of small tables: encoding, separator, header, numbers. Shared by the CSV formats.

use std::collections::BTreeMap;

/// Something wrong with a file, at its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// Line in the file, the header being 1; `None` when the whole file is meant.
    pub line: Option<u64>,
    /// Column header, when one is meant.
    pub column: Option<String>,
    /// What is wrong and what to do.
    pub message: String,
}

impl Problem {
    pub(crate) fn file(message: impl Into<String>) -> Self {
        Self { line: None, column: None, message: message.into() }
    }

    pub(crate) fn line(line: u64, message: impl Into<String>) -> Self {
        Self { line: Some(line), column: None, message: message.into() }
    }

    pub(crate) fn cell(line: u64, column: &str, message: impl Into<String>) -> Self {
        Self { line: Some(line), column: Some(column.to_owned()), message: message.into() }
    }
}

impl core::fmt::Display for Problem {
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        if let Some(line) = self.line {
            write!(f, "line {line}")?;
            if let Some(column) = &self.column {
                write!(f, ", {column}")?;
            }
            f.write_str(": ")?;
        }
        f.write_str(&self.message)
    }
}

/// A header that a format knows.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Known<Field> {
    pub header: &'static str,
    pub field: Field,
    /// Turns the number in the file into the field's metric unit.
    pub to_metric: fn(f64) -> f64,
    /// Unit in words, for the preview.
    pub unit: &'static str,
}

/// A column that will be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Column {
    /// Header in the file.
    pub header: String,
    /// Unit it is read in.
    pub unit: &'static str,
}

/// A row: its line and its cells by column index.
pub(crate) struct Row {
    pub line: u64,
    cells: csv::StringRecord,
}

impl Row {
    pub fn cell(&self, index: usize) -> &str {
        self.cells.get(index).map_or("", str::trim)
    }
}

/// An opened table: which known field stands in which column, and the rows.
pub(crate) struct Table<Field: 'static> {
    pub columns: BTreeMap<usize, &'static Known<Field>>,
    /// Columns with names the format does not know.
    pub unknown: Vec<String>,
    /// Index of the key column (`date` or `time`).
    pub key: usize,
    pub rows: Vec<Row>,
    /// Rows that could not be read; the reader of the format adds to them.
    pub problems: Vec<Problem>,
}

/// Decodes a file as text, or says what it is instead.
pub(crate) fn decode(bytes: &[u8]) -> Result<&str, Problem> {
    if bytes.starts_with(&[0xFF, 0xFE]) || bytes.starts_with(&[0xFE, 0xFF]) {
        return Err(Problem::file("the file is in UTF-16; save it again as CSV in UTF-8"));
    }
    let bytes = bytes.strip_prefix(&[0xEF, 0xBB, 0xBF]).unwrap_or(bytes);
    if let Some(at) = bytes.iter().take(65_536).position(|b| *b == 0) {
        return Err(Problem::file(format!(
            "this is not a text file (byte {at} is zero); export the sheet as CSV and choose that file"
        )));
    }
    core::str::from_utf8(bytes).map_err(|error| {
        let before = bytes.get(..error.valid_up_to()).unwrap_or_default();
        let line = 1 + before.iter().filter(|b| **b == b'\n').count() as u64;
        Problem::line(line, "has letters in another encoding; save the file again as CSV in UTF-8")
    })
}

fn separator(first_line: &str) -> u8 {
    let count = |c: char| first_line.matches(c).count();
    if count(';') > count(',') {
        b';'
    } else if count('\t') > count(',') {
        b'\t'
    } else {
        b','
    }
}

/// What a header line says: where the key stands, the columns that are known, and the names of the others.
struct Heads<Field: 'static> {
    key: usize,
    columns: BTreeMap<usize, &'static Known<Field>>,
    unknown: Vec<String>,
}

impl<Field: Copy + PartialEq> Heads<Field> {
    fn of(
        headers: &csv::StringRecord,
        key: &'static str,
        known: &'static [Known<Field>],
    ) -> Result<Self, Vec<Problem>> {
        let mut problems = Vec::new();
        let mut columns: BTreeMap<usize, &'static Known<Field>> = BTreeMap::new();
        let mut unknown = Vec::new();
        let mut key_at = None;
        for (index, raw) in headers.iter().enumerate() {
            let header = raw.trim().to_ascii_lowercase();
            if header == key {
                if key_at.replace(index).is_some() {
                    problems.push(Problem::cell(1, key, "stands twice; keep one"));
                }
            } else if let Some(found) = known.iter().find(|k| k.header == header) {
                if let Some(other) = columns.values().find(|k| k.field == found.field) {
                    let message = format!("says the same as {}; keep one of the two", other.header);
                    problems.push(Problem::cell(1, found.header, message));
                } else {
                    columns.insert(index, found);
                }
            } else if !header.is_empty() {
                unknown.push(raw.trim().to_owned());
            }
        }
        if key_at.is_none() {
            let names: Vec<&str> = known.iter().map(|k| k.header).collect();
            let message = format!(
                "has no column \"{key}\"; the header must name {key} and some of: {}",
                names.join(", ")
            );
            problems.push(Problem::line(1, message));
        }
        match key_at {
            Some(key) if problems.is_empty() => Ok(Self { key, columns, unknown }),
            _ => Err(problems),
        }
    }
}

impl<Field: Copy + PartialEq> Table<Field> {
    /// Opens a table whose key column is `key`; every other column is looked up in `known`.
    ///
    /// # Errors
    /// A file that is no UTF-8 text, has no rows, no key column or two columns for one field: then
    /// its cells mean nothing. Rows of another length than the header are told in `problems`.
    pub fn open(
        bytes: &[u8],
        key: &'static str,
        known: &'static [Known<Field>],
    ) -> Result<Self, Vec<Problem>> {
        let text = decode(bytes).map_err(|problem| vec![problem])?;
        let first = text.lines().find(|l| !l.starts_with('#') && !l.trim().is_empty());
        let Some(first) = first else {
            return Err(vec![Problem::file("the file is empty; it needs a header line and rows")]);
        };
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(separator(first))
            .comment(Some(b'#'))
            .flexible(true)
            .from_reader(text.as_bytes());
        let headers = reader
            .headers()
            .map_err(|error| vec![Problem::line(1, format!("cannot be read as CSV: {error}"))])?
            .clone();
        let Heads { key, columns, unknown } = Heads::of(&headers, key, known)?;
        let (mut rows, mut problems) = (Vec::new(), Vec::new());
        for record in reader.records() {
            match record {
                Ok(cells) => {
                    let line = cells.position().map_or(0, csv::Position::line);
                    if cells.len() == headers.len() {
                        rows.push(Row { line, cells });
                        continue;
                    }
                    let message = format!(
                        "has {} cells, the header {}; check for a stray or missing separator",
                        cells.len(),
                        headers.len()
                    );
                    problems.push(Problem::line(line, message));
                }
                Err(error) => problems.push(Problem::file(format!("cannot be read as CSV: {error}"))),
            }
        }
        if rows.is_empty() && problems.is_empty() {
            problems.push(Problem::file("the file has a header but no rows"));
        }
        if rows.is_empty() {
            return Err(problems);
        }
        Ok(Self { columns, unknown, key, rows, problems })
    }

    /// Whether a field has a column.
    pub fn has(&self, field: Field) -> bool {
        self.columns.values().any(|k| k.field == field)
    }

    /// The header under which a field stands, or its first known name.
    pub fn header(&self, field: Field, known: &'static [Known<Field>]) -> &'static str {
        let present = self.columns.values().copied().find(|k| k.field == field);
        present.or_else(|| known.iter().find(|k| k.field == field)).map_or("", |k| k.header)
    }

    /// The numbers of a row in metric units, each at the place `place` gives its field; what is no
    /// number is added to `problems`.
    pub fn numbers<const N: usize>(
        &self,
        row: &Row,
        place: fn(Field) -> usize,
        problems: &mut Vec<Problem>,
    ) -> [Option<f64>; N] {
        let mut values = [None; N];
        for (&index, column) in &self.columns {
            match number(row.cell(index)) {
                Ok(value) => {
                    if let Some(slot) = values.get_mut(place(column.field)) {
                        *slot = value.map(column.to_metric);
                    }
                }
                Err(message) => problems.push(Problem::cell(row.line, column.header, message)),
            }
        }
        values
    }

    /// A note for each column that is not read.
    pub fn notes(&self) -> Vec<Problem> {
        self.unknown
            .iter()
            .map(|name| Problem::cell(1, name, "is not a column this format knows; it is not read"))
            .collect()
    }

    /// The columns as they will be read.
    pub fn described(&self) -> Vec<Column> {
        self.columns.values().map(|k| Column { header: k.header.to_owned(), unit: k.unit }).collect()
    }
}

/// A number in a cell: `Ok(None)` when empty, else the number, else why it is none.
pub(crate) fn number(cell: &str) -> Result<Option<f64>, String> {
    if cell.is_empty() {
        return Ok(None);
    }
    match cell.parse::<f64>() {
        Ok(value) if value.is_finite() => Ok(Some(value)),
        _ if cell.contains(',') => {
            Err(format!("\"{cell}\" has a decimal comma; write {}", cell.replace(',', ".")))
        }
        _ => Err(format!("\"{cell}\" is not a number; leave the cell empty if it was not measured")),
    }
}

/// A calendar date written YYYY-MM-DD.
pub(crate) fn date(cell: &str) -> Result<jiff::civil::Date, String> {
    let refused = || format!("\"{cell}\" is not a date written YYYY-MM-DD");
    if cell.len() != 10 || cell.as_bytes().get(4) != Some(&b'-') {
        return Err(refused());
    }
    let date = cell.parse().map_err(|_| refused())?;
    if is_recent(date) { Ok(date) } else { Err(format!("\"{cell}\" lies outside the years 1800 to 2200")) }
}

/// Years that a weather record may lie in: nobody measured before, and a later one is a slip of the file.
const YEARS: core::ops::RangeInclusive<i16> = 1800..=2200;

/// Whether a date lies within the years of weather records.
pub(crate) fn is_recent(date: jiff::civil::Date) -> bool {
    YEARS.contains(&date.year())
}

pub(crate) fn same(value: f64) -> f64 {
    value
}

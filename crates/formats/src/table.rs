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

/// Most lines of a text: a year of daily values of every station of a country has about a million.
const MOST_LINES: usize = 1_500_000;
/// Most rows of a table that is held as a whole: 68 years of hours.
pub(crate) const MOST_ROWS: usize = 600_000;
/// Most cells of such a table.
pub(crate) const MOST_CELLS: usize = 6_000_000;
/// Most columns of a table.
pub(crate) const MOST_COLUMNS: usize = 1000;
/// Longest line of a text, bytes.
const LONGEST_LINE: usize = 64 * 1024;
/// Problems of a file that are kept; the others are counted.
const MOST_PROBLEMS: usize = 100;

/// What is wrong with a file: the first hundred, and how many more there are.
#[derive(Debug, Clone, Default)]
pub(crate) struct Problems {
    kept: Vec<Problem>,
    more: usize,
}

impl Problems {
    pub fn push(&mut self, problem: Problem) {
        if self.kept.len() < MOST_PROBLEMS {
            self.kept.push(problem);
        } else {
            self.more += 1;
        }
    }

    pub fn len(&self) -> usize {
        self.kept.len() + self.more
    }

    pub fn is_empty(&self) -> bool {
        self.kept.is_empty()
    }

    /// All that are kept, in the order of their lines, and the number of the others.
    pub fn told(mut self) -> Vec<Problem> {
        self.kept.sort_by_key(|problem| problem.line);
        self.into_found()
    }

    /// The same in the order in which they were found.
    pub fn into_found(mut self) -> Vec<Problem> {
        if self.more > 0 {
            self.kept.push(Problem::file(format!("and {} more of the kind", self.more)));
        }
        self.kept
    }
}

impl Extend<Problem> for Problems {
    fn extend<I: IntoIterator<Item = Problem>>(&mut self, all: I) {
        all.into_iter().for_each(|problem| self.push(problem));
    }
}

impl From<Vec<Problem>> for Problems {
    fn from(all: Vec<Problem>) -> Self {
        let mut problems = Self::default();
        problems.extend(all);
        problems
    }
}

/// Says when a text has more lines, or a longer one, than anything that is read here.
fn bounded(text: &str) -> Result<(), Problem> {
    for (line, length) in (1_u64..).zip(text.split('\n').map(str::len)) {
        if length > LONGEST_LINE {
            let most = LONGEST_LINE / 1024;
            return Err(Problem::line(line, format!("is longer than {most} kB; no table has such a row")));
        }
        if usize::try_from(line).is_ok_and(|line| line > MOST_LINES) {
            return Err(Problem::file(format!(
                "has more than {MOST_LINES} lines; send hours, not minutes, or split the file"
            )));
        }
    }
    Ok(())
}

/// Says when a table that is held as a whole grows beyond what is read here.
pub(crate) fn too_large(rows: usize, cells: usize) -> Option<Problem> {
    let told = |count: usize, what: &str| {
        Problem::file(format!(
            "has more than {count} {what}; send hours, not minutes, leave out columns, or split the file"
        ))
    };
    if rows > MOST_ROWS {
        Some(told(MOST_ROWS, "rows"))
    } else if cells > MOST_CELLS {
        Some(told(MOST_CELLS, "cells"))
    } else {
        None
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
    pub problems: Problems,
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
    let text = core::str::from_utf8(bytes).map_err(|error| {
        let before = bytes.get(..error.valid_up_to()).unwrap_or_default();
        let line = 1 + before.iter().filter(|b| **b == b'\n').count() as u64;
        Problem::line(line, "has letters in another encoding; save the file again as CSV in UTF-8")
    })?;
    bounded(text)?;
    Ok(text)
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

/// The line of a record: its position stands before the remarks and empty lines that it follows.
fn line_of(text: &str, position: &csv::Position) -> u64 {
    let begin = usize::try_from(position.byte()).unwrap_or(usize::MAX);
    let rest = text.get(begin..).unwrap_or_default();
    let skipped = rest.lines().take_while(|line| line.starts_with('#') || line.is_empty()).count();
    position.line() + u64::try_from(skipped).unwrap_or_default()
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
                    problems.push(Problem::cell(1, key, "occurs twice; keep one"));
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
        if headers.len() > MOST_COLUMNS {
            return Err(vec![Problem::line(1, format!("has more than {MOST_COLUMNS} columns"))]);
        }
        let (mut rows, mut problems) = (Vec::new(), Problems::default());
        for record in reader.records() {
            match record {
                Ok(cells) => {
                    let line = cells.position().map_or(0, |at| line_of(text, at));
                    if cells.len() == headers.len() {
                        rows.push(Row { line, cells });
                        if let Some(problem) = too_large(rows.len(), rows.len() * headers.len()) {
                            return Err(vec![problem]);
                        }
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
            return Err(problems.told());
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
        problems: &mut Problems,
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

#[cfg(test)]
mod tests {
    use super::{Known, Problems, Table, date, decode, number, same};

    #[derive(Clone, Copy, PartialEq, Debug)]
    enum Field {
        Rain,
        Wind,
    }

    const KNOWN: &[Known<Field>] = &[
        Known { header: "rain_mm", field: Field::Rain, to_metric: same, unit: "mm" },
        Known { header: "rain_in", field: Field::Rain, to_metric: |inches| inches * 25.4, unit: "in" },
        Known { header: "wind_ms", field: Field::Wind, to_metric: same, unit: "m/s" },
    ];

    fn open(text: &str) -> Result<Table<Field>, Vec<String>> {
        Table::open(text.as_bytes(), "date", KNOWN)
            .map_err(|problems| problems.iter().map(ToString::to_string).collect())
    }

    fn refusal(text: &str) -> String {
        open(text).err().expect("the table is refused").join(" | ")
    }

    #[test]
    fn a_file_that_is_no_text_is_told_what_to_do_with_it() {
        for marks in [[0xFF, 0xFE, b'd'], [0xFE, 0xFF, b'd']] {
            assert!(decode(&marks).unwrap_err().to_string().contains("UTF-16"));
        }
        let zero = decode(b"PK\x03\x04\0").unwrap_err();
        assert_eq!((zero.line, zero.message.contains("byte 4 is zero")), (None, true));
        let latin = decode(b"date,rain_mm\n2026-07-01,1\nS\xE4ntis,2\n").unwrap_err();
        assert_eq!(latin.line, Some(3), "{latin}");
        assert_eq!(decode(b"\xEF\xBB\xBFdate"), Ok("date"), "a byte order mark is no part of the header");
    }

    #[test]
    fn comma_semicolon_and_tab_read_the_same() {
        for separator in [",", ";", "\t"] {
            let text = "date,rain_in\n# a remark\n2026-07-01,0.5\n".replace(',', separator);
            let table = open(&text).expect("readable");
            let row = &table.rows[0];
            let mut problems = Problems::default();
            let values: [Option<f64>; 2] = table.numbers(row, |field| field as usize, &mut problems);
            assert_eq!((row.cell(table.key), row.line), ("2026-07-01", 3), "{separator:?}");
            assert_eq!((values, problems.len()), ([Some(12.7), None], 0), "{separator:?}");
            assert!(table.has(Field::Rain) && !table.has(Field::Wind));
            assert_eq!(table.header(Field::Rain, KNOWN), "rain_in", "as the file writes it");
            assert_eq!(table.header(Field::Wind, KNOWN), "wind_ms", "as it would be written");
        }
    }

    #[test]
    fn a_header_that_says_nothing_or_says_it_twice_is_refused() {
        assert!(refusal("").contains("the file is empty"));
        assert!(refusal("# only a remark\n\n").contains("the file is empty"));
        assert!(refusal("date,rain_mm\n").contains("a header but no rows"));
        let keyless = refusal("day,rain_mm\n2026-07-01,1\n");
        assert!(
            keyless.contains("no column \"date\"") && keyless.contains("rain_mm, rain_in, wind_ms"),
            "{keyless}"
        );
        assert_eq!(refusal("date,Date,rain_mm\n1,2,3\n"), "line 1, date: occurs twice; keep one");
        assert_eq!(
            refusal("date,rain_mm,rain_in\n1,2,3\n"),
            "line 1, rain_in: says the same as rain_mm; keep one of the two"
        );
    }

    #[test]
    fn a_row_of_another_length_is_told_and_the_others_are_kept() {
        let table =
            open("date,Rain_MM,remark\n2026-07-01,1,\n2026-07-02,2\n2026-07-03,3,wet\n").expect("two rows");
        assert_eq!(table.rows.iter().map(|row| row.line).collect::<Vec<_>>(), [2, 4]);
        let told: Vec<String> = table.problems.clone().told().iter().map(ToString::to_string).collect();
        assert_eq!(told, ["line 3: has 2 cells, the header 3; check for a stray or missing separator"]);
        let notes: Vec<String> = table.notes().iter().map(ToString::to_string).collect();
        assert_eq!(notes, ["line 1, remark: is not a column this format knows; it is not read"]);
        let read: Vec<(String, &str)> = table.described().into_iter().map(|c| (c.header, c.unit)).collect();
        assert_eq!(read, [("rain_mm".to_owned(), "mm")]);
    }

    #[test]
    fn a_cell_is_a_number_or_empty_and_never_guessed() {
        assert_eq!(number(""), Ok(None), "not measured is not nought");
        assert_eq!(number("-0.5"), Ok(Some(-0.5)));
        assert_eq!(number("1e2"), Ok(Some(100.0)));
        assert!(number("1,5").unwrap_err().contains("write 1.5"));
        for cell in ["wet", "NaN", "inf", "1 mm"] {
            assert!(number(cell).unwrap_err().contains("is not a number"), "{cell}");
        }
        let table = open("date,rain_mm,wind_ms\n2026-07-01,x,2\n").expect("readable");
        let mut problems = Problems::default();
        let values: [Option<f64>; 2] = table.numbers(&table.rows[0], |field| field as usize, &mut problems);
        assert_eq!(values, [None, Some(2.0)], "the good cell of the row is kept");
        assert_eq!(
            {
                let told = problems.told();
                (told[0].line, told[0].column.clone())
            },
            (Some(2), Some("rain_mm".to_owned()))
        );
    }

    #[test]
    fn what_no_table_is_like_is_refused_before_it_is_held() {
        let long = format!("date,rain_mm\n{}\n", ",".repeat(70_000));
        assert_eq!(refusal(&long), "line 2: is longer than 64 kB; no table has such a row");
        assert!(refusal(&"x\n".repeat(1_500_001)).contains("more than 1500000 lines"));
        let wide = format!("date{}\n1\n", ",".repeat(1000));
        assert!(refusal(&wide).contains("more than 1000 columns"));
        let tall = format!("date,rain_mm\n{}", "1,2\n".repeat(600_001));
        assert!(refusal(&tall).contains("more than 600000 rows"));
        let head: Vec<String> = (0..999).map(|k| format!("c{k}")).collect();
        let area = format!("date,{}\n{}", head.join(","), format!("1{}\n", ",".repeat(999)).repeat(6001));
        assert!(refusal(&area).contains("more than 6000000 cells"));
    }

    #[test]
    fn a_hundred_problems_are_kept_and_the_others_counted() {
        let table = open(&format!("date,rain_mm\n1,2\n{}", "1\n".repeat(250))).expect("one row");
        assert_eq!(table.problems.len(), 250);
        let told = table.problems.told();
        assert_eq!(told.len(), 101);
        assert_eq!(told[100].to_string(), "and 150 more of the kind");
    }

    #[test]
    fn a_date_is_one_of_the_calendar_and_of_our_time() {
        assert!(date("2024-02-29").is_ok() && date("1800-01-01").is_ok() && date("2200-12-31").is_ok());
        for cell in ["2026-02-29", "2026-13-01", "01.07.2026", "20260701", "2026/07/01", ""] {
            assert!(date(cell).unwrap_err().contains("written YYYY-MM-DD"), "{cell}");
        }
        for cell in ["1799-12-31", "2201-01-01"] {
            assert!(date(cell).unwrap_err().contains("1800 to 2200"), "{cell}");
        }
    }
}

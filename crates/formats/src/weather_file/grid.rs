//! A table as text cells, whatever stands above its header.

use super::json_rows;
use crate::table::{MOST_COLUMNS, Problem, too_large};

/// Lines looked at for a header.
const HEADER_WITHIN: usize = 30;

/// A table: header and rows with their lines.
#[derive(Debug, Clone, PartialEq)]
pub struct Grid {
    /// Line of the header.
    pub header_line: u64,
    /// Headers, trimmed.
    pub headers: Vec<String>,
    /// Rows with their lines; a row may be shorter or longer than the header.
    pub rows: Vec<(u64, csv::StringRecord)>,
}

/// The separator that most lines have equally often: decimal commas come and go, separators do not.
fn separator(lines: &[&str]) -> u8 {
    let steady = |candidate: char| {
        let mut counts: std::collections::BTreeMap<usize, usize> = std::collections::BTreeMap::new();
        for line in lines.iter().filter(|l| !l.trim().is_empty()) {
            *counts.entry(line.matches(candidate).count()).or_default() += 1;
        }
        counts.into_iter().filter(|(count, _)| *count > 0).map(|(_, lines)| lines).max().unwrap_or(0)
    };
    // Of equals the last wins: a semicolon is hardly ever anything else.
    [(',', b','), ('\t', b'\t'), (';', b';')]
        .into_iter()
        .max_by_key(|(c, _)| steady(*c))
        .map_or(b',', |(_, byte)| byte)
}

impl Grid {
    /// Cuts a text into cells; JSON becomes rows by their number. Of a table of cells the header is the first line with as
    /// many cells as most of the lines after it and hardly a number in it.
    ///
    /// # Errors
    /// A text without a header or rows.
    pub(crate) fn cut(text: &str) -> Result<Self, Vec<Problem>> {
        if json_rows::is_one(text) {
            let (headers, rows) = json_rows::read(text)?;
            return Ok(Self { header_line: 0, headers, rows: (1..).zip(rows).collect() });
        }
        let sample: Vec<&str> = text.lines().take(HEADER_WITHIN + 20).collect();
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(separator(&sample))
            .has_headers(false)
            .flexible(true)
            .trim(csv::Trim::All)
            .comment(Some(b'#'))
            .from_reader(text.as_bytes());
        let mut lines: Vec<(u64, csv::StringRecord)> = Vec::new();
        let mut count = 0;
        for record in reader.records() {
            let record = record.map_err(|e| vec![Problem::file(format!("cannot be read as CSV: {e}"))])?;
            count += record.len();
            lines.push((record.position().map_or(0, csv::Position::line), record));
            if let Some(problem) = too_large(lines.len(), count) {
                return Err(vec![problem]);
            }
        }
        let is_number = |c: &str| c.replace(',', ".").parse::<f64>().is_ok();
        let at = lines.iter().take(HEADER_WITHIN).position(|(_, cells)| {
            let words = cells.iter().filter(|c| !c.is_empty() && !is_number(c)).count();
            let same_width =
                lines.iter().take(HEADER_WITHIN + 20).filter(|(_, c)| c.len() == cells.len()).count();
            cells.len() > 1
                && words * 3 >= cells.len() * 2
                && same_width * 2 >= lines.len().min(HEADER_WITHIN + 20)
        });
        let Some(at) = at else {
            return Err(vec![Problem::file(
                "no line looks like a header with the names of the columns; add one above the rows",
            )]);
        };
        let rows = lines.split_off(at + 1);
        let Some((header_line, headers)) = lines.pop() else {
            return Err(vec![Problem::file("the file is empty; it needs a header line and rows")]);
        };
        if rows.is_empty() {
            return Err(vec![Problem::file("the file has a header but no rows")]);
        }
        if headers.len() > MOST_COLUMNS {
            let message = format!("has more than {MOST_COLUMNS} columns");
            return Err(vec![Problem::line(header_line, message)]);
        }
        let headers = headers.iter().map(str::to_owned).collect();
        Ok(Self { header_line, headers, rows })
    }

    /// The header as a key under which its mapping is remembered.
    #[must_use]
    pub fn key(&self) -> String {
        self.headers.iter().map(|h| h.to_lowercase()).collect::<Vec<_>>().join("\u{1f}")
    }

    /// Index of a header.
    pub(crate) fn index(&self, header: &str) -> Option<usize> {
        self.headers.iter().position(|h| h == header)
    }

    /// Non-empty cells of a column.
    pub(crate) fn column(&self, index: usize) -> impl Iterator<Item = &str> {
        self.rows.iter().filter_map(move |(_, cells)| cells.get(index)).filter(|c| !c.is_empty())
    }
}

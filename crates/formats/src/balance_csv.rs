//! Input and output of the `balance` command.

use crate::table::{Known, Problem, Table, date, number, same};
use jiff::civil::Date;
use upland_core::ground::balance::DayBalance;
use upland_core::quantity::units::Millimetres;

#[derive(Debug, Clone, Copy, PartialEq)]
enum Field {
    Et0,
    Rain,
    Irrigation,
}

static KNOWN: [Known<Field>; 3] = [
    Known { header: "et0_mm", field: Field::Et0, to_metric: same, unit: "mm" },
    Known { header: "rain_mm", field: Field::Rain, to_metric: same, unit: "mm" },
    Known { header: "irrigation_mm", field: Field::Irrigation, to_metric: same, unit: "mm" },
];

/// One day of input.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct BalanceRow {
    /// The day.
    pub date: Date,
    /// Reference ET; a negative value is counted as zero.
    pub et0: Millimetres,
    /// Rain.
    pub rain: Millimetres,
    /// Net irrigation.
    pub irrigation: Millimetres,
}

/// Reads `date,et0_mm,rain_mm,irrigation_mm`, one row for each consecutive day.
///
/// # Errors
/// Every problem that was found, by line.
pub fn read(bytes: &[u8]) -> Result<Vec<BalanceRow>, Vec<Problem>> {
    let table = Table::open(bytes, "date", &KNOWN)?;
    let missing: Vec<Problem> = KNOWN
        .iter()
        .filter(|k| !table.has(k.field))
        .map(|k| Problem::line(1, format!("has no column {}", k.header)))
        .collect();
    if !missing.is_empty() {
        return Err(missing);
    }
    let mut problems = table.problems.clone();
    let mut rows: Vec<BalanceRow> = Vec::with_capacity(table.rows.len());
    for row in &table.rows {
        let day = date(row.cell(table.key))
            .map_err(|message| problems.push(Problem::cell(row.line, "date", message)))
            .ok();
        let mut values = [0.0; 3];
        for (&index, column) in &table.columns {
            let cell = row.cell(index);
            let value = match number(cell) {
                Ok(Some(value)) if value < 0.0 && column.field != Field::Et0 => {
                    Err(format!("{cell} is below zero"))
                }
                Ok(Some(value)) => Ok(value),
                Ok(None) => Err("is empty; write 0 for none".to_owned()),
                Err(message) => Err(message),
            };
            match value {
                Ok(value) => {
                    if let Some(slot) = values.get_mut(column.field as usize) {
                        *slot = value;
                    }
                }
                Err(message) => problems.push(Problem::cell(row.line, column.header, message)),
            }
        }
        let Some(day) = day else { continue };
        if let Some(last) = rows.last()
            && (day - last.date).get_days() != 1
        {
            problems.push(Problem::cell(
                row.line,
                "date",
                format!("{day} does not follow {}; a balance needs every day once, in order", last.date),
            ));
        }
        let [et0, rain, irrigation] = values.map(Millimetres::from_mm);
        rows.push(BalanceRow { date: day, et0: et0.max(Millimetres::ZERO), rain, irrigation });
    }
    if problems.is_empty() { Ok(rows) } else { Err(problems.told()) }
}

/// Writes `date,depletion_mm,etc_mm,drainage_mm,ks`, six decimals.
#[must_use]
pub fn write(days: impl IntoIterator<Item = (Date, DayBalance)>) -> String {
    let mut out = String::from("date,depletion_mm,etc_mm,drainage_mm,ks\n");
    for (date, day) in days {
        out.push_str(&format!(
            "{date},{:.6},{:.6},{:.6},{:.6}\n",
            day.depletion.mm(),
            day.evapotranspiration.mm(),
            day.drainage.mm(),
            day.stress_coefficient
        ));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_day_once_in_order_and_no_blanks() {
        let rows =
            read(b"date,et0_mm,rain_mm,irrigation_mm\n2026-07-01,-0.1,0,0\n2026-07-02,5,1,2\n").unwrap();
        assert_eq!(rows[0].et0.mm(), 0.0);
        let problems: Vec<_> =
            read(b"date,et0_mm,rain_mm,irrigation_mm\n2026-07-01,5,,0\n2026-07-03,5,-1,0\n")
                .unwrap_err()
                .iter()
                .map(ToString::to_string)
                .collect();
        assert_eq!(
            problems,
            [
                "line 2, rain_mm: is empty; write 0 for none",
                "line 3, rain_mm: -1 is below zero",
                "line 3, date: 2026-07-03 does not follow 2026-07-01; a balance needs every day once, in order",
            ]
        );
    }
}

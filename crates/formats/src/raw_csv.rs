//! A source's record as it came, a value a row, with what it is worth.

use upland_core::codes::Coded;
use upland_core::weather::record::{JudgedDay, Standing, Variable};

/// Writes `date,variable,value,unit,counts,why`.
#[must_use]
pub fn write(days: &[JudgedDay]) -> String {
    let mut out = String::from("date,variable,value,unit,counts,why\n");
    for day in days {
        for variable in Variable::ALL {
            let Some(value) = day.raw.get(variable) else { continue };
            let standing = day.standing(variable);
            let why = match standing {
                Standing::Doubtful(rule) | Standing::Rejected(rule) => rule.words(),
                Standing::Kept => "included manually",
                Standing::Discarded => "excluded manually",
                Standing::Good | Standing::Missing => "",
            };
            let counts = if standing.counts() { "yes" } else { "no" };
            // Rules have no comma or quote but some have colons; none needs quoting.
            let why = why.replace(',', ";");
            out.push_str(&format!(
                "{},{},{value},{},{counts},{why}\n",
                day.raw.date,
                variable.code(),
                variable.unit()
            ));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::weather::record::{Flag, RawDay, Rule, judge};

    #[test]
    fn the_original_is_written_with_its_standing() {
        let day =
            RawDay::new(jiff::civil::date(2026, 7, 1)).with(Variable::Rain, -2.0).with(Variable::Wind, 3.5);
        let flag = Flag { date: day.date, variable: Variable::Rain, rule: Rule::Range };
        assert_eq!(
            write(&judge(&[day], &[flag], &[])),
            "date,variable,value,unit,counts,why\n2026-07-01,wind,3.5,m/s,yes,\n\
             2026-07-01,rain,-2,mm,no,outside what is physically possible\n"
        );
    }
}

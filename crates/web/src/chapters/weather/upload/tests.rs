use super::*;
use jiff::civil::date;

#[test]
fn a_long_file_is_previewed_at_both_ends() {
    let days: Vec<RawDay> =
        (1..=30).map(|d| RawDay::new(date(2026, 6, d)).with(Variable::Rain, f64::from(d))).collect();
    let rows = preview_rows(&days, &Units::of(upland_core::site::UnitSystem::Metric));
    assert_eq!(rows.len(), 8);
    assert!(rows[3].gap_after);
    assert_eq!((rows[0].cells[0].as_str(), rows[7].cells[9].as_str()), ("1 Jun 2026", "30"));
    assert_eq!(rows[0].cells[1], "–");
}

#[test]
fn the_mapping_form_says_what_each_column_holds() {
    let text = "when,low,high,note\n2026-07-13,5,15,x\n";
    let station = crate::fixture::decided(upland_core::site::UnitSystem::Metric).records.site.site.station();
    let Ok(Opened::Asks(proposal)) =
        weather_file::open(text.as_bytes(), &station, &jiff::tz::TimeZone::UTC, None)
    else {
        panic!("it is asked")
    };
    let fields = Fields(
        [
            ("date_column", "when"),
            ("date_order", "year_first"),
            ("holds1", "tmin.f"),
            ("holds2", "tmax.f"),
            ("holds3", ""),
            ("missing", "M -99"),
            ("clock", "60"),
        ]
        .iter()
        .map(|(k, v)| ((*k).to_owned(), (*v).to_owned()))
        .collect(),
    );
    let mapping = read_mapping(&fields, &proposal);
    let columns: Vec<_> = mapping.columns.iter().map(|c| (c.header.as_str(), c.unit.as_str())).collect();
    assert_eq!(columns, [("low", "f"), ("high", "f")]);
    assert_eq!((mapping.missing.len(), mapping.clock), (2, Clock::Fixed(60)));
}

use super::*;
use jiff::civil::date;
use upland_core::quantity::units::Metres;
use upland_core::weather::record::Variable;

fn station() -> Station {
    Station {
        latitude_deg: 46.2,
        longitude_deg: 8.1,
        elevation: Metres::from_m(1040.0),
        wind_height: Metres::from_m(2.0),
    }
}

fn tz() -> TimeZone {
    TimeZone::get("Europe/Zurich").unwrap()
}

fn opened(text: &str) -> Opened {
    open(text.as_bytes(), &station(), &tz(), None).unwrap()
}

fn asked(text: &str) -> Proposal {
    match opened(text) {
        Opened::Asks(proposal) => *proposal,
        Opened::Read(file) => panic!("{:?} was not asked", file.kind),
    }
}

fn read(text: &str) -> WeatherFile {
    match opened(text) {
        Opened::Read(file) => file,
        Opened::Asks(p) => panic!("it asks: {:?}", p.doubts),
    }
}

fn with(text: &str, mapping: &Mapping) -> Result<WeatherFile, Vec<String>> {
    match open(text.as_bytes(), &station(), &tz(), Some(mapping)) {
        Ok(Opened::Read(file)) => Ok(file),
        Ok(Opened::Asks(_)) => panic!("it has a mapping"),
        Err(problems) => Err(problems.iter().map(ToString::to_string).collect()),
    }
}

fn doubts(proposal: &Proposal) -> Vec<(&str, &str)> {
    proposal.doubts.iter().map(|d| (d.at.as_str(), d.message.as_str())).collect()
}

#[test]
fn a_day_a_row_of_daily_summaries_is_in_tenths() {
    let file = read(
        "\"STATION\",\"DATE\",\"LATITUDE\",\"LONGITUDE\",\"ELEVATION\",\"NAME\",\"PRCP\",\"PRCP_ATTRIBUTES\",\"TMAX\",\"TMAX_ATTRIBUTES\",\"TMIN\",\"TMIN_ATTRIBUTES\"\n\
         \"XX000000001\",\"2020-07-01\",\"46.5\",\"8.0\",\"900.0\",\"LARKRIGG VALLEY\",\"  125\",\",,E\",\"  248\",\",,E\",\"   96\",\",,E\"\n\
         \"XX000000001\",\"2020-07-02\",\"46.5\",\"8.0\",\"900.0\",\"LARKRIGG VALLEY\",\"    0\",\",,E\",\"  999\",\",G,E\",\"  101\",\",,E\"\n",
    );
    assert_eq!(file.kind, FileKind::GhcnDaily);
    assert_eq!(file.place.as_ref().unwrap().name, "LARKRIGG VALLEY");
    let first = file.days[0];
    assert!((first.get(Variable::Rain).unwrap() - 12.5).abs() < 1e-9);
    assert!((first.get(Variable::TemperatureMax).unwrap() - 24.8).abs() < 1e-9);
    assert_eq!(file.days[1].get(Variable::TemperatureMax), None, "its publisher flagged it");
    assert!(file.notes[0].message.contains("1 values carry a quality flag"));
}

#[test]
fn a_value_a_row_is_read_with_and_without_its_header_and_asks_for_the_station() {
    let rows = "XX000000001,20200701,TMAX,248,,,E,\nXX000000001,20200701,TMIN,96,,,E,\nXX000000001,20200701,PRCP,-9999,,,E,\n\
                XX000000001,20200701,SNOW,3,,,E,\nXX000000001,20200702,TMIN,90,,I,E,\n";
    let bare = read(rows);
    let headed = read(&format!("ID,DATE,ELEMENT,DATA_VALUE,M_FLAG,Q_FLAG,S_FLAG,OBS_TIME\n{rows}"));
    assert_eq!(bare.days, headed.days);
    assert_eq!(bare.days.len(), 1, "a day of failed values is no day");
    assert_eq!(bare.days[0].get(Variable::Rain), None);
    let two = format!("{rows}XX000000002,20200701,TMAX,300,,,E,\n");
    let refused = open(two.as_bytes(), &station(), &tz(), None).unwrap_err();
    assert!(refused[0].message.contains("2 stations (XX000000001, XX000000002)"), "{refused:?}");
    assert_eq!(stations_of(two.as_bytes()).len(), 2);
    let other = open_station(two.as_bytes(), "XX000000002").unwrap();
    assert_eq!(other.days[0].get(Variable::TemperatureMax), Some(30.0));
    assert!(open_station(two.as_bytes(), "YY").unwrap_err()[0].message.contains("is not in the file"));
}

fn epw(rows: &[String]) -> String {
    let mut text = String::from("LOCATION,Larkrigg,-,XX,made up,000000,46.2,8.1,1.0,1040.0\n");
    for line in [
        "DESIGN CONDITIONS,0",
        "TYPICAL/EXTREME PERIODS,0",
        "GROUND TEMPERATURES,0",
        "HOLIDAYS/DAYLIGHT SAVINGS,No,0,0,0",
        "COMMENTS 1,x",
        "COMMENTS 2,y",
        "DATA PERIODS,1,1,Data,Sunday,1/1,12/31",
    ] {
        text.push_str(line);
        text.push('\n');
    }
    for row in rows {
        text.push_str(row);
        text.push('\n');
    }
    text
}

fn epw_row(year: i16, month: i8, day: i8, hour: i8, temp: f64) -> String {
    format!(
        "{year},{month},{day},{hour},0,x,{temp},8.0,999,99999,0,0,0,{},0,0,0,0,0,0,180,2.5,0,0,0,0,0,0,0,0,0,0,0,0.3,1",
        if (7..=18).contains(&hour) { 300 } else { 0 }
    )
}

#[test]
fn a_building_year_at_no_place_or_in_no_known_year_is_refused_by_line() {
    let rows: Vec<String> = (1..=24).map(|h| epw_row(2009, 7, 1, h, 14.0)).collect();
    for number in ["NaN", "inf", "95"] {
        let text = epw(&rows).replacen("46.2", number, 1);
        assert_ne!(text, epw(&rows), "the latitude of the header is replaced");
        let told = open(text.as_bytes(), &station(), &tz(), None).unwrap_err();
        assert!(told[0].message.contains("LOCATION"), "{number}: {told:?}");
    }
    for year in [9999, -4000, 1700] {
        let rows: Vec<String> = (1..=24).map(|h| epw_row(year, 12, 31, h, 14.0)).collect();
        let told = open(epw(&rows).as_bytes(), &station(), &tz(), None).unwrap_err();
        assert!(told[0].message.contains("year (1800 to 2200)"), "{year}: {told:?}");
    }
    let daily = "date,tmin_c,tmax_c\n9999-12-31,9,20\n";
    assert!(open(daily.as_bytes(), &station(), &tz(), None).is_err());
}

#[test]
fn a_building_year_has_stamps_at_the_end_and_months_of_several_years() {
    let mut rows: Vec<String> = (1..=24).map(|h| epw_row(2009, 7, 1, h, 14.0 + f64::from(h) * 0.3)).collect();
    rows.extend((1..=24).map(|h| epw_row(2003, 8, 1, h, 15.0 + f64::from(h) * 0.3)));
    let file = read(&epw(&rows));
    assert_eq!((file.kind, file.hours.len(), file.days.len()), (FileKind::Epw, 48, 2));
    assert_eq!(file.days[0].date, date(2003, 8, 1), "sorted by time");
    assert!(file.notes.iter().any(|n| n.message.contains("not in order")), "{:?}", file.notes);
    // The first hour ends at 1, so it begins at 0 of its day in standard time, UTC+1.
    assert_eq!(file.hours[24].start.to_string(), "2009-06-30T23:00:00Z");
    assert_eq!(file.hours[24].get(HourVariable::Humidity), None, "999 is not measured");
    assert!((file.days[1].get(Variable::Rain).unwrap() - 24.0 * 0.3).abs() < 1e-9);
    let broken = epw(&["2009,13,1,1,0,x,1".to_owned()]);
    assert!(open(broken.as_bytes(), &station(), &tz(), None).unwrap_err()[0].message.contains("1 to 24"));
}

#[test]
fn a_strange_header_is_asked_with_what_it_seems_to_hold() {
    let text = "Station report\nDatum;T min (F);T max (F);Rain [in];Wind km/h\n\
                13.07.2026;52;81;0,10;9\n14.07.2026;55;M;T;11\n";
    let asks = asked(text);
    assert_eq!(asks.mapping.date_column, "Datum");
    assert_eq!(asks.mapping.date_order, DateOrder::DayFirst, "a thirteenth decides it");
    assert!(asks.mapping.decimal_comma && !asks.mapping.hourly);
    let columns: Vec<_> = asks.mapping.columns.iter().map(|c| (c.quantity, c.unit.as_str())).collect();
    assert_eq!(
        columns,
        [(Quantity::Tmin, "f"), (Quantity::Tmax, "f"), (Quantity::Rain, "in"), (Quantity::Wind, "km_h")]
    );
    assert_eq!(doubts(&asks)[0], ("T max (F)", "M means \"not measured\"."));
    let file = with(text, &asks.mapping).unwrap();
    assert!((file.days[0].get(Variable::TemperatureMin).unwrap() - 11.111).abs() < 1e-3);
    assert!((file.days[0].get(Variable::Rain).unwrap() - 2.54).abs() < 1e-9);
    assert_eq!(file.days[1].get(Variable::TemperatureMax), None);
    assert_eq!(file.days[1].get(Variable::Rain), Some(0.0), "a trace");
    assert_eq!(asked(text).key, asks.key, "the next file with this header finds it");
}

#[test]
fn a_date_that_can_be_read_two_ways_is_asked() {
    let asks = asked("date,tmin,tmax\n03/04/2026,5,15\n05/04/2026,6,16\n");
    let first = doubts(&asks)[0];
    assert_eq!(first.0, "date_order");
    assert!(first.1.contains("day first or month first"));
}

#[test]
fn units_that_the_values_contradict_are_told() {
    let asks =
        asked("day,tmin (C),tmax (C),rain,solar\n2026-07-13,61,88,125,250\n2026-07-14,60,85,330,310\n");
    let said = doubts(&asks);
    assert!(
        said.iter().any(|(at, m)| *at == "tmax (C)"
            && m.contains("header says °C, but values up to 88 look like Fahrenheit")),
        "{said:?}"
    );
    assert!(said.iter().any(|(at, m)| *at == "rain" && m.contains("tenths of a millimetre")), "{said:?}");
    assert!(said.iter().any(|(at, m)| *at == "solar" && m.contains("W/m²")), "{said:?}");
    let file = with(
        "day,tmin (C),tmax (C),rain,solar\n2026-07-13,61,88,125,250\n2026-07-14,60,85,330,310\n",
        &asks.mapping,
    )
    .unwrap();
    assert!((file.days[0].get(Variable::Solar).unwrap() - 21.6).abs() < 1e-9);
    assert!((file.days[0].get(Variable::Rain).unwrap() - 12.5).abs() < 1e-9);
}

#[test]
fn two_stations_in_a_table_are_told_apart() {
    let text = "station,date,tmin_air,tmax_air\nA,2026-07-13,5,15\nB,2026-07-13,7,17\nA,2026-07-14,6,16\nB,2026-07-14,8,18\n";
    let asks = asked(text);
    assert_eq!(asks.stations, ["A", "B"]);
    let mut mapping = asks.mapping;
    mapping.station = Some(("station".into(), "B".into()));
    assert_eq!(with(text, &mapping).unwrap().days[0].get(Variable::TemperatureMin), Some(7.0));
    mapping.station = None;
    assert!(with(text, &mapping).unwrap_err()[0].contains("say which station is meant"));
}

fn hours(first: &str, stamps: impl Iterator<Item = String>) -> String {
    let mut text = format!("{first}\n");
    for (i, stamp) in stamps.enumerate() {
        text.push_str(&format!("{stamp},{}\n", 10.0 + (i % 24) as f64 * 0.1));
    }
    text
}

#[test]
fn a_clock_that_is_never_changed_shows_in_spring() {
    // 29 March 2026: the wall clock skips 02:00.
    let all = hours("time,temp (C)", (0..24).map(|h| format!("2026-03-29 {h:02}:00")));
    let asks = asked(&all);
    assert_eq!(asks.mapping.clock, Clock::Fixed(60));
    assert!(doubts(&asks).iter().any(|(at, m)| *at == "clock" && m.contains("UTC+01:00")));
    let file = with(&all, &asks.mapping).unwrap();
    assert_eq!((file.hours.len(), file.days.len()), (24, 1));
    let wall = hours("time,temp (C)", (0..24).filter(|h| *h != 2).map(|h| format!("2026-03-29 {h:02}:00")));
    assert_eq!(asked(&wall).mapping.clock, Clock::Site);
}

#[test]
fn hours_to_twenty_four_are_stamped_at_their_end() {
    let text = hours("date,hour ending time,temp (C)", (1..=24).map(|h| format!("07/14/2026,{h:02}:00")));
    let asks = asked(&text);
    assert_eq!((asks.mapping.stamp, asks.mapping.date_order), (Stamp::End, DateOrder::MonthFirst));
    let mut mapping = asks.mapping;
    mapping.clock = Clock::Fixed(60);
    let file = with(&text, &mapping).unwrap();
    assert_eq!(file.hours[0].start.to_string(), "2026-07-13T23:00:00Z");
    assert_eq!((file.days.len(), file.days[0].date), (1, date(2026, 7, 14)));
    mapping.clock = Clock::InText;
    assert!(with(&text, &mapping).unwrap_err()[0].contains("carries no offset"));
}

#[test]
fn problems_stand_at_their_line_and_column() {
    let text = "date,tmin,tmax\n2026-07-13,5,15\nsoon,5,15\n2026-07-15,warm,15\n2026-07-16,5\n";
    let mut mapping = asked("date,tmin,tmax\n2026-07-13,5,15\n").mapping;
    insta::assert_snapshot!(with(text, &mapping).unwrap_err().join("\n"));
    mapping.columns[0].header = "gone".into();
    assert!(with(text, &mapping).unwrap_err()[0].contains("no column \"gone\""));
    mapping.columns.clear();
    assert!(with(text, &mapping).unwrap_err()[0].contains("no column is read"));
}

#[test]
fn a_mapping_survives_its_json() {
    let mapping = asked("date,tmin,tmax\n2026-07-13,5,15\n").mapping;
    let json = serde_json::to_value(&mapping).unwrap();
    assert_eq!(serde_json::from_value::<Mapping>(json).unwrap(), mapping);
}

#[test]
fn own_files_are_read_without_a_question() {
    assert_eq!(read("date,tmin_c,tmax_c\n2026-07-13,5,15\n").kind, FileKind::OwnDaily);
    let text = hours(
        "time,temp_c,rh_pct,solar_w_m2,wind_m_s",
        (0..24).map(|h| format!("2026-07-14T{h:02}:00:00+02:00")),
    );
    let text: String = text
        .lines()
        .enumerate()
        .map(|(i, l)| if i == 0 { format!("{l}\n") } else { format!("{l},60,0,2\n") })
        .collect();
    let file = read(&text);
    assert_eq!((file.kind, file.hours.len(), file.days.len()), (FileKind::OwnHourly, 24, 1));
}

proptest::proptest! {
    #[test]
    fn no_bytes_make_it_panic(bytes in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..300)) {
        let _ = open(&bytes, &station(), &tz(), None);
    }

    #[test]
    fn no_table_makes_it_panic(cells in proptest::collection::vec("[0-9a-zA-Z/.:+ -]{0,12}", 1..60), width in 1usize..6) {
        let text: String = cells.chunks(width).map(|row| row.join(",") + "\n").collect();
        for head in ["date,tmin,tmax\n", "time,temp (C)\n", "STATION,DATE,PRCP\n", "LOCATION,a\n", ""] {
            if let Ok(Opened::Asks(asks)) = open(format!("{head}{text}").as_bytes(), &station(), &tz(), None) {
                let _ = with(&format!("{head}{text}"), &asks.mapping);
            }
        }
    }
}

#[test]
fn a_column_that_a_mapping_names_must_be_there_with_a_unit_of_its_kind() {
    let proposal = asked("when,tmin c,tmax c\n2026-07-13,5,15\n2026-07-14,6,16\n");
    let mut mapping = proposal.mapping;
    mapping.columns[0].header = "coldest".into();
    mapping.columns[1].unit = "mm".into();
    let told = with("when,tmin c,tmax c\n2026-07-13,5,15\n", &mapping).unwrap_err();
    assert_eq!(told.len(), 2, "{told:?}");
    assert!(told[0].contains("no column \"coldest\""), "{told:?}");
    assert!(told[1].contains("mm is no unit of"), "{told:?}");
    mapping.columns.clear();
    let told = with("when,tmin c,tmax c\n2026-07-13,5,15\n", &mapping).unwrap_err();
    assert_eq!(told, ["no column is read; say what at least one of them contains"]);
}

#[test]
fn a_row_of_another_length_or_with_a_strange_number_is_told_at_its_place() {
    let text = "when,tmin c,tmax c\n2026-07-13,5,15\n2026-07-14,cold,16\n2026-07-15,4\nsoon,3,12\n";
    let proposal = asked("when,tmin c,tmax c\n2026-07-13,5,15\n2026-07-14,6,16\n");
    let told = with(text, &proposal.mapping).unwrap_err();
    assert_eq!(told.len(), 3, "{told:?}");
    assert!(told[0].contains("line 3") && told[0].contains("\"cold\" is not a number"), "{told:?}");
    assert!(told[1].contains("line 4") && told[1].contains("has 2 cells, the header 3"), "{told:?}");
    assert!(
        told[2].contains("line 5") && told[2].contains("is not a date in the order you said"),
        "{told:?}"
    );
}

#[test]
fn an_hour_that_stands_twice_is_told_with_both_lines() {
    let head = "stamp,temp c\n";
    let hours: String = (0..6).map(|h| format!("2026-07-13 {h:02}:00,{}\n", 10 + h)).collect();
    let proposal = asked(&format!("{head}{hours}"));
    assert!(proposal.mapping.hourly);
    let twice = format!("{head}{hours}2026-07-13 02:00,12\n");
    let told = with(&twice, &proposal.mapping).unwrap_err();
    assert_eq!(told.len(), 1, "{told:?}");
    assert!(told[0].contains("line 8") && told[0].contains("is the same hour as line 4"), "{told:?}");
    let back = format!("{head}2026-07-13 03:00,13\n2026-07-13 01:00,11\n");
    let file = with(&back, &proposal.mapping).unwrap();
    assert!(file.hours[0].start < file.hours[1].start, "hours are brought into order");
    assert_eq!(file.hours[0].get(upland_core::weather::record::HourVariable::Temperature), Some(11.0));
}

#[test]
fn a_file_of_several_stations_is_read_for_the_one_that_was_said() {
    let text = "station,date,tmin c,tmax c\nA,2026-07-13,5,15\nB,2026-07-13,7,19\nA,2026-07-14,6,16\n";
    let proposal = asked(text);
    assert_eq!(proposal.stations.len(), 2, "{:?}", proposal.stations);
    assert!(proposal.doubts.iter().any(|d| d.at == "station"), "{:?}", proposal.doubts);
    let mut mapping = proposal.mapping;
    mapping.station = Some(("station".into(), "B".into()));
    let file = with(text, &mapping).unwrap();
    assert_eq!((file.days.len(), file.days[0].date), (1, date(2026, 7, 13)));
    mapping.station = Some(("station".into(), "C".into()));
    assert_eq!(with(text, &mapping).unwrap_err(), ["no row is of the station you said"]);
}

#[test]
fn the_location_of_a_building_file_is_a_place_on_land_with_an_offset() {
    let file = |location: &str| {
        let head = "\n".repeat(0) + &"X\n".repeat(7);
        open(format!("{location}\n{head}").as_bytes(), &station(), &tz(), None)
    };
    let told = |location: &str| match file(location) {
        Err(problems) => problems[0].to_string(),
        Ok(_) => panic!("{location} was read"),
    };
    let place = "LOCATION,Slope,-,-,X,000000";
    assert!(told(&format!("{place},NaN,8.1,1.0,1040")).contains("of a place on land"));
    assert!(told(&format!("{place},46.2,999,1.0,1040")).contains("of a place on land"));
    assert!(told(&format!("{place},46.2,8.1,99,1040")).contains("time zone 99 is no offset in hours"));
    assert!(told(&format!("{place},46.2,8.1,1.0,1040")).contains("no hours"), "a header and nothing more");
}

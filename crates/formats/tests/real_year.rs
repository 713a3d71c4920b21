//! The whole path of a record, from a strange file to ET0, on a real public hourly year: the TMY3
//! file of Greensboro (US National Renewable Energy Laboratory) that the PyPI package pvlib carries.
//! `bin/test` fetches the package by name and sets `UPLAND_REAL_YEAR`; the file is not kept here.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, clippy::panic)]

use jiff::tz::TimeZone;
use upland_core::quantity::units::Metres;
use upland_core::weather::Station;
use upland_core::weather::record::{Standing, Variable, examine, judge};
use upland_core::weather::reference_et::daily;
use upland_formats::weather_file::{Clock, DateOrder, Mapping, Opened, Stamp, WeatherFile, open};

fn station() -> Station {
    Station {
        latitude_deg: 36.1,
        longitude_deg: -79.95,
        elevation: Metres::from_m(273.0),
        wind_height: Metres::from_m(10.0),
    }
}

fn bytes() -> Vec<u8> {
    let path = std::env::var("UPLAND_REAL_YEAR").unwrap_or_else(|_| {
        panic!("UPLAND_REAL_YEAR is not set; run bin/test, which fetches the file and sets it")
    });
    std::fs::read(path).unwrap()
}

fn read() -> (Mapping, WeatherFile) {
    let (bytes, tz) = (bytes(), TimeZone::get("America/New_York").unwrap());
    let Ok(Opened::Asks(asks)) = open(&bytes, &station(), &tz, None) else { panic!("it is a strange table") };
    let Ok(Opened::Read(file)) = open(&bytes, &station(), &tz, Some(&asks.mapping)) else {
        panic!("{:?}", open(&bytes, &station(), &tz, Some(&asks.mapping)))
    };
    (asks.mapping, file)
}

#[test]
fn its_header_clock_and_sentinels_are_recognised() {
    let (mapping, file) = read();
    assert_eq!((mapping.date_order, mapping.stamp), (DateOrder::MonthFirst, Stamp::End));
    assert_eq!(mapping.clock, Clock::Fixed(-300), "its clock is never changed: UTC-5");
    let columns: Vec<_> = mapping.columns.iter().map(|c| (c.header.as_str(), c.unit.as_str())).collect();
    for expected in [
        ("GHI (W/m^2)", "w_m2"),
        ("Dry-bulb (C)", "c"),
        ("Dew-point (C)", "c"),
        ("RHum (%)", "pct"),
        ("Wspd (m/s)", "m_s"),
        // Its header says mm; 8 345 of them in a year, in steps of a hundredth of an inch written as 3,
        // 5, 8, 13, are tenths: 834 mm.
        ("Lprecip depth (mm)", "tenths_mm"),
    ] {
        assert!(columns.contains(&expected), "{expected:?} in {columns:?}");
    }
    let rain: f64 = file.days.iter().filter_map(|d| d.get(Variable::Rain)).sum();
    assert!((rain - 834.5).abs() < 0.05, "{rain}");
    assert_eq!((file.hours.len(), file.days.len()), (8760, 365));
    assert!(file.notes.iter().any(|n| n.message.contains("months of several years")), "{:?}", file.notes);
}

#[test]
fn every_day_s_et0_agrees_with_refet() {
    let (_, file) = read();
    let judged = judge(&file.days, &examine(&file.days, &station()), &[]);
    let expected = include_str!("data/real_year.csv");
    let mut compared = 0;
    for line in expected.lines().skip(2) {
        let cells: Vec<&str> = line.split(',').collect();
        let at = judged.binary_search_by_key(&cells[0].parse().unwrap(), |d| d.raw.date).unwrap();
        let day = &judged[at];
        let value = |i: usize| cells[i].parse::<f64>().unwrap();
        assert_eq!(day.raw.get(Variable::TemperatureMin), Some(value(1)), "{line}");
        assert_eq!(day.raw.get(Variable::TemperatureMax), Some(value(2)), "{line}");
        let et = daily(&day.effective().weather().unwrap(), &station());
        assert!((et.et0.mm() - value(3)).abs() < 1e-6, "{line}: {}", et.et0.mm());
        assert!(et.fills.is_empty(), "everything was measured: {:?}", et.fills);
        compared += 1;
    }
    assert_eq!(compared, 365);
}

#[test]
fn a_real_year_passes_the_rules_but_for_a_few_doubts() {
    let (_, file) = read();
    let judged = judge(&file.days, &examine(&file.days, &station()), &[]);
    let standings = || judged.iter().flat_map(|d| Variable::ALL.map(|v| d.standing(v)));
    let rejected: Vec<_> = standings().filter(|s| matches!(s, Standing::Rejected(_))).collect();
    assert_eq!(rejected, [], "a checked public year has no impossible value");
    let doubtful = standings().filter(|s| matches!(s, Standing::Doubtful(_))).count();
    assert!(doubtful < 40, "{doubtful} doubts in 365 days");
}

/// The rain of this year fell by the hour, 834 mm of it: every step of a switch must do something else with it.
#[test]
fn the_steps_of_a_rain_switch_differ_on_its_hours() {
    use std::collections::BTreeMap;
    use upland_core::account::sensed::as_read;
    use upland_core::advice::rain_replay::steps;
    use upland_core::quantity::time::midnight;
    use upland_core::sensors::state::{Cause, rain_holds};
    use upland_core::sensors::{Channel, Release, generic};
    use upland_core::weather::climate::{Climate, RainHours};
    use upland_core::weather::record::HourVariable;

    let (_, file) = read();
    let tz = TimeZone::get("Etc/GMT+5").unwrap();
    let days: Vec<_> = judge(&file.days, &examine(&file.days, &station()), &[])
        .iter()
        .filter_map(|day| day.effective().weather())
        .collect();
    let mut hours: RainHours = BTreeMap::new();
    for hour in &file.hours {
        if let Some(mm) = hour.get(HourVariable::Rain).filter(|mm| *mm > 0.0) {
            hours.entry(hour.local_date).or_default().push((hour.start, mm));
        }
    }
    let climate = Climate::from_record(&days, station()).with_rain_hours(hours);
    let span = climate.span().unwrap();
    let read = as_read(&climate, -79.95, span.first, span.last, &tz);
    let (_, switch) = generic().into_iter().find(|(code, _)| *code == "rain_switch").unwrap();
    let end = midnight(span.last.tomorrow().unwrap(), &tz);
    for release in [Release::DriesOut { vent: 0.7 }, Release::Days(2)] {
        let all: Vec<_> = steps(&switch)
            .into_iter()
            .map(|mm| rain_holds(mm, release, &read.channels[&Channel::Rain], &read.drying, end))
            .collect();
        let trips: Vec<usize> = all.iter().map(Vec::len).collect();
        assert!(trips.len() >= 5 && trips.windows(2).all(|pair| pair[0] > pair[1]), "{release:?}: {trips:?}");
        for hold in all.iter().flatten() {
            let Cause::Rain { fallen_mm, since } = hold.cause else { panic!("{hold:?}") };
            let named = read.channels[&Channel::Rain].between(since, hold.from).iter();
            assert!((named.map(|r| r.value).sum::<f64>() - fallen_mm).abs() < 1e-9, "{hold:?}");
            assert!(fallen_mm < 80.0, "no rain piles up without end: {hold:?}");
        }
    }
}

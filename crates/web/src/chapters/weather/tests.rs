//! The room over two sources: ten days of the site's own sensor, of which one was excluded manually and one is
//! doubtful, and a station that goes on for two days more.

use super::choices::SourceOption;
use super::*;
use crate::fixture;
use jiff::civil::{Date, date};
use jiff::{Timestamp, ToSpan};
use upland_core::quantity::units::Metres;
use upland_core::site::UnitSystem;
use upland_core::weather::record::{RawDay, examine, judge};
use upland_store::weather::{Choice, SourcePlace, SourceRecord};

fn source(id: i64, kind: SourceKind, name: &str, place: Option<SourcePlace>) -> SourceRecord {
    let saved_at = Timestamp::UNIX_EPOCH;
    SourceRecord { id, kind, name: name.into(), place, saved_by: "Bram".into(), saved_at }
}

fn days(first: Date, count: i32) -> Vec<RawDay> {
    (0..count)
        .map(|i| {
            RawDay::new(first + i.days())
                .with(Variable::TemperatureMin, 8.0 + f64::from(i % 3))
                .with(Variable::TemperatureMax, 21.0 + f64::from(i % 4))
                .with(Variable::Rain, if i == 4 { 6.0 } else { 0.0 })
        })
        .collect()
}

fn left_out(id: i64, on: Date, undone: bool) -> OverruleRecord {
    OverruleRecord {
        id,
        overrule: Overrule {
            date: on,
            variable: Variable::TemperatureMax,
            keep: false,
            reason: "the screen fell off".into(),
        },
        said_by: "Isla".into(),
        said_at: Timestamp::UNIX_EPOCH,
        undone,
    }
}

fn weather(said: &[OverruleRecord]) -> SiteWeather {
    let site = fixture::decided(UnitSystem::Metric).records.site.site.clone();
    let far = SourcePlace {
        latitude_deg: 46.09,
        longitude_deg: -30.0,
        elevation: Metres::from_m(940.0),
        wind_height: Metres::from_m(10.0),
    };
    let sources = vec![
        source(3, SourceKind::Own, "Record of the site", None),
        source(5, SourceKind::Station, "Valley mast", Some(far)),
        source(9, SourceKind::Normals, "Table", None),
    ];
    let overrules: Vec<Overrule> = said.iter().filter(|o| !o.undone).map(|o| o.overrule.clone()).collect();
    let judged = |raw: Vec<RawDay>, at: &SourceRecord, overrules: &[Overrule]| {
        judge(&raw, &examine(&raw, &at.station(&site)), overrules)
    };
    let own = judged(days(date(2026, 7, 1), 10), &sources[0], &overrules);
    let mast = judged(days(date(2026, 7, 1), 12), &sources[1], &[]);
    SiteWeather {
        days: vec![own, mast, Vec::new()],
        sources,
        choice: None,
        normals: None,
        rain_hours: Vec::new(),
        forecast: Vec::new(),
    }
}

fn import(id: i64, source_id: i64, hours: i32) -> Import {
    Import {
        id,
        source_id,
        file_name: "july.csv".into(),
        first_date: date(2026, 7, 1),
        last_date: date(2026, 7, 10),
        days_new: 8,
        days_changed: 1,
        days_same: 1,
        hours,
        imported_by_id: 1,
        imported_by: "Bram".into(),
        imported_at: "2026-07-14T19:30:00Z".parse().unwrap(),
        undone: false,
    }
}

fn room(weather: &SiteWeather, said: &[OverruleRecord]) -> Room {
    let records = fixture::decided(UnitSystem::Metric).records;
    let said = BTreeMap::from([(3, said.to_vec())]);
    Room::of(&records, weather, vec![import(1, 3, 0), import(2, 77, 240)], &[], &said)
}

#[test]
fn sentence_4_a_refused_choice_keeps_what_was_picked_beside_what_is_stored() {
    let shown = room(&weather(&[]), &[]);
    let stored = &shown.choices[0];
    let chosen = |options: &[SourceOption]| options.iter().find(|o| o.chosen).map(|o| o.id);
    assert_eq!((chosen(&stored.first), chosen(&stored.second)), (Some(3), Some(5)));
    let own = stored.with_picked(&[5]);
    assert_eq!((chosen(&own.first), chosen(&own.second)), (Some(5), None));
    let names = format!("{}, then {}", stored.first[0].name, stored.first[1].name);
    assert_eq!(own.stored.as_deref(), Some(names.as_str()));
    assert_eq!(stored.with_picked(&[3, 5]).stored, None, "nothing differs");
    assert_eq!(chosen(&stored.with_picked(&[]).first), None);
}

#[test]
fn the_room_says_what_counts_from_how_many_sources() {
    let shown = room(&weather(&[]), &[]);
    assert_eq!(
        shown.lead, "12 days count, combined from 2 sources, variable by variable.",
        "typed normals are no record"
    );
    assert_eq!(shown.chart_sources.iter().map(|(id, _)| *id).collect::<Vec<_>>(), [3, 5]);
    assert!(shown.choice_words.starts_with("Nobody has chosen yet"));
    assert_eq!(shown.choices.len(), VariableGroup::ALL.len());
    assert!(shown.choices.iter().all(|c| c.first.len() == 2 && c.first[0].chosen && c.second[1].chosen));
    let (mut alone, none) = (
        weather(&[]),
        SiteWeather {
            sources: Vec::new(),
            days: Vec::new(),
            choice: None,
            normals: None,
            rain_hours: Vec::new(),
            forecast: Vec::new(),
        },
    );
    alone.sources.truncate(1);
    alone.days.truncate(1);
    assert!(room(&alone, &[]).lead.starts_with("10 days count, from one source."));
    assert!(room(&none, &[]).lead.starts_with("No weather yet."));
}

#[test]
fn a_source_says_where_it_stands_what_it_has_and_what_it_counts_for() {
    let shown = room(&weather(&[]), &[]);
    let [own, mast, table] = shown.sources.as_slice() else { panic!("three sources") };
    assert_eq!((own.place.as_str(), own.days, own.missing), ("at the site", 10, 0));
    assert_eq!(own.span, "1 Jul 2026 to 10 Jul 2026");
    assert!(own.counts_for.contains("temperature") && mast.counts_for.is_empty());
    assert_eq!(mast.place, "10.0 km off, -100 m", "0.09 degrees of latitude are ten kilometres");
    assert!(own.has_days && mast.has_days && !table.has_days);
    assert_eq!((table.span.as_str(), table.days), ("not due", 0));
    let mut chosen = weather(&[]);
    chosen.choice = Some(Choice {
        id: 4,
        order: VariableGroup::ALL
            .map(|group| if group == VariableGroup::Rain { vec![3] } else { vec![5, 3] }),
        reason: "the gauge stands free".into(),
        chosen_by: "Isla".into(),
        chosen_at: "2026-07-02T08:00:00Z".parse().unwrap(),
    });
    let shown = room(&chosen, &[]);
    assert_eq!(shown.choice_words, "Chosen by Isla on 2 Jul 2026: the gauge stands free");
    assert_eq!(shown.choice_id, "4");
    assert_eq!(shown.sources[0].counts_for, "rain");
    assert!(shown.sources[1].counts_for.contains("temperature"));
}

#[test]
fn what_a_person_left_out_is_listed_with_the_reason_and_the_way_back() {
    let said = [left_out(1, date(2026, 7, 3), false), left_out(2, date(2026, 7, 5), true)];
    let shown = room(&weather(&said), &said);
    assert_eq!((shown.flagged_count, shown.flagged.len()), (1, 1), "what was taken back is no flag");
    let flag = &shown.flagged[0];
    assert_eq!((flag.day.as_str(), flag.standing, flag.counts), ("3 Jul 2026", "excluded manually", false));
    assert_eq!((flag.why.as_str(), flag.said), ("Isla: the screen fell off", Some(1)));
    assert_eq!(flag.value, "23 °C", "the value as it came");
    assert_eq!(shown.sources[0].rejected, 1);
    assert_eq!(
        shown.lead, "12 days count, combined from 2 sources, variable by variable.",
        "the mast stands in"
    );
}

#[test]
fn the_newest_flags_are_listed_and_the_rest_counted() {
    let frozen: Vec<RawDay> = (0..60)
        .map(|i| {
            RawDay::new(date(2026, 5, 1) + i.days())
                .with(Variable::TemperatureMin, 9.0)
                .with(Variable::TemperatureMax, 20.0)
        })
        .collect();
    let mut stuck = weather(&[]);
    let station = stuck.sources[0].station(&fixture::decided(UnitSystem::Metric).records.site.site);
    stuck.days[0] = judge(&frozen, &examine(&frozen, &station), &[]);
    let shown = room(&stuck, &[]);
    assert_eq!(shown.flagged.len(), MAX_FLAGGED);
    assert!(shown.flagged_count > 100, "both temperatures never moved: {}", shown.flagged_count);
    assert_eq!(shown.flagged[0].date, jiff::civil::date(2026, 6, 29), "the newest first");
    assert!(shown.flagged[0].why.contains("the very same value"), "{}", shown.flagged[0].why);
}

#[test]
fn an_import_says_what_it_brought_and_of_which_source() {
    let shown = room(&weather(&[]), &[]);
    let [first, second] = shown.imports.as_slice() else { panic!("two imports") };
    assert_eq!(first.source, "Record of the site");
    assert_eq!(first.what, "8 new, 1 changed, 1 already known");
    assert_eq!(first.who, "Bram, 14 Jul 2026 18:30");
    assert_eq!(second.source, "removed", "its source was taken away since");
    assert!(second.what.ends_with("; 240 hours"));
}

#[test]
fn problems_stand_at_their_line_and_column_and_the_first_are_listed() {
    let all: Vec<Problem> = (0..250)
        .map(|i| Problem {
            line: Some(i),
            column: (i % 2 == 0).then(|| "tmax_c".into()),
            message: "odd".into(),
        })
        .collect();
    let shown = lines(&all);
    assert_eq!(shown.len(), MAX_LISTED);
    assert_eq!((shown[0].at.as_str(), shown[1].at.as_str()), ("line 0, tmax_c", "line 1"));
    let whole = lines(&[Problem { line: None, column: None, message: "empty".into() }]);
    assert_eq!(whole[0].at, "whole file");
}

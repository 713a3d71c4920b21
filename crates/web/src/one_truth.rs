//! One question asked of every view: what a controller will do in a night, who holds it, and whether that is right.

use crate::chapters::round::{changes, round_for_tests};
use crate::fixture;
use crate::fixture::key;
use crate::page::headline::headline;
use crate::site::clock::{Moment, evening};
use crate::site::snapshot::SiteSnapshot;
use jiff::civil::{Date, date, time};
use jiff::{SignedDuration, Timestamp, ToSpan};
use proptest::prelude::*;
use std::sync::Arc;
use upland_core::account::running::ControllerRun;
use upland_core::account::site_account::EvidencePolicy;
use upland_core::advice::tonight::{Tonight, Verdict, ZoneTonight, account_of, tonight};
use upland_core::controller::schedule::{Days, Settings, YearSpan};
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::span::{DateSpan, TimeSpan};
use upland_core::quantity::time::Seconds;
use upland_core::sensors::{Sensor, generic};
use upland_core::site::UnitSystem;
use upland_formats::night_csv;
use upland_store::rounds::{NightState, NoticeKind};
use upland_store::sensors::{SensorEvent, SensorEventKind, SensorRecord};
use upland_store::settings::{SettingsKind, SettingsRecord};

/// What can be different about a night.
#[derive(Debug, Clone)]
struct Case {
    back: i32,
    starts: Vec<(i8, i8)>,
    minutes: Vec<i64>,
    every: u8,
    percentage: u16,
    delay: Option<u8>,
    off_season: bool,
    sensor: &'static str,
    bypassed: bool,
}

fn case() -> impl Strategy<Value = Case> {
    (
        (
            0..12_i32,
            proptest::collection::vec((0..24_i8, 0..60_i8), 1..4),
            proptest::collection::vec(0..40_i64, 4),
        ),
        (1..4_u8, 10..200_u16, proptest::option::of(1..6_u8), prop::bool::weighted(0.15)),
        (
            prop::sample::select(vec!["rain_switch", "rain_freeze_switch", "wind_switch", "weather_station"]),
            any::<bool>(),
        ),
    )
        .prop_map(
            |((back, starts, minutes), (every, percentage, delay, off_season), (sensor, bypassed))| Case {
                back,
                starts,
                minutes,
                every,
                percentage: percentage / 10 * 10,
                delay,
                off_season,
                sensor,
                bypassed,
            },
        )
}

impl Case {
    fn date(&self) -> Date {
        date(2026, 7, 14) - self.back.days()
    }

    fn settings(&self) -> Settings {
        let mut settings = fixture::controller_snapshot().settings();
        for program in &mut settings.programs {
            program.active = false;
        }
        settings.programs[0].active = true;
        settings.programs[0].starts = self.starts.iter().map(|(h, m)| time(*h, *m, 0, 0)).collect();
        settings.programs[0].days = Days::EveryNth { interval: self.every, first: date(2026, 7, 1) };
        settings.programs[0].run_times.clear();
        for (station, minutes) in (1..).zip(&self.minutes) {
            settings.set_run_time(0, station, Seconds::from_min(*minutes));
        }
        settings.percentages = settings.percentages.all_at(Percentage::from_percent(self.percentage));
        settings.rain_delay = self.delay.map(|days| (self.date() - 1.day(), days));
        settings.off_season = self.off_season.then_some(YearSpan { from: (7, 1), until: (8, 31) });
        settings
    }
}

/// Runs as they can be compared: station, begin, end of water, and how many hold it.
fn told<'a>(runs: impl IntoIterator<Item = &'a ControllerRun>) -> Vec<(u16, Timestamp, Timestamp, usize)> {
    let mut all: Vec<_> =
        runs.into_iter().map(|r| (r.run.station, r.run.start, r.until, r.held_by.len())).collect();
    all.sort_unstable();
    all
}

fn cells(line: &str) -> Vec<&str> {
    line.split(',').collect()
}

/// Whether a verdict may stand beside the numbers of its row.
fn may_stand(zone: &ZoneTonight) -> bool {
    let will = zone.will.as_ref().unwrap();
    let waters = will.waters().any();
    let wanted = zone.due && zone.night.barred.is_none();
    let (stays, missing) = (will.stays().mm(), zone.depletion.mm());
    match zone.verdict.unwrap() {
        Verdict::Right => waters || !wanted,
        Verdict::NotNeeded => waters && !zone.due && missing < stays,
        Verdict::TooMuch => waters && stays > missing,
        Verdict::RunsOff => waters && will.runs_off() > 0.0,
        Verdict::TooLittle => wanted && (!waters || stays < missing),
        Verdict::Forbidden => waters && will.forbidden.is_some(),
        Verdict::Held => !will.runs.is_empty() && !waters,
        Verdict::NothingReaches => wanted && will.runs.is_empty(),
    }
}

/// What the headline may say beside the rows, by its words.
fn headline_stands(text: &str, night: &Tonight) -> bool {
    let count = |verdict| night.of_verdict(verdict).count();
    let due = night.zones.iter().filter(|z| z.due).count();
    let runs = night.will_run().count();
    let table = [
        ("nothing is due", due == 0 && runs == 0),
        ("no zone is due yet", due == 0 && runs > 0),
        ("that is right", due > 0 && runs > 0 && count(Verdict::TooLittle) + count(Verdict::NotNeeded) == 0),
        ("wait", night.zones.iter().any(|z| z.due && z.night.barred.is_some())),
        ("too little", count(Verdict::TooLittle) > 0),
        ("too much", count(Verdict::TooMuch) > 0),
        ("none", count(Verdict::NotNeeded) > 0),
        ("will run nothing", runs == 0),
        ("due and held", night.of_verdict(Verdict::Held).any(|z| z.due)),
    ];
    table.into_iter().all(|(words, stands)| !text.contains(words) || stands)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    // Long: one view after another.
    #[test]
    fn every_view_answers_the_same_about_a_night(case in case()) {
        let mut records = Arc::into_inner(fixture::decided(UnitSystem::Metric).records).unwrap();
        let settings = case.settings();
        records.controllers[0].settings = Some(SettingsRecord {
            version: 1,
            kind: SettingsKind::AsFound,
            reason: "as found".into(),
            settings: settings.clone(),
            saved_by: "Bram".into(),
            saved_at: Timestamp::UNIX_EPOCH,
        });
        let card = generic().into_iter().find(|(code, _)| *code == case.sensor).unwrap().1;
        records.sensors = vec![SensorRecord {
            id: 1,
            site_id: key(1),
            installed_on: date(2026, 1, 1),
            history: upland_core::sensors::SensorHistory::default(),
            feeds_weather: true,
            version: 1,
            sensor: Sensor::of_card(card, 1),
            saved_by: "Bram".into(),
            saved_at: Timestamp::UNIX_EPOCH,
        }];
        let date = case.date();
        let at = evening(date, &records.tz);
        if case.bypassed {
            records.sensor_events = vec![SensorEvent {
                id: 1,
                sensor_id: 1,
                kind: SensorEventKind::Bypass,
                from: at - SignedDuration::from_hours(1),
                until: Some(at + SignedDuration::from_hours(30)),
                reason: "new turf".into(),
                body: serde_json::json!({}),
                said_by: "Bram".into(),
                said_at: Timestamp::UNIX_EPOCH,
                undone: false,
            }];
        }
        let moment = Moment { date, at, record_ended: None };
        let snapshot = SiteSnapshot::noted_for_tests(Arc::new(records), Vec::new(), moment);
        let facts = &snapshot.inputs;
        let night: Tonight = tonight(facts, &account_of(facts, EvidencePolicy::Best, date, at), 1, date);

        // Today, controller and zone by zone.
        let of_zones = night.zones.iter().filter_map(|z| z.will.as_ref()).flat_map(|will| &will.runs);
        prop_assert_eq!(told(of_zones), told(&night.runs), "every station has a zone");
        // The verdicts and the headline beside the numbers of the rows.
        for zone in &night.zones {
            prop_assert!(may_stand(zone), "{:?} beside due deficit {} {:?} will {:?}", zone.verdict, zone.due, zone.depletion, zone.will);
        }
        let text = headline(&night, &snapshot.tz);
        prop_assert!(headline_stands(&text, &night), "{text}");
        // The list of sites, its notices and the weekly list.
        let round = round_for_tests(&snapshot, &[]);
        prop_assert_eq!(&round.nights[0].sentence[0], &text);
        let all_right = night.zones.iter().all(|z| z.verdict == Some(Verdict::Right));
        prop_assert_eq!(round.nights[0].state == NightState::Right, all_right);
        let of_night = round.notices.iter().filter(|n| n.kind == NoticeKind::Night);
        prop_assert_eq!(of_night.count(), usize::from(!all_right));
        let card = snapshot.records.controllers[0].record.controller.card.clone();
        for call in &round.calls {
            if let Some(advised) = call.advised {
                prop_assert!(card.takes_percentage(advised), "a percentage that the controller type has");
                let said = round.notices.iter().filter(|n| n.kind == NoticeKind::Percentage);
                let told = said.filter(|n| n.words[0].contains(&format!("to {} %", advised.percent())));
                prop_assert!(!changes(call) || told.count() == 1, "{:?} is in its notice", call);
            }
        }
        // Sensors.
        let own = &snapshot.records.controllers[0];
        prop_assert_eq!(told(&snapshot.tonight(own).unwrap()), told(&night.runs));
        // Programs, of the saved settings as of a draft.
        let controller = crate::site::controller_snapshot::ControllerSnapshot::of_site_for_tests(&snapshot);
        let TimeSpan { from: begin, until: end } = controller.night(date);
        let drafted = controller.runs_of(&settings, DateSpan::new(date - 1.day(), date + 1.day()));
        let drafted: Vec<_> = drafted.iter().filter(|r| (begin..end).contains(&r.run.start)).collect();
        prop_assert_eq!(told(drafted), told(&night.runs));
        // Calendar and work by hand: the valves that really open.
        let open: Vec<_> = controller.openings(&settings, DateSpan::new(date - 1.day(), date + 1.day()));
        let open = open.iter().filter(|r| (begin..end).contains(&r.start)).map(|r| (r.station, r.start, r.end));
        let waters = night.runs.iter().filter(|r| !r.is_held());
        let mut waters: Vec<_> = waters.map(|r| (r.run.station, r.run.start, r.until)).collect();
        let mut open: Vec<_> = open.collect();
        waters.sort_unstable();
        open.sort_unstable();
        prop_assert_eq!(open, waters);
        // The command and the sheet's file.
        let names = vec!["Sensor".to_owned()];
        let csv = night_csv::write(&night, &names, &snapshot.tz);
        for (line, zone) in csv.lines().skip(1).zip(&night.zones) {
            let row = cells(line);
            let will = zone.will.as_ref().unwrap();
            prop_assert_eq!(row[row.len() - 1], zone.verdict.unwrap().label());
            prop_assert_eq!(row[row.len() - 3].split_whitespace().count(), will.starts().count());
            let minutes: f64 = row[row.len() - 4].parse().unwrap();
            prop_assert!((minutes - will.waters().minutes().min_value()).abs() < 0.006);
        }
        // A bypassed sensor holds nothing anywhere.
        if case.bypassed {
            use upland_core::account::running::Holder;
            let by_sensor = |r: &ControllerRun| r.held_by.iter().any(|h| matches!(h, Holder::Sensor { .. }));
            prop_assert!(!night.runs.iter().any(by_sensor));
        }
    }
}

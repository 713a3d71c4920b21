//! Every importer through its bounded reader, fed with what its corpus becomes when it is broken: bytes flipped, pieces cut,
//! doubled, mixed with another file, numbers put to their edges, deep nests. Prints what each took; ends with 1 when any
//! broke off, took over five seconds, or the process grew by more than 200 MB.
//!
//! `cargo run --release -p upland-formats --example fuzz -- [INPUTS] [SEED]`; what broke an importer is kept in `target/fuzz/`.
#![allow(
    clippy::unwrap_used,
    clippy::indexing_slicing,
    clippy::disallowed_methods,
    reason = "a tool that breaks things on purpose"
)]

use jiff::civil::date;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::Path;
use std::time::{Duration, Instant};
use upland_core::quantity::units::Metres;
use upland_core::weather::Station;
use upland_core::weather::climate::Climate;
use upland_formats::log_file::LogFile;
use upland_formats::site_file::{self, SiteFile};
use upland_formats::typed::{self, Habit};
use upland_formats::weather_file::{self, Opened};
use upland_formats::{
    card_file, log_file, ordinance_file, plan_geojson, plan_lines, sensor_file, settings_file, trial_file,
    visit_file, way_file,
};

/// Longest that one input may take.
const MOST_TIME: Duration = Duration::from_secs(5);
/// Most by which the process may grow, kB.
const MOST_GROWTH_KB: u64 = 200 * 1024;
/// Longest input that is made; the bound of the readers themselves is tried by `bin/test`.
const LONGEST: usize = 60_000;
/// Numbers at which readers break.
const EDGES: [&str; 16] = [
    "0",
    "-1",
    "1e308",
    "-1e308",
    "inf",
    "NaN",
    "99999999999999999999",
    "1e-320",
    "",
    "0x10",
    "2026-02-30",
    "9999-12-31",
    "0001-01-01",
    "-4000-01-01",
    "24:00",
    "é",
];

/// A small generator of numbers; the same seed breaks the same way.
struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    fn below(&mut self, most: usize) -> usize {
        usize::try_from(self.next() % u64::try_from(most.max(1)).unwrap()).unwrap()
    }
}

/// Breaks a file once.
fn broken(mut bytes: Vec<u8>, other: &[u8], dice: &mut Dice) -> Vec<u8> {
    let at = dice.below(bytes.len());
    let piece = |dice: &mut Dice, len: usize| {
        let from = dice.below(len);
        from..(from + 1 + dice.below(200)).min(len)
    };
    match dice.below(11) {
        0 if !bytes.is_empty() => bytes[at] ^= 1 << dice.below(8),
        1 => bytes.insert(at, [0, b'"', b',', b'{', b'\n', 0xff, b';', b'-'][dice.below(8)]),
        2 if !bytes.is_empty() => drop(bytes.drain(piece(dice, bytes.len()))),
        3 if !bytes.is_empty() => {
            let doubled = bytes[piece(dice, bytes.len())].to_vec();
            bytes.splice(at..at, doubled);
        }
        4 if !other.is_empty() => {
            let theirs = other[piece(dice, other.len())].to_vec();
            bytes.splice(at..at, theirs);
        }
        5 => bytes.truncate(at),
        6 => {
            let deep = [b'[', b'{', b'"', b','][dice.below(4)];
            bytes.splice(at..at, std::iter::repeat_n(deep, 1 + dice.below(3000)));
        }
        7 if !bytes.is_empty() => {
            let lines: Vec<&[u8]> = bytes.split(|b| *b == b'\n').collect();
            let line = lines[dice.below(lines.len())].to_vec();
            let many = 1 + dice.below(50);
            bytes.extend(std::iter::repeat_n(line, many).flatten());
        }
        _ => {
            // A number becomes one at which readers break.
            let is = |b: &u8| b.is_ascii_digit() || matches!(b, b'.' | b'-');
            if let Some(from) = bytes.iter().skip(at).position(is).map(|n| n + at) {
                let until = bytes.iter().skip(from).position(|b| !is(b)).map_or(bytes.len(), |n| n + from);
                bytes.splice(from..until, EDGES[dice.below(EDGES.len())].bytes());
            }
        }
    }
    bytes.truncate(LONGEST);
    bytes
}

/// What the importers need beside a file.
struct World {
    station: Station,
    tz: TimeZone,
    site: SiteFile,
    facts: upland_core::account::site_account::AccountInputs,
}

/// Whether an importer takes an input.
type Reader = fn(&[u8], &World) -> bool;

/// Every field reader, line by line.
fn typed_fields(bytes: &[u8], _: &World) -> bool {
    let text = String::from_utf8_lossy(bytes);
    let today = date(2026, 7, 14);
    let mut taken = false;
    for line in text.lines().take(200) {
        let habit = Habit::default();
        taken |= typed::number(line).is_ok();
        taken |= typed::duration(line).is_ok();
        taken |= typed::time_of_day(line, habit).is_ok();
        taken |= typed::times(line, habit).is_ok();
        taken |= typed::date(line, today, habit).is_ok();
        taken |= typed::month_day(line, habit).is_ok();
        taken |= typed::date_and_time(line, today, habit).is_ok();
        taken |= typed::days(line, today, habit).is_ok();
        taken |= typed::slope_percent(line).is_ok();
        taken |= typed::quantity(line, "mm").is_ok();
        taken |= typed::program_line(line, today, habit).is_ok();
    }
    taken
}

/// A weather file as it is opened, and once more with what was proposed for a strange one.
fn weather(bytes: &[u8], world: &World) -> bool {
    match weather_file::open(bytes, &world.station, &world.tz, None) {
        Ok(Opened::Read(_)) => true,
        Ok(Opened::Asks(asked)) => {
            weather_file::open(bytes, &world.station, &world.tz, Some(&asked.mapping)).is_ok()
        }
        Err(_) => false,
    }
}

/// The importers, each with the ends of the names of its corpus.
const READERS: [(&str, &[&str], Reader); 12] = [
    ("weather", &[".csv", ".epw", "hours-list.json", "hours-lists.json"], weather),
    ("site", &["site.json", "site-of-log.json"], |b, _| site_file::read(b).is_ok()),
    ("settings", &["settings.json"], |b, _| settings_file::read(b).is_ok()),
    ("card", &["card.json"], |b, _| card_file::read(b).is_ok()),
    ("ordinance", &["ordinance.json"], |b, _| ordinance_file::read(b).is_ok()),
    ("sensor", &["sensor.json", "settings.json"], |b, _| sensor_file::read(b).is_ok()),
    ("log", &["log.json"], |b, w| log_file::read(b, &w.site).is_ok()),
    ("way", &["way.json", "settings.json"], |b, w| way_file::read(b, &w.facts).is_ok()),
    ("trial", &["trial.json", "site.json"], |b, _| trial_file::read(b).is_ok()),
    ("visit", &["visit.json", "log.json"], |b, w| visit_file::read(b, &w.facts).is_ok()),
    ("plan", &["plan.geojson", "plan-lines.txt"], |b, _| {
        let text = String::from_utf8_lossy(b);
        plan_geojson::read(&text, 46.0, 8.0).is_ok() | plan_lines::read(&text, ("m", 1.0)).is_ok()
    }),
    ("typed fields", &["typed.txt"], typed_fields),
];

#[derive(Default)]
struct Tally {
    inputs: u64,
    taken: u64,
    broke: u64,
    slowest: Duration,
}

fn resident_kb(what: &str) -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with(what)).unwrap_or_default();
    line.split_whitespace().nth(1).and_then(|kb| kb.parse().ok()).unwrap_or(0)
}

fn main() {
    let mut arguments = std::env::args().skip(1);
    let inputs: u64 = arguments.next().and_then(|n| n.parse().ok()).unwrap_or(100_000);
    let mut dice = Dice(arguments.next().and_then(|n| n.parse().ok()).unwrap_or(1).max(1) * 0x9E37_79B9);
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("examples/corpus");
    let mut corpus: Vec<(String, Vec<u8>)> = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .map(|path| (path.file_name().unwrap().to_string_lossy().into_owned(), std::fs::read(path).unwrap()))
        .collect();
    corpus.sort();
    let of = |name: &str| corpus.iter().find(|(known, _)| known == name).unwrap().1.clone();
    let site = site_file::read(&of("site-of-log.json")).unwrap();
    let (station, tz) = (site.site.station(), TimeZone::UTC);
    let climate = Climate::from_record(&[], Station { wind_height: Metres::from_m(2.0), ..station });
    let facts = site.facts(tz.clone(), climate, LogFile::default(), date(2026, 7, 14));
    let world = World { station, tz, site, facts };
    std::panic::set_hook(Box::new(|_| {}));
    let begun_kb = resident_kb("VmRSS");
    let mut tallies: BTreeMap<&str, Tally> = BTreeMap::new();
    for n in 0..inputs {
        let (name, ends, read) = READERS[dice.below(READERS.len())];
        let own: Vec<&Vec<u8>> = corpus
            .iter()
            .filter(|(file, _)| ends.iter().any(|end| file.ends_with(end)))
            .map(|(_, b)| b)
            .collect();
        let mut bytes = own[dice.below(own.len())].clone();
        let other = &corpus[dice.below(corpus.len())].1;
        for _ in 0..dice.below(5) {
            bytes = broken(bytes, other, &mut dice);
        }
        let began = Instant::now();
        let outcome = catch_unwind(AssertUnwindSafe(|| read(&bytes, &world)));
        let took = began.elapsed();
        let tally = tallies.entry(name).or_default();
        tally.inputs += 1;
        tally.slowest = tally.slowest.max(took);
        tally.taken += u64::from(matches!(outcome, Ok(true)));
        if outcome.is_err() || took > MOST_TIME {
            tally.broke += 1;
            let kept = Path::new("target/fuzz");
            let _ = std::fs::create_dir_all(kept);
            let _ = std::fs::write(kept.join(format!("{name}-{n}")), &bytes);
        }
    }
    println!("importer       inputs     taken    broke  slowest");
    for (name, tally) in &tallies {
        let ms = tally.slowest.as_secs_f64() * 1000.0;
        println!("{name:12} {:8}  {:8} {:8} {ms:7.1} ms", tally.inputs, tally.taken, tally.broke);
    }
    let grown_kb = resident_kb("VmHWM").saturating_sub(begun_kb);
    println!("{inputs} inputs, grown by {} MB at most", grown_kb / 1024);
    let broke: u64 = tallies.values().map(|tally| tally.broke).sum();
    if broke > 0 || grown_kb > MOST_GROWTH_KB || tallies.values().any(|tally| tally.taken == 0) {
        std::process::exit(1);
    }
}

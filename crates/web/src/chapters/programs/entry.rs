//! Keying a controller as fast as on paper: what is in use, a program in one line, what the programs come to.

use super::settings_form::{self, ReadFor, TextError, Texts};
use crate::page::dates::{DateFormat, typed_times};
use crate::page::quantities::{counted, depth};
use crate::server::request_locale::habit;
use crate::server::session::Fields;
use crate::site::controller_snapshot::ControllerSnapshot;
use jiff::Timestamp;
use std::cell::LazyCell;
use upland_core::controller::schedule::{ProgramTotal, Settings, event_length, program_totals};
use upland_core::controller::{Card, PercentageScope};
use upland_core::quantity::month::Month;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::Millimetres;
use upland_core::site::UnitSystem;
use upland_formats::typed::{self, ProgramLine};
use upland_store::drafts::SettingsDraft;

/// Reads settings for a controller.
pub(super) fn read(snapshot: &ControllerSnapshot, fields: &Fields) -> Result<Settings, Vec<TextError>> {
    let there = &snapshot.installation;
    let rate = |station: u16| there.zone(station).map(|zone| zone.resolved.rate.value);
    let of = ReadFor { card: &there.card, today: snapshot.today, rate: &rate, units: snapshot.units() };
    settings_form::read(fields, &of)
}

/// Programs and stations of a controller that are in use, or were added to be keyed.
pub(super) struct InUse {
    pub programs: Vec<usize>,
    pub stations: Vec<u16>,
}

impl InUse {
    pub fn of(snapshot: &ControllerSnapshot, texts: &Texts) -> Self {
        let card = &snapshot.installation.card;
        let clean = settings_form::texts(&Settings::clean(card));
        let differs = |name: &str, text: &str| clean.get(name).map_or("", String::as_str) != text;
        let added: Vec<&str> = texts.get("shown").map_or("", String::as_str).split(' ').collect();
        let used = |prefix: &str| {
            let mut own = texts.iter().filter(|(name, _)| name.starts_with(prefix));
            own.any(|(name, text)| differs(name, text)) || added.contains(&prefix.trim_end_matches('-'))
        };
        // The first is always there: a form never loses the line that somebody was about to key.
        let programs: Vec<usize> =
            (0..usize::from(card.programs)).filter(|i| *i == 0 || used(&format!("p{i}-"))).collect();
        let timed = |n: u16| {
            (0..card.programs).any(|i| texts.get(&format!("p{i}-m{n}")).is_some_and(|text| !text.is_empty()))
        };
        let mut stations: Vec<u16> = (1..=card.stations)
            .filter(|n| snapshot.installation.zone(*n).is_some() || timed(*n) || used(&format!("s{n}-")))
            .collect();
        if stations.is_empty() {
            stations.push(1);
        }
        Self { programs, stations }
    }

    /// The first program that is not in use, with its name.
    pub fn next_program(&self, card: &Card) -> Option<(usize, String)> {
        let next = (0..usize::from(card.programs)).find(|i| !self.programs.contains(i))?;
        Settings::clean(card).programs.get(next).map(|p| (next, p.name.clone()))
    }

    /// How much of the controller is not shown.
    pub fn not_shown(&self, card: &Card) -> String {
        let programs = usize::from(card.programs).saturating_sub(self.programs.len());
        let stations = usize::from(card.stations).saturating_sub(self.stations.len());
        match (programs, stations) {
            (0, 0) => String::new(),
            (0, stations) => format!("{} not in use.", counted(stations, "station")),
            (programs, 0) => format!("{} not in use.", counted(programs, "program")),
            (programs, stations) => {
                format!("{} and {} not in use.", counted(programs, "program"), counted(stations, "station"))
            }
        }
    }
}

/// The lines of a form with what a line says of a program put in; with what was done, in words.
///
/// # Errors
/// What cannot be read or held, for beside the line.
pub(super) fn with_line(
    snapshot: &ControllerSnapshot,
    texts: &Texts,
    line: &str,
) -> Result<(Texts, String), String> {
    let there = &snapshot.installation;
    let card = &there.card;
    let said = typed::program_line(line, snapshot.today, habit()).map_err(|refusal| refusal.to_string())?;
    let names: Vec<String> = Settings::clean(card)
        .programs
        .iter()
        .enumerate()
        .map(|(i, clean)| texts.get(&format!("p{i}-name")).cloned().unwrap_or_else(|| clean.name.clone()))
        .collect();
    let index = names
        .iter()
        .position(|name| name.eq_ignore_ascii_case(&said.program))
        .or_else(|| {
            let mut letters = said.program.chars();
            let letter = letters.next().filter(|_| letters.next().is_none())?.to_ascii_uppercase();
            ('A'..='Z').position(|l| l == letter).filter(|i| *i < names.len())
        })
        .ok_or_else(|| {
            format!(
                "\"{}\" is no program of this controller; begin the line with {}.",
                said.program,
                names.join(", ")
            )
        })?;
    if let Some((station, _)) = said.run_times.iter().find(|(n, _)| *n > card.stations) {
        return Err(format!("The controller has {} stations; there is no station {station}.", card.stations));
    }
    let mut texts = texts.clone();
    put(&mut texts, card, index, &said, snapshot.today);
    let name = names.get(index).cloned().unwrap_or_default();
    Ok((texts, format!("Program {name}: {}. Nothing is stored until you save.", words(&said))))
}

/// Puts a line into the form.
fn put(texts: &mut Texts, card: &Card, index: usize, said: &ProgramLine, today: jiff::civil::Date) {
    let at = |field: &str| format!("p{index}-{field}");
    if said.off {
        texts.remove(&at("active"));
    } else {
        texts.insert(at("active"), "on".into());
    }
    if let Some(starts) = &said.starts {
        texts.insert(at("starts"), typed_times(starts));
    }
    texts.extend(said.days.into_iter().flat_map(|days| settings_form::day_lines(index, days)));
    if let Some(percentage) = said.percentage {
        let name = match card.percentage_scope {
            PercentageScope::Controller => "percent".to_owned(),
            PercentageScope::Program => at("percent"),
            PercentageScope::Month => settings_form::month_field(Month::of(today)),
        };
        texts.insert(name, percentage.percent().to_string());
    }
    for (station, run_time) in &said.run_times {
        texts.insert(at(&format!("m{station}")), settings_form::minutes(*run_time));
    }
}

/// What a line said, as a person reads it.
fn words(said: &ProgramLine) -> String {
    let mut parts = Vec::new();
    if said.off {
        parts.push("off".to_owned());
    }
    if let Some(starts) = &said.starts {
        parts.push(typed_times(starts));
    }
    parts.extend(said.days.map(|days| typed::write_days(days, habit())));
    parts.extend(said.percentage.map(|p| p.to_string()));
    if !said.run_times.is_empty() {
        let times = said.run_times.iter().map(|(n, t)| format!("{n} for {}", typed::write_duration(*t)));
        parts.push(format!("stations {}", times.collect::<Vec<_>>().join(", ")));
    }
    parts.join("; ")
}

/// What a program comes to.
pub(super) struct TotalLine {
    pub index: usize,
    pub name: String,
    /// What one start waters at the percentage of its next day.
    pub waters: String,
    /// The run times added up, where that is something else.
    pub keyed: String,
    pub spans: Vec<String>,
    pub next: String,
}

/// What each program with run times comes to.
pub(super) fn totals(snapshot: &ControllerSnapshot, settings: &Settings) -> Vec<TotalLine> {
    let there = &snapshot.installation;
    let clock = |at: Timestamp| at.to_zoned(there.tz.clone()).formatted("%H:%M");
    let from = |date| program_totals(settings, &there.card, &there.tz, date);
    // Worked out only where a program asks for it: every draft passes here.
    let tomorrow = LazyCell::new(|| snapshot.today.tomorrow().map(from).unwrap_or_default());
    // A program whose starts of today are over waters next on its next day.
    let over = |total: &ProgramTotal| {
        total.next == Some(snapshot.today) && total.spans.last().is_some_and(|span| span.from <= snapshot.at)
    };
    from(snapshot.today)
        .into_iter()
        .filter(|total| total.keyed.any())
        .map(|total| if over(&total) { tomorrow.get(total.program).cloned().unwrap_or(total) } else { total })
        .map(|total| {
            let percentage = total.next.map(|date| settings.percentages.of(total.program, date));
            let waters = if total.next.is_some() { total.waters } else { total.keyed };
            TotalLine {
                index: total.program,
                name: settings.programs.get(total.program).map_or(String::new(), |p| p.name.clone()),
                waters: typed::write_duration(waters),
                keyed: match percentage {
                    Some(percentage) if waters != total.keyed => {
                        format!("{} programmed, at {percentage}", typed::write_duration(total.keyed))
                    }
                    _ => String::new(),
                },
                spans: total
                    .spans
                    .iter()
                    .map(|span| format!("{} to {}", clock(span.from), clock(span.until)))
                    .collect(),
                next: match (total.next, total.days_left(snapshot.today)) {
                    (Some(_), Some(0)) => "waters today".into(),
                    (Some(next), Some(1)) => format!("next {}, 1 day left", next.formatted("%a %-d %b")),
                    (Some(next), Some(days)) => {
                        format!("next {}, {days} days left", next.formatted("%a %-d %b"))
                    }
                    _ => "does not water: switched off, or without a start or a day".into(),
                },
            }
        })
        .collect()
}

/// What a station with a zone gets of one start of each program.
pub(super) struct StationTotal {
    pub number: u16,
    pub waters: String,
    pub depth: String,
    pub measure: String,
}

/// The depth whose minutes are listed: half an inch, or ten millimetres.
pub(super) fn measure(units: UnitSystem) -> (Millimetres, String) {
    match units {
        UnitSystem::Metric => (Millimetres::from_mm(10.0), "10 mm".into()),
        UnitSystem::UsCustomary => (Millimetres::from_inches(0.5), "1/2 in".into()),
    }
}

/// What stations get of one start, and what the measure takes there.
pub(super) fn station_totals(snapshot: &ControllerSnapshot, settings: &Settings) -> Vec<StationTotal> {
    let there = &snapshot.installation;
    let (measured, _) = measure(snapshot.units());
    there
        .zones_by_station()
        .into_iter()
        .map(|zone| {
            let (station, rate) = (zone.zone.number, zone.resolved.rate.value);
            let own: Vec<_> = settings
                .programs
                .iter()
                .enumerate()
                .filter(|(i, program)| program.active && settings.run_time(*i, station).any())
                .map(|(i, program)| {
                    let longest = settings.station(station).cycle_and_soak.map(|(cycle, _)| cycle);
                    let percentage = settings.percentages.of(i, snapshot.today);
                    let time = event_length(&there.card, settings.run_time(i, station), percentage, longest);
                    (program.name.clone(), time)
                })
                .collect();
            let each = |say: &dyn Fn(Seconds) -> String| match own.as_slice() {
                [] => "–".to_owned(),
                [(_, only)] => say(*only),
                several => several
                    .iter()
                    .map(|(name, t)| format!("{name} {}", say(*t)))
                    .collect::<Vec<_>>()
                    .join(", "),
            };
            StationTotal {
                number: station,
                waters: each(&typed::write_duration),
                depth: each(&|time| depth(snapshot.units(), rate.over_time(time.minutes()))),
                measure: typed::write_duration(Seconds::of(rate.time_for(measured), |s| {
                    (s / 60.0).round() * 60.0
                })),
            }
        })
        .collect()
}

/// A draft that was found again, in words.
pub(super) fn found_again(snapshot: &ControllerSnapshot, draft: &SettingsDraft) -> String {
    let at = draft.typed_at.to_zoned(snapshot.records.tz.clone()).formatted("%a %-d %b, %H:%M");
    let since = match snapshot.saved() {
        Some(saved) if saved.version > draft.base_version => format!(
            " It was begun on version {}; version {} was saved since by {}, and both come together when you save.",
            draft.base_version, saved.version, saved.saved_by
        ),
        _ => String::new(),
    };
    format!("Your draft of {at} is here as you left it; it is not saved.{since}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::controller::schedule::Days;
    use upland_core::quantity::time::WEEKDAYS;

    fn ticked(texts: &Texts, program: usize) -> Vec<&'static str> {
        let on = |k: &usize| texts.get(&format!("p{program}-d{k}")).is_some_and(|text| text == "on");
        (0..7).filter(on).filter_map(|k| WEEKDAYS.get(k).copied()).collect()
    }

    fn clean(snapshot: &ControllerSnapshot) -> Texts {
        settings_form::texts(&Settings::clean(&snapshot.installation.card))
    }

    #[test]
    fn a_program_in_one_line_is_the_program_that_was_meant() {
        let snapshot = fixture::controller_snapshot();
        let (texts, said) = with_line(&snapshot, &clean(&snapshot), "A 02:00 mon wed fri 1 12 2 7m30 3 1/2h")
            .unwrap_or_else(|e| panic!("{e}"));
        assert_eq!(ticked(&texts, 0), ["Mon", "Wed", "Fri"]);
        let settings = read(&snapshot, &Fields(texts.clone())).unwrap();
        let minutes: Vec<i64> = settings.programs[0].run_times.iter().map(|(_, t)| t.s()).collect();
        assert_eq!((minutes, settings.programs[0].active), (vec![720, 450, 1800], true));
        assert_eq!(
            said,
            "Program A: 02:00; Mon Wed Fri; stations 1 for 12 min, 2 for 7 min 30 s, 3 for 30 min. Nothing is stored until you save."
        );
        // The next line adds to what is there; a name stands for its letter.
        let (texts, _) = with_line(&snapshot, &texts, "b 4 am every 3rd day, 2 left 90% 4 20").unwrap();
        let settings = read(&snapshot, &Fields(texts)).unwrap();
        assert_eq!(settings.programs[0].run_times.len(), 3);
        let first = snapshot.today.checked_add(jiff::Span::new().days(2)).unwrap();
        assert_eq!(settings.programs[1].days, Days::EveryNth { interval: 3, first });
        for (line, says) in [
            ("Q 02:00 mon 1 12", "\"Q\" is no program of this controller; begin the line with A, B, C."),
            ("A 02:00 mon 13 12", "there is no station 13"),
            ("A 02:00 mon 1 1:30", "1 h 30 min or as 1 min 30 s"),
        ] {
            let why = with_line(&snapshot, &clean(&snapshot), line).unwrap_err();
            assert!(why.contains(says), "{line}: {why}");
        }
    }

    #[test]
    fn what_is_in_use_is_shown_and_what_is_added() {
        let snapshot = fixture::controller_snapshot();
        let mut texts = clean(&snapshot);
        let used = InUse::of(&snapshot, &texts);
        assert_eq!(
            (used.programs.as_slice(), used.stations.len()),
            ([0].as_slice(), 4),
            "one program and the zones"
        );
        assert_eq!(used.next_program(&snapshot.installation.card), Some((1, "B".into())));
        assert_eq!(used.not_shown(&snapshot.installation.card), "2 programs and 8 stations not in use.");
        texts.insert("shown".into(), "p2 s9".into());
        texts.insert("p1-m11".into(), "10".into());
        let used = InUse::of(&snapshot, &texts);
        assert_eq!(used.programs, [0, 1, 2], "the first stays, empty or not");
        assert!(used.stations.contains(&9) && used.stations.contains(&11) && !used.stations.contains(&10));
    }

    #[test]
    fn totals_tell_the_end_the_next_day_and_the_depth() {
        let snapshot = fixture::controller_snapshot();
        let (texts, _) =
            with_line(&snapshot, &clean(&snapshot), "A 02:00 every 3rd day, 2 left 50% 1 30 2 30").unwrap();
        let settings = read(&snapshot, &Fields(texts)).unwrap();
        let total = totals(&snapshot, &settings).remove(0);
        assert_eq!((total.waters.as_str(), total.keyed.as_str()), ("30 min", "1 h programmed, at 50 %"));
        assert_eq!(total.spans, ["02:00 to 02:30"]);
        assert!(total.next.ends_with(", 2 days left"), "{}", total.next);
        let stations = station_totals(&snapshot, &settings);
        assert_eq!((stations[0].number, stations[0].waters.as_str()), (1, "15 min"));
        assert_eq!(stations[3].waters, "–");
        // The measure and the depth are one rate.
        let rate = snapshot.installation.zone(1).unwrap().resolved.rate.value;
        let ten = typed::duration(&stations[0].measure).unwrap().minutes().min_value();
        assert!((ten - rate.time_for(Millimetres::from_mm(10.0)).min_value()).abs() < 0.51);
    }
}

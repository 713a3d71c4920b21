//! One entry of a visit as a form: what was typed becomes what was seen, and what was seen becomes words.

use crate::page::dates::typed_times;
use crate::page::forms::{FieldError, Reader};
use crate::page::quantities::{flow, plain, share, span, volume};
use crate::page::units::{PERCENT, SIGNED_PERCENT, Units};
use crate::server::request_locale::habit;
use crate::server::session::Fields;
use jiff::civil::{Date, Time};
use jiff::{SignedDuration, Timestamp, ToSpan};
use std::collections::BTreeMap;
use upland_core::account::site_account::AccountInputs;
use upland_core::codes::Coded;
use upland_core::controller::schedule::Settings;
use upland_core::quantity::bounds;
use upland_core::quantity::ratio::{Percentage, Share};
use upland_core::quantity::time::{MinuteOfDay, Seconds};
use upland_core::quantity::units::{Litres, LitresPerMinute};
use upland_core::site::{StationId, SurveyedZone, UnitSystem};
use upland_core::tuning::{ControllerSeen, NIGHTS, ProgramSeen, SensorSeen, Sign, ZoneSeen, et_sensor};
use upland_formats::typed::{self, Read, Refusal};
use upland_formats::visit_file::{Entry, MAX_NOTE, program_names};

fn code<T: Coded>(fields: &Fields, name: &str) -> Option<T> {
    T::from_code(fields.get(name))
}

fn yes(fields: &Fields, name: &str) -> Option<bool> {
    match fields.get(name) {
        "yes" => Some(true),
        "no" => Some(false),
        _ => None,
    }
}

fn note(fields: &Fields, errors: &mut Vec<FieldError>) -> String {
    let text = fields.get("note");
    if text.chars().count() > MAX_NOTE {
        errors.push(("note", format!("At most {MAX_NOTE} characters.")));
    }
    text.to_owned()
}

/// What was typed of a zone.
pub(super) fn zone(
    fields: &Fields,
    controller_number: u8,
    station: u16,
    units: UnitSystem,
) -> Result<Entry, Vec<FieldError>> {
    let mut reader = Reader::new(fields);
    let available = reader.optional("available", PERCENT, &bounds::AVAILABLE_SHARE, None);
    let read = reader.optional("flow", Units::of(units).flow, &bounds::READ_FLOW, None);
    let mut errors = reader.errors;
    let seen = ZoneSeen {
        controller_number,
        station,
        looks: code(fields, "looks"),
        signs: Sign::ALL.into_iter().filter(|sign| !fields.get(sign.code()).is_empty()).collect(),
        plants: code(fields, "plants"),
        available: available.map(Share::from_fraction),
        soil: code(fields, "soil"),
        flow: read.map(LitresPerMinute::from_l_per_min),
        note: note(fields, &mut errors),
    };
    if errors.is_empty() { Ok(Entry::Zone(seen)) } else { Err(errors) }
}

/// What was typed of a sensor.
pub(super) fn sensor(fields: &Fields, name: &str) -> Entry {
    let (holds, covered, sprayed) = (yes(fields, "holds"), yes(fields, "covered"), yes(fields, "sprayed"));
    Entry::Sensor(SensorSeen { name: name.to_owned(), holds, covered, sprayed })
}

/// What was typed of the site.
pub(super) fn site(fields: &Fields, units: UnitSystem) -> Result<Entry, Vec<FieldError>> {
    let mut reader = Reader::new(fields);
    let meter =
        reader.optional("meter", Units::of(units).meter, &bounds::METER_COUNT, None).map(Litres::from_l);
    let mut errors = reader.errors;
    let note = note(fields, &mut errors);
    let wet_elsewhere = !fields.get("wet_elsewhere").is_empty();
    if errors.is_empty() { Ok(Entry::Site { meter, wet_elsewhere, note }) } else { Err(errors) }
}

/// How far a clock that shows a time is ahead at an instant, within half a day either way.
fn ahead(shown: Time, at: Timestamp, facts: &AccountInputs) -> Seconds {
    let right = i64::from(MinuteOfDay::of(at.to_zoned(facts.tz.clone()).time()).minutes());
    let off = (i64::from(MinuteOfDay::of(shown).minutes()) - right + 720).rem_euclid(1440) - 720;
    Seconds::from_min(off)
}

/// Nights that the percentages of an ET sensor are asked for, the last first.
pub(super) fn nights_asked(facts: &AccountInputs, number: u8, today: Date) -> Vec<Date> {
    let has = facts.of_controller(number).and_then(et_sensor).is_some();
    let back = (1..=i64::try_from(NIGHTS).unwrap_or(14)).filter(|_| has);
    back.filter_map(|k| today.checked_sub(k.days()).ok()).collect()
}

/// What was typed of a controller. Empty fields were not read; what is ticked "as known" shows what is known, but for what was
/// typed beside it.
// Long: one field after another.
pub(super) fn of_controller(
    fields: &Fields,
    number: u8,
    facts: &AccountInputs,
    at: Timestamp,
) -> Result<Entry, Vec<FieldError>> {
    let mut errors: Vec<FieldError> = Vec::new();
    let known = facts.of_controller(number).and_then(|b| b.settings_at(at));
    let all_same = fields.get("all_same");
    let mut programs: BTreeMap<usize, ProgramSeen> = BTreeMap::new();
    for (k, name) in program_names(facts, number).iter().enumerate() {
        let own = |what: &str| fields.get(&format!("p{k}_{what}")).to_owned();
        let mut seen = ProgramSeen::default();
        if !(own("same").is_empty() && all_same.is_empty())
            && let Some(known) = known
        {
            seen = as_known(known, k, at.to_zoned(facts.tz.clone()).date());
        }
        match own("on").as_str() {
            "yes" => seen.on = Some(true),
            "no" => seen.on = Some(false),
            _ => {}
        }
        let percent = own("pct");
        if !percent.is_empty() {
            #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded")]
            match SIGNED_PERCENT.read(&percent).map(|p| p.round()) {
                Ok(value) if (0.0..=400.0).contains(&value) => {
                    seen.percentage = Some(Percentage::from_percent(value as u16));
                }
                _ => errors.push(("programs", format!("Program {name}: \"{percent}\" is not a percentage."))),
            }
        }
        let starts = own("starts");
        if !starts.is_empty() {
            match typed::times(&starts, habit()) {
                Ok(all) => seen.starts = Some(all),
                Err(refusal) => errors.push(("programs", format!("Program {name}: {refusal}"))),
            }
        }
        let minutes = own("minutes");
        for part in minutes.split([',', ';']).map(str::trim).filter(|p| !p.is_empty()) {
            match station_minutes(part) {
                Ok((station, time)) => {
                    seen.minutes.insert(station, time);
                }
                Err(refusal) => errors.push(("programs", format!("Program {name}: {refusal}"))),
            }
        }
        if seen != ProgramSeen::default() {
            programs.insert(k, seen);
        }
    }
    let mut nights = BTreeMap::new();
    for night in nights_asked(facts, number, at.to_zoned(facts.tz.clone()).date()) {
        let text = fields.get(&format!("night_{night}"));
        if text.is_empty() {
            continue;
        }
        match SIGNED_PERCENT.read(text) {
            Ok(value) if (0.0..=400.0).contains(&value) => {
                nights.insert(night, value);
            }
            _ => errors.push(("nights", format!("\"{text}\" on {night} is not a percentage from 0 to 400."))),
        }
    }
    let shown = fields.get("clock");
    let clock_ahead = match typed::time_of_day(shown, habit()) {
        _ if shown.is_empty() => None,
        Ok(time) => Some(ahead(time, at, facts)),
        Err(refusal) => {
            errors.push(("clock", refusal.to_string()));
            None
        }
    };
    let seen = ControllerSeen {
        controller_number: number,
        clock_ahead,
        on: yes(fields, "on").or((!all_same.is_empty()).then_some(true)),
        bypassed: yes(fields, "bypassed").or((!all_same.is_empty()).then_some(false)),
        battery: code(fields, "battery"),
        programs,
        nights,
    };
    if errors.is_empty() { Ok(Entry::Controller(seen)) } else { Err(errors) }
}

/// "3: 12" or "3 12.5": a station and its minutes.
fn station_minutes(text: &str) -> Read<(u16, Seconds)> {
    let refused =
        || Refusal::Unreadable(format!("\"{text}\" is not a station and its minutes, such as 3: 12."));
    let (station, minutes) = text.split_once([':', ' ']).ok_or_else(refused)?;
    let station = station.trim().parse().map_err(|_| refused())?;
    Ok((station, typed::duration(minutes)?))
}

/// A program as it is known.
fn as_known(settings: &Settings, at: usize, date: Date) -> ProgramSeen {
    let program = settings.programs.get(at);
    ProgramSeen {
        on: program.map(|p| p.active),
        percentage: Some(settings.percentages.of(at, date)),
        starts: program.map(|p| p.starts.clone()),
        minutes: program.map(|p| p.run_times.iter().copied().collect()).unwrap_or_default(),
    }
}

/// Where a controller shows something else than is known, as sentences.
pub(super) fn differences(seen: &ControllerSeen, facts: &AccountInputs, at: Timestamp) -> Vec<String> {
    let date = at.to_zoned(facts.tz.clone()).date();
    let mut out = Vec::new();
    if let Some(ahead) =
        seen.clock_ahead.filter(|a| *a >= Seconds::from_min(5) || -*a >= Seconds::from_min(5))
    {
        let (off, side) = if ahead < Seconds::ZERO { (-ahead, "behind") } else { (ahead, "ahead") };
        out.push(format!("The clock is {} {side}.", span(off.minutes().min_value())));
    }
    if seen.on == Some(false) {
        out.push("The controller is switched off.".into());
    }
    if seen.bypassed == Some(true) {
        out.push("Its sensors are bypassed.".into());
    }
    let Some(settings) = facts.of_controller(seen.controller_number).and_then(|b| b.settings_at(at)) else {
        return out;
    };
    for (k, program) in &seen.programs {
        let known = as_known(settings, *k, date);
        let name = settings.programs.get(*k).map_or_else(String::new, |p| p.name.clone());
        if let (Some(on), Some(was)) = (program.on, known.on)
            && on != was
        {
            let words = |on: bool| if on { "on" } else { "off" };
            out.push(format!("Program {name} is {}; recorded was {}.", words(on), words(was)));
        }
        if let (Some(now), Some(was)) = (program.percentage, known.percentage)
            && now != was
        {
            out.push(format!("Program {name} is at {now}; recorded was {was}."));
        }
        if let (Some(now), Some(was)) = (&program.starts, &known.starts)
            && now != was
        {
            let words = |all: &[Time]| {
                if all.is_empty() { "none".to_owned() } else { typed_times(all) }
            };
            out.push(format!("Program {name} starts at {}; recorded was {}.", words(now), words(was)));
        }
        for (station, now) in &program.minutes {
            let was = settings.run_time(*k, *station);
            if *now != was {
                let words = |t: Seconds| format!("{} min", plain(t.minutes().min_value(), 1));
                out.push(format!(
                    "Program {name}, station {station}: {}; recorded was {}.",
                    words(*now),
                    words(was)
                ));
            }
        }
    }
    out
}

/// An entry in words, for the logbook.
pub(super) fn words(entry: &Entry, facts: &AccountInputs, at: Timestamp) -> String {
    let units = facts.site.units;
    let mut said: Vec<String> = Vec::new();
    let about = match entry {
        Entry::Zone(seen) => {
            said.extend(seen.looks.map(|l| l.label().to_owned()));
            said.extend(seen.signs.iter().map(|s| s.label().to_owned()));
            said.extend(seen.plants.map(|p| format!("plants {}", p.label())));
            said.extend(seen.available.map(|a| format!("{} left", share(a))));
            said.extend(seen.soil.map(|s| format!("spade: {}", s.label())));
            said.extend(seen.flow.map(|f| format!("meter {} while it ran", flow(units, f))));
            if !seen.note.is_empty() {
                said.push(seen.note.clone());
            }
            let name = facts
                .zone(StationId::new(seen.controller_number, seen.station))
                .map_or("", |SurveyedZone { zone: z, .. }| z.name.as_str());
            format!("{} {name}", seen.station)
        }
        Entry::Controller(seen) => {
            let off = differences(seen, facts, at);
            said.extend(seen.battery.map(|b| format!("battery {}", b.label())));
            if !seen.nights.is_empty() {
                said.push(format!("percentages of {} nights", seen.nights.len()));
            }
            if off.is_empty() {
                said.push("as recorded, as far as it was read".into());
            }
            said.extend(off);
            format!("Controller {}", seen.controller_number)
        }
        Entry::Sensor(seen) => {
            let mut put = |is: Option<bool>, yes: &str, no: &str| {
                said.extend(is.map(|is| if is { yes.to_owned() } else { no.to_owned() }));
            };
            put(seen.holds, "holds", "allows watering");
            put(seen.covered, "something keeps rain from it", "open to the rain");
            put(seen.sprayed, "heads spray it", "out of the spray");
            seen.name.clone()
        }
        Entry::Site { meter, wet_elsewhere, note } => {
            said.extend(meter.map(|m| format!("meter {}", volume(units, m))));
            if *wet_elsewhere {
                said.push("wet where nothing waters".into());
            }
            if !note.is_empty() {
                said.push(note.clone());
            }
            "Site".to_owned()
        }
    };
    format!("{about}: {}", if said.is_empty() { "nothing".to_owned() } else { said.join("; ") })
}

/// When an entry was seen, from the phone's own clock: how far that is off follows from when it was sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct When {
    pub at: Timestamp,
    /// How far the phone's clock is off real time, seconds; nought when it is right to some minutes.
    pub clock_off_s: i64,
}

/// A clock that is right to this is right.
const RIGHT_TO: SignedDuration = SignedDuration::from_mins(5);

/// `now` is the application's clock, `real` the real one: in a demo they differ.
pub(super) fn when(fields: &Fields, now: Timestamp, real: Timestamp) -> When {
    let parse = |name: &str| fields.get(name).parse::<Timestamp>().ok();
    let (Some(at), Some(sent)) = (parse("at"), parse("sent_at")) else {
        return When { at: now, clock_off_s: 0 };
    };
    let waited = sent.duration_since(at.min(sent));
    let off = sent.duration_since(real);
    let clock_off_s = if off.abs() > RIGHT_TO { off.as_secs() } else { 0 };
    When { at: now.checked_sub(waited).unwrap_or(now), clock_off_s }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fields(pairs: &[(&str, &str)]) -> Fields {
        Fields(pairs.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect())
    }

    #[test]
    fn a_phone_whose_clock_is_a_year_off_is_set_right_and_told() {
        let now: Timestamp = "2026-07-14T12:00:00Z".parse().unwrap();
        // Entered forty minutes before it was sent, a year ago by the phone.
        let typed = [("at", "2025-07-14T11:20:00Z"), ("sent_at", "2025-07-14T12:00:00Z")];
        let found = when(&fields(&typed), now, now);
        assert_eq!(found.at.to_string(), "2026-07-14T11:20:00Z");
        assert_eq!(found.clock_off_s, -365 * 86_400);
        // The clock of a demo is ahead of the real one; the phone is right.
        let real: Timestamp = "2026-11-26T12:00:00Z".parse().unwrap();
        let typed = [("at", "2026-11-26T11:20:00Z"), ("sent_at", "2026-11-26T12:01:00Z")];
        let found = when(&fields(&typed), now, real);
        assert_eq!((found.at.to_string().as_str(), found.clock_off_s), ("2026-07-14T11:19:00Z", 0));
        // Without a clock it is now, and nothing lies ahead of it.
        assert_eq!(when(&fields(&[]), now, now), When { at: now, clock_off_s: 0 });
        let typed = [("at", "2027-01-01T00:00:00Z"), ("sent_at", "2026-07-14T12:00:00Z")];
        assert_eq!(when(&fields(&typed), now, now).at, now);
    }

    #[test]
    fn a_station_and_its_minutes_are_read_as_they_are_written() {
        assert_eq!(station_minutes("3: 12.5"), Ok((3, Seconds::from_s(750))));
        assert_eq!(station_minutes("3 12"), Ok((3, Seconds::from_min(12))));
        assert!(station_minutes("3: -1").is_err() && station_minutes("three: 1").is_err());
    }

    #[test]
    fn what_is_typed_of_a_zone_is_bounded_and_says_where_it_is_wrong() {
        let typed = fields(&[("looks", "dry"), ("broken", "on"), ("available", "140"), ("flow", "12,500")]);
        let wrong = zone(&typed, 1, 3, UnitSystem::Metric).unwrap_err();
        assert_eq!(wrong.iter().map(|(name, _)| *name).collect::<Vec<_>>(), ["available", "flow"]);
        let typed = fields(&[("looks", "dry"), ("broken", "on"), ("available", "40"), ("flow", "10")]);
        let Entry::Zone(seen) = zone(&typed, 1, 3, UnitSystem::UsCustomary).unwrap() else { panic!() };
        assert_eq!(seen.signs.iter().copied().collect::<Vec<_>>(), [Sign::Broken]);
        assert!((seen.flow.unwrap().l_per_min() - 37.854).abs() < 0.01, "ten gallons");
        assert_eq!(seen.available, Some(Share::from_fraction(0.4)));
    }

    #[test]
    fn a_controller_is_read_as_it_is_typed_and_says_where_it_differs() {
        let case = upland_faults::planted(upland_core::tuning::Cause::NothingWrong, 2);
        let (facts, at) = (&case.known, case.visit.at);
        let read = |pairs: &[(&str, &str)]| of_controller(&fields(pairs), 1, facts, at);
        // As known: nothing differs, and that was read.
        let Entry::Controller(seen) = read(&[("all_same", "on")]).unwrap() else { panic!() };
        assert_eq!((seen.on, seen.bypassed), (Some(true), Some(false)));
        assert_eq!(differences(&seen, facts, at), Vec::<String>::new());
        assert!(seen.programs.values().all(|p| p.percentage.is_some()));
        // What was typed beside it counts more.
        let typed = [
            ("all_same", "on"),
            ("p0_pct", "35 %"),
            ("p0_starts", "0130"),
            ("clock", "0905"),
            ("p0_minutes", "1: 99"),
        ];
        let Entry::Controller(seen) = read(&typed).unwrap() else { panic!() };
        let said = differences(&seen, facts, at).join(" ");
        for part in ["The clock is 5 min ahead.", "is at 35 %", "starts at 01:30", "station 1: 99 min"] {
            assert!(said.contains(part), "{part} in {said}");
        }
        assert!(words(&Entry::Controller(seen), facts, at).starts_with("Controller 1: "));
        // Nothing typed is nothing read.
        let Entry::Controller(seen) = read(&[]).unwrap() else { panic!() };
        assert!(seen.is_empty());
        let wrong =
            read(&[("clock", "25:00"), ("p0_pct", "a lot"), ("p0_starts", "soon"), ("p0_minutes", "x")])
                .unwrap_err();
        assert_eq!(wrong.len(), 4, "all at once: {wrong:?}");
    }

    #[test]
    fn nights_are_asked_only_where_an_et_sensor_turns_the_controller() {
        let et = upland_faults::planted(upland_core::tuning::Cause::EtTrim, 1);
        let today = et.visit.at.to_zoned(et.known.tz.clone()).date();
        let asked = nights_asked(&et.known, 1, today);
        assert_eq!((asked.len(), asked.first().copied()), (14, today.checked_sub(1.day()).ok()));
        let none = upland_faults::planted(upland_core::tuning::Cause::NoWater, 1);
        assert!(nights_asked(&none.known, 1, today).is_empty());
        let name = format!("night_{}", asked[0]);
        let read = |text: &str| of_controller(&fields(&[(name.as_str(), text)]), 1, &et.known, et.visit.at);
        let Entry::Controller(seen) = read("84 %").unwrap() else { panic!() };
        assert_eq!(seen.nights.get(&asked[0]), Some(&84.0));
        assert!(read("900").is_err() && read("half").is_err());
    }
}

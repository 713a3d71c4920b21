//! A visit as the page shows it: what to turn, why, what it does; then everything that was seen.

use super::accept::{kind_code, name_of};
use super::decided::Decided;
use crate::page::cause_words::{cause_name, safety, settle};
use crate::page::dates::DateFormat;
use crate::page::frame::Frame;
use crate::page::photographs::photographs_shown;
use crate::page::quantities::{plain, share, short_date, volume};
use crate::page::tuning_words::{Words, correction, look_again};
use crate::server::address;
use crate::server::error::PageError;
use crate::site::context::AtSite;
use askama::Template;
use upland_core::account::running::ControllerFacts;
use upland_core::site::StationId;
use upland_core::tuning::{
    DatedStep, Looks, OUTLOOK_DAYS, Proposed, Step, Suspicion, TrialChange, Turn, ZoneOutlook, dated_steps,
    read_nights,
};
use upland_store::photos::{PhotoOf, PhotoRecord};
use upland_store::visits::VisitRecord;

/// A visit in the list.
pub(super) struct VisitLine {
    href: String,
    day: String,
    by: String,
    look_again: String,
    current: bool,
}

/// A cause as it is shown.
struct CauseLine {
    name: &'static str,
    place: String,
    share: String,
    for_it: Vec<String>,
    against: Vec<String>,
    settle: &'static str,
    is_fault: bool,
}

/// What an adjustment does to a zone.
struct EffectLine {
    zone: String,
    two_before: String,
    two_after: String,
    four_before: String,
    four_after: String,
    changes: bool,
}

/// An adjustment as it is shown.
struct LeverLine {
    name: String,
    sentence: String,
    cause: CauseLine,
    effect: String,
    worse: String,
    leave: String,
    look_again: String,
    by_hand: bool,
    zones: Vec<EffectLine>,
    taken: Option<String>,
    safety: &'static str,
}

/// A zone as it was found.
struct ZoneLine {
    href: String,
    name: String,
    seen: String,
    /// Where it stands on the scale from dry to wet.
    seen_x: Option<i32>,
    signs: String,
    expected: &'static str,
    expected_x: Option<i32>,
    contradicts: bool,
    doubtful: bool,
    gets: String,
    note: String,
    photos: String,
}

struct EntryLine {
    address: String,
    at: String,
    by: String,
    words: String,
    undone: bool,
}

struct NightLine {
    date: String,
    shown: String,
    asked: String,
    ratio: String,
    plausible: bool,
}

struct NightsOf {
    place: String,
    sentence: String,
    /// What a step of trim or climate setting does.
    steps: String,
    nights: Vec<NightLine>,
}

struct CorrectionLine {
    zone_id: i64,
    kind: &'static str,
    zone: String,
    href: String,
    words: String,
}

struct OutcomeLine {
    zone: String,
    predicted: &'static str,
    seen: &'static str,
    as_told: bool,
    adequacy: String,
    came: String,
}

struct OutcomeOf {
    lever: String,
    day: String,
    rain: String,
    right: usize,
    zones: Vec<OutcomeLine>,
}

#[derive(Template)]
#[template(path = "chapters/tuning/tuning.html")]
pub(super) struct TuningPage {
    frame: Frame,
    root: String,
    visit: i64,
    /// Where the visit is taken off the list.
    remove: String,
    is_last: bool,
    day: String,
    headline: String,
    because: String,
    levers: Vec<LeverLine>,
    /// What no adjustment explains yet.
    open: Vec<String>,
    others: Vec<CauseLine>,
    zones: Vec<ZoneLine>,
    seen_elsewhere: Vec<String>,
    notes: Vec<String>,
    nights: Vec<NightsOf>,
    corrections: Vec<CorrectionLine>,
    outcome: Option<OutcomeOf>,
    photos: String,
    entries: Vec<EntryLine>,
    visits: Vec<VisitLine>,
    turned: Vec<String>,
    /// What plantings ask for on a date.
    steps: Vec<String>,
    walk_today: bool,
}

/// A site that nobody walked yet.
#[derive(Template)]
#[template(path = "chapters/tuning/none.html")]
pub(super) struct NoVisit {
    frame: Frame,
    root: String,
    zones: usize,
    set: Option<String>,
}

impl NoVisit {
    pub fn of(frame: Frame, here: &AtSite) -> Self {
        let set =
            here.records.controllers.iter().filter_map(|b| b.settings.as_ref()).map(|s| s.saved_at).max();
        let tz = &here.records.tz;
        Self {
            frame,
            root: address::site_root(here.id()),
            zones: here.records.zones.len(),
            set: set.map(|at| short_date(at.to_zoned(tz.clone()).date())),
        }
    }
}

fn cause_line(words: &Words<'_>, own: &Suspicion) -> CauseLine {
    CauseLine {
        name: cause_name(own.cause),
        place: words.place_of(own),
        share: share(own.of_rivals.unwrap_or(own.share)),
        for_it: own.for_it.iter().map(|e| words.evidence(own, e)).collect(),
        against: own.against.iter().map(|e| words.evidence(own, e)).collect(),
        settle: settle(own.settle),
        is_fault: own.cause.is_fault(),
    }
}

fn adequacy(zone: &ZoneOutlook) -> String {
    format!("{}, {}", share(zone.adequacy), zone.looks.label())
}

fn lever_line(words: &Words<'_>, found: &Decided, proposed: &Proposed) -> Option<LeverLine> {
    let lever = &proposed.lever;
    let causes = &found.decision.diagnosis.causes;
    let same = |s: &&Suspicion| {
        let at = (lever.controller_number, lever.station);
        let place = s.cause == lever.cause && (s.controller_number, s.station) == at;
        place && s.program.is_none_or(|p| lever.program == Some(p))
    };
    let own = causes.iter().find(same)?;
    let [two_before, four_before] = &proposed.as_is;
    let [two_after, four_after] = &proposed.turned;
    let pairs = two_before.iter().zip(two_after).zip(four_before.iter().zip(four_after));
    let zones = pairs.map(|((two_before, two_after), (four_before, four_after))| EffectLine {
        zone: words.zone(StationId::new(two_before.controller_number, two_before.station)),
        changes: (two_before.applied.mm() - two_after.applied.mm()).abs() > 0.05,
        two_before: adequacy(two_before),
        two_after: adequacy(two_after),
        four_before: adequacy(four_before),
        four_after: adequacy(four_after),
    });
    let sentence = words.lever(lever);
    let taken = found.levers.iter().find(|t| t.visit_id == found.record.id && t.words == sentence);
    let weeks = OUTLOOK_DAYS.first().map_or(2, |d| d / 7);
    Some(LeverLine {
        name: name_of(lever),
        cause: cause_line(words, own),
        effect: words.effect(lever, two_before, two_after, weeks),
        worse: words.worse(two_before, two_after),
        leave: words.leave(lever),
        look_again: look_again(lever.look_again),
        by_hand: lever.turn == Turn::ByHand,
        zones: zones.collect(),
        taken: taken.map(|t| format!("Taken by {}.", t.said_by)),
        safety: safety(lever.cause),
        sentence,
    })
}

/// What the page begins with.
fn headline(found: &Decided, levers: &[LeverLine]) -> (String, String) {
    let decision = &found.decision;
    let seen = found.together.visit.zones.iter().filter(|z| z.looks.is_some()).count();
    let off =
        found.together.visit.zones.iter().filter(|z| z.looks.is_some_and(|l| l != Looks::Right)).count();
    let zones = |n: usize| if n == 1 { "zone".to_owned() } else { "zones".to_owned() };
    let looked = format!("{seen} {} looked at, {off} not right.", zones(seen));
    let again = look_again(decision.look_again);
    let open = |fault: bool| levers.iter().filter(|l| l.taken.is_none() && l.cause.is_fault == fault).count();
    let things = |n: usize, one: &str, more: &str| {
        if n == 1 { one.to_owned() } else { format!("{} {more}", crate::page::quantities::in_words(n)) }
    };
    let (faults, turns) = (open(true), open(false));
    match (levers.is_empty(), faults, turns) {
        (true, ..) if off > 0 => ("No adjustment yet: find the cause first".to_owned(), looked),
        (true, ..) if !decision.stress_ahead.is_empty() => {
            let words = Words::of(&found.snapshot.inputs);
            let dry: Vec<String> = decision
                .stress_ahead
                .iter()
                .map(|z| words.zone(StationId::new(z.controller_number, z.station)))
                .collect();
            let text = format!(
                "{looked} As set and without rain, {} will be dry within two weeks. Look again on {again}.",
                dry.join(", ")
            );
            ("Right today, dry ahead".to_owned(), text)
        }
        (true, ..) => ("Leave it as it is".to_owned(), format!("{looked} Look again on {again}.")),
        (_, 0, 0) => (format!("Look again on {again}"), format!("{looked} Every adjustment is applied.")),
        (_, faults, 0) => {
            let what = things(faults, "one thing", "things");
            (format!("Repair {what}, and leave the settings"), format!("{looked} Look again on {again}."))
        }
        (_, 0, turns) => {
            let apart = found.decision.levers.iter().all(|l| l.lever.station.is_some());
            let how = if apart { "adjustments, each in its own zone" } else { "adjustments, one at a time" };
            let what = things(turns, "one adjustment", how);
            (format!("Turn {what}"), format!("{looked} Look again on {again}."))
        }
        (_, faults, turns) => {
            let first = things(faults, "one thing", "things");
            let then = things(turns, "one adjustment", "adjustments");
            (format!("Repair {first} first, then adjust {then}"), format!("{looked} Look again on {again}."))
        }
    }
}

/// Zones that look otherwise than expected and that no adjustment explains, each with what is likeliest and would settle it.
fn unexplained(found: &Decided, words: &Words<'_>) -> Vec<String> {
    let diagnosis = &found.decision.diagnosis;
    let chosen = || diagnosis.chosen.iter().filter_map(|at| diagnosis.causes.get(*at));
    let open =
        diagnosis.contradictions.iter().filter(|c| c.seen != Looks::Right).filter(|c| {
            !chosen().any(|s| s.explains.contains(&StationId::new(c.controller_number, c.station)))
        });
    open.map(|c| {
        let zone = words.zone(StationId::new(c.controller_number, c.station));
        let key = (Some(c.controller_number), Some(c.station));
        let own = |s: &&Suspicion| (s.controller_number, s.station) == key;
        let likely = diagnosis.causes.iter().find(own);
        let likely = likely.map_or_else(
            || "Look at its heads while it runs, then push a probe.".to_owned(),
            |s| format!("Perhaps: {}. {}", cause_name(s.cause).to_lowercase(), settle(s.settle)),
        );
        let own = |t: &&TrialChange| {
            StationId::new(t.controller_number, t.station) == StationId::new(c.controller_number, c.station)
        };
        let trial = found.decision.trials.iter().find(own).map_or(String::new(), |t| {
            format!(
                " If it cannot be measured today, try {} instead of {} for a week and look again.",
                t.to, t.from
            )
        });
        format!(
            "{zone} looks {}, and by the account it should look {}. {likely}{trial}",
            c.seen.label(),
            c.expected.label()
        )
    })
    .collect()
}

impl TuningPage {
    // Long: one part of the page after another.
    pub fn of(
        frame: Frame,
        here: &AtSite,
        found: &Decided,
        all: &[VisitRecord],
        photos: &[PhotoRecord],
    ) -> Result<Self, PageError> {
        let (facts, tz) = (&found.snapshot.inputs, &here.records.tz);
        let words = Words::of(facts);
        let root = address::site_root(here.id());
        let diagnosis = &found.decision.diagnosis;
        let levers: Vec<LeverLine> =
            found.decision.levers.iter().filter_map(|p| lever_line(&words, found, p)).collect();
        let (headline, because) = headline(found, &levers);
        let chosen = |at: &usize| diagnosis.chosen.contains(at);
        let others = diagnosis.causes.iter().enumerate().filter(|(at, _)| !chosen(at));
        let visits = all.iter().map(|v| VisitLine {
            href: format!("{root}/visits/{}", v.id),
            day: v.on.formatted("%-d %B %Y"),
            by: v.begun_by.clone(),
            look_again: v.look_again.map(look_again).unwrap_or_default(),
            current: v.id == found.record.id,
        });
        let when = |at: jiff::Timestamp| at.to_zoned(tz.clone()).formatted("%H:%M");
        let entries = found.entries.iter().map(|e| EntryLine {
            address: format!("{root}/visits/{}/entries/{}", e.visit_id, e.id),
            at: when(e.at),
            by: e.said_by.clone(),
            words: match upland_formats::visit_file::Entry::from_json(&e.kind, e.body.clone(), facts) {
                Ok(entry) => super::entry_form::words(&entry, facts, e.at),
                Err(problems) => problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; "),
            },
            undone: e.undone,
        });
        let turned = found.levers.iter().filter(|l| l.visit_id == found.record.id);
        let taken: Vec<&PhotoRecord> =
            photos.iter().filter(|p| p.visit_id == Some(found.record.id)).collect();
        let of_no_zone = taken.iter().copied().filter(|p| !matches!(p.of, PhotoOf::Zone(_)));
        Ok(Self {
            remove: format!("{root}/visits/{}/undo", found.record.id),
            visit: found.record.id,
            is_last: all.first().is_some_and(|v| v.id == found.record.id),
            day: found.record.on.formatted("%A %-d %B %Y"),
            headline,
            because,
            open: unexplained(found, &words),
            others: others.map(|(_, s)| cause_line(&words, s)).take(8).collect(),
            zones: zone_lines(here, found, &taken)?,
            seen_elsewhere: elsewhere(found, here),
            notes: notes(found, &words),
            nights: nights(found, &words),
            corrections: correction_lines(here, found, &words),
            outcome: outcome(found, &words),
            photos: photographs_shown(here, of_no_zone)?,
            entries: entries.collect(),
            visits: visits.collect(),
            turned: turned.map(|l| format!("{} ({}, {})", l.words, l.said_by, when(l.said_at))).collect(),
            steps: dated_steps(facts, found.record.on, STEP_DAYS).iter().map(|s| dated(&words, s)).collect(),
            walk_today: found.record.on == here.today(),
            levers,
            root,
            frame,
        })
    }
}

/// Days ahead in which dated steps are told.
const STEP_DAYS: i32 = 70;

/// A dated step as a sentence.
fn dated(words: &Words<'_>, step: &DatedStep) -> String {
    let zone = words.zone(StationId::new(step.controller_number, step.station));
    let on = look_again(step.on);
    match step.step {
        Step::GrowInEnds => format!("{on}: the grow-in of {zone} is over; set it for established plants."),
        Step::WeanOff(to) => format!("{on}: {zone} goes to {} of its need.", share(to)),
    }
}

/// Where looks stand on the scale from dry to wet.
const fn scale_x(looks: Looks) -> i32 {
    match looks {
        Looks::Dry => 16,
        Looks::Right => 60,
        Looks::Wet => 104,
    }
}

fn zone_lines(here: &AtSite, found: &Decided, photos: &[&PhotoRecord]) -> Result<Vec<ZoneLine>, PageError> {
    let diagnosis = &found.decision.diagnosis;
    let of = |record: &upland_store::zones::ZoneRecord| {
        let key = record.zone.station_id();
        let seen = found.together.visit.zone(key);
        let contradiction =
            diagnosis.contradictions.iter().find(|c| StationId::new(c.controller_number, c.station) == key);
        let looks = seen.and_then(|s| s.looks);
        let mut signs: Vec<String> =
            seen.iter().flat_map(|s| &s.signs).map(|s| s.label().to_owned()).collect();
        signs.extend(seen.and_then(|s| s.plants).map(|p| format!("plants {}", p.label())));
        signs.extend(seen.and_then(|s| s.available).map(|a| format!("{} left", share(a))));
        let middle = found.decision.diagnosis.gets.iter().find(|(k, _)| *k == key).and_then(|(_, g)| *g);
        let photos = photos.iter().copied().filter(|p| p.of == PhotoOf::Zone(record.id));
        Ok(ZoneLine {
            href: address::zone(here.id(), record.id),
            name: format!("{} {}", record.zone.number, record.zone.name),
            seen: looks.map_or_else(|| "not looked at".to_owned(), |l| l.label().to_owned()),
            seen_x: looks.map(scale_x),
            signs: signs.join(", "),
            expected: contradiction.map_or_else(|| looks.map_or("", Looks::label), |c| c.expected.label()),
            expected_x: contradiction.map(|c| c.expected).or(looks).map(scale_x),
            contradicts: contradiction.is_some(),
            doubtful: diagnosis.doubtful.contains(&key),
            gets: middle.map_or_else(String::new, share),
            note: seen.map(|s| s.note.clone()).unwrap_or_default(),
            photos: photographs_shown(here, photos)?,
        })
    };
    here.records.zones.iter().map(of).collect()
}

/// What was seen beside the zones: controllers, sensors, the meter.
fn elsewhere(found: &Decided, here: &AtSite) -> Vec<String> {
    use upland_formats::visit_file::Entry;
    let (visit, facts) = (&found.together.visit, &found.snapshot.inputs);
    let words = |entry: &Entry| super::entry_form::words(entry, facts, visit.at);
    let controllers = visit.controllers.iter().map(|b| words(&Entry::Controller(b.clone())));
    let sensors = visit.sensors.iter().map(|s| words(&Entry::Sensor(s.clone())));
    let mut out: Vec<String> = controllers.chain(sensors).collect();
    if let Some(meter) = visit.meter {
        out.push(format!("Main meter: {}", volume(here.records.units(), meter)));
    }
    if visit.wet_elsewhere {
        out.push("The ground is wet where nothing waters.".into());
    }
    if !visit.note.is_empty() {
        out.push(visit.note.clone());
    }
    out
}

/// What a reader should know of how the visit came together.
fn notes(found: &Decided, words: &Words<'_>) -> Vec<String> {
    let together = &found.together;
    let name = |person: i64| {
        found.entries.iter().find(|e| e.person == person).map_or_else(String::new, |e| e.said_by.clone())
    };
    let clashes = together.clashes.iter().map(|c| {
        format!(
            "{}: {} saw it {}, {} later {}; the later counts.",
            words.zone(StationId::new(c.controller_number, c.station)),
            name(c.first.0),
            c.first.1.label(),
            name(c.later.0),
            c.later.1.label()
        )
    });
    let doubts = found.decision.diagnosis.doubtful.iter().map(|id| {
        format!("{}: its looks and its reading cannot both be so; read it again.", words.zone(*id))
    });
    let stray = together.stray.iter().map(|(_, why)| format!("An entry counts for nothing: {why}."));
    let clocks = together.clocks.iter().map(|(by, off)| {
        let hours = off.abs() / 3600;
        let far = if hours >= 48 {
            format!("{} days", hours / 24)
        } else if hours >= 1 {
            format!("{hours} h")
        } else {
            format!("{} min", off.abs() / 60)
        };
        format!("The clock of {by}'s phone was {far} off; what was entered on it is dated by ours.")
    });
    clashes.chain(doubts).chain(stray).chain(clocks).collect()
}

/// What a step of an ET sensor does to the runs that it turns, in its own scale.
fn steps_of(own: &ControllerFacts, words: &Words<'_>) -> String {
    let Some(sensor) = upland_core::tuning::et_sensor(own) else { return String::new() };
    let set = &sensor.sensor.setting;
    let step = upland_core::quantity::units::Millimetres::from_mm(0.1);
    let shorter = 100.0 * (1.0 - set.et_full.mm() / (set.et_full + step).mm());
    format!(
        "A point of trim (now {} %) makes every run that it turns 1 % longer; {} more on the climate setting (now {}) makes them {} % shorter.",
        plain(set.et_trim_pct, 0),
        words.amount(upland_core::tuning::Amount::Depth(step)),
        words.amount(upland_core::tuning::Amount::Depth(set.et_full)),
        plain(shorter, 1)
    )
}

fn nights(found: &Decided, words: &Words<'_>) -> Vec<NightsOf> {
    let facts = &found.snapshot.inputs;
    let of = |own: &ControllerFacts| {
        let read = read_nights(facts, own, &found.together.visit)?;
        if read.nights.is_empty() {
            return None;
        }
        let percent = |v: f64| format!("{} %", plain(v, 0));
        Some(NightsOf {
            place: words.place(Some(own.number), None, None),
            sentence: format!(
                "{} of what the weather asked for, single nights {} about that.",
                percent(100.0 * read.ratio),
                percent(100.0 * read.spread)
            ),
            steps: steps_of(own, words),
            nights: read
                .nights
                .iter()
                .map(|n| NightLine {
                    date: n.date.formatted("%a %-d %b"),
                    shown: percent(n.shown),
                    asked: percent(n.asked),
                    ratio: if n.asked > 0.0 { percent(100.0 * n.shown / n.asked) } else { String::new() },
                    plausible: n.is_plausible(),
                })
                .collect(),
        })
    };
    facts.controllers.iter().filter_map(of).collect()
}

fn correction_lines(here: &AtSite, found: &Decided, words: &Words<'_>) -> Vec<CorrectionLine> {
    let of = |c: &upland_core::tuning::Correction| {
        let key = StationId::new(c.controller_number, c.station);
        let zone = here.records.zone_on(key)?;
        Some(CorrectionLine {
            zone_id: zone.id,
            kind: kind_code(c.kind),
            zone: words.zone(StationId::new(c.controller_number, c.station)),
            href: address::zone(here.id(), zone.id),
            words: correction(c.kind, c.factor, c.readings, c.confidence),
        })
    };
    found.corrections.iter().filter_map(of).collect()
}

fn outcome(found: &Decided, words: &Words<'_>) -> Option<OutcomeOf> {
    let (lever, zones) = found.outcome.as_ref()?;
    if zones.is_empty() {
        return None;
    }
    let rain =
        zones.iter().map(|z| z.rain).fold(upland_core::quantity::units::Millimetres::ZERO, |a, b| a.max(b));
    let line = |z: &upland_core::tuning::Outcome| OutcomeLine {
        zone: words.zone(StationId::new(z.controller_number, z.station)),
        predicted: z.predicted.label(),
        seen: z.seen.label(),
        as_told: z.predicted == z.seen,
        adequacy: share(z.adequacy),
        came: z.came.map(share).unwrap_or_default(),
    };
    Some(OutcomeOf {
        lever: lever.words.clone(),
        day: short_date(lever.said_at.to_zoned(found.snapshot.tz.clone()).date()),
        rain: crate::page::quantities::depth(found.snapshot.units(), rain),
        right: zones.iter().filter(|z| z.predicted == z.seen).count(),
        zones: zones.iter().map(line).collect(),
    })
}

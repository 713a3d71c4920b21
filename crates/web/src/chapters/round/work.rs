//! What a site asks for, worked out ahead of the pages that show it: the very nights, checks, percentages and upkeep of
//! its chapters, in their words.

use super::site_standing;
use crate::page::dates::{DateFormat as _, for_every_habit};
use crate::page::headline::headline;
use crate::page::program_words::Names;
use crate::page::quantities::{capital, counted, depth, in_words, plain, volume};
use crate::page::sensor_words::says_of;
use crate::page::service_words::{Known, Standing, services_of};
use crate::page::ticks::week_number;
use crate::page::upkeep_words::{controller_due, controller_words, next_due};
use crate::server::address;
use crate::server::error::PageError;
use crate::server::state::AppState;
use crate::site::controller_snapshot::ControllerSnapshot;
use crate::site::noted::dated;
use crate::site::records::SiteController;
use crate::site::snapshot::{Latest, SiteSnapshot};
use jiff::Timestamp;
use std::sync::Arc;
use upland_core::advice::budget::{Measure, PercentageSlot, WeekAdvice, week};
use upland_core::advice::findings::{Finding, Severity, check};
use upland_core::advice::tonight::{ControllerKnown, Tonight, Verdict};
use upland_core::controller::upkeep::clock_changes;
use upland_core::quantity::ratio::Percentage;
use upland_core::sensors::state::Says;
use upland_core::sound::{SoundBase, sound_base};
use upland_core::weather::climate::Climate;
use upland_store::rounds::{Call, Night, NightState, Notice, NoticeKind, Round, Weight};
use upland_store::scope::SiteKey;
use upland_store::settings::SettingsRecord;
use upland_store::ticks::{TickRecord, What};

/// Works out what a site asks for now. `None` when it is not there.
fn work_out(state: &AppState, id: SiteKey) -> Result<Option<Round>, PageError> {
    let Some(Latest { site, stamp, now }) = Latest::open(state, id)? else { return Ok(None) };
    let facts = Arc::clone(&site.records);
    let ticks = &dated(state, &facts)?.ticks;
    let services = state.store.read(|snapshot| services_of(snapshot, id))?;
    let last = state.store.read(|snapshot| snapshot.visits(id, 1))?.into_iter().next();
    let mut round = Round::new(stamp, now);
    round.standing = site_standing::of_site(&site, last.as_ref());
    for own in &facts.controllers {
        of_controller(&mut round, &site, own, ticks, now)?;
    }
    sensors(&mut round.notices, &site);
    weather(&mut round.notices, &site, &services, now);
    Ok(Some(round))
}

/// Works out what a site asks for now, and keeps it.
pub(crate) fn work_on(state: &AppState, site: SiteKey) -> Result<(), PageError> {
    if let Some(round) = work_out(state, site)? {
        state.store.keep_round(&round)?;
    }
    Ok(())
}

/// What a site asks for at a moment, as its round keeps it.
#[cfg(test)]
pub(crate) fn round_for_tests(site: &SiteSnapshot, ticks: &[TickRecord]) -> Round {
    use upland_store::accounts::SiteStamp;
    let id: SiteKey = crate::fixture::key(site.records.site.id.number());
    let of = SiteStamp { id, revision: 1, readings: 0, last_reading: None };
    let at = site.moment.at;
    let mut round = Round::new(of, at);
    round.standing = site_standing::of_site(site, None);
    for own in &site.records.controllers {
        of_controller(&mut round, site, own, ticks, at).unwrap();
    }
    sensors(&mut round.notices, site);
    weather(&mut round.notices, site, &[], at);
    round
}

/// Whether the night of a controller is right, and how bad it is when not.
fn judged(tonight: &Tonight) -> (NightState, Weight) {
    let has = |verdict: Verdict| tonight.of_verdict(verdict).next().is_some();
    let all_right = || tonight.zones.iter().all(|z| z.verdict.is_none_or(|v| v == Verdict::Right));
    let grave = has(Verdict::Forbidden) || has(Verdict::NothingReaches);
    let state = match tonight.known {
        ControllerKnown::Settings if all_right() => NightState::Right,
        ControllerKnown::Settings => NightState::Wrong,
        ControllerKnown::Unknown | ControllerKnown::ComputesItself => NightState::Unknown,
    };
    (state, if grave { Weight::Fault } else { Weight::Warning })
}

/// What a site has to say, as it is put together.
struct Said<'a> {
    round: &'a mut Round,
    /// "1 Potting shed".
    name: String,
    number: u8,
    path: String,
}

impl Said<'_> {
    fn notice(
        &mut self,
        kind: NoticeKind,
        weight: Weight,
        about: &str,
        href: String,
        words: impl Fn(&str) -> String,
    ) {
        let about = format!("controller {} {about}", self.number);
        let words = for_every_habit(|| words(&self.name));
        self.round.notices.push(Notice { kind, about, weight, words, href });
    }
}

/// The night of a controller, its checks, percentages and upkeep.
fn of_controller(
    round: &mut Round,
    site: &SiteSnapshot,
    own: &SiteController,
    ticks: &[TickRecord],
    now: Timestamp,
) -> Result<(), PageError> {
    let (facts, number) = (&site.records, own.number());
    let id = facts.site.id.number();
    let name = format!("{number} {}", own.record.controller.place);
    let mut said = Said { round, name, number, path: address::site_controller(id, number) };
    let tonight = site.night(number);
    let (mut state, weight) = judged(&tonight);
    // What ran on the last evening of a record says nothing of tonight.
    let ended = site.moment.record_ended;
    if ended.is_some() && tonight.known == ControllerKnown::Settings {
        state = NightState::Unknown;
    }
    let sentence = || match ended {
        None => headline(&tonight, &facts.tz),
        Some(last) => {
            let last = last.formatted("%-d %B %Y");
            format!(
                "Tonight is not known: the weather record ended on {last}. On that evening: {}",
                headline(&tonight, &facts.tz)
            )
        }
    };
    said.round.nights.push(Night {
        number,
        place: own.record.controller.place.clone(),
        state,
        sentence: for_every_habit(sentence),
    });
    if state == NightState::Wrong {
        let href = format!("{}?controller={number}", address::today(id));
        said.notice(NoticeKind::Night, weight, "tonight", href, |name| format!("{name}: {}", sentence()));
    }
    let path = said.path.clone();
    match &own.settings {
        None => said.notice(NoticeKind::Finding, Weight::Task, "not entered", path, |name| {
            format!("{name}: nobody entered what it is set to.")
        }),
        Some(set) => {
            let snapshot = ControllerSnapshot::of_site(site, number)?;
            findings(&mut said, &snapshot, set);
            percentages(&mut said, calls_of(&snapshot, set, site.moment.record_ended)?, ticks);
        }
    }
    let (_, next) = clock_changes(&facts.tz, now);
    for due in controller_due(&own.record, ticks, &facts.tz, now).into_iter().filter(|due| due.now) {
        let about = format!("{:?} {}", due.task, due.on.map_or(String::new(), |on| on.to_string()));
        let href = format!("{}/card", said.path);
        said.notice(NoticeKind::Upkeep, Weight::Task, about.trim_end(), href, |name| {
            format!("{name}: {}", controller_words(&due, next))
        });
    }
    Ok(())
}

/// What the checks of its settings say. A note asks for nothing.
fn findings(said: &mut Said<'_>, snapshot: &ControllerSnapshot, set: &SettingsRecord) {
    let names =
        Names { installation: &snapshot.installation, settings: &set.settings, units: snapshot.units() };
    let found = check(&snapshot.installation, &set.settings, snapshot.today);
    let words = |finding: &Finding| {
        let words = names.finding(finding);
        format!("{}: {}", words.place, words.text)
    };
    let path = said.path.clone();
    // A fault each; what only warns is counted, or one neglected controller would hide every other site.
    for fault in found.iter().filter(|f| f.severity == Severity::Fault) {
        said.notice(NoticeKind::Finding, Weight::Fault, &fault.id(), path.clone(), |name| {
            format!("{name}, {}", words(fault))
        });
    }
    let warnings: Vec<&Finding> = found.iter().filter(|f| f.severity == Severity::Warning).collect();
    if let Some(first) = warnings.first() {
        said.notice(NoticeKind::Finding, Weight::Warning, "warnings", path, |name| match warnings.len() {
            1 => format!("{name}, {}", words(first)),
            n => format!("{name}: {} warnings about its settings. {}", in_words(n), words(first)),
        });
    }
}

/// The percentages of a controller, and those that somebody should go for.
fn percentages(said: &mut Said<'_>, Calls { calls, short, weather }: Calls, ticks: &[TickRecord]) {
    let open: Vec<&Call> = calls.iter().filter(|call| changes(call) && !is_called(call, ticks)).collect();
    if !open.is_empty() {
        // Who goes short stands before what is set, in the same line.
        let of_open = open.iter().filter_map(|call| short.get(usize::try_from(call.slot).ok()?));
        let short: Vec<&str> = of_open.map(String::as_str).filter(|s| !s.is_empty()).collect();
        let first = if short.is_empty() { String::new() } else { format!("{}; ", short.join(", ")) };
        let set: Vec<String> = open.iter().map(|call| call_words(call)).collect();
        let href = format!("{}/budget#h-week", said.path);
        said.notice(NoticeKind::Percentage, Weight::Task, "percentages", href, |name| {
            format!("{name}: {first}set {}. {}.", set.join(", "), capital(&weather))
        });
    }
    said.round.calls.extend(calls);
}

/// The percentages of a controller.
#[derive(Default)]
struct Calls {
    calls: Vec<Call>,
    /// By slot, which zones the advised percentage leaves short; empty where none.
    short: Vec<String>,
    /// The weather that they follow from.
    weather: String,
}

/// What the percentages of a controller stand at and should: those of its budget; and the weather they follow from.
// Long: one call of work after another.
fn calls_of(
    snapshot: &ControllerSnapshot,
    set: &SettingsRecord,
    record_ended: Option<jiff::civil::Date>,
) -> Result<Calls, PageError> {
    let own = &snapshot.site_controller()?.record;
    let climate: &Climate = &snapshot.climate;
    // A controller without a percentage, or one that computes its run times itself, has nothing to be set.
    if !snapshot.installation.card.has_percentage() {
        return Ok(Calls::default());
    }
    let SoundBase { base, wrong } =
        sound_base(&snapshot.installation, &set.settings, snapshot.today, Measure::default());
    let advice = week(&base, climate, snapshot.today);
    let names =
        Names { installation: &snapshot.installation, settings: &set.settings, units: snapshot.units() };
    let weather = format!(
        "{} of ET, {} of rain in seven days{}",
        depth(snapshot.units(), advice.et0),
        depth(snapshot.units(), advice.rain),
        if advice.expected_days > 0 {
            format!(", {} from normals", counted(advice.expected_days, "day"))
        } else {
            String::new()
        }
    );
    let of_slot =
        |(slot, ((turns, advised), set_at)): (i32, ((&PercentageSlot, &Option<Percentage>), &Percentage))| {
            Call {
                number: snapshot.installation.controller_number,
                slot,
                controller_id: own.id,
                place: own.controller.place.clone(),
                program: match turns {
                    PercentageSlot::Controller => String::new(),
                    PercentageSlot::Program(p) => {
                        set.settings.programs.get(*p).map_or(String::new(), |p| p.name.clone())
                    }
                },
                set: *set_at,
                advised: *advised,
                because: format!("{}{weather}", slot_words(&names, &advice, slot)),
                week: snapshot.today,
                record_ended,
            }
        };
    let mut calls: Vec<Call> =
        (0..).zip(advice.slots.iter().zip(&advice.best).zip(&advice.set)).map(of_slot).collect();
    // A program that is wrong in itself has its finding instead of a percentage.
    for (slot, finding) in (calls.len()..).zip(&wrong) {
        let Some(program) = finding.place.program() else { continue };
        let words = names.finding(finding);
        calls.push(Call {
            number: snapshot.installation.controller_number,
            slot: i32::try_from(slot).unwrap_or(i32::MAX),
            controller_id: own.id,
            place: own.controller.place.clone(),
            program: set.settings.programs.get(program).map_or(String::new(), |p| p.name.clone()),
            set: set.settings.percentages.of(program, snapshot.today),
            advised: None,
            because: format!("repair first: {}", without_times(&words.text)),
            week: snapshot.today,
            record_ended,
        });
    }
    let short = (0..).zip(&advice.slots).map(|(slot, _)| short_words(&names, &advice, slot)).collect();
    Ok(Calls { calls, short, weather })
}

/// What the zones of a percentage would each have it stand at, and which the best of them leaves short.
fn slot_words(names: &Names<'_>, advice: &WeekAdvice, slot_number: i32) -> String {
    let slot = usize::try_from(slot_number).unwrap_or(usize::MAX);
    let Some((low, high)) = advice.asked(slot) else { return String::new() };
    let (low, high) = (plain(low, 0), plain(high, 0));
    let asked = if low == high {
        format!("zones require {low} %")
    } else {
        format!("zones require {low} to {high} %")
    };
    let short = short_words(names, advice, slot_number);
    let surplus = advice.surplus(slot, names.installation).map_or(String::new(), |litres| {
        format!("{} a week more than the others need, ", volume(names.units, litres))
    });
    let short = if short.is_empty() { short } else { format!("{short}; ") };
    format!("{short}{surplus}{asked}; ")
}

/// Which zones the advised percentage of a slot leaves short; empty where it leaves none.
pub(super) fn short_words(names: &Names<'_>, advice: &WeekAdvice, slot: i32) -> String {
    let short = advice.left_short(usize::try_from(slot).unwrap_or(usize::MAX));
    let named: Vec<String> = short
        .iter()
        .map(|s| format!("{} still lacks {}", names.station(s.station), depth(names.units, s.deficit)))
        .collect();
    if named.is_empty() {
        return String::new();
    }
    format!("{} (fit its run time or move it to another program first)", named.join(", "))
}

/// Whether a percentage stands elsewhere than the week asks.
pub(crate) fn changes(call: &Call) -> bool {
    call.advised.is_some_and(|advised| advised != call.set)
}

/// Whether a controller was called in the week of a call.
fn is_called(call: &Call, ticks: &[TickRecord]) -> bool {
    let of = (What::Called, call.controller_id, week_number(call.week));
    ticks.iter().any(|t| (t.what, t.about, t.number) == of)
}

/// "program A 90 % instead of 100 %".
fn call_words(call: &Call) -> String {
    let turns = if call.program.is_empty() { "it".to_owned() } else { format!("program {}", call.program) };
    let to = call.advised.map_or("off".to_owned(), |advised| advised.to_string());
    format!("{turns} to {to} from {}", call.set)
}

/// Sensors that nobody hears, and their upkeep.
fn sensors(notices: &mut Vec<Notice>, snapshot: &SiteSnapshot) {
    let site = snapshot.records.site.id.number();
    for record in &snapshot.records.sensors {
        let mut say = |kind, what: &str, weight, words: &dyn Fn() -> String| {
            let (about, href) = (format!("sensor {} {what}", record.id), address::sensor(site, record.id));
            notices.push(Notice { kind, about, weight, words: for_every_habit(words), href });
        };
        let said = snapshot.says(record);
        if let Says::Silent { last } = said {
            let weight = if last.is_some() { Weight::Warning } else { Weight::Task };
            say(NoticeKind::Sensor, "silent", weight, &|| {
                let (line, because) = says_of(snapshot, record, &said);
                format!("{}: {}, {because}.", record.sensor.name, line.to_lowercase())
            });
        }
        if let Some(due) = next_due(snapshot, record).filter(|due| due.overdue_days(snapshot.today()) >= 0) {
            say(NoticeKind::Upkeep, "upkeep", Weight::Task, &|| {
                format!(
                    "{}: {}, due since {}.",
                    record.sensor.name,
                    due.task.label(),
                    due.on.formatted("%-d %b %Y")
                )
            });
        }
    }
}

/// Weather that does not come.
/// The head of a finding: its times are in the reader's own clock on the page that it leads to.
fn without_times(finding: &str) -> &str {
    let head = finding.split(" (").next().unwrap_or(finding);
    head.split(", first ").next().unwrap_or(head).trim_end_matches('.')
}

fn weather(notices: &mut Vec<Notice>, site: &SiteSnapshot, services: &[Known], now: Timestamp) {
    let facts = &site.records;
    let id = facts.site.id.number();
    let mut say = |about: String, weight, href, words: &dyn Fn() -> String| {
        notices.push(Notice {
            kind: NoticeKind::Weather,
            about,
            weight,
            words: for_every_habit(words),
            href,
        });
    };
    for (source, service, answers) in services {
        let standing = || Standing::of(source, service, answers, now, &facts.tz);
        if standing().grave {
            let (about, href) = (format!("service {}", source.id), address::service(id, source.id));
            say(about, Weight::Warning, href, &|| format!("{}: {}", source.name, standing().words));
        }
    }
    let room = address::weather(id);
    match (facts.last_recorded(), site.moment.record_ended) {
        (None, _) => say("none".into(), Weight::Task, room, &|| {
            "There is no weather yet: until it comes everything follows from a rough climate without rain."
                .into()
        }),
        (_, Some(ended)) => say("ended".into(), Weight::Warning, room, &|| {
            let last = ended.formatted("%-d %B %Y");
            format!("The weather record ended on {last}: pages are about that evening until newer days come.")
        }),
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use super::round_for_tests as round_of;
    use super::*;
    use crate::fixture;
    use crate::site::clock::Moment;
    use upland_core::site::UnitSystem;

    /// A site whose controller was entered, a few things wrong with it.
    fn told(units: UnitSystem) -> SiteSnapshot {
        let snapshot = fixture::controller_snapshot();
        let moment = Moment { date: snapshot.today, at: snapshot.at, record_ended: None };
        let mut facts = fixture::facts_of(&snapshot.records);
        facts.site.site.units = units;
        SiteSnapshot::noted_for_tests(Arc::new(facts), Vec::new(), moment)
    }

    fn of(round: &Round, kind: NoticeKind) -> Vec<&Notice> {
        round.notices.iter().filter(|notice| notice.kind == kind).collect()
    }

    #[test]
    fn a_controller_with_faults_has_a_notice_a_fault_and_one_for_all_its_warnings() {
        let site = told(UnitSystem::Metric);
        let round = round_of(&site, &[]);
        let night = site.night(1);
        assert_eq!(round.nights[0].sentence[0], headline(&night, &site.tz), "the very one of Today");
        let snapshot = ControllerSnapshot::of_site(&site, 1).unwrap();
        let found = check(&snapshot.installation, &snapshot.settings(), snapshot.today);
        let faults = found.iter().filter(|f| f.severity == Severity::Fault).count();
        let warnings = found.iter().any(|f| f.severity == Severity::Warning);
        assert!(faults > 0 && warnings, "the fixture has both");
        assert_eq!(of(&round, NoticeKind::Finding).len(), faults + 1);
        let abouts: std::collections::BTreeSet<_> =
            round.notices.iter().map(|n| (n.kind, &n.about)).collect();
        assert_eq!(abouts.len(), round.notices.len(), "each can be told from the others");
        assert!(round.notices.iter().all(|n| !n.words[0].is_empty() && n.href.starts_with("/sites/")));
        let inches = round_of(&told(UnitSystem::UsCustomary), &[]);
        assert!(inches.calls[0].because.contains(" in of ET"), "{}", inches.calls[0].because);
    }

    #[test]
    fn sentence_10_a_record_that_ended_says_nothing_of_tonight() {
        let now = told(UnitSystem::Metric);
        let ended = Some(now.moment.date);
        let moment = Moment { record_ended: ended, ..now.moment };
        let site = SiteSnapshot::noted_for_tests(Arc::clone(&now.records), Vec::new(), moment);
        let night = &round_of(&site, &[]).nights[0];
        assert_eq!(night.state, NightState::Unknown, "neither right nor wrong");
        let told = &night.sentence[0];
        assert!(told.starts_with("Tonight is not known: the weather record ended on "), "{told}");
        assert_eq!(round_of(&now, &[]).nights[0].state, NightState::Wrong);
    }

    #[test]
    fn a_percentage_that_was_called_or_is_hardly_off_asks_for_nobody() {
        let site = told(UnitSystem::Metric);
        let round = round_of(&site, &[]);
        let call = round.calls[0].clone();
        let at = |percent: u16| Call { advised: Some(Percentage::from_percent(percent)), ..call.clone() };
        let set = call.set.percent();
        assert!(!changes(&at(set)) && changes(&at(set - 10)));
        assert!(changes(&at(set - 9)) && !changes(&Call { advised: None, ..call.clone() }));
        assert!(call_words(&at(set - 20)).ends_with(&format!("to {} % from {set} %", set - 20)));
        let tick = TickRecord {
            site_id: fixture::key(1),
            what: What::Called,
            about: call.controller_id,
            number: week_number(call.week),
            at: Timestamp::UNIX_EPOCH,
            said_by: "Bram".into(),
        };
        assert!(!is_called(&call, &[]) && is_called(&call, std::slice::from_ref(&tick)));
        let called = round_of(&site, &[tick]);
        assert!(of(&called, NoticeKind::Percentage).is_empty());
    }

    #[test]
    fn a_controller_that_nobody_entered_is_a_task_and_its_night_is_not_known() {
        let round = round_of(&fixture::at_work(&fixture::decided(UnitSystem::Metric), false), &[]);
        assert_eq!(round.nights[0].state, NightState::Unknown);
        let entered = of(&round, NoticeKind::Finding);
        assert_eq!((entered.len(), entered[0].weight), (1, Weight::Task));
        assert!(round.calls.is_empty() && of(&round, NoticeKind::Night).is_empty());
    }
}

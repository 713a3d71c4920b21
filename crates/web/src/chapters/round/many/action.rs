//! What can be done to many sites, and what it would change at one.

use crate::chapters::round::work::short_words;
use crate::page::dates::DateFormat;
use crate::page::program_words::Names;
use crate::page::quantities::counted;
use crate::server::error::PageError;
use crate::server::session::Fields;
use crate::server::state::{AppState, read};
use crate::site::context::AllSites;
use crate::site::controller_snapshot::ControllerSnapshot;
use crate::site::records::SiteController;
use crate::site::snapshot::{Latest, SiteSnapshot};
use jiff::ToSpan;
use jiff::civil::Date;
use upland_core::advice::budget::{Measure, WeekAdvice, week, with_week};
use upland_core::controller::schedule::{Percentages, Settings};
use upland_core::sound::{SoundBase, sound_base};
use upland_core::tuning::{Looks, expected_look};
use upland_store::scope::SiteKey;

/// Longest rain delay that is asked for at once, days.
const LONGEST_DELAY: u8 = 31;

/// An action on many sites.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Action {
    /// A rain delay of so many days from today.
    Delay(u8),
    /// Every rain delay ends.
    EndDelay,
    /// The percentages that the week asks for.
    Week,
    /// Somebody looks after the sites, or nobody.
    Assign(Option<(i64, String)>),
}

impl Action {
    /// The action that a form asks for.
    ///
    /// # Errors
    /// What is missing, with what would do.
    pub async fn of(here: &AllSites, fields: &Fields) -> Result<Self, PageError> {
        let refuse = |words: &str| Err(PageError::BadRequest(words.to_owned()));
        match fields.get("action") {
            "delay" => match fields.get("days").parse::<u8>() {
                Ok(days) if (1..=LONGEST_DELAY).contains(&days) => Ok(Self::Delay(days)),
                _ => refuse("Say for how many days, from 1 to 31, such as 2."),
            },
            "end" => Ok(Self::EndDelay),
            "week" => Ok(Self::Week),
            "assign" if fields.get("person") == "none" => Ok(Self::Assign(None)),
            "assign" => {
                let id = fields.get("person").parse::<i64>().ok();
                let people = read(&here.state, |snapshot| snapshot.users()).await?;
                let found = people.into_iter().find(|own| Some(own.id) == id && !own.disabled);
                match found {
                    Some(person) => Ok(Self::Assign(Some((person.id, person.display_name)))),
                    None => refuse("Choose to whom the sites are assigned."),
                }
            }
            _ => refuse("Choose what to do with the sites that are ticked."),
        }
    }

    /// As the head of a page.
    pub fn words(&self) -> String {
        match self {
            Self::Delay(days) => format!("Rain delay of {} from today", counted(usize::from(*days), "day")),
            Self::EndDelay => "End rain delays".into(),
            Self::Week => "This week's percentages".into(),
            Self::Assign(None) => "Assign to nobody".into(),
            Self::Assign(Some((_, name))) => format!("Assign to {name}"),
        }
    }

    /// As the reason of a version of settings.
    pub fn reason(&self) -> String {
        match self {
            Self::Week => "percentages of the week, for many sites".into(),
            other => format!("{}, for many sites", other.words().to_lowercase()),
        }
    }

    /// The fields that ask for it again.
    pub fn fields(&self) -> Vec<(&'static str, String)> {
        match self {
            Self::Delay(days) => vec![("action", "delay".into()), ("days", days.to_string())],
            Self::EndDelay => vec![("action", "end".into())],
            Self::Week => vec![("action", "week".into())],
            Self::Assign(to) => {
                let person = to.as_ref().map_or("none".into(), |(id, _)| id.to_string());
                vec![("action", "assign".into()), ("person", person)]
            }
        }
    }
}

/// What an action would store.
#[derive(Debug, Clone)]
pub(super) enum Change {
    /// A version of a controller's settings.
    Settings { controller: i64, base: i32, settings: Box<Settings> },
    /// Who looks after the site.
    Assigned(Option<i64>),
}

/// What an action would change at a controller or a site.
#[derive(Debug, Clone)]
pub(super) struct Planned {
    pub site: i64,
    pub site_name: String,
    /// "1 Potting shed", or empty for the site.
    pub what: String,
    pub before: String,
    pub after: String,
    /// What the reader must know before it is done, such as who goes short.
    pub warning: String,
    /// Why it cannot be done, with what would help.
    pub refused: Option<String>,
    pub change: Option<Change>,
}

impl Planned {
    pub fn changes(&self) -> bool {
        self.change.is_some()
    }

    /// The field that carries the version that was looked at.
    pub fn version(&self) -> Option<(String, i32)> {
        match &self.change {
            Some(Change::Settings { controller, base, .. }) => Some((format!("v-{controller}"), *base)),
            _ => None,
        }
    }
}

/// What an action would change at a site; empty where the site is not there any more.
pub(super) fn plan(state: &AppState, site: SiteKey, action: &Action) -> Result<Vec<Planned>, PageError> {
    let Some(Latest { site: snapshot, now, .. }) = Latest::open(state, site)? else { return Ok(Vec::new()) };
    let today = now.to_zoned(snapshot.tz.clone()).date();
    if let Action::Assign(to) = action {
        let known = state.store.read(|read| read.assigned_to(site))?;
        return Ok(vec![assign(&snapshot, known, to.clone())]);
    }
    let controllers = &snapshot.records.controllers;
    if controllers.is_empty() {
        let refused = Some("No controller is installed.".to_owned());
        return Ok(vec![Planned { refused, ..at(&snapshot, None) }]);
    }
    controllers.iter().map(|own| of_controller(&snapshot, own, action, today)).collect()
}

fn at(site: &SiteSnapshot, own: Option<&SiteController>) -> Planned {
    Planned {
        site: site.records.site.id.number(),
        site_name: site.records.site.site.name.clone(),
        what: own.map_or(String::new(), |own| format!("{} {}", own.number(), own.record.controller.place)),
        before: String::new(),
        after: String::new(),
        warning: String::new(),
        refused: None,
        change: None,
    }
}

fn assign(site: &SiteSnapshot, known: Option<(i64, String)>, to: Option<(i64, String)>) -> Planned {
    let name = |of: &Option<(i64, String)>| of.as_ref().map_or("nobody".to_owned(), |(_, name)| name.clone());
    let same = known.as_ref().map(|(id, _)| *id) == to.as_ref().map(|(id, _)| *id);
    let change = (!same).then(|| Change::Assigned(to.as_ref().map(|(id, _)| *id)));
    Planned { before: name(&known), after: name(&to), change, ..at(site, None) }
}

fn of_controller(
    site: &SiteSnapshot,
    own: &SiteController,
    action: &Action,
    today: Date,
) -> Result<Planned, PageError> {
    let line = at(site, Some(own));
    let Some(saved) = &own.settings else {
        let refused = "Nobody entered what it is set to. Enter it on its page first.".to_owned();
        return Ok(Planned { refused: Some(refused), ..line });
    };
    let card = &own.record.controller.card;
    let before = &saved.settings;
    let change = |settings: Settings| Change::Settings {
        controller: own.record.id,
        base: saved.version,
        settings: Box::new(settings),
    };
    Ok(match action {
        Action::Delay(days) if *days > card.longest_rain_delay_days => {
            let most = card.longest_rain_delay_days;
            let refused = match most {
                0 => {
                    "It has no rain delay. Switch it off by hand, or set every program to no days.".to_owned()
                }
                most => format!("It delays at most {}. Choose no more.", counted(usize::from(most), "day")),
            };
            Planned { before: delay_words(before, today), refused: Some(refused), ..line }
        }
        Action::Delay(days) => {
            let settings = Settings { rain_delay: Some((today, *days)), ..before.clone() };
            let warning = dry_words(site, own.number());
            delayed(Planned { warning, ..line }, before, settings, today, change)
        }
        Action::EndDelay => {
            let settings = Settings { rain_delay: None, ..before.clone() };
            delayed(line, before, settings, today, change)
        }
        Action::Week if site.moment.record_ended.is_some() => {
            let refused = "Its weather record ended, so this week is not known. Import newer days first.";
            Planned { refused: Some(refused.into()), ..line }
        }
        Action::Week if !card.has_percentage() => {
            let refused = "It has no percentage to set: it computes its run times itself, or lacks one.";
            Planned { refused: Some(refused.into()), ..line }
        }
        Action::Week => of_week(site, own, line, change)?,
        Action::Assign(_) => line,
    })
}

fn delayed(
    line: Planned,
    before: &Settings,
    settings: Settings,
    today: Date,
    change: impl Fn(Settings) -> Change,
) -> Planned {
    let same = settings.rain_delay == before.rain_delay;
    let (was, becomes) = (delay_words(before, today), delay_words(&settings, today));
    Planned { before: was, after: becomes, change: (!same).then(|| change(settings)), ..line }
}

/// Zones of a controller that are dry by their account already: a delay is not for them.
fn dry_words(site: &SiteSnapshot, controller: u8) -> String {
    let own =
        site.records.zones.iter().map(|own| &own.zone).filter(|zone| zone.controller_number == controller);
    let known: Vec<_> = own.filter_map(|zone| site.account().zone(zone.station_id())).collect();
    let dry = known.iter().filter(|zone| expected_look(zone) == Looks::Dry).count();
    match dry {
        0 => String::new(),
        n => format!(
            "{n} of {} dry already",
            if known.len() == 1 { "one zone is".into() } else { format!("{} zones are", known.len()) }
        ),
    }
}

/// "waters again on Fri 17 Jul", or that nothing is delayed.
fn delay_words(settings: &Settings, today: Date) -> String {
    let ends = settings.rain_delay.and_then(|(first, days)| first.checked_add(i32::from(days).days()).ok());
    match ends {
        Some(ends) if ends > today => format!("waters again on {}", ends.formatted("%a %-d %b")),
        _ => "no delay".into(),
    }
}

/// This week's percentages, as the budget's page has them.
fn of_week(
    site: &SiteSnapshot,
    own: &SiteController,
    line: Planned,
    change: impl Fn(Settings) -> Change,
) -> Result<Planned, PageError> {
    let snapshot = ControllerSnapshot::of_site(site, own.number())?;
    let before = snapshot.settings();
    let SoundBase { base, wrong } =
        sound_base(&snapshot.installation, &before, snapshot.today, Measure::default());
    let advice: WeekAdvice = week(&base, &snapshot.climate, snapshot.today);
    let after = with_week(&before, &advice, None);
    let names = Names { installation: &snapshot.installation, settings: &before, units: snapshot.units() };
    let short = (0..).zip(&advice.slots).map(|(slot, _)| short_words(&names, &advice, slot));
    let mut warnings: Vec<String> = short.filter(|words| !words.is_empty()).collect();
    warnings.extend(wrong.iter().map(|finding| format!("repair first: {}", names.finding(finding).text)));
    let same = after.percentages == before.percentages;
    Ok(Planned {
        before: percentages(&before, snapshot.today),
        after: percentages(&after, snapshot.today),
        warning: warnings.join("; "),
        change: (!same).then(|| change(after)),
        ..line
    })
}

/// "A 100 %, B 80 %", or the one of the whole controller.
fn percentages(settings: &Settings, today: Date) -> String {
    match &settings.percentages {
        Percentages::Program(_) => {
            let of = |(place, program): (usize, &upland_core::controller::schedule::Program)| {
                format!("{} {}", program.name, settings.percentages.of(place, today))
            };
            let used = settings.programs.iter().enumerate().filter(|(_, own)| !own.starts.is_empty());
            used.map(of).collect::<Vec<_>>().join(", ")
        }
        all => all.of(0, today).to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use crate::site::clock::Moment;
    use jiff::civil::date;
    use std::sync::Arc;
    use upland_core::site::UnitSystem;

    /// A site whose controller was entered.
    fn entered() -> SiteSnapshot {
        let snapshot = fixture::controller_snapshot();
        let moment = Moment { date: snapshot.today, at: snapshot.at, record_ended: None };
        SiteSnapshot::noted_for_tests(Arc::new(fixture::facts_of(&snapshot.records)), Vec::new(), moment)
    }

    fn line(action: &Action, today: Date) -> Planned {
        let site = entered();
        let own = &site.records.controllers[0];
        of_controller(&site, own, action, today).unwrap()
    }

    #[test]
    fn a_delay_says_when_watering_begins_again_and_none_is_longer_than_the_type_has() {
        let today = date(2026, 7, 14);
        let two = line(&Action::Delay(2), today);
        assert_eq!((two.before.as_str(), two.after.as_str()), ("no delay", "waters again on Thu 16 Jul"));
        assert!(two.changes() && two.refused.is_none());
        let most = line(&Action::Delay(31), today);
        assert!(!most.changes() && most.refused.unwrap().contains("at most"));
        let end = line(&Action::EndDelay, today);
        assert!(!end.changes(), "there is none to end");
    }

    #[test]
    fn the_percentages_of_the_week_are_those_of_the_budget() {
        let site = entered();
        let snapshot = ControllerSnapshot::of_site(&site, 1).unwrap();
        let settings = snapshot.settings();
        let base = sound_base(&snapshot.installation, &settings, snapshot.today, Measure::default()).base;
        let advice = week(&base, &snapshot.climate, snapshot.today);
        let expected = with_week(&settings, &advice, None);
        let planned = line(&Action::Week, snapshot.today);
        assert_eq!(planned.after, percentages(&expected, snapshot.today));
        match planned.change {
            Some(Change::Settings { settings: stored, .. }) => assert_eq!(*stored, expected),
            other => assert_eq!(expected.percentages, settings.percentages, "{other:?}"),
        }
    }

    #[test]
    fn a_controller_that_nobody_entered_is_refused_with_what_to_do() {
        let site = fixture::at_work(&fixture::decided(UnitSystem::Metric), false);
        let own = &site.records.controllers[0];
        let planned = of_controller(&site, own, &Action::Delay(1), site.today()).unwrap();
        assert!(planned.refused.unwrap().contains("Enter it") && planned.change.is_none());
    }
}

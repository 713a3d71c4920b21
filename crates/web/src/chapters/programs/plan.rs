//! The planner's page: five strategies side by side, one of them in full with its reasons, accepted
//! whole or by program; or what binds, and what would do.

use super::ControllerPage;
use super::timeline::{self, Shown, Week, Zoom};
use super::{ControllerHead, Tab};
use crate::page::change_words::ChangeLine;
use crate::page::controller_version::{ControllerVersion, Sayings};
use crate::page::dates::{DateFormat, date_writer, typed_times};
use crate::page::forms::base_version;
use crate::page::frame::Frame;
use crate::page::program_words::{self, Names};
use crate::page::quantities::span;
use crate::page::quantities::{plain, volume};
use crate::server::cache::questions;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use crate::site::controller_snapshot::ControllerSnapshot;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::ToSpan;
use std::sync::Arc;
use upland_core::advice::findings::{Severity, check};
use upland_core::advice::planner::{
    Basis, DateMinutes, Proposal, Relax, Relaxation, Request, Strategy, holds_until, plan, relaxations,
};
use upland_core::codes::Coded;
use upland_core::controller::schedule::ScheduledRun;
use upland_core::controller::schedule::{Percentages, Settings, Where, difference_by, expand};
use upland_core::quantity::month::Month;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::time::monday_of;
use upland_core::quantity::units::LitresPerMinute;
use upland_formats::clock_time;
use upland_formats::typed::{Habit, write_time};
use upland_store::settings::SettingsKind;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(plan_page).service(accept);
}

/// What a plan is asked for, in the address, so that a relaxation is one link away.
#[derive(serde::Deserialize, Default)]
struct PlanQuery {
    strategy: Option<String>,
    window: Option<String>,
    days: Option<u8>,
    programs: Option<u8>,
    share: Option<u8>,
    supply: Option<f64>,
    drip: Option<u8>,
    #[serde(rename = "for")]
    made_for: Option<String>,
}

impl PlanQuery {
    fn of_fields(fields: &Fields) -> Self {
        let text = |name: &str| Some(fields.get(name).to_owned()).filter(|t| !t.is_empty());
        Self {
            strategy: text("strategy"),
            window: text("window"),
            days: text("days").and_then(|t| t.parse().ok()),
            programs: text("programs").and_then(|t| t.parse().ok()),
            share: text("share").and_then(|t| t.parse().ok()),
            supply: text("supply").and_then(|t| t.parse().ok()),
            drip: text("drip").and_then(|t| t.parse().ok()),
            made_for: text("for"),
        }
    }

    fn strategy(&self, snapshot: &ControllerSnapshot) -> Strategy {
        let asked = self.strategy.as_deref().and_then(Strategy::from_code);
        asked.unwrap_or_else(|| Strategy::default_for(&snapshot.installation.card))
    }

    fn relax(&self) -> Relax {
        Relax {
            window_from: self.window.as_deref().and_then(clock_time),
            extra_days: self.days.unwrap_or(0).min(6),
            extra_programs: self.programs.unwrap_or(0).min(20),
            share_pct: self.share.filter(|s| (1..100).contains(s)),
            supply: self.supply.filter(|s| s.is_finite() && *s > 0.0).map(LitresPerMinute::from_l_per_min),
            drip_apart: self.drip == Some(1),
            // The planner sees to it by itself.
            date_minutes: DateMinutes::ByNight,
        }
    }

    fn basis(&self) -> Basis {
        basis_of(self.made_for.as_deref().unwrap_or_default())
    }
}

/// What a plan is made for by its name in addresses: a month's number, the year, else the coming weeks.
fn basis_of(text: &str) -> Basis {
    match text {
        "year" => Basis::Year,
        number => number.parse().ok().and_then(Month::from_number).map_or(Basis::Coming, Basis::Month),
    }
}

fn basis_name(basis: Basis) -> String {
    match basis {
        Basis::Coming => String::new(),
        Basis::Year => "year".into(),
        Basis::Month(month) => month.number().to_string(),
    }
}

/// The address that tries a strategy for a time with some limits relaxed.
fn href((strategy, basis): Asked, relax: Relax) -> String {
    let mut href = format!("?strategy={}", strategy.code());
    if basis != Basis::Coming {
        href.push_str(&format!("&for={}", basis_name(basis)));
    }
    if relax.drip_apart {
        href.push_str("&drip=1");
    }
    if let Some(from) = relax.window_from {
        href.push_str(&format!("&window={}", write_time(from, Habit::default())));
    }
    for (name, value) in [("days", relax.extra_days), ("programs", relax.extra_programs)] {
        if value > 0 {
            href.push_str(&format!("&{name}={value}"));
        }
    }
    if let Some(share) = relax.share_pct {
        href.push_str(&format!("&share={share}"));
    }
    if let Some(supply) = relax.supply {
        href.push_str(&format!("&supply={}", plain(supply.l_per_min(), 1)));
    }
    href
}

/// A strategy and what it plans for.
type Asked = (Strategy, Basis);

struct StrategyLine {
    href: String,
    name: &'static str,
    chosen: bool,
    is_default: bool,
    fits: bool,
    nights: String,
    minutes: String,
    water: String,
    share: String,
    verdict: String,
}

struct ProgramBlock {
    index: usize,
    name: String,
    starts: String,
    stations: String,
    reason: String,
    zones: Vec<(String, String)>,
    changes: Vec<ChangeLine>,
}

struct Fit {
    week: Week,
    programs: Vec<ProgramBlock>,
    /// What it is made for and until when it holds.
    holds: String,
    notes: Vec<String>,
    /// Changes that belong to no planned program: those switched off, percentages, the controller.
    others: Vec<ChangeLine>,
    findings: Vec<program_words::FindingWords>,
    unchanged: bool,
}

struct NoFit {
    binding: String,
    relaxations: Vec<(String, String)>,
}

/// What is planned, whoever looks.
struct Plan {
    strategies: Vec<StrategyLine>,
    chosen: (&'static str, &'static str),
    /// What it may be made for: name in addresses, words, whether it is.
    times: Vec<(String, String, bool)>,
    fit: Option<Fit>,
    no_fit: Option<NoFit>,
    relaxed: Vec<String>,
}

impl Plan {
    fn of(snapshot: &ControllerSnapshot, wanted: Asked, relax: Relax) -> Self {
        let present = snapshot.settings();
        let asked = request(snapshot, &present, wanted, relax);
        let (fit, no_fit) = match plan(&asked) {
            Ok(proposal) => (Some(fit(snapshot, &asked, &proposal)), None),
            Err(binding) => {
                let names = snapshot.names(&present);
                let relaxations = relaxations(&asked);
                let lines =
                    relaxations.iter().map(|r| (href(wanted, r.relax), names.relaxation(r))).collect();
                (None, Some(NoFit { binding: names.binding(&binding), relaxations: lines }))
            }
        };
        Self {
            strategies: Strategy::ALL
                .iter()
                .map(|s| strategy_line(snapshot, &present, *s, wanted, relax))
                .collect(),
            chosen: program_words::strategy(wanted.0),
            times: times(wanted.1),
            fit,
            no_fit,
            relaxed: relaxed(snapshot, &present, relax),
        }
    }
}

#[derive(Template)]
#[template(path = "chapters/programs/plan.html")]
struct PlanPage {
    frame: Frame,
    head: ControllerHead,
    version: i32,
    plan: Arc<Plan>,
    hidden: Vec<(&'static str, String)>,
}

/// What a plan may be made for.
fn times(chosen: Basis) -> Vec<(String, String, bool)> {
    let months = Month::ALL.into_iter().map(|month| (Basis::Month(month), month.name().to_owned()));
    [(Basis::Coming, "the coming weeks".to_owned()), (Basis::Year, "the whole year".to_owned())]
        .into_iter()
        .chain(months)
        .map(|(basis, words)| (basis_name(basis), words, basis == chosen))
        .collect()
}

fn request<'a>(
    snapshot: &'a ControllerSnapshot,
    present: &'a Settings,
    (strategy, basis): Asked,
    relax: Relax,
) -> Request<'a> {
    Request { installation: &snapshot.installation, present, strategy, from: snapshot.today, basis, relax }
}

/// A strategy with what it costs and brings.
fn strategy_line(
    snapshot: &ControllerSnapshot,
    present: &Settings,
    strategy: Strategy,
    chosen: Asked,
    relax: Relax,
) -> StrategyLine {
    let (name, _) = program_words::strategy(strategy);
    let mut line = StrategyLine {
        href: href((strategy, chosen.1), relax),
        name,
        chosen: strategy == chosen.0,
        is_default: strategy == Strategy::default_for(&snapshot.installation.card),
        fits: false,
        nights: "–".into(),
        minutes: "–".into(),
        water: "–".into(),
        share: "–".into(),
        verdict: "does not fit".into(),
    };
    let asked = request(snapshot, present, (strategy, chosen.1), relax);
    let Ok(proposal) = plan(&asked) else { return line };
    let there = asked.planned_for();
    // Four weeks, so that longer rhythms are whole.
    let weeks = 4.0;
    let from = asked.first_day();
    let to = from.checked_add(27.days()).unwrap_or(from);
    let card = &snapshot.installation.card;
    let mut runs = expand(&proposal.settings, card, &snapshot.installation.tz, from, to);
    runs.retain(|r| !proposal.settings.station(r.station).lighting);
    let mut dates: Vec<_> = runs.iter().map(|r| r.date).collect();
    dates.sort_unstable();
    dates.dedup();
    let watered: Seconds = runs.iter().map(ScheduledRun::length).sum();
    #[allow(clippy::cast_precision_loss, reason = "nights of a month")]
    let (nights, minutes) = (dates.len() as f64 / weeks, watered.minutes().min_value() / weeks);
    let (gets, needs) = upland_core::installation::given(&there, &proposal.settings, &runs, 4)
        .iter()
        .fold((0.0, 0.0), |(a, b), g| (a + g.net_a_week.mm(), b + g.need_a_week.mm()));
    let found = check(&there, &proposal.settings, asked.first_day());
    let serious = found.iter().filter(|f| f.severity != Severity::Note).count();
    line.fits = true;
    line.nights = plain(nights, 1);
    line.minutes = span(minutes);
    line.water = snapshot
        .installation
        .volume(runs.iter())
        .map_or("–".into(), |v| volume(snapshot.units(), v * (1.0 / weeks)));
    line.share = if needs > 0.0 { format!("{} %", plain(100.0 * gets / needs, 0)) } else { "–".into() };
    line.verdict = if serious == 0 { "passes every check".into() } else { format!("{serious} findings") };
    line
}

fn fit(snapshot: &ControllerSnapshot, asked: &Request<'_>, proposal: &Proposal) -> Fit {
    let present = asked.present;
    let names: Names<'_> = snapshot.names(&proposal.settings);
    let from = monday_of(snapshot.today);
    let runs = timeline::week_runs(&names, from);
    let changes = difference_by(present, &proposal.settings, date_writer());
    let programs = proposal
        .programs
        .iter()
        .filter_map(|reason| {
            let program = proposal.settings.programs.get(reason.program)?;
            let own = changes.iter().filter(|c| c.place == Where::Program(reason.program)).cloned().collect();
            Some(ProgramBlock {
                index: reason.program,
                name: program.name.clone(),
                starts: typed_times(&program.starts),
                stations: names.stations(&reason.stations),
                reason: names.program_reason(reason),
                zones: proposal
                    .zones
                    .iter()
                    .filter(|z| reason.stations.contains(&z.station))
                    .map(|z| (names.station(z.station), names.zone_reason(z)))
                    .collect(),
                changes: names.changes(own),
            })
        })
        .collect();
    let planned = |place: &Where| matches!(place, Where::Program(i) if proposal.programs.iter().any(|p| p.program == *i));
    let others = changes.iter().filter(|c| !planned(&c.place)).cloned().collect();
    Fit {
        week: timeline::week(
            &names,
            &runs,
            Shown { from, chosen: snapshot.today, zoom: Zoom::Day, editable: false },
        ),
        programs,
        holds: names.plan_holds(proposal.month, asked.basis, holds_until(asked, proposal)),
        notes: names.plan_notes(proposal),
        others: names.changes(others),
        findings: check(&asked.planned_for(), &proposal.settings, asked.first_day())
            .iter()
            .map(|f| names.finding(f))
            .collect(),
        unchanged: changes.is_empty(),
    }
}

/// What was relaxed, in words.
fn relaxed(snapshot: &ControllerSnapshot, present: &Settings, relax: Relax) -> Vec<String> {
    let names = snapshot.names(present);
    let one =
        |relax: Relax| (relax != Relax::default()).then(|| names.relaxation(&Relaxation { relax, by: 0.0 }));
    let none = Relax::default();
    let mut said: Vec<String> = Vec::new();
    if let Some(from) = relax.window_from {
        said.push(format!("the window opens at {}", from.formatted("%H:%M")));
    }
    said.extend(
        [
            one(Relax { extra_days: relax.extra_days, ..none }),
            one(Relax { extra_programs: relax.extra_programs, ..none }),
            one(Relax { supply: relax.supply, ..none }),
            one(Relax { share_pct: relax.share_pct, ..none }),
            one(Relax { drip_apart: relax.drip_apart, ..none }),
        ]
        .into_iter()
        .flatten(),
    );
    said
}

questions! {
    words Planned { controller: u8, asked: String } -> Plan;
}

#[get("/sites/{id}/controllers/{number}/plan")]
async fn plan_page(
    here: AtSite,
    path: web::Path<(i64, u8)>,
    query: web::Query<PlanQuery>,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let (asked, relax) = ((query.strategy(&snapshot), query.basis()), query.relax());
    let question = Planned { controller: path.1, asked: format!("{asked:?} {relax:?}") };
    let planned = Arc::clone(&snapshot);
    let plan = here
        .once(here.about_moment(here.moment(None)), question, 60, move |_| {
            Ok(Plan::of(&planned, asked, relax))
        })
        .await?;
    page(&PlanPage {
        frame: snapshot.frame(&here, "plan")?,
        head: snapshot.head(Tab::Plan)?,
        version: snapshot.saved().map_or(0, |s| s.version),
        plan,
        hidden: vec![
            ("strategy", asked.0.code().to_owned()),
            ("for", basis_name(asked.1)),
            ("drip", u8::from(relax.drip_apart).to_string()),
            ("window", relax.window_from.map_or(String::new(), |t| write_time(t, Habit::default()))),
            ("days", relax.extra_days.to_string()),
            ("programs", relax.extra_programs.to_string()),
            ("share", relax.share_pct.map_or(String::new(), |s| s.to_string())),
            ("supply", relax.supply.map_or(String::new(), |s| plain(s.l_per_min(), 3))),
        ],
    })
}

/// The present settings with some programs of a proposal: with all, the proposal itself.
fn taken(present: &Settings, proposal: &Proposal, chosen: &[usize]) -> Settings {
    let all = proposal.programs.iter().all(|p| chosen.contains(&p.program));
    if all {
        return proposal.settings.clone();
    }
    let mut settings = present.clone();
    for index in chosen {
        let (Some(new), Some(slot)) =
            (proposal.settings.programs.get(*index), settings.programs.get_mut(*index))
        else {
            continue;
        };
        slot.clone_from(new);
        if let (Percentages::Program(new), Percentages::Program(own)) =
            (&proposal.settings.percentages, &mut settings.percentages)
            && let (Some(value), Some(slot)) = (new.get(*index), own.get_mut(*index))
        {
            *slot = *value;
        }
        for (station, _) in &new.run_times {
            let cycle = proposal.settings.station(*station).cycle_and_soak;
            settings.update_station(*station, |s| s.cycle_and_soak = cycle);
        }
    }
    settings.canonical()
}

#[post("/sites/{id}/controllers/{number}/plan")]
async fn accept(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, u8)>,
    fields: Fields,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let base = base_version(&fields)?;
    let query = PlanQuery::of_fields(&fields);
    let (asked, relax) = ((query.strategy(&snapshot), query.basis()), query.relax());
    let back = format!("{}/plan{}", snapshot.path(), href(asked, relax));
    let present = snapshot.settings();
    let refused = |text: String| -> Result<HttpResponse, PageError> {
        flash(&here.who.session, text, None)?;
        Ok(see_other(&back))
    };
    let Ok(proposal) = plan(&request(&snapshot, &present, asked, relax)) else {
        return refused(
            "The plan does not fit any more; something changed in between. Nothing was stored.".into(),
        );
    };
    let programs = proposal.programs.iter().map(|p| p.program);
    let chosen: Vec<usize> = programs.filter(|i| fields.get(&format!("take{i}")) == "on").collect();
    if chosen.is_empty() {
        return refused("No program was chosen, so nothing was stored. Tick those to take over.".into());
    }
    let settings = taken(&present, &proposal, &chosen);
    // More programs than the controller has were only a way to see what would do.
    if let Some(fault) = settings.check(&snapshot.installation.card).into_iter().next() {
        return refused(format!(
            "The controller cannot be set to this plan: {}. Correct its type, or choose another relaxation.",
            fault.message
        ));
    }
    let whole = chosen.len() == proposal.programs.len();
    let mut reason = program_words::strategy(asked.0).0.to_lowercase();
    match asked.1 {
        Basis::Coming => {}
        Basis::Year => reason.push_str(" for the year"),
        Basis::Month(month) => reason.push_str(&format!(" for {}", month.name())),
    }
    if !whole {
        reason.push_str(&format!(", {} of {} programs", chosen.len(), proposal.programs.len()));
    }
    let given_up = relaxed(&snapshot, &present, relax);
    if !given_up.is_empty() {
        reason.push_str(&format!("; with {}", given_up.join(", ").to_lowercase()));
    }
    let say = Sayings {
        done: &|version| format!("The plan is version {version}. Print the controller sheet, or program it."),
        done_at: snapshot.path(),
        meanwhile: "This is the plan compared with it; check again.",
        again_at: back.clone(),
        undo: true,
    };
    ControllerVersion { settings, kind: SettingsKind::Planned, reason, base }
        .save(&here, &snapshot, say)
        .await
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;

    const NEED: Asked = (Strategy::JustNeed, Basis::Coming);

    #[test]
    fn a_relaxation_is_one_address_away_and_reads_back() {
        let relax = Relax {
            window_from: Some(jiff::civil::time(3, 10, 0, 0)),
            extra_days: 1,
            extra_programs: 2,
            share_pct: Some(85),
            supply: Some(LitresPerMinute::from_l_per_min(120.5)),
            drip_apart: true,
            ..Relax::default()
        };
        let address = href((Strategy::DeepTwice, Basis::Month(Month::May)), relax);
        assert_eq!(
            address,
            "?strategy=deep_twice&for=5&drip=1&window=03:10&days=1&programs=2&share=85&supply=120.5"
        );
        let fields = Fields(
            address[1..]
                .split('&')
                .filter_map(|p| p.split_once('='))
                .map(|(k, v)| (k.to_owned(), v.to_owned()))
                .collect(),
        );
        let query = PlanQuery::of_fields(&fields);
        assert_eq!((query.relax(), query.basis()), (relax, Basis::Month(Month::May)));
        assert_eq!(
            (basis_of("year"), basis_of("13"), basis_of("")),
            (Basis::Year, Basis::Coming, Basis::Coming)
        );
        let snapshot = fixture::controller_snapshot();
        assert_eq!(query.strategy(&snapshot), Strategy::DeepTwice);
        assert_eq!(
            PlanQuery::default().strategy(&snapshot),
            Strategy::JustNeed,
            "the default of this controller"
        );
        let wild = PlanQuery {
            share: Some(200),
            supply: Some(f64::NAN),
            window: Some("late".into()),
            ..PlanQuery::default()
        };
        assert_eq!(wild.relax(), Relax::default(), "what cannot be is not relaxed");
    }

    #[test]
    fn a_proposal_is_taken_whole_or_by_program() {
        let snapshot = fixture::controller_snapshot();
        let present = snapshot.settings();
        let proposal = plan(&request(&snapshot, &present, NEED, Relax::default())).unwrap();
        let all: Vec<usize> = proposal.programs.iter().map(|p| p.program).collect();
        assert_eq!(taken(&present, &proposal, &all), proposal.settings);
        let one = taken(&present, &proposal, &all[1..2]);
        assert_eq!(one.programs[1], proposal.settings.programs[1]);
        assert_eq!((&one.programs[0], &one.programs[2]), (&present.programs[0], &present.programs[2]));
        assert_eq!(one.check(&snapshot.installation.card), []);
    }

    #[test]
    fn schools_stand_side_by_side_with_their_figures() {
        let snapshot = fixture::controller_snapshot();
        let present = snapshot.settings();
        let lines: Vec<String> = Strategy::ALL
            .iter()
            .map(|s| strategy_line(&snapshot, &present, *s, NEED, Relax::default()))
            .map(|l| {
                format!(
                    "{}{}: {} nights, {}, {}, {}, {}",
                    if l.is_default { "*" } else { "" },
                    l.name,
                    l.nights,
                    l.minutes,
                    l.water,
                    l.share,
                    l.verdict
                )
            })
            .collect();
        insta::assert_snapshot!(lines.join("\n"));
        let fitted = plan(&request(&snapshot, &present, NEED, Relax::default())).unwrap();
        let shown = fit(&snapshot, &request(&snapshot, &present, NEED, Relax::default()), &fitted);
        assert!(shown.holds.starts_with("Made for the coming weeks; it is valid until "), "{}", shown.holds);
        assert!(
            !shown.unchanged && shown.programs.iter().all(|p| !p.reason.is_empty() && !p.zones.is_empty())
        );
        let again = fit(&snapshot, &request(&snapshot, &fitted.settings, NEED, Relax::default()), &fitted);
        assert!(again.unchanged, "a plan against itself changes nothing");
    }
}

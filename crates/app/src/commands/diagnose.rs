//! `diagnose`: the likely causes of what a visit found, and which adjustment to make, as JSON.

use super::at_work::{at_work, climate, future_notes, site, weather_notes};
use super::weather::Options;
use super::{Failure, print_json, read_input};
use serde::Serialize;
use upland_core::codes::Coded;
use upland_core::tuning::{Decision, OUTLOOK_DAYS, Proposed, Suspicion, account_at, decide};
use upland_formats::visit_file;
use upland_web::cause_words::settle;
use upland_web::tuning_words::Words;

#[derive(clap::Args)]
#[command(
    after_help = "Output: {\"causes\":[{\"code\",\"zone\",\"share\",\"for\":[],\"against\":[],\"settle\"}],\"levers\":[{\"code\",\"zone\",\"from\",\
\"to\",\"effect\"}],\"look_again\"}; zone is controller-station, or null for the whole controller or site; shares add up to 1 with the\n\
causes that are hardly possible. Lengths are metric. Exit 1 for a wrong file, 2 for wrong usage."
)]
pub struct Args {
    /// The site file (JSON; see the schema command).
    site: String,
    /// Weather of any format that this program reads, or - for standard input.
    weather: String,
    /// What was seen (JSON; see `schema visit`).
    visit: String,
    #[command(flatten)]
    options: Options,
    /// Logged runs, readings, meter and earlier settings (JSON; see `schema log`).
    #[arg(long)]
    log: Option<String>,
}

#[derive(Serialize)]
struct Output {
    causes: Vec<CauseOut>,
    levers: Vec<LeverOut>,
    /// Zones that look otherwise than the account expects.
    contradictions: Vec<ContradictionOut>,
    look_again: String,
}

#[derive(Serialize)]
struct CauseOut {
    code: &'static str,
    zone: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sensor: Option<String>,
    share: f64,
    /// Of what could explain the same, where it is one to act on.
    #[serde(skip_serializing_if = "Option::is_none")]
    of_rivals: Option<f64>,
    #[serde(rename = "for")]
    for_it: Vec<String>,
    against: Vec<String>,
    settle: &'static str,
}

#[derive(Serialize)]
struct LeverOut {
    code: &'static str,
    cause: &'static str,
    zone: Option<String>,
    from: String,
    to: String,
    what: String,
    effect: String,
    worse: String,
    leave: String,
    look_again: String,
}

#[derive(Serialize)]
struct ContradictionOut {
    zone: String,
    seen: &'static str,
    expected: &'static str,
}

fn key(number: Option<u8>, station: Option<u16>) -> Option<String> {
    Some(format!("{}-{}", number?, station?))
}

fn output(decision: &Decision, words: &Words<'_>) -> Output {
    let cause = |own: &Suspicion| CauseOut {
        code: own.cause.code(),
        zone: key(own.controller_number, own.station),
        sensor: own.sensor.clone(),
        share: (own.share.fraction() * 1e4).round() / 1e4,
        of_rivals: own.of_rivals.map(|s| (s.fraction() * 1e4).round() / 1e4),
        for_it: own.for_it.iter().map(|e| words.evidence(own, e)).collect(),
        against: own.against.iter().map(|e| words.evidence(own, e)).collect(),
        settle: settle(own.settle),
    };
    let lever = |own: &Proposed| {
        let weeks = |at: usize| {
            let of =
                |all: &[Vec<upland_core::tuning::ZoneOutlook>; 2]| all.get(at).cloned().unwrap_or_default();
            (of(&own.as_is), of(&own.turned))
        };
        let (before, after) = weeks(0);
        LeverOut {
            code: own.lever.code.code(),
            cause: own.lever.cause.code(),
            zone: key(own.lever.controller_number, own.lever.station),
            from: words.amount(own.lever.from),
            to: words.amount(own.lever.to),
            what: words.lever(&own.lever),
            effect: words.effect(&own.lever, &before, &after, OUTLOOK_DAYS.first().map_or(2, |d| d / 7)),
            worse: words.worse(&before, &after),
            leave: words.leave(&own.lever),
            look_again: own.lever.look_again.to_string(),
        }
    };
    let contradiction = |own: &upland_core::tuning::Contradiction| ContradictionOut {
        zone: format!("{}-{}", own.controller_number, own.station),
        seen: own.seen.code(),
        expected: own.expected.code(),
    };
    Output {
        causes: decision.diagnosis.causes.iter().map(cause).collect(),
        levers: decision.levers.iter().map(lever).collect(),
        contradictions: decision.diagnosis.contradictions.iter().map(contradiction).collect(),
        look_again: decision.look_again.to_string(),
    }
}

pub fn run(args: &Args) -> Result<(), Failure> {
    let read = site(&args.site)?;
    let climate = climate(&args.weather, &args.options, &read.0, &read.1)?;
    let bytes = read_input(&args.visit)?;
    // The facts follow from the day of the visit, which stands in the visit.
    let day = visit_file::day(&bytes, &read.1).map_err(|p| Failure::problems(&p))?;
    weather_notes(&climate, day, day);
    let facts = at_work(read.0, read.1, climate, args.log.as_deref(), day)?;
    let visit = visit_file::read(&bytes, &facts).map_err(|p| Failure::problems(&p))?;
    future_notes(&facts.log, visit.at, &facts.tz);
    let decision = decide(&facts, &account_at(&facts, &visit), &visit);
    print_json(&output(&decision, &Words::metric(&facts)))
}

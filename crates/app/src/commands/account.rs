//! `account`: what fell, ran, went in, drained and is missing, zone by zone, a row a day or an hour.

use super::at_work::{at_work, climate, future_notes, site, weather_notes};
use super::weather::Options;
use super::{Failure, check_span, print};
use jiff::civil::Date;
use std::collections::BTreeMap;
use upland_core::account::running::{ControllerFacts, ControllerRun};
use upland_core::account::site_account::{
    AccountInputs, EvidencePolicy, SiteAccount, begins, end_of, of_site,
};
use upland_core::account::zone::AccountHour;
use upland_core::codes::Coded;
use upland_core::site::StationId;
use upland_formats::account_csv::{self, AccountRow};

#[derive(clap::Args)]
#[command(
    after_help = "Output: time, zone, rain_mm (what reaches the zone), rain_in_mm, applied_mm, applied_in_mm, runoff_mm,\n\
drainage_mm, et_mm, ks, depletion_mm, evidence, held_by. In every row depletion before - rain_in - applied_in + et +\n\
drainage = depletion after, but where a reading set it: then evidence ends with \"reading\"; and where a younger root\n\
zone holds less than was missing: then it ends with \"root_depth\". A zone of a site with several controllers is written controller-station. Exit 1 for a wrong file, 2 for wrong usage."
)]
pub struct Args {
    /// The site file (JSON; see the schema command).
    site: String,
    /// Weather of any format that this program reads, or - for standard input.
    weather: String,
    #[command(flatten)]
    options: Options,
    /// First day, YYYY-MM-DD.
    #[arg(long)]
    from: Date,
    /// Last day, included.
    #[arg(long)]
    to: Date,
    /// What counts as the watering of each day.
    #[arg(long, default_value = "best", value_parser = way)]
    way: EvidencePolicy,
    /// A row an hour instead of a day.
    #[arg(long)]
    hours: bool,
    /// Logged runs, readings, meter and earlier settings (JSON; see `schema log`).
    #[arg(long)]
    log: Option<String>,
}

fn way(text: &str) -> Result<EvidencePolicy, String> {
    let known: Vec<&str> = EvidencePolicy::TABLE.iter().map(|(_, code)| *code).collect();
    EvidencePolicy::from_code(text).ok_or_else(|| format!("not one of {}", known.join(", ")))
}

/// Holders by zone, with the run that each held.
type HeldRuns<'a> = BTreeMap<StationId, Vec<&'a ControllerRun>>;

/// Whoever held a run that begins in a span, each named once.
fn names_of(
    facts: &AccountInputs,
    held: &HeldRuns,
    of: StationId,
    from: jiff::Timestamp,
    until: jiff::Timestamp,
) -> String {
    let own = facts.of_controller(of.controller);
    let names = own.map(ControllerFacts::sensor_names).unwrap_or_default();
    let mut all: Vec<String> = Vec::new();
    let runs = held.get(&of).into_iter().flatten();
    for run in runs.filter(|r| r.run.start >= from && r.run.start < until) {
        for holder in &run.held_by {
            let text = account_csv::holder(holder, &names, &facts.tz);
            if !all.contains(&text) {
                all.push(text);
            }
        }
    }
    all.join("; ")
}

pub fn run(args: &Args) -> Result<(), Failure> {
    check_span(args.from, args.to)?;
    let read = site(&args.site)?;
    let climate = climate(&args.weather, &args.options, &read.0, &read.1)?;
    weather_notes(&climate, args.from, args.to);
    let facts = &at_work(read.0, read.1, climate, args.log.as_deref(), args.to)?;
    let until = end_of(args.to, &facts.tz);
    future_notes(&facts.log, until, &facts.tz);
    let first = begins(&facts.climate, args.from);
    let mut hours: Vec<Vec<AccountHour>> = vec![Vec::new(); facts.zones.len()];
    let account = of_site(facts, args.way, first, until, |place, hour| {
        if args.hours
            && hour.date >= args.from
            && let Some(own) = hours.get_mut(place)
        {
            own.push(*hour);
        }
    });
    let rows = rows(facts, &account, &hours, args);
    print(&account_csv::write(&rows))
}

/// The rows of a site: by zone, then by time.
fn rows(
    facts: &AccountInputs,
    account: &SiteAccount,
    hours: &[Vec<AccountHour>],
    args: &Args,
) -> Vec<AccountRow> {
    let mut held: HeldRuns = BTreeMap::new();
    for (number, runs) in account.runs.controllers() {
        for run in runs.iter().filter(|r| !r.held_by.is_empty()) {
            held.entry(StationId::new(number, run.run.station)).or_default().push(run);
        }
    }
    let several = facts.controllers.len() > 1;
    let mut rows = Vec::new();
    for (place, zone) in account.zones.iter().enumerate() {
        let of = StationId::new(zone.controller_number, zone.station);
        let name = if several { of.to_string() } else { of.station.to_string() };
        if args.hours {
            for hour in hours.get(place).into_iter().flatten() {
                let ends = hour.from + jiff::SignedDuration::from_hours(1);
                rows.push(AccountRow {
                    time: account_csv::hour(hour.from, &facts.tz),
                    zone: name.clone(),
                    water: hour.water,
                    evidence: hour.evidence,
                    was_read: hour.reset_from.is_some(),
                    held_by: names_of(facts, &held, of, hour.from, ends),
                });
            }
            continue;
        }
        for (day, sky) in zone.days.iter().zip(account.sky.days()).filter(|(day, _)| day.date >= args.from) {
            rows.push(AccountRow {
                time: day.date.to_string(),
                zone: name.clone(),
                water: day.water,
                evidence: day.evidence,
                was_read: day.reset_from.is_some(),
                held_by: names_of(facts, &held, of, sky.begins, sky.ends),
            });
        }
    }
    rows
}

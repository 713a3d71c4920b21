//! The ways of a site, and what each of them comes to.

use super::query::Asked;
use crate::server::cache::questions;
use crate::server::error::PageError;
use crate::server::parallel::each_of;
use crate::site::context::AtSite;
use crate::site::snapshot::SiteSnapshot;
use std::collections::BTreeMap;
use std::sync::Arc;
use upland_core::account::site_account::AccountInputs;
use upland_core::advice::planner::Strategy;
use upland_core::codes::Coded;
use upland_core::quantity::span::DateSpan;
use upland_core::sensors::Sense;
use upland_core::trial::{Named, NoSample, Origin, Refusal, Schedule, TrialWay, WayResult, run, run_mean};
use upland_formats::trial_file::{Ready, TrialFile, TrialWeather};
use upland_formats::way_file;
use upland_store::trials::WayRecord;

/// The ways that every site has: the named ones, and the strategies of the planner, but for the soil balance: a controller that
/// computes itself is that.
pub(super) fn common() -> Vec<TrialWay> {
    let named = Named::TABLE.iter().map(|(named, code)| named.way(code));
    let schools = Strategy::ALL.into_iter().filter(|s| *s != Strategy::SoilBalance);
    let schools = schools.map(|school| TrialWay {
        name: school.code().to_owned(),
        schedule: Schedule::School(school),
        ..TrialWay::default()
    });
    named.chain(schools).collect()
}

/// Why a way was not tried.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Why {
    /// It cannot be tried here.
    Refused(Vec<Refusal>),
    /// It no longer fits the site.
    Unfit(String),
}

/// A way that somebody described: as kept, and as it reads at the site as it stands.
pub(super) struct OwnWay {
    pub record: WayRecord,
    pub way: Result<TrialWay, String>,
}

questions! {
    facts WaysAsKept {} -> Vec<WayRecord>;
    words OwnWays {} -> Vec<OwnWay>;
    words TriedWays { asked: String, depth: Depth } -> Result<Tried, NoSample>;
    facts InFull { asked: String, way: String } -> WayResult;
}

/// The ways that somebody described for the site, read once for its facts.
pub(super) async fn own_ways(here: &AtSite) -> Result<Arc<Vec<OwnWay>>, PageError> {
    let of_site = here.site_key();
    let records = here.more(WaysAsKept {}, 20, move |snapshot| snapshot.trial_ways(of_site)).await?;
    if records.is_empty() {
        return Ok(Arc::default());
    }
    let snapshot = here.snapshot(None).await?;
    let read = move |record: &WayRecord| {
        let way = way_file::read(record.way.to_string().as_bytes(), &snapshot.inputs);
        let told = |problems: Vec<upland_formats::PathProblem>| {
            problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")
        };
        OwnWay { way: way.map_err(told), record: record.clone() }
    };
    here.once(here.about(), OwnWays {}, 4 * records.len(), move |_| Ok(records.iter().map(read).collect()))
        .await
}

/// How closely zones are looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum Depth {
    /// By the mean of each zone: what the table of ways shows.
    Mean,
    /// With the quarters that get least and most.
    InParts,
}

/// Ways that were tried, and those that could not be, with the reason.
pub(super) struct Tried {
    pub facts: AccountInputs,
    pub span: DateSpan,
    pub origin: Origin,
    pub results: Vec<WayResult>,
    pub refused: Vec<(String, Why)>,
}

impl Tried {
    /// Every way of a trial, on every core: in full, or by the mean of each zone alone.
    pub fn of(ready: Ready, trial: &TrialFile, depth: Depth) -> Self {
        let tariff = trial.tariff.as_ref();
        let one = |way: &TrialWay| {
            let outcome = match depth {
                Depth::InParts => run(way, &ready.facts, ready.span, tariff, |_, _| ()),
                Depth::Mean => run_mean(way, &ready.facts, ready.span, tariff),
            };
            (way.name.clone(), outcome)
        };
        let outcomes = each_of(&trial.ways, one);
        let (mut results, mut refused) = (Vec::new(), Vec::new());
        for (name, outcome) in outcomes {
            match outcome {
                Ok(result) => results.push(result),
                Err(refusals) => refused.push((name, Why::Refused(refusals))),
            }
        }
        Self { facts: ready.facts, span: ready.span, origin: ready.origin, results, refused }
    }
}

/// A trial of some ways at a site as it is set now, without its weather.
pub(super) fn trial_of(
    snapshot: &SiteSnapshot,
    asked: &Asked,
    name: String,
    ways: Vec<TrialWay>,
) -> TrialFile {
    let plan = upland_core::sensors::site_plan::SitePlan::default();
    let mut probes = BTreeMap::new();
    for own in &snapshot.inputs.controllers {
        for sensor in own.sensors.iter().filter(|s| s.sensor.card.senses(Sense::SoilMoisture)) {
            let readings = sensor.probe.as_slice().to_vec();
            probes.insert((own.number, sensor.sensor.name.clone()), readings);
        }
    }
    TrialFile {
        name,
        site: snapshot.records.file(plan),
        weather: TrialWeather::default(),
        probes,
        sample: asked.sample,
        tariff: asked.tariff.clone(),
        ways,
    }
}

/// Makes a trial ready on the climate that the site's facts have.
pub(super) fn ready(snapshot: &SiteSnapshot, trial: &TrialFile) -> Result<Ready, NoSample> {
    trial.ready_on(&snapshot.climate)
}

/// Tries every way, once for the facts and what is asked.
pub(super) async fn tried(
    here: &AtSite,
    asked: &Asked,
    depth: Depth,
) -> Result<Arc<Result<Tried, NoSample>>, PageError> {
    let own = own_ways(here).await?;
    let snapshot = here.snapshot(None).await?;
    let question = TriedWays { asked: format!("{asked:?}"), depth };
    let kilobytes = 50 + here.records.zones.len() * (common().len() + own.len()) * 366 / 8;
    let asked = asked.clone();
    here.once(here.about(), question, kilobytes, move |_| {
        let described = own.iter().filter_map(|own| own.way.clone().ok());
        let ways = common().into_iter().chain(described).collect();
        let trial = trial_of(&snapshot, &asked, String::new(), ways);
        Ok(ready(&snapshot, &trial).map(|ready| {
            let mut tried = Tried::of(ready, &trial, depth);
            let unfit = own.iter().filter_map(|own| {
                let why = own.way.as_ref().err()?;
                Some((own.record.name.clone(), Why::Unfit(why.clone())))
            });
            tried.refused.extend(unfit);
            tried
        }))
    })
    .await
}

/// One way that was tried, in full, once for the facts and what is asked.
pub(super) async fn in_full(
    here: &AtSite,
    asked: &Asked,
    tried: &Arc<Result<Tried, NoSample>>,
    result: &WayResult,
) -> Result<Arc<WayResult>, PageError> {
    let question = InFull { asked: format!("{asked:?}"), way: result.way.name.clone() };
    let (known, mean, tariff) = (Arc::clone(tried), result.clone(), asked.tariff.clone());
    here.once(here.about(), question, 30 * here.records.zones.len(), move |_| {
        let full = known
            .as_ref()
            .as_ref()
            .ok()
            .and_then(|tried| run(&mean.way, &tried.facts, tried.span, tariff.as_ref(), |_, _| ()).ok());
        Ok(full.unwrap_or(mean))
    })
    .await
}

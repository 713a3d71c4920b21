//! What a way makes of the facts of a site.

use super::way::{Change, PercentageRule, Ramps, Refusal, Schedule, SensorChange, Spot, TrialWay};
use crate::account::running::{ControllerFacts, SensorFacts};
use crate::account::sensed::{AsRead, as_read, sensor_facts};
use crate::account::site_account::{AccountInputs, EvidencePolicy, begins, end_of};
use crate::account::zone::Advise;
use crate::advice::budget::{Base, Measure, RainRule, budget, needs, week, with_best, with_week};
use crate::advice::planner::{Basis, Relax, Request, Strategy, plan};
use crate::controller::schedule::{Percentages, Settings};
use crate::quantity::month::Month;
use crate::quantity::ratio::{Percentage, Share};
use crate::quantity::span::DateSpan;
use crate::quantity::time::{midnight, monday_of};
use crate::quantity::units::Millimetres;
use crate::sensors::state::{Cause, Pause};
use crate::sensors::{Channel, Reading, Readings, Sense, Sensor, generic};
use crate::site::SurveyedZone;
use crate::sound::{SoundBase, sound_base};
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use std::borrow::Cow;

/// Shares that a misplaced sensor feels (our stated estimates).
const UNDER_EAVE: Share = Share::from_fraction(0.2);
const IN_SHADE: f64 = 0.5;

/// The facts that a way makes of a site's over some days, and how its account is counted.
///
/// # Errors
/// Everything that keeps the way from being tried.
pub fn apply(
    way: &TrialWay,
    facts: &AccountInputs,
    span: DateSpan,
) -> Result<(AccountInputs, EvidencePolicy), Vec<Refusal>> {
    let planted = planted(way.planting, facts);
    let facts = planted.as_ref();
    let days = DateSpan::new(begins(&facts.climate, span.first), span.last);
    let mut refusals = Vec::new();
    if facts.climate.range(span.first, span.last).next().is_none() {
        refusals.push(Refusal::NoWeather);
    }
    let mut tried = AccountInputs { log: crate::account::log::Log::default(), ..facts.clone() };
    tried.site.windows.main = way.window.unwrap_or(facts.site.windows.main);
    let counted = match way.schedule {
        Schedule::AsAdvised => EvidencePolicy::AsAdvised,
        Schedule::DailyBalance => {
            tried.advise = Advise::Nightly;
            EvidencePolicy::AsAdvised
        }
        Schedule::AsSet | Schedule::Settings(_) | Schedule::School(_) => EvidencePolicy::AsSet,
    };
    let read = as_read(&facts.climate, facts.site.longitude_deg, days.first, days.last, &facts.tz);
    for own in &mut tried.controllers {
        if let Err(refusal) = change_controller(way, facts, own, days, counted, &read) {
            refusals.push(refusal);
        }
    }
    let known = |change: &SensorChange| {
        facts.of_controller(change.controller_number).is_some_and(|b| b.sensor_names().contains(&change.name))
    };
    let unknown = way.sensors.iter().filter(|change| !known(change));
    refusals.extend(unknown.map(|change| Refusal::NoSensor { name: change.name.clone() }));
    if let Schedule::Settings(all) = &way.schedule {
        let there = |n: u8| facts.of_controller(n).is_some();
        let missing = all.iter().filter(|(n, _)| !there(*n));
        refusals.extend(missing.map(|(n, _)| Refusal::NoController { controller_number: *n }));
    }
    if refusals.is_empty() { Ok((tried, counted)) } else { Err(refusals) }
}

/// What a way makes of grow-ins and wean-offs.
fn planted(ramps: Ramps, facts: &AccountInputs) -> Cow<'_, AccountInputs> {
    let wean_off = match ramps {
        Ramps::AsSet => return Cow::Borrowed(facts),
        Ramps::None => None,
        Ramps::WeanOff(own) => Some(own),
    };
    let mut planted = facts.clone();
    for SurveyedZone { zone, resolved } in &mut planted.zones {
        (zone.planting.wean_off, resolved.wean_off) = (wean_off, wean_off);
        if wean_off.is_none() {
            (zone.planting.grow_in, resolved.grow_in) = (None, None);
        }
    }
    Cow::Owned(planted)
}

/// What a way makes of a controller.
fn change_controller(
    way: &TrialWay,
    facts: &AccountInputs,
    own: &mut ControllerFacts,
    span: DateSpan,
    counted: EvidencePolicy,
    read: &AsRead,
) -> Result<(), Refusal> {
    let DateSpan { first: from, last } = span;
    let until = end_of(last, &facts.tz);
    let by_sensor = matches!(way.percentages, PercentageRule::EtSensor { .. });
    if by_sensor && counted == EvidencePolicy::AsSet && !own.card.takes_percentages() {
        return Err(Refusal::NoPort { controller_number: own.number });
    }
    sensors(way, facts, own, read, until);
    if counted == EvidencePolicy::AsAdvised || own.computes_itself() {
        return Ok(());
    }
    let controller_number = own.number;
    let present = own.settings_at(until).cloned();
    let settings = match &way.schedule {
        Schedule::Settings(all) => {
            all.iter().find(|(n, _)| *n == controller_number).map(|(_, s)| s.clone()).or(present)
        }
        Schedule::School(strategy) => Some(planned(facts, own, present, *strategy, from)?),
        _ => present,
    };
    let mut settings = settings.ok_or(Refusal::Unset { controller_number })?;
    if let Some(days) = way.days {
        settings.programs.iter_mut().filter(|p| p.waters()).for_each(|p| p.days = days);
    }
    if let Some(fault) = settings.check(&own.card).into_iter().next() {
        return Err(Refusal::CannotHold {
            controller_number,
            message: format!("{}: {}", fault.path, fault.message),
        });
    }
    // A trial of last summer asks what a rhythm does, not on which day it was begun; a rain delay has passed.
    let settings = Settings { rain_delay: None, ..settings }.with_rhythms_since(from);
    own.versions = versions(way.percentages, way.rain, facts, own, settings, span);
    Ok(())
}

fn planned(
    facts: &AccountInputs,
    own: &ControllerFacts,
    present: Option<Settings>,
    strategy: Strategy,
    from: Date,
) -> Result<Settings, Refusal> {
    let there = facts.installation(own, from);
    let present = present.unwrap_or_else(|| Settings::clean(&own.card));
    let (basis, relax) = (Basis::Year, Relax::default());
    let request = Request { installation: &there, present: &present, strategy, from, basis, relax };
    let planned = plan(&request).map(|proposal| proposal.settings);
    planned.map_err(|binding| Refusal::NoPlan { controller_number: own.number, binding })
}

/// The settings over the days, each version with the instant from which it counts.
fn versions(
    rule: PercentageRule,
    rain: Option<RainRule>,
    facts: &AccountInputs,
    own: &ControllerFacts,
    settings: Settings,
    span: DateSpan,
) -> Vec<(Timestamp, Settings)> {
    let DateSpan { first: from, last: to } = span;
    let at = |date: Date| midnight(date, &facts.tz);
    let always = |settings: Settings| vec![(Timestamp::MIN, settings)];
    match rule {
        PercentageRule::AsSet | PercentageRule::EtSensor { .. } => always(settings),
        PercentageRule::Left => {
            let hundred = own.card.nearest_percentage(Percentage::HUNDRED);
            always(Settings { percentages: settings.percentages.all_at(hundred), ..settings })
        }
        PercentageRule::Monthly => {
            let there = facts.installation(own, from);
            // Rain is taken off where no hold of the controller counts it already.
            let holds_rain = own.sensors.iter().any(|s| s.sensor.card.senses(Sense::Rain));
            let as_held = if holds_rain { RainRule::LeftToHold } else { RainRule::Counted };
            let rain = rain.unwrap_or(as_held);
            let SoundBase { base, .. } = sound_base(&there, &settings, from, Measure::default());
            let found = budget(&base, &needs(&there, &facts.climate, rain, from.year()), rain);
            if matches!(settings.percentages, Percentages::Month(_)) {
                return always(with_best(&settings, &found, Month::of(from)));
            }
            let months =
                core::iter::successors(Some(from.first_of_month()), |d| d.checked_add(1.month()).ok());
            months
                .take_while(|d| *d <= to)
                .map(|d| (at(d), with_best(&settings, &found, Month::of(d))))
                .collect()
        }
        PercentageRule::Weekly => {
            let there = facts.installation(own, from);
            let lowest = own.card.nearest_percentage(own.card.percentage_min);
            let mondays = core::iter::successors(Some(monday_of(from)), |d| d.checked_add(7.days()).ok());
            let mut year = None;
            let of = |monday: Date| {
                // The events of a year are counted once.
                let known: &Base<'_> = match &mut year {
                    Some((of, base)) if *of == monday.year() => base,
                    slot => {
                        let sound = sound_base(&there, &settings, monday, Measure::default());
                        &slot.insert((monday.year(), sound.base)).1
                    }
                };
                (at(monday), with_week(&settings, &week(known, &facts.climate, monday), Some(lowest)))
            };
            mondays.take_while(|d| *d <= to).map(of).collect()
        }
    }
}

/// The sensors of a controller as the record would have been read by them.
fn sensors(
    way: &TrialWay,
    facts: &AccountInputs,
    own: &mut ControllerFacts,
    read: &AsRead,
    until: Timestamp,
) {
    let hung = core::mem::take(&mut own.sensors);
    if !way.without_sensors {
        let changes = |name: &str| {
            let of = way.sensors.iter().filter(|c| c.controller_number == own.number && c.name == name);
            of.map(|c| c.change.clone()).collect::<Vec<_>>()
        };
        own.sensors = hung
            .into_iter()
            .filter_map(|sensor| {
                let changes = changes(&sensor.sensor.name);
                changed(&sensor, &changes, read, facts, until)
            })
            .collect();
        if way.rain == Some(RainRule::Counted) {
            // Rain that is counted holds nothing; frost and wind still do.
            let holds = own.sensors.iter_mut().map(|s| &mut s.holds);
            holds.for_each(|holds| holds.retain(|hold| !matches!(hold.cause, Cause::Rain { .. })));
        }
    }
    if let PercentageRule::EtSensor { trim_pct } = way.percentages {
        own.sensors.retain(|s| !s.sensor.card.senses(Sense::Et));
        own.sensors.extend(et_sensor(facts, own, trim_pct, read, until));
    }
}

/// A sensor as installed, or installed elsewhere or set otherwise; `None` when it is not there.
fn changed(
    hung: &SensorFacts,
    changes: &[Change],
    read: &AsRead,
    facts: &AccountInputs,
    until: Timestamp,
) -> Option<SensorFacts> {
    let mut sensor: Sensor = hung.sensor.clone();
    let mut bypasses: Vec<Pause> = Vec::new();
    let mut channels = read.channels.clone();
    let mut drying = read.drying.clone();
    // A probe tells what no record of the sky does.
    channels.insert(Channel::SoilMoisture, hung.probe.clone());
    for change in changes {
        match change {
            Change::Absent => return None,
            Change::RainThreshold(mm) => sensor.setting.rain_threshold = *mm,
            Change::Release(release) => sensor.setting.release = *release,
            Change::Bypassed(span) => bypasses
                .push(Pause { from: midnight(span.first, &facts.tz), until: end_of(span.last, &facts.tz) }),
            Change::Misplaced(Spot::UnderEave) => {
                if let Some(rain) = channels.get_mut(&Channel::Rain) {
                    let all = rain.as_slice().iter();
                    let less = |r: &Reading| Reading { value: r.value * UNDER_EAVE.fraction(), ..*r };
                    *rain = Readings::new(all.map(less).collect());
                }
            }
            Change::Misplaced(Spot::InShade) => drying = drying.slower(IN_SHADE),
        }
    }
    Some(sensor_facts(&sensor, &channels, &drying, bypasses, &facts.tz, until))
}

/// An ET sensor on a controller: what the month of most demand asks a day stands for 100 %.
fn et_sensor(
    facts: &AccountInputs,
    own: &ControllerFacts,
    trim_pct: f64,
    read: &AsRead,
    until: Timestamp,
) -> Option<SensorFacts> {
    let (_, card) = generic().into_iter().find(|(code, _)| *code == "et_sensor")?;
    let mut sensor = Sensor::of_card(card, own.number);
    let monthly = facts.installation(own, Date::constant(2026, 7, 1)).monthly_et0;
    let peak = monthly.iter().map(|et0| et0.mm()).fold(0.0, f64::max);
    if peak > 0.0 {
        sensor.setting.et_full = Millimetres::from_mm(peak);
    }
    sensor.setting.et_trim_pct = trim_pct;
    Some(sensor_facts(&sensor, &read.channels, &read.drying, Vec::new(), &facts.tz, until))
}

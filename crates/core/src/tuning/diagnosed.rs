//! A site as a diagnosis has it: what was found at the visit takes the place of what the survey and the settings say, so
//! that a forecast follows from the same facts as the adjustment beside it.

use super::cause::{Cause, Evidence, Suspicion};
use super::lever::STEP_SHARE;
use super::lever_kind::{Lever, LeverCode, Turn};
use super::visit::{Looks, Visit};
use crate::account::site_account::AccountInputs;
use crate::controller::schedule::{Percentages, Settings};
use crate::ground::planting::Trim;
use crate::quantity::units::{Millimetres, MillimetresPerHour};
use crate::sensors::Sense;
use crate::site::{StationId, SurveyedZone, Zone};

/// The facts with what the causes say of them. The cause that an adjustment puts right by hand is left out: the forecast with
/// the adjustment is of the site without it.
#[must_use]
pub fn as_diagnosed(
    facts: &AccountInputs,
    visit: &Visit,
    causes: &[&Suspicion],
    lever: Option<&Lever>,
) -> AccountInputs {
    let mut facts = facts.clone();
    for own in causes {
        let repaired = lever.is_some_and(|lever| {
            let by_hand = lever.turn == Turn::ByHand && lever.code != LeverCode::Survey;
            by_hand
                && (lever.cause, lever.controller_number, lever.station, lever.program)
                    == (own.cause, own.controller_number, own.station, own.program.or(lever.program))
        });
        if !repaired {
            apply(&mut facts, visit, own);
        }
    }
    facts
}

fn apply(facts: &mut AccountInputs, visit: &Visit, own: &Suspicion) {
    match own.cause {
        Cause::RateWrong | Cause::PlantsWrong | Cause::SoilWrong => survey(facts, visit, own),
        Cause::NoWater => of_settings(facts, own, |settings| {
            if let Some(station) = own.station {
                settings.programs.iter_mut().for_each(|p| p.run_times.retain(|(n, _)| *n != station));
            }
        }),
        Cause::EtTrim | Cause::EtClimate => nights(facts, own),
        _ => shown(facts, own),
    }
}

/// Settings of the controller of a cause changed, in every version.
fn of_settings(facts: &mut AccountInputs, own: &Suspicion, change: impl Fn(&mut Settings)) {
    for known in facts.controllers.iter_mut().filter(|b| Some(b.number) == own.controller_number) {
        known.versions.iter_mut().for_each(|(_, settings)| change(settings));
    }
}

/// What the controller showed takes the place of what was known of it.
fn shown(facts: &mut AccountInputs, own: &Suspicion) {
    for evidence in &own.for_it {
        match evidence {
            Evidence::ControllerShowsMinutes { shown, known } => of_settings(facts, own, |settings| {
                let times = settings.programs.iter_mut().flat_map(|p| &mut p.run_times);
                for (_, time) in times.filter(|(n, time)| Some(*n) == own.station && time == known) {
                    *time = *shown;
                }
            }),
            Evidence::ControllerShowsPercentage { shown, known } => {
                of_settings(facts, own, |settings| match &mut settings.percentages {
                    Percentages::Controller(value) => *value = *shown,
                    Percentages::Program(values) => {
                        values.iter_mut().filter(|value| *value == known).for_each(|value| *value = *shown);
                    }
                    Percentages::Month(values) => *values = values.map(|_| *shown),
                });
            }
            _ => {}
        }
    }
}

/// What an ET sensor showed over what was asked: what stands for 100 % is other than it is set to.
fn nights(facts: &mut AccountInputs, own: &Suspicion) {
    let ratio = own.for_it.iter().find_map(|e| match e {
        Evidence::Nights { ratio, .. } => Some(*ratio),
        _ => None,
    });
    let Some(ratio) = ratio.filter(|r| *r > 0.0) else { return };
    for known in facts.controllers.iter_mut().filter(|b| Some(b.number) == own.controller_number) {
        for hung in known.sensors.iter_mut().filter(|s| s.sensor.card.senses(Sense::Et)) {
            let full = &mut hung.sensor.setting.et_full;
            *full = Millimetres::from_mm(full.mm() / ratio);
        }
    }
}

/// What was measured or found of a zone; where nothing was, so much as one trial step makes up for.
fn survey(facts: &mut AccountInputs, visit: &Visit, own: &Suspicion) {
    let latitude = facts.site.latitude_deg;
    let key = own.controller_number.zip(own.station).map(|(number, station)| StationId::new(number, station));
    let looks = key.and_then(|id| visit.zone(id)).and_then(|seen| seen.looks);
    for SurveyedZone { zone, resolved } in
        facts.zones.iter_mut().filter(|SurveyedZone { zone: z, .. }| Some(z.station_id()) == key)
    {
        let rate = resolved.rate.value.mm_per_hour();
        if let Some(found) = found(own, zone, rate, looks) {
            *zone = found;
            *resolved = zone.resolve(latitude);
        }
    }
}

fn found(own: &Suspicion, zone: &Zone, rate: f64, looks: Option<Looks>) -> Option<Zone> {
    let flow =
        own.for_it.iter().find_map(|e| if let Evidence::Flow(ratio) = e { Some(*ratio) } else { None });
    let soil = own.for_it.iter().find_map(|e| match e {
        Evidence::SoilFound { found, .. } => Some(*found),
        _ => None,
    });
    // What one step would put right.
    let step = match looks? {
        Looks::Dry => 1.0 + STEP_SHARE,
        Looks::Wet => 1.0 - STEP_SHARE,
        Looks::Right => 1.0,
    };
    let mut zone = zone.clone();
    match own.cause {
        Cause::SoilWrong => zone.soil = soil?,
        Cause::PlantsWrong => {
            let before = zone.planting.trim.as_ref().map_or(0.0, |t| t.percent);
            let percent = ((1.0 + before / 100.0) * step - 1.0) * 100.0;
            zone.planting.trim = Some(Trim { percent, reason: String::new() });
        }
        _ => {
            let rate = rate * flow.filter(|r| *r > 0.0).unwrap_or(1.0 / step);
            zone.precipitation_rate = Some(MillimetresPerHour::from_mm_per_hour(rate));
        }
    }
    Some(zone)
}

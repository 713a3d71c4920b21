//! Sensors on trial: each as installed, absent, misplaced, and at other thresholds.

use super::way::{Change, Named, SensorChange, Spot, TrialWay};
use crate::account::site_account::AccountInputs;
use crate::advice::rain_replay::steps;
use crate::quantity::units::Millimetres;
use crate::sensors::{Release, Sense};

/// How a sensor is installed in a trial.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Installed {
    /// As it does at the site.
    AsHung,
    /// Not at all.
    Absent,
    /// Under an eave.
    UnderEave,
    /// In shade.
    InShade,
    /// At another threshold.
    At(Millimetres),
}

/// A sensor with the ways that put it on trial, as installed first.
#[derive(Debug, Clone, PartialEq)]
pub struct SensorTrial {
    /// Number of its controller.
    pub controller_number: u8,
    /// Its name.
    pub name: String,
    /// What it senses.
    pub senses: Vec<Sense>,
    /// The ways.
    pub ways: Vec<(Installed, TrialWay)>,
}

/// Every sensor of a site that holds or scales watering, with the ways that put it on trial: all else stays as it is set.
#[must_use]
pub fn variants(facts: &AccountInputs) -> Vec<SensorTrial> {
    let mut all = Vec::new();
    for own in &facts.controllers {
        for hung in &own.sensors {
            let (card, set) = (&hung.sensor.card, &hung.sensor.setting);
            if !card.can_hold() && !card.only_scales() {
                continue;
            }
            let senses: Vec<Sense> =
                Sense::ALL.into_iter().filter(|s| *s != Sense::Flow && card.senses(*s)).collect();
            let mut kinds = vec![(Installed::AsHung, None), (Installed::Absent, Some(Change::Absent))];
            if card.senses(Sense::Rain) {
                kinds.push((Installed::UnderEave, Some(Change::Misplaced(Spot::UnderEave))));
                if matches!(set.release, Release::DriesOut { .. }) {
                    kinds.push((Installed::InShade, Some(Change::Misplaced(Spot::InShade))));
                }
                let others =
                    steps(card).into_iter().filter(|mm| (mm.mm() - set.rain_threshold.mm()).abs() > 0.05);
                kinds.extend(others.map(|mm| (Installed::At(mm), Some(Change::RainThreshold(mm)))));
            }
            let (controller_number, name) = (own.number, hung.sensor.name.clone());
            let way = |(kind, change): (Installed, Option<Change>)| {
                let change =
                    change.map(|change| SensorChange { controller_number, name: name.clone(), change });
                let way = TrialWay { sensors: change.into_iter().collect(), ..Named::AsSet.way("as-set") };
                (kind, way)
            };
            all.push(SensorTrial {
                controller_number,
                senses,
                ways: kinds.into_iter().map(way).collect(),
                name: name.clone(),
            });
        }
    }
    all
}

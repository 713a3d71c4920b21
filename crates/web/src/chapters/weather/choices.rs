//! Which source counts for each variable, as it is stored or as a refused form had it.

use upland_core::codes::Coded;
use upland_core::weather::record::{SourceKind, VariableGroup};
use upland_store::weather::{SiteWeather, SourceRecord};

/// A source to choose.
#[derive(Clone)]
pub(super) struct SourceOption {
    pub id: i64,
    pub name: String,
    pub chosen: bool,
}

/// How a group of variables is chosen.
#[derive(Clone)]
pub(super) struct ChoiceLine {
    pub code: &'static str,
    pub label: &'static str,
    pub first: Vec<SourceOption>,
    pub second: Vec<SourceOption>,
    /// What is stored, where a form that was refused has chosen otherwise.
    pub stored: Option<String>,
}

impl ChoiceLine {
    /// The same with what a refused form had chosen, beside what is stored.
    pub fn with_picked(&self, picked: &[i64]) -> Self {
        let chosen =
            |options: &[SourceOption]| options.iter().find(|o| o.chosen).map(|o| (o.id, o.name.clone()));
        let (first, second) = (chosen(&self.first), chosen(&self.second));
        let stored: Vec<i64> = [&first, &second].into_iter().flatten().map(|own| own.0).collect();
        let pick = |options: &[SourceOption], place: usize| {
            let own = picked.get(place).copied();
            options.iter().map(|o| SourceOption { chosen: own == Some(o.id), ..o.clone() }).collect()
        };
        let names: Vec<String> = [first, second].into_iter().flatten().map(|own| own.1).collect();
        let words = || if names.is_empty() { "nothing".to_owned() } else { names.join(", then ") };
        Self {
            first: pick(&self.first, 0),
            second: pick(&self.second, 1),
            stored: (stored != picked).then(words),
            ..*self
        }
    }
}

pub(super) fn choice_lines(weather: &SiteWeather) -> Vec<ChoiceLine> {
    let order = weather.order();
    VariableGroup::ALL
        .iter()
        .map(|group| {
            let place = |n: usize| order.get(*group as usize).and_then(|o| o.get(n)).copied();
            let options = |chosen: Option<usize>| {
                let all = weather.sources.iter().enumerate();
                let measured = all.filter(|(_, s)| s.kind != SourceKind::Normals);
                let option = |(i, s): (usize, &SourceRecord)| SourceOption {
                    id: s.id,
                    name: s.name.clone(),
                    chosen: chosen == Some(i),
                };
                measured.map(option).collect()
            };
            ChoiceLine {
                code: group.code(),
                label: group.label(),
                first: options(place(0)),
                second: options(place(1)),
                stored: None,
            }
        })
        .collect()
}

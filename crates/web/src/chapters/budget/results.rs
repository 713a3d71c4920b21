//! What the budget page is made of, computed once for the same facts.

use crate::server::cache::{Key, questions};
use crate::server::error::PageError;
use crate::server::state::AppState;
use crate::site::controller_snapshot::ControllerSnapshot;
use jiff::ToSpan;
use jiff::civil::Date;
use std::sync::Arc;
use upland_core::advice::budget::{
    Budget, Improvement, Measure, Need, RainRule, SchoolResult, WeekAdvice, budget, improvements, needs,
    schools, week,
};
use upland_core::advice::findings::{Finding, faults};
use upland_core::quantity::span::DateSpan;
use upland_core::sound::{SoundBase, sound_base};

/// Weeks of the history.
const WEEKS_BACK: i32 = 8;
/// Days that the strategies are run over: a year.
const SCHOOL_DAYS: i32 = 364;

/// How the figures are asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub(crate) struct Asked {
    pub rain: RainRule,
    pub measure: Measure,
}

/// The figures of a page.
#[derive(Debug)]
pub(crate) struct Results {
    pub needed: Vec<Need>,
    pub found: Budget,
    pub advice: WeekAdvice,
    /// The advice for this week and those before it, newest first.
    pub weeks: Vec<WeekAdvice>,
    pub improvements: Vec<Improvement>,
    pub schools: Vec<SchoolResult>,
    /// What is wrong with the programs that have no percentage.
    pub wrong: Vec<Finding>,
    /// Span of the record that the strategies were run over.
    pub span: Option<DateSpan>,
}

questions! {
    pub(crate) facts OfController { path: String, today: Date, asked: Asked, settings: i32, installation: String } -> Results;
}

impl Results {
    /// The figures of a controller, computed once for the same facts.
    pub fn of(state: &AppState, snapshot: &ControllerSnapshot, asked: Asked) -> Result<Arc<Self>, PageError> {
        let question = OfController {
            path: snapshot.path(),
            today: snapshot.today,
            asked,
            settings: snapshot.saved().map_or(0, |s| s.version),
            installation: format!("{:?}", snapshot.installation),
        };
        let key = Key::of_facts(snapshot.about_weather(), question);
        Ok(state.cache.once(key, |_| 60, || Ok(Self::compute(snapshot, asked)))?)
    }

    /// The figures of a controller.
    pub fn compute(snapshot: &ControllerSnapshot, Asked { rain, measure }: Asked) -> Self {
        let (climate, today, year) = (&snapshot.climate, snapshot.today, snapshot.today.year());
        let (installation, settings) = (&snapshot.installation, snapshot.settings());
        let needed = needs(installation, climate, rain, year);
        let SoundBase { base, wrong } = sound_base(installation, &settings, today, measure);
        let found = budget(&base, &needed, rain);
        let span = climate.span().map(|DateSpan { first, last }| {
            let to = today.min(last);
            DateSpan::new(to.checked_sub(SCHOOL_DAYS.days()).unwrap_or(first).max(first), to)
        });
        let schools = match span {
            Some(span) if span.count() > 1 && !found.zones.is_empty() => {
                schools(&base, &found, climate, span)
            }
            _ => Vec::new(),
        };
        let back = |weeks: i32| today.checked_sub((weeks * 7).days()).ok();
        Self {
            advice: week(&base, climate, today),
            weeks: (0..WEEKS_BACK).filter_map(back).map(|from| week(&base, climate, from)).collect(),
            improvements: improvements(&base, &needed, rain, today, |tried| {
                faults(installation, tried, today)
            }),
            needed,
            found,
            schools,
            wrong,
            span,
        }
    }
}

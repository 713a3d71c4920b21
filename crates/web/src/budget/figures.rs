//! What the budget page is made of, computed once for the same facts.

use crate::programs::Workbench;
use jiff::ToSpan;
use jiff::civil::Date;
use upland_core::advice::budget::{
    Base, Budget, Improvement, Need, RainRule, SchoolResult, WeekAdvice, budget, improvements, needs,
    schools, week,
};
use upland_core::controller::schedule::Settings;
use upland_core::installation::Installation;

/// Weeks of the history.
const WEEKS_BACK: i32 = 8;
/// Days that the schools are run over: a year.
const SCHOOL_DAYS: i32 = 364;

/// Everything that a figure of the page follows from; the same facts give the same figures.
#[derive(Debug, PartialEq)]
struct Facts {
    installation: Installation,
    settings: Settings,
    weather: (i64, i32),
    today: Date,
    rain: RainRule,
}

/// The figures of a page.
#[derive(Debug)]
pub(crate) struct Figures {
    facts: Facts,
    pub needed: Vec<Need>,
    pub found: Budget,
    pub advice: WeekAdvice,
    /// The advice for this week and those before it, newest first.
    pub weeks: Vec<WeekAdvice>,
    pub improvements: Vec<Improvement>,
    pub schools: Vec<SchoolResult>,
    /// Span of the record that the schools were run over.
    pub span: Option<(Date, Date)>,
}

impl Figures {
    /// The figures of a box, out of what was computed before when the facts are the same.
    pub fn of(
        bench: &Workbench,
        rain: RainRule,
        before: Option<std::sync::Arc<Self>>,
    ) -> std::sync::Arc<Self> {
        let site = &bench.loaded.site;
        let facts = Facts {
            installation: bench.installation.clone(),
            settings: bench.settings(),
            weather: (site.weather_version, site.version),
            today: bench.today,
            rain,
        };
        match before.filter(|b| b.facts == facts) {
            Some(same) => same,
            None => std::sync::Arc::new(Self::compute(facts, bench)),
        }
    }

    fn compute(facts: Facts, bench: &Workbench) -> Self {
        let (climate, today, year) = (&bench.climate, facts.today, facts.today.year());
        let needed = needs(&facts.installation.zones, climate, facts.rain, year);
        let base = Base::new(&facts.installation, &facts.settings, year);
        let found = budget(&base, &needed, facts.rain);
        let span = climate.span().map(|(first, last)| {
            let to = today.min(last);
            (to.checked_sub(SCHOOL_DAYS.days()).unwrap_or(first).max(first), to)
        });
        let schools = match span {
            Some((from, to)) if from < to && !found.zones.is_empty() => {
                schools(&base, &found, climate, (from, to))
            }
            _ => Vec::new(),
        };
        let back = |weeks: i32| today.checked_sub((weeks * 7).days()).ok();
        Self {
            advice: week(&base, climate, today),
            weeks: (0..WEEKS_BACK).filter_map(back).map(|from| week(&base, climate, from)).collect(),
            improvements: improvements(&facts.installation, &facts.settings, &needed, facts.rain, today),
            needed,
            found,
            schools,
            span,
            facts,
        }
    }
}

//! A zone's season as a drawing: rain above, what is missing in the root zone, watering below.

use crate::page::dates::DateFormat;
use crate::page::quantities::{depth, plain, short_date};
use askama::Template;
use jiff::civil::Date;
use upland_core::account::season::sum;
use upland_core::account::zone::AccountDay;
use upland_core::quantity::units::Millimetres;
use upland_core::site::UnitSystem;

/// Height of the drawing's field and of its rain band.
const FIELD: f64 = 220.0;
const BAND: f64 = 60.0;
/// Width of the drawing of a season, and of one of some days, which a phone shows whole.
const SEASON: f64 = 1000.0;
const SHORT: f64 = 340.0;
/// At most so many days have their dates below them.
const DATED_DAYS: usize = 31;

/// Height of a tick for a held run, and its distance from the waterings.
const HELD_GAP: f64 = 3.0;

/// A bar of the drawing.
pub(crate) struct Bar {
    pub x: String,
    pub y: String,
    pub width: String,
    pub height: String,
    pub title: String,
}

/// A mark of the drawing.
pub(crate) struct Mark {
    pub x: String,
    pub text: String,
}

/// A week that leads to its days.
pub(crate) struct WeekLink {
    pub x: String,
    pub width: String,
    pub href: String,
    pub words: String,
}

/// The season as a drawing.
#[derive(Template)]
#[template(path = "page/season_chart.html")]
pub(crate) struct SeasonChart {
    width: f64,
    pub line: String,
    /// The line of another way, if one stands beside it.
    pub beside: Option<String>,
    pub refill: String,
    pub rain: Vec<Bar>,
    pub runs: Vec<Bar>,
    /// Days on which a run was held.
    pub held: Vec<Bar>,
    pub stress: Vec<Bar>,
    pub resets: Vec<Mark>,
    pub months: Vec<Mark>,
    /// Weeks that lead to their days: place, width, address, words.
    pub weeks: Vec<WeekLink>,
    pub full_words: String,
    pub empty_words: String,
    pub words: String,
}

/// The days of a season as the drawing's field.
struct Field<'a> {
    days: &'a [AccountDay],
    /// Width of the drawing, and of a day.
    width: f64,
    step: f64,
    /// Water between full and wilting, mm.
    total: f64,
    units: UnitSystem,
}

/// Water below this is not drawn, mm.
const LEAST_MM: f64 = 0.05;

impl<'a> Field<'a> {
    fn of(days: &'a [AccountDay], total: f64, units: UnitSystem, width: f64) -> Self {
        #[allow(clippy::cast_precision_loss, reason = "days of a season")]
        let step = width / days.len().max(1) as f64;
        Self { days, width, step, total, units }
    }

    /// Left edges of the days.
    fn placed(&self) -> impl Iterator<Item = (f64, &AccountDay)> {
        #[allow(clippy::cast_precision_loss, reason = "days of a season")]
        self.days.iter().enumerate().map(|(i, day)| (i as f64 * self.step, day))
    }

    /// A line through what is missing on each day.
    fn line(&self, missing: impl Fn(&AccountDay) -> Millimetres) -> String {
        let mut path = String::new();
        for (x, day) in self.placed() {
            let command = if path.is_empty() { 'M' } else { 'L' };
            let y = BAND + FIELD * (missing(day).mm() / self.total.max(0.1)).clamp(0.0, 1.0);
            path.push_str(&format!("{command}{:.1} {y:.1}", x + self.step / 2.0));
        }
        path
    }

    /// Bars of water that stand on a height; rain and watering have one scale.
    fn bars(&self, foot: f64, what: &str, amount: impl Fn(&AccountDay) -> Millimetres) -> Vec<Bar> {
        let most = self.days.iter().map(|d| d.gauge.mm().max(d.water.applied.mm())).fold(10.0, f64::max);
        let wet = self.placed().filter(|(_, day)| amount(day).mm() > LEAST_MM);
        wet.map(|(x, day)| {
            let height = (BAND - 6.0) * amount(day).mm() / most;
            Bar {
                x: plain(x, 1),
                y: plain(foot - height, 1),
                width: plain((self.step * 0.9).max(1.0), 1),
                height: plain(height, 1),
                title: format!("{}: {} {what}", short_date(day.date), depth(self.units, amount(day))),
            }
        })
        .collect()
    }

    /// The days on which the plants were short of water.
    fn stress(&self) -> Vec<Bar> {
        let short = self.placed().filter(|(_, day)| day.short);
        short
            .map(|(x, day)| Bar {
                x: plain(x, 1),
                y: plain(BAND, 1),
                width: plain(self.step + 0.2, 1),
                height: plain(FIELD, 1),
                title: format!("{}: short of water", short_date(day.date)),
            })
            .collect()
    }
}

/// Draws the days of a season; `total` is the water between full and wilting, mm.
pub(crate) fn chart(days: &[AccountDay], total: f64, units: UnitSystem) -> SeasonChart {
    drawn(days, total, units, SEASON)
}

/// Draws some days in a width that a phone shows whole.
pub(crate) fn short_chart(days: &[AccountDay], total: f64, units: UnitSystem) -> SeasonChart {
    drawn(days, total, units, SHORT)
}

fn drawn(days: &[AccountDay], total: f64, units: UnitSystem, width: f64) -> SeasonChart {
    let field = Field::of(days, total, units, width);
    let step = field.step;
    let read = field.placed().filter(|(_, day)| day.reset_from.is_some());
    let dated = days.len() <= DATED_DAYS;
    let every = days.len().div_ceil(7).max(1);
    let firsts = field.placed().enumerate().filter(
        |(at, (_, day))| {
            if dated { at % every == 0 } else { day.date.day() == 1 }
        },
    );
    let summed = sum(days);
    SeasonChart {
        width: field.width,
        line: field.line(|day| day.water.depletion),
        beside: None,
        refill: field.line(|day| day.refill_at),
        rain: field.bars(BAND, "of rain", |day| day.gauge),
        // Runs hang at the foot of the field, so that rain and watering never hide each other.
        runs: field.bars(BAND + FIELD + BAND, "watered", |day| day.water.applied),
        stress: field.stress(),
        resets: read
            .map(|(x, day)| Mark {
                x: plain(x + step / 2.0, 1),
                text: format!("reading {}", short_date(day.date)),
            })
            .collect(),
        months: firsts
            .map(|(_, (x, day))| {
                let text = if dated { day.date.day().to_string() } else { day.date.formatted("%b") };
                Mark { x: plain(x, 1), text }
            })
            .collect(),
        weeks: Vec::new(),
        held: Vec::new(),
        full_words: "full".into(),
        empty_words: format!("wilting: deficit {}", depth(units, Millimetres::from_mm(total))),
        words: format!(
            "{} days: plants required {}, got {}; rain that entered {}, watering {}, drained {}, run off {}; short of water on {} days.",
            summed.days,
            depth(units, summed.demand),
            depth(units, summed.met),
            depth(units, summed.rain_in),
            depth(units, summed.applied),
            depth(units, summed.drainage),
            depth(units, days.iter().map(|d| d.water.runoff).sum()),
            summed.stress_days
        ),
    }
}

impl SeasonChart {
    /// The same with weeks that lead to the address of their first day.
    pub fn with_weeks(self, days: &[AccountDay], link: &str) -> Self {
        let field = Field::of(days, 1.0, UnitSystem::Metric, self.width);
        let firsts: Vec<(f64, &AccountDay)> =
            field.placed().enumerate().filter(|(at, _)| at % 7 == 0).map(|(_, placed)| placed).collect();
        let week = |(x, day): &(f64, &AccountDay)| WeekLink {
            x: plain(*x, 1),
            width: plain((7.0 * field.step).min(field.width - x), 1),
            href: format!("{link}{}#h-day", day.date),
            words: format!("Week from {}", short_date(day.date)),
        };
        Self { weeks: firsts.iter().map(week).collect(), ..self }
    }

    /// The same with a tick for each date on which a run was held, with its cause.
    pub fn with_held(self, days: &[AccountDay], held: &[(Date, &str)]) -> Self {
        let field = Field::of(days, 1.0, UnitSystem::Metric, self.width);
        let tick = |(x, day): (f64, &AccountDay)| {
            let at = held.binary_search_by_key(&day.date, |(date, _)| *date).ok()?;
            let (_, cause) = held.get(at)?;
            Some(Bar {
                x: plain(x, 1),
                y: plain(BAND + FIELD + BAND + HELD_GAP, 1),
                width: plain((field.step * 0.9).max(1.0), 1),
                height: plain(HELD_GAP, 1),
                title: format!("{}: skipped, {}", short_date(day.date), cause.replace('_', " ")),
            })
        };
        Self { held: field.placed().filter_map(tick).collect(), ..self }
    }

    /// The same with what was missing under another way beside it.
    pub fn beside(self, days: &[AccountDay], total: f64, units: UnitSystem) -> Self {
        let line = Field::of(days, total, units, self.width).line(|day| day.water.depletion);
        Self { beside: Some(line), ..self }
    }
}

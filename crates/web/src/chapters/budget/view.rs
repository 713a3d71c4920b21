//! View models of the budget page.

use super::bars::{self, ProgramBars};
use super::results::{Asked, Results};
use crate::page::dates::DateFormat;
use crate::page::frame::Frame;
use crate::page::program_words::Names;
use crate::page::quantities::{capital, depth, in_words, plain, short_date, volume};
use crate::page::working::{Working, working};
use crate::server::error::PageError;
use crate::site::controller_snapshot::ControllerSnapshot;
use askama::Template;
use upland_core::advice::budget::{
    Budget, Improvement, Measure, Move, Outcome, PercentageSlot, RainRule, SchoolResult, WeekAdvice,
    ZoneBudget,
};
use upland_core::codes::Coded;
use upland_core::controller::schedule::{Percentages, Settings};
use upland_core::explain::{budget_month, budget_week};
use upland_core::quantity::month::Month;
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::span::DateSpan;
use upland_store::settings::SettingsRecord;

/// Given and need may differ by this share before a cell is marked.
const FAIR: f64 = 0.15;
/// Beyond this it is far off.
const FAR: f64 = 0.4;
/// Zones named as worst.
const WORST: usize = 3;

/// A site without a controller.
#[derive(Template)]
#[template(path = "chapters/budget/none.html")]
pub(super) struct NoController {
    pub frame: Frame,
    pub site_id: i64,
}

pub(super) struct MonthHead {
    pub number: i8,
    pub short: &'static str,
    pub now: bool,
}

pub(super) struct SlotRow {
    pub name: String,
    /// Best percentage, empty when nothing needs water.
    pub best: Vec<(String, bool)>,
}

pub(super) struct Cell {
    pub text: String,
    pub class: String,
    pub href: String,
    pub title: String,
}

pub(super) struct ZoneRow {
    pub name: String,
    pub cells: Vec<Cell>,
    pub error: String,
    pub over: String,
    pub under: String,
}

pub(super) struct WeekRow {
    pub name: String,
    pub demand: String,
    pub rain: String,
    pub need: String,
    pub ideal: String,
    pub given: String,
    pub working_id: String,
}

pub(super) struct HistoryRow {
    pub week: String,
    pub advised: String,
    pub set: String,
    pub differs: bool,
}

pub(super) struct ImprovementView {
    pub title: String,
    pub moves: Vec<String>,
    pub before: String,
    pub after: String,
}

pub(super) struct SchoolRow {
    pub name: &'static str,
    pub met: String,
    pub drained: String,
    pub stress: u32,
    pub water: String,
}

/// The page of a controller's budget.
#[derive(Template)]
#[template(path = "chapters/budget/page.html")]
pub(super) struct BudgetPage {
    pub frame: Frame,
    pub path: String,
    pub site_id: i64,
    pub controllers: Vec<(u8, String)>,
    pub number: u8,
    pub base_version: i32,
    pub runs: bool,
    pub rain: &'static str,
    pub rains: Vec<(&'static str, &'static str, bool)>,
    pub measure: &'static str,
    pub measures: Vec<(&'static str, &'static str, bool)>,
    /// Programs that are wrong in themselves: what the checks say of each.
    pub wrong: Vec<String>,
    /// Who goes short under the month's percentages, and under the week's; empty when nobody does.
    pub short: String,
    pub week_short: String,
    pub month: i8,
    pub month_name: &'static str,
    pub verdict: String,
    pub left: String,
    pub set_label: String,
    pub is_set: bool,
    pub months: Vec<MonthHead>,
    pub slots: Vec<SlotRow>,
    pub zones: Vec<ZoneRow>,
    /// Required against applied by month, as bars.
    pub bars: Vec<ProgramBars>,
    /// Who goes short over the year, and who is overwatered.
    pub who: String,
    pub opened: Option<Working>,
    pub week_verdict: String,
    pub week_note: String,
    pub week_change: bool,
    pub week: Vec<WeekRow>,
    pub workings: Vec<Working>,
    pub history: Vec<HistoryRow>,
    pub improvements: Vec<ImprovementView>,
    pub schools: Vec<SchoolRow>,
    pub school_span: String,
    pub stepwise: bool,
}

fn percent(value: f64) -> String {
    format!("{} %", plain(100.0 * value, 0))
}

fn slot_name(slot: PercentageSlot, settings: &Settings) -> String {
    match slot {
        PercentageSlot::Controller => "Whole controller".to_owned(),
        PercentageSlot::Program(p) => {
            format!("Program {}", settings.programs.get(p).map_or("", |p| p.name.as_str()))
        }
    }
}

/// "A 40 %, B 20 %" of some slots.
fn slot_words(slots: &[PercentageSlot], values: &[Option<Percentage>], settings: &Settings) -> String {
    let words: Vec<String> = slots
        .iter()
        .zip(values)
        .map(|(slot, value)| {
            let value = value.map_or("off".to_owned(), |v| v.to_string());
            match slot {
                PercentageSlot::Controller => value,
                PercentageSlot::Program(p) => {
                    format!("{} {value}", settings.programs.get(*p).map_or("", |p| p.name.as_str()))
                }
            }
        })
        .collect();
    words.join(", ")
}

struct Maker<'a> {
    snapshot: &'a ControllerSnapshot,
    settings: &'a Settings,
    asked: Asked,
}

impl Maker<'_> {
    fn zone_name(&self, station: u16) -> String {
        let name = self.snapshot.installation.zone(station).map_or("", |z| z.zone.name.as_str());
        format!("{station} {name}")
    }

    fn zone_row(&self, zone: &ZoneBudget, now: Month) -> ZoneRow {
        let units = self.snapshot.units();
        let cells = Month::ALL
            .into_iter()
            .map(|m| {
                let (need, given) = (*zone.need.of(m), *zone.given.of(m));
                let off = (given.mm() - need.mm()) / zone.peak.mm().max(0.1);
                let mut class = match off {
                    o if o > FAIR => "over".to_owned(),
                    o if o < -FAIR => "under".to_owned(),
                    _ => String::new(),
                };
                if off.abs() > FAR {
                    class.push_str(" far");
                }
                if m == now {
                    class.push_str(" now");
                }
                let text = if need.mm() > 0.05 {
                    plain(100.0 * given.mm() / need.mm(), 0)
                } else if given.mm() > 0.05 {
                    "extra".to_owned()
                } else {
                    "–".to_owned()
                };
                Cell {
                    text,
                    class,
                    href: format!(
                        "{}/budget?rain={}&measure={}&month={}&zone={}#opened",
                        self.snapshot.path(),
                        self.asked.rain.code(),
                        self.asked.measure.code(),
                        m.number(),
                        zone.station
                    ),
                    title: format!("needs {}, gets {} a day", depth(units, need), depth(units, given)),
                }
            })
            .collect();
        ZoneRow {
            name: self.zone_name(zone.station),
            cells,
            error: percent(zone.error),
            over: depth(units, zone.over),
            under: depth(units, zone.under),
        }
    }

    /// Which zones of real demand the percentages of a month leave short.
    fn short(&self, found: &Budget, month: Month) -> String {
        let short = found.left_short(month);
        let named: Vec<String> = short
            .iter()
            .map(|s| {
                format!("{} gets {} of its need", self.zone_name(s.station), percent(s.share.fraction()))
            })
            .collect();
        named.join("; ")
    }

    fn week_short(&self, advice: &WeekAdvice) -> String {
        let short = (0..advice.slots.len()).flat_map(|slot| advice.left_short(slot));
        let named: Vec<String> = short
            .map(|s| {
                format!(
                    "{} lacks {} a week",
                    self.zone_name(s.station),
                    depth(self.snapshot.units(), s.deficit)
                )
            })
            .collect();
        named.join("; ")
    }

    fn moves(&self, improvement: &Improvement) -> Vec<String> {
        let program = |p: usize| self.settings.programs.get(p).map_or("", |p| p.name.as_str());
        improvement
            .moves
            .iter()
            .map(|m| match *m {
                Move::BaseTime { program: p, station, from, to } => format!(
                    "{} in program {}: base {to} instead of {from}",
                    self.zone_name(station),
                    program(p)
                ),
                Move::Program { station, from, to, run_time } => format!(
                    "{} from program {} into {}, base {run_time}",
                    self.zone_name(station),
                    program(from),
                    program(to)
                ),
            })
            .collect()
    }

    fn history(&self, weeks: &[WeekAdvice], history: &[SettingsRecord]) -> Vec<HistoryRow> {
        let tz = &self.snapshot.installation.tz;
        weeks
            .iter()
            .map(|advice| {
                let from = advice.from;
                // The version that was in force on that day, and what it said.
                // What was found at first stood there before it was entered.
                let then = history
                    .iter()
                    .find(|r| r.saved_at.to_zoned(tz.clone()).date() <= from)
                    .or(history.last());
                let set: Option<Vec<Option<Percentage>>> = then.map(|record| {
                    advice
                        .slots
                        .iter()
                        .map(|slot| match slot {
                            PercentageSlot::Controller => Some(record.settings.percentages.of(0, from)),
                            PercentageSlot::Program(p) => Some(record.settings.percentages.of(*p, from)),
                        })
                        .collect()
                });
                HistoryRow {
                    week: short_date(from),
                    advised: slot_words(&advice.slots, &advice.best, self.settings),
                    differs: set.as_ref().is_some_and(|s| *s != advice.best),
                    set: set.map_or("not known".to_owned(), |s| slot_words(&advice.slots, &s, self.settings)),
                }
            })
            .collect()
    }

    fn schools(&self, all: &[SchoolResult]) -> Vec<SchoolRow> {
        let units = self.snapshot.units();
        all.iter()
            .map(|r| SchoolRow {
                name: r.school.label(),
                met: percent(r.adequacy),
                drained: percent(r.excess),
                stress: r.most_stress_days,
                water: r.litres.map_or("area not known".to_owned(), |l| volume(units, l)),
            })
            .collect()
    }
}

/// "2 % of the demand unmet and 14 % surplus".
fn left(outcome: Outcome) -> String {
    format!("{} of the demand unmet and {} surplus", percent(outcome.short), percent(outcome.surplus))
}

/// The zones with most error, named.
fn worst(found: &Budget, maker: &Maker) -> String {
    let mut zones: Vec<&ZoneBudget> = found.zones.iter().filter(|z| z.error > FAIR / 2.0).collect();
    zones.sort_by(|a, b| b.error.total_cmp(&a.error));
    let named: Vec<String> = zones
        .iter()
        .take(WORST)
        .map(|z| {
            let way = if z.over > z.under { "gets too much" } else { "goes short" };
            format!("{} {way}", maker.zone_name(z.station))
        })
        .collect();
    named.join("; ")
}

impl BudgetPage {
    // Long: one part of the page after another.
    pub fn new(
        frame: Frame,
        snapshot: &ControllerSnapshot,
        versions: &[SettingsRecord],
        figures: &Results,
        asked: Asked,
        month: Option<Month>,
        zone: Option<u16>,
    ) -> Result<Self, PageError> {
        let Results { needed, found, advice, .. } = figures;
        let settings = snapshot.settings();
        let Asked { rain, measure } = asked;
        let maker = Maker { snapshot, settings: &settings, asked };
        let (year, climate) = (snapshot.today.year(), &snapshot.climate);
        let month = month.unwrap_or(Month::of(snapshot.today));
        let twelve = matches!(settings.percentages, Percentages::Month(_));
        let best = found.best.of(month);
        let name = month.name();

        let opened = zone.and_then(|station| {
            let zone = snapshot.installation.zone(station)?;
            let row = found.zones.iter().find(|z| z.station == station)?;
            let need = needed.iter().find(|n| n.station == station)?;
            let et0 = *climate.monthly_expected_et0(year).of(month);
            let of = format!("{}, {name}", maker.zone_name(station));
            Some(working(
                "opened".into(),
                of,
                &budget_month(zone, row, need, et0, month, rain),
                snapshot.units(),
            ))
        });
        let units = snapshot.units();
        let workings: Vec<Working> = advice
            .zones
            .iter()
            .map(|z| {
                working(format!("week{}", z.station), maker.zone_name(z.station), &budget_week(z), units)
            })
            .collect();
        let bars = bars::bars(found, &settings, month, units, |station| maker.zone_name(station));
        let worst = worst(found, &maker);
        let set_now = upland_core::advice::budget::with_best(&settings, found, month) == settings;
        Ok(Self {
            path: snapshot.path(),
            site_id: snapshot.records.site.id.number(),
            controllers: snapshot.records.controller_names(),
            number: snapshot.installation.controller_number,
            base_version: snapshot.saved().map_or(0, |s| s.version),
            runs: !found.zones.is_empty(),
            rain: rain.code(),
            rains: [RainRule::LeftToHold, RainRule::Counted]
                .map(|r| (r.code(), r.label(), r == rain))
                .to_vec(),
            measure: measure.code(),
            measures: Measure::ALL.map(|m| (m.code(), m.label(), m == measure)).to_vec(),
            wrong: figures
                .wrong
                .iter()
                .map(|finding| {
                    let names = Names {
                        installation: &snapshot.installation,
                        settings: &settings,
                        units: snapshot.units(),
                    };
                    let words = names.finding(finding);
                    format!("{}: {}", words.place, words.text.trim_end_matches('.'))
                })
                .collect(),
            short: maker.short(found, month),
            week_short: maker.week_short(advice),
            month: month.number(),
            month_name: name,
            verdict: format!("{name}: {}.", slot_words(&found.slots, best, &settings)),
            left: format!(
                "Over a year these percentages leave {}; {}.{}",
                left(found.outcome),
                if (found.as_set.cost - found.at_100.cost).abs() < 1e-9 {
                    format!("as set now, 100 % all year, {}", left(found.as_set))
                } else if found.outcome.cost < found.as_set.cost - 0.005 {
                    format!("as set now {}; at 100 % {}", left(found.as_set), left(found.at_100))
                } else {
                    format!("as set now the same; at 100 % {}", left(found.at_100))
                },
                if worst.is_empty() { String::new() } else { format!(" {worst}.") }
            ),
            set_label: if twelve {
                "Set the twelve percentages".into()
            } else {
                format!("Set {name}'s percentages")
            },
            is_set: set_now,
            months: Month::ALL
                .into_iter()
                .map(|m| MonthHead { number: m.number(), short: m.short(), now: m == month })
                .collect(),
            slots: found
                .slots
                .iter()
                .enumerate()
                .map(|(k, slot)| SlotRow {
                    name: slot_name(*slot, &settings),
                    best: found
                        .best
                        .months()
                        .map(|(m, b)| {
                            let text = b
                                .get(k)
                                .copied()
                                .flatten()
                                .map_or("off".to_owned(), |p| p.percent().to_string());
                            (text, m == month)
                        })
                        .collect(),
                })
                .collect(),
            zones: found.zones.iter().map(|z| maker.zone_row(z, month)).collect(),
            who: bars::who(&bars),
            bars,
            opened,
            week_verdict: format!(
                "Week from {}: {}.",
                short_date(snapshot.today),
                slot_words(&advice.slots, &advice.best, &settings)
            ),
            week_note: format!(
                "The last seven days took {} of reference ET and brought {} of rain{}.",
                depth(units, advice.et0),
                depth(units, advice.rain),
                match advice.expected_days {
                    0 => String::new(),
                    n => format!("; {} of them without a record, normals used", in_words(n as usize)),
                }
            ),
            week_change: advice.is_a_change(),
            week: advice
                .zones
                .iter()
                .map(|z| WeekRow {
                    name: maker.zone_name(z.station),
                    demand: depth(units, z.demand),
                    rain: depth(units, z.rain),
                    need: depth(units, z.need),
                    ideal: z.ideal.map_or("–".to_owned(), |p| format!("{} %", plain(p, 0))),
                    given: depth(units, z.given),
                    working_id: format!("week{}", z.station),
                })
                .collect(),
            workings,
            history: maker.history(&figures.weeks, versions),
            improvements: figures
                .improvements
                .iter()
                .map(|i| ImprovementView {
                    title: if i.moves.iter().any(|m| matches!(m, Move::Program { .. })) {
                        "Regroup, with base minutes that fit".to_owned()
                    } else {
                        capital("other base minutes, programs as they are")
                    },
                    moves: maker.moves(i),
                    before: left(i.before),
                    after: left(i.after),
                })
                .collect(),
            schools: maker.schools(&figures.schools),
            school_span: figures.span.map_or(String::new(), |DateSpan { first: a, last: b }| {
                format!("{} to {}", a.formatted("%-d %b %Y"), b.formatted("%-d %b %Y"))
            }),
            stepwise: !found.searched_through.iter().all(|s| *s),
            frame,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;

    fn page(asked: Asked, month: Option<Month>, zone: Option<u16>) -> BudgetPage {
        let snapshot = fixture::controller_snapshot();
        let history: Vec<SettingsRecord> = snapshot.saved().cloned().into_iter().collect();
        BudgetPage::new(
            fixture::frame(),
            &snapshot,
            &history,
            &Results::compute(&snapshot, asked),
            asked,
            month,
            zone,
        )
        .unwrap()
    }

    #[test]
    fn the_page_says_what_toet_and_who_suffers() {
        let page = page(Asked::default(), None, None);
        assert!(page.verdict.starts_with("July: "), "{}", page.verdict);
        assert_eq!(page.months.len(), 12);
        assert!(page.zones.iter().all(|z| z.cells.len() == 12));
        assert!(page.left.contains("of the demand unmet"), "{}", page.left);
        let html = page.render().unwrap();
        assert!(
            html.contains("July&#39;s percentages") || html.contains("July's percentages"),
            "the primary action"
        );
    }

    #[test]
    fn a_cell_opens_to_its_inputs() {
        let opened = page(Asked::default(), Some(Month::April), Some(1)).opened.unwrap();
        assert!(opened.of.ends_with("April"), "{}", opened.of);
        assert!(opened.steps.len() >= 4);
        assert!(page(Asked::default(), Some(Month::April), Some(99)).opened.is_none());
    }

    #[test]
    fn this_week_sets_the_month_of_a_controller_that_holds_twelve() {
        let snapshot = fixture::controller_snapshot();
        let mut settings = snapshot.settings();
        settings.percentages =
            Percentages::Month(upland_core::quantity::month::ByMonth::all(Percentage::HUNDRED));
        let advice = WeekAdvice {
            from: snapshot.today,
            slots: vec![PercentageSlot::Controller],
            best: vec![Some(Percentage::from_percent(70))],
            set: vec![Percentage::HUNDRED],
            zones: Vec::new(),
            et0: Default::default(),
            rain: Default::default(),
            expected_days: 0,
        };
        let Percentages::Month(values) =
            upland_core::advice::budget::with_week(&settings, &advice, None).percentages
        else {
            panic!()
        };
        assert_eq!(
            (*values.of(Month::July), *values.of(Month::June)),
            (Percentage::from_percent(70), Percentage::HUNDRED),
            "July alone"
        );
    }
}

//! View models of the settings page: the fields, and everything that is computed from them.

use super::entry::{InUse, StationTotal, TotalLine, measure, station_totals, totals};
use super::settings_form::{self, TextError, Texts, label};
use super::timeline::{self, FLOW_PX, NightDrawing, Shown, TableLine, Week, Zoom};
use crate::page::dates::{DateFormat, typed_time};
use crate::page::forms::{Cell, Cells, Tick};
use crate::page::program_words::{FindingWords, Names};
use crate::page::quantities::span;
use crate::page::quantities::{capital, depth, in_words, plain, volume};
use crate::page::units::Units;
use crate::page::working::{Working, working};
use crate::site::controller_snapshot::ControllerSnapshot;
use askama::Template;
use jiff::ToSpan;
use jiff::civil::Date;
use std::collections::BTreeMap;
use upland_core::advice::findings::{Finding, check};
use upland_core::controller::schedule::ScheduledRun;
use upland_core::controller::schedule::{Settings, expand};
use upland_core::controller::{Card, PercentageScope};
use upland_core::explain::weekly;
use upland_core::installation::{NEED_SHARES, given};
use upland_core::quantity::month::Month;
use upland_core::quantity::span::{DateSpan, TimeSpan};
use upland_core::quantity::time::Seconds;
use upland_core::quantity::time::monday_of;

/// Weeks over which what a zone gets is averaged.
const WEEKS: u16 = 4;

pub(super) struct ProgramColumn {
    pub index: usize,
    pub name: Cell,
    pub active: Tick,
    pub starts: Cell,
    pub mode: String,
    pub days_name: String,
    pub modes: Vec<(&'static str, &'static str)>,
    pub week: Vec<Tick>,
    pub interval: Cell,
    pub first: Cell,
    pub percent: Option<Cell>,
    pub until: Cell,
    pub pause: Cell,
}

pub(super) struct StationRow {
    pub number: u16,
    pub zone: String,
    /// A field for each program in use, with the program's name.
    pub minutes: Vec<(Cell, String)>,
    /// How fast its zone applies water, mm/h.
    pub rate: Option<f64>,
    pub cycle: Cell,
    pub soak: Cell,
    pub light: Tick,
    pub master: Tick,
    pub pump: Tick,
    pub deaf: Tick,
    pub fixed: Tick,
    pub current: Cell,
}

/// Every field of the settings of a controller.
#[derive(Template)]
#[template(path = "chapters/programs/fields.html")]
pub(super) struct FieldsView {
    pub card: Card,
    pub programs: Vec<ProgramColumn>,
    pub stations: Vec<StationRow>,
    pub percent: Option<Cell>,
    pub months: Vec<(&'static str, Cell)>,
    pub delay: Cell,
    pub never: Vec<Tick>,
    pub omit_from: Cell,
    pub omit_until: Cell,
    pub rain_first: Cell,
    pub rain_days: Cell,
    pub off_from: Cell,
    pub off_until: Cell,
    pub omit_dates: Cell,
    pub lead: Cell,
    pub lag: Cell,
    pub errors: Vec<(String, String, String)>,
    pub path: String,
    /// A start time as the reader writes it.
    pub example: String,
    pub depth_unit: &'static str,
    /// What was added to be keyed and is empty yet.
    pub shown: String,
    /// The next program and station that are not in use.
    pub add_program: Option<(usize, String)>,
    pub add_station: Option<u16>,
    pub not_shown: String,
    pub may_edit: bool,
}

/// The fields with what was typed: programs and stations that are in use, and what was added.
// Long: a list of fields.
pub(super) fn fields(
    snapshot: &ControllerSnapshot,
    texts: &Texts,
    errors: &[TextError],
    may_edit: bool,
) -> FieldsView {
    let card = &snapshot.installation.card;
    let form = Cells { texts, errors };
    let cell = |name: String| form.cell(name);
    let tick = |name: String, label| form.tick(name, label);
    let mut modes = Vec::new();
    for (has, mode) in [
        (card.day_modes.weekdays, ("weekdays", "weekdays")),
        (card.day_modes.parity, ("odd", "odd dates")),
        (card.day_modes.parity, ("even", "even dates")),
        (card.day_modes.longest_interval > 0, ("nth", "every n-th day")),
    ] {
        if has {
            modes.push(mode);
        }
    }
    let used = InUse::of(snapshot, texts);
    let programs: Vec<ProgramColumn> = used
        .programs
        .iter()
        .map(|i| {
            let i = *i;
            let at = |field: &str| format!("p{i}-{field}");
            let mode = form.text(&at("days"));
            ProgramColumn {
                index: i,
                name: cell(at("name")),
                active: tick(at("active"), "on"),
                starts: cell(at("starts")),
                mode: if mode.is_empty() { modes.first().map_or("", |m| m.0).to_owned() } else { mode },
                days_name: at("days"),
                modes: modes.clone(),
                week: form.week(|k| at(&format!("d{k}"))),
                interval: cell(at("interval")),
                first: cell(at("first")),
                percent: (card.percentage_scope == PercentageScope::Program).then(|| cell(at("percent"))),
                until: cell(at("until")),
                pause: cell(at("pause")),
            }
        })
        .collect();
    let names: Vec<(usize, String)> = programs.iter().map(|p| (p.index, p.name.value.clone())).collect();
    let stations = used
        .stations
        .iter()
        .map(|n| {
            let n = *n;
            let wired = snapshot.installation.zone(n);
            let at = |field: &str| format!("s{n}-{field}");
            StationRow {
                number: n,
                zone: wired.map_or(String::new(), |z| z.zone.name.clone()),
                minutes: names.iter().map(|(i, name)| (cell(format!("p{i}-m{n}")), name.clone())).collect(),
                rate: wired.map(|z| z.resolved.rate.value.mm_per_hour()),
                cycle: cell(at("cycle")),
                soak: cell(at("soak")),
                light: tick(at("light"), "lighting"),
                master: tick(at("master"), "master valve"),
                pump: tick(at("pump"), "pump"),
                deaf: tick(at("deaf"), "ignores sensors"),
                fixed: tick(at("fixed"), "fixed run time"),
                current: cell(at("ma")),
            }
        })
        .collect();
    FieldsView {
        card: card.clone(),
        programs,
        stations,
        percent: (card.percentage_scope == PercentageScope::Controller).then(|| cell("percent".into())),
        months: if card.percentage_scope == PercentageScope::Month {
            Month::ALL.into_iter().map(|m| (m.name(), cell(settings_form::month_field(m)))).collect()
        } else {
            Vec::new()
        },
        delay: cell("delay".into()),
        never: form.week(|k| format!("never{k}")),
        omit_from: cell("omit-from".into()),
        omit_until: cell("omit-until".into()),
        rain_first: cell("rain-first".into()),
        rain_days: cell("rain-days".into()),
        off_from: cell("off-from".into()),
        off_until: cell("off-until".into()),
        omit_dates: cell("omit-dates".into()),
        lead: cell("lead".into()),
        lag: cell("lag".into()),
        errors: errors.iter().map(|(n, m)| (n.clone(), capital(&label(n)), m.clone())).collect(),
        path: snapshot.path(),
        example: typed_time(jiff::civil::time(2, 0, 0, 0)),
        depth_unit: Units::of(snapshot.units()).depth.unit,
        shown: form.text("shown"),
        add_program: used.next_program(card),
        add_station: (1..=card.stations).find(|n| !used.stations.contains(n)),
        not_shown: used.not_shown(card),
        may_edit,
    }
}

/// What a zone gets against its need.
pub(super) struct NeedRow {
    pub station: u16,
    pub zone: String,
    pub gets: String,
    pub needs: String,
    pub share: String,
    /// Of a bar that is full at twice the need, percent.
    pub bar: String,
    pub verdict: &'static str,
    pub title: String,
    pub working_id: String,
}

/// Everything computed from the settings.
#[derive(Template)]
#[template(path = "chapters/programs/live.html")]
pub(super) struct LiveView {
    pub path: String,
    /// The page of each zone, by station.
    pub zone_pages: BTreeMap<u16, String>,
    pub headline: String,
    pub findings: Vec<FindingWords>,
    pub counts: String,
    pub week: Option<Week>,
    pub night: Option<NightDrawing>,
    pub night_of: String,
    pub previous_week: Date,
    pub next_week: Date,
    pub flow_px: u32,
    pub zoom: Zoom,
    pub chosen: Date,
    pub table: Vec<TableLine>,
    pub totals: Vec<TotalLine>,
    pub stations: Vec<StationTotal>,
    /// The depth whose minutes are listed by station.
    pub measure: String,
    pub needs: Vec<NeedRow>,
    pub workings: Vec<Working>,
    pub assumption: String,
    /// Lines that could not be read; nothing else is shown then.
    pub unreadable: Vec<(String, String, String)>,
    pub may_edit: bool,
}

/// What each zone gets of its need in the weeks from a date.
fn need_rows(names: &Names<'_>, from: Date) -> (Vec<NeedRow>, Vec<Working>) {
    let (there, settings) = (names.installation, names.settings);
    let to = from.checked_add((i32::from(WEEKS) * 7 - 1).days()).unwrap_or(from);
    let runs = expand(settings, &there.card, &there.tz, from, to);
    let mut workings = Vec::new();
    let rows = given(there, settings, &runs, WEEKS)
        .into_iter()
        .map(|g| {
            let working_id = format!("w-need-{}", g.station);
            if let Some(zone) = there.zone(g.station) {
                let of = format!("Zone {}", names.station(g.station));
                workings.push(working(working_id.clone(), of, &weekly(zone, &g), names.units));
            }
            let share =
                if g.minutes_needed > 0.0 { 100.0 * g.minutes_a_week / g.minutes_needed } else { 0.0 };
            NeedRow {
                station: g.station,
                zone: there.zone(g.station).map_or(String::new(), |z| z.zone.name.clone()),
                gets: span(g.minutes_a_week),
                needs: span(g.minutes_needed),
                share: format!("{} %", plain(share, 0)),
                bar: format!("{:.1}%", (share / 2.0).clamp(0.0, 100.0)),
                verdict: if share < NEED_SHARES.0.percent() {
                    "too little"
                } else if share > NEED_SHARES.1.percent() {
                    "too much"
                } else {
                    "enough"
                },
                title: format!(
                    "{}: {} net a week against {} expected demand without rain{}",
                    names.station(g.station),
                    depth(names.units, g.net_a_week),
                    depth(names.units, g.need_a_week),
                    match g.longest_gap_days {
                        Some(1) => ", every day".to_owned(),
                        Some(days) => format!(", at most {days} days apart"),
                        None => ", never".to_owned(),
                    }
                ),
                working_id,
            }
        })
        .collect();
    (rows, workings)
}

/// One sentence that answers the page.
fn headline(
    snapshot: &ControllerSnapshot,
    settings: &Settings,
    runs_a_week: (f64, Option<upland_core::quantity::units::Litres>),
) -> String {
    let (minutes, litres) = runs_a_week;
    let active = settings.programs.iter().filter(|p| p.active).count();
    if minutes < 0.5 {
        return "It runs nothing.".to_owned();
    }
    let water = litres.map_or(String::new(), |l| format!(", {}", volume(snapshot.units(), l)));
    format!(
        "{} {} {} a week{water}.",
        capital(&in_words(active)),
        if active == 1 { "program runs" } else { "programs run" },
        span(minutes)
    )
}

/// The page of each zone of a controller, by station.
fn zone_pages(snapshot: &ControllerSnapshot) -> BTreeMap<u16, String> {
    let (site, number) = (snapshot.records.site.id.number(), snapshot.installation.controller_number);
    let own = snapshot.records.zones.iter().filter(|record| record.zone.controller_number == number);
    own.map(|record| (record.zone.number, crate::server::address::zone(site, record.id))).collect()
}

fn counts(findings: &[FindingWords]) -> String {
    let count = |weight: &str| findings.iter().filter(|f| f.weight == weight).count();
    let part = |n: usize, one: &str, many: &str| {
        (n > 0).then(|| format!("{} {}", in_words(n), if n == 1 { one } else { many }))
    };
    let parts: Vec<String> = [
        part(count("fault"), "fault", "faults"),
        part(count("warning"), "warning", "warnings"),
        part(count("note"), "note", "notes"),
    ]
    .into_iter()
    .flatten()
    .collect();
    if parts.is_empty() { "Nothing is wrong".to_owned() } else { capital(&parts.join(", ")) }
}

/// Computes everything that follows from the settings.
pub(super) fn live(
    snapshot: &ControllerSnapshot,
    settings: &Settings,
    chosen: Date,
    zoom: Zoom,
    may_edit: bool,
) -> LiveView {
    let (there, day) = snapshot.in_week(chosen);
    let names = Names { installation: &there, settings, units: snapshot.units() };
    let mut found = check(&there, settings, day);
    // Of findings that weigh the same, the one that costs most water comes first.
    let litres = |f: &Finding| f.cost.litres_a_week.map_or(0.0, |l| l.l());
    found.sort_by(|a, b| a.severity.cmp(&b.severity).then(litres(b).total_cmp(&litres(a))));
    let findings: Vec<FindingWords> = found.iter().map(|f| names.finding(f)).collect();
    let from = monday_of(chosen);
    let runs = timeline::week_runs(&names, from);
    let waters = runs.iter().filter(|r| !settings.station(r.station).lighting);
    let minutes = waters.clone().map(ScheduledRun::length).sum::<Seconds>().minutes().min_value();
    let water = snapshot.installation.volume(waters);
    let (needs, workings) = need_rows(&names, day);
    let around = |days: i64| chosen.checked_add(days.days()).unwrap_or(chosen);
    let own = snapshot.runs_of(settings, DateSpan::new(around(-1), around(1)));
    let TimeSpan { from: begin, until: end } = snapshot.night(chosen);
    LiveView {
        path: snapshot.path(),
        zone_pages: zone_pages(snapshot),
        headline: headline(snapshot, settings, (minutes, water)),
        counts: counts(&findings),
        findings,
        week: Some(timeline::week(&names, &runs, Shown { from, chosen, zoom, editable: may_edit })),
        night: timeline::night(&names, &runs, &own, chosen, begin, end, may_edit),
        night_of: chosen.formatted("%A %-d %B"),
        previous_week: chosen.checked_sub(7.days()).unwrap_or(chosen),
        next_week: chosen.checked_add(7.days()).unwrap_or(chosen),
        flow_px: FLOW_PX,
        zoom,
        chosen,
        table: timeline::table(&names, &runs),
        totals: totals(snapshot, settings),
        stations: station_totals(snapshot, settings),
        measure: measure(snapshot.units()).1,
        needs,
        workings,
        assumption: format!(
            "Need is what the plants are expected to use over the fourteen days from {}, without rain, at each zone's rate and uniformity.",
            day.formatted("%-d %b %Y")
        ),
        unreadable: Vec::new(),
        may_edit,
    }
}

/// The week of a view.
#[derive(Template)]
#[template(path = "chapters/programs/week.html")]
struct WeekPart<'a> {
    v: &'a LiveView,
}

/// What the programs of a view come to.
#[derive(Template)]
#[template(path = "chapters/programs/totals.html")]
struct TotalsPart<'a> {
    v: &'a LiveView,
}

impl LiveView {
    /// The page of the zone on a station.
    fn zone_page(&self, station: &Option<u16>) -> Option<&String> {
        self.zone_pages.get(station.as_ref()?)
    }

    /// The week, or the lines that cannot be read.
    pub fn week_part(&self) -> String {
        WeekPart { v: self }.render().unwrap_or_default()
    }

    /// What the programs come to.
    pub fn totals_part(&self) -> String {
        TotalsPart { v: self }.render().unwrap_or_default()
    }
}

/// What stands in its place while a line cannot be read.
pub(super) fn unreadable(snapshot: &ControllerSnapshot, errors: &[TextError], chosen: Date) -> LiveView {
    LiveView {
        path: snapshot.path(),
        zone_pages: BTreeMap::new(),
        headline: String::new(),
        findings: Vec::new(),
        counts: String::new(),
        week: None,
        night: None,
        night_of: String::new(),
        previous_week: chosen,
        next_week: chosen,
        flow_px: FLOW_PX,
        zoom: Zoom::Day,
        chosen,
        table: Vec::new(),
        totals: Vec::new(),
        stations: Vec::new(),
        measure: String::new(),
        needs: Vec::new(),
        workings: Vec::new(),
        assumption: String::new(),
        unreadable: errors.iter().map(|(n, m)| (n.clone(), capital(&label(n)), m.clone())).collect(),
        may_edit: true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::chapters::programs::settings_form;
    use crate::fixture;
    use jiff::civil::date;

    #[test]
    fn what_follows_from_settings_is_told_at_once() {
        let snapshot = fixture::controller_snapshot();
        let settings = snapshot.settings();
        let drawn = live(&snapshot, &settings, date(2026, 7, 15), Zoom::Day, true);
        assert_eq!(drawn.headline, "Three programs run 15 h 45 min a week, 19.4 m³.");
        assert_eq!(drawn.counts, "Four faults, nine warnings");
        let weights: Vec<&str> = drawn.findings.iter().map(|f| f.weight).collect();
        assert!(weights.windows(2).all(|w| w[0] <= w[1]), "the gravest first: {weights:?}");
        let costs: Vec<&str> =
            drawn.findings.iter().filter(|f| f.weight == "warning").map(|f| f.id.as_str()).collect();
        assert_eq!(costs[0], "repeated-starts-p0", "of warnings the one that costs most water");
        assert_eq!(drawn.needs.len(), 4);
        assert_eq!((drawn.needs[0].verdict, drawn.needs[0].gets.as_str()), ("too much", "4 h 5 min"));
        assert_eq!(drawn.workings.len(), 4, "every need opens");
        assert_eq!(drawn.night_of, "Wednesday 15 July");
        assert_eq!((drawn.previous_week, drawn.next_week), (date(2026, 7, 8), date(2026, 7, 22)));
    }

    #[test]
    fn an_empty_controller_says_so_and_lacks_nothing_but_minutes() {
        let snapshot = fixture::controller_snapshot();
        let clean = Settings::clean(&snapshot.installation.card);
        let drawn = live(&snapshot, &clean, snapshot.today, Zoom::Window, false);
        assert_eq!(drawn.headline, "It runs nothing.");
        assert!(
            drawn.findings.iter().all(|f| f.id.starts_with("zone-without-minutes")),
            "{:?}",
            drawn.findings
        );
        assert!(drawn.night.is_none() && drawn.table.is_empty());
        assert!(drawn.needs.iter().all(|n| n.verdict == "too little"));
    }

    #[test]
    fn fields_show_what_the_card_has_and_keep_what_was_typed() {
        let snapshot = fixture::controller_snapshot();
        let mut typed = settings_form::texts(&snapshot.settings());
        typed.insert("p0-starts".into(), "25:00".into());
        let errors = vec![("p0-starts".to_owned(), "not a time".to_owned())];
        let drawn = fields(&snapshot, &typed, &errors, true);
        assert_eq!((drawn.programs.len(), drawn.stations.len()), (3, 5), "what is used");
        assert_eq!((drawn.add_program, drawn.add_station), (None, Some(5)));
        assert_eq!(
            (drawn.programs[0].starts.value.as_str(), drawn.programs[0].starts.error.as_str()),
            ("25:00", "not a time")
        );
        assert_eq!(drawn.errors, [("p0-starts".into(), "Program A, starts".into(), "not a time".into())]);
        assert_eq!(drawn.programs[0].modes.len(), 4, "weekdays, odd, even, every n-th day");
        assert!(
            drawn.percent.is_none() && drawn.months.is_empty() && drawn.programs[0].percent.is_some(),
            "by program"
        );
        assert_eq!(drawn.stations[0].zone, "Upper lawn");
        assert_eq!(drawn.stations[0].minutes[0].0.value, "15");
    }

    #[test]
    fn a_line_that_cannot_be_read_stands_in_for_the_timeline() {
        let snapshot = fixture::controller_snapshot();
        let errors = vec![("p1-m4".to_owned(), "not a number".to_owned())];
        let drawn = unreadable(&snapshot, &errors, snapshot.today);
        assert!(drawn.week.is_none() && drawn.findings.is_empty());
        assert_eq!(drawn.unreadable[0].1, "Program B, station 4");
        let html = drawn.week_part();
        assert!(html.contains("href=\"#p1-m4\"") && html.contains("not a number"));
    }
}

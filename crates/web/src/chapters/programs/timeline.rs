//! Geometry of the timeline: a week of nights as ruled rows, and one night by station with its
//! flow. A night reaches from noon to noon, so that daytime pulses are seen too. Positions are
//! percentages across and pixels down.

use crate::page::dates::DateFormat;
use crate::page::program_words::Names;
use crate::page::quantities::flow as flow_text;
use crate::page::sensor_words::holders;
use askama::Template;
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp, ToSpan};
use std::collections::{BTreeMap, BTreeSet};
use upland_core::account::running::ControllerRun;
use upland_core::controller::ordinance::merged;
use upland_core::controller::schedule::{ProgramPass, ScheduledRun, expand, passes};
use upland_core::controller::windows::main_window;
use upland_core::quantity::span::TimeSpan;
use upland_core::quantity::time;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::LitresPerMinute;
use upland_core::weather::sun::sunrise_sunset;
use upland_formats::typed::{Habit, write_time};

/// Height of a night's row, px.
const ROW_PX: u32 = 28;
/// Height of a station's lane, px.
const LANE_PX: u32 = 26;
/// Height of the hour row, px.
const HEAD_PX: u32 = 20;
/// Runs closer than this are drawn as one in the week, seconds.
const JOINED_S: i64 = 90;
/// A bar thinner than this would vanish, percent.
const THINNEST_PCT: f64 = 0.25;
/// Shown before the first and after the last thing of a night, minutes.
const MARGIN_MIN: i64 = 20;
/// Height of the flow chart, px.
pub(super) const FLOW_PX: u32 = 64;
/// Fills that tell programs apart, with their letter.
const FILLS: usize = 4;

fn pct(value: f64) -> String {
    format!("{value:.2}%")
}

/// A rectangle along the time axis.
pub(super) struct Bar {
    pub x: String,
    pub width: String,
    pub y: u32,
}

pub(super) struct Mark {
    pub x: String,
    pub y: u32,
    pub text: String,
    pub anchor: &'static str,
}

pub(super) struct Thread {
    pub x1: String,
    pub x2: String,
    pub y: u32,
}

/// One start of a program with the runs that follow from it.
pub(super) struct Pass {
    pub program: usize,
    pub start: usize,
    /// The start as it is set, HH:MM.
    pub set: String,
    pub fill: usize,
    pub whole: Bar,
    pub runs: Vec<Bar>,
    pub label: String,
    pub label_x: String,
    pub title: String,
    /// From where it was set to run, when it waits.
    pub queue: Option<Thread>,
}

pub(super) struct Row {
    pub date: Date,
    pub label: String,
    pub y: u32,
    pub chosen: bool,
}

/// A week of nights.
#[derive(Template)]
#[template(path = "chapters/programs/week.svg", escape = "html")]
pub(super) struct Week {
    pub height: u32,
    pub rows: Vec<Row>,
    pub hours: Vec<Mark>,
    pub open: Vec<Bar>,
    pub banned: Vec<Bar>,
    pub sun: Vec<Mark>,
    pub passes: Vec<Pass>,
    pub words: String,
    pub editable: bool,
    /// Step of a start on this controller, minutes.
    pub step_min: u16,
    /// Minutes across.
    pub span_min: u32,
}

/// A run of a station, in the night.
pub(super) struct Run {
    pub program: usize,
    pub station: u16,
    pub fill: usize,
    pub bar: Bar,
    /// Where the right edge is taken hold of.
    pub edge_x: String,
    pub title: String,
    /// Seconds at 100 %, and the percentage that made the run of them; for dragging its edge.
    pub base_s: u32,
    pub percent: u16,
    /// Cycles that share the run time.
    pub cycles: usize,
    /// A sensor stops it.
    pub held: bool,
}

pub(super) struct Lane {
    pub label: String,
    pub y: u32,
}

pub(super) struct FlowChart {
    pub path: String,
    pub supply_y: Option<u32>,
    pub top: String,
    pub over: bool,
}

/// One night by station.
#[derive(Template)]
#[template(path = "chapters/programs/night.svg", escape = "html")]
pub(super) struct NightDrawing {
    pub height: u32,
    pub lanes_bottom: u32,
    pub lanes: Vec<Lane>,
    pub hours: Vec<Mark>,
    pub open: Vec<Bar>,
    pub banned: Vec<Bar>,
    pub sun: Vec<Mark>,
    pub runs: Vec<Run>,
    pub soaks: Vec<Thread>,
    pub flow: Option<FlowChart>,
    pub words: String,
    pub editable: bool,
    pub step_s: u32,
    pub span_s: u32,
}

/// The noon that a date's night begins at.
fn noon(date: Date, names: &Names<'_>) -> Timestamp {
    time::noon(date, &names.installation.tz)
}

fn tomorrow(date: Date) -> Date {
    date.tomorrow().unwrap_or(date)
}

fn secs(from: Timestamp, to: Timestamp) -> f64 {
    to.duration_since(from).as_secs_f64()
}

/// A stretch of time as the axis.
struct Axis {
    from: Timestamp,
    until: Timestamp,
}

impl Axis {
    fn x(&self, at: Timestamp) -> f64 {
        (100.0 * secs(self.from, at) / secs(self.from, self.until).max(1.0)).clamp(0.0, 100.0)
    }

    fn bar(&self, from: Timestamp, until: Timestamp, y: u32) -> Option<Bar> {
        if until <= self.from || from >= self.until {
            return None;
        }
        let (x, end) = (self.x(from), self.x(until));
        Some(Bar { x: pct(x), width: pct((end - x).max(THINNEST_PCT)), y })
    }
}

/// Runs of a week of nights from an evening.
pub(super) fn week_runs(names: &Names<'_>, from: Date) -> Vec<ScheduledRun> {
    let last = from.checked_add(7.days()).unwrap_or(from);
    let day_before = from.yesterday().unwrap_or(from);
    let (begin, end) = (noon(from, names), noon(last, names));
    let mut runs = expand(names.settings, &names.installation.card, &names.installation.tz, day_before, last);
    runs.retain(|r| r.end > begin && r.start < end);
    runs
}

fn forbidden(names: &Names<'_>, from: Date, to: Date) -> Vec<TimeSpan> {
    merged(&names.installation.law.forbidden(None, from, to, &names.installation.tz))
}

/// Sunset of a date and sunrise of the next, as instants.
fn sun_of_night(names: &Names<'_>, date: Date) -> Vec<(Timestamp, &'static str)> {
    let (latitude, longitude) = (names.installation.latitude_deg, names.installation.longitude_deg);
    let set = sunrise_sunset(date, latitude, longitude).map(|day| (day.until, "sunset"));
    let rise = sunrise_sunset(tomorrow(date), latitude, longitude).map(|day| (day.from, "sunrise"));
    [set, rise].into_iter().flatten().collect()
}

fn draw_pass(names: &Names<'_>, axis: &Axis, pass: &ProgramPass<'_>, y: u32) -> Option<Pass> {
    let first = pass.runs.first()?;
    let whole = axis.bar(pass.begin, pass.end, y + 2)?;
    let mut spans: Vec<TimeSpan> = Vec::new();
    for run in &pass.runs {
        match spans.last_mut() {
            Some(span) if run.start.duration_since(span.until).as_secs() <= JOINED_S => {
                span.until = span.until.max(run.end);
            }
            _ => spans.push(TimeSpan::new(run.start, run.end)),
        }
    }
    let name = names.program(pass.program);
    let clock = |t: Timestamp| t.to_zoned(names.installation.tz.clone()).formatted("%H:%M");
    let set = names.settings.programs.get(pass.program).and_then(|p| p.starts.get(first.start_index));
    let asked = first.start - first.queued;
    let waits = first.queued >= Seconds::from_min(1);
    Some(Pass {
        program: pass.program,
        start: first.start_index,
        set: set.map_or(String::new(), |t| write_time(*t, Habit::default())),
        fill: pass.program % FILLS,
        label_x: whole.x.clone(),
        whole,
        runs: spans.iter().filter_map(|span| axis.bar(span.from, span.until, y + 13)).collect(),
        title: format!(
            "Program {name}, {} to {}: {}; {} min of watering{}",
            clock(pass.begin),
            clock(pass.end),
            names.stations(&pass.stations()),
            pass.watered().s() / 60,
            if waits { format!("; was to start at {}", clock(asked)) } else { String::new() }
        ),
        label: name,
        queue: waits.then(|| Thread { x1: pct(axis.x(asked)), x2: pct(axis.x(first.start)), y: y + 18 }),
    })
}

/// How much of a night is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum Zoom {
    /// From noon to noon.
    Day,
    /// The water window, and an hour on either side.
    Window,
}

impl Zoom {
    pub fn of(text: &str) -> Self {
        if text == "window" { Self::Window } else { Self::Day }
    }

    pub fn code(self) -> &'static str {
        match self {
            Self::Day => "day",
            Self::Window => "window",
        }
    }

    /// The axis of a night.
    fn axis(self, names: &Names<'_>, date: Date) -> Axis {
        match self {
            Self::Day => Axis { from: noon(date, names), until: noon(tomorrow(date), names) },
            Self::Window => {
                let hull = names.installation.hull();
                let TimeSpan { from: open, until: shut } = main_window(date, hull, &names.installation.tz);
                let hour = SignedDuration::from_hours(1);
                Axis { from: open - hour, until: shut + hour }
            }
        }
    }
}

/// What of a week is drawn, and how.
#[derive(Debug, Clone, Copy)]
pub(super) struct Shown {
    pub from: Date,
    pub chosen: Date,
    pub zoom: Zoom,
    pub editable: bool,
}

/// Draws a week of nights.
pub(super) fn week(names: &Names<'_>, runs: &[ScheduledRun], shown: Shown) -> Week {
    let Shown { from, chosen, zoom, editable } = shown;
    let first_axis = zoom.axis(names, from);
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "minutes of a day")]
    let span_min = (secs(first_axis.from, first_axis.until) / 60.0) as u32;
    let mut drawn = Week {
        height: HEAD_PX + 7 * ROW_PX,
        rows: Vec::new(),
        hours: hours(names, &first_axis),
        open: Vec::new(),
        banned: Vec::new(),
        sun: Vec::new(),
        passes: Vec::new(),
        words: String::new(),
        editable,
        step_min: names.installation.card.start_step_min,
        span_min,
    };
    let stations: BTreeSet<u16> = names.installation.zones.iter().map(|zone| zone.zone.number).collect();
    let mut words = Vec::new();
    for k in 0..7u32 {
        let Ok(date) = from.checked_add(i64::from(k).days()) else { break };
        let y = HEAD_PX + k * ROW_PX;
        let axis = zoom.axis(names, date);
        drawn.rows.push(Row { date, label: date.formatted("%a %-d %b"), y, chosen: date == chosen });
        let windows: BTreeSet<_> = stations.iter().flat_map(|n| open_to(names, *n, date)).collect();
        drawn.open.extend(windows.iter().filter_map(|span| axis.bar(span.from, span.until, y)));
        let bans = forbidden(names, date, tomorrow(date));
        drawn.banned.extend(bans.iter().filter_map(|span| axis.bar(span.from, span.until, y)));
        drawn.sun.extend(
            sun_of_night(names, date)
                .into_iter()
                .filter(|(at, _)| *at > axis.from && *at < axis.until)
                .map(|(at, text)| Mark { x: pct(axis.x(at)), y, text: text.into(), anchor: "middle" }),
        );
        let (begin, end) = (noon(date, names), noon(tomorrow(date), names));
        let mine = runs.iter().filter(|r| r.start >= begin && r.start < end);
        let mut spoken: Vec<String> = Vec::new();
        for pass in &passes(mine) {
            if let Some(pass) = draw_pass(names, &axis, pass, y) {
                spoken.push(pass.title.split(": ").next().unwrap_or_default().to_owned());
                drawn.passes.push(pass);
            }
        }
        if !spoken.is_empty() && spoken.len() <= 6 {
            words.push(format!("{}: {}", date.formatted("%A"), spoken.join(", ")));
        }
    }
    drawn.words = format!("The nights of a week from noon to noon. {}.", words.join(". "));
    drawn
}

/// The runs of a night in their lanes, with the soaks between them.
fn lane_runs(
    names: &Names<'_>,
    mine: &[&ScheduledRun],
    own: &[ControllerRun],
    axis: &Axis,
    lane_y: &BTreeMap<u16, u32>,
) -> (Vec<Run>, Vec<Thread>) {
    let sensors: Vec<&str> = names.installation.sensors.iter().map(|s| s.name.as_str()).collect();
    let (mut runs, mut soaks) = (Vec::new(), Vec::new());
    let mut previous: BTreeMap<(u16, usize, u32), Timestamp> = BTreeMap::new();
    for run in mine {
        let Some(y) = lane_y.get(&run.station).copied() else { continue };
        let Some(bar) = axis.bar(run.start, run.end, y + 5) else { continue };
        let key = (run.station, run.program, run.start_number);
        if let Some(before) = previous.insert(key, run.end) {
            soaks.push(Thread { x1: pct(axis.x(before)), x2: pct(axis.x(run.start)), y: y + LANE_PX / 2 });
        }
        let cycles = mine.iter().filter(|r| (r.station, r.program, r.start_number) == key).count();
        let found = own.iter().find(|r| r.run == **run).filter(|r| !r.held_by.is_empty());
        let by = |r: &ControllerRun| holders(names.units, &r.held_by, &sensors, &names.installation.tz);
        let stops = found.map_or(String::new(), |r| format!("; skipped: {}", by(r)));
        runs.push(Run {
            program: run.program,
            station: run.station,
            fill: run.program % FILLS,
            edge_x: pct(axis.x(run.end)),
            title: format!(
                "{}, program {}: {} to {}, {}{stops}",
                names.station(run.station),
                names.program(run.program),
                clock(names, run.start),
                clock(names, run.end),
                run.length()
            ),
            held: found.is_some(),
            base_s: names.settings.run_time(run.program, run.station).length_s(),
            percent: names.settings.percentages.of(run.program, run.date).percent(),
            cycles: cycles.max(1),
            bar,
        });
    }
    (runs, soaks)
}

fn clock(names: &Names<'_>, at: Timestamp) -> String {
    at.to_zoned(names.installation.tz.clone()).formatted("%H:%M")
}

/// Sunset and sunrise on the axis of a night.
fn sun_marks(names: &Names<'_>, date: Date, axis: &Axis, y: u32) -> Vec<Mark> {
    let mark = |(at, text): (Timestamp, &'static str)| {
        let x = axis.x(at);
        let anchor = match x {
            x if x > 88.0 => "end",
            x if x < 12.0 => "start",
            _ => "middle",
        };
        Mark { x: pct(x), y, text: format!("{text} {}", clock(names, at)), anchor }
    };
    let seen = sun_of_night(names, date).into_iter().filter(|(at, _)| *at > axis.from && *at < axis.until);
    seen.map(mark).collect()
}

/// The open spans of a station around a date.
fn open_to(names: &Names<'_>, station: u16, date: Date) -> Vec<TimeSpan> {
    let there = names.installation;
    there.open_spans(&there.windows_around(station, date, date))
}

/// Draws one night by station.
pub(super) fn night(
    names: &Names<'_>,
    runs: &[ScheduledRun],
    own: &[ControllerRun],
    date: Date,
    begin: Timestamp,
    end: Timestamp,
    editable: bool,
) -> Option<NightDrawing> {
    let within = |r: &&ScheduledRun| r.start >= begin && r.start < end;
    let lighting = runs.iter().filter(|r| names.settings.station(r.station).lighting);
    let mut mine: Vec<&ScheduledRun> = lighting.chain(own.iter().map(|r| &r.run)).filter(within).collect();
    mine.sort_by_key(|r| (r.start, r.program, r.station, r.cycle));
    let (first, last) = (mine.first()?.start, mine.iter().map(|r| r.end).max()?);
    let TimeSpan { from: open, until: shut } =
        main_window(date, names.installation.hull(), &names.installation.tz);
    let margin = SignedDuration::from_mins(MARGIN_MIN);
    let axis = Axis { from: first.min(open) - margin, until: last.max(shut) + margin };
    let stations: BTreeSet<u16> = mine.iter().map(|r| r.station).collect();
    let lane_y: BTreeMap<u16, u32> = stations.into_iter().zip((0..).map(|k| HEAD_PX + k * LANE_PX)).collect();
    let lanes_bottom = HEAD_PX + u32::try_from(lane_y.len()).unwrap_or(0) * LANE_PX;
    let (drawn, soaks) = lane_runs(names, &mine, own, &axis, &lane_y);
    let bans = forbidden(names, date, tomorrow(date));
    let words: Vec<&str> = drawn.iter().map(|r| r.title.as_str()).collect();
    let words = format!("Night of {}: {}.", date.formatted("%A %-d %B"), words.join("; "));
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "seconds of a day")]
    let span_s = secs(axis.from, axis.until) as u32;
    Some(NightDrawing {
        height: lanes_bottom + 18,
        lanes_bottom,
        lanes: lane_y.iter().map(|(n, y)| Lane { label: names.station(*n), y: *y }).collect(),
        hours: hours(names, &axis),
        open: lane_y
            .iter()
            .flat_map(|(n, y)| open_to(names, *n, date).into_iter().map(|span| (span, *y)))
            .filter_map(|(span, y)| axis.bar(span.from, span.until, y))
            .collect(),
        banned: bans.iter().filter_map(|span| axis.bar(span.from, span.until, HEAD_PX)).collect(),
        sun: sun_marks(names, date, &axis, lanes_bottom + 14),
        flow: flow_chart(names, &mine, &axis),
        runs: drawn,
        soaks,
        words,
        editable,
        step_s: names.installation.card.run_step.length_s(),
        span_s,
    })
}

/// Hours at a step that leaves at most fourteen labels.
fn hours(names: &Names<'_>, axis: &Axis) -> Vec<Mark> {
    let tz = names.installation.tz.clone();
    let total = secs(axis.from, axis.until) / 3600.0;
    let step: i8 = if total <= 14.0 { 1 } else { 2 };
    let rounding = jiff::ZonedRound::new().smallest(jiff::Unit::Hour).mode(jiff::RoundMode::Ceil);
    let Ok(mut at) = axis.from.to_zoned(tz).round(rounding) else { return Vec::new() };
    let mut marks = Vec::new();
    while at.timestamp() <= axis.until {
        if at.hour() % step == 0 {
            let x = axis.x(at.timestamp());
            let anchor = if x < 0.5 {
                "start"
            } else if x > 99.5 {
                "end"
            } else {
                "middle"
            };
            marks.push(Mark { x: pct(x), y: 14, text: at.formatted("%H"), anchor });
        }
        at = &at + SignedDuration::from_hours(1);
    }
    marks
}

/// Flow over the night against the supply; `None` when no area is known.
fn flow_chart(names: &Names<'_>, runs: &[&ScheduledRun], axis: &Axis) -> Option<FlowChart> {
    let flow_of = |station| names.installation.zone(station).and_then(|z| z.flow);
    if runs.iter().all(|r| flow_of(r.station).is_none()) {
        return None;
    }
    let mut steps: BTreeMap<Timestamp, f64> = BTreeMap::new();
    for run in runs {
        let flow = flow_of(run.station).map_or(0.0, LitresPerMinute::l_per_min);
        *steps.entry(run.start).or_default() += flow;
        *steps.entry(run.end).or_default() -= flow;
    }
    let mut level = 0.0_f64;
    let mut highest = 0.0_f64;
    let points: Vec<(f64, f64)> = steps
        .iter()
        .map(|(at, change)| {
            level += change;
            highest = highest.max(level);
            (axis.x(*at), level)
        })
        .collect();
    let supply = names.installation.supply.map(LitresPerMinute::l_per_min);
    let top = highest.max(supply.unwrap_or(0.0)).max(1.0) * 1.08;
    let y = |value: f64| f64::from(FLOW_PX) * (1.0 - value / top);
    let mut path = format!("M0 {FLOW_PX}");
    for (x, value) in points {
        path.push_str(&format!("H{x:.2}V{:.1}", y(value.max(0.0))));
    }
    path.push_str("H100");
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "inside the chart")]
    let supply_y = supply.map(|s| y(s) as u32);
    Some(FlowChart {
        path,
        supply_y,
        top: match names.installation.supply {
            Some(supply) => format!(
                "flow, at most {} of {}",
                flow_text(names.units, LitresPerMinute::from_l_per_min(highest)),
                flow_text(names.units, supply)
            ),
            None => format!(
                "flow, at most {}; supply not known",
                flow_text(names.units, LitresPerMinute::from_l_per_min(highest))
            ),
        },
        over: supply.is_some_and(|s| highest > s + 1e-6),
    })
}

/// A pass as the table says it.
pub(super) struct TableLine {
    pub date: String,
    pub program: String,
    pub from: String,
    pub until: String,
    pub stations: String,
    pub minutes: i64,
}

/// The week as a table.
pub(super) fn table(names: &Names<'_>, runs: &[ScheduledRun]) -> Vec<TableLine> {
    let clock = |t: Timestamp| t.to_zoned(names.installation.tz.clone()).formatted("%H:%M");
    passes(runs.iter())
        .into_iter()
        .map(|pass| TableLine {
            date: pass.date.formatted("%a %-d %b"),
            program: names.program(pass.program),
            from: clock(pass.begin),
            until: clock(pass.end),
            stations: names.stations(&pass.stations()),
            minutes: pass.watered().s() / 60,
        })
        .collect()
}

#[cfg(test)]
mod tests;

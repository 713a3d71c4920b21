//! Geometry of the two drawings of a night: the night strip and the soil column. Positions are
//! percentages across and pixels down, so that a drawing fits any width without distortion.

use crate::page::dates::{DateFormat, said_open};
use crate::page::soil_column::percent_of_width;
use askama::Template;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, Zoned};
use std::collections::BTreeMap;
use upland_core::account::running::ControllerRun;
use upland_core::advice::tonight::{Tonight, Verdict, ZoneTonight};
use upland_core::controller::night::NightPlan;
use upland_core::weather::sun::sunrise_sunset;

/// Height of one lane, px.
const LANE_PX: u32 = 26;
/// Height of the hour row above the lanes, px.
const HEAD_PX: u32 = 22;
/// Height of the row below the lanes, where sunrise is named, px.
const FOOT_PX: u32 = 20;
/// Shown before and after the window, minutes.
const MARGIN_MIN: f64 = 30.0;
/// A bar thinner than this would vanish, percent.
const THINNEST_PCT: f64 = 0.5;

pub(super) struct Mark {
    pub x: String,
    pub text: String,
    pub anchor: &'static str,
}

pub(super) struct Bar {
    pub x: String,
    pub y: u32,
    pub width: String,
    /// For a pointer resting on it and for screen readers.
    pub title: String,
    /// will, held or need.
    pub kind: &'static str,
}

pub(super) struct Soak {
    pub x1: String,
    pub x2: String,
    pub y: u32,
}

pub(super) struct Lane {
    pub label: String,
    /// The verdict, where there is one to say.
    pub verdict: &'static str,
    pub y: u32,
}

/// One night as a ruled band.
#[derive(Template)]
#[template(path = "chapters/today/night_strip.svg", escape = "html")]
pub(super) struct NightStrip {
    pub height: u32,
    pub lanes_top: u32,
    pub lanes_bottom: u32,
    pub foot_y: u32,
    pub closed: Vec<(String, String)>,
    pub hours: Vec<Mark>,
    pub lanes: Vec<Lane>,
    pub bars: Vec<Bar>,
    pub soaks: Vec<Soak>,
    pub sunrise: Option<Mark>,
    pub words: String,
}

/// The time axis of a night, percent of its width.
struct NightAxis {
    from: Zoned,
    minutes: f64,
}

impl NightAxis {
    /// From before the window or the first run to after the window or the last one.
    fn of(night: &NightPlan, runs: &[ControllerRun], tz: &TimeZone) -> Self {
        let zoned = |at: Timestamp| at.to_zoned(tz.clone());
        let first = runs.iter().map(|r| zoned(r.run.start)).min();
        let last = runs.iter().map(|r| zoned(r.run.end)).max();
        let from = first.into_iter().fold(night.window_from.clone(), Zoned::min);
        let until = last.into_iter().fold(night.window_until.clone(), Zoned::max);
        let from = &from - SignedDuration::from_mins(30);
        let minutes = until.duration_since(&from).as_secs_f64() / 60.0 + MARGIN_MIN;
        Self { from, minutes }
    }

    /// Where and how wide the hours are in which nothing may run.
    fn closed(&self, night: &NightPlan) -> Vec<(String, String)> {
        let mut closed = Vec::new();
        let mut from = 0.0;
        for (opens, shuts) in &night.open {
            closed.push((percent_of_width(from), percent_of_width((self.x(opens) - from).max(0.0))));
            from = self.x(shuts);
        }
        closed.push((percent_of_width(from), percent_of_width((100.0 - from).max(0.0))));
        closed
    }

    fn x(&self, at: &Zoned) -> f64 {
        100.0 * (at.duration_since(&self.from).as_secs_f64() / 60.0) / self.minutes
    }

    /// Whole hours at a step that leaves at most ten labels.
    fn hours(&self) -> Vec<Mark> {
        let step: i64 = if self.minutes / 60.0 <= 10.0 { 1 } else { 2 };
        let up = jiff::ZonedRound::new().smallest(jiff::Unit::Hour).mode(jiff::RoundMode::Ceil);
        let Ok(mut at) = self.from.round(up) else { return Vec::new() };
        let mut hours = Vec::new();
        while self.x(&at) <= 99.0 {
            if i64::from(at.hour()) % step == 0 {
                let text = at.formatted("%H");
                hours.push(Mark { x: percent_of_width(self.x(&at)), text, anchor: "middle" });
            }
            at = &at + SignedDuration::from_hours(1);
        }
        hours
    }

    /// A mark whose text stays inside the drawing; `None` when it lies outside.
    fn mark(&self, at: &Zoned, text: String) -> Option<Mark> {
        let x = self.x(at);
        let anchor = match x {
            x if x > 85.0 => "end",
            x if x < 15.0 => "start",
            _ => "middle",
        };
        (0.0..=100.0).contains(&x).then(|| Mark { x: percent_of_width(x), text, anchor })
    }
}

/// A lane that is being filled, and the same in words.
struct Filling<'a> {
    axis: &'a NightAxis,
    /// The station, with the name of its zone.
    label: String,
    y: u32,
    bars: Vec<Bar>,
    soaks: Vec<Soak>,
}

impl Filling<'_> {
    fn bar(&mut self, start: &Zoned, end: &Zoned, kind: &'static str, what: &str) -> String {
        let (x, x_end) = (self.axis.x(start), self.axis.x(end));
        let clock = format!("{} to {}", start.formatted("%H:%M"), end.formatted("%H:%M"));
        self.bars.push(Bar {
            x: percent_of_width(x),
            y: self.y + if kind == "need" { 3 } else { 7 },
            width: percent_of_width((x_end - x).max(THINNEST_PCT)),
            title: format!("{}: {what} {clock}", self.label),
            kind,
        });
        clock
    }

    /// What the controller will do, filled; what is held, in dashes.
    fn will(&mut self, runs: &[ControllerRun], tz: &TimeZone) -> String {
        let zoned = |at: Timestamp| at.to_zoned(tz.clone());
        let mut spoken = Vec::new();
        for run in runs {
            let (start, until, end) = (zoned(run.run.start), zoned(run.until), zoned(run.run.end));
            if until > start {
                spoken.push(self.bar(&start, &until, "will", "the controller will run"));
            }
            if until < end {
                let from = start.max(until);
                let clock = self.bar(&from, &end, "held", "held");
                spoken.push(format!("{clock} skipped"));
            }
        }
        spoken.join(", ")
    }

    /// What the zone needs, as an outline on the same axis.
    fn needs(&mut self, night: &NightPlan, station: u16) -> String {
        let mut spoken = Vec::new();
        let mut previous_end: Option<f64> = None;
        for run in night.layout.runs.iter().filter(|r| r.number == station) {
            let times = (night.at(run.from_minute), night.at(run.from_minute + run.minutes));
            let (Some(start), Some(end)) = times else { continue };
            if let Some(previous) = previous_end {
                let (x1, x2) = (percent_of_width(previous), percent_of_width(self.axis.x(&start)));
                self.soaks.push(Soak { x1, x2, y: self.y + LANE_PX / 2 });
            }
            previous_end = Some(self.axis.x(&end));
            spoken.push(self.bar(&start, &end, "need", "it needs"));
        }
        spoken.join(", ")
    }
}

/// Runs of stations that have no zone, by station: they open valves all the same.
fn without_zone(tonight: &Tonight) -> BTreeMap<u16, Vec<ControllerRun>> {
    let mut out: BTreeMap<u16, Vec<ControllerRun>> = BTreeMap::new();
    let has_zone = |station: u16| tonight.zones.iter().any(|z| z.zone.number == station);
    for run in tonight.runs.iter().filter(|r| !has_zone(r.run.station)) {
        out.entry(run.run.station).or_default().push(run.clone());
    }
    out
}

/// Draws the night: what the controller will do filled, what each zone needs as an outline on the same axis; `None` when
/// nothing runs and nothing is needed.
// Long: one part of the drawing after another.
pub(super) fn night_strip(
    tonight: &Tonight,
    tz: &TimeZone,
    latitude_deg: f64,
    longitude_deg: f64,
) -> Option<NightStrip> {
    let night = &tonight.night;
    let axis = NightAxis::of(night, &tonight.runs, tz);
    let (mut lanes, mut bars, mut soaks, mut words) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let mut lanes_bottom = HEAD_PX;
    let shown = |zone: &&ZoneTonight| {
        zone.cycles.is_some() || zone.will.as_ref().is_some_and(|will| !will.runs.is_empty())
    };
    for row in tonight.zones.iter().filter(shown) {
        let (y, number) = (lanes_bottom, row.zone.number);
        let verdict = row.verdict.map_or("", Verdict::label);
        let label = format!("{number} {}", row.zone.name);
        lanes.push(Lane { label: label.clone(), verdict, y });
        let mut filling = Filling { axis: &axis, label, y, bars: Vec::new(), soaks: Vec::new() };
        let needs = filling.needs(night, number);
        let will = row.will.as_ref().map_or(String::new(), |own| filling.will(&own.runs, tz));
        let said =
            |name: &str, what: &str| if what.is_empty() { String::new() } else { format!(" {name} {what}.") };
        words.push(format!(
            "{number} {}:{}{} {verdict}",
            row.zone.name,
            said("the controller will run", &will),
            said("it needs", &needs)
        ));
        bars.append(&mut filling.bars);
        soaks.append(&mut filling.soaks);
        lanes_bottom += LANE_PX;
    }
    for (station, runs) in without_zone(tonight) {
        let (y, label) = (lanes_bottom, format!("{station} no zone"));
        lanes.push(Lane { label: label.clone(), verdict: "", y });
        let mut filling = Filling { axis: &axis, label, y, bars: Vec::new(), soaks: Vec::new() };
        words.push(format!(
            "Station {station}, no zone: the controller will run {}.",
            filling.will(&runs, tz)
        ));
        bars.append(&mut filling.bars);
        lanes_bottom += LANE_PX;
    }
    if lanes.is_empty() {
        return None;
    }
    let sun = sunrise_sunset(night.window_until.date(), latitude_deg, longitude_deg);
    let sunrise = sun.and_then(|day| {
        let rise = day.from;
        let at = rise.to_zoned(tz.clone());
        axis.mark(&at, format!("sunrise {}", at.formatted("%H:%M")))
    });
    Some(NightStrip {
        height: lanes_bottom + FOOT_PX,
        lanes_top: HEAD_PX,
        lanes_bottom,
        foot_y: lanes_bottom + 15,
        closed: axis.closed(night),
        hours: axis.hours(),
        lanes,
        bars,
        soaks,
        sunrise,
        words: format!("Water window {}. {}", said_open(night), words.join(" ")),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use crate::page::soil_column::soil_column;
    use upland_core::site::UnitSystem;

    #[test]
    fn night_strip_drawing() {
        let decided = fixture::told(UnitSystem::Metric);
        let site = &decided.records.site.site;
        let place = (site.latitude_deg, site.longitude_deg);
        let strip = night_strip(&decided.night, &decided.records.tz, place.0, place.1).unwrap();
        insta::assert_snapshot!(strip.render().unwrap());
    }

    #[test]
    fn soil_column_drawing() {
        let decided = fixture::decided(UnitSystem::UsCustomary);
        let column = soil_column(&decided.night.zones[0], UnitSystem::UsCustomary);
        insta::assert_snapshot!(column.render().unwrap());
    }

    #[test]
    fn every_bar_lies_on_the_axis_and_both_sides_are_drawn() {
        let decided = fixture::told(UnitSystem::Metric);
        let strip = night_strip(&decided.night, &decided.records.tz, 46.0, -30.0).unwrap();
        let number = |text: &str| text.trim_end_matches('%').parse::<f64>().unwrap();
        for bar in &strip.bars {
            assert!(number(&bar.x) >= 0.0 && number(&bar.x) + number(&bar.width) <= 100.01, "{}", bar.title);
        }
        let of = |kind: &str| strip.bars.iter().filter(|b| b.kind == kind).count();
        assert!(of("will") >= 4 && of("need") >= 1 && of("held") == 0);
        assert!(strip.words.contains("the controller will run") && strip.words.contains("it needs"));
    }

    #[test]
    fn sentence_10_a_station_without_a_zone_has_its_bars_too() {
        let mut night = Tonight::clone(&fixture::told(UnitSystem::Metric).night);
        let tz = fixture::told(UnitSystem::Metric).records.tz.clone();
        let mut last = night.runs.iter().max_by_key(|r| r.until).unwrap().clone();
        (last.run.station, last.run.start) = (11, last.until);
        last.run.end = last.run.start + SignedDuration::from_mins(10);
        last.until = last.run.end;
        night.runs.push(last.clone());
        let strip = night_strip(&night, &tz, 46.0, -30.0).unwrap();
        assert_eq!(strip.lanes.last().unwrap().label, "11 no zone");
        let end = last.until.to_zoned(tz.clone()).formatted("%H:%M");
        assert!(strip.bars.iter().any(|b| b.title.ends_with(&end)), "the headline's end is drawn");
        assert!(crate::page::headline::headline(&night, &tz).contains(&format!("to {end}")));
    }
}

//! Geometry of the two drawings of a night: the night strip and the soil column. Positions are
//! percentages across and pixels down, so that a drawing fits any width without distortion.

use askama::Template;
use jiff::{SignedDuration, Zoned};
use std::collections::BTreeMap;
use upland_core::advice::tonight::{Tonight, ZoneTonight};
use upland_core::controller::night::NightPlan;
use upland_core::site::Zone;
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

/// A percentage with two decimals, as SVG reads it.
fn pct(value: f64) -> String {
    format!("{value:.2}%")
}

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
    /// A sensor stops it.
    pub held: bool,
}

pub(super) struct Soak {
    pub x1: String,
    pub x2: String,
    pub y: u32,
}

pub(super) struct Lane {
    pub label: String,
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
    pub closed_before: String,
    pub closed_after_x: String,
    pub closed_after: String,
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
    fn of(night: &NightPlan) -> Self {
        let window = night.window_until.duration_since(&night.window_from).as_secs_f64() / 60.0;
        let from = &night.window_from - SignedDuration::from_mins(30);
        Self { from, minutes: window + 2.0 * MARGIN_MIN }
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
                let text = at.strftime("%H").to_string();
                hours.push(Mark { x: pct(self.x(&at)), text, anchor: "middle" });
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
        (0.0..=100.0).contains(&x).then(|| Mark { x: pct(x), text, anchor })
    }
}

/// The runs of a zone in its lane, and the same in words.
fn lane(
    axis: &NightAxis,
    night: &NightPlan,
    zone: &Zone,
    y: u32,
    stopped_by: Option<&String>,
) -> (Vec<Bar>, Vec<Soak>, String) {
    let (number, name) = (zone.number, &zone.name);
    let (mut bars, mut soaks, mut spoken) = (Vec::new(), Vec::new(), Vec::new());
    let mut previous_end = None;
    for run in night.layout.runs.iter().filter(|r| r.number == number) {
        let times = (night.at(run.from_minute), night.at(run.from_minute + run.minutes));
        let (Some(start), Some(end)) = times else { continue };
        let (x, x_end) = (axis.x(&start), axis.x(&end));
        if let Some(previous) = previous_end {
            soaks.push(Soak { x1: pct(previous), x2: pct(x), y: y + LANE_PX / 2 });
        }
        previous_end = Some(x_end);
        let clock = format!("{} to {}", start.strftime("%H:%M"), end.strftime("%H:%M"));
        let stops = stopped_by.map_or(String::new(), |sensor| format!("; {sensor} stops it"));
        bars.push(Bar {
            x: pct(x),
            y: y + 5,
            width: pct((x_end - x).max(THINNEST_PCT)),
            title: format!("{number} {name}: {clock}, {} min{stops}", run.minutes),
            held: stopped_by.is_some(),
        });
        spoken.push(clock);
    }
    let stopped = stopped_by.map_or(String::new(), |sensor| format!(", stopped by {sensor}"));
    (bars, soaks, format!("{number} {name}: {}{stopped}", spoken.join(", ")))
}

/// Draws the night; `None` when nothing runs.
pub(super) fn night_strip(
    tonight: &Tonight,
    held: &BTreeMap<u16, String>,
    (latitude_deg, longitude_deg): (f64, f64),
) -> Option<NightStrip> {
    let night = &tonight.night;
    let zone_of_clock = night.first_start.as_ref()?.time_zone().clone();
    let axis = NightAxis::of(night);
    let (mut lanes, mut bars, mut soaks, mut words) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let mut lanes_bottom = HEAD_PX;
    for row in tonight.running() {
        let (y, number) = (lanes_bottom, row.zone.number);
        lanes.push(Lane { label: format!("{number} {}", row.zone.name), y });
        let (of_lane, soaking, spoken) = lane(&axis, night, &row.zone, y, held.get(&number));
        bars.extend(of_lane);
        soaks.extend(soaking);
        words.push(spoken);
        lanes_bottom += LANE_PX;
    }
    let sun = sunrise_sunset(night.window_until.date(), latitude_deg, longitude_deg);
    let sunrise = sun.and_then(|(rise, _)| {
        let at = rise.to_zoned(zone_of_clock);
        axis.mark(&at, format!("sunrise {}", at.strftime("%H:%M")))
    });
    let (open, shut) = (axis.x(&night.window_from), axis.x(&night.window_until));
    Some(NightStrip {
        height: lanes_bottom + FOOT_PX,
        lanes_top: HEAD_PX,
        lanes_bottom,
        foot_y: lanes_bottom + 15,
        closed_before: pct(open),
        closed_after_x: pct(shut),
        closed_after: pct(100.0 - shut),
        hours: axis.hours(),
        lanes,
        bars,
        soaks,
        sunrise,
        words: format!(
            "Water window {} to {}. {}.",
            night.window_from.strftime("%H:%M"),
            night.window_until.strftime("%H:%M"),
            words.join("; ")
        ),
    })
}

/// A root zone as a ruled measure, wilting at the left, full at the right.
#[derive(Template)]
#[template(path = "chapters/today/soil_column.svg", escape = "html")]
pub(super) struct SoilColumn {
    pub now: String,
    pub after_x: String,
    pub after_width: String,
    pub refill: String,
    pub words: String,
    pub is_low: bool,
}

pub(super) fn soil_column(zone: &ZoneTonight, units: upland_core::site::UnitSystem) -> SoilColumn {
    let taw = zone.root_zone.total_available.mm().max(0.1);
    let raw = zone.root_zone.readily_available();
    let filled = |depletion_mm: f64| 100.0 * (1.0 - depletion_mm / taw).clamp(0.0, 1.0);
    let (now, after) = (filled(zone.depletion.mm()), filled(zone.depletion_after.mm()));
    let depth = |v| crate::page::quantities::depth(units, v);
    SoilColumn {
        now: pct(now),
        after_x: pct(now),
        after_width: pct((after - now).max(0.0)),
        refill: pct(filled(raw.mm())),
        words: format!(
            "{} below full, {} after tonight; refill point at {}, wilting at {}",
            depth(zone.depletion),
            depth(zone.depletion_after),
            depth(raw),
            depth(zone.root_zone.total_available)
        ),
        is_low: zone.depletion >= raw,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::site::UnitSystem;

    #[test]
    fn night_strip_drawing() {
        let decided = fixture::decided(UnitSystem::Metric);
        let site = &decided.loaded.site.site;
        let strip =
            night_strip(&decided.night, &BTreeMap::new(), (site.latitude_deg, site.longitude_deg)).unwrap();
        insta::assert_snapshot!(strip.render().unwrap());
    }

    #[test]
    fn soil_column_drawing() {
        let decided = fixture::decided(UnitSystem::UsCustomary);
        let column = soil_column(&decided.night.zones[0], UnitSystem::UsCustomary);
        insta::assert_snapshot!(column.render().unwrap());
    }

    #[test]
    fn nothing_is_drawn_outside_the_window() {
        let decided = fixture::decided(UnitSystem::Metric);
        let strip = night_strip(&decided.night, &BTreeMap::new(), (46.0, -30.0)).unwrap();
        let number = |text: &str| text.trim_end_matches('%').parse::<f64>().unwrap();
        let (open, shut) = (number(&strip.closed_before), number(&strip.closed_after_x));
        for bar in &strip.bars {
            assert!(
                number(&bar.x) >= open && number(&bar.x) + number(&bar.width) <= shut + 0.51,
                "{}",
                bar.title
            );
        }
    }
}

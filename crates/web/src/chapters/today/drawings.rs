//! Geometry of the two drawings of a night: the night strip and the soil column. Positions are
//! percentages across and pixels down, so that a drawing fits any width without distortion.

use askama::Template;
use jiff::{SignedDuration, Zoned};
use std::collections::BTreeMap;
use upland_core::advice::tonight::{Tonight, ZoneTonight};
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

/// Draws the night; `None` when nothing runs.
pub(super) fn night_strip(
    tonight: &Tonight,
    held: &BTreeMap<u16, String>,
    (latitude_deg, longitude_deg): (f64, f64),
) -> Option<NightStrip> {
    let night = &tonight.night;
    let first = night.first_start.as_ref()?;
    let minutes_between = |a: &Zoned, b: &Zoned| b.duration_since(a).as_secs_f64() / 60.0;
    let from = &night.window_from - SignedDuration::from_mins(30);
    let span = minutes_between(&night.window_from, &night.window_until) + 2.0 * MARGIN_MIN;
    let x_of = |at: &Zoned| 100.0 * minutes_between(&from, at) / span;

    let running: Vec<&ZoneTonight> = tonight.running().collect();
    let lane_count = u32::try_from(running.len()).unwrap_or(0);
    let lanes_bottom = HEAD_PX + lane_count * LANE_PX;
    let mut lanes = Vec::new();
    let mut bars = Vec::new();
    let mut soaks = Vec::new();
    let mut words = Vec::new();
    for (row, y) in running.iter().zip((0..).map(|i| HEAD_PX + i * LANE_PX)) {
        let number = row.zone.number;
        lanes.push(Lane { label: format!("{number} {}", row.zone.name), y });
        let mut previous_end = None;
        let mut spoken = Vec::new();
        for run in night.layout.runs.iter().filter(|r| r.number == number) {
            let (Some(start), Some(end)) =
                (night.at(run.from_minute), night.at(run.from_minute + run.minutes))
            else {
                continue;
            };
            let (x, x_end) = (x_of(&start), x_of(&end));
            if let Some(previous) = previous_end {
                soaks.push(Soak { x1: pct(previous), x2: pct(x), y: y + LANE_PX / 2 });
            }
            previous_end = Some(x_end);
            let clock = format!("{} to {}", start.strftime("%H:%M"), end.strftime("%H:%M"));
            bars.push(Bar {
                x: pct(x),
                y: y + 5,
                width: pct((x_end - x).max(THINNEST_PCT)),
                title: format!(
                    "{number} {}: {clock}, {} min{}",
                    row.zone.name,
                    run.minutes,
                    held.get(&number).map_or(String::new(), |sensor| format!("; {sensor} stops it"))
                ),
                held: held.contains_key(&number),
            });
            spoken.push(clock);
        }
        let stopped = held.get(&number).map_or(String::new(), |sensor| format!(", stopped by {sensor}"));
        words.push(format!("{number} {}: {}{stopped}", row.zone.name, spoken.join(", ")));
    }

    // Hours at a step that leaves at most ten labels.
    let total_hours = span / 60.0;
    let step: i64 = if total_hours <= 10.0 { 1 } else { 2 };
    let mut hours = Vec::new();
    if let Ok(mut at) =
        from.round(jiff::ZonedRound::new().smallest(jiff::Unit::Hour).mode(jiff::RoundMode::Ceil))
    {
        while x_of(&at) <= 99.0 {
            let x = x_of(&at);
            if i64::from(at.hour()) % step == 0 {
                hours.push(Mark { x: pct(x), text: at.strftime("%H").to_string(), anchor: "middle" });
            }
            at = &at + SignedDuration::from_hours(1);
        }
    }

    let sunrise =
        sunrise_sunset(night.window_until.date(), latitude_deg, longitude_deg).and_then(|(rise, _)| {
            let at = rise.to_zoned(first.time_zone().clone());
            let x = x_of(&at);
            (0.0..=100.0).contains(&x).then(|| Mark {
                x: pct(x),
                text: format!("sunrise {}", at.strftime("%H:%M")),
                anchor: if x > 85.0 {
                    "end"
                } else if x < 15.0 {
                    "start"
                } else {
                    "middle"
                },
            })
        });

    let (open, shut) = (x_of(&night.window_from), x_of(&night.window_until));
    Some(NightStrip {
        height: lanes_bottom + FOOT_PX,
        lanes_top: HEAD_PX,
        lanes_bottom,
        foot_y: lanes_bottom + 15,
        closed_before: pct(open),
        closed_after_x: pct(shut),
        closed_after: pct(100.0 - shut),
        hours,
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

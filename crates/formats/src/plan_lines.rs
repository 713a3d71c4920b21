//! The plan of a site as lines that a person types: a thing a line, in the unit of the site.

use crate::plan_json::MOST_ON_PLAN;
use crate::typed;
use upland_core::quantity::bounds;
use upland_core::sensors::site_plan::{Arc, ControllerSpot, Obstacle, Plot, SitePlan};

/// A sensor by its name with its place.
pub type Placed = (String, (f64, f64));

/// A plan with the places of its sensors, metres.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct PlanText {
    /// The plan.
    pub plan: SitePlan,
    /// Sensors.
    pub sensors: Vec<Placed>,
}

/// A unit of length: its name and the metres of one.
pub type LengthUnit<'a> = (&'a str, f64);

/// Writes a plan.
#[must_use]
pub fn write(text: &PlanText, (_, one): LengthUnit<'_>) -> String {
    let n = |v: f64| {
        let written = format!("{:.2}", v / one);
        let short = written.trim_end_matches('0').trim_end_matches('.');
        if short == "-0" || short.is_empty() { "0".to_owned() } else { short.to_owned() }
    };
    let plan = &text.plan;
    let mut out: Vec<String> = Vec::new();
    if plan.north_deg != 0.0 {
        out.push(format!("north {}", plan.north_deg));
    }
    out.extend(
        plan.plots
            .iter()
            .map(|p| format!("zone {} {} {} {} {}", p.station, n(p.x), n(p.y), n(p.width), n(p.depth))),
    );
    out.extend(plan.obstacles.iter().map(|o| {
        format!("obstacle {} {} {} {} {} {}", n(o.x), n(o.y), n(o.width), n(o.depth), n(o.height), o.name)
    }));
    out.extend(
        plan.arcs
            .iter()
            .map(|a| format!("head {} {} {} {} {}", n(a.x), n(a.y), n(a.throw), a.from_deg, a.to_deg)),
    );
    out.extend(plan.controllers.iter().map(|b| format!("controller {} {} {}", b.number, n(b.x), n(b.y))));
    out.extend(text.sensors.iter().map(|(name, (x, y))| format!("sensor {} {} {name}", n(*x), n(*y))));
    out.join("\n")
}

/// What a line of a kind holds, for refusals.
fn shape(kind: &str) -> &'static str {
    match kind {
        "zone" => "a zone is: zone NUMBER EAST SOUTH WIDTH DEPTH",
        "obstacle" => "an obstacle is: obstacle EAST SOUTH WIDTH DEPTH HEIGHT NAME",
        "head" => "a head is: head EAST SOUTH THROW FROM TO, edges in degrees from north, clockwise",
        "controller" | "box" => "a controller is: controller NUMBER EAST SOUTH",
        "sensor" => "a sensor is: sensor EAST SOUTH NAME",
        "north" => "north is: north DEGREES, clockwise from up",
        _ => "begin with zone, obstacle, head, controller, sensor or north",
    }
}

/// Reads a plan from lines.
///
/// # Errors
/// Every problem, by line.
pub fn read(text: &str, unit: LengthUnit<'_>) -> Result<PlanText, Vec<String>> {
    let mut found = PlanText::default();
    let mut errors = Vec::new();
    for (i, line) in text.lines().map(str::trim).enumerate().filter(|(_, line)| !line.is_empty()) {
        let words: Vec<&str> = line.split_whitespace().collect();
        let kind = words.first().copied().unwrap_or_default();
        if put(&mut found, kind, &words, unit).is_none() {
            errors.push(format!("Line {}: {}; lengths in {}.", i + 1, shape(kind), unit.0));
        }
        let plan = &found.plan;
        if plan.plots.len() + plan.obstacles.len() + plan.arcs.len() + found.sensors.len() > MOST_ON_PLAN {
            errors.push(format!("At most {MOST_ON_PLAN} things on a plan."));
            break;
        }
    }
    if errors.is_empty() { Ok(found) } else { Err(errors) }
}

/// Puts a line on the plan; nothing when it cannot be read.
fn put(found: &mut PlanText, kind: &str, words: &[&str], (unit, one): LengthUnit<'_>) -> Option<()> {
    let number = |at: usize| words.get(at).and_then(|word| typed::number(word).ok());
    let length = |at: usize| {
        let value = typed::quantity(words.get(at)?, unit).ok()? * one;
        (value.abs() <= bounds::SITE_METRES.max).then_some(value)
    };
    let size = |at: usize| length(at).filter(|v| *v > 0.0);
    let degrees = |at: usize| number(at).filter(|v| v.abs() <= 720.0);
    let name = |from: usize| {
        words.iter().skip(from).copied().collect::<Vec<_>>().join(" ").chars().take(60).collect()
    };
    let plan = &mut found.plan;
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "checked by the filter")]
    let count = |at: usize, most: f64| {
        number(at).filter(|v| v.fract() == 0.0 && (1.0..=most).contains(v)).map(|v| v as u16)
    };
    match kind {
        "zone" if words.len() == 6 => plan.plots.push(Plot {
            station: count(1, 250.0)?,
            x: length(2)?,
            y: length(3)?,
            width: size(4)?,
            depth: size(5)?,
        }),
        "obstacle" => plan.obstacles.push(Obstacle {
            name: name(6),
            x: length(1)?,
            y: length(2)?,
            width: size(3)?,
            depth: size(4)?,
            height: size(5)?,
        }),
        "head" if words.len() == 6 => plan.arcs.push(Arc {
            x: length(1)?,
            y: length(2)?,
            throw: size(3)?,
            from_deg: degrees(4)?,
            to_deg: degrees(5)?,
        }),
        // As it was called before, too.
        "controller" | "box" if words.len() == 4 => {
            plan.controllers.push(ControllerSpot {
                number: u8::try_from(count(1, 250.0)?).ok()?,
                x: length(2)?,
                y: length(3)?,
            });
        }
        "sensor" if words.len() > 3 => found.sensors.push((name(3), (length(1)?, length(2)?))),
        "north" if words.len() == 2 => plan.north_deg = degrees(1)?.rem_euclid(360.0),
        _ => return None,
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const METRES: LengthUnit<'static> = ("m", 1.0);
    const FEET: LengthUnit<'static> = ("ft", 0.3048);

    #[test]
    fn a_plan_goes_into_lines_and_back_and_is_refused_by_line() {
        let text = "north 20\nzone 1 0 0 20 10\nobstacle 24 0 4 4 5 potting shed\nhead 0 0 6 90 180\ncontroller 1 23 2\nsensor 18 2 Rain switch";
        let found = read(text, METRES).unwrap();
        assert_eq!((found.plan.obstacles[0].name.as_str(), found.plan.arcs[0].throw), ("potting shed", 6.0));
        assert_eq!((found.plan.controllers[0].number, found.sensors[0].0.as_str()), (1, "Rain switch"));
        assert_eq!(write(&found, METRES), text);
        let bad = read("zone 1 0 0\nwall 1 2\nhead 0 0 -6 0 0\nobstacle 1 1 1 1 9e9 x\nbox 0 1 1", METRES)
            .unwrap_err();
        assert_eq!(bad.len(), 5);
        assert!(bad[0].starts_with("Line 1: a zone is") && bad[1].contains("begin with"), "{bad:?}");
    }

    #[test]
    fn lengths_are_those_of_the_site_or_carry_their_own() {
        let feet = read("obstacle 10 0 3m 4 1/2 x", FEET).unwrap().plan.obstacles.remove(0);
        assert!(
            (feet.x - 3.048).abs() < 1e-9
                && (feet.width - 3.0).abs() < 1e-9
                && (feet.height - 0.1524).abs() < 1e-9
        );
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back_to_the_centimetre(x in -99.0..99.0_f64, y in -99.0..99.0_f64, w in 0.02..90.0_f64, d in 0.02..90.0_f64, station in 1..=250_u16) {
            let plan = SitePlan { plots: vec![Plot { station, x, y, width: w, depth: d }], ..SitePlan::default() };
            for unit in [METRES, FEET] {
                let again = read(&write(&PlanText { plan: plan.clone(), sensors: Vec::new() }, unit), unit).unwrap().plan.plots.remove(0);
                for (a, b) in [(again.x, x), (again.y, y), (again.width, w), (again.depth, d)] {
                    prop_assert!((a - b).abs() <= 0.005 * unit.1 + 1e-9);
                }
            }
        }
    }
}

//! A root zone drawn as a ruled measure: what it has, what it will have, and its refill point.

use askama::Template;
use upland_core::advice::tonight::ZoneTonight;
use upland_core::site::UnitSystem;

/// A percentage with two decimals, as SVG reads it.
pub(crate) fn percent_of_width(value: f64) -> String {
    format!("{value:.2}%")
}

/// A root zone as a ruled measure, wilting at the left, full at the right.
#[derive(Template)]
#[template(path = "page/soil_column.svg", escape = "html")]
pub(crate) struct SoilColumn {
    pub now: String,
    pub after_x: String,
    pub after_width: String,
    /// From here on, and so wide, is what the controller will bring.
    pub will: Option<(String, String)>,
    pub refill: String,
    pub words: String,
    pub is_low: bool,
}

pub(crate) fn soil_column(zone: &ZoneTonight, units: UnitSystem) -> SoilColumn {
    let taw = zone.root_zone.total_available.mm().max(0.1);
    let raw = zone.root_zone.readily_available();
    let filled = |depletion_mm: f64| 100.0 * (1.0 - depletion_mm / taw).clamp(0.0, 1.0);
    let (now, after) = (filled(zone.depletion.mm()), filled(zone.depletion_after.mm()));
    let depth = |v| crate::page::quantities::depth(units, v);
    let will = zone.will.as_ref().filter(|will| will.waters().any()).map(|will| will.ahead.after);
    let mut states = vec![format!("{} below full", depth(zone.depletion))];
    if zone.cycles.is_some() {
        states.push(format!("{} after what it needs tonight", depth(zone.depletion_after)));
    }
    states.extend(will.map(|after| format!("{} after what the controller will do", depth(after))));
    SoilColumn {
        now: percent_of_width(now),
        after_x: percent_of_width(now),
        after_width: percent_of_width((after - now).max(0.0)),
        will: will
            .map(|after| (percent_of_width(now), percent_of_width((filled(after.mm()) - now).max(0.0)))),
        refill: percent_of_width(filled(raw.mm())),
        words: format!(
            "{}; refill point at {}, wilting at {}",
            states.join(", "),
            depth(raw),
            depth(zone.root_zone.total_available)
        ),
        is_low: zone.depletion >= raw,
    }
}

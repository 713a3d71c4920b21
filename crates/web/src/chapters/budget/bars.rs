//! Required against applied water by month, as paired bars: one small drawing a zone, by program, all on one scale.

use crate::page::quantities::{depth, plain};
use upland_core::advice::budget::{Budget, ZoneBudget};
use upland_core::controller::schedule::Settings;
use upland_core::quantity::month::Month;
use upland_core::quantity::units::Millimetres;
use upland_core::site::UnitSystem;

/// Width of a month and height of the field of a drawing.
const MONTH: f64 = 24.0;
const HEIGHT: f64 = 72.0;
/// Taller bars are cut off: one month that gets ten times its need would flatten all others. Times the largest need.
const CUT: f64 = 1.6;
/// A zone is named from this difference between a year's applied and required water on, share of the required.
const NAMED: f64 = 0.15;

/// A month of a drawing.
pub(super) struct MonthBars {
    pub required: BarOf,
    pub applied: BarOf,
    /// "July: required 4.9 mm a day, applied 6.1 mm a day".
    pub title: String,
    /// The bar goes on beyond the drawing.
    pub is_cut: bool,
    pub now: bool,
    pub letter: &'static str,
    pub text_x: String,
}

/// Place and size of a bar.
pub(super) struct BarOf {
    pub x: String,
    pub y: String,
    pub height: String,
}

/// A zone's year.
pub(super) struct ZoneBars {
    pub name: String,
    pub months: Vec<MonthBars>,
    /// "+38 % over the year", or "as required".
    pub balance: String,
    /// The class of its balance: short, over or right.
    pub side: &'static str,
    pub words: String,
}

/// The zones of a program.
pub(super) struct ProgramBars {
    pub name: String,
    pub zones: Vec<ZoneBars>,
}

/// Applied less required over a year, as a share of the required.
fn balance(zone: &ZoneBudget) -> f64 {
    let sum = |of: &upland_core::quantity::month::ByMonth<Millimetres>| {
        of.months().map(|(_, v)| v.mm()).sum::<f64>()
    };
    let required = sum(&zone.need);
    if required > 0.0 { sum(&zone.given) / required - 1.0 } else { 0.0 }
}

fn zone_bars(zone: &ZoneBudget, name: String, most: f64, month: Month, units: UnitSystem) -> ZoneBars {
    let bar = |place: f64, value: f64| {
        let height = (HEIGHT * value / most).clamp(0.0, HEIGHT);
        BarOf { x: plain(place, 1), y: plain(HEIGHT - height, 1), height: plain(height, 1) }
    };
    let mut months = Vec::new();
    let mut at = 0.0;
    for (m, need) in zone.need.months() {
        let given = *zone.given.of(m);
        months.push(MonthBars {
            required: bar(at + 2.0, need.mm()),
            applied: bar(at + 12.0, given.mm()),
            title: format!(
                "{}: required {} a day, applied {} a day",
                m.name(),
                depth(units, *need),
                depth(units, given)
            ),
            is_cut: given.mm() > most,
            now: m == month,
            letter: m.short().get(..1).unwrap_or_default(),
            text_x: plain(at + MONTH / 2.0, 1),
        });
        at += MONTH;
    }
    let share = balance(zone);
    let (balance, side) = match share {
        s if s > NAMED => (format!("{} % more than required", plain(100.0 * s, 0)), "over"),
        s if s < -NAMED => (format!("{} % less than required", plain(-100.0 * s, 0)), "short"),
        _ => ("as required".to_owned(), "right"),
    };
    let words = format!("{name}: over the year {balance}");
    ZoneBars { name, months, balance, side, words }
}

/// The drawings of a controller's zones, by the first program that waters each, and who goes short or gets too much.
pub(super) fn bars(
    found: &Budget,
    settings: &Settings,
    month: Month,
    units: UnitSystem,
    name_of: impl Fn(u16) -> String,
) -> Vec<ProgramBars> {
    let needs = found.zones.iter().flat_map(|z| z.need.months().map(|(_, v)| v.mm()));
    let most = CUT * needs.fold(0.1, f64::max);
    let programs = settings.programs.iter().enumerate();
    let of = |(at, program): (usize, &upland_core::controller::schedule::Program)| {
        let own = found.zones.iter().filter(|z| z.programs.first() == Some(&at));
        let zones: Vec<ZoneBars> =
            own.map(|z| zone_bars(z, name_of(z.station), most, month, units)).collect();
        (!zones.is_empty()).then(|| ProgramBars { name: program.name.clone(), zones })
    };
    programs.filter_map(of).collect()
}

/// Who goes short over the year and who gets too much, in a sentence; empty when all zones get what they require.
pub(super) fn who(programs: &[ProgramBars]) -> String {
    let of = |side: &str| -> Vec<String> {
        let zones = programs.iter().flat_map(|p| &p.zones).filter(|z| z.side == side);
        zones.map(|z| format!("{} ({})", z.name, z.balance)).collect()
    };
    let (short, over) = (of("short"), of("over"));
    let mut parts = Vec::new();
    if !short.is_empty() {
        parts.push(format!("Short over the year: {}.", short.join(", ")));
    }
    if !over.is_empty() {
        parts.push(format!("Overwatered over the year: {}.", over.join(", ")));
    }
    parts.join(" ")
}

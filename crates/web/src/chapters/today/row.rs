//! One zone of Today on one line of sight: what the controller will do, what the zone needs, the verdict, the soil, because.

use super::Decided;
use crate::page::night_words::{Requirement, because, requirement, sign, weight};
use crate::page::quantities::{clock, cycles, depth, volume};
use crate::page::sensor_words::holders;
use crate::page::soil_column::{SoilColumn, soil_column};
use crate::page::working::{InputView, StepView, Working};
use jiff::Timestamp;
use upland_core::account::running::ControllerRun;
use upland_core::advice::tonight::{Verdict, Will, ZoneTonight, is_too_much};
use upland_core::quantity::units::{Litres, Millimetres};
use upland_core::site::UnitSystem;

/// A side of the comparison: a number that opens, when, and how much.
pub(super) struct Side {
    /// "28 min", or "nothing".
    pub what: String,
    /// Its sheet, where it opens.
    pub id: Option<String>,
    /// "02:00, 15.2 mm".
    pub when: String,
}

pub(super) struct Row {
    pub number: u16,
    pub name: String,
    /// The zone's own page.
    pub href: Option<String>,
    pub kind: String,
    /// What the controller will do; `None` when that is not known.
    pub will: Option<Side>,
    pub needs: Side,
    pub verdict: Option<&'static str>,
    /// The class of the verdict's mark: right, wrong or held.
    pub weight: &'static str,
    /// That mark, so that colour is not alone.
    pub sign: &'static str,
    pub state: String,
    pub state_id: String,
    pub soil: SoilColumn,
    pub because: String,
    /// Who holds it, why and until when.
    pub held: Option<String>,
    /// Where to change it, below the site's address.
    pub fix: Option<(String, &'static str)>,
}

/// Where a verdict is corrected.
fn fix(zone: &ZoneTonight, number: u8) -> Option<(String, &'static str)> {
    let programs = format!("controllers/{number}");
    match zone.verdict? {
        Verdict::Right => None,
        Verdict::NotNeeded | Verdict::TooMuch => Some((programs, "Reduce run time")),
        Verdict::RunsOff => {
            let more = zone.will.as_ref().is_some_and(|will| is_too_much(will.brings, zone.depletion));
            Some((programs, if more { "Split the run and reduce it" } else { "Split the run" }))
        }
        Verdict::TooLittle | Verdict::NothingReaches => Some((programs, "Increase run time")),
        Verdict::Forbidden => Some((programs, "Move its start")),
        Verdict::Held if zone.due && zone.night.barred.is_none() => {
            Some(("sensors".to_owned(), "See what prevents it"))
        }
        Verdict::Held => None,
    }
}

/// What the controller will do to a zone.
fn will(of: &Will, zone: &ZoneTonight, decided: &Decided) -> Side {
    let (units, tz) = (decided.records.site.site.units, &decided.records.tz);
    let at = |start: Timestamp| clock(Some(&start.to_zoned(tz.clone())));
    let starts: Vec<String> = of.starts().map(at).collect();
    let id = (!of.runs.is_empty()).then(|| format!("w-will-{}", zone.zone.number));
    if starts.is_empty() {
        let what = if of.runs.is_empty() { "nothing" } else { "held" };
        let set: Vec<String> = of.runs.iter().map(|r| at(r.run.start)).collect();
        return Side { what: what.to_owned(), id, when: set.join(", ") };
    }
    let shown = match starts.as_slice() {
        [first, _, _, .., last] => format!("{first} to {last}, {} starts", starts.len()),
        all => all.join(", "),
    };
    let off = of.ahead.water.applied_off;
    let lost = if off.mm() >= 0.05 { format!(", {} run off", depth(units, off)) } else { String::new() };
    Side {
        what: of.waters().to_string(),
        id,
        when: format!("{shown}: {}{lost}", depth(units, of.ahead.water.applied)),
    }
}

/// What a zone needs.
fn needs(zone: &ZoneTonight, decided: &Decided) -> Side {
    let units = decided.records.site.site.units;
    let number = zone.zone.number;
    let night = &decided.night.night;
    let id = Some(format!("w-cycles-{number}"));
    match requirement(zone) {
        Requirement::NotDue => Side {
            what: "not due".to_owned(),
            id: None,
            when: format!("deficit {}", depth(units, zone.depletion)),
        },
        Requirement::NotTonight { cycles: own, gross } => {
            Side { what: cycles(own), id, when: format!("{}, not tonight", depth(units, gross)) }
        }
        Requirement::Tonight { cycles: own, gross } => {
            let first = night.layout.runs.iter().find(|r| r.number == number);
            let start = clock(first.and_then(|r| night.at(r.from_minute)).as_ref());
            Side { what: cycles(own), id, when: format!("{start}: {}", depth(units, gross)) }
        }
    }
}

/// The row of a zone.
pub(super) fn row(decided: &Decided, zone: &ZoneTonight) -> Row {
    let units = decided.records.site.site.units;
    let number = zone.zone.number;
    let names: Vec<&str> = decided.sensors.iter().map(String::as_str).collect();
    let held_by = zone.will.as_ref().map(Will::held_by).unwrap_or_default();
    let held = (!held_by.is_empty()).then(|| holders(units, &held_by, &names, &decided.records.tz));
    Row {
        number,
        name: zone.zone.name.clone(),
        href: decided.zone_href(number),
        kind: format!("{}, {}", zone.zone.plant.defaults().label, zone.zone.head.label()),
        will: zone.will.as_ref().map(|own| will(own, zone, decided)),
        needs: needs(zone, decided),
        verdict: zone.verdict.map(Verdict::label),
        weight: weight(zone),
        sign: sign(zone),
        state: depth(units, zone.depletion),
        state_id: format!("w-state-{number}"),
        soil: soil_column(zone, units),
        because: because(zone, units, &decided.records.tz, decided.night.date),
        held,
        fix: fix(zone, decided.number),
    }
}

/// How the minutes that the controller will run a zone come about.
pub(super) fn will_working(decided: &Decided, zone: &ZoneTonight, will: &Will) -> Working {
    let (units, tz) = (decided.records.site.site.units, &decided.records.tz);
    let names: Vec<&str> = decided.sensors.iter().map(String::as_str).collect();
    let step = |run: &ControllerRun| StepView {
        name: format!("From {}", clock(Some(&run.run.start.to_zoned(tz.clone())))),
        formula: "run time × percentage, as the controller rounds it, less what is skipped".into(),
        source: "the settings in force, and what prevents watering (common practice)".into(),
        result: run.waters().to_string(),
        inputs: vec![
            input("as set, with the percentage", run.run.length().to_string()),
            input(
                "prevented by",
                if run.held_by.is_empty() {
                    "nobody".into()
                } else {
                    holders(units, &run.held_by, &names, tz)
                },
            ),
        ],
    };
    let water = &will.ahead.water;
    let mut steps: Vec<StepView> = will.runs.iter().map(step).collect();
    steps.push(StepView {
        name: "Applied".into(),
        formula:
            "precipitation rate × minutes ÷ 60; what comes faster than the soil takes it ponds, then runs off"
                .into(),
        source: "basic intake and allowable surface accumulation (Irrigation Association; from memory)"
            .into(),
        result: depth(units, water.applied),
        inputs: vec![
            input("precipitation rate", crate::page::quantities::rate(units, zone.resolved.rate.value)),
            input("minutes", will.waters().to_string()),
            input("goes in", depth(units, water.applied_in)),
            input("runs off", depth(units, water.applied_off)),
            input("falls beyond the mean or drains", depth(units, water.applied_drained)),
        ],
    });
    Working {
        id: format!("w-will-{}", zone.zone.number),
        title: format!("The controller will run {}", will.waters()),
        of: format!("Zone {}, {}", zone.zone.number, zone.zone.name),
        steps,
        assumptions: Vec::new(),
    }
}

fn input(name: &'static str, value: String) -> InputView {
    InputView { name, value, origin: None, is_default: false }
}

/// Litres in all, and whether every zone's are known; `None` where none are.
pub(super) fn sum(litres: impl Iterator<Item = Option<Litres>>) -> Option<(Litres, bool)> {
    let (mut sum, mut any, mut all) = (Litres::ZERO, false, true);
    for own in litres {
        match own {
            Some(litres) => {
                sum = sum + litres;
                any = true;
            }
            None => all = false,
        }
    }
    any.then_some((sum, all))
}

/// What depths over zones come to.
pub(super) fn total(
    units: UnitSystem,
    zones: &[ZoneTonight],
    of: impl Fn(&ZoneTonight) -> Option<Millimetres>,
) -> Option<(String, bool)> {
    let wet = |zone: &ZoneTonight| Some((of(zone).filter(|mm| mm.mm() > 0.0)?, zone.zone.area));
    let litres = zones.iter().filter_map(wet).map(|(gross, area)| area.map(|area| gross.over(area)));
    sum(litres).map(|(litres, all)| (volume(units, litres), all))
}

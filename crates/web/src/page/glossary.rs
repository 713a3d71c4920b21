//! The terms of the trade that pages use, each in a sentence or two; dotted terms open here.

/// A term: its anchor, its name, what it means.
pub(crate) struct Term {
    pub anchor: &'static str,
    pub name: &'static str,
    pub means: &'static str,
}

const fn term(anchor: &'static str, name: &'static str, means: &'static str) -> Term {
    Term { anchor, name, means }
}

/// Every term, by name.
pub(crate) const TERMS: [Term; 36] = [
    term(
        "adequacy",
        "Adequacy",
        "The share of what plants needed that they got, from rain and watering together.",
    ),
    term(
        "allowable-depletion",
        "Allowable depletion",
        "The share of the available water that plants may use before they are watered: p of FAO-56. Beyond it they begin to go short.",
    ),
    term(
        "available-water",
        "Available water",
        "Water that a soil holds between full and wilting, in millimetres a metre of depth or inches a foot.",
    ),
    term(
        "bypass",
        "Bypass",
        "A sensor is left out for a while: the controller waters whatever it says. Here it always ends by itself.",
    ),
    term(
        "catch-can",
        "Catch-can test",
        "Cans set out over a zone that runs for some minutes; what they catch gives the precipitation rate and the uniformity.",
    ),
    term(
        "cycle-and-soak",
        "Cycle and soak",
        "A run time cut into cycles with pauses, so that water goes in before it runs off.",
    ),
    term(
        "demand",
        "Plant demand",
        "What plants use in a day: reference ET times the plant coefficient, in millimetres or inches.",
    ),
    term("depletion", "Depletion", "How far the root zone is below full, in millimetres or inches."),
    term(
        "distribution-uniformity",
        "Distribution uniformity",
        "How even heads water: the mean of the driest quarter of the cans over the mean of all.",
    ),
    term(
        "drainage",
        "Drainage",
        "Water that goes below the roots. In a comparison, that which watering caused is excess.",
    ),
    term(
        "effective-rain",
        "Effective rain",
        "Rain that stays in the root zone; the rest runs off or drains.",
    ),
    term(
        "ET0",
        "Reference ET",
        "Evapotranspiration of a short green lawn that lacks no water, from the weather (ASCE-EWRI 2005, FAO-56): how thirsty a day is.",
    ),
    term(
        "et-sensor",
        "ET sensor",
        "A sensor that turns the weather into a percentage each night. It scales run times; it never stops a program.",
    ),
    term("excess", "Excess", "The share of applied water that ran off or drained because of the watering."),
    term(
        "grow-in",
        "Grow-in",
        "The dated weeks of a new planting: shallow roots, more water. It ends by itself.",
    ),
    term("intake", "Intake", "How fast a soil takes water in, millimetres or inches an hour."),
    term(
        "master-valve",
        "Master valve",
        "A valve before all others that opens with them. Lead and lag are how long before and after.",
    ),
    term(
        "multiplier",
        "Run-time multiplier",
        "How much longer a zone runs because its heads are uneven: 1 over 0.4 + 0.6 times the uniformity (Irrigation Association).",
    ),
    term(
        "off-season",
        "Off-season",
        "The part of the year in which a controller waters nothing; a dated setting, so that it cannot be forgotten.",
    ),
    term(
        "ordinance",
        "Ordinance",
        "A local watering rule: days, hours, minutes. Local rules come before anything said here.",
    ),
    term(
        "percentage",
        "Percentage",
        "The seasonal adjustment of a controller: every run time multiplied by it. For the whole controller, a program or a month, depending on its type.",
    ),
    term(
        "plant-coefficient",
        "Plant coefficient",
        "Plant demand over reference ET: KL of the landscape method or Kc of FAO-56.",
    ),
    term(
        "precipitation-rate",
        "Precipitation rate",
        "How fast heads put water down, millimetres or inches an hour over the zone.",
    ),
    term(
        "program",
        "Program",
        "Starts, days and run times that belong together. Each start runs the whole program again.",
    ),
    term("rain-delay", "Rain delay", "Some days without watering from a first day, set manually."),
    term(
        "refill-point",
        "Refill point",
        "The depletion at which a zone is due: allowable depletion times what its root zone holds.",
    ),
    term(
        "root-depth",
        "Root depth",
        "How deep most roots reach; with the soil it makes the store that is refilled.",
    ),
    term(
        "root-zone",
        "Root zone",
        "The soil that the roots reach. What it can be set to is the store that rain and watering fill and plants empty.",
    ),
    term(
        "runoff",
        "Runoff",
        "Water that leaves over the surface because it came faster than the soil takes it in.",
    ),
    term("run-time", "Run time", "How long a station is set to run at 100 %."),
    term(
        "station",
        "Station",
        "A numbered output of the controller with its valve or valves; the zone that they water has its number.",
    ),
    term("supply", "Supply", "What meter and main give at once, litres or gallons a minute."),
    term(
        "trim",
        "Trim",
        "A signed correction of one zone's demand for its exposure, with the reason; it is not the budget.",
    ),
    term(
        "water-window",
        "Water window",
        "The hours in which the site wants its watering, by the wall clock.",
    ),
    term(
        "wean-off",
        "Wean-off",
        "A dated ramp from what a landscape is used to down to what it needs, so that it is not shocked.",
    ),
    term("zone", "Zone", "What one station waters: plants, soil, slope and heads that belong together."),
];

/// The anchor of a term, by its name as labels write it.
pub(crate) fn anchor(label: &str) -> Option<&'static str> {
    TERMS.iter().find(|term| term.name.eq_ignore_ascii_case(label)).map(|term| term.anchor)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terms_stand_in_order_and_are_found_by_their_labels() {
        let mut names: Vec<String> = TERMS.iter().map(|t| t.anchor.to_lowercase()).collect();
        let all = names.len();
        names.sort();
        names.dedup();
        assert_eq!(names.len(), all, "an anchor is one term's");
        assert_eq!(anchor("Root depth"), Some("root-depth"));
        assert_eq!(anchor("precipitation rate"), Some("precipitation-rate"));
        assert_eq!(anchor("Name"), None);
    }
}

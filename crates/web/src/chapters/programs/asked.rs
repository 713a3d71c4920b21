//! What a controller that works out its own minutes is to be told, zone by zone.

use super::ControllerPage;
use crate::page::dates::said_windows;
use crate::page::quantities::plain;
use crate::page::units::{NO_UNIT, SIGNED_PERCENT, Shown, Units};
use crate::site::controller_snapshot::ControllerSnapshot;
use upland_core::controller::Input;
use upland_core::installation::WiredZone;
use upland_core::installation::key_in::{DOES_ENOUGH, KeyedInput, ZoneKeyIn, key_in};
use upland_core::quantity::month::Month;

/// A zone with a cell for each input that the controller asks.
pub(super) struct AskedRow {
    pub zone: String,
    /// What to key, and what was measured.
    pub cells: Vec<(String, String)>,
    pub does: String,
    pub verdict: &'static str,
}

/// The table of the sheet.
pub(super) struct AskedView {
    pub heads: Vec<&'static str>,
    pub rows: Vec<AskedRow>,
    pub efficiency: String,
}

/// The unit of an input at the site; windows and days have none.
fn unit(input: Input, u: &Units) -> Shown {
    match input {
        Input::Rate => u.rate,
        Input::Slope | Input::Trim | Input::Refill => SIGNED_PERCENT,
        _ => NO_UNIT,
    }
}

fn cell(keyed: &KeyedInput, u: &Units, window: &str) -> (String, String) {
    let shown = unit(keyed.input, u);
    let number = |v: f64| {
        let digits = if keyed.input == Input::Soil { 0 } else { 2 };
        format!("{} {}", plain(shown.shown(v), digits), shown.unit).trim_end().to_owned()
    };
    match (keyed.input, &keyed.choice, keyed.keyed) {
        (Input::Window, ..) => (window.to_owned(), String::new()),
        (Input::NeverDays, ..) => ("as the local rules and the controller allow".into(), String::new()),
        (_, Some(choice), _) => (choice.clone(), keyed.measured.map_or(String::new(), number)),
        (_, None, Some(value)) => (number(value), String::new()),
        _ => (String::new(), String::new()),
    }
}

/// What it does over the year, and in the months in which it does least and most of what is needed.
fn does(found: &ZoneKeyIn) -> String {
    let percent = |share: f64| format!("{} %", plain(100.0 * share, 0));
    let months = || found.does_in.months().filter_map(|(m, does)| Some((m, (*does)?)));
    let least = months().min_by(|a, b| a.1.total_cmp(&b.1));
    let most = months().max_by(|a, b| a.1.total_cmp(&b.1));
    let apart = |(_, does): &(Month, f64)| (does / found.does.max(0.01) - 1.0).abs() > 0.1;
    let told: Vec<String> = [least, most]
        .into_iter()
        .flatten()
        .filter(apart)
        .map(|(month, does)| format!("{} in {}", percent(does), month.name()))
        .collect();
    match told.as_slice() {
        [] => percent(found.does),
        told => format!("{}; {}", percent(found.does), told.join(", ")),
    }
}

impl AskedView {
    /// `None` where the controller asks nothing.
    pub fn of(snapshot: &ControllerSnapshot) -> Option<Self> {
        let there = &snapshot.installation;
        let computing = there.card.computing.as_ref()?;
        let (u, settings) = (Units::of(snapshot.units()), snapshot.settings());
        let names = snapshot.names(&settings);
        let computed = |zone: &&WiredZone| !settings.station(zone.zone.number).fixed_run_time;
        let rows = there.zones_by_station().into_iter().filter(computed).map(|zone| {
            let found = key_in(zone, computing, &there.monthly_et0, snapshot.today);
            let window = said_windows(there.windows_of(found.station));
            AskedRow {
                zone: names.station(found.station),
                cells: found.inputs.iter().map(|keyed| cell(keyed, &u, &window)).collect(),
                does: does(&found),
                verdict: match found.does {
                    does if does < DOES_ENOUGH.0.fraction() => "too little",
                    does if does > DOES_ENOUGH.1.fraction() => "too much",
                    _ => "about right",
                },
            }
        });
        Some(Self {
            heads: computing.asks.iter().map(|asked| asked.input.label()).collect(),
            rows: rows.collect(),
            efficiency: format!("{} %", plain(computing.efficiency.percent(), 0)),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::controller::generic;

    #[test]
    fn a_controller_that_asks_is_told_zone_by_zone_and_what_it_will_do() {
        let mut snapshot = fixture::controller_snapshot();
        assert!(AskedView::of(&snapshot).is_none(), "an ordinary controller asks nothing");
        snapshot.installation.card = generic().into_iter().find(|(code, _)| *code == "daily").unwrap().1;
        let view = AskedView::of(&snapshot).unwrap();
        assert_eq!((view.rows.len(), view.heads.len()), (4, 7));
        let row = &view.rows[0];
        assert_eq!(row.cells.len(), 7);
        assert!(!row.cells[0].0.is_empty() && row.cells[0].1.ends_with("mm/h"), "{:?}", row.cells);
        // Its trim ends at a quarter: most zones come out about right, and where one does not, the month says by how much.
        let all: Vec<_> = view.rows.iter().map(|r| (r.verdict, r.does.as_str())).collect();
        assert!(all.iter().filter(|(verdict, _)| *verdict == "about right").count() >= 2, "{all:?}");
        assert!(all.iter().any(|(_, does)| does.contains(" in April")), "{all:?}");
    }
}

//! The map of a catch-can test: where the zone is under and over, and the cans.

use super::caught;
use crate::page::quantities::plain;
use crate::page::units::Units;
use upland_core::ground::catch_can::{CatchMap, CatchTest, OVER, UNDER};
use upland_core::site::UnitSystem;

/// A cell of the map, in metres.
pub(super) struct MapCell {
    pub x: String,
    pub y: String,
    pub side: String,
    pub class: &'static str,
}

pub(super) struct CanMark {
    pub x: String,
    pub y: String,
    pub text: String,
}

pub(super) struct Drawing {
    pub view: String,
    pub cells: Vec<MapCell>,
    pub cans: Vec<CanMark>,
    pub words: String,
}

// Long: cells, cans and words of one picture.
pub(super) fn drawing(test: &CatchTest, map: &CatchMap, units: UnitSystem) -> Option<Drawing> {
    if map.cell_m <= 0.0 {
        return None;
    }
    let rows = map.cells.len();
    let columns = map.cells.first().map_or(0, Vec::len);
    #[allow(clippy::cast_precision_loss, reason = "a few cells")]
    let (width, height) = (columns as f64 * map.cell_m, rows as f64 * map.cell_m);
    let margin = 0.06 * width.max(height);
    // The longer side is a hundred units, so that strokes and letters keep their size.
    let scale = 100.0 / (width.max(height) + 2.0 * margin);
    let place = |m: f64, start: f64| plain((m - start + margin) * scale, 2);
    let mut cells = Vec::new();
    for (r, row) in map.cells.iter().enumerate() {
        for (c, depth) in row.iter().enumerate() {
            #[allow(clippy::cast_precision_loss, reason = "a few cells")]
            let (x, y) = (map.x_m + c as f64 * map.cell_m, map.y_m + r as f64 * map.cell_m);
            cells.push(MapCell {
                x: place(x, map.x_m),
                y: place(y, map.y_m),
                side: plain(map.cell_m * scale + 0.05, 2),
                class: if *depth < UNDER {
                    "dry"
                } else if *depth > OVER {
                    "wet"
                } else {
                    "even"
                },
            });
        }
    }
    let cans = test
        .cans
        .iter()
        .map(|can| CanMark {
            x: place(can.x_m, map.x_m),
            y: place(can.y_m, map.y_m),
            text: {
                let (value, shown) = caught(test, can, units);
                plain(value, if shown.unit == "in" { 2 } else { 1 })
            },
        })
        .collect();
    let driest = test.cans.iter().min_by(|a, b| a.millilitres.total_cmp(&b.millilitres));
    Some(Drawing {
        view: format!(
            "0 0 {} {}",
            plain((width + 2.0 * margin) * scale, 1),
            plain((height + 2.0 * margin) * scale, 1)
        ),
        cells,
        cans,
        words: driest.map_or(String::new(), |c| {
            let ((value, shown), length) = (caught(test, c, units), Units::of(units).length);
            format!(
                "{} cans; the driest caught {} {} at {} {unit} across and {} {unit} down.",
                test.cans.len(),
                plain(value, 2),
                shown.unit,
                plain(length.shown(c.x_m), 1),
                plain(length.shown(c.y_m), 1),
                unit = length.unit,
            )
        }),
    })
}

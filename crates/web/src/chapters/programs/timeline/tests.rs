use super::*;
use crate::fixture;
use jiff::civil::date;
use upland_core::site::{SurveyedZone, UnitSystem};

fn number(text: &str) -> f64 {
    text.trim_end_matches('%').parse().unwrap()
}

const FROM: Date = Date::constant(2026, 7, 13);

/// The evening of a date at the fixture's site.
fn at(date: Date) -> Timestamp {
    crate::site::clock::evening(date, &fixture::controller_with_faults().0.tz)
}

/// What the controller of some names runs that week.
fn controller_runs(names: &Names<'_>) -> Vec<ControllerRun> {
    let controller_facts = upland_core::account::running::ControllerFacts {
        number: names.installation.controller_number,
        card: names.installation.card.clone(),
        versions: vec![(Timestamp::MIN, names.settings.clone())],
        sensors: Vec::new(),
    };
    let zones: Vec<_> = names
        .installation
        .zones
        .iter()
        .map(|z| SurveyedZone { zone: z.zone.clone(), resolved: z.resolved.clone() })
        .collect();
    let span = (FROM - 1.day(), FROM + 8.days());
    upland_core::account::running::running(
        &controller_facts,
        upland_core::site::Surveys::present(&zones),
        &names.installation.tz,
        span.0,
        span.1,
    )
}

#[test]
fn a_week_draws_every_pass_inside_its_row() {
    let (installation, settings) = fixture::controller_with_faults();
    let names = Names { installation: &installation, settings: &settings, units: UnitSystem::Metric };
    let runs = week_runs(&names, FROM);
    let shown = Shown { from: FROM, chosen: FROM, zoom: Zoom::Day, editable: true };
    let drawn = week(&names, &runs, shown);
    assert_eq!(
        (drawn.rows.len(), drawn.open.len(), drawn.banned.len()),
        (7, 7, 14),
        "10 to 18 is cut by noon"
    );
    // Two starts of A, one each of B and C, on seven nights.
    assert_eq!(drawn.passes.len(), 28);
    for pass in &drawn.passes {
        let (x, width) = (number(&pass.whole.x), number(&pass.whole.width));
        assert!(x >= 0.0 && x + width <= 100.01, "{}", pass.title);
        assert_eq!(pass.queue.is_some(), pass.label == "B", "B waits for A");
    }
    // 02:00 is fourteen hours after noon.
    assert!(
        (number(&drawn.passes[1].whole.x) - 100.0 * 14.0 / 24.0).abs() < 0.01,
        "{}",
        drawn.passes[1].title
    );
    let close = week(&names, &runs, Shown { zoom: Zoom::Window, ..shown });
    assert_eq!(close.span_min, 450, "01:00 to 06:30 and an hour on either side");
    assert!(close.passes.iter().all(|p| p.label != "C"), "what is outside the window is outside the picture");
}

#[test]
fn a_night_by_station_with_its_flow() {
    let (mut installation, settings) = fixture::controller_with_faults();
    let names = Names { installation: &installation, settings: &settings, units: UnitSystem::Metric };
    let runs = week_runs(&names, FROM);
    let own = controller_runs(&names);
    let (begin, end) = (at(FROM), at(FROM + 1.day()));
    let drawn = night(&names, &runs, &own, FROM, begin, end, false).unwrap();
    insta::assert_snapshot!(drawn.render().unwrap());
    let flow = drawn.flow.unwrap();
    assert!(!flow.over && flow.top.starts_with("flow, at most 79 L/min of 95 L/min"), "{}", flow.top);
    assert_eq!(table(&names, &runs)[0].program, "C");
    installation.supply = Some(LitresPerMinute::from_l_per_min(50.0));
    let names = Names { installation: &installation, settings: &settings, units: UnitSystem::Metric };
    assert!(night(&names, &runs, &own, FROM, begin, end, false).unwrap().flow.unwrap().over);
    assert!(
        night(&names, &runs, &own, date(2026, 8, 1), at(date(2026, 8, 1)), at(date(2026, 8, 2)), false)
            .is_none(),
        "nothing of that night was computed"
    );
}

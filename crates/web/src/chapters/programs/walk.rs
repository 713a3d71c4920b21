//! The walk at the controller: its settings in the order in which such controllers are programmed, with ticks.

use super::sheet::{CAUTIONS, extras, never_words, rest_of_controller, version_words};
use super::upkeep::{self, UpkeepLine};
use super::{ControllerHead, ControllerPage, Tab};
use crate::page::dates::{DateFormat, typed_date, typed_times};
use crate::page::frame::Frame;
use crate::page::program_words::Names;
use crate::page::ticks::{StepList, TickMark, ticks_of};
use crate::server::error::{PageError, page};
use crate::site::context::AtSite;
use crate::site::controller_snapshot::ControllerSnapshot;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use upland_core::controller::schedule::{Percentages, Program, Settings, days_in_words_by};
use upland_core::quantity::ratio::Percentage;
use upland_store::ticks::What;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(key_in_walk);
}

/// What is done before anything is programmed, so that nothing old runs on.
const CLEAN_CONTROLLER: [&str; 6] = [
    "Note what is in the controller now, program by program, and keep it as the version as found.",
    "Clear every start time of every program, also of those that look empty.",
    "Set every run time to nothing in every program.",
    "Set every percentage to 100 %.",
    "End rain delays and bypasses, and clear station delays and no-water days.",
    "Run the controller through a day on its own display, if it can show one: nothing may run.",
];

/// A thing to key, with its tick.
struct KeyStep {
    id: String,
    text: String,
    detail: String,
}

fn step(id: impl Into<String>, text: impl Into<String>, detail: impl Into<String>) -> KeyStep {
    KeyStep { id: id.into(), text: text.into(), detail: detail.into() }
}

struct Stage {
    title: &'static str,
    why: &'static str,
    steps: Vec<KeyStep>,
}

#[derive(Template)]
#[template(path = "chapters/programs/walk.html")]
struct WalkPage {
    frame: Frame,
    head: ControllerHead,
    list: StepList,
    version: String,
    /// The tick of the whole version.
    keyed_in: Option<TickMark>,
    stages: Vec<Stage>,
    clean: Vec<&'static str>,
    cautions: Vec<&'static str>,
    /// What is looked after while somebody is there.
    upkeep: Vec<UpkeepLine>,
}

/// Programs that run, by index.
type Active<'a> = Vec<(usize, &'a Program)>;

/// The settings in the order in which such controllers are programmed: clock, starts, minutes, days,
/// percentage, sensors, then back to automatic.
fn stages(snapshot: &ControllerSnapshot) -> Vec<Stage> {
    let settings = snapshot.settings();
    let names = snapshot.names(&settings);
    let programs = settings.programs.iter().enumerate();
    let active: Active<'_> = programs.filter(|(_, p)| p.waters()).collect();
    let clock = format!("time zone {}", snapshot.records.site.site.time_zone);
    vec![
        Stage {
            title: "Clock",
            why: "Every start counts from it.",
            steps: vec![step("clock", "Date, day of the week and time are right", clock)],
        },
        Stage {
            title: "Starts",
            why: "Each start runs its whole program once.",
            steps: starts(&settings, &active),
        },
        Stage {
            title: "Minutes",
            why: "At 100 %; the controller applies the percentage itself.",
            steps: minutes(&names, &active),
        },
        Stage { title: "Days", why: "", steps: days(&settings, &active) },
        Stage { title: "Percentage", why: "", steps: percentages(&settings, &active) },
        Stage { title: "Sensors and the rest", why: "", steps: sensors_and_rest(snapshot, &names) },
        Stage {
            title: "Back to automatic",
            why: "A controller left off is the commonest dead landscape.",
            steps: vec![
                step("check", "Read every program through once more", ""),
                step("auto", "The controller is on automatic", ""),
                step("sheet", "The new sheet is in the door, the old one taken along", ""),
            ],
        },
    ]
}

fn starts(settings: &Settings, active: &Active<'_>) -> Vec<KeyStep> {
    let of_program = |(i, p): &(usize, &Program)| {
        let detail = match p.repeat {
            Some(repeat) => {
                let until = repeat.until.formatted("%H:%M");
                format!("repeat until {until}, interval {}", repeat.pause)
            }
            None => "every other start of this program cleared".to_owned(),
        };
        step(format!("starts-{i}"), format!("Program {}: {}", p.name, typed_times(&p.starts)), detail)
    };
    let off: Vec<&str> = settings.programs.iter().filter(|p| !p.waters()).map(|p| p.name.as_str()).collect();
    let off = (!off.is_empty()).then(|| {
        step("starts-off", format!("Programs {}: no start", off.join(", ")), "hidden old starts cleared")
    });
    active.iter().map(of_program).chain(off).collect()
}

fn minutes(names: &Names<'_>, active: &Active<'_>) -> Vec<KeyStep> {
    let mut steps = Vec::new();
    for (i, program) in active {
        for (station, seconds) in &program.run_times {
            let cycle = names.settings.station(*station).cycle_and_soak;
            let detail =
                cycle.map_or(String::new(), |(cycle, soak)| format!("cycles of {cycle}, soak {soak}"));
            let (zone, length) = (names.station(*station), seconds);
            let text = format!("Program {}, {zone}: {length}", program.name);
            steps.push(step(format!("minutes-{i}-{station}"), text, detail));
        }
    }
    steps
}

fn days(settings: &Settings, active: &Active<'_>) -> Vec<KeyStep> {
    let of_program = |(i, p): &(usize, &Program)| {
        step(format!("days-{i}"), format!("Program {}: {}", p.name, days_in_words_by(p.days, typed_date)), "")
    };
    let never = never_words(settings).map(|words| step("never", words, ""));
    active.iter().map(of_program).chain(never).collect()
}

fn percentages(settings: &Settings, active: &Active<'_>) -> Vec<KeyStep> {
    match &settings.percentages {
        Percentages::Controller(value) => vec![step("percent", format!("Whole controller: {value}"), "")],
        Percentages::Program(values) => active
            .iter()
            .map(|(i, p)| {
                let value = values.get(*i).copied().unwrap_or(Percentage::HUNDRED);
                step(format!("percent-{i}"), format!("Program {}: {value}", p.name), "")
            })
            .collect(),
        Percentages::Month(values) => values
            .months()
            .map(|(month, value)| {
                step(format!("percent-{}", month.number()), format!("{}: {value}", month.name()), "")
            })
            .collect(),
    }
}

fn sensors_and_rest(snapshot: &ControllerSnapshot, names: &Names<'_>) -> Vec<KeyStep> {
    let stations = names.settings.stations.iter().map(|(n, setting)| (n, extras(setting)));
    let stations = stations.filter(|(_, extras)| !extras.is_empty()).map(|(n, extras)| {
        step(format!("station-{n}"), format!("{}: {}", names.station(*n), extras.join(", ")), "")
    });
    let bypass = (!snapshot.installation.card.sensor_ports.is_empty()).then(|| {
        step("bypass", "Sensors on, no bypass left", "the display shows whether one prevents watering now")
    });
    let rest = rest_of_controller(names.settings).into_iter().enumerate();
    let rest = rest.map(|(i, line)| step(format!("controller-{i}"), line, ""));
    stations.chain(bypass).chain(rest).collect()
}

#[get("/sites/{id}/controllers/{number}/walk")]
async fn key_in_walk(here: AtSite, path: web::Path<(i64, u8)>) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let version = snapshot.saved().map_or(0, |s| s.version);
    let (ticks, id) = (ticks_of(&here).await?, snapshot.site_controller()?.record.id);
    let back = format!("{}/walk", snapshot.path());
    let upkeep = upkeep::lines(&here, &snapshot, &back).await?;
    page(&WalkPage {
        upkeep,
        frame: snapshot.frame(&here, "programming steps")?,
        head: snapshot.head(Tab::Sheet)?,
        // Ticks belong to a version: another one starts with none.
        list: StepList::of(&here, format!("walk-{id}-{version}")).await?,
        version: version_words(&snapshot),
        keyed_in: (version > 0)
            .then(|| TickMark::of(here.id(), What::KeyedIn, id, version, &ticks, &here.records.tz, back)),
        stages: stages(&snapshot),
        clean: CLEAN_CONTROLLER.to_vec(),
        cautions: CAUTIONS.to_vec(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::quantity::time::Seconds;

    #[test]
    fn the_walk_goes_in_the_order_controllers_are_keyed() {
        let snapshot = fixture::controller_snapshot();
        let stages = stages(&snapshot);
        let titles: Vec<&str> = stages.iter().map(|s| s.title).collect();
        assert_eq!(
            titles,
            ["Clock", "Starts", "Minutes", "Days", "Percentage", "Sensors and the rest", "Back to automatic"]
        );
        assert_eq!(stages[1].steps[0].text, "Program A: 02:00, 04:00");
        assert_eq!(stages[2].steps.len(), 6, "four zones, the ghost and the old program");
        assert!(stages[5].steps.iter().any(|s| s.id == "bypass"), "the controller has a sensor port");
        let mut ids: Vec<&str> = stages.iter().flat_map(|s| s.steps.iter().map(|s| s.id.as_str())).collect();
        let all = ids.len();
        ids.sort_unstable();
        ids.dedup();
        assert_eq!(ids.len(), all, "every tick is its own");
    }

    #[test]
    fn programs_that_run_nothing_are_cleared_and_months_are_keyed_one_by_one() {
        use upland_core::quantity::month::ByMonth;
        let mut snapshot = fixture::controller_snapshot();
        let own = &mut std::sync::Arc::get_mut(&mut snapshot.records).unwrap().controllers[0];
        let settings = &mut own.settings.as_mut().unwrap().settings;
        settings.programs[1].active = false;
        settings.never_days[6] = true;
        settings.percentages = Percentages::Month(ByMonth::from_fn(|m| {
            Percentage::from_percent(50 + u16::from(m.number().unsigned_abs()))
        }));
        settings
            .update_station(2, |s| s.cycle_and_soak = Some((Seconds::from_s(300), Seconds::from_s(1200))));
        settings.update_station(3, |s| s.ignores_sensors = true);
        let stages = stages(&snapshot);
        let texts = |stage: usize| stages[stage].steps.iter().map(|s| s.text.as_str()).collect::<Vec<_>>();
        assert_eq!(texts(1).last(), Some(&"Programs B: no start"), "a hidden old start is cleared");
        assert!(stages[2].steps.iter().any(|s| s.detail == "cycles of 5 min, soak 20 min"));
        assert_eq!(texts(3).last(), Some(&"No watering on Sun"));
        assert_eq!((texts(4).len(), texts(4)[0], texts(4)[11]), (12, "January: 51 %", "December: 62 %"));
        assert_eq!(texts(5)[0], "3 Heather terrace: ignores sensors");
        assert!(!texts(5).iter().any(|t| t.starts_with("Nothing runs")), "said once, with the days");
        assert_eq!(texts(6).len(), 3);
    }
}

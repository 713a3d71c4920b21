//! The walk at the controller: its settings in the order in which such controllers are programmed, with ticks.

use super::settings_words::{extras, never_words, numbered, rest_of_controller};
use super::upkeep::{self, UpkeepLine};
use super::{ControllerHead, ControllerPage, Tab};
use crate::page::frame::Frame;
use crate::page::messages::{Language, Reader, Value};
use crate::page::program_words::Names;
use crate::page::ticks::{StepList, TickMark, ticks_of};
use crate::server::error::{PageError, page};
use crate::site::context::AtSite;
use crate::site::controller_snapshot::ControllerSnapshot;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::civil::Time;
use upland_core::controller::schedule::{Percentages, Program, Settings};
use upland_core::quantity::ratio::Percentage;
use upland_store::ticks::What;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(key_in_walk);
}

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
    title: String,
    why: String,
    steps: Vec<KeyStep>,
}

#[derive(Template)]
#[template(path = "chapters/programs/walk.html")]
struct WalkPage {
    frame: Frame,
    head: ControllerHead,
    reader: Reader,
    list: StepList,
    title: String,
    version: String,
    last: Option<String>,
    /// How many steps are done, with marks for the two numbers.
    count: String,
    /// The tick of the whole version.
    keyed_in: Option<TickMark>,
    stages: Vec<Stage>,
    clean: Vec<String>,
    cautions: Vec<String>,
    /// What is looked after while somebody is there.
    upkeep: Vec<UpkeepLine>,
}

/// Programs that run, by index.
type Active<'a> = Vec<(usize, &'a Program)>;

/// The settings in the order in which such controllers are programmed: clock, starts, minutes, days,
/// percentage, sensors, then back to automatic.
fn stages(snapshot: &ControllerSnapshot, reader: &Reader) -> Vec<Stage> {
    let settings = snapshot.settings();
    let names = snapshot.names(&settings);
    let programs = settings.programs.iter().enumerate();
    let active: Active<'_> = programs.filter(|(_, p)| p.waters()).collect();
    let zone = snapshot.records.site.site.time_zone.clone();
    let clock = reader.with("steps-clock-zone", &[("zone", zone.into())]);
    let stage = |title: &str, why: String, steps| Stage { title: reader.say(title), why, steps };
    vec![
        stage(
            "steps-clock",
            reader.say("steps-clock-why"),
            vec![step("clock", reader.say("steps-clock-right"), clock)],
        ),
        stage("steps-starts", reader.say("steps-starts-why"), starts(reader, &settings, &active)),
        stage("steps-minutes", reader.say("steps-minutes-why"), minutes(reader, &names, &active)),
        stage("steps-days", String::new(), days(reader, &settings, &active)),
        stage("steps-percentage", String::new(), percentages(reader, &settings, &active)),
        stage("steps-rest", String::new(), sensors_and_rest(reader, snapshot, &names)),
        stage(
            "steps-auto",
            reader.say("steps-auto-why"),
            vec![
                step("check", reader.say("steps-auto-check"), ""),
                step("auto", reader.say("steps-auto-on"), ""),
                step("sheet", reader.say("steps-auto-sheet"), ""),
            ],
        ),
    ]
}

fn clocks(reader: &Reader, times: &[Time]) -> String {
    times.iter().map(|time| reader.clock(*time)).collect::<Vec<_>>().join(", ")
}

fn starts(reader: &Reader, settings: &Settings, active: &Active<'_>) -> Vec<KeyStep> {
    let of_program = |(i, p): &(usize, &Program)| {
        let detail = match p.repeat {
            Some(repeat) => {
                let (until, pause) = (reader.clock(repeat.until), repeat.pause.to_string());
                reader.with("steps-starts-repeat", &[("until", until.into()), ("pause", pause.into())])
            }
            None => reader.say("steps-starts-other"),
        };
        let variables = [("program", p.name.clone().into()), ("starts", clocks(reader, &p.starts).into())];
        step(format!("starts-{i}"), reader.with("steps-starts-of", &variables), detail)
    };
    let off: Vec<&str> = settings.programs.iter().filter(|p| !p.waters()).map(|p| p.name.as_str()).collect();
    let off = (!off.is_empty()).then(|| {
        let text = reader.with("steps-starts-none", &[("programs", off.join(", ").into())]);
        step("starts-off", text, reader.say("steps-starts-none-why"))
    });
    active.iter().map(of_program).chain(off).collect()
}

fn minutes(reader: &Reader, names: &Names<'_>, active: &Active<'_>) -> Vec<KeyStep> {
    let mut steps = Vec::new();
    for (i, program) in active {
        for (station, length) in &program.run_times {
            let cycle = names.settings.station(*station).cycle_and_soak;
            let detail = cycle.map_or(String::new(), |(cycle, soak)| {
                let (cycle, soak) = (cycle.to_string(), soak.to_string());
                reader.with("steps-minutes-cycles", &[("cycle", cycle.into()), ("soak", soak.into())])
            });
            let variables = [
                ("program", program.name.clone().into()),
                ("zone", names.station(*station).into()),
                ("length", length.to_string().into()),
            ];
            let text = reader.with("steps-minutes-of", &variables);
            steps.push(step(format!("minutes-{i}-{station}"), text, detail));
        }
    }
    steps
}

fn days(reader: &Reader, settings: &Settings, active: &Active<'_>) -> Vec<KeyStep> {
    let of_program = |(i, p): &(usize, &Program)| {
        let variables = [("program", p.name.clone().into()), ("days", reader.days(p.days).into())];
        step(format!("days-{i}"), reader.with("steps-days-of", &variables), "")
    };
    let never = never_words(reader, settings).map(|words| step("never", words, ""));
    active.iter().map(of_program).chain(never).collect()
}

fn percentages(reader: &Reader, settings: &Settings, active: &Active<'_>) -> Vec<KeyStep> {
    let said = |value: Percentage| Value::from(value.to_string());
    match &settings.percentages {
        Percentages::Controller(value) => {
            let text = reader.with("steps-percentage-controller", &[("percentage", said(*value))]);
            vec![step("percent", text, "")]
        }
        Percentages::Program(values) => active
            .iter()
            .map(|(i, p)| {
                let value = values.get(*i).copied().unwrap_or(Percentage::HUNDRED);
                let variables = [("program", p.name.clone().into()), ("percentage", said(value))];
                step(format!("percent-{i}"), reader.with("steps-percentage-program", &variables), "")
            })
            .collect(),
        Percentages::Month(values) => values
            .months()
            .map(|(month, value)| {
                let name = reader.say(&format!("month-{}", month.number()));
                let variables = [("month", name.into()), ("percentage", said(*value))];
                let text = reader.with("steps-percentage-month", &variables);
                step(format!("percent-{}", month.number()), text, "")
            })
            .collect(),
    }
}

fn sensors_and_rest(reader: &Reader, snapshot: &ControllerSnapshot, names: &Names<'_>) -> Vec<KeyStep> {
    let stations = names.settings.stations.iter().map(|(n, setting)| (n, extras(reader, setting)));
    let stations = stations.filter(|(_, extras)| !extras.is_empty()).map(|(n, extras)| {
        let variables = [("zone", names.station(*n).into()), ("extras", extras.join(", ").into())];
        step(format!("station-{n}"), reader.with("steps-rest-station", &variables), "")
    });
    let bypass = (!snapshot.installation.card.sensor_ports.is_empty())
        .then(|| step("bypass", reader.say("steps-rest-bypass"), reader.say("steps-rest-bypass-why")));
    let rest = rest_of_controller(reader, names.settings).into_iter().enumerate();
    let rest = rest.map(|(i, line)| step(format!("controller-{i}"), line, ""));
    stations.chain(bypass).chain(rest).collect()
}

/// Which version is programmed.
fn version_words(reader: &Reader, snapshot: &ControllerSnapshot) -> String {
    let Some(record) = snapshot.saved() else { return reader.say("steps-version-none") };
    let saved = record.saved_at.to_zoned(snapshot.installation.tz.clone()).date();
    let variables = [
        ("version", record.version.into()),
        ("day", reader.day_of_year(saved).into()),
        ("who", record.saved_by.clone().into()),
    ];
    reader.with("steps-version", &variables)
}

#[derive(serde::Deserialize, Default)]
struct WalkQuery {
    lang: Option<String>,
}

#[get("/sites/{id}/controllers/{number}/walk")]
async fn key_in_walk(
    here: AtSite,
    path: web::Path<(i64, u8)>,
    query: web::Query<WalkQuery>,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let language = query.lang.as_deref().and_then(Language::from_code).unwrap_or_default();
    let reader = Reader { language, units: here.records.units() };
    let version = snapshot.saved().map_or(0, |s| s.version);
    let (ticks, id) = (ticks_of(&here).await?, snapshot.site_controller()?.record.id);
    let back = format!("{}/walk", snapshot.path());
    let upkeep = upkeep::lines(&here, &snapshot, &back).await?;
    // Ticks belong to a version: another one starts with none.
    let list = StepList::of(&here, format!("walk-{id}-{version}")).await?;
    let head = snapshot.head(Tab::Sheet)?;
    page(&WalkPage {
        upkeep,
        frame: snapshot.frame(&here, "programming steps")?,
        title: reader.with("steps-title", &[("place", head.place.clone().into())]),
        head,
        last: list.last.as_ref().map(|tick| reader.with("steps-last", &[("tick", tick.clone().into())])),
        list,
        count: reader.with("steps-count", &[("done", "%1".into()), ("all", "%2".into())]),
        version: version_words(&reader, &snapshot),
        keyed_in: (version > 0)
            .then(|| TickMark::of(here.id(), What::KeyedIn, id, version, &ticks, &here.records.tz, back)),
        stages: stages(&snapshot, &reader),
        clean: numbered(&reader, "steps-clean", 6),
        cautions: numbered(&reader, "caution", 4),
        reader,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::quantity::time::Seconds;
    use upland_core::site::UnitSystem;

    fn reader(language: Language) -> Reader {
        Reader { language, units: UnitSystem::Metric }
    }

    #[test]
    fn the_walk_goes_in_the_order_controllers_are_keyed() {
        let snapshot = fixture::controller_snapshot();
        let stages = stages(&snapshot, &reader(Language::English));
        let titles: Vec<&str> = stages.iter().map(|s| s.title.as_str()).collect();
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
        let stages = stages(&snapshot, &reader(Language::English));
        let texts = |stage: usize| stages[stage].steps.iter().map(|s| s.text.as_str()).collect::<Vec<_>>();
        assert_eq!(texts(1).last(), Some(&"Programs B: no start"), "a hidden old start is cleared");
        assert!(stages[2].steps.iter().any(|s| s.detail == "cycles of 5 min, soak 20 min"));
        assert_eq!(texts(3).last(), Some(&"No watering on Sun"));
        assert_eq!((texts(4).len(), texts(4)[0], texts(4)[11]), (12, "January: 51 %", "December: 62 %"));
        assert_eq!(texts(5)[0], "3 Heather terrace: ignores sensors");
        assert!(!texts(5).iter().any(|t| t.starts_with("Nothing runs")), "said once, with the days");
        assert_eq!(texts(6).len(), 3);
    }

    #[test]
    fn a_crew_reads_every_step_in_spanish() {
        let snapshot = fixture::controller_snapshot();
        let (english, spanish) =
            (stages(&snapshot, &reader(Language::English)), stages(&snapshot, &reader(Language::Spanish)));
        let texts = |stages: &[Stage]| {
            let of = |stage: &Stage| stage.steps.iter().map(|s| s.text.clone()).collect::<Vec<_>>();
            stages.iter().flat_map(of).collect::<Vec<_>>()
        };
        assert_eq!(spanish[0].title, "Reloj");
        assert_eq!(spanish[1].steps[0].text, "Programa A: 02:00, 04:00");
        let ids = |stages: &[Stage]| {
            stages.iter().flat_map(|s| s.steps.iter().map(|s| s.id.clone())).collect::<Vec<_>>()
        };
        assert_eq!(ids(&english), ids(&spanish), "a tick is the same in both");
        for (one, other) in texts(&english).iter().zip(texts(&spanish)) {
            assert_ne!(*one, other);
        }
    }
}

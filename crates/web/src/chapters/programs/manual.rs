//! Manual run: test walk, one run, syringe, winterising.

use super::ControllerPage;
use super::{ControllerHead, Tab};
use crate::page::dates::DateFormat;
use crate::page::dates::typed_time;
use crate::page::frame::Frame;
use crate::page::program_words::Names;
use crate::page::quantities::{span, volume};
use crate::page::ticks::StepList;
use crate::server::error::{PageError, page};
use crate::server::request_locale::habit;
use crate::site::context::AtSite;
use crate::site::controller_snapshot::ControllerSnapshot;
use actix_web::{HttpResponse, get, web};
use askama::Template;
use jiff::Timestamp;
use upland_core::account::nights::rained_by;
use upland_core::codes::Coded;
use upland_core::controller::ordinance::Why;
use upland_core::controller::schedule::Settings;
use upland_core::installation::manual::{
    ManualRun, SYRINGE, TEST_WALK, blow_out_order, one_program, one_zone, syringe, test_walk,
};
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::time::Seconds;
use upland_core::tuning::Sign;
use upland_formats::typed;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(manual_page);
}

#[derive(serde::Deserialize, Default)]
struct ManualQuery {
    what: Option<String>,
    seconds: Option<String>,
    pause: Option<String>,
    station: Option<u16>,
    program: Option<usize>,
    minutes: Option<String>,
    at: Option<String>,
}

struct StepLine {
    id: u16,
    /// How long it runs, seconds.
    seconds: u32,
    text: String,
    begin: String,
    detail: String,
}

struct RunView {
    title: String,
    lead: String,
    steps: Vec<StepLine>,
    obstacles: Vec<String>,
}

struct WinterStep {
    id: String,
    text: String,
}

/// Kinds of work by hand, by their short names.
pub(super) const KINDS: [(&str, &str); 5] = [
    ("walk", "Station test"),
    ("zone", "One zone"),
    ("program", "One program"),
    ("syringe", "Syringe"),
    ("winter", "Winterising"),
];

#[derive(Template)]
#[template(path = "chapters/programs/manual.html")]
struct ManualPage {
    /// Kinds of work by hand, by their short names.
    kinds: [(&'static str, &'static str); 5],
    frame: Frame,
    head: ControllerHead,
    what: &'static str,
    seconds: u32,
    pause: u32,
    minutes: u32,
    at: String,
    station: u16,
    program: usize,
    zones: Vec<(u16, String)>,
    programs: Vec<(usize, String)>,
    run: Option<RunView>,
    winter: Vec<WinterStep>,
    list: StepList,
    /// What may be seen at a zone, with its words.
    signs: Vec<(&'static str, &'static str)>,
    bounds: (u32, u32),
    notes: Vec<String>,
}

/// Winterising by compressed air, the usual order and cautions (common practice).
fn winter(snapshot: &ControllerSnapshot, names: &Names<'_>) -> Vec<WinterStep> {
    let mut steps: Vec<String> = [
        "Have it done by those who are licensed and trained for compressed air where the rules ask for it. Wear eye and ear protection; nobody stays over heads, valves or fittings.",
        "Close the supply behind the meter and drain the line to the shut-off. Backflow devices: isolate and drain as their maker says; never blow air through one.",
        "Couple the air behind the backflow device. Regulate it to the maker's limit for the weakest part; drip takes far less than sprinklers. Open one zone before the compressor, so that air never stands against closed valves.",
    ]
    .map(str::to_owned)
    .to_vec();
    for station in blow_out_order(&snapshot.installation) {
        steps.push(format!(
            "{}: short bursts until only mist comes, not longer; dry air heats what water cooled.",
            names.station(station)
        ));
    }
    steps.extend(
        [
            "Go through the zones a second time, shorter.",
            "Shut the compressor off first, then open a zone to let the rest of the air go.",
            "Leave drain and backflow valves half open. Set the off-season on the controller instead of switching it off, and note the date.",
        ]
        .map(str::to_owned),
    );
    (0..)
        .zip(steps)
        .map(|(i, text): (usize, String)| WinterStep { id: format!("winter-{i}"), text })
        .collect()
}

// Long: one part of the page after another.
fn view(
    snapshot: &ControllerSnapshot,
    settings: &Settings,
    title: String,
    run: &ManualRun,
    at: Timestamp,
) -> RunView {
    let names = snapshot.names(settings);
    let tz = &snapshot.installation.tz;
    let clock = |t: Timestamp| t.to_zoned(tz.clone()).formatted("%H:%M:%S");
    let date = at.to_zoned(tz.clone()).date();
    // What is held does not stand in the way.
    let runs = snapshot.openings(settings, DateSpan::new(date.yesterday().unwrap_or(date), date));
    let found = run.obstacles(&snapshot.installation, &runs, at);
    let mut obstacles: Vec<String> = found
        .forbidden
        .iter()
        .map(|(station, span)| {
            let name = snapshot
                .installation
                .law
                .applied
                .get(span.ordinance)
                .map_or("", |a| a.ordinance.name.as_str());
            let why = if span.why == Why::Day { "this day" } else { "this hour" };
            format!("\"{name}\" forbids {why} for {}.", names.station(*station))
        })
        .collect();
    obstacles.extend(run.steps.iter().filter_map(|step| after_rain(snapshot, &names, step.station, at)));
    if let Some(first) = found.scheduled.first() {
        obstacles.push(format!(
            "Program {} is set to run at {}; a manual run usually cancels it.",
            names.program(first.program),
            first.start.to_zoned(tz.clone()).formatted("%H:%M")
        ));
    }
    let water = run.volume().map_or(String::new(), |v| format!(", {}", volume(snapshot.units(), v)));
    let end = at + run.length();
    RunView {
        title,
        lead: if run.steps.is_empty() {
            "Nothing to run.".into()
        } else {
            format!(
                "{} in total{water}; started at {} it ends at {}. Percentage, rain delay and sensors do not affect a manual run.",
                span(run.length().minutes().min_value()),
                at.to_zoned(tz.clone()).formatted("%H:%M"),
                end.to_zoned(tz.clone()).formatted("%H:%M")
            )
        },
        steps: run
            .steps
            .iter()
            .map(|s| StepLine {
                id: s.station,
                seconds: s.length.length_s(),
                text: names.station(s.station),
                begin: clock(at + s.begin),
                detail: format!(
                    "{}{}",
                    s.length,
                    s.volume.map_or(String::new(), |v| format!(", {}", volume(snapshot.units(), v)))
                ),
            })
            .collect(),
        obstacles,
    }
}

/// What an ordinance says of a station after rain, if it forbids it then.
fn after_rain(
    snapshot: &ControllerSnapshot,
    names: &Names<'_>,
    station: u16,
    at: Timestamp,
) -> Option<String> {
    let there = &snapshot.installation;
    let (ordinance, until) = rained_by(&there.law, &snapshot.climate, &there.tz, there.subject(station), at)?;
    let name = there.law.applied.get(ordinance).map_or("", |a| a.ordinance.name.as_str());
    let until = until.to_zoned(there.tz.clone()).formatted("%a %-d %b at %H:%M");
    Some(format!("\"{name}\" forbids {} after the rain until {until}.", names.station(station)))
}

impl ManualQuery {
    /// Which run by hand is looked at.
    fn what(&self) -> &'static str {
        match self.what.as_deref() {
            Some("zone") => "zone",
            Some("program") => "program",
            Some("syringe") => "syringe",
            Some("winter") => "winter",
            _ => "walk",
        }
    }
}

/// What is asked of a manual run, brought into its bounds.
struct Asked {
    station: u16,
    program: usize,
    seconds: u32,
    pause: u32,
    minutes: u32,
    /// What was typed and not taken, each with what stands instead.
    notes: Vec<String>,
}

/// A length as typed, in the unit of its field where none is said, within bounds; what was not taken is noted.
fn length(
    name: &str,
    typed: Option<&String>,
    usual: u32,
    least: u32,
    most: u32,
    unit_s: u32,
    notes: &mut Vec<String>,
) -> u32 {
    let Some(text) = typed.map(|text| text.trim()).filter(|text| !text.is_empty()) else { return usual };
    let words = |value: u32| Seconds::from_s(i64::from(value * unit_s)).to_string();
    let bare = text.parse::<u32>().ok();
    let read = bare.or_else(|| typed::duration(text).ok().map(|s| s.length_s() / unit_s));
    match read {
        Some(value) if (least..=most).contains(&value) => value,
        Some(value) => {
            let taken = value.clamp(least, most);
            let (least, most) = (words(least), words(most));
            notes.push(format!(
                "\"{text}\" is outside {least} to {most} for the {name}; {} is taken.",
                words(taken)
            ));
            taken
        }
        None => {
            notes.push(format!(
                "\"{text}\" is no length for the {name}; write 90 s or 2 min. {} is taken.",
                words(usual)
            ));
            usual
        }
    }
}

impl Asked {
    fn of(query: &ManualQuery, snapshot: &ControllerSnapshot) -> Self {
        let first = snapshot.installation.zones.first().map_or(1, |z| z.zone.number);
        let (usual, most) = if query.what() == "syringe" { (2, SYRINGE.1.minutes_up()) } else { (10, 600) };
        let mut notes = Vec::new();
        let (least_s, most_s) = (TEST_WALK.0.length_s(), TEST_WALK.1.length_s());
        Self {
            station: query.station.unwrap_or(first),
            program: query.program.unwrap_or(0),
            seconds: length("run", query.seconds.as_ref(), 120, least_s, most_s, 1, &mut notes),
            pause: length("pause", query.pause.as_ref(), 20, 0, 600, 1, &mut notes),
            minutes: length("run", query.minutes.as_ref(), usual, 1, most, 60, &mut notes),
            notes,
        }
    }

    /// The run with its title; `None` where none is counted out.
    fn run(
        &self,
        snapshot: &ControllerSnapshot,
        settings: &Settings,
        names: &Names<'_>,
        what: &str,
    ) -> Option<(String, ManualRun)> {
        let there = &snapshot.installation;
        Some(match what {
            "zone" => {
                let run = one_zone(there, self.station, Seconds::from_min(i64::from(self.minutes)));
                (format!("{} by hand", names.station(self.station)), run)
            }
            "program" => {
                let run = one_program(there, settings, self.program);
                (format!("Manual run of program {}", names.program(self.program)), run)
            }
            "syringe" => (
                "Syringe over the turf".to_owned(),
                syringe(there, Seconds::from_min(i64::from(self.minutes))),
            ),
            "walk" => ("Station test".to_owned(), test_walk(there, self.seconds.into(), self.pause.into())),
            _ => return None,
        })
    }
}

#[get("/sites/{id}/controllers/{number}/manual")]
async fn manual_page(
    here: AtSite,
    path: web::Path<(i64, u8)>,
    query: web::Query<ManualQuery>,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let settings = snapshot.settings();
    let names = snapshot.names(&settings);
    let tz = snapshot.installation.tz.clone();
    let now = snapshot.at.to_zoned(tz.clone());
    // The time asked for belongs to the day the page is about, so that the law of that day counts.
    let asked = query.at.as_deref().filter(|text| !text.trim().is_empty());
    let asked = asked.map(|text| typed::time_of_day(text, habit())).transpose();
    let asked = asked.map_err(|refusal| PageError::BadRequest(refusal.to_string()))?;
    let time = asked.unwrap_or_else(|| now.time());
    let at = upland_core::quantity::time::instant(snapshot.today, time, &tz);
    let what = query.what();
    let asked = Asked::of(&query, &snapshot);
    let title = |title: &str| crate::page::quantities::capital(title);
    let built = asked.run(&snapshot, &settings, &names, what);
    let run = built.map(|(words, run)| view(&snapshot, &settings, title(&words), &run, at));
    let list = format!("{what}-{}-{}", snapshot.site_controller()?.record.id, snapshot.today);
    page(&ManualPage {
        kinds: KINDS,
        frame: snapshot.frame(&here, "by hand")?,
        head: snapshot.head(Tab::Manual)?,
        what,
        seconds: asked.seconds,
        pause: asked.pause,
        minutes: asked.minutes,
        at: typed_time(time),
        station: asked.station,
        program: asked.program,
        zones: snapshot
            .installation
            .zones
            .iter()
            .map(|z| (z.zone.number, names.station(z.zone.number)))
            .collect(),
        programs: settings.programs.iter().enumerate().map(|(i, p)| (i, p.name.clone())).collect(),
        winter: winter(&snapshot, &names),
        run,
        // Ticks belong to a day: the next test starts with none.
        list: StepList::of(&here, list).await?,
        signs: Sign::TABLE.iter().map(|(sign, code)| (*code, sign.label())).collect(),
        bounds: (TEST_WALK.0.length_s(), TEST_WALK.1.length_s()),
        notes: asked.notes,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use jiff::civil::time;

    #[test]
    fn a_run_by_hand_says_when_it_ends_and_what_stands_in_its_way() {
        let snapshot = fixture::controller_snapshot();
        let settings = snapshot.settings();
        let at = |hour, minute| {
            let tz = &snapshot.installation.tz;
            snapshot.today.to_datetime(time(hour, minute, 0, 0)).to_zoned(tz.clone()).unwrap().timestamp()
        };
        let walk = view(
            &snapshot,
            &settings,
            "Station test".into(),
            &test_walk(&snapshot.installation, Seconds::from_min(2), Seconds::from_s(20)),
            at(7, 0),
        );
        assert!(
            walk.lead.starts_with("9 min in total, 159 L; started at 07:00 it ends at 07:09."),
            "{}",
            walk.lead
        );
        assert_eq!(walk.steps[1].begin, "07:02:20");
        assert_eq!(walk.obstacles, Vec::<String>::new());
        let noon = view(
            &snapshot,
            &settings,
            "One".into(),
            &one_zone(&snapshot.installation, 1, Seconds::from_min(10)),
            at(12, 58),
        );
        insta::assert_snapshot!(noon.obstacles.join("\n"), @r#"
        "Larkrigg summer watering" forbids this hour for 1 Upper lawn.
        Program C is set to run at 13:00; a manual run usually cancels it.
        "#);
        // A law that asks for the rain: none fell lately at the test's site but what is said here.
        let mut wet = fixture::controller_snapshot();
        let rule = &mut wet.installation.law.applied[0].ordinance.rules[0];
        rule.after_rain = Some(upland_core::controller::ordinance::AfterRain {
            hours: 336,
            least: upland_core::quantity::units::Millimetres::from_mm(0.1),
        });
        let one = one_zone(&wet.installation, 1, Seconds::from_min(10));
        let told = view(&wet, &settings, "One".into(), &one, at(7, 0)).obstacles.join(" ");
        let rained = (0..14).any(|k| {
            let day = wet.today.checked_sub(jiff::Span::new().days(k)).unwrap();
            wet.climate.rain_on(day).is_some_and(|mm| mm.mm() >= 0.1)
        });
        assert_eq!(told.contains("after the rain until"), rained, "{told}");
        let empty = view(
            &snapshot,
            &settings,
            "Empty".into(),
            &one_program(&snapshot.installation, &settings, 9),
            at(7, 0),
        );
        assert_eq!(empty.lead, "Nothing to run.");
    }

    #[test]
    fn winterising_begins_and_ends_with_its_cautions() {
        let snapshot = fixture::controller_snapshot();
        let settings = snapshot.settings();
        let steps = winter(&snapshot, &snapshot.names(&settings));
        assert!(
            steps[0].text.contains("eye and ear protection")
                && steps[1].text.contains("never blow air through")
        );
        assert!(steps[2].text.contains("Regulate it to the maker's limit"));
        assert_eq!(steps.len(), 6 + 4, "four zones");
        assert!(
            steps[3].text.starts_with("1 Upper lawn") && steps[6].text.starts_with("3 Heather"),
            "drip comes last"
        );
        assert!(steps.last().unwrap().text.contains("off-season"));
    }

    #[test]
    fn what_is_asked_of_a_run_is_brought_into_its_bounds() {
        let snapshot = fixture::controller_snapshot();
        let query = |what: &str, seconds: Option<u32>, minutes: Option<u32>| ManualQuery {
            what: Some(what.into()),
            seconds: seconds.map(|s| s.to_string()),
            minutes: minutes.map(|m| m.to_string()),
            station: None,
            program: None,
            pause: Some("9999".into()),
            at: None,
        };
        let walk = Asked::of(&query("walk", Some(1), None), &snapshot);
        assert_eq!(walk.notes.len(), 2, "what is not taken is said: {:?}", walk.notes);
        let typed = |seconds: &str| ManualQuery { seconds: Some(seconds.into()), ..ManualQuery::default() };
        let two = Asked::of(&typed("2 min"), &snapshot);
        assert_eq!((two.seconds, two.notes.len()), (120, 0), "sentence 11");
        let none = Asked::of(&typed("a while"), &snapshot);
        assert!(none.notes[0].contains("a while") && none.seconds == 120, "{:?}", none.notes);
        assert_eq!(
            (walk.seconds, walk.pause, walk.station, walk.program),
            (TEST_WALK.0.length_s(), 600, 1, 0)
        );
        assert_eq!(Asked::of(&query("walk", Some(99_999), None), &snapshot).seconds, TEST_WALK.1.length_s());
        assert_eq!(Asked::of(&query("zone", None, Some(9_999)), &snapshot).minutes, 600);
        assert_eq!(
            Asked::of(&query("syringe", None, Some(60)), &snapshot).minutes,
            5,
            "a syringe wets leaves"
        );
        assert_eq!(Asked::of(&query("syringe", None, None), &snapshot).minutes, 2);
        assert_eq!(query("nonsense", None, None).what(), "walk");
        let (settings, asked) = (snapshot.settings(), Asked::of(&query("zone", None, Some(7)), &snapshot));
        let names = snapshot.names(&settings);
        let (title, run) = asked.run(&snapshot, &settings, &names, "zone").unwrap();
        assert_eq!((title.as_str(), run.length()), ("1 Upper lawn by hand", Seconds::from_min(7)));
        assert!(asked.run(&snapshot, &settings, &names, "winter").is_none(), "winter is a list of steps");
        let (title, run) = asked.run(&snapshot, &settings, &names, "program").unwrap();
        assert_eq!((title.as_str(), run.steps.len()), ("Manual run of program A", 4));
    }
}

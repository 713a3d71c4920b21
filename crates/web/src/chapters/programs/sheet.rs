//! The door sheet of a whole box on one page, and the same as a walk in the order in which such
//! boxes are keyed, with ticks.

use super::BoxPage;
use super::{BoxHead, Tab};
use crate::page::frame::Frame;
use crate::page::quantities::length_of_time;
use crate::server::error::{PageError, page};
use crate::site::context::AtSite;
use crate::site::workbench::Workbench;
use actix_web::{HttpRequest, HttpResponse, get, web};
use askama::Template;
use qrcode::QrCode;
use qrcode::render::svg;
use upland_core::controller::schedule::{Percentages, Program, Settings, days_in_words};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(door_sheet).service(key_in_walk);
}

/// Said on every sheet of a box.
const CAUTIONS: [&str; 4] = [
    "Power off before the box is opened. Work on the low-voltage side only; mains belong to a licensed electrician.",
    "Stand on firm ground; use a ladder only when somebody holds it.",
    "In frost, spray ices paving and steps: hold the programs.",
    "Local watering rules and the maker's instructions come before this sheet.",
];

/// What is done before anything is keyed, so that nothing old runs on.
const CLEAN_BOX: [&str; 6] = [
    "Note what is in the box now, program by program, and keep it as the version as found.",
    "Clear every start time of every program, also of those that look empty.",
    "Set every run time to nothing in every program.",
    "Set every percentage to 100 %.",
    "End rain delays and bypasses, and clear pauses and days on which nothing runs.",
    "Run the box through a day on its own display, if it can show one: nothing may run.",
];

struct ProgramLine {
    name: String,
    days: String,
    starts: String,
    stations: Vec<(String, String)>,
    percent: String,
    repeat: String,
}

struct StationLine {
    name: String,
    cycle: String,
    extras: String,
}

struct SheetView {
    place: String,
    site: String,
    card: String,
    version: String,
    reason: String,
    window: String,
    programs: Vec<ProgramLine>,
    off: String,
    percent: String,
    stations: Vec<StationLine>,
    whole_box: Vec<String>,
    law: Vec<String>,
    cautions: Vec<&'static str>,
}

fn month_day((month, day): (i8, i8)) -> String {
    jiff::civil::Date::new(2000, month, day).map_or(String::new(), |d| d.strftime("%-d %b").to_string())
}

fn program_line(bench: &Workbench, settings: &Settings, index: usize, program: &Program) -> ProgramLine {
    let names = bench.names(settings);
    ProgramLine {
        name: program.name.clone(),
        days: days_in_words(program.days),
        starts: program.starts.iter().map(|t| t.strftime("%H:%M").to_string()).collect::<Vec<_>>().join(", "),
        stations: program.run_times.iter().map(|(n, s)| (names.station(*n), length_of_time(*s))).collect(),
        percent: match &settings.percentages {
            Percentages::Program(values) => format!("{} %", values.get(index).copied().unwrap_or(100)),
            _ => String::new(),
        },
        repeat: program.repeat.map_or(String::new(), |r| {
            format!(
                "again and again until {}, pause {}",
                r.until.strftime("%H:%M"),
                length_of_time(r.pause_s)
            )
        }),
    }
}

/// Settings of the whole box in words, those that are set.
fn whole_box(settings: &Settings) -> Vec<String> {
    let mut lines = Vec::new();
    match settings.delay_s {
        0 => {}
        d if d > 0 => lines.push(format!("Pause of {} between stations", length_of_time(d.unsigned_abs()))),
        d => lines.push(format!("Stations overlap by {}", length_of_time(d.unsigned_abs()))),
    }
    if settings.never_days.contains(&true) {
        lines.push(format!(
            "Nothing runs on {}",
            days_in_words(upland_core::controller::schedule::Days::Weekdays(settings.never_days))
        ));
    }
    if let Some(hours) = settings.omit_hours {
        let (from, until) = (hours.from.strftime("%H:%M"), hours.until.strftime("%H:%M"));
        lines.push(format!("No start between {from} and {until}"));
    }
    if let Some(span) = settings.off_season {
        lines.push(format!("Off-season {} to {}", month_day(span.from), month_day(span.until)));
    }
    if let Some((first, days)) = settings.rain_delay {
        lines.push(format!("Rain delay of {days} days from {}", first.strftime("%-d %b %Y")));
    }
    lines
}

fn build(bench: &Workbench) -> Result<SheetView, PageError> {
    let settings = bench.settings();
    let names = bench.names(&settings);
    let runs = |p: &&Program| p.active && !p.starts.is_empty() && !p.run_times.is_empty();
    let off: Vec<String> = settings.programs.iter().filter(|p| !runs(p)).map(|p| p.name.clone()).collect();
    let version = match bench.saved() {
        Some(s) => format!(
            "version {} of {}, {}",
            s.version,
            s.saved_at.to_zoned(bench.installation.tz.clone()).strftime("%-d %b %Y"),
            s.saved_by
        ),
        None => "nothing recorded yet".to_owned(),
    };
    let station_line = |(n, s): &(u16, upland_core::controller::schedule::StationSetting)| {
        let mut extras = Vec::new();
        for (on, what) in [
            (s.lighting, "lighting"),
            (s.master_valve, "master valve"),
            (s.pump, "pump"),
            (s.ignores_sensors, "ignores sensors"),
        ] {
            if on {
                extras.push(what);
            }
        }
        StationLine {
            name: names.station(*n),
            cycle: s
                .cycle_and_soak_s
                .map_or(String::new(), |(c, k)| format!("{}, soak {}", length_of_time(c), length_of_time(k))),
            extras: extras.join(", "),
        }
    };
    Ok(SheetView {
        place: bench.controller()?.place.clone(),
        site: bench.loaded.site.site.name.clone(),
        card: bench.installation.card.name.clone(),
        version,
        reason: bench.saved().map_or(String::new(), |s| s.reason.clone()),
        window: format!(
            "{} to {}",
            bench.installation.window.from.strftime("%H:%M"),
            bench.installation.window.until.strftime("%H:%M")
        ),
        programs: settings
            .programs
            .iter()
            .enumerate()
            .filter(|(_, p)| runs(p))
            .map(|(i, p)| program_line(bench, &settings, i, p))
            .collect(),
        off: off.join(", "),
        percent: match &settings.percentages {
            Percentages::Box(value) => format!("{value} % for the whole box"),
            Percentages::Program(_) => String::new(),
            Percentages::Month(values) => {
                let words: Vec<String> =
                    values.months().map(|(month, v)| format!("{} {v}", month.short())).collect();
                words.join(", ") + " %"
            }
        },
        stations: settings.stations.iter().map(station_line).collect(),
        whole_box: whole_box(&settings),
        law: bench
            .installation
            .law
            .applied
            .iter()
            .flat_map(|a| {
                let house = if a.house == upland_core::controller::ordinance::HouseNumber::Even {
                    "even"
                } else {
                    "odd"
                };
                let rules = a
                    .ordinance
                    .rules
                    .iter()
                    .map(crate::page::law_words::rule_words)
                    .collect::<Vec<_>>()
                    .join(" ");
                [format!(
                    "{} ({house} house number): {rules} {}",
                    a.ordinance.name,
                    crate::page::law_words::exempt_words(&a.ordinance)
                )]
            })
            .collect(),
        cautions: CAUTIONS.to_vec(),
    })
}

/// The address of the box's page as the reader's device can open it.
fn address(request: &HttpRequest, path: &str) -> String {
    let connection = request.connection_info();
    format!("{}://{}{path}", connection.scheme(), connection.host())
}

/// A QR code as SVG, drawn with attributes only.
fn qr(text: &str) -> Result<String, PageError> {
    let code = QrCode::new(text)
        .map_err(|e| PageError::BadRequest(format!("This address is too long for a code: {e}.")))?;
    let svg = code.render::<svg::Color<'_>>().min_dimensions(116, 116).quiet_zone(true).build();
    // The declaration belongs to a file, not into a page.
    Ok(svg.split_once("?>").map_or(svg.clone(), |(_, body)| body.to_owned()))
}

#[derive(Template)]
#[template(path = "chapters/programs/sheet.html")]
struct SheetPage {
    frame: Frame,
    head: BoxHead,
    view: SheetView,
    qr: String,
    address: String,
    calendar: String,
}

#[get("/sites/{id}/boxes/{number}/sheet")]
async fn door_sheet(
    here: AtSite,
    request: HttpRequest,
    path: web::Path<(i64, u8)>,
) -> Result<HttpResponse, PageError> {
    let bench = here.workbench(path.1).await?;
    let address = address(&request, &bench.path());
    let token = &bench.site_box()?.record.calendar_token;
    page(&SheetPage {
        frame: bench.frame(&here, "door sheet")?,
        head: bench.head(Tab::Sheet)?,
        view: build(&bench)?,
        qr: qr(&address)?,
        calendar: self::address(&request, &format!("/calendar/{token}.ics")),
        address,
    })
}

/// A thing to key, with its tick.
struct Step {
    id: String,
    text: String,
    detail: String,
}

struct Stage {
    title: &'static str,
    why: &'static str,
    steps: Vec<Step>,
}

#[derive(Template)]
#[template(path = "chapters/programs/walk.html")]
struct WalkPage {
    frame: Frame,
    head: BoxHead,
    key: String,
    version: String,
    stages: Vec<Stage>,
    clean: Vec<&'static str>,
    cautions: Vec<&'static str>,
}

/// The settings in the order in which such boxes are keyed: clock, starts, minutes, days,
/// percentage, sensors, then back to automatic.
fn stages(bench: &Workbench) -> Vec<Stage> {
    let settings = bench.settings();
    let names = bench.names(&settings);
    let active: Vec<(usize, &Program)> = settings
        .programs
        .iter()
        .enumerate()
        .filter(|(_, p)| p.active && !p.starts.is_empty() && !p.run_times.is_empty())
        .collect();
    let off: Vec<String> = settings
        .programs
        .iter()
        .filter(|p| active.iter().all(|(_, a)| a.name != p.name))
        .map(|p| p.name.clone())
        .collect();
    let step = |id: String, text: String, detail: String| Step { id, text, detail };
    let mut starts: Vec<Step> = active
        .iter()
        .map(|(i, p)| {
            let times: Vec<String> = p.starts.iter().map(|t| t.strftime("%H:%M").to_string()).collect();
            let mut detail = "every other start of this program cleared".to_owned();
            if let Some(repeat) = p.repeat {
                detail = format!(
                    "repeats until {}, pause {}",
                    repeat.until.strftime("%H:%M"),
                    length_of_time(repeat.pause_s)
                );
            }
            step(format!("starts-{i}"), format!("Program {}: {}", p.name, times.join(", ")), detail)
        })
        .collect();
    if !off.is_empty() {
        starts.push(step(
            "starts-off".into(),
            format!("Programs {}: no start", off.join(", ")),
            "hidden old starts cleared".into(),
        ));
    }
    let minutes = active
        .iter()
        .flat_map(|(i, p)| p.run_times.iter().map(move |(n, s)| (*i, p.name.clone(), *n, *s)))
        .map(|(i, program, n, s)| {
            let cycle = settings.station(n).cycle_and_soak_s;
            let detail = cycle.map_or(String::new(), |(c, k)| {
                format!("cycles of {}, soak {}", length_of_time(c), length_of_time(k))
            });
            step(
                format!("minutes-{i}-{n}"),
                format!("Program {program}, {}: {}", names.station(n), length_of_time(s)),
                detail,
            )
        })
        .collect();
    let days = active
        .iter()
        .map(|(i, p)| {
            step(format!("days-{i}"), format!("Program {}: {}", p.name, days_in_words(p.days)), String::new())
        })
        .chain(settings.never_days.contains(&true).then(|| {
            step(
                "never".into(),
                whole_box(&settings).into_iter().find(|l| l.starts_with("Nothing")).unwrap_or_default(),
                String::new(),
            )
        }))
        .collect();
    let percentage = match &settings.percentages {
        Percentages::Box(v) => vec![step("percent".into(), format!("Whole box: {v} %"), String::new())],
        Percentages::Program(values) => active
            .iter()
            .map(|(i, p)| {
                step(
                    format!("percent-{i}"),
                    format!("Program {}: {} %", p.name, values.get(*i).copied().unwrap_or(100)),
                    String::new(),
                )
            })
            .collect(),
        Percentages::Month(values) => values
            .months()
            .map(|(month, v)| {
                let id = format!("percent-{}", month.number());
                step(id, format!("{}: {v} %", month.name()), String::new())
            })
            .collect(),
    };
    let mut sensors: Vec<Step> = settings
        .stations
        .iter()
        .filter(|(_, s)| s.master_valve || s.pump || s.ignores_sensors || s.lighting)
        .map(|(n, s)| {
            let what = [
                (s.master_valve, "master valve"),
                (s.pump, "pump"),
                (s.ignores_sensors, "ignores sensors"),
                (s.lighting, "lighting"),
            ];
            let words: Vec<&str> = what.into_iter().filter(|(on, _)| *on).map(|(_, w)| w).collect();
            step(
                format!("station-{n}"),
                format!("{}: {}", names.station(*n), words.join(", ")),
                String::new(),
            )
        })
        .collect();
    if !bench.installation.card.sensor_ports.is_empty() {
        sensors.push(step(
            "bypass".into(),
            "Sensors on, no bypass left".into(),
            "the display shows whether one holds the box now".into(),
        ));
    }
    let rest = whole_box(&settings).into_iter().enumerate().filter(|(_, l)| !l.starts_with("Nothing runs"));
    sensors.extend(rest.map(|(i, line)| step(format!("box-{i}"), line, String::new())));
    let now = bench.loaded.site.site.time_zone.clone();
    vec![
        Stage {
            title: "Clock",
            why: "Every start counts from it.",
            steps: vec![step(
                "clock".into(),
                "Date, day of the week and time are right".into(),
                format!("time zone {now}"),
            )],
        },
        Stage { title: "Starts", why: "Each start runs its whole program once.", steps: starts },
        Stage { title: "Minutes", why: "At 100 %; the box applies the percentage itself.", steps: minutes },
        Stage { title: "Days", why: "", steps: days },
        Stage { title: "Percentage", why: "", steps: percentage },
        Stage { title: "Sensors and the rest", why: "", steps: sensors },
        Stage {
            title: "Back to automatic",
            why: "A box left off is the commonest dead landscape.",
            steps: vec![
                step("check".into(), "Read every program through once more".into(), String::new()),
                step("auto".into(), "The box is on automatic".into(), String::new()),
                step(
                    "sheet".into(),
                    "The new sheet is in the door, the old one taken along".into(),
                    String::new(),
                ),
            ],
        },
    ]
}

#[get("/sites/{id}/boxes/{number}/walk")]
async fn key_in_walk(here: AtSite, path: web::Path<(i64, u8)>) -> Result<HttpResponse, PageError> {
    let bench = here.workbench(path.1).await?;
    let version = bench.saved().map_or(0, |s| s.version);
    page(&WalkPage {
        frame: bench.frame(&here, "key in")?,
        head: bench.head(Tab::Sheet)?,
        // Ticks belong to a version: another one starts with none.
        key: format!("walk-{}-{version}", bench.site_box()?.record.id),
        version: build(&bench)?.version,
        stages: stages(&bench),
        clean: CLEAN_BOX.to_vec(),
        cautions: CAUTIONS.to_vec(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixture;
    use upland_core::controller::schedule::Repeat;

    #[test]
    fn the_whole_box_stands_on_its_sheet() {
        let bench = fixture::workbench();
        let view = build(&bench).unwrap();
        assert_eq!((view.place.as_str(), view.window.as_str()), ("Potting shed", "01:00 to 06:30"));
        assert_eq!(view.version, "version 2 of 31 Dec 1969, Bram");
        let programs: Vec<String> = view
            .programs
            .iter()
            .map(|p| {
                format!("{} {} on {}, {}: {} stations", p.name, p.starts, p.days, p.percent, p.stations.len())
            })
            .collect();
        insta::assert_snapshot!(programs.join("\n"), @r"
        A 02:00, 04:00 on every day of the week, 100 %: 4 stations
        B 02:30 on every day of the week, 100 %: 1 stations
        C 13:00 on every day of the week, 100 %: 1 stations
        ");
        assert_eq!(view.programs[1].stations, [("station 9".to_owned(), "10 min".to_owned())]);
        assert!(
            view.law[0].contains("odd house number") && view.law[0].contains("Drip is exempt"),
            "{:?}",
            view.law
        );
        assert!(view.cautions.iter().any(|c| c.contains("Power off")) && view.off.is_empty());
    }

    #[test]
    fn the_walk_goes_in_the_order_boxes_are_keyed() {
        let bench = fixture::workbench();
        let stages = stages(&bench);
        let titles: Vec<&str> = stages.iter().map(|s| s.title).collect();
        assert_eq!(
            titles,
            ["Clock", "Starts", "Minutes", "Days", "Percentage", "Sensors and the rest", "Back to automatic"]
        );
        assert_eq!(stages[1].steps[0].text, "Program A: 02:00, 04:00");
        assert_eq!(stages[2].steps.len(), 6, "four zones, the ghost and the old program");
        assert!(stages[5].steps.iter().any(|s| s.id == "bypass"), "the box has a sensor port");
        let mut ids: Vec<&str> = stages.iter().flat_map(|s| s.steps.iter().map(|s| s.id.as_str())).collect();
        let all = ids.len();
        ids.sort_unstable();
        ids.dedup();
        assert_eq!(ids.len(), all, "every tick is its own");
    }

    #[test]
    fn what_is_set_for_the_whole_box_is_said_in_words() {
        let mut settings = Settings::clean(&upland_core::controller::twelve_stations());
        assert_eq!(whole_box(&settings), Vec::<String>::new());
        settings.delay_s = 90;
        settings.never_days[6] = true;
        settings.omit_hours = Some(upland_core::quantity::time::Hours {
            from: jiff::civil::time(10, 0, 0, 0),
            until: jiff::civil::time(18, 0, 0, 0),
        });
        settings.off_season =
            Some(upland_core::controller::schedule::YearSpan { from: (11, 1), until: (3, 31) });
        settings.rain_delay = Some((jiff::civil::date(2026, 7, 10), 3));
        insta::assert_snapshot!(whole_box(&settings).join("\n"), @r"
        Pause of 1 min 30 s between stations
        Nothing runs on Sun
        No start between 10:00 and 18:00
        Off-season 1 Nov to 31 Mar
        Rain delay of 3 days from 10 Jul 2026
        ");
        settings.delay_s = -5;
        assert_eq!(whole_box(&settings)[0], "Stations overlap by 5 s");
        settings.programs[0].repeat = Some(Repeat { until: jiff::civil::time(18, 0, 0, 0), pause_s: 1740 });
        let bench = fixture::workbench();
        let line = program_line(&bench, &settings, 0, &settings.programs[0]);
        assert_eq!(line.repeat, "again and again until 18:00, pause 29 min");
    }

    #[test]
    fn the_code_is_drawn_without_style() {
        let svg = qr("http://127.0.0.1:8080/sites/1/boxes/1").unwrap();
        assert!(svg.starts_with("<svg") && !svg.contains("style="), "{}", &svg[..80]);
        assert!(qr(&"x".repeat(4000)).is_err());
    }
}

//! The controller sheet of a whole controller on one page.

use super::ControllerPage;
use super::asked::AskedView;
use super::calendar::SHOWN_ONCE;
use super::settings_words::{extras, never_words, numbered, rest_of_controller};
use super::sheet_week::{SheetWeek, sensors, week};
use super::{ControllerHead, Tab};
use crate::page::dates::{DateFormat, typed_date, typed_times};
use crate::page::frame::Frame;
use crate::page::headline::headline;
use crate::page::law_words::{exempt_words, rule_words};
use crate::page::messages::{Language, Reader};
use crate::page::photographs::photographs;
use crate::page::qr::qr;
use crate::server::cache::{About, questions};
use crate::server::error::{PageError, page};
use crate::site::context::AtSite;
use crate::site::controller_snapshot::ControllerSnapshot;
use actix_web::{HttpRequest, HttpResponse, get, web};
use askama::Template;
use std::sync::Arc;
use upland_core::controller::ordinance::Applied;
use upland_core::controller::schedule::{
    Percentages, Program, Settings, StationSetting, days_in_words_by, months_in_words,
};
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::time::Seconds;
use upland_core::site::UnitSystem;
use upland_store::photos::PhotoOf;
use upland_store::settings::SettingsRecord;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(door_sheet);
}

/// The sheet is in English; what it shares with the programming steps holds no water, so that units are all one.
const READER: Reader = Reader { language: Language::English, units: UnitSystem::Metric };

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
    whole_controller: Vec<String>,
    law: Vec<String>,
    /// What a controller that works out its own minutes asks, zone by zone.
    asked: Option<AskedView>,
    week: Option<SheetWeek>,
    sensors: Vec<(String, String)>,
    /// Telephone numbers, each with its name.
    contacts: Vec<(String, String)>,
    cautions: Vec<String>,
}

fn program_line(
    snapshot: &ControllerSnapshot,
    settings: &Settings,
    index: usize,
    program: &Program,
) -> ProgramLine {
    let names = snapshot.names(settings);
    ProgramLine {
        name: program.name.clone(),
        days: days_in_words_by(program.days, typed_date),
        starts: typed_times(&program.starts),
        stations: program.run_times.iter().map(|(n, s)| (names.station(*n), s.to_string())).collect(),
        percent: match &settings.percentages {
            Percentages::Program(values) => {
                values.get(index).copied().unwrap_or(Percentage::HUNDRED).to_string()
            }
            _ => String::new(),
        },
        repeat: program.repeat.map_or(String::new(), |r| {
            format!("repeat until {}, interval {}", r.until.formatted("%H:%M"), r.pause)
        }),
    }
}

/// Which version a sheet shows.
fn version_words(snapshot: &ControllerSnapshot) -> String {
    let words = |record: &SettingsRecord| {
        let saved = record.saved_at.to_zoned(snapshot.installation.tz.clone());
        format!("version {} of {}, {}", record.version, saved.formatted("%-d %b %Y"), record.saved_by)
    };
    snapshot.saved().map_or_else(|| "nothing recorded yet".to_owned(), words)
}

fn percent_words(settings: &Settings) -> String {
    match &settings.percentages {
        Percentages::Controller(value) => format!("{value} for the whole controller"),
        Percentages::Program(_) => String::new(),
        Percentages::Month(values) => months_in_words(values),
    }
}

/// An ordinance as the site keeps to it.
fn law_line(applied: &Applied) -> String {
    let house = applied.house.words();
    let ordinance = &applied.ordinance;
    let rules: Vec<String> = ordinance.rules.iter().map(rule_words).collect();
    format!("{} (house number {house}): {} {}", ordinance.name, rules.join(" "), exempt_words(ordinance))
}

fn build(snapshot: &ControllerSnapshot) -> Result<SheetView, PageError> {
    let settings = snapshot.settings();
    let names = snapshot.names(&settings);
    let programs = settings.programs.iter().enumerate();
    let off: Vec<&str> = settings.programs.iter().filter(|p| !p.waters()).map(|p| p.name.as_str()).collect();
    let cycle = |(cycle, soak): (Seconds, Seconds)| format!("{cycle}, soak {soak}");
    let station = |(n, s): &(u16, StationSetting)| StationLine {
        name: names.station(*n),
        cycle: s.cycle_and_soak.map_or(String::new(), cycle),
        extras: extras(&READER, s).join(", "),
    };
    Ok(SheetView {
        place: snapshot.controller()?.place.clone(),
        site: snapshot.records.site.site.name.clone(),
        card: snapshot.installation.card.name.clone(),
        version: version_words(snapshot),
        reason: snapshot.saved().map_or(String::new(), |s| s.reason.clone()),
        window: names.windows(),
        programs: programs
            .filter(|(_, p)| p.waters())
            .map(|(i, p)| program_line(snapshot, &settings, i, p))
            .collect(),
        off: off.join(", "),
        percent: percent_words(&settings),
        stations: settings.stations.iter().map(station).collect(),
        whole_controller: never_words(&READER, &settings)
            .into_iter()
            .chain(rest_of_controller(&READER, &settings))
            .collect(),
        law: snapshot.installation.law.applied.iter().map(law_line).collect(),
        asked: AskedView::of(snapshot),
        week: week(snapshot, &settings, snapshot.today),
        sensors: sensors(snapshot),
        contacts: snapshot
            .records
            .site
            .site
            .card
            .contacts
            .iter()
            .map(|contact| (contact.name.clone(), contact.telephone.clone()))
            .collect(),
        cautions: numbered(&READER, "caution", 4),
    })
}

#[derive(Template)]
#[template(path = "chapters/programs/sheet.html")]
struct SheetPage {
    frame: Frame,
    head: ControllerHead,
    view: SheetView,
    qr: Arc<String>,
    address: String,
    /// The calendar's address, the one time that it is shown.
    calendar: Option<String>,
    /// When it got one.
    calendar_made: String,
    /// What the controller will do in the coming night, and what is wrong with it.
    photos: String,
    night: String,
}

#[get("/sites/{id}/controllers/{number}/sheet")]
async fn door_sheet(
    here: AtSite,
    request: HttpRequest,
    path: web::Path<(i64, u8)>,
) -> Result<HttpResponse, PageError> {
    let snapshot = here.controller_snapshot(path.1).await?;
    let address = here.state.address(&request, &snapshot.path());
    let code = address.clone();
    let qr = here.once(About::Itself, Code { address: address.clone() }, 10, move |_| qr(&code)).await?;
    let night = coming_night(&here, &snapshot).await?;
    let secret = here.who.session.remove_as::<String>(SHOWN_ONCE).and_then(Result::ok);
    let made = snapshot.site_controller()?.record.calendar_made_at;
    page(&SheetPage {
        frame: snapshot.frame(&here, "controller sheet")?,
        head: snapshot.head(Tab::Sheet)?,
        view: build(&snapshot)?,
        qr,
        calendar: secret.map(|secret| here.state.address(&request, &format!("/calendar/{secret}.ics"))),
        calendar_made: made
            .map_or(String::new(), |made| made.to_zoned(snapshot.records.tz.clone()).formatted("%-d %b %Y")),
        address,
        night,
        photos: photographs(&here, PhotoOf::Controller(snapshot.site_controller()?.record.id)).await?,
    })
}

questions! {
    /// The address of a controller as a code to photograph.
    facts Code { address: String } -> String;
    words NightSentence { controller: u8 } -> String;
}

/// The sentence of the coming night, the same as on Today.
async fn coming_night(here: &AtSite, snapshot: &ControllerSnapshot) -> Result<String, PageError> {
    let (site, number) = (here.snapshot_with_account(None).await?, snapshot.controller()?.number);
    let question = NightSentence { controller: number };
    let sentence = here.once(here.about_moment(site.moment), question, 1, move |_| {
        let night = site.night(number);
        let day = night.date.formatted("%A, %-d %B");
        Ok(format!("{day}: {}", headline(&night, &site.tz)))
    });
    Ok(sentence.await?.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn whole(settings: &Settings) -> Vec<String> {
        never_words(&READER, settings).into_iter().chain(rest_of_controller(&READER, settings)).collect()
    }
    use crate::fixture;
    use upland_core::controller::schedule::Repeat;

    #[test]
    fn the_whole_controller_stands_on_its_sheet() {
        let snapshot = fixture::controller_snapshot();
        let view = build(&snapshot).unwrap();
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
            view.law[0].contains("house number odd") && view.law[0].contains("Drip is exempt"),
            "{:?}",
            view.law
        );
        assert!(view.cautions.iter().any(|c| c.contains("Power off")) && view.off.is_empty());
    }

    #[test]
    fn what_is_set_for_the_whole_controller_is_said_in_words() {
        let mut settings = Settings::clean(&upland_core::controller::twelve_stations());
        assert_eq!(whole(&settings), Vec::<String>::new());
        settings.delay = Seconds::from_s(90);
        settings.never_days[6] = true;
        settings.omit_hours = Some(upland_core::quantity::time::Hours {
            from: jiff::civil::time(10, 0, 0, 0),
            until: jiff::civil::time(18, 0, 0, 0),
        });
        settings.off_season =
            Some(upland_core::controller::schedule::YearSpan { from: (11, 1), until: (3, 31) });
        settings.rain_delay = Some((jiff::civil::date(2026, 7, 10), 3));
        insta::assert_snapshot!(whole(&settings).join("\n"), @r"
        No watering on Sun
        Station delay 1 min 30 s
        No start between 10:00 and 18:00
        Off-season 1 November to 31 March
        Rain delay of 3 days from 10 July 2026
        ");
        settings.delay = Seconds::from_s(-5);
        assert_eq!(whole(&settings)[1], "Stations overlap by 5 s");
        settings.programs[0].repeat =
            Some(Repeat { until: jiff::civil::time(18, 0, 0, 0), pause: Seconds::from_s(1740) });
        let snapshot = fixture::controller_snapshot();
        let line = program_line(&snapshot, &settings, 0, &settings.programs[0]);
        assert_eq!(line.repeat, "repeat until 18:00, interval 29 min");
    }

    #[test]
    fn the_code_is_drawn_without_style() {
        let svg = qr("http://127.0.0.1:8080/sites/1/controllers/1").unwrap();
        assert!(svg.starts_with("<svg") && !svg.contains("style="), "{}", &svg[..80]);
        assert!(qr(&"x".repeat(4000)).is_err());
    }
}

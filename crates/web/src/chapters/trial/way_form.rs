//! A way of one's own: described on a form or brought as a file, kept under its name.

use super::results::{common, own_ways};
use super::saved::name;
use super::words;
use crate::page::dates::DateFormat;
use crate::page::forms::out_of_bounds;
use crate::page::frame::{Chapter, Frame};
use crate::page::strategy_words::strategy;
use crate::page::take_back::TakeBack;
use crate::page::units::{PERCENT, SIGNED_PERCENT, Shown, Units};
use crate::server::address;
use crate::server::download::attachment;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::request_locale::habit;
use crate::server::request_locale::off_loop;
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::civil::Date;
use upland_core::account::site_account::AccountInputs;
use upland_core::advice::budget::RainRule;
use upland_core::advice::planner::Strategy;
use upland_core::codes::Coded;
use upland_core::controller::schedule::Days;
use upland_core::ground::planting::WeanOff;
use upland_core::quantity::bounds::{self, Bound};
use upland_core::quantity::ratio::Share;
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::time::Hours;
use upland_core::quantity::units::Millimetres;
use upland_core::sensors::Release;
use upland_core::trial::{
    Change, PercentageRule, Ramps, Refusal, Schedule, SensorChange, Spot, TrialWay, apply, variants,
};
use upland_formats::typed;
use upland_formats::way_file;
use upland_store::Subject;
use upland_store::settings::SettingsRecord;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(form).service(save).service(file).service(take_back).service(let_stand);
}

/// One choice of a list: its code, its words, whether it is chosen.
type Option3 = (String, String, bool);

/// What may become of a sensor, by code.
const CHANGES: [(&str, &str); 8] = [
    ("", "as installed"),
    ("absent", "absent"),
    ("threshold", "another rain threshold"),
    ("dries", "dries at a percent of ET0"),
    ("days", "prevents watering for a number of dry days"),
    ("eave", "installed under an eave"),
    ("shade", "installed in shade"),
    ("bypass", "on bypass between two days"),
];

/// A sensor as the form shows it.
struct SensorLine {
    index: usize,
    name: String,
    changes: Vec<Option3>,
    value: String,
    from: String,
    to: String,
}

#[derive(Template)]
#[template(path = "chapters/trial/way.html")]
struct WayPage {
    frame: Frame,
    site_id: i64,
    errors: Vec<String>,
    name: String,
    schedules: Vec<Option3>,
    percentages: Vec<Option3>,
    trim: String,
    rains: Vec<Option3>,
    days: Vec<Option3>,
    sensors: Vec<SensorLine>,
    depth_unit: &'static str,
    window_from: String,
    window_until: String,
    plantings: Vec<Option3>,
    wean_from: String,
    wean_weeks: String,
    wean_start: String,
    file: String,
}

fn options<'a>(all: impl IntoIterator<Item = (&'a str, String)>, chosen: &str) -> Vec<Option3> {
    all.into_iter().map(|(code, words)| (code.to_owned(), words, code == chosen)).collect()
}

/// Versions of the controllers that may be tried, each with its code.
async fn versions(here: &AtSite) -> Result<Vec<(String, String, u8, SettingsRecord)>, PageError> {
    let mut all = Vec::new();
    for own in &here.records.controllers {
        let snapshot = here.controller_snapshot(own.number()).await?;
        for record in here.settings_history(&snapshot).await?.iter() {
            let code = format!("controller{}v{}", own.number(), record.version);
            let on = record.saved_at.to_zoned(here.records.tz.clone()).formatted("%-d %b %Y");
            let words =
                format!("controller {}, version {} of {on}: {}", own.number(), record.version, record.reason);
            all.push((code, words, own.number(), record.clone()));
        }
    }
    Ok(all)
}

fn schedules(versions: &[(String, String, u8, SettingsRecord)], chosen: &str) -> Vec<Option3> {
    let fixed = [
        ("as_set", "settings as they are".to_owned()),
        ("as_advised", "watering as Today advises".to_owned()),
        ("daily_balance", "a controller that computes itself".to_owned()),
    ];
    let schools = Strategy::ALL.into_iter().filter(|s| *s != Strategy::SoilBalance);
    let schools =
        schools.map(|s| (s.code(), format!("planned for the year: {}", strategy(s).0.to_lowercase())));
    let versions = versions.iter().map(|(code, words, ..)| (code.as_str(), words.clone()));
    options(fixed.into_iter().chain(schools).chain(versions), chosen)
}

async fn draw(
    here: &AtSite,
    status: StatusCode,
    fields: Option<&Fields>,
    errors: Vec<String>,
) -> Result<HttpResponse, PageError> {
    let text = |name: &str| fields.map_or(String::new(), |f| f.get(name).to_owned());
    let versions = versions(here).await?;
    let snapshot = here.snapshot(None).await?;
    let rules = [
        ("as_set", "as they are set".to_owned()),
        ("left", "100 % all year".to_owned()),
        ("monthly", "twelve percentages from the climate".to_owned()),
        ("weekly", "weekly percentage, set manually".to_owned()),
        ("et_sensor", "an ET sensor's, every night".to_owned()),
    ];
    let rains = [
        ("", "as the controller has it".to_owned()),
        (RainRule::LeftToHold.code(), "left to the sensors".to_owned()),
        (RainRule::Counted.code(), "counted; it prevents no watering".to_owned()),
    ];
    let plantings = [
        ("as_set", "as each zone has them".to_owned()),
        ("none", "none".to_owned()),
        ("wean_off", "every zone is weaned off".to_owned()),
    ];
    let sensor = |(index, (_, sensor)): (usize, (u8, String))| SensorLine {
        index,
        name: sensor,
        changes: options(
            CHANGES.map(|(code, words)| (code, words.to_owned())),
            &text(&format!("s{index}-change")),
        ),
        value: text(&format!("s{index}-value")),
        from: text(&format!("s{index}-from")),
        to: text(&format!("s{index}-to")),
    };
    let page = WayPage {
        frame: Frame::of_site(here, "A watering option", Chapter::Trial)?,
        site_id: here.id(),
        errors,
        name: text("name"),
        schedules: schedules(&versions, &text("schedule")),
        percentages: options(rules, &text("percentages")),
        trim: text("trim"),
        rains: options(rains, &text("rain")),
        days: options(DAYS.map(|(code, words)| (code, words.to_owned())), &text("days")),
        sensors: sensors(&snapshot.inputs).into_iter().enumerate().map(sensor).collect(),
        depth_unit: Units::of(here.records.units()).depth.unit,
        window_from: text("window_from"),
        window_until: text("window_until"),
        plantings: options(plantings, &text("planting")),
        wean_from: text("wean_from"),
        wean_weeks: text("wean_weeks"),
        wean_start: text("wean_start"),
        file: text("file"),
    };
    page_with(status, &page)
}

/// Other days, by code.
const DAYS: [(&str, &str); 10] = [
    ("", "as they are"),
    ("1", "every day"),
    ("2", "every 2nd day"),
    ("3", "every 3rd day"),
    ("4", "every 4th day"),
    ("5", "every 5th day"),
    ("6", "every 6th day"),
    ("7", "every 7th day"),
    ("odd", "odd dates"),
    ("even", "even dates"),
];

/// Other days from their code. A rhythm is counted from the first day of a trial, whatever it was begun on.
fn days_of(code: &str) -> Option<Days> {
    let first = Date::constant(2026, 1, 1);
    match code {
        "odd" => Some(Days::Odd),
        "even" => Some(Days::Even),
        interval => {
            Some(Days::EveryNth { interval: interval.parse().ok().filter(|n| (1..=7).contains(n))?, first })
        }
    }
}

/// Every sensor of the site that holds or scales watering: its controller and name.
fn sensors(facts: &AccountInputs) -> Vec<(u8, String)> {
    variants(facts).into_iter().map(|own| (own.controller_number, own.name)).collect()
}

#[get("/sites/{id}/trial/ways/new")]
async fn form(EditorAt(here): EditorAt) -> Result<HttpResponse, PageError> {
    draw(&here, StatusCode::OK, None, Vec::new()).await
}

/// Reads the form and says what is wrong with it.
struct Taking<'a> {
    fields: &'a Fields,
    today: Date,
    errors: Vec<String>,
}

impl Taking<'_> {
    fn number(&mut self, name: &str, bound: &Bound, shown: Shown) -> f64 {
        let text = self.fields.get(name);
        if text.is_empty() {
            self.errors.push(format!("{}: a number is missing.", bound.name));
            return bound.min;
        }
        match shown.read(text) {
            Ok(value) if bound.check(value).is_ok() => value,
            Ok(_) => {
                self.errors.push(out_of_bounds(shown, bound));
                bound.min
            }
            Err(refusal) => {
                self.errors.push(format!("{}: {refusal}", bound.name));
                bound.min
            }
        }
    }

    fn date(&mut self, name: &str, what: &str) -> Date {
        self.fields.date(name, self.today).unwrap_or_else(|refusal| {
            self.errors.push(format!("{what}: {refusal}"));
            Date::MIN
        })
    }

    fn schedule(&mut self, versions: &[(String, String, u8, SettingsRecord)]) -> Schedule {
        let code = self.fields.get("schedule");
        match code {
            "as_set" | "" => return Schedule::AsSet,
            "as_advised" => return Schedule::AsAdvised,
            "daily_balance" => return Schedule::DailyBalance,
            _ => {}
        }
        if let Some(school) = Strategy::from_code(code) {
            return Schedule::School(school);
        }
        match versions.iter().find(|(own, ..)| own == code) {
            Some((_, _, number, record)) => Schedule::Settings(vec![(*number, record.settings.clone())]),
            None => {
                self.errors.push("Choose the settings from the list.".into());
                Schedule::AsSet
            }
        }
    }

    fn percentages(&mut self) -> PercentageRule {
        match self.fields.get("percentages") {
            "left" => PercentageRule::Left,
            "monthly" => PercentageRule::Monthly,
            "weekly" => PercentageRule::Weekly,
            "et_sensor" if self.fields.get("trim").trim().is_empty() => {
                PercentageRule::EtSensor { trim_pct: 0.0 }
            }
            "et_sensor" => {
                PercentageRule::EtSensor { trim_pct: self.number("trim", &bounds::TRIM, SIGNED_PERCENT) }
            }
            _ => PercentageRule::AsSet,
        }
    }

    fn sensor(
        &mut self,
        index: usize,
        controller_number: u8,
        name: String,
        depth: Shown,
    ) -> Option<SensorChange> {
        let (value, from, to) = (format!("s{index}-value"), format!("s{index}-from"), format!("s{index}-to"));
        let change = match self.fields.get(&format!("s{index}-change")) {
            "absent" => Change::Absent,
            "eave" => Change::Misplaced(Spot::UnderEave),
            "shade" => Change::Misplaced(Spot::InShade),
            "threshold" => {
                let mm = self.number(&value, &bounds::RAIN_THRESHOLD, depth);
                Change::RainThreshold(Millimetres::from_mm(mm))
            }
            "dries" => {
                Change::Release(Release::DriesOut { vent: self.number(&value, &bounds::VENT, PERCENT) })
            }
            "days" => {
                let days = self.number(&value, &bounds::HOLD_DAYS, Shown::of("days", 1.0));
                #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded")]
                Change::Release(Release::Days(days.round() as u8))
            }
            "bypass" => {
                let from = self.date(&from, &format!("{name}, first day of the bypass"));
                let to = self.date(&to, &format!("{name}, last day of the bypass"));
                if to < from && self.errors.is_empty() {
                    self.errors.push(format!("{name}: the last day of the bypass lies before the first."));
                }
                Change::Bypassed(DateSpan::new(from, to))
            }
            _ => return None,
        };
        Some(SensorChange { controller_number, name, change })
    }

    fn window(&mut self) -> Option<Hours> {
        let (from, until) = (self.fields.get("window_from"), self.fields.get("window_until"));
        if from.is_empty() && until.is_empty() {
            return None;
        }
        let time = |text: &str| typed::time_of_day(text, habit());
        match (time(from), time(until)) {
            (Ok(from), Ok(until)) if from != until => Some(Hours { from, until }),
            (Err(refusal), _) | (_, Err(refusal)) if !from.is_empty() && !until.is_empty() => {
                self.errors.push(refusal.to_string());
                None
            }
            _ => {
                self.errors.push("A window has a begin and another end, both times of day.".into());
                None
            }
        }
    }

    fn planting(&mut self) -> Ramps {
        match self.fields.get("planting") {
            "none" => Ramps::None,
            "wean_off" => {
                let weeks = self.number("wean_weeks", &bounds::WEAN_OFF_WEEKS, Shown::of("weeks", 1.0));
                #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded")]
                Ramps::WeanOff(WeanOff {
                    from: self.date("wean_from", "First day of the wean-off"),
                    weeks: weeks.round() as u8,
                    start: Share::from_percent(self.number(
                        "wean_start",
                        &bounds::WEAN_OFF_START,
                        SIGNED_PERCENT,
                    )),
                })
            }
            _ => Ramps::AsSet,
        }
    }
}

/// Keeps a way, after it was seen that it can be tried.
#[post("/sites/{id}/trial/ways")]
async fn save(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let snapshot = here.snapshot(None).await?;
    let mut taking = Taking { fields: &fields, today: here.today(), errors: Vec::new() };
    let brought = fields.get("file").trim();
    let way = if brought.is_empty() {
        let versions = versions(&here).await?;
        let name = name(fields.get("name")).unwrap_or_else(|error| {
            taking.errors.push(error);
            String::new()
        });
        let depth = Units::of(here.records.units()).depth;
        let all = sensors(&snapshot.inputs).into_iter().enumerate();
        TrialWay {
            name,
            schedule: taking.schedule(&versions),
            percentages: taking.percentages(),
            without_sensors: false,
            sensors: all.filter_map(|(i, own)| taking.sensor(i, own.0, own.1, depth)).collect(),
            rain: RainRule::from_code(fields.get("rain")),
            days: days_of(fields.get("days")),
            window: taking.window(),
            planting: taking.planting(),
        }
    } else {
        match way_file::read(brought.as_bytes(), &snapshot.inputs) {
            Ok(way) => way,
            Err(problems) => {
                taking.errors.extend(problems.iter().map(|p| format!("The file: {p}")));
                TrialWay::default()
            }
        }
    };
    let mut errors = taking.errors;
    if common().iter().any(|own| own.name == way.name) {
        errors
            .push(format!("\"{}\" is the name of an option that every site has; choose another.", way.name));
    }
    if errors.is_empty() {
        errors = refusals(&here, &way).await?;
    }
    if !errors.is_empty() {
        return draw(&here, StatusCode::UNPROCESSABLE_ENTITY, Some(&fields), errors).await;
    }
    let (kept, name) = (way_file::to_value(&way), way.name.clone());
    let Some(id) = here.change(move |change| change.save_trial_way(&way.name, &kept)).await? else {
        let errors = vec![format!("There is an option called \"{name}\" already; choose another name.")];
        return draw(&here, StatusCode::CONFLICT, Some(&fields), errors).await;
    };
    let root = address::site_root(here.id());
    let undo = format!("{root}/trial/ways/{id}/undo");
    flash(&here.who.session, format!("{name} is tried beside the others."), Some(undo))?;
    Ok(see_other(&format!("{root}/trial?way={}#h-way", address::encoded(&name))))
}

/// What keeps a way from being tried at the site as it stands, on the last recorded day.
async fn refusals(here: &AtSite, way: &TrialWay) -> Result<Vec<String>, PageError> {
    let snapshot = here.snapshot(None).await?;
    let last = here.records.last_recorded().unwrap_or_else(|| here.moment(None).date);
    let way = way.clone();
    let found = off_loop(move || apply(&way, &snapshot.inputs, DateSpan::new(last, last)).err()).await?;
    let refusals = found.unwrap_or_default();
    Ok(refusals
        .iter()
        .filter(|r| **r != Refusal::NoWeather)
        .map(|r| format!("It cannot be tried: {}.", words::refusal(r)))
        .collect())
}

#[get("/sites/{id}/trial/ways/{way}.json")]
async fn file(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let all = own_ways(&here).await?;
    let own = all.iter().find(|own| own.record.id == path.1).ok_or(PageError::NotFound)?;
    let body = match &own.way {
        Ok(way) => way_file::write(way),
        Err(_) => own.record.way.to_string(),
    };
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .insert_header(attachment(&own.record.name, "json"))
        .body(body))
}

fn taking_back(here: &AtSite, id: i64) -> TakeBack {
    let root = address::site_root(here.id());
    TakeBack {
        subject: Subject::TrialWay,
        under: here.id(),
        id,
        address: format!("{root}/trial/ways/{id}"),
        list: format!("{root}/trial#h-own"),
        said: ("The option is removed from the list. Nothing of it is deleted.", "The option is restored."),
    }
}

#[post("/sites/{id}/trial/ways/{way}/undo")]
async fn take_back(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    taking_back(&here, path.1).set(&here, true).await
}

#[post("/sites/{id}/trial/ways/{way}/redo")]
async fn let_stand(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64)>,
    _fields: Fields,
) -> Result<HttpResponse, PageError> {
    taking_back(&here, path.1).set(&here, false).await
}

#[cfg(test)]
mod tests;

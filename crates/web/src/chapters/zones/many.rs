//! Several zones at once: a table of what matters most of each, typed or pasted from a spreadsheet, saved together.

use super::survey::{self, Stations};
use crate::page::forms::FieldError;
use crate::page::frame::{Chapter, Frame};
use crate::page::quantities::counted;
use crate::page::units::Units;
use crate::server::address;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, flash};
use crate::site::context::{AtSite, EditorAt};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::ground::application::HeadType;
use upland_core::ground::plant::{PlantKind, Sun};
use upland_core::ground::soil::Texture;
use upland_core::site::{StationId, Zone};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(table).service(save);
}

/// Rows of a new table, and most rows that are taken at once.
const ROWS: usize = 5;
const MOST_ROWS: usize = 60;
/// How alike a word must be to one of a list to stand for it (Jaro-Winkler).
const ALIKE: f64 = 0.88;

/// A choice of a list, and whether it is chosen.
struct Choice {
    code: &'static str,
    label: &'static str,
    on: bool,
}

/// A cell of the table.
struct Cell {
    name: String,
    label: &'static str,
    value: String,
    /// Empty where it is typed.
    choices: Vec<Choice>,
    error: String,
}

#[derive(Template)]
#[template(path = "chapters/zones/many.html")]
struct ManyPage {
    frame: Frame,
    site_id: i64,
    /// Number and place of each controller, and whether the zones are of it.
    controllers: Vec<(u8, String, bool)>,
    heads: Vec<String>,
    rows: Vec<Vec<Cell>>,
    wrong: usize,
    paste: String,
    /// What was not understood of what was pasted.
    notes: Vec<String>,
}

/// The fields of a row, as the survey names them, each with its head and how a spreadsheet may call its column.
const COLUMNS: [(&str, &str, &[&str]); 7] = [
    ("number", "Station", &["station", "number", "zone number", "no", "#"]),
    ("name", "Name", &["name", "zone", "area name", "location"]),
    ("plant", "Plants", &["plants", "plant", "planting", "vegetation"]),
    ("head", "Heads", &["heads", "head", "sprinklers", "emitters"]),
    ("soil", "Soil", &["soil", "soil texture", "texture"]),
    ("sun", "Sun", &["sun", "exposure", "light"]),
    ("area", "Area", &["area", "size"]),
];

type Row = BTreeMap<String, String>;

fn choices<T: Coded>(label: fn(T) -> &'static str, value: &str) -> Vec<Choice> {
    let of = |(own, code): &(T, &'static str)| Choice { code, label: label(*own), on: *code == value };
    T::TABLE.iter().map(of).collect()
}

fn of_field(name: &str, value: &str) -> Vec<Choice> {
    match name {
        "plant" => choices::<PlantKind>(|own| own.defaults().label, value),
        "head" => choices::<HeadType>(HeadType::label, value),
        "soil" => choices::<Texture>(Texture::label, value),
        "sun" => choices::<Sun>(Sun::label, value),
        _ => Vec::new(),
    }
}

/// The code of the list that a word stands for: its code, its label, the one label that begins with it or holds it, or the
/// one that is most like it.
fn code_of(name: &str, word: &str) -> Option<&'static str> {
    let all = of_field(name, "");
    let word = word.trim().to_lowercase();
    let is_same = |own: &&Choice| {
        let label = own.label.to_lowercase();
        // "full sun" is the label "full sun, 6 h or more" without what explains it.
        let short = label.split([',', '(']).next().unwrap_or_default().trim();
        own.code.replace('_', " ") == word.replace('_', " ") || label == word || short == word
    };
    if let Some(found) = all.iter().find(is_same) {
        return Some(found.code);
    }
    let part: Vec<&Choice> =
        all.iter().filter(|own| word.len() >= 3 && own.label.to_lowercase().contains(&word)).collect();
    if let [only] = part.as_slice() {
        return Some(only.code);
    }
    let near = |own: &Choice| strsim::jaro_winkler(&own.label.to_lowercase(), &word);
    let best = all.iter().max_by(|a, b| near(a).total_cmp(&near(b)))?;
    (near(best) >= ALIKE).then_some(best.code)
}

/// Cells of a line that was pasted: by tabs, else by semicolons, else by commas.
fn cells(line: &str) -> Vec<String> {
    let by = ['\t', ';', ','].into_iter().find(|by| line.contains(*by)).unwrap_or('\t');
    line.split(by).map(|cell| cell.trim().trim_matches('"').to_owned()).collect()
}

/// Which field each column is, where the first line says so.
fn headed(first: &[String]) -> Option<Vec<Option<&'static str>>> {
    let column = |cell: &String| {
        let word = cell.to_lowercase();
        COLUMNS.iter().find(|(_, _, words)| words.contains(&word.as_str())).map(|(name, _, _)| *name)
    };
    let found: Vec<Option<&'static str>> = first.iter().map(column).collect();
    (found.iter().flatten().count() >= 2 && found.contains(&Some("name"))).then_some(found)
}

/// Rows from pasted lines, and what of them was not understood.
fn pasted(text: &str, blank: impl Fn(usize) -> Row) -> (Vec<Row>, Vec<String>) {
    let lines: Vec<Vec<String>> = text.lines().filter(|line| !line.trim().is_empty()).map(cells).collect();
    let head = lines.first().and_then(|first| headed(first));
    // Without a line of heads the columns are those of the table; a first cell that is no number is a name.
    let numbered =
        lines.first().and_then(|first| first.first()).is_some_and(|cell| cell.parse::<u16>().is_ok());
    let usual = || COLUMNS.iter().skip(usize::from(!numbered)).map(|(name, _, _)| Some(*name)).collect();
    let body = lines.iter().skip(usize::from(head.is_some()));
    let columns: Vec<Option<&'static str>> = head.unwrap_or_else(usual);
    let (mut rows, mut notes) = (Vec::new(), Vec::new());
    for (place, line) in body.take(MOST_ROWS).enumerate() {
        let mut row = blank(place);
        for (name, cell) in columns.iter().zip(line).filter_map(|(name, cell)| Some((*name.as_ref()?, cell)))
        {
            if cell.is_empty() {
                continue;
            }
            let value = if of_field(name, "").is_empty() { Some(cell.as_str()) } else { code_of(name, cell) };
            match value {
                Some(value) => {
                    row.insert(name.to_owned(), value.to_owned());
                }
                None => notes.push(format!(
                    "Line {}: \"{cell}\" is none of the list; {} is taken. Choose another where it is wrong.",
                    place + 1,
                    of_field(name, row.get(name).map_or("", String::as_str))
                        .iter()
                        .find(|own| own.on)
                        .map_or("the usual", |own| own.label)
                )),
            }
        }
        rows.push(row);
    }
    if lines.len() > MOST_ROWS + 1 {
        notes.push(format!("At most {MOST_ROWS} zones at once; paste the others after these are saved."));
    }
    (rows, notes)
}

/// The controller that the zones are of.
fn controller(here: &AtSite, asked: &str) -> u8 {
    let known = here.records.controllers.iter().map(crate::site::records::SiteController::number);
    let first = known.clone().next().unwrap_or(1);
    asked.parse().ok().filter(|number| known.clone().any(|own| own == *number)).unwrap_or(first)
}

/// A row that nobody has typed in, on the free station of its place.
fn blank(here: &AtSite, controller: u8, place: usize) -> Row {
    let taken = |number: u16| {
        let id = StationId::new(controller, number);
        here.records.zones.iter().any(|zone| zone.zone.station_id() == id)
    };
    let free = (1..=250).filter(|number| !taken(*number)).nth(place).unwrap_or(250);
    survey::blank(controller, free)
}

/// The table as it was sent.
fn sent(fields: &Fields) -> Vec<Row> {
    let mut rows: BTreeMap<usize, Row> = BTreeMap::new();
    for (name, value) in &fields.0 {
        let Some((place, field)) = name.strip_prefix('r').and_then(|rest| rest.split_once('_')) else {
            continue;
        };
        if let Ok(place) = place.parse::<usize>()
            && place < MOST_ROWS
        {
            rows.entry(place).or_default().insert(field.to_owned(), value.clone());
        }
    }
    rows.into_values().collect()
}

/// What is wrong with a row, or the zone that it describes; `None` where nobody named it.
type Read = Option<Result<Zone, Vec<FieldError>>>;

fn read(here: &AtSite, controller: u8, rows: &[Row]) -> Vec<Read> {
    let stations = Stations::of(&here.records, None);
    let mut seen: Vec<String> = Vec::new();
    let one = |row: &Row| {
        let text = |name: &str| row.get(name).map_or("", |value| value.trim());
        if text("name").is_empty() && text("area").is_empty() {
            return None;
        }
        let mut whole = survey::blank(controller, 0);
        whole.extend(row.clone());
        whole.insert("controller".into(), controller.to_string());
        let read = survey::read(&Fields(whole), here.records.units(), None, &stations, here.today());
        let twice = seen.iter().any(|number| number == text("number"));
        seen.push(text("number").to_owned());
        Some(match read {
            Ok(_) if twice => Err(vec![("number", "Another row has this station already.".into())]),
            read => read,
        })
    };
    rows.iter().map(one).collect()
}

fn draw(
    here: &AtSite,
    status: StatusCode,
    controller: u8,
    rows: &[Row],
    read: &[Read],
    paste: (String, Vec<String>),
) -> Result<HttpResponse, PageError> {
    let units = Units::of(here.records.units());
    let cell = |place: usize, (name, label, _): &(&'static str, &'static str, &[&str])| {
        let value = rows.get(place).and_then(|row| row.get(*name)).cloned().unwrap_or_default();
        let errors = read.get(place).and_then(|own| own.as_ref()?.as_ref().err());
        let error = errors.and_then(|all| all.iter().find(|(field, _)| field == name));
        Cell {
            name: format!("r{place}_{name}"),
            label,
            choices: of_field(name, &value),
            value,
            error: error.map_or(String::new(), |(_, message)| message.clone()),
        }
    };
    let head = |(name, label, _): &(&str, &'static str, &[&str])| {
        if *name == "area" { format!("{label}, {}", units.area.unit) } else { (*label).to_owned() }
    };
    page_with(
        status,
        &ManyPage {
            frame: Frame::of_site(here, "Several zones", Chapter::Zones)?,
            site_id: here.id(),
            controllers: here
                .records
                .controller_names()
                .into_iter()
                .map(|(number, place)| (number, place, number == controller))
                .collect(),
            heads: COLUMNS.iter().map(head).collect(),
            rows: (0..rows.len()).map(|place| COLUMNS.iter().map(|own| cell(place, own)).collect()).collect(),
            wrong: read.iter().filter(|own| matches!(own, Some(Err(_)))).count(),
            paste: paste.0,
            notes: paste.1,
        },
    )
}

#[derive(serde::Deserialize, Default)]
struct Query {
    rows: Option<usize>,
    controller: Option<String>,
}

#[get("/sites/{id}/zones/many")]
async fn table(EditorAt(here): EditorAt, query: web::Query<Query>) -> Result<HttpResponse, PageError> {
    let controller = controller(&here, query.controller.as_deref().unwrap_or_default());
    let count = query.rows.unwrap_or(ROWS).clamp(1, MOST_ROWS);
    let rows: Vec<Row> = (0..count).map(|place| blank(&here, controller, place)).collect();
    draw(&here, StatusCode::OK, controller, &rows, &[], Default::default())
}

/// Fills the table from what was pasted, adds rows to it, or makes every zone that has a name, all or none.
#[post("/sites/{id}/zones/many")]
async fn save(EditorAt(here): EditorAt, fields: Fields) -> Result<HttpResponse, PageError> {
    let controller = controller(&here, fields.get("controller"));
    if fields.get("do") == "paste" {
        let text = fields.get("paste").to_owned();
        let (rows, notes) = pasted(&text, |place| blank(&here, controller, place));
        let rows = if rows.is_empty() { sent(&fields) } else { rows };
        return draw(&here, StatusCode::OK, controller, &rows, &[], (text, notes));
    }
    let mut rows = sent(&fields);
    if fields.get("do") == "more" {
        let (from, to) = (rows.len(), (rows.len() + ROWS).min(MOST_ROWS));
        rows.extend((from..to).map(|place| blank(&here, controller, place)));
        let paste = (fields.get("paste").to_owned(), Vec::new());
        return draw(&here, StatusCode::OK, controller, &rows, &[], paste);
    }
    let read = read(&here, controller, &rows);
    let none = read.iter().all(Option::is_none);
    if none || read.iter().any(|own| matches!(own, Some(Err(_)))) {
        let notes = if none { vec!["Give at least one zone a name.".to_owned()] } else { Vec::new() };
        let paste = (fields.get("paste").to_owned(), notes);
        return draw(&here, StatusCode::UNPROCESSABLE_ENTITY, controller, &rows, &read, paste);
    }
    let zones: Vec<Zone> = read.into_iter().flatten().filter_map(Result::ok).collect();
    let text = format!("{} made. Each can be measured or removed on its page.", counted(zones.len(), "zone"));
    here.change(move |change| {
        for zone in &zones {
            change.create_zone(zone)?;
        }
        Ok(())
    })
    .await?;
    flash(&here.who.session, text, None)?;
    Ok(see_other(&address::zones(here.id())))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn usual(place: usize) -> Row {
        survey::blank(1, u16::try_from(place + 1).unwrap())
    }

    fn value<'a>(row: &'a Row, name: &str) -> &'a str {
        row.get(name).map_or("", String::as_str)
    }

    #[test]
    fn a_table_with_heads_is_read_by_them_in_any_order() {
        let text = "Zone\tSun\tPlants\tStation\tIrrigated by\nFront lawn\tfull sun\tcool-season turf\t4\tspray\n\nRoses\tpart shade\tunknown weeds\t7\t\n";
        let (rows, notes) = pasted(text, usual);
        assert_eq!(rows.len(), 2);
        assert_eq!((value(&rows[0], "number"), value(&rows[0], "name")), ("4", "Front lawn"));
        assert_eq!(value(&rows[0], "plant"), PlantKind::CoolSeasonTurf.code());
        assert_eq!(value(&rows[1], "number"), "7");
        assert_eq!(notes.len(), 1, "{notes:?}");
        assert!(notes[0].contains("\"unknown weeds\" is none of the list"), "{notes:?}");
    }

    #[test]
    fn a_table_without_heads_begins_with_a_number_or_a_name() {
        let (numbered, _) = pasted("3; Bank; ; drip\n5; Hedge", usual);
        assert_eq!((value(&numbered[0], "number"), value(&numbered[0], "name")), ("3", "Bank"));
        assert_eq!(value(&numbered[0], "head"), code_of("head", "drip").unwrap());
        assert_eq!(value(&numbered[1], "number"), "5");
        let (named, notes) = pasted("Bank\nHedge", usual);
        assert_eq!((value(&named[0], "number"), value(&named[1], "number")), ("1", "2"));
        assert!(notes.is_empty() && value(&named[1], "name") == "Hedge");
        assert_eq!(pasted("", usual), (vec![], vec![]));
    }

    #[test]
    fn a_word_stands_for_the_one_that_it_means_and_for_none_when_it_may_be_two() {
        assert_eq!(
            code_of("soil", "Clay"),
            Some(Texture::Clay.code()),
            "its own name before those that hold it"
        );
        assert_eq!(code_of("soil", "sandy lome"), code_of("soil", "sandy loam"));
        assert_eq!(code_of("soil", "concrete"), None);
        for (name, all) in [("plant", of_field("plant", "")), ("sun", of_field("sun", ""))] {
            for own in all {
                assert_eq!(code_of(name, own.label), Some(own.code));
                assert_eq!(code_of(name, &own.label.to_uppercase()), Some(own.code));
            }
        }
    }

    #[test]
    fn rows_come_back_in_the_order_of_the_table() {
        let typed =
            [("r10_name", "K"), ("r2_name", "C"), ("r2_number", "3"), ("rx_name", "no"), ("paste", "")];
        let fields = Fields(typed.map(|(name, value)| (name.to_owned(), value.to_owned())).into());
        let rows = sent(&fields);
        assert_eq!(rows.iter().map(|row| value(row, "name")).collect::<Vec<_>>(), ["C", "K"]);
    }
}

//! The words of every page and command: the trade's terms, and the reader's own units, clock and dates.

use super::http::{Answer, Person};
use super::pages::PAGES;
use super::server::{BINARY, Server};
use regex::Regex;
use std::process::Command;

/// What no page says, with what it says instead. Each is an expression over lower-case text.
const BANNED: [(&str, &str); 41] = [
    (r"\b(the|a|this|each|every|of) box(es)?\b", "controller"),
    (r"\bforetold\b", "forecast"),
    (r"\basks? for a hand\b", "needs attention"),
    (r"\bwhom\b", "name the thing"),
    (r"\b(hung|hangs?) (it|here|there|on|by)\b", "installed, located"),
    (r"\blets? (it )?run\b", "allows watering"),
    (r"\bheeds?\b", "obeys"),
    (r"\bso it is\b", "status"),
    (r"\bputs? down\b", "applies"),
    (r"\bmends?\b", "repair, correct"),
    (r"\bdoor sheet\b", "controller sheet"),
    (r"\bkey(ed)? in\b", "program, programmed"),
    (r"\btest walk\b", "station test"),
    (r"\bwalk the site\b", "site visit, inspection"),
    (r"\bsilenced? it\b", "bypass, alarms off"),
    (r"\bstand-ins?\b", "simulator"),
    (r"\bstands? in\b", "is used instead, is in"),
    (r"\bmiddling\b", "medium"),
    (r"\blessen\b", "reduce"),
    (r"\b(the|a|this|by|no) laws?\b", "local rules, ordinance, restriction"),
    (r"\b(this|a|the|its|generic|own|controller|sensor) cards?\b", "controller type, sensor type"),
    (r"\bschools?\b", "strategy"),
    (r"\btrials?\b", "comparison; trial change"),
    (r"\blevers?\b", "adjustment; test lever is one maker's"),
    (r"\blet (somebody )?(in|out)\b", "invited, deactivated"),
    (r"\bput off\b", "snoozed"),
    (r"\bspeaks? (for|by)\b", "covers, output"),
    (r"\bhard to believe\b", "suspect"),
    (r"\btaken in\b", "imported"),
    (r"\bis held\b|\bare held\b|\bheld by\b", "prevented, skipped"),
    (r"\b(sensor|switch|controller) holds\b", "prevents watering"),
    (r"\bwaits its turn\b", "queued"),
    (r"\bstands? at\b", "is set to, now"),
    (r"\bstands (again|here|there)\b", "is restored, is"),
    (r"\bthis week's calls\b", "weekly list"),
    (r"\bwhat it comes to\b", "total"),
    (r"\bshort a year\b", "deficit per year"),
    (r"\bkept trials?\b", "saved comparisons"),
    (r"\bshed water\b", "run off"),
    (r"\bas known\b", "as recorded"),
    (r"\bso many (hours|days)\b", "a number"),
];

/// What a reader sees or hears of a page: its text, and the attributes that are read aloud.
fn said(page: &str) -> String {
    let body = page.split_once("<main").map_or(page, |(_, main)| main);
    let quiet = Regex::new(r"(?s)<(script|style|template)\b.*?</(script|style|template)>").unwrap();
    let body = quiet.replace_all(body, " ");
    let aloud = Regex::new(r#"(?:aria-label|placeholder|title|alt)="([^"]*)""#).unwrap();
    let heard: Vec<&str> = aloud.captures_iter(&body).filter_map(|c| Some(c.get(1)?.as_str())).collect();
    let tags = Regex::new(r"<[^>]*>").unwrap();
    let text = tags.replace_all(&body, " ");
    let all = format!("{text} | {}", heard.join(" | ")).replace("&#39;", "'").replace("&amp;", "&");
    all.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Where an expression is found in a text, with some words around it.
fn found(text: &str, expression: &Regex) -> Vec<String> {
    let around = |at: usize, end: usize| {
        let from = text.char_indices().rev().map(|(i, _)| i).find(|i| *i + 40 <= at).unwrap_or(0);
        let to = text.char_indices().map(|(i, _)| i).find(|i| *i >= end + 30).unwrap_or(text.len());
        text[from..to].to_owned()
    };
    expression.find_iter(text).map(|m| around(m.start(), m.end())).collect()
}

fn page(person: &Person, path: &str) -> Answer {
    let answer = person.get(path);
    assert!(answer.status == 200, "{path} answers {}", answer.status);
    answer
}

#[test]
fn no_page_and_no_command_says_what_the_trade_does_not() {
    let server = Server::start(true);
    let owner = Person::signed_in(&server, "isla");
    let banned: Vec<(Regex, &str)> =
        BANNED.iter().map(|(banned, instead)| (Regex::new(banned).unwrap(), *instead)).collect();
    let mut faults = Vec::new();
    // Keys of the JSON that a command prints are not words.
    let keys = Regex::new(r"\{[^ ]*\}").unwrap();
    let mut tell = |place: &str, text: &str| {
        let text = keys.replace_all(&text.to_lowercase(), " ").into_owned();
        for (banned, instead) in &banned {
            let told = found(&text, banned).into_iter();
            faults.extend(told.map(|around| format!("{place}: \"{around}\" (say: {instead})")));
        }
    };
    for path in PAGES {
        tell(path, &said(&page(&owner, path).text));
    }
    let help = |arguments: &[&str]| {
        let told = Command::new(BINARY).args(arguments).arg("--help").output().unwrap();
        String::from_utf8(told.stdout).unwrap()
    };
    let all = help(&[]);
    let commands = all.lines().skip_while(|line| !line.starts_with("Commands:")).skip(1);
    let names: Vec<&str> = commands
        .take_while(|line| !line.is_empty())
        .filter(|line| line.starts_with("  ") && !line.starts_with("   "))
        .filter_map(|line| line.split_whitespace().next())
        .collect();
    assert!(names.len() > 10, "{names:?}");
    tell("--help", &all);
    for name in names.iter().filter(|name| **name != "help") {
        tell(name, &help(&[name]));
    }
    assert!(faults.is_empty(), "{} phrases:\n{}", faults.len(), faults.join("\n"));
}

/// What somebody with inches and the month first must not read.
const FOREIGN: [(&str, &str); 2] = [
    (
        r"\b\d[\d.,]*[  ](mm|cm|m|km|m³|m²|kPa|°C|m/s|L|L/min|L/h|mm/h|MJ/m²|litres?|hectares?|ha)\b",
        "a metric unit",
    ),
    (r"\b\d{1,2} (Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)[a-z]*\b", "a date with its day first"),
];

/// Pages that show others' units and dates on purpose, and why.
const METRIC: [(&str, &str); 5] = [
    ("/about", "names the formulas and their units as published"),
    ("/glossary", "defines units"),
    ("/audit", "says what was stored"),
    ("/me", "shows every habit, to choose from"),
    ("/sites/new", "a site that is not there yet has its units chosen in its form"),
];

/// Times of day that lack their half of the day.
fn of_twenty_four_hours(text: &str) -> Vec<String> {
    let time = Regex::new(r"\b\d{1,2}:[0-5]\d\b").unwrap();
    let half = Regex::new(r"^(:\d\d)?\s?[AaPp]\.?[Mm]").unwrap();
    let from = |at: usize| text[..at].char_indices().rev().map(|(i, _)| i).nth(40).unwrap_or(0);
    let lacks = time.find_iter(text).filter(|m| !half.is_match(&text[m.end()..]));
    lacks.map(|m| text[from(m.start())..m.end()].to_owned()).collect()
}

#[test]
fn a_reader_of_inches_and_twelve_hours_reads_nothing_else() {
    let server = Server::start(true);
    let owner = Person::signed_in(&server, "isla");
    let habit = [("clock", "12"), ("dates", "month")];
    assert_eq!(owner.post_from("/me", "/me", &habit).status, 303);
    for site in 1..=4 {
        let home = format!("/sites/{site}/today");
        let units = [("units", "us_customary"), ("back", home.as_str())];
        assert_eq!(owner.post_from(&home, &format!("/sites/{site}/units"), &units).status, 303);
    }
    // The lists over all sites are worked out behind the pages.
    let begun = std::time::Instant::now();
    while page(&owner, "/calls").text.contains(" m³") && begun.elapsed() < std::time::Duration::from_secs(60)
    {
        std::thread::sleep(std::time::Duration::from_millis(500));
    }
    let foreign: Vec<(Regex, &str)> =
        FOREIGN.iter().map(|(foreign, what)| (Regex::new(foreign).unwrap(), *what)).collect();
    let mut faults = Vec::new();
    for path in PAGES.iter().filter(|path| METRIC.iter().all(|(known, _)| known != *path)) {
        // The height at which wind is compared is part of its name (FAO-56).
        let text = said(&page(&owner, path).text).replace("wind at 2 m", "wind");
        for (foreign, what) in &foreign {
            faults.extend(
                found(&text, foreign).into_iter().map(|around| format!("{path}: \"{around}\": {what}")),
            );
        }
        let times = of_twenty_four_hours(&text).into_iter();
        faults.extend(times.map(|around| format!("{path}: \"{around}\": a time of twenty-four hours")));
    }
    assert!(faults.is_empty(), "{} of them:\n{}", faults.len(), faults.join("\n"));
}

//! A whole program in one line, as it is written on the back of an envelope.

use super::{
    Habit, Read, Reading, Refusal, days, duration, refused, times, write_days, write_duration,
    write_duration_briefly, write_time,
};
use jiff::civil::{Date, Time};
use upland_core::controller::schedule::Days;
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::time::Seconds;

/// What a line says of a program. What it leaves out stays as it is.
#[derive(Debug, Clone, PartialEq)]
pub struct ProgramLine {
    /// The program's letter or name, as typed.
    pub program: String,
    /// Start times.
    pub starts: Option<Vec<Time>>,
    /// Its days.
    pub days: Option<Days>,
    /// Its percentage.
    pub percentage: Option<Percentage>,
    /// The program is switched off.
    pub off: bool,
    /// Stations with their run times, in the order of the line.
    pub run_times: Vec<(u16, Seconds)>,
}

/// Highest station number of a line.
const MOST_STATIONS: u16 = 250;

/// Longest line, bytes.
const LONGEST_LINE: usize = 2000;

/// What a word of a line is.
enum Word {
    Start,
    Day,
    Stations(Vec<u16>),
    Percent(u16),
}

/// A line such as "A 02:00 mon wed fri 1 12 2 12 3 20": program, starts, days, then stations each with its run time.
/// Stations may be a span ("1-4 12"); a percentage has its sign ("90%").
///
/// # Errors
/// The first word that cannot be placed, with what is expected there.
// Long: a word is placed by what stands before it.
pub fn program_line(line: &str, today: Date, habit: Habit) -> Read<ProgramLine> {
    const SHAPE: &str = "a line such as A 02:00 mon wed fri 1 12 2 12 3 20: program, starts, days, then each station with its minutes";
    let joined = with_halves(line);
    let mut words = joined.iter().map(String::as_str).peekable();
    let Some(program) = words.next().filter(|_| line.len() <= LONGEST_LINE) else {
        return refused(line, SHAPE);
    };
    let mut found = ProgramLine {
        program: program.trim_end_matches(':').to_owned(),
        starts: None,
        days: None,
        percentage: None,
        off: false,
        run_times: Vec::new(),
    };
    let (mut starts, mut week): (Vec<String>, Vec<String>) = (Vec::new(), Vec::new());
    while let Some(word) = words.next() {
        let word = word.trim_end_matches(',');
        if word.is_empty() {
            continue;
        }
        let small = word.to_lowercase();
        if small == "off" {
            found.off = true;
            continue;
        }
        // Behind starts and days a number before a colon is a station and its minutes: "1:10 2:20".
        let settled = !starts.is_empty() && !week.is_empty() || !found.run_times.is_empty();
        if let Some((station, run_time)) = station_with_minutes(&small).filter(|_| settled) {
            if found.run_times.iter().any(|(n, _)| *n == station) {
                return Err(Refusal::Unreadable(format!("Station {station} is in the line twice.")));
            }
            found.run_times.push((station, run_time));
            continue;
        }
        if let Some((station, run_time)) =
            station_with_minutes(&small).filter(|_| !starts.is_empty() && small.find(':') == Some(1))
        {
            let reading = |text: String, means: String| Reading { text, means };
            return Err(Refusal::TwoWays(
                word.to_owned(),
                [
                    reading(
                        line.replacen(word, &format!("{station} {}", write_duration_briefly(run_time)), 1),
                        format!("station {station} for {}", write_duration(run_time)),
                    ),
                    reading(line.replacen(word, &format!("0{word}"), 1), format!("another start at 0{word}")),
                ],
            ));
        }
        // "every 3rd day, 2 left" runs over words.
        if small == "every" {
            let mut said = vec![small];
            while let Some(next) = words.peek() {
                let next = next.to_lowercase();
                let bare = next.trim_end_matches(',').to_owned();
                let number = bare.bytes().all(|b| b.is_ascii_digit()) && said.len() > 1;
                let left = number && {
                    let mut ahead = words.clone();
                    ahead.next();
                    ahead.next().is_some_and(|w| w.eq_ignore_ascii_case("left"))
                };
                let belongs =
                    said.len() == 1 || matches!(bare.as_str(), "day" | "days" | "left" | "other") || left;
                if !belongs {
                    break;
                }
                said.push(next.clone());
                words.next();
                if bare == "left" {
                    break;
                }
            }
            week.push(said.join(" "));
            continue;
        }
        match place(&small, &found, habit, week.is_empty() && starts.is_empty()) {
            Some(Word::Start) => starts.push(small),
            Some(Word::Day) => week.push(small),
            Some(Word::Percent(value)) => found.percentage = Some(Percentage::from_percent(value)),
            Some(Word::Stations(stations)) => {
                let Some(time) = words.next() else {
                    return Err(Refusal::Unreadable(format!(
                        "Station {word} has no run time behind it; {SHAPE} is taken."
                    )));
                };
                let run_time = duration(time.trim_end_matches(',')).map_err(|refusal| match refusal {
                    Refusal::Unreadable(_) => Refusal::Unreadable(format!(
                        "\"{time}\" behind station {word} is not a run time; write 12, 7m30 or 1h15."
                    )),
                    two => two,
                })?;
                for station in stations {
                    if found.run_times.iter().any(|(n, _)| *n == station) {
                        return Err(Refusal::Unreadable(format!("Station {station} is in the line twice.")));
                    }
                    found.run_times.push((station, run_time));
                }
            }
            None => {
                return Err(Refusal::Unreadable(format!(
                    "\"{word}\" is neither a start, a day nor a station; {SHAPE} is taken."
                )));
            }
        }
    }
    if !starts.is_empty() {
        found.starts = Some(times(&starts.join(" "), habit)?);
    }
    if !week.is_empty() {
        found.days = Some(days(&week.join(" "), today, habit)?);
    }
    Ok(found)
}

/// "1:10" as a station and its minutes: a clock has two digits before the colon, or a nought.
fn station_with_minutes(word: &str) -> Option<(u16, Seconds)> {
    let (station, minutes) = word.split_once(':')?;
    let plain = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    if !plain(station) || !plain(minutes) || station.starts_with('0') || minutes.len() > 3 {
        return None;
    }
    let number: u16 = station.parse().ok().filter(|n| (1..=MOST_STATIONS).contains(n))?;
    Some((number, Seconds::from_min(minutes.parse().ok()?)))
}

/// The words of a line, each AM or PM with the number before it.
fn with_halves(line: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    for word in line.split(|c: char| c.is_whitespace() || c == ';').filter(|w| !w.is_empty()) {
        let half = matches!(word.to_lowercase().trim_end_matches(','), "am" | "pm");
        match words.last_mut() {
            Some(last) if half && last.ends_with(|c: char| c.is_ascii_digit()) => last.push_str(word),
            _ => words.push(word.to_owned()),
        }
    }
    words
}

/// What a word can be at its place. Small numbers are stations; a time has a colon, AM or PM, or four digits.
fn place(word: &str, so_far: &ProgramLine, habit: Habit, first: bool) -> Option<Word> {
    if let Some(percent) = word.strip_suffix('%') {
        return percent.parse().ok().map(Word::Percent);
    }
    let number = word.bytes().all(|b| b.is_ascii_digit());
    let like_a_time = word.contains(':') || word.ends_with(['m']) || (number && word.len() == 4);
    if so_far.run_times.is_empty() && like_a_time && (first || word.contains(|c: char| c.is_ascii_digit())) {
        let readable = !matches!(super::time_of_day(word, habit), Err(Refusal::Unreadable(_)));
        if readable {
            return Some(Word::Start);
        }
    }
    if so_far.run_times.is_empty()
        && (super::days::week(word).is_some()
            || super::days::letters(word).is_some()
            || matches!(word, "odd" | "even" | "daily"))
    {
        return Some(Word::Day);
    }
    let mut stations = Vec::new();
    for part in word.trim_start_matches('s').split(',') {
        let (from, until) = part.split_once('-').unwrap_or((part, part));
        let (from, until): (u16, u16) = (from.parse().ok()?, until.parse().ok()?);
        if from == 0 || until < from || until > MOST_STATIONS {
            return None;
        }
        stations.extend(from..=until);
    }
    Some(Word::Stations(stations))
}

/// A program as such a line.
#[must_use]
pub fn write_program_line(line: &ProgramLine, habit: Habit) -> String {
    let mut words = vec![line.program.clone()];
    for start in line.starts.iter().flatten() {
        words.push(write_time(*start, habit).replace(' ', "").to_lowercase());
    }
    words.extend(line.days.map(|days| match days {
        // The line's own words for it, which run over no date with spaces.
        Days::Weekdays(week) if week == [true; 7] => "daily".to_owned(),
        days => write_days(days, habit),
    }));
    words.extend(line.off.then(|| "off".to_owned()));
    words.extend(line.percentage.map(|p| format!("{}%", p.percent())));
    for (station, run_time) in &line.run_times {
        words.push(format!("{station} {}", write_duration_briefly(*run_time)));
    }
    words.join(" ")
}

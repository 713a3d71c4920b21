//! What changed between two settings, as a reader says it.

use super::{Days, Percentages, Program, Settings, StationSetting};
use crate::quantity::month::ByMonth;
use crate::quantity::ratio::Percentage;
use crate::quantity::time::Seconds;
use jiff::civil::{Date, Time};

/// What a change is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Where {
    /// The whole controller.
    Controller,
    /// A program, by index.
    Program(usize),
    /// A station.
    Station(u16),
}

/// One change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// What it is about.
    pub place: Where,
    /// Name of the setting.
    pub what: String,
    /// As it was; a dash where there was nothing.
    pub before: String,
    /// As it is now.
    pub after: String,
}

const NOTHING: &str = "–";

fn or_nothing(text: String) -> String {
    if text.is_empty() { NOTHING.to_owned() } else { text }
}

/// How times and dates are written for whoever reads the changes.
#[derive(Debug, Clone, Copy)]
pub struct DateWriter {
    /// A time of day.
    pub time: fn(Time) -> String,
    /// A date.
    pub date: fn(Date) -> String,
    /// A month and a day of every year.
    pub month_day: fn((i8, i8)) -> String,
}

impl Default for DateWriter {
    fn default() -> Self {
        Self {
            time: |time| time.strftime("%H:%M").to_string(),
            date: |date| date.strftime("%-d %b %Y").to_string(),
            month_day: |(month, day)| month_day(month, day),
        }
    }
}

fn on(value: bool) -> String {
    if value { "on" } else { "off" }.to_owned()
}

fn length(length: Seconds) -> String {
    if length.any() { length.to_string() } else { NOTHING.to_owned() }
}

fn month_day(month: i8, day: i8) -> String {
    Date::new(2000, month, day).map_or(String::new(), |d| d.strftime("%-d %b").to_string())
}

fn percentages(value: &Percentages, program: Option<usize>) -> String {
    match (value, program) {
        (Percentages::Controller(v), None) => v.to_string(),
        (Percentages::Program(values), Some(i)) => {
            values.get(i).copied().unwrap_or(Percentage::HUNDRED).to_string()
        }
        (Percentages::Month(values), None) => months_in_words(values),
        _ => String::new(),
    }
}

/// Twelve percentages as a person says them: neighbours that are alike as one, "Jan to Mar 10 %, Apr 150 %".
#[must_use]
pub fn months_in_words(values: &ByMonth<Percentage>) -> String {
    let months: Vec<_> = values.months().collect();
    let alike: Vec<String> = months
        .chunk_by(|a, b| a.1 == b.1)
        .map(|run| match run {
            [(month, value)] => format!("{} {value}", month.short()),
            [(_, value), .., _] if run.len() == months.len() => format!("{value} all year"),
            [(first, value), .., (last, _)] => format!("{} to {} {value}", first.short(), last.short()),
            [] => String::new(),
        })
        .collect();
    alike.join(", ")
}

/// Every change from one settings to another, programs first, then stations, then the controller.
#[must_use]
pub fn difference(before: &Settings, after: &Settings) -> Vec<Change> {
    difference_by(before, after, DateWriter::default())
}

/// The same, with times and dates as its reader writes them.
// Long: one comparison for each setting.
#[must_use]
pub fn difference_by(before: &Settings, after: &Settings, date_writer: DateWriter) -> Vec<Change> {
    let clock = date_writer.time;
    let days_in_words = |days: Days| super::days_in_words_by(days, date_writer.date);
    let mut changes = Vec::new();
    let mut say = |place: Where, what: &str, before: String, after: String| {
        if before != after {
            let (before, after) = (or_nothing(before), or_nothing(after));
            changes.push(Change { place, what: what.to_owned(), before, after });
        }
    };
    for i in 0..before.programs.len().max(after.programs.len()) {
        let of = |s: &Settings| s.programs.get(i).cloned();
        let (a, b) = (of(before), of(after));
        let place = Where::Program(i);
        let mut line = |what: &str, words: &dyn Fn(&Program) -> String| {
            say(
                place,
                what,
                a.as_ref().map_or(String::new(), words),
                b.as_ref().map_or(String::new(), words),
            );
        };
        line("name", &|p| p.name.clone());
        line("switched", &|p| on(p.active));
        line("starts", &|p| p.starts.iter().map(|t| clock(*t)).collect::<Vec<_>>().join(", "));
        line("days", &|p| days_in_words(p.days));
        line("repeats", &|p| {
            p.repeat.map_or(String::new(), |r| format!("until {}, pause {}", clock(r.until), length(r.pause)))
        });
        say(
            place,
            "percentage",
            percentages(&before.percentages, Some(i)),
            percentages(&after.percentages, Some(i)),
        );
        let mut stations: Vec<u16> =
            [&a, &b].into_iter().flatten().flat_map(|p| p.run_times.iter().map(|(n, _)| *n)).collect();
        stations.sort_unstable();
        stations.dedup();
        for station in stations {
            let of = |s: &Settings| length(s.run_time(i, station));
            say(place, &format!("station {station}"), of(before), of(after));
        }
    }
    let mut numbers: Vec<u16> = before.stations.iter().chain(&after.stations).map(|(n, _)| *n).collect();
    numbers.sort_unstable();
    numbers.dedup();
    for number in numbers {
        let (was, is) = (before.station(number), after.station(number));
        let cycle = |s: StationSetting| {
            s.cycle_and_soak.map_or(String::new(), |(c, k)| format!("{} and {} soak", length(c), length(k)))
        };
        let place = Where::Station(number);
        say(place, "longest cycle", cycle(was), cycle(is));
        say(place, "lighting", on(was.lighting), on(is.lighting));
        say(place, "master valve", on(was.master_valve), on(is.master_valve));
        say(place, "pump", on(was.pump), on(is.pump));
        say(place, "fixed run time", on(was.fixed_run_time), on(is.fixed_run_time));
        say(place, "ignores sensors", on(was.ignores_sensors), on(is.ignores_sensors));
        let current = |s: StationSetting| s.valve_ma.map_or(String::new(), |ma| format!("{ma} mA"));
        say(place, "current of its valves", current(was), current(is));
    }
    let place = Where::Controller;
    say(place, "percentage", percentages(&before.percentages, None), percentages(&after.percentages, None));
    let delay = |s: &Settings| match s.delay {
        Seconds::ZERO => "none".to_owned(),
        d if d.any() => length(d),
        d => format!("{} overlap", length(d.abs())),
    };
    say(place, "station delay", delay(before), delay(after));
    let never = |s: &Settings| {
        if s.never_days.contains(&true) { days_in_words(Days::Weekdays(s.never_days)) } else { String::new() }
    };
    say(place, "no-water days", never(before), never(after));
    let omit = |s: &Settings| {
        s.omit_hours.map_or(String::new(), |h| format!("{} to {}", clock(h.from), clock(h.until)))
    };
    say(place, "omit times", omit(before), omit(after));
    let rain = |s: &Settings| {
        s.rain_delay.map_or(String::new(), |(d, n)| format!("{n} days from {}", (date_writer.date)(d)))
    };
    say(place, "rain delay", rain(before), rain(after));
    let off = |s: &Settings| {
        s.off_season.map_or(String::new(), |o| {
            format!("{} to {}", (date_writer.month_day)(o.from), (date_writer.month_day)(o.until))
        })
    };
    say(place, "off-season", off(before), off(after));
    let omitted =
        |s: &Settings| s.omit_dates.iter().map(|d| (date_writer.date)(*d)).collect::<Vec<_>>().join(", ");
    say(place, "omitted dates", omitted(before), omitted(after));
    let lead = |s: &Settings| match s.master_lead {
        (Seconds::ZERO, Seconds::ZERO) => String::new(),
        (lead, lag) => format!("{} before, {} after", length(lead), length(lag)),
    };
    say(place, "master valve opens", lead(before), lead(after));
    changes
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::schedule::YearSpan;
    use crate::controller::twelve_stations;
    use jiff::civil::time;

    #[test]
    fn months_that_are_alike_are_said_as_one() {
        let percent = |n: u16| Percentage::from_percent(n);
        let mut values = ByMonth::all(percent(10));
        assert_eq!(months_in_words(&values), "10 % all year");
        values = ByMonth::from_fn(|m| percent(if (4..=9).contains(&m.number()) { 150 } else { 10 }));
        assert_eq!(months_in_words(&values), "Jan to Mar 10 %, Apr to Sep 150 %, Oct to Dec 10 %");
        values = ByMonth::from_fn(|m| percent(if m.number() == 12 { 20 } else { 10 }));
        assert_eq!(months_in_words(&values), "Jan to Nov 10 %, Dec 20 %");
    }

    #[test]
    fn a_difference_reads_like_a_note_in_the_margin() {
        let before = Settings::clean(&twelve_stations());
        let mut after = before.clone();
        after.programs[0].active = true;
        after.programs[0].starts = vec![time(2, 0, 0, 0), time(4, 30, 0, 0)];
        after.programs[0].days = Days::Weekdays([true, false, true, false, true, false, false]);
        after.set_run_time(0, 3, Seconds::from_s(450));
        after.percentages = Percentages::Program([90, 100, 100].map(Percentage::from_percent).to_vec());
        after.update_station(3, |s| s.cycle_and_soak = Some((Seconds::from_s(360), Seconds::from_s(1800))));
        after.update_station(3, |s| s.master_valve = true);
        after.never_days[6] = true;
        after.off_season = Some(YearSpan { from: (11, 1), until: (3, 31) });
        let lines: Vec<_> = difference(&before, &after)
            .into_iter()
            .map(|c| format!("{:?} {}: {} -> {}", c.place, c.what, c.before, c.after))
            .collect();
        insta::assert_snapshot!(lines.join("\n"), @r"
        Program(0) switched: off -> on
        Program(0) starts: – -> 02:00, 04:30
        Program(0) days: every day of the week -> Mon, Wed, Fri
        Program(0) percentage: 100 % -> 90 %
        Program(0) station 3: – -> 7 min 30 s
        Station(3) longest cycle: – -> 6 min and 30 min soak
        Station(3) master valve: off -> on
        Controller no-water days: – -> Sun
        Controller off-season: – -> 1 Nov to 31 Mar
        ");
        assert_eq!(difference(&after, &after), []);
    }
}

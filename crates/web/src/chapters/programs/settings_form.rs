//! Settings as form texts and back. Names are flat (`p0-starts`, `p0-m5`, `s5-cycle`), so that a
//! plain form, a dragged bar and a merge of two edits all speak of the same lines.

use crate::page::dates::{typed_date, typed_time, typed_times};
use crate::page::units::Units;
use crate::server::request_locale::habit;
use crate::server::session::Fields;
use jiff::civil::{Date, Time};
use std::collections::BTreeMap;
use upland_core::controller::schedule::{
    Days, Percentages, Program, Repeat, Settings, StationSetting, YearSpan,
};
use upland_core::controller::{Card, PercentageScope};
use upland_core::quantity::month::{ByMonth, Month};
use upland_core::quantity::ratio::Percentage;
use upland_core::quantity::time::Hours;
use upland_core::quantity::time::Seconds;
use upland_core::quantity::units::MillimetresPerHour;
use upland_core::site::UnitSystem;
use upland_formats::typed::{self, AtStation, Read};

/// A line with what is wrong with it.
pub(crate) type TextError = (String, String);
pub(crate) type Texts = BTreeMap<String, String>;

/// "12", or "7m30" where there are seconds; nothing where there is no time.
pub(crate) fn minutes(length: Seconds) -> String {
    if length.any() { minutes_or_none(length) } else { String::new() }
}

/// The same where no time is an answer too.
fn minutes_or_none(length: Seconds) -> String {
    typed::write_duration_briefly(length)
}

/// The field of a month's percentage.
pub(crate) fn month_field(month: Month) -> String {
    format!("month{}", month.number() - 1)
}

fn on(value: bool) -> String {
    if value { "on".to_owned() } else { String::new() }
}

/// The lines of the days of a program; those of weekdays that are off are empty.
pub(super) fn day_lines(program: usize, days: Days) -> Vec<(String, String)> {
    let at = |field: &str| format!("p{program}-{field}");
    let mut lines = Vec::new();
    let (mode, week) = match days {
        Days::Weekdays(week) => ("weekdays", week),
        Days::Odd => ("odd", [false; 7]),
        Days::Even => ("even", [false; 7]),
        Days::EveryNth { interval, first } => {
            lines.push((at("interval"), interval.to_string()));
            lines.push((at("first"), typed_date(first)));
            ("nth", [false; 7])
        }
    };
    lines.push((at("days"), mode.to_owned()));
    lines.extend(week.into_iter().enumerate().map(|(k, day)| (at(&format!("d{k}")), on(day))));
    lines
}

/// The texts of some settings; lines that say nothing are left out.
// Long: a list of fields and their texts.
pub(crate) fn texts(settings: &Settings) -> Texts {
    let mut texts = Texts::new();
    let mut put = |name: String, value: String| {
        if !value.is_empty() {
            texts.insert(name, value);
        }
    };
    for (i, program) in settings.programs.iter().enumerate() {
        let at = |field: &str| format!("p{i}-{field}");
        put(at("name"), program.name.clone());
        put(at("active"), on(program.active));
        put(at("starts"), typed_times(&program.starts));
        day_lines(i, program.days).into_iter().for_each(|(name, text)| put(name, text));
        for (station, run_time) in &program.run_times {
            put(at(&format!("m{station}")), minutes(*run_time));
        }
        if let Some(repeat) = program.repeat {
            put(at("until"), typed_time(repeat.until));
            put(at("pause"), minutes_or_none(repeat.pause));
        }
    }
    match &settings.percentages {
        Percentages::Controller(value) => put("percent".into(), value.percent().to_string()),
        Percentages::Program(values) => {
            for (i, value) in values.iter().enumerate() {
                put(format!("p{i}-percent"), value.percent().to_string());
            }
        }
        Percentages::Month(values) => {
            for (month, value) in values.months() {
                put(month_field(month), value.percent().to_string());
            }
        }
    }
    for (number, station) in &settings.stations {
        let at = |field: &str| format!("s{number}-{field}");
        if let Some((cycle, soak)) = station.cycle_and_soak {
            put(at("cycle"), minutes(cycle));
            put(at("soak"), minutes_or_none(soak));
        }
        put(at("light"), on(station.lighting));
        put(at("master"), on(station.master_valve));
        put(at("pump"), on(station.pump));
        put(at("deaf"), on(station.ignores_sensors));
        put(at("fixed"), on(station.fixed_run_time));
        put(at("ma"), station.valve_ma.map_or(String::new(), |ma| ma.to_string()));
    }
    put(
        "delay".into(),
        if settings.delay == Seconds::ZERO { String::new() } else { settings.delay.s().to_string() },
    );
    for (k, never) in settings.never_days.into_iter().enumerate() {
        put(format!("never{k}"), on(never));
    }
    if let Some(hours) = settings.omit_hours {
        put("omit-from".into(), typed_time(hours.from));
        put("omit-until".into(), typed_time(hours.until));
    }
    if let Some((first, days)) = settings.rain_delay {
        put("rain-first".into(), typed_date(first));
        put("rain-days".into(), days.to_string());
    }
    if let Some(span) = settings.off_season {
        put("off-from".into(), typed::write_month_day(span.from.0, span.from.1, habit()));
        put("off-until".into(), typed::write_month_day(span.until.0, span.until.1, habit()));
    }
    // Dates hold commas of their own where the month comes first.
    put(
        "omit-dates".into(),
        settings.omit_dates.iter().map(|d| typed_date(*d)).collect::<Vec<_>>().join("; "),
    );
    let seconds = |length: Seconds| if length.any() { length.s().to_string() } else { String::new() };
    put("lead".into(), seconds(settings.master_lead.0));
    put("lag".into(), seconds(settings.master_lead.1));
    texts
}

/// The controller that settings are read for.
pub(crate) struct ReadFor<'a> {
    pub card: &'a Card,
    pub today: Date,
    /// How fast the zone of a station applies water, so that a depth can stand for its minutes.
    pub rate: &'a dyn Fn(u16) -> Option<MillimetresPerHour>,
    pub units: UnitSystem,
}

impl ReadFor<'_> {
    fn at(&self, station: u16) -> AtStation<'static> {
        let depth_unit = Units::of(self.units).depth.unit;
        AtStation { depth_unit, rate: (self.rate)(station), step: self.card.run_step }
    }
}

struct FormReader<'a> {
    fields: &'a Fields,
    of: &'a ReadFor<'a>,
    errors: Vec<TextError>,
}

impl FormReader<'_> {
    fn get(&self, name: &str) -> &str {
        self.fields.get(name)
    }

    fn is_on(&self, name: &str) -> bool {
        self.get(name) == "on"
    }

    fn say(&mut self, name: &str, message: impl Into<String>) {
        self.errors.push((name.to_owned(), message.into()));
    }

    /// What was read, or nothing and why.
    fn take<T>(&mut self, name: &str, read: Read<T>) -> Option<T> {
        read.map_err(|refusal| self.say(name, refusal.to_string())).ok()
    }

    fn time(&mut self, name: &str) -> Option<Time> {
        let text = self.get(name);
        if text.is_empty() { None } else { self.take(name, typed::time_of_day(text, habit())) }
    }

    /// A length of time; nothing is none.
    fn seconds(&mut self, name: &str) -> Seconds {
        let text = self.get(name);
        if text.is_empty() {
            return Seconds::ZERO;
        }
        self.take(name, typed::duration(text)).unwrap_or(Seconds::ZERO)
    }

    /// A run time: a length of time, or the depth that it is to put down ("1/2 in", "12 mm").
    fn run_time(&mut self, name: &str, station: u16) -> Seconds {
        let text = self.get(name);
        if text.is_empty() {
            return Seconds::ZERO;
        }
        let read = typed::run_time(text, self.of.at(station));
        self.take(name, read).unwrap_or(Seconds::ZERO)
    }

    /// A whole number, with or without its percent sign.
    fn whole<T: core::str::FromStr>(&mut self, name: &str) -> Option<T> {
        let text = self.get(name);
        if text.is_empty() {
            return None;
        }
        let read = text.trim_end_matches('%').trim_end().parse().ok();
        if read.is_none() {
            let message = format!("\"{text}\" is not a whole number that fits here.");
            self.say(name, message);
        }
        read
    }

    /// Whole percent; nothing is 100.
    fn percentage(&mut self, name: &str) -> Percentage {
        self.whole(name).map_or(Percentage::HUNDRED, Percentage::from_percent)
    }

    fn date(&mut self, name: &str, today: Date) -> Option<Date> {
        let text = self.get(name);
        if text.is_empty() { None } else { self.take(name, typed::date(text, today, habit())) }
    }

    /// Dates with semicolons between them, or commas where no date has one.
    fn dates(&mut self, name: &str, today: Date) -> Vec<Date> {
        let text = self.get(name).to_owned();
        let parts = typed::date_parts(&text, today, habit());
        parts.into_iter().filter_map(|part| self.take(name, typed::date(part, today, habit()))).collect()
    }

    /// A number of a unit; nothing is none.
    fn number(&mut self, name: &str, unit: &str) -> Option<i64> {
        let text = self.get(name);
        if text.is_empty() {
            return None;
        }
        #[allow(clippy::cast_possible_truncation, reason = "checked by the filter")]
        let read = self.take(name, typed::quantity(text, unit)).map(|v| v.round());
        let whole = read.filter(|v| (-1e6..=1e6).contains(v)).map(|v| v as i64);
        if read.is_some() && whole.is_none() {
            self.say(name, format!("\"{}\" is no such number of {unit}.", self.get(name)));
        }
        whole
    }

    fn month_day(&mut self, name: &str) -> Option<(i8, i8)> {
        let text = self.get(name);
        if text.is_empty() { None } else { self.take(name, typed::month_day(text, habit())) }
    }

    /// Both or neither of two lines.
    fn pair<T>(&mut self, first: (&str, Option<T>), second: (&str, Option<T>)) -> Option<(T, T)> {
        match (first.1, second.1) {
            (Some(a), Some(b)) => Some((a, b)),
            (None, None) => None,
            (Some(_), None) => {
                if self.errors.iter().all(|(n, _)| n != second.0) {
                    self.say(second.0, "Give the end as well, or neither.");
                }
                None
            }
            (None, Some(_)) => {
                if self.errors.iter().all(|(n, _)| n != first.0) {
                    self.say(first.0, "Give the beginning as well, or neither.");
                }
                None
            }
        }
    }

    fn days(&mut self, i: usize, today: Date) -> Days {
        let at = |field: &str| format!("p{i}-{field}");
        match self.get(&at("days")) {
            "odd" => Days::Odd,
            "even" => Days::Even,
            "nth" => Days::EveryNth {
                interval: self.whole(&at("interval")).unwrap_or(2),
                first: self.date(&at("first"), today).unwrap_or(today),
            },
            _ => Days::Weekdays(core::array::from_fn(|k| self.is_on(&at(&format!("d{k}"))))),
        }
    }

    fn program(&mut self, i: usize, empty: &Program) -> Program {
        let (card, today) = (self.of.card, self.of.today);
        let at = |field: &str| format!("p{i}-{field}");
        // A program that is not in use has no fields.
        if !self.fields.0.keys().any(|name| name.starts_with(&at(""))) {
            return empty.clone();
        }
        let starts = typed::times(self.get(&at("starts")), habit());
        let starts = self.take(&at("starts"), starts).unwrap_or_default();
        let run_times = (1..=card.stations)
            .map(|n| (n, self.run_time(&at(&format!("m{n}")), n)))
            .filter(|(_, run_time)| run_time.any())
            .collect();
        let until = self.time(&at("until"));
        let repeat = until.map(|until| Repeat { until, pause: self.seconds(&at("pause")) });
        let name = self.get(&at("name"));
        Program {
            name: if name.is_empty() { empty.name.clone() } else { name.to_owned() },
            active: self.is_on(&at("active")),
            starts,
            days: self.days(i, today),
            run_times,
            repeat,
        }
    }
}

/// Reads settings for a card. What a line leaves out takes the value of a clean controller.
///
/// # Errors
/// Every line that cannot be read. What can be read but not held is for the checks.
pub(crate) fn read(fields: &Fields, of: &ReadFor<'_>) -> Result<Settings, Vec<TextError>> {
    let (card, today) = (of.card, of.today);
    let mut take = FormReader { fields, of, errors: Vec::new() };
    let clean = Settings::clean(card);
    let programs: Vec<Program> =
        clean.programs.iter().enumerate().map(|(i, empty)| take.program(i, empty)).collect();
    let percentages = match card.percentage_scope {
        PercentageScope::Controller => Percentages::Controller(take.percentage("percent")),
        PercentageScope::Program => Percentages::Program(
            (0..programs.len()).map(|i| take.percentage(&format!("p{i}-percent"))).collect(),
        ),
        PercentageScope::Month => {
            let of = |month| take.percentage(&month_field(month));
            Percentages::Month(ByMonth::from_fn(of))
        }
    };
    let stations = (1..=card.stations)
        .map(|n| {
            let at = |field: &str| format!("s{n}-{field}");
            let (cycle, soak) = (take.seconds(&at("cycle")), take.seconds(&at("soak")));
            if !cycle.any() && soak.any() {
                take.say(&at("cycle"), "A soak without a cycle; give the longest cycle.");
            }
            let setting = StationSetting {
                cycle_and_soak: cycle.any().then_some((cycle, soak)),
                lighting: take.is_on(&at("light")),
                master_valve: take.is_on(&at("master")),
                pump: take.is_on(&at("pump")),
                ignores_sensors: take.is_on(&at("deaf")),
                fixed_run_time: take.is_on(&at("fixed")),
                valve_ma: take.number(&at("ma"), "mA").and_then(|ma| u32::try_from(ma).ok()),
            };
            (n, setting)
        })
        .collect();
    let omit = (take.time("omit-from"), take.time("omit-until"));
    let omit_hours =
        take.pair(("omit-from", omit.0), ("omit-until", omit.1)).map(|(from, until)| Hours { from, until });
    let off = (take.month_day("off-from"), take.month_day("off-until"));
    let off_season =
        take.pair(("off-from", off.0), ("off-until", off.1)).map(|(from, until)| YearSpan { from, until });
    let rain_days: Option<u8> = take.whole("rain-days");
    let rain_first = take.date("rain-first", today);
    let settings = Settings {
        programs,
        percentages,
        stations,
        delay: take.number("delay", "s").map_or(Seconds::ZERO, Seconds::from_s),
        never_days: core::array::from_fn(|k| take.is_on(&format!("never{k}"))),
        omit_hours,
        rain_delay: rain_days.filter(|d| *d > 0).map(|days| (rain_first.unwrap_or(today), days)),
        off_season,
        omit_dates: take.dates("omit-dates", today),
        master_lead: (
            take.number("lead", "s").map_or(Seconds::ZERO, Seconds::from_s),
            take.number("lag", "s").map_or(Seconds::ZERO, Seconds::from_s),
        ),
    };
    if take.errors.is_empty() { Ok(settings.canonical()) } else { Err(take.errors) }
}

/// What a line is called, for messages.
pub(crate) fn label(name: &str) -> String {
    let letter = |digits: &str| {
        digits.parse::<u8>().map_or(String::new(), |i| char::from(b'A' + i.min(25)).to_string())
    };
    if let Some((program, field)) = name.strip_prefix('p').and_then(|rest| rest.split_once('-')) {
        let what = match field {
            "name" => "name".to_owned(),
            "active" => "on or off".to_owned(),
            "starts" => "starts".to_owned(),
            "percent" => "percentage".to_owned(),
            "until" | "pause" => "repeat".to_owned(),
            f if f.starts_with('m') => format!("station {}", f.trim_start_matches('m')),
            _ => "days".to_owned(),
        };
        return format!("program {}, {what}", letter(program));
    }
    if let Some((station, _)) = name.strip_prefix('s').and_then(|rest| rest.split_once('-')) {
        return format!("station {station}");
    }
    match name {
        "delay" => "station delay".into(),
        n if n.starts_with("never") => "no-water days".into(),
        "omit-dates" => "omitted dates".into(),
        n if n.starts_with("omit") => "omit times".into(),
        n if n.starts_with("rain") => "rain delay".into(),
        n if n.starts_with("off") => "off-season".into(),
        "lead" | "lag" => "master valve".into(),
        _ => "percentage".into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::{date, time};
    use upland_core::controller::{generic, twelve_stations};

    const TODAY: Date = Date::constant(2026, 7, 14);

    fn read(fields: &Fields, card: &Card, today: Date) -> Result<Settings, Vec<TextError>> {
        // 1.25 in/h: half an inch takes 24 minutes of spray (common practice).
        let rate = |n: u16| (n < 9).then(|| MillimetresPerHour::from_inches_per_hour(1.25));
        super::read(fields, &ReadFor { card, today, rate: &rate, units: UnitSystem::UsCustomary })
    }

    #[test]
    fn a_depth_stands_for_the_minutes_that_put_it_down() {
        let card = twelve_stations();
        let mut typed = texts(&sample(&card));
        for (text, minutes) in [("1/2 in", 24), ("half an inch", 24), ("12.7 mm", 24), ("0.5\"", 24)] {
            typed.insert("p0-m1".into(), text.into());
            let settings = read(&Fields(typed.clone()), &card, TODAY).unwrap();
            assert_eq!(settings.run_time(0, 1), Seconds::from_min(minutes), "{text}");
        }
        typed.insert("p0-m1".into(), "40 in".into());
        typed.insert("p0-m10".into(), "1/2 in".into());
        let said = read(&Fields(typed), &card, TODAY).unwrap_err();
        assert!(said[0].1.contains("more than a day"), "{said:?}");
        assert!(said[1].1.contains("no zone"), "{said:?}");
    }

    #[test]
    fn a_program_without_fields_is_one_that_is_not_in_use() {
        let card = twelve_stations();
        let mut typed = texts(&sample(&card));
        typed.retain(|name, _| !name.starts_with("p1-"));
        let settings = read(&Fields(typed), &card, TODAY).unwrap();
        assert_eq!(settings.programs[1], Settings::clean(&card).programs[1]);
    }

    fn sample(card: &Card) -> Settings {
        let mut settings = Settings::clean(card);
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(2, 0, 0, 0), time(4, 30, 0, 0)];
        settings.programs[0].run_times = vec![(1, Seconds::from_s(450)), (2, Seconds::from_min(10))];
        settings.programs[1].days = Days::EveryNth { interval: 3, first: date(2026, 7, 1) };
        settings.programs[2].days = Days::Odd;
        settings.programs[2].repeat = Some(Repeat { until: time(18, 0, 0, 0), pause: Seconds::from_s(1740) });
        settings
            .update_station(1, |s| s.cycle_and_soak = Some((Seconds::from_s(360), Seconds::from_s(1800))));
        settings.update_station(12, |s| s.lighting = true);
        settings.delay = Seconds::from_s(10);
        settings.never_days[6] = true;
        settings.omit_hours = Some(Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) });
        settings.rain_delay = Some((date(2026, 7, 10), 3));
        settings.off_season = Some(YearSpan { from: (11, 1), until: (2, 29) });
        settings.omit_dates = vec![date(2026, 7, 4), date(2026, 12, 25)];
        settings.master_lead = (Seconds::from_s(5), Seconds::from_s(10));
        settings.update_station(2, |s| s.valve_ma = Some(400));
        settings
    }

    #[test]
    fn settings_survive_their_form() {
        let card = twelve_stations();
        let settings = sample(&card);
        assert_eq!(read(&Fields(texts(&settings)), &card, TODAY), Ok(settings));
        for (code, card) in generic() {
            let clean = Settings::clean(&card);
            assert_eq!(read(&Fields(texts(&clean)), &card, TODAY), Ok(clean), "{code}");
        }
    }

    #[test]
    fn times_and_minutes_are_read_as_people_write_them() {
        let card = twelve_stations();
        let mut typed = texts(&sample(&card));
        for (starts, minutes) in
            [("2:00, 0430", "7.5"), ("2 am 4:30 AM", "7 min 30 s"), ("02:00 and 04:30", "7m30")]
        {
            typed.insert("p0-starts".into(), starts.into());
            typed.insert("p0-m1".into(), minutes.into());
            assert_eq!(read(&Fields(typed.clone()), &card, TODAY), Ok(sample(&card)), "{starts} {minutes}");
        }
        // What can be read in two ways is asked.
        typed.insert("p0-m1".into(), "1:30".into());
        let asked = read(&Fields(typed), &card, TODAY).unwrap_err();
        assert!(asked[0].1.contains("1 h 30 min or as 1 min 30 s"), "{asked:?}");
    }

    #[test]
    fn what_cannot_be_read_is_told_at_its_line() {
        let card = twelve_stations();
        let mut typed = texts(&sample(&card));
        for (name, value) in [
            ("p0-starts", "25:00"),
            ("p0-m2", "ten"),
            ("p1-first", "soon"),
            ("p0-percent", "-3"),
            ("s3-soak", "20"),
            ("omit-until", ""),
            ("off-from", "31 Nov"),
        ] {
            typed.insert(name.into(), value.into());
        }
        let names: Vec<_> =
            read(&Fields(typed), &card, TODAY).unwrap_err().into_iter().map(|(n, _)| n).collect();
        assert_eq!(
            names,
            ["p0-starts", "p0-m2", "p1-first", "p0-percent", "s3-cycle", "omit-until", "off-from"]
        );
        assert_eq!(label("p1-m12"), "program B, station 12");
    }
}

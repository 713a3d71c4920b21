//! An ordinance as form texts and back. Each rule is a block of fields; an empty block is no rule.

use crate::page::dates::typed_time;
use crate::page::law_words::digits_of;
use crate::page::quantities::plain;
use crate::server::request_locale::habit;
use crate::server::session::Fields;
use jiff::civil::Time;
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use upland_core::codes::Coded;
use upland_core::controller::ordinance::{
    AfterRain, AllowedDays, MOST_HOURS_AFTER_RAIN, MOST_RULES, Ordinance, Rule,
};
use upland_core::controller::schedule::YearSpan;
use upland_core::ground::application::HeadType;
use upland_core::quantity::time::Hours;
use upland_core::quantity::units::Millimetres;
use upland_formats::typed::{self, Read};

/// Forbidden hours that a block has room for.
pub(super) const HOURS: usize = 3;
/// Rain of a day that counts where a rule does not say how much (our stated default: what a gauge reads for certain).
const RAIN_WORTH_THE_WORD: Millimetres = Millimetres::from_mm(2.0);
/// Ways of choosing days with their words.
pub(super) const DAY_MODES: [(&str, &str); 6] = [
    ("any", "on any day"),
    ("weekdays", "on weekdays, by house number"),
    ("digits", "on weekdays, by the last digit of the house number"),
    ("house_dates", "odd houses on odd dates, even on even"),
    ("odd_dates", "on odd dates"),
    ("even_dates", "on even dates"),
];

/// A field with what is wrong with it.
pub(crate) type TextError = (String, String);

/// The field that says whether a kind of head is exempt.
pub(super) fn head_field(head: HeadType) -> String {
    format!("exempt-{}", head.code())
}

/// The texts of an ordinance.
pub(super) fn texts(ordinance: &Ordinance) -> BTreeMap<String, String> {
    let mut texts = BTreeMap::from([("name".to_owned(), ordinance.name.clone())]);
    let mut put = |name: String, value: String| {
        if !value.is_empty() {
            texts.insert(name, value);
        }
    };
    let on = |value: bool| if value { "on".to_owned() } else { String::new() };
    for head in &ordinance.exempt_heads {
        put(head_field(*head), on(true));
    }
    put("hours_bind".into(), on(ordinance.hours_bind_exempt_heads));
    put("exempts_new_planting".into(), on(ordinance.exempts_new_planting));
    for (i, rule) in ordinance.rules.iter().enumerate() {
        let at = |field: &str| format!("r{i}-{field}");
        put(
            at("from"),
            rule.season.map_or(String::new(), |s| typed::write_month_day(s.from.0, s.from.1, habit())),
        );
        put(
            at("until"),
            rule.season.map_or(String::new(), |s| typed::write_month_day(s.until.0, s.until.1, habit())),
        );
        let mode = match rule.days {
            AllowedDays::Any => "any",
            AllowedDays::Weekdays { .. } => "weekdays",
            AllowedDays::WeekdaysByDigit(_) => "digits",
            AllowedDays::DatesOfHouseNumber => "house_dates",
            AllowedDays::OddDates => "odd_dates",
            AllowedDays::EvenDates => "even_dates",
        };
        put(at("days"), mode.to_owned());
        if let AllowedDays::Weekdays { odd, even } = rule.days {
            for (k, (odd, even)) in odd.into_iter().zip(even).enumerate() {
                put(at(&format!("odd{k}")), on(odd));
                put(at(&format!("even{k}")), on(even));
            }
        }
        if let AllowedDays::WeekdaysByDigit(weeks) = &rule.days {
            for day in 0..7 {
                put(at(&format!("digits{day}")), digits_of(weeks, day));
            }
        }
        for (k, hours) in rule.forbidden_hours.iter().enumerate() {
            put(at(&format!("h{k}-from")), typed_time(hours.from));
            put(at(&format!("h{k}-until")), typed_time(hours.until));
        }
        put(at("most"), rule.most_days_a_week.map_or(String::new(), |n| n.to_string()));
        put(at("minutes"), rule.most_minutes_a_day.map_or(String::new(), |n| n.to_string()));
        put(at("dry"), rule.after_rain.map_or(String::new(), |after| after.hours.to_string()));
        put(at("rain"), rule.after_rain.map_or(String::new(), |after| plain(after.least.mm(), 2)));
    }
    texts
}

/// How many rule blocks to draw: those with texts and an empty one.
pub(super) fn blocks(texts: &BTreeMap<String, String>) -> usize {
    let used = (0..MOST_RULES).rev().find(|i| !is_blank(texts, *i)).map_or(0, |i| i + 1);
    (used + 1).min(MOST_RULES)
}

fn is_blank(texts: &BTreeMap<String, String>, rule: usize) -> bool {
    let at = format!("r{rule}-");
    texts
        .iter()
        .filter(|(name, _)| name.starts_with(&at))
        .all(|(name, value)| value.is_empty() || (name.ends_with("-days") && value == "any"))
}

/// Reads the fields of one rule.
struct RuleReader<'a> {
    fields: &'a Fields,
    rule: usize,
    errors: &'a mut Vec<TextError>,
}

impl RuleReader<'_> {
    fn at(&self, field: &str) -> String {
        format!("r{}-{field}", self.rule)
    }

    fn get(&self, field: &str) -> &str {
        self.fields.get(&self.at(field))
    }

    fn say(&mut self, field: &str, message: &str) {
        self.errors.push((self.at(field), message.into()));
    }

    /// What was read, or nothing and why.
    fn take<T>(&mut self, field: &str, read: Read<T>) -> Option<T> {
        read.map_err(|refusal| self.say(field, &refusal.to_string())).ok()
    }

    fn day(&mut self, field: &str) -> Option<(i8, i8)> {
        let read = typed::month_day(self.get(field), habit());
        self.take(field, read)
    }

    fn season(&mut self) -> Option<YearSpan> {
        if self.get("from").is_empty() && self.get("until").is_empty() {
            return None;
        }
        let (from, until) = (self.day("from"), self.day("until"));
        from.zip(until).map(|(from, until)| YearSpan { from, until })
    }

    fn days(&mut self) -> AllowedDays {
        let week = |who: &str| core::array::from_fn(|k| self.get(&format!("{who}{k}")) == "on");
        match self.get("days") {
            "any" | "" => AllowedDays::Any,
            "weekdays" => AllowedDays::Weekdays { odd: week("odd"), even: week("even") },
            "digits" => self.digits(),
            "house_dates" => AllowedDays::DatesOfHouseNumber,
            "odd_dates" => AllowedDays::OddDates,
            "even_dates" => AllowedDays::EvenDates,
            _ => {
                self.say("days", "Choose one from the list.");
                AllowedDays::Any
            }
        }
    }

    /// The last digits that may water, weekday by weekday, such as "0 1" or "0,1".
    fn digits(&mut self) -> AllowedDays {
        let mut weeks = [[false; 7]; 10];
        for day in 0..7 {
            let field = format!("digits{day}");
            let text = self.get(&field).to_owned();
            for sign in text.chars().filter(|c| !c.is_whitespace() && *c != ',') {
                let digit = sign.to_digit(10).and_then(|digit| usize::try_from(digit).ok());
                match digit.and_then(|digit| weeks.get_mut(digit)?.get_mut(day)) {
                    Some(slot) => *slot = true,
                    None => self.say(&field, "Last digits from 0 to 9, such as 0 1."),
                }
            }
        }
        AllowedDays::WeekdaysByDigit(weeks)
    }

    fn time(&mut self, field: &str) -> Time {
        let read = typed::time_of_day(self.get(field), habit());
        self.take(field, read).unwrap_or(Time::midnight())
    }

    fn hours(&mut self) -> Vec<Hours> {
        let names = (0..HOURS).map(|k| (format!("h{k}-from"), format!("h{k}-until")));
        let mut all = Vec::new();
        for (from, until) in names {
            if !self.get(&from).is_empty() || !self.get(&until).is_empty() {
                all.push(Hours { from: self.time(&from), until: self.time(&until) });
            }
        }
        all
    }

    /// A whole number of a range, or nothing.
    fn count(&mut self, field: &str, range: RangeInclusive<u16>, of: &str) -> Option<u16> {
        let text = self.get(field);
        if text.is_empty() {
            return None;
        }
        let count = text.parse().ok().filter(|count| range.contains(count));
        if count.is_none() {
            self.say(
                field,
                &format!("A number of {of} from {} to {}, or nothing.", range.start(), range.end()),
            );
        }
        count
    }

    fn after_rain(&mut self) -> Option<AfterRain> {
        let hours = self.count("dry", 1..=MOST_HOURS_AFTER_RAIN, "hours");
        let text = self.get("rain").to_owned();
        if text.is_empty() {
            return hours.map(|hours| AfterRain { hours, least: RAIN_WORTH_THE_WORD });
        }
        let least = typed::quantity(&text, "mm").ok().filter(|mm| *mm > 0.0 && *mm <= 100.0);
        let least = least.map(Millimetres::from_mm);
        if least.is_none() {
            self.say(
                "rain",
                "The rain of a day that counts, such as 6 mm or 1/4 in: more than 0 and at most 100 mm.",
            );
        }
        if hours.is_none() && self.get("dry").is_empty() {
            self.say("dry", "Say for how many hours after such rain.");
        }
        hours.zip(least).map(|(hours, least)| AfterRain { hours, least })
    }
}

/// Reads an ordinance; contradictions are told at the rule they stand in.
pub(super) fn read(fields: &Fields) -> Result<Ordinance, Vec<TextError>> {
    let mut errors: Vec<TextError> = Vec::new();
    // Which block a rule was read from, for what the check says of it.
    let from_block: Vec<usize> = (0..MOST_RULES).filter(|i| !is_blank(&fields.0, *i)).collect();
    let rules = from_block
        .iter()
        .map(|rule| {
            let mut reader = RuleReader { fields, rule: *rule, errors: &mut errors };
            Rule {
                season: reader.season(),
                days: reader.days(),
                forbidden_hours: reader.hours(),
                most_days_a_week: reader.count("most", 1..=7, "days").and_then(|n| u8::try_from(n).ok()),
                most_minutes_a_day: reader.count("minutes", 1..=1439, "minutes"),
                after_rain: reader.after_rain(),
            }
        })
        .collect();
    let ordinance = Ordinance {
        name: fields.get("name").to_owned(),
        rules,
        exempt_heads: HeadType::ALL
            .into_iter()
            .filter(|head| fields.get(&head_field(*head)) == "on")
            .collect(),
        hours_bind_exempt_heads: fields.get("hours_bind") == "on",
        exempts_new_planting: fields.get("exempts_new_planting") == "on",
    };
    if errors.is_empty() {
        let capital = crate::page::quantities::capital;
        let told = |fault: &upland_core::controller::ordinance::OrdinanceFault| {
            (field_of(&fault.path, &from_block), format!("{}.", capital(&fault.message)))
        };
        errors.extend(ordinance.check().iter().map(told));
    }
    if errors.is_empty() { Ok(ordinance) } else { Err(errors) }
}

/// The field that a fault's path means.
fn field_of(path: &str, from_block: &[usize]) -> String {
    let Some(rest) = path.strip_prefix("rules[") else {
        return if path == "rules" { "r0-days".into() } else { path.to_owned() };
    };
    let (index, rest) = rest.split_once(']').unwrap_or((rest, ""));
    let block = index.parse::<usize>().ok().and_then(|i| from_block.get(i)).copied().unwrap_or(0);
    let field = match rest.trim_start_matches('.') {
        f if f.starts_with("forbidden_hours") => "h0-from",
        "most_days_a_week" => "most",
        "most_minutes_a_day" => "minutes",
        "after_rain.hours" => "dry",
        "after_rain.least_mm" => "rain",
        "season" => "from",
        _ => "days",
    };
    format!("r{block}-{field}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::time;

    fn sample() -> Ordinance {
        let week = |days: [usize; 2]| core::array::from_fn(|i| days.contains(&i));
        Ordinance {
            name: "Larkrigg summer watering".into(),
            rules: vec![
                Rule {
                    season: Some(YearSpan { from: (5, 1), until: (9, 30) }),
                    days: AllowedDays::Weekdays { odd: week([2, 6]), even: week([1, 5]) },
                    forbidden_hours: vec![Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) }],
                    most_days_a_week: Some(2),
                    most_minutes_a_day: Some(60),
                    after_rain: Some(AfterRain { hours: 48, least: Millimetres::from_mm(6.35) }),
                },
                Rule {
                    season: None,
                    days: AllowedDays::OddDates,
                    forbidden_hours: Vec::new(),
                    most_days_a_week: None,
                    most_minutes_a_day: None,
                    after_rain: None,
                },
            ],
            exempt_heads: vec![HeadType::Drip],
            hours_bind_exempt_heads: false,
            exempts_new_planting: false,
        }
    }

    #[test]
    fn an_ordinance_survives_its_form() {
        let mut sample = sample();
        sample.rules.pop();
        assert_eq!(read(&Fields(texts(&sample))), Ok(sample.clone()));
        assert_eq!(blocks(&texts(&sample)), 2, "one with texts, one empty");
    }

    #[test]
    fn errors_stand_at_their_fields_and_contradictions_at_their_rule() {
        let mut typed = texts(&sample());
        typed.insert("r0-from".into(), "May".into());
        typed.insert("r0-h1-from".into(), "18:00".into());
        typed.insert("r1-most".into(), "9".into());
        let names: Vec<_> = read(&Fields(typed)).unwrap_err().into_iter().map(|(n, _)| n).collect();
        assert_eq!(names, ["r0-from", "r0-h1-until", "r1-most"]);
        let mut typed = texts(&sample());
        typed.insert("r0-h0-until".into(), "10:00".into());
        let errors = read(&Fields(typed)).unwrap_err();
        assert_eq!(errors[0].0, "r0-h0-from");
        assert!(errors[0].1.starts_with("Begin and end at the same minute"));
        let mut typed = texts(&sample());
        typed.insert("r0-dry".into(), String::new());
        typed.insert("r0-minutes".into(), "0".into());
        let names: Vec<_> = read(&Fields(typed.clone())).unwrap_err().into_iter().map(|(n, _)| n).collect();
        assert_eq!(names, ["r0-minutes", "r0-dry"], "rain without hours");
        typed.insert("r0-rain".into(), String::new());
        typed.insert("r0-dry".into(), "24".into());
        typed.insert("r0-minutes".into(), "30".into());
        typed.retain(|name, _| !name.starts_with("r1"));
        let rule = read(&Fields(typed)).unwrap().rules.remove(0);
        assert_eq!((rule.after_rain.unwrap().least.mm(), rule.most_minutes_a_day), (2.0, Some(30)));
        assert_eq!(read(&Fields::default()).unwrap_err()[0].0, "name");
    }
}

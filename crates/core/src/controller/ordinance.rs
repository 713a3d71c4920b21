//! Watering restrictions: on which days, in which hours, how often a week, in which season, and
//! what is exempt. An ordinance is written once and applied to many sites.
//!
//! A restriction belongs to the wall clock: a run that goes on past midnight must be allowed on
//! both dates.

use crate::controller::schedule::YearSpan;
use crate::ground::application::HeadType;
use crate::quantity::span::{MinuteSpan, TimeSpan, joined};
use crate::quantity::time::{Hours, MINUTES_A_DAY, MinuteOfDay, instant, weekday_index};
use crate::quantity::units::Millimetres;
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

/// Most rules of an ordinance.
pub const MOST_RULES: usize = 12;
/// The most that a rule may ask of the rain of a day, mm.
const MOST_LEAST_RAIN_MM: f64 = 100.0;
/// Days on end without an allowed one that make rules contradict each other: four weeks.
const NO_DAY_FOR: i32 = 28;

/// What an ordinance asks of a property's number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HouseNumber {
    /// Odd, or none: common practice takes a place without a number as odd.
    Odd,
    /// Even.
    Even,
    /// Its last digit, 0 to 9.
    EndsIn(u8),
}

impl HouseNumber {
    /// Whether it is odd, or none.
    #[must_use]
    pub const fn is_odd(self) -> bool {
        match self {
            Self::Odd => true,
            Self::Even => false,
            Self::EndsIn(digit) => digit % 2 == 1,
        }
    }

    /// Words for lists.
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Self::Odd => "odd, or no number".into(),
            Self::Even => "even".into(),
            Self::EndsIn(digit) => format!("ends in {digit}"),
        }
    }
}

/// On which days watering is allowed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AllowedDays {
    /// On all.
    Any,
    /// On weekdays (Monday first) that may differ by house number.
    Weekdays {
        /// For odd house numbers.
        odd: [bool; 7],
        /// For even ones.
        even: [bool; 7],
    },
    /// On weekdays (Monday first) by the last digit of the house number, 0 to 9.
    WeekdaysByDigit([[bool; 7]; 10]),
    /// Odd houses on odd dates, even houses on even dates.
    DatesOfHouseNumber,
    /// Odd dates for everybody.
    OddDates,
    /// Even dates for everybody.
    EvenDates,
}

impl AllowedDays {
    /// Whether watering is allowed on a date.
    #[must_use]
    pub fn admits(self, date: Date, house: HouseNumber) -> bool {
        let is_odd = date.day() % 2 == 1;
        match self {
            Self::Any => true,
            Self::OddDates => is_odd,
            Self::EvenDates => !is_odd,
            Self::DatesOfHouseNumber => is_odd == house.is_odd(),
            Self::Weekdays { odd, even } => {
                let week = if house.is_odd() { odd } else { even };
                week.get(weekday_index(date)).copied().unwrap_or(false)
            }
            // Without the digit only what every digit of its kind may do is sure.
            Self::WeekdaysByDigit(weeks) => (0..10_u8).zip(weeks).all(|(digit, week)| {
                let is_own = match house {
                    HouseNumber::EndsIn(own) => own == digit,
                    _ => HouseNumber::EndsIn(digit).is_odd() == house.is_odd(),
                };
                !is_own || week.get(weekday_index(date)).copied().unwrap_or(false)
            }),
        }
    }
}

/// That nothing runs for some hours after rain.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AfterRain {
    /// Hours after the last rain, 1 to [`MOST_HOURS_AFTER_RAIN`].
    pub hours: u16,
    /// The least rain of a day that counts, more than nought.
    pub least: Millimetres,
}

/// Most hours that a rule may ask for after rain: two weeks.
pub const MOST_HOURS_AFTER_RAIN: u16 = 14 * 24;

/// What holds in a season.
#[derive(Debug, Clone, PartialEq)]
pub struct Rule {
    /// When it holds; `None` is all year.
    pub season: Option<YearSpan>,
    /// Allowed days.
    pub days: AllowedDays,
    /// Hours in which nothing may run.
    pub forbidden_hours: Vec<Hours>,
    /// Most days a week (Monday to Sunday) on which a zone may run.
    pub most_days_a_week: Option<u8>,
    /// Most minutes of a date for which a station may run.
    pub most_minutes_a_day: Option<u16>,
    /// Not for some hours after rain.
    pub after_rain: Option<AfterRain>,
}

/// A watering ordinance.
#[derive(Debug, Clone, PartialEq)]
pub struct Ordinance {
    /// Its name.
    pub name: String,
    /// What holds, by season.
    pub rules: Vec<Rule>,
    /// The kinds of head that are free of it, such as drip.
    pub exempt_heads: Vec<HeadType>,
    /// Whether its hours bind these heads all the same: they are free of its days, counts, minutes and rain alone.
    pub hours_bind_exempt_heads: bool,
    /// Whether new planting with a permit is free of it until the permit ends.
    pub exempts_new_planting: bool,
}

/// Something that makes an ordinance impossible.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{path}: {message}")]
pub struct OrdinanceFault {
    /// Where, such as `rules[1].forbidden_hours[0]`.
    pub path: String,
    /// What is wrong and what to do.
    pub message: String,
}

/// Minutes of a day that no forbidden hours cover.
fn free_minutes(hours: &[&Hours]) -> u32 {
    let mut closed: Vec<MinuteSpan> = Vec::new();
    for hours in hours {
        let (from, until) = (MinuteOfDay::of(hours.from).minutes(), MinuteOfDay::of(hours.until).minutes());
        if from <= until {
            closed.push(MinuteSpan::new(from, until));
        } else {
            closed.extend([MinuteSpan::new(0, until), MinuteSpan::new(from, MINUTES_A_DAY)]);
        }
    }
    closed.sort_unstable();
    let (mut free, mut at) = (0, 0);
    for span in closed {
        free += span.from.saturating_sub(at);
        at = at.max(span.until);
    }
    free + MINUTES_A_DAY.saturating_sub(at)
}

impl Ordinance {
    /// Everything that makes it impossible or contradicts itself.
    // Long: one rule after another.
    #[must_use]
    pub fn check(&self) -> Vec<OrdinanceFault> {
        let mut faults = Vec::new();
        let mut say =
            |path: String, message: &str| faults.push(OrdinanceFault { path, message: message.to_owned() });
        let name = self.name.trim();
        if name.is_empty() || name.chars().count() > 120 || name.chars().any(char::is_control) {
            say("name".into(), "give it a name of at most 120 letters, numbers and signs");
        }
        if self.rules.is_empty() {
            say("rules".into(), "there is none; give at least one");
        }
        if self.rules.len() > MOST_RULES {
            say("rules".into(), "there are more than twelve; split them into two ordinances");
        }
        for (i, rule) in self.rules.iter().enumerate() {
            let at = |field: &str| format!("rules[{i}].{field}");
            if rule.season.is_some_and(|s| !s.is_real()) {
                say(at("season"), "names a day that no year has");
            }
            if let AllowedDays::Weekdays { odd, even } = rule.days {
                for (week, who) in [(odd, "odd"), (even, "even")] {
                    if !week.contains(&true) {
                        say(
                            at("days"),
                            &format!("allows no day at all for {who} house numbers; choose at least one"),
                        );
                    }
                }
            }
            if let AllowedDays::WeekdaysByDigit(weeks) = rule.days
                && let Some(digit) = weeks.iter().position(|week| !week.contains(&true))
            {
                say(
                    at("days"),
                    &format!("allows no day at all for numbers that end in {digit}; choose at least one"),
                );
            }
            for (k, hours) in rule.forbidden_hours.iter().enumerate() {
                if hours.from == hours.until {
                    say(
                        at(&format!("forbidden_hours[{k}]")),
                        "begin and end at the same minute; give them a length",
                    );
                }
            }
            if free_minutes(&rule.forbidden_hours.iter().collect::<Vec<_>>()) == 0 {
                say(at("forbidden_hours"), "cover the whole day, so nothing could ever run");
            }
            if rule.most_days_a_week.is_some_and(|n| !(1..=7).contains(&n)) {
                say(at("most_days_a_week"), "is 1 to 7");
            }
            if rule.most_minutes_a_day.is_some_and(|n| !(1..MINUTES_A_DAY).contains(&u32::from(n))) {
                say(at("most_minutes_a_day"), "is 1 to 1439");
            }
            if let Some(AfterRain { hours, least }) = rule.after_rain {
                if !(1..=MOST_HOURS_AFTER_RAIN).contains(&hours) {
                    say(at("after_rain.hours"), "is 1 to 336, two weeks");
                }
                if !(least.mm() > 0.0 && least.mm() <= MOST_LEAST_RAIN_MM) {
                    say(
                        at("after_rain.least_mm"),
                        "is the rain of a day that counts: more than 0 and at most 100 mm",
                    );
                }
            }
            let says_nothing = rule.days == AllowedDays::Any
                && rule.forbidden_hours.is_empty()
                && rule.most_days_a_week.is_none()
                && rule.most_minutes_a_day.is_none()
                && rule.after_rain.is_none();
            if says_nothing {
                say(
                    format!("rules[{i}]"),
                    "restricts nothing; give days, hours, a count, minutes or rain, or leave it out",
                );
            }
        }
        if faults.is_empty() {
            let law = |house| Law {
                applied: vec![Applied { ordinance: self.clone(), house, permits: Vec::new() }],
            };
            let houses: Vec<HouseNumber> = if self.goes_by_digit() {
                (0..10).map(HouseNumber::EndsIn).collect()
            } else {
                vec![HouseNumber::Odd, HouseNumber::Even]
            };
            for house in houses {
                if let Some(contradiction) = law(house).contradictions().into_iter().next() {
                    faults.push(contradiction);
                    break;
                }
            }
        }
        faults
    }

    /// Whether a rule of it asks for the last digit of the house number.
    #[must_use]
    pub fn goes_by_digit(&self) -> bool {
        self.rules.iter().any(|rule| matches!(rule.days, AllowedDays::WeekdaysByDigit(_)))
    }
}

/// Leave to water new planting until a date.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Permit {
    /// Number of the controller at the site.
    pub controller_number: u8,
    /// Station.
    pub station: u16,
    /// First date it holds; `None`: it holds already, whatever the date.
    pub from: Option<Date>,
    /// Last date it holds.
    pub until: Date,
    /// What it is called in the papers.
    pub reference: String,
}

impl Permit {
    /// Whether it frees a subject on a date; both its first and its last date are included.
    #[must_use]
    pub fn frees(&self, subject: Subject, date: Date) -> bool {
        self.controller_number == subject.controller_number
            && self.station == subject.station
            && self.from.is_none_or(|from| from <= date)
            && date <= self.until
    }
}

/// An ordinance as it applies to a site.
#[derive(Debug, Clone, PartialEq)]
pub struct Applied {
    /// The ordinance.
    pub ordinance: Ordinance,
    /// The site's house number.
    pub house: HouseNumber,
    /// Permits for new planting.
    pub permits: Vec<Permit>,
}

/// Everything that a site must keep to.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Law {
    /// The ordinances, in the order they were applied.
    pub applied: Vec<Applied>,
}

/// Whom a restriction may concern.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Subject {
    /// Number of the controller at the site.
    pub controller_number: u8,
    /// Station.
    pub station: u16,
    /// What applies its water; `None`: no zone is known at the station, so that no kind of head exempts it.
    pub head: Option<HeadType>,
}

/// Why a span of time is forbidden.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Why {
    /// The day.
    Day,
    /// The hour.
    Hour,
}

/// A span of time in which a subject may not run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Forbidden {
    /// Begins.
    pub from: Timestamp,
    /// Ends.
    pub until: Timestamp,
    /// Why.
    pub why: Why,
    /// Which of the applied ordinances.
    pub ordinance: usize,
}

/// A rule as it binds a subject on a date.
#[derive(Clone, Copy)]
struct InForce<'a> {
    ordinance: usize,
    house: HouseNumber,
    rule: &'a Rule,
    /// The subject's head frees it of all but the hours.
    hours_only: bool,
}

impl InForce<'_> {
    fn admits(&self, date: Date) -> bool {
        self.hours_only || self.rule.days.admits(date, self.house)
    }

    fn most_days_a_week(&self) -> Option<u8> {
        self.rule.most_days_a_week.filter(|_| !self.hours_only)
    }
}

impl Law {
    /// The ordinances that bind a subject on a date: index, ordinance, and whether only its hours do.
    fn binding(&self, subject: Option<Subject>, date: Date) -> impl Iterator<Item = (usize, &Applied, bool)> {
        self.applied.iter().enumerate().filter_map(move |(index, applied)| {
            let ordinance = &applied.ordinance;
            let Some(subject) = subject else { return Some((index, applied, false)) };
            if ordinance.exempts_new_planting && applied.permits.iter().any(|p| p.frees(subject, date)) {
                return None;
            }
            let exempt = subject.head.is_some_and(|head| ordinance.exempt_heads.contains(&head));
            (!exempt || ordinance.hours_bind_exempt_heads).then_some((index, applied, exempt))
        })
    }

    /// Whether any permit names a subject.
    #[must_use]
    pub fn has_permit(&self, subject: Subject) -> bool {
        let mut permits = self.applied.iter().flat_map(|a| &a.permits);
        permits.any(|p| p.controller_number == subject.controller_number && p.station == subject.station)
    }

    /// One that stands for every subject whom the law treats as it treats this one: stations that no permit names
    /// differ by their heads alone.
    #[must_use]
    pub fn kind_of(&self, subject: Subject) -> Subject {
        if self.has_permit(subject) { subject } else { Subject { station: 0, ..subject } }
    }

    fn rules(&self, subject: Option<Subject>, date: Date) -> impl Iterator<Item = InForce<'_>> {
        self.binding(subject, date).flat_map(move |(ordinance, applied, hours_only)| {
            let there = applied.ordinance.rules.iter();
            let holds = there.filter(move |rule| rule.season.is_none_or(|s| s.holds(date)));
            holds.map(move |rule| InForce { ordinance, house: applied.house, rule, hours_only })
        })
    }

    /// Whether any ordinance treats a subject otherwise than one that nothing exempts.
    #[must_use]
    pub fn exempts(&self, subject: Subject, date: Date) -> bool {
        self.binding(Some(subject), date).filter(|(_, _, hours_only)| !hours_only).count()
            < self.applied.len()
    }

    /// The ordinance that forbids a whole date, if one does. `None` as subject asks for somebody
    /// whom nothing exempts.
    #[must_use]
    pub fn forbids_day(&self, subject: Option<Subject>, date: Date) -> Option<usize> {
        self.rules(subject, date).find(|r| !r.admits(date)).map(|r| r.ordinance)
    }

    /// The hours that are forbidden to a subject on a date.
    pub fn forbidden_hours(&self, subject: Subject, date: Date) -> impl Iterator<Item = Hours> {
        self.rules(Some(subject), date).flat_map(|r| r.rule.forbidden_hours.clone())
    }

    /// The tightest weekly count on a date, with its ordinance.
    #[must_use]
    pub fn most_days_a_week(&self, subject: Option<Subject>, date: Date) -> Option<(u8, usize)> {
        self.rules(subject, date).filter_map(|r| Some((r.most_days_a_week()?, r.ordinance))).min()
    }

    /// The fewest minutes that a station may run on a date, with their ordinance.
    #[must_use]
    pub fn most_minutes_a_day(&self, subject: Option<Subject>, date: Date) -> Option<(u16, usize)> {
        let all = self.rules(subject, date).filter(|r| !r.hours_only);
        all.filter_map(|r| Some((r.rule.most_minutes_a_day?, r.ordinance))).min()
    }

    /// What keeps a subject from running after rain on a date, with its ordinance.
    pub fn after_rain(&self, subject: Subject, date: Date) -> impl Iterator<Item = (AfterRain, usize)> {
        let all = self.rules(Some(subject), date).filter(|r| !r.hours_only);
        all.filter_map(|r| Some((r.rule.after_rain?, r.ordinance)))
    }

    /// Whether any rule asks for the rain.
    #[must_use]
    pub fn asks_for_rain(&self) -> bool {
        self.applied.iter().flat_map(|a| &a.ordinance.rules).any(|rule| rule.after_rain.is_some())
    }

    /// Whether two dates are alike to a subject: the same rules bind it.
    #[must_use]
    pub fn is_alike(&self, subject: Subject, a: Date, b: Date) -> bool {
        let rules = |date| self.rules(Some(subject), date).map(|r| (r.ordinance, r.hours_only, r.rule));
        rules(a).eq(rules(b))
    }

    /// Every forbidden span that touches the dates, in order of time; spans may overlap.
    #[must_use]
    pub fn forbidden(&self, subject: Option<Subject>, from: Date, to: Date, tz: &TimeZone) -> Vec<Forbidden> {
        let at = |date: Date, time: Time| instant(date, time, tz);
        let mut spans = Vec::new();
        let mut date = from;
        while date <= to {
            let Ok(tomorrow) = date.tomorrow() else { break };
            let (midnight, next_midnight) = (at(date, Time::midnight()), at(tomorrow, Time::midnight()));
            for in_force in self.rules(subject, date) {
                let InForce { ordinance, rule, .. } = in_force;
                if !in_force.admits(date) {
                    spans.push(Forbidden { from: midnight, until: next_midnight, why: Why::Day, ordinance });
                }
                for hours in &rule.forbidden_hours {
                    let mut push = |from, until| {
                        if from < until {
                            spans.push(Forbidden { from, until, why: Why::Hour, ordinance });
                        }
                    };
                    if hours.from <= hours.until {
                        push(at(date, hours.from), at(date, hours.until));
                    } else {
                        push(midnight, at(date, hours.until));
                        push(at(date, hours.from), next_midnight);
                    }
                }
            }
            date = tomorrow;
        }
        spans.sort_by_key(|s| (s.from, s.until));
        spans
    }

    /// Ordinances that leave no day, or no minute of a day, for weeks on end.
    #[must_use]
    pub fn contradictions(&self) -> Vec<OrdinanceFault> {
        // 2028 is a leap year, so that a season of 29 February is seen.
        let (mut date, last) = (Date::constant(2028, 1, 1), Date::constant(2028, 12, 31));
        let mut without = 0;
        let mut faults = Vec::new();
        while date <= last {
            let hours: Vec<&Hours> = self.rules(None, date).flat_map(|r| &r.rule.forbidden_hours).collect();
            let open = self.forbids_day(None, date).is_none() && free_minutes(&hours) > 0;
            without = if open { 0 } else { without + 1 };
            if without == NO_DAY_FOR {
                let since = date - (NO_DAY_FOR - 1).days();
                let names: Vec<&str> = self.applied.iter().map(|a| a.ordinance.name.as_str()).collect();
                faults.push(OrdinanceFault {
                    path: "rules".into(),
                    message: format!(
                        "from {} on no day is left for weeks on end ({}); rules in force at the same time must share a day and an hour",
                        since.strftime("%-d %B"),
                        names.join(", ")
                    ),
                });
            }
            let Ok(next) = date.tomorrow() else { break };
            date = next;
        }
        faults
    }
}

/// Merges spans into ones that do not touch.
#[must_use]
pub fn merged(spans: &[Forbidden]) -> Vec<TimeSpan> {
    joined(spans.iter().map(|span| TimeSpan::new(span.from, span.until)))
}

#[cfg(test)]
pub(crate) mod samples {
    use super::*;
    use jiff::civil::time;

    /// Common practice: two days a week by house number, nothing from 10:00 to 18:00.
    pub(crate) fn two_days_a_week() -> Ordinance {
        Ordinance {
            name: "Larkrigg summer watering".into(),
            rules: vec![Rule {
                season: None,
                days: AllowedDays::Weekdays {
                    odd: [false, false, true, false, false, false, true],
                    even: [false, true, false, false, false, true, false],
                },
                forbidden_hours: vec![Hours { from: time(10, 0, 0, 0), until: time(18, 0, 0, 0) }],
                most_days_a_week: Some(2),
                most_minutes_a_day: None,
                after_rain: None,
            }],
            exempt_heads: vec![HeadType::Drip],
            hours_bind_exempt_heads: false,
            exempts_new_planting: true,
        }
    }

    /// An ordinance of one rule for the whole year, of which drip is free.
    pub(crate) fn ban(days: AllowedDays, forbidden_hours: Vec<Hours>) -> Ordinance {
        Ordinance {
            name: "Ban".into(),
            rules: vec![Rule {
                season: None,
                days,
                forbidden_hours,
                most_days_a_week: None,
                most_minutes_a_day: None,
                after_rain: None,
            }],
            exempt_heads: vec![HeadType::Drip],
            hours_bind_exempt_heads: false,
            exempts_new_planting: false,
        }
    }

    pub(crate) fn law(ordinance: Ordinance) -> Law {
        Law { applied: vec![Applied { ordinance, house: HouseNumber::Odd, permits: Vec::new() }] }
    }
}

#[cfg(test)]
mod tests;

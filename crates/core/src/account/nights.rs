//! The nights in which a zone may be watered: when each is decided, what is left of its window, and what forbids
//! the rest.

use super::sky::{RAIN_BY, SkyHours};
use crate::controller::open_hours::{longest, open_spans};
use crate::controller::ordinance::{AfterRain, Law, Subject};
use crate::controller::schedule::Rest;
use crate::controller::windows::decided_at;
use crate::ground::plant::Sky;
use crate::quantity::span::TimeSpan;
use crate::quantity::time::{Hours, instant, midnight, weekday_index};
use crate::quantity::units::Celsius;
use crate::site::Zone;
use crate::site::windows::WaterWindows;
use crate::weather::climate::Climate;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};

/// Why nothing is advised in a night, whatever the plants need.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Barred {
    /// An ordinance leaves no minute of the window: its index among those applied.
    Law {
        /// That index.
        ordinance: usize,
    },
    /// An ordinance allows so many days a week, and they are used up.
    WeekIsFull {
        /// The number of days.
        most: u8,
    },
    /// An ordinance forbids it until some hours have gone by after rain.
    AfterRain {
        /// Its index among those applied.
        ordinance: usize,
        /// When it ends.
        until: Timestamp,
    },
    /// The controller rests by its own settings.
    Rest(Rest),
    /// No-water days or omitted hours of the controller leave no minute of the window.
    Shut,
    /// The coming night is expected at or below the freeze set point.
    Frost {
        /// The minimum that is expected.
        expected: Celsius,
        /// The set point.
        set_point: Celsius,
        /// A service forecast it; else it is the minimum of the last night.
        foretold: bool,
    },
    /// The ground was frozen today: its mean temperature was at or below nought.
    Frozen {
        /// That mean.
        mean: Celsius,
    },
}

/// A night of a zone.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ZoneNight {
    /// Its evening.
    pub date: Date,
    /// When it is decided.
    pub decided: Timestamp,
    /// What is left of its windows: the longest open span. `None` when nothing is.
    pub open: Option<TimeSpan>,
    /// The next longest of them, for what that does not hold.
    pub spare: Option<TimeSpan>,
    /// What forbids watering.
    pub barred: Option<Barred>,
    /// Most days a week (Monday to Sunday) on which the zone may run.
    pub most_a_week: u8,
    /// Most minutes of a date on which the zone may run.
    pub most_minutes: Option<u16>,
}

/// What the nights of a site follow from, beyond the zone.
#[derive(Clone, Copy)]
pub struct NightRules<'a> {
    /// What must be kept to.
    pub law: &'a Law,
    /// When watering may run.
    pub windows: WaterWindows,
    /// The site's time zone.
    pub tz: &'a TimeZone,
    /// The weather.
    pub climate: &'a Climate,
    /// At or below this expected minimum nothing is advised.
    pub freeze_at: Celsius,
    /// Whether frost bars a night at all.
    pub heeds_frost: bool,
    /// Why the controller rests on a date by its own settings, if it does.
    pub rests: &'a dyn Fn(Date) -> Option<Rest>,
    /// Hours and days on which the controller starts nothing by its own settings, as they are on the evening of a date.
    pub shut: &'a dyn Fn(Date) -> Shut,
}

/// Hours and days on which a controller starts nothing by its own settings.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Shut {
    /// Days of the week, Monday first.
    pub never_days: [bool; 7],
    /// Hours of every day.
    pub omit_hours: Option<Hours>,
}

impl Shut {
    /// What is left of some spans.
    fn leaves(&self, spans: Vec<TimeSpan>, tz: &TimeZone) -> Vec<TimeSpan> {
        if *self == Self::default() {
            return spans;
        }
        let mut out = Vec::new();
        for TimeSpan { from, until } in spans {
            let mut closed: Vec<TimeSpan> = Vec::new();
            let mut date = from.to_zoned(tz.clone()).date();
            // Omitted hours of the evening before may go on past midnight.
            date = date.yesterday().unwrap_or(date);
            while midnight(date, tz) < until {
                let Ok(next) = date.tomorrow() else { break };
                if self.never_days.get(weekday_index(date)) == Some(&true) {
                    closed.push(TimeSpan::new(midnight(date, tz), midnight(next, tz)));
                }
                if let Some(hours) = self.omit_hours {
                    let ends = if hours.until > hours.from { date } else { next };
                    closed.push(TimeSpan::new(instant(date, hours.from, tz), instant(ends, hours.until, tz)));
                }
                date = next;
            }
            closed.sort_unstable();
            let mut at = from;
            for shut in closed {
                if shut.from > at {
                    out.push(TimeSpan::new(at, shut.from.min(until)));
                }
                at = at.max(shut.until);
                if at >= until {
                    break;
                }
            }
            if at < until {
                out.push(TimeSpan::new(at, until));
            }
        }
        out.retain(|span| !span.is_empty());
        out
    }
}

/// The subject that a zone is to a restriction.
#[must_use]
pub fn subject(zone: &Zone) -> Subject {
    Subject { controller_number: zone.controller_number, station: zone.number, head: Some(zone.head) }
}

/// The night of a zone that begins on a date.
#[must_use]
pub fn night_of(rules: &NightRules, zone: &Zone, date: Date) -> ZoneNight {
    let subject = subject(zone);
    let lawful = open_spans(rules.law, subject, date, rules.windows.of(zone, date), rules.tz);
    let is_lawful = !lawful.is_empty();
    let spans = (rules.shut)(date).leaves(lawful, rules.tz);
    let wet = rained(rules, subject, date);
    let dry = wet.map_or(spans.clone(), |(_, until)| {
        let left = spans.iter().map(|span| TimeSpan::new(span.from.max(until), span.until));
        left.filter(|span| !span.is_empty()).collect()
    });
    let open = longest(&dry);
    let morning = open.map_or(date, |span| span.from.to_zoned(rules.tz.clone()).date());
    let barred = match (open, wet) {
        (None, Some((ordinance, until))) if !spans.is_empty() => Some(Barred::AfterRain { ordinance, until }),
        (None, _) if is_lawful && spans.is_empty() => Some(Barred::Shut),
        (None, _) => {
            let last = date.checked_add(1.day()).unwrap_or(date);
            let closed = rules.law.forbidden(Some(subject), date, last, rules.tz);
            Some(Barred::Law { ordinance: closed.first().map_or(0, |f| f.ordinance) })
        }
        (Some(_), _) => (rules.rests)(morning).map(Barred::Rest).or_else(|| frost(rules, zone, date)),
    };
    ZoneNight {
        date,
        decided: decided_at(date, rules.windows.main, rules.tz),
        open,
        spare: spare(&dry, open),
        barred,
        most_a_week: rules.law.most_days_a_week(Some(subject), morning).map_or(7, |(most, _)| most),
        most_minutes: rules.law.most_minutes_a_day(Some(subject), morning).map(|(most, _)| most),
    }
}

/// The longest span but for one.
fn spare(spans: &[TimeSpan], but: Option<TimeSpan>) -> Option<TimeSpan> {
    let others: Vec<_> = spans.iter().copied().filter(|span| Some(*span) != but).collect();
    longest(&others)
}

/// Until when an ordinance forbids a subject to run after the rain that had fallen by the evening of a date, with the
/// index of that ordinance; `None` when it had dried long enough. Rain of a day that is known only as a sum has
/// ended at [`RAIN_BY`].
#[must_use]
pub fn rained(rules: &NightRules, subject: Subject, date: Date) -> Option<(usize, Timestamp)> {
    let evening = decided_at(date, rules.windows.main, rules.tz);
    rained_by(rules.law, rules.climate, rules.tz, subject, evening)
}

/// The same at any instant, for a manual run.
#[must_use]
pub fn rained_by(
    law: &Law,
    climate: &Climate,
    tz: &TimeZone,
    subject: Subject,
    at: Timestamp,
) -> Option<(usize, Timestamp)> {
    if !law.asks_for_rain() {
        return None;
    }
    let date = at.to_zoned(tz.clone()).date();
    let until = |after: AfterRain| {
        let back = i64::from(after.hours.div_ceil(24)) + 1;
        let mut days = (0..=back).filter_map(|k| date.checked_sub(k.days()).ok());
        let wet = days.find(|day| climate.rain_on(*day).is_some_and(|rain| rain >= after.least))?;
        Some(rain_ends(climate, tz, wet) + SignedDuration::from_hours(i64::from(after.hours)))
    };
    let all = law.after_rain(subject, date).filter_map(|(after, ordinance)| Some((ordinance, until(after)?)));
    all.max_by_key(|(_, until)| *until).filter(|(_, until)| *until > at)
}

/// When the rain of a day ended.
fn rain_ends(climate: &Climate, tz: &TimeZone, date: Date) -> Timestamp {
    let hours = climate.rain_hours(date).unwrap_or_default();
    let last = hours.iter().filter(|(_, mm)| *mm > 0.0).map(|(from, _)| *from).max();
    last.map_or_else(|| instant(date, RAIN_BY, tz), |from| from + SignedDuration::from_hours(1))
}

/// The lowest temperature that is expected of the night that begins on a date, and whether it was forecast. Without a
/// forecast it is that of the last night: on the evening of a clear spell the morning before is the best guess (our
/// stated rule).
#[must_use]
pub fn lowest_of_night(climate: &Climate, date: Date) -> Option<(Celsius, bool)> {
    let foretold = date.tomorrow().ok().and_then(|next| climate.foretold(next)?.lowest_ahead);
    let last = || climate.day(date).map(|day| (day.weather.temperature_min, false));
    foretold.map(|lowest| (lowest, true)).or_else(last)
}

/// Whether frost forbids watering: the ground was frozen today, or the night is expected at or below the set point.
fn frost(rules: &NightRules, zone: &Zone, date: Date) -> Option<Barred> {
    if zone.sky == Sky::UnderGlass || !rules.heeds_frost {
        return None;
    }
    if let Some(day) = rules.climate.day(date) {
        let (min, max) = (day.weather.temperature_min, day.weather.temperature_max);
        let mean = Celsius::from_c(f64::midpoint(min.c(), max.c()));
        if mean.c() <= 0.0 {
            return Some(Barred::Frozen { mean });
        }
    }
    let (expected, foretold) = lowest_of_night(rules.climate, date)?;
    (expected <= rules.freeze_at).then_some(Barred::Frost { expected, set_point: rules.freeze_at, foretold })
}

/// The nights of a zone that begin on the days of a sky.
#[must_use]
pub fn nights(rules: &NightRules, zone: &Zone, sky: &SkyHours) -> Vec<ZoneNight> {
    sky.days().iter().map(|day| night_of(rules, zone, day.date)).collect()
}

/// Nights of a zone of which nothing forbids any: its whole window is open.
#[must_use]
pub fn free_nights(sky: &SkyHours, zone: &Zone, windows: &WaterWindows) -> Vec<ZoneNight> {
    let night = |date: Date| {
        let spans = windows.of(zone, date).spans(date, &sky.tz);
        let open = longest(&spans);
        ZoneNight {
            date,
            decided: decided_at(date, windows.main, &sky.tz),
            open,
            spare: spare(&spans, open),
            barred: None,
            most_a_week: 7,
            most_minutes: None,
        }
    };
    sky.days().iter().map(|day| night(day.date)).collect()
}

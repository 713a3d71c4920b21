//! One day of a zone, hour by hour: what happened, and because of what.

use super::words;
use crate::page::dates::DateFormat;
use crate::page::quantities::{clock, depth, long_date, plain, rate, span};
use jiff::ToSpan;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use upland_core::account::running::{ControllerRun, Holder};
use upland_core::account::site_account::AccountInputs;
use upland_core::account::zone::AccountHour;
use upland_core::controller::schedule::{Rest, Settings};
use upland_core::quantity::span::DateSpan;
use upland_core::quantity::time::monday_of;
use upland_core::quantity::units::Millimetres;
use upland_core::site::{ResolvedZone, StationId, SurveyedZone, UnitSystem, Zone};
use upland_core::trial::{Schedule, TrialWay, ZoneResult, day};

/// Water below this is not named, mm.
const LEAST_MM: f64 = 0.05;

/// A day of a zone.
pub(super) struct DayView {
    pub title: String,
    /// Addresses of the day before, the day after and the worst week, where they lie in the trial.
    pub before: Option<String>,
    pub after: Option<String>,
    pub worst: Option<String>,
    pub hours: Vec<HourLine>,
    pub quiet: String,
}

/// An hour in which something happened.
pub(super) struct HourLine {
    pub hour: String,
    pub rain: String,
    pub applied: String,
    pub off: String,
    pub drained: String,
    pub et: String,
    pub missing: String,
    pub because: String,
}

/// The day that is opened when none is asked for: the first of the worst week, else the last of all.
pub(super) fn first_looked_at(zone: &ZoneResult, from: Date, to: Date) -> Date {
    let worst = zone.worst_week.map(|(monday, _)| monday);
    let short = |monday: Date| {
        let within = |date: Date| monday_of(date) == monday;
        zone.days.iter().find(|d| within(d.date) && d.short).map(|d| d.date)
    };
    worst.and_then(short).unwrap_or(to).clamp(from, to)
}

impl DayView {
    /// The hours of a day in a trial; none when the day does not lie in it.
    pub fn of(
        facts: &AccountInputs,
        way: &TrialWay,
        zone: &ZoneResult,
        span: DateSpan,
        date: Date,
        units: UnitSystem,
        link: &str,
    ) -> Option<Self> {
        let id = StationId::new(zone.controller_number, zone.station);
        let found = day(way, facts, span, id, date).ok()??;
        let SurveyedZone { zone: survey, resolved } = facts.zone(id)?;
        let names = facts.of_controller(zone.controller_number).map(|b| b.sensor_names()).unwrap_or_default();
        let settings = found.settings.as_ref();
        let told = Told { way, tz: &facts.tz, units, zone: (survey, resolved), names: &names, settings };
        let lines = found.hours.iter().filter_map(|hour| told.line(hour, &found.runs));
        let hours: Vec<HourLine> = lines.collect();
        let et: Millimetres = found.hours.iter().map(|h| h.water.et).sum();
        let asked: Millimetres = found.hours.iter().map(|h| h.water.demand).sum();
        let refill = resolved.root_zone_on(date).readily_available();
        let missing = found.hours.last().map_or(Millimetres::ZERO, |h| h.water.depletion);
        let to = |date: Option<Date>| {
            let date = date.filter(|d| span.contains(*d))?;
            Some(format!("{link}{date}#h-day"))
        };
        Some(Self {
            title: format!("{}, {}", long_date(date), survey.name),
            before: to(date.yesterday().ok()),
            after: to(date.tomorrow().ok()),
            worst: to(zone.worst_week.map(|(monday, _)| monday.max(span.first))),
            quiet: words::sentence(&[
                match found.hours.len() - hours.len() {
                    n if hours.is_empty() => format!("in none of the {n} hours anything fell or ran"),
                    n => format!("in the other {n} hours nothing fell and nothing ran"),
                },
                format!(
                    "over the day plants took {} of the {} they asked for",
                    depth(units, et),
                    depth(units, asked)
                ),
                format!(
                    "at its end {} is missing, refill at {}",
                    depth(units, missing),
                    depth(units, refill)
                ),
            ]),
            hours,
        })
    }
}

/// What hours are told from.
struct Told<'a> {
    way: &'a TrialWay,
    tz: &'a TimeZone,
    units: UnitSystem,
    zone: (&'a Zone, &'a ResolvedZone),
    names: &'a [String],
    settings: Option<&'a Settings>,
}

impl Told<'_> {
    /// An hour in which something fell, ran, was held, ran off, drained, or in which the plants were short by day.
    fn line(&self, hour: &AccountHour, runs: &[ControllerRun]) -> Option<HourLine> {
        let water = &hour.water;
        let ends = hour.from + 1.hour();
        let here: Vec<&ControllerRun> =
            runs.iter().filter(|r| r.run.start < ends && r.run.end > hour.from).collect();
        let some = |mm: Millimetres| mm.mm() >= LEAST_MM;
        let short = water.demand.mm() - water.et.mm() >= LEAST_MM;
        let happened = some(water.rain) || some(water.applied) || some(water.drainage) || short;
        if !happened && here.is_empty() && hour.reset_from.is_none() {
            return None;
        }
        let shown = |mm: Millimetres| if some(mm) { depth(self.units, mm) } else { "–".into() };
        Some(HourLine {
            hour: clock(Some(&hour.from.to_zoned(self.tz.clone()))),
            rain: shown(water.rain),
            applied: shown(water.applied),
            off: shown(water.runoff),
            drained: shown(water.drainage),
            et: shown(water.et),
            missing: depth(self.units, water.depletion),
            because: self.because(hour, &here),
        })
    }

    fn because(&self, hour: &AccountHour, runs: &[&ControllerRun]) -> String {
        let water = &hour.water;
        let some = |mm: Millimetres| mm.mm() >= LEAST_MM;
        let mm = |value: Millimetres| depth(self.units, value);
        let mut told: Vec<String> = Vec::new();
        for run in runs {
            told.push(self.run(run));
        }
        if runs.is_empty() && some(water.applied) {
            told.push(match self.way.schedule {
                Schedule::DailyBalance => "the controller gives back what is missing".into(),
                _ => "watering as advised: back to full".into(),
            });
        }
        let (zone, resolved) = self.zone;
        if some(water.runoff) {
            told.push(format!(
                "{} ran off: it came faster than {} the soil takes, and {} can pond on it",
                mm(water.runoff),
                rate(self.units, zone.soil.basic_intake()),
                mm(zone.soil.allowable_surface_accumulation(resolved.slope_pct.value))
            ));
        }
        if some(water.uneven) {
            told.push(format!(
                "{} drained where more than the mean falls (run-time multiplier {})",
                mm(water.uneven),
                plain(resolved.multiplier, 2)
            ));
        }
        let over = water.drainage - water.uneven;
        if some(over) {
            told.push(format!("{} drained: more than the root zone was missing", mm(over)));
        }
        if water.demand.mm() - water.et.mm() >= LEAST_MM {
            told.push(format!(
                "short: plants took {} of {}, below the refill point of {}",
                mm(water.et),
                mm(water.demand),
                mm(resolved.root_zone_on(hour.date).readily_available())
            ));
        }
        if told.is_empty() && some(water.rain) {
            told.push(format!("rain; {} went in", mm(water.rain_in)));
        }
        words::sentence(&told)
    }

    /// A run: its program and start, its percentage, and who held or cut it.
    fn run(&self, run: &ControllerRun) -> String {
        let at = |at: jiff::Timestamp| clock(Some(&at.to_zoned(self.tz.clone())));
        let own = &run.run;
        let program = self.settings.and_then(|s| s.programs.get(own.program)).map_or("", |p| p.name.as_str());
        let minutes = span(own.length().minutes().min_value());
        let set = format!("program {program}, {minutes} from {}", at(own.start));
        let by: Vec<String> = run.held_by.iter().map(|holder| self.holder(holder)).collect();
        match (run.is_held(), by.is_empty()) {
            (true, _) => format!("{set}: skipped because of {}", by.join(" and ")),
            (false, false) => format!("{set}: cut at {} by {}", at(run.until), by.join(" and ")),
            (false, true) => set,
        }
    }

    fn holder(&self, holder: &Holder) -> String {
        match holder {
            Holder::Rest(Rest::RainDelay { .. }) => "the rain delay".into(),
            Holder::Rest(Rest::OmittedDate) => "a date that is left out".into(),
            Holder::Rest(Rest::OffSeason { .. }) => "the off-season".into(),
            Holder::Sensor { sensor, hold } => {
                let name = self.names.get(*sensor).map_or("a sensor", String::as_str);
                let until = hold.until.map_or(String::new(), |until| {
                    format!(", until {}", until.to_zoned(self.tz.clone()).formatted("%a %H:%M"))
                });
                format!("{name}{until}")
            }
        }
    }
}

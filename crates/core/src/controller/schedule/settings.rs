//! The settings of a controller, and whether its card can hold them.

use super::Days;
use crate::controller::{Card, PercentageScope};
use crate::quantity::month::ByMonth;
use crate::quantity::ratio::Percentage;
use crate::quantity::time::Hours;
use crate::quantity::time::Seconds;
use jiff::ToSpan;
use jiff::civil::{Date, Time};

/// A program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Program {
    /// Its name on the controller: a letter or number.
    pub name: String,
    /// Whether it is switched on.
    pub active: bool,
    /// Start times, by the wall clock.
    pub starts: Vec<Time>,
    /// Its days.
    pub days: Days,
    /// Stations in the order of the controller, with their run time at 100 %.
    pub run_times: Vec<(u16, Seconds)>,
    /// Repeats until an end time, if it does.
    pub repeat: Option<Repeat>,
}

impl Program {
    /// Whether it runs anything: it is on, and has a start and a run time.
    #[must_use]
    pub fn waters(&self) -> bool {
        self.active && !self.starts.is_empty() && self.run_times.iter().any(|(_, run_time)| run_time.any())
    }
}

/// A program that runs again and again from each start until an end time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Repeat {
    /// No pass begins at or after this time of day.
    pub until: Time,
    /// Pause between two passes.
    pub pause: Seconds,
}

/// Percentages at the scope of the card.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Percentages {
    /// One for the whole controller.
    Controller(Percentage),
    /// One for each program, in the order of the programs.
    Program(Vec<Percentage>),
    /// One for each month.
    Month(ByMonth<Percentage>),
}

impl Percentages {
    /// The percentage of a program on a date; 100 where none was given.
    #[must_use]
    pub fn of(&self, program: usize, date: Date) -> Percentage {
        match self {
            Self::Controller(value) => *value,
            Self::Program(values) => values.get(program).copied().unwrap_or(Percentage::HUNDRED),
            Self::Month(values) => *values.on(date),
        }
    }

    /// The same scope with one value throughout.
    #[must_use]
    pub fn all_at(&self, value: Percentage) -> Self {
        match self {
            Self::Controller(_) => Self::Controller(value),
            Self::Program(values) => Self::Program(vec![value; values.len()]),
            Self::Month(_) => Self::Month(ByMonth::all(value)),
        }
    }
}

/// What is set for a station beyond its run times.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct StationSetting {
    /// Max cycle time and least soak, when the station is cycled.
    pub cycle_and_soak: Option<(Seconds, Seconds)>,
    /// A lighting station: no percentage, no rain delay.
    pub lighting: bool,
    /// The master valve opens with it.
    pub master_valve: bool,
    /// The pump starts with it.
    pub pump: bool,
    /// It ignores the sensors.
    pub ignores_sensors: bool,
    /// It runs the minutes of its programs, where the controller computes those of the other stations itself.
    pub fixed_run_time: bool,
    /// What its valves draw together, mA; nothing where nobody measured.
    pub valve_ma: Option<u32>,
}

/// What a valve draws where nobody measured, mA (common practice for 24 V alternating current, from memory).
pub const VALVE_MA: u32 = 250;

/// A span of the year by month and day, both ends included; it may cross the new year.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct YearSpan {
    /// First month and day.
    pub from: (i8, i8),
    /// Last month and day.
    pub until: (i8, i8),
}

impl YearSpan {
    /// Whether both ends are days that some year has.
    #[must_use]
    pub fn is_real(&self) -> bool {
        // 2000 has a 29 February.
        [self.from, self.until].iter().all(|(month, day)| Date::new(2000, *month, *day).is_ok())
    }

    /// The first date on or after one that lies outside the span; `None` when the span is the whole year.
    #[must_use]
    pub fn ends_after(&self, date: Date) -> Option<Date> {
        date.series(1.day()).take(367).find(|day| !self.holds(*day))
    }

    /// Whether a date lies in the span.
    #[must_use]
    pub fn holds(&self, date: Date) -> bool {
        let day = (date.month(), date.day());
        if self.from <= self.until {
            (self.from..=self.until).contains(&day)
        } else {
            day >= self.from || day <= self.until
        }
    }
}

/// Why a controller lets nothing run on a date by its own settings; lighting runs all the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rest {
    /// A rain delay, until the first date on which it has ended.
    RainDelay {
        /// That date.
        until: Date,
    },
    /// The date is left out.
    OmittedDate,
    /// The off-season, until the first date outside it; `None` when it never ends.
    OffSeason {
        /// That date.
        until: Option<Date>,
    },
}

/// Longest name of a program, characters.
pub const LONGEST_PROGRAM_NAME: usize = 40;

/// Everything a controller is set to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// The programs, in the order of the controller.
    pub programs: Vec<Program>,
    /// Percentages.
    pub percentages: Percentages,
    /// What is set for single stations.
    pub stations: Vec<(u16, StationSetting)>,
    /// Pause between two stations; below zero the next starts before the last ends.
    pub delay: Seconds,
    /// Weekdays on which nothing runs, Monday first.
    pub never_days: [bool; 7],
    /// No start in these hours, by the wall clock; may cross midnight.
    pub omit_hours: Option<Hours>,
    /// Nothing runs on this many days from a first one; lighting does.
    pub rain_delay: Option<(Date, u8)>,
    /// Nothing runs in this part of the year; lighting does.
    pub off_season: Option<YearSpan>,
    /// Single dates on which nothing runs, in order; lighting does.
    pub omit_dates: Vec<Date>,
    /// How long the master valve opens before a station, and stays open after it.
    pub master_lead: (Seconds, Seconds),
}

/// Most dates that are left out.
pub const MOST_OMITTED: usize = 60;

/// Something a card cannot hold.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{path}: {message}")]
pub struct SettingsFault {
    /// Where, such as `programs[1].starts[3]`.
    pub path: String,
    /// What is wrong, with the nearest that the card can hold.
    pub message: String,
}

impl Settings {
    /// A controller with every program of its card empty and switched off, at 100 %.
    #[must_use]
    pub fn clean(card: &Card) -> Self {
        let programs: Vec<Program> = (0..card.programs)
            .map(|i| Program {
                name: char::from(b'A' + i.min(25)).to_string(),
                active: false,
                starts: Vec::new(),
                days: if card.day_modes.weekdays {
                    Days::Weekdays([true; 7])
                } else if card.day_modes.longest_interval > 0 {
                    Days::EveryNth { interval: 1, first: Date::constant(2026, 1, 1) }
                } else {
                    Days::Even
                },
                run_times: Vec::new(),
                repeat: None,
            })
            .collect();
        Self {
            percentages: match card.percentage_scope {
                PercentageScope::Controller => Percentages::Controller(Percentage::HUNDRED),
                PercentageScope::Program => Percentages::Program(vec![Percentage::HUNDRED; programs.len()]),
                PercentageScope::Month => Percentages::Month(ByMonth::all(Percentage::HUNDRED)),
            },
            programs,
            stations: Vec::new(),
            delay: Seconds::ZERO,
            never_days: [false; 7],
            omit_hours: None,
            rain_delay: None,
            off_season: None,
            omit_dates: Vec::new(),
            master_lead: (Seconds::ZERO, Seconds::ZERO),
        }
    }

    /// The run time of a station in a program at 100 %; zero when it has none.
    #[must_use]
    pub fn run_time(&self, program: usize, station: u16) -> Seconds {
        self.programs
            .get(program)
            .and_then(|p| p.run_times.iter().find(|(n, _)| *n == station))
            .map_or(Seconds::ZERO, |(_, run_time)| *run_time)
    }

    /// Sets it; zero takes the station out. Stations stay in the order of the controller.
    pub fn set_run_time(&mut self, program: usize, station: u16, run_time: Seconds) {
        let Some(program) = self.programs.get_mut(program) else { return };
        program.run_times.retain(|(n, _)| *n != station);
        if run_time.any() {
            program.run_times.push((station, run_time));
            program.run_times.sort_unstable_by_key(|(n, _)| *n);
        }
    }

    /// Changes what is set for a station.
    pub fn update_station(&mut self, number: u16, change: impl FnOnce(&mut StationSetting)) {
        let mut setting = self.station(number);
        change(&mut setting);
        self.stations.retain(|(n, _)| *n != number);
        self.stations.push((number, setting));
        self.stations.sort_unstable_by_key(|(n, _)| *n);
    }

    /// The same settings in their one canonical form: starts in order, stations in order, entries
    /// that say nothing left out. Two settings that mean the same are equal in it.
    #[must_use]
    pub fn canonical(mut self) -> Self {
        for program in &mut self.programs {
            program.starts.sort();
            program.run_times.retain(|(_, run_time)| run_time.any());
            program.run_times.sort_unstable_by_key(|(n, _)| *n);
        }
        self.omit_dates.sort_unstable();
        self.omit_dates.dedup();
        self.stations.retain(|(_, s)| *s != StationSetting::default());
        self.stations.sort_unstable_by_key(|(n, _)| *n);
        self
    }

    /// Everything that makes the controller rest on a date; empty on an ordinary day.
    #[must_use]
    pub fn rests_on(&self, date: Date) -> Vec<Rest> {
        let delay = self.rain_delay.filter(|_| self.is_delayed(date)).map(|(first, days)| Rest::RainDelay {
            until: first.checked_add(i32::from(days).days()).unwrap_or(first),
        });
        let off = self.off_season.filter(|span| span.holds(date));
        let off = off.map(|span| Rest::OffSeason { until: span.ends_after(date) });
        let omitted = self.omit_dates.contains(&date).then_some(Rest::OmittedDate);
        delay.into_iter().chain(off).chain(omitted).collect()
    }

    fn is_delayed(&self, date: Date) -> bool {
        self.rain_delay.is_some_and(|(first, days)| {
            let since = (date - first).get_days();
            (0..i32::from(days)).contains(&since)
        })
    }

    /// Whether the controller rests on a date.
    #[must_use]
    pub fn rests(&self, date: Date) -> bool {
        !self.rests_on(date).is_empty()
    }

    /// The same with every rhythm of so many days counted back to before a date: it falls on the same days after the
    /// day that it was set to begin on, and on others before.
    #[must_use]
    pub fn with_rhythms_since(mut self, date: Date) -> Self {
        for program in &mut self.programs {
            if let Days::EveryNth { interval, first } = program.days {
                let step = i32::from(interval.max(1));
                let turns = (first - date).get_days().div_euclid(step).max(0);
                let first = first.checked_sub((turns * step).days()).unwrap_or(first);
                program.days = Days::EveryNth { interval, first };
            }
        }
        self
    }

    /// The same without rain delay, off-season and omitted dates: what would run if the controller did not rest.
    #[must_use]
    pub fn awake(&self) -> Self {
        Self { rain_delay: None, off_season: None, omit_dates: Vec::new(), ..self.clone() }
    }

    /// What is set for a station.
    #[must_use]
    pub fn station(&self, number: u16) -> StationSetting {
        self.stations.iter().find(|(n, _)| *n == number).map_or(StationSetting::default(), |(_, s)| *s)
    }

    /// Everything that a card cannot hold; empty when all fits.
    // Long: one rule after another.
    #[must_use]
    pub fn check(&self, card: &Card) -> Vec<SettingsFault> {
        let mut faults = Vec::new();
        let mut say = |path: String, message: String| faults.push(SettingsFault { path, message });
        if self.programs.len() > usize::from(card.programs) {
            say(
                "programs".into(),
                format!("has {}; the controller has {}", self.programs.len(), card.programs),
            );
        }
        for (i, program) in self.programs.iter().enumerate() {
            let at = |field: &str| format!("programs[{i}].{field}");
            let named = program.name.chars().count();
            if named == 0 || named > LONGEST_PROGRAM_NAME || program.name.chars().any(char::is_control) {
                say(at("name"), format!("give it a name of at most {LONGEST_PROGRAM_NAME} characters"));
            }
            for (k, (station, _)) in program.run_times.iter().enumerate() {
                if program.run_times.iter().take(k).any(|(other, _)| other == station) {
                    say(
                        at(&format!("run_times[{k}]")),
                        format!("station {station} has a run time already; a program runs it once"),
                    );
                }
            }
            if program.starts.len() > usize::from(card.starts_per_program) {
                say(
                    at("starts"),
                    format!(
                        "has {}; the controller has {} for a program",
                        program.starts.len(),
                        card.starts_per_program
                    ),
                );
            }
            for (k, start) in program.starts.iter().enumerate() {
                let near = card.nearest_start(*start);
                if near != *start {
                    say(
                        at(&format!("starts[{k}]")),
                        format!(
                            "the controller sets starts in steps of {} min; the nearest is {}",
                            card.start_step_min.max(1),
                            near.strftime("%H:%M")
                        ),
                    );
                }
            }
            for (k, (station, run_time)) in program.run_times.iter().enumerate() {
                let path = at(&format!("run_times[{k}]"));
                if *station == 0 || *station > card.stations {
                    say(
                        path.clone(),
                        format!("station {station} is not on a controller of {}", card.stations),
                    );
                }
                if *run_time > card.longest_run {
                    say(
                        path.clone(),
                        format!(
                            "{} s is longer than the controller allows; the most is {} s",
                            run_time.s(),
                            card.longest_run.s()
                        ),
                    );
                } else if !run_time.is_in_steps_of(card.run_step) {
                    let near = card.run_step * run_time.steps(card.run_step);
                    say(
                        path,
                        format!(
                            "the controller sets run times in steps of {} s; the nearest below is {} s",
                            card.run_step.s(),
                            near.s()
                        ),
                    );
                }
            }
            let modes = card.day_modes;
            match program.days {
                Days::Weekdays(_) if !modes.weekdays => {
                    say(at("days"), "the controller has no days of the week".into());
                }
                Days::Odd | Days::Even if !modes.parity => {
                    say(at("days"), "the controller has no odd and even dates".into());
                }
                Days::EveryNth { interval, .. } if interval == 0 || interval > modes.longest_interval => {
                    say(
                        at("days"),
                        match modes.longest_interval {
                            0 => "the controller cannot count days; choose weekdays or dates".to_owned(),
                            longest => format!("every {interval} days; the controller counts 1 to {longest}"),
                        },
                    );
                }
                _ => {}
            }
            if program.repeat.is_some() && !card.loops {
                say(at("repeat"), "the controller cannot repeat a program; give it more starts".into());
            }
        }
        if self.omit_dates.len() > MOST_OMITTED {
            say(
                "omit_dates".into(),
                format!("has {}; at most {MOST_OMITTED} dates are left out", self.omit_dates.len()),
            );
        }
        let (lead, lag) = self.master_lead;
        let most = card.longest_master_lead;
        if lead > most || lag > most || lead < Seconds::ZERO || lag < Seconds::ZERO {
            say(
                "master_lead_s".into(),
                format!("lead and lag of the master valve go up to {most} on this controller"),
            );
        }
        self.check_controller(card, &mut say);
        faults
    }

    // Long: one rule after another.
    fn check_controller(&self, card: &Card, say: &mut impl FnMut(String, String)) {
        let (values, scope): (&[Percentage], _) = match &self.percentages {
            Percentages::Controller(value) => (std::slice::from_ref(value), PercentageScope::Controller),
            Percentages::Program(values) => (values, PercentageScope::Program),
            Percentages::Month(values) => (values.as_slice(), PercentageScope::Month),
        };
        if scope != card.percentage_scope {
            say(
                "percentages".into(),
                format!("is given per {scope:?}, the controller has it per {:?}", card.percentage_scope)
                    .to_lowercase(),
            );
        }
        for (i, value) in values.iter().enumerate() {
            if !card.takes_percentage(*value) {
                say(
                    format!("percentages[{i}]"),
                    format!(
                        "{value} cannot be set; the controller takes {} to {} in steps of {}",
                        card.percentage_min.percent(),
                        card.percentage_max.percent(),
                        card.percentage_step.percent()
                    ),
                );
            }
        }
        if self.delay > card.longest_delay {
            say(
                "delay_s".into(),
                match card.longest_delay.s() {
                    0 => "the controller has no station delay".to_owned(),
                    longest => format!("the controller pauses at most {longest} s"),
                },
            );
        }
        if -self.delay > card.longest_overlap {
            say(
                "delay_s".into(),
                match card.longest_overlap.s() {
                    0 => "the controller cannot overlap stations; give a delay of 0 or more".to_owned(),
                    longest => format!("the controller overlaps stations by at most {longest} s"),
                },
            );
        }
        if self.never_days.contains(&true) && !card.day_modes.never_days {
            say("never_days".into(), "the controller has none".into());
        }
        if self.off_season.is_some_and(|span| !span.is_real()) {
            say("off_season".into(), "names a day that no year has".into());
        }
        if self.omit_hours.is_some_and(|hours| hours.from == hours.until) {
            say("omit_hours".into(), "begins and ends at the same minute; it needs a length".into());
        }
        if self.omit_hours.is_some() && !card.omit_hours {
            say("omit_hours".into(), "the controller has none".into());
        }
        if let Some((_, days)) = self.rain_delay
            && days > card.longest_rain_delay_days
        {
            say(
                "rain_delay".into(),
                format!("the controller delays at most {} days", card.longest_rain_delay_days),
            );
        }
        for (number, station) in &self.stations {
            if station.cycle_and_soak.is_some() && !card.cycle_and_soak {
                say(
                    format!("stations[{number}]"),
                    "the controller has no cycle and soak; use several starts".into(),
                );
            }
            if station.cycle_and_soak.is_some_and(|(cycle, _)| !cycle.any()) {
                say(format!("stations[{number}]"), "a cycle of no length; give it a minute or more".into());
            }
            let mut lacks = |set: bool, has: bool, what: &str| {
                if set && !has {
                    say(format!("stations[{number}]"), format!("the controller has no {what}"));
                }
            };
            lacks(station.lighting, card.lighting, "lighting stations");
            lacks(station.master_valve, card.master_valve, "master valve by station");
            lacks(station.pump, card.pump_start, "pump start by station");
            lacks(station.ignores_sensors, card.sensor_override, "sensor override by station");
            lacks(
                station.fixed_run_time,
                card.daily_run_times,
                "computed run times, so every station runs the minutes of its programs",
            );
            if *number == 0 || *number > card.stations {
                say(format!("stations[{number}]"), format!("is not on a controller of {}", card.stations));
            }
        }
    }
}

#[cfg(test)]
mod tests;

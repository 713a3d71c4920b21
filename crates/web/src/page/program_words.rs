//! Findings, actions and reasons as sentences.

use crate::page::change_words::{ChangeLine, change_lines};
use crate::page::dates::{DateFormat, said_windows, typed_date};
use crate::page::quantities::{capital, counted, depth, flow, in_words, plain, share, span, volume, wait};
pub(crate) use crate::page::strategy_words::strategy;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use upland_core::advice::findings::{
    Cost, Finding, FindingKind, FindingPlace, NeverBecause, Remedy, Severity,
};
use upland_core::advice::planner::{
    Basis, Binding, Ends, ProgramReason, Proposal, Relax, Relaxation, ZoneReason,
};
use upland_core::controller::schedule::{Change, Settings, days_in_words_by};
use upland_core::installation::{Installation, NEED_SHARES};
use upland_core::quantity::month::Month;
use upland_core::quantity::time::Seconds;
use upland_core::site::UnitSystem;

/// What the sentences need to name things.
pub(crate) struct Names<'a> {
    pub installation: &'a Installation,
    pub settings: &'a Settings,
    pub units: UnitSystem,
}

/// A finding as the page shows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct FindingWords {
    pub id: String,
    /// fault, warning or note
    pub weight: &'static str,
    pub place: String,
    /// The station that it is about, when it is about one.
    pub station: Option<u16>,
    pub text: String,
    pub cost: String,
    /// What the action does.
    pub remedy: Option<String>,
}

fn day(date: Date) -> String {
    date.formatted("%a %-d %b")
}

/// Why a run time never runs, as the end of a sentence.
fn never_because(because: NeverBecause) -> &'static str {
    match because {
        NeverBecause::NeverDays => "all days of its program are no-water days of the controller",
        NeverBecause::OmittedHours => "all starts of its program lie in omit times",
        NeverBecause::ZeroPercent => "its percentage is 0 %",
        NeverBecause::BeginsLater => "its program counts days from one that lies weeks ahead",
        NeverBecause::NoDay => "its program has no day",
        NeverBecause::NoStart => "its program has no start time",
        NeverBecause::Off => "its program is off",
    }
}

impl Names<'_> {
    pub fn program(&self, index: usize) -> String {
        self.settings.programs.get(index).map_or(String::new(), |p| p.name.clone())
    }

    pub fn station(&self, number: u16) -> String {
        match self.installation.zone(number) {
            Some(zone) => format!("{number} {}", zone.zone.name),
            None => format!("station {number}"),
        }
    }

    /// The water windows: the site's, then those of zones that have others.
    pub fn windows(&self) -> String {
        let site = self.installation.windows.of_site();
        let own = self.installation.zones.iter().map(|zone| zone.zone.number);
        let own = own.filter(|n| self.installation.windows_of(*n) != site);
        let own =
            own.map(|n| format!("{} {}", self.station(n), said_windows(self.installation.windows_of(n))));
        core::iter::once(said_windows(site)).chain(own).collect::<Vec<_>>().join("; ")
    }

    /// Changes with the names of programs and zones.
    pub fn changes(&self, changes: Vec<Change>) -> Vec<ChangeLine> {
        change_lines(changes, &|index| self.program(index), &|number| self.station(number))
    }

    pub fn stations(&self, numbers: &[u16]) -> String {
        let names: Vec<String> = numbers.iter().map(|n| self.station(*n)).collect();
        match names.split_last() {
            Some((last, [])) => last.clone(),
            Some((last, others)) => format!("{} and {last}", others.join(", ")),
            None => String::new(),
        }
    }

    fn clock(&self, at: Timestamp) -> String {
        self.zoned(at, "%H:%M")
    }

    fn zoned(&self, at: Timestamp, format: &str) -> String {
        at.to_zoned(self.tz().clone()).formatted(format)
    }

    fn tz(&self) -> &TimeZone {
        &self.installation.tz
    }

    fn place(&self, place: FindingPlace) -> String {
        match place {
            FindingPlace::Controller => "The controller".to_owned(),
            FindingPlace::Program(p) => format!("Program {}", self.program(p)),
            FindingPlace::Start(p, s) => {
                let start = self.settings.programs.get(p).and_then(|p| p.starts.get(s));
                format!(
                    "Program {}, start {}",
                    self.program(p),
                    start.map_or(String::new(), |t| t.formatted("%H:%M"))
                )
            }
            FindingPlace::Station(n) => capital(&self.station(n)),
            FindingPlace::RunTime(p, n) => format!("Program {}, {}", self.program(p), self.station(n)),
        }
    }

    /// A finding in words.
    pub fn finding(&self, finding: &Finding) -> FindingWords {
        FindingWords {
            id: finding.id(),
            weight: match finding.severity {
                Severity::Fault => "fault",
                Severity::Warning => "warning",
                Severity::Note => "note",
            },
            place: self.place(finding.place),
            station: match finding.place {
                FindingPlace::Station(station) => Some(station),
                _ => None,
            },
            text: self.kind(&finding.kind, finding.place),
            cost: self.cost(finding),
            remedy: finding.remedy.as_ref().map(|m| self.remedy(m)),
        }
    }

    fn repeated_starts(&self, starts: usize, needed: usize, short: &[u16]) -> String {
        let enough = match (needed, short.is_empty()) {
            (1, true) => "one is enough".to_owned(),
            (n, true) => format!("{} are enough", in_words(n)),
            (1, false) => "one is enough for the others".to_owned(),
            (n, false) => format!("{} are enough for the others", in_words(n)),
        };
        let again = "Each start runs the whole program again, not just one zone.";
        let starts = capital(&in_words(starts));
        if short.is_empty() {
            return format!("{starts} starts, where {enough}. {again}");
        }
        let (names, verb) = (self.stations(short), if short.len() == 1 { "needs" } else { "need" });
        let times = if short.len() == 1 { "a longer run time" } else { "longer run times" };
        format!("{starts} starts: {names} {verb} {times}, and {enough}. {again}")
    }

    // Long: one sentence for each kind of finding.
    fn kind(&self, kind: &FindingKind, place: FindingPlace) -> String {
        match kind {
            FindingKind::BeyondCard { message, .. } => format!("The controller cannot be set to this: {message}."),
            FindingKind::RepeatedStarts { starts, needed, short } => {
                self.repeated_starts(*starts, *needed, short)
            }
            FindingKind::Queues { minutes, behind, on } => format!(
                "Waits up to {} for program {}, first on {}. It runs later than it says.",
                wait(minutes_f(*minutes)),
                self.program(*behind),
                day(*on)
            ),
            FindingKind::OutsideWindow { from, until, station } => format!(
                "{} ({}), first {} to {}.",
                if self.installation.windows_of(*station) == self.installation.windows.of_site() {
                    "Runs outside the water window".to_owned()
                } else {
                    format!("Runs {} outside its own water window", self.station(*station))
                },
                said_windows(self.installation.windows_of(*station)),
                self.zoned(*from, "%a %-d %b %H:%M"),
                self.clock(*until)
            ),
            FindingKind::ForbiddenDay { ordinance, on } => {
                format!("Runs on a day that \"{ordinance}\" forbids, first on {}.", day(*on))
            }
            FindingKind::ForbiddenHour { ordinance, at } => {
                format!(
                    "Runs in hours that \"{ordinance}\" forbids, first {}.",
                    self.zoned(*at, "%a %-d %b at %H:%M")
                )
            }
            FindingKind::TooManyDays { ordinance, days, most } => {
                let days = counted(*days, "day");
                format!("Runs on {days} of a week; \"{ordinance}\" allows {most}.")
            }
            FindingKind::TooManyMinutes { ordinance, minutes, most } => {
                format!("Runs for {minutes} min of a day; \"{ordinance}\" allows {most}.")
            }
            FindingKind::TransformerExceeded { stations, draws_ma, gives_ma, at } => format!(
                "{} with their master valve and pump draw {draws_ma} mA together, the transformer gives {gives_ma} mA, first {}. Let fewer run at once, or measure what the valves draw.",
                capital(&self.stations(stations)),
                self.zoned(*at, "%a %-d %b at %H:%M"),
            ),
            FindingKind::SupplyExceeded { stations, flow: asked, elsewhere, supply, at } => {
                let others = elsewhere.l_per_min() > 0.0;
                format!(
                    "{}{} {} {}, the supply gives {}, first {}.{}",
                    capital(&self.stations(stations)),
                    if others { " and other controllers" } else { "" },
                    if stations.len() == 1 && !others { "takes" } else { "together take" },
                    flow(self.units, *asked),
                    flow(self.units, *supply),
                    self.zoned(*at, "%a %-d %b at %H:%M"),
                    if others {
                        " Move the programs of one controller away from the other's."
                    } else if stations.len() == 1 {
                        " No schedule helps: split the zone, or correct its area or rate."
                    } else {
                        ""
                    }
                )
            }
            FindingKind::RoundsToZero { percentage, months } if months.is_empty() => {
                format!("At {percentage} its minutes round to nothing; it never runs.")
            }
            FindingKind::RoundsToZero { percentage, months } => format!(
                "At {percentage} in {} its minutes round to nothing.",
                months.iter().map(|m| m.name()).collect::<Vec<_>>().join(", ")
            ),
            FindingKind::ZoneDrowned { share: got } => format!(
                "Gets {} of what its plants are expected to use over the next weeks; beyond {} it is too much.",
                share(*got),
                share(NEED_SHARES.1)
            ),
            FindingKind::ZoneShort { share: got } => format!(
                "Gets {} of what its plants are expected to use over the next weeks; below {} it is too little.",
                share(*got),
                share(NEED_SHARES.0)
            ),
            FindingKind::DriesBetween { days, of, adequacy } => format!(
                "Falls below its refill point on {days} of the next {of} days and gets {} of its demand, though the amount would do: water more often, with less each time.",
                share(*adequacy)
            ),
            FindingKind::DrainsBetween { share: lost, a_week } => format!(
                "Loses {} of its watering, {} a week: each dose is more than the root zone can hold. Water more often, with less each time.",
                share(*lost),
                depth(self.units, *a_week)
            ),
            FindingKind::NeverRuns { because } => {
                format!("Has minutes that never run: {}.", never_because(*because))
            }
            FindingKind::OmittedHours { from, first } => format!(
                "Runs on into the hours from {} in which nothing may start, first {}.",
                from.formatted("%H:%M"),
                self.zoned(*first, "%a %-d %b at %H:%M")
            ),
            FindingKind::CycleTooLong { run, limit } => format!(
                "Runs {} at a time; {} water runs off on its soil and slope.",
                run,
                if *limit == Seconds::from_min(1) {
                    "after a minute".to_owned()
                } else {
                    format!("after {limit}")
                }
            ),
            FindingKind::SoakTooShort { pause, needed } => {
                format!("Soaks {pause} between cycles and needs {needed}.")
            }
            FindingKind::MinutesWithoutZone => {
                "Has minutes, but no zone is on this station: ghost watering, or a zone not yet described."
                    .into()
            }
            FindingKind::LightingIsPlanted => {
                "Is set as lighting, and a planted zone is described on it: as lighting it has no percentage and no sensor stops it. If lights are wired to it, remove the zone."
                    .into()
            }
            FindingKind::ZoneWithoutMinutes => "No active program waters it.".into(),
            FindingKind::NoStation => format!(
                "The controller has {} stations; this zone cannot be wired to it.",
                self.installation.card.stations
            ),
            FindingKind::HiddenProgram => {
                "Waters only what other programs water already: an old program left on.".into()
            }
            FindingKind::EmptyProgram => "Is switched on and runs nothing.".into(),
            FindingKind::OddPair { on } => format!(
                "Odd dates run twice on end where a month has 31 days, next {} and the day after.",
                day(*on)
            ),
            FindingKind::PastSunrise { month, percentage, minutes } => format!(
                "In {} the percentage of {percentage} pushes the night {} past sunrise and window.",
                month.name(),
                span(minutes_f(*minutes))
            ),
            FindingKind::ClockChange { on, removed } => {
                if *removed {
                    format!(
                        "On {} the clock skips this hour; the start moves on by the hour.",
                        on.formatted("%-d %b %Y")
                    )
                } else {
                    format!(
                        "On {} the clock repeats this hour; the controller may start twice.",
                        on.formatted("%-d %b %Y")
                    )
                }
            }
            FindingKind::NoFallbackMinutes => {
                "The controller takes daily run times and has none to fall back on when they stay away.".into()
            }
            FindingKind::NoMasterValve => {
                let FindingPlace::Station(_) = place else { return String::new() };
                "The controller opens a master valve for other stations, not for this one: it runs without water."
                    .into()
            }
            FindingKind::StoppedUnfelt { sensor, why } => format!("{sensor} stops it, but {}.", why.words()),
            FindingKind::IgnoresSensor { sensor } => {
                format!("It ignores the sensors, though it feels what {sensor} feels.")
            }
            FindingKind::SensorNotWired { sensor, refusal } => {
                format!("{sensor} cannot be joined: {}.", crate::page::sensor_words::refusal(*refusal))
            }
            FindingKind::WindowTooShort { sensor, set_min, needed_min } => format!(
                "The cycle window of {sensor} is {}; the longest day's cycle and an hour need {}.",
                span(f64::from(*set_min)),
                span(minutes_f(*needed_min))
            ),
        }
    }

    fn cost(&self, finding: &Finding) -> String {
        let Cost { litres_a_week, minutes_a_week, days } = finding.cost;
        let litres =
            litres_a_week.filter(|l| l.l() >= 1.0).map(|l| format!("{} a week", volume(self.units, l)));
        let minutes = minutes_a_week.filter(|m| *m >= 0.5).map(|m| format!("{} a week", span(m)));
        let days = days
            .filter(|d| *d > 0)
            .map(|d| format!("{d} {} in four weeks", if d == 1 { "day" } else { "days" }));
        match finding.kind {
            FindingKind::RepeatedStarts { .. }
            | FindingKind::HiddenProgram
            | FindingKind::MinutesWithoutZone
            | FindingKind::CycleTooLong { .. } => {
                [litres, minutes].into_iter().flatten().collect::<Vec<_>>().join(", ")
            }
            FindingKind::TooManyDays { .. } | FindingKind::TooManyMinutes { .. } => String::new(),
            FindingKind::Queues { .. } | FindingKind::SupplyExceeded { .. } => days.unwrap_or_default(),
            _ => [minutes, days].into_iter().flatten().collect::<Vec<_>>().join(", "),
        }
    }

    /// What an action does, as a button says it.
    pub fn remedy(&self, remedy: &Remedy) -> String {
        match remedy {
            Remedy::KeepStarts { count: 1, .. } => "Delete extra starts".into(),
            Remedy::KeepStarts { count, .. } => format!("Keep the first {} starts", in_words(*count)),
            Remedy::MoveStart { to, .. } => format!("Start at {}", to.formatted("%H:%M")),
            Remedy::WorkBack { .. } => "Work every start back from the window's end".into(),
            Remedy::SetDays { days, .. } => format!("Run on {}", days_in_words_by(*days, typed_date)),
            Remedy::SetCycle { cycle, soak, .. } => {
                format!("Cycles of {cycle} with {soak} soak")
            }
            Remedy::SplitStarts { count, apart_min, .. } => {
                format!("Split over {} starts, {apart_min} min apart", in_words(*count))
            }
            Remedy::ClearRunTime { .. } => "Delete its run time".into(),
            Remedy::SwitchOff { program } => format!("Switch {} off", self.program(*program)),
            Remedy::NotLighting { .. } => "Set it as a watering station".into(),
            Remedy::OpenMasterValve { .. } => "Open the master valve with it".into(),
            Remedy::Sensors { ignored: true, .. } => "Let it ignore the sensors".into(),
            Remedy::Sensors { ignored: false, .. } => "Let it obey the sensors".into(),
            Remedy::RaiseRunTime { run_time, .. } => format!("Raise it to {run_time}"),
            Remedy::FitCard => "Use the nearest settings that the controller has".into(),
        }
    }

    /// Why a planned program is as it is.
    pub fn program_reason(&self, reason: &ProgramReason) -> String {
        let mut sentences = Vec::new();
        let wait = match reason.gap_days {
            1 => "every day".to_owned(),
            n => format!("at most {n} days apart"),
        };
        if let Some((station, days)) = reason.tightest {
            let days_words = days_in_words_by(reason.days, typed_date);
            let rhythm = if days_words.starts_with("every day") {
                days_words
            } else {
                format!("{days_words}, {wait}")
            };
            let bears = if days.is_finite() && days < 60.0 {
                format!("would reach its refill point after {} days", plain(days, 1))
            } else {
                "hardly dries".to_owned()
            };
            let first = self.station(station);
            sentences.push(if reason.stations.len() > 1 {
                format!("{rhythm}; the first to need water, {first}, {bears}.")
            } else {
                format!("{rhythm}; {first} {bears}.")
            });
            let (waterings, apart) = reason.waterings;
            if waterings > 1 {
                sentences.push(format!(
                    "Its root zone holds less than a day's need, so it is watered {} times a day, {} apart.",
                    in_words(usize::try_from(waterings).unwrap_or(usize::MAX)),
                    span(f64::from(apart))
                ));
            }
            if reason.strained && days < 1.0 {
                sentences.push(
                    "That is sooner than the window lets it run again: open the window for longer, or set a loop of pulses."
                        .into(),
                );
            } else if reason.strained {
                sentences.push("That is sooner than it runs: no tighter rhythm is open to it.".into());
            }
        }
        if reason.merged {
            sentences
                .push("Zones of different rhythm share it; the controller has no program to spare.".into());
        }
        if reason.interleaved {
            sentences.push(
                "While its zones soak, those of the other rhythm run: one after the other would not fit."
                    .into(),
            );
        }
        if reason.spread_over > 1 {
            sentences.push(format!(
                "The zones are spread over {} sets of nights, because one night is too short for them.",
                in_words(reason.spread_over)
            ));
        }
        capital(&sentences.join(" "))
    }

    /// Why a zone gets its minutes.
    pub fn zone_reason(&self, reason: &ZoneReason) -> String {
        let depth = crate::page::quantities::depth(self.units, reason.net);
        let cycles = crate::page::quantities::cycles(reason.cycles);
        let mut text = format!("{depth} each time takes {} min", plain(reason.run_time.min_value(), 1));
        if reason.cycles.count > 1 {
            text.push_str(&format!(", as {cycles} with {} min soak", reason.cycles.soak_minutes));
        }
        if let Some(short) = reason.short_by {
            text.push_str(&format!("; {} min of it have no start to run from", plain(short.min_value(), 0)));
        }
        if let Some(starts) = reason.starts_too_many {
            text.push_str(&format!(
                "; its program starts {starts} times, so that it gets more than that: the controller has no program left for it"
            ));
        }
        if let Some(more) = reason.unlawful {
            text.push_str(&format!(
                "; it needs {} min more, which the ordinance does not allow on a day",
                plain(more.min_value(), 0)
            ));
        }
        text + "."
    }

    /// Reasons of the whole plan.
    pub fn plan_notes(&self, proposal: &Proposal) -> Vec<String> {
        let mut notes = Vec::new();
        if proposal.more_days {
            notes.push(
                "It runs on more days than this strategy plans, because its nights would be too long.".into(),
            );
        }
        if !proposal.kept.is_empty() {
            let names: Vec<String> = proposal.kept.iter().map(|p| self.program(*p)).collect();
            notes.push(format!("Kept as they are, for lighting or pulses: {}.", names.join(", ")));
        }
        if !proposal.left_to_kept.is_empty() {
            notes.push(format!("Left to the pulses: {}.", self.stations(&proposal.left_to_kept)));
        }
        if !proposal.without_need.is_empty() {
            notes.push(format!(
                "No water is needed in that time by {}.",
                self.stations(&proposal.without_need)
            ));
        }
        notes
    }

    /// What a plan is made for, and until when it holds.
    pub fn plan_holds(&self, month: Month, basis: Basis, holds: Option<(Date, Ends)>) -> String {
        let made = match basis {
            Basis::Coming => "Made for the coming weeks".to_owned(),
            Basis::Month(_) => format!("Made for {}", month.name()),
            Basis::Year => format!("Made for the year, by the demand of {}", month.name()),
        };
        let Some((until, ends)) = holds else { return format!("{made}; it is valid for a year.") };
        let because = match ends {
            Ends::LawBegins { station } => {
                format!("then the ordinance forbids runs of {}", self.station(station))
            }
            Ends::LawEases { station } => {
                format!("then the ordinance allows {} more than the plan uses", self.station(station))
            }
            Ends::OffSeason => "then the off-season begins".into(),
            Ends::Planting { station } => {
                format!("then the grow-in or wean-off of {} ends", self.station(station))
            }
            Ends::Need { share: given } => format!(
                "from then on its minutes are {} of what plants use; adjust the percentage, or plan again",
                share(given)
            ),
        };
        format!("{made}; it is valid until {}: {because}.", until.formatted("%-d %b %Y"))
    }

    /// What binds when nothing fits.
    pub fn binding(&self, binding: &Binding) -> String {
        match binding {
            Binding::NoZones => "No zone is wired to this controller. Describe its zones first.".into(),
            Binding::NoNeed => {
                "No zone of this controller needs water in that time, or its pulses give it all. Plan for another month.".into()
            }
            Binding::Window { needed_minutes, have_minutes, proved } => format!(
                "{} {} and has {}{}.",
                if *proved {
                    "The water window is too short for any schedule: a night needs at least"
                } else {
                    "No schedule was found that fits the water window: the shortest night needs"
                },
                span(f64::from(*needed_minutes)),
                span(f64::from(*have_minutes)),
                if *proved { "" } else { " in one piece" }
            ),
            Binding::NoDay { station } => {
                format!(
                    "{} has no day and hour left between restrictions, no-water days and controller type.",
                    capital(&self.station(*station))
                )
            }
            Binding::Supply { station, flow: asked, supply } => format!(
                "{} alone takes {}, the supply gives {}. Correct its area or rate, or split it.",
                capital(&self.station(*station)),
                flow(self.units, *asked),
                flow(self.units, *supply)
            ),
            Binding::NoStation { station } => format!(
                "{} has no station: the controller has {}. Wire it to another controller, or correct its type.",
                capital(&self.station(*station)),
                self.installation.card.stations
            ),
            Binding::NoProgram => "Every program of the controller is taken by lighting and pulses.".into(),
        }
    }

    /// A relaxation with its figures.
    pub fn relaxation(&self, relaxation: &Relaxation) -> String {
        let Relax { window_from, extra_days, extra_programs, supply, share_pct, drip_apart, date_minutes: _ } =
            relaxation.relax;
        if let Some(from) = window_from {
            format!("Open the window at {}, {} earlier", from.formatted("%H:%M"), span(relaxation.by))
        } else if drip_apart {
            "Drip on its own program".into()
        } else if extra_days > 0 {
            format!(
                "{} more allowed {} a week",
                capital(&in_words(usize::from(extra_days))),
                if extra_days == 1 { "day" } else { "days" }
            )
        } else if extra_programs > 0 {
            format!(
                "{} more {} on the controller",
                capital(&in_words(usize::from(extra_programs))),
                if extra_programs == 1 { "program" } else { "programs" }
            )
        } else if let Some(supply) = supply {
            format!("A supply of {}", flow(self.units, supply))
        } else {
            format!("{} % of the water", share_pct.unwrap_or(100))
        }
    }
}

#[allow(clippy::cast_precision_loss, reason = "minutes of a night")]
fn minutes_f(minutes: i64) -> f64 {
    minutes as f64
}

#[cfg(test)]
mod tests;

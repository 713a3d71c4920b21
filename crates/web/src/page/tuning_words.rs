//! Causes, evidence and adjustments as sentences: for the pages and for the command.

use crate::page::dates::DateFormat;
use crate::page::quantities::{counted, depth, plain, rate, short_date, span, volume};
use jiff::civil::Date;
use upland_core::account::site_account::AccountInputs;
use upland_core::controller::schedule::days_in_words_by;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::time::Seconds;
use upland_core::sensors::COMMON_RAIN_THRESHOLD;
use upland_core::site::{StationId, UnitSystem};
use upland_core::tuning::{
    Amount, Cause, CorrectionKind, Evidence, Lever, LeverCode, Looks, ProgramPercentage, Suspicion, Turn,
    ZoneOutlook,
};

/// Words about a site.
pub struct Words<'a> {
    facts: &'a AccountInputs,
    units: UnitSystem,
}

fn percent(value: f64) -> String {
    format!("{} %", plain(100.0 * value, 0))
}

fn trim(value: f64) -> String {
    format!("{}{} %", if value > 0.0 { "+" } else { "" }, plain(value, 0))
}

fn minutes(value: Seconds) -> String {
    let s = value.s();
    if s % 60 == 0 { span(value.minutes().min_value()) } else { format!("{} min {} s", s / 60, s % 60) }
}

impl<'a> Words<'a> {
    /// In the units of the site.
    #[must_use]
    pub fn of(facts: &'a AccountInputs) -> Self {
        Self { facts, units: facts.site.units }
    }

    /// In metric units, for files.
    #[must_use]
    pub fn metric(facts: &'a AccountInputs) -> Self {
        Self { facts, units: UnitSystem::Metric }
    }

    /// A zone: "3 Heather terrace".
    #[must_use]
    pub fn zone(&self, id: StationId) -> String {
        let station = id.station;
        let known = self.facts.zone(id);
        known.map_or_else(|| format!("station {station}"), |own| format!("{station} {}", own.zone.name))
    }

    fn program(&self, controller_number: Option<u8>, at: usize) -> String {
        let own = self.facts.of_controller(controller_number.unwrap_or(1));
        let settings = own.and_then(|b| b.versions.last()).map(|(_, s)| s);
        settings.and_then(|s| s.programs.get(at)).map_or_else(|| (at + 1).to_string(), |p| p.name.clone())
    }

    /// What a suspicion is about: a zone, a sensor, a controller or the site.
    #[must_use]
    pub fn place(&self, controller_number: Option<u8>, station: Option<u16>, sensor: Option<&str>) -> String {
        match (controller_number, station, sensor) {
            (Some(number), Some(station), _) => self.zone(StationId::new(number, station)),
            (_, _, Some(sensor)) => sensor.to_owned(),
            (Some(number), ..) if self.facts.controllers.len() > 1 => format!("controller {number}"),
            (Some(_), ..) => "the controller".to_owned(),
            _ => "the site".to_owned(),
        }
    }

    /// A suspicion's place.
    #[must_use]
    pub fn place_of(&self, suspicion: &Suspicion) -> String {
        self.place(suspicion.controller_number, suspicion.station, suspicion.sensor.as_deref())
    }

    // Long: a sentence for each kind of evidence.
    /// Evidence as a sentence.
    #[must_use]
    pub fn evidence(&self, of: &Suspicion, evidence: &Evidence) -> String {
        match evidence {
            Evidence::Sign(sign) => format!("Seen: {}.", sign.label()),
            Evidence::NoSign(sign) => format!("Not seen: {}.", sign.label()),
            Evidence::Contradicts { seen, expected } => {
                format!("It looks {}; by the account it should look {}.", seen.label(), expected.label())
            }
            Evidence::LooksOtherwise(looks) => format!("It looks {}.", looks.label()),
            Evidence::AsExpected(looks) => format!("It looks {}, as the account has it.", looks.label()),
            Evidence::Alike { looks, zones, of } => {
                format!("{zones} of {of} zones that were looked at are {}.", looks.label())
            }
            Evidence::Flow(ratio) => {
                format!("While it ran the meter read {} of what it takes by rate and area.", percent(*ratio))
            }
            Evidence::Meter(ratio) => {
                format!("The main meter counted {} of what the runs would have taken.", percent(*ratio))
            }
            Evidence::MeterStill => "The main meter stood still though runs were due.".into(),
            Evidence::WetElsewhere => "The ground is wet where nothing waters.".into(),
            Evidence::DryElsewhere => "The ground was not seen wet where nothing waters.".into(),
            Evidence::RateIsDefault => "Its rate was never measured.".into(),
            Evidence::RateMeasured(own) => format!("Its rate was measured: {}.", rate(self.units, *own)),
            Evidence::CoefficientIsDefault => "Its plant coefficient is the one of its kind.".into(),
            Evidence::SoilFound { found, surveyed } => {
                format!("A spade turned up {}; the survey says {}.", found.label(), surveyed.label())
            }
            Evidence::SoilAsSurveyed => "A spade turned up the soil of the survey.".into(),
            Evidence::SoilUnread => "Nobody dug.".into(),
            Evidence::Cycle { set, longest } => format!(
                "A cycle runs {}; this soil on this slope takes {} before water runs off.",
                minutes(*set),
                minutes(*longest)
            ),
            Evidence::CyclesFit => "Its cycles are as short as its soil needs.".into(),
            Evidence::Gets { share, others } => format!(
                "As set it gets {} of its requirement; the median of the others is {}.",
                percent(share.fraction()),
                percent(others.fraction())
            ),
            Evidence::ProgramGets { program, share } => format!(
                "As set the zones of program {} get {} of their need, in the middle.",
                self.program(of.controller_number, *program),
                percent(share.fraction())
            ),
            Evidence::AllGet(share) => {
                format!("As set the zones get {} of their requirement (median).", percent(share.fraction()))
            }
            Evidence::ControllerShowsMinutes { shown, known } => {
                format!("The controller shows {}; known were {}.", minutes(*shown), minutes(*known))
            }
            Evidence::ControllerShowsPercentage { shown, known } => {
                format!("The controller shows {shown}; recorded was {known}.")
            }
            Evidence::ControllerAsKnown => {
                "The controller shows what is known, as far as it was read.".into()
            }
            Evidence::ControllerUnread => "Nobody read the percentage on the controller.".into(),
            Evidence::PercentageSince(date) => {
                format!("The percentage is unchanged since {}.", short_date(*date))
            }
            Evidence::PercentageAgainst { set, weather } => format!(
                "{set} is set; the weather of these days requires {} of the hottest month.",
                percent(weather.fraction())
            ),
            Evidence::Gap { days, refill } => format!(
                "{days} {} between waterings; the first zone reaches its refill point after {} days.",
                if *days == 1 { "day" } else { "days" },
                plain(*refill, 1)
            ),
            Evidence::ProgramOn(at) => {
                format!(
                    "The controller has program {} switched on; none was known.",
                    self.program(of.controller_number, *at)
                )
            }
            Evidence::Starts { program, shown, known } => format!(
                "Program {} has {shown} starts where {known} {} enough; each runs all of it again.",
                self.program(of.controller_number, *program),
                if *known == 1 { "is" } else { "are" }
            ),
            Evidence::ClockOff(ahead) => {
                let (off, side) = if ahead.s() < 0 { (-*ahead, "behind") } else { (*ahead, "ahead") };
                format!("Its clock is {} {side}.", minutes(Seconds::from_s(off.s() / 60 * 60)))
            }
            Evidence::SwitchedOff => "The controller is switched off.".into(),
            Evidence::SwitchedOn => "The controller is on automatic.".into(),
            Evidence::Bypassed => "The controller shows its sensors bypassed, and no bypass is known.".into(),
            Evidence::NotBypassed => "Its sensors are not bypassed.".into(),
            Evidence::HeldRuns(0) => "No run was skipped in these days.".into(),
            Evidence::HeldRuns(runs) => format!("{} should have been skipped.", counted(*runs, "run")),
            Evidence::Covered => "Something keeps rain from it.".into(),
            Evidence::Sprayed => "Heads spray it.".into(),
            Evidence::HangsFree => "It was not seen installed so.".into(),
            Evidence::HoldsTooLong { dry_days: 99 } => {
                "It prevents watering, and no rain is on record that would trip it.".into()
            }
            Evidence::HoldsTooLong { dry_days } => {
                format!("It prevents watering, although by the record it has been dry for {dry_days} days.")
            }
            Evidence::DoesNotHold => "It allows watering, though by the record it should prevent it.".into(),
            Evidence::SensorAsRecord => "It says what the record says, as far as it was read.".into(),
            Evidence::SmallRain { threshold, runs } => format!(
                "It is set to {}, and skipped {} of a zone for less rain than the common {}.",
                depth(self.units, *threshold),
                counted(*runs, "run"),
                depth(self.units, COMMON_RAIN_THRESHOLD)
            ),
            Evidence::Refused { windows, of } => format!("The probe refused {windows} of {of} runs."),
            Evidence::ThresholdAgainst { threshold_pct, full_pct, refill_pct } => format!(
                "Its threshold is {} %; in these days it read {} to {} %.",
                plain(*threshold_pct, 1),
                plain(*refill_pct, 1),
                plain(*full_pct, 1)
            ),
            Evidence::HeldUnderRoof(1) => {
                "One of its runs was skipped for rain that never reaches it.".into()
            }
            Evidence::HeldUnderRoof(runs) => {
                format!("{runs} of its runs were skipped for rain that never reaches it.")
            }
            Evidence::RanInHold(1) => "One of its runs ran while the sensor prevented watering.".into(),
            Evidence::RanInHold(runs) => {
                format!("{runs} of its runs ran while the sensor prevented watering.")
            }
            Evidence::Nights { ratio, spread, nights } => format!(
                "In {nights} nights the controller used {} of what the weather asked for; single nights lie {} about that.",
                percent(*ratio),
                percent(*spread)
            ),
            Evidence::TrimNeeded(needed) => format!("A trim of {} would set the mean right.", trim(*needed)),
            Evidence::GrowInEnded(date) => {
                format!("The grow-in ended on {} and the controller was not set since.", short_date(*date))
            }
            Evidence::WeanStep { now, then } => format!(
                "The wean-off is at {} of the need; when the controller was last set it was at {}.",
                percent(now.fraction()),
                percent(then.fraction())
            ),
            Evidence::OverSupply(most) => {
                format!("At the same time they need {} % of the supply.", plain(*most, 0))
            }
            Evidence::Overlap(pairs) => format!("{pairs} times in these days two zones run at once."),
            Evidence::Reading(share) => {
                format!("A reading says {} of the available water is left.", percent(share.fraction()))
            }
            Evidence::AllRight(1) => "One zone looks right.".to_owned(),
            Evidence::AllRight(zones) => format!("{zones} zones look right."),
        }
    }

    /// An adjustment as a sentence: what to do.
    // Long: a sentence for each kind of adjustment.
    #[must_use]
    pub fn lever(&self, lever: &Lever) -> String {
        let place = self.place(lever.controller_number, lever.station, lever.sensor.as_deref());
        let (from, to) = (self.amount(lever.from), self.amount(lever.to));
        match lever.code {
            LeverCode::Mend => match lever.cause {
                Cause::NoWater => format!("Get water to {place}: valve, wire, flow control, isolation."),
                Cause::ValveOpen => format!("Clean or change the valve of {place}."),
                Cause::BrokenHead => format!("Repair what is broken at {place}."),
                Cause::BlockedHeads => format!("Clean the heads and filters of {place}, set them upright."),
                Cause::LowPressure => "Find the pressure: regulator, filter, main, a valve half shut.".into(),
                _ => "Find the leak: shut the main section by section and watch the meter.".into(),
            },
            LeverCode::SetControllerRight => match lever.cause {
                Cause::ControllerOff => "Switch the controller to automatic.".into(),
                Cause::ClockWrong => {
                    "Set the clock and date of the controller, and look at its backup battery.".into()
                }
                Cause::BypassLeft => "Take the bypass off.".into(),
                Cause::HiddenProgram => "Switch the program off, or clear its starts.".into(),
                Cause::ExtraStart => format!("Clear the extra starts: {to}, not {from}."),
                _ => format!("Program {to} again; the controller shows {from}."),
            },
            LeverCode::SensorByHand => match lever.cause {
                Cause::GaugeSheltered => format!("Move {place} to where rain reaches it."),
                Cause::GaugeSprayed => format!("Move {place} out of the spray, or turn the head away."),
                Cause::SensorSlowToDry => {
                    format!("Clean {place}, and give it more air and sun so that it dries sooner.")
                }
                _ => format!("Test {place} with water, then its wires and the terminals of the controller."),
            },
            LeverCode::Survey => format!("Measure {place} again before a setting is changed."),
            LeverCode::ZoneMinutes => {
                format!("{place}{}: {to} instead of {from}.", self.programs_of(lever))
            }
            LeverCode::Cycles => {
                format!("{place}: cycles of at most {to} instead of {from}, with a soak between.")
            }
            LeverCode::Starts if lever.to == Amount::None => {
                "Let the programs run one after the other.".into()
            }
            LeverCode::Starts => format!("Keep {to} instead of {from}."),
            LeverCode::Percentage => {
                let one = |change: &ProgramPercentage| match change.program {
                    Some(program) => {
                        let name = self.program(lever.controller_number, program);
                        format!("program {name} to {} instead of {}", change.to, change.from)
                    }
                    None => format!("{} instead of {}, for {place}", change.to, change.from),
                };
                let all: Vec<String> = lever.percentages.iter().map(one).collect();
                format!("Set {}.", all.join(", "))
            }
            LeverCode::Days => match lever.program {
                Some(program) => format!(
                    "Program {}: water {to} instead of {from}{}.",
                    self.program(lever.controller_number, program),
                    if self.keeps_amount(lever) { ", with run times that bring the same a week" } else { "" }
                ),
                None => format!("Water {to} instead of {from}."),
            },
            LeverCode::RainThreshold => {
                format!("{place}: prevent watering at {to} of rain instead of {from}.")
            }
            LeverCode::ProbeThreshold => format!("{place}: prevent watering at {to} instead of {from}."),
            LeverCode::SensorMap if lever.to == Amount::Holds(true) => {
                format!("Let {place} obey the sensor.")
            }
            LeverCode::SensorMap => format!("Let {place} ignore the rain sensor: it is under a roof."),
            LeverCode::EtTrim => format!("{place}: trim {to} instead of {from}."),
            LeverCode::EtFull => format!("{place}: {to} a day means 100 %, not {from}."),
        }
    }

    /// ", program A" of an adjustment at one station: the programs in which its run time changes.
    fn programs_of(&self, lever: &Lever) -> String {
        let number = lever.controller_number.unwrap_or(1);
        let settings = self.facts.of_controller(number).and_then(|b| b.versions.last()).map(|(_, s)| s);
        let waters = |p: &&upland_core::controller::schedule::Program| {
            p.waters() && p.run_times.iter().any(|(n, t)| Some(*n) == lever.station && t.any())
        };
        let names: Vec<&str> =
            settings.into_iter().flat_map(|s| &s.programs).filter(waters).map(|p| p.name.as_str()).collect();
        match names.as_slice() {
            [] => String::new(),
            [one] => format!(", program {one}"),
            more => format!(", programs {}", more.join(" and ")),
        }
    }

    /// Whether a change of days goes with other run times, which bring the same water a week.
    fn keeps_amount(&self, lever: &Lever) -> bool {
        let Turn::Settings(number, changed) = &lever.turn else { return false };
        let before = self.facts.of_controller(*number).and_then(|b| b.versions.last()).map(|(_, s)| s);
        before.zip(lever.program).is_some_and(|(before, at)| {
            before.programs.get(at).map(|p| &p.run_times) != changed.programs.get(at).map(|p| &p.run_times)
        })
    }

    /// An amount.
    #[must_use]
    pub fn amount(&self, amount: Amount) -> String {
        match amount {
            Amount::None => String::new(),
            Amount::Minutes(value) | Amount::Cycle(value) => minutes(value),
            Amount::Percentage(value) => value.to_string(),
            Amount::Days(days) => days_in_words_by(days, crate::page::dates::typed_date),
            Amount::Depth(value) => depth(self.units, value),
            Amount::SoilPct(value) => format!("{} %", plain(value, 1)),
            Amount::TrimPct(value) => trim(value),
            Amount::Starts(1) => "one start".into(),
            Amount::Starts(count) => format!("{count} starts"),
            Amount::Holds(true) => "obeys".into(),
            Amount::Holds(false) => "ignores".into(),
        }
    }

    /// What not to touch, and why.
    #[must_use]
    pub fn leave(&self, lever: &Lever) -> String {
        let right = lever.leave.len();
        match (lever.code, lever.station) {
            (_, Some(_)) if right > 0 => format!(
                "Leave the percentage and the days: {} would change with them.",
                if right == 1 {
                    "another zone is right and".to_owned()
                } else {
                    format!("{right} other zones are right and")
                }
            ),
            (LeverCode::EtTrim, _) => {
                "Leave the climate setting: the nights follow the weather, only too high or too low.".into()
            }
            (LeverCode::EtFull, _) => {
                "Leave the minutes: they are made for the hottest month at 100 %.".into()
            }
            (LeverCode::Percentage, _) => "Leave the minutes and the days: the zones are off alike.".into(),
            (LeverCode::Days, _) => "Leave the percentage: it fits the weather of these days.".into(),
            (LeverCode::Mend | LeverCode::SetControllerRight | LeverCode::SensorByHand, _) => {
                "Leave every setting until this is corrected: what is seen now says nothing of them.".into()
            }
            _ => String::new(),
        }
    }

    /// What an adjustment does in so many weeks, in a sentence; nothing turned, nothing said.
    #[must_use]
    pub fn effect(&self, lever: &Lever, before: &[ZoneOutlook], after: &[ZoneOutlook], weeks: i32) -> String {
        if lever.turn == Turn::ByHand {
            return "Once it is done the site runs as the account has it.".into();
        }
        let changed =
            before.iter().zip(after).filter(|(a, b)| (a.applied.mm() - b.applied.mm()).abs() > 0.05);
        let one = |(a, b): (&ZoneOutlook, &ZoneOutlook)| {
            let zone = self.zone(StationId::new(a.controller_number, a.station));
            if (a.adequacy.fraction() - b.adequacy.fraction()).abs() >= 0.01 {
                let (now, then) = (percent(a.adequacy.fraction()), percent(b.adequacy.fraction()));
                format!("{zone} gets {then} of its need instead of {now}")
            } else {
                let of = |z: &ZoneOutlook| depth(self.units, z.applied);
                format!("{zone} has all it requires with {} instead of {}", of(b), of(a))
            }
        };
        let mut said: Vec<String> = changed.map(one).collect();
        if said.is_empty() {
            return format!("Without rain nothing changes in the next {weeks} weeks.");
        }
        let more = said.len().saturating_sub(3);
        said.truncate(3);
        let more = if more > 0 { format!(", and {more} more zones change") } else { String::new() };
        let litres = |all: &[ZoneOutlook]| all.iter().filter_map(|z| z.litres).map(|l| l.l()).sum::<f64>();
        let by = litres(after) - litres(before);
        let water = if by.abs() < 1.0 {
            String::new()
        } else {
            let of = upland_core::quantity::units::Litres::from_l(by.abs());
            format!("; {} {}", volume(self.units, of), if by > 0.0 { "more water" } else { "less water" })
        };
        format!("In {weeks} weeks without rain {}{more}{water}.", said.join(", "))
    }

    /// Zones that an adjustment makes worse, as a sentence; empty when none.
    #[must_use]
    pub fn worse(&self, before: &[ZoneOutlook], after: &[ZoneOutlook]) -> String {
        let rank = |looks: Looks| u8::from(looks != Looks::Right);
        let worse = before.iter().zip(after).filter(|(a, b)| rank(b.looks) > rank(a.looks));
        let all: Vec<String> = worse
            .map(|(_, b)| {
                format!(
                    "{} will look {}",
                    self.zone(StationId::new(b.controller_number, b.station)),
                    b.looks.label()
                )
            })
            .collect();
        if all.is_empty() { String::new() } else { format!("What gets worse: {}.", all.join(", ")) }
    }
}

/// A correction's words: what, by how much, how sure.
#[must_use]
pub fn correction(kind: CorrectionKind, factor: f64, readings: usize, confidence: Share) -> String {
    let what = match kind {
        CorrectionKind::Demand => "its plants need",
        CorrectionKind::Rate => "its heads give",
    };
    let by = plain(100.0 * (factor - 1.0).abs(), 0);
    let side = if factor > 1.0 { "more" } else { "less" };
    format!(
        "{readings} {} of the soil: {what} {by} % {side} than the survey says. Confidence {}.",
        if readings == 1 { "reading" } else { "readings" },
        percent(confidence.fraction())
    )
}

/// "Look again on Thu 9 Jul."
#[must_use]
pub fn look_again(date: Date) -> String {
    date.formatted("%a %-d %b")
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::codes::Coded;
    use upland_core::tuning::{account_at, decide};
    use upland_faults::{CAUSES, planted};

    /// A sentence as a reader takes it: it begins with a capital or a number, ends with a stop, and holds no number
    /// that is none.
    fn is_a_sentence(text: &str, of: &str) {
        let begins = text.chars().next().is_some_and(|c| c.is_uppercase() || c.is_ascii_digit());
        assert!(begins && text.ends_with('.'), "{of}: {text}");
        for wrong in ["NaN", "inf", "  ", "-0 ", " ,", "..", "{", "None"] {
            assert!(!text.contains(wrong), "{of}: {text}");
        }
    }

    #[test]
    fn everything_that_is_said_of_a_visit_is_a_sentence() {
        let mut causes = 0;
        for cause in CAUSES {
            for seed in [40, 41] {
                let case = planted(cause, seed);
                let decision = decide(&case.known, &account_at(&case.known, &case.visit), &case.visit);
                let words = Words::of(&case.known);
                for own in &decision.diagnosis.causes {
                    causes += 1;
                    assert!(!words.place_of(own).is_empty());
                    for evidence in own.for_it.iter().chain(&own.against) {
                        is_a_sentence(&words.evidence(own, evidence), own.cause.code());
                    }
                }
                for proposed in &decision.levers {
                    let of = proposed.lever.code.code();
                    is_a_sentence(&words.lever(&proposed.lever), of);
                    let (before, after) = (&proposed.as_is[0], &proposed.turned[0]);
                    is_a_sentence(&words.effect(&proposed.lever, before, after, 2), of);
                    let more = [words.worse(before, after), words.leave(&proposed.lever)];
                    more.iter().filter(|text| !text.is_empty()).for_each(|text| is_a_sentence(text, of));
                }
            }
        }
        assert!(causes > 100, "{causes}");
    }

    #[test]
    fn amounts_are_said_in_the_units_of_the_site_and_of_files() {
        use upland_core::quantity::units::Millimetres;
        let mut case = planted(Cause::NothingWrong, 1);
        case.known.site.units = UnitSystem::UsCustomary;
        let depth = Amount::Depth(Millimetres::from_mm(12.7));
        assert_eq!(Words::of(&case.known).amount(depth), "0.50 in");
        assert_eq!(Words::metric(&case.known).amount(depth), "12.7 mm");
        assert_eq!(Words::of(&case.known).amount(Amount::TrimPct(8.0)), "+8 %");
        assert_eq!(Words::of(&case.known).amount(Amount::Starts(1)), "one start");
        assert_eq!(Words::of(&case.known).amount(Amount::Minutes(Seconds::from_s(450))), "7 min 30 s");
    }

    #[test]
    fn a_correction_says_which_way_how_much_and_how_sure() {
        let said = correction(CorrectionKind::Rate, 0.8, 3, Share::from_fraction(0.6));
        assert_eq!(
            said,
            "3 readings of the soil: its heads give 20 % less than the survey says. Confidence 60 %."
        );
        let said = correction(CorrectionKind::Demand, 1.25, 1, Share::from_fraction(0.33));
        assert!(said.starts_with("1 reading of the soil: its plants need 25 % more"), "{said}");
    }
}

//! What a program comes to: its time in all, when it ends, when it waters next.

use super::{ProgramPass, ScheduledRun, Settings, expand, passes};
use crate::controller::Card;
use crate::quantity::span::TimeSpan;
use crate::quantity::time::Seconds;
use jiff::ToSpan;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::BTreeMap;

/// Days that are looked through for the next watering day: the longest interval of any card, and a season between.
const LOOKED_THROUGH: i64 = 366;

/// What a program comes to on a day.
#[derive(Debug, Clone, PartialEq)]
pub struct ProgramTotal {
    /// Position of the program.
    pub program: usize,
    /// Its run times added up, at 100 %.
    pub keyed: Seconds,
    /// The same as one start of it waters on its next day, at that day's percentage.
    pub waters: Seconds,
    /// Begin and end of each of its starts on the next day that it waters, pauses and soaks included.
    pub spans: Vec<TimeSpan>,
    /// The next day that it waters, from the day asked for on; `None` when it does not within a year.
    pub next: Option<Date>,
}

impl ProgramTotal {
    /// Days from a day to the next on which the program waters; nought when that is the day itself.
    #[must_use]
    pub fn days_left(&self, from: Date) -> Option<i32> {
        self.next.map(|next| (next - from).get_days())
    }
}

/// What each program comes to, seen from a day on.
#[must_use]
pub fn program_totals(settings: &Settings, card: &Card, tz: &TimeZone, from: Date) -> Vec<ProgramTotal> {
    // Other programs may hold one up, so the whole controller is laid out, once for a day.
    let mut laid_out: BTreeMap<Date, Vec<ScheduledRun>> = BTreeMap::new();
    let totals = settings.programs.iter().enumerate().map(|(index, program)| {
        let mut total = ProgramTotal {
            program: index,
            keyed: program.run_times.iter().map(|(_, time)| *time).sum(),
            waters: Seconds::ZERO,
            spans: Vec::new(),
            next: None,
        };
        let waters = |date: &Date| {
            program.waters()
                && !settings.rests(*date)
                && super::runs_on(program.days, settings.never_days, *date)
        };
        let mut days = (0..LOOKED_THROUGH).filter_map(|k| from.checked_add(k.days()).ok());
        let Some(next) = days.find(waters) else { return total };
        let runs = laid_out.entry(next).or_insert_with(|| expand(settings, card, tz, next, next));
        let own: Vec<_> = passes(runs.iter().filter(|run| run.date == next))
            .into_iter()
            .filter(|pass| pass.program == index)
            .collect();
        total.waters = own.first().map_or(Seconds::ZERO, ProgramPass::watered);
        total.spans = own.iter().map(|pass| TimeSpan::new(pass.begin, pass.end)).collect();
        total.next = Some(next);
        total
    });
    totals.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::schedule::{Days, Percentages};
    use crate::controller::twelve_stations;
    use crate::quantity::ratio::Percentage;
    use jiff::Timestamp;
    use jiff::civil::{date, time};

    /// 15+30+30+30+15 totals two hours, and nobody has to add them (common practice).
    fn five_zones() -> (Card, Settings) {
        let card = twelve_stations();
        let mut settings = Settings::clean(&card);
        let program = &mut settings.programs[0];
        program.active = true;
        program.starts = vec![time(2, 0, 0, 0)];
        program.days = Days::EveryNth { interval: 3, first: date(2026, 7, 16) };
        program.run_times =
            [15, 30, 30, 30, 15].into_iter().zip(1..).map(|(m, n)| (n, Seconds::from_min(m))).collect();
        (card, settings)
    }

    fn clock(at: Timestamp) -> String {
        at.to_zoned(TimeZone::UTC).strftime("%H:%M").to_string()
    }

    #[test]
    fn run_times_total_up_and_the_end_and_the_days_left_stand_beside() {
        let (card, mut settings) = five_zones();
        // A Tuesday; the program waters every third day, two left.
        let today = date(2026, 7, 14);
        let total = program_totals(&settings, &card, &TimeZone::UTC, today).remove(0);
        assert_eq!((total.keyed, total.waters), (Seconds::from_h(2), Seconds::from_h(2)));
        assert_eq!(
            total.spans.iter().map(|span| (clock(span.from), clock(span.until))).collect::<Vec<_>>(),
            [("02:00".into(), "04:00".into())]
        );
        assert_eq!((total.next, total.days_left(today)), (Some(date(2026, 7, 16)), Some(2)));
        // Half the percentage is half the time, and each start runs the whole program again.
        settings.percentages = Percentages::Program(vec![Percentage::from_percent(50); 3]);
        settings.programs[0].starts.push(time(5, 0, 0, 0));
        let total = program_totals(&settings, &card, &TimeZone::UTC, today).remove(0);
        assert_eq!((total.keyed, total.waters), (Seconds::from_h(2), Seconds::from_h(1)));
        let ends: Vec<String> = total.spans.iter().map(|span| clock(span.until)).collect();
        assert_eq!(ends, ["03:00", "06:00"]);
    }

    #[test]
    fn a_program_that_waters_today_has_no_day_left_and_one_that_never_does_has_none() {
        let (card, mut settings) = five_zones();
        let total = |settings: &Settings, day| program_totals(settings, &card, &TimeZone::UTC, day).remove(0);
        assert_eq!(total(&settings, date(2026, 7, 16)).days_left(date(2026, 7, 16)), Some(0));
        settings.programs[0].active = false;
        let off = total(&settings, date(2026, 7, 14));
        assert_eq!((off.next, off.keyed, off.spans.len()), (None, Seconds::from_h(2), 0));
        let empty = program_totals(&settings, &card, &TimeZone::UTC, date(2026, 7, 14)).remove(1);
        assert_eq!((empty.keyed, empty.next), (Seconds::ZERO, None));
    }
}

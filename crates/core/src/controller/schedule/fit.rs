//! The nearest settings that a card can hold.

use super::{Days, Percentages, Settings};
use crate::controller::{Card, PercentageScope};
use crate::quantity::ratio::Percentage;
use crate::quantity::time::Seconds;

impl Settings {
    /// These settings with everything that a card cannot hold brought to the nearest that it can;
    /// what has no nearest (a fifth start of four, a station that is not there) is left out.
    // Long: one limit of a card after another.
    #[must_use]
    pub fn fitted(&self, card: &Card) -> Self {
        let mut fitted = self.clone();
        fitted.programs.truncate(usize::from(card.programs));
        let clean = Self::clean(card);
        for (program, empty) in fitted.programs.iter_mut().zip(&clean.programs) {
            for start in &mut program.starts {
                *start = card.nearest_start(*start);
            }
            program.starts.sort();
            program.starts.dedup();
            program.starts.truncate(usize::from(card.starts_per_program));
            program.run_times.retain(|(n, _)| (1..=card.stations).contains(n));
            program.run_times.sort_by_key(|(n, _)| *n);
            program.run_times.dedup_by_key(|(n, _)| *n);
            for (_, seconds) in &mut program.run_times {
                let step = card.run_step.max(Seconds::ONE);
                let nearest = (*seconds * 2 + step).steps(step * 2);
                *seconds = (step * nearest).min(card.longest_run);
            }
            let modes = card.day_modes;
            let settable = match program.days {
                Days::Weekdays(_) => modes.weekdays,
                Days::Odd | Days::Even => modes.parity,
                Days::EveryNth { interval, .. } => (1..=modes.longest_interval).contains(&interval),
            };
            if !settable {
                program.days = match program.days {
                    Days::EveryNth { first, .. } if modes.longest_interval > 0 => {
                        Days::EveryNth { interval: modes.longest_interval, first }
                    }
                    _ => empty.days,
                };
            }
            if !card.loops {
                program.repeat = None;
            }
            let name_fits =
                (1..=super::settings::LONGEST_PROGRAM_NAME).contains(&program.name.chars().count());
            if !name_fits || program.name.chars().any(char::is_control) {
                program.name.clone_from(&empty.name);
            }
        }
        let near = |v: Percentage| card.nearest_percentage(v);
        fitted.percentages = match (&self.percentages, card.percentage_scope) {
            (Percentages::Controller(v), PercentageScope::Controller) => Percentages::Controller(near(*v)),
            (Percentages::Program(v), PercentageScope::Program) => {
                Percentages::Program(v.iter().take(usize::from(card.programs)).map(|v| near(*v)).collect())
            }
            (Percentages::Month(v), PercentageScope::Month) => Percentages::Month(v.map(near)),
            // Another scope: the same water in the first program's or January's terms is a guess,
            // so it goes back to 100 %.
            _ => clean.percentages,
        };
        fitted.stations.retain(|(n, _)| (1..=card.stations).contains(n));
        for (_, station) in &mut fitted.stations {
            if !card.cycle_and_soak || station.cycle_and_soak.is_some_and(|(cycle, _)| !cycle.any()) {
                station.cycle_and_soak = None;
            }
            station.lighting &= card.lighting;
            station.master_valve &= card.master_valve;
            station.pump &= card.pump_start;
            station.ignores_sensors &= card.sensor_override;
            station.fixed_run_time &= card.daily_run_times;
        }
        fitted.delay = self.delay.clamp(-card.longest_overlap, card.longest_delay);
        if !card.day_modes.never_days {
            fitted.never_days = [false; 7];
        }
        if !card.omit_hours || self.omit_hours.is_some_and(|hours| hours.from == hours.until) {
            fitted.omit_hours = None;
        }
        if let Some((_, days)) = &mut fitted.rain_delay {
            *days = (*days).min(card.longest_rain_delay_days);
        }
        fitted.rain_delay = fitted.rain_delay.filter(|(_, days)| *days > 0);
        fitted.off_season = self.off_season.filter(super::YearSpan::is_real);
        let lead = |length: Seconds| length.clamp(Seconds::ZERO, card.longest_master_lead);
        fitted.master_lead = (lead(self.master_lead.0), lead(self.master_lead.1));
        fitted.omit_dates.truncate(super::MOST_OMITTED);
        fitted.canonical()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::generic;
    use crate::controller::schedule::{Program, Repeat, StationSetting, YearSpan};
    use crate::quantity::time::MinuteOfDay;
    use jiff::civil::{date, time};

    #[test]
    fn every_generic_card_can_hold_what_is_fitted_to_it() {
        let wild = Settings {
            programs: (0..9)
                .map(|i| Program {
                    name: "x".repeat(50),
                    active: true,
                    starts: (0..40).map(|k| time(k % 24, 7, 0, 0)).collect(),
                    days: [
                        Days::Odd,
                        Days::EveryNth { interval: 60, first: date(2026, 7, 1) },
                        Days::Weekdays([true; 7]),
                    ][i % 3],
                    run_times: [(1, 61), (60, 900), (1, 100_000)]
                        .map(|(n, s)| (n, Seconds::from_s(s)))
                        .to_vec(),
                    repeat: Some(Repeat { until: time(20, 0, 0, 0), pause: Seconds::from_s(60) }),
                })
                .collect(),
            percentages: Percentages::Program([999, 3, 101].map(Percentage::from_percent).to_vec()),
            stations: vec![(
                1,
                StationSetting {
                    cycle_and_soak: Some((Seconds::from_s(0), Seconds::from_s(0))),
                    lighting: true,
                    master_valve: true,
                    pump: true,
                    ignores_sensors: true,
                    fixed_run_time: true,
                    valve_ma: Some(400),
                },
            )],
            delay: Seconds::from_s(-9999),
            never_days: [true, false, false, false, false, false, false],
            omit_hours: Some(crate::quantity::time::Hours {
                from: time(1, 0, 0, 0),
                until: time(1, 0, 0, 0),
            }),
            rain_delay: Some((date(2026, 7, 1), 200)),
            off_season: Some(YearSpan { from: (13, 1), until: (2, 30) }),
            omit_dates: Vec::new(),
            master_lead: (Seconds::ZERO, Seconds::ZERO),
        };
        for (code, card) in generic() {
            assert!(!wild.check(&card).is_empty());
            assert_eq!(wild.fitted(&card).check(&card), [], "{code}");
        }
    }

    #[test]
    fn what_fits_stays_as_it_is_and_the_nearest_is_the_nearest() {
        let card = crate::controller::twelve_stations();
        let clean = Settings::clean(&card);
        assert_eq!(clean.fitted(&card), clean);
        assert_eq!(
            [4, 5, 94, 95, 204].map(|v| card.nearest_percentage(Percentage::from_percent(v)).percent()),
            [10, 10, 90, 100, 200]
        );
        let coarse = Card { start_step_min: 15, ..card };
        assert_eq!(coarse.start_at_or_before(MinuteOfDay::after_midnight(134)), time(2, 0, 0, 0));
    }
}

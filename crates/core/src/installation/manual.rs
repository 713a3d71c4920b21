//! Manual run at the controller: a test walk, a run of one zone or program, a cooling syringe, and the
//! order in which lines are blown out before winter.

use crate::controller::ordinance::Forbidden;
use crate::controller::schedule::{ScheduledRun, Settings};
use crate::ground::application::HeadType;
use crate::ground::plant::PlantKind;
use crate::installation::Installation;
use crate::quantity::time::Seconds;
use crate::quantity::units::Litres;
use jiff::Timestamp;

/// A station that is run by hand.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ManualStep {
    /// Station.
    pub station: u16,
    /// After the first start.
    pub begin: Seconds,
    /// How long.
    pub length: Seconds,
    /// Water, if the zone's area is known.
    pub volume: Option<Litres>,
}

/// Stations run one after the other by hand. Percentage, rain delay and sensors do not touch it.
#[derive(Debug, Clone, PartialEq)]
pub struct ManualRun {
    /// In order.
    pub steps: Vec<ManualStep>,
}

impl ManualRun {
    fn of(
        installation: &Installation,
        stations: impl Iterator<Item = (u16, Seconds)>,
        pause: Seconds,
    ) -> Self {
        let mut at = Seconds::ZERO;
        let steps = stations
            .filter(|(_, length)| length.any())
            .map(|(station, length)| {
                let begin = at;
                at = at + length + pause;
                let flow = installation.zone(station).and_then(|z| z.flow);
                let volume = flow.map(|f| f.for_time(length.minutes()));
                ManualStep { station, begin, length, volume }
            })
            .collect();
        Self { steps }
    }

    /// From the first start to the last end.
    #[must_use]
    pub fn length(&self) -> Seconds {
        self.steps.last().map_or(Seconds::ZERO, |s| s.begin + s.length)
    }

    /// Water of all steps whose area is known; `None` when none is.
    #[must_use]
    pub fn volume(&self) -> Option<Litres> {
        let known: Vec<Litres> = self.steps.iter().filter_map(|s| s.volume).collect();
        (!known.is_empty()).then(|| known.into_iter().sum())
    }

    /// What stands in its way when it begins at an instant.
    #[must_use]
    pub fn obstacles(&self, installation: &Installation, runs: &[ScheduledRun], at: Timestamp) -> Obstacles {
        let end = at + self.length();
        let (from, to) = {
            let date = |t: Timestamp| t.to_zoned(installation.tz.clone()).date();
            (date(at), date(end))
        };
        let mut forbidden = Vec::new();
        for step in &self.steps {
            let begin = at + step.begin;
            let stop = begin + step.length;
            let spans = installation.law.forbidden(
                Some(installation.subject(step.station)),
                from,
                to,
                &installation.tz,
            );
            if let Some(span) = spans.into_iter().find(|s| s.from < stop && s.until > begin) {
                forbidden.push((step.station, span));
            }
        }
        Obstacles {
            forbidden,
            scheduled: runs.iter().filter(|r| r.start < end && r.end > at).copied().collect(),
        }
    }
}

/// What stands in the way of a manual run.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Obstacles {
    /// Stations that an ordinance forbids then.
    pub forbidden: Vec<(u16, Forbidden)>,
    /// Scheduled runs at the same time; a controller usually breaks them off.
    pub scheduled: Vec<ScheduledRun>,
}

/// Shortest and longest test of a station: long enough for every head to come up, short enough
/// for a walk (common practice: half a minute to ten minutes).
pub const TEST_WALK: (Seconds, Seconds) = (Seconds::from_s(30), Seconds::from_min(10));

/// Every station with a zone for the same time, with a pause to walk on.
#[must_use]
pub fn test_walk(installation: &Installation, each: Seconds, pause: Seconds) -> ManualRun {
    let length = each.clamp(TEST_WALK.0, TEST_WALK.1);
    let on_controller = installation.zones.iter().filter(|z| z.zone.number <= installation.card.stations);
    ManualRun::of(installation, on_controller.map(|z| (z.zone.number, length)), pause)
}

/// One zone by hand.
#[must_use]
pub fn one_zone(installation: &Installation, station: u16, length: Seconds) -> ManualRun {
    ManualRun::of(installation, std::iter::once((station, length)), Seconds::ZERO)
}

/// One program by hand, its minutes as set, at 100 %.
#[must_use]
pub fn one_program(installation: &Installation, settings: &Settings, program: usize) -> ManualRun {
    let times = settings.programs.get(program).map_or(&[][..], |p| &p.run_times);
    ManualRun::of(installation, times.iter().copied(), settings.delay.max(Seconds::ZERO))
}

/// Shortest and longest syringe of a zone (common practice: a minute to five).
pub const SYRINGE: (Seconds, Seconds) = (Seconds::from_min(1), Seconds::from_min(5));

/// A syringe: a few minutes of spray over turf at the heat of the day, to cool the leaves. It does
/// not replace watering.
#[must_use]
pub fn syringe(installation: &Installation, each: Seconds) -> ManualRun {
    let turf = installation.zones.iter().filter(|z| {
        matches!(z.zone.plant, PlantKind::CoolSeasonTurf | PlantKind::WarmSeasonTurf)
            && z.zone.head != HeadType::Drip
    });
    ManualRun::of(
        installation,
        turf.map(|z| (z.zone.number, each.clamp(SYRINGE.0, SYRINGE.1))),
        Seconds::ZERO,
    )
}

/// The order in which zones are blown out: sprinklers before drip, the largest first, so that the
/// main is emptied while there is most air behind it (common practice). Zones whose size is not
/// known come last of their kind, by station.
#[must_use]
pub fn blow_out_order(installation: &Installation) -> Vec<u16> {
    let mut zones: Vec<_> = installation.zones.iter().collect();
    zones.sort_by(|a, b| {
        let drip = |z: &&crate::installation::WiredZone| z.zone.head == HeadType::Drip;
        let flow = |z: &&crate::installation::WiredZone| z.flow.map_or(-1.0, |f| f.l_per_min());
        drip(a).cmp(&drip(b)).then(flow(b).total_cmp(&flow(a))).then(a.zone.number.cmp(&b.zone.number))
    });
    zones.into_iter().map(|z| z.zone.number).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::ordinance::samples::{law, two_days_a_week};
    use crate::controller::schedule::expand;
    use crate::installation::samples::installation;
    use jiff::civil::{date, time};

    #[test]
    fn a_test_walk_visits_every_zone_within_its_bounds() {
        let walk = test_walk(&installation(), Seconds::from_s(5), Seconds::from_s(20));
        assert_eq!(
            walk.steps.iter().map(|s| (s.station, s.begin.s(), s.length.s())).collect::<Vec<_>>(),
            [(1, 0, 30), (2, 50, 30), (3, 100, 30), (4, 150, 30)]
        );
        assert_eq!(walk.length(), Seconds::from_min(3));
        assert_eq!(
            test_walk(&installation(), Seconds::DAY, Seconds::ZERO).steps[0].length,
            Seconds::from_min(10)
        );
        assert!(walk.volume().is_some());
    }

    #[test]
    fn a_syringe_is_for_turf_under_spray() {
        let stations: Vec<_> = syringe(&installation(), Seconds::from_min(2))
            .steps
            .iter()
            .map(|s| (s.station, s.length.s()))
            .collect();
        assert_eq!(stations, [(1, 120), (2, 120), (3, 120)]);
    }

    #[test]
    fn law_and_schedule_stand_in_the_way() {
        let mut installation = installation();
        installation.law = law(two_days_a_week());
        let mut settings = Settings::clean(&installation.card);
        settings.programs[0].active = true;
        settings.programs[0].starts = vec![time(12, 0, 0, 0)];
        settings.set_run_time(0, 1, Seconds::from_s(3600));
        let wednesday = date(2026, 7, 15);
        let runs = expand(&settings, &installation.card, &installation.tz, wednesday, wednesday);
        let noon = wednesday.at(12, 30, 0, 0).to_zoned(installation.tz.clone()).unwrap().timestamp();
        let by_hand = one_program(&installation, &settings, 0);
        let obstacles = by_hand.obstacles(&installation, &runs, noon);
        assert_eq!((obstacles.forbidden.len(), obstacles.scheduled.len()), (1, 1));
        let dawn = wednesday.at(5, 0, 0, 0).to_zoned(installation.tz.clone()).unwrap().timestamp();
        assert_eq!(
            one_zone(&installation, 2, Seconds::from_min(10)).obstacles(&installation, &runs, dawn),
            Obstacles::default()
        );
    }

    #[test]
    fn drip_is_blown_out_last() {
        let mut installation = installation();
        installation.zones[2].flow = None;
        installation.zones[1].flow = Some(crate::quantity::units::LitresPerMinute::from_l_per_min(80.0));
        assert_eq!(blow_out_order(&installation), [2, 1, 3, 4]);
    }
}

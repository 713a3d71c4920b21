//! The runs of a site's controllers, found by controller or by zone.

use super::running::ControllerRun;
use crate::site::StationId;
use std::collections::BTreeMap;

/// The runs of a site's controllers, in order of time.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SiteRuns {
    controllers: BTreeMap<u8, Vec<ControllerRun>>,
    /// Places of a station's runs among those of its controller.
    stations: BTreeMap<StationId, Vec<usize>>,
}

impl From<BTreeMap<u8, Vec<ControllerRun>>> for SiteRuns {
    fn from(controllers: BTreeMap<u8, Vec<ControllerRun>>) -> Self {
        let mut stations: BTreeMap<StationId, Vec<usize>> = BTreeMap::new();
        for (number, runs) in &controllers {
            for (place, run) in runs.iter().enumerate() {
                stations.entry(StationId::new(*number, run.run.station)).or_default().push(place);
            }
        }
        Self { controllers, stations }
    }
}

impl SiteRuns {
    /// Every controller by its number, with its runs.
    pub fn controllers(&self) -> impl Iterator<Item = (u8, &[ControllerRun])> {
        self.controllers.iter().map(|(number, runs)| (*number, runs.as_slice()))
    }

    /// The runs of a station of a controller.
    pub fn of(&self, id: StationId) -> impl Iterator<Item = &ControllerRun> + Clone {
        let runs = self.controllers.get(&id.controller).map(Vec::as_slice).unwrap_or_default();
        let places = self.stations.get(&id).map(Vec::as_slice).unwrap_or_default();
        places.iter().filter_map(|place| runs.get(*place))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::schedule::ScheduledRun;
    use crate::quantity::time::Seconds;
    use jiff::civil::date;
    use jiff::{SignedDuration, Timestamp};

    fn run(station: u16, minute: i64) -> ControllerRun {
        let start = Timestamp::UNIX_EPOCH + SignedDuration::from_mins(minute);
        let end = start + SignedDuration::from_mins(5);
        let run = ScheduledRun {
            start,
            end,
            program: 0,
            start_number: 1,
            start_index: 0,
            station,
            cycle: 1,
            date: date(1970, 1, 1),
            queued: Seconds::ZERO,
        };
        ControllerRun { run, until: end, held_by: Vec::new() }
    }

    #[test]
    fn runs_are_found_by_controller_and_by_station_in_their_order() {
        let own = vec![run(1, 0), run(2, 5), run(1, 10)];
        let runs = SiteRuns::from(BTreeMap::from([(1, own.clone()), (2, vec![run(1, 3)])]));
        assert_eq!(
            runs.of(StationId::new(1, 1)).cloned().collect::<Vec<_>>(),
            [own[0].clone(), own[2].clone()]
        );
        assert_eq!(runs.of(StationId::new(2, 1)).count(), 1);
        assert_eq!(runs.of(StationId::new(1, 9)).count() + runs.of(StationId::new(9, 1)).count(), 0);
        let controllers: Vec<(u8, usize)> =
            runs.controllers().map(|(number, runs)| (number, runs.len())).collect();
        assert_eq!(controllers, [(1, 3), (2, 1)]);
        assert_eq!(SiteRuns::default().controllers().count(), 0);
    }
}

//! The runs of a site's boxes, found by box or by zone.

use super::running::BoxRun;
use std::collections::BTreeMap;

/// The runs of a site's boxes, in order of time.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SiteRuns {
    boxes: BTreeMap<u8, Vec<BoxRun>>,
    /// Places of a station's runs among those of its box.
    stations: BTreeMap<(u8, u16), Vec<usize>>,
}

impl From<BTreeMap<u8, Vec<BoxRun>>> for SiteRuns {
    fn from(boxes: BTreeMap<u8, Vec<BoxRun>>) -> Self {
        let mut stations: BTreeMap<(u8, u16), Vec<usize>> = BTreeMap::new();
        for (number, runs) in &boxes {
            for (place, run) in runs.iter().enumerate() {
                stations.entry((*number, run.run.station)).or_default().push(place);
            }
        }
        Self { boxes, stations }
    }
}

impl SiteRuns {
    /// Every box by its number, with its runs.
    pub fn boxes(&self) -> impl Iterator<Item = (u8, &[BoxRun])> {
        self.boxes.iter().map(|(number, runs)| (*number, runs.as_slice()))
    }

    /// The runs of a station of a box.
    pub fn of(&self, box_number: u8, station: u16) -> impl Iterator<Item = &BoxRun> + Clone {
        let runs = self.boxes.get(&box_number).map(Vec::as_slice).unwrap_or_default();
        let places = self.stations.get(&(box_number, station)).map(Vec::as_slice).unwrap_or_default();
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

    fn run(station: u16, minute: i64) -> BoxRun {
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
        BoxRun { run, until: end, held_by: Vec::new() }
    }

    #[test]
    fn runs_are_found_by_box_and_by_station_in_their_order() {
        let own = vec![run(1, 0), run(2, 5), run(1, 10)];
        let runs = SiteRuns::from(BTreeMap::from([(1, own.clone()), (2, vec![run(1, 3)])]));
        assert_eq!(runs.of(1, 1).cloned().collect::<Vec<_>>(), [own[0].clone(), own[2].clone()]);
        assert_eq!(runs.of(2, 1).count(), 1);
        assert_eq!(runs.of(1, 9).count() + runs.of(9, 1).count(), 0);
        let boxes: Vec<(u8, usize)> = runs.boxes().map(|(number, runs)| (number, runs.len())).collect();
        assert_eq!(boxes, [(1, 3), (2, 1)]);
        assert_eq!(SiteRuns::default().boxes().count(), 0);
    }
}

//! Steps that a planting asks for on a date: the end of a grow-in, the weeks of a wean-off.

use crate::account::site_account::AccountInputs;
use crate::quantity::ratio::Share;
use crate::site::SurveyedZone;
use jiff::ToSpan;
use jiff::civil::Date;

/// What is to be done on a date.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Step {
    /// The grow-in is over: set the zone for established plants.
    GrowInEnds,
    /// The wean-off goes to this share of the need.
    WeanOff(Share),
}

/// A dated step of a zone.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DatedStep {
    /// The first day on which it holds.
    pub on: Date,
    /// Number of its controller.
    pub controller_number: u8,
    /// Its station.
    pub station: u16,
    /// What.
    pub step: Step,
}

/// The steps of all zones from a day on, in order, within some days.
#[must_use]
pub fn dated_steps(facts: &AccountInputs, from: Date, days: i32) -> Vec<DatedStep> {
    let until = from.checked_add(days.days()).unwrap_or(from);
    let mut out = Vec::new();
    for SurveyedZone { zone, resolved } in &facts.zones {
        let mut put = |on: Date, step| {
            if (from..=until).contains(&on) {
                out.push(DatedStep {
                    on,
                    controller_number: zone.controller_number,
                    station: zone.number,
                    step,
                });
            }
        };
        if let Some(grow_in) = resolved.grow_in {
            put(grow_in.until.tomorrow().unwrap_or(grow_in.until), Step::GrowInEnds);
        }
        if let Some(wean) = resolved.wean_off {
            for week in 0..=i32::from(wean.weeks) {
                let Ok(on) = wean.from.checked_add((week * 7).days()) else { continue };
                put(on, Step::WeanOff(wean.share_on(on)));
            }
        }
    }
    out.sort_by_key(|s| (s.on, s.controller_number, s.station));
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ground::planting::{GrowIn, WeanOff};
    use crate::installation::samples::{site, zones};
    use crate::quantity::units::Metres;
    use crate::weather::climate::Climate;
    use jiff::civil::date;
    use jiff::tz::TimeZone;

    #[test]
    fn a_grow_in_and_each_week_of_a_wean_off_are_dated_steps() {
        let mut zones = zones();
        let (from, until) = (date(2026, 5, 1), date(2026, 5, 31));
        zones[0].planting.grow_in =
            Some(GrowIn { from, until, factor: 1.2, root_depth: Metres::from_m(0.05) });
        zones[1].planting.wean_off =
            Some(WeanOff { from: date(2026, 5, 25), weeks: 4, start: Share::from_percent(140.0) });
        let climate = Climate::from_record(&[], site().station());
        let facts = AccountInputs::surveyed(&site(), &TimeZone::UTC, &zones, climate);
        let steps = dated_steps(&facts, date(2026, 5, 30), 14);
        let percent = |step| match step {
            Step::GrowInEnds => None,
            Step::WeanOff(share) => Some(share.percent().round()),
        };
        let told: Vec<_> = steps.iter().map(|s| (s.on, s.station, percent(s.step))).collect();
        let first = date(2026, 6, 1);
        assert_eq!(told, [(first, 1, None), (first, 2, Some(130.0)), (date(2026, 6, 8), 2, Some(120.0))]);
    }
}

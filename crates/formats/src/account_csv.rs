//! The account of a site as CSV, a row for each zone and day, or hour.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use upland_core::account::evidence::Evidence;
use upland_core::account::running::Holder;
use upland_core::account::zone::Flows;
use upland_core::codes::Coded;
use upland_core::controller::schedule::Rest;
use upland_core::quantity::units::Millimetres;

/// The columns.
pub const HEADER: [&str; 13] = [
    "time",
    "zone",
    "rain_mm",
    "rain_in_mm",
    "applied_mm",
    "applied_in_mm",
    "runoff_mm",
    "drainage_mm",
    "et_mm",
    "ks",
    "depletion_mm",
    "evidence",
    "held_by",
];

/// Digits behind the point: rows add up to them.
const DIGITS: usize = 6;

/// One row.
pub struct AccountRow {
    /// The day as YYYY-MM-DD, or the begin of an hour in RFC 3339.
    pub time: String,
    /// The station; with its controller before it where the site has several.
    pub zone: String,
    /// Its water.
    pub water: Flows,
    /// How the watering is known.
    pub evidence: Evidence,
    /// Whether a field reading set the depletion in it.
    pub was_read: bool,
    /// Who held a run that was set for it.
    pub held_by: String,
}

impl AccountRow {
    /// Its cells, in the order of [`HEADER`].
    #[must_use]
    pub fn cells(&self) -> [String; 13] {
        let w = &self.water;
        let mm = |value: f64| {
            let text = format!("{value:.DIGITS$}");
            if text.trim_start_matches('-').bytes().all(|b| matches!(b, b'0' | b'.')) {
                text.trim_start_matches('-').to_owned()
            } else {
                text
            }
        };
        let evidence = self.evidence.code();
        [
            self.time.clone(),
            self.zone.clone(),
            mm(w.rain.mm()),
            mm(w.rain_in.mm()),
            mm(w.applied.mm()),
            mm(w.applied_in.mm()),
            mm(w.runoff.mm()),
            mm(w.drainage.mm()),
            mm(w.et.mm()),
            mm(w.stress_coefficient()),
            mm(w.depletion.mm()),
            match (self.was_read, w.root_cut > Millimetres::ZERO) {
                (true, _) => format!("{evidence} reading"),
                (false, true) => format!("{evidence} root_depth"),
                (false, false) => evidence.to_owned(),
            },
            self.held_by.clone(),
        ]
    }
}

/// The begin of an hour as a row says it.
#[must_use]
pub fn hour(at: Timestamp, tz: &TimeZone) -> String {
    at.to_zoned(tz.clone()).strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()
}

/// Who holds a run and until when, as a cell says it; sensors by their names in order.
#[must_use]
pub fn holder(holder: &Holder, sensors: &[String], tz: &TimeZone) -> String {
    match holder {
        Holder::Sensor { sensor, hold } => {
            let name = sensors.get(*sensor).map_or("a sensor", String::as_str);
            match hold.until {
                Some(until) => format!("{name} until {}", hour(until, tz)),
                None => name.to_owned(),
            }
        }
        Holder::Rest(Rest::RainDelay { until }) => format!("rain delay until {until}"),
        Holder::Rest(Rest::OffSeason { until: Some(until) }) => format!("off-season until {until}"),
        Holder::Rest(Rest::OmittedDate) => "date left out".to_owned(),
        Holder::Rest(Rest::OffSeason { until: None }) => "off-season".to_owned(),
    }
}

/// Writes rows.
#[must_use]
pub fn write(rows: &[AccountRow]) -> String {
    let cells: Vec<_> = rows.iter().map(AccountRow::cells).collect();
    crate::rows_csv::write(&HEADER, &cells)
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_core::quantity::units::Millimetres;

    #[test]
    fn a_row_says_its_water_to_the_millionth_and_never_minus_nought() {
        let mm = Millimetres::from_mm;
        let water = Flows { rain: mm(1.0), drainage: mm(-1e-12), depletion: mm(2.25), ..Flows::default() };
        let row = AccountRow {
            time: "2026-07-14".into(),
            zone: "3".into(),
            water,
            evidence: Evidence::AsSet,
            was_read: true,
            held_by: "Rain switch until 2026-07-16T08:00:00+02:00".into(),
        };
        assert_eq!(
            write(&[row]).lines().nth(1),
            Some(
                "2026-07-14,3,1.000000,0.000000,0.000000,0.000000,0.000000,0.000000,0.000000,1.000000,2.250000,as_set reading,Rain switch until 2026-07-16T08:00:00+02:00"
            )
        );
    }
}

//! Weather files of any kind on the command line.

use super::{Failure, print_notes, read_input};
use jiff::tz::TimeZone;
use upland_core::quantity::units::Millimetres;
use upland_core::weather::climate::{Climate, RainHours};

use upland_core::weather::record::{HourVariable, JudgedDay, RawDay, Standing, Variable, examine, judge};
use upland_core::weather::{DayWeather, Station};
use upland_formats::weather_file::{self, Mapping, Opened, WeatherFile};

/// How a strange file is read.
#[derive(clap::Args)]
pub struct Options {
    /// How the columns of a strange table are read (JSON); without it they are proposed and asked.
    #[arg(long, value_name = "FILE")]
    mapping: Option<String>,
    /// The station that is meant, in a file of several.
    #[arg(long, value_name = "ID")]
    station: Option<String>,
}

/// Reads a weather file; of a strange table, what it seems to hold goes to standard error, to be
/// saved, corrected and given as --mapping.
pub fn read(path: &str, options: &Options, station: &Station, tz: &TimeZone) -> Result<WeatherFile, Failure> {
    let bytes = read_input(path)?;
    let mapping: Option<Mapping> = match &options.mapping {
        Some(file) => {
            let text = read_input(file)?;
            Some(serde_json::from_slice(&text).map_err(|e| Failure::Failed(format!("{file}: {e}")))?)
        }
        None => None,
    };
    let opened = match &options.station {
        Some(id) => weather_file::open_station(&bytes, id).map(Opened::Read),
        None => weather_file::open(&bytes, station, tz, mapping.as_ref()),
    };
    match opened.map_err(|p| Failure::problems(&p))? {
        Opened::Read(file) => {
            print_notes(&file.notes);
            Ok(file)
        }
        Opened::Asks(proposal) => {
            let mut message = String::from("no format knows this table. It seems to contain:\n");
            message.push_str(&serde_json::to_string_pretty(&proposal.mapping).unwrap_or_default());
            for doubt in &proposal.doubts {
                message.push_str(&format!("\n{}: {}", doubt.at, doubt.message));
            }
            message.push_str("\nSave the part in braces, correct it, and give it as --mapping FILE.");
            Err(Failure::Failed(message))
        }
    }
}

/// The climate of a file at a station: its days that count, rain of days whose temperatures are missing, and the
/// hours in which rain was recorded.
pub fn climate(file: &WeatherFile, station: Station) -> Climate {
    let judged = judged(file, &station);
    let effective: Vec<_> = judged.iter().map(JudgedDay::effective).collect();
    let days: Vec<DayWeather> = effective.iter().filter_map(RawDay::weather).collect();
    let rain = |day: &RawDay| Some((day.date, Millimetres::from_mm(day.get(Variable::Rain)?)));
    let alone = effective.iter().filter(|day| day.weather().is_none()).filter_map(rain).collect();
    let mut hours = RainHours::new();
    for hour in &file.hours {
        if let Some(mm) = hour.get(HourVariable::Rain).filter(|mm| *mm > 0.0) {
            hours.entry(hour.local_date).or_default().push((hour.start, mm));
        }
    }
    Climate::from_record(&days, station).with_rain_alone(alone).with_rain_hours(hours)
}

/// The days of a file that count.
pub fn counted(file: &WeatherFile, station: &Station) -> Vec<DayWeather> {
    judged(file, station).iter().filter_map(|day| day.effective().weather()).collect()
}

/// The days of a file as the rules judge them, with a note for each rule that rejects values.
fn judged(file: &WeatherFile, station: &Station) -> Vec<JudgedDay> {
    let judged = judge(&file.days, &examine(&file.days, station), &[]);
    let mut notes: std::collections::BTreeMap<_, (usize, jiff::civil::Date)> =
        std::collections::BTreeMap::new();
    for day in &judged {
        for variable in Variable::ALL {
            if let Standing::Rejected(rule) = day.standing(variable) {
                notes.entry((rule, variable)).or_insert((0, day.raw.date)).0 += 1;
            }
        }
    }
    let notes: Vec<String> = notes
        .into_iter()
        .map(|((rule, variable), (count, first))| {
            format!("{count} of {} do not count from {first} on: {}", variable.label(), rule.words())
        })
        .collect();
    print_notes(&notes);
    judged
}

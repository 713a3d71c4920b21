//! `balance`: the daily root-zone balance of a file.

use super::{Failure, bounded, print, print_notes, read_input, weather};
use jiff::tz::TimeZone;
use upland_core::ground::balance::{DayWater, RootZone};
use upland_core::quantity::bounds::{self, Bound};
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{Metres, Millimetres};
use upland_core::weather::Station;
use upland_core::weather::reference_et::daily;
use upland_formats::balance_csv::{self, BalanceRow};

const WATER_CONTENT: Bound = Bound {
    name: "Water content",
    unit: "",
    min: 0.0,
    max: 0.9,
    why: "a fraction of the soil's volume (m³/m³)",
};
const DEPLETION: Bound = Bound {
    name: "Initial depletion",
    unit: "mm",
    min: 0.0,
    max: 3000.0,
    why: "millimetres below field capacity",
};
const COEFFICIENT: Bound = Bound {
    name: "Crop coefficient",
    unit: "",
    min: 0.0,
    max: 2.0,
    why: "FAO-56 table 12 spans 0.15 to 1.25",
};
const DEPLETION_SHARE: Bound = Bound {
    name: "Depletion fraction p",
    unit: "",
    min: 0.0,
    max: 0.99,
    why: "a fraction of the available water, below 1",
};

#[derive(clap::Args)]
#[command(after_help = "Input columns: date, et0_mm, rain_mm, irrigation_mm, every day once and in order.\n\
Output: date, depletion_mm, etc_mm, drainage_mm, ks. Ks is from the depletion at the end of the day\n\
before; etc_mm is with stress (Ks × Kc × ET0); depletion_mm is at the day's end; no runoff.\n\
With --any the file holds weather instead: ET0 is computed, irrigation is nought.")]
pub struct Args {
    /// Crop or plant coefficient Kc.
    #[arg(long, value_parser = |s: &str| bounded(s, &COEFFICIENT))]
    kc: f64,
    /// Field capacity, m³/m³.
    #[arg(long, value_parser = |s: &str| bounded(s, &WATER_CONTENT))]
    field_capacity: f64,
    /// Wilting point, m³/m³.
    #[arg(long, value_parser = |s: &str| bounded(s, &WATER_CONTENT))]
    wilting_point: f64,
    /// Root depth, metres.
    #[arg(long, value_parser = |s: &str| bounded(s, &bounds::ROOT_DEPTH))]
    root_depth: f64,
    /// Depletion fraction p.
    #[arg(long, value_parser = |s: &str| bounded(s, &DEPLETION_SHARE))]
    depletion: f64,
    /// Depletion before the first day, mm.
    #[arg(long, value_parser = |s: &str| bounded(s, &DEPLETION))]
    initial_depletion: f64,
    /// The file holds weather, daily or hourly, in any format that is read (see the et command).
    #[arg(long, requires = "latitude", requires = "elevation")]
    any: bool,
    /// Latitude, degrees, north positive; with --any.
    #[arg(long, allow_negative_numbers = true, value_parser = |s: &str| bounded(s, &bounds::LATITUDE))]
    latitude: Option<f64>,
    /// Elevation, metres; with --any.
    #[arg(long, allow_negative_numbers = true, value_parser = |s: &str| bounded(s, &bounds::ELEVATION))]
    elevation: Option<f64>,
    /// Height of the wind sensor, metres; with --any.
    #[arg(long, default_value = "2", value_parser = |s: &str| bounded(s, &bounds::WIND_HEIGHT))]
    wind_height: f64,
    /// IANA time zone of stamps that carry no offset; with --any.
    #[arg(long, default_value = "UTC")]
    time_zone: String,
    #[command(flatten)]
    options: weather::Options,
    /// The file, or - for standard input.
    file: String,
}

/// Days of a weather file: ET0 computed, rain as recorded, nothing irrigated. The days must follow
/// each other, since a balance knows nothing across a gap.
fn of_weather(args: &Args) -> Result<Vec<BalanceRow>, Failure> {
    let station = Station {
        latitude_deg: args.latitude.unwrap_or_default(),
        longitude_deg: 0.0,
        elevation: Metres::from_m(args.elevation.unwrap_or_default()),
        wind_height: Metres::from_m(args.wind_height),
    };
    let tz =
        TimeZone::get(&args.time_zone).map_err(|error| Failure::Usage(format!("--time-zone: {error}")))?;
    let file = weather::read(&args.file, &args.options, &station, &tz)?;
    let days = weather::counted(&file, &station);
    if let Some((a, b)) =
        days.iter().zip(days.iter().skip(1)).find(|(a, b)| a.date.tomorrow().ok() != Some(b.date))
    {
        return Err(Failure::Failed(format!(
            "no temperatures count between {} and {}; fill the gap or cut the file there",
            a.date, b.date
        )));
    }
    let without_rain = days.iter().filter(|d| d.rain.is_none()).count();
    if without_rain > 0 {
        print_notes(&[format!("{without_rain} days have no rain recorded and count as dry")]);
    }
    Ok(days
        .iter()
        .map(|day| BalanceRow {
            date: day.date,
            et0: daily(day, &station).et0.max(Millimetres::ZERO),
            rain: day.rain.unwrap_or(Millimetres::ZERO),
            irrigation: Millimetres::ZERO,
        })
        .collect())
}

pub fn run(args: &Args) -> Result<(), Failure> {
    if args.field_capacity <= args.wilting_point {
        return Err(Failure::Usage("--field-capacity must be above --wilting-point".into()));
    }
    let zone = RootZone::from_water_contents(
        args.field_capacity,
        args.wilting_point,
        args.root_depth,
        Share::from_fraction(args.depletion),
    );
    if args.initial_depletion > zone.total_available.mm() {
        return Err(Failure::Usage(format!(
            "--initial-depletion is above the total available water of {:.1} mm",
            zone.total_available.mm()
        )));
    }
    let rows = if args.any {
        of_weather(args)?
    } else {
        balance_csv::read(&read_input(&args.file)?).map_err(|p| Failure::problems(&p))?
    };
    let mut depletion = Millimetres::from_mm(args.initial_depletion);
    let days: Vec<_> = rows
        .iter()
        .map(|row| {
            let water = DayWater { demand: row.et0 * args.kc, rain: row.rain, irrigation: row.irrigation };
            let day = zone.day(depletion, water);
            depletion = day.depletion;
            (row.date, day)
        })
        .collect();
    print(&balance_csv::write(days))
}

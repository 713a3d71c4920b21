//! `tonight`: what each zone of a site file gets on a night.

use super::{Failure, print, print_notes, read_input};
use jiff::civil::Date;
use upland_core::advice::tonight::tonight;
use upland_core::weather::climate::Climate;
use upland_formats::site_file::SiteFile;
use upland_formats::{daily_csv, site_file};

#[derive(clap::Args)]
#[command(
    after_help = "Output: number, zone, decision, depletion_mm, net_mm, minutes, cycles, first_start, last_end."
)]
pub struct Args {
    /// The site file (JSON; see the schema command).
    site: String,
    /// The daily weather file, or - for standard input.
    weather: String,
    /// The evening, YYYY-MM-DD; the last day of the weather file when left out.
    #[arg(long)]
    date: Option<Date>,
    /// Number of the box, where the site has several.
    #[arg(long, default_value_t = 1)]
    controller: u8,
}

/// Says which boxes there are.
pub fn no_box(file: &SiteFile, asked: u8) -> Failure {
    let known: Vec<String> = file.controllers.iter().map(|(c, _)| c.number.to_string()).collect();
    Failure::Usage(format!("--controller {asked}: the site has {}", known.join(", ")))
}

pub fn run(args: &Args) -> Result<(), Failure> {
    let read = site_file::read(&read_input(&args.site)?).map_err(|p| Failure::problems(&p))?;
    let (controller, _) = read.controller(args.controller).ok_or_else(|| no_box(&read, args.controller))?;
    let site = &read.site;
    let file =
        daily_csv::read(&read_input(&args.weather)?, &site.station()).map_err(|p| Failure::problems(&p))?;
    print_notes(&file.notes);
    let climate = Climate::from_record(&file.days, site.station());
    let date = args.date.or(climate.span().map(|(_, last)| last));
    let Some(date) = date else { return Err(Failure::Failed("the weather file has no days".into())) };
    let tz = jiff::tz::TimeZone::get(&site.time_zone)
        .map_err(|error| Failure::Failed(format!("time zone: {error}")))?;
    let result = tonight(site, (&controller.card, controller.number), &read.zones, &climate, date, &tz);
    print(&upland_formats::night_csv::write(&result))
}

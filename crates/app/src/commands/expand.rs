//! `expand`: every run of a controller over a span of dates.

use super::{Failure, check_span, print, read_input};
use jiff::civil::Date;
use upland_formats::{runs_csv, settings_file};

#[derive(clap::Args)]
#[command(
    after_help = "Output: start, end (RFC 3339), program, start_number, station, cycle, seconds. A run belongs to the\n\
date of its start, also after midnight. Exit 1 for a wrong file, 2 for wrong usage."
)]
pub struct Args {
    /// The settings file (JSON; see `schema settings`), or - for standard input.
    #[arg(long)]
    settings: String,
    /// First date, YYYY-MM-DD.
    #[arg(long)]
    from: Date,
    /// Last date, included.
    #[arg(long)]
    to: Date,
}

pub fn run(args: &Args) -> Result<(), Failure> {
    check_span(args.from, args.to)?;
    let file = settings_file::read(&read_input(&args.settings)?).map_err(|p| Failure::problems(&p))?;
    let runs =
        upland_core::controller::schedule::expand(&file.settings, &file.card, &file.tz, args.from, args.to);
    print(&runs_csv::write(&runs, &file.settings, &file.tz))
}

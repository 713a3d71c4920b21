//! `upland-almanac`: the server and the file commands.

mod commands;
// The program itself makes the demo; nobody asks for it.
#[allow(clippy::disallowed_methods)]
mod demo;

use clap::{Parser, Subcommand};

use std::process::ExitCode;

// Sixteen arenas that each keep the nineteen megabytes of a password hash, and what pages were drawn in, are a gigabyte
// that is never given back. Without huge pages: 90 threads that answer would each hold some for a few kilobytes in use.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

#[derive(Parser)]
#[command(
    name = "upland-almanac",
    version,
    about = "Irrigation water management: what each zone gets tonight, and why"
)]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Reference ET (ET0) of a weather file, as CSV on standard output.
    Et(commands::et::Args),
    /// Daily root-zone balance (FAO-56 eq. 82-88, constant p) of a file, as CSV.
    Balance(commands::balance::Args),
    /// The account of water of a site, zone by zone, a row a day or an hour, as CSV.
    Account(commands::account::Args),
    /// A rain sensor at each step of its type on a weather file, as JSON.
    Replay(commands::replay::Args),
    /// Tonight's runs of a site file and a daily weather file, as CSV.
    Tonight(commands::tonight::Args),
    /// What is found wrong with the settings of a controller, as JSON.
    Check(commands::check::Args),
    /// Every run of a controller over a span of dates, as CSV.
    Expand(commands::expand::Args),
    /// Settings for a controller of a site file, planned, as a settings file.
    Plan(commands::plan::Args),
    /// Twelve factors of each zone, the percentages a controller can be set to and the error left, as JSON.
    Budget(commands::budget::Args),
    /// A season of weather through one way of watering beside another, as JSON.
    Simulate(commands::simulate::Args),
    /// The likely causes of what a visit found, and which adjustment to make, as JSON.
    Diagnose(commands::diagnose::Args),
    /// A simulated sensor that posts to a server as a device would.
    Bench(commands::bench::Args),
    /// A simulated weather service: the hours of a station as CSV, seven days of forecast as JSON.
    BenchService(commands::bench::ServiceArgs),
    /// The JSON Schema of a file format.
    Schema {
        /// Which format.
        #[arg(value_enum, default_value = "site")]
        format: SchemaOf,
    },
    /// Serves the application.
    Serve(commands::serve::Args),
    /// Does background work of a database, on this machine beside or instead of its servers.
    Worker(commands::serve::WorkerArgs),
    /// A link by which somebody who cannot sign in chooses a new password; for whoever runs the server.
    SignInLink(commands::serve::SignInLink),
    /// Puts a new key first in the key file; the next start seals second factors with it.
    RotateKeys(commands::serve::KeyFile),
    /// Brings the database to the current schema.
    Migrate(commands::serve::Database),
    /// Loads the demo when the database has no accounts yet.
    LoadDemo(commands::serve::Database),
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum SchemaOf {
    Site,
    Settings,
    #[value(name = "controller-type", alias = "card")]
    Card,
    Ordinance,
    Sensor,
    Log,
    #[value(name = "option", alias = "way")]
    Way,
    #[value(name = "comparison", alias = "trial")]
    Trial,
    Visit,
}

fn main() -> ExitCode {
    let outcome = match Cli::parse().command {
        Command::Et(args) => commands::et::run(&args),
        Command::Balance(args) => commands::balance::run(&args),
        Command::Account(args) => commands::account::run(&args),
        Command::Replay(args) => commands::replay::run(&args),
        Command::Tonight(args) => commands::tonight::run(&args),
        Command::Check(args) => commands::check::run(&args),
        Command::Expand(args) => commands::expand::run(&args),
        Command::Plan(args) => commands::plan::run(&args),
        Command::Budget(args) => commands::budget::run(&args),
        Command::Diagnose(args) => commands::diagnose::run(&args),
        Command::Simulate(args) => commands::simulate::run(&args),
        Command::Bench(args) => commands::bench::run(&args),
        Command::BenchService(args) => commands::bench::serve(&args),
        Command::Schema { format } => commands::print(&match format {
            SchemaOf::Site => upland_formats::site_file::schema(),
            SchemaOf::Settings => upland_formats::settings_file::schema(),
            SchemaOf::Card => upland_formats::card_file::schema(),
            SchemaOf::Ordinance => upland_formats::ordinance_file::schema(),
            SchemaOf::Log => upland_formats::log_file::schema(),
            SchemaOf::Way => upland_formats::way_file::schema(),
            SchemaOf::Visit => upland_formats::visit_file::schema(),
            SchemaOf::Trial => upland_formats::trial_file::schema(),
            SchemaOf::Sensor => upland_formats::sensor_file::schema(),
        }),
        Command::Serve(args) => commands::serve::serve(args),
        Command::Worker(args) => commands::serve::work(args),
        Command::SignInLink(args) => commands::serve::sign_in_link(&args),
        Command::RotateKeys(args) => commands::serve::rotate_keys(&args),
        Command::Migrate(args) => commands::serve::migrate(&args),
        Command::LoadDemo(args) => commands::serve::load_demo(&args),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            eprintln!("{failure}");
            ExitCode::from(failure.code())
        }
    }
}

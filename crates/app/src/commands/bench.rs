//! `bench`: a simulated sensor that posts to a server as a real device would.

use super::{Failure, print, print_notes, read_input};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;
use upland_core::quantity::units::Metres;
use upland_core::weather::Station;
use upland_formats::daily_csv;
use upland_simulator::{Clock, DeviceKind, Plan, Sky};

#[derive(clap::Args)]
#[command(
    after_help = "It begins some days back, runs at the speed until it has caught up with the clock, and keeps pace from there. Ctrl-C stops it."
)]
pub struct Args {
    /// weather-station, rain-switch, soil-probe, flow-meter or et-sensor.
    kind: String,
    /// Address of the server.
    #[arg(long, default_value = "http://127.0.0.1:8080")]
    url: String,
    /// Token of the device, made on the page of its sensor.
    #[arg(long, env = "UPLAND_TOKEN", hide_env_values = true)]
    token: String,
    /// Simulated seconds in a second.
    #[arg(long, default_value_t = 3600.0)]
    speed: f64,
    /// Days back that it begins at.
    #[arg(long, default_value_t = 14)]
    days_back: u32,
    /// Simulated minutes between two readings.
    #[arg(long, default_value_t = 10)]
    step_min: u32,
    /// Daily weather to replay, its last day as today; generated weather when left out.
    #[arg(long)]
    weather: Option<String>,
    /// Seed of the generated weather.
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Stop after this many seconds.
    #[arg(long)]
    seconds: Option<u64>,
}

pub fn run(args: &Args) -> Result<(), Failure> {
    let kind = DeviceKind::from_name(&args.kind).ok_or_else(|| {
        let known: Vec<&str> = DeviceKind::ALL.iter().map(|(_, name)| *name).collect();
        Failure::Usage(format!("{} is not one of {}", args.kind, known.join(", ")))
    })?;
    if !(args.speed.is_finite() && args.speed > 0.0) {
        return Err(Failure::Usage("--speed must be above 0".into()));
    }
    let clock = Clock::of_server(args.url.trim_end_matches('/'));
    let sky = sky(args.weather.as_deref(), args.seed, &clock)?;
    let plan = Plan {
        url: args.url.trim_end_matches('/').to_owned(),
        token: args.token.clone(),
        kind,
        speed: args.speed,
        days_back: args.days_back,
        step_min: args.step_min,
        clock,
    };
    let (stop, taken) = (AtomicBool::new(false), AtomicU64::new(0));
    let outcome = std::thread::scope(|scope| {
        let running = scope.spawn(|| upland_simulator::run(&plan, &sky, &stop, &taken));
        let begun = std::time::Instant::now();
        while !running.is_finished() && args.seconds.is_none_or(|s| begun.elapsed().as_secs() < s) {
            std::thread::sleep(Duration::from_millis(100));
        }
        stop.store(true, Ordering::Relaxed);
        running.join()
    });
    match outcome {
        Ok(Ok(())) => print(&format!("{} readings were acknowledged.\n", taken.load(Ordering::Relaxed))),
        Ok(Err(refused)) => Err(Failure::Failed(refused.to_string())),
        Err(_) => Err(Failure::Failed("the simulator failed".into())),
    }
}

/// Generated weather, or that of a file with its last day as today.
fn sky(weather: Option<&str>, seed: u64, clock: &Clock) -> Result<Sky, Failure> {
    let Some(path) = weather else { return Ok(Sky::generated(seed)) };
    // Where the record was measured does not matter here: its numbers are played as they are.
    let station = Station {
        latitude_deg: 45.0,
        longitude_deg: 0.0,
        elevation: Metres::ZERO,
        wind_height: Metres::from_m(2.0),
    };
    let file = daily_csv::read(&read_input(path)?, &station).map_err(|p| Failure::problems(&p))?;
    print_notes(&file.notes);
    Ok(Sky::recorded(&file.days, clock.now().to_zoned(jiff::tz::TimeZone::UTC).date(), seed))
}

#[derive(clap::Args)]
#[command(
    after_help = "It tells its last three days under /hours.csv and a week ahead under /forecast.json. Ctrl-C stops it."
)]
pub struct ServiceArgs {
    /// Port on 127.0.0.1.
    #[arg(long, default_value_t = 8099)]
    port: u16,
    /// A server whose clock it follows.
    #[arg(long, default_value = "http://127.0.0.1:8080")]
    url: String,
    /// Daily weather to replay, its last day as today; generated weather when left out.
    #[arg(long)]
    weather: Option<String>,
    /// Seed of the generated weather.
    #[arg(long, default_value_t = 1)]
    seed: u64,
}

pub fn serve(args: &ServiceArgs) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Failure::Failed(format!("port {}: {error}", args.port));
    let clock = Clock::of_server(args.url.trim_end_matches('/'));
    let sky = sky(args.weather.as_deref(), args.seed, &clock)?;
    let listener = std::net::TcpListener::bind(("127.0.0.1", args.port)).map_err(failed)?;
    print(&format!(
        "The simulator serves its hours on http://127.0.0.1:{port}{} and forecasts on http://127.0.0.1:{port}{}\n",
        upland_simulator::service::MEASURED,
        upland_simulator::service::FORETOLD,
        port = args.port
    ))?;
    upland_simulator::service::serve(listener, sky, clock, args.seed).map_err(failed)
}

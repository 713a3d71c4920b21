//! The question as the solver has it, and its answer read back.

use crate::polish::{Ends, minutes, nearest_next, shortened};
use crate::{Drive, Driver, Plan, Question, Route, Unsolved, Visit, Window};
use std::sync::Arc;
use vrp_core::models::common::TimeWindow;
use vrp_core::models::problem::{JobIdDimension, VehicleIdDimension};
use vrp_core::models::solution::{Activity, Route as SolvedRoute};
use vrp_core::prelude::*;
use vrp_core::rosomaxa::evolution::TelemetryMode;
use vrp_core::rosomaxa::utils::Parallelism;

/// Rounds of the search, and of each stop: what it takes to stop improving.
const ROUNDS: usize = 200;
const ROUNDS_PER_STOP: usize = 35;
/// By how much the share of each driver's day is widened until every stop finds its place.
const WIDER: f64 = 1.12;

/// Orders the stops of a day: as many as fit into the drivers' hours, with the least driving. Where several drive, the work is
/// shared as evenly as that allows.
///
/// # Errors
/// When nobody drives, a number is none, or the solver refuses the question.
pub fn plan(question: &Question) -> Result<Plan, Unsolved> {
    if question.drivers.is_empty() {
        return Err(Unsolved::NoDriver);
    }
    if !are_numbers(question) {
        return Err(Unsolved::NotANumber);
    }
    if question.drivers.len() == 1 || question.stops.is_empty() {
        return solved(question);
    }
    let whole = solved(question)?;
    let work: f64 = question.stops.iter().map(|stop| stop.on_site_min).sum();
    let mut share = (work + whole.driving_min()) / count(question.drivers.len());
    let longest = question.drivers.iter().map(|d| d.hours.until_min - d.hours.from_min).fold(0.0, f64::max);
    while share < longest {
        let shorter = |driver: &Driver| {
            let until_min = driver.hours.until_min.min(driver.hours.from_min + share);
            Driver { hours: Window { until_min, ..driver.hours }, ..*driver }
        };
        let tried = Question { drivers: question.drivers.iter().map(shorter).collect(), ..question.clone() };
        let plan = solved(&tried)?;
        if plan.left_out.len() <= whole.left_out.len() {
            return Ok(plan);
        }
        share *= WIDER;
    }
    Ok(whole)
}

#[allow(clippy::cast_precision_loss)]
fn count(number: usize) -> f64 {
    number as f64
}

fn are_numbers(question: &Question) -> bool {
    let window = |w: &Window| w.from_min.is_finite() && w.until_min.is_finite() && w.from_min <= w.until_min;
    let stop =
        |stop: &crate::Stop| stop.on_site_min.is_finite() && stop.appointment.as_ref().is_none_or(window);
    question.legs.are_numbers()
        && question.drivers.iter().all(|driver| window(&driver.hours))
        && question.stops.iter().all(stop)
}

fn solved(question: &Question) -> Result<Plan, Unsolved> {
    search(question).map_err(|error| Unsolved::Search(error.to_string()))
}

/// The day of an order that was found before: for each driver the stops in order. A stop of no order is left out.
#[must_use]
pub fn timed(question: &Question, orders: &[Vec<usize>]) -> Plan {
    let of = |(number, driver): (usize, &Driver)| match orders.get(number) {
        Some(order) if !order.is_empty() => on_the_road(question, driver, order),
        _ => stays(driver.hours.from_min),
    };
    let routes: Vec<Route> = question.drivers.iter().enumerate().map(of).collect();
    let placed = |stop: &usize| routes.iter().any(|r| r.visits.iter().any(|visit| visit.stop == *stop));
    let left_out = (0..question.stops.len()).filter(|stop| !placed(stop)).collect();
    Plan { routes, left_out }
}

/// The matrix of the solver: the places, and one more that is near everything, for who begins or ends anywhere.
struct Matrix {
    size: usize,
    minutes: Vec<f64>,
}

impl Matrix {
    fn of(question: &Question) -> Self {
        let places = question.legs.places();
        let size = places + 1;
        let minutes = |at: usize| question.legs.drive(at / size, at % size).minutes;
        Self { size, minutes: (0..size * size).map(minutes).collect() }
    }

    const fn anywhere(&self) -> usize {
        self.size - 1
    }
}

fn silent() -> InfoLogger {
    Arc::new(|_| ())
}

fn search(question: &Question) -> GenericResult<Plan> {
    if question.stops.is_empty() {
        return Ok(timed(question, &[]));
    }
    let matrix = Matrix::of(question);
    let anywhere = matrix.anywhere();
    let transport: Arc<dyn TransportCost> =
        Arc::new(SimpleTransportCost::new(matrix.minutes.clone(), matrix.minutes)?);
    let least = TransportFeatureBuilder::new("driving")
        .set_transport_cost(transport.clone())
        .build_minimize_distance()?;
    let all = MinimizeUnassignedBuilder::new("stops").build()?;
    let goal = GoalContextBuilder::with_features(&[all, least])?.build()?;
    let problem = ProblemBuilder::default()
        .add_jobs(jobs(question)?.into_iter())
        .add_vehicles(vehicles(question, anywhere)?.into_iter())
        .with_goal(goal)
        .with_transport_cost(transport)
        // Left alone the solver writes to the program's own output.
        .with_logger(silent())
        .build()?;
    let problem = Arc::new(problem);
    let alone = Parallelism::new_with_cpus(1);
    let random = Arc::new(DefaultRandom::default());
    let environment = Arc::new(Environment::new(random, None, alone, silent(), false));
    let config = VrpConfigBuilder::new(problem.clone())
        .set_environment(environment)
        .set_telemetry_mode(TelemetryMode::None)
        .prebuild()?
        .with_max_generations(Some(ROUNDS + ROUNDS_PER_STOP * question.stops.len()))
        .build()?;
    let solution = Solver::new(problem, config).solve()?;
    let order = |number: usize| {
        let own = solution.routes.iter().find(|route| driver_of(route) == Some(number));
        own.map(order_of).unwrap_or_default()
    };
    let orders = question.drivers.iter().enumerate();
    let orders: Vec<Vec<usize>> =
        orders.map(|(number, driver)| best(question, driver, order(number))).collect();
    Ok(timed(question, &orders))
}

/// Stops from which another order is begun at most: more of them made tours of fifty stops hardly shorter.
const MOST_BEGINNINGS: usize = 16;

/// The shortest order of a driver's stops: of what the search found and of going to the nearest from each of them, each
/// shortened as far as it goes, those that keep hours and appointments.
fn best(question: &Question, driver: &Driver, found: Vec<usize>) -> Vec<usize> {
    let ends = Ends { start: driver.start, end: driver.end };
    let keeps = |order: &[usize]| {
        let route = on_the_road(question, driver, order);
        let on_time = |visit: &Visit| {
            let stop = question.stops.get(visit.stop).and_then(|stop| stop.appointment);
            stop.is_none_or(|window| visit.begins_min <= window.until_min)
        };
        route.ends_min <= driver.hours.until_min && route.visits.iter().all(on_time)
    };
    let begun = found.iter().take(MOST_BEGINNINGS).map(|first| nearest_next(&found, *first, &question.legs));
    let begun: Vec<Vec<usize>> = begun.filter(|order| keeps(order)).collect();
    let orders = begun.into_iter().chain([found]);
    let orders = orders.map(|order| shortened(order, ends, &question.legs, keeps));
    let length = |order: &Vec<usize>| minutes(order, ends, &question.legs);
    orders.min_by(|a, b| length(a).total_cmp(&length(b))).unwrap_or_default()
}

fn jobs(question: &Question) -> GenericResult<Vec<Job>> {
    let job = |(number, stop): (usize, &crate::Stop)| {
        let mut job =
            SingleBuilder::default().id(&number.to_string()).location(number)?.duration(stop.on_site_min)?;
        if let Some(window) = stop.appointment {
            job = job.times(vec![TimeWindow::new(window.from_min, window.until_min)])?;
        }
        job.build_as_job()
    };
    question.stops.iter().enumerate().map(job).collect()
}

fn vehicles(question: &Question, anywhere: usize) -> GenericResult<Vec<Vehicle>> {
    let vehicle = |(number, driver): (usize, &Driver)| {
        let detail = VehicleDetailBuilder::default()
            .set_start_location(driver.start.unwrap_or(anywhere))
            .set_start_time(driver.hours.from_min)
            .set_end_location(driver.end.unwrap_or(anywhere))
            .set_end_time(driver.hours.until_min)
            .build()?;
        VehicleBuilder::default().id(&number.to_string()).add_detail(detail).build()
    };
    question.drivers.iter().enumerate().map(vehicle).collect()
}

/// Whose a solved route is: numbers go in as names and come back as such.
fn driver_of(route: &SolvedRoute) -> Option<usize> {
    route.actor.vehicle.dimens.get_vehicle_id()?.parse().ok()
}

/// The stops of a solved route, in order.
fn order_of(route: &SolvedRoute) -> Vec<usize> {
    let stop = |activity: &Activity| activity.job.as_ref()?.dimens.get_job_id()?.parse().ok();
    route.tour.all_activities().filter_map(stop).collect()
}

/// The day of somebody who stays.
const fn stays(at: f64) -> Route {
    Route { leaves_min: at, visits: Vec::new(), home: Drive { km: 0.0, minutes: 0.0 }, ends_min: at }
}

/// The times of a driver's stops in an order. Work begins when the driver is there, or when the appointment allows; the start is
/// left as late as makes nobody wait in vain and the day end no later.
fn on_the_road(question: &Question, driver: &Driver, order: &[usize]) -> Route {
    let early = leaving_at(question, driver, order, driver.hours.from_min);
    let (mut waits, mut slack) = (0.0, f64::INFINITY);
    for visit in &early.visits {
        waits += visit.begins_min - visit.arrives_min;
        let stop = question.stops.get(visit.stop);
        if let Some(window) = stop.and_then(|stop| stop.appointment) {
            slack = f64::min(slack, waits + window.until_min - visit.begins_min);
        }
    }
    let later = waits.min(slack).max(0.0);
    if later > 0.0 { leaving_at(question, driver, order, driver.hours.from_min + later) } else { early }
}

fn leaving_at(question: &Question, driver: &Driver, order: &[usize], leaves_min: f64) -> Route {
    let drive = |from: Option<usize>, to: Option<usize>| match (from, to) {
        (Some(from), Some(to)) => question.legs.drive(from, to),
        _ => Drive::default(),
    };
    let (mut at, mut clock, mut visits) = (driver.start, leaves_min, Vec::new());
    for number in order {
        let Some(stop) = question.stops.get(*number) else { continue };
        let leg = drive(at, Some(*number));
        let arrives_min = clock + leg.minutes;
        let begins_min = stop.appointment.map_or(arrives_min, |window| arrives_min.max(window.from_min));
        clock = begins_min + stop.on_site_min;
        visits.push(Visit { stop: *number, drive: leg, arrives_min, begins_min, leaves_min: clock });
        at = Some(*number);
    }
    let home = drive(at, driver.end);
    Route { leaves_min, visits, home, ends_min: clock + home.minutes }
}

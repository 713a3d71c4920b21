//! A case in the making: two worlds side by side, and what can be seen of the true one.

use crate::Planted;
use crate::see::{LEFT_EMPTY, flow, meter, seen, truth};
use crate::world::World;
use jiff::ToSpan;
use jiff::tz::TimeZone;
use rand::Rng;
use std::collections::BTreeMap;
use upland_core::account::site_account::AccountInputs;
use upland_core::controller::schedule::Settings;
use upland_core::ground::soil::Texture;
use upland_core::quantity::time::{Seconds, midnight};
use upland_core::quantity::units::MillimetresPerHour;
use upland_core::site::SurveyedZone;
use upland_core::tuning::{Battery, Cause, ControllerSeen, Looks, ProgramSeen, SensorSeen, Sign, Visit};

/// A case in the making.
pub(crate) struct Making {
    pub world: World,
    pub known: AccountInputs,
    pub truth: AccountInputs,
    pub station: Option<u16>,
    pub signs: BTreeMap<u16, Vec<Sign>>,
    pub shown: BTreeMap<usize, ProgramSeen>,
    pub own: ControllerSeen,
    pub sensors: Vec<SensorSeen>,
    /// How much more the meter counts than what really ran.
    pub meter_times: f64,
    pub flows: BTreeMap<u16, f64>,
    pub soil: Option<(u16, Texture)>,
    pub wet_elsewhere: bool,
    /// Whether the cause must show in how some zone looks.
    pub must_show: bool,
}

impl Making {
    pub fn of(world: World) -> Self {
        let facts = world.facts.clone();
        Self {
            known: facts.clone(),
            truth: facts,
            world,
            station: None,
            signs: BTreeMap::new(),
            shown: BTreeMap::new(),
            own: ControllerSeen { controller_number: 1, ..ControllerSeen::default() },
            sensors: Vec::new(),
            meter_times: 1.0,
            flows: BTreeMap::new(),
            soil: None,
            wet_elsewhere: false,
            must_show: true,
        }
    }

    pub fn at_one(&mut self) -> u16 {
        let station = self.world.pick();
        self.station = Some(station);
        station
    }

    /// A sign that most visitors would see.
    pub fn sign(&mut self, station: u16, sign: Sign, odds: f64) {
        if self.world.rng.random_bool(odds) {
            self.signs.entry(station).or_default().push(sign);
        }
    }

    /// Changes what is really set since a day, unknown to anybody.
    pub fn really(&mut self, days_ago: i32, change: impl FnOnce(&mut Settings)) {
        let mut settings = self.world.settings();
        change(&mut settings);
        let since = midnight(self.world.on - days_ago.days(), &TimeZone::UTC);
        let versions = &mut self.truth.controllers[0].versions;
        versions.retain(|(at, _)| *at < since);
        versions.push((since, settings));
    }

    /// Changes what is set, and known.
    pub fn set(&mut self, mut change: impl FnMut(&mut Settings)) {
        for facts in [&mut self.known, &mut self.truth] {
            facts.controllers[0].versions.iter_mut().for_each(|(_, settings)| change(settings));
        }
    }

    pub fn zone_rate(&mut self, station: u16, times: f64) {
        for SurveyedZone { zone, resolved } in &mut self.truth.zones {
            if zone.number == station {
                let rate = MillimetresPerHour::from_mm_per_hour(resolved.rate.value.mm_per_hour() * times);
                zone.precipitation_rate = Some(rate);
                *resolved = zone.resolve(self.truth.site.latitude_deg);
            }
        }
    }

    pub fn zone_is(&mut self, station: u16, change: impl Fn(&mut upland_core::site::Zone), both: bool) {
        let latitude = self.truth.site.latitude_deg;
        let worlds = if both { vec![&mut self.known, &mut self.truth] } else { vec![&mut self.truth] };
        for facts in worlds {
            for SurveyedZone { zone, resolved } in
                facts.zones.iter_mut().filter(|own| own.zone.number == station)
            {
                change(zone);
                *resolved = zone.resolve(latitude);
            }
        }
    }

    pub fn factor(&mut self, low: (f64, f64), high: (f64, f64)) -> f64 {
        let (a, b) = if self.world.rng.random_bool(0.5) { low } else { high };
        self.world.rng.random_range(a..b)
    }

    pub fn hang(&mut self, code: &str, set: impl Fn(&mut upland_core::sensors::Sensor)) {
        let mut sensor = self.world.sensor(code);
        set(&mut sensor);
        let hung = self.world.hung(&sensor);
        // A controller has a port for what is joined to it.
        let port = upland_core::sensors::wiring::wanted_port(&sensor.card);
        for facts in [&mut self.known, &mut self.truth] {
            let ports = &mut facts.controllers[0].card.sensor_ports;
            if !ports.contains(&port) {
                ports.push(port);
            }
        }
        self.known.controllers[0].sensors.push(hung.clone());
        self.truth.controllers[0].sensors.push(hung);
    }

    pub fn sensor_name(&self) -> String {
        self.known.controllers[0].sensors[0].sensor.name.clone()
    }

    /// What the controller shows, as most visitors would read it.
    pub fn reads(&mut self, known: bool) {
        let rng = &mut self.world.rng;
        if self.own.on.is_none() && rng.random_bool(0.9) {
            self.own.on = Some(true);
        }
        if self.own.bypassed.is_none() && rng.random_bool(0.9) {
            self.own.bypassed = Some(false);
        }
        if self.own.clock_ahead.is_none() && rng.random_bool(0.9) {
            self.own.clock_ahead = Some(Seconds::from_s(rng.random_range(-200..200)));
        }
        if rng.random_bool(0.7) {
            self.own.battery = Some(Battery::Good);
        }
        let settings = self.known.controllers[0].settings_at(self.world.at).unwrap().clone();
        if known && rng.random_bool(0.85) {
            for (at, program) in settings.programs.iter().enumerate().filter(|(_, p)| p.waters()) {
                let shown = self.shown.entry(at).or_default();
                shown.on.get_or_insert(true);
                shown.percentage.get_or_insert(settings.percentages.of(at, self.world.on));
                shown.starts.get_or_insert(program.starts.clone());
            }
        }
        self.own.programs = self.shown.clone();
    }

    pub fn finish(mut self, cause: Cause) -> Option<Planted> {
        self.reads(true);
        let (on, at) = (self.world.on, self.world.at);
        let account = truth(&self.truth, on, at);
        let stations = self.world.stations();
        let mut zones = Vec::new();
        for station in stations {
            let certain = self.station == Some(station);
            let mut zone = seen(&mut self.world, &account, station, certain);
            if zone.looks.is_some() {
                zone.signs.extend(self.signs.get(&station).into_iter().flatten());
            }
            if let Some(times) = self.flows.get(&station)
                && self.world.rng.random_bool(0.6)
            {
                zone.flow = flow(&mut self.world, &self.truth, station, *times);
            }
            if let Some((_, soil)) = self.soil.filter(|(n, _)| *n == station)
                && self.world.rng.random_bool(0.9)
            {
                zone.soil = Some(soil);
            }
            zones.push(zone);
        }
        if self.must_show && !self.shows(&zones) {
            return None;
        }
        let count = meter(&mut self.world, &mut self.known, &self.truth, &account, self.meter_times);
        if self.world.rng.random_bool(LEFT_EMPTY) {
            self.own =
                ControllerSeen { controller_number: 1, nights: self.own.nights, ..ControllerSeen::default() };
            // Where the controller alone could say it, it was read.
            self.own.programs =
                if self.needs_controller(cause) { self.shown.clone() } else { BTreeMap::new() };
        }
        let unseen = match cause {
            // Nobody can tell these from anything else.
            Cause::Leak => count.is_none() && !self.wet_elsewhere,
            Cause::ClockWrong => self.own.clock_ahead.is_none(),
            _ => false,
        };
        if unseen {
            return None;
        }
        let visit = Visit {
            at,
            zones,
            controllers: vec![self.own],
            sensors: self.sensors,
            meter: count,
            wet_elsewhere: self.wet_elsewhere,
            note: String::new(),
        };
        Some(Planted { known: self.known, truth: self.truth, visit, cause, station: self.station })
    }

    pub fn needs_controller(&self, cause: Cause) -> bool {
        matches!(cause, Cause::HiddenProgram | Cause::ExtraStart | Cause::MinutesWrong)
    }

    /// Whether the planted zone, or half of all, looks otherwise than in a world without the fault.
    pub fn shows(&self, zones: &[upland_core::tuning::ZoneSeen]) -> bool {
        let off = |looks: Option<Looks>| looks.is_some_and(|l| l != Looks::Right);
        match self.station {
            Some(station) => zones.iter().any(|z| z.station == station && off(z.looks)),
            None => zones.iter().filter(|z| off(z.looks)).count() * 2 >= zones.len(),
        }
    }
}

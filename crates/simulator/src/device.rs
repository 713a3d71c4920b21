//! What each stand-in reads.

use crate::weather::{Sky, SkyHour};
use jiff::Timestamp;
use upland_core::sensors::Channel;

/// What a stand-in stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DeviceKind {
    /// Temperature, humidity, radiation, wind, rain and ET.
    WeatherStation,
    /// A contact that opens after 12 mm and dries with ET.
    RainSwitch,
    /// Soil water that rain and a nightly watering fill and plants draw.
    SoilProbe,
    /// A meter on a main that waters from two to four.
    FlowMeter,
    /// ET of each day, in the evening.
    EtSensor,
}

impl DeviceKind {
    /// All, with their short names.
    pub const ALL: [(Self, &'static str); 5] = [
        (Self::WeatherStation, "weather-station"),
        (Self::RainSwitch, "rain-switch"),
        (Self::SoilProbe, "soil-probe"),
        (Self::FlowMeter, "flow-meter"),
        (Self::EtSensor, "et-sensor"),
    ];

    /// The kind of a short name.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.iter().find(|(_, n)| *n == name).map(|(k, _)| *k)
    }
}

/// Water in the discs at which the stand-in's switch opens, mm.
const TRIPS_AT: f64 = 12.0;
/// Field capacity and wilting point of the probe's soil, percent by volume, and its depth, mm.
const SOIL: (f64, f64, f64) = (30.0, 14.0, 150.0);

/// A simulated device.
#[derive(Debug, Clone)]
pub struct StandIn {
    kind: DeviceKind,
    before: Option<Timestamp>,
    /// Water that came together in the switch, mm.
    together: f64,
    holds: bool,
    /// Soil water, percent by volume.
    soil: f64,
    day: Option<jiff::civil::Date>,
}

impl StandIn {
    /// A device that was just switched on.
    #[must_use]
    pub fn new(kind: DeviceKind) -> Self {
        Self { kind, before: None, together: 0.0, holds: false, soil: 26.0, day: None }
    }

    /// What it reads at an instant; time only goes forward.
    pub fn read(&mut self, at: Timestamp, sky: &Sky) -> Vec<(Channel, f64)> {
        let hours = self.before.map_or(0.0, |b| at.duration_since(b).as_secs_f64() / 3600.0).max(0.0);
        self.before = Some(at);
        let now = sky.at(at);
        let rain = now.rain_mm_h * hours;
        let civil = at.to_zoned(jiff::tz::TimeZone::UTC).datetime();
        let round = |v: f64| (v * 100.0).round() / 100.0;
        match self.kind {
            DeviceKind::WeatherStation => {
                let mut all = vec![
                    (Channel::Temperature, round(now.temperature_c)),
                    (Channel::Humidity, round(now.humidity_pct)),
                    (Channel::Solar, round(now.solar_w_m2)),
                    (Channel::Wind, round(now.wind_m_s)),
                    (Channel::Rain, round(rain)),
                ];
                all.extend(self.evening(civil, &now));
                all
            }
            DeviceKind::RainSwitch => {
                self.together = (self.together - now.et_mm_day / 24.0 * hours).max(0.0) + rain;
                self.holds = self.together >= TRIPS_AT || self.holds && self.together > 0.0;
                vec![(Channel::Contact, f64::from(u8::from(self.holds))), (Channel::Rain, round(rain))]
            }
            DeviceKind::SoilProbe => {
                let (full, dry, depth) = SOIL;
                let watered = if civil.hour() == 2 && self.soil < 22.0 { 12.0 * hours } else { 0.0 };
                self.soil += (rain + watered - now.et_mm_day / 24.0 * hours) / depth * 100.0;
                // What is above field capacity drains within hours.
                if self.soil > full {
                    self.soil = full + (self.soil - full) * (-hours / 4.0).exp();
                }
                self.soil = self.soil.clamp(dry, 44.0);
                vec![(Channel::SoilMoisture, round(self.soil))]
            }
            DeviceKind::FlowMeter => {
                let runs = (2..4).contains(&civil.hour());
                let flow = if runs { 38.0 + f64::from(civil.minute() % 5) * 0.2 } else { 0.0 };
                vec![(Channel::Flow, flow)]
            }
            DeviceKind::EtSensor => self.evening(civil, &now).into_iter().collect(),
        }
    }

    /// ET of the day, once, after six in the evening.
    fn evening(&mut self, civil: jiff::civil::DateTime, now: &SkyHour) -> Option<(Channel, f64)> {
        if civil.hour() < 18 || self.day == Some(civil.date()) {
            return None;
        }
        self.day = Some(civil.date());
        Some((Channel::Et, (now.et_mm_day * 100.0).round() / 100.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::ToSpan;

    #[test]
    fn every_stand_in_reads_what_the_interface_takes() {
        let sky = Sky::generated(3);
        let start: Timestamp = "2026-05-01T00:00:00Z".parse().unwrap();
        for (kind, name) in DeviceKind::ALL {
            assert_eq!(DeviceKind::from_name(name), Some(kind));
            let mut device = StandIn::new(kind);
            let mut values: Vec<(Channel, f64)> = Vec::new();
            for step in 0..(60 * 144) {
                values.extend(device.read(start + (step * 10).minutes(), &sky));
            }
            assert!(values.iter().all(|(c, v)| c.bound().check(*v).is_ok()), "{name}");
            let spread = values.iter().map(|(_, v)| *v).fold(0.0, f64::max);
            assert!(!values.is_empty() && spread > 0.0, "{name} says something");
        }
    }

    #[test]
    fn the_switch_opens_after_rain_and_closes_again() {
        let sky = Sky::generated(3);
        let start: Timestamp = "2026-05-01T00:00:00Z".parse().unwrap();
        let mut device = StandIn::new(DeviceKind::RainSwitch);
        let contact: Vec<f64> = (0..(120 * 24))
            .map(|h| device.read(start + h.hours(), &sky).first().map_or(0.0, |(_, v)| *v))
            .collect();
        let changes = contact.windows(2).filter(|p| p[0] != p[1]).count();
        assert!(changes >= 4, "{changes}");
    }
}

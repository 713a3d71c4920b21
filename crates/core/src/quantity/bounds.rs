//! Bounded inputs: each declares its range, unit and reason once; form checks, file checks,
//! messages and test generators all read it here.

/// The range that an input may have.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bound {
    /// What the input is called on screen and in messages.
    pub name: &'static str,
    /// Unit as written behind a number; empty for a bare ratio.
    pub unit: &'static str,
    /// Smallest accepted value.
    pub min: f64,
    /// Largest accepted value.
    pub max: f64,
    /// Why the range is what it is, and so what to do about a value outside it.
    pub why: &'static str,
}

/// A value outside its [`Bound`].
#[derive(Debug, Clone, Copy, PartialEq, thiserror::Error)]
#[error("{} must lie between {} and {}{}: {}", .bound.name, .bound.min, .bound.max, unit_suffix(.bound), .bound.why)]
pub struct OutOfBounds {
    /// The range that was missed.
    pub bound: Bound,
    /// The value that missed it.
    pub value: f64,
}

fn unit_suffix(bound: &Bound) -> String {
    if bound.unit.is_empty() { String::new() } else { format!(" {}", bound.unit) }
}

impl Bound {
    /// The value itself when it lies in the range.
    ///
    /// # Errors
    /// [`OutOfBounds`] when the value is below `min`, above `max` or not a finite number.
    pub fn check(&self, value: f64) -> Result<f64, OutOfBounds> {
        if value.is_finite() && value >= self.min && value <= self.max {
            Ok(value)
        } else {
            Err(OutOfBounds { bound: *self, value })
        }
    }
}

const fn bound(name: &'static str, unit: &'static str, min: f64, max: f64, why: &'static str) -> Bound {
    Bound { name, unit, min, max, why }
}

/// Latitude of a site, north positive. Sun geometry is undefined at the poles themselves.
pub const LATITUDE: Bound =
    bound("Latitude", "degrees", -89.0, 89.0, "north is positive, south negative, in decimal degrees");
/// Longitude of a site, east positive.
pub const LONGITUDE: Bound =
    bound("Longitude", "degrees", -180.0, 180.0, "east is positive, west negative, in decimal degrees");
/// Elevation above sea level.
pub const ELEVATION: Bound = bound(
    "Elevation",
    "m",
    -430.0,
    6000.0,
    "land lies between the lowest shores and the highest settlements",
);
/// Height at which wind is measured; FAO-56 eq. 47 needs more than about 0.1 m.
pub const WIND_HEIGHT: Bound =
    bound("Wind height", "m", 0.5, 200.0, "the logarithmic wind profile holds above low vegetation only");
/// Plant coefficient (KL or Kc).
pub const PLANT_COEFFICIENT: Bound = bound(
    "Plant coefficient",
    "",
    0.05,
    1.6,
    "plants use between a twentieth and about one and a half times reference ET",
);
/// Slope of the ground.
pub const SLOPE: Bound = bound("Slope", "%", 0.0, 100.0, "rise over run, as a percentage");
/// Precipitation rate of a zone.
pub const PRECIPITATION_RATE: Bound = bound(
    "Precipitation rate",
    "mm/h",
    0.5,
    150.0,
    "heads and emitters apply between a drip and a cloudburst",
);
/// Distribution uniformity of the low quarter, as a fraction.
pub const UNIFORMITY: Bound = bound(
    "Distribution uniformity",
    "",
    0.2,
    1.0,
    "a fraction: 0.65 means 65 %; below 0.2 the reading is a fault, not a uniformity",
);
/// Depth of the root zone.
pub const ROOT_DEPTH: Bound = bound("Root depth", "m", 0.03, 3.0, "from a seed tray to deep-rooted trees");
/// Allowable depletion p (FAO-56), as a fraction of total available water.
pub const ALLOWABLE_DEPLETION: Bound = bound(
    "Allowable depletion",
    "",
    0.05,
    0.9,
    "a fraction of the available water: FAO-56 table 22 spans 0.2 to 0.7",
);
/// Area of a zone.
pub const AREA: Bound = bound("Area", "m²", 0.1, 100_000.0, "one valve waters at most a few hectares");
/// Zone (station) number.
pub const ZONE_NUMBER: Bound = bound("Zone number", "", 1.0, 250.0, "the station number on the controller");
/// Flow that the supply can give.
pub const SUPPLY: Bound = bound("Supply", "L/min", 0.5, 20_000.0, "what meter and main can give at once");
/// Species factor of the landscape coefficient.
pub const SPECIES_FACTOR: Bound = bound(
    "Species factor",
    "",
    0.05,
    1.0,
    "very low below 0.1, low to 0.3, moderate to 0.6, high to 0.9 (WUCOLS method)",
);
/// Density factor of the landscape coefficient.
pub const DENSITY_FACTOR: Bound =
    bound("Density factor", "", 0.5, 1.3, "sparse 0.5 to 0.9, average 1.0, dense 1.1 to 1.3 (WUCOLS method)");
/// Share of a zone's area that other plants have, a fraction.
pub const PLANT_SHARE: Bound =
    bound("Share of the area", "", 0.01, 0.99, "the rest belongs to the zone's own plants");
/// Extra factor of a grow-in.
pub const GROW_IN_FACTOR: Bound =
    bound("Grow-in factor", "", 0.8, 2.0, "young roots need up to about half more");
/// Length of a wean-off.
pub const WEAN_OFF_WEEKS: Bound =
    bound("Wean-off", "weeks", 1.0, 26.0, "four to eight weeks are common practice");
/// First percentage of a wean-off.
pub const WEAN_OFF_START: Bound =
    bound("First percentage", "%", 20.0, 400.0, "what the plants got so far, of their computed need");
/// Trim of a zone.
pub const TRIM: Bound =
    bound("Trim", "%", -50.0, 50.0, "a trim is for exposure; beyond half, the plants or the rate are wrong");
/// Price of a cubic metre of water, or of a kilowatt-hour, in any money.
pub const PRICE: Bound = bound("Price", "", 0.0, 1_000_000.0, "a price of one unit, not of the whole bill");
/// What a pump takes while it runs.
pub const PUMP_KILOWATTS: Bound =
    bound("Power of the pump", "kW", 0.01, 1000.0, "what its plate says, in kilowatts");
/// Flow of a zone, read at the meter.
pub const ZONE_FLOW: Bound = bound("Flow of the zone", "L/min", 0.05, 2000.0, "what one valve passes");
/// Flow of one emitter.
pub const EMITTER_FLOW: Bound =
    bound("Flow of an emitter", "L/h", 0.1, 200.0, "a dripper gives 1 to 8, a bubbler up to 200");
/// Distance of emitters or lines.
pub const SPACING: Bound = bound("Spacing", "m", 0.05, 10.0, "from one emitter or line to the next");
/// Time between two askings of a weather service.
pub const FETCH_EVERY_MIN: Bound = bound(
    "Time between two askings",
    "min",
    10.0,
    1440.0,
    "often enough for the hour, not so often that the service minds",
);
/// Length of a catch-can run.
pub const CATCH_MINUTES: Bound =
    bound("Length of the run", "min", 1.0, 240.0, "long enough for 10 mL and more in a can");
/// Mouth of a catch can.
pub const CATCH_THROAT: Bound =
    bound("Opening of a can", "cm²", 5.0, 2000.0, "a tuna tin has about 55 cm², a bucket 600");
/// Water in a catch can.
pub const CATCH_READING: Bound = bound("Reading", "mL", 0.0, 20_000.0, "what the can caught");
/// Share of the available water that is left.
pub const AVAILABLE_SHARE: Bound =
    bound("Available water left", "", 0.0, 1.0, "0 % is wilting, 100 % is field capacity");
/// Length of a logged run.
pub const LOGGED_MINUTES: Bound = bound("Length of the run", "min", 0.1, 1440.0, "at most a day");
/// What a main meter has counted.
pub const METER_COUNT: Bound = bound("Meter", "L", 0.0, 1e11, "litres since it was built in");
/// A typed mean temperature.
pub const NORMAL_TEMPERATURE: Bound =
    bound("Mean temperature", "°C", -50.0, 50.0, "a mean of a month on land");
/// A typed month's rain.
pub const NORMAL_RAIN: Bound = bound("Rain of the month", "mm", 0.0, 3000.0, "a mean of many years");
/// A typed month's ET0.
pub const NORMAL_ET0: Bound = bound("ET0 of a day", "mm", 0.0, 15.0, "a mean of the month, a day");
/// Share of reference ET at which a rain switch dries.
pub const VENT: Bound = bound(
    "Dry-out",
    "",
    0.1,
    1.5,
    "a closed vent dries at less than half of reference ET, an open one at about all of it",
);
/// Days for which a rain sensor prevents watering.
pub const HOLD_DAYS: Bound = bound(
    "Days for which a rain sensor prevents watering",
    "days",
    1.0,
    14.0,
    "rain delays of 1 to 14 days are common practice",
);
/// Days of an ET sensor's trailing mean.
pub const ET_DAYS: Bound =
    bound("Days of the mean", "days", 1.0, 14.0, "a day follows the weather, two weeks the season");
/// Demand that stands for 100 %.
pub const ET_FULL: Bound =
    bound("Demand of 100 %", "mm/day", 0.5, 15.0, "the ET0 that the base minutes are made for");
/// Flow alarm, percent from learned.
pub const FLOW_ALARM: Bound =
    bound("Flow alarm", "%", 5.0, 200.0, "closer than a twentieth alarms on every breath of pressure");
/// What a pulse of a flow meter stands for.
pub const METER_CONSTANT: Bound = bound("Meter constant", "L", 0.001, 10_000.0, "litres of one pulse");
/// Length of a cycle window.
pub const CYCLE_WINDOW: Bound =
    bound("Cycle window", "min", 60.0, 1440.0, "the day's whole cycle and an hour");
/// Hours of sun on a sensor.
pub const SUN_HOURS: Bound =
    bound("Hours of sun", "h", 0.0, 16.0, "on a clear day in the middle of the season");
/// A distance or height on a site.
pub const SITE_METRES: Bound = bound("Distance", "m", 0.0, 2000.0, "on one property");
/// Height or depth of a sensor.
pub const SENSOR_HEIGHT: Bound =
    bound("Height or depth", "m", 0.0, 30.0, "above the ground; for a probe, below it");
/// Walls between a radio and its receiver.
pub const WALLS: Bound = bound("Walls between", "", 0.0, 10.0, "each takes about half of the reach");
/// Straight pipe at a flow meter.
pub const STRAIGHT_PIPE: Bound =
    bound("Straight pipe", "diameters", 0.0, 200.0, "length divided by the pipe's bore");
/// A threshold of a soil probe.
pub const SOIL_THRESHOLD: Bound =
    bound("Soil threshold", "%", 3.0, 70.0, "percent by volume, from the drained reading");
/// A threshold that a rain switch is tried at.
pub const RAIN_THRESHOLD: Bound =
    bound("Rain threshold", "mm", 1.0, 50.0, "rain switches have steps from 3 to 25 mm");
/// Rain between two readings.
pub const READ_RAIN: Bound = bound("Rain", "mm", 0.0, 500.0, "since the reading before");
/// Air temperature that was read.
pub const READ_TEMPERATURE: Bound = bound("Temperature", "°C", -60.0, 60.0, "of the air");
/// Temperature at or below which a freeze sensor holds.
pub const FREEZE_AT: Bound =
    bound("Freeze point", "°C", -10.0, 20.0, "ice forms near 0 °C; 3 °C (37 °F) is common practice");
/// Humidity that was read.
pub const READ_HUMIDITY: Bound = bound("Humidity", "%", 0.0, 105.0, "old sensors read a little above 100");
/// Radiation that was read.
pub const READ_SOLAR: Bound = bound("Radiation", "W/m²", -10.0, 1600.0, "the sun above the air gives 1361");
/// Wind that was read.
pub const READ_WIND: Bound = bound("Wind", "m/s", 0.0, 90.0, "at 2 m above the ground");
/// Soil water that was read.
pub const READ_SOIL: Bound = bound("Soil water", "%", 0.0, 100.0, "percent by volume");
/// Flow that was read.
pub const READ_FLOW: Bound = bound("Flow", "L/min", 0.0, 20_000.0, "through the main");
/// ET of a day that was read.
pub const READ_ET: Bound = bound("ET of a day", "mm", 0.0, 20.0, "no day on land takes more");
/// A contact.
pub const READ_CONTACT: Bound = bound("Contact", "", 0.0, 1.0, "1 prevents watering, 0 allows it");
/// Charge of a battery.
pub const READ_BATTERY: Bound = bound("Battery", "%", 0.0, 100.0, "of its charge");

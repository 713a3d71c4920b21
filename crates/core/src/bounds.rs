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
pub const ELEVATION: Bound =
    bound("Elevation", "m", -430.0, 6000.0, "land lies between the lowest shores and the highest settlements");
/// Height at which wind is measured; FAO-56 eq. 47 needs more than about 0.1 m.
pub const WIND_HEIGHT: Bound =
    bound("Wind height", "m", 0.5, 200.0, "the logarithmic wind profile holds above low vegetation only");
/// Plant coefficient (KL or Kc).
pub const PLANT_COEFFICIENT: Bound =
    bound("Plant coefficient", "", 0.05, 1.6, "plants use between a twentieth and about one and a half times reference ET");
/// Slope of the ground.
pub const SLOPE: Bound = bound("Slope", "%", 0.0, 100.0, "rise over run, as a percentage");
/// Precipitation rate of a zone.
pub const PRECIPITATION_RATE: Bound =
    bound("Precipitation rate", "mm/h", 0.5, 150.0, "heads and emitters apply between a drip and a cloudburst");
/// Distribution uniformity of the low quarter, as a fraction.
pub const UNIFORMITY: Bound =
    bound("Distribution uniformity", "", 0.2, 1.0, "a fraction: 0.65 means 65 %; below 0.2 the reading is a fault, not a uniformity");
/// Depth of the root zone.
pub const ROOT_DEPTH: Bound =
    bound("Root depth", "m", 0.03, 3.0, "from a seed tray to deep-rooted trees");
/// Allowable depletion p (FAO-56), as a fraction of total available water.
pub const ALLOWABLE_DEPLETION: Bound =
    bound("Allowable depletion", "", 0.05, 0.9, "a fraction of the available water: FAO-56 table 22 spans 0.2 to 0.7");
/// Area of a zone.
pub const AREA: Bound = bound("Area", "m²", 0.1, 100_000.0, "one valve waters at most a few hectares");
/// Zone (station) number.
pub const ZONE_NUMBER: Bound = bound("Zone number", "", 1.0, 250.0, "the station number on the box");
/// Flow that the supply can give.
pub const SUPPLY: Bound = bound("Supply", "L/min", 0.5, 20_000.0, "what meter and main can give at once");

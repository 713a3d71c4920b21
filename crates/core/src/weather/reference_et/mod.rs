//! Reference evapotranspiration ET0: the standardized Penman-Monteith equation for the short
//! reference, daily and hourly (ASCE-EWRI 2005; for days identical with FAO-56 eq. 6), and
//! Hargreaves-Samani (FAO-56 eq. 52) where only temperatures exist. The method is part of the
//! result.

mod daily;
mod hargreaves;
mod hourly;

pub use daily::{DailyTerms, StationYear, daily, daily_at, daily_penman_monteith, daily_with};
pub use hargreaves::hargreaves_samani;
pub use hourly::{HourlyEt, hourly_series};

use crate::quantity::units::Millimetres;
use crate::weather::fill::Fill;

/// Inverse latent heat of vaporization, kg/MJ.
const INVERSE_LATENT_HEAT: f64 = 0.408;

/// Which equation gave an ET0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Method {
    /// ASCE-EWRI standardized Penman-Monteith, short reference.
    PenmanMonteith,
    /// Hargreaves-Samani, FAO-56 eq. 52.
    HargreavesSamani,
}

impl Method {
    /// The name used in files and on the command line.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::PenmanMonteith => "penman-monteith",
            Self::HargreavesSamani => "hargreaves",
        }
    }
}

/// ET0 of one day, how it was got and what had to be filled for it.
#[derive(Debug, Clone, PartialEq)]
pub struct DailyEt {
    /// Reference evapotranspiration of the day.
    pub et0: Millimetres,
    /// The equation.
    pub method: Method,
    /// The inputs that were not measured, with the rule that stood in for each.
    pub fills: Vec<Fill>,
}

impl DailyEt {
    /// `penman-monteith`, `hargreaves`, or with the filled inputs behind it:
    /// `penman-monteith; filled: solar, wind`.
    #[must_use]
    pub fn label(&self) -> String {
        let mut label = self.method.name().to_owned();
        for (i, fill) in self.fills.iter().enumerate() {
            label.push_str(if i == 0 { "; filled: " } else { " + " });
            label.push_str(fill.input());
        }
        label
    }
}

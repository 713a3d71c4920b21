//! What a box is set to, and the runs that follow from it.

mod days;
mod expand;
mod settings;

pub use days::{Days, runs_on};
pub use expand::{ScheduledRun, expand};
pub use settings::{Percentages, Program, Repeat, Settings, SettingsFault, StationSetting, YearSpan};

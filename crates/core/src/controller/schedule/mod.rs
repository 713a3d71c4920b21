//! What a box is set to, and the runs that follow from it.

mod carried;
mod days;
mod difference;
mod expand;
mod fit;
mod passes;
mod settings;
mod totals;

pub use days::{Days, days_in_words, runs_on};
pub use difference::{Change, Where, difference};
pub use expand::{Scale, ScheduledRun, event_length, expand, expand_scaled};
pub use passes::{ProgramPass, passes};
pub use settings::{
    LONGEST_PROGRAM_NAME, Percentages, Program, Repeat, Rest, Settings, SettingsFault, StationSetting,
    YearSpan,
};
pub use totals::{ProgramTotal, program_totals};

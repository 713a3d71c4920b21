//! What a controller is set to, and the runs that follow from it.

mod carried;
mod days;
mod difference;
mod expand;
mod fit;
mod passes;
mod settings;
mod totals;

pub use days::{Days, days_in_words, days_in_words_by, ordinal_ending, runs_on};
pub use difference::{Change, DateWriter, Where, difference, difference_by, months_in_words};
pub use expand::{CARRIED_DAYS, Scale, ScheduledRun, event_length, expand, expand_scaled};
pub use passes::{ProgramPass, passes};
pub use settings::{
    LONGEST_PROGRAM_NAME, MOST_OMITTED, Percentages, Program, Repeat, Rest, Settings, SettingsFault,
    StationSetting, VALVE_MA, YearSpan,
};
pub use totals::{ProgramTotal, program_totals};

//! What several chapters show: the frame, forms, words, numbers and drawings. It knows no chapter.

pub(crate) mod box_version;
pub(crate) mod card_form;
pub(crate) mod change_words;
pub(crate) mod dates;
pub(crate) mod drawn;
pub(crate) mod event_words;
pub(crate) mod forms;
pub(crate) mod frame;
pub(crate) mod glossary;
pub(crate) mod headline;
pub(crate) mod law_words;
pub(crate) mod merge;
pub(crate) mod plan_picture;
pub(crate) mod qr;
pub(crate) mod quantities;
pub(crate) mod ribbon;
pub(crate) mod school_words;
pub(crate) mod season_chart;
pub(crate) mod sensor_words;
pub(crate) mod take_back;
pub(crate) mod ticks;
pub mod tuning_words;
pub(crate) mod units;
pub(crate) mod working;

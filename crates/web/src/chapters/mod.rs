//! The chapters: a folder each, with its handlers, views, words and templates. None knows another.

pub(crate) mod about;
pub(crate) mod accounts;
pub(crate) mod budget;
pub(crate) mod library;
pub(crate) mod logbook;
pub(crate) mod office;
pub(crate) mod offline;
pub(crate) mod owner;
pub(crate) mod photos;
pub(crate) mod programs;
pub(crate) mod round;
pub(crate) mod sensors;
pub(crate) mod today;
pub(crate) mod trial;
pub(crate) mod tuning;
pub(crate) mod weather;
pub(crate) mod zones;

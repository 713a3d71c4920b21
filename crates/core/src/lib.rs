//! The computation behind Upland Almanac.
//!
//! Everything here is a pure function of facts and a date: there is no clock, no file, no
//! database and no interface. Quantities are newtypes that carry their unit in the name of
//! their constructors and getters ([`quantity`]); civil dates and instants are different types
//! (`jiff`). A module stands for a phenomenon, and each formula names its published source.
//!
//! The rooms, top floor first; each knows only what stands below it:
//!
//! - [`explain`] opens a number to its inputs, formula and source; [`codes`] are the short names of list values.
//! - [`tuning`]: what was seen on a visit, what it comes from, which adjustment to make and what that does.
//! - [`trial`]: a season of weather through one way of watering beside another.
//! - [`advice`]: tonight's decisions, findings, the planner, percentages, which sensors pay.
//! - [`account`]: what ran, what fell and what the soil holds over a season.
//! - [`installation`]: a controller as installed, with its zones, law and sensors.
//! - [`sensors`]: what a sensor is, reads, says and stops, how it is placed, wired and calibrated.
//! - [`site`]: the survey, and the same with every gap filled by a stated default.
//! - [`controller`]: what a controller can hold, the runs that follow from its settings, the law it keeps.
//! - [`weather`] and [`ground`]: the sky from record to reference ET; plants, soil and the water put down.
//! - [`quantity`]: units, months and the ranges of inputs.
#![warn(missing_docs)]

pub mod account;
pub mod advice;
pub mod codes;
pub mod controller;
pub mod explain;
pub mod ground;
pub mod installation;
pub mod quantity;
pub mod sensors;
pub mod site;
pub mod sound;
pub mod trial;
pub mod tuning;
pub mod weather;

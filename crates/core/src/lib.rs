//! The computation behind Upland Almanac.
//!
//! Everything here is a pure function of facts and a date: there is no clock, no file, no
//! database and no interface. Quantities are newtypes that carry their unit in the name of
//! their constructors and getters ([`units`]); civil dates and instants are different types
//! (`jiff`). A module stands for a phenomenon, and each formula names its published source.
//!
//! The order of the modules is the order of the work: [`weather`] is checked ([`quality`]) and
//! completed ([`fill`]), becomes reference evapotranspiration ([`reference_et`]), then demand
//! ([`plant`]), then a depletion in the soil ([`soil`], [`balance`]), then minutes and cycles
//! ([`application`]), then a night ([`night`]) and a decision with its reasons ([`tonight`]).
//!
//! Beside it stands the box: what it can hold ([`controller`]), what it is set to and the runs that
//! follow ([`schedule`]), what must be kept to ([`ordinance`]), the box where it hangs
//! ([`installation`]), what is wrong with it ([`findings`]), what it should be set to ([`planner`])
//! and work by hand ([`manual`]). [`sensors`] hold it back or scale it.
#![warn(missing_docs)]

pub mod application;
pub mod balance;
pub mod bounds;
pub mod budget;
pub mod catch_can;
pub mod climate;
pub mod codes;
pub mod controller;
pub mod explain;
pub mod fill;
pub mod findings;
pub mod installation;
pub mod manual;
pub mod night;
pub mod ordinance;
pub mod planner;
pub mod plant;
pub mod planting;
pub mod quality;
pub mod range;
pub mod record;
pub mod reference_et;
pub mod schedule;
pub mod season;
pub mod sensors;
pub mod site;
pub mod soil;
pub mod sun;
pub mod tonight;
pub mod units;
pub mod weather;

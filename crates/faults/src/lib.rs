//! For tests only. A site that is well set up, with one thing wrong that the record does not know, and what somebody
//! would see of it on a visit.
//!
//! Two worlds stand side by side: what is known of the site, and what is true of it. The account runs over the true
//! one; how its zones look follows from that by a rule of this crate, with noise, and some of it is left empty. The
//! diagnosis sees the known world and the visit, and nothing here asks it anything.
#![allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    clippy::unwrap_used,
    clippy::missing_panics_doc,
    clippy::indexing_slicing,
    reason = "for tests"
)]

mod families;
mod making;
mod plant;
mod see;
mod world;

pub use families::{after_rain, beds_of_one_program, misread, wilting};
pub use plant::{CAUSES, planted};
pub use see::{looks_of, truth};
pub use world::{World, draw};

use upland_core::account::site_account::AccountInputs;
use upland_core::tuning::{Cause, Visit};

/// A case: what is known, what was seen, and what was planted where.
#[derive(Debug, Clone)]
pub struct Planted {
    /// What is known.
    pub known: AccountInputs,
    /// What is true.
    pub truth: AccountInputs,
    /// What was seen.
    pub visit: Visit,
    /// What was planted.
    pub cause: Cause,
    /// Its station, when it is about one.
    pub station: Option<u16>,
}

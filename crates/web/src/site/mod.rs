//! Who asks, about which site and controller, and what is computed from its facts. It knows no chapter.

pub(crate) mod climate;
pub(crate) mod clock;
pub(crate) mod context;
pub(crate) mod facts;
pub(crate) mod library;
pub(crate) mod sensing;
pub(crate) mod visits;
pub(crate) mod workbench;

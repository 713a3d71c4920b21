//! Who asks, about which site and controller, and what is computed from its facts. It knows no chapter.

pub(crate) mod climate;
pub(crate) mod clock;
pub(crate) mod context;
pub(crate) mod controller_snapshot;
pub(crate) mod library;
pub(crate) mod noted;
pub(crate) mod photographs;
pub(crate) mod records;
pub(crate) mod sensing;
pub(crate) mod snapshot;
pub(crate) mod visits;

//! What people decide: about rejects, about reading again, about letting go.

pub(crate) mod alerts;
pub(crate) mod drift;
pub(crate) mod rejects;
pub(crate) mod resnapshot;
pub(crate) mod teardown;

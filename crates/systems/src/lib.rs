//! Which kinds of systems there are: one line a kind, and the project file with the sections that they read.
//!
//! Nothing above this crate names a kind.

#[cfg(test)]
mod hostile;
mod kinds;
mod project;

pub use kinds::{KINDS, make_source, source_kind, source_kinds, target_kind, target_kinds};
pub use project::Described;

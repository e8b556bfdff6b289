//! The local store: one SQLite file.

pub(crate) mod base;
pub(crate) mod events;
mod looks;
pub(crate) mod periods;
pub(crate) mod published;
mod requests;
pub(crate) mod runs;
mod samples;
mod schema;
#[cfg(test)]
mod tests;
mod thinning;

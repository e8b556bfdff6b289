//! The local store: one SQLite file.

pub(crate) mod alerts;
pub(crate) mod base;
pub(crate) mod events;
mod looks;
pub(crate) mod periods;
pub(crate) mod published;
mod requests;
pub(crate) mod runs;
pub(crate) mod samples;
mod schema;
pub(crate) mod standings;
#[cfg(test)]
mod tests;
mod thinning;

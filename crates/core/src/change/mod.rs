//! Captured changes: kinds, blocks of them in columns, their kept form, counts, and how people read them.

pub mod block;
pub mod builder;
pub mod counters;
pub mod describe;
pub(crate) mod kept;
pub mod kind;
pub mod place;
pub mod segment;
pub mod sequence;
pub mod structure;

//! The table format itself, without any input or output: the actions of its log, what they come to, and how deletion
//! vectors, schemas and statistics are written.
//!
//! Source: the format's public protocol document ("Delta Transaction Log Protocol"), whose sections are named below.

pub(crate) mod action;
pub(crate) mod checkpoint;
pub(crate) mod features;
pub(crate) mod names;
pub(crate) mod schema;
pub(crate) mod state;
pub(crate) mod vector;
pub(crate) mod z85;

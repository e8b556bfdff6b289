//! The part of Moorage that computes: schemas, plans, reduction, checkpoints, lag.
//!
//! Nothing in this crate reads a file, opens a socket, looks at a clock or an environment
//! variable, or writes to a terminal. All of that is handed in as values. What comes out are
//! values again: decisions, plans, reduced batches. Everything here is therefore tested on its own.

pub mod batch;
pub mod canonical;
pub mod change;
pub mod checkpoint;
pub mod column;
pub mod compare;
pub mod convert;
pub mod counters;
pub mod decimal;
pub mod describe;
pub mod expr;
pub mod finding;
#[cfg(test)]
mod hostile;
mod kept;
pub mod lag;
pub mod mapping;
pub mod naming;
pub mod pattern;
pub mod pick;
pub mod plan;
pub mod position;
pub mod project;
pub mod project_edit;
mod project_ends;
mod project_error;
mod project_rule;
pub mod project_text;
pub mod reduce;
pub mod schema;
pub mod sql;
pub mod survey;
pub mod types;
pub mod visible;

pub use position::Position;
pub use schema::{Column, TableName, TableSchema};
pub use types::LogicalType;

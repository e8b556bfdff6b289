//! The part of Moorage that computes: schemas, plans, reduction, checkpoints, lag.
//!
//! Nothing in this crate reads a file, opens a socket, looks at a clock or an environment
//! variable, or writes to a terminal. All of that is handed in as values. What comes out are
//! values again: decisions, plans, reduced batches. Everything here is therefore tested on its own.

pub mod apply;
pub mod change;
pub mod checkpoint;
pub mod compare;
pub mod drift;
pub mod expr;
pub mod follow;
#[cfg(test)]
mod hostile;
pub mod mapping;
pub mod model;
pub mod pick;
pub mod plan;
pub mod project;
pub mod value;
pub mod watch;

pub use crate::model::name::TableName;
pub use crate::model::position::Position;
pub use crate::model::schema::{Column, TableSchema};
pub use crate::model::types::LogicalType;

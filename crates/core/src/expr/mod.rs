//! Expressions over the columns of a table: value expressions of SQL (ISO/IEC 9075-2, section 6.28), parsed by
//! a well-kept parser of the language, typed before the first row, evaluated over whole columns.
//!
//! Logic is three-valued, as there: a condition holds only where it is true. Where the standard leaves a
//! choice, the exact one is taken: integers overflow into an error, decimals have any number of digits, texts
//! compare by code points, and `/` wants floats, so that nobody has to guess which way a quotient is rounded.

mod build;
mod eval;
mod functions;
mod ops;
mod parse;
mod reader;
mod same;
mod sql_type;
mod text;
mod tree;
mod types;

pub use same::computes_like;
pub use sql_type::logical_type;
pub use text::with_names;
pub use tree::{EvalError, Expr};

#[cfg(test)]
mod tests;

//! From a change of a source table's structure to what becomes of its target table.
//!
//! - `difference`: what is another way than it was, column by column, each the same one by its number
//! - `alter`: what is to be done to a target table, as data
//! - `compared`: two plans side by side
//! - `decide`: differences × policies
//! - `standing`: what of it is done in the target already
//! - `outlook`: the same before anything has changed, in words

pub mod alter;
mod compared;
pub mod decide;
pub mod difference;
pub mod held;
pub mod outlook;
pub mod record;
pub mod standing;

#[cfg(test)]
pub(crate) mod tests;

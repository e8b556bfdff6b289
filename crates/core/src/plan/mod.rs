//! The plan: what a run makes in the target for each picked table, and what it refuses.

pub mod carried;
mod columns;
pub mod current_rows;
pub mod dialect;
pub mod gather;
mod generated;
pub mod make;
mod names;
pub mod table;
pub mod tidy;

#[cfg(test)]
pub(crate) mod tests;

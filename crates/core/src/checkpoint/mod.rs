//! The checkpoint: up to where the target holds everything, and which source history that is about.
//!
//! [`decide`](decide::decide) compares what the target remembers with what the source is now. It never lets a run go on
//! from a history that is not the one the checkpoint was taken from.

pub mod decide;
pub mod stored;

#[cfg(test)]
mod tests;

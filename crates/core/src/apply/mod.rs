//! Applying: when a batch ends, what is left of it once it is reduced, and which changes of it belong together.

pub mod batch;
pub mod net;
pub mod prepare;
pub mod reduce;
pub mod units;
pub mod write_set;

#[cfg(test)]
mod tests;

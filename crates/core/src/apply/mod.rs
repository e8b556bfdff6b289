//! Applying: when a batch ends, what is left of it once it is reduced, and which changes of it belong together.

mod added;
pub mod batch;
mod distinct;
pub mod net;
pub mod prepare;
pub mod reduce;
pub mod trail;
pub mod units;
mod versions;
pub mod write_set;

#[cfg(test)]
mod distinct_tests;
#[cfg(test)]
mod kept_tests;
#[cfg(test)]
mod spelled_tests;
#[cfg(test)]
mod tests;

//! The project file: sources, targets and pipelines, as read from TOML text, edited and written.
//!
//! Only the text is read here; secrets are described, not looked up, and no path is touched.

pub mod alert;
pub mod also;
pub mod config;
pub mod drift;
pub mod edit;
pub mod error;
mod picking;
mod read;
pub mod rule;
pub mod section;
pub mod text;
pub mod units;

#[cfg(test)]
mod tests;

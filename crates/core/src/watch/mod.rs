//! Watching: how long transactions are on their way, until when the target is complete, and samples of both over time.

pub mod alerts;
mod flight;
pub mod forecast;
pub mod histogram;
pub mod lag;
pub mod meter;
pub mod sample;
pub mod stalls;
#[cfg(test)]
mod tests;
pub mod tiers;

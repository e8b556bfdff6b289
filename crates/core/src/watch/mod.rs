//! Watching: how long transactions are on their way, until when the target is complete, and samples of both over time.

mod flight;
pub mod histogram;
pub mod lag;
pub mod meter;
pub mod sample;
pub mod stalls;

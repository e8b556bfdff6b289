//! Watching: lag.

pub mod lag;

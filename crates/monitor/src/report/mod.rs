//! A report of a stretch of time: one HTML file that needs no network and no script. What is in it: [`Report`].

mod chart;
mod page;
mod reported;
#[cfg(test)]
mod tests;

pub use page::html;
pub use reported::{DriftLine, PipelineReport, RejectLine, Report, RunLine};

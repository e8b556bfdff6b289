//! The two suites: what is asked of every source, and of every target.

mod source;
mod target;

pub use source::{SourceUnderTest, check_source};
pub use target::{TargetUnderTest, check_target};

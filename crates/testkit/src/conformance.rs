//! The two suites: what is asked of every source, and of every target.

mod handed;
mod promises;
mod source;
mod streams;
mod target;

pub use handed::TargetUnderTest;
pub use source::{SourceUnderTest, check_source};
pub use target::check_target;

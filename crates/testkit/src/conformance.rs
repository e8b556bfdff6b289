//! The two suites: what is asked of every source, and of every target.

mod asked;
pub mod handed;
mod promises;
mod source;
mod streams;
mod target;

pub use asked::SourceUnderTest;
pub use handed::TargetUnderTest;
pub use source::check_source;
pub use target::check_target;

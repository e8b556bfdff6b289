//! Running a pipeline: set up, read what is missing, follow changes.

mod aligning;
mod apply;
mod came_and_went;
mod carrying;
mod follow;
pub(crate) mod holding;
mod keeping;
mod load;
mod looks;
mod names;
pub(crate) mod once;
mod prepare;
mod reread;
mod set_up;
mod spool;
pub(crate) mod standings;
mod tidying;
mod waiting;

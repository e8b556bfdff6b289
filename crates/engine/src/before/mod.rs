//! Before the first row moves: what a pipeline would do, and whether both ends are ready.

pub(crate) mod check;
pub mod ddl;
pub(crate) mod draft;
pub(crate) mod estimate;
pub(crate) mod example;
mod findings;
pub(crate) mod history;
pub(crate) mod known;
pub(crate) mod lacks;
pub(crate) mod loops;

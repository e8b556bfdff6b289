//! Looking at a pipeline and at its rows; changes nothing.

pub(crate) mod alerting;
pub(crate) mod behind;
mod between;
pub(crate) mod changes;
mod compare;
pub(crate) mod history;
pub(crate) mod lag;
pub(crate) mod preview;
pub(crate) mod problems;
pub(crate) mod report;
mod restructured;
pub(crate) mod row;
pub(crate) mod running;
pub(crate) mod status;
pub(crate) mod tables;
pub(crate) mod verdict;
pub(crate) mod verify;

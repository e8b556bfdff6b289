//! What both ends share: opening a file, its values, their order, its errors.

pub(crate) mod error;
pub(crate) mod open;
pub(crate) mod read;
pub(crate) mod sort;
pub(crate) mod storage;

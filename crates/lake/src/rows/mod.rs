//! Rows in data files: how values are held, keys are written, and files are read and made. Bytes in, bytes out: where they are
//! kept is known elsewhere.

pub(crate) mod convert;
pub(crate) mod key;
pub(crate) mod key_file;
pub(crate) mod read;
pub(crate) mod stats;
pub(crate) mod write;

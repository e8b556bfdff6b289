//! What a target table says of who writes it, so that no source takes it for the application's own.

/// What the comment on a table that a pipeline made says behind the source's own, and what stands behind the
/// pipeline's name.
pub(crate) const WRITTEN: &str = "Written by pipeline ";

pub(crate) const WRITTEN_END: &str = " of Moorage";

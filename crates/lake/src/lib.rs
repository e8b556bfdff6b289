//! Tables of the open table format "Delta" on a folder or object storage, as a target.

mod format;
mod rows;

//! Changing the project file, so that it is either as before or as wanted.

use crate::failure::Failure;
pub use moorage_core::project::edit::include_line;
use moorage_core::project::edit::{with_include, with_into};
use moorage_systems::Described;
use std::path::Path;

fn change(file: &Path, how: impl FnOnce(&str) -> Result<String, String>) -> Result<(), Failure> {
    let failed = |what: String| Failure::failed(format!("{}: {what}", file.display()));
    let text = std::fs::read_to_string(file).map_err(|e| failed(e.to_string()))?;
    let changed = how(&text).map_err(failed)?;
    // What would not be read again is never written.
    Described::parse(&file.display().to_string(), &changed).map_err(|e| Failure::usage(e.to_string()))?;
    write(file, &changed)
}

/// Writes a file whole or not at all.
///
/// # Errors
/// If the folder cannot be written.
pub fn write(file: &Path, text: &str) -> Result<(), Failure> {
    let failed = |e: std::io::Error| Failure::failed(format!("{}: {e}", file.display()));
    let beside = file.with_extension("toml.new");
    std::fs::write(&beside, text).map_err(failed)?;
    if let Ok(before) = std::fs::metadata(file) {
        std::fs::set_permissions(&beside, before.permissions()).map_err(failed)?;
    }
    std::fs::rename(&beside, file).map_err(failed)
}

/// Replaces a pipeline's `include`.
///
/// # Errors
/// If the file cannot be changed so.
pub fn set_include(file: &Path, pipeline: &str, names: &[String]) -> Result<(), Failure> {
    change(file, |text| with_include(text, pipeline, names))
}

/// Sets how a pipeline's target tables are named.
///
/// # Errors
/// If the file cannot be changed so.
pub fn set_into(file: &Path, pipeline: &str, into: &str) -> Result<(), Failure> {
    change(file, |text| with_into(text, pipeline, into))
}

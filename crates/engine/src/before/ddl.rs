//! Statements that make target tables, one file a table, which people may change. A file whose text is as it was
//! written is made anew when the plan changes; one that was changed is used as it is.

use crate::pipeline::error::{EngineError, Result};
use moorage_core::plan::table::TablePlan;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Serialize;
use std::path::{Path, PathBuf};

const MARK: &str = "-- As written by Moorage: ";
/// Letters, digits and these are the same in every file system; other characters are written as %XX.
const PLAIN: AsciiSet = NON_ALPHANUMERIC.remove(b'_').remove(b'-');

/// What became of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[must_use]
pub enum Written {
    /// It was made, or made anew.
    Written,
    /// It was changed by hand and is left alone.
    Kept,
}

/// The file of a table.
pub fn file_of(folder: &Path, plan: &TablePlan) -> PathBuf {
    folder.join(format!("{}.sql", utf8_percent_encode(&plan.target, &PLAIN)))
}

/// A text's number (FNV-1a, 64 bits): tells a changed text from an unchanged one.
fn number(text: &str) -> String {
    let hash = text
        .trim()
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325_u64, |h, b| (h ^ u64::from(b)).wrapping_mul(0x0000_0100_0000_01b3));
    format!("{hash:016x}")
}

fn failed(path: &Path, error: &std::io::Error) -> EngineError {
    EngineError::Statements { path: path.into(), reason: error.to_string() }
}

/// The statements of a table's file if they were changed by hand.
///
/// # Errors
/// If the file is there and cannot be read.
pub(crate) fn edited(folder: &Path, plan: &TablePlan) -> Result<Option<String>> {
    // What others stand in is not made from the plan of one.
    if plan.gathered.is_some() {
        return Ok(None);
    }
    let path = file_of(folder, plan);
    let text = match std::fs::read(&path) {
        Ok(bytes) => moorage_core::model::visible::text(bytes)
            .map_err(|reason| EngineError::Statements { path: path.clone(), reason })?,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(failed(&path, &error)),
    };
    let mark = text.lines().find_map(|line| line.strip_prefix(MARK)).unwrap_or_default().trim().to_string();
    let body: Vec<&str> = text.lines().filter(|line| !line.starts_with("--")).collect();
    let body = body.join("\n").trim().to_string();
    Ok((number(&body) != mark).then_some(body))
}

/// Writes a table's file with these statements, unless it was changed by hand.
///
/// # Errors
/// If it cannot be written.
pub fn write(folder: &Path, plan: &TablePlan, statements: &str) -> Result<Written> {
    if edited(folder, plan)?.is_some() {
        return Ok(Written::Kept);
    }
    let path = file_of(folder, plan);
    let body: Vec<&str> = statements.lines().filter(|line| !line.starts_with("--")).collect();
    let text = format!(
        "-- {} becomes {}\n-- Change what stands below, and a run makes the table with it (`ddl_dir` in the project file).\n-- Left as it is, the file follows the plan.\n{MARK}{}\n{statements}\n",
        plan.table(),
        plan.target.replace('\n', " "),
        number(&body.join("\n"))
    );
    std::fs::create_dir_all(folder).map_err(|e| failed(folder, &e))?;
    std::fs::write(&path, text).map_err(|e| failed(&path, &e))?;
    Ok(Written::Written)
}

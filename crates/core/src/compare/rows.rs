//! Rows of one side, as they are compared.

use crate::value::column::{value_at, value_text};
use arrow::array::RecordBatch;

/// A value that is not one of its column's type; the column holds null in its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misfit {
    /// Row in the batch.
    pub row: usize,
    /// Column.
    pub column: usize,
    /// What is there, in words.
    pub shown: String,
}

/// Rows of one side.
#[derive(Clone, Debug)]
pub struct LookedRows {
    /// The rows.
    pub rows: RecordBatch,
    /// What does not fit, in order of rows.
    pub misfits: Vec<Misfit>,
    /// For each row whether it was in the target before the pipeline; empty if none was.
    pub kept: Vec<bool>,
}

impl LookedRows {
    /// Rows that all fit.
    pub fn fitting(rows: RecordBatch) -> Self {
        Self { rows, misfits: Vec::new(), kept: Vec::new() }
    }

    pub(super) fn misfit(&self, row: usize, column: usize) -> Option<&Misfit> {
        self.misfits.iter().find(|m| m.row == row && m.column == column)
    }

    pub(super) fn text(&self, row: usize, column: usize) -> Option<String> {
        match self.misfit(row, column) {
            Some(misfit) => Some(misfit.shown.clone()),
            None => value_text(value_at(self.rows.column(column).as_ref(), row)),
        }
    }
}

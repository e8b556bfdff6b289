//! What a comparison finds.

use serde::Serialize;

/// One of the two sides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// Where rows come from.
    Source,
    /// Where they go.
    Target,
}

/// What is wrong with a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum DifferenceKind {
    /// In the source, not in the target.
    Missing,
    /// In the target, not in the source.
    Extra,
    /// On both sides, with other values.
    Different,
}

/// A column in which two rows differ.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ColumnDifference {
    /// Its name in the source.
    pub column: String,
    /// Its value there; none for null.
    pub source: Option<String>,
    /// Its value in the target.
    pub target: Option<String>,
}

/// A row that differs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// What is wrong.
    pub kind: DifferenceKind,
    /// The key's columns with their values; the whole row where there is no key.
    pub key: Vec<(String, Option<String>)>,
    /// Where the rows differ, if both are there.
    pub columns: Vec<ColumnDifference>,
    /// How many equal rows are too few or too many; 1 where there is a key.
    pub rows: u64,
}

/// Counts of a comparison.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Counts {
    /// Rows in the source.
    pub source_rows: u64,
    /// Rows in the target, without those it had before and kept.
    pub target_rows: u64,
    /// Rows missing in the target.
    pub missing: u64,
    /// Rows that only the target has.
    pub extra: u64,
    /// Rows with other values.
    pub different: u64,
    /// Rows that differ and that a captured change between the two looks is about.
    pub in_flight: u64,
    /// Rows that the target had before the pipeline and keeps.
    pub kept: u64,
}

impl Counts {
    /// Whether nothing is wrong.
    pub fn agree(&self) -> bool {
        self.missing + self.extra + self.different == 0
    }
}

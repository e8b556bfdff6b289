//! What a statement on a target can end in: a row that the target will not take, or anything else.

use crate::wire::error::{bounded, statement_error};
use moorage_adapter::{AdapterError, Doing};

/// Why the target does not take a row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Refusal {
    /// The server's code for it; empty if it is ours.
    pub(crate) code: String,
    /// In the server's words, or ours.
    pub(crate) reason: String,
}

impl Refusal {
    /// A value that has no place in its column.
    pub(crate) fn value(reason: String) -> Self {
        Self { code: String::new(), reason }
    }

    /// Whether a row that another one refers to would be missing.
    pub(crate) fn is_reference(&self) -> bool {
        self.code == "23503"
    }
}

/// An error of a statement on rows.
#[derive(Debug)]
pub(crate) enum Trouble {
    /// The rows are the reason.
    Refused(Refusal),
    /// The rows are not the reason.
    Failed(AdapterError),
}

impl From<Refusal> for Trouble {
    fn from(refusal: Refusal) -> Self {
        Self::Refused(refusal)
    }
}

impl From<AdapterError> for Trouble {
    fn from(error: AdapterError) -> Self {
        Self::Failed(error)
    }
}

impl From<arrow::error::ArrowError> for Trouble {
    fn from(error: arrow::error::ArrowError) -> Self {
        Self::Failed(error.into())
    }
}

impl From<moorage_core::apply::net::ReduceError> for Trouble {
    fn from(error: moorage_core::apply::net::ReduceError) -> Self {
        Self::Failed(error.into())
    }
}

/// Whether a code is about the rows themselves: data exceptions, integrity constraints, views with a check, what
/// a trigger raises, and an index entry that is too large (PostgreSQL manual, appendix A).
fn is_about_rows(code: &str) -> bool {
    code.starts_with("22") || code.starts_with("23") || matches!(code, "44000" | "P0001" | "54000")
}

/// Sorts an error of a statement.
pub(crate) fn sort(address: &str, doing: impl Into<Doing>, error: &tokio_postgres::Error) -> Trouble {
    let Some(db) = error.as_db_error() else { return statement_error(address, doing, error).into() };
    let code = db.code().code();
    if !is_about_rows(code) {
        return statement_error(address, doing, error).into();
    }
    let mut reason = bounded(db.message());
    // For a check or a null the detail is the whole row, which is shown in a better way.
    if let Some(detail) = db.detail().filter(|_| !matches!(code, "23514" | "23502")) {
        reason = format!("{reason}; {}", bounded(detail));
    }
    Refusal { code: code.into(), reason }.into()
}

//! Findings: what a look at one end of a pipeline brought up.

use serde::Serialize;

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Severity {
    /// As it should be.
    Ok,
    /// A run works, but someone should know.
    Note,
    /// A run would fail.
    Problem,
}

/// One row of `check`.
#[derive(Clone, Debug, Serialize)]
pub struct Finding {
    /// How bad it is.
    pub severity: Severity,
    /// What was looked at: `log level`, `rights`, a table.
    pub subject: String,
    /// What was found.
    pub found: String,
    /// Why it matters; empty where all is well.
    pub why: String,
    /// The statement or step that mends it; empty where none is needed.
    pub fix: String,
}

impl Finding {
    /// All is well.
    pub fn ok(subject: impl Into<String>, found: impl Into<String>) -> Self {
        let (why, fix) = (String::new(), String::new());
        Self { severity: Severity::Ok, subject: subject.into(), found: found.into(), why, fix }
    }

    /// Worth knowing.
    pub fn note(
        subject: impl Into<String>,
        found: impl Into<String>,
        why: impl Into<String>,
        fix: impl Into<String>,
    ) -> Self {
        Self {
            severity: Severity::Note,
            subject: subject.into(),
            found: found.into(),
            why: why.into(),
            fix: fix.into(),
        }
    }

    /// A run would fail.
    pub fn problem(
        subject: impl Into<String>,
        found: impl Into<String>,
        why: impl Into<String>,
        fix: impl Into<String>,
    ) -> Self {
        Self { severity: Severity::Problem, ..Self::note(subject, found, why, fix) }
    }
}

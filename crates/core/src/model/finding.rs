//! Findings: what a look at one end of a pipeline brought up.

use serde::{Deserialize, Serialize};
use std::fmt;

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Severity {
    /// As it should be.
    Ok,
    /// A run works, but someone should know.
    Warning,
    /// A run would fail, or leave something out.
    Blocker,
}

impl Severity {
    /// The word for people.
    pub fn word(self) -> &'static str {
        match self {
            Self::Ok => "ok",
            Self::Warning => "warning",
            Self::Blocker => "blocker",
        }
    }
}

/// Which end of a pipeline a finding is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum End {
    /// The project file itself.
    Project,
    /// Where rows come from.
    Source,
    /// Where they go.
    Target,
}

/// What mends a finding.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fix {
    /// Statements to run in that end's database, in order; each without a semicolon at its end.
    pub statements: Vec<String>,
    /// What else is to be done, in words, after them; empty if nothing.
    pub step: String,
}

impl Fix {
    /// Nothing needs mending.
    pub fn none() -> Self {
        Self::default()
    }

    /// Statements alone.
    pub fn run<T: Into<String>>(statements: impl IntoIterator<Item = T>) -> Self {
        Self { statements: statements.into_iter().map(Into::into).collect(), step: String::new() }
    }

    /// A step in words alone.
    pub fn step(step: impl Into<String>) -> Self {
        Self { statements: Vec::new(), step: step.into() }
    }

    /// And then a step in words.
    #[must_use]
    pub fn then(self, step: impl Into<String>) -> Self {
        Self { step: step.into(), ..self }
    }

    /// Whether there is nothing to be done.
    pub fn is_none(&self) -> bool {
        self.statements.is_empty() && self.step.is_empty()
    }
}

/// One row of `check`.
#[derive(Clone, Debug, Serialize)]
pub struct Finding {
    /// Which end it is about.
    pub end: End,
    /// How bad it is.
    pub severity: Severity,
    /// What was looked at, in a word that stays the same: `wal_level`.
    pub check: &'static str,
    /// The table it is about, if it is about one.
    pub table: Option<String>,
    /// What was found.
    pub found: String,
    /// Why it matters; may be empty where all is well.
    pub why: String,
    /// What mends it.
    pub fix: Fix,
}

impl Finding {
    /// All is well.
    pub fn ok(end: End, check: &'static str, found: impl Into<String>) -> Self {
        let (found, why) = (found.into(), String::new());
        Self { end, severity: Severity::Ok, check, table: None, found, why, fix: Fix::none() }
    }

    /// Worth knowing.
    pub fn warning(
        end: End,
        check: &'static str,
        found: impl Into<String>,
        why: impl Into<String>,
        fix: Fix,
    ) -> Self {
        Self { severity: Severity::Warning, why: why.into(), fix, ..Self::ok(end, check, found) }
    }

    /// A run would fail.
    pub fn blocker(
        end: End,
        check: &'static str,
        found: impl Into<String>,
        why: impl Into<String>,
        fix: Fix,
    ) -> Self {
        Self { severity: Severity::Blocker, ..Self::warning(end, check, found, why, fix) }
    }

    /// The same about a table.
    #[must_use]
    pub fn about(self, table: impl ToString) -> Self {
        Self { table: Some(table.to_string()), ..self }
    }

    /// The same with a reason to know it.
    #[must_use]
    pub fn because(self, why: impl Into<String>) -> Self {
        Self { why: why.into(), ..self }
    }
}

/// A count with its word: `1 table`, `8 tables`.
pub fn tables(count: usize) -> String {
    format!("{count} {}", if count == 1 { "table" } else { "tables" })
}

/// Why something cannot be carried, and what mends it in the source.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reason {
    /// Why, with the way out where that is no statement.
    pub why: String,
    /// Statements for the source; often none.
    pub fix: Fix,
}

impl Reason {
    /// With statements that mend it.
    pub fn with<T: Into<String>>(why: impl Into<String>, statements: impl IntoIterator<Item = T>) -> Self {
        Self { why: why.into(), fix: Fix::run(statements) }
    }
}

impl From<String> for Reason {
    fn from(why: String) -> Self {
        Self { why, fix: Fix::none() }
    }
}

impl From<&str> for Reason {
    fn from(why: &str) -> Self {
        why.to_string().into()
    }
}

/// As a sentence.
impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.fix.statements.as_slice() {
            [] => f.write_str(&self.why),
            statements => write!(f, "{}. Run in the source: {}", self.why, statements.join("; ")),
        }
    }
}

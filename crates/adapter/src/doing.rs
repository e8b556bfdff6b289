//! What was being done when something went wrong.

use std::borrow::Cow;
use std::fmt;

/// An operation, and what it was about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Doing {
    /// The operation: `loading`, `taking the turn to write`.
    pub operation: Cow<'static, str>,
    /// What it was about, where that is one thing: `table public_berths`, `slot moorage_quayside`.
    pub object: Option<String>,
}

impl Doing {
    /// An operation on one thing.
    pub fn to(operation: &'static str, object: impl fmt::Display) -> Self {
        Self { operation: operation.into(), object: Some(object.to_string()) }
    }
}

impl fmt::Display for Doing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.object {
            Some(object) => write!(f, "{} {object}", self.operation),
            None => f.write_str(&self.operation),
        }
    }
}

impl From<&'static str> for Doing {
    fn from(operation: &'static str) -> Self {
        Self { operation: operation.into(), object: None }
    }
}

impl From<String> for Doing {
    fn from(operation: String) -> Self {
        Self { operation: operation.into(), object: None }
    }
}

impl From<&Doing> for Doing {
    fn from(doing: &Doing) -> Self {
        doing.clone()
    }
}

//! Names of tables, and how people write them.

use crate::model::sql::quote_ident;
use serde::{Deserialize, Serialize};
use std::fmt;

/// A table's full name in its source.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct TableName {
    /// The schema (name space) it is in.
    pub schema: String,
    /// Its own name.
    pub name: String,
}

impl TableName {
    /// Puts a name together.
    pub fn new(schema: impl Into<String>, name: impl Into<String>) -> Self {
        Self { schema: schema.into(), name: name.into() }
    }

    /// The name as SQL wants it, both parts quoted.
    pub fn quoted(&self) -> String {
        format!("{}.{}", quote_ident(&self.schema), quote_ident(&self.name))
    }
}

/// Longer than any name that a database gives (63 bytes in PostgreSQL).
const BETWEEN: &str = "(between two names, while another table takes the one that it had) ";

impl TableName {
    /// What a table is called for a moment while its name is another one's already, and it has not come to its next one.
    #[must_use]
    pub fn between(&self) -> Self {
        Self::new(self.schema.clone(), format!("{BETWEEN}{}", self.name))
    }

    /// The name from before, if this is such a one.
    pub fn before(&self) -> Option<Self> {
        self.name.strip_prefix(BETWEEN).map(|name| Self::new(self.schema.clone(), name))
    }
}

impl TableName {
    /// Whether someone who writes this means the table: as it is shown, without quotes, or without its schema.
    pub fn goes_by(&self, text: &str) -> bool {
        text == self.to_string()
            || text == self.name
            || text.strip_prefix(self.schema.as_str()).and_then(|t| t.strip_prefix('.'))
                == Some(self.name.as_str())
    }
}

/// As patterns take it: a part in double quotes where it has to be.
impl fmt::Display for TableName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", quoted_part(&self.schema), quoted_part(&self.name))
    }
}

/// A part of a name as patterns take it: in double quotes where it has to be.
pub fn quoted_part(part: &str) -> String {
    let special = |c: char| c.is_whitespace() || c.is_control() || ".\"*?[]{}\\,;".contains(c);
    if part.is_empty() || part.contains(special) {
        format!("\"{}\"", part.replace('"', "\"\""))
    } else {
        part.into()
    }
}

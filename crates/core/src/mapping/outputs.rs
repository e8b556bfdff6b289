//! How a table is mapped, as a plan keeps it.

use crate::model::kept_as::Added;
use crate::model::policy::{OnMisfit, Stamp};
use crate::model::schema::Column;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// Where a target column's values come from. Numbers are places in the columns that are read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Output {
    /// A column as it is.
    Column(usize),
    /// A column, converted to the target column's type.
    Cast {
        /// The column.
        column: usize,
        /// What happens to values that do not fit.
        misfit: OnMisfit,
    },
    /// Something known of the row beside its values.
    Stamp {
        /// What.
        stamp: Stamp,
        /// Its value, where it is the same for all rows.
        value: Option<String>,
    },
    /// The same text for all rows, converted to the target column's type.
    Constant(String),
    /// Computed by an expression.
    Expression(String),
    /// Added by what the table keeps.
    Added(Added),
    /// The value that the target column at this place had before the change.
    Old(usize),
    /// A document with values of the row: those that are not null, in JSON.
    Document(Vec<Part>),
    /// A text of values that tell rows apart: the one that there is, or a list in JSON.
    DocumentKey(Vec<Part>),
}

/// A value in a document.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    /// What it is called there, its type, and what says more of it.
    pub column: Column,
    /// Where it comes from.
    pub output: Output,
}

impl Output {
    /// Whether its values depend on when a change came, not on the row alone.
    pub fn is_of_change(&self) -> bool {
        matches!(self, Self::Stamp { stamp: Stamp::CommittedAt | Stamp::Position, .. })
            || self.is_of_keeping()
    }

    /// Whether it is there for what the table keeps, and not part of the row itself.
    pub fn is_of_keeping(&self) -> bool {
        matches!(self, Self::Added(_) | Self::Old(_))
    }
}

/// How a table's rows are mapped.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mapping {
    /// One for each target column.
    pub outputs: Vec<Output>,
    /// Which rows are carried; all if there is none.
    pub condition: Option<String>,
    /// What expressions call the columns that are read, in their order; empty where that is what they are called.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<String>,
}

impl Mapping {
    /// Every column that is read, as it is.
    pub fn plain(columns: usize) -> Self {
        Self { outputs: (0..columns).map(Output::Column).collect(), ..Self::default() }
    }

    /// The columns that are read, as expressions call them.
    pub fn named<'a>(&self, columns: &'a [Column]) -> Cow<'a, [Column]> {
        if self.names.len() != columns.len() {
            return Cow::Borrowed(columns);
        }
        let named =
            columns.iter().zip(&self.names).map(|(c, name)| Column { name: name.clone(), ..c.clone() });
        Cow::Owned(named.collect())
    }

    /// Whether rows go over as they are read.
    pub fn is_plain(&self) -> bool {
        self.plain_but_for_keeping() == Some(self.outputs.len())
    }

    /// How many columns there are in front of what the table adds for what it keeps, if they are those that are read, as they
    /// are, in all rows.
    pub fn plain_but_for_keeping(&self) -> Option<usize> {
        let width = self.outputs.iter().take_while(|output| !output.is_of_keeping()).count();
        let (own, added) = self.outputs.split_at(width);
        let is_plain = own.iter().enumerate().all(|(i, output)| *output == Output::Column(i));
        let adds = added.iter().all(Output::is_of_keeping);
        (self.condition.is_none() && is_plain && adds).then_some(width)
    }
}

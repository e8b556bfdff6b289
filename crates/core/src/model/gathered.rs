//! Tables of a source whose rows stand together in one target table.

use crate::model::name::TableName;
use serde::{Deserialize, Serialize};

/// The partitioned table that a table is a part of.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PartOf {
    /// The table at the top, where partitions have partitions of their own.
    pub root: TableName,
    /// The source's own number for it; 0 where it does not number tables.
    #[serde(default)]
    pub id: u64,
    /// Whether that has the table's key, so that the source itself sees to it that no two partitions have a row of one key.
    pub is_keyed: bool,
    /// Whether it is carried as a table of its own nevertheless.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub apart: bool,
}

/// What partitions are in the target.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Partitions {
    /// One table, named after the partitioned one.
    #[default]
    Together,
    /// Tables of their own.
    Apart,
}

/// How a table stands together with others. What is said of "its rows" is of the rows that came from it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Gathered {
    /// The target table.
    pub into: String,
    /// Its column that says where a row came from.
    pub column: String,
    /// What that says of its rows.
    pub from: String,
    /// Whether no two of the tables have a row of one key, which the target sees to: then the column is not part of the key.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub disjoint: bool,
    /// The partitioned table that it is a partition of, if it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub root: Option<TableName>,
}

impl Gathered {
    /// What column says where a row came from, if the project file does not.
    pub const COLUMN: &str = "moorage_from";
    /// How that is said, likewise.
    pub const FROM: &str = "{schema}.{table}";

    /// By what the table is known among all tables of a target.
    pub fn unit(&self) -> String {
        format!("{} ({})", self.into, self.from)
    }
}

//! How the tables of a pipeline stand, and what waits for a decision: told by its run when it changes.

use super::base::StateStore;
use crate::error::Result;
use chrono::{DateTime, Utc};
use moorage_core::watch::alerts::seen::{DriftSeen, TableSeen, Undecided};
use rusqlite::{OptionalExtension, params};
use serde::{Deserialize, Serialize};

/// What a target remembers of a pipeline's tables, as far as people are told of it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Standings {
    /// The tables.
    pub tables: Vec<TableSeen>,
    /// Changes of structure that wait for a decision.
    pub undecided: Vec<Undecided>,
    /// Changes of structure that were met last, the oldest first.
    pub drift: Vec<DriftSeen>,
}

impl StateStore {
    /// Tells how the tables stand.
    pub fn tell_standings(&self, pipeline: &str, at: DateTime<Utc>, standings: &Standings) {
        let Ok(content) = serde_json::to_string(standings) else { return };
        let sql = "INSERT OR REPLACE INTO standings (pipeline, at, content) VALUES (?1, ?2, ?3)";
        self.note(self.db().execute(sql, params![pipeline, at.to_rfc3339(), content]));
    }

    /// How the tables stood when that was last told; none if it never was.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn standings(&self, pipeline: &str) -> Result<Option<Standings>> {
        let sql = "SELECT content FROM standings WHERE pipeline = ?1";
        let found: Option<String> =
            self.db().query_row(sql, [pipeline], |r| r.get(0)).optional().map_err(|e| self.failed(&e))?;
        Ok(found.and_then(|content| serde_json::from_str(&content).ok()))
    }
}

//! What the last look at a pipeline saw, for the next one to compare with.

use super::base::StateStore;
use crate::error::Result;
use chrono::Utc;
use moorage_core::change::counters::Operations;
use rusqlite::{OptionalExtension, params};

impl StateStore {
    /// Remembers how much the source keeps for the next look; gives time (RFC 3339) and size of the last look.
    pub fn look_at_kept(&self, pipeline: &str, bytes: u64) -> Result<Option<(String, u64)>> {
        let db = self.db();
        let sql = "SELECT seen_at, bytes FROM kept_in_source WHERE pipeline = ?1";
        let before = db.query_row(sql, [pipeline], |r| Ok((r.get(0)?, r.get(1)?))).optional();
        let sql = "INSERT OR REPLACE INTO kept_in_source (pipeline, seen_at, bytes) VALUES (?1, ?2, ?3)";
        let now = Utc::now().to_rfc3339();
        db.execute(sql, params![pipeline, now, bytes]).and(before).map_err(|e| self.failed(&e))
    }

    /// Remembers a table's counters for the next look; gives those of the last look.
    ///
    /// # Errors
    /// If the store cannot be read or written.
    pub fn look(&self, pipeline: &str, table: &str, now: &Operations) -> Result<Option<Operations>> {
        let db = self.db();
        let sql = "SELECT inserts, updates, deletes, truncates FROM table_states WHERE pipeline = ?1 AND source_table = ?2";
        let before = db
            .query_row(sql, [pipeline, table], |r| {
                Ok(Operations {
                    inserts: r.get(0)?,
                    updates: r.get(1)?,
                    deletes: r.get(2)?,
                    truncates: r.get(3)?,
                })
            })
            .optional()
            .map_err(|e| self.failed(&e))?;
        let sql = "INSERT OR REPLACE INTO table_states (pipeline, source_table, seen_at, inserts, updates, deletes, truncates) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        let seen_at = Utc::now().to_rfc3339();
        db.execute(
            sql,
            params![pipeline, table, seen_at, now.inserts, now.updates, now.deletes, now.truncates],
        )
        .map_err(|e| self.failed(&e))?;
        Ok(before)
    }
}

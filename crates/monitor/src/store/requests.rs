//! What people ask a run to do, and what came of it.

use super::base::StateStore;
use crate::error::Result;
use chrono::Utc;
use moorage_core::model::drift::DriftPolicy;
use rusqlite::{OptionalExtension, params};

impl StateStore {
    /// Asks the process that runs a pipeline to read tables again, together.
    pub fn ask_again(&self, pipeline: &str, tables: &[String]) -> Result<()> {
        let sql = "INSERT OR REPLACE INTO asked_again (pipeline, source_table, asked_at) VALUES (?1, ?2, ?3)";
        let mut db = self.db();
        let mut asked = || {
            let transaction = db.transaction()?;
            for table in tables {
                transaction.execute(sql, params![pipeline, table, Utc::now().to_rfc3339()])?;
            }
            transaction.commit()
        };
        asked().map_err(|e| self.failed(&e))
    }

    /// The tables that are to be read again, in the order asked.
    pub fn asked_again(&self, pipeline: &str) -> Result<Vec<String>> {
        let db = self.db();
        let sql =
            "SELECT source_table FROM asked_again WHERE pipeline = ?1 AND outcome IS NULL ORDER BY asked_at";
        let mut query = db.prepare_cached(sql).map_err(|e| self.failed(&e))?;
        let rows = query.query_map([pipeline], |r| r.get(0)).map_err(|e| self.failed(&e))?;
        rows.collect::<rusqlite::Result<_>>().map_err(|e| self.failed(&e))
    }

    /// Says what came of it: empty if it was done.
    pub fn answer_again(&self, pipeline: &str, table: &str, outcome: &str) {
        let sql = "UPDATE asked_again SET outcome = ?3 WHERE pipeline = ?1 AND source_table = ?2";
        self.note(self.db().execute(sql, params![pipeline, table, outcome]));
    }

    /// What came of it, once it is known.
    pub fn answer_to_again(&self, pipeline: &str, table: &str) -> Result<Option<String>> {
        let sql = "SELECT outcome FROM asked_again WHERE pipeline = ?1 AND source_table = ?2";
        let found = self.db().query_row(sql, [pipeline, table], |r| r.get(0)).optional();
        found.map(Option::flatten).map_err(|e| self.failed(&e))
    }

    /// Takes back what was asked for.
    pub fn unask_again(&self, pipeline: &str, table: &str) {
        let sql = "DELETE FROM asked_again WHERE pipeline = ?1 AND source_table = ?2";
        self.note(self.db().execute(sql, [pipeline, table]));
    }

    /// Asks the process that runs a pipeline, or will, to do something about a change of structure that is held.
    pub fn ask_decision(&self, pipeline: &str, id: u64, decision: DriftPolicy) -> Result<()> {
        let sql = "INSERT OR REPLACE INTO asked_decisions (pipeline, id, decision, asked_at) VALUES (?1, ?2, ?3, ?4)";
        let asked = params![pipeline, id, decision.word(), Utc::now().to_rfc3339()];
        self.db().execute(sql, asked).map(|_| ()).map_err(|e| self.failed(&e))
    }

    /// The decisions that are to be carried out, in the order asked.
    pub fn asked_decisions(&self, pipeline: &str) -> Result<Vec<(u64, DriftPolicy)>> {
        let db = self.db();
        let sql = "SELECT id, decision FROM asked_decisions WHERE pipeline = ?1 AND outcome IS NULL ORDER BY asked_at";
        let mut query = db.prepare_cached(sql).map_err(|e| self.failed(&e))?;
        let read = |r: &rusqlite::Row<'_>| Ok((r.get::<_, u64>(0)?, r.get::<_, String>(1)?));
        let rows = query.query_map([pipeline], read).map_err(|e| self.failed(&e))?;
        let all: Vec<(u64, String)> = rows.collect::<rusqlite::Result<_>>().map_err(|e| self.failed(&e))?;
        Ok(all.into_iter().filter_map(|(id, word)| Some((id, DriftPolicy::of_decision(&word)?))).collect())
    }

    /// Says what came of a decision: empty if it was carried out.
    pub fn answer_decision(&self, pipeline: &str, id: u64, outcome: &str) {
        let sql = "UPDATE asked_decisions SET outcome = ?3 WHERE pipeline = ?1 AND id = ?2";
        self.note(self.db().execute(sql, params![pipeline, id, outcome]));
    }

    /// What came of a decision, once it is known.
    pub fn answer_to_decision(&self, pipeline: &str, id: u64) -> Result<Option<String>> {
        let sql = "SELECT outcome FROM asked_decisions WHERE pipeline = ?1 AND id = ?2";
        let found = self.db().query_row(sql, params![pipeline, id], |r| r.get(0)).optional();
        found.map(Option::flatten).map_err(|e| self.failed(&e))
    }
}

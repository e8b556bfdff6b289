//! The turn to write: a row in the file that every writing transaction finds unchanged, with a lease.
//!
//! A file has no sessions that end with their process, so a holder says with every write, and otherwise from time to
//! time, that it is alive. One that has not said so for [`LEASE`] has lost its turn to whoever wants it, also if it
//! only slept: its next transaction finds another text in the row and writes nothing. A file has one writing
//! transaction at a time, so there is nothing in flight to wait for.

use chrono::{DateTime, Utc};
use moorage_adapter::{AdapterError, Holder, LEASE, Result, TakeFrom, Turn};
use rusqlite::{Connection, OptionalExtension, params};
use std::path::Path;

use crate::file::error::sql_error;

const TABLE: &str = "CREATE TABLE IF NOT EXISTS moorage_writers (
  pipeline   TEXT PRIMARY KEY,
  turn       TEXT NOT NULL,
  holder     TEXT NOT NULL,
  renewed_at TEXT NOT NULL
)";

/// A turn that was taken.
#[derive(Clone, Debug)]
pub(crate) struct Mine {
    pub(crate) pipeline: String,
    /// A random text.
    token: String,
}

fn is_there(db: &Connection) -> rusqlite::Result<bool> {
    let sql = "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = 'moorage_writers'";
    db.query_row(sql, [], |r| r.get::<_, i64>(0).map(|n| n > 0))
}

/// Who the row names, and when they last said that they are alive.
fn row(db: &Connection, pipeline: &str) -> rusqlite::Result<Option<(Holder, DateTime<Utc>)>> {
    if !is_there(db)? {
        return Ok(None);
    }
    let sql = "SELECT holder, renewed_at FROM moorage_writers WHERE pipeline = ?1";
    let found: Option<(String, String)> =
        db.query_row(sql, [pipeline], |r| Ok((r.get(0)?, r.get(1)?))).optional()?;
    // What cannot be read was not written by a holder.
    Ok(found.and_then(|(holder, at)| Some((serde_json::from_str(&holder).ok()?, at.parse().ok()?))))
}

fn is_over(renewed_at: DateTime<Utc>) -> bool {
    (Utc::now() - renewed_at).to_std().is_ok_and(|silent| silent > LEASE)
}

/// Who has the turn now.
pub(crate) fn holder(db: &Connection, pipeline: &str) -> rusqlite::Result<Option<Holder>> {
    Ok(row(db, pipeline)?.filter(|(_, renewed_at)| !is_over(*renewed_at)).map(|(holder, _)| holder))
}

/// Takes the turn, inside the caller's transaction.
pub(crate) fn take(
    db: &Connection,
    path: &Path,
    pipeline: &str,
    holder: &Holder,
    from: TakeFrom<'_>,
) -> Result<(Turn, Option<Mine>)> {
    let failed = |e| sql_error(path, "taking the turn to write", e);
    db.execute_batch(TABLE).map_err(failed)?;
    let gone = |held: &Holder| matches!(from, TakeFrom::Gone(gone) if gone.id == held.id);
    if let Some((held, renewed_at)) = row(db, pipeline).map_err(failed)?
        && held.id != holder.id
        && !gone(&held)
        && !is_over(renewed_at)
    {
        return Ok((Turn::Held(held), None));
    }
    let json = serde_json::to_string(holder)
        .map_err(|e| AdapterError::Io { doing: "taking the turn to write".into(), reason: e.to_string() })?;
    let random = "SELECT lower(hex(randomblob(16)))";
    let token: String = db.query_row(random, [], |r| r.get(0)).map_err(failed)?;
    let sql =
        "INSERT OR REPLACE INTO moorage_writers (pipeline, turn, holder, renewed_at) VALUES (?1, ?2, ?3, ?4)";
    db.execute(sql, params![pipeline, token, json, Utc::now().to_rfc3339()]).map_err(failed)?;
    Ok((Turn::Taken, Some(Mine { pipeline: pipeline.into(), token })))
}

/// To be the first statement of every writing transaction: whether the turn is still ours. Says that its holder is
/// alive.
pub(crate) fn fence(db: &Connection, path: &Path, mine: &Mine) -> Result<()> {
    let failed = |e| sql_error(path, "looking whose turn it is", e);
    let changed = if is_there(db).map_err(failed)? {
        let sql = "UPDATE moorage_writers SET renewed_at = ?3 WHERE pipeline = ?1 AND turn = ?2";
        let mut update = db.prepare_cached(sql).map_err(failed)?;
        update.execute(params![mine.pipeline, mine.token, Utc::now().to_rfc3339()]).map_err(failed)?
    } else {
        0
    };
    if changed == 1 {
        return Ok(());
    }
    let held = row(db, &mine.pipeline).map_err(failed)?.map(|(holder, _)| holder);
    Err(AdapterError::turn_lost(&mine.pipeline, held.as_ref()))
}

/// Gives the turn back, if it is still ours.
pub(crate) fn end(db: &Connection, mine: &Mine) -> rusqlite::Result<()> {
    if is_there(db)? {
        let sql = "DELETE FROM moorage_writers WHERE pipeline = ?1 AND turn = ?2";
        db.execute(sql, params![mine.pipeline, mine.token])?;
    }
    Ok(())
}

/// Forgets whose turn it is; without any pipeline, the table too.
pub(crate) fn forget(db: &Connection, pipeline: &str, last: bool) -> rusqlite::Result<()> {
    if is_there(db)? {
        db.execute("DELETE FROM moorage_writers WHERE pipeline = ?1", [pipeline])?;
        let left: i64 = db.query_row("SELECT count(*) FROM moorage_writers", [], |r| r.get(0))?;
        if last && left == 0 {
            db.execute_batch("DROP TABLE moorage_writers")?;
        }
    }
    Ok(())
}

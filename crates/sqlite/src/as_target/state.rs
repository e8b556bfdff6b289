//! What Moorage remembers in the target file.

use chrono::Utc;
use moorage_adapter::{Memo, MemoKind, StoredTable, TableState};
use moorage_core::change::counters::{Adjusted, TableCounters};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Then;
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;
use rusqlite::{Connection, OptionalExtension, params};

const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS moorage_checkpoints (
  pipeline     TEXT PRIMARY KEY,
  position     TEXT NOT NULL,
  committed_at TEXT,
  merged_at    TEXT,
  checkpoint   TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS moorage_tables (
  target         TEXT PRIMARY KEY,
  pipeline       TEXT NOT NULL,
  source_table   TEXT NOT NULL,
  state          TEXT NOT NULL,
  adopted        INTEGER NOT NULL,
  keeps_rows     INTEGER NOT NULL,
  mark           TEXT,
  mark_position  TEXT,
  snapshot_rows  INTEGER NOT NULL DEFAULT 0,
  inserts        INTEGER NOT NULL DEFAULT 0,
  updates        INTEGER NOT NULL DEFAULT 0,
  deletes        INTEGER NOT NULL DEFAULT 0,
  truncates      INTEGER NOT NULL DEFAULT 0,
  merged         INTEGER NOT NULL DEFAULT 0,
  reduced        INTEGER NOT NULL DEFAULT 0,
  filtered       INTEGER NOT NULL DEFAULT 0,
  last_change_at TEXT,
  captured_by    TEXT,
  updates_of_missing INTEGER NOT NULL DEFAULT 0,
  inserts_of_present INTEGER NOT NULL DEFAULT 0,
  deletes_of_missing INTEGER NOT NULL DEFAULT 0,
  plan           TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS moorage_memos (
  pipeline TEXT NOT NULL,
  kind     TEXT NOT NULL,
  name     TEXT NOT NULL,
  content  BLOB NOT NULL,
  PRIMARY KEY (pipeline, kind, name)
) WITHOUT ROWID;";

type Sql<T> = rusqlite::Result<T>;

pub(crate) fn create(db: &Connection) -> Sql<()> {
    db.execute_batch(SCHEMA)?;
    let count = "INTEGER NOT NULL DEFAULT 0";
    for (column, declared) in [
        ("filtered", count),
        ("captured_by", "TEXT"),
        ("updates_of_missing", count),
        ("inserts_of_present", count),
        ("deletes_of_missing", count),
    ] {
        if !has_column(db, column)? {
            db.execute_batch(&format!("ALTER TABLE moorage_tables ADD COLUMN {column} {declared}"))?;
        }
    }
    Ok(())
}

/// Files that earlier versions made lack some columns.
fn has_column(db: &Connection, column: &str) -> Sql<bool> {
    let sql = "SELECT count(*) FROM pragma_table_info('moorage_tables') WHERE name = ?1";
    db.query_row(sql, [column], |r| r.get::<_, i64>(0).map(|n| n > 0))
}

pub(crate) fn exists(db: &Connection) -> Sql<bool> {
    db.query_row(
        "SELECT count(*) = 2 FROM sqlite_schema WHERE name IN ('moorage_checkpoints', 'moorage_tables')",
        [],
        |r| r.get(0),
    )
}

fn has_table(db: &Connection, table: &str) -> Sql<bool> {
    let sql = "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = ?1";
    db.query_row(sql, [table], |r| r.get::<_, i64>(0).map(|n| n > 0))
}

/// What is remembered of a kind, in the order of its names; nothing in a file that only earlier versions wrote.
pub(crate) fn memos(db: &Connection, pipeline: &str, kind: MemoKind) -> Sql<Vec<(String, Vec<u8>)>> {
    if !has_table(db, "moorage_memos")? {
        return Ok(Vec::new());
    }
    db.prepare("SELECT name, content FROM moorage_memos WHERE pipeline = ?1 AND kind = ?2 ORDER BY name")?
        .query_map([pipeline, kind.word()], |r| Ok((r.get(0)?, r.get(1)?)))?
        .collect()
}

/// One of them.
pub(crate) fn memo(db: &Connection, pipeline: &str, kind: MemoKind, name: &str) -> Sql<Option<Vec<u8>>> {
    if !has_table(db, "moorage_memos")? {
        return Ok(None);
    }
    let sql = "SELECT content FROM moorage_memos WHERE pipeline = ?1 AND kind = ?2 AND name = ?3";
    db.query_row(sql, params![pipeline, kind.word(), name], |r| r.get(0)).optional()
}

/// How many bytes are read at once, but for the last of them.
const RECALLED_BYTES: usize = 4 << 20;

/// Some of those whose names begin with a text, behind a name: a few, and no more than a few MiB of them.
pub(crate) fn recall(
    db: &Connection,
    pipeline: &str,
    kind: MemoKind,
    begin: &str,
    after: &str,
) -> Sql<Vec<(String, Vec<u8>)>> {
    let mut query = db.prepare_cached(
        // The bounds are for the index: held changes may be many, and each batch looks for some.
        "SELECT name, content FROM moorage_memos
         WHERE pipeline = ?1 AND kind = ?2 AND name > ?3 AND name >= ?4 AND name < ?4 || char(1114111)
           AND substr(name, 1, length(?4)) = ?4 ORDER BY name LIMIT 64",
    )?;
    let mut rows = query.query(params![pipeline, kind.word(), after, begin])?;
    let (mut found, mut bytes) = (Vec::new(), 0);
    while bytes < RECALLED_BYTES
        && let Some(row) = rows.next()?
    {
        let content: Vec<u8> = row.get(1)?;
        bytes += content.len();
        found.push((row.get(0)?, content));
    }
    Ok(found)
}

/// Takes away all whose names begin with a text.
pub(crate) fn forget_memos(db: &Connection, pipeline: &str, kind: MemoKind, begin: &str) -> Sql<()> {
    let sql = "DELETE FROM moorage_memos WHERE pipeline = ?1 AND kind = ?2
               AND name >= ?3 AND name < ?3 || char(1114111) AND substr(name, 1, length(?3)) = ?3";
    db.execute(sql, params![pipeline, kind.word(), begin]).map(|_| ())
}

pub(crate) fn remember(db: &Connection, pipeline: &str, memo: &Memo) -> Sql<()> {
    let (kind, name) = (memo.kind.word(), &memo.name);
    match &memo.content {
        Some(content) => db
            .prepare_cached(
                "INSERT OR REPLACE INTO moorage_memos (pipeline, kind, name, content) VALUES (?1, ?2, ?3, ?4)",
            )?
            .execute(params![pipeline, kind, name, content])?,
        None => db
            .prepare_cached("DELETE FROM moorage_memos WHERE pipeline = ?1 AND kind = ?2 AND name = ?3")?
            .execute(params![pipeline, kind, name])?,
    };
    Ok(())
}

fn from_json<T: serde::de::DeserializeOwned>(column: usize, text: &str) -> Sql<T> {
    serde_json::from_str(text).map_err(|e| {
        rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, Box::new(e))
    })
}

fn to_json(value: &impl serde::Serialize) -> Sql<String> {
    serde_json::to_string(value).map_err(|e| rusqlite::Error::ToSqlConversionFailure(Box::new(e)))
}

pub(crate) fn checkpoint(db: &Connection, pipeline: &str) -> Sql<Option<Checkpoint>> {
    if !exists(db)? {
        return Ok(None);
    }
    let text: Option<String> = db
        .query_row("SELECT checkpoint FROM moorage_checkpoints WHERE pipeline = ?1", [pipeline], |r| r.get(0))
        .optional()?;
    text.map(|t| from_json(0, &t)).transpose()
}

pub(crate) fn save_checkpoint(db: &Connection, checkpoint: &Checkpoint) -> Sql<()> {
    db.prepare_cached(
        "INSERT INTO moorage_checkpoints (pipeline, position, committed_at, merged_at, checkpoint) VALUES (?1, ?2, ?3, ?4, ?5)
         ON CONFLICT (pipeline) DO UPDATE SET position = excluded.position, committed_at = excluded.committed_at,
           merged_at = excluded.merged_at, checkpoint = excluded.checkpoint",
    )?
    .execute(params![
        checkpoint.pipeline,
        checkpoint.position,
        checkpoint.committed_at.map(|t| t.to_rfc3339()),
        checkpoint.merged_at.map(|t| t.to_rfc3339()),
        to_json(checkpoint)?,
    ])?;
    Ok(())
}

pub(crate) fn tables(db: &Connection, pipeline: &str) -> Sql<Vec<StoredTable>> {
    if !exists(db)? {
        return Ok(Vec::new());
    }
    let or = |column: &str, none: &str| {
        has_column(db, column).map(|is| if is { column } else { none }.to_string())
    };
    let later = [
        or("filtered", "0")?,
        or("captured_by", "NULL")?,
        or("updates_of_missing", "0")?,
        or("inserts_of_present", "0")?,
        or("deletes_of_missing", "0")?,
    ]
    .join(", ");
    let mut query = db.prepare(&format!(
        "SELECT plan, state, mark, mark_position, snapshot_rows, inserts, updates, deletes, truncates, merged, reduced, last_change_at, {later}
         FROM moorage_tables WHERE pipeline = ?1 ORDER BY source_table",
    ))?;
    let rows = query.query_map([pipeline], |r| {
        let mut counters = TableCounters {
            merged: r.get(9)?,
            reduced: r.get(10)?,
            filtered: r.get(12)?,
            adjusted: Adjusted {
                updates_of_missing: r.get(14)?,
                inserts_of_present: r.get(15)?,
                deletes_of_missing: r.get(16)?,
            },
            ..TableCounters::default()
        };
        counters.read.inserts = r.get(5)?;
        counters.read.updates = r.get(6)?;
        counters.read.deletes = r.get(7)?;
        counters.read.truncates = r.get(8)?;
        let (mark, position): (Option<String>, Option<String>) = (r.get(2)?, r.get(3)?);
        Ok(StoredTable {
            plan: from_json(0, &r.get::<_, String>(0)?)?,
            state: TableState::from_word(&r.get::<_, String>(1)?),
            mark: mark.zip(position),
            snapshot_rows: r.get(4)?,
            counters,
            last_change_at: r.get(11)?,
            captured_by: r.get(13)?,
        })
    })?;
    rows.collect()
}

/// The pipeline that a target table belongs to, and whether it was there before it.
pub(crate) fn owner(db: &Connection, target: &str) -> Sql<Option<(String, bool)>> {
    if !exists(db)? {
        return Ok(None);
    }
    db.query_row(
        "SELECT pipeline, adopted FROM moorage_tables WHERE target = ?1 COLLATE NOCASE",
        [target],
        |r| Ok((r.get(0)?, r.get(1)?)),
    )
    .optional()
}

/// The tables that stand together in a target table: as they are carried, by which pipelines, and how far they are.
pub(crate) fn standing_in(db: &Connection, table: &str) -> Sql<Vec<(TablePlan, String, TableState)>> {
    if !exists(db)? {
        return Ok(Vec::new());
    }
    let sql = "SELECT plan, pipeline, state FROM moorage_tables
               WHERE json_extract(plan, '$.gathered.into') = ?1 COLLATE NOCASE ORDER BY target";
    let mut query = db.prepare_cached(sql)?;
    let rows = query.query_map([table], |r| {
        let (plan, state): (String, String) = (r.get(0)?, r.get(2)?);
        Ok((from_json(0, &plan)?, r.get(1)?, TableState::from_word(&state)))
    })?;
    rows.collect()
}

/// Those that stand beside one in its target table.
pub(crate) fn beside_in_table(db: &Connection, plan: &TablePlan) -> Sql<Vec<(TablePlan, TableState)>> {
    let Some(gathered) = &plan.gathered else { return Ok(Vec::new()) };
    let all = standing_in(db, &gathered.into)?.into_iter();
    Ok(all
        .filter(|(other, ..)| other.target != plan.target)
        .map(|(other, _, state)| (other, state))
        .collect())
}

pub(crate) fn remember_loading(
    db: &Connection,
    pipeline: &str,
    plan: &TablePlan,
    adopted: bool,
    keeps_rows: bool,
) -> Sql<()> {
    db.execute("DELETE FROM moorage_tables WHERE target = ?1 COLLATE NOCASE", [&plan.target])?;
    db.execute(
        "INSERT INTO moorage_tables (target, pipeline, source_table, state, adopted, keeps_rows, plan) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        params![
            plan.target,
            pipeline,
            plan.table().to_string(),
            TableState::Waiting.word(),
            adopted,
            keeps_rows,
            to_json(plan)?
        ],
    )?;
    Ok(())
}

pub(crate) fn add_snapshot_rows(db: &Connection, target: &str, rows: usize) -> Sql<()> {
    db.prepare_cached(
        "UPDATE moorage_tables SET snapshot_rows = snapshot_rows + ?2,
           state = CASE state WHEN 'waiting' THEN 'reading' ELSE state END WHERE target = ?1",
    )?
    .execute(params![target, rows as i64])?;
    Ok(())
}

pub(crate) fn remember_loaded(
    db: &Connection,
    target: &str,
    state: TableState,
    mark: Option<(&str, &str)>,
    captured_by: Option<&str>,
) -> Sql<()> {
    db.execute(
        "UPDATE moorage_tables SET state = ?2, mark = ?3, mark_position = ?4, captured_by = ?5 WHERE target = ?1",
        params![target, state.word(), mark.map(|m| m.0), mark.map(|m| m.1), captured_by],
    )?;
    Ok(())
}

/// Keeps another plan of a table, and how it goes on. One that was held and is merged again is live.
pub(crate) fn keep_plan(db: &Connection, pipeline: &str, plan: &TablePlan, then: Then) -> Sql<()> {
    let sql = "UPDATE moorage_tables
               SET plan = ?3, source_table = ?4, state = coalesce(?5, CASE state WHEN 'held' THEN 'live' ELSE state END)
               WHERE pipeline = ?1 AND target = ?2";
    let state = TableState::behind(then).map(TableState::word);
    db.execute(sql, params![pipeline, plan.target, to_json(plan)?, plan.table().to_string(), state])?;
    Ok(())
}

pub(crate) fn remember_captured_by(db: &Connection, pipeline: &str, tables: &[(String, String)]) -> Sql<()> {
    let sql = "UPDATE moorage_tables SET captured_by = ?3 WHERE pipeline = ?1 AND target = ?2";
    for (target, by) in tables {
        db.execute(sql, params![pipeline, target, by])?;
    }
    Ok(())
}

/// Begins a table's counters anew.
pub(crate) fn count_anew(db: &Connection, target: &str, snapshot_rows: u64) -> Sql<()> {
    db.execute(
        "UPDATE moorage_tables SET snapshot_rows = ?2, inserts = 0, updates = 0, deletes = 0, truncates = 0, merged = 0, reduced = 0, filtered = 0,
           updates_of_missing = 0, inserts_of_present = 0, deletes_of_missing = 0
         WHERE target = ?1",
        params![target, snapshot_rows],
    )?;
    Ok(())
}

/// Whether a table is complete and follows changes.
pub(crate) fn is_live(db: &Connection, target: &str) -> Sql<bool> {
    let mut query = db.prepare_cached("SELECT state FROM moorage_tables WHERE target = ?1")?;
    let state: Option<String> = query.query_row([target], |r| r.get(0)).optional()?;
    Ok(state.is_some_and(|word| TableState::from_word(&word) == TableState::Live))
}

pub(crate) fn keeps_rows(db: &Connection, target: &str) -> Sql<bool> {
    let found = db
        .query_row("SELECT keeps_rows FROM moorage_tables WHERE target = ?1", [target], |r| r.get(0))
        .optional()?;
    Ok(found.unwrap_or(false))
}

/// The table that lists the rows that were in a target table before the pipeline and are kept.
fn kept_table(target: &str) -> String {
    format!("moorage_kept_{target}")
}

/// Whether there is such a list.
pub(crate) fn has_kept(db: &Connection, target: &str) -> Sql<bool> {
    let sql = "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = ?1";
    db.query_row(sql, [kept_table(target)], |r| r.get::<_, i64>(0).map(|n| n > 0))
}

/// The columns that tell rows apart: the key's, or all.
fn identifying(plan: &TablePlan) -> Vec<String> {
    let names = |at: usize| quote_ident(&plan.columns[at].name);
    match plan.mapped.identity.key() {
        Some(key) => key.iter().map(|&k| names(k)).collect(),
        None => (0..plan.columns.len()).map(names).collect(),
    }
}

/// Lists the rows that are there now.
pub(crate) fn remember_kept(db: &Connection, plan: &TablePlan) -> Sql<()> {
    let (list, columns) = (quote_ident(&kept_table(&plan.target)), identifying(plan).join(", "));
    db.execute_batch(&format!(
        "DROP TABLE IF EXISTS {list}; CREATE TABLE {list} AS SELECT {columns} FROM {table};
         CREATE INDEX {index} ON {list} ({columns})",
        table = quote_ident(&plan.target),
        index = quote_ident(&format!("moorage_kept_by_{}", plan.target)),
    ))
}

/// Whether a row of the target table is one that was there before, as an expression. Without a key, so many
/// of several equal rows are.
pub(crate) fn is_kept(plan: &TablePlan) -> String {
    let table = quote_ident(&plan.target);
    let columns = identifying(plan);
    let same: Vec<String> = columns.iter().map(|c| format!("kept.{c} IS {table}.{c}")).collect();
    let from = format!("FROM {} kept WHERE {}", quote_ident(&kept_table(&plan.target)), same.join(" AND "));
    match plan.mapped.identity.key() {
        Some(_) => format!("EXISTS (SELECT 1 {from})"),
        None => {
            format!("row_number() OVER (PARTITION BY {}) <= (SELECT count(*) {from})", columns.join(", "))
        }
    }
}

/// How many rows of the target table were there before.
pub(crate) fn count_kept(db: &Connection, plan: &TablePlan) -> Sql<u64> {
    let sql = format!(
        "SELECT count(*) FROM (SELECT {} AS was_there FROM {}) WHERE was_there",
        is_kept(plan),
        quote_ident(&plan.target)
    );
    db.query_row(&sql, [], |r| r.get(0))
}

/// Forgets the list.
pub(crate) fn forget_kept(db: &Connection, target: &str) -> Sql<()> {
    db.execute_batch(&format!("DROP TABLE IF EXISTS {}", quote_ident(&kept_table(target))))
}

pub(crate) fn count_changes(db: &Connection, target: &str, counters: &TableCounters) -> Sql<()> {
    db.prepare_cached(
        "UPDATE moorage_tables SET inserts = inserts + ?2, updates = updates + ?3, deletes = deletes + ?4,
           truncates = truncates + ?5, merged = merged + ?6, reduced = reduced + ?7, last_change_at = ?8,
           filtered = filtered + ?9, updates_of_missing = updates_of_missing + ?10,
           inserts_of_present = inserts_of_present + ?11, deletes_of_missing = deletes_of_missing + ?12
         WHERE target = ?1",
    )?
    .execute(params![
        target,
        counters.read.inserts,
        counters.read.updates,
        counters.read.deletes,
        counters.read.truncates,
        counters.merged,
        counters.reduced,
        Utc::now().to_rfc3339(),
        counters.filtered,
        counters.adjusted.updates_of_missing,
        counters.adjusted.inserts_of_present,
        counters.adjusted.deletes_of_missing,
    ])?;
    Ok(())
}

/// Notes a state in which a table's mark means nothing any more.
pub(crate) fn set_state(db: &Connection, pipeline: &str, targets: &[String], state: TableState) -> Sql<()> {
    let sql = "UPDATE moorage_tables SET state = ?3, mark = NULL, mark_position = NULL WHERE target = ?1 AND pipeline = ?2";
    for target in targets {
        db.execute(sql, params![target, pipeline, state.word()])?;
    }
    Ok(())
}

pub(crate) fn forget(db: &Connection, pipeline: &str, targets: &[String], with_checkpoint: bool) -> Sql<()> {
    if !exists(db)? {
        return Ok(());
    }
    set_state(db, pipeline, targets, TableState::NeedsResnapshot)?;
    if with_checkpoint {
        db.execute("DELETE FROM moorage_checkpoints WHERE pipeline = ?1", [pipeline])?;
    }
    Ok(())
}

pub(crate) fn remove_pipeline(db: &Connection, pipeline: &str) -> Sql<()> {
    for table in ["moorage_tables", "moorage_checkpoints", "moorage_memos"] {
        if has_table(db, table)? {
            db.execute(&format!("DELETE FROM {table} WHERE pipeline = ?1"), [pipeline])?;
        }
    }
    // A pipeline that is being set up has a checkpoint and no tables yet.
    let left = "SELECT (SELECT count(*) FROM moorage_tables) + (SELECT count(*) FROM moorage_checkpoints)";
    let left: i64 = db.query_row(left, [], |r| r.get(0))?;
    if left == 0 {
        db.execute_batch(
            "DROP TABLE moorage_tables; DROP TABLE moorage_checkpoints; DROP TABLE IF EXISTS moorage_memos",
        )?;
    }
    crate::as_target::turn::forget(db, pipeline, left == 0)
}

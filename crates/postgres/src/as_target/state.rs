//! What Moorage remembers in the target database, in a schema of its own.

use crate::wire::connect::Session;
use moorage_adapter::{AdapterError, LoadedTable, Memo, MemoKind, Result, StoredTable, TableState};
use moorage_core::change::counters::{Adjusted, Operations, TableCounters};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Then;
use moorage_core::plan::table::TablePlan;
use std::collections::HashMap;
use tokio_postgres::Row;

/// The schema. Sources never pick tables of schemas that begin with `moorage_`.
pub(crate) const SCHEMA: &str = "moorage_state";

const TABLES: &str = "
CREATE TABLE IF NOT EXISTS moorage_state.checkpoints (
  pipeline     text PRIMARY KEY,
  position     text NOT NULL,
  committed_at timestamp with time zone,
  merged_at    timestamp with time zone,
  rejects      bigint NOT NULL DEFAULT 0,
  checkpoint   text NOT NULL
);
CREATE TABLE IF NOT EXISTS moorage_state.tables (
  target              text PRIMARY KEY,
  pipeline            text NOT NULL,
  source_table        text NOT NULL,
  state               text NOT NULL,
  adopted             boolean NOT NULL,
  keeps_rows          boolean NOT NULL,
  mark                text,
  mark_position       text,
  snapshot_rows       bigint NOT NULL DEFAULT 0,
  inserts             bigint NOT NULL DEFAULT 0,
  updates             bigint NOT NULL DEFAULT 0,
  deletes             bigint NOT NULL DEFAULT 0,
  truncates           bigint NOT NULL DEFAULT 0,
  merged              bigint NOT NULL DEFAULT 0,
  reduced             bigint NOT NULL DEFAULT 0,
  filtered            bigint NOT NULL DEFAULT 0,
  rejected            bigint NOT NULL DEFAULT 0,
  dropped             bigint NOT NULL DEFAULT 0,
  updates_of_missing  bigint NOT NULL DEFAULT 0,
  inserts_of_present  bigint NOT NULL DEFAULT 0,
  deletes_of_missing  bigint NOT NULL DEFAULT 0,
  last_change_at      timestamp with time zone,
  captured_by         text,
  plan                text NOT NULL
);
ALTER TABLE moorage_state.tables ADD COLUMN IF NOT EXISTS captured_by text;
CREATE TABLE IF NOT EXISTS moorage_state.chunks (
  target    text NOT NULL,
  rows      bigint NOT NULL,
  loaded_at timestamp with time zone NOT NULL DEFAULT now()
);
CREATE TABLE IF NOT EXISTS moorage_state.rejects (
  id           bigserial PRIMARY KEY,
  pipeline     text NOT NULL,
  target       text NOT NULL,
  source_table text NOT NULL,
  key          text NOT NULL,
  operation    text NOT NULL,
  reason       text NOT NULL,
  code         text NOT NULL,
  committed_at timestamp with time zone NOT NULL,
  position     text NOT NULL,
  set_aside_at timestamp with time zone NOT NULL DEFAULT now(),
  tries        bigint NOT NULL DEFAULT 1,
  keys         bytea[] NOT NULL,
  change       bytea NOT NULL
);
CREATE TABLE IF NOT EXISTS moorage_state.writers (
  pipeline text PRIMARY KEY,
  turn     text NOT NULL,
  holder   text NOT NULL,
  taken_at timestamp with time zone NOT NULL DEFAULT now()
);
CREATE TABLE IF NOT EXISTS moorage_state.memos (
  pipeline text NOT NULL,
  kind     text NOT NULL,
  name     text NOT NULL COLLATE \"C\",
  content  bytea NOT NULL,
  PRIMARY KEY (pipeline, kind, name)
);
CREATE INDEX IF NOT EXISTS rejects_by_target ON moorage_state.rejects (pipeline, target, id);";

/// Whether it is there, and may be read.
pub(crate) async fn exists(session: &Session) -> Result<bool> {
    let sql = "SELECT to_regclass('moorage_state.rejects') IS NOT NULL";
    Ok(session.one("looking for what Moorage remembers", sql, &[]).await?.get(0))
}

/// Whether turns can be taken: not in a target that only earlier versions wrote.
pub(crate) async fn has_writers(session: &Session) -> Result<bool> {
    let sql = "SELECT to_regclass('moorage_state.writers') IS NOT NULL";
    Ok(session.one("looking for what Moorage remembers", sql, &[]).await?.get(0))
}

/// Whether things can be remembered beside the rows: not in a target that only earlier versions wrote.
async fn has_memos(session: &Session) -> Result<bool> {
    let sql = "SELECT to_regclass('moorage_state.memos') IS NOT NULL";
    Ok(session.one("looking for what Moorage remembers", sql, &[]).await?.get(0))
}

/// What is remembered of a kind, in the order of its names.
pub(crate) async fn memos(
    session: &Session,
    pipeline: &str,
    kind: MemoKind,
) -> Result<Vec<(String, Vec<u8>)>> {
    if !has_memos(session).await? {
        return Ok(Vec::new());
    }
    let sql = "SELECT name, content FROM moorage_state.memos WHERE pipeline = $1 AND kind = $2 ORDER BY name";
    let rows = session.rows("reading what is remembered", sql, &[&pipeline, &kind.word()]).await?;
    Ok(rows.iter().map(|r| (r.get(0), r.get(1))).collect())
}

/// One of them.
pub(crate) async fn memo(
    session: &Session,
    pipeline: &str,
    kind: MemoKind,
    name: &str,
) -> Result<Option<Vec<u8>>> {
    if !has_memos(session).await? {
        return Ok(None);
    }
    let sql = "SELECT content FROM moorage_state.memos WHERE pipeline = $1 AND kind = $2 AND name = $3";
    let row = session.maybe("reading what is remembered", sql, &[&pipeline, &kind.word(), &name]).await?;
    Ok(row.map(|r| r.get(0)))
}

/// Some of those whose names begin with a text, behind a name: a few, and no more than a few MiB of them.
pub(crate) async fn recall(
    session: &Session,
    pipeline: &str,
    kind: MemoKind,
    begin: &str,
    after: &str,
) -> Result<Vec<(String, Vec<u8>)>> {
    // The bounds are for the index: held changes may be many, and each batch looks for some.
    let sql = "SELECT name, content FROM (
                 SELECT name, content, sum(octet_length(content)) OVER (ORDER BY name) - octet_length(content) AS before FROM (
                   SELECT name, content FROM moorage_state.memos
                   WHERE pipeline = $1 AND kind = $2 AND name > $3 AND name >= $4 AND name < $5 AND starts_with(name, $4)
                   ORDER BY name LIMIT 64) next) sized
               WHERE before < 4194304 ORDER BY name";
    let (kind, end) = (kind.word(), format!("{begin}\u{10ffff}"));
    let parameters: [&(dyn tokio_postgres::types::ToSql + Sync); 5] =
        [&pipeline, &kind, &after, &begin, &end];
    let rows = session.cached("reading what is remembered", sql, &parameters).await?;
    Ok(rows.iter().map(|r| (r.get(0), r.get(1))).collect())
}

/// Takes away all whose names begin with a text.
pub(crate) async fn forget_memos(
    session: &Session,
    pipeline: &str,
    kind: MemoKind,
    begin: &str,
) -> Result<()> {
    let sql = "DELETE FROM moorage_state.memos
               WHERE pipeline = $1 AND kind = $2 AND name >= $3 AND name < $4 AND starts_with(name, $3)";
    let end = format!("{begin}\u{10ffff}");
    session
        .cached("forgetting what is remembered", sql, &[&pipeline, &kind.word(), &begin, &end])
        .await
        .map(|_| ())
}

/// Keeps memos, or takes them away; of several of a name the last one counts.
pub(crate) async fn remember(session: &Session, pipeline: &str, memos: &[Memo]) -> Result<()> {
    let doing = "remembering things beside the rows";
    let last: HashMap<(&str, &str), Option<&[u8]>> =
        memos.iter().map(|memo| ((memo.kind.word(), memo.name.as_str()), memo.content.as_deref())).collect();
    let (mut kept, mut gone) = ((Vec::new(), Vec::new(), Vec::new()), (Vec::new(), Vec::new()));
    for ((kind, name), content) in last {
        match content {
            Some(content) => {
                kept.0.push(kind);
                kept.1.push(name);
                kept.2.push(content);
            }
            None => {
                gone.0.push(kind);
                gone.1.push(name);
            }
        }
    }
    if !kept.0.is_empty() {
        let sql = "INSERT INTO moorage_state.memos (pipeline, kind, name, content)
                   SELECT $1, kind, name, content FROM unnest($2::text[], $3::text[], $4::bytea[]) _ (kind, name, content)
                   ON CONFLICT (pipeline, kind, name) DO UPDATE SET content = excluded.content";
        session.cached(doing, sql, &[&pipeline, &kept.0, &kept.1, &kept.2]).await?;
    }
    if !gone.0.is_empty() {
        let sql = "DELETE FROM moorage_state.memos m USING unnest($2::text[], $3::text[]) gone (kind, name)
                   WHERE m.pipeline = $1 AND m.kind = gone.kind AND m.name = gone.name";
        session.cached(doing, sql, &[&pipeline, &gone.0, &gone.1]).await?;
    }
    Ok(())
}

/// Makes what is missing.
pub(crate) async fn create(session: &Session) -> Result<()> {
    if exists(session).await? && has_writers(session).await? && has_memos(session).await? {
        return Ok(());
    }
    let sql = "SELECT to_regnamespace('moorage_state') IS NULL";
    let schema: bool = session.one("looking for what Moorage remembers", sql, &[]).await?.get(0);
    let schema = if schema { format!("CREATE SCHEMA {SCHEMA};") } else { String::new() };
    // Two pipelines may begin at the same time.
    let lock = "SELECT pg_advisory_xact_lock(hashtextextended('moorage_state', 0));";
    let sql = format!("BEGIN; {lock} {schema}{TABLES} COMMIT");
    let made = session.run("making the schema moorage_state", &sql).await;
    if made.is_err() {
        session.run("undoing that", "ROLLBACK").await?;
        if exists(session).await? && has_writers(session).await? && has_memos(session).await? {
            return Ok(());
        }
    }
    made
}

pub(crate) fn from_json<T: serde::de::DeserializeOwned>(what: &str, text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|e| AdapterError::Protocol {
        address: "the target's schema moorage_state".into(),
        what: format!("{what} cannot be read: {e}"),
    })
}

pub(crate) fn to_json(value: &impl serde::Serialize) -> Result<String> {
    serde_json::to_string(value)
        .map_err(|e| AdapterError::Io { doing: "writing down a plan".into(), reason: e.to_string() })
}

pub(crate) async fn checkpoint(session: &Session, pipeline: &str) -> Result<Option<Checkpoint>> {
    let sql = "SELECT checkpoint FROM moorage_state.checkpoints WHERE pipeline = $1";
    let row = session.maybe("reading the checkpoint", sql, &[&pipeline]).await?;
    row.map(|r| from_json("the checkpoint", r.get(0))).transpose()
}

pub(crate) async fn save_checkpoint(session: &Session, checkpoint: &Checkpoint) -> Result<()> {
    let sql = "INSERT INTO moorage_state.checkpoints AS c (pipeline, position, committed_at, merged_at, checkpoint)
               VALUES ($1, $2, $3::text::timestamptz, $4::text::timestamptz, $5)
               ON CONFLICT (pipeline) DO UPDATE SET position = excluded.position, committed_at = excluded.committed_at,
                 merged_at = excluded.merged_at, checkpoint = excluded.checkpoint";
    let time = |at: Option<chrono::DateTime<chrono::Utc>>| at.map(|t| t.to_rfc3339());
    let (committed, merged) = (time(checkpoint.committed_at), time(checkpoint.merged_at));
    let json = to_json(checkpoint)?;
    let parameters: [&(dyn tokio_postgres::types::ToSql + Sync); 5] =
        [&checkpoint.pipeline, &checkpoint.position, &committed, &merged, &json];
    session.cached("saving the checkpoint", sql, &parameters).await.map(|_| ())
}

const STORED: &str = "
SELECT plan, CASE WHEN state = 'waiting' AND EXISTS (SELECT FROM moorage_state.chunks c WHERE c.target = t.target) THEN 'reading' ELSE state END, mark, mark_position, snapshot_rows, inserts, updates, deletes, truncates, merged, reduced, filtered,
       rejected, dropped, updates_of_missing, inserts_of_present, deletes_of_missing,
       to_char(last_change_at AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US+00:00'), to_jsonb(t) ->> 'captured_by'
FROM moorage_state.tables t WHERE pipeline = $1 ORDER BY source_table";

pub(crate) async fn tables(session: &Session, pipeline: &str) -> Result<Vec<StoredTable>> {
    let rows = session.rows("reading table states", STORED, &[&pipeline]).await?;
    rows.iter().map(stored).collect()
}

fn stored(row: &Row) -> Result<StoredTable> {
    let count = |at: usize| row.get::<_, i64>(at).max(0) as u64;
    let (mark, position): (Option<String>, Option<String>) = (row.get(2), row.get(3));
    Ok(StoredTable {
        plan: from_json("a table's plan", row.get(0))?,
        state: TableState::from_word(row.get(1)),
        mark: mark.zip(position),
        snapshot_rows: count(4),
        counters: TableCounters {
            read: Operations { inserts: count(5), updates: count(6), deletes: count(7), truncates: count(8) },
            merged: count(9),
            reduced: count(10),
            filtered: count(11),
            rejected: count(12),
            dropped: count(13),
            adjusted: Adjusted {
                updates_of_missing: count(14),
                inserts_of_present: count(15),
                deletes_of_missing: count(16),
            },
        },
        last_change_at: row.get(17),
        // Not a column of what an earlier version made.
        captured_by: row.get(18),
    })
}

/// What merging needs to know of a table.
#[derive(Clone, Debug)]
pub(crate) struct Standing {
    pub(crate) target: String,
    pub(crate) live: bool,
    pub(crate) keeps_rows: bool,
}

pub(crate) async fn standings(session: &Session, pipeline: &str, targets: &[&str]) -> Result<Vec<Standing>> {
    let sql =
        "SELECT target, state, keeps_rows FROM moorage_state.tables WHERE pipeline = $1 AND target = ANY($2)";
    let rows = session.cached("reading table states", sql, &[&pipeline, &targets]).await?;
    let standing = |r: &Row| Standing {
        target: r.get(0),
        live: TableState::from_word(r.get(1)) == TableState::Live,
        keeps_rows: r.get(2),
    };
    Ok(rows.iter().map(standing).collect())
}

/// What a batch finds when it begins.
pub(crate) struct Turn {
    /// How many changes are set aside.
    pub(crate) rejects: u64,
    pub(crate) checkpoint: Checkpoint,
    /// Whose turn it is.
    pub(crate) token: String,
}

/// Keeps decisions about rejects and other writers of this pipeline out until the transaction ends; none if there is
/// no checkpoint, or nobody's turn.
pub(crate) async fn lock(session: &Session, pipeline: &str) -> Result<Option<Turn>> {
    let sql = "SELECT c.rejects, c.checkpoint, w.turn FROM moorage_state.checkpoints c
               JOIN moorage_state.writers w ON w.pipeline = c.pipeline WHERE c.pipeline = $1
               FOR NO KEY UPDATE OF c FOR SHARE OF w";
    let rows = session.cached("beginning a batch", sql, &[&pipeline]).await?;
    let turn = |r: &Row| {
        let checkpoint = from_json("the checkpoint", r.get(1))?;
        Ok(Turn { rejects: r.get::<_, i64>(0).max(0) as u64, checkpoint, token: r.get(2) })
    };
    rows.first().map(turn).transpose()
}

/// Keeps batches of this pipeline out until the transaction ends.
pub(crate) async fn lock_out_batches(session: &Session, pipeline: &str) -> Result<()> {
    let sql = "SELECT 1 FROM moorage_state.checkpoints WHERE pipeline = $1 FOR NO KEY UPDATE";
    session.cached("waiting for the batch that is being merged", sql, &[&pipeline]).await.map(|_| ())
}

/// Whose target tables there are.
#[derive(Debug, Default)]
pub(crate) struct Owners {
    /// By what tables are known: the pipeline, and whether the table was there before it.
    units: HashMap<String, (String, bool)>,
    /// By target tables in which several stand together: those, with their pipelines.
    gathered: HashMap<String, Vec<(String, String)>>,
}

impl Owners {
    /// The pipeline of a table, by what it is known, and whether the target table was there before it.
    pub(crate) fn get(&self, unit: &str) -> Option<&(String, bool)> {
        self.units.get(unit)
    }

    /// The pipeline of a target table; the first one's where tables of several stand in it.
    pub(crate) fn of_table(&self, table: &str) -> Option<&String> {
        let gathered = || self.gathered.get(table).and_then(|all| all.first());
        self.units
            .get(table)
            .map(|(pipeline, _)| pipeline)
            .or_else(|| gathered().map(|(_, pipeline)| pipeline))
    }

    /// The tables that stand together in a target table.
    pub(crate) fn standing_in(&self, table: &str) -> impl Iterator<Item = &String> {
        self.gathered.get(table).into_iter().flatten().map(|(unit, _)| unit)
    }
}

pub(crate) async fn owners(session: &Session) -> Result<Owners> {
    let mut owners = Owners::default();
    if !exists(session).await? {
        return Ok(owners);
    }
    let sql = "SELECT target, pipeline, adopted, plan::json #>> '{gathered,into}' FROM moorage_state.tables ORDER BY target";
    for row in session.rows("reading whose tables there are", sql, &[]).await? {
        let (unit, pipeline, adopted): (String, String, bool) = (row.get(0), row.get(1), row.get(2));
        if let Some(into) = row.get::<_, Option<String>>(3) {
            owners.gathered.entry(into).or_default().push((unit.clone(), pipeline.clone()));
        }
        owners.units.insert(unit, (pipeline, adopted));
    }
    Ok(owners)
}

/// Keeps other pipelines from making, filling and removing a table in which several stand, until the transaction ends.
pub(crate) async fn lock_gathered(session: &Session, plan: &TablePlan) -> Result<()> {
    let Some(gathered) = &plan.gathered else { return Ok(()) };
    let sql = "SELECT pg_advisory_xact_lock(hashtextextended('moorage_gathered ' || $1, 0))";
    session.execute("waiting for others that make the table", sql, &[&gathered.into]).await.map(|_| ())
}

/// The other tables that stand together with one in its target table, as they are carried, with their states.
pub(crate) async fn beside_in_table(
    session: &Session,
    plan: &TablePlan,
) -> Result<Vec<(TablePlan, TableState)>> {
    let Some(gathered) = &plan.gathered else { return Ok(Vec::new()) };
    let sql = "SELECT plan, state FROM moorage_state.tables
               WHERE plan::json #>> '{gathered,into}' = $1 AND target <> $2 ORDER BY target";
    let rows = session.cached("looking for tables beside it", sql, &[&gathered.into, &plan.target]).await?;
    rows.iter()
        .map(|r| Ok((from_json("a table's plan", r.get(0))?, TableState::from_word(r.get(1)))))
        .collect()
}

pub(crate) async fn remember_loading(
    session: &Session,
    pipeline: &str,
    plan: &TablePlan,
    adopted: bool,
    keeps_rows: bool,
) -> Result<()> {
    forget_rejects(session, pipeline, &plan.target).await?;
    let doing = "remembering a table";
    session.execute(doing, "DELETE FROM moorage_state.chunks WHERE target = $1", &[&plan.target]).await?;
    session.execute(doing, "DELETE FROM moorage_state.tables WHERE target = $1", &[&plan.target]).await?;
    let sql =
        "INSERT INTO moorage_state.tables (target, pipeline, source_table, state, adopted, keeps_rows, plan)
               VALUES ($1, $2, $3, $4, $5, $6, $7)";
    let (table, word, json) = (plan.table().to_string(), TableState::Waiting.word(), to_json(plan)?);
    let parameters: [&(dyn tokio_postgres::types::ToSql + Sync); 7] =
        [&plan.target, &pipeline, &table, &word, &adopted, &keeps_rows, &json];
    session.execute(doing, sql, &parameters).await?;
    Ok(())
}

/// Notes a chunk of a snapshot, in the transaction that loads it.
pub(crate) async fn note_chunk(session: &Session, target: &str, rows: u64) -> Result<()> {
    let sql = "INSERT INTO moorage_state.chunks (target, rows) VALUES ($1, $2)";
    session.cached("noting a chunk", sql, &[&target, &(rows as i64)]).await?;
    Ok(())
}

/// Notes a table's state at the end of its load; its counters begin anew.
pub(crate) async fn remember_loaded(session: &Session, target: &str, end: &LoadedTable) -> Result<()> {
    let mark = end.mark.as_ref().map(|m| m.text.as_str());
    let position = end.mark.as_ref().map(|m| m.complete_at.as_str());
    let sql = "WITH loaded AS (DELETE FROM moorage_state.chunks WHERE target = $1 RETURNING rows)
               UPDATE moorage_state.tables SET state = $2, mark = $3, mark_position = $4, captured_by = $5,
                 snapshot_rows = (SELECT coalesce(sum(rows), 0)::bigint FROM loaded), inserts = 0, updates = 0, deletes = 0,
                 truncates = 0, merged = 0, reduced = 0, filtered = 0, rejected = 0, dropped = 0,
                 updates_of_missing = 0, inserts_of_present = 0, deletes_of_missing = 0
               WHERE target = $1";
    session
        .execute(
            "remembering a table",
            sql,
            &[&target, &end.state.word(), &mark, &position, &end.captured_by],
        )
        .await?;
    Ok(())
}

pub(crate) async fn remember_captured_by(
    session: &Session,
    pipeline: &str,
    tables: &[(String, String)],
) -> Result<()> {
    let sql = "UPDATE moorage_state.tables SET captured_by = $3 WHERE pipeline = $1 AND target = $2";
    for (target, by) in tables {
        session.execute("remembering what captures a table", sql, &[&pipeline, target, by]).await?;
    }
    Ok(())
}

/// Adds to a table's counters; `rejected` may go down.
pub(crate) async fn count(
    session: &Session,
    target: &str,
    more: &TableCounters,
    rejected: i64,
) -> Result<()> {
    let sql = "UPDATE moorage_state.tables SET inserts = inserts + $2, updates = updates + $3, deletes = deletes + $4,
                 truncates = truncates + $5, merged = merged + $6, reduced = reduced + $7, filtered = filtered + $8,
                 rejected = rejected + $9, dropped = dropped + $10, updates_of_missing = updates_of_missing + $11,
                 inserts_of_present = inserts_of_present + $12, deletes_of_missing = deletes_of_missing + $13,
                 last_change_at = now()
               WHERE target = $1";
    let values = [
        more.read.inserts,
        more.read.updates,
        more.read.deletes,
        more.read.truncates,
        more.merged,
        more.reduced,
        more.filtered,
    ]
    .map(|v| v as i64);
    let adjusted = [
        more.adjusted.updates_of_missing,
        more.adjusted.inserts_of_present,
        more.adjusted.deletes_of_missing,
    ]
    .map(|v| v as i64);
    let dropped = more.dropped as i64;
    let mut parameters: Vec<&(dyn tokio_postgres::types::ToSql + Sync)> = vec![&target];
    parameters.extend(values.iter().map(|v| v as &(dyn tokio_postgres::types::ToSql + Sync)));
    parameters.extend([&rejected as &(dyn tokio_postgres::types::ToSql + Sync), &dropped]);
    parameters.extend(adjusted.iter().map(|v| v as &(dyn tokio_postgres::types::ToSql + Sync)));
    session.cached("counting changes", sql, &parameters).await?;
    Ok(())
}

/// Forgets a table's rejects: its rows are read again, with all that they held.
pub(crate) async fn forget_rejects(session: &Session, pipeline: &str, target: &str) -> Result<u64> {
    let sql = "DELETE FROM moorage_state.rejects WHERE pipeline = $1 AND target = $2";
    let gone = session.execute("forgetting rejects", sql, &[&pipeline, &target]).await?;
    if gone > 0 {
        count_rejects(session, pipeline).await?;
    }
    Ok(gone)
}

/// Notes how many changes of a pipeline are set aside.
pub(crate) async fn count_rejects(session: &Session, pipeline: &str) -> Result<()> {
    let sql = "UPDATE moorage_state.checkpoints SET rejects = (SELECT count(*) FROM moorage_state.rejects WHERE pipeline = $1)
               WHERE pipeline = $1";
    session.execute("counting rejects", sql, &[&pipeline]).await?;
    Ok(())
}

/// Notes a state in which a table's mark means nothing any more.
pub(crate) async fn set_state(
    session: &Session,
    pipeline: &str,
    targets: &[String],
    state: TableState,
) -> Result<()> {
    let sql = "UPDATE moorage_state.tables SET state = $3, mark = NULL, mark_position = NULL
               WHERE target = ANY($1) AND pipeline = $2";
    session.execute("noting how far tables are", sql, &[&targets, &pipeline, &state.word()]).await.map(|_| ())
}

/// Forgets tables altogether.
pub(crate) async fn remove_tables(session: &Session, pipeline: &str, targets: &[String]) -> Result<()> {
    for target in targets {
        forget_rejects(session, pipeline, target).await?;
    }
    for table in ["chunks", "tables"] {
        let sql = format!("DELETE FROM moorage_state.{table} WHERE target = ANY($1)");
        session.execute("forgetting tables", &sql, &[&targets]).await?;
    }
    Ok(())
}

pub(crate) async fn forget(
    session: &Session,
    pipeline: &str,
    targets: &[String],
    with_checkpoint: bool,
) -> Result<()> {
    let doing = "forgetting tables";
    set_state(session, pipeline, targets, TableState::NeedsResnapshot).await?;
    if with_checkpoint {
        let sql = "DELETE FROM moorage_state.checkpoints WHERE pipeline = $1";
        session.execute(doing, sql, &[&pipeline]).await?;
    }
    Ok(())
}

/// Forgets a pipeline; the last one takes the schema with it.
pub(crate) async fn remove_pipeline(session: &Session, pipeline: &str) -> Result<()> {
    let doing = "forgetting a pipeline";
    for table in ["rejects", "tables", "checkpoints", "writers", "memos"] {
        let sql = format!("DELETE FROM moorage_state.{table} WHERE pipeline = $1");
        session.execute(doing, &sql, &[&pipeline]).await?;
    }
    let sql = "SELECT NOT EXISTS (SELECT 1 FROM moorage_state.tables) AND NOT EXISTS (SELECT 1 FROM moorage_state.checkpoints)
                 AND pg_has_role(n.nspowner, 'USAGE') FROM pg_namespace n WHERE n.nspname = 'moorage_state'";
    if session.maybe(doing, sql, &[]).await?.is_some_and(|r| r.get(0)) {
        session.run(doing, "DROP SCHEMA moorage_state CASCADE").await?;
    }
    Ok(())
}

/// Keeps another plan of a table, and how it goes on. One that was held and is merged again is live.
pub(crate) async fn keep_plan(session: &Session, pipeline: &str, plan: &TablePlan, then: Then) -> Result<()> {
    let sql = "UPDATE moorage_state.tables
               SET plan = $3, source_table = $4, state = coalesce($5, CASE state WHEN 'held' THEN 'live' ELSE state END)
               WHERE pipeline = $1 AND target = $2";
    let (json, table) = (to_json(plan)?, plan.table().to_string());
    let state = TableState::behind(then).map(TableState::word);
    session
        .execute("keeping a plan", sql, &[&pipeline, &plan.target, &json, &table, &state])
        .await
        .map(|_| ())
}
